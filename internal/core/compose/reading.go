package compose

import (
	"cmp"
	"unsafe"

	"crust/internal/core/cells"
	"crust/internal/core/field"
	"crust/internal/core/geom"
	"crust/internal/core/surface"
)

// reading is how averages that stand at the points of a cloud are read at the places of a tile: from which points, and how
// much each counts. It depends on places alone, so that it serves whatever is averaged, over any radius of the cloud's.
type reading struct {
	points []int32  // of the cloud, all that the tile is read from
	nodes  []node   // places that are read from points
	of     []uint16 // the points of all nodes, one node after the other, as places in points from the node's base on
	weight []uint8
	cells  []cell // what lies between nodes
}

// node is a place of the tile with n points, none where no points are near; weights times scale add up to 1.
type node struct {
	place, n uint16
	scale    float32
	base     uint32
}

// cell is a rectangle of the tile's square between four nodes, on one piece of the surface; averages hardly bend there.
type cell struct{ x0, y0, x1, y1 uint8 }

func (r *reading) bytes() int {
	return 4*len(r.points) + int(unsafe.Sizeof(node{}))*len(r.nodes) + 3*len(r.of) + 4*len(r.cells)
}

// reading finds the reading of a tile, or makes it.
func (c *cloud) reading(k *scratch, g *ground, t int) *reading {
	at := cacheKey{g.id, int32(t), mix(keptReading, c.id)}
	if r, ok := g.body.cache.get(at).(*reading); ok {
		return r
	}
	g.widen(k, t, field.NeedPlace|field.NeedNormal)
	l := &k.near
	l.begin(c, g, &k.block)
	n, step := g.tiles[t].Len(), c.stride(g)
	if g.spans == nil || step < 2 {
		for i := range n {
			l.node(i)
		}
	} else {
		g.standing(&l.texel, t)
		const side = surface.TileSize
		for y := 0; y < side-1; y += step {
			for x := 0; x < side-1; x += step {
				l.cell(x, y, min(x+step, side-1), min(y+step, side-1))
			}
		}
		// Places in no cell: next to the tile's rim.
		for i := range n {
			if !l.covered[i] {
				l.node(i)
			}
		}
	}
	r := l.made.clone()
	g.body.cache.put(at, r, r.bytes())
	return r
}

// stride is over how many texels averages hardly bend: a fifth of the least radius that the cloud is for.
func (c *cloud) stride(g *ground) int {
	n := 1
	for 2*n <= surface.TileSize/4 && float32(2*n)*g.pitch <= 0.2*perRadius*c.spacing {
		n *= 2
	}
	return n
}

// standings finds the places of a tile by where they stand in its square, row · TileSize + column; −1 for none.
type standings [surface.TileSize * surface.TileSize]int16

// standing fills the standings of a tile.
func (g *ground) standing(to *standings, t int) {
	for i := range to {
		to[i] = -1
	}
	i := int16(0)
	for _, s := range g.spans[t] {
		row := to[s.at:][:s.n]
		for j := range row {
			row[j] = i
			i++
		}
	}
}

// apply reads values, which stand at the cloud's points, at the places of a tile; NaN where no points are near.
func (r *reading) apply(k *scratch, g *ground, t int, values, out []float32) {
	if cap(k.local) < len(r.points) {
		k.local = make([]float32, 2*len(r.points))
	}
	local := k.local[:len(r.points)]
	for i, p := range r.points {
		local[i] = values[p]
	}
	if len(r.cells) > 0 {
		fill(out, nan)
	}
	of, weight := r.of, r.weight
	for _, n := range r.nodes {
		if n.n == 0 {
			out[n.place] = nan
			continue
		}
		sum := float32(0)
		w := weight[:n.n]
		from := local[n.base:]
		for i, p := range of[:n.n] {
			sum += float32(w[i]) * from[p]
		}
		out[n.place] = sum * n.scale
		of, weight = of[n.n:], weight[n.n:]
	}
	if len(r.cells) == 0 {
		return
	}
	g.standing(&k.near.texel, t)
	for _, c := range r.cells {
		c.fill(&k.near.texel, out)
	}
}

// fill reads the places between a cell's corners in straight lines; those that are read from points stay.
func (c cell) fill(texel *standings, out []float32) {
	x0, y0, x1, y1 := int(c.x0), int(c.y0), int(c.x1), int(c.y1)
	top, bottom := texel[y0*surface.TileSize:], texel[y1*surface.TileSize:]
	a, b, d, e := out[top[x0]], out[top[x1]], out[bottom[x0]], out[bottom[x1]]
	across, down := 1/float32(x1-x0), 1/float32(y1-y0)
	for y := y0; y <= y1; y++ {
		fy := float32(y-y0) * down
		from := a + (d-a)*fy
		step := (b + (e-b)*fy - from) * across
		for x, i := range texel[y*surface.TileSize+x0 : y*surface.TileSize+x1+1] {
			if i >= 0 && out[i] != out[i] {
				out[i] = from + step*float32(x)
			}
		}
	}
}

// lattice makes readings; it keeps what lies round the last places.
type lattice struct {
	cloud   *cloud
	b       *field.Block
	pitch   float32
	patches [1 << patchBits]patch // by a hash of the cell
	texel   standings
	has     [tileTexels]int16 // by place: its node, −1 for none
	covered [tileTexels]bool  // by place: a node, or between nodes
	weights []float32
	made    reading
	local   []uint32 // by point of the cloud: the turn in the upper half, its place in made.points from base on in the lower
	turn    uint32
	base    uint32
	most    int // see mostPlaces
}

const patchBits = 7

// begin turns to a tile.
func (l *lattice) begin(c *cloud, g *ground, b *field.Block) {
	if l.cloud != c {
		l.cloud, l.turn = c, 0
		for i := range l.patches {
			l.patches[i].cell, l.patches[i].near = [3]int32{}, cells.Near{}
		}
		if cap(l.local) < c.n {
			l.local = make([]uint32, c.n)
		}
		l.local = l.local[:c.n]
		clear(l.local)
	}
	l.base, l.most = 0, cmp.Or(l.most, mostPlaces)
	l.forget()
	l.b, l.pitch = b, g.pitch
	for i := range l.has {
		l.has[i] = -1
	}
	clear(l.covered[:])
	m := &l.made
	m.points, m.nodes, m.of, m.weight, m.cells = m.points[:0], m.nodes[:0], m.of[:0], m.weight[:0], m.cells[:0]
}

// forget has points take new places.
func (l *lattice) forget() {
	if l.turn++; l.turn == 1<<16 {
		l.turn = 1
		clear(l.local)
	}
}

// mostPlaces is from how many points on, which 16 bits tell apart, others count from a new base: places that lie scattered far
// apart share none.
const mostPlaces = 1<<16 - 1<<12

func (r *reading) clone() *reading {
	return &reading{append([]int32(nil), r.points...), append([]node(nil), r.nodes...), append([]uint16(nil), r.of...), append([]uint8(nil), r.weight...), append([]cell(nil), r.cells...)}
}

// node has a place read from points; false when there are none near it.
func (l *lattice) node(i int) bool {
	m := &l.made
	if l.has[i] >= 0 {
		return m.nodes[l.has[i]].n > 0
	}
	c, b := l.cloud, l.b
	p := geom.Vec3{X: b.X[i], Y: b.Y[i], Z: b.Z[i]}
	at := c.cell(p, 2)
	q := &l.patches[(uint32(at[0])*0x9e3779b1+uint32(at[1])*0x85ebca6b+uint32(at[2])*0xc2b2ae35)>>(32-patchBits)]
	q.move(c, c.fine, at, nil)
	if len(q.at.x) > len(l.weights) {
		l.weights = make([]float32, 2*len(q.at.x))
	}
	weights := l.weights[:len(q.at.x)]
	w := weighing{radius: reach * c.spacing, sheet: perRadius * c.spacing}
	w.weigh(p, geom.Vec3{X: b.NX[i], Y: b.NY[i], Z: b.NZ[i]}, &q.at, weights)
	most := float32(0)
	for _, v := range weights {
		if v > most {
			most = v
		}
	}
	if len(m.points)-int(l.base) > l.most {
		l.base = uint32(len(m.points))
		l.forget()
	}
	n := node{place: uint16(i), base: l.base}
	if most > 0 {
		least, scale, sum := most*(0.5/255), 255/most, int32(0)
		// What stands behind the last point, to the end of a vector, has no area.
		for _, r := range q.near.Ranges() {
			for k, w := range weights[:r[1]-r[0]] {
				if w > least {
					v := int32(w*scale + 0.5)
					m.of, m.weight = append(m.of, l.place(r[0]+int32(k))), append(m.weight, uint8(v))
					sum += v
					n.n++
				}
			}
			weights = weights[r[1]-r[0]:]
		}
		n.scale = 1 / float32(sum)
	}
	l.has[i], l.covered[i] = int16(len(m.nodes)), true
	m.nodes = append(m.nodes, n)
	return n.n > 0
}

// place is that of a point in made.points.
func (l *lattice) place(point int32) uint16 {
	at := &l.local[point]
	if *at>>16 != l.turn {
		*at = l.turn<<16 | (uint32(len(l.made.points)) - l.base)
		l.made.points = append(l.made.points, point)
	}
	return uint16(*at)
}

// cell covers the places between four corners: in straight lines where these lie on one piece of the surface, in smaller
// cells where they do not.
func (l *lattice) cell(x0, y0, x1, y1 int) {
	if x0 == x1 || y0 == y1 || !l.covers(x0, y0, x1, y1) {
		return
	}
	var at [4]int
	whole := true
	for c, p := range [4][2]int{{x0, y0}, {x1, y0}, {x0, y1}, {x1, y1}} {
		at[c] = int(l.texel[p[1]*surface.TileSize+p[0]])
		whole = at[c] >= 0 && l.node(at[c]) && whole
	}
	if x1-x0 <= 1 && y1-y0 <= 1 {
		return
	}
	// Corners that lie much further apart than in the texture are not on one piece.
	far := 2 * l.pitch * float32(max(x1-x0, y1-y0))
	if !whole || apart(l.b, at[0], at[3]) > 2*far*far || apart(l.b, at[1], at[2]) > 2*far*far {
		x, y := (x0+x1+1)/2, (y0+y1+1)/2
		l.cell(x0, y0, x, y)
		l.cell(x, y0, x1, y)
		l.cell(x0, y, x, y1)
		l.cell(x, y, x1, y1)
		return
	}
	l.made.cells = append(l.made.cells, cell{uint8(x0), uint8(y0), uint8(x1), uint8(y1)})
	for y := y0; y <= y1; y++ {
		fy := float32(y-y0) / float32(y1-y0)
		for x := x0; x <= x1; x++ {
			i := int(l.texel[y*surface.TileSize+x])
			if i < 0 || l.covered[i] {
				continue
			}
			if between(l.b, at, float32(x-x0)/float32(x1-x0), fy, i) < far*far/16 {
				l.covered[i] = true
			} else {
				l.node(i)
			}
		}
	}
}

// covers tells whether any texel of a cell is covered.
func (l *lattice) covers(x0, y0, x1, y1 int) bool {
	for y := y0; y <= y1; y++ {
		for _, i := range l.texel[y*surface.TileSize+x0 : y*surface.TileSize+x1+1] {
			if i >= 0 {
				return true
			}
		}
	}
	return false
}

// apart is the square of the distance between two places of a block.
func apart(b *field.Block, i, j int) float32 {
	dx, dy, dz := b.X[i]-b.X[j], b.Y[i]-b.Y[j], b.Z[i]-b.Z[j]
	return dx*dx + dy*dy + dz*dz
}

// between is the square of the distance from a place of a block to where it would be if the surface were straight between
// four others.
func between(b *field.Block, at [4]int, fx, fy float32, i int) (d float32) {
	for _, v := range [3][]float32{b.X, b.Y, b.Z} {
		low, high := v[at[0]]+(v[at[1]]-v[at[0]])*fx, v[at[2]]+(v[at[3]]-v[at[2]])*fx
		off := v[i] - low - (high-low)*fy
		d += off * off
	}
	return d
}

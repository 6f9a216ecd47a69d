package compose

import (
	"slices"
	"unsafe"

	"crust/internal/core/field"
	"crust/internal/core/geom"
	"crust/internal/core/surface"
)

// reading is how averages that stand at the points of a cloud are read at the places of a tile: from which points, and how
// much each counts. It depends on places alone, so that it serves whatever is averaged, over any radius of the cloud's.
type reading struct {
	nodes   []node  // places that are read from points
	bunches []int32 // of points that nodes read, one node after the other
	weight  []uint8 // and how much each point counts
	cells   []cell  // what lies between nodes
	runs    []int32 // of filterRun points each: those that are read
}

// node is a place of the tile that reads n bunches, none where no points are near; their weights times scale add up to 1.
type node struct {
	place, n uint16
	scale    float32
}

// cell is a rectangle of the tile's square between four nodes, on one piece of the surface; averages hardly bend there.
type cell struct{ x0, y0, x1, y1 uint8 }

func (r *reading) bytes() int {
	return int(unsafe.Sizeof(node{}))*len(r.nodes) + 4*len(r.bunches) + len(r.weight) + 4*len(r.cells) + 4*len(r.runs)
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
	slices.Sort(l.made.runs)
	l.made.runs = slices.Compact(l.made.runs)
	r := l.made.clone()
	g.body.cache.put(at, r, r.bytes())
	return r
}

// stride is over how many texels averages hardly bend: three tenths of the least radius that the cloud is for.
func (c *cloud) stride(g *ground) int {
	return max(1, min(surface.TileSize/4, int(0.3*perRadius*c.spacing/g.pitch)))
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
	if len(r.cells) > 0 {
		fill(out, nan)
	}
	weight, which := r.weight, r.bunches
	for _, n := range r.nodes {
		if n.n == 0 {
			out[n.place] = nan
			continue
		}
		out[n.place] = weighed(weight[:lanes*int(n.n)], which[:n.n], values) * n.scale
		weight, which = weight[lanes*int(n.n):], which[n.n:]
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
	rounds  [1 << roundBits]round // by a hash of the cell
	texel   standings
	has     [tileTexels]int16 // by place: its node, −1 for none
	covered [tileTexels]bool  // by place: a node, or between nodes
	made    reading
	turn    int // counts the tiles
}

const roundBits = 7

// begin turns to a tile.
func (l *lattice) begin(c *cloud, g *ground, b *field.Block) {
	if l.cloud != c {
		l.cloud = c
		for i := range l.rounds {
			l.rounds[i].begin()
		}
	}
	l.turn++
	l.b, l.pitch = b, g.pitch
	for i := range l.has {
		l.has[i] = -1
	}
	clear(l.covered[:])
	m := &l.made
	m.nodes, m.bunches, m.weight, m.cells, m.runs = m.nodes[:0], m.bunches[:0], m.weight[:0], m.cells[:0], m.runs[:0]
}

func (r *reading) clone() *reading {
	return &reading{append([]node(nil), r.nodes...), append([]int32(nil), r.bunches...), append(make([]uint8, 0, len(r.weight)+2*lanes), r.weight...), append([]cell(nil), r.cells...), slices.Clone(r.runs)}
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
	q := &l.rounds[(uint32(at[0])*0x9e3779b1+uint32(at[1])*0x85ebca6b+uint32(at[2])*0xc2b2ae35)>>(32-roundBits)]
	if q.move(c, c.fine, at) || q.turn != l.turn {
		// It has come anew, or was not read from on this tile yet.
		q.turn = l.turn
		for _, b := range q.bunches {
			if run := b * lanes / filterRun; !slices.Contains(m.runs[max(0, len(m.runs)-8):], run) {
				m.runs = append(m.runs, run)
			}
		}
	}
	weights := q.room(len(q.bunches))
	w := weighing{radius: reach * c.spacing, sheet: perRadius * c.spacing}
	most := w.weigh(p, geom.Vec3{X: b.NX[i], Y: b.NY[i], Z: b.NZ[i]}, c.at, q.bunches, weights)
	n := node{place: uint16(i)}
	if most > 0 {
		had, sum := len(m.bunches), float32(0)
		m.weight, m.bunches, sum = inBytes(m.weight, m.bunches, weights, q.bunches, 255/most)
		n.n, n.scale = uint16(len(m.bunches)-had), 1/sum
	}
	l.has[i], l.covered[i] = int16(len(m.nodes)), true
	m.nodes = append(m.nodes, n)
	return n.n > 0
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
	across, down := 1/float32(x1-x0), 1/float32(y1-y0)
	for y := y0; y <= y1; y++ {
		row := straight(l.b, &at, float32(y-y0)*down)
		for x, i := range l.texel[y*surface.TileSize+x0 : y*surface.TileSize+x1+1] {
			if i < 0 || l.covered[i] {
				continue
			}
			if row.off(l.b, float32(x)*across, int(i)) < far*far/16 {
				l.covered[i] = true
			} else {
				l.node(int(i))
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

// chord leads from one place to another.
type chord struct{ from, way [3]float32 }

// straight is the line on which places of a row would lie if the surface were straight between four of a block.
func straight(b *field.Block, at *[4]int, fy float32) (l chord) {
	for k, v := range [3][]float32{b.X, b.Y, b.Z} {
		l.from[k] = v[at[0]] + (v[at[2]]-v[at[0]])*fy
		l.way[k] = v[at[1]] + (v[at[3]]-v[at[1]])*fy - l.from[k]
	}
	return l
}

// off is the square of the distance from a place of a block to where it would be on the line.
func (l *chord) off(b *field.Block, fx float32, i int) float32 {
	dx, dy, dz := b.X[i]-l.from[0]-l.way[0]*fx, b.Y[i]-l.from[1]-l.way[1]*fx, b.Z[i]-l.from[2]-l.way[2]*fx
	return dx*dx + dy*dy + dz*dz
}

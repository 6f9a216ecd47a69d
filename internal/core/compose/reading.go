package compose

import (
	"slices"
	"unsafe"

	"crust/internal/core/field"
	"crust/internal/core/geom"
	"crust/internal/core/surface"
)

// reading is where on a tile averages are made: at nodes, between which they hardly bend. It depends on places alone, so that it serves
// whatever is averaged.
type reading struct {
	nodes []uint16 // places
	cells []cell   // what lies between nodes
	until []uint16 // by node, where places lie in no square: up to before which its average counts
	point int32    // where nodes are points of a cloud: the first of them; else −1
}

// cell is a rectangle of the tile's square between four nodes, on one piece of the surface.
type cell struct{ x0, y0, x1, y1 uint8 }

func (r *reading) bytes() int {
	return 2*len(r.nodes) + int(unsafe.Sizeof(cell{}))*len(r.cells) + 2*len(r.until)
}

// stride is over how many texels of a ground averages hardly bend.
func (a *around) stride(g *ground) int {
	return max(1, min(surface.TileSize/4, int(nodesApart*a.radius/g.pitch)))
}

// nodesApart is how far nodes lie apart, in radii; at 0.4 facets are seen in the slopes of what is softened.
const nodesApart = 0.3

// reading finds the reading of a tile, whose nodes lie so many texels apart, or makes it.
func (g *ground) reading(k *scratch, t, stride int) *reading {
	at := cacheKey{g.id, int32(t), mix(keptReading, uint64(stride))}
	if r, ok := g.body.cache.get(at).(*reading); ok {
		return r
	}
	var r *reading
	if g.spans == nil {
		r = g.scattered(t, stride)
	} else {
		g.widen(k, t, field.NeedPlace)
		r = k.near.reading(g, &k.block, t, stride)
	}
	g.body.cache.put(at, r, r.bytes())
	return r
}

// scattered is the reading of places that lie in no square. Of the samples of a point one average, round the point itself, serves all
// where averages hardly bend between them.
func (g *ground) scattered(t, stride int) *reading {
	r := &reading{point: -1}
	tile := &g.tiles[t]
	put := func(from, to int32) {
		r.nodes, r.until = append(r.nodes, uint16(from-tile.From)), append(r.until, uint16(to-tile.From))
	}
	if g.cloud == nil || stride < 2 {
		for i := tile.From; i < tile.To; i++ {
			put(i, i+1)
		}
		return r
	}
	first := g.cloud.first
	next, _ := slices.BinarySearch(first, tile.From+1)
	r.point = int32(next - 1)
	for from := tile.From; from < tile.To; next++ {
		to := min(tile.To, first[next])
		put(from, to)
		from = to
	}
	return r
}

// averages are those round the nodes of a tile's reading; NaN where no points are near.
func (a *around) averages(k *scratch, g *ground, t int, r *reading) []float32 {
	out, w := make([]float32, len(r.nodes)), a.weighing()
	a.eachNode(k, g, t, r, func(n int, p, normal geom.Vec3, bunches []int32) {
		if area, sum := w.mean(p, normal, a.cloud.at, bunches, a.values); area > 0 {
			out[n] = sum / area
		} else {
			out[n] = nan
		}
	})
	return out
}

// runs are the runs of points that averages on a tile are made from, in their order.
func (a *around) runs(k *scratch, g *ground, t int) []int32 {
	at := cacheKey{g.id, int32(t), mix(mix(keptNearby, a.cloud.id), bits(a.radius))}
	if v, ok := g.body.cache.get(at).([]int32); ok {
		return v
	}
	in := map[int32]bool{}
	a.eachNode(k, g, t, g.reading(k, t, a.stride(g)), func(_ int, _, _ geom.Vec3, bunches []int32) {
		for _, b := range bunches {
			in[b*lanes/pointRun] = true
		}
	})
	out := make([]int32, 0, len(in))
	for run := range in {
		out = append(out, run)
	}
	slices.Sort(out)
	g.body.cache.put(at, out, 4*len(out))
	return out
}

// weighing is how points count for averages.
func (a *around) weighing() weighing {
	r := max(a.radius, leastReach*a.cloud.spacing)
	return weighing{radius: r, sheet: r}
}

// eachNode calls f for each node of a tile with where it lies, how it faces, and the bunches of points that come within the radius.
func (a *around) eachNode(k *scratch, g *ground, t int, r *reading, f func(n int, p, normal geom.Vec3, bunches []int32)) {
	g.widen(k, t, field.NeedPlace|field.NeedNormal)
	b, l, c := &k.block, &k.near, a.cloud
	l.begin(c)
	w := a.weighing()
	for n, i := range r.nodes {
		p, normal := geom.Vec3{X: b.X[i], Y: b.Y[i], Z: b.Z[i]}, geom.Vec3{X: b.NX[i], Y: b.NY[i], Z: b.NZ[i]}
		if r.point >= 0 {
			p, normal = g.cloud.place(int(r.point) + n)
			p = g.body.fold(p)
		}
		q := l.round(c.cell(p))
		q.within(p, w.radius)
		f(n, p, normal, q.close)
	}
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

// spread writes what nodes have at all places of a tile; NaN where nodes have none.
func (r *reading) spread(k *scratch, g *ground, t int, values, out []float32) {
	if g.spans == nil {
		from := 0
		for n, to := range r.until {
			fill(out[from:to], values[n])
			from = int(to)
		}
		return
	}
	if len(r.cells) > 0 {
		fill(out, nan)
	}
	for n, i := range r.nodes {
		out[i] = values[n]
	}
	if len(r.cells) == 0 {
		return
	}
	g.standing(&k.near.texel, t)
	for _, c := range r.cells {
		c.fill(&k.near.texel, out)
	}
}

// fill reads the places between a cell's corners in straight lines; nodes between them stay.
func (c cell) fill(texel *standings, out []float32) {
	x0, y0, x1, y1 := int(c.x0), int(c.y0), int(c.x1), int(c.y1)
	top, bottom := texel[y0*surface.TileSize:], texel[y1*surface.TileSize:]
	corners := [4]float32{out[top[x0]], out[top[x1]], out[bottom[x0]], out[bottom[x1]]}
	complete(&corners)
	a, b, d, e := corners[0], corners[1], corners[2], corners[3]
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

// complete gives corners that have no average the mean of the others.
func complete(corners *[4]float32) {
	sum, n := float32(0), float32(0)
	for _, v := range corners {
		if v == v {
			sum, n = sum+v, n+1
		}
	}
	if n == 4 {
		return
	}
	for i, v := range corners {
		if v != v {
			corners[i] = sum / n // none of them has one where n is 0
		}
	}
}

// lattice makes readings, and keeps what lies round the last places.
type lattice struct {
	cloud   *cloud
	rounds  [1 << roundBits]round // by a hash of the cell
	b       *field.Block
	pitch   float32
	texel   standings
	node    [tileTexels]bool // by place
	covered [tileTexels]bool // by place: a node, or between nodes
	made    reading
}

const roundBits = 7

// begin turns to a cloud.
func (l *lattice) begin(c *cloud) {
	if l.cloud != c {
		l.cloud = c
		for i := range l.rounds {
			l.rounds[i].begin()
		}
	}
}

// round is what lies round a cell.
func (l *lattice) round(cell [3]int32) *round {
	q := &l.rounds[(uint32(cell[0])*0x9e3779b1+uint32(cell[1])*0x85ebca6b+uint32(cell[2])*0xc2b2ae35)>>(32-roundBits)]
	q.move(l.cloud, cell)
	return q
}

// reading makes that of a tile in a square.
func (l *lattice) reading(g *ground, b *field.Block, t, stride int) *reading {
	l.b, l.pitch = b, g.pitch
	clear(l.node[:])
	clear(l.covered[:])
	m := &l.made
	m.nodes, m.cells = m.nodes[:0], m.cells[:0]
	if stride >= 2 {
		g.standing(&l.texel, t)
		const side = surface.TileSize
		for y := 0; y < side-1; y += stride {
			for x := 0; x < side-1; x += stride {
				l.cell(x, y, min(x+stride, side-1), min(y+stride, side-1))
			}
		}
	}
	// Places in no cell: next to the tile's rim.
	for i := range g.tiles[t].Len() {
		if !l.covered[i] {
			l.put(i)
		}
	}
	return &reading{nodes: slices.Clone(m.nodes), cells: slices.Clone(m.cells), point: -1}
}

// put has a place be a node.
func (l *lattice) put(i int) {
	if !l.node[i] {
		l.node[i], l.covered[i] = true, true
		l.made.nodes = append(l.made.nodes, uint16(i))
	}
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
		if at[c] = int(l.texel[p[1]*surface.TileSize+p[0]]); at[c] >= 0 {
			l.put(at[c])
		} else {
			whole = false
		}
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
				l.put(int(i))
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

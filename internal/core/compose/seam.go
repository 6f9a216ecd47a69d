package compose

import (
	"context"

	"crust/internal/core/bake"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/par"
	"crust/internal/core/surface"
)

// The four ways from a texel to those beside it.
const (
	left = iota
	right
	up
	down
)

// ways are the steps in columns and rows.
var ways = [4][2]int{left: {-1, 0}, right: {1, 0}, up: {0, -1}, down: {0, 1}}

// seam is a step from a texel beyond the edge of its island: what lies there is a place of the rim.
type seam struct {
	texel uint16 // of the tile
	way   uint8
	open  bool // the surface ends there
}

// findSeams finds what lies one texel further on where a texel's neighbour is not covered, or belongs to another piece of
// the surface: the way is followed over the edges of triangles, which are unfolded on the way. So the slope of a height is
// the same on both sides of a seam.
func (c *Canvas) findSeams(ctx context.Context, maps map[string]*bake.Map, top, end int) error {
	b, s := c.body, c.Surf
	beyond := b.neighbours()
	tiles := make([]surface.Tile, len(c.tiles))
	rims := make([]rim, len(c.tiles))
	grid := newGrid(s, top, end)
	err := par.Blocks(ctx, len(tiles), 1, func(_, t, _ int) { c.rimOf(beyond, grid, t, &rims[t]) })
	if err != nil {
		return err
	}
	n := 0
	for t := range rims {
		tiles[t].From = int32(n)
		n += len(rims[t].spots)
		tiles[t].To = int32(n)
		c.seams = append(c.seams, rims[t].seams...)
	}
	c.rim = newGround(b, tiles)
	c.rim.pitch, c.rim.canvas = c.pitch, c
	c.rim.tri = make([]int32, n)
	in := &c.rim.in
	in.make(n, len(tiles))
	in.need(maps, n)
	feed := in.feed(maps)
	return par.Blocks(ctx, len(tiles), 1, func(_, t, _ int) {
		from := int(tiles[t].From)
		var place []geom.Vec3
		read := between{feed: feed}
		for k, at := range rims[t].spots {
			c.rim.tri[from+k] = at.tri % int32(b.own)
			place = append(place, b.fold(b.at(at)))
			putVector(&in.normal, from+k, b.normal(at))
			if b.setOf[at.tri] == b.setOf[c.tri[rims[t].from[k]]] {
				x, y := b.square(at)
				read.at(from+k, x, y)
			} else {
				c.goOn(from+k, rims[t].from[k], rims[t].back[k])
			}
		}
		read.flush()
		in.place(t, from, place, 2*surface.TileSize*c.pitch)
	})
}

// rim is what lies across the seams of a tile.
type rim struct {
	seams      []seam
	spots      []spot
	from, back []int32 // the texel that each is seen from, and the one behind that; the same where there is none
}

func (c *Canvas) rimOf(beyond []int32, grid *grid, t int, out *rim) {
	b, s := c.body, c.Surf
	for i := c.tiles[t].From; i < c.tiles[t].To; i++ {
		at := int(s.Texel[i])
		var pu, pv geom.Vec3
		known := false
		for way, w := range ways {
			j := grid.at(at%s.Size+w[0], at/s.Size+w[1])
			if j == leftOut || j >= 0 && b.joined(c.tri[i], c.tri[j]) {
				continue
			}
			if !known {
				pu, pv = along(b.model, c.tri[i])
				known = true
			}
			step := pu.Mul(float32(w[0]) / float32(s.Size)).Add(pv.Mul(float32(-w[1]) / float32(s.Size)))
			from := b.spotAt(c.tri[i], at%s.Size, at/s.Size, s.Size)
			if j >= 0 {
				next := int(s.Texel[j])
				if b.at(from).Dist(b.at(b.spotAt(c.tri[j], next%s.Size, next/s.Size, s.Size))) < 3*step.Len() {
					continue
				}
			}
			to, ok := b.walk(beyond, from, step)
			if !ok && j < 0 {
				continue // as it is without a neighbour
			}
			back := grid.at(at%s.Size-w[0], at/s.Size-w[1])
			if back < 0 {
				back = i
			}
			out.seams = append(out.seams, seam{uint16(i - c.tiles[t].From), uint8(way), !ok})
			out.spots, out.from, out.back = append(out.spots, to), append(out.from, i), append(out.back, back)
		}
	}
}

// joined tells whether two triangles are one or share a corner with its UV, so that the texture goes on from one to the other.
func (b *Body) joined(s, t int32) bool {
	if s == t {
		return true
	}
	for _, v := range b.model.Tris[s] {
		if o := b.model.Tris[t]; v == o[0] || v == o[1] || v == o[2] {
			return true
		}
	}
	return false
}

// goOn fills the maps of a place of the rim that lies on another set: they go on as they do towards the seam.
func (c *Canvas) goOn(i int, from, back int32) {
	to := c.rim.in.planes()
	for k, p := range c.in.planes() {
		if v := *p.v; v != nil {
			(*to[k].v)[i] = uint16(min(65535, max(0, 2*int(v[from])-int(v[back]))))
		}
	}
}

// grid finds texels by column and row.
type grid struct {
	size, top, rows int
	texel           []int32
}

// leftOut stands for texels beyond the rows that a band has.
const leftOut = -2

// newGrid is of the rows of tiles from from to before to.
func newGrid(s *surface.Surface, from, to int) *grid {
	g := &grid{size: s.Size, top: from * surface.TileSize}
	g.rows = min(s.Size, to*surface.TileSize) - g.top
	g.texel = make([]int32, g.size*g.rows)
	for i := range g.texel {
		g.texel[i] = -1
	}
	for i, at := range s.Texel {
		g.texel[int(at)-g.top*g.size] = int32(i)
	}
	return g
}

// at is the texel in a column and row, −1 where there is none.
func (g *grid) at(x, y int) int32 {
	if x < 0 || y < 0 || x >= g.size || y >= g.size {
		return -1
	}
	if y < g.top || y >= g.top+g.rows {
		return leftOut
	}
	return g.texel[(y-g.top)*g.size+x]
}

// spotAt is the place of a triangle where the middle of a texel of its set's square lies.
func (b *Body) spotAt(tri int32, column, row, size int) spot {
	i, uvs := b.model.Tris[tri], b.model.UVs
	o := b.sets[b.setOf[tri]].Origin
	p, q, r := uvs[i[0]].Sub(o), uvs[i[1]].Sub(o), uvs[i[2]].Sub(o)
	at := geom.Vec2{X: (float32(column) + 0.5) / float32(size), Y: 1 - (float32(row)+0.5)/float32(size)}
	e1, e2, d := q.Sub(p), r.Sub(p), at.Sub(p)
	det := e1.Cross(e2)
	if det == 0 {
		return spot{tri, 1. / 3, 1. / 3}
	}
	return spot{tri, d.Cross(e2) / det, e1.Cross(d) / det}
}

// neighbours is, for each side of a triangle, the side that it shares its edge with, −1 for none. A side is
// 3 · triangle + k and runs from corner k to the next.
func (b *Body) neighbours() []int32 {
	if b.beyond != nil {
		return b.beyond
	}
	m := b.model
	weld := m.WeldNear(m.Tolerance())
	e := m.Edges(weld, nil)
	b.beyond = make([]int32, 3*len(m.Tris))
	for side := range b.beyond {
		b.beyond[side] = -1
	}
	for i, s := range e.First {
		o := e.Next[s]
		// Of two faces that run round the same way, as it should be.
		if e.Count[i] == 2 && weld[m.Tris[s/3][s%3]] != weld[m.Tris[o/3][o%3]] {
			b.beyond[s], b.beyond[o] = o, s
		}
	}
	return b.beyond
}

// mostSteps bounds how many triangles a way of one texel leads over.
const mostSteps = 100

// walk goes some way along the surface, straight on when the triangles that it leads over are unfolded. It ends where the
// surface does; then ok is false.
func (b *Body) walk(beyond []int32, from spot, way geom.Vec3) (to spot, ok bool) {
	m := b.model
	at := from
	entered := -1 // side
	for range mostSteps {
		p, q, r := m.Corners(int(at.tri))
		e1, e2 := q.Sub(p), r.Sub(p)
		du, dv := parts(e1, e2, way)
		w := [3]float32{1 - at.u - at.v, at.u, at.v}
		d := [3]float32{-du - dv, du, dv}
		// The first side that is crossed; the side from corner k lies opposite corner k + 2.
		share, side := float32(1), -1
		for k := range 3 {
			o := (k + 2) % 3
			if k != entered && w[o]+d[o] < 0 && d[o] < 0 {
				if s := max(0, w[o]/-d[o]); s < share || side < 0 && s <= share {
					share, side = s, k
				}
			}
		}
		if side < 0 {
			return spot{at.tri, at.u + du, at.v + dv}, true
		}
		other := beyond[3*int(at.tri)+side]
		if other < 0 {
			return from, false
		}
		// Where the edge is crossed, as a share of the way along it.
		a, c := w[side]+share*d[side], w[(side+1)%3]+share*d[(side+1)%3]
		along := min(1, max(0, c/(a+c)))
		way = unfold(m, 3*at.tri+int32(side), other, way.Mul(1-share))
		entered = int(other % 3)
		at = spot{tri: other / 3}
		into := [3]float32{}
		into[entered], into[(entered+1)%3] = along, 1-along // it runs the other way
		at.u, at.v = into[1], into[2]
	}
	return from, false
}

// parts solves way = du·e1 + dv·e2 in the plane of both.
func parts(e1, e2, way geom.Vec3) (du, dv float32) {
	a, b, c := e1.Dot(e1), e1.Dot(e2), e2.Dot(e2)
	x, y := way.Dot(e1), way.Dot(e2)
	det := a*c - b*b
	if det <= 0 {
		return 0, 0
	}
	return (x*c - y*b) / det, (y*a - x*b) / det
}

// unfold turns a way from the plane of one triangle, over an edge, into that of the next.
func unfold(m *mesh.Model, side, other int32, way geom.Vec3) geom.Vec3 {
	corners := func(side int32) (a, b, c geom.Vec3) {
		t, k := m.Tris[side/3], side%3
		return m.Positions[t[k]], m.Positions[t[(k+1)%3]], m.Positions[t[(k+2)%3]]
	}
	a, b, c := corners(side)
	edge := b.Sub(a).Norm()
	out := a.Sub(c)
	out = out.Sub(edge.Mul(out.Dot(edge))).Norm()
	d, _, e := corners(other)
	in := e.Sub(d)
	in = in.Sub(edge.Mul(in.Dot(edge))).Norm()
	return edge.Mul(way.Dot(edge)).Add(in.Mul(way.Dot(out)))
}

// across are the heights of a tile's rim and the steps that lead there; NaN where the surface ends.
func (c *Canvas) across(k *scratch, of *shape, t int) ([]float32, []seam) {
	from, to := c.rim.tiles[t].From, c.rim.tiles[t].To
	seams := c.seams[from:to]
	h := make([]float32, len(seams))
	copy(h, c.rim.heightOf(k.rim, of.across, t))
	k.lost = k.lost || k.rim.lost
	for i := range seams {
		if seams[i].open {
			h[i] = nan
		}
	}
	return h, seams
}

package compose

import (
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
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
func (c *Canvas) findSeams() {
	if c.rim != nil {
		return
	}
	b, s := c.body, c.Surf
	beyond := b.neighbours()
	var spots []spot
	var own []int32 // by place of the rim: the texel that it is seen from
	tiles := make([]surface.Tile, len(c.tiles))
	for t := range c.tiles {
		tiles[t].From = int32(len(spots))
		for i := c.tiles[t].From; i < c.tiles[t].To; i++ {
			at := int(s.Texel[i])
			var pu, pv geom.Vec3
			known := false
			for way, w := range ways {
				x, y := at%s.Size+w[0], at/s.Size+w[1]
				j := c.covered(x, y)
				if j >= 0 && s.Tri[j] == s.Tri[i] {
					continue
				}
				if !known {
					pu, pv = along(b.model, s.Tri[i])
					known = true
				}
				step := pu.Mul(float32(w[0]) / float32(s.Size)).Add(pv.Mul(float32(-w[1]) / float32(s.Size)))
				if j >= 0 && c.point(i).Dist(c.point(j)) < 3*step.Len() {
					continue
				}
				from := b.spotAt(s.Tri[i], (float32(at%s.Size)+0.5)/float32(s.Size), (float32(at/s.Size)+0.5)/float32(s.Size))
				to, ok := b.walk(beyond, from, step)
				if !ok && j < 0 {
					continue // as it is without a neighbour
				}
				c.seams = append(c.seams, seam{uint16(i - c.tiles[t].From), uint8(way), !ok})
				spots, own = append(spots, to), append(own, i)
			}
		}
		tiles[t].To = int32(len(spots))
	}
	c.rim = newGround(b, tiles)
	c.rim.pitch = c.pitch
	c.rim.tri = make([]int32, len(spots))
	in := &c.rim.in
	in.make(len(spots), len(tiles))
	for t := range tiles {
		var place []geom.Vec3
		for i := tiles[t].From; i < tiles[t].To; i++ {
			c.rim.tri[i] = spots[i].tri
			place = append(place, b.at(spots[i]))
		}
		in.place(t, int(tiles[t].From), place, 2*surface.TileSize*c.pitch)
	}
	for i, p := range c.in.planes() {
		if *p.v != nil {
			*in.planes()[i].v = make([]uint16, len(spots))
		}
	}
	for i := range spots {
		c.acrossSeam(i, spots[i], own[i])
	}
}

// acrossSeam fills the inputs of a place of the rim: from the canvas's own where it lies on this set, else going on as they
// do towards the seam.
func (c *Canvas) acrossSeam(i int, at spot, own int32) {
	in, s := &c.rim.in, c.Surf
	read := func(v []uint16) uint16 { return 0 }
	var n geom.Vec3
	if c.body.setOf[at.tri] == c.body.setOf[s.Tri[own]] {
		x, y := c.body.square(at)
		four, share := c.fourRound(x, y)
		read = func(v []uint16) uint16 {
			sum := float32(0.5)
			for k, j := range four {
				sum += share[k] * float32(v[j])
			}
			return uint16(min(65535, sum))
		}
		for k, j := range four {
			n = n.Add(c.facing(j).Mul(share[k]))
		}
	} else {
		w := ways[c.seams[i].way]
		t := int(s.Texel[own])
		inner := c.covered(t%s.Size-w[0], t/s.Size-w[1])
		if inner < 0 {
			inner = own
		}
		read = func(v []uint16) uint16 { return uint16(min(65535, max(0, 2*int(v[own])-int(v[inner])))) }
		n = c.body.normal(at)
	}
	putVector(&in.normal, i, n.Norm())
	to := in.planes()
	for k, p := range c.in.planes() {
		if *p.v != nil {
			(*to[k].v)[i] = read(*p.v)
		}
	}
}

// fourRound are the texels round a place of the square, with their shares; nearest ones stand in for those not covered.
func (c *Canvas) fourRound(x, y float32) (at [4]int32, share [4]float32) {
	s := c.Surf
	limit := float32(s.Size - 1)
	x, y = min(max(x*float32(s.Size)-0.5, 0), limit), min(max(y*float32(s.Size)-0.5, 0), limit)
	x0, y0 := int(x), int(y)
	fx, fy := x-float32(x0), y-float32(y0)
	for k := range at {
		dx, dy := k&1, k>>1
		at[k] = s.Nearest[min(y0+dy, s.Size-1)*s.Size+min(x0+dx, s.Size-1)]
		share[k] = [2]float32{1 - fx, fx}[dx] * [2]float32{1 - fy, fy}[dy]
	}
	return at, share
}

// facing is the normal at a texel.
func (c *Canvas) facing(i int32) geom.Vec3 {
	n := &c.in.normal
	return geom.Vec3{X: float32(n[0][i]), Y: float32(n[1][i]), Z: float32(n[2][i])}.Mul(1. / 32767)
}

// covered is the texel in a column and row, −1 where there is none.
func (c *Canvas) covered(x, y int) int32 {
	s := c.Surf
	if x < 0 || y < 0 || x >= s.Size || y >= s.Size {
		return -1
	}
	if i := s.Nearest[y*s.Size+x]; int(s.Texel[i]) == y*s.Size+x {
		return i
	}
	return -1
}

// point is where a texel lies on the model.
func (c *Canvas) point(i int32) geom.Vec3 {
	at := int(c.Surf.Texel[i])
	return c.body.at(c.body.spotAt(c.Surf.Tri[i], (float32(at%c.Surf.Size)+0.5)/float32(c.Surf.Size), (float32(at/c.Surf.Size)+0.5)/float32(c.Surf.Size)))
}

// spotAt is the place of a triangle that lies at x, y of its set's square, from the top left.
func (b *Body) spotAt(tri int32, x, y float32) spot {
	i, uvs := b.model.Tris[tri], b.model.UVs
	o := b.sets[b.setOf[tri]].Origin
	p, q, r := uvs[i[0]].Sub(o), uvs[i[1]].Sub(o), uvs[i[2]].Sub(o)
	e1, e2, d := q.Sub(p), r.Sub(p), geom.Vec2{X: x, Y: 1 - y}.Sub(p)
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
func (c *Canvas) across(k *scratch, p *Program, t int) ([]float32, []seam) {
	from, to := c.rim.tiles[t].From, c.rim.tiles[t].To
	seams := c.seams[from:to]
	h := make([]float32, len(seams))
	copy(h, c.rim.heightOf(k.rim, p.across, t))
	for i := range seams {
		if seams[i].open {
			h[i] = nan
		}
	}
	return h, seams
}

package compose

import (
	"math"
	"slices"

	"crust/internal/core/brush"
	"crust/internal/core/geom"
	"crust/internal/core/uv"
)

// fillings are what a stroke that fills covers, by its kind: the triangles, from the one that it was laid on.
var fillings = map[string]func(b *Body, from int32, of []bool){
	brush.FillPart: func(b *Body, from int32, of []bool) {
		for t, p := range b.model.Part {
			of[t] = p == b.model.Part[from]
		}
	},
	brush.FillSet: func(b *Body, from int32, of []bool) {
		for t, s := range b.setOf {
			of[t] = s == b.setOf[from]
		}
	},
	brush.FillIsland: func(b *Body, from int32, of []bool) {
		m := uv.NewMap(b.model, b.sets)
		for t, i := range m.Of {
			of[t] = i == m.Of[from]
		}
	},
	brush.FillJoined: func(b *Body, from int32, of []bool) {
		beyond := b.neighbours()
		of[from] = true
		for next := []int32{from}; len(next) > 0; {
			t := next[len(next)-1]
			next = next[:len(next)-1]
			for side := 3 * t; side < 3*t+3; side++ {
				if o := beyond[side]; o >= 0 && !of[o/3] {
					of[o/3] = true
					next = append(next, o/3)
				}
			}
		}
	},
	brush.FillAll: func(b *Body, _ int32, of []bool) {
		for t := range of {
			of[t] = true
		}
	},
}

// filled is which triangles a stroke that fills covers; nil for one that does not.
func (b *Body) filled(l *struck) []bool {
	if l.stroke.Fill == "" {
		return nil // as nearly all are, and this is asked for each
	}
	way := fillings[l.stroke.Fill]
	if way == nil || len(b.model.Tris) == 0 {
		return nil
	}
	at := cacheKey{b.inkID, -2, uint64(l.number)}
	if of, ok := b.cache.get(at).([]bool); ok {
		return of
	}
	b.filling.Lock()
	defer b.filling.Unlock()
	of := make([]bool, len(b.model.Tris))
	first := &l.stroke.Paths[0][0]
	way(b, b.nearest(first.At(), first.Normal()), of)
	b.cache.put(at, of, len(of))
	return of
}

// nearest is the triangle nearest to a place, of those as near the one that faces most as n does.
func (b *Body) nearest(p, n geom.Vec3) (best int32) {
	least, facing := float32(math.Inf(1)), float32(-2)
	near := float32(b.model.Tolerance()) * 4
	for t := range b.model.Tris {
		x, y, z := b.model.Corners(t)
		d := p.Dist(closest(p, x, y, z))
		dot := y.Sub(x).Cross(z.Sub(x)).Norm().Dot(n)
		if d < least-near || d < least+near && dot > facing {
			best, least, facing = int32(t), min(least, d), dot
		}
	}
	return best
}

// closest is the place of a triangle that lies nearest to a point (Ericson, Real-Time Collision Detection, §5.1.5).
func closest(p, a, b, c geom.Vec3) geom.Vec3 {
	ab, ac, ap := b.Sub(a), c.Sub(a), p.Sub(a)
	d1, d2 := ab.Dot(ap), ac.Dot(ap)
	if d1 <= 0 && d2 <= 0 {
		return a
	}
	bp := p.Sub(b)
	d3, d4 := ab.Dot(bp), ac.Dot(bp)
	if d3 >= 0 && d4 <= d3 {
		return b
	}
	if vc := d1*d4 - d3*d2; vc <= 0 && d1 >= 0 && d3 <= 0 {
		return a.Add(ab.Mul(d1 / (d1 - d3)))
	}
	cp := p.Sub(c)
	d5, d6 := ab.Dot(cp), ac.Dot(cp)
	if d6 >= 0 && d5 <= d6 {
		return c
	}
	if vb := d5*d2 - d1*d6; vb <= 0 && d2 >= 0 && d6 <= 0 {
		return a.Add(ac.Mul(d2 / (d2 - d6)))
	}
	va, vb, vc := d3*d6-d5*d4, d5*d2-d1*d6, d1*d4-d3*d2
	if va <= 0 && d4-d3 >= 0 && d5-d6 >= 0 {
		return b.Add(c.Sub(b).Mul((d4 - d3) / ((d4 - d3) + (d5 - d6))))
	}
	sum := va + vb + vc
	if sum == 0 {
		return a
	}
	return a.Add(ab.Mul(vb / sum)).Add(ac.Mul(vc / sum))
}

// fills writes the coverage of a stroke that fills on a tile; false for one that does not.
func (g *ground) fills(l *struck, t int, cover []float32) bool {
	of := g.body.filled(l)
	if of == nil {
		return false
	}
	clear(cover)
	g.each(t, func(from, to int, tri int32) {
		if of[tri] {
			fill(cover[from:to], l.stroke.Brush.Opacity)
		}
	})
	return true
}

// fillsSome tells whether a stroke that fills covers some of a tile.
func (g *ground) fillsSome(of []bool, t int) bool {
	if g.spans != nil {
		return slices.ContainsFunc(g.spans[t], func(s span) bool { return of[s.tri] })
	}
	return slices.ContainsFunc(g.tri[g.tiles[t].From:g.tiles[t].To], func(tri int32) bool { return of[tri] })
}

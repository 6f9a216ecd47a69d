package compose

import (
	"math"
	"slices"

	"crust/internal/core/accel"
	"crust/internal/core/bake"
	"crust/internal/core/brush"
	"crust/internal/core/field"
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
	brush.FillAll: everywhere,
	brush.FillID:  everywhere, // and the colour is looked at place by place
}

func everywhere(_ *Body, _ int32, of []bool) {
	for t := range of {
		of[t] = true
	}
}

// filled is which triangles a stroke that fills covers; nil for one that does not.
func (b *Body) filled(l *struck) []bool {
	if l.stroke.Fill == "" {
		return nil // as nearly all are, and this is asked for each
	}
	return b.from(l.stroke, l.stroke.Fill)
}

// from is which triangles something covers, one of fillings, that begins where a stroke does.
func (b *Body) from(s *brush.Stroke, kind string) []bool {
	way := fillings[kind]
	if way == nil || len(b.model.Tris) == 0 {
		return nil
	}
	first := &s.Paths[0][0]
	at := cacheKey{b.inkID, -2, mix(beginning(first), hashOf(kind))}
	if of, ok := b.cache.get(at).([]bool); ok {
		return of
	}
	b.filling.Lock()
	defer b.filling.Unlock()
	of := make([]bool, len(b.model.Tris))
	way(b, b.nearest(b.fold(first.At()), first.Normal()), of)
	for t := b.own; t < len(of); t++ {
		of[t] = of[t%b.own]
	}
	b.cache.put(at, of, len(of))
	return of
}

// beginning hashes where a stroke begins.
func beginning(p *brush.Point) (h uint64) {
	for _, x := range p[:6] {
		h = mix(h, bits(x))
	}
	return h
}

// nearID is how far a colour of the ID map may lie from one that still counts as the same.
const nearID = 1200 // of 65535

// idFrom is the colour of the ID map where a stroke begins; false where there is none.
func (b *Body) idFrom(s *brush.Stroke) (id [3]uint16, ok bool) {
	first := &s.Paths[0][0]
	at := cacheKey{b.inkID, -3, beginning(first)}
	tri, known := b.cache.get(at).(int32)
	if !known {
		tri = b.nearest(b.fold(first.At()), first.Normal())
		b.cache.put(at, tri, 4)
	}
	set := b.setOf[tri]
	m := b.ids(set)
	if m == nil {
		return id, false
	}
	x, y := b.square(b.spotOn(tri, b.fold(first.At())))
	return idAt(m, x, y), true
}

// ids is the ID map of a set, nil when there is none.
func (b *Body) ids(set int32) *bake.Map {
	if set < 0 {
		return nil
	}
	b.filling.Lock()
	defer b.filling.Unlock()
	m, ok := b.idMaps[set]
	if !ok {
		all, err := b.maps(b.sets[set].Key)
		if m = all[bake.ID]; err != nil {
			m = nil
		}
		if b.idMaps == nil {
			b.idMaps = map[int32]*bake.Map{}
		}
		b.idMaps[set] = m
	}
	return m
}

// idAt is the colour of an ID map at a place of its square; IDs are not mixed.
func idAt(m *bake.Map, x, y float32) (id [3]uint16) {
	i, j := min(m.Size-1, max(0, int(x*float32(m.Size)))), min(m.Size-1, max(0, int(y*float32(m.Size))))
	copy(id[:], m.Pix[(j*m.Size+i)*m.Channels:][:min(3, m.Channels)])
	return id
}

// onID is which places of a tile have a colour of the ID map.
func (g *ground) onID(k *scratch, t int, id [3]uint16) []bool {
	at := cacheKey{g.id, int32(t), mix(keptID, uint64(id[0])<<32|uint64(id[1])<<16|uint64(id[2]))}
	if of, ok := g.body.cache.get(at).([]bool); ok {
		return of
	}
	g.widen(k, t, field.NeedPlace)
	squares := g.squares(k, t)
	of := make([]bool, g.tiles[t].Len())
	set, m := int32(-2), (*bake.Map)(nil)
	for i := range of {
		if now := g.setAt(t, i); now != set {
			set, m = now, g.body.ids(now)
		}
		if m == nil {
			continue
		}
		of[i] = true
		for c, x := range idAt(m, squares[0][i], squares[1][i]) {
			if d := int(x) - int(id[c]); max(d, -d) > nearID {
				of[i] = false
			}
		}
	}
	g.body.cache.put(at, of, len(of))
	return of
}

// unseen clears the coverage, at places of a tile from one on, of what does not face a place or has something of the model before it.
func (g *ground) unseen(k *scratch, p *brush.Places, eye geom.Vec3, cover []float32) {
	rays := g.body.bvh()
	lift := 1000 * rays.Epsilon()
	for i, c := range cover {
		if c == 0 {
			continue
		}
		n := geom.Vec3{X: p.NX[i], Y: p.NY[i], Z: p.NZ[i]}
		at := geom.Vec3{X: p.X[i], Y: p.Y[i], Z: p.Z[i]}.Add(n.Mul(lift))
		way := eye.Sub(at)
		far := way.Len()
		if n.Dot(way) <= 0 || far == 0 {
			cover[i] = 0
		} else if _, hit := rays.FirstHit(at, way.Mul(1/far), far, &k.stream); hit {
			cover[i] = 0
		}
	}
}

// bvh finds what rays hit of the model.
func (b *Body) bvh() *accel.BVH {
	b.filling.Lock()
	defer b.filling.Unlock()
	if b.rays == nil {
		b.rays = accel.Build(accel.Mesh{Positions: b.model.Positions, Tris: b.model.Tris})
	}
	return b.rays
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
func (g *ground) fills(k *scratch, l *struck, t int, cover []float32) bool {
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
	if l.stroke.Fill == brush.FillID {
		g.keepID(k, l.stroke, t, 0, cover)
	}
	return true
}

// keepID clears the coverage of a stroke, at places of a tile from one on, where the ID map has another colour than where it began.
func (g *ground) keepID(k *scratch, s *brush.Stroke, t, from int, cover []float32) {
	id, ok := g.body.idFrom(s)
	if !ok {
		clear(cover)
		return
	}
	on := g.onID(k, t, id)[from:]
	for i := range cover {
		if !on[i] {
			cover[i] = 0
		}
	}
}

// fillsSome tells whether a stroke that fills covers some of a tile.
func (g *ground) fillsSome(of []bool, t int) bool {
	if g.spans != nil {
		return slices.ContainsFunc(g.spans[t], func(s span) bool { return of[s.tri] })
	}
	return slices.ContainsFunc(g.tri[g.tiles[t].From:g.tiles[t].To], func(tri int32) bool { return of[tri] })
}

package mesh

import (
	"math"

	"crust/internal/core/geom"
)

// Grid makes a surface of nu × nv quads from a function of s, t in 0–1, with UVs over the unit
// square inset by margin and normals from the function's own slopes. Triangles turn so that the
// normal is ∂p/∂s × ∂p/∂t.
func Grid(nu, nv int, margin float32, f func(s, t float64) [3]float64) *Model {
	m := &Model{Parts: []string{"surface"}, Materials: []Material{{Name: "surface", Colour: [3]float32{0.8, 0.8, 0.8}}}, HasUV: true}
	at := func(s, t float64) geom.Vec3 {
		p := f(s, t)
		return geom.Vec3{X: float32(p[0]), Y: float32(p[1]), Z: float32(p[2])}
	}
	for j := 0; j <= nv; j++ {
		for i := 0; i <= nu; i++ {
			s, t := float64(i)/float64(nu), float64(j)/float64(nv)
			m.Positions = append(m.Positions, at(s, t))
			m.Normals = append(m.Normals, slopeNormal(f, s, t))
			m.UVs = append(m.UVs, geom.Vec2{X: margin + (1-2*margin)*float32(s), Y: margin + (1-2*margin)*float32(t)})
		}
	}
	row := uint32(nu + 1)
	add := func(a, b, c uint32) {
		if pa, pb, pc := m.Positions[a], m.Positions[b], m.Positions[c]; pb.Sub(pa).Cross(pc.Sub(pa)).Len() == 0 {
			return
		}
		m.Tris = append(m.Tris, [3]uint32{a, b, c})
		m.Material = append(m.Material, 0)
		m.Part = append(m.Part, 0)
	}
	for j := uint32(0); j < uint32(nv); j++ {
		for i := uint32(0); i < uint32(nu); i++ {
			a := j*row + i
			add(a, a+1, a+row+1)
			add(a, a+row+1, a+row)
		}
	}
	return m
}

// slopeNormal is the unit ∂p/∂s × ∂p/∂t by central differences, pulled inwards where it vanishes,
// as at a sphere's poles.
func slopeNormal(f func(s, t float64) [3]float64, s, t float64) geom.Vec3 {
	const h = 1e-4
	for _, pull := range []float64{0, 1e-3} {
		s, t := s+(0.5-s)*pull, t+(0.5-t)*pull
		a, b, c, d := f(s+h, t), f(s-h, t), f(s, t+h), f(s, t-h)
		u := [3]float64{a[0] - b[0], a[1] - b[1], a[2] - b[2]}
		v := [3]float64{c[0] - d[0], c[1] - d[1], c[2] - d[2]}
		n := [3]float64{u[1]*v[2] - u[2]*v[1], u[2]*v[0] - u[0]*v[2], u[0]*v[1] - u[1]*v[0]}
		if l := math.Sqrt(n[0]*n[0] + n[1]*n[1] + n[2]*n[2]); l > 1e-14 {
			return geom.Vec3{X: float32(n[0] / l), Y: float32(n[1] / l), Z: float32(n[2] / l)}
		}
	}
	return geom.Vec3{Y: 1}
}

// Sphere of radius r round centre, nu around and nv from pole to pole, normals outwards.
func Sphere(nu, nv int, r float64, centre [3]float64) *Model {
	return Grid(nu, nv, 0.02, func(s, t float64) [3]float64 {
		a, b := -s*2*math.Pi, (t-0.5)*math.Pi
		return [3]float64{centre[0] + r*math.Cos(b)*math.Cos(a), centre[1] + r*math.Sin(b), centre[2] + r*math.Cos(b)*math.Sin(a)}
	})
}

// BumpySphere has 2·nu·nv triangles less the poles' and bumps that shade each other.
func BumpySphere(nu, nv int) *Model {
	return Grid(nu, nv, 0.02, func(s, t float64) [3]float64 {
		a, b := -s*2*math.Pi, (t-0.5)*math.Pi
		x, y, z := math.Cos(b)*math.Cos(a), math.Sin(b), math.Cos(b)*math.Sin(a)
		r := 1 + 0.08*math.Sin(9*x+1)*math.Sin(11*y)*math.Sin(10*z+2) + 0.02*math.Sin(41*x)*math.Sin(37*y+1)*math.Sin(43*z)
		return [3]float64{r * x, r * y, r * z}
	})
}

// Append adds the triangles of o as further parts and material slots.
func (m *Model) Append(o *Model) {
	base, mat, part := uint32(len(m.Positions)), int32(len(m.Materials)), int32(len(m.Parts))
	if len(m.Channels) > 0 {
		m.appendChannels(o)
	} else {
		m.UVs = append(m.UVs, o.UVs...)
	}
	m.Positions = append(m.Positions, o.Positions...)
	m.Normals = append(m.Normals, o.Normals...)
	m.appendColours(len(m.Positions)-len(o.Positions), o)
	for t, tri := range o.Tris {
		m.Tris = append(m.Tris, [3]uint32{tri[0] + base, tri[1] + base, tri[2] + base})
		m.Material = append(m.Material, o.Material[t]+mat)
		m.Part = append(m.Part, o.Part[t]+part)
	}
	m.Materials = append(m.Materials, o.Materials...)
	m.Parts = append(m.Parts, o.Parts...)
}

// appendColours adds o's vertex colours; where one of the two has none, its vertices are white.
func (m *Model) appendColours(before int, o *Model) {
	if len(m.Colours) == 0 && len(o.Colours) == 0 {
		return
	}
	white := func(c [][3]uint8, n int) [][3]uint8 {
		for len(c) < n {
			c = append(c, [3]uint8{255, 255, 255})
		}
		return c
	}
	m.Colours = append(white(m.Colours, before), o.Colours...)
	m.Colours = white(m.Colours, len(m.Positions))
}

// appendChannels adds o's UVs channel by channel; what o lacks is bare.
func (m *Model) appendChannels(o *Model) {
	chosen := 0
	for k := range m.Channels {
		if len(m.UVs) > 0 && &m.UVs[0] == &m.Channels[k].UVs[0] {
			chosen = k
		}
	}
	theirs := o.Channels
	if len(theirs) == 0 {
		theirs = []Channel{{UVs: o.UVs}}
		if !o.HasUV {
			theirs[0].Bare = 3 * len(o.Tris)
		}
	}
	for k := range m.Channels {
		c := &m.Channels[k]
		if k < len(theirs) {
			c.UVs, c.Bare = append(c.UVs, theirs[k].UVs...), c.Bare+theirs[k].Bare
		} else {
			c.UVs, c.Bare = append(c.UVs, make([]geom.Vec2, len(o.Positions))...), c.Bare+3*len(o.Tris)
		}
	}
	m.UVs, m.HasUV = m.Channels[chosen].UVs, m.Channels[chosen].Bare == 0
}

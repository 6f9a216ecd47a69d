// Package still makes pictures of models by following light: path tracing with the surroundings and lamps of package light.
package still

import (
	"math"
	"sync"

	"crust/internal/core/geom"
)

// The surface is that of glTF 2.0, appendix B: a microfacet lobe of GGX over a matt ground, of a base colour, a roughness and how metallic
// it is. Two things are added, so that no light is lost: what bounces between facets more than once is given back (Turquin, Practical
// Multiple Scattering Compensation for Microfacet Models, 2019), and the ground takes only what the lobe lets through.

// skin is what a ray meets, as its light is reckoned.
type skin struct {
	base     geom.Vec3 // linear
	f0       geom.Vec3
	alpha    float32 // roughness squared
	metal    float32
	more     geom.Vec3 // by how much the lobe is raised for repeated bounces
	below    float32   // how much of light the lobe lets through to the ground, at the angle that it is seen from
	lobe     float32   // how often the lobe is sampled
	emissive geom.Vec3
	film     float32 // a clear film of water: how much of it there is
}

const leastAlpha = 0.002

// ready completes a surface as seen at an angle whose cosine is nv.
func (s *skin) ready(rough, nv float32) {
	rough = max(0, min(1, rough))
	s.alpha = max(leastAlpha, rough*rough)
	s.f0 = geom.Vec3{X: 0.04, Y: 0.04, Z: 0.04}.Mul(1 - s.metal).Add(s.base.Mul(s.metal))
	all, scale, lift := albedo(nv, rough)
	back := (1 - all) / max(1e-3, all)
	given := func(f0 float32) float32 { return (f0*scale + lift) * (1 + f0*back) }
	// Of what is partly metal, part is a metal and part is not.
	clear := given(0.04)
	part := func(base float32) float32 { return clear*(1-s.metal) + given(base)*s.metal }
	lobe := geom.Vec3{X: part(s.base.X), Y: part(s.base.Y), Z: part(s.base.Z)}
	s.more = geom.Vec3{X: lobe.X / (s.f0.X*scale + lift), Y: lobe.Y / (s.f0.Y*scale + lift), Z: lobe.Z / (s.f0.Z*scale + lift)}
	s.below = 1 - clear
	matt := lum(s.base) * (1 - s.metal) * s.below
	s.lobe = lum(lobe) / max(1e-6, lum(lobe)+matt)
	s.lobe = max(0.1, min(0.95, s.lobe))
	if matt == 0 {
		s.lobe = 1
	}
}

func lum(c geom.Vec3) float32 { return 0.2126*c.X + 0.7152*c.Y + 0.0722*c.Z }

// value is the surface's reflection times the cosine, and how often sample gives the way l; n, v and l are in the surface's own frame, whose
// normal is Z.
func (s *skin) value(v, l geom.Vec3) (f geom.Vec3, density float32) {
	if l.Z <= 0 || v.Z <= 0 {
		return geom.Vec3{}, 0
	}
	h := v.Add(l).Norm()
	vh := max(0, v.Dot(h))
	d := ggx(h, s.alpha)
	g := shadowing(v, l, s.alpha)
	fresnel := schlick(s.f0, vh)
	spec := d * g / (4 * v.Z) // the cosine of l is taken off again
	f = geom.Vec3{X: fresnel.X * s.more.X * spec, Y: fresnel.Y * s.more.Y * spec, Z: fresnel.Z * s.more.Z * spec}
	matt := (1 - s.metal) * s.below * l.Z / math.Pi
	f = f.Add(s.base.Mul(matt))
	density = s.lobe*visible(v, h, s.alpha)*d/(4*v.Z) + (1-s.lobe)*l.Z/math.Pi
	return f, density
}

// sample picks a way that light comes from, by three numbers from 0 to 1.
func (s *skin) sample(v geom.Vec3, a, b, which float32) (l geom.Vec3) {
	if which < s.lobe {
		h := facet(v, s.alpha, a, b)
		return h.Mul(2 * v.Dot(h)).Sub(v)
	}
	r := float32(math.Sqrt(float64(a)))
	sin, cos := math.Sincos(2 * math.Pi * float64(b))
	return geom.Vec3{X: r * float32(cos), Y: r * float32(sin), Z: float32(math.Sqrt(float64(max(0, 1-a))))}
}

// ggx is the distribution of facets (Trowbridge & Reitz, 1975; Walter et al., 2007).
func ggx(h geom.Vec3, alpha float32) float32 {
	if h.Z <= 0 {
		return 0
	}
	a2 := alpha * alpha
	// So written it is exact also where the facet lies all but level.
	d := (h.X*h.X+h.Y*h.Y)/a2 + h.Z*h.Z
	return 1 / (math.Pi * a2 * d * d)
}

// lambda is Smith's function of GGX.
func lambda(w geom.Vec3, alpha float32) float32 {
	c2 := w.Z * w.Z
	if c2 <= 0 {
		return 1e9
	}
	return (float32(math.Sqrt(float64(1+alpha*alpha*(1-c2)/c2))) - 1) / 2
}

// shadowing is Smith's, of facets as high as each other (Heitz, Understanding the Masking-Shadowing Function, JCGT 2014).
func shadowing(v, l geom.Vec3, alpha float32) float32 {
	return 1 / (1 + lambda(v, alpha) + lambda(l, alpha))
}

// visible is how often facet gives h, against the distribution.
func visible(v, h geom.Vec3, alpha float32) float32 { return 1 / (1 + lambda(v, alpha)) }

// facet picks a facet that is seen from v (Dupuy & Benyoub, Sampling Visible GGX Normals with Spherical Caps, 2023).
func facet(v geom.Vec3, alpha, a, b float32) geom.Vec3 {
	w := geom.Vec3{X: v.X * alpha, Y: v.Y * alpha, Z: v.Z}.Norm()
	sin, cos := math.Sincos(2 * math.Pi * float64(a))
	z := (1-b)*(1+w.Z) - w.Z
	r := float32(math.Sqrt(float64(max(0, min(1, 1-z*z)))))
	h := geom.Vec3{X: r * float32(cos), Y: r * float32(sin), Z: z}.Add(w)
	return geom.Vec3{X: h.X * alpha, Y: h.Y * alpha, Z: max(1e-6, h.Z)}.Norm()
}

func schlick(f0 geom.Vec3, vh float32) geom.Vec3 {
	m := 1 - vh
	m5 := m * m * m * m * m
	return geom.Vec3{X: f0.X + (1-f0.X)*m5, Y: f0.Y + (1-f0.Y)*m5, Z: f0.Z + (1-f0.Z)*m5}
}

// tableSide is how many angles and roughnesses the table of albedos has.
const tableSide = 32

type entry struct{ all, scale, lift float32 }

var table = sync.OnceValue(func() *[tableSide + 1][tableSide + 1]entry {
	t := new([tableSide + 1][tableSide + 1]entry)
	for i := range t {
		for j := range t[i] {
			nv := max(1e-3, float32(i)/tableSide)
			rough := float32(j) / tableSide
			t[i][j] = integrate(nv, max(leastAlpha, rough*rough))
		}
	}
	return t
})

// integrate is what the lobe gives back of even light, if it reflected all (all), and as f0·scale + lift.
func integrate(nv, alpha float32) (e entry) {
	v := geom.Vec3{X: float32(math.Sqrt(float64(1 - nv*nv))), Z: nv}
	const turns, steps = 20, 96
	for i := range turns {
		for j := range steps {
			// Closer together towards facets that stand steeply, of which some send light down into the surface.
			b := 1 - (float32(j)+0.5)/steps
			h := facet(v, alpha, (float32(i)+0.5)/turns, 1-b*b)
			l := h.Mul(2 * v.Dot(h)).Sub(v)
			if l.Z <= 0 {
				continue
			}
			// The distribution cancels: what is left is the shadowing of l, given that v sees the facet.
			w := shadowing(v, l, alpha) * (1 + lambda(v, alpha)) * 2 * b
			m := 1 - max(0, v.Dot(h))
			m5 := m * m * m * m * m
			e.all += w
			e.scale += w * (1 - m5)
			e.lift += w * m5
		}
	}
	const all = turns * steps
	return entry{e.all / all, e.scale / all, e.lift / all}
}

// albedo reads the table.
func albedo(nv, rough float32) (all, scale, lift float32) {
	t := table()
	x, y := max(0, min(1, nv))*tableSide, rough*tableSide
	i, j := min(tableSide-1, int(x)), min(tableSide-1, int(y))
	fx, fy := x-float32(i), y-float32(j)
	mix := func(of func(e *entry) float32) float32 {
		a := of(&t[i][j])*(1-fx) + of(&t[i+1][j])*fx
		b := of(&t[i][j+1])*(1-fx) + of(&t[i+1][j+1])*fx
		return a*(1-fy) + b*fy
	}
	return mix(func(e *entry) float32 { return e.all }), mix(func(e *entry) float32 { return e.scale }), mix(func(e *entry) float32 { return e.lift })
}

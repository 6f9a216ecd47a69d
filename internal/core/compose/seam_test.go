package compose

import (
	"math"
	"testing"

	"crust/internal/core/field"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
)

// The slope of a height, read back from the normals, against the gradient of the noise that was laid down, by differences
// over a tenth of a millimetre (the kinks where it is cut at 0 and 1 are most of the error): it is no worse at the seams of islands and sets, turned against each other, than inside.
func TestSlopesCrossSeams(t *testing.T) {
	noise, err := field.KindOf("noise")
	if err != nil {
		t.Fatal(err)
	}
	bend := func(s, t float64) [3]float64 { return [3]float64{math.Sin(s), math.Cos(s), 1 - t} }
	for name, shape := range map[string]func(s, t float64) [3]float64{"plane": flat, "pipe": bend} {
		m := cutUp(48, 4, 2, shape)
		d := new(strata.Document)
		coat(d, "#888888", func(l *strata.Layer) {
			l.What.Height.On, l.What.Height.Number = true, 10
			l.Where = []strata.Clause{clauseOf(t, d, "noise", map[string]float64{"size": 0.08, "detail": 1})}
		})
		p := d.Layers[0].Where[0].Values(noise)
		height := func(at geom.Vec3) float64 {
			out := []float32{0}
			noise.Fill(&field.Block{X: []float32{at.X}, Y: []float32{at.Y}, Z: []float32{at.Z}}, p, nil, out)
			return float64(geom.Clamp01(out[0])) / 100
		}
		var inside, rim, steep errs
		for _, c := range canvases(t, m, uv.PerMaterial, func(int) int { return 512 }) {
			ch, at, tris := evaluate(t, c, d), places(c), triangles(c)
			atRim := map[int]bool{}
			for tile := range c.tiles {
				for _, s := range c.seams[c.rim.tiles[tile].From:c.rim.tiles[tile].To] {
					if !s.open {
						atRim[int(c.tiles[tile].From)+int(s.texel)] = true
					}
				}
			}
			for i, p := range at {
				if !atRim[i] && i%23 != 0 || p.Z < 0.02 || p.Z > 0.98 || name == "plane" && (p.X < 0.02 || p.X > 0.98) {
					continue
				}
				pu, pv := along(m, tris[i])
				tan := pu.Norm()
				bit := pv.Sub(tan.Mul(pv.Dot(tan))).Norm()
				n := [3]float64{float64(ch.Normal[0][i]), float64(ch.Normal[1][i]), float64(ch.Normal[2][i])}
				for k, dir := range []geom.Vec3{tan, bit} {
					const e = 1e-4
					want := (height(p.Add(dir.Mul(e))) - height(p.Sub(dir.Mul(e)))) / (2 * e)
					got := -n[k] / n[2]
					steep.add(want)
					if atRim[i] {
						rim.add(got - want)
					} else {
						inside.add(got - want)
					}
				}
			}
		}
		if rim.n < 2000 || inside.rms() > 0.04*steep.rms() || rim.rms() > 1.5*inside.rms() {
			t.Errorf("%s: slopes are %.4f off at %d rims and %.4f inside, of %.4f", name, rim.rms(), rim.n, inside.rms(), steep.rms())
		}
	}
}

// A way along a cube, over its edges, ends where it does when the faces are unfolded.
func TestWalkingUnfoldsFaces(t *testing.T) {
	// Six faces of their own, each seen from outside.
	var m *mesh.Model
	for _, f := range [6][3]geom.Vec3{
		{{X: -0.5, Y: 0.5, Z: 0.5}, {X: 1}, {Z: -1}}, {{X: -0.5, Y: -0.5, Z: -0.5}, {X: 1}, {Z: 1}},
		{{X: 0.5, Y: -0.5, Z: 0.5}, {Z: -1}, {Y: 1}}, {{X: -0.5, Y: -0.5, Z: -0.5}, {Z: 1}, {Y: 1}},
		{{X: -0.5, Y: -0.5, Z: 0.5}, {X: 1}, {Y: 1}}, {{X: 0.5, Y: -0.5, Z: -0.5}, {X: -1}, {Y: 1}}} {
		g := mesh.Grid(2, 2, 0, func(s, t float64) [3]float64 {
			p := f[0].Add(f[1].Mul(float32(s))).Add(f[2].Mul(float32(t)))
			return [3]float64{float64(p.X), float64(p.Y), float64(p.Z)}
		})
		if m == nil {
			m = g
		} else {
			m.Append(g)
		}
	}
	sets, err := uv.Sets(m, uv.Single)
	if err != nil {
		t.Fatal(err)
	}
	b := body(m, sets, nil)
	beyond := b.neighbours()
	// From the middle of the top, straight to +X: down the side after half a metre.
	for tri := range m.Tris {
		s := spot{int32(tri), 1. / 3, 1. / 3}
		from, n := b.at(s), b.model.FaceNormal(tri)
		if n.Y < 0.9 {
			continue
		}
		for _, way := range []float32{0.1, 0.4, 0.9, 1.1} {
			to, ok := b.walk(beyond, s, geom.Vec3{X: way})
			want := geom.Vec3{X: from.X + way, Y: from.Y, Z: from.Z}
			if edge := float32(m.Bounds().Max.X); want.X > edge {
				want = geom.Vec3{X: edge, Y: from.Y - (want.X - edge), Z: from.Z}
			}
			if got := b.at(to); !ok || got.Dist(want) > 1e-5 {
				t.Errorf("%g m from %v leads to %v, want %v", way, from, got, want)
			}
		}
	}
}

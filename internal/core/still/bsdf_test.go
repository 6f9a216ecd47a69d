package still

import (
	"math"
	"testing"

	"crust/internal/core/geom"
)

// What even light of 1 from everywhere gives back: the white furnace. A surface that takes nothing gives all back, at each angle and
// roughness, metal or not.
func TestWhiteFurnace(t *testing.T) {
	for _, metal := range []float32{0, 0.5, 1} {
		for _, rough := range []float32{0, 0.05, 0.1, 0.2, 0.35, 0.5, 0.7, 0.85, 1} {
			for _, nv := range []float32{1, 0.9, 0.7, 0.45, 0.25, 0.12} {
				s := skin{base: geom.Vec3{X: 1, Y: 1, Z: 1}, metal: metal}
				s.ready(rough, nv)
				v := geom.Vec3{X: float32(math.Sqrt(float64(1 - nv*nv))), Z: nv}
				sum := 0.0
				const n = 1 << 14
				for i := range uint32(n) {
					r := sampler{index: i, seed: 7}
					a, b := r.two()
					c, _ := r.two()
					l := s.sample(v, a, b, c)
					f, density := s.value(v, l)
					if density > 0 {
						sum += float64(f.X / density)
					}
				}
				if got := sum / n; math.Abs(got-1) > 0.01 {
					t.Errorf("metal %g, roughness %g, cosine %g: %.4f comes back", metal, rough, nv, got)
				}
			}
		}
	}
}

// The lobe's albedo without Fresnel, against brute force: ∫ D·G / (4·n·v) dω over the upper half of the sphere, on an even grid.
func TestAlbedoOfTheLobeIsItsIntegral(t *testing.T) {
	for _, rough := range []float32{0.4, 0.6, 0.8, 1} {
		for _, nv := range []float32{1, 0.75, 0.5, 0.25} {
			alpha := rough * rough
			v := geom.Vec3{X: float32(math.Sqrt(float64(1 - nv*nv))), Z: nv}
			sum := 0.0
			const rows, columns = 400, 800
			for i := range rows {
				z := (float64(i) + 0.5) / rows
				for j := range columns {
					sin, cos := math.Sincos(2 * math.Pi * (float64(j) + 0.5) / columns)
					r := math.Sqrt(1 - z*z)
					l := geom.Vec3{X: float32(r * cos), Y: float32(r * sin), Z: float32(z)}
					sum += float64(ggx(v.Add(l).Norm(), alpha) * shadowing(v, l, alpha) / (4 * nv))
				}
			}
			want := sum * 2 * math.Pi / (rows * columns)
			if got, scale, lift := albedo(nv, rough); math.Abs(float64(got)-want) > 0.008 || math.Abs(float64(scale+lift-got)) > 1e-3 {
				t.Errorf("roughness %g, cosine %g: %.4f, want %.4f", rough, nv, got, want)
			}
		}
	}
	// A mirror keeps all.
	if all, _, _ := albedo(0.5, 0); math.Abs(float64(all)-1) > 1e-3 {
		t.Errorf("a mirror gives %.4f back", all)
	}
}

// Values of what is below 0.8 are only moved by what a dielectric mirrors, and nothing goes over 1 (Khronos PBR Neutral's aims).
func TestToneKeepsWhatTheScreenCanShow(t *testing.T) {
	for _, x := range []float32{0.1, 0.3, 0.5, 0.75} {
		if got := Tone(geom.Vec3{X: x, Y: x, Z: x}); math.Abs(float64(got.X-(x-0.04))) > 1e-6 {
			t.Errorf("%g becomes %g, want %g", x, got.X, x-0.04)
		}
	}
	last := float32(0)
	for x := float32(0); x < 1000; x = x*1.1 + 0.01 {
		got := Tone(geom.Vec3{X: x, Y: x / 2, Z: x / 4})
		if got.X < last || got.X > 1 {
			t.Fatalf("%g becomes %g after %g", x, got.X, last)
		}
		last = got.X
	}
	if last < 0.98 {
		t.Errorf("the brightest is %g", last)
	}
}

// Points of two dimensions lie one in each of 2ᵐ boxes of any shape (a (0, 2)-sequence), also scrambled.
func TestNumbersAreSpreadEvenly(t *testing.T) {
	for seed := range uint32(20) {
		for wide := range 7 {
			seen := map[[2]int]int{}
			for i := range uint32(64) {
				s := sampler{index: i, seed: seed}
				a, b := s.two()
				seen[[2]int{int(a * float32(int(1)<<wide)), int(b * float32(int(64)>>wide))}]++
			}
			if len(seen) != 64 {
				t.Fatalf("seed %d: 64 points lie in %d of 64 boxes 1/%d wide", seed, len(seen), 1<<wide)
			}
		}
	}
}

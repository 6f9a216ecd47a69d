package field

import (
	"math"
	"math/rand/v2"
	"testing"

	"crust/internal/core/geom"
)

// The kernel of ramps is the plain one, also at the ends of runs that are no multiple of a vector.
func TestRampsAreTheSameInVectors(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 1))
	for _, n := range []int{0, 1, 7, 8, 9, 1021} {
		v, out := make([]float32, n), make([]float32, n)
		for i := range v {
			v[i] = 4*random.Float32() - 2
		}
		ramp(out, v, 0.3, -1.7)
		for i, x := range v {
			if want := geom.Clamp01((x - 0.3) * -1.7); out[i] != want {
				t.Fatalf("value %d of %d: %g, want %g", i, n, out[i], want)
			}
		}
	}
}

// Each form of relief on heights of −2 to 2 mm over a mean of 0.5 mm, by its formula.
func TestReliefFollowsItsFormulas(t *testing.T) {
	k, err := KindOf("relief")
	if err != nil {
		t.Fatal(err)
	}
	const depth, level = 0.001, 0.0005
	b := &Block{}
	for h := -0.002; h <= 0.002; h += 0.0001 {
		b.Height, b.Mean = append(b.Height, float32(h)), append(b.Mean, 0.0005)
	}
	clamp := func(v float64) float64 { return min(1, max(0, v)) }
	for form, want := range []func(h float64) float64{
		func(h float64) float64 { return clamp((h - 0.0005) / depth) },
		func(h float64) float64 { return clamp((0.0005 - h) / depth) },
		func(h float64) float64 { return clamp(0.5 + (h-level)/(2*depth)) },
		func(h float64) float64 { return clamp(0.5 + (h-level)/(depth/20)) },
		func(h float64) float64 { return clamp(0.5 - (h-level)/(depth/20)) },
	} {
		p := []float64{float64(form), 0.02, depth, level, 0}
		if r := k.Radius(p); (r > 0) != (form < 2) {
			t.Errorf("form %d asks for a surrounding of %g m", form, r)
		}
		out := make([]float32, len(b.Height))
		k.Fill(b, p, nil, out)
		for i, h := range b.Height {
			if math.Abs(float64(out[i])-want(float64(h))) > 1e-3 {
				t.Errorf("form %d at %.4f m: %.4f, want %.4f", form, h, out[i], want(float64(h)))
			}
		}
	}
}

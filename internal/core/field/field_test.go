package field

import (
	"math"
	"math/rand/v2"
	"testing"

	"crust/internal/core/geom"
)

func points(n int, seed uint64, reach float32) (x, y, z []float32) {
	r := rand.New(rand.NewPCG(seed, 2))
	for range n {
		x, y, z = append(x, (r.Float32()-0.5)*reach), append(y, (r.Float32()-0.5)*reach), append(z, (r.Float32()-0.5)*reach)
	}
	return x, y, z
}

func TestVectorNoiseAgreesWithThePlainOne(t *testing.T) {
	x, y, z := points(1003, 1, 40)
	for o := range 4 {
		a, b := make([]float32, len(x)), make([]float32, len(x))
		octave(x, y, z, 2.7, 0.6, 77, &turns[o], a)
		octavePlain(x, y, z, 2.7, 0.6, 77, &turns[o], b)
		for i := range a {
			if math.Abs(float64(a[i]-b[i])) > 2e-4 {
				t.Fatalf("point %d: %g and %g", i, a[i], b[i])
			}
		}
	}
}

// Gradient noise is zero at the lattice, continuous, and its fade has no slope there (Perlin,
// Improving Noise, 2002: 6t⁵ − 15t⁴ + 10t³).
func TestGradientNoiseAtTheLattice(t *testing.T) {
	for i := -3; i < 4; i++ {
		if v := gradient(float32(i), float32(2*i), float32(5-i), 9); v != 0 {
			t.Errorf("%g at a lattice point, want 0", v)
		}
	}
	for _, c := range []struct{ in, want float64 }{{0, 0}, {0.5, 0.5}, {1, 1}, {0.25, 0.103515625}} {
		if got := float64(fade(float32(c.in))); math.Abs(got-c.want) > 1e-6 {
			t.Errorf("fade(%g) = %g, want %g", c.in, got, c.want)
		}
	}
	const h = 1e-3
	for k := range 200 {
		p := float32(k)*0.0371 - 3
		if d := gradient(p+h, 1.3, -0.7, 9) - gradient(p, 1.3, -0.7, 9); math.Abs(float64(d)) > 6*h {
			t.Errorf("a jump of %g at %g", d, p)
		}
	}
}

// The noise keeps to 0–1 about a half, and another seed gives another field.
func TestNoiseUsesItsRange(t *testing.T) {
	x, y, z := points(40000, 3, 100)
	a, b := make([]float32, len(x)), make([]float32, len(x))
	Noise(x, y, z, 1, 5, 0.55, 1, a)
	Noise(x, y, z, 1, 5, 0.55, 2, b)
	mean, sq, cross, lo, hi := 0.0, 0.0, 0.0, 1.0, 0.0
	for i := range a {
		v, w := float64(a[i])-0.5, float64(b[i])-0.5
		mean += v
		sq += v * v
		cross += v * w
		lo, hi = min(lo, float64(a[i])), max(hi, float64(a[i]))
	}
	n := float64(len(a))
	if math.Abs(mean/n) > 0.01 || math.Sqrt(sq/n) < 0.08 || lo < -0.1 || hi > 1.1 {
		t.Errorf("mean %.3f, deviation %.3f, from %.2f to %.2f", 0.5+mean/n, math.Sqrt(sq/n), lo, hi)
	}
	if c := cross / sq; math.Abs(c) > 0.05 {
		t.Errorf("two seeds correlate by %.3f", c)
	}
}

func fillOne(t *testing.T, kind string, b Block, p []float64, pick []bool) float64 {
	t.Helper()
	k, err := KindOf(kind)
	if err != nil {
		t.Fatal(err)
	}
	out := make([]float32, 1)
	k.Fill(&b, p, pick, out)
	return float64(out[0])
}

// What each kind means, by its definition in the vocabulary.
func TestKindsMeanWhatTheySay(t *testing.T) {
	one := func(v float32) []float32 { return []float32{v} }
	b := Block{X: one(0), Y: one(0.6), Z: one(0), NX: one(0), NY: one(1), NZ: one(0), AO: one(0.25), Curve: one(0.8), Tight: one(0.3), Part: []int32{1}, Floor: geom.Vec3{Y: 0.1}}
	cos60 := 0.5
	for _, c := range []struct {
		name, kind string
		p          []float64
		pick       []bool
		want       float64
	}{
		{"convex", "edges", []float64{0}, nil, 0.6},
		{"convex is no crevice", "crevices", []float64{0}, nil, 0},
		{"concave over half the radius", "crevices", []float64{1}, nil, 0.4},
		{"a curvature that is missing", "edges", []float64{2}, nil, 0.6},
		{"shelter is one less visibility", "shelter", nil, nil, 0.75},
		{"straight up", "facing", []float64{0, 60}, nil, 1},
		{"sideways, in a cone of 180°", "facing", []float64{2, 180}, nil, 0.5},
		{"sideways, out of a cone of 60°", "facing", []float64{2, 60}, nil, max(0, (0-cos60)/(1-cos60))},
		{"half way up", "reach", []float64{0, 0, 1}, nil, 0.5},
		{"above the end", "reach", []float64{0, 0, 0.4}, nil, 0},
		{"chosen part", "parts", nil, []bool{false, true}, 1},
		{"other part", "parts", nil, []bool{true, false}, 0},
	} {
		if got := fillOne(t, c.kind, b, c.p, c.pick); math.Abs(got-c.want) > 1e-6 {
			t.Errorf("%s: %.4f, want %.4f", c.name, got, c.want)
		}
	}
}

func TestLengthsAreWrittenAsPeopleSayThem(t *testing.T) {
	for m, want := range map[float64]string{0: "0 m", 0.004: "4 mm", 0.25: "25 cm", 1.2: "1.2 m", -0.03: "-3 cm"} {
		if got := Length(m); got != want {
			t.Errorf("%g m is written %q, want %q", m, got, want)
		}
	}
}

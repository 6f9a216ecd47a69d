package pixel

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

// IEC 61966-2-1: the knee, 0.18 and 0.5, and both directions back to back.
func TestSRGBFollowsIEC61966(t *testing.T) {
	for _, c := range []struct{ linear, encoded float64 }{{0, 0}, {0.0031308, 0.0404500}, {0.18, 0.4614}, {0.2140, 0.5}, {1, 1}} {
		if got := float64(ToSRGB(float32(c.linear))); math.Abs(got-c.encoded) > 1e-4 {
			t.Errorf("linear %g encodes to %.5f, want %.5f", c.linear, got, c.encoded)
		}
		if got := float64(FromSRGB(float32(c.encoded))); math.Abs(got-c.linear) > 1e-4 {
			t.Errorf("encoded %g decodes to %.5f, want %.5f", c.encoded, got, c.linear)
		}
	}
	for i := range 256 {
		v := float32(i) / 255
		if got := Q8(ToSRGB(FromSRGB(v))); int(got) != i {
			t.Errorf("code %d comes back as %d", i, got)
		}
	}
}

// W3C, Compositing and Blending Level 1, §9.1: B(Cb, Cs) written out anew from the standard's text.
var standard = map[string]func(cb, cs float64) float64{
	"over":     func(cb, cs float64) float64 { return cs },
	"multiply": func(cb, cs float64) float64 { return cb * cs },
	"screen":   func(cb, cs float64) float64 { return cb + cs - cb*cs },
	"overlay": func(cb, cs float64) float64 {
		if cb <= 0.5 {
			return cs * 2 * cb
		}
		return cs + (2*cb - 1) - cs*(2*cb-1)
	},
	"darken":  math.Min,
	"lighten": math.Max,
	"hard-light": func(cb, cs float64) float64 {
		if cs <= 0.5 {
			return cb * 2 * cs
		}
		return cb + (2*cs - 1) - cb*(2*cs-1)
	},
	"soft-light": func(cb, cs float64) float64 {
		if cs <= 0.5 {
			return cb - (1-2*cs)*cb*(1-cb)
		}
		d := math.Sqrt(cb)
		if cb <= 0.25 {
			d = ((16*cb-12)*cb + 4) * cb
		}
		return cb + (2*cs-1)*(d-cb)
	},
	"difference": func(cb, cs float64) float64 { return math.Abs(cb - cs) },
	// Common practice; the standard has no such mode.
	"add": func(cb, cs float64) float64 { return cb + cs },
}

// §5.8 over an opaque backdrop: Co = (1 − αs)·Cb + αs·B(Cb, Cs), on a grid of values and alphas.
func TestBlendModesFollowTheW3CFormulas(t *testing.T) {
	for _, b := range Blends {
		want := standard[b.Name]
		if want == nil {
			t.Errorf("%s has no formula to compare with", b.Name)
			continue
		}
		for cs := 0.0; cs <= 1; cs += 0.05 {
			var below, alpha, expect []float32
			for cb := 0.0; cb <= 1; cb += 0.05 {
				for a := 0.0; a <= 1; a += 0.25 {
					below, alpha = append(below, float32(cb)), append(alpha, float32(a))
					expect = append(expect, float32((1-a)*cb+a*want(cb, cs)))
				}
			}
			was := append([]float32{}, below...)
			b.Lay(below, float32(cs), alpha)
			for i := range below {
				if math.Abs(float64(below[i]-expect[i])) > 2e-6 {
					t.Fatalf("%s of %.2f over %.2f at alpha %.2f: %.6f, want %.6f", b.Name, cs, was[i], alpha[i], below[i], expect[i])
				}
			}
		}
	}
	if _, err := BlendOf("dissolve-ish"); err == nil {
		t.Error("an unknown mode is accepted")
	}
}

// Schlick's bias and gain (Graphics Gems IV): bias(0.5, b) = b; gain(0.25, g) = bias(0.5, 1−g)/2 at
// the curve's quarter; both keep 0, and 1, and a half of 0.5 is straight.
func TestShapeFollowsSchlick(t *testing.T) {
	apply := func(s Shape, x float32) float64 {
		v := []float32{x}
		s.Apply(v)
		return float64(v[0])
	}
	near := func(name string, got, want float64) {
		t.Helper()
		if math.Abs(got-want) > 1e-5 {
			t.Errorf("%s: %.6f, want %.6f", name, got, want)
		}
	}
	s := NewShape()
	for _, x := range []float32{0, 0.2, 0.5, 0.9, 1} {
		near("neutral", apply(s, x), float64(x))
	}
	for _, b := range []float32{0.1, 0.3, 0.7} {
		s := NewShape()
		s.Balance = b
		near("bias at a half", apply(s, 0.5), float64(b))
		near("bias at 1", apply(s, 1), 1)
	}
	s.Contrast = 0.5
	g := 0.5 - 0.496*0.5 // our contrast 0–1 as Schlick's gain 0.5–0.004
	quarter := 0.25 / ((1/g-2)*(1-2*0.25) + 1)
	near("gain at a quarter", apply(s, 0.25), quarter)
	near("gain at three quarters", apply(s, 0.75), 1-quarter)
	near("gain at a half", apply(s, 0.5), 0.5)
	s = NewShape()
	s.Low, s.High, s.Invert = 0.2, 0.6, true
	near("levels and invert", apply(s, 0.3), 0.75)
	near("below low", apply(s, 0.1), 1)
	s.Low, s.High, s.Invert = 0.6, 0.2, false
	near("low above high turns the ramp", apply(s, 0.3), 0.75)
}

func TestVectorKernelsAgreeWithThePlainOnes(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for round := range 50 {
		n := 1 + r.IntN(100)
		a, b, alpha := make([]float32, n), make([]float32, n), make([]float32, n)
		for i := range a {
			a[i], alpha[i] = r.Float32()*1.4-0.2, r.Float32()
			b[i] = a[i]
		}
		c := curve{low: 0.1, scale: 1 / (0.2 + r.Float32()), bias: 3*r.Float32() - 1, gain: r.Float32() * 50, plain: round%5 == 0, flip: float32(round % 2), sign: 1 - 2*float32(round%2)}
		shape(a, &c)
		shapePlain(b, &c)
		for i := range a {
			if math.Abs(float64(a[i]-b[i])) > 1e-5 {
				t.Fatalf("shape: %g and %g", a[i], b[i])
			}
		}
		layLine(a, -0.6, 0.3, alpha)
		layLinePlain(b, -0.6, 0.3, alpha)
		for i := range a {
			if math.Abs(float64(a[i]-b[i])) > 1e-5 {
				t.Fatalf("over: %g and %g", a[i], b[i])
			}
		}
		own, cover := make([]float32, n), make([]float32, n)
		for i := range own {
			own[i], cover[i] = r.Float32(), r.Float32()
			if i%7 == 0 {
				alpha[i] = 0
			}
			if i%5 == 0 {
				cover[i] = 0
			}
		}
		for _, k := range []struct {
			name        string
			fast, plain func(to []float32)
		}{
			{"fade", func(to []float32) { fade(to, own, alpha) }, func(to []float32) { fadePlain(to, own, alpha) }},
			{"over what covers in part", func(to []float32) { layOver(to, own, alpha, alpha, cover) }, func(to []float32) { layOverPlain(to, own, alpha, alpha, cover) }},
			{"between", func(to []float32) { between(to, own, alpha) }, func(to []float32) { betweenPlain(to, own, alpha) }},
			{"times", func(to []float32) { times(to, own, alpha) }, func(to []float32) { timesPlain(to, own, alpha) }},
			{"scale", func(to []float32) { scale(to, own, 0.3) }, func(to []float32) { scalePlain(to, own, 0.3) }},
		} {
			k.fast(a)
			k.plain(b)
			for i := range a {
				if !(math.Abs(float64(a[i]-b[i])) <= 1e-5) {
					t.Fatalf("%s: %g and %g", k.name, a[i], b[i])
				}
			}
		}
	}
}

// Modes that mix runs of values give what their formulas do.
func TestRunsAreTheModesFormulas(t *testing.T) {
	below, own, out := make([]float32, 100), make([]float32, 100), make([]float32, 100)
	for i := range below {
		below[i], own[i] = float32(i%10)/9, float32(i/10)/9
	}
	for _, m := range Blends {
		m.mix(out, below, own)
		for i, got := range out {
			if want := m.Mix(below[i], own[i]); math.Abs(float64(got-want)) > 1e-6 {
				t.Errorf("%s of %g over %g: %g, want %g", m.Name, own[i], below[i], got, want)
			}
		}
	}
}

// Modes that are laid as lines give what their formulas do.
func TestLinesAreTheModesFormulas(t *testing.T) {
	for _, m := range Blends {
		if m.line == nil {
			continue
		}
		for b := float32(0); b <= 1; b += 0.0625 {
			for s := float32(0); s <= 1; s += 0.0625 {
				slope, lift := m.line(s)
				if got, want := b+b*slope+lift, m.Mix(b, s); math.Abs(float64(got-want)) > 1e-6 {
					t.Errorf("%s of %g over %g: %g, want %g", m.Name, s, b, got, want)
				}
			}
		}
	}
}

// Four planes at once come out as one after the other does.
func TestFourPlanesAreLaidAsEachAlone(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 4))
	for _, n := range []int{0, 3, 16, 100} {
		mask, alpha := make([]uint16, n), make([]float32, n)
		for i := range mask {
			mask[i] = uint16(r.IntN(65536))
			alpha[i] = float32(mask[i]) * 0.7 / 65535
		}
		var got, want [4][]float32
		var lines FourLines
		for k := range got {
			for range n {
				got[k] = append(got[k], r.Float32())
			}
			want[k] = slices.Clone(got[k])
			b, own := Blends[k%3], r.Float32()
			slope, lift, ok := b.Line(own)
			if !ok {
				t.Fatalf("%s is no line", b.Label)
			}
			lines.Slope[k], lines.Lift[k] = slope, lift
			b.Lay(want[k], own, alpha)
		}
		lines.Lay(&got, mask, 0.7/65535)
		for k := range got {
			for i := range got[k] {
				if math.Abs(float64(got[k][i]-want[k][i])) > 1e-6 {
					t.Fatalf("plane %d of %d texels: %g, want %g", k, n, got[k][i], want[k][i])
				}
			}
		}
	}
}

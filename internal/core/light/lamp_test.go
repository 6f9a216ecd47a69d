package light

import (
	"math"
	"testing"

	"crust/internal/core/geom"
)

// Chromaticities against tables: CIE standard illuminants A, D50, D55, D65 and D75 (CIE 15:2004, tables T.3; D's temperatures with the
// constant c2 of today), and Planck's law integrated with the 1931 observer at 2000 and 3000 K (Wyszecki & Stiles, Color Science, 1982,
// table 1(3.11)); the values are from memory.
func TestTemperaturesHaveTheirColours(t *testing.T) {
	for _, c := range []struct{ kelvin, x, y float64 }{
		{2856, 0.44757, 0.40745}, {5003, 0.34567, 0.35850}, {5503, 0.33242, 0.34743}, {6504, 0.31271, 0.32902}, {7504, 0.29902, 0.31485},
		{2000, 0.52669, 0.41331}, {3000, 0.43693, 0.40407},
	} {
		if x, y := Chromaticity(c.kelvin); math.Abs(x-c.x) > 0.0015 || math.Abs(y-c.y) > 0.0015 {
			t.Errorf("%g K: %.5f, %.5f; want %.5f, %.5f", c.kelvin, x, y, c.x, c.y)
		}
	}
	// D65 is the white of sRGB (IEC 61966-2-1), and all have luminance 1.
	if c := Colour(6504); math.Abs(c[0]-1) > 0.01 || math.Abs(c[1]-1) > 0.01 || math.Abs(c[2]-1) > 0.01 {
		t.Errorf("6504 K is %.3f", c)
	}
	last := math.Inf(1)
	for k := 1000.0; k <= 20000; k += 100 {
		c := Colour(k)
		if l := Luminance(c); math.Abs(l-1) > 1e-6 || min(c[0], c[1], c[2]) < 0 {
			t.Fatalf("%g K: %.3f of luminance %g", k, c, l)
		}
		if warm := c[0] / (c[2] + 1e-3); warm > last*1.02 {
			t.Errorf("%g K is warmer than 100 K less", k)
		} else {
			last = warm
		}
	}
}

// A point of Φ lumens has Φ/4π candela; an area Φ/(π·A) nits; a spot as much as its cone holds. EV 15 at ISO 100 is full sun on a scene
// (common practice): 1.2 · 2¹⁵ nits are where a film ends.
func TestUnitsOfLight(t *testing.T) {
	p := Lamp{Kind: Point, Strength: 800}
	if got := p.Candela(); math.Abs(got-63.66) > 0.01 {
		t.Errorf("a lamp of 800 lm has %.2f cd, want 63.66", got)
	}
	a := Lamp{Kind: Area, Strength: 1000, Wide: 0.5, High: 0.4}
	if got := a.Nits(); math.Abs(got-1591.55) > 0.01 {
		t.Errorf("1000 lm from 0.2 m² are %.2f nits, want 1591.55", got)
	}
	// All that a spot sends out, ring by ring, is its lumens.
	for _, soft := range []float32{0, 0.2, 0.5} {
		s := Lamp{Kind: Spot, Strength: 500, Cone: 30, Soft: soft}
		sum := 0.0
		const n = 20000
		for i := range n {
			c := 1 - (float64(i)+0.5)/n*(1-math.Cos(30*math.Pi/180))
			sum += s.Candela() * s.Falloff(c) * 2 * math.Pi * (1 - math.Cos(30*math.Pi/180)) / n
		}
		if math.Abs(sum/500-1) > 1e-3 {
			t.Errorf("softness %g: a spot of 500 lm sends out %.1f", soft, sum)
		}
	}
	if got := 1 / Exposure(15); math.Abs(got-39321.6) > 0.1 {
		t.Errorf("EV 15 ends at %.1f nits, want 39321.6", got)
	}
	if r := Exposure(9) / Exposure(10); math.Abs(r-2) > 1e-12 {
		t.Errorf("a stop is a factor of %g", r)
	}
}

// Directions are picked as often as Density says, and what they bring makes up all the light; turned surroundings are the same, turned.
func TestSkiesAreSampledByTheirLight(t *testing.T) {
	for i := range All {
		s := &All[i]
		e := s.Panorama(64)
		sky := e.Sky(0.7, 1)
		for _, n := range []geom.Vec3{{Y: 1}, {X: 0.6, Y: 0.8}, {Z: -1}} {
			want := sky.Irradiance(n)
			var sum geom.Vec3
			total := 0.0
			const many = 200
			for a := range many {
				for b := range many {
					d, p := sky.Sample((float64(a)+0.5)/many, (float64(b)+0.5)/many)
					if q := sky.Density(d); math.Abs(q/p-1) > 1e-3 && a%7 == 0 {
						// A direction on the rim of a texel may count for the next one.
						total++
					}
					if c := d.Dot(n); c > 0 {
						sum = sum.Add(sky.Light(d).Mul(c / float32(p) / (many * many)))
					}
				}
			}
			if total > many*many/7*0.02 {
				t.Errorf("%s: %g densities differ", s.Name, total)
			}
			if math.Abs(float64(sum.Y/want.Y-1)) > 0.04 {
				t.Errorf("%s, a plane that faces %v: %.4f, want %.4f", s.Name, n, sum.Y, want.Y)
			}
		}
		plain := e.Sky(0, 1)
		d := geom.Vec3{X: 0.48, Y: 0.6, Z: 0.64}
		sin, cos := math.Sincos(0.7)
		turned := geom.Vec3{X: float32(cos)*d.X + float32(sin)*d.Z, Y: d.Y, Z: float32(cos)*d.Z - float32(sin)*d.X}
		if a, b := plain.Light(d), sky.Light(turned); a.Dist(b) > 1e-3*(1+a.Len()) {
			t.Errorf("%s: turned, %v is %v", s.Name, a, b)
		}
	}
}

func TestLampsAreChecked(t *testing.T) {
	good := Lamp{Kind: Spot, Kelvin: 4000, Strength: 100, Cone: 20}
	if err := good.Check(); err != nil {
		t.Error(err)
	}
	nan := float32(math.NaN())
	for _, change := range []func(l *Lamp){func(l *Lamp) { l.Kind = "torch" }, func(l *Lamp) { l.Kelvin = 10 }, func(l *Lamp) { l.Strength = nan }, func(l *Lamp) { l.At[1] = nan }, func(l *Lamp) { l.Cone = 0 },
		func(l *Lamp) { l.Kind, l.Wide = Area, 0 }, func(l *Lamp) { l.Soft = 2 }} {
		l := good
		if change(&l); l.Check() == nil {
			t.Errorf("%+v is taken", l)
		}
	}
	for _, l := range []Lamp{{Kind: SunUp, Strength: 300_000}, {Kind: Point, Strength: 600_000}, {Kind: Area, Strength: 1000, Wide: 0.01}} {
		if l.Unlikely() == "" {
			t.Errorf("%+v is likely", l)
		}
	}
	if l := (Lamp{Kind: Point, Strength: 800}); l.Unlikely() != "" {
		t.Error(l.Unlikely())
	}
}

// A picture becomes a panorama with its light in place: straight up at its upper rim, once round from its left rim on, and as bright.
func TestAPictureBecomesSurroundings(t *testing.T) {
	const w, h = 200, 100
	e := FromPicture(w, h, 3, func(i int) float32 {
		x, y, c := i/3%w, i/3/w, i%3
		return []float32{float32(x) / w, float32(y) / h, 4}[c]
	})
	sky := e.Sky(0, 1)
	for _, c := range []struct {
		d    geom.Vec3
		x, y float64
	}{{geom.Vec3{X: 0.6, Y: 0.8}, 0, math.Acos(0.8) / math.Pi}, {geom.Vec3{Z: 1}, 0.25, 0.5}, {geom.Vec3{X: -1}, 0.5, 0.5}, {geom.Vec3{Z: -1}, 0.75, 0.5}} {
		got := sky.Light(c.d)
		if c.x == 0 {
			c.x, got.X = 0.5, 0.5+got.X-0.5 // at the seam it is between 0 and 1
		}
		if math.Abs(float64(got.X)-c.x) > 0.02 || math.Abs(float64(got.Y)-c.y) > 0.02 || math.Abs(float64(got.Z)-4) > 1e-4 {
			t.Errorf("%v: %v, want %.3f, %.3f, 4", c.d, got, c.x, c.y)
		}
	}
	if small := e.Small(64); small.Width != 64 || small.Height != 32 || math.Abs(float64(small.Pix[2])-4) > 1e-4 {
		t.Errorf("in small it is %d × %d", small.Width, small.Height)
	}
	grey := FromPicture(32, 16, 1, func(int) float32 { return 0.5 })
	if p := grey.Sky(0, 2).Light(geom.Vec3{Y: 1}); p != (geom.Vec3{X: 1, Y: 1, Z: 1}) {
		t.Errorf("grey of 0.5, twice as bright, is %v", p)
	}
}

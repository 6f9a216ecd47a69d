// Package pixel holds colour transfer, quantisation, blend modes and the shaping of values.
package pixel

import (
	"fmt"
	"math"
	"strings"

	"crust/internal/core/geom"
)

// ToSRGB encodes a linear value in 0–1 (IEC 61966-2-1).
func ToSRGB(v float32) float32 {
	if v <= 0.0031308 {
		return v * 12.92
	}
	return float32(1.055*math.Pow(float64(v), 1/2.4) - 0.055)
}

// FromSRGB decodes to linear (IEC 61966-2-1).
func FromSRGB(v float32) float32 {
	if v <= 0.04045 {
		return v / 12.92
	}
	return float32(math.Pow((float64(v)+0.055)/1.055, 2.4))
}

// Q8 is the nearest 8-bit value.
func Q8(v float32) uint8 { return uint8(geom.Clamp01(v)*255 + 0.5) }

// Q16 is the nearest 16-bit value.
func Q16(v float32) uint16 { return uint16(geom.Clamp01(v)*65535 + 0.5) }

// Blend is a way to mix a value with the one below it.
type Blend struct {
	Name, Label string
	// Mix returns the mixed value from the one below and the layer's own, before opacity.
	Mix func(below, own float32) float32
	// line gives the mixed value less the one below as below · slope + lift; nil where it is no such line.
	line func(own float32) (slope, lift float32)
	// each is Mix of runs of values, for modes that are used most; nil where Mix does.
	each func(out, below, own []float32)
}

// Blends lists the modes: the separable ones of W3C, Compositing and Blending Level 1, which act on
// sRGB-encoded values as the standard's own examples do, and add, which is common practice.
var Blends = []Blend{
	{"over", "Over", func(b, s float32) float32 { return s }, func(s float32) (float32, float32) { return -1, s }, nil},
	{"multiply", "Multiply", func(b, s float32) float32 { return b * s }, func(s float32) (float32, float32) { return s - 1, 0 }, multiplyEach},
	{"screen", "Screen", screen, func(s float32) (float32, float32) { return -s, s }, screenEach},
	{"overlay", "Overlay", func(b, s float32) float32 { return hardLight(s, b) }, nil, nil},
	{"darken", "Darken", func(b, s float32) float32 { return min(b, s) }, nil, nil},
	{"lighten", "Lighten", func(b, s float32) float32 { return max(b, s) }, nil, nil},
	{"hard-light", "Hard light", hardLight, nil, nil},
	{"soft-light", "Soft light", softLight, nil, nil},
	{"difference", "Difference", func(b, s float32) float32 { return max(b-s, s-b) }, nil, nil},
	{"add", "Add", func(b, s float32) float32 { return b + s }, func(s float32) (float32, float32) { return 0, s }, addEach},
}

func multiplyEach(out, below, own []float32) {
	for i, b := range below[:len(out)] {
		out[i] = b * own[i]
	}
}

func screenEach(out, below, own []float32) {
	for i, b := range below[:len(out)] {
		out[i] = b + own[i] - b*own[i]
	}
}

func addEach(out, below, own []float32) {
	for i, b := range below[:len(out)] {
		out[i] = b + own[i]
	}
}

func screen(b, s float32) float32 { return b + s - b*s }

func hardLight(b, s float32) float32 {
	if s <= 0.5 {
		return b * 2 * s
	}
	return screen(b, 2*s-1)
}

func softLight(b, s float32) float32 {
	if s <= 0.5 {
		return b - (1-2*s)*b*(1-b)
	}
	d := float32(math.Sqrt(float64(b)))
	if b <= 0.25 {
		d = ((16*b-12)*b + 4) * b
	}
	return b + (2*s-1)*(d-b)
}

// Straight tells whether what the mode makes rises in a straight line with what lies below.
func (b Blend) Straight() bool { return b.line != nil }

// BlendOf finds a mode by name; the empty name is over.
func BlendOf(name string) (Blend, error) {
	if name == "" {
		return Blends[0], nil
	}
	for i := range Blends {
		if Blends[i].Name == name {
			return Blends[i], nil
		}
	}
	var names []string
	for i := range Blends {
		names = append(names, Blends[i].Name)
	}
	return Blend{}, fmt.Errorf("“%s” is not a blend mode; use %s", name, strings.Join(names, ", "))
}

// Lay mixes own into below over a run of texels: below + (mix − below) · alpha.
func (b Blend) Lay(below []float32, own float32, alpha []float32) {
	below = below[:len(alpha)]
	if b.line != nil {
		slope, lift := b.line(own)
		layLine(below, slope, lift, alpha)
		return
	}
	for i, a := range alpha {
		if a > 0 {
			below[i] += (b.Mix(below[i], own) - below[i]) * a
		}
	}
}

// Line says that Lay of a value adds below · slope + lift, times alpha; false where a mode is no straight line.
func (b Blend) Line(own float32) (slope, lift float32, ok bool) {
	if b.line == nil {
		return 0, 0, false
	}
	slope, lift = b.line(own)
	return slope, lift, true
}

// FourLines is a straight line for each of four planes.
type FourLines struct{ Slope, Lift [4]float32 }

// Lay lays on four planes at once through a mask in 16 bits, of which 1 is worth scale.
func (l *FourLines) Lay(planes *[4][]float32, mask []uint16, scale float32) {
	n := layFour(planes, l, mask, scale)
	for i, q := range mask[n:] {
		a := float32(q) * scale
		for k := range planes {
			b := planes[k][n+i]
			planes[k][n+i] = b + (b*l.Slope[k]+l.Lift[k])*a
		}
	}
}

// Shape turns a clause's field into how much it lets through.
type Shape struct {
	Low      float32 `json:"low"`      // field value that becomes 0
	High     float32 `json:"high"`     // field value that becomes 1
	Balance  float32 `json:"balance"`  // 0.5 is even; more lets more through
	Contrast float32 `json:"contrast"` // 0 leaves the slope, 1 is nearly a step
	Invert   bool    `json:"invert"`
	Strength float32 `json:"strength"`         // how much the clause counts, 0–1
	Soften   float32 `json:"soften,omitempty"` // metres over which it is averaged along the surface
	Warp     float32 `json:"warp,omitempty"`   // metres by which a noise pushes the place that is read about
	Waves    float32 `json:"waves,omitempty"`  // size of that noise in metres; 0 is five times as far as it pushes
}

// MaxSoften is the largest radius of softening, and the farthest push of a warp, in metres.
const MaxSoften = 20

// NewShape changes nothing.
func NewShape() Shape { return Shape{High: 1, Balance: 0.5, Strength: 1} }

// Check says what is wrong with the shape.
func (s Shape) Check() error {
	for _, v := range []struct {
		name string
		v    float32
	}{{"low", s.Low}, {"high", s.High}, {"balance", s.Balance}, {"contrast", s.Contrast}, {"strength", s.Strength}} {
		if !(v.v >= 0 && v.v <= 1) {
			return fmt.Errorf("%s is %g; it goes from 0 to 1", v.name, v.v)
		}
	}
	if !(s.Soften >= 0 && s.Soften <= MaxSoften) {
		return fmt.Errorf("soften is %g; it goes from 0 to %d m", s.Soften, MaxSoften)
	}
	if !(s.Warp >= 0 && s.Warp <= MaxSoften && s.Waves >= 0 && s.Waves <= 100) {
		return fmt.Errorf("warp is %g by waves of %g; they go from 0 to %d and 100 m", s.Warp, s.Waves, MaxSoften)
	}
	return nil
}

// curve is a shape made ready for its kernel.
type curve struct {
	low, scale float32
	bias, gain float32
	plain      bool // bias and gain leave the value as it is
	flip       float32
	sign       float32 // result = flip + sign · t
}

// Apply shapes a run of field values in place, but for softening, warp and strength. Balance and contrast are the bias and gain curves of
// Schlick, Fast Alternatives to Perlin's Bias and Gain Functions (Graphics Gems IV, 1994).
func (s Shape) Apply(v []float32) {
	width := s.High - s.Low
	if width > -1e-4 && width < 1e-4 {
		width = 1e-4
	}
	c := curve{low: s.Low, scale: 1 / width, bias: 1/min(max(s.Balance, 0.001), 0.999) - 2, gain: 1/(0.5-0.496*s.Contrast) - 2, sign: 1}
	c.plain = c.bias == 0 && s.Contrast == 0
	if s.Invert {
		c.flip, c.sign = 1, -1
	}
	shape(v, &c)
}

func shapePlain(v []float32, c *curve) {
	for i, x := range v {
		t := geom.Clamp01((x - c.low) * c.scale)
		if !c.plain {
			// Bias makes t / under of t; gain follows in the same division, for each half.
			under := c.bias*(1-t) + 1
			if d := under - 2*t; d >= 0 {
				t = t / (c.gain*d + under)
			} else {
				t = 1 - (under-t)/(under-c.gain*d)
			}
		}
		v[i] = c.flip + c.sign*t
	}
}

func layLinePlain(below []float32, slope, lift float32, alpha []float32) {
	below = below[:len(alpha)]
	for i, a := range alpha {
		below[i] += (below[i]*slope + lift) * a
	}
}

// IsHex reports whether a text is a colour written as #rrggbb.
func IsHex(s string) bool {
	if len(s) != 7 || s[0] != '#' {
		return false
	}
	for _, c := range s[1:] {
		if !(c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F') {
			return false
		}
	}
	return true
}

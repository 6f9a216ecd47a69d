package light

import (
	"errors"
	"fmt"
	"math"
)

// Kinds of lamps.
const (
	Point = "point"
	Spot  = "spot"
	Area  = "area" // a rectangle or a disk that shines to one side
	SunUp = "sun"  // parallel light from far away
)

// Kinds lists them in the order in which they are offered.
var Kinds = []string{Point, Spot, Area, SunUp}

// Lamp is a light that is put up beside the surroundings.
type Lamp struct {
	Name     string     `json:"name"`
	Kind     string     `json:"kind"`
	Off      bool       `json:"off,omitempty"`
	At       [3]float32 `json:"at"`       // metres; of a sun only the way to it from Aim counts
	Aim      [3]float32 `json:"aim"`      // metres, where it points to
	Kelvin   float32    `json:"kelvin"`   // correlated colour temperature
	Strength float32    `json:"strength"` // lumens of a point, spot or area; lux of a sun
	Wide     float32    `json:"wide"`     // metres: of an area; the diameter of a disk, or of the ball of a point or spot
	High     float32    `json:"high"`     // metres: of an area; 0 for a disk
	Cone     float32    `json:"cone"`     // degrees from the middle of a spot to its rim
	Soft     float32    `json:"soft"`     // share of the cone over which a spot fades
}

// Limits of a lamp.
const (
	MaxLamps    = 16
	LeastKelvin = 1000
	MostKelvin  = 20000
	MostLumens  = 1e7
)

// Check says the first thing that is wrong with a lamp.
func (l *Lamp) Check() error {
	known := false
	for _, k := range Kinds {
		known = known || k == l.Kind
	}
	far := func(v [3]float32) bool {
		for _, x := range v {
			if !(x >= -1e5 && x <= 1e5) {
				return true
			}
		}
		return false
	}
	switch {
	case !known:
		return fmt.Errorf("“%s” is not a kind of lamp; use %v", l.Kind, Kinds)
	case len(l.Name) > 80:
		return errors.New("a lamp's name is too long")
	case far(l.At) || far(l.Aim):
		return errors.New("a lamp does not stand anywhere near")
	case !(l.Kelvin >= LeastKelvin && l.Kelvin <= MostKelvin):
		return fmt.Errorf("a lamp has %g K; it goes from %d to %d", l.Kelvin, LeastKelvin, MostKelvin)
	case !(l.Strength >= 0 && l.Strength <= MostLumens):
		return fmt.Errorf("a lamp's strength is %g; it goes from 0 to %g", l.Strength, MostLumens)
	case !(l.Wide >= 0 && l.Wide <= 1000) || !(l.High >= 0 && l.High <= 1000):
		return errors.New("a lamp is wider or higher than 1000 m, or less than nothing")
	case l.Kind == Area && l.Wide == 0:
		return errors.New("an area lamp has no width")
	case !(l.Cone >= 0 && l.Cone <= 90) || l.Kind == Spot && l.Cone < 1:
		return fmt.Errorf("the cone of a spot is %g°; it goes from 1 to 90", l.Cone)
	case !(l.Soft >= 0 && l.Soft <= 1):
		return errors.New("the softness of a spot goes from 0 to 1")
	}
	return nil
}

// Candela is the luminous intensity along the middle, of what is not an area: lumens spread over the solid angle (a spot's is that of
// its cone, of which its rim counts half).
func (l *Lamp) Candela() float64 {
	switch l.Kind {
	case Point:
		return float64(l.Strength) / (4 * math.Pi)
	case Spot:
		inner, outer := l.rims()
		return float64(l.Strength) / (2 * math.Pi * (1 - (inner+outer)/2))
	}
	return 0
}

// Surface is the area of an area lamp in m².
func (l *Lamp) Surface() float64 {
	if l.High == 0 {
		r := float64(l.Wide) / 2
		return math.Pi * r * r
	}
	return float64(l.Wide) * float64(l.High)
}

// Nits is the luminance of an area lamp that spreads its lumens by Lambert's law: Φ = π · L · A.
func (l *Lamp) Nits() float64 { return float64(l.Strength) / (math.Pi * l.Surface()) }

// rims are the cosines of where a spot begins to fade and where it ends.
func (l *Lamp) rims() (inner, outer float64) {
	outer = math.Cos(float64(l.Cone) * math.Pi / 180)
	return max(outer+1e-6, math.Cos(float64(l.Cone)*(1-float64(l.Soft))*math.Pi/180)), outer
}

// Falloff is a spot's share of its intensity at an angle whose cosine is c: full inside, then smoothly to nothing at its rim.
func (l *Lamp) Falloff(c float64) float64 {
	inner, outer := l.rims()
	t := min(1, max(0, (c-outer)/(inner-outer)))
	return t * t * (3 - 2*t)
}

// Unlikely says what of a lamp no real one has; empty where all is likely.
func (l *Lamp) Unlikely() string {
	switch {
	case l.Kind == SunUp && l.Strength > 120_000:
		return "The sun gives no more than about 120,000 lux."
	case l.Kind != SunUp && l.Strength > 500_000:
		return "Film lights end at about 500,000 lumens."
	case l.Kind == Area && l.Nits() > 1e6:
		return "So bright a surface would be the filament of a lamp; make it larger or weaker."
	}
	return ""
}

// Chromaticity is the CIE 1931 x, y of a temperature: daylight from 4000 K on (CIE 15:2004, §3.2), below it the fit of the Planckian
// locus by Kim et al. (US patent 7024034, 2006), which ends at 1667 K; down to 1000 K it goes on as at that.
func Chromaticity(kelvin float64) (x, y float64) {
	t := kelvin
	if t >= 4000 {
		switch {
		case t <= 7000:
			x = -4.6070e9/(t*t*t) + 2.9678e6/(t*t) + 0.09911e3/t + 0.244063
		default:
			x = -2.0064e9/(t*t*t) + 1.9018e6/(t*t) + 0.24748e3/t + 0.237040
		}
		return x, -3.000*x*x + 2.870*x - 0.275
	}
	t = max(t, 1667)
	x = -0.2661239e9/(t*t*t) - 0.2343589e6/(t*t) + 0.8776956e3/t + 0.179910
	if t < 2222 {
		return x, -1.1063814*x*x*x - 1.34811020*x*x + 2.18555832*x - 0.20219683
	}
	return x, -0.9549476*x*x*x - 1.37418593*x*x + 2.09137015*x - 0.16748867
}

// Colour is linear sRGB (IEC 61966-2-1) of luminance 1 at a temperature; what lies outside of sRGB is cut to its rim.
func Colour(kelvin float64) (rgb [3]float64) {
	x, y := Chromaticity(kelvin)
	X, Z := x/y, (1-x-y)/y
	rgb = [3]float64{3.2404542*X - 1.5371385 - 0.4985314*Z, -0.9692660*X + 1.8760108 + 0.0415560*Z, 0.0556434*X - 0.2040259 + 1.0572252*Z}
	for k := range rgb {
		rgb[k] = max(0, rgb[k])
	}
	l := Luminance(rgb)
	for k := range rgb {
		rgb[k] /= l
	}
	return rgb
}

// Luminance of linear sRGB (Rec. ITU-R BT.709).
func Luminance(c [3]float64) float64 { return 0.2126*c[0] + 0.7152*c[1] + 0.0722*c[2] }

// Exposure turns luminances in nits into values of which 1 is the brightest that a film would hold at an exposure value for ISO 100:
// 1.2 · 2^EV nits (ISO 12232:2006, saturation-based speed, with a lens that lets 65 % through).
func Exposure(ev float64) float64 { return 1 / (1.2 * math.Exp2(ev)) }

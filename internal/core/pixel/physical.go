package pixel

import "fmt"

// Plausible is the ranges that real surfaces keep to. Base colours of what is no metal lie between 30 and 240 in sRGB, common
// practice: charcoal is 0.03 of light, fresh snow 0.9. What is metallic in part is a mixture that no surface is, but at the
// rims of dirt and rust. Bare metals reflect about half of light and more.
type Plausible struct {
	Dark   float32 `json:"dark"` // sRGB, of the brightest channel
	Light  float32 `json:"light"`
	None   float32 `json:"none"`   // metallic up to here is none
	Whole  float32 `json:"whole"`  // and from here on whole
	Mirror float32 `json:"mirror"` // luminance, linear, that metals have at the least
}

// Physical is the check's ranges.
var Physical = Plausible{Dark: 30. / 255, Light: 240. / 255, None: 0.1, Whole: 0.9, Mirror: 0.4}

// Metal is what a polished metal reflects head on, linear.
type Metal struct {
	Name string
	RGB  [3]float32
}

// Metals lists some, rounded, from memory of published tables of reflectance at normal incidence.
var Metals = []Metal{
	{"aluminium", [3]float32{0.91, 0.92, 0.92}}, {"brass", [3]float32{0.91, 0.78, 0.42}}, {"chromium", [3]float32{0.55, 0.56, 0.55}},
	{"copper", [3]float32{0.95, 0.64, 0.54}}, {"gold", [3]float32{1, 0.77, 0.34}}, {"iron", [3]float32{0.56, 0.57, 0.58}},
	{"nickel", [3]float32{0.66, 0.61, 0.53}}, {"platinum", [3]float32{0.67, 0.64, 0.58}}, {"silver", [3]float32{0.97, 0.96, 0.92}},
	{"titanium", [3]float32{0.54, 0.50, 0.45}}, {"zinc", [3]float32{0.66, 0.82, 0.85}},
}

// luminance is by Rec. ITU-R BT.709.
func luminance(rgb [3]float32) float32 { return 0.2126*rgb[0] + 0.7152*rgb[1] + 0.0722*rgb[2] }

// Judge says what no real surface has about a base colour, sRGB-encoded, and a metallic value; nil when all is plausible.
func (p Plausible) Judge(base [3]float32, metallic float32) (out []string) {
	switch {
	case metallic > p.None && metallic < p.Whole:
		out = append(out, fmt.Sprintf("half metal (%.2f): surfaces are metal or not; make it 0 or 1 unless dirt thins out here", metallic))
	case metallic >= p.Whole:
		var linear [3]float32
		for i, v := range base {
			linear[i] = FromSRGB(v)
		}
		if luminance(linear) >= p.Mirror {
			break
		}
		near, far := Metals[0], float32(1e9)
		for _, m := range Metals {
			// By hue: as bright as the metal, how far off.
			scale := luminance(m.RGB) / max(luminance(linear), 1e-4)
			d := float32(0)
			for i := range linear {
				d += (linear[i]*scale - m.RGB[i]) * (linear[i]*scale - m.RGB[i])
			}
			if d < far {
				near, far = m, d
			}
		}
		out = append(out, fmt.Sprintf("darker than bare metal: %s, the nearest in hue, is #%02x%02x%02x; dirt and rust are no metal", near.Name, Q8(ToSRGB(near.RGB[0])), Q8(ToSRGB(near.RGB[1])), Q8(ToSRGB(near.RGB[2]))))
	case max(base[0], base[1], base[2]) < p.Dark:
		out = append(out, fmt.Sprintf("darker than charcoal: some channel of base colour lies at %.0f and more on real surfaces", p.Dark*255))
	case min(base[0], base[1], base[2]) > p.Light:
		out = append(out, fmt.Sprintf("brighter than snow: some channel of base colour lies at %.0f and less on real surfaces", p.Light*255))
	}
	return out
}

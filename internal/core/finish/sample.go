package finish

import "crust/internal/core/strata"

// Band is one of a finish's coats as it is drawn in a core sample.
type Band struct {
	Name  string  `json:"name"`
	Hex   string  `json:"hex"`
	Rough float32 `json:"rough"`
	Metal float32 `json:"metal"`
}

// Sample lists the coats of a finish that lay down colour, lowest first, with its dials at their defaults.
func (f *Finish) Sample() (out []Band) {
	layers, err := f.Lay(new(strata.Document), nil, f.Metres)
	if err != nil {
		panic(err) // defaults are in range, which a test holds
	}
	rough, metal := float32(0.6), float32(0)
	for _, l := range layers {
		w := &l.What
		if w.Roughness.On {
			rough = w.Roughness.Number
		}
		if w.Metallic.On {
			metal = w.Metallic.Number
		}
		if w.Colour.On && w.Colour.Blend == "over" && !l.Hidden {
			out = append(out, Band{l.Name, w.Colour.Hex, rough, metal})
		}
	}
	return out
}

// Package finish holds the built-in finishes: groups of layers with a few dials that fit themselves
// to any baked model.
package finish

import (
	"fmt"
	"strings"

	"crust/internal/core/pixel"
	"crust/internal/core/strata"
)

// Dial moves several parameters of a finish at once.
type Dial struct {
	Name    string  `json:"name"`
	Label   string  `json:"label"`
	Min     float64 `json:"min"`
	Max     float64 `json:"max"`
	Default float64 `json:"default"`
	Help    string  `json:"help"`
}

// Finish makes layers from its dials and the model's size.
type Finish struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	Help  string `json:"help"`
	Dials []Dial `json:"dials"`
	lay   func(d *strata.Document, dial map[string]float64, diagonal float64) []strata.Layer
}

// Finishes lists the built-in finishes.
var Finishes = []Finish{{
	Name:  "worn-marine-paint",
	Title: "Worn marine paint",
	Help:  "two coats of paint over primed steel, rubbed off at the edges, rusting in the seams, with salt and grime",
	Dials: []Dial{
		{"age", "Age", 0, 1, 0.5, "how much paint is gone and how much rust has come"},
		{"grime", "Grime", 0, 1, 0.5, "dirt in sheltered places"},
		{"salt", "Salt", 0, 1, 0.4, "bloom on what faces up"},
		{"hue", "Hue", 0, 360, 6, "colour of the top paint, in degrees round the colour circle"},
		{"scale", "Scale", 0.25, 4, 1, "size of the wear against the model"},
	},
	lay: wornMarinePaint,
}}

// Of finds a finish by its name or title.
func Of(name string) (*Finish, error) {
	var names []string
	for i := range Finishes {
		if f := &Finishes[i]; strings.EqualFold(f.Name, name) || strings.EqualFold(f.Title, name) {
			return f, nil
		}
		names = append(names, Finishes[i].Name)
	}
	return nil, fmt.Errorf("there is no finish “%s”; use %s", name, strings.Join(names, ", "))
}

// Layers makes the finish's layers for a model with the given diagonal in metres. Dials that are not
// given stand at their defaults; unknown names and values out of range are refused.
func (f *Finish) Layers(d *strata.Document, dials map[string]float64, diagonal float64) ([]strata.Layer, error) {
	full := map[string]float64{}
	for _, k := range f.Dials {
		full[k.Name] = k.Default
	}
	for name, v := range dials {
		i := -1
		for j, k := range f.Dials {
			if k.Name == name {
				i = j
			}
		}
		if i < 0 {
			return nil, fmt.Errorf("“%s” has no dial “%s”", f.Title, name)
		}
		if k := f.Dials[i]; !(v >= k.Min && v <= k.Max) {
			return nil, fmt.Errorf("dial “%s” is %g; it goes from %g to %g", name, v, k.Min, k.Max)
		}
		full[name] = v
	}
	return f.lay(d, full, diagonal), nil
}

// Coat is a layer in short form.
type Coat struct {
	Name    string
	Hex     string
	Rough   float32
	Metal   float32
	Height  float32 // millimetres, left alone when 0
	Blend   string
	Opacity float32
	Where   []strata.Clause
	Targets []string
}

// Layer writes the coat out in full.
func (c Coat) Layer(d *strata.Document) strata.Layer {
	l := d.NewLayer(c.Name)
	l.Targets = c.Targets
	l.What.Colour.Hex = c.Hex
	l.What.Colour.Blend = "over"
	if c.Blend != "" {
		l.What.Colour.Blend = c.Blend
	}
	l.What.Roughness.Number = c.Rough
	l.What.Metallic.On, l.What.Metallic.Number = true, c.Metal
	l.What.Height.On, l.What.Height.Number = c.Height != 0, c.Height
	if c.Opacity != 0 {
		l.Opacity = c.Opacity
	}
	if c.Where != nil {
		l.Where = c.Where
	}
	return l
}

// Clauses builds clauses with few words.
type Clauses struct{ Doc *strata.Document }

// Of makes a clause of a kind with a join, shaping and parameters by name.
func (k Clauses) Of(kind, join string, s pixel.Shape, params map[string]float64, parts ...string) strata.Clause {
	c, err := k.Doc.NewClause(kind)
	if err != nil {
		panic(err) // kinds are named in this program's own tables
	}
	c.Join, c.Shape, c.Parts = join, s, parts
	for n, v := range params {
		c.Params[n] = v
	}
	return c
}

// Shaped is the shape from low to high with a contrast; inverted when asked.
func Shaped(low, high, contrast float32, invert bool) pixel.Shape {
	s := pixel.NewShape()
	s.Low, s.High, s.Contrast, s.Invert = low, high, contrast, invert
	return s
}

// wornMarinePaint is written for a model of 3 m; wear grows with the model's size.
func wornMarinePaint(d *strata.Document, dial map[string]float64, diagonal float64) []strata.Layer {
	k := Clauses{d}
	age, grime, salt := float32(dial["age"]), float32(dial["grime"]), float32(dial["salt"])
	size := dial["scale"] * max(0.05, diagonal) / 3
	noise := func(join string, low, high, contrast float32, invert bool, metres, seed float64) strata.Clause {
		return k.Of("noise", join, Shaped(low, high, contrast, invert), map[string]float64{"size": min(20, max(0.001, metres*size)), "seed": seed, "detail": 6})
	}
	edge := func(join string, low, high float32, invert bool) strata.Clause {
		return k.Of("edges", join, Shaped(low, high, 0.2, invert), nil)
	}
	coats := []Coat{
		{Name: "Bare steel", Hex: "#86847e", Rough: 0.42, Metal: 1},
		{Name: "Rust bed", Hex: "#5b3a26", Rough: 0.9, Height: 0.15,
			Where: []strata.Clause{noise("and", 0.62-0.2*age, 0.70-0.16*age, 0.3, false, 0.06, 3)}},
		{Name: "Primer", Hex: "#8d8578", Rough: 0.7, Height: 0.12,
			Where: []strata.Clause{edge("and", 0.52-0.2*age, 0.8-0.2*age, true), noise("or", 0.48+0.12*age, 0.58+0.12*age, 0.5, false, 0.05, 7), noise("and", 0.72-0.2*age, 0.76-0.2*age, 0.6, true, 0.22, 11)}},
		{Name: "Top paint", Hex: Hue(dial["hue"], 0.68, 0.62), Rough: 0.46, Height: 0.2,
			Where: []strata.Clause{edge("and", 0.46-0.2*age, 0.72-0.2*age, true), noise("or", 0.52+0.12*age, 0.6+0.14*age, 0.6, false, 0.06, 7), noise("and", 0.70-0.22*age, 0.74-0.2*age, 0.7, true, 0.22, 11)}},
		{Name: "Sun bleach", Hex: "#e9ded2", Rough: 0.62, Blend: "soft-light", Opacity: 0.15 + 0.5*age,
			Where: []strata.Clause{k.Of("facing", "and", Shaped(0, 1, 0, false), map[string]float64{"cone": 110}), noise("and", 0.3, 0.75, 0, false, 0.35, 19)}},
		{Name: "Rust in seams", Hex: "#7a4322", Rough: 0.88, Height: 0.08, Opacity: min(1, 0.25+age),
			Where: []strata.Clause{k.Of("crevices", "and", Shaped(0.05, 0.4-0.2*age, 0.1, false), nil), k.Of("shelter", "plus", Shaped(0.5-0.15*age, 1, 0.1, false), nil), noise("and", 0.40-0.1*age, 0.66-0.1*age, 0.35, false, 0.07, 23)}},
		{Name: "Grime", Hex: "#2e2a22", Rough: 0.8, Opacity: max(0.001, 0.85*grime),
			Where: []strata.Clause{k.Of("shelter", "and", Shaped(0.15, 0.85, 0, false), nil), noise("and", 0.25, 0.65, 0, false, 0.12, 29)}},
		{Name: "Salt bloom", Hex: "#d9d6cb", Rough: 0.85, Opacity: max(0.001, 0.8*salt),
			Where: []strata.Clause{k.Of("facing", "and", Shaped(0.2, 0.9, 0, false), map[string]float64{"cone": 85}), noise("and", 0.52, 0.72, 0.2, false, 0.05, 31), k.Of("shelter", "and", Shaped(0.1, 0.6, 0, true), nil)}},
	}
	var out []strata.Layer
	for _, c := range coats {
		out = append(out, c.Layer(d))
	}
	return out
}

// Hue returns “#rrggbb” of a hue in degrees at the given saturation and value.
func Hue(deg, sat, val float64) string {
	f := func(n float64) int {
		k := n + deg/60
		for k >= 6 {
			k -= 6
		}
		w := max(0, min(k, 4-k, 1))
		return int((val-val*sat*w)*255 + 0.5)
	}
	return fmt.Sprintf("#%02x%02x%02x", f(5), f(3), f(1))
}

// Package finish holds the built-in finishes: groups of layers with a few dials that fit themselves
// to any baked model.
package finish

import (
	"fmt"
	"slices"
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
	lay   func(k *kit) []Coat
}

// Finishes lists the built-in finishes.
var Finishes = slices.Concat(metals, paints, solids, grimes)

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
	k := &kit{Clauses: Clauses{d}, dials: full}
	k.size = k.scale() * max(0.05, diagonal) / 3
	return Bind(d, f.lay(k)), nil
}

// Bind makes coats to layers. Clauses that name another coat by its name lead to its layer.
func Bind(d *strata.Document, coats []Coat) []strata.Layer {
	marks := map[string]string{}
	var out []strata.Layer
	for _, c := range coats {
		l := c.Layer(d)
		marks[c.Name] = l.ID
		out = append(out, l)
	}
	for i := range out {
		for k := range out[i].Where {
			for n, name := range out[i].Where[k].Layers {
				if m := marks[name]; m != "" {
					out[i].Where[k].Layers[n] = m
				}
			}
		}
	}
	return out
}

// Coat is a layer in short form.
type Coat struct {
	Name    string
	Hidden  bool
	Hex     string  // no colour when empty
	Rough   float32 // left alone when negative, as Metal
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
	l.Targets, l.Hidden = c.Targets, c.Hidden
	if l.What.Colour.On = c.Hex != ""; l.What.Colour.On {
		l.What.Colour.Hex = c.Hex
	}
	l.What.Colour.Blend = "over"
	if c.Blend != "" {
		l.What.Colour.Blend = c.Blend
	}
	l.What.Roughness.On, l.What.Roughness.Number = c.Rough >= 0, max(0, c.Rough)
	l.What.Metallic.On, l.What.Metallic.Number = c.Metal >= 0, max(0, c.Metal)
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

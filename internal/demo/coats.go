package demo

import (
	"crust/internal/core/field"
	"crust/internal/core/pixel"
	"crust/internal/core/strata"
)

// bind makes coats to layers. clauses that name another coat by its name lead to its layer.
func bind(d *strata.Document, coats []coat) []strata.Layer {
	marks := map[string]string{}
	var out []strata.Layer
	for _, c := range coats {
		l := c.layer(d)
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

// coat is a layer in short form.
type coat struct {
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

// layer writes the coat out in full.
func (c coat) layer(d *strata.Document) strata.Layer {
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

// clauses builds clauses with few words.
type clauses struct{ doc *strata.Document }

// of makes a clause of a kind with a join, shaping and parameters by name.
func (k clauses) of(kind, join string, s pixel.Shape, params map[string]float64, parts ...string) strata.Clause {
	c, err := k.doc.NewClause(kind)
	if err != nil {
		panic(err) // kinds are named in this program's own tables
	}
	c.Join, c.Shape, c.Parts = join, s, parts
	for n, v := range params {
		c.Params[n] = v
	}
	return c
}

// shaped is the shape from low to high with a contrast; inverted when asked.
func shaped(low, high, contrast float32, invert bool) pixel.Shape {
	s := pixel.NewShape()
	s.Low, s.High, s.Contrast, s.Invert = low, high, contrast, invert
	return s
}

// forms are the numbers of noise's forms by name.
var forms = func() map[string]float64 {
	kind, _ := field.KindOf("noise")
	out := map[string]float64{}
	for _, p := range kind.Params {
		if p.Name == "form" {
			for i, name := range p.Choices {
				out[name] = float64(i)
			}
		}
	}
	return out
}()

// wear is a coat that is hidden: its Where says how worn each place is, most on edges, plate by plate elsewhere, so that what
// is cut from it has angular rims. Coats are cut from it at several levels: paint first, then primer, then rust. Plates are
// chip metres wide.
func (k clauses) wear(name string, chip, seed float64) coat {
	noise := func(form, join string, size float64, s pixel.Shape, strength float32) strata.Clause {
		seed++
		s.Strength = strength
		return k.of("noise", join, s, map[string]float64{"form": forms[form], "size": min(20, max(0.001, size)), "seed": seed, "detail": 6})
	}
	return coat{Name: name, Hidden: true, Rough: noValue, Metal: noValue, Where: []strata.Clause{
		k.of("edges", "and", shaped(0.42, 0.95, 0.1, false), nil),
		noise("flakes", "plus", chip, shaped(0.3, 1, 0, false), 0.6),
		noise("clouds", "plus", 5*chip, shaped(0.35, 0.75, 0.2, false), 0.4),
		noise("clouds", "minus", chip/2, shaped(0.2, 0.9, 0, true), 0.25),
		faint(k.of("crevices", "minus", shaped(0.1, 0.6, 0.1, false), nil), 0.5),
		k.of("brush", "or", shaped(0, 1, 0, false), nil),
	}}
}

// holds is where a coat holds that goes where wear is over a level: 0 has it everywhere gone.
func (k clauses) holds(wear, join string, level float32) strata.Clause {
	level = min(0.97, level)
	c := k.of("same", join, shaped(level, level+0.025, 0, true), nil)
	c.Layers = []string{wear}
	return c
}

// noValue leaves a channel as it is below.
const noValue = -1

// faint lets a clause count for less.
func faint(c strata.Clause, strength float32) strata.Clause {
	c.Shape.Strength = strength
	return c
}

package demo

import (
	"crust/internal/core/strata"
)

// palette makes the clauses that the demo's strata are written in.
type palette struct {
	doc *strata.Document
	k   clauses
}

func newPalette() *palette {
	d := new(strata.Document)
	return &palette{d, clauses{d}}
}

func (p *palette) noise(join string, low, high, contrast float32, invert bool, size, seed float64) strata.Clause {
	return p.k.of("noise", join, shaped(low, high, contrast, invert), map[string]float64{"size": size, "seed": seed, "detail": 6})
}

func (p *palette) of(kind, join string, low, high, contrast float32, invert bool, values map[string]float64) strata.Clause {
	return p.k.of(kind, join, shaped(low, high, contrast, invert), values)
}

func (p *palette) parts(join string, invert bool, names ...string) strata.Clause {
	return p.k.of("parts", join, shaped(0, 1, 0, invert), nil, names...)
}

// form lets through from low to high of a form of noise.
func (p *palette) form(form, join string, low, high, contrast, strength float32, size, seed float64) strata.Clause {
	s := shaped(low, high, contrast, false)
	s.Strength = strength
	return p.k.of("noise", join, s, map[string]float64{"form": forms[form], "size": size, "seed": seed, "detail": 6})
}

// brush is a clause for what is painted by hand.
func (p *palette) brush(join string) strata.Clause {
	return p.k.of("brush", join, shaped(0, 1, 0, false), nil)
}

// runoff is where drops have run down from a coat: how far, how wide, and how many there are to a square metre of it.
func (p *palette) runoff(from string, length, width, amount, seed float64) strata.Clause {
	c := p.k.of("runoff", "and", shaped(0, 1, 0, false), map[string]float64{"from": 1, "length": length, "width": width, "amount": amount, "wander": 0.12, "seed": seed})
	c.Layers = []string{from}
	return c
}

// runs draws a clause of noise out downwards.
func runs(c strata.Clause, stretch float64) strata.Clause {
	c.Params["stretch"] = stretch
	return c
}

// on keeps a coat to where another lies.
func (p *palette) on(coat string) strata.Clause {
	c := p.of("same", "and", 0.2, 0.8, 0, false, nil)
	c.Layers = []string{coat}
	return c
}

// rim is a band of wear round where paint that holds below a level ends.
func (p *palette) rim(wear string, level float32) strata.Clause {
	c := p.of("same", "and", level-0.08, level+0.02, 0, false, nil)
	c.Layers = []string{wear}
	return c
}

// folder is a group of the coats from one to another, by their names.
type folder struct{ name, first, last string }

func (p *palette) lay(coats []coat, folders ...folder) *strata.Document {
	p.doc.Layers = bind(p.doc, coats)
	for _, f := range folders {
		var in []string
		for i := range p.doc.Layers {
			l := &p.doc.Layers[i]
			if l.Name == f.first || len(in) > 0 {
				in = append(in, l.ID)
			}
			if l.Name == f.last {
				break
			}
		}
		_, mark, err := p.doc.Apply(strata.Edit{Do: "group", Layers: in})
		if err != nil {
			panic(err) // the names are this package's own
		}
		l, _, _ := p.doc.Layer(mark)
		l.Name = f.name
	}
	return p.doc
}

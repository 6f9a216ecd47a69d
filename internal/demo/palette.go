package demo

import (
	"crust/internal/core/finish"
	"crust/internal/core/strata"
)

// palette makes the clauses that the demo's strata are written in.
type palette struct {
	doc *strata.Document
	k   finish.Clauses
}

func newPalette() *palette {
	d := new(strata.Document)
	return &palette{d, finish.Clauses{Doc: d}}
}

func (p *palette) noise(join string, low, high, contrast float32, invert bool, size, seed float64) strata.Clause {
	return p.k.Of("noise", join, finish.Shaped(low, high, contrast, invert), map[string]float64{"size": size, "seed": seed, "detail": 6})
}

func (p *palette) of(kind, join string, low, high, contrast float32, invert bool, values map[string]float64) strata.Clause {
	return p.k.Of(kind, join, finish.Shaped(low, high, contrast, invert), values)
}

func (p *palette) parts(join string, invert bool, names ...string) strata.Clause {
	return p.k.Of("parts", join, finish.Shaped(0, 1, 0, invert), nil, names...)
}

// worn is where paint holds: away from edges, broken up, with holes of its own.
func (p *palette) worn(seed float64) []strata.Clause {
	return []strata.Clause{
		p.of("edges", "and", 0.34, 0.62, 0.2, true, nil),
		p.noise("or", 0.57, 0.67, 0.4, false, 0.045, seed),
		p.noise("and", 0.61, 0.645, 0.5, true, 0.16, seed+1),
	}
}

// wider is where the primer under it still holds.
func (p *palette) wider(seed float64) []strata.Clause {
	return []strata.Clause{
		p.of("edges", "and", 0.46, 0.74, 0.2, true, nil),
		p.noise("or", 0.53, 0.63, 0.4, false, 0.045, seed),
		p.noise("and", 0.635, 0.67, 0.5, true, 0.16, seed+1),
	}
}

func (p *palette) with(c []strata.Clause, more ...strata.Clause) []strata.Clause {
	return append(c, more...)
}

func (p *palette) lay(coats []finish.Coat) *strata.Document {
	for _, c := range coats {
		p.doc.Layers = append(p.doc.Layers, c.Layer(p.doc))
	}
	return p.doc
}

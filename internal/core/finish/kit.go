package finish

import (
	"crust/internal/core/field"
	"crust/internal/core/pixel"
	"crust/internal/core/strata"
)

// kit is what finishes are written with. They are written for a model of 3 m; all lengths grow with the model's.
type kit struct {
	Clauses
	dials map[string]float64
	size  float64
	seed  float64
}

// dial is where a dial stands.
func (k *kit) dial(name string) float32 { return float32(k.dials[name]) }

// Forms are the numbers of noise's forms by name.
var Forms = func() map[string]float64 {
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

// scale is where the dial of that name stands.
func (k *kit) scale() float64 {
	if s := k.dials["scale"]; s > 0 {
		return s
	}
	return 1
}

// noise lets through from low to high of a form of noise; each has a seed of its own.
func (k *kit) noise(form, join string, metres float64, low, high, contrast float32) strata.Clause {
	k.seed++
	return k.Of("noise", join, Shaped(low, high, contrast, false), map[string]float64{"form": Forms[form], "size": k.long(metres), "seed": k.seed, "detail": 6})
}

// drawn draws a clause of noise out along the height, width or depth (0–2).
func drawn(c strata.Clause, stretch, along float64) strata.Clause {
	c.Params["stretch"], c.Params["along"] = stretch, along
	return c
}

// faint lets a clause count for less.
func faint(c strata.Clause, strength float32) strata.Clause {
	c.Shape.Strength = strength
	return c
}

// not inverts a clause.
func not(c strata.Clause) strata.Clause {
	c.Shape.Invert = !c.Shape.Invert
	return c
}

// long is a length on the model.
func (k *kit) long(metres float64) float64 { return min(20, max(0.001, metres*k.size)) }

func (k *kit) edges(join string, low, high float32) strata.Clause {
	return k.Of("edges", join, Shaped(low, high, 0.1, false), nil)
}

func (k *kit) crevices(join string, low, high float32) strata.Clause {
	return k.Of("crevices", join, Shaped(low, high, 0.1, false), nil)
}

func (k *kit) shelter(join string, low, high float32) strata.Clause {
	return k.Of("shelter", join, Shaped(low, high, 0, false), nil)
}

func (k *kit) up(join string, cone float64) strata.Clause {
	return k.Of("facing", join, Shaped(0.1, 0.9, 0, false), map[string]float64{"cone": cone})
}

// same is where another coat of the finish lies, from low to high of its finished Where.
func (k *kit) same(coat, join string, low, high float32) strata.Clause {
	c := k.Of("same", join, Shaped(min(0.99, low), min(1, high), 0, false), nil)
	c.Layers = []string{coat}
	return c
}

// Wear is a coat that is hidden: its Where says how worn each place is, most on edges, plate by plate elsewhere, so that what
// is cut from it has angular rims. Coats are cut from it at several levels: paint first, then primer, then rust. Plates are
// chip metres wide.
func (k Clauses) Wear(name string, chip, seed float64) Coat {
	noise := func(form, join string, size float64, s pixel.Shape, strength float32) strata.Clause {
		seed++
		s.Strength = strength
		return k.Of("noise", join, s, map[string]float64{"form": Forms[form], "size": min(20, max(0.001, size)), "seed": seed, "detail": 6})
	}
	return Coat{Name: name, Hidden: true, Rough: NoValue, Metal: NoValue, Where: []strata.Clause{
		k.Of("edges", "and", Shaped(0.42, 0.95, 0.1, false), nil),
		noise("flakes", "plus", chip, Shaped(0.3, 1, 0, false), 0.6),
		noise("clouds", "plus", 5*chip, Shaped(0.35, 0.75, 0.2, false), 0.4),
		noise("clouds", "minus", chip/2, Shaped(0.2, 0.9, 0, true), 0.25),
		faint(k.Of("crevices", "minus", Shaped(0.1, 0.6, 0.1, false), nil), 0.5),
	}}
}

// Holds is where a coat holds that goes where wear is over a level: 0 has it everywhere gone.
func (k Clauses) Holds(wear, join string, level float32) strata.Clause {
	level = min(0.97, level)
	c := k.Of("same", join, Shaped(level, level+0.025, 0, true), nil)
	c.Layers = []string{wear}
	return c
}

// wear is Wear for a kit.
func (k *kit) wear(name string, chip float64) Coat {
	k.seed += 4
	return k.Wear(name, k.long(chip), k.seed-4)
}

// NoValue leaves a channel as it is below.
const NoValue = -1

// depths are two coats that vary a surface at two scales, so that nothing looks like plastic.
func (k *kit) depths(name, dark, light string, opacity float32) []Coat {
	return []Coat{
		{Name: name + ", broad", Hex: dark, Rough: NoValue, Metal: NoValue, Opacity: opacity, Where: []strata.Clause{k.noise("clouds", "and", 0.6, 0.3, 0.75, 0)}},
		{Name: name + ", fine", Hex: light, Rough: NoValue, Metal: NoValue, Opacity: opacity * 0.7, Where: []strata.Clause{k.noise("clouds", "and", 0.09, 0.4, 0.8, 0.1)}},
	}
}

// sheen varies roughness alone.
func (k *kit) sheen(name string, rough, opacity float32, metres float64) Coat {
	return Coat{Name: name, Rough: rough, Metal: NoValue, Opacity: opacity, Where: []strata.Clause{k.noise("clouds", "and", metres, 0.35, 0.7, 0.2)}}
}

// scored are scratches.
func (k *kit) scored(name, hex string, rough, metal, opacity float32, metres float64) Coat {
	return Coat{Name: name, Hex: hex, Rough: rough, Metal: metal, Height: -0.02, Opacity: opacity, Where: []strata.Clause{
		k.noise("scratches", "and", metres, 0.1, 0.6, 0.2), faint(k.noise("clouds", "and", 5*metres, 0.35, 0.65, 0.2), 0.8)}}
}

// grime gathers in shelter and crevices and ends in a broken rim.
func (k *kit) grime(name, hex string, amount float32) Coat {
	return Coat{Name: name, Hex: hex, Rough: 0.86, Metal: 0, Opacity: max(0.001, amount), Where: []strata.Clause{
		k.shelter("and", 0.15, 0.8), k.crevices("or", 0.15, 0.7), k.noise("clouds", "and", 0.1, 0.22, 0.6, 0.1)}}
}

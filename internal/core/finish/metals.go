package finish

import (
	"slices"

	"crust/internal/core/strata"
)

// Dials that many finishes share.
var (
	ageDial   = Dial{"age", "Age", 0, 1, 0.5, "how long it has stood there"}
	grimeDial = Dial{"grime", "Grime", 0, 1, 0.4, "dirt in sheltered places"}
	scaleDial = Dial{"scale", "Scale", 0.25, 4, 1, "size of what is on it against the model"}
	hueDial   = Dial{"hue", "Hue", 0, 360, 6, "colour, in degrees round the colour circle"}
)

var metals = []Finish{
	{Name: "bare-steel", Title: "Bare steel", Help: "brushed and handled, brighter on edges, with the first rust in what is sheltered", Dials: []Dial{ageDial, grimeDial, scaleDial},
		lay: func(k *kit) []Coat {
			age := k.dial("age")
			return slices.Concat(
				[]Coat{{Name: "Steel", Hex: "#b4b1ab", Rough: 0.36, Metal: 1}},
				k.depths("Steel", "#8f8c88", "#c6c3bd", 0.5),
				[]Coat{
					k.sheen("Dulled", 0.58, 0.8, 0.16), k.sheen("Handled", 0.26, 0.6, 0.05),
					k.scored("Scratches", "#d2cfc9", 0.25, 1, 0.7, 0.05),
					{Name: "Bright edges", Hex: "#d6d3cd", Rough: 0.22, Metal: 1, Opacity: 0.8, Where: []strata.Clause{k.edges("and", 0.55, 0.8), k.noise("clouds", "and", 0.06, 0.3, 0.6, 0.2)}},
					{Name: "First rust", Hex: "#7a4a2b", Rough: 0.85, Metal: 0, Height: 0.01, Opacity: max(0.001, 0.9*age), Where: []strata.Clause{k.shelter("and", 0.3, 0.9), k.crevices("or", 0.2, 0.6), faint(k.noise("speckles", "or", 0.02, 0.4, 0.6, 0), 0.5*age), k.noise("clouds", "and", 0.09, 0.5-0.2*age, 0.7-0.2*age, 0.3)}},
					k.grime("Grime", "#2c2823", 0.8*k.dial("grime")),
				})
		}},
	{Name: "cast-iron", Title: "Cast iron", Help: "grainy and dark, rubbed smooth on its edges, rust in its pores", Dials: []Dial{ageDial, grimeDial, scaleDial},
		lay: func(k *kit) []Coat {
			age := k.dial("age")
			return slices.Concat(
				[]Coat{
					{Name: "Iron", Hex: "#7c7a77", Rough: 0.62, Metal: 1},
					{Name: "Grain", Hex: "#67645f", Rough: 0.72, Metal: 1, Height: -0.06, Where: []strata.Clause{k.noise("cells", "and", 0.008, 0.35, 0.8, 0.1)}},
					{Name: "Pits", Hex: "#3a3531", Rough: 0.9, Metal: 0, Height: -0.25, Where: []strata.Clause{k.noise("speckles", "and", 0.03, 0.4, 0.6, 0), k.noise("clouds", "and", 0.2, 0.45, 0.6, 0.2)}},
				},
				k.depths("Iron", "#57534f", "#8d8a85", 0.5),
				[]Coat{
					{Name: "Rubbed edges", Hex: "#9c9994", Rough: 0.34, Metal: 1, Where: []strata.Clause{k.edges("and", 0.55, 0.85), k.noise("clouds", "and", 0.05, 0.3, 0.6, 0.1)}},
					{Name: "Pore rust", Hex: "#6a3d22", Rough: 0.92, Metal: 0, Opacity: max(0.001, age), Where: []strata.Clause{k.noise("clouds", "and", 0.12, 0.58-0.25*age, 0.72-0.25*age, 0.3), k.noise("cells", "and", 0.012, 0.3, 0.6, 0.2), not(k.edges("and", 0.55, 0.8))}},
					k.grime("Grime", "#26221d", 0.8*k.dial("grime")),
				})
		}},
	{Name: "galvanised", Title: "Galvanised", Help: "zinc with its spangles, dulled by weather, white bloom where water stands", Dials: []Dial{ageDial, grimeDial, scaleDial},
		lay: func(k *kit) []Coat {
			age := k.dial("age")
			spangle := k.noise("flakes", "and", 0.035, 0.1, 0.9, 0)
			spangle.Params["detail"] = 1
			return []Coat{
				{Name: "Zinc", Hex: "#b9bdc0", Rough: 0.38, Metal: 1},
				{Name: "Spangles", Hex: "#9ba1a6", Rough: 0.52, Metal: 1, Where: []strata.Clause{spangle}},
				k.sheen("Dulled", 0.66, 0.4+0.5*age, 0.3),
				{Name: "Weathered", Hex: "#94989a", Rough: NoValue, Metal: NoValue, Opacity: 0.3 + 0.5*age, Where: []strata.Clause{k.noise("clouds", "and", 0.4, 0.3, 0.75, 0)}},
				k.scored("Scratches", "#d0d4d6", 0.3, 1, 0.6, 0.06),
				{Name: "White bloom", Hex: "#d4d5d0", Rough: 0.9, Metal: 0, Height: 0.02, Opacity: max(0.001, 0.8*age), Where: []strata.Clause{k.crevices("and", 0.1, 0.5), k.up("or", 70), k.noise("stains", "and", 0.07, 0.1, 0.8, 0), k.noise("clouds", "and", 0.3, 0.45, 0.65, 0.2)}},
				k.grime("Grime", "#3a372f", 0.7*k.dial("grime")),
			}
		}},
	{Name: "copper-with-verdigris", Title: "Copper with verdigris", Help: "brown copper, polished on edges, green where water runs and stands", Dials: []Dial{ageDial, grimeDial, scaleDial},
		lay: func(k *kit) []Coat {
			age := k.dial("age")
			return slices.Concat(
				[]Coat{{Name: "Copper", Hex: "#d08a63", Rough: 0.32, Metal: 1}},
				[]Coat{
					{Name: "Browned", Hex: "#6d4530", Rough: 0.5, Metal: 0.9, Opacity: 0.85, Where: []strata.Clause{k.noise("clouds", "and", 0.5, 0.25, 0.6, 0.1), faint(k.noise("stains", "or", 0.12, 0.1, 0.9, 0), 0.5), not(k.edges("and", 0.58, 0.85))}},
					k.sheen("Handled", 0.22, 0.5, 0.1),
					k.scored("Scratches", "#e2a07a", 0.25, 1, 0.5, 0.05),
					{Name: "Green", Hidden: true, Hex: "#000000", Rough: NoValue, Metal: NoValue, Where: []strata.Clause{
						k.shelter("and", 0.1, 0.8), k.crevices("plus", 0.1, 0.6), faint(k.up("plus", 80), 0.3), faint(drawn(k.noise("clouds", "plus", 0.07, 0.35, 0.7, 0.1), 6, 0), 0.7), faint(k.edges("minus", 0.55, 0.8), 0.8), faint(k.noise("clouds", "plus", 0.4, 0.4, 0.7, 0), 0.4)}},
					{Name: "Dark verdigris", Hex: "#48665b", Opacity: 0.85, Rough: 0.8, Metal: 0, Height: 0.02, Where: []strata.Clause{k.same("Green", "and", 0.98-0.55*age, 1.2-0.55*age)}},
					{Name: "Verdigris", Hex: "#86a899", Opacity: 0.8, Rough: 0.92, Metal: 0, Height: 0.03, Where: []strata.Clause{k.same("Green", "and", 1.1-0.55*age, 1.3-0.55*age), k.noise("clouds", "and", 0.02, 0.25, 0.5, 0.2)}},
					k.grime("Grime", "#231f1a", 0.7*k.dial("grime")),
				})
		}},
	{Name: "bronze-fittings", Title: "Bronze fittings", Help: "warm bronze, handled bright, dark in its corners, a little green", Dials: []Dial{ageDial, grimeDial, scaleDial},
		lay: func(k *kit) []Coat {
			age := k.dial("age")
			return slices.Concat(
				[]Coat{{Name: "Bronze", Hex: "#c79a5e", Rough: 0.3, Metal: 1}},
				k.depths("Bronze", "#9a7040", "#d8b077", 0.5),
				[]Coat{
					{Name: "Patina", Hex: "#4d3a26", Rough: 0.55, Metal: 0.85, Opacity: 0.4 + 0.5*age, Where: []strata.Clause{k.noise("clouds", "and", 0.25, 0.3, 0.65, 0.1), k.shelter("or", 0.2, 0.8), not(k.edges("and", 0.55, 0.8))}},
					k.sheen("Handled", 0.18, 0.7, 0.08),
					k.scored("Scratches", "#e6c48f", 0.2, 1, 0.5, 0.04),
					{Name: "Green corners", Hex: "#5f8873", Rough: 0.88, Metal: 0, Height: 0.01, Opacity: max(0.001, 0.8*age), Where: []strata.Clause{k.crevices("and", 0.15, 0.5), k.noise("clouds", "and", 0.05, 0.4, 0.65, 0.2)}},
					k.grime("Grime", "#241f18", 0.8*k.dial("grime")),
				})
		}},
}

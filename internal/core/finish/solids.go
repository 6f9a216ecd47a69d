package finish

import (
	"slices"

	"crust/internal/core/strata"
)

var solids = []Finish{
	{Name: "rubber", Title: "Rubber", Help: "black and dull, dusty in its grooves, polished where it rubs", Dials: []Dial{ageDial, {"dust", "Dust", 0, 1, 0.5, "dust in grooves and on what faces up"}, scaleDial},
		lay: func(k *kit) []Coat {
			age, dust := k.dial("age"), k.dial("dust")
			return []Coat{
				{Name: "Rubber", Hex: "#232322", Rough: 0.74, Metal: 0},
				{Name: "Greyed", Hex: "#3b3a38", Rough: 0.84, Metal: NoValue, Opacity: 0.3 + 0.5*age, Where: []strata.Clause{k.noise("clouds", "and", 0.25, 0.3, 0.7, 0)}},
				{Name: "Grain", Rough: 0.88, Metal: NoValue, Height: -0.02, Opacity: 0.8, Where: []strata.Clause{k.noise("cells", "and", 0.006, 0.3, 0.8, 0)}},
				{Name: "Perished", Hex: "#1a1918", Rough: 0.9, Metal: NoValue, Height: -0.12, Opacity: max(0.001, age), Where: []strata.Clause{k.noise("cracks", "and", 0.03, 0.3, 0.8, 0.1), k.noise("clouds", "and", 0.2, 0.5, 0.65, 0.2)}},
				{Name: "Polished", Hex: "#2b2b2a", Rough: 0.42, Metal: NoValue, Opacity: 0.8, Where: []strata.Clause{k.edges("and", 0.52, 0.75), k.noise("clouds", "and", 0.08, 0.25, 0.55, 0.1)}},
				{Name: "Dust", Hex: "#8d8474", Rough: 0.95, Metal: NoValue, Opacity: max(0.001, 0.8*dust), Where: []strata.Clause{k.crevices("and", 0.1, 0.6), k.shelter("or", 0.3, 1), faint(k.up("or", 60), 0.5), k.noise("clouds", "and", 0.06, 0.25, 0.65, 0)}},
			}
		}},
	{Name: "worn-leather", Title: "Worn leather", Help: "creased, pale and rough on its edges, dark and polished where hands were", Dials: []Dial{ageDial, {"hue", "Hue", 0, 360, 24, "colour, in degrees round the colour circle"}, grimeDial, scaleDial},
		lay: func(k *kit) []Coat {
			age := k.dial("age")
			return []Coat{
				{Name: "Leather", Hex: Hue(k.dials["hue"], 0.55, 0.36), Rough: 0.55, Metal: 0},
				{Name: "Grain", Rough: 0.68, Metal: NoValue, Height: -0.05, Where: []strata.Clause{k.noise("cracks", "and", 0.012, 0.2, 0.9, 0)}},
				{Name: "Creases", Hex: Hue(k.dials["hue"], 0.5, 0.2), Rough: 0.75, Metal: NoValue, Height: -0.12, Opacity: 0.6, Where: []strata.Clause{k.noise("veins", "and", 0.12, 0.8, 0.97, 0.1), k.noise("clouds", "and", 0.4, 0.4, 0.6, 0.1)}},
				{Name: "Handled dark", Hex: Hue(k.dials["hue"], 0.6, 0.22), Rough: 0.32, Metal: NoValue, Opacity: 0.7, Where: []strata.Clause{k.noise("clouds", "and", 0.35, 0.42, 0.7, 0)}},
				{Name: "Rubbed pale", Hex: Hue(k.dials["hue"], 0.38, 0.58), Rough: 0.8, Metal: NoValue, Opacity: 0.3 + 0.6*age, Where: []strata.Clause{k.edges("and", 0.5, 0.8), k.noise("clouds", "and", 0.03, 0.3, 0.6, 0.1)}},
				k.scored("Scuffs", Hue(k.dials["hue"], 0.35, 0.6), 0.85, NoValue, 0.3+0.4*age, 0.06),
				k.grime("Grime", "#1f1a15", 0.8*k.dial("grime")),
			}
		}},
	{Name: "varnished-wood", Title: "Varnished wood", Help: "grain along the height, varnish that has worn through on edges and greyed there", Dials: []Dial{ageDial, {"hue", "Hue", 0, 360, 26, "colour, in degrees round the colour circle"}, grimeDial, scaleDial},
		lay: func(k *kit) []Coat {
			age := k.dial("age")
			own := func(c strata.Clause) strata.Clause { c.Params["apart"] = 1; return c }
			return []Coat{
				{Name: "Wood", Hex: Hue(k.dials["hue"], 0.56, 0.5), Rough: 0.34, Metal: 0},
				{Name: "Rings", Hex: Hue(k.dials["hue"], 0.66, 0.3), Rough: 0.4, Metal: NoValue, Opacity: 0.8, Where: []strata.Clause{own(drawn(k.noise("veins", "and", 0.06, 0.3, 0.95, 0), 14, 0)), own(drawn(k.noise("clouds", "and", 0.2, 0.2, 0.6, 0), 6, 0))}},
				{Name: "Fibres", Hex: Hue(k.dials["hue"], 0.6, 0.36), Rough: NoValue, Metal: NoValue, Height: -0.01, Opacity: 0.6, Where: []strata.Clause{own(drawn(k.noise("clouds", "and", 0.006, 0.5, 0.75, 0.2), 30, 0))}},
				{Name: "Tone", Hex: Hue(k.dials["hue"], 0.62, 0.36), Rough: NoValue, Metal: NoValue, Opacity: 0.5, Where: []strata.Clause{own(k.noise("clouds", "and", 0.5, 0.3, 0.75, 0))}},
				k.sheen("Varnish, dulled", 0.5, 0.3+0.5*age, 0.15),
				k.wear("Wear", 0.06),
				{Name: "Bare wood", Hex: "#8d8170", Rough: 0.88, Metal: NoValue, Height: -0.05, Where: []strata.Clause{k.same("Wear", "and", 0.82-0.5*age, 0.88-0.48*age)}},
				{Name: "Bare fibres", Hex: "#665b4d", Rough: 0.92, Metal: NoValue, Height: -0.04, Where: []strata.Clause{drawn(k.noise("clouds", "and", 0.005, 0.45, 0.6, 0.2), 30, 0), k.same("Bare wood", "and", 0.4, 0.9)}},
				k.scored("Scratches", Hue(k.dials["hue"], 0.4, 0.62), 0.7, NoValue, 0.5, 0.08),
				k.grime("Grime", "#211b14", 0.8*k.dial("grime")),
			}
		}},
	{Name: "quay-stone", Title: "Quay stone", Help: "granite, worn round on its edges, with veins, lichen and damp", Dials: []Dial{ageDial, {"lichen", "Lichen", 0, 1, 0.4, "lichen on what faces up"}, grimeDial, scaleDial},
		lay: func(k *kit) []Coat {
			age, lichen := k.dial("age"), k.dial("lichen")
			grain := k.noise("flakes", "and", 0.012, 0.4, 0.6, 0.1)
			grain.Params["detail"] = 1
			return slices.Concat(
				[]Coat{
					{Name: "Stone", Hex: "#8c877f", Rough: 0.8, Metal: 0},
					{Name: "Dark grains", Hex: "#5f5b56", Rough: 0.72, Metal: NoValue, Where: []strata.Clause{grain}},
					{Name: "Pale grains", Hex: "#b7b1a8", Rough: 0.66, Metal: NoValue, Opacity: 0.8, Where: []strata.Clause{k.noise("flakes", "and", 0.016, 0.72, 0.8, 0)}},
				},
				k.depths("Stone", "#6f6a62", "#a19b91", 0.55),
				[]Coat{
					{Name: "Tooling", Rough: 0.86, Metal: NoValue, Height: -0.3, Where: []strata.Clause{k.noise("ridges", "and", 0.12, 0.35, 0.85, 0)}},
					{Name: "Veins", Hex: "#a9a297", Rough: NoValue, Metal: NoValue, Opacity: 0.5, Where: []strata.Clause{k.noise("veins", "and", 0.5, 0.9, 0.99, 0.2)}},
					{Name: "Cracks", Hex: "#3a3733", Rough: 0.92, Metal: NoValue, Height: -0.6, Opacity: max(0.001, age), Where: []strata.Clause{k.noise("cracks", "and", 0.6, 0.5, 0.9, 0.2), k.noise("clouds", "and", 0.5, 0.5, 0.6, 0.2)}},
					{Name: "Worn edges", Hex: "#a7a198", Rough: 0.6, Metal: NoValue, Opacity: 0.6, Where: []strata.Clause{k.edges("and", 0.52, 0.8)}},
					{Name: "Lichen", Hex: "#a8a878", Rough: 0.95, Metal: NoValue, Height: 0.15, Opacity: max(0.001, 0.9*lichen), Where: []strata.Clause{k.up("and", 100), k.noise("stains", "and", 0.08, 0.05, 0.5, 0), k.noise("clouds", "and", 0.2, 0.55-0.15*lichen, 0.68-0.15*lichen, 0.2)}},
					{Name: "Damp", Hex: "#4b4a44", Rough: 0.4, Metal: NoValue, Blend: "multiply", Opacity: 0.5, Where: []strata.Clause{k.shelter("and", 0.3, 0.9), drawn(k.noise("clouds", "and", 0.1, 0.35, 0.65, 0.1), 5, 0)}},
					k.grime("Grime", "#2a2720", 0.8*k.dial("grime")),
				})
		}},
}

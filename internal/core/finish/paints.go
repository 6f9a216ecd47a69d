package finish

import "crust/internal/core/strata"

var paints = []Finish{
	{Name: "worn-marine-paint", Title: "Worn marine paint", Help: "two coats of paint over primed steel, chipped at the edges, rusting in the seams, with salt and grime",
		Dials: []Dial{
			{"age", "Age", 0, 1, 0.5, "how much paint is gone and how much rust has come"},
			{"grime", "Grime", 0, 1, 0.5, "dirt in sheltered places"},
			{"salt", "Salt", 0, 1, 0.4, "bloom on what faces up"},
			hueDial, scaleDial,
		},
		lay: func(k *kit) []Coat {
			age, salt := k.dial("age"), k.dial("salt")
			level := 0.8 - 0.62*age
			return []Coat{
				{Name: "Bare steel", Hex: "#a7a49e", Rough: 0.4, Metal: 1},
				k.wear("Wear", 0.05),
				{Name: "Rust bed", Hex: "#5b3a26", Rough: 0.9, Height: 0.03, Where: []strata.Clause{k.noise("clouds", "and", 0.08, 0.62-0.3*age, 0.72-0.3*age, 0.3), k.noise("clouds", "and", 0.015, 0.3, 0.55, 0.2)}},
				{Name: "Primer", Hex: "#8d8578", Rough: 0.7, Height: 0.06, Where: []strata.Clause{k.Holds("Wear", "and", level+0.07)}},
				{Name: "Top paint", Hex: Hue(k.dials["hue"], 0.68, 0.62), Rough: 0.42, Height: 0.1, Where: []strata.Clause{k.Holds("Wear", "and", level)}},
				{Name: "Uneven gloss", Rough: 0.56, Metal: NoValue, Opacity: 0.7, Where: []strata.Clause{k.noise("clouds", "and", 0.3, 0.35, 0.7, 0.1), k.same("Top paint", "and", 0.2, 0.8)}},
				{Name: "Sun bleach", Hex: "#e9ded2", Rough: 0.62, Metal: NoValue, Blend: "soft-light", Opacity: 0.1 + 0.35*age, Where: []strata.Clause{k.up("and", 110), k.noise("clouds", "and", 0.35, 0.25, 0.75, 0), k.same("Top paint", "and", 0.2, 0.8)}},
				k.scored("Scratches", "#b9ab9f", 0.6, NoValue, 0.45, 0.07),
				{Name: "Rust at the rims", Hex: "#7b431f", Rough: 0.88, Height: 0.02, Opacity: min(1, 0.4+age), Where: []strata.Clause{k.same("Wear", "and", level-0.06, level+0.02), k.noise("clouds", "and", 0.05, 0.5-0.2*age, 0.64-0.2*age, 0.2)}},
				{Name: "Rust runs", Hex: "#7a4726", Rough: 0.8, Metal: 0, Opacity: max(0.001, 0.8*age), Where: []strata.Clause{drawn(k.noise("clouds", "and", 0.02, 0.5, 0.72, 0.1), 12, 0), k.noise("clouds", "and", 0.3, 0.5, 0.65, 0.1), not(k.up("and", 60))}},
				{Name: "Rust in seams", Hex: "#6e3818", Rough: 0.9, Height: 0.05, Opacity: min(1, 0.25+age), Where: []strata.Clause{k.crevices("and", 0.1, 0.5-0.2*age), k.shelter("plus", 0.55-0.1*age, 1), k.noise("clouds", "and", 0.06, 0.42-0.12*age, 0.64-0.12*age, 0.3)}},
				k.grime("Grime", "#2e2a22", 0.8*k.dial("grime")),
				{Name: "Salt rings", Hex: "#d9d6cb", Rough: 0.88, Height: 0.01, Opacity: max(0.001, 0.7*salt), Where: []strata.Clause{k.up("and", 85), k.noise("stains", "and", 0.05, 0.15, 0.9, 0), k.noise("clouds", "and", 0.3, 0.45, 0.65, 0.1), not(k.shelter("and", 0.1, 0.6))}},
			}
		}},
	{Name: "flaking-paint", Title: "Flaking paint", Help: "brittle paint that has cracked into plates and falls off, grey wood or steel below", Dials: []Dial{ageDial, hueDial, grimeDial, scaleDial},
		lay: func(k *kit) []Coat {
			age := k.dial("age")
			level := 0.9 - 0.55*age
			return []Coat{
				{Name: "Ground", Hex: "#77706a", Rough: 0.85, Metal: 0},
				{Name: "Ground, broad", Hex: "#5c5650", Rough: 0.9, Metal: NoValue, Opacity: 0.7, Where: []strata.Clause{k.noise("clouds", "and", 0.25, 0.3, 0.7, 0)}},
				{Name: "Loose", Hidden: true, Hex: "#000000", Rough: NoValue, Metal: NoValue, Where: []strata.Clause{
					k.noise("flakes", "and", 0.07, 0.2, 1, 0), faint(k.edges("plus", 0.45, 0.9), 0.6), faint(k.noise("clouds", "plus", 0.4, 0.4, 0.7, 0), 0.5), faint(k.shelter("minus", 0.2, 0.9), 0.4)}},
				{Name: "Old paint", Hex: "#b9b3a4", Rough: 0.75, Height: 0.08, Where: []strata.Clause{k.Holds("Loose", "and", level+0.12)}},
				{Name: "Paint", Hex: Hue(k.dials["hue"], 0.45, 0.6), Rough: 0.55, Height: 0.22, Where: []strata.Clause{k.Holds("Loose", "and", level)}},
				{Name: "Cracks", Hex: "#3c3530", Rough: 0.9, Height: -0.2, Opacity: 0.9, Where: []strata.Clause{k.noise("cracks", "and", 0.07, 0.25, 0.8, 0.1), k.noise("clouds", "and", 0.3, 0.6-0.35*age, 0.75-0.35*age, 0.2), k.same("Paint", "and", 0.2, 0.8)}},
				{Name: "Chalked", Hex: "#e3ded4", Rough: 0.85, Metal: NoValue, Blend: "soft-light", Opacity: 0.2 + 0.5*age, Where: []strata.Clause{k.up("and", 120), k.noise("clouds", "and", 0.2, 0.25, 0.7, 0), k.same("Paint", "and", 0.2, 0.8)}},
				k.grime("Grime", "#2b2721", 0.8*k.dial("grime")),
			}
		}},
}

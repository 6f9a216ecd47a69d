package finish

import "crust/internal/core/strata"

// grimes lie over what is there.
var grimes = []Finish{
	{Name: "rust-bloom", Title: "Rust bloom", Help: "patches of young rust over what is there, orange at their rims", Dials: []Dial{{"amount", "Amount", 0, 1, 0.5, "how much of the surface"}, scaleDial},
		lay: func(k *kit) []Coat {
			a := k.dial("amount")
			return []Coat{
				{Name: "Rust", Hidden: true, Hex: "#000000", Rough: NoValue, Metal: NoValue, Where: []strata.Clause{
					k.noise("clouds", "and", 0.3, 0.25, 0.85, 0), faint(k.noise("clouds", "plus", 0.04, 0.3, 0.8, 0), 0.35), faint(k.crevices("plus", 0.1, 0.6), 0.5), faint(k.edges("plus", 0.55, 0.9), 0.25)}},
				{Name: "Stain", Hex: "#9a6a3c", Rough: NoValue, Metal: NoValue, Opacity: 0.5, Where: []strata.Clause{k.same("Rust", "and", 0.84-0.6*a, 1-0.5*a)}},
				{Name: "Bloom", Hex: "#8f4d22", Rough: 0.9, Metal: 0, Height: 0.03, Opacity: 0.95, Where: []strata.Clause{k.same("Rust", "and", 0.95-0.6*a, 1-0.55*a)}},
				{Name: "Core", Hex: "#54301c", Rough: 0.95, Metal: 0, Height: 0.04, Where: []strata.Clause{k.same("Rust", "and", min(0.97, 1.06-0.6*a), min(1, 1.2-0.6*a)), k.noise("clouds", "and", 0.02, 0.3, 0.55, 0.2)}},
			}
		}},
	{Name: "deep-rust", Title: "Deep rust", Help: "eaten all over: scales, pits and runs", Dials: []Dial{ageDial, grimeDial, scaleDial},
		lay: func(k *kit) []Coat {
			age := k.dial("age")
			return []Coat{
				{Name: "Rust", Hex: "#6a3a20", Rough: 0.92, Metal: 0},
				{Name: "Orange", Hex: "#9a5526", Rough: 0.94, Metal: NoValue, Opacity: 0.85, Where: []strata.Clause{k.noise("clouds", "and", 0.2, 0.45, 0.7, 0.1), k.noise("clouds", "and", 0.02, 0.3, 0.6, 0.1)}},
				{Name: "Dark", Hex: "#3a2318", Rough: 0.88, Metal: NoValue, Opacity: 0.8, Where: []strata.Clause{k.noise("clouds", "and", 0.35, 0.48, 0.7, 0), k.shelter("or", 0.3, 1)}},
				{Name: "Scales", Hex: "#53301f", Rough: 0.85, Metal: NoValue, Height: 0.4, Opacity: 0.9, Where: []strata.Clause{k.noise("flakes", "and", 0.05, 0.62-0.2*age, 0.66-0.2*age, 0), k.noise("clouds", "and", 0.25, 0.4, 0.5, 0.3)}},
				{Name: "Pits", Hex: "#2c1a12", Rough: 0.96, Metal: NoValue, Height: -0.4, Where: []strata.Clause{k.noise("speckles", "and", 0.03, 0.4, 0.6, 0), k.noise("clouds", "and", 0.15, 0.5-0.2*age, 0.65-0.2*age, 0.1)}},
				{Name: "Powder", Hex: "#b0682f", Rough: 1, Metal: NoValue, Opacity: 0.7, Where: []strata.Clause{k.crevices("and", 0.1, 0.5), k.noise("clouds", "and", 0.04, 0.35, 0.6, 0.1)}},
				{Name: "Rubbed edges", Hex: "#6f5a4c", Rough: 0.6, Metal: 0.6, Opacity: 0.7, Where: []strata.Clause{k.edges("and", 0.6, 0.85), k.noise("clouds", "and", 0.03, 0.4, 0.6, 0.2)}},
				k.grime("Grime", "#1e1712", 0.8*k.dial("grime")),
			}
		}},
	{Name: "salt-crust", Title: "Salt crust", Help: "rings that spray leaves as it dries, thick where it stood", Dials: []Dial{{"amount", "Amount", 0, 1, 0.5, "how much spray"}, scaleDial},
		lay: func(k *kit) []Coat {
			a := k.dial("amount")
			return []Coat{
				{Name: "Salt haze", Hex: "#c9c7bf", Rough: 0.8, Metal: NoValue, Opacity: 0.1 + 0.3*a, Where: []strata.Clause{k.noise("clouds", "and", 0.4, 0.3, 0.75, 0)}},
				{Name: "Salt rings", Hex: "#dedbd2", Rough: 0.9, Metal: 0, Height: 0.02, Opacity: 0.3 + 0.6*a, Where: []strata.Clause{k.noise("stains", "and", 0.06, 0.3, 0.95, 0), faint(k.noise("stains", "or", 0.022, 0.3, 0.95, 0), 0.8), k.noise("clouds", "and", 0.3, 0.55-0.3*a, 0.7-0.3*a, 0.1)}},
				{Name: "Salt crust", Hex: "#dad6cb", Rough: 0.95, Metal: 0, Height: 0.1, Opacity: 0.85, Where: []strata.Clause{k.crevices("and", 0.1, 0.5), faint(k.up("or", 50), 0.3), k.noise("clouds", "and", 0.05, 0.66-0.2*a, 0.8-0.2*a, 0.1), k.noise("cells", "and", 0.01, 0.2, 0.5, 0)}},
			}
		}},
	{Name: "algae-line", Title: "Algae line", Help: "green growth up to the waterline, fading out above it", Dials: []Dial{{"level", "Waterline", 0, 1, 0.3, "how far up the model, as a share of its size"}, {"amount", "Amount", 0, 1, 0.6, "how thick"}, scaleDial},
		lay: func(k *kit) []Coat {
			a := k.dial("amount")
			top := k.dials["level"] * k.size * 3 / max(0.25, k.scale())
			reach := func(full, none float64) strata.Clause {
				return k.Of("reach", "and", Shaped(0, 1, 0, false), map[string]float64{"from": full * top, "to": none * top})
			}
			return []Coat{
				{Name: "Damp", Hex: "#4a4c40", Rough: 0.35, Metal: NoValue, Blend: "multiply", Opacity: 0.6, Where: []strata.Clause{reach(0.9, 1.15), faint(drawn(k.noise("clouds", "and", 0.08, 0.2, 0.6, 0), 4, 0), 0.8)}},
				{Name: "Algae", Hex: "#4a5a26", Rough: 0.72, Metal: 0, Height: 0.2, Opacity: 0.95, Where: []strata.Clause{reach(0.6, 1.05), k.noise("clouds", "plus", 0.06, 0.35, 0.9, 0), k.Of("reach", "and", Shaped(0, 0.35, 0, false), map[string]float64{"from": 0.7 * top, "to": 1.08 * top}), k.noise("clouds", "and", 0.04, 0.62-0.4*a, 0.74-0.35*a, 0.3)}},
				{Name: "Dark algae", Hex: "#272f18", Rough: 0.6, Metal: NoValue, Height: 0.1, Opacity: 0.9, Where: []strata.Clause{reach(0.4, 0.85), k.noise("clouds", "and", 0.09, 0.5-0.15*a, 0.66-0.15*a, 0.2)}},
				{Name: "Shells", Hex: "#b9b3a2", Rough: 0.85, Metal: 0, Height: 0.8, Where: []strata.Clause{k.noise("speckles", "and", 0.03, 0.3, 1, 0), reach(0.5, 0.75), k.noise("clouds", "and", 0.2, 0.55, 0.65, 0.2)}},
			}
		}},
	{Name: "soot-and-grime", Title: "Soot and grime", Help: "black where air stands still, streaks below it, fingers of dust", Dials: []Dial{{"soot", "Soot", 0, 1, 0.5, "black in shelter"}, {"dust", "Dust", 0, 1, 0.4, "grey on what faces up"}, scaleDial},
		lay: func(k *kit) []Coat {
			soot, dust := k.dial("soot"), k.dial("dust")
			return []Coat{
				{Name: "Film", Hex: "#4b463e", Rough: 0.7, Metal: NoValue, Blend: "multiply", Opacity: 0.2 + 0.3*soot, Where: []strata.Clause{k.noise("clouds", "and", 0.4, 0.25, 0.7, 0)}},
				k.grime("Grime", "#2b261f", 0.5+0.5*soot),
				{Name: "Streaks", Hex: "#2a2620", Rough: 0.75, Metal: NoValue, Opacity: max(0.001, 0.8*soot), Where: []strata.Clause{drawn(k.noise("clouds", "and", 0.025, 0.48, 0.7, 0.1), 14, 0), k.noise("clouds", "and", 0.35, 0.42, 0.62, 0.1), not(k.up("and", 70))}},
				{Name: "Soot", Hex: "#141210", Rough: 0.95, Metal: 0, Opacity: max(0.001, soot), Where: []strata.Clause{k.shelter("and", 0.45, 1), k.noise("clouds", "and", 0.15, 0.3, 0.6, 0)}},
				{Name: "Dust", Hex: "#8b8375", Rough: 0.96, Metal: 0, Opacity: max(0.001, 0.7*dust), Where: []strata.Clause{k.up("and", 70), k.noise("clouds", "and", 0.12, 0.3, 0.7, 0)}},
			}
		}},
}

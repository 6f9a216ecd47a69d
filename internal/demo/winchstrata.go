package demo

import (
	"crust/internal/core/finish"
	"crust/internal/core/strata"
)

// WinchStrata is the winch's weathering: painted castings, greased gears, a tarred rope, and what rain
// and hands have done to them.
func WinchStrata() *strata.Document {
	p := newPalette()
	frame, drum, gears, housing := []string{"1001"}, []string{"1002"}, []string{"1003"}, []string{"1004"}
	rope := p.parts("and", false, "barrel", "rope")
	noRope := p.parts("minus", false, "barrel", "rope")
	grips := p.parts("and", false, "grips")
	noGrips := p.parts("minus", false, "grips")
	plate := p.parts("and", false, "plate")
	noPlate := p.parts("minus", false, "plate")
	top := func(cone float64) strata.Clause {
		return p.of("facing", "and", 0.15, 0.9, 0, false, map[string]float64{"cone": cone})
	}
	return p.lay([]finish.Coat{
		{Name: "Cast iron", Hex: "#6f6e6b", Rough: 0.5, Metal: 1},
		{Name: "Old rust", Hex: "#51301f", Rough: 0.9, Height: 0.1, Where: []strata.Clause{p.noise("and", 0.5, 0.62, 0.3, false, 0.04, 61), noGrips, noRope, noPlate}, Targets: append(append([]string{}, frame...), "1002", "1004")},
		{Name: "Red lead", Hex: "#8d3b22", Rough: 0.7, Height: 0.08, Where: p.with(p.wider(67), noPlate), Targets: append(append([]string{}, frame...), "1004")},
		{Name: "Frame green", Hex: "#3f5f52", Rough: 0.45, Height: 0.14, Where: p.worn(67), Targets: frame},
		{Name: "Guard ochre", Hex: "#b98a35", Rough: 0.42, Height: 0.14, Where: p.with(p.worn(71), noPlate), Targets: housing},
		{Name: "Flange black", Hex: "#2c2d2c", Rough: 0.5, Height: 0.1, Where: p.with(p.worn(73), noRope), Targets: drum},
		{Name: "Tarred rope", Hex: "#5b4630", Rough: 0.92, Where: []strata.Clause{rope}, Targets: drum},
		{Name: "Rope wear", Hex: "#8a7350", Rough: 0.95, Where: []strata.Clause{rope, p.of("edges", "and", 0.52, 0.72, 0, false, nil), p.noise("and", 0.3, 0.6, 0.2, false, 0.03, 79)}, Targets: drum},
		{Name: "Worked steel", Hex: "#8f8e8a", Rough: 0.33, Metal: 1, Where: []strata.Clause{p.of("edges", "and", 0.36, 0.6, 0.2, false, nil), noGrips}, Targets: gears},
		{Name: "Gear rust", Hex: "#5a3420", Rough: 0.88, Height: 0.05, Where: []strata.Clause{p.noise("and", 0.52, 0.68, 0.3, false, 0.05, 83), p.of("edges", "and", 0.45, 0.65, 0.1, true, nil), noGrips}, Targets: gears},
		{Name: "Grease", Hex: "#1d1a14", Rough: 0.22, Height: 0.12, Opacity: 0.9, Where: []strata.Clause{p.parts("and", false, "spur", "pinion", "ratchet"), p.of("crevices", "and", 0.05, 0.4, 0.1, false, nil), p.of("shelter", "plus", 0.3, 0.8, 0, false, nil), p.noise("and", 0.35, 0.6, 0.2, false, 0.03, 89)}, Targets: gears},
		{Name: "Grip wood", Hex: "#7a5333", Rough: 0.55, Where: []strata.Clause{grips}, Targets: gears},
		{Name: "Hand polish", Hex: "#4e331f", Rough: 0.3, Opacity: 0.7, Where: []strata.Clause{grips, p.noise("and", 0.4, 0.6, 0.1, false, 0.03, 97)}, Targets: gears},
		{Name: "Brass plate", Hex: "#b8954f", Rough: 0.35, Metal: 1, Where: []strata.Clause{plate}, Targets: housing},
		{Name: "Rust in seams", Hex: "#6e3818", Rough: 0.9, Height: 0.05, Where: []strata.Clause{p.of("crevices", "and", 0.12, 0.5, 0.1, false, nil), p.of("shelter", "plus", 0.6, 1, 0, false, nil), p.noise("and", 0.38, 0.62, 0.3, false, 0.05, 101), noGrips, noRope, noPlate}, Targets: []string{"1001", "1004"}},
		{Name: "Grime", Hex: "#2b2620", Rough: 0.82, Opacity: 0.6, Where: []strata.Clause{p.of("shelter", "and", 0.25, 0.9, 0, false, nil), p.noise("and", 0.25, 0.6, 0, false, 0.08, 103)}},
		{Name: "Splashed silt", Hex: "#6d6350", Rough: 0.9, Height: 0.05, Opacity: 0.75, Where: []strata.Clause{p.of("reach", "and", 0, 0.5, 0, false, map[string]float64{"from": 0.02, "to": 0.32}), p.noise("and", 0.4, 0.66, 0.3, false, 0.05, 107)}},
		{Name: "Dust and salt", Hex: "#b8b09c", Rough: 0.88, Opacity: 0.45, Where: []strata.Clause{top(80), p.noise("and", 0.45, 0.75, 0.1, false, 0.05, 109), noRope}},
	})
}

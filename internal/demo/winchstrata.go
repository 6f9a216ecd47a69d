package demo

import (
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
	const gone = 0.46 // the wear from which paint is gone
	holds := func(level float32) strata.Clause { return p.k.holds("Wear", "and", level) }
	bare := []strata.Clause{noGrips, noRope, noPlate}
	at := func(c ...strata.Clause) []strata.Clause { return append(c, bare...) }
	return p.lay([]coat{
		{Name: "Cast iron", Hex: "#b5b3ae", Rough: 0.5, Metal: 1},
		{Name: "Foundry skin", Hex: "#54514c", Rough: 0.62, Height: 0.02, Where: []strata.Clause{p.noise("and", 0.24, 0.3, 0.3, false, 0.03, 55), faint(p.of("edges", "minus", 0.55, 0.8, 0.2, false, nil), 0.8)}},
		{Name: "Skin tones", Hex: "#706a61", Rough: 0.74, Metal: noValue, Opacity: 0.45, Where: []strata.Clause{p.noise("and", 0.35, 0.7, 0.1, false, 0.05, 56), p.noise("and", 0.3, 0.65, 0.1, false, 0.008, 57)}},
		p.k.wear("Wear", 0.03, 170),
		{Name: "Old rust", Hex: "#51301f", Rough: 0.9, Height: 0.05, Where: at(p.noise("and", 0.5, 0.55, 0.4, false, 0.035, 61)), Targets: append(append([]string{}, frame...), "1002", "1004")},
		{Name: "Red lead", Hex: "#8d3b22", Rough: 0.7, Height: 0.05, Where: []strata.Clause{holds(gone + 0.06), noPlate}, Targets: append(append([]string{}, frame...), "1004")},
		{Name: "Frame green", Hex: "#3f5f52", Rough: 0.42, Height: 0.1, Where: []strata.Clause{holds(gone)}, Targets: frame},
		{Name: "Guard ochre", Hex: "#b98a35", Rough: 0.4, Height: 0.1, Where: []strata.Clause{holds(gone), noPlate}, Targets: housing},
		{Name: "Flange black", Hex: "#2c2d2c", Rough: 0.5, Height: 0.08, Where: []strata.Clause{holds(gone - 0.02), noRope}, Targets: drum},
		{Name: "Uneven gloss", Rough: 0.58, Metal: noValue, Opacity: 0.7, Where: at(p.noise("and", 0.35, 0.7, 0.1, false, 0.2, 63), p.form("clouds", "or", 0.45, 0.75, 0.1, 0.6, 0.04, 64))},
		{Name: "Tarred rope", Hex: "#5b4630", Rough: 0.92, Where: []strata.Clause{rope}, Targets: drum},
		{Name: "Rope fibres", Hex: "#463420", Rough: 0.95, Metal: noValue, Opacity: 0.7, Where: []strata.Clause{rope, runs(p.form("clouds", "and", 0.4, 0.7, 0.2, 1, 0.006, 78), 4)}, Targets: drum},
		{Name: "Rope wear", Hex: "#8a7350", Rough: 0.95, Where: []strata.Clause{rope, p.of("edges", "and", 0.52, 0.72, 0, false, nil), p.noise("and", 0.3, 0.6, 0.2, false, 0.03, 79)}, Targets: drum},
		{Name: "Worked steel", Hex: "#b6b4ae", Rough: 0.3, Metal: 1, Where: []strata.Clause{p.of("edges", "and", 0.36, 0.6, 0.2, false, nil), noGrips}, Targets: gears},
		{Name: "Gear rust", Hex: "#5a3420", Rough: 0.88, Height: 0.03, Where: []strata.Clause{p.noise("and", 0.55, 0.62, 0.3, false, 0.03, 83), faint(p.noise("minus", 0.5, 0.7, 0.2, false, 0.006, 84), 0.8), p.of("edges", "and", 0.45, 0.65, 0.1, true, nil), noGrips}, Targets: gears},
		{Name: "Scratches", Hex: "#b3b0a8", Rough: 0.5, Metal: noValue, Height: -0.02, Opacity: 0.45, Where: at(p.form("scratches", "and", 0.1, 0.6, 0.2, 1, 0.04, 85), p.noise("and", 0.4, 0.6, 0.2, false, 0.15, 86))},
		{Name: "Grease", Hex: "#1d1a14", Rough: 0.22, Height: 0.08, Opacity: 0.9, Where: []strata.Clause{p.parts("and", false, "spur", "pinion", "ratchet"), p.of("crevices", "and", 0.05, 0.4, 0.1, false, nil), p.of("shelter", "plus", 0.3, 0.8, 0, false, nil), p.noise("and", 0.35, 0.6, 0.2, false, 0.03, 89)}, Targets: gears},
		{Name: "Grip wood", Hex: "#7a5333", Rough: 0.55, Where: []strata.Clause{grips}, Targets: gears},
		{Name: "Wood grain", Hex: "#573520", Rough: 0.6, Metal: noValue, Opacity: 0.8, Where: []strata.Clause{grips, runs(p.form("veins", "and", 0.3, 0.95, 0, 1, 0.012, 95), 8)}, Targets: gears},
		{Name: "Hand polish", Hex: "#4e331f", Rough: 0.3, Opacity: 0.6, Where: []strata.Clause{grips, p.noise("and", 0.4, 0.6, 0.1, false, 0.03, 97)}, Targets: gears},
		{Name: "Brass plate", Hex: "#dcbf78", Rough: 0.33, Metal: 1, Where: []strata.Clause{plate}, Targets: housing},
		{Name: "Brass, dulled", Hex: "#7c6538", Rough: 0.6, Where: []strata.Clause{plate, p.noise("and", 0.46, 0.54, 0.4, false, 0.03, 99), p.of("edges", "and", 0.55, 0.75, 0, true, nil)}, Targets: housing},
		{Name: "Load", Hex: "#1d1c1a", Rough: 0.55, Height: 0.03, Where: []strata.Clause{p.brush("and"), faint(p.noise("minus", 0.5, 0.66, 0.3, false, 0.006, 98), 0.7)}, Targets: housing},
		{Name: "Rust at the rims", Hex: "#74401f", Rough: 0.9, Height: 0.01, Opacity: 0.9, Where: at(p.rim("Wear", gone), p.noise("and", 0.45, 0.53, 0.3, false, 0.03, 100)), Targets: []string{"1001", "1002", "1004"}},
		{Name: "Rust in seams", Hex: "#6e3818", Rough: 0.9, Height: 0.03, Where: at(p.of("crevices", "and", 0.12, 0.5, 0.1, false, nil), p.of("shelter", "plus", 0.6, 1, 0, false, nil), p.noise("and", 0.42, 0.55, 0.4, false, 0.035, 101)), Targets: []string{"1001", "1004"}},
		{Name: "Grime", Hex: "#2b2620", Rough: 0.82, Opacity: 0.6, Where: []strata.Clause{p.of("shelter", "and", 0.25, 0.9, 0, false, nil), p.noise("and", 0.25, 0.6, 0, false, 0.08, 103)}},
		{Name: "Splashed silt", Hex: "#6d6350", Rough: 0.9, Height: 0.03, Opacity: 0.6, Where: []strata.Clause{p.of("shelter", "and", 0.1, 0.7, 0, false, nil), p.noise("and", 0.4, 0.6, 0.2, false, 0.02, 107), p.form("speckles", "or", 0.55, 0.9, 0.2, 0.9, 0.009, 108), p.form("speckles", "or", 0.6, 0.9, 0.2, 0.8, 0.004, 112), p.of("reach", "and", 0.1, 1, 0, false, map[string]float64{"from": 0.02, "to": 0.3})}},
		{Name: "Dust and salt", Hex: "#b8b09c", Rough: 0.88, Opacity: 0.32, Where: []strata.Clause{top(80), p.noise("and", 0.2, 0.8, 0, false, 0.35, 109), p.form("speckles", "and", 0.1, 0.7, 0, 0.6, 0.008, 110), noRope}},
	}, folder{"Iron", "Cast iron", "Old rust"}, folder{"Paint", "Red lead", "Uneven gloss"}, folder{"Rope", "Tarred rope", "Rope wear"},
		folder{"Gears", "Worked steel", "Grease"}, folder{"Grips", "Grip wood", "Hand polish"}, folder{"Brass", "Brass plate", "Load"},
		folder{"Rust", "Rust at the rims", "Rust in seams"}, folder{"Dirt", "Grime", "Dust and salt"})
}

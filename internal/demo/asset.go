package demo

import (
	"bytes"

	"crust/internal/core/finish"
	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/store"
	"crust/internal/studio"
)

// Create makes “Channel buoy 12” in the studio with its strata and starts the bake of its maps.
func Create(s *studio.Studio) (uint, error) {
	low, high := Buoy()
	file := func(name string, m *mesh.Model) (studio.Upload, error) {
		var b bytes.Buffer
		err := WriteModel(&b, m)
		return studio.Upload{store.File{Name: name, Data: b.Bytes()}}, err
	}
	u, err := file("buoy.glb", low)
	if err != nil {
		return 0, err
	}
	id, err := s.Create("Channel buoy 12", u, Strata())
	if err != nil {
		return 0, err
	}
	a, err := s.Open(id)
	if err != nil {
		return 0, err
	}
	if u, err = file("buoy_high.glb", high); err != nil {
		return 0, err
	}
	if err := a.SetHigh(u); err != nil {
		return 0, err
	}
	return id, a.Bake(a.Missing())
}

// Strata is the buoy's weathering: primer and paint, worn to steel at the edges, rust in the seams,
// algae at the waterline, salt and grime.
func Strata() *strata.Document {
	d := new(strata.Document)
	k := finish.Clauses{Doc: d}
	noise := func(join string, low, high, contrast float32, invert bool, size, seed float64) strata.Clause {
		return k.Of("noise", join, finish.Shaped(low, high, contrast, invert), map[string]float64{"size": size, "seed": seed, "detail": 6})
	}
	of := func(kind, join string, low, high, contrast float32, invert bool, p map[string]float64) strata.Clause {
		return k.Of(kind, join, finish.Shaped(low, high, contrast, invert), p)
	}
	parts := func(join string, invert bool, names ...string) strata.Clause {
		return k.Of("parts", join, finish.Shaped(0, 1, 0, invert), nil, names...)
	}
	hull, tower, lantern := []string{"hull"}, []string{"tower"}, []string{"lantern"}
	worn := func(seed float64) []strata.Clause {
		return []strata.Clause{
			of("edges", "and", 0.34, 0.62, 0.2, true, nil),
			noise("or", 0.57, 0.67, 0.4, false, 0.045, seed),
			noise("and", 0.61, 0.645, 0.5, true, 0.16, seed+1),
		}
	}
	wider := func(seed float64) []strata.Clause {
		return []strata.Clause{
			of("edges", "and", 0.46, 0.74, 0.2, true, nil),
			noise("or", 0.53, 0.63, 0.4, false, 0.045, seed),
			noise("and", 0.635, 0.67, 0.5, true, 0.16, seed+1),
		}
	}
	with := func(c []strata.Clause, more ...strata.Clause) []strata.Clause { return append(c, more...) }
	rubber := parts("minus", false, "strake")
	glass := parts("minus", false, "lens")
	coats := []finish.Coat{
		{Name: "Bare steel", Hex: "#7d7b76", Rough: 0.44, Metal: 1},
		{Name: "Scale rust", Hex: "#4a2c1c", Rough: 0.92, Height: 0.12, Where: []strata.Clause{noise("and", 0.5, 0.6, 0.3, false, 0.05, 5), glass, rubber}},
		{Name: "Primer", Hex: "#8a7f70", Rough: 0.72, Height: 0.1, Where: with(wider(7), rubber, glass)},
		{Name: "Hull red", Hex: "#9c2b22", Rough: 0.42, Height: 0.18, Where: with(worn(7), rubber), Targets: hull},
		{Name: "Tower yellow", Hex: "#c99a2e", Rough: 0.45, Height: 0.15, Where: worn(17), Targets: tower},
		{Name: "Lamp grey", Hex: "#b9bab4", Rough: 0.4, Height: 0.1, Where: with(worn(27), glass), Targets: lantern},
		{Name: "Rubber", Hex: "#1f1f1e", Rough: 0.78, Where: []strata.Clause{parts("and", false, "strake")}, Targets: hull},
		{Name: "Lens glass", Hex: "#cfe0d6", Rough: 0.08, Where: []strata.Clause{parts("and", false, "lens")}, Targets: lantern},
		{Name: "Sun bleach", Hex: "#efe4d4", Rough: 0.6, Blend: "soft-light", Opacity: 0.35, Where: []strata.Clause{of("facing", "and", 0, 1, 0, false, map[string]float64{"cone": 100}), noise("and", 0.2, 0.9, 0, false, 0.4, 41), glass}},
		{Name: "Rust in seams", Hex: "#6e3818", Rough: 0.9, Height: 0.06, Where: []strata.Clause{of("crevices", "and", 0.12, 0.5, 0.1, false, nil), of("shelter", "plus", 0.55, 1, 0, false, nil), noise("and", 0.36, 0.6, 0.3, false, 0.06, 43), rubber, glass}},
		{Name: "Rust bloom", Hex: "#8c4a20", Rough: 0.88, Opacity: 0.75, Where: []strata.Clause{noise("and", 0.6, 0.72, 0.3, false, 0.11, 8), noise("and", 0.3, 0.6, 0.2, false, 0.02, 9), rubber, glass}},
		{Name: "Grime", Hex: "#2b2620", Rough: 0.82, Opacity: 0.7, Where: []strata.Clause{of("shelter", "and", 0.2, 0.9, 0, false, nil), noise("and", 0.25, 0.6, 0, false, 0.1, 47), glass}},
		{Name: "Algae line", Hex: "#3d4425", Rough: 0.7, Height: 0.2, Where: []strata.Clause{of("reach", "and", 0, 0.5, 0, false, map[string]float64{"from": 0.30, "to": 0.56}), noise("and", 0.3, 0.55, 0.3, false, 0.07, 53)}, Targets: hull},
		{Name: "Salt crust", Hex: "#cfcabb", Rough: 0.88, Height: 0.05, Opacity: 0.5, Where: []strata.Clause{of("facing", "and", 0.2, 0.9, 0, false, map[string]float64{"cone": 88}), noise("and", 0.5, 0.78, 0.1, false, 0.06, 59), of("shelter", "and", 0.1, 0.6, 0, true, nil), rubber, glass}},
	}
	for _, c := range coats {
		d.Layers = append(d.Layers, c.Layer(d))
	}
	return d
}

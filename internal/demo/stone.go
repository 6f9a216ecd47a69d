package demo

import (
	"math"
	"math/rand/v2"

	"crust/internal/core/brush"
	"crust/internal/core/strata"
	"crust/internal/studio"
)

// stoneSide of the piece of quay, in metres.
const stoneSide = 2

// createStone makes the quay's stone, a square that repeats.
func createStone(s *studio.Studio) (uint, error) {
	doc := StoneStrata()
	id, err := s.CreateSquare("Quay stone", stoneSide, doc, paintStone(doc))
	if err != nil {
		return 0, err
	}
	a, err := s.Open(id)
	if err != nil {
		return 0, err
	}
	picture, err := pictures.ReadFile("pictures/stone.png")
	if err != nil {
		return 0, err
	}
	return id, a.SetPicture(picture)
}

// StoneStrata is the quay's paving: dressed granite with worn rims and tool marks, sand and moss in the joints, tar where nets were
// dipped, and rust from a ring.
func StoneStrata() *strata.Document {
	p := newPalette()
	stones := func(join string) strata.Clause {
		c := p.of("pattern", join, 0, 1, 0, false, map[string]float64{"form": 6, "size": 0.25, "gap": 0.075, "jitter": 0.5, "side": 1, "seed": 4})
		c.Shape.Warp, c.Shape.Waves = 0.012, 0.11
		return c
	}
	relief := func(join, form string, radius, depth float64, low, high float32) strata.Clause {
		return p.of("relief", join, low, high, 0, false, map[string]float64{"form": map[string]float64{"edges": 0, "crevices": 1, "height": 2, "above": 3, "below": 4}[form], "radius": radius, "depth": depth})
	}
	soft := func(c strata.Clause, by float32) strata.Clause { c.Shape.Soften = by; return c }
	doc := p.lay([]coat{
		{Name: "Bedding sand", Hex: "#6f6250", Rough: 0.96, Metal: 0},
		{Name: "Grains", Hex: "#8d7f66", Rough: 0.95, Metal: noValue, Height: 0.8, Where: []strata.Clause{p.form("cells", "and", 0.5, 0.15, 0, 1, 0.012, 11)}},
		{Name: "Granite", Hex: "#807c76", Rough: 0.78, Height: 14, Where: []strata.Clause{soft(stones("and"), 0.012)}},
		{Name: "Unlike stones", Hex: "#5b5650", Rough: noValue, Metal: noValue, Height: 1.6, Opacity: 0.6, Where: []strata.Clause{p.on("Granite"), p.noise("and", 0.42, 0.6, 0.1, false, 0.42, 21)}},
		{Name: "Warm stones", Hex: "#97836b", Rough: noValue, Metal: noValue, Opacity: 0.55, Where: []strata.Clause{p.on("Granite"), p.noise("and", 0.5, 0.66, 0.1, false, 0.5, 22)}},
		{Name: "Feldspar", Hex: "#b9b2a6", Rough: 0.6, Metal: noValue, Opacity: 0.6, Where: []strata.Clause{p.on("Granite"), p.form("flakes", "and", 0.6, 0.66, 0, 1, 0.007, 23)}},
		{Name: "Mica", Hex: "#302e2c", Rough: 0.42, Metal: noValue, Opacity: 0.75, Where: []strata.Clause{p.on("Granite"), p.form("flakes", "and", 0.7, 0.75, 0, 1, 0.0045, 24)}},
		{Name: "Uneven dressing", Rough: noValue, Metal: noValue, Height: 2.4, Where: []strata.Clause{p.on("Granite"), p.noise("and", 0.3, 0.7, 0, false, 0.11, 25)}},
		{Name: "Tool marks", Hex: "#8d8981", Rough: 0.86, Metal: noValue, Height: -0.9, Opacity: 0.8, Where: []strata.Clause{p.on("Granite"), p.form("scratches", "and", 0.05, 0.7, 0, 1, 0.035, 26), p.noise("and", 0.42, 0.56, 0.1, false, 0.3, 27)}},
		{Name: "Pits", Hex: "#55514b", Rough: 0.92, Metal: noValue, Height: -1.5, Where: []strata.Clause{p.on("Granite"), p.form("speckles", "and", 0.35, 0.9, 0, 1, 0.02, 28)}},
		{Name: "Chipped rims", Hex: "#8f8b84", Rough: 0.84, Metal: noValue, Height: -4, Where: []strata.Clause{relief("and", "edges", 0.03, 0.004, 0.15, 0.6), p.form("flakes", "and", 0.56, 0.62, 0.2, 1, 0.03, 29)}},
		{Name: "Trodden rims", Hex: "#a39e96", Rough: 0.52, Metal: noValue, Opacity: 0.6, Where: []strata.Clause{relief("and", "edges", 0.02, 0.003, 0.15, 0.7), p.noise("and", 0.35, 0.65, 0, false, 0.25, 30)}},
		{Name: "Dirt in the joints", Hex: "#2d2822", Rough: 0.93, Metal: noValue, Opacity: 0.85, Where: []strata.Clause{relief("and", "crevices", 0.03, 0.004, 0.1, 0.7), p.noise("and", 0.25, 0.6, 0, false, 0.08, 31)}},
		{Name: "Moss", Hex: "#49562a", Rough: 0.98, Metal: noValue, Height: 3, Where: []strata.Clause{relief("and", "below", 0.02, 0.006, 0, 1), p.noise("and", 0.54, 0.6, 0.2, false, 0.22, 32), p.form("cells", "and", 0.75, 0.2, 0, 1, 0.008, 33)}},
		{Name: "Lichen", Hex: "#a8a480", Rough: 0.95, Metal: noValue, Height: 0.4, Opacity: 0.8, Where: []strata.Clause{p.on("Granite"), p.form("stains", "and", 0.2, 0.5, 0, 1, 0.07, 34), p.noise("and", 0.52, 0.62, 0.1, false, 0.4, 35)}},
		{Name: "Tar", Hex: "#171513", Rough: 0.3, Metal: noValue, Height: 0.6, Where: []strata.Clause{p.brush("and"), faint(p.form("flakes", "minus", 0.5, 0.6, 0.3, 1, 0.02, 36), 0.7)}},
		{Name: "Rust from a ring", Hex: "#6d3a1c", Rough: 0.85, Metal: noValue, Opacity: 0.75, Where: []strata.Clause{p.brush("and"), p.noise("and", 0.3, 0.62, 0.1, false, 0.03, 37)}},
		{Name: "Damp", Hex: "#4d4a45", Blend: "multiply", Rough: 0.34, Metal: noValue, Opacity: 0.5, Where: []strata.Clause{p.noise("and", 0.5, 0.62, 0, false, 0.6, 38), relief("minus", "height", 0.02, 0.02, 0.75, 1)}},
	}, folder{"Bed", "Bedding sand", "Grains"}, folder{"Stone", "Granite", "Trodden rims"}, folder{"Weather", "Dirt in the joints", "Damp"})
	if l, err := doc.Named("Damp"); err == nil { // water lies there: dark, smooth, mirroring
		l.What.Colour.On, l.What.Roughness.On = false, false
		l.What.Wet = strata.Value{On: true, Number: 1, Blend: "over", Opacity: 1}
		l.Opacity = 0.85
	}
	return doc
}

// paintStone drips tar across a corner of the square and drags rust over its rim.
func paintStone(doc *strata.Document) strata.Painting {
	p := &painter{doc, strata.Painting{}}
	r := rand.New(rand.NewPCG(8, 4))
	path := func(s float32, b brush.Brush, f func(t float64) (x, z float64)) *brush.Stroke {
		k := &brush.Stroke{Brush: b, Size: s, Seed: r.Uint32() | 1}
		var line []brush.Point
		for i := range 41 {
			t := float64(i) / 40
			x, z := f(t)
			line = append(line, brush.Point{float32(x), 0, float32(z), 0, 1, 0, max(0.2, brush.HandAt(t))})
		}
		k.Paths = [][]brush.Point{line}
		return k
	}
	drip := func(x, z, far float64) *brush.Stroke {
		turn := r.Float64() * 2 * math.Pi
		return path(0.05, built("Spatter, coarse", nil), func(t float64) (float64, float64) {
			return x + far*t*math.Cos(turn+t), z + far*t*math.Sin(turn+t)
		})
	}
	p.on("Tar", []*brush.Stroke{drip(0.86, -0.9, 0.5), drip(0.95, -1.05, 0.3), drip(1.1, -0.8, 0.4)})
	p.on("Rust from a ring", []*brush.Stroke{path(0.16, built("Dry bristle", nil), func(t float64) (float64, float64) {
		return -0.75 - 0.7*t, 0.3 + 0.12*math.Sin(3*t)
	})})
	return p.painted
}

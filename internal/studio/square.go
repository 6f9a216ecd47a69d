package studio

import (
	"bytes"
	"fmt"

	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/store"
)

// Sides of new squares in metres.
const (
	LeastSide = 0.01
	MostSide  = 100
)

// CreateSquare makes an asset of a flat square of side metres that repeats.
func (s *Studio) CreateSquare(name string, side float64, doc *strata.Document, painted strata.Painting) (uint, error) {
	if !(side >= LeastSide && side <= MostSide) {
		return 0, fmt.Errorf("a square of %g m is not offered; its side goes from %g to %d m", side, LeastSide, MostSide)
	}
	m := mesh.FlatSquare("square", float32(side))
	var b bytes.Buffer
	if err := mesh.WriteGLB(&b, m, mesh.GLBOptions{Materials: []mesh.GLBMaterial{{Name: "square", Colour: m.Materials[0].Colour}}, MaterialOf: func(int) int { return 0 }, Generator: "Crust"}); err != nil {
		return 0, err
	}
	id, err := s.CreatePainted(name, Upload{store.File{Name: "square.glb", Data: b.Bytes()}}, doc, painted)
	if err != nil {
		return 0, err
	}
	a, err := s.Open(id)
	if err != nil {
		return 0, err
	}
	a.mu.Lock()
	in := a.intake
	a.mu.Unlock()
	in.Repeats = true
	return id, a.SetIntake(in)
}

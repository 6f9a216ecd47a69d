package demo

import (
	"io"

	"crust/internal/core/mesh"
)

// WriteModel writes a demo model as GLB with its material slots and ID colours.
func WriteModel(w io.Writer, m *mesh.Model) error {
	o := mesh.GLBOptions{MaterialOf: func(t int) int { return int(m.Material[t]) }, Colours: true, Generator: "Crust demo"}
	for _, k := range m.Materials {
		o.Materials = append(o.Materials, mesh.GLBMaterial{Name: k.Name, Colour: k.Colour})
	}
	return mesh.WriteGLB(w, m, o)
}

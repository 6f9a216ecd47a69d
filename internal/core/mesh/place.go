package mesh

import "crust/internal/core/geom"

// Units of length that models are made in, in metres.
var Units = []struct {
	Name   string  `json:"name"`
	Metres float64 `json:"metres"`
}{{"m", 1}, {"dm", 0.1}, {"cm", 0.01}, {"mm", 0.001}, {"in", 0.0254}, {"ft", 0.3048}}

// Place brings a model made in another unit, or with Z up, to metres with Y up.
func (m *Model) Place(metres float64, zUp bool) {
	if metres == 1 && !zUp {
		return
	}
	k := float32(metres)
	turn := func(v geom.Vec3) geom.Vec3 {
		if zUp {
			return geom.Vec3{X: v.X, Y: v.Z, Z: -v.Y}
		}
		return v
	}
	for i, p := range m.Positions {
		m.Positions[i] = turn(p).Mul(k)
	}
	for i, n := range m.Normals {
		m.Normals[i] = turn(n)
	}
}

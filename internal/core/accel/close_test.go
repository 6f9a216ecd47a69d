package accel

import (
	"testing"

	"crust/internal/core/geom"
)

// Triangles whose centres are closer than the smallest normal 32-bit number are told apart by no plane; the hierarchy is
// built all the same, and a ray finds one of them.
func TestCentresCloserThanNumbersCanPart(t *testing.T) {
	var m Mesh
	for i := range 64 {
		z := float32(i) * 1e-40
		base := uint32(len(m.Positions))
		m.Positions = append(m.Positions, geom.Vec3{Z: z}, geom.Vec3{X: 1, Z: z}, geom.Vec3{Y: 1, Z: z})
		m.Tris = append(m.Tris, [3]uint32{base, base + 1, base + 2})
	}
	b := Build(m)
	if hit, ok := b.FirstHit(geom.Vec3{X: 0.2, Y: 0.2, Z: 1}, geom.Vec3{Z: -1}, 10, new(Stream)); !ok || hit.T < 0.99 || hit.T > 1.01 {
		t.Errorf("the ray meets %+v, %v; want a triangle at 1", hit, ok)
	}
}

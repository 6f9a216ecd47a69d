package uv

import (
	"context"
	"runtime"
	"testing"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
)

// pile is n faces at one place of UV space, one above the other on the model.
func pile(n int) *mesh.Model {
	m := &mesh.Model{Parts: []string{"pile"}, Materials: []mesh.Material{{Name: "pile"}}, HasUV: true}
	for i := range n {
		for k := range 3 {
			m.Positions = append(m.Positions, geom.Vec3{X: float32(k % 2), Y: float32(k / 2), Z: float32(i) * 0.01})
			m.Normals = append(m.Normals, geom.Vec3{Z: 1})
			m.UVs = append(m.UVs, geom.Vec2{X: 0.1 + 0.8*float32(k%2), Y: 0.1 + 0.8*float32(k/2)})
		}
		b := uint32(3 * i)
		m.Tris, m.Material, m.Part = append(m.Tris, [3]uint32{b, b + 1, b + 2}), append(m.Material, 0), append(m.Part, 0)
	}
	return m
}

// Faces piled on each other are told as copies of the lowest: as many overlaps as there are others, not one for each
// pair, each as large as the face. Memory grows with the faces, not with their pairs.
func TestPiledFacesAreCopiesOfOne(t *testing.T) {
	const n = 4000
	m := pile(n)
	sets, err := Sets(m, Single)
	if err != nil {
		t.Fatal(err)
	}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	over, err := NewMap(m, sets).Overlaps(context.Background())
	runtime.ReadMemStats(&after)
	if err != nil || len(over) != n-1 {
		t.Fatalf("%d overlaps, %v; want %d", len(over), err, n-1)
	}
	for _, o := range over {
		if o.A != 0 || !o.Stacked || o.Area < 0.3199 || o.Area > 0.3201 { // half of 0.8²
			t.Fatalf("%+v: want copies of island 0 that share 0.32 of the tile", o)
		}
	}
	if mb := (after.TotalAlloc - before.TotalAlloc) >> 20; mb > 60 {
		t.Errorf("%d MB for %d faces", mb, n)
	}
}

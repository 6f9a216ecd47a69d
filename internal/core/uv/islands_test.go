package uv

import (
	"context"
	"math"
	"math/rand/v2"
	"testing"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
)

// loose makes a model of single triangles with the given UVs, a metre apart.
func looseFaces(uvs [][3]geom.Vec2) *mesh.Model {
	m := &mesh.Model{Parts: []string{"part"}, Materials: []mesh.Material{{Name: "m"}}, HasUV: true}
	for i, t := range uvs {
		n := uint32(len(m.Positions))
		x := float32(i) * 2
		m.Positions = append(m.Positions, geom.Vec3{X: x}, geom.Vec3{X: x + 1}, geom.Vec3{X: x, Y: 1})
		m.Normals = append(m.Normals, geom.Vec3{Z: 1}, geom.Vec3{Z: 1}, geom.Vec3{Z: 1})
		m.UVs = append(m.UVs, t[:]...)
		m.Tris = append(m.Tris, [3]uint32{n, n + 1, n + 2})
		m.Material, m.Part = append(m.Material, 0), append(m.Part, 0)
	}
	return m
}

func mapOf(t *testing.T, m *mesh.Model) *Map {
	t.Helper()
	sets, err := Sets(m, Single)
	if err != nil {
		t.Fatal(err)
	}
	return NewMap(m, sets)
}

// sharedArea counts the points of a fine grid that lie in both triangles: brute force.
func sharedArea(a, b [3]geom.Vec2, n int) float64 {
	in := func(t [3]geom.Vec2, x, y float64) bool {
		s := func(p, q geom.Vec2) float64 {
			return (float64(q.X)-float64(p.X))*(y-float64(p.Y)) - (float64(q.Y)-float64(p.Y))*(x-float64(p.X))
		}
		u, v, w := s(t[0], t[1]), s(t[1], t[2]), s(t[2], t[0])
		return u > 0 && v > 0 && w > 0 || u < 0 && v < 0 && w < 0
	}
	hits := 0
	for i := range n {
		for j := range n {
			x, y := (float64(i)+0.5)/float64(n), (float64(j)+0.5)/float64(n)
			if in(a, x, y) && in(b, x, y) {
				hits++
			}
		}
	}
	return float64(hits) / float64(n*n)
}

// Overlaps of random triangles against brute force, pair by pair.
func TestOverlapsMatchBruteForceOnRandomLayouts(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	for round := range 3 {
		var uvs [][3]geom.Vec2
		for range 24 {
			x, y, size := r.Float32()*0.8, r.Float32()*0.8, 0.02+0.3*r.Float32()
			var tri [3]geom.Vec2
			for k := range tri {
				tri[k] = geom.Vec2{X: min(1, x+size*r.Float32()), Y: min(1, y+size*r.Float32())}
			}
			uvs = append(uvs, tri)
		}
		got := map[[2]int]float64{}
		over, err := mapOf(t, looseFaces(uvs)).Overlaps(context.Background())
		if err != nil {
			t.Fatal(err)
		}
		for _, o := range over {
			got[[2]int{o.A, o.B}] = o.Area
		}
		const n = 400
		for i := range uvs {
			for j := i + 1; j < len(uvs); j++ {
				want := sharedArea(uvs[i], uvs[j], n)
				if math.Abs(got[[2]int{i, j}]-want) > 0.003 {
					t.Errorf("round %d, faces %d and %d share %.5f of the tile, brute force counts %.5f", round, i, j, got[[2]int{i, j}], want)
				}
				if want > 0 && got[[2]int{i, j}] == 0 {
					t.Errorf("round %d: the overlap of %d and %d was missed", round, i, j)
				}
			}
		}
	}
}

// segmentDistance by dense sampling: brute force.
func sampledDistance(a, b [3]geom.Vec2) float64 {
	best := math.Inf(1)
	const n = 120
	at := func(t [3]geom.Vec2, k, i int) (float64, float64) {
		p, q, f := t[k], t[(k+1)%3], float64(i)/n
		return float64(p.X) + f*float64(q.X-p.X), float64(p.Y) + f*float64(q.Y-p.Y)
	}
	for k := range 3 {
		for l := range 3 {
			for i := range n + 1 {
				x, y := at(a, k, i)
				for j := range n + 1 {
					u, v := at(b, l, j)
					best = min(best, math.Hypot(x-u, y-v))
				}
			}
		}
	}
	return best
}

// Distances of islands against brute force.
func TestNearIslandsMatchBruteForce(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	var uvs [][3]geom.Vec2
	for i := range 16 { // one small triangle in each cell, so that none overlap
		x, y := float32(i%4)/4, float32(i/4)/4
		var tri [3]geom.Vec2
		for k := range tri {
			tri[k] = geom.Vec2{X: x + 0.25*r.Float32(), Y: y + 0.25*r.Float32()}
		}
		uvs = append(uvs, tri)
	}
	const limit = 0.13
	near, err := mapOf(t, looseFaces(uvs)).Nearer(context.Background(), func(int) float64 { return limit }, nil, func(int, int) bool { return false })
	if err != nil {
		t.Fatal(err)
	}
	got := map[[2]int]float64{}
	for _, n := range near {
		got[[2]int{n.A, n.B}] = n.Distance
	}
	for i := range uvs {
		for j := i + 1; j < len(uvs); j++ {
			want := sampledDistance(uvs[i], uvs[j])
			d, found := got[[2]int{i, j}]
			if found != (want < limit) && math.Abs(want-limit) > 0.001 {
				t.Errorf("faces %d and %d are %.4f apart, found nearer than %.2f: %v", i, j, want, limit, found)
			}
			if found && math.Abs(d-want) > 0.002 {
				t.Errorf("faces %d and %d are %.4f apart, brute force says %.4f", i, j, d, want)
			}
		}
	}
	if len(near) < 5 {
		t.Errorf("only %d near pairs: the layout shows nothing", len(near))
	}
}

// Worked by hand: two unit squares of a plane laid on each other by a quarter, a mirrored copy, a
// strip folded back on itself.
func TestOverlapsWorkedByHand(t *testing.T) {
	quad := func(x0, y0, x1, y1 float32) *mesh.Model {
		m := mesh.Grid(2, 2, 0, func(s, t float64) [3]float64 { return [3]float64{s, t, 0} })
		for i, p := range m.UVs {
			m.UVs[i] = geom.Vec2{X: x0 + p.X*(x1-x0), Y: y0 + p.Y*(y1-y0)}
		}
		return m
	}
	for _, c := range []struct {
		name              string
		a, b              *mesh.Model
		area              float64
		stacked, mirrored bool
	}{
		{"a quarter shared", quad(0, 0, 0.5, 0.5), quad(0.25, 0.25, 0.75, 0.75), 0.0625, false, false},
		{"touching along a side", quad(0, 0, 0.5, 0.5), quad(0.5, 0, 1, 0.5), 0, false, false},
		{"a copy on top", quad(0, 0, 0.5, 0.5), quad(0, 0, 0.5, 0.5), 0.25, true, false},
		{"a mirrored copy on top", quad(0, 0, 0.5, 0.5), quad(0.5, 0, 0, 0.5), 0.25, true, true},
		{"a smaller one inside", quad(0, 0, 0.5, 0.5), quad(0.1, 0.1, 0.3, 0.3), 0.04, false, false},
	} {
		c.b.Positions = append([]geom.Vec3(nil), c.b.Positions...)
		for i := range c.b.Positions {
			c.b.Positions[i].Z = 5
		}
		c.a.Append(c.b)
		m := mapOf(t, c.a)
		over, err := m.Overlaps(context.Background())
		if err != nil {
			t.Fatal(err)
		}
		if c.area == 0 {
			if len(over) > 0 {
				t.Errorf("%s: %d overlaps of %g", c.name, len(over), over[0].Area)
			}
			continue
		}
		if len(over) != 1 || math.Abs(over[0].Area-c.area) > 1e-6 || over[0].Stacked != c.stacked || over[0].Mirrored != c.mirrored {
			t.Errorf("%s: %+v; want an area of %g, stacked %v, mirrored %v", c.name, over, c.area, c.stacked, c.mirrored)
		}
	}
	strip := mesh.Grid(4, 1, 0, func(s, t float64) [3]float64 { return [3]float64{s, t, 0} })
	for i, p := range strip.UVs {
		strip.UVs[i] = geom.Vec2{X: min(p.X, 1-p.X), Y: p.Y * 0.5} // the right half comes back over the left
	}
	over, err := mapOf(t, strip).Overlaps(context.Background())
	if err != nil || len(over) != 1 || over[0].A != over[0].B || math.Abs(over[0].Area-0.25) > 1e-6 {
		t.Errorf("a folded strip: %+v, %v; want one island that shares 0.25 with itself", over, err)
	}
}

// The stretch of a plane mapped x : y = 3 : 1 is 3, along both directions exact.
func TestStretchOfAnAffineMap(t *testing.T) {
	m := mesh.Grid(1, 1, 0, func(s, t float64) [3]float64 { return [3]float64{6 * s, 2 * t, 0} })
	for tri := range m.Tris {
		long, short, ok := Stretch(m, tri)
		if !ok || math.Abs(long-6) > 1e-5 || math.Abs(short-2) > 1e-5 {
			t.Errorf("%g and %g m a tile, want 6 and 2", long, short)
		}
	}
}

func TestIslandsOfASphereAndItsSeam(t *testing.T) {
	m := mesh.Sphere(16, 8, 1, [3]float64{})
	m.Append(mesh.Sphere(16, 8, 1, [3]float64{5, 0, 0}))
	u := mapOf(t, m)
	if len(u.Islands) != 2 {
		t.Fatalf("%d islands, want one for each sphere", len(u.Islands))
	}
	if d := u.Islands[0].Area - u.Islands[1].Area; math.Abs(d) > 1e-4 {
		t.Errorf("areas differ by %g", d)
	}
	// A grid of 7 × 5 quads has 24 sides round it.
	if n := len(mapOf(t, mesh.Grid(7, 5, 0, func(s, t float64) [3]float64 { return [3]float64{s, t, 0} })).Rim(0)); n != 24 {
		t.Errorf("%d rim sides, want 24", n)
	}
}

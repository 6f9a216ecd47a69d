package inspect

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/uv"
)

func look(t *testing.T, m *mesh.Model, split string) *Report {
	t.Helper()
	sets, err := uv.Sets(m, split)
	if err != nil {
		t.Fatal(err)
	}
	r, err := Model(context.Background(), m, sets, Options{Padding: 4}, nil)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func kinds(r *Report) string {
	var out []string
	for _, f := range r.Findings {
		out = append(out, fmt.Sprintf("%s %d", f.Kind, f.Count))
	}
	return strings.Join(out, ", ")
}

// plane is a metre square whose UVs fill x0 to x1 and 0.02 to 0.98.
func plane(x0, x1 float32) *mesh.Model {
	m := mesh.Grid(4, 4, 0.02, func(s, t float64) [3]float64 { return [3]float64{s, t, 0} })
	for i, p := range m.UVs {
		m.UVs[i].X = x0 + (p.X-0.02)/0.96*(x1-x0)
	}
	return m
}

func shifted(m *mesh.Model, by geom.Vec3) *mesh.Model {
	for i := range m.Positions {
		m.Positions[i] = m.Positions[i].Add(by)
	}
	return m
}

func obj(t *testing.T, text string) *mesh.Model {
	t.Helper()
	m, err := mesh.Read("a.obj", []byte(text), nil)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

const square = "v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nvt 0.02 0.02\nvt 0.98 0.02\nvt 0.98 0.98\nvt 0.02 0.98\n"

// Each fault alone, made by hand, is found with its count and nothing else is.
func TestEachFaultIsFoundAlone(t *testing.T) {
	with := func(ms ...*mesh.Model) *mesh.Model {
		for _, o := range ms[1:] {
			ms[0].Append(o)
		}
		clear(ms[0].Material)
		return ms[0]
	}
	edit := func(m *mesh.Model, f func(m *mesh.Model)) *mesh.Model { f(m); return m }
	wide := geom.Vec3{Z: 2}
	for _, c := range []struct {
		name string
		m    *mesh.Model
		want string
	}{
		{"sound", plane(0.02, 0.98), ""},
		{"no UVs", edit(plane(0.02, 0.98), func(m *mesh.Model) {
			m.HasUV = false
			clear(m.UVs)
		}), "no-uv 32"},
		{"flat in UV space", edit(plane(0.02, 0.98), func(m *mesh.Model) {
			for i := range m.UVs {
				m.UVs[i] = geom.Vec2{X: 0.5, Y: 0.5}
			}
		}), "degenerate-uv 32"},
		{"overlapping", with(plane(0.02, 0.6), shifted(plane(0.4, 0.98), wide)), "overlap 2, stretched 2, alike 1"},
		{"stacked", with(plane(0.02, 0.98), shifted(plane(0.02, 0.98), wide)), "stacked 2, alike 1"},
		{"mirrored", plane(0.98, 0.02), "mirrored 1"},
		{"across the border", plane(0.2, 1.2), "outside 1"},
		{"nearer than 4 px", with(plane(0.02, 0.499), shifted(plane(0.501, 0.98), wide)), "near 1, stretched 2, alike 1"},
		{"stretched", plane(0.02, 0.6), "stretched 1, unused 44"},
		{"duplicate faces", obj(t, square+"f 1/1 2/2 3/3 4/4\nf 1/1 2/2 3/3\n"), "folded 1, duplicate 1"},
		{"flipped against its neighbours", obj(t, square+"v 2 0 0\nv 2 1 0\nvn 0 0 1\nf 1/1/1 2/2/1 3/3/1 4/4/1\nf 2//1 3//1 6//1 5//1\n"), "no-uv 2, flipped 2"},
		{"three faces on one edge", obj(t, square+"v 0.5 0.5 1\nf 1/1 2/2 3/3\nf 1/1 3/3 4/4\nf 1/1 3/3 5/1\n"), "degenerate-uv 1, non-manifold 1"},
		{"without area", obj(t, square+"v 0.5 0 0\nf 1/1 2/2 3/3 4/4\nf 1/1 2/2 5/1\n"), "zero-area 1"},
		{"loose vertices", obj(t, square+"v 7 7 7\nv 8 8 8\nf 1/1 2/2 3/3 4/4\n"), "loose 2"},
		{"named alike", obj(t, square+"o bolt_a\nf 1/1 2/2 3/3\no Bolt-A\nf 1/1 3/3 4/4\n"), "alike 1"},
		{"unfit set name", obj(t, square+"usemtl con\nf 1/1 2/2 3/3 4/4\n"), "name 1"},
		{"250 m tall", edit(plane(0.02, 0.98), func(m *mesh.Model) { m.Place(250, false) }), "scale 1"},
		{"1 mm small", edit(plane(0.02, 0.98), func(m *mesh.Model) { m.Place(0.001, false) }), "scale 1"},
	} {
		if got := kinds(look(t, c.m, uv.PerMaterial)); got != c.want && strings.ReplaceAll(got, ", alike 1", "") != c.want {
			t.Errorf("%s: found %q, want %q", c.name, got, c.want)
		}
	}
}

// A closed box turned inside out is wrong as a whole; one that is right is not.
func TestInsideOut(t *testing.T) {
	box := "v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nv 0 0 1\nv 1 0 1\nv 1 1 1\nv 0 1 1\n"
	faces := [][4]int{{4, 3, 2, 1}, {5, 6, 7, 8}, {1, 2, 6, 5}, {3, 4, 8, 7}, {2, 3, 7, 6}, {4, 1, 5, 8}}
	for _, out := range []bool{true, false} {
		s := box
		for _, f := range faces {
			if !out {
				slices.Reverse(f[:])
			}
			s += fmt.Sprintf("f %d %d %d %d\n", f[0], f[1], f[2], f[3])
		}
		n := len(obj(t, s).Faults().Flipped)
		if want := map[bool]int{true: 0, false: 12}[out]; n != want {
			t.Errorf("outwards %v: %d faces flipped, want %d", out, n, want)
		}
	}
}

func TestDensityOutliers(t *testing.T) {
	m := plane(0.02, 0.98)
	small := shifted(plane(0.02, 0.98), geom.Vec3{Z: 1})
	for i, p := range small.UVs {
		small.UVs[i] = geom.Vec2{X: p.X * 0.2, Y: p.Y * 0.2}
	}
	small.Materials[0].Name, small.Parts[0] = "other", "lid"
	m.Append(small)
	m.Append(shifted(plane(0.02, 0.98), geom.Vec3{Z: 2}))
	m.Materials[2].Name, m.Parts[2] = "third", "rim"
	r := look(t, m, uv.PerMaterial)
	if got := kinds(r); !strings.Contains(got, "set-density 1") {
		t.Errorf("found %q, want one set of another density", got)
	}
	if r := look(t, m, uv.Single); !strings.Contains(kinds(r), "density 1") {
		t.Errorf("found %q, want one island of another density", kinds(r))
	}
}

// Every finding says what it is, what it means and what to do, and where: inside the model's box.
func TestFindingsSayWhereAndWhat(t *testing.T) {
	m := plane(0.2, 1.2)
	m.Append(shifted(plane(0.02, 0.6), geom.Vec3{Z: 2}))
	for _, f := range look(t, m, uv.Single).Findings {
		if f.Title == "" || f.Detail == "" || f.Remedy == "" || f.Severity != Mend && f.Severity != Know {
			t.Errorf("%s: title %q, detail %q, remedy %q, severity %q", f.Kind, f.Title, f.Detail, f.Remedy, f.Severity)
		}
		if len(f.Places) == 0 && f.Kind != "unused" {
			t.Errorf("%s has no place", f.Kind)
		}
		b := m.Bounds()
		for _, p := range f.Places {
			if p.Label == "" || geom.FromArray(p.Min).Min(b.Min) != b.Min || geom.FromArray(p.Max).Max(b.Max) != b.Max {
				t.Errorf("%s: %+v is not in the model", f.Kind, p)
			}
		}
	}
}

// A metre model taken for one in metres though made in centimetres is told with the unit that fits.
func TestWrongScaleNamesTheUnit(t *testing.T) {
	m := plane(0.02, 0.98)
	m.Place(180, false)
	for _, f := range look(t, m, uv.Single).Findings {
		if f.Kind == "scale" && !strings.Contains(f.Remedy, "cm, it is 1.8 m") {
			t.Errorf("remedy %q, want centimetres and 1.8 m", f.Remedy)
		}
	}
}

// What very many very large faces cover is counted on a coarser grid, and is the same share: a half of the square (closed form).
func TestManyLargeFacesAreCountedOnACoarserGrid(t *testing.T) {
	m := &mesh.Model{UVs: []geom.Vec2{{}, {X: 1}, {Y: 1}}}
	var faces []int32
	for i := range 2 * mostRows / unusedGrid {
		m.Tris, faces = append(m.Tris, [3]uint32{0, 1, 2}), append(faces, int32(i))
	}
	set := &uv.Set{}
	if n := coverGrid(m, set, faces); n >= unusedGrid || n < unusedGrid/4 {
		t.Errorf("a grid of %d for %d faces", n, len(faces))
	}
	if n := coverGrid(m, set, faces[:1000]); n != unusedGrid {
		t.Errorf("a grid of %d for 1000 faces, want %d", n, unusedGrid)
	}
	if got := covered(m, set, faces, 2); got < 0.48 || got > 0.52 {
		t.Errorf("%.3f of the square is covered, want 0.5", got)
	}
}

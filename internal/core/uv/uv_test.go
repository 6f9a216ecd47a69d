package uv

import (
	"math"
	"strings"
	"testing"

	"crust/internal/core/mesh"
)

// MaterialX specification, filename substitutions: UDIM = 1001 + u + 10·v.
func TestUDIMNumbersFollowMaterialX(t *testing.T) {
	for _, c := range []struct {
		u, v float32
		want int
	}{{0.5, 0.5, 1001}, {9.5, 0.5, 1010}, {0.5, 1.5, 1011}, {3.2, 2.9, 1024}} {
		if got, ok := Tile(c.u, c.v); !ok || got != c.want {
			t.Errorf("(%g, %g) is tile %d, want %d", c.u, c.v, got, c.want)
		}
	}
	for _, p := range [][2]float32{{-0.1, 0.5}, {10.5, 0.5}, {0.5, -0.5}, {float32(math.NaN()), 0}} {
		if n, ok := Tile(p[0], p[1]); ok {
			t.Errorf("%v is tile %d, want none", p, n)
		}
	}
}

func plane(shift float32) *mesh.Model {
	m := mesh.Grid(7, 5, 0.1, func(s, t float64) [3]float64 { return [3]float64{2 * s, 0, 1 - t} })
	for i := range m.UVs {
		m.UVs[i].X += shift
	}
	return m
}

// A grid of triangles covers each texel whose centre lies in it, once: edges are shared, not doubled,
// and the count is that of the square by area.
func TestRasterCoversTheSquareOnce(t *testing.T) {
	m := plane(0)
	sets, err := Sets(m, Single)
	if err != nil {
		t.Fatal(err)
	}
	const n = 100
	count := make([]int, n*n)
	for _, k := range sets[0].Tris {
		Raster(m, &sets[0], int(k), n, 0, 0, func(at int, u, v float32) {
			if u < -1e-4 || v < -1e-4 || u+v > 1.0001 {
				t.Fatalf("barycentrics %g, %g", u, v)
			}
			count[at]++
		})
	}
	covered, interior := 0, 0
	for at, c := range count {
		if c > 0 {
			covered++
		}
		x, y := float64(at%n)+0.5, float64(at/n)+0.5
		if x > 10 && x < 90 && y > 10 && y < 90 {
			interior++
			if c == 0 {
				t.Fatalf("texel (%g, %g) is not covered", x, y)
			}
		} else if c > 0 {
			t.Fatalf("texel (%g, %g) outside is covered", x, y)
		}
	}
	if covered != interior {
		t.Errorf("%d texels covered, want %d", covered, interior)
	}
	if d := sets[0].Density(1000); math.Abs(d-math.Sqrt(0.64/2)*1000) > 0.5 {
		t.Errorf("texel density %.2f px/m, want √(0.64/2)·1000", d)
	}
}

func TestSplittingByTileNumbersTheSets(t *testing.T) {
	m := plane(0)
	m.Append(plane(1))
	m.Append(plane(3))
	sets, err := Sets(m, PerTile)
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, s := range sets {
		names = append(names, s.Name)
	}
	if strings.Join(names, ",") != "1001,1002,1004" || sets[2].Origin.X != 3 {
		t.Errorf("sets %v, third at %v", names, sets[2].Origin)
	}
	if _, err := Sets(plane(-1), PerTile); err == nil || !strings.Contains(err.Error(), "UV (-0.") {
		t.Errorf("a face left of the tiles: %v", err)
	}
	if sets, _ = Sets(m, PerMaterial); len(sets) != 3 || sets[0].Name == sets[1].Name {
		t.Errorf("slots of one name must become sets of different names: %v", sets)
	}
}

func TestBoundsHoldTheSquareAndWhatReachesOut(t *testing.T) {
	m := plane(0.5) // U from 0.6 to 1.4
	sets, _ := Sets(m, Single)
	x0, y0, x1, y1 := sets[0].Bounds(m)
	if x0 != 0 || y0 != 0 || math.Abs(float64(x1-1.4)) > 1e-6 || y1 != 1 {
		t.Errorf("(%g, %g) to (%g, %g), want (0, 0) to (1.4, 1)", x0, y0, x1, y1)
	}
}

func TestOutline(t *testing.T) {
	m := plane(0)
	m.Append(plane(2))
	sets, _ := Sets(m, Single)
	// Each island is a rectangle of 7 × 5 quads: 24 edges round it.
	if n := len(Outline(m, &sets[0])); n != 48 {
		t.Errorf("%d outline edges, want 48", n)
	}
}

// Microsoft, Naming Files, Paths, and Namespaces; the rest is common practice.
func TestNamesBecomeFileNames(t *testing.T) {
	for in, want := range map[string]string{"hull": "hull", "deck ": "deck", "a/b:c": "a_b_c", "": "set", "tab\there": "tab_here", ". .": "set", "CON": "CON_", "nul.png": "nul_.png", "com1": "com1_", "console": "console", "bell\a": "bell_", strings.Repeat("x", 200): strings.Repeat("x", MaxName)} {
		if got := FileName(in); got != want {
			t.Errorf("%q becomes %q, want %q", in, got, want)
		}
	}
}

func TestUnfitNamesAreRefusedWithAProposal(t *testing.T) {
	taken := func(lower string) bool { return lower == "hull" || lower == "deck" || lower == "deck_2" }
	for _, c := range []struct{ name, reason, proposal string }{
		{"mast", "", "mast"},
		{"mast ", "begins or ends with a blank", "mast"},
		{"\tmast", "tab", "_mast"},
		{"mast\x01", "control character", "mast_"},
		{"mast.", "full stop", "mast"},
		{"a*b", "one of", "a_b"},
		{"Lpt3.tga", "device", "Lpt3_.tga"},
		{"", "empty", "set"},
		{strings.Repeat("m", 61), "longer than 60", strings.Repeat("m", 60)},
		{"HULL", "another set has it", "HULL_2"},
		{"deck", "another set has it", "deck_3"},
		{"\xff", "not sound text", "_"},
	} {
		reason, proposal := CheckName(c.name, taken)
		if !strings.Contains(reason, c.reason) || (c.reason == "") != (reason == "") || proposal != c.proposal {
			t.Errorf("%q: %q, %q; want %q, %q", c.name, reason, proposal, c.reason, c.proposal)
		}
		if again, _ := CheckName(proposal, taken); again != "" {
			t.Errorf("the proposal %q is not fit: %s", proposal, again)
		}
	}
}

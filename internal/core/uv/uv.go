// Package uv splits a model into texture sets and looks at how their UVs lie in the tile.
package uv

import (
	"fmt"
	"math"
	"sort"
	"strings"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
)

// Ways to split an asset into texture sets.
const (
	Single      = "single"
	PerMaterial = "material"
	PerTile     = "udim"
)

// Splits lists the ways in the order they are offered.
var Splits = []string{Single, PerMaterial, PerTile}

// Set is the faces that share one square of texture.
type Set struct {
	Name   string
	Tile   int       // UDIM number, 0 when sets are not tiles
	Origin geom.Vec2 // lower left corner of the square in UV space
	Tris   []int32
	Area   float64 // square metres
	UVArea float64 // of the unit square; islands on top of each other count twice
}

// Density is the texel density in px/m at the given size.
func (s *Set) Density(size int) float64 {
	if s.Area <= 0 {
		return 0
	}
	return math.Sqrt(s.UVArea/s.Area) * float64(size)
}

// Bounds is the box of the set's square and of all its UVs, in the square's units.
func (s *Set) Bounds(m *mesh.Model) (x0, y0, x1, y1 float32) {
	x1, y1 = 1, 1
	for _, t := range s.Tris {
		for _, k := range m.Tris[t] {
			p := m.UVs[k].Sub(s.Origin)
			x0, y0, x1, y1 = min(x0, p.X), min(y0, p.Y), max(x1, p.X), max(y1, p.Y)
		}
	}
	return x0, y0, x1, y1
}

// Tile returns the UDIM number of the unit square that holds (u, v): 1001 + column + 10·row, as in
// the MaterialX specification. Points left of, below or right of the ten columns have none.
func Tile(u, v float32) (int, bool) {
	c, r := math.Floor(float64(u)), math.Floor(float64(v))
	if c < 0 || c > 9 || r < 0 || r > 899 || c != c || r != r {
		return 0, false
	}
	return 1001 + int(c) + 10*int(r), true
}

// Sets splits the model. Sets come in the order of the material slots, or of the tile numbers.
func Sets(m *mesh.Model, split string) ([]Set, error) {
	switch split {
	case Single:
		s := Set{Name: "asset"}
		for t := range m.Tris {
			s.add(m, int32(t))
		}
		return []Set{s}, nil
	case PerMaterial:
		sets := make([]Set, len(m.Materials))
		for i, mat := range m.Materials {
			sets[i].Name = mat.Name
		}
		for t, k := range m.Material {
			sets[k].add(m, int32(t))
		}
		var out []Set
		for _, s := range sets {
			if len(s.Tris) > 0 {
				out = append(out, s)
			}
		}
		nameForFiles(out)
		return out, nil
	case PerTile:
		return tiles(m)
	}
	return nil, fmt.Errorf("“%s” is not a way to split; use %s", split, strings.Join(Splits, ", "))
}

func tiles(m *mesh.Model) ([]Set, error) {
	at := map[int]*Set{}
	for t, tri := range m.Tris {
		c := m.UVs[tri[0]].Add(m.UVs[tri[1]]).Add(m.UVs[tri[2]]).Mul(1. / 3)
		n, ok := Tile(c.X, c.Y)
		if !ok {
			return nil, fmt.Errorf("a face of “%s” lies at UV (%.2f, %.2f), where there is no UDIM tile; move it to columns 0–9, rows from 0 up", m.Parts[m.Part[t]], c.X, c.Y)
		}
		s := at[n]
		if s == nil {
			s = &Set{Name: fmt.Sprint(n), Tile: n, Origin: geom.Vec2{X: float32((n - 1001) % 10), Y: float32((n - 1001) / 10)}}
			at[n] = s
		}
		s.add(m, int32(t))
	}
	var out []Set
	for _, s := range at {
		out = append(out, *s)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Tile < out[j].Tile })
	return out, nil
}

func (s *Set) add(m *mesh.Model, t int32) {
	s.Tris = append(s.Tris, t)
	s.Area += float64(m.Area(int(t)))
	s.UVArea += math.Abs(float64(m.UVArea(int(t))))
}

// nameForFiles makes the names fit for file names on every system, and different from each other.
func nameForFiles(sets []Set) {
	taken := map[string]bool{}
	for i := range sets {
		base := FileName(sets[i].Name)
		name := base
		for k := 2; taken[strings.ToLower(name)]; k++ {
			name = fmt.Sprintf("%s_%d", base, k)
		}
		taken[strings.ToLower(name)] = true
		sets[i].Name = name
	}
}

// FileName turns any name into one that every file system takes.
func FileName(s string) string {
	s = strings.Map(func(r rune) rune {
		if r < 32 || strings.ContainsRune(`<>:"/\|?*`, r) || r == 0xfffd {
			return '_'
		}
		return r
	}, s)
	s = strings.Trim(s, " .\t")
	if r := []rune(s); len(r) > 80 {
		s = string(r[:80])
	}
	if s == "" {
		return "set"
	}
	return s
}

// Check is one finding about a model's UVs.
type Check struct {
	Kind     string `json:"kind"`
	Severity string `json:"severity"` // "mend" or "know"
	Set      string `json:"set"`
	Count    int    `json:"count"`
	Detail   string `json:"detail"`
}

// Checks looks for faults that spoil a bake.
func Checks(m *mesh.Model, sets []Set) []Check {
	out := []Check{}
	for i := range sets {
		s := &sets[i]
		if !m.HasUV {
			bare := 0
			for _, t := range s.Tris {
				if m.UVArea(int(t)) == 0 {
					bare++
				}
			}
			if bare > 0 {
				out = append(out, Check{"no-uv", "mend", s.Name, bare, "faces without UVs cannot hold texture; unwrap them and bring the model in again"})
			}
			continue
		}
		outside, flat, zero := 0, 0, 0
		for _, t := range s.Tris {
			if m.Area(int(t)) == 0 {
				zero++
				continue
			}
			if m.UVArea(int(t)) == 0 {
				flat++
			}
			for _, k := range m.Tris[t] {
				p := m.UVs[k].Sub(s.Origin)
				if p.X < -1e-5 || p.Y < -1e-5 || p.X > 1+1e-5 || p.Y > 1+1e-5 {
					outside++
					break
				}
			}
		}
		add := func(kind, severity string, n int, detail string) {
			if n > 0 {
				out = append(out, Check{kind, severity, s.Name, n, detail})
			}
		}
		add("outside", "mend", outside, "faces reach out of the tile and get no texture there; move their islands inside, or split per UDIM tile")
		add("degenerate-uv", "mend", flat, "faces have no area in UV space and show one texel smeared; unwrap them")
		add("zero-area", "know", zero, "faces have no area and are passed over")
		if n, share := overlap(m, s); n > 0 {
			add("overlap", "mend", n, fmt.Sprintf("islands share %.1f %% of the tile; what is painted on one shows on the other", share*100))
		}
	}
	return out
}

// overlapSize is the grid on which overlaps are counted, in cells a side.
const overlapSize = 1024

// overlap counts the faces whose inside covers a grid point that an earlier face covers too.
func overlap(m *mesh.Model, s *Set) (faces int, share float64) {
	seen := make([]bool, overlapSize*overlapSize)
	twice := 0
	for _, t := range s.Tris {
		hit := false
		Raster(m, s, int(t), overlapSize, 0, 0, func(at int, u, v float32) {
			const in = 0.02 // clear of shared edges
			if u < in || v < in || 1-u-v < in {
				return
			}
			if seen[at] {
				twice++
				hit = true
			}
			seen[at] = true
		})
		if hit {
			faces++
		}
	}
	return faces, float64(twice) / overlapSize / overlapSize
}

// Raster calls f for every texel of the square whose centre, moved by (dx, dy) texels, lies in
// triangle t: at is row · size + column from the top left, u and v the barycentrics of the second
// and third corner.
func Raster(m *mesh.Model, s *Set, t, size int, dx, dy float32, f func(at int, u, v float32)) {
	var x, y [3]float64
	for k, i := range m.Tris[t] {
		p := m.UVs[i].Sub(s.Origin)
		x[k] = float64(p.X)*float64(size) - 0.5 - float64(dx)
		y[k] = (1-float64(p.Y))*float64(size) - 0.5 - float64(dy)
	}
	det := (x[1]-x[0])*(y[2]-y[0]) - (x[2]-x[0])*(y[1]-y[0])
	if det == 0 || det != det {
		return
	}
	limit := float64(size - 1)
	y0, y1 := math.Ceil(max(0, min(y[0], y[1], y[2]))), math.Floor(min(limit, max(y[0], y[1], y[2])))
	const slack = 1e-9
	for py := y0; py <= y1; py++ {
		// The span where all three barycentrics are at least zero.
		lo, hi := max(0, min(x[0], x[1], x[2])), min(limit, max(x[0], x[1], x[2]))
		for k := range 3 {
			a, b := (k+1)%3, (k+2)%3
			// weight of corner k is (c + g·px) / det
			g := y[a] - y[b]
			c := (x[a]*y[b] - x[b]*y[a]) + (x[b]-x[a])*py
			if det < 0 {
				g, c = -g, -c
			}
			c += slack * math.Abs(det)
			switch {
			case g > 0:
				lo = max(lo, -c/g)
			case g < 0:
				hi = min(hi, -c/g)
			case c < 0:
				hi = -1
			}
		}
		for px := math.Ceil(lo - slack); px <= hi+slack; px++ {
			u := ((px-x[0])*(y[2]-y[0]) - (x[2]-x[0])*(py-y[0])) / det
			v := ((x[1]-x[0])*(py-y[0]) - (px-x[0])*(y[1]-y[0])) / det
			f(int(py)*size+int(px), float32(u), float32(v))
		}
	}
}

// Outline returns the edges of the set's islands as pairs of UV points in the square.
func Outline(m *mesh.Model, s *Set) [][2]geom.Vec2 {
	type edge [2]geom.Vec2
	count := map[edge]int{}
	order := []edge{}
	for _, t := range s.Tris {
		for k := range 3 {
			a, b := m.UVs[m.Tris[t][k]].Sub(s.Origin), m.UVs[m.Tris[t][(k+1)%3]].Sub(s.Origin)
			if b.X < a.X || (b.X == a.X && b.Y < a.Y) {
				a, b = b, a
			}
			e := edge{a, b}
			if count[e]++; count[e] == 1 {
				order = append(order, e)
			}
		}
	}
	var out [][2]geom.Vec2
	for _, e := range order {
		if count[e] == 1 {
			out = append(out, e)
		}
	}
	return out
}

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
	Key    string    // what maps and targets know the set by; it stays when the set is renamed
	Name   string    // what it is called, also in file names
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

// SingleKey is the key of the one set of an asset that is not split.
const SingleKey = "asset"

// Sets splits the model. Sets come in the order of the material slots, or of the tile numbers; their
// keys are the slots' names, the tiles' numbers, or SingleKey.
func Sets(m *mesh.Model, split string) ([]Set, error) {
	var out []Set
	switch split {
	case Single:
		s := Set{Key: SingleKey, Name: SingleKey}
		for t := range m.Tris {
			s.add(m, int32(t))
		}
		out = []Set{s}
	case PerMaterial:
		sets := make([]Set, len(m.Materials))
		for i, key := range MaterialKeys(m) {
			sets[i].Key, sets[i].Name = key, key
		}
		for t, k := range m.Material {
			sets[k].add(m, int32(t))
		}
		for _, s := range sets {
			if len(s.Tris) > 0 {
				out = append(out, s)
			}
		}
	case PerTile:
		var err error
		if out, err = tiles(m); err != nil {
			return nil, err
		}
	default:
		return nil, fmt.Errorf("“%s” is not a way to split; use %s", split, strings.Join(Splits, ", "))
	}
	nameForFiles(out)
	return out, nil
}

// MaterialKeys are the keys of the sets that the material slots make: their names, told apart by a
// number where two are the same.
func MaterialKeys(m *mesh.Model) []string {
	out, taken := make([]string, len(m.Materials)), map[string]bool{}
	for i, mat := range m.Materials {
		key := mat.Name
		for k := 2; taken[key]; k++ {
			key = fmt.Sprintf("%s_%d", mat.Name, k)
		}
		out[i], taken[key] = key, true
	}
	return out
}

// TileOf is the number of the tile that triangle t's middle lies in.
func TileOf(m *mesh.Model, t int) (int, bool) {
	i := m.Tris[t]
	c := m.UVs[i[0]].Add(m.UVs[i[1]]).Add(m.UVs[i[2]]).Mul(1. / 3)
	return Tile(c.X, c.Y)
}

func tiles(m *mesh.Model) ([]Set, error) {
	at := map[int]*Set{}
	for t, tri := range m.Tris {
		n, ok := TileOf(m, t)
		if !ok {
			c := m.UVs[tri[0]].Add(m.UVs[tri[1]]).Add(m.UVs[tri[2]]).Mul(1. / 3)
			return nil, fmt.Errorf("a face of “%s” lies at UV (%.2f, %.2f), where there is no UDIM tile; move it to columns 0–9, rows from 0 up", m.Parts[m.Part[t]], c.X, c.Y)
		}
		s := at[n]
		if s == nil {
			s = &Set{Key: fmt.Sprint(n), Name: fmt.Sprint(n), Tile: n, Origin: geom.Vec2{X: float32((n - 1001) % 10), Y: float32((n - 1001) / 10)}}
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

// Find returns the set with the key.
func Find(sets []Set, key string) (*Set, bool) {
	for i := range sets {
		if sets[i].Key == key {
			return &sets[i], true
		}
	}
	return nil, false
}

func (s *Set) add(m *mesh.Model, t int32) {
	s.Tris = append(s.Tris, t)
	s.Area += float64(m.Area(int(t)))
	s.UVArea += math.Abs(float64(m.UVArea(int(t))))
}

// Raster calls f for every texel of the square whose centre, moved by (dx, dy) texels, lies in
// triangle t: at is row · size + column from the top left, u and v the barycentrics of the second
// and third corner.
func Raster(m *mesh.Model, s *Set, t, size int, dx, dy float32, f func(at int, u, v float32)) {
	RasterRows(m, s, t, size, dx, dy, 0, size, f)
}

// RasterRows is Raster for the rows from top to before end.
func RasterRows(m *mesh.Model, s *Set, t, size int, dx, dy float32, top, end int, f func(at int, u, v float32)) {
	r, ok := rasterOf(m, s, t, size, dx, dy)
	if !ok {
		return
	}
	x, y, det := &r.x, &r.y, r.det
	r.rows(size, top, end, func(row, from, to int) {
		py := float64(row)
		for col := from; col < to; col++ {
			px := float64(col)
			u := ((px-x[0])*(y[2]-y[0]) - (x[2]-x[0])*(py-y[0])) / det
			v := ((x[1]-x[0])*(py-y[0]) - (px-x[0])*(y[1]-y[0])) / det
			f(row*size+col, float32(u), float32(v))
		}
	})
}

// Rows calls f for each row of the square with the texels, from the first to before the last, whose
// centres lie in triangle t.
func Rows(m *mesh.Model, s *Set, t, size int, f func(row, from, to int)) {
	if r, ok := rasterOf(m, s, t, size, 0, 0); ok {
		r.rows(size, 0, size, f)
	}
}

// rastered is a triangle in texels from the centre of the top left one.
type rastered struct {
	x, y [3]float64
	det  float64
}

func rasterOf(m *mesh.Model, s *Set, t, size int, dx, dy float32) (r rastered, ok bool) {
	x, y := &r.x, &r.y
	for k, i := range m.Tris[t] {
		p := m.UVs[i].Sub(s.Origin)
		x[k] = float64(p.X)*float64(size) - 0.5 - float64(dx)
		y[k] = (1-float64(p.Y))*float64(size) - 0.5 - float64(dy)
	}
	r.det = (x[1]-x[0])*(y[2]-y[0]) - (x[2]-x[0])*(y[1]-y[0])
	return r, r.det != 0 && r.det == r.det
}

func (r *rastered) rows(size, top, end int, f func(row, from, to int)) {
	x, y, det := &r.x, &r.y, r.det
	limit := float64(size - 1)
	y0, y1 := math.Ceil(max(float64(top), min(y[0], y[1], y[2]))), math.Floor(min(float64(end-1), max(y[0], y[1], y[2])))
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
		if from, to := math.Ceil(lo-slack), math.Floor(hi+slack)+1; from < to {
			f(int(py), int(from), int(to))
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

package uv

import (
	"math"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
)

// Island is the faces of a set that hang together in UV space.
type Island struct {
	Set      int     // index of the set
	Tris     []int32 // ascending
	Area     float64 // m²
	UVArea   float64 // of the tile, all faces counted as positive
	Signed   float64 // of the tile, mirrored faces counted as negative
	Min, Max geom.Vec2
}

// Mirrored tells whether most of the island's UVs turn against its faces.
func (i *Island) Mirrored() bool { return i.Signed < 0 }

// Density is the island's texel density in px/m at 1 px.
func (i *Island) Density() float64 {
	if i.Area <= 0 {
		return 0
	}
	return math.Sqrt(i.UVArea / i.Area)
}

// Map is a split model's islands and the edges between their faces.
type Map struct {
	Model   *mesh.Model
	Sets    []Set
	Islands []Island
	Of      []int32     // triangle → island
	Edges   *mesh.Edges // of vertices that share position and UV
}

// NewMap finds the islands of all sets: faces of one set are in one island when they share an edge
// with the same UVs at both ends. Islands come in the order of their first faces. Min and Max are in
// the square of the set.
func NewMap(m *mesh.Model, sets []Set) *Map {
	n := len(m.Tris)
	setOf := make([]int32, n)
	for i := range setOf {
		setOf[i] = -1
	}
	for i := range sets {
		for _, t := range sets[i].Tris {
			setOf[t] = int32(i)
		}
	}
	e := m.Edges(m.WeldUV(), nil)
	groups := geom.NewGroups(n)
	for _, first := range e.First {
		for s := e.Next[first]; s >= 0; s = e.Next[s] {
			if setOf[s/3] == setOf[first/3] {
				groups.Join(first/3, s/3)
			}
		}
	}
	bridge(m, setOf, e, groups)
	out := &Map{Model: m, Sets: sets, Of: make([]int32, n), Edges: e}
	for t := range n {
		root := groups.Of(int32(t))
		if setOf[t] < 0 {
			out.Of[t] = -1
			continue
		}
		if int(root) == t {
			out.Of[t] = int32(len(out.Islands))
			inf := float32(math.Inf(1))
			out.Islands = append(out.Islands, Island{Set: int(setOf[t]), Min: geom.Vec2{X: inf, Y: inf}, Max: geom.Vec2{X: -inf, Y: -inf}})
		}
		k := out.Of[root]
		out.Of[t] = k
		i := &out.Islands[k]
		i.Tris = append(i.Tris, int32(t))
		i.Area += float64(m.Area(t))
		a := float64(m.UVArea(t))
		i.UVArea += math.Abs(a)
		i.Signed += a
		for _, v := range m.Tris[t] {
			p := m.UVs[v].Sub(sets[i.Set].Origin)
			i.Min = geom.Vec2{X: min(i.Min.X, p.X), Y: min(i.Min.Y, p.Y)}
			i.Max = geom.Vec2{X: max(i.Max.X, p.X), Y: max(i.Max.Y, p.Y)}
		}
	}
	return out
}

// bridged limits how many open sides are looked at, and level is how far in UV space, in tiles, what lies
// along a longer side may be off it.
const (
	bridged = 400_000
	level   = 1e-5
)

// bridge joins faces that meet in a T: the one's side lies along a part of the other's, on the model and
// in UV space.
func bridge(m *mesh.Model, setOf []int32, e *mesh.Edges, groups geom.Groups) {
	var open []int32
	for s, i := range e.Of {
		if i >= 0 && e.Count[i] == 1 && setOf[s/3] >= 0 {
			open = append(open, int32(s))
		}
	}
	if len(open) > bridged {
		return
	}
	tolerance := m.Tolerance()
	place := m.WeldNear(tolerance)
	ends := func(s int32) (a, b geom.Vec2) { return m.UVs[m.Tris[s/3][s%3]], m.UVs[m.Tris[s/3][(s%3+1)%3]] }
	fits := func(b mesh.Bridge) bool {
		p, q := ends(b.Long)
		u, v := ends(b.Short)
		near := func(at float64, w geom.Vec2) bool {
			x, y := (1-at)*float64(p.X)+at*float64(q.X)-float64(w.X), (1-at)*float64(p.Y)+at*float64(q.Y)-float64(w.Y)
			return math.Abs(x) < level && math.Abs(y) < level
		}
		return near(b.From, u) && near(b.To, v)
	}
	for _, b := range m.Bridges(open, place, tolerance, func(t, u int32) bool { return setOf[t] == setOf[u] }) {
		if fits(b) {
			groups.Join(b.Long/3, b.Short/3)
		}
	}
}

// Rim lists the sides on the island's border: 3 · triangle + corner.
func (m *Map) Rim(island int) (out []int32) {
	for _, t := range m.Islands[island].Tris {
		for k := range int32(3) {
			s := 3*t + k
			e := m.Edges.Of[s]
			if e < 0 {
				continue
			}
			inner := false
			// Thousands of faces may share a side; nearly all of them are of one island.
			for o := m.Edges.First[e]; o >= 0 && !inner; o = m.Edges.Next[o] {
				inner = o/3 != t && m.Of[o/3] == int32(island)
			}
			if !inner {
				out = append(out, s)
			}
		}
	}
	return out
}

// Side returns the ends of a side in the square of its set, as float64.
func (m *Map) Side(s int32) (a, b [2]float64) {
	t := m.Model.Tris[s/3]
	o := m.Sets[m.Islands[m.Of[s/3]].Set].Origin
	at := func(k int32) [2]float64 {
		p := m.Model.UVs[t[k]]
		return [2]float64{float64(p.X) - float64(o.X), float64(p.Y) - float64(o.Y)}
	}
	return at(s % 3), at((s%3 + 1) % 3)
}

// corners of a triangle in the square of its set.
func (m *Map) corners(t int32) (out [3][2]float64) {
	o := m.Sets[m.Islands[m.Of[t]].Set].Origin
	for k, v := range m.Model.Tris[t] {
		p := m.Model.UVs[v]
		out[k] = [2]float64{float64(p.X) - float64(o.X), float64(p.Y) - float64(o.Y)}
	}
	return out
}

// Stretch returns the lengths on the surface, in metres, of the longest and the shortest direction
// that are one long in UV space over triangle t (singular values of the map from UV to surface; Sander
// et al., Texture Mapping Progressive Meshes, 2001). ok is false where the UVs have no area.
func Stretch(m *mesh.Model, t int) (long, short float64, ok bool) {
	i := m.Tris[t]
	d1, d2 := m.UVs[i[1]].Sub(m.UVs[i[0]]), m.UVs[i[2]].Sub(m.UVs[i[0]])
	det := float64(d1.X)*float64(d2.Y) - float64(d2.X)*float64(d1.Y)
	if det == 0 {
		return 0, 0, false
	}
	p, q, r := m.Corners(t)
	e1, e2 := q.Sub(p), r.Sub(p)
	var a, b, c float64 // of the first fundamental form
	for k := range 3 {
		x, y := float64(e1.Axis(k)), float64(e2.Axis(k))
		su := (x*float64(d2.Y) - y*float64(d1.Y)) / det
		sv := (y*float64(d1.X) - x*float64(d2.X)) / det
		a, b, c = a+su*su, b+su*sv, c+sv*sv
	}
	root := math.Sqrt((a-c)*(a-c) + 4*b*b)
	return math.Sqrt((a + c + root) / 2), math.Sqrt(max(0, (a+c-root)/2)), true
}

package mesh

import (
	"sort"
	"strings"

	"crust/internal/core/geom"
)

// Faults of a model's faces, as triangle numbers in ascending order.
type Faults struct {
	NonManifold [][]int32 // the triangles of each edge that more than two share
	ZeroArea    []int32
	Duplicate   []int32 // lie on the same three places as an earlier one
	Flipped     []int32 // turned against their own normals, against their neighbours, or inside out
	Alike       [][]string
}

// Faults looks for faces and names that spoil a bake.
func (m *Model) Faults() *Faults {
	place := m.Weld()
	f := &Faults{Alike: alike(m.Parts), Duplicate: m.duplicates(place)}
	skip := make([]bool, len(m.Tris))
	for _, t := range f.Duplicate {
		skip[t] = true
	}
	for t := range m.Tris {
		if m.Area(t) == 0 {
			f.ZeroArea = append(f.ZeroArea, int32(t))
			skip[t] = true
		}
	}
	edges := m.Edges(place, skip)
	for i, n := range edges.Count {
		if n <= 2 {
			continue
		}
		var tris []int32
		for s := edges.First[i]; s >= 0; s = edges.Next[s] {
			tris = append(tris, s/3)
		}
		f.NonManifold = append(f.NonManifold, tris)
	}
	f.Flipped = m.flipped(place, edges)
	return f
}

func (m *Model) duplicates(place []uint32) (out []int32) {
	key := func(t uint32) [3]uint32 {
		a, b, c := place[m.Tris[t][0]], place[m.Tris[t][1]], place[m.Tris[t][2]]
		if a > b {
			a, b = b, a
		}
		if b > c {
			b, c = c, b
		}
		if a > b {
			a, b = b, a
		}
		return [3]uint32{a, b, c}
	}
	first := weld(len(m.Tris), func(t uint32) uint64 {
		k := key(t)
		return mix(mix(uint64(k[0]), uint64(k[1])), uint64(k[2]))
	}, func(a, b uint32) bool { return key(a) == key(b) })
	for t, u := range first {
		if k := key(uint32(t)); int(u) != t && k[0] != k[1] && k[1] != k[2] {
			out = append(out, int32(t))
		}
	}
	return out
}

// flipped finds the faces that look the wrong way. Faces joined over plain edges make a shell; in
// each, the faces whose turn is not that of the most area are wrong; a closed shell whose volume is
// negative is wrong as a whole, and so is every face that all its corners' normals oppose.
func (m *Model) flipped(place []uint32, edges *Edges) (out []int32) {
	n := len(m.Tris)
	shell := make([]int32, n)
	turned := make([]bool, n) // against the first face of its shell
	for t := range shell {
		shell[t] = -1
	}
	wrong := make([]bool, n)
	var walk []int32
	for t0 := range m.Tris {
		if shell[t0] >= 0 {
			continue
		}
		id := int32(t0)
		shell[t0] = id
		walk = append(walk[:0], id)
		members := []int32{id}
		open := false
		for len(walk) > 0 {
			t := walk[len(walk)-1]
			walk = walk[:len(walk)-1]
			for k := range 3 {
				side := 3*t + int32(k)
				e := edges.Of[side]
				if e < 0 || edges.Count[e] != 2 {
					open = true
					continue
				}
				o := edges.First[e]
				if o == side {
					o = edges.Next[side]
				}
				u := o / 3
				if shell[u] >= 0 {
					continue
				}
				shell[u] = id
				same := place[m.Tris[t][k]] == place[m.Tris[u][(o%3+1)%3]] // neighbours run the edge in opposite directions
				turned[u] = turned[t] == same
				walk = append(walk, u)
				members = append(members, u)
			}
		}
		m.judge(members, turned, open, wrong)
	}
	for t := range m.Tris {
		i := m.Tris[t]
		face := m.FaceNormal(t)
		if face == (geom.Vec3{}) {
			continue
		}
		against := true
		for _, v := range i {
			against = against && face.Dot(m.Normals[v]) < -0.1
		}
		if wrong[t] || against {
			out = append(out, int32(t))
		}
	}
	return out
}

// judge marks the wrong faces of one shell.
func (m *Model) judge(members []int32, turned []bool, open bool, wrong []bool) {
	var area [2]float64
	volume := 0.0
	o := m.Positions[m.Tris[members[0]][0]]
	for _, t := range members {
		a, b, c := m.Corners(int(t))
		k, sign := 0, 1.0
		if turned[t] {
			k, sign = 1, -1
		}
		area[k] += float64(m.Area(int(t)))
		volume += sign * float64(a.Sub(o).Dot(b.Sub(o).Cross(c.Sub(o)))) / 6
	}
	bad := area[0] < area[1] // the ones not turned are fewer
	if !open && len(members) > 3 && volume != 0 {
		bad = volume < 0 // what follows the first face encloses a negative volume: those are wrong
	}
	if !open || area[0] > 0 && area[1] > 0 {
		for _, t := range members {
			if turned[t] != bad {
				wrong[t] = true
			}
		}
	}
}

// alike groups names that differ only in case, blanks and separators.
func alike(names []string) (out [][]string) {
	at := map[string][]string{}
	for _, n := range names {
		k := strings.Map(func(r rune) rune {
			if strings.ContainsRune(" _-.\t", r) {
				return -1
			}
			return r
		}, strings.ToLower(n))
		at[k] = append(at[k], n)
	}
	for _, g := range at {
		if len(g) > 1 {
			sort.Strings(g)
			out = append(out, g)
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i][0] < out[j][0] })
	return out
}

package mesh

import (
	"math"
	"slices"

	"crust/internal/core/geom"
)

// splitter gives a model's vertices further copies where corners that shared one must part.
type splitter struct {
	m    *Model
	next []uint32 // the next copy of a vertex, 0 for none
	used []bool   // whether a vertex has been given its values
}

func newSplitter(m *Model) *splitter {
	n := len(m.Positions)
	return &splitter{m, make([]uint32, n), make([]bool, n)}
}

// at returns the copy of v for which same holds, making one with put when there is none yet.
func (s *splitter) at(v uint32, same func(u uint32) bool, put func(u uint32)) uint32 {
	if !s.used[v] {
		s.used[v] = true
		put(v)
		return v
	}
	last := v
	for u := v; ; u = s.next[u] {
		if same(u) {
			return u
		}
		last = u
		if s.next[u] == 0 {
			break
		}
	}
	m, u := s.m, uint32(len(s.m.Positions))
	m.Positions = append(m.Positions, m.Positions[v])
	m.Normals = append(m.Normals, m.Normals[v])
	if len(m.Channels) == 0 {
		m.UVs = append(m.UVs, m.UVs[v])
	}
	for k := range m.Channels {
		c := &m.Channels[k]
		own := len(m.UVs) == len(c.UVs) && len(c.UVs) > 0 && &m.UVs[0] == &c.UVs[0]
		c.UVs = append(c.UVs, c.UVs[v])
		if own {
			m.UVs = c.UVs
		}
	}
	if len(m.Colours) > 0 {
		m.Colours = append(m.Colours, m.Colours[v])
	}
	s.next = append(s.next, 0)
	s.used = append(s.used, true)
	s.next[last] = u
	put(u)
	return u
}

// AddChannel adds a UV channel given corner by corner and returns its number. The model's vertices
// part where the new channel has seams that the others have not. When chosen already, UVs stay.
func (m *Model) AddChannel(name string, corners [][3]geom.Vec2) int {
	k := len(m.Channels)
	m.Channels = append(m.Channels, Channel{Name: name, UVs: make([]geom.Vec2, len(m.Positions))})
	s := newSplitter(m)
	for t := range m.Tris {
		for c, v := range m.Tris[t] {
			want := corners[t][c]
			m.Tris[t][c] = s.at(v,
				func(u uint32) bool { return m.Channels[k].UVs[u] == want },
				func(u uint32) { m.Channels[k].UVs[u] = want })
		}
	}
	return k
}

// Weld maps every vertex to the lowest-numbered vertex at exactly the same position.
func (m *Model) Weld() []uint32 {
	return weld(len(m.Positions), func(i uint32) uint64 {
		p := m.Positions[i]
		return mix(mix(bits(p.X), bits(p.Y)), bits(p.Z))
	}, func(i, j uint32) bool { return m.Positions[i] == m.Positions[j] })
}

// bits of v for hashing; −0 and 0 are one.
func bits(v float32) uint64 { return uint64(math.Float32bits(v + 0)) }

func mix(a, b uint64) uint64 {
	a = (a ^ b*0x9e3779b97f4a7c15) * 0xbf58476d1ce4e5b9
	return a ^ a>>29
}

// weld maps each of n things to the lowest-numbered one that is the same.
func weld(n int, hash func(i uint32) uint64, same func(i, j uint32) bool) []uint32 {
	size := 1
	for size < 2*n+1 {
		size *= 2
	}
	table := make([]uint32, size) // 0 is free, else one more than the thing's number
	out := make([]uint32, n)
	for i := range uint32(n) {
		h := hash(i)
		for at := int(h^h>>32) & (size - 1); ; at = (at + 1) & (size - 1) {
			if table[at] == 0 {
				table[at], out[i] = i+1, i
				break
			}
			if j := table[at] - 1; same(i, j) {
				out[i] = j
				break
			}
		}
	}
	return out
}

// Clone copies the model, so that the copy's vertices can be parted and its channels chosen alone.
func (m *Model) Clone() *Model {
	c := *m
	c.Positions, c.Normals, c.Colours, c.Tris = slices.Clone(m.Positions), slices.Clone(m.Normals), slices.Clone(m.Colours), slices.Clone(m.Tris)
	c.Channels, c.UVs = slices.Clone(m.Channels), slices.Clone(m.UVs)
	for k := range c.Channels {
		chosen := len(m.UVs) > 0 && len(m.Channels[k].UVs) > 0 && &m.UVs[0] == &m.Channels[k].UVs[0]
		c.Channels[k].UVs = slices.Clone(m.Channels[k].UVs)
		if chosen {
			c.UVs = c.Channels[k].UVs
		}
	}
	return &c
}

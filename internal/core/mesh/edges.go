package mesh

// Edges are the undirected edges of a model's triangles. A side is 3 · triangle + k and runs from
// corner k to corner k + 1.
type Edges struct {
	Of    []int32 // side → edge
	First []int32 // edge → its first side
	Next  []int32 // side → the next side of its edge, −1 at the end
	Count []int32 // edge → how many sides it has
}

// Edges finds the edges between vertices that are one when id says so. Sides with both ends at one
// place, and those of the triangles in skip, which may be nil, belong to no edge, −1.
func (m *Model) Edges(id []uint32, skip []bool) *Edges {
	n := 3 * len(m.Tris)
	size := 1
	for size < n+n/2+1 {
		size *= 2
	}
	table := make([]int32, size) // one more than the edge
	e := &Edges{Of: make([]int32, n), Next: make([]int32, n), First: make([]int32, 0, n/2+1), Count: make([]int32, 0, n/2+1)}
	last := make([]int32, 0, n/2+1)
	ends := make([][2]uint32, 0, n/2+1)
	for t := range m.Tris {
		for k := range 3 {
			side := int32(3*t + k)
			a, b := id[m.Tris[t][k]], id[m.Tris[t][(k+1)%3]]
			e.Next[side] = -1
			if a == b || skip != nil && skip[t] {
				e.Of[side] = -1
				continue
			}
			key := [2]uint32{min(a, b), max(a, b)}
			h := mix(uint64(key[0]), uint64(key[1]))
			for at := int(h^h>>32) & (size - 1); ; at = (at + 1) & (size - 1) {
				if table[at] == 0 {
					i := int32(len(ends))
					table[at] = i + 1
					ends = append(ends, key)
					e.First, e.Count, last = append(e.First, side), append(e.Count, 1), append(last, side)
					e.Of[side] = i
					break
				}
				if i := table[at] - 1; ends[i] == key {
					e.Next[last[i]] = side
					last[i] = side
					e.Count[i]++
					e.Of[side] = i
					break
				}
			}
		}
	}
	return e
}

// WeldUV maps every vertex to the lowest-numbered one at the same position, within the model's tolerance, with the
// same UV.
func (m *Model) WeldUV() []uint32 {
	place := m.WeldNear(m.Tolerance())
	return weld(len(m.Positions), func(i uint32) uint64 {
		t := m.UVs[i]
		return mix(mix(uint64(place[i]), bits(t.X)), bits(t.Y))
	}, func(i, j uint32) bool { return place[i] == place[j] && m.UVs[i] == m.UVs[j] })
}

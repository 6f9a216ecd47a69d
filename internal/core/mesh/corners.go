package mesh

import "crust/internal/core/geom"

// Indexed joins the corners of the given triangles that share vertex and tangent. It returns the
// vertices' numbers and tangents and, for each corner in turn, which of them it uses. tangents may
// be nil; then so is what is returned of them.
func (m *Model) Indexed(tris []int32, tangents [][3]geom.Vec4) (vertices []uint32, tan []geom.Vec4, index []uint32) {
	first := make(map[uint32]uint32, len(tris)) // one more than the first use of a vertex
	var next []uint32
	index = make([]uint32, 0, 3*len(tris))
	for _, t := range tris {
		for k, v := range m.Tris[t] {
			j := first[v]
			if tangents != nil {
				for j != 0 && tan[j-1] != tangents[t][k] {
					j = next[j-1]
				}
			}
			if j == 0 {
				vertices = append(vertices, v)
				next = append(next, first[v])
				if tangents != nil {
					tan = append(tan, tangents[t][k])
				}
				j = uint32(len(vertices))
				first[v] = j
			}
			index = append(index, j-1)
		}
	}
	return vertices, tan, index
}

package mesh

import (
	"math"

	"crust/internal/core/geom"
)

// DefaultCrease is the angle in degrees between faces from which an edge is kept hard when normals
// are computed.
const DefaultCrease = 50

// completeNormals computes the normals that the file lacks, by smoothing group where it names them
// and by DefaultCrease elsewhere, and brings the others to length one.
func (m *Model) completeNormals() {
	lacks := make([]bool, len(m.Positions))
	some := false
	for i, n := range m.Normals {
		l := n.Len()
		if l > 0.5 && l < 2 {
			m.Normals[i] = n.Norm()
		} else {
			lacks[i], some = true, true
		}
	}
	if some {
		m.computeNormals(lacks, DefaultCrease)
	}
	m.smooth = nil
}

// ComputeNormals replaces all normals: edges whose faces meet at more than crease degrees are hard.
func (m *Model) ComputeNormals(crease float64) {
	all := make([]bool, len(m.Positions))
	for i := range all {
		all[i] = true
	}
	m.computeNormals(all, crease)
}

// steepFan is how many corners at one place are compared pair by pair; beyond it all are smoothed.
const steepFan = 400

// computeNormals gives each corner of a lacking vertex the mean of the faces round its place that
// belong with its own, weighted by their angles (Thürmer & Wüthrich, Computing Vertex Normals from
// Polygonal Facets, 1998). Faces belong together when they share a smoothing group, or, where none
// is given, when they meet at no more than crease degrees.
func (m *Model) computeNormals(lacks []bool, crease float64) {
	place := m.Weld()
	start := make([]int32, len(place)+1)
	for _, tri := range m.Tris {
		for _, v := range tri {
			start[place[v]+1]++
		}
	}
	for i := range place {
		start[i+1] += start[i]
	}
	at := append([]int32(nil), start...)
	round := make([]int32, start[len(place)]) // 3 · triangle + corner, by place
	for t, tri := range m.Tris {
		for k, v := range tri {
			p := place[v]
			round[at[p]] = int32(3*t + k)
			at[p]++
		}
	}
	face := make([]geom.Vec3, len(m.Tris))
	for t := range m.Tris {
		face[t] = m.FaceNormal(t)
	}
	limit := float32(math.Cos(crease*math.Pi/180)) - 1e-5
	together := func(t, u int32) bool {
		if t == u {
			return true
		}
		if m.smooth != nil && (m.smooth[t] >= 0 || m.smooth[u] >= 0) {
			return m.smooth[t] == m.smooth[u] && m.smooth[t] != 0
		}
		return face[t].Dot(face[u]) >= limit
	}
	angles := make([]float32, len(round)) // of the corners, as round has them
	for i, r := range round {
		angles[i] = m.cornerAngle(int(r/3), int(r%3))
	}
	whole := map[uint32]geom.Vec3{} // the sums of steep fans, by place: one for all of their corners
	sumOf := func(p uint32, belongs func(u int32) bool) (sum geom.Vec3) {
		for i := start[p]; i < start[p+1]; i++ {
			if u := round[i] / 3; belongs(u) {
				sum = sum.Add(face[u].Mul(angles[i]))
			}
		}
		return sum
	}
	s := newSplitter(m)
	for t := range m.Tris {
		for k, v := range m.Tris[t] {
			if int(v) >= len(lacks) || !lacks[v] {
				continue
			}
			p := place[v]
			var sum geom.Vec3
			if start[p+1]-start[p] <= steepFan {
				sum = sumOf(p, func(u int32) bool { return together(int32(t), u) })
			} else {
				var known bool
				if sum, known = whole[p]; !known {
					sum = sumOf(p, func(int32) bool { return true })
					whole[p] = sum
				}
			}
			n := sum.Norm()
			if n == (geom.Vec3{}) {
				if n = face[t]; n == (geom.Vec3{}) {
					n = geom.Vec3{Y: 1}
				}
			}
			m.Tris[t][k] = s.at(v, func(u uint32) bool { return m.Normals[u] == n }, func(u uint32) { m.Normals[u] = n })
		}
	}
	for i := range lacks { // vertices that no face uses
		if lacks[i] && !s.used[i] {
			m.Normals[i] = geom.Vec3{Y: 1}
		}
	}
}

// cornerAngle is the angle of triangle t at its corner k, in radians.
func (m *Model) cornerAngle(t, k int) float32 {
	i := m.Tris[t]
	p := m.Positions[i[k]]
	return angle(m.Positions[i[(k+1)%3]].Sub(p), m.Positions[i[(k+2)%3]].Sub(p))
}

package mesh

import (
	"math"

	"crust/internal/core/geom"
)

// FirstHit is the first place of the surface that a ray meets from outside, and the normal there; false when it meets none. It tests
// each triangle (Möller and Trumbore, 1997), so it is for few rays.
func (m *Model) FirstHit(from, way geom.Vec3) (at, normal geom.Vec3, ok bool) {
	least := float32(math.Inf(1))
	for t, i := range m.Tris {
		p, q, s := m.Corners(t)
		e1, e2 := q.Sub(p), s.Sub(p)
		h := way.Cross(e2)
		det := e1.Dot(h)
		if det <= 0 {
			continue
		}
		d := from.Sub(p)
		u := d.Dot(h) / det
		c := d.Cross(e1)
		v := way.Dot(c) / det
		if far := e2.Dot(c) / det; u >= 0 && v >= 0 && u+v <= 1 && far > 0 && far < least {
			least, ok = far, true
			at, normal = from.Add(way.Mul(far)), geom.Bary(m.Normals[i[0]], m.Normals[i[1]], m.Normals[i[2]], u, v).Norm()
		}
	}
	return at, normal, ok
}

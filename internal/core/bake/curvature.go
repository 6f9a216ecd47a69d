package bake

import (
	"math"

	"crust/internal/core/cells"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
)

// On a triangle with interpolated normals the mean curvature is half the divergence of the normal,
// Σ nᵢ·∇φᵢ / 2, which is exact for spheres and cylinders at any tessellation. Along an edge where the
// normals of the two sides part by an angle β it is β/2 per length (Cohen-Steiner & Morvan, Restricted
// Delaunay Triangulations and Normal Cycle, 2003).

// triangle samples one face.
func (g *gather) triangle(m *mesh.Model, normals []geom.Vec3, t int) {
	a, b, c := m.Corners(t)
	cr := b.Sub(a).Cross(c.Sub(a))
	area := cr.Len() / 2
	if area == 0 {
		return
	}
	face := cr.Norm()
	i := m.Tris[t]
	na, nb, nc := normals[i[0]], normals[i[1]], normals[i[2]]
	inv := 1 / (2 * area)
	div := na.Dot(face.Cross(c.Sub(b)))*inv + nb.Dot(face.Cross(a.Sub(c)))*inv + nc.Dot(face.Cross(b.Sub(a)))*inv
	cells.Pieces(a, b, c, g.step, func(u, v, piece float32) {
		g.add(geom.Bary(a, b, c, u, v), geom.Bary(na, nb, nc, u, v).Norm(), piece, piece, div/2*piece)
	})
}

// crease is an edge from a to b whose two sides have different normals: na and nb on the face that runs
// that way, oa and ob on the other.
type crease struct{ a, b, na, nb, oa, ob geom.Vec3 }

// findCreases lists the edges whose two sides have different normals.
func findCreases(m *mesh.Model, normals []geom.Vec3) (out []crease) {
	weld := m.Weld()
	e := m.Edges(weld, nil)
	end := func(side int32) (a, b, wa uint32) {
		t, k := side/3, side%3
		a, b = m.Tris[t][k], m.Tris[t][(k+1)%3]
		return a, b, weld[a]
	}
	for _, first := range e.First {
		// Sides that run opposite ways are neighbours; on edges of more than two they go by pairs.
		for s := first; s >= 0; s = e.Next[s] {
			o := e.Next[s]
			if o < 0 {
				break
			}
			a, b, wa := end(s)
			c, d, wc := end(o)
			if wa == wc {
				continue
			}
			if normals[a] != normals[d] || normals[b] != normals[c] {
				out = append(out, crease{m.Positions[a], m.Positions[b], normals[a], normals[b], normals[d], normals[c]})
			}
			s = o
		}
	}
	return out
}

// crease samples one crease.
func (g *gather) crease(e crease) {
	length := e.b.Dist(e.a)
	dir := e.b.Sub(e.a).Norm()
	n := max(1, int(math.Ceil(float64(length/g.step))))
	part := length / float32(n)
	for i := range n {
		t := (float32(i) + 0.5) / float32(n)
		p, q := e.na.Lerp(e.nb, t).Norm(), e.oa.Lerp(e.ob, t).Norm()
		cr := p.Cross(q)
		beta := float32(math.Atan2(float64(cr.Len()), float64(p.Dot(q))))
		if cr.Dot(dir) < 0 {
			beta = -beta
		}
		g.add(e.a.Lerp(e.b, t), p.Add(q).Norm(), part*g.step*1e-3, 0, beta/2*part)
	}
}

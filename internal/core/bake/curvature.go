package bake

import (
	"context"
	"math"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
)

// cloud holds the surface as points that carry area and integrated mean curvature, from which the
// mean curvature at a stated radius is averaged. On a triangle with interpolated normals the mean
// curvature is half the divergence of the normal, Σ nᵢ·∇φᵢ / 2, which is exact for spheres and
// cylinders at any tessellation. Along an edge where the normals of the two sides part by an angle
// β it is β/2 per length (Cohen-Steiner & Morvan, Restricted Delaunay Triangulations and Normal
// Cycle, 2003).
type cloud struct {
	radius float32
	origin geom.Vec3
	cells  map[[3]int32][2]int32 // range of points in each cell of side radius
	pts    []cloudPoint
}

type cloudPoint struct {
	p, n  geom.Vec3
	area  float32
	curve float32
}

// perRadius is how many samples lie along the radius; at 4 the sums are within 1 % of those at 8.
const perRadius = 4

// maxSamples bounds the cloud; on models that are large against the radius samples get sparser.
const maxSamples = 6_000_000

func newCloud(ctx context.Context, m *mesh.Model, radius float32) (*cloud, error) {
	c := &cloud{radius: radius, origin: m.Bounds().Min, cells: map[[3]int32][2]int32{}}
	step := radius / perRadius
	total := 0.0
	for t := range m.Tris {
		total += float64(m.Area(t))
	}
	if n := total / float64(step*step) * 2; n > maxSamples {
		step *= float32(math.Sqrt(n / maxSamples))
	}
	g := gather{step: step, origin: c.origin, at: map[gatherKey]int32{}}
	for t := range m.Tris {
		if t%4096 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		g.triangle(m, t)
	}
	g.edges(m)
	g.finish()
	c.sort(g.sums)
	return c, ctx.Err()
}

// gather merges samples that share a cell of side step and a facing.
type gather struct {
	step   float32
	origin geom.Vec3
	at     map[gatherKey]int32
	sums   []cloudPoint // positions and normals weighted by weight
	weight []float32
}

type gatherKey struct {
	x, y, z int32
	facing  int8
}

func (g *gather) add(p, n geom.Vec3, weight, area, curve float32) {
	d := p.Sub(g.origin).Mul(1 / g.step)
	k := gatherKey{int32(math.Floor(float64(d.X))), int32(math.Floor(float64(d.Y))), int32(math.Floor(float64(d.Z))), facing(n)}
	i, ok := g.at[k]
	if !ok {
		i = int32(len(g.sums))
		g.at[k] = i
		g.sums = append(g.sums, cloudPoint{})
		g.weight = append(g.weight, 0)
	}
	s := &g.sums[i]
	s.p, s.n = s.p.Add(p.Mul(weight)), s.n.Add(n.Mul(weight))
	s.area += area
	s.curve += curve
	g.weight[i] += weight
}

// facing numbers the axis that n is nearest to.
func facing(n geom.Vec3) int8 {
	x, y, z := max(n.X, -n.X), max(n.Y, -n.Y), max(n.Z, -n.Z)
	axis, v := int8(0), n.X
	if y > x && y >= z {
		axis, v = 1, n.Y
	} else if z > x {
		axis, v = 2, n.Z
	}
	if v < 0 {
		return axis + 3
	}
	return axis
}

func (g *gather) triangle(m *mesh.Model, t int) {
	a, b, c := m.Corners(t)
	cr := b.Sub(a).Cross(c.Sub(a))
	area := cr.Len() / 2
	if area == 0 {
		return
	}
	face := cr.Norm()
	i := m.Tris[t]
	na, nb, nc := m.Normals[i[0]], m.Normals[i[1]], m.Normals[i[2]]
	inv := 1 / (2 * area)
	div := na.Dot(face.Cross(c.Sub(b)))*inv + nb.Dot(face.Cross(a.Sub(c)))*inv + nc.Dot(face.Cross(b.Sub(a)))*inv
	long := max(b.Dist(a), c.Dist(b), a.Dist(c))
	n := max(1, int(math.Ceil(float64(long/g.step))))
	part := area / float32(n*n)
	curve := div / 2 * part
	for y := range n {
		for x := range 2*(n-y) - 1 {
			// Centroids of the n² equal small triangles.
			u := (float32(x/2) + 1./3 + float32(x%2)/3) / float32(n)
			v := (float32(y) + 1./3 + float32(x%2)/3) / float32(n)
			g.add(geom.Bary(a, b, c, u, v), geom.Bary(na, nb, nc, u, v).Norm(), part, part, curve)
		}
	}
}

// edges adds the curvature of edges whose two sides have different normals.
func (g *gather) edges(m *mesh.Model) {
	weld := m.Weld()
	type side struct{ a, b uint32 } // vertices at the two ends, in the order of the face
	open := map[[2]uint32]side{}
	for _, tri := range m.Tris {
		for k := range 3 {
			a, b := tri[k], tri[(k+1)%3]
			wa, wb := weld[a], weld[b]
			if wa == wb {
				continue
			}
			other, ok := open[[2]uint32{wb, wa}]
			if !ok {
				open[[2]uint32{wa, wb}] = side{a, b}
				continue
			}
			delete(open, [2]uint32{wb, wa})
			if m.Normals[a] == m.Normals[other.b] && m.Normals[b] == m.Normals[other.a] {
				continue
			}
			g.edge(m.Positions[a], m.Positions[b], m.Normals[a], m.Normals[b], m.Normals[other.b], m.Normals[other.a])
		}
	}
}

// edge samples one edge from a to b; n are the normals of the face that runs that way, o those of
// the other.
func (g *gather) edge(a, b, na, nb, oa, ob geom.Vec3) {
	length := b.Dist(a)
	dir := b.Sub(a).Norm()
	n := max(1, int(math.Ceil(float64(length/g.step))))
	part := length / float32(n)
	for i := range n {
		t := (float32(i) + 0.5) / float32(n)
		p, q := na.Lerp(nb, t).Norm(), oa.Lerp(ob, t).Norm()
		cr := p.Cross(q)
		beta := float32(math.Atan2(float64(cr.Len()), float64(p.Dot(q))))
		if cr.Dot(dir) < 0 {
			beta = -beta
		}
		g.add(a.Lerp(b, t), p.Add(q).Norm(), part*g.step*1e-3, 0, beta/2*part)
	}
}

func (c *cloud) cell(p geom.Vec3) [3]int32 {
	d := p.Sub(c.origin).Mul(1 / c.radius)
	return [3]int32{int32(math.Floor(float64(d.X))), int32(math.Floor(float64(d.Y))), int32(math.Floor(float64(d.Z)))}
}

// sort groups the points by cell, in the order in which they were made.
func (c *cloud) sort(sums []cloudPoint) {
	count := map[[3]int32]int32{}
	keys := make([][3]int32, len(sums))
	var order [][3]int32
	for i := range sums {
		k := keys[i]
		k = c.cell(sums[i].p)
		keys[i] = k
		if count[k]++; count[k] == 1 {
			order = append(order, k)
		}
	}
	at := int32(0)
	for _, k := range order {
		c.cells[k] = [2]int32{at, at}
		at += count[k]
	}
	c.pts = make([]cloudPoint, len(sums))
	for i := range sums {
		r := c.cells[keys[i]]
		c.pts[r[1]] = sums[i]
		r[1]++
		c.cells[keys[i]] = r
	}
}

// finish turns weighted sums into means; it must run before sort.
func (g *gather) finish() {
	for i := range g.sums {
		g.sums[i].p = g.sums[i].p.Mul(1 / g.weight[i])
		g.sums[i].n = g.sums[i].n.Norm()
	}
}

// near is the points round one cell; texels side by side mostly share it.
type near struct {
	cell   [3]int32
	ranges [27][2]int32
	n      int
	known  bool
}

func (c *cloud) look(at [3]int32, k *near) {
	if k.known && k.cell == at {
		return
	}
	k.cell, k.known, k.n = at, true, 0
	for z := at[2] - 1; z <= at[2]+1; z++ {
		for y := at[1] - 1; y <= at[1]+1; y++ {
			for x := at[0] - 1; x <= at[0]+1; x++ {
				if r, ok := c.cells[[3]int32{x, y, z}]; ok {
					k.ranges[k.n] = r
					k.n++
				}
			}
		}
	}
}

// mean returns the mean curvature in 1/m round p, weighted by (1 − d²/r²)². Points that face away
// from n, as on the other side of a plate, do not count.
func (c *cloud) mean(p, n geom.Vec3, k *near) float32 {
	c.look(c.cell(p), k)
	inv := 1 / (c.radius * c.radius)
	var area, curve float32
	for _, r := range k.ranges[:k.n] {
		pts := c.pts[r[0]:r[1]]
		for i := range pts {
			q := &pts[i]
			dx, dy, dz := q.p.X-p.X, q.p.Y-p.Y, q.p.Z-p.Z
			w := 1 - (dx*dx+dy*dy+dz*dz)*inv
			if w <= 0 {
				continue
			}
			// Full weight up to a right angle, none from about 125°.
			w *= w * geom.Clamp01((q.n.Dot(n)+0.6)*2)
			area += w * q.area
			curve += w * q.curve
		}
	}
	if area <= 0 {
		return 0
	}
	return curve / area
}

// block writes 0.5 + H·r/2 for the points, limited to 0–1: 0.5 is flat, convex above.
func (c *cloud) block(pts []point, out []float32, k *near) {
	for i := range pts {
		h := c.mean(pts[i].p, pts[i].n, k)
		out[i] = geom.Clamp01(0.5 + 0.5*h*c.radius)
	}
}

package mesh

import "crust/internal/core/geom"

// triangulate cuts a polygon into triangles: convex ones as a fan, others by clipping ears
// (Meisters, Polygons Have Ears, 1975) in the plane of the polygon's Newell normal.
func triangulate(p []geom.Vec3, emit func(a, b, c int)) {
	n := len(p)
	if n == 3 {
		emit(0, 1, 2)
		return
	}
	var normal geom.Vec3
	for i := range p {
		normal = normal.Add(p[i].Cross(p[(i+1)%n]))
	}
	turn := func(a, b, c int) float32 { return p[b].Sub(p[a]).Cross(p[c].Sub(p[b])).Dot(normal) }
	convex := true
	for i := range p {
		convex = convex && turn(i, (i+1)%n, (i+2)%n) >= 0
	}
	if convex || n > 4096 {
		for k := 2; k < n; k++ {
			emit(0, k-1, k)
		}
		return
	}
	left := make([]int, n)
	for i := range left {
		left[i] = i
	}
	inside := func(q, a, b, c int) bool {
		s := func(i, j int) float32 { return p[j].Sub(p[i]).Cross(p[q].Sub(p[i])).Dot(normal) }
		return s(a, b) >= 0 && s(b, c) >= 0 && s(c, a) >= 0
	}
	for len(left) > 3 {
		cut := -1
		for i := range left {
			a, b, c := left[(i+len(left)-1)%len(left)], left[i], left[(i+1)%len(left)]
			if turn(a, b, c) <= 0 {
				continue
			}
			ear := true
			for _, q := range left {
				if q != a && q != b && q != c && inside(q, a, b, c) {
					ear = false
					break
				}
			}
			if ear {
				emit(a, b, c)
				cut = i
				break
			}
		}
		if cut < 0 {
			break
		}
		left = append(left[:cut], left[cut+1:]...)
	}
	for k := 2; k < len(left); k++ {
		emit(left[0], left[k-1], left[k])
	}
}

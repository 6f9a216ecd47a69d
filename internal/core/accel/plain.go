package accel

import (
	"math"
	"math/bits"

	"crust/internal/core/geom"
)

// slack keeps the slab test from losing rays to rounding (Ize, Robust BVH Ray Traversal, 2013).
const slack = 1.0000004

// nodePlain notes in s.hits, for each of rays, which of the node's boxes it meets.
func nodePlain(n *node, o geom.Vec3, far float32, s *Stream, rays uint64) {
	for ; rays != 0; rays &= rays - 1 {
		r := bits.TrailingZeros64(rays)
		var m uint8
		for c := range width {
			if near, ok := slab(n, c, o, &s.inv[r], far); ok && near <= far {
				m |= 1 << c
			}
		}
		s.hits[r] = m
	}
}

func slab(n *node, c int, o geom.Vec3, inv *[3]lanes, far float32) (near float32, ok bool) {
	x0, x1 := (n.minX[c]-o.X)*inv[0][0], (n.maxX[c]-o.X)*inv[0][0]
	y0, y1 := (n.minY[c]-o.Y)*inv[1][0], (n.maxY[c]-o.Y)*inv[1][0]
	z0, z1 := (n.minZ[c]-o.Z)*inv[2][0], (n.maxZ[c]-o.Z)*inv[2][0]
	near = max(min(x0, x1), min(y0, y1), min(z0, z1), 0)
	end := min(max(x0, x1), max(y0, y1), max(z0, z1)) * slack
	return near, near <= min(end, far)
}

// edges are the planes through the ray origin and each edge of a triangle. They point inwards, so
// that a ray whose products with all three are positive meets the triangle ahead of the origin;
// det is six times the volume under the triangle, and t = det / (sum of the three products).
type edges struct {
	e   [3]geom.Vec3
	det float32
}

func edgePlanes(k *block, i int, o geom.Vec3) edges {
	a := geom.Vec3{X: k.ax[i] - o.X, Y: k.ay[i] - o.Y, Z: k.az[i] - o.Z}
	b := geom.Vec3{X: k.bx[i] - o.X, Y: k.by[i] - o.Y, Z: k.bz[i] - o.Z}
	c := geom.Vec3{X: k.cx[i] - o.X, Y: k.cy[i] - o.Y, Z: k.cz[i] - o.Z}
	e := edges{e: [3]geom.Vec3{b.Cross(c), c.Cross(a), a.Cross(b)}}
	e.det = a.Dot(e.e[0])
	if e.det < 0 {
		e.det = -e.det
		for j := range e.e {
			e.e[j] = e.e[j].Neg()
		}
	}
	return e
}

// blockPlain returns which of rays meet a triangle of the block before far.
func blockPlain(k *block, o geom.Vec3, far float32, s *Stream, rays uint64) (hit uint64) {
	for i := range width {
		e := edgePlanes(k, i, o)
		for m := rays &^ hit; m != 0; m &= m - 1 {
			r := bits.TrailingZeros64(m)
			d := geom.Vec3{X: s.dir[r][0][0], Y: s.dir[r][1][0], Z: s.dir[r][2][0]}
			p, q, w := d.Dot(e.e[0]), d.Dot(e.e[1]), d.Dot(e.e[2])
			if min(p, q, w) > 0 && e.det < far*(p+q+w) {
				hit |= 1 << r
			}
		}
	}
	return hit
}

func nearNodePlain(n *node, o geom.Vec3, far float32, s *Stream) (hit uint32) {
	for c := range width {
		near, ok := slab(n, c, o, &s.inv[0], far)
		s.near[c] = near
		if ok {
			hit |= 1 << c
		}
	}
	return hit
}

func nearBlockPlain(k *block, o geom.Vec3, far float32, s *Stream) (hit uint32) {
	d := geom.Vec3{X: s.dir[0][0][0], Y: s.dir[0][1][0], Z: s.dir[0][2][0]}
	for i := range width {
		e := edgePlanes(k, i, o)
		p, q, w := d.Dot(e.e[0]), d.Dot(e.e[1]), d.Dot(e.e[2])
		if sum := p + q + w; min(p, q, w) >= 0 && sum > 0 && e.det <= far*sum {
			s.tHit[i], s.u[i], s.v[i] = e.det/sum, q/sum, w/sum
			hit |= 1 << i
		}
	}
	return hit
}

func spreadPlain(s *rays, n int) {
	apart := func(v float32) float32 {
		if v > -tiny && v < tiny {
			return float32(math.Copysign(tiny, float64(v)))
		}
		return v
	}
	for i := range n {
		s.x[i], s.y[i], s.z[i] = apart(s.x[i]), apart(s.y[i]), apart(s.z[i])
		s.ix[i], s.iy[i], s.iz[i] = 1/s.x[i], 1/s.y[i], 1/s.z[i]
		for j := range width {
			s.dir[i][0][j], s.dir[i][1][j], s.dir[i][2][j] = s.x[i], s.y[i], s.z[i]
			s.inv[i][0][j], s.inv[i][1][j], s.inv[i][2][j] = s.ix[i], s.iy[i], s.iz[i]
		}
	}
}

// gatherPlain turns each ray's byte of children into each child's mask of rays, and returns a bit for
// each child that some ray wants.
func gatherPlain(hits *[StreamSize]uint8, mask *[width]uint64) (any uint64) {
	for r, h := range hits {
		any |= uint64(h)
		for ; h != 0; h &= h - 1 {
			mask[bits.TrailingZeros8(h)&(width-1)] |= 1 << r
		}
	}
	return any
}

func nodeManyPlain(n *node, o geom.Vec3, far float32, s *Stream, rays uint64, mask *[width]uint64) uint64 {
	s.hits = [StreamSize]uint8{}
	nodePlain(n, o, far, s, rays)
	return gatherPlain(&s.hits, mask)
}

// measureNodePlain is nodePlain where each ray has its own end; it also notes in s.near how far the boxes
// are from the origin, squared.
func measureNodePlain(n *node, o geom.Vec3, s *Stream, rays uint64) {
	for c := range width {
		x, y, z := max(n.minX[c]-o.X, o.X-n.maxX[c], 0), max(n.minY[c]-o.Y, o.Y-n.maxY[c], 0), max(n.minZ[c]-o.Z, o.Z-n.maxZ[c], 0)
		s.near[c] = x*x + y*y + z*z
	}
	for ; rays != 0; rays &= rays - 1 {
		r := bits.TrailingZeros64(rays)
		nodePlain(n, o, s.far[r], s, 1<<r)
	}
}

// measureBlockPlain shortens the rays that meet a triangle of the block.
func measureBlockPlain(k *block, o geom.Vec3, s *Stream, rays uint64) {
	for i := range width {
		e := edgePlanes(k, i, o)
		for m := rays; m != 0; m &= m - 1 {
			r := bits.TrailingZeros64(m)
			d := geom.Vec3{X: s.dir[r][0][0], Y: s.dir[r][1][0], Z: s.dir[r][2][0]}
			p, q, w := d.Dot(e.e[0]), d.Dot(e.e[1]), d.Dot(e.e[2])
			if sum := p + q + w; min(p, q, w) > 0 && e.det < s.far[r]*sum {
				s.far[r] = e.det / sum
			}
		}
	}
}

package accel

import (
	"math"
	"math/bits"
	"unsafe"

	"crust/internal/core/geom"
)

// StreamSize is how many rays of one origin travel together.
const StreamSize = 64

// fewRays is where turning hit bits one by one becomes dearer than taking them all apart at once.
const fewRays = 4

// lanes is one value repeated, so that a SIMD kernel loads it instead of broadcasting it.
type lanes [width]float32

// Stream holds up to StreamSize rays and the scratch of their traversal. Each goroutine owns one.
type Stream struct {
	n    int
	axis geom.Vec3 // all rays lie on its side; zero when they may go anywhere
	*rays
	stack      [width * maxDepth]entry
	near       [width]float32
	nearStack  [width * maxDepth]nearEntry
	tHit, u, v lanes
}

// rays are kept on a boundary of 64 bytes: loads that straddle cache lines halved the speed of the kernels.
type rays struct {
	dir  [StreamSize][3]lanes
	inv  [StreamSize][3]lanes
	x    [StreamSize]float32 // directions and reciprocals again, side by side
	y    [StreamSize]float32
	z    [StreamSize]float32
	ix   [StreamSize]float32
	iy   [StreamSize]float32
	iz   [StreamSize]float32
	far  [StreamSize]float32 // how far each ray has to go yet; of Distances
	hits [StreamSize]uint8
}

func newRays() *rays {
	const line = 64
	buf := make([]byte, unsafe.Sizeof(rays{})+line)
	at := unsafe.Pointer(&buf[0])
	return (*rays)(unsafe.Add(at, -uintptr(at)&(line-1)))
}

type entry struct {
	child int32
	rays  uint64
}

type nearEntry struct {
	child int32
	t     float32
}

// Set takes the unit directions of the next query, at most StreamSize of them.
func (s *Stream) Set(dirs []geom.Vec3) { s.SetAround(dirs, geom.Vec3{}) }

// SetAround is Set for directions that all lie on the side of axis: what lies wholly on the other
// side is passed over, as most of the faces round a point of a convex surface do.
func (s *Stream) SetAround(dirs []geom.Vec3, axis geom.Vec3) {
	s.n, s.axis = len(dirs), axis
	if s.rays == nil {
		s.rays = newRays()
	}
	for i, d := range dirs {
		s.x[i], s.y[i], s.z[i] = d.X, d.Y, d.Z
	}
	spreadRays(s.rays, s.n)
}

// tiny keeps components of directions off zero, so that their reciprocals are finite and a box touching the origin's
// plane gives 0 and not NaN.
const tiny = 1e-18

// Occluded sends the stream's rays from o and returns a bit for each that meets a triangle, seen
// from either side, before far.
func (b *BVH) Occluded(o geom.Vec3, far float32, s *Stream) uint64 {
	if len(b.nodes) == 0 || s.n == 0 {
		return 0
	}
	all := ^uint64(0) >> (64 - s.n)
	alive := all
	top := 1
	s.stack[0] = entry{0, all}
	for top > 0 && alive != 0 {
		top--
		e := s.stack[top]
		rays := e.rays & alive
		if rays == 0 {
			continue
		}
		if e.child < 0 {
			alive &^= testBlock(&b.blocks[^e.child], o, far, s, rays)
			continue
		}
		n := &b.nodes[e.child]
		if rays&(rays-1) == 0 {
			// One ray: whichever child it wants, it is the only one.
			testNode(n, o, far, s, rays)
			h := s.hits[bits.TrailingZeros64(rays)&(StreamSize-1)]
			for m := uint32(h) & n.valid; m != 0; m &= m - 1 {
				s.stack[top] = entry{n.child[bits.TrailingZeros32(m)&(width-1)], rays}
				top++
			}
			continue
		}
		var mask [width]uint64
		any := uint64(0) // a bit per child that some ray wants
		switch count := bits.OnesCount64(rays); {
		case count > fewRays && 2*count > s.n:
			any = testNodeMany(n, o, far, s, rays, &mask)
		case count <= fewRays:
			testNode(n, o, far, s, rays)
			for m := rays; m != 0; m &= m - 1 {
				r := bits.TrailingZeros64(m) & (StreamSize - 1)
				h := uint64(s.hits[r])
				any |= h
				for ; h != 0; h &= h - 1 {
					mask[bits.TrailingZeros64(h)&(width-1)] |= 1 << r
				}
			}
		default:
			s.hits = [StreamSize]uint8{}
			testNode(n, o, far, s, rays)
			any = gather(&s.hits, &mask)
		}
		first, most := top, 0
		for m := uint32(any) & n.valid; m != 0; m &= m - 1 {
			c := bits.TrailingZeros32(m) & (width - 1)
			s.stack[top] = entry{n.child[c], mask[c]}
			// The child that most rays want goes on top: a blocker found early ends rays.
			if k := bits.OnesCount64(mask[c]); k > most {
				most, first = k, top
			}
			top++
		}
		if most > 0 {
			s.stack[first], s.stack[top-1] = s.stack[top-1], s.stack[first]
		}
	}
	return all &^ alive
}

// transpose8 turns an 8 × 8 bit matrix held in bytes (Warren, Hacker's Delight, §7-3).
func transpose8(x uint64) uint64 {
	t := (x ^ x>>7) & 0x00AA00AA00AA00AA
	x ^= t ^ t<<7
	t = (x ^ x>>14) & 0x0000CCCC0000CCCC
	x ^= t ^ t<<14
	t = (x ^ x>>28) & 0x00000000F0F0F0F0
	return x ^ t ^ t<<28
}

// Distances sends the stream's rays from o and writes how far each goes before it meets a triangle, seen
// from either side; far when it meets none before that.
func (b *BVH) Distances(o geom.Vec3, far float32, s *Stream, out []float32) {
	for i := range s.n {
		s.far[i] = far
	}
	if len(b.nodes) > 0 && s.n > 0 {
		b.distances(o, s)
	}
	copy(out, s.far[:s.n])
}

func (b *BVH) distances(o geom.Vec3, s *Stream) {
	top := 1
	s.stack[0] = entry{0, ^uint64(0) >> (64 - s.n)}
	for top > 0 {
		top--
		e := s.stack[top]
		if e.child < 0 {
			measureBlock(&b.blocks[^e.child], o, s, e.rays)
			continue
		}
		n := &b.nodes[e.child]
		var mask [width]uint64
		s.hits = [StreamSize]uint8{}
		measureNode(n, o, s, e.rays)
		// The box nearest to the origin goes on top: what is met there spares the rest.
		first := top
		for m := uint32(gather(&s.hits, &mask)) & n.valid; m != 0; m &= m - 1 {
			c := bits.TrailingZeros32(m) & (width - 1)
			t := s.near[c]
			at := top
			for at > first && s.nearStack[at-1].t < t {
				s.stack[at], s.nearStack[at] = s.stack[at-1], s.nearStack[at-1]
				at--
			}
			s.stack[at], s.nearStack[at].t = entry{n.child[c], mask[c]}, t
			top++
		}
	}
}

// Hit is where a ray met the surface: distance in ray lengths, triangle and barycentrics.
type Hit struct {
	T    float32
	Tri  int32
	U, V float32
}

// FirstHit finds the nearest triangle, seen from either side, along o + t·d for 0 < t < far.
func (b *BVH) FirstHit(o, d geom.Vec3, far float32, s *Stream) (Hit, bool) {
	hit := Hit{T: far, Tri: -1}
	if len(b.nodes) == 0 {
		return hit, false
	}
	s.Set([]geom.Vec3{d})
	top := 1
	s.nearStack[0] = nearEntry{0, 0}
	for top > 0 {
		top--
		e := s.nearStack[top]
		if e.t >= hit.T {
			continue
		}
		if e.child < 0 {
			k := &b.blocks[^e.child]
			// What the kernel says of small triangles far away is rough: it tells which are met, and each is measured by itself.
			for m := nearBlock(k, o, math.MaxFloat32, s); m != 0; m &= m - 1 {
				i := bits.TrailingZeros32(m) & (width - 1)
				if h := k.measure(i, o, d, Hit{s.tHit[i], k.tri[i], s.u[i], s.v[i]}); h.T < hit.T || (h.T == hit.T && h.Tri < hit.Tri) {
					hit = h
				}
			}
			continue
		}
		n := &b.nodes[e.child]
		first := top
		for m := nearNode(n, o, hit.T, s) & n.valid; m != 0; m &= m - 1 {
			c := bits.TrailingZeros32(m) & (width - 1)
			t := s.near[c]
			at := top
			for at > first && s.nearStack[at-1].t < t {
				s.nearStack[at] = s.nearStack[at-1]
				at--
			}
			s.nearStack[at] = nearEntry{n.child[c], t}
			top++
		}
	}
	return hit, hit.Tri >= 0
}

// measure is where a ray meets triangle i, which it is known to meet about as h says. It works from a corner of the triangle, so that
// a triangle of a millimetre ten metres away is met where it lies.
func (k *block) measure(i int, o, d geom.Vec3, h Hit) Hit {
	a := geom.Vec3{X: k.ax[i], Y: k.ay[i], Z: k.az[i]}
	e1 := geom.Vec3{X: k.bx[i], Y: k.by[i], Z: k.bz[i]}.Sub(a)
	e2 := geom.Vec3{X: k.cx[i], Y: k.cy[i], Z: k.cz[i]}.Sub(a)
	n := e1.Cross(e2)
	across := d.Dot(n)
	from := a.Sub(o)
	// Seen edge on, or so thin that its normal is not known, there is nothing better than what is known.
	if c := across * across; c < 1e-8*n.Dot(n) || c == 0 {
		return h
	}
	t := from.Dot(n) / across
	p := d.Mul(t).Sub(from) // from the corner
	uu, uv, vv, pu, pv := e1.Dot(e1), e1.Dot(e2), e2.Dot(e2), p.Dot(e1), p.Dot(e2)
	det := uu*vv - uv*uv
	if t < 0 || !(det > 1e-6*uu*vv) {
		return h
	}
	h.T, h.U, h.V = t, geom.Clamp01((vv*pu-uv*pv)/det), geom.Clamp01((uu*pv-uv*pu)/det)
	if over := h.U + h.V; over > 1 {
		h.U, h.V = h.U/over, h.V/over
	}
	return h
}

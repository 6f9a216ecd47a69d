package bake

import (
	"math"
	"math/bits"

	"crust/internal/core/accel"
	"crust/internal/core/geom"
	"crust/internal/core/sobol"
)

// patterns are sets of directions round +Z whose density follows the cosine (Pharr, Jakob &
// Humphreys, Physically Based Rendering, 4th ed., §A.5.3). Each set is a scrambled Sobol point set
// of its own; a texel takes one by hash and turns it by a hashed angle, so that neighbours differ.
type patterns struct {
	rays int
	sets int
	dirs []geom.Vec3
}

func newPatterns(rays int) *patterns {
	p := &patterns{rays: rays, sets: max(16, 1<<15/rays)}
	p.dirs = make([]geom.Vec3, p.sets*rays)
	for s := range p.sets {
		a, b, order := sobol.Hash(uint32(3*s+1)), sobol.Hash(uint32(3*s+2)), sobol.Hash(uint32(3*s+3))
		for i := range rays {
			x, y := sobol.Point(sobol.Owen(bits.Reverse32(uint32(i)), order))
			if rays&(rays-1) == 0 {
				// A power of two: the first points in order are a net already.
				x, y = sobol.Point(uint32(i))
			}
			u, v := float64(sobol.Owen(x, a))/(1<<32), float64(sobol.Owen(y, b))/(1<<32)
			r := math.Sqrt(u)
			sin, cos := math.Sincos(2 * math.Pi * v)
			p.dirs[s*rays+i] = geom.Vec3{X: float32(r * cos), Y: float32(r * sin), Z: float32(math.Sqrt(1 - u))}
		}
	}
	return p
}

// around writes directions for one texel round the unit normal n, those of the set from number from on.
func (p *patterns) around(n geom.Vec3, seed uint32, from int, out []geom.Vec3) {
	h := sobol.Hash(seed)
	set := p.dirs[int(h%uint32(p.sets))*p.rays+from:][:len(out)]
	sin, cos := math.Sincos(2 * math.Pi * float64(sobol.Hash(h)) / (1 << 32))
	x, y := geom.Basis(n)
	c, s := float32(cos), float32(sin)
	x, y = x.Mul(c).Add(y.Mul(s)), y.Mul(c).Sub(x.Mul(s))
	for i, d := range set {
		out[i] = geom.Vec3{
			X: d.X*x.X + d.Y*y.X + d.Z*n.X,
			Y: d.X*x.Y + d.Y*y.Y + d.Z*n.Y,
			Z: d.X*x.Z + d.Y*y.Z + d.Z*n.Z,
		}
	}
}

// Caster casts occlusion rays over a hierarchy in the way that bakes do.
type Caster struct {
	bvh  *accel.BVH
	dirs *patterns
}

// NewCaster makes a caster of the given rays per point.
func NewCaster(b *accel.BVH, rays int) *Caster { return &Caster{b, newPatterns(rays)} }

// Worker is a caster's scratch; each goroutine takes its own.
type Worker struct {
	c      *Caster
	stream accel.Stream
	dirs   []geom.Vec3
	far    [accel.StreamSize]float32
}

// Worker returns fresh scratch.
func (c *Caster) Worker() *Worker { return &Worker{c: c, dirs: make([]geom.Vec3, c.dirs.rays)} }

// Visibility is the share of cosine-weighted rays round the unit normal n that reach far without
// meeting a face. o is already lifted off the surface; seed picks the rays.
func (w *Worker) Visibility(o, n geom.Vec3, far float32, seed uint32) float32 {
	w.c.dirs.around(n, seed, 0, w.dirs)
	hits := 0
	for at := 0; at < len(w.dirs); at += accel.StreamSize {
		w.stream.SetAround(w.dirs[at:min(len(w.dirs), at+accel.StreamSize)], n)
		hits += bits.OnesCount64(w.c.bvh.Occluded(o, far, &w.stream))
	}
	return 1 - float32(hits)/float32(len(w.dirs))
}

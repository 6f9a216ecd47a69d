package accel

import (
	"context"
	"errors"
	"math"
	"math/rand/v2"
	"testing"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
)

// soup is random triangles in a unit box, some of them degenerate.
func soup(n int, seed uint64) Mesh {
	r := rand.New(rand.NewPCG(seed, 1))
	var m Mesh
	for i := range n {
		p := geom.Vec3{X: r.Float32(), Y: r.Float32(), Z: r.Float32()}
		for k := range 3 {
			q := p
			if i%17 != 0 || k == 0 {
				q = p.Add(geom.Vec3{X: r.Float32() - 0.5, Y: r.Float32() - 0.5, Z: r.Float32() - 0.5}.Mul(0.2))
			}
			m.Positions = append(m.Positions, q)
		}
		m.Tris = append(m.Tris, [3]uint32{uint32(3 * i), uint32(3*i + 1), uint32(3*i + 2)})
	}
	return m
}

// meets is the ray–triangle test of Möller & Trumbore, Fast, Minimum Storage Ray/Triangle
// Intersection (1997), in float64. sure is false where the answer hangs on rounding.
func meets(m Mesh, t int, o, d geom.Vec3) (dist float64, hit, sure bool) {
	f := func(v geom.Vec3) [3]float64 { return [3]float64{float64(v.X), float64(v.Y), float64(v.Z)} }
	sub := func(a, b [3]float64) [3]float64 { return [3]float64{a[0] - b[0], a[1] - b[1], a[2] - b[2]} }
	dot := func(a, b [3]float64) float64 { return a[0]*b[0] + a[1]*b[1] + a[2]*b[2] }
	cross := func(a, b [3]float64) [3]float64 {
		return [3]float64{a[1]*b[2] - a[2]*b[1], a[2]*b[0] - a[0]*b[2], a[0]*b[1] - a[1]*b[0]}
	}
	i := m.Tris[t]
	a, b, c := f(m.Positions[i[0]]), f(m.Positions[i[1]]), f(m.Positions[i[2]])
	e1, e2 := sub(b, a), sub(c, a)
	p := cross(f(d), e2)
	det := dot(e1, p)
	if math.Abs(det) < 1e-9 {
		return 0, false, math.Abs(det) < 1e-14
	}
	s := sub(f(o), a)
	u := dot(s, p) / det
	q := cross(s, e1)
	v := dot(f(d), q) / det
	dist = dot(e2, q) / det
	edge := min(u, v, 1-u-v)
	return dist, edge >= 0 && dist > 0, math.Abs(edge) > 1e-3 && math.Abs(dist) > 1e-4
}

func directions(n int, r *rand.Rand) (out []geom.Vec3) {
	for range n {
		out = append(out, geom.Vec3{X: float32(r.NormFloat64()), Y: float32(r.NormFloat64()), Z: float32(r.NormFloat64())}.Norm())
	}
	out[0] = geom.Vec3{X: 1} // rays along an axis have infinite reciprocals
	return out
}

// Both queries against every triangle one by one.
func TestQueriesMatchBruteForce(t *testing.T) {
	for _, n := range []int{1, 5, 9, 300, 3000} {
		m := soup(n, uint64(n))
		b := Build(m)
		s := new(Stream)
		r := rand.New(rand.NewPCG(5, uint64(n)))
		for round := range 40 {
			o := geom.Vec3{X: r.Float32(), Y: r.Float32(), Z: r.Float32()}
			far := float32(math.Inf(1))
			if round%2 == 1 {
				far = 0.1 + 0.4*r.Float32()
			}
			dirs := directions(1+round%StreamSize, r)
			s.Set(dirs)
			mask := b.Occluded(o, far, s)
			var long [StreamSize]float32
			b.Distances(o, far, s, long[:len(dirs)])
			for k, d := range dirs {
				nearest, at, sure := math.Inf(1), -1, true
				for i := range m.Tris {
					dist, hit, ok := meets(m, i, o, d)
					sure = sure && (ok || dist > float64(far)*1.1)
					if hit && dist < nearest {
						nearest, at = dist, i
					}
				}
				if !sure || math.Abs(nearest-float64(far)) < 1e-4 {
					continue
				}
				if want := nearest < float64(far); (mask>>k&1 != 0) != want {
					t.Fatalf("%d triangles, ray %v %v up to %g: occluded %v, brute force %v", n, o, d, far, !want, want)
				}
				if want := min(nearest, float64(far)); math.Abs(float64(long[k])-want) > 1e-4 {
					t.Fatalf("%d triangles: ray %v %v goes %g, brute force %g", n, o, d, long[k], want)
				}
				hit, ok := b.FirstHit(o, d, far, new(Stream))
				if ok != (nearest < float64(far)) || (ok && (int(hit.Tri) != at || math.Abs(float64(hit.T)-nearest) > 1e-4)) {
					t.Fatalf("%d triangles: first hit %+v %v, brute force triangle %d at %g", n, hit, ok, at, nearest)
				}
				if ok {
					i := m.Tris[hit.Tri]
					p := geom.Bary(m.Positions[i[0]], m.Positions[i[1]], m.Positions[i[2]], hit.U, hit.V)
					if p.Dist(o.Add(d.Mul(hit.T))) > 1e-4 {
						t.Fatalf("barycentrics give %v, the ray %v", p, o.Add(d.Mul(hit.T)))
					}
				}
			}
		}
	}
}

// Telling the side that all rays lie on changes nothing but the time.
func TestTheAxisChangesNoAnswer(t *testing.T) {
	m := mesh.BumpySphere(64, 32)
	b := Build(Mesh{Positions: m.Positions, Tris: m.Tris})
	r := rand.New(rand.NewPCG(11, 2))
	s := new(Stream)
	met := 0
	for k := range m.Tris {
		p, q, c := m.Corners(k)
		n := m.FaceNormal(k)
		dirs := directions(StreamSize, r)
		for i, d := range dirs {
			if d.Dot(n) < 0 {
				dirs[i] = d.Neg()
			}
		}
		o := geom.Bary(p, q, c, 0.3, 0.3).Add(n.Mul(1e-4))
		s.Set(dirs)
		want := b.Occluded(o, 1, s)
		s.SetAround(dirs, n)
		if got := b.Occluded(o, 1, s); got != want {
			t.Fatalf("at face %d rays %b are stopped, without the axis %b", k, got, want)
		}
		if want != 0 {
			met++
		}
	}
	if met < len(m.Tris)/10 {
		t.Errorf("only %d of %d points meet anything", met, len(m.Tris))
	}
}

func TestBuildingStopsWhenAsked(t *testing.T) {
	ctx, stop := context.WithCancel(context.Background())
	stop()
	m := mesh.BumpySphere(128, 64)
	if b, err := BuildWithin(ctx, Mesh{Positions: m.Positions, Tris: m.Tris}); b != nil || !errors.Is(err, context.Canceled) {
		t.Errorf("a stopped build gives %v, %v", b, err)
	}
}

// A closed surface lets no ray out between its triangles.
func TestClosedSurfaceDoesNotLeak(t *testing.T) {
	m := mesh.Sphere(64, 32, 1, [3]float64{})
	b := Build(Mesh{Positions: m.Positions, Tris: m.Tris})
	r := rand.New(rand.NewPCG(7, 8))
	s := new(Stream)
	out := 0
	for range 2000 {
		dirs := directions(StreamSize, r)
		s.Set(dirs)
		for k := b.Occluded(geom.Vec3{X: 0.1, Y: 0.2, Z: 0.05}, float32(math.Inf(1)), s); k != math.MaxUint64; k |= k + 1 {
			out++
		}
	}
	if out > 0 {
		t.Errorf("%d of 128,000 rays left a closed sphere", out)
	}
}

// The vector kernels, when they are in use, agree with the plain ones ray by ray.
func TestKernelsAgree(t *testing.T) {
	m := soup(2000, 3)
	b := Build(m)
	r := rand.New(rand.NewPCG(9, 9))
	s := new(Stream)
	differ, all := 0, 0
	for range 200 {
		o := geom.Vec3{X: r.Float32(), Y: r.Float32(), Z: r.Float32()}
		s.Set(directions(StreamSize, r))
		for i := range b.blocks {
			x, y := testBlock(&b.blocks[i], o, 0.4, s, math.MaxUint64), blockPlain(&b.blocks[i], o, 0.4, s, math.MaxUint64)
			for d := x ^ y; d != 0; d &= d - 1 {
				differ++
			}
			all += StreamSize
		}
		for i := range b.nodes {
			testNode(&b.nodes[i], o, 0.4, s, math.MaxUint64)
			x := s.hits
			nodePlain(&b.nodes[i], o, 0.4, s, math.MaxUint64)
			for k := range x {
				if x[k]&uint8(b.nodes[i].valid) != s.hits[k]&uint8(b.nodes[i].valid) {
					differ++
				}
			}
		}
	}
	// Rays that graze an edge may fall either side of rounding.
	if differ > all/100_000 {
		t.Errorf("%d of %d answers differ", differ, all)
	}
}

func TestAnEmptyMeshBlocksNothing(t *testing.T) {
	b := Build(Mesh{Positions: []geom.Vec3{{}, {}, {}}, Tris: [][3]uint32{{0, 1, 2}}})
	s := new(Stream)
	s.Set([]geom.Vec3{{X: 1}})
	if b.Occluded(geom.Vec3{}, 1, s) != 0 {
		t.Error("a triangle without area blocks a ray")
	}
	if _, ok := b.FirstHit(geom.Vec3{}, geom.Vec3{X: 1}, 1, s); ok {
		t.Error("a triangle without area is hit")
	}
}

// Triangles of a centimetre, ten metres away, are met where they lie, and those of a sheet before those of another a millimetre behind it:
// a plane's own formula.
func TestSmallTrianglesFarAwayAreMetInOrder(t *testing.T) {
	const n, side = 60, 0.01
	var m Mesh
	for layer := range 2 {
		first := uint32(len(m.Positions))
		for j := range n + 1 {
			for i := range n + 1 {
				m.Positions = append(m.Positions, geom.Vec3{X: 3 + float32(i)*side, Y: 2 + float32(j)*side, Z: -float32(layer) * 0.001})
			}
		}
		for j := range uint32(n) {
			for i := range uint32(n) {
				a := first + j*(n+1) + i
				m.Tris = append(m.Tris, [3]uint32{a, a + 1, a + n + 2}, [3]uint32{a, a + n + 2, a + n + 1})
			}
		}
	}
	b := Build(m)
	o := geom.Vec3{X: 0.5, Y: -1, Z: 9}
	var s Stream
	behind, worst := 0, 0.0
	for k := range 4000 {
		at := geom.Vec3{X: 3 + side*(2+56*float32(k%63)/63), Y: 2 + side*(2+56*float32(k/63)/64)}
		d := at.Sub(o).Norm()
		h, ok := b.FirstHit(o, d, math.MaxFloat32, &s)
		if !ok {
			t.Fatalf("ray %d comes through", k)
		}
		if int(h.Tri) >= len(m.Tris)/2 {
			behind++
			continue
		}
		tri := m.Tris[h.Tri]
		p := geom.Bary(m.Positions[tri[0]], m.Positions[tri[1]], m.Positions[tri[2]], h.U, h.V)
		worst = max(worst, float64(p.Dist(at)), math.Abs(float64(h.T)-float64(-o.Z/d.Z)))
	}
	if behind > 4 || worst > 0.0015 {
		t.Errorf("%d of 4000 rays meet the sheet behind, others are up to %.6f m off", behind, worst)
	}
}

package field

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"crust/internal/core/geom"
)

// floorOf is a square floor of some metres, its corner somewhere.
func floorOf(side float32) *geom.Square {
	return &geom.Square{Low: geom.Vec3{X: 3, Y: 0.7, Z: -1}, U: geom.Vec3{X: side}, V: geom.Vec3{Z: -side}}
}

// blockOn is places u, v of a square.
func blockOn(q *geom.Square, u, v []float32) *Block {
	n := len(u)
	b := &Block{Part: make([]int32, n), Square: q, Pitch: 0.0005, Floor: q.Box().Min}
	for _, p := range []*[]float32{&b.X, &b.Y, &b.Z, &b.NX, &b.NY, &b.NZ} {
		*p = make([]float32, n)
	}
	for i := range u {
		p := q.Low.Add(q.U.Mul(u[i])).Add(q.V.Mul(v[i]))
		b.X[i], b.Y[i], b.Z[i], b.NY[i] = p.X, p.Y, p.Z, 1
	}
	return b
}

func random01(n int, seed uint64) []float32 {
	r := rand.New(rand.NewPCG(seed, 7))
	out := make([]float32, n)
	for i := range out {
		out[i] = r.Float32()
	}
	return out
}

// What a torus is: a place and the same place of any copy are one. Plates and cracks jump from cell to cell, so that of places
// right on such a line a few may fall to either side.
func TestFieldsRepeatOnASquare(t *testing.T) {
	const n = 2000
	q := floorOf(2)
	u, v := random01(n, 1), random01(n, 2)
	moved := func(x []float32, by float32) []float32 {
		out := make([]float32, n)
		for i := range out {
			out[i] = x[i] + by
		}
		return out
	}
	noise, _ := KindOf("noise")
	pattern, _ := KindOf("pattern")
	check := func(k *Kind, what string, p []float64) {
		t.Helper()
		at, other := make([]float32, n), make([]float32, n)
		k.Fill(blockOn(q, u, v), p, nil, at)
		low, high := float32(1), float32(0)
		for _, x := range at {
			low, high = min(low, x), max(high, x)
		}
		if high-low < 0.2 {
			t.Errorf("%s lies between %g and %g alone", what, low, high)
		}
		for _, by := range [][2]float32{{1, 0}, {0, 1}, {-1, 2}} {
			k.Fill(blockOn(q, moved(u, by[0]), moved(v, by[1])), p, nil, other)
			off := 0
			for i := range at {
				if math.Abs(float64(at[i]-other[i])) > 0.02 {
					off++
				}
			}
			if off > n/100 {
				t.Errorf("%s: %d of %d places are others in the copy %v", what, off, n, by)
			}
		}
	}
	for f, form := range forms {
		for _, size := range []float64{0.04, 0.31, 1.7} {
			for _, stretch := range [][2]float64{{1, 0}, {6, 1}, {3, 2}} {
				if size > 1 && slices.Contains([]string{"scratches", "speckles", "stains"}, form.name) {
					continue // of one or two there may be none
				}
				check(noise, form.name, []float64{size, 4, 0.5, float64(f), 3, stretch[0], stretch[1], 0})
			}
		}
	}
	for f, form := range motifs {
		for _, turn := range []float64{0, 30, 45, 90} {
			for _, jitter := range []float64{0, 0.7} {
				check(pattern, form.name, []float64{float64(f), 0.11, 0.1, jitter, turn, 0, 5})
			}
		}
	}
}

// On a square noise has the mean and the spread that it has in space, so that what was shaped for the one fits the other.
func TestNoiseOnASquareIsAsStrongAsInSpace(t *testing.T) {
	const n = 40000
	q := floorOf(2)
	k, _ := KindOf("noise")
	spread := func(v []float32) (mean, dev float64) {
		for _, x := range v {
			mean += float64(x) / float64(len(v))
		}
		for _, x := range v {
			dev += (float64(x) - mean) * (float64(x) - mean) / float64(len(v))
		}
		return mean, math.Sqrt(dev)
	}
	for f, form := range forms {
		p := []float64{0.06, 5, 0.55, float64(f), 9, 1, 0, 0}
		on, in := make([]float32, n), make([]float32, n)
		k.Fill(blockOn(q, random01(n, 3), random01(n, 4)), p, nil, on)
		b := strewn(n, 4)
		b.Pitch = 0.0005
		k.Fill(b, p, nil, in)
		m1, d1 := spread(on)
		m2, d2 := spread(in)
		if math.Abs(m1-m2) > 0.04 || math.Abs(d1/d2-1) > 0.2 {
			t.Errorf("%s: mean %.3f, spread %.3f on a square; %.3f, %.3f in space", form.name, m1, d1, m2, d2)
		}
	}
}

// Whole vectors that lead to the same count as many unlike places as the area that they span (the determinant of a lattice), and
// any sum of them leads to the same.
func TestPlacesOfAWeftAreCounted(t *testing.T) {
	for _, c := range []struct{ x, y [2]int64 }{{[2]int64{5, 0}, [2]int64{0, 7}}, {[2]int64{4, 3}, [2]int64{-3, 5}}, {[2]int64{0, 6}, [2]int64{8, 2}}} {
		w, ok := weftOf(c.x, c.y)
		if !ok {
			t.Fatalf("%v is none", c)
		}
		unlike := map[[2]int64]bool{}
		for i := int64(-20); i < 20; i++ {
			for j := int64(-20); j < 20; j++ {
				x, y, _ := w.same(i, j)
				unlike[[2]int64{x, y}] = true
				if p, q, _ := w.same(i+2*c.x[0]-3*c.y[0], j+2*c.x[1]-3*c.y[1]); p != x || q != y {
					t.Fatalf("%v: %d %d leads to %d %d and to %d %d", c, i, j, x, y, p, q)
				}
			}
		}
		if want := c.x[0]*c.y[1] - c.x[1]*c.y[0]; int64(len(unlike)) != max(want, -want) {
			t.Errorf("%v: %d places, want %d", c, len(unlike), want)
		}
	}
	if _, ok := weftOf([2]int64{2, 4}, [2]int64{3, 6}); ok {
		t.Error("vectors on one line span a plane")
	}
}

// The vectors of a tripod stand square to each other and are as long as it says: so a lattice point is known by its parts along them.
func TestTripodsStandSquare(t *testing.T) {
	for _, p := range tripods {
		of := [3]geom.Vec3{geom.FromArray(p.a), geom.FromArray(p.b), geom.FromArray(p.c)}
		for i := range of {
			for j := range of {
				want := float32(0)
				if i == j {
					want = p.long * p.long
				}
				if got := of[i].Dot(of[j]); got != want {
					t.Errorf("%v: %g, want %g", p, got, want)
				}
			}
		}
	}
}

// Vectors give what the plain kernels do.
func TestVectorsOnASquareAgreeWithThePlainKernels(t *testing.T) {
	const n = 1000
	s, u := random01(n, 5), random01(n, 6)
	shift := shiftOf(2)
	c := carpetFor(13.4, 9.1, 2)
	wide := make([]float32, n)
	c.weave(s, u, &shift, 0.8, 5, wide)
	var q strew
	q.first, q.second, q.mark = make([]float32, n), make([]float32, n), make([]uint32, n)
	c.near(&q, s, u, &shift, 5)
	for i := range n {
		var plain [1]float32
		x, y, z := c.place(s[i], u[i], &shift)
		plain[0] = 0.8 * c.gradient(x, y, z, 5)
		if math.Abs(float64(plain[0]-wide[i])) > 2e-4 {
			t.Fatalf("place %d: %g and %g", i, plain[0], wide[i])
		}
		one := strew{make([]float32, 1), make([]float32, 1), make([]uint32, 1)}
		c.near(&one, s[i:i+1], u[i:i+1], &shift, 5)
		if math.Abs(float64(one.first[0]-q.first[i])) > 1e-4 || one.mark[0] != q.mark[i] && math.Abs(float64(q.first[i]-q.second[i])) > 1e-3 {
			t.Fatalf("place %d: F1 %g and %g", i, one.first[0], q.first[i])
		}
	}
}

// Whole repeats of a pattern come as near to what is asked for as whole numbers do.
func TestPatternsRepeatWholly(t *testing.T) {
	for _, c := range []struct {
		right, down, turn float64
		cell              [2]float32
		s, t              [2]float32
	}{
		{10.2, 9.8, 0, [2]float32{1, 1}, [2]float32{10, 0}, [2]float32{0, 10}},
		{9, 9, 0, [2]float32{2, 2}, [2]float32{10, 0}, [2]float32{0, 10}},
		{10, 10, 90, [2]float32{1, 1}, [2]float32{0, 10}, [2]float32{-10, 0}},
		{10, 10, 36.87, [2]float32{1, 1}, [2]float32{8, 6}, [2]float32{-6, 8}},
		{0.2, 0.2, 0, [2]float32{7, 3}, [2]float32{7, 0}, [2]float32{0, 3}},
	} {
		sin, cos := math.Sincos(c.turn * math.Pi / 180)
		_, _, s, d := wholeRepeats(float32(c.right), float32(c.down), float32(sin), float32(cos), c.cell, [2]float32{1, 1})
		if s != c.s || d != c.t {
			t.Errorf("%+v: %v and %v", c, s, d)
		}
	}
}

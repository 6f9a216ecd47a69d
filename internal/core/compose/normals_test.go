package compose

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

// The vector kernels of slopes do what the plain ones do, also where neighbours are missing.
func TestVectorSlopesMatchThePlainOnes(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 1))
	a, b := new(slopes), new(slopes)
	for i := range a.heights {
		if a.heights[i] = r.Float32() * 0.01; r.IntN(5) == 0 {
			a.heights[i] = nan
		}
	}
	const n = 61
	at := reliefAt(20*64 + 2)
	for i := range n {
		a.heights[at+i] = r.Float32() * 0.01 // the places themselves are there
	}
	for _, p := range [][]float32{a.tu[:n], a.bu[:n], a.bv[:n]} {
		for i := range p {
			p[i] = r.Float32()*400 - 200
		}
	}
	*b = *a
	a.differ(0, at, n)
	b.differPlain(0, at, n)
	a.du[7], a.dv[7], b.du[7], b.dv[7] = 0, 0, 0, 0 // flat: the normal stays as it is, to the bit
	var v, w [3][]float32
	for range n {
		u := unit(r.Float32()-0.5, r.Float32()-0.5, 1)
		for k := range v {
			v[k] = append(v[k], u[k])
		}
	}
	for k := range v {
		w[k] = slices.Clone(v[k])
	}
	was := [3]float32{v[0][7], v[1][7], v[2][7]}
	a.tilt(&v)
	b.tiltPlain(&w, 0)
	for i := range n {
		if math.Abs(float64(a.du[i]-b.du[i])) > 1e-7 || math.Abs(float64(a.dv[i]-b.dv[i])) > 1e-7 {
			t.Fatalf("place %d: differences %g, %g, plain %g, %g", i, a.du[i], a.dv[i], b.du[i], b.dv[i])
		}
		for k := range v {
			if math.Abs(float64(v[k][i]-w[k][i])) > 2e-5 {
				t.Fatalf("place %d: %g, plain %g", i, v[k][i], w[k][i])
			}
		}
	}
	if now := [3]float32{v[0][7], v[1][7], v[2][7]}; now != was {
		t.Errorf("a flat place turned from %v to %v", was, now)
	}
}

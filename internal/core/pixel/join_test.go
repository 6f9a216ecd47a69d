package pixel

import (
	"math"
	"math/rand/v2"
	"testing"
)

// The kernels, held to the plain ones; lengths are not multiples of a vector's.
func TestJoinsAndWidthsAgreeWithThePlainOnes(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 1))
	const n = 1021
	a, v := make([]float32, n), make([]float32, n)
	q := make([]uint16, n)
	for i := range a {
		a[i], v[i], q[i] = r.Float32(), 1.4*r.Float32()-0.2, uint16(r.IntN(65536))
	}
	for j := JoinAnd; j <= JoinReplace; j++ {
		for _, s := range []float32{1, 0.3} {
			got, want := append([]float32(nil), a...), append([]float32(nil), a...)
			j.Lay(got, v, s)
			joinPlain(j, want, v, s)
			for i := range got {
				if math.Abs(float64(got[i]-want[i])) > 1e-6 {
					t.Fatalf("join %d at strength %g: %g and %g give %g, want %g", j, s, a[i], v[i], got[i], want[i])
				}
			}
		}
	}
	wide, wideWant := make([]float32, n), make([]float32, n)
	Widen(wide, q, 1./65535)
	widenPlain(wideWant, q, 1./65535)
	narrow, back := make([]uint16, n), make([]uint16, n)
	Narrow(narrow, v)
	Narrow(back, wide)
	for i := range wide {
		if wide[i] != wideWant[i] || back[i] != q[i] {
			t.Errorf("%d widens to %g, want %g, and comes back as %d", q[i], wide[i], wideWant[i], back[i])
		}
		if narrow[i] != Q16(v[i]) {
			t.Errorf("%g narrows to %d, want %d", v[i], narrow[i], Q16(v[i]))
		}
	}
}

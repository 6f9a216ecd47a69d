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
	widenPlain(wideWant, q, 1./65535, 0)
	from, signed, of := make([]float32, n), make([]float32, n), make([]int16, n)
	for i, x := range q {
		of[i] = int16(x)
	}
	WidenFrom(from, q, 0.25/65535, -3)
	WidenSigned(signed, of, 1./32767)
	for i := range q {
		if want := -3 + 0.25*float64(q[i])/65535; math.Abs(float64(from[i])-want) > 1e-6 {
			t.Errorf("%d from −3 in quarters is %g, want %g", q[i], from[i], want)
		}
		if want := float64(of[i]) / 32767; math.Abs(float64(signed[i])-want) > 1e-6 {
			t.Errorf("%d, signed, widens to %g, want %g", of[i], signed[i], want)
		}
	}
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

// Bytes is Q8 of each value, also at the ends of runs and for values out of range.
func TestBytesRoundAsQ8(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 5))
	for _, n := range []int{0, 1, 7, 8, 9, 31, 4096} {
		var v [3][]float32
		for k := range v {
			for range n {
				v[k] = append(v[k], random.Float32()*1.4-0.2)
			}
		}
		scale, offset := [3]float32{1, 0.5, -0.5}, [3]float32{0, 0.5, 0.5}
		got := make([]uint8, 3*n)
		Bytes(got, &v, &scale, &offset)
		for i := range n {
			for k := range v {
				if want := Q8(v[k][i]*scale[k] + offset[k]); got[3*i+k] != want {
					t.Fatalf("value %d of %d: %g becomes %d, want %d", i, n, v[k][i], got[3*i+k], want)
				}
			}
		}
	}
}

// Counting finds every value, at any length, also where one lane alone holds something.
func TestCountFindsEveryValue(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 3))
	for _, n := range []int{0, 1, 15, 16, 17, 4096, 16*32767 + 40} {
		q := make([]uint16, n)
		if some, over := Count(q, 3277); some || over != 0 {
			t.Errorf("%d noughts: %v, %d", n, some, over)
		}
		want := 0
		for i := range q {
			if q[i] = uint16(random.Uint32()); q[i] >= 3277 {
				want++
			}
		}
		if some, over := Count(q, 3277); some != (n > 0) || over != want {
			t.Errorf("%d values: %v, %d of %d", n, some, over, want)
		}
		if n > 0 {
			clear(q)
			q[n-1] = 1
			if some, over := Count(q, 3277); !some || over != 0 {
				t.Errorf("a last 1 of %d: %v, %d", n, some, over)
			}
		}
	}
}

// What is settled stays so whatever joins it, at any strength, and nothing else stays so whatever joins it.
func TestSettledValuesStay(t *testing.T) {
	for j := JoinAnd; j <= JoinReplace; j++ {
		at, ok := j.Settled()
		for _, x := range []float32{0, 0.3, 1} {
			moved := false
			for _, v := range []float32{0, 0.2, 0.7, 1} {
				moved = moved || j.Mix(x, v) != x
			}
			if settled := ok && x == at; settled == moved {
				t.Errorf("join %d: %g is settled: %v, and something moves it: %v", j, x, settled, moved)
			}
		}
	}
}

func TestSameCountsWhatIsEqual(t *testing.T) {
	for _, n := range []int{0, 1, 7, 8, 9, 1000} {
		v, want := make([]float32, n), 0
		for i := range v {
			if v[i] = float32(i % 3); i%3 == 1 {
				want++
			}
		}
		if got := Same(v, 1); got != want {
			t.Errorf("%d of %d are the same, want %d", got, n, want)
		}
	}
}

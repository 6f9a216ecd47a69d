package bake

import (
	"cmp"
	"context"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"crust/internal/core/mesh"
)

// Keys interleave the coordinates' bits, that of x first (Morton order, by its definition).
func TestCellKeysInterleaveBits(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 1))
	for range 1000 {
		at := [3]int32{random.Int32N(1 << 21), random.Int32N(1 << 21), random.Int32N(1 << 21)}
		want := uint64(0)
		for bit := range 21 {
			for axis, v := range at {
				want |= uint64(v>>bit&1) << (3*bit + 2 - axis)
			}
		}
		if got := cellKey(at[0], at[1], at[2]); got != want {
			t.Fatalf("%v has key %#x, want %#x", at, got, want)
		}
	}
}

// The radix sort gives the order of the library's stable sort, whatever the keys' length.
func TestPlacesAreSortedStably(t *testing.T) {
	random := rand.New(rand.NewPCG(2, 2))
	for _, most := range []uint64{0, 1, 300, 1 << 33, 1<<63 - 1} {
		list := make([]place, 5000)
		for i := range list {
			list[i] = place{random.Uint64N(most/8+1) * 7, 0, int32(i)}
		}
		want := slices.Clone(list)
		slices.SortStableFunc(want, func(a, b place) int { return cmp.Compare(a.key, b.key) })
		if got := radixSort(list, most); !slices.Equal(got, want) {
			t.Errorf("keys up to %d come out in another order", most)
		}
	}
}

// A cloud that is made from the points of a finer one is nearer to one of very many samples than one that took its own.
func TestWidenedCloudsReadAsFineOnes(t *testing.T) {
	m := mesh.BumpySphere(128, 64)
	const radius = 0.04
	read := func(r float32, doublings ...int) (out []float64) {
		clouds, err := newClouds(context.Background(), m, m.Normals, r, doublings...)
		if err != nil {
			t.Fatal(err)
		}
		c := clouds[len(clouds)-1]
		var k near
		for i := 0; i < len(m.Positions); i += 11 {
			out = append(out, float64(c.mean(m.Positions[i], m.Normals[i], &k)*c.radius))
		}
		return out
	}
	apart := func(a, b []float64) float64 {
		sum, spread := 0.0, 0.0
		for i, v := range a {
			sum += (v - b[i]) * (v - b[i])
			spread += v * v
		}
		return math.Sqrt(sum / spread)
	}
	own, widened, finest := read(4*radius, 0), read(radius, 0, 1, 2), read(radius/4, 0, 2, 4)
	if d := apart(finest, widened); d > 0.03 || d > apart(finest, own) {
		t.Errorf("a widened cloud is %.4f off, one of its own samples %.4f", d, apart(finest, own))
	}
}

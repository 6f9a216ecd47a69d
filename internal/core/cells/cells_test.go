package cells

import (
	"cmp"
	"context"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"crust/internal/core/geom"
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
		if got := Key(at[0], at[1], at[2]); got != want {
			t.Fatalf("%v has key %#x, want %#x", at, got, want)
		}
	}
}

// The radix sort gives the order of the library's stable sort, whatever the keys' length.
func TestPlacesAreSortedStably(t *testing.T) {
	random := rand.New(rand.NewPCG(2, 2))
	for _, most := range []uint64{0, 1, 300, 1 << 33, 1<<63 - 1} {
		list := make([]Place, 5*leastPart/2+1) // more than one part
		for i := range list {
			list[i] = Place{random.Uint64N(most/8+1) * 7, 0, int32(i)}
		}
		want := slices.Clone(list)
		slices.SortStableFunc(want, func(a, b Place) int { return cmp.Compare(a.Key, b.Key) })
		if got, err := Sort(context.Background(), list, most); err != nil || !slices.Equal(got, want) {
			t.Errorf("keys up to %d come out in another order", most)
		}
	}
}

// The pieces of a triangle share its area out and lie in it; their middles, weighed by area, meet at its centroid.
func TestPiecesShareATriangleOut(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 3))
	for range 300 {
		at := func() geom.Vec3 {
			return geom.Vec3{X: random.Float32(), Y: random.Float32(), Z: 0.2 * random.Float32()}
		}
		a, b, c := at(), at(), at()
		want, area, n := b.Sub(a).Cross(c.Sub(a)).Len()/2, float32(0), 0
		var middle geom.Vec3
		Pieces(a, b, c, 0.05, func(u, v, piece float32) {
			if u < 0 || v < 0 || u+v > 1 || piece > 2*0.05*0.05 {
				t.Fatalf("a piece of %g m² lies at (%g, %g)", piece, u, v)
			}
			area += piece
			middle = middle.Add(geom.Bary(a, b, c, u, v).Mul(piece))
			n++
		})
		centroid := a.Add(b).Add(c).Mul(1. / 3)
		if d := middle.Mul(1 / area).Dist(centroid); math.Abs(float64(area-want)) > 1e-5*float64(want) || d > 0.004 {
			t.Fatalf("pieces of %g m² lie round a point %g m off the centroid of a triangle of %g m²", area, d, want)
		}
		if most := MostPieces(a, b, c, 0.05); n > most {
			t.Fatalf("%d pieces are more than the most of %d", n, most)
		}
	}
}

// The points that are found round a cell are those of its 27, by looking at every one.
func TestLookFindsTheCellsRound(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 4))
	var list []Place
	var at [][3]int32
	for i := range 3000 {
		p := [3]int32{1 + random.Int32N(18), 1 + random.Int32N(18), 1 + random.Int32N(18)}
		at, list = append(at, p), append(list, Place{Key: Key(p[0], p[1], p[2]), I: int32(i)})
	}
	list, err := Sort(context.Background(), list, Key(20, 20, 20))
	if err != nil {
		t.Fatal(err)
	}
	x := NewIndex(len(list))
	for i := 0; i < len(list); {
		j := i
		for j < len(list) && list[j].Key == list[i].Key {
			j++
		}
		x.Put(list[i].Key, int32(i), int32(j))
		i = j
	}
	var k Near
	for range 500 {
		p := [3]int32{1 + random.Int32N(18), 1 + random.Int32N(18), 1 + random.Int32N(18)}
		x.Look(p, &k)
		found := map[int32]bool{}
		for _, r := range k.Ranges() {
			for _, o := range list[r[0]:r[1]] {
				found[o.I] = true
			}
		}
		for i, q := range at {
			near := true
			for axis := range 3 {
				near = near && q[axis] >= p[axis]-1 && q[axis] <= p[axis]+1
			}
			if near != found[int32(i)] {
				t.Fatalf("a point in cell %v is found from cell %v: %v", q, p, found[int32(i)])
			}
		}
	}
}

package surface

import (
	"context"
	"errors"
	"math/rand/v2"
	"testing"

	"crust/internal/core/uv"
)

// Padding is compared with brute force over every covered texel (checks: “equal distances everywhere”).
func TestPaddingIsTheNearestCoveredTexel(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for round := range 40 {
		n := 5 + r.IntN(40)
		s := &Surface{Set: &uv.Set{Name: "x"}, Size: n}
		density := []float64{0.002, 0.02, 0.2, 0.7}[round%4]
		for at := range n * n {
			if r.Float64() < density {
				s.Texel = append(s.Texel, uint32(at))
			}
		}
		if len(s.Texel) == 0 {
			s.Texel = append(s.Texel, uint32(r.IntN(n*n)))
		}
		if err := s.Pad(context.Background()); err != nil {
			t.Fatal(err)
		}
		dist := func(a, b int) int {
			dx, dy := a%n-b%n, a/n-b/n
			return dx*dx + dy*dy
		}
		for at := range n * n {
			best := 1 << 30
			for _, c := range s.Texel {
				best = min(best, dist(at, int(c)))
			}
			if got := dist(at, int(s.Texel[s.Nearest[at]])); got != best {
				t.Fatalf("size %d, texel %d: squared distance %d, brute force finds %d", n, at, got, best)
			}
		}
	}
}

func TestPaddingAnEmptySetSaysSo(t *testing.T) {
	s := &Surface{Set: &uv.Set{Name: "hull"}, Size: 8}
	if err := s.Pad(context.Background()); !errors.Is(err, ErrEmpty) {
		t.Fatalf("%v for a set that covers nothing", err)
	}
}

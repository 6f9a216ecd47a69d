package pixel

import (
	"bytes"
	"math/rand/v2"
	"slices"
	"testing"
)

// Texels come out where they are wanted, whether they stand side by side or not, up to the last.
func TestTexelsSpreadToRGBA(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 6))
	pix := make([]uint8, 3*40+1)
	for i := range pix {
		pix[i] = uint8(r.IntN(256))
	}
	for round := range 200 {
		var near []int32
		for range r.IntN(30) {
			if last := len(near) - 1; last >= 0 && near[last] < 39 && r.IntN(4) > 0 {
				near = append(near, near[last]+1)
			} else {
				near = append(near, r.Int32N(40))
			}
		}
		var want []uint8
		for _, i := range near {
			want = append(want, pix[3*i], pix[3*i+1], pix[3*i+2], 255)
		}
		got := make([]uint8, 4*len(near))
		if Spread(got, pix, near); !bytes.Equal(got, want) {
			t.Fatalf("round %d: %v become %v, want %v", round, near, got, want)
		}
	}
}

// Coverage over coverage is a + c − a·c, rounded to the nearest of 65,535 steps (the over operator of Porter & Duff, 1984), and
// a · (1 − c) where it is taken away; every 16-bit value meets all kinds of coverages.
func TestCoverageIsLaidOverIn16Bits(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for _, away := range []bool{false, true} {
		const n = 65536 + 5
		paint, cover := make([]uint16, n), make([]float32, n)
		for i := range paint {
			paint[i] = uint16(i)
			cover[i] = min(1, max(-0.1, r.Float32()*1.4-0.2))
		}
		got := slices.Clone(paint)
		Cover16(got, cover, away)
		for i, p := range paint {
			a, c := float64(p), float64(uint32(max(0, cover[i])*65535+0.5))/65535
			want := a + (65535-a)*c
			if away {
				want = a - a*c
			}
			if d := float64(got[i]) - want; d < -0.501 || d > 0.501 {
				t.Fatalf("away %v: %d under %g becomes %d, want %g", away, p, cover[i], got[i], want)
			}
		}
		plain := slices.Clone(paint)
		cover16Plain(plain, cover, away)
		if !slices.Equal(plain, got) {
			t.Errorf("away %v: the kernel differs from the plain one", away)
		}
	}
}

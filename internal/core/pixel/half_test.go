package pixel

import (
	"math"
	"testing"
)

// IEEE 754-2008 binary16: exact values, rounding to nearest even, subnormals, the largest number.
func TestHalfFollowsIEEE754(t *testing.T) {
	for _, c := range []struct {
		in   float32
		want uint16
	}{{0, 0}, {1, 0x3c00}, {-2, 0xc000}, {0.5, 0x3800}, {65504, 0x7bff}, {1e9, 0x7bff}, {6.1035156e-05, 0x0400}, {5.9604645e-08, 0x0001}, {0.33325195, 0x3555}, {1.0004883, 0x3c00}, {1.0014648, 0x3c02}} {
		if got := Half(c.in); got != c.want {
			t.Errorf("%g becomes %#04x, want %#04x", c.in, got, c.want)
		}
	}
	if got := Half(float32(math.NaN())); got&0x7c00 != 0x7c00 || got&0x3ff == 0 {
		t.Errorf("NaN becomes %#04x", got)
	}
}

// Widening is the inverse of rounding, for every number that there is.
func TestHalvesWidenAndComeBack(t *testing.T) {
	for h, want := range map[uint16]float32{0x3c00: 1, 0xc000: -2, 0x7bff: 65504, 0x0400: 6.103515625e-05, 0x0001: 5.9604645e-08, 0x3555: 0.33325195, 0x8000: 0} {
		if got := FromHalf(h); got != want {
			t.Errorf("%#04x is %g, want %g", h, got, want)
		}
	}
	for h := range uint16(0x7c00) {
		if got := Half(FromHalf(h)); got != h {
			t.Fatalf("%#04x comes back as %#04x", h, got)
		}
	}
}

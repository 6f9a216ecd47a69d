package pixel

import "math"

// Half rounds to IEEE 754 binary16, to nearest; values beyond its range become its largest.
func Half(v float32) uint16 {
	b := math.Float32bits(v)
	sign := uint16(b>>16) & 0x8000
	b &= 0x7fffffff
	switch {
	case b > 0x7f800000:
		return sign | 0x7e00
	case b >= 0x477fe000:
		return sign | 0x7bff
	case b < 0x38800000:
		f := math.Float32frombits(b) * (1 << 24)
		return sign | uint16(math.RoundToEven(float64(f)))
	}
	b += 0xfff + b>>13&1
	return sign | uint16((b-0x38000000)>>13)
}

// FromHalf widens an IEEE 754 binary16 number.
func FromHalf(h uint16) float32 {
	sign, exp, frac := uint32(h>>15)<<31, uint32(h>>10&31), uint32(h&0x3ff)
	switch exp {
	case 0:
		v := float32(frac) / (1 << 24)
		return math.Float32frombits(math.Float32bits(v) | sign)
	case 31:
		return math.Float32frombits(sign | 0x7f800000 | frac<<13)
	}
	return math.Float32frombits(sign | (exp+112)<<23 | frac<<13)
}

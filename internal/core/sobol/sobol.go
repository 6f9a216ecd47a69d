// Package sobol gives well spread numbers to whatever takes samples: the same ones for the same index and seed.
package sobol

import "math/bits"

// Point is point i of the two-dimensional Sobol sequence as 32-bit fractions: the van der Corput sequence, and the one of the
// polynomial x + 1.
func Point(i uint32) (x, y uint32) {
	x = bits.Reverse32(i)
	for v := uint32(1 << 31); i != 0; i, v = i>>1, v^v>>1 {
		if i&1 != 0 {
			y ^= v
		}
	}
	return x, y
}

// Owen scrambles a 32-bit fraction by nested uniform scrambling, each bit turned over by those above it alone (Burley, Practical
// Hash-based Owen Scrambling, JCGT 9, 2020, with the Laine–Karras permutation).
func Owen(v, seed uint32) uint32 {
	v = bits.Reverse32(v)
	v += seed
	v ^= v * 0x6c50b47c
	v ^= v * 0xb82f1e52
	v ^= v * 0xc7afe638
	v ^= v * 0x8d22f6e6
	return bits.Reverse32(v)
}

// Hash mixes 32 bits well (Wellons' lowbias32 constants).
func Hash(v uint32) uint32 {
	v ^= v >> 16
	v *= 0x7feb352d
	v ^= v >> 15
	v *= 0x846ca68b
	return v ^ v>>16
}

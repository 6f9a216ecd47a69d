package still

import "math/bits"

// sampler gives the numbers of one path: Sobol's first two dimensions, padded, shuffled and scrambled for each pair (Burley, Practical
// Hash-based Owen Scrambling, JCGT 9, 2020). The same pixel, sample and seed give the same numbers.
type sampler struct {
	index, seed uint32
	pair        uint32
}

func hash2(a, b uint32) uint32 {
	h := a*0x9e3779b1 ^ bits.RotateLeft32(b*0x85ebca6b, 13)
	h ^= h >> 16
	h *= 0x7feb352d
	h ^= h >> 15
	h *= 0x846ca68b
	return h ^ h>>16
}

// permuted is Laine and Karras's hash, with Burley's constants: each bit is turned over by those above it alone.
func permuted(x, seed uint32) uint32 {
	x = bits.Reverse32(x)
	x += seed
	x ^= x * 0x6c50b47c
	x ^= x * 0xb82f1e52
	x ^= x * 0xc7afe638
	x ^= x * 0x8d22f6e6
	return bits.Reverse32(x)
}

func sobol(i uint32) (x, y uint32) {
	x = bits.Reverse32(i)
	for v := uint32(1 << 31); i != 0; i, v = i>>1, v^v>>1 {
		if i&1 != 0 {
			y ^= v
		}
	}
	return x, y
}

// two are the next two numbers, 0 to less than 1.
func (s *sampler) two() (a, b float32) {
	seed := hash2(s.seed, s.pair)
	s.pair++
	x, y := sobol(permuted(s.index, seed))
	const unit = 1. / (1 << 24)
	return float32(permuted(x, hash2(seed, 1))>>8) * unit, float32(permuted(y, hash2(seed, 2))>>8) * unit
}

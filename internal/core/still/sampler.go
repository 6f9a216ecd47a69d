package still

import (
	"math/bits"

	"crust/internal/core/sobol"
)

// sampler gives the numbers of one path: Sobol's first two dimensions, padded, shuffled and scrambled for each pair (Burley, Practical
// Hash-based Owen Scrambling, JCGT 9, 2020). The same pixel, sample and seed give the same numbers.
type sampler struct {
	index, seed uint32
	pair        uint32
}

// hash2 mixes two numbers into one.
func hash2(a, b uint32) uint32 { return sobol.Hash(a*0x9e3779b1 ^ bits.RotateLeft32(b*0x85ebca6b, 13)) }

// two are the next two numbers, 0 to less than 1.
func (s *sampler) two() (a, b float32) {
	seed := hash2(s.seed, s.pair)
	s.pair++
	x, y := sobol.Point(sobol.Owen(s.index, seed))
	const unit = 1. / (1 << 24)
	return float32(sobol.Owen(x, hash2(seed, 1))>>8) * unit, float32(sobol.Owen(y, hash2(seed, 2))>>8) * unit
}

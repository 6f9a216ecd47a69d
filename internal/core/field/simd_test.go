//go:build goexperiment.simd && amd64 && !plain

package field

import "testing"

// The kernel for processors without the widest vectors, held to the plain one where those are there.
func TestNarrowNoiseAgreesWithThePlainOne(t *testing.T) {
	defer func(had bool) { hasWide = had }(hasWide)
	hasWide = false
	TestVectorNoiseAgreesWithThePlainOne(t)
}

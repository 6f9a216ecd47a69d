//go:build goexperiment.simd && amd64 && !plain

package pixel

import "testing"

// The kernels for processors without the widest vectors, held to the plain ones where those are there.
func TestNarrowKernelsAgreeWithThePlainOnes(t *testing.T) {
	defer func(had bool) { hasWide = had }(hasWide)
	hasWide = false
	for _, test := range []func(*testing.T){TestJoinsAndWidthsAgreeWithThePlainOnes, TestVectorKernelsAgreeWithThePlainOnes, TestBytesRoundAsQ8} {
		test(t)
	}
}

//go:build !goexperiment.simd || !amd64 || plain

package pixel

// Calm has nothing to do without vector kernels.
func Calm() {}

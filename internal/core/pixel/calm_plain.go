//go:build !(goexperiment.simd && amd64)

package pixel

// Calm has nothing to do without vector kernels.
func Calm() {}

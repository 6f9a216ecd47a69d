//go:build goexperiment.simd && amd64 && !plain

package pixel

import "simd/archsimd"

// Calm is called before plain work on floats: registers whose upper halves are still in use, which a goroutine may come
// back with after it was interrupted in a kernel, make that several times slower.
func Calm() {
	if hasSIMD {
		archsimd.ClearAVXUpperBits()
	}
}

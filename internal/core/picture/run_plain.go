//go:build !goexperiment.simd || !amd64 || plain

package picture

// readWide reads whole vectors of places, and tells how many; there are none here.
func (l *level) readWide(int, []float32, []float32, float32, float32, *[4][]float32) int { return 0 }

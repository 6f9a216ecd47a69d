//go:build !goexperiment.simd || !amd64 || plain

package compose

import "crust/internal/core/geom"

func (w *weighing) weigh(p, n geom.Vec3, of []bunch, which []int32, out []float32) (most float32) {
	return w.weighPlain(p, n, of, which, out)
}

func summed(weights []float32, which []int32, values []float32) (all, sum float32) {
	return summedPlain(weights, which, values)
}

func weighed(weight []uint8, which []int32, values []float32) float32 {
	return weighedPlain(weight, which, values)
}

func inBytes(to []uint8, bunches []int32, weights []float32, which []int32, scale float32) (_ []uint8, _ []int32, sum float32) {
	return inBytesPlain(to, bunches, weights, which, scale)
}

func boxedWide(_, _, _ []float32, _ float32, _ *[3][]float32) int { return 0 }

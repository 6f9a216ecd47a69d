//go:build !goexperiment.simd || !amd64 || plain

package compose

import "crust/internal/core/geom"

func (w *weighing) weigh(p, n geom.Vec3, at *scattered, out []float32) (most float32) {
	return w.weighPlain(p, n, at, out)
}

func summed(weights, values []float32) (all, sum float32) { return summedPlain(weights, values) }

func weighed(weight []uint8, values []float32) float32 { return weighedPlain(weight, values) }

func inBytes(to []uint8, weights []float32, scale float32) (first, end int, sum float32) {
	return inBytesPlain(to, weights, scale)
}

func boxedWide(_, _, _ []float32, _ float32, _ *[3][]float32) int { return 0 }

//go:build !(goexperiment.simd && amd64)

package compose

import "crust/internal/core/geom"

func (w *weighing) weigh(p, n geom.Vec3, at *scattered, out []float32) (most float32) {
	return w.weighPlain(p, n, at, out)
}

func weighed(weight []uint8, values []float32) float32 { return weighedPlain(weight, values) }

//go:build !(goexperiment.simd && amd64)

package compose

import "crust/internal/core/geom"

func (w *weighing) weigh(p, n geom.Vec3, at *scattered, values []float32) (area, sum float32) {
	return w.weighPlain(p, n, at, values)
}

//go:build !(goexperiment.simd && amd64)

package compose

import "crust/internal/core/geom"

func (w *weighing) weigh(p, n geom.Vec3, at *scattered, out []float32) {
	w.weighPlain(p, n, at, out)
}

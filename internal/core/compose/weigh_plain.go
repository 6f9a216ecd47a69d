//go:build !goexperiment.simd || !amd64 || plain

package compose

import "crust/internal/core/geom"

func (w *weighing) mean(p, n geom.Vec3, of []bunch, which []int32, values []float32) (all, sum float32) {
	return w.meanPlain(p, n, of, which, values)
}

func (q *round) within(p geom.Vec3, far float32) { q.withinPlain(p, far) }

func boxedWide(_, _, _ []float32, _ float32, _ *[3][]float32) int { return 0 }

//go:build !goexperiment.simd || !amd64 || plain

package bake

import "crust/internal/core/geom"

func (c *cloud) weigh(p, n geom.Vec3, ranges [][2]int32) (area, curve float32) {
	return c.weighPlain(p, n, ranges)
}

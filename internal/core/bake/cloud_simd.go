//go:build goexperiment.simd && amd64

package bake

import (
	"simd/archsimd"

	"crust/internal/core/accel"
	"crust/internal/core/geom"
)

const cloudLanes = 8

// cloudTails masks the lanes that lie beyond a range's end, by how many are within it.
var cloudTails = func() (out [cloudLanes + 1][cloudLanes]float32) {
	for n := range out {
		for i := range n {
			out[n][i] = 1
		}
	}
	return out
}()

func (c *cloud) weigh(p, n geom.Vec3, ranges [][2]int32) (area, curve float32) {
	if !accel.HasSIMD {
		return c.weighPlain(p, n, ranges)
	}
	area, curve = c.weighSIMD(p, n, ranges)
	archsimd.ClearAVXUpperBits()
	return area, curve
}

// weighSIMD is weighPlain for eight points at once.
func (c *cloud) weighSIMD(p, n geom.Vec3, ranges [][2]int32) (area, curve float32) {
	px, py, pz := archsimd.BroadcastFloat32x8(p.X), archsimd.BroadcastFloat32x8(p.Y), archsimd.BroadcastFloat32x8(p.Z)
	nx, ny, nz := archsimd.BroadcastFloat32x8(n.X), archsimd.BroadcastFloat32x8(n.Y), archsimd.BroadcastFloat32x8(n.Z)
	inv, one := archsimd.BroadcastFloat32x8(-1/(c.radius*c.radius)), archsimd.BroadcastFloat32x8(1)
	lift, two := archsimd.BroadcastFloat32x8(1.2), archsimd.BroadcastFloat32x8(2)
	var zero, areas, curves archsimd.Float32x8
	load := func(v []float32, i int32) archsimd.Float32x8 {
		return archsimd.LoadFloat32x8((*[cloudLanes]float32)(v[i:]))
	}
	for _, r := range ranges {
		for i := r[0]; i < r[1]; i += cloudLanes {
			dx, dy, dz := load(c.x, i).Sub(px), load(c.y, i).Sub(py), load(c.z, i).Sub(pz)
			w := dx.MulAdd(dx, dy.MulAdd(dy, dz.Mul(dz))).MulAdd(inv, one).Max(zero)
			turn := load(c.nx, i).MulAdd(nx, load(c.ny, i).MulAdd(ny, load(c.nz, i).Mul(nz)))
			w = w.Mul(w).Mul(turn.MulAdd(two, lift).Max(zero).Min(one))
			if left := r[1] - i; left < cloudLanes {
				w = w.Mul(archsimd.LoadFloat32x8(&cloudTails[left]))
			}
			areas, curves = w.MulAdd(load(c.area, i), areas), w.MulAdd(load(c.curv, i), curves)
		}
	}
	var a, b [cloudLanes]float32
	areas.Store(&a)
	curves.Store(&b)
	for i := range a {
		area += a[i]
		curve += b[i]
	}
	return area, curve
}

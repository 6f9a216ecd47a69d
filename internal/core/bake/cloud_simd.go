//go:build goexperiment.simd && amd64 && !plain

package bake

import (
	"simd/archsimd"

	"crust/internal/core/accel"
	"crust/internal/core/geom"
)

// heads and tails are 1 in the lanes from n on, and in those before n.
var heads, tails = func() (h, t [packLanes + 1][packLanes]float32) {
	for n := range h {
		for i := range packLanes {
			if i >= n {
				h[n][i] = 1
			} else {
				t[n][i] = 1
			}
		}
	}
	return h, t
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
	for _, r := range ranges {
		packs := c.packs[r[0]/packLanes : (r[1]-1)/packLanes+1]
		for i := range packs {
			k := &packs[i]
			dx, dy, dz := archsimd.LoadFloat32x8(&k.x).Sub(px), archsimd.LoadFloat32x8(&k.y).Sub(py), archsimd.LoadFloat32x8(&k.z).Sub(pz)
			w := dx.MulAdd(dx, dy.MulAdd(dy, dz.Mul(dz))).MulAdd(inv, one).Max(zero)
			turn := archsimd.LoadFloat32x8(&k.nx).MulAdd(nx, archsimd.LoadFloat32x8(&k.ny).MulAdd(ny, archsimd.LoadFloat32x8(&k.nz).Mul(nz)))
			w = w.Mul(w).Mul(turn.MulAdd(two, lift).Max(zero).Min(one))
			if i == 0 {
				w = w.Mul(archsimd.LoadFloat32x8(&heads[r[0]%packLanes]))
			}
			if i == len(packs)-1 {
				w = w.Mul(archsimd.LoadFloat32x8(&tails[(r[1]-1)%packLanes+1]))
			}
			areas, curves = w.MulAdd(archsimd.LoadFloat32x8(&k.area), areas), w.MulAdd(archsimd.LoadFloat32x8(&k.curv), curves)
		}
	}
	var a, b [packLanes]float32
	areas.Store(&a)
	curves.Store(&b)
	for i := range a {
		area += a[i]
		curve += b[i]
	}
	return area, curve
}

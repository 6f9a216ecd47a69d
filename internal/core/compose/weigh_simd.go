//go:build goexperiment.simd && amd64

package compose

import (
	"simd/archsimd"

	"crust/internal/core/accel"
	"crust/internal/core/geom"
)

func (w *weighing) weigh(p, n geom.Vec3, packs []pack, values [][packLanes]float32) (area, sum float32) {
	if !accel.HasSIMD {
		return w.weighPlain(p, n, packs, values)
	}
	area, sum = w.weighSIMD(p, n, packs, values)
	archsimd.ClearAVXUpperBits()
	return area, sum
}

// weighSIMD is weighPlain for eight points at once.
func (w *weighing) weighSIMD(p, n geom.Vec3, packs []pack, values [][packLanes]float32) (area, sum float32) {
	px, py, pz := archsimd.BroadcastFloat32x8(p.X), archsimd.BroadcastFloat32x8(p.Y), archsimd.BroadcastFloat32x8(p.Z)
	nx, ny, nz := archsimd.BroadcastFloat32x8(n.X), archsimd.BroadcastFloat32x8(n.Y), archsimd.BroadcastFloat32x8(n.Z)
	inv, sheet := archsimd.BroadcastFloat32x8(-1/(w.radius*w.radius)), archsimd.BroadcastFloat32x8(2/w.sheet)
	one, two, lift := archsimd.BroadcastFloat32x8(1), archsimd.BroadcastFloat32x8(2), archsimd.BroadcastFloat32x8(1.2)
	var zero, areas, sums archsimd.Float32x8
	values = values[:len(packs)]
	for i := range packs {
		k := &packs[i]
		dx, dy, dz := archsimd.LoadFloat32x8(&k.x).Sub(px), archsimd.LoadFloat32x8(&k.y).Sub(py), archsimd.LoadFloat32x8(&k.z).Sub(pz)
		near := dx.MulAdd(dx, dy.MulAdd(dy, dz.Mul(dz))).MulAdd(inv, one).Max(zero)
		qx, qy, qz := archsimd.LoadFloat32x8(&k.nx), archsimd.LoadFloat32x8(&k.ny), archsimd.LoadFloat32x8(&k.nz)
		turn := qx.MulAdd(nx, qy.MulAdd(ny, qz.Mul(nz)))
		off := dx.MulAdd(qx.Add(nx), dy.MulAdd(qy.Add(ny), dz.Mul(qz.Add(nz))))
		weight := near.Mul(near).Mul(turn.MulAdd(two, lift).Max(zero).Min(one))
		weight = weight.Mul(two.Sub(off.Max(zero.Sub(off)).Mul(sheet)).Max(zero).Min(one)).Mul(archsimd.LoadFloat32x8(&k.area))
		areas, sums = areas.Add(weight), weight.MulAdd(archsimd.LoadFloat32x8(&values[i]), sums)
	}
	var a, s [packLanes]float32
	areas.Store(&a)
	sums.Store(&s)
	for i := range a {
		area += a[i]
		sum += s[i]
	}
	return area, sum
}

//go:build goexperiment.simd && amd64

package compose

import (
	"simd/archsimd"

	"crust/internal/core/accel"
	"crust/internal/core/geom"
)

func (w *weighing) weigh(p, n geom.Vec3, at *scattered, out []float32) {
	if !accel.HasSIMD {
		w.weighPlain(p, n, at, out)
		return
	}
	w.weighSIMD(p, n, at, out)
	archsimd.ClearAVXUpperBits()
}

// weighSIMD is weighPlain for eight points at once.
func (w *weighing) weighSIMD(p, n geom.Vec3, at *scattered, out []float32) {
	px, py, pz := archsimd.BroadcastFloat32x8(p.X), archsimd.BroadcastFloat32x8(p.Y), archsimd.BroadcastFloat32x8(p.Z)
	nx, ny, nz := archsimd.BroadcastFloat32x8(n.X), archsimd.BroadcastFloat32x8(n.Y), archsimd.BroadcastFloat32x8(n.Z)
	inv, sheet := archsimd.BroadcastFloat32x8(-1/(w.radius*w.radius)), archsimd.BroadcastFloat32x8(2/w.sheet)
	one, two, lift := archsimd.BroadcastFloat32x8(1), archsimd.BroadcastFloat32x8(2), archsimd.BroadcastFloat32x8(1.2)
	var zero archsimd.Float32x8
	n8 := len(out) / lanes * lanes
	x, y, z := at.x[:n8], at.y[:n8], at.z[:n8]
	facingX, facingY, facingZ, areaOf := at.nx[:n8], at.ny[:n8], at.nz[:n8], at.area[:n8]
	for i := 0; i+lanes <= n8; i += lanes {
		dx, dy, dz := eight(x, i).Sub(px), eight(y, i).Sub(py), eight(z, i).Sub(pz)
		near := dx.MulAdd(dx, dy.MulAdd(dy, dz.Mul(dz))).MulAdd(inv, one).Max(zero)
		qx, qy, qz := eight(facingX, i), eight(facingY, i), eight(facingZ, i)
		turn := qx.MulAdd(nx, qy.MulAdd(ny, qz.Mul(nz)))
		off := dx.MulAdd(qx.Add(nx), dy.MulAdd(qy.Add(ny), dz.Mul(qz.Add(nz))))
		weight := near.Mul(near).Mul(turn.MulAdd(two, lift).Max(zero).Min(one))
		weight.Mul(two.Sub(off.Max(zero.Sub(off)).Mul(sheet)).Max(zero).Min(one)).Mul(eight(areaOf, i)).Store((*[lanes]float32)(out[i:]))
	}
}

// eight loads the lanes from i on.
func eight(v []float32, i int) archsimd.Float32x8 {
	return archsimd.LoadFloat32x8((*[lanes]float32)(v[i : i+lanes]))
}

//go:build goexperiment.simd && amd64 && !plain

package compose

import (
	"encoding/binary"
	"simd/archsimd"

	"crust/internal/core/accel"
	"crust/internal/core/geom"
)

func (w *weighing) weigh(p, n geom.Vec3, at *scattered, out []float32) (most float32) {
	if !accel.HasSIMD {
		return w.weighPlain(p, n, at, out)
	}
	most = w.weighSIMD(p, n, at, out)
	archsimd.ClearAVXUpperBits()
	return most
}

// weighSIMD is weighPlain for eight points at once.
func (w *weighing) weighSIMD(p, n geom.Vec3, at *scattered, out []float32) float32 {
	px, py, pz := archsimd.BroadcastFloat32x8(p.X), archsimd.BroadcastFloat32x8(p.Y), archsimd.BroadcastFloat32x8(p.Z)
	nx, ny, nz := archsimd.BroadcastFloat32x8(n.X), archsimd.BroadcastFloat32x8(n.Y), archsimd.BroadcastFloat32x8(n.Z)
	inv, sheet := archsimd.BroadcastFloat32x8(-1/(w.radius*w.radius)), archsimd.BroadcastFloat32x8(2/w.sheet)
	one, two, lift := archsimd.BroadcastFloat32x8(1), archsimd.BroadcastFloat32x8(2), archsimd.BroadcastFloat32x8(1.2)
	var zero, most archsimd.Float32x8
	to := geom.Eights(out)
	x, y, z := geom.Eights(at.x)[:len(to)], geom.Eights(at.y)[:len(to)], geom.Eights(at.z)[:len(to)]
	facingX, facingY, facingZ, areaOf := geom.Eights(at.nx)[:len(to)], geom.Eights(at.ny)[:len(to)], geom.Eights(at.nz)[:len(to)], geom.Eights(at.area)[:len(to)]
	for i := range to {
		dx, dy, dz := archsimd.LoadFloat32x8(&x[i]).Sub(px), archsimd.LoadFloat32x8(&y[i]).Sub(py), archsimd.LoadFloat32x8(&z[i]).Sub(pz)
		near := dx.MulAdd(dx, dy.MulAdd(dy, dz.Mul(dz))).MulAdd(inv, one).Max(zero)
		qx, qy, qz := archsimd.LoadFloat32x8(&facingX[i]), archsimd.LoadFloat32x8(&facingY[i]), archsimd.LoadFloat32x8(&facingZ[i])
		turn := qx.MulAdd(nx, qy.MulAdd(ny, qz.Mul(nz)))
		off := dx.MulAdd(qx.Add(nx), dy.MulAdd(qy.Add(ny), dz.Mul(qz.Add(nz))))
		weight := near.Mul(near).Mul(turn.MulAdd(two, lift).Max(zero).Min(one))
		weight = weight.Mul(two.Sub(off.Max(zero.Sub(off)).Mul(sheet)).Max(zero).Min(one)).Mul(archsimd.LoadFloat32x8(&areaOf[i]))
		most = most.Max(weight)
		weight.Store(&to[i])
	}
	var of [lanes]float32
	most.Store(&of)
	return max(of[0], of[1], of[2], of[3], of[4], of[5], of[6], of[7])
}

// eight loads the lanes from i on.
func eight(v []float32, i int) archsimd.Float32x8 {
	return archsimd.LoadFloat32x8((*[lanes]float32)(v[i : i+lanes]))
}

// summed is summedPlain for whole vectors.
func summed(weights, values []float32) (all, sum float32) {
	if !accel.HasSIMD {
		return summedPlain(weights, values)
	}
	var a, b, s, u archsimd.Float32x8
	in := geom.Eights(weights)
	v := geom.Eights(values)[:len(in)]
	i := 0
	for ; i+1 < len(in); i += 2 {
		w, x := archsimd.LoadFloat32x8(&in[i]), archsimd.LoadFloat32x8(&in[i+1])
		a, b = a.Add(w), b.Add(x)
		s, u = w.MulAdd(archsimd.LoadFloat32x8(&v[i]), s), x.MulAdd(archsimd.LoadFloat32x8(&v[i+1]), u)
	}
	if i < len(in) {
		w := archsimd.LoadFloat32x8(&in[i])
		a, s = a.Add(w), w.MulAdd(archsimd.LoadFloat32x8(&v[i]), s)
	}
	var of [lanes]float32
	a.Add(b).Store(&of)
	all = of[0] + of[1] + of[2] + of[3] + of[4] + of[5] + of[6] + of[7]
	s.Add(u).Store(&of)
	sum = of[0] + of[1] + of[2] + of[3] + of[4] + of[5] + of[6] + of[7]
	archsimd.ClearAVXUpperBits()
	return all, sum
}

// weighed is weighedPlain for whole vectors. Sixteen weights are loaded for eight, so that there is room behind the last.
func weighed(weight []uint8, values []float32) float32 {
	if !accel.HasSIMD || cap(weight) < len(weight)+lanes {
		return weighedPlain(weight, values)
	}
	var sum archsimd.Float32x8
	all := weight[:len(weight)+lanes]
	in := geom.Eights(values[:len(weight)])
	for i := range in {
		w := archsimd.LoadUint8x16((*[2 * lanes]uint8)(all[lanes*i:])).ExtendLo8ToUint32().AsInt32x8().ConvertToFloat32()
		sum = w.MulAdd(archsimd.LoadFloat32x8(&in[i]), sum)
	}
	var of [lanes]float32
	sum.Store(&of)
	archsimd.ClearAVXUpperBits()
	return of[0] + of[1] + of[2] + of[3] + of[4] + of[5] + of[6] + of[7]
}

// inBytes is inBytesPlain for eight weights at once.
func inBytes(to []uint8, weights []float32, scale float32) (first, end int, sum float32) {
	if !accel.HasSIMD {
		return inBytesPlain(to, weights, scale)
	}
	by, up := archsimd.BroadcastFloat32x8(scale), archsimd.BroadcastFloat32x8(roundUp)
	// The lowest byte of each word, of four words side by side, and of four behind them.
	lower := archsimd.LoadInt8x16(&[16]int8{0, 4, 8, 12, -1, -1, -1, -1, -1, -1, -1, -1, -1, -1, -1, -1})
	upper := archsimd.LoadInt8x16(&[16]int8{-1, -1, -1, -1, 0, 4, 8, 12, -1, -1, -1, -1, -1, -1, -1, -1})
	var all archsimd.Float32x8
	first = len(weights)
	to = to[:len(weights)]
	in := geom.Eights(weights)
	for i := range in {
		w := archsimd.LoadFloat32x8(&in[i]).MulAdd(by, up)
		all = all.Add(w.Sub(up))
		words := w.AsUint32x8()
		bytes := words.GetLo().AsUint8x16().PermuteOrZero(lower).Or(words.GetHi().AsUint8x16().PermuteOrZero(upper)).AsUint64x2().GetElem(0)
		binary.LittleEndian.PutUint64(to[lanes*i:], bytes)
		if bytes != 0 {
			first, end = min(first, lanes*i), lanes*(i+1)
		}
	}
	var of [lanes]float32
	all.Store(&of)
	archsimd.ClearAVXUpperBits()
	return first, end, of[0] + of[1] + of[2] + of[3] + of[4] + of[5] + of[6] + of[7]
}

// boxedWide is boxed for whole vectors; it tells how many places it has done.
func boxedWide(nx, ny, nz []float32, rim float32, shares *[3][]float32) int {
	n := len(nx) / lanes * lanes
	if !accel.HasSIMD {
		return 0
	}
	zero, one, wide := archsimd.BroadcastFloat32x8(0), archsimd.BroadcastFloat32x8(1), archsimd.BroadcastFloat32x8(rim)
	for i := 0; i < n; i += lanes {
		x, y, z := eight(nx, i), eight(ny, i), eight(nz, i)
		x, y, z = x.Max(zero.Sub(x)), y.Max(zero.Sub(y)), z.Max(zero.Sub(z))
		least := x.Max(y).Max(z).Sub(wide)
		x, y, z = x.Sub(least).Max(zero), y.Sub(least).Max(zero), z.Sub(least).Max(zero)
		scale := one.Div(x.Add(y).Add(z))
		y.Mul(scale).Store((*[lanes]float32)(shares[0][i:]))
		x.Mul(scale).Store((*[lanes]float32)(shares[1][i:]))
		z.Mul(scale).Store((*[lanes]float32)(shares[2][i:]))
	}
	archsimd.ClearAVXUpperBits()
	return n
}

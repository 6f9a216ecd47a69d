//go:build goexperiment.simd && amd64 && !plain

package compose

import (
	"encoding/binary"
	"simd/archsimd"
	"slices"

	"crust/internal/core/accel"
	"crust/internal/core/geom"
)

func (w *weighing) weigh(p, n geom.Vec3, of []bunch, which []int32, out []float32) (most float32) {
	if !accel.HasSIMD {
		return w.weighPlain(p, n, of, which, out)
	}
	most = w.weighSIMD(p, n, of, which, out)
	archsimd.ClearAVXUpperBits()
	return most
}

// weighSIMD is weighPlain for a bunch at once.
func (w *weighing) weighSIMD(p, n geom.Vec3, of []bunch, which []int32, out []float32) float32 {
	px, py, pz := archsimd.BroadcastFloat32x8(p.X), archsimd.BroadcastFloat32x8(p.Y), archsimd.BroadcastFloat32x8(p.Z)
	nx, ny, nz := archsimd.BroadcastFloat32x8(n.X), archsimd.BroadcastFloat32x8(n.Y), archsimd.BroadcastFloat32x8(n.Z)
	inv, sheet := archsimd.BroadcastFloat32x8(-1/(w.radius*w.radius)), archsimd.BroadcastFloat32x8(2/w.sheet)
	one, two, lift := archsimd.BroadcastFloat32x8(1), archsimd.BroadcastFloat32x8(2), archsimd.BroadcastFloat32x8(1.2)
	var zero, most archsimd.Float32x8
	to := geom.Eights(out)[:len(which)]
	for i, at := range which {
		b := &of[at]
		dx, dy, dz := archsimd.LoadFloat32x8(&b.x).Sub(px), archsimd.LoadFloat32x8(&b.y).Sub(py), archsimd.LoadFloat32x8(&b.z).Sub(pz)
		near := dx.MulAdd(dx, dy.MulAdd(dy, dz.Mul(dz))).MulAdd(inv, one).Max(zero)
		qx, qy, qz := archsimd.LoadFloat32x8(&b.nx), archsimd.LoadFloat32x8(&b.ny), archsimd.LoadFloat32x8(&b.nz)
		turn := qx.MulAdd(nx, qy.MulAdd(ny, qz.Mul(nz)))
		off := dx.MulAdd(qx.Add(nx), dy.MulAdd(qy.Add(ny), dz.Mul(qz.Add(nz))))
		weight := near.Mul(near).Mul(turn.MulAdd(two, lift).Max(zero).Min(one))
		weight = weight.Mul(two.Sub(off.Max(zero.Sub(off)).Mul(sheet)).Max(zero).Min(one)).Mul(archsimd.LoadFloat32x8(&b.area))
		most = most.Max(weight)
		weight.Store(&to[i])
	}
	var lane [lanes]float32
	most.Store(&lane)
	return max(lane[0], lane[1], lane[2], lane[3], lane[4], lane[5], lane[6], lane[7])
}

// eight loads the lanes from i on.
func eight(v []float32, i int) archsimd.Float32x8 {
	return archsimd.LoadFloat32x8((*[lanes]float32)(v[i : i+lanes]))
}

// summed is summedPlain for a bunch at once.
func summed(weights []float32, which []int32, values []float32) (all, sum float32) {
	if !accel.HasSIMD {
		return summedPlain(weights, which, values)
	}
	var a, s archsimd.Float32x8
	in, of := geom.Eights(weights)[:len(which)], geom.Eights(values)
	for i, at := range which {
		w := archsimd.LoadFloat32x8(&in[i])
		a, s = a.Add(w), w.MulAdd(archsimd.LoadFloat32x8(&of[at]), s)
	}
	all, sum = added(a), added(s)
	archsimd.ClearAVXUpperBits()
	return all, sum
}

// added is the sum of the lanes.
func added(v archsimd.Float32x8) float32 {
	var of [lanes]float32
	v.Store(&of)
	return of[0] + of[1] + of[2] + of[3] + of[4] + of[5] + of[6] + of[7]
}

// weighed is weighedPlain for a bunch at once. Sixteen weights are loaded for eight, so that there is room behind the last.
func weighed(weight []uint8, which []int32, values []float32) float32 {
	if !accel.HasSIMD || cap(weight) < len(weight)+lanes {
		return weighedPlain(weight, which, values)
	}
	var sum archsimd.Float32x8
	all, of := weight[:len(weight)+lanes], geom.Eights(values)
	for i, at := range which {
		w := archsimd.LoadUint8x16((*[2 * lanes]uint8)(all[lanes*i:])).ExtendLo8ToUint32().AsInt32x8().ConvertToFloat32()
		sum = w.MulAdd(archsimd.LoadFloat32x8(&of[at]), sum)
	}
	out := added(sum)
	archsimd.ClearAVXUpperBits()
	return out
}

// inBytes is inBytesPlain for a bunch at once.
func inBytes(to []uint8, bunches []int32, weights []float32, which []int32, scale float32) (_ []uint8, _ []int32, sum float32) {
	if !accel.HasSIMD {
		return inBytesPlain(to, bunches, weights, which, scale)
	}
	by, up := archsimd.BroadcastFloat32x8(scale), archsimd.BroadcastFloat32x8(roundUp)
	// The lowest byte of each word, of four words side by side, and of four behind them.
	lower := archsimd.LoadInt8x16(&[16]int8{0, 4, 8, 12, -1, -1, -1, -1, -1, -1, -1, -1, -1, -1, -1, -1})
	upper := archsimd.LoadInt8x16(&[16]int8{-1, -1, -1, -1, 0, 4, 8, 12, -1, -1, -1, -1, -1, -1, -1, -1})
	var all archsimd.Float32x8
	in := geom.Eights(weights)[:len(which)]
	to, bunches = slices.Grow(to, lanes*len(which)), slices.Grow(bunches, len(which))
	for i, at := range which {
		w := archsimd.LoadFloat32x8(&in[i]).MulAdd(by, up)
		all = all.Add(w.Sub(up))
		words := w.AsUint32x8()
		bytes := words.GetLo().AsUint8x16().PermuteOrZero(lower).Or(words.GetHi().AsUint8x16().PermuteOrZero(upper)).AsUint64x2().GetElem(0)
		if bytes != 0 {
			to, bunches = binary.LittleEndian.AppendUint64(to, bytes), append(bunches, at)
		}
	}
	sum = added(all)
	archsimd.ClearAVXUpperBits()
	return to, bunches, sum
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

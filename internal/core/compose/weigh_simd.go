//go:build goexperiment.simd && amd64 && !plain

package compose

import (
	mathbits "math/bits"
	"simd/archsimd"

	"crust/internal/core/accel"
	"crust/internal/core/geom"
)

func (w *weighing) mean(p, n geom.Vec3, of []bunch, which []int32, values []float32) (all, sum float32) {
	switch {
	case hasWide && len(which) > 0:
		return w.meanWide(p, n, of, which, values)
	case accel.HasSIMD:
		all, sum = w.meanSIMD(p, n, of, which, values)
		archsimd.ClearAVXUpperBits()
		return all, sum
	}
	return w.meanPlain(p, n, of, which, values)
}

// hasWide tells that the processor has the registers that meanBunches takes.
var hasWide = accel.HasSIMD && archsimd.X86.AVX512()

// meanNumbers are what meanBunches takes from memory.
type meanNumbers struct {
	p, n           geom.Vec3
	inv, sheet     float32
	one, two, lift float32
	allButSign     uint32
}

// meanBunches sums, by lane, the weights of n bunches and the values by them.
//
//go:noescape
func meanBunches(k *meanNumbers, of *bunch, which *int32, n int, values *float32, out *[2 * lanes]float32)

// meanWide is meanPlain by meanBunches.
func (w *weighing) meanWide(p, n geom.Vec3, of []bunch, which []int32, values []float32) (all, sum float32) {
	k := meanNumbers{p, n, -1 / (w.radius * w.radius), 2 / w.sheet, 1, 2, 1.2, 1<<31 - 1}
	// The last is the largest.
	_, _ = of[which[len(which)-1]], values[lanes*(which[len(which)-1]+1)-1]
	var out [2 * lanes]float32
	meanBunches(&k, &of[0], &which[0], len(which), &values[0], &out)
	for i := range lanes {
		all, sum = all+out[i], sum+out[lanes+i]
	}
	return all, sum
}

// meanSIMD is meanPlain for a bunch at once.
func (w *weighing) meanSIMD(p, n geom.Vec3, of []bunch, which []int32, values []float32) (float32, float32) {
	px, py, pz := archsimd.BroadcastFloat32x8(p.X), archsimd.BroadcastFloat32x8(p.Y), archsimd.BroadcastFloat32x8(p.Z)
	nx, ny, nz := archsimd.BroadcastFloat32x8(n.X), archsimd.BroadcastFloat32x8(n.Y), archsimd.BroadcastFloat32x8(n.Z)
	inv, sheet := archsimd.BroadcastFloat32x8(-1/(w.radius*w.radius)), archsimd.BroadcastFloat32x8(2/w.sheet)
	one, two, lift := archsimd.BroadcastFloat32x8(1), archsimd.BroadcastFloat32x8(2), archsimd.BroadcastFloat32x8(1.2)
	var zero, all, sum archsimd.Float32x8
	v := geom.Eights(values)[:len(of)]
	for _, at := range which {
		b := &of[at]
		dx, dy, dz := archsimd.LoadFloat32x8(&b.x).Sub(px), archsimd.LoadFloat32x8(&b.y).Sub(py), archsimd.LoadFloat32x8(&b.z).Sub(pz)
		near := dx.MulAdd(dx, dy.MulAdd(dy, dz.Mul(dz))).MulAdd(inv, one).Max(zero)
		qx, qy, qz := archsimd.LoadFloat32x8(&b.nx), archsimd.LoadFloat32x8(&b.ny), archsimd.LoadFloat32x8(&b.nz)
		turn := qx.MulAdd(nx, qy.MulAdd(ny, qz.Mul(nz)))
		off := dx.MulAdd(qx.Add(nx), dy.MulAdd(qy.Add(ny), dz.Mul(qz.Add(nz))))
		weight := near.Mul(near).Mul(turn.MulAdd(two, lift).Max(zero).Min(one))
		weight = weight.Mul(two.Sub(off.Max(zero.Sub(off)).Mul(sheet)).Max(zero).Min(one)).Mul(archsimd.LoadFloat32x8(&b.area))
		all, sum = all.Add(weight), weight.MulAdd(archsimd.LoadFloat32x8(&v[at]), sum)
	}
	return added(all), added(sum)
}

// within is withinPlain for the boxes of eight bunches at once.
func (q *round) within(p geom.Vec3, far float32) {
	if !accel.HasSIMD {
		q.withinPlain(p, far)
		return
	}
	px, py, pz := archsimd.BroadcastFloat32x8(p.X), archsimd.BroadcastFloat32x8(p.Y), archsimd.BroadcastFloat32x8(p.Z)
	most := archsimd.BroadcastFloat32x8(far * far)
	var zero archsimd.Float32x8
	gap := func(p archsimd.Float32x8, low, high *[lanes]float32) archsimd.Float32x8 {
		return archsimd.LoadFloat32x8(low).Sub(p).Max(p.Sub(archsimd.LoadFloat32x8(high))).Max(zero)
	}
	to, n := q.close[:cap(q.close)], 0
	for i := range q.boxes {
		b := &q.boxes[i]
		x, y, z := gap(px, &b.min[0], &b.max[0]), gap(py, &b.min[1], &b.max[1]), gap(pz, &b.min[2], &b.max[2])
		for m := x.MulAdd(x, y.MulAdd(y, z.Mul(z))).LessEqual(most).ToBits(); m != 0; m &= m - 1 {
			to[n] = q.bunches[lanes*i+mathbits.TrailingZeros8(m)]
			n++
		}
	}
	q.close = to[:n]
	archsimd.ClearAVXUpperBits()
}

// eight loads the lanes from i on.
func eight(v []float32, i int) archsimd.Float32x8 {
	return archsimd.LoadFloat32x8((*[lanes]float32)(v[i : i+lanes]))
}

// added is the sum of the lanes.
func added(v archsimd.Float32x8) float32 {
	var of [lanes]float32
	v.Store(&of)
	return of[0] + of[1] + of[2] + of[3] + of[4] + of[5] + of[6] + of[7]
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

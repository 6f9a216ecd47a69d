//go:build goexperiment.simd && amd64 && !plain

package field

import "simd/archsimd"

// nearRun does what whole vectors have room for, as nearPlain does, and says how many.
func (s *strew) nearRun(x, y, z []float32, freq float32, seed uint32) int {
	if !hasSIMD {
		return 0
	}
	of, whole := archsimd.BroadcastFloat32x8, archsimd.BroadcastInt32x8
	fr, part, far := of(freq), of(1./1024), of(8)
	cx, cy, cz, mul := whole(i32(hashX)), whole(i32(hashY)), whole(i32(hashZ)), whole(hashM)
	sd, ten := whole(int32(seed)), whole(1023)
	n := 0
	for ; n+8 <= len(x); n += 8 {
		px, py, pz := archsimd.LoadFloat32x8((*[8]float32)(x[n:])).Mul(fr), archsimd.LoadFloat32x8((*[8]float32)(y[n:])).Mul(fr), archsimd.LoadFloat32x8((*[8]float32)(z[n:])).Mul(fr)
		fx, fy, fz := px.Floor(), py.Floor(), pz.Floor()
		px, py, pz = px.Sub(fx), py.Sub(fy), pz.Sub(fz)
		hx, hy, hz := fx.ConvertToInt32().Mul(cx).Sub(cx), fy.ConvertToInt32().Mul(cy).Sub(cy), fz.ConvertToInt32().Mul(cz).Sub(cz).Xor(sd)
		hz0, hz1 := fz.ConvertToInt32().Mul(cz).Xor(sd), fz.ConvertToInt32().Mul(cz).Add(cz).Xor(sd)
		first, second := far, far
		mark := whole(0)
		for i := range 3 {
			ox := of(float32(i - 1)).Sub(px)
			gy := hy
			for j := range 3 {
				oy := of(float32(j - 1)).Sub(py)
				hxy := hx.Xor(gy)
				for k, g := range [3]i8{hz, hz0, hz1} {
					h := hxy.Xor(g).Mul(mul)
					h = h.Xor(h.AsUint32x8().ShiftAllRight(15).AsInt32x8()).Mul(mul)
					h = h.Xor(h.AsUint32x8().ShiftAllRight(13).AsInt32x8())
					u := h.AsUint32x8()
					qx := u.ShiftAllRight(22).AsInt32x8().ConvertToFloat32().MulAdd(part, ox)
					qy := u.ShiftAllRight(12).AsInt32x8().And(ten).ConvertToFloat32().MulAdd(part, oy)
					qz := u.ShiftAllRight(2).AsInt32x8().And(ten).ConvertToFloat32().MulAdd(part, of(float32(k-1)).Sub(pz))
					d := qx.MulAdd(qx, qy.MulAdd(qy, qz.Mul(qz)))
					nearer := d.Less(first)
					second = second.Min(first.Max(d))
					mark = h.Merge(mark, nearer)
					first = first.Min(d)
				}
				gy = gy.Add(cy)
			}
			hx = hx.Add(cx)
		}
		first.Sqrt().Store((*[8]float32)(s.first[n:]))
		second.Sqrt().Store((*[8]float32)(s.second[n:]))
		mark.AsUint32x8().Store((*[8]uint32)(s.mark[n:]))
	}
	archsimd.ClearAVXUpperBits()
	return n
}

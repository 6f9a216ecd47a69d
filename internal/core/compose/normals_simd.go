//go:build goexperiment.simd && amd64 && !plain

package compose

import (
	"simd/archsimd"

	"crust/internal/core/accel"
)

// differ is differPlain for eight places at once. The last ones may write past n, where later places write again.
func (s *slopes) differ(from, at, n int) {
	if !accel.HasSIMD {
		s.differPlain(from, at, n)
		return
	}
	for i := 0; i < n; i += lanes {
		h := s.heights[at+i-reliefSide:]
		h = h[:2*reliefSide+lanes]
		mid := eight(h, reliefSide)
		differences(eight(h, reliefSide-1), mid, eight(h, reliefSide+1)).Store((*[lanes]float32)(s.du[from+i:]))
		differences(eight(h, 2*reliefSide), mid, eight(h, 0)).Store((*[lanes]float32)(s.dv[from+i:]))
	}
	archsimd.ClearAVXUpperBits()
}

// differences is difference: a side that is not there stands opposite the other, or at the middle.
func differences(a, mid, b archsimd.Float32x8) archsimd.Float32x8 {
	hasA, hasB := a.Equal(a), b.Equal(b)
	from := a.Merge(mid.Add(mid).Sub(b), hasA).Merge(mid, hasA.Or(hasB))
	to := b.Merge(mid.Add(mid).Sub(a), hasB).Merge(mid, hasA.Or(hasB))
	return to.Sub(from)
}

// tilt is tiltPlain for eight places at once.
func (s *slopes) tilt(normal *[3][]float32) {
	if !accel.HasSIMD {
		s.tiltPlain(normal, 0)
		return
	}
	zero, one := archsimd.BroadcastFloat32x8(0), archsimd.BroadcastFloat32x8(1)
	n := len(normal[0]) / lanes * lanes
	x, y, z := normal[0][:n], normal[1][:n], normal[2][:n]
	for i := 0; i+lanes <= n; i += lanes {
		du, dv := eight(s.du[:], i), eight(s.dv[:], i)
		bx, by, bz := eight(x, i), eight(y, i), eight(z, i)
		// As Reorient has it; u is the detail turned over.
		ux := zero.Sub(eight(s.tu[:], i).Mul(du))
		uy := zero.Sub(eight(s.bu[:], i).MulAdd(du, eight(s.bv[:], i).Mul(dv)))
		tz := bz.Add(one)
		d := bx.MulAdd(ux, by.MulAdd(uy, tz)).Div(tz)
		nx, ny, nz := bx.Mul(d).Sub(ux), by.Mul(d).Sub(uy), tz.Mul(d).Sub(one)
		r := one.Div(nx.MulAdd(nx, ny.MulAdd(ny, nz.Mul(nz))).Sqrt())
		flat := du.Equal(zero).And(dv.Equal(zero))
		bx.Merge(nx.Mul(r), flat).Store((*[lanes]float32)(x[i:]))
		by.Merge(ny.Mul(r), flat).Store((*[lanes]float32)(y[i:]))
		bz.Merge(nz.Mul(r), flat).Store((*[lanes]float32)(z[i:]))
	}
	archsimd.ClearAVXUpperBits()
	s.tiltPlain(normal, n)
}

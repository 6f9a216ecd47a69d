//go:build goexperiment.simd && amd64 && !plain

package pixel

import "simd/archsimd"

// The kernels that take most of the time, for vectors of sixteen. Each does what whole vectors have room for and says how many
// that is, none where the processor has no such vectors.

var hasWide = hasSIMD && archsimd.X86.AVX512()

func wideLayLine(below []float32, slope, lift float32, alpha []float32) int {
	if !hasWide {
		return 0
	}
	n := len(alpha) &^ 15
	m, p := archsimd.BroadcastFloat32x16(slope), archsimd.BroadcastFloat32x16(lift)
	under, a := sixteens(below[:n]), sixteens(alpha[:n])
	a = a[:len(under)]
	for i := range under {
		b := archsimd.LoadFloat32x16(&under[i])
		b.MulAdd(m, p).MulAdd(archsimd.LoadFloat32x16(&a[i]), b).Store(&under[i])
	}
	return n
}

func wideShape(v []float32, c *curve) int {
	if !hasWide {
		return 0
	}
	n := len(v) &^ 15
	of := archsimd.BroadcastFloat32x16
	low, scale, bias, gain, flip, sign := of(c.low), of(c.scale), of(c.bias), of(c.gain), of(c.flip), of(c.sign)
	zero, one := of(0), of(1)
	run := sixteens(v[:n])
	for i := range run {
		t := archsimd.LoadFloat32x16(&run[i]).Sub(low).Mul(scale).Max(zero).Min(one)
		if !c.plain {
			under := bias.MulAdd(one.Sub(t), one)
			d := under.Sub(t.Add(t)) // positive below a half
			lower := d.GreaterEqual(zero)
			t = t.Merge(under.Sub(t), lower).Div(gain.MulAdd(d.Max(zero.Sub(d)), under))
			t = t.Merge(one.Sub(t), lower)
		}
		sign.MulAdd(t, flip).Store(&run[i])
	}
	return n
}

func wideWiden(dst []float32, q []uint16, scale, low float32) int {
	if !hasWide {
		return 0
	}
	n := len(dst) &^ 15
	k, least := archsimd.BroadcastFloat32x16(scale), archsimd.BroadcastFloat32x16(low)
	from, to := sixteens(q[:n]), sixteens(dst[:n])
	to = to[:len(from)]
	for i := range from {
		archsimd.LoadUint16x16(&from[i]).ExtendToUint32().AsInt32x16().ConvertToFloat32().MulAdd(k, least).Store(&to[i])
	}
	return n
}

func wideSigned(dst []float32, q []int16, scale float32) int {
	if !hasWide {
		return 0
	}
	n := len(dst) &^ 15
	k := archsimd.BroadcastFloat32x16(scale)
	from, to := sixteens(q[:n]), sixteens(dst[:n])
	to = to[:len(from)]
	for i := range from {
		archsimd.LoadInt16x16(&from[i]).ExtendToInt32().ConvertToFloat32().Mul(k).Store(&to[i])
	}
	return n
}

func wideNarrow(dst []uint16, v []float32) int {
	if !hasWide {
		return 0
	}
	n := len(dst) &^ 15
	zero, one := archsimd.BroadcastFloat32x16(0), archsimd.BroadcastFloat32x16(1)
	most, half := archsimd.BroadcastFloat32x16(65535), archsimd.BroadcastFloat32x16(0.5)
	from, to := sixteens(v[:n]), sixteens(dst[:n])
	to = to[:len(from)]
	for i := range from {
		archsimd.LoadFloat32x16(&from[i]).Max(zero).Min(one).Mul(most).Add(half).ConvertToInt32().AsUint32x16().SaturateToUint16().Store(&to[i])
	}
	return n
}

func layFour(planes *[4][]float32, l *FourLines, mask []uint16, by float32) int {
	if !hasWide {
		return 0
	}
	n := len(mask) &^ 15
	of := archsimd.BroadcastFloat32x16
	m0, m1, m2, m3, p0, p1, p2, p3 := of(l.Slope[0]), of(l.Slope[1]), of(l.Slope[2]), of(l.Slope[3]), of(l.Lift[0]), of(l.Lift[1]), of(l.Lift[2]), of(l.Lift[3])
	scale := of(by)
	from := sixteens(mask[:n])
	u0, u1, u2, u3 := sixteens(planes[0][:n])[:len(from)], sixteens(planes[1][:n])[:len(from)], sixteens(planes[2][:n])[:len(from)], sixteens(planes[3][:n])[:len(from)]
	for i := range from {
		a := archsimd.LoadUint16x16(&from[i]).ExtendToUint32().AsInt32x16().ConvertToFloat32().Mul(scale)
		b0, b1, b2, b3 := archsimd.LoadFloat32x16(&u0[i]), archsimd.LoadFloat32x16(&u1[i]), archsimd.LoadFloat32x16(&u2[i]), archsimd.LoadFloat32x16(&u3[i])
		b0.MulAdd(m0, p0).MulAdd(a, b0).Store(&u0[i])
		b1.MulAdd(m1, p1).MulAdd(a, b1).Store(&u1[i])
		b2.MulAdd(m2, p2).MulAdd(a, b2).Store(&u2[i])
		b3.MulAdd(m3, p3).MulAdd(a, b3).Store(&u3[i])
	}
	archsimd.ClearAVXUpperBits()
	return n
}

func wideBytes(dst []uint8, v *[3][]float32, scale, offset *[3]float32) int {
	if !hasWide {
		return 0
	}
	of := archsimd.BroadcastFloat32x16
	zero, one, most, half := of(0), of(1), of(255), of(0.5)
	k0, k1, k2, o0, o1, o2 := of(scale[0]), of(scale[1]), of(scale[2]), of(offset[0]), of(offset[1]), of(offset[2])
	// The lower three bytes of each of four words, side by side.
	three := archsimd.LoadInt8x16(&[16]int8{0, 1, 2, 4, 5, 6, 8, 9, 10, 12, 13, 14, -1, -1, -1, -1})
	n := 0
	for ; n+16 <= len(v[0]) && 3*n+52 <= len(dst); n += 16 {
		// Multiplied and added apart, as the plain kernel rounds; to whole numbers towards 0, which is down here.
		a := archsimd.LoadFloat32x16((*[16]float32)(v[0][n:])).Mul(k0).Add(o0).Max(zero).Min(one).Mul(most).Add(half).ConvertToInt32()
		b := archsimd.LoadFloat32x16((*[16]float32)(v[1][n:])).Mul(k1).Add(o1).Max(zero).Min(one).Mul(most).Add(half).ConvertToInt32()
		c := archsimd.LoadFloat32x16((*[16]float32)(v[2][n:])).Mul(k2).Add(o2).Max(zero).Min(one).Mul(most).Add(half).ConvertToInt32()
		w := a.Or(b.ShiftAllLeft(8)).Or(c.ShiftAllLeft(16))
		low, high := w.GetLo(), w.GetHi()
		low.GetLo().AsUint8x16().PermuteOrZero(three).Store((*[16]uint8)(dst[3*n:]))
		low.GetHi().AsUint8x16().PermuteOrZero(three).Store((*[16]uint8)(dst[3*n+12:]))
		high.GetLo().AsUint8x16().PermuteOrZero(three).Store((*[16]uint8)(dst[3*n+24:]))
		high.GetHi().AsUint8x16().PermuteOrZero(three).Store((*[16]uint8)(dst[3*n+36:]))
	}
	archsimd.ClearAVXUpperBits()
	return n
}

//go:build goexperiment.simd && amd64

package pixel

import "simd/archsimd"

type f8 = archsimd.Float32x8

func load8(v []float32) f8 { return archsimd.LoadFloat32x8((*[8]float32)(v)) }

func joinRun(j Join, acc, v []float32, s float32) {
	n := 0
	if hasSIMD {
		n = len(acc) &^ 7
		joinSIMD(j, acc[:n], v[:n], archsimd.BroadcastFloat32x8(s))
		archsimd.ClearAVXUpperBits()
	}
	joinPlain(j, acc[n:], v[n:], s)
}

func joinSIMD(j Join, acc, v []float32, s f8) {
	zero, one := archsimd.BroadcastFloat32x8(0), archsimd.BroadcastFloat32x8(1)
	for i := 0; i < len(acc); i += 8 {
		a, x := load8(acc[i:]), load8(v[i:])
		m := x
		switch j { // the same for all, so foretold
		case JoinAnd:
			m = a.Mul(x)
		case JoinOr:
			m = a.Add(x).Sub(a.Mul(x))
		case JoinPlus:
			m = a.Add(x).Min(one)
		case JoinMinus:
			m = a.Sub(x).Max(zero)
		case JoinHigher:
			m = a.Max(x)
		case JoinLower:
			m = a.Min(x)
		}
		m.Sub(a).MulAdd(s, a).Store((*[8]float32)(acc[i:]))
	}
}

func widenRun(dst []float32, q []uint16, scale float32) {
	n := 0
	if hasSIMD {
		n = len(dst) &^ 7
		k := archsimd.BroadcastFloat32x8(scale)
		for i := 0; i < n; i += 8 {
			archsimd.LoadUint16x8((*[8]uint16)(q[i:])).ExtendToUint32().AsInt32x8().ConvertToFloat32().Mul(k).Store((*[8]float32)(dst[i:]))
		}
		archsimd.ClearAVXUpperBits()
	}
	widenPlain(dst[n:], q[n:], scale)
}

func narrowRun(dst []uint16, v []float32) {
	n := 0
	if hasSIMD {
		n = len(dst) &^ 7
		zero, one := archsimd.BroadcastFloat32x8(0), archsimd.BroadcastFloat32x8(1)
		most, half := archsimd.BroadcastFloat32x8(65535), archsimd.BroadcastFloat32x8(0.5)
		for i := 0; i < n; i += 8 {
			w := load8(v[i:]).Max(zero).Min(one).Mul(most).Add(half).Floor().ConvertToInt32()
			w.GetLo().SaturateToUint16Concat(w.GetHi()).Store((*[8]uint16)(dst[i:]))
		}
		archsimd.ClearAVXUpperBits()
	}
	narrowPlain(dst[n:], v[n:])
}

// countRun counts in whole vectors, and says up to where.
func countRun(q []uint16, limit uint16) (at int, any uint16, n int) {
	if !hasSIMD {
		return 0, 0, 0
	}
	least := archsimd.BroadcastUint16x16(limit)
	var all archsimd.Uint16x16
	for at+16 <= len(q) {
		// Each lane counts one place in sixteen, so that 16 bits hold it.
		var over archsimd.Int16x16
		for end := min(len(q), at+16*32767); at+16 <= end; at += 16 {
			v := archsimd.LoadUint16x16((*[16]uint16)(q[at:]))
			all = all.Or(v)
			over = over.Sub(v.Max(least).Equal(v).ToInt16x16())
		}
		var counts [16]int16
		over.Store(&counts)
		for _, c := range counts {
			n += int(c)
		}
	}
	var bits [16]uint16
	all.Store(&bits)
	archsimd.ClearAVXUpperBits()
	for _, b := range bits {
		any |= b
	}
	return at, any, n
}

// bytesRun does as many texels as whole vectors have room for and says how many.
func bytesRun(dst []uint8, v *[3][]float32, scale, offset *[3]float32) int {
	if !hasSIMD {
		return 0
	}
	of := archsimd.BroadcastFloat32x8
	zero, one, most, half := of(0), of(1), of(255), of(0.5)
	k0, k1, k2, o0, o1, o2 := of(scale[0]), of(scale[1]), of(scale[2]), of(offset[0]), of(offset[1]), of(offset[2])
	// The lower three bytes of each of four words, side by side.
	three := archsimd.LoadInt8x16(&[16]int8{0, 1, 2, 4, 5, 6, 8, 9, 10, 12, 13, 14, -1, -1, -1, -1})
	n := 0
	for ; n+8 <= len(v[0]) && 3*n+28 <= len(dst); n += 8 {
		// Multiplied and added apart, as the plain kernel rounds.
		a := load8(v[0][n:]).Mul(k0).Add(o0).Max(zero).Min(one).Mul(most).Add(half).Floor().ConvertToInt32()
		b := load8(v[1][n:]).Mul(k1).Add(o1).Max(zero).Min(one).Mul(most).Add(half).Floor().ConvertToInt32()
		c := load8(v[2][n:]).Mul(k2).Add(o2).Max(zero).Min(one).Mul(most).Add(half).Floor().ConvertToInt32()
		w := a.Or(b.ShiftAllLeft(8)).Or(c.ShiftAllLeft(16))
		w.GetLo().AsUint8x16().PermuteOrZero(three).Store((*[16]uint8)(dst[3*n:]))
		w.GetHi().AsUint8x16().PermuteOrZero(three).Store((*[16]uint8)(dst[3*n+12:]))
	}
	archsimd.ClearAVXUpperBits()
	return n
}

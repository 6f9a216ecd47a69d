//go:build goexperiment.simd && amd64 && !plain

package pixel

import (
	"math/bits"
	"simd/archsimd"
	"unsafe"

	"crust/internal/core/geom"
)

type f8 = archsimd.Float32x8

// sixteens is geom.Eights for vectors of sixteen.
func sixteens[T any](v []T) [][16]T {
	return unsafe.Slice((*[16]T)(unsafe.Pointer(unsafe.SliceData(v))), len(v)/16)
}

func joinRun(j Join, acc, v []float32, s float32) {
	n := 0
	if hasSIMD {
		n = len(acc) &^ 7
		joinSIMD(j, acc[:n], v[:n], archsimd.BroadcastFloat32x8(s))
	}
	Calm()
	joinPlain(j, acc[n:], v[n:], s)
}

func joinSIMD(j Join, acc, v []float32, s f8) {
	zero, one := archsimd.BroadcastFloat32x8(0), archsimd.BroadcastFloat32x8(1)
	below, own := geom.Eights(acc), geom.Eights(v)
	own = own[:len(below)]
	for i := range below {
		a, x := archsimd.LoadFloat32x8(&below[i]), archsimd.LoadFloat32x8(&own[i])
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
		m.Sub(a).MulAdd(s, a).Store(&below[i])
	}
}

func widenRun(dst []float32, q []uint16, scale, low float32) {
	n := wideWiden(dst, q, scale, low)
	if n == 0 && hasSIMD {
		n = len(dst) &^ 7
		k, least := archsimd.BroadcastFloat32x8(scale), archsimd.BroadcastFloat32x8(low)
		from, to := geom.Eights(q[:n]), geom.Eights(dst[:n])
		to = to[:len(from)]
		for i := range from {
			archsimd.LoadUint16x8(&from[i]).ExtendToUint32().AsInt32x8().ConvertToFloat32().MulAdd(k, least).Store(&to[i])
		}
	}
	Calm()
	widenPlain(dst[n:], q[n:], scale, low)
}

// signedRun does what whole vectors have room for and says how many.
func signedRun(dst []float32, q []int16, scale float32) int {
	if n := wideSigned(dst, q, scale); n > 0 || !hasSIMD {
		Calm()
		return n
	}
	n := len(dst) &^ 7
	k := archsimd.BroadcastFloat32x8(scale)
	from, to := geom.Eights(q[:n]), geom.Eights(dst[:n])
	to = to[:len(from)]
	for i := range from {
		archsimd.LoadInt16x8(&from[i]).ExtendToInt32().ConvertToFloat32().Mul(k).Store(&to[i])
	}
	archsimd.ClearAVXUpperBits()
	return n
}

func narrowRun(dst []uint16, v []float32) {
	n := wideNarrow(dst, v)
	if n == 0 && hasSIMD {
		n = len(dst) &^ 7
		zero, one := archsimd.BroadcastFloat32x8(0), archsimd.BroadcastFloat32x8(1)
		most, half := archsimd.BroadcastFloat32x8(65535), archsimd.BroadcastFloat32x8(0.5)
		from, to := geom.Eights(v[:n]), geom.Eights(dst[:n])
		to = to[:len(from)]
		for i := range from {
			// To whole numbers towards 0, which is down here.
			w := archsimd.LoadFloat32x8(&from[i]).Max(zero).Min(one).Mul(most).Add(half).ConvertToInt32()
			w.GetLo().SaturateToUint16Concat(w.GetHi()).Store(&to[i])
		}
	}
	Calm()
	narrowPlain(dst[n:], v[n:])
}

// sameRun counts in whole vectors, and says up to where.
func sameRun(v []float32, x float32) (at, n int) {
	if !hasSIMD {
		return 0, 0
	}
	is := archsimd.BroadcastFloat32x8(x)
	run := geom.Eights(v)
	for i := range run {
		n += bits.OnesCount8(archsimd.LoadFloat32x8(&run[i]).Equal(is).ToBits())
	}
	archsimd.ClearAVXUpperBits()
	return 8 * len(run), n
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
		run := sixteens(q[at:min(len(q), at+16*32767)])
		at += 16 * len(run)
		for i := range run {
			v := archsimd.LoadUint16x16(&run[i])
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
	n := wideBytes(dst, v, scale, offset)
	for ; n+8 <= len(v[0]) && 3*n+28 <= len(dst); n += 8 {
		// Multiplied and added apart, as the plain kernel rounds; to whole numbers towards 0, which is down here.
		a := archsimd.LoadFloat32x8((*[8]float32)(v[0][n:])).Mul(k0).Add(o0).Max(zero).Min(one).Mul(most).Add(half).ConvertToInt32()
		b := archsimd.LoadFloat32x8((*[8]float32)(v[1][n:])).Mul(k1).Add(o1).Max(zero).Min(one).Mul(most).Add(half).ConvertToInt32()
		c := archsimd.LoadFloat32x8((*[8]float32)(v[2][n:])).Mul(k2).Add(o2).Max(zero).Min(one).Mul(most).Add(half).ConvertToInt32()
		w := a.Or(b.ShiftAllLeft(8)).Or(c.ShiftAllLeft(16))
		w.GetLo().AsUint8x16().PermuteOrZero(three).Store((*[16]uint8)(dst[3*n:]))
		w.GetHi().AsUint8x16().PermuteOrZero(three).Store((*[16]uint8)(dst[3*n+12:]))
	}
	archsimd.ClearAVXUpperBits()
	return n
}

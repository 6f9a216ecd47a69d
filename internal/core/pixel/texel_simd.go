//go:build goexperiment.simd && amd64 && !plain

package pixel

import (
	"simd/archsimd"

	"crust/internal/core/geom"
)

// spreadRun does texels four by four, and says how many.
func spreadRun(dst, pix []uint8, near []int32) int {
	if !hasSIMD {
		return 0
	}
	apart := archsimd.LoadInt8x16(&[16]int8{0, 1, 2, -1, 3, 4, 5, -1, 6, 7, 8, -1, 9, 10, 11, -1})
	whole := archsimd.LoadUint8x16(&[16]uint8{3: 255, 7: 255, 11: 255, 15: 255})
	n := 0
	for ; n+4 <= len(near); n += 4 {
		of := (*[4]int32)(near[n:])
		to := (*[16]uint8)(dst[4*n:])
		// Texels side by side are mostly so in pix.
		if i := of[0]; of[1] == i+1 && of[2] == i+2 && of[3] == i+3 && 3*int(i)+16 <= len(pix) {
			archsimd.LoadUint8x16((*[16]uint8)(pix[3*i:])).PermuteOrZero(apart).Or(whole).Store(to)
		} else {
			spreadPlain(to[:], pix, of[:])
		}
	}
	return n
}

// cover16Run does what whole vectors have room for, and says how many.
func cover16Run(paint []uint16, cover []float32, away bool) int {
	if !hasSIMD {
		return 0
	}
	n := len(paint) &^ 7
	zero, most, half := archsimd.BroadcastFloat32x8(0), archsimd.BroadcastFloat32x8(65535), archsimd.BroadcastFloat32x8(0.5)
	all, up, one := archsimd.BroadcastUint32x8(65535), archsimd.BroadcastUint32x8(32767), archsimd.BroadcastUint32x8(1)
	to, from := geom.Eights(paint[:n]), geom.Eights(cover[:n])
	from = from[:len(to)]
	for i := range to {
		q := archsimd.LoadFloat32x8(&from[i]).Max(zero).Mul(most).Add(half).ConvertToInt32().AsUint32x8()
		p := archsimd.LoadUint16x8(&to[i]).ExtendToUint32()
		of := p
		if !away {
			of = all.Sub(p)
		}
		x := of.Mul(q).Add(up)
		by := x.Add(x.ShiftAllRight(16)).Add(one).ShiftAllRight(16) // x / 65535
		if away {
			p = p.Sub(by)
		} else {
			p = p.Add(by)
		}
		w := p.AsInt32x8()
		w.GetLo().SaturateToUint16Concat(w.GetHi()).Store(&to[i])
	}
	archsimd.ClearAVXUpperBits()
	return n
}

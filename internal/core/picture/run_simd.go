//go:build goexperiment.simd && amd64 && !plain

package picture

import (
	"simd/archsimd"
	"unsafe"

	"crust/internal/core/accel"
)

const (
	lanes   = 8
	wideRun = 128 // places that are read at a time; what is kept of them stays in the nearest cache
)

// gather reads n words of 32 bits, a multiple of eight, that lie at bytes from an address.
//
//go:noescape
func gather(to *uint32, from unsafe.Pointer, at *int32, n int)

// wide is what readWide keeps of a run: for each of the four pixels round a place, which lie side by side here, their bytes.
type wide struct {
	at     [4][wideRun]int32
	word   [4][wideRun]uint32
	fx, fy [wideRun]float32
}

// readWide is readRun for whole vectors of places; it tells how many it has read.
func (l *level) readWide(n int, u, v []float32, share, rest float32, out *[4][]float32) int {
	whole := len(u) / lanes * lanes
	if !accel.HasSIMD || whole == 0 {
		return 0
	}
	var w wide
	bits, from := 8, unsafe.Pointer(unsafe.SliceData(l.bytes))
	scale := share / 255
	if l.bytes == nil {
		bits, from = 16, unsafe.Pointer(unsafe.SliceData(l.pix))
		scale = share / 65535
	}
	perWord := 32 / bits
	for at := 0; at < whole; at += wideRun {
		end := min(whole, at+wideRun)
		w.find(l, n*bits/8, u[at:end], v[at:end])
		for first := 0; first < n; first += perWord {
			for k := range w.at {
				// The words of channels beyond the first ones lie four bytes further on.
				gather(&w.word[k][0], unsafe.Add(from, first*bits/8), &w.at[k][0], end-at)
			}
			for c := first; c < min(n, first+perWord); c++ {
				w.mix((c-first)*bits, 1<<bits-1, scale, rest, out[c][at:end])
			}
		}
	}
	archsimd.ClearAVXUpperBits()
	return whole
}

// find finds the pixels round places, each of so many bytes, and how far the places lie between them.
func (w *wide) find(l *level, bytes int, u, v []float32) {
	zero, one, half := archsimd.BroadcastInt32x8(0), archsimd.BroadcastInt32x8(1), archsimd.BroadcastFloat32x8(0.5)
	across := func(x archsimd.Float32x8, side archsimd.Int32x8) (i, j archsimd.Int32x8, f archsimd.Float32x8) {
		x = x.Sub(x.Floor()).Mul(side.ConvertToFloat32()).Sub(half)
		low := x.Floor()
		last := side.Sub(one)
		i = low.ConvertToInt32()
		i = i.Merge(last, i.GreaterEqual(zero)).Min(last).Max(zero)
		j = i.Add(one)
		return i, j.Masked(j.LessEqual(last)), x.Sub(low)
	}
	width, height := archsimd.BroadcastInt32x8(int32(l.w)), archsimd.BroadcastInt32x8(int32(l.h))
	pixel, row := archsimd.BroadcastInt32x8(int32(bytes)), archsimd.BroadcastInt32x8(int32(bytes*l.w))
	for i := 0; i < len(u); i += lanes {
		i0, i1, fx := across(eight(u, i), width)
		j0, j1, fy := across(eight(v, i), height)
		fx.Store((*[lanes]float32)(w.fx[i:]))
		fy.Store((*[lanes]float32)(w.fy[i:]))
		i0, i1, j0, j1 = i0.Mul(pixel), i1.Mul(pixel), j0.Mul(row), j1.Mul(row)
		i0.Add(j0).Store((*[lanes]int32)(w.at[0][i:]))
		i1.Add(j0).Store((*[lanes]int32)(w.at[1][i:]))
		i0.Add(j1).Store((*[lanes]int32)(w.at[2][i:]))
		i1.Add(j1).Store((*[lanes]int32)(w.at[3][i:]))
	}
}

// mix mixes a channel of the four pixels, which stands at some bit of their words, into out.
func (w *wide) mix(bit int, mask uint32, scale, rest float32, out []float32) {
	only := archsimd.BroadcastUint32x8(mask)
	by, keep := archsimd.BroadcastFloat32x8(scale), archsimd.BroadcastFloat32x8(rest)
	shift := uint64(bit)
	for i := 0; i < len(out); i += lanes {
		p := archsimd.LoadUint32x8((*[lanes]uint32)(w.word[0][i:])).ShiftAllRight(shift).And(only).AsInt32x8().ConvertToFloat32()
		q := archsimd.LoadUint32x8((*[lanes]uint32)(w.word[1][i:])).ShiftAllRight(shift).And(only).AsInt32x8().ConvertToFloat32()
		r := archsimd.LoadUint32x8((*[lanes]uint32)(w.word[2][i:])).ShiftAllRight(shift).And(only).AsInt32x8().ConvertToFloat32()
		s := archsimd.LoadUint32x8((*[lanes]uint32)(w.word[3][i:])).ShiftAllRight(shift).And(only).AsInt32x8().ConvertToFloat32()
		fx, fy := eight(w.fx[:], i), eight(w.fy[:], i)
		top, low := q.Sub(p).MulAdd(fx, p), s.Sub(r).MulAdd(fx, r)
		eight(out, i).Mul(keep).Add(low.Sub(top).MulAdd(fy, top).Mul(by)).Store((*[lanes]float32)(out[i:]))
	}
}

func eight(v []float32, i int) archsimd.Float32x8 {
	return archsimd.LoadFloat32x8((*[lanes]float32)(v[i : i+lanes]))
}

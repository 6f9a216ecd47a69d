//go:build goexperiment.simd && amd64 && !plain

package field

import (
	"simd/archsimd"
	"sync"
	"unsafe"

	"crust/internal/core/geom"
)

type (
	f8 = archsimd.Float32x8
	i8 = archsimd.Int32x8
)

// The processor's kernels; tests take one away to hold the others to it.
var (
	hasSIMD = archsimd.X86.AVX2() && archsimd.X86.FMA()
	hasWide = hasSIMD && archsimd.X86.AVX512()
)

func octave(x, y, z []float32, freq, amp float32, seed uint32, r *rotation, out []float32) {
	n := 0
	switch {
	case hasWide:
		octaveWide(x, y, z, freq, amp, seed, r, out)
		return
	case hasSIMD:
		n = len(out) &^ 7
		octaveSIMD(x[:n], y[:n], z[:n], freq, amp, seed, r, out[:n])
		archsimd.ClearAVXUpperBits()
	}
	octavePlain(x[n:], y[n:], z[n:], freq, amp, seed, r, out[n:])
}

// octaveNumbers are what the wide kernels take from memory.
type octaveNumbers struct {
	freq             float32
	turn             rotation
	amp              float32
	hashes           [3]uint32
	seed             uint32
	six, fifteen     float32
	ten, one         float32
	sign, multiplier uint32
}

// latticeRun is how many points octaveWide does at a time; what it keeps of them stays in the nearest cache.
const latticeRun = 256

// lattice is where points lie among those of the noise, see octave_wide.s, with room to begin at a line of the cache.
type lattice [6*latticeRun + 16]float32

// octavePlaces does the first half of octaveSIMD for n points, a multiple of 16.
//
//go:noescape
func octavePlaces(x, y, z *float32, n int, k *octaveNumbers, to *float32)

// octaveCorners does the second half.
//
//go:noescape
func octaveCorners(out *float32, n int, k *octaveNumbers, from *float32)

// lattices are used again, since clearing one takes as long as some points do.
var lattices = sync.Pool{New: func() any { return new(lattice) }}

func octaveWide(x, y, z []float32, freq, amp float32, seed uint32, r *rotation, out []float32) {
	k := octaveNumbers{freq, *r, amp, [3]uint32{hashX, hashY, hashZ}, seed, 6, -15, 10, 1, 1 << 31, hashM}
	l := lattices.Get().(*lattice)
	at := &l[-uintptr(unsafe.Pointer(l))%64/4]
	whole := len(out) &^ 15
	for i := 0; i < whole; i += latticeRun {
		n := min(latticeRun, whole-i)
		octavePlaces(&x[i], &y[i], &z[i], n, &k, at)
		octaveCorners(&out[i], n, &k, at)
	}
	if whole < len(out) {
		var last [4][16]float32
		for i, from := range [4][]float32{x, y, z, out} {
			copy(last[i][:], from[whole:len(out)])
		}
		octavePlaces(&last[0][0], &last[1][0], &last[2][0], 16, &k, at)
		octaveCorners(&last[3][0], 16, &k, at)
		copy(out[whole:], last[3][:])
	}
	lattices.Put(l)
}

func octaveSIMD(x, y, z []float32, freq, amp float32, seed uint32, r *rotation, out []float32) {
	fr := archsimd.BroadcastFloat32x8(freq)
	am := archsimd.BroadcastFloat32x8(amp)
	one := archsimd.BroadcastFloat32x8(1)
	cx, cy, cz := archsimd.BroadcastInt32x8(i32(hashX)), archsimd.BroadcastInt32x8(i32(hashY)), archsimd.BroadcastInt32x8(i32(hashZ))
	sd := archsimd.BroadcastInt32x8(int32(seed))
	var m [12]f8
	for k := range m {
		m[k] = archsimd.BroadcastFloat32x8(r[k])
	}
	for i := 0; i < len(out); i += 8 {
		ax, ay, az := archsimd.LoadFloat32x8Slice(x[i:]).Mul(fr), archsimd.LoadFloat32x8Slice(y[i:]).Mul(fr), archsimd.LoadFloat32x8Slice(z[i:]).Mul(fr)
		px := ax.MulAdd(m[0], ay.MulAdd(m[1], az.MulAdd(m[2], m[3])))
		py := ax.MulAdd(m[4], ay.MulAdd(m[5], az.MulAdd(m[6], m[7])))
		pz := ax.MulAdd(m[8], ay.MulAdd(m[9], az.MulAdd(m[10], m[11])))
		fx, fy, fz := px.Floor(), py.Floor(), pz.Floor()
		hx, hy, hz := fx.ConvertToInt32().Mul(cx), fy.ConvertToInt32().Mul(cy), fz.ConvertToInt32().Mul(cz)
		gx, gy, gz := hx.Add(cx), hy.Add(cy), hz.Add(cz)
		px, py, pz = px.Sub(fx), py.Sub(fy), pz.Sub(fz)
		qx, qy, qz := px.Sub(one), py.Sub(one), pz.Sub(one)
		u, v, w := fade8(px), fade8(py), fade8(pz)
		hz, gz = hz.Xor(sd), gz.Xor(sd)
		h00, h10, h01, h11 := hy.Xor(hz), gy.Xor(hz), hy.Xor(gz), gy.Xor(gz)
		a := lerp8(u, corner8(hx.Xor(h00), px, py, pz), corner8(gx.Xor(h00), qx, py, pz))
		b := lerp8(u, corner8(hx.Xor(h10), px, qy, pz), corner8(gx.Xor(h10), qx, qy, pz))
		c := lerp8(u, corner8(hx.Xor(h01), px, py, qz), corner8(gx.Xor(h01), qx, py, qz))
		d := lerp8(u, corner8(hx.Xor(h11), px, qy, qz), corner8(gx.Xor(h11), qx, qy, qz))
		g := lerp8(w, lerp8(v, a, b), lerp8(v, c, d))
		g.MulAdd(am, archsimd.LoadFloat32x8Slice(out[i:])).StoreSlice(out[i:])
	}
}

func i32(v uint32) int32 { return int32(v) }

func fade8(t f8) f8 {
	p := t.MulAdd(archsimd.BroadcastFloat32x8(6), archsimd.BroadcastFloat32x8(-15)).MulAdd(t, archsimd.BroadcastFloat32x8(10))
	return t.Mul(t).Mul(t).Mul(p)
}

func lerp8(t, a, b f8) f8 { return b.Sub(a).MulAdd(t, a) }

func corner8(h i8, x, y, z f8) f8 {
	mul, sign := archsimd.BroadcastInt32x8(hashM), archsimd.BroadcastInt32x8(-1<<31)
	h = h.Mul(mul)
	h = h.Xor(h.AsUint32x8().ShiftAllRight(15).AsInt32x8()).Mul(mul)
	sx := h.And(sign)
	sy := h.ShiftAllLeft(1).And(sign)
	sz := h.ShiftAllLeft(2).And(sign)
	return x.AsInt32x8().Xor(sx).AsFloat32x8().Add(y.AsInt32x8().Xor(sy).AsFloat32x8()).Add(z.AsInt32x8().Xor(sz).AsFloat32x8())
}

// rampRun does what whole vectors have room for and says how many.
func rampRun(out, v []float32, from, scale float32) int {
	if !hasSIMD {
		return 0
	}
	of := archsimd.BroadcastFloat32x8
	low, k, zero, one := of(from), of(scale), of(0), of(1)
	n := len(out) &^ 7
	in, to := geom.Eights(v[:n]), geom.Eights(out[:n])
	to = to[:len(in)]
	for i := range in {
		archsimd.LoadFloat32x8(&in[i]).Sub(low).Mul(k).Max(zero).Min(one).Store(&to[i])
	}
	archsimd.ClearAVXUpperBits()
	return n
}

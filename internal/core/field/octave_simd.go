//go:build goexperiment.simd && amd64

package field

import "simd/archsimd"

type (
	f8  = archsimd.Float32x8
	i8  = archsimd.Int32x8
	f16 = archsimd.Float32x16
	i16 = archsimd.Int32x16
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
		n = len(out) &^ 15
		octaveWide(x[:n], y[:n], z[:n], freq, amp, seed, r, out[:n])
		archsimd.ClearAVXUpperBits()
	case hasSIMD:
		n = len(out) &^ 7
		octaveSIMD(x[:n], y[:n], z[:n], freq, amp, seed, r, out[:n])
		archsimd.ClearAVXUpperBits()
	}
	octavePlain(x[n:], y[n:], z[n:], freq, amp, seed, r, out[n:])
}

// octaveWide is octaveSIMD for sixteen points at once. All that is the same for every point stays in registers.
func octaveWide(x, y, z []float32, freq, amp float32, seed uint32, r *rotation, out []float32) {
	of, whole := archsimd.BroadcastFloat32x16, archsimd.BroadcastInt32x16
	fr, am, one := of(freq), of(amp), of(1)
	six, fifteen, ten := of(6), of(-15), of(10)
	cx, cy, cz, sd := whole(i32(hashX)), whole(i32(hashY)), whole(i32(hashZ)), whole(int32(seed))
	mul, sign := whole(hashM), whole(-1<<31)
	// Go 1.26 merges xors of xors into one instruction, wrongly when their operands are used again; adding a nought that it
	// does not know keeps them apart. The test holds this kernel to the plain one.
	nought := whole(int32(len(x) - len(out)))
	m0, m1, m2, m3 := of(r[0]), of(r[1]), of(r[2]), of(r[3])
	m4, m5, m6, m7 := of(r[4]), of(r[5]), of(r[6]), of(r[7])
	m8, m9, m10, m11 := of(r[8]), of(r[9]), of(r[10]), of(r[11])
	for i := 0; i < len(out); i += 16 {
		ax, ay, az := load16(x[i:]).Mul(fr), load16(y[i:]).Mul(fr), load16(z[i:]).Mul(fr)
		px := ax.MulAdd(m0, ay.MulAdd(m1, az.MulAdd(m2, m3)))
		py := ax.MulAdd(m4, ay.MulAdd(m5, az.MulAdd(m6, m7)))
		pz := ax.MulAdd(m8, ay.MulAdd(m9, az.MulAdd(m10, m11)))
		fx, fy, fz := px.FloorScaled(0), py.FloorScaled(0), pz.FloorScaled(0)
		hx, hy, hz := fx.ConvertToInt32().Mul(cx), fy.ConvertToInt32().Mul(cy), fz.ConvertToInt32().Mul(cz)
		gx, gy, gz := hx.Add(cx), hy.Add(cy), hz.Add(cz)
		px, py, pz = px.Sub(fx), py.Sub(fy), pz.Sub(fz)
		qx, qy, qz := px.Sub(one), py.Sub(one), pz.Sub(one)
		u := px.MulAdd(six, fifteen).MulAdd(px, ten).Mul(px.Mul(px).Mul(px))
		v := py.MulAdd(six, fifteen).MulAdd(py, ten).Mul(py.Mul(py).Mul(py))
		w := pz.MulAdd(six, fifteen).MulAdd(pz, ten).Mul(pz.Mul(pz).Mul(pz))
		hz, gz = hz.Xor(sd), gz.Xor(sd)
		h00, h10, h01, h11 := hy.Xor(hz).Add(nought), gy.Xor(hz).Add(nought), hy.Xor(gz).Add(nought), gy.Xor(gz).Add(nought)
		a0, a1 := corner16(hx.Xor(h00), mul, sign, px, py, pz), corner16(gx.Xor(h00), mul, sign, qx, py, pz)
		a := a1.Sub(a0).MulAdd(u, a0)
		b0, b1 := corner16(hx.Xor(h10), mul, sign, px, qy, pz), corner16(gx.Xor(h10), mul, sign, qx, qy, pz)
		a = b1.Sub(b0).MulAdd(u, b0).Sub(a).MulAdd(v, a)
		c0, c1 := corner16(hx.Xor(h01), mul, sign, px, py, qz), corner16(gx.Xor(h01), mul, sign, qx, py, qz)
		c := c1.Sub(c0).MulAdd(u, c0)
		d0, d1 := corner16(hx.Xor(h11), mul, sign, px, qy, qz), corner16(gx.Xor(h11), mul, sign, qx, qy, qz)
		c = d1.Sub(d0).MulAdd(u, d0).Sub(c).MulAdd(v, c)
		c.Sub(a).MulAdd(w, a).MulAdd(am, load16(out[i:])).Store((*[16]float32)(out[i : i+16]))
	}
}

func load16(v []float32) f16 { return archsimd.LoadFloat32x16((*[16]float32)(v)) }

func corner16(h, mul, sign i16, x, y, z f16) f16 {
	h = h.Mul(mul)
	h = h.Xor(h.AsUint32x16().ShiftAllRight(15).AsInt32x16()).Mul(mul)
	sx := h.And(sign)
	sy := h.ShiftAllLeft(1).And(sign)
	sz := h.ShiftAllLeft(2).And(sign)
	return x.AsInt32x16().Xor(sx).AsFloat32x16().Add(y.AsInt32x16().Xor(sy).AsFloat32x16()).Add(z.AsInt32x16().Xor(sz).AsFloat32x16())
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
	n := 0
	for ; n+8 <= len(out); n += 8 {
		x := archsimd.LoadFloat32x8((*[8]float32)(v[n:]))
		x.Sub(low).Mul(k).Max(zero).Min(one).Store((*[8]float32)(out[n:]))
	}
	archsimd.ClearAVXUpperBits()
	return n
}

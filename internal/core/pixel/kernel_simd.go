//go:build goexperiment.simd && amd64

package pixel

import "simd/archsimd"

var hasSIMD = archsimd.X86.AVX2() && archsimd.X86.FMA()

func shape(v []float32, c *curve) {
	n := 0
	if hasSIMD {
		n = len(v) &^ 7
		shapeSIMD(v[:n], c)
		archsimd.ClearAVXUpperBits()
	}
	shapePlain(v[n:], c)
}

func shapeSIMD(v []float32, c *curve) {
	of := archsimd.BroadcastFloat32x8
	low, scale, bias, gain, flip, sign := of(c.low), of(c.scale), of(c.bias), of(c.gain), of(c.flip), of(c.sign)
	zero, half, one, two := of(0), of(0.5), of(1), of(2)
	for i := 0; i < len(v); i += 8 {
		t := archsimd.LoadFloat32x8Slice(v[i:]).Sub(low).Mul(scale).Max(zero).Min(one)
		if !c.plain {
			t = t.Div(bias.MulAdd(one.Sub(t), one))
			d := one.Sub(two.Mul(t)) // positive below a half
			lower := t.Div(gain.MulAdd(d, one))
			upper := one.Sub(one.Sub(t).Div(one.Sub(gain.Mul(d))))
			t = lower.Merge(upper, t.Less(half))
		}
		sign.MulAdd(t, flip).StoreSlice(v[i:])
	}
}

func layLine(below []float32, slope, lift float32, alpha []float32) {
	n := 0
	if hasSIMD {
		n = len(alpha) &^ 7
		m, p := archsimd.BroadcastFloat32x8(slope), archsimd.BroadcastFloat32x8(lift)
		for i := 0; i < n; i += 8 {
			b := load8(below[i:])
			b.MulAdd(m, p).MulAdd(load8(alpha[i:]), b).Store((*[8]float32)(below[i:]))
		}
		archsimd.ClearAVXUpperBits()
	}
	layLinePlain(below[n:], slope, lift, alpha[n:])
}

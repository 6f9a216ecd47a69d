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
	zero, one := of(0), of(1)
	for i := 0; i < len(v); i += 8 {
		t := archsimd.LoadFloat32x8Slice(v[i:]).Sub(low).Mul(scale).Max(zero).Min(one)
		if !c.plain {
			under := bias.MulAdd(one.Sub(t), one)
			d := under.Sub(t.Add(t)) // positive below a half
			lower := d.GreaterEqual(zero)
			t = t.Merge(under.Sub(t), lower).Div(gain.MulAdd(d.Max(zero.Sub(d)), under))
			t = t.Merge(one.Sub(t), lower)
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

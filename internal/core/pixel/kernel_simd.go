//go:build goexperiment.simd && amd64 && !plain

package pixel

import (
	"simd/archsimd"

	"crust/internal/core/geom"
)

var hasSIMD = archsimd.X86.AVX2() && archsimd.X86.FMA()

func shape(v []float32, c *curve) {
	n := wideShape(v, c)
	if n == 0 && hasSIMD {
		n = len(v) &^ 7
		shapeSIMD(v[:n], c)
	}
	Calm()
	shapePlain(v[n:], c)
}

func shapeSIMD(v []float32, c *curve) {
	of := archsimd.BroadcastFloat32x8
	low, scale, bias, gain, flip, sign := of(c.low), of(c.scale), of(c.bias), of(c.gain), of(c.flip), of(c.sign)
	zero, one := of(0), of(1)
	run := geom.Eights(v)
	for i := range run {
		t := archsimd.LoadFloat32x8(&run[i]).Sub(low).Mul(scale).Max(zero).Min(one)
		if !c.plain {
			under := bias.MulAdd(one.Sub(t), one)
			d := under.Sub(t.Add(t)) // positive below a half
			lower := d.GreaterEqual(zero)
			t = t.Merge(under.Sub(t), lower).Div(gain.MulAdd(d.Max(zero.Sub(d)), under))
			t = t.Merge(one.Sub(t), lower)
		}
		sign.MulAdd(t, flip).Store(&run[i])
	}
}

func layLine(below []float32, slope, lift float32, alpha []float32) {
	n := wideLayLine(below, slope, lift, alpha)
	if n == 0 && hasSIMD {
		n = len(alpha) &^ 7
		m, p := archsimd.BroadcastFloat32x8(slope), archsimd.BroadcastFloat32x8(lift)
		under, a := geom.Eights(below[:n]), geom.Eights(alpha[:n])
		a = a[:len(under)]
		for i := range under {
			b := archsimd.LoadFloat32x8(&under[i])
			b.MulAdd(m, p).MulAdd(archsimd.LoadFloat32x8(&a[i]), b).Store(&under[i])
		}
	}
	Calm()
	layLinePlain(below[n:], slope, lift, alpha[n:])
}

func fade(below, own, alpha []float32) {
	n := 0
	if hasSIMD {
		n = len(alpha) &^ 7
		under, over, a := geom.Eights(below[:n]), geom.Eights(own[:n]), geom.Eights(alpha[:n])
		over, a = over[:len(under)], a[:len(under)]
		for i := range under {
			b := archsimd.LoadFloat32x8(&under[i])
			archsimd.LoadFloat32x8(&over[i]).Sub(b).MulAdd(archsimd.LoadFloat32x8(&a[i]), b).Store(&under[i])
		}
	}
	Calm()
	fadePlain(below[n:], own[n:], alpha[n:])
}

func layOver(below, own, mixed, alpha, cover []float32) {
	n := 0
	if hasSIMD {
		n = len(alpha) &^ 7
		under, over, both, a, c := geom.Eights(below[:n]), geom.Eights(own[:n]), geom.Eights(mixed[:n]), geom.Eights(alpha[:n]), geom.Eights(cover[:n])
		over, both, a, c = over[:len(under)], both[:len(under)], a[:len(under)], c[:len(under)]
		one, zero, least := archsimd.BroadcastFloat32x8(1), archsimd.BroadcastFloat32x8(0), archsimd.BroadcastFloat32x8(1e-20)
		for i := range under {
			b, s, m := archsimd.LoadFloat32x8(&under[i]), archsimd.LoadFloat32x8(&over[i]), archsimd.LoadFloat32x8(&both[i])
			al, co := archsimd.LoadFloat32x8(&a[i]), archsimd.LoadFloat32x8(&c[i])
			left := one.Sub(al).Mul(co) // how much is left of what lies below
			sum := m.Sub(s).MulAdd(co, s).MulAdd(al, left.Mul(b)).Div(al.Add(left).Max(least))
			sum.Merge(b, al.Greater(zero)).Store(&under[i])
		}
		archsimd.ClearAVXUpperBits()
	}
	layOverPlain(below[n:], own[n:], mixed[n:], alpha[n:], cover[n:])
}

func between(v, under, share []float32) {
	n := 0
	if hasSIMD {
		n = len(v) &^ 7
		to, from, a := geom.Eights(v[:n]), geom.Eights(under[:n]), geom.Eights(share[:n])
		from, a = from[:len(to)], a[:len(to)]
		for i := range to {
			b := archsimd.LoadFloat32x8(&from[i])
			archsimd.LoadFloat32x8(&to[i]).Sub(b).MulAdd(archsimd.LoadFloat32x8(&a[i]), b).Store(&to[i])
		}
		archsimd.ClearAVXUpperBits()
	}
	betweenPlain(v[n:], under[n:], share[n:])
}

func times(out, a, b []float32) {
	n := 0
	if hasSIMD {
		n = len(out) &^ 7
		to, x, y := geom.Eights(out[:n]), geom.Eights(a[:n]), geom.Eights(b[:n])
		x, y = x[:len(to)], y[:len(to)]
		for i := range to {
			archsimd.LoadFloat32x8(&x[i]).Mul(archsimd.LoadFloat32x8(&y[i])).Store(&to[i])
		}
		archsimd.ClearAVXUpperBits()
	}
	timesPlain(out[n:], a[n:], b[n:])
}

func scale(out, a []float32, by float32) {
	n := 0
	if hasSIMD {
		n = len(out) &^ 7
		to, x, m := geom.Eights(out[:n]), geom.Eights(a[:n]), archsimd.BroadcastFloat32x8(by)
		x = x[:len(to)]
		for i := range to {
			archsimd.LoadFloat32x8(&x[i]).Mul(m).Store(&to[i])
		}
		archsimd.ClearAVXUpperBits()
	}
	scalePlain(out[n:], a[n:], by)
}

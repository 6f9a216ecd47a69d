//go:build goexperiment.simd && amd64 && !plain

package field

import (
	"simd/archsimd"
	"sync"

	"crust/internal/core/geom"
)

// patternRun is how many places are laid at a time; where they lie on the figure stays in the nearest cache.
const patternRun = 256

// measure8 is a measure as vectors see it.
type measure8 struct {
	gap, jitter, perSoft f8
	seed                 i8
}

// patternWork is what is kept while a pattern is laid.
type patternWork struct {
	measure8
	u, v [patternRun]float32
}

var patterns = sync.Pool{New: func() any { return new(patternWork) }}

func (m *measure) eight() measure8 {
	of := archsimd.BroadcastFloat32x8
	return measure8{of(m.gap), of(m.jitter), of(1 / m.soft), archsimd.BroadcastInt32x8(int32(m.seed))}
}

// motifs8 are motifs for vectors, by their number; one that has none is left to its plain kernel. Only a pattern that is not on a
// square that repeats is laid by them.
var motifs8 = [...]func(u, v, out [][8]float32, m *measure8){stripes8, checks8, dots8, hexagons8, weave8, planks8, blocks8, rivets8}

// run does what whole vectors have room for and says how many.
func (l *laidOut) run(b *Block, which int, m *measure, out []float32) int {
	if !hasSIMD || which >= len(motifs8) {
		return 0
	}
	k := patterns.Get().(*patternWork)
	defer patterns.Put(k)
	k.measure8 = m.eight()
	all := len(out) &^ 7
	for from := 0; from < all; from += patternRun {
		n := min(patternRun, all-from)
		to := from + n
		u, v := geom.Eights(k.u[:n]), geom.Eights(k.v[:n])
		l.places8(b, from, to, u, v)
		motifs8[which](u, v, geom.Eights(out[from:to]), &k.measure8)
	}
	archsimd.ClearAVXUpperBits()
	return all
}

// places8 is laidOut.place for places from one to before another.
func (l *laidOut) places8(b *Block, from, to int, u, v [][8]float32) {
	of := archsimd.BroadcastFloat32x8
	sin, cos := of(l.sin), of(l.cos)
	lowX, lowY, lowZ := of(b.Floor.X), of(b.Floor.Y), of(b.Floor.Z)
	zero := of(0)
	xs, ys, zs := geom.Eights(b.X[from:to]), geom.Eights(b.Y[from:to]), geom.Eights(b.Z[from:to])
	v = v[:len(u)]
	xs, ys, zs = xs[:len(u)], ys[:len(u)], zs[:len(u)]
	var nxs, nys, nzs [][8]float32
	if l.side == 0 {
		nxs, nys, nzs = geom.Eights(b.NX[from:to])[:len(u)], geom.Eights(b.NY[from:to])[:len(u)], geom.Eights(b.NZ[from:to])[:len(u)]
	}
	for i := range u {
		x, y, z := archsimd.LoadFloat32x8(&xs[i]).Sub(lowX), archsimd.LoadFloat32x8(&ys[i]).Sub(lowY), archsimd.LoadFloat32x8(&zs[i]).Sub(lowZ)
		p, q := x, y // from the front
		switch l.side {
		case 0:
			nx, ny, nz := archsimd.LoadFloat32x8(&nxs[i]), archsimd.LoadFloat32x8(&nys[i]), archsimd.LoadFloat32x8(&nzs[i])
			nx, ny, nz = nx.Max(zero.Sub(nx)), ny.Max(zero.Sub(ny)), nz.Max(zero.Sub(nz))
			above := ny.GreaterEqual(nx.Max(nz))
			p = z.Merge(x, nx.Greater(nz)) // from the right
			p, q = x.Merge(p, above), z.Merge(y, above)
		case 1:
			q = z
		case 3:
			p = z
		}
		p.Mul(cos).Sub(q.Mul(sin)).Store(&u[i])
		p.Mul(sin).Add(q.Mul(cos)).Store(&v[i])
	}
}

func abs8(v f8) f8 { return v.Max(archsimd.BroadcastFloat32x8(0).Sub(v)) }

func rim8(e, perSoft f8) f8 {
	of := archsimd.BroadcastFloat32x8
	return e.MulAdd(perSoft, of(0.5)).Max(of(0)).Min(of(1))
}

// stir8 is measure.stir without jitter.
func stir8(i, j i8, seed i8) (u, v f8) {
	whole := archsimd.BroadcastInt32x8
	mul := whole(i32(hashM))
	h := i.Mul(whole(i32(hashX))).Xor(j.Mul(whole(i32(hashY)))).Xor(seed).Mul(mul)
	h = h.Xor(h.AsUint32x8().ShiftAllRight(15).AsInt32x8()).Mul(mul)
	h = h.Xor(h.AsUint32x8().ShiftAllRight(13).AsInt32x8())
	of := archsimd.BroadcastFloat32x8
	part, half, bits := of(1./1024), of(-0.5), h.AsUint32x8()
	u = bits.ShiftAllRight(22).AsInt32x8().ConvertToFloat32().MulAdd(part, half)
	v = bits.ShiftAllRight(12).AsInt32x8().And(whole(1023)).ConvertToFloat32().MulAdd(part, half)
	return u, v
}

// odd8 is where a sum of two whole numbers is odd.
func odd8(i, j f8) archsimd.Mask32x8 {
	one := archsimd.BroadcastInt32x8(1)
	return i.ConvertToInt32().Add(j.ConvertToInt32()).And(one).Equal(one)
}

func stripes8(u, _, out [][8]float32, m *measure8) {
	of := archsimd.BroadcastFloat32x8
	half, none, wide := of(0.5), archsimd.BroadcastInt32x8(0), of(1).Sub(m.gap)
	out = out[:len(u)]
	for k := range u {
		x := archsimd.LoadFloat32x8(&u[k])
		i := x.Floor()
		off, _ := stir8(i.ConvertToInt32(), none, m.seed)
		off = off.Mul(m.jitter)
		e := wide.Mul(half.Sub(abs8(off))).Sub(abs8(x.Sub(i).Sub(half).Sub(off.Mul(m.gap))))
		rim8(e, m.perSoft).Store(&out[k])
	}
}

func checks8(u, v, out [][8]float32, m *measure8) {
	of := archsimd.BroadcastFloat32x8
	half, zero := of(0.5), of(0)
	out, v = out[:len(u)], v[:len(u)]
	for k := range u {
		x, y := archsimd.LoadFloat32x8(&u[k]), archsimd.LoadFloat32x8(&v[k])
		i, j := x.Floor(), y.Floor()
		e := half.Sub(abs8(x.Sub(i).Sub(half))).Min(half.Sub(abs8(y.Sub(j).Sub(half))))
		e = zero.Sub(e).Merge(e, odd8(i, j))
		rim8(e, m.perSoft).Store(&out[k])
	}
}

func dots8(u, v, out [][8]float32, m *measure8) {
	of := archsimd.BroadcastFloat32x8
	half := of(0.5)
	r := half.Mul(of(1).Sub(m.gap))
	room := m.jitter.Mul(of(1).Sub(r.Add(r)))
	out, v = out[:len(u)], v[:len(u)]
	for k := range u {
		x, y := archsimd.LoadFloat32x8(&u[k]), archsimd.LoadFloat32x8(&v[k])
		i, j := x.Floor(), y.Floor()
		du, dv := stir8(i.ConvertToInt32(), j.ConvertToInt32(), m.seed)
		x, y = x.Sub(i).Sub(half).Sub(du.Mul(room)), y.Sub(j).Sub(half).Sub(dv.Mul(room))
		rim8(r.Sub(x.MulAdd(x, y.Mul(y)).Sqrt()), m.perSoft).Store(&out[k])
	}
}

func hexagons8(u, v, out [][8]float32, m *measure8) {
	of := archsimd.BroadcastFloat32x8
	half, high, per, middle := of(0.5), of(1.7320508), of(1/1.7320508), of(1.7320508/2)
	wide := half.Mul(of(1).Sub(m.gap))
	out, v = out[:len(u)], v[:len(u)]
	for k := range u {
		x, y := archsimd.LoadFloat32x8(&u[k]), archsimd.LoadFloat32x8(&v[k])
		s, t := x.Sub(half), y.Sub(middle)
		ax, ay := x.Sub(x.Floor()).Sub(half), y.Mul(per)
		bx, by := s.Sub(s.Floor()).Sub(half), t.Mul(per)
		ay, by = ay.Sub(ay.Floor()).Mul(high).Sub(middle), by.Sub(by.Floor()).Mul(high).Sub(middle)
		second := ax.MulAdd(ax, ay.Mul(ay)).Greater(bx.MulAdd(bx, by.Mul(by)))
		ax, ay = abs8(bx.Merge(ax, second)), abs8(by.Merge(ay, second))
		rim8(wide.Sub(ax.Max(ax.MulAdd(half, ay.Mul(middle)))), m.perSoft).Store(&out[k])
	}
}

func weave8(u, v, out [][8]float32, m *measure8) {
	of := archsimd.BroadcastFloat32x8
	half, zero, one := of(0.5), of(0), of(1)
	wide := half.Mul(one.Sub(m.gap))
	per := one.Div(wide.Mul(wide))
	out, v = out[:len(u)], v[:len(u)]
	for k := range u {
		x, y := archsimd.LoadFloat32x8(&u[k]), archsimd.LoadFloat32x8(&v[k])
		i, j := x.Floor(), y.Floor()
		x, y = x.Sub(i).Sub(half), y.Sub(j).Sub(half)
		turned := odd8(i, j)
		across, along := y.Merge(x, turned), x.Merge(y, turned)
		round := one.Sub(across.Mul(across).Mul(per)).Max(zero).Sqrt()
		dip := one.Sub(along.Mul(along).Mul(of(2)))
		rim8(wide.Sub(abs8(across)), m.perSoft).Mul(round.Mul(dip).MulAdd(of(0.75), of(0.25))).Store(&out[k])
	}
}

// courses8 lays pieces so long in rows, of which each begins so much later than the one before it.
func courses8(u, v, out [][8]float32, m *measure8, long, later float32, salt int32) {
	of := archsimd.BroadcastFloat32x8
	half, whole, per, shift := of(0.5), of(long), of(1/long), of(later)
	gap, own := m.gap.Mul(half), archsimd.BroadcastInt32x8(salt)
	out, v = out[:len(u)], v[:len(u)]
	for k := range u {
		x, y := archsimd.LoadFloat32x8(&u[k]), archsimd.LoadFloat32x8(&v[k])
		j := y.Floor()
		off, _ := stir8(j.ConvertToInt32(), own, m.seed)
		at := x.Mul(per).Add(j.Mul(shift)).Add(off.Mul(m.jitter))
		end := half.Sub(abs8(at.Sub(at.Floor()).Sub(half))).Mul(whole)
		rim8(half.Sub(abs8(y.Sub(j).Sub(half))).Min(end).Sub(gap), m.perSoft).Store(&out[k])
	}
}

func planks8(u, v, out [][8]float32, m *measure8) { courses8(u, v, out, m, 7, 1./3, 7) }

func blocks8(u, v, out [][8]float32, m *measure8) { courses8(u, v, out, m, 2, 1./2, 3) }

func rivets8(u, v, out [][8]float32, m *measure8) {
	of := archsimd.BroadcastFloat32x8
	half, apart, per, zero, one := of(0.5), of(6), of(1./6), of(0), of(1)
	move := m.jitter.Mul(of(0.2))
	scale := one.Div(of(0.45).Mul(one.Sub(m.gap)))
	out, v = out[:len(u)], v[:len(u)]
	for k := range u {
		x, y := archsimd.LoadFloat32x8(&u[k]), archsimd.LoadFloat32x8(&v[k])
		i, j := x.Floor(), y.Mul(per).Floor()
		du, dv := stir8(i.ConvertToInt32(), j.ConvertToInt32(), m.seed)
		x = x.Sub(i).Sub(half).Sub(du.Mul(move)).Mul(scale)
		y = y.Sub(j.Add(half).Mul(apart)).Sub(dv.Mul(move)).Mul(scale)
		one.Sub(x.MulAdd(x, y.Mul(y))).Max(zero).Sqrt().Store(&out[k])
	}
}

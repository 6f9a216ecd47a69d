//go:build goexperiment.simd && amd64 && !plain

package brush

import (
	"simd/archsimd"

	"crust/internal/core/accel"
	"crust/internal/core/geom"
)

type f8 = archsimd.Float32x8

// of8 is a vector of vectors, all of them the same.
type of8 struct{ x, y, z f8 }

func spread(v geom.Vec3) of8 {
	of := archsimd.BroadcastFloat32x8
	return of8{of(v.X), of(v.Y), of(v.Z)}
}

// sweepRun is sweep for whole vectors of places; it tells up to which it has gone.
func (m *mark) sweepRun(p *Places, from, to int, inv float32, cover []float32) int {
	n := (to - from) &^ 7
	if !accel.HasSIMD || n == 0 {
		return from
	}
	of := archsimd.BroadcastFloat32x8
	zero, half, one, two := of(0), of(0.5), of(1), of(2)
	at, way, facing, turning := spread(m.at), spread(m.way), spread(m.n), spread(m.dn)
	end := from + n
	out := geom.Eights(cover[from:end])
	xs, ys, zs := geom.Eights(p.X[from:end])[:len(out)], geom.Eights(p.Y[from:end])[:len(out)], geom.Eights(p.Z[from:end])[:len(out)]
	nxs, nys, nzs := geom.Eights(p.NX[from:end])[:len(out)], geom.Eights(p.NY[from:end])[:len(out)], geom.Eights(p.NZ[from:end])[:len(out)]
	share, radius, growth, pitch, blur := of(inv), of(m.r), of(m.dr), of(p.Pitch), of(p.Pitch/2)
	most := of(m.flow + max(0, m.dflow)) // which no more is laid over
	for i := range out {
		dx, dy, dz := archsimd.LoadFloat32x8(&xs[i]).Sub(at.x), archsimd.LoadFloat32x8(&ys[i]).Sub(at.y), archsimd.LoadFloat32x8(&zs[i]).Sub(at.z)
		t := dx.MulAdd(way.x, dy.MulAdd(way.y, dz.Mul(way.z))).Mul(share).Max(zero).Min(one)
		dx, dy, dz = dx.Sub(way.x.Mul(t)), dy.Sub(way.y.Mul(t)), dz.Sub(way.z.Mul(t))
		far := dx.MulAdd(dx, dy.MulAdd(dy, dz.Mul(dz)))
		r := growth.MulAdd(t, radius)
		reach := r.Add(blur)
		was := archsimd.LoadFloat32x8(&out[i])
		inside := far.Less(reach.Mul(reach)).And(was.Less(most))
		if inside.ToBits() == 0 {
			continue
		}
		wide := one.Sub(of(m.hard)).Sub(of(m.dhard).Mul(t)).Mul(r)
		fall := wide.Max(pitch)
		x := half.Add(r.Sub(wide.Mul(half)).Sub(far.Sqrt()).Div(fall)).Max(zero).Min(one)
		v := x.Mul(x).Mul(of(3).Sub(x.Add(x))).Mul(of(m.dflow).MulAdd(t, of(m.flow)))
		// thin
		broad := r.Add(r)
		rim := fall.MulAdd(half, r)
		v = v.Mul(one.Merge(broad.Mul(fall).Div(rim.Mul(rim)).Min(one), broad.GreaterEqual(fall)))
		more := inside.And(v.Greater(was))
		if more.ToBits() == 0 {
			continue
		}
		// held
		nx, ny, nz := archsimd.LoadFloat32x8(&nxs[i]), archsimd.LoadFloat32x8(&nys[i]), archsimd.LoadFloat32x8(&nzs[i])
		wx, wy, wz := turning.x.MulAdd(t, facing.x), turning.y.MulAdd(t, facing.y), turning.z.MulAdd(t, facing.z)
		dot := nx.MulAdd(wx, ny.MulAdd(wy, nz.Mul(wz)))
		off := dx.MulAdd(nx.Add(wx), dy.MulAdd(ny.Add(wy), dz.Mul(nz.Add(wz))))
		sheet := two.Sub(off.Max(zero.Sub(off)).Mul(two).Div(r)).Max(half.Sub(dot).Mul(of(2.5)))
		v = v.Mul(dot.MulAdd(two, of(1.2)).Max(zero).Min(one)).Mul(sheet.Max(zero).Min(one))
		v.Max(was).Merge(was, more).Store(&out[i])
	}
	archsimd.ClearAVXUpperBits()
	return end
}

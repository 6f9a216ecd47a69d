//go:build goexperiment.simd && amd64

package accel

import (
	"math/bits"
	"simd/archsimd"

	"crust/internal/core/geom"
)

// HasSIMD tells whether the vector kernels are in use.
var HasSIMD = archsimd.X86.AVX2() && archsimd.X86.FMA()

type f8 = archsimd.Float32x8

func testNode(n *node, o geom.Vec3, far float32, s *Stream, rays uint64) {
	if HasSIMD {
		nodeSIMD(n, o, far, s, rays)
		archsimd.ClearAVXUpperBits()
	} else {
		nodePlain(n, o, far, s, rays)
	}
}

func testBlock(k *block, o geom.Vec3, far float32, s *Stream, rays uint64) uint64 {
	if !HasSIMD {
		return blockPlain(k, o, far, s, rays)
	}
	hit := blockSIMD(k, o, far, s, rays)
	archsimd.ClearAVXUpperBits()
	return hit
}

// spread repeats a ray's three values over the lanes; spreadEnd follows the last one.
func spread(l *[3]lanes, x, y, z float32) {
	if !HasSIMD {
		spreadPlain(l, x, y, z)
		return
	}
	archsimd.BroadcastFloat32x8(x).Store((*[width]float32)(&l[0]))
	archsimd.BroadcastFloat32x8(y).Store((*[width]float32)(&l[1]))
	archsimd.BroadcastFloat32x8(z).Store((*[width]float32)(&l[2]))
}

func spreadEnd() {
	if HasSIMD {
		archsimd.ClearAVXUpperBits()
	}
}

func nearNode(n *node, o geom.Vec3, far float32, s *Stream) uint32 {
	if !HasSIMD {
		return nearNodePlain(n, o, far, s)
	}
	m := nearNodeSIMD(n, o, far, s)
	archsimd.ClearAVXUpperBits()
	return m
}

func nearBlock(k *block, o geom.Vec3, far float32, s *Stream) uint32 {
	if !HasSIMD {
		return nearBlockPlain(k, o, far, s)
	}
	m := nearBlockSIMD(k, o, far, s)
	archsimd.ClearAVXUpperBits()
	return m
}

// nodeSIMD is nodePlain for eight boxes at once: the origin is taken off the planes once, then each
// ray costs six products and a few comparisons.
func nodeSIMD(n *node, o geom.Vec3, far float32, s *Stream, rays uint64) {
	ox, oy, oz := archsimd.BroadcastFloat32x8(o.X), archsimd.BroadcastFloat32x8(o.Y), archsimd.BroadcastFloat32x8(o.Z)
	lx, hx := archsimd.LoadFloat32x8(&n.minX).Sub(ox), archsimd.LoadFloat32x8(&n.maxX).Sub(ox)
	ly, hy := archsimd.LoadFloat32x8(&n.minY).Sub(oy), archsimd.LoadFloat32x8(&n.maxY).Sub(oy)
	lz, hz := archsimd.LoadFloat32x8(&n.minZ).Sub(oz), archsimd.LoadFloat32x8(&n.maxZ).Sub(oz)
	limit, grow := archsimd.BroadcastFloat32x8(far), archsimd.BroadcastFloat32x8(slack)
	var zero f8
	for ; rays != 0; rays &= rays - 1 {
		r := bits.TrailingZeros64(rays) & (StreamSize - 1)
		inv := &s.inv[r]
		ix := archsimd.LoadFloat32x8((*[width]float32)(&inv[0]))
		a, b := lx.Mul(ix), hx.Mul(ix)
		near, end := a.Min(b), a.Max(b)
		iy := archsimd.LoadFloat32x8((*[width]float32)(&inv[1]))
		a, b = ly.Mul(iy), hy.Mul(iy)
		near, end = near.Max(a.Min(b)), end.Min(a.Max(b))
		iz := archsimd.LoadFloat32x8((*[width]float32)(&inv[2]))
		a, b = lz.Mul(iz), hz.Mul(iz)
		near, end = near.Max(a.Min(b)).Max(zero), end.Min(a.Max(b)).Mul(grow).Min(limit)
		s.hits[r] = near.LessEqual(end).ToBits()
	}
}

// planes forms the three edge planes of eight triangles for one origin.
func planes(k *block, o geom.Vec3) (p, q, w [3]f8, det f8) {
	ox, oy, oz := archsimd.BroadcastFloat32x8(o.X), archsimd.BroadcastFloat32x8(o.Y), archsimd.BroadcastFloat32x8(o.Z)
	ax, ay, az := archsimd.LoadFloat32x8(&k.ax).Sub(ox), archsimd.LoadFloat32x8(&k.ay).Sub(oy), archsimd.LoadFloat32x8(&k.az).Sub(oz)
	bx, by, bz := archsimd.LoadFloat32x8(&k.bx).Sub(ox), archsimd.LoadFloat32x8(&k.by).Sub(oy), archsimd.LoadFloat32x8(&k.bz).Sub(oz)
	cx, cy, cz := archsimd.LoadFloat32x8(&k.cx).Sub(ox), archsimd.LoadFloat32x8(&k.cy).Sub(oy), archsimd.LoadFloat32x8(&k.cz).Sub(oz)
	p = [3]f8{by.Mul(cz).Sub(bz.Mul(cy)), bz.Mul(cx).Sub(bx.Mul(cz)), bx.Mul(cy).Sub(by.Mul(cx))}
	q = [3]f8{cy.Mul(az).Sub(cz.Mul(ay)), cz.Mul(ax).Sub(cx.Mul(az)), cx.Mul(ay).Sub(cy.Mul(ax))}
	w = [3]f8{ay.Mul(bz).Sub(az.Mul(by)), az.Mul(bx).Sub(ax.Mul(bz)), ax.Mul(by).Sub(ay.Mul(bx))}
	det = ax.MulAdd(p[0], ay.MulAdd(p[1], az.Mul(p[2])))
	sign := det.AsInt32x8().And(archsimd.BroadcastInt32x8(-1 << 31))
	flip := func(v f8) f8 { return v.AsInt32x8().Xor(sign).AsFloat32x8() }
	for i := range 3 {
		p[i], q[i], w[i] = flip(p[i]), flip(q[i]), flip(w[i])
	}
	return p, q, w, flip(det)
}

func blockSIMD(k *block, o geom.Vec3, far float32, s *Stream, rays uint64) (hit uint64) {
	ox, oy, oz := archsimd.BroadcastFloat32x8(o.X), archsimd.BroadcastFloat32x8(o.Y), archsimd.BroadcastFloat32x8(o.Z)
	ax, ay, az := archsimd.LoadFloat32x8(&k.ax).Sub(ox), archsimd.LoadFloat32x8(&k.ay).Sub(oy), archsimd.LoadFloat32x8(&k.az).Sub(oz)
	bx, by, bz := archsimd.LoadFloat32x8(&k.bx).Sub(ox), archsimd.LoadFloat32x8(&k.by).Sub(oy), archsimd.LoadFloat32x8(&k.bz).Sub(oz)
	cx, cy, cz := archsimd.LoadFloat32x8(&k.cx).Sub(ox), archsimd.LoadFloat32x8(&k.cy).Sub(oy), archsimd.LoadFloat32x8(&k.cz).Sub(oz)
	px, py, pz := by.Mul(cz).Sub(bz.Mul(cy)), bz.Mul(cx).Sub(bx.Mul(cz)), bx.Mul(cy).Sub(by.Mul(cx))
	qx, qy, qz := cy.Mul(az).Sub(cz.Mul(ay)), cz.Mul(ax).Sub(cx.Mul(az)), cx.Mul(ay).Sub(cy.Mul(ax))
	wx, wy, wz := ay.Mul(bz).Sub(az.Mul(by)), az.Mul(bx).Sub(ax.Mul(bz)), ax.Mul(by).Sub(ay.Mul(bx))
	det := ax.MulAdd(px, ay.MulAdd(py, az.Mul(pz)))
	sign := det.AsInt32x8().And(archsimd.BroadcastInt32x8(-1 << 31))
	px, py, pz = px.AsInt32x8().Xor(sign).AsFloat32x8(), py.AsInt32x8().Xor(sign).AsFloat32x8(), pz.AsInt32x8().Xor(sign).AsFloat32x8()
	qx, qy, qz = qx.AsInt32x8().Xor(sign).AsFloat32x8(), qy.AsInt32x8().Xor(sign).AsFloat32x8(), qz.AsInt32x8().Xor(sign).AsFloat32x8()
	wx, wy, wz = wx.AsInt32x8().Xor(sign).AsFloat32x8(), wy.AsInt32x8().Xor(sign).AsFloat32x8(), wz.AsInt32x8().Xor(sign).AsFloat32x8()
	var zero f8
	if far > 1e30 {
		for ; rays != 0; rays &= rays - 1 {
			r := bits.TrailingZeros64(rays) & (StreamSize - 1)
			d := &s.dir[r]
			dx, dy, dz := archsimd.LoadFloat32x8((*[width]float32)(&d[0])), archsimd.LoadFloat32x8((*[width]float32)(&d[1])), archsimd.LoadFloat32x8((*[width]float32)(&d[2]))
			p := dx.MulAdd(px, dy.MulAdd(py, dz.Mul(pz)))
			q := dx.MulAdd(qx, dy.MulAdd(qy, dz.Mul(qz)))
			w := dx.MulAdd(wx, dy.MulAdd(wy, dz.Mul(wz)))
			if p.Min(q).Min(w).Greater(zero).ToBits() != 0 {
				hit |= 1 << r
			}
		}
		return hit
	}
	det = det.AsInt32x8().Xor(sign).AsFloat32x8()
	limit := archsimd.BroadcastFloat32x8(far)
	for ; rays != 0; rays &= rays - 1 {
		r := bits.TrailingZeros64(rays) & (StreamSize - 1)
		d := &s.dir[r]
		dx, dy, dz := archsimd.LoadFloat32x8((*[width]float32)(&d[0])), archsimd.LoadFloat32x8((*[width]float32)(&d[1])), archsimd.LoadFloat32x8((*[width]float32)(&d[2]))
		p := dx.MulAdd(px, dy.MulAdd(py, dz.Mul(pz)))
		q := dx.MulAdd(qx, dy.MulAdd(qy, dz.Mul(qz)))
		w := dx.MulAdd(wx, dy.MulAdd(wy, dz.Mul(wz)))
		in := p.Min(q).Min(w).Greater(zero)
		if in.And(det.Less(p.Add(q).Add(w).Mul(limit))).ToBits() != 0 {
			hit |= 1 << r
		}
	}
	return hit
}

func nearNodeSIMD(n *node, o geom.Vec3, far float32, s *Stream) uint32 {
	ox, oy, oz := archsimd.BroadcastFloat32x8(o.X), archsimd.BroadcastFloat32x8(o.Y), archsimd.BroadcastFloat32x8(o.Z)
	inv := &s.inv[0]
	ix, iy, iz := archsimd.LoadFloat32x8((*[width]float32)(&inv[0])), archsimd.LoadFloat32x8((*[width]float32)(&inv[1])), archsimd.LoadFloat32x8((*[width]float32)(&inv[2]))
	a, b := archsimd.LoadFloat32x8(&n.minX).Sub(ox).Mul(ix), archsimd.LoadFloat32x8(&n.maxX).Sub(ox).Mul(ix)
	near, end := a.Min(b), a.Max(b)
	a, b = archsimd.LoadFloat32x8(&n.minY).Sub(oy).Mul(iy), archsimd.LoadFloat32x8(&n.maxY).Sub(oy).Mul(iy)
	near, end = near.Max(a.Min(b)), end.Min(a.Max(b))
	a, b = archsimd.LoadFloat32x8(&n.minZ).Sub(oz).Mul(iz), archsimd.LoadFloat32x8(&n.maxZ).Sub(oz).Mul(iz)
	var zero f8
	near, end = near.Max(a.Min(b)).Max(zero), end.Min(a.Max(b)).Mul(archsimd.BroadcastFloat32x8(slack)).Min(archsimd.BroadcastFloat32x8(far))
	near.Store(&s.near)
	return uint32(near.LessEqual(end).ToBits())
}

func nearBlockSIMD(k *block, o geom.Vec3, far float32, s *Stream) uint32 {
	ep, eq, ew, det := planes(k, o)
	d := &s.dir[0]
	dx, dy, dz := archsimd.LoadFloat32x8((*[width]float32)(&d[0])), archsimd.LoadFloat32x8((*[width]float32)(&d[1])), archsimd.LoadFloat32x8((*[width]float32)(&d[2]))
	p := dx.MulAdd(ep[0], dy.MulAdd(ep[1], dz.Mul(ep[2])))
	q := dx.MulAdd(eq[0], dy.MulAdd(eq[1], dz.Mul(eq[2])))
	w := dx.MulAdd(ew[0], dy.MulAdd(ew[1], dz.Mul(ew[2])))
	sum := p.Add(q).Add(w)
	var zero f8
	in := p.Min(q).Min(w).GreaterEqual(zero).And(sum.Greater(zero)).And(det.LessEqual(sum.Mul(archsimd.BroadcastFloat32x8(far))))
	m := uint32(in.ToBits())
	if m != 0 {
		det.Div(sum).Store((*[width]float32)(&s.tHit))
		q.Div(sum).Store((*[width]float32)(&s.u))
		w.Div(sum).Store((*[width]float32)(&s.v))
	}
	return m
}

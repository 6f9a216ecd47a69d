//go:build goexperiment.simd && amd64 && !plain

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

func testNodeMany(n *node, o geom.Vec3, far float32, s *Stream, rays uint64, mask *[width]uint64) uint64 {
	if !HasSIMD {
		return nodeManyPlain(n, o, far, s, rays, mask)
	}
	any := nodeManySIMD(n, o, far, s, rays, mask)
	archsimd.ClearAVXUpperBits()
	return any
}

func measureNode(n *node, o geom.Vec3, s *Stream, rays uint64) {
	if !HasSIMD {
		measureNodePlain(n, o, s, rays)
		return
	}
	measureNodeSIMD(n, o, s, rays)
	archsimd.ClearAVXUpperBits()
}

func measureBlock(k *block, o geom.Vec3, s *Stream, rays uint64) {
	if !HasSIMD {
		measureBlockPlain(k, o, s, rays)
		return
	}
	measureBlockSIMD(k, o, s, rays)
	archsimd.ClearAVXUpperBits()
}

func gather(hits *[StreamSize]uint8, mask *[width]uint64) uint64 {
	if !HasSIMD {
		return gatherPlain(hits, mask)
	}
	any := gatherSIMD(hits, mask)
	archsimd.ClearAVXUpperBits()
	return any
}

func testBlock(k *block, o geom.Vec3, far float32, s *Stream, rays uint64) uint64 {
	if !HasSIMD {
		return blockPlain(k, o, far, s, rays)
	}
	hit := blockSIMD(k, o, far, s, rays)
	archsimd.ClearAVXUpperBits()
	return hit
}

// spreadRays fills in the reciprocals of the first n rays, and repeats all over the lanes.
func spreadRays(s *rays, n int) {
	if !HasSIMD {
		spreadPlain(s, n)
		return
	}
	spreadSIMD(s, n)
	archsimd.ClearAVXUpperBits()
}

func spreadSIMD(s *rays, n int) {
	one, least, top := archsimd.BroadcastFloat32x8(1), archsimd.BroadcastFloat32x8(tiny), archsimd.BroadcastInt32x8(-1<<31)
	for g := 0; g < n; g += width {
		for _, k := range [3][2]*[StreamSize]float32{{&s.x, &s.ix}, {&s.y, &s.iy}, {&s.z, &s.iz}} {
			at := (*[width]float32)(k[0][g:])
			v := archsimd.LoadFloat32x8(at).AsInt32x8()
			sign := v.And(top)
			d := v.Xor(sign).AsFloat32x8().Max(least).AsInt32x8().Xor(sign).AsFloat32x8()
			d.Store(at)
			one.Div(d).Store((*[width]float32)(k[1][g:]))
		}
	}
	for i := range min(n, StreamSize) {
		d, inv := &s.dir[i], &s.inv[i]
		archsimd.BroadcastFloat32x8(s.x[i]).Store((*[width]float32)(&d[0]))
		archsimd.BroadcastFloat32x8(s.y[i]).Store((*[width]float32)(&d[1]))
		archsimd.BroadcastFloat32x8(s.z[i]).Store((*[width]float32)(&d[2]))
		archsimd.BroadcastFloat32x8(s.ix[i]).Store((*[width]float32)(&inv[0]))
		archsimd.BroadcastFloat32x8(s.iy[i]).Store((*[width]float32)(&inv[1]))
		archsimd.BroadcastFloat32x8(s.iz[i]).Store((*[width]float32)(&inv[2]))
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

// nodeManySIMD fills mask for a node that most rays of the stream have come to: its boxes are tested one by
// one, each with eight rays at once. Boxes that hold the origin, or lie behind all rays, need no test.
func nodeManySIMD(n *node, o geom.Vec3, far float32, s *Stream, rays uint64, mask *[width]uint64) (any uint64) {
	ox, oy, oz := archsimd.BroadcastFloat32x8(o.X), archsimd.BroadcastFloat32x8(o.Y), archsimd.BroadcastFloat32x8(o.Z)
	lx, hx := archsimd.LoadFloat32x8(&n.minX).Sub(ox), archsimd.LoadFloat32x8(&n.maxX).Sub(ox)
	ly, hy := archsimd.LoadFloat32x8(&n.minY).Sub(oy), archsimd.LoadFloat32x8(&n.maxY).Sub(oy)
	lz, hz := archsimd.LoadFloat32x8(&n.minZ).Sub(oz), archsimd.LoadFloat32x8(&n.maxZ).Sub(oz)
	var zero f8
	most, least := lx.Max(ly).Max(lz), hx.Min(hy).Min(hz)
	inside := most.Less(zero).And(least.Greater(zero)).ToBits()
	maybe := uint8(n.valid) &^ inside
	if s.axis != (geom.Vec3{}) {
		nx, ny, nz := archsimd.BroadcastFloat32x8(s.axis.X), archsimd.BroadcastFloat32x8(s.axis.Y), archsimd.BroadcastFloat32x8(s.axis.Z)
		up := lx.Mul(nx).Max(hx.Mul(nx)).Add(ly.Mul(ny).Max(hy.Mul(ny))).Add(lz.Mul(nz).Max(hz.Mul(nz)))
		maybe &= up.GreaterEqual(zero).ToBits()
	}
	any = uint64(inside)
	for m := inside & uint8(n.valid); m != 0; m &= m - 1 {
		mask[bits.TrailingZeros8(m)&(width-1)] = rays
	}
	limit, grow := archsimd.BroadcastFloat32x8(far), archsimd.BroadcastFloat32x8(slack)
	for ; maybe != 0; maybe &= maybe - 1 {
		c := bits.TrailingZeros8(maybe) & (width - 1)
		lx, hx := archsimd.BroadcastFloat32x8(n.minX[c]-o.X), archsimd.BroadcastFloat32x8(n.maxX[c]-o.X)
		ly, hy := archsimd.BroadcastFloat32x8(n.minY[c]-o.Y), archsimd.BroadcastFloat32x8(n.maxY[c]-o.Y)
		lz, hz := archsimd.BroadcastFloat32x8(n.minZ[c]-o.Z), archsimd.BroadcastFloat32x8(n.maxZ[c]-o.Z)
		got := uint64(0)
		for g := 0; g < s.n; g += width {
			ix := archsimd.LoadFloat32x8((*[width]float32)(s.ix[g : g+width]))
			a, b := lx.Mul(ix), hx.Mul(ix)
			near, end := a.Min(b), a.Max(b)
			iy := archsimd.LoadFloat32x8((*[width]float32)(s.iy[g : g+width]))
			a, b = ly.Mul(iy), hy.Mul(iy)
			near, end = near.Max(a.Min(b)), end.Min(a.Max(b))
			iz := archsimd.LoadFloat32x8((*[width]float32)(s.iz[g : g+width]))
			a, b = lz.Mul(iz), hz.Mul(iz)
			near, end = near.Max(a.Min(b)).Max(zero), end.Min(a.Max(b)).Mul(grow).Min(limit)
			got |= uint64(near.LessEqual(end).ToBits()) << g
		}
		if got &= rays; got != 0 {
			mask[c] = got
			any |= 1 << c
		}
	}
	return any
}

// gatherSIMD is gatherPlain by moving the bit of each child to the top of its byte and taking the tops.
func gatherSIMD(hits *[StreamSize]uint8, mask *[width]uint64) (any uint64) {
	a, b := archsimd.LoadUint8x32((*[32]uint8)(hits[:32])).AsUint16x16(), archsimd.LoadUint8x32((*[32]uint8)(hits[32:])).AsUint16x16()
	var zero archsimd.Int8x32
	for c := width - 1; c >= 0; c-- {
		m := uint64(a.AsInt8x32().Less(zero).ToBits()) | uint64(b.AsInt8x32().Less(zero).ToBits())<<32
		mask[c] = m
		if m != 0 {
			any |= 1 << c
		}
		a, b = a.Add(a), b.Add(b)
	}
	return any
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
	var zero f8
	if s.axis != (geom.Vec3{}) {
		nx, ny, nz := archsimd.BroadcastFloat32x8(s.axis.X), archsimd.BroadcastFloat32x8(s.axis.Y), archsimd.BroadcastFloat32x8(s.axis.Z)
		a, b, c := ax.MulAdd(nx, ay.MulAdd(ny, az.Mul(nz))), bx.MulAdd(nx, by.MulAdd(ny, bz.Mul(nz))), cx.MulAdd(nx, cy.MulAdd(ny, cz.Mul(nz)))
		if a.Max(b).Max(c).Greater(zero).ToBits() == 0 {
			return 0
		}
	}
	px, py, pz := by.Mul(cz).Sub(bz.Mul(cy)), bz.Mul(cx).Sub(bx.Mul(cz)), bx.Mul(cy).Sub(by.Mul(cx))
	qx, qy, qz := cy.Mul(az).Sub(cz.Mul(ay)), cz.Mul(ax).Sub(cx.Mul(az)), cx.Mul(ay).Sub(cy.Mul(ax))
	wx, wy, wz := ay.Mul(bz).Sub(az.Mul(by)), az.Mul(bx).Sub(ax.Mul(bz)), ax.Mul(by).Sub(ay.Mul(bx))
	det := ax.MulAdd(px, ay.MulAdd(py, az.Mul(pz)))
	sign := det.AsInt32x8().And(archsimd.BroadcastInt32x8(-1 << 31))
	px, py, pz = px.AsInt32x8().Xor(sign).AsFloat32x8(), py.AsInt32x8().Xor(sign).AsFloat32x8(), pz.AsInt32x8().Xor(sign).AsFloat32x8()
	qx, qy, qz = qx.AsInt32x8().Xor(sign).AsFloat32x8(), qy.AsInt32x8().Xor(sign).AsFloat32x8(), qz.AsInt32x8().Xor(sign).AsFloat32x8()
	wx, wy, wz = wx.AsInt32x8().Xor(sign).AsFloat32x8(), wy.AsInt32x8().Xor(sign).AsFloat32x8(), wz.AsInt32x8().Xor(sign).AsFloat32x8()
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

func measureNodeSIMD(n *node, o geom.Vec3, s *Stream, rays uint64) {
	ox, oy, oz := archsimd.BroadcastFloat32x8(o.X), archsimd.BroadcastFloat32x8(o.Y), archsimd.BroadcastFloat32x8(o.Z)
	lx, hx := archsimd.LoadFloat32x8(&n.minX).Sub(ox), archsimd.LoadFloat32x8(&n.maxX).Sub(ox)
	ly, hy := archsimd.LoadFloat32x8(&n.minY).Sub(oy), archsimd.LoadFloat32x8(&n.maxY).Sub(oy)
	lz, hz := archsimd.LoadFloat32x8(&n.minZ).Sub(oz), archsimd.LoadFloat32x8(&n.maxZ).Sub(oz)
	var zero f8
	x, y, z := lx.Max(zero.Sub(hx)).Max(zero), ly.Max(zero.Sub(hy)).Max(zero), lz.Max(zero.Sub(hz)).Max(zero)
	x.MulAdd(x, y.MulAdd(y, z.Mul(z))).Store(&s.near)
	grow := archsimd.BroadcastFloat32x8(slack)
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
		near, end = near.Max(a.Min(b)).Max(zero), end.Min(a.Max(b)).Mul(grow).Min(archsimd.BroadcastFloat32x8(s.far[r]))
		s.hits[r] = near.LessEqual(end).ToBits()
	}
}

func measureBlockSIMD(k *block, o geom.Vec3, s *Stream, rays uint64) {
	p3, q3, w3, det := planes(k, o)
	var zero f8
	var at lanes
	for ; rays != 0; rays &= rays - 1 {
		r := bits.TrailingZeros64(rays) & (StreamSize - 1)
		d := &s.dir[r]
		dx, dy, dz := archsimd.LoadFloat32x8((*[width]float32)(&d[0])), archsimd.LoadFloat32x8((*[width]float32)(&d[1])), archsimd.LoadFloat32x8((*[width]float32)(&d[2]))
		p := dx.MulAdd(p3[0], dy.MulAdd(p3[1], dz.Mul(p3[2])))
		q := dx.MulAdd(q3[0], dy.MulAdd(q3[1], dz.Mul(q3[2])))
		w := dx.MulAdd(w3[0], dy.MulAdd(w3[1], dz.Mul(w3[2])))
		sum := p.Add(q).Add(w)
		in := p.Min(q).Min(w).Greater(zero).And(det.Less(sum.Mul(archsimd.BroadcastFloat32x8(s.far[r])))).ToBits()
		if in == 0 {
			continue
		}
		det.Div(sum).Store((*[width]float32)(&at))
		for ; in != 0; in &= in - 1 {
			s.far[r] = min(s.far[r], at[bits.TrailingZeros8(in)&(width-1)])
		}
	}
}

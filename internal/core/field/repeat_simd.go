//go:build goexperiment.simd && amd64 && !plain

package field

import "simd/archsimd"

// carpet8 is a carpet as vectors see it.
type carpet8 struct {
	u, v, shift [3]f8 // of places
	a, b, c     [3]f8
	round, per  [2]f8 // and one over it
	half        f8
	seed        i8
}

func (c *carpet) eight(shift *[3]float32, seed uint32) (q carpet8) {
	of := archsimd.BroadcastFloat32x8
	for k := range 3 {
		q.u[k], q.v[k], q.shift[k] = of(c.a[k]*c.count[0]), of(c.b[k]*c.count[1]), of(shift[k])
		q.a[k], q.b[k], q.c[k] = of(c.a[k]), of(c.b[k]), of(c.c[k])
	}
	for k := range 2 {
		q.round[k], q.per[k] = of(c.round[k]), of(1/c.round[k])
	}
	q.half, q.seed = of(0.5), archsimd.BroadcastInt32x8(int32(seed))
	return q
}

// by is what lattice points are known by, before it comes round.
func by(v *[3]f8, cell *[3]f8) f8 {
	return v[0].MulAdd(cell[0], v[1].MulAdd(cell[1], v[2].Mul(cell[2])))
}

// hash is of lattice points that are known by a, b and c.
func (q *carpet8) hash(a, b, c f8) i8 {
	a = a.Sub(a.Add(q.half).Mul(q.per[0]).Floor().Mul(q.round[0]))
	b = b.Sub(b.Add(q.half).Mul(q.per[1]).Floor().Mul(q.round[1]))
	whole := archsimd.BroadcastInt32x8
	return a.ConvertToInt32().Mul(whole(i32(hashX))).Xor(b.ConvertToInt32().Mul(whole(i32(hashY)))).Xor(c.ConvertToInt32().Mul(whole(i32(hashZ)))).Xor(q.seed)
}

// place is where places lie in their cells, and which these are.
func (q *carpet8) place(s, t *[8]float32) (p, cell [3]f8) {
	u, v := archsimd.LoadFloat32x8(s), archsimd.LoadFloat32x8(t)
	for k := range 3 {
		p[k] = u.MulAdd(q.u[k], v.MulAdd(q.v[k], q.shift[k]))
		cell[k] = p[k].Floor()
		p[k] = p[k].Sub(cell[k])
	}
	return p, cell
}

// weaveRun does what whole vectors have room for and says how many.
func (c *carpet) weaveRun(s, t []float32, shift *[3]float32, amp float32, seed uint32, out []float32) int {
	if !hasSIMD {
		return 0
	}
	q := c.eight(shift, seed)
	am, one := archsimd.BroadcastFloat32x8(amp), archsimd.BroadcastFloat32x8(1)
	n := len(out) &^ 7
	for i := 0; i < n; i += 8 {
		p, cell := q.place((*[8]float32)(s[i:]), (*[8]float32)(t[i:]))
		r := [3]f8{p[0].Sub(one), p[1].Sub(one), p[2].Sub(one)}
		a, b, d := by(&q.a, &cell), by(&q.b, &cell), by(&q.c, &cell)
		u := fade8(p[0])
		row := func(a, b, d, y, z f8) f8 {
			return lerp8(u, corner8(q.hash(a, b, d), p[0], y, z), corner8(q.hash(a.Add(q.a[0]), b.Add(q.b[0]), d.Add(q.c[0])), r[0], y, z))
		}
		v := fade8(p[1])
		face := func(a, b, d, z f8) f8 {
			return lerp8(v, row(a, b, d, p[1], z), row(a.Add(q.a[1]), b.Add(q.b[1]), d.Add(q.c[1]), r[1], z))
		}
		to := (*[8]float32)(out[i:])
		lerp8(fade8(p[2]), face(a, b, d, p[2]), face(a.Add(q.a[2]), b.Add(q.b[2]), d.Add(q.c[2]), r[2])).MulAdd(am, archsimd.LoadFloat32x8(to)).Store(to)
	}
	archsimd.ClearAVXUpperBits()
	return n
}

// nearRun does what whole vectors have room for and says how many.
func (c *carpet) nearRun(q *strew, s, t []float32, shift *[3]float32, seed uint32) int {
	if !hasSIMD {
		return 0
	}
	on := c.eight(shift, seed)
	of, whole := archsimd.BroadcastFloat32x8, archsimd.BroadcastInt32x8
	part, far, mul, ten := of(1./1024), of(8), whole(hashM), whole(1023)
	n := len(s) &^ 7
	for i := 0; i < n; i += 8 {
		p, cell := on.place((*[8]float32)(s[i:]), (*[8]float32)(t[i:]))
		first, second, mark := far, far, whole(0)
		a0, b0, c0 := by(&on.a, &cell), by(&on.b, &cell), by(&on.c, &cell)
		for _, dx := range [3]float32{-1, 0, 1} {
			x := of(dx)
			ox, ax, bx, cx := x.Sub(p[0]), on.a[0].MulAdd(x, a0), on.b[0].MulAdd(x, b0), on.c[0].MulAdd(x, c0)
			for _, dy := range [3]float32{-1, 0, 1} {
				y := of(dy)
				oy, ay, by, cy := y.Sub(p[1]), on.a[1].MulAdd(y, ax), on.b[1].MulAdd(y, bx), on.c[1].MulAdd(y, cx)
				for _, dz := range [3]float32{-1, 0, 1} {
					z := of(dz)
					h := on.hash(on.a[2].MulAdd(z, ay), on.b[2].MulAdd(z, by), on.c[2].MulAdd(z, cy)).Mul(mul)
					h = h.Xor(h.AsUint32x8().ShiftAllRight(15).AsInt32x8()).Mul(mul)
					h = h.Xor(h.AsUint32x8().ShiftAllRight(13).AsInt32x8())
					u := h.AsUint32x8()
					qx := u.ShiftAllRight(22).AsInt32x8().ConvertToFloat32().MulAdd(part, ox)
					qy := u.ShiftAllRight(12).AsInt32x8().And(ten).ConvertToFloat32().MulAdd(part, oy)
					qz := u.ShiftAllRight(2).AsInt32x8().And(ten).ConvertToFloat32().MulAdd(part, z.Sub(p[2]))
					d := qx.MulAdd(qx, qy.MulAdd(qy, qz.Mul(qz)))
					nearer := d.Less(first)
					second = second.Min(first.Max(d))
					mark = h.Merge(mark, nearer)
					first = first.Min(d)
				}
			}
		}
		first.Sqrt().Store((*[8]float32)(q.first[i:]))
		second.Sqrt().Store((*[8]float32)(q.second[i:]))
		mark.AsUint32x8().Store((*[8]uint32)(q.mark[i:]))
	}
	archsimd.ClearAVXUpperBits()
	return n
}

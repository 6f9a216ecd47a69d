package demo

import (
	"math"

	"crust/internal/core/mesh"
)

// Winch makes the “Sluice winch” of the Saltmere harbour, 1.3 m tall, in metres with its foot at height
// 0: a hand winch that lifts a sluice gate, on UDIM tiles 1001 frame, 1002 drum, 1003 gears and 1004
// housing, with its high-poly.
func Winch() (low, high *mesh.Model) {
	kits := []*kit{
		{material: "frame", colour: [3]float32{0.25, 0.36, 0.34}},
		{material: "drum", colour: [3]float32{0.5, 0.45, 0.38}, tile: 1},
		{material: "gears", colour: [3]float32{0.4, 0.4, 0.42}, tile: 2},
		{material: "housing", colour: [3]float32{0.55, 0.25, 0.18}, tile: 3},
	}
	frame(kits[0])
	drum(kits[1])
	gears(kits[2])
	housing(kits[3])
	return build(kits)
}

// Measures of the winch. X runs along the drum, Z to the front.
const (
	axisY, axisZ   = 0.86, 0.0 // the drum's axis
	crankY, crankZ = 0.635, 0.36
	sideX          = 0.42 // of the side frames
	gearX          = 0.515
	gearR          = 0.34
	pinionR        = 0.085
	toothHeight    = 0.03
)

// along is the frame of things turned about the X axis: their height runs along X.
var alongX = [3]v3{{0, 0, 1}, {1, 0, 0}, {0, 1, 0}}

// lay turns a patch made about the upright axis into the frame e at c.
func lay(p *patch, c v3, e [3]v3) *patch {
	at, in := p.at, p.in
	to := func(q v3) v3 { return c.add(e[0].mul(q[0])).add(e[1].mul(q[1])).add(e[2].mul(q[2])) }
	p.at = func(s, t float64) v3 { return to(at(s, t)) }
	p.in = func(s, t float64) v3 { return to(in(s, t)) }
	return p
}

// shaft turns a profile about the line through (·, y, z) along X.
func shaft(part string, y, z float64, n int, cs ...corner) *patch {
	return lay(revolve(part, newProfile(false, cs...), v3{}, 0, turn, n), v3{0, y, z}, alongX)
}

// disc is the flat end of something turned, that looks along out: a circle, or a ring when inner is over 0.
func disc(part string, c v3, e [3]v3, out v3, inner, outer float64, n int) *patch {
	p := revolve(part, newProfile(false, corner{max(inner, 0.0001), 0, 0}, corner{outer, 0, 0}), v3{}, 0, turn, n)
	polar(p, outer)
	if inner > 0.001 {
		p.flat = func(s, t float64) (float64, float64) {
			sin, cos := math.Sincos(turn * s)
			r := inner + (outer-inner)*t
			return r * cos, r * sin
		}
	}
	p.fine = 0.02
	lay(p, c, e)
	p.in = func(s, t float64) v3 { return p.at(s, t).sub(out.mul(0.001)) }
	return p
}

// bar is a straight bar with a rounded rectangle for a section, closed at both ends.
func (k *kit) bar(part string, a, b, x v3, w, d, r float64) {
	along := b.sub(a).norm()
	x = x.sub(along.mul(x.dot(along))).norm()
	y := along.cross(x)
	p := newProfile(true, corner{-w / 2, -d / 2, r}, corner{w / 2, -d / 2, r}, corner{w / 2, d / 2, r}, corner{-w / 2, d / 2, r})
	k.add(beam(part, p, a, b, x, y))
	for _, e := range []struct {
		c   v3
		out v3
	}{{a, along.mul(-1)}, {b, along}} {
		o := e.c.sub(x.mul(w / 2)).sub(y.mul(d / 2))
		k.add(face(part, o, x.mul(w), y.mul(d), e.out))
	}
}

// nut is a six-sided nut with a domed end of its bolt, on a face at c that looks along n. The low-poly
// has the nut, the high-poly the bolt as well.
func (k *kit) nut(part string, c, n v3, r float64) {
	x := n.cross(v3{0.31, 0.52, 0.8}).norm()
	y := n.cross(x)
	var cs []corner
	for i := range 6 {
		sin, cos := math.Sincos(turn * float64(i) / 6)
		cs = append(cs, corner{r * cos, r * sin, r * 0.08})
	}
	p := k.add(beam(part, newProfile(true, cs...), c.sub(n.mul(0.002)), c.add(n.mul(r*0.8)), x, y))
	p.fine = r / 3
	top := k.add(disc(part, c.add(n.mul(r*0.8)), [3]v3{x, n, y.mul(-1)}, n, 0, r*0.96, 6))
	top.fine = r / 3
	k.rivet(part, c.add(n.mul(r*0.8)), n, r*0.55)
}

func frame(k *kit) {
	for _, side := range []float64{-1, 1} {
		x := v3{side * sideX, 0, 0}
		head := v3{side * sideX, axisY - 0.05, 0}
		for _, z := range []float64{-1, 1} {
			foot := x.add(v3{0, 0.075, z * 0.43})
			k.bar("legs", foot, head.add(v3{0, -0.02, z * 0.055}), v3{0, 0, 1}, 0.085, 0.036, 0.008)
			k.slab("feet", x.add(v3{0, 0.074, z * 0.44}), v3{0, 0, 1}, v3{1, 0, 0}, v3{0, 1, 0}, 0.17, 0.15, 0.02)
			for _, q := range [][2]float64{{-1, -1}, {-1, 1}, {1, -1}, {1, 1}} {
				k.nut("feet", x.add(v3{q[0] * 0.05, 0.084, z*0.44 + q[1]*0.062}), v3{0, 1, 0}, 0.014)
			}
		}
		// The tie of the A, with a stiffening web in the high-poly.
		k.bar("legs", x.add(v3{0, 0.36, -0.275}), x.add(v3{0, 0.36, 0.275}), v3{0, 1, 0}, 0.07, 0.03, 0.006)
		// The bearing: a block, a cap held by two nuts, an oiler.
		k.slab("bearings", head.add(v3{0, 0.01, 0}), v3{0, 0, 1}, v3{1, 0, 0}, v3{0, 1, 0}, 0.2, 0.075, 0.1)
		cap := lay(revolve("bearings", newProfile(false, corner{0.078, -0.034, 0}, corner{0.078, 0.034, 0}), v3{}, 0, turn/2, 16), v3{side * sideX, axisY + 0.005, 0}, alongX)
		cap.fine = 0.012
		k.add(cap)
		for _, e := range []float64{-1, 1} {
			k.add(disc("bearings", v3{side*sideX + e*0.034, axisY + 0.005, 0}, alongX, v3{e, 0, 0}, 0.036, 0.078, 32))
			k.nut("bearings", v3{side * sideX, axisY + 0.01, e * 0.09}, v3{0, 1, 0}, 0.013)
		}
		k.add(rod("bearings", v3{side * sideX, axisY + 0.075, 0}, v3{side * sideX, axisY + 0.125, 0}, 0.009, 8))
		oil := revolve("bearings", newProfile(false, corner{0.016, axisY + 0.118, 0}, corner{0.016, axisY + 0.15, 0.004}, corner{0.0001, axisY + 0.156, 0}), v3{side * sideX, 0, 0}, 0, turn, 12)
		k.add(oil)
		// The bracket that carries the crank shaft.
		arm := v3{side * sideX, crankY, crankZ}
		k.bar("brackets", x.add(v3{0, 0.665, 0.1}), arm.add(v3{0, 0.008, 0.03}), v3{0, 1, 0}, 0.06, 0.032, 0.006)
		k.add(shaft("brackets", crankY, crankZ, 20, corner{0.048, side*sideX - 0.034, 0}, corner{0.048, side*sideX + 0.034, 0}))
		for _, e := range []float64{-1, 1} {
			k.add(disc("brackets", arm.add(v3{e * 0.034, 0, 0}), alongX, v3{e, 0, 0}, 0.022, 0.048, 20))
		}
		k.nut("brackets", x.add(v3{side * 0.016, 0.66, 0.135}), v3{side, 0, 0}, 0.015)
	}
	// The rails that it stands on, welded along their upper edge.
	for _, z := range []float64{-1, 1} {
		web := newProfile(true, corner{-0.055, -0.034, 0.006}, corner{0.055, -0.034, 0.006}, corner{0.055, 0.034, 0.006}, corner{-0.055, 0.034, 0.006})
		a, b := v3{-0.58, 0.034, z * 0.44}, v3{0.62, 0.034, z * 0.44}
		rail := k.add(beam("rails", web, a, b, v3{0, 0, 1}, v3{0, 1, 0}))
		rail.fine = 0.014
		rail.bump = func(s, t float64) float64 {
			return -0.0012*max(0, math.Sin(t*23)*math.Sin(t*41+s*9)) - 0.004*math.Exp(-math.Pow((t-0.37)/0.01, 2))
		}
		for _, e := range []v3{a, b} {
			out := v3{math.Copysign(1, e[0]), 0, 0}
			k.add(face("rails", e.add(v3{0, -0.034, -0.055}), v3{0, 0, 0.11}, v3{0, 0.068, 0}, out))
		}
	}
	for _, x := range []float64{-0.5, 0.54} {
		k.bar("rails", v3{x, 0.034, -0.385}, v3{x, 0.034, 0.385}, v3{1, 0, 0}, 0.07, 0.05, 0.006)
	}
	// Tie rods between the sides.
	for _, q := range [][2]float64{{0.36, -0.235}, {0.36, 0.235}, {0.70, -0.14}} {
		k.add(rod("ties", v3{-sideX, q[0], q[1]}, v3{sideX, q[0], q[1]}, 0.017, 12))
		for _, e := range []float64{-1, 1} {
			k.nut("ties", v3{e * (sideX + 0.016), q[0], q[1]}, v3{e, 0, 0}, 0.027)
			k.nut("ties", v3{e * (sideX - 0.018), q[0], q[1]}, v3{-e, 0, 0}, 0.027)
		}
	}
}

func drum(k *kit) {
	const r, half, rope = 0.15, 0.325, 0.0115
	// The rope lies in turns side by side; the low-poly barrel runs at two thirds of its height.
	barrel := shaft("barrel", axisY, axisZ, 40, corner{r + 0.008, -half, 0}, corner{r + 0.008, half, 0})
	barrel.fine = 0.0042
	barrel.along = 0.0042
	barrel.bump = func(s, t float64) float64 {
		x := (t - 0.5) * 2 * half
		u := x/(2*rope) - s
		d := (u - math.Floor(u) - 0.5) * 2 * rope
		h := math.Sqrt(max(0, rope*rope-d*d)) - 0.008 + 0.003
		// Six strands, twisted.
		return h + 0.0012*math.Sin(s*turn*46+d/rope*1.9) - 0.002*math.Exp(-math.Pow((t-0.81)/0.02, 2))*math.Sin(s*turn*3)
	}
	k.add(barrel)
	for _, side := range []float64{-1, 1} {
		x := side * half
		a, b := x, x+side*0.026
		lo, hi := min(a, b), max(a, b)
		rim := shaft("flanges", axisY, axisZ, 40, corner{0.244, lo, 0}, corner{0.25, lo + 0.006, 0}, corner{0.25, hi - 0.006, 0}, corner{0.244, hi, 0})
		rim.fine = 0.01
		k.add(rim)
		for _, e := range []float64{lo, hi} {
			inner := r
			if e == b {
				inner = 0.05
			}
			out := v3{1, 0, 0}
			if e == lo {
				out[0] = -1
			}
			face := disc("flanges", v3{e, axisY, axisZ}, alongX, out, inner, 0.244, 40)
			face.fine = 0.008
			face.bump = func(s, t float64) float64 {
				// Scars of the rope, round and round.
				return -0.0009 * max(0, math.Sin(t*70+math.Sin(s*turn*5))) * math.Abs(math.Sin(s*turn*2+t*4))
			}
			k.add(face)
		}
		for i := range 8 {
			sin, cos := math.Sincos(turn * (float64(i) + 0.5) / 8)
			k.nut("flanges", v3{b, axisY + 0.2*cos, axisZ + 0.2*sin}, v3{side, 0, 0}, 0.012)
		}
		hub := shaft("hubs", axisY, axisZ, 24, corner{0.066, min(b, b+side*0.03), 0}, corner{0.062, max(b, b+side*0.03), 0})
		k.add(hub)
	}
	k.add(shaft("axle", axisY, axisZ, 20, corner{0.035, -0.60, 0}, corner{0.035, 0.60, 0}))
	for _, x := range []float64{-0.60, 0.60} {
		k.add(disc("axle", v3{x, axisY, axisZ}, alongX, v3{math.Copysign(1, x), 0, 0}, 0, 0.035, 20))
	}
	// The end of the rope goes down to the gate, with a thimble and shackle at its foot.
	z := axisZ - r - 0.012
	fall := rod("rope", v3{0.12, axisY, z}, v3{0.12, 0.16, z}, rope, 8)
	fall.fine, fall.along = 0.003, 0.004
	fall.bump = func(s, t float64) float64 { return 0.0011 * math.Sin(s*turn*6+t*0.7*turn/0.016) }
	k.add(fall)
	x, y := v3{1, 0, 0}, v3{0, 1, 0}
	k.add(ring("shackle", v3{0.12, 0.115, z}, x, y, 0.035, 0.009, 0, turn, 20, 8))
	k.add(ring("shackle", v3{0.12, 0.052, z}, v3{0, 0, 1}, y, 0.04, 0.011, 0, turn, 20, 8))
	k.add(rod("shackle", v3{0.12, 0.14, z}, v3{0.12, 0.19, z}, 0.017, 10))
}

// toothed is the outline of a wheel with n teeth: root and tip circles, joined by slanting flanks.
func toothed(n int, r, height, first float64) *profile {
	var cs []corner
	for i := range n {
		a := first + turn*float64(i)/float64(n)
		w := turn / float64(n)
		for _, q := range [][2]float64{{-0.30, -0.55}, {-0.14, 0.45}, {0.14, 0.45}, {0.30, -0.55}} {
			sin, cos := math.Sincos(a + q[0]*w)
			rr := r + q[1]*height
			cs = append(cs, corner{rr * cos, rr * sin, height * 0.07})
		}
	}
	return newProfile(true, cs...)
}

// wheel adds a toothed rim: its teeth, and its two sides in to radius inner.
func (k *kit) wheel(part string, p *profile, c v3, width, inner float64) {
	e := alongX
	// In the frame of alongX the outline's x runs to e[0], its y to e[2].
	a, b := c.sub(e[1].mul(width/2)), c.add(e[1].mul(width/2))
	// The rim in pieces, so that its islands are not longer than the tile.
	pieces := max(1, int(math.Ceil(p.length/0.8)))
	rows := p.rows()
	for i := range pieces {
		whole := beam(part, p, a, b, e[0], e[2])
		from, to := rows[i*(len(rows)-1)/pieces], rows[(i+1)*(len(rows)-1)/pieces]
		at, in := whole.at, whole.in
		share := func(s float64) float64 { return from + (to-from)*s }
		var own []float64
		for _, r := range rows {
			if r >= from && r <= to {
				own = append(own, (r-from)/(to-from))
			}
		}
		rim := k.add(&patch{part: part,
			at:   func(s, t float64) v3 { return at(share(s), t) },
			in:   func(s, t float64) v3 { return in(share(s), t) },
			flat: func(s, t float64) (float64, float64) { return s * (to - from) * p.length, t * width },
			s:    own, t: lines(1), long: [2]float64{(to - from) * p.length, width}, fine: 0.006})
		rim.along = 0.01
	}
	for _, end := range []v3{a, b} {
		out := end.sub(c)
		at := func(s, t float64) v3 {
			x, y := p.at(s)
			l := math.Hypot(x, y)
			r := inner + (l-inner)*t
			return end.add(e[0].mul(x / l * r)).add(e[2].mul(y / l * r))
		}
		side := k.add(&patch{part: part, at: at,
			in: func(s, t float64) v3 { return at(s, t).sub(out) },
			flat: func(s, t float64) (float64, float64) {
				x, y := p.at(s)
				l := math.Hypot(x, y)
				r := inner + (l-inner)*t
				return x / l * r, y / l * r
			},
			s: p.rows(), t: lines(1), long: [2]float64{p.length, 0.07}, fine: 0.01})
		side.along = 0.012
	}
}

func gears(k *kit) {
	big := v3{gearX, axisY, axisZ}
	k.wheel("spur", toothed(44, gearR, toothHeight, 0), big, 0.06, gearR-0.075)
	inner := shaft("spur", axisY, axisZ, 44, corner{gearR - 0.075, gearX + 0.03, 0}, corner{gearR - 0.075, gearX - 0.03, 0})
	k.add(inner)
	// Six spokes between rim and hub, and the hub.
	for i := range 6 {
		sin, cos := math.Sincos(turn * (float64(i) + 0.25) / 6)
		out := v3{0, cos, sin}
		k.add(beam("spur", newProfile(true, corner{-0.03, -0.014, 0.006}, corner{0.03, -0.014, 0.006}, corner{0.03, 0.014, 0.006}, corner{-0.03, 0.014, 0.006}), big.add(out.mul(0.06)), big.add(out.mul(gearR-0.07)), v3{0, -sin, cos}, v3{1, 0, 0}))
	}
	k.add(shaft("spur", axisY, axisZ, 28, corner{0.066, gearX - 0.045, 0}, corner{0.075, gearX - 0.035, 0}, corner{0.075, gearX + 0.035, 0}, corner{0.066, gearX + 0.045, 0}))
	for _, e := range []float64{-1, 1} {
		k.add(disc("spur", big.add(v3{e * 0.045, 0, 0}), alongX, v3{e, 0, 0}, 0.035, 0.066, 28))
	}
	// The pinion meshes with it: half a tooth on where the two meet.
	small := v3{gearX, crankY, crankZ}
	meet := math.Atan2(crankY-axisY, crankZ-axisZ)
	k.wheel("pinion", toothed(11, pinionR, toothHeight, meet+math.Pi+turn/22), small, 0.07, 0.03)
	// The crank shaft with its two cranks.
	k.add(shaft("crank_shaft", crankY, crankZ, 18, corner{0.022, -0.66, 0}, corner{0.022, 0.72, 0}))
	for _, q := range []struct{ x, a, out float64 }{{0.70, 2.3, 1}, {-0.64, 2.3 + math.Pi, -1}} {
		sin, cos := math.Sincos(q.a)
		arm := v3{0, cos, sin}
		hub := v3{q.x, crankY, crankZ}
		end := hub.add(arm.mul(0.30))
		k.bar("cranks", hub.sub(arm.mul(0.035)), end.add(arm.mul(0.03)), v3{0, -sin, cos}, 0.052, 0.026, 0.009)
		k.add(shaft("cranks", crankY, crankZ, 18, corner{0.042, q.x - 0.024, 0}, corner{0.042, q.x + 0.024, 0}))
		for _, e := range []float64{-1, 1} {
			k.add(disc("cranks", hub.add(v3{e * 0.024, 0, 0}), alongX, v3{e, 0, 0}, 0, 0.042, 18))
		}
		// The grip, turned from wood.
		g := []corner{{0.012, 0.012, 0}, {0.018, 0.016, 0.002}, {0.021, 0.07, 0.06}, {0.018, 0.135, 0.02}, {0.022, 0.158, 0.008}, {0.012, 0.168, 0.004}, {0.0001, 0.169, 0}}
		grip := lay(revolve("grips", newProfile(false, g...), v3{}, 0, turn, 18), end, [3]v3{{0, 0, 1}, {q.out, 0, 0}, {0, q.out, 0}})
		grip.fine = 0.005
		grip.bump = func(s, t float64) float64 { return 0.0006 * math.Sin(s*turn*31+math.Sin(t*9)*3) }
		k.add(grip)
		k.nut("cranks", end.sub(v3{q.out * 0.013, 0, 0}), v3{-q.out, 0, 0}, 0.015)
	}
	// Ratchet and pawl on the other side.
	var cs []corner
	for i := range 16 {
		a := turn * float64(i) / 16
		for _, q := range [][2]float64{{0, 0.105}, {0.02, 0.135}} {
			sin, cos := math.Sincos(a + q[0])
			cs = append(cs, corner{q[1] * cos, q[1] * sin, 0.001})
		}
	}
	k.wheel("ratchet", newProfile(true, cs...), v3{-0.51, axisY, axisZ}, 0.034, 0.036)
	k.bar("pawl", v3{-0.51, axisY - 0.02, 0.205}, v3{-0.51, axisY + 0.03, 0.128}, v3{0, 0.8, 0.6}, 0.03, 0.026, 0.006)
	k.add(rod("pawl", v3{-sideX, axisY - 0.02, 0.205}, v3{-0.545, axisY - 0.02, 0.205}, 0.014, 12))
	k.add(disc("pawl", v3{-0.545, axisY - 0.02, 0.205}, alongX, v3{-1, 0, 0}, 0, 0.014, 12))
	k.bar("pawl", v3{-0.445, 0.70, 0.085}, v3{-0.445, axisY - 0.02, 0.225}, v3{1, 0, 0}, 0.02, 0.05, 0.006)
}

// loadPlate is the middle of the plate on the guard, and its right and up; it faces +X.
func loadPlate() (middle, right, up v3) {
	const a = 0.28*math.Pi - 0.42 + 1.55
	return v3{gearX + 0.062 + 0.001, axisY + 0.343*math.Sin(a), axisZ + 0.343*math.Cos(a)}, v3{0, math.Cos(a), -math.Sin(a)}, v3{0, math.Sin(a), math.Cos(a)}
}

func housing(k *kit) {
	// The guard over the big gear: a trough of sheet, its rims bent inwards, from the crank side over the
	// top to the back.
	const r0, r1, x0, x1, d = 0.30, 0.385, gearX - 0.062, gearX + 0.062, 0.006
	a0, a1 := 0.28*math.Pi-0.42, 0.28*math.Pi+2.95
	trough := newProfile(true,
		corner{r0, x0, 0.002}, corner{r1, x0, 0.012}, corner{r1, x1, 0.012}, corner{r0, x1, 0.002},
		corner{r0, x1 - d, 0.001}, corner{r1 - d, x1 - d, 0.008}, corner{r1 - d, x0 + d, 0.008}, corner{r0, x0 + d, 0.001})
	g := lay(revolve("guard", trough, v3{}, a0, a1, 36), v3{0, axisY, axisZ}, alongX)
	g.flat = func(s, t float64) (float64, float64) { return (a0 + (a1-a0)*s) * 0.36, t * trough.length }
	g.fine = 0.009
	g.bump = func(s, t float64) float64 {
		h := 0.0
		for _, q := range []dent{{0.3, 0.12, 0.03, 0.006}, {0.62, 0.15, 0.05, 0.008}, {0.8, 0.05, 0.035, 0.005}} {
			h += q.at((s-q.a)*(a1-a0)*0.36, (t-q.y)*trough.length)
		}
		return h
	}
	k.add(g)
	for _, a := range []float64{a0, a1} {
		sin, cos := math.Sincos(a)
		out := v3{0, cos, -sin}.mul(1)
		if a == a0 {
			out = out.mul(-1)
		}
		at := func(r, x float64) v3 { return v3{x, axisY + r*sin, axisZ + r*cos} }
		for _, q := range [][4]float64{{r0, r1, x0, x0 + d}, {r0, r1, x1 - d, x1}, {r1 - d, r1, x0 + d, x1 - d}} {
			o := at(q[0], q[2])
			k.add(face("guard", o, at(q[1], q[2]).sub(o), at(q[0], q[3]).sub(o), out))
		}
	}
	for i := range 15 {
		a := a0 + (a1-a0)*(float64(i)+0.5)/15
		sin, cos := math.Sincos(a)
		for _, x := range []float64{x0, x1} {
			k.rivet("guard", v3{x, axisY + 0.325*sin, axisZ + 0.325*cos}, v3{math.Copysign(1, x-gearX), 0, 0}, 0.008)
		}
		k.rivet("guard", v3{gearX, axisY + (r1-0.0005)*sin, axisZ + (r1-0.0005)*cos}, v3{0, sin, cos}, 0.007)
	}
	// Stays that hold it to the side frame.
	for _, a := range []float64{a0 + 0.5, a1 - 0.35} {
		sin, cos := math.Sincos(a)
		k.bar("stays", v3{sideX + 0.018, axisY - 0.06 + 0.06*sin, axisZ + 0.06*cos}, v3{x0 - 0.004, axisY + 0.33*sin, axisZ + 0.33*cos}, v3{1, 0, 0}, 0.008, 0.036, 0.002)
		k.nut("stays", v3{x0 - 0.006, axisY + 0.318*sin, axisZ + 0.318*cos}, v3{-1, 0, 0}, 0.011)
	}
	// The brake: a drum with a band, in a cover with a bolted rim.
	k.add(shaft("brake", axisY, axisZ, 40, corner{0.182, -0.455, 0}, corner{0.182, -0.44, 0}))
	back := disc("brake", v3{-0.44, axisY, axisZ}, alongX, v3{1, 0, 0}, 0.04, 0.182, 40)
	k.add(back)
	ring := disc("brake", v3{-0.455, axisY, axisZ}, alongX, v3{-1, 0, 0}, 0.15, 0.182, 40)
	k.add(ring)
	k.add(shaft("brake", axisY, axisZ, 40, corner{0.15, -0.483, 0}, corner{0.15, -0.455, 0}))
	k.add(disc("brake", v3{-0.483, axisY, axisZ}, alongX, v3{-1, 0, 0}, 0.04, 0.15, 40))
	for i := range 12 {
		sin, cos := math.Sincos(turn * (float64(i) + 0.5) / 12)
		k.rivet("brake", v3{-0.455, axisY + 0.166*cos, axisZ + 0.166*sin}, v3{-1, 0, 0}, 0.009)
	}
	// The brake lever and the maker's plate.
	k.bar("lever", v3{-0.462, axisY + 0.15, -0.05}, v3{-0.462, axisY + 0.42, -0.30}, v3{1, 0, 0}, 0.018, 0.04, 0.006)
	knob := revolve("lever", newProfile(false, corner{0.012, 0, 0}, corner{0.03, 0.018, 0.012}, corner{0.03, 0.036, 0.014}, corner{0.0001, 0.056, 0}), v3{}, 0, turn, 18)
	up := v3{0, 0.27, -0.25}.norm()
	side := v3{1, 0, 0}
	k.add(lay(knob, v3{-0.462, axisY + 0.42, -0.30}, [3]v3{side, up, side.cross(up)}))
	plate, tangent, radial := loadPlate()
	k.slab("plate", plate, tangent, radial, v3{1, 0, 0}, 0.15, 0.062, 0.006)
	for _, e := range []float64{-1, 1} {
		k.rivet("plate", plate.add(tangent.mul(0.062*e)).add(v3{0.003, 0, 0}), v3{1, 0, 0}, 0.005)
	}
}

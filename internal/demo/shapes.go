package demo

import "math"

// profile is a line in a plane with rounded corners, walked by length.
type profile struct {
	segs   []segment
	length float64
	closed bool
}

type segment struct {
	a, b   [2]float64 // ends of a straight piece
	c      [2]float64 // centre of an arc
	r      float64    // radius of an arc, 0 for a straight piece
	t0, dt float64    // first angle and turn of an arc
	len    float64
}

// corner is a point of a profile with the radius of its rounding.
type corner struct{ x, y, r float64 }

// newProfile joins corners by lines and rounds them. A closed one begins in the middle of its
// first side.
func newProfile(closed bool, cs ...corner) *profile {
	p := &profile{closed: closed}
	n := len(cs)
	var from [2]float64
	first, last := 1, n-1
	if closed {
		from = [2]float64{(cs[0].x + cs[n-1].x) / 2, (cs[0].y + cs[n-1].y) / 2}
		first, last = 0, n
	} else {
		from = [2]float64{cs[0].x, cs[0].y}
	}
	start := from
	for i := first; i < last; i++ {
		c, prev, next := cs[i], cs[(i+n-1)%n], cs[(i+1)%n]
		u := [2]float64{c.x - prev.x, c.y - prev.y}
		v := [2]float64{next.x - c.x, next.y - c.y}
		lu, lv := math.Hypot(u[0], u[1]), math.Hypot(v[0], v[1])
		u, v = [2]float64{u[0] / lu, u[1] / lu}, [2]float64{v[0] / lv, v[1] / lv}
		turn := math.Atan2(u[0]*v[1]-u[1]*v[0], u[0]*v[0]+u[1]*v[1])
		cut := c.r * math.Tan(math.Abs(turn)/2)
		in := [2]float64{c.x - u[0]*cut, c.y - u[1]*cut}
		p.line(from, in)
		if c.r > 0 && turn != 0 {
			side := math.Copysign(1, turn)
			mid := [2]float64{in[0] - u[1]*side*c.r, in[1] + u[0]*side*c.r}
			p.segs = append(p.segs, segment{c: mid, r: c.r, t0: math.Atan2(in[1]-mid[1], in[0]-mid[0]), dt: turn, len: math.Abs(turn) * c.r})
		}
		from = [2]float64{c.x + v[0]*cut, c.y + v[1]*cut}
	}
	if closed {
		p.line(from, start)
	} else {
		p.line(from, [2]float64{cs[n-1].x, cs[n-1].y})
	}
	for _, s := range p.segs {
		p.length += s.len
	}
	return p
}

func (p *profile) line(a, b [2]float64) {
	if l := math.Hypot(b[0]-a[0], b[1]-a[1]); l > 1e-9 {
		p.segs = append(p.segs, segment{a: a, b: b, len: l})
	}
}

// at returns the point at share t of the length; outside 0–1 it goes on straight, or round.
func (p *profile) at(t float64) (x, y float64) {
	if p.closed {
		t -= math.Floor(t)
	}
	d := t * p.length
	for i, s := range p.segs {
		if d <= s.len || i == len(p.segs)-1 {
			k := d / s.len
			if s.r == 0 {
				return s.a[0] + (s.b[0]-s.a[0])*k, s.a[1] + (s.b[1]-s.a[1])*k
			}
			sin, cos := math.Sincos(s.t0 + s.dt*k)
			return s.c[0] + s.r*cos, s.c[1] + s.r*sin
		}
		d -= s.len
	}
	return 0, 0
}

// rows returns the shares at which a low-poly needs a line: the ends of pieces, and inside arcs one
// for every 50° or so.
func (p *profile) rows() []float64 {
	out := []float64{0}
	d := 0.0
	for _, s := range p.segs {
		if s.r > 0 {
			n := int(math.Ceil(math.Abs(s.dt) / (50 * math.Pi / 180)))
			for k := 1; k < n; k++ {
				out = append(out, (d+s.len*float64(k)/float64(n))/p.length)
			}
		}
		d += s.len
		out = append(out, d/p.length)
	}
	out[len(out)-1] = 1
	return out
}

// revolve turns a profile of (radius, height) round the upright line through centre, from angle a0
// to a1 in n steps. The profile is walked with the outside on its right: upwards along a wall, inwards
// along a deck. The surface is unrolled as a cylinder or, when it leans, as a cone.
func revolve(part string, p *profile, centre v3, a0, a1 float64, n int) *patch {
	at := func(s, t float64) v3 {
		r, y := p.at(t)
		sin, cos := math.Sincos(a0 + (a1-a0)*s)
		return centre.add(v3{r * cos, y, r * sin})
	}
	r0, _ := p.at(0)
	r1, _ := p.at(1)
	k := (r1 - r0) / p.length // sine of the cone's half angle
	mean := 0.0
	for i := range 32 {
		r, _ := p.at((float64(i) + 0.5) / 32)
		mean += r / 32
	}
	flat := func(s, t float64) (float64, float64) {
		a := a0 + (a1-a0)*s
		if math.Abs(k) < 0.3 {
			return a * mean, t * p.length
		}
		rho := math.Abs(r0/k) + math.Copysign(t*p.length, k)
		sin, cos := math.Sincos(a * math.Abs(k))
		return rho * cos, rho * sin
	}
	return &patch{part: part, at: at, flat: flat, s: lines(n), t: p.rows(), long: [2]float64{mean * math.Abs(a1-a0), p.length},
		in: func(s, t float64) v3 {
			const h = 1e-4
			x0, y0 := p.at(t - h)
			x1, y1 := p.at(t + h)
			sin, cos := math.Sincos(a0 + (a1-a0)*s)
			out := v3{(y1 - y0) * cos, x0 - x1, (y1 - y0) * sin}.norm()
			return at(s, t).sub(out.mul(0.001))
		}}
}

// tube sweeps a circle of radius r along a path with n sides; rows are its low-poly lines.
func tube(part string, path func(t float64) v3, length, r float64, n int, rows []float64) *patch {
	along := func(t float64) v3 {
		const h = 1e-4
		return path(t + h).sub(path(t - h)).norm()
	}
	// The frame is carried along the path without turning about it, so that the tube does not twist.
	const steps = 256
	var across [steps + 1]v3
	d := along(0)
	up := v3{0.123, 0.456, 0.789}
	if math.Abs(d.dot(up.norm())) > 0.95 {
		up = v3{1, 0, 0}
	}
	across[0] = d.cross(up).norm()
	level := func(x, d v3) v3 { return x.sub(d.mul(x.dot(d))).norm() }
	for i := range steps {
		across[i+1] = level(across[i], along(float64(i+1)/steps))
	}
	frame := func(t float64) (c, x, y v3) {
		k := max(0, min(steps, t*steps))
		i := min(int(k), steps-1)
		d := along(t)
		x = level(across[i].lerp(across[i+1], k-float64(i)), d)
		return path(t), x, d.cross(x)
	}
	return &patch{part: part,
		at: func(s, t float64) v3 {
			c, x, y := frame(t)
			sin, cos := math.Sincos(2 * math.Pi * s)
			return c.add(x.mul(r * cos)).add(y.mul(r * sin))
		},
		in:   func(s, t float64) v3 { return path(t) },
		flat: func(s, t float64) (float64, float64) { return 2 * math.Pi * r * s, t * length },
		s:    lines(n), t: rows, long: [2]float64{2 * math.Pi * r, length}, fine: max(0.003, r/2.5)}
}

// rod is a straight tube from a to b.
func rod(part string, a, b v3, r float64, n int) *patch {
	p := tube(part, func(t float64) v3 { return a.lerp(b, t) }, b.sub(a).len(), r, n, lines(1))
	p.along = 0.05
	return p
}

// ring is a tube along a circle of radius R in the plane of x and y, from angle a0 to a1.
func ring(part string, c, x, y v3, R, r, a0, a1 float64, steps, n int) *patch {
	// The frame follows the circle, so that the tube does not twist.
	axis := x.cross(y)
	at := func(s, t float64) v3 {
		sin, cos := math.Sincos(a0 + (a1-a0)*t)
		out := x.mul(cos).add(y.mul(sin))
		s2, c2 := math.Sincos(2 * math.Pi * s)
		return c.add(out.mul(R + r*c2)).add(axis.mul(r * s2))
	}
	length := R * math.Abs(a1-a0)
	return &patch{part: part, at: at,
		in: func(s, t float64) v3 {
			sin, cos := math.Sincos(a0 + (a1-a0)*t)
			return c.add(x.mul(R * cos)).add(y.mul(R * sin))
		},
		flat: func(s, t float64) (float64, float64) { return 2 * math.Pi * r * s, t * length },
		s:    lines(n), t: lines(steps), long: [2]float64{2 * math.Pi * r, length}, fine: max(0.003, r/2.5)}
}

// beam draws a closed profile in the plane of x and y along the line from a to b.
func beam(part string, p *profile, a, b, x, y v3) *patch {
	length := b.sub(a).len()
	cx, cy := 0.0, 0.0
	for i := range 64 {
		px, py := p.at(float64(i) / 64)
		cx, cy = cx+px/64, cy+py/64
	}
	at := func(s, t float64) v3 {
		px, py := p.at(s)
		return a.lerp(b, t).add(x.mul(px)).add(y.mul(py))
	}
	// A closed profile's outside is told by its turning sense, not by a centre: an angle section's
	// centre lies outside of it.
	area := 0.0
	for i := range 256 {
		x0, y0 := p.at(float64(i) / 256)
		x1, y1 := p.at(float64(i+1) / 256)
		area += x0*y1 - x1*y0
	}
	outward := func(s, t float64) v3 {
		const h = 1e-4
		x0, y0 := p.at(s - h)
		x1, y1 := p.at(s + h)
		k := math.Copysign(1, area)
		return x.mul((y1 - y0) * k).add(y.mul((x0 - x1) * k)).norm()
	}
	return &patch{part: part, at: at,
		in:   func(s, t float64) v3 { return at(s, t).sub(outward(s, t).mul(0.001)) },
		flat: func(s, t float64) (float64, float64) { return s * p.length, t * length },
		s:    p.rows(), t: lines(1), long: [2]float64{p.length, length}, fine: 0.012}
}

// face is a flat rectangle with corner o and sides x and y, seen from the side of out.
func face(part string, o, x, y, out v3) *patch {
	w, h := x.len(), y.len()
	return &patch{part: part,
		at:   func(s, t float64) v3 { return o.add(x.mul(s)).add(y.mul(t)) },
		in:   func(s, t float64) v3 { return o.add(x.mul(s)).add(y.mul(t)).sub(out) },
		flat: func(s, t float64) (float64, float64) { return s * w, t * h },
		s:    lines(1), t: lines(1), long: [2]float64{w, h}, fine: 0.02}
}

// slab adds a plate of sides along x and y and thickness d along z, centred on c, with rounded rims.
func (k *kit) slab(part string, c, x, y, z v3, w, h, d float64) {
	r := d * 0.3
	p := newProfile(true, corner{-w / 2, -d / 2, r}, corner{w / 2, -d / 2, r}, corner{w / 2, d / 2, r}, corner{-w / 2, d / 2, r})
	k.add(beam(part, p, c.sub(y.mul(h/2)), c.add(y.mul(h/2)), x, z))
	for _, end := range []float64{-1, 1} {
		o := c.add(y.mul(end * h / 2)).sub(x.mul(w / 2)).sub(z.mul(d / 2))
		k.add(face(part, o, x.mul(w), z.mul(d), y.mul(end)))
	}
}

// rivet adds a domed head to the high-poly only; it shows in the baked maps.
func (k *kit) rivet(part string, c, n v3, r float64) {
	x := n.cross(v3{0.3, 0.5, 0.81}).norm()
	y := n.cross(x)
	p := k.add(&patch{part: part,
		at: func(s, t float64) v3 {
			sin, cos := math.Sincos(2 * math.Pi * s)
			// Half a flattened ball, sunk a little so that no gap shows.
			a := t * math.Pi / 2
			return c.add(x.mul(r * math.Cos(a) * cos)).add(y.mul(r * math.Cos(a) * sin)).add(n.mul(r*0.55*math.Sin(a) - 0.0008))
		},
		in:   func(s, t float64) v3 { return c.sub(n.mul(r)) },
		flat: func(s, t float64) (float64, float64) { return s, t },
		s:    lines(12), t: lines(4), long: [2]float64{turn * r, r * turn / 4}, fine: r})
	p.low = false
}

package demo

import (
	"math"

	"crust/internal/core/mesh"
)

// Buoy makes “Channel buoy 12” of the Saltmere harbour, 2.6 m tall, in metres with its foot at
// height 0: the low-poly with three material slots, and the high-poly with weld beads, dents, rivets
// and ribs.
func Buoy() (low, high *mesh.Model) {
	hull := &kit{material: "hull", colour: [3]float32{0.62, 0.2, 0.16}}
	tower := &kit{material: "tower", colour: [3]float32{0.75, 0.6, 0.2}}
	lantern := &kit{material: "lantern", colour: [3]float32{0.7, 0.7, 0.68}}
	float(hull)
	fittings(hull)
	legs(tower)
	ladder(tower)
	reflector(tower)
	platform(tower)
	lamp(lantern)
	return build([]*kit{hull, tower, lantern})
}

const turn = 2 * math.Pi

// Heights and radii of the buoy.
const (
	waist      = 0.90 // radius of the float
	deckFoot   = 0.865
	deckTop    = 0.965
	deckInner  = 0.36
	legFoot    = 0.42 // distance of the legs' feet from the axis, along x and z
	legTop     = 0.165
	legFootY   = 0.93
	platformY  = 2.06
	lampFootY  = 2.085
	panels     = 4 // plates round the float's side
	strakeY    = 0.60
	strakeSize = 0.045
)

// bead is a weld bead d metres beside its line: 4 mm high, 8 mm to each side, in ripples along it.
func bead(d, along float64) float64 {
	k := 1 - d*d/(0.008*0.008)
	if k <= 0 {
		return 0
	}
	return math.Sqrt(k) * (0.004 + 0.0007*math.Sin(along*turn/0.014))
}

// dent is a shallow hollow.
type dent struct{ a, y, size, deep float64 }

func (d dent) at(da, dy float64) float64 {
	q := (da*da + dy*dy) / (d.size * d.size)
	if q > 6 {
		return 0
	}
	return -d.deep * math.Exp(-q)
}

func wrap(a float64) float64 { return a - turn*math.Round(a/turn) }

var sideDents = []dent{{0.6, 0.42, 0.09, 0.009}, {1.9, 0.75, 0.07, 0.007}, {2.7, 0.45, 0.12, 0.008}, {4.1, 0.74, 0.06, 0.006}, {5.2, 0.47, 0.1, 0.010}, {5.9, 0.72, 0.05, 0.005}}
var deckDents = []dent{{0.9, 0.7, 0.08, 0.006}, {3.3, 0.62, 0.1, 0.007}, {4.9, 0.72, 0.07, 0.006}}

func float(k *kit) {
	const part = "float"
	// The side, in four plates welded together; the girth seams run at both knuckles.
	side := newProfile(false, corner{0.80, 0.26, 0}, corner{waist, 0.36, 0.05}, corner{waist, 0.80, 0.05}, corner{0.845, deckFoot, 0})
	for i := range panels {
		a0 := turn * float64(i) / panels
		p := revolve(part, side, v3{}, a0, a0+turn/panels, 16)
		p.fine = 0.0095
		p.creaseS = []float64{0, 1}
		p.creaseT = []float64{0.33, 0.72}
		p.bump = func(s, t float64) float64 {
			a := a0 + turn/panels*s
			x := s * turn / panels * waist
			_, y := side.at(t)
			along := t * side.length
			h := max(bead(min(x, turn/panels*waist-x), along), bead((t-0.33)*side.length, a*waist), bead((t-0.72)*side.length, a*waist))
			for _, d := range sideDents {
				h += d.at(wrap(a-d.a)*waist, y-d.y)
			}
			return h
		}
		k.add(p)
	}
	// The cone below, welded along four lines, and the keel plate.
	bottom := newProfile(false, corner{0.30, 0.02, 0}, corner{0.80, 0.26, 0})
	cone := revolve(part, bottom, v3{}, 0, turn, 64)
	cone.fine = 0.014
	cone.creaseT = []float64{1 - 0.012/bottom.length}
	cone.creaseS = []float64{0.125, 0.375, 0.625, 0.875}
	cone.bump = func(s, t float64) float64 {
		r, _ := bottom.at(t)
		h := 0.0
		for _, c := range cone.creaseS {
			h = max(h, bead((s-c)*turn*r, t*bottom.length))
		}
		return max(h, bead((1-t)*bottom.length-0.012, s*turn*r))
	}
	k.add(cone)
	keel := revolve(part, newProfile(false, corner{0.0001, 0, 0}, corner{0.27, 0, 0.03}, corner{0.30, 0.02, 0}), v3{}, 0, turn, 32)
	polar(keel, 0.32)
	k.add(keel)

	// The deck, with welds from rim to coaming between the legs.
	top := newProfile(false, corner{0.845, deckFoot, 0}, corner{deckInner, deckTop, 0})
	deck := revolve(part, top, v3{}, 0, turn, 64)
	deck.fine = 0.0105
	deck.creaseS = []float64{0, 0.25, 0.5, 0.75}
	deck.creaseT = []float64{0.012 / top.length}
	deck.bump = func(s, t float64) float64 {
		r, _ := top.at(t)
		h := bead(t*top.length-0.012, s*turn*r)
		for _, c := range []float64{0, 0.25, 0.5, 0.75, 1} {
			h = max(h, bead((s-c)*turn*r, t*top.length))
		}
		for _, d := range deckDents {
			h += d.at(wrap(s*turn-d.a)*r, r-d.y)
		}
		return h
	}
	k.add(deck)
	for i := range 44 {
		sin, cos := math.Sincos(turn * (float64(i) + 0.5) / 44)
		k.rivet(part, v3{0.79 * cos, 0.8763, 0.79 * sin}, v3{0.2 * cos, 0.98, 0.2 * sin}.norm(), 0.013)
	}

	// The hatch: a coaming and a bolted lid.
	const hatch = "hatch"
	k.add(revolve(hatch, newProfile(false, corner{deckInner + 0.004, 0.945, 0}, corner{deckInner + 0.004, 1.0, 0.008}, corner{0.262, 1.004, 0}), v3{}, 0, turn, 40))
	lid := newProfile(false, corner{0.268, 1.0, 0}, corner{0.268, 1.03, 0.008}, corner{0.20, 1.034, 0.01}, corner{0.185, 1.052, 0.012}, corner{0.0001, 1.06, 0})
	l := revolve(hatch, lid, v3{}, 0, turn, 40)
	polar(l, 0.30)
	k.add(l)
	for i := range 16 {
		sin, cos := math.Sincos(turn * (float64(i) + 0.5) / 16)
		k.rivet(hatch, v3{0.234 * cos, 1.0315, 0.234 * sin}, v3{0, 1, 0}, 0.011)
	}
}

// polar unrolls a shallow turned shape as seen along its axis, true to length along the profile.
func polar(p *patch, reach float64) {
	rim := max(math.Hypot(p.at(0, 0)[0], p.at(0, 0)[2]), math.Hypot(p.at(0, 1)[0], p.at(0, 1)[2]))
	outwards := math.Hypot(p.at(0, 1)[0], p.at(0, 1)[2]) > math.Hypot(p.at(0, 0)[0], p.at(0, 0)[2])
	length := max(rim, p.long[1])
	p.flat = func(s, t float64) (float64, float64) {
		if !outwards {
			t = 1 - t
		}
		sin, cos := math.Sincos(turn * s)
		t = max(t, 0.0004) // the pole stays a tiny circle, as in space
		return length * t * cos, length * t * sin
	}
}

func fittings(k *kit) {
	// The rubbing strake: a D of rubber, held by bolts.
	d := newProfile(false, corner{waist - 0.004, strakeY - 0.055, 0}, corner{waist + 0.03, strakeY - 0.055, 0.012}, corner{waist + 0.062, strakeY, 0.035}, corner{waist + 0.03, strakeY + 0.055, 0.012}, corner{waist - 0.004, strakeY + 0.055, 0})
	for i := range panels {
		a0 := turn*float64(i)/panels + turn/8
		p := revolve("strake", d, v3{}, a0, a0+turn/panels, 16)
		p.fine = 0.012
		p.bump = func(s, t float64) float64 {
			a := a0 + turn/panels*s
			// Scuffs and cuts, and a butt joint at the plate's ends.
			h := -0.0015 * max(0, math.Sin(a*31)*math.Sin(a*17+t*9))
			if e := min(s, 1-s) * turn / panels * waist; e < 0.006 {
				h -= 0.004
			}
			return h
		}
		k.add(p)
	}
	for i := range 32 {
		a := turn * (float64(i) + 0.5) / 32
		sin, cos := math.Sincos(a)
		for _, y := range []float64{-0.039, 0.039} {
			n := v3{cos * 0.8, math.Copysign(0.6, y), sin * 0.8}
			k.rivet("strake", v3{(waist + 0.039) * cos, strakeY + y, (waist + 0.039) * sin}, n, 0.009)
		}
	}
	// The mooring eye hangs under the keel on a lug; the lifting eyes stand on the deck.
	y := v3{0, 1, 0}
	k.add(ring("mooring_eye", v3{0.18, 0.075, 0}.add(v3{0.28, 0.03, 0}), v3{1, 0, 0}, y, 0.075, 0.02, 0, turn, 20, 10))
	for _, s := range []float64{-1, 1} {
		c := v3{0.64 * s, 0.905, 0}
		k.slab("lifting_eyes", c.add(v3{0, 0.01, 0}), v3{0, 0, 1}, v3{1, 0, 0}, y, 0.13, 0.09, 0.02)
		k.add(ring("lifting_eyes", c.add(v3{0, 0.015, 0}), v3{0, 0, 1}, y, 0.05, 0.013, -0.1, math.Pi+0.1, 14, 8))
	}
	// Foot plates under the legs, with their bolts.
	for _, q := range quarters() {
		x, z := v3{q[0], 0, 0}, v3{0, 0, q[1]}
		c := x.add(z).mul(legFoot).add(v3{0, legFootY - 0.004, 0})
		out := v3{q[0], 0, q[1]}.norm()
		up := v3{0.2 * out[0], 0.98, 0.2 * out[2]}.norm()
		side := up.cross(out).norm()
		k.slab("foot_plates", c, side, up.cross(side).norm(), up, 0.17, 0.17, 0.022)
		for _, b := range [][2]float64{{-1, -1}, {-1, 1}, {1, -1}, {1, 1}} {
			k.rivet("foot_plates", c.add(side.mul(0.066*b[0])).add(up.cross(side).norm().mul(0.066*b[1])).add(up.mul(0.011)), up, 0.011)
		}
	}
}

func quarters() [][2]float64 { return [][2]float64{{1, 1}, {-1, 1}, {-1, -1}, {1, -1}} }

// legAt is a point of the leg in quarter q at share t of its height.
func legAt(q [2]float64, t float64) v3 {
	r := legFoot + (legTop-legFoot)*t
	return v3{q[0] * r, legFootY + (platformY-legFootY)*t, q[1] * r}
}

func legs(k *kit) {
	const w, d = 0.058, 0.009
	// An angle section with its heel outwards.
	angle := newProfile(true, corner{0, 0, 0.003}, corner{0, -w, 0.003}, corner{-d, -w, 0.003}, corner{-d, -d, 0.004}, corner{-w, -d, 0.003}, corner{-w, 0, 0.003})
	for _, q := range quarters() {
		p := k.add(beam("legs", angle, legAt(q, -0.01), legAt(q, 1), v3{q[0], 0, 0}, v3{0, 0, q[1]}))
		p.fine = 0.01
	}
	levels := []float64{0.03, 0.38, 0.69, 0.955}
	for i := range 4 {
		q, n := quarters()[i], quarters()[(i+1)%4]
		inset := func(t float64, q [2]float64) v3 { return legAt(q, t).sub(v3{q[0] * 0.02, 0, q[1] * 0.02}) }
		for j, t := range levels {
			if j > 0 && j < 3 {
				a, b := inset(t, q), inset(t, n)
				along := b.sub(a).norm()
				out := along.cross(v3{0, 1, 0}).norm()
				bar := newProfile(true, corner{-0.018, -0.004, 0.002}, corner{0.018, -0.004, 0.002}, corner{0.018, 0.004, 0.002}, corner{-0.018, 0.004, 0.002})
				k.add(beam("rails", bar, a, b, v3{0, 1, 0}, out))
			}
			if j == 3 {
				continue
			}
			u := levels[j+1]
			k.add(rod("braces", inset(t, q), inset(u, n), 0.0105, 7))
			k.add(rod("braces", inset(t, n).add(v3{0, 0.001, 0}), inset(u, q), 0.0105, 7))
			// Gusset plates where the braces cross.
			c := inset(t, q).lerp(inset(u, n), 0.5)
			c2 := inset(t, n).lerp(inset(u, q), 0.5)
			mid := c.lerp(c2, 0.5)
			along := inset(t, n).sub(inset(t, q)).norm()
			up := inset(u, q).lerp(inset(u, n), 0.5).sub(inset(t, q).lerp(inset(t, n), 0.5)).norm()
			k.slab("gussets", mid, along, up, along.cross(up), 0.07, 0.07, 0.008)
			for _, e := range []float64{-1, 1} {
				k.rivet("gussets", mid.add(along.mul(0.022*e)).add(along.cross(up).mul(0.004)), along.cross(up), 0.006)
				k.rivet("gussets", mid.add(along.mul(0.022*e)).sub(along.cross(up).mul(0.004)), along.cross(up).mul(-1), 0.006)
			}
		}
	}
	// Bolts through the legs at each level.
	for _, q := range quarters() {
		for _, t := range levels {
			for _, dy := range []float64{-0.018, 0.018} {
				c := legAt(q, t+dy)
				k.rivet("legs", c.sub(v3{q[0] * 0.03, 0, 0}), v3{0, 0, q[1]}, 0.008)
				k.rivet("legs", c.sub(v3{0, 0, q[1] * 0.03}), v3{q[0], 0, 0}, 0.008)
			}
		}
	}
}

func ladder(k *kit) {
	// On the side that faces z, standing a little off the braces.
	foot, top := v3{0, 0.93, legFoot + 0.03}, v3{0, platformY - 0.02, legTop + 0.045}
	for _, x := range []float64{-0.125, 0.125} {
		off := v3{x, 0, 0}
		k.add(rod("ladder", foot.add(off), top.add(off).add(v3{0, 0.02, 0}), 0.013, 8))
	}
	for i := range 8 {
		c := foot.lerp(top, (float64(i)+0.6)/8.3)
		k.add(rod("ladder", c.sub(v3{0.125, 0, 0}), c.add(v3{0.125, 0, 0}), 0.009, 6))
	}
}

func reflector(k *kit) {
	c := v3{0, 1.44, 0}
	const w, d = 0.25, 0.006
	// Three plates square to each other, standing on a corner's edge.
	sin, cos := math.Sincos(turn / 8)
	x, y, z := v3{cos, 0, sin}, v3{0, 1, 0}, v3{-sin, 0, cos}
	k.slab("radar_reflector", c, x, y, z, w, w, d)
	k.slab("radar_reflector", c, z, y, x, w, w, d)
	k.slab("radar_reflector", c, x, z, y, w, w, d)
	k.add(rod("radar_reflector", v3{0, 1.20, 0}, v3{0, platformY, 0}, 0.012, 8))
	a, b := legAt([2]float64{1, 1}, 0.38), legAt([2]float64{-1, -1}, 0.38)
	k.add(rod("radar_reflector", a.lerp(b, 0.04), a.lerp(b, 0.96), 0.012, 8))
	k.add(rod("radar_reflector", v3{0, 1.3, 0}, v3{0, legFootY + (platformY-legFootY)*0.38, 0}, 0.012, 8))
}

func platform(k *kit) {
	const r = 0.335
	under := revolve("platform", newProfile(false, corner{0.0001, platformY, 0}, corner{r - 0.012, platformY, 0}), v3{}, 0, turn, 40)
	polar(under, r)
	under.fine = 0.03
	k.add(under)
	rim := newProfile(false, corner{r - 0.012, platformY, 0}, corner{r - 0.012, platformY - 0.035, 0.002}, corner{r, platformY - 0.035, 0.003}, corner{r, platformY + 0.04, 0.003}, corner{r - 0.012, platformY + 0.04, 0.003}, corner{r - 0.012, platformY + 0.012, 0})
	k.add(revolve("platform", rim, v3{}, 0, turn, 40))
	top := revolve("platform", newProfile(false, corner{r - 0.012, platformY + 0.012, 0}, corner{0.0001, platformY + 0.012, 0}), v3{}, 0, turn, 40)
	polar(top, r)
	top.fine = 0.008
	// Raised lozenges against slipping.
	top.bump = func(s, t float64) float64 {
		sin, cos := math.Sincos(turn * s)
		x, z := r*(1-t)*cos/0.028, r*(1-t)*sin/0.028
		u, v := x+z, x-z
		fu, fv := u-math.Floor(u)-0.5, v-math.Floor(v)-0.5
		if int(math.Floor(u)+math.Floor(v))%2 == 0 {
			fu, fv = fv, fu
		}
		return 0.0018 * max(0, 1-(fu*fu/0.16+fv*fv/0.02))
	}
	k.add(top)
	for i := range 20 {
		a := turn * (float64(i) + 0.25) / 20
		sin, cos := math.Sincos(a)
		k.rivet("platform", v3{r * cos, platformY + 0.004, r * sin}, v3{cos, 0, sin}, 0.009)
	}
}

func lamp(k *kit) {
	const y0 = lampFootY
	base := newProfile(false, corner{0.155, y0 - 0.02, 0}, corner{0.155, y0 + 0.012, 0.004}, corner{0.125, y0 + 0.014, 0.006}, corner{0.118, y0 + 0.10, 0.01}, corner{0.132, y0 + 0.115, 0.006}, corner{0.132, y0 + 0.14, 0.006}, corner{0.095, y0 + 0.142, 0})
	k.add(revolve("lamp_base", base, v3{}, 0, turn, 32))
	for i := range 12 {
		a := turn * (float64(i) + 0.5) / 12
		sin, cos := math.Sincos(a)
		k.rivet("lamp_base", v3{0.14 * cos, y0 + 0.0125, 0.14 * sin}, v3{0, 1, 0}, 0.007)
	}
	// The lens: barrel-shaped glass with prism rings that only the high-poly has.
	lens := newProfile(false, corner{0.104, y0 + 0.138, 0}, corner{0.112, y0 + 0.22, 0.12}, corner{0.104, y0 + 0.302, 0})
	g := revolve("lens", lens, v3{}, 0, turn, 32)
	g.fine = 0.006
	g.t = []float64{0, 0.2, 0.4, 0.6, 0.8, 1}
	for i := range 9 {
		g.creaseT = append(g.creaseT, (float64(i)+0.5)/9)
	}
	g.bump = func(s, t float64) float64 {
		w := t*9 - math.Floor(t*9)
		return 0.005 * (1 - math.Abs(2*w-1)) * min(1, 8*t, 8*(1-t))
	}
	k.add(g)
	cap := newProfile(false, corner{0.098, y0 + 0.296, 0}, corner{0.135, y0 + 0.298, 0.004}, corner{0.135, y0 + 0.322, 0.006}, corner{0.112, y0 + 0.334, 0.008}, corner{0.085, y0 + 0.385, 0.05}, corner{0.03, y0 + 0.405, 0.012}, corner{0.026, y0 + 0.43, 0.006}, corner{0.0001, y0 + 0.436, 0})
	c := revolve("lamp_cap", cap, v3{}, 0, turn, 32)
	k.add(c)
	k.add(rod("bird_spike", v3{0, y0 + 0.42, 0}, v3{0, y0 + 0.52, 0}, 0.005, 6))
	// The guard: two rings and eight bars bent over at the top.
	x, z := v3{1, 0, 0}, v3{0, 0, 1}
	for _, y := range []float64{0.165, 0.30} {
		k.add(ring("guard", v3{0, y0 + y, 0}, x, z, 0.19, 0.0085, 0, turn, 32, 7))
	}
	for i := range 8 {
		sin, cos := math.Sincos(turn * (float64(i) + 0.5) / 8)
		bend := func(t float64) v3 {
			// Up the side, then a quarter turn inwards, into the cap.
			const rise, r, turnIn = 0.325, 0.19, 0.115
			d := t * (rise + turnIn*math.Pi/2)
			if d < rise {
				return v3{r * cos, y0 + d - 0.005, r * sin}
			}
			s2, c2 := math.Sincos((d - rise) / turnIn)
			q := r - turnIn + turnIn*c2
			return v3{q * cos, y0 + rise - 0.005 + 0.055*s2, q * sin}
		}
		k.add(tube("guard", bend, 0.325+0.115*math.Pi/2, 0.0085, 7, []float64{0, 0.643, 0.71, 0.78, 0.85, 0.92, 1}))
	}
}

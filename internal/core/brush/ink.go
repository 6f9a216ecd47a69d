package brush

import (
	"math"

	"crust/internal/core/geom"
	"crust/internal/core/letters"
)

// Ink is a stroke made ready to be laid: its dabs in order, or for brushes that sweep, the pieces of its path.
type Ink struct {
	stroke *Stroke
	tip    *Tip
	swept  bool
	marks  []mark
	stable int        // marks that do not change when the stroke goes on
	boxes  []geom.Box // of so many marks each
	first  geom.Vec3  // the normal where it began
	// Of a stamp: half of its width and height and its depth, in metres, and its text.
	half    [2]float32
	deep    float32
	outline *letters.Outline
}

// perBox is how many marks share a box.
const perBox = 16

// mark is a dab, or a ball that moves along a straight line.
type mark struct {
	at, way   geom.Vec3 // where it lies, and how far it moves
	n, dn     geom.Vec3 // the surface's normal, and its change
	r, dr     float32   // radius in metres
	hard      float32
	dhard     float32
	flow      float32
	dflow     float32
	right, up geom.Vec3 // of the tip
	slim      float32   // its height over its width
	away      float32   // metres that it fell beside the path
	seed      uint32
	box       geom.Box
	shift     geom.Vec3 // of the copy of a square that repeats
}

// Ready makes a stroke's ink.
func Ready(s *Stroke) *Ink {
	k := &Ink{stroke: s, tip: tipOf(s.Brush.Tip), swept: s.Brush.swept() || s.Work != "", first: geom.Vec3{Y: 1}}
	if k.tip == nil || len(s.Paths) == 0 {
		return k
	}
	k.first = s.Paths[0][0].Normal()
	copies := s.copies()
	if s.Stamp != nil {
		k.swept = false
		k.half[0], k.half[1] = s.Half()
		k.deep = s.depth()
		if t := s.Stamp.Text; t != nil {
			k.outline = t.Outline()
		}
	}
	for i, path := range s.Paths {
		loose := s.loose && (i == len(s.Paths)-1 || s.Stamp != nil)
		if s.Stamp != nil {
			k.stamp(path, uint32(i), copies)
		} else if k.swept {
			k.sweep(path, copies, loose)
		} else {
			k.dab(path, uint32(i), copies, loose)
		}
		if !loose {
			k.stable = len(k.marks)
		}
	}
	for from := 0; from < len(k.marks); from += perBox {
		box := geom.EmptyBox()
		for i := from; i < min(len(k.marks), from+perBox); i++ {
			box = box.Union(k.marks[i].box)
		}
		k.boxes = append(k.boxes, box)
	}
	return k
}

// Bytes is about what the ink takes.
func (k *Ink) Bytes() int { return 200 * len(k.marks) }

// turned is one of the copies of a stroke.
type turned struct {
	centre   geom.Vec3
	mirror   geom.Vec3 // 1 or −1 each way
	sin, cos float32   // about the upright axis
	shift    geom.Vec3 // after that
}

func (t *turned) way(v geom.Vec3) geom.Vec3 {
	v = geom.Vec3{X: v.X * t.mirror.X, Y: v.Y * t.mirror.Y, Z: v.Z * t.mirror.Z}
	return geom.Vec3{X: t.cos*v.X + t.sin*v.Z, Y: v.Y, Z: t.cos*v.Z - t.sin*v.X}
}

func (t *turned) place(p geom.Vec3) geom.Vec3 {
	return t.centre.Add(t.way(p.Sub(t.centre))).Add(t.shift)
}

// copies lists where the stroke is made: as it is, and again; on a square that repeats, on its copies, too.
func (s *Stroke) copies() (out []turned) {
	once := s.again()
	if s.square == nil {
		return once
	}
	for v := -farCopies; v <= farCopies; v++ {
		for u := -farCopies; u <= farCopies; u++ {
			for _, t := range once {
				t.shift = s.square.Shift(u, v)
				out = append(out, t)
			}
		}
	}
	return out
}

// farCopies is from how many squares away what a stroke does comes back to the square: paths lie on it or on one beside it.
const farCopies = 2

// Repeated is the stroke on a square that repeats: what it does beyond one side comes in on the other. Of all copies that counts
// which touches the square itself. Without a square it is as it is.
func (s *Stroke) Repeated(square *geom.Square) *Stroke {
	if square == nil {
		return s
	}
	out := *s
	out.square, out.within = square, square.Box()
	return &out
}

// counts tells whether something in a box is wanted.
func (s *Stroke) counts(box *geom.Box) bool { return s.square == nil || Meets(box, &s.within) }

// again lists the stroke and its mirrored and turned copies.
func (s *Stroke) again() (out []turned) {
	a := s.Again
	if a == nil {
		return []turned{{mirror: geom.Vec3{X: 1, Y: 1, Z: 1}, cos: 1}}
	}
	signs := func(on bool) []float32 {
		if on {
			return []float32{1, -1}
		}
		return []float32{1}
	}
	for n := range max(1, a.Turns) {
		sin, cos := math.Sincos(2 * math.Pi * float64(n) / float64(max(1, a.Turns)))
		for _, x := range signs(a.X) {
			for _, y := range signs(a.Y) {
				for _, z := range signs(a.Z) {
					out = append(out, turned{centre: geom.FromArray(a.Centre), mirror: geom.Vec3{X: x, Y: y, Z: z}, sin: float32(sin), cos: float32(cos)})
				}
			}
		}
	}
	return out
}

// pressed is what is left where the pressure is light, of what it takes a share away from, along a curve.
func pressed(share, curve, pressure float32) float32 {
	if share == 0 {
		return 1
	}
	return 1 - share + share*float32(math.Pow(float64(pressure), math.Exp2(float64(curve))))
}

// wide is the radius at a pressure, as a share of that at full pressure.
func (b *Brush) wide(pressure float32) float32 { return pressed(b.PressSize, b.CurveSize, pressure) }

// hardness at a pressure.
func (b *Brush) hard(pressure float32) float32 {
	return b.Hardness * pressed(b.PressHard, b.CurveHard, pressure)
}

// sweep lays the pieces of a path.
func (k *Ink) sweep(path []Point, copies []turned, loose bool) {
	s := k.stroke
	b := &s.Brush
	for i := range max(1, len(path)-1) {
		if loose && i == max(1, len(path)-1)-1 {
			k.stable = len(k.marks)
		}
		p, q := &path[i], &path[min(i+1, len(path)-1)]
		r := s.Size / 2 * b.wide(p[6])
		m := mark{r: r, dr: s.Size/2*b.wide(q[6]) - r, hard: b.hard(p[6]), flow: 1}
		m.dhard = b.hard(q[6]) - m.hard
		if s.stain {
			m.flow, m.dflow = p[6], q[6]-p[6]
		}
		for c := range copies {
			t := &copies[c]
			m.at, m.n = t.place(p.At()), t.way(p.Normal())
			m.way, m.dn = t.place(q.At()).Sub(m.at), t.way(q.Normal()).Sub(m.n)
			m.enclose(max(m.r, m.r+m.dr))
			if m.shift = t.shift; s.counts(&m.box) {
				k.marks = append(k.marks, m)
			}
		}
	}
}

func (m *mark) enclose(r float32) {
	grow := geom.Vec3{X: r, Y: r, Z: r}
	end := m.at.Add(m.way)
	m.box = geom.Box{Min: m.at.Min(end).Sub(grow), Max: m.at.Max(end).Add(grow)}
}

// dab lays dabs along a path, at the brush's spacing from its beginning on.
func (k *Ink) dab(path []Point, number uint32, copies []turned, loose bool) {
	s := k.stroke
	b := &s.Brush
	n := uint32(0)
	put := func(p *Point, along geom.Vec3) {
		for range int(b.Count) {
			k.put(p, along, hash(n, number, s.Seed), copies)
			n++
		}
	}
	if len(path) == 1 {
		if loose {
			k.stable = len(k.marks)
		}
		put(&path[0], geom.Vec3{})
		return
	}
	left := float32(0) // of the way to the next dab
	for i := 1; i < len(path); i++ {
		if loose && i == len(path)-1 {
			k.stable = len(k.marks)
		}
		p, q := &path[i-1], &path[i]
		way := q.At().Sub(p.At())
		long := way.Len()
		at := left
		for ; at <= long && len(k.marks) < maxMarks; at += max(1e-6, b.Spacing*s.Size*b.wide(p[6])) {
			var m Point
			t := float32(0)
			if long > 0 {
				t = at / long
			}
			for j := range m {
				m[j] = p[j] + (q[j]-p[j])*t
			}
			put(&m, way)
		}
		left = at - long
	}
}

// maxMarks bounds the dabs of a stroke.
const maxMarks = 200_000

// put lays one dab and its copies.
func (k *Ink) put(p *Point, along geom.Vec3, seed uint32, copies []turned) {
	s := k.stroke
	b := &s.Brush
	chance := seed
	next := func() float32 { chance = mix(chance + 0x9e3779b9); return unit(chance) }
	n := p.Normal().Norm()
	m := mark{seed: seed, hard: b.hard(p[6])}
	m.r = s.Size / 2 * b.wide(p[6]) * (1 - b.JitterSize*next())
	m.flow = b.Flow * pressed(b.PressFlow, b.CurveFlow, p[6]) * (1 - b.JitterFlow*next()) * (1 - b.JitterValue*next())
	right, up := upright(n)
	if b.Way == wayAlong && along.Dot(along) > 0 {
		right = along.Sub(n.Mul(along.Dot(n))).Norm()
		up = n.Cross(right)
	}
	turn := float64(b.Turn)/180 + float64(b.JitterTurn*(2*next()-1))
	m.slim = b.Roundness
	if lean, far := p.leans(n); b.Way == wayChance && b.TiltLong*far == 0 {
		turn += 2 * float64(next())
	} else if far > 0.02 && (b.TiltLong > 0 || b.Way == wayLean) {
		right, up = lean, n.Cross(lean)
		long := 1 + b.TiltLong*far
		m.r, m.slim = m.r*long, m.slim/long
	}
	sin, cos := math.Sincos(math.Pi * turn)
	right, up = right.Mul(float32(cos)).Add(up.Mul(float32(sin))), up.Mul(float32(cos)).Sub(right.Mul(float32(sin)))
	at := p.At()
	if b.Scatter > 0 {
		// Even over a disc.
		m.away = s.Size * b.Scatter * root(next())
		sin, cos := math.Sincos(2 * math.Pi * float64(next()))
		t, u := geom.Basis(n)
		at = at.Add(t.Mul(m.away * float32(cos))).Add(u.Mul(m.away * float32(sin)))
	}
	for c := range copies {
		t := &copies[c]
		m.at, m.n, m.right, m.up = t.place(at), t.way(n), t.way(right), t.way(up)
		m.enclose(m.r*math.Sqrt2 + m.away/2)
		if m.shift = t.shift; s.Stamp != nil || s.counts(&m.box) {
			k.marks = append(k.marks, m)
		}
	}
}

// Places are places of the surface, by component; Boxes hold all of them, and so do Runs.
type Places struct {
	X, Y, Z, NX, NY, NZ []float32
	Boxes               []geom.Box
	Pitch               float32    // about how far they lie apart, in metres
	Runs                []geom.Box // of Run places each that follow each other
}

// Run is how many places share a box of Places.Runs.
const Run = 32

// Part is the places of one run.
func (p *Places) Part(r int) Places {
	from, to := r*Run, min(len(p.X), (r+1)*Run)
	return Places{X: p.X[from:to], Y: p.Y[from:to], Z: p.Z[from:to], NX: p.NX[from:to], NY: p.NY[from:to], NZ: p.NZ[from:to], Boxes: p.Runs[r : r+1], Runs: p.Runs[r : r+1], Pitch: p.Pitch}
}

// FindRuns finds the boxes of runs.
func (p *Places) FindRuns() {
	for from := 0; from < len(p.X); from += Run {
		box := geom.EmptyBox()
		for i := from; i < min(len(p.X), from+Run); i++ {
			box = box.Add(geom.Vec3{X: p.X[i], Y: p.Y[i], Z: p.Z[i]})
		}
		p.Runs = append(p.Runs, box)
	}
}

// Meets tells whether two boxes have places in common.
func Meets(a, b *geom.Box) bool {
	return a.Min.X <= b.Max.X && b.Min.X <= a.Max.X && a.Min.Y <= b.Max.Y && b.Min.Y <= a.Max.Y && a.Min.Z <= b.Max.Z && b.Min.Z <= a.Max.Z
}

func meetsAny(a *geom.Box, of []geom.Box) bool {
	for i := range of {
		if Meets(a, &of[i]) {
			return true
		}
	}
	return false
}

// Stable is how many marks do not change when the stroke goes on, and All is how many there are now.
func (k *Ink) Stable() int { return k.stable }
func (k *Ink) All() int    { return len(k.marks) }

// Boxes are those of the marks from one on, some marks in one.
func (k *Ink) Boxes(from int) (out []geom.Box) {
	for i := from; i < len(k.marks); i++ {
		if (i-from)%perBox == 0 {
			out = append(out, geom.EmptyBox())
		}
		out[len(out)-1] = out[len(out)-1].Union(k.marks[i].box)
	}
	return out
}

// Lay lays marks, from one to before another, over the coverage so far.
func (k *Ink) Lay(p *Places, from, to int, cover []float32) {
	for i := from; i < to; {
		if i%perBox == 0 && !meetsAny(&k.boxes[i/perBox], p.Boxes) {
			i += perBox
			continue
		}
		if m := &k.marks[i]; meetsAny(&m.box, p.Boxes) {
			for r := range p.Runs {
				if Meets(&m.box, &p.Runs[r]) {
					k.layRun(m, p, r*Run, min(len(p.X), (r+1)*Run), cover)
				}
			}
		}
		i++
	}
}

func (k *Ink) layRun(m *mark, p *Places, from, to int, cover []float32) {
	if s := k.stroke; s.square != nil && s.stencil != nil {
		k.cut(m, p, from, to, cover)
		return
	}
	k.layMark(m, p, from, to, cover)
}

// cut lays a mark through the stencil as it lies over the mark's own copy of a square that repeats.
func (k *Ink) cut(m *mark, p *Places, from, to int, cover []float32) {
	s := k.stroke
	var room [Run]float32
	alone := room[:to-from]
	part := Places{X: p.X[from:to], Y: p.Y[from:to], Z: p.Z[from:to], NX: p.NX[from:to], NY: p.NY[from:to], NZ: p.NZ[from:to], Pitch: p.Pitch}
	k.layMark(m, &part, 0, to-from, alone)
	for i, a := range alone {
		if a == 0 {
			continue
		}
		a *= s.Stencil.share(s.stencil, geom.Vec3{X: part.X[i], Y: part.Y[i], Z: part.Z[i]}.Sub(m.shift), p.Pitch)
		if k.swept || k.tip.profile || s.Brush.Flow == 1 && s.Brush.PressFlow == 0 {
			cover[from+i] = max(cover[from+i], a)
		} else {
			cover[from+i] += (1 - cover[from+i]) * a
		}
	}
}

func (k *Ink) layMark(m *mark, p *Places, from, to int, cover []float32) {
	switch {
	case k.stroke.Stamp != nil:
		m.press(k, p, from, to, cover)
	case k.swept:
		m.sweep(p, from, to, cover)
	default:
		m.dab(k, p, from, to, cover)
	}
}

// held is how much of a ball counts at a place whose normal is n, d away from its middle, where the surface faces N: nothing on the
// far side of a wall, and nothing on another sheet that faces the same way.
func held(d, n, N geom.Vec3, r float32) float32 {
	dot := n.Dot(N)
	facing := dot*2 + 1.2 // full up to some 95°, none from about 127°
	if facing <= 0 {
		return 0
	}
	off := d.Dot(n.Add(N))
	// Sheets count where both face much the same way: round a corner the ball goes on.
	sheet := max(2-abs(off)*2/r, (0.5-dot)*2.5)
	if sheet <= 0 {
		return 0
	}
	return min(1, facing) * min(1, sheet)
}

// sweep lays a moving ball: at each place the most that the ball lays down there in passing.
func (m *mark) sweep(p *Places, from, to int, cover []float32) {
	long := m.way.Dot(m.way)
	inv := float32(0)
	if long > 0 {
		inv = 1 / long
	}
	m.sweepPlain(p, m.sweepRun(p, from, to, inv, cover), to, inv, cover)
}

func (m *mark) sweepPlain(p *Places, from, to int, inv float32, cover []float32) {
	for i := from; i < to; i++ {
		d := geom.Vec3{X: p.X[i] - m.at.X, Y: p.Y[i] - m.at.Y, Z: p.Z[i] - m.at.Z}
		t := geom.Clamp01(d.Dot(m.way) * inv)
		d = d.Sub(m.way.Mul(t))
		far := d.Dot(d)
		r := m.r + m.dr*t
		// A fall of less than a texel reaches half of one beyond the rim.
		if out := r + p.Pitch/2; far >= out*out {
			continue
		}
		wide := (1 - m.hard - m.dhard*t) * r
		fall := max(wide, p.Pitch)
		x := geom.Clamp01(0.5 + (r-wide/2-root(far))/fall)
		v := x * x * (3 - 2*x) * thin(r, fall) * (m.flow + m.dflow*t)
		if v <= cover[i] {
			continue
		}
		v *= held(d, geom.Vec3{X: p.NX[i], Y: p.NY[i], Z: p.NZ[i]}, m.n.Add(m.dn.Mul(t)), r)
		cover[i] = max(cover[i], v)
	}
}

// thin is how much is left of a line whose radius is less than half of what it falls over: as much as it covers of a texel.
func thin(r, fall float32) float32 {
	if 2*r >= fall {
		return 1
	}
	out := r + fall/2
	return min(1, 2*r*fall/(out*out))
}

const (
	// finePart is how much of a tip's radius a part of a texel may be, and mostParts how many parts a texel has each way.
	finePart  = 0.06
	mostParts = 6
)

// dab lays one dab.
func (m *mark) dab(k *Ink, p *Places, from, to int, cover []float32) {
	b := &k.stroke.Brush
	inv := 1 / m.r
	l := look{hard: m.hard, grain: b.Grain, soft: p.Pitch * inv, seed: m.seed, alpha: k.stroke.alpha}
	// Where a texel is a good part of the tip, its mean counts.
	parts := min(mostParts, max(1, int(math.Ceil(float64(l.soft/finePart)))))
	step := l.soft / float32(parts)
	l.soft = step
	limit := m.r*math.Sqrt2 + m.away/2 + p.Pitch
	// Dabs that lay down all that they can do not add up: where rims lie over each other they would grow by what a texel blurs.
	most := k.tip.profile || b.Flow == 1 && b.PressFlow == 0
	for i := from; i < to; i++ {
		d := geom.Vec3{X: p.X[i] - m.at.X, Y: p.Y[i] - m.at.Y, Z: p.Z[i] - m.at.Z}
		far := d.Dot(d)
		if far > limit*limit {
			continue
		}
		u, v := d.Dot(m.right)*inv, d.Dot(m.up)*inv
		if m.away == 0 {
			// Round a corner the dab goes on: places lie as far from its middle as they do in space.
			if flat := u*u + v*v; flat > 1e-12 {
				s := root(far * inv * inv / flat)
				u, v = u*s, v*s
			}
		}
		if out := math.Sqrt2 + step*float32(parts); u*u+v*v > out*out {
			continue
		}
		a := float32(0)
		for j := range parts {
			for i := range parts {
				x, y := u+(float32(2*i+1-parts))*step/2, (v+(float32(2*j+1-parts))*step/2)/m.slim
				if x*x+y*y <= 2 {
					a += k.tip.at(&l, x, y)
				}
			}
		}
		a *= m.flow / float32(parts*parts)
		if a <= 0 {
			continue
		}
		a *= held(d, geom.Vec3{X: p.NX[i], Y: p.NY[i], Z: p.NZ[i]}, m.n, m.r+m.away)
		if most {
			cover[i] = max(cover[i], a)
		} else {
			cover[i] += (1 - cover[i]) * a
		}
	}
}

// Finish turns the coverage of a stroke into what it lays down: no more than its opacity, and nothing where it is held from.
func (k *Ink) Finish(p *Places, cover []float32) {
	s := k.stroke
	for i := range cover {
		cover[i] = min(1, cover[i]) * s.Brush.Opacity
	}
	if t := s.Stencil; t != nil && s.stencil != nil && s.square == nil {
		for i, c := range cover {
			if c > 0 {
				cover[i] *= t.share(s.stencil, geom.Vec3{X: p.X[i], Y: p.Y[i], Z: p.Z[i]}, p.Pitch)
			}
		}
	}
	h := s.Hold
	if h == nil || h.Angle == 0 && !h.Front {
		return
	}
	edge, eye := float32(-2), geom.FromArray(h.Eye)
	if h.Angle > 0 {
		edge = float32(math.Cos(float64(h.Angle) * math.Pi / 180))
	}
	for i := range cover {
		if cover[i] == 0 {
			continue
		}
		n := geom.Vec3{X: p.NX[i], Y: p.NY[i], Z: p.NZ[i]}
		if n.Dot(k.first) < edge || h.Front && n.Dot(eye.Sub(geom.Vec3{X: p.X[i], Y: p.Y[i], Z: p.Z[i]})) <= 0 {
			cover[i] = 0
		}
	}
}

// Stroke is what the ink was made of.
func (k *Ink) Stroke() *Stroke { return k.stroke }

package brush

import (
	"fmt"
	"math"

	"crust/internal/core/geom"
	"crust/internal/core/letters"
)

// Stamp makes of a stroke something that is placed: its brush's tip, or a text, once where its path begins, or in a row along
// the path. The stroke's size is how wide the tip is, or how high the capitals of the text are, in metres.
type Stamp struct {
	Text *letters.Text `json:"text,omitempty"` // in place of the tip
	// Straight stamps go straight down, as a projector's light does; others wrap round the surface.
	Straight bool    `json:"straight,omitempty"`
	Depth    float32 `json:"depth,omitempty"` // metres that the surface may lie off; 0 for half the stamp's smaller side
	Gap      float32 `json:"gap,omitempty"`   // metres from one to the next in a row, about: ends are kept; 0 for one alone
}

// MaxCopies bounds the stamps of a row.
const MaxCopies = 2000

func (p *Stamp) check(s *Stroke) error {
	if p.Text != nil {
		if err := p.Text.Check(); err != nil {
			return err
		}
	}
	if !(p.Depth >= 0 && p.Depth <= MaxSize) {
		return fmt.Errorf("the depth of a stamp is %g m; it goes from 0 to %g", p.Depth, MaxSize)
	}
	if !(p.Gap >= 0 && p.Gap <= MaxSize) {
		return fmt.Errorf("the gap of a row is %g m; it goes from 0 to %g", p.Gap, MaxSize)
	}
	if long := s.Length(); p.Gap > 0 && long/p.Gap >= MaxCopies {
		return fmt.Errorf("a row of %.3g m with gaps of %.3g m has too many stamps; %d are the most", long, p.Gap, MaxCopies)
	}
	if s.Fill != "" {
		return fmt.Errorf("a stamp does not fill; leave “fill” out")
	}
	return nil
}

// Half is half the width and half the height of what is placed, in metres.
func (s *Stroke) Half() (wide, high float32) {
	if s.Stamp == nil || s.Stamp.Text == nil {
		return s.Size / 2, s.Size / 2 * s.Brush.Roundness
	}
	o := s.Stamp.Text.Outline()
	return o.Wide * s.Size, o.High * s.Size
}

// depth is how far the surface may lie off.
func (s *Stroke) depth() float32 {
	if s.Stamp.Depth > 0 {
		return s.Stamp.Depth
	}
	wide, high := s.Half()
	return min(wide, high)
}

// places are the middles of a stamp's copies along a path, with the way that the path takes there.
func (p *Stamp) places(path []Point, put func(at Point, along geom.Vec3)) {
	long := float32(0)
	for i := 1; i < len(path); i++ {
		a, b := path[i-1].At(), path[i].At()
		long += a.Dist(b)
	}
	n := 1
	if p.Gap > 0 {
		n = min(MaxCopies, int(long/p.Gap+0.5)+1)
	}
	if n == 1 {
		along := geom.Vec3{}
		if len(path) > 1 {
			along = path[1].At().Sub(path[0].At())
		}
		put(path[0], along)
		return
	}
	step := long / float32(n-1)
	gone, k := float32(0), 0
	for i := 1; i < len(path); i++ {
		a, b := &path[i-1], &path[i]
		way := b.At().Sub(a.At())
		piece := way.Len()
		for ; k < n && (float32(k)*step <= gone+piece || i == len(path)-1); k++ {
			t := float32(0)
			if piece > 0 {
				t = geom.Clamp01((float32(k)*step - gone) / piece)
			}
			var m Point
			for j := range m {
				m[j] = a[j] + (b[j]-a[j])*t
			}
			put(m, way)
		}
		gone += piece
	}
}

// stamp lays the copies of a stamp.
func (k *Ink) stamp(path []Point, number uint32, copies []turned) {
	s := k.stroke
	wide, high, deep := k.half[0], k.half[1], k.deep
	n := uint32(0)
	s.Stamp.places(path, func(at Point, along geom.Vec3) {
		from := len(k.marks)
		k.put(&at, along, hash(n, number, s.Seed), copies)
		n++
		for i := from; i < len(k.marks); i++ {
			m := &k.marks[i]
			// Round a bend it reaches as far as its half diagonal along the surface, and no further in space.
			m.enclose(float32(math.Hypot(float64(wide), float64(high)))*m.r*2/s.Size + m.away)
			if s.Stamp.Straight {
				grow := m.n.Mul(deep)
				m.box = m.box.Union(geom.Box{Min: m.box.Min.Add(grow), Max: m.box.Max.Add(grow)}).Union(geom.Box{Min: m.box.Min.Sub(grow), Max: m.box.Max.Sub(grow)})
			}
		}
		kept := k.marks[:from]
		for _, m := range k.marks[from:] {
			if s.counts(&m.box) {
				kept = append(kept, m)
			}
		}
		k.marks = kept
	})
}

// onto is where a place lies on a stamp, in metres to its right and up, and how much of it counts there.
func (m *mark) onto(p *Stamp, d, n geom.Vec3, deep float32) (x, y, share float32) {
	x, y = d.Dot(m.right), d.Dot(m.up)
	off := d.Dot(m.n)
	if p.Straight {
		// What stands edge on to it would be smeared, so it fades from about 75° on.
		return x, y, geom.Clamp01(5-5*abs(off)/deep) * geom.Clamp01((n.Dot(m.n)-0.1)*6)
	}
	dot := n.Dot(m.n)
	// Where the surface has turned by some angle it has bent away by the sine of half of it, if it bends evenly; another sheet
	// that faces the same way has not.
	bent := d.Len() * root((1-dot)/2)
	share = geom.Clamp01(5-5*abs(off)/(deep+1.3*bent)) * geom.Clamp01(dot*2+1.2)
	if share == 0 {
		return x, y, 0
	}
	// The surface bends about one axis between the two normals; along the bend it lies as far away as the arc is long.
	bend := n.Sub(m.n.Mul(dot))
	if long := bend.Len(); long > 1e-4 {
		bend = bend.Mul(1 / long)
		along := d.Dot(bend)
		if far := max(along, -along); far > 1e-9 {
			turn := 2 * math.Atan2(float64(abs(off)), float64(far))
			if turn > 1e-3 && turn < 3 {
				more := along * (float32(turn/math.Sin(turn)) - 1)
				x += more * bend.Dot(m.right)
				y += more * bend.Dot(m.up)
			}
		}
	}
	return x, y, share
}

// press lays one stamp.
func (m *mark) press(k *Ink, p *Places, from, to int, cover []float32) {
	s := k.stroke
	wide, high := k.half[0]*m.r*2/s.Size, k.half[1]*m.r*2/s.Size
	deep, inv := k.deep, 1/m.r
	l := look{hard: m.hard, grain: s.Brush.Grain, seed: m.seed, alpha: s.alpha}
	parts := min(mostParts, max(1, int(math.Ceil(float64(p.Pitch*inv/finePart)))))
	if k.outline != nil {
		parts = 1 // letters know how much of a texel they cover
		if p.Pitch*inv > 0.25 {
			parts = 3
		}
	}
	step := p.Pitch / float32(parts)
	l.soft = step * inv
	for i := from; i < to; i++ {
		d := geom.Vec3{X: p.X[i] - m.at.X, Y: p.Y[i] - m.at.Y, Z: p.Z[i] - m.at.Z}
		x, y, share := m.onto(s.Stamp, d, geom.Vec3{X: p.NX[i], Y: p.NY[i], Z: p.NZ[i]}, deep)
		if share == 0 || abs(x) > wide+p.Pitch || abs(y) > high+p.Pitch {
			continue
		}
		a := float32(0)
		for j := range parts {
			for i := range parts {
				u, v := x+float32(2*i+1-parts)*step/2, y+float32(2*j+1-parts)*step/2
				if k.outline != nil {
					soft := step / s.Size
					a += geom.Clamp01(0.5 + k.outline.Inside(u*inv/2, v*inv/2, soft)/soft)
				} else if u, v = u*inv, v*inv/s.Brush.Roundness; u*u+v*v <= 2 {
					a += k.tip.at(&l, u, v)
				}
			}
		}
		cover[i] = max(cover[i], a*m.flow*share/float32(parts*parts))
	}
}

// Coloured tells whether the stroke's picture has colours of its own, which it lays down where it is given none.
func (s *Stroke) Coloured() bool {
	return s.decal() && !s.alpha.Normal && (s.Own == nil || s.Own.Colour == "")
}

// Leans tells whether the stroke's picture is a normal map.
func (s *Stroke) Leans() bool { return s.decal() && s.alpha.Normal }

// decal tells whether the stroke is a stamp of a picture with more than grey.
func (s *Stroke) decal() bool {
	return s.Stamp != nil && s.Stamp.Text == nil && s.Brush.Tip == tipPicture && s.alpha != nil && s.alpha.Colour != nil
}

// Colours writes the colours of a coloured stamp where it lies, or the ways that its normals lean; other places stay.
func (k *Ink) Colours(p *Places, rgb *[3][]float32) {
	s := k.stroke
	deep := k.deep
	for at := range k.marks {
		m := &k.marks[at]
		if !meetsAny(&m.box, p.Boxes) {
			continue
		}
		inv := 1 / m.r
		for i := range p.X {
			d := geom.Vec3{X: p.X[i] - m.at.X, Y: p.Y[i] - m.at.Y, Z: p.Z[i] - m.at.Z}
			x, y, share := m.onto(s.Stamp, d, geom.Vec3{X: p.NX[i], Y: p.NY[i], Z: p.NZ[i]}, deep)
			if share == 0 || abs(x) > m.r || abs(y) > m.r {
				continue
			}
			c, some := s.alpha.colour(x*inv, y*inv/s.Brush.Roundness, p.Pitch*inv)
			if !some {
				continue
			}
			if s.alpha.Normal {
				c = m.lean(c, geom.Vec3{X: p.NX[i], Y: p.NY[i], Z: p.NZ[i]})
			}
			for j := range rgb {
				rgb[j][i] = c[j]
			}
		}
	}
}

// leastZ bounds how steep a normal of a stamp can be: some 87°.
const leastZ = 0.05

// lean is the way in space, along the surface, that a normal of the stamp's picture leans at a place: its slope.
func (m *mark) lean(rgb [3]float32, n geom.Vec3) [3]float32 {
	level := func(v float32) float32 { // 127 and 128 are both level
		if x := 2*v - 1; x < -1.01/255 || x > 1.01/255 {
			return x
		}
		return 0
	}
	x, y := level(rgb[0]), level(rgb[1])
	z := root(max(leastZ*leastZ, 1-x*x-y*y))
	// The stamp's right as it lies there, bent with the surface.
	right := m.right.Sub(n.Mul(m.right.Dot(n))).Norm()
	return right.Mul(x / z).Add(n.Cross(right).Mul(y / z)).Array()
}

// Meets tells whether something of a stroke lies at a place, about.
func (s *Stroke) Meets(at geom.Vec3) bool {
	if s.Stamp == nil {
		return s.Distance(at) <= s.Size/2
	}
	k := Ready(s)
	for i := range k.marks {
		m := &k.marks[i]
		d := at.Sub(m.at)
		if x, y := d.Dot(m.right), d.Dot(m.up); abs(d.Dot(m.n)) <= max(2*k.deep, d.Len()*0.8) && abs(x) <= k.half[0] && abs(y) <= k.half[1] {
			return true
		}
	}
	return false
}

package brush

import (
	"errors"

	"crust/internal/core/geom"
)

// Pen takes the samples of a stroke while it is made and keeps of them what matters: those between two points are left out
// while they lie on the line from one to the other. What it has kept does not change any more, but for the last point.
type Pen struct {
	stroke  Stroke
	between []Point // samples since the last point that stays
	points  int
}

// Of what leaves samples out.
const (
	mostOff   = 0.005 // how far they may lie beside the line, in sizes
	mostPress = 0.02  // how much their pressure may differ from what lies between
	leastTurn = 0.99  // cosine of how much the surface may turn
	longest   = 0.2   // how long a line may be, in sizes
	mostLean  = 0.05  // how much the pen may lean otherwise than between
	leastStep = 0.005 // samples nearer than this to the one before are left out
)

// NewPen begins a stroke; its paths are to come.
func NewPen(s Stroke) (*Pen, error) {
	s.Paths, s.loose = nil, false
	probe := s
	probe.Paths = [][]Point{{{4: 1}}}
	if err := probe.Check(); err != nil {
		return nil, err
	}
	return &Pen{stroke: s}, nil
}

// Lift takes the pen off the surface; the next sample begins a new path.
func (p *Pen) Lift() { p.stroke.loose, p.between = false, p.between[:0] }

// Add takes samples in.
func (p *Pen) Add(samples []Point) error {
	for _, at := range samples {
		if err := at.check(); err != nil {
			return err
		}
		if p.points++; p.points > MaxPoints {
			return errors.New("the stroke is too long; lift the pen and go on")
		}
		if err := p.add(at); err != nil {
			return err
		}
	}
	return nil
}

func (p *Pen) add(at Point) error {
	s := &p.stroke
	if !s.loose {
		if len(s.Paths) == MaxPaths {
			return errors.New("the stroke has too many pieces; lift the pen and go on")
		}
		s.Paths = append(s.Paths, []Point{at})
		s.loose = true
		return nil
	}
	path := &s.Paths[len(s.Paths)-1]
	last := &(*path)[len(*path)-1]
	if d := last.At(); d.Dist(at.At()) < leastStep*s.Size && last[6]-at[6] < mostPress && at[6]-last[6] < mostPress && last.Lean().Dist(at.Lean()) < mostLean {
		p.points--
		return nil
	}
	if n := len(*path); n > 1 && p.straight(&(*path)[n-2], &at) {
		p.between = append(p.between, *last)
		*last = at
		return nil
	}
	p.between = p.between[:0]
	*path = append(*path, at)
	return nil
}

// straight tells whether all that lies between two points lies on the line.
func (p *Pen) straight(from, to *Point) bool {
	a, d := from.At(), to.At().Sub(from.At())
	long := d.Dot(d)
	if long > longest*longest*p.stroke.Size*p.stroke.Size || from.Normal().Dot(to.Normal()) < leastTurn {
		return false
	}
	path := p.stroke.Paths[len(p.stroke.Paths)-1]
	on := func(q *Point) bool {
		t := geom.Clamp01(q.At().Sub(a).Dot(d) / max(long, 1e-20))
		press := from[6] + (to[6]-from[6])*t - q[6]
		lean := from.Lean().Lerp(to.Lean(), t).Dist(q.Lean())
		return q.At().Dist(a.Add(d.Mul(t))) <= mostOff*p.stroke.Size && press < mostPress && press > -mostPress && lean < mostLean
	}
	for i := range p.between {
		if !on(&p.between[i]) {
			return false
		}
	}
	return on(&path[len(path)-1])
}

// Stroke is the stroke as far as it has come, nil before the first sample. It does not change when the pen goes on.
func (p *Pen) Stroke() *Stroke {
	if len(p.stroke.Paths) == 0 {
		return nil
	}
	s := p.stroke
	s.Paths = append([][]Point(nil), s.Paths...)
	if s.loose {
		last := &s.Paths[len(s.Paths)-1]
		*last = append([]Point(nil), *last...)
	}
	return &s
}

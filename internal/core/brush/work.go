package brush

import (
	"fmt"
	"math"
	"slices"

	"crust/internal/core/geom"
)

// What a stroke may do with what was painted before it, in place of painting itself.
const (
	WorkSoften = "soften" // takes the mean of what lies round each place
	WorkSmudge = "smudge" // pulls it along
	WorkClone  = "clone"  // lays down what lies elsewhere
)

// Works lists what strokes may do with what lies there; the first is for those that paint.
var Works = []string{"", WorkSoften, WorkSmudge, WorkClone}

func (s *Stroke) checkWork() error {
	switch {
	case !slices.Contains(Works, s.Work):
		return fmt.Errorf("a stroke cannot “%s”; it can soften, smudge or clone", s.Work)
	case s.Work == "":
		return nil
	case s.Fill != "" || s.Stamp != nil || s.Erase:
		return fmt.Errorf("a stroke that is to %s is drawn with a brush and neither fills, stamps nor erases", s.Work)
	case s.Work != WorkClone:
		return nil
	case s.Source == nil:
		return fmt.Errorf("a stroke that clones needs the place that it takes from, “source”")
	case s.Again != nil:
		return fmt.Errorf("a stroke that clones is not mirrored: its source is one place; leave “mirror” out")
	}
	return s.Source.check()
}

// softenShare is how wide a stroke softens in one pass, in sizes.
const softenShare = 0.18

// Blur is the radius that a stroke softens over where its brush is full.
func (s *Stroke) Blur() float32 { return softenShare * s.Size * s.Brush.Flow }

// WorkReach is from how far away a stroke takes what was painted before it; 0 for one that paints.
func (s *Stroke) WorkReach() float32 {
	switch s.Work {
	case WorkSoften:
		return 4 * s.Blur() // after four passes
	case WorkSmudge:
		return s.Size
	case WorkClone:
		first, from := s.Paths[0][0].At(), s.Source.At()
		return first.Dist(from) + s.Size
	}
	return 0
}

// Pull is how far a stroke that smudges has pulled what lies at a place now: the way of its ball while it passed over, as much as its
// fall and flow say, and no longer than its size.
func (k *Ink) Pull(at geom.Vec3) (pull geom.Vec3) {
	for i := range k.marks {
		m := &k.marks[i]
		if b := &m.box; at.X < b.Min.X || at.Y < b.Min.Y || at.Z < b.Min.Z || at.X > b.Max.X || at.Y > b.Max.Y || at.Z > b.Max.Z {
			continue
		}
		// Simpson's rule over the piece.
		sum := float32(0)
		for j, w := range [3]float32{1. / 6, 4. / 6, 1. / 6} {
			t := float32(j) / 2
			d := at.Sub(m.at.Add(m.way.Mul(t)))
			r := m.r + m.dr*t
			fall := geom.Clamp01((r - d.Len()) / max(1e-9, r*(1-m.hard-m.dhard*t)+1e-6))
			sum += w * fall * fall * (3 - 2*fall)
		}
		pull = pull.Add(m.way.Mul(sum))
	}
	pull = pull.Mul(k.stroke.Brush.Flow)
	if long := pull.Len(); long > k.stroke.Size {
		pull = pull.Mul(k.stroke.Size / long)
	}
	return pull
}

// upright is the frame of tips at a normal: its right lies level on walls, and to the right on floors.
func upright(n geom.Vec3) (right, up geom.Vec3) {
	right = geom.Vec3{Y: 1}.Cross(n)
	if right.Dot(right) < 0.02 {
		right = geom.Vec3{X: 1}
	}
	right = right.Sub(n.Mul(right.Dot(n))).Norm()
	return right, n.Cross(right)
}

// Carry is the place, with its normal, that a stroke that clones takes from for another place: as that one lies from where the stroke
// began, so it lies from the source.
func (s *Stroke) Carry(at, n geom.Vec3) (geom.Vec3, geom.Vec3) {
	first := &s.Paths[0][0]
	n0, n1 := first.Normal().Norm(), s.Source.Normal().Norm()
	right0, up0 := upright(n0)
	right1, up1 := upright(n1)
	turn := func(v geom.Vec3) geom.Vec3 {
		return right1.Mul(v.Dot(right0)).Add(up1.Mul(v.Dot(up0))).Add(n1.Mul(v.Dot(n0)))
	}
	return s.Source.At().Add(turn(at.Sub(first.At()))), turn(n)
}

// Round is places spread evenly over a disc of radius 1, and how much each counts, of Vogel's spiral (“A better way to construct the
// sunflower head”, 1979): fewer the further out.
func Round(n int) (out [][3]float32) {
	sum := float32(0)
	for i := range n {
		r := math.Sqrt((float64(i) + 0.5) / float64(n))
		sin, cos := math.Sincos(float64(i) * math.Pi * (3 - math.Sqrt(5)))
		w := float32(1 - r*r)
		out = append(out, [3]float32{float32(r * cos), float32(r * sin), w})
		sum += w
	}
	for i := range out {
		out[i][2] /= sum
	}
	return out
}

package geom

import "math"

// Square is a flat square of the surface that is laid again and again, like a floor of equal tiles: what leaves it on one side
// comes in on the other. Its sides need not be equally long, but stand at a right angle.
type Square struct {
	Low  Vec3 // the corner at UV 0, 0
	U, V Vec3 // its sides along U and V, in metres
}

// At is where a place lies on the square: 0–1 within it, and beyond it the copies go on.
func (s *Square) At(p Vec3) (u, v float32) {
	d := p.Sub(s.Low)
	return d.Dot(s.U) / s.U.Dot(s.U), d.Dot(s.V) / s.V.Dot(s.V)
}

// Fold brings a place of any copy to the same place of the square itself.
func (s *Square) Fold(p Vec3) Vec3 {
	u, v := s.At(p)
	return p.Sub(s.U.Mul(floor(u))).Sub(s.V.Mul(floor(v)))
}

// Shift is the way to the copy that lies so many sides along.
func (s *Square) Shift(u, v int) Vec3 { return s.U.Mul(float32(u)).Add(s.V.Mul(float32(v))) }

// Box holds the square.
func (s *Square) Box() Box {
	return EmptyBox().Add(s.Low).Add(s.Low.Add(s.U)).Add(s.Low.Add(s.V)).Add(s.Low.Add(s.U).Add(s.V))
}

func floor(x float32) float32 { return float32(math.Floor(float64(x))) }

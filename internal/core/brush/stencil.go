package brush

import (
	"errors"
	"math"

	"crust/internal/core/geom"
)

// Stencil is a picture that lay over the view while a stroke was made: the stroke lays down as much as the picture says where the
// picture was seen. Through takes a place (x, y, z, 1) to (u·w, v·w, w), row by row; u and v go from −1 to 1 over the picture, to
// the right and up, and what has no w above 0 was behind the eye.
type Stencil struct {
	Alpha   string      `json:"alpha"` // hash of its picture
	Through [12]float32 `json:"through"`
	Repeat  bool        `json:"repeat,omitempty"` // it goes on beyond its rims
	Invert  bool        `json:"invert,omitempty"` // what is dark lets through
}

func (t *Stencil) check() error {
	if t.Alpha == "" || len(t.Alpha) > 64 {
		return errors.New("a stencil needs a picture")
	}
	for _, v := range t.Through {
		if !(v >= -1e9 && v <= 1e9) {
			return errors.New("a stencil's view is no sound one")
		}
	}
	return nil
}

// AttachStencil gives a stroke the picture of its stencil.
func (s *Stroke) AttachStencil(a *Alpha) {
	if a != nil {
		a.ready()
	}
	s.stencil = a
}

// share is how much a stencil lets through at a place, which is pitch wide.
func (t *Stencil) share(a *Alpha, p geom.Vec3, pitch float32) float32 {
	m := &t.Through
	row := func(k int) float32 { return m[4*k]*p.X + m[4*k+1]*p.Y + m[4*k+2]*p.Z + m[4*k+3] }
	w := row(2)
	if w <= 0 {
		return 0
	}
	u, v := row(0)/w, row(1)/w
	// How fast u and v change with the place.
	fast := float32(0)
	for k, x := range [2]float32{u, v} {
		dx, dy, dz := m[4*k]-x*m[8], m[4*k+1]-x*m[9], m[4*k+2]-x*m[10]
		fast = max(fast, float32(math.Sqrt(float64(dx*dx+dy*dy+dz*dz)))/w)
	}
	out := float32(0)
	if t.Repeat {
		out = a.repeated(u, v, pitch*fast)
	} else {
		out = a.at(u, v, pitch*fast)
	}
	if t.Invert {
		return 1 - out
	}
	return out
}

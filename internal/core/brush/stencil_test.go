package brush

import (
	"math"
	"testing"

	"crust/internal/core/geom"
)

// half is a picture whose left half is full.
func half() *Alpha {
	return NewAlpha(64, 64, func(x, y int) float32 {
		if x < 32 {
			return 1
		}
		return 0
	})
}

// A stencil lets through what its picture says where it was seen, from a camera one metre above the floor that looks down with a
// right angle's view: there the picture lies on x and −z from −1 to 1 m. It goes on beyond its rims when it repeats; inverted, it
// lets the rest through; behind the eye nothing comes.
func TestStencilsLetThrough(t *testing.T) {
	// u·w = x, v·w = −z, w = 1 − y.
	through := [12]float32{1, 0, 0, 0, 0, 0, -1, 0, 0, -1, 0, 1}
	for _, c := range []struct {
		at             geom.Vec3
		repeat, invert bool
		want           float32
	}{
		{geom.Vec3{X: -0.5}, false, false, 1},
		{geom.Vec3{X: 0.5}, false, false, 0},
		{geom.Vec3{X: 0.5}, false, true, 1},
		{geom.Vec3{X: -1.5}, false, false, 0},
		{geom.Vec3{X: -1.5}, false, true, 1},
		{geom.Vec3{X: 1.5}, true, false, 1},
		{geom.Vec3{X: 2.5, Z: 7}, true, false, 0},
		{geom.Vec3{X: -0.4, Y: 0.5}, false, false, 1}, // half as far away it is half as wide
		{geom.Vec3{X: -0.6, Y: 0.5}, false, false, 0},
		{geom.Vec3{X: -0.5, Y: 2}, false, true, 0},
	} {
		s := &Stroke{Brush: New(), Size: 20, Paths: [][]Point{{{0, 0, 0, 0, 1, 0, 1}}}, Stencil: &Stencil{Alpha: "h", Through: through, Repeat: c.repeat, Invert: c.invert}}
		s.Brush.Hardness = 1
		if err := s.Check(); err != nil {
			t.Fatal(err)
		}
		s.AttachStencil(half())
		if got := laid(s, 0.001, []geom.Vec3{c.at}, []geom.Vec3{{Y: 1}})[0]; math.Abs(float64(got-c.want)) > 0.01 {
			t.Errorf("at %v, repeat %v, invert %v: %g, want %g", c.at, c.repeat, c.invert, got, c.want)
		}
	}
	// Far larger texels than the picture's take its mean.
	s := &Stroke{Brush: New(), Size: 20, Paths: [][]Point{{{0, 0, 0, 0, 1, 0, 1}}}, Stencil: &Stencil{Alpha: "h", Through: through, Repeat: true}}
	s.AttachStencil(half())
	if got := laid(s, 3, []geom.Vec3{{X: 0.3}}, []geom.Vec3{{Y: 1}})[0]; math.Abs(float64(got)-0.5) > 0.05 {
		t.Errorf("over 3 m it lets %g through, want its mean", got)
	}
	back, err := Decode(Encode(s))
	if err != nil || back.Stencil == nil || *back.Stencil != *s.Stencil {
		t.Errorf("packed and read again it is %+v, %v", back, err)
	}
	s.Stencil.Through[3] = float32(math.NaN())
	if s.Check() == nil {
		t.Error("a view that is no number was taken")
	}
}

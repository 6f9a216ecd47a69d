package compose

import (
	"math"
	"testing"

	"crust/internal/core/brush"
	"crust/internal/core/letters"
	"crust/internal/core/uv"
)

// A stamp wraps round a cylinder over shuffled and turned islands of two sets as if it were paper: a place is covered where it lies
// within the square as the cylinder is unrolled.
func TestStampsWrapOverSeams(t *testing.T) {
	const radius, size = 0.3, 0.5
	half := size / 2 / math.Sqrt2
	m := cutUp(96, 6, 2, func(s, t float64) [3]float64 {
		return [3]float64{radius * math.Cos(2*math.Pi*s), 1 - t, radius * math.Sin(2*math.Pi*s)}
	})
	b := brush.New()
	b.Tip, b.Hardness = "square", 1
	k := &brush.Stroke{Brush: b, Size: size, Stamp: &brush.Stamp{}, Paths: [][]brush.Point{{{radius, 0.5, 0, 1, 0, 0, 1}}}}
	if err := k.Check(); err != nil {
		t.Fatal(err)
	}
	covered := 0
	for _, c := range canvases(t, m, uv.PerMaterial, func(int) int { return 512 }) {
		painting(c.body, k)
		got := fieldOf(t, c, inStrokes(t, 1), 0, "")
		for i, p := range places(c) {
			in := half - max(math.Abs(radius*math.Atan2(float64(p.Z), float64(p.X))), math.Abs(float64(p.Y)-0.5))
			if math.Abs(in) < 2*float64(c.pitch) {
				continue // the rim
			}
			want := float32(0)
			if in > 0 {
				want, covered = 1, covered+1
			}
			if math.Abs(float64(got[i]-want)) > 1./255 {
				t.Fatalf("set %s, at %v, %.4f inside: %g, want %g", c.Set, p, in, got[i], want)
			}
		}
	}
	if covered < 10000 {
		t.Errorf("%d texels are covered", covered)
	}
}

// Text is as sharp at any size of the texture: a picture of four times the size, averaged down, is the small one.
func TestTextLooksTheSameAtAnySize(t *testing.T) {
	b := brush.New()
	k := &brush.Stroke{Brush: b, Size: 0.3, Stamp: &brush.Stamp{Text: &letters.Text{Words: "R8", Font: "block"}}, Paths: [][]brush.Point{{{0.5, 0, 0.5, 0, 1, 0, 1}}}}
	var large, small []float32
	for _, side := range []int{128, 512} {
		c, _ := square(t, side, nil)
		painting(c.body, k)
		got := fieldOf(t, c, inStrokes(t, 1), 0, "")
		at := make([]float32, side*side)
		for i, texel := range c.Texels() {
			at[texel] = got[i]
		}
		small, large = large, at
	}
	sum, n := 0.0, 0
	for y := range 128 {
		for x := range 128 {
			mean := float32(0)
			for j := range 4 {
				for i := range 4 {
					mean += large[(4*y+j)*512+4*x+i] / 16
				}
			}
			if mean > 0 || small[y*128+x] > 0 {
				n++
				sum += math.Abs(float64(mean - small[y*128+x]))
			}
		}
	}
	if n < 1000 || sum/float64(n) > 2./255 {
		t.Errorf("%d texels differ by %.2f/255 in the mean", n, sum/float64(n)*255)
	}
}

// A stamp whose picture has colours lays them down where it is not clear, unless the stroke has a colour of its own.
func TestStampsLayTheirPicturesColours(t *testing.T) {
	a := brush.NewDecal(64, 64, func(x, y int) (rgb [3]float32, opacity float32) {
		switch {
		case y >= 32:
			return rgb, 0
		case x < 32:
			return [3]float32{1, 0, 0}, 1
		}
		return [3]float32{0, 0, 1}, 1
	})
	b := brush.New()
	b.Tip, b.Alpha, b.Name = "picture", a.Hash(), "Sign"
	k := &brush.Stroke{Brush: b, Size: 0.4, Stamp: &brush.Stamp{Straight: true}, Paths: [][]brush.Point{{{0.5, 0, 0.5, 0, 1, 0, 1}}}}
	k.Attach(a)
	d := inStrokes(t, 1)
	d.Layers[0].What.Colour.Hex = "#00ff00"
	for _, own := range []string{"", "#ffff00"} {
		if own != "" {
			k.Own = &brush.Values{Colour: own}
		}
		c, _ := square(t, 128, nil)
		painting(c.body, k)
		ch := evaluate(t, c, d)
		left, right := [3]float32{1, 0, 0}, [3]float32{0, 0, 1}
		if own != "" {
			left, right = [3]float32{1, 1, 0}, [3]float32{1, 1, 0}
		}
		for i, p := range places(c) {
			// The tip's right is +X on a floor, and its up −Z.
			x, y := p.X-0.5, 0.5-p.Z
			want := [3]float32{bareColour, bareColour, bareColour}
			switch {
			case max(x, -x) < 0.01 || max(y, -y) < 0.01 || max(x, -x, y, -y) > 0.19 && max(x, -x, y, -y) < 0.21:
				continue
			case max(x, -x, y, -y) < 0.2 && y > 0 && x < 0:
				want = left
			case max(x, -x, y, -y) < 0.2 && y > 0:
				want = right
			}
			for n := range want {
				if got := ch.Base[n][i]; math.Abs(float64(got-want[n])) > 1.5/255 {
					t.Fatalf("own %q, at %v: channel %d is %.3f, want %.3f", own, p, n, got, want[n])
				}
			}
		}
	}
}

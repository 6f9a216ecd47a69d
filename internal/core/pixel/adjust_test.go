package pixel

import (
	"math"
	"testing"
)

// Colours by hue, saturation and lightness as CSS Color Module Level 4 has them: hsl(0 100% 50%) is red, hsl(120 100% 25%) is
// #008000, hsl(210 50% 40%) is #336699, hsl(30 100% 50%) is #ff8000.
func TestTurnedFollowsHSL(t *testing.T) {
	near := func(r, g, b float32, want [3]float64) bool {
		return math.Abs(float64(r)*255-want[0]) < 0.6 && math.Abs(float64(g)*255-want[1]) < 0.6 && math.Abs(float64(b)*255-want[2]) < 0.6
	}
	for _, c := range []struct {
		from     [3]float32
		h, s, l  float32
		want     [3]float64
		sentence string
	}{
		{[3]float32{1, 0, 0}, 0, 0, 0, [3]float64{255, 0, 0}, "red stays red"},
		{[3]float32{1, 0, 0}, 120, 0, 0, [3]float64{0, 255, 0}, "red a third round is green"},
		{[3]float32{1, 0, 0}, -120, 0, 0, [3]float64{0, 0, 255}, "and the other way blue"},
		{[3]float32{1, 0, 0}, 30, 0, 0, [3]float64{255, 127.5, 0}, "hsl(30 100% 50%)"},
		{[3]float32{0, 1, 0}, 0, 0, -0.5, [3]float64{0, 127.5, 0}, "hsl(120 100% 25%)"},
		{[3]float32{0.2, 0.4, 0.6}, 180, 0, 0, [3]float64{153, 102, 51}, "hsl(210 50% 40%) half round is hsl(30 50% 40%)"},
		{[3]float32{0.2, 0.4, 0.6}, 0, -1, 0, [3]float64{102, 102, 102}, "without saturation its lightness is left"},
		{[3]float32{0.2, 0.4, 0.6}, 0, 1, 0, [3]float64{0, 102, 204}, "hsl(210 100% 40%)"},
		{[3]float32{0.2, 0.4, 0.6}, 0, 0, 1, [3]float64{255, 255, 255}, "all lightness is white"},
		{[3]float32{0.5, 0.5, 0.5}, 77, 0, 0, [3]float64{127.5, 127.5, 127.5}, "grey has no hue"},
	} {
		if r, g, b := Turned(c.from[0], c.from[1], c.from[2], c.h, c.s, c.l); !near(r, g, b, c.want) {
			t.Errorf("%s: %g, %g, %g, want %v", c.sentence, r*255, g*255, b*255, c.want)
		}
	}
}

// Levels and contrast, common practice: low becomes 0, high 1, gamma raises what lies between; contrast turns the line about
// the middle.
func TestLevelsAndContrast(t *testing.T) {
	for _, c := range []struct{ got, want float32 }{
		{Levelled(0.2, 0.2, 0.6, 1), 0}, {Levelled(0.6, 0.2, 0.6, 1), 1}, {Levelled(0.4, 0.2, 0.6, 1), 0.5}, {Levelled(0.9, 0.2, 0.6, 1), 1},
		{Levelled(0.25, 0, 1, 2), 0.5}, {Levelled(0.3, 1, 0, 1), 0.7},
		{Contrasted(0.3, 0), 0.3}, {Contrasted(0.3, -1), 0.5}, {Contrasted(0.49, 1), 0}, {Contrasted(0.5, 0.7), 0.5}, {Contrasted(0.75, 1), 1},
	} {
		if math.Abs(float64(c.got-c.want)) > 1e-5 {
			t.Errorf("%g, want %g", c.got, c.want)
		}
	}
}

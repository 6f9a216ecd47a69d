package compose

import (
	"math"
	"testing"

	"crust/internal/core/strata"
)

// Sums of base colour end at one, as W3C's plus-lighter has it (Compositing and Blending Level 1: Co = min(1, αs·Cs +
// αb·Cb)), so that later modes work on what is in range.
func TestAddEndsAtOne(t *testing.T) {
	c, _ := square(t, 16, nil)
	for _, k := range []struct {
		layers [][2]string
		last   float32 // opacity of the last
		want   float64
	}{
		{[][2]string{{"#cccccc", "over"}, {"#cccccc", "add"}, {"#000000", "over"}}, 0.5, 0.5},
		{[][2]string{{"#ffffff", "over"}, {"#ffffff", "add"}, {"#ffffff", "add"}, {"#808080", "difference"}}, 1, 1 - 128./255},
		{[][2]string{{"#333333", "over"}, {"#333333", "add"}}, 1, 0.4},
	} {
		d := new(strata.Document)
		for i, l := range k.layers {
			coat(d, l[0], func(x *strata.Layer) {
				x.What.Colour.Blend = l[1]
				if i == len(k.layers)-1 {
					x.Opacity = k.last
				}
			})
		}
		if got := float64(evaluate(t, c, d).Base[0][0]); math.Abs(got-k.want) > 1e-5 {
			t.Errorf("%v at %g: %.4f, want %.4f", k.layers, k.last, got, k.want)
		}
	}
}

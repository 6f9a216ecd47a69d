package bake

import (
	"context"
	"math"
	"testing"

	"crust/internal/core/mesh"
	"crust/internal/core/uv"
)

// What stands over the rim of a square that repeats is seen from both sides: a bake of a wall beside the rim is, to
// within what rays chance to miss, that of the same wall moved by half the square, moved back.
func TestBakesOfASquareSeeOverItsRim(t *testing.T) {
	const size = 64
	low := mesh.FlatSquare("floor", 1)
	var err error
	if low.Square, err = low.AsSquare(); err != nil {
		t.Fatal(err)
	}
	sets, err := uv.Sets(low, uv.Single)
	if err != nil {
		t.Fatal(err)
	}
	baked := func(phase float64) map[string]*Map {
		high := mesh.Grid(128, 128, 0, func(s, t float64) [3]float64 {
			bump := math.Pow(math.Cos(math.Pi*(s-phase)), 32)
			return [3]float64{s - 0.5, 0.3 * bump, 0.5 - t}
		})
		src, err := Prepare(context.Background(), low, high, Settings{Size: size, Rays: 256, Samples: 1, Radius: 0.05, Front: 0.4, Rear: 0.05})
		if err != nil {
			t.Fatal(err)
		}
		maps, err := src.Bake(context.Background(), &sets[0], []string{AO, Curvature, Normal, Height}, nil)
		if err != nil {
			t.Fatal(err)
		}
		out := map[string]*Map{}
		for _, m := range maps {
			out[m.Kind] = m
		}
		return out
	}
	rim, middle := baked(0.94), baked(0.44)
	for kind, m := range middle {
		sum, most := 0.0, 0.0
		for y := range size {
			for x := range size {
				for c := range m.Channels {
					at := ((y+size/2)%size*size+(x+size/2)%size)*m.Channels + c
					e := math.Abs(float64(m.Pix[(y*size+x)*m.Channels+c])-float64(rim[kind].Pix[at])) / 65535
					sum += e / float64(size*size*m.Channels)
					most = max(most, e)
				}
			}
		}
		if sum > 0.006 || most > 0.03 {
			t.Errorf("%s: off by %.4f in the mean and %.3f at the most", kind, sum, most)
		}
	}
}

package light

import (
	"math"
	"testing"
)

// The CIE overcast sky is three times as bright at the zenith as at the horizon: (1 + 2·sin γ)/3.
// Cloud and sun may vary it, its means may not leave it far.
func TestQuayIsAnOvercastSky(t *testing.T) {
	e := Quay(256)
	if len(e.Pix) != 256*128*3 {
		t.Fatalf("%d values", len(e.Pix))
	}
	row := func(y int) (sum float64) {
		least := math.Inf(1)
		for x := range e.Width {
			v := float64(e.Pix[(y*e.Width+x)*3+1])
			sum += v
			least = min(least, v)
		}
		if least < 0 {
			t.Errorf("row %d has light below zero", y)
		}
		return sum / float64(e.Width)
	}
	zenith, low, ground := row(2), row(e.Height/2-9), row(e.Height-3)
	if r := zenith / low; r < 1.7 || r > 3.5 {
		t.Errorf("the zenith is %.2f times as bright as the low sky, want between 1.7 and 3.5", r)
	}
	if ground > zenith/2 {
		t.Errorf("the ground is as bright as %.2f of the sky", ground/zenith)
	}
	// The brightest place is the sun's.
	best, at := float32(0), 0
	for i := 0; i < len(e.Pix); i += 3 {
		if e.Pix[i] > best {
			best, at = e.Pix[i], i/3
		}
	}
	v, u := math.Pi*(float64(at/256)+0.5)/128, 2*math.Pi*(float64(at%256)+0.5)/256
	dot := math.Sin(v)*math.Cos(u)*Sun[0] + math.Cos(v)*Sun[1] + math.Sin(v)*math.Sin(u)*Sun[2]
	if dot < 0.99 {
		t.Errorf("the brightest texel is %.1f° from the sun", math.Acos(dot)*180/math.Pi)
	}
}

package compose

import (
	"math"
	"testing"

	"crust/internal/core/brush"
	"crust/internal/core/geom"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
)

// working is a stroke over the flat square metre that does something with what lies there.
func working(work string, size, x0, z0, x1, z1 float64) *brush.Stroke {
	s := across(soft(1), size, x0, z0, x1, z1)
	s.Work = work
	return s
}

// leftHalf paints all that lies left of x = 0.5: a ball so large that its rim is straight within 3 mm here.
func leftHalf() *brush.Stroke { return across(soft(1), 90, -44.5, 0.5, -44.5, 0.5) }

// softened is a straight edge at x = 0 that the weights 1 − ρ² over a disc of radius r make soft: the integral of their marginal,
// 8/(3πr)·(1 − x²/r²)^(3/2), which runs from 1 to 0.
func softened(x, r float64) float64 {
	u := min(1, max(-1, x/r))
	return 0.5 - (2*u*math.Sqrt(1-u*u)*(5-2*u*u)/8+6*math.Asin(u)/8)*2/math.Pi*2/3
}

// Softening an edge gives the closed form over the disc that it takes the mean of, twice over it over √2 times the radius, on shuffled
// islands of two sets alike.
func TestSofteningIsAMean(t *testing.T) {
	const size = 0.4
	m := cutUp(12, 6, 2, flat)
	for passes := 1; passes <= 2; passes++ {
		strokes := []*brush.Stroke{leftHalf()}
		for range passes {
			strokes = append(strokes, working(brush.WorkSoften, size, 0.5, 0.2, 0.5, 0.8))
		}
		r := 2 * float64(strokes[1].Blur()) * math.Sqrt(float64(passes))
		for _, c := range canvases(t, m, uv.PerMaterial, func(int) int { return 256 }) {
			painting(c.body, strokes...)
			got := fieldOf(t, c, inStrokes(t, len(strokes)), 0, "")
			sum, n := 0.0, 0
			for i, p := range places(c) {
				if p.Z < 0.3 || p.Z > 0.7 || math.Abs(float64(p.X)-0.5) > size/2-0.01 {
					continue
				}
				e := math.Abs(float64(got[i]) - softened(float64(p.X)-0.5, r))
				if n++; e > 0.09 {
					t.Fatalf("%d passes, set %s, %.3f from the edge: %.3f, want %.3f", passes, c.Set, p.X-0.5, got[i], softened(float64(p.X)-0.5, r))
				}
				sum += e
			}
			if n < 1000 || sum/float64(n) > 0.02 {
				t.Errorf("%d passes, set %s: %d places are off by %.4f in the mean", passes, c.Set, n, sum/float64(n))
			}
		}
	}
}

// A smudge pulls an edge along as far as its ball is wide, where it has passed over as a whole: of what lies that far behind, more
// from further back. Beside its way nothing moves.
func TestSmudgingPullsAlong(t *testing.T) {
	const size = 0.1
	c, _ := square(t, 256, nil)
	painting(c.body, leftHalf(), working(brush.WorkSmudge, size, 0.3, 0.5, 0.8, 0.5))
	got := fieldOf(t, c, inStrokes(t, 2), 0, "")
	n := 0
	for i, p := range places(c) {
		d := math.Abs(float64(p.Z) - 0.5)
		want, past := 0.0, float64(p.X)-0.5
		switch {
		case d < 0.004 && past > 0 && past < 0.2:
			for j := range samples[0][1] {
				if f := float64(j+1) / float64(samples[0][1]); past < f*size {
					want += 2 * f / float64(samples[0][1]+1)
				}
			}
			n++
		case d > size/2+0.01 && math.Abs(past) > 0.006:
			if past < 0 {
				want = 1
			}
		default:
			continue
		}
		if math.Abs(past/size*float64(samples[0][1])-math.Round(past/size*float64(samples[0][1]))) < 0.1 {
			continue // where a sample comes over the edge
		}
		if math.Abs(float64(got[i])-want) > 0.01 {
			t.Fatalf("at %v: %.3f, want %.3f", p, got[i], want)
		}
	}
	if n < 50 {
		t.Errorf("%d places on its way", n)
	}
}

// Cloning lays down elsewhere what was painted, with its own values: here from the floor's left to its right.
func TestCloningBringsWhatLiesElsewhere(t *testing.T) {
	dot := across(soft(1), 0.1, 0.2, 0.3, 0.2, 0.3)
	dot.Own = &brush.Values{Colour: "#0000ff"}
	k := working(brush.WorkClone, 0.3, 0.7, 0.6, 0.71, 0.6)
	k.Source = &brush.Point{0.2, 0, 0.3, 0, 1, 0, 1}
	c, _ := square(t, 256, nil)
	painting(c.body, dot, k)
	d := inStrokes(t, 2)
	ch := evaluate(t, c, d)
	for i, p := range places(c) {
		for _, at := range [][2]float64{{0.2, 0.3}, {0.7, 0.6}} {
			far := math.Hypot(float64(p.X)-at[0], float64(p.Z)-at[1])
			want := -1.0
			switch {
			case far < 0.045:
				want = 0
			case far > 0.055 && far < 0.12:
				want = bareColour
			}
			if want >= 0 && math.Abs(float64(ch.Base[0][i])-want) > 0.02 {
				t.Fatalf("at %v, %.3f from the middle of the dot: red is %.3f, want %.3f", p, far, ch.Base[0][i], want)
			}
		}
	}
	if err := k.Check(); err != nil {
		t.Error(err)
	}
	k.Again = &brush.Again{X: true}
	if k.Check() == nil {
		t.Error("a mirrored clone was taken")
	}
	k.Again, k.Source = nil, nil
	if k.Check() == nil {
		t.Error("a clone without a source was taken")
	}
}

// What strokes do with what lies there comes out the same whether they are laid one by one or all at once.
func TestWorkDoesNotDependOnItsHistory(t *testing.T) {
	tinted := across(soft(0.5), 0.2, 0.3, 0.3, 0.6, 0.6)
	tinted.Own = &brush.Values{Colour: "#ff0000"}
	clone := working(brush.WorkClone, 0.2, 0.7, 0.7, 0.8, 0.7)
	clone.Source = &brush.Point{0.5, 0, 0.5, 0, 1, 0, 1}
	all := []*brush.Stroke{leftHalf(), tinted,
		working(brush.WorkSoften, 0.3, 0.4, 0.4, 0.6, 0.4), working(brush.WorkSoften, 0.3, 0.5, 0.3, 0.5, 0.6),
		across(soft(1), 0.05, 0.2, 0.5, 0.8, 0.5), working(brush.WorkSmudge, 0.2, 0.3, 0.5, 0.6, 0.5), working(brush.WorkSmudge, 0.2, 0.6, 0.5, 0.6, 0.8),
		working(brush.WorkSoften, 0.2, 0.5, 0.5, 0.6, 0.6), clone}
	of := func(n int) *strata.Document { return inStrokes(t, n) }
	c, _ := square(t, 128, nil)
	painting(c.body, all...)
	var last *Channels
	for n := 1; n <= len(all); n++ {
		last = evaluate(t, c, of(n))
	}
	fresh, _ := square(t, 128, nil)
	painting(fresh.body, all...)
	want := evaluate(t, fresh, of(len(all)))
	for p := range want.Base {
		for i, v := range want.Base[p] {
			if d := math.Abs(float64(last.Base[p][i] - v)); d > 1.5/255 {
				t.Fatalf("channel %d at %v: %.4f one by one, %.4f at once", p, places(c)[i], last.Base[p][i], v)
			}
		}
	}
	if d := brush.Round(24); len(d) != 24 || math.Abs(float64(geom.Vec3{X: d[0][0], Y: d[0][1]}.Len()-0.1443)) > 1e-3 {
		t.Errorf("the first of 24 places lies at %v, want √(0.5/24) from the middle", d[0])
	}
}

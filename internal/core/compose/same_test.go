package compose

import (
	"math"
	"testing"

	"crust/internal/core/strata"
)

// stained is a hidden layer with a Where of noise, under a coat that is the same as it.
func stained(t *testing.T) *strata.Document {
	d := new(strata.Document)
	coat(d, "#000000", func(l *strata.Layer) {
		c, err := d.NewClause("noise")
		if err != nil {
			t.Fatal(err)
		}
		c.Params["size"] = 0.2
		l.Where, l.Hidden = []strata.Clause{c}, true
	})
	coat(d, "#ffffff", func(l *strata.Layer) {
		c, err := d.NewClause("same")
		if err != nil {
			t.Fatal(err)
		}
		c.Layers = []string{d.Layers[0].ID}
		l.Where = []strata.Clause{c}
	})
	return d
}

// “Same as” is the finished Where of a layer below, hidden or not, and follows it; the layer's own opacity does not count. A
// layer that is not below is nowhere. Masks have 16 bits.
func TestSameAsIsTheWhereOfALayerBelow(t *testing.T) {
	c, _ := square(t, 64, nil)
	d := stained(t)
	for _, size := range []float64{0.2, 0.31} {
		d.Layers[0].Where[0].Params["size"], d.Layers[0].Opacity = size, 0.3
		want, got := fieldOf(t, c, d, 0, ""), fieldOf(t, c, d, 1, "")
		spread := float32(0)
		for i := range want {
			spread = max(spread, max(want[i]-want[0], want[0]-want[i]))
			if math.Abs(float64(want[i]-got[i])) > 1./65535 {
				t.Fatalf("size %g, texel %d: %g, the layer below has %g", size, i, got[i], want[i])
			}
		}
		if spread < 0.2 {
			t.Fatalf("the noise is flat")
		}
	}
	before := evaluate(t, c, d).Base[0][0]
	d.Layers[0], d.Layers[1] = d.Layers[1], d.Layers[0]
	for i, v := range fieldOf(t, c, d, 0, "") {
		if v != 0 {
			t.Fatalf("texel %d: %g of a layer that lies above", i, v)
		}
	}
	if after := evaluate(t, c, d).Base[0][0]; after == before || after != bareColour {
		t.Errorf("base colour %g after the layers changed places, %g before, want the bare surface", after, before)
	}
}

// A clause that is off has no say: the Where is what it is without it, and it can still be looked at alone.
func TestAClauseThatIsOffHasNoSay(t *testing.T) {
	c, _ := square(t, 64, nil)
	d := stained(t)
	facing, err := d.NewClause("facing")
	if err != nil {
		t.Fatal(err)
	}
	facing.Shape.Invert = true // nowhere on a level square
	l := &d.Layers[0]
	l.Where = []strata.Clause{facing, l.Where[0]}
	if v := fieldOf(t, c, d, 0, ""); v[7] != 0 {
		t.Fatalf("%g where nothing faces down", v[7])
	}
	l.Where[0].Off = true
	with, alone := fieldOf(t, c, d, 0, ""), fieldOf(t, c, d, 0, l.Where[1].ID)
	for i := range with {
		if with[i] != alone[i] {
			t.Fatalf("texel %d: %g, the other clause alone %g", i, with[i], alone[i])
		}
	}
	l.Where[1].Off = true
	if v := fieldOf(t, c, d, 0, ""); v[7] != 1 {
		t.Errorf("%g with every clause off, want everywhere", v[7])
	}
	if v := fieldOf(t, c, d, 0, l.Where[1].ID); v[7] != alone[7] {
		t.Errorf("a clause that is off shows %g alone, want %g", v[7], alone[7])
	}
}

// A layer that is clipped shows by the product of its Where with the Where and opacity of the next layer below that is not
// clipped (common practice), and not at all when that one is hidden.
func TestAClippedLayerShowsWhereTheOneBelowDoes(t *testing.T) {
	c, _ := square(t, 64, nil)
	d := new(strata.Document)
	with := func(size float64) func(l *strata.Layer) {
		return func(l *strata.Layer) {
			k, err := d.NewClause("noise")
			if err != nil {
				t.Fatal(err)
			}
			k.Params["size"] = size
			l.Where = []strata.Clause{k}
		}
	}
	coat(d, "#000000", with(0.3))
	coat(d, "#ff0000", with(0.1))
	coat(d, "#ffffff", with(0.2))
	own := fieldOf(t, c, d, 2, "")
	d.Layers[1].Clip, d.Layers[2].Clip, d.Layers[0].Opacity = true, true, 0.6
	base, got := fieldOf(t, c, d, 0, ""), fieldOf(t, c, d, 2, "")
	for i := range got {
		if want := own[i] * base[i] * 0.6; math.Abs(float64(got[i]-want)) > 2e-5 {
			t.Fatalf("texel %d: %g, want %g", i, got[i], want)
		}
	}
	if r := d.Reading(&d.Layers[2]); r[:len("on “")] != "on “" {
		t.Errorf("it reads %q", r)
	}
	d.Layers[0].Hidden = true
	if v := evaluate(t, c, d).Base[0]; v[0] != bareColour || v[99] != bareColour {
		t.Errorf("base colour %g with the layer below hidden, want the bare surface", v[0])
	}
}

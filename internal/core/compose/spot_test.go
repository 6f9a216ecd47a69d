package compose

import (
	"context"
	"math"
	"testing"

	"crust/internal/core/strata"
)

// What is said of a texel is what is evaluated there; layers are listed from the top down, with their groups' share, and how
// much of their colour those above them leave.
func TestWhatLiesAtATexel(t *testing.T) {
	c, _ := square(t, 64, nil)
	d := new(strata.Document)
	coat(d, "#ff0000", func(l *strata.Layer) { l.What.Roughness.On = false })
	coat(d, "#00ff00", func(l *strata.Layer) {
		l.Opacity = 0.5
		l.Where = []strata.Clause{clauseOf(t, d, "noise", map[string]float64{"size": 0.2})}
	})
	coat(d, "#0000ff", func(l *strata.Layer) { l.Opacity = 0.25 })
	coat(d, "#ffffff", func(l *strata.Layer) { l.Hidden = true })
	if _, _, err := d.Apply(strata.Edit{Do: "group", Layers: []string{d.Layers[1].ID}}); err != nil {
		t.Fatal(err)
	}
	d.Layers[2].Opacity = 0.8
	ch, where := evaluate(t, c, d), fieldOf(t, c, d, 1, "")
	p := program(t, c, d)
	near := func(a, b float32) bool { return math.Abs(float64(a-b)) < 2e-4 }
	for i, k := range c.Texels() {
		if i%97 != 0 {
			continue
		}
		at, err := c.At(context.Background(), p, int(k)%64, int(k)/64)
		if err != nil || at == nil {
			t.Fatalf("texel %d: %v, %v", k, at, err)
		}
		if at.Base != [3]float32{ch.Base[0][i], ch.Base[1][i], ch.Base[2][i]} || at.Roughness != ch.Roughness[i] || at.Normal[2] != ch.Normal[2][i] {
			t.Fatalf("texel %d: %+v, evaluated %g %g", k, at, ch.Base[0][i], ch.Roughness[i])
		}
		green := where[i] * 0.5 * 0.8
		want := []Showing{{d.Layers[3].ID, 0.25, 0.25}, {d.Layers[1].ID, green, 0.75 * green}, {d.Layers[0].ID, 1, 0.75 * (1 - green)}}
		if green < leastShare {
			want = append(want[:1], want[2])
		}
		if len(at.Layers) != len(want) {
			t.Fatalf("texel %d: layers %+v, want %+v", k, at.Layers, want)
		}
		for n, w := range want {
			if g := at.Layers[n]; g.Layer != w.Layer || !near(g.Share, w.Share) || !near(g.Seen, w.Seen) {
				t.Fatalf("texel %d: %+v, want %+v", k, g, w)
			}
		}
	}
	if at, err := c.At(context.Background(), p, -1, 3); at != nil || err != nil {
		t.Errorf("beside the square: %v, %v", at, err)
	}
}

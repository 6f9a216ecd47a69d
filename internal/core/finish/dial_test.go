package finish

import (
	"encoding/json"
	"math"
	"strings"
	"testing"

	"crust/internal/core/strata"
)

// A dial that was shown at both ends stands at 1 where it was made, goes back to what was shown at 0, and is half way between
// at a half; what it does not move stays, other dials go on, and the group saved as a finish brings it along.
func TestADialIsMadeByShowingWhatItDoes(t *testing.T) {
	d := new(strata.Document)
	paint := d.NewLayer("Paint")
	paint.What.Colour.Hex = "#102030"
	wear, err := d.NewClause("edges")
	if err != nil {
		t.Fatal(err)
	}
	grain, _ := d.NewClause("noise")
	wear.Shape.Soften = 0.02
	paint.Where = []strata.Clause{wear, grain}
	g := d.NewGroup("Hull")
	paint.In, paint.Targets = g.ID, []string{"hull"}
	if err := d.Put("", paint, g); err != nil {
		t.Fatal(err)
	}
	now := func() *strata.Layer { l, _, _ := d.Layer(paint.ID); return l }
	var before []strata.Layer
	text, _ := json.Marshal(d.Layers)
	if err := json.Unmarshal(text, &before); err != nil {
		t.Fatal(err)
	}
	if _, err := AddDial(d, g.ID, Shown{"Age", before}, 3); err == nil || !strings.Contains(err.Error(), "nothing differs") {
		t.Errorf("a dial that moves nothing: %v", err)
	}
	now().What.Colour.Hex = "#302010"
	now().What.Roughness.Number = 0.9
	now().Where[0].Shape.High, now().Where[0].Shape.Soften = 0.4, 0
	now().Where[1].Params["size"], now().Where[1].Params["form"] = 0.2, 2 // a choice, which turns half way
	label, err := AddDial(d, g.ID, Shown{"Age", before}, 3)
	if err != nil || label != "Add the dial Age to Hull" {
		t.Fatalf("%q, %v", label, err)
	}
	stands := func(at, rough, high, soften, size float64, hex string) {
		t.Helper()
		if _, err := Turn(d, g.ID, map[string]float64{"age": at}); err != nil {
			t.Fatal(err)
		}
		l := now()
		for _, k := range []struct {
			name      string
			got, want float64
		}{{"roughness", float64(l.What.Roughness.Number), rough}, {"high", float64(l.Where[0].Shape.High), high}, {"soften", float64(l.Where[0].Shape.Soften), soften}, {"size", l.Where[1].Params["size"], size}} {
			if math.Abs(k.got-k.want) > 1e-5 {
				t.Errorf("at %g: %s is %g, want %g", at, k.name, k.got, k.want)
			}
		}
		if form := l.Where[1].Params["form"]; form != math.Round(2*at) {
			t.Errorf("at %g: form %g of the noise", at, form)
		}
		if l.What.Colour.Hex != hex || len(l.Targets) != 1 {
			t.Errorf("at %g: %s, aimed at %v", at, l.What.Colour.Hex, l.Targets)
		}
	}
	stands(0, 0.6, 1, 0.02, 0.08, "#102030")
	stands(0.5, 0.75, 0.7, 0.01, 0.14, "#202020")
	if _, err := Turn(d, g.ID, map[string]float64{"age": 0.3}); err != nil || now().Where[1].Params["form"] != 1 {
		t.Errorf("between two choices: form %g, %v", now().Where[1].Params["form"], err)
	}
	stands(1, 0.9, 0.4, 0, 0.2, "#302010")

	// A second dial, and both in a finish of their own on a model twice as large.
	text, _ = json.Marshal(d.Layers)
	if err := json.Unmarshal(text, &before); err != nil {
		t.Fatal(err)
	}
	now().Opacity = 0.5
	if _, err := AddDial(d, g.ID, Shown{"Amount", before}, 3); err != nil {
		t.Fatal(err)
	}
	stands(0.5, 0.75, 0.7, 0.01, 0.14, "#202020")
	f, _, err := Save(d, g.ID, "Old hull", "", 3)
	if err != nil {
		t.Fatal(err)
	}
	other := new(strata.Document)
	layers, err := f.Group(other, map[string]float64{"age": 0, "amount": 0.5}, 6)
	if err != nil {
		t.Fatal(err)
	}
	if l := layers[0]; l.What.Colour.Hex != "#102030" || math.Abs(l.Where[1].Params["size"]-0.16) > 1e-6 || l.Opacity != 0.75 {
		t.Errorf("laid elsewhere: %s, noise of %g, opacity %g", l.What.Colour.Hex, l.Where[1].Params["size"], l.Opacity)
	}

	if _, err := DropDial(d, g.ID, "age", 3); err != nil {
		t.Fatal(err)
	}
	if _, err := Turn(d, g.ID, map[string]float64{"age": 1}); err == nil {
		t.Error("the dial is gone and turns still")
	}
	if l := now(); l.What.Colour.Hex != "#202020" {
		t.Errorf("what the dial moved became %s", l.What.Colour.Hex)
	}
	now().Where = now().Where[:1]
	if _, err := AddDial(d, g.ID, Shown{"More", before}, 3); err == nil || !strings.Contains(err.Error(), "other clauses") {
		t.Errorf("a clause is gone between the ends: %v", err)
	}
}

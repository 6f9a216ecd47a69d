package strata

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"testing"
)

// someEdit is an edit of some kind of what is there.
func someEdit(r *rand.Rand, d *Document) Edit {
	var l *Layer
	if len(d.Layers) > 0 {
		l = &d.Layers[r.IntN(len(d.Layers))]
	}
	groups := []string{""}
	for i := range d.Layers {
		if d.Layers[i].Group {
			groups = append(groups, d.Layers[i].ID)
		}
	}
	switch k := r.IntN(16); {
	case l == nil || k == 0 && len(d.Layers) < 20:
		e := Edit{Do: "add"}
		if l != nil {
			e.Layer = l.ID
		}
		return e
	case k == 1 && len(d.Layers) > 3:
		return Edit{Do: "delete", Layer: l.ID}
	case k == 2 && len(d.Layers) < 20:
		return Edit{Do: "duplicate", Layer: l.ID}
	case k == 3 || k == 12:
		e := Edit{Do: "move", Layer: l.ID, To: r.IntN(len(d.Layers)), In: groups[r.IntN(len(groups))]}
		if _, _, err := d.Clone().Apply(e); err == nil { // not into itself
			return e
		}
	case k == 13 && len(groups) < 6:
		return Edit{Do: "group", Layers: []string{l.ID, d.Layers[r.IntN(len(d.Layers))].ID}}
	case k == 14 && l.Group:
		return Edit{Do: "ungroup", Layer: l.ID}
	case k == 4:
		return Edit{Do: "set", Layer: l.ID, Path: "targets", Value: raw([]string{fmt.Sprint("set ", r.IntN(3))}[:r.IntN(2)])}
	case k == 5:
		return Edit{Do: "set", Layer: l.ID, Path: "hidden", Value: raw(r.IntN(2) == 0)}
	case k < 8 && len(l.Where) < 6:
		return Edit{Do: "clause.add", Layer: l.ID, Kind: []string{"noise", "edges", "facing"}[r.IntN(3)]}
	case k == 8 && len(l.Where) > 0:
		return Edit{Do: "clause.delete", Layer: l.ID, Clause: l.Where[r.IntN(len(l.Where))].ID}
	case k == 9 && len(l.Where) > 0:
		return Edit{Do: "clause.move", Layer: l.ID, Clause: l.Where[r.IntN(len(l.Where))].ID, To: r.IntN(len(l.Where))}
	case k == 10 && len(l.Where) > 0:
		return Edit{Do: "clause.set", Layer: l.ID, Clause: l.Where[r.IntN(len(l.Where))].ID, Path: "shape.low", Value: raw(float64(r.IntN(100)) / 100)}
	}
	return Edit{Do: "set", Layer: l.ID, Path: "what.roughness.number", Value: raw(float64(r.IntN(1000)) / 1000)}
}

// Whatever an edit does, its operations do the same to the document before it, and their inverses take it back; only marks
// are not given twice.
func TestOperationsDoAndUndoAnyEdit(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 2))
	d := new(Document)
	for n := range 1500 {
		before := d.Clone()
		e := someEdit(r, d)
		apply(t, d, e)
		ops := Diff(before, d)
		again, err := before.Patch(ops)
		if err != nil || string(raw(again)) != string(raw(d)) {
			t.Fatalf("edit %d, %+v: %s gives\n%s, want\n%s, %v", n, e, raw(ops), raw(again), raw(d), err)
		}
		back, err := d.Patch(Invert(ops))
		if err != nil {
			t.Fatal(err)
		}
		if back.Next = before.Next; string(raw(back)) != string(raw(before)) {
			t.Fatalf("edit %d, %+v: taking %s back gives\n%s, want\n%s", n, e, raw(ops), raw(back), raw(before))
		}
	}
}

// Taking something back leaves what others made since: fields that hold another value by now, and layers that are gone.
func TestTakingBackLeavesWhatOthersMade(t *testing.T) {
	d := new(Document)
	_, a := apply(t, d, Edit{Do: "add"})
	_, b := apply(t, d, Edit{Do: "add"})
	number := func(layer string) float32 { l, _, _ := d.Layer(layer); return l.What.Roughness.Number }
	rough := func(layer string, v float64) []Op {
		before := d.Clone()
		apply(t, d, Edit{Do: "set", Layer: layer, Path: "what.roughness.number", Value: raw(v)})
		return Diff(before, d)
	}
	mine, other := rough(a, 0.1), rough(b, 0.2)
	theirs := rough(a, 0.3)
	undo := func(ops []Op) {
		t.Helper()
		next, err := d.Patch(Invert(ops))
		if err != nil {
			t.Fatal(err)
		}
		d = next
	}
	undo(mine)
	if number(a) != 0.3 {
		t.Errorf("roughness %g, want the others' 0.3", number(a))
	}
	undo(other)
	if number(b) != 0.6 {
		t.Errorf("roughness %g of the second layer, want 0.6 as before", number(b))
	}
	undo(theirs)
	if number(a) != 0.1 {
		t.Errorf("roughness %g, want 0.1", number(a))
	}
	apply(t, d, Edit{Do: "delete", Layer: a})
	undo(mine)
	if len(d.Layers) != 1 {
		t.Errorf("%d layers, want the one that is left", len(d.Layers))
	}
}

// A field that is added to a layer or clause must be compared, or changes of it would be lost.
func TestEqualLooksAtEveryField(t *testing.T) {
	for _, c := range []struct {
		of   reflect.Type
		want int
	}{{reflect.TypeFor[Layer](), 16}, {reflect.TypeFor[Laid](), 6}, {reflect.TypeFor[Clause](), 11}, {reflect.TypeFor[Value](), 7}, {reflect.TypeFor[Source](), 9}} {
		if n := c.of.NumField(); n != c.want {
			t.Errorf("%v has %d fields; equal compares %d", c.of, n, c.want)
		}
	}
}

// A layer shown alone keeps its groups, what they hold of it and what it is clipped to; all else is hidden.
func TestSoloLeavesWhatALayerNeeds(t *testing.T) {
	d := new(Document)
	for range 4 {
		apply(t, d, Edit{Do: "add"})
	}
	_, g := apply(t, d, Edit{Do: "group", Layers: []string{d.Layers[1].ID, d.Layers[2].ID}})
	apply(t, d, Edit{Do: "set", Layer: d.Layers[2].ID, Path: "clip", Value: raw(true)})
	seen := func(layers ...string) (out string) {
		c := d.Clone()
		apply(t, c, Edit{Do: "solo", Layers: layers})
		for _, l := range c.Layers {
			if !l.Hidden {
				out += l.Name + ","
			}
		}
		return out
	}
	if got := seen(d.Layers[2].ID); got != "Coat 2,Coat 3,Group," {
		t.Errorf("a clipped layer alone shows %s", got)
	}
	if got := seen(d.Layers[0].ID); got != "Coat," {
		t.Errorf("the lowest alone shows %s", got)
	}
	if got := seen(g); got != "Coat 2,Coat 3,Group," {
		t.Errorf("the group alone shows %s", got)
	}
}

// How an asset is lit and framed changes by small operations, is taken back and made again like all else, and says what cannot be.
func TestLightAndFrameAreUndone(t *testing.T) {
	d := &Document{Layers: []Layer{}}
	apply := func(path, value string) ([]Op, error) {
		next := *d
		_, _, err := next.Apply(Edit{Do: "look", Path: path, Value: json.RawMessage(value)})
		if err != nil {
			return nil, err
		}
		ops := Diff(d, &next)
		patched, err := d.Patch(ops)
		if err != nil || string(encode(patched)) != string(encode(&next)) {
			t.Fatalf("%s: the operations %s make %s of it, %v", path, encode(ops), encode(patched), err)
		}
		back, err := patched.Patch(Invert(ops))
		if err != nil || string(encode(back)) != string(encode(d)) {
			t.Fatalf("%s: taken back it is %s, it was %s (%v)", path, encode(back), encode(d), err)
		}
		*d = *patched
		return ops, nil
	}
	lamp := `[{"name":"Key","kind":"spot","at":[1,2,3],"aim":[0,0,0],"kelvin":3200,"strength":900,"wide":0.1,"high":0,"cone":25,"soft":0.2}]`
	for _, c := range [][2]string{{"sky", `"night"`}, {"turn", `45`}, {"backdrop.hex", `"#101820"`}, {"lamps", lamp}, {"frames", `[{"name":"Front","eye":[0,1,4],"at":[0,1,0],"mm":85,"wide":1,"high":1}]`}, {"surface.shape", `2`}, {"card", `"Front"`}} {
		ops, err := apply(c[0], c[1])
		if err != nil {
			t.Fatalf("%s: %v", c[0], err)
		}
		if d.Look == nil || len(ops) != 1 || len(encode(ops)) > 900 {
			t.Errorf("%s takes %d operations: %s", c[0], len(ops), encode(ops))
		}
	}
	if s := d.Setup(); s.Sky != "night" || s.Turn != 45 || s.Backdrop.Hex != "#101820" || len(s.Lamps) != 1 || s.Frames[0].Mm != 85 || s.Surface.Shape != 2 || !s.Backdrop.Ground {
		t.Errorf("it is %+v", s)
	}
	was := string(encode(d))
	for _, c := range [][2]string{{"sky", `"moon"`}, {"turn", `"left"`}, {"exposure", `40`}, {"backdrop.hex", `"red"`}, {"backdrop.colour", `"#000000"`}, {"weather", `1`}, {"", `{}`}, {"lamps", `[{"kind":"torch"}]`}, {"lamps.0", `1`},
		{"frames", `[{"name":"A","eye":[0,0,1],"at":[0,0,0],"mm":50,"wide":1,"high":1},{"name":"A","eye":[0,0,1],"at":[0,0,0],"mm":50,"wide":1,"high":1}]`}, {"frames", `[{"name":"A","eye":[0,0,0],"at":[0,0,0],"mm":50,"wide":1,"high":1}]`}} {
		if _, err := apply(c[0], c[1]); err == nil {
			t.Errorf("%s = %s is taken", c[0], c[1])
		}
	}
	if string(encode(d)) != was {
		t.Error("what was refused has changed something")
	}
}

package finish

import (
	"encoding/json"
	"math"
	"path"
	"strings"
	"testing"

	"crust/internal/core/strata"
)

// laid is a document in which a finish lies over a coat.
func laid(t *testing.T, name string, dials map[string]float64) (*strata.Document, string) {
	t.Helper()
	d := new(strata.Document)
	if _, _, err := d.Apply(strata.Edit{Do: "add"}); err != nil {
		t.Fatal(err)
	}
	f, err := Of(name)
	if err != nil {
		t.Fatal(err)
	}
	layers, err := f.Group(d, dials, 2)
	if err != nil {
		t.Fatal(err)
	}
	if err := d.Put("", layers...); err != nil {
		t.Fatal(err)
	}
	return d, layers[len(layers)-1].ID
}

func in(t *testing.T, d *strata.Document, group, name string) *strata.Layer {
	t.Helper()
	for i := range d.Layers {
		if d.Layers[i].In == group && d.Layers[i].Name == name {
			return &d.Layers[i]
		}
	}
	t.Fatalf("no layer “%s” in %s", name, group)
	return nil
}

// A dial that is moved after laying leaves the layers as if it had stood there when they were laid.
func TestDialsStayLive(t *testing.T) {
	for i := range Finishes {
		f := &Finishes[i]
		for _, k := range f.Dials {
			turned, group := laid(t, f.Name, nil)
			if _, err := Turn(turned, group, map[string]float64{k.Name: k.Max}); err != nil {
				t.Fatalf("%s, %s: %v", f.Name, k.Name, err)
			}
			want, _ := laid(t, f.Name, map[string]float64{k.Name: k.Max})
			a, _ := json.Marshal(turned.Layers)
			b, _ := json.Marshal(want.Layers)
			if string(a) != string(b) {
				t.Errorf("%s: %s turned to %g gives other layers than %s laid with it", f.Name, k.Name, k.Max, f.Name)
			}
			if same, _ := laid(t, f.Name, nil); k.Default != k.Max {
				c, _ := json.Marshal(same.Layers[:len(same.Layers)-1])
				d, _ := json.Marshal(turned.Layers[:len(turned.Layers)-1])
				if string(c) == string(d) {
					t.Errorf("%s: %s moves nothing", f.Name, k.Name)
				}
			}
		}
	}
}

// What a hand has changed stays when a dial is moved; copies have dials of their own.
func TestDialsLeaveWhatAHandHasChanged(t *testing.T) {
	d, group := laid(t, "worn-marine-paint", nil)
	rust := in(t, d, group, "Rust in seams").ID
	apply := func(e strata.Edit) string {
		t.Helper()
		_, layer, err := d.Apply(e)
		if err != nil {
			t.Fatal(err)
		}
		return layer
	}
	raw := func(v any) json.RawMessage { b, _ := json.Marshal(v); return b }
	apply(strata.Edit{Do: "set", Layer: rust, Path: "opacity", Value: raw(0.33)})
	apply(strata.Edit{Do: "delete", Layer: in(t, d, group, "Scratches").ID})
	copied := apply(strata.Edit{Do: "duplicate", Layer: group})
	before := in(t, d, group, "Top paint").What.Colour.Hex
	label, err := Turn(d, copied, map[string]float64{"hue": 200, "age": 1})
	if err != nil || label != "Turn age, hue of Worn marine paint 2" {
		t.Fatalf("%s, %v", label, err)
	}
	if got := in(t, d, group, "Top paint").What.Colour.Hex; got != before {
		t.Errorf("the first one's paint is %s now, the copy was turned", got)
	}
	top := d.Layers[0:0]
	for _, l := range d.Layers {
		if l.In == copied && strings.HasPrefix(l.Name, "Top paint") {
			top = append(top, l)
		}
	}
	// HSV to RGB as every colour text has it: hue 200° at saturation 0.68 and value 0.62.
	if len(top) != 1 || top[0].What.Colour.Hex != "#337a9e" {
		t.Errorf("the copy's paint is %v, want #337a9e", top)
	}
	for _, l := range d.Layers {
		if strings.HasPrefix(l.Name, "Rust in seams") && math.Abs(float64(l.Opacity)-0.33) > 1e-6 {
			t.Errorf("“%s” has opacity %g, a hand set 0.33", l.Name, l.Opacity)
		}
	}
}

// A group that is saved as a finish lies on a model of another size as it lay here: lengths grow with the model, heights and
// places on it too; its dials go on, or it gets two.
func TestAnyGroupIsSavedAsAFinish(t *testing.T) {
	d, group := laid(t, "algae-line", map[string]float64{"amount": 0.9})
	f, notes, err := Save(d, group, "Slip algae", "of the slipway", 2)
	if err != nil || len(notes) > 0 || f.Name != "own-slip-algae" || len(f.Dials) != 3 {
		t.Fatalf("%+v, %v, %v", f, notes, err)
	}
	text, _ := json.Marshal(f)
	back, err := Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	on := new(strata.Document)
	layers, err := back.Group(on, nil, 20)
	if err != nil {
		t.Fatal(err)
	}
	g := layers[len(layers)-1]
	if g.Name != "Slip algae" || g.Finish == nil || g.Finish.Own == nil || g.Finish.Dials["amount"] != 0.9 {
		t.Errorf("the group is %+v", g)
	}
	for i, l := range layers[:len(layers)-1] {
		was := in(t, d, group, l.Name)
		if l.In != g.ID || i == 0 && l.What.Colour != was.What.Colour {
			t.Errorf("%s: %+v, was %+v", l.Name, l, was)
		}
		if h := l.What.Height.Number; h != 0 && math.Abs(float64(h/was.What.Height.Number)-10) > 1e-4 {
			t.Errorf("%s is %g mm high, was %g on a model a tenth as large", l.Name, h, was.What.Height.Number)
		}
		for k, c := range l.Where {
			for _, p := range []string{"size", "from", "to"} {
				if v, ok := c.Params[p]; ok && math.Abs(v/was.Where[k].Params[p]-10) > 1e-6 {
					t.Errorf("%s, clause %d: %s is %g m, was %g on a model a tenth as large", l.Name, k, p, v, was.Where[k].Params[p])
				}
			}
		}
	}
	on.Layers = layers
	if _, err := Turn(on, g.ID, map[string]float64{"amount": 0.2}); err != nil {
		t.Error(err)
	}

	// A group of no finish; one of its clauses looks at a layer outside.
	_, hand, err := d.Apply(strata.Edit{Do: "group", Layers: []string{d.Layers[0].ID}})
	if err != nil {
		t.Fatal(err)
	}
	coat := d.Layers[0].ID
	if _, _, err := d.Apply(strata.Edit{Do: "clause.add", Layer: coat, Kind: "same"}); err != nil {
		t.Fatal(err)
	}
	d.Layers[0].Where[0].Layers = []string{group}
	f, notes, err = Save(d, hand, "Primer", "", 2)
	if err != nil || len(notes) != 1 || len(f.Dials) != 2 || f.Dials[0].Name != "amount" {
		t.Fatalf("%+v, %v, %v", f, notes, err)
	}
	half, err := f.Group(new(strata.Document), map[string]float64{"amount": 0.5}, 2)
	if err != nil || half[len(half)-1].Opacity != 0.5 || len(half) != 2 {
		t.Errorf("at half its amount: %+v, %v", half, err)
	}
	if _, _, err := Save(d, coat, "x", "", 2); err == nil {
		t.Error("a coat is saved as a finish")
	}
}

// Files that are no finishes are refused with the place that is wrong.
func TestBrokenFinishesAreTold(t *testing.T) {
	const sound = `{"name":"a","title":"A","help":"","metres":1,"dials":[{"name":"age","min":0,"max":1,"default":0.5}],"layers":[{"id":"x","name":"X"}],"drives":[{"dial":"age","path":"x.opacity","curve":[[0,0],[1,1]]}]}`
	if _, err := Parse([]byte(sound)); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ from, to, want string }{
		{`"metres":1`, `"metres":0`, "metres: 0 is no size"},
		{`"metres":1`, `"meters":1`, "“meters” is not known here"},
		{`"path":"x.opacity"`, `"path":"y.opacity"`, "drives[0].path"},
		{`"path":"x.opacity"`, `"path":"x.where.3.shape.low"`, "there is no clause 3"},
		{`"path":"x.opacity"`, `"path":"x.name"`, "a number where text belongs"},
		{`"dial":"age"`, `"dial":"rage"`, "there is no dial “rage”"},
		{`"max":1,`, `"max":-1,`, "min ≤ default ≤ max"},
		{`"name":"X"`, `"nom":"X"`, "“nom” is not known here"},
		{`[{"id":"x","name":"X"}]`, `[]`, "1 to 100"},
		{`"drives"`, `"drives`, "no sound JSON"},
	} {
		_, err := Parse([]byte(strings.Replace(sound, c.from, c.to, 1)))
		if err == nil || !strings.Contains(strings.ReplaceAll(err.Error(), `"`, ""), strings.Trim(strings.ReplaceAll(c.want, "“meters”", "meters"), `"`)) {
			t.Errorf("%s: %v, want “%s”", c.to, err, c.want)
		}
	}
}

// The files built in are read as those that people bring in are.
func TestBuiltInFinishesAreSound(t *testing.T) {
	for i := range Finishes {
		data, err := files.ReadFile(path.Join("builtin", Finishes[i].Name+".json"))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Parse(data); err != nil {
			t.Errorf("%s: %v", Finishes[i].Name, err)
		}
		if n := len(Finishes[i].Dials); n < 2 || n > 5 {
			t.Errorf("%s has %d dials, want 2 to 5", Finishes[i].Name, n)
		}
	}
}

func FuzzParse(f *testing.F) {
	for i := range Finishes {
		b, _ := json.Marshal(Finishes[i])
		f.Add(b)
	}
	f.Add([]byte(`{"name":"a","title":"A","metres":1,"layers":[{"id":"x","name":"X","what":{"height":{"number":1}},"where":[{"kind":"noise"}]}],"dials":[{"name":"scale","min":0.1,"max":9,"default":1}],"drives":[{"dial":"scale","path":"x.where.0.params.size","curve":[[0,0]]}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		if fin, err := Parse(data); err == nil {
			if _, err := fin.Group(new(strata.Document), nil, 1); err != nil {
				t.Errorf("it was read, and cannot be laid: %v", err)
			}
		}
	})
}

package strata

import (
	"encoding/json"
	"math"
	"strings"
	"testing"
)

func raw(v any) json.RawMessage {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	return b
}

func apply(t *testing.T, d *Document, e Edit) (label, layer string) {
	t.Helper()
	label, layer, err := d.Apply(e)
	if err != nil {
		t.Fatalf("%+v: %v", e, err)
	}
	return label, layer
}

func names(d *Document) string {
	var out []string
	for _, l := range d.Layers {
		out = append(out, l.Name)
	}
	return strings.Join(out, ",")
}

func TestEditsChangeTheStrata(t *testing.T) {
	d := new(Document)
	_, a := apply(t, d, Edit{Do: "add"})
	_, b := apply(t, d, Edit{Do: "add", Layer: a})
	apply(t, d, Edit{Do: "set", Layer: a, Path: "name", Value: raw("Steel")})
	label, _ := apply(t, d, Edit{Do: "set", Layer: b, Path: "what.roughness.number", Value: raw(0.9)})
	if label != "Change roughness number of Coat 2" && label != "Change roughness number of Coat" {
		t.Errorf("label %q", label)
	}
	_, c := apply(t, d, Edit{Do: "duplicate", Layer: a})
	if got := names(d); !strings.HasPrefix(got, "Steel,Steel 2,") {
		t.Errorf("layers %s, want the copy right above its layer", got)
	}
	apply(t, d, Edit{Do: "move", Layer: c, To: 2})
	if _, at, _ := d.Layer(c); at != 2 {
		t.Errorf("moved to %d, want 2", at)
	}
	apply(t, d, Edit{Do: "clause.add", Layer: b, Kind: "edges"})
	apply(t, d, Edit{Do: "clause.add", Layer: b, Kind: "noise"})
	l, _, _ := d.Layer(b)
	noise := l.Where[1].ID
	apply(t, d, Edit{Do: "clause.set", Layer: b, Clause: noise, Path: "params.size", Value: raw(0.004)})
	apply(t, d, Edit{Do: "clause.set", Layer: b, Clause: noise, Path: "join", Value: raw("minus")})
	apply(t, d, Edit{Do: "clause.set", Layer: b, Clause: l.Where[0].ID, Path: "shape.invert", Value: raw(true)})
	l, _, _ = d.Layer(b)
	if got := d.Reading(l); got != "away from edges, but not broken up by clouds of 4 mm" {
		t.Errorf("reading %q", got)
	}
	apply(t, d, Edit{Do: "clause.set", Layer: b, Clause: l.Where[0].ID, Path: "params.breadth", Value: raw(1)})
	l, _, _ = d.Layer(b)
	if got := d.Reading(l); got != "away from tight edges, but not broken up by clouds of 4 mm" {
		t.Errorf("reading %q", got)
	}
	apply(t, d, Edit{Do: "clause.move", Layer: b, Clause: noise, To: 0})
	l, _, _ = d.Layer(b)
	if l.Where[0].ID != noise {
		t.Error("the clause did not move to the front")
	}
	apply(t, d, Edit{Do: "clause.delete", Layer: b, Clause: noise})
	apply(t, d, Edit{Do: "delete", Layer: c})
	if len(d.Layers) != 2 {
		t.Errorf("%d layers left, want 2", len(d.Layers))
	}
}

// A refused edit says why, and leaves the document as it was.
func TestRefusedEditsChangeNothing(t *testing.T) {
	d := new(Document)
	_, a := apply(t, d, Edit{Do: "add"})
	apply(t, d, Edit{Do: "clause.add", Layer: a, Kind: "noise"})
	c := d.Layers[0].Where[0].ID
	before := string(raw(d))
	for _, k := range []struct {
		e    Edit
		want string
	}{
		{Edit{Do: "paint"}, "not an edit"},
		{Edit{Do: "delete", Layer: "l99"}, "no layer"},
		{Edit{Do: "set", Layer: a, Path: "opacity", Value: raw(1.5)}, "from 0 to 1"},
		{Edit{Do: "set", Layer: a, Path: "opacity", Value: raw("much")}, "cannot take"},
		{Edit{Do: "set", Layer: a, Path: "colour", Value: raw(1)}, "cannot take"},
		{Edit{Do: "set", Layer: a, Path: "id", Value: raw("l7")}, "cannot be set"},
		{Edit{Do: "set", Layer: a, Path: "name", Value: raw(" ")}, "a name has"},
		{Edit{Do: "set", Layer: a, Path: "what.colour.hex", Value: raw("red")}, "#rrggbb"},
		{Edit{Do: "set", Layer: a, Path: "what.colour.blend", Value: raw("glow")}, "not a blend mode"},
		{Edit{Do: "set", Layer: a, Path: "name"}, "no value"},
		{Edit{Do: "clause.add", Layer: a, Kind: "sparkle"}, "not a kind"},
		{Edit{Do: "clause.set", Layer: a, Clause: c, Path: "params.size", Value: raw(-1)}, "from 0.001"},
		{Edit{Do: "clause.set", Layer: a, Clause: c, Path: "params.form", Value: raw(1.5)}, "from 0 to 9"},
		{Edit{Do: "clause.set", Layer: a, Clause: c, Path: "shape.low", Value: raw(2)}, "from 0 to 1"},
		{Edit{Do: "clause.set", Layer: a, Clause: c, Path: "kind", Value: raw("edges")}, "cannot be set"},
		{Edit{Do: "clause.set", Layer: a, Clause: "c77", Path: "join", Value: raw("or")}, "no clause"},
	} {
		_, _, err := d.Apply(k.e)
		if err == nil || !strings.Contains(err.Error(), k.want) {
			t.Errorf("%+v: %v, want “%s”", k.e, err, k.want)
		}
		if string(raw(d)) != before {
			t.Fatalf("%+v changed the document", k.e)
		}
	}
}

func TestDocumentsComeBackFromJSON(t *testing.T) {
	d := new(Document)
	_, a := apply(t, d, Edit{Do: "add"})
	apply(t, d, Edit{Do: "clause.add", Layer: a, Kind: "parts"})
	apply(t, d, Edit{Do: "clause.set", Layer: a, Clause: d.Layers[0].Where[0].ID, Path: "parts", Value: raw([]string{"lens"})})
	back, err := Parse(raw(d))
	if err != nil {
		t.Fatal(err)
	}
	if string(raw(back)) != string(raw(d)) {
		t.Errorf("%s came back as %s", raw(d), raw(back))
	}
	for _, bad := range []string{"", "{", `{"layers":[{"id":"a","name":"x","opacity":1},{"id":"a","name":"y","opacity":1}]}`} {
		if _, err := Parse([]byte(bad)); err == nil {
			t.Errorf("%q is accepted", bad)
		}
	}
}

// The joins by their definitions in the vocabulary.
func TestJoins(t *testing.T) {
	want := map[string]float64{"and": 0.3 * 0.8, "or": 1 - 0.7*0.2, "plus": 1, "minus": 0, "higher": 0.8, "lower": 0.3, "replace": 0.8}
	for _, j := range Joins {
		if got := float64(j.Kernel.Mix(0.3, 0.8)); math.Abs(got-want[j.Name]) > 1e-6 {
			t.Errorf("0.3 %s 0.8 = %g, want %g", j.Name, got, want[j.Name])
		}
	}
}

// Layers that are pasted have marks and names of their own; what one says of another that came along is said of its copy, and
// what it says of one that is not there is left out.
func TestPastedLayersAreTheirOwn(t *testing.T) {
	d := new(Document)
	_, a := apply(t, d, Edit{Do: "add"})
	apply(t, d, Edit{Do: "set", Layer: a, Path: "name", Value: raw("Wear")})
	_, b := apply(t, d, Edit{Do: "add", Layer: a})
	apply(t, d, Edit{Do: "clause.add", Layer: b, Kind: "same"})
	same, _, _ := d.Layer(b)
	apply(t, d, Edit{Do: "clause.set", Layer: b, Clause: same.Where[0].ID, Path: "layers", Value: raw([]string{a})})
	clip := raw(Clip{Layers: d.Clone().Layers})
	label, top := apply(t, d, Edit{Do: "paste", Layer: a, Value: clip})
	if names(d) != "Wear,Wear 2,Coat 2,Coat" || label != "Paste 2 layers" {
		t.Fatalf("%s after “%s”", names(d), label)
	}
	l, i, err := d.Layer(top)
	if err != nil || i != 2 || l.Where[0].Layers[0] != d.Layers[1].ID || l.Where[0].ID == d.Layers[3].Where[0].ID {
		t.Errorf("the copy lies at %d and says it is the same as %v, want %s", i, l.Where[0].Layers, d.Layers[1].ID)
	}
	if got := d.Reading(l); got != "the same as “Wear 2”" {
		t.Errorf("it reads %q", got)
	}
	other := new(Document)
	_, x := apply(t, other, Edit{Do: "paste", Value: raw(Clip{Layers: []Layer{d.Layers[3]}})})
	if l, _, _ := other.Layer(x); len(l.Where) != 1 || l.Where[0].Layers != nil || other.Reading(l) != "the same as no layer yet" {
		t.Errorf("in another document it is the same as %v", l.Where[0].Layers)
	}
	label, _ = apply(t, other, Edit{Do: "where.paste", Layer: x, Value: raw(Clip{Where: []Clause{{Kind: "edges", Join: "and", Shape: same.Where[0].Shape}}})})
	if l, _, _ := other.Layer(x); other.Reading(l) != "on edges" || l.Where[0].ID == "" || label != "Paste the Where of Coat" {
		t.Errorf("%q reads %q", label, other.Reading(l))
	}
	for _, e := range []Edit{
		{Do: "paste", Value: raw("words")}, {Do: "paste", Value: raw(Clip{})}, {Do: "paste", Value: raw(map[string]any{"layers": []any{map[string]any{"name": "x", "glow": 1}}})},
		{Do: "where.paste", Layer: x, Value: raw(map[string]any{})}, {Do: "where.paste", Layer: "l99", Value: raw(Clip{})},
		{Do: "paste", Value: raw(Clip{Layers: []Layer{{ID: "l1", Name: "x", Opacity: 7}}})},
	} {
		before := string(raw(other))
		if _, _, err := other.Apply(e); err == nil || string(raw(other)) != before {
			t.Errorf("%+v: %v", e, err)
		}
	}
}

// A clause that is off is not read, and a Where without any other is everywhere.
func TestClausesThatAreOffAreNotRead(t *testing.T) {
	d := new(Document)
	_, a := apply(t, d, Edit{Do: "add"})
	apply(t, d, Edit{Do: "clause.add", Layer: a, Kind: "edges"})
	apply(t, d, Edit{Do: "clause.add", Layer: a, Kind: "shelter"})
	l, _, _ := d.Layer(a)
	first, second := l.Where[0].ID, l.Where[1].ID
	apply(t, d, Edit{Do: "clause.set", Layer: a, Clause: second, Path: "join", Value: raw("minus")})
	for _, c := range []struct {
		off  string
		want string
	}{{"", "on edges, but not in shelter"}, {first, "in shelter"}, {second, "everywhere"}} {
		if c.off != "" {
			apply(t, d, Edit{Do: "clause.set", Layer: a, Clause: c.off, Path: "off", Value: raw(true)})
		}
		l, _, _ := d.Layer(a)
		if got := d.Reading(l); got != c.want {
			t.Errorf("it reads %q, want %q", got, c.want)
		}
	}
}

// A group, or all that lies above or below a layer, is flattened: what it holds stays, cannot be changed meanwhile, and comes
// back whole; undo takes the step back as it does any.
func TestFlattening(t *testing.T) {
	d := new(Document)
	for _, name := range []string{"Steel", "Paint", "Rust", "Dirt"} {
		d.Layers = append(d.Layers, d.NewLayer(name))
	}
	before := d.Clone()
	paint := d.Layers[1].ID
	label, mark, err := d.Apply(Edit{Do: "flatten", Layer: paint, Kind: "above"})
	if err != nil || label != "Flatten Above Paint" {
		t.Fatalf("%q, %v", label, err)
	}
	g, i, _ := d.Layer(mark)
	if tree := d.Tree(); !g.Flat || len(tree.Holds(i)) != 2 || i != 4 {
		t.Errorf("the group holds %v and stands at %d", tree.Holds(i), i)
	}
	rust, _ := d.Named("Rust")
	if _, _, err := d.Apply(Edit{Do: "set", Layer: rust.ID, Path: "opacity", Value: []byte("0.5")}); err == nil || err.Error() != "“Above Paint” is flattened; open it first" {
		t.Errorf("a layer in it was changed: %v", err)
	}
	if _, _, err := d.Apply(Edit{Do: "set", Layer: mark, Path: "opacity", Value: []byte("0.5")}); err != nil {
		t.Errorf("its own opacity: %v", err)
	}
	// Nothing comes into it: a coat that is added goes above, and what is moved is refused.
	if _, _, err := d.Apply(Edit{Do: "move", Layer: paint, In: mark}); err == nil || err.Error() != "“Above Paint” is flattened; open it first" {
		t.Errorf("a layer was moved into it: %v", err)
	}
	_, added, err := d.Apply(Edit{Do: "add", Layer: mark})
	if l, at, _ := d.Layer(added); err != nil || l.In != "" || at != 5 {
		t.Errorf("a coat was added to %q at %d: %v", l.In, at, err)
	}
	if _, _, err := d.Apply(Edit{Do: "delete", Layer: added}); err != nil {
		t.Fatal(err)
	}
	if _, _, err := d.Apply(Edit{Do: "set", Layer: mark, Path: "flat", Value: []byte("false")}); err != nil {
		t.Fatal(err)
	}
	if rust, _ := d.Named("Rust"); !rust.equal(&before.Layers[2]) && rust.In == mark {
		in := *rust
		in.In = ""
		if !in.equal(&before.Layers[2]) {
			t.Errorf("what was flattened came back as %+v", rust)
		}
	}
	steel, _ := d.Named("Steel")
	steel.Opacity = 0.9
	d.Layers[1].Clip = true // Paint, to Steel
	for _, e := range []Edit{{Do: "flatten", Layer: paint, Kind: "below"}, {Do: "flatten", Layer: steel.ID, Kind: "above"}} {
		if _, _, err := d.Clone().Apply(e); err == nil || !strings.HasPrefix(err.Error(), "“Paint” is clipped to “Steel”") {
			t.Errorf("%s of a clipped layer: %v", e.Kind, err)
		}
	}
	for _, e := range []Edit{{Do: "flatten", Layer: steel.ID}, {Do: "flatten", Layer: steel.ID, Kind: "below"}, {Do: "flatten", Layer: steel.ID, Kind: "beside"}, {Do: "set", Layer: steel.ID, Path: "flat", Value: []byte("true")}} {
		was := d.Clone()
		if _, _, err := d.Apply(e); err == nil {
			t.Errorf("%+v was made", e)
		}
		if len(Diff(was, d)) > 0 {
			t.Errorf("%+v left traces", e)
		}
	}
}

// Colours are six hexadecimal digits behind a hash, two a channel (CSS Color 4, 5.2); nothing else is one.
func TestColoursAreReadAsHex(t *testing.T) {
	if got, err := ParseHex("#0080Ff"); err != nil || got != [3]float32{0, 128. / 255, 1} {
		t.Errorf("%v, %v", got, err)
	}
	for _, bad := range []string{"", "#", "0080ff0", "#0080f", "#0080ff0", "#0080fg", "# 080ff", "#+080ff", "#-080ff", "#0x80ff", "##080ff", "#00_0ff"} {
		if got, err := ParseHex(bad); err == nil {
			t.Errorf("“%s” is read as %v", bad, got)
		}
	}
}

// What is new shows on a coin as on a ship: lengths go by the model, in steps of 1, 2 and 5 (common practice), and stay as they are on models of about a metre to some metres. What a length is against others, as the depth
// of relief against heights, does not.
func TestFirstLengthsGoByTheModel(t *testing.T) {
	for _, k := range []struct{ size, noise, none float64 }{{0, 0.08, 0.4}, {0.05, 0.0016, 0.008}, {0.31, 0.008, 0.04}, {0.9, 0.08, 0.4}, {2.4, 0.08, 0.4}, {7, 0.08, 0.4}, {13, 0.4, 2}, {200, 8, 40}, {1e5, 20, 1000}, {1e-4, 0.001, 2e-5}} {
		d := new(Document)
		_, l := apply(t, d, Edit{Do: "add"})
		for _, kind := range []string{"noise", "reach", "relief"} {
			apply(t, d, Edit{Do: "clause.add", Layer: l, Kind: kind, Size: k.size})
		}
		where := d.Layers[0].Where
		if got := where[0].Params["size"]; got != k.noise {
			t.Errorf("on a model of %g m noise begins at %g m, want %g", k.size, got, k.noise)
		}
		if got := where[1].Params["to"]; got != k.none {
			t.Errorf("on a model of %g m reach ends at %g m, want %g", k.size, got, k.none)
		}
		if got := where[2].Params["depth"]; got != 0.0005 {
			t.Errorf("on a model of %g m relief is %g m deep, want 0.0005", k.size, got)
		}
	}
}

// What is added is seen on what lies below, coats as brushwork, before a colour is chosen for it: its own is 20 of 255 or more away from
// each other's, and like those of plain surfaces (30–240 in sRGB, common practice).
func TestWhatIsAddedHasAColourOfItsOwn(t *testing.T) {
	d := new(Document)
	for n := range len(firstColours) + 3 {
		kind := ""
		if n%3 == 2 {
			kind = "brush"
		}
		apply(t, d, Edit{Do: "add", Kind: kind})
	}
	var seen [][3]float32
	for i, l := range d.Layers {
		rgb, err := ParseHex(l.What.Colour.Hex)
		if err != nil {
			t.Fatal(err)
		}
		for _, v := range rgb {
			if v < 30./255 || v > 240./255 {
				t.Errorf("%s begins with %s, which no plain surface has", l.Name, l.What.Colour.Hex)
			}
		}
		for _, o := range seen {
			far := float32(0)
			for k := range rgb {
				far = max(far, rgb[k]-o[k], o[k]-rgb[k])
			}
			if i < len(firstColours) && far < 20./255 {
				t.Errorf("%s begins with %s, %.0f of 255 from another", l.Name, l.What.Colour.Hex, far*255)
			}
		}
		seen = append(seen, rgb)
	}
}

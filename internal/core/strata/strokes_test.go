package strata

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"crust/internal/core/brush"
)

// Lists of strokes go through text and back, whatever they hold, and runs of numbers are short.
func TestStrokesAsText(t *testing.T) {
	for text, want := range map[string]Strokes{
		"":              nil,
		"7":             {7},
		"1-4 9":         {1, 2, 3, 4, 9},
		"1-2 !3 4 2":    {1, 2, -3, 4, 2},
		"100001-100003": {100001, 100002, 100003},
	} {
		var got Strokes
		if err := got.UnmarshalText([]byte(text)); err != nil || !slices.Equal(got, want) {
			t.Errorf("%q: %v, %v", text, got, err)
		}
		if back, _ := got.MarshalText(); string(back) != text {
			t.Errorf("%q came back as %q", text, back)
		}
	}
	for _, text := range []string{"x", "0", "-3", "4-2", "1-", "!1-3", "1-99999999", "9999999999"} {
		if err := new(Strokes).UnmarshalText([]byte(text)); err == nil {
			t.Errorf("%q was taken", text)
		}
	}
}

// painted is a document with one brush clause.
func paintedDocument(t *testing.T) (d *Document, e Edit) {
	t.Helper()
	d = new(Document)
	_, layer := mustApply(t, d, Edit{Do: "add", Kind: "brush"})
	l, _, err := d.Layer(layer)
	if err != nil || len(l.Where) != 1 || l.Where[0].Kind != "brush" {
		t.Fatalf("%+v, %v", l, err)
	}
	return d, Edit{Layer: layer, Clause: l.Where[0].ID}
}

func mustApply(t *testing.T, d *Document, e Edit) (label, layer string) {
	t.Helper()
	label, layer, err := d.Apply(e)
	if err != nil {
		t.Fatalf("%+v: %v", e, err)
	}
	return label, layer
}

// Any changes of strokes are undone by their inverted operations, made again by themselves, and pass over what others did since.
func TestStrokesAreUndoneAmongOthers(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	for range 300 {
		d, at := paintedDocument(t)
		next := int32(1)
		list := func() *Strokes { return &d.Layers[0].Where[0].Strokes }
		some := func() (out Strokes) {
			for _, n := range *list() {
				if r.IntN(3) == 0 {
					out = append(out, max(n, -n))
				}
			}
			return out
		}
		step := func() (Edit, bool) {
			e := at
			switch e.Do = []string{"stroke.add", "stroke.add", "stroke.add", "stroke.delete", "stroke.hide", "stroke.show", "stroke.change"}[r.IntN(7)]; e.Do {
			case "stroke.add":
				e.Strokes = Strokes{next, next + 1}
				next += 2
			case "stroke.change":
				e.Strokes = some()
				for range e.Strokes {
					e.With = append(e.With, next)
					next++
				}
			default:
				e.Strokes = some()
			}
			return e, len(e.Strokes) > 0
		}
		var done [][]Op
		for range 12 {
			before := d.Clone()
			e, ok := step()
			if !ok {
				continue
			}
			mustApply(t, d, e)
			ops := Diff(before, d)
			back, err := d.Patch(Invert(ops))
			if err != nil || !slices.Equal(back.Layers[0].Where[0].Strokes, before.Layers[0].Where[0].Strokes) {
				t.Fatalf("%+v was undone to %v, want %v (%v)", e, back.Layers[0].Where[0].Strokes, before.Layers[0].Where[0].Strokes, err)
			}
			again, err := back.Patch(ops)
			if err != nil || !slices.Equal(again.Layers[0].Where[0].Strokes, *list()) {
				t.Fatalf("%+v was made again to %v, want %v (%v)", e, again.Layers[0].Where[0].Strokes, *list(), err)
			}
			done = append(done, ops)
		}
		// One of another's, laid after all of them, stays when the earlier ones are taken back.
		other := at
		other.Do, other.Strokes = "stroke.add", Strokes{9999}
		mustApply(t, d, other)
		for _, ops := range slices.Backward(done) {
			var err error
			if d, err = d.Patch(Invert(ops)); err != nil {
				t.Fatal(err)
			}
		}
		if !slices.Equal(*list(), Strokes{9999}) {
			t.Fatalf("%v is left, want the one of another", *list())
		}
	}
}

// An operation of one stroke is short, however many there are.
func TestAStrokeIsAShortOperation(t *testing.T) {
	d, at := paintedDocument(t)
	at.Do = "stroke.add"
	for n := int32(1); n <= 20_000; n++ {
		at.Strokes = append(at.Strokes, n)
	}
	mustApply(t, d, at)
	before := d.Clone()
	at.Strokes = Strokes{20_001}
	mustApply(t, d, at)
	if text := encode(Diff(before, d)); len(text) > 200 {
		t.Errorf("%d bytes: %s", len(text), text)
	}
	if text := encode(d); len(text) > 4000 {
		t.Errorf("a document of a run of strokes has %d bytes", len(text))
	}
}

const strokeFile = `{"layers": [{"name": "Numerals", "where": [{"kind": "brush", "strokes": [
	{"brush": "Chalk", "size": 0.05, "paths": [[[0, 1, 0, 0, 0, 1, 1], [0.5, 1, 0, 0, 0, 1, 0.5]], [[0, 2, 0, 0, 0, 1, 1]]]},
	{"brush": {"name": "Mine", "tip": "chip", "hardness": 0.25}, "size": 0.1, "erase": true, "hidden": true, "hold": {"part": "hull"}, "mirror": {"x": true, "centre": [0, 0, 0]}, "paths": [[[0, 1, 0, 0, 1, 0, 1]]]},
	{"size": 0.3, "stamp": {"text": {"words": "NO. 7\nSALTMERE", "font": "plate", "stencil": true}, "straight": true, "depth": 0.1, "gap": 0.5}, "paths": [[[0, 1, 0, 0, 1, 0, 1], [2, 1, 0, 0, 1, 0, 1]]]},
	{"size": 0.1, "work": "clone", "source": [0, 1, 0, 0, 1, 0, 1], "paths": [[[2, 1, 0, 0, 1, 0, 1]]]},
	{"size": 0.1, "stencil": {"alpha": "bars", "through": [1, 0, 0, 0, 0, 0, -1, 0, 0, -1, 0, 1], "repeat": true}, "paths": [[[2, 1, 0, 0, 1, 0, 1]]]}]}]}], "alphas": {"bars": {"side": 2, "grey": "AP8A/w=="}}}`

// Strokes are written in full in files, by name or with their numbers, and come out as they went in.
func TestStrokesGoThroughFiles(t *testing.T) {
	d, painted, err := ParseFile([]byte(strokeFile))
	if err != nil {
		t.Fatal(err)
	}
	list := d.Layers[0].Where[0].Strokes
	if !slices.Equal(list, Strokes{1, -2, 3, 4, 5}) || len(painted) != 5 {
		t.Fatalf("%v, %d strokes", list, len(painted))
	}
	if s := painted[1]; s.Brush.Tip != "chalk" || len(s.Paths) != 2 || s.Paths[0][1].Pressure() != 0.5 {
		t.Errorf("%+v", s)
	}
	if s := painted[2]; s.Brush.Hardness != 0.25 || s.Brush.Flow != 1 || !s.Erase || s.Hold.Part != "hull" || !s.Again.X {
		t.Errorf("%+v", s)
	}
	if s := painted[3]; s.Stamp == nil || s.Stamp.Text.Words != "NO. 7\nSALTMERE" || !s.Stamp.Straight || s.Stamp.Gap != 0.5 {
		t.Errorf("%+v", s)
	}
	if s := painted[4]; s.Work != "clone" || s.Source == nil || s.Source[1] != 1 {
		t.Errorf("%+v", s)
	}
	if s := painted[5]; s.Stencil == nil || !s.Stencil.Repeat || s.Pictures()["bars"] == nil {
		t.Errorf("%+v", s)
	}
	full, err := d.InFull(func(n int32) (*brush.Stroke, error) { return painted[n], nil })
	if err != nil {
		t.Fatal(err)
	}
	text, err := json.Marshal(full)
	if err != nil {
		t.Fatal(err)
	}
	again, back, err := ParseFile(text)
	if err != nil || !slices.Equal(again.Layers[0].Where[0].Strokes, list) {
		t.Fatalf("%v, %v", err, again)
	}
	for n, s := range painted {
		if fmt.Sprintf("%+v", *back[n]) != fmt.Sprintf("%+v", *s) && (s.Hold == nil || *back[n].Hold != *s.Hold) && (s.Stamp == nil || *back[n].Stamp.Text != *s.Stamp.Text) && (s.Source == nil || *back[n].Source != *s.Source) && (s.Stencil == nil || *back[n].Stencil != *s.Stencil) {
			t.Errorf("stroke %d came back as %+v, was %+v", n, back[n], s)
		}
	}
	for find, put := range map[string]string{`"Chalk"`: `"Feather"`, `"size": 0.05`: `"size": -1`, `"chip"`: `"hoof"`, `"erase": true`: `"rub": true`, `"paths": [[[0, 1, 0, 0, 1, 0, 1]]]`: `"paths": []`, `[0, 2, 0, 0, 0, 1, 1]`: `[0, 2, 0, 0, 0, 5, 1]`, `"plate"`: `"slate"`, `"gap": 0.5`: `"gap": 1e-9`, `"depth": 0.1`: `"depth": -1`, `"clone"`: `"copy"`, `"source": [0, 1, 0, 0, 1, 0, 1], `: ``, `"alpha": "bars"`: `"alpha": "dots"`} {
		_, _, err := ParseFile([]byte(strings.Replace(strokeFile, find, put, 1)))
		if err == nil || !strings.Contains(err.Error(), "layers[0].where[0].strokes[") {
			t.Errorf("%s: %v", put, err)
		}
	}
}

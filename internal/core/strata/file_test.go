package strata

import (
	"os"
	"strings"
	"testing"
)

// A document's file says little and gets the rest: marks, and the defaults of docs/strata.md.
func TestFilesMayLeaveOutWhatStandsAtItsDefault(t *testing.T) {
	d, _, err := ParseFile([]byte(`{"layers": [{"name": "Steel", "what": {"metallic": {"number": 1}}},
		{"id": "l1", "name": "Paint", "what": {"colour": {"hex": "#b03a2e"}, "height": {"on": false}}, "where": [{"kind": "noise", "params": {"size": 0.02}}]}]}`))
	if err != nil {
		t.Fatal(err)
	}
	steel, paint := &d.Layers[0], &d.Layers[1]
	if steel.ID == "" || steel.ID == paint.ID || paint.ID != "l1" {
		t.Errorf("marks %q and %q", steel.ID, paint.ID)
	}
	if m := steel.What.Metallic; !m.On || m.Number != 1 || m.Opacity != 1 || m.Blend != "over" || steel.What.Colour.On || steel.Opacity != 1 {
		t.Errorf("steel is %+v", steel)
	}
	c := paint.Where[0]
	if c.ID == "" || c.Join != "and" || c.Shape.High != 1 || c.Shape.Strength != 1 || c.Shape.Balance != 0.5 || paint.What.Height.On || !paint.What.Colour.On {
		t.Errorf("paint is %+v", paint)
	}
	if got := d.Reading(paint); got != "broken up by clouds of 2 cm" {
		t.Errorf("it reads %q", got)
	}
	// What is written out comes back the same, and counts marks on from there.
	back, _, err := ParseFile(raw(d))
	if err != nil || string(raw(back)) != string(raw(d)) {
		t.Errorf("%s came back as %s, %v", raw(d), raw(back), err)
	}
	if _, id := apply(t, back, Edit{Do: "add"}); id == steel.ID || id == paint.ID {
		t.Errorf("a new layer is marked %s as another is", id)
	}
}

// Whatever is wrong is named by its path.
func TestFilesThatAreWrongSayWhere(t *testing.T) {
	layer := func(s string) string { return `{"layers": [{"name": "a"}, {"name": "b", ` + s + `}]}` }
	for _, c := range []struct{ file, want string }{
		{`{`, "no sound JSON"},
		{`[1]`, "an object with “layers”"},
		{`{"layers": []} {}`, "more follows"},
		{`{"layers": {}}`, "layers: an object stands where a list belongs"},
		{`{"strata": []}`, "“strata” is not known here; use layers, next"},
		{layer(`"opacity": 2`), "layers[1].opacity: opacity is 2; it goes from 0 to 1"},
		{layer(`"opacity": "half"`), "layers[1].opacity: text stands where a number belongs"},
		{layer(`"hidden": null`), "layers[1].hidden: nothing stands where true or false belongs"},
		{layer(`"colour": "#fff"`), "layers[1]: “colour” is not known here; use id, name"},
		{layer(`"what": {"colour": {"hex": "red"}}`), "layers[1].what.colour.hex: “red” is not a colour"},
		{layer(`"what": {"height": {"number": 99}}`), "layers[1].what.height.number: Height is 99; it goes from -50 to 50"},
		{layer(`"what": {"roughness": {"blend": "glow"}}`), "layers[1].what.roughness.blend: "},
		{layer(`"where": [{"kind": "noise"}, {"kind": "glitter"}]`), "layers[1].where[1].kind: “glitter” is not a kind of clause; use edges"},
		{layer(`"where": [{"kind": "noise", "params": {"size": -1}}]`), "layers[1].where[0].params.size: Noise: size is -1; it goes from 0.001 to 20"},
		{layer(`"where": [{"kind": "noise", "params": {"sise": 1}}]`), "layers[1].where[0].params.sise: Noise has no such parameter"},
		{layer(`"where": [{"kind": "edges", "join": "nor"}]`), "layers[1].where[0].join: “nor” is not a join; use and"},
		{layer(`"where": [{"kind": "edges", "shape": {"low": 3}}]`), "layers[1].where[0].shape: Edges: low is 3"},
		{`{"layers": [{"id": "l1"}, {"id": "l1"}]}`, "layers[1].id: two layers share the mark “l1”"},
	} {
		_, _, err := ParseFile([]byte(c.file))
		if err == nil || !strings.Contains(err.Error(), c.want) || strings.Contains(err.Error(), "\n") {
			t.Errorf("%s: %v, want “%s”", c.file, err, c.want)
		}
	}
}

// docs/strata.md is made from the tables, and its example is a document.
func TestTheReferenceIsCurrent(t *testing.T) {
	const name = "../../../docs/strata.md"
	text, err := os.ReadFile(name)
	if err != nil || string(text) != Reference() {
		t.Errorf("docs/strata.md is not what the tables say (%v); write it anew with: crust strata --reference > docs/strata.md", err)
	}
	_, example, _ := strings.Cut(Reference(), "```json\n")
	example, _, _ = strings.Cut(example, "```")
	if d, _, err := ParseFile([]byte(example)); err != nil || len(d.Layers) != 2 {
		t.Errorf("the example is refused: %v", err)
	}
}

func FuzzFile(f *testing.F) {
	f.Add([]byte(`{"layers": [{"name": "a", "what": {"colour": {"hex": "#102030"}}, "where": [{"kind": "noise", "params": {"size": 1}}]}], "next": 3}`))
	f.Add([]byte(`{"layers": null}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		d, _, err := ParseFile(data)
		if err != nil {
			return
		}
		back, _, err := ParseFile(raw(d))
		if err != nil || string(raw(back)) != string(raw(d)) {
			t.Errorf("%s is accepted and comes back as %s, %v", raw(d), raw(back), err)
		}
	})
}

// How an asset is lit comes with a file: what is left out stands at its default, what is wrong is named by its path.
func TestFilesHoldLightAndFrames(t *testing.T) {
	d, _, err := ParseFile([]byte(`{"layers": [], "look": {"sky": "shed", "backdrop": {"kind": "surroundings"}, "lamps": [{"name": "Key", "kind": "sun", "at": [0, 3, 1], "aim": [0, 0, 0], "kelvin": 5600, "strength": 2000}]}}`))
	if err != nil {
		t.Fatal(err)
	}
	if s := d.Setup(); s.Sky != "shed" || s.Strength != 1 || s.Backdrop.Kind != "surroundings" || s.Backdrop.Hex != "#2f2f2f" || len(s.Lamps) != 1 || s.Lamps[0].At[1] != 3 || s.Surface.Cut != 0.5 {
		t.Errorf("%+v", s)
	}
	for _, c := range [][2]string{{`{"look": {"sky": "moon"}}`, "look: “moon” are no surroundings"}, {`{"look": {"weather": 1}}`, "look: “weather” is not known here"}, {`{"look": {"lamps": [{"at": [1, 2]}]}}`, "look.lamps[0].at: a list of 3 numbers belongs here"}, {`{"look": {"lamps": [{"at": [1, 2, "x"]}]}}`, "look.lamps[0].at[2]"}, {`{"look": 3}`, "look"}} {
		if _, _, err := ParseFile([]byte(c[0])); err == nil || !strings.Contains(err.Error(), c[1]) {
			t.Errorf("%s: %v, want “%s”", c[0], err, c[1])
		}
	}
}

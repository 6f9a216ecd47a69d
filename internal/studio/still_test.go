package studio

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"image"
	"image/png"
	"testing"

	"crust/internal/core/strata"
)

// Stills of two frames in two states come as four files and on one sheet: frames below each other, states beside each other, each in its colours.
func TestStillsOfFramesAndKeepsakes(t *testing.T) {
	a := ball(t, newStudio(t, t.TempDir()))
	edit := func(e strata.Edit) string {
		t.Helper()
		id, err := a.Edit(e, false)
		if err != nil {
			t.Fatal(err)
		}
		return id
	}
	layer := edit(strata.Edit{Do: "add"})
	paint := func(hex string) {
		edit(strata.Edit{Do: "set", Layer: layer, Path: "what.colour.hex", Value: json.RawMessage(`"` + hex + `"`)})
	}
	paint("#ff0000")
	if err := a.Keep("red"); err != nil {
		t.Fatal(err)
	}
	paint("#00ff00")
	edit(strata.Edit{Do: "look", Path: "frames", Value: json.RawMessage(`[{"name": "front", "eye": [0, 0, 4], "mm": 50, "wide": 1, "high": 1}, {"name": "above", "eye": [0, 4, 0.01], "mm": 50, "wide": 2, "high": 1}]`)})
	if err := a.Still(StillWanted{Frames: []string{"front", "above"}, Channels: []string{"base"}, States: []uint{0, a.keepsakes[0].ID}, Sheet: true, Size: 64, Samples: 4}); err != nil {
		t.Fatal(err)
	}
	a.WaitJob(nil)
	var b bytes.Buffer
	if _, err := a.WriteStill(&b, "zip"); err != nil {
		t.Fatal(err)
	}
	z, err := zip.NewReader(bytes.NewReader(b.Bytes()), int64(b.Len()))
	if err != nil {
		t.Fatal(err)
	}
	want := map[string]struct {
		size       image.Point
		red, green uint32
	}{
		"ball front base As it stands.png": {image.Pt(64, 64), 0, 255}, "ball above base As it stands.png": {image.Pt(64, 32), 0, 255},
		"ball front base red.png": {image.Pt(64, 64), 255, 0}, "ball above base red.png": {image.Pt(64, 32), 255, 0},
	}
	for _, f := range z.File {
		w, ok := want[f.Name]
		if delete(want, f.Name); !ok {
			t.Errorf("there is a still “%s”", f.Name)
			continue
		}
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		img, err := png.Decode(r)
		if err != nil || img.Bounds().Size() != w.size {
			t.Fatalf("%s: %v, %v", f.Name, img.Bounds(), err)
		}
		if red, green, _, _ := img.At(w.size.X/2, w.size.Y/2).RGBA(); red>>8 != w.red || green>>8 != w.green {
			t.Errorf("%s is %d, %d in the middle", f.Name, red>>8, green>>8)
		}
	}
	if len(want) > 0 {
		t.Errorf("there are no stills %v", want)
	}
	b.Reset()
	if _, err := a.WriteStill(&b, "sheet"); err != nil {
		t.Fatal(err)
	}
	// A page that comes later is told of them.
	_, w := watch(t, a)
	w.wait(t, "the stills", func(e map[string]any) bool {
		return e["t"] == "still" && e["made"] == 4.0 && e["of"] == 4.0 && e["sheet"] == true
	})
	// Two columns of 64 px with a gap of 9, two rows of 64 and 32.
	if c, err := png.DecodeConfig(&b); err != nil || c.Width != 2*64+3*9 || c.Height < 64+32 {
		t.Errorf("the sheet has %d × %d px, %v", c.Width, c.Height, err)
	}
	for _, bad := range []StillWanted{{Frames: []string{"side"}, Size: 64, Samples: 1}, {Channels: []string{"gloss"}, Size: 64, Samples: 1}, {States: []uint{99}, Size: 64, Samples: 1}, {Size: 4096, Over: 8, Samples: 1}, {Frames: []string{"front", "above"}, Turns: 4, Size: 64, Samples: 1}} {
		if a.Still(bad) == nil {
			t.Errorf("%+v is made", bad)
			a.WaitJob(nil)
		}
	}
}

package deliver

import (
	"context"
	"os"
	"strings"
	"testing"
)

// from opens files of a delivery where they were made.
func from(d *Delivery) Opened {
	return func(name string) ([]byte, error) {
		if w := d.find(name); w != nil {
			return w.Data()
		}
		return nil, os.ErrNotExist
	}
}

// What is read back differs from what the strata give by what a step of the samples rounds off, and no more, in every preset.
func TestReadBackDiffersByTheQuantisation(t *testing.T) {
	for i := range Presets {
		j := job(t, Presets[i].Name)
		wear(t, &j)
		j.Size = 128
		d, err := Run(context.Background(), j)
		if err != nil {
			t.Fatal(err)
		}
		diffs, err := Compare(context.Background(), j, d, from(d))
		if err != nil {
			t.Fatalf("%s: %v", Presets[i].Name, err)
		}
		for _, f := range diffs {
			limit := 0.51
			if Presets[i].Name == "pixel-small" {
				limit = 60 // its palette
			}
			if f.Steps > limit || f.Steps == 0 && f.Most > 0.0005 { // halves have 11 bits
				t.Errorf("%s: %s %s differs by %.2f steps, %.5f, at (%d, %d)", Presets[i].Name, f.File, f.Channel, f.Steps, f.Most, f.X, f.Y)
			}
		}
		if len(diffs) < 6 {
			t.Errorf("%s: %d channels were held against the strata", Presets[i].Name, len(diffs))
		}
		d.Close()
	}
	// A change of the strata is found.
	j, d := worn(t, "gltf", 64)
	j.Document.Layers[0].What.Colour.Hex = "#ff0000"
	diffs, err := Compare(context.Background(), j, d, from(d))
	if err != nil || diffs[0].Channel != "base.r" || diffs[0].Most < 0.5 {
		t.Errorf("%+v, %v", diffs, err)
	}
}

// Whatever the layout, wiring the files by their note gives the same pictures.
func TestAllLayoutsWireToTheSame(t *testing.T) {
	var want *Wired
	for _, name := range []string{"gltf", "orm-green-down", "rma-16", "mask-map", "separate", "specular-gloss", "exr-udim", "materialx", "usd-preview"} {
		j := job(t, name)
		wear(t, &j)
		j.Document.Layers[0].What.Opacity.On, j.Document.Layers[0].What.Opacity.Number, j.Document.Layers[0].What.Opacity.Opacity, j.Document.Layers[0].What.Opacity.Blend = true, 0.8, 1, "over"
		j.Size = 128
		d, err := Run(context.Background(), j)
		if err != nil {
			t.Fatal(err)
		}
		got, err := Wire(d, j.Model, &j.Sets[0], 1024, false, from(d))
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		d.Close()
		if want == nil {
			want = got
			continue
		}
		for k, p := range [][2][]byte{{want.Base, got.Base}, {want.ORM, got.ORM}, {want.Normal, got.Normal}} {
			limit := 1
			if name == "specular-gloss" {
				limit = 5 // where a metal is nearly none, 8 bits of diffuse and specular tell little of it
			}
			for i := range p[0] {
				if a, b := int(p[0][i]), int(p[1][i]); a-b > limit || b-a > limit {
					t.Fatalf("%s, picture %d, texel %d, channel %d: %d, in glTF 2.0 %d", name, k, i/4, i%4, b, a)
				}
			}
		}
	}
}

// Without padding, what is not covered is black; files that are gone or changed are told.
func TestReadBackTellsWhatItFinds(t *testing.T) {
	j, d := worn(t, "gltf", 64)
	bare, err := Wire(d, j.Model, &j.Sets[1], 64, true, from(d))
	if err != nil {
		t.Fatal(err)
	}
	black := 0
	for i := 0; i < len(bare.Base); i += 4 {
		if bare.Base[i]+bare.Base[i+1]+bare.Base[i+2] == 0 {
			black++
		}
	}
	if black == 0 {
		t.Error("no texel is bare")
	}
	w := &d.Files[0]
	if s := w.State(from(d)); s != FileWhole {
		t.Errorf("%s is %s", w.File, s)
	}
	if s := w.State(func(string) ([]byte, error) { return []byte("x"), nil }); s != FileChanged {
		t.Errorf("other bytes are %s", s)
	}
	gone := func(string) ([]byte, error) { return nil, os.ErrNotExist }
	if s := w.State(gone); s != FileMissing {
		t.Errorf("no file is %s", s)
	}
	if _, err := Wire(d, j.Model, &j.Sets[0], 64, false, gone); err == nil || !strings.Contains(err.Error(), "cannot be read back") {
		t.Errorf("%v", err)
	}
	grey, side, err := PlanePicture(&d.Files[1], 1, 32, from(d))
	if err != nil || side != 32 || len(grey) != 32*32 {
		t.Errorf("%d bytes of %d px, %v", len(grey), side, err)
	}
	if _, _, err := PlanePicture(&d.Files[1], 3, 32, from(d)); err == nil {
		t.Error("an A that is not there was shown")
	}
}

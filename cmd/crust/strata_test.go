package main

import (
	"bytes"
	"encoding/json"
	"image"
	"image/png"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"crust/internal/core/imgfile"
	"crust/internal/core/strata"
	"crust/internal/store"
)

// An asset's document comes out of a data folder, goes into a delivery, and a layer's Where is written as it is: a reach
// along X over a square is the place itself.
func TestStrataComeOutAndGoIn(t *testing.T) {
	dir := t.TempDir()
	doc, _, err := strata.ParseFile([]byte(`{"layers": [{"name": "Ground"}, {"name": "Ramp", "hidden": true, "what": {"colour": {"hex": "#ff0000"}},
		"where": [{"kind": "reach", "params": {"toward": 2, "from": 1, "to": 0}}]}]}`))
	if err != nil {
		t.Fatal(err)
	}
	text, err := json.Marshal(doc)
	if err != nil {
		t.Fatal(err)
	}
	st, err := store.Open(filepath.Join(dir, "data"))
	if err != nil {
		t.Fatal(err)
	}
	err = st.Create(&store.Asset{Name: "quay", Split: "material", Size: 256}, store.File{Name: "quay.obj", Data: []byte("v 0 0 0")}, nil, string(text))
	st.Close()
	if err != nil {
		t.Fatal(err)
	}
	out, errs, status := crust(t, "strata", "quay", "--data", filepath.Join(dir, "data"))
	if status != 0 {
		t.Fatal(status, errs)
	}
	file := filepath.Join(dir, "quay.json")
	if err := os.WriteFile(file, []byte(out), 0o644); err != nil {
		t.Fatal(err)
	}
	back, _, err := strata.ParseFile([]byte(out))
	if err != nil || len(back.Layers) != 2 || back.Layers[1].Where[0].Params["from"] != 1 {
		t.Errorf("%s, %v", out, err)
	}

	square := filepath.Join(dir, "square.obj")
	const obj = "v 0 0 0\nv 1 0 0\nv 1 0 -1\nv 0 0 -1\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\nvn 0 1 0\nusemtl slab\nf 1/1/1 2/2/1 3/3/1 4/4/1\n"
	if err := os.WriteFile(square, []byte(obj), 0o644); err != nil {
		t.Fatal(err)
	}
	var r struct{ Files []struct{ File, Set string } }
	to := filepath.Join(dir, "out")
	out, errs, status = crust(t, "deliver", square, "--strata", file, "--where", "Ramp", "--size", "256", "--rays", "1", "--out", to, "--json")
	if status != 0 {
		t.Fatal(status, errs)
	}
	one(t, out, &r)
	if len(r.Files) != 1 || r.Files[0].File != "slab_where.png" || r.Files[0].Set != "slab" {
		t.Errorf("%+v, want slab_where.png alone", r)
	}
	f, err := os.Open(filepath.Join(to, "slab_where.png"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	img, err := png.Decode(f)
	if err != nil {
		t.Fatal(err)
	}
	grey, ok := img.(*image.Gray16)
	if !ok || grey.Bounds().Dx() != 256 {
		t.Fatalf("%T of %v, want 16-bit grey of 256 px", img, img.Bounds())
	}
	for x := range 256 {
		if got, want := float64(grey.Gray16At(x, 100).Y)/65535, (float64(x)+0.5)/256; math.Abs(got-want) > 1e-4 {
			t.Fatalf("column %d holds %.5f, want %.5f", x, got, want)
		}
	}
	if out, errs, status = crust(t, "deliver", square, "--strata", file, "--where", "Ramp", "--preset", "gltf", "--size", "256", "--rays", "1", "--out", to); status != 0 || strings.Count(out, "\n") != 7 {
		t.Errorf("with a preset: %d, %s%s", status, out, errs)
	}

	// Strokes in a file are laid where they say: along z = −0.5 of the square metre, 20 cm wide, with a hard rim.
	painted := filepath.Join(dir, "painted.json")
	if err := os.WriteFile(painted, []byte(`{"layers": [{"name": "Line", "where": [{"kind": "brush", "strokes": [{"brush": {"name": "Mine", "tip": "round", "hardness": 1}, "size": 0.2, "paths": [[[0, 0, -0.5, 0, 1, 0, 1], [1, 0, -0.5, 0, 1, 0, 1]]]}]}]}]}`), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, errs, status = crust(t, "deliver", square, "--strata", painted, "--where", "Line", "--size", "256", "--rays", "1", "--out", to); status != 0 {
		t.Fatal(status, errs)
	}
	data, err := os.ReadFile(filepath.Join(to, "slab_where.png"))
	if err != nil {
		t.Fatal(err)
	}
	if img, err = png.Decode(bytes.NewReader(data)); err != nil {
		t.Fatal(err)
	}
	for y := range 256 {
		off := math.Abs((float64(y)+0.5)/256 - 0.5)
		want := 0.0
		if off < 0.1 {
			want = 1
		}
		if got := float64(img.(*image.Gray16).Gray16At(128, y).Y) / 65535; math.Abs(off-0.1) > 1./256 && math.Abs(got-want) > 1e-4 {
			t.Fatalf("row %d holds %.5f, want %g", y, got, want)
		}
	}

	bad := filepath.Join(dir, "bad.json")
	if err := os.WriteFile(bad, []byte(`{"layers": [{"where": [{"kind": "noise", "params": {"size": -1}}]}]}`), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		args   []string
		status int
		want   string
	}{
		{[]string{"deliver", square, "--strata", bad, "--preset", "gltf"}, 1, "bad.json: layers[0].where[0].params.size: Noise: size is -1"},
		{[]string{"deliver", square, "--strata", "gone.json", "--preset", "gltf"}, 1, "there is no such file"},
		{[]string{"deliver", square, "--strata", file, "--finish", "worn-marine-paint", "--preset", "gltf"}, 2, "not both"},
		{[]string{"deliver", square, "--strata", file, "--where", "Rust", "--size", "256", "--rays", "1", "--out", to}, 1, "no layer “Rust”"},
		{[]string{"strata", "quay", "--data", to}, 1, "no data folder"},
		{[]string{"strata", "winch", "--data", filepath.Join(dir, "data")}, 1, "no asset “winch”"},
		{[]string{"strata"}, 2, "give an asset"},
	} {
		if _, errs, status := crust(t, c.args...); status != c.status || strings.Count(errs, "\n") != 1 || !strings.Contains(errs, c.want) {
			t.Errorf("%v: status %d, %q; want %d and “%s”", c.args, status, errs, c.status, c.want)
		}
	}
}

// Strata given as a file name their pictures by files beside it; one that is not there is told before anything is made.
func TestPicturesBesideAStrataFile(t *testing.T) {
	dir := t.TempDir()
	square := filepath.Join(dir, "square.obj")
	const obj = "v 0 0 0\nv 1 0 0\nv 1 0 -1\nv 0 0 -1\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\nvn 0 1 0\nusemtl slab\nf 1/1/1 2/2/1 3/3/1 4/4/1\n"
	im := &imgfile.Image{Width: 2, Height: 2, Channels: 3, Bits: 8, SRGB: true, Pix8: bytes.Repeat([]byte{200, 100, 50}, 4)}
	file, err := imgfile.Bytes(im)
	if err != nil {
		t.Fatal(err)
	}
	doc := `{"layers": [{"name": "Slab", "what": {"colour": {"source": {"kind": "picture", "picture": "pics/slab_color.png", "lay": {"by": 0}}}}}]}`
	if err := os.Mkdir(filepath.Join(dir, "pics"), 0o755); err != nil {
		t.Fatal(err)
	}
	for name, data := range map[string][]byte{"square.obj": []byte(obj), "pics/slab_color.png": file, "slab.json": []byte(doc), "lost.json": []byte(strings.ReplaceAll(doc, "slab_color", "gone"))} {
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	to := filepath.Join(dir, "out")
	if _, errs, status := crust(t, "deliver", square, "--strata", filepath.Join(dir, "slab.json"), "--preset", "gltf", "--size", "256", "--rays", "1", "--out", to); status != 0 {
		t.Fatal(status, errs)
	}
	data, err := os.ReadFile(filepath.Join(to, "slab_basecolor.png"))
	if err != nil {
		t.Fatal(err)
	}
	p, err := imgfile.Read("slab_basecolor.png", data)
	if err != nil {
		t.Fatal(err)
	}
	for c, want := range []float32{200, 100, 50} {
		if got := p.At(3*(256*100+100)+c) * 255; got < want-1 || got > want+1 {
			t.Errorf("channel %d is %g, want %g", c, got, want)
		}
	}
	_, errs, status := crust(t, "deliver", square, "--strata", filepath.Join(dir, "lost.json"), "--preset", "gltf", "--size", "256", "--rays", "1", "--out", to)
	if status != 1 || !strings.Contains(errs, "lost.json names the picture “pics/gone.png”, and there is no such file beside it") {
		t.Errorf("%d, %s", status, errs)
	}
}

package deliver

import (
	"bytes"
	"context"
	"encoding/json"
	"image"
	"image/color"
	"image/png"
	"math"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"crust/internal/core/bake"
	"crust/internal/core/imgfile"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
)

// wear is a document with every channel that presets take: metal and not, a height, a gradient of roughness.
func wear(t *testing.T, j *Job) {
	t.Helper()
	d := new(strata.Document)
	base, metal, bumps := d.NewLayer("Paint"), d.NewLayer("Metal"), d.NewLayer("Bumps")
	base.What.Colour.Hex, base.What.Roughness.Number = "#336699", 0.3
	noise := func(seed float64) strata.Clause {
		c, err := d.NewClause("noise")
		if err != nil {
			t.Fatal(err)
		}
		c.Params["seed"], c.Params["size"] = seed, 0.3
		return c
	}
	metal.What.Metallic = strata.Value{On: true, Number: 1, Blend: "over", Opacity: 1}
	metal.What.Roughness.Number, metal.What.Colour.Hex = 0.75, "#c0b0a0"
	half, err := d.NewClause("reach")
	if err != nil {
		t.Fatal(err)
	}
	half.Shape.Contrast = 1
	metal.Where = []strata.Clause{half}
	bumps.What.Colour.On = false
	bumps.What.Roughness = strata.Value{On: true, Number: 0.9, Blend: "over", Opacity: 1}
	bumps.What.Height = strata.Value{On: true, Number: 3, Blend: "add", Opacity: 1}
	bumps.Where = []strata.Clause{noise(3)}
	d.Layers = []strata.Layer{base, metal, bumps}
	j.Document = d
}

// worn is a job of a preset at a size with the document of wear, and its delivery, which goes with the test.
func worn(t *testing.T, preset string, size int) (Job, *Delivery) {
	t.Helper()
	j := job(t, preset)
	wear(t, &j)
	j.Size = size
	return j, runJob(t, j)
}

// runJob runs a job; the delivery goes with the test.
func runJob(t *testing.T, j Job) *Delivery {
	t.Helper()
	d, err := Run(context.Background(), j)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return d
}

// delivered runs a preset and reads its pictures back by name.
func delivered(t *testing.T, j Job) (*Delivery, map[string]*imgfile.Picture) {
	t.Helper()
	d := runJob(t, j)
	var err error
	out := map[string]*imgfile.Picture{}
	for i := range d.Files {
		w := &d.Files[i]
		if len(w.Channels) == 0 {
			continue
		}
		if out[w.File], err = imgfile.Read(w.File, data(t, d, i)); err != nil {
			t.Fatalf("%s: %v", w.File, err)
		}
	}
	return d, out
}

func presetNamed(t *testing.T, name string) *Preset {
	t.Helper()
	p, err := PresetOf(name)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// Every preset that ships is sound, is the same after it was a file, and delivers.
func TestPresetsThatShipAreSound(t *testing.T) {
	for i := range Presets {
		p := &Presets[i]
		if err := p.Check(); err != nil {
			t.Error(err)
		}
		back, err := ParsePreset(p.Bytes())
		if err != nil || !reflect.DeepEqual(back, p) {
			t.Errorf("%s is another one after it was a file: %v", p.Name, err)
		}
		j := job(t, p.Name)
		wear(t, &j)
		j.Size = 64
		d, pictures := delivered(t, j)
		for name, pic := range pictures {
			if pic.Width != 64 || pic.Height != 64 {
				t.Errorf("%s: %s is %d × %d px", p.Name, name, pic.Width, pic.Height)
			}
		}
		if len(pictures) == 0 || d.Preset != p.Name {
			t.Errorf("%s: %d pictures", p.Name, len(pictures))
		}
		if err := d.Close(); err != nil {
			t.Error(err)
		}
	}
}

// What is packed is what lies apart; smoothness is the largest value minus roughness and green down is it minus green up, exactly
// (common practice), also where values are dithered.
func TestPackedChannelsAreTheSeparateOnes(t *testing.T) {
	run := func(preset string, dither bool) map[string]*imgfile.Picture {
		j := job(t, preset)
		wear(t, &j)
		j.Size, j.Sets = 128, j.Sets[:1]
		p := *j.Preset
		p.Files = append([]File(nil), p.Files...)
		for i := range p.Files {
			p.Files[i].Dither = dither
		}
		j.Preset = &p
		d, out := delivered(t, j)
		defer d.Close()
		return out
	}
	for _, dither := range []bool{false, true} {
		apart, orm, rma, mask, down := run("separate", dither), run("gltf", dither), run("rma-16", dither), run("mask-map", dither), run("orm-green-down", dither)
		at := func(p *imgfile.Picture, k, i int) int { return int(p.Whole[i*p.Channels+k]) }
		rough, smooth := 0, map[int]bool{}
		for i := range 128 * 128 {
			for k, name := range []string{"occlusion", "roughness", "metallic"} {
				if got, want := at(orm["hull_orm.png"], k, i), at(apart["hull_"+name+".png"], 0, i); got != want {
					t.Fatalf("texel %d: %s is %d packed, %d apart", i, name, got, want)
				}
			}
			r8 := at(apart["hull_roughness.png"], 0, i) / 257
			if got := at(mask["hull_mask.png"], 3, i) / 257; got != 255-r8 {
				t.Fatalf("texel %d: smoothness %d, roughness %d", i, got, r8)
			}
			if at(mask["hull_mask.png"], 0, i) != at(apart["hull_metallic.png"], 0, i) || at(mask["hull_mask.png"], 1, i) != at(apart["hull_occlusion.png"], 0, i) || at(mask["hull_mask.png"], 2, i) != 65535 {
				t.Fatalf("texel %d of the mask map holds others", i)
			}
			if got, want := at(rma["hull_rma.png"], 0, i)/257, r8; got-want > 1 || want-got > 1 {
				t.Fatalf("texel %d: roughness %d in 16 bits, %d in 8", i, got, want)
			}
			up, dn := apart["hull_normal.png"], down["hull_normal.png"]
			if at(up, 1, i)+at(dn, 1, i) != 65535 || at(up, 0, i) != at(dn, 0, i) || at(up, 2, i) != at(dn, 2, i) {
				t.Fatalf("texel %d: normal %v up and %v down", i, up.Whole[3*i:3*i+3], dn.Whole[3*i:3*i+3])
			}
			rough, smooth[r8] = rough+r8, true
		}
		if len(smooth) < 20 {
			t.Fatalf("roughness has %d values; the test needs more", len(smooth))
		}
	}
}

// Diffuse is black where there is metal (common practice), and specular is 0.04 where there is none (glTF 2.0, appendix B), base
// colour where there is.
func TestMetalsAreBlackInDiffuse(t *testing.T) {
	j := job(t, "specular-gloss")
	wear(t, &j)
	j.Document.Layers[1].Where, j.Document.Layers[1].Targets = nil, []string{"lamp"}
	_, got := delivered(t, j)
	k := job(t, "separate")
	k.Document = j.Document
	_, apart := delivered(t, k)
	for _, set := range []string{"hull", "lamp"} {
		diffuse, specular, base, rough := got[set+"_diffuse.png"], got[set+"_specular.png"], apart[set+"_basecolor.png"], apart[set+"_roughness.png"]
		for i := range rough.Whole {
			for c := range 3 {
				df, sp, b := diffuse.Whole[3*i+c]/257, specular.Whole[4*i+c]/257, base.Whole[3*i+c]/257
				// sRGB of 0.04 is 56.3 of 255 (IEC 61966-2-1).
				if want := map[string][2]uint16{"lamp": {0, b}, "hull": {b, 56}}[set]; df != want[0] || sp != want[1] {
					t.Fatalf("%s of %d: diffuse %d, specular %d", set, b, df, sp)
				}
			}
			if g, r := specular.Whole[4*i+3]/257, rough.Whole[i]/257; g != 255-r {
				t.Fatalf("gloss %d at a roughness of %d", g, r)
			}
		}
	}
}

// Heights in 16 bits span what there is on all sets, and give the metres of the EXR back within half a step.
func TestHeightsStateTheirRange(t *testing.T) {
	j := job(t, "separate")
	wear(t, &j)
	d, png16 := delivered(t, j)
	k := job(t, "exr-udim")
	k.Document = j.Document
	_, exr := delivered(t, k)
	low, high := math.Inf(1), math.Inf(-1)
	for i, w := range d.Files {
		if w.Channels["R"] != "height" {
			continue
		}
		if len(w.Range) != 2 || w.Range[1] <= w.Range[0] || w.Range[0] != heightRangeOf(d)[0] {
			t.Fatalf("%s states the range %v", d.Files[i].File, w.Range)
		}
		metres := exr[w.Set+"_height.exr"]
		whole := png16[w.File]
		for i := range whole.Whole {
			got := w.Range[0] + float64(whole.Whole[i])/65535*(w.Range[1]-w.Range[0])
			low, high = min(low, got), max(high, got)
			if math.Abs(got-float64(metres.Pix[i])) > 0.51*(w.Range[1]-w.Range[0])/65535 {
				t.Fatalf("%s, texel %d: %.8f m, the EXR has %.8f", w.File, i, got, metres.Pix[i])
			}
		}
	}
	if r := heightRangeOf(d); low > r[0]+2e-5 || high < r[1]-2e-5 || high < 0.001 {
		t.Errorf("heights go from %g to %g m, stated %v", low, high, r)
	}
}

func heightRangeOf(d *Delivery) []float64 {
	for _, w := range d.Files {
		if w.Range != nil {
			return w.Range
		}
	}
	return nil
}

// Where no texel of any set has something to say there is no file, and the note says so.
func TestWhatIsEmptyEverywhereIsSkipped(t *testing.T) {
	j := job(t, "separate")
	d := new(strata.Document)
	l := d.NewLayer("all")
	l.What.Emissive = strata.Value{On: true, Hex: "#000000", Blend: "over", Opacity: 1}
	d.Layers = []strata.Layer{l}
	j.Document = d
	out, pictures := delivered(t, j)
	for name := range pictures {
		if strings.Contains(name, "emissive") || strings.Contains(name, "height") {
			t.Errorf("%s is there", name)
		}
	}
	if all := strings.Join(out.Skipped, " "); !strings.Contains(all, "Emissive") || !strings.Contains(all, "Height") || len(out.Skipped) != 2 {
		t.Errorf("the note says %q", out.Skipped)
	}
	// Nor is one value on each set, another on every one.
	j = job(t, "gltf")
	wear(t, &j)
	l, m := j.Document.NewLayer("hull"), j.Document.NewLayer("lamp")
	l.What.Roughness.Number, m.What.Roughness.Number, m.Targets = 0.3, 0.6, []string{"lamp"}
	j.Document.Layers = []strata.Layer{l, m}
	j.Preset = &Preset{Name: "own", Title: "Own", Files: []File{{Label: "Roughness", Map: "roughness", R: Plane{From: "roughness"}, Format: "png", Bits: 8, Skip: true}}}
	if out, pictures = delivered(t, j); len(pictures) != 2 || len(out.Skipped) != 0 {
		t.Errorf("%d files of two roughnesses, skipped: %q", len(pictures), out.Skipped)
	}
	m.What.Roughness.Number = 0.3
	j.Document.Layers[1] = m
	if out, pictures = delivered(t, j); len(pictures) != 0 || len(out.Skipped) != 1 {
		t.Errorf("%d files of one roughness, skipped: %q", len(pictures), out.Skipped)
	}
	// On one set of two is not everywhere.
	j = job(t, "separate")
	wear(t, &j)
	l = j.Document.NewLayer("glow")
	l.What.Emissive = strata.Value{On: true, Hex: "#ff8800", Blend: "over", Opacity: 1}
	l.Targets = []string{"lamp"}
	j.Document.Layers = append(j.Document.Layers, l)
	out, pictures = delivered(t, j)
	if pictures["hull_emissive.png"] == nil || pictures["lamp_emissive.png"] == nil || len(out.Skipped) != 0 {
		t.Errorf("files of what glows on one of two sets are missing; skipped: %q", out.Skipped)
	}
}

// Padding of so many px ends there, by brute force over all covered texels; inside it holds the nearest one's colour.
func TestPaddingEndsWhereItIsSaid(t *testing.T) {
	const n = 128
	j := job(t, "separate")
	wear(t, &j)
	j.Sets, j.Size = j.Sets[1:], n
	in := make([]bool, n*n)
	for _, k := range j.Sets[0].Tris {
		uv.Raster(j.Model, &j.Sets[0], int(k), n, 0, 0, func(i int, u, v float32) { in[i] = true })
	}
	for _, pad := range []Padding{{By: PadPx, Amount: 3}, {By: PadShare, Amount: 0.02}, {By: PadPx}} {
		j.Pad = &pad
		d, got := delivered(t, j)
		limit := pad.Px(n)
		base, normal := got["lamp_basecolor.png"], got["lamp_normal.png"]
		beyond := 0
		for i := range in {
			best := math.MaxInt
			for k, on := range in {
				if on {
					dx, dy := i%n-k%n, i/n-k/n
					best = min(best, dx*dx+dy*dy)
				}
			}
			far := best > limit*limit
			if flat := [3]uint16(normal.Whole[3*i:]) == [3]uint16{32768, 32768, 65535}; far != (base.Whole[3*i+2] == 0) || far && !flat {
				t.Fatalf("padding %v: texel (%d, %d), %.1f px away, holds %v and the normal %v", pad, i%n, i/n, math.Sqrt(float64(best)), base.Whole[3*i:3*i+3], normal.Whole[3*i:3*i+3])
			}
			if far {
				beyond++
			}
		}
		if beyond < 100 {
			t.Fatalf("padding %v: %d texels beyond it; the test needs some", pad, beyond)
		}
		d.Close()
	}
}

// Planes take baked maps, Wheres and numbers, inverted or not.
func TestPlanesTakeMapsWheresAndNumbers(t *testing.T) {
	j := job(t, "gltf")
	wear(t, &j)
	j.Sets, j.Size, j.Where = j.Sets[:1], 128, "Bumps"
	own, err := ParsePreset([]byte(`{"crust": "preset 1", "name": "mine", "title": "Mine", "help": "", "padding": {"by": "all"}, "files": [
		{"label": "Odd", "map": "odd", "r": "map:ao", "g": {"from": "where:Bumps", "invert": true}, "b": "value:0.25", "a": {"from": "map:world-normal.g", "invert": true}, "format": "png", "bits": 16},
		{"label": "Plain", "map": "ao", "r": "occlusion", "format": "tiff", "bits": 16}]}`))
	if err != nil {
		t.Fatal(err)
	}
	j.Preset = own
	if got := MapsRead(j.Document, own); !strings.Contains(strings.Join(got, " "), bake.WorldNormal) {
		t.Errorf("maps %v are read", got)
	}
	d, got := delivered(t, j)
	maps, _ := j.Maps("hull")
	odd, ao, where := got["hull_odd.png"], got["hull_ao.tif"], got["hull_where.png"]
	for i := range 128 * 128 {
		if where.Whole[i] != 65535-odd.Whole[4*i+1] {
			t.Fatalf("texel %d: Where %d, inverted %d", i, where.Whole[i], odd.Whole[4*i+1])
		}
		if odd.Whole[4*i+2] != 16384 { // 0.25 · 65535 = 16383.75
			t.Fatalf("texel %d: a quarter is %d", i, odd.Whole[4*i+2])
		}
		if odd.Whole[4*i] != ao.Whole[i] {
			t.Fatalf("texel %d: baked occlusion %d, the channel %d, and no layer lays it down", i, odd.Whole[4*i], ao.Whole[i])
		}
	}
	m := maps[bake.WorldNormal]
	for _, k := range j.Sets[0].Tris {
		uv.Raster(j.Model, &j.Sets[0], int(k), 128, 0, 0, func(i int, u, v float32) {
			if got, want := odd.Whole[4*i+3], 65535-m.Pix[3*i+1]; int(got)-int(want) > 1 || int(want)-int(got) > 1 {
				t.Fatalf("texel %d: world normal %d, baked %d", i, got, want)
			}
		})
	}
	if c := d.Files[0].Channels; c["G"] != "inverted where:Bumps" || c["A"] != "inverted map:world-normal.g" || c["B"] != "value:0.25" {
		t.Errorf("the note says %v", c)
	}
}

// A palette holds at most its colours, and exactly those of a picture that has no more.
func TestPalettes(t *testing.T) {
	_, d := worn(t, "pixel-small", 64)
	all := map[color.Color]bool{}
	for i, w := range d.Files {
		if len(w.Channels) == 0 {
			continue
		}
		img, err := png.Decode(bytes.NewReader(data(t, d, i)))
		if err != nil {
			t.Fatal(err)
		}
		p, ok := img.(*image.Paletted)
		if !ok || len(p.Palette) > 32 {
			t.Fatalf("%s is %T", w.File, img)
		}
		for _, c := range p.Palette {
			all[c] = true
		}
	}
	if len(all) > 32 || len(all) < 8 {
		t.Errorf("the sets share %d colours, want up to 32", len(all))
	}
	few := counts{{1, 2, 3}: 5, {200, 10, 10}: 1, {255, 255, 255}: 9}
	if got := few.palette(32); !reflect.DeepEqual(got, [][3]uint8{{1, 2, 3}, {200, 10, 10}, {255, 255, 255}}) {
		t.Errorf("of three colours the palette has %v", got)
	}
	many := counts{}
	for i := range 4096 {
		many[[3]uint8{uint8(i % 16 * 17), uint8(i / 16 % 16 * 17), uint8(i / 256 * 17)}] = 1
	}
	p := many.palette(64)
	near, worst := nearestOf(p), 0.0
	for c := range many {
		a, b := perceived(c), perceived(p[near.of(c)])
		worst = max(worst, math.Sqrt((a[0]-b[0])*(a[0]-b[0])+(a[1]-b[1])*(a[1]-b[1])+(a[2]-b[2])*(a[2]-b[2])))
	}
	if len(p) != 64 || worst > 0.2 {
		t.Errorf("%d colours for the whole cube, the farthest %.3f off", len(p), worst)
	}
}

// Dither keeps the mean, and leaves flat colours flat.
func TestDitherKeepsTheMean(t *testing.T) {
	for _, v := range []float32{0.1234, 0.5, 0.77, 100.5 / 255} {
		sum := 0.0
		for i := range uint32(65536) {
			sum += float64(quantum(v, 255, chanceOf(i, 7), false))
		}
		if mean := sum / 65536; math.Abs(mean-255*float64(v)) > 0.02 {
			t.Errorf("the mean of %g is %.4f", 255*v, mean)
		}
	}
	for q := range 256 {
		for i := range uint32(500) {
			if got := quantum(float32(q)/255, 255, chanceOf(i, 9), false); got != uint32(q) {
				t.Fatalf("a flat %d became %d", q, got)
			}
		}
	}
}

func TestNames(t *testing.T) {
	hull, tile := &uv.Set{Name: "hull"}, &uv.Set{Name: "1002", Tile: 1002}
	for _, c := range []struct {
		template string
		set      *uv.Set
		want     string
	}{
		{"{set}_{map}", hull, "hull_orm"}, {"{asset}/{set}", hull, ""}, {"T_{asset}_{set}_{map}_{size}", hull, "T_winch_hull_orm_2048"},
		{"{set}_{map}", tile, "winch_orm.1002"}, {"{asset}_{map}.{tile}", tile, "winch_orm.1002"}, {"{asset}_{map}.{tile}", hull, "winch_orm"},
		{"{tile}_{map}", tile, "1002_orm"}, {"{set}_{set}", hull, "hull_hull"}, {"{who}", hull, ""}, {"{set", hull, ""}, {" ", hull, ""}, {"a:b", hull, ""},
	} {
		if err := CheckNaming(c.template); (err == nil) != (c.want != "") {
			t.Errorf("template %q: %v", c.template, err)
		} else if err == nil {
			if got := nameOf(c.template, "winch", c.set, "orm", 2048); got != c.want {
				t.Errorf("%q gives %q, want %q", c.template, got, c.want)
			}
		}
	}
	for _, c := range []struct {
		names []string
		want  string
	}{
		{[]string{"a.png", "b.png"}, ""}, {[]string{"a.png", "a.png"}, "two files would be called “a.png”"}, {[]string{"A.png", "a.png"}, "one name to some systems"},
		{[]string{"con.png"}, "cannot be a file's name on every system"}, {[]string{"a?.png"}, "it holds “?”"}, {[]string{"a\x01.png"}, "control characters"}, {[]string{strings.Repeat("x", 201)}, "too long"}, {[]string{"a.png "}, "on every system"},
	} {
		err := checkNames(c.names)
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%q: %v, want %q", c.names, err, c.want)
		}
	}
	// They are refused before the run.
	j := job(t, "gltf")
	j.Naming = "{map}"
	if _, err := Run(context.Background(), j); err == nil || !strings.Contains(err.Error(), "two files would be called") {
		t.Errorf("two sets' files of one name: %v", err)
	}
}

// What is wrong with a preset's file is said in one sentence.
func TestPresetsThatAreWrongSayWhat(t *testing.T) {
	with := func(change func(m, f map[string]any)) []byte {
		var m map[string]any
		if err := json.Unmarshal(presetNamed(t, "gltf").Bytes(), &m); err != nil {
			t.Fatal(err)
		}
		change(m, m["files"].([]any)[1].(map[string]any))
		b, _ := json.Marshal(m)
		return b
	}
	for _, c := range []struct {
		data []byte
		want string
	}{
		{[]byte("{"), "it ends too soon"}, {[]byte("[1]"), "a list does not belong there"}, {[]byte(`{"crust": "brush"}`), "says that it is “brush”"},
		{with(func(m, f map[string]any) { m["glow"] = 1 }), "glow is not known here"},
		{with(func(m, f map[string]any) { f["r"] = "glow" }), "file 2, “Packed”: there is no source “glow”"},
		{with(func(m, f map[string]any) { f["r"] = "map:glow" }), "there is no baked map “glow”"},
		{with(func(m, f map[string]any) { f["r"] = "value:7" }), "“7” is not a number from 0 to 1"},
		{with(func(m, f map[string]any) { f["format"] = "gif" }), "there is no format “gif”"},
		{with(func(m, f map[string]any) { f["bits"] = 12 }), "PNG has no samples of 12 bits; use 8 or 16"},
		{with(func(m, f map[string]any) { f["format"] = "tga"; f["bits"] = 16 }), "TGA has no samples of 16 bits"},
		{with(func(m, f map[string]any) { f["format"] = "jpeg" }), "JPEG changes values; it is for colours alone"},
		{with(func(m, f map[string]any) { f["srgb"] = true }), "tagged as sRGB but holds data"},
		{with(func(m, f map[string]any) { delete(f, "b") }), "R alone, R, G and B"},
		{with(func(m, f map[string]any) { f["scale"] = 3 }), "its size factor is 3"},
		{with(func(m, f map[string]any) { f["low"], f["high"] = 1, 0 }), "the first is the lower"},
		{with(func(m, f map[string]any) { f["colours"] = 1 }), "a palette has 2 to 256 colours"},
		{with(func(m, f map[string]any) { f["uses"] = "glow" }), "layers have no channel “glow”"},
		{with(func(m, f map[string]any) { m["padding"] = map[string]any{"by": "px", "amount": -1} }), "padding goes by"},
		{with(func(m, f map[string]any) { m["naming"] = "{who}" }), "names know no {who}"},
		{with(func(m, f map[string]any) { m["files"] = []any{} }), "has 0 files"},
		{with(func(m, f map[string]any) { m["name"] = "" }), "has a name"},
		{append(presetNamed(t, "gltf").Bytes(), '1'), "more behind its end"},
		{make([]byte, MaxPresetBytes+1), "at most 256 kB"},
	} {
		_, err := ParsePreset(c.data)
		if err == nil || !strings.Contains(err.Error(), c.want) || strings.Contains(err.Error(), "\n") || strings.Contains(err.Error(), "json:") {
			t.Errorf("%.60s: %v, want “%s”", c.data, err, c.want)
		}
	}
	// A document without the layer that a file takes its Where from is told.
	j := job(t, "gltf")
	p := *j.Preset
	p.Files = []File{{Label: "Rust", Map: "rust", R: Plane{From: "where:Nowhere"}, Format: "png", Bits: 8}}
	j.Preset = &p
	if _, err := Run(context.Background(), j); err == nil || !strings.Contains(err.Error(), "there is no layer “Nowhere”") {
		t.Errorf("a Where of no layer: %v", err)
	}
}

func FuzzPreset(f *testing.F) {
	for i := range Presets {
		f.Add(Presets[i].Bytes())
	}
	f.Add([]byte(`{"crust":"preset 1","name":"x","files":[{"label":"a","map":"m","r":{"from":"where:a","invert":true},"format":"exr","bits":32}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := ParsePreset(data)
		if err != nil {
			return
		}
		again, err := ParsePreset(p.Bytes())
		if err != nil || !reflect.DeepEqual(p, again) {
			t.Errorf("%s comes back as %s: %v", p.Bytes(), again.Bytes(), err)
		}
	})
}

// Files of half and of twice the size, and sets of their own sizes, come out so.
func TestSizesOfFilesAndSets(t *testing.T) {
	j := job(t, "gltf")
	wear(t, &j)
	p := *j.Preset
	p.Files = append([]File(nil), p.Files...)
	p.Files[1].Scale, p.Files[2].Scale = 0.5, 2
	p.GLB = false
	j.Preset, j.SizeOf = &p, func(key string) int { return map[string]int{"hull": 128, "lamp": 64}[key] }
	filed := 0
	j.Filed = func(done, all int) { filed = max(filed, done) }
	d, pictures := delivered(t, j)
	for name, want := range map[string]int{"hull_basecolor.png": 128, "hull_orm.png": 64, "hull_normal.png": 256, "lamp_basecolor.png": 64, "lamp_orm.png": 32, "lamp_normal.png": 128} {
		if got := pictures[name]; got == nil || got.Width != want {
			t.Errorf("%s is not %d px wide", name, want)
		}
	}
	if filed != len(d.Files) {
		t.Errorf("%d files were told of, %d there are", filed, len(d.Files))
	}
	// One set alone.
	j.Only = []string{"lamp"}
	d, pictures = delivered(t, j)
	if len(pictures) != 3 || pictures["lamp_orm.png"] == nil {
		t.Errorf("of one set there are %d pictures", len(pictures))
	}
	if j.Only = []string{"gone"}; true {
		if _, err := Plan(j); err == nil || !strings.Contains(err.Error(), "no set “gone”") {
			t.Errorf("a set that is not there: %v", err)
		}
	}
}

// What is planned is what is written.
func TestThePlanIsWhatIsWritten(t *testing.T) {
	for _, name := range []string{"gltf", "materialx", "usd-preview", "exr-udim", "pixel-small"} {
		j := job(t, name)
		wear(t, &j)
		j.Size = 64
		plan, err := Plan(j)
		if err != nil {
			t.Fatal(err)
		}
		d, _ := delivered(t, j)
		dir := filepath.Join(t.TempDir(), "out")
		if _, err := d.WriteFolder(dir, false); err != nil {
			t.Fatal(err)
		}
		for _, p := range plan {
			if _, err := os.Stat(filepath.Join(dir, p.File)); err != nil {
				t.Errorf("%s: %s was planned: %v", name, p.File, err)
			}
		}
		if left, _ := os.ReadDir(dir); len(left) != len(plan) {
			t.Errorf("%s: %d files planned, %d written", name, len(plan), len(left))
		}
		d.Close()
	}
}

// The page about presets names every source and every format.
func TestTheDocsNameAllSources(t *testing.T) {
	text, err := os.ReadFile("../../../docs/presets.md")
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, s := range append(Sources, MapSources()...) {
		names = append(names, strings.TrimSuffix(strings.TrimSuffix(strings.TrimSuffix(s.Name, ".r"), ".g"), ".b"))
	}
	for _, f := range imgfile.Formats {
		names = append(names, f.Name)
	}
	for _, n := range names {
		if !strings.Contains(string(text), "`"+n) {
			t.Errorf("docs/presets.md does not name %s", n)
		}
	}
	// Its example is a preset.
	from := strings.Index(string(text), "```json\n") + 8
	if _, err := ParsePreset(text[from : from+strings.Index(string(text[from:]), "```")]); err != nil {
		t.Error(err)
	}
}

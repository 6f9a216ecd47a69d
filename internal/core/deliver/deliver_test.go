package deliver

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"image/color"
	"image/png"
	"io"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"crust/internal/core/bake"
	"crust/internal/core/compose"
	"crust/internal/core/finish"
	"crust/internal/core/mesh"
	"crust/internal/core/pixel"
	"crust/internal/core/strata"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
)

// job is two spheres as two sets, with baked maps and the built-in finish.
func job(t *testing.T, preset string) Job {
	t.Helper()
	m := mesh.BumpySphere(48, 24)
	m.Materials[0].Name = "hull"
	o := mesh.Sphere(24, 12, 0.5, [3]float64{2, 0, 0})
	o.Materials[0].Name, o.Parts[0] = "lamp", "lamp"
	m.Append(o)
	sets, err := uv.Sets(m, uv.PerMaterial)
	if err != nil {
		t.Fatal(err)
	}
	src, err := bake.Prepare(context.Background(), m, nil, bake.Settings{Size: 128, Rays: 16, Samples: 1, Radius: 0.1})
	if err != nil {
		t.Fatal(err)
	}
	p, err := PresetOf(preset)
	if err != nil {
		t.Fatal(err)
	}
	doc := new(strata.Document)
	f, err := finish.Of("Worn marine paint")
	if err != nil {
		t.Fatal(err)
	}
	if doc.Layers, err = f.Lay(doc, map[string]float64{"age": 0.7}, float64(m.Bounds().Diagonal())); err != nil {
		t.Fatal(err)
	}
	all := map[string]map[string]*bake.Map{}
	j := Job{Asset: "two spheres", Model: m, Sets: sets, Maps: func(set string) (map[string]*bake.Map, error) { return all[set], nil }, Document: doc, Preset: p, Size: 256, Aside: t.TempDir()}
	for i := range sets {
		maps, err := src.Bake(context.Background(), &sets[i], []string{bake.AO, bake.Curvature, bake.WorldNormal}, nil)
		if err != nil {
			t.Fatal(err)
		}
		all[sets[i].Name] = map[string]*bake.Map{}
		for _, k := range maps {
			all[sets[i].Name][k.Kind] = k
		}
	}
	return j
}

// data is what a file of a delivery holds.
func data(t *testing.T, d *Delivery, file int) []byte {
	t.Helper()
	b, err := d.Files[file].Data()
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// The same document gives the same bytes on one core and on two.
func TestDeliveriesAreTheSameOnOneCoreAndTwo(t *testing.T) {
	run := func(n int) *Delivery {
		defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(n))
		j := job(t, "gltf")
		// Also what reads surroundings.
		l := &j.Document.Layers[1]
		l.Soften = 0.1
		l.What.Height.On, l.What.Height.Number = true, 1
		c, err := j.Document.NewClause("relief")
		if err != nil {
			t.Fatal(err)
		}
		c.Params["radius"], c.Join = 0.1, "or"
		top := &j.Document.Layers[len(j.Document.Layers)-1]
		top.Where = append(top.Where, c)
		d, err := Run(context.Background(), j)
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	one, two := run(1), run(2)
	if !bytes.Equal(one.JSON(), two.JSON()) {
		t.Error("the notes, with every file's SHA-256, differ")
	}
	if len(one.Files) != len(two.Files) || len(one.Files) != 8 {
		t.Fatalf("%d and %d files, want 8", len(one.Files), len(two.Files))
	}
	for i := range one.Files {
		if !bytes.Equal(data(t, one, i), data(t, two, i)) {
			t.Errorf("%s differs", one.Files[i].File)
		}
	}
}

// Evaluated band by band, with softened Wheres and relief, every covered texel holds what the whole set at once gives there.
func TestBandsGiveWhatTheWholeDoes(t *testing.T) {
	j := job(t, "gltf")
	j.Sets, j.Size = j.Sets[:1], 1024
	if bands := surface.Across(j.Size) / bandRows; bands < 2 {
		t.Fatal("the test needs two bands")
	}
	for i := range j.Document.Layers {
		l := &j.Document.Layers[i]
		l.What.Height.On, l.What.Height.Number, l.What.Height.Blend = true, 0.2*float32(i), "add"
		if len(l.Where) > 1 && i%4 == 1 {
			l.Where[1].Shape.Soften, l.Soften = 0.1, 0.05
		}
	}
	top := j.Document.NewLayer("rust")
	c, err := j.Document.NewClause("relief")
	if err != nil {
		t.Fatal(err)
	}
	c.Params["radius"] = 0.06
	top.Where = []strata.Clause{c}
	j.Document.Layers = append(j.Document.Layers, top)
	d, err := Run(context.Background(), j)
	if err != nil {
		t.Fatal(err)
	}
	body := compose.NewBody(compose.NewCache(64<<20), j.Model, j.Sets, j.Maps)
	whole, err := compose.NewCanvas(context.Background(), body, &j.Sets[0], j.Size)
	if err != nil {
		t.Fatal(err)
	}
	ch, err := whole.Evaluate(context.Background(), j.Document)
	if err != nil {
		t.Fatal(err)
	}
	for k, v := range []compose.View{compose.ViewBase, compose.ViewORM} {
		img, err := png.Decode(bytes.NewReader(data(t, d, k)))
		if err != nil {
			t.Fatal(err)
		}
		want := make([]uint8, 3*whole.Len())
		v.Quantise(ch, want)
		for i, at := range whole.Texels() {
			r, g, b, _ := img.At(int(at)%j.Size, int(at)/j.Size).RGBA()
			if got := [3]uint8{uint8(r >> 8), uint8(g >> 8), uint8(b >> 8)}; got != [3]uint8(want[3*i:]) {
				t.Fatalf("%s: texel (%d, %d) holds %v, the whole %v", d.Files[k].File, int(at)%j.Size, int(at)/j.Size, got, want[3*i:3*i+3])
			}
		}
	}
	img, err := png.Decode(bytes.NewReader(data(t, d, 2)))
	if err != nil {
		t.Fatal(err)
	}
	bumpy := 0
	for i, at := range whole.Texels() {
		r, g, b, _ := img.At(int(at)%j.Size, int(at)/j.Size).RGBA()
		for k, got := range [3]uint32{r, g, b} {
			if want := pixel.Q16(0.5 + 0.5*ch.Normal[k][i]); got != uint32(want) {
				t.Fatalf("normal at texel (%d, %d): %d, the whole has %d", int(at)%j.Size, int(at)/j.Size, got, want)
			}
		}
		if ch.Normal[2][i] < 0.999 {
			bumpy++
		}
	}
	if bumpy < 1000 {
		t.Errorf("%d texels lean; the test needs relief", bumpy)
	}
}

// Khronos, glTF 2.0 §3.9.2: metalness in B, roughness in G; §3.9.3: occlusion in R. The letters of
// ORM say the same (common practice).
func TestORMIsPackedInTheOrderOfItsLetters(t *testing.T) {
	for _, preset := range []string{"gltf", "orm-green-down"} {
		j := job(t, preset)
		d := new(strata.Document)
		l := d.NewLayer("all")
		l.What.Roughness.Number = 0.25
		l.What.Metallic.On, l.What.Metallic.Number = true, 0.75
		d.Layers = []strata.Layer{l}
		j.Document = d
		for _, set := range j.Sets {
			m, err := j.Maps(set.Key)
			if err != nil {
				t.Fatal(err)
			}
			for i := range m[bake.AO].Pix {
				m[bake.AO].Pix[i] = 65535 / 2
			}
		}
		out, err := Run(context.Background(), j)
		if err != nil {
			t.Fatal(err)
		}
		img, err := png.Decode(bytes.NewReader(data(t, out, 1)))
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range [][2]int{{0, 0}, {100, 100}, {255, 255}} {
			r, g, b, _ := img.At(p[0], p[1]).RGBA()
			for k, c := range []struct{ got, want uint32 }{{r >> 8, 127}, {g >> 8, 64}, {b >> 8, 191}} {
				if math.Abs(float64(c.got)-float64(c.want)) > 1 {
					t.Errorf("%s %s at %v: channel %d is %d, want %d", preset, out.Files[1].File, p, k, c.got, c.want)
				}
			}
		}
	}
}

// Padding has no limit: each empty texel of the square holds the colour of a covered one that no other is
// nearer than, by brute force over growing squares.
func TestPaddingFillsTheWholeSquareWithTheNearest(t *testing.T) {
	j := job(t, "gltf")
	d, err := Run(context.Background(), j)
	if err != nil {
		t.Fatal(err)
	}
	img, err := png.Decode(bytes.NewReader(data(t, d, 0)))
	if err != nil {
		t.Fatal(err)
	}
	const n = 256
	at := func(i int) [3]uint32 { r, g, b, _ := img.At(i%n, i/n).RGBA(); return [3]uint32{r, g, b} }
	in := make([]bool, n*n)
	for _, k := range j.Sets[0].Tris {
		uv.Raster(j.Model, &j.Sets[0], int(k), n, 0, 0, func(i int, u, v float32) { in[i] = true })
	}
	empty := 0
	for i, c := range in {
		if c {
			continue
		}
		empty++
		x, y, best := i%n, i/n, math.MaxInt
		var near map[[3]uint32]bool
		for r := 1; r*r <= best; r++ {
			for v := max(0, y-r); v <= min(n-1, y+r); v++ {
				for u := max(0, x-r); u <= min(n-1, x+r); u++ {
					dist := (u-x)*(u-x) + (v-y)*(v-y)
					if max(u-x, x-u, v-y, y-v) < r || !in[v*n+u] || dist > best {
						continue
					}
					if dist < best {
						best, near = dist, map[[3]uint32]bool{}
					}
					near[at(v*n+u)] = true
				}
			}
		}
		if !near[at(i)] {
			t.Fatalf("texel (%d, %d) holds %v, the nearest covered ones, %.1f away, hold %v", x, y, at(i), math.Sqrt(float64(best)), near)
		}
	}
	if empty < n {
		t.Errorf("%d empty texels; the test needs some", empty)
	}
}

// The folder, the zip and the note tell of the same files, byte by byte, with SHA-256 sums (FIPS 180-4,
// as crypto/sha256 counts them).
func TestFoldersAndZipsHoldTheSameFiles(t *testing.T) {
	d, err := Run(context.Background(), job(t, "gltf"))
	if err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(t.TempDir(), "a", "b")
	if _, err := d.WriteFolder(dir, false); err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	if err := d.Zip(&b); err != nil {
		t.Fatal(err)
	}
	z, err := zip.NewReader(bytes.NewReader(b.Bytes()), int64(b.Len()))
	if err != nil {
		t.Fatal(err)
	}
	zipped := map[string][]byte{}
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		if zipped[f.Name], err = io.ReadAll(r); err != nil {
			t.Fatal(err)
		}
	}
	left, err := os.ReadDir(dir)
	if err != nil || len(left) != len(zipped) || len(left) != 9 {
		t.Errorf("%d files in the folder, %d in the zip, want 9; %v", len(left), len(zipped), err)
	}
	for _, f := range left {
		data, err := os.ReadFile(filepath.Join(dir, f.Name()))
		if err != nil || !bytes.Equal(data, zipped[f.Name()]) {
			t.Errorf("%s has %d bytes in the folder and %d in the zip, or others; %v", f.Name(), len(data), len(zipped[f.Name()]), err)
		}
	}
	var note Delivery
	if err := json.Unmarshal(zipped[Note], &note); err != nil {
		t.Fatal(err)
	}
	if len(note.Files) != 8 {
		t.Errorf("the note tells of %d files, want all but itself: 8", len(note.Files))
	}
	for _, w := range note.Files {
		if sum := sha256.Sum256(zipped[w.File]); hex.EncodeToString(sum[:]) != w.SHA256 || len(zipped[w.File]) != w.Bytes {
			t.Errorf("%s: the note says %d bytes with SHA-256 %s, it has %d with %x", w.File, w.Bytes, w.SHA256, len(zipped[w.File]), sum)
		}
	}
}

// Where writing fails, files that are there stay as they were, none is left half written, and no note says
// that all is well.
func TestAFolderThatFailsIsNotHalfDone(t *testing.T) {
	d, err := Run(context.Background(), job(t, "gltf"))
	if err != nil {
		t.Fatal(err)
	}
	blocked := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(blocked, []byte("mine"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := d.WriteFolder(filepath.Join(blocked, "maps"), false); err == nil {
		t.Error("writing into a file as if it were a folder went well")
	}
	if got, err := os.ReadFile(blocked); string(got) != "mine" {
		t.Errorf("the file in the way holds %q now, %v", got, err)
	}
	// The third file's name is taken by a folder that holds something.
	dir := t.TempDir()
	kept := filepath.Join(dir, d.Files[2].File, "kept")
	if err := os.MkdirAll(filepath.Dir(kept), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(kept, []byte("kept"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, replace := range []bool{false, true} {
		if _, err := d.WriteFolder(dir, replace); err == nil || !strings.Contains(err.Error(), d.Files[2].File) {
			t.Errorf("a folder in the way of %s: %v", d.Files[2].File, err)
		}
	}
	left, err := os.ReadDir(dir)
	if got, e := os.ReadFile(kept); err != nil || e != nil || string(got) != "kept" || len(left) != 1 {
		t.Errorf("what was there holds %q, %v; %d entries, want the folder alone", got, e, len(left))
	}
}

// UDIM sets share the asset's name and carry their tile's number before the ending (MaterialX
// filename substitution {UDIM}, common practice for its place).
func TestFilesOfTilesCarryTheirNumber(t *testing.T) {
	j := Job{Asset: "sluice winch", Naming: DefaultNaming, SizeOf: func(string) int { return 512 }}
	f := &Presets[0].Files[0]
	if got := j.fileName(f, &uv.Set{Name: "1002", Tile: 1002}); got != "sluice winch_basecolor.1002.png" {
		t.Errorf("tile 1002 goes to %q", got)
	}
	if got := j.fileName(f, &uv.Set{Name: "hull"}); got != "hull_basecolor.png" {
		t.Errorf("set hull goes to %q", got)
	}
}

func TestDeliveriesRefuseWhatCannotBe(t *testing.T) {
	j := job(t, "gltf")
	j.Size = 300
	if _, err := Run(context.Background(), j); err == nil {
		t.Error("a size that is not offered is accepted")
	}
	j.Size = 256
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := Run(ctx, j); err == nil {
		t.Error("a stopped delivery says that it is done")
	}
	if _, err := PresetOf("nothing"); err == nil {
		t.Error("an unknown preset is found")
	}
	f := &finish.Finishes[0]
	for _, dials := range []map[string]float64{{"age": 2}, {"shine": 1}} {
		if _, err := f.Lay(new(strata.Document), dials, 1); err == nil {
			t.Errorf("dials %v are accepted", dials)
		}
	}
}

// What shines and what is cut away are delivered where a layer lays them down, and only there: a file of their own, the alpha
// of the base colour, and in the GLB as glTF 2.0 §3.9 has them: emissiveTexture with a factor of 1, alphaMode MASK.
func TestEmissiveAndOpacityAreDeliveredWhereTheyAreUsed(t *testing.T) {
	j := job(t, "gltf")
	j.Sets = j.Sets[:1]
	tris := j.Model.Tris[:len(j.Sets[0].Tris)]
	j.Model.Tris, j.Model.Part, j.Model.Material = tris, j.Model.Part[:len(tris)], j.Model.Material[:len(tris)]
	top := &j.Document.Layers[len(j.Document.Layers)-1]
	top.Where, top.Soften, top.Opacity = nil, 0, 1
	top.What.Emissive = strata.Value{On: true, Hex: "#204060", Blend: "over", Opacity: 1}
	top.What.Opacity = strata.Value{On: true, Number: 0.2, Blend: "over", Opacity: 1}
	d, err := Run(context.Background(), j)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	var names []string
	at := map[string]int{}
	for i, f := range d.Files {
		names, at[f.File] = append(names, f.File), i
	}
	if got := strings.Join(names, " "); got != "hull_basecolor.png hull_orm.png hull_normal.png hull_emissive.png two spheres.glb wiring.txt" {
		t.Fatalf("files %s", got)
	}
	base, glow := d.Files[at["hull_basecolor.png"]], d.Files[at["hull_emissive.png"]]
	if base.Channels["A"] != "opacity" || glow.Channels["R"] != "emissive.r" || glow.Space != "sRGB" {
		t.Errorf("channels %v and %v in %s", base.Channels, glow.Channels, glow.Space)
	}
	picture := func(name string) (r, g, b, a uint32) {
		im, err := png.Decode(bytes.NewReader(data(t, d, at[name])))
		if err != nil {
			t.Fatal(err)
		}
		c := color.NRGBAModel.Convert(im.At(128, 128)).(color.NRGBA)
		return uint32(c.R), uint32(c.G), uint32(c.B), uint32(c.A)
	}
	if _, _, _, a := picture("hull_basecolor.png"); a != 51 {
		t.Errorf("alpha %d, want 51", a)
	}
	if r, g, b, _ := picture("hull_emissive.png"); r != 0x20 || g != 0x40 || b != 0x60 {
		t.Errorf("emissive %d %d %d", r, g, b)
	}
	glb := data(t, d, at["two spheres.glb"])
	n := binary.LittleEndian.Uint32(glb[12:])
	var doc struct {
		Materials []struct {
			AlphaMode       string
			EmissiveFactor  []float32
			EmissiveTexture struct{ Index int }
		}
		Textures []struct{ Source int }
		Images   []struct{ Name string }
	}
	if err := json.Unmarshal(glb[20:20+n], &doc); err != nil || len(doc.Materials) != 1 {
		t.Fatalf("%d materials, %v", len(doc.Materials), err)
	}
	m := doc.Materials[0]
	if name := doc.Images[doc.Textures[m.EmissiveTexture.Index].Source].Name; m.AlphaMode != "MASK" || len(m.EmissiveFactor) != 3 || m.EmissiveFactor[0] != 1 || name != "hull_emissive" {
		t.Errorf("%+v, picture %s", m, name)
	}

	top.What.Emissive.On, top.What.Opacity.Opacity = false, 0
	for _, f := range j.Preset.For(j.Document).Files {
		if f.Label == "Emissive" || len(f.Planes()) != 3 {
			t.Errorf("%s with %v, though no layer uses more", f.Label, f.Planes())
		}
	}
}

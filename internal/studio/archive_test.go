package studio

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"io"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"crust/internal/core/bake"
	"crust/internal/core/brush"
	"crust/internal/core/imgfile"
	"crust/internal/core/strata"
)

// furnished is a ball with maps, a picture that a layer lays, strokes, a keepsake, a set's own name and a way to be delivered.
func furnished(t *testing.T, s *Studio) *Asset {
	t.Helper()
	a, to := paintable(t, s)
	if err := a.SetSettings(Settings{Quality: "draft", Size: 128, Radius: 0.05}); err != nil {
		t.Fatal(err)
	}
	key := a.sets[0].Key
	if err := a.Bake([]Cell{{Set: key, Kind: bake.AO}, {Set: key, Kind: bake.WorldNormal}, {Set: key, Kind: bake.ID}, {Set: key, Kind: bake.Thickness}}); err != nil {
		t.Fatal(err)
	}
	a.WaitJob(nil)
	p := a.Watch("")
	defer p.Leave()
	paint(t, p, to, []brush.Point{{0, 0, 0.5, 0, 0, 1, 1}, {0.1, 0, 0.49, 0.2, 0, 0.979, 0.7}}, 1)
	file, err := imgfile.Bytes(&imgfile.Image{Width: 4, Height: 4, Channels: 1, Bits: 8, Pix8: make([]uint8, 16)})
	if err != nil {
		t.Fatal(err)
	}
	added, _, err := a.AddPictures(Upload{{Name: "grain_roughness.png", Data: file}})
	if err != nil {
		t.Fatal(err)
	}
	source, _ := json.Marshal(strata.Source{Kind: "picture", Picture: added[0].Mark, Of: "red"})
	if _, err := a.Edit(strata.Edit{Do: "set", Layer: to.Layer, Path: "what.roughness.source", Value: source}, false); err != nil {
		t.Fatal(err)
	}
	if err := a.Keep("as it was"); err != nil {
		t.Fatal(err)
	}
	if err := a.NameSet(key, "skin"); err != nil {
		t.Fatal(err)
	}
	if err := a.SetShipping(Shipping{Preset: "rma-16", Size: 512, To: ToFolder, Folder: "ball", Naming: "T_{map}"}); err != nil {
		t.Fatal(err)
	}
	return a
}

func packed(t *testing.T, s *Studio, id uint, maps bool) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := s.Pack(&b, id, maps); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// An asset that goes out of one data folder and into another is the same: its strata with strokes and pictures, maps with what they
// were baked from, keepsakes, names and how it is delivered; and its archive's strata are the same again.
func TestAnArchiveBringsTheWholeAssetAlong(t *testing.T) {
	s := newStudio(t, t.TempDir())
	a := furnished(t, s)
	data := packed(t, s, a.ID, true)
	to := newStudio(t, t.TempDir())
	ball(t, to) // another asset, whose numbers are taken
	id, err := to.Unpack(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		t.Fatal(err)
	}
	b, err := to.Open(id)
	if err != nil {
		t.Fatal(err)
	}
	if b.name != a.name || b.split != a.split || b.sets[0].Name != "skin" || b.modelName != a.modelName || b.shipping.Naming != "T_{map}" || b.shipping.Folder != "ball" || !reflect.DeepEqual(b.settings, a.settings) {
		t.Errorf("it came as %q, %q, set %q, %+v, %+v", b.name, b.split, b.sets[0].Name, b.shipping, b.settings)
	}
	if len(b.keepsakes) != 1 || b.keepsakes[0].Name != "as it was" || len(b.pictures) != 1 || b.pictures[0].Name != "grain_roughness.png" || b.pictures[0].Space != a.pictures[0].Space {
		t.Errorf("keepsakes %+v, pictures %+v", b.keepsakes, b.pictures)
	}
	for k, r := range a.rows {
		q := b.rows[k]
		if q.Stamp != r.Stamp || q.Size != r.Size || q.Channels != r.Channels || q.Low != r.Low || q.High != r.High || q.Legend != r.Legend {
			t.Errorf("map %v came as %+v, it was %+v", k, q, r)
		}
		was, err1 := s.Store.Map(a.ID, k[0], k[1])
		is, err2 := to.Store.Map(b.ID, k[0], k[1])
		if err1 != nil || err2 != nil || !slices.Equal(was.Pix, is.Pix) {
			t.Errorf("the texels of %v differ: %v, %v", k, err1, err2)
		}
	}
	b.mu.Lock()
	for _, c := range b.cells(bake.Kinds) {
		if c.State == "stale" {
			t.Errorf("map %s of %s is stale: %s", c.Kind, c.Set, c.Why)
		}
	}
	b.mu.Unlock()
	// The strata, with pictures and strokes by what they are and not by their numbers.
	strataOf := func(s *Studio, id uint, marks map[string]string) string {
		z, err := zip.NewReader(bytes.NewReader(packed(t, s, id, false)), int64(len(packed(t, s, id, false))))
		if err != nil {
			t.Fatal(err)
		}
		f, err := z.Open(archiveStrata)
		if err != nil {
			t.Fatal(err)
		}
		text, _ := io.ReadAll(f)
		out := string(text)
		for from, to := range marks {
			out = strings.ReplaceAll(out, `"`+from+`"`, `"`+to+`"`)
		}
		return out
	}
	one, two := strataOf(s, a.ID, map[string]string{markOf(&a.pictures[0]): "the picture"}), strataOf(to, id, map[string]string{markOf(&b.pictures[0]): "the picture"})
	if one != two || !strings.Contains(one, "the picture") || !strings.Contains(one, `"paths"`) {
		t.Errorf("the strata differ:\n%.2000s\n%.2000s", one, two)
	}
	// Twice into the same folder it is two assets.
	again, err := to.Unpack(bytes.NewReader(data), int64(len(data)))
	if err != nil || again == id {
		t.Errorf("asset %d again, %v", again, err)
	}
	// Without maps it is smaller, and opens with none.
	bare := packed(t, s, a.ID, false)
	id, err = to.Unpack(bytes.NewReader(bare), int64(len(bare)))
	if err != nil || len(bare) >= len(data) {
		t.Fatalf("%d bytes without maps, %d with, %v", len(bare), len(data), err)
	}
	if c, err := to.Open(id); err != nil || len(c.rows) != 0 {
		t.Errorf("%v: %d maps", err, len(c.rows))
	}
}

// What is wrong with an archive is said in one sentence, and nothing is stored of it.
func TestArchivesThatAreWrongStoreNothing(t *testing.T) {
	s := newStudio(t, t.TempDir())
	a := furnished(t, s)
	data := packed(t, s, a.ID, true)
	to := newStudio(t, t.TempDir())
	// with is the archive with some files changed; nil leaves one out.
	with := func(change map[string]func(old []byte) []byte) []byte {
		z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
		if err != nil {
			t.Fatal(err)
		}
		var b bytes.Buffer
		out := zip.NewWriter(&b)
		for _, f := range z.File {
			r, _ := f.Open()
			text, _ := io.ReadAll(r)
			for name, how := range change {
				if strings.HasSuffix(f.Name, name) {
					text = how(text)
				}
			}
			if text == nil {
				continue
			}
			w, _ := out.Create(f.Name)
			w.Write(text)
		}
		out.Close()
		return b.Bytes()
	}
	gone := func([]byte) []byte { return nil }
	swap := func(from, to string) func([]byte) []byte {
		return func(old []byte) []byte { return bytes.Replace(old, []byte(from), []byte(to), 1) }
	}
	for _, c := range []struct {
		data []byte
		want string
	}{
		{[]byte("PK"), "no sound zip"}, {with(map[string]func([]byte) []byte{archiveHead: gone}), "has no file “archive.json”"},
		{with(map[string]func([]byte) []byte{archiveHead: swap(`"asset 1"`, `"asset 9"`)}), "an asset archive says “asset 1”"},
		{with(map[string]func([]byte) []byte{archiveHead: swap(`"name"`, `"glow": 1, "name"`)}), "is not what docs/archive.md describes"},
		{with(map[string]func([]byte) []byte{archiveHead: swap(`"kind": "model"`, `"kind": "secret"`)}), "of kind “secret”"},
		{with(map[string]func([]byte) []byte{archiveStrata: gone}), "has no file “strata.json”"},
		{with(map[string]func([]byte) []byte{archiveStrata: swap(`{`, `[`)}), "no sound JSON"},
		{with(map[string]func([]byte) []byte{"_ao.png": gone}), "_ao.png”, which it speaks of"},
		{with(map[string]func([]byte) []byte{"_ao.png": func(b []byte) []byte { return b[:len(b)/2] }}), "_ao.png"},
		{with(map[string]func([]byte) []byte{".glb": func(b []byte) []byte { return b[:100] }}), "the model in the archive"},
		{with(map[string]func([]byte) []byte{"grain_roughness.png": func([]byte) []byte { return []byte("x") }}), "picture “grain_roughness.png” in the archive"},
		{with(map[string]func([]byte) []byte{archiveHead: swap(`"kind": "ao"`, `"kind": "glow"`)}), "a map “glow”"},
	} {
		_, err := to.Unpack(bytes.NewReader(c.data), int64(len(c.data)))
		if err == nil || !strings.Contains(err.Error(), c.want) || strings.Contains(err.Error(), "\n") {
			t.Errorf("%v, want “%s”", err, c.want)
		}
	}
	// Bytes changed by chance: never a panic, and whole or not at all.
	r := rand.New(rand.NewPCG(3, 1))
	small := packed(t, s, a.ID, false)
	made := 0
	for range 60 {
		b := slices.Clone(small)
		for range 1 + r.IntN(8) {
			b[r.IntN(len(b))] ^= byte(1 << r.IntN(8))
		}
		if id, err := to.Unpack(bytes.NewReader(b), int64(len(b))); err == nil {
			made++
			if _, err := to.Open(id); err != nil {
				t.Errorf("an archive was taken that does not open: %v", err)
			}
		}
	}
	all, err := to.Store.Assets()
	if err != nil || len(all) != made {
		t.Errorf("%d assets are there, %d were made; %v", len(all), made, err)
	}
}

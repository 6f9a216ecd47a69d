package store

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"os"
	"os/exec"
	"slices"
	"testing"
	"time"

	"crust/internal/core/bake"
)

func open(t *testing.T, dir string) *Store {
	t.Helper()
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func asset(t *testing.T, s *Store) uint {
	t.Helper()
	a := &Asset{Name: "buoy", Split: "material", Size: 1024}
	if err := s.Create(a, File{Name: "buoy.glb", Data: []byte("model")}, []File{{Name: "a.mtl", Data: []byte("x")}}, `{"layers":[],"next":0}`); err != nil {
		t.Fatal(err)
	}
	return a.ID
}

func TestMapsComeBackTexelForTexel(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	id := asset(t, s)
	r := rand.New(rand.NewPCG(1, 1))
	for _, channels := range []int{1, 3} {
		m := &bake.Map{Set: "hull", Kind: "ao", Size: 512, Channels: channels, Pix: make([]uint16, 512*512*channels), Rays: 7, Missed: 3}
		for i := range m.Pix {
			m.Pix[i] = uint16(i*3) + uint16(r.IntN(50))
		}
		if err := s.PutMap(id, m, "stamp", false); err != nil {
			t.Fatal(err)
		}
		rows, err := s.Maps(id)
		if err != nil || len(rows) != 1 {
			t.Fatalf("%d maps, %v; the second takes the first one's place", len(rows), err)
		}
		back, err := s.Map(id, rows[0].Set, rows[0].Kind)
		if err != nil || !slices.Equal(back.Pix, m.Pix) || back.Rays != 7 || back.Missed != 3 {
			t.Errorf("%d channels: the map came back changed, %v", channels, err)
		}
	}
	var chunks int64
	s.db.Model(&Chunk{}).Count(&chunks)
	if err := s.DropMaps(id); err != nil {
		t.Fatal(err)
	}
	var left int64
	s.db.Model(&Chunk{}).Count(&left)
	if left != 2 {
		t.Errorf("%d chunks left of %d, want the two of the model's files", left, chunks)
	}
}

func TestDeletingAnAssetLeavesNothing(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	keep, gone := asset(t, s), asset(t, s)
	d := &Delivery{AssetID: gone, Preset: "gltf"}
	if err := s.AddDelivery(d, func(file string) error { return os.WriteFile(file, []byte("zip"), 0o644) }); err != nil {
		t.Fatal(err)
	}
	if err := s.Delete(gone); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Asset(gone); !errors.Is(err, ErrNone) {
		t.Errorf("the asset is still found: %v", err)
	}
	if _, err := os.Stat(s.ZipOf(d)); err == nil {
		t.Error("its delivery is still on disk")
	}
	files, err := s.Files(keep, "model")
	if err != nil || len(files) != 1 || !bytes.Equal(files[0].Data, []byte("model")) {
		t.Errorf("the other asset lost its model: %v, %v", files, err)
	}
	var chunks int64
	s.db.Model(&Chunk{}).Count(&chunks)
	if chunks != 2 {
		t.Errorf("%d chunks left, want 2", chunks)
	}
}

// A process that is killed while it commits leaves a data folder that opens clean, with the last
// answered step.
func TestAKillLosesNothingThatWasAnswered(t *testing.T) {
	if dir := os.Getenv("CRUST_KILL_DIR"); dir != "" {
		s, err := Open(dir)
		if err != nil {
			os.Exit(3)
		}
		for i := 0; ; i++ {
			if err := s.Append(&Op{AssetID: 1, Seq: int64(i + 1), Kind: KindEdit, Label: "Edit", Ops: "[]"}, ""); err != nil {
				os.Exit(4)
			}
			os.Stdout.WriteString(".")
		}
	}
	dir := t.TempDir()
	s := open(t, dir)
	asset(t, s)
	s.Close()
	cmd := exec.Command(os.Args[0], "-test.run", "^TestAKillLosesNothingThatWasAnswered$")
	cmd.Env = append(os.Environ(), "CRUST_KILL_DIR="+dir)
	var out bytes.Buffer
	cmd.Stdout = &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(700 * time.Millisecond)
	if err := cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	cmd.Wait()
	answered := bytes.Count(out.Bytes(), []byte("."))
	if answered < 3 {
		t.Fatalf("only %d edits were answered before the kill: %s", answered, out.String())
	}
	s = open(t, dir)
	defer s.Close()
	_, ops, err := s.History(1)
	if err != nil || len(ops) < answered || ops[len(ops)-1].Seq != int64(len(ops)) {
		t.Errorf("%d entries after %d answered edits, %v", len(ops), answered, err)
	}
}

// A file of a hundred megabytes comes back as it went in.
func TestLargeFilesComeBack(t *testing.T) {
	s, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	data := make([]byte, 100<<20)
	for i := range data {
		data[i] = byte(i>>12) ^ byte(i>>3)
	}
	a := &Asset{Name: "large"}
	if err := s.Create(a, File{Name: "large.obj", Data: data}, nil, "{}"); err != nil {
		t.Fatal(err)
	}
	files, err := s.Files(a.ID, "model")
	if err != nil || len(files) != 1 || !bytes.Equal(files[0].Data, data) {
		t.Errorf("%d files, %v; want the one that was stored", len(files), err)
	}
}

// A corrected model takes the old one's place with its files; layouts stay only when they are to.
func TestModelsAndLayoutsAreReplaced(t *testing.T) {
	s := open(t, t.TempDir())
	a := &Asset{Name: "winch", ModelName: "one.obj"}
	if err := s.Create(a, File{Name: "one.obj", Data: []byte("one")}, []File{{Name: "one.mtl", Data: []byte("m")}}, "{}"); err != nil {
		t.Fatal(err)
	}
	names := func(kind string) (out []string) {
		files, err := s.Files(a.ID, kind)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range files {
			out = append(out, f.Name+"="+string(f.Data))
		}
		return out
	}
	if err := s.AddLayout(a.ID, "Laid out 1", []byte("uv"), map[string]any{"split": "single"}); err != nil {
		t.Fatal(err)
	}
	if row, err := s.Asset(a.ID); err != nil || row.Split != "single" || !slices.Equal(names("layout"), []string{"Laid out 1=uv"}) {
		t.Errorf("%v, %v, %v", row, err, names("layout"))
	}
	for _, keep := range []bool{true, false} {
		if err := s.ReplaceModel(a.ID, File{Name: "two.glb", Data: []byte("two")}, nil, keep, map[string]any{"model_name": "two.glb"}); err != nil {
			t.Fatal(err)
		}
		if !slices.Equal(names("model"), []string{"two.glb=two"}) || len(names("beside")) != 0 || (len(names("layout")) == 1) != keep {
			t.Errorf("keeping layouts %v: model %v, beside %v, layouts %v", keep, names("model"), names("beside"), names("layout"))
		}
	}
	if row, err := s.Asset(a.ID); err != nil || row.ModelName != "two.glb" {
		t.Errorf("%v, %v", row, err)
	}
	if err := s.Delete(a.ID); err != nil {
		t.Fatal(err)
	}
	if n := len(names("model")); n != 0 {
		t.Errorf("%d models are left of a deleted asset", n)
	}
}

package studio

import (
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"testing"

	"crust/internal/core/strata"
)

// Folders that servers of earlier times have written open as they were left: the asset's name, its model and sets, a baked map, the strata
// with one of two added layers taken back; and work goes on in them. The files are data files as those servers wrote them.
func TestFoldersOfEarlierTimesOpen(t *testing.T) {
	names, err := filepath.Glob("../store/testdata/earlier/*.db.gz")
	if err != nil || len(names) < 5 {
		t.Fatalf("%d data files, %v", len(names), err)
	}
	for _, name := range names {
		t.Run(filepath.Base(name), func(t *testing.T) {
			f, err := os.Open(name)
			if err != nil {
				t.Fatal(err)
			}
			defer f.Close()
			z, err := gzip.NewReader(f)
			if err != nil {
				t.Fatal(err)
			}
			data, err := io.ReadAll(z)
			if err != nil {
				t.Fatal(err)
			}
			dir := t.TempDir()
			if err := os.WriteFile(filepath.Join(dir, "crust.db"), data, 0o644); err != nil {
				t.Fatal(err)
			}
			s := newStudio(t, dir)
			if err := s.Store.Sound(); err != nil {
				t.Error(err)
			}
			a, err := s.Open(1)
			if err != nil {
				t.Fatal(err)
			}
			m, sets := a.Model()
			if a.Name() != "old quay" || len(m.Tris) != 2 || len(sets) != 2 || sets[0].Key != "stone" {
				t.Errorf("“%s” has %d triangles and sets %v", a.Name(), len(m.Tris), sets)
			}
			if d := a.Document(); len(d.Layers) != 2 {
				t.Errorf("%d layers, want the two that were left", len(d.Layers))
			}
			ao, err := s.Store.Map(1, "stone", "ao")
			if err != nil || ao.Size != 64 || len(ao.Pix) != 64*64 {
				t.Errorf("the baked map: %v, %v", ao, err)
			}
			if _, err := a.Edit(strata.Edit{Do: "add"}, false); err != nil {
				t.Error(err)
			}
			if err := a.Bake([]Cell{{Set: "iron", Kind: "ao"}}); err != nil {
				t.Fatal(err)
			}
			a.WaitJob(nil)
			if _, err := s.Store.Map(1, "iron", "ao"); err != nil {
				t.Error(err)
			}
			if strays, err := s.Store.Strays(); err != nil || len(strays) > 0 {
				t.Errorf("%v, %v", strays, err)
			}
		})
	}
}

package store

import (
	"compress/gzip"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"crust/internal/core/strata"
)

// write adds an edit to an asset's journal as the studio does.
func write(t *testing.T, s *Store, asset uint, seq int64, d *strata.Document, e strata.Edit, snapshot bool) *strata.Document {
	t.Helper()
	next := d.Clone()
	label, _, err := next.Apply(e)
	if err != nil {
		t.Fatal(err)
	}
	text, err := json.Marshal(strata.Diff(d, next))
	if err != nil {
		t.Fatal(err)
	}
	whole := ""
	if snapshot {
		b, err := json.Marshal(next)
		if err != nil {
			t.Fatal(err)
		}
		whole = string(b)
	}
	if err := s.Append(&Op{AssetID: asset, Seq: seq, Author: "a", Kind: KindEdit, Label: label, Ops: string(text)}, whole); err != nil {
		t.Fatal(err)
	}
	return next
}

func same(a, b *strata.Document) bool {
	x, _ := json.Marshal(a)
	y, _ := json.Marshal(b)
	return string(x) == string(y)
}

// The journal gives the document that was written, after the file is closed and opened again; folding drops what is older
// than it keeps, and an edit takes room for itself, not for the document.
func TestTheJournalComesBackAndFolds(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	id := asset(t, s)
	d, err := s.Document(id)
	if err != nil {
		t.Fatal(err)
	}
	for n := range 30 {
		d = write(t, s, id, int64(n+1), d, strata.Edit{Do: "add"}, false)
	}
	s.Close()
	s = open(t, dir)
	defer func() { s.Close() }()
	if got, err := s.Document(id); err != nil || !same(got, d) {
		t.Errorf("%v comes back as %v, %v", d, got, err)
	}
	before, err := s.Used(id)
	if err != nil {
		t.Fatal(err)
	}
	value := json.RawMessage("0.25")
	d = write(t, s, id, 31, d, strata.Edit{Do: "set", Layer: d.Layers[7].ID, Path: "what.roughness.number", Value: value}, false)
	if after, err := s.Used(id); err != nil || after-before > 300 {
		t.Errorf("a changed number takes %d bytes, %v", after-before, err)
	}
	d = write(t, s, id, KeepOps+10, d, strata.Edit{Do: "add"}, true)
	snap, ops, err := s.History(id)
	if err != nil || snap.Seq != KeepOps+10 || len(ops) != 31-10+1 || ops[0].Seq != 11 {
		t.Errorf("after folding there are %d entries from %d on over a snapshot of %d, %v", len(ops), ops[0].Seq, snap.Seq, err)
	}
	if got, err := s.Document(id); err != nil || !same(got, d) {
		t.Errorf("after folding %v comes back as %v, %v", d, got, err)
	}
}

// A data folder of the version before, which kept whole documents: five edits, two of them undone. Its document is there, the
// last edits can be undone, and the undone ones redone.
func TestAFolderOfTheVersionBeforeOpens(t *testing.T) {
	f, err := os.Open("testdata/version0.db.gz")
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
	for range 2 { // taken over once, then opened as it is
		s := open(t, dir)
		assets, err := s.Assets()
		if err != nil || len(assets) != 1 || assets[0].Name != "quay stone" {
			t.Fatalf("%+v, %v", assets, err)
		}
		d, err := s.Document(assets[0].ID)
		if err != nil {
			t.Fatal(err)
		}
		if len(d.Layers) != 1 || d.Layers[0].Name != "Granite" || len(d.Layers[0].Where) != 1 || d.Layers[0].What.Roughness.Number != 0.6 {
			t.Errorf("the document is %+v", d)
		}
		_, ops, err := s.History(assets[0].ID)
		if err != nil {
			t.Fatal(err)
		}
		var kinds []string
		for _, o := range ops {
			kinds = append(kinds, o.Kind)
		}
		if got := strings.Join(kinds, " "); got != "edit edit edit edit edit undo undo" || ops[6].Of != 4 || ops[3].Label != "Change roughness number of Granite" {
			t.Errorf("the journal holds %s, %+v", got, ops)
		}
		if err := s.Create(&Asset{Name: "new", Split: "single", Size: 512}, File{Name: "a.obj"}, nil, `{"layers":[]}`); err != nil {
			t.Errorf("a new asset in an old folder: %v", err)
		}
		if all, _ := s.Assets(); len(all) == 2 {
			for _, a := range all {
				if a.Name == "new" {
					err = s.Delete(a.ID)
				}
			}
		}
		if err != nil {
			t.Error(err)
		}
		s.Close()
	}
}

package main

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	_ "github.com/glebarez/go-sqlite" // the driver of the data file
)

func TestMain(m *testing.M) {
	flag.Parse()
	if *child != "" {
		os.Exit(beChild(*child))
	}
	os.Exit(m.Run())
}

// build makes the program that is tried.
func build(t *testing.T) {
	t.Helper()
	if *program != "" {
		return
	}
	dir, err := os.MkdirTemp("", "crust-trial-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir); *program = "" })
	*program = filepath.Join(dir, "crust")
	if out, err := exec.Command("go", "build", "-o", *program, "crust/cmd/crust").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
}

// A short trial loses nothing: some days that end badly, and some damaged files for every reader.
func TestAShortTrial(t *testing.T) {
	build(t)
	tally := newTally()
	ctx, cancel := context.WithTimeout(context.Background(), 8*time.Second)
	defer cancel()
	if err := days(ctx, tally, t.TempDir()); err != nil {
		t.Fatal(err)
	}
	mutantsEach, onThrough = 400, 10
	if err := mutants(context.Background(), tally, t.TempDir()); err != nil {
		t.Fatal(err)
	}
	if tally.Failures > 0 {
		t.Errorf("%d failures, printed above", tally.Failures)
	}
	for _, r := range readers {
		want := mutantsEach
		if r.name == throughName {
			want = onThrough
		}
		if got := tally.Tries["mutants: "+r.name]; got != want {
			t.Errorf("%d mutants for %s, want %d", got, r.name, want)
		}
	}
	if tally.Tries["folders opened again"] == 0 || tally.Tries["acknowledged layers looked for"] == 0 {
		t.Errorf("nothing was tried: %v", tally.Tries)
	}
	text, err := json.Marshal(tally)
	if err != nil {
		t.Fatal(err)
	}
	t.Log(string(text))
}

// What the trial would find is found: of a folder in which something is taken away, spoilt or left over, it says so.
func TestTheTrialFindsLosses(t *testing.T) {
	build(t)
	tally := newTally()
	dir := t.TempDir()
	w := &town{t: tally, r: rand.New(rand.NewPCG(3, 3)), data: filepath.Join(dir, "data"), root: filepath.Join(dir, "out"), kills: map[string]int{}, model: plates()}
	var found []string
	w.lost = func(format string, args ...any) { found = append(found, fmt.Sprintf(format, args...)) }
	s, err := startServer(w.data, w.root)
	if err != nil {
		t.Fatal(err)
	}
	id, err := s.bring("plates.obj", w.model)
	if err != nil {
		t.Fatal(err)
	}
	l := newLedger(id, "plates")
	w.all = []*ledger{l}
	p, err := s.page(id, "hand")
	if err != nil {
		t.Fatal(err)
	}
	r := rand.New(rand.NewPCG(1, 1))
	var mine []string
	var before []undoable
	for _, kind := range []string{"edit", "edit", "edit", "edit", "edit", "paint", "paint", "bake", "deliver", "edit"} {
		if err := w.work(s, p, l, r, kind, "hand", &mine, &before); err != nil {
			t.Fatalf("%s: %v", kind, err)
		}
	}
	if err := s.do(id, "shipping", map[string]any{"shipping": map[string]any{"preset": "gltf", "to": "zip", "size": 256}}); err != nil {
		t.Fatal(err)
	}
	if err := s.do(id, "deliver", map[string]any{}); err != nil {
		t.Fatal(err)
	}
	if err := p.job("deliver"); err != nil {
		t.Fatal(err)
	}
	l.delivered++
	p.close()
	s.kill()
	check := func() []string {
		found = nil
		if err := w.check(); err != nil {
			found = append(found, err.Error())
		}
		return found
	}
	if got := check(); len(got) > 0 {
		t.Fatalf("a sound folder: %q", got)
	}
	change := func(query string, args ...any) func() error {
		return func() error {
			db, err := sql.Open("sqlite", filepath.Join(w.data, "crust.db"))
			if err != nil {
				return err
			}
			defer db.Close()
			_, err = db.Exec(query, args...)
			return err
		}
	}
	zips := func() error {
		list, err := filepath.Glob(filepath.Join(w.data, "deliveries", "*", "*.zip"))
		if err != nil || len(list) == 0 {
			return fmt.Errorf("%v, %w", list, os.ErrNotExist)
		}
		return os.WriteFile(list[0], []byte("spoilt"), 0o644)
	}
	whole, err := os.ReadFile(filepath.Join(w.data, "crust.db"))
	if err != nil {
		t.Fatal(err)
	}
	ledgers := func() *ledger {
		c := newLedger(l.id, l.name.is)
		c.delivered, c.layouts = l.delivered, l.layouts
		for k, v := range l.strokes {
			c.strokes[k] = slices.Clone(v)
		}
		for k, v := range l.maps {
			c.maps[k] = v
		}
		for k, v := range l.opacities {
			h := *v
			c.opacities[k] = &h
		}
		return c
	}
	for _, c := range []struct {
		name, want string
		do         func() error
	}{
		{"a zip is spoilt", "delivery 2", zips},
		{"an edit is gone", "has opacity", change("DELETE FROM ops WHERE seq = (SELECT MAX(seq) FROM ops)")},
		{"a stroke is gone", "stroke", change("DELETE FROM strokes WHERE id = (SELECT MAX(id) FROM strokes)")},
		{"a map is gone", "map", change("DELETE FROM bakeds")},
		{"a name is another", "is called", change("UPDATE assets SET name = 'mole'")},
		{"a delivery is forgotten", "deliveries, want", change("DELETE FROM deliveries")},
		{"an asset is gone", "is there: false", change("DELETE FROM assets")},
		{"a row has no owner", "of no asset", change("INSERT INTO keepsakes (asset_id, name) VALUES (99, 'x')")},
		{"a file is left", "left over", func() error { return os.WriteFile(filepath.Join(w.data, "rest"), nil, 0o644) }},
	} {
		w.all = []*ledger{ledgers()}
		if err := c.do(); err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		if got := check(); !slices.ContainsFunc(got, func(f string) bool { return strings.Contains(f, c.want) }) {
			t.Errorf("%s: %q, want “%s”", c.name, got, c.want)
		}
		os.Remove(filepath.Join(w.data, "rest"))
		if err := os.WriteFile(filepath.Join(w.data, "crust.db"), whole, 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// The same seed and number make the same mutant, and mutants differ from what they were made of.
func TestMutantsAreTheSameEachTime(t *testing.T) {
	for _, r := range readers[:2] {
		seeds, err := r.seeds()
		if err != nil {
			t.Fatal(err)
		}
		changed := 0
		for n := range 200 {
			s := seeds[n%len(seeds)]
			a := mutate(rand.New(rand.NewPCG(1, uint64(n))), s.data, [][]byte{s.data})
			b := mutate(rand.New(rand.NewPCG(1, uint64(n))), s.data, [][]byte{s.data})
			if !bytes.Equal(a, b) {
				t.Fatalf("mutant %d of %s differs from itself", n, s.name)
			}
			if !bytes.Equal(a, s.data) {
				changed++
			}
		}
		if changed < 180 {
			t.Errorf("%s: only %d of 200 mutants differ", r.name, changed)
		}
	}
}

func TestPlainWords(t *testing.T) {
	for text, want := range map[string]bool{
		"quay.obj, line 3: “x” is not a finite number; export the file again": true, "a.png: the file is damaged (it ends too soon); save it again": true,
		"": false, "line 3\nline 4": false, "a\x00b": false, "unexpected EOF": false, "runtime error: index out of range [3] with length 2": false,
		"json: cannot unmarshal": false, "png: invalid format": false, "invalid character 'x' after": false, strings.Repeat("a", 2000): false, "%!s(int=3)": false,
	} {
		if plainWords(text) != want {
			t.Errorf("%.60q: %v", text, !want)
		}
	}
}

package studio

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"crust/internal/core/bake"
	"crust/internal/core/imgfile"
	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
	"crust/internal/store"
)

func sphere(t *testing.T, nu, nv int) []byte {
	t.Helper()
	m := mesh.Sphere(nu, nv, 0.5, [3]float64{})
	var b bytes.Buffer
	if err := mesh.WriteGLB(&b, m, mesh.GLBOptions{Materials: []mesh.GLBMaterial{{Name: "ball"}}, MaterialOf: func(int) int { return 0 }}); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func newStudio(t *testing.T, dir string) *Studio {
	t.Helper()
	st, err := store.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	s := New(st)
	t.Cleanup(func() { s.Close(); st.Close() })
	return s
}

func ball(t *testing.T, s *Studio) *Asset {
	t.Helper()
	id, err := s.Create("ball", Upload{{Name: "ball.glb", Data: sphere(t, 32, 16)}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	a, err := s.Open(id)
	if err != nil {
		t.Fatal(err)
	}
	if err := a.SetSettings(Settings{Quality: "draft", Size: 128, Radius: 0.05}); err != nil {
		t.Fatal(err)
	}
	return a
}

// watcher collects what a page is sent.
type watcher struct {
	mu     sync.Mutex
	events []map[string]any
	rects  int
}

func watch(t *testing.T, a *Asset) (*Page, *watcher) {
	t.Helper()
	p, w := a.Watch(""), &watcher{}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		p.Run(ctx, func(b []byte) error {
			var e map[string]any
			if err := json.Unmarshal(b, &e); err != nil {
				return err
			}
			w.mu.Lock()
			w.events = append(w.events, e)
			w.mu.Unlock()
			return nil
		}, func(b []byte) error {
			w.mu.Lock()
			w.rects++
			w.mu.Unlock()
			p.Ack()
			return nil
		})
	}()
	t.Cleanup(func() { p.Leave(); cancel(); <-done })
	return p, w
}

// wait returns the first event for which ok is true, and forgets those of its kind up to it. Events of other kinds
// may come before or after.
func (w *watcher) wait(t *testing.T, what string, ok func(e map[string]any) bool) map[string]any {
	t.Helper()
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		w.mu.Lock()
		for i, e := range w.events {
			if ok(e) {
				rest := slices.DeleteFunc(slices.Clone(w.events[:i+1]), func(o map[string]any) bool { return o["t"] == e["t"] })
				w.events = append(rest, w.events[i+1:]...)
				w.mu.Unlock()
				return e
			}
		}
		w.mu.Unlock()
	}
	t.Fatalf("no event: %s", what)
	return nil
}

// quiet waits until no more rectangles come.
func (w *watcher) quiet() {
	for n := -1; ; {
		w.mu.Lock()
		now := w.rects
		w.mu.Unlock()
		if now == n {
			return
		}
		n = now
		time.Sleep(200 * time.Millisecond)
	}
}

func TestBakeRunsAsAJobAndCanBeStopped(t *testing.T) {
	s := newStudio(t, t.TempDir())
	a := ball(t, s)
	_, w := watch(t, a)
	if err := a.Bake(a.Missing()); err != nil {
		t.Fatal(err)
	}
	if err := a.Bake(a.Missing()); err == nil {
		t.Error("two jobs run at once")
	}
	w.wait(t, "the bake's end", func(e map[string]any) bool { return e["t"] == "done" && e["error"] == nil })
	if n := len(a.Missing()); n != 0 {
		t.Errorf("%d maps are missing after the bake", n)
	}
	// A length that the curvature depends on makes it stale, and nothing else.
	if err := a.SetSettings(Settings{Quality: "draft", Size: 128, Radius: 0.06}); err != nil {
		t.Fatal(err)
	}
	if m := a.Missing(); len(m) != 1 || m[0].Kind != "curvature" || m[0].State != "stale" || m[0].Why != "the curvature radius changed" {
		t.Errorf("after another radius: %+v, want stale curvature", m)
	}
	// Stopped at once, the old maps stay.
	if err := a.SetSettings(Settings{Quality: "final", Size: 2048, Radius: 0.06}); err != nil {
		t.Fatal(err)
	}
	if err := a.Bake([]Cell{{Set: "asset", Kind: "ao"}}); err != nil {
		t.Fatal(err)
	}
	time.Sleep(50 * time.Millisecond)
	a.StopJob()
	w.wait(t, "the stopped bake's end", func(e map[string]any) bool { return e["t"] == "done" && e["stopped"] == true })
	m, err := a.Map("asset", "ao")
	if err != nil || m.Size != 128 {
		t.Errorf("the map after a stop: %v, %v", m, err)
	}
}

// A page gets the whole picture once, then only what changes; a live edit shows and is not kept, a
// committed one is in the store before Edit returns.
func TestPagesFollowEdits(t *testing.T) {
	dir := t.TempDir()
	s := newStudio(t, dir)
	a := ball(t, s)
	if err := a.SetSize(256); err != nil {
		t.Fatal(err)
	}
	_, w := watch(t, a)
	newest := func() float64 { a.mu.Lock(); defer a.mu.Unlock(); return float64(a.version) }
	whole := func(e map[string]any) bool {
		return e["t"] == "whole" && e["full"] == true && e["view"] == "base" && e["version"] == newest()
	}
	w.wait(t, "the first picture", whole)
	w.wait(t, "coverage", func(e map[string]any) bool { return e["t"] == "coverage" && e["version"] == newest() })
	w.quiet()
	layer := a.doc.Layers[0].ID
	set := func(hex string, live bool) {
		t.Helper()
		v, _ := json.Marshal(hex)
		if _, err := a.Edit(strata.Edit{Do: "set", Layer: layer, Path: "what.colour.hex", Value: v}, live); err != nil {
			t.Fatal(err)
		}
	}
	w.mu.Lock()
	before := w.rects
	w.mu.Unlock()
	set("#ff0000", true)
	w.wait(t, "the live picture", whole)
	w.mu.Lock()
	sent := w.rects - before
	w.mu.Unlock()
	// 256 px are four rows of tiles; roughness and normal stay, and no coarse picture comes first.
	if sent != 4 {
		t.Errorf("%d rectangles for a changed colour, want 4", sent)
	}
	stored := func() string {
		d, err := s.Store.Document(a.ID)
		if err != nil {
			t.Fatal(err)
		}
		return d.Layers[0].What.Colour.Hex
	}
	if got := stored(); got == "#ff0000" {
		t.Error("a live edit was stored")
	}
	set("#00ff00", false)
	if got := stored(); got != "#00ff00" {
		t.Errorf("the stored colour is %s, want the committed edit's", got)
	}
	if err := a.Go(-1); err != nil {
		t.Fatal(err)
	}
	w.wait(t, "the strata after undo", func(e map[string]any) bool { return e["t"] == "doc" && e["redo"] == "Change colour hex of Base" })
}

// What is refused leaves everything as it was.
func TestRefusedFilesChangeNothing(t *testing.T) {
	s := newStudio(t, t.TempDir())
	for _, c := range []struct {
		files Upload
		want  string
	}{
		{Upload{}, "no model among these files"},
		{Upload{{Name: "a.obj", Data: []byte("v 0 0 nan")}}, "a.obj, line 1: “nan” is not a finite number"},
		{Upload{{Name: "a.glb", Data: sphere(t, 8, 4)[:200]}}, "is cut short"},
		{Upload{{Name: "a.obj", Data: []byte("v 0 0 0")}, {Name: "b.obj", Data: []byte("v 0 0 0")}}, "a.obj and b.obj are both models"},
	} {
		if _, err := s.Create("", c.files, nil); err == nil || strings.Contains(err.Error(), "\n") || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%d files: %v, want “%s”", len(c.files), err, c.want)
		}
	}
	if all, err := s.Store.Assets(); err != nil || len(all) != 0 {
		t.Errorf("%d assets, %v, after refusals", len(all), err)
	}
	a := ball(t, s)
	for _, c := range []struct {
		err  error
		want string
	}{
		{a.SetHigh(Upload{{Name: "h.obj", Data: []byte("f 1 2 3")}}, false), "h.obj, line 1: the face asks for vertex 1"},
		{a.BringMap("asset", "ao", store.File{Name: "m.png", Data: []byte("x")}), "m.png: the file is damaged"},
		{a.BringMap("asset", "glow", store.File{Name: "m.png"}), "“glow” is not a baked map; use ao"},
		{a.BringMap("nobody", "ao", store.File{Name: "m.png"}), "there is no set “nobody”"},
		{a.SetSize(300), "300 px is not offered; use one of [256"},
		{a.Rename(""), "1 to 80 letters"},
		{a.Split("tiles"), "“tiles” is not a way to split; use single"},
		{a.SetSettings(Settings{Quality: "best", Size: 512}), "“best” is not a quality; use draft"},
		{a.SetSettings(Settings{Quality: "draft", Size: 512, Far: -1}), "lengths must be zero or more metres"},
		{a.Bake(nil), "nothing is chosen to bake"},
		{a.ChangeShipping(json.RawMessage(`{"size":"large"}`)), "could not be understood"},
		{a.ChangeShipping(json.RawMessage(`{"colour":"red"}`)), "could not be understood"},
		{a.ChangeSettings(json.RawMessage(`[]`)), "could not be understood"},
		{a.SetShipping(Shipping{Preset: "nothing", Size: 512, To: ToZip}), "there is no preset “nothing”; use gltf"},
		{a.SetShipping(Shipping{Preset: "gltf", Size: 300, To: ToZip}), "300 px is not offered"},
		{a.SetShipping(Shipping{Preset: "gltf", Size: 512, To: "moon"}), "goes to a zip or a folder"},
		{a.SetShipping(Shipping{Preset: "gltf", Size: 512, To: ToZip, Naming: "{who}"}), "names know no {who}"},
	} {
		if c.err == nil || !strings.Contains(c.err.Error(), c.want) {
			t.Errorf("%v, want “%s”", c.err, c.want)
		}
	}
	row, err := s.Store.Asset(a.ID)
	if err != nil || row.HighName != "" || row.Size != 1024 || row.Name != "ball" || len(a.Missing()) != len(bake.Kinds) {
		t.Errorf("the asset after refusals: %+v, %v", row, err)
	}
}

// Another split keeps the layers and drops the maps of sets that are gone.
func TestSplittingAnewKeepsTheLayers(t *testing.T) {
	s := newStudio(t, t.TempDir())
	a := ball(t, s)
	if _, err := a.Edit(strata.Edit{Do: "add"}, false); err != nil {
		t.Fatal(err)
	}
	if err := a.Split("udim"); err != nil {
		t.Fatal(err)
	}
	if _, sets := a.Model(); len(sets) != 1 || sets[0].Name != "1001" {
		t.Errorf("sets %v, want tile 1001", sets)
	}
	if len(a.doc.Layers) != 2 {
		t.Errorf("%d layers after the split, want 2", len(a.doc.Layers))
	}
}

// High-poly files come one by one and together, take the place of those of their name, and go again; what bakes from
// them is told to be stale each time.
func TestHighPolysComeAndGo(t *testing.T) {
	a := ball(t, newStudio(t, t.TempDir()))
	tri := func(name string, y int) store.File {
		return store.File{Name: name, Data: []byte(fmt.Sprintf("o %s\nv 0 %d 0\nv 1 %d 0\nv 0 %d 1\nf 1 2 3\n", name, y, y, y))}
	}
	names := func() (out []string) {
		a.mu.Lock()
		defer a.mu.Unlock()
		for _, h := range a.highs {
			out = append(out, h.Name)
		}
		return out
	}
	for _, c := range []struct {
		files Upload
		add   bool
		want  []string
	}{
		{Upload{tri("a.obj", 0), tri("b.obj", 1)}, false, []string{"a.obj", "b.obj"}},
		{Upload{tri("c.obj", 2)}, true, []string{"a.obj", "b.obj", "c.obj"}},
		{Upload{tri("a.obj", 5)}, true, []string{"b.obj", "c.obj", "a.obj"}},
	} {
		before := a.highHash
		if err := a.SetHigh(c.files, c.add); err != nil {
			t.Fatal(err)
		}
		if got := names(); !slices.Equal(got, c.want) || a.highHash == before {
			t.Errorf("high-polys %v, want %v, with another hash", got, c.want)
		}
	}
	m, _, err := a.readHigh()
	if err != nil || len(m.Tris) != 3 || len(m.Parts) != 3 || m.Bounds().Max.Y != 5 {
		t.Fatalf("%+v, %v: want the three triangles as one model", m, err)
	}
	if err := a.DropHigh("nope.obj"); err == nil {
		t.Error("a file that is not there is taken away")
	}
	for _, n := range []string{"b.obj", "c.obj", "a.obj"} {
		if err := a.DropHigh(n); err != nil {
			t.Fatal(err)
		}
	}
	if m, _, err := a.readHigh(); m != nil || err != nil || a.highHash != "" {
		t.Errorf("%v %v after the last has gone", m, err)
	}
}

// What is left of a job is what was foretold at first, and what its pace says later.
func TestTimeLeftIsForetoldThenCorrected(t *testing.T) {
	for _, c := range []struct {
		share, gone, foretold, want float64
	}{{0, 0, 60, 60}, {0.5, 40, 60, 40}, {0.15, 30, 100, 0.5*170 + 0.5*85}, {0.5, 10, 0, 10}} {
		j := &Job{Share: c.share, foretold: c.foretold}
		if got, ok := j.left(c.gone); !ok || math.Abs(got-c.want) > 1e-9 {
			t.Errorf("%+v: %g s left", c, got)
		}
	}
	if _, ok := (&Job{}).left(5); ok {
		t.Error("a time is told when nothing is known")
	}
}

// The maps of a set that is done are in the store although the next one was stopped, and are found there again.
func TestDoneSetsStayWhenTheNextIsStopped(t *testing.T) {
	m := mesh.Sphere(32, 16, 0.5, [3]float64{})
	m.Append(mesh.Sphere(32, 16, 0.5, [3]float64{2, 0, 0}))
	half := len(m.Tris) / 2
	var b bytes.Buffer
	if err := mesh.WriteGLB(&b, m, mesh.GLBOptions{Materials: []mesh.GLBMaterial{{Name: "quick"}, {Name: "slow"}}, MaterialOf: func(t int) int { return t / half }}); err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	s := newStudio(t, dir)
	id, err := s.Create("balls", Upload{{Name: "balls.glb", Data: b.Bytes()}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	a, err := s.Open(id)
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(a.Split(uv.PerMaterial), a.SizeSet("quick", 256), a.SizeSet("slow", 4096), a.SetSettings(Settings{Quality: "final", Radius: 0.05})); err != nil {
		t.Fatal(err)
	}
	_, w := watch(t, a)
	if err := a.Bake([]Cell{{Set: "quick", Kind: "position"}, {Set: "quick", Kind: "curvature"}, {Set: "slow", Kind: "ao"}}); err != nil {
		t.Fatal(err)
	}
	// The first set is shown as done while the second is still at it.
	w.wait(t, "the first set's maps", func(e map[string]any) bool {
		return e["t"] == "state" && e["job"] != nil && stateOf(e, "quick", "curvature") == "ready"
	})
	a.StopJob()
	w.wait(t, "the stopped bake's end", func(e map[string]any) bool { return e["t"] == "done" && e["stopped"] == true })
	rows, err := s.Store.Maps(id)
	if err != nil {
		t.Fatal(err)
	}
	var kinds []string
	for _, r := range rows {
		if _, err := s.Store.Map(a.ID, r.Set, r.Kind); err != nil || r.Size != 256 {
			t.Errorf("%s of %s, %d px: %v", r.Kind, r.Set, r.Size, err)
		}
		kinds = append(kinds, r.Set+" "+r.Kind)
	}
	slices.Sort(kinds)
	if want := []string{"quick curvature", "quick curvature-soft", "quick curvature-tight", "quick position"}; !slices.Equal(kinds, want) {
		t.Errorf("maps in the store: %v, want %v", kinds, want)
	}
}

// stateOf is the state of a cell in a state event.
func stateOf(e map[string]any, set, kind string) string {
	for _, c := range e["cells"].([]any) {
		if c := c.(map[string]any); c["set"] == set && c["kind"] == kind {
			return c["state"].(string)
		}
	}
	return ""
}

// Layers that are pasted from another asset bring their pictures along: each becomes one of this asset's own, once however often
// it is used, and stays when the other asset goes.
func TestPastedLayersBringTheirPictures(t *testing.T) {
	s := newStudio(t, t.TempDir())
	from, to := ball(t, s), ball(t, s)
	im := &imgfile.Image{Width: 4, Height: 4, Channels: 1, Bits: 8, Pix8: bytes.Repeat([]byte{77}, 16)}
	file, err := imgfile.Bytes(im)
	if err != nil {
		t.Fatal(err)
	}
	added, _, err := from.AddPictures(Upload{{Name: "grain_roughness.png", Data: file}})
	if err != nil {
		t.Fatal(err)
	}
	d := from.Document()
	l := d.NewLayer("Grain")
	of := &strata.Source{Kind: "picture", Picture: added[0].Mark, High: 1}
	l.What.Roughness.Source = of
	c, _ := d.NewClause("picture")
	c.Source = of
	l.Where = []strata.Clause{c}
	clip, err := json.Marshal(strata.Clip{Layers: []strata.Layer{l}})
	if err != nil {
		t.Fatal(err)
	}
	mark, err := to.Edit(strata.Edit{Do: "paste", Value: clip}, false)
	if err != nil {
		t.Fatal(err)
	}
	got, _, err := to.Document().Layer(mark)
	if err != nil {
		t.Fatal(err)
	}
	own := got.What.Roughness.Source.Picture
	if own == added[0].Mark || got.Where[0].Source.Picture != own || len(to.pictures) != 1 {
		t.Fatalf("it reads %s and %s, of %d pictures", own, got.Where[0].Source.Picture, len(to.pictures))
	}
	if err := s.Delete(from.ID); err != nil {
		t.Fatal(err)
	}
	p, err := to.PictureFile(own)
	if err != nil || p.Width != 4 || math.Abs(float64(p.At(0))-77./255) > 1e-3 {
		t.Errorf("the picture: %+v, %v", p, err)
	}
	// Pasted again, the same picture serves.
	again, err := json.Marshal(strata.Clip{Layers: []strata.Layer{*got}})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := to.Edit(strata.Edit{Do: "paste", Value: again}, false); err != nil || len(to.pictures) != 1 {
		t.Errorf("%d pictures, %v", len(to.pictures), err)
	}
}

// Two pages change different things at the same moment; each stays.
func TestChangesOfTwoPagesAreBothKept(t *testing.T) {
	a := ball(t, newStudio(t, t.TempDir()))
	var w sync.WaitGroup
	for _, change := range []string{`{"folder":"a/b"}`, `{"size":512}`, `{"naming":"T_{set}_{map}"}`, `{"sizes":{"asset":2048}}`} {
		w.Go(func() {
			if err := a.ChangeShipping(json.RawMessage(change)); err != nil {
				t.Error(err)
			}
		})
	}
	for _, change := range []string{`{"quality":"draft"}`, `{"size":512}`, `{"radius":0.25}`} {
		w.Go(func() {
			if err := a.ChangeSettings(json.RawMessage(change)); err != nil {
				t.Error(err)
			}
		})
	}
	w.Wait()
	if h := a.shipping; h.Folder != "a/b" || h.Size != 512 || h.Naming != "T_{set}_{map}" || h.Sizes["asset"] != 2048 || h.Preset != "gltf" {
		t.Errorf("deliveries: %+v", h)
	}
	if s := a.settings; s.Quality != "draft" || s.Size != 512 || s.Radius != 0.25 {
		t.Errorf("bakes: %+v", s)
	}
	if err := a.ChangeShipping(json.RawMessage(`{"sizes":{}}`)); err != nil || len(a.shipping.Sizes) != 0 {
		t.Errorf("sizes taken away: %v, %v", a.shipping.Sizes, err)
	}
}

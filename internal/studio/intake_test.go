package studio

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"math"
	"strings"
	"testing"

	"crust/internal/core/bake"
	"crust/internal/core/geom"
	"crust/internal/core/layout"
	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/store"
)

// two is two balls of different material slots side by side, as a GLB; the second one's radius can differ.
func two(t *testing.T, second float64, slots ...string) []byte {
	t.Helper()
	m := mesh.Sphere(20, 10, 0.5, [3]float64{})
	m.Append(mesh.Sphere(20, 10, second, [3]float64{2, 0, 0}))
	m.Parts[0], m.Parts[1] = "left", "right"
	o := mesh.GLBOptions{MaterialOf: func(i int) int { return int(m.Material[i]) }}
	for _, s := range slots {
		o.Materials = append(o.Materials, mesh.GLBMaterial{Name: s})
	}
	var b bytes.Buffer
	if err := mesh.WriteGLB(&b, m, o); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func pair(t *testing.T, s *Studio) *Asset {
	t.Helper()
	d := new(strata.Document)
	l := d.NewLayer("Only left")
	l.Targets = []string{"steel"}
	d.Layers = []strata.Layer{d.NewLayer("Base"), l}
	id, err := s.Create("pair", Upload{{Name: "pair.glb", Data: two(t, 0.5, "steel", "brass ")}}, d)
	if err != nil {
		t.Fatal(err)
	}
	a, err := s.Open(id)
	if err != nil {
		t.Fatal(err)
	}
	if err := a.SetSettings(Settings{Quality: "draft", Size: 64}); err != nil {
		t.Fatal(err)
	}
	if err := a.SizeSet("", 256); err != nil {
		t.Fatal(err)
	}
	return a
}

func states(a *Asset) string {
	a.mu.Lock()
	defer a.mu.Unlock()
	count := map[string]int{}
	for _, c := range a.cells(bake.Kinds) {
		count[c.State]++
	}
	var out []string
	for _, s := range []string{"ready", "brought", "stale", "missing"} {
		for range count[s] {
			out = append(out, s[:1])
		}
	}
	return strings.Join(out, "")
}

func bakeAll(t *testing.T, a *Asset) {
	t.Helper()
	if err := a.Bake(a.Missing()); err != nil {
		t.Fatal(err)
	}
	a.WaitJob(nil)
	if m := a.Missing(); len(m) > 0 {
		t.Fatalf("%d cells are not baked", len(m))
	}
}

func setNames(a *Asset) (out []string) {
	_, sets := a.Model()
	for _, s := range sets {
		out = append(out, s.Name)
	}
	return out
}

// Names are fit for files from the first, refused with a proposal when they are not, and renaming keeps
// maps and targets; each set has a resolution of its own. All of it is there after a restart.
func TestSetsKeepNamesAndResolutions(t *testing.T) {
	dir := t.TempDir()
	s := newStudio(t, dir)
	a := pair(t, s)
	if got := strings.Join(setNames(a), ","); got != "steel,brass" {
		t.Fatalf("sets %q, want “brass ” without its blank", got)
	}
	if err := a.SizeSet("steel", 512); err != nil {
		t.Fatal(err)
	}
	if err := a.SetSettings(Settings{Quality: "draft"}); err != nil { // each set's own size
		t.Fatal(err)
	}
	bakeAll(t, a)
	for key, want := range map[string]int{"steel": 512, "brass ": 256} {
		if m, err := a.Map(key, "ao"); err != nil || m.Size != want {
			t.Errorf("%s: %v; want a map of %d px", key, err, want)
		}
	}
	var refused *NameError
	if err := a.NameSet("steel", "NUL"); !errors.As(err, &refused) || refused.Proposal != "NUL_" {
		t.Errorf("a reserved name: %v", err)
	}
	if err := a.NameSet("steel", "Brass"); !errors.As(err, &refused) || refused.Proposal != "Brass_2" {
		t.Errorf("another's name: %v", err)
	}
	if err := a.NameSet("steel", "hull plating"); err != nil {
		t.Fatal(err)
	}
	if got := states(a); got != strings.Repeat("r", 16) {
		t.Errorf("states %s after renaming, want all ready", got)
	}
	if a.SizeSet("steel", 300) == nil || a.SizeSet("none", 512) == nil || a.SetPadding(-1) == nil {
		t.Error("an unfit resolution, set or padding was taken")
	}
	s2 := New(s.Store)
	defer s2.Close()
	b, err := s2.Open(a.ID)
	if err != nil {
		t.Fatal(err)
	}
	if m, err := b.Map("steel", "id"); err != nil || len(m.Legend) != 1 || m.Legend[0].Name != "left" {
		t.Errorf("the ID map after a restart: %v, %v", m, err)
	}
	if m, err := b.Map("steel", "thickness"); err != nil || m.High <= 0 {
		t.Errorf("the thickness map lost its range: %v", err)
	}
	if got := strings.Join(setNames(b), ","); got != "hull plating,brass" || b.intake.sizes()("steel") != 512 {
		t.Errorf("after a restart: sets %q, %d px", got, b.intake.sizes()("steel"))
	}
}

// Another split shows no maps of the first, and the first finds its own again. Layers are not touched.
func TestChangingTheSplitKeepsLayersAndMaps(t *testing.T) {
	a := pair(t, newStudio(t, t.TempDir()))
	bakeAll(t, a)
	before := a.Document()
	if err := a.Split("single"); err != nil {
		t.Fatal(err)
	}
	if got := states(a); got != "mmmmmmmm" {
		t.Errorf("states %s of one set, want eight missing", got)
	}
	if err := a.Split("material"); err != nil {
		t.Fatal(err)
	}
	if got := states(a); got != strings.Repeat("r", 16) {
		t.Errorf("states %s after the way back, want all ready", got)
	}
	if after := a.Document(); len(after.Layers) != len(before.Layers) || after.Layers[1].Targets[0] != "steel" {
		t.Errorf("layers %+v", after.Layers)
	}
	if sets, err := a.Preview("udim"); err != nil || len(sets) != 1 || sets[0].Tile != 1001 {
		t.Errorf("preview by tile: %v, %v", sets, err)
	}
	if a.Split("thirds") == nil {
		t.Error("an unknown split was taken")
	}
}

// A unit and an axis change the model at once, and what was baked from it is stale.
func TestUnitAndAxisAreLive(t *testing.T) {
	a := pair(t, newStudio(t, t.TempDir()))
	bakeAll(t, a)
	in := a.intake
	in.Metres, in.ZUp = 0.01, true
	if err := a.SetIntake(in); err != nil {
		t.Fatal(err)
	}
	m, _ := a.Model()
	if size := m.Bounds().Size(); math.Abs(float64(size.X)-0.03) > 1e-4 || math.Abs(float64(size.Y)-0.01) > 1e-4 {
		t.Errorf("%v m, want 0.03 m wide in centimetres", size)
	}
	if got := states(a); got != strings.Repeat("s", 16) {
		t.Errorf("states %s, want all stale", got)
	}
	in.Metres, in.ZUp = 1, false
	if err := a.SetIntake(in); err != nil {
		t.Fatal(err)
	}
	if got := states(a); got != strings.Repeat("r", 16) {
		t.Errorf("states %s with the old unit, want all ready", got)
	}
	for _, bad := range []Intake{{Intake: mesh.Intake{Metres: -1}}, {Intake: mesh.Intake{Channel: 3}}, {Padding: 1000}} {
		if a.SetIntake(bad) == nil {
			t.Errorf("%+v was taken", bad)
		}
	}
}

// A layout makes a channel that has no overlaps; the maps of the old one are carried over; the old
// channel can be chosen again, also after a restart.
func TestLayoutAndCarryingOver(t *testing.T) {
	s := newStudio(t, t.TempDir())
	a := pair(t, s)
	if err := a.SetSettings(Settings{Quality: "draft", Size: 256}); err != nil {
		t.Fatal(err)
	}
	bakeAll(t, a)
	if err := a.CarryMaps(); err == nil {
		t.Error("maps were carried over without a layout")
	}
	if err := a.Layout(layout.Options{Into: layout.OneTile, Margin: 0.01}); err != nil {
		t.Fatal(err)
	}
	a.WaitJob(nil)
	if err := a.SetPadding(2); err != nil {
		t.Fatal(err)
	}
	m, sets := a.Model()
	if len(m.Channels) != 2 || len(sets) != 1 || a.intake.Channel != 1 || len(a.intake.Layouts) != 1 {
		t.Fatalf("%d channels, %d sets, channel %d", len(m.Channels), len(sets), a.intake.Channel)
	}
	r, err := a.Findings(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range r.Findings {
		if f.Severity == "mend" {
			t.Errorf("the layout has %s: %s", f.Title, f.Detail)
		}
	}
	if err := a.CarryMaps(); err != nil {
		t.Fatal(err)
	}
	a.WaitJob(nil)
	if got := states(a); got != "bbbbbbbb" {
		t.Fatalf("states %s, want eight maps carried over", got)
	}
	// A position map says where each texel is; carried over, it still does.
	pos, err := a.Map("asset", "position")
	if err != nil {
		t.Fatal(err)
	}
	box, worst := m.Bounds(), 0.0
	size := box.Size()
	for tri := range m.Tris {
		p, q, v := m.Corners(tri)
		if m.Area(tri) < 1e-3 {
			continue
		}
		at := m.UVs[m.Tris[tri][0]].Add(m.UVs[m.Tris[tri][1]]).Add(m.UVs[m.Tris[tri][2]]).Mul(1. / 3)
		x, y := int(at.X*float32(pos.Size)), int((1-at.Y)*float32(pos.Size))
		got := pos.Pix[3*(y*pos.Size+x):]
		mid := geom.Bary(p, q, v, 1./3, 1./3).Sub(box.Min)
		worst = max(worst, math.Abs(float64(got[0])/65535-float64(mid.X/size.X)), math.Abs(float64(got[1])/65535-float64(mid.Y/size.Y)))
	}
	if worst > 0.02 {
		t.Errorf("a carried position is off by %.3f of the box", worst)
	}
	in := a.intake
	in.Channel = 0
	s2 := New(s.Store)
	defer s2.Close()
	b, err := s2.Open(a.ID)
	if err != nil {
		t.Fatal(err)
	}
	if m, _ := b.Model(); len(m.Channels) != 2 || b.intake.Channel != 1 {
		t.Errorf("after a restart: %d channels, channel %d", len(m.Channels), b.intake.Channel)
	}
	if err := b.SetIntake(in); err != nil {
		t.Error(err)
	}
}

// A corrected model is planned before it is taken: what fits, what is stale, which layers lose their aim.
func TestBringingACorrectedModelIn(t *testing.T) {
	s := newStudio(t, t.TempDir())
	a := pair(t, s)
	bakeAll(t, a)
	if a.Replace() == nil {
		t.Error("nothing was waiting, yet it was taken")
	}
	if _, err := a.Again(Upload{{Name: "x.glb", Data: []byte("no")}}); err == nil {
		t.Error("a broken model was planned")
	}
	// The right ball has grown: normals of the left still fit, all that looks at the whole does not.
	p, err := a.Again(Upload{{Name: "pair2.glb", Data: two(t, 0.6, "steel", "brass ")}})
	if err != nil {
		t.Fatal(err)
	}
	if strings.Join(p.Matched, ",") != "steel,brass" || len(p.Gone)+len(p.Fresh)+len(p.Layers) != 0 || p.Keep != 3 || p.Stale != 13 {
		t.Errorf("plan %+v; want both matched, 3 maps kept, 13 stale", p)
	}
	if got := states(a); got != strings.Repeat("r", 16) {
		t.Errorf("states %s before the yes, want nothing changed", got)
	}
	if err := a.Replace(); err != nil {
		t.Fatal(err)
	}
	for _, c := range a.Missing() {
		want := "the model changed"
		if c.Set == "brass " {
			want = "the set's faces or UVs changed"
		}
		if !strings.HasPrefix(c.Why, want) {
			t.Errorf("%s of %s is stale because %q, want %q", c.Kind, c.Set, c.Why, want)
		}
	}
	if got := states(a); got != "rrr"+strings.Repeat("s", 13) {
		t.Errorf("states %s, want three ready and the rest stale", got)
	}
	// A slot is gone: the layer aimed at it is named.
	if p, err = a.Again(Upload{{Name: "pair3.glb", Data: two(t, 0.6, "wood", "brass ")}}); err != nil {
		t.Fatal(err)
	}
	if strings.Join(p.Gone, ",") != "steel" || strings.Join(p.Fresh, ",") != "wood" || len(p.Layers) != 1 || !strings.Contains(p.Layers[0], "Only left") {
		t.Errorf("plan %+v", p)
	}
	if err := a.Replace(); err != nil {
		t.Fatal(err)
	}
	if d := a.Document(); d.Layers[1].Targets[0] != "steel" {
		t.Error("the layer lost its target")
	}
	s2 := New(s.Store)
	defer s2.Close()
	b, err := s2.Open(a.ID)
	if err != nil || b.modelName != "pair3.glb" || strings.Join(setNames(b), ",") != "wood,brass" {
		t.Errorf("after a restart: %v, %v", b, err)
	}
}

// Files beside the model may come in a zip; what is unpacked is kept, not the zip.
func TestCreatingFromAZipKeepsItsFiles(t *testing.T) {
	s := newStudio(t, t.TempDir())
	if _, err := s.Create("", Upload{store.File{Name: "bad.zip", Data: []byte("PK")}}, nil); err == nil || !strings.Contains(err.Error(), "bad.zip") {
		t.Errorf("%v", err)
	}
	if assets, err := s.Store.Assets(); err != nil || len(assets) != 0 {
		t.Errorf("a refused zip left %d assets, %v", len(assets), err)
	}
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, text := range map[string]string{"yard/a.obj": "mtllib a.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nusemtl red\nf 1 2 3\n", "yard/a.mtl": "newmtl red\nKd 1 0 0\n"} {
		w, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
	}
	z.Close()
	id, err := s.Create("", Upload{store.File{Name: "yard.zip", Data: b.Bytes()}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	a, err := s.Open(id) // reads what was stored
	if err != nil {
		t.Fatal(err)
	}
	if m, _ := a.Model(); m.Materials[0].Colour != [3]float32{1, 0, 0} || len(m.Notes) != 0 {
		t.Errorf("the library from the zip was not kept: %+v, %v", m.Materials, m.Notes)
	}
	if a.Name() != "a" {
		t.Errorf("the asset is called %q, want the model's name without its folder", a.Name())
	}
	if files, err := s.Store.Files(id, "beside"); err != nil || len(files) != 1 || files[0].Name != "yard/a.mtl" {
		t.Errorf("beside the model lie %v, %v", files, err)
	}
}

package studio

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"crust/internal/core/bake"
	"crust/internal/core/imgfile"
	"crust/internal/core/layout"
	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
	"crust/internal/store"
)

// A setting that changes while a bake runs makes its maps stale: they were made with the one before.
func TestASettingChangedDuringABakeMakesItsMapsStale(t *testing.T) {
	a := ball(t, newStudio(t, t.TempDir()))
	if err := a.SetSettings(Settings{Quality: "draft", Size: 128, Far: 0.01}); err != nil {
		t.Fatal(err)
	}
	if err := a.Bake([]Cell{{Set: a.sets[0].Key, Kind: bake.AO}}); err != nil {
		t.Fatal(err)
	}
	for prepared := false; !prepared; {
		a.mu.Lock()
		prepared = a.source != nil || a.job == nil
		a.mu.Unlock()
		time.Sleep(time.Millisecond)
	}
	if err := a.SetSettings(Settings{Quality: "draft", Size: 128, Far: 5}); err != nil {
		t.Fatal(err)
	}
	a.WaitJob(nil)
	state := func() Cell {
		a.mu.Lock()
		defer a.mu.Unlock()
		for _, c := range a.cells(bake.Kinds) {
			if c.Kind == bake.AO {
				return c
			}
		}
		return Cell{}
	}
	if c := state(); c.State != "stale" || !strings.Contains(c.Why, "occlusion limit") {
		t.Errorf("the map baked with the old limit is %s (%s), want stale for the occlusion limit", c.State, c.Why)
	}
	if err := a.SetSettings(Settings{Quality: "draft", Size: 128, Far: 0.01}); err != nil {
		t.Fatal(err)
	}
	if c := state(); c.State != "ready" {
		t.Errorf("with the old limit again the map is %s, want ready", c.State)
	}
}

// A corrected model is taken in with the split, names and sizes of the moment it is taken, not of when it was looked at.
func TestACorrectedModelMeetsTheSettingsOfTheMoment(t *testing.T) {
	a := ball(t, newStudio(t, t.TempDir()))
	if _, err := a.Again(Upload{{Name: "ball.glb", Data: sphere(t, 32, 16)}}); err != nil {
		t.Fatal(err)
	}
	if err := a.Split(uv.PerTile); err != nil {
		t.Fatal(err)
	}
	if err := a.NameSet(a.sets[0].Key, "kept_name"); err != nil {
		t.Fatal(err)
	}
	if err := a.SizeSet("", 2048); err != nil {
		t.Fatal(err)
	}
	if err := a.Replace(); err != nil {
		t.Fatal(err)
	}
	want, err := uv.Sets(a.model, uv.PerTile)
	if err != nil {
		t.Fatal(err)
	}
	if a.split != uv.PerTile || strings.Join(keysOf(a.sets), ",") != strings.Join(keysOf(want), ",") || a.sets[0].Name != "kept_name" || a.intake.Size != 2048 {
		t.Errorf("split %s, sets %v named %q at %d px; want the tiles %v, kept_name, 2048", a.split, keysOf(a.sets), a.sets[0].Name, a.intake.Size, keysOf(want))
	}
}

// Names given while a layout runs hold when it is done.
func TestNamesGivenDuringALayoutHold(t *testing.T) {
	dir := t.TempDir()
	s := newStudio(t, dir)
	a := ball(t, s)
	key := a.sets[0].Key
	if err := a.Layout(layout.Options{Into: layout.PerSet, Pixels: 4}); err != nil {
		t.Fatal(err)
	}
	if err := a.NameSet(key, "given_meanwhile"); err != nil {
		t.Fatal(err)
	}
	a.WaitJob(nil)
	if len(a.intake.Layouts) != 1 || a.intake.Names[key] != "given_meanwhile" || a.sets[0].Name != "given_meanwhile" {
		t.Errorf("%d layouts, names %v, the set is called %q", len(a.intake.Layouts), a.intake.Names, a.sets[0].Name)
	}
	row, err := s.Store.Asset(a.ID)
	if err != nil || !strings.Contains(row.Intake, "given_meanwhile") || !strings.Contains(row.Intake, "Laid out 1") {
		t.Errorf("stored: %s, %v", row.Intake, err)
	}
}

// Maps can be read at any moment of their being replaced.
func TestAMapIsReadWhileItIsReplaced(t *testing.T) {
	a := ball(t, newStudio(t, t.TempDir()))
	set := a.sets[0].Key
	m := &bake.Map{Set: set, Kind: bake.WorldNormal, Size: 512, Channels: 3, Pix: make([]uint16, 512*512*3)}
	for i := range m.Pix {
		m.Pix[i] = uint16(i * 2654435761 >> 7)
	}
	if err := a.putMap(m, "", true); err != nil {
		t.Fatal(err)
	}
	var put sync.WaitGroup
	done := make(chan struct{})
	put.Go(func() {
		defer close(done)
		for range 8 {
			if err := a.putMap(m, "", true); err != nil {
				t.Error(err)
			}
		}
	})
	reads := 0
	for going := true; going; reads++ {
		a.mu.Lock()
		delete(a.maps, set) // as when it is not in memory any more
		a.mu.Unlock()
		if _, err := a.Map(set, bake.WorldNormal); err != nil {
			t.Fatalf("read %d failed: %v", reads, err)
		}
		select {
		case <-done:
			going = false
		default:
		}
	}
	put.Wait()
	if reads < 2 {
		t.Errorf("%d reads beside eight stores", reads)
	}
}

// Deleting waits for the work; what comes too late is refused and leaves nothing.
func TestDeletingDuringABakeLeavesNothing(t *testing.T) {
	s := newStudio(t, t.TempDir())
	a := ball(t, s)
	if err := a.SetSettings(Settings{Quality: "draft", Size: 512}); err != nil {
		t.Fatal(err)
	}
	var cells []Cell
	for _, k := range bake.Kinds {
		cells = append(cells, Cell{Set: a.sets[0].Key, Kind: k.Name})
	}
	if err := a.Bake(cells); err != nil {
		t.Fatal(err)
	}
	time.Sleep(100 * time.Millisecond)
	if err := s.Delete(a.ID); err != nil {
		t.Fatal(err)
	}
	late := &bake.Map{Set: a.sets[0].Key, Kind: bake.AO, Size: 64, Channels: 1, Pix: make([]uint16, 64*64)}
	if err := a.storeMap(late, "", false); !errors.Is(err, store.ErrNone) {
		t.Errorf("a late map is answered with %v, want %v", err, store.ErrNone)
	}
	if err := a.Bake(cells); !errors.Is(err, store.ErrNone) {
		t.Errorf("a late bake is answered with %v, want %v", err, store.ErrNone)
	}
	rows, err := s.Store.Maps(a.ID)
	used, err2 := s.Store.Used(a.ID)
	if err != nil || err2 != nil || len(rows) != 0 || used != 0 {
		t.Errorf("%d maps and %d bytes are left, %v %v", len(rows), used, err, err2)
	}
}

// Two pages that bring maps in at once each get their own files.
func TestTwoPagesBringTheirOwnMaps(t *testing.T) {
	a := ball(t, newStudio(t, t.TempDir()))
	picture := func(v uint16) []byte {
		im := &imgfile.Image{Width: 64, Height: 64, Channels: 1, Bits: 16, Pix16: make([]uint16, 64*64)}
		for i := range im.Pix16 {
			im.Pix16[i] = v
		}
		b, err := imgfile.Bytes(im)
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	first, key, err := a.Bring(context.Background(), Upload{{Name: "ball_ao.png", Data: picture(10000)}})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := a.Bring(context.Background(), Upload{{Name: "ball_curvature.png", Data: picture(50000)}}); err != nil {
		t.Fatal(err)
	}
	if err := a.TakeBrought(key, first); err != nil {
		t.Fatal(err)
	}
	a.WaitJob(nil)
	m, err := a.Map(a.sets[0].Key, bake.AO)
	if err != nil || m.Pix[0] != 10000 {
		t.Fatalf("%v: the first page's occlusion holds %v, want 10000", err, m)
	}
	if err := a.TakeBrought(key, first); err == nil {
		t.Error("files that were taken in are taken again")
	}
}

// While the zip of one delivery is written, another asset's edit is not held up.
func TestADeliveryDoesNotHoldUpEdits(t *testing.T) {
	s := newStudio(t, t.TempDir())
	a, b := ball(t, s), ball(t, s)
	writing, finish := make(chan struct{}), make(chan struct{})
	var zip sync.WaitGroup
	zip.Go(func() {
		err := s.Store.AddDelivery(&store.Delivery{AssetID: a.ID}, func(string) error {
			close(writing)
			<-finish
			return nil
		})
		if err != nil {
			t.Error(err)
		}
	})
	<-writing
	half, _ := json.Marshal(0.5)
	edited := make(chan error, 1)
	go func() {
		_, err := b.Edit(strata.Edit{Do: "set", Layer: "l1", Path: "opacity", Value: half}, false)
		edited <- err
	}()
	select {
	case err := <-edited:
		if err != nil {
			t.Error(err)
		}
	case <-time.After(20 * time.Second):
		t.Error("the edit waits for the zip")
	}
	close(finish)
	zip.Wait()
}

// A strip is carried over to a square that its texels can fill, not to one of its length.
func TestAStripIsCarriedOverSmall(t *testing.T) {
	for _, c := range []struct{ w, h, most int }{{2048, 1, 256}, {32768, 1, 1024}, {512, 512, 512}, {16384, 16384, 8192}} {
		if n := carriedSize(&layout.Picture{Width: c.w, Height: c.h}); n > c.most || n < min(c.w, c.h) && n != 8192 {
			t.Errorf("%d × %d px become %d² , want at most %d²", c.w, c.h, n, c.most)
		}
	}
}

// Nobody's assets are closed; one that a page or a request holds stays. A closed one opens again as it was, and leaves
// nothing that was evaluated.
func TestIdleAssetsAreClosed(t *testing.T) {
	s := newStudio(t, t.TempDir())
	a, b, c := ball(t, s), ball(t, s), ball(t, s)
	if err := a.Rename("renamed"); err != nil {
		t.Fatal(err)
	}
	b.Hold()
	page := c.Watch("")
	if n := s.closeIdle(time.Now().Add(time.Minute)); n != 1 {
		t.Errorf("%d assets are closed, want one of three: one is held, one watched", n)
	}
	again, err := s.Open(a.ID)
	if err != nil || again == a || again.Name() != "renamed" {
		t.Errorf("%v: opened again it is %q", err, again.Name())
	}
	layer, err := again.Edit(strata.Edit{Do: "add"}, false)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := again.Edit(strata.Edit{Do: "clause.add", Layer: layer, Kind: "noise"}, false); err != nil {
		t.Fatal(err)
	}
	other, w := watch(t, again)
	w.wait(t, "a picture", func(e map[string]any) bool { return e["t"] == "coverage" })
	if s.cache.Bytes() == 0 {
		t.Error("nothing was kept of a Where that was evaluated; the test needs some")
	}
	other.Leave()
	b.Release()
	page.Leave()
	if n := s.closeIdle(time.Now().Add(time.Minute)); n != 3 {
		t.Errorf("%d assets are closed, want all three", n)
	}
	if n := s.cache.Bytes(); n != 0 {
		t.Errorf("%d bytes are kept of assets that are closed", n)
	}
}

// A panic in a job ends the job with a plain sentence; the asset and the studio go on.
func TestAFaultEndsItsJobAlone(t *testing.T) {
	s := newStudio(t, t.TempDir())
	a := ball(t, s)
	_, w := watch(t, a)
	if err := a.start("bake", "Fail", func(context.Context, *Job, func(float64)) error {
		var none []int
		return fmt.Errorf("%d", none[3])
	}); err != nil {
		t.Fatal(err)
	}
	w.wait(t, "done", func(e map[string]any) bool { return e["t"] == "done" && e["error"] == ErrFault.Error() })
	if err := a.Rename("goes on"); err != nil {
		t.Error(err)
	}
	if _, err := a.Findings(context.Background()); err != nil {
		t.Error(err)
	}
}

// A model that is too large in metres is taken in a unit in which it can be worked with; one that is too large in all is
// refused, and nothing is stored.
func TestSizesThatCannotBeWorkedWith(t *testing.T) {
	s := newStudio(t, t.TempDir())
	triangle := func(k string) []byte { return []byte("v 0 0 0\nv " + k + " 0 0\nv 0 " + k + " 0\nf 1 2 3\n") }
	id, err := s.Create("", Upload{{Name: "mm.obj", Data: triangle("5e7")}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	a, err := s.Open(id)
	if err != nil || a.intake.Metres == 0 || a.model.CheckSize() != nil {
		t.Errorf("%v: a model of 5e7 units is taken in units of %g m", err, a.intake.Metres)
	}
	var size *mesh.SizeError
	if err := a.SetIntake(Intake{Intake: mesh.Intake{Metres: 1}}); !errors.As(err, &size) {
		t.Errorf("in metres it is %v, want a refusal", err)
	}
	if _, err := s.Create("", Upload{{Name: "far.obj", Data: triangle("1e20")}}, nil); !errors.As(err, &size) {
		t.Errorf("1e20 m: %v, want a refusal", err)
	}
	if list, err := s.Store.Assets(); err != nil || len(list) != 1 {
		t.Errorf("%d assets, %v", len(list), err)
	}
}

// A page that acknowledges nothing is sent eight pictures and no more; when it does, the rest follow.
func TestASlowPageIsNotFlooded(t *testing.T) {
	a := ball(t, newStudio(t, t.TempDir()))
	p := a.Watch("")
	defer p.Leave()
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	var sent atomic.Int32
	text := func([]byte) error { return nil }
	go p.Run(ctx, text, func([]byte) error { sent.Add(1); return nil })
	for sent.Load() < inFlight {
		time.Sleep(5 * time.Millisecond)
	}
	time.Sleep(700 * time.Millisecond) // the full pictures are made meanwhile
	if n := sent.Load(); n != inFlight {
		t.Errorf("%d pictures are on their way to a page that acknowledged none, want %d", n, inFlight)
	}
	for range 4 {
		p.Ack()
	}
	for end := time.Now().Add(20 * time.Second); sent.Load() < inFlight+4 && time.Now().Before(end); {
		time.Sleep(5 * time.Millisecond)
	}
	time.Sleep(100 * time.Millisecond)
	if n := sent.Load(); n != inFlight+4 {
		t.Errorf("%d pictures after four were acknowledged, want %d", n, inFlight+4)
	}
}

// A page too slow for the pictures of one size ends with the full ones of the next, not with the coarse ones before them.
func TestASlowPageEndsWithTheFullPicture(t *testing.T) {
	a := ball(t, newStudio(t, t.TempDir()))
	p := a.Watch("")
	defer p.Leave()
	waiting := func(size int) {
		t.Helper()
		for end := time.Now().Add(60 * time.Second); ; time.Sleep(5 * time.Millisecond) {
			p.mu.Lock()
			f := p.frames[frameKey{"asset", "normal", true}]
			p.mu.Unlock()
			if f != nil && f.whole && f.picture.surf().Size == size {
				return
			}
			if time.Now().After(end) {
				t.Fatalf("no full picture of %d px waits", size)
			}
		}
	}
	for _, size := range []int{256, 512} {
		if err := a.SetSize(size); err != nil {
			t.Fatal(err)
		}
		waiting(size)
		if size == 256 { // the coarse ones have gone, the full ones wait
			p.mu.Lock()
			p.order = slices.DeleteFunc(p.order, func(k frameKey) bool { return !k.full })
			maps.DeleteFunc(p.frames, func(k frameKey, _ *Frame) bool { return !k.full })
			p.mu.Unlock()
		}
	}
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	last := map[string]bool{} // by view: the last is full
	var mu sync.Mutex
	go p.Run(ctx, func(b []byte) error {
		var e struct {
			T, View string
			Full    bool
			Size    int
		}
		if err := json.Unmarshal(b, &e); err != nil || e.T != "whole" {
			return err
		}
		mu.Lock()
		defer mu.Unlock()
		last[e.View] = e.Full && e.Size == 512
		return nil
	}, func([]byte) error { p.Ack(); return nil })
	always := []string{"base", "orm", "normal"}
	all := func() bool {
		mu.Lock()
		defer mu.Unlock()
		return !slices.ContainsFunc(always, func(view string) bool { return !last[view] })
	}
	for end := time.Now().Add(60 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		p.mu.Lock()
		left := len(p.order)
		p.mu.Unlock()
		if left == 0 && all() {
			break
		}
	}
	time.Sleep(200 * time.Millisecond) // nothing else follows
	mu.Lock()
	defer mu.Unlock()
	for _, view := range always {
		if !last[view] {
			t.Errorf("%s: the last picture is not the full one of 512 px", view)
		}
	}
}

package studio

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"crust/internal/core/strata"
	"crust/internal/store"
)

// someEdit is an edit of what a page has seen, which may have gone meanwhile.
func someEdit(r *rand.Rand, d *strata.Document) strata.Edit {
	value := func(v any) json.RawMessage { b, _ := json.Marshal(v); return b }
	if len(d.Layers) == 0 {
		return strata.Edit{Do: "add"}
	}
	l := &d.Layers[r.IntN(len(d.Layers))]
	switch k := r.IntN(9); {
	case k == 0 && len(d.Layers) < 14:
		return strata.Edit{Do: "add", Layer: l.ID}
	case k == 1 && len(d.Layers) > 4:
		return strata.Edit{Do: "delete", Layer: l.ID}
	case k == 2:
		return strata.Edit{Do: "move", Layer: l.ID, To: r.IntN(len(d.Layers))}
	case k == 3 && len(l.Where) < 5:
		return strata.Edit{Do: "clause.add", Layer: l.ID, Kind: "noise"}
	case k == 4 && len(l.Where) > 0:
		return strata.Edit{Do: "clause.delete", Layer: l.ID, Clause: l.Where[0].ID}
	case k == 5 && len(l.Where) > 0:
		return strata.Edit{Do: "clause.set", Layer: l.ID, Clause: l.Where[0].ID, Path: "params.seed", Value: value(r.IntN(1000))}
	case k == 6:
		return strata.Edit{Do: "set", Layer: l.ID, Path: "name", Value: value(fmt.Sprint("layer ", r.IntN(1000)))}
	}
	return strata.Edit{Do: "set", Layer: l.ID, Path: "what.roughness.number", Value: value(float64(r.IntN(1000)) / 1000)}
}

// Two authors edit, undo and redo at once, 2,000 times each; their messages are late and change places on the way. At the end
// both pages, the studio and the store have one document, also after the asset was opened anew.
func TestTwoAuthorsEndInOneDocument(t *testing.T) {
	dir := t.TempDir()
	s := newStudio(t, dir)
	a := ball(t, s)
	var all sync.WaitGroup
	docs := make([]func() string, 2)
	for n, author := range []string{"ann", "bo"} {
		p := a.Watch(author)
		p.SetLook(Look{Away: true})
		var mu sync.Mutex
		last := ""
		docs[n] = func() string { mu.Lock(); defer mu.Unlock(); return last }
		ctx, stop := context.WithCancel(context.Background())
		done := make(chan struct{})
		go func() {
			defer close(done)
			p.Run(ctx, func(b []byte) error {
				var e struct {
					T      string
					Layers []strata.Layer
				}
				if err := json.Unmarshal(b, &e); err != nil || e.T != "doc" {
					return err
				}
				text, err := json.Marshal(e.Layers)
				mu.Lock()
				defer mu.Unlock()
				last = string(text)
				return err
			}, func([]byte) error { p.Ack(); return nil })
		}()
		t.Cleanup(func() { p.Leave(); stop(); <-done })
		all.Go(func() {
			r := rand.New(rand.NewPCG(uint64(n), 77))
			var late []strata.Edit
			for range 2000 {
				switch k := r.IntN(10); {
				case k < 2:
					if err := p.Go(-1); err != nil {
						t.Error(err)
					}
				case k == 2:
					if err := p.Go(1); err != nil {
						t.Error(err)
					}
				default:
					late = append(late, someEdit(r, a.Document()))
					if len(late) < 4 {
						continue
					}
					r.Shuffle(len(late), func(i, j int) { late[i], late[j] = late[j], late[i] })
					for _, e := range late {
						_, _ = p.Edit(e, false) // what it is about may have gone
					}
					late = late[:0]
				}
			}
		})
	}
	all.Wait()
	want, err := json.Marshal(a.Document().Layers)
	if err != nil || len(want) < 500 {
		t.Fatalf("%s, %v", want, err)
	}
	stored, err := s.Store.Document(a.ID)
	if err != nil {
		t.Fatal(err)
	}
	if got, _ := json.Marshal(stored.Layers); string(got) != string(want) {
		t.Errorf("the store has\n%s, the studio\n%s", got, want)
	}
	for n, doc := range docs {
		for range 500 {
			if doc() == string(want) {
				break
			}
			time.Sleep(10 * time.Millisecond)
		}
		if got := doc(); got != string(want) {
			t.Errorf("page %d has\n%s, the studio\n%s", n, got, want)
		}
	}
	snap, ops, err := s.Store.History(a.ID)
	if err != nil || len(ops) > store.KeepOps+store.SnapshotEvery || ops[len(ops)-1].Seq-snap.Seq >= store.SnapshotEvery {
		t.Errorf("%d entries are kept over a snapshot of %d, %v", len(ops), snap.Seq, err)
	}
}

// Undo takes back one's own last edit and leaves the other's; the label says which it is.
func TestUndoIsEachAuthorsOwn(t *testing.T) {
	a := ball(t, newStudio(t, t.TempDir()))
	ann, bo := a.Watch("ann"), a.Watch("bo")
	defer ann.Leave()
	defer bo.Leave()
	layer := a.Document().Layers[0].ID
	set := func(p *Page, path string, v any, live bool) {
		t.Helper()
		text, _ := json.Marshal(v)
		if _, err := p.Edit(strata.Edit{Do: "set", Layer: layer, Path: path, Value: text}, live); err != nil {
			t.Fatal(err)
		}
	}
	is := func(rough float32, hex string) {
		t.Helper()
		if w := a.Document().Layers[0].What; w.Roughness.Number != rough || w.Colour.Hex != hex {
			t.Errorf("roughness %g and colour %s, want %g and %s", w.Roughness.Number, w.Colour.Hex, rough, hex)
		}
	}
	first := a.Document().Layers[0].What
	set(ann, "what.roughness.number", 0.1, false)
	set(bo, "what.colour.hex", "#00ff00", false)
	for _, c := range []struct {
		p          *Page
		undo, redo string
	}{{ann, "Change roughness number of Base", ""}, {bo, "Change colour hex of Base", ""}} {
		a.mu.Lock()
		undo, redo := a.history.labels(c.p.author)
		a.mu.Unlock()
		if undo != c.undo || redo != c.redo {
			t.Errorf("%s would undo %q and redo %q, want %q and %q", c.p.author, undo, redo, c.undo, c.redo)
		}
	}
	if err := ann.Go(-1); err != nil {
		t.Fatal(err)
	}
	is(first.Roughness.Number, "#00ff00")
	if err := ann.Go(1); err != nil {
		t.Fatal(err)
	}
	is(0.1, "#00ff00")
	set(bo, "what.roughness.number", 0.9, false)
	if err := ann.Go(-1); err != nil { // bo has set it since: it stays
		t.Fatal(err)
	}
	is(0.9, "#00ff00")

	// A live edit is the page's own: another's commit leaves it, and it ends with its page.
	set(ann, "what.colour.hex", "#0000ff", true)
	set(bo, "what.roughness.number", 0.5, false)
	a.mu.Lock()
	live := a.live
	a.mu.Unlock()
	if live == nil || live.Layers[0].What.Colour.Hex != "#0000ff" || live.Layers[0].What.Roughness.Number != 0.5 {
		t.Errorf("after another's edit %+v shows, want both", live)
	}
	// A control that is put back where it was shows nothing of its own, so it cannot hide what others set.
	set(ann, "what.colour.hex", a.Document().Layers[0].What.Colour.Hex, true)
	a.mu.Lock()
	live = a.live
	a.mu.Unlock()
	if live != nil {
		t.Error("a control that is back where it was still shows a live edit")
	}
	set(ann, "what.colour.hex", "#0000ff", true)
	ann.Leave()
	a.mu.Lock()
	live = a.live
	a.mu.Unlock()
	if live != nil {
		t.Error("the live edit of a page that has left still shows")
	}
	is(0.5, "#00ff00")
}

// A view that is asked for and not finished, because something changed meanwhile, is filled the next time.
func TestAViewThatWasNotFinishedIsFilledLater(t *testing.T) {
	a := ball(t, newStudio(t, t.TempDir()))
	p := a.Watch("")
	defer p.Leave()
	e := &easel{}
	defer e.clear()
	show := func(ctx context.Context) error {
		s := a.snap(e)
		s.ctx = ctx
		return a.show(e, s, &s.sets[0], 256, true)
	}
	if err := show(context.Background()); err != nil {
		t.Fatal(err)
	}
	p.SetLook(Look{Show: "height"})
	stopped, stop := context.WithCancel(context.Background())
	stop()
	if err := show(stopped); err == nil {
		t.Error("a round that was stopped says that it is done")
	}
	if err := show(context.Background()); err != nil {
		t.Fatal(err)
	}
	for _, c := range e.sheets {
		for n, stamp := range c.views["height"].stamp {
			if stamp == 0 {
				t.Fatalf("square %d of the height is empty", n)
			}
		}
	}
}

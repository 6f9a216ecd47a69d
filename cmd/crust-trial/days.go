package main

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"image/png"
	"io"
	"math"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"crust/internal/core/brush"
	"crust/internal/core/deliver"
	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
	"crust/internal/store"
)

// works are the kinds of work in the midst of which a server is ended.
var works = []string{"bring in", "lay out", "bake", "edit", "paint", "undo", "deliver", "delete"}

// ends are what a day may end with, besides kill -9 alone. Each is tried once in so many days.
var ends = []struct {
	name  string
	oneIn int
}{{"disk full", 8}, {"read-only", 10}, {"clock back", 6}}

// held is what somebody has been told of one thing of an asset: what it is, and what it may be instead, since a call that would change
// it was not answered.
type held[T comparable] struct {
	is    T
	asked *T
}

func (h *held[T]) may(v T) bool { return v == h.is || h.asked != nil && v == *h.asked }

// ledger is what the users of an asset have been told.
type ledger struct {
	mu        sync.Mutex
	id        uint
	name      held[string]
	opacities map[string]*held[float32] // of layers, by their marks
	strokes   map[string][]int32        // by layer
	maps      map[[2]string]bool        // by set and kind
	delivered int
	layouts   int
	gone      held[bool]
}

func newLedger(id uint, name string) *ledger {
	return &ledger{id: id, name: held[string]{is: name}, opacities: map[string]*held[float32]{}, strokes: map[string][]int32{}, maps: map[[2]string]bool{}}
}

// town is a data folder with all that its users know.
type town struct {
	t     *tally
	r     *rand.Rand
	data  string
	root  string
	disk  string // a small disk of its own that data lies on; empty where none can be made
	all   []*ledger
	lost  func(format string, args ...any)
	model []byte
	kills map[string]int
}

// days plays days until the context ends, each ended by a disaster, and looks for what was lost.
func days(ctx context.Context, t *tally, dir string) error {
	w := &town{t: t, r: rand.New(rand.NewPCG(*seed, 7)), root: filepath.Join(dir, "out"), kills: map[string]int{}, model: plates()}
	w.disk = filepath.Join(dir, "disk")
	if err := os.MkdirAll(w.disk, 0o755); err != nil {
		return err
	}
	if err := mountSmall(w.disk, 192<<20); err != nil {
		fmt.Printf("no small disk can be made here (%v): a full and a read-only one are not tried\n", err)
		w.disk = ""
		w.data = filepath.Join(dir, "data")
	} else {
		defer unmount(w.disk)
		w.data = filepath.Join(w.disk, "data")
	}
	for n := 0; ctx.Err() == nil; n++ {
		// What was killed least comes next.
		work := slices.MinFunc(works, func(a, b string) int { return w.kills[a] - w.kills[b] })
		what := fmt.Sprintf("day %d, %s", n, work)
		w.lost = func(format string, args ...any) { t.failed(what+": "+format, args...) }
		if err := w.day(work); err != nil {
			return fmt.Errorf("%s: %w", what, err)
		}
	}
	return nil
}

// day is one start of the server with its users, to its end by some disaster, and what is found afterwards.
func (w *town) day(work string) error {
	s, err := startServer(w.data, w.root)
	if err != nil {
		w.lost("%v", err)
		return err
	}
	note("%s with %d assets", work, len(w.all))
	for len(w.all) < 3 {
		id, err := s.bring("plates.obj", w.model)
		if err != nil {
			s.kill()
			return fmt.Errorf("a model cannot be brought in: %w", err)
		}
		w.all = append(w.all, newLedger(id, "plates"))
	}
	end := ""
	for _, e := range ends {
		if w.r.IntN(e.oneIn) == 0 && (w.disk != "" || e.name == "clock back") {
			end = e.name
			break
		}
	}
	var users sync.WaitGroup
	stop := make(chan struct{})
	for n := range 3 { // pages that do a little of everything
		r := rand.New(rand.NewPCG(w.r.Uint64(), uint64(n)))
		l := w.all[w.r.IntN(len(w.all))]
		users.Go(func() { w.someone(s, l, r, fmt.Sprintf("hand-%d", n), []string{"edit", "paint", "undo"}, stop) })
	}
	r := rand.New(rand.NewPCG(w.r.Uint64(), 99))
	busy := w.all[w.r.IntN(len(w.all))]
	users.Go(func() { w.someone(s, busy, r, "worker", []string{work}, stop) })
	long := 1500
	if slices.Contains([]string{"lay out", "bake", "deliver"}, work) {
		long = 4000
	}
	time.Sleep(time.Duration(100+w.r.IntN(long)) * time.Millisecond)
	var filler string
	if end == "disk full" {
		filler = filepath.Join(w.disk, "filler")
		fill(filler)
		time.Sleep(time.Duration(200+w.r.IntN(800)) * time.Millisecond)
		if w.r.IntN(2) == 0 { // room comes back while they work
			os.Remove(filler)
			time.Sleep(200 * time.Millisecond)
		}
		w.t.tried("full disks")
	}
	s.kill()
	w.kills[work]++
	w.t.tried("kills while they " + work)
	close(stop)
	users.Wait()
	if filler != "" {
		if _, err := os.Stat(filler); err == nil {
			w.shown("a full disk")
			os.Remove(filler)
		}
	}
	switch end {
	case "read-only":
		if err := remount(w.disk, true); err == nil {
			w.shown("a read-only disk")
			w.t.tried("read-only folders")
			if err := remount(w.disk, false); err != nil {
				return err
			}
		}
	case "clock back":
		if err := w.age(400 * 24 * time.Hour); err != nil {
			w.lost("the clock cannot be turned back: %v", err)
		}
		w.t.tried("clocks turned back")
	}
	return w.check()
}

// shown starts a server where nothing can be written and wants it to show what is there.
func (w *town) shown(where string) {
	s, err := startServer(w.data, w.root)
	if err != nil {
		w.lost("on %s: %v", where, err)
		return
	}
	defer s.end()
	if text, err := s.call("GET", "/", "", nil); err != nil || len(w.all) > 0 && !strings.Contains(string(text), "asset-card") {
		w.lost("on %s the assets are not shown: %v", where, err)
	}
	for _, l := range w.all {
		if l.gone.is || l.gone.asked != nil {
			continue
		}
		if _, err := s.call("GET", fmt.Sprintf("/api/assets/%d/mesh", l.id), "", nil); err != nil {
			w.lost("on %s asset %d is not shown: %v", where, l.id, err)
		}
		err := s.do(l.id, "rename", map[string]string{"value": l.name.is})
		var r *refusedError
		if where != "a full disk" && (!errors.As(err, &r) || r.code != http.StatusForbidden || !plainWords(r.text)) {
			w.lost("on %s a change was answered with %v", where, err)
		}
	}
}

// someone works on an asset until the server is gone.
func (w *town) someone(s *server, l *ledger, r *rand.Rand, author string, kinds []string, stop chan struct{}) {
	var p *page
	defer func() {
		if p != nil {
			p.close()
		}
	}()
	var mine []string // layers that this page made
	var before []undoable
	for {
		select {
		case <-stop:
			return
		default:
		}
		if p == nil {
			var err error
			if p, err = s.page(l.id, author); err != nil {
				return
			}
		}
		kind := kinds[r.IntN(len(kinds))]
		err := w.work(s, p, l, r, kind, author, &mine, &before)
		var refused *refusedError
		switch {
		case err == nil:
			w.t.tried("acknowledged: " + kind)
		case errors.As(err, &refused):
			if !plainWords(refused.text) {
				w.lost("%s was answered with %q", kind, refused.text)
			}
			w.t.tried("refused: " + kind)
			time.Sleep(20 * time.Millisecond)
		case errors.Is(err, errGone):
			return
		default:
			select {
			case <-p.closed:
				return
			case <-stop:
				return
			case <-time.After(100 * time.Millisecond):
			}
		}
	}
}

// undoable is what an undo of a page's last edit brings back.
type undoable struct {
	layer string
	was   float32
}

// work does one thing and writes down what was promised.
func (w *town) work(s *server, p *page, l *ledger, r *rand.Rand, kind, author string, mine *[]string, before *[]undoable) error {
	set := func(m string, v float32, send func() error) error {
		l.mu.Lock()
		h := l.opacities[m]
		h.asked = &v
		l.mu.Unlock()
		err := send()
		l.mu.Lock()
		defer l.mu.Unlock()
		var refused *refusedError
		if err == nil {
			h.is = v
		}
		if err == nil || errors.As(err, &refused) {
			h.asked = nil
		}
		return err
	}
	switch kind {
	case "edit":
		if len(*mine) < 4 {
			e, err := p.edit(strata.Edit{Do: "add"})
			if err == nil {
				l.mu.Lock()
				l.opacities[e.Layer] = &held[float32]{is: 1}
				l.mu.Unlock()
				*mine = append(*mine, e.Layer)
				*before = nil // an undo would take the layer away
			}
			return err
		}
		m := (*mine)[r.IntN(len(*mine))]
		v := float32(r.IntN(1000)) / 1000
		l.mu.Lock()
		was := l.opacities[m].is
		l.mu.Unlock()
		if v == was {
			return nil // such an edit is none
		}
		value, _ := json.Marshal(v)
		err := set(m, v, func() error {
			_, err := p.edit(strata.Edit{Do: "set", Layer: m, Path: "opacity", Value: value})
			return err
		})
		if err == nil {
			*before = append(*before, undoable{m, was})
		}
		return err
	case "undo":
		if len(*before) == 0 {
			return w.work(s, p, l, r, "edit", author, mine, before)
		}
		u := (*before)[len(*before)-1]
		err := set(u.layer, u.was, func() error { _, err := p.ask(map[string]any{"t": "undo"}); return err })
		if err == nil {
			*before = (*before)[:len(*before)-1]
		}
		return err
	case "paint":
		return w.paint(p, l, r, mine, before)
	case "bring in":
		name := fmt.Sprintf("brought-%d", r.IntN(1_000_000))
		id, err := s.bring(name+".obj", w.model)
		if err == nil {
			w.t.mu.Lock()
			w.all = append(w.all, newLedger(id, name))
			w.t.mu.Unlock()
		}
		return err
	case "bake":
		var cells []map[string]string
		for range 1 + r.IntN(3) {
			cells = append(cells, map[string]string{"set": []string{"steel", "paint"}[r.IntN(2)], "kind": []string{"ao", "curvature", "position", "normal"}[r.IntN(4)]})
		}
		if err := s.do(l.id, "settings", map[string]any{"settings": map[string]any{"quality": "draft", "size": 256}}); err != nil {
			return err
		}
		if err := s.do(l.id, "bake", map[string]any{"cells": cells}); err != nil {
			return err
		}
		if err := p.job("bake"); err != nil {
			return err
		}
		l.mu.Lock()
		defer l.mu.Unlock()
		for _, c := range cells {
			l.maps[[2]string{c["set"], c["kind"]}] = true
		}
		return nil
	case "lay out":
		if l.layouts >= 5 {
			time.Sleep(20 * time.Millisecond)
			return w.work(s, p, l, r, "edit", author, mine, before)
		}
		if err := s.do(l.id, "layout", map[string]any{"layout": map[string]any{"into": "sets", "pixels": 4, "size": 256}}); err != nil {
			return err
		}
		if err := p.job("layout"); err != nil {
			return err
		}
		l.mu.Lock()
		defer l.mu.Unlock()
		l.layouts++
		return nil
	case "deliver":
		to := map[string]any{"preset": "gltf", "to": "zip", "size": 256}
		if r.IntN(2) == 0 {
			to = map[string]any{"preset": "orm-green-down", "to": "folder", "folder": fmt.Sprintf("asset-%d", l.id), "size": 256}
		}
		if err := s.do(l.id, "shipping", map[string]any{"shipping": to}); err != nil {
			return err
		}
		if err := s.do(l.id, "deliver", map[string]any{"replace": true}); err != nil {
			return err
		}
		if err := p.job("deliver"); err != nil {
			return err
		}
		l.mu.Lock()
		defer l.mu.Unlock()
		l.delivered++
		return nil
	case "delete":
		name := fmt.Sprintf("doomed-%d", r.IntN(1_000_000))
		id, err := s.bring(name+".obj", w.model)
		if err != nil {
			return err
		}
		d := newLedger(id, name)
		w.t.mu.Lock()
		w.all = append(w.all, d)
		w.t.mu.Unlock()
		yes := true
		d.mu.Lock()
		d.gone.asked = &yes
		d.mu.Unlock()
		_, err = s.call("DELETE", fmt.Sprintf("/api/assets/%d", id), "", nil)
		d.mu.Lock()
		defer d.mu.Unlock()
		var refused *refusedError
		if err == nil {
			d.gone.is = true
		}
		if err == nil || errors.As(err, &refused) {
			d.gone.asked = nil
		}
		return err
	}
	return fmt.Errorf("there is no work “%s”", kind)
}

// paint makes a stroke in three batches.
func (w *town) paint(p *page, l *ledger, r *rand.Rand, mine *[]string, before *[]undoable) error {
	layer := ""
	l.mu.Lock()
	for m := range l.strokes {
		if slices.Contains(*mine, m) {
			layer = m
		}
	}
	l.mu.Unlock()
	if layer == "" {
		e, err := p.edit(strata.Edit{Do: "add", Kind: "brush"})
		if err != nil {
			return err
		}
		l.mu.Lock()
		l.opacities[e.Layer], l.strokes[e.Layer] = &held[float32]{is: 1}, nil
		l.mu.Unlock()
		*mine = append(*mine, e.Layer)
		layer, *before = e.Layer, nil
	}
	clause := ""
	for range 100 { // the strata come with the next event
		if clause = p.clauseOf(layer); clause != "" {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	points := func(n int) (out []brush.Point) {
		for k := range 4 {
			a := float64(4*n+k) / 12
			out = append(out, brush.Point{float32(0.1 + 0.8*a), float32(0.5 + 0.3*math.Sin(6*a)), 0, 0, 0, 1, 1})
		}
		return out
	}
	for n := range 2 {
		m := map[string]any{"layer": layer, "clause": clause, "points": points(n)}
		if n == 0 {
			m["begin"] = &brush.Stroke{Brush: brush.New(), Size: 0.05 + 0.1*r.Float32(), Seed: r.Uint32()}
		}
		if err := p.send(map[string]any{"t": "ink", "ink": m}); err != nil {
			return errGone
		}
	}
	e, err := p.ask(map[string]any{"t": "ink", "ink": map[string]any{"layer": layer, "clause": clause, "points": points(2), "end": true}})
	if err != nil {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.strokes[layer] = append(l.strokes[layer], e.Number)
	*before = nil
	return nil
}

// check starts the server again and looks for all that was promised, and for what is left over.
func (w *town) check() error {
	s, err := startServer(w.data, w.root)
	if err != nil {
		w.lost("after the end: %v", err)
		return err
	}
	defer s.end()
	st, err := store.Look(w.data, "the trial looks")
	if err != nil {
		w.lost("the folder cannot be looked at: %v", err)
		return err
	}
	defer st.Close()
	w.t.tried("folders opened again")
	if err := st.Sound(); err != nil {
		w.lost("%v", err)
	}
	strays, err := st.Strays()
	if err != nil {
		w.lost("%v", err)
	}
	for _, f := range strays {
		w.lost("left over: %s", f)
	}
	rows, err := st.Assets()
	if err != nil {
		w.lost("%v", err)
		return err
	}
	w.settle(s, st, rows)
	w.folders()
	if w.r.IntN(4) == 0 && len(w.all) > 0 {
		w.compare(s, w.all[w.r.IntN(len(w.all))])
	}
	// Days begin with few assets, so that there is room for more.
	for len(w.all) > 3 {
		at := w.r.IntN(len(w.all))
		if _, err := s.call("DELETE", fmt.Sprintf("/api/assets/%d", w.all[at].id), "", nil); err != nil {
			w.lost("asset %d cannot be deleted: %v", w.all[at].id, err)
		}
		w.all = slices.Delete(w.all, at, at+1)
	}
	return nil
}

// settle compares each asset with its ledger, and takes over what was asked for and done.
func (w *town) settle(s *server, st *store.Store, rows []store.Asset) {
	known := map[uint]bool{}
	for _, l := range w.all {
		known[l.id] = true
		at := slices.IndexFunc(rows, func(a store.Asset) bool { return a.ID == l.id })
		if !l.gone.may(at < 0) {
			w.lost("asset %d is there: %v", l.id, at >= 0)
		}
		l.gone = held[bool]{is: at < 0}
		if at < 0 {
			continue
		}
		if !l.name.may(rows[at].Name) {
			w.lost("asset %d is called %q, want %q", l.id, rows[at].Name, l.name.is)
		}
		d, err := st.Document(l.id)
		if err != nil {
			w.lost("the strata of asset %d: %v", l.id, err)
			continue
		}
		for m, h := range l.opacities {
			layer, _, err := d.Layer(m)
			if err != nil {
				w.lost("a layer of asset %d: %v", l.id, err)
				delete(l.opacities, m)
				continue
			}
			if !h.may(layer.Opacity) {
				w.lost("layer %s of asset %d has opacity %g, want %g", m, l.id, layer.Opacity, h.is)
			}
			*h = held[float32]{is: layer.Opacity}
			w.t.tried("acknowledged layers looked for")
		}
		for m, list := range l.strokes {
			layer, _, err := d.Layer(m)
			if err != nil || len(layer.Where) == 0 {
				w.lost("the brushwork of asset %d: %v", l.id, err)
				continue
			}
			for _, n := range list {
				w.t.tried("acknowledged strokes looked for")
				if !slices.Contains(layer.Where[0].Strokes, n) {
					w.lost("stroke %d of asset %d is not in the strata", n, l.id)
				}
				if k, err := st.Stroke(n); err != nil {
					w.lost("stroke %d of asset %d: %v", n, l.id, err)
				} else if _, err := brush.Decode(k.Data); err != nil {
					w.lost("stroke %d of asset %d: %v", n, l.id, err)
				}
			}
		}
		for k := range l.maps {
			w.t.tried("acknowledged maps looked for")
			if m, err := st.Map(l.id, k[0], k[1]); err != nil || len(m.Pix) == 0 {
				w.lost("map %v of asset %d: %v", k, l.id, err)
			}
		}
		layouts, err := st.Files(l.id, "layout")
		if err != nil || len(layouts) < l.layouts {
			w.lost("asset %d has %d layouts, want %d, %v", l.id, len(layouts), l.layouts, err)
		}
		l.layouts = len(layouts)
		sent, err := st.Deliveries(l.id)
		if err != nil || len(sent) < l.delivered {
			w.lost("asset %d has %d deliveries, want %d, %v", l.id, len(sent), l.delivered, err)
		}
		l.delivered = len(sent)
		for i := range sent {
			if sent[i].Folder == "" {
				if err := soundZip(st.ZipOf(&sent[i])); err != nil {
					w.lost("delivery %d of asset %d: %v", sent[i].ID, l.id, err)
				}
				w.t.tried("deliveries read back")
			}
		}
		// It opens, and goes on.
		if _, err := s.call("GET", fmt.Sprintf("/api/assets/%d/checks", l.id), "", nil); err != nil {
			w.lost("asset %d does not open: %v", l.id, err)
		}
	}
	w.all = slices.DeleteFunc(w.all, func(l *ledger) bool { return l.gone.is })
	for i := range rows { // that were stored and never answered
		if !known[rows[i].ID] {
			w.all = append(w.all, newLedger(rows[i].ID, rows[i].Name))
		}
	}
}

// folders looks into folders of deliveries: what their notes tell is there, byte by byte.
func (w *town) folders() {
	notes, _ := filepath.Glob(filepath.Join(w.root, "*", deliver.Note))
	for _, name := range notes {
		text, err := os.ReadFile(name)
		if err != nil {
			w.lost("%v", err)
			continue
		}
		d, err := deliver.ParseNote(text)
		if err != nil {
			w.lost("%s: %v", name, err)
			continue
		}
		w.t.tried("deliveries read back")
		for _, f := range d.Files {
			data, err := os.ReadFile(filepath.Join(filepath.Dir(name), f.File))
			sum := sha256.Sum256(data)
			if err != nil || hex.EncodeToString(sum[:]) != f.SHA256 {
				w.lost("%s is not what its note tells: %v", f.File, err)
			}
		}
	}
	left, _ := filepath.Glob(filepath.Join(w.root, "*", ".*"))
	more, _ := filepath.Glob(filepath.Join(w.root, ".*"))
	for _, f := range slices.Concat(left, more) {
		w.lost("left over: %s", f)
	}
}

// soundZip reads a zip to its end.
func soundZip(name string) error {
	z, err := zip.OpenReader(name)
	if err != nil {
		return err
	}
	defer z.Close()
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			return err
		}
		_, err = io.Copy(io.Discard, r)
		r.Close()
		if err != nil {
			return fmt.Errorf("%s: %w", f.Name, err)
		}
	}
	return nil
}

// compare delivers an asset and wants the same base colours as the page is shown, texel by texel.
func (w *town) compare(s *server, l *ledger) {
	if err := s.do(l.id, "size", map[string]any{"number": 256}); err != nil {
		w.lost("asset %d: %v", l.id, err)
		return
	}
	p, err := s.page(l.id, "eye")
	if err != nil {
		w.lost("asset %d has no page: %v", l.id, err)
		return
	}
	defer p.close()
	_ = p.send(map[string]any{"t": "look", "look": map[string]any{"show": "lit"}})
	if err := s.do(l.id, "shipping", map[string]any{"shipping": map[string]any{"preset": "gltf", "to": "zip", "size": 256}}); err != nil {
		w.lost("asset %d: %v", l.id, err)
		return
	}
	if err := s.do(l.id, "deliver", map[string]any{}); err != nil {
		w.lost("asset %d cannot be delivered: %v", l.id, err)
		return
	}
	if err := p.job("deliver"); err != nil {
		w.lost("asset %d cannot be delivered: %v", l.id, err)
		return
	}
	l.delivered++
	text, err := s.call("GET", fmt.Sprintf("/api/assets/%d/deliveries", l.id), "", nil)
	var list []struct{ ID uint }
	if err != nil || json.Unmarshal(text, &list) != nil || len(list) == 0 {
		w.lost("asset %d has no deliveries: %v %s", l.id, err, text)
		return
	}
	data, err := s.call("GET", fmt.Sprintf("/api/assets/%d/deliveries/%d/zip", l.id, list[0].ID), "", nil)
	if err != nil {
		w.lost("the delivery of asset %d: %v", l.id, err)
		return
	}
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		w.lost("the delivery of asset %d: %v", l.id, err)
		return
	}
	m, err := mesh.Open(mesh.File{Name: "plates.obj", Data: w.model}, nil)
	if err != nil {
		w.lost("%v", err)
		return
	}
	sets, err := uv.Sets(m, uv.PerMaterial)
	if err != nil {
		w.lost("%v", err)
		return
	}
	if l.layouts > 0 {
		return // its UVs are others than the file's
	}
	for i := range sets {
		w.sameAs(p, l, m, &sets[i], z)
	}
}

func (w *town) sameAs(p *page, l *ledger, m *mesh.Model, set *uv.Set, z *zip.Reader) {
	at := slices.IndexFunc(z.File, func(f *zip.File) bool {
		return strings.Contains(f.Name, set.Name) && strings.Contains(f.Name, "basecolor")
	})
	if at < 0 {
		w.lost("the delivery of asset %d has no base colour of %s", l.id, set.Name)
		return
	}
	f, err := z.File[at].Open()
	if err != nil {
		w.lost("%v", err)
		return
	}
	defer f.Close()
	img, err := png.Decode(f)
	if err != nil {
		w.lost("%s: %v", z.File[at].Name, err)
		return
	}
	key := set.Key + "\x00base"
	for n := 0; ; n++ {
		p.mu.Lock()
		_, whole := p.whole[key]
		live := p.rects[key]
		p.mu.Unlock()
		if whole && live != nil && live.size == 256 {
			break
		}
		if n == 400 {
			w.lost("the picture of set %s of asset %d did not come", set.Name, l.id)
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
	p.mu.Lock()
	live := p.rects[key]
	p.mu.Unlock()
	differ := 0
	for _, texel := range surface.Rasterise(m, set, 256, 0, 0).Texel {
		x, y := int(texel)%256, int(texel)/256
		r, g, b, _ := img.At(x, y).RGBA()
		o := 4 * (y*256 + x)
		if byte(r>>8) != live.rgba[o] || byte(g>>8) != live.rgba[o+1] || byte(b>>8) != live.rgba[o+2] {
			differ++
		}
	}
	if differ > 0 {
		w.lost("%d texels of set %s of asset %d are delivered otherwise than shown", differ, set.Name, l.id)
	}
	w.t.tried("sets compared, live and delivered")
}

// age makes all that is stored look as if it came from a time ahead, as after a clock was turned back.
func (w *town) age(by time.Duration) error {
	st, err := store.Open(w.data)
	if err != nil {
		return err
	}
	err = st.Shift(by)
	st.Close()
	if err != nil {
		return err
	}
	return filepath.WalkDir(w.data, func(name string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		then := time.Now().Add(by)
		return os.Chtimes(name, then, then)
	})
}

// fill writes a file until its disk has no room.
func fill(name string) {
	f, err := os.Create(name)
	if err != nil {
		return
	}
	defer f.Close()
	for size := 1 << 20; size >= 512; size /= 2 {
		piece := make([]byte, size)
		for {
			if _, err := f.Write(piece); err != nil {
				break
			}
		}
	}
}

// plates is a model of two bent plates, each of a material of its own, with UVs.
func plates() []byte {
	var b bytes.Buffer
	const n = 12
	for k := range 2 {
		for y := range n + 1 {
			for x := range n + 1 {
				u, v := float64(x)/n, float64(y)/n
				fmt.Fprintf(&b, "v %g %g %g\nvt %g %g\n", u+1.1*float64(k), v, 0.1*math.Sin(3*u)*math.Cos(4*v), 0.02+0.96*u, 0.02+0.96*v)
			}
		}
	}
	for k, name := range []string{"steel", "paint"} {
		fmt.Fprintf(&b, "o %s_plate\nusemtl %s\n", name, name)
		at := func(x, y int) int { return k*(n+1)*(n+1) + y*(n+1) + x + 1 }
		for y := range n {
			for x := range n {
				fmt.Fprintf(&b, "f %[1]d/%[1]d %[2]d/%[2]d %[3]d/%[3]d %[4]d/%[4]d\n", at(x, y), at(x+1, y), at(x+1, y+1), at(x, y+1))
			}
		}
	}
	return b.Bytes()
}

package compose

import (
	"context"
	"maps"
	"slices"
	"sync"

	"crust/internal/core/brush"
	"crust/internal/core/geom"
	"crust/internal/core/par"
)

// wet is what a stroke that is being made lays down on a tile.
type wet struct {
	mu      sync.Mutex
	ink     *brush.Ink // as far as it has come
	marks   int        // of those that do not change any more, how many are in settled
	settled []float32
	cover   []float32 // all of it, finished
	version uint64    // grows when cover has changed
}

type wetKey struct {
	ground uint64
	tile   int
	number int32
}

// wets are the strokes that are being made, and where what they lay down has changed.
type wets struct {
	mu      sync.Mutex
	at      map[wetKey]*wet
	inks    map[int32]*brush.Ink  // of strokes as far as they have come
	done    map[wetKey]*brush.Ink // by ground and stroke: as far as all tiles are up to date
	changed []geom.Box            // since Changed was called last
	touched map[tileAt]bool       // tiles of canvases, and of what lies across their seams, that have changed since Touched was called last
}

// tileAt is a tile of a ground.
type tileAt struct {
	ground uint64
	tile   int
}

// KeepWet lets go what is kept of strokes that are not being made any more.
func (b *Body) KeepWet(made func(number int32) bool) {
	w := &b.wets
	w.mu.Lock()
	defer w.mu.Unlock()
	maps.DeleteFunc(w.at, func(k wetKey, _ *wet) bool { return !made(k.number) })
	maps.DeleteFunc(w.inks, func(n int32, _ *brush.Ink) bool { return !made(n) })
	maps.DeleteFunc(w.done, func(k wetKey, _ *brush.Ink) bool { return !made(k.number) })
	if len(w.inks) == 0 {
		clear(w.touched)
	}
}

// Changed lists boxes of where strokes that are being made lay down something else than when it was called last, as far as
// programs have been compiled since.
func (b *Body) Changed() []geom.Box {
	w := &b.wets
	w.mu.Lock()
	defer w.mu.Unlock()
	out := w.changed
	w.changed = nil
	return out
}

// Touched lists the tiles of the canvas on which strokes that are being made, there or just across a seam, lay down something else
// than when it was called last, as far as programs have been compiled since; in any order, and some twice.
func (c *Canvas) Touched() (out []int) {
	w := &c.body.wets
	w.mu.Lock()
	defer w.mu.Unlock()
	for at := range w.touched {
		if at.ground == c.ground.id || at.ground == c.rim.id {
			out = append(out, at.tile)
			delete(w.touched, at)
		}
	}
	return out
}

// soak brings what strokes that are being made lay down up to date, on a canvas and on the clouds of its body.
func (c *Canvas) soak(p *plan) {
	for _, of := range p.laid {
		for i := range of.laid {
			if of.laid[i].wet {
				c.body.soak(&of.laid[i], c)
			}
		}
	}
}

func (b *Body) soak(l *struck, c *Canvas) {
	w := &b.wets
	w.mu.Lock()
	if w.at == nil {
		w.at, w.inks, w.done = map[wetKey]*wet{}, map[int32]*brush.Ink{}, map[wetKey]*brush.Ink{}
	}
	ink := w.inks[l.number]
	if ink == nil || ink.Stroke() != l.stroke {
		ink = brush.Ready(l.stroke)
		w.inks[l.number] = ink
	}
	type place struct {
		on    *ground
		tile  int
		boxes []geom.Box
	}
	var places []place
	for _, g := range b.soaked(c) {
		key := wetKey{g.id, -1, l.number}
		old := w.done[key]
		if w.done[key] = ink; old == ink {
			continue
		}
		from := 0
		var boxes []geom.Box
		if old != nil {
			from = old.Stable()
			boxes = old.Boxes(from)
		}
		boxes = append(boxes, ink.Boxes(from)...)
		all := geom.EmptyBox()
		for i := range boxes {
			boxes[i] = wider(&boxes[i], g.pitch)
			all = all.Union(boxes[i])
		}
		for t := range g.tiles {
			if meets(&all, g.boxesOf(t)) && slices.ContainsFunc(boxes, func(b geom.Box) bool { return meets(&b, g.boxesOf(t)) && meets(&b, g.runsOf(t)) }) {
				places = append(places, place{g, t, boxes})
			}
		}
	}
	w.mu.Unlock()
	_ = par.Blocks(context.Background(), len(places), 1, func(worker, i, _ int) {
		on := places[i].on
		w.wet(on, on.scratch(worker), places[i].tile, l, ink, places[i].boxes)
	})
}

// wet is what a stroke lays down on a tile, brought up to date. It has changed in some boxes alone; nil is for anywhere.
func (w *wets) wet(g *ground, k *scratch, t int, l *struck, ink *brush.Ink, in []geom.Box) *wet {
	w.mu.Lock()
	key := wetKey{g.id, t, l.number}
	at := w.at[key]
	if at == nil {
		at = &wet{settled: make([]float32, g.tiles[t].Len()), cover: make([]float32, g.tiles[t].Len())}
		w.at[key] = at
	}
	w.mu.Unlock()
	at.mu.Lock()
	defer at.mu.Unlock()
	if at.ink == ink {
		return at
	}
	if at.ink == nil {
		in = nil
	}
	at.ink = ink
	places := g.places(k, t)
	if at.marks < ink.Stable() {
		ink.Lay(places, at.marks, ink.Stable(), at.settled)
		at.marks = ink.Stable()
	}
	var changed []geom.Box
	for r := range places.Runs {
		if in != nil && !meets(&places.Runs[r], in) {
			continue
		}
		from, to := r*brush.Run, min(len(at.cover), (r+1)*brush.Run)
		cover, some := k.cover[:to-from], places.Part(r)
		copy(cover, at.settled[from:to])
		ink.Lay(&some, ink.Stable(), ink.All(), cover)
		ink.Finish(&some, cover)
		g.hold(k, &some, ink, t, from, cover)
		// What a smudge pulls may go on changing where it covers all that it can.
		pulls := l.stroke.Work == brush.WorkSmudge && slices.ContainsFunc(cover, func(c float32) bool { return c > 0 })
		if pulls || !slices.Equal(cover, at.cover[from:to]) {
			copy(at.cover[from:to], cover)
			changed = append(changed, places.Runs[r])
		}
	}
	if changed != nil {
		at.version++
		if g.canvas != nil {
			w.note(g, t, changed)
		}
	}
	return at
}

// note keeps where something has changed on a tile.
func (w *wets) note(g *ground, t int, boxes []geom.Box) {
	finest := g.body.finest(g)
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.touched == nil {
		w.touched = map[tileAt]bool{}
	}
	w.touched[tileAt{g.id, t}] = true
	if !finest {
		return
	}
	all := geom.EmptyBox()
	for i := range boxes {
		all = all.Union(boxes[i])
	}
	w.changed = append(w.changed, all)
}

// version tells what a stroke lays down on a tile from what it laid down there before.
func (w *wets) version(g *ground, t int, l *struck) uint64 {
	w.mu.Lock()
	defer w.mu.Unlock()
	if at := w.at[wetKey{g.id, t, l.number}]; at != nil {
		return at.version
	}
	return 0
}

// soaked are the grounds that strokes have to be up to date on for a canvas: its own, what lies across its seams, and the clouds
// where averages are brought up to date.
func (b *Body) soaked(c *Canvas) []*ground {
	b.mu.Lock()
	defer b.mu.Unlock()
	out := []*ground{c.ground, c.rim}
	if b.lag {
		return out
	}
	for _, c := range b.clouds {
		out = append(out, c.ground)
	}
	return out
}

// finest tells whether no other canvas of a ground's set is finer.
func (b *Body) finest(g *ground) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return !slices.ContainsFunc(b.canvases, func(c *Canvas) bool { return c.Set == g.canvas.Set && c.side > g.canvas.side })
}

package studio

import (
	"crust/internal/core/pixel"

	"context"
	"encoding/binary"
	"encoding/json"
	"image"
	"log/slog"
	"slices"
	"sync"
	"time"
)

// Look is what a page shows beside the lit model.
type Look struct {
	Show   string `json:"show"` // "where", "height" or anything else
	Layer  string `json:"layer"`
	Clause string `json:"clause"`
	Set    string `json:"set"`   // of the flat map
	Kept   uint   `json:"kept"`  // a keepsake that it compares with, 0 for none
	Away   bool   `json:"away"`  // it shows nothing that is painted, as in Intake
	Shape  bool   `json:"shape"` // it shows the height as shape
}

// asked are the views that pages get when they ask for them.
var asked = []string{"height", "shape"}

// wants tells whether a page that looks so shows a view.
func (l Look) wants(view string) bool {
	switch view {
	case "height":
		return l.Show == view
	case "shape":
		return l.Shape
	}
	return true
}

// Near is a place that a page's person looks at most: under the pointer, or in the middle of the view.
type Near struct {
	Set string  `json:"set"`
	X   float64 `json:"x"` // of the set's square, from the top left, 0–1
	Y   float64 `json:"y"`
}

// Page is one watching page. The studio posts to it; its owner sends what Next returns.
type Page struct {
	asset  *Asset
	author string // whose it is, empty when it does not say
	mu     sync.Mutex
	look   Look
	near   Near
	events []Event
	frames map[frameKey]*Frame
	order  []frameKey
	sent   map[frameKey]*sent
	where  map[frameKey]*picture // of Wheres that this page looks at; the painter's alone
	wake   chan struct{}
	tokens chan struct{} // room for messages that the page has not acknowledged yet
	room   []byte        // of the message that is sent; Run's alone
}

type frameKey struct {
	set, view string
	full      bool
}

// inFlight is how many pictures may be on their way to a page.
const inFlight = 8

// Watch adds a page of an author; its first events are the asset's state and strata.
func (a *Asset) Watch(author string) *Page {
	p := &Page{asset: a, author: author, frames: map[frameKey]*Frame{}, sent: map[frameKey]*sent{}, where: map[frameKey]*picture{}, wake: make(chan struct{}, 1), tokens: make(chan struct{}, inFlight)}
	for range inFlight {
		p.tokens <- struct{}{}
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.pages[p] = true
	p.post(a.stateEvent())
	p.post(a.docEvent(author))
	if e := a.still.last(); e != nil {
		p.post(e)
	}
	a.changed()
	return p
}

// Leave removes the page.
func (p *Page) Leave() {
	p.asset.mu.Lock()
	defer p.asset.mu.Unlock()
	delete(p.asset.pages, p)
	if _, err := p.asset.end(p); err != nil {
		slog.Error("a stroke was lost with its page", "asset", p.asset.ID, "error", err)
	}
	p.asset.drop(p)
	p.asset.used = time.Now()
	// When nobody has come back for a while, the painter lets its canvases go.
	time.AfterFunc(idle, func() {
		p.asset.mu.Lock()
		defer p.asset.mu.Unlock()
		if len(p.asset.pages) == 0 {
			p.asset.changed()
		}
	})
}

// idle is how long an asset's canvases are kept after its last page has left.
const idle = 40 * time.Second

// SetLook changes what the page shows.
func (p *Page) SetLook(l Look) {
	p.mu.Lock()
	same := p.look == l
	p.look = l
	p.mu.Unlock()
	if !same {
		p.asset.mu.Lock()
		p.asset.changed()
		p.asset.mu.Unlock()
	}
}

// SetNear says where the page's person looks; what is painted from now on begins there.
func (p *Page) SetNear(n Near) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.near = n
}

// Near returns where the page's person looks; of no set when that is not known.
func (p *Page) Near() Near {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.near
}

// Look returns what the page shows.
func (p *Page) Look() Look {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.look
}

// Ack gives back the room of one picture.
func (p *Page) Ack() {
	select {
	case p.tokens <- struct{}{}:
	default:
	}
}

func (p *Page) post(e Event) {
	p.mu.Lock()
	p.events = append(p.events, e)
	p.mu.Unlock()
	p.rouse()
}

// frame queues a picture; an older one of the same view that is still waiting is passed over. A coarse picture passes a full
// one over too: the full one of its version follows, and must not be sent in the old one's turn, before the coarse one.
func (p *Page) frame(f *Frame) {
	k := frameKey{f.Set, f.View, f.Full}
	p.mu.Lock()
	if full := (frameKey{f.Set, f.View, true}); !f.Full && p.frames[full] != nil {
		delete(p.frames, full)
		p.order = slices.DeleteFunc(p.order, func(o frameKey) bool { return o == full })
	}
	old := p.frames[k]
	if old == nil {
		p.order = append(p.order, k)
	}
	if old == nil || f.whole || !old.whole || old.picture != f.picture {
		p.frames[k] = f
	}
	p.mu.Unlock()
	p.rouse()
}

// inked says, once all pictures that wait have been sent, that what has come of strokes up to a version is painted.
func (p *Page) inked(version int) {
	k := frameKey{view: "inked"}
	p.mu.Lock()
	if p.frames[k] != nil {
		p.order = slices.DeleteFunc(p.order, func(o frameKey) bool { return o == k })
	}
	p.order = append(p.order, k)
	p.frames[k] = &Frame{View: k.view, version: version}
	p.mu.Unlock()
	p.rouse()
}

func (p *Page) rouse() {
	select {
	case p.wake <- struct{}{}:
	default:
	}
}

// Run sends events as text and pictures as binary until the context ends or sending fails. Neither keeps what it is given.
func (p *Page) Run(ctx context.Context, text, binary func([]byte) error) error {
	for {
		p.mu.Lock()
		events := p.events
		p.events = nil
		var f *Frame
		if len(p.order) > 0 {
			k := p.order[0]
			p.order = p.order[1:]
			f = p.frames[k]
			delete(p.frames, k)
		}
		p.mu.Unlock()
		for _, e := range events {
			b, err := json.Marshal(e)
			if err != nil {
				return err
			}
			if err := text(b); err != nil {
				return err
			}
		}
		if f != nil && f.picture == nil {
			b, err := json.Marshal(Event{"t": f.View, "version": f.version})
			if err != nil {
				return err
			}
			if err := text(b); err != nil {
				return err
			}
			continue
		}
		if f != nil {
			if err := p.send(ctx, f, text, binary); err != nil {
				return err
			}
			continue
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-p.asset.ctx.Done():
			return p.asset.ctx.Err()
		case <-p.wake:
		}
	}
}

// send sends what the page has not got of a frame's picture as it is now, then, when nothing more follows, says that it is
// whole.
func (p *Page) send(ctx context.Context, f *Frame, text, binary func([]byte) error) error {
	k := frameKey{f.Set, f.View, f.Full}
	has := p.sent[k]
	if has == nil || has.picture != f.picture {
		has = &sent{f.picture, make([]uint32, len(f.picture.stamp))}
		p.sent[k] = has
	}
	changed := false
	n := f.picture.surf().Size
	for at := 0; ; {
		r, then, ok := has.next(at)
		if !ok {
			break
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-p.asset.ctx.Done():
			return p.asset.ctx.Err()
		case <-p.tokens:
		}
		p.room = f.rectangle(r, p.room)
		if err := binary(p.room); err != nil {
			return err
		}
		changed = true
		at = then
	}
	if !f.whole || !changed && !f.Full {
		return nil
	}
	b, err := json.Marshal(Event{"t": "whole", "set": f.Set, "view": f.View, "full": f.Full, "size": n, "version": f.version})
	if err != nil {
		return err
	}
	return text(b)
}

// rectHead is the head of a rectangle's message.
type rectHead struct {
	Set  string `json:"set"`
	View string `json:"view"`
	Full bool   `json:"full"`
	Size int    `json:"size"`
	X    int    `json:"x"`
	Y    int    `json:"y"`
	W    int    `json:"w"`
	H    int    `json:"h"`
}

// rectangle is a binary message, written into room where that is large enough: the length of its head in four bytes, little endian, the
// head as JSON, then RGBA rows from the top. Empty texels hold their nearest covered one.
func (f *Frame) rectangle(r image.Rectangle, room []byte) []byte {
	p := f.picture
	surf := p.surf()
	n := surf.Size
	head, _ := json.Marshal(rectHead{f.Set, f.View, f.Full, n, r.Min.X, r.Min.Y, r.Dx(), r.Dy()})
	out := slices.Grow(room[:0], 4+len(head)+4*r.Dx()*r.Dy())
	out = binary.LittleEndian.AppendUint32(out, uint32(len(head)))
	out = append(out, head...)
	px := out[len(out) : len(out)+4*r.Dx()*r.Dy()]
	out = out[:len(out)+len(px)]
	p.mu.RLock()
	defer p.mu.RUnlock()
	for y := r.Min.Y; y < r.Max.Y; y++ {
		near := surf.Nearest[y*n+r.Min.X : y*n+r.Max.X]
		pixel.Spread(px, p.pix, near)
		px = px[4*len(near):]
	}
	return out
}

package studio

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"image"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"crust/internal/core/brush"
	"crust/internal/core/surface"
)

// screen is a page that keeps the pictures it is sent as a browser does.
type screen struct {
	*Page
	mu    sync.Mutex
	full  map[string][]byte // by view, RGBA
	inked int               // up to which version it has what there is of strokes
	whole int               // of which version it has all of the base colour
}

func newScreen(t *testing.T, a *Asset) *screen {
	s := &screen{Page: a.Watch(""), full: map[string][]byte{}}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		_ = s.Run(ctx, s.told, s.sent)
	}()
	t.Cleanup(func() { s.Leave(); cancel(); <-done })
	return s
}

func (s *screen) told(b []byte) error {
	var e struct {
		T, View string
		Full    bool
		Version int
	}
	if err := json.Unmarshal(b, &e); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case e.T == "inked":
		s.inked = e.Version
	case e.T == "whole" && e.Full && e.View == "base":
		s.whole = e.Version
	}
	return nil
}

func (s *screen) sent(b []byte) error {
	n := int(binary.LittleEndian.Uint32(b))
	var h struct {
		View             string
		Full             bool
		Size, X, Y, W, H int
	}
	if err := json.Unmarshal(b[4:4+n], &h); err != nil {
		return err
	}
	defer s.Ack()
	if !h.Full {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.full[h.View] == nil {
		s.full[h.View] = make([]byte, 4*h.Size*h.Size)
	}
	for y := range h.H {
		copy(s.full[h.View][4*((h.Y+y)*h.Size+h.X):], b[4+n+4*y*h.W:][:4*h.W])
	}
	return nil
}

// shows is what it shows of the base colour once ready.
func (s *screen) shows(t *testing.T, what string, ready func() bool) []byte {
	t.Helper()
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(2 * time.Millisecond) {
		s.mu.Lock()
		if ready() {
			defer s.mu.Unlock()
			return bytes.Clone(s.full["base"])
		}
		s.mu.Unlock()
	}
	t.Fatal("a page is not shown", what)
	return nil
}

// Whatever pages do meanwhile, each comes to show all of a stroke that one of them is making, and of what it is in the end.
func TestPagesShowAllOfAStrokeThatIsMade(t *testing.T) {
	s := newStudio(t, t.TempDir())
	a, to := paintable(t, s)
	hand := newScreen(t, a)
	hand.shows(t, "the bare asset", func() bool { return hand.whole > 0 })
	r := rand.New(rand.NewPCG(3, 11))
	pause := func(most int) { time.Sleep(time.Duration(r.IntN(most)) * time.Millisecond) }
	for i := range 10 {
		other := newScreen(t, a)
		pause(200)
		points, n := latitude(0.45-0.9*r.Float64(), 40), 2+r.IntN(6)
		for k := range n {
			m := to
			if k == 0 {
				m.Begin = &brush.Stroke{Brush: brush.New(), Size: 0.05, Seed: uint32(i + 1), Erase: i%2 == 1}
			}
			m.Points = points[k*len(points)/n : (k+1)*len(points)/n]
			if _, err := hand.Ink(m); err != nil {
				t.Fatal(err)
			}
			switch r.IntN(5) {
			case 0:
				other.SetLook(Look{Show: "lit", Set: "ball", Layer: to.Layer})
			case 1:
				hand.SetNear(Near{"ball", r.Float64(), r.Float64()})
			case 2:
				other.SetLook(Look{Show: "where", Set: "ball", Layer: to.Layer})
			case 3:
				pause(250) // the hand rests, and all else is painted
			}
			pause(30)
		}
		pages := []*screen{hand, other}
		at := a.Version()
		var live [][]byte
		for _, p := range pages {
			live = append(live, p.shows(t, "the stroke while it is made", func() bool { return p.inked >= at }))
		}
		m := to
		m.End = true
		if _, err := hand.Ink(m); err != nil {
			t.Fatal(err)
		}
		at = a.Version()
		fresh := newScreen(t, a)
		want := fresh.shows(t, "the stroke", func() bool { return fresh.whole >= at })
		for k, p := range pages {
			if got := p.shows(t, "the stroke in the end", func() bool { return p.whole >= at }); !bytes.Equal(got, want) {
				t.Errorf("stroke %d, page %d does not show what a page does that is opened now", i, k)
			}
			if len(live[k]) != len(want) {
				t.Fatalf("stroke %d, page %d: the page had %d bytes while it was made, %d in the end", i, k, len(live[k]), len(want))
			}
			for q, v := range live[k] {
				if d := int(v) - int(want[q]); d < -1 || d > 1 {
					t.Errorf("stroke %d, page %d: %d while it is made, %d in the end", i, k, v, want[q])
					break
				}
			}
		}
		fresh.Leave()
		other.Leave()
	}
}

// A page is sent what differs from what it has, however often that has changed meanwhile, with the padding that shows it again; and
// less than whole squares where less has changed.
func TestPagesAreSentWhatDiffers(t *testing.T) {
	// One half of the square is covered, up to where squares of texels end; the other shows it again.
	const half = "v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 1 0.5\nvt 0 0.5\nvn 0 0 1\nf 1/1/1 2/2/1 3/3/1 4/4/1\n"
	s := newStudio(t, t.TempDir())
	id, err := s.Create("half", Upload{{Name: "half.obj", Data: []byte(half)}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	a, err := s.Open(id)
	if err != nil {
		t.Fatal(err)
	}
	page := newScreen(t, a)
	page.shows(t, "the asset", func() bool { return page.whole > 0 })
	var of *picture
	for k, v := range page.Page.sent {
		if k.full && k.view == "base" {
			of = v.picture
		}
	}
	page.Leave() // from here on the test alone changes it
	tiles, n := of.sheet.Surf.Tiles, of.sheet.Surf.Size
	f := &Frame{picture: of}
	pages := make([]*sent, 2)
	have := make([][]byte, len(pages))
	for k := range pages {
		pages[k], have[k] = &sent{of, make([]uint32, len(of.stamp))}, make([]byte, 4*n*n)
	}
	take := func(k int) (bytesSent int) {
		for at := 0; ; {
			r, then, ok := pages[k].next(at)
			if !ok {
				return bytesSent
			}
			b := f.rectangle(r, nil)
			b = b[4+binary.LittleEndian.Uint32(b):]
			for y := range r.Dy() {
				copy(have[k][4*((r.Min.Y+y)*n+r.Min.X):], b[4*y*r.Dx():][:4*r.Dx()])
			}
			bytesSent += len(b)
			at = then
		}
	}
	for k := range pages {
		take(k)
	}
	r := rand.New(rand.NewPCG(7, 9))
	few, all := 0, 0 // bytes of changes that no other square shows, and those of the squares
	for range 3000 {
		tile := r.IntN(len(tiles))
		pix := bytes.Clone(of.pix[3*tiles[tile].From : 3*tiles[tile].To])
		at := r.IntN(len(pix))
		for i := at; i < min(len(pix), at+r.IntN(9)); i++ {
			pix[i] ^= byte(1 + r.IntN(255))
		}
		of.put(tile, pix)
		n := take(0) // the other comes now and then
		if at := int(tiles[tile].Y)*surface.Across(of.sheet.Surf.Size) + int(tiles[tile].X); len(of.sheet.rest[at]) == 0 {
			few, all = few+n, all+4*surface.TileSize*surface.TileSize
		}
		if r.IntN(40) == 0 {
			take(1)
		}
	}
	take(1)
	want := f.rectangle(image.Rect(0, 0, n, n), nil)
	want = want[4+binary.LittleEndian.Uint32(want):]
	for k := range pages {
		if !bytes.Equal(have[k], want) {
			t.Errorf("page %d does not have what there is", k)
		}
	}
	if all == 0 || few > all/20 {
		t.Errorf("%d bytes were sent for changes of a few texels in squares of %d", few, all)
	}
}

package studio

import (
	"context"
	"encoding/base64"
	"errors"
	"log/slog"
	"maps"
	"slices"
	"time"

	"crust/internal/core/bake"
	"crust/internal/core/compose"
	"crust/internal/core/imgfile"
	"crust/internal/core/mesh"
	"crust/internal/core/pixel"
	"crust/internal/core/strata"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
)

// Coarse pictures have every fourth texel each way.
const coarseStep = 4

// cardSize is the side of the pictures on the cards of a Where, in px.
const cardSize = 144

// rest is how long a dragged control must be still before the full picture is made.
const rest = 60 * time.Millisecond

// Frame is one view of one set, quantised at its covered texels, to be laid out by the surface.
type Frame struct {
	Set, View string
	Surf      *surface.Surface
	Pix       []uint8 // three per covered texel
	Full      bool
	Version   int
}

// easel keeps the canvases of one asset; the painter alone uses it.
type easel struct {
	key      easelKey
	canvases map[canvasKey]easelCanvas
}

type easelKey struct {
	split string
	model int
}

// easelCanvas is a canvas with the version of its set's maps and their kinds.
type easelCanvas struct {
	*compose.Canvas
	maps  int
	reads []string
}

type canvasKey struct {
	set  string
	size int
}

// snapshot is what the painter needs of an asset at one moment.
type snapshot struct {
	doc     *strata.Document
	live    bool
	version int
	size    func(key string) int // of a set, in px
	sets    []uv.Set
	model   *mesh.Model
	maps    map[string]map[string]*bake.Map
	mapsOf  map[string]int // versions by set
	reads   []string       // kinds of maps
	pages   []*Page        // that show something painted
	nobody  bool           // has the asset open
	ctx     context.Context
}

// paint is the painter: it waits for changes and makes the pictures, coarse first. Newer changes end
// older work.
func (a *Asset) paint() {
	e := &easel{}
	for {
		select {
		case <-a.ctx.Done():
			return
		case <-a.wake:
		}
		err := a.guard("paint", func() error {
			s := a.snap(e)
			if s.nobody {
				e.canvases = nil
			}
			if len(s.pages) == 0 {
				return nil
			}
			var err error
			if s.maps, err = a.readMaps(s.sets, s.reads); err != nil {
				return err
			}
			return a.round(e, s)
		})
		if err != nil && !errors.Is(err, context.Canceled) {
			slog.Error("painting failed", "asset", a.ID, "error", err)
			a.mu.Lock()
			a.tell(Event{"t": "error", "text": err.Error()})
			a.mu.Unlock()
		}
	}
}

func (a *Asset) snap(e *easel) *snapshot {
	a.mu.Lock()
	defer a.mu.Unlock()
	s := &snapshot{doc: a.doc.Clone(), version: a.version, sets: a.sets, model: a.model}
	limit, sizes := a.size, a.intake.sizes()
	s.size = func(key string) int { return min(limit, sizes(key)) }
	if a.live != nil {
		s.doc, s.live = a.live.Clone(), true
	}
	s.nobody = len(a.pages) == 0
	for p := range a.pages {
		if !p.Look().Away {
			s.pages = append(s.pages, p)
		}
	}
	s.ctx, a.cancelPaint = context.WithCancel(a.ctx)
	key := easelKey{a.split, a.modelVersion}
	s.mapsOf = maps.Clone(a.mapsVersion)
	if e.canvases == nil || e.key != key {
		e.key, e.canvases = key, map[canvasKey]easelCanvas{}
	}
	if !a.model.HasUV || len(s.pages) == 0 {
		s.pages = nil
		return s
	}
	s.reads = compose.Reads(s.doc)
	return s
}

func (a *Asset) canvas(e *easel, s *snapshot, set *uv.Set, size int) (*compose.Canvas, error) {
	k := canvasKey{set.Key, size}
	if c, ok := e.canvases[k]; ok && c.maps == s.mapsOf[set.Key] && !slices.ContainsFunc(s.reads, func(k string) bool { return !slices.Contains(c.reads, k) }) {
		return c.Canvas, nil
	}
	c, err := compose.NewCanvas(s.ctx, s.model, set, size, s.maps[set.Key])
	if err != nil {
		return nil, err
	}
	e.canvases[k] = easelCanvas{c, s.mapsOf[set.Key], s.reads}
	return c, nil
}

func (a *Asset) round(e *easel, s *snapshot) error {
	e.trim(s)
	for i := range s.sets {
		if err := a.show(e, s, &s.sets[i], coarse(s.size(s.sets[i].Key)), false); err != nil {
			return err
		}
	}
	a.cards(e, s)
	if s.live {
		// The full picture waits until the control rests; a newer change ends the wait.
		select {
		case <-s.ctx.Done():
			return s.ctx.Err()
		case <-time.After(rest):
		}
	}
	for i := range s.sets {
		if err := a.show(e, s, &s.sets[i], s.size(s.sets[i].Key), true); err != nil {
			return err
		}
	}
	return a.cover(e, s)
}

// coarse is the size of a set's coarse picture.
func coarse(size int) int { return max(64, size/coarseStep) }

// trim drops canvases of sizes that are not wanted any more.
func (e *easel) trim(s *snapshot) {
	want := map[canvasKey]bool{}
	for i := range s.sets {
		key := s.sets[i].Key
		for _, size := range []int{s.size(key), coarse(s.size(key)), cardSize} {
			want[canvasKey{key, size}] = true
		}
	}
	for k := range e.canvases {
		if !want[k] {
			delete(e.canvases, k)
		}
	}
}

// show evaluates a set and gives each page the views that it wants.
func (a *Asset) show(e *easel, s *snapshot, set *uv.Set, size int, full bool) error {
	c, err := a.canvas(e, s, set, size)
	if errors.Is(err, surface.ErrEmpty) {
		return nil // Intake says what is wrong with it; the other sets go on
	}
	if err != nil {
		return err
	}
	ch, err := c.Evaluate(s.ctx, s.doc)
	if err != nil {
		return err
	}
	made := map[string]*Frame{}
	frame := func(name string, pix []uint8) *Frame {
		f := &Frame{Set: set.Key, View: name, Surf: c.Surf, Pix: pix, Full: full, Version: s.version}
		made[name] = f
		return f
	}
	for _, p := range s.pages {
		look := p.Look()
		for _, name := range []string{"base", "orm", "normal"} {
			f := made[name]
			if f == nil {
				pix, err := views[name].Quantise(s.ctx, ch, c.Len())
				if err != nil {
					return err
				}
				f = frame(name, pix)
			}
			p.frame(f)
		}
		switch look.Show {
		case "height":
			f := made["height"]
			if f == nil {
				pix, err := views["height"].Quantise(s.ctx, ch, c.Len())
				if err != nil {
					return err
				}
				f = frame("height", pix)
			}
			p.frame(f)
		case "where":
			pix, err := mask(s, c, look)
			if err != nil {
				return err
			}
			p.frame(&Frame{Set: set.Key, View: "where", Surf: c.Surf, Pix: pix, Full: full, Version: s.version})
		}
	}
	return nil
}

// mask is a layer's Where, or one clause of it, in grey. A layer that is gone shows nothing.
func mask(s *snapshot, c *compose.Canvas, look Look) ([]uint8, error) {
	out := make([]uint8, 3*c.Len())
	l, _, err := s.doc.Layer(look.Layer)
	if err != nil {
		return out, nil
	}
	v, err := c.Field(s.ctx, l, look.Clause)
	if err != nil {
		return nil, err
	}
	for i, x := range v {
		q := pixel.Q8(x)
		out[3*i], out[3*i+1], out[3*i+2] = q, q, q
	}
	return out, nil
}

// cards sends each page the pictures of its chosen layer's clauses on the flat map.
func (a *Asset) cards(e *easel, s *snapshot) {
	for _, p := range s.pages {
		look := p.Look()
		l, _, err := s.doc.Layer(look.Layer)
		if err != nil {
			continue
		}
		set, c := a.cardSet(e, s, l, look.Set)
		if set == nil {
			continue
		}
		pics := map[string]string{}
		for i := -1; i < len(l.Where); i++ {
			id := ""
			if i >= 0 {
				id = l.Where[i].ID
			}
			v, err := c.Field(s.ctx, l, id)
			if err != nil {
				return
			}
			pics[id] = card(c, v)
		}
		p.post(Event{"t": "cards", "layer": l.ID, "set": set.Key, "pics": pics})
	}
}

// cardSet is the set whose flat map the cards show: the one being looked at when the layer touches
// it, else the first that it touches.
func (a *Asset) cardSet(e *easel, s *snapshot, l *strata.Layer, want string) (first *uv.Set, of *compose.Canvas) {
	for i := range s.sets {
		c, err := a.canvas(e, s, &s.sets[i], cardSize)
		if err != nil || !c.Touches(l) {
			continue
		}
		if s.sets[i].Key == want {
			return &s.sets[i], c
		}
		if first == nil {
			first, of = &s.sets[i], c
		}
	}
	return first, of
}

func card(c *compose.Canvas, v []float32) string {
	n := c.Surf.Size
	im := &imgfile.Image{Width: n, Height: n, Channels: 1, Bits: 8, Pix8: make([]uint8, n*n)}
	for i := range im.Pix8 {
		im.Pix8[i] = 22 // the ground of the flat map
	}
	for i, x := range v {
		im.Pix8[c.Surf.Texel[i]] = 24 + uint8(float32(pixel.Q8(x))*230/255)
	}
	b, err := imgfile.Bytes(im)
	if err != nil {
		return ""
	}
	return "data:image/png;base64," + base64.StdEncoding.EncodeToString(b)
}

// cover measures how much of the targeted surface each layer shows on, and tells the pages.
func (a *Asset) cover(e *easel, s *snapshot) error {
	out := map[string]float64{}
	for i := range s.doc.Layers {
		l := &s.doc.Layers[i]
		sum, all := 0.0, 0.0
		for k := range s.sets {
			c, err := a.canvas(e, s, &s.sets[k], s.size(s.sets[k].Key))
			if errors.Is(err, surface.ErrEmpty) {
				continue
			}
			if err != nil {
				return err
			}
			covered, targeted, err := c.Coverage(s.ctx, l)
			if err != nil {
				return err
			}
			sum += covered * s.sets[k].Area
			all += targeted * s.sets[k].Area
		}
		if all > 0 {
			out[l.ID] = sum / all
		} else {
			out[l.ID] = 0
		}
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.coverage = out
	a.tell(Event{"t": "coverage", "of": out, "version": s.version})
	return nil
}

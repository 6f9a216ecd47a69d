package studio

import (
	"cmp"
	"context"
	"encoding/base64"
	"errors"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"crust/internal/core/bake"
	"crust/internal/core/brush"
	"crust/internal/core/compose"
	"crust/internal/core/geom"
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

// heavyTexels is from how many texels of all sets on the full picture is too much while a control is dragged.
const heavyTexels = 8 << 20

// mostWorked bounds the texels of all sets that are worked on together: some 60 bytes each are kept of them. It is eight sets of 2048 px,
// or 128 of 512.
const mostWorked = 8 * 2048 * 2048

// working is the size in px that sets are worked on in at the most: the one that was chosen, or less where there are so many sets that
// all together would not fit. The caller holds mu.
func (a *Asset) working() int {
	sizes := a.intake.sizes()
	limit := a.size
	for ; limit > Sizes[0]; limit /= 2 {
		all := 0
		for i := range a.sets {
			n := min(limit, sizes(a.sets[i].Key))
			all += n * n
		}
		if all <= mostWorked {
			break
		}
	}
	return limit
}

// rest is how long a dragged control must be still before the full picture is made.
const rest = 60 * time.Millisecond

// snapshot is what the painter needs of an asset at one moment.
type snapshot struct {
	doc     *strata.Document
	live    bool
	heavy   bool // too much to be made while a control is dragged
	version int
	touched string               // layer that was edited last
	size    func(key string) int // of a set, in px
	sets    []uv.Set
	model   *mesh.Model
	mapsOf  map[string]int            // versions by set
	reads   []string                  // kinds of maps
	around  bool                      // some layer reads surroundings
	pages   []*Page                   // that show something painted
	nobody  bool                      // has the asset open
	kept    map[uint]*strata.Document // keepsakes that pages compare with
	ctx     context.Context
	prog    *compose.Program // of the canvas worked on last
	ink     bool             // strokes that are being made alone are to be painted
	was     [2]bool          // what there was to do, wet and full
}

// program is the document's for a canvas; all canvases of a round take the same averages.
func (s *snapshot) program(c *compose.Canvas) (p *compose.Program, err error) {
	if s.prog == nil || s.prog.Body() != c.Body() {
		p, err = c.Compile(s.doc)
	} else {
		p, err = s.prog.For(c)
	}
	if err == nil {
		s.prog = p
	}
	return p, err
}

// paint is the painter: it waits for changes and makes the pictures, coarse first. Newer changes end
// older work.
func (a *Asset) paint() {
	e := &easel{}
	defer e.clear()
	for {
		select {
		case <-a.ctx.Done():
			return
		case q := <-a.asked:
			q(e)
			continue
		case <-a.wake:
		}
		err := a.guard("paint", func() error {
			s := a.snap(e)
			defer a.rounded()
			if s.nobody {
				e.clear()
			}
			if len(s.pages) == 0 {
				return nil
			}
			if s.ink {
				return a.paintInk(e, s)
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

// giveBack leaves to the painter's next round what a snapshot that was taken for something else had taken on.
func (a *Asset) giveBack(s *snapshot) {
	a.rounded()
	a.mu.Lock()
	defer a.mu.Unlock()
	a.wet, a.full, a.inkRound = a.wet || s.was[0], a.full || s.was[1], false
	if a.wet || a.full {
		select {
		case a.wake <- struct{}{}:
		default:
		}
	}
}

// rounded notes that a round has ended.
func (a *Asset) rounded() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.cancelPaint != nil {
		a.cancelPaint()
		a.cancelPaint = nil
	}
}

func (a *Asset) snap(e *easel) *snapshot {
	a.mu.Lock()
	defer a.mu.Unlock()
	of, live := a.doc, a.live != nil
	if live {
		of = a.live
	}
	s := &snapshot{version: a.version, sets: a.sets, model: a.model, live: live}
	limit, sizes := a.working(), a.intake.sizes()
	s.size = func(key string) int { return min(limit, sizes(key)) }
	var gone []geom.Box
	s.doc, e.wet, gone = a.withInk(of)
	e.gone = append(e.gone, gone...)
	s.ink, s.was = a.wet && e.sheets != nil, [2]bool{a.wet, a.full}
	a.wet, a.inkRound = false, s.ink
	if !s.ink {
		a.full = false
	}
	s.nobody = len(a.pages) == 0
	for p := range a.pages {
		if !p.Look().Away {
			s.pages = append(s.pages, p)
		}
	}
	if a.cancelPaint != nil {
		a.cancelPaint() // the round before is over
	}
	s.ctx, a.cancelPaint = context.WithCancel(a.ctx)
	texels := 0
	for i := range s.sets {
		n := s.size(s.sets[i].Key)
		texels += n * n
	}
	s.heavy = texels > heavyTexels
	a.finish = s.live && !s.heavy
	key := easelKey{a.split, a.modelVersion}
	s.mapsOf = maps.Clone(a.mapsVersion)
	if e.key != key {
		e.clear()
		e.key = key
	}
	if !a.model.HasUV || len(s.pages) == 0 {
		s.pages = nil
		return s
	}
	s.reads, s.touched, s.around = a.reads(s.doc), a.touched, compose.Surrounded(s.doc)
	s.kept = a.keptDocs(e, s.pages)
	for _, d := range s.kept {
		for _, k := range a.reads(d) {
			if !slices.Contains(s.reads, k) {
				s.reads = append(s.reads, k)
			}
		}
		s.around = s.around || compose.Surrounded(d)
	}
	return s
}

// sheet is the set's canvas with its pictures; a new one when its maps have changed.
func (a *Asset) sheet(e *easel, s *snapshot, set *uv.Set, size int) (*sheet, error) {
	a.embody(e, s)
	k := sheetKey{set.Key, size}
	old := e.sheets[k]
	if old != nil && old.maps == s.mapsOf[set.Key] && reads(old.reads, s.reads) && (old.Body() == e.body || !s.around) {
		return old, nil
	}
	c, err := compose.NewCanvas(s.ctx, e.body, set, size)
	if err != nil {
		return nil, err
	}
	now := newSheet(c, s.mapsOf[set.Key], s.reads)
	now.inherit(old)
	if old != nil {
		old.Close()
	}
	if e.sheets == nil {
		e.sheets = map[sheetKey]*sheet{}
	}
	e.sheets[k] = now
	return now, nil
}

// reads tells whether what has been read holds all that is wanted.
func reads(has, want []string) bool {
	return !slices.ContainsFunc(want, func(k string) bool { return !slices.Contains(has, k) })
}

// embody makes a body of the asset when there is none, or its maps have changed.
func (a *Asset) embody(e *easel, s *snapshot) {
	if e.body != nil && maps.Equal(e.maps, s.mapsOf) && reads(e.of, s.reads) {
		return
	}
	if e.body != nil {
		e.body.Close()
	}
	e.of, e.maps = s.reads, s.mapsOf
	e.body = compose.NewBody(a.studio.cache, s.model, s.sets, func(set string) (map[string]*bake.Map, error) { return a.mapsOf(s.sets, set, s.reads) }).Show(a.picture).Strokes(func(number int32) *brush.Stroke {
		if w := e.wet[number]; w != nil {
			return w
		}
		return a.Stroke(number)
	})
}

// paintInk paints what has come of strokes since it was called last, on the tiles that it touches, of pictures that are there
// already.
func (a *Asset) paintInk(e *easel, s *snapshot) error {
	defer func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		a.inkRound = false
		if a.full {
			a.restLater() // the rest is done when the strokes leave time for it
		}
	}()
	lags := false
	if e.body != nil {
		e.body.KeepWet(func(n int32) bool { return e.wet[n] != nil })
		lags = e.body.Hurry(true)
		defer e.body.Hurry(false)
	}
	reach := slices.Concat(e.gone, e.changed) // as far as strokes go
	for _, k := range e.wet {
		box := geom.EmptyBox()
		for _, b := range k.Repeated(s.model.Square).Boxes() {
			box = box.Union(b)
		}
		reach = append(reach, box)
	}
	names := s.views()
	for _, i := range s.order() {
		set := &s.sets[i]
		key := sheetKey{set.Key, s.size(set.Key)}
		c := e.sheets[key]
		if c == nil || c.views == nil || c.Body() != e.body || lags && !slices.ContainsFunc(reach, c.Meets) {
			continue
		}
		prog, err := s.program(c.Canvas)
		if err != nil {
			return err
		}
		e.changed = append(e.changed, e.body.Changed()...)
		if e.touched == nil {
			e.touched = map[sheetKey][]int{}
		}
		e.touched[key] = append(e.touched[key], c.Touched()...)
		tiles := prog.Near(c.Canvas, e.touched[key], e.gone, slices.Concat(e.owed, e.changed))
		if len(tiles) == 0 {
			continue
		}
		if err := c.paint(s.ctx, c, prog, names, compose.Pass{Tiles: tiles, Chosen: s.touched}, func() {}); err != nil {
			return err
		}
		for _, p := range s.pages {
			look := p.Look()
			for _, name := range names {
				if look.wants(name) {
					p.frame(&Frame{Set: set.Key, View: name, Full: true, picture: c.views[name], whole: true, version: s.version})
				}
			}
			if look.Show == "where" {
				if err := a.showWhereOn(s, c, prog, p, look, tiles); err != nil {
					return err
				}
			}
		}
	}
	if lags {
		e.owed = slices.Concat(e.owed, e.gone, e.changed)
	} else {
		e.owed = nil
	}
	e.gone, e.changed, e.touched = nil, nil, nil
	for _, p := range s.pages {
		p.inked(s.version)
	}
	return nil
}

// quiet is how long no sample of a stroke may come before the painter turns to other things.
const quiet = 150 * time.Millisecond

// restLater has the rest painted at once, or while strokes are being made, when the hand rests. The caller holds mu.
func (a *Asset) restLater() {
	if a.later != nil {
		a.later.Stop()
	}
	if len(a.inks) == 0 {
		a.nudge()
		return
	}
	a.later = time.AfterFunc(quiet, func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		if a.full && a.ctx.Err() == nil {
			a.nudge()
		}
	})
}

// showWhereOn brings the Where that a page looks at up to date on some tiles.
func (a *Asset) showWhereOn(s *snapshot, c *sheet, prog *compose.Program, p *Page, look Look, tiles []int) error {
	pic := p.where[frameKey{c.Set, "where", true}]
	_, layer, err := s.doc.Layer(look.Layer)
	if pic == nil || pic.sheet != c || err != nil {
		return nil
	}
	var mu sync.Mutex
	err = c.FieldOn(s.ctx, prog, layer, look.Clause, tiles, func(t int, v []float32) {
		pix := grey(v)
		mu.Lock()
		defer mu.Unlock()
		pic.put(t, pix)
	})
	if err == nil {
		p.frame(&Frame{Set: c.Set, View: "where", Full: true, picture: pic, whole: true, version: s.version})
	}
	return err
}

func (a *Asset) round(e *easel, s *snapshot) error {
	e.trim(s)
	for _, p := range s.pages {
		if p.Look().Show != "where" {
			clear(p.where)
		}
	}
	for i := range s.sets {
		// A coarse picture comes first where the full one takes a while.
		set := &s.sets[i]
		if s.heavy || e.sheets[sheetKey{set.Key, s.size(set.Key)}] == nil {
			if err := a.show(e, s, set, coarse(s.size(set.Key)), false); err != nil {
				return err
			}
		}
	}
	if s.live && s.heavy {
		a.cards(e, s)
		// The full picture waits until the control rests; a newer change ends the wait.
		select {
		case <-s.ctx.Done():
			return s.ctx.Err()
		case <-time.After(rest):
		}
	}
	for _, i := range s.order() {
		if err := a.show(e, s, &s.sets[i], s.size(s.sets[i].Key), true); err != nil {
			return err
		}
	}
	if !(s.live && s.heavy) {
		a.cards(e, s)
	}
	return a.cover(e, s)
}

// order are the places of the sets: first those that persons look at, then those of the flat maps that pages show.
func (s *snapshot) order() []int {
	rank := map[string]int{}
	for _, p := range s.pages {
		rank[p.Look().Set]++
		rank[p.Near().Set] += 1 + len(s.pages)
	}
	out := make([]int, len(s.sets))
	for i := range out {
		out[i] = i
	}
	slices.SortStableFunc(out, func(a, b int) int { return rank[s.sets[b].Key] - rank[s.sets[a].Key] })
	return out
}

// tiles are those of a set in the order in which they are evaluated: nearest to where a person looks first. Nil, for as they
// lie, when nobody looks at it.
func (s *snapshot) tiles(c *sheet) []int {
	i := slices.IndexFunc(s.pages, func(p *Page) bool { return p.Near().Set == c.Set })
	if i < 0 {
		return nil
	}
	near := s.pages[i].Near()
	out, far := make([]int, len(c.Surf.Tiles)), make([]float64, len(c.Surf.Tiles))
	for t := range out {
		tile := &c.Surf.Tiles[t]
		middle := func(at int32) float64 { return (float64(at) + 0.5) * surface.TileSize / float64(c.Surf.Size) }
		x, y := middle(tile.X)-near.X, middle(tile.Y)-near.Y
		out[t], far[t] = t, x*x+y*y
	}
	slices.SortStableFunc(out, func(a, b int) int { return cmp.Compare(far[a], far[b]) })
	return out
}

// coarse is the size of a set's coarse picture.
func coarse(size int) int { return max(64, size/coarseStep) }

// trim drops sheets of sizes that are not wanted any more.
func (e *easel) trim(s *snapshot) {
	want := map[sheetKey]bool{}
	for i := range s.sets {
		key := s.sets[i].Key
		for _, size := range []int{s.size(key), coarse(s.size(key)), cardSize} {
			want[sheetKey{key, size}] = true
		}
	}
	for k, c := range e.sheets {
		if !want[k] {
			c.Close()
			delete(e.sheets, k)
		}
	}
}

// clear drops all sheets.
func (e *easel) clear() {
	for _, c := range e.sheets {
		c.Close()
	}
	e.sheets = nil
	if e.body != nil {
		e.body.Close()
		e.body = nil
	}
}

// show evaluates what has changed of a set and gives each page the views that it wants.
func (a *Asset) show(e *easel, s *snapshot, set *uv.Set, size int, full bool) error {
	c, err := a.sheet(e, s, set, size)
	if errors.Is(err, surface.ErrEmpty) {
		return nil // Intake says what is wrong with it; the other sets go on
	}
	if err != nil {
		return err
	}
	prog, err := s.program(c.Canvas)
	if err != nil {
		return err
	}
	names := s.views()
	tell := func(whole bool) {
		for _, p := range s.pages {
			for _, name := range names {
				if p.Look().wants(name) {
					p.frame(&Frame{Set: set.Key, View: name, Full: full, picture: c.views[name], whole: whole, version: s.version})
				}
			}
		}
	}
	if err := c.paint(s.ctx, c, prog, names, compose.Pass{Tiles: s.tiles(c), Chosen: s.touched}, func() { tell(false) }); err != nil {
		return err
	}
	tell(true)
	if full {
		if err := a.showKept(s, c); err != nil {
			return err
		}
	}
	for _, p := range s.pages {
		if look := p.Look(); look.Show == "where" {
			if err := a.showWhere(s, c, prog, p, look, full); err != nil {
				return err
			}
		}
	}
	return nil
}

// tellEvery is after how many tiles pages begin to take what is ready.
const tellEvery = 16

// showWhere gives a page the Where, or one clause of it, that it looks at.
func (a *Asset) showWhere(s *snapshot, c *sheet, prog *compose.Program, p *Page, look Look, full bool) error {
	pix, err := mask(s, c.Canvas, prog, look)
	if err != nil {
		return err
	}
	k := frameKey{c.Set, "where", full}
	pic := p.where[k]
	if pic == nil || pic.sheet != c {
		pic = newPicture(c)
		p.where[k] = pic
	}
	for t := range c.Surf.Tiles {
		tile := &c.Surf.Tiles[t]
		pic.put(t, pix[3*tile.From:3*tile.To])
	}
	p.frame(&Frame{Set: c.Set, View: "where", Full: full, picture: pic, whole: true, version: s.version})
	return nil
}

// mask is a layer's Where, or one clause of it, in grey. A layer that is gone shows nothing.
func mask(s *snapshot, c *compose.Canvas, prog *compose.Program, look Look) ([]uint8, error) {
	_, layer, err := s.doc.Layer(look.Layer)
	if err != nil {
		return make([]uint8, 3*c.Len()), nil
	}
	v, err := c.Field(s.ctx, prog, layer, look.Clause)
	if err != nil {
		return nil, err
	}
	return grey(v), nil
}

// grey is values as texels in grey.
func grey(v []float32) []uint8 {
	out := make([]uint8, 3*len(v))
	for i, x := range v {
		q := pixel.Q8(x)
		out[3*i], out[3*i+1], out[3*i+2] = q, q, q
	}
	return out
}

// cards sends each page the pictures of its chosen layer's clauses on the flat map.
func (a *Asset) cards(e *easel, s *snapshot) {
	for _, p := range s.pages {
		look := p.Look()
		l, layer, err := s.doc.Layer(look.Layer)
		if err != nil {
			continue
		}
		set, c := a.cardSet(e, s, l, look.Set)
		if set == nil {
			continue
		}
		prog, err := s.program(c)
		if err != nil {
			return
		}
		pics := map[string]string{}
		for i := -1; i < len(l.Where); i++ {
			id := ""
			if i >= 0 {
				id = l.Where[i].ID
			}
			v, err := c.Field(s.ctx, prog, layer, id)
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
		c, err := a.sheet(e, s, &s.sets[i], cardSize)
		if err != nil || !c.Touches(l) {
			continue
		}
		if s.sets[i].Key == want {
			return &s.sets[i], c.Canvas
		}
		if first == nil {
			first, of = &s.sets[i], c.Canvas
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
	texels := c.Texels()
	for i, x := range v {
		im.Pix8[texels[i]] = 24 + uint8(float32(pixel.Q8(x))*230/255)
	}
	b, err := imgfile.Bytes(im)
	if err != nil {
		return ""
	}
	return "data:image/png;base64," + base64.StdEncoding.EncodeToString(b)
}

// cover measures how much of the targeted surface each layer shows on, and tells the pages.
func (a *Asset) cover(e *easel, s *snapshot) error {
	sum, all := make([]float64, len(s.doc.Layers)), make([]float64, len(s.doc.Layers))
	for k := range s.sets {
		c, err := a.sheet(e, s, &s.sets[k], s.size(s.sets[k].Key))
		if errors.Is(err, surface.ErrEmpty) {
			continue
		}
		if err != nil {
			return err
		}
		prog, err := s.program(c.Canvas)
		if err != nil {
			return err
		}
		for i := range sum {
			covered, targeted, err := c.Coverage(s.ctx, prog, i)
			if err != nil {
				return err
			}
			sum[i] += covered * s.sets[k].Area
			all[i] += targeted * s.sets[k].Area
		}
	}
	out := map[string]float64{}
	for i, v := range all {
		if v > 0 {
			out[s.doc.Layers[i].ID] = sum[i] / v
		} else {
			out[s.doc.Layers[i].ID] = 0
		}
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.coverage = out
	a.tell(Event{"t": "coverage", "of": out, "version": s.version})
	return nil
}

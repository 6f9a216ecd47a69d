package compose

import (
	"maps"
	"slices"
	"sync"

	"crust/internal/core/brush"
	"crust/internal/core/field"
	"crust/internal/core/geom"
	"crust/internal/core/strata"
)

// Painted finds a stroke by its number, nil when there is none. One that is being made is found as far as it has come.
type Painted func(number int32) *brush.Stroke

// Strokes gives the body the strokes of documents.
func (b *Body) Strokes(p Painted) *Body {
	b.painted = p
	return b
}

// painted is the strokes of a clause as they lie on the surface.
type painted struct {
	body  *Body
	list  strata.Strokes
	laid  []struck // those that are seen
	boxes []geom.Box
}

// struck is a stroke with the boxes of its pieces.
type struck struct {
	number int32
	box    geom.Box
	pieces []geom.Box
	stroke *brush.Stroke
	wet    bool   // it is being made
	state  uint64 // how far it has come, where it is wet
}

// perGroup is how many strokes share a box.
const perGroup = 32

// paintedOf makes the strokes of a clause ready. What was ready for the same clause before serves again as far as the lists agree.
func (b *Body) paintedOf(clause string, list strata.Strokes) *painted {
	p := &painted{body: b, list: list}
	n := 0
	if old := b.laid[clause]; old != nil {
		same := 0
		for same < len(list) && same < len(old.list) && list[same] == old.list[same] {
			same++
		}
		at := 0
		for _, k := range list[:same] {
			if at < len(old.laid) && old.laid[at].number == k {
				if old.laid[at].wet {
					break
				}
				at++
			}
			n++
		}
		p.laid = old.laid[:at:at]
		p.boxes = slices.Clone(old.boxes[:at/perGroup])
	}
	for _, k := range list[n:] {
		if k < 0 || b.painted == nil {
			continue
		}
		s := b.painted(k)
		if s == nil || len(s.Paths) == 0 {
			continue
		}
		l := struck{number: k, stroke: s, box: geom.EmptyBox(), pieces: s.Boxes(), wet: s.Loose()}
		if l.wet {
			l.state = s.State()
		}
		for i := range l.pieces {
			l.box = l.box.Union(l.pieces[i])
		}
		p.laid = append(p.laid, l)
	}
	for from := len(p.boxes) * perGroup; from < len(p.laid); from += perGroup {
		box := geom.EmptyBox()
		for i := from; i < min(len(p.laid), from+perGroup); i++ {
			box = box.Union(p.laid[i].box)
		}
		p.boxes = append(p.boxes, box)
	}
	if b.laid == nil {
		b.laid = map[string]*painted{}
	}
	b.laid[clause] = p
	return p
}

// near calls f for the strokes that may touch what lies in boxes, with a hash of what of each does, in their order.
func (p *painted) near(boxes []geom.Box, f func(l *struck, hash uint64)) {
	for g := range p.boxes {
		if !meets(&p.boxes[g], boxes) {
			continue
		}
		for i := g * perGroup; i < min(len(p.laid), (g+1)*perGroup); i++ {
			l := &p.laid[i]
			if !meets(&l.box, boxes) {
				continue
			}
			n, last := 0, false
			for k := range l.pieces {
				if meets(&l.pieces[k], boxes) {
					n++
					last = k >= len(l.pieces)-1
				}
			}
			if n == 0 {
				continue
			}
			h := uint64(l.number)
			if l.wet {
				h = mix(h, uint64(n))
				if last {
					h = mix(h, l.state)
				}
			}
			f(l, h)
		}
	}
}

func meets(a *geom.Box, of []geom.Box) bool {
	for i := range of {
		if brush.Meets(a, &of[i]) {
			return true
		}
	}
	return false
}

// boxes are what the places of a tile lie in, with so much round them.
func (g *ground) boxesOf(t int, grow float32) []geom.Box {
	in := g.in.boxes[t].box
	out := make([]geom.Box, len(in))
	for i := range in {
		b := &out[i]
		b.Min = geom.FromArray(in[i].low)
		b.Max = b.Min.Add(geom.FromArray(in[i].step).Mul(65535))
		b.Min, b.Max = b.Min.Sub(geom.Vec3{X: grow, Y: grow, Z: grow}), b.Max.Add(geom.Vec3{X: grow, Y: grow, Z: grow})
	}
	return out
}

// ink is what something depends on of strokes: those that lie within some metres.
type ink struct {
	of   *painted
	grow float32
}

// stamp hashes the strokes near a tile; 1 where there are none.
func (g *ground) stamp(inks []ink, t int) uint64 {
	h := uint64(1)
	for i := range inks {
		of := uint64(0)
		inks[i].of.near(g.boxesOf(t, inks[i].grow+g.pitch), func(_ *struck, hash uint64) { of = mix(of, hash) })
		if of != 0 {
			h = mix(mix(h, of), uint64(i))
		}
	}
	return h
}

// whereAt hashes all that a step's mask depends on at a tile.
func (g *ground) whereAt(s *step, t int) uint64 {
	if s.inks == nil {
		return s.where
	}
	at := &s.stamps[t]
	h := at.Load()
	if h == 0 {
		h = g.stamp(s.inks, t)
		at.Store(h)
	}
	if h == 1 {
		return s.where
	}
	return mix(s.where, h)
}

// inksOf are the strokes that a layer's own mask depends on.
func (p *plan) inksOf(i int) []ink {
	if p.inks == nil {
		p.inks = make([]*[]ink, len(p.doc.Layers))
	}
	if p.inks[i] != nil {
		return *p.inks[i]
	}
	p.inks[i] = new([]ink) // a layer that leads to itself, which there is none of, adds nothing
	l := &p.doc.Layers[i]
	var out []ink
	for k := range l.Where {
		if !l.Where[k].Off {
			out = append(out, p.inksOfClause(i, &l.Where[k])...)
		}
	}
	out = grown(out, p.spread(l.Soften))
	if b := p.doc.Base(i); b >= 0 {
		out = append(out, p.inksShown(b, i)...)
	}
	out = tidy(out)
	p.inks[i] = &out
	return out
}

// inksShown are those of where a layer shows as seen from another.
func (p *plan) inksShown(j, from int) (out []ink) {
	out = slices.Clone(p.inksOf(j))
	if p.doc.Layers[j].Group {
		for _, c := range p.tree.Holds(j) {
			out = append(out, p.inksShown(c, c)...)
		}
	}
	for _, a := range p.over(j, from) {
		out = append(out, p.inksOf(a)...)
	}
	return tidy(out)
}

// inksOfClause are those that a clause of a layer depends on.
func (p *plan) inksOfClause(i int, c *strata.Clause) []ink {
	out := p.inksSeen(i, c)
	if len(out) == 0 {
		return nil
	}
	if k, err := field.KindOf(c.Kind); err == nil && k.Radius != nil {
		out = grown(out, p.spread(float32(k.Radius(c.Values(k)))))
	}
	return grown(out, p.spread(c.Shape.Soften))
}

// inksSeen are those of what it sees at a place alone.
func (p *plan) inksSeen(i int, c *strata.Clause) (out []ink) {
	k, err := field.KindOf(c.Kind)
	if err != nil {
		return nil
	}
	switch {
	case k.Strokes && len(c.Strokes) > 0:
		return []ink{{p.strokes(c), 0}}
	case k.Layer:
		if j := p.sameAs(i, c); j >= 0 {
			return p.inksShown(j, i)
		}
	case c.Relief():
		seen := c
		if k.Needs&field.NeedHeight == 0 {
			seen = nil
		}
		for j := range p.tree.First[i] {
			l := &p.doc.Layers[j]
			if p.shows[j] && (l.Group || p.sees(seen, j)) {
				out = append(out, p.inksOf(j)...)
			}
		}
	}
	return tidy(out)
}

// strokes are those of a clause, made ready once.
func (p *plan) strokes(c *strata.Clause) *painted {
	if p.laid == nil {
		p.laid = map[string]*painted{}
	}
	if p.laid[c.ID] == nil {
		p.laid[c.ID] = p.body.paintedOf(c.ID, c.Strokes)
	}
	return p.laid[c.ID]
}

// spread is how far an average over a radius reaches.
func (p *plan) spread(radius float32) float32 {
	if radius <= 0 {
		return 0
	}
	return radius + 2*reach*p.body.spacing(radius)
}

func grown(of []ink, by float32) []ink {
	if by == 0 {
		return of
	}
	out := slices.Clone(of)
	for i := range out {
		out[i].grow += by
	}
	return out
}

// tidy leaves each clause's strokes once, as far as they reach at the most.
func tidy(of []ink) (out []ink) {
	for _, k := range of {
		if n := slices.IndexFunc(out, func(o ink) bool { return o.of == k.of }); n >= 0 {
			out[n].grow = max(out[n].grow, k.grow)
		} else {
			out = append(out, k)
		}
	}
	return out
}

// wet is what the stroke that is being made has laid down on a tile so far, of the marks that do not change any more.
type wet struct {
	mu    sync.Mutex
	marks int
	cover []float32
}

type wetKey struct {
	ground uint64
	tile   int
	number int32
}

// wets are those of a body.
type wets struct {
	mu   sync.Mutex
	at   map[wetKey]*wet
	inks map[int32]*brush.Ink // of strokes as far as they have come
}

// KeepWet lets go what is kept of strokes that are not being made any more.
func (b *Body) KeepWet(made func(number int32) bool) {
	w := &b.wets
	w.mu.Lock()
	defer w.mu.Unlock()
	maps.DeleteFunc(w.at, func(k wetKey, _ *wet) bool { return !made(k.number) })
	maps.DeleteFunc(w.inks, func(n int32, _ *brush.Ink) bool { return !made(n) })
}

// wet finds what a stroke has laid down on a tile.
func (w *wets) wet(g *ground, t int, l *struck) (*wet, *brush.Ink) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.at == nil {
		w.at, w.inks = map[wetKey]*wet{}, map[int32]*brush.Ink{}
	}
	ink := w.inks[l.number]
	if ink == nil || ink.Stroke() != l.stroke {
		ink = brush.Ready(l.stroke)
		w.inks[l.number] = ink
	}
	k := wetKey{g.id, t, l.number}
	if w.at[k] == nil {
		w.at[k] = &wet{cover: make([]float32, g.tiles[t].Len())}
	}
	return w.at[k], ink
}

// inkOf is a stroke made ready.
func (b *Body) inkOf(l *struck) *brush.Ink {
	at := cacheKey{b.inkID, -1, uint64(l.number)}
	if k, ok := b.cache.get(at).(*brush.Ink); ok {
		return k
	}
	k := brush.Ready(l.stroke)
	b.cache.put(at, k, k.Bytes())
	return k
}

// paint is what the strokes of a clause lay down on a tile, in 16 bits; nil for nothing.
func (g *ground) paint(k *scratch, p *painted, t int) []uint16 {
	boxes := g.boxesOf(t, g.pitch)
	var list []*struck
	keys := []uint64{keptPaint} // before each of them, and at the end
	p.near(boxes, func(l *struck, hash uint64) {
		list = append(list, l)
		keys = append(keys, mix(keys[len(keys)-1], hash))
	})
	if list == nil {
		return nil
	}
	// What the strokes before the last few made is mostly there still.
	done, v := 0, []uint16(nil)
	for n := len(list); n > max(0, len(list)-3); n-- {
		if have, ok := g.body.cache.get(cacheKey{g.id, int32(t), keys[n]}).([]uint16); ok {
			done, v = n, have
			break
		}
	}
	if done == len(list) {
		return v
	}
	n := g.tiles[t].Len()
	v = append(make([]uint16, 0, n), v...)[:n]
	g.widen(k, t, field.NeedPlace|field.NeedNormal)
	b := &k.block
	at := &brush.Places{X: b.X, Y: b.Y, Z: b.Z, NX: b.NX, NY: b.NY, NZ: b.NZ, Boxes: boxes, Pitch: g.pitch}
	cover := k.cover[:n]
	for i, l := range list[done:] {
		if !l.wet {
			clear(cover)
			ink := g.body.inkOf(l)
			ink.Lay(at, 0, ink.All(), cover)
			g.finish(ink, at, t, cover)
			ink.Over(v, cover)
			if last := done + i + 1; last >= len(list)-1 {
				g.body.cache.put(cacheKey{g.id, int32(t), keys[last]}, slices.Clone(v), 2*n)
			}
			continue
		}
		w, ink := g.body.wets.wet(g, t, l)
		w.mu.Lock()
		if w.marks < ink.Stable() {
			ink.Lay(at, w.marks, ink.Stable(), w.cover)
			w.marks = ink.Stable()
		}
		copy(cover, w.cover)
		w.mu.Unlock()
		ink.Lay(at, ink.Stable(), ink.All(), cover)
		g.finish(ink, at, t, cover)
		ink.Over(v, cover)
	}
	return v
}

// finish ends a stroke's coverage of a tile.
func (g *ground) finish(ink *brush.Ink, at *brush.Places, t int, cover []float32) {
	ink.Finish(at, cover)
	h := ink.Stroke().Hold
	if h == nil || h.Part == "" && h.Set == "" {
		return
	}
	part, any := g.body.parts[h.Part]
	g.each(t, func(from, to int, tri int32) {
		if h.Part != "" && !(any && g.body.model.Part[tri] == part) {
			clear(cover[from:to])
		}
		if s := g.body.setOf[tri]; h.Set != "" && (s < 0 || g.body.sets[s].Key != h.Set) {
			clear(cover[from:to])
		}
	})
}

// Near lists the tiles of a canvas on which what lies in a box may show, by any of the program's steps.
func (p *Program) Near(c *Canvas, box geom.Box) (out []int) {
	most := 4 * c.pitch
	for i := range p.plan.doc.Layers {
		for _, k := range p.plan.inksOf(i) {
			most = max(most, k.grow+4*c.pitch)
		}
	}
	grow := geom.Vec3{X: most, Y: most, Z: most}
	box = geom.Box{Min: box.Min.Sub(grow), Max: box.Max.Add(grow)}
	for t := range c.tiles {
		if meets(&box, c.boxesOf(t, 0)) || meets(&box, c.rim.boxesOf(t, 0)) {
			out = append(out, t)
		}
	}
	return out
}

// maskAt is the mask of a step with strokes at a tile, which is kept by all that it depends on there.
type maskAt struct{ *mask }

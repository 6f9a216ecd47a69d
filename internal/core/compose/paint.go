package compose

import (
	"iter"
	"slices"
	"sync/atomic"

	"crust/internal/core/brush"
	"crust/internal/core/field"
	"crust/internal/core/geom"
	"crust/internal/core/pixel"
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
	apart []int32  // places of those that bring values of their own, or take from places round
	boxes []geom.Box
	reach float32 // from how far away some of them take what was painted before
}

// struck is a stroke with the boxes of its pieces.
type struck struct {
	number int32
	box    geom.Box
	pieces []geom.Box
	stroke *brush.Stroke
	wet    bool // it is being made
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
		end, _ := slices.BinarySearch(old.apart, int32(at))
		p.apart = old.apart[:end:end]
	}
	for _, k := range list[n:] {
		if k < 0 || b.painted == nil {
			continue
		}
		s := b.painted(k)
		if s == nil || len(s.Paths) == 0 {
			continue
		}
		s = b.Repeated(s)
		l := struck{number: k, stroke: s, box: geom.EmptyBox(), pieces: s.Boxes(), wet: s.Loose()}
		for i := range l.pieces {
			l.box = l.box.Union(l.pieces[i])
		}
		if s.WorkReach() > 0 || s.Own != nil || s.Coloured() || s.Leans() {
			p.apart = append(p.apart, int32(len(p.laid)))
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
	for _, i := range p.apart {
		p.reach = max(p.reach, p.laid[i].stroke.WorkReach())
	}
	if b.laid == nil {
		b.laid = map[string]*painted{}
	}
	b.laid[clause] = p
	return p
}

// Repeated is a stroke as it is made on the surface: on a square that repeats, on its copies, too.
func (b *Body) Repeated(s *brush.Stroke) *brush.Stroke {
	if b.piece == nil {
		return s
	}
	if len(b.repeated) > mostRepeated {
		clear(b.repeated)
	}
	if b.repeated[s] == nil {
		b.repeated[s] = s.Repeated(b.piece)
	}
	return b.repeated[s]
}

// mostRepeated bounds the strokes that are kept so; they share their paths with those that they were made of.
const mostRepeated = 100_000

// near calls f for the strokes that may touch places of a tile, with a hash of what each does there, in their order.
func (p *painted) near(on *ground, t int, f func(l *struck, hash uint64)) {
	boxes := on.boxesOf(t)
	meets := func(a *geom.Box, of []geom.Box) bool {
		b := wider(a, on.pitch+p.reach)
		return meets(&b, of)
	}
	for g := range p.boxes {
		if !meets(&p.boxes[g], boxes) {
			continue
		}
		for i := g * perGroup; i < min(len(p.laid), (g+1)*perGroup); i++ {
			l := &p.laid[i]
			if of := p.body.filled(l); of != nil {
				if on.fillsSome(of, t) {
					f(l, uint64(l.number))
				}
				continue
			}
			if l.wet && p.reach == 0 && on.canvas != nil {
				// What it lays down is known.
				if v := p.body.wets.version(on, t, l); v != 0 {
					f(l, mix(uint64(l.number), v))
				}
				continue
			}
			if !meets(&l.box, boxes) || !slices.ContainsFunc(l.pieces, func(b geom.Box) bool { return meets(&b, boxes) && meets(&b, on.runsOf(t)) }) {
				continue
			}
			h := uint64(l.number)
			if l.wet {
				h = mix(h, p.body.wets.version(on, t, l))
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

// wider is a box with so much round it.
func wider(b *geom.Box, by float32) geom.Box {
	grow := geom.Vec3{X: by, Y: by, Z: by}
	return geom.Box{Min: b.Min.Sub(grow), Max: b.Max.Add(grow)}
}

// boxesOf are what the places of a tile lie in.
func (g *ground) boxesOf(t int) []geom.Box {
	g.boxed.Do(func() {
		g.boxes, g.runs = make([][]geom.Box, len(g.tiles)), make([]atomic.Pointer[[]geom.Box], len(g.tiles))
		for t := range g.tiles {
			for _, in := range g.in.boxes[t].box {
				low := geom.FromArray(in.low)
				g.boxes[t] = append(g.boxes[t], geom.Box{Min: low, Max: low.Add(geom.FromArray(in.step).Mul(65535))})
			}
		}
	})
	return g.boxes[t]
}

// ink is what the mask of a step depends on of strokes: those of a clause, at the place itself or as the slope there, or an
// average of something that depends on some.
type ink struct {
	of    *painted
	slope bool
	mean  *around
}

// strokes lists the numbers of all strokes that are seen and done.
func (k ink) strokes() iter.Seq[int32] {
	return func(yield func(int32) bool) {
		if k.of != nil {
			for i := range k.of.laid {
				if !k.of.laid[i].wet && !yield(k.of.laid[i].number) {
					return
				}
			}
			return
		}
		for _, in := range k.mean.inks {
			for n := range in.strokes() {
				if !yield(n) {
					return
				}
			}
		}
	}
}

// stamp hashes what lies on a tile of strokes, and what is averaged over them; 1 where there is nothing.
func (g *ground) stamp(k *scratch, inks []ink, t int) uint64 {
	h := uint64(1)
	for i, ink := range inks {
		of := uint64(0)
		take := func(_ *struck, hash uint64) { of = mix(of, hash) }
		if ink.of != nil {
			ink.of.near(g, t, take)
			if ink.slope && g.canvas != nil && g.canvas.ground == g {
				for _, n := range g.canvas.beside(t) {
					if n >= 0 {
						ink.of.near(g, n, take)
					}
				}
				ink.of.near(g.canvas.rim, t, take)
			}
		} else {
			of = ink.mean.stamp(k, g, t)
		}
		if of != 0 {
			h = mix(mix(h, of), uint64(i))
		}
	}
	return h
}

// whereAt hashes all that a step's mask depends on at a tile.
func (g *ground) whereAt(k *scratch, s *step, t int) uint64 {
	if s.inks == nil {
		return s.where
	}
	at := &s.stamps[t]
	h := at.Load()
	if h == 0 {
		if h = g.stamp(k, s.inks, t); k.lost {
			return s.where
		}
		at.Store(h)
	}
	if h == 1 {
		return s.where
	}
	return mix(s.where, h)
}

// runsOf are boxes of so many places of a tile each that follow each other, as brush.Places has them.
func (g *ground) runsOf(t int) []geom.Box {
	g.boxesOf(t)
	at := &g.runs[t]
	if r := at.Load(); r != nil {
		return *r
	}
	from, to := int(g.tiles[t].From), int(g.tiles[t].To)
	out := make([]geom.Box, 0, (to-from+brush.Run-1)/brush.Run)
	b, k := &g.in.boxes[t], 0
	for i := from; i < to; i++ {
		if (i-from)%brush.Run == 0 {
			out = append(out, geom.EmptyBox())
		}
		for i-from >= int(b.run[k].to) {
			k++
		}
		o := &b.box[b.run[k].box]
		box := &out[len(out)-1]
		*box = box.Add(geom.Vec3{X: o.low[0] + float32(g.in.pos[0][i])*o.step[0], Y: o.low[1] + float32(g.in.pos[1][i])*o.step[1], Z: o.low[2] + float32(g.in.pos[2][i])*o.step[2]})
	}
	at.Store(&out)
	return out
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
	if l.Soften > 0 && len(out) > 0 {
		out = append(out, ink{mean: p.softenedWhere(i)})
	}
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
	if k, err := field.KindOf(c.Kind); err == nil && k.Radius != nil && k.Radius(c.Values(k)) > 0 {
		out = append(out, ink{mean: p.meanHeight(i, c)})
	}
	if c.Shape.Soften > 0 {
		if n := slices.IndexFunc(p.doc.Layers[i].Where, func(o strata.Clause) bool { return o.ID == c.ID }); n >= 0 {
			out = append(out, ink{mean: p.softenedClause(i, n)})
		}
	}
	return out
}

// inksSeen are those of what it sees at a place alone.
func (p *plan) inksSeen(i int, c *strata.Clause) (out []ink) {
	k, err := field.KindOf(c.Kind)
	if err != nil {
		return nil
	}
	switch {
	case k.Needs&field.NeedRuns != 0:
		return nil // its key holds all that it depends on
	case k.Strokes && len(c.Strokes) > 0:
		return []ink{{of: p.strokes(c)}}
	case k.Layer:
		if j := p.sameAs(i, c); j >= 0 {
			return p.inksShown(j, i)
		}
	case c.Relief():
		seen, slope := c, k.Needs&field.NeedHeight == 0
		if slope {
			seen = nil
		}
		for j := range p.tree.First[i] {
			l := &p.doc.Layers[j]
			if p.shows[j] && (l.Group || p.sees(seen, j)) {
				for _, k := range p.inksOf(j) {
					k.slope = k.slope || slope && k.of != nil
					out = append(out, k)
				}
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

// tidy leaves each once.
func tidy(of []ink) (out []ink) {
	for _, k := range of {
		if !slices.Contains(out, k) {
			out = append(out, k)
		}
	}
	return out
}

// places are those of a tile as brushes see them.
func (g *ground) places(k *scratch, t int) *brush.Places {
	g.widen(k, t, field.NeedPlace|field.NeedNormal)
	b := &k.block
	return &brush.Places{X: b.X, Y: b.Y, Z: b.Z, NX: b.NX, NY: b.NY, NZ: b.NZ, Boxes: g.boxesOf(t), Runs: g.runsOf(t), Pitch: g.pitch}
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

// madeReady is a stroke made ready, whether it is done or being made still.
func (b *Body) madeReady(l *struck) *brush.Ink {
	if !l.wet {
		return b.inkOf(l)
	}
	b.wets.mu.Lock()
	defer b.wets.mu.Unlock()
	return b.wets.inks[l.number]
}

// paint is what the strokes of a clause lay down on a tile, in 16 bits; nil for nothing.
func (g *ground) paint(k *scratch, p *painted, t int) []uint16 {
	var list []*struck
	keys := []uint64{keptPaint} // before each of them, and at the end
	p.near(g, t, func(l *struck, hash uint64) {
		list = append(list, l)
		keys = append(keys, mix(keys[len(keys)-1], hash))
	})
	if list == nil {
		return nil
	}
	// What the strokes before the last few made is mostly there still.
	done, v := 0, []uint16(nil)
	starts := resumes(list)
	for _, n := range starts {
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
	cover := k.cover[:n]
	for i := done; i < len(list); i++ {
		l := list[i]
		if l.stroke.Work != "" {
			first := i
			i = runOf(list, i) - 1
			g.workOver(k, list[:first], list[first:i+1], t, g.places(k, t), v)
			l = list[i]
		} else {
			g.struck(k, t, l, cover)
			pixel.Cover16(v, cover, l.stroke.Erase)
		}
		if last := i + 1; !l.wet && (last >= len(list)-1 || slices.Contains(starts, last)) {
			g.body.cache.put(cacheKey{g.id, int32(t), keys[last]}, slices.Clone(v), 2*n)
		}
	}
	return v
}

// workOver has a run of strokes work on what those before them laid down on a tile.
func (g *ground) workOver(k *scratch, prior, run []*struck, t int, at *brush.Places, v []uint16) {
	out := &strokesAt{cover: make([]float32, len(v))}
	pixel.Widen(out.cover, v, 1./65535)
	g.worked(k, prior, run, t, &strewn{at: at}, nil, 0, out)
	pixel.Narrow(v, out.cover)
}

// struck is what a stroke lays down on a tile.
func (g *ground) struck(k *scratch, t int, l *struck, cover []float32) {
	if g.fills(k, l, t, cover) {
		return
	}
	if !l.wet {
		at := g.places(k, t)
		clear(cover)
		ink := g.body.inkOf(l)
		ink.Lay(at, 0, ink.All(), cover)
		ink.Finish(at, cover)
		g.hold(k, at, ink, t, 0, cover)
		return
	}
	w := g.body.wets.wet(g, k, t, l, g.body.madeReady(l), nil)
	w.mu.Lock()
	defer w.mu.Unlock()
	copy(cover, w.cover)
}

// hold clears the coverage of a stroke where it is held from, at places of a tile from one on, which p holds.
func (g *ground) hold(k *scratch, p *brush.Places, ink *brush.Ink, t, from int, cover []float32) {
	s := ink.Stroke()
	h := s.Hold
	if h == nil {
		return
	}
	if h.Part != "" || h.Set != "" || h.Island {
		part, known := g.body.parts[h.Part]
		var island []bool
		if h.Island {
			island = g.body.from(s, brush.FillIsland)
		}
		g.each(t, func(a, b int, tri int32) {
			if a, b = max(0, a-from), min(len(cover), b-from); a >= b {
				return
			}
			set := g.body.setOf[tri]
			if h.Part != "" && !(known && g.body.model.Part[tri] == part) || h.Set != "" && (set < 0 || g.body.sets[set].Key != h.Set) || island != nil && !island[tri] {
				clear(cover[a:b])
			}
		})
	}
	if h.ID {
		g.keepID(k, s, t, from, cover)
	}
	if h.Seen {
		g.unseen(k, p, geom.FromArray(h.Eye), cover)
	}
}

// Meets tells whether places of a canvas, or what lies across its seams, may lie in a box.
func (c *Canvas) Meets(box geom.Box) bool {
	box = wider(&box, 4*c.pitch)
	for t := range c.tiles {
		if meets(&box, c.boxesOf(t)) || meets(&box, c.rim.boxesOf(t)) {
			return true
		}
	}
	return false
}

// Near lists the tiles of a canvas on which what has changed may show, by any of the program's steps: on these tiles that strokes have
// touched, and anywhere in some boxes. afar are boxes of what was touched, now and before: averages that depend on strokes see it from
// farther away; without such averages they do not count.
func (p *Program) Near(c *Canvas, touched []int, boxes, afar []geom.Box) (out []int) {
	most := 4 * c.pitch
	for _, a := range p.plan.around {
		if a.inks != nil && !p.plan.body.lag {
			most += a.radius + (leastReach+2)*p.plan.body.spacing(a.radius) // the cells of readings, and one may be made of another
		}
	}
	if most > 4*c.pitch {
		boxes = slices.Concat(boxes, afar)
	}
	in := make([]bool, len(c.tiles))
	for _, t := range touched {
		in[t] = true
		if p.relief == nil {
			continue
		}
		for _, n := range c.beside(t) { // slopes at the rim of a tile depend on these
			if n >= 0 {
				in[n] = true
			}
		}
	}
	all := geom.EmptyBox()
	wide := make([]geom.Box, len(boxes))
	for i := range boxes {
		wide[i] = wider(&boxes[i], most)
		all = all.Union(wide[i])
	}
	near := func(g *ground, t int) bool {
		of := g.boxesOf(t)
		return meets(&all, of) && slices.ContainsFunc(wide, func(b geom.Box) bool { return meets(&b, of) && meets(&b, g.runsOf(t)) })
	}
	for t := range c.tiles {
		if in[t] || len(boxes) > 0 && (near(c.ground, t) || near(c.rim, t)) {
			out = append(out, t)
		}
	}
	return out
}

// maskAt is the mask of a step with strokes at a tile, which is kept by all that it depends on there.
type maskAt struct{ *mask }

package compose

import (
	"slices"

	"crust/internal/core/pixel"
	"crust/internal/core/strata"
)

// flatGroup is a flattened group. Most blend modes lead to a value that rises in a straight line with what lies below, and so
// does any number of them, faded or not: two maps for each plane, what the group makes of 0 and of 1, say all that it does.
// Planes for which that does not hold are laid as ever.
type flatGroup struct {
	run   []turn          // the group's, with its own two turns where it has a say
	keys  [blended]uint64 // by plane: of all that its maps depend on
	lines uint16          // a bit for each plane that two maps are enough for
}

// flatten is a group as a flattened one, nil when it is not flattened. In a group that is laid over nothing first it stays open: how much
// it covers would have to be known there too.
func (p *plan) flatten(i int, in []turn) *flatGroup {
	if !p.doc.Layers[i].Flat {
		return nil
	}
	for a := p.tree.Parent[i]; a >= 0; a = p.tree.Parent[a] {
		if p.doc.Layers[a].Blend != "" {
			return nil
		}
	}
	if p.strokesIn(i) {
		return nil // strokes change tile by tile
	}
	f := &flatGroup{run: in}
	for c, ch := range strata.Channels {
		if p.straight(i, &ch) {
			for k := firstPlane[c]; k == firstPlane[c] || k < blended && firstOf[k] == firstPlane[c]; k++ {
				f.lines |= 1 << k
			}
		}
	}
	return f
}

// strokesIn tells whether something that a layer shows depends on strokes.
func (p *plan) strokesIn(i int) bool {
	return len(p.inksOf(i)) > 0 || slices.ContainsFunc(p.tree.Holds(i), p.strokesIn)
}

// firstOf is the first plane of the channel that a plane belongs to.
var firstOf = func() (out [blended]int) {
	for _, ch := range channelPlanes {
		for k := ch[0]; k < ch[1]; k++ {
			out[k] = ch[0]
		}
	}
	return out
}()

// straight tells whether what a layer makes of a channel rises in a straight line with what lies below.
func (p *plan) straight(i int, ch *strata.Channel) bool {
	l := &p.doc.Layers[i]
	if !l.Group {
		v := ch.Of(&l.What)
		return !v.On || v.Opacity == 0 || v.Adjust == nil && straightBlend(v.Blend, ch)
	}
	if l.Blend != "" {
		return straightBlend(l.Blend, ch) // what it holds lies over nothing
	}
	for _, k := range p.tree.Holds(i) {
		if p.shows[k] && !p.straight(k, ch) {
			return false
		}
	}
	return true
}

func straightBlend(name string, ch *strata.Channel) bool {
	b, err := pixel.BlendOf(name)
	switch {
	case err != nil:
		return false
	case ch.Name == "normal":
		return b.Name != "add" // which turns by what lies below
	case b.Name == "add":
		return ch.Name == "height" // others end at 1
	}
	return b.Straight()
}

// close finds the keys of the planes, each of the turns that lay it down.
func (f *flatGroup) close() {
	for _, t := range f.run {
		for p := range f.keys {
			if t.lays>>p&1 == 1 {
				f.keys[p] = mix(mix(f.keys[p], t.where), t.what)
			}
		}
	}
}

// turn is the one turn that stands for the group.
func (f *flatGroup) turn(layer int) turn {
	all := uint64(keptFlat)
	for _, k := range f.keys {
		all = mix(all, k)
	}
	return turn{step: &step{layer: layer, full: true, where: all, what: 1, relief: f.keys[planeHeight], bend: f.keys[planeBend]}, flat: f, lays: planesOf(f.run)}
}

// line is what a flat makes of 0 and of 1 in a plane: in 16 bits where values lie in 0–1. All nil where it changes nothing.
type line struct {
	zero, one         []uint16
	wideZero, wideOne []float32
}

func (l *line) bytes() int { return 2*(len(l.zero)+len(l.one)) + 4*(len(l.wideZero)+len(l.wideOne)) }

// flattened is what a flat does on a tile.
type flattened struct {
	lines   [blended]*line
	live    *blendPlanes // planes that its turns lay as ever; nil for none
	masks   []*mask
	sources [][][3][]uint16
	inner   []*flattened
}

// flats reads or makes what the flats among turns do on a tile; nil where there are none.
func (g *ground) flats(k *scratch, run []turn, t int, planes *blendPlanes) (out []*flattened) {
	for i := range run {
		if run[i].flat == nil {
			continue
		}
		if out == nil {
			out = make([]*flattened, len(run))
		}
		out[i] = g.flattened(k, &run[i], t, planes)
	}
	return out
}

func (g *ground) flattened(k *scratch, s *turn, t int, planes *blendPlanes) *flattened {
	f, out := s.flat, &flattened{}
	var missing blendPlanes
	some := false
	n := g.tiles[t].Len()
	for p, plane := range planes {
		switch {
		case plane == nil || s.lays>>p&1 == 0:
		case f.lines>>p&1 == 0:
			if out.live == nil {
				out.live = new(blendPlanes)
			}
			out.live[p] = plane
		default:
			l, ok := g.body.cache.get(g.flatKey(f, t, p)).(*line)
			if out.lines[p] = l; !ok {
				v := make([]float32, n)
				missing[p], some = &v, true
			}
		}
	}
	if some {
		zero := missing
		g.lay(k, f.run, t, &zero)
		for p, of := range missing {
			if of == nil {
				continue
			}
			l := &line{}
			if p < planeHeight {
				l.zero = make([]uint16, n)
				pixel.Narrow(l.zero, *of)
				fill(*of, 1)
			} else {
				l.wideZero = *of
				v := make([]float32, n)
				fill(v, 1)
				missing[p] = &v
			}
			out.lines[p] = l
		}
		g.lay(k, f.run, t, &missing)
		for p, of := range missing {
			if of == nil {
				continue
			}
			l := out.lines[p]
			if p < planeHeight {
				l.one = make([]uint16, n)
				pixel.Narrow(l.one, *of)
			} else {
				l.wideOne = *of
			}
			if l.nothing() {
				*l = line{}
			}
			if !k.lost {
				g.body.cache.put(g.flatKey(f, t, p), l, l.bytes())
			}
		}
	}
	if out.live != nil {
		out.masks = g.masksFor(k, f.run, t)
		out.sources = g.sourced(k, f.run, out.masks, t, out.live)
		out.inner = g.flats(k, f.run, t, out.live)
	}
	return out
}

func (g *ground) flatKey(f *flatGroup, t, plane int) cacheKey {
	return cacheKey{g.id, int32(t), mix(mix(keptFlat, f.keys[plane]), uint64(plane))}
}

// nothing tells whether a line leaves what lies below as it is.
func (l *line) nothing() bool {
	for i, v := range l.zero {
		if v != 0 || l.one[i] != 65535 {
			return false
		}
	}
	for i, v := range l.wideZero {
		if v != 0 || l.wideOne[i] != 1 {
			return false
		}
	}
	return true
}

// lay does on a run of texels what the flat does.
func (f *flattened) lay(b *blending, run []turn) {
	for p, l := range f.lines {
		if l == nil || l.zero == nil && l.wideZero == nil {
			continue
		}
		plane := b.of(p)
		if l.zero == nil {
			zero, one := l.wideZero[b.at:b.end], l.wideOne[b.at:b.end]
			for i, v := range plane {
				plane[i] = zero[i] + (one[i]-zero[i])*v
			}
			continue
		}
		zero, one := b.k.own3[0][:len(plane)], b.k.own3[1][:len(plane)]
		pixel.Widen(zero, l.zero[b.at:b.end], 1./65535)
		pixel.Widen(one, l.one[b.at:b.end], 1./65535)
		pixel.Between(one, zero, plane)
		copy(plane, one)
	}
	if f.live != nil {
		inner := *b
		inner.planes = f.live
		inner.lay(run, f.masks, f.sources, f.inner)
	}
}

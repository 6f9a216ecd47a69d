package compose

import (
	"context"
	"slices"
	"sync/atomic"

	"crust/internal/core/par"
	"crust/internal/core/pixel"
	"crust/internal/core/strata"
	"crust/internal/core/surface"
)

// The bare surface under the lowest layer: mid grey, fairly rough, not metal, whole and unlit.
const (
	bareColour    = 0.55
	bareRoughness = 0.7
)

// worthKeeping is from how many steps on what lies under the chosen one is kept; fewer are laid anew.
const worthKeeping = 3

// mask is a layer's finished Where over a tile, in 16 bits.
type mask struct {
	v     []uint16      // nil where it is 0 all over, and after the cache had to let it go
	empty bool          // it is 0 all over
	shown int           // on how many texels it is coverageStep or more
	used  atomic.Uint32 // see Cache.use
}

// coverageStep is 5 % in 16 bits: from there on a layer counts as showing.
const coverageStep = 3277

// below is the blended planes of a tile under a step: 16 bits of what lies in 0–1, the others whole. Those that no layer of
// the document lays down are nil.
type below struct {
	unit  [planeHeight][]uint16
	whole [blended - planeHeight][]float32
	bytes int
}

func newBelow(planes *blendPlanes) *below {
	b := &below{}
	for i, p := range planes {
		switch {
		case p == nil:
		case i < planeHeight:
			b.unit[i] = make([]uint16, len(*p))
			pixel.Narrow(b.unit[i], *p)
			b.bytes += 2 * len(*p)
		default:
			b.whole[i-planeHeight] = slices.Clone(*p)
			b.bytes += 4 * len(*p)
		}
	}
	return b
}

// put writes the planes back.
func (b *below) put(planes *blendPlanes) {
	for i, p := range planes {
		switch {
		case p == nil:
		case i < planeHeight:
			unsigned(*p, b.unit[i], 0, 0)
		default:
			copy(*p, b.whole[i-planeHeight])
		}
	}
}

// Pass says what Run is to do.
type Pass struct {
	Tiles []int // nil for all
	// Chosen is the layer that is worked on: what lies under it is kept, so that its own changes are quick. May be empty.
	Chosen string
	// Has tells what a tile is known by already; what has not changed since is not evaluated. Nil knows nothing.
	Has func(tile int) Keys
	// Do takes a tile's channels, which hold until it returns; planes that Has knows are nil. Several workers, numbered below
	// par.Slots, call it at once.
	Do func(worker, tile int, is Keys, ch *Channels)
}

// Keys hash all that a tile's channels depend on: its normals, and all the others. They are never 0.
type Keys struct{ Values, Normals uint64 }

// Run evaluates tiles by the program.
func (c *Canvas) Run(ctx context.Context, p *Program, do Pass) error {
	n := len(do.Tiles)
	if do.Tiles == nil {
		n = len(c.Surf.Tiles)
	}
	chosen, ok := p.byID[do.Chosen]
	if !ok {
		chosen = -1
	}
	err := par.Blocks(ctx, n, 1, func(w, i, _ int) {
		t := i
		if do.Tiles != nil {
			t = do.Tiles[i]
		}
		pixel.Calm()
		k := c.begin(ctx, w)
		if k.channels == nil {
			k.channels = newChannels(tileTexels)
		}
		is, has := c.keys(k, p, t), Keys{}
		if do.Has != nil {
			has = do.Has(t)
		}
		if is != has {
			ch := c.blend(k, p, t, chosen, is.Values != has.Values, is.Normals != has.Normals)
			if !k.lost && !k.rim.lost {
				do.Do(w, t, is, ch)
			}
		}
	})
	return p.fault(err)
}

// begin is a worker's scratch, ready for a tile.
func (c *Canvas) begin(ctx context.Context, w int) *scratch {
	k := c.scratch(w)
	k.ctx, k.lost, k.rim = ctx, false, c.rim.scratch(w)
	k.rim.ctx, k.rim.lost, k.rim.home = ctx, false, k
	return k
}

// fault is what went wrong in a run, err aside.
func (p *Program) fault(err error) error {
	if f := p.plan.failed.Load(); err == nil && f != nil {
		return *f
	}
	return err
}

// Evaluate computes all channels of the document.
func (c *Canvas) Evaluate(ctx context.Context, d *strata.Document) (*Channels, error) {
	p, err := c.Compile(d)
	if err != nil {
		return nil, err
	}
	all := newChannels(c.Len())
	err = c.Run(ctx, p, Pass{Do: func(_, t int, _ Keys, ch *Channels) {
		tile := &c.Surf.Tiles[t]
		to, from := all.of(int(tile.From), int(tile.To)).planes(), ch.planes()
		for i := range to {
			if *from[i] != nil {
				copy(*to[i], *from[i])
			} else if i < blended {
				fill(*to[i], bare[i])
			}
		}
	}})
	return all, err
}

// keys hashes what the channels of a tile depend on.
func (c *Canvas) keys(k *scratch, p *Program, t int) Keys {
	is := Keys{1, 1}
	is.Values = c.runKey(k, p.run, t, is.Values, func(s *step) uint64 { return s.what })
	is.Normals = c.runKey(k, p.bends, t, is.Normals, func(s *step) uint64 { return s.bend })
	if p.relief != nil {
		// Slopes at the rim depend on the neighbours' heights, and on those across the seams.
		is.Normals = mix(is.Normals, c.slopeKey(k, p.relief, t))
	}
	return is
}

// slopeKey hashes what the slopes of a shape on a tile depend on.
func (c *Canvas) slopeKey(k *scratch, of *shape, t int) uint64 {
	h := c.reliefKey(k, of, t)
	for way, n := range c.beside(t) {
		if n >= 0 {
			h = mix(h, c.edgesOf(k, of, n)[way^1]) // the edge that faces the tile
		}
	}
	return mix(h, c.rim.heightKey(k.rim, of.across, t))
}

// edges are hashes of the heights along the edges of a tile, which is all that the tiles beside it see of them.
type edges [4]uint64

// edgesOf hashes the edges of a tile. What changes the heights elsewhere leaves them, and the slopes beside it, as they are.
func (c *Canvas) edgesOf(k *scratch, of *shape, t int) *edges {
	if e := of.edges[t].Load(); e != nil {
		return e
	}
	at := cacheKey{c.id, int32(t), mix(keptEdges, c.reliefKey(k, of, t))}
	e, ok := c.body.cache.get(at).(*edges)
	if !ok {
		e = c.hashEdges(t, c.heightIn(k, of, t))
		if k.lost {
			return e
		}
		c.body.cache.put(at, e, 4*8)
	}
	of.edges[t].Store(e)
	return e
}

func (c *Canvas) hashEdges(t int, height []float32) *edges {
	e := &edges{1, 1, 1, 1}
	if height == nil {
		return e // as of heights of 0
	}
	put := func(way, i int) {
		if h := height[i]; h != 0 {
			e[way] = mix(mix(e[way], uint64(i)), bits(h))
		}
	}
	const side = surface.TileSize
	for _, r := range c.rows[t] {
		from, n := int(r.from), int(r.n)
		x, y := int(r.at)%side, int(r.at)/side
		if x == 0 {
			put(left, from)
		}
		if x+n == side {
			put(right, from+n-1)
		}
		for i := range n {
			if y == 0 {
				put(up, from+i)
			}
			if y == side-1 {
				put(down, from+i)
			}
		}
	}
	return e
}

// reliefKey is the key of the height of a tile, which is asked for by its neighbours too.
func (c *Canvas) reliefKey(k *scratch, of *shape, t int) uint64 {
	if t < 0 {
		return 1
	}
	known := &of.keys[t]
	if h := known.Load(); h != 0 {
		return h
	}
	h := mix(keptHeight, c.heightKey(k, of.run, t))
	known.Store(h)
	return h
}

// heightIn is the height that a shape has on a tile, nil when it is 0 all over.
func (c *Canvas) heightIn(k *scratch, of *shape, t int) []float32 {
	h := c.reliefKey(k, of, t)
	if h == mix(keptHeight, 0) {
		return nil
	}
	return c.heightBy(k, of.run, t, h)
}

// beside are the tiles to the left, right, top and bottom, −1 for none.
func (c *Canvas) beside(t int) [4]int {
	x, y := c.Surf.Tiles[t].X, c.Surf.Tiles[t].Y
	return [4]int{c.Surf.TileAt(x-1, y), c.Surf.TileAt(x+1, y), c.Surf.TileAt(x, y-1), c.Surf.TileAt(x, y+1)}
}

// blend lays the steps of a tile over each other. Planes that are not wanted are nil.
func (c *Canvas) blend(k *scratch, p *Program, t, chosen int, values, normals bool) *Channels {
	tile := &c.Surf.Tiles[t]
	n := tile.Len()
	c.count.Tiles.Add(1)
	ch := k.channels.of(0, n)
	planes := ch.blendPlanes(p.lays)
	if !values {
		*ch = Channels{Normal: ch.Normal, Bend: ch.Bend}
		if ch.Bend[0] != nil {
			fill(ch.Bend[0], 0)
			fill(ch.Bend[1], 0)
			c.lay(k, p.bends, t, &blendPlanes{planeBend: &ch.Bend[0], planeBend + 1: &ch.Bend[1]})
		}
		c.normals(k, p, t, ch, nil)
		return ch
	}
	// The height is there already where slopes were asked for, and is laid once.
	var height []float32
	if p.relief != nil {
		height = c.heightIn(k, p.relief, t)
		planes[planeHeight] = nil
		if height != nil {
			copy(ch.Height, height)
		} else {
			clear(ch.Height)
		}
	}
	from := 0
	if chosen >= worthKeeping {
		at := cacheKey{c.id, int32(t), mix(c.runKey(k, p.run[:chosen], t, keptBelow, func(s *step) uint64 { return s.what }), uint64(p.lays))}
		b, ok := c.body.cache.get(at).(*below)
		if !ok {
			lieBare(planes)
			c.lay(k, p.run[:chosen], t, planes)
			b = newBelow(planes)
			if !k.lost && !k.rim.lost {
				c.body.cache.put(at, b, b.bytes)
			}
		}
		b.put(planes)
		from = chosen
	} else {
		lieBare(planes)
	}
	c.lay(k, p.run[from:], t, planes)
	unsigned(ch.AO, c.in.ao, int(tile.From), 1)
	if ch.Occlusion != nil {
		for i, x := range ch.Occlusion {
			ch.AO[i] *= x
		}
	}
	if ch.Wet != nil {
		soak(ch)
	}
	if normals {
		c.normals(k, p, t, ch, height)
	} else {
		ch.Normal = [3][]float32{}
	}
	return ch
}

// bare is the bare surface by plane.
var bare = [blended]float32{planeBase: bareColour, planeBase + 1: bareColour, planeBase + 2: bareColour, planeRoughness: bareRoughness, planeOpacity: 1, planeOcclusion: 1}

// lieBare fills planes with the bare surface.
func lieBare(planes *blendPlanes) {
	for i, v := range bare {
		if planes[i] != nil {
			fill(*planes[i], v)
		}
	}
}

func fill(v []float32, x float32) {
	n := min(len(v), 32)
	for i := range v[:n] {
		v[i] = x
	}
	for ; n < len(v); n *= 2 {
		copy(v[n:], v[:n])
	}
}

// Coverage is the share of the set's texels where the layer's Where is 5 % or more, and the share that
// the layer, numbered from the lowest, may touch at all.
func (c *Canvas) Coverage(ctx context.Context, p *Program, layer int) (covered, targeted float64, err error) {
	s, err := p.plan.shown(c.ground, layer, outside)
	if err != nil {
		return 0, 0, err
	}
	if targeted = s.aim.share; targeted == 0 || s.full {
		return targeted, targeted, nil
	}
	shown := make([]int, len(c.tiles))
	err = par.Blocks(ctx, len(shown), 1, func(w, t, _ int) {
		k := c.begin(ctx, w)
		shown[t] = c.known(k, s, t).shown
	})
	all := 0
	for _, n := range shown {
		all += n
	}
	return float64(all) / float64(max(1, c.Len())), targeted, p.fault(err)
}

// Field writes the shaped field of one clause of a layer, numbered from the lowest, or the finished Where when clauseID is
// empty, for every covered texel.
func (c *Canvas) Field(ctx context.Context, p *Program, layer int, clauseID string) ([]float32, error) {
	out := make([]float32, c.Len())
	return out, c.FieldOn(ctx, p, layer, clauseID, nil, func(t int, v []float32) { copy(out[c.tiles[t].From:], v) })
}

// FieldOn gives the values of Field on some tiles, nil for all, to do, which several workers call at once.
func (c *Canvas) FieldOn(ctx context.Context, p *Program, layer int, clauseID string, tiles []int, do func(tile int, v []float32)) error {
	s, err := p.plan.step(c.ground, layer)
	if err != nil || s.aim.share == 0 {
		return err
	}
	if clauseID != "" {
		i := slices.IndexFunc(p.plan.doc.Layers[layer].Where, func(cl strata.Clause) bool { return cl.ID == clauseID })
		one := *s
		one.clauses, one.soft, one.base = nil, nil, nil
		if i >= 0 {
			one.clauses = slices.Clone(s.clauses[i : i+1])
			one.clauses[0].off = false // it is asked for itself
		}
		s = &one
	} else if s, err = p.plan.shown(c.ground, layer, outside); err != nil {
		return err
	}
	n := len(tiles)
	if tiles == nil {
		n = len(c.tiles)
	}
	var values [par.Slots][]float32
	err = par.Blocks(ctx, n, 1, func(w, i, _ int) {
		t := i
		if tiles != nil {
			t = tiles[i]
		}
		if values[w] == nil {
			values[w] = make([]float32, tileTexels)
		}
		v := values[w][:c.tiles[t].Len()]
		c.evaluate(c.begin(ctx, w), s, t, v)
		do(t, v)
	})
	return p.fault(err)
}

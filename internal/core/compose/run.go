package compose

import (
	"context"
	"math"
	"slices"

	"crust/internal/core/par"
	"crust/internal/core/pixel"
	"crust/internal/core/strata"
	"crust/internal/core/surface"
)

// The bare surface under the lowest layer: mid grey, fairly rough, not metal.
const (
	bareColour    = 0.55
	bareRoughness = 0.7
)

// worthKeeping is from how many steps on what lies under the chosen one is kept; fewer are laid anew.
const worthKeeping = 3

// mask is a layer's finished Where over a tile, in 16 bits.
type mask struct {
	v     []uint16 // nil where it is 0 all over
	shown int      // on how many texels it is coverageStep or more
}

// coverageStep is 5 % in 16 bits: from there on a layer counts as showing.
const coverageStep = 3277

// below is the blended planes of a tile under a step: 16 bits of what lies in 0–1, and the height.
type below struct {
	unit   [planeHeight][]uint16
	height []float32
}

func newBelow(planes []*[]float32) *below {
	b := &below{height: append([]float32(nil), *planes[planeHeight]...)}
	for i := range b.unit {
		b.unit[i] = make([]uint16, len(b.height))
		pixel.Narrow(b.unit[i], *planes[i])
	}
	return b
}

// put writes the planes back.
func (b *below) put(planes []*[]float32) {
	for i, q := range b.unit {
		unsigned(*planes[i], q, 0, 0)
	}
	copy(*planes[planeHeight], b.height)
}

// relief is a tile's heights with a rim of one texel of its neighbours; NaN where nothing is covered.
type relief [reliefSide * reliefSide]float32

const reliefSide = surface.TileSize + 2

var nan = float32(math.NaN())

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
		k := c.scratch(w)
		k.ctx = ctx
		if k.channels == nil {
			k.channels = newChannels(tileTexels)
		}
		k.rim = c.rim.scratch(w)
		k.rim.ctx = ctx
		k.lost, k.rim.lost = false, false
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
			copy(*to[i], *from[i])
		}
	}})
	return all, err
}

// keys finds the masks of a tile and hashes what its channels depend on.
func (c *Canvas) keys(k *scratch, p *Program, t int) Keys {
	k.masks = k.masks[:0]
	is := Keys{1, 1}
	for _, s := range p.steps {
		m := c.mask(k, s, t)
		k.masks = append(k.masks, m)
		if s.full || m.v != nil {
			is.Values = mix(mix(is.Values, s.where), s.what)
		}
	}
	if p.relief != nil {
		// Slopes at the rim depend on the neighbours' heights, and on those across the seams.
		is.Normals = mix(is.Normals, c.reliefKey(k, p, t))
		for _, n := range c.beside(t) {
			is.Normals = mix(is.Normals, c.reliefKey(k, p, n))
		}
		is.Normals = mix(is.Normals, c.rim.heightKey(k.rim, p.across, t))
	}
	return is
}

// reliefKey is the key of the height of a tile, which is asked for by its neighbours too.
func (c *Canvas) reliefKey(k *scratch, p *Program, t int) uint64 {
	if t < 0 {
		return 1
	}
	known := &p.heightKeys[t]
	if h := known.Load(); h != 0 {
		return h
	}
	h := mix(keptHeight, c.heightKey(k, p.relief, t))
	known.Store(h)
	return h
}

// beside are the tiles to the left, right, top and bottom, −1 for none.
func (c *Canvas) beside(t int) [4]int {
	x, y := c.Surf.Tiles[t].X, c.Surf.Tiles[t].Y
	return [4]int{c.Surf.TileAt(x-1, y), c.Surf.TileAt(x+1, y), c.Surf.TileAt(x, y-1), c.Surf.TileAt(x, y+1)}
}

// blend lays the steps of a tile over each other, whose masks keys has found. Planes that are not wanted are nil.
func (c *Canvas) blend(k *scratch, p *Program, t, chosen int, values, normals bool) *Channels {
	tile := &c.Surf.Tiles[t]
	n := tile.Len()
	c.count.Tiles.Add(1)
	ch := k.channels.of(0, n)
	if !values {
		*ch = Channels{Normal: ch.Normal}
		c.normals(k, p, t, ch, c.heightOf(k, p.relief, t))
		return ch
	}
	planes := ch.planes()
	from := 0
	if chosen >= worthKeeping {
		h := uint64(keptBelow)
		for i := range p.steps[:chosen] {
			if s := p.steps[i]; s.full || k.masks[i].v != nil {
				h = mix(mix(h, s.where), s.what)
			}
		}
		at := cacheKey{c.id, int32(t), h}
		b, ok := c.body.cache.get(at).(*below)
		if !ok {
			c.lay(k, p, planes[:blended], n, 0, chosen)
			b = newBelow(planes[:blended])
			if !k.lost {
				c.body.cache.put(at, b, (2*planeHeight+4)*n)
			}
		}
		b.put(planes[:blended])
		from = chosen
	}
	c.lay(k, p, planes[:blended], n, from, len(p.steps))
	unsigned(ch.AO, c.in.ao, int(tile.From), 1)
	if normals {
		c.normals(k, p, t, ch, ch.Height)
	} else {
		ch.Normal = [3][]float32{}
	}
	return ch
}

// lay blends steps from to before to into planes; from 0 on over the bare surface.
func (c *Canvas) lay(k *scratch, p *Program, planes []*[]float32, n, from, to int) {
	if from == 0 {
		for i, bare := range [blended]float32{bareColour, bareColour, bareColour, bareRoughness, 0, 0} {
			fill(*planes[i], bare)
		}
	}
	shown := k.shown[:n]
	for i := from; i < to; i++ {
		s := p.steps[i]
		if !s.show(shown, k.masks[i]) {
			continue
		}
		for j := range s.on {
			v := &s.on[j]
			a := v.through(shown, k.own[:n])
			for j, own := range v.own {
				plane := *planes[v.first+j]
				v.blend.Lay(plane, own, a)
				if v.full {
					endAtOne(plane)
				}
			}
		}
	}
}

// show writes how much of a step shows through its mask; false where nothing does.
func (s *step) show(shown []float32, m *mask) bool {
	if s.full {
		fill(shown, s.opacity)
		return true
	}
	if m.v == nil {
		return false
	}
	pixel.Widen(shown, m.v, s.opacity/65535)
	return true
}

// through is how much of a value shows where so much of its step does; scratch may be used for it.
func (v *value) through(shown, scratch []float32) []float32 {
	if v.alpha == 1 {
		return shown
	}
	for i, x := range shown {
		scratch[i] = x * v.alpha
	}
	return scratch
}

func endAtOne(v []float32) {
	for i, x := range v {
		v[i] = min(x, 1)
	}
}

func fill(v []float32, x float32) {
	for i := range v {
		v[i] = x
	}
}

// normals lays the slopes of the height over the baked normal by reoriented mapping
// (Barré-Brisebois & Hill, Blending in Detail, 2012). height is nil where it is 0 all over.
func (c *Canvas) normals(k *scratch, p *Program, t int, ch *Channels, height []float32) {
	s, tile := c.Surf, &c.Surf.Tiles[t]
	from := int(tile.From)
	if c.in.base[0] == nil {
		fill(ch.Normal[0], 0)
		fill(ch.Normal[1], 0)
		fill(ch.Normal[2], 1)
	} else {
		for i := range 3 {
			signed(ch.Normal[i], c.in.base[i][from:int(tile.To)])
		}
	}
	if p.relief == nil || !c.gather(k, p, t, height) {
		return
	}
	half := float32(s.Size) / 2
	over, seams := c.across(k, p, t)
	for i, at := range k.at[:tile.Len()] {
		mid := k.heights[at]
		side := [4]float32{k.heights[at-1], k.heights[at+1], k.heights[at-reliefSide], k.heights[at+reliefSide]}
		for len(seams) > 0 && int(seams[0].texel) == i {
			side[seams[0].way] = over[0]
			seams, over = seams[1:], over[1:]
		}
		du := difference(side[left], mid, side[right]) * half
		dv := difference(side[down], mid, side[up]) * half
		if du == 0 && dv == 0 {
			continue
		}
		f := &c.slope[c.rank[c.tri[from+i]-c.first]]
		dx, dy := -(f.tu * du), -(f.bu*du + f.bv*dv)
		n := Reorient([3]float32{ch.Normal[0][i], ch.Normal[1][i], ch.Normal[2][i]}, unit(dx, dy, 1))
		ch.Normal[0][i], ch.Normal[1][i], ch.Normal[2][i] = n[0], n[1], n[2]
	}
}

// gather fills the relief of a tile, and the places of its texels in it; false when all heights are 0.
func (c *Canvas) gather(k *scratch, p *Program, t int, own []float32) bool {
	for i := range k.heights {
		k.heights[i] = nan
	}
	some := own != nil || c.rim.heightKey(k.rim, p.across, t) != 0
	for i, n := range c.beside(t) {
		if n < 0 {
			continue
		}
		h := c.heightOf(k, p.relief, n)
		some = some || h != nil
		shift := [4]int{-surface.TileSize, surface.TileSize, -surface.TileSize * reliefSide, surface.TileSize * reliefSide}[i]
		c.places(n, k.at[:])
		for j, at := range k.at[:c.Surf.Tiles[n].Len()] {
			x, y := int(at)%reliefSide, int(at)/reliefSide
			if [4]bool{x == surface.TileSize, x == 1, y == surface.TileSize, y == 1}[i] {
				v := float32(0)
				if h != nil {
					v = h[j]
				}
				k.heights[int(at)+shift] = v
			}
		}
	}
	c.places(t, k.at[:])
	for i, at := range k.at[:c.Surf.Tiles[t].Len()] {
		k.heights[at] = 0
		if own != nil {
			k.heights[at] = own[i]
		}
	}
	return some
}

// places writes where each texel of a tile stands in its relief.
func (c *Canvas) places(t int, out []uint16) {
	tile, size := &c.Surf.Tiles[t], c.Surf.Size
	row := int(tile.Y)*surface.TileSize*size + int(tile.X)*surface.TileSize
	y := 0
	for i, at := range c.Surf.Texel[tile.From:tile.To] {
		for int(at) >= row+size {
			row += size
			y++
		}
		out[i] = uint16((y+1)*reliefSide + int(at) - row + 1)
	}
}

// difference is that over two texels; at an island's rim, where a neighbour is NaN, one side counts twice.
func difference(a, mid, b float32) float32 {
	switch {
	case a != a && b != b:
		return 0
	case a != a:
		return 2 * (b - mid)
	case b != b:
		return 2 * (mid - a)
	}
	return b - a
}

// Reorient lays the detail normal over the base normal; flat on either side changes nothing.
func Reorient(base, detail [3]float32) [3]float32 {
	t := [3]float32{base[0], base[1], base[2] + 1}
	u := [3]float32{-detail[0], -detail[1], detail[2]}
	d := (t[0]*u[0] + t[1]*u[1] + t[2]*u[2]) / t[2]
	return unit(t[0]*d-u[0], t[1]*d-u[1], t[2]*d-u[2])
}

// Coverage is the share of the set's texels where the layer's Where is 5 % or more, and the share that
// the layer, numbered from the lowest, may touch at all.
func (c *Canvas) Coverage(ctx context.Context, p *Program, layer int) (covered, targeted float64, err error) {
	s, err := p.plan.step(c.ground, layer)
	if err != nil {
		return 0, 0, err
	}
	if targeted = s.aim.share; targeted == 0 || s.full {
		return targeted, targeted, nil
	}
	shown := make([]int, len(c.tiles))
	err = par.Blocks(ctx, len(shown), 1, func(w, t, _ int) {
		k := c.scratch(w)
		k.ctx, k.lost = ctx, false
		shown[t] = c.mask(k, s, t).shown
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
	s, err := p.plan.step(c.ground, layer)
	if err != nil || s.aim.share == 0 {
		return out, err
	}
	if clauseID != "" {
		i := slices.IndexFunc(p.plan.doc.Layers[layer].Where, func(cl strata.Clause) bool { return cl.ID == clauseID })
		one := *s
		one.clauses, one.soft = nil, nil
		if i >= 0 {
			one.clauses = s.clauses[i : i+1]
		}
		s = &one
	}
	err = par.Blocks(ctx, len(c.tiles), 1, func(w, t, _ int) {
		k := c.scratch(w)
		k.ctx, k.lost = ctx, false
		c.where(k, s, t, c.seen(k, s.clauses, t), out[c.tiles[t].From:c.tiles[t].To])
	})
	return out, p.fault(err)
}

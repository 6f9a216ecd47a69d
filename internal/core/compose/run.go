package compose

import (
	"context"
	"math"

	"crust/internal/core/field"
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

// Kinds of results that the cache keeps beside masks.
const (
	keptHeight = 0x48
	keptBelow  = 0x42
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

// scratch of one worker.
type scratch struct {
	block      field.Block
	tile       int // that block is of
	have       field.Need
	wide       [10][tileTexels]float32 // the block's planes
	part       [tileTexels]int32
	field, acc [tileTexels]float32
	shown, own [tileTexels]float32
	channels   *Channels
	heights    relief
	at         [tileTexels]uint16 // see places
	masks      []*mask
}

func (c *Canvas) scratch(w int) *scratch {
	if c.work[w] == nil {
		c.work[w] = &scratch{tile: -1, channels: newChannels(tileTexels)}
	}
	return c.work[w]
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
	return par.Blocks(ctx, n, 1, func(w, i, _ int) {
		t := i
		if do.Tiles != nil {
			t = do.Tiles[i]
		}
		pixel.Calm()
		k := c.scratch(w)
		is, has := c.keys(k, p, t), Keys{}
		if do.Has != nil {
			has = do.Has(t)
		}
		if is != has {
			do.Do(w, t, is, c.blend(k, p, t, chosen, is.Values != has.Values, is.Normals != has.Normals))
		}
	})
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
	for i := range p.steps {
		s := &p.steps[i]
		m := c.mask(k, s, t)
		k.masks = append(k.masks, m)
		if s.full || m.v != nil {
			is.Values = mix(mix(is.Values, s.where), s.what)
		}
	}
	if p.relief {
		// Slopes at the rim depend on the neighbours' heights.
		is.Normals = mix(is.Normals, c.heightKey(k, p, t))
		for _, n := range c.beside(t) {
			is.Normals = mix(is.Normals, c.heightKey(k, p, n))
		}
	}
	return is
}

// beside are the tiles to the left, right, top and bottom, −1 for none.
func (c *Canvas) beside(t int) [4]int {
	x, y := c.Surf.Tiles[t].X, c.Surf.Tiles[t].Y
	return [4]int{c.Surf.TileAt(x-1, y), c.Surf.TileAt(x+1, y), c.Surf.TileAt(x, y-1), c.Surf.TileAt(x, y+1)}
}

// heightKey hashes what a tile's height depends on; 0 when it is 0 all over.
func (c *Canvas) heightKey(k *scratch, p *Program, t int) (h uint64) {
	if t < 0 {
		return 1
	}
	for i := range p.steps {
		s := &p.steps[i]
		if s.height && (s.full || c.mask(k, s, t).v != nil) {
			h = mix(mix(h, s.where), s.relief)
		}
	}
	return h
}

// mask evaluates a step's Where over a tile, or finds it in the cache.
func (c *Canvas) mask(k *scratch, s *step, t int) *mask {
	if s.full {
		return nil
	}
	at := cacheKey{c.id, int32(t), s.where}
	if m, ok := c.cache.get(at).(*mask); ok {
		return m
	}
	tile := &c.Surf.Tiles[t]
	acc := k.acc[:tile.Len()]
	c.join(k, s.clauses, t, acc)
	c.keep(&s.aim, int(tile.From), acc)
	c.count.Clauses.Add(int64(len(s.clauses)))
	m := &mask{v: make([]uint16, len(acc))}
	pixel.Narrow(m.v, acc)
	any := uint16(0)
	for _, q := range m.v {
		any |= q
		// One when q is coverageStep or more, without a branch.
		m.shown += 1 - int((uint32(q)-coverageStep)>>31)
	}
	if any == 0 {
		m.v = nil
	}
	c.cache.put(at, m, 2*len(m.v))
	return m
}

// join writes the joined clauses over a tile into acc. The first clause stands alone; strength fades
// a clause towards having no say.
func (c *Canvas) join(k *scratch, cs []clause, t int, acc []float32) {
	fill(acc, 1)
	v := k.field[:len(acc)]
	for i := range cs {
		cl := &cs[i]
		c.widen(k, t, cl.kind.Needs)
		cl.kind.Fill(&k.block, cl.values, cl.pick, v)
		cl.shape.Apply(v)
		join := cl.join
		if i == 0 {
			join = pixel.JoinAnd
		}
		join.Lay(acc, v, cl.shape.Strength)
	}
}

// widen makes the planes of a tile that a kind needs.
func (c *Canvas) widen(k *scratch, t int, need field.Need) {
	tile := &c.Surf.Tiles[t]
	from, to := int(tile.From), int(tile.To)
	n := to - from
	if k.tile != t {
		k.tile, k.have = t, 0
		b := &k.block
		*b = field.Block{Floor: c.floor, Part: k.part[:n]}
		for i, p := range []*[]float32{&b.X, &b.Y, &b.Z, &b.NX, &b.NY, &b.NZ, &b.AO, &b.Curve, &b.Tight, &b.Soft} {
			*p = k.wide[i][:n]
		}
		if c.in.tight == nil {
			b.Tight = nil
		}
		if c.in.soft == nil {
			b.Soft = nil
		}
	}
	need &^= k.have
	k.have |= need
	b := &k.block
	if need&field.NeedPlace != 0 {
		box := &c.in.box[t]
		for i, to := range [3][]float32{b.X, b.Y, b.Z} {
			low, step := box.low[i], box.step[i]
			for j, q := range c.in.pos[i][from : from+n] {
				to[j] = low + float32(q)*step
			}
		}
	}
	if need&field.NeedNormal != 0 {
		for i, to := range [3][]float32{b.NX, b.NY, b.NZ} {
			signed(to, c.in.normal[i][from:from+n])
		}
	}
	if need&field.NeedAO != 0 {
		unsigned(b.AO, c.in.ao, from, 1)
	}
	if need&field.NeedCurve != 0 {
		unsigned(b.Curve, c.in.curve, from, 0.5)
		unsigned(b.Tight, c.in.tight, from, 0.5)
		unsigned(b.Soft, c.in.soft, from, 0.5)
	}
	if need&field.NeedPart != 0 {
		for i := range b.Part {
			b.Part[i] = c.part[c.face(from+i)]
		}
	}
}

func signed(to []float32, q []int16) {
	for i, v := range q[:len(to)] {
		to[i] = float32(v) * (1. / 32767)
	}
}

// unsigned widens a baked plane from texel from on; without one it stands at neutral.
func unsigned(to []float32, q []uint16, from int, neutral float32) {
	if q == nil {
		fill(to, neutral)
		return
	}
	pixel.Widen(to, q[from:from+len(to)], 1./65535)
}

// blend lays the steps of a tile over each other, whose masks keys has found. Planes that are not wanted are nil.
func (c *Canvas) blend(k *scratch, p *Program, t, chosen int, values, normals bool) *Channels {
	tile := &c.Surf.Tiles[t]
	n := tile.Len()
	c.count.Tiles.Add(1)
	ch := k.channels.of(0, n)
	if !values {
		*ch = Channels{Normal: ch.Normal}
		c.normals(k, p, t, ch, c.heightOf(k, p, t))
		return ch
	}
	planes := ch.planes()
	from := 0
	if chosen >= worthKeeping {
		h := uint64(keptBelow)
		for i := range p.steps[:chosen] {
			if s := &p.steps[i]; s.full || k.masks[i].v != nil {
				h = mix(mix(h, s.where), s.what)
			}
		}
		at := cacheKey{c.id, int32(t), h}
		b, ok := c.cache.get(at).(*below)
		if !ok {
			c.lay(k, p, planes[:blended], n, 0, chosen, nil)
			b = newBelow(planes[:blended])
			c.cache.put(at, b, (2*planeHeight+4)*n)
		}
		b.put(planes[:blended])
		from = chosen
	}
	c.lay(k, p, planes[:blended], n, from, len(p.steps), nil)
	unsigned(ch.AO, c.in.ao, int(tile.From), 1)
	if normals {
		c.normals(k, p, t, ch, ch.Height)
	} else {
		ch.Normal = [3][]float32{}
	}
	return ch
}

// lay blends steps from to before to into planes; from 0 on over the bare surface. With only, the others are left out.
func (c *Canvas) lay(k *scratch, p *Program, planes []*[]float32, n, from, to int, only *[]float32) {
	if from == 0 {
		for i, bare := range [blended]float32{bareColour, bareColour, bareColour, bareRoughness, 0, 0} {
			if only == nil || planes[i] == only {
				fill(*planes[i], bare)
			}
		}
	}
	shown, alpha := k.shown[:n], k.own[:n]
	for i := from; i < to; i++ {
		s := &p.steps[i]
		if only != nil && !s.height {
			continue
		}
		if s.full {
			fill(shown, s.opacity)
		} else {
			m := k.masks[i]
			if m.v == nil {
				continue
			}
			pixel.Widen(shown, m.v, s.opacity/65535)
		}
		for _, v := range s.on {
			if only != nil && planes[v.first] != only {
				continue
			}
			a := shown
			if v.alpha != 1 {
				for j, x := range shown {
					alpha[j] = x * v.alpha
				}
				a = alpha
			}
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

// heightOf is the height of a tile, nil when it is 0 all over.
func (c *Canvas) heightOf(k *scratch, p *Program, t int) []float32 {
	h := c.heightKey(k, p, t)
	if h == 0 {
		return nil
	}
	at := cacheKey{c.id, int32(t), mix(keptHeight, h)}
	if v, ok := c.cache.get(at).([]float32); ok {
		return v
	}
	masks := k.masks
	k.masks = make([]*mask, len(p.steps))
	for i := range p.steps {
		if p.steps[i].height {
			k.masks[i] = c.mask(k, &p.steps[i], t)
		}
	}
	out := make([]float32, c.Surf.Tiles[t].Len())
	planes := make([]*[]float32, blended)
	planes[planeHeight] = &out
	c.lay(k, p, planes, len(out), 0, len(p.steps), &out)
	k.masks = masks
	c.cache.put(at, out, 4*len(out))
	return out
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
	if !p.relief || !c.gather(k, p, t, height) {
		return
	}
	half := float32(s.Size) / 2
	for i, at := range k.at[:tile.Len()] {
		h := k.heights[at]
		du := across(k.heights[at-1], h, k.heights[at+1]) * half
		dv := across(k.heights[at+reliefSide], h, k.heights[at-reliefSide]) * half
		if du == 0 && dv == 0 {
			continue
		}
		f := &c.slope[c.face(from+i)]
		dx, dy := -(f.tu * du), -(f.bu*du + f.bv*dv)
		n := Reorient([3]float32{ch.Normal[0][i], ch.Normal[1][i], ch.Normal[2][i]}, unit(dx, dy, 1))
		ch.Normal[0][i], ch.Normal[1][i], ch.Normal[2][i] = n[0], n[1], n[2]
	}
}

// gather fills the relief of a tile, and the places of its texels in it; false when all heights are 0.
func (c *Canvas) gather(k *scratch, p *Program, t int, own []float32) bool {
	nan := float32(math.NaN())
	for i := range k.heights {
		k.heights[i] = nan
	}
	some := c.heightKey(k, p, t) != 0
	for i, n := range c.beside(t) {
		if n < 0 {
			continue
		}
		h := c.heightOf(k, p, n)
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

// across is the difference over two texels; at an island's rim, where a neighbour is NaN, one side counts twice.
func across(a, mid, b float32) float32 {
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
// the layer may touch at all.
func (c *Canvas) Coverage(ctx context.Context, l *strata.Layer) (covered, targeted float64, err error) {
	s, err := c.step(l)
	if err != nil {
		return 0, 0, err
	}
	if targeted = s.aim.share; targeted == 0 || s.full {
		return targeted, targeted, nil
	}
	shown := make([]int, len(c.Surf.Tiles))
	err = par.Blocks(ctx, len(shown), 1, func(w, t, _ int) { shown[t] = c.mask(c.scratch(w), s, t).shown })
	all := 0
	for _, n := range shown {
		all += n
	}
	return float64(all) / float64(max(1, c.Len())), targeted, err
}

// Field writes one clause's shaped field, or the joined Where when clauseID is empty, for every
// covered texel.
func (c *Canvas) Field(ctx context.Context, l *strata.Layer, clauseID string) ([]float32, error) {
	out := make([]float32, c.Len())
	var cs []clause
	for i := range l.Where {
		if clauseID != "" && l.Where[i].ID != clauseID {
			continue
		}
		k, err := c.resolve(&l.Where[i])
		if err != nil {
			return nil, err
		}
		cs = append(cs, k)
	}
	aim := c.aim(l)
	if aim.share == 0 {
		return out, nil
	}
	err := par.Blocks(ctx, len(c.Surf.Tiles), 1, func(w, t, _ int) {
		tile := &c.Surf.Tiles[t]
		v := out[tile.From:tile.To]
		c.join(c.scratch(w), cs, t, v)
		c.keep(&aim, int(tile.From), v)
	})
	return out, err
}

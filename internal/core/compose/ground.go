package compose

import (
	"context"
	"slices"
	"sync"
	"sync/atomic"

	"crust/internal/core/accel"
	"crust/internal/core/bake"
	"crust/internal/core/field"
	"crust/internal/core/geom"
	"crust/internal/core/par"
	"crust/internal/core/pixel"
	"crust/internal/core/strata"
	"crust/internal/core/surface"
)

// tileTexels is how many places a tile has at the most.
const tileTexels = surface.TileSize * surface.TileSize

// ground is places on the surface, in tiles, at which steps are evaluated: the covered texels of a canvas, the samples of a
// cloud, or what lies across the seams of a canvas.
type ground struct {
	body   *Body
	id     uint64 // among all grounds
	tiles  []surface.Tile
	tri    []int32  // by place, where they lie scattered
	spans  [][]span // by tile, where they lie in squares
	in     inputs
	pitch  float32 // about how far places lie apart, in metres
	side   int     // of the square that places lie in, in texels
	cloud  *cloud  // that the places are samples of; nil for others
	only   string  // the key of the set that all places lie on; empty when they may lie on any
	canvas *Canvas // that the places are texels of, or lie across the seams of; nil for others
	aims   map[string]target
	work   []*scratch
	count  Counts
	boxed  sync.Once
	boxes  [][]geom.Box                 // see boxesOf
	runs   []atomic.Pointer[[]geom.Box] // see runsOf
}

var grounds atomic.Uint64

func newGround(b *Body, tiles []surface.Tile) *ground {
	return &ground{body: b, id: grounds.Add(1), tiles: tiles, aims: map[string]target{}, work: make([]*scratch, par.Slots)}
}

// span is places of a tile that follow each other in a row of its square and lie on one triangle.
type span struct {
	at  uint16 // where the first stands, row · TileSize + column
	n   uint16
	tri int32
}

func (s span) column() int { return int(s.at) % surface.TileSize }
func (s span) row() int    { return int(s.at) / surface.TileSize }

// spansOf finds the spans of a tile whose texels lie in a picture of some size.
func spansOf(t *surface.Tile, texel []uint32, tri []int32, size int) (out []span) {
	corner := int(t.Y)*surface.TileSize*size + int(t.X)*surface.TileSize
	for i, at := range texel {
		at := int(at) - corner
		place := at/size*surface.TileSize + at%size
		if n := len(out) - 1; n >= 0 && tri[i] == out[n].tri && place == int(out[n].at+out[n].n) && place%surface.TileSize != 0 {
			out[n].n++
		} else {
			out = append(out, span{uint16(place), 1, tri[i]})
		}
	}
	return slices.Clip(out)
}

// each calls f for places of a tile, from one to before another, that lie on one triangle.
func (g *ground) each(t int, f func(from, to int, tri int32)) {
	if g.spans == nil {
		for i, tri := range g.tri[g.tiles[t].From:g.tiles[t].To] {
			f(i, i+1, tri)
		}
		return
	}
	i := 0
	for _, s := range g.spans[t] {
		f(i, i+int(s.n), s.tri)
		i += int(s.n)
	}
}

// inputs are what fields read at each place, in 16 bits.
type inputs struct {
	pos    [3][]uint16 // in the box of the place's run
	boxes  []tileBoxes
	normal [3][]int16 // in model space, of length 32767
	base   [3][]int16 // the baked tangent-space normal; nil where it is flat, and outside canvases
	// Baked maps; nil where there is none.
	ao, curve, tight, soft, thick []uint16
}

// tileBoxes are where positions of a tile count from. Places that follow each other are a run while they lie side by side
// on the model; pieces of the surface that lie far apart have boxes of their own, so that 16 bits are fine steps.
type tileBoxes struct {
	box []posBox
	run []posRun
}

// posBox is a box's lowest corner and the steps of its positions, in metres.
type posBox struct{ low, step [3]float32 }

// posRun is places of a tile, up to before one, that share a box.
type posRun struct{ to, box uint16 }

// mostBoxes bounds the boxes of a tile; what is found after that shares the last one.
const mostBoxes = 64

func (in *inputs) make(places, tiles int) {
	for k := range 3 {
		in.pos[k], in.normal[k] = make([]uint16, places), make([]int16, places)
	}
	in.boxes = make([]tileBoxes, tiles)
}

// planes are those of the baked maps, with what stands where a set has none.
func (in *inputs) planes() [5]plane {
	return [5]plane{{bake.AO, 65535, &in.ao}, {bake.Curvature, 32768, &in.curve}, {bake.Tight, 32768, &in.tight}, {bake.Soft, 32768, &in.soft}, {bake.Thickness, 65535, &in.thick}}
}

type plane struct {
	kind    string
	neutral uint16
	v       *[]uint16
}

// need makes the planes of maps that are there.
func (in *inputs) need(maps map[string]*bake.Map, places int) {
	for _, p := range in.planes() {
		if maps[p.kind] != nil && *p.v == nil {
			*p.v = make([]uint16, places)
			for i := range *p.v {
				(*p.v)[i] = p.neutral
			}
		}
	}
}

// place puts the positions of a tile, whose first place is from; wide is about how large a tile is on the model.
func (in *inputs) place(t, from int, place []geom.Vec3, wide float32) {
	b := &in.boxes[t]
	var boxes []geom.Box
	for i := 0; i < len(place); {
		run := geom.EmptyBox().Add(place[i])
		j := i + 1
		for ; j < len(place); j++ {
			if grown := run.Add(place[j]); place[j].Dist(place[j-1]) <= wide/8 && grown.Diagonal() <= wide {
				run = grown
			} else {
				break
			}
		}
		k := 0
		for k < len(boxes) && k < mostBoxes-1 && boxes[k].Union(run).Diagonal() > wide {
			k++
		}
		if k == len(boxes) {
			boxes = append(boxes, run)
		}
		boxes[k] = boxes[k].Union(run)
		if n := len(b.run); n > 0 && int(b.run[n-1].box) == k {
			b.run[n-1].to = uint16(j)
		} else {
			b.run = append(b.run, posRun{uint16(j), uint16(k)})
		}
		i = j
	}
	for _, box := range boxes {
		o := posBox{low: box.Min.Array()}
		for k, w := range box.Size().Array() {
			o.step[k] = w / 65535
		}
		b.box = append(b.box, o)
	}
	i := 0
	for _, r := range b.run {
		o := &b.box[r.box]
		for ; i < int(r.to); i++ {
			for k, v := range place[i].Array() {
				if o.step[k] > 0 {
					in.pos[k][from+i] = uint16(min(65535, (v-o.low[k])/o.step[k]+0.5))
				}
			}
		}
	}
}

// feed is the maps of a set that inputs are read from, with the planes that they fill.
type feed struct {
	in           *inputs
	world, local *bake.Map // normals; nil where there are none, or they are not wanted
	maps         []*bake.Map
	planes       [][]uint16
}

// feed finds the maps that there are once, for many places.
func (in *inputs) feed(maps map[string]*bake.Map) *feed {
	f := &feed{in: in, world: maps[bake.WorldNormal]}
	if in.base[0] != nil {
		f.local = maps[bake.Normal]
	}
	for _, p := range in.planes() {
		if m := maps[p.kind]; m != nil {
			f.maps, f.planes = append(f.maps, m), append(f.planes, *p.v)
		}
	}
	return f
}

// read puts what the maps hold at a place; one reads the first channel of a map there, and three the first three.
func (f *feed) read(i int, one func(m *bake.Map) float32, three func(m *bake.Map) [3]float32) {
	if f.world != nil {
		putDirection(&f.in.normal, i, three(f.world))
	}
	if f.local != nil {
		putDirection(&f.in.base, i, three(f.local))
	}
	for k, m := range f.maps {
		f.planes[k][i] = uint16(one(m)*65535 + 0.5)
	}
}

// mapRun is how many places maps are read at in one go.
const mapRun = 128

// between reads maps at places between texels: one map after the other at a run of places, so that the processor, which waits
// for texels that lie far apart, waits for many of them at once.
type between struct {
	*feed
	n     int
	place [mapRun]int
	x, y  [mapRun]float32 // in the set's square
	quads [mapRun]bake.Quad
	size  int // of the maps that quads are for
}

// at has the maps read at a place of the set's square; they are once flush was called.
func (r *between) at(i int, x, y float32) {
	if r.n == mapRun {
		r.flush()
	}
	r.place[r.n], r.x[r.n], r.y[r.n] = i, x, y
	r.n++
}

func (r *between) flush() {
	r.size = 0
	places := r.place[:r.n]
	directions := func(m *bake.Map, to *[3][]int16) {
		quads := r.quadsOf(m)
		for k, i := range places {
			putDirection(to, i, m.ReadThree(&quads[k]))
		}
	}
	if r.world != nil {
		directions(r.world, &r.in.normal)
	}
	if r.local != nil {
		directions(r.local, &r.in.base)
	}
	for k, m := range r.maps {
		to, quads := r.planes[k], r.quadsOf(m)
		for j, i := range places {
			to[i] = uint16(m.Read(&quads[j], 0)*65535 + 0.5)
		}
	}
	r.n = 0
}

// quadsOf finds the texels of a map; maps are mostly of one size.
func (r *between) quadsOf(m *bake.Map) []bake.Quad {
	if m.Size != r.size {
		r.size = m.Size
		for k := range r.n {
			r.quads[k] = bake.QuadAt(r.x[k], r.y[k], m.Size)
		}
	}
	return r.quads[:r.n]
}

// putDirection puts a direction whose components a map holds in 0–1.
func putDirection(planes *[3][]int16, i int, v [3]float32) {
	putVector(planes, i, geom.Vec3{X: 2*v[0] - 1, Y: 2*v[1] - 1, Z: 2*v[2] - 1}.Norm())
}

func putVector(planes *[3][]int16, i int, v geom.Vec3) {
	for k, x := range v.Array() {
		if x *= 32767; x >= 0 {
			planes[k][i] = int16(x + 0.5)
		} else {
			planes[k][i] = int16(x - 0.5)
		}
	}
}

// target is which triangles a layer may touch on a ground; of is nil when it is all of them.
type target struct {
	of    []bool  // by triangle of the model
	share float64 // of the ground's places
}

// aim resolves a layer's targets.
func (g *ground) aim(l *strata.Layer) target {
	whole := len(l.Targets) == 0 || g.only != "" && slices.Contains(l.Targets, g.only)
	if whole && len(l.Parts) == 0 {
		return target{share: 1}
	}
	key := aimKey(l)
	if t, ok := g.aims[key]; ok {
		return t
	}
	t := target{of: g.body.aim(l)}
	in, all := 0, 0
	for i := range g.tiles {
		all += g.tiles[i].Len()
		g.each(i, func(from, to int, tri int32) {
			if t.of[tri] {
				in += to - from
			}
		})
	}
	t.share = float64(in) / float64(max(1, all))
	g.aims[key] = t
	return t
}

// touches tells whether the layer may touch some place.
func (g *ground) touches(l *strata.Layer) bool { return g.aim(l).share > 0 }

// keep clears what lies outside the target on a tile.
func (g *ground) keep(target *target, t int, v []float32) {
	if target.of == nil {
		return
	}
	g.each(t, func(from, to int, tri int32) {
		if !target.of[tri] {
			clear(v[from:to])
		}
	})
}

// scratch of one worker.
type scratch struct {
	ctx        context.Context
	block      field.Block
	tile       int // that block is of
	have       field.Need
	wide       [11][tileTexels]float32 // the block's planes
	part       [tileTexels]int32
	field, acc [tileTexels]float32
	mean, flat [tileTexels]float32
	shown, own [tileTexels]float32
	open       [tileTexels]uint16     // places that a clause may change
	some       [4][tileTexels]float32 // these, and the field there
	somePart   [tileTexels]int32
	cover      [tileTexels]float32 // of a stroke
	channels   *Channels
	slopes     slopes
	levels     []*level
	square     [2][tileTexels]float32 // see squares
	read       [3][]float32
	given      [3][tileTexels]float32 // what read holds
	pixels     [8][tileTexels]float32 // channels of a picture, as they are and as one plane gives them
	lie        [5][tileTexels]float32 // where places lie on a picture, and how much each plane of a box counts
	own3       [3][tileTexels]float32 // values of a source, or what an adjustment gives
	mixed      [blendRun]float32      // what a blend mode makes
	through    [blendRun]float32      // how much of a group shows
	near       lattice
	rim        *scratch               // of the rim
	home       *scratch               // of the rim's: that of the canvas
	leant      [3][tileTexels]float32 // normals with the relief of layers below
	elsewhere  *scratch               // of the places that a warp leads to
	stream     accel.Stream
	lost       bool // averages were wanted and not there, because the work was stopped
}

func (g *ground) scratch(w int) *scratch {
	if g.work[w] == nil {
		g.work[w] = &scratch{tile: -1}
	}
	return g.work[w]
}

// heightKey hashes what the height that steps lay down on a tile depends on; 0 when it is 0 all over.
func (g *ground) heightKey(k *scratch, run []turn, t int) uint64 {
	return g.runKey(k, run, t, 0, func(s *step) uint64 { return s.relief })
}

// prefixes calls f with each number of turns that may stand alone, none in a group, and the heightKey of so many.
func (g *ground) prefixes(k *scratch, run []turn, t int, f func(n int, h uint64)) {
	h, end := uint64(0), 0
	for n := 0; n < len(run); n = end {
		f(n, h)
		end = n + 1 + max(0, run[n].skip)
		h = g.runKey(k, run[n:end], t, h, func(s *step) uint64 { return s.relief })
	}
}

// runKey mixes into a hash what turns do on a tile, of being what they lay down.
func (g *ground) runKey(k *scratch, run []turn, t int, h uint64, of func(s *step) uint64) uint64 {
	for i := 0; i < len(run); i++ {
		s := run[i]
		switch {
		case g.empty(k, s.step, t):
			i += max(0, s.skip)
		case s.skip > 0 && g.nothing(k, run[i+1:i+s.skip], t):
			i += s.skip
		default:
			h = mix(mix(h, g.whereAt(k, s.step, t)), of(s.step))
		}
	}
	return h
}

// nothing tells whether turns do nothing on a tile.
func (g *ground) nothing(k *scratch, run []turn, t int) bool {
	for i := 0; i < len(run); i++ {
		switch s := run[i]; {
		case g.empty(k, s.step, t):
			i += max(0, s.skip)
		case !s.group:
			return false
		}
	}
	return true
}

// heightOf is the height that steps lay down on a tile, nil when it is 0 all over.
func (g *ground) heightOf(k *scratch, run []turn, t int) []float32 {
	h := g.heightKey(k, run, t)
	if h == 0 {
		return nil
	}
	return g.heightBy(k, run, t, mix(keptHeight, h))
}

// heightBy finds the height that steps lay down on a tile by its key, or makes it. What the first of them lay down may be there
// already: that below the layers of another run, or below what is painted.
func (g *ground) heightBy(k *scratch, run []turn, t int, key uint64) []float32 {
	at := cacheKey{g.id, int32(t), key}
	if v, ok := g.body.cache.get(at).([]float32); ok {
		return v
	}
	out := make([]float32, g.tiles[t].Len())
	from, painted := 0, 0
	var under uint64 // the key below the first that is painted
	g.prefixes(k, run, t, func(n int, h uint64) {
		if h != 0 {
			if v, ok := g.body.cache.get(cacheKey{g.id, int32(t), mix(keptHeight, h)}).([]float32); ok {
				copy(out, v)
				from = n
			}
		}
		if s := run[n].step; painted == 0 && n > 0 && h != 0 && s.inks != nil && g.whereAt(k, s, t) != s.where {
			painted, under = n, h
		}
	})
	if from < painted {
		g.lay(k, run[from:painted], t, &blendPlanes{planeHeight: &out})
		if from = painted; !k.lost {
			g.body.cache.put(cacheKey{g.id, int32(t), mix(keptHeight, under)}, slices.Clone(out), 4*len(out))
		}
	}
	g.lay(k, run[from:], t, &blendPlanes{planeHeight: &out})
	if !k.lost {
		g.body.cache.put(at, out, 4*len(out))
	}
	return out
}

// empty tells whether a step's Where is 0 all over a tile.
func (g *ground) empty(k *scratch, s *step, t int) bool { return !s.full && g.known(k, s, t).empty }

// known is a step's Where over a tile as far as it is known still: its values may have gone. nil where it is 1 all over.
func (g *ground) known(k *scratch, s *step, t int) *mask {
	if s.full {
		return nil
	}
	if s.inks != nil {
		return g.mask(k, s, t)
	}
	g.body.cache.use(&s.masks.used)
	if m := s.masks.at[t].Load(); m != nil {
		return m
	}
	return g.mask(k, s, t)
}

// mask evaluates a step's Where over a tile, or finds it in the cache; nil where it is 1 all over.
func (g *ground) mask(k *scratch, s *step, t int) *mask {
	if s.full {
		return nil
	}
	at := cacheKey{}
	if s.inks != nil {
		at = cacheKey{g.id, int32(t), mix(keptMask, g.whereAt(k, s, t))}
		if m, ok := g.body.cache.get(at).(maskAt); ok {
			return m.mask
		}
	} else if m := s.masks.at[t].Load(); m != nil && (m.empty || m.v != nil) {
		g.body.cache.use(&m.used)
		return m
	}
	acc := k.acc[:g.tiles[t].Len()]
	sound := g.evaluate(k, s, t, acc)
	m := &mask{v: make([]uint16, len(acc))}
	pixel.Narrow(m.v, acc)
	var some bool
	if some, m.shown = pixel.Count(m.v, coverageStep); !some {
		m.v, m.empty = nil, true
	}
	switch {
	case !sound:
	case s.inks != nil:
		g.body.cache.put(at, maskAt{m}, 2*len(m.v))
	default:
		g.body.cache.putMask(g.id, s.masks, t, m)
	}
	return m
}

// evaluate writes a step's finished Where over a tile; false when the work was stopped and it says nothing. What it takes from
// other steps is made first, before acc, which may be the worker's own, is in use.
func (g *ground) evaluate(k *scratch, s *step, t int, acc []float32) (sound bool) {
	seen := g.seen(k, s.clauses, t)
	some, under := g.masksOf(k, s.any, t), g.masksOf(k, s.base, t)
	if s.any != nil {
		sound = !k.lost
		fill(acc, 1)
		shown := k.shown[:len(acc)]
		for i, o := range s.any {
			if o.show(shown, some[i], 0, o.share) {
				for j, v := range shown {
					acc[j] *= 1 - v
				}
			}
		}
		for j, v := range acc {
			acc[j] = 1 - v
		}
	} else {
		sound = g.where(k, s, t, seen, acc)
	}
	for i, o := range s.base {
		g.clip(k, o, under[i], acc)
	}
	return sound
}

func (g *ground) masksOf(k *scratch, of []held, t int) (out []*mask) {
	for _, o := range of {
		out = append(out, g.mask(k, o.step, t))
	}
	return out
}

// clip leaves of acc what shows where another step does.
func (g *ground) clip(k *scratch, base held, m *mask, acc []float32) {
	shown := k.shown[:len(acc)]
	if !base.show(shown, m, 0, base.share) {
		clear(acc)
		return
	}
	pixel.JoinAnd.Lay(acc, shown, 1)
}

// needBelow is what clauses read that looks at layers below.
const needBelow = field.NeedHeight | field.NeedMask | field.NeedSource | field.NeedPaint | field.NeedRuns

// seen is what each clause that looks at layers below sees on a tile: the height, or the finished Where of one; nil for the
// others.
func (g *ground) seen(k *scratch, cs []clause, t int) (out [][]float32) {
	for i := range cs {
		if cs[i].kind.Needs&needBelow == 0 && cs[i].tilt == nil {
			continue
		}
		if out == nil {
			out = make([][]float32, len(cs))
		}
		if cs[i].tilt != nil {
			out[i] = g.leaning(k, cs[i].tilt, t)
			continue
		}
		if cs[i].kind.Needs&field.NeedHeight != 0 {
			out[i] = g.heightOf(k, cs[i].below, t)
		}
		if out[i] == nil {
			out[i] = make([]float32, g.tiles[t].Len())
			if s := cs[i].source; s != nil {
				pixel.Widen(out[i], s.read(k, g, t)[0], 1./65535)
			}
			if r := cs[i].runs; r != nil {
				g.stains(k, r, t, out[i])
			}
			if p := cs[i].paint; p != nil {
				if v := g.paint(k, p, t); v != nil {
					pixel.Widen(out[i], v, 1./65535)
				}
			}
			if s := cs[i].same; s != nil {
				s.show(out[i], g.mask(k, s, t), 0, 1)
			}
		}
	}
	return out
}

// where writes a step's finished Where over a tile into acc; false when the work was stopped and acc says nothing.
func (g *ground) where(k *scratch, s *step, t int, seen [][]float32, acc []float32) bool {
	sound := g.softened(k, s.soft, t, acc, func() bool { return g.join(k, s.clauses, t, seen, acc) })
	g.keep(&s.aim, t, acc)
	return sound
}

// softened writes averages into v, or mixes them into the values themselves, which sharp writes there: where the radius is
// too small for averages, and where no points are near.
func (g *ground) softened(k *scratch, a *around, t int, v []float32, sharp func() bool) bool {
	own := float32(1)
	if a != nil {
		own = a.ownShare(g)
	}
	if own == 1 {
		return sharp()
	}
	if own == 0 {
		if sound := a.read(k, g, t, v); !sound || !lost(v) {
			return sound
		}
	}
	sound := sharp()
	return g.mixIn(k, a, t, own, v) && sound
}

// lost tells whether some values are missing.
func lost(v []float32) bool {
	for _, x := range v {
		if x != x {
			return true
		}
	}
	return false
}

// mixIn leaves the values in v a share of their own and gives the rest to their averages, where there are any.
func (g *ground) mixIn(k *scratch, a *around, t int, own float32, v []float32) bool {
	mean := k.mean[:len(v)]
	sound := a.read(k, g, t, mean)
	for i, m := range mean {
		if m == m {
			v[i] = m + (v[i]-m)*own
		}
	}
	return sound
}

// join writes the joined clauses over a tile into acc. The first clause stands alone; strength fades a clause towards
// having no say.
func (g *ground) join(k *scratch, cs []clause, t int, seen [][]float32, acc []float32) bool {
	if !slices.ContainsFunc(cs, func(c clause) bool { return !c.off }) {
		fill(acc, 1)
		return true
	}
	points := true
	for i := range cs {
		points = points && (cs[i].off || cs[i].soft == nil && cs[i].warp == nil && cs[i].tilt == nil && cs[i].kind.Needs&needBelow == 0)
	}
	sound := true
	if points {
		for i := range cs {
			g.widen(k, t, cs[i].kind.Needs)
		}
		for from := 0; from < len(acc); from += joinRun {
			to := min(len(acc), from+joinRun)
			b := k.block.Run(from, to)
			k.joined(cs, acc[from:to], k.field[:to-from], func(cl *clause, _ int, open []uint16, v []float32) {
				k.fill(cl, &b, open, v)
			})
		}
	} else {
		k.joined(cs, acc, k.field[:len(acc)], func(cl *clause, i int, open []uint16, v []float32) {
			var sees []float32
			if seen != nil {
				sees = seen[i]
			}
			sound = g.shaped(k, cl, t, sees, open, v) && sound
		})
	}
	for i := range cs {
		if !cs[i].off {
			g.count.Clauses.Add(1)
		}
	}
	return sound
}

// joinRun is how many places clauses that look at nothing else are joined on at a time: they stay in the nearest cache.
const joinRun = 1024

// joined joins the clauses' values, which shaped writes, into acc; v is scratch. Where open is not nil, values count at these places
// alone: the others are settled.
func (k *scratch) joined(cs []clause, acc, v []float32, shaped func(cl *clause, i int, open []uint16, v []float32)) {
	first := true
	for i := range cs {
		cl := &cs[i]
		if cl.off {
			continue
		}
		if first {
			first = false
			if cl.shape.Strength == 1 {
				shaped(cl, i, nil, acc)
				continue
			}
			fill(acc, 1)
			shaped(cl, i, nil, v)
			pixel.JoinAnd.Lay(acc, v, cl.shape.Strength)
			continue
		}
		if open, some := k.unsettled(cl, acc); some {
			shaped(cl, i, open, v)
			cl.join.Lay(acc, v, cl.shape.Strength)
		}
	}
}

// unsettled tells whether a clause may still change some of what was joined before it, and lists these places where they are
// worth going to alone; nil stands for all.
func (k *scratch) unsettled(cl *clause, acc []float32) (open []uint16, some bool) {
	at, ok := cl.join.Settled()
	if !ok {
		return nil, true
	}
	if !cl.kind.Dear {
		return nil, slices.ContainsFunc(acc, func(x float32) bool { return x != at })
	}
	n := len(acc) - pixel.Same(acc, at)
	switch {
	case n == 0:
		return nil, false
	case n > len(acc)*3/4:
		return nil, true
	}
	n = 0
	for i, x := range acc {
		k.open[n] = uint16(i)
		if x != at {
			n++
		}
	}
	return k.open[:n], true
}

// fill writes the shaped field of a clause at the places of a block, and 0 at those that are not open.
func (k *scratch) fill(cl *clause, b *field.Block, open []uint16, v []float32) {
	if open == nil {
		cl.kind.Fill(b, cl.values, cl.pick, v)
		cl.shape.Apply(v)
		return
	}
	n := len(open)
	some := *b
	for j, p := range [3]*[]float32{&some.X, &some.Y, &some.Z} {
		from, to := *p, k.some[j][:n]
		for m, i := range open {
			to[m] = from[i]
		}
		*p = to
	}
	some.Part = k.somePart[:n]
	for m, i := range open {
		some.Part[m] = b.Part[i]
	}
	out := k.some[3][:n]
	cl.kind.Fill(&some, cl.values, cl.pick, out)
	cl.shape.Apply(out)
	clear(v)
	for m, i := range open {
		v[i] = out[m]
	}
}

// shaped writes the shaped field of a clause; seen is what it sees of layers below, and open the places that it is wanted at, nil
// for all.
func (g *ground) shaped(k *scratch, cl *clause, t int, seen []float32, open []uint16, v []float32) bool {
	if cl.soft != nil {
		open = nil
	}
	return g.softened(k, cl.soft, t, v, func() bool { return g.sharp(k, cl, t, seen, open, v) })
}

// sharp is shaped without softening.
func (g *ground) sharp(k *scratch, cl *clause, t int, seen []float32, open []uint16, v []float32) bool {
	sound := true
	b := &k.block
	if cl.warp != nil {
		b, sound = cl.warp.block(k, g, t, cl.kind.Needs)
	} else {
		g.widen(k, t, cl.kind.Needs)
	}
	b.Mask = seen
	if cl.tilt != nil && seen != nil {
		b = tilted(b, &k.leant, seen)
	}
	if height := seen; cl.kind.Needs&field.NeedHeight != 0 {
		b.Height, b.Mean = height, height
		if cl.mean != nil {
			if own := cl.mean.ownShare(g); own < 1 {
				b.Mean = k.flat[:len(v)]
				copy(b.Mean, height)
				sound = g.mixIn(k, cl.mean, t, own, b.Mean)
			}
		}
	}
	k.fill(cl, b, open, v)
	return sound
}

// widen makes the planes of a tile that a kind needs.
func (g *ground) widen(k *scratch, t int, need field.Need) {
	tile := &g.tiles[t]
	from, to := int(tile.From), int(tile.To)
	n := to - from
	if k.tile != t {
		k.tile, k.have = t, 0
		b := &k.block
		*b = field.Block{Floor: g.body.floor, Pitch: g.pitch, Square: g.body.piece, Part: k.part[:n]}
		for i, p := range []*[]float32{&b.X, &b.Y, &b.Z, &b.NX, &b.NY, &b.NZ, &b.AO, &b.Curve, &b.Tight, &b.Soft, &b.Thick} {
			*p = k.wide[i][:n]
		}
		if g.in.tight == nil {
			b.Tight = nil
		}
		if g.in.soft == nil {
			b.Soft = nil
		}
	}
	need &^= k.have
	k.have |= need
	b := &k.block
	if need&field.NeedPlace != 0 {
		boxes := &g.in.boxes[t]
		for i, to := range [3][]float32{b.X, b.Y, b.Z} {
			pos, at := g.in.pos[i][from:from+n], 0
			for _, r := range boxes.run {
				low, step := boxes.box[r.box].low[i], boxes.box[r.box].step[i]
				pixel.WidenFrom(to[at:r.to], pos[at:r.to], step, low)
				at = int(r.to)
			}
		}
	}
	if need&field.NeedNormal != 0 {
		for i, to := range [3][]float32{b.NX, b.NY, b.NZ} {
			pixel.WidenSigned(to, g.in.normal[i][from:from+n], 1./32767)
		}
	}
	if need&field.NeedAO != 0 {
		unsigned(b.AO, g.in.ao, from, 1)
	}
	if need&field.NeedThick != 0 {
		unsigned(b.Thick, g.in.thick, from, 1)
	}
	if need&field.NeedCurve != 0 {
		unsigned(b.Curve, g.in.curve, from, 0.5)
		unsigned(b.Tight, g.in.tight, from, 0.5)
		unsigned(b.Soft, g.in.soft, from, 0.5)
	}
	if need&field.NeedPart != 0 {
		g.each(t, func(from, to int, tri int32) {
			for i := from; i < to; i++ {
				b.Part[i] = g.body.model.Part[tri]
			}
		})
	}
}

// unsigned widens a baked plane from place from on; without one it stands at neutral.
func unsigned(to []float32, q []uint16, from int, neutral float32) {
	if q == nil {
		fill(to, neutral)
		return
	}
	pixel.Widen(to, q[from:from+len(to)], 1./65535)
}

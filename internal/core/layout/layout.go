// Package layout makes a new UV channel for a model: it cuts the surface into islands, lays them flat
// with little stretch, and packs them into tiles with a margin.
package layout

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"sync"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/par"
	"crust/internal/core/uv"
)

// Ways to spread islands over tiles.
const (
	OneTile = "one"  // all in one square
	PerSet  = "sets" // each set fills a square of its own
	Tiles   = "tiles"
)

// Options of a layout.
type Options struct {
	Into   string  `json:"into"`
	Tiles  int     `json:"tiles"`            // how many, when Into is Tiles: 1–100, numbered from 1001
	Pixels float64 `json:"pixels,omitempty"` // the margin between islands in texels of Size; half of it to the border
	Margin float64 `json:"margin,omitempty"` // the margin as a share of the tile, in place of Pixels
	Size   int     `json:"size,omitempty"`   // resolution of a tile in px, DefaultSize when 0

	// SizeOf is the resolution of single sets, by key, when Into is PerSet; nil when all have Size.
	SizeOf func(key string) int `json:"-"`
}

// DefaultPixels is the margin that padding and smaller copies of a map need, in texels (common practice).
const DefaultPixels = 8

// DefaultSize is the resolution that texels are of when none is given, in px.
const DefaultSize = 2048

// MaxPixels and MaxMargin limit what a margin may be asked to be.
const (
	MaxPixels = 256
	MaxMargin = 0.2
)

// Check says what is wrong with the options.
func (o Options) Check() error {
	switch {
	case o.Into != OneTile && o.Into != PerSet && o.Into != Tiles:
		return fmt.Errorf("islands go into %s, %s or %s, not “%s”", OneTile, PerSet, Tiles, o.Into)
	case o.Into == Tiles && (o.Tiles < 1 || o.Tiles > 100):
		return fmt.Errorf("%d tiles is outside 1–100", o.Tiles)
	case !(o.Margin >= 0 && o.Margin <= MaxMargin):
		return fmt.Errorf("a margin of %g is outside 0–%g of the tile", o.Margin, MaxMargin)
	case !(o.Pixels >= 0 && o.Pixels <= MaxPixels):
		return fmt.Errorf("a margin of %g px is outside 0–%d px", o.Pixels, MaxPixels)
	case o.Size != 0 && (o.Size < 16 || o.Size > 16384):
		return fmt.Errorf("a size of %d px is outside 16–16384 px", o.Size)
	}
	return nil
}

// sizeOf is the resolution of a set's tile in px.
func (o *Options) sizeOf(key string) int {
	if o.SizeOf != nil && o.Into == PerSet {
		if n := o.SizeOf(key); n > 0 {
			return n
		}
	}
	if o.Size > 0 {
		return o.Size
	}
	return DefaultSize
}

// marginOf is the margin in a set's tile, as a share of it.
func (o *Options) marginOf(key string) float64 {
	if o.Margin > 0 {
		return o.Margin
	}
	return min(MaxMargin, o.Pixels/float64(o.sizeOf(key)))
}

// Report tells how a layout came out.
type Report struct {
	Islands int       `json:"islands"`
	Stretch float64   `json:"stretch"` // median over the surface of the larger of longest and 1 / shortest direction, at the layout's mean density
	Worst   float64   `json:"worst"`   // its 95th percentile
	Used    []float64 `json:"used"`    // share of each tile that islands cover
	Margin  float64   `json:"margin"`  // the least that was kept, as a share of its tile
	Pixels  float64   `json:"pixels"`  // the same in texels
	Asked   float64   `json:"asked"`   // the margin that was asked for, in texels
	Density float64   `json:"density"` // px/m at 1 px
	Misses  []string  `json:"misses"`  // what a sound layout has and this one has not, one sentence each; it should not be used then
}

// Layout is the UVs of a new channel, corner by corner.
type Layout struct {
	Corners [][3]geom.Vec2
	Report  Report
}

// Foretell is about how many seconds a layout takes on two cores: measured on an engine of flat and turned
// pieces, on closed animals and on scans of 1 k to 200 k triangles. Faces of curved surfaces take the most.
func Foretell(m *mesh.Model) float64 {
	n := float64(len(m.Tris))
	if len(m.Tris) > manyFaces {
		curved := curvedShare(m)
		return 2 + (2.2e-4*curved*curved+1e-5)*n
	}
	return 4 + 2.5e-4*n
}

// curvedShare is the share of faces that lie more than a quarter of a degree off one of their corners' normals, of some thousands that
// are looked at.
func curvedShare(m *mesh.Model) float64 {
	const look = 4000
	limit := float32(math.Cos(0.25 * math.Pi / 180))
	seen, curved := 0, 0
	for t := 0; t < len(m.Tris); t += max(1, len(m.Tris)/look) {
		a, b, c := m.Corners(t)
		n := b.Sub(a).Cross(c.Sub(a)).Norm()
		seen++
		for _, v := range m.Tris[t] {
			if m.Normals[v].Norm().Dot(n) < limit {
				curved++
				break
			}
		}
	}
	return float64(curved) / float64(max(1, seen))
}

// full is the use of the tiles from which no other cut is tried.
const full = 0.86

// finalists is how many of the plans are packed for good.
const finalists = 1

// errNoRoom says that islands do not fit at any scale, as when their margins alone fill the tile.
var errNoRoom = errors.New("the islands do not fit with this margin")

// Make lays out a model. Islands stay within the sets. The margin is the one that is asked for, or the
// largest with which the tiles are used well. progress may be nil.
func Make(ctx context.Context, m *mesh.Model, sets []uv.Set, o Options, progress func(float64)) (*Layout, error) {
	if err := o.Check(); err != nil {
		return nil, err
	}
	if progress == nil {
		progress = func(float64) {}
	}
	setOf := make([]int32, len(m.Tris))
	for i := range sets {
		for _, t := range sets[i].Tris {
			setOf[t] = int32(i)
		}
	}
	a := newAtlas(m, func(t int) int32 { return setOf[t] })
	var all, points []int32 // faces with area, and without
	for t := range m.Tris {
		if a.flat[t] {
			points = append(points, int32(t))
		} else {
			all = append(all, int32(t))
		}
	}
	if len(all) == 0 {
		return nil, errors.New("the model has no face with area to lay out")
	}
	progress(0.05)
	tries := cuts
	if len(m.Tris) > manyFaces {
		tries = cuts[1:2]
	}
	var done sharing
	run := func(i int) (*plan, error) {
		own := a.own()
		own.glued = make([]bool, len(a.glued))
		return own.plan(ctx, all, tries[i], sets, setOf, o, func(f float64) { progress(0.05 + 0.7*done.at(i, f)/float64(len(tries))) })
	}
	first, err := run(0)
	if err != nil {
		return nil, err
	}
	plans := []*plan{first}
	if rest := len(tries) - 1; rest > 0 && first.worth() < full {
		more, errs := make([]*plan, rest), make([]error, rest)
		err := par.Blocks(ctx, rest, 1, func(_, i, _ int) { more[i], errs[i] = run(i + 1) })
		if err := errors.Join(append(errs, err)...); err != nil {
			return nil, err
		}
		plans = append(plans, more...)
		slices.SortStableFunc(plans, func(x, y *plan) int { return cmp.Compare(y.worth(), x.worth()) })
		plans = plans[:min(finalists, len(plans))]
	}
	for i, p := range plans {
		if err := p.pack(ctx, func(f float64) { progress(0.75 + 0.2*(float64(i)+f)/float64(len(plans))) }); err != nil {
			return nil, err
		}
	}
	best := slices.MaxFunc(plans, func(x, y *plan) int { return cmp.Compare(x.worth(), y.worth()) })
	l := &Layout{Corners: make([][3]geom.Vec2, len(m.Tris))}
	l.Report.Islands, l.Report.Asked = len(best.charts), math.Inf(1)
	l.Report.Margin, l.Report.Pixels = math.Inf(1), math.Inf(1)
	for i, g := range best.groups {
		if len(g) == 0 { // a set of faces without area
			l.Report.Used = append(l.Report.Used, 0)
			continue
		}
		key := sets[setOf[g[0].faces[0]]].Key
		l.Report.Used = append(l.Report.Used, l.put(g, best.packers[i], best.scale[i], best.spots[i])...)
		size, margin := float64(o.sizeOf(key)), best.packers[i].margin
		l.Report.Margin, l.Report.Pixels = min(l.Report.Margin, margin), min(l.Report.Pixels, margin*size)
		l.Report.Asked = min(l.Report.Asked, o.marginOf(key)*size)
	}
	l.settle(a, points)
	l.measure(a, best.charts)
	if err := l.judge(ctx, best.atlas, m, best.charts, o); err != nil {
		return nil, err
	}
	progress(1)
	return l, nil
}

// sharing adds up how far several pieces of work are.
type sharing struct {
	mu   sync.Mutex
	each map[int]float64
	all  float64
}

// add counts work that is done and returns the sum.
func (s *sharing) add(v float64) float64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all += v
	return s.all
}

func (s *sharing) at(i int, f float64) (sum float64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.each == nil {
		s.each = map[int]float64{}
	}
	s.each[i] = f
	for _, v := range s.each {
		sum += v
	}
	return sum
}

// usable is the share of a tile that islands cover in the end, for reckoning before they are packed.
const usable = 0.65

// rooms are what the sets have, by set.
func rooms(a *atlas, sets []uv.Set, o *Options) []room {
	area, out := make([]float64, len(sets)), make([]room, len(sets))
	for i := range sets {
		for _, t := range sets[i].Tris {
			area[i] += a.area[t]
		}
	}
	for i := range sets {
		side := math.Sqrt(a.whole)
		switch o.Into {
		case Tiles:
			side = math.Sqrt(a.whole / float64(o.Tiles))
		case PerSet:
			side = math.Sqrt(area[i])
		}
		out[i] = room{side, o.marginOf(sets[i].Key) * side / math.Sqrt(usable)}
	}
	return out
}

// plan is one way to cut the model, packed roughly.
type plan struct {
	atlas   *atlas
	charts  []*chart
	groups  [][]*chart // what is packed together
	packers []*packer
	scale   []float64 // of each group
	spots   [][]spot  // of each group, once it is packed for good
	used    float64   // mean share of the tiles
}

// pack packs a plan for good.
func (p *plan) pack(ctx context.Context, progress func(float64)) error {
	p.spots, p.used = make([][]spot, len(p.groups)), 0
	errs := make([]error, len(p.groups))
	var done sharing
	err := par.Blocks(ctx, len(p.groups), 1, func(_, i, _ int) {
		if k := p.packers[i]; k != nil {
			p.scale[i], p.spots[i], errs[i] = k.pack(ctx, p.scale[i])
			progress(done.add(1) / float64(len(p.groups)))
		}
	})
	if err := errors.Join(append(errs, err)...); err != nil {
		return err
	}
	for i, k := range p.packers {
		if k != nil {
			p.used += k.used(p.scale[i]) / float64(len(p.groups))
		}
	}
	return nil
}

// worth compares plans: the use of the tiles counts, a little also that islands are few, and much of the
// surface in bits does not do.
func (p *plan) worth() float64 {
	worth := p.used - 0.025*math.Log2(float64(len(p.charts)))
	if inBits, surface := p.atlas.inBits(p.charts); inBits > mostInBits*surface {
		worth--
	}
	return worth
}

func (a *atlas) plan(ctx context.Context, all []int32, c cut, sets []uv.Set, setOf []int32, o Options, progress func(float64)) (*plan, error) {
	charts, err := a.pieces(ctx, all, c.angle, c.reach, func(f float64) { progress(0.4 * f) })
	if err != nil {
		return nil, err
	}
	if c.high > 0 {
		has := rooms(a, sets, &o)
		of := func(c *chart) room { return has[setOf[c.faces[0]]] }
		if charts, err = a.join(ctx, charts, c, of, func(f float64) { progress(0.4 + 0.4*f) }); err != nil {
			return nil, err
		}
	}
	progress(0.8)
	p := &plan{atlas: a, charts: charts, groups: [][]*chart{charts}}
	if o.Into == PerSet {
		p.groups = make([][]*chart, len(sets))
		for _, c := range charts {
			s := setOf[c.faces[0]]
			p.groups[s] = append(p.groups[s], c)
		}
	}
	tiles := 1
	if o.Into == Tiles {
		tiles = o.Tiles
	}
	n := len(p.groups)
	p.packers, p.scale = make([]*packer, n), make([]float64, n)
	errs := make([]error, n)
	var done sharing
	err = par.Blocks(ctx, n, 1, func(_, i, _ int) {
		g := p.groups[i]
		if len(g) == 0 {
			return
		}
		shapes := make([]shape, len(g))
		for k, c := range g {
			shapes[k].tri = c.triangles()
			for _, q := range shapes[k].tri {
				shapes[k].area += math.Abs((q[1][0]-q[0][0])*(q[2][1]-q[0][1])-(q[2][0]-q[0][0])*(q[1][1]-q[0][1])) / 2
			}
		}
		k := newPacker(shapes, tiles, o.marginOf(sets[setOf[g[0].faces[0]]].Key))
		k.others = n
		p.packers[i] = k
		p.scale[i], errs[i] = k.fit(ctx)
		progress(0.8 + 0.2*done.add(1)/float64(n))
	})
	if err := errors.Join(append(errs, err)...); err != nil {
		return nil, err
	}
	for i, k := range p.packers {
		if k != nil {
			p.used += k.used(p.scale[i]) / float64(n)
		}
	}
	return p, nil
}

// put writes the UVs of packed charts and returns the use of each tile.
func (l *Layout) put(charts []*chart, p *packer, scale float64, spots []spot) []float64 {
	shapes, tiles := p.shapes, p.tiles
	used := make([]float64, tiles)
	for i, c := range charts {
		s := spots[i]
		used[s.tile] += shapes[i].area * scale * scale
		sin, cos := math.Sincos(s.angle)
		tile := s.tile
		ox, oy := float64(tile%10), float64(tile/10)
		// One vertex, one UV: computed once, so that both sides of an inner edge agree to the bit.
		at := make([]geom.Vec2, len(c.uv))
		for v, u := range c.uv {
			at[v] = geom.Vec2{X: float32((cos*u[0]-sin*u[1])*scale + s.dx + ox), Y: float32((sin*u[0]+cos*u[1])*scale + s.dy + oy)}
		}
		for k, t := range c.tri {
			l.Corners[c.faces[k]] = [3]geom.Vec2{at[t[0]], at[t[1]], at[t[2]]}
		}
	}
	return used
}

// settle puts faces without area where a neighbour's corner is, as points.
func (l *Layout) settle(a *atlas, points []int32) {
	for _, t := range points {
	corners:
		for _, v := range a.m.Tris[t] {
			for _, u := range a.roundVertex(v) {
				for k, w := range a.m.Tris[u] {
					if a.place[w] == a.place[v] {
						q := l.Corners[u][k]
						l.Corners[t] = [3]geom.Vec2{q, q, q}
						break corners
					}
				}
			}
		}
	}
}

// measure fills the report from the charts, at the layout's own mean density.
func (l *Layout) measure(a *atlas, charts []*chart) {
	var stretch, weight []float64
	surface, flat := 0.0, 0.0
	for _, c := range charts {
		for i, t := range c.faces {
			stretch, weight = append(stretch, c.stretch[i]), append(weight, a.area[t])
			surface += a.area[t]
			q := l.Corners[t]
			flat += math.Abs(float64(q[1].Sub(q[0]).Cross(q[2].Sub(q[0])))) / 2
		}
	}
	l.Report.Stretch, l.Report.Worst = geom.Quantile(stretch, weight, 0.5), geom.Quantile(stretch, weight, 0.95)
	if surface > 0 {
		l.Report.Density = math.Sqrt(flat / surface)
	}
}

// Package layout makes a new UV channel for a model: it cuts the surface into islands, lays them flat
// with little stretch, and packs them into tiles with a margin.
package layout

import (
	"context"
	"errors"
	"fmt"
	"math"
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
	Tiles  int     `json:"tiles"`  // how many, when Into is Tiles: 1–100, numbered from 1001
	Margin float64 `json:"margin"` // between islands, in tiles; half of it to the border
}

// DefaultMargin keeps baked colours from bleeding at small sizes (common practice).
const DefaultMargin = 0.02

// Check says what is wrong with the options.
func (o Options) Check() error {
	switch {
	case o.Into != OneTile && o.Into != PerSet && o.Into != Tiles:
		return fmt.Errorf("islands go into %s, %s or %s, not “%s”", OneTile, PerSet, Tiles, o.Into)
	case o.Into == Tiles && (o.Tiles < 1 || o.Tiles > 100):
		return fmt.Errorf("%d tiles is outside 1–100", o.Tiles)
	case !(o.Margin >= 0 && o.Margin <= 0.2):
		return fmt.Errorf("a margin of %g is outside 0–0.2 of the tile", o.Margin)
	}
	return nil
}

// Report tells how a layout came out.
type Report struct {
	Islands int       `json:"islands"`
	Stretch float64   `json:"stretch"` // median over the surface of the larger of longest and 1 / shortest direction, at the layout's mean density
	Worst   float64   `json:"worst"`   // its 95th percentile
	Used    []float64 `json:"used"`    // share of each tile that islands cover
	Margin  float64   `json:"margin"`
	Density float64   `json:"density"` // px/m at 1 px
}

// Layout is the UVs of a new channel, corner by corner.
type Layout struct {
	Corners [][3]geom.Vec2
	Report  Report
}

// full is the use of the tiles from which no other cut is tried.
const full = 0.8

var errNoRoom = errors.New("the islands do not fit with this margin; take a smaller margin or more tiles")

// Make lays out a model. Islands stay within the sets. progress may be nil.
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
		if a.area[t] > 1e-13*a.diag*a.diag {
			all = append(all, int32(t))
		} else {
			points = append(points, int32(t))
		}
	}
	if len(all) == 0 {
		return nil, errors.New("the model has no face with area to lay out")
	}
	var done sharing
	run := func(own *atlas, i int) (*plan, error) {
		return own.plan(ctx, all, cuts[i], sets, setOf, o, func(f float64) { progress(0.85 * done.at(i, f) / float64(len(cuts))) })
	}
	best, err := run(a, 0)
	if err != nil {
		return nil, err
	}
	rest := cuts[1:]
	if len(m.Tris) > manyFaces {
		rest = cuts[1:2]
	}
	if best.used < full {
		plans, errs := make([]*plan, len(rest)), make([]error, len(rest))
		err := par.Blocks(ctx, len(rest), 1, func(_, i, _ int) {
			own := *a
			own.glued, own.at = make([]bool, len(a.glued)), make([]int32, len(a.at))
			plans[i], errs[i] = run(&own, i+1)
		})
		if err := errors.Join(append(errs, err)...); err != nil {
			return nil, err
		}
		for _, p := range plans {
			if p.used > best.used {
				best = p
			}
		}
	}
	charts := best.charts
	l := &Layout{Corners: make([][3]geom.Vec2, len(m.Tris))}
	l.Report.Islands, l.Report.Margin = len(charts), o.Margin
	for i, g := range best.groups {
		used, err := l.put(ctx, g, best.packers[i], best.rough[i])
		if err != nil {
			return nil, err
		}
		l.Report.Used = append(l.Report.Used, used...)
		progress(0.85 + 0.15*float64(i+1)/float64(len(best.groups)))
	}
	l.settle(a, points)
	l.measure(a, charts)
	progress(1)
	return l, nil
}

// sharing adds up how far several pieces of work are.
type sharing struct {
	mu   sync.Mutex
	each map[int]float64
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

// sideOf is the side in metres of the square that would just hold all islands of a tile, of the
// smallest set when sets fill squares of their own.
func sideOf(a *atlas, sets []uv.Set, o Options) float64 {
	area, tiles := 0.0, 1.0
	for _, v := range a.area {
		area += v
	}
	switch o.Into {
	case Tiles:
		tiles = float64(o.Tiles)
	case PerSet:
		for i := range sets {
			area = min(area, sets[i].Area)
		}
	}
	return math.Sqrt(area / tiles)
}

// plan is one way to cut the model, packed roughly.
type plan struct {
	charts  []*chart
	groups  [][]*chart // what is packed together
	packers []*packer
	rough   []float64 // scale of each group
	used    float64   // mean share of the tiles
}

func (a *atlas) plan(ctx context.Context, all []int32, c cut, sets []uv.Set, setOf []int32, o Options, progress func(float64)) (*plan, error) {
	clear(a.glued)
	charts, err := a.pieces(ctx, all, c.angle, c.reach)
	if err != nil {
		return nil, err
	}
	progress(0.3)
	if c.high > 0 {
		if charts, err = a.join(ctx, charts, c, sideOf(a, sets, o), func(f float64) { progress(0.3 + 0.4*f) }); err != nil {
			return nil, err
		}
	}
	progress(0.7)
	p := &plan{charts: charts, groups: [][]*chart{charts}}
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
	for i, g := range p.groups {
		shapes := make([]shape, len(g))
		for k, c := range g {
			shapes[k].tri = c.triangles()
			for _, q := range shapes[k].tri {
				shapes[k].area += math.Abs((q[1][0]-q[0][0])*(q[2][1]-q[0][1])-(q[2][0]-q[0][0])*(q[1][1]-q[0][1])) / 2
			}
		}
		k := newPacker(shapes, tiles, o.Margin)
		scale, err := k.rough(ctx)
		if err != nil {
			return nil, err
		}
		p.packers, p.rough = append(p.packers, k), append(p.rough, scale)
		p.used += scale * scale * k.total / float64(tiles*len(p.groups))
		progress(0.7 + 0.3*float64(i+1)/float64(len(p.groups)))
	}
	return p, nil
}

// put packs charts finely and writes their UVs.
func (l *Layout) put(ctx context.Context, charts []*chart, p *packer, rough float64) ([]float64, error) {
	scale, spots, err := p.pack(ctx, rough)
	if err != nil {
		return nil, err
	}
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
	return used, nil
}

// settle puts faces without area where a neighbour's corner is, as points.
func (l *Layout) settle(a *atlas, points []int32) {
	without := make(map[int32]bool, len(points))
	for _, t := range points {
		without[t] = true
	}
	for _, t := range points {
	corners:
		for _, v := range a.m.Tris[t] {
			for _, u := range a.roundVertex(v) {
				if without[u] {
					continue
				}
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

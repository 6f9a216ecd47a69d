package compose

import (
	"context"
	"math"
	"slices"
	"sync"

	"crust/internal/core/accel"
	"crust/internal/core/brush"
	"crust/internal/core/field"
	"crust/internal/core/geom"
	"crust/internal/core/par"
	"crust/internal/core/strata"
)

// runoff is the stains of drops that run down the surface from where they are let go.
type runoff struct {
	plan   *plan
	layer  int
	clause *strata.Clause
	key    uint64
	once   sync.Once
	ink    *brush.Ink // nil when the work was stopped
	budget budget
}

// budget is what has become of the drops: what they left on the surface, and what fell off the model.
type budget struct{ drops, left, fell float64 }

// Parameters of the clause, by their places.
const (
	runFrom = iota
	runLength
	runWidth
	runAmount
	runWander
	runSeed
)

// Choices of from.
const (
	fromEdges = iota
	fromLayer
	fromPaint
)

const (
	mostDrops = 6000
	// leastFall is the sine of the slope on which drops stop; the runs of those on flatter places are counted as if it were there.
	leastFall = 0.06
	// mostRuns bounds the steps of a drop.
	mostRuns = 400
	// mostDrips is how often a drop may fall on to something below.
	mostDrips = 3
)

// runsOf makes a clause of runoff ready.
func (p *plan) runoff(layer int, c *strata.Clause) *runoff {
	key := mix(keptRuns, p.clause(layer, *c))
	if p.runs[key] == nil {
		if p.runs == nil {
			p.runs = map[uint64]*runoff{}
		}
		p.runs[key] = &runoff{plan: p, layer: layer, clause: c, key: key}
	}
	return p.runs[key]
}

// ran is what a run has made, as the cache keeps it.
type ran struct {
	ink    *brush.Ink
	budget budget
}

// ready has the drops run; a worker that comes while another does it waits.
func (r *runoff) ready(ctx context.Context) bool {
	r.once.Do(func() {
		at := cacheKey{r.plan.body.inkID, -3, r.key}
		if have, ok := r.plan.body.cache.get(at).(*ran); ok {
			r.ink, r.budget = have.ink, have.budget
			return
		}
		err := r.run(ctx)
		if err != nil {
			r.ink = nil
			r.plan.failed.CompareAndSwap(nil, &err)
			return
		}
		r.plan.body.cache.put(at, &ran{r.ink, r.budget}, r.ink.Bytes())
	})
	return r.ink != nil
}

// drop is where one begins, and a number of its own.
type drop struct {
	at   spot
	seed uint64
}

func (r *runoff) run(ctx context.Context) error {
	b := r.plan.body
	k, _ := field.KindOf(r.clause.Kind)
	v := r.clause.Values(k)
	var err error
	b.filling.Lock()
	beyond := b.neighbours()
	if b.rays == nil {
		b.rays, err = accel.BuildWithin(ctx, accel.Mesh{Positions: b.model.Positions, Tris: b.model.Tris})
	}
	b.filling.Unlock()
	if err != nil {
		return err
	}
	drops, err := r.drops(ctx, v)
	if err != nil {
		return err
	}
	paths, budgets := make([][][]brush.Point, len(drops)), make([]budget, len(drops))
	err = par.Blocks(ctx, len(drops), 32, func(_, from, to int) {
		s := new(accel.Stream)
		for i := from; i < to; i++ {
			paths[i], budgets[i] = b.runDown(drops[i], v, beyond, s)
		}
	})
	if err != nil {
		return err
	}
	r.budget = budget{}
	for _, g := range budgets {
		r.budget.drops += g.drops
		r.budget.left += g.left
		r.budget.fell += g.fell
	}
	r.ink = brush.Ready(brush.Stain(float32(v[runWidth]), slices.Concat(paths...)))
	return nil
}

// drops are let go where the source is, so many to a square metre of it.
func (r *runoff) drops(ctx context.Context, v []float64) (out []drop, err error) {
	p, b := r.plan, r.plan.body
	seed := mix(uint64(v[runSeed]), 77)
	if v[runFrom] == fromPaint {
		s := new(accel.Stream)
		for _, l := range p.strokes(r.clause).laid {
			if l.wet || l.stroke.Erase {
				continue
			}
			for _, path := range l.stroke.Paths {
				out = append(out, b.dropsAlong(path, v, &seed, s)...)
			}
		}
		return thinned(out), nil
	}
	b.mu.Lock()
	c, err := b.cloud(ctx, float32(v[runWidth])*2*perRadius)
	b.mu.Unlock()
	if err != nil {
		return nil, err
	}
	fill, needs, err := r.source(c, v)
	if err != nil || fill == nil {
		return nil, err
	}
	if !allReady(ctx, needs) {
		return nil, ctx.Err()
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	values := make([]float32, len(c.tri))
	err = par.Blocks(ctx, len(c.tiles), 1, func(w, t, _ int) {
		k := c.scratch(w)
		k.ctx, k.lost = ctx, false
		fill(k, t, values[c.tiles[t].From:c.tiles[t].To])
	})
	if err != nil {
		return nil, err
	}
	for i := range c.n {
		area := c.at[i/lanes].area[i%lanes]
		for j := c.first[i]; j < c.first[i+1]; j++ {
			h := mix(seed, uint64(j))
			if float64(area*c.share[j]*values[j])*v[runAmount] > chance(h) {
				out = append(out, drop{b.spotNear(c.tri[j], c.ground, int(j)), h})
			}
		}
	}
	return thinned(out), nil
}

// thinned leaves as many drops as are followed, spread over all of them.
func thinned(of []drop) []drop {
	if len(of) <= mostDrops {
		return of
	}
	slices.SortFunc(of, func(a, b drop) int {
		if a.seed < b.seed {
			return -1
		}
		return 1
	})
	return of[:mostDrops]
}

func chance(h uint64) float64 { return float64(h>>11) / (1 << 53) }

// source is how what drops are let go from is evaluated on a tile of a cloud, and what has to be ready first; nil for nothing.
func (r *runoff) source(c *cloud, v []float64) (fill func(k *scratch, t int, out []float32), needs []needed, err error) {
	if v[runFrom] == fromEdges {
		edges := strata.Clause{ID: r.clause.ID, Kind: "edges", Join: "and", Shape: r.clause.Shape}
		edges.Shape.Low, edges.Shape.High, edges.Shape.Invert, edges.Shape.Strength, edges.Shape.Soften, edges.Shape.Warp = 0.2, 0.8, false, 1, 0, 0
		cl, err := r.plan.clauseOf(c.ground, r.layer, &edges)
		return func(k *scratch, t int, out []float32) { c.shaped(k, &cl, t, nil, nil, out) }, nil, err
	}
	j := r.plan.sameAs(r.layer, r.clause)
	if j < 0 {
		return nil, nil, nil
	}
	s, err := r.plan.shown(c.ground, j, r.layer)
	if err != nil {
		return nil, nil, err
	}
	w := wants{seen: map[*step]bool{}}
	w.step(s)
	return func(k *scratch, t int, out []float32) {
		if !s.show(out, c.mask(k, s, t), 0, 1) {
			clear(out)
		}
	}, w.out, nil
}

// spotNear is the place of a sample on its triangle.
func (b *Body) spotNear(tri int32, g *ground, i int) spot {
	t := i / tileTexels
	boxes := &g.in.boxes[t]
	run := slices.IndexFunc(boxes.run, func(r posRun) bool { return i-t*tileTexels < int(r.to) })
	o := &boxes.box[boxes.run[run].box]
	at := func(k int) float32 { return o.low[k] + float32(g.in.pos[k][i])*o.step[k] }
	return b.spotOn(tri, geom.Vec3{X: at(0), Y: at(1), Z: at(2)})
}

// spotOn is the place of a triangle that lies nearest to a point.
func (b *Body) spotOn(tri int32, at geom.Vec3) spot {
	p, q, s := b.model.Corners(int(tri))
	du, dv := parts(q.Sub(p), s.Sub(p), closest(at, p, q, s).Sub(p))
	return spot{tri, geom.Clamp01(du), geom.Clamp01(dv)}
}

// spotUnder is the place of the surface that a point of a path lies on.
func (b *Body) spotUnder(p *brush.Point, s *accel.Stream) spot {
	lift := 1000 * b.rays.Epsilon()
	if hit, ok := b.rays.FirstHit(p.At().Add(p.Normal().Mul(lift)), p.Normal().Neg(), 2*lift, s); ok {
		return spot{hit.Tri, hit.U, hit.V}
	}
	return b.spotOn(b.nearest(p.At(), p.Normal()), p.At())
}

// dropsAlong lets drops go along a path, as many to its length as amount says for a strip as wide as they are.
func (b *Body) dropsAlong(path []brush.Point, v []float64, seed *uint64, s *accel.Stream) (out []drop) {
	put := func(p *brush.Point) {
		*seed = mix(*seed, 5)
		out = append(out, drop{b.spotUnder(p, s), *seed})
	}
	put(&path[0])
	every := max(v[runWidth]*0.5, 1/(v[runAmount]*v[runWidth]))
	gone := 0.0
	for i := 1; i < len(path) && len(out) < mostDrops/4; i++ {
		p, q := &path[i-1], &path[i]
		long := float64(p.At().Dist(q.At()))
		for gone += long; gone >= every; gone -= every {
			var m brush.Point
			for k := range m {
				m[k] = p[k] + (q[k]-p[k])*float32(min(1, max(0, 1-(gone-every)/max(long, 1e-12))))
			}
			put(&m)
		}
	}
	return out
}

// runDown follows a drop: down the steepest way of each triangle, over edges and seams, and where it hangs, down on to what lies
// below. It leaves of itself as it goes, more where it is slow.
func (b *Body) runDown(d drop, v []float64, beyond []int32, s *accel.Stream) (paths [][]brush.Point, g budget) {
	m := b.model
	g.drops = 1
	width := v[runWidth]
	step := float32(max(width*0.7, v[runLength]/mostRuns))
	length := v[runLength] * (0.35 + 0.65*chance(mix(d.seed, 1)))
	gone, drips := 0.0, 0
	at := d.at
	var path []brush.Point
	strength := func() float32 { // it comes to full strength over its own width, and fades to its end
		return float32(min(1, (gone+0.15*width)/width) * max(0, 1-gone/length))
	}
	put := func() {
		p, n := b.at(at), b.normal(at)
		path = append(path, brush.Point{p.X, p.Y, p.Z, n.X, n.Y, n.Z, strength()})
	}
	end := func() {
		if len(path) > 0 {
			paths = append(paths, path)
		}
		path = nil
	}
	put()
	for range mostRuns {
		p, q, r := m.Corners(int(at.tri))
		n := q.Sub(p).Cross(r.Sub(p)).Norm()
		way := geom.Vec3{Y: -1}.Add(n.Mul(n.Y)) // gravity along the face
		fall := way.Len()                       // the sine of its slope
		if fall < leastFall {
			if n.Y < 0 && b.drip(&at, n, &drips, &gone, length, s) {
				end()
				put()
				continue
			}
			if n.Y < 0 {
				g.fell = max(0, 1-g.left)
			}
			break // a puddle
		}
		way = way.Mul(1 / fall)
		if v[runWander] > 0 {
			// It goes astray by up to a sixth of a turn, in bends many widths long.
			x := gone / (9 * width)
			i := math.Floor(x)
			f := x - i
			f = f * f * (3 - 2*f)
			a := chance(mix(d.seed, uint64(i)+10))*(1-f) + chance(mix(d.seed, uint64(i)+11))*f
			sin, cos := math.Sincos((2*a - 1) * v[runWander] * math.Pi / 3)
			way = way.Mul(float32(cos)).Add(n.Cross(way).Mul(float32(sin)))
		}
		to, ok := b.walk(beyond, at, way.Mul(step))
		spent := float64(step) / max(float64(fall), 3*leastFall)
		if !ok {
			if b.drip(&at, n, &drips, &gone, length, s) {
				end()
				put()
				continue
			}
			g.fell = max(0, 1-g.left)
			break
		}
		at = to
		gone += spent
		g.left = min(1, gone/length)
		put()
		if gone >= length {
			break
		}
	}
	end()
	// What is left stays where it came to rest.
	g.left = 1 - g.fell
	return paths, g
}

// drip has a drop fall from where it hangs on to what lies below; false when that is nothing.
func (b *Body) drip(at *spot, n geom.Vec3, drips *int, gone *float64, length float64, s *accel.Stream) bool {
	if *drips++; *drips > mostDrips {
		return false
	}
	lift := 4 * b.rays.Epsilon()
	from := b.at(*at).Add(geom.Vec3{X: n.X, Z: n.Z}.Mul(lift)).Sub(geom.Vec3{Y: lift})
	hit, ok := b.rays.FirstHit(from, geom.Vec3{Y: -1}, b.model.Bounds().Diagonal()*2, s)
	if !ok {
		return false
	}
	to := spot{hit.Tri, hit.U, hit.V}
	p, q, r := b.model.Corners(int(hit.Tri))
	if q.Sub(p).Cross(r.Sub(p)).Y <= 0 {
		return false // it would fall into something from behind
	}
	*at = to
	*gone += 0.1 * length // it splashes
	return true
}

// stains writes what drops have left on a tile; false when the work was stopped.
func (g *ground) stains(k *scratch, r *runoff, t int, out []float32) bool {
	clear(out)
	if !r.ready(k.ctx) {
		k.lost = true
		return false
	}
	r.ink.Lay(g.places(k, t), 0, r.ink.All(), out)
	return true
}

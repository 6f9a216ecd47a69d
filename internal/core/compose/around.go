package compose

import (
	"context"
	"math"
	"slices"
	"sync"
	"time"

	"crust/internal/core/field"
	"crust/internal/core/strata"
)

// around is a value of the surface round each place: a clause, a finished Where or a height, averaged over a radius. The
// averages stand at the points of a cloud and are read anywhere between them.
type around struct {
	plan   *plan
	key    uint64 // of what is averaged
	radius float32
	of     average
	once   sync.Once
	cloud  *cloud
	values []float32 // by point of the cloud, of which averages are made; nil when the work was stopped
	inks   []ink     // strokes that what is averaged depends on
	mean   *mean     // where there are some
}

// average is what is averaged: a clause of a layer, the height below it that a clause of relief sees, or else the layer's
// whole Where.
type average struct {
	layer  int
	clause int // its place, −1 for the whole Where
	height *strata.Clause
}

// Kinds of what is averaged and kept, as salts of their keys.
const (
	keptHeight  = 0x48
	keptBelow   = 0x42
	keptClause  = 0x43
	keptWhere   = 0x57
	keptReading = 0x52
	keptSource  = 0x53
	keptLeaning = 0x4c
	keptFlat    = 0x46
	keptPaint   = 0x50
	keptMask    = 0x4d
	keptRuns    = 0x44
	keptID      = 0x49
	keptMean    = 0x4e
	keptEdges   = 0x45
	keptNearby  = 0x59
)

// average is an average over a radius in metres.
func (p *plan) average(key uint64, radius float32, of average) *around {
	radius = min(radius, p.body.widest())
	k := mix(key, uint64(math.Float32bits(radius)))
	if p.around[k] == nil {
		p.around[k] = &around{plan: p, key: key, radius: radius, of: of, inks: p.inksAveraged(of)}
	}
	return p.around[k]
}

// softenedWhere is the finished Where of a layer over its radius.
func (p *plan) softenedWhere(i int) *around {
	return p.average(mix(keptWhere, p.joined(i)), p.doc.Layers[i].Soften, average{layer: i, clause: -1})
}

// softenedClause is clause n of a layer over its radius.
func (p *plan) softenedClause(i, n int) *around {
	c := p.doc.Layers[i].Where[n]
	r := c.Shape.Soften
	c.Join, c.Shape.Soften, c.Shape.Strength = "", 0, 0
	return p.average(mix(keptClause, p.clause(i, c)), r, average{layer: i, clause: n})
}

// meanHeight is the height that a clause of relief of layer i sees, over its radius.
func (p *plan) meanHeight(i int, c *strata.Clause) *around {
	k, _ := field.KindOf(c.Kind)
	return p.average(mix(keptHeight, p.below(i, c)), float32(k.Radius(c.Values(k))), average{layer: i, height: c})
}

// stamp hashes the averages that a tile reads; 0 where it reads none.
func (a *around) stamp(k *scratch, g *ground, t int) (h uint64) {
	if a.ownShare(g) == 1 {
		return 0
	}
	if !a.ready(k.ctx) {
		k.lost = true
		return 0
	}
	for _, run := range a.runs(k, g, t) {
		h = mix(h, a.mean.versions[run])
	}
	return mix(h, a.mean.mark)
}

// inksAveraged are the strokes that what is averaged depends on.
func (p *plan) inksAveraged(of average) []ink {
	l := &p.doc.Layers[of.layer]
	if of.height != nil {
		return p.inksSeen(of.layer, of.height)
	}
	var out []ink
	for k := range l.Where {
		if c := l.Where[k]; !c.Off && (of.clause < 0 || of.clause == k) {
			if of.clause == k {
				c.Shape.Soften = 0
			}
			out = append(out, p.inksOfClause(of.layer, &c)...)
		}
	}
	return tidy(out)
}

// ownShare is how much a place's own value counts beside the average. Averages fade out where the radius comes down to
// where places lie apart, and below what the finest cloud can tell.
func (a *around) ownShare(g *ground) float32 {
	least := max(2*g.pitch, leastReach*a.plan.body.spacing(a.radius))
	return min(1, max(0, 2-2*a.radius/least))
}

// ready evaluates the averages; a worker that comes while another does it waits.
func (a *around) ready(ctx context.Context) bool {
	a.once.Do(func() {
		err := a.evaluate(ctx)
		if err != nil {
			a.values = nil
			a.plan.failed.CompareAndSwap(nil, &err)
		}
	})
	return a.values != nil
}

func (a *around) evaluate(ctx context.Context) error {
	b, p := a.plan.body, a.plan
	b.mu.Lock()
	c, err := b.cloud(ctx, a.radius)
	if err != nil {
		b.mu.Unlock()
		return err
	}
	a.cloud = c
	if a.inks != nil {
		b.mu.Unlock()
		return a.evaluatePainted(ctx, c)
	}
	points, ok := b.cache.get(cacheKey{c.id, -1, a.key}).([]float32)
	var fill func(k *scratch, t int, out []float32) bool
	var needs []needed
	if !ok {
		fill, needs, err = p.averaged(c, a.of)
	}
	b.mu.Unlock()
	if err != nil {
		return err
	}
	if !allReady(ctx, needs) {
		return ctx.Err()
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if !ok {
		if points, err = c.points(ctx, fill); err != nil {
			return err
		}
		b.cache.put(cacheKey{c.id, -1, a.key}, points, 4*len(points))
	}
	a.values = points
	return nil
}

// evaluatePainted is evaluate for what depends on strokes.
func (a *around) evaluatePainted(ctx context.Context, c *cloud) error {
	b := a.plan.body
	b.mu.Lock()
	fill, needs, err := a.plan.averaged(c, a.of)
	b.mu.Unlock()
	if err != nil {
		return err
	}
	if !allReady(ctx, needs) {
		return ctx.Err()
	}
	for _, k := range a.inks {
		if k.mean != nil && !k.mean.ready(ctx) {
			return ctx.Err()
		}
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	m := b.mean(c, meanKey{c.id, a.key})
	if !b.lag || !m.whole {
		begun := time.Now()
		if err := c.renew(ctx, m, a.inks, fill); err != nil {
			return err
		}
		b.renewed = time.Now()
		if m.whole { // the first time takes longer than any other
			b.cost = b.renewed.Sub(begun)
		}
		m.whole = true
	}
	a.values, a.mean = m.points, m
	return nil
}

// leastLag is how long averages of what is painted may be old while a hand paints on and on; they are brought up to date when it
// rests. No more than a twentieth of the time goes into them.
const leastLag = 2 * time.Second

// Hurry says that what is evaluated next, until it is called again, is to come soon rather than whole: averages over a radius of
// what is painted, which reach far round a stroke and take most of the time, may be as they were a while ago. It returns whether
// they will be.
func (b *Body) Hurry(on bool) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.lag = on && time.Since(b.renewed) < max(leastLag, 20*b.cost)
	return b.lag
}

// averaged is how what is averaged is evaluated on a tile of a cloud, and the averages that it takes itself.
func (p *plan) averaged(c *cloud, of average) (fill func(k *scratch, t int, out []float32) bool, needs []needed, err error) {
	if of.height != nil {
		steps, err := p.heights(c.ground, p.tree.First[of.layer], of.height)
		if err != nil {
			return nil, nil, err
		}
		return func(k *scratch, t int, out []float32) bool {
			if h := c.heightOf(k, steps, t); h != nil {
				copy(out, h)
			} else {
				clear(out)
			}
			return true
		}, wanted(steps), nil
	}
	s, err := p.step(c.ground, of.layer)
	if err != nil {
		return nil, nil, err
	}
	if of.clause < 0 {
		return func(k *scratch, t int, out []float32) bool {
			return c.join(k, s.clauses, t, c.seen(k, s.clauses, t), out)
		}, wantedBy(s.clauses), nil
	}
	i := of.clause
	cl := s.clauses[i]
	cl.soft = nil
	return func(k *scratch, t int, out []float32) bool {
		var sees []float32
		if seen := c.seen(k, s.clauses[i:i+1], t); seen != nil {
			sees = seen[0]
		}
		c.count.Clauses.Add(1)
		return c.shaped(k, &cl, t, sees, nil, out)
	}, wantedBy([]clause{cl}), nil
}

// wanted lists the averages that steps take, each once.
func wanted(run []turn) []needed {
	w := wants{seen: map[*step]bool{}}
	w.turns(run)
	return w.out
}

func wantedBy(cs []clause) []needed {
	w := wants{seen: map[*step]bool{}}
	w.clauses(cs)
	return w.out
}

// needed is what has to be ready before something is evaluated on a cloud.
type needed interface {
	ready(ctx context.Context) bool
}

// allReady makes all that is needed ready; false when the work was stopped.
func allReady(ctx context.Context, needs []needed) bool {
	return !slices.ContainsFunc(needs, func(n needed) bool { return !n.ready(ctx) })
}

// wants gathers averages, and what runs down, from steps and what these depend on.
type wants struct {
	seen map[*step]bool
	out  []needed
}

func (w *wants) add(a *around) {
	if a != nil && !slices.Contains(w.out, needed(a)) {
		w.out = append(w.out, a)
	}
}

func (w *wants) turns(run []turn) {
	for _, s := range run {
		if s.flat != nil {
			w.turns(s.flat.run)
			continue
		}
		w.step(s.step)
	}
}

func (w *wants) step(s *step) {
	if s == nil || w.seen[s] {
		return
	}
	w.seen[s] = true
	w.add(s.soft)
	for _, o := range slices.Concat(s.base, s.any) {
		w.step(o.step)
	}
	w.clauses(s.clauses)
}

func (w *wants) clauses(cs []clause) {
	for i := range cs {
		if cs[i].off {
			continue
		}
		w.step(cs[i].same)
		w.add(cs[i].soft)
		w.add(cs[i].mean)
		if r := cs[i].runs; r != nil && !slices.Contains(w.out, needed(r)) {
			w.out = append(w.out, r)
		}
		w.turns(cs[i].below)
	}
}

// read writes the averages at the places of a tile; NaN where no points are near. False when the work was stopped.
func (a *around) read(k *scratch, g *ground, t int, out []float32) bool {
	if !a.ready(k.ctx) {
		k.lost = true
		clear(out)
		return false
	}
	of := mix(a.key, bits(a.radius))
	if a.mean != nil {
		of = a.stamp(k, g, t)
	}
	at := cacheKey{g.id, int32(t), mix(keptMean, of)}
	r := g.reading(k, t, a.stride(g))
	v, ok := g.body.cache.get(at).([]float32)
	if !ok {
		v = a.averages(k, g, t, r)
		g.body.cache.put(at, v, 4*len(v))
	}
	r.spread(k, g, t, v, out)
	return true
}

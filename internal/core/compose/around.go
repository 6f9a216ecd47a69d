package compose

import (
	"context"
	"math"
	"slices"
	"sync"

	"crust/internal/core/field"
	"crust/internal/core/strata"
	"crust/internal/core/surface"
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
	values []float32 // by point of the cloud; nil when the work was stopped
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
	keptHeight = 0x48
	keptBelow  = 0x42
	keptClause = 0x43
	keptWhere  = 0x57
)

// over is an average over a radius in metres.
func (p *plan) over(key uint64, radius float32, of average) *around {
	k := mix(key, uint64(math.Float32bits(radius)))
	if p.around[k] == nil {
		p.around[k] = &around{plan: p, key: key, radius: radius, of: of}
	}
	return p.around[k]
}

// ownShare is how much a place's own value counts beside the average. Averages fade out where the radius comes down to
// where places lie apart, and below what the finest cloud can tell.
func (a *around) ownShare(g *ground) float32 {
	least := max(2*g.pitch, reach*a.plan.body.spacing(a.radius))
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
	at := cacheKey{c.id, -1, mix(a.key, uint64(math.Float32bits(a.radius)))}
	if v, ok := b.cache.get(at).([]float32); ok {
		b.mu.Unlock()
		a.values = v
		return nil
	}
	points, ok := b.cache.get(cacheKey{c.id, -1, a.key}).([]float32)
	var fill func(k *scratch, t int, out []float32) bool
	var needs []*around
	if !ok {
		fill, needs, err = p.averaged(c, a.of)
	}
	b.mu.Unlock()
	if err != nil {
		return err
	}
	for _, n := range needs {
		if !n.ready(ctx) {
			return ctx.Err()
		}
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if !ok {
		if points, err = c.points(ctx, fill); err != nil {
			return err
		}
		b.cache.put(cacheKey{c.id, -1, a.key}, points, 4*len(points))
	}
	v, err := c.filter(ctx, points, a.radius)
	if err != nil {
		return err
	}
	b.cache.put(at, v, 4*len(v))
	a.values = v
	return nil
}

// averaged is how what is averaged is evaluated on a tile of a cloud, and the averages that it takes itself.
func (p *plan) averaged(c *cloud, of average) (fill func(k *scratch, t int, out []float32) bool, needs []*around, err error) {
	if of.height != nil {
		steps, err := p.heights(c.ground, of.layer, of.height)
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
		}, wanted(nil, steps...), nil
	}
	s, err := p.step(c.ground, of.layer)
	if err != nil {
		return nil, nil, err
	}
	if of.clause < 0 {
		return func(k *scratch, t int, out []float32) bool {
			return c.join(k, s.clauses, t, c.seen(k, s.clauses, t), out)
		}, wantedBy(nil, s.clauses), nil
	}
	i := of.clause
	cl := s.clauses[i]
	cl.soft = nil
	return func(k *scratch, t int, out []float32) bool {
		var h []float32
		if seen := c.seen(k, s.clauses[i:i+1], t); seen != nil {
			h = seen[0]
		}
		c.count.Clauses.Add(1)
		return c.shaped(k, &cl, t, h, out)
	}, wantedBy(nil, []clause{cl}), nil
}

// wanted lists the averages that steps take, each once.
func wanted(out []*around, steps ...*step) []*around {
	for _, s := range steps {
		if s.soft != nil && !slices.Contains(out, s.soft) {
			out = append(out, s.soft)
		}
		out = wantedBy(out, s.clauses)
	}
	return out
}

func wantedBy(out []*around, cs []clause) []*around {
	for i := range cs {
		for _, a := range []*around{cs[i].soft, cs[i].mean} {
			if a != nil && !slices.Contains(out, a) {
				out = append(out, a)
			}
		}
		for _, s := range cs[i].below {
			out = wanted(out, s)
		}
	}
	return out
}

// read writes the averages at the places of a tile; NaN where no points are near. False when the work was stopped.
func (a *around) read(k *scratch, g *ground, t int, out []float32) bool {
	if !a.ready(k.ctx) {
		k.lost = true
		clear(out)
		return false
	}
	g.widen(k, t, field.NeedPlace|field.NeedNormal)
	n := &k.near
	n.of(a)
	step := a.stride(g)
	if g.spans == nil || step < 2 {
		for i := range out {
			out[i] = n.at(&k.block, i)
		}
		return true
	}
	n.lattice(k, g, t, step, out)
	return true
}

// stride is over how many texels averages hardly bend: a fifth of the radius at the most.
func (a *around) stride(g *ground) int {
	n := 1
	for 2*n <= surface.TileSize/4 && float32(2*n)*g.pitch <= 0.2*a.radius {
		n *= 2
	}
	return n
}

// lattice reads the averages of a tile at every so many texels each way and between them in straight lines, where these lie
// on one piece of the surface; where they do not, at half as many, and so on down to each texel.
func (n *nearby) lattice(k *scratch, g *ground, t, step int, out []float32) {
	const side = surface.TileSize
	for i := range n.texel {
		n.texel[i] = -1
	}
	i := 0
	for _, s := range g.spans[t] {
		for j := range int(s.n) {
			n.texel[int(s.at)+j] = int16(i)
			out[i] = nan
			i++
		}
	}
	l := lattice{nearby: n, b: &k.block, out: out, pitch: g.pitch}
	for y := 0; y < side-1; y += step {
		for x := 0; x < side-1; x += step {
			l.cell(x, y, min(x+step, side-1), min(y+step, side-1))
		}
	}
}

// lattice is a tile while its averages are read.
type lattice struct {
	*nearby
	b     *field.Block
	out   []float32
	pitch float32
}

// node is the texel at a column and row, −1 where there is none, and its average.
func (l *lattice) node(x, y int) (i int, v float32) {
	if i = int(l.texel[y*surface.TileSize+x]); i < 0 {
		return i, 0
	}
	if l.out[i] != l.out[i] {
		l.out[i] = l.at(l.b, i)
	}
	return i, l.out[i]
}

// cell fills the texels between four corners.
func (l *lattice) cell(x0, y0, x1, y1 int) {
	if x0 == x1 || y0 == y1 || !l.covers(x0, y0, x1, y1) {
		return
	}
	var at [4]int
	var v [4]float32
	whole := true
	for c, p := range [4][2]int{{x0, y0}, {x1, y0}, {x0, y1}, {x1, y1}} {
		at[c], v[c] = l.node(p[0], p[1])
		whole = whole && at[c] >= 0 && v[c] == v[c]
	}
	if x1-x0 <= 1 && y1-y0 <= 1 {
		return
	}
	// Corners that lie much further apart than in the texture are not on one piece.
	far := 2 * l.pitch * float32(max(x1-x0, y1-y0))
	if !whole || apart(l.b, at[0], at[3]) > 2*far*far || apart(l.b, at[1], at[2]) > 2*far*far {
		x, y := (x0+x1+1)/2, (y0+y1+1)/2
		l.cell(x0, y0, x, y)
		l.cell(x, y0, x1, y)
		l.cell(x0, y, x, y1)
		l.cell(x, y, x1, y1)
		return
	}
	for y := y0; y <= y1; y++ {
		fy := float32(y-y0) / float32(y1-y0)
		for x := x0; x <= x1; x++ {
			i := int(l.texel[y*surface.TileSize+x])
			if i < 0 || l.out[i] == l.out[i] {
				continue
			}
			fx := float32(x-x0) / float32(x1-x0)
			if between(l.b, at, fx, fy, i) < far*far/16 {
				low, high := v[0]+(v[1]-v[0])*fx, v[2]+(v[3]-v[2])*fx
				l.out[i] = low + (high-low)*fy
			} else {
				l.out[i] = l.at(l.b, i)
			}
		}
	}
}

// covers tells whether any texel of a cell is covered.
func (l *lattice) covers(x0, y0, x1, y1 int) bool {
	for y := y0; y <= y1; y++ {
		for _, i := range l.texel[y*surface.TileSize+x0 : y*surface.TileSize+x1+1] {
			if i >= 0 {
				return true
			}
		}
	}
	return false
}

// apart is the square of the distance between two places of a block.
func apart(b *field.Block, i, j int) float32 {
	dx, dy, dz := b.X[i]-b.X[j], b.Y[i]-b.Y[j], b.Z[i]-b.Z[j]
	return dx*dx + dy*dy + dz*dz
}

// between is the square of the distance from a place of a block to where it would be if the surface were straight between
// four others.
func between(b *field.Block, at [4]int, fx, fy float32, i int) (d float32) {
	for _, v := range [3][]float32{b.X, b.Y, b.Z} {
		low, high := v[at[0]]+(v[at[1]]-v[at[0]])*fx, v[at[2]]+(v[at[3]]-v[at[2]])*fx
		off := v[i] - low - (high-low)*fy
		d += off * off
	}
	return d
}

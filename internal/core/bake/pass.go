package bake

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"sync/atomic"
	"time"

	"crust/internal/core/accel"
	"crust/internal/core/cells"
	"crust/internal/core/geom"
	"crust/internal/core/par"
	"crust/internal/core/sobol"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
)

const blockSize = 256

// bandTexels bounds what is worked on at once: a map is baked in bands of rows, so that memory does not grow
// with its size.
const bandTexels = 1 << 21

// Bake computes the named maps of a set. progress is called with growing shares of 1, from any
// goroutine; it may be nil.
func (s *Source) Bake(ctx context.Context, set *uv.Set, kinds []string, progress func(float64)) ([]*Map, error) {
	if progress == nil {
		progress = func(float64) {}
	}
	began := time.Now()
	b, err := s.newJob(ctx, set, kinds, s.sizeOf(set))
	if err != nil {
		return nil, err
	}
	b.progress = progress
	maps, err := b.run(ctx, max(1, min(b.size, bandTexels/b.size)))
	if err != nil {
		return nil, fmt.Errorf("baking set “%s”: %w", set.Name, err)
	}
	// What is not a kind's own is shared by all.
	own := 0.0
	for i := range b.layers {
		maps[i].Seconds = b.layers[i].spent.Seconds() / float64(par.Workers())
		own += maps[i].Seconds
	}
	rest := max(0, time.Since(began).Seconds()-own) / float64(max(1, len(maps)))
	for _, m := range maps {
		m.Seconds += rest
	}
	return maps, nil
}

func (s *Source) sizeOf(set *uv.Set) int {
	if s.SizeOf != nil {
		return s.SizeOf(set.Key)
	}
	return s.Settings.Size
}

// job is the bake of some kinds of one set.
type job struct {
	s        *Source
	set      *uv.Set
	size     int
	seed     uint32
	layers   []layer
	count    []uint8 // samples by texel
	progress func(float64)
	done     atomic.Int64
	all      int64
	missed   atomic.Int64
	outer    *Caster // of occlusion
	inner    *Caster // of thickness
	perOuter int     // rays of one sample
	perInner int
	texel    float32 // side of a texel on the model in metres
	ids      *ids
	found    []point // of the rows that are worked on, when values between texels may stand in; see between.go
	first    int     // texel that found begins with
}

// layer is a map that comes to be.
type layer struct {
	Kind
	sum   []float32 // of one band, or of the whole map when rays are counted
	rays  []uint16  // by texel, for maps whose values are means over rays
	once  bool      // one sample a texel is enough
	grid  int       // texels from one that is always computed to the next
	allow float32   // tolerance
	whole bool      // sum is of the whole map
	base  int       // texel that sum and rays begin with
	spent time.Duration
	total atomic.Int64 // rays
	out   *Map
}

func (s *Source) newJob(ctx context.Context, set *uv.Set, kinds []string, size int) (*job, error) {
	f := fnv.New32a()
	f.Write([]byte(set.Key))
	b := &job{s: s, set: set, size: size, seed: sobol.Hash(f.Sum32()), progress: func(float64) {}, layers: make([]layer, len(kinds))}
	b.texel = texelOf(set, size)
	for i, name := range kinds {
		k, err := KindOf(name)
		if err != nil {
			return nil, err
		}
		l := &b.layers[i]
		l.Kind = k
		if isCurvature[name] {
			if err := s.makeClouds(ctx); err != nil {
				return nil, err
			}
			// A mean over many texels needs no more than one sample.
			l.once = s.clouds[name].radius > 2*b.texel
		}
		if name == ID {
			l.once = true // colours of different things are not mixed
			b.ids = s.newIDs(set)
		}
		l.whole = name == AO || name == Thickness
		l.grid, l.allow = b.gridOf(name), tolerance[name]
	}
	n := len(offsets[s.Settings.Samples])
	b.perOuter = max(1, (s.Settings.Rays+n-1)/n)
	b.perInner = max(1, (s.innerRays()+n-1)/n)
	b.outer, b.inner = s.caster(b.perOuter*n), s.caster(b.perInner*n)
	return b, nil
}

// run bakes bands of so many rows.
func (b *job) run(ctx context.Context, rows int) ([]*Map, error) {
	size := b.size
	b.count = make([]uint8, size*size)
	b.all = int64(b.set.UVArea*float64(size)*float64(size)) * int64(b.s.Settings.Samples)
	if b.s.Settings.draft() {
		b.all *= 3 // passes
	}
	for i := range b.layers {
		l := &b.layers[i]
		l.out = &Map{Set: b.set.Key, Kind: l.Name, Size: size, Channels: l.Channels, Pix: make([]uint16, size*size*l.Channels)}
		if b.s.Settings.Float {
			l.out.Float = make([]float32, len(l.out.Pix))
		}
		if l.whole {
			l.sum, l.rays = make([]float32, size*size), make([]uint16, size*size)
		}
	}
	for y := 0; y < size; y += rows {
		if err := b.bake(ctx, y, min(size, y+rows)); err != nil {
			return nil, err
		}
	}
	return b.finish(ctx, rows)
}

// bake computes the rows from y0 to y1.
func (b *job) bake(ctx context.Context, y0, y1 int) error {
	for i := range b.layers {
		if l := &b.layers[i]; !l.whole {
			l.base = y0 * b.size
			l.sum = make([]float32, (y1-y0)*b.size*l.Channels)
		}
	}
	for i, o := range offsets[b.s.Settings.Samples] {
		surf := surface.RasteriseRows(b.s.Low, b.set, b.size, o[0], o[1], y0, y1)
		if b.s.Settings.draft() {
			b.found = make([]point, (y1-y0)*b.size)
			b.first = y0 * b.size
		}
		if err := b.pass(ctx, surf, i, b.block); err != nil {
			return err
		}
		if b.found == nil {
			continue
		}
		for step := widestGrid; step > 1; step /= 2 {
			if err := b.pass(ctx, surf, i, b.between(step)); err != nil {
				return err
			}
		}
	}
	for i := range b.layers {
		if l := &b.layers[i]; !l.whole {
			if err := b.encode(ctx, l, y0, y1); err != nil {
				return err
			}
			l.sum = nil
		}
	}
	return nil
}

// scratch of one worker.
type scratch struct {
	stream accel.Stream
	pts    [blockSize]point
	skip   [blockSize]bool
	x, y   [blockSize]uint16 // of the texels
	outer  *Worker
	inner  *Worker
	near   map[string]*cells.Near
	spent  []time.Duration
}

// block is a run of texels with one sample each.
type block struct {
	*scratch
	b    *job
	l    *layer
	surf *surface.Surface
	from int
	pts  []point
	skip []bool // places whose texels are not wanted
	spot int    // number of the sample
}

// one and three add values of a texel, at place i of the block.
func (k *block) one(i int, v float32) {
	at := k.surf.Texel[k.from+i]
	if k.l.once && k.b.count[at] > 1 {
		return
	}
	k.l.sum[int(at)-k.l.base] += v
}

func (k *block) three(i int, v geom.Vec3) {
	at := k.surf.Texel[k.from+i]
	if k.l.once && k.b.count[at] > 1 {
		return
	}
	to := k.l.sum[3*(int(at)-k.l.base):][:3]
	to[0] += v.X
	to[1] += v.Y
	to[2] += v.Z
}

// pass adds one sample per covered texel to the sums. Each texel is written by one block only.
func (b *job) pass(ctx context.Context, surf *surface.Surface, spot int, do func(k *scratch, surf *surface.Surface, from, to, spot int)) error {
	work := make([]*scratch, par.Slots)
	err := par.Blocks(ctx, surf.Len(), blockSize, func(w, from, to int) {
		if work[w] == nil {
			work[w] = b.scratch()
		}
		do(work[w], surf, from, to, spot)
		n := b.done.Add(int64(to - from))
		b.progress(min(0.97, 0.97*float64(n)/float64(max(1, b.all))))
	})
	for _, k := range work {
		if k != nil {
			for i := range b.layers {
				b.layers[i].spent += k.spent[i]
			}
		}
	}
	return err
}

func (b *job) scratch() *scratch {
	return &scratch{outer: b.outer.Worker(), inner: b.inner.Worker(), near: map[string]*cells.Near{}, spent: make([]time.Duration, len(b.layers))}
}

func (b *job) block(k *scratch, surf *surface.Surface, from, to, spot int) {
	pts := k.pts[:to-from]
	b.s.locate(surf, from, pts, b.texel, &k.stream)
	missed := int64(0)
	for i := range pts {
		at := surf.Texel[from+i]
		b.count[at]++
		if pts[i].miss && b.count[at] == 1 {
			missed++
		}
	}
	b.missed.Add(missed)
	if b.found != nil {
		for i := range pts {
			pts[i].known = true
			b.found[int(surf.Texel[from+i])-b.first] = pts[i]
		}
	}
	b.place(k, surf, from, to)
	t := time.Now()
	for j := range b.layers {
		l, skip := &b.layers[j], k.skip[:len(pts)]
		off := uint16(l.grid - 1)
		if b.found == nil {
			off = 0
		}
		for i := range skip {
			skip[i] = (k.x[i]|k.y[i])&off != 0
		}
		l.fill(&block{k, b, l, surf, from, pts, skip, spot})
		now := time.Now()
		k.spent[j] += now.Sub(t)
		t = now
	}
}

func fillWorldNormal(k *block) {
	for i := range k.pts {
		k.three(i, k.pts[i].n)
	}
}

// fillNormal expresses the normals in the low-poly's frames.
func fillNormal(k *block) {
	s := k.b.s
	for i := range k.pts {
		j := k.from + i
		v, _ := s.Low.FrameAt(s.tangents, int(k.surf.Tri[j]), k.surf.U[j], k.surf.V[j]).Local(k.pts[i].n)
		k.three(i, v)
	}
}

func fillPosition(k *block) {
	for i := range k.pts {
		k.three(i, k.b.s.within(k.surf.Position(k.from+i)))
	}
}

func fillID(k *block) {
	for i := range k.pts {
		k.three(i, k.b.ids.value(&k.pts[i], k.surf.Tri[k.from+i]))
	}
}

var isCurvature = map[string]bool{Curvature: true, Tight: true, Soft: true}

func fillCurvature(k *block) {
	c := k.b.s.clouds[k.l.Name]
	n := k.near[k.l.Name]
	if n == nil {
		n = &cells.Near{}
		k.near[k.l.Name] = n
	}
	for i := range k.pts {
		if k.skip[i] || k.l.once && k.b.count[k.surf.Texel[k.from+i]] > 1 {
			continue
		}
		k.one(i, c.value(&k.pts[i], n))
	}
}

// encode writes a layer's rows in 16 bits.
func (b *job) encode(ctx context.Context, l *layer, y0, y1 int) error {
	unit := l.Name == WorldNormal || l.Name == Normal
	return par.Blocks(ctx, y1-y0, 32, func(_, from, to int) {
		for at := (y0 + from) * b.size; at < (y0+to)*b.size; at++ {
			n := float32(b.count[at])
			if n == 0 {
				continue
			}
			if l.rays != nil {
				n = max(1, float32(l.rays[at]))
			} else if l.once {
				n = 1
			}
			i := at - l.base
			v := l.sum[i*l.Channels : (i+1)*l.Channels]
			if unit {
				d := geom.Vec3{X: v[0], Y: v[1], Z: v[2]}.Norm()
				l.put(at, d.X/2+0.5, d.Y/2+0.5, d.Z/2+0.5)
				continue
			}
			for c := range v {
				l.out.put(at*l.Channels+c, v[c]/n)
			}
		}
	})
}

func (l *layer) put(at int, v ...float32) {
	for c := range v {
		l.out.put(at*l.Channels+c, v[c])
	}
}

func (m *Map) put(at int, v float32) {
	m.Pix[at] = encode(v)
	if m.Float != nil {
		m.Float[at] = v
	}
}

func encode(v float32) uint16 { return uint16(geom.Clamp01(v)*65535 + 0.5) }

// finish cleans and encodes the maps of rays and fills the empty texels of all.
func (b *job) finish(ctx context.Context, rows int) ([]*Map, error) {
	covered := &surface.Surface{Model: b.s.Low, Set: b.set, Size: b.size}
	n := 0
	for _, c := range b.count {
		if c > 0 {
			n++
		}
	}
	covered.Texel = make([]uint32, 0, n)
	for at, c := range b.count {
		if c > 0 {
			covered.Texel = append(covered.Texel, uint32(at))
		}
	}
	if n == 0 {
		return nil, fmt.Errorf("at %d px: %w", b.size, surface.ErrEmpty)
	}
	if err := b.clean(ctx, rows); err != nil {
		return nil, err
	}
	for i := range b.layers {
		if l := &b.layers[i]; l.whole {
			if err := b.encode(ctx, l, 0, b.size); err != nil {
				return nil, err
			}
			l.sum, l.rays = nil, nil
		}
	}
	b.progress(0.98)
	if err := covered.Pad(ctx); err != nil {
		return nil, err
	}
	var out []*Map
	for i := range b.layers {
		l := &b.layers[i]
		if err := spill(ctx, l.out, covered); err != nil {
			return nil, err
		}
		l.out.Missed, l.out.Rays = b.missed.Load(), l.total.Load()
		switch l.Name {
		case Thickness:
			l.out.High = b.s.Settings.Deep
		case Height:
			l.out.Low, l.out.High = -b.s.heightRange(), b.s.heightRange()
		case Position:
			l.out.Box = Corners{b.s.box.Min.Array(), b.s.box.Max.Array()}
		case ID:
			l.out.Legend = b.ids.legend(l.out, covered.Texel, b.set.Area)
		}
		out = append(out, l.out)
	}
	b.progress(1)
	return out, nil
}

// spill copies the nearest covered texel to each empty one.
func spill(ctx context.Context, m *Map, covered *surface.Surface) error {
	n := m.Channels
	return par.Blocks(ctx, m.Size, 32, func(_, from, to int) {
		for at := from * m.Size; at < to*m.Size; at++ {
			src := int(covered.Texel[covered.Nearest[at]])
			if src == at {
				continue
			}
			copy(m.Pix[at*n:at*n+n], m.Pix[src*n:src*n+n])
			if m.Float != nil {
				copy(m.Float[at*n:at*n+n], m.Float[src*n:src*n+n])
			}
		}
	})
}

// Misses looks for the high-poly at the centres of a set's texels, without baking: 0 is an empty texel, 1 found,
// 2 missed.
func (s *Source) Misses(ctx context.Context, set *uv.Set, size int) (mask []uint8, missed int, err error) {
	if s.High == nil {
		return nil, 0, errors.New("there is no high-poly to look for")
	}
	surf := surface.Rasterise(s.Low, set, size, 0, 0)
	mask = make([]uint8, size*size)
	streams := make([]accel.Stream, par.Slots)
	texel := texelOf(set, size)
	var n atomic.Int64
	err = par.Blocks(ctx, surf.Len(), blockSize, func(w, from, to int) {
		for j := from; j < to; j++ {
			var p point
			mask[surf.Texel[j]] = 1
			if !s.find(int(surf.Tri[j]), surf.U[j], surf.V[j], surf.Position(j), texel, &p, &streams[w]) {
				mask[surf.Texel[j]] = 2
				n.Add(1)
			}
		}
	})
	return mask, int(n.Load()), err
}

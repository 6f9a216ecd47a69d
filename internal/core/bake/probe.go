package bake

import (
	"context"
	"math"
	"strings"
	"time"

	"crust/internal/core/par"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
)

// probeTexels is how many texels a probe bakes, in probeRuns runs of neighbours.
const (
	probeTexels = 1536
	probeRuns   = 12
)

const probeTimes = 3

// probed is what a probe was of.
type probed struct {
	set, kinds          string
	size, rays, samples int
	area                float64
}

// Probe foretells the seconds that baking kinds of a set will take, by baking a few runs of its texels. What has been
// probed once is known.
func (s *Source) Probe(ctx context.Context, set *uv.Set, kinds []string) (float64, error) {
	of := probed{set.Key, strings.Join(kinds, " "), s.sizeOf(set), s.Settings.Rays, s.Settings.Samples, set.UVArea}
	s.lock.Lock()
	known, ok := s.probes[of]
	s.lock.Unlock()
	if ok {
		return known, ctx.Err()
	}
	// The least of a few, as whatever else the machine does only adds to it.
	least := math.Inf(1)
	for range probeTimes {
		v, err := s.probe(ctx, set, kinds)
		if err != nil {
			return 0, err
		}
		least = min(least, v)
	}
	s.lock.Lock()
	defer s.lock.Unlock()
	s.probes[of] = least
	return least, nil
}

func (s *Source) probe(ctx context.Context, set *uv.Set, kinds []string) (float64, error) {
	size := s.sizeOf(set)
	b, err := s.newJob(ctx, set, kinds, size)
	if err != nil {
		return 0, err
	}
	spots := offsets[s.Settings.Samples]
	// Whole blocks from the middle of rows, where rays find each other's nodes in the cache. Texels of more samples
	// take longer, so there are fewer.
	most := int(probeTexels/math.Sqrt(float64(len(spots)))) / probeRuns
	var runs [probeRuns]measured
	err = par.Blocks(ctx, probeRuns, 1, func(_, i, _ int) {
		y := (2*i + 1) * size / (2 * probeRuns)
		r := b.rows(y)
		k := r.scratch()
		began, m := time.Now(), &runs[i]
		for spot, o := range spots {
			t := time.Now()
			surf := surface.RasteriseRows(s.Low, set, size, o[0], o[1], y, y+1)
			m.laying += time.Since(t).Seconds()
			to := min(surf.Len(), most)
			r.block(k, surf, 0, to, spot)
			m.texels = max(m.texels, to)
		}
		m.own = time.Since(began).Seconds() - m.laying
		for i := range r.layers {
			m.own -= k.spent[i].Seconds() * (1 - computed[r.layers[i].grid])
		}
	})
	if err != nil {
		return 0, err
	}
	covered := set.UVArea * float64(size) * float64(size)
	rest := float64(size*size) * fillUp * float64(len(kinds)+2)
	if s.Settings.Rays < cleanFrom {
		for i := range b.layers {
			if b.layers[i].whole {
				rest += covered * cleanUp
			}
		}
	}
	return foretold(runs[:], covered, rest, par.Workers()), nil
}

// measured are the seconds that one core took for a run of texels: for laying out a row, and for all its texels.
type measured struct {
	texels      int
	laying, own float64
}

// foretold is how many seconds so many cores take for covered texels, when rest is what one takes for all else. A row
// is laid out as slowly as a band, and by one core.
func foretold(runs []measured, covered, rest float64, cores int) float64 {
	n, laying, texels := 0, 0.0, 0.0
	for _, m := range runs {
		n, laying, texels = n+m.texels, laying+m.laying, texels+m.own
	}
	return (texels/float64(max(1, n))*covered+rest)/float64(cores) + laying/float64(len(runs))
}

// Seconds that a core takes for a texel of a map, by experience: to pad and encode it, and to clean it.
const (
	fillUp  = 40e-9
	cleanUp = 300e-9
)

// rows is a job beside b for one row.
func (b *job) rows(y int) *job {
	r := &job{s: b.s, set: b.set, size: b.size, seed: b.seed, outer: b.outer, inner: b.inner, perOuter: b.perOuter, perInner: b.perInner, texel: b.texel, ids: b.ids,
		layers: make([]layer, len(b.layers)), count: make([]uint8, (y+1)*b.size)}
	for i := range r.layers {
		l, o := &r.layers[i], &b.layers[i]
		l.Kind, l.once, l.grid, l.whole, l.base = o.Kind, o.once, o.grid, o.whole, y*b.size
		l.sum = make([]float32, b.size*l.Channels)
		if l.whole {
			l.rays = make([]uint16, b.size)
		}
	}
	return r
}

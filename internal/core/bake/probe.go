package bake

import (
	"context"
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
	v, err := s.probe(ctx, set, kinds)
	if err == nil {
		s.lock.Lock()
		s.probes[of] = v
		s.lock.Unlock()
	}
	return v, err
}

func (s *Source) probe(ctx context.Context, set *uv.Set, kinds []string) (float64, error) {
	size := s.sizeOf(set)
	b, err := s.newJob(ctx, set, kinds, size)
	if err != nil {
		return 0, err
	}
	b.count = make([]uint8, size*size)
	covered := set.UVArea * float64(size) * float64(size)
	common := 0.0 // seconds of one core for what is not texels: laying out and filling up
	var runs []*surface.Surface
	for i := range probeRuns {
		t := time.Now()
		y := (2*i + 1) * size / (2 * probeRuns)
		surf := surface.RasteriseRows(s.Low, set, size, 0, 0, y, y+1)
		runs = append(runs, surf)
		common += time.Since(t).Seconds()
	}
	n := 0
	began := time.Now()
	k := b.scratch()
	for _, surf := range runs {
		// Whole blocks from the middle of the row, where rays find each other's nodes in the cache.
		to := min(surf.Len(), probeTexels/probeRuns)
		if to == 0 || ctx.Err() != nil {
			continue
		}
		for i := range b.layers {
			l := &b.layers[i]
			l.base = int(surf.Texel[0]) / size * size
			l.sum = make([]float32, size*l.Channels)
			l.rays = nil
			if l.whole {
				l.rays = make([]uint16, size)
			}
		}
		b.block(k, surf, 0, to, 0)
		n += to
	}
	if n == 0 {
		return 0.05, ctx.Err()
	}
	spent := time.Since(began).Seconds()
	samples := float64(len(offsets[s.Settings.Samples]))
	seconds := 0.0 // of one core
	for i := range b.layers {
		own := k.spent[i].Seconds()
		spent -= own
		if !b.layers[i].once {
			own *= samples
		}
		seconds += own * computed[b.layers[i].grid]
	}
	seconds += max(0, spent) * samples
	perTexel := seconds / float64(n)
	// Padding, cleaning and encoding, by experience on one core: 60 ns for each texel and map.
	rest := float64(size*size) * 60e-9 * float64(len(kinds)+2)
	return (perTexel*covered+rest)/float64(par.Workers()) + samples*common/probeRuns, ctx.Err()
}

package compose

import (
	"context"
	"slices"

	"crust/internal/core/par"
)

// mean is what is averaged of something that depends on strokes. Where a stroke comes or goes it is made anew, and only
// there.
type mean struct {
	stamps []uint64  // by tile of the cloud: of the strokes that samples were evaluated with; 0 where they were not
	at     []float32 // by sample
	points []float32
	// By run of points: grows when some of them have changed.
	versions []uint64
	mark     uint64 // among all means
	whole    bool   // it has been made once
}

// pointRun is how many points, which lie near each other, have one version.
const pointRun = 64

type meanKey struct{ cloud, key uint64 }

// mostMeans bounds the means of a body; each takes about 4 bytes a sample.
const mostMeans = 6

// mean finds an average of a cloud, or begins it. mu is held.
func (b *Body) mean(c *cloud, k meanKey) *mean {
	if m := b.means[k]; m != nil {
		return m
	}
	for old := range b.means {
		if len(b.means) >= mostMeans || !slices.ContainsFunc(b.clouds, func(c *cloud) bool { return c.id == old.cloud }) {
			delete(b.means, old)
		}
	}
	if b.means == nil {
		b.means = map[meanKey]*mean{}
	}
	m := &mean{stamps: make([]uint64, len(c.tiles)), at: make([]float32, len(c.tri)), points: c.values(),
		versions: make([]uint64, (c.n+pointRun-1)/pointRun), mark: grounds.Add(1)}
	b.means[k] = m
	return m
}

// renew brings a mean up to date with strokes; fill evaluates what is averaged on a tile of the cloud.
func (c *cloud) renew(ctx context.Context, m *mean, inks []ink, fill func(k *scratch, t int, out []float32) bool) error {
	var stale []int
	own := c.scratch(0)
	own.ctx, own.lost = ctx, false
	now := make([]uint64, len(c.tiles))
	for t := range c.tiles {
		if now[t] = c.stamp(own, inks, t); now[t] != m.stamps[t] {
			stale = append(stale, t)
		}
	}
	if stale == nil {
		return nil
	}
	err := par.Blocks(ctx, len(stale), 1, func(w, n, _ int) {
		t := stale[n]
		m.stamps[t] = 0 // until all is done
		k := c.scratch(w)
		k.ctx, k.lost = ctx, false
		fill(k, t, m.at[c.tiles[t].From:c.tiles[t].To])
	})
	if err != nil {
		return err
	}
	// A point at a rim has samples on two tiles, of which the second counts it.
	changed := make([][]int, len(stale))
	err = par.Blocks(ctx, len(stale), 1, func(_, n, _ int) {
		t := &c.tiles[stale[n]]
		first, _ := slices.BinarySearch(c.first, t.From+1)
		last := n+1 == len(stale) || stale[n+1] != stale[n]+1
		for i := max(0, first-1); i < c.n && c.first[i] < t.To && (last || c.first[i+1] <= t.To); i++ {
			v := float32(0)
			for j := c.first[i]; j < c.first[i+1]; j++ {
				v += m.at[j] * c.share[j]
			}
			if v != m.points[i] {
				m.points[i] = v
				changed[n] = append(changed[n], i)
			}
		}
	})
	for _, points := range changed { // also when the work was stopped: they are not found to change again
		for _, i := range points {
			m.versions[i/pointRun]++
		}
	}
	if err != nil {
		return err
	}
	for _, t := range stale {
		m.stamps[t] = now[t]
	}
	return nil
}

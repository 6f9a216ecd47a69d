package compose

import (
	"context"
	"slices"

	"crust/internal/core/geom"
	"crust/internal/core/par"
)

// mean is an average over a radius of something that depends on strokes. Where a stroke comes or goes it is made anew, and only
// there.
type mean struct {
	stamps []uint64  // by tile of the cloud: of the strokes that samples were evaluated with; 0 where they were not
	at     []float32 // by sample
	points []float32
	values []float32 // averages, by point
}

type meanKey struct {
	cloud, key uint64
	radius     float32
}

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
	m := &mean{stamps: make([]uint64, len(c.tiles)), at: make([]float32, len(c.tri)), points: make([]float32, c.n), values: make([]float32, c.n)}
	b.means[k] = m
	return m
}

// renew brings a mean up to date with strokes; fill evaluates what is averaged on a tile of the cloud.
func (c *cloud) renew(ctx context.Context, m *mean, inks []ink, radius float32, fill func(k *scratch, t int, out []float32) bool) error {
	var stale []int
	now := make([]uint64, len(c.tiles))
	for t := range c.tiles {
		if now[t] = c.stamp(inks, t); now[t] != m.stamps[t] {
			stale = append(stale, t)
		}
	}
	if stale == nil {
		return nil
	}
	dirty := make([]geom.Box, len(stale)) // of the points that have changed
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
	// A point at the rim has samples on two tiles; both have been evaluated by now.
	for n, t := range stale {
		dirty[n] = geom.EmptyBox()
		first, _ := slices.BinarySearch(c.first, c.tiles[t].From+1)
		for i := max(0, first-1); i < c.n && c.first[i] < c.tiles[t].To; i++ {
			v := float32(0)
			for j := c.first[i]; j < c.first[i+1]; j++ {
				v += m.at[j] * c.share[j]
			}
			if v != m.points[i] {
				m.points[i] = v
				p, _ := c.place(i)
				dirty[n] = dirty[n].Add(p)
			}
		}
	}
	grow := geom.Vec3{X: radius, Y: radius, Z: radius}
	dirty = slices.DeleteFunc(dirty, geom.Box.Empty)
	for i := range dirty {
		dirty[i] = geom.Box{Min: dirty[i].Min.Sub(grow), Max: dirty[i].Max.Add(grow)}
	}
	if len(dirty) > 0 {
		if err := c.filterIn(ctx, m.points, radius, dirty, m.values); err != nil {
			return err
		}
	}
	for _, t := range stale {
		m.stamps[t] = now[t]
	}
	return nil
}

package layout

import (
	"context"
	"fmt"
	"math"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/uv"
)

// What a sound layout promises beside a margin and no overlap.
const (
	leastUsed   = 0.4 // of the tiles, where the islands' shapes allow it
	mostInBits  = 0.2 // of the surface in islands of fewer faces than fewFaces, where these have neighbours
	fewFaces    = 4
	leastShared = 1e-7 // of a tile: overlaps below are rounding
)

// judge measures what came out and notes what it misses.
func (l *Layout) judge(ctx context.Context, a *atlas, m *mesh.Model, charts []*chart, o Options) error {
	miss := func(format string, args ...any) {
		l.Report.Misses = append(l.Report.Misses, fmt.Sprintf(format, args...))
	}
	l.Report.Misses = []string{}
	least := math.Inf(1)
	for _, u := range l.Report.Used {
		least = min(least, u)
	}
	long := 0.0
	for _, c := range charts {
		w, _ := c.box()
		long = max(long, w)
	}
	inBits, surface := a.inBits(charts)
	tiles := float64(len(l.Report.Used))
	if o.Into != PerSet {
		mean := 0.0
		for _, u := range l.Report.Used {
			mean += u / tiles
		}
		if possible := min(1, 2*surface/(long*long*tiles)); mean < leastUsed*possible {
			miss("only %.0f %% of the tile is used", 100*mean)
		}
	} else if least < leastUsed && long*long < 2*surface/tiles {
		miss("one of the sets uses only %.0f %% of its tile", 100*least)
	}
	if inBits > mostInBits*surface {
		miss("%.0f %% of the surface lies in islands of fewer than %d faces", 100*inBits/surface, fewFaces)
	}
	c := m.Clone()
	if len(c.Channels) == 0 {
		c.Channels = []mesh.Channel{{Name: "UV 1", UVs: c.UVs}}
	}
	if err := c.Choose(c.AddChannel("laid out", l.Corners)); err != nil {
		return err
	}
	split := map[string]string{OneTile: uv.Single, PerSet: uv.PerMaterial, Tiles: uv.PerTile}[o.Into]
	sets, err := uv.Sets(c, split)
	if err != nil {
		return err
	}
	over, err := uv.NewMap(c, sets).Overlaps(ctx)
	if err != nil {
		return err
	}
	shared := 0.0
	for _, k := range over {
		shared += k.Area
	}
	if shared > leastShared {
		miss("islands overlap on %.2g %% of the tile", 100*shared)
	}
	outside := 0
	for i := range sets {
		for _, t := range sets[i].Tris {
			for _, v := range c.Tris[t] {
				if p := c.UVs[v].Sub(sets[i].Origin); !(p.X >= 0 && p.X <= 1 && p.Y >= 0 && p.Y <= 1) {
					outside++
					break
				}
			}
		}
	}
	if outside > 0 {
		miss("%d faces lie outside their tile", outside)
	}
	lost := 0
	for t := range m.Tris {
		q := l.Corners[t]
		if !a.flat[t] && geom.Vec2.Cross(q[1].Sub(q[0]), q[2].Sub(q[0])) == 0 {
			lost++
		}
	}
	if lost > len(m.Tris)/1000 {
		miss("%d faces have no area in UV space", lost)
	}
	return nil
}

// inBits is the area in islands of few faces that have neighbours, and that of all.
func (a *atlas) inBits(charts []*chart) (bits, all float64) {
	for _, c := range charts {
		all += c.area
		if len(c.faces) < fewFaces && a.joinable(c) {
			bits += c.area
		}
	}
	return bits, all
}

// joinable tells whether a chart has a neighbour beyond its rim.
func (a *atlas) joinable(c *chart) bool {
	for _, t := range c.faces {
		for k := range int32(3) {
			for _, n := range a.of(3*t + k) {
				if !a.glued[n] {
					return true
				}
			}
		}
	}
	return false
}

package compose

import (
	"crust/internal/core/bake"
	"crust/internal/core/field"
	"crust/internal/core/geom"
	"crust/internal/core/surface"
)

// warp has a clause read about its places: a noise pushes them, and where the clause reads what is known of the surface, the
// push is followed along it, over seams and from set to set.
type warp struct {
	plan      *plan
	by, waves float32 // metres
}

// Seeds of the pushes along the three axes, which no clause's own seed is likely to be.
var warpSeeds = [3]uint32{0x57a1, 0x57a2, 0x57a3}

// block is what a kind needs at the places that those of a tile lead to; false when the maps there could not be read.
func (w *warp) block(k *scratch, g *ground, t int, need field.Need) (*field.Block, bool) {
	g.widen(k, t, need|field.NeedPlace)
	b := &k.block
	n := g.tiles[t].Len()
	if k.elsewhere == nil {
		k.elsewhere = &scratch{tile: -1}
	}
	e := k.elsewhere
	waves := w.waves
	if waves == 0 {
		waves = 5 * w.by
	}
	var push [3][]float32
	for i := range push {
		push[i] = e.given[i][:n]
		field.Waves(b, waves, 3, 0.5, warpSeeds[i], push[i])
		for j, v := range push[i] {
			push[i][j] = (2*v - 1) * w.by
		}
	}
	if need&field.NeedPlace != 0 {
		// What fills space is read at the pushed place itself.
		e.block = *b
		for i, of := range [3]*[]float32{&e.block.X, &e.block.Y, &e.block.Z} {
			to := e.wide[i][:n]
			for j, v := range *of {
				to[j] = v + push[i][j]
			}
			*of = to
		}
		e.tile = -1
		return &e.block, true
	}
	spots := make([]spot, n)
	beyond := g.body.beyond
	for i := range spots {
		from := g.spotOf(b, t, i)
		way := geom.Vec3{X: push[0][i], Y: push[1][i], Z: push[2][i]}
		p, q, r := g.body.model.Corners(int(from.tri))
		face := q.Sub(p).Cross(r.Sub(p)).Norm()
		spots[i], _ = g.body.walk(beyond, from, way.Sub(face.Mul(way.Dot(face))))
	}
	at, err := g.body.ground(k.ctx, spots, []surface.Tile{{To: int32(n)}}, 2*surface.TileSize*g.pitch+2*w.by, w.maps)
	if err != nil {
		k.lost = true
		return b, false
	}
	at.pitch = g.pitch
	e.tile = -1
	at.widen(e, 0, need|field.NeedPlace)
	return &e.block, true
}

// maps are those that clauses read, of a set.
func (w *warp) maps(set string) (map[string]*bake.Map, error) {
	out := map[string]*bake.Map{}
	for i := range w.plan.body.sets {
		if w.plan.body.sets[i].Key != set {
			continue
		}
		for _, kind := range []string{bake.WorldNormal, bake.AO, bake.Curvature, bake.Tight, bake.Soft, bake.Thickness} {
			if m := w.plan.mapOf(int32(i), kind); m != nil {
				out[kind] = m
			}
		}
	}
	return out, nil
}

// spotOf is the spot of place i of a tile.
func (g *ground) spotOf(b *field.Block, t, i int) spot {
	if g.spans == nil {
		tri := g.tri[int(g.tiles[t].From)+i]
		p, q, r := g.body.model.Corners(int(tri))
		u, v := parts(q.Sub(p), r.Sub(p), geom.Vec3{X: b.X[i], Y: b.Y[i], Z: b.Z[i]}.Sub(p))
		return spot{tri, u, v}
	}
	tile := &g.tiles[t]
	for _, s := range g.spans[t] {
		if i < int(s.n) {
			return g.body.spotAt(s.tri, int(tile.X)*surface.TileSize+s.column()+i, int(tile.Y)*surface.TileSize+s.row(), g.side)
		}
		i -= int(s.n)
	}
	return spot{}
}

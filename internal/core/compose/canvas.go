// Package compose evaluates strata over baked maps into channels. What the viewport shows and what
// a delivery writes both come from here, at their own sizes.
//
// A canvas is one set at one size. Its covered texels are packed tile by tile, and a document is compiled to a program that
// runs tile by tile: compile.go says what the steps are, run.go runs them, cache.go keeps what they gave.
package compose

import (
	"context"
	"slices"
	"sync/atomic"

	"crust/internal/core/bake"
	"crust/internal/core/field"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/par"
	"crust/internal/core/strata"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
)

// Canvas is one set at one size, with its baked maps read at the covered texels, ready to be
// evaluated again and again. It takes about 40 bytes a covered texel.
type Canvas struct {
	*ground
	Set  string
	Surf *surface.Surface // Size, Tiles and Nearest alone
	n    int              // texels
	rows [][]rowRun       // by tile
	// By triangle of the set, from the first one's number on: rank leads to its slope.
	first int32
	rank  []int32
	slope []slope
	rim   *ground // what lies across the seams
	seams []seam  // by place of the rim
}

// Counts is how much work there was: tiles that were blended, and clauses times tiles that were evaluated.
type Counts struct{ Tiles, Clauses atomic.Int64 }

// Channels are evaluated values at covered texels, packed as in Surf. Base colour is sRGB
// encoded, and so is what is emitted; height is metres; the normal is a unit vector in tangent space, green up; AO is the
// baked occlusion times that of layers. Emissive, Opacity, Occlusion, Wet
// and Bend are nil where no layer lays them down; what is wet is darker and smoother already.
type Channels struct {
	Base                [3][]float32
	Roughness, Metallic []float32
	Emissive            [3][]float32
	Opacity, Occlusion  []float32
	Wet                 []float32
	Height              []float32
	Bend                [2][]float32 // slopes of layers' own normals
	Normal              [3][]float32
	AO                  []float32
}

func newChannels(n int) *Channels {
	all := make([]float32, (blended+4)*n)
	c := &Channels{}
	for _, p := range c.planes() {
		*p, all = all[:n:n], all[n:]
	}
	return c
}

// planes lists all planes, those that are blended first.
func (c *Channels) planes() [blended + 4]*[]float32 {
	return [...]*[]float32{&c.Base[0], &c.Base[1], &c.Base[2], &c.Roughness, &c.Metallic, &c.Emissive[0], &c.Emissive[1], &c.Emissive[2], &c.Opacity, &c.Occlusion, &c.Wet, &c.Height, &c.Bend[0], &c.Bend[1],
		&c.Normal[0], &c.Normal[1], &c.Normal[2], &c.AO}
}

// always are the planes that there are whether or not some layer lays them down.
const always = 1<<planeEmissive - 1 | 1<<planeHeight

// blendPlanes are the planes that are blended. Those that no layer lays down, by their bits, are nil from now on.
func (c *Channels) blendPlanes(lays uint16) *blendPlanes {
	out := new(blendPlanes)
	planes := c.planes()
	for i, p := range planes[:blended] {
		if (lays|always)>>i&1 == 0 {
			*p = nil
			continue
		}
		out[i] = p
	}
	return out
}

// of is the channels of texels from to before to.
func (c *Channels) of(from, to int) *Channels {
	out := *c
	for _, p := range out.planes() {
		*p = (*p)[from:to]
	}
	return &out
}

// slope turns a height's change along U and V into slopes along tangent and bitangent.
type slope struct{ tu, tv, bu, bv float32 }

// NewCanvas rasterises a set of the body at size and reads its maps, which may be of any size; a missing map
// stands at its neutral value, and the world normal then comes from the model.
func NewCanvas(ctx context.Context, b *Body, set *uv.Set, size int) (*Canvas, error) {
	c, err := newCanvas(ctx, b, set, size, 0, surface.Across(size))
	if err != nil {
		return nil, err
	}
	defer c.slim()
	b.mu.Lock()
	b.canvases = append(b.canvases, c)
	b.mu.Unlock()
	return c, c.Surf.Pad(ctx)
}

// NewBand is the part of a canvas from one row of tiles to before another. It evaluates to what the whole canvas does, but
// for the slopes at the rows next to what is left out. It has no padding.
func NewBand(ctx context.Context, b *Body, set *uv.Set, size, from, to int) (*Canvas, error) {
	c, err := newCanvas(ctx, b, set, size, from, to)
	if err != nil {
		return nil, err
	}
	c.slim()
	return c, nil
}

// slim lets go what spans tell shorter.
func (c *Canvas) slim() { c.tri, c.Surf.Texel, c.Surf.Tri = nil, nil, nil }

func newCanvas(ctx context.Context, b *Body, set *uv.Set, size, from, to int) (*Canvas, error) {
	surf, err := surface.Cover(ctx, b.model, set, size, from, to)
	if err != nil {
		return nil, err
	}
	maps, err := b.maps(set.Key)
	if err != nil {
		return nil, err
	}
	c := &Canvas{ground: newGround(b, surf.Tiles), Set: set.Key, Surf: surf, n: surf.Len()}
	c.ground.canvas = c
	c.side, c.only, c.spans, c.rows = size, set.Key, make([][]span, len(surf.Tiles)), make([][]rowRun, len(surf.Tiles))
	c.tri = make([]int32, surf.Len())
	c.pitch = float32(1 / max(1e-9, set.Density(size)))
	c.faces(b.model, set)
	c.in.make(surf.Len(), len(surf.Tiles))
	c.in.need(maps, surf.Len())
	if maps[bake.Normal] != nil {
		for k := range 3 {
			c.in.base[k] = make([]int16, surf.Len())
		}
	}
	// Places in triangles are kept for some rows of tiles at a time.
	done := 0
	for y := from; y < to; y += rowsAtOnce {
		part, err := surface.RasteriseBand(ctx, b.model, set, size, y, min(to, y+rowsAtOnce))
		if err != nil {
			return nil, err
		}
		if err := c.fill(ctx, part, done, maps); err != nil {
			return nil, err
		}
		done += len(part.Tiles)
	}
	surf.Tri = c.tri
	return c, c.findSeams(ctx, maps, from, to)
}

const rowsAtOnce = 8

// fill reads the inputs of some tiles, from tile done on.
func (c *Canvas) fill(ctx context.Context, part *surface.Surface, done int, maps map[string]*bake.Map) error {
	feed := c.in.feed(maps)
	return par.Blocks(ctx, len(part.Tiles), 1, func(_, n, _ int) {
		t := done + n
		from, at := int(c.tiles[t].From), int(part.Tiles[n].From)
		place := make([]geom.Vec3, part.Tiles[n].Len())
		for k := range place {
			i, j := from+k, at+k
			c.tri[i] = part.Tri[j]
			place[k] = part.Position(j)
			putVector(&c.in.normal, i, part.Normal(j).Norm())
			feed.read(i, func(m *bake.Map) float32 { return sample(m, part, j, 0) }, func(m *bake.Map) [3]float32 {
				return [3]float32{sample(m, part, j, 0), sample(m, part, j, 1), sample(m, part, j, 2)}
			})
		}
		c.in.place(t, from, place, 2*surface.TileSize*c.pitch)
		to := int(c.tiles[t].To)
		c.spans[t] = spansOf(&c.tiles[t], c.Surf.Texel[from:to], c.tri[from:to], c.Surf.Size)
		c.rows[t] = rowRuns(c.spans[t])
	})
}

// Body is the surface that the canvas is of.
func (c *Canvas) Body() *Body { return c.body }

// Close gives back what the cache keeps for the canvas.
func (c *Canvas) Close() {
	c.body.cache.forget(c.id)
	c.body.cache.forget(c.rim.id)
	c.body.mu.Lock()
	defer c.body.mu.Unlock()
	c.body.canvases = slices.DeleteFunc(c.body.canvases, func(o *Canvas) bool { return o == c })
}

// Position is the point of texel i of tile t on the model, as fields read it.
func (c *Canvas) Position(t, i int) geom.Vec3 {
	b := &c.in.boxes[t]
	k := slices.IndexFunc(b.run, func(r posRun) bool { return i-int(c.tiles[t].From) < int(r.to) })
	o := &b.box[b.run[k].box]
	at := func(k int) float32 { return o.low[k] + float32(c.in.pos[k][i])*o.step[k] }
	return geom.Vec3{X: at(0), Y: at(1), Z: at(2)}
}

// Reads lists the baked maps that an evaluation of a document takes from.
func Reads(d *strata.Document) []string {
	out := []string{bake.AO, bake.Curvature, bake.WorldNormal, bake.Normal}
	source := func(s *strata.Source) {
		if s != nil && s.Kind == "map" && !slices.Contains(out, s.Map) {
			out = append(out, s.Map)
		}
	}
	for i := range d.Layers {
		for _, ch := range strata.Channels {
			source(ch.Of(&d.Layers[i].What).Source)
		}
		for j := range d.Layers[i].Where {
			c := &d.Layers[i].Where[j]
			source(c.Source)
			k, err := field.KindOf(c.Kind)
			if err != nil {
				continue // evaluating says so
			}
			for _, name := range k.MapsOf(c.Values(k)) {
				if !slices.Contains(out, name) {
					out = append(out, name)
				}
			}
		}
	}
	return out
}

// sample reads a map at a texel of the surface; maps of another size are read bilinearly.
func sample(m *bake.Map, s *surface.Surface, i, channel int) float32 {
	at := int(s.Texel[i])
	if m.Size == s.Size {
		return float32(m.Pix[at*m.Channels+channel]) / 65535
	}
	return m.At((float32(at%s.Size)+0.5)/float32(s.Size), (float32(at/s.Size)+0.5)/float32(s.Size), channel)
}

// faces prepares the change of height along the tangent frame for each triangle of the set.
func (c *Canvas) faces(m *mesh.Model, set *uv.Set) {
	c.first = slices.Min(set.Tris)
	c.rank = make([]int32, slices.Max(set.Tris)-c.first+1)
	for n, t := range set.Tris {
		c.rank[t-c.first] = int32(n)
		var k slope
		if pu, pv := along(m, t); pu != pv {
			tan := pu.Norm()
			bit := pv.Sub(tan.Mul(pv.Dot(tan))).Norm()
			// ∂h/∂u = pu·g and ∂h/∂v = pv·g, solved for g along tan and bit.
			a11, a21, a22 := pu.Dot(tan), pv.Dot(tan), pv.Dot(bit)
			if a11 != 0 && a22 != 0 {
				k = slope{tu: 1 / a11, bu: -a21 / (a11 * a22), bv: 1 / a22}
			}
		}
		c.slope = append(c.slope, k)
	}
}

// along is how the surface goes along U and V of a triangle, ∂p/∂u and ∂p/∂v; zero where its UVs have no area.
func along(m *mesh.Model, t int32) (pu, pv geom.Vec3) { return alongUVs(m, m.UVs, t) }

// alongUVs is along for another channel's UVs.
func alongUVs(m *mesh.Model, uvs []geom.Vec2, t int32) (pu, pv geom.Vec3) {
	i := m.Tris[t]
	a, b, d := m.Corners(int(t))
	e1, e2 := b.Sub(a), d.Sub(a)
	u1, u2 := uvs[i[1]].Sub(uvs[i[0]]), uvs[i[2]].Sub(uvs[i[0]])
	if det := u1.Cross(u2); det != 0 {
		pu = e1.Mul(u2.Y / det).Sub(e2.Mul(u1.Y / det))
		pv = e2.Mul(u1.X / det).Sub(e1.Mul(u2.X / det))
	}
	return pu, pv
}

// Touches tells whether the layer may touch some texel of this canvas.
func (c *Canvas) Touches(l *strata.Layer) bool { return c.touches(l) }

// Len is how many texels are covered.
func (c *Canvas) Len() int { return c.n }

// Texels is where each covered texel stands, row · size + column.
func (c *Canvas) Texels() []uint32 {
	out := make([]uint32, 0, c.n)
	for t, spans := range c.spans {
		tile := &c.tiles[t]
		for _, s := range spans {
			row, column := int(tile.Y)*surface.TileSize+s.row(), int(tile.X)*surface.TileSize+s.column()
			for k := range int(s.n) {
				out = append(out, uint32(row*c.Surf.Size+column+k))
			}
		}
	}
	return out
}

// EachRow calls f for texels of a tile that stand side by side: which the first of them is among the tile's, its column and row in the
// tile, and how many they are.
func (c *Canvas) EachRow(t int, f func(from, x, y, n int)) {
	for _, r := range c.rows[t] {
		f(int(r.from), int(r.at)%surface.TileSize, int(r.at)/surface.TileSize, int(r.n))
	}
}

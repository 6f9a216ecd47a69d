// Package compose evaluates strata over baked maps into channels. What the viewport shows and what
// a delivery writes both come from here, at their own sizes.
//
// A canvas is one set at one size. Its covered texels are packed tile by tile, and a document is compiled to a program that
// runs tile by tile: compile.go says what the steps are, run.go runs them, cache.go keeps what they gave.
package compose

import (
	"context"
	"math"
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

// tileTexels is how many texels a tile has at the most.
const tileTexels = surface.TileSize * surface.TileSize

// Canvas is one set at one size, with its baked maps read at the covered texels, ready to be
// evaluated again and again. One goroutine uses it at a time. It takes about 40 bytes a covered texel.
type Canvas struct {
	Set   string
	Surf  *surface.Surface // without U and V
	id    uint64           // among all canvases
	cache *Cache
	in    inputs
	floor geom.Vec3 // lowest corner of the model
	// By triangle of the set, from the first one's number on: rank leads to what is kept for each.
	first  int32
	rank   []int32
	slope  []slope
	part   []int32
	parts  map[string]int32
	target map[string]target
	work   []*scratch
	count  Counts
}

// inputs are what fields read at each covered texel, in 16 bits.
type inputs struct {
	pos    [3][]uint16 // in the box of the texel's tile
	box    []tileBox
	normal [3][]int16 // in model space, of length 32767
	base   [3][]int16 // the baked tangent-space normal; nil where it is flat
	// Baked maps; nil where there is none.
	ao, curve, tight, soft []uint16
}

// tileBox is where positions of a tile count from, and by how much, in metres.
type tileBox struct{ low, step [3]float32 }

// Counts is how much work there was: tiles that were blended, and clauses times tiles that were evaluated.
type Counts struct{ Tiles, Clauses atomic.Int64 }

// Channels are evaluated values at covered texels, packed as in Surf. Base colour is sRGB
// encoded; height is metres; the normal is a unit vector in tangent space, green up.
type Channels struct {
	Base                [3][]float32
	Roughness, Metallic []float32
	Height              []float32
	Normal              [3][]float32
	AO                  []float32
}

func newChannels(n int) *Channels {
	all := make([]float32, 10*n)
	c := &Channels{}
	for _, p := range c.planes() {
		*p, all = all[:n:n], all[n:]
	}
	return c
}

// planes lists all planes.
func (c *Channels) planes() [10]*[]float32 {
	return [10]*[]float32{&c.Base[0], &c.Base[1], &c.Base[2], &c.Roughness, &c.Metallic, &c.Height, &c.Normal[0], &c.Normal[1], &c.Normal[2], &c.AO}
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

var canvases atomic.Uint64

// NewCanvas rasterises the set at size and reads its maps, which may be of any size; a missing map
// stands at its neutral value, and the world normal then comes from the model. Results of tiles are kept in cache.
func NewCanvas(ctx context.Context, cache *Cache, m *mesh.Model, set *uv.Set, size int, maps map[string]*bake.Map) (*Canvas, error) {
	surf, err := surface.RasteriseTiles(ctx, m, set, size)
	if err != nil {
		return nil, err
	}
	if err := surf.Pad(ctx); err != nil {
		return nil, err
	}
	c := &Canvas{Set: set.Key, Surf: surf, id: canvases.Add(1), cache: cache, floor: m.Bounds().Min, parts: map[string]int32{}, target: map[string]target{}, work: make([]*scratch, par.Slots)}
	for i, p := range m.Parts {
		c.parts[p] = int32(i)
	}
	c.faces(m, set)
	n := surf.Len()
	for k := range 3 {
		c.in.pos[k], c.in.normal[k] = make([]uint16, n), make([]int16, n)
		if maps[bake.Normal] != nil {
			c.in.base[k] = make([]int16, n)
		}
	}
	for _, p := range []struct {
		kind  string
		plane *[]uint16
	}{{bake.AO, &c.in.ao}, {bake.Curvature, &c.in.curve}, {bake.Tight, &c.in.tight}, {bake.Soft, &c.in.soft}} {
		if maps[p.kind] != nil {
			*p.plane = make([]uint16, n)
		}
	}
	c.in.box = make([]tileBox, len(surf.Tiles))
	err = par.Blocks(ctx, len(surf.Tiles), 1, func(_, i, _ int) { c.read(i, maps) })
	surf.U, surf.V = nil, nil
	return c, err
}

// Close gives back what the cache keeps for the canvas.
func (c *Canvas) Close() { c.cache.forget(c.id) }

// read fills the inputs of a tile.
func (c *Canvas) read(t int, maps map[string]*bake.Map) {
	s, in := c.Surf, &c.in
	tile := &s.Tiles[t]
	ao, curve, tight, soft, world, normal := maps[bake.AO], maps[bake.Curvature], maps[bake.Tight], maps[bake.Soft], maps[bake.WorldNormal], maps[bake.Normal]
	place := make([]geom.Vec3, tile.Len())
	box := geom.EmptyBox()
	for i := range place {
		place[i] = s.Position(int(tile.From) + i)
		box = box.Add(place[i])
	}
	b := tileBox{low: [3]float32{box.Min.X, box.Min.Y, box.Min.Z}}
	for k, w := range [3]float32{box.Max.X - box.Min.X, box.Max.Y - box.Min.Y, box.Max.Z - box.Min.Z} {
		b.step[k] = w / 65535
	}
	in.box[t] = b
	for n, p := range place {
		i := int(tile.From) + n
		for k, v := range [3]float32{p.X, p.Y, p.Z} {
			if b.step[k] > 0 {
				in.pos[k][i] = uint16(min(65535, (v-b.low[k])/b.step[k]+0.5))
			}
		}
		w := s.Normal(i).Norm()
		if world != nil {
			w = vector(world, s, i)
		}
		putVector(&in.normal, i, w)
		if normal != nil {
			putVector(&in.base, i, vector(normal, s, i))
		}
		for _, p := range [...]struct {
			m    *bake.Map
			into []uint16
		}{{ao, in.ao}, {curve, in.curve}, {tight, in.tight}, {soft, in.soft}} {
			if p.m != nil {
				p.into[i] = uint16(sample(p.m, s, i, 0)*65535 + 0.5)
			}
		}
	}
}

func putVector(planes *[3][]int16, i int, v geom.Vec3) {
	for k, x := range [3]float32{v.X, v.Y, v.Z} {
		planes[k][i] = int16(math.Round(float64(x) * 32767))
	}
}

// Position is the point of texel i of tile t on the model.
func (c *Canvas) Position(t, i int) geom.Vec3 {
	b := &c.in.box[t]
	at := func(k int) float32 { return b.low[k] + float32(c.in.pos[k][i])*b.step[k] }
	return geom.Vec3{X: at(0), Y: at(1), Z: at(2)}
}

// Reads lists the baked maps that an evaluation of a document takes from.
func Reads(d *strata.Document) []string {
	out := []string{bake.AO, bake.Curvature, bake.WorldNormal, bake.Normal}
	for i := range d.Layers {
		for j := range d.Layers[i].Where {
			c := &d.Layers[i].Where[j]
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
	k := float32(m.Size) / float32(s.Size)
	x, y := (float32(at%s.Size)+0.5)*k-0.5, (float32(at/s.Size)+0.5)*k-0.5
	limit := float32(m.Size - 1)
	x, y = min(max(x, 0), limit), min(max(y, 0), limit)
	x0, y0 := int(x), int(y)
	x1, y1 := min(x0+1, m.Size-1), min(y0+1, m.Size-1)
	fx, fy := x-float32(x0), y-float32(y0)
	v := func(x, y int) float32 { return float32(m.Pix[(y*m.Size+x)*m.Channels+channel]) }
	a := v(x0, y0) + (v(x1, y0)-v(x0, y0))*fx
	b := v(x0, y1) + (v(x1, y1)-v(x0, y1))*fx
	return (a + (b-a)*fy) / 65535
}

func vector(m *bake.Map, s *surface.Surface, i int) geom.Vec3 {
	return geom.Vec3{X: 2*sample(m, s, i, 0) - 1, Y: 2*sample(m, s, i, 1) - 1, Z: 2*sample(m, s, i, 2) - 1}.Norm()
}

// faces prepares, for each triangle of the set, its part and the change of height along its tangent frame.
func (c *Canvas) faces(m *mesh.Model, set *uv.Set) {
	c.first = slices.Min(set.Tris)
	c.rank = make([]int32, slices.Max(set.Tris)-c.first+1)
	for n, t := range set.Tris {
		c.rank[t-c.first] = int32(n)
		i := m.Tris[t]
		a, b, d := m.Corners(int(t))
		e1, e2 := b.Sub(a), d.Sub(a)
		u1, u2 := m.UVs[i[1]].Sub(m.UVs[i[0]]), m.UVs[i[2]].Sub(m.UVs[i[0]])
		det := u1.Cross(u2)
		var k slope
		if det != 0 {
			pu := e1.Mul(u2.Y / det).Sub(e2.Mul(u1.Y / det)) // ∂p/∂u
			pv := e2.Mul(u1.X / det).Sub(e1.Mul(u2.X / det)) // ∂p/∂v
			tan := pu.Norm()
			bit := pv.Sub(tan.Mul(pv.Dot(tan))).Norm()
			// ∂h/∂u = pu·g and ∂h/∂v = pv·g, solved for g along tan and bit.
			a11, a21, a22 := pu.Dot(tan), pv.Dot(tan), pv.Dot(bit)
			if a11 != 0 && a22 != 0 {
				k = slope{tu: 1 / a11, bu: -a21 / (a11 * a22), bv: 1 / a22}
			}
		}
		c.slope, c.part = append(c.slope, k), append(c.part, m.Part[t])
	}
}

// face is the place of texel i's triangle among those of the set.
func (c *Canvas) face(i int) int32 { return c.rank[c.Surf.Tri[i]-c.first] }

// Len is how many texels are covered.
func (c *Canvas) Len() int { return c.Surf.Len() }

package compose

import (
	"context"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"crust/internal/core/accel"
	"crust/internal/core/bake"
	"crust/internal/core/brush"
	"crust/internal/core/field"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/par"
	"crust/internal/core/strata"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
)

// Body is an asset's whole surface: its model, sets and baked maps, and the clouds of points that surroundings are read
// from. The canvases of its sets, at whatever size, share it; one goroutine uses them all at a time.
type Body struct {
	cache     *Cache
	model     *mesh.Model                     // with its copies, if it is a square that repeats
	piece     *geom.Square                    // that; nil for any other
	own       int                             // triangles of the model itself, which come first
	repeated  map[*brush.Stroke]*brush.Stroke // strokes as they are made on the square
	sets      []uv.Set
	maps      Maps
	pictures  Pictures
	painted   Painted
	laid      map[string]*painted // by clause: its strokes, as they were made ready last
	wets      wets
	inkID     uint64 // that the inks of its strokes are kept under
	means     map[meanKey]*mean
	lag       bool                // averages of what is painted may be a little old: see Hurry
	renewed   time.Time           // when such averages were brought up to date last,
	cost      time.Duration       // and how long that took
	rays      *accel.BVH          // of the model; made when first needed
	filling   sync.Mutex          // held while what a stroke fills is found
	idMaps    map[int32]*bake.Map // by set, as far as strokes are held to IDs
	floor     geom.Vec3           // lowest corner of the model
	area      float64             // square metres
	parts     map[string]int32
	setOf     []int32           // by triangle, −1 for none
	aims      map[string][]bool // by targets: the triangles that they name
	beyond    []int32           // by side of a triangle: the side that it shares an edge with, −1 for none; made when first needed
	mu        sync.Mutex        // held while points of a cloud are evaluated
	clouds    []*cloud          // the one used last at the end
	canvases  []*Canvas         // those that are open
	densities sync.Map          // float32 by set and UV channel, see density
	samples   int               // of a cloud at the most
}

// Maps reads baked maps of a set by kind; those that there are not are left out.
type Maps func(set string) (map[string]*bake.Map, error)

// NewBody prepares a model that is split into sets. Results are kept in cache.
func NewBody(cache *Cache, m *mesh.Model, sets []uv.Set, maps Maps) *Body {
	b := &Body{cache: cache, model: m.Surrounded(), piece: m.Square, own: len(m.Tris), repeated: map[*brush.Stroke]*brush.Stroke{}, sets: sets, maps: maps, inkID: grounds.Add(1), floor: m.Bounds().Min, parts: map[string]int32{}, aims: map[string][]bool{}, samples: maxSamples}
	for i, p := range m.Parts {
		b.parts[p] = int32(i)
	}
	b.setOf = make([]int32, len(b.model.Tris))
	for i := range b.setOf {
		b.setOf[i] = -1
	}
	for i := range sets {
		b.area += sets[i].Area
		for _, t := range sets[i].Tris {
			for ; int(t) < len(b.setOf); t += int32(b.own) {
				b.setOf[t] = int32(i)
			}
		}
	}
	return b
}

// aimKey tells the targets of layers apart.
func aimKey(l *strata.Layer) string {
	return strings.Join(l.Targets, "\x00") + "\x01" + strings.Join(l.Parts, "\x00")
}

// aim is which triangles a layer may touch: those of its sets that belong to its parts. Its targets name sets, also those of
// another way to split the asset: a layer aimed at a material slot stays on its faces when the asset is split by tile.
func (b *Body) aim(l *strata.Layer) []bool {
	key := aimKey(l)
	if of, ok := b.aims[key]; ok {
		return of
	}
	m := b.model
	materials := uv.MaterialKeys(m)
	of := make([]bool, len(m.Tris))
	all := len(l.Targets) == 0 || slices.Contains(l.Targets, uv.SingleKey)
	named := func(t int) bool {
		if s := b.setOf[t]; all || s >= 0 && slices.Contains(l.Targets, b.sets[s].Key) || slices.Contains(l.Targets, materials[m.Material[t]]) {
			return true
		}
		tile, ok := uv.TileOf(m, t)
		return ok && slices.Contains(l.Targets, strconv.Itoa(tile))
	}
	parts := make([]bool, len(m.Parts))
	for i, p := range m.Parts {
		parts[i] = len(l.Parts) == 0 || slices.Contains(l.Parts, p)
	}
	for t := range of {
		of[t] = parts[m.Part[t]] && named(t)
	}
	b.aims[key] = of
	return of
}

// spot is a place on a triangle by its barycentrics.
type spot struct {
	tri  int32
	u, v float32
}

func (b *Body) at(s spot) geom.Vec3 {
	p, q, r := b.model.Corners(int(s.tri))
	return geom.Bary(p, q, r, s.u, s.v)
}

// fold brings a place of a copy of a square that repeats to the same place of the square itself: what lies on both is the same.
func (b *Body) fold(p geom.Vec3) geom.Vec3 {
	if b.piece == nil {
		return p
	}
	return b.piece.Fold(p)
}

// near tells whether a place lies on a square that repeats, or no further off than margin.
func (b *Body) near(p geom.Vec3, margin float32) bool {
	u, v := b.piece.At(p)
	du, dv := margin/b.piece.U.Len(), margin/b.piece.V.Len()
	return u > -du && v > -dv && u < 1+du && v < 1+dv
}

// widest bounds a radius that is averaged over, in metres.
func (b *Body) widest() float32 {
	if b.piece == nil {
		return math.MaxFloat32
	}
	return min(b.piece.U.Len(), b.piece.V.Len()) / 2
}

// normal is the model's own.
func (b *Body) normal(s spot) geom.Vec3 {
	t, n := b.model.Tris[s.tri], b.model.Normals
	return geom.Bary(n[t[0]], n[t[1]], n[t[2]], s.u, s.v).Norm()
}

// ground makes spots, in tiles about so many metres wide, ready for steps. Maps of the sets that they lie on are read one set after the other.
func (b *Body) ground(ctx context.Context, spots []spot, tiles []surface.Tile, wide float32, maps Maps) (*ground, error) {
	g := newGround(b, tiles)
	g.tri = make([]int32, len(spots))
	g.in.make(len(spots), len(tiles))
	on := make([][]int, len(b.sets)) // tiles by set
	for t := range tiles {
		seen := int32(-1)
		for _, s := range spots[tiles[t].From:tiles[t].To] {
			if k := b.setOf[s.tri]; k >= 0 && k != seen {
				seen = k
				if n := len(on[k]); n == 0 || on[k][n-1] != t {
					on[k] = append(on[k], t)
				}
			}
		}
	}
	err := par.Blocks(ctx, len(tiles), 1, func(_, t, _ int) {
		from, to := int(tiles[t].From), int(tiles[t].To)
		place := make([]geom.Vec3, to-from)
		for i := range place {
			s := spots[from+i]
			place[i], g.tri[from+i] = b.fold(b.at(s)), s.tri%int32(b.own)
			putVector(&g.in.normal, from+i, b.normal(s))
		}
		g.in.place(t, from, place, wide)
	})
	for k, list := range on {
		if err != nil || len(list) == 0 {
			continue
		}
		var of map[string]*bake.Map
		if of, err = maps(b.sets[k].Key); err != nil || len(of) == 0 {
			continue
		}
		g.in.need(of, len(spots))
		feed := g.in.feed(of)
		err = par.Blocks(ctx, len(list), 1, func(_, n, _ int) {
			t, read := &tiles[list[n]], between{feed: feed}
			for i := int(t.From); i < int(t.To); i++ {
				if s := spots[i]; b.setOf[s.tri] == int32(k) {
					x, y := b.square(s)
					read.at(i, x, y)
				}
			}
			read.flush()
		})
	}
	return g, err
}

// square is where a spot lies in its set's square, from the top left, 0–1.
func (b *Body) square(s spot) (x, y float32) {
	t, uvs := b.model.Tris[s.tri], b.model.UVs
	p, q, r := uvs[t[0]], uvs[t[1]], uvs[t[2]]
	at := p.Add(q.Sub(p).Mul(s.u)).Add(r.Sub(p).Mul(s.v)).Sub(b.sets[b.setOf[s.tri]].Origin)
	return at.X, 1 - at.Y
}

// cloud finds the cloud for a radius, or makes it. mu is held.
func (b *Body) cloud(ctx context.Context, radius float32) (*cloud, error) {
	spacing := b.spacing(radius)
	for i, c := range b.clouds {
		if c.spacing == spacing {
			b.clouds = append(slices.Delete(b.clouds, i, i+1), c)
			return c, nil
		}
	}
	c, err := b.newCloud(ctx, spacing)
	if err != nil {
		return nil, err
	}
	b.clouds = append(b.clouds, c)
	all := 0
	for _, o := range b.clouds {
		all += len(o.tri)
	}
	for all > keptSamples && len(b.clouds) > 1 {
		all -= len(b.clouds[0].tri)
		b.cache.forget(b.clouds[0].id)
		b.clouds = slices.Delete(b.clouds, 0, 1)
	}
	return c, nil
}

// keptSamples bounds the samples of all clouds that are kept, at about 40 bytes each.
const keptSamples = 12_000_000

// perRadius is how many points lie along a radius at the least; the next finer cloud has ⁴√2 times as many.
const perRadius = 3

// maxSamples bounds a cloud; on a body that is large against the radius its points get sparser.
const maxSamples = 2_500_000

// spacing is that of the cloud for a radius: a power of ⁴√2 in metres, so that few serve all.
func (b *Body) spacing(radius float32) float32 {
	level := math.Floor(4 * math.Log2(float64(radius)/perRadius))
	finest := math.Ceil(2 * math.Log2(b.area/float64(b.samples)))
	return float32(math.Exp2(max(level, finest) / 4))
}

// Close gives back what the cache keeps for the clouds.
func (b *Body) Close() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, c := range b.clouds {
		b.cache.forget(c.id)
	}
	b.clouds = nil
	b.cache.forget(b.inkID)
}

// Surrounded tells whether some layer of a document reads more than single places, so that what lies on one set depends on
// the maps of others.
func Surrounded(d *strata.Document) bool {
	for i := range d.Layers {
		l := &d.Layers[i]
		if l.Soften > 0 || slices.ContainsFunc(l.Where, func(c strata.Clause) bool {
			k, err := field.KindOf(c.Kind)
			return c.Shape.Soften > 0 || c.Relief() || err == nil && k.Needs&field.NeedRuns != 0
		}) {
			return true
		}
	}
	return false
}

package bake

import (
	"context"
	"math"
	"sync"

	"crust/internal/core/accel"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
)

var unlimited = float32(math.Inf(1))

// Source is a low-poly, and perhaps a high-poly, made ready for baking. A copy may have other rays, samples,
// size and SizeOf.
type Source struct {
	Low, High *mesh.Model
	Settings  Settings
	SizeOf    func(key string) int // sizes of single sets in px; nil for Settings.Size everywhere
	*ready
}

// ready is what all sets and bakes share.
type ready struct {
	box        geom.Box
	tangents   [][3]geom.Vec4
	lowNormal  []geom.Vec3 // at the vertices, joined across cuts
	highNormal []geom.Vec3
	cage       []geom.Vec3 // ray directions at the low-poly's vertices
	bvh        *accel.BVH  // of what is seen: the high-poly, or the low
	pairs      *pairs
	reach      []Reach // by low-poly part
	lock       sync.Mutex
	byPair     map[int32]*accel.BVH // see of
	clouds     map[string]*cloud    // of the curvature maps
	rays       map[int]*patterns    // by how many a texel has
	probes     map[probed]float64   // seconds
}

// Prepare builds what all sets share. high may be nil.
func Prepare(ctx context.Context, low, high *mesh.Model, s Settings) (*Source, error) {
	if s.Samples == 0 {
		s.Samples = 1
	}
	if err := s.Check(); err != nil {
		return nil, err
	}
	if low.Square != nil && high != nil {
		high = high.Around(low.Square)
	}
	r := &ready{box: low.Bounds(), tangents: low.Tangents(), byPair: map[int32]*accel.BVH{}, rays: map[int]*patterns{}, probes: map[probed]float64{}}
	src := &Source{Low: low, High: high, Settings: s, ready: r}
	diag := float64(r.box.Diagonal())
	if s.Radius == 0 {
		src.Settings.Radius = diag * DefaultRadius
	}
	if s.Deep == 0 {
		src.Settings.Deep = diag * DefaultDeep
	}
	if s.Sees == SeesAll {
		src.Settings.Sees = ""
	}
	seen := src.seen()
	var err error
	if r.bvh, err = accel.BuildWithin(ctx, accel.Mesh{Positions: seen.Positions, Tris: seen.Tris}); err != nil {
		return nil, err
	}
	var lowJoin, highJoin []int32
	r.lowNormal, lowJoin = joined(low)
	if high != nil {
		r.highNormal, highJoin = joined(high)
		r.cage = r.lowNormal
		if !s.Straight {
			r.cage = averaged(low)
		}
	}
	r.pairs = newPairs(low, high, s.Endings, lowJoin, highJoin)
	if high != nil {
		if err := src.measureReach(ctx); err != nil {
			return nil, err
		}
	}
	return src, ctx.Err()
}

func (s *Source) seen() *mesh.Model {
	if s.High != nil {
		return s.High
	}
	return s.Low
}

// seenNormals are the vertex normals of what is seen.
func (s *Source) seenNormals() []geom.Vec3 {
	if s.High != nil {
		return s.highNormal
	}
	return s.lowNormal
}

// Box is the asset's box, which position maps are measured in.
func (s *Source) Box() geom.Box { return s.box }

// averaged are the vertex normals averaged over equal positions, so that rays leave no gap at hard edges.
func averaged(m *mesh.Model) []geom.Vec3 {
	weld := m.Weld()
	sum := make([]geom.Vec3, len(m.Positions))
	for i, n := range m.Normals {
		sum[weld[i]] = sum[weld[i]].Add(n)
	}
	out := make([]geom.Vec3, len(sum))
	for i := range out {
		if out[i] = sum[weld[i]].Norm(); out[i] == (geom.Vec3{}) {
			out[i] = m.Normals[i]
		}
	}
	return out
}

// point is where a texel's maps are taken: on the high-poly when there is one.
type point struct {
	p, n geom.Vec3 // place and unit shading normal
	base geom.Vec3 // place on the face itself
	face geom.Vec3 // unit geometric normal
	tri  int32     // of the high-poly, or of the low where that is missed or missing
	pair int32     // number of the part's pair
	miss bool

	known bool // in a table of points
}

// makeClouds builds the clouds of the curvature maps once; a stopped attempt leaves nothing behind.
func (s *Source) makeClouds(ctx context.Context) error {
	s.lock.Lock()
	defer s.lock.Unlock()
	if s.clouds != nil {
		return nil
	}
	clouds, err := newClouds(ctx, s.seen(), s.seenNormals(), float32(s.Settings.Radius)*tightRadius, 0, 1, 3)
	if err == nil {
		s.clouds = map[string]*cloud{Tight: clouds[0], Curvature: clouds[1], Soft: clouds[2]}
	}
	return err
}

// caster is one of so many rays a texel over what is seen.
func (s *Source) caster(rays int) *Caster {
	s.lock.Lock()
	defer s.lock.Unlock()
	if s.rays[rays] == nil {
		s.rays[rays] = newPatterns(rays)
	}
	return &Caster{s.bvh, s.rays[rays]}
}

// find looks for the high-poly from a place on face t, and then from up to a texel's side, in metres, further inside:
// at an open rim the low-poly often ends a little outside the high-poly.
func (s *Source) find(t int, u, v float32, p geom.Vec3, texel float32, out *point, stream *accel.Stream) bool {
	if s.project(t, u, v, p, out, stream) {
		return true
	}
	a, b, c := s.Low.Corners(t)
	const third = 1. / 3
	to := geom.Bary(a, b, c, third, third)
	f := min(1, texel/max(1e-12, to.Sub(p).Len()))
	return s.project(t, u+(third-u)*f, v+(third-v)*f, p.Lerp(to, f), out, stream)
}

// texelOf is the side of a texel of a set on the model in metres, on average.
func texelOf(set *uv.Set, size int) float32 {
	return float32(math.Sqrt(set.Area/max(1e-12, set.UVArea)) / float64(size))
}

// locate finds the points of a run of texels, whose side is texel in metres.
func (s *Source) locate(surf *surface.Surface, from int, pts []point, texel float32, stream *accel.Stream) {
	for i := range pts {
		j := from + i
		t := int(surf.Tri[j])
		u, v := surf.U[j], surf.V[j]
		k := s.Low.Tris[t]
		n := geom.Bary(s.lowNormal[k[0]], s.lowNormal[k[1]], s.lowNormal[k[2]], u, v).Norm()
		face := s.Low.FaceNormal(t)
		if n == (geom.Vec3{}) {
			n = face
		}
		if s.High != nil && s.find(t, u, v, surf.Position(j), texel, &pts[i], stream) {
			continue
		}
		pts[i] = point{p: smoothPosition(s.Low, s.lowNormal, t, u, v), base: surf.Position(j), n: n, face: face, tri: int32(t), pair: s.pairs.low[s.Low.Part[t]], miss: s.High != nil}
	}
}

// smoothPosition lifts a point of a coarse triangle to the curved surface that its normals suggest,
// so that neighbouring faces do not shade it (Hanika, Hacking the Shadow Terminator, 2021).
func smoothPosition(m *mesh.Model, normals []geom.Vec3, t int, u, v float32) geom.Vec3 {
	i := m.Tris[t]
	a, b, c := m.Corners(t)
	p := geom.Bary(a, b, c, u, v)
	lift := func(q, n geom.Vec3) geom.Vec3 {
		d := min(0, p.Sub(q).Dot(n))
		return n.Mul(d)
	}
	da, db, dc := lift(a, normals[i[0]]), lift(b, normals[i[1]]), lift(c, normals[i[2]])
	return p.Sub(geom.Bary(da, db, dc, u, v))
}

// outward is the direction in which a point of the low-poly looks for the high-poly.
func (s *Source) outward(t int, u, v float32) geom.Vec3 {
	i := s.Low.Tris[t]
	return geom.Bary(s.cage[i[0]], s.cage[i[1]], s.cage[i[2]], u, v).Norm()
}

// project looks for the high-poly from the front distance down to the rear one, and takes the first face of
// the paired parts that looks the same way.
func (s *Source) project(t int, u, v float32, p geom.Vec3, out *point, stream *accel.Stream) bool {
	dir := s.outward(t, u, v)
	part := s.Low.Part[t]
	front, rear := float32(s.reach[part].Front), float32(s.reach[part].Rear)
	hit, ok := s.firstOf(s.pairs.low[part], p.Add(dir.Mul(front)), dir.Neg(), front+rear, stream)
	if !ok {
		return false
	}
	k := s.High.Tris[hit.Tri]
	a, b, c := s.High.Corners(int(hit.Tri))
	face := s.High.FaceNormal(int(hit.Tri))
	n := geom.Bary(s.highNormal[k[0]], s.highNormal[k[1]], s.highNormal[k[2]], hit.U, hit.V).Norm()
	if n == (geom.Vec3{}) {
		n = face
	}
	at := geom.Bary(a, b, c, hit.U, hit.V)
	*out = point{p: smoothPosition(s.High, s.highNormal, int(hit.Tri), hit.U, hit.V), base: at, n: n, face: face, tri: hit.Tri, pair: s.pairs.high[s.High.Part[hit.Tri]]}
	return true
}

// mostLayers is how many faces of other parts, or that look away, a ray may pass.
const mostLayers = 16

// firstOf is the first face of a pair's high-poly that faces the ray. A pair without one takes any part.
func (s *Source) firstOf(pair int32, o, d geom.Vec3, far float32, stream *accel.Stream) (accel.Hit, bool) {
	eps, gone := s.bvh.Epsilon(), float32(0)
	for range mostLayers {
		hit, ok := s.bvh.FirstHit(o, d, far, stream)
		if !ok {
			return hit, false
		}
		if s.pairs.fit(pair, s.High.Part[hit.Tri]) && s.High.FaceNormal(int(hit.Tri)).Dot(d) < 0 {
			hit.T += gone
			return hit, true
		}
		step := hit.T + eps
		if step >= far {
			return hit, false
		}
		o, far, gone = o.Add(d.Mul(step)), far-step, gone+step
	}
	return accel.Hit{}, false
}

func (s *Source) within(p geom.Vec3) geom.Vec3 {
	d, size := p.Sub(s.box.Min), s.box.Size()
	div := func(a, b float32) float32 {
		if b <= 0 {
			return 0.5
		}
		return geom.Clamp01(a / b)
	}
	return geom.Vec3{X: div(d.X, size.X), Y: div(d.Y, size.Y), Z: div(d.Z, size.Z)}
}

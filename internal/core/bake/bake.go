// Package bake computes baked maps of a low-poly model, alone or from a high-poly.
package bake

import (
	"context"
	"fmt"
	"hash/fnv"
	"math"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"crust/internal/core/accel"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/par"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
)

// Names of the baked maps.
const (
	AO          = "ao"
	Curvature   = "curvature"
	Normal      = "normal"
	WorldNormal = "world-normal"
	Position    = "position"
	Thickness   = "thickness"
	Height      = "height"
	ID          = "id"
)

type meshModel = mesh.Model

var unlimited = float32(math.Inf(1))

// Kind describes one baked map.
type Kind struct {
	Name     string
	Label    string
	Channels int
	Neutral  [3]float32 // what stands in where the map is missing
	Help     string
	weight   float64 // rough cost of a texel, for the bar
}

// Kinds lists the baked maps in the order of the bake board.
var Kinds = []Kind{
	{AO, "Occlusion", 1, [3]float32{1, 1, 1}, "how much open air each place sees, 1 is all", 0},
	{Curvature, "Curvature", 1, [3]float32{0.5, 0.5, 0.5}, "0.5 is flat, above convex, below concave", 2},
	{Thickness, "Thickness", 1, [3]float32{1, 1, 1}, "how deep the body is behind each place, 1 is the limit or more", 1},
	{WorldNormal, "World normal", 3, [3]float32{0.5, 1, 0.5}, "the way the surface faces on the model", 0.1},
	{Normal, "Tangent normal", 3, [3]float32{0.5, 0.5, 1}, "the high-poly's normal in the low-poly's tangent frame, green up", 0.4},
	{Height, "Height", 1, [3]float32{0.5, 0.5, 0.5}, "how far the high-poly stands off the low-poly, 0.5 is not at all", 0.1},
	{Position, "Position", 3, [3]float32{0.5, 0.5, 0.5}, "place within the asset's box, 0–1 along each axis", 0.1},
	{ID, "ID", 3, [3]float32{0, 0, 0}, "a colour for each part, material, vertex colour or island", 0.1},
}

// KindOf finds a map by name.
func KindOf(name string) (Kind, error) {
	var names []string
	for _, k := range Kinds {
		if k.Name == name {
			return k, nil
		}
		names = append(names, k.Name)
	}
	return Kind{}, fmt.Errorf("“%s” is not a baked map; use %s", name, strings.Join(names, ", "))
}

// Settings of a bake. Lengths are metres.
type Settings struct {
	Size    int     `json:"size"`
	Rays    int     `json:"rays"`    // occlusion rays per texel
	Samples int     `json:"samples"` // samples per texel: 1, 4 or 16
	Radius  float64 `json:"radius"`  // of curvature; 0 is DefaultRadius of the diagonal
	Far     float64 `json:"far"`     // limit of occlusion rays; 0 is none
	Front   float64 `json:"front"`   // how far above the low-poly the high-poly is looked for; 0 is suggested
	Rear    float64 `json:"rear"`    // how far below
	Sees    string  `json:"sees"`    // what occlusion rays may meet, one of SeesChoices; empty is everything
	Ground  bool    `json:"ground"`  // occlusion counts the floor under the model
	Deep    float64 `json:"deep"`    // limit of thickness; 0 is DefaultDeep of the diagonal
	Float   bool    `json:"-"`       // keep the values as float32 beside the 16 bits
	ID      string  `json:"id"`      // what ID colours are made from, one of IDChoices; empty is parts
}

// Limits of the settings.
const (
	MinSize, MaxSize = 64, 8192
	MaxRays          = 4096
)

// Check says what is wrong with the settings.
func (s Settings) Check() error {
	switch {
	case s.Size < MinSize || s.Size > MaxSize:
		return fmt.Errorf("size %d is outside %d–%d px", s.Size, MinSize, MaxSize)
	case s.Rays < 1 || s.Rays > MaxRays:
		return fmt.Errorf("%d rays per texel is outside 1–%d", s.Rays, MaxRays)
	case offsets[s.Samples] == nil:
		return fmt.Errorf("%d samples per texel: use 1, 4 or 16", s.Samples)
	case !(min(s.Radius, s.Far, s.Front, s.Rear, s.Deep) >= 0) || math.IsInf(s.Radius+s.Far+s.Front+s.Rear+s.Deep, 0):
		return fmt.Errorf("lengths must be zero or more metres")
	case s.Sees != "" && !slices.Contains(SeesChoices, s.Sees):
		return fmt.Errorf("occlusion sees one of %s, not “%s”", strings.Join(SeesChoices, ", "), s.Sees)
	case s.ID != "" && !slices.Contains(IDChoices, s.ID):
		return fmt.Errorf("ID colours are made from %s, not “%s”", strings.Join(IDChoices, ", "), s.ID)
	}
	return nil
}

// offsets of the samples in a texel, in texels from its centre.
var offsets = map[int][][2]float32{
	1:  {{0, 0}},
	4:  {{-0.125, -0.375}, {0.375, -0.125}, {-0.375, 0.125}, {0.125, 0.375}},
	16: grid16(),
}

// grid16 is a 4 × 4 grid with each row and column shifted, so that all sixteen rows and columns differ.
func grid16() (out [][2]float32) {
	for y := range 4 {
		for x := range 4 {
			out = append(out, [2]float32{(float32(4*x+y)+0.5)/16 - 0.5, (float32(4*y+x)+0.5)/16 - 0.5})
		}
	}
	return out
}

// Map is one baked map: Size × Size texels of Channels 16-bit values, rows from the top, empty
// texels filled from the nearest covered one.
type Map struct {
	Set      string
	Kind     string
	Size     int
	Channels int
	Pix      []uint16
	Float    []float32 // the same values before they are quantised, when Settings.Float asks for them
	Rays     int64
	Missed   int64 // texels where no high-poly was found and the low-poly stood in
	Seconds  float64
	Low      float64 // what the values 0 and 1 stand for in metres, for maps of lengths
	High     float64
	Legend   []Legend // of an ID map
}

// Source is a low-poly, and perhaps a high-poly, made ready for baking.
type Source struct {
	Low, High *mesh.Model
	Settings  Settings
	SizeOf    func(key string) int // sizes of single sets in px; nil for Settings.Size everywhere
	box       geom.Box
	tangents  [][3]geom.Vec4
	cage      []geom.Vec3 // ray directions at the vertices: normals averaged over equal positions
	bvh       *accel.BVH  // of what is seen: the high-poly, or the low
	pair      []int32     // low part → high part, −1 for any
	partLock  sync.Mutex
	byPart    map[int32]*accel.BVH // see of
	cloudLock sync.Mutex
	cloud     *cloud
}

// Prepare builds what all sets share. high may be nil.
func Prepare(low, high *mesh.Model, s Settings) (*Source, error) {
	if s.Samples == 0 {
		s.Samples = 1
	}
	if err := s.Check(); err != nil {
		return nil, err
	}
	src := &Source{Low: low, High: high, Settings: s, box: low.Bounds(), tangents: low.Tangents()}
	diag := float64(src.box.Diagonal())
	if s.Radius == 0 {
		src.Settings.Radius = diag * DefaultRadius
	}
	if s.Front == 0 {
		src.Settings.Front = diag * DefaultReach
	}
	if s.Rear == 0 {
		src.Settings.Rear = diag * DefaultReach
	}
	if s.Deep == 0 {
		src.Settings.Deep = diag * DefaultDeep
	}
	if s.Sees == SeesAll {
		src.Settings.Sees = ""
	}
	seen := src.seen()
	src.bvh = accel.Build(accel.Mesh{Positions: seen.Positions, Tris: seen.Tris})
	if high != nil {
		src.pairParts()
		src.cage = averaged(low)
	}
	return src, nil
}

// Defaults as shares of the model's diagonal.
const (
	DefaultRadius = 0.0025
	DefaultReach  = 0.004
	DefaultDeep   = 0.1
)

func (s *Source) seen() *mesh.Model {
	if s.High != nil {
		return s.High
	}
	return s.Low
}

// partName drops the ending that tells a low-poly part from its high-poly.
func partName(n string) string {
	n = strings.ToLower(strings.TrimSpace(n))
	for _, end := range []string{"_high", "_low", "_hp", "_lp", ".high", ".low", "-high", "-low", " high", " low"} {
		n = strings.TrimSuffix(n, end)
	}
	return n
}

func (s *Source) pairParts() {
	at := map[string]int32{}
	for i, n := range s.High.Parts {
		at[partName(n)] = int32(i)
	}
	s.pair = make([]int32, len(s.Low.Parts))
	for i, n := range s.Low.Parts {
		s.pair[i] = -1
		if j, ok := at[partName(n)]; ok {
			s.pair[i] = j
		}
	}
}

// Unpaired lists the low-poly parts that found no high-poly part of their name.
func (s *Source) Unpaired() (out []string) {
	for i, p := range s.pair {
		if p < 0 {
			out = append(out, s.Low.Parts[i])
		}
	}
	return out
}

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
	part int32     // of the same model
	miss bool
}

const blockSize = 256

// Bake computes the named maps of a set. progress is called with growing shares of 1, from any
// goroutine; it may be nil.
func (s *Source) Bake(ctx context.Context, set *uv.Set, kinds []string, progress func(float64)) ([]*Map, error) {
	if progress == nil {
		progress = func(float64) {}
	}
	began := time.Now()
	b := job{s: s, set: set, progress: progress}
	for _, name := range kinds {
		k, err := KindOf(name)
		if err != nil {
			return nil, err
		}
		b.kinds = append(b.kinds, k)
		if name == Curvature {
			if err := s.makeCloud(ctx); err != nil {
				return nil, err
			}
		}
	}
	maps, err := b.run(ctx)
	if err != nil {
		return nil, fmt.Errorf("baking set “%s”: %w", set.Name, err)
	}
	for _, m := range maps {
		m.Seconds = time.Since(began).Seconds()
	}
	return maps, nil
}

// makeCloud builds the curvature cloud once; a stopped attempt leaves nothing behind.
func (s *Source) makeCloud(ctx context.Context) error {
	s.cloudLock.Lock()
	defer s.cloudLock.Unlock()
	if s.cloud != nil {
		return nil
	}
	c, err := newCloud(ctx, s.seen(), float32(s.Settings.Radius))
	if err == nil {
		s.cloud = c
	}
	return err
}

type job struct {
	s        *Source
	set      *uv.Set
	kinds    []Kind
	progress func(float64)
	done     atomic.Int64
	all      int64
	missed   atomic.Int64
	inner    *Caster // of thickness rays
	ids      *ids
}

func (b *job) run(ctx context.Context) ([]*Map, error) {
	size := b.s.Settings.Size
	if b.s.SizeOf != nil {
		size = b.s.SizeOf(b.set.Key)
	}
	spots := offsets[b.s.Settings.Samples]
	count := make([]uint16, size*size)
	sums := make([][]float32, len(b.kinds))
	for i, k := range b.kinds {
		sums[i] = make([]float32, size*size*k.Channels)
	}
	centre := surface.Rasterise(b.s.Low, b.set, size, 0, 0)
	if centre.Len() == 0 {
		return nil, fmt.Errorf("at %d px: %w", size, surface.ErrEmpty)
	}
	rays := max(1, (b.s.Settings.Rays+len(spots)-1)/len(spots))
	caster := NewCaster(b.s.bvh, rays)
	b.inner = NewCaster(b.s.bvh, max(8, min(128, rays/thicknessRays)))
	for _, k := range b.kinds {
		if k.Name == ID {
			b.ids = b.s.newIDs(b.set)
		}
	}
	b.all = int64(centre.Len()) * int64(len(spots))
	for i, o := range spots {
		surf := centre
		if o != [2]float32{} {
			surf = surface.Rasterise(b.s.Low, b.set, size, o[0], o[1])
		}
		if err := b.pass(ctx, surf, uint32(i), caster, sums, count); err != nil {
			return nil, err
		}
	}
	for i, k := range b.kinds {
		if k.Name == AO && b.s.Settings.Rays < cleanFrom {
			if err := b.clean(ctx, centre, sums[i], count); err != nil {
				return nil, err
			}
		}
	}
	return b.finish(ctx, centre, rays*len(spots), sums, count)
}

// scratch of one worker.
type scratch struct {
	stream accel.Stream
	pts    [blockSize]point
	rays   *Worker
	inner  *Worker
	near   near
	val    [blockSize]float32
}

// pass adds one sample per covered texel to the sums. Each texel is written by one block only.
func (b *job) pass(ctx context.Context, surf *surface.Surface, spot uint32, caster *Caster, sums [][]float32, count []uint16) error {
	work := make([]*scratch, par.Workers())
	f := fnv.New32a()
	f.Write([]byte(b.set.Key))
	seed := hash(f.Sum32() + spot*0x9e3779b9)
	return par.Blocks(ctx, surf.Len(), blockSize, func(w, from, to int) {
		k := work[w]
		if k == nil {
			k = &scratch{rays: caster.Worker(), inner: b.inner.Worker()}
			work[w] = k
		}
		pts := k.pts[:to-from]
		b.s.locate(surf, from, pts, &k.stream)
		missed := int64(0)
		for i := range pts {
			count[surf.Texel[from+i]]++
			if pts[i].miss {
				missed++
			}
		}
		for j, kind := range b.kinds {
			sum := sums[j]
			switch kind.Name {
			case AO:
				b.s.occlusion(pts, surf.Texel[from:to], seed, k)
			case Curvature:
				b.s.cloud.block(pts, k.val[:], &k.near)
			case Thickness:
				b.s.thickness(pts, surf.Texel[from:to], seed, k)
			case Height:
				for i := range pts {
					k.val[i] = b.s.height(surf, from+i, &pts[i])
				}
			}
			for i := range pts {
				at := int(surf.Texel[from+i]) * kind.Channels
				var v geom.Vec3
				switch kind.Name {
				case AO, Curvature, Thickness, Height:
					sum[at] += k.val[i]
					continue
				case WorldNormal:
					v = pts[i].n
				case Position:
					v = b.s.within(surf.Position(from + i))
				case ID:
					// The first sample alone: colours of different things are not mixed.
					if count[surf.Texel[from+i]] > 1 {
						continue
					}
					v = b.ids.value(&pts[i], surf.Tri[from+i])
				case Normal:
					v = b.s.tangentNormal(surf, from+i, pts[i].n)
				}
				sum[at] += v.X
				sum[at+1] += v.Y
				sum[at+2] += v.Z
			}
		}
		b.missed.Add(missed)
		n := b.done.Add(int64(to - from))
		b.progress(min(1, float64(n)/float64(max(1, b.all))))
	})
}

// locate finds the points of a run of texels.
func (s *Source) locate(surf *surface.Surface, from int, pts []point, stream *accel.Stream) {
	for i := range pts {
		j := from + i
		t := int(surf.Tri[j])
		u, v := surf.U[j], surf.V[j]
		n := surf.Normal(j).Norm()
		face := s.Low.FaceNormal(t)
		if n == (geom.Vec3{}) {
			n = face
		}
		if s.High != nil {
			if s.project(t, u, v, surf.Position(j), &pts[i], stream) {
				continue
			}
		}
		pts[i] = point{p: s.smoothPosition(t, u, v), base: surf.Position(j), n: n, face: face, tri: int32(t), part: s.Low.Part[t], miss: s.High != nil}
		if s.High != nil && s.pair[s.Low.Part[t]] >= 0 {
			pts[i].part = s.pair[s.Low.Part[t]]
		}
	}
}

// smoothPosition lifts a point of a coarse triangle to the curved surface that its normals suggest,
// so that neighbouring faces do not shade it (Hanika, Hacking the Shadow Terminator, 2021).
func (s *Source) smoothPosition(t int, u, v float32) geom.Vec3 {
	m := s.Low
	i := m.Tris[t]
	a, b, c := m.Corners(t)
	p := geom.Bary(a, b, c, u, v)
	lift := func(q, n geom.Vec3) geom.Vec3 {
		d := min(0, p.Sub(q).Dot(n))
		return n.Mul(d)
	}
	da, db, dc := lift(a, m.Normals[i[0]]), lift(b, m.Normals[i[1]]), lift(c, m.Normals[i[2]])
	return p.Sub(geom.Bary(da, db, dc, u, v))
}

// project looks for the high-poly along the averaged normal, from the front distance down to the
// rear one, and takes the first face of the paired part that looks the same way.
func (s *Source) project(t int, u, v float32, p geom.Vec3, out *point, stream *accel.Stream) bool {
	i := s.Low.Tris[t]
	dir := geom.Bary(s.cage[i[0]], s.cage[i[1]], s.cage[i[2]], u, v).Norm()
	front, rear := float32(s.Settings.Front), float32(s.Settings.Rear)
	want := s.pair[s.Low.Part[t]]
	o := p.Add(dir.Mul(front))
	far := front + rear
	eps := s.bvh.Epsilon()
	for range 16 {
		hit, ok := s.bvh.FirstHit(o, dir.Neg(), far, stream)
		if !ok {
			return false
		}
		face := s.High.FaceNormal(int(hit.Tri))
		if (want < 0 || s.High.Part[hit.Tri] == want) && face.Dot(dir) > 0 {
			k := s.High.Tris[hit.Tri]
			a, b, c := s.High.Corners(int(hit.Tri))
			n := geom.Bary(s.High.Normals[k[0]], s.High.Normals[k[1]], s.High.Normals[k[2]], hit.U, hit.V).Norm()
			if n == (geom.Vec3{}) {
				n = face
			}
			at := geom.Bary(a, b, c, hit.U, hit.V)
			*out = point{p: at, base: at, n: n, face: face, tri: hit.Tri, part: s.High.Part[hit.Tri]}
			return true
		}
		step := hit.T + eps
		if step >= far {
			return false
		}
		o, far = o.Sub(dir.Mul(step)), far-step
	}
	return false
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

// Box is the asset's box, which position maps are measured in.
func (s *Source) Box() geom.Box { return s.box }

// tangentNormal expresses n in the low-poly's frame at the texel.
func (s *Source) tangentNormal(surf *surface.Surface, j int, n geom.Vec3) geom.Vec3 {
	out, _ := s.Low.FrameAt(s.tangents, int(surf.Tri[j]), surf.U[j], surf.V[j]).Local(n)
	return out
}

// finish divides the sums, encodes them in 16 bits and fills the empty texels.
func (b *job) finish(ctx context.Context, surf *surface.Surface, rays int, sums [][]float32, count []uint16) ([]*Map, error) {
	covered := &surface.Surface{Model: surf.Model, Set: surf.Set, Size: surf.Size}
	for at, n := range count {
		if n > 0 {
			covered.Texel = append(covered.Texel, uint32(at))
		}
	}
	if err := covered.Pad(ctx); err != nil {
		return nil, err
	}
	size := surf.Size
	out := make([]*Map, len(b.kinds))
	for i, k := range b.kinds {
		m := &Map{Set: b.set.Key, Kind: k.Name, Size: size, Channels: k.Channels, Pix: make([]uint16, size*size*k.Channels)}
		if k.Name == AO {
			m.Rays = int64(surf.Len()) * int64(rays)
		}
		switch k.Name {
		case Thickness:
			m.Rays = int64(surf.Len()) * int64(len(offsets[b.s.Settings.Samples])) * int64(b.inner.dirs.rays)
			m.High = b.s.Settings.Deep
		case Height:
			m.Low, m.High = -b.s.heightRange(), b.s.heightRange()
		}
		m.Missed = b.missed.Load()
		unit := k.Name == WorldNormal || k.Name == Normal
		if b.s.Settings.Float {
			m.Float = make([]float32, len(m.Pix))
		}
		put := func(at int, v float32) {
			m.Pix[at] = encode(v)
			if m.Float != nil {
				m.Float[at] = v
			}
		}
		err := par.Blocks(ctx, size, 32, func(_, from, to int) {
			for at := from * size; at < to*size; at++ {
				src := int(covered.Texel[covered.Nearest[at]])
				n := 1 / float32(count[src])
				if k.Name == ID {
					n = 1
				}
				if unit {
					v := geom.Vec3{X: sums[i][src*3], Y: sums[i][src*3+1], Z: sums[i][src*3+2]}.Norm()
					put(at*3, v.X/2+0.5)
					put(at*3+1, v.Y/2+0.5)
					put(at*3+2, v.Z/2+0.5)
					continue
				}
				for c := range k.Channels {
					put(at*k.Channels+c, sums[i][src*k.Channels+c]*n)
				}
			}
		})
		if err != nil {
			return nil, err
		}
		if k.Name == ID {
			m.Legend = b.ids.legend(m, covered.Texel, b.set.Area)
		}
		out[i] = m
	}
	return out, nil
}

func encode(v float32) uint16 { return uint16(geom.Clamp01(v)*65535 + 0.5) }

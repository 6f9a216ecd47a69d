package still

import (
	"context"
	"math"

	"crust/internal/core/accel"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/par"
	"crust/internal/core/pixel"
	"crust/internal/core/uv"
)

// Maps are a set's channels as squares of Size² texels from the top left, 0–65535 each; the height is in metres. Emissive, Opacity and
// Occlusion are nil where there are none, and Height where it is 0 all over.
type Maps struct {
	Size             int
	Base             [3][]uint16 // sRGB
	Rough, Metal     []uint16
	Normal           [2][]uint16 // tangent space, green up; 32768 is 0
	Emissive         [3][]uint16 // sRGB
	Opacity          []uint16
	Occlusion        []uint16
	Height           []float32
	EmissiveStrength float32 // nits in units of the light of 1; 1 when 0
}

// Look is how the surface is taken.
type Look struct {
	Shape float32 // so many times as high as it is the height moves the surface; 0 not at all
	Cut   float32 // opacity below which it is cut away; 0 has it fade instead
	Both  bool    // faces are seen from behind too; those that let something through always are
	Faces int     // about as many faces as a surface that is moved is cut into; 0 for DefaultFaces
}

// DefaultFaces is how finely a surface that is moved is cut.
const DefaultFaces = 800_000

// corner is a corner of a face as light sees it.
type corner struct {
	n, t geom.Vec3
	sign float32
	uv   geom.Vec2 // of the set's square, V downwards
}

// Scene is a model that light can be followed in. It is read by any number of goroutines.
type Scene struct {
	bvh     *accel.BVH
	place   []geom.Vec3 // three a face
	corners []corner
	set     []int32 // by face
	maps    []*Maps
	cut     float32
	both    bool
	box     geom.Box
	eps     float32
}

// NewScene puts a model with the maps of its sets together; sets whose maps are nil are left out.
func NewScene(ctx context.Context, m *mesh.Model, sets []uv.Set, maps []*Maps, look Look) (*Scene, error) {
	s := &Scene{maps: maps, cut: look.Cut, both: look.Both}
	tangents := m.Tangents()
	weld := m.WeldNear(m.Tolerance()) // what lies in one place stays together
	area := 0.0
	moved := false
	for i := range sets {
		if maps[i] == nil {
			continue
		}
		area += sets[i].Area
		moved = moved || look.Shape != 0 && maps[i].Height != nil
		for _, t := range sets[i].Tris {
			tri := m.Tris[t]
			for k, v := range tri {
				at := m.UVs[v].Sub(sets[i].Origin)
				tan := tangents[t][k]
				s.place = append(s.place, m.Positions[weld[v]])
				s.corners = append(s.corners, corner{n: m.Normals[v], t: tan.XYZ(), sign: tan.W, uv: geom.Vec2{X: at.X, Y: 1 - at.Y}})
			}
			s.set = append(s.set, int32(i))
		}
	}
	if moved {
		many := look.Faces
		if many == 0 {
			many = DefaultFaces
		}
		if err := s.cutSmall(ctx, float32(math.Sqrt(area/float64(many)*6))); err != nil {
			return nil, err
		}
		if err := s.move(ctx, look.Shape, m.Square != nil); err != nil {
			return nil, err
		}
	}
	tris := make([][3]uint32, len(s.set))
	s.box = geom.EmptyBox()
	for i := range tris {
		tris[i] = [3]uint32{uint32(3 * i), uint32(3*i + 1), uint32(3*i + 2)}
	}
	for _, p := range s.place {
		s.box = s.box.Add(p)
	}
	var err error
	if s.bvh, err = accel.BuildWithin(ctx, accel.Mesh{Positions: s.place, Tris: tris}); err != nil {
		return nil, err
	}
	s.eps = 4 * s.bvh.Epsilon()
	return s, nil
}

// Faces is how many there are.
func (s *Scene) Faces() int { return len(s.set) }

// Box holds the model as it is seen.
func (s *Scene) Box() geom.Box { return s.box }

// end is a corner with its place.
type end struct {
	p geom.Vec3
	c corner
}

func halfway(a, b *end) end {
	return end{a.p.Add(b.p).Mul(0.5), corner{n: a.c.n.Add(b.c.n).Norm(), t: a.c.t.Add(b.c.t).Norm(), sign: a.c.sign, uv: a.c.uv.Add(b.c.uv).Mul(0.5)}}
}

// pieces are faces that others were cut into.
type pieces struct {
	limit   float32 // square of the longest edge
	place   []geom.Vec3
	corners []corner
}

// cut halves edges that are too long until none is. Whether one is halved depends on the edge alone, so faces on both sides of it are cut
// alike.
func (o *pieces) cut(p, q, r end, depth int) {
	long := func(a, b *end) bool {
		d := a.p.Sub(b.p)
		return d.Dot(d) > o.limit
	}
	pq, qr, rp := long(&p, &q), long(&q, &r), long(&r, &p)
	switch {
	case !pq && !qr && !rp || depth == 0:
		o.place = append(o.place, p.p, q.p, r.p)
		o.corners = append(o.corners, p.c, q.c, r.c)
		return
	case pq && qr && rp:
		m, n, k := halfway(&p, &q), halfway(&q, &r), halfway(&r, &p)
		o.cut(p, m, k, depth-1)
		o.cut(m, q, n, depth-1)
		o.cut(k, n, r, depth-1)
		o.cut(m, n, k, depth-1)
		return
	}
	// Turned so that the first edge is cut and the last is not.
	for !pq || rp {
		p, q, r = q, r, p
		pq, qr, rp = qr, rp, pq
	}
	m := halfway(&p, &q)
	if !qr {
		o.cut(p, m, r, depth-1)
		o.cut(m, q, r, depth-1)
		return
	}
	n := halfway(&q, &r)
	o.cut(p, m, r, depth-1)
	o.cut(m, q, n, depth-1)
	o.cut(m, n, r, depth-1)
}

// cutSmall cuts all faces until no edge is longer than longest.
func (s *Scene) cutSmall(ctx context.Context, longest float32) error {
	const run = 64
	out := make([]pieces, (len(s.set)+run-1)/run)
	sets := make([][]int32, len(out))
	err := par.Blocks(ctx, len(out), 1, func(_, i, _ int) {
		o := &out[i]
		o.limit = longest * longest
		for f := i * run; f < min(len(s.set), (i+1)*run); f++ {
			e := [3]end{}
			for k := range e {
				e[k] = end{s.place[3*f+k], s.corners[3*f+k]}
			}
			o.cut(e[0], e[1], e[2], 12)
			for len(sets[i]) < len(o.place)/3 {
				sets[i] = append(sets[i], s.set[f])
			}
		}
	})
	if err != nil {
		return err
	}
	s.place, s.corners, s.set = nil, nil, nil
	n := 0
	for i := range out {
		n += len(out[i].place)
	}
	s.place, s.corners, s.set = make([]geom.Vec3, 0, n), make([]corner, 0, n), make([]int32, 0, n/3)
	for i := range out {
		s.place, s.corners, s.set = append(s.place, out[i].place...), append(s.corners, out[i].corners...), append(s.set, sets[i]...)
		out[i] = pieces{}
	}
	return nil
}

// move moves corners along their normals by the height; those in one place move alike, so that nothing tears.
func (s *Scene) move(ctx context.Context, by float32, repeats bool) error {
	ways := make([]geom.Vec3, len(s.place))
	err := par.Blocks(ctx, len(s.place), 4096, func(_, from, to int) {
		for i := from; i < to; i++ {
			if m := s.maps[s.set[i/3]]; m.Height != nil {
				ways[i] = s.corners[i].n.Mul(by * m.heightAt(s.corners[i].uv, repeats))
			}
		}
	})
	if err != nil {
		return err
	}
	// The first corner in a place, found by a hash of it, gathers the ways of all.
	first, sum, many := firsts(s.place), make([]geom.Vec3, len(s.place)), make([]float32, len(s.place))
	for i, k := range first {
		sum[k], many[k] = sum[k].Add(ways[i]), many[k]+1
	}
	for i, k := range first {
		s.place[i] = s.place[i].Add(sum[k].Mul(1 / many[k]))
	}
	return nil
}

// firsts is, for each place, the first that is the same.
func firsts(place []geom.Vec3) []int32 {
	size := 1
	for size < 2*len(place) {
		size *= 2
	}
	table := make([]int32, size) // one more than the number; 0 for none
	out := make([]int32, len(place))
	for i, p := range place {
		h := hash2(hash2(math.Float32bits(p.X), math.Float32bits(p.Y)), math.Float32bits(p.Z))
		for at := int(h) & (size - 1); ; at = (at + 1) & (size - 1) {
			if k := table[at]; k == 0 {
				table[at], out[i] = int32(i+1), int32(i)
			} else if place[k-1] == p {
				out[i] = k - 1
			} else {
				continue
			}
			break
		}
	}
	return out
}

// between are the four texels round a place, and how much the later ones count.
func (m *Maps) between(at geom.Vec2, repeats bool) (a, b, c, d int, fx, fy float32) {
	x, y := at.X*float32(m.Size)-0.5, at.Y*float32(m.Size)-0.5
	i, j := int(math.Floor(float64(x))), int(math.Floor(float64(y)))
	fx, fy = x-float32(i), y-float32(j)
	in := func(k int) int {
		if repeats {
			return ((k % m.Size) + m.Size) % m.Size
		}
		return min(m.Size-1, max(0, k))
	}
	i0, i1, j0, j1 := in(i), in(i+1), in(j)*m.Size, in(j+1)*m.Size
	return j0 + i0, j0 + i1, j1 + i0, j1 + i1, fx, fy
}

func (m *Maps) heightAt(at geom.Vec2, repeats bool) float32 {
	a, b, c, d, fx, fy := m.between(at, repeats)
	h := m.Height
	return (h[a]*(1-fx)+h[b]*fx)*(1-fy) + (h[c]*(1-fx)+h[d]*fx)*fy
}

// linear are the values of sRGB's 65536 steps.
var linear = func() (t [65536]float32) {
	for i := range t {
		t[i] = pixel.FromSRGB(float32(i) / 65535)
	}
	return t
}()

// texel is what the maps hold at a place.
type texel struct {
	base, emissive geom.Vec3
	rough, metal   float32
	normal         geom.Vec3

	height, occlusion, opacity float32 // only as channels
}

func (m *Maps) read(at geom.Vec2, out *texel) {
	a, b, c, d, fx, fy := m.between(at, true)
	w := [4]float32{(1 - fx) * (1 - fy), fx * (1 - fy), (1 - fx) * fy, fx * fy}
	i := [4]int{a, b, c, d}
	mean := func(p []uint16) (v float32) {
		for k, w := range w {
			v += w * float32(p[i[k]])
		}
		return v * (1. / 65535)
	}
	light := func(p []uint16) (v float32) {
		for k, w := range w {
			v += w * linear[p[i[k]]]
		}
		return v
	}
	out.base = geom.Vec3{X: light(m.Base[0]), Y: light(m.Base[1]), Z: light(m.Base[2])}
	out.rough, out.metal = mean(m.Rough), mean(m.Metal)
	x, y := (mean(m.Normal[0])*65535-32768)/32767, (mean(m.Normal[1])*65535-32768)/32767
	out.normal = geom.Vec3{X: x, Y: y, Z: float32(math.Sqrt(float64(max(0.0025, 1-x*x-y*y))))}
	out.emissive = geom.Vec3{}
	if m.Emissive[0] != nil {
		strength := m.EmissiveStrength
		if strength == 0 {
			strength = 1
		}
		out.emissive = geom.Vec3{X: light(m.Emissive[0]), Y: light(m.Emissive[1]), Z: light(m.Emissive[2])}.Mul(strength)
	}
}

// readRest reads what light does not ask for.
func (m *Maps) readRest(at geom.Vec2, out *texel) {
	out.height, out.occlusion, out.opacity = 0, 1, m.opacityAt(at)
	if m.Height != nil {
		out.height = m.heightAt(at, true)
	}
	if m.Occlusion != nil {
		out.occlusion = m.plain(m.Occlusion, at)
	}
	if s := m.EmissiveStrength; s > 0 {
		out.emissive = out.emissive.Mul(1 / s)
	}
}

func (m *Maps) opacityAt(at geom.Vec2) float32 {
	if m.Opacity == nil {
		return 1
	}
	return m.plain(m.Opacity, at)
}

// plain is a plane's value at a place, 0–1.
func (m *Maps) plain(o []uint16, at geom.Vec2) float32 {
	a, b, c, d, fx, fy := m.between(at, true)
	return ((float32(o[a])*(1-fx)+float32(o[b])*fx)*(1-fy) + (float32(o[c])*(1-fx)+float32(o[d])*fx)*fy) * (1. / 65535)
}

// met is where a ray met the model.
type met struct {
	at, n, out geom.Vec3 // the place, the shading normal before the map, and the face's own
	t          geom.Vec3 // tangent
	sign       float32
	uv         geom.Vec2
	far        float32
	maps       *Maps
}

// meet finds the first place of the model along a ray that is not cut away; chance decides where it fades, and without it nothing is cut
// away. A ray of the eye looks through faces from behind, unless they are seen from both sides.
func (s *Scene) meet(o, d geom.Vec3, far float32, eye bool, k *walker, chance func() float32, out *met) bool {
	gone := float32(0)
	for range 64 {
		h, ok := s.first(o, d, far-gone, eye, k)
		if !ok {
			return false
		}
		i := 3 * h.Tri
		a, b, c := &s.corners[i], &s.corners[i+1], &s.corners[i+2]
		w := 1 - h.U - h.V
		m := s.maps[s.set[h.Tri]]
		at := geom.Vec2{X: a.uv.X*w + b.uv.X*h.U + c.uv.X*h.V, Y: a.uv.Y*w + b.uv.Y*h.U + c.uv.Y*h.V}
		p, q, r := s.place[i], s.place[i+1], s.place[i+2]
		out.out = q.Sub(p).Cross(r.Sub(p)).Norm()
		through := eye && !s.both && m.Opacity == nil && out.out.Dot(d) > 0
		if m.Opacity != nil && chance != nil {
			op := m.opacityAt(at)
			through = s.cut > 0 && op < s.cut || s.cut == 0 && op < 1 && chance() >= op
		}
		if through {
			o = o.Add(d.Mul(h.T + s.eps))
			gone += h.T + s.eps
			continue
		}
		out.at = geom.Bary(p, q, r, h.U, h.V)
		out.n = geom.Bary(a.n, b.n, c.n, h.U, h.V).Norm()
		out.t, out.sign, out.uv, out.maps, out.far = geom.Bary(a.t, b.t, c.t, h.U, h.V), a.sign, at, m, gone+h.T
		return true
	}
	return false
}

// steps is in how many steps a ray of the eye goes through the model. An eye is far from faces that are no larger than a pixel, and their sides
// are told apart only from nearby.
const steps = 16

// first is the first face that a ray meets.
func (s *Scene) first(o, d geom.Vec3, far float32, eye bool, k *walker) (accel.Hit, bool) {
	if !eye {
		return k.first(s.bvh, o, d, far)
	}
	// From where the ray enters the model's box to where it leaves it.
	from, to := float32(0), far
	low, high, at, way := s.box.Min.Array(), s.box.Max.Array(), o.Array(), d.Array()
	for i := range 3 {
		a, b := low[i]-s.eps-at[i], high[i]+s.eps-at[i]
		if way[i] == 0 {
			if a > 0 || b < 0 {
				return accel.Hit{}, false
			}
			continue
		}
		a, b = a/way[i], b/way[i]
		from, to = max(from, min(a, b)), min(to, max(a, b))
	}
	step := s.box.Diagonal() / steps
	for ; from < to; from += step {
		if h, ok := k.first(s.bvh, o.Add(d.Mul(from)), d, min(step, to-from)+s.eps); ok {
			h.T += from
			return h, true
		}
	}
	return accel.Hit{}, false
}

// open tells whether nothing of the model lies on a way.
func (s *Scene) open(o, d geom.Vec3, far float32, k *walker, chance func() float32) bool {
	var out met
	for i := range s.maps {
		if s.maps[i] != nil && s.maps[i].Opacity != nil {
			return !s.meet(o, d, far, false, k, chance, &out)
		}
	}
	_, hit := k.first(s.bvh, o, d, far)
	return !hit
}

// walker is what one goroutine follows rays with.
type walker struct {
	accel.Stream
	rays int64
	glow geom.Vec3 // what the place that was last seen emits
}

func (k *walker) first(b *accel.BVH, o, d geom.Vec3, far float32) (accel.Hit, bool) {
	k.rays++
	return b.FirstHit(o, d, far, &k.Stream)
}

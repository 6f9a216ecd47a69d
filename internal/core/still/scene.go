package still

import (
	"context"
	"math"

	"crust/internal/core/accel"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/pixel"
	"crust/internal/core/uv"
)

// Maps are a set's channels as squares of Size² texels from the top left, 0–65535 each; the height is in metres. Emissive and Opacity are
// nil where no layer lays them down, and Height where it is 0 all over.
type Maps struct {
	Size             int
	Base             [3][]uint16 // sRGB
	Rough, Metal     []uint16
	Normal           [2][]uint16 // tangent space, green up; 32768 is 0
	Emissive         [3][]uint16 // sRGB
	Opacity          []uint16
	Height           []float32
	EmissiveStrength float32 // nits in units of the light of 1; 1 when 0
}

// Look is how the surface is taken.
type Look struct {
	Shape float32 // so many times as high as it is the height moves the surface; 0 not at all
	Cut   float32 // opacity below which it is cut away; 0 has it fade instead
	Faces int     // about as many faces as a surface that is moved is cut into; 0 for DefaultFaces
}

// DefaultFaces is how finely a surface that is moved is cut.
const DefaultFaces = 1_500_000

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
	box     geom.Box
	eps     float32
}

// NewScene puts a model with the maps of its sets together; sets whose maps are nil are left out.
func NewScene(ctx context.Context, m *mesh.Model, sets []uv.Set, maps []*Maps, look Look) (*Scene, error) {
	s := &Scene{maps: maps, cut: look.Cut}
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
		s.cutSmall(float32(math.Sqrt(area/float64(many)*3)), 3*many)
		s.move(look.Shape, m.Square != nil)
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

// cutSmall halves edges that are longer than longest until none is, or there are too many faces. Whether one is halved depends on the edge
// alone, so faces on both sides of it are cut alike.
func (s *Scene) cutSmall(longest float32, most int) {
	limit := longest * longest
	for range 14 {
		place, corners, set := make([]geom.Vec3, 0, 2*len(s.place)), make([]corner, 0, 2*len(s.corners)), make([]int32, 0, 2*len(s.set))
		some := false
		type end struct {
			p geom.Vec3
			c corner
		}
		half := func(a, b end) end {
			return end{a.p.Add(b.p).Mul(0.5), corner{n: a.c.n.Add(b.c.n).Norm(), t: a.c.t.Add(b.c.t).Norm(), sign: a.c.sign, uv: a.c.uv.Add(b.c.uv).Mul(0.5)}}
		}
		put := func(f int, ends ...end) {
			for i, e := range ends {
				place, corners = append(place, e.p), append(corners, e.c)
				if i%3 == 0 {
					set = append(set, s.set[f])
				}
			}
		}
		for f := range s.set {
			e := [3]end{}
			var long [3]bool // from corner k to the next
			many := 0
			for k := range e {
				e[k] = end{s.place[3*f+k], s.corners[3*f+k]}
			}
			for k := range e {
				d := e[k].p.Sub(e[(k+1)%3].p)
				if long[k] = d.Dot(d) > limit; long[k] {
					many++
				}
			}
			some = some || many > 0
			a := 0
			switch many {
			case 0:
				put(f, e[0], e[1], e[2])
				continue
			case 1: // turned so that the first edge is cut
				for !long[a] {
					a++
				}
			case 2: // and here the last is not
				for long[(a+2)%3] {
					a++
				}
			}
			p, q, r := e[a%3], e[(a+1)%3], e[(a+2)%3]
			m := half(p, q)
			switch many {
			case 1:
				put(f, p, m, r, m, q, r)
			case 2:
				o := half(q, r)
				put(f, p, m, r, m, q, o, m, o, r)
			default:
				o, n := half(q, r), half(r, p)
				put(f, p, m, n, m, q, o, n, o, r, m, o, n)
			}
		}
		s.place, s.corners, s.set = place, corners, set
		if !some || len(set) > most {
			return
		}
	}
}

// move moves corners along their normals by the height; those in one place move alike, so that nothing tears.
func (s *Scene) move(by float32, repeats bool) {
	type sum struct {
		way geom.Vec3
		n   float32
	}
	of := make(map[geom.Vec3]*sum, len(s.place)/5)
	for i, p := range s.place {
		c := &s.corners[i]
		way := geom.Vec3{}
		if m := s.maps[s.set[i/3]]; m.Height != nil {
			way = c.n.Mul(by * m.heightAt(c.uv, repeats))
		}
		k := of[p]
		if k == nil {
			k = new(sum)
			of[p] = k
		}
		k.way, k.n = k.way.Add(way), k.n+1
	}
	for i, p := range s.place {
		k := of[p]
		s.place[i] = p.Add(k.way.Mul(1 / k.n))
	}
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
	opacity        float32
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

func (m *Maps) opacityAt(at geom.Vec2) float32 {
	if m.Opacity == nil {
		return 1
	}
	a, b, c, d, fx, fy := m.between(at, true)
	o := m.Opacity
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

// meet finds the first place of the model along a ray that is not cut away; chance decides where it fades.
func (s *Scene) meet(o, d geom.Vec3, far float32, k *accel.Stream, chance func() float32, out *met) bool {
	gone := float32(0)
	for range 64 {
		h, ok := s.bvh.FirstHit(o, d, far-gone, k)
		if !ok {
			return false
		}
		i := 3 * h.Tri
		a, b, c := &s.corners[i], &s.corners[i+1], &s.corners[i+2]
		w := 1 - h.U - h.V
		m := s.maps[s.set[h.Tri]]
		at := geom.Vec2{X: a.uv.X*w + b.uv.X*h.U + c.uv.X*h.V, Y: a.uv.Y*w + b.uv.Y*h.U + c.uv.Y*h.V}
		if m.Opacity != nil {
			if op := m.opacityAt(at); s.cut > 0 && op < s.cut || s.cut == 0 && op < 1 && chance() >= op {
				o = o.Add(d.Mul(h.T + s.eps))
				gone += h.T + s.eps
				continue
			}
		}
		p, q, r := s.place[i], s.place[i+1], s.place[i+2]
		out.at = geom.Bary(p, q, r, h.U, h.V)
		out.out = q.Sub(p).Cross(r.Sub(p)).Norm()
		out.n = geom.Bary(a.n, b.n, c.n, h.U, h.V).Norm()
		out.t, out.sign, out.uv, out.maps, out.far = geom.Bary(a.t, b.t, c.t, h.U, h.V), a.sign, at, m, gone+h.T
		return true
	}
	return false
}

// open tells whether nothing of the model lies on a way.
func (s *Scene) open(o, d geom.Vec3, far float32, k *accel.Stream, chance func() float32) bool {
	var out met
	for i := range s.maps {
		if s.maps[i] != nil && s.maps[i].Opacity != nil {
			return !s.meet(o, d, far, k, chance, &out)
		}
	}
	_, hit := s.bvh.FirstHit(o, d, far, k)
	return !hit
}

// Package mesh holds the model and its readers and writers.
package mesh

import (
	"fmt"
	"math"
	"path"
	"strings"

	"crust/internal/core/geom"
)

// Limits of what a reader accepts. A declared count is checked against them, and against the bytes
// that are really there, before memory is taken.
const (
	MaxBytes     = 2 << 30
	MaxVertices  = 40_000_000
	MaxTriangles = 20_000_000
	MaxNames     = 20_000
	MaxDepth     = 128
)

// Material is a named material slot.
type Material struct {
	Name string
	// Colour is the slot's own base colour in sRGB, 0–1, for showing an unpainted model.
	Colour [3]float32
}

// Model is a triangle mesh. Corners that share position, normal and UV share a vertex.
// Positions are in metres, Y up; UV has V growing upwards.
type Model struct {
	Positions []geom.Vec3
	Normals   []geom.Vec3
	UVs       []geom.Vec2
	Colours   [][3]uint8 // per vertex, sRGB; empty when the file has none
	Tris      [][3]uint32
	Material  []int32 // per triangle
	Part      []int32 // per triangle
	Materials []Material
	Parts     []string
	HasUV     bool
	Pictures  []string // names of the pictures the file carries or names, read and found sound
	Notes     []string // what was passed over while reading, one sentence each
}

// Error is a fault in a model file: where it is, what it is and what to do about it.
type Error struct {
	File  string
	Place string // "line 12", "byte 4096", "accessor 3"
	What  string
	Do    string
}

func (e *Error) Error() string {
	var b strings.Builder
	b.WriteString(e.File)
	if e.Place != "" {
		b.WriteString(", " + e.Place)
	}
	b.WriteString(": " + e.What)
	if e.Do != "" {
		b.WriteString("; " + e.Do)
	}
	return b.String()
}

// Files finds what a model refers to by name: material libraries, buffers, pictures.
type Files func(name string) ([]byte, error)

// Readers lists the file endings that Read takes.
var Readers = map[string]func(name string, data []byte, files Files) (*Model, error){
	".obj":  ReadOBJ,
	".glb":  ReadGLTF,
	".gltf": ReadGLTF,
}

// Read reads a model by its file ending. files may be nil when nothing lies beside the model.
func Read(name string, data []byte, files Files) (*Model, error) {
	base := path.Base(strings.ReplaceAll(name, "\\", "/"))
	read := Readers[strings.ToLower(path.Ext(base))]
	if read == nil {
		return nil, &Error{base, "", "is not a kind of model that Crust reads", "bring in .obj, .glb or .gltf"}
	}
	if len(data) == 0 {
		return nil, &Error{base, "", "the file is empty", "export it again"}
	}
	if len(data) > MaxBytes {
		return nil, &Error{base, "", fmt.Sprintf("the file has %d MB, over the limit of %d MB", len(data)>>20, MaxBytes>>20), "split the model"}
	}
	if files == nil {
		files = func(n string) ([]byte, error) { return nil, fmt.Errorf("%s is not beside the model", n) }
	}
	m, err := read(base, data, files)
	if err != nil {
		return nil, err
	}
	if len(m.Tris) == 0 {
		return nil, &Error{base, "", "holds no faces", "export a mesh, not only points, curves or cameras"}
	}
	m.completeNormals()
	return m, nil
}

// Bounds is the box around all vertices that faces use.
func (m *Model) Bounds() geom.Box {
	b := geom.EmptyBox()
	for _, t := range m.Tris {
		for _, i := range t {
			b = b.Add(m.Positions[i])
		}
	}
	return b
}

// Corners returns the positions of triangle t.
func (m *Model) Corners(t int) (a, b, c geom.Vec3) {
	i := m.Tris[t]
	return m.Positions[i[0]], m.Positions[i[1]], m.Positions[i[2]]
}

// FaceNormal returns the unit geometric normal of triangle t, zero when it has no area.
func (m *Model) FaceNormal(t int) geom.Vec3 {
	a, b, c := m.Corners(t)
	return b.Sub(a).Cross(c.Sub(a)).Norm()
}

// Area returns the area of triangle t in square metres.
func (m *Model) Area(t int) float32 {
	a, b, c := m.Corners(t)
	return b.Sub(a).Cross(c.Sub(a)).Len() / 2
}

// UVArea returns the signed area of triangle t in UV space; negative when mirrored.
func (m *Model) UVArea(t int) float32 {
	i := m.Tris[t]
	a := m.UVs[i[0]]
	return m.UVs[i[1]].Sub(a).Cross(m.UVs[i[2]].Sub(a)) / 2
}

// Weld maps every vertex to the lowest-numbered vertex at exactly the same position.
func (m *Model) Weld() []uint32 {
	first := make(map[geom.Vec3]uint32, len(m.Positions))
	out := make([]uint32, len(m.Positions))
	for i, p := range m.Positions {
		p = geom.Vec3{X: p.X + 0, Y: p.Y + 0, Z: p.Z + 0} // −0 and 0 are one place
		j, ok := first[p]
		if !ok {
			j = uint32(i)
			first[p] = j
		}
		out[i] = j
	}
	return out
}

// completeNormals gives vertices without a usable normal the angle-weighted mean of their faces
// (Thürmer & Wüthrich, Computing Vertex Normals from Polygonal Facets, 1998).
func (m *Model) completeNormals() {
	missing := false
	for _, t := range m.Tris {
		for _, i := range t {
			if l := m.Normals[i].Len(); !(l > 0.5 && l < 2) {
				missing = true
			}
		}
	}
	if !missing {
		for i, n := range m.Normals {
			m.Normals[i] = n.Norm()
		}
		return
	}
	weld := m.Weld()
	sum := make([]geom.Vec3, len(m.Positions))
	for t, tri := range m.Tris {
		n := m.FaceNormal(t)
		for k := range tri {
			p, q, r := m.Positions[tri[k]], m.Positions[tri[(k+1)%3]], m.Positions[tri[(k+2)%3]]
			w := weld[tri[k]]
			sum[w] = sum[w].Add(n.Mul(angle(q.Sub(p), r.Sub(p))))
		}
	}
	for i, n := range m.Normals {
		if l := n.Len(); l > 0.5 && l < 2 {
			m.Normals[i] = n.Norm()
			continue
		}
		m.Normals[i] = sum[weld[i]].Norm()
		if m.Normals[i] == (geom.Vec3{}) {
			m.Normals[i] = geom.Vec3{Y: 1}
		}
	}
}

func angle(a, b geom.Vec3) float32 {
	d := float64(a.Norm().Dot(b.Norm()))
	return float32(math.Acos(max(-1, min(1, d))))
}

// Tangents returns a tangent per vertex, with the bitangent's sign in W, for UVs whose V grows
// upwards: bitangent = W · normal × tangent. Triangle tangents are projected into each corner's
// normal plane, normalised and weighted by the corner's angle, as MikkTSpace does (Mikkelsen,
// Simulation of Wrinkled Surfaces Revisited, 2008); corners are joined where they share position,
// normal, UV and handedness. Vertices used by faces of both hands keep the hand with more weight.
func (m *Model) Tangents() []geom.Vec4 {
	type acc struct {
		t [2]geom.Vec3
		w [2]float32
	}
	sum := make([]acc, len(m.Positions))
	for t, tri := range m.Tris {
		dir, hand, ok := m.triangleTangent(t)
		if !ok {
			continue
		}
		for k, i := range tri {
			n := m.Normals[i]
			v := dir.Sub(n.Mul(n.Dot(dir))).Norm()
			p := m.Positions[i]
			e1, e2 := m.Positions[tri[(k+1)%3]].Sub(p), m.Positions[tri[(k+2)%3]].Sub(p)
			e1, e2 = e1.Sub(n.Mul(n.Dot(e1))), e2.Sub(n.Mul(n.Dot(e2)))
			a := angle(e1, e2)
			sum[i].t[hand] = sum[i].t[hand].Add(v.Mul(a))
			sum[i].w[hand] += a
		}
	}
	out := make([]geom.Vec4, len(m.Positions))
	for i := range out {
		s, hand, sign := &sum[i], 0, float32(1)
		if s.w[1] > s.w[0] {
			hand, sign = 1, -1
		}
		v := s.t[hand].Norm()
		if v == (geom.Vec3{}) {
			v, _ = geom.Basis(m.Normals[i])
		}
		out[i] = geom.Vec4{X: v.X, Y: v.Y, Z: v.Z, W: sign}
	}
	return out
}

// triangleTangent returns the direction of growing U over triangle t, and 0 for UVs that keep the
// face's orientation or 1 for mirrored ones.
func (m *Model) triangleTangent(t int) (dir geom.Vec3, hand int, ok bool) {
	i := m.Tris[t]
	d1, d2 := m.UVs[i[1]].Sub(m.UVs[i[0]]), m.UVs[i[2]].Sub(m.UVs[i[0]])
	det := d1.Cross(d2)
	if det == 0 {
		return geom.Vec3{}, 0, false
	}
	a, b, c := m.Corners(t)
	dir = b.Sub(a).Mul(d2.Y).Sub(c.Sub(a).Mul(d1.Y))
	if det < 0 {
		dir, hand = dir.Neg(), 1
	}
	return dir.Norm(), hand, true
}

// builder joins corners with equal attributes into vertices.
type builder struct {
	m   *Model
	at  map[corner]uint32
	mat map[string]int32
	prt map[string]int32
}

type corner struct {
	p, n geom.Vec3
	t    geom.Vec2
	c    [3]uint8
}

func newBuilder() *builder {
	return &builder{m: &Model{}, at: map[corner]uint32{}, mat: map[string]int32{}, prt: map[string]int32{}}
}

func (b *builder) vertex(c corner, colours bool) uint32 {
	i, ok := b.at[c]
	if !ok {
		i = uint32(len(b.m.Positions))
		b.at[c] = i
		b.m.Positions = append(b.m.Positions, c.p)
		b.m.Normals = append(b.m.Normals, c.n)
		b.m.UVs = append(b.m.UVs, c.t)
		if colours {
			b.m.Colours = append(b.m.Colours, c.c)
		}
	}
	return i
}

func (b *builder) material(name string) int32 {
	i, ok := b.mat[name]
	if !ok {
		i = int32(len(b.m.Materials))
		b.mat[name] = i
		b.m.Materials = append(b.m.Materials, Material{Name: name, Colour: [3]float32{0.8, 0.8, 0.8}})
	}
	return i
}

func (b *builder) part(name string) int32 {
	i, ok := b.prt[name]
	if !ok {
		i = int32(len(b.m.Parts))
		b.prt[name] = i
		b.m.Parts = append(b.m.Parts, name)
	}
	return i
}

func (b *builder) triangle(v [3]uint32, mat, part int32) {
	b.m.Tris = append(b.m.Tris, v)
	b.m.Material = append(b.m.Material, mat)
	b.m.Part = append(b.m.Part, part)
}

// Package mesh holds the model and its readers and writers.
package mesh

import (
	"fmt"
	"math"
	"path"
	"strings"

	"crust/internal/core/geom"
	"crust/internal/core/plain"
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

// MaxChannels is how many UV channels a reader keeps.
const MaxChannels = 4

// Channel is one set of UVs of a model.
type Channel struct {
	Name string
	UVs  []geom.Vec2 // one for each vertex; zero where the file has none
	Bare int         // face corners without a UV in this channel
}

// Model is a triangle mesh. Corners that share position, normal and UVs share a vertex.
// Positions are in metres, Y up; UV has V growing upwards.
type Model struct {
	Positions []geom.Vec3
	Normals   []geom.Vec3
	UVs       []geom.Vec2 // of the chosen channel
	Channels  []Channel   // all that the file has; empty for models made in memory with UVs alone
	Colours   [][3]uint8  // per vertex, sRGB; empty when the file has none
	Tris      [][3]uint32
	Material  []int32 // per triangle
	Part      []int32 // per triangle
	Materials []Material
	Parts     []string
	HasUV     bool         // the chosen channel has UVs for every face
	Loose     int          // vertices of the file that no face uses
	Pictures  []string     // names of the pictures the file carries or names, read and found sound
	Notes     []string     // what was passed over while reading, one sentence each
	Square    *geom.Square // the model is a flat square that repeats; nil for any other
	smooth    []int32      // per triangle while reading: smoothing group, 0 for flat, −1 for none given
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
	return plain.Text(b.String())
}

// Files finds what a model refers to by name: material libraries, buffers, pictures.
type Files func(name string) ([]byte, error)

// Readers lists the file endings that Read takes.
var Readers = map[string]func(name string, data []byte, files Files) (*Model, error){
	".obj":  ReadOBJ,
	".glb":  ReadGLTF,
	".gltf": ReadGLTF,
	".ply":  ReadPLY,
}

// Read reads a model by its file ending. files may be nil when nothing lies beside the model.
func Read(name string, data []byte, files Files) (*Model, error) {
	base := base(name)
	read := Readers[strings.ToLower(path.Ext(base))]
	if read == nil {
		return nil, &Error{base, "", "is not a kind of model that Crust reads", "bring in .obj, .glb, .gltf or .ply, or a .zip with one of them"}
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

// note adds a sentence about what was passed over.
func (m *Model) note(format string, args ...any) {
	m.Notes = append(m.Notes, fmt.Sprintf(format, args...))
}

// Choose makes channel k the one that UVs and HasUV speak of.
func (m *Model) Choose(k int) error {
	if k < 0 || k >= len(m.Channels) {
		return fmt.Errorf("there is no UV channel %d; the model has %d", k+1, len(m.Channels))
	}
	m.UVs, m.HasUV = m.Channels[k].UVs, m.Channels[k].Bare == 0
	return nil
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

func angle(a, b geom.Vec3) float32 {
	d := float64(a.Norm().Dot(b.Norm()))
	return float32(math.Acos(max(-1, min(1, d))))
}

// builder joins corners with equal attributes into vertices.
type builder struct {
	m        *Model
	at       map[corner]uint32
	mat, prt map[string]int32
	colours  bool
}

type corner struct {
	p, n geom.Vec3
	t    [MaxChannels]geom.Vec2
	c    [3]uint8
}

// newBuilder builds a model with the given number of UV channels; at least one is kept.
func newBuilder(channels int, colours bool) *builder {
	b := &builder{m: &Model{}, at: map[corner]uint32{}, mat: map[string]int32{}, prt: map[string]int32{}, colours: colours}
	for k := range max(1, min(channels, MaxChannels)) {
		b.m.Channels = append(b.m.Channels, Channel{Name: fmt.Sprintf("UV %d", k+1)})
	}
	return b
}

func (b *builder) vertex(c corner) uint32 {
	i, ok := b.at[c]
	if !ok {
		i = uint32(len(b.m.Positions))
		b.at[c] = i
		b.m.Positions = append(b.m.Positions, c.p)
		b.m.Normals = append(b.m.Normals, c.n)
		for k := range b.m.Channels {
			b.m.Channels[k].UVs = append(b.m.Channels[k].UVs, c.t[k])
		}
		if b.colours {
			b.m.Colours = append(b.m.Colours, c.c)
		}
	}
	return i
}

// done chooses the first channel.
func (b *builder) done() *Model {
	b.m.UVs, b.m.HasUV = b.m.Channels[0].UVs, b.m.Channels[0].Bare == 0
	return b.m
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

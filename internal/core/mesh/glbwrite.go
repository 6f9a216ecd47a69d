package mesh

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"math"

	"crust/internal/core/geom"
	"crust/internal/core/pixel"
)

// GLBMaterial is a material of a written GLB. Picture fields hold whole PNG files, nil for none.
type GLBMaterial struct {
	Name         string
	Colour       [3]float32 // linear base colour factor, used when BaseColour is nil
	BaseColour   []byte     // sRGB
	ORM          []byte     // occlusion R, roughness G, metallic B, linear
	Normal       []byte     // tangent space, green up
	Emissive     []byte     // sRGB
	Mask         bool       // BaseColour has an alpha, and what is below half of it is cut away
	Unlit        bool       // BaseColour is all that is seen
	NamePictures string     // prefix of the pictures' names
}

// GLBOptions says what a written GLB carries.
type GLBOptions struct {
	Materials  []GLBMaterial
	MaterialOf func(tri int) int       // index into Materials
	Origin     func(tri int) geom.Vec2 // taken off the UVs of a material's triangles; nil for none
	Tangents   bool
	Colours    bool
	Generator  string
	Nearest    bool // pictures are shown without filtering
}

// WriteGLB writes the model as glTF 2.0 binary: a node and a mesh per part, a primitive per
// material in it. Byte for byte the same for the same model and pictures.
func WriteGLB(w io.Writer, m *Model, o GLBOptions) error {
	g := glbWriter{m: m, o: o}
	g.doc.Asset.Version = "2.0"
	g.doc.Asset.Generator = o.Generator
	g.doc.Buffers = []gltfBuffer{{}}
	if o.Tangents {
		g.tangents = m.Tangents()
	}
	used := make([]bool, len(o.Materials))
	prims := map[[2]int][]int32{}
	for t := range m.Tris {
		k := o.MaterialOf(t)
		used[k] = true
		key := [2]int{int(m.Part[t]), k}
		prims[key] = append(prims[key], int32(t))
	}
	slot := make([]int, len(o.Materials))
	for i, mat := range o.Materials {
		if used[i] {
			slot[i] = len(g.doc.Materials)
			g.material(mat)
		}
	}
	scene := gltfScene{}
	for p, name := range m.Parts {
		mesh := gltfMesh{Name: name}
		for k := range o.Materials {
			if tris := prims[[2]int{p, k}]; tris != nil {
				mesh.Primitives = append(mesh.Primitives, g.primitive(tris, slot[k]))
			}
		}
		if mesh.Primitives == nil {
			continue
		}
		at := len(g.doc.Meshes)
		g.doc.Meshes = append(g.doc.Meshes, mesh)
		scene.Nodes = append(scene.Nodes, len(g.doc.Nodes))
		g.doc.Nodes = append(g.doc.Nodes, gltfNode{Name: name, Mesh: &at})
	}
	g.doc.Scenes = []gltfScene{scene}
	zero := 0
	g.doc.Scene = &zero
	g.pad(0)
	if g.large {
		return &Error{"", "", fmt.Sprintf("as GLB the model has more than the %d MB that such a file can hold", maxGLB>>20), "take smaller maps, or deliver the maps without the model"}
	}
	g.doc.Buffers[0].Length = len(g.bin)
	text, err := json.Marshal(&g.doc)
	if err != nil {
		return err
	}
	for len(text)%4 != 0 {
		text = append(text, ' ')
	}
	head := append([]byte("glTF"), make([]byte, 16)...)
	le := binary.LittleEndian
	le.PutUint32(head[4:], 2)
	le.PutUint32(head[8:], uint32(12+8+len(text)+8+len(g.bin)))
	le.PutUint32(head[12:], uint32(len(text)))
	copy(head[16:], "JSON")
	for _, b := range [][]byte{head, text, append(le.AppendUint32(nil, uint32(len(g.bin))), "BIN\x00"...), g.bin} {
		if _, err := w.Write(b); err != nil {
			return err
		}
	}
	return nil
}

type glbWriter struct {
	m        *Model
	o        GLBOptions
	tangents [][3]geom.Vec4
	doc      gltfDoc
	bin      []byte
	large    bool // it would not fit; nothing more is kept
}

// maxGLB leaves room for the head in a file whose length is a 32-bit number. A variable, so that a test needs no
// such file.
var maxGLB = 1<<32 - 1<<24

// Targets of buffer views.
const (
	targetVertices = 34962
	targetIndices  = 34963
)

func (g *glbWriter) pad(fill byte) {
	for len(g.bin)%4 != 0 {
		g.bin = append(g.bin, fill)
	}
}

func (g *glbWriter) view(target, stride int, data []byte) int {
	g.pad(0)
	if g.large = g.large || len(g.bin)+len(data) > maxGLB; g.large {
		return 0
	}
	g.doc.BufferViews = append(g.doc.BufferViews, gltfBufferView{Offset: len(g.bin), Length: len(data), Target: target, Stride: stride})
	g.bin = append(g.bin, data...)
	return len(g.doc.BufferViews) - 1
}

func (g *glbWriter) accessor(a gltfAccessor, target, stride int, data []byte) int {
	v := g.view(target, stride, data)
	a.BufferView = &v
	g.doc.Accessors = append(g.doc.Accessors, a)
	return len(g.doc.Accessors) - 1
}

func (g *glbWriter) primitive(tris []int32, mat int) gltfPrimitive {
	order, tangents, corners := g.m.Indexed(tris, g.tangents)
	var origin geom.Vec2
	if g.o.Origin != nil {
		origin = g.o.Origin(int(tris[0]))
	}
	var idx []byte
	for _, i := range corners {
		idx = binary.LittleEndian.AppendUint32(idx, i)
	}
	f32 := func(b []byte, v ...float32) []byte {
		for _, x := range v {
			b = binary.LittleEndian.AppendUint32(b, math.Float32bits(x))
		}
		return b
	}
	var pos, nrm, uv, tan, col []byte
	box := geom.EmptyBox()
	for j, i := range order {
		p, n, t := g.m.Positions[i], g.m.Normals[i].Norm(), g.m.UVs[i].Sub(origin)
		box = box.Add(p)
		pos = f32(pos, p.X, p.Y, p.Z)
		nrm = f32(nrm, n.X, n.Y, n.Z)
		uv = f32(uv, t.X, 1-t.Y)
		if g.tangents != nil {
			v := tangents[j]
			tan = f32(tan, v.X, v.Y, v.Z, v.W)
		}
		if g.o.Colours && len(g.m.Colours) > 0 {
			for _, c := range g.m.Colours[i] {
				col = binary.LittleEndian.AppendUint16(col, uint16(pixel.FromSRGB(float32(c)/255)*65535+0.5))
			}
			col = binary.LittleEndian.AppendUint16(col, 65535)
		}
	}
	n := len(order)
	lo, hi := box.Min.Array(), box.Max.Array()
	p := gltfPrimitive{Material: &mat, Attributes: map[string]int{
		"POSITION":   g.accessor(gltfAccessor{Component: compFloat, Count: n, Type: "VEC3", Min: lo[:], Max: hi[:]}, targetVertices, 12, pos),
		"NORMAL":     g.accessor(gltfAccessor{Component: compFloat, Count: n, Type: "VEC3"}, targetVertices, 12, nrm),
		"TEXCOORD_0": g.accessor(gltfAccessor{Component: compFloat, Count: n, Type: "VEC2"}, targetVertices, 8, uv),
	}}
	if tan != nil {
		p.Attributes["TANGENT"] = g.accessor(gltfAccessor{Component: compFloat, Count: n, Type: "VEC4"}, targetVertices, 16, tan)
	}
	if col != nil {
		p.Attributes["COLOR_0"] = g.accessor(gltfAccessor{Component: compUShort, Normalized: true, Count: n, Type: "VEC4"}, targetVertices, 8, col)
	}
	ix := g.accessor(gltfAccessor{Component: compUInt, Count: len(tris) * 3, Type: "SCALAR"}, targetIndices, 0, idx)
	p.Indices = &ix
	return p
}

func (g *glbWriter) material(m GLBMaterial) {
	out := gltfMaterial{Name: m.Name}
	one := float32(1)
	if m.BaseColour == nil {
		rough, metal := float32(0.8), float32(0)
		out.PBR = gltfPBR{Factor: []float32{m.Colour[0], m.Colour[1], m.Colour[2], 1}, Metallic: &metal, Roughness: &rough}
	} else {
		out.PBR = gltfPBR{Colour: g.texture(m.NamePictures+"_basecolor", m.BaseColour), Metallic: &one, Roughness: &one}
	}
	if m.Unlit {
		// Without the extension it is seen as something dull.
		rough, metal := float32(0.9), float32(0)
		out.PBR.Metallic, out.PBR.Roughness = &metal, &rough
		out.Extensions = map[string]json.RawMessage{unlitExtension: []byte("{}")}
		g.doc.Used = []string{unlitExtension}
	}
	if m.ORM != nil {
		out.PBR.MR = g.texture(m.NamePictures+"_orm", m.ORM)
		out.Occlusion = &gltfTexRef{Index: out.PBR.MR.Index}
	}
	if m.Normal != nil {
		out.Normal = g.texture(m.NamePictures+"_normal", m.Normal)
	}
	if m.Emissive != nil {
		out.Emissive, out.EmissiveFactor = g.texture(m.NamePictures+"_emissive", m.Emissive), []float32{1, 1, 1}
	}
	if m.Mask {
		out.AlphaMode = "MASK" // whose cutoff is a half, glTF 2.0 §3.9.4
	}
	g.doc.Materials = append(g.doc.Materials, out)
}

// unlitExtension is the Khronos extension of materials without light.
const unlitExtension = "KHR_materials_unlit"

func (g *glbWriter) texture(name string, data []byte) *gltfTexRef {
	if g.doc.Samplers == nil {
		g.doc.Samplers = []gltfSampler{{Mag: 9729, Min: 9987, WrapS: 10497, WrapT: 10497}}
		if g.o.Nearest {
			g.doc.Samplers[0].Mag, g.doc.Samplers[0].Min = 9728, 9728
		}
	}
	v := g.view(0, 0, data)
	g.doc.Images = append(g.doc.Images, gltfImage{Name: name, MIME: "image/png", BufferView: &v})
	src, smp := len(g.doc.Images)-1, 0
	g.doc.Textures = append(g.doc.Textures, gltfTexture{Source: &src, Sampler: &smp})
	return &gltfTexRef{Index: len(g.doc.Textures) - 1}
}

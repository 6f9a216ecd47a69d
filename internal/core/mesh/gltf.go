package mesh

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math"
	"path"
	"strings"

	"crust/internal/core/geom"
	"crust/internal/core/imgfile"
	"crust/internal/core/pixel"
)

// The parts of a glTF 2.0 document that Crust reads and writes (Khronos, glTF 2.0).
type gltfDoc struct {
	Asset struct {
		Version   string `json:"version"`
		Generator string `json:"generator,omitempty"`
	} `json:"asset"`
	Used        []string         `json:"extensionsUsed,omitempty"`
	Required    []string         `json:"extensionsRequired,omitempty"`
	Scene       *int             `json:"scene,omitempty"`
	Scenes      []gltfScene      `json:"scenes,omitempty"`
	Nodes       []gltfNode       `json:"nodes,omitempty"`
	Meshes      []gltfMesh       `json:"meshes,omitempty"`
	Materials   []gltfMaterial   `json:"materials,omitempty"`
	Textures    []gltfTexture    `json:"textures,omitempty"`
	Samplers    []gltfSampler    `json:"samplers,omitempty"`
	Images      []gltfImage      `json:"images,omitempty"`
	Accessors   []gltfAccessor   `json:"accessors,omitempty"`
	BufferViews []gltfBufferView `json:"bufferViews,omitempty"`
	Buffers     []gltfBuffer     `json:"buffers,omitempty"`
}

type gltfScene struct {
	Name  string `json:"name,omitempty"`
	Nodes []int  `json:"nodes"`
}

type gltfNode struct {
	Name        string     `json:"name,omitempty"`
	Mesh        *int       `json:"mesh,omitempty"`
	Children    []int      `json:"children,omitempty"`
	Matrix      []float32  `json:"matrix,omitempty"`
	Translation [3]float32 `json:"translation,omitzero"`
	Rotation    []float32  `json:"rotation,omitempty"`
	Scale       []float32  `json:"scale,omitempty"`
}

type gltfMesh struct {
	Name       string          `json:"name,omitempty"`
	Primitives []gltfPrimitive `json:"primitives"`
}

type gltfPrimitive struct {
	Attributes map[string]int `json:"attributes"`
	Indices    *int           `json:"indices,omitempty"`
	Material   *int           `json:"material,omitempty"`
	Mode       *int           `json:"mode,omitempty"`
}

type gltfTexRef struct {
	Index      int                        `json:"index"`
	TexCoord   int                        `json:"texCoord,omitempty"`
	Extensions map[string]json.RawMessage `json:"extensions,omitempty"`
}

type gltfMaterial struct {
	Name      string      `json:"name,omitempty"`
	PBR       gltfPBR     `json:"pbrMetallicRoughness"`
	Normal    *gltfTexRef `json:"normalTexture,omitempty"`
	Occlusion *gltfTexRef `json:"occlusionTexture,omitempty"`
	Emissive  *gltfTexRef `json:"emissiveTexture,omitempty"`

	EmissiveFactor []float32 `json:"emissiveFactor,omitempty"`
	AlphaMode      string    `json:"alphaMode,omitempty"`

	Extensions map[string]json.RawMessage `json:"extensions,omitempty"`
}

type gltfPBR struct {
	Factor    []float32   `json:"baseColorFactor,omitempty"`
	Metallic  *float32    `json:"metallicFactor,omitempty"`
	Roughness *float32    `json:"roughnessFactor,omitempty"`
	Colour    *gltfTexRef `json:"baseColorTexture,omitempty"`
	MR        *gltfTexRef `json:"metallicRoughnessTexture,omitempty"`
}

type gltfTexture struct {
	Sampler *int `json:"sampler,omitempty"`
	Source  *int `json:"source,omitempty"`
}

type gltfSampler struct {
	Mag   int `json:"magFilter,omitempty"`
	Min   int `json:"minFilter,omitempty"`
	WrapS int `json:"wrapS,omitempty"`
	WrapT int `json:"wrapT,omitempty"`
}

type gltfImage struct {
	Name       string `json:"name,omitempty"`
	URI        string `json:"uri,omitempty"`
	MIME       string `json:"mimeType,omitempty"`
	BufferView *int   `json:"bufferView,omitempty"`
}

type gltfAccessor struct {
	BufferView *int        `json:"bufferView,omitempty"`
	Offset     int         `json:"byteOffset,omitempty"`
	Component  int         `json:"componentType"`
	Normalized bool        `json:"normalized,omitempty"`
	Count      int         `json:"count"`
	Type       string      `json:"type"`
	Min        []float32   `json:"min,omitempty"`
	Max        []float32   `json:"max,omitempty"`
	Sparse     *gltfSparse `json:"sparse,omitempty"`
}

// gltfSparse replaces some elements of an accessor.
type gltfSparse struct {
	Count   int `json:"count"`
	Indices struct {
		BufferView int `json:"bufferView"`
		Offset     int `json:"byteOffset"`
		Component  int `json:"componentType"`
	} `json:"indices"`
	Values struct {
		BufferView int `json:"bufferView"`
		Offset     int `json:"byteOffset"`
	} `json:"values"`
}

type gltfBufferView struct {
	Buffer int `json:"buffer"`
	Offset int `json:"byteOffset,omitempty"`
	Length int `json:"byteLength"`
	Stride int `json:"byteStride,omitempty"`
	Target int `json:"target,omitempty"`
}

type gltfBuffer struct {
	Length int    `json:"byteLength"`
	URI    string `json:"uri,omitempty"`
}

// Component types and primitive modes of the format.
const (
	compByte, compUByte, compShort, compUShort, compUInt, compFloat = 5120, 5121, 5122, 5123, 5125, 5126

	modeTriangles, modeStrip, modeFan = 4, 5, 6
)

var compSize = map[int]int{compByte: 1, compUByte: 1, compShort: 2, compUShort: 2, compUInt: 4, compFloat: 4}
var typeCount = map[string]int{"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}

// open reads the document and says what cannot be read at all.
func (r *gltfReader) open(data []byte) error {
	text := data
	if bytes.HasPrefix(data, []byte("glTF")) {
		var err error
		if text, err = r.container(data); err != nil {
			return err
		}
	} else if strings.HasSuffix(strings.ToLower(r.name), ".glb") {
		return r.fail("byte 0", "the file does not begin with “glTF”, so it is not a GLB", "export it again")
	}
	if err := json.Unmarshal(text, &r.doc); err != nil {
		place, what := "", "the JSON is damaged"
		switch e := err.(type) {
		case *json.SyntaxError:
			place = fmt.Sprintf("byte %d of its JSON", e.Offset)
		case *json.UnmarshalTypeError:
			place = fmt.Sprintf("byte %d of its JSON", e.Offset)
			what = fmt.Sprintf("“%s” holds a %s, which does not belong there", e.Field, e.Value)
		}
		return r.fail(place, what, "export the file again")
	}
	if !strings.HasPrefix(r.doc.Asset.Version, "2") {
		return r.fail("asset.version", fmt.Sprintf("version “%s” is not glTF 2", clip([]byte(r.doc.Asset.Version))), "export as glTF 2.0")
	}
	for _, x := range r.doc.Required {
		if !understood(x) {
			return r.fail("extensionsRequired", "the file needs “"+clipTo(x, 60)+"”, which Crust does not read", "export without it (without mesh compression, say)")
		}
	}
	if len(r.doc.Nodes)+len(r.doc.Meshes)+len(r.doc.Materials) > 4*MaxNames {
		return r.fail("", "too many nodes, meshes or materials", "join parts before exporting")
	}
	return nil
}

// ReadGLTF reads glTF 2.0 as .glb or .gltf. UVs are turned so that V grows upwards. Each mesh that
// a node of the default scene shows becomes a part, with the node's transform applied.
func ReadGLTF(name string, data []byte, files Files) (*Model, error) {
	r := gltfReader{name: name, files: files, loose: map[int][]bool{}}
	if err := r.open(data); err != nil {
		return nil, err
	}
	r.b = newBuilder(r.attributes())
	if err := r.pictures(); err != nil {
		return nil, err
	}
	for _, m := range r.doc.Materials {
		k := r.b.material(r.freeName(named(m.Name, "material")))
		for c := 0; c < 3 && c < len(m.PBR.Factor); c++ {
			r.b.m.Materials[k].Colour[c] = pixel.ToSRGB(geom.Clamp01(m.PBR.Factor[c]))
		}
	}
	if err := r.scene(); err != nil {
		return nil, err
	}
	if r.points > 0 {
		r.b.m.note("%d primitives of points or lines were passed over; Crust textures faces only.", r.points)
	}
	for _, n := range r.repeated {
		r.b.m.note("Several nodes are named “%s”; they are one part.", clip([]byte(n)))
	}
	for _, used := range r.loose {
		for _, u := range used {
			if !u {
				r.b.m.Loose++
			}
		}
	}
	return r.b.done(), nil
}

// understood tells whether a file that needs the extension can be read: those of UVs and of
// quantised vertices are, and those of materials and lights change no shape.
func understood(extension string) bool {
	return extension == extTransform || extension == "KHR_mesh_quantization" || extension == "KHR_lights_punctual" || strings.HasPrefix(extension, "KHR_materials_")
}

const extTransform = "KHR_texture_transform"

func clipTo(s string, n int) string {
	if len(s) > n {
		s = s[:n] + "…"
	}
	return strings.ToValidUTF8(s, "?")
}

// attributes counts the UV channels that some primitive has, and tells whether one has colours.
func (r *gltfReader) attributes() (channels int, colours bool) {
	for _, m := range r.doc.Meshes {
		for _, p := range m.Primitives {
			for k := range MaxChannels {
				if _, ok := p.Attributes[fmt.Sprintf("TEXCOORD_%d", k)]; ok {
					channels = max(channels, k+1)
				}
			}
			_, ok := p.Attributes["COLOR_0"]
			colours = colours || ok
		}
	}
	return channels, colours
}

// transform is how a material's pictures move one UV channel (Khronos, KHR_texture_transform), in
// glTF's UVs, whose V grows downwards.
type transform struct {
	channel       int
	offset, scale [2]float32
	rotation      float64
}

func (t *transform) apply(uv geom.Vec2) geom.Vec2 {
	sin, cos := math.Sincos(t.rotation)
	x, y := float64(uv.X*t.scale[0]), float64(uv.Y*t.scale[1])
	return geom.Vec2{X: float32(cos*x+sin*y) + t.offset[0], Y: float32(cos*y-sin*x) + t.offset[1]}
}

// transformOf finds the transform of a material's first picture that has one.
func (r *gltfReader) transformOf(mat int) (*transform, error) {
	m := r.doc.Materials[mat]
	for _, ref := range []*gltfTexRef{m.PBR.Colour, m.Normal, m.PBR.MR, m.Occlusion} {
		if ref == nil || ref.Extensions[extTransform] == nil {
			continue
		}
		x := struct {
			Offset   []float32 `json:"offset"`
			Scale    []float32 `json:"scale"`
			Rotation float64   `json:"rotation"`
			TexCoord *int      `json:"texCoord"`
		}{}
		if err := json.Unmarshal(ref.Extensions[extTransform], &x); err != nil || math.IsInf(x.Rotation, 0) {
			return nil, r.fail(fmt.Sprintf("material %d, %s", mat, extTransform), "is damaged", "export it again")
		}
		t := &transform{channel: ref.TexCoord, scale: [2]float32{1, 1}, rotation: x.Rotation}
		copy(t.offset[:], x.Offset)
		copy(t.scale[:], x.Scale)
		if x.TexCoord != nil {
			t.channel = *x.TexCoord
		}
		return t, nil
	}
	return nil, nil
}

type gltfReader struct {
	name     string
	files    Files
	doc      gltfDoc
	bin      []byte
	buffers  map[int][]byte
	b        *builder
	points   int
	zeros    int // entries of accessors that have no bytes
	visited  int
	moved    map[int]bool   // materials whose transform has been told of
	named    map[string]int // nodes by part name
	repeated []string
	loose    map[int][]bool // by POSITION accessor: which of its vertices a face uses
}

func (r *gltfReader) fail(place, what, do string) error { return &Error{r.name, place, what, do} }

func (r *gltfReader) freeName(n string) string {
	name := n
	for i := 2; ; i++ {
		if _, taken := r.b.mat[name]; !taken {
			return name
		}
		name = fmt.Sprintf("%s_%d", n, i)
	}
}

// container splits a GLB into its JSON, which is returned, and its binary chunk.
func (r *gltfReader) container(data []byte) ([]byte, error) {
	if len(data) < 20 {
		return nil, r.fail(fmt.Sprintf("byte %d", len(data)), "the file ends inside its header", "it is cut short; export it again")
	}
	if v := binary.LittleEndian.Uint32(data[4:]); v != 2 {
		return nil, r.fail("byte 4", fmt.Sprintf("container version %d is not 2", v), "export as glTF 2.0")
	}
	if n := binary.LittleEndian.Uint32(data[8:]); int64(n) > int64(len(data)) {
		return nil, r.fail("byte 8", fmt.Sprintf("the file says it has %d bytes but has %d", n, len(data)), "it is cut short; export or copy it again")
	}
	var text []byte
	for at := 12; at+8 <= len(data); {
		n := int64(binary.LittleEndian.Uint32(data[at:]))
		kind := string(data[at+4 : at+8])
		if n > int64(len(data)-at-8) {
			return nil, r.fail(fmt.Sprintf("byte %d", at), fmt.Sprintf("a chunk says it has %d bytes but %d are left", n, len(data)-at-8), "the file is cut short; export or copy it again")
		}
		body := data[at+8 : at+8+int(n)]
		switch {
		case kind == "JSON" && text == nil:
			text = body
		case kind == "BIN\x00" && r.bin == nil:
			r.bin = body
		}
		at += 8 + int(n)
	}
	if text == nil {
		return nil, r.fail("byte 12", "there is no JSON chunk", "export it again")
	}
	return text, nil
}

func (r *gltfReader) buffer(i int) ([]byte, error) {
	place := fmt.Sprintf("buffer %d", i)
	if i < 0 || i >= len(r.doc.Buffers) {
		return nil, r.fail(place, fmt.Sprintf("is asked for, but the file has %d", len(r.doc.Buffers)), "the file is damaged; export it again")
	}
	if b, ok := r.buffers[i]; ok {
		return b, nil
	}
	def := r.doc.Buffers[i]
	var data []byte
	switch {
	case def.URI == "" && i == 0:
		data = r.bin
	case def.URI == "":
		return nil, r.fail(place, "has neither bytes nor a file", "export it again")
	default:
		var err error
		if data, err = r.uri(place, def.URI); err != nil {
			return nil, err
		}
	}
	if def.Length < 0 || def.Length > len(data) {
		return nil, r.fail(place, fmt.Sprintf("says it has %d bytes but has %d", def.Length, len(data)), "the file is cut short; export or copy it again")
	}
	if r.buffers == nil {
		r.buffers = map[int][]byte{}
	}
	r.buffers[i] = data[:def.Length]
	return r.buffers[i], nil
}

func (r *gltfReader) uri(place, uri string) ([]byte, error) {
	if rest, ok := strings.CutPrefix(uri, "data:"); ok {
		_, body, ok := strings.Cut(rest, ";base64,")
		if !ok {
			return nil, r.fail(place, "has a data URI that is not base64", "export it again")
		}
		data, err := base64.StdEncoding.DecodeString(body)
		if err != nil {
			return nil, r.fail(place, "has damaged base64 data", "export it again")
		}
		return data, nil
	}
	data, err := r.files(path.Base(uri))
	if err != nil {
		return nil, r.fail(place, fmt.Sprintf("lies in “%s”, which was not given", clip([]byte(uri))), "bring in both files together, or export one .glb")
	}
	return data, nil
}

func (r *gltfReader) view(place string, i int) (gltfBufferView, []byte, error) {
	if i < 0 || i >= len(r.doc.BufferViews) {
		return gltfBufferView{}, nil, r.fail(place, fmt.Sprintf("asks for buffer view %d, but the file has %d", i, len(r.doc.BufferViews)), "the file is damaged; export it again")
	}
	v := r.doc.BufferViews[i]
	buf, err := r.buffer(v.Buffer)
	if err != nil {
		return v, nil, err
	}
	if v.Offset < 0 || v.Length < 0 || v.Offset > len(buf) || v.Length > len(buf)-v.Offset {
		return v, nil, r.fail(fmt.Sprintf("buffer view %d", i), fmt.Sprintf("reaches to byte %d of %d", int64(v.Offset)+int64(v.Length), len(buf)), "the file is cut short or damaged; export it again")
	}
	return v, buf[v.Offset : v.Offset+v.Length], nil
}

// pictures reads every picture that the file carries, so that a broken one is told now.
func (r *gltfReader) pictures() error {
	for i, im := range r.doc.Images {
		place := fmt.Sprintf("image %d", i)
		label := named(im.Name, fmt.Sprintf("picture %d", i+1))
		var data []byte
		var err error
		if im.BufferView != nil {
			_, data, err = r.view(place, *im.BufferView)
		} else if !strings.HasPrefix(im.URI, "data:") {
			label = path.Base(im.URI)
			if data, err = r.files(label); err != nil {
				r.b.m.Notes = append(r.b.m.Notes, fmt.Sprintf("The picture “%s” was not given.", clip([]byte(label))))
				continue
			}
		} else {
			data, err = r.uri(place, im.URI)
		}
		if err != nil {
			return err
		}
		if im.MIME == "image/jpeg" || !bytes.HasPrefix(data, []byte(imgfile.Signature)) && im.MIME != "image/png" {
			continue
		}
		if _, err := imgfile.Check(r.name+", "+label, data); err != nil {
			return err
		}
		r.b.m.Pictures = append(r.b.m.Pictures, label)
	}
	return nil
}

func (r *gltfReader) scene() error {
	var roots []int
	switch {
	case len(r.doc.Scenes) > 0:
		k := 0
		if r.doc.Scene != nil && *r.doc.Scene >= 0 && *r.doc.Scene < len(r.doc.Scenes) {
			k = *r.doc.Scene
		}
		roots = r.doc.Scenes[k].Nodes
		if n := len(r.doc.Scenes); n > 1 {
			r.b.m.note("The file holds %d scenes; “%s” was read.", n, clip([]byte(named(r.doc.Scenes[k].Name, fmt.Sprintf("scene %d", k+1)))))
		}
	default:
		child := map[int]bool{}
		for _, n := range r.doc.Nodes {
			for _, c := range n.Children {
				child[c] = true
			}
		}
		for i := range r.doc.Nodes {
			if !child[i] {
				roots = append(roots, i)
			}
		}
	}
	for _, n := range roots {
		if err := r.node(n, geom.Identity(), 0); err != nil {
			return err
		}
	}
	return nil
}

func (r *gltfReader) node(i int, parent geom.Mat4, depth int) error {
	place := fmt.Sprintf("node %d", i)
	if i < 0 || i >= len(r.doc.Nodes) {
		return r.fail(place, fmt.Sprintf("is asked for, but the file has %d", len(r.doc.Nodes)), "the file is damaged; export it again")
	}
	if r.visited++; depth > MaxDepth || r.visited > 4*MaxNames {
		return r.fail(place, "nodes are nested too deeply or in a circle", "flatten the scene before exporting")
	}
	n := r.doc.Nodes[i]
	local := geom.Identity()
	if len(n.Matrix) == 16 {
		copy(local[:], n.Matrix)
	} else {
		q, s := [4]float32{0, 0, 0, 1}, geom.Vec3{X: 1, Y: 1, Z: 1}
		if len(n.Rotation) == 4 {
			copy(q[:], n.Rotation)
		}
		if len(n.Scale) == 3 {
			s = geom.FromArray([3]float32(n.Scale))
		}
		local = geom.TRS(geom.FromArray(n.Translation), q, s)
	}
	world := parent.Mul(local)
	if n.Mesh != nil {
		if *n.Mesh < 0 || *n.Mesh >= len(r.doc.Meshes) {
			return r.fail(place, fmt.Sprintf("asks for mesh %d, but the file has %d", *n.Mesh, len(r.doc.Meshes)), "the file is damaged; export it again")
		}
		mesh := r.doc.Meshes[*n.Mesh]
		label := named(n.Name, named(mesh.Name, fmt.Sprintf("part %d", i+1)))
		part := r.b.part(label)
		if r.named == nil {
			r.named = map[string]int{}
		}
		if r.named[label]++; r.named[label] == 2 {
			r.repeated = append(r.repeated, label)
		}
		for k, p := range mesh.Primitives {
			if err := r.primitive(fmt.Sprintf("mesh %d, primitive %d", *n.Mesh, k), p, world, part); err != nil {
				return err
			}
		}
	}
	for _, c := range n.Children {
		if err := r.node(c, world, depth+1); err != nil {
			return err
		}
	}
	return nil
}

func (r *gltfReader) primitive(place string, p gltfPrimitive, world geom.Mat4, part int32) error {
	mode := modeTriangles
	if p.Mode != nil {
		mode = *p.Mode
	}
	if mode < modeTriangles || mode > modeFan {
		r.points++
		return nil
	}
	at, ok := p.Attributes["POSITION"]
	if !ok {
		return r.fail(place, "has no positions", "export it again")
	}
	pos, err := r.floats(place+", POSITION", at, 3)
	if err != nil {
		return err
	}
	count := len(pos) / 3
	optional := func(attr string, n int) ([]float32, error) {
		i, ok := p.Attributes[attr]
		if !ok {
			return nil, nil
		}
		v, err := r.floats(place+", "+attr, i, n)
		if err == nil && len(v) != count*n {
			err = r.fail(place, fmt.Sprintf("has %d positions but %d of %s", count, len(v)/n, attr), "the file is damaged; export it again")
		}
		return v, err
	}
	nrm, err := optional("NORMAL", 3)
	if err != nil {
		return err
	}
	var uv [MaxChannels][]float32
	for k := range r.b.m.Channels {
		if uv[k], err = optional(fmt.Sprintf("TEXCOORD_%d", k), 2); err != nil {
			return err
		}
	}
	var col []float32
	colN := 3
	if i, ok := p.Attributes["COLOR_0"]; ok && i >= 0 && i < len(r.doc.Accessors) {
		colN = typeCount[r.doc.Accessors[i].Type]
		if colN != 3 && colN != 4 {
			return r.fail(place+", COLOR_0", "is neither three nor four numbers", "export it again")
		}
		if col, err = optional("COLOR_0", colN); err != nil {
			return err
		}
	}
	idx, err := r.indices(place, p.Indices, count)
	if err != nil {
		return err
	}
	mat := int32(0)
	if p.Material != nil {
		if *p.Material < 0 || *p.Material >= len(r.doc.Materials) {
			return r.fail(place, fmt.Sprintf("asks for material %d, but the file has %d", *p.Material, len(r.doc.Materials)), "the file is damaged; export it again")
		}
		mat = int32(*p.Material)
	} else {
		mat = r.b.material("material")
	}
	var move *transform
	if p.Material != nil {
		if move, err = r.transformOf(*p.Material); err != nil {
			return err
		}
		if move != nil && !r.moved[*p.Material] {
			if r.moved == nil {
				r.moved = map[int]bool{}
			}
			r.moved[*p.Material] = true
			r.b.m.note("The UVs of “%s” are moved as its pictures are (%s).", clip([]byte(r.b.m.Materials[mat].Name)), extTransform)
		}
	}
	used := r.loose[at]
	if used == nil {
		used = make([]bool, count)
		r.loose[at] = used
	}
	for _, i := range idx {
		used[i] = true
	}
	for k := range r.b.m.Channels {
		if uv[k] == nil {
			r.b.m.Channels[k].Bare += len(idx)
		}
	}
	vert := make([]uint32, count)
	for i := range vert {
		if !used[i] {
			continue
		}
		c := corner{p: world.Point(geom.Vec3{X: pos[3*i], Y: pos[3*i+1], Z: pos[3*i+2]})}
		if !c.p.Finite() {
			return r.fail(fmt.Sprintf("%s, vertex %d", place, i), "has a position that is not a finite number", "export it again")
		}
		if nrm != nil {
			c.n = world.Normal(geom.Vec3{X: nrm[3*i], Y: nrm[3*i+1], Z: nrm[3*i+2]})
		}
		sound := c.n.Finite()
		for k := range r.b.m.Channels {
			if uv[k] == nil {
				continue
			}
			q := geom.Vec2{X: uv[k][2*i], Y: uv[k][2*i+1]}
			if move != nil && move.channel == k {
				q = move.apply(q)
			}
			c.t[k] = geom.Vec2{X: q.X, Y: 1 - q.Y}
			sound = sound && c.t[k].Finite()
		}
		if !sound {
			return r.fail(fmt.Sprintf("%s, vertex %d", place, i), "has a normal or UV that is not a finite number", "export it again")
		}
		if r.b.colours {
			c.c = [3]uint8{255, 255, 255}
			if col != nil {
				for k := 0; k < 3; k++ {
					c.c[k] = uint8(pixel.ToSRGB(geom.Clamp01(col[colN*i+k]))*255 + 0.5)
				}
			}
		}
		vert[i] = r.b.vertex(c)
	}
	flip := world.Mirrors()
	emit := func(a, b, c uint32) {
		if flip {
			b, c = c, b
		}
		r.b.triangle([3]uint32{vert[a], vert[b], vert[c]}, mat, part)
	}
	if len(r.b.m.Tris)+len(idx) > MaxTriangles*3 {
		return r.fail(place, fmt.Sprintf("more than %d triangles", MaxTriangles), "split the model")
	}
	switch mode {
	case modeTriangles:
		for i := 0; i+2 < len(idx); i += 3 {
			emit(idx[i], idx[i+1], idx[i+2])
		}
	case modeStrip:
		for i := 0; i+2 < len(idx); i++ {
			emit(idx[i], idx[i+1+i%2], idx[i+2-i%2])
		}
	case modeFan:
		for i := 1; i+1 < len(idx); i++ {
			emit(idx[i], idx[i+1], idx[0])
		}
	}
	return nil
}

func (r *gltfReader) indices(place string, at *int, count int) ([]uint32, error) {
	if at == nil {
		idx := make([]uint32, count)
		for i := range idx {
			idx[i] = uint32(i)
		}
		return idx, nil
	}
	acc, data, stride, err := r.accessor(place+", indices", *at, 1)
	if err != nil {
		return nil, err
	}
	idx, err := r.whole(place, acc.Component, acc.Count, stride, data)
	if err != nil {
		return nil, err
	}
	if acc.Sparse != nil {
		at, values, err := r.sparse(place, acc, 1)
		if err != nil {
			return nil, err
		}
		given, err := r.whole(place, acc.Component, len(at), compSize[acc.Component], values)
		if err != nil {
			return nil, err
		}
		for k, i := range at {
			idx[i] = given[k]
		}
	}
	for i := range idx {
		if idx[i] >= uint32(count) {
			return nil, r.fail(fmt.Sprintf("%s, index %d", place, i), fmt.Sprintf("asks for vertex %d of %d", idx[i], count), "the file is damaged; export it again")
		}
	}
	return idx, nil
}

// whole reads n whole numbers.
func (r *gltfReader) whole(place string, component, n, stride int, data []byte) ([]uint32, error) {
	out := make([]uint32, n)
	for i := range out {
		b := data[i*stride:]
		switch component {
		case compUByte:
			out[i] = uint32(b[0])
		case compUShort:
			out[i] = uint32(binary.LittleEndian.Uint16(b))
		case compUInt:
			out[i] = binary.LittleEndian.Uint32(b)
		default:
			return nil, r.fail(place, "has indices that are not whole numbers", "export it again")
		}
	}
	return out, nil
}

// sparse reads which elements an accessor replaces, and the bytes of the new ones.
func (r *gltfReader) sparse(place string, acc gltfAccessor, n int) (at []uint32, values []byte, err error) {
	s := acc.Sparse
	size := compSize[s.Indices.Component]
	_, idx, err := r.view(place+", sparse indices", s.Indices.BufferView)
	if err != nil {
		return nil, nil, err
	}
	_, values, err = r.view(place+", sparse values", s.Values.BufferView)
	if err != nil {
		return nil, nil, err
	}
	need := int64(compSize[acc.Component] * n)
	if size == 0 || s.Count < 0 || s.Count > acc.Count || s.Indices.Offset < 0 || s.Values.Offset < 0 ||
		int64(s.Indices.Offset)+int64(s.Count)*int64(size) > int64(len(idx)) || int64(s.Values.Offset)+int64(s.Count)*need > int64(len(values)) {
		return nil, nil, r.fail(place, fmt.Sprintf("has a sparse part of %d entries, more than its bytes hold", s.Count), "the file is cut short or damaged; export it again")
	}
	if at, err = r.whole(place, s.Indices.Component, s.Count, size, idx[s.Indices.Offset:]); err != nil {
		return nil, nil, err
	}
	for _, i := range at {
		if int64(i) >= int64(acc.Count) {
			return nil, nil, r.fail(place, fmt.Sprintf("has a sparse part that replaces entry %d of %d", i, acc.Count), "the file is damaged; export it again")
		}
	}
	return at, values[s.Values.Offset:], nil
}

func (r *gltfReader) accessor(place string, i, n int) (acc gltfAccessor, data []byte, stride int, err error) {
	if i < 0 || i >= len(r.doc.Accessors) {
		return acc, nil, 0, r.fail(place, fmt.Sprintf("asks for accessor %d, but the file has %d", i, len(r.doc.Accessors)), "the file is damaged; export it again")
	}
	acc = r.doc.Accessors[i]
	size, ok := compSize[acc.Component]
	if !ok || typeCount[acc.Type] != n {
		return acc, nil, 0, r.fail(place, fmt.Sprintf("has type %s of %d where %d numbers are needed", clip([]byte(acc.Type)), acc.Component, n), "export it again")
	}
	if acc.BufferView == nil {
		// Without a buffer view all elements are zero, to be replaced by the sparse part.
		if acc.Count < 0 || acc.Count > MaxVertices || acc.Sparse == nil && acc.Count > 1<<20 {
			return acc, nil, 0, r.fail(place, fmt.Sprintf("says it has %d entries but has no bytes", acc.Count), "the file is damaged; export it again")
		}
		if r.zeros += acc.Count; r.zeros > MaxVertices {
			return acc, nil, 0, r.fail(place, "has more entries without bytes than a model may have", "the file is damaged; export it again")
		}
		return acc, make([]byte, acc.Count*size*n), size * n, nil
	}
	v, data, err := r.view(place, *acc.BufferView)
	if err != nil {
		return acc, nil, 0, err
	}
	stride = size * n
	if v.Stride > 0 {
		stride = v.Stride
	}
	if acc.Count < 0 || acc.Count > MaxVertices*3 || acc.Offset < 0 || stride < size*n || stride > 4096 ||
		(acc.Count > 0 && int64(acc.Offset)+int64(acc.Count-1)*int64(stride)+int64(size*n) > int64(len(data))) {
		return acc, nil, 0, r.fail(place, fmt.Sprintf("says it has %d entries, more than its %d bytes hold", acc.Count, len(data)), "the file is cut short or damaged; export it again")
	}
	return acc, data[min(acc.Offset, len(data)):], stride, nil
}

func (r *gltfReader) floats(place string, i, n int) ([]float32, error) {
	acc, data, stride, err := r.accessor(place, i, n)
	if err != nil {
		return nil, err
	}
	out := numbers(acc, acc.Count, n, stride, data)
	if acc.Sparse != nil {
		at, values, err := r.sparse(place, acc, n)
		if err != nil {
			return nil, err
		}
		given := numbers(acc, len(at), n, compSize[acc.Component]*n, values)
		for k, i := range at {
			copy(out[int(i)*n:int(i)*n+n], given[k*n:])
		}
	}
	return out, nil
}

// numbers decodes count elements of n numbers; normalised whole numbers as glTF 2.0 §3.11 says.
func numbers(acc gltfAccessor, count, n, stride int, data []byte) []float32 {
	out := make([]float32, count*n)
	size := compSize[acc.Component]
	scale := float32(1)
	if acc.Normalized {
		scale = map[int]float32{compByte: 1. / 127, compUByte: 1. / 255, compShort: 1. / 32767, compUShort: 1. / 65535}[acc.Component]
	}
	for i := range count {
		for k := range n {
			b := data[i*stride+k*size:]
			var v float32
			switch acc.Component {
			case compFloat:
				v = math.Float32frombits(binary.LittleEndian.Uint32(b))
			case compUByte:
				v = float32(b[0]) * scale
			case compByte:
				v = max(-1, float32(int8(b[0]))*scale)
			case compUShort:
				v = float32(binary.LittleEndian.Uint16(b)) * scale
			case compShort:
				v = max(-1, float32(int16(binary.LittleEndian.Uint16(b)))*scale)
			case compUInt:
				v = float32(binary.LittleEndian.Uint32(b))
			}
			out[i*n+k] = v
		}
	}
	return out
}

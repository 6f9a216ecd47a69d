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
	Nodes []int `json:"nodes"`
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
	Index int `json:"index"`
}

type gltfMaterial struct {
	Name      string      `json:"name,omitempty"`
	PBR       gltfPBR     `json:"pbrMetallicRoughness"`
	Normal    *gltfTexRef `json:"normalTexture,omitempty"`
	Occlusion *gltfTexRef `json:"occlusionTexture,omitempty"`
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
	BufferView *int            `json:"bufferView,omitempty"`
	Offset     int             `json:"byteOffset,omitempty"`
	Component  int             `json:"componentType"`
	Normalized bool            `json:"normalized,omitempty"`
	Count      int             `json:"count"`
	Type       string          `json:"type"`
	Min        []float32       `json:"min,omitempty"`
	Max        []float32       `json:"max,omitempty"`
	Sparse     json.RawMessage `json:"sparse,omitempty"`
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

// ReadGLTF reads glTF 2.0 as .glb or .gltf. UVs are turned so that V grows upwards. Each mesh that
// a node of the default scene shows becomes a part, with the node's transform applied.
func ReadGLTF(name string, data []byte, files Files) (*Model, error) {
	r := gltfReader{name: name, files: files, b: newBuilder()}
	text := data
	if bytes.HasPrefix(data, []byte("glTF")) {
		var err error
		if text, err = r.container(data); err != nil {
			return nil, err
		}
	} else if strings.HasSuffix(strings.ToLower(name), ".glb") {
		return nil, r.fail("byte 0", "the file does not begin with “glTF”, so it is not a GLB", "export it again")
	}
	if err := json.Unmarshal(text, &r.doc); err != nil {
		place := ""
		if s, ok := err.(*json.SyntaxError); ok {
			place = fmt.Sprintf("byte %d of its JSON", s.Offset)
		}
		return nil, r.fail(place, "the JSON is damaged ("+err.Error()+")", "export the file again")
	}
	if !strings.HasPrefix(r.doc.Asset.Version, "2") {
		return nil, r.fail("asset.version", fmt.Sprintf("version “%s” is not glTF 2", clip([]byte(r.doc.Asset.Version))), "export as glTF 2.0")
	}
	if len(r.doc.Required) > 0 {
		return nil, r.fail("extensionsRequired", "the file needs "+clip([]byte(strings.Join(r.doc.Required, ", ")))+", which Crust does not read", "export without compression or extensions")
	}
	if len(r.doc.Nodes)+len(r.doc.Meshes)+len(r.doc.Materials) > 4*MaxNames {
		return nil, r.fail("", "too many nodes, meshes or materials", "join parts before exporting")
	}
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
	r.b.m.HasUV = r.withUV > 0 && r.withoutUV == 0
	if r.points > 0 {
		r.b.m.Notes = append(r.b.m.Notes, fmt.Sprintf("%d primitives of points or lines were passed over; Crust textures faces only.", r.points))
	}
	return r.b.m, nil
}

type gltfReader struct {
	name              string
	files             Files
	doc               gltfDoc
	bin               []byte
	buffers           map[int][]byte
	b                 *builder
	withUV, withoutUV int
	points            int
	visited           int
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
		if im.MIME == "image/jpeg" || bytes.HasPrefix(data, []byte("\xff\xd8")) {
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
	case r.doc.Scene != nil && *r.doc.Scene >= 0 && *r.doc.Scene < len(r.doc.Scenes):
		roots = r.doc.Scenes[*r.doc.Scene].Nodes
	case len(r.doc.Scenes) > 0:
		roots = r.doc.Scenes[0].Nodes
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
		part := r.b.part(named(n.Name, named(mesh.Name, fmt.Sprintf("part %d", i+1))))
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
	uv, err := optional("TEXCOORD_0", 2)
	if err != nil {
		return err
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
	if uv != nil {
		r.withUV++
	} else {
		r.withoutUV++
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
	vert := make([]uint32, count)
	hasCol := r.anyColour()
	for i := range vert {
		c := corner{p: world.Point(geom.Vec3{X: pos[3*i], Y: pos[3*i+1], Z: pos[3*i+2]})}
		if !c.p.Finite() {
			return r.fail(fmt.Sprintf("%s, vertex %d", place, i), "has a position that is not a finite number", "export it again")
		}
		if nrm != nil {
			c.n = world.Normal(geom.Vec3{X: nrm[3*i], Y: nrm[3*i+1], Z: nrm[3*i+2]})
		}
		if uv != nil {
			c.t = geom.Vec2{X: uv[2*i], Y: 1 - uv[2*i+1]}
		}
		if !c.n.Finite() || !c.t.Finite() {
			return r.fail(fmt.Sprintf("%s, vertex %d", place, i), "has a normal or UV that is not a finite number", "export it again")
		}
		if hasCol {
			c.c = [3]uint8{255, 255, 255}
			if col != nil {
				for k := 0; k < 3; k++ {
					c.c[k] = uint8(pixel.ToSRGB(geom.Clamp01(col[colN*i+k]))*255 + 0.5)
				}
			}
		}
		vert[i] = r.b.vertex(c, hasCol)
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

// anyColour tells whether some primitive carries vertex colours; then every vertex gets one.
func (r *gltfReader) anyColour() bool {
	for _, m := range r.doc.Meshes {
		for _, p := range m.Primitives {
			if _, ok := p.Attributes["COLOR_0"]; ok {
				return true
			}
		}
	}
	return false
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
	idx := make([]uint32, acc.Count)
	for i := range idx {
		b := data[i*stride:]
		switch acc.Component {
		case compUByte:
			idx[i] = uint32(b[0])
		case compUShort:
			idx[i] = uint32(binary.LittleEndian.Uint16(b))
		case compUInt:
			idx[i] = binary.LittleEndian.Uint32(b)
		default:
			return nil, r.fail(place, "has indices that are not whole numbers", "export it again")
		}
		if idx[i] >= uint32(count) {
			return nil, r.fail(fmt.Sprintf("%s, index %d", place, i), fmt.Sprintf("asks for vertex %d of %d", idx[i], count), "the file is damaged; export it again")
		}
	}
	return idx, nil
}

func (r *gltfReader) accessor(place string, i, n int) (acc gltfAccessor, data []byte, stride int, err error) {
	if i < 0 || i >= len(r.doc.Accessors) {
		return acc, nil, 0, r.fail(place, fmt.Sprintf("asks for accessor %d, but the file has %d", i, len(r.doc.Accessors)), "the file is damaged; export it again")
	}
	acc = r.doc.Accessors[i]
	if len(acc.Sparse) > 0 || acc.BufferView == nil {
		return acc, nil, 0, r.fail(place, "uses a sparse accessor, which Crust does not read", "export without sparse data")
	}
	size, ok := compSize[acc.Component]
	if !ok || typeCount[acc.Type] != n {
		return acc, nil, 0, r.fail(place, fmt.Sprintf("has type %s of %d where %d numbers are needed", clip([]byte(acc.Type)), acc.Component, n), "export it again")
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
	out := make([]float32, acc.Count*n)
	size := compSize[acc.Component]
	scale := float32(1)
	if acc.Normalized {
		scale = map[int]float32{compByte: 1. / 127, compUByte: 1. / 255, compShort: 1. / 32767, compUShort: 1. / 65535}[acc.Component]
	}
	for i := range acc.Count {
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
	return out, nil
}

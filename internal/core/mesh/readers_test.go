package mesh

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"strings"
	"testing"

	"crust/internal/core/geom"
)

// plySquare is a unit square with UVs, normals and colours, as Turk's description of the format has it.
func plySquare(format string) []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "ply\nformat %s 1.0\ncomment made by hand\nelement vertex 4\n", format)
	for _, p := range []string{"float x", "float y", "float z", "float nx", "float ny", "float nz", "float s", "float t", "uchar red", "uchar green", "uchar blue"} {
		fmt.Fprintf(&b, "property %s\n", p)
	}
	b.WriteString("element face 1\nproperty list uchar int vertex_indices\nelement edge 1\nproperty int vertex1\nproperty int vertex2\nend_header\n")
	corners := [][2]float32{{0, 0}, {1, 0}, {1, 1}, {0, 1}}
	if format == "ascii" {
		for i, c := range corners {
			fmt.Fprintf(&b, "%g %g 0 0 0 1 %g %g %d 20 30\n", c[0], c[1], c[0], c[1], 50*i)
		}
		b.WriteString("4 0 1 2 3\n0 1\n")
		return b.Bytes()
	}
	var order binary.AppendByteOrder = binary.LittleEndian
	if format == "binary_big_endian" {
		order = binary.BigEndian
	}
	out := b.Bytes()
	for i, c := range corners {
		for _, v := range []float32{c[0], c[1], 0, 0, 0, 1, c[0], c[1]} {
			out = order.AppendUint32(out, math.Float32bits(v))
		}
		out = append(out, byte(50*i), 20, 30)
	}
	out = append(out, 4)
	for _, v := range []uint32{0, 1, 2, 3, 0, 1} {
		out = order.AppendUint32(out, v)
	}
	return out
}

// The three forms of PLY hold the same model (Turk, The PLY Polygon File Format, 1994).
func TestPLYForms(t *testing.T) {
	for _, format := range []string{"ascii", "binary_little_endian", "binary_big_endian"} {
		m, err := Read("a.ply", plySquare(format), nil)
		if err != nil {
			t.Fatalf("%s: %v", format, err)
		}
		if len(m.Tris) != 2 || !m.HasUV || m.UVs[2] != (geom.Vec2{X: 1, Y: 1}) || m.Normals[0].Z != 1 || m.Colours[3] != [3]uint8{150, 20, 30} {
			t.Errorf("%s: %d triangles, UV %v, colours %v", format, len(m.Tris), m.UVs, m.Colours)
		}
	}
	text := "ply\nformat ascii 1.0\nelement vertex 3\nproperty double x\nproperty double y\nproperty double z\nelement face 1\nproperty list uchar int vertex_index\nproperty list uchar float texcoord\nend_header\n0 0 0\n1 0 0\n0 1 0\n3 0 1 2 6 0 0 1 0 0 1\n"
	m, err := Read("a.ply", []byte(text), nil)
	if err != nil || !m.HasUV || m.UVs[1] != (geom.Vec2{X: 1}) {
		t.Errorf("UVs kept by the faces: %v, %v", m, err)
	}
}

func TestBrokenPLYIsRefused(t *testing.T) {
	whole := string(plySquare("ascii"))
	swap := func(a, b string) string { return strings.Replace(whole, a, b, 1) }
	for _, c := range []struct{ name, data, place, what string }{
		{"another kind of file", "solid cube", "line 1", "ply"},
		{"cut in the header", whole[:60], "line", "ends inside its header"},
		{"cut in the data", string(plySquare("binary_little_endian")[:420]), "byte", "more than its"},
		{"huge count", swap("vertex 4", "vertex 30000000"), "line", "more than its"},
		{"over the limit", swap("vertex 4", "vertex 99000000000"), "line 4", "over the limit"},
		{"negative count", swap("vertex 4", "vertex -4"), "line 4", "count"},
		{"unknown type", swap("float x", "quad x"), "line 5", "type"},
		{"unknown format", swap("ascii", "gzip"), "line", "gzip"},
		{"no x", swap("float x", "float q"), "line", "no x"},
		{"NaN", swap("0 0 0 0 0 1", "nan 0 0 0 0 1"), "line", "finite"},
		{"index past the end", swap("4 0 1 2 3", "4 0 1 2 9"), "line", "vertex 9 of 4"},
		{"a word for a number", swap("4 0 1 2 3", "4 0 one 2 3"), "line", "“one”"},
	} {
		_, err := Read("a.ply", []byte(c.data), nil)
		if err == nil || !strings.Contains(err.Error(), "a.ply, "+c.place) || !strings.Contains(err.Error(), c.what) {
			t.Errorf("%s: %v; want %s and “%s”", c.name, err, c.place, c.what)
		}
	}
}

// A cube in one smoothing group has one normal at each corner, in none it has three; computed with a
// crease of 100° its edges are soft, of 60° hard.
func TestNormalsBySmoothingGroupAndCrease(t *testing.T) {
	for _, c := range []struct {
		name   string
		smooth bool
		crease float64
		want   int // different normals
	}{{"one group", true, 0, 8}, {"off", false, 0, 6}, {"crease 60°", true, 60, 6}, {"crease 100°", false, 100, 8}} {
		m, err := Read("a.obj", []byte(boxOBJ(c.smooth)), nil)
		if err != nil {
			t.Fatal(err)
		}
		if c.crease > 0 {
			m.ComputeNormals(c.crease)
		}
		seen := map[geom.Vec3]bool{}
		for i, tri := range m.Tris {
			for _, v := range tri {
				n := m.Normals[v]
				seen[geom.Vec3{X: round3(n.X), Y: round3(n.Y), Z: round3(n.Z)}] = true
				if d := float64(n.Dot(m.FaceNormal(i))); math.Abs(d-1) > 1e-5 && math.Abs(d-1/math.Sqrt(3)) > 1e-5 {
					t.Errorf("%s: a normal leans %.3f from its face, want a face's or the corner's diagonal", c.name, d)
				}
			}
		}
		if len(seen) != c.want {
			t.Errorf("%s: %d different normals, want %d", c.name, len(seen), c.want)
		}
	}
}

func round3(v float32) float32 { return float32(math.Round(float64(v)*1000)) / 1000 }

// A glTF of one triangle made from accessors given as JSON, with the bytes of its only buffer.
func gltfOf(t *testing.T, attributes, accessors, views, more string, bin []byte) *Model {
	t.Helper()
	doc := fmt.Sprintf(`{"asset":{"version":"2.0"},"nodes":[{"mesh":0}],"meshes":[{"primitives":[{"attributes":{%s},"material":0}]}],"accessors":[%s],"bufferViews":[%s],"buffers":[{"byteLength":%d,"uri":"b.bin"}]%s}`, attributes, accessors, views, len(bin), more)
	m, err := Read("a.gltf", []byte(doc), func(string) ([]byte, error) { return bin, nil })
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func floatBytes(v ...float32) (b []byte) {
	for _, x := range v {
		b = binary.LittleEndian.AppendUint32(b, math.Float32bits(x))
	}
	return b
}

const (
	triangleViews = `{"buffer":0,"byteLength":36}`
	triangleAcc   = `{"bufferView":0,"componentType":5126,"count":3,"type":"VEC3"}`
	plainMaterial = `,"materials":[{"name":"m"}]`
)

// glTF 2.0 §3.6.2.3: a sparse accessor replaces some elements, of a view or of zeros.
func TestSparseAccessors(t *testing.T) {
	bin := append(floatBytes(0, 0, 0, 1, 0, 0, 9, 9, 9), 2, 0, 0, 0)
	bin = append(bin, floatBytes(0, 1, 0)...)
	sparse := `"sparse":{"count":1,"indices":{"bufferView":1,"componentType":5121},"values":{"bufferView":2}}`
	views := triangleViews + `,{"buffer":0,"byteOffset":36,"byteLength":4},{"buffer":0,"byteOffset":40,"byteLength":12}`
	m := gltfOf(t, `"POSITION":0`, `{"bufferView":0,"componentType":5126,"count":3,"type":"VEC3",`+sparse+`}`, views, plainMaterial, bin)
	if p := m.Positions[m.Tris[0][2]]; p != (geom.Vec3{Y: 1}) {
		t.Errorf("the replaced vertex is at %v, want (0, 1, 0)", p)
	}
	m = gltfOf(t, `"POSITION":0`, `{"componentType":5126,"count":3,"type":"VEC3",`+sparse+`}`, views, plainMaterial, bin)
	if p := m.Positions[m.Tris[0][2]]; p != (geom.Vec3{Y: 1}) || m.Positions[m.Tris[0][0]] != (geom.Vec3{}) {
		t.Errorf("over zeros: %v", m.Positions)
	}
}

// Two UV channels are kept, and either can be chosen.
func TestTwoUVChannels(t *testing.T) {
	bin := floatBytes(0, 0, 0, 1, 0, 0, 0, 1, 0 /* first */, 0, 1, 1, 1, 0, 0 /* second */, 0.5, 0.5, 0.75, 0.5, 0.5, 0.25)
	m := gltfOf(t, `"POSITION":0,"TEXCOORD_0":1,"TEXCOORD_1":2`, triangleAcc+`,{"bufferView":1,"componentType":5126,"count":3,"type":"VEC2"},{"bufferView":2,"componentType":5126,"count":3,"type":"VEC2"}`,
		triangleViews+`,{"buffer":0,"byteOffset":36,"byteLength":24},{"buffer":0,"byteOffset":60,"byteLength":24}`, plainMaterial, bin)
	if len(m.Channels) != 2 || m.UVs[m.Tris[0][1]] != (geom.Vec2{X: 1}) {
		t.Fatalf("%d channels, UV %v", len(m.Channels), m.UVs)
	}
	if err := m.Choose(1); err != nil || m.UVs[m.Tris[0][1]] != (geom.Vec2{X: 0.75, Y: 0.5}) || !m.HasUV {
		t.Errorf("second channel: %v, %v", m.UVs, err)
	}
	if m.Choose(2) == nil {
		t.Error("a third channel was chosen, there are two")
	}
}

// Khronos, KHR_texture_transform: the example of its text, offset (0, 1), a quarter turn, half size:
// uv' = translation · rotation · scale · uv.
func TestTextureTransformMovesUVs(t *testing.T) {
	bin := floatBytes(0, 0, 0, 1, 0, 0, 0, 1, 0, 0, 0, 1, 0, 0, 1)
	m := gltfOf(t, `"POSITION":0,"TEXCOORD_0":1`, triangleAcc+`,{"bufferView":1,"componentType":5126,"count":3,"type":"VEC2"}`, triangleViews+`,{"buffer":0,"byteOffset":36,"byteLength":24}`,
		`,"extensionsRequired":["KHR_texture_transform"],"images":[{"uri":"a.png"}],"textures":[{"source":0}],"materials":[{"pbrMetallicRoughness":{"baseColorTexture":{"index":0,"extensions":{"KHR_texture_transform":{"offset":[0,1],"rotation":1.57079632679,"scale":[0.5,0.5]}}}}}]`, bin)
	for k, want := range []geom.Vec2{{X: 0, Y: 1}, {X: 0, Y: 0.5}, {X: 0.5, Y: 1}} {
		got := m.UVs[m.Tris[0][k]]
		got.Y = 1 - got.Y // as glTF counts
		if math.Abs(float64(got.X-want.X))+math.Abs(float64(got.Y-want.Y)) > 1e-6 {
			t.Errorf("corner %d at %v, want %v", k, got, want)
		}
	}
	if len(m.Notes) == 0 || !strings.Contains(m.Notes[len(m.Notes)-1], extTransform) {
		t.Errorf("notes %v do not tell of it", m.Notes)
	}
}

// Khronos, KHR_mesh_quantization: positions in normalised 16-bit numbers; normals in bytes.
func TestQuantisedVertices(t *testing.T) {
	var bin []byte
	for _, p := range [][3]int16{{0, 0, 0}, {32767, 0, 0}, {0, 32767, 0}} {
		for _, v := range p {
			bin = binary.LittleEndian.AppendUint16(bin, uint16(v))
		}
		bin = append(bin, 0, 0)
	}
	for range 3 {
		bin = append(bin, 0, 0, 127, 0)
	}
	m := gltfOf(t, `"POSITION":0,"NORMAL":1`, `{"bufferView":0,"componentType":5122,"normalized":true,"count":3,"type":"VEC3"},{"bufferView":1,"componentType":5120,"normalized":true,"count":3,"type":"VEC3"}`,
		`{"buffer":0,"byteLength":24,"byteStride":8},{"buffer":0,"byteOffset":24,"byteLength":12,"byteStride":4}`, `,"extensionsRequired":["KHR_mesh_quantization"]`+plainMaterial, bin)
	if p := m.Positions[m.Tris[0][1]]; p != (geom.Vec3{X: 1}) || m.Normals[0] != (geom.Vec3{Z: 1}) {
		t.Errorf("position %v, normal %v; want (1, 0, 0) and (0, 0, 1)", p, m.Normals[0])
	}
}

func TestOnlyTheChosenSceneIsRead(t *testing.T) {
	doc := `{"asset":{"version":"2.0"},"scene":1,"scenes":[{"nodes":[0]},{"name":"quay","nodes":[1]}],"nodes":[{"name":"a","mesh":0},{"name":"b","mesh":0}],"meshes":[{"primitives":[{"attributes":{"POSITION":0}}]}],"accessors":[` + triangleAcc + `],"bufferViews":[` + triangleViews + `],"buffers":[{"byteLength":36,"uri":"data:application/octet-stream;base64,AAAAAAAAAAAAAAAAAACAPwAAAAAAAAAAAAAAAAAAgD8AAAAA"}]}`
	m, err := Read("a.gltf", []byte(doc), nil)
	if err != nil {
		t.Fatal(err)
	}
	if strings.Join(m.Parts, ",") != "b" || len(m.Notes) != 1 || !strings.Contains(m.Notes[0], "2 scenes; “quay”") {
		t.Errorf("parts %v, notes %v", m.Parts, m.Notes)
	}
}

func zipped(t testing.TB, files map[string]string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, text := range files {
		w, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
	}
	z.Close()
	return b.Bytes()
}

// A model and what belongs to it come as one zip, in folders or not.
func TestModelsInAZip(t *testing.T) {
	files, err := Unpack([]File{{"all.zip", zipped(t, map[string]string{"work/a.obj": "mtllib a.mtl\n" + cube + "usemtl red\nf 1/1 2/2 3/3\n", "work/lib/a.mtl": "newmtl red\nKd 1 0 0\n", "__MACOSX/a.obj": "x", "work/.hidden.obj": "x"})}})
	if err != nil {
		t.Fatal(err)
	}
	f, beside, err := Pick(files)
	if err != nil {
		t.Fatal(err)
	}
	m, err := Open(f, beside)
	if err != nil || m.Materials[0].Colour != [3]float32{1, 0, 0} || len(m.Notes) != 0 {
		t.Errorf("%v, %v", m, err)
	}
	for _, c := range []struct {
		files []File
		want  string
	}{
		{[]File{{"a.zip", []byte("PK nothing")}}, "not a sound zip"},
		{[]File{{"a.zip", zipped(t, map[string]string{"a.txt": "x"})}}, "no model among"},
		{[]File{{"a.zip", zipped(t, map[string]string{"a.obj": "x", "b.glb": "x"})}}, "are both models"},
	} {
		files, err := Unpack(c.files)
		if err == nil {
			_, _, err = Pick(files)
		}
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%v, want “%s”", err, c.want)
		}
	}
}

// A unit and an axis: 100 cm stand up a metre high.
func TestPlaceTurnsAndScales(t *testing.T) {
	m, err := Read("a.obj", []byte("v 0 0 0\nv 100 0 0\nv 0 0 100\nf 1 2 3\n"), nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := (Intake{Metres: 0.01, ZUp: true}).Apply(m); err != nil {
		t.Fatal(err)
	}
	if s := m.Bounds().Size(); math.Abs(float64(s.X-1))+math.Abs(float64(s.Y-1))+float64(s.Z) > 1e-6 {
		t.Errorf("size %v, want 1 × 1 × 0 m", s)
	}
	if n := m.Normals[0]; n.Z < 0.99 && n.Z > -0.99 {
		t.Errorf("normal %v, want along Z", n)
	}
	for _, o := range []Intake{{Metres: -1}, {Metres: math.NaN()}, {Crease: 200}, {Channel: -1}} {
		if o.Check() == nil {
			t.Errorf("%+v was accepted", o)
		}
	}
}

// The fast reading of decimal numbers gives what strconv gives, bit for bit.
func TestFloatsReadAsStrconvDoes(t *testing.T) {
	for _, s := range []string{"0", "-0", "1", "-1.5", "+2.25", "0.1", "123456.789", "0.00000123", "1e3", "-2.5E-4", "999999999999999", "3.4028235e38", "1.17549435e-38", ".5", "5.", "16777217", "0.333333343267", "1.0000000000000000001"} {
		want, ok := slowFloat([]byte(s))
		got, ok2 := parseFloat([]byte(s))
		if got != want || ok != ok2 || math.Signbit(float64(got)) != math.Signbit(float64(want)) {
			t.Errorf("%s: %v, strconv says %v", s, got, want)
		}
	}
	for _, s := range []string{"", "-", ".", "+.", "1e999", "nan", "inf", "1.2.3", "1,5", "0x1p-2z"} {
		if v, ok := parseFloat([]byte(s)); ok {
			t.Errorf("%q was read as %v", s, v)
		}
	}
}

package mesh

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strings"
	"testing"
	"unicode/utf16"

	"crust/internal/core/geom"
)

const cube = "v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\nvn 0 0 1\n"

// The statements of the format's published description (Wavefront, Object Files).
func TestOBJStatements(t *testing.T) {
	for _, c := range []struct {
		name, text string
		tris       int
		parts      string
		materials  string
		hasUV      bool
	}{
		{"triangle", cube + "f 1/1/1 2/2/1 3/3/1\n", 1, "part", "material", true},
		{"quad", cube + "f 1/1/1 2/2/1 3/3/1 4/4/1\n", 2, "part", "material", true},
		{"negative indices", cube + "f -4/-4/-1 -3/-3/-1 -2/-2/-1\n", 1, "part", "material", true},
		{"no UV", cube + "f 1//1 2//1 3//1\n", 1, "part", "material", false},
		{"positions only", cube + "f 1 2 3\n", 1, "part", "material", false},
		{"CRLF, tabs and comments", strings.ReplaceAll(cube, "\n", " \r\n") + "# x\r\nf\t1/1\t2/2\t3/3\r\n", 1, "part", "material", true},
		{"continued line", cube + "f 1/1 2/2 \\\n3/3 4/4\n", 2, "part", "material", true},
		{"objects, groups, spaces in names", cube + "o mooring eye\nusemtl wet steel\nf 1/1 2/2 3/3\ng lid\nusemtl red\nf 1/1 3/3 4/4\n", 2, "mooring eye,lid", "wet steel,red", true},
		{"lines and points are passed over", cube + "l 1 2\np 1\nf 1/1 2/2 3/3\n", 1, "part", "material", true},
		{"byte order mark", "\xef\xbb\xbf" + cube + "f 1/1 2/2 3/3\n", 1, "part", "material", true},
		{"two libraries in one statement, none given", "mtllib a.mtl b.mtl\n" + cube + "f 1/1 2/2 3/3\n", 1, "part", "material", true},
		{"UTF-16, little end first", utf16Text(cube+"o boje größer\nf 1/1 2/2 3/3\n", false), 1, "boje größer", "material", true},
		{"UTF-16, big end first", utf16Text(cube+"o boje größer\nf 1/1 2/2 3/3\n", true), 1, "boje größer", "material", true},
		{"a line continued twice", cube + "f 1/1 \\\n2/2 \\\n3/3\n", 1, "part", "material", true},
		{"indices ahead of their vertices", "f 1 2 3\n" + cube, 1, "part", "material", false},
		{"free-form curves are passed over", cube + "curv 0 1 1 2\nf 1/1 2/2 3/3\n", 1, "part", "material", true},
		{"vertex colours", "v 0 0 0 1 0 0\nv 1 0 0 0 1 0\nv 0 1 0 0 0 1\nf 1 2 3\n", 1, "part", "material", false},
	} {
		m, err := Read("a.obj", []byte(c.text), nil)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		var mats []string
		for _, k := range m.Materials {
			mats = append(mats, k.Name)
		}
		if len(m.Tris) != c.tris || strings.Join(m.Parts, ",") != c.parts || strings.Join(mats, ",") != c.materials || m.HasUV != c.hasUV {
			t.Errorf("%s: %d triangles, parts %v, materials %v, UV %v; want %d, %s, %s, %v", c.name, len(m.Tris), m.Parts, mats, m.HasUV, c.tris, c.parts, c.materials, c.hasUV)
		}
	}
}

// A polygon cut into triangles keeps its area, also a concave one (shoelace formula).
func TestConcavePolygonsKeepTheirArea(t *testing.T) {
	text, xy := "", [][2]float64{{0, 0}, {4, 0}, {4, 3}, {2, 1}, {0, 3}}
	face, area := "f", 0.0
	for i, p := range xy {
		q := xy[(i+1)%len(xy)]
		area += (p[0]*q[1] - q[0]*p[1]) / 2
		text += fmt.Sprintf("v %g %g 0\n", p[0], p[1])
		face += fmt.Sprintf(" %d", i+1)
	}
	m, err := Read("a.obj", []byte(text+face+"\n"), nil)
	if err != nil {
		t.Fatal(err)
	}
	sum := 0.0
	for i := range m.Tris {
		n := m.FaceNormal(i)
		sum += float64(m.Area(i)) * float64(n.Z)
	}
	if math.Abs(sum-area) > 1e-6 || len(m.Tris) != 3 {
		t.Errorf("%d triangles of signed area %.4f, want 3 of %.4f", len(m.Tris), sum, area)
	}
}

func TestMTLColoursAndMissingLibraries(t *testing.T) {
	text := []byte("mtllib a.mtl\n" + cube + "usemtl red\nf 1/1 2/2 3/3\n")
	m, err := Read("a.obj", text, func(name string) ([]byte, error) {
		if name != "a.mtl" {
			return nil, errors.New("none")
		}
		return []byte("newmtl red\nKd 0.8 0.1 0.2\n"), nil
	})
	if err != nil || m.Materials[0].Colour != [3]float32{0.8, 0.1, 0.2} {
		t.Errorf("colour %v, error %v", m.Materials[0].Colour, err)
	}
	m, err = Read("a.obj", text, nil)
	if err != nil || len(m.Notes) != 1 || !strings.Contains(m.Notes[0], "a.mtl") {
		t.Errorf("notes %v, error %v; a missing library is only noted", m.Notes, err)
	}
	_, err = Read("a.obj", text, func(string) ([]byte, error) { return []byte("newmtl red\nKd nan 0 0\n"), nil })
	if err == nil || !strings.Contains(err.Error(), "line 2") {
		t.Errorf("a NaN colour: %v", err)
	}
}

func sphereGLB(t testing.TB) []byte {
	t.Helper()
	m := Sphere(12, 6, 1, [3]float64{})
	var b bytes.Buffer
	if err := WriteGLB(&b, m, GLBOptions{Materials: []GLBMaterial{{Name: "paint"}}, MaterialOf: func(int) int { return 0 }, Tangents: true}); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// remake changes a GLB's JSON.
func remake(t testing.TB, glb []byte, change func(doc map[string]any)) []byte {
	t.Helper()
	n := binary.LittleEndian.Uint32(glb[12:])
	var doc map[string]any
	if err := json.Unmarshal(glb[20:20+n], &doc); err != nil {
		t.Fatal(err)
	}
	change(doc)
	text, _ := json.Marshal(doc)
	for len(text)%4 != 0 {
		text = append(text, ' ')
	}
	out := append([]byte{}, glb[:12]...)
	out = binary.LittleEndian.AppendUint32(out, uint32(len(text)))
	out = append(out, "JSON"...)
	out = append(append(out, text...), glb[20+n:]...)
	binary.LittleEndian.PutUint32(out[8:], uint32(len(out)))
	return out
}

func accessor(doc map[string]any, i int) map[string]any {
	return doc["accessors"].([]any)[i].(map[string]any)
}

func TestGLBComesBackAsItWasWritten(t *testing.T) {
	want := Sphere(12, 6, 1, [3]float64{})
	m, err := Read("a.glb", sphereGLB(t), nil)
	if err != nil {
		t.Fatal(err)
	}
	if len(m.Tris) != len(want.Tris) {
		t.Fatalf("%d triangles, wrote %d", len(m.Tris), len(want.Tris))
	}
	for i := range m.Tris {
		for k := range 3 {
			a, b := m.Tris[i][k], want.Tris[i][k]
			if m.Positions[a] != want.Positions[b] || m.Normals[a].Dist(want.Normals[b]) > 1e-6 || math.Abs(float64(m.UVs[a].Y-want.UVs[b].Y)) > 1e-6 {
				t.Fatalf("corner %d of triangle %d differs", k, i)
			}
		}
	}
}

// glTF 2.0 §3.5: a node's transform applies to its mesh; a mirroring one turns the winding, and
// normals still point outwards.
func TestNodeTransforms(t *testing.T) {
	for _, c := range []struct {
		name string
		node map[string]any
		size [3]float32
	}{
		{"scale and translation", map[string]any{"scale": []float64{2, 3, 4}, "translation": []float64{5, 6, 7}}, [3]float32{4, 6, 8}},
		{"mirror", map[string]any{"scale": []float64{-1, 1, 1}}, [3]float32{2, 2, 2}},
		{"quarter turn about Z", map[string]any{"rotation": []float64{0, 0, math.Sqrt2 / 2, math.Sqrt2 / 2}, "scale": []float64{2, 1, 1}}, [3]float32{2, 4, 2}},
	} {
		glb := remake(t, sphereGLB(t), func(doc map[string]any) {
			for k, v := range c.node {
				doc["nodes"].([]any)[0].(map[string]any)[k] = v
			}
		})
		m, err := Read("a.glb", glb, nil)
		if err != nil {
			t.Fatal(err)
		}
		if got := m.Bounds().Size().Array(); math.Abs(float64(got[0]-c.size[0]))+math.Abs(float64(got[1]-c.size[1]))+math.Abs(float64(got[2]-c.size[2])) > 0.01 {
			t.Errorf("%s: size %v, want %v", c.name, got, c.size)
		}
		mid := m.Bounds().Centre()
		for i := range m.Tris {
			if m.Area(i) < 1e-8 {
				continue // at the poles, where a quad has no width
			}
			a, b, d := m.Corners(i)
			out := geom.Bary(a, b, d, 1./3, 1./3).Sub(mid)
			if m.FaceNormal(i).Dot(out) < 0 || m.Normals[m.Tris[i][0]].Dot(out) < 0 {
				t.Fatalf("%s: triangle %d looks inwards", c.name, i)
			}
		}
	}
}

// Strips and fans turn as glTF 2.0 §3.7.2.1 says.
func TestStripsAndFans(t *testing.T) {
	for _, c := range []struct {
		mode int
		want int
	}{{5, 2}, {6, 2}, {0, 0}} {
		var pos []byte
		for _, p := range [][3]float32{{0, 0, 0}, {1, 0, 0}, {0, 1, 0}, {1, 1, 0}} {
			if c.mode == 6 && p == [3]float32{0, 1, 0} {
				p = [3]float32{1, 1, 0}
			} else if c.mode == 6 && p == [3]float32{1, 1, 0} {
				p = [3]float32{0, 1, 0}
			}
			for _, v := range p {
				pos = binary.LittleEndian.AppendUint32(pos, math.Float32bits(v))
			}
		}
		doc := fmt.Sprintf(`{"asset":{"version":"2.0"},"nodes":[{"mesh":0}],"meshes":[{"primitives":[{"attributes":{"POSITION":0},"mode":%d}]}],"accessors":[{"bufferView":0,"componentType":5126,"count":4,"type":"VEC3"}],"bufferViews":[{"buffer":0,"byteLength":48}],"buffers":[{"byteLength":48,"uri":"b.bin"}]}`, c.mode)
		m, err := Read("a.gltf", []byte(doc), func(string) ([]byte, error) { return pos, nil })
		if c.want == 0 {
			if err == nil || !strings.Contains(err.Error(), "no faces") {
				t.Errorf("points alone: %v", err)
			}
			continue
		}
		if err != nil || len(m.Tris) != c.want {
			t.Errorf("mode %d: %v", c.mode, err)
			continue
		}
		for i := range m.Tris {
			if m.FaceNormal(i).Z < 0.9 {
				t.Errorf("mode %d: triangle %d is turned over", c.mode, i)
			}
		}
	}
}

// Every refusal names the file, the place, the reason and what to do, in one sentence.
func TestBrokenModelsAreRefusedInOneSentence(t *testing.T) {
	glb := sphereGLB(t)
	doc := func(change func(map[string]any)) string { return string(remake(t, glb, change)) }
	for _, c := range []struct{ name, file, data, place, what string }{
		{"empty", "a.obj", "", "", "empty"},
		{"unknown kind", "a.step", "x", "", "not a kind"},
		{"no faces", "a.obj", "v 0 0 0\n", "", "no faces"},
		{"binary", "a.obj", "v 0\x00 0", "byte 3", "not text"},
		{"too few numbers", "a.obj", "v 0 0 0\nv 1 0\n", "line 2", "2 numbers"},
		{"NaN", "a.obj", "v 0 0 NaN\n", "line 1", "finite"},
		{"infinite", "a.obj", "v 0 0 1e99\n", "line 1", "finite"},
		{"index past the end", "a.obj", cube + "f 1 2 12\n", "line 10", "vertex 12"},
		{"index zero", "a.obj", cube + "f 0 1 2\n", "line 10", "vertex 0"},
		{"UV past the end", "a.obj", cube + "f 1/9 2/2 3/3\n", "line 10", "UV 9"},
		{"word for an index", "a.obj", cube + "f a b c\n", "line 10", "not an index"},
		{"not a GLB", "a.glb", "hello, this is long enough", "byte 0", "glTF"},
		{"cut in the header", "a.glb", string(glb[:10]), "byte 10", "ends inside"},
		{"cut in the body", "a.glb", string(glb[:len(glb)-100]), "byte 8", "bytes"},
		{"bad JSON", "a.gltf", `{"asset":`, "", "JSON"},
		{"old version", "a.gltf", `{"asset":{"version":"1.0"}}`, "asset.version", "not glTF 2"},
		{"needs an extension", "a.glb", doc(func(d map[string]any) { d["extensionsRequired"] = []any{"KHR_draco_mesh_compression"} }), "extensionsRequired", "KHR_draco_mesh"},
		{"huge count", "a.glb", doc(func(d map[string]any) { accessor(d, 0)["count"] = 1 << 40 }), "POSITION", "more than"},
		{"negative count", "a.glb", doc(func(d map[string]any) { accessor(d, 0)["count"] = -5 }), "POSITION", "entries"},
		{"view past the end", "a.glb", doc(func(d map[string]any) { d["bufferViews"].([]any)[0].(map[string]any)["byteLength"] = 1 << 30 }), "buffer view", "reaches"},
		{"missing accessor", "a.glb", doc(func(d map[string]any) {
			d["meshes"].([]any)[0].(map[string]any)["primitives"].([]any)[0].(map[string]any)["attributes"].(map[string]any)["NORMAL"] = 99
		}), "NORMAL", "accessor 99"},
		{"circle of nodes", "a.glb", doc(func(d map[string]any) { d["nodes"].([]any)[0].(map[string]any)["children"] = []any{0} }), "node 0", "circle"},
		{"missing buffer file", "a.gltf", `{"asset":{"version":"2.0"},"nodes":[{"mesh":0}],"meshes":[{"primitives":[{"attributes":{"POSITION":0}}]}],"accessors":[{"bufferView":0,"componentType":5126,"count":3,"type":"VEC3"}],"bufferViews":[{"buffer":0,"byteLength":36}],"buffers":[{"byteLength":36,"uri":"hull.bin"}]}`, "buffer 0", "hull.bin"},
	} {
		_, err := Read(c.file, []byte(c.data), nil)
		var e *Error
		if !errors.As(err, &e) {
			t.Errorf("%s: %v, want a refusal", c.name, err)
			continue
		}
		text := e.Error()
		if e.File != c.file || !strings.Contains(e.Place, c.place) || !strings.Contains(text, c.what) || e.Do == "" || strings.Contains(text, "\n") {
			t.Errorf("%s: %q; want file %s, place %s, reason “%s” and a remedy", c.name, text, c.file, c.place, c.what)
		}
	}
}

func TestIndicesPastTheVerticesAreRefused(t *testing.T) {
	glb := sphereGLB(t)
	n := binary.LittleEndian.Uint32(glb[12:])
	var doc gltfDoc
	if err := json.Unmarshal(glb[20:20+n], &doc); err != nil {
		t.Fatal(err)
	}
	v := doc.BufferViews[*doc.Accessors[*doc.Meshes[0].Primitives[0].Indices].BufferView]
	binary.LittleEndian.PutUint32(glb[28+int(n)+v.Offset+8:], 1<<20)
	if _, err := Read("a.glb", glb, nil); err == nil || !strings.Contains(err.Error(), "index 2") || !strings.Contains(err.Error(), "vertex 1048576") {
		t.Errorf("%v", err)
	}
}

// On a flat square whose U runs along X and V along Y, tangents are +X and, with the face towards
// +Z, signs are +1; mirrored UVs turn both (MikkTSpace's definition of a frame).
func TestTangentsOfAFlatSquare(t *testing.T) {
	for _, mirror := range []bool{false, true} {
		m := Grid(2, 2, 0, func(s, t float64) [3]float64 { return [3]float64{s, t, 0} })
		want := geom.Vec4{X: 1, W: 1}
		if mirror {
			for i := range m.UVs {
				m.UVs[i].X = 1 - m.UVs[i].X
			}
			want = geom.Vec4{X: -1, W: -1}
		}
		for i, c := range m.Tangents() {
			v := c[0]
			if v.XYZ().Dist(want.XYZ()) > 1e-5 || v.W != want.W {
				t.Fatalf("mirror %v, triangle %d: %v, want %v", mirror, i, v, want)
			}
		}
	}
}

func utf16Text(s string, big bool) string {
	out := []byte{0xff, 0xfe}
	for _, u := range utf16.Encode([]rune(s)) {
		out = binary.LittleEndian.AppendUint16(out, u)
	}
	if big {
		for i := 0; i < len(out); i += 2 {
			out[i], out[i+1] = out[i+1], out[i]
		}
	}
	return string(out)
}

func FuzzOBJ(f *testing.F) {
	f.Add([]byte(cube + "o a\nusemtl b\nf 1/1/1 2/2/1 3/3/1 4/4/1\nf -1 -2 -3\n"))
	f.Add([]byte("mtllib x.mtl\nv 1 2 3 4 5 6\nl 1\nf 1 1 1\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := Read("f.obj", data, func(string) ([]byte, error) { return data, nil })
		checkSound(t, m, err)
	})
}

func FuzzGLTF(f *testing.F) {
	glb := sphereGLB(f)
	f.Add(glb)
	f.Add(glb[20 : 20+binary.LittleEndian.Uint32(glb[12:])])
	f.Add(glb[:len(glb)/2])
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := Read("f.gltf", data, func(string) ([]byte, error) { return data, nil })
		checkSound(t, m, err)
	})
}

func FuzzPLY(f *testing.F) {
	for _, order := range []string{"ascii", "binary_little_endian", "binary_big_endian"} {
		f.Add(plySquare(order))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := Read("f.ply", data, nil)
		checkSound(t, m, err)
	})
}

func FuzzZip(f *testing.F) {
	f.Add(zipped(f, map[string]string{"a/model.obj": cube + "f 1/1 2/2 3/3\n", "a/x.mtl": "newmtl a\n"}))
	f.Fuzz(func(t *testing.T, data []byte) {
		files, err := Unpack([]File{{"f.zip", data}})
		if err != nil {
			if strings.Contains(err.Error(), "\n") {
				t.Errorf("not one line: %q", err)
			}
			return
		}
		_, _, _ = Pick(files)
	})
}

// checkSound: whatever is accepted can be used without a further look.
func checkSound(t *testing.T, m *Model, err error) {
	if err != nil {
		if strings.Contains(err.Error(), "\n") {
			t.Errorf("not one line: %q", err)
		}
		return
	}
	for i, tri := range m.Tris {
		if int(m.Part[i]) >= len(m.Parts) || int(m.Material[i]) >= len(m.Materials) {
			t.Fatal("part or material out of range")
		}
		for _, v := range tri {
			if int(v) >= len(m.Positions) || !m.Positions[v].Finite() || !m.Normals[v].Finite() || !m.UVs[v].Finite() {
				t.Fatal("vertex out of range or not finite")
			}
			for _, c := range m.Channels {
				if len(c.UVs) != len(m.Positions) || !c.UVs[v].Finite() {
					t.Fatal("a UV channel is short or not finite")
				}
			}
		}
	}
	m.Tangents()
	m.Bounds()
}

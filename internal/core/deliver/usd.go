package deliver

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"crust/internal/core/mesh"
	"crust/internal/core/uv"
)

// usd writes the model as USD text with a preview surface per material (OpenUSD, UsdPreviewSurface Specification 2.6).
func (r *run) usd(d *Delivery) (*Written, error) {
	w := &Written{File: uv.FileName(r.j.Asset) + ".usda", Label: "Model"}
	return w, w.stream(d.aside, func(to *stream) error {
		u := usdWriter{stream: to, run: r, model: r.moved(), all: r.materials(d)}
		u.write()
		return r.ctx.Err()
	})
}

type usdWriter struct {
	*stream
	run   *run
	model *mesh.Model // with the UVs that are delivered
	all   []*material
	ids   []string // of the materials
}

func (u *usdWriter) line(deep int, format string, a ...any) {
	u.WriteString(strings.Repeat("    ", deep))
	fmt.Fprintf(u.stream, format+"\n", a...)
}

// quoted is a string as USD text has it.
func quoted(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(s) + `"`
}

func (u *usdWriter) write() {
	j := u.run.j
	var names []string
	for _, m := range u.all {
		names = append(names, m.name)
	}
	u.ids = identifiers(names)
	root := identifiers([]string{uv.FileName(j.Asset)})[0]
	u.line(0, "#usda 1.0")
	u.line(0, "(")
	u.line(1, "defaultPrim = %s", quoted(root))
	u.line(1, "doc = %s", quoted("Crust: "+j.Asset))
	u.line(1, "metersPerUnit = 1")
	u.line(1, `upAxis = "Y"`)
	u.line(0, ")")
	u.line(0, "")
	u.line(0, "def Xform %s (", quoted(root))
	u.line(1, `kind = "component"`)
	u.line(0, ")")
	u.line(0, "{")
	// Which material each triangle has.
	of := slices.Repeat([]int{-1}, len(j.Model.Tris))
	for i, m := range u.all {
		for _, k := range m.units {
			for _, s := range u.run.units[k].sets {
				for _, t := range s.Tris {
					of[t] = i
				}
			}
		}
	}
	byPart := make([][]int32, len(j.Model.Parts))
	for t, p := range j.Model.Part {
		byPart[p] = append(byPart[p], int32(t))
	}
	parts := identifiers(j.Model.Parts)
	for p, tris := range byPart {
		if len(tris) > 0 {
			u.mesh(parts[p], tris, of)
		}
	}
	u.line(1, `def Scope "Materials"`)
	u.line(1, "{")
	for i, m := range u.all {
		u.material("/"+root+"/Materials/"+u.ids[i], u.ids[i], m)
	}
	u.line(1, "}")
	u.line(0, "}")
}

// list writes numbers in lines, n values at a time, each in brackets when there are several.
func list[T any](u *usdWriter, head, tail string, n int, values []T, put func(b []byte, v T) []byte) {
	u.WriteString("        " + head + " = [")
	var b []byte
	for i := 0; i < len(values); i += n {
		b = b[:0]
		if i > 0 {
			b = append(b, ", "...)
		}
		if n > 1 {
			b = append(b, '(')
		}
		for k := range n {
			if k > 0 {
				b = append(b, ", "...)
			}
			b = put(b, values[i+k])
		}
		if n > 1 {
			b = append(b, ')')
		}
		u.Write(b)
	}
	u.WriteString("]" + tail + "\n")
}

func putFloat(b []byte, v float32) []byte { return strconv.AppendFloat(b, float64(v), 'g', -1, 32) }

func putInt(b []byte, v int32) []byte { return strconv.AppendInt(b, int64(v), 10) }

func (u *usdWriter) mesh(id string, tris []int32, of []int) {
	m := u.model
	order, _, corners := m.Indexed(tris, nil)
	var pos, nrm, st []float32
	for _, i := range order {
		p, n, t := m.Positions[i], m.Normals[i].Norm(), m.UVs[i]
		pos, nrm, st = append(pos, p.X, p.Y, p.Z), append(nrm, n.X, n.Y, n.Z), append(st, t.X, t.Y)
	}
	indices := make([]int32, len(corners))
	for i, c := range corners {
		indices[i] = int32(c)
	}
	u.line(1, "def Mesh %s (", quoted(id))
	u.line(2, `prepend apiSchemas = ["MaterialBindingAPI"]`)
	u.line(1, ")")
	u.line(1, "{")
	box := m.Bounds()
	u.line(2, "float3[] extent = [(%g, %g, %g), (%g, %g, %g)]", box.Min.X, box.Min.Y, box.Min.Z, box.Max.X, box.Max.Y, box.Max.Z)
	list(u, "int[] faceVertexCounts", "", 1, slices.Repeat([]int32{3}, len(tris)), putInt)
	list(u, "int[] faceVertexIndices", "", 1, indices, putInt)
	list(u, "point3f[] points", "", 3, pos, putFloat)
	list(u, "normal3f[] primvars:normals", " (interpolation = \"vertex\")", 3, nrm, putFloat)
	list(u, "texCoord2f[] primvars:st", " (interpolation = \"vertex\")", 2, st, putFloat)
	u.line(2, `uniform token subdivisionScheme = "none"`)
	u.line(2, `uniform token subsetFamily:materialBind:familyType = "nonOverlapping"`)
	for i := range u.all {
		var faces []int32
		for k, t := range tris {
			if of[t] == i {
				faces = append(faces, int32(k))
			}
		}
		if len(faces) == 0 {
			continue
		}
		u.line(2, "")
		u.line(2, "def GeomSubset %s (", quoted("set_"+u.ids[i]))
		u.line(3, `prepend apiSchemas = ["MaterialBindingAPI"]`)
		u.line(2, ")")
		u.line(2, "{")
		u.line(3, `uniform token elementType = "face"`)
		u.line(3, `uniform token familyName = "materialBind"`)
		list(u, "    int[] indices", "", 1, faces, putInt)
		u.line(3, "rel material:binding = </%s/Materials/%s>", identifiers([]string{uv.FileName(u.run.j.Asset)})[0], u.ids[i])
		u.line(2, "}")
	}
	u.line(1, "}")
	u.line(0, "")
}

// surfaceInputs are what a preview surface takes, from which source, and which of a picture's outputs gives it.
var surfaceInputs = []struct {
	name, kind, source string
	colour             bool
}{
	{"diffuseColor", "color3f", "base.r", true}, {"roughness", "float", "roughness", false}, {"metallic", "float", "metallic", false},
	{"occlusion", "float", "occlusion", false}, {"normal", "normal3f", "normal.r", true}, {"emissiveColor", "color3f", "emissive.r", true}, {"opacity", "float", "opacity", false},
}

func (u *usdWriter) material(path, id string, m *material) {
	u.line(2, "def Material %s", quoted(id))
	u.line(2, "{")
	u.line(3, "token outputs:surface.connect = <%s/surface.outputs:surface>", path)
	type texture struct {
		name string
		w    wired
		of   string
	}
	var textures []texture
	u.line(3, `def Shader "surface"`)
	u.line(3, "{")
	u.line(4, `uniform token info:id = "UsdPreviewSurface"`)
	u.line(4, "int inputs:useSpecularWorkflow = 0")
	for _, in := range surfaceInputs {
		w, ok := wire(m.files, in.source)
		if !ok {
			continue
		}
		name := fmt.Sprintf("read_%s", in.name)
		output := "rgb"
		if !in.colour {
			output = strings.ToLower(letter(w.at))
			if len(w.file.Channels) == 1 {
				output = "r"
			}
		}
		u.line(4, "%s inputs:%s.connect = <%s/%s.outputs:%s>", in.kind, in.name, path, name, output)
		textures = append(textures, texture{name, w, in.name})
		if in.name == "opacity" {
			u.line(4, "float inputs:opacityThreshold = 0.5")
		}
	}
	u.line(4, "token outputs:surface")
	u.line(3, "}")
	u.line(3, `def Shader "place"`)
	u.line(3, "{")
	u.line(4, `uniform token info:id = "UsdPrimvarReader_float2"`)
	u.line(4, `string inputs:varname = "st"`)
	u.line(4, "float2 outputs:result")
	u.line(3, "}")
	for _, t := range textures {
		u.line(3, "def Shader %s", quoted(t.name))
		u.line(3, "{")
		u.line(4, `uniform token info:id = "UsdUVTexture"`)
		u.line(4, "asset inputs:file = @%s@", "./"+m.path(t.w.file))
		u.line(4, "float2 inputs:st.connect = <%s/place.outputs:result>", path)
		space := "raw"
		if t.w.file.Space == "sRGB" {
			space = "sRGB"
		}
		u.line(4, "token inputs:sourceColorSpace = %s", quoted(space))
		u.line(4, `token inputs:wrapS = "repeat"`)
		u.line(4, `token inputs:wrapT = "repeat"`)
		switch {
		case t.of == "normal":
			// From (n + 1)/2; green that points down is turned.
			up := 1.0
			if g, ok := wire(m.files, "normal.g"); ok && g.flip {
				up = -1
			}
			u.line(4, "float4 inputs:scale = (2, %g, 2, 1)", 2*up)
			u.line(4, "float4 inputs:bias = (-1, %g, -1, 0)", -up)
		case t.w.flip:
			u.line(4, "float4 inputs:scale = (-1, -1, -1, -1)")
			u.line(4, "float4 inputs:bias = (1, 1, 1, 1)")
		}
		for _, o := range []string{"float3 outputs:rgb", "float outputs:r", "float outputs:g", "float outputs:b", "float outputs:a"} {
			u.line(4, "%s", o)
		}
		u.line(3, "}")
	}
	u.line(2, "}")
}

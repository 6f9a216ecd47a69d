package deliver

import (
	"encoding/xml"
	"fmt"
	"strings"

	"crust/internal/core/uv"
)

// element is an XML element of a MaterialX document.
type element struct {
	name  string
	attrs []string // names and values in turn
	kids  []*element
}

func node(name string, attrs ...string) *element { return &element{name: name, attrs: attrs} }

func (e *element) add(kids ...*element) *element { e.kids = append(e.kids, kids...); return e }

// in is an input of a node: its name, its type, and what it is given as (value, nodename, nodegraph) with that.
func in(name, kind string, given ...string) *element {
	return node("input", append([]string{"name", name, "type", kind}, given...)...)
}

func (e *element) write(b *stream, deep int) {
	pad := strings.Repeat("  ", deep)
	fmt.Fprintf(b, "%s<%s", pad, e.name)
	for i := 0; i < len(e.attrs); i += 2 {
		fmt.Fprintf(b, ` %s="`, e.attrs[i])
		_ = xml.EscapeText(b, []byte(e.attrs[i+1]))
		b.WriteString(`"`)
	}
	if len(e.kids) == 0 {
		b.WriteString("/>\n")
		return
	}
	b.WriteString(">\n")
	for _, k := range e.kids {
		k.write(b, deep+1)
	}
	fmt.Fprintf(b, "%s</%s>\n", pad, e.name)
}

// imageTypes are the types of image nodes by how many channels a file has: as data and as colours.
var imageTypes = map[int][2]string{1: {"float", "float"}, 3: {"vector3", "color3"}, 4: {"vector4", "color4"}}

// materialX writes a document (MaterialX 1.38 Specification) that wires the files to a standard surface per material.
func (r *run) materialX(d *Delivery) (*Written, error) {
	doc := node("materialx", "version", "1.38", "colorspace", "lin_rec709")
	all := r.materials(d)
	var names []string
	for _, m := range all {
		names = append(names, m.name)
	}
	ids := identifiers(names)
	for i, m := range all {
		graph := node("nodegraph", "name", "NG_"+ids[i])
		shader := node("standard_surface", "name", "SR_"+ids[i], "type", "surfaceshader")
		made := map[string]bool{}
		// image is the node of a file, made once.
		image := func(w *Written, colour bool) (id, kind string) {
			kind = imageTypes[len(w.Channels)][0]
			space := "lin_rec709"
			if colour {
				kind = imageTypes[len(w.Channels)][1]
				if w.Space == "sRGB" {
					space = "srgb_texture"
				}
			}
			id = "file_" + identifiers([]string{m.path(w)})[0] + "_" + kind
			if !made[id] {
				made[id] = true
				file := in("file", "filename", "value", m.path(w))
				if colour {
					file.attrs = append(file.attrs, "colorspace", space)
				}
				graph.add(node("image", "name", id, "type", kind).add(file))
			}
			return id, kind
		}
		// out gives the shader a node of the graph.
		out := func(input, kind, from string) {
			graph.add(node("output", "name", "out_"+input, "type", kind, "nodename", from))
			shader.add(in(input, kind, "nodegraph", "NG_"+ids[i], "output", "out_"+input))
		}
		colour := func(input, source string) bool {
			w, ok := wire(m.files, source+".r")
			if !ok || w.flip {
				return false
			}
			id, kind := image(w.file, true)
			if kind == "color4" {
				graph.add(node("convert", "name", "rgb_"+input, "type", "color3").add(in("in", "color4", "nodename", id)))
				id = "rgb_" + input
			}
			out(input, "color3", id)
			return true
		}
		number := func(input, source string) {
			w, ok := wire(m.files, source)
			if !ok {
				return
			}
			id, kind := image(w.file, w.file.Space == "sRGB")
			if kind != "float" {
				graph.add(node("extract", "name", "one_"+input, "type", "float").add(in("in", kind, "nodename", id), in("index", "integer", "value", fmt.Sprint(w.at))))
				id = "one_" + input
			}
			if w.flip {
				graph.add(node("subtract", "name", "not_"+input, "type", "float").add(in("in1", "float", "value", "1"), in("in2", "float", "nodename", id)))
				id = "not_" + input
			}
			if input == "opacity" {
				graph.add(node("convert", "name", "grey_opacity", "type", "color3").add(in("in", "float", "nodename", id)))
				out(input, "color3", "grey_opacity")
				return
			}
			out(input, "float", id)
		}
		shader.add(in("base", "float", "value", "1"))
		colour("base_color", "base")
		number("metalness", "metallic")
		number("specular_roughness", "roughness")
		if colour("emission_color", "emissive") {
			shader.add(in("emission", "float", "value", "1"))
		}
		number("opacity", "opacity")
		if w, ok := wire(m.files, "normal.g"); ok {
			id, _ := image(w.file, false)
			if w.flip {
				graph.add(node("multiply", "name", "turned_green", "type", "vector3").add(in("in1", "vector3", "nodename", id), in("in2", "vector3", "value", "1, -1, 1")))
				graph.add(node("add", "name", "green_up", "type", "vector3").add(in("in1", "vector3", "nodename", "turned_green"), in("in2", "vector3", "value", "0, 1, 0")))
				id = "green_up"
			}
			graph.add(node("normalmap", "name", "normal_map", "type", "vector3").add(in("in", "vector3", "nodename", id)))
			out("normal", "vector3", "normal_map")
		}
		mat := node("surfacematerial", "name", ids[i], "type", "material").add(in("surfaceshader", "surfaceshader", "nodename", "SR_"+ids[i]))
		if w, ok := wire(m.files, "height"); ok && (len(w.file.Range) == 2 || w.file.Height != "") && len(w.file.Channels) == 1 {
			id, _ := image(w.file, false)
			if len(w.file.Range) == 2 {
				graph.add(node("multiply", "name", "height_scaled", "type", "float").add(in("in1", "float", "nodename", id), in("in2", "float", "value", fmt.Sprintf("%g", round9(w.file.Range[1]-w.file.Range[0])))))
				graph.add(node("add", "name", "height_metres", "type", "float").add(in("in1", "float", "nodename", "height_scaled"), in("in2", "float", "value", fmt.Sprintf("%g", w.file.Range[0]))))
				id = "height_metres"
			}
			graph.add(node("output", "name", "out_height", "type", "float", "nodename", id))
			doc.add(graph, shader, node("displacement", "name", "DP_"+ids[i], "type", "displacementshader").add(in("displacement", "float", "nodegraph", "NG_"+ids[i], "output", "out_height")))
			mat.add(in("displacementshader", "displacementshader", "nodename", "DP_"+ids[i]))
		} else {
			doc.add(graph, shader)
		}
		doc.add(mat)
	}
	w := &Written{File: uv.FileName(r.j.Asset) + ".mtlx", Label: "How the files are wired"}
	return w, w.stream(d.aside, func(to *stream) error {
		to.WriteString("<?xml version=\"1.0\"?>\n")
		doc.write(to, 0)
		return nil
	})
}

package mesh

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"strconv"
	"strings"

	"crust/internal/core/geom"
)

// plyType is a property's number type (Turk, The PLY Polygon File Format, 1994).
type plyType struct {
	size int
	read func(order binary.ByteOrder, b []byte) float64
}

var plyTypes = func() map[string]plyType {
	t := map[string]plyType{
		"char":   {1, func(_ binary.ByteOrder, b []byte) float64 { return float64(int8(b[0])) }},
		"uchar":  {1, func(_ binary.ByteOrder, b []byte) float64 { return float64(b[0]) }},
		"short":  {2, func(o binary.ByteOrder, b []byte) float64 { return float64(int16(o.Uint16(b))) }},
		"ushort": {2, func(o binary.ByteOrder, b []byte) float64 { return float64(o.Uint16(b)) }},
		"int":    {4, func(o binary.ByteOrder, b []byte) float64 { return float64(int32(o.Uint32(b))) }},
		"uint":   {4, func(o binary.ByteOrder, b []byte) float64 { return float64(o.Uint32(b)) }},
		"float":  {4, func(o binary.ByteOrder, b []byte) float64 { return float64(math.Float32frombits(o.Uint32(b))) }},
		"double": {8, func(o binary.ByteOrder, b []byte) float64 { return math.Float64frombits(o.Uint64(b)) }},
	}
	for other, name := range map[string]string{"int8": "char", "uint8": "uchar", "int16": "short", "uint16": "ushort", "int32": "int", "uint32": "uint", "float32": "float", "float64": "double"} {
		t[other] = t[name]
	}
	return t
}()

type plyProperty struct {
	name     string
	typ      plyType
	isList   bool
	lengths  plyType
	integral bool
}

type plyElement struct {
	name  string
	count int
	props []plyProperty
}

// plyUV are the names under which vertices carry UVs, first one of a pair.
var plyUV = map[string]int{"s": 0, "t": 1, "u": 0, "v": 1, "texture_u": 0, "texture_v": 1, "texture_s": 0, "texture_t": 1}

// ReadPLY reads PLY as text or as bytes of either order: vertices with positions, normals, UVs and
// colours, and polygons, with UVs of their own when the file gives them. Positions are taken as
// metres with Y up.
func ReadPLY(name string, data []byte, _ Files) (*Model, error) {
	r := plyReader{name: name, data: data}
	if err := r.header(); err != nil {
		return nil, err
	}
	for i := range r.elements {
		e := &r.elements[i]
		var err error
		switch e.name {
		case "vertex":
			err = r.vertices(e)
		case "face":
			err = r.facesOf(e)
		default:
			err = r.pass(e)
		}
		if err != nil {
			return nil, err
		}
	}
	m := r.b.m
	for _, u := range r.used {
		if !u {
			m.Loose++
		}
	}
	m.Channels[0].Bare = r.bare
	if r.short > 0 {
		m.note("%d faces with fewer than three corners were passed over.", r.short)
	}
	return r.b.done(), nil
}

type plyReader struct {
	name     string
	data     []byte
	at       int
	line     int
	order    binary.ByteOrder // nil for text
	elements []plyElement
	words    [][]byte // left on the current line of text
	corners  []corner
	hasUV    bool
	used     []bool
	b        *builder
	bare     int
	short    int
}

func (r *plyReader) fail(what, do string) error {
	place := fmt.Sprintf("byte %d", r.at)
	if r.order == nil {
		place = fmt.Sprintf("line %d", max(1, r.line))
	}
	return &Error{r.name, place, what, do}
}

func (r *plyReader) nextLine() ([]byte, bool) {
	if r.at >= len(r.data) {
		return nil, false
	}
	r.line++
	line := r.data[r.at:]
	if i := bytes.IndexByte(line, '\n'); i >= 0 {
		line = line[:i]
	}
	r.at += len(line) + 1
	return bytes.TrimRight(line, " \t\r"), true
}

const cutShort = "it is cut short; export or copy it again"

func (r *plyReader) header() error {
	first, _ := r.nextLine()
	if string(first) != "ply" {
		return r.fail("the file does not begin with “ply”", "check the ending, or export it again")
	}
	format, colours := "", false
	for {
		line, ok := r.nextLine()
		if !ok {
			return r.fail("the file ends inside its header", cutShort)
		}
		f := strings.Fields(string(line))
		if len(f) == 0 {
			continue
		}
		switch f[0] {
		case "format":
			if len(f) > 1 {
				format = f[1]
			}
		case "element":
			n, err := 0, error(nil)
			if len(f) == 3 {
				n, err = strconv.Atoi(f[2])
			}
			if len(f) != 3 || err != nil || n < 0 {
				return r.fail("an element has no name or count", "export it again")
			}
			if limit := max(MaxVertices, MaxTriangles); n > limit {
				return r.fail(fmt.Sprintf("%d of “%s”, over the limit of %d", n, clip([]byte(f[1])), limit), "split the model")
			}
			r.elements = append(r.elements, plyElement{name: f[1], count: n})
		case "property":
			if len(r.elements) == 0 {
				return r.fail("a property comes before any element", "export it again")
			}
			var p plyProperty
			var ok bool
			switch {
			case len(f) == 3:
				p.typ, ok = plyTypes[f[1]]
				p.name, p.integral = f[2], !strings.Contains(f[1], "float") && f[1] != "double"
			case len(f) == 5 && f[1] == "list":
				var ok2 bool
				p.lengths, ok = plyTypes[f[2]]
				p.typ, ok2 = plyTypes[f[3]]
				p.name, p.isList, ok = f[4], true, ok && ok2
			}
			if !ok {
				return r.fail("a property has a type that the format does not know", "export it again")
			}
			e := &r.elements[len(r.elements)-1]
			if e.props = append(e.props, p); len(e.props) > 256 {
				return r.fail("more than 256 properties", "export only positions, normals, UVs and colours")
			}
			colours = colours || p.name == "red" && e.name == "vertex"
		case "end_header":
			switch format {
			case "ascii":
			case "binary_little_endian":
				r.order = binary.LittleEndian
			case "binary_big_endian":
				r.order = binary.BigEndian
			default:
				return r.fail(fmt.Sprintf("the format “%s” is not one of PLY's three", clip([]byte(format))), "export it again")
			}
			r.b = newBuilder(1, colours)
			return r.sizes()
		}
	}
}

// sizes holds the declared counts against the bytes that are left, before memory is taken.
func (r *plyReader) sizes() error {
	left := int64(len(r.data) - r.at)
	if left < 0 {
		left = 0
	}
	for _, e := range r.elements {
		least := int64(0)
		for _, p := range e.props {
			switch {
			case r.order == nil:
				least += 2 // a digit and a blank
			case p.isList:
				least += int64(p.lengths.size)
			default:
				least += int64(p.typ.size)
			}
		}
		if e.count > 0 && (least == 0 || int64(e.count) > (left+1)/least) {
			return r.fail(fmt.Sprintf("says it has %d of “%s”, more than its %d bytes hold", e.count, clip([]byte(e.name)), left), cutShort)
		}
	}
	return nil
}

// number reads the next number of a type.
func (r *plyReader) number(t plyType) (float64, error) {
	if r.order != nil {
		if t.size > len(r.data)-r.at {
			return 0, r.fail("the file ends inside its data", cutShort)
		}
		v := t.read(r.order, r.data[r.at:])
		r.at += t.size
		return v, nil
	}
	for len(r.words) == 0 {
		line, ok := r.nextLine()
		if !ok {
			return 0, r.fail("the file ends inside its data", cutShort)
		}
		r.words = splitFields(line, r.words[:0])
	}
	w := r.words[0]
	r.words = r.words[1:]
	v, err := strconv.ParseFloat(string(w), 64)
	if err != nil {
		return 0, r.fail(fmt.Sprintf("“%s” is not a number", clip(w)), "export it again")
	}
	return v, nil
}

// list reads a list's length and numbers into out.
func (r *plyReader) list(p plyProperty, out []float64) ([]float64, error) {
	n, err := r.number(p.lengths)
	if err != nil {
		return nil, err
	}
	if !(n >= 0) || n > 1<<20 || n != math.Trunc(n) {
		return nil, r.fail(fmt.Sprintf("a list says it has %g entries", n), "the file is damaged; export it again")
	}
	for range int(n) {
		v, err := r.number(p.typ)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

func (r *plyReader) pass(e *plyElement) error {
	var scrap []float64
	for range e.count {
		for _, p := range e.props {
			var err error
			if p.isList {
				scrap, err = r.list(p, scrap[:0])
			} else {
				_, err = r.number(p.typ)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

func (r *plyReader) vertices(e *plyElement) error {
	r.corners = make([]corner, 0, e.count)
	r.used = make([]bool, e.count)
	seen := map[string]bool{}
	for _, p := range e.props {
		seen[p.name] = true
		_, uv := plyUV[p.name]
		r.hasUV = r.hasUV || uv
	}
	if !seen["x"] || !seen["y"] || !seen["z"] {
		return r.fail("its vertices have no x, y and z", "export it again")
	}
	var scrap []float64
	for i := range e.count {
		c := corner{c: [3]uint8{255, 255, 255}}
		for _, p := range e.props {
			if p.isList {
				var err error
				if scrap, err = r.list(p, scrap[:0]); err != nil {
					return err
				}
				continue
			}
			w, err := r.number(p.typ)
			if err != nil {
				return err
			}
			v := float32(w)
			colour := func() uint8 {
				if p.integral {
					return uint8(max(0, min(255, w)))
				}
				return uint8(geom.Clamp01(v)*255 + 0.5)
			}
			switch p.name {
			case "x":
				c.p.X = v
			case "y":
				c.p.Y = v
			case "z":
				c.p.Z = v
			case "nx":
				c.n.X = v
			case "ny":
				c.n.Y = v
			case "nz":
				c.n.Z = v
			case "red":
				c.c[0] = colour()
			case "green":
				c.c[1] = colour()
			case "blue":
				c.c[2] = colour()
			default:
				if k, ok := plyUV[p.name]; ok {
					if k == 0 {
						c.t[0].X = v
					} else {
						c.t[0].Y = v
					}
				}
			}
		}
		if !c.p.Finite() || !c.n.Finite() || !c.t[0].Finite() {
			return r.fail(fmt.Sprintf("vertex %d has a number that is not finite", i), "export it again")
		}
		r.corners = append(r.corners, c)
	}
	return nil
}

func (r *plyReader) facesOf(e *plyElement) error {
	mat, part := r.b.material("material"), r.b.part("part")
	var idx, uv, scrap []float64
	var poly []uint32
	var flat []geom.Vec3
	for f := range e.count {
		idx, uv = idx[:0], uv[:0]
		for _, p := range e.props {
			var err error
			switch {
			case !p.isList:
				_, err = r.number(p.typ)
			case p.name == "vertex_indices" || p.name == "vertex_index":
				idx, err = r.list(p, idx)
			case p.name == "texcoord":
				uv, err = r.list(p, uv)
			default:
				scrap, err = r.list(p, scrap[:0])
			}
			if err != nil {
				return err
			}
		}
		if len(idx) < 3 {
			r.short++
			continue
		}
		if len(r.b.m.Tris)+len(idx) > MaxTriangles {
			return r.fail(fmt.Sprintf("more than %d triangles", MaxTriangles), "split the model")
		}
		own := len(uv) == 2*len(idx)
		poly, flat = poly[:0], flat[:0]
		for k, v := range idx {
			if !(v >= 0) || v >= float64(len(r.corners)) || v != math.Trunc(v) {
				return r.fail(fmt.Sprintf("face %d asks for vertex %g of %d", f, v, len(r.corners)), "the file is damaged; export it again")
			}
			r.used[int(v)] = true
			c := r.corners[int(v)]
			if own {
				if c.t[0] = (geom.Vec2{X: float32(uv[2*k]), Y: float32(uv[2*k+1])}); !c.t[0].Finite() {
					return r.fail(fmt.Sprintf("face %d has a UV that is not finite", f), "export it again")
				}
			} else if !r.hasUV {
				r.bare++
			}
			poly = append(poly, r.b.vertex(c))
			flat = append(flat, c.p)
		}
		triangulate(flat, func(a, b, c int) {
			r.b.triangle([3]uint32{poly[a], poly[b], poly[c]}, mat, part)
		})
	}
	return nil
}

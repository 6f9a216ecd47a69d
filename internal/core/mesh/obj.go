package mesh

import (
	"bytes"
	"fmt"
	"path"
	"strconv"
	"strings"

	"crust/internal/core/geom"
	"crust/internal/core/imgfile"
)

// ReadOBJ reads Wavefront OBJ: v (with colours), vt, vn, f with any number of corners and negative
// indices, o, g, usemtl and mtllib. Lines and points are passed over with a note. Positions are
// taken as metres with Y up.
func ReadOBJ(name string, data []byte, files Files) (*Model, error) {
	r := objReader{name: name, b: newBuilder(), files: files, skipped: map[string]int{}}
	r.mat, r.part = -1, -1
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	if i := bytes.IndexByte(data[:min(len(data), 4096)], 0); i >= 0 {
		return nil, &Error{name, fmt.Sprintf("byte %d", i), "this is not text, so it is not an OBJ file", "check the ending, or export it again as text"}
	}
	var joined []byte
	for len(data) > 0 {
		r.line++
		end := bytes.IndexByte(data, '\n')
		var line []byte
		if end < 0 {
			line, data = data, nil
		} else {
			line, data = data[:end], data[end+1:]
		}
		line = bytes.TrimRight(line, " \t\r")
		if n := len(line); n > 0 && line[n-1] == '\\' {
			joined = append(append(joined, line[:n-1]...), ' ')
			continue
		}
		if joined != nil {
			line = append(joined, line...)
			joined = nil
		}
		if err := r.statement(line); err != nil {
			return nil, err
		}
	}
	for word, n := range r.skipped {
		r.b.m.Notes = append(r.b.m.Notes, fmt.Sprintf("%d “%s” statements were passed over; Crust textures faces only.", n, word))
	}
	r.b.m.HasUV = r.uvCorners > 0 && r.bareCorners == 0
	if r.uvCorners > 0 && r.bareCorners > 0 {
		r.b.m.Notes = append(r.b.m.Notes, fmt.Sprintf("%d face corners have no UV.", r.bareCorners))
	}
	if err := r.libraries(); err != nil {
		return nil, err
	}
	return r.b.m, nil
}

type objReader struct {
	name                   string
	line                   int
	b                      *builder
	files                  Files
	pos                    []geom.Vec3
	col                    [][3]uint8
	uv                     []geom.Vec2
	nrm                    []geom.Vec3
	mat, part              int32
	libs                   []string
	skipped                map[string]int
	uvCorners, bareCorners int
	fields                 [][]byte
	face                   []corner
	poly                   []uint32
	flat                   []geom.Vec3
}

func (r *objReader) fail(what, do string) error {
	return &Error{r.name, fmt.Sprintf("line %d", r.line), what, do}
}

func (r *objReader) statement(line []byte) error {
	f := splitFields(line, r.fields[:0])
	r.fields = f
	if len(f) == 0 || f[0][0] == '#' {
		return nil
	}
	rest := func() string { return strings.TrimSpace(string(line[len(f[0])+bytes.Index(line, f[0]):])) }
	switch string(f[0]) {
	case "v":
		if err := r.vertex(f[1:]); err != nil {
			return err
		}
	case "vt":
		v, err := r.numbers(f[1:], 1, 2)
		if err != nil {
			return err
		}
		r.uv = append(r.uv, geom.Vec2{X: v[0], Y: v[1]})
	case "vn":
		v, err := r.numbers(f[1:], 3, 3)
		if err != nil {
			return err
		}
		r.nrm = append(r.nrm, geom.Vec3{X: v[0], Y: v[1], Z: v[2]})
	case "f":
		return r.polygon(f[1:])
	case "o", "g":
		r.part = r.b.part(named(rest(), "part"))
	case "usemtl":
		r.mat = r.b.material(named(rest(), "material"))
	case "mtllib":
		if lib := rest(); len(r.libs) < MaxNames {
			r.libs = append(r.libs, lib)
		}
	case "l", "p", "curv", "surf":
		r.skipped[string(f[0])]++
	}
	if len(r.pos) > MaxVertices || len(r.uv) > MaxVertices || len(r.nrm) > MaxVertices {
		return r.fail(fmt.Sprintf("more than %d vertices", MaxVertices), "split the model")
	}
	if len(r.b.m.Parts) > MaxNames || len(r.b.m.Materials) > MaxNames {
		return r.fail(fmt.Sprintf("more than %d named parts or materials", MaxNames), "join parts before exporting")
	}
	return nil
}

func named(s, fallback string) string {
	if s == "" {
		return fallback
	}
	return s
}

func (r *objReader) vertex(f [][]byte) error {
	v, err := r.numbers(f, 3, 7)
	if err != nil {
		return err
	}
	r.pos = append(r.pos, geom.Vec3{X: v[0], Y: v[1], Z: v[2]})
	if len(f) >= 6 {
		for len(r.col) < len(r.pos)-1 {
			r.col = append(r.col, [3]uint8{255, 255, 255})
		}
		var c [3]uint8
		for k := range c {
			c[k] = uint8(geom.Clamp01(v[3+k])*255 + 0.5)
		}
		r.col = append(r.col, c)
	}
	return nil
}

// numbers reads at least need and at most most finite numbers; missing ones are zero.
func (r *objReader) numbers(f [][]byte, need, most int) (out [7]float32, err error) {
	if len(f) < need {
		return out, r.fail(fmt.Sprintf("%d numbers where %d are needed", len(f), need), "export the file again")
	}
	for i := 0; i < len(f) && i < most; i++ {
		v, err := strconv.ParseFloat(string(f[i]), 32)
		if err != nil || v*0 != 0 {
			return out, r.fail(fmt.Sprintf("“%s” is not a finite number", clip(f[i])), "export the file again")
		}
		out[i] = float32(v)
	}
	return out, nil
}

func clip(b []byte) string {
	if len(b) > 24 {
		return strings.ToValidUTF8(string(b[:24]), "?") + "…"
	}
	return strings.ToValidUTF8(string(b), "?")
}

func (r *objReader) index(b []byte, have int, what string) (int, error) {
	n, err := strconv.Atoi(string(b))
	if err != nil {
		return 0, r.fail(fmt.Sprintf("“%s” is not an index", clip(b)), "export the file again")
	}
	i := n - 1
	if n < 0 {
		i = have + n
	}
	if n == 0 || i < 0 || i >= have {
		return 0, r.fail(fmt.Sprintf("the face asks for %s %d, but the file has %d so far", what, n, have), "the file is damaged; export it again")
	}
	return i, nil
}

func (r *objReader) polygon(f [][]byte) error {
	if len(f) < 3 {
		r.skipped["face with fewer than three corners"]++
		return nil
	}
	if r.mat < 0 {
		r.mat = r.b.material("material")
	}
	if r.part < 0 {
		r.part = r.b.part("part")
	}
	r.poly, r.flat = r.poly[:0], r.flat[:0]
	for _, word := range f {
		var c corner
		at := [3][]byte{}
		k := 0
		for k < 2 {
			i := bytes.IndexByte(word, '/')
			if i < 0 {
				break
			}
			at[k], word = word[:i], word[i+1:]
			k++
		}
		at[k] = word
		i, err := r.index(at[0], len(r.pos), "vertex")
		if err != nil {
			return err
		}
		c.p = r.pos[i]
		if len(r.col) > 0 {
			c.c = [3]uint8{255, 255, 255}
			if i < len(r.col) {
				c.c = r.col[i]
			}
		}
		if len(at[1]) > 0 {
			j, err := r.index(at[1], len(r.uv), "UV")
			if err != nil {
				return err
			}
			c.t = r.uv[j]
			r.uvCorners++
		} else {
			r.bareCorners++
		}
		if len(at[2]) > 0 {
			j, err := r.index(at[2], len(r.nrm), "normal")
			if err != nil {
				return err
			}
			c.n = r.nrm[j]
		}
		r.poly = append(r.poly, r.b.vertex(c, len(r.col) > 0))
		r.flat = append(r.flat, c.p)
	}
	if len(r.b.m.Tris)+len(r.poly) > MaxTriangles {
		return r.fail(fmt.Sprintf("more than %d triangles", MaxTriangles), "split the model")
	}
	triangulate(r.flat, func(a, b, c int) {
		r.b.triangle([3]uint32{r.poly[a], r.poly[b], r.poly[c]}, r.mat, r.part)
	})
	return nil
}

// triangulate cuts a polygon into triangles: convex ones as a fan, others by clipping ears
// (Meisters, Polygons Have Ears, 1975) in the plane of the polygon's Newell normal.
func triangulate(p []geom.Vec3, emit func(a, b, c int)) {
	n := len(p)
	if n == 3 {
		emit(0, 1, 2)
		return
	}
	var normal geom.Vec3
	for i := range p {
		normal = normal.Add(p[i].Cross(p[(i+1)%n]))
	}
	turn := func(a, b, c int) float32 { return p[b].Sub(p[a]).Cross(p[c].Sub(p[b])).Dot(normal) }
	convex := true
	for i := range p {
		convex = convex && turn(i, (i+1)%n, (i+2)%n) >= 0
	}
	if convex || n > 4096 {
		for k := 2; k < n; k++ {
			emit(0, k-1, k)
		}
		return
	}
	left := make([]int, n)
	for i := range left {
		left[i] = i
	}
	inside := func(q, a, b, c int) bool {
		s := func(i, j int) float32 { return p[j].Sub(p[i]).Cross(p[q].Sub(p[i])).Dot(normal) }
		return s(a, b) >= 0 && s(b, c) >= 0 && s(c, a) >= 0
	}
	for len(left) > 3 {
		cut := -1
		for i := range left {
			a, b, c := left[(i+len(left)-1)%len(left)], left[i], left[(i+1)%len(left)]
			if turn(a, b, c) <= 0 {
				continue
			}
			ear := true
			for _, q := range left {
				if q != a && q != b && q != c && inside(q, a, b, c) {
					ear = false
					break
				}
			}
			if ear {
				emit(a, b, c)
				cut = i
				break
			}
		}
		if cut < 0 {
			break
		}
		left = append(left[:cut], left[cut+1:]...)
	}
	for k := 2; k < len(left); k++ {
		emit(left[0], left[k-1], left[k])
	}
}

func (r *objReader) libraries() error {
	for _, lib := range r.libs {
		data, err := r.files(path.Base(strings.ReplaceAll(lib, "\\", "/")))
		if err != nil {
			r.b.m.Notes = append(r.b.m.Notes, fmt.Sprintf("The material library “%s” was not given; slots keep their names.", lib))
			continue
		}
		if err := r.library(lib, data); err != nil {
			return err
		}
	}
	return nil
}

func (r *objReader) library(lib string, data []byte) error {
	var mat *Material
	for n, line := range strings.Split(string(data), "\n") {
		f := strings.Fields(line)
		if len(f) < 2 {
			continue
		}
		switch f[0] {
		case "newmtl":
			mat = nil
			if i, ok := r.b.mat[strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(line), "newmtl"))]; ok {
				mat = &r.b.m.Materials[i]
			}
		case "Kd":
			for k := 0; k < 3 && k+1 < len(f) && mat != nil; k++ {
				v, err := strconv.ParseFloat(f[k+1], 32)
				if err != nil || v*0 != 0 {
					return &Error{lib, fmt.Sprintf("line %d", n+1), fmt.Sprintf("“%s” is not a finite number", clip([]byte(f[k+1]))), "export the materials again"}
				}
				mat.Colour[k] = geom.Clamp01(float32(v))
			}
		case "map_Kd":
			pic := path.Base(strings.ReplaceAll(f[len(f)-1], "\\", "/"))
			data, err := r.files(pic)
			if err != nil {
				r.b.m.Notes = append(r.b.m.Notes, fmt.Sprintf("The picture “%s” was not given.", pic))
				continue
			}
			if _, err := imgfile.Check(pic, data); err != nil {
				return err
			}
			r.b.m.Pictures = append(r.b.m.Pictures, pic)
		}
	}
	return nil
}

// splitFields is bytes.Fields into a slice that is kept from line to line.
func splitFields(b []byte, out [][]byte) [][]byte {
	i := 0
	for i < len(b) {
		for i < len(b) && (b[i] == ' ' || b[i] == '\t') {
			i++
		}
		j := i
		for j < len(b) && b[j] != ' ' && b[j] != '\t' {
			j++
		}
		if j > i {
			out = append(out, b[i:j])
		}
		i = j
	}
	return out
}

package mesh

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf16"

	"crust/internal/core/geom"
	"crust/internal/core/par"
)

// ReadOBJ reads Wavefront OBJ: v (with colours), vt, vn, f with any number of corners and negative
// indices, o, g, s, usemtl and mtllib. Lines and points are passed over with a note. Positions are
// taken as metres with Y up. The text is read in pieces on all cores and joined in order.
func ReadOBJ(name string, data []byte, files Files) (*Model, error) {
	data = plainText(data)
	if i := bytes.IndexByte(data[:min(len(data), 4096)], 0); i >= 0 {
		return nil, &Error{name, fmt.Sprintf("byte %d", i), "this is not text, so it is not an OBJ file", "check the ending, or export it again as text"}
	}
	r := objReader{name: name, data: data, files: files}
	r.cut()
	if err := r.each((*objPiece).count); err != nil {
		return nil, err
	}
	if err := r.room(); err != nil {
		return nil, err
	}
	if err := r.each((*objPiece).read); err != nil {
		return nil, err
	}
	if err := r.joinPieces(); err != nil {
		return nil, err
	}
	if err := r.libraries(); err != nil {
		return nil, err
	}
	return r.b.m, nil
}

// plainText turns UTF-16 with a byte order mark into UTF-8 and drops the mark of either.
func plainText(data []byte) []byte {
	var order binary.ByteOrder
	switch {
	case bytes.HasPrefix(data, []byte("\xef\xbb\xbf")):
		return data[3:]
	case bytes.HasPrefix(data, []byte("\xff\xfe")):
		order = binary.LittleEndian
	case bytes.HasPrefix(data, []byte("\xfe\xff")):
		order = binary.BigEndian
	default:
		return data
	}
	u := make([]uint16, 0, len(data)/2)
	for i := 2; i+1 < len(data); i += 2 {
		u = append(u, order.Uint16(data[i:]))
	}
	return []byte(string(utf16.Decode(u)))
}

type objReader struct {
	name   string
	data   []byte
	files  Files
	pieces []*objPiece
	pos    []geom.Vec3
	col    [][3]float32 // as long as pos when some vertex has a colour
	uv     []geom.Vec2
	nrm    []geom.Vec3
	b      *builder
	libs   []string
}

// objPiece is a run of whole lines.
type objPiece struct {
	r          *objReader
	from, to   int
	v, t, n    int // statements in this piece
	v0, t0, n0 int // statements before it
	coloured   bool
	corners    []objCorner
	faces      []int32 // corners of each face
	marks      []objMark
	skipped    map[string]int
	err        error
	fields     [][]byte
	joined     []byte
}

// objCorner names a corner's attributes, −1 for none.
type objCorner struct{ v, t, n int32 }

// objMark is a statement that holds from a face on.
type objMark struct {
	face int
	word string
	name string
}

// pieceBytes is the length of a piece; some hundreds keep all cores busy on a large file.
const pieceBytes = 256 << 10

// cut divides the text at ends of lines that are not continued.
func (r *objReader) cut() {
	for from := 0; from < len(r.data); {
		to := min(len(r.data), from+pieceBytes)
		for to < len(r.data) {
			i := bytes.IndexByte(r.data[to:], '\n')
			if i < 0 {
				to = len(r.data)
				break
			}
			to += i + 1
			line := bytes.TrimRight(r.data[from:to], " \t\r\n")
			if len(line) == 0 || line[len(line)-1] != '\\' {
				break
			}
		}
		r.pieces = append(r.pieces, &objPiece{r: r, from: from, to: to})
		from = to
	}
}

// each runs f over all pieces and returns the first piece's error.
func (r *objReader) each(f func(p *objPiece)) error {
	_ = par.Blocks(context.Background(), len(r.pieces), 1, func(_, from, _ int) { f(r.pieces[from]) })
	for _, p := range r.pieces {
		if p.err != nil {
			return p.err
		}
	}
	return nil
}

// lines calls f with each statement's words until it returns false. at is where the line begins.
func (p *objPiece) lines(f func(at int, line []byte) bool) {
	data := p.r.data[:p.to]
	for at := p.from; at < p.to; {
		begin := at
		line := data[at:]
		if end := bytes.IndexByte(line, '\n'); end >= 0 {
			line = line[:end]
		}
		at += len(line) + 1
		line = bytes.TrimRight(line, " \t\r")
		if n := len(line); n > 0 && line[n-1] == '\\' {
			p.joined = append(p.joined[:0], line[:n-1]...)
			for at < p.to {
				more := data[at:]
				if end := bytes.IndexByte(more, '\n'); end >= 0 {
					more = more[:end]
				}
				at += len(more) + 1
				more = bytes.TrimRight(more, " \t\r")
				p.joined = append(p.joined, ' ')
				if n := len(more); n > 0 && more[n-1] == '\\' {
					p.joined = append(p.joined, more[:n-1]...)
					continue
				}
				p.joined = append(p.joined, more...)
				break
			}
			line = p.joined
		}
		for len(line) > 0 && (line[0] == ' ' || line[0] == '\t') {
			line = line[1:]
		}
		if len(line) > 0 && line[0] != '#' && !f(begin, line) {
			return
		}
	}
}

func isBlank(c byte) bool { return c == ' ' || c == '\t' }

// count counts the vertex statements.
func (p *objPiece) count() {
	p.lines(func(_ int, l []byte) bool {
		if len(l) < 2 || l[0] != 'v' {
			return true
		}
		switch {
		case isBlank(l[1]):
			p.v++
		case l[1] == 't' && len(l) > 2 && isBlank(l[2]):
			p.t++
		case l[1] == 'n' && len(l) > 2 && isBlank(l[2]):
			p.n++
		}
		return true
	})
}

// room makes space for what was counted.
func (r *objReader) room() error {
	v, t, n := 0, 0, 0
	for _, p := range r.pieces {
		p.v0, p.t0, p.n0 = v, t, n
		v, t, n = v+p.v, t+p.t, n+p.n
	}
	if max(v, t, n) > MaxVertices {
		return &Error{r.name, "", fmt.Sprintf("more than %d vertices", MaxVertices), "split the model"}
	}
	r.pos, r.uv, r.nrm = make([]geom.Vec3, v), make([]geom.Vec2, t), make([]geom.Vec3, n)
	r.col = make([][3]float32, v)
	return nil
}

func (p *objPiece) fail(at int, what, do string) {
	line := 1 + bytes.Count(p.r.data[:at], []byte("\n"))
	p.err = &Error{p.r.name, fmt.Sprintf("line %d", line), what, do}
}

// read reads the statements of a piece into the arrays and its own lists.
func (p *objPiece) read() {
	p.skipped = map[string]int{}
	v, t, n := p.v0, p.t0, p.n0
	p.lines(func(at int, line []byte) bool {
		f := splitFields(line, p.fields[:0])
		p.fields = f
		rest := func() string { return strings.TrimSpace(string(line[len(f[0]):])) }
		switch string(f[0]) {
		case "v":
			x, ok := p.numbers(at, f[1:], 3, 7)
			if !ok {
				return false
			}
			p.r.pos[v] = geom.Vec3{X: x[0], Y: x[1], Z: x[2]}
			p.r.col[v] = [3]float32{1, 1, 1}
			if len(f) >= 7 {
				copy(p.r.col[v][:], x[min(len(f), 8)-4:]) // x y z [w] r g b
				p.coloured = true
			}
			v++
		case "vt":
			x, ok := p.numbers(at, f[1:], 1, 2)
			if !ok {
				return false
			}
			p.r.uv[t] = geom.Vec2{X: x[0], Y: x[1]}
			t++
		case "vn":
			x, ok := p.numbers(at, f[1:], 3, 3)
			if !ok {
				return false
			}
			p.r.nrm[n] = geom.Vec3{X: x[0], Y: x[1], Z: x[2]}
			n++
		case "f":
			return p.face(at, f[1:], v, t, n)
		case "o", "g", "s", "usemtl", "mtllib":
			p.marks = append(p.marks, objMark{len(p.faces), string(f[0]), rest()})
		case "l", "p", "curv", "surf":
			p.skipped[string(f[0])]++
		}
		return true
	})
}

func named(s, fallback string) string {
	if s == "" {
		return fallback
	}
	return s
}

// numbers reads at least need and at most most finite numbers; missing ones are zero.
func (p *objPiece) numbers(at int, f [][]byte, need, most int) (out [7]float32, ok bool) {
	if len(f) < need {
		p.fail(at, fmt.Sprintf("%d numbers where %d are needed", len(f), need), "export the file again")
		return out, false
	}
	for i := 0; i < len(f) && i < most; i++ {
		v, ok := parseFloat(f[i])
		if !ok {
			p.fail(at, fmt.Sprintf("“%s” is not a finite number", clip(f[i])), "export the file again")
			return out, false
		}
		out[i] = v
	}
	return out, true
}

var tens = [...]float64{1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15, 1e16, 1e17, 1e18, 1e19, 1e20, 1e21, 1e22}

// parseFloat reads a finite decimal number. Numbers of up to 15 digits take one division or
// multiplication of exact values (Clinger, How to Read Floating Point Numbers Accurately, 1990);
// others go to strconv.
func parseFloat(b []byte) (float32, bool) {
	i, neg := 0, false
	if len(b) > 0 && (b[0] == '-' || b[0] == '+') {
		neg, i = b[0] == '-', 1
	}
	var m uint64
	digits, point, seen, some := 0, 0, false, false
	for ; i < len(b); i++ {
		c := b[i]
		if c >= '0' && c <= '9' {
			m, some = m*10+uint64(c-'0'), true
			if m > 0 {
				digits++
			}
			if seen {
				point++
			}
			if digits > 15 {
				return slowFloat(b)
			}
		} else if c == '.' && !seen {
			seen = true
		} else {
			return slowFloat(b)
		}
	}
	if !some || point >= len(tens) {
		return slowFloat(b)
	}
	v := float64(m) / tens[point]
	if neg {
		v = -v
	}
	return float32(v), true
}

func slowFloat(b []byte) (float32, bool) {
	v, err := strconv.ParseFloat(string(b), 32)
	return float32(v), err == nil && v*0 == 0
}

func clip(b []byte) string {
	if len(b) > 24 {
		return strings.ToValidUTF8(string(b[:24]), "?") + "…"
	}
	return strings.ToValidUTF8(string(b), "?")
}

// face reads a polygon's corners. have counts the statements before this line, which negative
// indices count back from.
func (p *objPiece) face(at int, f [][]byte, v, t, n int) bool {
	if len(f) < 3 {
		p.skipped["face with fewer than three corners"]++
		return true
	}
	for _, word := range f {
		c := objCorner{-1, -1, -1}
		for k := range 3 {
			part := word
			i := bytes.IndexByte(word, '/')
			if i >= 0 && k < 2 {
				part, word = word[:i], word[i+1:]
			}
			if len(part) > 0 || k == 0 {
				var ok bool
				switch k {
				case 0:
					c.v, ok = p.index(at, part, v, len(p.r.pos), "vertex")
				case 1:
					c.t, ok = p.index(at, part, t, len(p.r.uv), "UV")
				case 2:
					c.n, ok = p.index(at, part, n, len(p.r.nrm), "normal")
				}
				if !ok {
					return false
				}
			}
			if i < 0 {
				break
			}
		}
		p.corners = append(p.corners, c)
	}
	p.faces = append(p.faces, int32(len(f)))
	return true
}

func (p *objPiece) index(at int, b []byte, sofar, have int, what string) (int32, bool) {
	n, digits, neg := 0, 0, false
	for i, c := range b {
		if i == 0 && (c == '-' || c == '+') {
			neg = c == '-'
			continue
		}
		if c < '0' || c > '9' || digits > 9 {
			digits = 0
			break
		}
		n = n*10 + int(c-'0')
		digits++
	}
	if digits == 0 {
		p.fail(at, fmt.Sprintf("“%s” is not an index", clip(b)), "export the file again")
		return 0, false
	}
	i := n - 1
	if neg {
		i, n = sofar-n, -n
	}
	if n == 0 || i < 0 || i >= have {
		p.fail(at, fmt.Sprintf("the face asks for %s %d, but the file has %d", what, n, have), "the file is damaged; export it again")
		return 0, false
	}
	return int32(i), true
}

// joinPieces makes the model from the pieces, in the order of the text.
func (r *objReader) joinPieces() error {
	r.b = newBuilder(1, false)
	m := r.b.m
	skipped := map[string]int{}
	faces, corners, scale := 0, 0, float32(1)
	for _, p := range r.pieces {
		faces, corners = faces+len(p.faces), corners+len(p.corners)
		r.b.colours = r.b.colours || p.coloured
		for k, n := range p.skipped {
			skipped[k] += n
		}
	}
	if corners-2*faces > MaxTriangles {
		return &Error{r.name, "", fmt.Sprintf("more than %d triangles", MaxTriangles), "split the model"}
	}
	if r.b.colours {
		for _, c := range r.col {
			if max(c[0], c[1], c[2]) > 1.01 {
				scale = 1. / 255
			}
		}
	}
	first := make([]uint32, len(r.pos)) // one more than the first vertex made from a position
	var next []uint32
	var keys []objCorner // of each vertex; in place of a missing normal stands −2 minus its smoothing group
	tris := corners - 2*faces
	m.Tris, m.Material, m.Part = make([][3]uint32, 0, tris), make([]int32, 0, tris), make([]int32, 0, tris)
	mat, part, smooth, bare, smoothed := int32(-1), int32(-1), int32(-1), 0, false
	var poly []uint32
	var flat []geom.Vec3
	uvs := &m.Channels[0].UVs
	for _, p := range r.pieces {
		at, mark := 0, 0
		for i, n := range append(p.faces, 0) {
			for ; mark < len(p.marks) && p.marks[mark].face == i; mark++ {
				switch k := p.marks[mark]; k.word {
				case "o", "g":
					part = r.b.part(named(k.name, "part"))
				case "usemtl":
					mat = r.b.material(named(k.name, "material"))
				case "mtllib":
					if len(r.libs) < MaxNames {
						r.libs = append(r.libs, k.name)
					}
				case "s":
					g, err := strconv.ParseInt(k.name, 10, 31)
					if err != nil || g < 0 {
						g = 0
					}
					smooth, smoothed = int32(g), true
				}
			}
			if len(m.Parts) > MaxNames || len(m.Materials) > MaxNames {
				return &Error{r.name, "", fmt.Sprintf("more than %d named parts or materials", MaxNames), "join parts before exporting"}
			}
			if n == 0 {
				break
			}
			if mat < 0 {
				mat = r.b.material("material")
			}
			if part < 0 {
				part = r.b.part("part")
			}
			poly, flat = poly[:0], flat[:0]
			for _, c := range p.corners[at : at+int(n)] {
				key := c
				if c.t < 0 {
					bare++
				}
				if c.n < 0 {
					key.n = -2 - smooth
				}
				v := first[c.v]
				for v != 0 && keys[v-1] != key {
					v = next[v-1]
				}
				if v == 0 {
					keys = append(keys, key)
					next = append(next, first[c.v])
					v = uint32(len(keys))
					first[c.v] = v
					m.Positions = append(m.Positions, r.pos[c.v])
					var nrm geom.Vec3
					if c.n >= 0 {
						nrm = r.nrm[c.n]
					}
					m.Normals = append(m.Normals, nrm)
					var uv geom.Vec2
					if c.t >= 0 {
						uv = r.uv[c.t]
					}
					*uvs = append(*uvs, uv)
					if r.b.colours {
						var q [3]uint8
						for k, x := range r.col[c.v] {
							q[k] = uint8(geom.Clamp01(x*scale)*255 + 0.5)
						}
						m.Colours = append(m.Colours, q)
					}
				}
				poly = append(poly, v-1)
				flat = append(flat, r.pos[c.v])
			}
			triangulate(flat, func(a, b, c int) {
				r.b.triangle([3]uint32{poly[a], poly[b], poly[c]}, mat, part)
				if smoothed || m.smooth != nil {
					for len(m.smooth) < len(m.Tris)-1 {
						m.smooth = append(m.smooth, -1)
					}
					m.smooth = append(m.smooth, smooth)
				}
			})
			at += int(n)
		}
		p.corners, p.faces = nil, nil
	}
	for _, v := range first {
		if v == 0 {
			m.Loose++
		}
	}
	for word, n := range skipped {
		m.note("%d “%s” statements were passed over; Crust textures faces only.", n, word)
	}
	m.Channels[0].Bare = bare
	if bare > 0 && bare < corners {
		m.note("%d face corners have no UV.", bare)
	}
	r.b.done()
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

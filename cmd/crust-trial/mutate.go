package main

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"hash/crc32"
	"math"
	"math/rand/v2"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
)

// mutate damages data in one to four ways. others are files of the same kind, of which pieces may come. Of zips mostly one of the files
// in them is damaged, and sums of PNGs are mostly made right again, so that what is damaged is read at all.
func mutate(r *rand.Rand, data []byte, others [][]byte) []byte {
	if bytes.HasPrefix(data, []byte("PK")) && r.IntN(4) > 0 {
		if files, err := unzip(data); err == nil && len(files) > 0 {
			at := r.IntN(len(files))
			files[at].data = mutate(r, files[at].data, [][]byte{files[r.IntN(len(files))].data})
			return zipOf(files)
		}
	}
	out := damage(r, data, others)
	if bytes.HasPrefix(out, pngSign) && r.IntN(4) > 0 {
		sumPNG(out)
	}
	return out
}

var pngSign = []byte("\x89PNG\r\n\x1a\n")

// sumPNG makes the sums of a PNG's chunks right (PNG, third edition, 5.3).
func sumPNG(data []byte) {
	for at := len(pngSign); at+12 <= len(data); {
		n := int(binary.BigEndian.Uint32(data[at:]))
		if n < 0 || n > len(data)-at-12 {
			return
		}
		binary.BigEndian.PutUint32(data[at+8+n:], crc32.ChecksumIEEE(data[at+4:at+8+n]))
		at += 12 + n
	}
}

func damage(r *rand.Rand, data []byte, others [][]byte) []byte {
	out := bytes.Clone(data)
	if json.Valid(out) && r.IntN(3) > 0 {
		return mutateJSON(r, out)
	}
	for range 1 + r.IntN(4) {
		if len(out) == 0 {
			return out
		}
		at := r.IntN(len(out))
		n := 1 + r.IntN(min(64, len(out)-at))
		switch r.IntN(9) {
		case 0: // bits
			for range 1 + r.IntN(8) {
				out[r.IntN(len(out))] ^= 1 << r.IntN(8)
			}
		case 1: // bytes
			for i := at; i < at+n; i++ {
				out[i] = byte(r.Uint32())
			}
		case 2: // a piece goes
			out = append(out[:at], out[at+n:]...)
		case 3: // a piece comes twice, or a thousand times
			piece := bytes.Repeat(out[at:at+n], []int{1, 2, 1000}[r.IntN(3)])
			out = append(out[:at], append(piece, out[at:]...)...)
		case 4: // its end goes
			out = out[:at]
		case 5: // a whole number, of four bytes or two, becomes an extreme one
			v := extremes[r.IntN(len(extremes))]
			if at+4 <= len(out) && r.IntN(2) == 0 {
				binary.LittleEndian.PutUint32(out[at&^3:], v)
			} else if at+2 <= len(out) {
				binary.BigEndian.PutUint16(out[at&^1:], uint16(v))
			}
		case 6: // a fraction becomes an extreme one
			if at+4 <= len(out) {
				binary.LittleEndian.PutUint32(out[at&^3:], math.Float32bits(fractions[r.IntN(len(fractions))]))
			}
		case 7: // a number in text becomes an odd one
			if found := numbers.FindAllIndex(out, 4000); len(found) > 0 {
				f := found[r.IntN(len(found))]
				out = append(out[:f[0]:f[0]], append([]byte(odd[r.IntN(len(odd))]), out[f[1]:]...)...)
			}
		case 8: // a piece of another file
			o := others[r.IntN(len(others))]
			if len(o) > 0 {
				from := r.IntN(len(o))
				out = append(out[:at:at], append(bytes.Clone(o[from:from+min(len(o)-from, 1+r.IntN(256))]), out[at:]...)...)
			}
		}
	}
	return out
}

var (
	extremes  = []uint32{0, 1, 0x7f, 0xff, 0x100, 0x7fff, 0x8000, 0xffff, 0x10000, 0x7fffffff, 0x80000000, 0xffffffff, 0xfffffffe, 1 << 24}
	fractions = []float32{0, float32(math.Copysign(0, -1)), 1e-38, 1e38, -1e38, float32(math.NaN()), float32(math.Inf(1)), float32(math.Inf(-1)), 1e9, -1}
	odd       = []string{"0", "-1", "1e30", "-1e30", "1e-30", "nan", "inf", "2147483648", "-2147483649", "99999999999999999999", "1000000", "0.5", "", "//", "1/2/3"}
	numbers   = regexp.MustCompile(`-?[0-9]+(\.[0-9]+)?(e-?[0-9]+)?`)
)

// mutateJSON gives one to three places of a document other values.
func mutateJSON(r *rand.Rand, data []byte) []byte {
	var tree any
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	if d.Decode(&tree) != nil {
		return data
	}
	for range 1 + r.IntN(3) {
		tree = changeOne(r, tree, 0)
	}
	out, err := json.Marshal(tree)
	if err != nil {
		return data
	}
	return out
}

// changeOne changes some place of a tree.
func changeOne(r *rand.Rand, v any, depth int) any {
	switch t := v.(type) {
	case map[string]any:
		if len(t) > 0 && (depth == 0 || r.IntN(5) > 0) {
			keys := make([]string, 0, len(t))
			for k := range t {
				keys = append(keys, k)
			}
			// The order of a map is random by itself; the seed has to decide.
			slices.Sort(keys)
			k := keys[r.IntN(len(keys))]
			switch r.IntN(12) {
			case 0:
				delete(t, k)
			case 1:
				t[k+"x"] = t[k]
			default:
				t[k] = changeOne(r, t[k], depth+1)
			}
			return t
		}
	case []any:
		if len(t) > 0 && (depth == 0 || r.IntN(5) > 0) {
			at := r.IntN(len(t))
			switch r.IntN(12) {
			case 0:
				return append(t[:at:at], t[at+1:]...)
			case 1:
				for range 2 << r.IntN(10) {
					t = append(t, t[at])
				}
				return t
			}
			t[at] = changeOne(r, t[at], depth+1)
			return t
		}
	case json.Number:
		if r.IntN(3) > 0 {
			f, _ := t.Float64()
			return []any{-f, f * 1e6, f + 1, 0, -1, 1e30, 1e308, 2147483648, 0.5}[r.IntN(9)]
		}
	}
	switch r.IntN(9) {
	case 0:
		return nil
	case 1:
		return strings.Repeat("A", 1<<r.IntN(17))
	case 2:
		return map[string]any{"a": 1}
	case 3:
		return []any{}
	case 4:
		deep := any(1)
		for range 2000 {
			deep = []any{deep}
		}
		return deep
	case 5:
		return true
	case 6:
		return "\x00\n\u202e../../etc"
	case 7:
		return json.Number(strconv.Itoa(r.IntN(1 << 30)))
	}
	return ""
}

// Go's own words, which say nothing to those who work with a file.
var gosOwn = regexp.MustCompile(`runtime error|goroutine|panic|nil pointer|invalid memory|out of range \[|strconv\.|json: |xml: |(^|[^.\w])(zip|png|jpeg|tiff|lzw): |flate: |zlib: |gzip: |\bEOF\b|unmarshal|invalid character|invalid syntax|parsing "|%!|<nil>|0xc0|\*[a-z]+\.[A-Z]|interface \{\}|sql: |UNIQUE constraint|illegal base64|\bmap\[|&\{|\[\]byte|context canceled`)

// plainWords tells whether a message is one clear line: neither empty nor long, without Go's own words and without control bytes.
func plainWords(text string) bool {
	return text != "" && len(text) < 900 && !gosOwn.MatchString(text) && !strings.ContainsFunc(text, func(r rune) bool { return unicode.IsControl(r) || r == unicode.ReplacementChar })
}

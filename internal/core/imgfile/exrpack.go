package imgfile

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"io"
	"math"

	"crust/internal/core/pixel"
)

// The compressions of OpenEXR (Academy Software Foundation, OpenEXR Technical Introduction, “Data Compression”).
const (
	exrNone = iota
	exrRLE
	exrZIPS
	exrZIP
	exrPIZ
	exrPXR24
	exrB44
	exrB44A
)

// exrMethods are the compressions that are read: how many rows a block of scan lines has, and what undoes it.
var exrMethods = map[int]struct {
	rows   int
	unpack func(b []byte, k *exrBlock) ([]byte, error)
}{
	exrNone:  {1, nil},
	exrRLE:   {1, func(b []byte, k *exrBlock) ([]byte, error) { return exrParted(unrun(b, k.size)) }},
	exrZIPS:  {1, exrUnzip},
	exrZIP:   {16, exrUnzip},
	exrPIZ:   {32, exrWavelets},
	exrPXR24: {16, exrPlanes},
	exrB44:   {32, exrBlocks},
	exrB44A:  {32, exrBlocks},
}

// exrNames of the others, for the message.
var exrNames = map[int]string{8: "DWAA", 9: "DWAB", 10: "HTJ2K"}

// exrBlock is the shape of a block's pixels: rows of channels one after the other.
type exrBlock struct {
	channels      []exrChannel
	width, height int
	size          int // bytes
}

// exrUnpack undoes a block's compression.
func exrUnpack(b []byte, method int, k *exrBlock) ([]byte, error) {
	if len(b) == k.size {
		return b, nil // what did not get smaller was left as it is
	}
	unpack := exrMethods[method].unpack
	if unpack == nil {
		return nil, errShort
	}
	out, err := unpack(b, k)
	if err == nil && len(out) != k.size {
		err = errShort
	}
	return out, err
}

// unrun undoes runs of equal bytes.
func unrun(b []byte, size int) ([]byte, error) {
	out := make([]byte, 0, size)
	for len(b) > 0 {
		n := int(int8(b[0]))
		b = b[1:]
		if n < 0 {
			if n = -n; n > len(b) {
				return nil, errShort
			}
			out, b = append(out, b[:n]...), b[n:]
		} else {
			if len(b) == 0 {
				return nil, errShort
			}
			for range n + 1 {
				out = append(out, b[0])
			}
			b = b[1:]
		}
		if len(out) > size {
			return nil, errors.New("too much comes out of it")
		}
	}
	return out, nil
}

func inflate(b []byte, size int) ([]byte, error) {
	z, err := zlib.NewReader(bytes.NewReader(b))
	if err != nil {
		return nil, err
	}
	out := make([]byte, size)
	_, err = io.ReadFull(z, out)
	return out, err
}

func exrUnzip(b []byte, k *exrBlock) ([]byte, error) { return exrParted(inflate(b, k.size)) }

// exrParted puts bytes together that were parted, even ones before odd ones, and written as differences.
func exrParted(parted []byte, err error) ([]byte, error) {
	if err != nil {
		return nil, err
	}
	for i := 1; i < len(parted); i++ {
		parted[i] += parted[i-1] - 128
	}
	out, half := make([]byte, len(parted)), (len(parted)+1)/2
	for i := range out {
		if i%2 == 0 {
			out[i] = parted[i/2]
		} else {
			out[i] = parted[half+i/2]
		}
	}
	return out, nil
}

// exrPlanes undoes PXR24: rows of channels in planes of bytes, the highest first, zipped; what the planes hold are
// differences along the row. Floats have lost their lowest byte.
func exrPlanes(b []byte, k *exrBlock) ([]byte, error) {
	planes := func(c exrChannel) int {
		if c.bytes == 4 && !c.whole {
			return 3
		}
		return c.bytes
	}
	size := 0
	for _, c := range k.channels {
		size += planes(c) * k.width * k.height
	}
	in, err := inflate(b, size)
	if err != nil {
		return nil, err
	}
	out := make([]byte, 0, k.size)
	for range k.height {
		for _, c := range k.channels {
			n, v := planes(c), uint32(0)
			for x := range k.width {
				d := uint32(0)
				for i := range n {
					d = d<<8 | uint32(in[i*k.width+x])
				}
				if n == 3 {
					d <<= 8
				}
				v += d
				if c.bytes == 2 {
					out = binary.LittleEndian.AppendUint16(out, uint16(v))
				} else {
					out = binary.LittleEndian.AppendUint32(out, v)
				}
			}
			in = in[n*k.width:]
		}
	}
	return out, nil
}

// exrBlocks undoes B44 and B44A: channels one after the other, halves in squares of 4 × 4 of which each takes 14
// bytes, or three when all are equal; other channels stand as they are.
func exrBlocks(b []byte, k *exrBlock) ([]byte, error) {
	out := make([]byte, k.size)
	perRow := k.size / k.height
	at := 0 // of the channel in a row
	for _, c := range k.channels {
		if c.bytes != 2 {
			row := c.bytes * k.width
			if len(b) < row*k.height {
				return nil, errShort
			}
			for y := range k.height {
				copy(out[y*perRow+at:], b[y*row:(y+1)*row])
			}
			b = b[row*k.height:]
			at += row
			continue
		}
		for y := 0; y < k.height; y += 4 {
			for x := 0; x < k.width; x += 4 {
				square, n := unsquare(b)
				if n == 0 {
					return nil, errShort
				}
				b = b[n:]
				for i, v := range square {
					if y+i/4 >= k.height || x+i%4 >= k.width {
						continue
					}
					if c.perceived {
						v = fromPower(v)
					}
					binary.LittleEndian.PutUint16(out[(y+i/4)*perRow+at+2*(x+i%4):], v)
				}
			}
		}
		at += 2 * k.width
	}
	return out, nil
}

// unsquare unpacks 4 × 4 halves, rows from the top, and tells how many bytes it took, 0 when there are too few. The first half is
// whole; down the first column and along the rows follow differences of six bits, shifted alike.
func unsquare(b []byte) (v [16]uint16, n int) {
	if len(b) < 3 {
		return v, 0
	}
	first := uint16(b[0])<<8 | uint16(b[1])
	n = 3
	if shift := b[2] >> 2; shift >= 13 {
		for i := range v {
			v[i] = first
		}
	} else {
		if n = 14; len(b) < n {
			return v, 0
		}
		at := 22 // bit
		next := func() uint16 {
			two := uint16(b[at/8]) << 8
			if at/8+1 < n {
				two |= uint16(b[at/8+1])
			}
			d := two >> (10 - at%8) & 0x3f
			at += 6
			return d<<shift - 0x20<<shift
		}
		v[0] = first
		for y := 1; y < 4; y++ {
			v[4*y] = v[4*y-4] + next()
		}
		for x := 1; x < 4; x++ {
			for y := range 4 {
				v[4*y+x] = v[4*y+x-1] + next()
			}
		}
	}
	// Ordered numbers become halves with a sign.
	for i := range v {
		if v[i]&0x8000 != 0 {
			v[i] &= 0x7fff
		} else {
			v[i] = ^v[i]
		}
	}
	return v, n
}

// fromPower undoes the power of e that channels marked as perceived evenly are packed as.
func fromPower(h uint16) uint16 {
	if h&0x7c00 == 0x7c00 || h&0x8000 != 0 {
		return 0 // no number that comes of a power
	}
	return pixel.Half(float32(8 * math.Log(float64(pixel.FromHalf(h)))))
}

// exrWavelets undoes PIZ: planes of 16-bit words, as wavelets of the numbers of the words that occur, in Huffman's
// code.
func exrWavelets(b []byte, k *exrBlock) ([]byte, error) {
	if len(b) < 4 {
		return nil, errShort
	}
	from, to := int(binary.LittleEndian.Uint16(b)), int(binary.LittleEndian.Uint16(b[2:]))
	b = b[4:]
	var occurs [8192]byte
	if from <= to {
		if to >= len(occurs) || len(b) < to-from+1 {
			return nil, errors.New("its list of values")
		}
		copy(occurs[from:], b[:to-from+1])
		b = b[to-from+1:]
	}
	values := make([]uint16, 1, 1<<16) // by number; the first is 0 always
	for v := 1; v < 1<<16; v++ {
		if occurs[v>>3]>>(v&7)&1 != 0 {
			values = append(values, uint16(v))
		}
	}
	if len(b) < 4 {
		return nil, errShort
	}
	n := int(int32(binary.LittleEndian.Uint32(b)))
	if b = b[4:]; n < 0 || n > len(b) {
		return nil, errShort
	}
	words, err := unhuff(b[:n], k.size/2)
	if err != nil {
		return nil, err
	}
	plane := words
	for _, c := range k.channels {
		per := c.bytes / 2
		for i := range per {
			unwave(plane[i:], k.width, per, k.height, k.width*per, len(values)-1)
		}
		plane = plane[k.width*k.height*per:]
	}
	out := make([]byte, 0, k.size)
	for y := range k.height {
		plane = words
		for _, c := range k.channels {
			row := k.width * c.bytes / 2
			for _, w := range plane[y*row : (y+1)*row] {
				if int(w) >= len(values) {
					w = 0 // damaged, but within the picture
				}
				out = binary.LittleEndian.AppendUint16(out, values[w])
			}
			plane = plane[row*k.height:]
		}
	}
	return out, nil
}

// unwave turns wavelets of a plane back into its numbers: words step apart in rows that are row apart, at most most
// in value. It is a Haar wavelet of 2 × 2 blocks, from the coarsest level to the finest.
func unwave(v []uint16, width, step, height, row, most int) {
	join := joinWrapped
	if most < 1<<14 {
		join = joinPlain
	}
	p := 1
	for p <= min(width, height) {
		p *= 2
	}
	for p /= 4; p >= 1; p /= 2 {
		for y := 0; y+2*p <= height; y += 2 * p {
			for x := 0; x+2*p <= width; x += 2 * p {
				a := &v[y*row+x*step]
				b, c, d := &v[y*row+(x+p)*step], &v[(y+p)*row+x*step], &v[(y+p)*row+(x+p)*step]
				left, lower := join(*a, *c)
				right, corner := join(*b, *d)
				*a, *b = join(left, right)
				*c, *d = join(lower, corner)
			}
			if width&p != 0 {
				x := width &^ (2*p - 1)
				a, c := &v[y*row+x*step], &v[(y+p)*row+x*step]
				*a, *c = join(*a, *c)
			}
		}
		if height&p != 0 {
			y := height &^ (2*p - 1)
			for x := 0; x+2*p <= width; x += 2 * p {
				a, b := &v[y*row+x*step], &v[y*row+(x+p)*step]
				*a, *b = join(*a, *b)
			}
		}
	}
}

// joinPlain turns a mean and a difference into two numbers below 2¹⁴.
func joinPlain(mean, diff uint16) (a, b uint16) {
	m, d := int16(mean), int16(diff)
	a = uint16(m + d&1 + d>>1)
	return a, a - diff
}

// joinWrapped does so in arithmetic modulo 2¹⁶.
func joinWrapped(mean, diff uint16) (a, b uint16) {
	b = mean - diff>>1
	return diff + b - 0x8000, b
}

// Huffman's codes in PIZ.
const (
	huffSymbols = 1<<16 + 1 // words, and the mark of a run
	huffLongest = 58        // bits of a code
	huffQuick   = 12        // bits that are looked up at once
)

// bitReader reads bits, the highest of a byte first; beyond the end it reads zeros.
type bitReader struct {
	b    []byte
	held uint64
	n    int // bits in held
	past int // bits read beyond the end
}

// peek returns the next n bits, up to 32.
func (r *bitReader) peek(n int) uint32 {
	for r.n < n {
		r.held <<= 8
		if len(r.b) > 0 {
			r.held |= uint64(r.b[0])
			r.b = r.b[1:]
		} else {
			r.past += 8
		}
		r.n += 8
	}
	return uint32(r.held>>(r.n-n)) & (1<<n - 1)
}

func (r *bitReader) take(n int) uint32 {
	v := r.peek(n)
	r.n -= n
	return v
}

// over tells whether bits were taken that were not there.
func (r *bitReader) over() bool { return r.past > r.n }

// unhuff decodes n words.
func unhuff(b []byte, n int) ([]uint16, error) {
	out := make([]uint16, 0, n)
	if len(b) == 0 && n == 0 {
		return out, nil
	}
	if len(b) < 20 {
		return nil, errShort
	}
	first, last := binary.LittleEndian.Uint32(b), binary.LittleEndian.Uint32(b[4:])
	if first > last || last >= huffSymbols {
		return nil, errors.New("its table of codes")
	}
	// The table: the length of each symbol's code in 6 bits, or runs of symbols that do not occur.
	r := &bitReader{b: b[20:]}
	lengths := make([]uint8, last+1)
	for s := first; s <= last; {
		l := r.take(6)
		run := uint32(0)
		switch {
		case l == 63:
			run = 6 + r.take(8)
		case l > huffLongest:
			run = l - huffLongest + 1
		default:
			lengths[s] = uint8(l)
			s++
		}
		if s+run > last+1 || r.over() {
			return nil, errors.New("its table of codes")
		}
		s += run
	}
	r.n -= r.n % 8 // the codes begin with a whole byte
	h, err := newHuff(lengths)
	if err != nil {
		return nil, err
	}
	for len(out) < n {
		s, ok := h.next(r)
		if !ok || r.over() {
			return nil, errShort
		}
		if s != last {
			out = append(out, uint16(s))
			continue
		}
		times := int(r.take(8))
		if len(out) == 0 || times > n-len(out) || r.over() {
			return nil, errors.New("a run of words")
		}
		for range times {
			out = append(out, out[len(out)-1])
		}
	}
	return out, nil
}

// huff decodes canonical codes, the longest of which are the lowest numbers.
type huff struct {
	first   [huffLongest + 1]uint64 // code of each length
	begin   [huffLongest + 2]int    // place of its symbol
	symbols []uint32                // by length, then by number
	quick   [1 << huffQuick]struct {
		symbol uint32
		bits   uint8
	}
}

func newHuff(lengths []uint8) (*huff, error) {
	h := &huff{}
	var count [huffLongest + 1]uint64
	for _, l := range lengths {
		count[l]++
	}
	code := uint64(0)
	for l := huffLongest; l > 0; l-- {
		h.first[l] = code
		code = (code + count[l]) >> 1
	}
	for l := 1; l <= huffLongest; l++ {
		if l < 32 && h.first[l]+count[l] > 1<<l {
			return nil, errors.New("its table of codes has too many")
		}
		h.begin[l+1] = h.begin[l] + int(count[l])
	}
	h.symbols = make([]uint32, h.begin[huffLongest+1])
	next := h.begin
	for s, l := range lengths {
		if l == 0 {
			continue
		}
		i := next[l]
		h.symbols[i] = uint32(s)
		next[l]++
		if l <= huffQuick {
			code := (h.first[l] + uint64(i-h.begin[l])) << (huffQuick - l)
			for k := range uint64(1) << (huffQuick - l) {
				h.quick[code+k].symbol, h.quick[code+k].bits = uint32(s), l
			}
		}
	}
	return h, nil
}

// next reads a symbol.
func (h *huff) next(r *bitReader) (uint32, bool) {
	if q := &h.quick[r.peek(huffQuick)]; q.bits > 0 {
		r.n -= int(q.bits)
		return q.symbol, true
	}
	code := uint64(r.take(huffQuick))
	for l := huffQuick + 1; l <= huffLongest; l++ {
		code = code<<1 | uint64(r.take(1))
		if i := code - h.first[l]; code >= h.first[l] && i < uint64(h.begin[l+1]-h.begin[l]) {
			return h.symbols[h.begin[l]+int(i)], true
		}
	}
	return 0, false
}

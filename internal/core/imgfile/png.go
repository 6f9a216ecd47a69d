// Package imgfile reads and writes picture files.
package imgfile

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"image"
	"image/png"
	"io"

	"github.com/klauspost/compress/flate"

	"crust/internal/core/par"
	"crust/internal/core/plain"
)

// Limits of a picture that is read.
const (
	MaxPixels = 16384 * 16384
	MaxSide   = 32768
)

// Signature begins every PNG file.
const Signature = "\x89PNG\r\n\x1a\n"

// ReadPNG decodes a PNG of any depth. Its declared size is held against the limits, and against
// what its bytes can hold at all, before memory is taken.
func ReadPNG(name string, data []byte) (image.Image, error) {
	if _, err := pngConfig(name, data); err != nil {
		return nil, err
	}
	img, err := png.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, pngFault(name, len(data), "the picture is cut short or damaged ("+plain.Cause(err)+")")
	}
	return img, nil
}

func pngFault(name string, at int, what string) error {
	return fmt.Errorf("%s, byte %d: %s; save the picture again as PNG", name, at, what)
}

// pngConfig reads the head of a PNG and holds it against the limits.
func pngConfig(name string, data []byte) (c image.Config, err error) {
	fail := func(at int, what string) (image.Config, error) { return c, pngFault(name, at, what) }
	if len(data) == 0 {
		return fail(0, "the picture is empty")
	}
	if !bytes.HasPrefix(data, []byte(Signature)) {
		return fail(0, "this is not a PNG picture")
	}
	if c, err = png.DecodeConfig(bytes.NewReader(data)); err != nil {
		return fail(8, "the picture's header is damaged ("+plain.Cause(err)+")")
	}
	if c.Width > MaxSide || c.Height > MaxSide || c.Width*c.Height > MaxPixels {
		return fail(16, fmt.Sprintf("the picture says it is %d × %d, over the limit of %d pixels", c.Width, c.Height, MaxPixels))
	}
	// Deflate cannot pack more than 1032 to 1, and a pixel takes at least one bit.
	if int64(c.Width)*int64(c.Height)/8 > int64(len(data))*1032 {
		return fail(16, fmt.Sprintf("the picture says it is %d × %d, more than its %d bytes can hold", c.Width, c.Height, len(data)))
	}
	return c, nil
}

// samplesOf is how many samples a pixel of each of PNG's colour types has.
var samplesOf = map[byte]int{0: 1, 2: 3, 3: 1, 4: 2, 6: 4}

// passes are where the passes of an interlaced PNG begin and step (PNG, third edition, §8.1); the last is
// that of a plain one.
var passes = [8][4]int{{0, 0, 8, 8}, {4, 0, 8, 8}, {0, 4, 4, 8}, {2, 0, 4, 4}, {0, 2, 2, 4}, {1, 0, 2, 2}, {0, 1, 1, 2}, {0, 0, 1, 1}}

// Check goes through a whole PNG, its checksums and packed rows, without keeping its pixels, and returns
// its size, so that a broken one is told before it is used.
func Check(name string, data []byte) (image.Point, error) {
	c, err := pngConfig(name, data)
	if err != nil {
		return image.Point{}, err
	}
	size := image.Point{X: c.Width, Y: c.Height}
	fail := func(at int, what string) (image.Point, error) {
		return size, pngFault(name, at, "the picture is cut short or damaged ("+what+")")
	}
	depth, samples, interlaced := int(data[24]), samplesOf[data[25]], data[28] == 1
	var packed []io.Reader
	at, ended := len(Signature), false
	for !ended {
		if len(data)-at < 12 {
			return fail(at, "it ends inside a chunk")
		}
		n, kind := int64(binary.BigEndian.Uint32(data[at:])), string(data[at+4:at+8])
		if n > int64(len(data)-at-12) {
			return fail(at, "a chunk is longer than the file")
		}
		end := at + 8 + int(n)
		if crc32.ChecksumIEEE(data[at+4:end]) != binary.BigEndian.Uint32(data[end:]) {
			return fail(at, "a checksum is wrong")
		}
		if kind == "IDAT" {
			packed = append(packed, bytes.NewReader(data[at+8:end]))
		}
		ended = kind == "IEND"
		at = end + 4
	}
	want := int64(0)
	list := passes[7:]
	if interlaced {
		list = passes[:7]
	}
	for _, p := range list {
		w, h := (c.Width-p[0]+p[2]-1)/p[2], (c.Height-p[1]+p[3]-1)/p[3]
		if w > 0 && h > 0 {
			want += int64(h) * int64(1+(w*samples*depth+7)/8)
		}
	}
	z, err := zlib.NewReader(io.MultiReader(packed...))
	if err != nil {
		return fail(at, plain.Cause(err))
	}
	defer z.Close()
	switch n, err := io.Copy(io.Discard, io.LimitReader(z, want)); {
	case err != nil:
		return fail(at, plain.Cause(err))
	case n < want:
		return fail(at, "rows are missing")
	}
	return size, nil
}

// Image is pixels to be written, row by row from the top, channels interleaved.
type Image struct {
	Width, Height int
	Channels      int      // 1, 3 or 4
	Bits          int      // 8 or 16; 16 and 32 are floats where the format has those
	SRGB          bool     // says so in sRGB and gAMA chunks; data carries neither, so that no reader corrects it
	Pix8          []uint8  // when Bits is 8
	Pix16         []uint16 // when Bits is 16
	// Row writes a row's bytes, values of several bytes with the high one first, in place of Pix8 and Pix16. It is asked for rows in
	// any order, by several goroutines at once.
	Row func(y int, row []byte)
	// Palette has the colours, in sRGB, that a PNG's one channel of 8 bits chooses from; nil for none.
	Palette [][3]uint8
}

const stripBytes = 1 << 20

// WritePNG writes PNG (W3C, third edition). The picture is cut into strips of about a megabyte that
// are deflated side by side, each ending on a byte (RFC 1951 §3.2.4), so the bytes are the same on
// any number of cores. level is 1 (fast) to 9.
func WritePNG(w io.Writer, im *Image, level int) error {
	stride := im.stride()
	rows := max(1, stripBytes/max(1, stride))
	count := (im.Height + rows - 1) / rows
	head := make([]byte, 13)
	binary.BigEndian.PutUint32(head, uint32(im.Width))
	binary.BigEndian.PutUint32(head[4:], uint32(im.Height))
	head[8] = byte(im.Bits)
	head[9] = map[int]byte{1: 0, 3: 2, 4: 6}[im.Channels]
	if im.Palette != nil {
		head[9] = 3
	}
	p := chunks{w: w}
	p.write([]byte(Signature))
	p.chunk("IHDR", head)
	if im.SRGB {
		p.chunk("sRGB", []byte{0})
		p.chunk("gAMA", binary.BigEndian.AppendUint32(nil, 45455))
	}
	if im.Palette != nil {
		var all []byte
		for _, c := range im.Palette {
			all = append(all, c[:]...)
		}
		p.chunk("PLTE", all)
	}
	// Strips are packed side by side and written in their order; none is begun that is far ahead of what is written.
	type packed struct {
		data []byte
		sum  uint32
		err  error
	}
	workers := min(count, par.Workers())
	ready := make([]chan packed, count)
	next, room := make(chan int, count), make(chan bool, 2*workers)
	for i := range count {
		ready[i] = make(chan packed, 1)
		next <- i
	}
	close(next)
	stopped := make(chan bool)
	var g par.Group
	for range workers {
		g.Go(func() {
			z := stripper{im: im, stride: stride, level: level}
			for {
				select {
				case room <- true:
				case <-stopped:
					return
				}
				i, ok := <-next
				if !ok {
					return
				}
				var s packed
				s.data, s.sum, s.err = z.strip(i*rows, min(im.Height, (i+1)*rows), i == count-1)
				ready[i] <- s
			}
		})
	}
	sum := uint32(1)
	for i := 0; i < count && p.err == nil; i++ {
		var s packed
		select {
		case s = <-ready[i]:
		case <-g.Lost():
			i = count
			continue
		}
		<-room
		if s.err != nil {
			p.err = s.err
			break
		}
		n := min(im.Height, (i+1)*rows) - i*rows
		sum = adlerJoin(sum, s.sum, n*(stride+1))
		if i == 0 {
			s.data = append([]byte{0x78, 0x9c}, s.data...)
		}
		if i == count-1 {
			s.data = binary.BigEndian.AppendUint32(s.data, sum)
		}
		p.chunk("IDAT", s.data)
	}
	close(stopped)
	g.Wait()
	p.chunk("IEND", nil)
	return p.err
}

type chunks struct {
	w   io.Writer
	err error
}

func (p *chunks) write(b []byte) {
	if p.err == nil {
		_, p.err = p.w.Write(b)
	}
}

func (p *chunks) chunk(kind string, data []byte) {
	head := append(binary.BigEndian.AppendUint32(nil, uint32(len(data))), kind...)
	p.write(head)
	p.write(data)
	crc := crc32.Update(crc32.ChecksumIEEE(head[4:]), crc32.IEEETable, data)
	p.write(binary.BigEndian.AppendUint32(nil, crc))
}

// stripper filters and deflates runs of rows, keeping its buffers.
type stripper struct {
	im     *Image
	stride int
	level  int
	row    [2][]byte
	out    [5][]byte
}

func (z *stripper) strip(from, to int, last bool) ([]byte, uint32, error) {
	var buf bytes.Buffer
	fw, err := flate.NewWriter(&buf, z.level)
	if err != nil {
		return nil, 0, err
	}
	sum := uint32(1)
	for k := range z.row {
		z.row[k] = make([]byte, z.stride)
	}
	for k := range z.out {
		z.out[k] = make([]byte, z.stride+1)
		z.out[k][0] = byte(k)
	}
	bpp := z.im.Channels * z.im.Bits / 8
	if from > 0 {
		z.im.row(from-1, z.row[1])
	}
	for y := from; y < to; y++ {
		cur, prev := z.row[0], z.row[1]
		z.im.row(y, cur)
		best := z.filter(cur, prev, bpp)
		sum = adler(sum, best)
		if _, err := fw.Write(best); err != nil {
			return nil, 0, err
		}
		z.row[0], z.row[1] = prev, cur
	}
	if last {
		err = fw.Close()
	} else {
		err = fw.Flush()
	}
	return buf.Bytes(), sum, err
}

// filter returns the row under the filter with the least sum of absolute differences
// (PNG §12.7), out of Sub, Up and Paeth.
func (z *stripper) filter(cur, prev []byte, bpp int) []byte {
	if z.im.Palette != nil { // differences of indices say nothing (§12.7)
		copy(z.out[0][1:], cur)
		return z.out[0]
	}
	best, least := 0, 1<<62
	for _, kind := range []int{1, 2, 4} {
		out := z.out[kind][1:]
		switch kind {
		case 1:
			copy(out, cur[:bpp])
			for i := bpp; i < len(cur); i++ {
				out[i] = cur[i] - cur[i-bpp]
			}
		case 2:
			for i := range cur {
				out[i] = cur[i] - prev[i]
			}
		case 4:
			for i := range cur[:bpp] {
				out[i] = cur[i] - prev[i]
			}
			for i := bpp; i < len(cur); i++ {
				out[i] = cur[i] - paeth(cur[i-bpp], prev[i], prev[i-bpp])
			}
		}
		s := 0
		for _, v := range out {
			d := int(int8(v))
			s += max(d, -d)
		}
		if s < least {
			best, least = kind, s
		}
	}
	return z.out[best]
}

func paeth(a, b, c byte) byte {
	p := int(a) + int(b) - int(c)
	pa, pb, pc := abs(p-int(a)), abs(p-int(b)), abs(p-int(c))
	if pa <= pb && pa <= pc {
		return a
	}
	if pb <= pc {
		return b
	}
	return c
}

func abs(v int) int { return max(v, -v) }

const adlerMod = 65521

func adler(sum uint32, data []byte) uint32 {
	a, b := sum&0xffff, sum>>16
	for len(data) > 0 {
		n := min(len(data), 5552)
		for _, v := range data[:n] {
			a += uint32(v)
			b += a
		}
		a, b, data = a%adlerMod, b%adlerMod, data[n:]
	}
	return b<<16 | a
}

// adlerJoin returns the Adler-32 of two runs of bytes from the sums of each; n is the length of the
// second (RFC 1950 §8.2 written out).
func adlerJoin(first, second uint32, n int) uint32 {
	rem := uint32(n % adlerMod)
	a1, b1, a2, b2 := first&0xffff, first>>16, second&0xffff, second>>16
	a := (a1 + a2 + adlerMod - 1) % adlerMod
	b := (uint32(uint64(rem)*uint64(a1)%adlerMod) + b1 + b2 + adlerMod - rem) % adlerMod
	return b<<16 | a
}

// Bytes is the picture as a PNG file.
func Bytes(im *Image) ([]byte, error) {
	var b bytes.Buffer
	err := WritePNG(&b, im, 5)
	return b.Bytes(), err
}

package imgfile

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"hash/adler32"
	"image"
	"image/jpeg"
	"io"
	"slices"
	"strings"

	"github.com/klauspost/compress/flate"

	"crust/internal/core/par"
)

// Format is a kind of file that pictures are written as.
type Format struct {
	Name     string `json:"name"`
	Label    string `json:"label"`
	Ending   string `json:"ending"`
	Bits     []int  `json:"bits"` // of a sample, that it may have
	Float    bool   `json:"float,omitempty"`
	Lossy    bool   `json:"lossy,omitempty"`
	Channels []int  `json:"channels"`
	write    func(w *placed, im *Image) error
}

// Formats lists the kinds of files in the order in which they are offered.
var Formats = []Format{
	{Name: "png", Label: "PNG", Ending: ".png", Bits: []int{8, 16}, Channels: []int{1, 3, 4}, write: func(w *placed, im *Image) error { return WritePNG(w.b, im, 5) }},
	{Name: "tga", Label: "TGA", Ending: ".tga", Bits: []int{8}, Channels: []int{1, 3, 4}, write: writeTGA},
	{Name: "tiff", Label: "TIFF", Ending: ".tif", Bits: []int{8, 16}, Channels: []int{1, 3, 4}, write: writeTIFF},
	{Name: "exr", Label: "OpenEXR", Ending: ".exr", Bits: []int{16, 32}, Float: true, Channels: []int{1, 3, 4}, write: writeEXR},
	{Name: "jpeg", Label: "JPEG", Ending: ".jpg", Bits: []int{8}, Lossy: true, Channels: []int{1, 3}, write: writeJPEG},
}

// FormatOf finds a kind of file by its name.
func FormatOf(name string) (*Format, error) {
	var names []string
	for i := range Formats {
		if Formats[i].Name == name {
			return &Formats[i], nil
		}
		names = append(names, Formats[i].Name)
	}
	return nil, fmt.Errorf("there is no format “%s”; use %s", name, strings.Join(names, ", "))
}

// Check says whether the format holds such samples.
func (f *Format) Check(channels, bits int) error {
	if !slices.Contains(f.Bits, bits) {
		return fmt.Errorf("%s has no samples of %d bits; use %s", f.Label, bits, strings.Trim(strings.ReplaceAll(fmt.Sprint(f.Bits), " ", " or "), "[]"))
	}
	if !slices.Contains(f.Channels, channels) {
		return fmt.Errorf("%s cannot hold %d channels", f.Label, channels)
	}
	return nil
}

// Write writes the picture, from where the file stands on. A picture of floats is one for formats of floats.
func (f *Format) Write(to io.WriteSeeker, im *Image) error {
	if err := f.Check(im.Channels, im.Bits); err != nil {
		return err
	}
	if im.Width < 1 || im.Height < 1 || im.Width > MaxRead || im.Height > MaxRead {
		return fmt.Errorf("%d × %d px cannot be written", im.Width, im.Height)
	}
	w := &placed{b: bufio.NewWriterSize(to, 1<<20), to: to}
	var err error
	if w.begun, err = to.Seek(0, io.SeekCurrent); err != nil {
		return err
	}
	if err := f.write(w, im); err != nil {
		return err
	}
	return w.b.Flush()
}

// placed is a file that is written on, and in which something before can be put right.
type placed struct {
	b     *bufio.Writer
	to    io.WriteSeeker
	begun int64
}

// at is how many bytes the file has.
func (w *placed) at() (int64, error) {
	if err := w.b.Flush(); err != nil {
		return 0, err
	}
	n, err := w.to.Seek(0, io.SeekCurrent)
	return n - w.begun, err
}

// patch puts something else in place of what was written.
func (w *placed) patch(at int64, data []byte) error {
	end, err := w.at()
	if err != nil {
		return err
	}
	if _, err := w.to.Seek(w.begun+at, io.SeekStart); err != nil {
		return err
	}
	if _, err := w.to.Write(data); err != nil {
		return err
	}
	_, err = w.to.Seek(w.begun+end, io.SeekStart)
	return err
}

// stride is how many bytes a row has.
func (im *Image) stride() int { return im.Width * im.Channels * im.Bits / 8 }

// row reads row y, 16-bit values with the high byte first.
func (im *Image) row(y int, row []byte) {
	if im.Row != nil {
		im.Row(y, row)
		return
	}
	n := im.Width * im.Channels
	if im.Bits == 8 {
		copy(row, im.Pix8[y*n:(y+1)*n])
		return
	}
	for i, v := range im.Pix16[y*n : (y+1)*n] {
		row[2*i], row[2*i+1] = byte(v>>8), byte(v)
	}
}

// pieces makes pieces of so many rows side by side and gives them to put in their order, some at a time.
func (im *Image) pieces(rows int, make func(from, to int) ([]byte, error), put func(k int, data []byte) error) error {
	const atOnce = 32
	count := (im.Height + rows - 1) / rows
	for first := 0; first < count; first += atOnce {
		n := min(atOnce, count-first)
		var data [atOnce][]byte
		var errs [atOnce]error
		if err := par.Blocks(context.Background(), n, 1, func(_, i, _ int) {
			from := (first + i) * rows
			data[i], errs[i] = make(from, min(im.Height, from+rows))
		}); err != nil {
			return err
		}
		for i := range n {
			if errs[i] != nil {
				return errs[i]
			}
			if err := put(first+i, data[i]); err != nil {
				return err
			}
		}
	}
	return nil
}

// deflated is data as a zlib stream (RFC 1950).
func deflated(data []byte) ([]byte, error) {
	b := bytes.NewBuffer([]byte{0x78, 0x9c})
	z, err := flate.NewWriter(b, 5)
	if err != nil {
		return nil, err
	}
	if _, err := z.Write(data); err != nil {
		return nil, err
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return binary.BigEndian.AppendUint32(b.Bytes(), adler32.Checksum(data)), nil
}

// writeTGA writes TGA 2.0, run-length encoded, rows from the top, with the gamma of what it holds: 2.2 for sRGB, 1 for data.
func writeTGA(w *placed, im *Image) error {
	head := make([]byte, 18)
	head[2] = 10
	if im.Channels == 1 {
		head[2] = 11
	}
	binary.LittleEndian.PutUint16(head[12:], uint16(im.Width))
	binary.LittleEndian.PutUint16(head[14:], uint16(im.Height))
	head[16], head[17] = byte(8*im.Channels), 0x20 // the first row is the top one
	alpha := byte(0)
	if im.Channels == 4 {
		head[17] |= 8
		alpha = 3 // of use
	}
	if _, err := w.b.Write(head); err != nil {
		return err
	}
	err := im.pieces(64, func(from, to int) (out []byte, err error) {
		row := make([]byte, im.stride())
		for y := from; y < to; y++ {
			im.row(y, row)
			if im.Channels > 1 {
				for i := 0; i < len(row); i += im.Channels {
					row[i], row[i+2] = row[i+2], row[i]
				}
			}
			out = tgaPack(out, row, im.Channels)
		}
		return out, nil
	}, func(_ int, data []byte) error { _, err := w.b.Write(data); return err })
	if err != nil {
		return err
	}
	at, err := w.at()
	if err != nil {
		return err
	}
	ext := make([]byte, 495)
	binary.LittleEndian.PutUint16(ext, 495)
	copy(ext[426:], "Crust")
	gamma := [2]uint16{1, 1}
	if im.SRGB {
		gamma = [2]uint16{22, 10}
	}
	binary.LittleEndian.PutUint16(ext[478:], gamma[0])
	binary.LittleEndian.PutUint16(ext[480:], gamma[1])
	ext[494] = alpha
	foot := binary.LittleEndian.AppendUint32(nil, uint32(at))
	foot = append(binary.LittleEndian.AppendUint32(foot, 0), "TRUEVISION-XFILE.\x00"...)
	_, err = w.b.Write(append(ext, foot...))
	return err
}

// tgaPack packs a row: runs of two and more pixels that are the same, and what lies between them as it is.
func tgaPack(out, row []byte, n int) []byte {
	same := func(i, j int) bool { return bytes.Equal(row[i:i+n], row[j:j+n]) }
	for i := 0; i < len(row); {
		run := 1
		for run < 128 && i+run*n < len(row) && same(i, i+run*n) {
			run++
		}
		if run > 1 {
			out = append(append(out, byte(0x80|(run-1))), row[i:i+n]...)
			i += run * n
			continue
		}
		for run < 128 && i+run*n < len(row) && (i+(run+1)*n >= len(row) || !same(i+run*n, i+(run+1)*n)) {
			run++
		}
		out = append(append(out, byte(run-1)), row[i:i+run*n]...)
		i += run * n
	}
	return out
}

// writeTIFF writes TIFF 6.0 in strips, deflated over the differences of neighbours. Pictures in sRGB carry a profile that says so;
// data carries none, so that no reader corrects it.
func writeTIFF(w *placed, im *Image) error {
	rows := max(1, (256<<10)/im.stride())
	if _, err := w.b.Write([]byte("II*\x00\x00\x00\x00\x00")); err != nil {
		return err
	}
	var offsets, counts []uint32
	at := uint32(8)
	err := im.pieces(rows, func(from, to int) ([]byte, error) {
		stride, n := im.stride(), im.Channels
		all := make([]byte, stride*(to-from))
		for y := from; y < to; y++ {
			row := all[(y-from)*stride : (y-from+1)*stride]
			im.row(y, row)
			if im.Bits == 8 {
				for i := len(row) - 1; i >= n; i-- {
					row[i] -= row[i-n]
				}
				continue
			}
			for i := len(row)/2 - 1; i >= 0; i-- {
				v := binary.BigEndian.Uint16(row[2*i:])
				if i >= n {
					v -= binary.BigEndian.Uint16(row[2*(i-n):])
				}
				binary.LittleEndian.PutUint16(row[2*i:], v)
			}
		}
		return deflated(all)
	}, func(_ int, data []byte) error {
		offsets, counts = append(offsets, at), append(counts, uint32(len(data)))
		at += uint32(len(data))
		_, err := w.b.Write(data)
		return err
	})
	if err != nil {
		return err
	}
	return tiffDirectory(w, im, rows, offsets, counts)
}

// tiffDirectory writes the directory of a TIFF after its strips, and where it lies into the head.
func tiffDirectory(w *placed, im *Image, rows int, offsets, counts []uint32) error {
	end, err := w.at()
	if err != nil {
		return err
	}
	if end%2 == 1 { // it begins on a word
		if err := w.b.WriteByte(0); err != nil {
			return err
		}
		end++
	}
	const short, long, ratio, text, raw = 3, 4, 5, 2, 7
	type entry struct {
		tag, kind uint16
		count     uint32
		data      []byte
	}
	le := binary.LittleEndian
	shorts := func(v ...uint16) (b []byte) {
		for _, x := range v {
			b = le.AppendUint16(b, x)
		}
		return b
	}
	longs := func(v ...uint32) (b []byte) {
		for _, x := range v {
			b = le.AppendUint32(b, x)
		}
		return b
	}
	n := uint32(im.Channels)
	photometric := uint16(1)
	if n > 1 {
		photometric = 2
	}
	words := "linear data: read it without a conversion of colours\x00"
	if im.SRGB {
		words = "sRGB\x00"
	}
	list := []entry{
		{256, long, 1, longs(uint32(im.Width))},
		{257, long, 1, longs(uint32(im.Height))},
		{258, short, n, shorts(slices.Repeat([]uint16{uint16(im.Bits)}, int(n))...)},
		{259, short, 1, shorts(8)}, // deflate
		{262, short, 1, shorts(photometric)},
		{270, text, uint32(len(words)), []byte(words)},
		{273, long, uint32(len(offsets)), longs(offsets...)},
		{277, short, 1, shorts(uint16(n))},
		{278, long, 1, longs(uint32(rows))},
		{279, long, uint32(len(counts)), longs(counts...)},
		{282, ratio, 1, longs(72, 1)},
		{283, ratio, 1, longs(72, 1)},
		{284, short, 1, shorts(1)},
		{296, short, 1, shorts(2)},
		{305, text, 6, []byte("Crust\x00")},
		{317, short, 1, shorts(2)}, // differences of neighbours
	}
	if n == 4 {
		list = append(list, entry{338, short, 1, shorts(2)}) // alpha that is not multiplied in
	}
	if im.SRGB && n > 1 {
		p := profileSRGB()
		list = append(list, entry{34675, raw, uint32(len(p)), p})
	}
	out := le.AppendUint16(nil, uint16(len(list)))
	var beyond []byte
	first := uint32(end) + 2 + 12*uint32(len(list)) + 4
	for _, e := range list {
		out = le.AppendUint32(le.AppendUint16(le.AppendUint16(out, e.tag), e.kind), e.count)
		if len(e.data) <= 4 {
			out = append(out, append(e.data, make([]byte, 4-len(e.data))...)...)
			continue
		}
		out = le.AppendUint32(out, first+uint32(len(beyond)))
		beyond = append(beyond, e.data...)
		if len(beyond)%2 == 1 {
			beyond = append(beyond, 0)
		}
	}
	out = append(le.AppendUint32(out, 0), beyond...)
	if _, err := w.b.Write(out); err != nil {
		return err
	}
	return w.patch(4, longs(uint32(end)))
}

// jpegQuality is that of pictures that are written as JPEG.
const jpegQuality = 92

// writeJPEG writes JPEG, with a profile that says sRGB where it is.
func writeJPEG(w *placed, im *Image) error {
	box := image.Rect(0, 0, im.Width, im.Height)
	var whole image.Image
	row := make([]byte, im.stride())
	if im.Channels == 1 {
		grey := image.NewGray(box)
		for y := range im.Height {
			im.row(y, grey.Pix[y*grey.Stride:(y+1)*grey.Stride])
		}
		whole = grey
	} else {
		rgba := image.NewRGBA(box)
		for y := range im.Height {
			im.row(y, row)
			to := rgba.Pix[y*rgba.Stride:]
			for x := range im.Width {
				to[4*x], to[4*x+1], to[4*x+2], to[4*x+3] = row[3*x], row[3*x+1], row[3*x+2], 255
			}
		}
		whole = rgba
	}
	var b bytes.Buffer
	if err := jpeg.Encode(&b, whole, &jpeg.Options{Quality: jpegQuality}); err != nil {
		return err
	}
	data := b.Bytes()
	if _, err := w.b.Write(data[:2]); err != nil { // the start; the profile follows at once
		return err
	}
	if im.SRGB && im.Channels == 3 {
		body := append([]byte("ICC_PROFILE\x00\x01\x01"), profileSRGB()...)
		if _, err := w.b.Write(append(binary.BigEndian.AppendUint16([]byte{0xff, 0xe2}, uint16(2+len(body))), body...)); err != nil {
			return err
		}
	}
	_, err := w.b.Write(data[2:])
	return err
}

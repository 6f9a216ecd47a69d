package imgfile

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"path"
	"sort"
	"strings"

	"golang.org/x/image/tiff"

	"crust/internal/core/plain"
)

// Picture is a picture's values: Width · Height · Channels of them, rows from the top; Channels is 1 (grey), 3 or 4.
type Picture struct {
	Width, Height, Channels int
	Bits                    int // of a sample in the file
	Float                   bool
	Whole                   []uint16  // whole numbers as shares of their largest, 65535 for 1; nil when Float
	Pix                     []float32 // floats as they are; nil when not Float
}

// At is value i.
func (p *Picture) At(i int) float32 {
	if p.Pix != nil {
		return p.Pix[i]
	}
	return float32(p.Whole[i]) / 65535
}

// Len is how many values there are.
func (p *Picture) Len() int { return max(len(p.Pix), len(p.Whole)) }

// MaxRead limits a side of the pictures that Read takes, in px: no map is larger.
const MaxRead = 8192

// format is one kind of file that pictures are read from.
type format struct {
	size func(data []byte) (width, height int, err error)
	read func(data []byte) (*Picture, error)
}

// formats by ending.
var formats = map[string]format{
	".png":  {pngSize, readPNG},
	".jpg":  {jpegSize, readJPEG},
	".jpeg": {jpegSize, readJPEG},
	".tif":  {tiffSize, readTIFF},
	".tiff": {tiffSize, readTIFF},
	".tga":  {tgaSize, readTGA},
	".exr":  {exrSize, readEXR},
	".hdr":  {hdrSize, readHDR},
}

// Endings lists the endings of the files that Read understands.
func Endings() []string {
	var out []string
	for e := range formats {
		out = append(out, e)
	}
	sort.Strings(out)
	return out
}

// Known tells whether a file's ending is one of Endings.
func Known(name string) bool {
	_, ok := formats[strings.ToLower(path.Ext(name))]
	return ok
}

func formatOf(name string) (format, error) {
	f, ok := formats[strings.ToLower(path.Ext(name))]
	if !ok {
		return f, fmt.Errorf("%s: is not a picture that Crust reads; save it as %s", name, strings.Join(Endings(), ", "))
	}
	return f, nil
}

// Size reads a picture's size from its head.
func Size(name string, data []byte) (width, height int, err error) {
	f, err := formatOf(name)
	if err != nil {
		return 0, 0, err
	}
	if width, height, err = f.size(data); err != nil {
		return 0, 0, fmt.Errorf("%s: %w", name, err)
	}
	if width < 1 || height < 1 || width > MaxRead || height > MaxRead {
		return 0, 0, fmt.Errorf("%s: %d × %d px is outside 1–%d px a side; save it smaller", name, width, height, MaxRead)
	}
	return width, height, nil
}

// Read reads a picture; its format is told by its ending. A broken one gives an error that names file, fault and
// remedy.
func Read(name string, data []byte) (p *Picture, err error) {
	defer plain.Speak(&err)
	f, err := formatOf(name)
	if err != nil {
		return nil, err
	}
	if _, _, err := Size(name, data); err != nil {
		return nil, err
	}
	// The libraries' readers are trusted to be right about sound files only.
	defer func() {
		if r := recover(); r != nil {
			p, err = nil, fmt.Errorf("%s: %w", name, damaged(fmt.Errorf("%v", r)))
		}
	}()
	if p, err = f.read(data); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return p, nil
}

func damaged(err error) error { return plain.Damage("the file is damaged (%s); save it again", err) }

var errShort = errors.New("it ends too early")

func pngSize(data []byte) (int, int, error) {
	c, err := png.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		return 0, 0, damaged(err)
	}
	return c.Width, c.Height, nil
}

func readPNG(data []byte) (*Picture, error) {
	img, err := ReadPNG("the picture", data)
	if err != nil {
		return nil, err
	}
	return fromImage(img), nil
}

func jpegSize(data []byte) (int, int, error) {
	c, err := jpeg.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		return 0, 0, damaged(err)
	}
	if lying(orientation(data)) {
		return c.Height, c.Width, nil
	}
	return c.Width, c.Height, nil
}

// maxScans is how many scans a JPEG may have: encoders write about ten, and each is worked through for the
// whole picture.
const maxScans = 100

func readJPEG(data []byte) (*Picture, error) {
	if n := bytes.Count(data, []byte{0xff, 0xda}); n > maxScans {
		return nil, fmt.Errorf("the picture is cut into %d scans, over the limit of %d; save it again as a plain JPEG or PNG", n, maxScans)
	}
	img, err := jpeg.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, damaged(err)
	}
	p := fromImage(img)
	p.orient(orientation(data))
	return p, nil
}

func tiffSize(data []byte) (int, int, error) {
	c, err := tiff.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		return 0, 0, tiffFault(err)
	}
	return c.Width, c.Height, nil
}

// tiffFault tells a sound TIFF of a kind that is not read from a damaged one.
func tiffFault(err error) error {
	var kind tiff.UnsupportedError
	if errors.As(err, &kind) {
		return fmt.Errorf("this kind of TIFF is not read (%s); save it with whole numbers of 8 or 16 bits as grey or RGB, or as OpenEXR", string(kind))
	}
	return damaged(err)
}

func readTIFF(data []byte) (*Picture, error) {
	img, err := tiff.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, tiffFault(err)
	}
	return fromImage(img), nil
}

// fromImage takes the values of an image, without colour under alpha being changed.
func fromImage(img image.Image) *Picture {
	b := img.Bounds()
	w, h := b.Dx(), b.Dy()
	p := &Picture{Width: w, Height: h, Channels: 3, Bits: 8}
	// bytes8 and bytes16 take rows of so many samples as they are.
	bytes8 := func(pix []uint8, stride, channels int) {
		p.Channels, p.Whole = channels, make([]uint16, channels*w*h)
		for y := range h {
			out := p.Whole[y*channels*w:][:channels*w]
			for x, v := range pix[y*stride:][:channels*w] {
				out[x] = uint16(v) * 257
			}
		}
	}
	bytes16 := func(pix []uint8, stride, channels int) {
		p.Channels, p.Bits, p.Whole = channels, 16, make([]uint16, channels*w*h)
		for y := range h {
			out, row := p.Whole[y*channels*w:][:channels*w], pix[y*stride:]
			for x := range out {
				out[x] = uint16(row[2*x])<<8 | uint16(row[2*x+1])
			}
		}
	}
	switch m := img.(type) {
	case *image.Gray:
		bytes8(m.Pix, m.Stride, 1)
	case *image.Gray16:
		bytes16(m.Pix, m.Stride, 1)
	case *image.NRGBA:
		bytes8(m.Pix, m.Stride, 4)
	case *image.NRGBA64:
		bytes16(m.Pix, m.Stride, 4)
	case *image.Paletted:
		paletted(p, m)
	default:
		if _, ok := img.(*image.RGBA64); ok {
			p.Bits = 16
		}
		if m, ok := img.(interface{ Opaque() bool }); ok && !m.Opaque() {
			p.Channels = 4
		}
		p.Whole = make([]uint16, p.Channels*w*h)
		at := 0
		for y := range h {
			for x := range w {
				v := straight(img.At(b.Min.X+x, b.Min.Y+y))
				at += copy(p.Whole[at:], v[:p.Channels])
			}
		}
	}
	return p
}

// straight is a colour whose alpha is not multiplied into it.
func straight(c color.Color) [4]uint16 {
	if r, g, b, a := c.RGBA(); a == 0xffff {
		return [4]uint16{uint16(r), uint16(g), uint16(b), uint16(a)}
	}
	if v, ok := c.(color.NRGBA); ok { // which keeps the colour of what is wholly clear
		return [4]uint16{uint16(v.R) * 257, uint16(v.G) * 257, uint16(v.B) * 257, uint16(v.A) * 257}
	}
	v := color.NRGBA64Model.Convert(c).(color.NRGBA64)
	return [4]uint16{v.R, v.G, v.B, v.A}
}

// paletted looks colours up; a palette of greys makes a grey picture, and one with clear colours keeps their alpha.
func paletted(p *Picture, m *image.Paletted) {
	colours := make([][4]uint16, 256)
	grey, clear := true, false
	for i, c := range m.Palette {
		v := straight(c)
		colours[i] = v
		grey, clear = grey && v[0] == v[1] && v[1] == v[2], clear || v[3] != 0xffff
	}
	switch {
	case clear:
		p.Channels = 4
	case grey:
		p.Channels = 1
	}
	p.Whole = make([]uint16, p.Channels*p.Width*p.Height)
	for y := range p.Height {
		out := p.Whole[y*p.Channels*p.Width:]
		for x, v := range m.Pix[y*m.Stride:][:p.Width] {
			copy(out[x*p.Channels:][:p.Channels], colours[v][:])
		}
	}
}

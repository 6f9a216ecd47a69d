package imgfile

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
	"image/png"
	"path"
	"sort"
	"strings"

	"golang.org/x/image/tiff"
)

// Picture is a picture's values as they stand in the file: whole numbers as shares of their largest, floats as they
// are. Pix holds Width · Height · Channels of them, rows from the top; Channels is 1 (grey), 3 or 4.
type Picture struct {
	Width, Height, Channels int
	Bits                    int // of a sample
	Float                   bool
	Pix                     []float32
}

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
			p, err = nil, fmt.Errorf("%s: the file is damaged (%v); save it again", name, r)
		}
	}()
	if p, err = f.read(data); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return p, nil
}

func damaged(err error) error { return fmt.Errorf("the file is damaged (%w); save it again", err) }

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
	return c.Width, c.Height, nil
}

func readJPEG(data []byte) (*Picture, error) {
	img, err := jpeg.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, damaged(err)
	}
	return fromImage(img), nil
}

func tiffSize(data []byte) (int, int, error) {
	c, err := tiff.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		return 0, 0, damaged(err)
	}
	return c.Width, c.Height, nil
}

func readTIFF(data []byte) (*Picture, error) {
	img, err := tiff.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, damaged(err)
	}
	return fromImage(img), nil
}

// fromImage takes the values of an image, without colour under alpha being changed.
func fromImage(img image.Image) *Picture {
	b := img.Bounds()
	w, h := b.Dx(), b.Dy()
	p := &Picture{Width: w, Height: h, Channels: 3, Bits: 8}
	switch m := img.(type) {
	case *image.Gray:
		p.Channels, p.Pix = 1, make([]float32, w*h)
		for y := range h {
			for x, v := range m.Pix[y*m.Stride : y*m.Stride+w] {
				p.Pix[y*w+x] = float32(v) / 255
			}
		}
	case *image.Gray16:
		p.Channels, p.Bits, p.Pix = 1, 16, make([]float32, w*h)
		for i := range p.Pix {
			at := i/w*m.Stride + i%w*2
			p.Pix[i] = float32(uint16(m.Pix[at])<<8|uint16(m.Pix[at+1])) / 65535
		}
	case *image.NRGBA:
		p.Channels, p.Pix = 4, make([]float32, 4*w*h)
		for y := range h {
			for x, v := range m.Pix[y*m.Stride : y*m.Stride+4*w] {
				p.Pix[y*4*w+x] = float32(v) / 255
			}
		}
	case *image.NRGBA64:
		p.Channels, p.Bits, p.Pix = 4, 16, make([]float32, 4*w*h)
		for i := range p.Pix {
			at := i/(4*w)*m.Stride + i%(4*w)*2
			p.Pix[i] = float32(uint16(m.Pix[at])<<8|uint16(m.Pix[at+1])) / 65535
		}
	default:
		if _, ok := img.(*image.RGBA64); ok {
			p.Bits = 16
		}
		p.Pix = make([]float32, 3*w*h)
		for y := range h {
			for x := range w {
				r, g, bl, _ := img.At(b.Min.X+x, b.Min.Y+y).RGBA()
				at := 3 * (y*w + x)
				p.Pix[at], p.Pix[at+1], p.Pix[at+2] = float32(r)/65535, float32(g)/65535, float32(bl)/65535
			}
		}
	}
	return p
}

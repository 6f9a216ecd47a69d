package imgfile

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"crust/internal/core/pixel"
)

// exr is the head of an OpenEXR file (Academy Software Foundation, OpenEXR File Layout).
type exr struct {
	channels      []exrChannel // in the order of the file, which is alphabetical
	compression   int
	x0, y0        int
	width, height int
	tile          int // side of a tile across, 0 for scan lines
	tileDown      int
	at            int // byte where the table of offsets begins
}

type exrChannel struct {
	name  string
	bytes int // of a sample: 2 half, 4 float or whole number
	whole bool

	perceived bool // marked as perceived evenly, which some compressions heed
}

func exrHead(d []byte) (h exr, err error) {
	fail := func(format string, a ...any) (exr, error) { return h, damaged(fmt.Errorf(format, a...)) }
	if len(d) < 8 || binary.LittleEndian.Uint32(d) != 20000630 {
		return fail("it does not begin as OpenEXR does")
	}
	flags := binary.LittleEndian.Uint32(d[4:])
	if flags&0xff != 2 || flags&0x1800 != 0 {
		return h, errors.New("deep and multi-part OpenEXR files are not read; save it flat, in one part")
	}
	tiled := flags&0x200 != 0
	at := 8
	text := func() (string, bool) {
		n := bytes.IndexByte(d[at:min(len(d), at+256)], 0)
		if n < 0 {
			return "", false
		}
		s := string(d[at : at+n])
		at += n + 1
		return s, true
	}
	for {
		name, ok := text()
		if !ok {
			return fail("an attribute's name at byte %d has no end", at)
		}
		if name == "" {
			break
		}
		if _, ok := text(); !ok || len(d)-at < 4 {
			return fail("attribute %q at byte %d", name, at)
		}
		n := int(binary.LittleEndian.Uint32(d[at:]))
		at += 4
		if n < 0 || n > len(d)-at {
			return fail("attribute %q at byte %d says it has %d bytes", name, at, n)
		}
		v := d[at : at+n]
		at += n
		switch {
		case name == "channels":
			if h.channels, err = exrList(v); err != nil {
				return h, err
			}
		case name == "compression" && n == 1:
			h.compression = int(v[0])
		case name == "dataWindow" && n == 16:
			x0, y0 := int32(binary.LittleEndian.Uint32(v)), int32(binary.LittleEndian.Uint32(v[4:]))
			x1, y1 := int32(binary.LittleEndian.Uint32(v[8:])), int32(binary.LittleEndian.Uint32(v[12:]))
			h.x0, h.y0, h.width, h.height = int(x0), int(y0), int(x1)-int(x0)+1, int(y1)-int(y0)+1
		case name == "tiles" && n == 9 && tiled:
			h.tile, h.tileDown = int(binary.LittleEndian.Uint32(v)), int(binary.LittleEndian.Uint32(v[4:]))
			if v[8]&0xf != 0 {
				return h, errors.New("OpenEXR files of several levels are not read; save it with one level")
			}
		}
	}
	h.at = at
	switch {
	case len(h.channels) == 0 || h.width == 0:
		return fail("it lacks channels or a data window")
	case tiled && (h.tile < 1 || h.tile > 1<<14 || h.tileDown < 1 || h.tileDown > 1<<14):
		return fail("tiles of %d × %d", h.tile, h.tileDown)
	case exrMethods[h.compression].rows == 0:
		return h, fmt.Errorf("OpenEXR's %s compression is not read; save it with ZIP", exrName(h.compression))
	}
	return h, nil
}

func exrName(k int) string {
	if n := exrNames[k]; n != "" {
		return n
	}
	return fmt.Sprint(k)
}

func exrList(v []byte) (out []exrChannel, err error) {
	for len(v) > 0 && v[0] != 0 {
		n := bytes.IndexByte(v, 0)
		if n < 0 || len(v) < n+17 {
			return nil, damaged(errors.New("the list of channels"))
		}
		c := exrChannel{name: string(v[:n]), bytes: 4}
		v = v[n+1:]
		switch kind := binary.LittleEndian.Uint32(v); kind {
		case 0:
			c.whole = true
		case 1:
			c.bytes = 2
		case 2:
		default:
			return nil, damaged(fmt.Errorf("channel %q is of type %d", c.name, kind))
		}
		c.perceived = v[4] != 0
		if binary.LittleEndian.Uint32(v[8:]) != 1 || binary.LittleEndian.Uint32(v[12:]) != 1 {
			return nil, fmt.Errorf("channel %q is not sampled at every pixel; save it as plain RGB", c.name)
		}
		v = v[16:]
		if out = append(out, c); len(out) > 64 {
			return nil, errors.New("more than 64 channels; save only R, G, B")
		}
	}
	return out, nil
}

func exrSize(d []byte) (int, int, error) {
	h, err := exrHead(d)
	return h.width, h.height, err
}

// exrPick finds the channels to take: R, G, B and A, or Y, or the only one there is. Layers' prefixes are passed over.
func exrPick(list []exrChannel) []int {
	find := func(name string) int {
		return slices.IndexFunc(list, func(c exrChannel) bool {
			return strings.EqualFold(c.name[strings.LastIndexByte(c.name, '.')+1:], name)
		})
	}
	r, g, b := find("R"), find("G"), find("B")
	if r < 0 {
		r, g, b = find("X"), find("Y"), find("Z")
	}
	switch a := find("A"); {
	case r >= 0 && g >= 0 && b >= 0 && a >= 0:
		return []int{r, g, b, a}
	case r >= 0 && g >= 0 && b >= 0:
		return []int{r, g, b}
	case find("Y") >= 0:
		return []int{find("Y")}
	case r >= 0:
		return []int{r}
	}
	return []int{0}
}

func readEXR(d []byte) (*Picture, error) {
	h, err := exrHead(d)
	if err != nil {
		return nil, err
	}
	pick := exrPick(h.channels)
	p := &Picture{Width: h.width, Height: h.height, Channels: len(pick), Bits: 8 * h.channels[pick[0]].bytes, Float: true}
	perPixel := 0
	for _, c := range h.channels {
		perPixel += c.bytes
	}
	rows := exrMethods[h.compression].rows
	across, down := 1, (h.height+rows-1)/rows
	if h.tile > 0 {
		across, down = (h.width+h.tile-1)/h.tile, (h.height+h.tileDown-1)/h.tileDown
	}
	if 8*across*down > len(d)-h.at {
		return nil, damaged(errShort)
	}
	// Memory is taken when all blocks are there: no two may share bytes.
	if err := exrTable(d, &h, across*down); err != nil {
		return nil, damaged(err)
	}
	p.Pix = make([]float32, h.width*h.height*len(pick))
	for i := range across * down {
		at := binary.LittleEndian.Uint64(d[h.at+8*i:])
		head := 8
		if h.tile > 0 {
			head = 20
		}
		if at > uint64(len(d)-head) {
			return nil, damaged(fmt.Errorf("block %d lies outside the file", i))
		}
		b := d[at:]
		x0, y0, w, n := 0, int(int32(binary.LittleEndian.Uint32(b)))-h.y0, h.width, rows
		if h.tile > 0 {
			x0, y0 = int(binary.LittleEndian.Uint32(b))*h.tile, int(binary.LittleEndian.Uint32(b[4:]))*h.tileDown
			w, n = min(h.tile, h.width-x0), h.tileDown
		}
		size := int(int32(binary.LittleEndian.Uint32(b[head-4:])))
		if x0 < 0 || x0 >= h.width || y0 < 0 || y0 >= h.height || size < 0 || size > len(b)-head {
			return nil, damaged(fmt.Errorf("block %d is out of place", i))
		}
		n = min(n, h.height-y0)
		raw, err := exrUnpack(b[head:head+size], h.compression, &exrBlock{h.channels, w, n, w * n * perPixel})
		if err != nil {
			return nil, damaged(fmt.Errorf("block %d: %w", i, err))
		}
		for y := range n {
			at := y * w * perPixel
			for k, c := range h.channels {
				to := slices.Index(pick, k)
				for x := 0; x < w && to >= 0; x++ {
					p.Pix[((y0+y)*h.width+x0+x)*len(pick)+to] = exrSample(raw[at+x*c.bytes:], c)
				}
				at += w * c.bytes
			}
		}
	}
	return p, nil
}

// exrTable holds the table of blocks against the bytes that are there.
func exrTable(d []byte, h *exr, n int) error {
	head := 8
	if h.tile > 0 {
		head = 20
	}
	all := 0
	for i := range n {
		at := binary.LittleEndian.Uint64(d[h.at+8*i:])
		if at < uint64(h.at+8*n) || at > uint64(len(d)-head) {
			return fmt.Errorf("block %d lies outside the file", i)
		}
		size := int(int32(binary.LittleEndian.Uint32(d[int(at)+head-4:])))
		if size <= 0 || size > len(d)-head-int(at) {
			return fmt.Errorf("block %d is out of place", i)
		}
		if all += head + size; all > len(d) {
			return errors.New("blocks share their bytes")
		}
	}
	return nil
}

func exrSample(b []byte, c exrChannel) float32 {
	v := float32(0)
	switch {
	case c.bytes == 2:
		v = pixel.FromHalf(binary.LittleEndian.Uint16(b))
	case c.whole:
		v = float32(binary.LittleEndian.Uint32(b))
	default:
		v = math.Float32frombits(binary.LittleEndian.Uint32(b))
	}
	if v != v || math.IsInf(float64(v), 0) {
		return 0
	}
	return v
}

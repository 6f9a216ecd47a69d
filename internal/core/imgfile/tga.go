package imgfile

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// tga is the head of a TGA file (Truevision, TGA File Format Specification 2.0).
type tga struct {
	kind          uint8 // 1 palette, 2 colour, 3 grey; 8 more when run-length encoded
	entries       int   // of the palette
	entryBits     int
	width, height int
	bits          int
	fromTop       bool
	fromRight     bool
	at            int // byte where the palette begins
}

func tgaHead(d []byte) (tga, error) {
	if len(d) < 18 {
		return tga{}, damaged(errShort)
	}
	h := tga{kind: d[2], entries: int(binary.LittleEndian.Uint16(d[5:])), entryBits: int(d[7]), width: int(binary.LittleEndian.Uint16(d[12:])), height: int(binary.LittleEndian.Uint16(d[14:])),
		bits: int(d[16]), fromTop: d[17]&0x20 != 0, fromRight: d[17]&0x10 != 0, at: 18 + int(d[0])}
	if d[1] > 1 {
		return h, damaged(fmt.Errorf("palette type %d at byte 1", d[1]))
	}
	if d[1] == 0 {
		h.entries = 0
	}
	switch k := h.kind &^ 8; {
	case k < 1 || k > 3 || h.kind > 11:
		return h, fmt.Errorf("TGA type %d at byte 2 is not read; save it as colour or grey", h.kind)
	case k == 1 && (h.bits != 8 || h.entries == 0 || tgaBytes[h.entryBits] == 0):
		return h, fmt.Errorf("a palette of %d entries of %d bits is not read; save it without a palette", h.entries, h.entryBits)
	case k == 2 && tgaBytes[h.bits] == 0, k == 3 && h.bits != 8:
		return h, fmt.Errorf("%d bits a pixel at byte 16 are not read; save it with 8, 24 or 32", h.bits)
	}
	return h, nil
}

// tgaBytes are the bytes of a colour, by its bits.
var tgaBytes = map[int]int{15: 2, 16: 2, 24: 3, 32: 4}

func tgaSize(d []byte) (int, int, error) {
	h, err := tgaHead(d)
	return h.width, h.height, err
}

func readTGA(d []byte) (*Picture, error) {
	h, err := tgaHead(d)
	if err != nil {
		return nil, err
	}
	kind := h.kind &^ 8
	unit := h.bits / 8
	if kind == 2 {
		unit = tgaBytes[h.bits]
	}
	entry := tgaBytes[h.entryBits]
	if h.at > len(d) || h.entries*entry > len(d)-h.at {
		return nil, damaged(errShort)
	}
	palette := d[h.at : h.at+h.entries*entry]
	raw := d[h.at+h.entries*entry:]
	if h.kind&8 != 0 {
		if raw, err = tgaRuns(raw, unit, h.width*h.height); err != nil {
			return nil, err
		}
	} else if len(raw) < h.width*h.height*unit {
		return nil, damaged(errShort)
	}
	p := &Picture{Width: h.width, Height: h.height, Channels: 3, Bits: 8}
	switch {
	case kind == 3:
		p.Channels = 1
	case kind == 2 && h.bits == 32:
		p.Channels = 4
	}
	p.Whole = make([]uint16, h.width*h.height*p.Channels)
	for i := range h.width * h.height {
		x, y := i%h.width, i/h.width
		if !h.fromTop {
			y = h.height - 1 - y
		}
		if h.fromRight {
			x = h.width - 1 - x
		}
		px := raw[i*unit : (i+1)*unit]
		out := p.Whole[(y*h.width+x)*p.Channels:][:p.Channels]
		switch {
		case kind == 3:
			out[0] = uint16(px[0]) * 257
			continue
		case kind == 1:
			if int(px[0]) >= h.entries {
				return nil, damaged(errors.New("a pixel is outside the palette"))
			}
			px = palette[int(px[0])*entry:][:entry]
		}
		if len(px) == 2 {
			v := binary.LittleEndian.Uint16(px)
			for k := range 3 { // five bits of each
				out[k] = uint16((uint32(v>>(10-5*k)&31)*65535 + 15) / 31)
			}
			continue
		}
		out[0], out[1], out[2] = uint16(px[2])*257, uint16(px[1])*257, uint16(px[0])*257
		if p.Channels == 4 {
			out[3] = uint16(px[3]) * 257
		}
	}
	return p, nil
}

// tgaRuns undoes the run-length encoding.
func tgaRuns(d []byte, unit, pixels int) ([]byte, error) {
	// At the best 128 pixels come from one byte and one pixel.
	if pixels/128 > len(d)/(1+unit)+1 {
		return nil, damaged(errShort)
	}
	out := make([]byte, 0, pixels*unit)
	for len(out) < pixels*unit {
		if len(d) < 1+unit {
			return nil, damaged(errShort)
		}
		n := int(d[0]&0x7f) + 1
		run := d[0]&0x80 != 0
		d = d[1:]
		if run {
			for range n {
				out = append(out, d[:unit]...)
			}
			d = d[unit:]
			continue
		}
		if len(d) < n*unit {
			return nil, damaged(errShort)
		}
		out = append(out, d[:n*unit]...)
		d = d[n*unit:]
	}
	return out[:pixels*unit], nil
}

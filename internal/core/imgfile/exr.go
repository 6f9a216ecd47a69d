package imgfile

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
)

// exrLines is how many rows a ZIP block of an OpenEXR file holds.
const exrLines = 16

// Names of an OpenEXR file's channels, in the order in which pixels hold them.
var exrChannels = map[int][]string{1: {"Y"}, 3: {"R", "G", "B"}, 4: {"R", "G", "B", "A"}}

// WriteEXR writes 32-bit float pixels as an OpenEXR file. pix holds width · height · channels numbers, rows from the top.
func WriteEXR(w io.Writer, width, height, channels int, pix []float32) error {
	if exrChannels[channels] == nil || width < 1 || height < 1 || len(pix) != width*height*channels {
		return fmt.Errorf("%d × %d pixels of %d channels cannot be written as OpenEXR", width, height, channels)
	}
	var b memory
	f, err := FormatOf("exr")
	if err != nil {
		return err
	}
	err = f.Write(&b, &Image{Width: width, Height: height, Channels: channels, Bits: 32, Row: func(y int, row []byte) {
		for i, v := range pix[y*width*channels : (y+1)*width*channels] {
			binary.BigEndian.PutUint32(row[4*i:], math.Float32bits(v))
		}
	}})
	if err != nil {
		return err
	}
	_, err = w.Write(b.data)
	return err
}

// memory is a file in memory.
type memory struct {
	data []byte
	at   int
}

func (m *memory) Write(b []byte) (int, error) {
	if n := m.at + len(b) - len(m.data); n > 0 {
		m.data = append(m.data, make([]byte, n)...)
	}
	copy(m.data[m.at:], b)
	m.at += len(b)
	return len(b), nil
}

func (m *memory) Seek(at int64, from int) (int64, error) {
	switch from {
	case io.SeekCurrent:
		at += int64(m.at)
	case io.SeekEnd:
		at += int64(len(m.data))
	}
	m.at = int(at)
	return at, nil
}

// writeEXR writes floats of 16 or 32 bits as a scan-line OpenEXR file with ZIP compression (Academy Software Foundation, OpenEXR
// File Layout). What it holds is linear, as the format has it.
func writeEXR(w *placed, im *Image) error {
	names := exrChannels[im.Channels]
	// The file keeps channels in alphabetical order.
	order := make([]int, im.Channels)
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return strings.Compare(names[a], names[b]) })
	var b bytes.Buffer
	le := func(v ...uint32) {
		for _, x := range v {
			_ = binary.Write(&b, binary.LittleEndian, x)
		}
	}
	attribute := func(name, kind string, size int) {
		b.WriteString(name + "\x00" + kind + "\x00")
		le(uint32(size))
	}
	le(20000630, 2)
	attribute("channels", "chlist", 1+18*im.Channels)
	kind := uint32(2) // FLOAT
	if im.Bits == 16 {
		kind = 1 // HALF
	}
	for _, c := range order {
		b.WriteString(names[c] + "\x00")
		le(kind, 0, 1, 1) // not perceptually linear, sampled at every pixel
	}
	b.WriteByte(0)
	attribute("compression", "compression", 1)
	b.WriteByte(3) // ZIP, 16 rows a block
	for _, name := range []string{"dataWindow", "displayWindow"} {
		attribute(name, "box2i", 16)
		le(0, 0, uint32(im.Width-1), uint32(im.Height-1))
	}
	attribute("lineOrder", "lineOrder", 1)
	b.WriteByte(0) // from the top
	one := math.Float32bits(1)
	attribute("pixelAspectRatio", "float", 4)
	le(one)
	attribute("screenWindowCenter", "v2f", 8)
	le(0, 0)
	attribute("screenWindowWidth", "float", 4)
	le(one)
	b.WriteByte(0)
	table := int64(b.Len())
	offsets := make([]byte, 8*((im.Height+exrLines-1)/exrLines))
	b.Write(offsets)
	if _, err := w.b.Write(b.Bytes()); err != nil {
		return err
	}
	at := uint64(b.Len())
	err := im.pieces(exrLines, func(from, to int) ([]byte, error) {
		row, deep := make([]byte, im.stride()), im.Bits/8
		raw := make([]byte, 0, (to-from)*len(row))
		for y := from; y < to; y++ {
			im.row(y, row)
			for _, c := range order {
				for i := c * deep; i < len(row); i += im.Channels * deep {
					for k := deep - 1; k >= 0; k-- {
						raw = append(raw, row[i+k])
					}
				}
			}
		}
		packed, err := exrPack(raw)
		if err != nil {
			return nil, err
		}
		head := binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(nil, uint32(from)), uint32(len(packed)))
		return append(head, packed...), nil
	}, func(k int, data []byte) error {
		binary.LittleEndian.PutUint64(offsets[8*k:], at)
		at += uint64(len(data))
		_, err := w.b.Write(data)
		return err
	})
	if err != nil {
		return err
	}
	return w.patch(table, offsets)
}

// exrPack parts even from odd bytes, takes differences, and deflates; what does not get smaller stays.
func exrPack(raw []byte) ([]byte, error) {
	half := (len(raw) + 1) / 2
	parted := make([]byte, len(raw))
	for i, v := range raw {
		if i%2 == 0 {
			parted[i/2] = v
		} else {
			parted[half+i/2] = v
		}
	}
	last := parted[0]
	for i := 1; i < len(parted); i++ {
		v := parted[i]
		parted[i] = v - last + 128
		last = v
	}
	packed, err := deflated(parted)
	if err != nil || len(packed) >= len(raw) {
		return raw, err
	}
	return packed, nil
}

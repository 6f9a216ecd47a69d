package imgfile

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"fmt"
	"io"
	"math"
)

// exrLines is how many rows a ZIP block of an OpenEXR file holds.
const exrLines = 16

// Names of an OpenEXR file's channels, in the order in which pixels hold them.
var exrChannels = map[int][]string{1: {"Y"}, 3: {"R", "G", "B"}, 4: {"R", "G", "B", "A"}}

// WriteEXR writes 32-bit float pixels as a scan-line OpenEXR file with ZIP compression (Academy Software
// Foundation, OpenEXR File Layout). pix holds width · height · channels numbers, rows from the top.
func WriteEXR(w io.Writer, width, height, channels int, pix []float32) error {
	names := exrChannels[channels]
	if names == nil || width < 1 || height < 1 || len(pix) != width*height*channels {
		return fmt.Errorf("%d × %d pixels of %d channels cannot be written as OpenEXR", width, height, channels)
	}
	// The file keeps channels in alphabetical order.
	order := make([]int, channels)
	for i := range order {
		order[i] = i
	}
	for i := range order {
		for j := i + 1; j < channels; j++ {
			if names[order[j]] < names[order[i]] {
				order[i], order[j] = order[j], order[i]
			}
		}
	}
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
	attribute("channels", "chlist", 1+18*channels)
	for _, c := range order {
		b.WriteString(names[c] + "\x00")
		le(2, 0, 1, 1) // FLOAT, not perceptually linear, sampled at every pixel
	}
	b.WriteByte(0)
	attribute("compression", "compression", 1)
	b.WriteByte(3) // ZIP, 16 rows a block
	for _, name := range []string{"dataWindow", "displayWindow"} {
		attribute(name, "box2i", 16)
		le(0, 0, uint32(width-1), uint32(height-1))
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
	blocks := (height + exrLines - 1) / exrLines
	at := uint64(b.Len() + 8*blocks)
	var body bytes.Buffer
	for k := range blocks {
		_ = binary.Write(&b, binary.LittleEndian, at+uint64(body.Len()))
		from, to := k*exrLines, min(height, (k+1)*exrLines)
		raw := make([]byte, 0, (to-from)*width*channels*4)
		for y := from; y < to; y++ {
			for _, c := range order {
				for x := range width {
					raw = binary.LittleEndian.AppendUint32(raw, math.Float32bits(pix[(y*width+x)*channels+c]))
				}
			}
		}
		packed, err := exrPack(raw)
		if err != nil {
			return err
		}
		_ = binary.Write(&body, binary.LittleEndian, [2]uint32{uint32(from), uint32(len(packed))})
		body.Write(packed)
	}
	if _, err := w.Write(b.Bytes()); err != nil {
		return err
	}
	_, err := w.Write(body.Bytes())
	return err
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
	var b bytes.Buffer
	z := zlib.NewWriter(&b)
	if _, err := z.Write(parted); err != nil {
		return nil, err
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	if b.Len() >= len(raw) {
		return raw, nil
	}
	return b.Bytes(), nil
}

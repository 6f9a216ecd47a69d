package imgfile

import (
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
)

// WriteAPNG writes PNGs of one size and kind as one that moves (W3C, PNG 3rd edition, §11.3.6), round and round, each shown for so many
// milliseconds. Readers that know nothing of that show the first.
func WriteAPNG(w io.Writer, pngs [][]byte, ms int) error {
	if len(pngs) == 0 || ms < 1 || ms > 60_000 {
		return errors.New("pictures that move are one or more, each for 1 to 60,000 ms")
	}
	var fault error
	put := func(kind string, data []byte) {
		if fault != nil {
			return
		}
		b := binary.BigEndian.AppendUint32(nil, uint32(len(data)))
		b = append(append(b, kind...), data...)
		b = binary.BigEndian.AppendUint32(b, crc32.ChecksumIEEE(b[4:]))
		_, fault = w.Write(b)
	}
	number := uint32(0)
	next := func(b []byte) []byte {
		b = binary.BigEndian.AppendUint32(b, number)
		number++
		return b
	}
	if _, fault = w.Write([]byte("\x89PNG\r\n\x1a\n")); fault != nil {
		return fault
	}
	for i, p := range pngs {
		told := false // of the frame
		err := eachChunk(p, func(kind string, data []byte) {
			switch {
			case kind == "IEND" || kind == "IHDR" && i > 0:
			case kind == "IHDR":
				put(kind, data)
				put("acTL", binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, uint32(len(pngs))), 0))
			case kind == "IDAT":
				if !told {
					told = true
					b := append(next(nil), pngs[0][16:24]...) // width and height of the first
					b = append(b, 0, 0, 0, 0, 0, 0, 0, 0)     // from the corner
					b = binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(b, uint16(ms)), 1000)
					put("fcTL", append(b, 0, 0))
				}
				if i == 0 {
					put(kind, data)
				} else {
					put("fdAT", append(next(nil), data...))
				}
			case i == 0:
				put(kind, data)
			}
		})
		if err != nil {
			return err
		}
		if !told {
			return errors.New("one of the pictures holds nothing")
		}
	}
	put("IEND", nil)
	return fault
}

// eachChunk goes through the chunks of a PNG that this package has written.
func eachChunk(p []byte, f func(kind string, data []byte)) error {
	if len(p) < 33 {
		return errShort
	}
	for p = p[8:]; len(p) >= 12; {
		n := int(binary.BigEndian.Uint32(p))
		if n < 0 || n > len(p)-12 {
			return errShort
		}
		f(string(p[4:8]), p[8:8+n])
		p = p[12+n:]
	}
	return nil
}

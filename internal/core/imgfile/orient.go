package imgfile

import (
	"bytes"
	"encoding/binary"
)

// orientation is how a JPEG's rows and columns are to be shown, 1 to 8 (Exif 2.32 §4.6.4, tag 274; 1 is as they are). Cameras that
// were held upright write it instead of turning the picture.
func orientation(data []byte) int {
	for at := 2; at+4 <= len(data) && data[at] == 0xff; {
		marker, n := data[at+1], int(binary.BigEndian.Uint16(data[at+2:]))
		end := at + 2 + n
		if marker == 0xda || n < 2 || end > len(data) { // the picture itself begins
			break
		}
		if exif, ok := bytes.CutPrefix(data[at+4:end], []byte("Exif\x00\x00")); ok && marker == 0xe1 {
			return exifOrientation(exif)
		}
		at = end
	}
	return 1
}

// exifOrientation reads it from the first directory of a TIFF, which Exif is.
func exifOrientation(d []byte) int {
	if len(d) < 8 {
		return 1
	}
	var order binary.ByteOrder = binary.BigEndian
	if d[0] == 'I' {
		order = binary.LittleEndian
	}
	at := int(order.Uint32(d[4:]))
	if at < 8 || at+2 > len(d) {
		return 1
	}
	entries := d[at+2:]
	for range min(int(order.Uint16(d[at:])), len(entries)/12) {
		if order.Uint16(entries) == 274 {
			if v := int(order.Uint16(entries[8:])); v >= 1 && v <= 8 {
				return v
			}
			return 1
		}
		entries = entries[12:]
	}
	return 1
}

// lying tells whether rows are shown as columns.
func lying(orientation int) bool { return orientation >= 5 }

// orient turns and mirrors a picture of whole numbers as its orientation says.
func (p *Picture) orient(orientation int) {
	if orientation == 1 {
		return
	}
	from, w, h := p.Whole, p.Width, p.Height
	if lying(orientation) {
		p.Width, p.Height = h, w
	}
	p.Whole = make([]uint16, len(from))
	at := 0
	for y := range p.Height {
		for x := range p.Width {
			i, j := x, y // column and row in the file
			if lying(orientation) {
				i, j = y, x
			}
			if o := orientation; o == 2 || o == 3 || o == 7 || o == 8 {
				i = w - 1 - i
			}
			if o := orientation; o == 3 || o == 4 || o == 6 || o == 7 {
				j = h - 1 - j
			}
			at += copy(p.Whole[at:], from[(j*w+i)*p.Channels:][:p.Channels])
		}
	}
}

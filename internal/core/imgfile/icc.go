package imgfile

import (
	"encoding/binary"
	"math"
	"unicode/utf16"
)

// profileSRGB is an ICC profile (ICC.1:2010, version 4) of sRGB: three colourants adapted to D50, and the transfer of
// IEC 61966-2-1 as a parametric curve.
func profileSRGB() []byte {
	be := binary.BigEndian
	fixed := func(b []byte, v ...float64) []byte {
		for _, x := range v {
			b = be.AppendUint32(b, uint32(int32(math.Round(x*65536))))
		}
		return b
	}
	words := func(s string) []byte {
		u := utf16.Encode([]rune(s))
		b := append([]byte("mluc\x00\x00\x00\x00"), 0, 0, 0, 1, 0, 0, 0, 12, 'e', 'n', 'U', 'S')
		b = be.AppendUint32(be.AppendUint32(b, uint32(2*len(u))), 28)
		for _, c := range u {
			b = be.AppendUint16(b, c)
		}
		return b
	}
	xyz := func(x, y, z float64) []byte { return fixed([]byte("XYZ \x00\x00\x00\x00"), x, y, z) }
	// Parametric curve of type 3: (a·x + b)^g from d on, c·x below.
	curve := fixed(append([]byte("para\x00\x00\x00\x00"), 0, 3, 0, 0), 2.4, 1/1.055, 0.055/1.055, 1/12.92, 0.04045)
	tags := []struct {
		name string
		data []byte
	}{
		{"desc", words("sRGB")}, {"cprt", words("No copyright, use freely")}, {"wtpt", xyz(0.9642, 1, 0.8249)},
		{"rXYZ", xyz(0.4360747, 0.2225045, 0.0139322)}, {"gXYZ", xyz(0.3850649, 0.7168786, 0.0971045)}, {"bXYZ", xyz(0.1430804, 0.0606169, 0.7141733)},
		{"rTRC", curve}, {"gTRC", curve}, {"bTRC", curve},
		// From D65 to D50 by Bradford's matrix.
		{"chad", fixed([]byte("sf32\x00\x00\x00\x00"), 1.0478112, 0.0228866, -0.0501270, 0.0295424, 0.9904844, -0.0170491, -0.0092345, 0.0150436, 0.7521316)},
	}
	body := be.AppendUint32(nil, uint32(len(tags)))
	at := 128 + 4 + 12*len(tags)
	var data []byte
	for i, t := range tags {
		if i > 6 && t.name != "chad" { // the three curves are one
			body = be.AppendUint32(be.AppendUint32(append(body, t.name...), be.Uint32(body[len(body)-8:])), uint32(len(t.data)))
			continue
		}
		body = be.AppendUint32(be.AppendUint32(append(body, t.name...), uint32(at+len(data))), uint32(len(t.data)))
		data = append(data, t.data...)
		for len(data)%4 > 0 {
			data = append(data, 0)
		}
	}
	body = append(body, data...)
	head := make([]byte, 128)
	be.PutUint32(head, uint32(128+len(body)))
	be.PutUint32(head[8:], 0x04200000)
	copy(head[12:], "mntrRGB XYZ ")
	be.PutUint16(head[24:], 2026) // year, month, day of the profile
	be.PutUint16(head[26:], 1)
	be.PutUint16(head[28:], 1)
	copy(head[36:], "acsp")
	copy(head[68:], fixed(nil, 0.9642, 1, 0.8249)) // the light of the connection space
	return append(head, body...)
}

package imgfile

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"runtime"
	"strings"
	"testing"

	"golang.org/x/image/tiff"
)

// allocated is how many MB f takes in all.
func allocated(f func()) uint64 {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	f()
	runtime.ReadMemStats(&after)
	return (after.TotalAlloc - before.TotalAlloc) >> 20
}

// An OpenEXR head that promises 8192² texels of four channels, with a table of blocks that are not there, is refused
// before memory is taken for the texels.
func TestPromisedTexelsTakeNoMemory(t *testing.T) {
	var b bytes.Buffer
	le := binary.LittleEndian
	u32 := func(v uint32) { b.Write(le.AppendUint32(nil, v)) }
	u32(20000630)
	u32(2)
	attr := func(name, kind string, v []byte) {
		b.WriteString(name + "\x00" + kind + "\x00")
		u32(uint32(len(v)))
		b.Write(v)
	}
	var channels, window []byte
	for _, n := range []string{"A", "B", "G", "R"} {
		channels = append(append(channels, n...), 0)
		channels = append(le.AppendUint32(channels, 1), 0, 0, 0, 0)
		channels = le.AppendUint32(le.AppendUint32(channels, 1), 1)
	}
	attr("channels", "chlist", append(channels, 0))
	attr("compression", "compression", []byte{exrPIZ})
	for _, v := range []uint32{0, 0, 8191, 8191} {
		window = le.AppendUint32(window, v)
	}
	attr("dataWindow", "box2i", window)
	b.WriteByte(0)
	b.Write(make([]byte, 8*256+16))
	var err error
	if mb := allocated(func() { _, err = Read("x.exr", b.Bytes()) }); err == nil || mb > 8 {
		t.Errorf("%d bytes take %d MB, %v; want a refusal under 8 MB", b.Len(), mb, err)
	}
}

// A grey palette makes a grey picture of 16 bits a texel, not three floats; Check keeps no pixel at all.
func TestPicturesTakeWhatTheyNeed(t *testing.T) {
	const n = 2048
	img := image.NewPaletted(image.Rect(0, 0, n, n), color.Palette{color.Gray{40}, color.Gray{200}})
	for i := range img.Pix {
		img.Pix[i] = uint8(i / 7 % 2)
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		t.Fatal(err)
	}
	var p *Picture
	var err error
	if mb := allocated(func() { p, err = Read("a.png", b.Bytes()) }); err != nil || mb > 20 {
		t.Errorf("reading takes %d MB, %v; want under 20: a byte a texel while it is unpacked, two kept", mb, err)
	}
	if p.Channels != 1 || p.At(0) != 40./255 || p.At(7) != 200./255 {
		t.Errorf("%d channels, %g, %g; want grey 40/255 and 200/255", p.Channels, p.At(0), p.At(7))
	}
	if mb := allocated(func() { _, err = Check("a.png", b.Bytes()) }); err != nil || mb > 2 {
		t.Errorf("checking takes %d MB, %v", mb, err)
	}
}

// Check refuses what image/png refuses, and passes what it passes: depths, colour types, and each byte broken.
func TestCheckAgreesWithTheDecoder(t *testing.T) {
	r := image.Rect(0, 0, 9, 7)
	for name, img := range map[string]image.Image{"grey": image.NewGray(r), "grey 16": image.NewGray16(r), "alpha": image.NewNRGBA(r), "alpha 16": image.NewNRGBA64(r), "palette": image.NewPaletted(r, color.Palette{color.Black, color.White})} {
		var b bytes.Buffer
		if err := png.Encode(&b, img); err != nil {
			t.Fatal(err)
		}
		if size, err := Check(name, b.Bytes()); err != nil || size != r.Max {
			t.Errorf("%s: %v, %v", name, size, err)
		}
		for i := range b.Bytes() {
			bad := bytes.Clone(b.Bytes())
			bad[i] ^= 0x21
			_, own := Check(name, bad)
			if _, err := png.Decode(bytes.NewReader(bad)); err != nil && own == nil {
				t.Errorf("%s with byte %d broken passes; the decoder says %v", name, i, err)
			}
			if _, err := Check(name, b.Bytes()[:i]); err == nil {
				t.Errorf("%s cut at byte %d passes", name, i)
			}
		}
	}
}

// A JPEG of thousands of scans is refused for their number.
func TestJPEGsOfManyScansAreRefused(t *testing.T) {
	var b bytes.Buffer
	if err := jpeg.Encode(&b, image.NewGray(image.Rect(0, 0, 16, 16)), nil); err != nil {
		t.Fatal(err)
	}
	if _, err := Read("a.jpg", b.Bytes()); err != nil {
		t.Fatal(err)
	}
	at := bytes.Index(b.Bytes(), []byte{0xff, 0xda})
	scan := b.Bytes()[at : b.Len()-2]
	many := append(bytes.Clone(b.Bytes()[:at]), bytes.Repeat(scan, 2000)...)
	if _, err := Read("a.jpg", append(many, 0xff, 0xd9)); err == nil || !strings.Contains(err.Error(), "2000 scans") {
		t.Errorf("%v, want a refusal for 2000 scans", err)
	}
}

// A sound TIFF of a kind that is not read is not called damaged.
func TestSoundTIFFsAreNotCalledDamaged(t *testing.T) {
	var b bytes.Buffer
	if err := tiff.Encode(&b, image.NewGray16(image.Rect(0, 0, 8, 8)), nil); err != nil {
		t.Fatal(err)
	}
	// Tag 262, how samples are to be taken: 5 is CMYK (TIFF 6.0, section 16).
	d := b.Bytes()
	at := bytes.Index(d, []byte{6, 1, 3, 0, 1, 0, 0, 0})
	if at < 0 {
		t.Fatal("no tag 262")
	}
	d[at+8] = 5
	if _, err := Read("a.tif", d); err == nil || strings.Contains(err.Error(), "damaged") || !strings.Contains(err.Error(), "save it") {
		t.Errorf("%v: want what it is and what to do", err)
	}
}

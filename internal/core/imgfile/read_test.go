package imgfile

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/color"
	"image/jpeg"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"crust/internal/core/pixel"
)

// original is a small picture whose every texel differs, as 8-bit colour, also held as PNG for the reference tools.
func original(t *testing.T, dir string) (img *image.NRGBA, file string) {
	t.Helper()
	const w, h = 21, 13
	img = image.NewNRGBA(image.Rect(0, 0, w, h))
	im := &Image{Width: w, Height: h, Channels: 3, Bits: 8, Pix8: make([]uint8, 3*w*h)}
	for y := range h {
		for x := range w {
			c := color.NRGBA{uint8(x * 12), uint8(y * 19), uint8(x*7 ^ y*31), 255}
			img.SetNRGBA(x, y, c)
			copy(im.Pix8[3*(y*w+x):], []uint8{c.R, c.G, c.B})
		}
	}
	data, err := Bytes(im)
	if err != nil {
		t.Fatal(err)
	}
	file = filepath.Join(dir, "original.png")
	if err := os.WriteFile(file, data, 0o644); err != nil {
		t.Fatal(err)
	}
	return img, file
}

func compare(t *testing.T, what string, p *Picture, img *image.NRGBA, allow float64) {
	t.Helper()
	b := img.Bounds()
	if p.Width != b.Dx() || p.Height != b.Dy() {
		t.Errorf("%s is %d × %d, want %v", what, p.Width, p.Height, b.Size())
		return
	}
	for i := range b.Dx() * b.Dy() {
		c := img.NRGBAAt(i%b.Dx(), i/b.Dx())
		for k, want := range []uint8{c.R, c.G, c.B}[:min(3, p.Channels)] {
			if got := float64(p.At(i*p.Channels+k)) * 255; math.Abs(got-float64(want)) > allow {
				t.Errorf("%s: texel %d, channel %d is %.2f, want %d", what, i, k, got, want)
				return
			}
		}
	}
}

// convertTool is Debian's ImageMagick, under the name that no other program has.
func convertTool(t *testing.T) string {
	t.Helper()
	for _, name := range []string{"convert-im6.q16", "convert-im7.q16", "magick"} {
		if f, err := exec.LookPath(name); err == nil {
			return f
		}
	}
	t.Fatal("ImageMagick is not installed; ./run test installs it")
	return ""
}

// Files that ImageMagick, the outside reference, has written are read with the same samples: TGA plain and run-length
// encoded, with and without alpha, grey; TIFF of 8 and 16 bits, LZW and plain; JPEG within its loss.
func TestFilesOfAReferenceWriterAreReadBack(t *testing.T) {
	dir := t.TempDir()
	img, file := original(t, dir)
	for _, c := range []struct {
		out   string
		flags []string
		bits  int
		allow float64
	}{
		// ImageMagick writes TGA rows as they come and says in the head where the first one stands.
		{"plain.tga", []string{"-orient", "TopLeft", "-compress", "none"}, 8, 0.01},
		{"upwards.tga", []string{"-orient", "BottomLeft", "-flip", "-compress", "none"}, 8, 0.01},
		{"runs.tga", []string{"-orient", "TopLeft", "-compress", "rle"}, 8, 0.01},
		{"alpha.tga", []string{"-orient", "TopLeft", "-alpha", "on"}, 8, 0.01},
		{"lzw.tif", []string{"-compress", "lzw"}, 8, 0.01},
		{"plain.tiff", []string{"-compress", "none"}, 8, 0.01},
		{"deep.tif", []string{"-depth", "16", "-define", "tiff:fill-order=msb"}, 16, 0.01},
		{"deep.png", []string{"-depth", "16", "-define", "png:bit-depth=16"}, 16, 0.01},
	} {
		path := filepath.Join(dir, c.out)
		if out, err := exec.Command(convertTool(t), append(append([]string{file}, c.flags...), path)...).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v %s", c.out, err, out)
		}
		data, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		p, err := Read(c.out, data)
		if err != nil {
			t.Error(err)
			continue
		}
		compare(t, c.out, p, img, c.allow)
		if p.Bits != c.bits {
			t.Errorf("%s has %d bits, want %d", c.out, p.Bits, c.bits)
		}
	}
	smooth := image.NewNRGBA(image.Rect(0, 0, 64, 64))
	for i := range 64 * 64 {
		smooth.SetNRGBA(i%64, i/64, color.NRGBA{uint8(100 + i%64), uint8(100 + i%64), uint8(100 + i%64), 255})
	}
	var b bytes.Buffer
	if err := jpeg.Encode(&b, smooth, &jpeg.Options{Quality: 95}); err != nil {
		t.Fatal(err)
	}
	p, err := Read("smooth.JPG", b.Bytes())
	if err != nil {
		t.Fatal(err)
	}
	compare(t, "smooth.JPG", p, smooth, 3)
}

// OpenEXR: what is written is read back bit by bit, and as tiles after exrmaketiled, of Debian's openexr, has made it so.
func TestOpenEXRIsReadBack(t *testing.T) {
	const w, h = 37, 29
	pix := make([]float32, w*h*3)
	for i := range pix {
		pix[i] = float32(i%97)/97*3 - 1
	}
	var b bytes.Buffer
	if err := WriteEXR(&b, w, h, 3, pix); err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	same := func(what string, data []byte) {
		p, err := Read(what, data)
		if err != nil {
			t.Error(err)
			return
		}
		if p.Width != w || p.Height != h || p.Channels != 3 || !p.Float || p.Bits != 32 {
			t.Errorf("%s: %d × %d of %d channels, %d bits", what, p.Width, p.Height, p.Channels, p.Bits)
			return
		}
		for i, v := range p.Pix {
			if v != pix[i] {
				t.Errorf("%s: value %d is %g, want %g", what, i, v, pix[i])
				return
			}
		}
	}
	same("lines.exr", b.Bytes())
	in, out := filepath.Join(dir, "in.exr"), filepath.Join(dir, "tiles.exr")
	if err := os.WriteFile(in, b.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, method := range []string{"none", "rle", "zip"} {
		if msg, err := exec.Command("exrmaketiled", "-o", "-t", "16", "12", "-z", method, in, out).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v %s", method, err, msg)
		}
		data, err := os.ReadFile(out)
		if err != nil {
			t.Fatal(err)
		}
		same("tiles, "+method+".exr", data)
	}
}

// mixedEXR is an OpenEXR file without compression, with a half, a float and a whole-number channel, and one that is
// marked as perceived evenly (OpenEXR File Layout).
func mixedEXR(w, h int, value func(c, x, y int) float64) []byte {
	le := binary.LittleEndian
	d := []byte{0x76, 0x2f, 0x31, 0x01, 2, 0, 0, 0}
	attribute := func(name, kind string, v []byte) {
		d = append(d, name+"\x00"+kind+"\x00"...)
		d = append(le.AppendUint32(d, uint32(len(v))), v...)
	}
	var list []byte
	kinds := []uint32{1, 1, 2, 0} // A, B half, G float, R whole
	for i, name := range []string{"A", "B", "G", "R"} {
		list = append(list, name+"\x00"...)
		list = le.AppendUint32(list, kinds[i])
		list = append(list, byte(i%2^1), 0, 0, 0) // A and G are perceived evenly
		list = le.AppendUint32(le.AppendUint32(list, 1), 1)
	}
	attribute("channels", "chlist", append(list, 0))
	attribute("compression", "compression", []byte{0})
	window := le.AppendUint32(le.AppendUint32(make([]byte, 8), uint32(w-1)), uint32(h-1))
	attribute("dataWindow", "box2i", window)
	attribute("displayWindow", "box2i", window)
	attribute("lineOrder", "lineOrder", []byte{0})
	attribute("pixelAspectRatio", "float", le.AppendUint32(nil, math.Float32bits(1)))
	attribute("screenWindowCenter", "v2f", make([]byte, 8))
	attribute("screenWindowWidth", "float", le.AppendUint32(nil, math.Float32bits(1)))
	d = append(d, 0)
	row := 8 + w*12
	at := len(d) + 8*h
	for y := range h {
		d = le.AppendUint64(d, uint64(at+y*row))
	}
	for y := range h {
		d = le.AppendUint32(le.AppendUint32(d, uint32(y)), uint32(w*12))
		for c, kind := range kinds {
			for x := range w {
				switch v := value(c, x, y); kind {
				case 1:
					d = le.AppendUint16(d, pixel.Half(float32(v)))
				case 2:
					d = le.AppendUint32(d, math.Float32bits(float32(v)))
				default:
					d = le.AppendUint32(d, uint32(v))
				}
			}
		}
	}
	return d
}

// Every compression comes out number by number as exrmaketiled, of Debian's openexr, unpacks it itself: smooth and
// rough values, few and all words, whole and broken blocks.
func TestOpenEXRCompressions(t *testing.T) {
	rough := rand.New(rand.NewPCG(1, 2))
	pictures := map[string]func(c, x, y int) float64{
		"smooth": func(c, x, y int) float64 { return 1.5 + math.Sin(float64(x+c)/9)*math.Cos(float64(y)/7) },
		"rough":  func(c, x, y int) float64 { return math.Exp(rough.Float64()*20 - 10) },
		"flat":   func(c, x, y int) float64 { return float64(1 + c) },
		"steps":  func(c, x, y int) float64 { return float64((x/5+y/3)%4 + c) },
	}
	dir := t.TempDir()
	in, packed, plain := filepath.Join(dir, "in.exr"), filepath.Join(dir, "packed.exr"), filepath.Join(dir, "plain.exr")
	convert := func(method, from, to string) *Picture {
		t.Helper()
		if msg, err := exec.Command("exrmaketiled", "-o", "-t", "96", "70", "-z", method, from, to).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v %s", method, err, msg)
		}
		data, err := os.ReadFile(to)
		if err != nil {
			t.Fatal(err)
		}
		p, err := Read(to, data)
		if err != nil {
			t.Fatalf("%s: %v", method, err)
		}
		return p
	}
	for name, value := range pictures {
		if err := os.WriteFile(in, mixedEXR(213, 171, value), 0o644); err != nil {
			t.Fatal(err)
		}
		for _, method := range []string{"piz", "pxr24", "b44", "b44a", "zip", "rle"} {
			got, want := convert(method, in, packed), convert("none", packed, plain)
			wrong := 0
			for i, v := range want.Pix {
				if got.Pix[i] != v {
					wrong++
				}
			}
			if wrong > 0 || len(got.Pix) != 213*171*4 {
				t.Errorf("%s, %s: %d of %d numbers differ from openexr's", name, method, wrong, len(got.Pix))
			}
		}
	}
	if msg, err := exec.Command("exrmaketiled", "-o", "-z", "dwaa", in, packed).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, msg)
	}
	data, _ := os.ReadFile(packed)
	if _, err := Read("lossy.exr", data); err == nil || !strings.Contains(err.Error(), "DWAA") || !strings.Contains(err.Error(), "save it with ZIP") {
		t.Errorf("a compression that is not read: %v", err)
	}
}

func TestFilesThatAreNoPicturesAreToldSo(t *testing.T) {
	for name, data := range map[string][]byte{
		"a.png": []byte("hello"), "a.jpg": {0xff, 0xd8, 0xff}, "a.tga": {1, 2, 3}, "a.tif": []byte("II*\x00"), "a.exr": {0x76, 0x2f, 0x31, 0x01, 2, 0, 0, 0}, "a.psdx": {}, "empty.png": nil,
		"wide.tga": {0, 0, 2, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0xff, 0xff, 0xff, 0xff, 24, 0},
	} {
		if _, err := Read(name, data); err == nil || !strings.HasPrefix(err.Error(), name) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// Whatever the bytes, Read answers with a picture of its stated size or with an error.
func FuzzRead(f *testing.F) {
	var b bytes.Buffer
	if err := WriteEXR(&b, 5, 4, 1, make([]float32, 20)); err != nil {
		f.Fatal(err)
	}
	f.Add(uint8(0), b.Bytes())
	f.Add(uint8(1), append([]byte{0, 0, 10, 0, 0, 0, 0, 0, 0, 0, 0, 0, 3, 0, 2, 0, 24, 0}, 0x85, 1, 2, 3))
	f.Add(uint8(2), []byte("II*\x00\x08\x00\x00\x00\x00\x00"))
	f.Add(uint8(3), []byte{0xff, 0xd8, 0xff, 0xc0})
	for _, method := range []byte{exrPIZ, exrPXR24, exrB44} {
		d := mixedEXR(3, 2, func(c, x, y int) float64 { return float64(x) })
		d[bytes.Index(d, []byte("compression\x00compression\x00"))+28] = method
		f.Add(uint8(0), d)
	}
	f.Add(uint8(4), []byte("#?RADIANCE\n\n-Y 1 +X 8\n\x02\x02\x00\x08\x88\x01\x88\x01\x88\x01\x88\x80"))
	f.Add(uint8(3), photo(f, 6, binary.BigEndian, "MM"))
	names := []string{"a.exr", "a.tga", "a.tif", "a.jpg", "a.hdr"}
	f.Fuzz(func(t *testing.T, kind uint8, data []byte) {
		name := names[int(kind)%len(names)]
		if w, h, err := Size(name, data); err != nil || w*h > 1<<20 {
			return // large pictures only cost the fuzzer time
		}
		p, err := Read(name, data)
		if err == nil && p.Len() != p.Width*p.Height*p.Channels {
			t.Errorf("%d values for %d × %d of %d", p.Len(), p.Width, p.Height, p.Channels)
		}
	})
}

// Radiance pictures, packed and not, give what ImageMagick reads of them, to half a step of their mantissas (Radiance's own reader takes
// the middle of a step).
func TestRadiancePictures(t *testing.T) {
	convert := convertTool(t)
	dir := t.TempDir()
	name := filepath.Join(dir, "a.hdr")
	if out, err := exec.Command(convert, "-size", "40x11", "gradient:#402010-#f0e0ff", "-set", "colorspace", "RGB", "-evaluate", "multiply", "0.9", name).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	data, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	p, err := Read("a.hdr", data)
	if err != nil || p.Width != 40 || p.Height != 11 || p.Channels != 3 || !p.Float {
		t.Fatalf("%+v, %v", p, err)
	}
	raw, err := exec.Command(convert, name, "-set", "colorspace", "sRGB", "-depth", "16", "-endian", "MSB", "rgb:-").Output()
	if err != nil || len(raw) != 2*len(p.Pix) {
		t.Fatal(err, len(raw))
	}
	for i, v := range p.Pix {
		want := float64(binary.BigEndian.Uint16(raw[2*i:])) / 65535
		most := max(p.Pix[i/3*3], p.Pix[i/3*3+1], p.Pix[i/3*3+2]) // whose steps all three have
		if math.Abs(float64(v)-want) > float64(most)/250+1e-4 {
			t.Fatalf("value %d is %g, want %g", i, v, want)
		}
	}
	// By hand: a row that is not packed, and one that is: a run of 8 reds, then values one by one. 2⁻⁸·(m + ½)·2^(e − 128).
	head := "#?RADIANCE\n# made by hand\nFORMAT=32-bit_rle_rgbe\n\n-Y 2 +X 8\n"
	plain := bytes.Repeat([]byte{128, 64, 0, 129}, 8)
	packed := []byte{2, 2, 0, 8, 128 + 8, 200, 8, 0, 1, 2, 3, 4, 5, 6, 7, 128 + 8, 10, 128 + 8, 131}
	p, err = Read("b.hdr", append([]byte(head), append(plain, packed...)...))
	if err != nil {
		t.Fatal(err)
	}
	if p.Pix[0] != 128.5/128 || p.Pix[1] != 64.5/128 || p.Pix[2] != 0.5/128 {
		t.Errorf("the first pixel is %v", p.Pix[:3])
	}
	if at := p.Pix[24:]; at[0] != 200.5/32 || at[3*5+1] != 5.5/32 || at[2] != 10.5/32 {
		t.Errorf("the second row is %v", at)
	}
	for _, bad := range []string{"", "#?RADIANCE\n", head, head + string(plain), head + string(plain) + string(packed[:9]), strings.Replace(head, "-Y 2", "+Y 2", 1), strings.Replace(head, "rgbe", "xyze", 1), strings.Replace(head, "+X 8", "+X 99999999", 1), head + string(plain) + "\x02\x02\x00\x08\x89\x01"} {
		if _, err := Read("c.hdr", []byte(bad)); err == nil || strings.Contains(err.Error(), "\n") {
			t.Errorf("%q: %v", bad, err)
		}
	}
}

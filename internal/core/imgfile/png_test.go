package imgfile

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/color"
	"image/png"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"testing"
)

func sampleImage(w, h, channels, bits int, seed uint64) *Image {
	r := rand.New(rand.NewPCG(seed, 9))
	im := &Image{Width: w, Height: h, Channels: channels, Bits: bits, SRGB: bits == 8}
	n := w * h * channels
	for i := range n {
		v := uint16(i*37) + uint16(r.IntN(900))
		if bits == 8 {
			im.Pix8 = append(im.Pix8, uint8(v>>8))
		} else {
			im.Pix16 = append(im.Pix16, v)
		}
	}
	return im
}

func (im *Image) at(x, y, k int) uint16 {
	i := (y*im.Width+x)*im.Channels + k
	if im.Bits == 8 {
		return uint16(im.Pix8[i]) * 257
	}
	return im.Pix16[i]
}

// W3C PNG (third edition): Go's own reader gives back the same samples, at every kind written.
func TestPNGReadsBackTheSameSamples(t *testing.T) {
	for _, c := range []struct{ w, h, channels, bits int }{{1, 1, 1, 8}, {33, 17, 3, 8}, {64, 64, 4, 8}, {700, 900, 3, 8}, {5, 7, 1, 16}, {300, 800, 3, 16}, {40, 40, 4, 16}} {
		im := sampleImage(c.w, c.h, c.channels, c.bits, 1)
		data, err := Bytes(im)
		if err != nil {
			t.Fatal(err)
		}
		got, err := ReadPNG("a.png", data)
		if err != nil {
			t.Fatalf("%v: %v", c, err)
		}
		for y := range c.h {
			for x := range c.w {
				var v [4]uint16
				switch p := got.At(x, y).(type) {
				case color.NRGBA:
					v = [4]uint16{uint16(p.R) * 257, uint16(p.G) * 257, uint16(p.B) * 257, uint16(p.A) * 257}
				case color.NRGBA64:
					v = [4]uint16{p.R, p.G, p.B, p.A}
				default:
					r, g, b, a := p.RGBA()
					v = [4]uint16{uint16(r), uint16(g), uint16(b), uint16(a)}
				}
				for k := range c.channels {
					if v[k] != im.at(x, y, k) {
						t.Fatalf("%v at (%d, %d) channel %d: %d, wrote %d", c, x, y, k, v[k], im.at(x, y, k))
					}
				}
			}
		}
	}
}

// ImageMagick reads the same samples and sees the sRGB chunk.
func TestPNGReadsBackInImageMagick(t *testing.T) {
	// Debian's own name first: another program may stand in for plain “convert”.
	convert, err := exec.LookPath("convert-im6.q16")
	if err != nil {
		if convert, err = exec.LookPath("convert"); err != nil {
			t.Fatal("ImageMagick is missing; ./run test installs it")
		}
	}
	im := sampleImage(40, 30, 3, 16, 2)
	data, err := Bytes(im)
	if err != nil {
		t.Fatal(err)
	}
	name := filepath.Join(t.TempDir(), "a.png")
	if err := os.WriteFile(name, data, 0o644); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command(convert, name, "-depth", "16", "txt:-").Output()
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")[1:]
	if len(lines) != 40*30 {
		t.Fatalf("%d pixels, want %d", len(lines), 40*30)
	}
	for i, l := range lines {
		f := strings.FieldsFunc(l[strings.Index(l, "(")+1:strings.Index(l, ")")], func(r rune) bool { return r == ',' || r == ' ' })
		for k := range 3 {
			v, err := strconv.ParseFloat(f[k], 64)
			if err != nil || uint16(v) != im.Pix16[3*i+k] {
				t.Fatalf("pixel %d: %s, wrote %d", i, l, im.Pix16[3*i:3*i+3])
			}
		}
	}
}

func TestPNGColourChunks(t *testing.T) {
	for _, srgb := range []bool{true, false} {
		im := sampleImage(4, 4, 3, 8, 3)
		im.SRGB = srgb
		data, err := Bytes(im)
		if err != nil {
			t.Fatal(err)
		}
		if got := bytes.Contains(data, []byte("sRGB")) && bytes.Contains(data, []byte("gAMA")); got != srgb {
			t.Errorf("sRGB and gAMA chunks there: %v, want %v", got, srgb)
		}
	}
}

func TestPNGBytesDoNotDependOnTheCores(t *testing.T) {
	im := sampleImage(900, 1200, 3, 16, 4)
	write := func(n int) []byte {
		defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(n))
		b, err := Bytes(im)
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	if !bytes.Equal(write(1), write(2)) {
		t.Error("one core and two write different bytes")
	}
}

// hugePNG declares a size that its bytes cannot hold.
func hugePNG(w, h uint32) []byte {
	head := append(binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, w), h), 8, 2, 0, 0, 0)
	out := append([]byte{}, []byte(Signature)...)
	out = binary.BigEndian.AppendUint32(out, 13)
	body := append([]byte("IHDR"), head...)
	out = append(out, body...)
	return binary.BigEndian.AppendUint32(out, crc32.ChecksumIEEE(body))
}

func TestBrokenPNGsAreRefusedInOneSentence(t *testing.T) {
	var b bytes.Buffer
	if err := png.Encode(&b, image.NewGray(image.Rect(0, 0, 64, 64))); err != nil {
		t.Fatal(err)
	}
	good := b.Bytes()
	for _, c := range []struct {
		name string
		data []byte
		want string
	}{
		{"empty", nil, "empty"},
		{"text", []byte("hello"), "not a PNG"},
		{"cut", good[:len(good)-20], "cut short or damaged"},
		{"only a header", good[:33], "cut short or damaged"},
		{"huge", hugePNG(60000, 60000), "over the limit"},
		{"more than it can hold", hugePNG(16000, 16000), "can hold"},
	} {
		_, err := ReadPNG("map.png", c.data)
		if err == nil || !strings.Contains(err.Error(), c.want) || !strings.HasPrefix(err.Error(), "map.png, byte ") || strings.Contains(err.Error(), "\n") {
			t.Errorf("%s: %v, want a sentence about “%s”", c.name, err, c.want)
		}
	}
}

func FuzzPNG(f *testing.F) {
	for _, im := range []*Image{sampleImage(3, 3, 1, 8, 1), sampleImage(9, 2, 3, 16, 2), sampleImage(2, 9, 4, 8, 3)} {
		b, err := Bytes(im)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(b)
	}
	f.Add(hugePNG(1<<30, 1<<30))
	f.Fuzz(func(t *testing.T, data []byte) {
		size, sound := Check("f.png", data)
		if sound == nil && size.X*size.Y > 1<<20 {
			return // large pictures only cost the fuzzer time
		}
		img, err := ReadPNG("f.png", data)
		if err == nil && img.Bounds().Empty() {
			t.Error("an empty picture is accepted")
		}
		if sound == nil && (err != nil || img.Bounds().Size() != size) {
			t.Errorf("Check takes it for %v, reading says %v", size, err)
		}
	})
}

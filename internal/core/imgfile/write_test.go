package imgfile

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"

	"crust/internal/core/pixel"
)

// written is a picture as a file of a format, at a place of its own.
func written(t *testing.T, format string, im *Image) string {
	t.Helper()
	f, err := FormatOf(format)
	if err != nil {
		t.Fatal(err)
	}
	to, err := os.Create(filepath.Join(t.TempDir(), "a"+f.Ending))
	if err != nil {
		t.Fatal(err)
	}
	defer to.Close()
	if err := f.Write(to, im); err != nil {
		t.Fatal(err)
	}
	return to.Name()
}

// reference reads a file's samples with ImageMagick, 16 bits each.
func reference(t *testing.T, name string, channels int) []uint16 {
	t.Helper()
	convert, err := exec.LookPath("convert-im6.q16")
	if err != nil {
		convert = "convert"
	}
	kind := map[int]string{1: "gray", 3: "rgb", 4: "rgba"}[channels]
	out, err := exec.Command(convert, name, "-depth", "16", "-endian", "MSB", kind+":-").Output()
	if err != nil {
		t.Fatalf("ImageMagick, which ./run test installs: %v", err)
	}
	v := make([]uint16, len(out)/2)
	for i := range v {
		v[i] = binary.BigEndian.Uint16(out[2*i:])
	}
	return v
}

// Every format without loss gives back the same samples in ImageMagick and in our own reader.
func TestFormatsReadBackTheSameSamples(t *testing.T) {
	for _, f := range Formats {
		if f.Lossy || f.Float {
			continue
		}
		for _, channels := range f.Channels {
			for _, bits := range f.Bits {
				for _, size := range [][2]int{{1, 1}, {37, 41}, {300, 517}} {
					im := sampleImage(size[0], size[1], channels, bits, 5)
					name := written(t, f.Name, im)
					got := reference(t, name, channels)
					data, err := os.ReadFile(name)
					if err != nil {
						t.Fatal(err)
					}
					own, err := Read(name, data)
					if err != nil {
						t.Fatalf("%s of %d × %d bits: %v", f.Label, channels, bits, err)
					}
					if len(got) != size[0]*size[1]*channels || own.Channels != channels || own.Bits != bits {
						t.Fatalf("%s: ImageMagick reads %d samples, our reader %d channels of %d bits", f.Label, len(got), own.Channels, own.Bits)
					}
					for i := range got {
						want := im.at(i/channels%size[0], i/channels/size[0], i%channels)
						if got[i] != want || own.Whole[i] != want {
							t.Fatalf("%s %v, %d channels of %d bits, sample %d: ImageMagick reads %d, our reader %d, wrote %d", f.Label, size, channels, bits, i, got[i], own.Whole[i], want)
						}
					}
				}
			}
		}
	}
}

// libtiff's own tool finds nothing to say of the TIFFs, and names what they are.
func TestLibtiffReadsTheTIFFs(t *testing.T) {
	for _, c := range []struct {
		channels, bits int
		srgb           bool
		want           []string
	}{
		{1, 16, false, []string{"Bits/Sample: 16", "Deflate", "Photometric Interpretation: min-is-black", "Predictor: horizontal differencing", "linear data"}},
		{4, 8, true, []string{"Samples/Pixel: 4", "RGB color", "Extra Samples: 1<unassoc-alpha>", "ICC Profile: <present>"}},
	} {
		im := sampleImage(300, 200, c.channels, c.bits, 6)
		im.SRGB = c.srgb
		out, err := exec.Command("tiffinfo", "-D", written(t, "tiff", im)).CombinedOutput()
		if err != nil {
			t.Fatalf("tiffinfo, which ./run test installs: %v: %s", err, out)
		}
		for _, w := range c.want {
			if !strings.Contains(string(out), w) {
				t.Errorf("tiffinfo does not say %q: %s", w, out)
			}
		}
		for _, w := range []string{"Warning", "Error", "rror:"} {
			if strings.Contains(string(out), w) {
				t.Errorf("tiffinfo complains: %s", out)
			}
		}
	}
}

// TGA 2.0: the last 18 bytes are the signature, and the extension says the gamma, 2.2 for sRGB and 1 for data.
func TestTGASaysItsGamma(t *testing.T) {
	for srgb, gamma := range map[bool]float64{true: 2.2, false: 1} {
		im := sampleImage(20, 20, 4, 8, 7)
		im.SRGB = srgb
		data, err := os.ReadFile(written(t, "tga", im))
		if err != nil {
			t.Fatal(err)
		}
		foot := data[len(data)-26:]
		ext := data[binary.LittleEndian.Uint32(foot):]
		if string(foot[8:]) != "TRUEVISION-XFILE.\x00" || binary.LittleEndian.Uint16(ext) != 495 || ext[494] != 3 {
			t.Fatalf("foot %q, extension of %d bytes, alpha %d", foot[8:], binary.LittleEndian.Uint16(ext), ext[494])
		}
		if got := float64(binary.LittleEndian.Uint16(ext[478:])) / float64(binary.LittleEndian.Uint16(ext[480:])); math.Abs(got-gamma) > 1e-9 {
			t.Errorf("sRGB %v: gamma %g, want %g", srgb, got, gamma)
		}
	}
}

// Flat rows of a TGA are packed; noise does not grow by more than a byte in 128 pixels.
func TestTGARunsPack(t *testing.T) {
	flat := &Image{Width: 256, Height: 256, Channels: 3, Bits: 8, Pix8: make([]uint8, 256*256*3)}
	info, _ := os.Stat(written(t, "tga", flat))
	if n := info.Size() - 18 - 495 - 26; n != 256*2*4 {
		t.Errorf("a flat picture takes %d bytes, want two runs a row: %d", n, 256*2*4)
	}
	noise := sampleImage(256, 256, 3, 8, 8)
	info, _ = os.Stat(written(t, "tga", noise))
	if n := info.Size() - 18 - 495 - 26; n > 256*256*3*129/128+256 {
		t.Errorf("noise takes %d bytes of %d", n, 256*256*3)
	}
}

// Half floats are read by the reference tools as the nearest halves of what was written.
func TestHalfEXRIsReadByTheReferenceTools(t *testing.T) {
	const w, h = 37, 41
	pix := make([]float32, w*h*3)
	im := &Image{Width: w, Height: h, Channels: 3, Bits: 16, Row: func(y int, row []byte) {
		for i := range w * 3 {
			pix[y*w*3+i] = float32((y*w*3+i)%97)/13 - 2
			binary.BigEndian.PutUint16(row[2*i:], pixel.Half(pix[y*w*3+i]))
		}
	}}
	name := written(t, "exr", im)
	out, err := exec.Command("exrheader", name).CombinedOutput()
	if err != nil || !strings.Contains(string(out), "16-bit floating-point") {
		t.Fatalf("exrheader: %v: %s", err, out)
	}
	data, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	own, err := Read(name, data)
	if err != nil {
		t.Fatal(err)
	}
	tiled := filepath.Join(t.TempDir(), "b.exr")
	if out, err := exec.Command("exrmaketiled", "-z", "none", "-t", "64", "64", name, tiled).CombinedOutput(); err != nil {
		t.Fatalf("exrmaketiled: %v: %s", err, out)
	}
	if data, err = os.ReadFile(tiled); err != nil {
		t.Fatal(err)
	}
	data = data[len(data)-2*len(pix):]
	for y := range h {
		for k, c := range []int{2, 1, 0} {
			for x := range w {
				at := (y*w+x)*3 + c
				got := pixel.FromHalf(binary.LittleEndian.Uint16(data[2*((y*3+k)*w+x):]))
				if math.Abs(float64(got-pix[at])) > math.Abs(float64(pix[at]))/2048+1e-7 || own.Pix[at] != got {
					t.Fatalf("pixel (%d, %d), channel %d: the reference reads %g, our reader %g, wrote %g", x, y, c, got, own.Pix[at], pix[at])
				}
			}
		}
	}
}

// JPEG stays near to what was written and carries a profile that ImageMagick takes for sRGB.
func TestJPEGIsNearAndTagged(t *testing.T) {
	im := &Image{Width: 64, Height: 48, Channels: 3, Bits: 8, SRGB: true, Row: func(y int, row []byte) {
		for x := range 64 {
			row[3*x], row[3*x+1], row[3*x+2] = byte(4*x), byte(5*y), byte(2*x+2*y)
		}
	}}
	name := written(t, "jpeg", im)
	data, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	got, err := jpeg.Decode(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	row := make([]byte, 64*3)
	sum := 0.0
	for y := range 48 {
		im.row(y, row)
		for x := range 64 {
			r, g, b, _ := got.At(x, y).RGBA()
			for k, v := range []uint32{r, g, b} {
				d := float64(v>>8) - float64(row[3*x+k])
				sum += d * d
			}
		}
	}
	if rms := math.Sqrt(sum / (64 * 48 * 3)); rms > 4 {
		t.Errorf("it is %.2f of 255 off", rms)
	}
	out, err := exec.Command("identify", "-format", "%[profile:icc]", name).Output()
	if err != nil || strings.TrimSpace(string(out)) != "sRGB" {
		t.Errorf("the profile is %q, %v", out, err)
	}
}

// A palette's PNG is read as its colours.
func TestPalettesAreReadAsTheirColours(t *testing.T) {
	im := &Image{Width: 9, Height: 7, Channels: 1, Bits: 8, SRGB: true, Palette: [][3]uint8{{10, 20, 30}, {200, 100, 0}, {255, 255, 255}}, Row: func(y int, row []byte) {
		for x := range row {
			row[x] = byte((x + y) % 3)
		}
	}}
	for i, v := range reference(t, written(t, "png", im), 3) {
		p := i / 3
		if want := uint16(im.Palette[(p%9+p/9)%3][i%3]) * 257; v != want {
			t.Fatalf("sample %d is %d, want %d", i, v, want)
		}
	}
}

// Alpha is read from wherever a file has it, and the colour under it as it was before it was multiplied in: a palette's clear colours
// (PNG §11.3.2.1), alpha associated with colours (TIFF 6.0, ExtraSamples 1) and not. image/png and ImageMagick write the files.
func TestAlphaIsReadFromEveryKindOfFile(t *testing.T) {
	dir := t.TempDir()
	area := image.Rect(0, 0, 12, 9)
	im, few := image.NewNRGBA(area), image.NewPaletted(area, nil)
	for i := range 12 * 9 {
		c := color.NRGBA{R: uint8(i % 4 * 60), G: 200, B: 90, A: []uint8{255, 128, 51}[i/5%3]}
		im.SetNRGBA(i%12, i/12, c)
		at := slices.Index(few.Palette, color.Color(c))
		if at < 0 {
			at, few.Palette = len(few.Palette), append(few.Palette, c)
		}
		few.Pix[i] = uint8(at)
	}
	for name, im := range map[string]image.Image{"colours.png": im, "palette.png": few} {
		var b bytes.Buffer
		if err := png.Encode(&b, im); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), b.Bytes(), 0o666); err != nil {
			t.Fatal(err)
		}
	}
	for name, as := range map[string]string{"palette.png": "", "colours.png": "", "associated.tif": "associated", "unassociated.tif": "unassociated"} {
		file := filepath.Join(dir, name)
		if as != "" {
			if out, err := exec.Command("convert", filepath.Join(dir, "colours.png"), "-define", "tiff:alpha="+as, file).CombinedOutput(); err != nil {
				t.Fatalf("ImageMagick, which ./run test installs: %v: %s", err, out)
			}
		}
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		p, err := Read(file, data)
		if err != nil || p.Channels != 4 {
			t.Errorf("%s: %d channels, %v; want 4", name, p.Channels, err)
			continue
		}
		for i, v := range im.Pix {
			// Associated colours of 8 bits are as coarse as their alpha leaves them.
			if far := math.Abs(float64(p.At(i))*255 - float64(v)); far > 3 || as != "associated" && far > 0.01 {
				t.Errorf("%s: sample %d is %.1f, want %d", name, i, p.At(i)*255, v)
				break
			}
		}
	}
}

func TestFilesDoNotDependOnTheCores(t *testing.T) {
	for _, f := range Formats {
		if f.Float {
			continue
		}
		im := sampleImage(600, 700, 3, 8, 9)
		write := func(n int) []byte {
			defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(n))
			b, err := os.ReadFile(written(t, f.Name, im))
			if err != nil {
				t.Fatal(err)
			}
			return b
		}
		if !bytes.Equal(write(1), write(2)) {
			t.Errorf("%s: one core and two write different bytes", f.Label)
		}
	}
}

func TestFormatsRefuseWhatTheyCannotHold(t *testing.T) {
	for _, c := range []struct {
		format         string
		channels, bits int
	}{{"tga", 3, 16}, {"jpeg", 4, 8}, {"exr", 3, 8}, {"png", 3, 32}, {"png", 2, 8}} {
		f, _ := FormatOf(c.format)
		if err := f.Write(new(memory), &Image{Width: 1, Height: 1, Channels: c.channels, Bits: c.bits, Row: func(int, []byte) {}}); err == nil {
			t.Errorf("%s took %d channels of %d bits", c.format, c.channels, c.bits)
		}
	}
	if _, err := FormatOf("gif"); err == nil {
		t.Error("an unknown format was found")
	}
}

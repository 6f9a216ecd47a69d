package imgfile

import (
	"bytes"
	"encoding/binary"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// Debian's reference tools read the files: exrheader names window, compression and channels, and
// exrmaketiled, told to write without compression, gives back the same numbers.
func TestEXRIsReadByTheReferenceTools(t *testing.T) {
	for channels, order := range map[int][]int{1: {0}, 3: {2, 1, 0}, 4: {3, 2, 1, 0}} {
		const w, h = 37, 41
		pix := make([]float32, w*h*channels)
		for i := range pix {
			pix[i] = float32(i%97)/13 - 2
		}
		var b bytes.Buffer
		if err := WriteEXR(&b, w, h, channels, pix); err != nil {
			t.Fatal(err)
		}
		dir := t.TempDir()
		name, tiled := filepath.Join(dir, "a.exr"), filepath.Join(dir, "b.exr")
		if err := os.WriteFile(name, b.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
		out, err := exec.Command("exrheader", name).CombinedOutput()
		if err != nil {
			t.Fatalf("exrheader, which ./run test installs: %v: %s", err, out)
		}
		for _, want := range []string{"(0 0) - (36 40)", "zip", "32-bit floating-point"} {
			if !strings.Contains(string(out), want) {
				t.Errorf("%d channels: exrheader does not say %q: %s", channels, want, out)
			}
		}
		if out, err := exec.Command("exrmaketiled", "-z", "none", "-t", "64", "64", name, tiled).CombinedOutput(); err != nil {
			t.Fatalf("%d channels: exrmaketiled: %v: %s", channels, err, out)
		}
		data, err := os.ReadFile(tiled)
		if err != nil || len(data) < 4*len(pix) {
			t.Fatalf("%d bytes, %v", len(data), err)
		}
		data = data[len(data)-4*len(pix):] // one tile: rows, each channel by channel in alphabetical order
		for y := range h {
			for k, c := range order {
				for x := range w {
					got := math.Float32frombits(binary.LittleEndian.Uint32(data[4*((y*channels+k)*w+x):]))
					if want := pix[(y*w+x)*channels+c]; got != want {
						t.Fatalf("%d channels, pixel (%d, %d), channel %d: the reference reads %g, wrote %g", channels, x, y, c, got, want)
					}
				}
			}
		}
	}
	if WriteEXR(&bytes.Buffer{}, 2, 2, 2, make([]float32, 8)) == nil || WriteEXR(&bytes.Buffer{}, 2, 2, 1, nil) == nil {
		t.Error("pixels that do not fit were written")
	}
}

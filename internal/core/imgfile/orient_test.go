package imgfile

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

// photo is a JPEG of 48 × 32 whose squares of 16 all differ, with an Exif orientation.
func photo(t testing.TB, orientation int, order binary.AppendByteOrder, mark string) []byte {
	t.Helper()
	im := image.NewRGBA(image.Rect(0, 0, 48, 32))
	for y := range 32 {
		for x := range 48 {
			im.Set(x, y, color.RGBA{uint8(40 + x/16*80), uint8(60 + y/16*120), 90, 255})
		}
	}
	var b bytes.Buffer
	if err := jpeg.Encode(&b, im, &jpeg.Options{Quality: 100}); err != nil {
		t.Fatal(err)
	}
	exif := order.AppendUint32(order.AppendUint16([]byte("Exif\x00\x00"+mark), 42), 8)
	exif = order.AppendUint16(exif, 2)
	exif = append(order.AppendUint32(order.AppendUint16(order.AppendUint16(exif, 256), 3), 1), 0, 0, 0, 0) // another tag before it
	exif = order.AppendUint16(order.AppendUint32(order.AppendUint16(order.AppendUint16(exif, 274), 3), 1), uint16(orientation))
	exif = append(exif, 0, 0, 0, 0, 0, 0)
	data := binary.BigEndian.AppendUint16(append(bytes.Clone(b.Bytes()[:2]), 0xff, 0xe1), uint16(len(exif)+2))
	return append(append(data, exif...), b.Bytes()[2:]...)
}

// Photographs are read the way up that their cameras say, all eight of them, as ImageMagick turns them; what is cut off or out of range
// leaves a picture as it is.
func TestPhotographsAreReadTheRightWayUp(t *testing.T) {
	name := filepath.Join(t.TempDir(), "a.jpg")
	for o := 1; o <= 8; o++ {
		order, mark := binary.AppendByteOrder(binary.BigEndian), "MM"
		if o%2 == 0 {
			order, mark = binary.LittleEndian, "II"
		}
		data := photo(t, o, order, mark)
		if err := os.WriteFile(name, data, 0o666); err != nil {
			t.Fatal(err)
		}
		out, err := exec.Command("convert", name, "-auto-orient", "-depth", "8", "rgb:-").Output()
		if err != nil {
			t.Fatalf("ImageMagick, which ./run test installs: %v", err)
		}
		size, err := exec.Command("convert", name, "-auto-orient", "-format", "%w %h", "info:").Output()
		if err != nil {
			t.Fatal(err)
		}
		p, err := Read("a.jpg", data)
		if err != nil {
			t.Fatal(err)
		}
		w, h, err := Size("a.jpg", data)
		if got := fmt.Sprint(p.Width, p.Height); err != nil || got != string(size) || fmt.Sprint(w, h) != got {
			t.Errorf("orientation %d: %s px, said to be %d %d, want %s", o, got, w, h, size)
			continue
		}
		for i, v := range out {
			if x, y := i/3%w, i/3/w; x%16 != 8 || y%16 != 8 {
				continue // between squares readers mix colours in ways of their own
			}
			if far := math.Abs(float64(p.At(i))*255 - float64(v)); far > 4 {
				t.Errorf("orientation %d: sample %d is %.0f, want %d", o, i, p.At(i)*255, v)
				break
			}
		}
	}
	data := photo(t, 9, binary.BigEndian, "MM")
	if o := orientation(data); o != 1 {
		t.Errorf("orientation 9 counts as %d", o)
	}
	data = photo(t, 6, binary.BigEndian, "MM")
	for n := range 4 + int(binary.BigEndian.Uint16(data[4:])) {
		if o := orientation(data[:n]); o != 1 {
			t.Errorf("a file cut at byte %d has orientation %d", n, o)
		}
	}
}

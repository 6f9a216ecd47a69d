package main

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"crust/internal/core/bake"
	"crust/internal/core/deliver"
	"crust/internal/core/imgfile"
	"crust/internal/demo"
)

// delivering delivers the buoy, three sets at 4096 px, as ORM with green down: evaluating and encoding apart. Then each PNG is
// encoded once more from its samples, by us and by ImageMagick at the level at which its file comes out as large.
func delivering() map[string]any {
	low, sets, src := buoy(1024, 16)
	ctx := context.Background()
	doc := demo.Strata()
	preset, err := deliver.PresetOf("orm-green-down")
	check(err)
	reads := deliver.MapsRead(doc, preset)
	maps := map[string]map[string]*bake.Map{}
	for i := range sets {
		made, err := src.Bake(ctx, &sets[i], reads, nil)
		check(err)
		maps[sets[i].Key] = map[string]*bake.Map{}
		for _, m := range made {
			maps[sets[i].Key][m.Kind] = m
		}
	}
	dir, err := os.MkdirTemp("", "crust-bench")
	check(err)
	defer os.RemoveAll(dir)
	profileFromHere()
	begun := time.Now()
	d, err := deliver.Run(ctx, deliver.Job{Asset: "buoy", Model: low, Sets: sets, Maps: func(set string) (map[string]*bake.Map, error) { return maps[set], nil }, Document: doc, Preset: preset, Size: 4096, Aside: dir})
	check(err)
	defer d.Close()
	out := map[string]any{"seconds": round(time.Since(begun).Seconds()), "evaluating": round(d.Evaluating), "encoding": round(d.Encoding)}
	begun = time.Now()
	_, err = d.WriteFolder(filepath.Join(dir, "out"), false)
	check(err)
	out["placing"] = round(time.Since(begun).Seconds())
	ours, theirs, ourBytes, theirBytes := 0.0, 0.0, 0, 0
	for _, w := range d.Files {
		if w.Format != "png" {
			continue
		}
		data, err := os.ReadFile(filepath.Join(dir, "out", w.File))
		check(err)
		im, raw := samples(data)
		var b bytes.Buffer
		begun := time.Now()
		check(imgfile.WritePNG(&b, im, 5))
		ours += time.Since(begun).Seconds()
		ourBytes += b.Len()
		in := filepath.Join(dir, "raw.rgb")
		check(os.WriteFile(in, raw, 0o644))
		convert := "convert-im6.q16"
		if _, err := exec.LookPath(convert); err != nil {
			convert = "convert"
		}
		to := filepath.Join(dir, "theirs.png")
		begun = time.Now()
		// Quality 55 is zlib's level 5 with filters chosen row by row.
		text, err := exec.Command(convert, "-size", fmt.Sprintf("%dx%d", im.Width, im.Height), "-depth", fmt.Sprint(im.Bits), "-endian", "MSB", "rgb:"+in, "-quality", "55", to).CombinedOutput()
		if err != nil {
			check(fmt.Errorf("%w: %s", err, text))
		}
		theirs += time.Since(begun).Seconds()
		info, err := os.Stat(to)
		check(err)
		theirBytes += int(info.Size())
	}
	out["png_seconds"], out["imagemagick_seconds"], out["png_mb"], out["imagemagick_mb"], out["ratio"] = round(ours), round(theirs), round(float64(ourBytes)/1e6), round(float64(theirBytes)/1e6), round(ours/theirs)
	return out
}

// samples are a PNG's samples, as a picture and as bytes with the high one first.
func samples(data []byte) (*imgfile.Image, []byte) {
	img, err := png.Decode(bytes.NewReader(data))
	check(err)
	size := img.Bounds().Size()
	im := &imgfile.Image{Width: size.X, Height: size.Y, Channels: 3}
	switch p := img.(type) {
	case *image.RGBA:
		im.Bits = 8
		for i := 0; i < len(p.Pix); i += 4 {
			im.Pix8 = append(im.Pix8, p.Pix[i:i+3]...)
		}
		return im, im.Pix8
	case *image.RGBA64:
		im.Bits = 16
		var raw []byte
		for i := 0; i < len(p.Pix); i += 8 {
			raw = append(raw, p.Pix[i:i+6]...)
		}
		for i := 0; i < len(raw); i += 2 {
			im.Pix16 = append(im.Pix16, uint16(raw[i])<<8|uint16(raw[i+1]))
		}
		return im, raw
	}
	check(fmt.Errorf("a delivered PNG is %T", img))
	return nil, nil
}

package preview

import (
	"context"
	"image/png"
	"os"
	"path/filepath"
	"testing"

	"crust/internal/core/finish"
)

// Pictures of finishes are of these: steel is grey, copper warm, paint of hue 6° red; the ground behind them is dark and
// neutral. CRUST_PICTURES names a folder to look at them in.
func TestPicturesShowTheirFinish(t *testing.T) {
	s := new(Shelf)
	names := []string{"bare-steel", "copper-with-verdigris", "worn-marine-paint"}
	dir := os.Getenv("CRUST_PICTURES")
	if dir != "" {
		names = nil
		for _, f := range finish.Finishes {
			names = append(names, f.Name)
		}
	}
	mean := map[string][3]float64{}
	for _, name := range names {
		f, err := finish.Of(name)
		if err != nil {
			t.Fatal(err)
		}
		im, err := s.Picture(context.Background(), f, 144)
		if err != nil {
			t.Fatal(err)
		}
		var sum [3]float64
		n := 0.0
		for y := 30; y < 125; y++ {
			for x := 50; x < 94; x++ {
				r, g, b, _ := im.At(x, y).RGBA()
				sum[0], sum[1], sum[2] = sum[0]+float64(r>>8), sum[1]+float64(g>>8), sum[2]+float64(b>>8)
				n++
			}
		}
		mean[name] = [3]float64{sum[0] / n, sum[1] / n, sum[2] / n}
		r, g, b, _ := im.At(2, 2).RGBA()
		if r>>8 > 70 || r>>8 < 20 || max(r, g, b)-min(r, g, b) > 0x400 {
			t.Errorf("%s: the ground is %d %d %d", name, r>>8, g>>8, b>>8)
		}
		if dir != "" {
			w, err := os.Create(filepath.Join(dir, name+".png"))
			if err != nil {
				t.Fatal(err)
			}
			if err := png.Encode(w, im); err != nil {
				t.Fatal(err)
			}
			w.Close()
		}
	}
	steel, copper, paint := mean["bare-steel"], mean["copper-with-verdigris"], mean["worn-marine-paint"]
	if steel[0] < 70 || steel[0]-steel[2] > 40 {
		t.Errorf("steel is %v, want grey and bright", steel)
	}
	if copper[0]-copper[2] < steel[0]-steel[2]+8 {
		t.Errorf("copper is %v, steel %v; want it warmer", copper, steel)
	}
	if paint[0] < paint[1]*1.2 {
		t.Errorf("red paint is %v", paint)
	}
}

package picture

import (
	"math"
	"testing"

	"crust/internal/core/imgfile"
	"crust/internal/core/pixel"
)

func made(w, h, channels int, at func(x, y, c int) float64) *imgfile.Picture {
	p := &imgfile.Picture{Width: w, Height: h, Channels: channels, Bits: 16, Whole: make([]uint16, w*h*channels)}
	for i := range p.Whole {
		p.Whole[i] = uint16(at(i/channels%w, i/channels/w, i%channels)*65535 + 0.5)
	}
	return p
}

// Many places at once read as each does alone, whatever a picture holds and however small it is drawn.
func TestRunsReadAsSinglePlacesDo(t *testing.T) {
	for channels := 1; channels <= 4; channels++ {
		for _, bits := range []int{8, 16} {
			from := made(16, 8, channels, func(x, y, c int) float64 { return float64((x*7+y*13+c*5)%11) / 10 })
			from.Bits = bits
			p, err := New(from, Data)
			if err != nil {
				t.Fatal(err)
			}
			for _, lod := range []float32{0, 0.3, 1, 2.75, float32(len(p.levels) - 1)} {
				var u, v []float32
				for i := range 43 {
					u, v = append(u, float32(i)*0.173-2), append(v, 3-float32(i)*0.219)
				}
				var out [4][]float32
				for c := range channels {
					out[c] = make([]float32, len(u))
					out[c][3] = float32(math.NaN()) // of a run before
				}
				p.ReadRun(u, v, lod, &out)
				for i := range u {
					var want [4]float32
					p.Read(u[i], v[i], lod, &want)
					for c := range channels {
						if !(math.Abs(float64(out[c][i]-want[c])) < 1e-5) {
							t.Fatalf("%d channels of %d bits, halved %g times, place %d: %g, want %g", channels, bits, lod, i, out[c][i], want[c])
						}
					}
				}
			}
		}
	}
}

// At the middles of its pixels a picture reads as it is, half way between them as their mean, and beyond its rims as if it
// stood there again.
func TestPicturesAreReadBilinearlyAndRepeat(t *testing.T) {
	at := func(x, y, c int) float64 { return float64((x*7+y*13+c*5)%11) / 10 }
	p, err := New(made(8, 4, 3, at), Data)
	if err != nil {
		t.Fatal(err)
	}
	var v [4]float32
	for y := range 4 {
		for x := range 8 {
			for _, turn := range []float32{0, 3, -2} {
				p.Read((float32(x)+0.5)/8+turn, (float32(y)+0.5)/4-turn, p.Level(1), &v)
				for c := range 3 {
					if math.Abs(float64(v[c])-at(x, y, c)) > 1e-4 {
						t.Fatalf("pixel %d, %d, channel %d: %g, want %g", x, y, c, v[c], at(x, y, c))
					}
				}
			}
			p.Read(float32(x+1)/8, (float32(y)+0.5)/4, 0, &v)
			if want := (at(x, y, 0) + at((x+1)%8, y, 0)) / 2; math.Abs(float64(v[0])-want) > 1e-4 {
				t.Fatalf("between pixels %d and the next: %g, want %g", x, v[0], want)
			}
		}
	}
}

// From afar a picture is the mean of its pixels: of the light of colours (IEC 61966-2-1: half black, half white is 0.735
// encoded), of the numbers of data.
func TestPicturesFromAfarAreTheirMeans(t *testing.T) {
	checks := made(64, 64, 1, func(x, y, _ int) float64 { return float64((x + y) % 2) })
	for _, c := range []struct {
		space Space
		want  float64
	}{{Data, 0.5}, {Colour, 0.7354}} {
		p, err := New(checks, c.space)
		if err != nil {
			t.Fatal(err)
		}
		var v [4]float32
		for _, step := range []float32{2, 8, 64, 1000} {
			p.Read(0.31, 0.77, p.Level(step), &v)
			if math.Abs(float64(v[0])-c.want) > 2e-3 {
				t.Errorf("%s at %g pixels a step: %g, want %g", c.space, step, v[0], c.want)
			}
		}
	}
	// Between two halvings it goes over without a step.
	p, err := New(made(64, 64, 1, func(x, y, _ int) float64 { return float64(x) / 63 }), Data)
	if err != nil {
		t.Fatal(err)
	}
	var a, b [4]float32
	for step := float32(1); step < 60; step *= 1.05 {
		p.Read(0.2, 0.5, p.Level(step), &a)
		p.Read(0.2, 0.5, p.Level(step*1.001), &b)
		if math.Abs(float64(a[0]-b[0])) > 2e-3 {
			t.Fatalf("a step at %g pixels: %g and %g", step, a[0], b[0])
		}
	}
}

// Floats are light; as colours they are encoded, which takes large ones to 1.
func TestFloatsAreLight(t *testing.T) {
	p, err := New(&imgfile.Picture{Width: 2, Height: 1, Channels: 1, Float: true, Pix: []float32{0.2140, 7}}, Colour)
	if err != nil {
		t.Fatal(err)
	}
	var v [4]float32
	p.Read(0.25, 0.5, 0, &v)
	if want := pixel.ToSRGB(0.2140); math.Abs(float64(v[0]-want)) > 1e-4 || math.Abs(float64(want)-0.5) > 2e-3 {
		t.Errorf("0.214 of light reads as %g, want about half", v[0])
	}
	if p.Read(0.75, 0.5, 0, &v); v[0] != 1 {
		t.Errorf("more than white reads as %g", v[0])
	}
}

func TestLargePicturesAreHalved(t *testing.T) {
	p, err := New(made(8192, 2, 1, func(x, _, _ int) float64 { return float64(x%2) * 0.5 }), Data)
	if err != nil || p.levels[0].w != 4096 || p.levels[0].h != 1 || p.levels[len(p.levels)-1].w != 1 {
		t.Errorf("%v, %d × %d", err, p.levels[0].w, p.levels[0].h)
	}
}

// Names as libraries of materials use them, common practice.
func TestNamesTellTheChannel(t *testing.T) {
	for _, c := range []struct {
		name, want string
		inverted   bool
	}{
		{"Planks012_2K_Color.jpg", "colour", false}, {"rock_wall_diff_4k.png", "colour", false}, {"rustyBaseColor.png", "colour", false},
		{"planks_base_color.tga", "colour", false}, {"Metal_Roughness.png", "roughness", false}, {"metal_rgh.png", "roughness", false},
		{"wall-gloss.tif", "roughness", true}, {"bolts_Metalness.png", "metallic", false}, {"stone_disp_4k.exr", "height", false},
		{"a_NormalGL.png", "normal", false}, {"a_nor_gl_1k.exr", "normal", false}, {"x_ao.png", "occlusion", false}, {"holiday 2021.jpg", "", false}, {"colossus.png", "", false},
	} {
		if got, inverted := ChannelOf(c.name); got != c.want || inverted != c.inverted {
			t.Errorf("%s: %q, %v; want %q, %v", c.name, got, inverted, c.want, c.inverted)
		}
	}
}

// What a picture holds is guessed by its name and by what is seen in it.
func TestSpacesAreGuessed(t *testing.T) {
	red := made(16, 16, 3, func(x, y, c int) float64 { return []float64{0.7, 0.2, 0.1}[c] })
	grey := made(16, 16, 3, func(x, y, _ int) float64 { return float64(x) / 15 })
	normal := made(16, 16, 3, func(_, _, c int) float64 { return []float64{0.5, 0.5, 1}[c] })
	for _, c := range []struct {
		of   *imgfile.Picture
		kind string
		want Space
	}{{red, "", Colour}, {grey, "", Data}, {normal, "", Data}, {grey, "colour", Colour}, {red, "roughness", Data}, {made(4, 4, 1, func(x, y, c int) float64 { return 1 }), "", Data}} {
		if got := Guess(c.of, c.kind); got != c.want {
			t.Errorf("kind %q: %s, want %s", c.kind, got, c.want)
		}
	}
}

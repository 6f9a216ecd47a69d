package still

import (
	"context"
	"image"
	"image/color"
	"math"
	"testing"

	"crust/internal/core/geom"
	"crust/internal/core/light"
	"crust/internal/core/mesh"
	"crust/internal/core/uv"
)

// shotOf is a shot of a ball with these maps, without ground.
func shotOf(t *testing.T, maps *Maps, long, samples int) (*Shot, *Scene) {
	t.Helper()
	m := mesh.Sphere(48, 24, 1, [3]float64{})
	sets, err := uv.Sets(m, uv.Single)
	if err != nil {
		t.Fatal(err)
	}
	s := &Shot{Model: m, Sets: sets, Maps: []*Maps{maps}, Setup: light.Default(), Long: long, Wide: 1, Samples: samples, Seed: 1}
	s.Setup.Backdrop.Ground = false
	scene, err := s.Scene(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	return s, scene
}

func shown(t *testing.T, s *Shot, scene *Scene, channel string) (*Tracer, *Picture, *image.NRGBA) {
	t.Helper()
	tr, err := s.Tracer(scene, nil, channel)
	if err != nil {
		t.Fatal(err)
	}
	p := tr.Picture()
	if err := tr.Add(context.Background(), p, s.Each(), nil); err != nil {
		t.Fatal(err)
	}
	return tr, p, tr.Shown(p)
}

// A still of a channel has what the texels hold, whatever the light: colours in sRGB, others as they are, the height from black to white as far
// down and up as it goes.
func TestChannelsShowWhatTexelsHold(t *testing.T) {
	maps := plain(0.25, 0.6, 1)
	maps.Occlusion, maps.Opacity = make([]uint16, 256), make([]uint16, 256)
	maps.Height = make([]float32, 256)
	for i := range 256 {
		maps.Base[1][i], maps.Occlusion[i], maps.Height[i], maps.Opacity[i] = 65535*3/4, 65535/5, 0.003, 65535*4/5
	}
	maps.Height[0] = -0.006 // somewhere out of sight
	s, scene := shotOf(t, maps, 24, 16)
	s.Setup.Exposure = 3
	for name, want := range map[string]color.NRGBA{
		"base": {64, 191, 64, 255}, "roughness": {153, 153, 153, 255}, "metallic": {255, 255, 255, 255}, "normal": {128, 128, 255, 255}, "occlusion": {51, 51, 51, 255},
		"height": {191, 191, 191, 255}, "opacity": {204, 204, 204, 255}, "emissive": {0, 0, 0, 255},
	} {
		_, p, img := shown(t, s, scene, name)
		got := img.NRGBAAt(12, 12)
		for k, w := range []uint8{want.R, want.G, want.B} {
			if g := []uint8{got.R, got.G, got.B}[k]; max(g, w)-min(g, w) > 1 {
				t.Errorf("%s is %v, want %v", name, got, want)
				break
			}
		}
		if back := img.NRGBAAt(0, 0); back != (color.NRGBA{0x2f, 0x2f, 0x2f, 255}) {
			t.Errorf("%s: the backdrop is %v", name, back)
		}
		if h := p.Pix[4*(12*24+12)]; name == "height" && math.Abs(float64(h)-0.003) > 1e-5 {
			t.Errorf("the height is %g m in what an EXR gets", h)
		}
	}
	if _, err := s.Tracer(scene, nil, "gloss"); err == nil {
		t.Error("there is a channel “gloss”")
	}
}

// What is made larger and scaled down has the size that was asked for, the samples are shared, and its light is the same in the mean.
func TestStillsAreScaledDown(t *testing.T) {
	s, scene := shotOf(t, plain(0.5, 0.4, 0), 32, 64)
	mean := func(img *image.NRGBA) (sum float64) {
		for i := 0; i < len(img.Pix); i += 4 {
			sum += float64(img.Pix[i]) / float64(len(img.Pix)/4)
		}
		return sum
	}
	_, _, plainly := shown(t, s, scene, "")
	for _, over := range []int{2, 4} {
		s.Over = over
		tr, p, img := shown(t, s, scene, "")
		if img.Rect.Dx() != 32 || p.Width != 32*over || tr.Samples(p) != 64 || p.Samples != 64/over/over {
			t.Errorf("%d times: %v from %d px, %d samples", over, img.Rect, p.Width, p.Samples)
		}
		if a, b := mean(plainly), mean(img); math.Abs(a-b) > 1 {
			t.Errorf("%d times: %.2f, want %.2f", over, b, a)
		}
	}
	s.Over = 3
	if s.Samples = 10; s.Each() != 2 {
		t.Errorf("10 samples over 9 pixels are %d each", s.Each())
	}
	s.Long, s.Over = 4096, 4
	if s.Check() == nil {
		t.Error("a still of 16384 px is offered")
	}
}

// A halo is light that is spread, not made: one bright pixel becomes three bell curves whose sum, middle and variance are as said.
func TestAHaloIsSpreadLight(t *testing.T) {
	const size, dev = 201, 9.0
	pix := make([]float32, 3*size*size)
	pix[3*(100*size+100)+1] = 1
	soft := soften(pix, size, size, dev)
	var sum, x, xx, y, yy float64
	for j := range size {
		for i := range size {
			v := float64(soft[3*(j*size+i)+1])
			if v < 0 {
				t.Fatal("light below 0")
			}
			sum += v
			x, y = x+v*float64(i), y+v*float64(j)
			xx, yy = xx+v*float64((i-100)*(i-100)), yy+v*float64((j-100)*(j-100))
		}
	}
	if math.Abs(sum-1) > 1e-3 || math.Abs(x/sum-100) > 1e-2 || math.Abs(y/sum-100) > 1e-2 || math.Abs(math.Sqrt(xx/sum)/dev-1) > 0.06 || math.Abs(math.Sqrt(yy/sum)/dev-1) > 0.06 {
		t.Errorf("it sums to %.4f, about %.2f, %.2f, deviates by %.2f and %.2f px", sum, x, y, math.Sqrt(xx), math.Sqrt(yy))
	}
	// Round a ball that shines it is bright beside it, and only with a halo.
	maps := plain(0.2, 0.8, 0)
	for k := range maps.Emissive {
		maps.Emissive[k] = make([]uint16, 256)
		for i := range maps.Emissive[k] {
			maps.Emissive[k][i] = 65535
		}
	}
	s, scene := shotOf(t, maps, 64, 4)
	s.Setup.Surface.Glow = 4
	if scene, _ = s.Scene(context.Background()); scene == nil {
		t.Fatal("no scene")
	}
	_, _, with := shown(t, s, scene, "")
	s.Setup.Surface.Halo = 0
	_, _, without := shown(t, s, scene, "")
	if a, b := with.NRGBAAt(32, 1).R, without.NRGBAAt(32, 1).R; b != 0x2f || a < b+8 {
		t.Errorf("beside the ball it is %d with a halo and %d without", a, b)
	}
}

// The eye looks through faces from behind, as glTF has it of a material that is not double-sided (glTF 2.0 §3.9.6); light does not.
func TestFacesAreSeenFromOneSide(t *testing.T) {
	m := mesh.FlatSquare("wall", 2)
	maps := plain(0.5, 1, 0)
	below := Camera{Eye: geom.Vec3{Y: -4, Z: 0.01}, Tall: 0.2}
	of := Lights{Sky: even(1).Sky(0, 1)}
	set := Settings{Width: 8, Height: 8, Samples: 4, Backdrop: Backdrop{Clear: true}}
	for both, want := range map[bool]float32{false: 0, true: 1} {
		s := sceneOf(t, m, maps, Look{Both: both})
		if a := render(t, s, of, below, set).Pix[4*(4*8+4)+3]; a != want {
			t.Errorf("from both sides %v: from behind its alpha is %g", both, a)
		}
		if a := render(t, s, of, Camera{Eye: geom.Vec3{Y: 4, Z: 0.01}, Tall: 0.2}, set).Pix[4*(4*8+4)+3]; a != 1 {
			t.Errorf("from both sides %v: from before its alpha is %g", both, a)
		}
		var k walker
		if s.open(geom.Vec3{Y: -1}, geom.Vec3{Y: 1}, 10, &k, nil) {
			t.Error("light comes through it from behind")
		}
	}
}

// A sheet has every picture once, in its row and column; a row that is alone is broken into rows of four.
func TestASheetHasAllPictures(t *testing.T) {
	solid := func(w, h int, v uint8) *image.NRGBA {
		p := image.NewNRGBA(image.Rect(0, 0, w, h))
		for i := range p.Pix {
			p.Pix[i] = v
		}
		for i := 3; i < len(p.Pix); i += 4 {
			p.Pix[i] = 255
		}
		return p
	}
	front, back := &light.Frame{Name: "front"}, &light.Frame{Name: "back"}
	views := []View{{front, ""}, {front, "base"}, {back, ""}, {back, "base"}}
	var pictures []*image.NRGBA
	for i := range 8 {
		pictures = append(pictures, solid(60, 40+20*(i/2%2), uint8(100+10*i)))
	}
	sheet, err := SheetOf("Ball", views, []string{"now", "before"}, pictures)
	if err != nil {
		t.Fatal(err)
	}
	// Four columns of 60 px, two rows of 40 and 60; from the left: state by state, lit and base in each.
	count := map[uint8]int{}
	first := map[uint8]image.Point{}
	for y := range sheet.Rect.Dy() {
		for x := range sheet.Rect.Dx() {
			c := sheet.NRGBAAt(x, y)
			if v := c.R; v == c.G && v == c.B && v >= 100 && v <= 170 && v%10 == 0 {
				if count[v] == 0 {
					first[v] = image.Pt(x, y)
				}
				count[v]++
			}
		}
	}
	order := [][]uint8{{100, 110, 140, 150}, {120, 130, 160, 170}}
	for j, row := range order {
		for i, v := range row {
			if want := 60 * (40 + 20*j); count[v] < want || count[v] > want+40 { // ink may have a grey of the same value
				t.Errorf("picture %d has %d px of %d", v, count[v], want)
			}
			if i > 0 && first[v].X-first[row[i-1]].X != 69 || i > 0 && first[v].Y != first[row[0]].Y {
				t.Errorf("picture %d stands at %v, the one before at %v", v, first[v], first[row[i-1]])
			}
		}
	}
	if first[120].Y <= first[100].Y+40 {
		t.Error("the second row is not below the first")
	}
	alone, err := SheetOf("Ball", []View{{nil, ""}, {nil, "base"}, {nil, "roughness"}, {nil, "metallic"}, {nil, "normal"}}, []string{""}, pictures[:5])
	if err != nil || alone.Rect.Dx() != 9+4*69 {
		t.Errorf("five pictures are laid %v, %v", alone.Rect, err)
	}
	if _, err := SheetOf("Ball", views[:1], []string{""}, []*image.NRGBA{solid(20000, 10, 1)}); err == nil {
		t.Error("a sheet of 20,000 px is made")
	}
}

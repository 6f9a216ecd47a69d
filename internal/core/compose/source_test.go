package compose

import (
	"fmt"
	"math"
	"testing"

	"crust/internal/core/bake"
	"crust/internal/core/field"
	"crust/internal/core/geom"
	"crust/internal/core/imgfile"
	"crust/internal/core/picture"
	"crust/internal/core/pixel"
	"crust/internal/core/strata"
)

// shown gives a canvas's body one picture, “p1”.
func shown(t *testing.T, c *Canvas, space picture.Space, w, h, channels int, at func(x, y, c int) float64) {
	t.Helper()
	from := &imgfile.Picture{Width: w, Height: h, Channels: channels, Bits: 16, Whole: make([]uint16, w*h*channels)}
	for i := range from.Whole {
		from.Whole[i] = uint16(at(i/channels%w, i/channels/w, i%channels)*65535 + 0.5)
	}
	p, err := picture.New(from, space)
	if err != nil {
		t.Fatal(err)
	}
	c.body.Show(func(mark string) (*picture.Picture, error) {
		if mark == "p1" {
			return p, nil
		}
		return nil, nil
	})
}

func sourced(s strata.Source) *strata.Document {
	d := new(strata.Document)
	coat(d, "#336699", func(l *strata.Layer) {
		l.What.Colour.Source = &s
		r := s
		r.Low, r.High, r.Ramp = 0.25, 0.75, nil
		l.What.Roughness = strata.Value{On: true, Blend: "over", Opacity: 1, Source: &r}
		h := s
		h.Low, h.High, h.Ramp = -1, 3, nil
		l.What.Height = strata.Value{On: true, Blend: "over", Opacity: 1, Source: &h}
	})
	return d
}

// A picture laid by UV is the picture: texel for texel at its own size, as colours, and as numbers between two ends; turned,
// mirrored, moved and repeated as the plain mapping says.
func TestPicturesLieByUV(t *testing.T) {
	const size = 64
	c, _ := square(t, size, nil)
	at := func(x, y, k int) float64 { return 0.5 + 0.5*math.Sin(float64(x)*0.37+float64(y)*0.61+float64(k)) }
	shown(t, c, picture.Colour, size, size, 3, at)
	texels := c.Texels()
	for _, lay := range []struct {
		name string
		v    map[string]float64
		of   func(x, y int) (int, int)
	}{
		{"as it is", map[string]float64{}, func(x, y int) (int, int) { return x, y }},
		{"moved by a quarter", map[string]float64{"u": 0.25, "v": -0.5}, func(x, y int) (int, int) { return (x + 48) % 64, (y + 32) % 64 }},
		{"mirrored", map[string]float64{"mirror": 1}, func(x, y int) (int, int) { return 63 - x, y }},
		{"turned by 90°", map[string]float64{"turn": 90}, func(x, y int) (int, int) { return y, 63 - x }},
	} {
		lay.v["by"] = strata.ByUV
		ch := evaluate(t, c, sourced(strata.Source{Kind: "picture", Picture: "p1", Lay: lay.v, High: 1}))
		for i, k := range texels {
			x, y := lay.of(int(k)%size, int(k)/size)
			grey := 0.2126*at(x, y, 0) + 0.7152*at(x, y, 1) + 0.0722*at(x, y, 2)
			grey = float64(pixel.FromSRGB(float32(grey)))
			for n, got := range []float32{ch.Base[0][i], ch.Base[1][i], ch.Base[2][i], ch.Roughness[i], ch.Height[i] * 1000} {
				want := []float64{at(x, y, 0), at(x, y, 1), at(x, y, 2), 0.25 + 0.5*grey, -1 + 4*grey}[n]
				if math.Abs(float64(got)-want) > 1e-3 {
					t.Fatalf("%s, texel %d, value %d: %g, want %g", lay.name, k, n, got, want)
				}
			}
		}
	}
	// Three repeats read as means of what a texel covers.
	ch := evaluate(t, c, sourced(strata.Source{Kind: "picture", Picture: "p1", Lay: map[string]float64{"by": strata.ByUV, "repeats": 8}, High: 1}))
	mean := 0.0
	for _, v := range ch.Base[0] {
		mean += float64(pixel.FromSRGB(v)) / float64(len(ch.Base[0]))
	}
	want := 0.0
	for i := range size * size {
		want += float64(pixel.FromSRGB(float32(at(i%size, i/size, 0)))) / size / size
	}
	if math.Abs(mean-want) > 0.02 {
		t.Errorf("eight repeats have a mean light of %g, the picture has %g", mean, want)
	}
}

// By box and by plane a picture has its size in metres, whatever the size of the texture; a missing picture leaves the value
// that stands in the layer.
func TestPicturesLieByMetres(t *testing.T) {
	for _, size := range []int{64, 128} {
		c, _ := square(t, size, nil)
		shown(t, c, picture.Data, 256, 128, 1, func(x, y, _ int) float64 { return float64(x) / 255 })
		for _, by := range []float64{strata.ByBox, strata.ByPlane} {
			ch := evaluate(t, c, sourced(strata.Source{Kind: "picture", Picture: "p1", Of: "grey", Lay: map[string]float64{"by": by, "size": 0.5, "rim": 0}, High: 1}))
			for i, p := range places(c) {
				x := math.Mod(float64(p.X)/0.5, 1)
				if x < 0 {
					x++
				}
				if x < 0.06 || x > 0.94 {
					continue // where the picture ends it is smooth to its beginning
				}
				if got := float64(ch.Roughness[i]-0.25) / 0.5; math.Abs(got-x) > 0.01 {
					t.Fatalf("%d px, by %g, at %g m: %g, want %g", size, by, p.X, got, x)
				}
			}
		}
		gone := evaluate(t, c, sourced(strata.Source{Kind: "picture", Picture: "p9", High: 1}))
		if math.Abs(float64(gone.Base[2][0])-0x99/255.) > 1e-3 {
			t.Errorf("without its picture a layer is %g, want its own blue", gone.Base[2][0])
		}
	}
}

// The three planes of a box count by how near they come to the one faced most; they add up to 1 (after Golus, Normal Mapping
// for a Triplanar Shader, 2017, as to weights that are normalised).
func TestBoxWeights(t *testing.T) {
	for i := range 500 {
		a, b := float64(i)*0.7, float64(i)*0.13
		x, y, z := float32(math.Cos(a)*math.Cos(b)), float32(math.Sin(b)), float32(math.Sin(a)*math.Cos(b))
		for _, rim := range []float32{0, 0.1, 0.3, 1} {
			w := boxOf(x, y, z, rim)
			if sum := w[0] + w[1] + w[2]; math.Abs(float64(sum)-1) > 1e-5 || min(w[0], w[1], w[2]) < 0 {
				t.Fatalf("weights %v", w)
			}
		}
	}
	if w := boxOf(0.6, 0.8, 0, 0.1); w != [3]float32{1, 0, 0} {
		t.Errorf("mostly up: %v, want the picture from above alone", w)
	}
	if w := boxOf(0.7, 0.7, 0, 0.4); math.Abs(float64(w[0]-w[1])) > 1e-6 || w[2] != 0 {
		t.Errorf("between up and the side: %v, want both alike", w)
	}
}

func boxOf(x, y, z, rim float32) [3]float32 {
	w := [3][]float32{{0}, {0}, {0}}
	boxed([]float32{x}, []float32{y}, []float32{z}, rim, &w)
	return [3]float32{w[0][0], w[1][0], w[2][0]}
}

// Places of a block lie on each plane where the mapping of a single place says, seen from before, from behind, or some from either side,
// whether all of them are asked for or some.
func TestPlacesOfABlockLieWhereEachDoes(t *testing.T) {
	sin, cos := math.Sincos(0.4)
	for name, side := range map[string]func(i int) float32{
		"before": func(int) float32 { return 0.7 },
		"behind": func(int) float32 { return -0.7 },
		"either": func(i int) float32 { return float32(i%3) - 0.5 },
	} {
		b, sides := new(field.Block), make([]float32, 37)
		for i := range sides {
			b.X, b.Y, b.Z = append(b.X, float32(i)*0.13), append(b.Y, float32(i*i%17)*0.07-0.4), append(b.Z, 2-float32(i)*0.11)
			sides[i] = side(i)
		}
		for from := range 3 {
			for _, mirror := range []bool{false, true} {
				l := &laying{size: 0.3, u: 0.2, v: -0.6, sin: float32(sin), cos: float32(cos), mirror: mirror, tall: 1.7}
				for _, step := range []int{1, 2} {
					var at []uint16
					for i := 0; i < len(sides); i += step {
						at = append(at, uint16(i))
					}
					u, v := make([]float32, len(sides)), make([]float32, len(sides))
					l.planes(b, from, sides, at, u, v)
					for j, i := range at {
						x, y := l.plane(from, geom.Vec3{X: b.X[i], Y: b.Y[i], Z: b.Z[i]}, sides[i])
						if math.Abs(float64(u[j]-x)) > 1e-5 || math.Abs(float64(v[j]-y)) > 1e-5 {
							t.Fatalf("seen from %s on plane %d, mirrored %v: place %d lies at (%g, %g), want (%g, %g)", name, from, mirror, i, u[j], v[j], x, y)
						}
					}
				}
			}
		}
	}
}

// A field goes through a ramp of colours, straight between its stops; a baked map does too, or gives numbers.
func TestFieldsAndMapsThroughARamp(t *testing.T) {
	const size = 64
	ao := &bake.Map{Kind: bake.AO, Size: size, Channels: 1, Pix: make([]uint16, size*size)}
	id := &bake.Map{Kind: bake.ID, Size: size, Channels: 3, Pix: make([]uint16, 3*size*size)}
	for i := range ao.Pix {
		ao.Pix[i] = uint16(i % size * 65535 / (size - 1))
		if i%size < 20 {
			id.Pix[3*i] = 65535 // red to the left, green else
		} else {
			id.Pix[3*i+1] = 65535
		}
	}
	c, _ := square(t, size, map[string]*bake.Map{bake.AO: ao, bake.ID: id})
	ramp := []strata.Stop{{At: 0, Hex: "#000000"}, {At: 0.5, Hex: "#ff0000"}, {At: 1, Hex: "#ffffff"}}
	through := func(v float64) (r, g float64) { return min(1, 2*v), max(0, 2*v-1) }
	ch := evaluate(t, c, sourced(strata.Source{Kind: "map", Map: bake.AO, Ramp: ramp, High: 1}))
	for i, k := range c.Texels() {
		v := float64(ao.Pix[k]) / 65535
		r, g := through(v)
		if math.Abs(float64(ch.Base[0][i])-r) > 1e-3 || math.Abs(float64(ch.Base[1][i])-g) > 1e-3 || math.Abs(float64(ch.Roughness[i])-(0.25+v/2)) > 1e-3 {
			t.Fatalf("texel %d, occlusion %g: %g %g and %g", k, v, ch.Base[0][i], ch.Base[1][i], ch.Roughness[i])
		}
	}

	d := sourced(strata.Source{})
	cl := clauseOf(t, d, "noise", map[string]float64{"size": 0.2})
	of := strata.Source{Kind: "field", Field: &cl, Ramp: ramp, High: 1}
	ch = evaluate(t, c, sourced(of))
	d.Layers[0].What.Colour.Source, d.Layers[0].What.Roughness.Source, d.Layers[0].What.Height.Source = nil, nil, nil
	d.Layers[0].Where = []strata.Clause{cl}
	for i, v := range fieldOf(t, c, d, 0, cl.ID) {
		r, g := through(float64(v))
		if math.Abs(float64(ch.Base[0][i])-r) > 1e-3 || math.Abs(float64(ch.Base[1][i])-g) > 1e-3 {
			t.Fatalf("texel %d, noise %g: %g %g", i, v, ch.Base[0][i], ch.Base[1][i])
		}
	}

	// A clause of IDs is 1 on its colours, within the tolerance, and 0 elsewhere.
	for _, k := range []struct {
		ids   []string
		share float64
	}{{nil, 0}, {[]string{"#ff0000"}, 20. / 64}, {[]string{"#fd0200"}, 20. / 64}, {[]string{"#f00f00"}, 0}, {[]string{"#ff0000", "#00ff00"}, 1}} {
		d.Layers[0].Where = []strata.Clause{clauseOf(t, d, "id", nil)}
		d.Layers[0].Where[0].IDs = k.ids
		sum := 0.0
		for _, v := range fieldOf(t, c, d, 0, "") {
			sum += float64(v) / float64(c.Len())
		}
		if math.Abs(sum-k.share) > 1e-3 {
			t.Errorf("IDs %v cover %g, want %g", k.ids, sum, k.share)
		}
	}
}

// A picture's height makes the slopes that its pixels have; other layers' relief reads it too.
func TestAPicturesHeightMakesNormals(t *testing.T) {
	const size = 128
	c, _ := square(t, size, nil)
	shown(t, c, picture.Data, 256, 256, 1, func(x, y, _ int) float64 { return 0.5 + 0.5*math.Sin(2*math.Pi*(float64(x)+0.5)/256) })
	d := sourced(strata.Source{Kind: "picture", Picture: "p1", Of: "grey", Lay: map[string]float64{"by": strata.ByUV}, High: 1})
	d.Layers[0].What.Height.Source.Low, d.Layers[0].What.Height.Source.High = -4, 4
	ch := evaluate(t, c, d)
	worst := 0.0
	for i, p := range places(c) {
		slope := 2 * math.Pi * 0.004 * math.Cos(2*math.Pi*float64(p.X))
		worst = max(worst, math.Abs(float64(ch.Normal[0][i])+slope/math.Sqrt(1+slope*slope)))
	}
	if worst > 0.002 {
		t.Errorf("normals are off by %g", worst)
	}
}

// An adjustment changes what lies below, where its layer shows, and nothing above.
func TestAdjustmentsChangeWhatLiesBelow(t *testing.T) {
	c, _ := square(t, 32, nil)
	d := new(strata.Document)
	coat(d, "#336699", func(l *strata.Layer) {
		l.What.Roughness = strata.Value{On: true, Number: 0.4, Blend: "over", Opacity: 1}
	})
	coat(d, "#000000", func(l *strata.Layer) {
		a, r := strata.NewAdjust(), strata.NewAdjust()
		a.Hue, r.Low, r.High = 180, 0.2, 0.6
		l.What.Colour = strata.Value{On: true, Blend: "over", Opacity: 1, Adjust: a}
		l.What.Roughness = strata.Value{On: true, Blend: "over", Opacity: 0.5, Adjust: r}
	})
	ch := evaluate(t, c, d)
	got := fmt.Sprintf("%.2f %.2f %.2f, %.3f", ch.Base[0][5]*255, ch.Base[1][5]*255, ch.Base[2][5]*255, ch.Roughness[5])
	if want := "153.00 102.00 51.00, 0.450"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
}

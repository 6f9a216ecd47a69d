package compose

import (
	"math"
	"math/rand/v2"
	"testing"

	"crust/internal/core/bake"
	"crust/internal/core/geom"
	"crust/internal/core/imgfile"
	"crust/internal/core/picture"
	"crust/internal/core/pixel"
	"crust/internal/core/strata"
)

// waves are a height and the normal map of the same shape, green up or down: sines along the picture, whose slopes are theirs
// in closed form. Heights are in widths of the picture.
const (
	waveHigh  = 0.008
	waveRight = 3.
	waveDown  = 2.
)

func waves(t *testing.T, c *Canvas) {
	t.Helper()
	const n = 512
	at := func(x, y int) (h, right, down float64) {
		u, v := 2*math.Pi*(float64(x)+0.5)/n, 2*math.Pi*(float64(y)+0.5)/n
		return waveHigh * (math.Sin(waveRight*u) + math.Sin(waveDown*v)), 2 * math.Pi * waveHigh * waveRight * math.Cos(waveRight*u), 2 * math.Pi * waveHigh * waveDown * math.Cos(waveDown*v)
	}
	pics := map[string]*picture.Picture{}
	for mark, f := range map[string]func(x, y int) [3]float64{
		"h": func(x, y int) [3]float64 { h, _, _ := at(x, y); h = 0.5 + h/(4*waveHigh); return [3]float64{h, h, h} },
		"up": func(x, y int) [3]float64 {
			_, r, d := at(x, y)
			l := math.Sqrt(1 + r*r + d*d)
			return [3]float64{0.5 - r/l/2, 0.5 + d/l/2, 0.5 + 1/l/2}
		},
		"down": func(x, y int) [3]float64 {
			_, r, d := at(x, y)
			l := math.Sqrt(1 + r*r + d*d)
			return [3]float64{0.5 - r/l/2, 0.5 - d/l/2, 0.5 + 1/l/2}
		},
	} {
		from := &imgfile.Picture{Width: n, Height: n, Channels: 3, Bits: 16, Whole: make([]uint16, 3*n*n)}
		for i := range n * n {
			for k, v := range f(i%n, i/n) {
				from.Whole[3*i+k] = uint16(v*65535 + 0.5)
			}
		}
		p, err := picture.New(from, picture.Data)
		if err != nil {
			t.Fatal(err)
		}
		pics[mark] = p
	}
	c.body.Show(func(mark string) (*picture.Picture, error) { return pics[mark], nil })
}

// A normal map is the shape that it was made of: laid like a height, by UV, plane or box, turned and mirrored, green up or
// down, on a level or a bent surface, it gives the normals that the height gives.
func TestANormalMapIsTheShapeItWasMadeOf(t *testing.T) {
	bent := func(s, t float64) [3]float64 {
		return [3]float64{s, 0.35 * math.Sin(2.2*s+0.4) * math.Cos(1.7*t), 1 - t}
	}
	for _, k := range []struct {
		name, of string
		shape    func(s, t float64) [3]float64
		lay      map[string]float64
		wide     float64 // of the picture, in metres
	}{
		{"by UV", "up", flat, map[string]float64{"by": strata.ByUV}, 1 / 0.9},
		{"by UV, green down", "down", flat, map[string]float64{"by": strata.ByUV}, 1 / 0.9},
		{"by UV, turned", "up", flat, map[string]float64{"by": strata.ByUV, "turn": 35, "repeats": 2}, 0.5 / 0.9},
		{"by UV, mirrored and turned", "up", flat, map[string]float64{"by": strata.ByUV, "turn": -110, "mirror": 1}, 1 / 0.9}, // an island fills nine tenths of its square each way
		{"by plane", "up", bent, map[string]float64{"by": strata.ByPlane, "size": 0.7, "from": 0, "turn": 20}, 0.7},
		{"by plane, mirrored", "down", bent, map[string]float64{"by": strata.ByPlane, "size": 0.7, "from": 0, "turn": 140, "mirror": 1}, 0.7},
		{"by box", "up", bent, map[string]float64{"by": strata.ByBox, "size": 0.6, "rim": 0, "turn": 75}, 0.6},
	} {
		c := canvases(t, cutUp(24, 1, 1, k.shape), "single", func(int) int { return 512 })[0]
		waves(t, c)
		doc := func(lay func(w *strata.What)) *strata.Document {
			d := new(strata.Document)
			coat(d, "#336699", func(l *strata.Layer) { lay(&l.What) })
			if err := d.Check(); err != nil {
				t.Fatal(err)
			}
			return d
		}
		high := float32(2 * waveHigh * k.wide * 1000) // millimetres
		shape := evaluate(t, c, doc(func(w *strata.What) {
			w.Height = strata.Value{On: true, Blend: "over", Opacity: 1, Source: &strata.Source{Kind: "picture", Picture: "h", Of: "grey", Lay: k.lay, Low: -high, High: high}}
		}))
		leant := evaluate(t, c, doc(func(w *strata.What) {
			w.Normal = strata.Value{On: true, Number: 1, Blend: "add", Opacity: 1, Source: &strata.Source{Kind: "picture", Picture: k.of, Of: "green " + k.of, Lay: k.lay, High: 1}}
		}))
		sum, n, tilt := 0.0, 0, 0.0
		for i := range shape.Normal[0] {
			d := 0.0
			for j := range 3 {
				d += math.Abs(float64(shape.Normal[j][i] - leant.Normal[j][i]))
			}
			sum, n = sum+d, n+1
			tilt += math.Hypot(float64(leant.Normal[0][i]), float64(leant.Normal[1][i]))
		}
		if mean, tilt := sum/float64(n), tilt/float64(n); mean > 0.0015 || tilt < 0.08 {
			t.Errorf("%s: normals differ by %.4f in the mean, and lean by %.3f", k.name, mean, tilt)
		}
	}
}

// Normals go over the baked ones and over each other by reoriented mapping (Barré-Brisebois & Hill, Blending in Detail, 2012),
// in parts where a layer shows in part, or take the place of those below.
func TestNormalsCombine(t *testing.T) {
	const size = 64
	lean := func(x, y float64) geom.Vec3 {
		return geom.Vec3{X: float32(x), Y: float32(y), Z: float32(math.Sqrt(1 - x*x - y*y))}
	}
	tilt, first, second := lean(0.3, -0.2), lean(-0.25, 0.4), lean(0.5, 0.1)
	baked := &bake.Map{Kind: bake.Normal, Size: size, Channels: 3, Pix: make([]uint16, 3*size*size)}
	for i := range size * size {
		for k, v := range tilt.Array() {
			baked.Pix[3*i+k] = pixel.Q16(v/2 + 0.5)
		}
	}
	c, _ := square(t, size, map[string]*bake.Map{bake.Normal: baked})
	pics := map[string]*picture.Picture{}
	for mark, n := range map[string]geom.Vec3{"a": first, "b": second} {
		from := &imgfile.Picture{Width: 4, Height: 4, Channels: 3, Bits: 16, Whole: make([]uint16, 48)}
		for i := range from.Whole {
			from.Whole[i] = pixel.Q16(n.Array()[i%3]/2 + 0.5)
		}
		pics[mark], _ = picture.New(from, picture.Data)
	}
	c.body.Show(func(mark string) (*picture.Picture, error) { return pics[mark], nil })
	// The paper's own words: t = base + (0, 0, 1), u = detail · (−1, −1, 1), r = t · (t · u) / t.z − u.
	over := func(base, detail geom.Vec3) geom.Vec3 {
		b, u := base.Add(geom.Vec3{Z: 1}), geom.Vec3{X: -detail.X, Y: -detail.Y, Z: detail.Z}
		return b.Mul(b.Dot(u) / b.Z).Sub(u).Norm()
	}
	// Halfway between two slopes.
	half := func(a, b geom.Vec3) geom.Vec3 {
		return geom.Vec3{X: (a.X/a.Z + b.X/b.Z) / 2, Y: (a.Y/a.Z + b.Y/b.Z) / 2, Z: 1}.Norm()
	}
	level := geom.Vec3{Z: 1}
	type layer struct {
		mark, blend string
		opacity     float32
	}
	for _, k := range []struct {
		name  string
		group string
		of    []layer
		want  geom.Vec3
	}{
		{"nothing", "", nil, tilt},
		{"one", "", []layer{{"a", "add", 1}}, over(tilt, first)},
		{"half of one", "", []layer{{"a", "add", 0.5}}, over(tilt, half(level, first))},
		{"two", "", []layer{{"a", "add", 1}, {"b", "add", 1}}, over(tilt, over(first, second))},
		{"half of the second", "", []layer{{"a", "add", 1}, {"b", "add", 0.5}}, over(tilt, half(first, over(first, second)))},
		{"the second in the place of the first", "", []layer{{"a", "add", 1}, {"b", "over", 1}}, over(tilt, second)},
		{"a group over them", "add", []layer{{"a", "add", 1}, {"b", "add", 1}}, over(tilt, over(first, second))},
		{"a group in their place", "over", []layer{{"a", "add", 1}, {"b", "add", 1}}, over(tilt, second)},
	} {
		d := new(strata.Document)
		for _, of := range k.of {
			coat(d, "#336699", func(l *strata.Layer) {
				l.Opacity = of.opacity
				l.What.Normal = strata.Value{On: true, Number: 1, Blend: of.blend, Opacity: 1, Source: &strata.Source{Kind: "picture", Picture: of.mark, Lay: map[string]float64{"by": strata.ByUV}, High: 1}}
			})
		}
		if k.group != "" {
			g := d.NewGroup("Group")
			g.Blend = k.group
			d.Layers[len(d.Layers)-1].In = g.ID
			if err := d.Put("", g); err != nil {
				t.Fatal(err)
			}
		}
		ch := evaluate(t, c, d)
		for i := range 3 {
			if got, want := ch.Normal[i][7], k.want.Array()[i]; math.Abs(float64(got-want)) > 2e-4 {
				t.Errorf("%s: %c is %.4f, want %.4f", k.name, "xyz"[i], got, want)
			}
		}
	}
}

// Emissive, opacity and occlusion are blended like the others, each mode by its formula, over what is whole and unlit;
// occlusion then multiplies the baked one. What no layer lays down is not there, and packs as the bare surface.
func TestTheOtherChannels(t *testing.T) {
	const size = 32
	ao := &bake.Map{Kind: bake.AO, Size: size, Channels: 1, Pix: make([]uint16, size*size)}
	for i := range ao.Pix {
		ao.Pix[i] = uint16(i % size * 2000)
	}
	c, _ := square(t, size, map[string]*bake.Map{bake.AO: ao})
	r := rand.New(rand.NewPCG(3, 4))
	for _, b := range pixel.Blends {
		d := new(strata.Document)
		glow, clear, shade := [3]float64{}, 1., 1.
		for range 3 {
			coat(d, "#336699", func(l *strata.Layer) {
				l.Opacity = 0.3 + 0.7*r.Float32()
				rgb := [3]int{r.IntN(256), r.IntN(256), r.IntN(256)}
				l.What.Emissive = strata.Value{On: true, Hex: "#" + hex(rgb), Blend: b.Name, Opacity: 1}
				l.What.Opacity = strata.Value{On: true, Number: r.Float32(), Blend: b.Name, Opacity: 0.7}
				l.What.Occlusion = strata.Value{On: true, Number: r.Float32(), Blend: b.Name, Opacity: 1}
				mix := func(to *float64, own float32, alpha float32) {
					*to += (float64(b.Mix(float32(*to), own)) - *to) * float64(alpha)
					if b.Name == "add" {
						*to = min(*to, 1)
					}
				}
				for k := range glow {
					mix(&glow[k], float32(rgb[k])/255, l.Opacity)
				}
				mix(&clear, l.What.Opacity.Number, l.Opacity*0.7)
				mix(&shade, l.What.Occlusion.Number, l.Opacity)
			})
		}
		ch := evaluate(t, c, d)
		for i, at := range c.Texels() {
			for k := range glow {
				if math.Abs(float64(ch.Emissive[k][i])-glow[k]) > 2e-4 {
					t.Fatalf("%s: emissive %g, want %g", b.Name, ch.Emissive[k][i], glow[k])
				}
			}
			baked := float64(ao.Pix[at]) / 65535
			if math.Abs(float64(ch.Opacity[i])-clear) > 2e-4 || math.Abs(float64(ch.AO[i])-shade*baked) > 2e-4 {
				t.Fatalf("%s: opacity %g and occlusion %g, want %g and %g", b.Name, ch.Opacity[i], ch.AO[i], clear, shade*baked)
			}
		}
	}

	d := new(strata.Document)
	coat(d, "#336699", nil)
	p := program(t, c, d)
	err := c.Run(t.Context(), p, Pass{Do: func(_, tile int, _ Keys, ch *Channels) {
		if ch.Emissive[0] != nil || ch.Opacity != nil || ch.Bend[0] != nil {
			t.Error("planes that no layer lays down are there")
		}
		for _, k := range []struct {
			name string
			want float32
		}{{"emissive.g", 0}, {"opacity", 1}} {
			s, _ := SourceOf(k.name)
			got := make([]float32, c.Surf.Tiles[tile].Len())
			s.Fill(ch, got)
			if got[3] != k.want {
				t.Errorf("%s fills as %g, want %g", k.name, got[3], k.want)
			}
		}
	}})
	if err != nil {
		t.Fatal(err)
	}
}

func hex(rgb [3]int) string {
	const digits = "0123456789abcdef"
	out := ""
	for _, v := range rgb {
		out += digits[v/16:v/16+1] + digits[v%16:v%16+1]
	}
	return out
}

// What is wet is darker by Lekner and Dorf's formula, smoother, and as it was where it is dry; a metal keeps its colour; a layer that lies
// over it has it dry again. The shares that the film throws back are those of water: 2 % of what meets it straight, (1.33 − 1)²/(1.33 + 1)²,
// and of even light from below 1 − (1 − 0.066)/1.33² (Fresnel's mean for 1.33 from above is 6.6 %; common tables).
func TestWetSurfacesAreDarkerAndSmoother(t *testing.T) {
	if want := math.Pow(0.33/2.33, 2); math.Abs(filmMirrors-want) > 0.001 {
		t.Errorf("the film mirrors %g, want %.4f", filmMirrors, want)
	}
	if want := 1 - (1-0.066)/(1.33*1.33); math.Abs(filmKeeps-want) > 0.004 {
		t.Errorf("the film keeps %g, want %.4f", filmKeeps, want)
	}
	c, _ := square(t, 16, nil)
	wet := func(how float32) func(l *strata.Layer) {
		return func(l *strata.Layer) {
			for _, ch := range strata.Channels {
				ch.Of(&l.What).On = false
			}
			l.What.Wet = strata.Value{On: true, Number: how, Blend: "over", Opacity: 1}
		}
	}
	for _, metal := range []float32{0, 1} {
		for _, how := range []float32{0, 0.5, 1} {
			d := new(strata.Document)
			coat(d, "#bcbcbc", func(l *strata.Layer) {
				l.What.Roughness.Number = 0.8
				l.What.Metallic = strata.Value{On: true, Number: metal, Blend: "over", Opacity: 1}
			})
			coat(d, "#ffffff", wet(how))
			ch := evaluate(t, c, d)
			dry := pixel.FromSRGB(float32(0xbc) / 255)
			a := 1 - float64(dry)
			under := 1 - 0.98*a/(1-0.475*(1-a)) - 0.02
			want := float64(dry) + (under-float64(dry))*float64(how)*(1-float64(metal))
			if got := pixel.FromSRGB(ch.Base[0][5]); math.Abs(float64(got)-want) > 1e-3 {
				t.Errorf("metal %g, wet %g: it reflects %.4f, want %.4f", metal, how, got, want)
			}
			if got, want := ch.Roughness[5], 0.8+(filmRough-0.8)*how; math.Abs(float64(got-want)) > 1e-3 {
				t.Errorf("wet %g: roughness %.3f, want %.3f", how, got, want)
			}
			// A coat over it that says it is dry.
			coat(d, "#bcbcbc", func(l *strata.Layer) {
				l.What.Roughness.Number = 0.8
				l.What.Wet = strata.Value{On: true, Number: 0, Blend: "over", Opacity: 1}
			})
			if ch := evaluate(t, c, d); math.Abs(float64(ch.Base[0][5])-0xbc/255.) > 1e-3 || math.Abs(float64(ch.Roughness[5])-0.8) > 1e-3 {
				t.Errorf("covered, it is still wet: %.3f, %.3f", ch.Base[0][5], ch.Roughness[5])
			}
		}
	}
	if wetter(0) != 0 || wetter(1) < 0.95 || wetter(1) > 1 {
		t.Errorf("black and white become %g and %g", wetter(0), wetter(1))
	}
}

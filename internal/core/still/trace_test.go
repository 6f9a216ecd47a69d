package still

import (
	"context"
	"math"
	"runtime"
	"slices"
	"testing"

	"crust/internal/core/geom"
	"crust/internal/core/light"
	"crust/internal/core/mesh"
	"crust/internal/core/uv"
)

// plain are maps of one value everywhere.
func plain(base, rough, metal float64) *Maps {
	const size = 16
	all := func(v float64) []uint16 {
		out := make([]uint16, size*size)
		for i := range out {
			out[i] = uint16(v*65535 + 0.5)
		}
		return out
	}
	m := &Maps{Size: size, Rough: all(rough), Metal: all(metal), Normal: [2][]uint16{all(32768. / 65535), all(32768. / 65535)}}
	for k := range m.Base {
		m.Base[k] = all(base)
	}
	return m
}

// sceneOf is a model whose one set has these maps.
func sceneOf(t *testing.T, m *mesh.Model, maps *Maps, look Look) *Scene {
	t.Helper()
	sets, err := uv.Sets(m, uv.Single)
	if err != nil {
		t.Fatal(err)
	}
	s, err := NewScene(context.Background(), m, sets, []*Maps{maps}, look)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func even(v float32) *light.Environment {
	e := &light.Environment{Width: 16, Height: 8, Pix: make([]float32, 16*8*3)}
	for i := range e.Pix {
		e.Pix[i] = v
	}
	return e
}

func render(t *testing.T, s *Scene, of Lights, cam Camera, set Settings) *Picture {
	t.Helper()
	tr := NewTracer(s, of, cam, set)
	p := tr.Picture()
	if err := tr.Add(context.Background(), p, set.Samples, nil); err != nil {
		t.Fatal(err)
	}
	return p
}

var before = Camera{Eye: geom.Vec3{Z: 4}, Tall: 0.3}

// A white sphere in even light cannot be told from it: the white furnace as a picture, all roughnesses, metal or not.
func TestAWhiteSphereInEvenLightVanishes(t *testing.T) {
	for _, c := range []struct{ rough, metal float64 }{{0, 0}, {0.1, 0}, {0.3, 0}, {0.6, 0}, {1, 0}, {0, 1}, {0.1, 1}, {0.3, 1}, {0.6, 1}, {1, 1}} {
		s := sceneOf(t, mesh.Sphere(64, 32, 1, [3]float64{}), plain(1, c.rough, c.metal), Look{})
		p := render(t, s, Lights{Sky: even(1).Sky(0, 1)}, before, Settings{Width: 16, Height: 16, Samples: 512, Seed: 1})
		sum := 0.0
		for y := 3; y < 13; y++ {
			for x := 3; x < 13; x++ {
				sum += float64(p.Pix[4*(y*16+x)]) / 100
			}
		}
		if math.Abs(sum-1) > 0.01 {
			t.Errorf("roughness %g, metal %g: %.4f", c.rough, c.metal, sum)
		}
	}
}

// taken is what a matt place takes of the lamps and the sky: irradiance.
func taken(tr *Tracer, at, n geom.Vec3, samples int) (sum float64) {
	var k walker
	m := met{at: at, n: n, out: n}
	for i := range samples {
		s := &sampler{index: uint32(i), seed: 5}
		tr.lit(at, &m, func(l, c geom.Vec3, p float32) {
			if p == 0 {
				p = 1
			}
			sum += float64(lum(c)*l.Dot(n)/p) / float64(samples)
		}, s, &k, func() float32 { return 0.5 })
	}
	return sum
}

// Lamps against their closed forms. A point: I·cos θ/d². Area lamps are Lambert's, so a plane takes π·L times the configuration factor
// (Howell, A Catalog of Radiation Heat Transfer Configuration Factors: B-12, a disk parallel to the element, on its axis, R²/(R² + h²);
// B-4, a rectangle parallel to it with a corner over it). A sun: its lux times the cosine.
func TestLampsAgainstClosedForms(t *testing.T) {
	// Something far below that is in nobody's way.
	s := sceneOf(t, mesh.Sphere(8, 4, 0.1, [3]float64{0, -50, 0}), plain(0.5, 1, 0), Look{})
	lamp := func(l light.Lamp) *Tracer {
		l.Kelvin = 6504
		return NewTracer(s, Lights{Lamps: []light.Lamp{l}}, before, Settings{Width: 1, Height: 1})
	}
	check := func(what string, got, want float64) {
		t.Helper()
		if math.Abs(got/want-1) > 0.01 {
			t.Errorf("%s: %.5f, want %.5f", what, got, want)
		}
	}
	up := geom.Vec3{Y: 1}
	// A matt sphere of radius 1 under a point 3 m above its middle: the cosine and the distance at a polar angle.
	point := light.Lamp{Kind: light.Point, At: [3]float32{0, 3, 0}, Strength: 1000}
	for _, polar := range []float64{0, 0.3, 0.7, 1.1} {
		sin, cos := math.Sincos(polar)
		at := geom.Vec3{X: float32(sin), Y: float32(cos)}
		d := math.Sqrt(9 + 1 - 6*cos)
		check("a point over a sphere", taken(lamp(point), at, at, 1), 1000/(4*math.Pi)*(3*cos-1)/d/(d*d))
	}
	for _, c := range []struct{ wide, h float64 }{{1, 1}, {2, 0.5}, {0.3, 2}} {
		l := light.Lamp{Kind: light.Area, At: [3]float32{0, float32(c.h), 0}, Wide: float32(c.wide), Strength: 1000}
		r := c.wide / 2
		check("a disk over a plane", taken(lamp(l), geom.Vec3{}, up, 4096), math.Pi*l.Nits()*r*r/(r*r+c.h*c.h))
		l.High = float32(0.7 * c.wide)
		x, y := c.wide/2/c.h, 0.35*c.wide/c.h
		b4 := (x/math.Sqrt(1+x*x)*math.Atan(y/math.Sqrt(1+x*x)) + y/math.Sqrt(1+y*y)*math.Atan(x/math.Sqrt(1+y*y))) / (2 * math.Pi)
		check("a rectangle over a plane", taken(lamp(l), geom.Vec3{}, up, 4096), math.Pi*l.Nits()*4*b4)
	}
	sun := light.Lamp{Kind: light.SunUp, At: [3]float32{0, 1, 1}, Strength: 100}
	check("a sun at 45°", taken(lamp(sun), geom.Vec3{}, up, 1), 100*math.Sqrt2/2)
	spot := light.Lamp{Kind: light.Spot, At: [3]float32{0, 2, 0}, Cone: 30, Soft: 0.5, Strength: 1000}
	check("the middle of a spot", taken(lamp(spot), geom.Vec3{}, up, 1), spot.Candela()/4)
	if got := taken(lamp(spot), geom.Vec3{X: 1.3}, up, 1); got != 0 {
		t.Errorf("beyond a spot's cone: %g", got)
	}
	// An area lamp that is found by chance and one that is looked for give the same light: a smooth metal floor mirrors a disk.
	floor := sceneOf(t, mesh.FlatSquare("floor", 4), plain(1, 0.3, 1), Look{})
	disk := light.Lamp{Kind: light.Area, At: [3]float32{0, 1, 0}, Wide: 0.8, Strength: 500, Kelvin: 6504}
	from := Camera{Eye: geom.Vec3{Y: 2, Z: 1}, At: geom.Vec3{}, Tall: 0.2}
	few := render(t, floor, Lights{Lamps: []light.Lamp{disk}}, from, Settings{Width: 8, Height: 8, Samples: 4096, Seed: 3})
	tr := NewTracer(floor, Lights{Lamps: []light.Lamp{disk}}, from, Settings{Width: 8, Height: 8})
	// Only by chance: the surface is sampled, nothing is looked for.
	sum, n := 0.0, 0
	var k walker
	for y := range 8 {
		for x := range 8 {
			for i := range 4096 {
				s := sampler{index: uint32(i), seed: hash2(uint32(8*y+x), 9)}
				a, b := s.two()
				d := tr.frame[2].Add(tr.frame[0].Mul((2*(float32(x)+a) - 8) / 8 * 0.2)).Add(tr.frame[1].Mul((8 - 2*(float32(y)+b)) / 8 * 0.2)).Norm()
				var m met
				if !floor.meet(from.Eye, d, 100, false, &k, nil, &m) {
					continue
				}
				surf := skin{base: geom.Vec3{X: 1, Y: 1, Z: 1}, metal: 1}
				v := geom.Vec3{X: -d.X, Y: d.Z, Z: -d.Y} // the floor's own frame, whose normal is Z
				surf.ready(0.3, v.Z)
				a, b = s.two()
				l := surf.sample(v, a, b, 0)
				f, q := surf.value(v, l)
				if q > 0 {
					if c, _, ok := tr.shining(m.at, geom.Vec3{X: l.X, Y: l.Z, Z: -l.Y}, 100); ok {
						sum += float64(f.X / q * c.X)
					}
				}
				n++
			}
		}
	}
	mean := 0.0
	for i := 0; i < len(few.Pix); i += 4 {
		mean += float64(few.Pix[i]) / 64
	}
	check("a disk mirrored in a floor", mean, sum/float64(n))
}

// The same picture, byte by byte, on one core and on two, and in two goes as in one.
func TestStillsAreTheSameOnOneCoreAndTwo(t *testing.T) {
	s := sceneOf(t, mesh.BumpySphere(40, 20), plain(0.6, 0.4, 0.3), Look{})
	of := Lights{Sky: light.All[0].Panorama(32).Sky(0.3, 1), Key: geom.Vec3{X: 1, Y: 1}, KeyLight: geom.Vec3{X: 2, Y: 2, Z: 2}}
	set := Settings{Width: 24, Height: 18, Samples: 6, Seed: 4, Backdrop: Backdrop{Ground: true, Colour: geom.Vec3{X: 0.1, Y: 0.1, Z: 0.1}}}
	two := render(t, s, of, before, set)
	had := runtime.GOMAXPROCS(1)
	one := render(t, s, of, before, set)
	runtime.GOMAXPROCS(had)
	if !slices.Equal(one.Pix, two.Pix) {
		t.Error("one core gives another picture than two")
	}
	set.Seed = 5
	if slices.Equal(one.Pix, render(t, s, of, before, set).Pix) {
		t.Error("another seed gives the same picture")
	}
}

// What is cut away is not there and throws no shadow; what fades lets through as much as it should.
func TestOpacityLetsLightThrough(t *testing.T) {
	m := mesh.FlatSquare("leaf", 2)
	for i := range m.Positions { // upright, before the camera
		m.Positions[i] = geom.Vec3{X: m.Positions[i].X, Y: -m.Positions[i].Z}
		m.Normals[i] = geom.Vec3{Z: 1}
	}
	half := plain(0.5, 1, 0)
	half.Opacity = make([]uint16, len(half.Rough))
	for i := range half.Opacity {
		if i%half.Size >= half.Size/2 {
			half.Opacity[i] = 65535
		}
	}
	p := render(t, sceneOf(t, m, half, Look{Cut: 0.5}), Lights{Sky: even(1).Sky(0, 1)}, before, Settings{Width: 20, Height: 20, Samples: 16, Backdrop: Backdrop{Clear: true}})
	if left, right := p.Pix[4*(10*20+7)+3], p.Pix[4*(10*20+12)+3]; left != 0 || right != 1 {
		t.Errorf("alpha is %g where it is cut away and %g beside it", left, right)
	}
	for i := range half.Opacity {
		half.Opacity[i] = 65535 * 3 / 10
	}
	p = render(t, sceneOf(t, m, half, Look{}), Lights{Sky: even(1).Sky(0, 1)}, before, Settings{Width: 20, Height: 20, Samples: 1024, Backdrop: Backdrop{Clear: true}})
	if a := p.Pix[4*(10*20+10)+3]; math.Abs(float64(a)-0.3) > 0.02 {
		t.Errorf("alpha is %.3f of an opacity of 0.3", a)
	}
}

// The height moves the surface by metres, without a crack: nowhere does what lies behind come through.
func TestHeightMovesTheSurface(t *testing.T) {
	maps := plain(0.8, 1, 0)
	maps.Height = make([]float32, maps.Size*maps.Size)
	for i := range maps.Height {
		x, y := float64(i%maps.Size)+0.5, float64(i/maps.Size)+0.5
		maps.Height[i] = float32(0.1 * math.Sin(x/16*2*math.Pi) * math.Sin(y/16*2*math.Pi))
	}
	m := mesh.Sphere(24, 12, 1, [3]float64{})
	s := sceneOf(t, m, maps, Look{Shape: 2, Faces: 20000})
	if n := s.Faces(); n < 10000 || n > 80000 {
		t.Errorf("%d faces", n)
	}
	least, most := math.Inf(1), 0.0
	for _, p := range s.place {
		r := float64(p.Len())
		least, most = min(least, r), max(most, r)
	}
	// Twice 10 cm, on a sphere that was cut from flat faces and whose texels are read between their middles.
	if most < 1.17 || most > 1.2 || least > 0.83 || least < 0.78 {
		t.Errorf("it reaches from %.3f to %.3f m, want about 0.8 to 1.2", least, most)
	}
	seen := map[geom.Vec3]int{}
	for _, p := range s.place {
		seen[p]++
	}
	alone := 0
	for _, n := range seen {
		if n < 3 {
			alone++
		}
	}
	if alone > 0 {
		t.Errorf("%d corners belong to fewer than three faces", alone)
	}
	p := render(t, s, Lights{Sky: even(1).Sky(0, 1)}, before, Settings{Width: 64, Height: 64, Samples: 8, Backdrop: Backdrop{Clear: true}})
	for y := 20; y < 44; y++ {
		for x := 20; x < 44; x++ {
			if a := p.Pix[4*(64*y+x)+3]; a != 1 {
				t.Fatalf("something comes through at %d, %d: alpha %g", x, y, a)
			}
		}
	}
}

// A ball throws its shadow on the ground: dark below it, none far off; without ground there is none.
func TestGroundTakesShadows(t *testing.T) {
	s := sceneOf(t, mesh.Sphere(32, 16, 0.5, [3]float64{0, 0.5, 0}), plain(0.5, 0.5, 0), Look{})
	of := Lights{Sky: even(0.2).Sky(0, 1), Key: geom.Vec3{X: 0.7, Y: 1}, KeyLight: geom.Vec3{X: 2, Y: 2, Z: 2}}
	above := Camera{Eye: geom.Vec3{Y: 6, Z: 0.01}, At: geom.Vec3{}, Tall: 0.4}
	grey := geom.Vec3{X: 0.5, Y: 0.5, Z: 0.5}
	p := render(t, s, of, above, Settings{Width: 48, Height: 48, Samples: 64, Backdrop: Backdrop{Colour: grey, Ground: true}})
	at := func(x, z float64) float32 { // of the ground
		i, j := int(24+x/6/0.4*24), int(24+z/6/0.4*24)
		return p.Pix[4*(48*j+i)]
	}
	if v := at(-0.7, 0); v > 0.15 {
		t.Errorf("in the shadow the ground is %.3f", v)
	}
	if v := at(0.9, 0); v < 0.4 {
		t.Errorf("in the sun it is %.3f", v)
	}
	if v := at(0, 2.2); math.Abs(float64(v)-0.5) > 0.03 {
		t.Errorf("far off it is %.3f, want the backdrop's 0.5", v)
	}
	p = render(t, s, of, above, Settings{Width: 48, Height: 48, Samples: 4, Backdrop: Backdrop{Colour: grey}})
	if v := at(-0.7, 0); v != 0.5 {
		t.Errorf("without ground there is %.3f", v)
	}
}

// A turntable turns the model: a picture of the model turned by 90° is that of a model whose corners were turned, under the same lights.
func TestATurntableTurnsTheModel(t *testing.T) {
	box := func(turned bool) *mesh.Model {
		m := mesh.Sphere(24, 12, 1, [3]float64{})
		for i, p := range m.Positions {
			p.X *= 0.4 // long and narrow
			p.Y *= 0.8
			n := geom.Vec3{X: m.Normals[i].X / 0.4, Y: m.Normals[i].Y / 0.8, Z: m.Normals[i].Z}.Norm()
			if turned {
				p, n = geom.Vec3{X: p.Z, Y: p.Y, Z: -p.X}, geom.Vec3{X: n.Z, Y: n.Y, Z: -n.X}
			}
			m.Positions[i], m.Normals[i] = p, n
		}
		return m
	}
	of := Lights{Sky: light.All[2].Panorama(64).Sky(0.4, 1), Lamps: []light.Lamp{{Kind: light.Spot, At: [3]float32{2, 2, 1}, Kelvin: 3000, Strength: 900, Cone: 40}}, Unit: 50}
	set := Settings{Width: 32, Height: 32, Samples: 256, Backdrop: Backdrop{Colour: geom.Vec3{X: 0.1, Y: 0.1, Z: 0.1}, Ground: true}}
	want := render(t, sceneOf(t, box(true), plain(0.6, 0.5, 0), Look{}), of, before, set)
	tr := NewTracer(sceneOf(t, box(false), plain(0.6, 0.5, 0), Look{}), of, before, set).Turned(math.Pi / 2)
	got := tr.Picture()
	if err := tr.Add(context.Background(), got, set.Samples, nil); err != nil {
		t.Fatal(err)
	}
	sum := 0.0
	for i := range got.Pix {
		sum += math.Abs(float64(got.Pix[i]-want.Pix[i])) / float64(len(got.Pix))
	}
	if sum > 0.01 {
		t.Errorf("the pictures differ by %.4f in the mean", sum)
	}
	still := NewTracer(sceneOf(t, box(false), plain(0.6, 0.5, 0), Look{}), of, before, set)
	same := still.Picture()
	_ = still.Add(context.Background(), same, 16, nil)
	sum = 0
	for i := range same.Pix {
		sum += math.Abs(float64(same.Pix[i]-want.Pix[i])) / float64(len(same.Pix))
	}
	if sum < 0.02 {
		t.Errorf("not turned it is the same, to %.4f", sum)
	}
}

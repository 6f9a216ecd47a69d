package studio

import (
	"bytes"
	"context"
	"testing"

	"crust/internal/core/bake"
	"crust/internal/core/compose"
	"crust/internal/core/geom"
	"crust/internal/core/imgfile"
	"crust/internal/core/layout"
	"crust/internal/core/mesh"
	"crust/internal/core/strata"
)

// plainPicture is a PNG of a side whose texels are made by f.
func plainPicture(t *testing.T, side int, f func(x, y int) [3]uint8) []byte {
	t.Helper()
	im := &imgfile.Image{Width: side, Height: side, Channels: 3, Bits: 8}
	for y := range side {
		for x := range side {
			c := f(x, y)
			im.Pix8 = append(im.Pix8, c[:]...)
		}
	}
	data, err := imgfile.Bytes(im)
	if err != nil {
		t.Fatal(err)
	}
	return data
}

// twoMaterials is a GLB of two balls over each other in one square of UVs, each with pictures of its own.
func twoMaterials(t *testing.T) []byte {
	t.Helper()
	m := mesh.Sphere(20, 10, 0.5, [3]float64{})
	m.Materials[0].Name, m.Parts[0] = "red", "red"
	o := mesh.Sphere(20, 10, 0.5, [3]float64{1.5, 0, 0})
	o.Materials[0].Name, o.Parts[0] = "green", "green"
	m.Append(o)
	stripes := func(r, g uint8) []byte {
		return plainPicture(t, 64, func(x, y int) [3]uint8 { return [3]uint8{r, g, uint8(4 * x)} })
	}
	orm := plainPicture(t, 16, func(x, y int) [3]uint8 { return [3]uint8{255, 100, 200} })
	flat := plainPicture(t, 16, func(x, y int) [3]uint8 { return [3]uint8{128, 128, 255} })
	var b bytes.Buffer
	err := mesh.WriteGLB(&b, m, mesh.GLBOptions{MaterialOf: func(tri int) int { return int(m.Material[tri]) }, Materials: []mesh.GLBMaterial{
		{Name: "red", BaseColour: stripes(200, 0), ORM: orm, Normal: flat, NamePictures: "red"}, {Name: "green", BaseColour: stripes(0, 180), ORM: orm, NamePictures: "green"}}})
	if err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// A model's own materials come in as layers, and many become one: laid out into one set, each place keeps the colour that its
// own picture has at its own UVs.
func TestAModelsMaterialsGoThroughALayout(t *testing.T) {
	s := newStudio(t, t.TempDir())
	id, err := s.Create("two", Upload{{Name: "two.glb", Data: twoMaterials(t)}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	a, err := s.Open(id)
	if err != nil {
		t.Fatal(err)
	}
	mark, notes, err := a.TakeMaterials()
	if err != nil || len(notes) > 0 {
		t.Fatal(err, notes)
	}
	d := a.Document()
	g, _, err := d.Layer(mark)
	if err != nil || !g.Group || len(d.Layers) != 4 || d.Layers[0].Name != "Base" || len(a.pictures) != 4 {
		t.Fatalf("%v: %d layers, %d pictures (two colours, one ORM, one normal)", err, len(d.Layers), len(a.pictures))
	}
	if l := &d.Layers[1]; l.Name != "red" || l.What.Roughness.Source.Of != "green" || l.What.Metallic.Source.Of != "blue" || l.What.Occlusion.Blend != "multiply" || !l.What.Normal.On || l.Targets[0] != "red" {
		t.Errorf("%+v", l)
	}
	// each goes over all covered texels with what is evaluated there.
	each := func(do func(p geom.Vec3, ch *compose.Channels, k int)) {
		t.Helper()
		m, sets := a.Model()
		body := compose.NewBody(compose.NewCache(64<<20), m, sets, func(string) (map[string]*bake.Map, error) { return nil, nil }).Show(a.picture)
		for i := range sets {
			c, err := compose.NewCanvas(context.Background(), body, &sets[i], 256)
			if err != nil {
				t.Fatal(err)
			}
			ch, err := c.Evaluate(context.Background(), a.Document())
			if err != nil {
				t.Fatal(err)
			}
			for tile := range c.Surf.Tiles {
				for k := int(c.Surf.Tiles[tile].From); k < int(c.Surf.Tiles[tile].To); k++ {
					do(c.Position(tile, k), ch, k)
				}
			}
			c.Close()
		}
	}
	check := func(when string) {
		t.Helper()
		seen := map[string]int{}
		each(func(p geom.Vec3, ch *compose.Channels, k int) {
			// Left of x = 0.75 lies the red ball.
			name, want := "red", [4]float32{200, 0, 100, 200}
			if p.X > 0.75 {
				name, want = "green", [4]float32{0, 180, 100, 200}
			}
			for n, v := range [4]float32{ch.Base[0][k], ch.Base[1][k], ch.Roughness[k], ch.Metallic[k]} {
				if d := v - want[n]/255; d > 0.01 || d < -0.01 {
					t.Fatalf("%s: at %v on the %s ball red, green, roughness, metallic number %d is %.3f, want %.3f", when, p, name, n, v, want[n]/255)
				}
			}
			seen[name]++
		})
		if seen["red"] < 1000 || seen["green"] < 1000 {
			t.Errorf("%s: texels seen %v", when, seen)
		}
	}
	check("with its own UVs")
	// The blue of a place tells the U of its own channel: the same before and after.
	blue := func() map[[3]int]float32 {
		out := map[[3]int]float32{}
		each(func(p geom.Vec3, ch *compose.Channels, k int) {
			if p.Y < 0.3 && p.Y > -0.3 && (p.X < 0.75 && p.Z > 0.1 || p.X > 1.5 && p.Z < -0.1) { // away from the poles and from where U begins anew
				out[[3]int{int(p.X * 40), int(p.Y * 40), int(p.Z * 40)}] = ch.Base[2][k]
			}
		})
		return out
	}
	before := blue()
	if err := a.Layout(layout.Options{Into: "one", Margin: 0.02, Size: 512}); err != nil {
		t.Fatal(err)
	}
	a.WaitJob(nil)
	if _, sets := a.Model(); len(sets) != 1 {
		t.Fatalf("%d sets after the layout", len(sets))
	}
	check("laid out anew")
	after, both := blue(), 0
	for k, v := range before {
		w, ok := after[k]
		if !ok {
			continue
		}
		both++
		if x := v - w; x > 0.08 || x < -0.08 { // a cell is 2.5 cm wide, which U passes over by a twentieth of the way round
			t.Fatalf("at %v the blue was %.3f and is %.3f", k, v, w)
		}
	}
	if both < 300 {
		t.Errorf("%d places are seen on both", both)
	}
	if _, err := a.Edit(strata.Edit{Do: "delete", Layer: mark}, false); err != nil {
		t.Error(err)
	}
}

// A model without materials says so, and changes nothing.
func TestModelsWithoutMaterialsSaySo(t *testing.T) {
	s := newStudio(t, t.TempDir())
	id, err := s.Create("bare", Upload{{Name: "bare.obj", Data: []byte("v 0 0 0\nv 1 0 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 0 1\nf 1/1 2/2 3/3\n")}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	a, err := s.Open(id)
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := a.TakeMaterials(); err == nil || len(a.Document().Layers) != 1 || len(a.pictures) != 0 {
		t.Errorf("%v, %d layers", err, len(a.Document().Layers))
	}
}

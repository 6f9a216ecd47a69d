package studio

import (
	"bytes"
	"context"
	"testing"

	"crust/internal/core/bake"
	"crust/internal/core/compose"
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
	check := func(when string) {
		t.Helper()
		m, sets := a.Model()
		body := compose.NewBody(compose.NewCache(64<<20), m, sets, func(string) (map[string]*bake.Map, error) { return nil, nil }).Show(a.picture)
		seen := map[string]int{}
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
					// Left of x = 0.75 lies the red ball. Round it the first UV channel goes as the angle does, which its blue tells.
					p := c.Position(tile, k)
					name, r, g := "red", float32(200)/255, float32(0)
					if p.X > 0.75 {
						name, r, g = "green", 0, float32(180)/255
					}
					if ch.Base[0][k]-r > 0.01 || r-ch.Base[0][k] > 0.01 || ch.Base[1][k]-g > 0.01 || g-ch.Base[1][k] > 0.01 {
						t.Fatalf("%s: at %v the colour is %.3f %.3f %.3f, on %s", when, p, ch.Base[0][k], ch.Base[1][k], ch.Base[2][k], name)
					}
					if x := ch.Roughness[k] - float32(100)/255; x > 0.01 || x < -0.01 {
						t.Fatalf("%s: roughness %.3f", when, ch.Roughness[k])
					}
					if x := ch.Metallic[k] - float32(200)/255; x > 0.01 || x < -0.01 {
						t.Fatalf("%s: metallic %.3f", when, ch.Metallic[k])
					}
					seen[name]++
				}
			}
			c.Close()
		}
		if seen["red"] < 1000 || seen["green"] < 1000 {
			t.Errorf("%s: texels seen %v", when, seen)
		}
	}
	check("with its own UVs")
	// The blue of a place tells the U of its own channel: the same before and after.
	blue := func() map[[3]int]float32 {
		m, sets := a.Model()
		body := compose.NewBody(compose.NewCache(64<<20), m, sets, func(string) (map[string]*bake.Map, error) { return nil, nil }).Show(a.picture)
		out := map[[3]int]float32{}
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
					p := c.Position(tile, k)
					if p.Y < 0.3 && p.Y > -0.3 && (p.X < 0.75 && p.Z > 0.1 || p.X > 1.5 && p.Z < -0.1) { // away from the poles and from where U begins anew
						out[[3]int{int(p.X * 40), int(p.Y * 40), int(p.Z * 40)}] = ch.Base[2][k]
					}
				}
			}
			c.Close()
		}
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

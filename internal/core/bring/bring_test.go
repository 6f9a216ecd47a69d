package bring

import (
	"context"
	"math"
	"testing"

	"crust/internal/core/bake"
	"crust/internal/core/imgfile"
	"crust/internal/core/mesh"
	"crust/internal/core/uv"
)

func TestNamesFindTheirSlots(t *testing.T) {
	materials := []uv.Set{{Key: "hull", Name: "hull"}, {Key: "tower", Name: "tower"}, {Key: "normal lid", Name: "normal lid"}}
	tiles := []uv.Set{{Key: "1001", Name: "frame", Tile: 1001}, {Key: "1012", Name: "drum", Tile: 1012}}
	single := []uv.Set{{Key: "ball", Name: "ball"}}
	for _, c := range []struct {
		sets      []uv.Set
		file      string
		set, kind string
	}{
		{materials, "buoy_hull_ambient_occlusion.png", "hull", bake.AO},
		{materials, "HullAmbientOcclusion.TGA", "hull", bake.AO},
		{materials, "occlusion-tower.exr", "tower", bake.AO},
		{materials, "tower_Normal_World.png", "tower", bake.WorldNormal},
		{materials, "tower worldnormal.png", "tower", bake.WorldNormal},
		{materials, "tower_NORMAL.png", "tower", bake.Normal},
		{materials, "normal_lid_curvature.png", "normal lid", bake.Curvature},
		{materials, "normal lid normal.png", "normal lid", bake.Normal},
		{materials, "hull/curvature.png", "hull", bake.Curvature},
		{materials, "maps\\tower\\id.png", "tower", bake.ID},
		{materials, "hull_curvature_soft.png", "hull", bake.Soft},
		{tiles, "winch_position.1012.exr", "1012", bake.Position},
		{tiles, "winch_thickness_1001.png", "1001", bake.Thickness},
		{tiles, "winch_height_u2_v2.tif", "1012", bake.Height},
		{tiles, "drum_height.tif", "1012", bake.Height},
		{single, "whatever_nrm.jpg", "ball", bake.Normal},
		{single, "rock_1001_ao.png", "ball", bake.AO},
	} {
		got := NewMatcher(c.sets, nil).Find(c.file)
		if got.Set != c.set || got.Kind != c.kind || got.Reason != "" {
			t.Errorf("%s: %+v, want %s of %s", c.file, got, c.kind, c.set)
		}
	}
	for file, reason := range map[string]string{
		"readme.png":           "its name has no word for a map nor for a set",
		"hull_beauty.png":      "its name has no word for a map",
		"keel_ao.png":          "its name does not tell which set it is for",
		"hullabaloo_piano.png": "its name has no word for a map nor for a set",
	} {
		if got := NewMatcher(materials, nil).Find(file); got.Reason != reason {
			t.Errorf("%s: %+v, want “%s”", file, got, reason)
		}
	}
	if got := NewMatcher(tiles, nil).Find("winch_ao.1005.png"); got.Reason != "no set lies on tile 1005" {
		t.Errorf("%+v", got)
	}
}

// A user's words count as the built-in ones do.
func TestWordsCanBeAdded(t *testing.T) {
	sets := []uv.Set{{Key: "hull", Name: "hull"}}
	if got := NewMatcher(sets, nil).Find("hull_Schatten.png"); got.Kind != "" {
		t.Errorf("%+v", got)
	}
	if got := NewMatcher(sets, map[string][]string{bake.AO: {"schatten"}}).Find("hull_Schatten.png"); got.Kind != bake.AO || got.Set != "hull" {
		t.Errorf("%+v", got)
	}
}

func TestSizesOfMaps(t *testing.T) {
	for in, want := range map[[2]int]int{{1024, 1024}: 1024, {1000, 1000}: 1000, {2000, 1000}: 2048, {32, 32}: 64, {8192, 4096}: 8192, {16, 2}: 64} {
		if got := SizeFor(in[0], in[1]); got != want {
			t.Errorf("%v becomes %d, want %d", in, got, want)
		}
	}
}

// A ramp stays the ramp at another size, and colours of an ID map are never mixed.
func TestPicturesAreResampled(t *testing.T) {
	const w, h = 200, 100
	p := &imgfile.Picture{Width: w, Height: h, Channels: 1, Pix: make([]float32, w*h)}
	for i := range p.Pix {
		p.Pix[i] = (float32(i%w) + 0.5) / w
	}
	m, err := Map(p, bake.Height, false)
	if err != nil || m.Size != 256 || m.Channels != 1 {
		t.Fatalf("%v %v", m, err)
	}
	for x := 2; x < 254; x++ {
		if got, want := float64(m.Pix[128*256+x])/65535, (float64(x)+0.5)/256; math.Abs(got-want) > 1e-3 {
			t.Fatalf("column %d is %.4f, want %.4f", x, got, want)
		}
	}
	id := &imgfile.Picture{Width: 100, Height: 60, Channels: 3, Pix: make([]float32, 3*100*60)}
	for i := range 100 * 60 {
		id.Pix[3*i+i%100/50] = 1 // red left, green right
	}
	if m, err = Map(id, bake.ID, false); err != nil {
		t.Fatal(err)
	}
	for i := 0; i < len(m.Pix); i += 3 {
		if c := [3]uint16{m.Pix[i], m.Pix[i+1], m.Pix[i+2]}; c != [3]uint16{65535, 0, 0} && c != [3]uint16{0, 65535, 0} {
			t.Fatalf("a colour that is in neither: %v", c)
		}
	}
}

// glTF 2.0 §3.9 has green up. A map of a bumpy sphere from Crust is told so; with its green turned round it is told
// to be down, also as signed floats; brought in with the flip it is the same as before.
func TestGreenIsGuessed(t *testing.T) {
	low, high := mesh.Sphere(48, 24, 1, [3]float64{}), mesh.BumpySphere(200, 100)
	sets, err := uv.Sets(low, uv.Single)
	if err != nil {
		t.Fatal(err)
	}
	src, err := bake.Prepare(context.Background(), low, high, bake.Settings{Size: 256, Rays: 1, Samples: 1, Front: 0.15, Rear: 0.15})
	if err != nil {
		t.Fatal(err)
	}
	maps, err := src.Bake(context.Background(), &sets[0], []string{bake.Normal, bake.WorldNormal}, nil)
	if err != nil {
		t.Fatal(err)
	}
	picture := func(down, signed bool) *imgfile.Picture {
		p := &imgfile.Picture{Width: 256, Height: 256, Channels: 3, Float: signed, Pix: make([]float32, 3*256*256)}
		for i, v := range maps[0].Pix {
			f := float32(v) / 65535
			if down && i%3 == 1 {
				f = 1 - f
			}
			if signed {
				f = 2*f - 1
			}
			p.Pix[i] = f
		}
		return p
	}
	for _, signed := range []bool{false, true} {
		for _, down := range []bool{false, true} {
			g := GuessGreen(low, &sets[0], picture(down, signed), maps[1])
			if g.Down != down || g.Sure < 0.9 {
				t.Errorf("down %v, signed %v: guessed %+v", down, signed, g)
			}
			m, err := Map(picture(down, signed), bake.Normal, down)
			if err != nil {
				t.Fatal(err)
			}
			for i, v := range m.Pix {
				if d := int(v) - int(maps[0].Pix[i]); d > 1 || d < -1 {
					t.Fatalf("down %v, signed %v: value %d is %d, was %d", down, signed, i, v, maps[0].Pix[i])
				}
			}
		}
	}
	flat := picture(false, false)
	for i := range flat.Pix {
		flat.Pix[i] = [3]float32{0.5, 0.5, 1}[i%3]
	}
	if g := GuessGreen(low, &sets[0], flat, maps[1]); g.Sure != 0 {
		t.Errorf("a flat map is guessed %+v, want nothing told", g)
	}
}

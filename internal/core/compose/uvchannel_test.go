package compose

import (
	"context"
	"math"
	"testing"

	"crust/internal/core/geom"
	"crust/internal/core/imgfile"
	"crust/internal/core/mesh"
	"crust/internal/core/picture"
	"crust/internal/core/pixel"
	"crust/internal/core/strata"
)

// A picture laid by another UV channel lies where that channel has it, here turned by a quarter and twice as dense, and its normals
// turn with it: closed forms on a square.
func TestPicturesLieByAnotherChannel(t *testing.T) {
	const size = 64
	c, m := square(t, size, nil)
	other := make([]geom.Vec2, len(m.UVs))
	for i, p := range m.UVs {
		other[i] = geom.Vec2{X: 2 * p.Y, Y: -2 * p.X} // U goes the way that V goes, V against U
	}
	m.Channels = []mesh.Channel{{Name: "first", UVs: m.UVs}, {Name: "second", UVs: other}}
	wave := &imgfile.Picture{Width: 64, Height: 64, Channels: 1, Bits: 16, Whole: make([]uint16, 64*64)}
	for i := range wave.Whole {
		wave.Whole[i] = pixel.Q16(float32(0.5 + 0.4*math.Sin(2*math.Pi*(float64(i%64)+0.5)/64)))
	}
	lean := geom.Vec3{X: 0.6, Y: 0.2, Z: float32(math.Sqrt(1 - 0.36 - 0.04))}
	tilted := &imgfile.Picture{Width: 4, Height: 4, Channels: 3, Bits: 16, Whole: make([]uint16, 48)}
	for i := range tilted.Whole {
		tilted.Whole[i] = pixel.Q16(lean.Array()[i%3]/2 + 0.5)
	}
	pics := map[string]*picture.Picture{}
	pics["wave"], _ = picture.New(wave, picture.Data)
	pics["tilted"], _ = picture.New(tilted, picture.Data)
	c.body.Show(func(mark string) (*picture.Picture, error) { return pics[mark], nil })
	d := new(strata.Document)
	l := d.NewLayer("all")
	by := map[string]float64{"by": strata.ByUV, "channel": 2}
	l.What.Roughness.Source = &strata.Source{Kind: "picture", Picture: "wave", Of: "grey", High: 1, Lay: by}
	l.What.Normal = strata.Value{On: true, Number: 1, Blend: "add", Opacity: 1, Source: &strata.Source{Kind: "picture", Picture: "tilted", Of: strata.NormalOf[0], High: 1, Lay: by}}
	d.Layers = []strata.Layer{l}
	ch, err := c.Evaluate(context.Background(), d)
	if err != nil {
		t.Fatal(err)
	}
	for i, at := range c.Texels() {
		v := 1 - (float64(int(at)/size)+0.5)/size
		if want := 0.5 + 0.4*math.Sin(2*math.Pi*2*v); math.Abs(float64(ch.Roughness[i])-want) > 0.02 {
			t.Fatalf("at V %.3f the wave is %.3f, want %.3f", v, ch.Roughness[i], want)
		}
		// What leans along the picture's right leans along V, what leans up along −U.
		n := geom.Vec3{X: ch.Normal[0][i], Y: ch.Normal[1][i], Z: ch.Normal[2][i]}
		if want := (geom.Vec3{X: -0.2, Y: 0.6, Z: lean.Z}); n.Dist(want) > 0.005 {
			t.Fatalf("the normal is %v, want %v", n, want)
		}
	}
}

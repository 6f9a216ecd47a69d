package brush

import (
	"bytes"
	"encoding/json"
	"math"
	"testing"
)

// A picture as a tip is laid as it lies: its right along the stroke's right, its top up, its mean kept when it is made small.
func TestAPictureIsATip(t *testing.T) {
	// The upper right quarter is full.
	a := NewAlpha(64, 64, func(x, y int) float32 {
		if x >= 32 && y < 32 {
			return 1
		}
		return 0
	})
	if err := a.Check(); err != nil || a.Side != 64 {
		t.Fatalf("side %d, %v", a.Side, err)
	}
	a.ready()
	for _, c := range []struct{ u, v, soft, want float32 }{{0.5, 0.5, 0.01, 1}, {-0.5, 0.5, 0.01, 0}, {0.5, -0.5, 0.01, 0}, {0, 0, 2, 0.25}, {1.2, 0.5, 0.01, 0}} {
		if got := a.at(c.u, c.v, c.soft); math.Abs(float64(got-c.want)) > 0.02 {
			t.Errorf("%.2f at (%g, %g) over %g, want %.2f", got, c.u, c.v, c.soft, c.want)
		}
	}
	// Pictures of any shape are fitted in, with nothing beside them; large ones by their means.
	wide := NewAlpha(1000, 250, func(x, y int) float32 { return float32((x + y) % 2) })
	wide.ready()
	if wide.Side != MaxAlpha {
		t.Errorf("a picture of 1000 × 250 is %d px a side", wide.Side)
	}
	if m, o := wide.at(0, 0, 0.01), wide.at(0, 0.5, 0.01); math.Abs(float64(m)-0.5) > 0.05 || o != 0 {
		t.Errorf("%.2f in the middle of grey checks, want 0.5; %.2f above, want 0", m, o)
	}
	b := New()
	b.Tip, b.Alpha = "picture", a.Hash()
	sum := 0
	for _, v := range Specimen(b, a, 200, 40, 20) {
		sum += int(v)
	}
	if sum == 0 {
		t.Error("its specimen is empty")
	}
}

// A picture with colours keeps them as light where it is made small, by how opaque its pixels are: of a white pixel between black
// ones, the mean is as IEC 61966-2-1 encodes a quarter of its light; what is clear has no say.
func TestColoursAreMixedAsLight(t *testing.T) {
	a := NewDecal(2, 2, func(x, y int) ([3]float32, float32) {
		if x == 1 && y == 1 {
			return [3]float32{1, 1, 1}, 1
		}
		return [3]float32{}, 1
	})
	a.ready()
	if err := a.Check(); err != nil {
		t.Fatal(err)
	}
	// The encoded value of 0.25 by the formula of IEC 61966-2-1.
	want := 1.055*math.Pow(0.25, 1/2.4) - 0.055
	if c, some := a.colour(0, 0, 2); !some || math.Abs(float64(c[0])-want) > 0.004 {
		t.Errorf("the mean is %.3f, want %.3f", c[0], want)
	}
	a = NewDecal(2, 2, func(x, y int) ([3]float32, float32) {
		if x == 1 {
			return [3]float32{1, 0, 0}, 1
		}
		return [3]float32{0, 1, 0}, 0
	})
	a.ready()
	for _, soft := range []float32{0.1, 2} {
		if c, some := a.colour(0, 0, soft); !some || c != [3]float32{1, 0, 0} {
			t.Errorf("half clear it is %v over %g", c, soft)
		}
	}
	if _, some := a.colour(-0.9, 0, 0.1); some {
		t.Error("what is clear has a colour")
	}
	a.Colour = a.Colour[1:]
	if a.Check() == nil {
		t.Error("colours that are cut off were taken")
	}
}

func FuzzParseFile(f *testing.F) {
	a := NewAlpha(3, 2, func(x, y int) float32 { return float32(x) / 2 })
	whole, _ := json.Marshal(File{Brush{Name: "Stamp", Tip: "picture", Alpha: a.Hash(), Roundness: 1, Spacing: 1, Flow: 1, Opacity: 1, Count: 1, Grain: 0.2}, a})
	f.Add(whole)
	f.Add([]byte(`{"brush": {"name": "Plain", "tip": "round"}}`))
	f.Add([]byte(`{"brush": {"name": "x", "tip": "picture"}, "picture": {"side": 1048576, "grey": ""}}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		b, err := ParseFile(data)
		if err != nil {
			return
		}
		text, err := json.Marshal(b)
		if err != nil {
			t.Fatal(err)
		}
		again, err := ParseFile(text)
		if err != nil || again.Brush != b.Brush || (b.Picture != nil && !bytes.Equal(again.Picture.Grey, b.Picture.Grey)) {
			t.Fatalf("%s did not come back: %v", text, err)
		}
	})
}

package compose

import (
	"math"

	"crust/internal/core/pixel"
)

func unit(x, y, z float32) [3]float32 {
	l := float32(math.Sqrt(float64(x*x + y*y + z*z)))
	if l == 0 {
		return [3]float32{0, 0, 1}
	}
	return [3]float32{x / l, y / l, z / l}
}

// Source is one value of the evaluated channels, 0–1, that a picture's channel can hold.
type Source struct {
	Name, Label string
	At          func(c *Channels) func(i int) float32
}

func plane(p func(c *Channels) []float32) func(c *Channels) func(i int) float32 {
	return func(c *Channels) func(int) float32 {
		v := p(c)
		return func(i int) float32 { return v[i] }
	}
}

func signed(p func(c *Channels) []float32, sign float32) func(c *Channels) func(i int) float32 {
	return func(c *Channels) func(int) float32 {
		v := p(c)
		return func(i int) float32 { return 0.5 + 0.5*sign*v[i] }
	}
}

// HeightRange is the height, in metres, that a height channel's 0 and 1 stand for: −range and +range.
const HeightRange = 0.02

// Sources lists what packed pictures can hold. Each letter of a normal is (n + 1)/2 (glTF 2.0 §3.9).
var Sources = []Source{
	{"base.r", "Base colour R", plane(func(c *Channels) []float32 { return c.Base[0] })},
	{"base.g", "Base colour G", plane(func(c *Channels) []float32 { return c.Base[1] })},
	{"base.b", "Base colour B", plane(func(c *Channels) []float32 { return c.Base[2] })},
	{"occlusion", "Occlusion", plane(func(c *Channels) []float32 { return c.AO })},
	{"roughness", "Roughness", plane(func(c *Channels) []float32 { return c.Roughness })},
	{"metallic", "Metallic", plane(func(c *Channels) []float32 { return c.Metallic })},
	{"normal.r", "Normal X", signed(func(c *Channels) []float32 { return c.Normal[0] }, 1)},
	{"normal.g", "Normal Y ↑", signed(func(c *Channels) []float32 { return c.Normal[1] }, 1)},
	{"normal.g.down", "Normal Y ↓", signed(func(c *Channels) []float32 { return c.Normal[1] }, -1)},
	{"normal.b", "Normal Z", signed(func(c *Channels) []float32 { return c.Normal[2] }, 1)},
	{"height", "Height", signed(func(c *Channels) []float32 { return c.Height }, 1/HeightRange)},
}

// SourceOf finds a source by name.
func SourceOf(name string) (Source, bool) {
	for _, s := range Sources {
		if s.Name == name {
			return s, true
		}
	}
	return Source{}, false
}

// View is a picture of the canvas for the page: which sources its R, G and B hold.
type View [3]string

// The views that the page knows.
var (
	ViewBase   = View{"base.r", "base.g", "base.b"}
	ViewORM    = View{"occlusion", "roughness", "metallic"}
	ViewNormal = View{"normal.r", "normal.g", "normal.b"}
	ViewHeight = View{"height", "height", "height"}
)

// Quantise writes the view at 8 bits for every covered texel, three bytes each, packed.
func (v View) Quantise(c *Channels, n int, out []uint8) []uint8 {
	if cap(out) < 3*n {
		out = make([]uint8, 3*n)
	}
	out = out[:3*n]
	for k, name := range v {
		s, _ := SourceOf(name)
		at := s.At(c)
		for i := range n {
			out[3*i+k] = pixel.Q8(at(i))
		}
	}
	return out
}

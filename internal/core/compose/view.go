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

// Source is one value of the evaluated channels that a picture's channel can hold: a plane times
// scale plus offset, which lies in 0–1.
type Source struct {
	Name, Label   string
	plane         func(c *Channels) []float32
	scale, offset float32
	bare          float32 // the plane where no layer lays it down
}

// Fill writes the source's values; it does so too where no layer lays it down.
func (s Source) Fill(c *Channels, out []float32) {
	plane := s.plane(c)
	if plane == nil {
		fill(out, s.Rest())
		return
	}
	for i, x := range plane {
		out[i] = x*s.scale + s.offset
	}
}

// Rest is the source's value where no layer lays it down.
func (s Source) Rest() float32 { return s.bare*s.scale + s.offset }

// HeightRange is the height, in metres, that a height channel's 0 and 1 stand for: −range and +range.
const HeightRange = 0.02

// Sources lists what packed pictures can hold. Each letter of a normal is (n + 1)/2 (glTF 2.0 §3.9).
var Sources = []Source{
	{"base.r", "Base colour R", func(c *Channels) []float32 { return c.Base[0] }, 1, 0, 0},
	{"base.g", "Base colour G", func(c *Channels) []float32 { return c.Base[1] }, 1, 0, 0},
	{"base.b", "Base colour B", func(c *Channels) []float32 { return c.Base[2] }, 1, 0, 0},
	{"occlusion", "Occlusion", func(c *Channels) []float32 { return c.AO }, 1, 0, 1},
	{"roughness", "Roughness", func(c *Channels) []float32 { return c.Roughness }, 1, 0, 0},
	{"metallic", "Metallic", func(c *Channels) []float32 { return c.Metallic }, 1, 0, 0},
	{"normal.r", "Normal X", func(c *Channels) []float32 { return c.Normal[0] }, 0.5, 0.5, 0},
	{"normal.g", "Normal Y ↑", func(c *Channels) []float32 { return c.Normal[1] }, 0.5, 0.5, 0},
	{"normal.g.down", "Normal Y ↓", func(c *Channels) []float32 { return c.Normal[1] }, -0.5, 0.5, 0},
	{"normal.b", "Normal Z", func(c *Channels) []float32 { return c.Normal[2] }, 0.5, 0.5, 1},
	{"height", "Height", func(c *Channels) []float32 { return c.Height }, 0.5 / HeightRange, 0.5, 0},
	{"emissive.r", "Emissive R", func(c *Channels) []float32 { return c.Emissive[0] }, 1, 0, 0},
	{"emissive.g", "Emissive G", func(c *Channels) []float32 { return c.Emissive[1] }, 1, 0, 0},
	{"emissive.b", "Emissive B", func(c *Channels) []float32 { return c.Emissive[2] }, 1, 0, 0},
	{"opacity", "Opacity", func(c *Channels) []float32 { return c.Opacity }, 1, 0, 1},
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

	ViewEmissive = View{"emissive.r", "emissive.g", "emissive.b"}
	ViewOpacity  = View{"opacity", "opacity", "opacity"}

	// ViewShape is the height in steps fine enough to move a surface by: R holds the upper and G the lower byte of 0–65535 for
	// −ShapeRange to +ShapeRange.
	ViewShape = View{"height", "shape", "shape"}
)

// ShapeRange is in metres.
const ShapeRange = 0.2

// Of tells whether the channels hold what the view shows.
func (v View) Of(c *Channels) bool {
	if v == ViewShape {
		return true
	}
	from, _ := SourceOf(v[0])
	return from.plane(c) != nil
}

// Quantise writes the view of some texels at 8 bits, three bytes each. It rounds as pixel.Q8 does.
func (v View) Quantise(c *Channels, out []uint8) {
	if v == ViewShape {
		for i := range len(out) / 3 {
			h := float32(0)
			if c.Height != nil {
				h = c.Height[i]
			}
			q := pixel.Q16((h + ShapeRange) / (2 * ShapeRange))
			out[3*i], out[3*i+1], out[3*i+2] = uint8(q>>8), uint8(q), 0
		}
		return
	}
	var planes [3][]float32
	var scale, offset [3]float32
	for k, name := range v {
		from, _ := SourceOf(name)
		planes[k], scale[k], offset[k] = from.plane(c), from.scale, from.offset
	}
	pixel.Bytes(out, &planes, &scale, &offset)
}

package bake

import (
	"fmt"
	"math"
	"slices"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/uv"
)

// What ID colours are made from.
const (
	IDParts     = "part"
	IDMaterials = "material"
	IDColours   = "colour" // vertex colours, as they are
	IDIslands   = "island"
)

// IDChoices lists them in the order in which they are offered.
var IDChoices = []string{IDParts, IDMaterials, IDColours, IDIslands}

// Legend is one colour of an ID map.
type Legend struct {
	Name   string  `json:"name"`
	Colour string  `json:"colour"` // “#rrggbb”
	Area   float64 `json:"area"`   // m² of the set's faces that carry it
}

// idColour is colour i of a row in which any two are well apart: hues by the golden section, at four
// weights, none of them grey.
func idColour(i int) [3]uint8 {
	h := math.Mod(float64(i)*0.61803398875+0.03, 1) * 6
	v := [...]float64{0.95, 0.62, 0.82, 0.42}[i/7%4]
	low := v * [...]float64{0.12, 0.35, 0.5}[i/3%3]
	f := h - math.Floor(h)
	up, down := low+(v-low)*f, v-(v-low)*f
	c := [...][3]float64{{v, up, low}, {down, v, low}, {low, v, up}, {low, down, v}, {up, low, v}, {v, low, down}}[int(h)%6]
	return [3]uint8{uint8(c[0]*255 + 0.5), uint8(c[1]*255 + 0.5), uint8(c[2]*255 + 0.5)}
}

// idColours gives n names different colours.
func idColours(n int) [][3]uint8 {
	taken := map[[3]uint8]bool{}
	out := make([][3]uint8, 0, n)
	for i := 0; len(out) < n; i++ {
		c := idColour(i)
		for taken[c] {
			c[i%3] += 3
			c[(i+1)%3] += 5
		}
		taken[c] = true
		out = append(out, c)
	}
	return out
}

// ids is how an ID map is coloured: by a number for each triangle of what is seen.
type ids struct {
	name   []string
	colour [][3]uint8
	of     func(pt *point, low int32) int
}

// newIDs prepares the colours of a set.
func (s *Source) newIDs(set *uv.Set) *ids {
	seen := s.seen()
	x := &ids{}
	switch s.Settings.ID {
	case IDMaterials:
		for _, m := range seen.Materials {
			x.name = append(x.name, m.Name)
		}
		x.of = func(pt *point, low int32) int { return int(s.faces(pt).Material[pt.tri]) }
	case IDColours:
		at := map[[3]uint8]int{}
		for _, c := range seen.Colours {
			if _, ok := at[c]; !ok {
				at[c] = len(x.name)
				x.name = append(x.name, fmt.Sprintf("#%02x%02x%02x", c[0], c[1], c[2]))
				x.colour = append(x.colour, c)
			}
		}
		white := len(x.name)
		x.name, x.colour = append(x.name, "none"), append(x.colour, [3]uint8{255, 255, 255})
		x.of = func(pt *point, low int32) int {
			m := s.faces(pt)
			if len(m.Colours) == 0 {
				return white
			}
			if i, ok := at[m.Colours[m.Tris[pt.tri][0]]]; ok {
				return i
			}
			return white
		}
	case IDIslands:
		islands := uv.NewMap(s.Low, []uv.Set{*set})
		for i := range islands.Islands {
			x.name = append(x.name, fmt.Sprintf("island %d, %s", i+1, s.Low.Parts[s.Low.Part[islands.Islands[i].Tris[0]]]))
		}
		x.of = func(_ *point, low int32) int { return max(0, int(islands.Of[low])) }
	default:
		x.name = slices.Clone(seen.Parts)
		at := map[string]int{}
		for i, n := range x.name {
			at[partName(n, s.endings())] = i
		}
		x.of = func(pt *point, low int32) int {
			if s.High != nil && pt.miss {
				// Where no high-poly was found, the low-poly's part stands in by its name.
				if i, ok := at[partName(s.Low.Parts[s.Low.Part[low]], s.endings())]; ok {
					return i
				}
				return 0
			}
			return int(seen.Part[pt.tri])
		}
	}
	if x.colour == nil {
		x.colour = idColours(len(x.name))
	}
	return x
}

func (s *Source) endings() []string {
	if s.Settings.Endings == nil {
		return DefaultEndings
	}
	return s.Settings.Endings
}

// faces is the model that a point's triangle belongs to.
func (s *Source) faces(pt *point) *mesh.Model {
	if s.High != nil && !pt.miss {
		return s.High
	}
	return s.Low
}

// value is the colour of one point, 0–1.
func (x *ids) value(pt *point, low int32) geom.Vec3 {
	c := x.colour[min(len(x.colour)-1, x.of(pt, low))]
	return geom.Vec3{X: float32(c[0]) / 255, Y: float32(c[1]) / 255, Z: float32(c[2]) / 255}
}

// legend lists the colours that a map shows, with the area of the texels that do.
func (x *ids) legend(m *Map, texels []uint32, area float64) (out []Legend) {
	count := map[[3]uint8]int{}
	for _, t := range texels {
		p := m.Pix[3*int(t):]
		count[[3]uint8{uint8(p[0] >> 8), uint8(p[1] >> 8), uint8(p[2] >> 8)}]++
	}
	for i, c := range x.colour {
		if n := count[c]; n > 0 {
			out = append(out, Legend{x.name[i], fmt.Sprintf("#%02x%02x%02x", c[0], c[1], c[2]), area * float64(n) / float64(len(texels))})
		}
	}
	return out
}

// Package bake computes baked maps of a low-poly model, alone or from a high-poly.
package bake

import (
	"fmt"
	"math"
	"slices"
	"strings"
)

// Names of the baked maps.
const (
	AO          = "ao"
	Curvature   = "curvature"
	Tight       = "curvature-tight" // over half the radius
	Soft        = "curvature-soft"  // over four times the radius
	Normal      = "normal"
	WorldNormal = "world-normal"
	Position    = "position"
	Thickness   = "thickness"
	Height      = "height"
	ID          = "id"
)

// Kind describes one baked map.
type Kind struct {
	Name     string
	Label    string
	Channels int
	Neutral  [3]float32 // what stands in where the map is missing
	Help     string
	With     string // the kind whose bake makes it too; empty for the bake board's own
	fill     func(k *block)
}

// Kinds lists the baked maps in the order of the bake board.
var Kinds = []Kind{
	{Name: AO, Label: "Occlusion", Channels: 1, Neutral: [3]float32{1, 1, 1}, Help: "how much open air each place sees, 1 is all", fill: fillOcclusion},
	{Name: Curvature, Label: "Curvature", Channels: 1, Neutral: [3]float32{0.5, 0.5, 0.5}, Help: "0.5 is flat, above convex, below concave", fill: fillCurvature},
	{Name: Thickness, Label: "Thickness", Channels: 1, Neutral: [3]float32{1, 1, 1}, Help: "how deep the body is behind each place, 1 is the limit or more", fill: fillThickness},
	{Name: WorldNormal, Label: "World normal", Channels: 3, Neutral: [3]float32{0.5, 1, 0.5}, Help: "the way the surface faces on the model", fill: fillWorldNormal},
	{Name: Normal, Label: "Tangent normal", Channels: 3, Neutral: [3]float32{0.5, 0.5, 1}, Help: "the high-poly's normal in the low-poly's tangent frame, green up", fill: fillNormal},
	{Name: Height, Label: "Height", Channels: 1, Neutral: [3]float32{0.5, 0.5, 0.5}, Help: "how far the high-poly stands off the low-poly, 0.5 is not at all", fill: fillHeight},
	{Name: Position, Label: "Position", Channels: 3, Neutral: [3]float32{0.5, 0.5, 0.5}, Help: "place within the asset's box, 0–1 along each axis", fill: fillPosition},
	{Name: ID, Label: "ID", Channels: 3, Help: "a colour for each part, material, vertex colour or island", fill: fillID},
}

// Companions are maps that come with others.
var Companions = []Kind{
	{Name: Tight, Label: "Curvature, tight", Channels: 1, Neutral: [3]float32{0.5, 0.5, 0.5}, Help: "curvature over half the radius", With: Curvature, fill: fillCurvature},
	{Name: Soft, Label: "Curvature, soft", Channels: 1, Neutral: [3]float32{0.5, 0.5, 0.5}, Help: "curvature over four times the radius", With: Curvature, fill: fillCurvature},
}

// Radii of the companions, as multiples of Settings.Radius: each is the tight one doubled some times.
const (
	tightRadius = 0.5
	softRadius  = 4
)

// All lists every kind.
func All() []Kind { return slices.Concat(Kinds, Companions) }

// WithCompanions adds to names the maps that come with them.
func WithCompanions(names []string) []string {
	out := slices.Clone(names)
	for _, c := range Companions {
		if slices.Contains(names, c.With) && !slices.Contains(out, c.Name) {
			out = append(out, c.Name)
		}
	}
	return out
}

// KindOf finds a map by name.
func KindOf(name string) (Kind, error) {
	var names []string
	for _, k := range All() {
		if k.Name == name {
			return k, nil
		}
		names = append(names, k.Name)
	}
	return Kind{}, fmt.Errorf("“%s” is not a baked map; use %s", name, strings.Join(names, ", "))
}

// Reach is how far above and below the low-poly the high-poly is looked for, in metres. Zero is suggested from
// the two shapes.
type Reach struct {
	Front float64 `json:"front"`
	Rear  float64 `json:"rear"`
}

// Settings of a bake. Lengths are metres.
type Settings struct {
	Size     int              `json:"size"`
	Rays     int              `json:"rays"`    // occlusion rays per texel, shared out over its samples
	Samples  int              `json:"samples"` // samples per texel: 1, 4 or 16
	Radius   float64          `json:"radius"`  // of curvature; 0 is DefaultRadius of the diagonal
	Far      float64          `json:"far"`     // limit of occlusion rays; 0 is none
	Front    float64          `json:"front"`   // reach of all parts that have none of their own
	Rear     float64          `json:"rear"`
	Parts    map[string]Reach `json:"parts"`    // reach of single low-poly parts, by name
	Endings  []string         `json:"endings"`  // of part names, passed over in pairing; nil is DefaultEndings
	Straight bool             `json:"straight"` // rays follow the low-poly's own normals, not averaged ones
	Sees     string           `json:"sees"`     // what occlusion rays may meet, one of SeesChoices; empty is everything
	Ground   bool             `json:"ground"`   // occlusion counts the floor under the model
	Deep     float64          `json:"deep"`     // limit of thickness; 0 is DefaultDeep of the diagonal
	Float    bool             `json:"-"`        // keep the values as float32 beside the 16 bits
	ID       string           `json:"id"`       // what ID colours are made from, one of IDChoices; empty is parts
}

// Limits of the settings.
const (
	MinSize, MaxSize = 64, 8192
	MaxRays          = 4096
)

// Check says what is wrong with the settings.
func (s Settings) Check() error {
	lengths := []float64{s.Radius, s.Far, s.Front, s.Rear, s.Deep}
	for _, r := range s.Parts {
		lengths = append(lengths, r.Front, r.Rear)
	}
	switch {
	case s.Size < MinSize || s.Size > MaxSize:
		return fmt.Errorf("size %d is outside %d–%d px", s.Size, MinSize, MaxSize)
	case s.Rays < 1 || s.Rays > MaxRays:
		return fmt.Errorf("%d rays per texel is outside 1–%d", s.Rays, MaxRays)
	case offsets[s.Samples] == nil:
		return fmt.Errorf("%d samples per texel: use 1, 4 or 16", s.Samples)
	case slices.ContainsFunc(lengths, func(v float64) bool { return !(v >= 0) || math.IsInf(v, 0) }):
		return fmt.Errorf("lengths must be zero or more metres")
	case s.Sees != "" && !slices.Contains(SeesChoices, s.Sees):
		return fmt.Errorf("occlusion sees one of %s, not “%s”", strings.Join(SeesChoices, ", "), s.Sees)
	case s.ID != "" && !slices.Contains(IDChoices, s.ID):
		return fmt.Errorf("ID colours are made from %s, not “%s”", strings.Join(IDChoices, ", "), s.ID)
	}
	return nil
}

// Defaults as shares of the model's diagonal.
const (
	DefaultRadius = 0.0025
	DefaultDeep   = 0.1
)

// offsets of the samples in a texel, in texels from its centre.
var offsets = map[int][][2]float32{
	1:  {{0, 0}},
	4:  {{-0.125, -0.375}, {0.375, -0.125}, {-0.375, 0.125}, {0.125, 0.375}},
	16: grid16(),
}

// grid16 is a 4 × 4 grid with each row and column shifted, so that all sixteen rows and columns differ.
func grid16() (out [][2]float32) {
	for y := range 4 {
		for x := range 4 {
			out = append(out, [2]float32{(float32(4*x+y)+0.5)/16 - 0.5, (float32(4*y+x)+0.5)/16 - 0.5})
		}
	}
	return out
}

// Corners are the least and greatest corner of a box in metres; both zero when there is none.
type Corners [2][3]float32

// Map is one baked map: Size × Size texels of Channels 16-bit values, rows from the top, empty
// texels filled from the nearest covered one.
type Map struct {
	Set      string
	Kind     string
	Size     int
	Channels int
	Pix      []uint16
	Float    []float32 // the same values before they are quantised, when Settings.Float asks for them
	Rays     int64
	Missed   int64   // texels where no high-poly was found and the low-poly stood in
	Seconds  float64 // that it took, its share of what the maps of a bake have in common included
	Low      float64 // what the values 0 and 1 stand for in metres, for maps of lengths
	High     float64
	Legend   []Legend // of an ID map
	Box      Corners  // that a position map is measured in
}

// Quad is the four texels round a place of a map, and how far it lies between them.
type Quad struct {
	at     [4]int // upper left, upper right, lower left, lower right
	fx, fy float32
}

// QuadAt finds the texels round a place of a square from the top left, 0–1, for maps of some size.
func QuadAt(x, y float32, size int) Quad {
	limit := float32(size - 1)
	x, y = min(max(x*float32(size)-0.5, 0), limit), min(max(y*float32(size)-0.5, 0), limit)
	x0, y0 := int(x), int(y)
	x1, y1 := min(x0+1, size-1), min(y0+1, size-1)
	return Quad{[4]int{y0*size + x0, y0*size + x1, y1*size + x0, y1*size + x1}, x - float32(x0), y - float32(y0)}
}

// Read reads a channel between four texels, bilinearly; these are for maps of its size.
func (m *Map) Read(c *Quad, channel int) float32 {
	return c.mix(m.Pix[c.at[0]*m.Channels+channel], m.Pix[c.at[1]*m.Channels+channel], m.Pix[c.at[2]*m.Channels+channel], m.Pix[c.at[3]*m.Channels+channel])
}

// ReadThree is Read for the first three channels.
func (m *Map) ReadThree(c *Quad) (out [3]float32) {
	p, q, r, s := m.Pix[c.at[0]*m.Channels:][:3], m.Pix[c.at[1]*m.Channels:][:3], m.Pix[c.at[2]*m.Channels:][:3], m.Pix[c.at[3]*m.Channels:][:3]
	for k := range out {
		out[k] = c.mix(p[k], q[k], r[k], s[k])
	}
	return out
}

func (c *Quad) mix(p, q, r, s uint16) float32 {
	a, b := float32(p), float32(r)
	a += (float32(q) - a) * c.fx
	b += (float32(s) - b) * c.fx
	return (a + (b-a)*c.fy) / 65535
}

// At reads a channel between texels, bilinearly, at a place of the square from the top left, 0–1.
func (m *Map) At(x, y float32, channel int) float32 {
	c := QuadAt(x, y, m.Size)
	return m.Read(&c, channel)
}

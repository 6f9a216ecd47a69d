// Package brush turns strokes into coverage. A stroke is kept as the path that the hand took over the surface, in metres, with
// the brush that it took; its dabs are balls on the surface, so that they cross islands, tiles and sets, and come out the same
// at any resolution.
package brush

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// Brush is what a hand holds: the shape of a dab and how dabs follow each other. Lengths are shares of the size, which belongs to the
// stroke.
type Brush struct {
	Name      string  `json:"name"`
	Tip       string  `json:"tip"`             // one of Tips
	Alpha     string  `json:"alpha,omitempty"` // hash of the picture that the tip is
	Hardness  float32 `json:"hardness"`        // how much of the dab is full; the rest fades
	Roundness float32 `json:"roundness"`       // height of the tip over its width
	Spacing   float32 `json:"spacing"`         // from one dab to the next
	Flow      float32 `json:"flow"`            // what one dab lays down
	Opacity   float32 `json:"opacity"`         // what the stroke lays down at the most
	Way       float32 `json:"way"`             // which way tips stand: one of Ways
	Turn      float32 `json:"turn"`            // by so many degrees more
	Scatter   float32 `json:"scatter"`         // how far dabs fall beside the path
	Count     float32 `json:"count"`           // dabs that fall at once
	Grain     float32 `json:"grain"`           // size of the tip's grain
	// Chance by dab.
	JitterSize  float32 `json:"jitterSize"`
	JitterFlow  float32 `json:"jitterFlow"`
	JitterTurn  float32 `json:"jitterTurn"`
	JitterValue float32 `json:"jitterValue"`
	// What the pressure of the pen takes away where it is light, and how each grows: pressure to the power of 2^curve.
	PressSize float32 `json:"pressSize"`
	PressFlow float32 `json:"pressFlow"`
	PressHard float32 `json:"pressHard"`
	CurveSize float32 `json:"curveSize"`
	CurveFlow float32 `json:"curveFlow"`
	CurveHard float32 `json:"curveHard"`
	// How many sizes longer a dab of a pen that lies flat is, along its shaft.
	TiltLong float32 `json:"tiltLong"`
}

// UnmarshalJSON reads a brush over what it is so far. Brushes of before each pressure had its own curve have one for all, pressCurve.
func (b *Brush) UnmarshalJSON(text []byte) error {
	type plain Brush
	in := struct {
		*plain
		PressCurve *float32 `json:"pressCurve"`
	}{plain: (*plain)(b)}
	r := json.NewDecoder(bytes.NewReader(text))
	r.DisallowUnknownFields()
	if err := r.Decode(&in); err != nil {
		return err
	}
	if c := in.PressCurve; c != nil {
		b.CurveSize, b.CurveFlow, b.CurveHard = *c, *c, *c
	}
	return nil
}

// Param is one number of a brush.
type Param struct {
	Name    string                  `json:"name"`
	Label   string                  `json:"label"`
	Unit    string                  `json:"unit"`
	Help    string                  `json:"help"`
	Group   string                  `json:"group"` // of the tray: shape, laying, chance, pressure, curve or tilt
	Min     float32                 `json:"min"`
	Max     float32                 `json:"max"`
	Default float32                 `json:"default"`
	Log     bool                    `json:"log,omitempty"`
	Whole   bool                    `json:"whole,omitempty"`
	Choices []string                `json:"choices,omitempty"`
	Of      func(b *Brush) *float32 `json:"-"`
}

// Ways lists how tips stand on the surface.
var Ways = []string{"fixed", "along the stroke", "by chance", "as the pen leans"}

// Which of Ways.
const (
	wayFixed = iota
	wayAlong
	wayChance
	wayLean
)

// Params lists the numbers of a brush in the order of the tray.
var Params = []Param{
	{Name: "hardness", Label: "hardness", Group: "shape", Max: 1, Default: 0.8, Help: "how much of a dab is full; the rest fades outwards", Of: func(b *Brush) *float32 { return &b.Hardness }},
	{Name: "roundness", Label: "roundness", Group: "shape", Min: 0.05, Max: 1, Default: 1, Help: "height of the tip over its width", Of: func(b *Brush) *float32 { return &b.Roundness }},
	{Name: "grain", Label: "grain", Group: "shape", Min: 0.02, Max: 1, Default: 0.2, Log: true, Help: "how coarse what breaks the tip up is, as a share of the size", Of: func(b *Brush) *float32 { return &b.Grain }},
	{Name: "way", Label: "stands", Group: "shape", Max: wayLean, Whole: true, Choices: Ways, Help: "which way tips stand", Of: func(b *Brush) *float32 { return &b.Way }},
	{Name: "turn", Label: "turn", Group: "shape", Unit: "°", Min: -180, Max: 180, Help: "by so much more", Of: func(b *Brush) *float32 { return &b.Turn }},
	{Name: "flow", Label: "flow", Group: "laying", Min: 0.01, Max: 1, Default: 1, Help: "what one dab lays down", Of: func(b *Brush) *float32 { return &b.Flow }},
	{Name: "opacity", Label: "opacity", Group: "laying", Min: 0.01, Max: 1, Default: 1, Help: "what a stroke lays down at the most", Of: func(b *Brush) *float32 { return &b.Opacity }},
	{Name: "spacing", Label: "spacing", Group: "laying", Min: 0.02, Max: 8, Default: 0.15, Log: true, Help: "from one dab to the next, in sizes; a round brush of full flow sweeps on where they are less than half a size apart", Of: func(b *Brush) *float32 { return &b.Spacing }},
	{Name: "scatter", Label: "scatter", Group: "laying", Max: 4, Help: "how far dabs fall beside the path, in sizes", Of: func(b *Brush) *float32 { return &b.Scatter }},
	{Name: "count", Label: "at once", Group: "laying", Min: 1, Max: 8, Default: 1, Whole: true, Help: "dabs that fall at once", Of: func(b *Brush) *float32 { return &b.Count }},
	{Name: "jitterSize", Label: "size", Group: "chance", Max: 1, Help: "dabs are smaller by chance, by up to so much", Of: func(b *Brush) *float32 { return &b.JitterSize }},
	{Name: "jitterFlow", Label: "flow", Group: "chance", Max: 1, Help: "dabs lay down less by chance, by up to so much", Of: func(b *Brush) *float32 { return &b.JitterFlow }},
	{Name: "jitterTurn", Label: "turn", Group: "chance", Max: 1, Help: "tips turn by chance, by up to so much of a half turn", Of: func(b *Brush) *float32 { return &b.JitterTurn }},
	{Name: "jitterValue", Label: "value", Group: "chance", Max: 1, Help: "dabs reach less by chance, by up to so much", Of: func(b *Brush) *float32 { return &b.JitterValue }},
	{Name: "pressSize", Label: "size", Group: "pressure", Max: 1, Help: "how much of the size light pressure takes away; 0 is off", Of: func(b *Brush) *float32 { return &b.PressSize }},
	{Name: "pressFlow", Label: "flow", Group: "pressure", Max: 1, Help: "how much of the flow light pressure takes away; 0 is off", Of: func(b *Brush) *float32 { return &b.PressFlow }},
	{Name: "pressHard", Label: "hardness", Group: "pressure", Max: 1, Help: "how much of the hardness light pressure takes away; 0 is off", Of: func(b *Brush) *float32 { return &b.PressHard }},
	{Name: "curveSize", Label: "curve of size", Group: "curve", Min: -2, Max: 2, Help: "below 0 light pressure counts more, above 0 less", Of: func(b *Brush) *float32 { return &b.CurveSize }},
	{Name: "curveFlow", Label: "curve of flow", Group: "curve", Min: -2, Max: 2, Help: "below 0 light pressure counts more, above 0 less", Of: func(b *Brush) *float32 { return &b.CurveFlow }},
	{Name: "curveHard", Label: "curve of hardness", Group: "curve", Min: -2, Max: 2, Help: "below 0 light pressure counts more, above 0 less", Of: func(b *Brush) *float32 { return &b.CurveHard }},
	{Name: "tiltLong", Label: "longer where it leans", Group: "tilt", Max: 4, Help: "how many sizes longer the dab of a pen that lies flat is, the way it leans; 0 is off", Of: func(b *Brush) *float32 { return &b.TiltLong }},
}

// New is a round brush with the defaults.
func New() Brush {
	b := Brush{Name: "Round", Tip: "round"}
	for _, p := range Params {
		*p.Of(&b) = p.Default
	}
	return b
}

// MaxName bounds a brush's name, in bytes.
const MaxName = 60

// Check says the first thing that is wrong with a brush.
func (b *Brush) Check() error {
	if n := strings.TrimSpace(b.Name); n == "" || len(b.Name) > MaxName {
		return fmt.Errorf("a brush's name has 1 to %d letters", MaxName)
	}
	if tipOf(b.Tip) == nil {
		var names []string
		for _, t := range Tips {
			names = append(names, t.Name)
		}
		return fmt.Errorf("“%s” is not a tip; use %s", b.Tip, strings.Join(names, ", "))
	}
	if (b.Tip == tipPicture) != (b.Alpha != "") || len(b.Alpha) > 64 {
		return fmt.Errorf("brush “%s”: a tip that is a picture needs one, others have none", b.Name)
	}
	for _, p := range Params {
		if v := *p.Of(b); !(v >= p.Min && v <= p.Max) || p.Whole && v != float32(int(v)) {
			return fmt.Errorf("%s of brush “%s” is %g; it goes from %g to %g", p.Name, b.Name, v, p.Min, p.Max)
		}
	}
	return nil
}

// swept tells whether the brush goes over the surface as one ball that moves: no dab can be told from the next.
func (b *Brush) swept() bool {
	return b.Tip == "round" && b.Roundness == 1 && b.Flow == 1 && b.Scatter == 0 && b.Count == 1 && b.JitterSize == 0 && b.JitterFlow == 0 && b.JitterValue == 0 && b.PressFlow == 0 && b.TiltLong == 0 && b.Spacing <= 0.5
}

// built is a brush that ships: the round one with some numbers changed.
func built(name, tip string, set func(b *Brush)) Brush {
	b := New()
	b.Name, b.Tip = name, tip
	set(&b)
	return b
}

// Built lists the brushes that ship.
var Built = []Brush{
	built("Round, hard", "round", func(b *Brush) { b.Hardness, b.PressSize = 1, 0.6 }),
	built("Round, soft", "round", func(b *Brush) { b.Hardness, b.PressSize = 0.1, 0.3 }),
	built("Airbrush", "round", func(b *Brush) { b.Hardness, b.Flow, b.Spacing, b.PressFlow = 0, 0.08, 0.06, 0.8 }),
	built("Flat", "square", func(b *Brush) {
		b.Hardness, b.Roundness, b.Spacing, b.Way = 0.9, 0.25, 0.03, wayFixed
		b.PressSize = 0.3
	}),
	built("Chalk", "chalk", func(b *Brush) { b.Grain, b.Flow, b.Spacing, b.Way, b.PressFlow = 0.09, 0.55, 0.1, wayChance, 0.6 }),
	built("Dry bristle", "bristle", func(b *Brush) { b.Grain, b.Flow, b.Spacing, b.Way, b.PressFlow = 0.06, 0.5, 0.06, wayAlong, 0.5 }),
	built("Rag", "chalk", func(b *Brush) {
		b.Grain, b.Flow, b.Spacing, b.Way, b.JitterSize, b.Scatter, b.Hardness = 0.35, 0.22, 0.2, wayChance, 0.4, 0.15, 0.3
	}),
	built("Spatter, fine", "speckle", func(b *Brush) {
		b.Grain, b.Spacing, b.Scatter, b.Way, b.JitterSize = 0.05, 0.4, 0.3, wayChance, 0.5
		b.Hardness = 0.5
	}),
	built("Spatter, coarse", "drops", func(b *Brush) {
		b.Grain, b.Spacing, b.Scatter, b.Way, b.JitterSize, b.Count = 0.2, 0.5, 0.6, wayChance, 0.8, 2
	}),
	built("Scratch", "scratch", func(b *Brush) {
		b.Roundness, b.Spacing, b.Way, b.JitterTurn, b.JitterSize, b.Scatter, b.JitterFlow = 0.2, 0.6, wayAlong, 0.04, 0.7, 0.25, 0.6
		b.Grain = 0.1
	}),
	built("Chip", "chip", func(b *Brush) {
		b.Hardness, b.Grain, b.Spacing, b.Scatter, b.Way, b.JitterSize, b.PressSize = 1, 0.3, 0.45, 0.15, wayChance, 0.6, 0.4
	}),
	built("Flake", "flake", func(b *Brush) {
		b.Hardness, b.Grain, b.Spacing, b.Scatter, b.Way, b.JitterSize = 1, 0.5, 0.9, 0.5, wayChance, 0.8
	}),
	built("Drip", "drip", func(b *Brush) { b.Hardness, b.Roundness, b.Spacing, b.Way, b.JitterSize = 0.6, 1, 1.2, wayFixed, 0.7 }),
	built("Crack", "crack", func(b *Brush) { b.Hardness, b.Grain, b.Spacing, b.Way = 1, 0.25, 0.5, wayAlong }),
	built("Rivet row", "dome", func(b *Brush) { b.Spacing, b.Way = 3, wayAlong }),
	built("Weld bead", "bead", func(b *Brush) { b.Spacing, b.Way, b.JitterSize, b.JitterTurn = 0.22, wayAlong, 0.12, 0.06 }),
	built("Stitch", "stitch", func(b *Brush) { b.Roundness, b.Spacing, b.Way = 0.3, 1.5, wayAlong }),
	built("Screw, slotted", "slot", func(b *Brush) { b.Spacing, b.Way, b.JitterTurn = 4, wayAlong, 1 }),
	built("Screw, crossed", "cross", func(b *Brush) { b.Spacing, b.Way, b.JitterTurn = 4, wayAlong, 1 }),
	built("Hexagon bolt", "hexagon", func(b *Brush) { b.Spacing, b.Way = 4, wayAlong }),
	built("Plate seam", "groove", func(b *Brush) { b.Hardness, b.Spacing, b.Way = 0.7, 0.05, wayAlong }),
	built("Washer", "ring", func(b *Brush) { b.Spacing = 4 }),
	built("Plus sign", "plus", func(b *Brush) { b.Spacing, b.Way = 3, wayFixed }),
	built("Dash", "square", func(b *Brush) { b.Hardness, b.Roundness, b.Spacing, b.Way = 1, 0.3, 1.8, wayAlong }),
}

// BuiltIn finds a brush that ships by its name.
func BuiltIn(name string) (Brush, error) {
	if i := slices.IndexFunc(Built, func(b Brush) bool { return b.Name == name }); i >= 0 {
		return Built[i], nil
	}
	return Brush{}, fmt.Errorf("there is no brush “%s”", name)
}

package field

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"crust/internal/core/geom"
)

// Block is a run of surface points, by component. AO, the curvatures and the normal come from baked maps.
type Block struct {
	X, Y, Z    []float32 // metres
	NX, NY, NZ []float32
	AO, Curve  []float32
	Tight      []float32 // curvature over half the radius and over four times it; nil where Curve stands in
	Soft       []float32
	Part       []int32
	Height     []float32 // metres that layers below lay down, and their mean over a radius
	Mean       []float32
	Thick      []float32    // baked thickness, 0–1
	Mask       []float32    // the finished Where of a layer below; what is read of a source; what is painted
	Floor      geom.Vec3    // lowest corner of the asset's box
	Pitch      float32      // about how far points lie apart, in metres
	Square     *geom.Square // that the surface is and that repeats; nil for any other surface
}

// Need is what a kind reads of a block; the rest may be left out.
type Need uint16

// What kinds read: the place, the normal, occlusion, curvature, the part, the height that layers below lay down, thickness,
// the finished Where of a layer below, a source, what is painted.
const (
	NeedPlace Need = 1 << iota
	NeedNormal
	NeedAO
	NeedCurve
	NeedPart
	NeedHeight
	NeedThick
	NeedMask
	NeedSource
	NeedPaint
	NeedRuns
)

// Len is how many points the block has.
func (b *Block) Len() int { return len(b.X) }

// Run is the points from one to before another.
func (b *Block) Run(from, to int) Block {
	out := *b
	for _, p := range []*[]float32{&out.X, &out.Y, &out.Z, &out.NX, &out.NY, &out.NZ, &out.AO, &out.Curve, &out.Tight, &out.Soft, &out.Height, &out.Mean, &out.Thick, &out.Mask} {
		if *p != nil {
			*p = (*p)[from:to]
		}
	}
	out.Part = out.Part[from:to]
	return out
}

// Param is one number of a clause.
type Param struct {
	Name    string   `json:"name"`
	Label   string   `json:"label"`
	Unit    string   `json:"unit"` // "m", "°" or none
	Min     float64  `json:"min"`
	Max     float64  `json:"max"`
	Default float64  `json:"default"`
	Log     bool     `json:"log,omitempty"`     // drags by ratio
	Whole   bool     `json:"whole,omitempty"`   // whole numbers only
	Choices []string `json:"choices,omitempty"` // what the whole numbers mean
	Maps    []string `json:"-"`                 // baked maps that the choices read
	When    []int    `json:"when,omitempty"`    // it counts where the kind's first parameter is one of these; nil always
	Pick    string   `json:"pick,omitempty"`    // the place or direction, picked on the model, that it is a part of
	Fits    bool     `json:"fits,omitempty"`    // it begins at the default times strata.Fit of the model
}

// Kind is one kind of clause: adding an entry to Kinds adds it everywhere.
type Kind struct {
	Name   string   `json:"name"`
	Label  string   `json:"label"`
	Icon   string   `json:"icon"`
	Help   string   `json:"help"`
	Reads  []string `json:"reads"` // baked maps it needs
	Needs  Need     `json:"-"`
	Params []Param  `json:"params"`
	Parts  bool     `json:"parts,omitempty"`  // takes a list of part names
	Layers bool     `json:"layers,omitempty"` // takes a list of layers
	Layer  bool     `json:"layer,omitempty"`  // takes one layer, the first of the list
	Source bool     `json:"source,omitempty"` // reads a source
	IDs    bool     `json:"ids,omitempty"`    // takes colours of the ID map
	// Strokes tells that it takes strokes.
	Strokes bool   `json:"strokes,omitempty"`
	Join    string `json:"join,omitempty"`  // how a fresh one joins those before it; “and” where it is empty
	Free    bool   `json:"free,omitempty"`  // gives values that a source of a What can take
	Warps   bool   `json:"warps,omitempty"` // it reads nothing that is known of the place itself alone, so that it can be read elsewhere
	// Dear tells that it takes long, so that places where it has no say are left out. It reads the place and the part alone.
	Dear bool `json:"-"`
	// Radius is that of the surrounding in metres over which Mean is wanted, 0 for none; nil where it never is.
	Radius func(p []float64) float64 `json:"-"`
	// Tilted tells whether the normal is wanted with the relief of the layers below; nil where it never is.
	Tilted func(p []float64) bool `json:"-"`
	// Fill writes the field, 0–1, for the block; p follows Params, pick tells the chosen parts.
	Fill func(b *Block, p []float64, pick []bool, out []float32) `json:"-"`
	// Words says the clause in the reading of its layer; names are those of its parts or layers.
	Words func(p []float64, names []string, invert bool) string `json:"-"`
}

// places are the three parts of what is picked on the model; they count where a kind's first parameter is one of when.
func picked(pick string, low, high float64, unit string, up bool, when ...int) (out []Param) {
	for i, axis := range []string{"X", "Y", "Z"} {
		p := Param{Name: pick + axis, Label: pick + " " + axis, Unit: unit, Min: low, Max: high, When: when, Pick: pick}
		if up && i == 1 {
			p.Default = 1
		}
		out = append(out, p)
	}
	return out
}

// Directions of facing and reach.
var directions = []string{"up", "down", "right (+X)", "left (−X)", "front (+Z)", "back (−Z)"}

// Choices of facing and reach beyond the directions.
const (
	facingPicked = 6
	reachBetween = 6
	reachRound   = 7
)

// reach is the gradient from one place to another, straight between them, or outward from a place. Places count from the
// lowest corner of the asset's box.
func reach(b *Block, p []float64, out []float32) {
	at := func(i int) geom.Vec3 {
		return b.Floor.Add(geom.Vec3{X: float32(p[i]), Y: float32(p[i+1]), Z: float32(p[i+2])})
	}
	a := at(3)
	if p[0] == reachBetween {
		way := at(6).Sub(a)
		long := max(way.Dot(way), 1e-12)
		for i := range out {
			out[i] = geom.Clamp01(1 - geom.Vec3{X: b.X[i], Y: b.Y[i], Z: b.Z[i]}.Sub(a).Dot(way)/long)
		}
		return
	}
	from, to := float32(p[1]), float32(p[2])
	width := from - to
	if width > -1e-5 && width < 1e-5 {
		width = 1e-5
	}
	for i := range out {
		out[i] = geom.Clamp01((a.Dist(geom.Vec3{X: b.X[i], Y: b.Y[i], Z: b.Z[i]}) - to) / width)
	}
}

// along is the component in a direction, and −1 where the direction is against it.
func along(direction float64, x, y, z []float32) (of []float32, sign float32) {
	return [...][]float32{y, y, x, x, z, z}[int(direction)], [...]float32{1, -1, 1, -1, 1, -1}[int(direction)]
}

// breadth is which of the curvatures of one bake a clause reads.
var breadth = Param{Name: "breadth", Label: "breadth", Max: 2, Whole: true, Choices: []string{"medium", "tight", "soft"}, Maps: []string{"curvature", "curvature-tight", "curvature-soft"}}

// curve is the curvature of a choice of breadth.
func (b *Block) curve(choice float64) []float32 {
	if v := [][]float32{b.Curve, b.Tight, b.Soft}[int(choice)]; v != nil {
		return v
	}
	return b.Curve
}

// curved says plain or inverted with the breadth in the place of %s.
func curved(plain, inverted string) func([]float64, []string, bool) string {
	return func(p []float64, parts []string, invert bool) string {
		which := []string{"", "tight ", "soft "}[int(p[0])]
		return say(fmt.Sprintf(plain, which), fmt.Sprintf(inverted, which))(p, parts, invert)
	}
}

// MapsOf lists the baked maps that a clause with these parameters needs.
func (k *Kind) MapsOf(p []float64) []string {
	for i := range k.Params {
		if m := k.Params[i].Maps; m != nil {
			return []string{m[int(p[i])]}
		}
	}
	return k.Reads
}

// Kinds lists the clauses in the order in which they are offered.
var Kinds = []Kind{
	{Name: "edges", Label: "Edges", Warps: true, Needs: NeedCurve, Icon: "cube", Help: "convex places, from curvature", Reads: []string{"curvature"}, Params: []Param{breadth},
		Fill: func(b *Block, p []float64, _ []bool, out []float32) {
			ramp(out, b.curve(p[0]), 0.5, 2)
		}, Words: curved("on %sedges", "away from %sedges")},
	{Name: "crevices", Label: "Crevices", Warps: true, Needs: NeedCurve, Icon: "chevrons-down", Help: "concave places, from curvature", Reads: []string{"curvature"}, Params: []Param{breadth},
		Fill: func(b *Block, p []float64, _ []bool, out []float32) {
			ramp(out, b.curve(p[0]), 0.5, -2)
		}, Words: curved("in %screvices", "out of %screvices")},
	{Name: "shelter", Label: "Shelter", Warps: true, Needs: NeedAO, Icon: "umbrella", Help: "places closed off from open air, from occlusion", Reads: []string{"ao"},
		Fill: func(b *Block, _ []float64, _ []bool, out []float32) {
			ramp(out, b.AO, 1, -1)
		}, Words: say("in shelter", "out of shelter")},
	{Name: "noise", Label: "Noise", Warps: true, Free: true, Dear: true, Needs: NeedPlace | NeedPart, Icon: "grain", Help: "clouds, flakes, cracks, scratches and other irregular forms in space, without seams",
		Params: []Param{
			{Name: "size", Label: "size", Unit: "m", Min: 0.001, Max: 20, Default: 0.08, Log: true, Fits: true},
			{Name: "detail", Label: "detail", Min: 1, Max: maxOctaves, Default: 5, Whole: true},
			{Name: "rough", Label: "rough", Min: 0.1, Max: 0.95, Default: 0.55},
			{Name: "form", Label: "form", Min: 0, Max: float64(len(forms) - 1), Default: 0, Whole: true, Choices: namesOf(forms, func(f form) string { return f.name })},
			{Name: "seed", Label: "seed", Min: 0, Max: 9999, Default: 1, Whole: true},
			{Name: "stretch", Label: "stretch", Min: 1, Max: 50, Default: 1, Log: true},
			{Name: "along", Label: "along", Max: 2, Whole: true, Choices: []string{"height", "width", "depth"}},
			{Name: "apart", Label: "parts", Max: 1, Whole: true, Choices: []string{"as one", "each its own"}},
		},
		Fill: func(b *Block, p []float64, _ []bool, out []float32) { fillNoise(b, p, out) },
		Words: func(p []float64, _ []string, _ bool) string {
			words := "broken up by " + forms[int(p[3])].words + " of " + Length(p[0])
			if p[5] > 1 {
				words += ", drawn out along the " + []string{"height", "width", "depth"}[int(p[6])]
			}
			return words
		}},
	{Name: "pattern", Label: "Pattern", Warps: true, Free: true, Needs: NeedPlace | NeedNormal, Icon: "layout-grid", Help: "a figure that repeats: stripes, blocks, planks, rows of rivets and others", Reads: []string{"world-normal"},
		Params: []Param{
			{Name: "form", Label: "form", Max: float64(len(motifs) - 1), Whole: true, Choices: namesOf(motifs, func(m motif) string { return m.name })},
			{Name: "size", Label: "size", Unit: "m", Min: 0.001, Max: 20, Default: 0.1, Log: true, Fits: true},
			{Name: "gap", Label: "gap", Max: 0.95, Default: 0.1},
			{Name: "jitter", Label: "jitter", Max: 1},
			{Name: "turn", Label: "turn", Unit: "°", Min: -180, Max: 180},
			{Name: "side", Label: "from", Max: float64(len(sides) - 1), Whole: true, Choices: sides},
			{Name: "seed", Label: "seed", Max: 9999, Default: 1, Whole: true},
		},
		Fill: func(b *Block, p []float64, _ []bool, out []float32) { fillPattern(b, p, out) },
		Words: func(p []float64, _ []string, invert bool) string {
			words := motifs[int(p[0])].words + " of " + Length(p[1])
			if invert {
				return "between " + words
			}
			return "in " + words
		}},
	{Name: "facing", Label: "Facing", Warps: true, Needs: NeedNormal, Icon: "compass", Help: "places whose normal points one way", Reads: []string{"world-normal"},
		Params: slices.Concat([]Param{
			{Name: "toward", Label: "toward", Min: 0, Max: facingPicked, Default: 0, Whole: true, Choices: append(slices.Clone(directions), "as picked")},
			{Name: "cone", Label: "cone", Unit: "°", Min: 1, Max: 180, Default: 80},
		}, picked("direction", -1, 1, "", true, facingPicked), []Param{{Name: "relief", Label: "relief", Max: 1, Whole: true, Choices: []string{"before", "after"}}}),
		Tilted: func(p []float64) bool { return p[5] == 1 },
		Fill: func(b *Block, p []float64, _ []bool, out []float32) {
			edge := float32(math.Cos(p[1] * math.Pi / 180))
			scale := 1 / (1 - edge)
			if p[0] == facingPicked {
				d := geom.Vec3{X: float32(p[2]), Y: float32(p[3]), Z: float32(p[4])}.Norm()
				for i := range out {
					out[i] = geom.Clamp01((b.NX[i]*d.X + b.NY[i]*d.Y + b.NZ[i]*d.Z - edge) * scale)
				}
				return
			}
			axis, sign := along(p[0], b.NX, b.NY, b.NZ)
			ramp(out, axis, sign*edge, sign*scale)
		},
		Words: func(p []float64, _ []string, invert bool) string {
			way := "the way that was picked"
			if p[0] < facingPicked {
				way = directions[int(p[0])]
			}
			if p[5] == 1 {
				way += " with its relief"
			}
			if invert {
				return "where it does not face " + way
			}
			return "on what faces " + way
		}},
	{Name: "reach", Label: "Reach", Warps: true, Needs: NeedPlace, Icon: "ruler-measure", Help: "a gradient between two heights or positions, from the model's foot",
		Params: slices.Concat([]Param{
			{Name: "toward", Label: "toward", Min: 0, Max: reachRound, Default: 0, Whole: true, Choices: append(slices.Clone(directions), "between places", "round a place")},
			{Name: "from", Label: "full at", Unit: "m", Min: -1000, Max: 1000, Default: 0, When: []int{0, 1, 2, 3, 4, 5, reachRound}},
			{Name: "to", Label: "none at", Unit: "m", Min: -1000, Max: 1000, Default: 0.4, When: []int{0, 1, 2, 3, 4, 5, reachRound}, Fits: true},
		}, picked("place", -1000, 1000, "m", false, reachBetween, reachRound), picked("end", -1000, 1000, "m", true, reachBetween)),
		Fill: func(b *Block, p []float64, _ []bool, out []float32) {
			if p[0] >= reachBetween {
				reach(b, p, out)
				return
			}
			axis, _ := along(p[0], b.X, b.Y, b.Z)
			base := [...]float32{b.Floor.Y, b.Floor.X, b.Floor.Z}[int(p[0])/2]
			from, to := float32(p[1]), float32(p[2])
			width := from - to
			if width > -1e-5 && width < 1e-5 {
				width = 1e-5
			}
			ramp(out, axis, base+to, 1/width)
		},
		Words: func(p []float64, _ []string, _ bool) string {
			switch p[0] {
			case reachBetween:
				return "from one picked place to another"
			case reachRound:
				return fmt.Sprintf("from %s to %s round a picked place", Length(p[1]), Length(p[2]))
			}
			return fmt.Sprintf("from %s to %s %s", Length(p[1]), Length(p[2]), directions[int(p[0])])
		}},
	{Name: "relief", Label: "Relief", Needs: NeedHeight, Icon: "wave-sine", Help: "the shape that layers below lay down: its edges, crevices or height", Layers: true,
		Params: []Param{
			{Name: "form", Label: "form", Max: 4, Whole: true, Choices: []string{"edges", "crevices", "height", "above", "below"}},
			{Name: "radius", Label: "radius", Unit: "m", Min: 0.0005, Max: 20, Default: 0.02, Log: true, Fits: true},
			{Name: "depth", Label: "depth", Unit: "m", Min: 0.00001, Max: 0.1, Default: 0.0005, Log: true},
			{Name: "level", Label: "level", Unit: "m", Min: -0.05, Max: 0.05},
			{Name: "of", Label: "of", Max: 2, Whole: true, Choices: []string{"all below", "only", "all but"}},
		},
		Radius: func(p []float64) float64 {
			if p[0] < 2 {
				return p[1]
			}
			return 0
		},
		Fill: func(b *Block, p []float64, _ []bool, out []float32) {
			scale, level := float32(1/p[2]), float32(p[3])
			switch int(p[0]) {
			case 0:
				apart(out, b.Height, b.Mean, scale)
			case 1:
				apart(out, b.Mean, b.Height, scale)
			case 2:
				ramp(out, b.Height, level-1/scale, scale/2)
			default:
				// A cut, a twentieth of the depth wide.
				scale *= [2]float32{20, -20}[int(p[0])-3]
				ramp(out, b.Height, level-0.5/scale, scale)
			}
		},
		Words: func(p []float64, layers []string, invert bool) string {
			of := []string{"what lies below", "", "what lies below but "}[int(p[4])]
			if p[4] > 0 && len(layers) == 0 {
				of += "no layer yet"
			} else if p[4] > 0 {
				of += strings.Join(layers, ", ")
			}
			form := []string{"on edges", "in crevices", "by height", "above " + Length(p[3]), "below " + Length(p[3])}[int(p[0])]
			if invert {
				form = []string{"away from edges", "out of crevices", "by depth", "not above " + Length(p[3]), "not below " + Length(p[3])}[int(p[0])]
			}
			return form + " of the relief of " + of
		}},
	{Name: "thickness", Label: "Thickness", Warps: true, Needs: NeedThick, Icon: "arrows-horizontal", Help: "places where the model is thick, from the baked thickness", Reads: []string{"thickness"},
		Fill: func(b *Block, _ []float64, _ []bool, out []float32) {
			ramp(out, b.Thick, 0, 1)
		}, Words: say("where it is thick", "where it is thin")},
	{Name: "same", Label: "Same as", Needs: NeedMask, Icon: "equal", Help: "where another layer, below this one, shows: its finished Where, used again", Layer: true,
		Fill: func(b *Block, _ []float64, _ []bool, out []float32) { copy(out, b.Mask) },
		Words: func(_ []float64, layers []string, invert bool) string {
			name := "no layer yet"
			if len(layers) > 0 {
				name = layers[0]
			}
			if invert {
				return "where " + name + " is not"
			}
			return "the same as " + name
		}},
	{Name: "picture", Label: "Picture", Needs: NeedSource, Icon: "photo", Help: "a picture that was brought in, laid on the surface", Source: true,
		Fill: func(b *Block, _ []float64, _ []bool, out []float32) { copy(out, b.Mask) },
		Words: func(_ []float64, of []string, invert bool) string {
			if invert {
				return "where " + strings.Join(of, "") + " is dark"
			}
			return "by " + strings.Join(of, "")
		}},
	{Name: "id", Label: "ID", Needs: NeedSource, Icon: "color-picker", Help: "chosen colours of the baked ID map", IDs: true, Reads: []string{"id"},
		Params: []Param{{Name: "tolerance", Label: "tolerance", Max: 1, Default: 0.04}},
		Fill:   func(b *Block, _ []float64, _ []bool, out []float32) { copy(out, b.Mask) },
		Words: func(_ []float64, colours []string, invert bool) string {
			where := "on no ID yet"
			switch n := len(colours); {
			case n == 1:
				where = "on one ID"
			case n > 1:
				where = fmt.Sprintf("on %d IDs", n)
			}
			if invert {
				return "not " + where
			}
			return "only " + where
		}},
	{Name: "brush", Label: "Brush", Needs: NeedPaint, Icon: "brush", Help: "where it is painted by hand", Strokes: true, Join: "or",
		Fill: func(b *Block, _ []float64, _ []bool, out []float32) { copy(out, b.Mask) }, Words: say("where it is painted", "where it is not painted")},
	{Name: "runoff", Label: "Runoff", Needs: NeedRuns, Icon: "droplets", Help: "stains that drops leave as they run down the surface from where they are let go", Layer: true, Strokes: true, Join: "or",
		Params: []Param{
			{Name: "from", Label: "from", Max: 2, Whole: true, Choices: []string{"edges", "a layer", "painted"}},
			{Name: "length", Label: "length", Unit: "m", Min: 0.002, Max: 20, Default: 0.3, Log: true, Fits: true},
			{Name: "width", Label: "width", Unit: "m", Min: 0.0005, Max: 1, Default: 0.008, Log: true, Fits: true},
			{Name: "amount", Label: "drops a m²", Min: 1, Max: 100000, Default: 3000, Log: true},
			{Name: "wander", Label: "wander", Max: 1, Default: 0.15},
			{Name: "seed", Label: "seed", Max: 9999, Default: 1, Whole: true},
		},
		Fill: func(b *Block, _ []float64, _ []bool, out []float32) { copy(out, b.Mask) },
		Words: func(p []float64, names []string, invert bool) string {
			from := []string{"edges", "no layer yet", "where it is painted"}[int(p[0])]
			if p[0] == 1 && len(names) > 0 {
				from = names[0]
			}
			if invert {
				return "where nothing has run down from " + from
			}
			return "run down " + Length(p[1]) + " from " + from
		}},
	{Name: "parts", Label: "Parts", Needs: NeedPart, Icon: "puzzle", Help: "chosen parts of the model", Parts: true,
		Fill: func(b *Block, _ []float64, pick []bool, out []float32) {
			for i, p := range b.Part {
				out[i] = 0
				if pick[p] {
					out[i] = 1
				}
			}
		},
		Words: func(_ []float64, parts []string, invert bool) string {
			word := "only on "
			if invert {
				word = "not on "
			}
			switch {
			case len(parts) == 0:
				return word + "no part yet"
			case len(parts) > 3:
				return fmt.Sprintf("%s%s and %d more parts", word, parts[0], len(parts)-1)
			}
			return strings.ReplaceAll(word+strings.Join(parts, ", "), "_", " ")
		}},
}

func namesOf[T any](list []T, name func(T) string) (out []string) {
	for _, v := range list {
		out = append(out, name(v))
	}
	return out
}

func say(plain, inverted string) func([]float64, []string, bool) string {
	return func(_ []float64, _ []string, invert bool) string {
		if invert {
			return inverted
		}
		return plain
	}
}

// Length writes metres the way people say them: 4 mm, 25 cm, 1.2 m.
func Length(m float64) string {
	a := math.Abs(m)
	switch {
	case a == 0:
		return "0 m"
	case a < 0.01:
		return trim(m*1000) + " mm"
	case a < 1:
		return trim(m*100) + " cm"
	}
	return trim(m) + " m"
}

func trim(v float64) string {
	return strings.TrimSuffix(strings.TrimRight(fmt.Sprintf("%.1f", v), "0"), ".")
}

// KindOf finds a kind by name.
func KindOf(name string) (*Kind, error) {
	for i := range Kinds {
		if Kinds[i].Name == name {
			return &Kinds[i], nil
		}
	}
	var names []string
	for i := range Kinds {
		names = append(names, Kinds[i].Name)
	}
	return nil, fmt.Errorf("“%s” is not a kind of clause; use %s", name, strings.Join(names, ", "))
}

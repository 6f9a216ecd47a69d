// Package inspect looks for what would spoil a bake: in a model's UVs, faces, names and size. It says
// what each finding means, where it is and what to do.
package inspect

import (
	"context"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/par"
	"crust/internal/core/uv"
)

// Severities: what must be mended before baking, and what is good to know.
const (
	Mend = "mend"
	Know = "know"
)

// Kind is one sort of finding.
type Kind struct {
	Name     string
	Title    string
	Severity string
	Remedy   string
	find     func(*run) []Finding
}

// Kinds lists what is looked for, in the order in which it is told.
var Kinds = []Kind{
	{"no-uv", "Faces without UVs", Mend, "Lay out the model here, or unwrap these faces and bring it in again.", noUV},
	{"degenerate-uv", "Faces flat in UV space", Mend, "Unwrap them so that they have area; until then they show one texel smeared.", flatUV},
	{"overlap", "Overlapping islands", Mend, "Move the islands apart, or lay out the model here; what is baked or painted on one shows on the other.", overlapping},
	{"folded", "Islands folded over themselves", Mend, "Unfold the island in your modeller, or lay out the model here.", folded},
	{"outside", "Islands outside their tile", Mend, "Move them inside, or split by UDIM tile; what lies outside gets no texture.", outside},
	{"near", "Islands nearer than the padding", Mend, "Move them apart, take a larger resolution, or a smaller padding; colours bleed over at small sizes.", near},
	{"duplicate", "Duplicate faces", Mend, "Delete the copies; faces in one place flicker and bake black.", duplicate},
	{"flipped", "Flipped faces", Mend, "Turn these faces round; they bake from the wrong side.", flipped},
	{"stacked", "Stacked islands", Know, "Copies laid on each other share their texture. Move them apart if each should have its own wear.", stacked},
	{"mirrored", "Mirrored islands", Know, "Fine for most textures; lettering will read backwards.", mirrored},
	{"stretched", "Stretched islands", Know, "Relax the UVs; patterns laid on by UV look pulled here.", stretched},
	{"density", "Islands of another texel density", Know, "Scale these islands; detail is finer or coarser on them than on the rest of their set.", islandDensity},
	{"set-density", "Sets of another texel density", Know, "Choose another resolution for the set, or scale its islands.", setDensity},
	{"unused", "Unused space", Know, "Pack the islands closer or larger, or lay out the model here.", unused},
	{"non-manifold", "Edges of more than two faces", Know, "Separate the faces; normals and curvature are unsure along such an edge.", nonManifold},
	{"zero-area", "Faces without area", Know, "Delete them; they are passed over.", zeroArea},
	{"loose", "Loose vertices", Know, "Delete them in your modeller; they are passed over.", loose},
	{"alike", "Parts named alike", Know, "Rename them; pairing by name may take one for the other.", alikeNames},
	{"name", "Set names changed for files", Know, "The names are fit for files now; change them here if you like others.", names},
	{"scale", "Size looks wrong", Mend, "Choose the unit that the model was made in.", scale},
}

// Place is where a finding is.
type Place struct {
	Label string        `json:"label"`
	Set   string        `json:"set,omitempty"` // key
	UV    [4]float32    `json:"uv"`            // box in the set's square: least U, least V, most U, most V
	Min   [3]float32    `json:"min"`           // box on the model, metres
	Max   [3]float32    `json:"max"`
	Tris  []int32       `json:"-"`
	Shape [][]geom.Vec2 `json:"-"` // polygons in the set's square
}

// Finding is one fault, or one thing worth knowing, in one set or, when Set is empty, in the model.
type Finding struct {
	Kind     string  `json:"kind"`
	Severity string  `json:"severity"`
	Set      string  `json:"set"` // name
	Count    int     `json:"count"`
	Detail   string  `json:"detail"`
	Title    string  `json:"title"`
	Remedy   string  `json:"remedy"`
	Places   []Place `json:"places"` // the worst first, at most MaxPlaces
}

// MaxPlaces is how many places of one finding are kept.
const MaxPlaces = 40

// Options of a look.
type Options struct {
	Padding float64              // least distance of islands in px
	Size    func(key string) int // resolution of a set in px
	Named   map[string]bool      // sets, by key, whose names were chosen by hand
}

// DefaultPadding in px, common practice at 1024.
const DefaultPadding = 4

// run is what the finders share.
type run struct {
	m       *mesh.Model
	sets    []uv.Set
	o       Options
	islands *uv.Map
	over    []uv.Overlap
	nearer  []uv.Near
	faults  *mesh.Faults
	used    []float64
}

// Report is what a look at a model found.
type Report struct {
	Findings []Finding
	Islands  []int     // how many, by set
	Used     []float64 // share of the tile that faces cover, by set, counted on a grid
}

// Model looks at a model and its sets. progress may be nil.
func Model(ctx context.Context, m *mesh.Model, sets []uv.Set, o Options, progress func(float64)) (*Report, error) {
	if progress == nil {
		progress = func(float64) {}
	}
	if o.Size == nil {
		o.Size = func(string) int { return 1024 }
	}
	r := &run{m: m, sets: sets, o: o}
	var beside par.Group
	beside.Go(func() { r.faults = m.Faults() })
	r.islands = uv.NewMap(m, sets)
	progress(0.3)
	var err error
	if r.over, err = r.islands.Overlaps(ctx); err != nil {
		return nil, err
	}
	progress(0.7)
	shared, under := map[[2]int]bool{}, make([]float64, len(r.islands.Islands))
	for _, v := range r.over {
		shared[[2]int{v.A, v.B}] = true
		if v.A != v.B {
			under[v.B] += v.Area
		}
	}
	buried := func(island int) bool { return under[island] > 0.5*r.islands.Islands[island].UVArea }
	limit := func(set int) float64 { return o.Padding / float64(o.Size(sets[set].Key)) }
	if r.nearer, err = r.islands.Nearer(ctx, limit, buried, func(a, b int) bool { return shared[[2]int{a, b}] }); err != nil {
		return nil, err
	}
	out := &Report{Findings: []Finding{}, Islands: make([]int, len(sets)), Used: make([]float64, len(sets))}
	for i := range r.islands.Islands {
		if r.islands.Islands[i].UVArea > 0 {
			out.Islands[r.islands.Islands[i].Set]++
		}
	}
	for i := range sets {
		out.Used[i] = covered(m, &sets[i], sets[i].Tris, 1)
	}
	beside.Wait()
	r.used = out.Used
	for i := range Kinds {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		k := &Kinds[i]
		for _, f := range k.find(r) {
			f.Kind, f.Severity, f.Title = k.Name, k.Severity, k.Title
			if f.Remedy == "" {
				f.Remedy = k.Remedy
			}
			if f.Places == nil {
				f.Places = []Place{}
			}
			f.Places = f.Places[:min(len(f.Places), MaxPlaces)]
			out.Findings = append(out.Findings, f)
		}
	}
	progress(1)
	return out, nil
}

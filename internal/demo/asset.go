package demo

import (
	"bytes"
	"embed"
	"fmt"

	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
	"crust/internal/store"
	"crust/internal/studio"
)

// asset is one of the demo's: its models, its strata and how it is split.
type asset struct {
	name, file, split string
	models            func() (low, high *mesh.Model)
	strata            func() *strata.Document
	paint             func(doc *strata.Document, low *mesh.Model) strata.Painting
	names             map[string]string // of sets, by key
}

var assets = []asset{
	{"Channel buoy 12", "buoy", uv.PerMaterial, Buoy, Strata, paintBuoy, nil},
	{"Sluice winch", "winch", uv.PerTile, Winch, WinchStrata, paintWinch, map[string]string{"1001": "frame", "1002": "drum", "1003": "gears", "1004": "housing"}},
}

// pictures for the cards, as the page takes them of the finished assets.
//
//go:embed pictures
var pictures embed.FS

// Create makes the assets of the Saltmere harbour in the studio with their strata and starts the bakes of
// their maps. It returns the last one made.
func Create(s *studio.Studio) (id uint, err error) {
	bake := func(id uint, name string, err error) error {
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		a, err := s.Open(id)
		if err != nil {
			return err
		}
		if err := a.Bake(a.Missing()); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		return nil
	}
	stone, err := createStone(s)
	if err := bake(stone, "Quay stone", err); err != nil {
		return 0, err
	}
	for i := len(assets) - 1; i >= 0; i-- {
		id, err = create(s, assets[i])
		if err := bake(id, assets[i].name, err); err != nil {
			return 0, err
		}
	}
	return id, nil
}

// Make makes one of the assets, “buoy”, “winch” or “stone”, without baking it.
func Make(s *studio.Studio, file string) (uint, error) {
	if file == "stone" {
		return createStone(s)
	}
	for _, d := range assets {
		if d.file == file {
			return create(s, d)
		}
	}
	return 0, fmt.Errorf("the demo has no “%s”", file)
}

func create(s *studio.Studio, d asset) (uint, error) {
	low, high := d.models()
	file := func(name string, m *mesh.Model) (studio.Upload, error) {
		var b bytes.Buffer
		err := WriteModel(&b, m)
		return studio.Upload{store.File{Name: name, Data: b.Bytes()}}, err
	}
	u, err := file(d.file+".glb", low)
	if err != nil {
		return 0, err
	}
	doc := d.strata()
	id, err := s.CreatePainted(d.name, u, doc, d.paint(doc, low))
	if err != nil {
		return 0, err
	}
	a, err := s.Open(id)
	if err != nil {
		return 0, err
	}
	if u, err = file(d.file+"_high.glb", high); err != nil {
		return 0, err
	}
	if err := a.SetHigh(u, false); err != nil {
		return 0, err
	}
	if err := a.Split(d.split); err != nil {
		return 0, err
	}
	for key, name := range d.names {
		if err := a.NameSet(key, name); err != nil {
			return 0, err
		}
	}
	picture, err := pictures.ReadFile("pictures/" + d.file + ".png")
	if err != nil {
		return 0, err
	}
	return id, a.SetPicture(picture)
}

// Strata is the buoy's weathering: primer and paint, chipped to steel at the edges, rust at the rims and in the seams, algae
// at the waterline, salt and grime.
func Strata() *strata.Document {
	p := newPalette()
	noise, of, parts, form := p.noise, p.of, p.parts, p.form
	hull, tower, lantern := []string{"hull"}, []string{"tower"}, []string{"lantern"}
	rubber := parts("minus", false, "strake")
	glass := parts("minus", false, "lens")
	const gone = 0.44 // the wear from which paint is gone
	holds := func(level float32) strata.Clause { return p.k.holds("Wear", "and", level) }
	return p.lay([]coat{
		{Name: "Bare steel", Hex: "#b7b4ae", Rough: 0.42, Metal: 1},
		{Name: "Oxide film", Hex: "#5a554f", Rough: 0.68, Where: []strata.Clause{noise("and", 0.43, 0.5, 0.4, false, 0.05, 3)}},
		p.k.wear("Wear", 0.045, 70),
		{Name: "Scale rust", Hex: "#4a2c1c", Rough: 0.92, Height: 0.05, Where: []strata.Clause{noise("and", 0.5, 0.55, 0.4, false, 0.05, 5), glass, rubber}},
		{Name: "Primer", Hex: "#8a7f70", Rough: 0.72, Height: 0.06, Where: []strata.Clause{holds(gone + 0.07), rubber, glass}},
		{Name: "Hull red", Hex: "#9c2b22", Rough: 0.4, Height: 0.12, Where: []strata.Clause{holds(gone), rubber}, Targets: hull},
		{Name: "Number", Hex: "#e6e1d3", Rough: 0.46, Height: 0.05, Where: []strata.Clause{p.brush("and"), holds(gone - 0.02), faint(noise("minus", 0.5, 0.62, 0.3, false, 0.012, 8), 0.5)}, Targets: hull},
		{Name: "Tower yellow", Hex: "#c99a2e", Rough: 0.42, Height: 0.12, Where: []strata.Clause{holds(gone + 0.02)}, Targets: tower},
		{Name: "Lamp grey", Hex: "#b9bab4", Rough: 0.38, Height: 0.1, Where: []strata.Clause{holds(gone + 0.04), glass}, Targets: lantern},
		{Name: "Rubber", Hex: "#232322", Rough: 0.76, Where: []strata.Clause{parts("and", false, "strake")}, Targets: hull},
		{Name: "Rubber, polished", Hex: "#2c2c2a", Rough: 0.46, Metal: noValue, Opacity: 0.8, Where: []strata.Clause{parts("and", false, "strake"), of("edges", "and", 0.52, 0.7, 0, false, nil), noise("and", 0.3, 0.6, 0.1, false, 0.05, 12)}, Targets: hull},
		{Name: "Lens glass", Hex: "#cfe0d6", Rough: 0.08, Where: []strata.Clause{parts("and", false, "lens")}, Targets: lantern},
		{Name: "Uneven gloss", Rough: 0.58, Metal: noValue, Opacity: 0.75, Where: []strata.Clause{noise("and", 0.35, 0.7, 0.1, false, 0.3, 14), form("clouds", "or", 0.45, 0.75, 0.1, 0.6, 0.05, 15), glass, rubber}},
		{Name: "Sun bleach", Hex: "#efe4d4", Rough: 0.62, Metal: noValue, Blend: "soft-light", Opacity: 0.45, Where: []strata.Clause{of("facing", "and", 0, 1, 0, false, map[string]float64{"cone": 100}), noise("and", 0.2, 0.9, 0, false, 0.4, 41), glass, rubber}},
		{Name: "Scratches", Hex: "#b9aca0", Rough: 0.6, Metal: noValue, Height: -0.03, Opacity: 0.5, Where: []strata.Clause{form("scratches", "and", 0.1, 0.6, 0.2, 1, 0.06, 17), noise("and", 0.4, 0.6, 0.2, false, 0.3, 18), glass, rubber}},
		{Name: "Rust at the rims", Hex: "#7b431f", Rough: 0.9, Height: 0.02, Opacity: 0.9, Where: []strata.Clause{p.rim("Wear", gone), noise("and", 0.45, 0.53, 0.3, false, 0.04, 21), rubber, glass}},
		{Name: "Rust runs", Hex: "#7d4a28", Rough: 0.8, Opacity: 0.8, Where: []strata.Clause{p.runoff("Rust at the rims", 0.26, 0.009, 2600, 23), faint(noise("minus", 0.45, 0.7, 0.2, false, 0.03, 24), 0.6), rubber, glass}},
		{Name: "Rust in seams", Hex: "#6e3818", Rough: 0.9, Height: 0.05, Where: []strata.Clause{of("crevices", "and", 0.12, 0.5, 0.1, false, nil), of("shelter", "plus", 0.55, 1, 0, false, nil), noise("and", 0.4, 0.54, 0.4, false, 0.05, 43), rubber, glass}},
		{Name: "Grime", Hex: "#2b2620", Rough: 0.82, Opacity: 0.7, Where: []strata.Clause{of("shelter", "and", 0.2, 0.9, 0, false, nil), noise("and", 0.25, 0.6, 0, false, 0.1, 47), glass}},
		{Name: "Algae line", Hex: "#3d4425", Rough: 0.7, Height: 0.15, Where: []strata.Clause{of("reach", "and", 0, 0.5, 0, false, map[string]float64{"from": 0.30, "to": 0.56}), noise("and", 0.32, 0.52, 0.2, false, 0.06, 53), faint(noise("minus", 0.48, 0.66, 0.2, false, 0.012, 54), 0.7)}, Targets: hull},
		{Name: "Waterline repair", Hex: "#b23427", Rough: 0.27, Height: 0.04, Where: []strata.Clause{p.brush("and"), rubber}, Targets: hull},
		{Name: "Salt rings", Hex: "#d6d2c6", Rough: 0.88, Height: 0.01, Opacity: 0.55, Where: []strata.Clause{of("facing", "and", 0.15, 0.8, 0, false, map[string]float64{"cone": 88}), form("stains", "and", 0.15, 0.95, 0, 1, 0.05, 59), noise("and", 0.42, 0.62, 0.1, false, 0.25, 60), rubber, glass}},
	}, folder{"Metal", "Bare steel", "Scale rust"}, folder{"Paint", "Primer", "Lamp grey"}, folder{"Rubber and glass", "Rubber", "Lens glass"},
		folder{"Wear", "Uneven gloss", "Scratches"}, folder{"Rust", "Rust at the rims", "Rust in seams"}, folder{"Sea and weather", "Grime", "Salt rings"})
}

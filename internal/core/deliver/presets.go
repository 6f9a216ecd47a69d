// Package deliver turns evaluated channels into the files that an engine reads.
package deliver

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"

	"crust/internal/core/imgfile"
	"crust/internal/core/plain"
	"crust/internal/core/strata"
)

// File is one row of a packing table: a file of each set.
type File struct {
	Label  string `json:"label"`
	Map    string `json:"map"`            // what {map} stands for in names
	Name   string `json:"name,omitempty"` // a template of its own, in place of the preset's
	R      Plane  `json:"r"`
	G      *Plane `json:"g,omitempty"` // without G and B the file is grey
	B      *Plane `json:"b,omitempty"`
	A      *Plane `json:"a,omitempty"`
	Format string `json:"format"` // one of imgfile.Formats
	Bits   int    `json:"bits"`   // of a sample
	// SRGB tags the file as sRGB, and colours go in as they are seen. Otherwise it is tagged as linear data, and colours are made
	// linear.
	SRGB   bool `json:"srgb,omitempty"`
	Dither bool `json:"dither,omitempty"` // what goes to 8 bits is rounded up or down by chance
	// Scale is the file's side as a share of the set's, a power of two; 0 is 1.
	Scale float64 `json:"scale,omitempty"`
	// Low and High are the heights in metres that 0 and 1 stand for; both 0: the least and the most that there are.
	Low     float64 `json:"low,omitempty"`
	High    float64 `json:"high,omitempty"`
	Colours int     `json:"colours,omitempty"` // of a palette that all sets share, 0 for none
	// Uses is the channel of the strata that the file is made for: without a layer that lays it down there is none. Empty is always.
	Uses string `json:"uses,omitempty"`
	Skip bool   `json:"skip,omitempty"` // it is left out where all it holds is one value everywhere
}

// Planes are R, G, B and A as far as there are such.
func (f *File) Planes() []Plane {
	out := []Plane{f.R}
	for _, p := range []*Plane{f.G, f.B, f.A} {
		if p != nil {
			out = append(out, *p)
		}
	}
	return out
}

// letter names plane k.
func letter(k int) string { return "RGBA"[k : k+1] }

// Space is the file's colour space in words.
func (f *File) Space() string {
	if f.SRGB {
		return "sRGB"
	}
	return "linear"
}

// Padding says how far colours go on beyond the rims of islands.
type Padding struct {
	By     string  `json:"by"`               // all, px or share
	Amount float64 `json:"amount,omitempty"` // px, or a share of the side
}

// Ways in which padding is measured.
const (
	PadAll   = "all"
	PadPx    = "px"
	PadShare = "share"
)

// Px is how many px the padding is wide at a size, −1 without limit.
func (p Padding) Px(size int) int {
	switch p.By {
	case PadPx:
		return int(p.Amount)
	case PadShare:
		return int(math.Ceil(p.Amount * float64(size)))
	}
	return -1
}

// Words says it as delivery.json does.
func (p Padding) Words() string {
	switch p.By {
	case PadPx:
		return fmt.Sprintf("%g px", p.Amount)
	case PadShare:
		return fmt.Sprintf("%g of the side", p.Amount)
	}
	return "without limit, exact nearest"
}

// Check says what is wrong with it.
func (p Padding) Check() error {
	switch {
	case p.By == "" || p.By == PadAll:
	case p.By == PadPx && p.Amount >= 0 && p.Amount <= 8192 && p.Amount == math.Trunc(p.Amount):
	case p.By == PadShare && p.Amount >= 0 && p.Amount <= 1:
	default:
		return fmt.Errorf("padding goes by all, px (whole, 0 to 8192) or share (0 to 1); it is %g by “%s”", p.Amount, p.By)
	}
	return nil
}

// Preset is the recipe of a delivery.
type Preset struct {
	Name      string  `json:"name"`
	Title     string  `json:"title"`
	Help      string  `json:"help"`
	Naming    string  `json:"naming,omitempty"` // template of names; empty for DefaultNaming
	Files     []File  `json:"files"`
	Pad       Padding `json:"padding"`
	Size      int     `json:"size,omitempty"`      // that it offers first, in px; 0 for none
	GLB       bool    `json:"glb,omitempty"`       // also one GLB with the textures in it
	MaterialX bool    `json:"materialx,omitempty"` // also a document that wires the files
	USD       bool    `json:"usd,omitempty"`       // also the model as USD text with the files wired
	Nearest   bool    `json:"nearest,omitempty"`   // pictures are shown without filtering
}

// rgb is a file of three planes of one name, a source's name with .r, .g and .b.
func rgb(label, mapName, of string, f File) File {
	f.Label, f.Map, f.R, f.G, f.B = label, mapName, Plane{From: of + ".r"}, &Plane{From: of + ".g"}, &Plane{From: of + ".b"}
	return pngUnless(f)
}

// packed is a file of planes of several sources.
func packed(label, mapName string, f File, of ...string) File {
	f.Label, f.Map, f.R = label, mapName, Plane{From: of[0]}
	for k, to := range []**Plane{&f.G, &f.B, &f.A} {
		if k+1 < len(of) {
			*to = &Plane{From: of[k+1]}
		}
	}
	return pngUnless(f)
}

func pngUnless(f File) File {
	if f.Format == "" {
		f.Format = "png"
	}
	if f.Bits == 0 {
		f.Bits = 8
	}
	return f
}

// Rows that several presets share.
var (
	baseColour = rgb("Base colour", "basecolor", "base", File{SRGB: true, A: &Plane{From: "opacity", Uses: "opacity"}})
	ormPacked  = packed("Packed", "orm", File{}, "occlusion", "roughness", "metallic")
	normalUp   = rgb("Normal", "normal", "normal", File{Bits: 16})
	normalDown = packed("Normal", "normal", File{Bits: 16}, "normal.r", "normal.g.down", "normal.b")
	emissive   = rgb("Emissive", "emissive", "emissive", File{SRGB: true, Uses: "emissive", Skip: true})
	heightRow  = packed("Height", "height", File{Bits: 16, Skip: true}, "height")
	roughRow   = packed("Roughness", "roughness", File{}, "roughness")
	metalRow   = packed("Metallic", "metallic", File{}, "metallic")
	openRow    = packed("Occlusion", "occlusion", File{}, "occlusion")
	opacityRow = packed("Opacity", "opacity", File{Uses: "opacity", Skip: true}, "opacity")
	plainBase  = rgb("Base colour", "basecolor", "base", File{SRGB: true})
	halfOf     = File{Format: "exr", Bits: 16}
)

// Presets lists the recipes that ship. Packed channels follow the letters of their name: ORM is occlusion in R, roughness in G,
// metallic in B, which is also what glTF 2.0 §3.9 reads.
var Presets = []Preset{
	{Name: "gltf", Title: "glTF 2.0", Help: "base colour, ORM and normal with green up, and a GLB that holds the model with its textures", GLB: true,
		Files: []File{baseColour, ormPacked, normalUp, emissive}},
	{Name: "orm-green-down", Title: "ORM, green down", Help: "base colour, ORM and normal with green down",
		Files: []File{baseColour, ormPacked, normalDown, emissive}},
	{Name: "rma-16", Title: "RMA, 16-bit", Help: "roughness, metallic and occlusion in one map of 16 bits, normal with green up",
		Files: []File{baseColour, packed("Packed", "rma", File{Bits: 16}, "roughness", "metallic", "occlusion"), normalUp, emissive}},
	{Name: "mask-map", Title: "Mask map (metallic, occlusion, detail, smoothness)", Help: "metallic R, occlusion G, detail B, smoothness A in one map; normal with green up",
		Files: []File{baseColour, packed("Mask map", "mask", File{}, "metallic", "occlusion", "value:1", "smoothness"), normalUp, emissive}},
	{Name: "separate", Title: "Separate maps, metal–rough", Help: "a map for each channel, height in 16 bits over its own range",
		Files: []File{plainBase, roughRow, metalRow, openRow, normalUp, heightRow, emissive, opacityRow}},
	{Name: "specular-gloss", Title: "Specular–gloss", Help: "diffuse, in which metals are black, specular with gloss in A, normal and occlusion",
		Files: []File{rgb("Diffuse", "diffuse", "diffuse", File{SRGB: true, A: &Plane{From: "opacity", Uses: "opacity"}}),
			rgb("Specular and gloss", "specular", "specular", File{SRGB: true, A: &Plane{From: "gloss"}}), normalUp, openRow, emissive}},
	{Name: "exr-udim", Title: "Linear EXR, UDIM", Help: "a linear file of half floats for each channel, height in metres, names by tile", Naming: "{set}_{map}.{tile}",
		Files: []File{rgb("Base colour", "basecolor", "base", halfOf), packed("Roughness", "roughness", halfOf, "roughness"), packed("Metallic", "metallic", halfOf, "metallic"),
			packed("Occlusion", "occlusion", halfOf, "occlusion"), rgb("Normal", "normal", "normal", halfOf), packed("Height", "height", File{Format: "exr", Bits: 32, Skip: true}, "height"),
			rgb("Emissive", "emissive", "emissive", File{Format: "exr", Bits: 16, Uses: "emissive", Skip: true}), packed("Opacity", "opacity", File{Format: "exr", Bits: 16, Uses: "opacity", Skip: true}, "opacity")}},
	{Name: "materialx", Title: "MaterialX", Help: "a map for each channel, and a MaterialX document that wires them", MaterialX: true,
		Files: []File{plainBase, roughRow, metalRow, openRow, normalUp, heightRow, emissive, opacityRow}},
	{Name: "usd-preview", Title: "USD preview surface", Help: "base colour, ORM and normal, and the model as USD text with them wired", USD: true,
		Files: []File{plainBase, ormPacked, normalUp, emissive, opacityRow}},
	{Name: "colour-only", Title: "Colour only", Help: "everything in one map free of light: base colour with what glows",
		Files: []File{rgb("Colour", "colour", "unlit", File{SRGB: true, A: &Plane{From: "opacity", Uses: "opacity"}})}},
	{Name: "pixel-small", Title: "Pixel-exact small", Help: "one small map free of light, each texel its own value, in a palette of 32 colours", Size: 64, Nearest: true, GLB: true,
		Files: []File{rgb("Colour", "colour", "unlit", File{SRGB: true, Colours: 32})}},
}

// Limits of a preset.
const (
	maxFiles   = 32
	maxColours = 256
	maxWord    = 120 // bytes of a name, a label or a template
	// MaxPresetBytes bounds a preset's file.
	MaxPresetBytes = 1 << 18
)

// Check says the first thing that is wrong with a preset.
func (p *Preset) Check() error {
	if strings.TrimSpace(p.Name) == "" || len(p.Name) > maxWord || len(p.Title) > maxWord || len(p.Help) > 4*maxWord {
		return fmt.Errorf("a preset has a name of 1 to %d bytes, and a title of as many", maxWord)
	}
	if unfit(p.Name) != "" {
		return fmt.Errorf("the name of preset “%s” cannot hold %s", p.Name, unfit(p.Name))
	}
	if len(p.Files) == 0 || len(p.Files) > maxFiles {
		return fmt.Errorf("preset “%s” has %d files; there are 1 to %d", p.Name, len(p.Files), maxFiles)
	}
	if p.Naming != "" {
		if err := CheckNaming(p.Naming); err != nil {
			return fmt.Errorf("preset “%s”: %w", p.Name, err)
		}
	}
	if err := p.Pad.Check(); err != nil {
		return fmt.Errorf("preset “%s”: %w", p.Name, err)
	}
	if p.Size != 0 && !slices.Contains(Sizes, p.Size) {
		return fmt.Errorf("preset “%s”: a size of %d px is not offered; use one of %v", p.Name, p.Size, Sizes)
	}
	for i := range p.Files {
		if err := p.Files[i].check(); err != nil {
			return fmt.Errorf("preset “%s”, file %d, “%s”: %w", p.Name, i+1, p.Files[i].Label, err)
		}
	}
	return nil
}

func (f *File) check() error {
	if strings.TrimSpace(f.Label) == "" || len(f.Label) > maxWord || len(f.Map) > maxWord || len(f.Name) > maxWord {
		return fmt.Errorf("it needs a label of up to %d bytes", maxWord)
	}
	if f.Map == "" && f.Name == "" {
		return errors.New("it needs a word for {map}, or a name of its own")
	}
	if unfit(f.Map) != "" {
		return fmt.Errorf("its word for {map} cannot hold %s", unfit(f.Map))
	}
	if f.Name != "" {
		if err := CheckNaming(f.Name); err != nil {
			return err
		}
	}
	if (f.G == nil) != (f.B == nil) || f.A != nil && f.G == nil {
		return errors.New("it has R alone, R, G and B, or R, G, B and A")
	}
	format, err := imgfile.FormatOf(f.Format)
	if err != nil {
		return err
	}
	// An A that comes only with opacity is left out where there is none, so both have to fit.
	if err := format.Check(len(f.Planes()), f.Bits); err != nil {
		return err
	}
	colours, data, heights := 0, 0, 0
	for k, p := range f.Planes() {
		if len(p.From) > 2*maxWord {
			return errors.New("the name of a source is too long")
		}
		if p.Uses != "" && (k != 3 || strata.ChannelOf(p.Uses) == nil) {
			return errors.New("only A may hang on a channel that some layer lays down")
		}
		s, err := p.parsed()
		if err != nil {
			return err
		}
		switch {
		case s.Height:
			heights++
		case s.Colour:
			colours++
		case k < 3 && s.kind != ofValue:
			data++
		}
	}
	switch {
	case format.Lossy && data+heights > 0:
		return fmt.Errorf("%s changes values; it is for colours alone", format.Label)
	case format.Float && f.SRGB:
		return fmt.Errorf("%s is linear; take the sRGB tag off", format.Label)
	case f.SRGB && data+heights > 0:
		return errors.New("it is tagged as sRGB but holds data, which would be read wrong; take the tag off")
	case f.Scale != 0 && !slices.Contains(Scales, f.Scale):
		return fmt.Errorf("its size factor is %g; use one of %v", f.Scale, Scales)
	case !(math.Abs(f.Low) <= maxHeight && math.Abs(f.High) <= maxHeight) || f.High < f.Low:
		return fmt.Errorf("its heights go from %g to %g m; the first is the lower, and both lie within ±%d", f.Low, f.High, maxHeight)
	case f.Uses != "" && strata.ChannelOf(f.Uses) == nil:
		return fmt.Errorf("layers have no channel “%s”", f.Uses)
	case f.Colours != 0 && (f.Colours < 2 || f.Colours > maxColours || f.Format != "png" || f.Bits != 8 || f.G == nil || f.A != nil):
		return fmt.Errorf("a palette has 2 to %d colours, in a PNG of 8 bits with R, G and B", maxColours)
	}
	return nil
}

// maxHeight bounds a file's range of heights, in metres.
const maxHeight = 100

// Scales are the size factors that a file may have.
var Scales = []float64{0.125, 0.25, 0.5, 1, 2}

// Sizes that a delivery may have, in px.
var Sizes = []int{32, 64, 128, 256, 512, 1024, 2048, 4096, 8192}

// For is the preset as it is for a document: files of channels that no layer lays down are left out, and opacity goes where the
// preset puts it.
func (p *Preset) For(d *strata.Document) *Preset {
	out := *p
	out.Files = nil
	for _, f := range p.Files {
		if f.Uses != "" && !d.Uses(f.Uses) {
			continue
		}
		if f.A != nil && f.A.Uses != "" && !d.Uses(f.A.Uses) {
			f.A = nil
		}
		out.Files = append(out.Files, f)
	}
	return &out
}

// PresetOf finds a preset that ships by name or title.
func PresetOf(name string) (*Preset, error) {
	var names []string
	for i := range Presets {
		if p := &Presets[i]; strings.EqualFold(p.Name, name) || strings.EqualFold(p.Title, name) {
			return p, nil
		}
		names = append(names, Presets[i].Name)
	}
	return nil, fmt.Errorf("there is no preset “%s”; use %s", name, strings.Join(names, ", "))
}

// presetFile is a preset as a file: docs/presets.md says what it holds.
type presetFile struct {
	Crust string `json:"crust"`
	Preset
}

// presetKind is what the files of presets say they are.
const presetKind = "preset 1"

// ParsePreset reads a preset's file and checks it.
func ParsePreset(data []byte) (_ *Preset, err error) {
	defer plain.Speak(&err)
	if len(data) > MaxPresetBytes {
		return nil, fmt.Errorf("a preset's file has at most %d kB", MaxPresetBytes>>10)
	}
	var f presetFile
	if err := strictly(data, &f); err != nil {
		return nil, fmt.Errorf("the preset is not what docs/presets.md describes: %w", plain.JSON(err))
	}
	if f.Crust != presetKind {
		return nil, fmt.Errorf("the file says that it is “%.40s”; a preset says “crust”: “%s”", f.Crust, presetKind)
	}
	if f.Title == "" {
		f.Title = f.Name
	}
	return &f.Preset, f.Check()
}

// Bytes is the preset as a file.
func (p *Preset) Bytes() []byte {
	b, err := json.MarshalIndent(presetFile{presetKind, *p}, "", "  ")
	if err != nil {
		panic(err) // plain strings and numbers always encode
	}
	return append(b, '\n')
}

// strictly decodes JSON, refuses unknown fields, and wants nothing after it.
func strictly(text []byte, to any) error {
	r := json.NewDecoder(bytes.NewReader(text))
	r.DisallowUnknownFields()
	if err := r.Decode(to); err != nil {
		return err
	}
	if _, err := r.Token(); err != io.EOF {
		return errors.New("there is more behind its end")
	}
	return nil
}

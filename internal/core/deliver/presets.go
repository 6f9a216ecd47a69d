// Package deliver turns evaluated channels into the files that an engine reads.
package deliver

import (
	"fmt"
	"slices"
	"strings"

	"crust/internal/core/compose"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
)

// File is one row of a packing table.
type File struct {
	Label    string   `json:"label"`
	Pattern  string   `json:"pattern"`  // name with {set}, without ending
	Channels []string `json:"channels"` // sources of R, G, B and, when there are four, A
	Bits     int      `json:"bits"`
	SRGB     bool     `json:"srgb"`
	// Uses is the channel of the strata that the file is made for: without a layer that lays it down there is none. Empty is always.
	Uses string `json:"uses,omitempty"`
	// Alpha is the source of A where some layer lays down opacity; empty for none.
	Alpha string `json:"alpha,omitempty"`
}

// Space is the file's colour space in words.
func (f File) Space() string {
	if f.SRGB {
		return "sRGB"
	}
	return "linear"
}

// Preset is the recipe of a delivery.
type Preset struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	Help  string `json:"help"`
	Files []File `json:"files"`
	GLB   bool   `json:"glb"` // also one GLB with the textures in it
}

// Presets lists the recipes. Packed channels follow the letters of their name: ORM is occlusion in
// R, roughness in G, metallic in B, which is also what glTF 2.0 §3.9 reads.
var Presets = []Preset{
	{"gltf", "glTF 2.0", "base colour, ORM and normal with green up, and a GLB that holds the model with its textures",
		[]File{
			{Label: "Base colour", Pattern: "{set}_basecolor", Channels: compose.ViewBase[:], Bits: 8, SRGB: true, Alpha: "opacity"},
			{Label: "Packed", Pattern: "{set}_orm", Channels: compose.ViewORM[:], Bits: 8},
			{Label: "Normal", Pattern: "{set}_normal", Channels: compose.ViewNormal[:], Bits: 16},
			emissive,
		}, true},
	{"orm-green-down", "ORM, green down", "base colour, ORM and normal with green down",
		[]File{
			{Label: "Base colour", Pattern: "{set}_basecolor", Channels: compose.ViewBase[:], Bits: 8, SRGB: true, Alpha: "opacity"},
			{Label: "Packed", Pattern: "{set}_orm", Channels: compose.ViewORM[:], Bits: 8},
			{Label: "Normal", Pattern: "{set}_normal", Channels: []string{"normal.r", "normal.g.down", "normal.b"}, Bits: 16},
			emissive,
		}, false},
}

var emissive = File{Label: "Emissive", Pattern: "{set}_emissive", Channels: compose.ViewEmissive[:], Bits: 8, SRGB: true, Uses: "emissive"}

// For is the preset as it is for a document: files of channels that no layer lays down are left out, and opacity goes where the
// preset puts it.
func (p *Preset) For(d *strata.Document) *Preset {
	out := *p
	out.Files = nil
	for _, f := range p.Files {
		if f.Uses != "" && !d.Uses(f.Uses) {
			continue
		}
		if f.Alpha != "" && d.Uses("opacity") {
			f.Channels = append(slices.Clone(f.Channels), f.Alpha)
		}
		out.Files = append(out.Files, f)
	}
	return &out
}

// PresetOf finds a preset by name or title.
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

// FileName is the name of a row's file for a set of an asset. Sets that are UDIM tiles share the
// asset's name and carry the tile's number before the ending.
func (f File) FileName(asset string, set *uv.Set) string {
	if set.Tile > 0 {
		return fmt.Sprintf("%s.%d.png", strings.ReplaceAll(f.Pattern, "{set}", uv.FileName(asset)), set.Tile)
	}
	return strings.ReplaceAll(f.Pattern, "{set}", set.Name) + ".png"
}

// Sizes that a delivery may have, in px.
var Sizes = []int{256, 512, 1024, 2048, 4096, 8192}

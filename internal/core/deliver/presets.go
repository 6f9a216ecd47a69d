// Package deliver turns evaluated channels into the files that an engine reads.
package deliver

import (
	"fmt"
	"strings"

	"crust/internal/core/compose"
	"crust/internal/core/uv"
)

// File is one row of a packing table.
type File struct {
	Label    string   `json:"label"`
	Pattern  string   `json:"pattern"`  // name with {set}, without ending
	Channels []string `json:"channels"` // sources of R, G, B and, when there are four, A
	Bits     int      `json:"bits"`
	SRGB     bool     `json:"srgb"`
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
			{"Base colour", "{set}_basecolor", compose.ViewBase[:], 8, true},
			{"Packed", "{set}_orm", compose.ViewORM[:], 8, false},
			{"Normal", "{set}_normal", compose.ViewNormal[:], 16, false},
		}, true},
	{"orm-green-down", "ORM, green down", "base colour, ORM and normal with green down",
		[]File{
			{"Base colour", "{set}_basecolor", compose.ViewBase[:], 8, true},
			{"Packed", "{set}_orm", compose.ViewORM[:], 8, false},
			{"Normal", "{set}_normal", []string{"normal.r", "normal.g.down", "normal.b"}, 16, false},
		}, false},
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

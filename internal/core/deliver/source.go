package deliver

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"crust/internal/core/bake"
	"crust/internal/core/compose"
	"crust/internal/core/geom"
	"crust/internal/core/pixel"
	"crust/internal/core/strata"
)

// Source is a value of the evaluated channels that a plane of a file can hold, from 0 to 1; heights are in metres.
type Source struct {
	Name   string `json:"name"`
	Label  string `json:"label"`
	Group  string `json:"group"`            // of the list that it is chosen from
	Colour bool   `json:"colour,omitempty"` // encoded as sRGB
	Height bool   `json:"height,omitempty"` // metres
	uses   string // the strata's channel that it comes from alone, empty when it is always there
	flip   bool   // what is packed is the largest value minus it
	grain  string // what dither goes by; empty for the name
	rest   float32
	fill   func(c *compose.Channels, out []float32)
}

// Groups of sources.
const (
	groupChannels = "Channels"
	groupDerived  = "Worked out of channels"
	groupMaps     = "Baked maps"
	groupLayers   = "Layers"
	groupNumbers  = "Numbers"
)

// Prefixes of sources that are not in the table: a baked map with one of its channels (“map:normal.g”), a layer's Where
// (“where:Rust”), and a number (“value:0.5”).
const (
	ofMap   = "map:"
	ofWhere = "where:"
	ofValue = "value:"
)

// known is a source that compose knows by the same name.
func known(name, label, uses string) Source {
	s, ok := compose.SourceOf(name)
	if !ok {
		panic("deliver: compose has no source " + name)
	}
	return Source{Name: name, Label: label, Group: groupChannels, uses: uses, rest: s.Rest(), fill: s.Fill}
}

func coloured(s Source) Source { s.Colour = true; return s }

// flipped is a source whose packed values are the largest minus those of another, so that they add up to it exactly.
func flipped(name, label string, of Source) Source {
	of.grain, of.Name, of.Label, of.Group, of.flip = of.Name, name, label, groupDerived, true
	return of
}

// dielectric is the reflectance, linear, of what is not metal (glTF 2.0, appendix B.2.2).
const dielectric = 0.04

// mixed is one part of a colour that is worked out of base colour and metallic, in linear light, and encoded again.
func mixed(name, label string, part int, f func(base, metallic float32) float32) Source {
	return Source{Name: name, Label: label, Group: groupDerived, Colour: true, fill: func(c *compose.Channels, out []float32) {
		for i, b := range c.Base[part] {
			out[i] = pixel.ToSRGB(f(pixel.FromSRGB(b), c.Metallic[i]))
		}
	}}
}

func diffuse(base, metallic float32) float32 { return base * (1 - metallic) }

func specular(base, metallic float32) float32 { return dielectric + (base-dielectric)*metallic }

// unlit is a part of the colour of everything in one map: what is emitted is added to the base colour.
func unlit(name, label string, part int) Source {
	return Source{Name: name, Label: label, Group: groupDerived, Colour: true, fill: func(c *compose.Channels, out []float32) {
		copy(out, c.Base[part])
		if glow := c.Emissive[part]; glow != nil {
			for i, g := range glow {
				if g > 0 {
					out[i] = pixel.ToSRGB(min(1, pixel.FromSRGB(out[i])+pixel.FromSRGB(g)))
				}
			}
		}
	}}
}

// Sources lists what planes can hold, in the order in which it is offered. Each letter of a normal is (n + 1)/2 (glTF 2.0 §3.9).
var Sources = []Source{
	coloured(known("base.r", "Base colour R", "")),
	coloured(known("base.g", "Base colour G", "")),
	coloured(known("base.b", "Base colour B", "")),
	known("occlusion", "Occlusion", ""),
	known("roughness", "Roughness", ""),
	known("metallic", "Metallic", ""),
	known("normal.r", "Normal X", ""),
	known("normal.g", "Normal Y, green up", ""),
	flipped("normal.g.down", "Normal Y, green down", known("normal.g", "", "")),
	known("normal.b", "Normal Z", ""),
	{Name: "height", Label: "Height", Group: groupChannels, Height: true, fill: func(c *compose.Channels, out []float32) { copy(out, c.Height) }},
	coloured(known("emissive.r", "Emissive R", "emissive")),
	coloured(known("emissive.g", "Emissive G", "emissive")),
	coloured(known("emissive.b", "Emissive B", "emissive")),
	known("opacity", "Opacity", "opacity"),
	flipped("smoothness", "Smoothness, 1 − roughness", known("roughness", "", "")),
	flipped("gloss", "Gloss, 1 − roughness", known("roughness", "", "")),
	mixed("diffuse.r", "Diffuse R, metals black", 0, diffuse),
	mixed("diffuse.g", "Diffuse G, metals black", 1, diffuse),
	mixed("diffuse.b", "Diffuse B, metals black", 2, diffuse),
	mixed("specular.r", "Specular R", 0, specular),
	mixed("specular.g", "Specular G", 1, specular),
	mixed("specular.b", "Specular B", 2, specular),
	unlit("unlit.r", "Colour without light R", 0),
	unlit("unlit.g", "Colour without light G", 1),
	unlit("unlit.b", "Colour without light B", 2),
}

func sourceOf(name string) *Source {
	if i := slices.IndexFunc(Sources, func(s Source) bool { return s.Name == name }); i >= 0 {
		return &Sources[i]
	}
	return nil
}

// Plane is what one of a file's R, G, B and A holds. In JSON it is the source's name alone where it is not inverted.
type Plane struct {
	From   string `json:"from"`
	Invert bool   `json:"invert,omitempty"`
	// Uses leaves an A out where no layer lays down the strata's channel of the name.
	Uses string `json:"uses,omitempty"`
}

// MarshalJSON writes the short form where it says all.
func (p Plane) MarshalJSON() ([]byte, error) {
	if !p.Invert && p.Uses == "" {
		return json.Marshal(p.From)
	}
	type long Plane
	return json.Marshal(long(p))
}

// UnmarshalJSON reads both forms.
func (p *Plane) UnmarshalJSON(text []byte) error {
	*p = Plane{}
	if json.Unmarshal(text, &p.From) == nil {
		return nil
	}
	type long Plane
	return strictly(text, (*long)(p))
}

// Words says what the plane holds, as delivery.json has it.
func (p Plane) Words() string {
	switch {
	case !p.Invert:
		return p.From
	case p.From == "roughness":
		return "smoothness"
	case p.From == "normal.g":
		return "normal.g.down"
	}
	return "inverted " + p.From
}

// plane is a plane made ready for a document.
type plane struct {
	Source
	kind    string // one of the prefixes; empty for a channel
	of      string // the baked map, or the name of the layer
	channel int    // of the map
	layer   int
}

// MapSources lists the planes of baked maps.
func MapSources() (out []Source) {
	for _, k := range bake.Kinds {
		if k.Channels == 1 {
			out = append(out, Source{Name: ofMap + k.Name, Label: "Baked " + strings.ToLower(k.Label), Group: groupMaps})
			continue
		}
		for c := range k.Channels {
			out = append(out, Source{Name: ofMap + k.Name + "." + "rgb"[c:c+1], Label: fmt.Sprintf("Baked %s %s", strings.ToLower(k.Label), "RGB"[c:c+1]), Group: groupMaps, Colour: k.Name == bake.ID})
		}
	}
	return out
}

// parsed is the plane without a document, its layer not looked up.
func (p Plane) parsed() (out plane, err error) {
	name, all := p.From, MapSources()
	switch {
	case strings.HasPrefix(name, ofMap):
		i := slices.IndexFunc(all, func(s Source) bool { return s.Name == name })
		if i < 0 {
			return out, fmt.Errorf("there is no baked map “%s”; use one of %s", name[len(ofMap):], strings.Join(namesOf(all), ", "))
		}
		kind, letter, _ := strings.Cut(name[len(ofMap):], ".")
		out.kind, out.of, out.channel, out.Source = ofMap, kind, max(0, strings.Index("rgb", letter)), all[i]
	case strings.HasPrefix(name, ofWhere):
		out.kind, out.of = ofWhere, name[len(ofWhere):]
		if out.of == "" {
			return out, errors.New("“where:” needs the name of a layer behind it")
		}
		out.Source = Source{Name: name}
	case strings.HasPrefix(name, ofValue):
		v, err := strconv.ParseFloat(name[len(ofValue):], 32)
		if err != nil || !(v >= 0 && v <= 1) {
			return out, fmt.Errorf("“%s” is not a number from 0 to 1", name[len(ofValue):])
		}
		out.kind = ofValue
		out.Source = Source{Name: name, rest: float32(v)}
	default:
		s := sourceOf(name)
		if s == nil {
			return out, fmt.Errorf("there is no source “%s”; use a channel such as roughness, map:…, where:… or value:…", name)
		}
		out.Source = *s
	}
	out.flip = out.flip != p.Invert
	return out, nil
}

func namesOf(list []Source) (out []string) {
	for _, s := range list {
		out = append(out, s.Name)
	}
	return out
}

// on makes the plane ready for a document.
func (p Plane) on(d *strata.Document) (plane, error) {
	out, err := p.parsed()
	if err != nil || out.kind != ofWhere {
		return out, err
	}
	l, err := d.Named(out.of)
	if err != nil {
		return out, fmt.Errorf("%w whose Where a file takes; choose another in the packing table", err)
	}
	_, out.layer, err = d.Layer(l.ID)
	return out, err
}

// quantum gives values their whole number: the nearest, or with dither the one above or below by a chance that makes the mean
// right. What lies within a 64th of a whole number stays there, so that flat colours do not grain.
func quantum(v, most, chance float32, flip bool) uint32 {
	q := uint32(geom.Clamp01(v)*most + chance)
	if flip {
		return uint32(most) - q
	}
	return q
}

// chanceOf is the threshold of a texel for dither, from a 64th to the rest; it depends on the texel and the source alone, so that a
// channel is dithered alike in all files.
func chanceOf(texel, source uint32) float32 {
	h := texel*0x9e3779b1 ^ source
	h ^= h >> 15
	h *= 0x2c1b3c6d
	h ^= h >> 12
	h *= 0x297a2d39
	h ^= h >> 15
	return (1 + 62*float32(h>>8)/(1<<24)) / 64
}

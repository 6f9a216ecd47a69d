package deliver

import (
	"fmt"
	"slices"
	"strings"

	"crust/internal/core/uv"
)

// WiringFile tells in words how to wire the files.
const WiringFile = "wiring.txt"

// wired is a channel's place among the files of a set.
type wired struct {
	file *Written
	at   int  // of R, G, B and A
	flip bool // what is there is 1 minus it
}

// others are sources that hold 1 minus another.
var others = map[string]string{"roughness": "smoothness", "normal.g": "normal.g.down"}

// wire finds where a source went for a set.
func wire(files []*Written, source string) (wired, bool) {
	for _, f := range files {
		for k := range 4 {
			switch w := f.Channels[letter(k)]; {
			case w == "":
			case w == source:
				return wired{f, k, false}, true
			case w == others[source], w == "inverted "+source, source == "roughness" && w == "gloss":
				return wired{f, k, true}, true
			}
		}
	}
	return wired{}, false
}

// material is a material of the delivered model: a set, or all of an asset's UDIM tiles.
type material struct {
	name  string
	units []int // of the run
	files []*Written
	tiles bool
}

// path is how a file is named where all tiles are one.
func (m *material) path(w *Written) string {
	if !m.tiles || w.Tile == 0 {
		return w.File
	}
	// The last place of the number is that of the tile.
	number := fmt.Sprint(w.Tile)
	if i := strings.LastIndex(w.File, number); i >= 0 {
		return w.File[:i] + "<UDIM>" + w.File[i+len(number):]
	}
	return w.File
}

// materials groups what was delivered by material.
func (r *run) materials(d *Delivery) (out []*material) {
	var tiles *material
	for i, u := range r.units {
		set := u.set
		var files []*Written
		for k := range d.Files {
			if w := &d.Files[k]; w.Set == set.Key && len(w.Channels) > 0 {
				files = append(files, w)
			}
		}
		if set.Tile == 0 {
			out = append(out, &material{name: set.Name, units: []int{i}, files: files})
			continue
		}
		if tiles == nil {
			tiles = &material{name: uv.FileName(r.j.Asset), files: files, tiles: true}
			out = append(out, tiles)
		}
		tiles.units = append(tiles.units, i)
	}
	return out
}

// identifiers gives names their letters, digits and underlines, each name another.
func identifiers(names []string) []string {
	var out []string
	for _, n := range names {
		id := strings.Map(func(r rune) rune {
			if r >= '0' && r <= '9' || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z' {
				return r
			}
			return '_'
		}, n)
		if id == "" || id[0] >= '0' && id[0] <= '9' {
			id = "_" + id
		}
		for base, k := id, 2; slices.Contains(out, id); k++ {
			id = fmt.Sprintf("%s_%d", base, k)
		}
		out = append(out, id)
	}
	return out
}

// meanings are what channels are in words, by what delivery.json calls them.
var meanings = []struct{ start, words string }{
	{"base.", "base colour"}, {"diffuse.", "diffuse colour, black where there is metal"}, {"specular.", "specular colour"},
	{"unlit.", "the whole colour, free of light"}, {"emissive.", "the light that it gives off"}, {"normal.", "tangent-space normal"},
	{"occlusion", "ambient occlusion, white is open"}, {"roughness", "roughness, white is dull"}, {"metallic", "metallic, white is metal"},
	{"smoothness", "smoothness = 1 − roughness, white is glossy"}, {"gloss", "gloss = 1 − roughness, white is glossy"}, {"opacity", "opacity, white is there"},
	{"height", "height"}, {"value:", "always"},
}

// meaning is what a channel holds, in words.
func meaning(channel string) string {
	for _, m := range meanings {
		if m.start == "value:" && strings.HasPrefix(channel, m.start) {
			return m.words + " " + channel[len(m.start):]
		}
		if strings.HasPrefix(channel, m.start) {
			return m.words
		}
	}
	switch {
	case strings.HasPrefix(channel, ofMap):
		return "the baked map " + channel[len(ofMap):]
	case strings.HasPrefix(channel, ofWhere):
		return "where the layer “" + channel[len(ofWhere):] + "” is"
	case strings.HasPrefix(channel, "inverted "):
		return "1 minus " + meaning(channel[len("inverted "):])
	}
	return channel
}

// wiring tells in plain words what each file is and how it has to be read.
func (r *run) wiring(d *Delivery) (*Written, error) {
	var b strings.Builder
	p := func(format string, a ...any) { fmt.Fprintf(&b, format+"\n", a...) }
	p("How to wire “%s”, delivered as %s", r.j.Asset, d.Title)
	p("")
	p("Two things go wrong most often. A file that is linear data must be read without sRGB: with it roughness looks too glossy and")
	p("normals lean. And green of a normal map points up or down: where the wrong one is read, bumps look like dents.")
	for _, m := range r.materials(d) {
		p("")
		if m.tiles {
			p("Material “%s”, UDIM tiles %s", m.name, tilesOf(r, m))
		} else {
			p("Material “%s”", m.name)
		}
		for _, w := range m.files {
			p("  %s", m.path(w))
			var last string
			var letters []string
			say := func() {
				if last != "" {
					p("    %-8s %s", strings.Join(letters, " "), last)
				}
			}
			for k := range 4 {
				c, ok := w.Channels[letter(k)]
				if !ok {
					continue
				}
				if words := meaning(c); words != last {
					say()
					last, letters = words, nil
				}
				letters = append(letters, letter(k))
			}
			say()
			switch {
			case w.Space == "sRGB":
				p("    sRGB: read R, G and B as colours.")
			case w.Format == "exr":
				p("    Linear, as OpenEXR is: read it as raw, without a conversion of colours.")
			default:
				p("    Linear data: turn sRGB off for it.")
			}
			if w.Green != "" {
				p("    Green points %s (Y%s). Tangents are those of MikkTSpace.", w.Green, map[string]string{"up": "+", "down": "−"}[w.Green])
			}
			if len(w.Range) == 2 {
				p("    Black is %g mm, white is %g mm: displace by %g mm, with its middle at %g.", 1000*w.Range[0], 1000*w.Range[1], round9(1000*(w.Range[1]-w.Range[0])), round3(-w.Range[0]/(w.Range[1]-w.Range[0])))
			}
			if w.Height != "" {
				p("    Heights are in %s.", w.Height)
			}
		}
	}
	if len(d.Skipped) > 0 {
		p("")
		for _, s := range d.Skipped {
			p("%s.", s)
		}
	}
	p("")
	p("Colours go on beyond the islands' rims: %s.", d.Pad)
	p("%s says all of this for programs.", Note)
	w := &Written{File: WiringFile, Label: "How to wire the files"}
	return w, w.stream(d.aside, func(to *stream) error { _, err := to.WriteString(b.String()); return err })
}

func round3(v float64) float64 { return float64(int(v*1000+0.5)) / 1000 }

func tilesOf(r *run, m *material) string {
	var out []string
	for _, i := range m.units {
		out = append(out, fmt.Sprint(r.units[i].set.Tile))
	}
	return strings.Join(out, ", ")
}

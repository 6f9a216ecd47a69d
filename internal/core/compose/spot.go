package compose

import (
	"context"

	"crust/internal/core/pixel"
	"crust/internal/core/surface"
)

// At is what lies at one texel.
type At struct {
	Column    int        `json:"column"`
	Row       int        `json:"row"`
	Base      [3]float32 `json:"base"` // sRGB-encoded
	Roughness float32    `json:"roughness"`
	Metallic  float32    `json:"metallic"`
	Height    float32    `json:"height"` // metres
	Emissive  [3]float32 `json:"emissive"`
	Opacity   float32    `json:"opacity"`
	AO        float32    `json:"ao"`
	Normal    [3]float32 `json:"normal"`
	Notes     []string   `json:"notes"`  // what no real surface has
	Layers    []Showing  `json:"layers"` // from the top down
}

// Showing is a layer that shows at a texel.
type Showing struct {
	Layer string  `json:"layer"`
	Share float32 `json:"share"` // how much of it shows, its groups' included
	Seen  float32 `json:"seen"`  // how much of its colour is left under those above it; 0 for one that lays down none
}

// leastShare is how little of a layer still counts as showing.
const leastShare = 0.005

// At evaluates one texel; nil where nothing is covered.
func (c *Canvas) At(ctx context.Context, p *Program, column, row int) (*At, error) {
	if column < 0 || row < 0 || column >= c.Surf.Size || row >= c.Surf.Size {
		return nil, nil
	}
	t := c.Surf.TileAt(int32(column/surface.TileSize), int32(row/surface.TileSize))
	if t < 0 {
		return nil, nil
	}
	i, stands := 0, row%surface.TileSize*surface.TileSize+column%surface.TileSize
	found := false
	for _, s := range c.spans[t] {
		if found = stands >= int(s.at) && stands < int(s.at)+int(s.n); found {
			i += stands - int(s.at)
			break
		}
		i += int(s.n)
	}
	if !found {
		return nil, nil
	}
	out := &At{Column: column, Row: row, Opacity: 1}
	err := c.Run(ctx, p, Pass{Tiles: []int{t}, Do: func(_, _ int, _ Keys, ch *Channels) {
		for k := range 3 {
			out.Base[k], out.Normal[k] = ch.Base[k][i], ch.Normal[k][i]
			if ch.Emissive[k] != nil {
				out.Emissive[k] = ch.Emissive[k][i]
			}
		}
		if ch.Opacity != nil {
			out.Opacity = ch.Opacity[i]
		}
		out.Roughness, out.Metallic, out.Height, out.AO = ch.Roughness[i], ch.Metallic[i], ch.Height[i], ch.AO[i]
	}})
	if err != nil {
		return nil, err
	}
	out.Notes = pixel.Physical.Judge(out.Base, out.Metallic)
	k := c.begin(ctx, 0)
	doc, tree := p.plan.doc, p.plan.tree
	left := float32(1)
	for j := len(doc.Layers) - 1; j >= 0; j-- {
		l := &doc.Layers[j]
		if l.Group || !p.plan.shows[j] || !c.touches(l) {
			continue
		}
		share, hidden := l.Opacity, false
		for a := tree.Parent[j]; a >= 0; a = tree.Parent[a] {
			share *= doc.Layers[a].Opacity
			hidden = hidden || !p.plan.shows[a]
		}
		if hidden {
			continue
		}
		s, err := p.plan.shown(c.ground, j, outside)
		if err != nil {
			return nil, err
		}
		if m := c.mask(k, s, t); m != nil {
			if m.empty {
				continue
			}
			share *= float32(m.v[i]) / 65535
		}
		if share < leastShare {
			continue
		}
		is := Showing{Layer: l.ID, Share: share}
		if v := &l.What.Colour; v.On && v.Opacity > 0 {
			is.Seen = share * v.Opacity * left
			if v.Blend == "over" && v.Adjust == nil {
				left *= 1 - share*v.Opacity
			}
		}
		out.Layers = append(out.Layers, is)
	}
	return out, p.fault(nil)
}

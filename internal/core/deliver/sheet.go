package deliver

import (
	"context"
	"fmt"

	"crust/internal/core/compose"
	"crust/internal/core/surface"
)

// Pictures shows what sources hold on a set, as small grey squares of a side, padded, by name. Names that say nothing are left
// out; heights are stretched over what there is of them.
func Pictures(ctx context.Context, j Job, key string, names []string, side int) (map[string][]byte, error) {
	j.Preset, j.Only, j.SizeOf = nil, []string{key}, func(string) int { return side }
	if err := j.prepare(); err != nil {
		return nil, err
	}
	r := run{ctx: ctx, j: &j, body: compose.NewBody(compose.NewCache(cacheBytes), j.Model, j.Sets, lastOf(j.Maps)).Show(j.Pictures).Strokes(j.Strokes), where: -1}
	u := j.units()[0]
	set := u.set
	cover, _, _, err := r.cover(u, side)
	if err != nil {
		return nil, err
	}
	texels := cover.Texel
	packs := make([]*packing, 0, len(names))
	for _, n := range names {
		// Tagged as sRGB, colours stay as they are seen.
		p, err := r.newPacking(cover, set, &File{Label: n, R: Plane{From: n}, Format: "png", Bits: 8, SRGB: true}, n)
		if err != nil {
			continue
		}
		packs = append(packs, p)
	}
	if len(packs) == 0 {
		return nil, fmt.Errorf("none of the sources is there")
	}
	if err := r.band(set, side, 0, surface.Across(side), cover, 0, packs); err != nil {
		return nil, err
	}
	out := map[string][]byte{}
	for _, p := range packs {
		if p.raw {
			a, b := rangeOf(p.low[0], p.high[0])
			p.settle(a, b, texels)
		}
		grey := make([]byte, side*side)
		empty := p.empty()
		for i, k := range cover.Nearest {
			if grey[i] = empty[0]; k >= 0 {
				grey[i] = p.pix[k]
			}
		}
		out[p.name] = grey
	}
	return out, nil
}

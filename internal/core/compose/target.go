package compose

import (
	"slices"
	"strconv"
	"strings"

	"crust/internal/core/strata"
	"crust/internal/core/uv"
)

// target is which texels of a canvas a layer may touch; of is nil when it is all of them.
type target struct {
	of    []bool
	share float64 // of the canvas's texels
}

// target resolves a layer's targets. They name sets, also those of another way to split the asset: a
// layer aimed at a material slot stays on its faces when the asset is split by tile.
func (c *Canvas) target(l *strata.Layer) target {
	if len(l.Targets) == 0 || slices.Contains(l.Targets, c.Set) {
		return target{share: 1}
	}
	key := strings.Join(l.Targets, "\x00")
	if t, ok := c.targets[key]; ok {
		return t
	}
	m := c.Surf.Model
	materials := uv.MaterialKeys(m)
	want := func(tri int32) bool {
		if slices.Contains(l.Targets, materials[m.Material[tri]]) || slices.Contains(l.Targets, uv.SingleKey) {
			return true
		}
		tile, ok := uv.TileOf(m, int(tri))
		return ok && slices.Contains(l.Targets, strconv.Itoa(tile))
	}
	known := map[int32]bool{}
	t := target{of: make([]bool, c.Len())}
	n := 0
	for i, tri := range c.Surf.Tri {
		in, ok := known[tri]
		if !ok {
			in = want(tri)
			known[tri] = in
		}
		if in {
			t.of[i] = true
			n++
		}
	}
	t.share = float64(n) / float64(max(1, c.Len()))
	if c.targets == nil {
		c.targets = map[string]target{}
	}
	c.targets[key] = t
	return t
}

// Touches tells whether the layer may touch some texel of this canvas.
func (c *Canvas) Touches(l *strata.Layer) bool { return c.target(l).share > 0 }

// keep clears what lies outside the target.
func (t *target) keep(from int, v []float32) {
	if t.of == nil {
		return
	}
	for i, in := range t.of[from : from+len(v)] {
		if !in {
			v[i] = 0
		}
	}
}

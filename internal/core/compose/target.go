package compose

import (
	"slices"
	"strconv"
	"strings"

	"crust/internal/core/strata"
	"crust/internal/core/uv"
)

// target is which faces of a canvas a layer may touch; of is nil when it is all of them.
type target struct {
	of    []bool  // by place of the triangle among the set's
	share float64 // of the canvas's texels
}

// aim resolves a layer's targets. They name sets, also those of another way to split the asset: a
// layer aimed at a material slot stays on its faces when the asset is split by tile.
func (c *Canvas) aim(l *strata.Layer) target {
	if len(l.Targets) == 0 || slices.Contains(l.Targets, c.Set) {
		return target{share: 1}
	}
	key := strings.Join(l.Targets, "\x00")
	if t, ok := c.target[key]; ok {
		return t
	}
	m := c.Surf.Model
	materials := uv.MaterialKeys(m)
	t := target{of: make([]bool, len(c.slope))}
	for n, tri := range c.Surf.Set.Tris {
		if slices.Contains(l.Targets, materials[m.Material[tri]]) || slices.Contains(l.Targets, uv.SingleKey) {
			t.of[n] = true
			continue
		}
		tile, ok := uv.TileOf(m, int(tri))
		t.of[n] = ok && slices.Contains(l.Targets, strconv.Itoa(tile))
	}
	in := 0
	for i := range c.Len() {
		if t.of[c.face(i)] {
			in++
		}
	}
	t.share = float64(in) / float64(max(1, c.Len()))
	c.target[key] = t
	return t
}

// Touches tells whether the layer may touch some texel of this canvas.
func (c *Canvas) Touches(l *strata.Layer) bool { return c.aim(l).share > 0 }

// keep clears what lies outside the target, from texel from on.
func (c *Canvas) keep(t *target, from int, v []float32) {
	if t.of == nil {
		return
	}
	for i := range v {
		if !t.of[c.face(from+i)] {
			v[i] = 0
		}
	}
}

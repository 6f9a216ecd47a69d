package bake

import (
	"time"

	"crust/internal/core/surface"
)

// coarseRays is up to how many rays a texel, in one sample, a bake is a draft: maps that change slowly are computed
// at every second or fourth texel each way, and between them only where the surface bends or the values part. The
// rest is interpolated, as with cached irradiance (Ward, Rubinstein & Clear, A Ray Tracing Solution for Diffuse
// Interreflection, 1988).
const coarseRays = 16

func (s Settings) draft() bool { return s.Rays <= coarseRays && s.Samples == 1 }

// tolerance is by how much the values around a texel may differ for their mean to stand in, by kind: about three
// standard deviations of the rays' noise, or a just visible step. Other maps are computed everywhere.
var tolerance = map[string]float32{AO: 0.3, Thickness: 0.35, Curvature: 0.05, Tight: 0.1, Soft: 0.05}

// widestGrid is the most texels from one that is always computed to the next.
const widestGrid = 4

// wideFrom is how many texels a curvature's radius has, at the least, for the widest grid to do.
const wideFrom = 8

// computed is about how many of a draft's texels are computed, by the grid that they begin with, measured on the
// demo's models.
var computed = map[int]float64{1: 1, 2: 0.42, widestGrid: 0.28}

// gridOf is how far the texels of a map that are always computed lie apart in this bake.
func (b *job) gridOf(kind string) int {
	switch {
	case !b.s.Settings.draft() || tolerance[kind] == 0:
		return 1
	case isCurvature[kind] && b.s.clouds[kind].radius >= wideFrom*b.texel:
		return widestGrid
	}
	return 2
}

// gridSteps are to the texels of the grid around one, by whether its column and its row are odd in half steps.
var gridSteps = [2][2][][2]int{
	{nil, {{0, -1}, {0, 1}}},
	{{{-1, 0}, {1, 0}}, {{-1, -1}, {1, -1}, {-1, 1}, {1, 1}}},
}

// between fills the texels half a step off the grid, in the maps whose grid is that wide or was.
func (b *job) between(step int) func(k *scratch, surf *surface.Surface, from, to, spot int) {
	half := step / 2
	return func(k *scratch, surf *surface.Surface, from, to, spot int) {
		pts := k.pts[:to-from]
		var found [blockSize]bool // points that are in place
		b.place(k, surf, from, to)
		t := time.Now()
		for j := range b.layers {
			l := &b.layers[j]
			if l.grid < step {
				continue
			}
			any := false
			for i := range pts {
				x, y := int(k.x[i]), int(k.y[i])
				k.skip[i] = (x|y)&(half-1) != 0 || (x|y)&half == 0 || b.interpolate(l, x, y, half)
				if !k.skip[i] && !found[i] {
					pts[i] = b.found[y*b.size+x-b.first]
					found[i] = true
				}
				any = any || !k.skip[i]
			}
			if any {
				l.fill(&block{k, b, l, surf, from, pts, k.skip[:len(pts)], spot})
			}
			now := time.Now()
			k.spent[j] += now.Sub(t)
			t = now
		}
	}
}

// place notes the columns and rows of a block's texels.
func (b *job) place(k *scratch, surf *surface.Surface, from, to int) {
	for i, at := range surf.Texel[from:to] {
		y := int(at) / b.size
		k.x[i], k.y[i] = uint16(int(at)-y*b.size), uint16(y)
	}
}

// interpolate takes the mean of the grid's texels around one, half a step away, when they lie on one smooth piece of
// surface and agree.
func (b *job) interpolate(l *layer, x, y, half int) bool {
	at := y*b.size + x
	steps := gridSteps[x/half&1][y/half&1]
	g := &b.found[at-b.first]
	low, high, sum, n := float32(2), float32(-1), float32(0), 0
	for _, d := range steps {
		x, i := x+d[0]*half, at+(d[1]*b.size+d[0])*half
		if x < 0 || x >= b.size || i < b.first || i >= b.first+len(b.found) {
			continue
		}
		o := &b.found[i-b.first]
		if !o.known {
			continue
		}
		if o.n.Dot(g.n) < 0.95 {
			return false
		}
		q := o.base.Sub(g.base)
		if off := q.Dot(g.n); off*off > 0.02*q.Dot(q) {
			return false
		}
		v := l.sum[i-l.base]
		if l.rays != nil {
			v /= max(1, float32(l.rays[i-l.base]))
		}
		low, high, sum, n = min(low, v), max(high, v), sum+v, n+1
	}
	// At the rim of an island half of them will do.
	if high-low > l.allow || 2*n < len(steps) {
		return false
	}
	l.sum[at-l.base] = sum / float32(n)
	if l.rays != nil {
		l.rays[at-l.base] = 1
	}
	return true
}

package bake

import (
	"time"

	"crust/internal/core/surface"
)

// coarseRays is up to how many rays a texel, in one sample, a bake is a draft: maps that change slowly are computed at every
// second texel each way, and between them only where the surface bends or the values part. The rest is
// interpolated, as with cached irradiance (Ward, Rubinstein & Clear, A Ray Tracing Solution for Diffuse
// Interreflection, 1988).
const coarseRays = 16

// draftShare is about how many of a draft's texels are computed, measured on the demo's models.
const draftShare = 0.5

func (s Settings) draft() bool { return s.Rays <= coarseRays && s.Samples == 1 }

// tolerance is by how much the values around a texel may differ for their mean to stand in, by kind: about three
// standard deviations of the rays' noise, or a just visible step. Other maps are computed everywhere.
var tolerance = map[string]float32{AO: 0.3, Thickness: 0.35, Curvature: 0.05, Tight: 0.1, Soft: 0.05}

// onGrid tells whether a texel is one of those that are always computed.
func (b *job) onGrid(at uint32) bool { return int(at)%b.size%2 == 0 && int(at)/b.size%2 == 0 }

// steps to the texels of the grid around one, by whether its column and its row are odd.
var gridSteps = [2][2][][2]int{
	{nil, {{0, -1}, {0, 1}}},
	{{{-1, 0}, {1, 0}}, {{-1, -1}, {1, -1}, {-1, 1}, {1, 1}}},
}

// between fills the texels off the grid.
func (b *job) between(k *scratch, surf *surface.Surface, from, to, spot int) {
	pts := k.pts[:to-from]
	var located [blockSize]bool // points that need not be found again
	t := time.Now()
	for j := range b.layers {
		l := &b.layers[j]
		allow := tolerance[l.Name]
		if allow == 0 {
			continue
		}
		any := false
		for i := range pts {
			at := surf.Texel[from+i]
			k.skip[i] = b.onGrid(at) || b.interpolate(l, int(at), allow)
			any = any || !k.skip[i]
		}
		if any {
			var miss [blockSize]bool
			for i := range pts {
				miss[i] = k.skip[i] || located[i]
				located[i] = located[i] || !k.skip[i]
			}
			b.s.locate(surf, from, pts, miss[:len(pts)], &k.stream)
			l.fill(&block{k, b, l, surf, from, pts, k.skip[:len(pts)], spot})
		}
		now := time.Now()
		k.spent[j] += now.Sub(t)
		t = now
	}
}

// interpolate takes the mean of the grid's texels around one, when they lie on one smooth piece of surface and
// agree.
func (b *job) interpolate(l *layer, at int, allow float32) bool {
	x, y := at%b.size, at/b.size
	steps := gridSteps[x%2][y%2]
	g := &b.coarse[at-b.first]
	low, high, sum, n := float32(2), float32(-1), float32(0), 0
	for _, d := range steps {
		i := at + d[1]*b.size + d[0]
		if x+d[0] < 0 || x+d[0] >= b.size || i < b.first || i >= b.first+len(b.coarse) {
			continue
		}
		o := &b.coarse[i-b.first]
		if !o.known {
			continue
		}
		if o.n.Dot(g.n) < 0.95 {
			return false
		}
		q := o.p.Sub(g.p)
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
	if high-low > allow || 2*n < len(steps) {
		return false
	}
	l.sum[at-l.base] = sum / float32(n)
	if l.rays != nil {
		l.rays[at-l.base] = 1
	}
	return true
}

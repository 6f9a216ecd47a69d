package bake

import (
	"context"
	"math"

	"crust/internal/core/geom"
	"crust/internal/core/par"
	"crust/internal/core/surface"
)

// cleanFrom is the number of rays from which maps of rays need no cleaning.
const cleanFrom = 512

// cleanReach is how far the cleaning looks, in texels each way, and halo how far it sees.
const (
	cleanReach = 3
	halo       = cleanReach + 1
)

// spreadOf is the standard deviation of a single ray's value, at the most, by kind.
var spreadOf = map[string]float32{AO: 0.5, Thickness: 0.3}

// guide is what the cleaning needs to know of a texel.
type guide struct {
	n, p  geom.Vec3
	v, s  [2]float32 // values of up to two maps, and their variances
	known bool
}

// clean evens out the noise of few rays.
func (b *job) clean(ctx context.Context, rows int) error {
	if b.s.Settings.Rays >= cleanFrom {
		return nil
	}
	var noisy []*layer
	for i := range b.layers {
		if l := &b.layers[i]; l.whole {
			noisy = append(noisy, l)
		}
	}
	if len(noisy) == 0 {
		return nil
	}
	band := b.cleanAlike
	if b.found != nil {
		band = b.cleanDraft
	}
	// A band is cleaned from the values as they were, so the rows above it are kept.
	above := make([]guide, halo*b.size)
	for y := 0; y < b.size; y += rows {
		if err := band(ctx, noisy, y, min(b.size, y+rows), above); err != nil {
			return err
		}
	}
	return nil
}

// guides are what the cleaning knows of the rows from y0 to y1 and of some around them, which begin at top, and the
// texels that are covered. Rows before y0 are taken from above, which becomes those before y1.
func (b *job) guides(ctx context.Context, noisy []*layer, y0, y1 int, above []guide) (list []guide, texels []uint32, top int, err error) {
	size := b.size
	top, end := max(0, y0-halo), min(size, y1+halo)
	// Texels at the rim of an island may be covered at some of their samples only.
	spots := [][2]float32{{0, 0}}
	if n := b.s.Settings.Samples; n > 1 {
		spots = append(spots, offsets[n]...)
	}
	surfs := make([]*surface.Surface, len(spots))
	err = par.Blocks(ctx, len(spots), 1, func(_, i, _ int) {
		surfs[i] = surface.RasteriseRows(b.s.Low, b.set, size, spots[i][0], spots[i][1], top, end)
	})
	if err != nil {
		return nil, nil, 0, err
	}
	list = make([]guide, (end-top)*size)
	copy(list, above[max(0, halo-y0)*size:])
	for _, surf := range surfs {
		err = par.Blocks(ctx, surf.Len(), 4096, func(_, from, to int) {
			for i := from; i < to; i++ {
				at := int(surf.Texel[i])
				g := &list[at-top*size]
				if at < y0*size || g.known || b.count[at] == 0 {
					continue
				}
				*g = guide{n: surf.Normal(i).Norm(), p: surf.Position(i), known: true}
				for k, l := range noisy {
					g.v[k], g.s[k] = l.estimate(at)
				}
			}
		})
		if err != nil {
			return nil, nil, 0, err
		}
	}
	clear(above)
	copy(above[max(0, halo-y1)*size:], list[max(0, y1-halo-top)*size:(y1-top)*size])
	for at := y0 * size; at < y1*size; at++ {
		if list[at-top*size].known {
			texels = append(texels, uint32(at))
		}
	}
	return list, texels, top, nil
}

// estimate is the value of a texel and its variance. Independent rays that see open air with a chance q have a
// variance of q(1 − q)/n, where q is taken from Laplace's rule of succession; scrambled ones have about half of that.
func (l *layer) estimate(at int) (v, variance float32) {
	n := max(1, float32(l.rays[at]))
	spread := spreadOf[l.Name] * spreadOf[l.Name]
	if l.Name == AO {
		q := (l.sum[at] + 1) / (n + 2)
		spread = q * (1 - q)
	}
	return l.sum[at] / n, spread / (2 * n)
}

// cleanAlike takes means over texels around that lie on the same surface, look the same way and whose own
// surroundings look alike but for noise (Buades, Coll & Morel, A Non-Local Algorithm for Image Denoising, 2005, with
// distances that know the variance as in Rousselle, Knaus & Zwicker, Adaptive Rendering with Non-Local Means Filtering,
// 2012). Creases, contact shadows and rings of one texel stay.
func (b *job) cleanAlike(ctx context.Context, noisy []*layer, y0, y1 int, above []guide) error {
	list, texels, top, err := b.guides(ctx, noisy, y0, y1, above)
	if err != nil {
		return err
	}
	return par.Blocks(ctx, len(texels), blockSize, func(_, from, to int) {
		for _, at := range texels[from:to] {
			v := alike(list, b.size, int(at)-top*b.size)
			for k, l := range noisy {
				l.sum[at] = v[k] * max(1, float32(l.rays[at]))
			}
		}
	})
}

// alike is the cleaned value of the texel at a place in the list, whose rows are size long.
func alike(list []guide, size, at int) (mean [2]float32) {
	x, y, rows := at%size, at/size, len(list)/size
	g := &list[at]
	var total, weight [2]float32
	for v := max(y-cleanReach, 0); v <= min(y+cleanReach, rows-1); v++ {
		up, down := max(-1, -min(y, v)), min(1, rows-1-max(y, v))
		for u := max(x-cleanReach, 0); u <= min(x+cleanReach, size-1); u++ {
			o := &list[v*size+u]
			if !g.beside(o) {
				continue
			}
			left, right := max(-1, -min(x, u)), min(1, size-1-max(x, u))
			var diff, noise [2]float32
			for dy := up; dy <= down; dy++ {
				p, q := list[(y+dy)*size+x+left:][:right-left+1], list[(v+dy)*size+u+left:][:right-left+1]
				for i := range p {
					a, c := &p[i], &q[i]
					if !a.known || !c.known {
						continue
					}
					d0, d1 := a.v[0]-c.v[0], a.v[1]-c.v[1]
					diff[0], diff[1] = diff[0]+d0*d0, diff[1]+d1*d1
					noise[0], noise[1] = noise[0]+a.s[0]+c.s[0], noise[1]+a.s[1]+c.s[1]
				}
			}
			for k := range total {
				w := float32(1)
				if noise[k] > 0 {
					w = max(0, 1-max(0, diff[k]/noise[k]-1)/likeness)
					w *= w * w
				}
				total[k], weight[k] = total[k]+w*o.v[k], weight[k]+w
			}
		}
	}
	return [2]float32{total[0] / weight[0], total[1] / weight[1]} // the texel itself has weight 1
}

// likeness is by how many times the noise two surroundings may differ more than noise does.
const likeness = 1.5

// beside tells whether two texels lie on one surface and look the same way.
func (g *guide) beside(o *guide) bool {
	if !o.known || o.n.X*g.n.X+o.n.Y*g.n.Y+o.n.Z*g.n.Z < 0.9 {
		return false
	}
	// Far off the tangent plane is another surface.
	x, y, z := o.p.X-g.p.X, o.p.Y-g.p.Y, o.p.Z-g.p.Z
	off := x*g.n.X + y*g.n.Y + z*g.n.Z
	return off*off <= 0.1*(x*x+y*y+z*z)+1e-10
}

// cleanDraft takes means over texels of the draft's grid around that lie on the same surface, look the same way and
// differ by no more than the noise explains (Tomasi & Manduchi, Bilateral Filtering for Gray and Color Images, 1998).
func (b *job) cleanDraft(ctx context.Context, noisy []*layer, y0, y1 int, above []guide) error {
	size := b.size
	list, texels, top, err := b.guides(ctx, noisy, y0, y1, above)
	if err != nil {
		return err
	}
	rows := len(list) / size
	// Values may part by two standard deviations of independent rays; scrambled ones do better.
	var noise [2]float32
	for i, l := range noisy {
		rays := b.perOuter
		if l.Name == Thickness {
			rays = b.perInner
		}
		noise[i] = float32(math.Sqrt(float64(rays))) / (2 * spreadOf[l.Name])
	}
	var soft [2*cleanReach + 1]float32
	for k := range soft {
		d := float64(k - cleanReach)
		soft[k] = float32(math.Exp(-d * d / (2 * 1.7 * 1.7)))
	}
	return par.Blocks(ctx, len(texels), blockSize, func(_, from, to int) {
		for _, at := range texels[from:to] {
			x, y := int(at)%size, int(at)/size-top
			g := &list[y*size+x]
			var total, weight [2]float32
			// What lies between the texels of the grid is made from them. Rows count from the top of the picture.
			v0, u0 := max(y-cleanReach, 0), max(x-cleanReach, 0)
			for v := v0 + (v0+top)&1; v <= min(y+cleanReach, rows-1); v += 2 {
				for u := u0 + u0&1; u <= min(x+cleanReach, size-1); u += 2 {
					o := &list[v*size+u]
					if !g.beside(o) {
						continue
					}
					near := soft[u-x+cleanReach] * soft[v-y+cleanReach]
					for k := range total {
						d := (o.v[k] - g.v[k]) * noise[k]
						w := near * max(0, 1-d*d)
						total[k], weight[k] = total[k]+w*o.v[k], weight[k]+w
					}
				}
			}
			for k, l := range noisy {
				if weight[k] > 0 {
					l.sum[at] = total[k] / weight[k] * max(1, float32(l.rays[at]))
				}
			}
		}
	})
}

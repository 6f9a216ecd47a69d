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

// cleanReach is how far the cleaning looks, in texels each way.
const cleanReach = 3

// spreadOf is the standard deviation of a single ray's value, at the most, by kind.
var spreadOf = map[string]float64{AO: 0.5, Thickness: 0.3}

// guide is what the cleaning needs to know of a texel.
type guide struct {
	n, p  geom.Vec3
	v     [2]float32 // values of up to two maps
	known bool
}

// clean evens out the noise of few rays: a mean over the texels around that lie on the same surface, look the
// same way and differ by no more than the noise explains (Tomasi & Manduchi, Bilateral Filtering for Gray and
// Color Images, 1998). Creases and contact shadows stay.
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
	// What a first pass leaves is a third of the noise at the most; a second takes that out too. Drafts do with one.
	passes := []float64{1, 1. / 3}
	if b.found != nil {
		passes = passes[:1]
	}
	for _, share := range passes {
		// The sums of a band are cleaned from the values as they were, so bands keep the old rows above them.
		kept := make([][2]float32, cleanReach*b.size)
		for y := 0; y < b.size; y += rows {
			if err := b.cleanRows(ctx, noisy, y, min(b.size, y+rows), kept, share); err != nil {
				return err
			}
		}
	}
	return nil
}

func (b *job) cleanRows(ctx context.Context, noisy []*layer, y0, y1 int, kept [][2]float32, share float64) error {
	size := b.size
	top, end := max(0, y0-cleanReach), min(size, y1+cleanReach)
	surf := surface.RasteriseRows(b.s.Low, b.set, size, 0, 0, top, end)
	guides := make([]guide, (end-top)*size)
	values := func(at int) (v [2]float32) {
		for i, l := range noisy {
			v[i] = l.sum[at] / max(1, float32(l.rays[at]))
		}
		return v
	}
	err := par.Blocks(ctx, surf.Len(), 4096, func(_, from, to int) {
		for i := from; i < to; i++ {
			at := int(surf.Texel[i])
			v := values(at)
			if at < y0*size {
				v = kept[at-(y0-cleanReach)*size]
			}
			guides[at-top*size] = guide{surf.Normal(i).Norm(), surf.Position(i), v, true}
		}
	})
	if err != nil {
		return err
	}
	for at := (y1 - cleanReach) * size; at < y1*size; at++ {
		kept[at-(y1-cleanReach)*size] = values(at)
	}
	// Values may part by share times two standard deviations of independent rays; scrambled ones do better.
	var noise [2]float32
	for i, l := range noisy {
		rays := b.perOuter
		if l.Name == Thickness {
			rays = b.perInner
		}
		noise[i] = 1 / float32(2*share*spreadOf[l.Name]/math.Sqrt(float64(rays*b.s.Settings.Samples)))
	}
	far := float32(1.3 * 1.3 / (share * share))
	var soft [2*cleanReach + 1]float32
	for k := range soft {
		d := float64(k - cleanReach)
		soft[k] = float32(math.Exp(-d * d / (2 * 1.7 * 1.7)))
	}
	return par.Blocks(ctx, surf.Len(), blockSize, func(_, from, to int) {
		for i := from; i < to; i++ {
			at := int(surf.Texel[i])
			x, y := at%size, at/size
			if y < y0 || y >= y1 {
				continue
			}
			g := &guides[at-top*size]
			var total0, total1, weight0, weight1 float32
			gx, gy, gz := g.n.X, g.n.Y, g.n.Z
			step := 1
			if b.found != nil {
				step = 2 // what lies between the texels of a draft's grid is made from them
			}
			v0, v1 := g.v[0], g.v[1]
			if share < 1 {
				// What is farther off than noise can be is a feature, and stays.
				m0, m1 := anchor(guides, g, x, y-top, size, end-top)
				if (m0-v0)*(m0-v0)*noise[0]*noise[0] < far {
					v0 = m0
				}
				if (m1-v1)*(m1-v1)*noise[1]*noise[1] < far {
					v1 = m1
				}
			}
			y0, x0 := max(y-cleanReach, top), max(x-cleanReach, 0)
			for v := y0 + (y0 & (step - 1)); v <= min(y+cleanReach, end-1); v += step {
				row := guides[(v-top)*size : (v-top+1)*size]
				for u := x0 + (x0 & (step - 1)); u <= min(x+cleanReach, size-1); u += step {
					o := &row[u]
					if !o.known || o.n.X*gx+o.n.Y*gy+o.n.Z*gz < 0.9 {
						continue
					}
					// Far off the tangent plane is another surface.
					qx, qy, qz := o.p.X-g.p.X, o.p.Y-g.p.Y, o.p.Z-g.p.Z
					off := qx*gx + qy*gy + qz*gz
					if off*off > 0.1*(qx*qx+qy*qy+qz*qz)+1e-10 {
						continue
					}
					w := soft[u-x+cleanReach] * soft[v-y+cleanReach]
					d0, d1 := (o.v[0]-v0)*noise[0], (o.v[1]-v1)*noise[1]
					d0, d1 = w*max(0, 1-d0*d0), w*max(0, 1-d1*d1)
					total0, weight0 = total0+d0*o.v[0], weight0+d0
					total1, weight1 = total1+d1*o.v[1], weight1+d1
				}
			}
			total, weight := [2]float32{total0, total1}, [2]float32{weight0, weight1}
			for k, l := range noisy {
				if weight[k] > 0 {
					l.sum[at] = total[k] / weight[k] * max(1, float32(l.rays[at]))
				}
			}
		}
	})
}

// anchor is what the values round a texel are held against in the second pass: the median of the texels next to it on
// the same surface, so that one that is still far off does not stand alone.
func anchor(guides []guide, g *guide, x, y, size, rows int) (v0, v1 float32) {
	var a, b [9]float32
	n := 0
	put := func(list *[9]float32, v float32) {
		i := n
		for ; i > 0 && list[i-1] > v; i-- {
			list[i] = list[i-1]
		}
		list[i] = v
	}
	for v := max(0, y-1); v <= min(rows-1, y+1); v++ {
		for u := max(0, x-1); u <= min(size-1, x+1); u++ {
			o := &guides[v*size+u]
			if !o.known || o.n.Dot(g.n) < 0.9 {
				continue
			}
			q := o.p.Sub(g.p)
			if off := q.Dot(g.n); off*off > 0.1*q.Dot(q)+1e-10 {
				continue
			}
			put(&a, o.v[0])
			put(&b, o.v[1])
			n++
		}
	}
	if n < 5 {
		return g.v[0], g.v[1]
	}
	return a[n/2], b[n/2]
}

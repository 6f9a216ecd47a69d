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
	// The sums of a band are cleaned from the values as they were, so bands keep the old rows above them.
	kept := make([][2]float32, cleanReach*b.size)
	for y := 0; y < b.size; y += rows {
		if err := b.cleanRows(ctx, noisy, y, min(b.size, y+rows), kept); err != nil {
			return err
		}
	}
	return nil
}

func (b *job) cleanRows(ctx context.Context, noisy []*layer, y0, y1 int, kept [][2]float32) error {
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
	// Two standard deviations of independent rays; scrambled ones do better.
	var noise [2]float32
	for i, l := range noisy {
		rays := b.perOuter
		if l.Name == Thickness {
			rays = b.perInner
		}
		noise[i] = 1 / float32(2*spreadOf[l.Name]/math.Sqrt(float64(rays*b.s.Settings.Samples)))
	}
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
			if b.coarse != nil {
				step = 2 // what lies between the texels of a draft's grid is made from them
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
					d0, d1 := (o.v[0]-g.v[0])*noise[0], (o.v[1]-g.v[1])*noise[1]
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

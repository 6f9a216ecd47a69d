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
			var total, weight [2]float32
			for dy := max(-cleanReach, top-y); dy <= min(cleanReach, end-1-y); dy++ {
				row := guides[(y+dy-top)*size : (y+dy-top+1)*size]
				for dx := max(-cleanReach, -x); dx <= min(cleanReach, size-1-x); dx++ {
					o := &row[x+dx]
					if !o.known || o.n.X*g.n.X+o.n.Y*g.n.Y+o.n.Z*g.n.Z < 0.9 {
						continue
					}
					// Far off the tangent plane is another surface.
					qx, qy, qz := o.p.X-g.p.X, o.p.Y-g.p.Y, o.p.Z-g.p.Z
					off := qx*g.n.X + qy*g.n.Y + qz*g.n.Z
					if off*off > 0.1*(qx*qx+qy*qy+qz*qz)+1e-10 {
						continue
					}
					w := soft[dx+cleanReach] * soft[dy+cleanReach]
					for k := range total {
						d := (o.v[k] - g.v[k]) * noise[k]
						d = w * max(0, 1-d*d)
						total[k] += d * o.v[k]
						weight[k] += d
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

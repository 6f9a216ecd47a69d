package bake

import (
	"context"
	"math"

	"crust/internal/core/geom"
	"crust/internal/core/par"
	"crust/internal/core/surface"
)

// cleanFrom is the number of rays from which occlusion needs no cleaning.
const cleanFrom = 512

// cleanReach is how far the cleaning looks, in texels each way.
const cleanReach = 3

// clean evens out the noise of few rays in occlusion: a mean over the texels around that lie on the
// same surface, look the same way and differ by no more than the noise explains (Tomasi & Manduchi,
// Bilateral Filtering for Gray and Color Images, 1998). Creases and contact shadows stay.
func (b *job) clean(ctx context.Context, surf *surface.Surface, sum []float32, count []uint16) error {
	size := surf.Size
	normal := make([]geom.Vec3, size*size)
	place := make([]geom.Vec3, size*size)
	for i, at := range surf.Texel {
		normal[at], place[at] = surf.Normal(i).Norm(), surf.Position(i)
	}
	old := make([]float32, len(sum))
	for at, n := range count {
		if n > 0 {
			old[at] = sum[at] / float32(n)
		}
	}
	// Two standard deviations of a half-open texel under independent rays; scrambled ones do better.
	noise := float32(2 * 0.5 / math.Sqrt(float64(b.s.Settings.Rays)))
	var soft [2*cleanReach + 1]float32
	for k := range soft {
		d := float64(k - cleanReach)
		soft[k] = float32(math.Exp(-d * d / (2 * 1.7 * 1.7)))
	}
	return par.Blocks(ctx, surf.Len(), blockSize, func(_, from, to int) {
		for i := from; i < to; i++ {
			at := int(surf.Texel[i])
			x, y := at%size, at/size
			n, p, v := normal[at], place[at], old[at]
			var total, weight float32
			for dy := max(-cleanReach, -y); dy <= min(cleanReach, size-1-y); dy++ {
				for dx := max(-cleanReach, -x); dx <= min(cleanReach, size-1-x); dx++ {
					j := at + dy*size + dx
					m := normal[j]
					if count[j] == 0 || m.Dot(n) < 0.9 {
						continue
					}
					// Far off the tangent plane is another surface.
					q := place[j].Sub(p)
					off, far := q.Dot(n), q.Dot(q)
					if off*off > 0.1*far+1e-10 {
						continue
					}
					d := (old[j] - v) / noise
					w := soft[dx+cleanReach] * soft[dy+cleanReach] * max(0, 1-d*d)
					total += w * old[j]
					weight += w
				}
			}
			if weight > 0 {
				sum[at] = total / weight * float32(count[at])
			}
		}
	})
}

package still

import (
	"context"
	"math"

	"crust/internal/core/par"
)

// rings are the widths of a halo, as shares of the picture's height, and how much of the light each takes. A lens spreads a little light over
// much of the picture; three bell curves come near to it (common practice).
var rings = []struct{ wide, share float32 }{{0.006, 0.5}, {0.024, 0.3}, {0.09, 0.2}}

// emits tells whether something of the model gives light of its own.
func (s *Scene) emits() bool {
	for _, m := range s.maps {
		if m == nil {
			continue
		}
		for _, plane := range m.Emissive {
			for _, v := range plane {
				if v > 0 {
					return true
				}
			}
		}
	}
	return false
}

// haloed is a picture with the light that it emits spread round it.
func (t *Tracer) haloed(p *Picture) *Picture {
	if p.Glow == nil || t.set.Halo == 0 {
		return p
	}
	out := &Picture{Width: p.Width, Height: p.Height, Samples: p.Samples, Pix: make([]float32, len(p.Pix))}
	copy(out.Pix, p.Pix)
	for _, r := range rings {
		soft := soften(p.Glow, p.Width, p.Height, r.wide*float32(p.Height))
		for i := range p.Width * p.Height {
			most := float32(0)
			for k := range 3 {
				v := soft[3*i+k] * t.set.Halo * r.share
				out.Pix[4*i+k] += v
				most = max(most, v*t.set.Exposure)
			}
			// On nothing it covers as much as it is bright.
			out.Pix[4*i+3] = max(out.Pix[4*i+3], min(1, out.Pix[4*i+3]+most))
		}
	}
	return out
}

// soften spreads RGB by a bell curve of a standard deviation in pixels: three averages one after the other, along rows and along columns.
func soften(pix []float32, wide, high int, deviation float32) []float32 {
	// Three averages over n pixels have a variance of 3·(n²−1)/12; n is odd, so that nothing moves.
	half := int((math.Sqrt(float64(4*deviation*deviation+1))-1)/2 + 0.5)
	if half < 1 {
		return pix
	}
	from, to := pix, make([]float32, len(pix))
	spare := make([]float32, len(pix))
	pass := func(lines, length, step, next int) {
		_ = par.Blocks(context.Background(), lines, 8, func(_, a, b int) {
			for line := a; line < b; line++ {
				for k := range 3 {
					at := func(i int) int { return 3*(line*next+i*step) + k }
					sum := float64(0)
					for i := range min(half, length) {
						sum += float64(from[at(i)])
					}
					for i := range length {
						if i+half < length {
							sum += float64(from[at(i+half)])
						}
						if i-half-1 >= 0 {
							sum -= float64(from[at(i-half-1)])
						}
						to[at(i)] = float32(sum) / float32(2*half+1)
					}
				}
			}
		})
		if &from[0] == &pix[0] {
			from, to = to, spare
		} else {
			from, to = to, from
		}
	}
	for range 3 {
		pass(high, wide, 1, wide)
		pass(wide, high, wide, 1)
	}
	return from
}

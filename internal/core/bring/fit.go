package bring

import (
	"math"

	"crust/internal/core/bake"
	"crust/internal/core/geom"
	"crust/internal/core/imgfile"
	"crust/internal/core/mesh"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
)

// SizeFor is the size of the map that a picture becomes: its own when it is square and allowed, else the power of two
// that is nearest above its longer side.
func SizeFor(width, height int) int {
	if width == height && width >= bake.MinSize && width <= bake.MaxSize {
		return width
	}
	n := bake.MinSize
	for n < max(width, height) && n < bake.MaxSize {
		n *= 2
	}
	return n
}

// Map makes a picture a baked map of a kind: one or three channels of 16 bits, of the size that SizeFor tells. Grey
// stands for all three channels. Signed float normals are taken to 0–1; flip turns green round.
func Map(p *imgfile.Picture, kind string, flip bool) (*bake.Map, error) {
	k, err := bake.KindOf(kind)
	if err != nil {
		return nil, err
	}
	size := SizeFor(p.Width, p.Height)
	m := &bake.Map{Kind: kind, Size: size, Channels: k.Channels, Pix: make([]uint16, size*size*k.Channels)}
	unit := kind == bake.Normal || kind == bake.WorldNormal
	signed := unit && p.Float && below(p)
	at := sampler(p, k.Channels, size, kind == bake.ID)
	var v [3]float32
	for y := range size {
		for x := range size {
			at(x, y, &v)
			if signed {
				v = [3]float32{v[0]/2 + 0.5, v[1]/2 + 0.5, v[2]/2 + 0.5}
			}
			if flip && unit {
				v[1] = 1 - v[1]
			}
			if unit && size != p.Width {
				// What is between two normals is made one again.
				n := geom.Vec3{X: v[0]*2 - 1, Y: v[1]*2 - 1, Z: v[2]*2 - 1}.Norm()
				v = [3]float32{n.X/2 + 0.5, n.Y/2 + 0.5, n.Z/2 + 0.5}
			}
			for c := range k.Channels {
				m.Pix[(y*size+x)*k.Channels+c] = uint16(geom.Clamp01(v[c])*65535 + 0.5)
			}
		}
	}
	return m, nil
}

// below tells whether values go clearly below zero.
func below(p *imgfile.Picture) bool {
	n := 0
	for _, v := range p.Pix {
		if v < -0.02 {
			n++
		}
	}
	return n > len(p.Pix)/200
}

// sampler gives the values of a texel of the new size: the mean over its area when the picture shrinks, in between
// its neighbours when it grows, and the nearest one for colours that must not mix.
func sampler(p *imgfile.Picture, channels, size int, nearest bool) func(x, y int, v *[3]float32) {
	get := func(x, y, c int) float32 {
		if p.Channels == 1 {
			c = 0
		}
		return p.At((y*p.Width+x)*p.Channels + c)
	}
	if nearest || p.Width == size && p.Height == size {
		return func(x, y int, v *[3]float32) {
			for c := range channels {
				v[c] = get((2*x+1)*p.Width/(2*size), (2*y+1)*p.Height/(2*size), c)
			}
		}
	}
	across, down := weights(p.Width, size), weights(p.Height, size)
	return func(x, y int, v *[3]float32) {
		for c := range channels {
			sum := float32(0)
			for _, j := range down[y] {
				row := float32(0)
				for _, i := range across[x] {
					row += i.w * get(i.at, j.at, c)
				}
				sum += j.w * row
			}
			v[c] = sum
		}
	}
}

type weight struct {
	at int
	w  float32
}

// weights are the texels of a row of n that texel i of a row of size is made from: a tent as wide as the larger of
// the two texels.
func weights(n, size int) [][]weight {
	out := make([][]weight, size)
	scale := float64(n) / float64(size)
	wide := max(1, scale)
	for i := range out {
		mid := (float64(i) + 0.5) * scale
		total := 0.0
		for k := int(math.Floor(mid - wide)); k <= int(math.Ceil(mid+wide)); k++ {
			w := 1 - math.Abs(float64(k)+0.5-mid)/wide
			if w <= 0 {
				continue
			}
			out[i] = append(out[i], weight{max(0, min(n-1, k)), float32(w)})
			total += w
		}
		for k := range out[i] {
			out[i][k].w /= float32(total)
		}
	}
	return out
}

// Green is a guess which way the green of a tangent-space normal map points.
type Green struct {
	Down bool    `json:"down"`
	Sure float64 `json:"sure"` // 0–1: how much of the relief agrees; 0 when nothing can be told
}

// guessSize is the grid that a guess looks at.
const guessSize = 256

// GuessGreen compares a tangent-space normal map of a set with its world-space normals: where these lean along the
// bitangent, green should say the same.
func GuessGreen(low *mesh.Model, set *uv.Set, normal *imgfile.Picture, world *bake.Map) Green {
	surf := surface.Rasterise(low, set, guessSize, 0, 0)
	tangents := low.Tangents()
	signed := normal.Float && below(normal)
	same, all := 0.0, 0.0
	for i := range surf.Len() {
		x, y := int(surf.Texel[i])%guessSize, int(surf.Texel[i])/guessSize
		w := world.Pix[((2*y+1)*world.Size/(2*guessSize)*world.Size+(2*x+1)*world.Size/(2*guessSize))*3:]
		n := geom.Vec3{X: float32(w[0])/65535*2 - 1, Y: float32(w[1])/65535*2 - 1, Z: float32(w[2])/65535*2 - 1}
		local, _ := low.FrameAt(tangents, int(surf.Tri[i]), surf.U[i], surf.V[i]).Local(n)
		c := min(1, normal.Channels-1)
		g := normal.At(((2*y+1)*normal.Height/(2*guessSize)*normal.Width+(2*x+1)*normal.Width/(2*guessSize))*normal.Channels + c)
		if !signed {
			g = g*2 - 1
		}
		p := float64(local.Y) * float64(g)
		same += p
		all += math.Abs(p)
	}
	// Relief too faint to tell: less than a tenth of a degree of lean on average.
	if all < 3e-6*float64(surf.Len()) || all == 0 {
		return Green{}
	}
	return Green{same < 0, math.Abs(same) / all}
}

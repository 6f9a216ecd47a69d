package layout

import (
	"context"
	"fmt"
	"math"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/par"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
)

// What a picture that is carried over holds.
const (
	Colour        = "colour" // colours, with alpha when there are four channels
	Data          = "data"   // values that are averaged as they are
	TangentNormal = "normal" // tangent-space normals, green up
)

// Contents lists them in the order in which they are offered.
var Contents = []string{Colour, Data, TangentNormal}

// Picture is Width × Height texels of Channels 16-bit values, rows from the top, alpha not multiplied in.
type Picture struct {
	Width, Height, Channels int
	Pix                     []uint16
}

// Side is a model with its UVs and sets, before or after a layout. Both sides have the same triangles.
type Side struct {
	Model *mesh.Model
	Sets  []uv.Set
}

// spots are where a texel is sampled, in texels from its centre (the rotated grid of four).
var spots = [][2]float32{{-0.125, -0.375}, {0.375, -0.125}, {-0.375, 0.125}, {0.125, 0.375}}

// Carry makes pictures for a set of the new side from those of the old side's sets, by key, through the
// surface: each texel finds its place on the model, and from there its place in the old picture. Colours
// are averaged with alpha multiplied in, normals as vectors of the model and turned into the new frames.
// Texels whose old set has no picture stay empty; ok tells whether any was found. Empty texels take the
// nearest.
func Carry(ctx context.Context, from, to Side, set *uv.Set, pictures map[string]*Picture, content string, size, channels int) (out *Picture, ok bool, err error) {
	if len(from.Model.Tris) != len(to.Model.Tris) {
		return nil, false, fmt.Errorf("the two layouts are of different models")
	}
	c := carrier{from: from, to: to, content: content, channels: channels}
	c.source = make([]*Picture, len(from.Model.Tris))
	c.origin = make([]geom.Vec2, len(from.Model.Tris))
	for i := range from.Sets {
		p := pictures[from.Sets[i].Key]
		for _, t := range from.Sets[i].Tris {
			c.source[t], c.origin[t] = p, from.Sets[i].Origin
		}
		if p != nil && p.Channels != channels {
			return nil, false, fmt.Errorf("the pictures have %d and %d channels; carry them over one kind at a time", p.Channels, channels)
		}
	}
	if content == TangentNormal {
		if channels < 3 {
			return nil, false, fmt.Errorf("a normal has three channels, this picture %d", channels)
		}
		c.old, c.new = from.Model.Tangents(), to.Model.Tangents()
	}
	sum, weight := make([]float32, size*size*channels), make([]float32, size*size)
	for _, o := range spots {
		surf := surface.Rasterise(to.Model, set, size, o[0], o[1])
		err := par.Blocks(ctx, surf.Len(), 1024, func(_, a, b int) {
			for i := a; i < b; i++ {
				at := int(surf.Texel[i])
				if c.source[surf.Tri[i]] != nil {
					c.add(surf, i, sum[at*channels:(at+1)*channels])
					weight[at]++
				}
			}
		})
		if err != nil {
			return nil, false, err
		}
	}
	covered := &surface.Surface{Model: to.Model, Set: set, Size: size}
	for at, w := range weight {
		if w > 0 {
			covered.Texel = append(covered.Texel, uint32(at))
		}
	}
	if len(covered.Texel) == 0 {
		return nil, false, nil
	}
	if err := covered.Pad(ctx); err != nil {
		return nil, false, err
	}
	packed := make([]uint16, len(covered.Texel)*channels)
	for i, texel := range covered.Texel {
		v := sum[int(texel)*channels : (int(texel)+1)*channels]
		c.finish(v, weight[texel], packed[i*channels:(i+1)*channels])
	}
	out = &Picture{Width: size, Height: size, Channels: channels, Pix: make([]uint16, size*size*channels)}
	for i, n := range covered.Nearest {
		copy(out.Pix[i*channels:(i+1)*channels], packed[int(n)*channels:])
	}
	return out, true, nil
}

type carrier struct {
	from, to Side
	source   []*Picture
	origin   []geom.Vec2
	content  string
	channels int
	old, new [][3]geom.Vec4
}

// add samples the old picture for a texel of the new side.
func (c *carrier) add(surf *surface.Surface, i int, sum []float32) {
	t, u, v := int(surf.Tri[i]), surf.U[i], surf.V[i]
	tri, uvs := c.from.Model.Tris[t], c.from.Model.UVs
	w := 1 - u - v
	at := uvs[tri[0]].Mul(w).Add(uvs[tri[1]].Mul(u)).Add(uvs[tri[2]].Mul(v)).Sub(c.origin[t])
	var val [4]float32
	c.source[t].sample(at, c.content == Colour && c.channels == 4, &val)
	if c.content == TangentNormal {
		n := c.from.Model.FrameAt(c.old, t, u, v).World(geom.Vec3{X: 2*val[0] - 1, Y: 2*val[1] - 1, Z: 2*val[2] - 1})
		// In the new frame right away: texels on a border average frames as a shader would.
		l, _ := c.to.Model.FrameAt(c.new, t, u, v).Local(n)
		val[0], val[1], val[2] = l.X, l.Y, l.Z
	}
	for k := range sum {
		sum[k] += val[k]
	}
}

// finish divides a texel's sum.
func (c *carrier) finish(v []float32, weight float32, out []uint16) {
	val := make([]float32, len(v))
	for k := range v {
		val[k] = v[k] / weight
	}
	switch {
	case c.content == TangentNormal:
		n := geom.Vec3{X: val[0], Y: val[1], Z: val[2]}.Norm()
		val[0], val[1], val[2] = (n.X+1)/2, (n.Y+1)/2, (n.Z+1)/2
	case c.content == Colour && c.channels == 4 && val[3] > 0:
		for k := range 3 {
			val[k] /= val[3]
		}
	}
	for k := range out {
		out[k] = uint16(geom.Clamp01(val[k])*65535 + 0.5)
	}
}

// sample reads between four texels; beyond the border the picture repeats, as UVs do. Colours come with
// alpha multiplied in when asked.
func (p *Picture) sample(at geom.Vec2, multiply bool, out *[4]float32) {
	x := float64(at.X)*float64(p.Width) - 0.5
	y := (1-float64(at.Y))*float64(p.Height) - 0.5
	fx, fy := math.Floor(x), math.Floor(y)
	ax, ay := float32(x-fx), float32(y-fy)
	wrap := func(v, n int) int { return ((v % n) + n) % n }
	for k, w := range [4]float32{(1 - ax) * (1 - ay), ax * (1 - ay), (1 - ax) * ay, ax * ay} {
		px := p.Pix[(wrap(int(fy)+k/2, p.Height)*p.Width+wrap(int(fx)+k%2, p.Width))*p.Channels:]
		alpha := float32(1)
		if multiply {
			alpha = float32(px[3]) / 65535
		}
		for c := range p.Channels {
			v := float32(px[c]) / 65535
			if multiply && c < 3 {
				v *= alpha
			}
			out[c] += w * v
		}
	}
}

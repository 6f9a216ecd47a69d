// Package compose evaluates strata over baked maps into channels. What the viewport shows and what
// a delivery writes both come from here, at their own sizes.
package compose

import (
	"context"
	"slices"

	"crust/internal/core/bake"
	"crust/internal/core/field"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/par"
	"crust/internal/core/strata"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
)

// blockSize is how many texels a kernel takes at once: 2048 × 10 planes stay in the second-level
// cache; 512 and 8192 were within the noise.
const blockSize = 2048

// Canvas is one set at one size, with its baked maps read at the covered texels, ready to be
// evaluated again and again. One goroutine uses it at a time.
type Canvas struct {
	Set      string
	Surf     *surface.Surface
	in       field.Block // planes over all covered texels
	baseN    [3][]float32
	hasBaseN bool
	slope    []slope // per triangle of the set, indexed through slopeAt
	slopeAt  map[int32]int32
	slopeOf  []int32 // per texel
	parts    map[string]int32
	wheres   cache
	targets  map[string]target
	work     []*scratch
	ch       Channels
}

// Channels are the evaluated values at the covered texels, packed as in Surf. Base colour is sRGB
// encoded; height is metres; the normal is a unit vector in tangent space, green up.
type Channels struct {
	Base                [3][]float32
	Roughness, Metallic []float32
	Height              []float32
	Normal              [3][]float32
	AO                  []float32
}

// slope turns a height's change along U and V into slopes along tangent and bitangent.
type slope struct{ tu, tv, bu, bv float32 }

// NewCanvas rasterises the set at size and reads its maps, which may be of any size; a missing map
// stands at its neutral value, and the world normal then comes from the model.
func NewCanvas(ctx context.Context, m *mesh.Model, set *uv.Set, size int, maps map[string]*bake.Map) (*Canvas, error) {
	surf := surface.Rasterise(m, set, size, 0, 0)
	if err := surf.Pad(ctx); err != nil {
		return nil, err
	}
	n := surf.Len()
	c := &Canvas{Set: set.Key, Surf: surf, parts: map[string]int32{}}
	for i, p := range m.Parts {
		c.parts[p] = int32(i)
	}
	plane := func() []float32 { return make([]float32, n) }
	c.in = field.Block{X: plane(), Y: plane(), Z: plane(), NX: plane(), NY: plane(), NZ: plane(), AO: plane(), Curve: plane(), Part: make([]int32, n), Floor: m.Bounds().Min}
	c.baseN = [3][]float32{plane(), plane(), plane()}
	for k := range 3 {
		c.ch.Base[k], c.ch.Normal[k] = plane(), plane()
	}
	c.ch.Roughness, c.ch.Metallic, c.ch.Height, c.ch.AO = plane(), plane(), plane(), c.in.AO
	c.work = make([]*scratch, par.Slots)
	c.slopes(m)
	tight, soft := maps[bake.Tight], maps[bake.Soft]
	if tight != nil {
		c.in.Tight = plane()
	}
	if soft != nil {
		c.in.Soft = plane()
	}
	ao, curve, world, normal := maps[bake.AO], maps[bake.Curvature], maps[bake.WorldNormal], maps[bake.Normal]
	c.hasBaseN = normal != nil
	err := par.Blocks(ctx, n, blockSize, func(_, from, to int) {
		for i := from; i < to; i++ {
			p := surf.Position(i)
			c.in.X[i], c.in.Y[i], c.in.Z[i] = p.X, p.Y, p.Z
			c.in.Part[i] = m.Part[surf.Tri[i]]
			c.in.AO[i], c.in.Curve[i] = 1, 0.5
			if ao != nil {
				c.in.AO[i] = sample(ao, surf, i, 0)
			}
			if curve != nil {
				c.in.Curve[i] = sample(curve, surf, i, 0)
			}
			if tight != nil {
				c.in.Tight[i] = sample(tight, surf, i, 0)
			}
			if soft != nil {
				c.in.Soft[i] = sample(soft, surf, i, 0)
			}
			w := surf.Normal(i).Norm()
			if world != nil {
				w = vector(world, surf, i)
			}
			c.in.NX[i], c.in.NY[i], c.in.NZ[i] = w.X, w.Y, w.Z
			b := geom.Vec3{Z: 1}
			if normal != nil {
				b = vector(normal, surf, i)
			}
			c.baseN[0][i], c.baseN[1][i], c.baseN[2][i] = b.X, b.Y, b.Z
		}
	})
	return c, err
}

// Reads lists the baked maps that an evaluation of a document takes from.
func Reads(d *strata.Document) []string {
	out := []string{bake.AO, bake.Curvature, bake.WorldNormal, bake.Normal}
	for i := range d.Layers {
		for j := range d.Layers[i].Where {
			c := &d.Layers[i].Where[j]
			k, err := field.KindOf(c.Kind)
			if err != nil {
				continue // evaluating says so
			}
			for _, name := range k.MapsOf(c.Values(k)) {
				if !slices.Contains(out, name) {
					out = append(out, name)
				}
			}
		}
	}
	return out
}

// sample reads a map at a texel of the surface; maps of another size are read bilinearly.
func sample(m *bake.Map, s *surface.Surface, i, channel int) float32 {
	at := int(s.Texel[i])
	if m.Size == s.Size {
		return float32(m.Pix[at*m.Channels+channel]) / 65535
	}
	k := float32(m.Size) / float32(s.Size)
	x, y := (float32(at%s.Size)+0.5)*k-0.5, (float32(at/s.Size)+0.5)*k-0.5
	limit := float32(m.Size - 1)
	x, y = min(max(x, 0), limit), min(max(y, 0), limit)
	x0, y0 := int(x), int(y)
	x1, y1 := min(x0+1, m.Size-1), min(y0+1, m.Size-1)
	fx, fy := x-float32(x0), y-float32(y0)
	v := func(x, y int) float32 { return float32(m.Pix[(y*m.Size+x)*m.Channels+channel]) }
	a := v(x0, y0) + (v(x1, y0)-v(x0, y0))*fx
	b := v(x0, y1) + (v(x1, y1)-v(x0, y1))*fx
	return (a + (b-a)*fy) / 65535
}

func vector(m *bake.Map, s *surface.Surface, i int) geom.Vec3 {
	return geom.Vec3{X: 2*sample(m, s, i, 0) - 1, Y: 2*sample(m, s, i, 1) - 1, Z: 2*sample(m, s, i, 2) - 1}.Norm()
}

// slopes prepares, for each triangle, the change of height along its tangent frame.
func (c *Canvas) slopes(m *mesh.Model) {
	c.slopeAt = map[int32]int32{}
	for _, t := range c.Surf.Set.Tris {
		i := m.Tris[t]
		a, b, d := m.Corners(int(t))
		e1, e2 := b.Sub(a), d.Sub(a)
		u1, u2 := m.UVs[i[1]].Sub(m.UVs[i[0]]), m.UVs[i[2]].Sub(m.UVs[i[0]])
		det := u1.Cross(u2)
		var k slope
		if det != 0 {
			pu := e1.Mul(u2.Y / det).Sub(e2.Mul(u1.Y / det)) // ∂p/∂u
			pv := e2.Mul(u1.X / det).Sub(e1.Mul(u2.X / det)) // ∂p/∂v
			tan := pu.Norm()
			bit := pv.Sub(tan.Mul(pv.Dot(tan))).Norm()
			// ∂h/∂u = pu·g and ∂h/∂v = pv·g, solved for g along tan and bit.
			a11, a21, a22 := pu.Dot(tan), pv.Dot(tan), pv.Dot(bit)
			if a11 != 0 && a22 != 0 {
				k = slope{tu: 1 / a11, bu: -a21 / (a11 * a22), bv: 1 / a22}
			}
		}
		c.slopeAt[t] = int32(len(c.slope))
		c.slope = append(c.slope, k)
	}
	c.slopeOf = make([]int32, c.Surf.Len())
	for i, t := range c.Surf.Tri {
		c.slopeOf[i] = c.slopeAt[t]
	}
}

// Len is how many texels are covered.
func (c *Canvas) Len() int { return c.Surf.Len() }

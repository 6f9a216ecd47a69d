package compose

import (
	"context"
	"math"
	"testing"

	"crust/internal/core/bake"
	"crust/internal/core/field"
	"crust/internal/core/geom"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
)

// pushed is where a warp leads from a place of a level floor: by the noise, seen from above.
func pushed(p geom.Vec3, by, waves float32) geom.Vec3 {
	out := [3]float32{}
	for i, v := range p.Array() {
		n := []float32{0}
		field.Noise([]float32{p.X}, []float32{p.Y}, []float32{p.Z}, waves, 3, 0.5, warpSeeds[i], n)
		out[i] = v + (2*n[0]-1)*by
	}
	return geom.Vec3{X: out[0], Y: out[1], Z: out[2]}
}

// A warped clause reads about its place. What fills space is read at the pushed place; what is known of the surface is read
// where the push leads along it, over seams and from set to set: here a floor cut into 36 shuffled islands of two sets, whose
// occlusion is a ramp across it.
func TestAWarpReadsElsewhere(t *testing.T) {
	const size, by, waves = 256, 0.06, 0.4
	m := cutUp(48, 6, 2, flat)
	sets, err := uv.Sets(m, uv.PerMaterial)
	if err != nil {
		t.Fatal(err)
	}
	maps := map[string]map[string]*bake.Map{}
	b := NewBody(NewCache(64<<20), m, sets, func(set string) (map[string]*bake.Map, error) { return maps[set], nil })
	for i := range sets {
		c, err := NewCanvas(context.Background(), b, &sets[i], size)
		if err != nil {
			t.Fatal(err)
		}
		ao := &bake.Map{Kind: bake.AO, Size: size, Channels: 1, Pix: make([]uint16, size*size)}
		at := places(c)
		for k, n := range c.Surf.Nearest {
			ao.Pix[k] = uint16(min(1, max(0, 0.1+0.8*at[n].X)) * 65535)
		}
		maps[sets[i].Key] = map[string]*bake.Map{bake.AO: ao}
	}
	for _, kind := range []string{"shelter", "reach"} {
		far, crossed, n := 0.0, 0, 0
		for i := range sets {
			c, err := NewCanvas(context.Background(), b, &sets[i], size)
			if err != nil {
				t.Fatal(err)
			}
			d := new(strata.Document)
			coat(d, "#ffffff", func(l *strata.Layer) {
				cl := clauseOf(t, d, kind, nil)
				if kind == "reach" {
					cl.Params["toward"], cl.Params["from"], cl.Params["to"] = 2, 0, 1 // from the left to the right
				}
				cl.Shape.Warp, cl.Shape.Waves = by, waves
				l.Where = []strata.Clause{cl}
			})
			got := fieldOf(t, c, d, 0, d.Layers[0].Where[0].ID)
			for j, p := range places(c) {
				q := pushed(p, by, waves)
				if q.X < 0.01 || q.X > 0.99 || q.Z < 0.01 || q.Z > 0.99 {
					continue // the floor ends there
				}
				at := func(x float32) float64 {
					if kind == "shelter" {
						return 0.9 - 0.8*float64(x)
					}
					return 1 - float64(x)
				}
				far = max(far, math.Abs(float64(got[j])-at(q.X)))
				if math.Abs(float64(got[j])-at(p.X)) > 0.01 {
					crossed++ // it is not what stands at the place itself
				}
				n++
			}
		}
		// Occlusion is read between texels of 8 mm, and at the rims of islands from their padding.
		if limit := map[string]float64{"shelter": 0.012, "reach": 0.002}[kind]; far > limit || crossed < n/4 {
			t.Errorf("%s: off by %.4f at the most; %d of %d places read elsewhere", kind, far, crossed, n)
		}
	}
}

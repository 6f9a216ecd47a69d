package finish

import (
	"math"
	"testing"

	"crust/internal/core/bake"
	"crust/internal/core/compose"
	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
)

// Each finish laid on a model ten times as large looks the same seen from ten times as far: every channel of every texel, but
// for what averages over a radius round off. Maps are the same: they are shares, not lengths.
func TestFinishesGrowWithTheModel(t *testing.T) {
	const size = 128
	small := mesh.BumpySphere(48, 24)
	large := mesh.BumpySphere(48, 24)
	for i, p := range large.Positions {
		large.Positions[i] = p.Mul(10)
	}
	maps := map[string]*bake.Map{}
	for n, kind := range []string{bake.AO, bake.Curvature, bake.Tight, bake.Soft, bake.Thickness} {
		m := &bake.Map{Kind: kind, Size: size, Channels: 1, Pix: make([]uint16, size*size)}
		for i := range m.Pix {
			x, y := float64(i%size)/size, float64(i/size)/size
			m.Pix[i] = uint16(65535 * (0.5 + 0.45*math.Sin(9*x+float64(n))*math.Cos(7*y)))
		}
		maps[kind] = m
	}
	look := func(m *mesh.Model, f *Finish) *compose.Channels {
		sets, err := uv.Sets(m, uv.Single)
		if err != nil {
			t.Fatal(err)
		}
		b := compose.NewBody(compose.NewCache(64<<20), m, sets, func(string) (map[string]*bake.Map, error) { return maps, nil })
		c, err := compose.NewCanvas(t.Context(), b, &sets[0], size)
		if err != nil {
			t.Fatal(err)
		}
		d := new(strata.Document)
		if d.Layers, err = f.Lay(d, nil, float64(m.Bounds().Diagonal())); err != nil {
			t.Fatal(err)
		}
		ch, err := c.Evaluate(t.Context(), d)
		if err != nil {
			t.Fatal(err)
		}
		return ch
	}
	for i := range Finishes {
		f := &Finishes[i]
		a, b := look(small, f), look(large, f)
		var off, tall float64
		for k := range a.Roughness {
			off += math.Abs(float64(a.Roughness[k] - b.Roughness[k]))
			tall += math.Abs(float64(10*a.Height[k] - b.Height[k]))
			for c := range 3 {
				off += math.Abs(float64(a.Base[c][k]-b.Base[c][k])) + math.Abs(float64(a.Normal[c][k]-b.Normal[c][k]))
			}
		}
		n := float64(len(a.Roughness))
		if off /= n; off > 0.02 {
			t.Errorf("%s: channels differ by %.4f in the mean", f.Name, off)
		}
		if tall /= n; tall > 1e-4 {
			t.Errorf("%s: heights differ by %.2g m from ten times as high", f.Name, tall)
		}
	}
}

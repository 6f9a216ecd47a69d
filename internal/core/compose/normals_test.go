package compose

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"crust/internal/core/strata"
	"crust/internal/core/uv"
)

// The vector kernels of slopes do what the plain ones do, also where neighbours are missing.
func TestVectorSlopesMatchThePlainOnes(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 1))
	a, b := new(slopes), new(slopes)
	for i := range a.heights {
		if a.heights[i] = r.Float32() * 0.01; r.IntN(5) == 0 {
			a.heights[i] = nan
		}
	}
	const n = 61
	at := reliefAt(20*64 + 2)
	for i := range n {
		a.heights[at+i] = r.Float32() * 0.01 // the places themselves are there
	}
	for _, p := range [][]float32{a.tu[:n], a.bu[:n], a.bv[:n]} {
		for i := range p {
			p[i] = r.Float32()*400 - 200
		}
	}
	*b = *a
	a.differ(0, at, n)
	b.differPlain(0, at, n)
	a.du[7], a.dv[7], b.du[7], b.dv[7] = 0, 0, 0, 0 // flat: the normal stays as it is, to the bit
	var v, w [3][]float32
	for range n {
		u := unit(r.Float32()-0.5, r.Float32()-0.5, 1)
		for k := range v {
			v[k] = append(v[k], u[k])
		}
	}
	for k := range v {
		w[k] = slices.Clone(v[k])
	}
	was := [3]float32{v[0][7], v[1][7], v[2][7]}
	a.tilt(&v)
	b.tiltPlain(&w, 0)
	for i := range n {
		if math.Abs(float64(a.du[i]-b.du[i])) > 1e-7 || math.Abs(float64(a.dv[i]-b.dv[i])) > 1e-7 {
			t.Fatalf("place %d: differences %g, %g, plain %g, %g", i, a.du[i], a.dv[i], b.du[i], b.dv[i])
		}
		for k := range v {
			if math.Abs(float64(v[k][i]-w[k][i])) > 2e-5 {
				t.Fatalf("place %d: %g, plain %g", i, v[k][i], w[k][i])
			}
		}
	}
	if now := [3]float32{v[0][7], v[1][7], v[2][7]}; now != was {
		t.Errorf("a flat place turned from %v to %v", was, now)
	}
}

// What faces a way after relief is told from the normals that the layers below have given the surface: here sines on a floor
// that is cut into islands of two sets, whose slopes are known in closed form, up to the seams. The height that such a layer lays down
// itself is the same on both sides of a seam.
func TestFacingAfterRelief(t *testing.T) {
	const wide = 0.7
	sum, worst, before, n := 0.0, 0.0, 0.0, 0
	for _, c := range canvases(t, cutUp(24, 3, 2, flat), uv.PerMaterial, func(int) int { return 512 }) {
		waves(t, c)
		d := new(strata.Document)
		high := float32(2 * waveHigh * wide * 1000)
		coat(d, "#336699", func(l *strata.Layer) {
			l.What.Height = strata.Value{On: true, Blend: "over", Opacity: 1, Source: &strata.Source{Kind: "picture", Picture: "h", Of: "grey", Lay: map[string]float64{"by": strata.ByPlane, "size": wide}, Low: -high, High: high}}
		})
		for _, relief := range []float64{1, 0} {
			coat(d, "#ffffff", func(l *strata.Layer) {
				cl := clauseOf(t, d, "facing", map[string]float64{"toward": 2, "cone": 90, "relief": relief})
				l.Where = []strata.Clause{cl}
				l.What.Height = strata.Value{On: true, Number: 0.1, Blend: "add", Opacity: 1}
			})
		}
		after, plain := fieldOf(t, c, d, 1, d.Layers[1].Where[0].ID), fieldOf(t, c, d, 2, d.Layers[2].Where[0].ID)
		for i, p := range places(c) {
			slope := 2 * math.Pi * waveHigh * waveRight * math.Cos(2*math.Pi*waveRight*float64(p.X)/wide)
			deep := 2 * math.Pi * waveHigh * waveDown * math.Cos(2*math.Pi*waveDown*float64(p.Z)/wide)
			want := max(0, -slope/math.Sqrt(1+slope*slope+deep*deep))
			off := math.Abs(float64(after[i]) - want)
			sum, worst, n = sum+off, max(worst, off), n+1
			before = max(before, float64(plain[i]))
		}
		// The step that the second layer makes has no edge where the floor is cut: its normals bend as they do inside.
		ch := evaluate(t, c, d)
		for i := range ch.Normal[2] {
			if ch.Normal[2][i] < 0.97 {
				t.Fatalf("texel %d: the normal's z is %g, as if the surface had an edge there", i, ch.Normal[2][i])
			}
		}
	}
	if mean := sum / float64(n); mean > 0.002 || worst > 0.02 || before > 0 {
		t.Errorf("off by %.4f in the mean and %.4f at the most, and by %g before relief", mean, worst, before)
	}
}

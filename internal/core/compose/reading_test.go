package compose

import (
	"context"
	"math"
	"math/rand/v2"
	"testing"

	"crust/internal/core/field"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/uv"
)

// cloudOn is a cloud of a model that is one set.
func cloudOn(t *testing.T, m *mesh.Model, spacing float32) *cloud {
	t.Helper()
	sets, err := uv.Sets(m, uv.Single)
	if err != nil {
		t.Fatal(err)
	}
	c, err := body(m, sets, nil).newCloud(context.Background(), spacing)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// Averages at scattered places, over the least and the largest radius that a cloud is for, are those over all of its points, wherever
// the cells that these are found by are cut.
func TestAveragesFindAllPoints(t *testing.T) {
	// The plane through a cell's corners cuts the most cells.
	u, v := geom.Vec3{X: 1, Y: -1}.Norm(), geom.Vec3{X: 1, Y: 1, Z: -2}.Norm()
	m := mesh.Grid(2, 2, 0, func(s, t float64) [3]float64 {
		p := u.Mul(float32(s)).Add(v.Mul(float32(t)))
		return [3]float64{float64(p.X), float64(p.Y), float64(p.Z)}
	})
	fine, wide := cloudOn(t, m, 0.006), cloudOn(t, m, 0.0313)
	r := rand.New(rand.NewPCG(9, 9))
	values := fine.values()
	for i := range values {
		values[i] = r.Float32()
	}
	all := make([]int32, len(fine.at))
	for i := range all {
		all[i] = int32(i)
	}
	k := wide.scratch(0)
	k.ctx = context.Background()
	for _, spacings := range []float32{perRadius, perRadius * 1.189} {
		a := &around{cloud: fine, radius: spacings * fine.spacing, values: values}
		read := wide.reading(k, 0, 1)
		got := a.averages(k, wide.ground, 0, read)
		wide.widen(k, 0, field.NeedPlace|field.NeedNormal)
		w := a.weighing()
		for n := 0; n < len(got); n += 7 {
			i := read.nodes[n]
			p, normal := geom.Vec3{X: k.block.X[i], Y: k.block.Y[i], Z: k.block.Z[i]}, geom.Vec3{X: k.block.NX[i], Y: k.block.NY[i], Z: k.block.NZ[i]}
			if area, sum := w.meanPlain(p, normal, fine.at, all, values); math.Abs(float64(got[n]-sum/area)) > 1e-5 {
				t.Fatalf("over %g spacings place %d has %g, want %g", spacings, i, got[n], sum/area)
			}
		}
	}
}

// At the samples of a cloud averages over many spacings are made once for each point. What points take, the mean of their samples, hardly
// differs from what it is with averages at the samples themselves: by the bend of the field over the point, which is of second order.
func TestSamplesOfAPointShareAnAverage(t *testing.T) {
	m := mesh.BumpySphere(48, 24)
	fine, wide := cloudOn(t, m, 0.02), cloudOn(t, m, 0.05)
	// A wave of 1 m and of steepness 2π, averaged over 0.16 m.
	a := &around{cloud: wide, radius: 0.16, values: wide.values()}
	for i := range wide.n {
		p, _ := wide.place(i)
		a.values[i] = float32(math.Sin(2 * math.Pi * float64(p.X)))
	}
	k := fine.scratch(0)
	k.ctx = context.Background()
	nodes, places, off := 0, 0, make([]float32, len(fine.tri))
	for tile := range fine.tiles {
		n := fine.tiles[tile].Len()
		shared, each := fine.reading(k, tile, a.stride(fine.ground)), fine.reading(k, tile, 1)
		got, want := make([]float32, n), make([]float32, n)
		shared.spread(k, fine.ground, tile, a.averages(k, fine.ground, tile, shared), got)
		each.spread(k, fine.ground, tile, a.averages(k, fine.ground, tile, each), want)
		for i := range got {
			off[fine.tiles[tile].From+int32(i)] = got[i] - want[i]
		}
		nodes, places = nodes+len(shared.nodes), places+n
		if len(each.nodes) != n {
			t.Fatalf("tile %d: %d nodes for each of %d samples", tile, len(each.nodes), n)
		}
	}
	if nodes > places/2 {
		t.Errorf("%d averages for %d samples", nodes, places)
	}
	var e errs
	for i := range fine.n {
		mean := float32(0)
		for j := fine.first[i]; j < fine.first[i+1]; j++ {
			mean += off[j] * fine.share[j]
		}
		e.add(float64(mean))
	}
	// (2π)² · 0.02² / 2 = 0.008
	if e.rms() > 0.002 || e.worst > 0.008 {
		t.Errorf("points are %.4f RMS off, %.4f at the most", e.rms(), e.worst)
	}
}

// Where one corner of a cell has no average, the places between have those of the others; where none has, they have none.
func TestCellsDoWithoutACorner(t *testing.T) {
	for _, q := range []struct{ in, want [4]float32 }{
		{[4]float32{1, 2, 3, 4}, [4]float32{1, 2, 3, 4}},
		{[4]float32{1, nan, 3, 5}, [4]float32{1, 3, 3, 5}},
		{[4]float32{nan, nan, nan, 2}, [4]float32{2, 2, 2, 2}},
		{[4]float32{nan, nan, nan, nan}, [4]float32{nan, nan, nan, nan}},
	} {
		got := q.in
		complete(&got)
		for i, v := range got {
			if v != q.want[i] && !(v != v && q.want[i] != q.want[i]) {
				t.Errorf("%v becomes %v, want %v", q.in, got, q.want)
				break
			}
		}
	}
}

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

// A tile whose places lie so far apart that they read tens of thousands of points reads each as weighing them all does. Weights are kept in 8 bits: of some 15 to 20 values from 0 to 1 that is under a hundredth.
func TestScatteredPlacesReadTheirOwnPoints(t *testing.T) {
	// The plane through a cell's corners cuts the most cells.
	u, v := geom.Vec3{X: 1, Y: -1}.Norm(), geom.Vec3{X: 1, Y: 1, Z: -2}.Norm()
	m := mesh.Grid(2, 2, 0, func(s, t float64) [3]float64 {
		p := u.Mul(float32(s)).Add(v.Mul(float32(t)))
		return [3]float64{float64(p.X), float64(p.Y), float64(p.Z)}
	})
	sets, err := uv.Sets(m, uv.Single)
	if err != nil {
		t.Fatal(err)
	}
	b := body(m, sets, nil)
	fine, err := b.newCloud(context.Background(), 0.003)
	if err != nil {
		t.Fatal(err)
	}
	wide, err := b.newCloud(context.Background(), 0.0313)
	if err != nil {
		t.Fatal(err)
	}
	r := rand.New(rand.NewPCG(9, 9))
	values := fine.values()
	for i := range values {
		values[i] = r.Float32()
	}
	k := wide.scratch(0)
	k.ctx = context.Background()
	read := fine.reading(k, wide.ground, 0)
	if lanes*len(read.bunches) < 1<<16 {
		t.Fatalf("%d points are read", lanes*len(read.bunches))
	}
	got := make([]float32, wide.tiles[0].Len())
	read.apply(k, wide.ground, 0, values, got)
	wide.widen(k, 0, field.NeedPlace|field.NeedNormal)
	var round round
	w := weighing{radius: reach * fine.spacing, sheet: perRadius * fine.spacing}
	for i, v := range got {
		p, n := geom.Vec3{X: k.block.X[i], Y: k.block.Y[i], Z: k.block.Z[i]}, geom.Vec3{X: k.block.NX[i], Y: k.block.NY[i], Z: k.block.NZ[i]}
		round.move(fine, fine.fine, fine.cell(p, 2))
		weights := make([]float32, lanes*len(round.bunches))
		w.weighPlain(p, n, fine.at, round.bunches, weights)
		area, sum := summed(weights, round.bunches, values)
		if math.Abs(float64(v-sum/area)) > 0.01 {
			t.Fatalf("place %d reads %g, want %g", i, v, sum/area)
		}
	}
}

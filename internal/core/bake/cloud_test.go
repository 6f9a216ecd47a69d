package bake

import (
	"context"
	"math"
	"testing"

	"crust/internal/core/cells"
	"crust/internal/core/mesh"
)

// A cloud that is made from the points of a finer one is nearer to one of very many samples than one that took its own.
func TestWidenedCloudsReadAsFineOnes(t *testing.T) {
	m := mesh.BumpySphere(128, 64)
	const radius = 0.04
	read := func(r float32, doublings ...int) (out []float64) {
		clouds, err := newClouds(context.Background(), m, m.Normals, r, doublings...)
		if err != nil {
			t.Fatal(err)
		}
		c := clouds[len(clouds)-1]
		var k cells.Near
		for i := 0; i < len(m.Positions); i += 11 {
			out = append(out, float64(c.mean(m.Positions[i], m.Normals[i], &k)*c.radius))
		}
		return out
	}
	apart := func(a, b []float64) float64 {
		sum, spread := 0.0, 0.0
		for i, v := range a {
			sum += (v - b[i]) * (v - b[i])
			spread += v * v
		}
		return math.Sqrt(sum / spread)
	}
	own, widened, finest := read(4*radius, 0), read(radius, 0, 1, 2), read(radius/4, 0, 2, 4)
	if d := apart(finest, widened); d > 0.03 || d > apart(finest, own) {
		t.Errorf("a widened cloud is %.4f off, one of its own samples %.4f", d, apart(finest, own))
	}
}

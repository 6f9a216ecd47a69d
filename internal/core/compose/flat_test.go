package compose

import (
	"math"
	"math/rand/v2"
	"testing"

	"crust/internal/core/strata"
)

// A flattened group makes what it makes open, whatever blend modes, groups, Wheres and channels it holds: straight modes by
// way of two maps, the others as ever. Maps have 16 bits. What lies below can change without a clause in it being evaluated.
func TestAFlattenedGroupMakesWhatItMakesOpen(t *testing.T) {
	c, _ := square(t, 96, nil)
	r := rand.New(rand.NewPCG(5, 5))
	flattened, mixed := 0, 0
	for n := range 60 {
		d := grouped(t, r)
		for i := range d.Layers {
			if l := &d.Layers[i]; !l.Group && r.IntN(2) == 0 {
				l.What.Opacity = strata.Value{On: true, Number: r.Float32(), Blend: "multiply", Opacity: 1}
			}
		}
		open := evaluate(t, c, d)
		closed := d.Clone()
		for i := range closed.Layers {
			if closed.Layers[i].Group {
				closed.Layers[i].Flat = r.IntN(2) == 0
			}
		}
		p := program(t, c, closed)
		for _, s := range p.run {
			if s.flat != nil {
				flattened++
				if s.flat.lines>>planeRoughness&1 == 0 {
					mixed++ // its roughness is laid as ever
				}
			}
		}
		for range 2 { // from nothing, and from what was kept
			got := evaluate(t, c, closed)
			for k, plane := range got.planes() {
				for i, v := range *plane {
					if want := (*open.planes()[k])[i]; math.Abs(float64(v-want)) > 1e-4 {
						t.Fatalf("document %d, plane %d, texel %d: %g, open %g", n, k, i, v, want)
					}
				}
			}
		}
	}
	if flattened < 30 || mixed < 5 || mixed > flattened-5 {
		t.Errorf("%d groups were flattened, %d of them not in roughness", flattened, mixed)
	}

	d := new(strata.Document)
	coat(d, "#886644", nil)
	for k := range 3 {
		coat(d, "#224466", func(l *strata.Layer) {
			l.Where = []strata.Clause{clauseOf(t, d, "noise", map[string]float64{"seed": float64(k)})}
		})
	}
	if _, _, err := d.Apply(strata.Edit{Do: "flatten", Layer: d.Layers[0].ID, Kind: "above"}); err != nil {
		t.Fatal(err)
	}
	evaluate(t, c, d)
	d.Layers[0].What.Roughness.Number = 0.1
	before := c.count.Clauses.Load()
	ch := evaluate(t, c, d)
	if n := c.count.Clauses.Load() - before; n > 0 {
		t.Errorf("%d clauses of a flattened group were evaluated when what lies below it changed", n)
	}
	d.Layers[len(d.Layers)-1].Flat = false
	open := evaluate(t, c, d)
	for i, v := range ch.Roughness {
		if math.Abs(float64(v-open.Roughness[i])) > 1e-4 {
			t.Fatalf("texel %d: %g, open %g", i, v, open.Roughness[i])
		}
	}
}

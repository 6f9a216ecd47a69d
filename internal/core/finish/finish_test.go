package finish

import (
	"context"
	"testing"

	"crust/internal/core/bake"
	"crust/internal/core/compose"
	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
)

// A finish fits itself to models of any size: on a 20 cm and on a 20 m block alike the top paint
// covers most of a young surface and less of an old one, and edges lose theirs first.
func TestWornMarinePaintFitsAnyModel(t *testing.T) {
	f, err := Of("worn-marine-paint")
	if err != nil {
		t.Fatal(err)
	}
	for _, size := range []float64{0.2, 20} {
		m := mesh.Grid(40, 40, 0.02, func(s, t float64) [3]float64 {
			// A slab with a ridge: flat ground and one convex edge.
			y := 0.0
			if s > 0.5 {
				y = (s - 0.5) * -1.5
			}
			return [3]float64{size * s, size * y, size * (1 - t)}
		})
		sets, err := uv.Sets(m, uv.Single)
		if err != nil {
			t.Fatal(err)
		}
		src, err := bake.Prepare(context.Background(), m, nil, bake.Settings{Size: 256, Rays: 16, Samples: 1, Radius: size * 0.02})
		if err != nil {
			t.Fatal(err)
		}
		made, err := src.Bake(context.Background(), &sets[0], []string{bake.AO, bake.Curvature, bake.WorldNormal}, nil)
		if err != nil {
			t.Fatal(err)
		}
		maps := map[string]*bake.Map{}
		for _, k := range made {
			maps[k.Kind] = k
		}
		c, err := compose.NewCanvas(context.Background(), compose.NewBody(compose.NewCache(64<<20), m, sets, func(string) (map[string]*bake.Map, error) { return maps, nil }), &sets[0], 256)
		if err != nil {
			t.Fatal(err)
		}
		cover := map[float64]float64{}
		for _, age := range []float64{0, 0.5, 1} {
			d := new(strata.Document)
			if d.Layers, err = f.Lay(d, map[string]float64{"age": age}, float64(m.Bounds().Diagonal())); err != nil {
				t.Fatal(err)
			}
			if err := d.Check(); err != nil {
				t.Fatalf("age %g: %v", age, err)
			}
			if _, err := c.Evaluate(context.Background(), d); err != nil {
				t.Fatal(err)
			}
			p, err := c.Compile(d)
			if err != nil {
				t.Fatal(err)
			}
			for i := range d.Layers {
				if d.Layers[i].Name == "Top paint" {
					if cover[age], _, err = c.Coverage(context.Background(), p, i); err != nil {
						t.Fatal(err)
					}
				}
			}
		}
		if cover[0] < 0.85 || cover[0.5] >= cover[0] || cover[1] >= cover[0.5] || cover[1] < 0.1 {
			t.Errorf("at %g m the top paint covers %.2f, %.2f and %.2f at age 0, 0.5 and 1; want nearly all, less, less again", size, cover[0], cover[0.5], cover[1])
		}
	}
}

func TestFinishesNameTheirDials(t *testing.T) {
	for _, f := range Finishes {
		if f.Title == "" || f.Help == "" || len(f.Dials) == 0 {
			t.Errorf("%s is not described", f.Name)
		}
		for _, k := range f.Dials {
			for _, v := range []float64{k.Min, k.Default, k.Max} {
				d := new(strata.Document)
				var err error
				if d.Layers, err = f.Lay(d, map[string]float64{k.Name: v}, 3); err == nil {
					err = d.Check()
				}
				if err != nil {
					t.Errorf("%s with %s = %g: %v", f.Name, k.Name, v, err)
				}
			}
		}
	}
}

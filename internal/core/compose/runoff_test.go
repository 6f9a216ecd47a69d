package compose

import (
	"context"
	"math"
	"testing"

	"crust/internal/core/brush"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
)

// running is a document whose layer shows where drops have run down from stroke 1.
func running(t *testing.T, params map[string]float64) *strata.Document {
	t.Helper()
	d := new(strata.Document)
	coat(d, "#ffffff", func(l *strata.Layer) {
		all := map[string]float64{"from": fromPaint, "length": 0.4, "width": 0.06, "wander": 0}
		for k, v := range params {
			all[k] = v
		}
		c := clauseOf(t, d, "runoff", all)
		c.Strokes = strata.Strokes{1}
		l.Where = append(l.Where, c)
	})
	return d
}

// spent is what has become of the drops of a document's only clause.
func spent(t *testing.T, c *Canvas, d *strata.Document) budget {
	t.Helper()
	p := program(t, c, d)
	for _, r := range p.plan.runs {
		if !r.ready(context.Background()) {
			t.Fatal("the drops have not run")
		}
		return r.budget
	}
	t.Fatal("no clause of runoff")
	return budget{}
}

// On an inclined plane a drop runs along the line of steepest descent, whatever islands and sets it crosses: gravity's part in the
// plane. What it leaves lies evenly to both sides, fades downwards and ends after its length; all of it is left or has fallen off.
func TestDropsRunDownTheSteepestWay(t *testing.T) {
	// The plane leans both ways: y = 0.8·(1 − t) + 0.3·s, so it falls along t and against s.
	plane := func(s, t float64) [3]float64 { return [3]float64{s, 0.8*(1-t) + 0.3*s, t} }
	n := geom.Vec3{X: -0.3, Y: 1, Z: 0.8}.Norm()
	down := geom.Vec3{Y: -1}.Add(n.Mul(n.Y)).Norm()
	side := n.Cross(down)
	from := geom.Vec3{X: 0.6, Y: 0.8*0.8 + 0.3*0.6, Z: 0.2}
	m := cutUp(12, 4, 2, plane)
	s := stroke(soft(1), 0.01, 0, func(float64) (p, q [3]float64) {
		return [3]float64{0.6, 0.8*0.8 + 0.18, 0.2}, [3]float64{float64(n.X), float64(n.Y), float64(n.Z)}
	})
	s.Paths[0] = s.Paths[0][:1]
	d := running(t, nil)
	sum, across, most, least, some := 0.0, 0.0, 0.0, 1.0, 0
	var upper, lower float64
	for _, c := range canvases(t, m, uv.PerMaterial, func(int) int { return 512 }) {
		painting(c.body, s)
		got := fieldOf(t, c, d, 0, "")
		for i, p := range places(c) {
			if got[i] == 0 {
				continue
			}
			some++
			way := p.Sub(from)
			x, y := float64(way.Dot(side)), float64(way.Dot(down))
			if math.Abs(x) > 0.0315 || y < -0.035 || y > 0.45 {
				t.Fatalf("%.2f at %.3f m beside and %.3f m down the line", got[i], x, y)
			}
			sum += float64(got[i])
			across += float64(got[i]) * x
			most, least = max(most, y), min(least, y)
			if math.Abs(x) < 0.004 && y > 0.02 && y < 0.06 {
				upper = max(upper, float64(got[i]))
			}
			if math.Abs(x) < 0.004 && y > 0.2 && y < 0.24 {
				lower = max(lower, float64(got[i]))
			}
		}
		if b := spent(t, c, d); b.drops != 1 || math.Abs(b.drops-b.left-b.fell) > 1e-9 || b.fell != 0 {
			t.Errorf("of %g drops %g are left and %g fell", b.drops, b.left, b.fell)
		}
	}
	if some < 500 || math.Abs(across/sum) > 0.0005 {
		t.Errorf("%d texels; the middle of the stain lies %.2f mm beside the line of steepest descent", some, across/sum*1000)
	}
	if most < 0.14 || upper < 0.7 || lower > upper-0.2 {
		t.Errorf("the stain reaches %.3f m down; %.2f near its head, %.2f further down", most, upper, lower)
	}
}

// Drops that come to an edge fall on to what lies below, and off the model where there is nothing; wander and seed change their
// ways, one core or two do not.
func TestDropsFallOnToWhatLiesBelow(t *testing.T) {
	roof := mesh.Grid(6, 6, 0.02, func(s, t float64) [3]float64 { return [3]float64{1 - s, 1 - 0.5*t, 0.5 * t} })
	floor := mesh.Grid(6, 6, 0.02, func(s, t float64) [3]float64 { return [3]float64{1 - s, 0.2 - 0.2*t, 0.2 + t} })
	roof.Append(floor)
	for i := range roof.UVs {
		roof.UVs[i] = geom.Vec2{X: roof.UVs[i].X*0.5 + 0.5*float32(i/49), Y: roof.UVs[i].Y * 0.5}
	}
	sets, err := uv.Sets(roof, uv.Single)
	if err != nil {
		t.Fatal(err)
	}
	c, err := NewCanvas(context.Background(), body(roof, sets, nil), &sets[0], 512)
	if err != nil {
		t.Fatal(err)
	}
	n := geom.Vec3{Y: 1, Z: 1}.Norm()
	s := stroke(soft(1), 0.01, 1, func(s float64) (p, q [3]float64) {
		return [3]float64{0.3 + 0.4*s, 0.9, 0.1}, [3]float64{0, float64(n.Y), float64(n.Z)}
	})
	painting(c.body, s)
	d := running(t, map[string]float64{"length": 20, "width": 0.04, "amount": 800})
	got := fieldOf(t, c, d, 0, "")
	below, before := 0, 0
	for i, p := range places(c) {
		if got[i] == 0 || p.Y > 0.35 {
			continue
		}
		// The edge hangs at z = 0.5; drops land below it and run on towards z = 1.2.
		if p.Z < 0.46 {
			before++
		} else {
			below++
		}
	}
	if below < 1000 || before > 0 {
		t.Errorf("%d texels of the floor are stained below the edge, %d before it", below, before)
	}
	b := spent(t, c, d)
	if b.drops < 8 || math.Abs(b.drops-b.left-b.fell) > 1e-6 || b.fell == 0 {
		t.Errorf("of %g drops %g are left and %g fell", b.drops, b.left, b.fell)
	}
	changes := func(params map[string]float64) bool {
		params["width"], params["amount"] = 0.04, 800
		v := fieldOf(t, c, running(t, params), 0, "")
		for i := range v {
			if v[i] != got[i] {
				return true
			}
		}
		return false
	}
	if changes(map[string]float64{"length": 20}) {
		t.Error("the same drops ran another way")
	}
	if !changes(map[string]float64{"length": 20, "wander": 0.6}) || !changes(map[string]float64{"length": 20, "wander": 0.6, "seed": 2}) {
		t.Error("wander and seed change nothing")
	}
	// From edges, and from a layer: of a body without baked maps there are no edges, of a layer that is everywhere there is all.
	if v := fieldOf(t, c, running(t, map[string]float64{"from": fromEdges}), 0, ""); v[0] != 0 {
		t.Error("drops ran from edges that there are none of")
	}
	e := running(t, map[string]float64{"from": fromLayer, "amount": 200})
	base := e.NewLayer("Everywhere")
	e.Layers = append([]strata.Layer{base}, e.Layers...)
	e.Layers[1].Where[0].Layers = []string{base.ID}
	sum := float32(0)
	for _, v := range fieldOf(t, c, e, 1, "") {
		sum += v
	}
	if share := sum / float32(c.Len()); share < 0.05 || share > 0.9 {
		t.Errorf("%.3f of the surface is stained by drops from all over it", share)
	}
}

// A stroke that drops run from is made first, and they run when it is done: what was evaluated meanwhile does not stand in their way.
func TestDropsRunWhenTheirStrokeIsDone(t *testing.T) {
	m := mesh.Grid(6, 6, 0, func(s, t float64) [3]float64 { return [3]float64{s, 1 - t, t} })
	sets, err := uv.Sets(m, uv.Single)
	if err != nil {
		t.Fatal(err)
	}
	c, err := NewCanvas(context.Background(), body(m, sets, nil), &sets[0], 256)
	if err != nil {
		t.Fatal(err)
	}
	pen, err := brush.NewPen(brush.Stroke{Brush: soft(1), Size: 0.02})
	if err != nil {
		t.Fatal(err)
	}
	n := float32(math.Sqrt2 / 2)
	if err := pen.Add([]brush.Point{{0.3, 0.8, 0.2, 0, n, n, 1}, {0.5, 0.8, 0.2, 0, n, n, 1}}); err != nil {
		t.Fatal(err)
	}
	d := running(t, nil)
	stained := func() (sum float32) {
		painting(c.body, pen.Stroke())
		for _, v := range fieldOf(t, c, d, 0, "") {
			sum += v
		}
		return sum
	}
	if sum := stained(); sum != 0 {
		t.Errorf("drops ran from a stroke that is being made: %g", sum)
	}
	pen.Lift()
	if stained() == 0 {
		t.Error("no drops ran when it was done")
	}
}

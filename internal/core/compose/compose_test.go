package compose

import (
	"context"
	"math"
	"slices"
	"testing"

	"crust/internal/core/bake"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/pixel"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
)

// square is a flat 1 m square on the floor that fills its UV square.
func square(t *testing.T, size int, maps map[string]*bake.Map) (*Canvas, *mesh.Model) {
	t.Helper()
	m := mesh.Grid(4, 4, 0, func(s, t float64) [3]float64 { return [3]float64{s, 0, 1 - t} })
	sets, err := uv.Sets(m, uv.Single)
	if err != nil {
		t.Fatal(err)
	}
	c, err := NewCanvas(context.Background(), m, &sets[0], size, maps)
	if err != nil {
		t.Fatal(err)
	}
	if c.Len() != size*size {
		t.Fatalf("%d texels covered of %d", c.Len(), size*size)
	}
	return c, m
}

func evaluate(t *testing.T, c *Canvas, d *strata.Document) *Channels {
	t.Helper()
	if err := d.Check(); err != nil {
		t.Fatal(err)
	}
	ch, err := c.Evaluate(context.Background(), d)
	if err != nil {
		t.Fatal(err)
	}
	return ch
}

func coat(d *strata.Document, hex string, change func(l *strata.Layer)) {
	l := d.NewLayer("coat " + hex)
	l.What.Colour.Hex = hex
	if change != nil {
		change(&l)
	}
	d.Layers = append(d.Layers, l)
}

func clauseOf(t *testing.T, d *strata.Document, kind string, params map[string]float64) strata.Clause {
	t.Helper()
	c, err := d.NewClause(kind)
	if err != nil {
		t.Fatal(err)
	}
	for k, v := range params {
		c.Params[k] = v
	}
	return c
}

// Simple alpha compositing (W3C, Compositing and Blending Level 1, §5.8) over an opaque ground:
// opacity of the layer, of the channel, and the Where multiply.
func TestLayersCompositeByTheirAlphas(t *testing.T) {
	c, _ := square(t, 16, nil)
	d := new(strata.Document)
	coat(d, "#ff0000", nil)
	coat(d, "#0000ff", func(l *strata.Layer) {
		l.Opacity = 0.5
		l.What.Colour.Opacity = 0.5
		l.What.Roughness.Number = 0.2
	})
	ch := evaluate(t, c, d)
	for i := range c.Len() {
		for k, want := range []float32{0.75, 0, 0.25} {
			if got := ch.Base[k][i]; math.Abs(float64(got-want)) > 1e-4 {
				t.Fatalf("channel %d is %.4f, want %.2f", k, got, want)
			}
		}
		if got := ch.Roughness[i]; math.Abs(float64(got)-(0.6*0.5+0.2*0.5)) > 1e-4 {
			t.Fatalf("roughness %.4f, want 0.4", got)
		}
	}
}

func TestHiddenUntargetedAndCoveredLayersDoNotShow(t *testing.T) {
	c, _ := square(t, 8, nil)
	d := new(strata.Document)
	coat(d, "#808080", nil)
	coat(d, "#ff0000", func(l *strata.Layer) { l.Hidden = true })
	coat(d, "#00ff00", func(l *strata.Layer) { l.Targets = []string{"elsewhere"} })
	ch := evaluate(t, c, d)
	if got := pixel.Q8(ch.Base[0][0]); got != 128 {
		t.Errorf("red is %d, want the grey below: 128", got)
	}
}

// A reach from 0 to 1 m along X is a ramp: its value is the place, and its joins follow the vocabulary.
func TestWheresFollowThePlaceOnTheModel(t *testing.T) {
	c, _ := square(t, 64, nil)
	d := new(strata.Document)
	coat(d, "#ffffff", func(l *strata.Layer) {
		l.Where = []strata.Clause{clauseOf(t, d, "reach", map[string]float64{"toward": 2, "from": 1, "to": 0})}
	})
	l := &d.Layers[0]
	check := func(name string, want func(x float64) float64) {
		t.Helper()
		v, err := c.Field(context.Background(), l, "")
		if err != nil {
			t.Fatal(err)
		}
		for i, got := range v {
			x := float64(c.Surf.Position(i).X)
			if math.Abs(float64(got)-want(x)) > 1e-4 {
				t.Fatalf("%s at x = %.3f: %.4f, want %.4f", name, x, got, want(x))
			}
		}
	}
	check("ramp", func(x float64) float64 { return x })
	second := clauseOf(t, d, "reach", map[string]float64{"toward": 2, "from": 1, "to": 0})
	second.Join = "minus"
	second.Shape.Strength = 0.5
	l.Where = append(l.Where, second)
	check("minus itself at half strength", func(x float64) float64 { return x / 2 })
	l.Where[1].Join, l.Where[1].Shape.Strength, l.Where[1].Shape.Invert = "and", 1, true
	check("and its inverse", func(x float64) float64 { return x * (1 - x) })
	cov, _, err := c.Coverage(context.Background(), l)
	// x(1 − x) is at least 0.05 between (1 ± √0.8)/2.
	if want := math.Sqrt(0.8); err != nil || math.Abs(cov-want) > 0.02 {
		t.Errorf("coverage %.3f, want √0.8 = %.3f", cov, want)
	}
}

// Fields live in space: the same noise at two sizes agrees where texel centres nearly meet, and
// finished Wheres are found again after an undo.
func TestFieldsDoNotDependOnTheSize(t *testing.T) {
	small, _ := square(t, 64, nil)
	large, _ := square(t, 192, nil) // every third texel centre is the same point
	d := new(strata.Document)
	coat(d, "#ffffff", func(l *strata.Layer) {
		l.Where = []strata.Clause{clauseOf(t, d, "noise", map[string]float64{"size": 0.3})}
	})
	a, err := small.Field(context.Background(), &d.Layers[0], "")
	if err != nil {
		t.Fatal(err)
	}
	b, err := large.Field(context.Background(), &d.Layers[0], "")
	if err != nil {
		t.Fatal(err)
	}
	for y := range 64 {
		for x := range 64 {
			if p, q := a[y*64+x], b[(3*y+1)*192+3*x+1]; math.Abs(float64(p-q)) > 1e-3 {
				t.Fatalf("(%d, %d): %.5f at 64 px, %.5f at 192", x, y, p, q)
			}
		}
	}
	evaluate(t, small, d)
	kept := len(small.wheres.at)
	d.Layers[0].Where[0].Params["size"] = 0.2
	evaluate(t, small, d)
	d.Layers[0].Where[0].Params["size"] = 0.3
	evaluate(t, small, d)
	if n := len(small.wheres.at); n != kept+1 {
		t.Errorf("%d Wheres kept after change and undo, want %d", n, kept+1)
	}
}

// Height to normal on an analytic sine: h = a·sin(2πfx) has slope 2πfa·cos(2πfx), so the normal is
// (−slope, 0, 1) normalised; mean angle under 0.5° (checks: height → normal).
func TestNormalsFromHeightMatchASine(t *testing.T) {
	const size, amp, freq = 512, 0.004, 3.0
	c, _ := square(t, size, nil)
	for i := range c.Len() {
		c.ch.Height[i] = float32(amp * math.Sin(2*math.Pi*freq*float64(c.Surf.Position(i).X)))
	}
	if err := c.normals(context.Background(), true); err != nil {
		t.Fatal(err)
	}
	sum, worst := 0.0, 0.0
	for i := range c.Len() {
		slope := 2 * math.Pi * freq * amp * math.Cos(2*math.Pi*freq*float64(c.Surf.Position(i).X))
		l := math.Sqrt(1 + slope*slope)
		dot := (float64(c.ch.Normal[0][i])*-slope + float64(c.ch.Normal[2][i])) / l
		deg := math.Acos(min(1, dot)) * 180 / math.Pi
		sum += deg
		worst = max(worst, deg)
	}
	if mean := sum / float64(c.Len()); mean > 0.5 || worst > 5 {
		t.Errorf("mean %.3f°, worst %.3f°; want under 0.5° and 5°", mean, worst)
	}
}

// Barré-Brisebois & Hill, Blending in Detail (2012): flat is neutral on both sides, and the detail
// follows the base's turn.
func TestReorientedNormalsKeepFlatNeutral(t *testing.T) {
	flat := [3]float32{0, 0, 1}
	for _, n := range [][3]float32{unit(0.3, 0.2, 1), unit(-0.5, 0.1, 1), flat} {
		for _, got := range [][3]float32{Reorient(flat, n), Reorient(n, flat)} {
			for k := range 3 {
				if math.Abs(float64(got[k]-n[k])) > 1e-6 {
					t.Errorf("%v over flat gives %v", n, got)
				}
			}
		}
	}
	// Two turns about the same axis add up: atan of each, 20° and 15°.
	a, b := math.Tan(20*math.Pi/180), math.Tan(15*math.Pi/180)
	got := Reorient(unit(float32(a), 0, 1), unit(float32(b), 0, 1))
	if deg := math.Atan2(float64(got[0]), float64(got[2])) * 180 / math.Pi; math.Abs(deg-35) > 1e-3 {
		t.Errorf("20° and 15° give %.4f°, want 35°", deg)
	}
}

// Maps of another size are read between their texels.
func TestMapsOfAnotherSizeAreReadSmoothly(t *testing.T) {
	m := &bake.Map{Kind: bake.AO, Size: 4, Channels: 1, Pix: make([]uint16, 16)}
	for i := range m.Pix {
		m.Pix[i] = uint16(i%4) * 10000
	}
	c, _ := square(t, 64, map[string]*bake.Map{bake.AO: m})
	for i := range c.Len() {
		x := float64(c.Surf.Position(i).X)
		want := min(3, max(0, x*4-0.5)) * 10000 / 65535
		if got := float64(c.in.AO[i]); math.Abs(got-want) > 1e-4 {
			t.Fatalf("at x = %.3f: %.5f, want %.5f", x, got, want)
		}
	}
}

// A clause reads the curvature of its breadth; the document says which maps are wanted.
func TestClausesReadTheCurvatureOfTheirBreadth(t *testing.T) {
	maps := map[string]*bake.Map{}
	for kind, v := range map[string]uint16{bake.Curvature: 0, bake.Tight: 49151, bake.Soft: 65535} {
		m := &bake.Map{Kind: kind, Size: 64, Channels: 1, Pix: make([]uint16, 64*64)}
		for i := range m.Pix {
			m.Pix[i] = v
		}
		maps[kind] = m
	}
	c, _ := square(t, 64, maps)
	for breadth, want := range map[float64]float64{0: 0, 1: 0.5, 2: 1} {
		d := &strata.Document{}
		coat(d, "#ffffff", func(l *strata.Layer) {
			l.Where = []strata.Clause{clauseOf(t, d, "edges", map[string]float64{"breadth": breadth})}
		})
		kind := map[float64]string{0: bake.Curvature, 1: bake.Tight, 2: bake.Soft}[breadth]
		if reads := Reads(d); !slices.Contains(reads, kind) || breadth != 1 && slices.Contains(reads, bake.Tight) {
			t.Errorf("breadth %g reads %v", breadth, reads)
		}
		w, err := c.Field(context.Background(), &d.Layers[0], "")
		if err != nil {
			t.Fatal(err)
		}
		if math.Abs(float64(w[7])-want) > 1e-3 {
			t.Errorf("breadth %g: %.4f, want %.4f", breadth, w[7], want)
		}
	}
}

func TestEvaluationStopsWhenAsked(t *testing.T) {
	c, _ := square(t, 64, nil)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	d := new(strata.Document)
	coat(d, "#ffffff", nil)
	if _, err := c.Evaluate(ctx, d); err == nil {
		t.Error("a stopped evaluation says that it is done")
	}
	if len(c.wheres.at) > 0 {
		t.Error("a stopped Where is kept")
	}
}

// As the evaluator does it: what one evaluation uses stays until it is done, however much it is; what came
// before goes, the least recently used first.
func TestTheCacheKeepsToItsBound(t *testing.T) {
	const size = 2 << 20 // of one Where, in texels of two bytes
	var c cache
	round := func(keys ...uint64) {
		mark := c.clock
		for _, k := range keys {
			if c.get(k) == nil {
				c.put(k, &where{v: make([]uint16, size)})
			}
		}
		c.trim(mark)
		for _, k := range keys {
			if c.at[k] == nil {
				t.Fatalf("Where %d is gone although this evaluation uses it", k)
			}
		}
	}
	room := cacheBytes / (2 * size)
	for k := range uint64(100) {
		round(1000, k) // 1000 is used each time
		if c.bytes > cacheBytes || c.bytes != 2*size*len(c.at) {
			t.Fatalf("%d MB counted for %d Wheres, the bound is %d", c.bytes>>20, len(c.at), cacheBytes>>20)
		}
	}
	for k := range uint64(100) {
		if kept, want := c.at[k] != nil, int(k) >= 100-(room-1); kept != want {
			t.Errorf("Where %d is kept: %v, want %v", k, kept, want)
		}
	}
	many := make([]uint64, room+5)
	for i := range many {
		many[i] = 2000 + uint64(i)
	}
	round(many...)
	if len(c.at) != len(many) {
		t.Errorf("%d Wheres kept, want the %d in use and no more", len(c.at), len(many))
	}
}

// A layer aimed at a set of another way to split stays on that set's faces.
func TestTargetsHoldAcrossSplits(t *testing.T) {
	m := mesh.Grid(8, 8, 0, func(s, t float64) [3]float64 { return [3]float64{s, t, 0} })
	m.Materials = append(m.Materials, mesh.Material{Name: "right"})
	for i := range m.Tris {
		a, b, c := m.Corners(i)
		if geom.Bary(a, b, c, 1./3, 1./3).X > 0.5 {
			m.Material[i] = 1
		}
	}
	sets, err := uv.Sets(m, uv.Single)
	if err != nil {
		t.Fatal(err)
	}
	c, err := NewCanvas(context.Background(), m, &sets[0], 32, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, q := range []struct {
		target string
		share  float64
		red    func(x float32) bool
	}{
		{"asset", 1, func(float32) bool { return true }},
		{"right", 0.5, func(x float32) bool { return x > 0.5 }},
		{"1001", 1, func(float32) bool { return true }},
		{"1002", 0, func(float32) bool { return false }},
		{"gone", 0, func(float32) bool { return false }},
	} {
		d := new(strata.Document)
		coat(d, "#ff0000", func(l *strata.Layer) { l.Targets = []string{q.target} })
		ch := evaluate(t, c, d)
		for i := range c.Len() {
			if got := ch.Base[0][i] > 0.9; got != q.red(c.Surf.Position(i).X) {
				t.Fatalf("target %s: texel %d at x = %.2f is red: %v", q.target, i, c.Surf.Position(i).X, got)
			}
		}
		covered, targeted, err := c.Coverage(context.Background(), &d.Layers[0])
		if err != nil || math.Abs(covered-q.share) > 1e-9 || math.Abs(targeted-q.share) > 1e-9 {
			t.Errorf("target %s: covers %.3f of %.3f, want %.3f", q.target, covered, targeted, q.share)
		}
	}
}

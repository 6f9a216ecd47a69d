package compose

import (
	"context"
	"math"
	"slices"
	"sync"
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
	c, err := NewCanvas(context.Background(), body(m, sets, maps), &sets[0], size)
	if err != nil {
		t.Fatal(err)
	}
	if c.Len() != size*size {
		t.Fatalf("%d texels covered of %d", c.Len(), size*size)
	}
	return c, m
}

// body is a model whose sets all have the same maps.
func body(m *mesh.Model, sets []uv.Set, maps map[string]*bake.Map) *Body {
	return NewBody(NewCache(64<<20), m, sets, func(string) (map[string]*bake.Map, error) { return maps, nil })
}

// places are the points of all texels.
func places(c *Canvas) (out []geom.Vec3) {
	for t := range c.Surf.Tiles {
		for i := c.Surf.Tiles[t].From; i < c.Surf.Tiles[t].To; i++ {
			out = append(out, c.Position(t, int(i)))
		}
	}
	return out
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

func program(t *testing.T, c *Canvas, d *strata.Document) *Program {
	t.Helper()
	p, err := c.Compile(d)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func fieldOf(t *testing.T, c *Canvas, d *strata.Document, layer int, clause string) []float32 {
	t.Helper()
	v, err := c.Field(context.Background(), program(t, c, d), layer, clause)
	if err != nil {
		t.Fatal(err)
	}
	return v
}

func coverage(t *testing.T, c *Canvas, d *strata.Document, layer int) (covered, targeted float64, err error) {
	t.Helper()
	return c.Coverage(context.Background(), program(t, c, d), layer)
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
		v := fieldOf(t, c, d, 0, "")
		at := places(c)
		for i, got := range v {
			x := float64(at[i].X)
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
	cov, _, err := coverage(t, c, d, 0)
	// x(1 − x) is at least 0.05 between (1 ± √0.8)/2.
	if want := math.Sqrt(0.8); err != nil || math.Abs(cov-want) > 0.02 {
		t.Errorf("coverage %.3f, want √0.8 = %.3f", cov, want)
	}
}

// Fields live in space: the same noise at two sizes agrees where texel centres nearly meet.
func TestFieldsDoNotDependOnTheSize(t *testing.T) {
	small, _ := square(t, 64, nil)
	large, _ := square(t, 192, nil) // every third texel centre is the same point
	d := new(strata.Document)
	coat(d, "#ffffff", func(l *strata.Layer) {
		l.Where = []strata.Clause{clauseOf(t, d, "noise", map[string]float64{"size": 0.3})}
	})
	a, b := fieldOf(t, small, d, 0, ""), fieldOf(t, large, d, 0, "")
	for y := range 64 {
		for x := range 64 {
			if p, q := a[small.Surf.Nearest[y*64+x]], b[large.Surf.Nearest[(3*y+1)*192+3*x+1]]; math.Abs(float64(p-q)) > 1e-3 {
				t.Fatalf("(%d, %d): %.5f at 64 px, %.5f at 192", x, y, p, q)
			}
		}
	}
}

// An edit evaluates what depends on it and nothing else: the work is counted.
func TestAnEditTouchesWhatDependsOnIt(t *testing.T) {
	c, _ := square(t, 256, nil) // 16 tiles
	d := new(strata.Document)
	coat(d, "#806040", nil)
	coat(d, "#ffffff", func(l *strata.Layer) {
		l.Where = []strata.Clause{clauseOf(t, d, "noise", map[string]float64{"size": 0.3}), clauseOf(t, d, "facing", nil)}
	})
	// The top layer shows on the right half alone.
	coat(d, "#3050a0", func(l *strata.Layer) {
		l.Where = []strata.Clause{clauseOf(t, d, "reach", map[string]float64{"toward": 2, "from": 1, "to": 0.5})}
	})
	had := map[int]Keys{}
	var mu sync.Mutex
	count := func(what string, tiles, clauses int64) {
		t.Helper()
		tiles0, clauses0 := c.count.Tiles.Load(), c.count.Clauses.Load()
		p, err := c.Compile(d)
		if err != nil {
			t.Fatal(err)
		}
		err = c.Run(context.Background(), p, Pass{
			Chosen: d.Layers[2].ID,
			Has:    func(tile int) Keys { mu.Lock(); defer mu.Unlock(); return had[tile] },
			Do:     func(_, tile int, is Keys, _ *Channels) { mu.Lock(); defer mu.Unlock(); had[tile] = is },
		})
		if err != nil {
			t.Fatal(err)
		}
		if n, m := c.count.Tiles.Load()-tiles0, c.count.Clauses.Load()-clauses0; n != tiles || m != clauses {
			t.Errorf("%s: %d tiles blended and %d clauses evaluated, want %d and %d", what, n, m, tiles, clauses)
		}
	}
	count("from nothing", 16, 16*3)
	count("nothing changed", 0, 0)
	d.Layers[2].Opacity = 0.5
	count("opacity of the top layer, where it shows", 8, 0)
	d.Layers[0].What.Roughness.Number = 0.1
	count("the bottom layer's value", 16, 0)
	d.Layers[1].Where[0].Params["size"] = 0.2
	count("one noise, with what it is joined to", 16, 16*2)
	d.Layers[1].Where[0].Params["size"] = 0.3
	count("back again", 16, 0)
	d.Layers[1].Hidden = true
	count("a hidden layer", 16, 0)
}

// A program that starts from what was kept under the chosen layer gives the same within two steps of 16 bits.
func TestWhatIsKeptUnderALayerChangesNothing(t *testing.T) {
	c, _ := square(t, 128, nil)
	d := new(strata.Document)
	coat(d, "#806040", nil)
	for i := range worthKeeping + 1 {
		coat(d, "#a03050", func(l *strata.Layer) {
			l.Where = []strata.Clause{clauseOf(t, d, "noise", map[string]float64{"size": 0.1, "seed": float64(i)})}
			l.What.Height.On, l.What.Height.Number = true, 2
		})
	}
	want := evaluate(t, c, d)
	p, err := c.Compile(d)
	if err != nil {
		t.Fatal(err)
	}
	for range 2 { // the second time from what the first has kept
		err = c.Run(context.Background(), p, Pass{Chosen: d.Layers[worthKeeping+1].ID, Do: func(_, tile int, _ Keys, ch *Channels) {
			at := &c.Surf.Tiles[tile]
			got, all := ch.planes(), want.of(int(at.From), int(at.To)).planes()
			for i := range got {
				for j, v := range *got[i] {
					if want := (*all[i])[j]; math.Abs(float64(v-want)) > 2./65535 {
						t.Fatalf("plane %d of tile %d holds %g, want %g", i, tile, v, want)
					}
				}
			}
		}})
		if err != nil {
			t.Fatal(err)
		}
	}
}

// Height to normal on an analytic sine: h = a·sin(2πfx) has slope 2πfa·cos(2πfx), so the normal is
// (−slope, 0, 1) normalised; mean angle under 0.5° (checks: height → normal).
func TestNormalsFromHeightMatchASine(t *testing.T) {
	const size, amp, freq = 512, 0.004, 3.0
	c, _ := square(t, size, nil)
	at := places(c)
	h := make([]float32, c.Len())
	for i := range h {
		h[i] = float32(amp * math.Sin(2*math.Pi*freq*float64(at[i].X)))
	}
	// The heights stand in the cache as if a layer had laid them.
	high := []turn{{step: &step{full: true}}}
	p := &Program{relief: newShape(c, high, high)}
	ch := newChannels(c.Len())
	k := c.begin(t.Context(), 0)
	for n := range c.Surf.Tiles {
		tile := &c.Surf.Tiles[n]
		c.body.cache.put(cacheKey{c.id, int32(n), mix(keptHeight, c.heightKey(k, high, n))}, h[tile.From:tile.To], 0)
	}
	for n := range c.Surf.Tiles {
		tile := &c.Surf.Tiles[n]
		part := ch.of(int(tile.From), int(tile.To))
		copy(part.Height, h[tile.From:tile.To])
		part.Bend = [2][]float32{}
		c.normals(k, p, n, part, part.Height)
	}
	sum, worst := 0.0, 0.0
	for i := range c.Len() {
		slope := 2 * math.Pi * freq * amp * math.Cos(2*math.Pi*freq*float64(at[i].X))
		l := math.Sqrt(1 + slope*slope)
		dot := (float64(ch.Normal[0][i])*-slope + float64(ch.Normal[2][i])) / l
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
	for i, p := range places(c) {
		x := float64(p.X)
		want := min(3, max(0, x*4-0.5)) * 10000 / 65535
		if got := float64(c.in.ao[i]) / 65535; math.Abs(got-want) > 1e-4 {
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
		w := fieldOf(t, c, d, 0, "")
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
	if n := c.count.Tiles.Load(); n > 0 {
		t.Errorf("%d tiles were evaluated after the stop", n)
	}
}

// The cache keeps to its bound; of documents that follow each other, what was used last stays; a canvas that is closed leaves
// nothing.
func TestTheCacheKeepsToItsBound(t *testing.T) {
	const size = 10_000
	c := NewCache(96 * (size + entryBytes))
	key := func(n int) cacheKey { return cacheKey{uint64(n % 2), 0, uint64(n)} }
	for n := range 300 {
		c.turn.Add(1)
		c.put(key(n), n, size)
		c.get(key(0)) // is used each time
	}
	if got, most := c.Bytes(), 96*(size+entryBytes); got > most || got < most-2*(size+entryBytes) {
		t.Errorf("%d bytes are kept of a bound of %d", got, most)
	}
	kept := 0
	for n := range 300 {
		if c.get(key(n)) == nil {
			continue
		}
		if kept++; n != 0 && n < 200 {
			t.Errorf("entry %d is kept", n)
		}
	}
	if kept < 94 || c.get(key(0)) == nil {
		t.Errorf("%d entries are kept, that which was used among them: %v", kept, c.get(key(0)) != nil)
	}
	c.Hold(96*(size+entryBytes), 0.25)
	if got, most := c.Bytes(), 24*(size+entryBytes); got > most || got < most-2*(size+entryBytes) || c.get(key(299)) == nil {
		t.Errorf("%d bytes are kept when memory is short, of a bound of %d", got, most)
	}
	c.forget(0)
	c.forget(1)
	if c.Bytes() != 0 || c.order.Len() != 0 || c.fresh.Len() != 0 || c.young != 0 || len(c.at) != 0 {
		t.Errorf("%d bytes are left of closed canvases", c.Bytes())
	}
}

// Work that needs more room than there is, over and over in the same order, finds most of what has room each time; and what no
// document needs any more gives way.
func TestTheCacheServesWhatDoesNotFit(t *testing.T) {
	const size, fits, wants = 10_000, 96, 150
	c := NewCache(fits * (size + entryBytes))
	round := func(of uint64) (found int) {
		c.turn.Add(1)
		for n := range wants {
			k := cacheKey{of, 0, uint64(n)}
			if c.get(k) != nil {
				found++
			} else {
				c.put(k, n, size)
			}
		}
		return found
	}
	round(1)
	for range 3 {
		if found := round(1); found < fits*3/4 {
			t.Errorf("%d of %d are found again, with room for %d", found, wants, fits)
		}
	}
	round(2)
	round(2)
	round(2)
	if found := round(2); found < fits*3/4 {
		t.Errorf("%d of what is wanted now are found, though no document needs the others", found)
	}
}

// A shelf gives its masks back while there is room, those that were used stay longer, and it knows which were empty after
// they went.
func TestAShelfRemembersWhatWasEmpty(t *testing.T) {
	const tiles, size = 40, 1000
	c := NewCache(tiles*tileOnShelf + entryBytes + 20*(2*size+entryBytes))
	s := c.shelf(shelfKey{7, 1}, tiles)
	for n := range tiles {
		m := &mask{v: make([]uint16, size), shown: n}
		if n%4 == 0 {
			m = &mask{empty: true}
		}
		c.putMask(7, s, n, m)
		c.shelf(shelfKey{7, 1}, tiles)
		c.turn.Add(1)
		if m := s.at[1].Load(); m != nil {
			c.use(&m.used)
		}
		if m := s.at[2].Load(); m != nil && n < 10 {
			c.use(&m.used) // too long ago when room is wanted
		}
	}
	kept := 0
	for n := range tiles {
		m := s.at[n].Load()
		if m.empty != (n%4 == 0) || !m.empty && m.shown != n {
			t.Errorf("tile %d: empty %v, shown on %d", n, m.empty, m.shown)
		}
		if m.v != nil {
			kept++
		}
	}
	// There is room for 20, in two parts of which each may lack some of a mask.
	if kept < 18 || kept > 20 || s.at[1].Load().v == nil || s.at[2].Load().v != nil {
		t.Errorf("%d masks are kept, want some 19 of the last, with that which was used", kept)
	}
	c.forget(7)
	if c.Bytes() != 0 || len(c.shelves) != 0 {
		t.Errorf("%d bytes and %d shelves are left of a closed canvas", c.Bytes(), len(c.shelves))
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
	c, err := NewCanvas(context.Background(), body(m, sets, nil), &sets[0], 32)
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
		for i, p := range places(c) {
			if got := ch.Base[0][i] > 0.9; got != q.red(p.X) {
				t.Fatalf("target %s: texel %d at x = %.2f is red: %v", q.target, i, p.X, got)
			}
		}
		covered, targeted, err := coverage(t, c, d, 0)
		if err != nil || math.Abs(covered-q.share) > 1e-9 || math.Abs(targeted-q.share) > 1e-9 {
			t.Errorf("target %s: covers %.3f of %.3f, want %.3f", q.target, covered, targeted, q.share)
		}
	}
}

// A layer aimed at parts touches those alone, within its sets; a group's parts hold for all that it holds.
func TestLayersAimedAtParts(t *testing.T) {
	m := mesh.Grid(8, 8, 0, func(s, t float64) [3]float64 { return [3]float64{s, 0, 1 - t} })
	m.Parts = []string{"left", "right"}
	for i := range m.Tris {
		a, b, c := m.Corners(i)
		if geom.Bary(a, b, c, 1./3, 1./3).X > 0.5 {
			m.Part[i] = 1
		}
	}
	sets, err := uv.Sets(m, uv.Single)
	if err != nil {
		t.Fatal(err)
	}
	c, err := NewCanvas(context.Background(), body(m, sets, nil), &sets[0], 64)
	if err != nil {
		t.Fatal(err)
	}
	d := new(strata.Document)
	coat(d, "#ff0000", func(l *strata.Layer) { l.Parts = []string{"right", "gone"} })
	coat(d, "#00ff00", func(l *strata.Layer) { l.What.Colour.On, l.What.Metallic.On, l.What.Metallic.Number = false, true, 1 })
	g := d.NewGroup("Group")
	g.Parts, d.Layers[1].In = []string{"left"}, g.ID
	if err := d.Put("", g); err != nil {
		t.Fatal(err)
	}
	ch := evaluate(t, c, d)
	for i, p := range places(c) {
		red, metal := p.X > 0.5, p.X < 0.5
		if (ch.Base[0][i] > 0.99) != red || (ch.Metallic[i] > 0.99) != metal {
			t.Fatalf("at %.3f m: red %g, metallic %g", p.X, ch.Base[0][i], ch.Metallic[i])
		}
	}
	if covered, targeted, err := coverage(t, c, d, 0); err != nil || covered != 0.5 || targeted != 0.5 {
		t.Errorf("%g of %g is covered, want a half of a half: %v", covered, targeted, err)
	}
	if got := d.Reading(&d.Layers[0]); got != "on right, gone, everywhere" {
		t.Errorf("it reads %q", got)
	}
}

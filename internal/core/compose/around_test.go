package compose

import (
	"context"
	"math"
	"math/rand/v2"
	"slices"
	"sync/atomic"
	"testing"

	"crust/internal/core/bake"
	"crust/internal/core/field"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
)

// cutUp is a grid of n × n faces over a shape, whose UVs are k × k square islands, shuffled and turned by quarters. Every
// other island belongs to the second material when there are two.
func cutUp(n, k, materials int, shape func(s, t float64) [3]float64) *mesh.Model {
	m := mesh.Grid(n, n, 0, shape)
	random := rand.New(rand.NewPCG(7, 7))
	cells, turn := random.Perm(k*k), make([]int, k*k)
	for i := range turn {
		turn[i] = random.IntN(4)
	}
	old, made := *m, map[[2]uint32]uint32{}
	m.Positions, m.Normals, m.UVs, m.Channels = nil, nil, nil, nil
	m.Materials = []mesh.Material{{Name: "first"}, {Name: "second"}}[:materials]
	for t, tri := range old.Tris {
		mid := old.UVs[tri[0]].Add(old.UVs[tri[1]]).Add(old.UVs[tri[2]]).Mul(1. / 3)
		block := min(k-1, int(mid.Y*float32(k)))*k + min(k-1, int(mid.X*float32(k)))
		m.Material[t] = int32((block%k + block/k) % materials)
		for c, v := range tri {
			key := [2]uint32{uint32(block), v}
			if _, ok := made[key]; !ok {
				made[key] = uint32(len(m.Positions))
				m.Positions, m.Normals = append(m.Positions, old.Positions[v]), append(m.Normals, old.Normals[v])
				x, y := old.UVs[v].X*float32(k)-float32(block%k)-0.5, old.UVs[v].Y*float32(k)-float32(block/k)-0.5
				for range turn[block] {
					x, y = -y, x
				}
				to := cells[block]
				m.UVs = append(m.UVs, geom.Vec2{X: (float32(to%k) + 0.5 + 0.9*x) / float32(k), Y: (float32(to/k) + 0.5 + 0.9*y) / float32(k)})
			}
			m.Tris[t][c] = made[key]
		}
	}
	return m
}

func flat(s, t float64) [3]float64 { return [3]float64{s, 0, 1 - t} }

// canvases are those of all sets of a model.
func canvases(t *testing.T, m *mesh.Model, split string, size func(i int) int) (out []*Canvas) {
	t.Helper()
	sets, err := uv.Sets(m, split)
	if err != nil {
		t.Fatal(err)
	}
	b := body(m, sets, nil)
	for i := range sets {
		c, err := NewCanvas(context.Background(), b, &sets[i], size(i))
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, c)
	}
	return out
}

// errors of values against what they should be.
type errs struct {
	sum, worst float64
	n          int
}

func (e *errs) add(d float64) {
	e.sum += d * d
	e.worst = max(e.worst, math.Abs(d))
	e.n++
}

func (e *errs) rms() float64 { return math.Sqrt(e.sum / float64(e.n)) }

// convolved is the exact average of f round (x, y) with the kernel (1 − d²/r²)², by a fine polar sum.
func convolved(f func(x, y float64) float64, x, y, r float64) float64 {
	const rings, spokes = 20, 24
	sum, all := 0.0, 0.0
	for i := range rings {
		d := (float64(i) + 0.5) / rings
		w := (1 - d*d) * (1 - d*d) * d
		for k := range spokes {
			a := 2 * math.Pi * (float64(k) + 0.5*float64(i%2)) / spokes
			sum += w * f(x+r*d*math.Cos(a), y+r*d*math.Sin(a))
			all += w
		}
	}
	return sum / all
}

// bars is a document whose first layer shows along reaches: a bar of the square metre, cut sharply.
func bars(t *testing.T, soften float32, whole bool) *strata.Document {
	d := new(strata.Document)
	coat(d, "#ffffff", func(l *strata.Layer) {
		c := clauseOf(t, d, "reach", map[string]float64{"toward": 2, "from": 0.6, "to": 0.4})
		if whole {
			l.Soften = soften
		} else {
			c.Shape.Soften = soften
		}
		l.Where = []strata.Clause{c}
	})
	return d
}

// A ramp from 0.4 to 0.6 m, softened over 10 cm, is the exact convolution, whatever the islands and sets that it runs over.
func TestSofteningIsTheConvolution(t *testing.T) {
	ramp := func(x, _ float64) float64 { return min(1, max(0, (x-0.4)/0.2)) }
	m := cutUp(24, 4, 2, flat)
	for _, whole := range []bool{false, true} {
		d := bars(t, 0.1, whole)
		var e errs
		for _, c := range canvases(t, m, uv.PerMaterial, func(i int) int { return []int{192, 320}[i] }) {
			v, at := fieldOf(t, c, d, 0, ""), places(c)
			for i, p := range at {
				if i%7 == 0 && p.X > 0.12 && p.X < 0.88 && p.Z > 0.12 && p.Z < 0.88 {
					e.add(float64(v[i]) - convolved(ramp, float64(p.X), float64(p.Z), 0.1))
				}
			}
		}
		if e.rms() > 0.005 || e.worst > 0.02 {
			t.Errorf("finished Where %v: %.4f RMS, %.4f at most of a step of 1; want under 0.005 and 0.02", whole, e.rms(), e.worst)
		}
	}
}

// What is softened over 2 cm or read from relief over 1 cm goes on over seams, between islands and sets of unlike texture
// sizes, on a plane and on a pipe of 1 m round, which is as good as flat for such radii: against the exact convolution, and
// the change from one texel to another across a seam against the exact change.
func TestSurroundingsCrossSeams(t *testing.T) {
	pipe := func(s, t float64) [3]float64 {
		return [3]float64{math.Sin(s), math.Cos(s), 1 - t}
	}
	noise, err := field.KindOf("noise")
	if err != nil {
		t.Fatal(err)
	}
	for name, shape := range map[string]func(s, t float64) [3]float64{"plane": flat, "pipe": pipe} {
		m := cutUp(48, 4, 2, shape)
		d := new(strata.Document)
		params := map[string]float64{"size": 0.05, "detail": 3}
		coat(d, "#ffffff", func(l *strata.Layer) {
			l.Where = []strata.Clause{clauseOf(t, d, "noise", params)}
			l.Where[0].Shape.Soften = 0.02
			l.Where[0].Shape.Low, l.Where[0].Shape.High = 0.3, 0.7
		})
		coat(d, "#000000", func(l *strata.Layer) {
			l.What.Height.On, l.What.Height.Number = true, 1
			l.Where = []strata.Clause{clauseOf(t, d, "noise", params)}
		})
		coat(d, "#ff0000", func(l *strata.Layer) {
			l.Where = []strata.Clause{clauseOf(t, d, "relief", map[string]float64{"form": 0, "radius": 0.01, "depth": 0.001})}
		})
		noisy := d.Layers[1].Where[0]
		at := func(x, y float64) float32 {
			p := shape(x, y)
			b := &field.Block{X: []float32{float32(p[0])}, Y: []float32{float32(p[1])}, Z: []float32{float32(p[2])}}
			out := []float32{0}
			noise.Fill(b, noisy.Values(noise), nil, out)
			return out[0]
		}
		soft := func(x, y float64) float64 {
			return convolved(func(x, y float64) float64 { return min(1, max(0, (float64(at(x, y))-0.3)/0.4)) }, x, y, 0.02)
		}
		relief := func(x, y float64) float64 {
			h := func(x, y float64) float64 { return float64(at(x, y)) / 1000 }
			return min(1, max(0, (h(x, y)-convolved(h, x, y, 0.01))/0.001))
		}
		cs := canvases(t, m, uv.PerMaterial, func(i int) int { return []int{768, 512}[i] })
		for layer, exact := range map[int]func(x, y float64) float64{0: soft, 2: relief} {
			type texel struct {
				p          geom.Vec3
				got, exact float64
				set, tri   int
			}
			near := map[[3]int32][]texel{}
			const cell = 0.003
			var values, changes errs
			for set, c := range cs {
				v, at, tris := fieldOf(t, c, d, layer, ""), places(c), triangles(c)
				for tile := range c.tiles {
					for _, s := range c.seams[c.rim.tiles[tile].From:c.rim.tiles[tile].To] {
						i := int(c.tiles[tile].From) + int(s.texel)
						q := texel{p: at[i], got: float64(v[i]), set: set, tri: int(tris[i])}
						// Where it lies on the shape.
						x, y := float64(q.p.X), 1-float64(q.p.Z)
						if name == "pipe" {
							x = math.Atan2(float64(q.p.X), float64(q.p.Y))
						}
						// Only round the places where four islands meet.
						if off := func(v float64) float64 { return math.Abs(v*4 - math.Round(v*4)) }; x < 0.03 || x > 0.97 || y < 0.03 || y > 0.97 || off(x) > 0.05 || off(y) > 0.05 {
							continue
						}
						q.exact = exact(x, y)
						values.add(q.got - q.exact)
						key := [3]int32{int32(q.p.X / cell), int32(q.p.Y / cell), int32(q.p.Z / cell)}
						for _, o := range near[key] {
							if o.tri != q.tri && o.p.Dist(q.p) < cell {
								changes.add((o.got - q.got) - (o.exact - q.exact))
							}
						}
						near[key] = append(near[key], q)
					}
				}
			}
			t.Logf("%s, layer %d: values %.4f RMS, %.4f at most at %d texels; changes %.4f RMS, %.4f at most at %d pairs", name, layer, values.rms(), values.worst, values.n, changes.rms(), changes.worst, changes.n)
			if values.n < 300 || changes.n < 200 || values.rms() > 0.008 || changes.rms() > 0.002 {
				t.Errorf("%s, layer %d: %.4f RMS off at %d texels, want under 0.008; changes across seams %.4f RMS off at %d pairs, want under 0.002", name, layer, values.rms(), values.n, changes.rms(), changes.n)
			}
		}
	}
}

// The same document at 256 and 1024 px has the same softened values where radii are over 4 texels.
func TestSurroundingsDoNotDependOnTheSize(t *testing.T) {
	m := cutUp(16, 2, 1, flat)
	d := new(strata.Document)
	coat(d, "#ffffff", func(l *strata.Layer) {
		c := clauseOf(t, d, "noise", map[string]float64{"size": 0.1})
		c.Shape.Contrast = 0.5
		c.Shape.Soften = 0.03
		l.Where = []strata.Clause{c}
	})
	var e errs
	small, large := canvases(t, m, uv.Single, func(int) int { return 256 })[0], canvases(t, m, uv.Single, func(int) int { return 1024 })[0]
	a, b := fieldOf(t, small, d, 0, ""), fieldOf(t, large, d, 0, "")
	byTexel := map[uint32]int{}
	for i, at := range large.Texels() {
		byTexel[at] = i
	}
	for i, at := range small.Texels() {
		// The four texels in the middle of those that make one of the small picture.
		x, y, sum, n := at%256*4+1, at/256*4+1, float32(0), 0
		for k := range uint32(4) {
			if j, ok := byTexel[(y+k/2)*1024+x+k%2]; ok {
				sum += b[j]
				n++
			}
		}
		if n == 4 {
			e.add(float64(a[i] - sum/4))
		}
	}
	if e.n < 20000 || e.rms() > 0.01 {
		t.Errorf("%.4f RMS apart at %d texels, want under 0.01", e.rms(), e.n)
	}
}

// A plate 4 mm thick, whose two sides hold 1 and 0, keeps them apart when softened over 3 cm.
func TestThinWallsDoNotLeak(t *testing.T) {
	m := mesh.Grid(8, 8, 0, func(s, t float64) [3]float64 { return [3]float64{s, 0.004, 1 - t} })
	under := mesh.Grid(8, 8, 0, func(s, t float64) [3]float64 { return [3]float64{1 - s, 0, 1 - t} })
	for i := range m.UVs {
		m.UVs[i].X /= 2
	}
	for i := range under.UVs {
		under.UVs[i].X = under.UVs[i].X/2 + 0.5
	}
	m.Append(under)
	d := new(strata.Document)
	coat(d, "#ffffff", func(l *strata.Layer) {
		c := clauseOf(t, d, "facing", map[string]float64{"toward": 0, "cone": 60})
		c.Shape.Soften = 0.03
		l.Where = []strata.Clause{c}
	})
	c := canvases(t, m, uv.Single, func(int) int { return 256 })[0]
	v := fieldOf(t, c, d, 0, "")
	for i, p := range places(c) {
		if want := p.Y > 0.002; math.Abs(float64(v[i])-map[bool]float64{true: 1}[want]) > 0.001 {
			t.Fatalf("%.3f at a place on the side at y = %.4f", v[i], p.Y)
		}
	}
}

// Relief of a round rivet, 1 cm wide and 1 mm high: the height less its exact average, in shares of the depth.
func TestReliefIsTheHeightLessItsAverage(t *testing.T) {
	m := cutUp(32, 4, 1, flat)
	cs := canvases(t, m, uv.Single, func(int) int { return 1024 })
	c := cs[0]
	d := new(strata.Document)
	// Four reaches make a frustum that stands in for the rivet: a product of two ramps each way.
	const half, slope = 0.02, 0.01
	coat(d, "#888888", func(l *strata.Layer) {
		l.What.Height.On, l.What.Height.Number = true, 1
		for _, r := range [][3]float64{{2, 0.5 - half + slope, 0.5 - half}, {2, 0.5 + half - slope, 0.5 + half}, {4, 0.5 - half + slope, 0.5 - half}, {4, 0.5 + half - slope, 0.5 + half}} {
			l.Where = append(l.Where, clauseOf(t, d, "reach", map[string]float64{"toward": r[0], "from": r[1], "to": r[2]}))
		}
	})
	height := func(x, y float64) float64 {
		ramp := func(v float64) float64 { return min(1, max(0, (half-math.Abs(v-0.5))/slope)) }
		return ramp(x) * ramp(y)
	}
	for form, sign := range map[float64]float64{0: 1, 1: -1} {
		coat(d, "#ff0000", func(l *strata.Layer) {
			l.Where = []strata.Clause{clauseOf(t, d, "relief", map[string]float64{"form": form, "radius": 0.02, "depth": 0.001})}
		})
		v, at := fieldOf(t, c, d, len(d.Layers)-1, ""), places(c)
		var e errs
		for i, p := range at {
			if x, y := float64(p.X), float64(p.Z); i%5 == 0 && math.Abs(x-0.5) < 0.05 && math.Abs(y-0.5) < 0.05 {
				want := min(1, max(0, sign*(height(x, y)-convolved(height, x, y, 0.02))))
				e.add(float64(v[i]) - want)
			}
		}
		if e.n < 1000 || e.rms() > 0.01 {
			t.Errorf("form %g: %.4f RMS (%.4f at most) of the rivet's height; want under 0.01", form, e.rms(), e.worst)
		}
	}
}

// Rust gathers round what layers below lay down, not round what is hidden, left out or lies above; it moves with it.
func TestReliefFollowsTheLayersBelow(t *testing.T) {
	m := cutUp(16, 2, 1, flat)
	c := canvases(t, m, uv.Single, func(int) int { return 256 })[0]
	stack := func(change func(d *strata.Document)) (*strata.Document, float64, float64) {
		d := new(strata.Document)
		block := func(name string, x float64) strata.Layer {
			l := d.NewLayer(name)
			l.What.Height.On, l.What.Height.Number = true, 1
			l.Where = []strata.Clause{
				clauseOf(t, d, "reach", map[string]float64{"toward": 2, "from": x, "to": x - 0.001}),
				clauseOf(t, d, "reach", map[string]float64{"toward": 2, "from": x + 0.1, "to": x + 0.101})}
			return l
		}
		d.Layers = append(d.Layers, block("left", 0.2), block("right", 0.7))
		coat(d, "#803010", func(l *strata.Layer) {
			l.Name = "rust"
			l.Where = []strata.Clause{clauseOf(t, d, "relief", map[string]float64{"form": 1, "radius": 0.03, "depth": 0.001})}
		})
		change(d)
		if err := d.Check(); err != nil {
			t.Fatal(err)
		}
		_, rust, _ := d.Layer("l7")
		for i := range d.Layers {
			if d.Layers[i].Name == "rust" {
				rust = i
			}
		}
		v, at := fieldOf(t, c, d, rust, ""), places(c)
		sum := [2]float64{}
		for i, p := range at {
			sum[int(p.X*2)] += float64(v[i])
		}
		n := float64(len(at)) / 2
		return d, sum[0] / n, sum[1] / n
	}
	rust := func(d *strata.Document) *strata.Clause { return &d.Layers[len(d.Layers)-1].Where[0] }
	for _, q := range []struct {
		name        string
		change      func(d *strata.Document)
		left, right bool
		reading     string
	}{
		{"all below", func(*strata.Document) {}, true, true, "in crevices of the relief of what lies below"},
		{"one hidden", func(d *strata.Document) { d.Layers[0].Hidden = true }, false, true, "in crevices of the relief of what lies below"},
		{"one named", func(d *strata.Document) {
			rust(d).Params["of"] = 1
			rust(d).Layers = []string{d.Layers[0].ID}
		}, true, false, "in crevices of the relief of “left”"},
		{"all but one", func(d *strata.Document) {
			rust(d).Params["of"] = 2
			rust(d).Layers = []string{d.Layers[0].ID}
		}, false, true, "in crevices of the relief of what lies below but “left”"},
		{"moved below", func(d *strata.Document) {
			rust(d).Params["of"] = 1
			rust(d).Layers = []string{d.Layers[1].ID}
			d.Layers[1], d.Layers[2] = d.Layers[2], d.Layers[1]
		}, false, false, "in crevices of the relief of “right” (not below, so not seen)"},
		{"no height", func(d *strata.Document) { d.Layers[1].What.Height.On = false }, true, false, "in crevices of the relief of what lies below"},
	} {
		d, left, right := stack(q.change)
		if (left > 0.005) != q.left || (right > 0.005) != q.right {
			t.Errorf("%s: rust covers %.4f of the left and %.4f of the right half", q.name, left, right)
		}
		for i := range d.Layers {
			if l := &d.Layers[i]; l.Name == "rust" {
				if got := d.Reading(l); got != q.reading {
					t.Errorf("%s: it reads %q, want %q", q.name, got, q.reading)
				}
			}
		}
	}
	// A block that is moved takes its rust with it.
	_, before, _ := stack(func(d *strata.Document) { d.Layers = d.Layers[0:3:3]; d.Layers[1].Hidden = true })
	_, after, moved := stack(func(d *strata.Document) {
		d.Layers[1].Hidden = true
		d.Layers[0].Where[0].Params = map[string]float64{"toward": 2, "from": 0.7, "to": 0.699}
		d.Layers[0].Where[1].Params = map[string]float64{"toward": 2, "from": 0.8, "to": 0.801}
	})
	if after > 1e-4 || math.Abs(moved-before) > 0.1*before {
		t.Errorf("rust of %.4f on the left became %.4f there and %.4f on the right", before, after, moved)
	}
}

// meanKernel averages the values of bunches round a place.
type meanKernel = func(w *weighing, p, n geom.Vec3, of []bunch, which []int32, values []float32) (all, sum float32)

// kernels are those that this machine has; the vector ones come with the build that has them.
var kernels = map[string]meanKernel{"chosen": (*weighing).mean}

// The vector kernels find and weigh points as the plain ones do.
func TestVectorWeighingMatchesThePlainOne(t *testing.T) {
	m := mesh.BumpySphere(48, 24)
	c := cloudOn(t, m, 0.02)
	random := rand.New(rand.NewPCG(1, 1))
	values := c.values()
	for i := range values {
		values[i] = random.Float32()
	}
	var round round
	left := 0
	for i := 0; i < len(m.Positions); i += 3 {
		w := weighing{radius: 0.065, sheet: 0.07}
		round.move(c, c.cell(m.Positions[i]))
		round.withinPlain(m.Positions[i], w.radius)
		plain := slices.Clone(round.close)
		round.within(m.Positions[i], w.radius)
		if !slices.Equal(round.close, plain) {
			t.Fatalf("vertex %d: bunches %v, plain %v", i, round.close, plain)
		}
		left += len(round.bunches) - len(plain)
		pa, ps := w.meanPlain(m.Positions[i], m.Normals[i], c.at, plain, values)
		for name, mean := range kernels {
			a, s := mean(&w, m.Positions[i], m.Normals[i], c.at, plain, values)
			if pa <= 0 || math.Abs(float64(a-pa)) > 1e-5*float64(pa) || math.Abs(float64(s-ps)) > 1e-5*float64(pa) {
				t.Fatalf("vertex %d, %s: area %g and sum %g, plain %g and %g", i, name, a, s, pa, ps)
			}
		}
	}
	if left == 0 {
		t.Error("no bunch of the cells round a place was too far away")
	}
	// All of the surface is in the points, and samples are shared out whole.
	area := 0.0
	for i := range c.at {
		for _, a := range c.at[i].area {
			area += float64(a)
		}
	}
	if math.Abs(area-c.body.area) > 1e-4*c.body.area {
		t.Errorf("points have %.5f m² of %.5f", area, c.body.area)
	}
}

// A radius that is dragged within the reach of one cloud evaluates nothing at its points again, the opacity of a layer above
// evaluates nothing at all, and the colour of the layer that relief sees leaves its points alone too.
func TestDraggedRadiiEvaluateNoPointAnew(t *testing.T) {
	m := cutUp(16, 2, 1, flat)
	c := canvases(t, m, uv.Single, func(int) int { return 256 })[0]
	d := bars(t, 0.05, false)
	d.Layers[0].What.Height.On, d.Layers[0].What.Height.Number = true, 1
	coat(d, "#ff0000", func(l *strata.Layer) {
		l.Where = []strata.Clause{clauseOf(t, d, "relief", map[string]float64{"radius": 0.06})}
	})
	coat(d, "#00ff00", func(l *strata.Layer) { l.Opacity = 0.5 })
	work := func() (texels, points int64) {
		evaluate(t, c, d)
		for _, o := range c.body.clouds {
			points += o.count.Clauses.Load()
		}
		return c.count.Clauses.Load(), points
	}
	texels, points := work()
	if points == 0 {
		t.Fatal("no point was evaluated")
	}
	for _, q := range []struct {
		name           string
		change         func()
		texels, points bool // whether any are evaluated
	}{
		{"relief over 6.1 cm", func() { d.Layers[1].Where[0].Params["radius"] = 0.061 }, true, false},
		{"opacity of the top layer", func() { d.Layers[2].Opacity = 0.7 }, false, false},
		{"colour of what relief sees", func() { d.Layers[0].What.Colour.Hex = "#123456" }, false, false},
		{"softened over 5.1 cm", func() { d.Layers[0].Where[0].Shape.Soften = 0.051 }, true, true}, // relief sees another height
		{"as it was", func() {
			d.Layers[0].Where[0].Shape.Soften = 0.05
			d.Layers[1].Where[0].Params["radius"] = 0.06
		}, false, false},
	} {
		q.change()
		a, b := work()
		if (a > texels) != q.texels || (b > points) != q.points {
			t.Errorf("%s: %d clauses of tiles and %d of points were evaluated", q.name, a-texels, b-points)
		}
		texels, points = a, b
	}
}

// The smallest and largest radii on models of 10 cm and 200 m do no harm: values stay within 0 and 1, and a radius that is
// larger than the model gives nearly one value all over.
func TestRadiiOfAnySizeOnModelsOfAnySize(t *testing.T) {
	for _, size := range []float64{0.05, 100} {
		m := mesh.Sphere(64, 32, size, [3]float64{})
		c := canvases(t, m, uv.Single, func(int) int { return 128 })[0]
		for _, radius := range []float64{0.0005, 0.01, 1, 20} {
			d := new(strata.Document)
			coat(d, "#ffffff", func(l *strata.Layer) {
				l.What.Height.On, l.What.Height.Number = true, 5
				l.Where = []strata.Clause{clauseOf(t, d, "facing", map[string]float64{"cone": 90})}
				l.Where[0].Shape.Soften, l.Soften = float32(radius), float32(radius)
			})
			coat(d, "#ff0000", func(l *strata.Layer) {
				l.Where = []strata.Clause{clauseOf(t, d, "relief", map[string]float64{"radius": radius})}
			})
			for layer := range d.Layers {
				low, high := float32(2), float32(-1)
				for _, v := range fieldOf(t, c, d, layer, "") {
					if !(v >= 0 && v <= 1) {
						t.Fatalf("%g m over %g m: a value of %g", radius, size, v)
					}
					low, high = min(low, v), max(high, v)
				}
				if layer == 0 && radius > 50*size && high-low > 0.7 {
					t.Errorf("%g m over %g m: values from %g to %g", radius, size, low, high)
				}
			}
		}
	}
}

// Work that is stopped while averages are made, as each step of a dragged radius does, hands out no tile made without them and
// leaves nothing wrong behind: what is evaluated next is what a new canvas gives.
func TestStoppedAveragesLeaveNothingWrong(t *testing.T) {
	m := cutUp(16, 2, 1, flat)
	sets, err := uv.Sets(m, uv.Single)
	if err != nil {
		t.Fatal(err)
	}
	d := bars(t, 0.05, false)
	d.Layers[0].What.Height.On, d.Layers[0].What.Height.Number = true, 1
	coat(d, "#ff0000", func(l *strata.Layer) {
		l.Where = []strata.Clause{clauseOf(t, d, "relief", map[string]float64{"radius": 0.06, "depth": 0.0001})}
	})
	stop := func() {}
	b := NewBody(NewCache(64<<20), m, sets, func(string) (map[string]*bake.Map, error) { stop(); return nil, nil })
	c, err := NewCanvas(context.Background(), b, &sets[0], 256)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	stop = cancel // as the first cloud is made
	err = c.Run(ctx, program(t, c, d), Pass{Do: func(_, tile int, _ Keys, _ *Channels) {
		t.Errorf("tile %d is handed out", tile)
	}})
	if err == nil {
		t.Error("work that was stopped says that it is done")
	}
	stop = func() {}
	got, want := evaluate(t, c, d), evaluate(t, canvases(t, m, uv.Single, func(int) int { return 256 })[0], d)
	for i := range want.Height {
		if got.Base[0][i] != want.Base[0][i] || got.Height[i] != want.Height[i] || got.Normal[0][i] != want.Normal[0][i] {
			t.Fatalf("texel %d differs from a new canvas's", i)
		}
	}
}

// stopsAfter is a context that ends when it was asked a number of times whether it has.
type stopsAfter struct {
	context.Context
	left *atomic.Int64
}

func (s stopsAfter) Err() error {
	if s.left.Add(-1) < 0 {
		return context.Canceled
	}
	return nil
}

// Averages of what is painted that are stopped at any step of being made anew are right when they are made next.
func TestStoppedPaintedAveragesAreMadeNext(t *testing.T) {
	m := cutUp(16, 2, 1, flat)
	document := func(strokes int) *strata.Document {
		d := inStrokes(t, strokes)
		d.Layers[0].Where[0].Shape.Soften = 0.05
		return d
	}
	begin := func() *Canvas {
		c := canvases(t, m, uv.Single, func(int) int { return 128 })[0]
		painting(c.body, across(soft(0.5), 0.2, 0.2, 0.3, 0.7, 0.4), across(soft(0.5), 0.2, 0.3, 0.7, 0.8, 0.6))
		return c
	}
	fresh := begin()
	want, whole := evaluate(t, fresh, document(2)), false
	for asked := int64(0); !whole; asked++ {
		c := begin()
		evaluate(t, c, document(1))
		left := new(atomic.Int64)
		left.Store(asked)
		if err := c.Run(stopsAfter{context.Background(), left}, program(t, c, document(2)), Pass{Do: func(int, int, Keys, *Channels) {}}); err == nil {
			whole = true
		}
		got := evaluate(t, c, document(2))
		for i := range want.Base[0] {
			if got.Base[0][i] != want.Base[0][i] {
				t.Fatalf("stopped when it was asked for the %dth time, texel %d has %.4f, want %.4f", asked, i, got.Base[0][i], want.Base[0][i])
			}
		}
		if asked > 1000 {
			t.Fatal("it is asked without end")
		}
	}
}

// triangles lists that of each texel.
func triangles(c *Canvas) []int32 {
	out := make([]int32, c.Len())
	for t := range c.tiles {
		c.each(t, func(from, to int, tri int32) {
			for i := from; i < to; i++ {
				out[int(c.tiles[t].From)+i] = tri
			}
		})
	}
	return out
}

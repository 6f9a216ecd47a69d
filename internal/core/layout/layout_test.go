package layout

import (
	"context"
	"fmt"
	"math"
	"runtime"
	"strings"
	"testing"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/uv"
)

// torusKnot is the (2, 3) knot with a thick tube.
func torusKnot() *mesh.Model {
	m := mesh.Grid(120, 12, 0, func(s, u float64) [3]float64 {
		a, b := s*2*math.Pi, u*2*math.Pi
		c := func(a float64) [3]float64 {
			r := 2 + math.Cos(3*a)
			return [3]float64{r * math.Cos(2*a), math.Sin(3 * a), r * math.Sin(2*a)}
		}
		p, q := c(a), c(a+1e-3)
		along := sub(q, p)
		along = scaled(along, 1/norm(along))
		n := sub([3]float64{0, 1, 0}, scaled(along, along[1]))
		n = scaled(n, 1/norm(n))
		return add(p, add(scaled(n, 0.6*math.Cos(b)), scaled(cross(along, n), 0.6*math.Sin(b))))
	})
	return welded(m)
}

// welded rounds positions so that a grid's two ends meet exactly.
func welded(m *mesh.Model) *mesh.Model {
	r := func(v float32) float32 { return float32(math.Round(float64(v)*1e5) / 1e5) }
	for i, p := range m.Positions {
		m.Positions[i] = geom.Vec3{X: r(p.X), Y: r(p.Y), Z: r(p.Z)}
	}
	return m
}

// beast is a closed shape with a body, a head and limbs that swell out of it.
func beast() *mesh.Model {
	bulge := [][4]float64{{0.9, 0.35, 0, 0.9}, {0.5, -0.7, 0.5, 0.6}, {0.5, -0.7, -0.5, 0.6}, {-0.6, -0.7, 0.4, 0.6}, {-0.6, -0.7, -0.4, 0.6}, {-0.95, 0.3, 0, 0.4}}
	return welded(mesh.Grid(60, 34, 0, func(s, t float64) [3]float64 {
		a, b := -s*2*math.Pi, (t-0.5)*math.Pi
		x, y, z := math.Cos(b)*math.Cos(a), math.Sin(b), math.Cos(b)*math.Sin(a)
		r := 1.0
		for _, q := range bulge {
			l := math.Sqrt(q[0]*q[0] + q[1]*q[1] + q[2]*q[2])
			d := (x*q[0] + y*q[1] + z*q[2]) / l
			r += q[3] * math.Exp((d-1)*14)
		}
		return [3]float64{1.5 * r * x, r * y, 0.8 * r * z}
	}))
}

func terrain() *mesh.Model {
	return mesh.Grid(56, 56, 0, func(s, t float64) [3]float64 {
		h := 0.06*math.Sin(9*s+1)*math.Cos(7*t) + 0.02*math.Sin(31*s)*math.Sin(27*t+2)
		return [3]float64{s * 4, h * 4, (1 - t) * 4}
	})
}

// bracket is a hard-surface part: boxes and turned pieces with sharp edges.
func bracket(t *testing.T) *mesh.Model {
	var b strings.Builder
	n := 0
	block := func(x, y, z, w, h, d float64) {
		for _, c := range [][3]float64{{0, 0, 0}, {1, 0, 0}, {1, 1, 0}, {0, 1, 0}, {0, 0, 1}, {1, 0, 1}, {1, 1, 1}, {0, 1, 1}} {
			fmt.Fprintf(&b, "v %g %g %g\n", x+c[0]*w, y+c[1]*h, z+c[2]*d)
		}
		for _, f := range [][4]int{{4, 3, 2, 1}, {5, 6, 7, 8}, {1, 2, 6, 5}, {3, 4, 8, 7}, {2, 3, 7, 6}, {4, 1, 5, 8}} {
			fmt.Fprintf(&b, "f %d %d %d %d\n", f[0]+n, f[1]+n, f[2]+n, f[3]+n)
		}
		n += 8
	}
	block(0, 0, 0, 4, 0.5, 3)
	block(0, 0.5, 0, 0.5, 2.5, 3)
	block(1.5, 0.5, 0.5, 1.5, 1.2, 1.5)
	m, err := mesh.Read("bracket.obj", []byte(b.String()), nil)
	if err != nil {
		t.Fatal(err)
	}
	pipe := welded(mesh.Grid(32, 6, 0, func(s, t float64) [3]float64 {
		a := -s * 2 * math.Pi
		return [3]float64{2.2 + 0.6*math.Cos(a), 1.7 + 1.6*t, 1.2 + 0.6*math.Sin(a)}
	}))
	m.Append(pipe)
	m.HasUV = true
	return m
}

func relaid(t *testing.T, m *mesh.Model, o Options) (*mesh.Model, *uv.Map, *Layout) {
	t.Helper()
	sets, err := uv.Sets(m, uv.PerMaterial)
	if err != nil {
		t.Fatal(err)
	}
	l, err := Make(context.Background(), m, sets, o, nil)
	if err != nil {
		t.Fatal(err)
	}
	c := m.Clone()
	if len(c.Channels) == 0 {
		c.Channels = []mesh.Channel{{Name: "UV 1", UVs: c.UVs}}
	}
	if err := c.Choose(c.AddChannel("laid out", l.Corners)); err != nil {
		t.Fatal(err)
	}
	split := uv.PerMaterial
	switch o.Into {
	case OneTile:
		split = uv.Single
	case Tiles:
		split = uv.PerTile
	}
	if sets, err = uv.Sets(c, split); err != nil {
		t.Fatal(err)
	}
	return c, uv.NewMap(c, sets), l
}

// sound: no overlap, the margin kept between islands and half of it to the border, as the findings'
// exact geometry measures them; nothing mirrored; median stretch under 1.15 by singular values; the use
// of the tile.
func sound(t *testing.T, name string, m *mesh.Model, u *uv.Map, l *Layout, margin, use float64) {
	t.Helper()
	ctx := context.Background()
	over, err := u.Overlaps(ctx)
	if err != nil || len(over) > 0 {
		t.Errorf("%s: %d overlaps, %v", name, len(over), err)
	}
	near, err := u.Nearer(ctx, func(int) float64 { return margin * 0.9999 }, nil, func(int, int) bool { return false })
	if err != nil || len(near) > 0 {
		t.Errorf("%s: %d pairs of islands nearer than the margin, %v", name, len(near), err)
	}
	area := make([]float64, len(u.Sets))
	for i := range u.Islands {
		k := &u.Islands[i]
		area[k.Set] += k.UVArea
		if k.Mirrored() {
			t.Errorf("%s: island %d is mirrored", name, i)
		}
		if least := float32(margin/2) * 0.999; k.Min.X < least || k.Min.Y < least || k.Max.X > 1-least || k.Max.Y > 1-least {
			t.Errorf("%s: island %d reaches from %v to %v, nearer to the border than half the margin", name, i, k.Min, k.Max)
		}
	}
	for i, v := range area {
		if v < use || math.Abs(v-l.Report.Used[i]) > 1e-3 {
			t.Errorf("%s: set %d uses %.3f of its tile, the report says %.3f, want over %.2f", name, i, v, l.Report.Used[i], use)
		}
	}
	surface, flat := 0.0, 0.0
	var stretch, weight []float64
	for i := range u.Sets {
		surface, flat = surface+u.Sets[i].Area, flat+u.Sets[i].UVArea
	}
	scale := math.Sqrt(flat / surface)
	for tri := range m.Tris {
		if long, short, ok := uv.Stretch(m, tri); ok {
			stretch, weight = append(stretch, max(long*scale, 1/(short*scale))), append(weight, float64(m.Area(tri)))
		}
	}
	if med := geom.Quantile(stretch, weight, 0.5); med > 1.15 {
		t.Errorf("%s: median stretch %.3f, want under 1.15", name, med)
	}
}

// Use of the tile with the margin that maps need at 2048 px.
func TestLayoutsUseMostOfTheTile(t *testing.T) {
	for _, c := range []struct {
		name string
		m    *mesh.Model
		use  float64
	}{
		{"animal-like", beast(), 0.7},
		{"hard-surface", bracket(t), 0.7},
		{"terrain", terrain(), 0.7},
		{"torus knot", torusKnot(), 0.7},
	} {
		m, u, l := relaid(t, c.m, Options{Into: OneTile, Pixels: 8, Size: 2048})
		t.Logf("%s: %d islands, stretch %.3f, %.3f used", c.name, l.Report.Islands, l.Report.Stretch, l.Report.Used[0])
		if l.Report.Pixels != 8 || len(l.Report.Misses) > 0 {
			t.Errorf("%s: a margin of %g px was kept, want the 8 px asked for; misses %q", c.name, l.Report.Pixels, l.Report.Misses)
		}
		sound(t, c.name, m, u, l, 8./2048, c.use)
	}
}

// What programs for mechanical design write does not cut islands: faces without area, edges that meet in
// a T, more than two faces on an edge, and vertices parted face by face. The engine-like shape has all of
// them, and comes out in far fewer islands than it has flat faces.
func TestFaultsOfTheFileDoNotCutIslands(t *testing.T) {
	m := mesh.Machine(1)
	f := m.Faults()
	if n := len(f.ZeroArea); n < 50 {
		t.Fatalf("the engine has %d faces without area; the test needs some", n)
	}
	if n := len(f.NonManifold); n == 0 {
		t.Fatal("the engine has no edge of more than two faces; the test needs some")
	}
	place := m.WeldNear(m.Tolerance())
	e := m.Edges(place, nil)
	var open []int32
	for s, i := range e.Of {
		if i >= 0 && e.Count[i] == 1 {
			open = append(open, int32(s))
		}
	}
	if n := len(m.Bridges(open, place, m.Tolerance(), func(int32, int32) bool { return true })); n < 100 {
		t.Fatalf("the engine has %d sides in a T; the test needs some", n)
	}
	c, u, l := relaid(t, m, Options{Into: OneTile, Pixels: 8, Size: 2048})
	if l.Report.Pixels != 8 || len(l.Report.Misses) > 0 {
		t.Errorf("a margin of %g px was kept, want 8; misses %q", l.Report.Pixels, l.Report.Misses)
	}
	sound(t, "engine-like", c, u, l, 8./2048, 0.6)
	whole := 0
	for i := range u.Islands {
		if u.Islands[i].UVArea > 0 {
			whole++
		}
	}
	if whole != l.Report.Islands {
		t.Errorf("%d islands in UV space, the report says %d", whole, l.Report.Islands)
	}
	if whole > 400 {
		t.Errorf("%d islands, want fewer than 400", whole)
	}
}

// A square of two halves: one whole side on the left, its right neighbour cut in two, with a face without
// area between them. It lies flat as one island, without a step.
func TestATeeLiesFlatAsOneIsland(t *testing.T) {
	const obj = `
v 0 0 0
v 1 0 0
v 1 1 0
v 0 1 0
v 2 0 0
v 2 1 0
v 1 0.4 0
f 1 2 3
f 1 3 4
f 2 5 7
f 7 5 6
f 7 6 3
f 2 7 3
`
	m, err := mesh.Read("tee.obj", []byte(obj), nil)
	if err != nil {
		t.Fatal(err)
	}
	c, u, l := relaid(t, m, Options{Into: OneTile, Pixels: 8})
	if l.Report.Islands != 1 || l.Report.Worst > 1.001 {
		t.Errorf("%d islands, stretch up to %.4f; want one island as flat as the surface", l.Report.Islands, l.Report.Worst)
	}
	if over, err := u.Overlaps(context.Background()); err != nil || len(over) > 0 {
		t.Errorf("%d overlaps, %v", len(over), err)
	}
	// Lengths on the map are lengths on the model times one factor.
	k := 0.0
	for tri := range c.Tris {
		if c.Area(tri) == 0 {
			continue
		}
		for n := range 3 {
			i, j := c.Tris[tri][n], c.Tris[tri][(n+1)%3]
			uv := c.UVs[i].Sub(c.UVs[j])
			d := math.Hypot(float64(uv.X), float64(uv.Y)) / float64(c.Positions[i].Sub(c.Positions[j]).Len())
			if k == 0 {
				k = d
			}
			if math.Abs(d/k-1) > 1e-3 {
				t.Errorf("side %d of face %d is %.4f × as long as the first, want 1", n, tri, d/k)
			}
		}
	}
}

// Three faces on one edge: the two that go on straight are one island, the third stands apart.
func TestThreeFacesOnAnEdgePairByAngle(t *testing.T) {
	const obj = `
v 0 0 0
v 0 0 1
v -1 0 0
v -1 0 1
v 1 0 0
v 1 0 1
v 0 1 0
v 0 1 1
f 1 2 4
f 1 4 3
f 2 1 5
f 2 5 6
f 2 1 7
f 2 7 8
`
	m, err := mesh.Read("web.obj", []byte(obj), nil)
	if err != nil {
		t.Fatal(err)
	}
	a := newAtlas(m, func(int) int32 { return 0 })
	for i := range a.links {
		l := &a.links[i]
		if x, y := l.a/3, l.b/3; min(x, y)/2 != max(x, y)/2 && max(x, y) >= 4 {
			t.Errorf("faces %d and %d are joined over the edge, want only 0 and 2, which lie in one plane", x, y)
		}
	}
	if len(a.links) != 4 {
		t.Errorf("%d pairs of sides are joined, want 4", len(a.links))
	}
}

// A margin that leaves no room gives way to the largest one that does; the layout says which.
func TestAMarginThatDoesNotFitGivesWay(t *testing.T) {
	var m *mesh.Model
	for i := range 8 {
		s := welded(mesh.Sphere(6, 4, 0.5, [3]float64{float64(i % 8), float64(i / 8), 0}))
		if m == nil {
			m = s
			continue
		}
		for k := range s.Material {
			s.Material[k], s.Part[k] = 0, 0
		}
		m.Append(s)
	}
	_, u, l := relaid(t, m, Options{Into: OneTile, Margin: 0.1})
	r := l.Report
	if r.Margin >= 0.1 || r.Margin <= 0 || math.Abs(r.Asked-0.1*DefaultSize) > 1e-9 || math.Abs(r.Pixels-r.Margin*DefaultSize) > 1e-9 {
		t.Errorf("a margin of %g (%g px) was kept and %g px asked for; want less than 0.1 and 204.8 px", r.Margin, r.Pixels, r.Asked)
	}
	if len(r.Misses) > 0 || r.Used[0] < leastUsed {
		t.Errorf("%.2f of the tile is used, misses %q", r.Used[0], r.Misses)
	}
	near, err := u.Nearer(context.Background(), func(int) float64 { return r.Margin * 0.9999 }, nil, func(int, int) bool { return false })
	if err != nil || len(near) > 0 {
		t.Errorf("%d pairs of islands nearer than the margin that was kept, %v", len(near), err)
	}
}

// The same layout comes out on one core and on two.
func TestLayoutIsTheSameOnAnyNumberOfCores(t *testing.T) {
	m := welded(mesh.Sphere(10, 6, 1, [3]float64{}))
	sets, err := uv.Sets(m, uv.PerMaterial)
	if err != nil {
		t.Fatal(err)
	}
	var of [2]*Layout
	for i := range of {
		before := runtime.GOMAXPROCS(i + 1)
		of[i], err = Make(context.Background(), m, sets, Options{Into: PerSet, Pixels: 4, Size: 512}, nil)
		runtime.GOMAXPROCS(before)
		if err != nil {
			t.Fatal(err)
		}
	}
	for tri := range of[0].Corners {
		if of[0].Corners[tri] != of[1].Corners[tri] {
			t.Fatalf("face %d lies at %v on one core and at %v on two", tri, of[0].Corners[tri], of[1].Corners[tri])
		}
	}
}

func TestTilesAndSetsOfTheirOwn(t *testing.T) {
	m := welded(mesh.Sphere(10, 6, 1, [3]float64{}))
	m.Append(welded(mesh.Sphere(8, 6, 0.6, [3]float64{3, 0, 0})))
	_, u, l := relaid(t, m, Options{Into: Tiles, Tiles: 3, Margin: 0.02})
	if len(u.Sets) != 3 || len(l.Report.Used) != 3 {
		t.Fatalf("%d tiles used of 3, the report has %d", len(u.Sets), len(l.Report.Used))
	}
	if over, err := u.Overlaps(context.Background()); err != nil || len(over) > 0 {
		t.Errorf("%d overlaps, %v", len(over), err)
	}
	_, u, _ = relaid(t, m, Options{Into: PerSet, Margin: 0.02})
	if len(u.Sets) != 2 {
		t.Fatalf("%d sets, want 2", len(u.Sets))
	}
	if over, err := u.Overlaps(context.Background()); err != nil || len(over) > 0 {
		t.Errorf("%d overlaps, %v", len(over), err)
	}
	for _, o := range []Options{{Into: "heap"}, {Into: Tiles}, {Into: OneTile, Margin: 0.5}} {
		if _, err := Make(context.Background(), m, u.Sets, o, nil); err == nil {
			t.Errorf("%+v was accepted", o)
		}
	}
	stopped, stop := context.WithCancel(context.Background())
	stop()
	if _, err := Make(stopped, m, u.Sets, Options{Into: OneTile, Margin: 0.02}, nil); err == nil {
		t.Error("a stopped layout was made")
	}
}

// A picture whose texels are a function of their place on the model is the same function after it was
// carried over; a tangent-space normal still points the same way on the model.
func TestCarriedPicturesMeanTheSame(t *testing.T) {
	old := mesh.Sphere(40, 24, 1, [3]float64{})
	sets, _ := uv.Sets(old, uv.Single)
	fresh, u, _ := relaid(t, old, Options{Into: OneTile, Margin: 0.02})
	const size = 256
	colour := func(p geom.Vec3) [4]float32 {
		return [4]float32{0.5 + 0.4*p.X, 0.5 + 0.4*p.Y, 0.5 + 0.4*p.Z, 0.5 + 0.5*p.Y}
	}
	lean := func(p geom.Vec3) geom.Vec3 { return p.Add(geom.Vec3{X: 0.3, Y: 0.2 * p.Z, Z: -0.2}).Norm() }
	paint := func(m *mesh.Model, set *uv.Set, f func(t int, u, v float32, out []float32), channels int) *Picture {
		p := &Picture{Width: size, Height: size, Channels: channels, Pix: make([]uint16, size*size*channels)}
		val := make([]float32, channels)
		for _, tri := range set.Tris {
			// A texel beyond the face as well, so that sampling between texels finds it.
			for _, d := range [][2]float32{{1, 0}, {-1, 0}, {0, 1}, {0, -1}, {0, 0}} {
				uv.Raster(m, set, int(tri), size, d[0], d[1], func(at int, u, v float32) {
					f(int(tri), u, v, val)
					for k, x := range val {
						p.Pix[at*channels+k] = uint16(geom.Clamp01(x)*65535 + 0.5)
					}
				})
			}
		}
		return p
	}
	place := func(m *mesh.Model, tri int, u, v float32) geom.Vec3 {
		a, b, c := m.Corners(tri)
		return geom.Bary(a, b, c, u, v).Norm()
	}
	check := func(name string, got *Picture, want func(tri int, u, v float32) []float32, limit float64) {
		t.Helper()
		worst, sum, n := 0.0, 0.0, 0
		for _, tri := range u.Sets[0].Tris {
			uv.Raster(fresh, &u.Sets[0], int(tri), size, 0, 0, func(at int, b, c float32) {
				if p := place(fresh, int(tri), b, c); b < 0.1 || c < 0.1 || b+c > 0.9 || p.Y > 0.97 || p.Y < -0.97 {
					return
				}
				for k, w := range want(int(tri), b, c) {
					d := math.Abs(float64(w) - float64(got.Pix[at*got.Channels+k])/65535)
					worst, sum, n = max(worst, d), sum+d, n+1
				}
			})
		}
		if mean := sum / float64(n); n < 1000 || mean > limit || worst > 12*limit {
			t.Errorf("%s: mean difference %.4f, worst %.4f over %d values; want under %g and %g", name, mean, worst, n, limit, 12*limit)
		}
	}
	was := paint(old, &sets[0], func(tri int, b, c float32, out []float32) {
		v := colour(place(old, tri, b, c))
		copy(out, v[:])
	}, 4)
	from, to := Side{old, sets}, Side{fresh, u.Sets}
	got, ok, err := Carry(context.Background(), from, to, &u.Sets[0], map[string]*Picture{uv.SingleKey: was}, Colour, size, 4)
	if err != nil || !ok {
		t.Fatal(ok, err)
	}
	check("colour", got, func(tri int, b, c float32) []float32 { v := colour(place(fresh, tri, b, c)); return v[:] }, 0.004)

	tan := old.Tangents()
	was = paint(old, &sets[0], func(tri int, b, c float32, out []float32) {
		n, _ := old.FrameAt(tan, tri, b, c).Local(lean(place(old, tri, b, c)))
		out[0], out[1], out[2] = (n.X+1)/2, (n.Y+1)/2, (n.Z+1)/2
	}, 3)
	if got, ok, err = Carry(context.Background(), from, to, &u.Sets[0], map[string]*Picture{uv.SingleKey: was}, TangentNormal, size, 3); err != nil || !ok {
		t.Fatal(ok, err)
	}
	newTan := fresh.Tangents()
	check("normal", got, func(tri int, b, c float32) []float32 {
		n, _ := fresh.FrameAt(newTan, tri, b, c).Local(lean(place(fresh, tri, b, c)))
		return []float32{(n.X + 1) / 2, (n.Y + 1) / 2, (n.Z + 1) / 2}
	}, 0.004)
}

// Averaging colours with alpha multiplied in (Porter & Duff, 1984): a clear texel's colour does not
// bleed into its neighbours.
func TestClearTexelsDoNotBleed(t *testing.T) {
	p := &Picture{Width: 2, Height: 1, Channels: 4, Pix: []uint16{65535, 0, 0, 65535, 0, 65535, 0, 0}}
	var v [4]float32
	p.sample(geom.Vec2{X: 0.5, Y: 0.5}, true, &v)
	if v[0] != 0.5 || v[1] != 0 || v[3] != 0.5 {
		t.Errorf("half of opaque red and half of clear green is %v, want (0.5, 0, 0, 0.5) with alpha multiplied in", v)
	}
}

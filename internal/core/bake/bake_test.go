package bake

import (
	"context"
	"math"
	"runtime"
	"slices"
	"testing"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
)

// patch is a 2 mm square at the origin facing up, so small that all its texels see the same.
func patch() *mesh.Model {
	const h = 0.001
	m := mesh.Grid(1, 1, 0, func(s, t float64) [3]float64 { return [3]float64{h * (2*s - 1), 0, h * (1 - 2*t)} })
	m.Materials[0].Name = "patch"
	return m
}

func bakeFirst(t *testing.T, m, high *mesh.Model, s Settings, kinds ...string) (*Source, *uv.Set, []*Map) {
	t.Helper()
	src, err := Prepare(context.Background(), m, high, s)
	if err != nil {
		t.Fatal(err)
	}
	sets, err := uv.Sets(m, uv.PerMaterial)
	if err != nil {
		t.Fatal(err)
	}
	maps, err := src.Bake(context.Background(), &sets[0], kinds, nil)
	if err != nil {
		t.Fatal(err)
	}
	return src, &sets[0], maps
}

func meanOf(m *Map) float64 {
	s := 0.0
	for _, v := range m.Pix {
		s += float64(v) / 65535
	}
	return s / float64(len(m.Pix))
}

// Visibility is one less the view factor of a small plane element (Howell, A Catalog of Radiation
// Heat Transfer Configuration Factors): sphere overhead (R/h)², coaxial parallel disk R²/(R²+h²),
// long wall ½(1 − d/√(d²+h²)). At 1,024 rays within 0.01.
func TestOcclusionMatchesViewFactors(t *testing.T) {
	disk := func(r, h float64) *mesh.Model {
		return mesh.Grid(256, 1, 0, func(s, t float64) [3]float64 {
			a := 2 * math.Pi * s
			return [3]float64{r * t * math.Cos(a), h, r * t * math.Sin(a)}
		})
	}
	wall := func(d, h float64) *mesh.Model {
		return mesh.Grid(1, 1, 0, func(s, t float64) [3]float64 { return [3]float64{d, h * t, 2000 * (s - 0.5)} })
	}
	for _, c := range []struct {
		name   string
		block  *mesh.Model
		factor float64
	}{
		{"sphere R 0.5 at 1", mesh.Sphere(128, 64, 0.5, [3]float64{0, 1, 0}), 0.25},
		{"sphere R 0.8 at 1", mesh.Sphere(128, 64, 0.8, [3]float64{0, 1, 0}), 0.64},
		{"disk R 1 at 1", disk(1, 1), 0.5},
		{"disk R 0.5 at 1", disk(0.5, 1), 0.2},
		{"wall 1 high at 0.5", wall(0.5, 1), 0.5 * (1 - 0.5/math.Sqrt(1.25))},
		{"wall 3 high at 0.2", wall(0.2, 3), 0.5 * (1 - 0.2/math.Sqrt(9.04))},
	} {
		m := patch()
		m.Append(c.block)
		_, _, maps := bakeFirst(t, m, nil, Settings{Size: 64, Rays: 1024, Samples: 1}, AO)
		if got := meanOf(maps[0]); math.Abs(got-(1-c.factor)) > 0.003 {
			t.Errorf("%s: mean visibility %.4f, the view factor gives %.4f", c.name, got, 1-c.factor)
		}
		for _, v := range maps[0].Pix {
			if math.Abs(float64(v)/65535-(1-c.factor)) > 0.012 {
				t.Errorf("%s: a texel has %.4f, the view factor gives %.4f ± 0.01", c.name, float64(v)/65535, 1-c.factor)
				break
			}
		}
	}
}

func TestOcclusionRaysStopAtTheirLimit(t *testing.T) {
	m := patch()
	m.Append(mesh.Sphere(64, 32, 0.5, [3]float64{0, 1, 0}))
	_, _, maps := bakeFirst(t, m, nil, Settings{Size: 64, Rays: 64, Samples: 1, Far: 0.4}, AO)
	if got := meanOf(maps[0]); got != 1 {
		t.Errorf("visibility %.4f with rays that end 0.1 m short of the blocker, want 1", got)
	}
}

// Burley 2020: the error of scrambled Sobol points falls faster than that of random ones, whose
// standard error is √(p(1−p)/n).
func TestOcclusionErrorIsBelowRandomSampling(t *testing.T) {
	m := patch()
	m.Append(mesh.Sphere(128, 64, 0.5, [3]float64{0.3, 1, 0.2}))
	_, _, maps := bakeFirst(t, m, nil, Settings{Size: 64, Rays: 256, Samples: 1}, AO)
	mean, sq := meanOf(maps[0]), 0.0
	for _, v := range maps[0].Pix {
		d := float64(v)/65535 - mean
		sq += d * d
	}
	got, random := math.Sqrt(sq/float64(len(maps[0].Pix))), math.Sqrt(mean*(1-mean)/256)
	if got > random/2 {
		t.Errorf("standard deviation %.5f between texels, random rays would have %.5f; want under half", got, random)
	}
}

// coveredValues returns the values of a one-channel map at covered texels clear of the set's rim.
func coveredValues(set *uv.Set, m *mesh.Model, mp *Map, keep func(p geom.Vec3) bool) (out []float64) {
	surf := surface.Rasterise(m, set, mp.Size, 0, 0)
	for i := range surf.Len() {
		if keep(surf.Position(i)) {
			out = append(out, float64(mp.Pix[int(surf.Texel[i])*mp.Channels])/65535)
		}
	}
	return out
}

// Mean curvature of a sphere is 1/R, of a cylinder 1/(2R), of a plane 0, and of the saddle
// z = xy at its centre 0; inside out the sign turns (differential geometry). Stored is 0.5 + H·r/2.
func TestCurvatureOfKnownSurfacesAtThreeTessellations(t *testing.T) {
	const radius = 0.1
	cylinder := func(n int) *mesh.Model {
		return mesh.Grid(n, n, 0.02, func(s, t float64) [3]float64 {
			a := -2 * math.Pi * s
			return [3]float64{0.4 * math.Cos(a), 2 * (t - 0.5), 0.4 * math.Sin(a)}
		})
	}
	saddle := func(n int) *mesh.Model {
		return mesh.Grid(n, n, 0.02, func(s, t float64) [3]float64 {
			x, y := s-0.5, 0.5-t
			return [3]float64{x, x * y, y}
		})
	}
	plane := func(n int) *mesh.Model {
		return mesh.Grid(n, n, 0.02, func(s, t float64) [3]float64 { return [3]float64{s, 0, 1 - t} })
	}
	inward := func(n int) *mesh.Model {
		m := mesh.Sphere(2*n, n, 0.5, [3]float64{})
		for i := range m.Tris {
			m.Tris[i][1], m.Tris[i][2] = m.Tris[i][2], m.Tris[i][1]
		}
		for i := range m.Normals {
			m.Normals[i] = m.Normals[i].Neg()
		}
		return m
	}
	anywhere := func(geom.Vec3) bool { return true }
	for _, c := range []struct {
		name  string
		make  func(n int) *mesh.Model
		keep  func(geom.Vec3) bool
		want  float64
		allow float64
	}{
		{"sphere", func(n int) *mesh.Model { return mesh.Sphere(2*n, n, 0.5, [3]float64{}) }, func(p geom.Vec3) bool { return p.Y < 0.4 && p.Y > -0.4 }, 2, 0.05},
		{"hollow sphere", inward, func(p geom.Vec3) bool { return p.Y < 0.4 && p.Y > -0.4 }, -2, 0.05},
		{"cylinder", cylinder, func(p geom.Vec3) bool { return p.Y < 0.8 && p.Y > -0.8 }, 1.25, 0.05},
		{"plane", plane, anywhere, 0, 0.001},
		{"saddle", saddle, func(p geom.Vec3) bool { return p.X*p.X+p.Z*p.Z < 0.01 }, 0, 0.03},
	} {
		for _, n := range []int{24, 48, 120} {
			m := c.make(n)
			_, set, maps := bakeFirst(t, m, nil, Settings{Size: 128, Rays: 1, Samples: 1, Radius: radius}, Curvature)
			worst := 0.0
			for _, v := range coveredValues(set, m, maps[0], c.keep) {
				worst = max(worst, math.Abs((v-0.5)*2/radius-c.want))
			}
			if allow := max(c.allow, 0.05*math.Abs(c.want)); worst > allow {
				t.Errorf("%s at %d divisions: curvature off by %.4f 1/m from %.3f, allowed %.4f", c.name, n, worst, c.want, allow)
			}
		}
	}
}

// A right-angled edge is convex at any resolution, a right-angled corner concave, and both fade to
// flat one radius away.
func TestCurvatureOfHardEdges(t *testing.T) {
	fold := func(sign float64) *mesh.Model {
		top := mesh.Grid(8, 8, 0.02, func(s, t float64) [3]float64 { return [3]float64{s - 1, 0, 1 - t} })
		side := mesh.Grid(8, 8, 0.02, func(s, t float64) [3]float64 { return [3]float64{0, sign * s, 1 - t} })
		if sign > 0 { // the wall rises and looks back over the floor
			side = mesh.Grid(8, 8, 0.02, func(s, t float64) [3]float64 { return [3]float64{0, s, 1 - t} })
		}
		top.Materials[0].Name = "top"
		top.Append(side)
		return top
	}
	for _, sign := range []float64{-1, 1} {
		m := fold(sign)
		_, set, maps := bakeFirst(t, m, nil, Settings{Size: 256, Rays: 1, Samples: 1, Radius: 0.05}, Curvature)
		near := coveredValues(set, m, maps[0], func(p geom.Vec3) bool { return p.X > -0.005 && p.Z > 0.1 && p.Z < 0.9 })
		far := coveredValues(set, m, maps[0], func(p geom.Vec3) bool { return p.X < -0.055 })
		for _, v := range near {
			if -sign*(v-0.5) < 0.2 {
				t.Errorf("fold %+.0f: value %.3f beside the edge, want well to the %+.0f side of 0.5", sign, v, -sign)
				break
			}
		}
		for _, v := range far {
			if math.Abs(v-0.5) > 1e-4 {
				t.Errorf("fold %+.0f: value %.4f a radius away, want 0.5", sign, v)
				break
			}
		}
	}
}

// The normal of an analytic sphere baked onto a coarse one: mean angle under 0.5°, none over 5°.
func TestNormalsFromAnAnalyticSphere(t *testing.T) {
	low := mesh.Sphere(24, 12, 0.5, [3]float64{})
	high := mesh.Sphere(400, 200, 0.5, [3]float64{})
	_, set, maps := bakeFirst(t, low, high, Settings{Size: 256, Rays: 1, Samples: 1, Front: 0.05, Rear: 0.05}, Normal, WorldNormal)
	if maps[0].Missed > 0 {
		t.Errorf("%d texels missed the high-poly", maps[0].Missed)
	}
	surf := surface.Rasterise(low, set, 256, 0, 0)
	tangents := low.Tangents()
	sum, worst, n := 0.0, 0.0, 0
	for i := range surf.Len() {
		p := surf.Position(i)
		if p.Y > 0.47 || p.Y < -0.47 {
			continue // the pole's triangles have no width in UV space there
		}
		at := int(surf.Texel[i]) * 3
		d := func(m *Map) geom.Vec3 {
			f := func(k int) float32 { return float32(m.Pix[at+k])/65535*2 - 1 }
			return geom.Vec3{X: f(0), Y: f(1), Z: f(2)}
		}
		// Decoded with the same frame that MikkTSpace prescribes for the shader.
		k := tangents[surf.Tri[i]]
		vn := surf.Normal(i)
		vt := geom.Bary(k[0].XYZ(), k[1].XYZ(), k[2].XYZ(), surf.U[i], surf.V[i])
		vb := vn.Cross(vt).Mul(k[0].W)
		ts := d(maps[0])
		back := vt.Mul(ts.X).Add(vb.Mul(ts.Y)).Add(vn.Mul(ts.Z)).Norm()
		want := p.Norm()
		for _, got := range []geom.Vec3{back, d(maps[1]).Norm()} {
			deg := math.Acos(min(1, float64(got.Dot(want)))) * 180 / math.Pi
			sum += deg
			worst = max(worst, deg)
			n++
		}
	}
	if mean := sum / float64(n); mean > 0.5 || worst > 5 {
		t.Errorf("mean angle %.3f°, worst %.2f°; want under 0.5° and 5°", mean, worst)
	}
}

// glTF 2.0 §3.9: green up. A bump's slope that faces growing V is greener than flat.
func TestTangentNormalIsGreenUp(t *testing.T) {
	flat := func(s, t float64) [3]float64 { return [3]float64{s, 0, 1 - t} }
	bump := func(s, t float64) [3]float64 {
		return [3]float64{s, 0.05 * math.Exp(-40*((s-0.5)*(s-0.5)+(t-0.5)*(t-0.5))), 1 - t}
	}
	low, high := mesh.Grid(2, 2, 0, flat), mesh.Grid(200, 200, 0, bump)
	_, _, maps := bakeFirst(t, low, high, Settings{Size: 64, Rays: 1, Samples: 1, Front: 0.1, Rear: 0.1}, Normal)
	at := func(u, v float64) []uint16 {
		i := (int((1-v)*64)*64 + int(u*64)) * 3
		return maps[0].Pix[i : i+3]
	}
	if g := at(0.5, 0.65)[1]; g < 40000 {
		t.Errorf("green is %d above the bump, want well over 32768", g)
	}
	if r := at(0.65, 0.5)[0]; r < 40000 {
		t.Errorf("red is %d right of the bump, want well over 32768", r)
	}
	if g := at(0.5, 0.35)[1]; g > 26000 {
		t.Errorf("green is %d below the bump, want well under 32768", g)
	}
}

func TestPositionIsThePlaceInTheBox(t *testing.T) {
	m := mesh.Grid(4, 4, 0, func(s, t float64) [3]float64 { return [3]float64{2 * s, 3 * s, 4 * (1 - t)} })
	_, set, maps := bakeFirst(t, m, nil, Settings{Size: 64, Rays: 1, Samples: 1}, Position)
	if maps[0].Box != (Corners{{0, 0, 0}, {2, 3, 4}}) {
		t.Errorf("the box kept with the map is %v", maps[0].Box)
	}
	surf := surface.Rasterise(m, set, 64, 0, 0)
	for i := range surf.Len() {
		p, at := surf.Position(i), int(surf.Texel[i])*3
		for k, want := range []float32{p.X / 2, p.Y / 3, p.Z / 4} {
			if got := float32(maps[0].Pix[at+k]) / 65535; math.Abs(float64(got-want)) > 1e-4 {
				t.Fatalf("axis %d: %.5f, want %.5f", k, got, want)
			}
		}
	}
}

func TestBakesAreTheSameOnOneCoreAndTwo(t *testing.T) {
	m := mesh.BumpySphere(64, 32)
	bakeOn := func(n int) []*Map {
		defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(n))
		_, _, maps := bakeFirst(t, m, mesh.BumpySphere(200, 100), Settings{Size: 128, Rays: 16, Samples: 4, Radius: 0.1}, AO, Curvature, Normal, WorldNormal, Position)
		return maps
	}
	one, two := bakeOn(1), bakeOn(2)
	for i := range one {
		if !slices.Equal(one[i].Pix, two[i].Pix) {
			t.Errorf("%s differs between one core and two", one[i].Kind)
		}
	}
}

func TestBakeStopsWhenAsked(t *testing.T) {
	m := mesh.BumpySphere(64, 32)
	src, err := Prepare(context.Background(), m, nil, Settings{Size: 1024, Rays: 1024, Samples: 1})
	if err != nil {
		t.Fatal(err)
	}
	sets, _ := uv.Sets(m, uv.Single)
	ctx, cancel := context.WithCancel(context.Background())
	_, err = src.Bake(ctx, &sets[0], []string{AO}, func(float64) { cancel() })
	if err == nil {
		t.Error("a stopped bake says that it is done")
	}
}

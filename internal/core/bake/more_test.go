package bake

import (
	"context"
	"math"
	"testing"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/sobol"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
)

func torus(nu, nv int, big, small float64) *mesh.Model {
	return mesh.Grid(nu, nv, 0.02, func(s, t float64) [3]float64 {
		a, b := -2*math.Pi*s, 2*math.Pi*t
		r := big + small*math.Cos(b)
		return [3]float64{r * math.Cos(a), small * math.Sin(b), r * math.Sin(a)}
	})
}

// The normal of an analytic torus baked onto a coarse one (checks: normals from a high-poly): mean
// angle under 0.5°, none over 5°.
func TestNormalsFromAnAnalyticTorus(t *testing.T) {
	low := torus(32, 16, 1, 0.3)
	_, set, maps := bakeFirst(t, low, torus(400, 160, 1, 0.3), Settings{Size: 256, Rays: 1, Samples: 1, Front: 0.05, Rear: 0.05}, WorldNormal)
	surf := surface.Rasterise(low, set, 256, 0, 0)
	sum, worst := 0.0, 0.0
	for i := range surf.Len() {
		p := surf.Position(i)
		// The outward normal at the point of the torus along the projecting ray, which is the low
		// normal: both lie in the plane through the axis, at the tube's angle.
		ring := geom.Vec3{X: p.X, Z: p.Z}.Norm()
		want := p.Sub(ring).Norm()
		at := int(surf.Texel[i]) * 3
		f := func(k int) float32 { return float32(maps[0].Pix[at+k])/65535*2 - 1 }
		deg := math.Acos(min(1, float64(geom.Vec3{X: f(0), Y: f(1), Z: f(2)}.Norm().Dot(want)))) * 180 / math.Pi
		sum += deg
		worst = max(worst, deg)
	}
	if mean := sum / float64(surf.Len()); mean > 0.5 || worst > 5 {
		t.Errorf("mean angle %.3f°, worst %.2f°", mean, worst)
	}
}

// Mean curvature of a torus at the tube's angle b: (R + 2r·cos b) / (2r(R + r·cos b)), from
// differential geometry; within 5 % of the largest.
func TestCurvatureOfATorus(t *testing.T) {
	const big, small, radius = 1.0, 0.3, 0.06
	m := torus(96, 48, big, small)
	_, set, maps := bakeFirst(t, m, nil, Settings{Size: 192, Rays: 1, Samples: 1, Radius: radius}, Curvature)
	surf := surface.Rasterise(m, set, 192, 0, 0)
	worst := 0.0
	for i := range surf.Len() {
		p := surf.Position(i)
		cos := (math.Hypot(float64(p.X), float64(p.Z)) - big) / small
		cos = max(-1, min(1, cos))
		want := (big + 2*small*cos) / (2 * small * (big + small*cos))
		got := (float64(maps[0].Pix[surf.Texel[i]])/65535 - 0.5) * 2 / radius
		worst = max(worst, math.Abs(got-want))
	}
	largest := (big + 2*small) / (2 * small * (big + small))
	if worst > 0.05*largest {
		t.Errorf("off by %.4f 1/m, allowed %.4f", worst, 0.05*largest)
	}
}

// The width of the band of edges is a length on the model: the same at 128 and at 512 px.
func TestEdgeWidthDoesNotChangeWithTheSize(t *testing.T) {
	m := mesh.Grid(8, 8, 0.02, func(s, t float64) [3]float64 { return [3]float64{s - 1, 0, 1 - t} })
	m.Append(mesh.Grid(8, 8, 0.02, func(s, t float64) [3]float64 { return [3]float64{0, -s, 1 - t} }))
	m.Materials[0].Name = "top"
	width := map[int]float64{}
	for _, size := range []int{128, 512} {
		_, set, maps := bakeFirst(t, m, nil, Settings{Size: size, Rays: 1, Samples: 1, Radius: 0.1}, Curvature)
		on, all := 0, 0
		for _, v := range coveredValues(set, m, maps[0], func(p geom.Vec3) bool { return p.Z > 0.2 && p.Z < 0.8 }) {
			all++
			if v > 0.6 {
				on++
			}
		}
		width[size] = float64(on) / float64(all)
	}
	if width[512] < 0.03 || math.Abs(width[128]-width[512]) > 0.008 {
		t.Errorf("the edge is %.4f m wide at 128 px and %.4f m at 512", width[128], width[512])
	}
}

// Parts bake from the high-poly part of their name only, with the usual endings (common practice);
// others are listed, and take whatever is near.
func TestPartsPairByName(t *testing.T) {
	flat := func(part string, y float64) *mesh.Model {
		m := mesh.Grid(2, 2, 0, func(s, t float64) [3]float64 { return [3]float64{s, y, 1 - t} })
		m.Parts[0] = part
		return m
	}
	tilted := func(part string, y float64) *mesh.Model {
		m := mesh.Grid(2, 2, 0, func(s, t float64) [3]float64 { return [3]float64{s, y + 0.02*s, 1 - t} })
		m.Parts[0] = part
		return m
	}
	low := flat("Deck_low", 0)
	high := tilted("other", 0.015) // nearer to the start of the rays, but not its part
	high.Append(flat("deck_HIGH", -0.005))
	src, _, maps := bakeFirst(t, low, high, Settings{Size: 64, Rays: 1, Samples: 1, Front: 0.05, Rear: 0.05}, WorldNormal)
	if u := src.Unpaired(); len(u) != 0 {
		t.Errorf("unpaired: %v", u)
	}
	if r := maps[0].Pix[(32*64+32)*3]; math.Abs(float64(r)-32768) > 2 {
		t.Errorf("red %d: the normal is the other part's", r)
	}
	low.Parts[0] = "lid"
	src, _, maps = bakeFirst(t, low, high, Settings{Size: 64, Rays: 1, Samples: 1, Front: 0.05, Rear: 0.05}, WorldNormal)
	if u := src.Unpaired(); len(u) != 1 || u[0] != "lid" {
		t.Errorf("unpaired: %v, want lid", u)
	}
	if r := maps[0].Pix[(32*64+32)*3]; math.Abs(float64(r)-32768) < 100 {
		t.Errorf("red %d: an unpaired part takes what it meets first", r)
	}
}

// Where the rays miss, the low-poly stands in, and the texels are counted.
func TestMissesAreCounted(t *testing.T) {
	low := mesh.Grid(2, 2, 0, func(s, t float64) [3]float64 { return [3]float64{s, 0, 1 - t} })
	high := mesh.Grid(2, 2, 0, func(s, t float64) [3]float64 { return [3]float64{s / 2, 0, 1 - t} }) // covers half
	_, _, maps := bakeFirst(t, low, high, Settings{Size: 64, Rays: 1, Samples: 1, Front: 0.1, Rear: 0.1}, Normal)
	if got := maps[0].Missed; math.Abs(float64(got)-64*64/2) > 64 {
		t.Errorf("%d texels missed, want about half of %d", got, 64*64)
	}
	for i := 0; i < len(maps[0].Pix); i += 3 {
		if maps[0].Pix[i+2] < 65000 {
			t.Fatal("a missed texel is not flat")
		}
	}
}

// Cleaning brings few rays nearer to many, and keeps a contact shadow's edge.
func TestCleaningBringsFewRaysNearerToMany(t *testing.T) {
	scene := func() *mesh.Model {
		m := mesh.Grid(8, 8, 0, func(s, t float64) [3]float64 { return [3]float64{2 * s, 0, 2 * (1 - t)} })
		m.Materials[0].Name = "floor"
		m.Append(mesh.Sphere(48, 24, 0.3, [3]float64{1, 0.32, 1}))
		m.Append(mesh.Grid(1, 1, 0, func(s, t float64) [3]float64 { return [3]float64{0.4, 0.5 * t, 2 * s} }))
		return m
	}
	_, _, truth := bakeFirst(t, scene(), nil, Settings{Size: 128, Rays: 2048, Samples: 1}, AO)
	rmse := func(m *Map) float64 {
		sum := 0.0
		for i, v := range m.Pix {
			d := (float64(v) - float64(truth[0].Pix[i])) / 65535
			sum += d * d
		}
		return math.Sqrt(sum / float64(len(m.Pix)))
	}
	_, _, cleaned := bakeFirst(t, scene(), nil, Settings{Size: 128, Rays: 32, Samples: 1}, AO)
	// The raw error of the same rays, from the caster itself, without cleaning.
	src, err := Prepare(context.Background(), scene(), nil, Settings{Size: 128, Rays: 32, Samples: 1})
	if err != nil {
		t.Fatal(err)
	}
	sets, _ := uv.Sets(src.Low, uv.PerMaterial)
	surf := surface.Rasterise(src.Low, &sets[0], 128, 0, 0)
	w := NewCaster(src.bvh, 32).Worker()
	raw := &Map{Pix: make([]uint16, 128*128)}
	for i := range surf.Len() {
		o := surf.Position(i).Add(geom.Vec3{Y: 4 * src.bvh.Epsilon()})
		raw.Pix[surf.Texel[i]] = encode(w.Visibility(o, geom.Vec3{Y: 1}, float32(math.Inf(1)), uint32(i)*0x9e3779b9))
	}
	if a, b := rmse(cleaned[0]), rmse(raw); a > 0.75*b || b > 0.08 {
		t.Errorf("error %.4f with cleaning, %.4f without; want at most three quarters", a, b)
	}
}

// Samples per texel are balanced round its centre.
func TestSamplesAverageInsideATexel(t *testing.T) {
	m := mesh.Grid(1, 1, 0, func(s, t float64) [3]float64 { return [3]float64{s, 0, 1 - t} })
	one := func(samples int) []uint16 {
		_, _, maps := bakeFirst(t, m, nil, Settings{Size: 64, Rays: 16, Samples: samples}, Position)
		return maps[0].Pix
	}
	a, b := one(1), one(16)
	for i := range a {
		// On a linear field the mean of any balanced samples is the centre's value.
		if d := math.Abs(float64(a[i]) - float64(b[i])); d > 200 {
			t.Fatalf("value %d: %d with one sample, %d with 16", i, a[i], b[i])
		}
	}
}

func TestSettingsAreChecked(t *testing.T) {
	good := Settings{Size: 512, Rays: 64, Samples: 4}
	if err := good.Check(); err != nil {
		t.Error(err)
	}
	for name, change := range map[string]func(s *Settings){
		"too small":      func(s *Settings) { s.Size = 8 },
		"too large":      func(s *Settings) { s.Size = 100000 },
		"no rays":        func(s *Settings) { s.Rays = 0 },
		"too many rays":  func(s *Settings) { s.Rays = 1 << 20 },
		"odd samples":    func(s *Settings) { s.Samples = 5 },
		"negative limit": func(s *Settings) { s.Far = -1 },
		"NaN radius":     func(s *Settings) { s.Radius = math.NaN() },
		"infinite reach": func(s *Settings) { s.Front = math.Inf(1) },
	} {
		s := good
		change(&s)
		if err := s.Check(); err == nil {
			t.Errorf("%s is accepted", name)
		}
	}
	if _, err := KindOf("glow"); err == nil {
		t.Error("an unknown map is found")
	}
	m := patch()
	src, err := Prepare(context.Background(), m, nil, good)
	if err != nil {
		t.Fatal(err)
	}
	sets, _ := uv.Sets(m, uv.Single)
	for i := range m.UVs {
		m.UVs[i] = geom.Vec2{}
	}
	if _, err := src.Bake(context.Background(), &sets[0], []string{AO}, nil); err == nil {
		t.Error("a set whose UVs have no area is baked")
	}
}

// Owen-scrambled Sobol points keep the net's property: any 2^k of them have one in each of 2^k equal
// strips of either axis (Burley 2020).
func TestScrambledPointsStayStratified(t *testing.T) {
	for seed := range uint32(8) {
		for _, n := range []uint32{16, 64, 256} {
			var x, y [256]bool
			for i := range n {
				a, b := sobol.Point(i)
				x[uint64(sobol.Owen(a, sobol.Hash(seed)))*uint64(n)>>32] = true
				y[uint64(sobol.Owen(b, sobol.Hash(seed+77)))*uint64(n)>>32] = true
			}
			for i := range n {
				if !x[i] || !y[i] {
					t.Fatalf("seed %d: strip %d of %d is empty", seed, i, n)
				}
			}
		}
	}
}

package bake

import (
	"context"
	"math"
	"runtime"
	"testing"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
)

// slab is a plate of thickness d, 6 m wide, both faces 1 m apart in UV space.
func slab(d float64) *mesh.Model {
	m := mesh.Grid(12, 12, 0.02, func(s, t float64) [3]float64 { return [3]float64{6*s - 3, 0, 3 - 6*t} })
	under := mesh.Grid(12, 12, 0.02, func(s, t float64) [3]float64 { return [3]float64{6*s - 3, -d, 6*t - 3} })
	for i := range under.UVs {
		under.UVs[i].X += 2
	}
	m.Append(under)
	return m
}

// Cosine-weighted rays through a slab are 2d long in the mean, 2d − d²/L when they count as L beyond the
// limit L; in a ball they are chords of mean 4R/3 (integrals of d/cosθ and 2R·cosθ over 2·cosθ·sinθ).
func TestThicknessOfASlabAndABall(t *testing.T) {
	check := func(name string, m *mesh.Model, s Settings, want float64, in func(p geom.Vec3) bool) {
		t.Helper()
		_, set, maps := bakeFirst(t, m, nil, s, Thickness)
		surf := surface.Rasterise(m, set, s.Size, 0, 0)
		sum, n := 0.0, 0
		for i := range surf.Len() {
			if in(surf.Position(i)) {
				sum += float64(maps[0].Pix[surf.Texel[i]]) / 65535 * maps[0].High
				n++
			}
		}
		if mean := sum / float64(n); math.Abs(mean-want) > 0.02*want || maps[0].High != s.Deep {
			t.Errorf("%s: mean thickness %.4f m of limit %.3f, want %.4f of %.3f", name, mean, maps[0].High, want, s.Deep)
		}
	}
	const d, l = 0.1, 1.0
	check("slab", slab(d), Settings{Size: 64, Rays: 1024, Samples: 1, Deep: l}, 2*d-d*d/l, func(p geom.Vec3) bool {
		return p.Y == 0 && math.Abs(float64(p.X)) < 1.5 && math.Abs(float64(p.Z)) < 1.5
	})
	check("ball", mesh.Sphere(128, 64, 0.5, [3]float64{}), Settings{Size: 64, Rays: 1024, Samples: 1, Deep: 2}, 4*0.5/3, func(p geom.Vec3) bool { return math.Abs(float64(p.Y)) < 0.4 })
}

// A plane that leans from the sky by β sees (1 + cos β)/2 of it over a floor (Liu & Jordan, The
// interrelationship and characteristic distribution of direct, diffuse and total solar radiation, 1960).
func TestGroundShadesWhatLooksDown(t *testing.T) {
	m := mesh.Sphere(64, 32, 0.5, [3]float64{})
	_, set, maps := bakeFirst(t, m, nil, Settings{Size: 128, Rays: 1024, Samples: 1, Ground: true}, AO)
	surf := surface.Rasterise(m, set, 128, 0, 0)
	worst := 0.0
	for i := range surf.Len() {
		n := surf.Normal(i).Norm()
		if p := surf.Position(i); math.Abs(float64(p.Y)) > 0.47 {
			continue
		}
		worst = max(worst, math.Abs(float64(maps[0].Pix[surf.Texel[i]])/65535-(1+float64(n.Y))/2))
	}
	if worst > 0.02 {
		t.Errorf("visibility is off (1 + cos β)/2 by up to %.4f, want 0.02 at 1,024 rays", worst)
	}
}

// Two balls side by side: each alone is convex and sees all; together they shade each other.
func TestOcclusionSeesWhatItIsTold(t *testing.T) {
	m := mesh.Sphere(32, 16, 0.5, [3]float64{})
	m.Append(mesh.Sphere(32, 16, 0.5, [3]float64{1.02, 0, 0}))
	m.Parts[0], m.Parts[1] = "left", "right"
	darkest := func(sees string, high *mesh.Model) float64 {
		_, set, maps := bakeFirst(t, m, high, Settings{Size: 64, Rays: 512, Samples: 1, Sees: sees, Front: 0.02, Rear: 0.02}, AO)
		surf := surface.Rasterise(m, set, 64, 0, 0)
		low := 1.0
		for i := range surf.Len() {
			if p := surf.Position(i); math.Abs(float64(p.Y)) < 0.4 {
				low = min(low, float64(maps[0].Pix[surf.Texel[i]])/65535)
			}
		}
		return low
	}
	if got := darkest(SeesOwn, nil); got < 0.99 {
		t.Errorf("its own part alone: darkest %.3f, want 1 on a ball", got)
	}
	if got := darkest(SeesAll, nil); got > 0.5 {
		t.Errorf("everything: darkest %.3f, want shade between the balls", got)
	}
	// A lid that only the high-poly has shades under “everything” and not under “paired”.
	high := mesh.Sphere(32, 16, 0.5, [3]float64{})
	high.Parts[0] = "left"
	lid := mesh.Grid(2, 2, 0, func(s, t float64) [3]float64 { return [3]float64{4*s - 2, 0.6, 2 - 4*t} })
	lid.Parts[0] = "lid"
	high.Append(lid)
	if got := darkest(SeesPaired, high); got < 0.99 {
		t.Errorf("paired parts: darkest %.3f, want the lid passed over", got)
	}
	if got := darkest(SeesAll, high); got > 0.6 {
		t.Errorf("everything: darkest %.3f, want the lid's shade", got)
	}
}

// A high-poly 1 cm above a flat low-poly has a height of exactly 1 cm; the range is kept.
func TestHeightIsTheSignedDistance(t *testing.T) {
	low := mesh.Grid(4, 4, 0.02, func(s, t float64) [3]float64 { return [3]float64{s, 0, 1 - t} })
	for _, h := range []float64{0.01, -0.004} {
		high := mesh.Grid(9, 7, 0, func(s, t float64) [3]float64 { return [3]float64{1.2*s - 0.1, h, 1.1 - 1.2*t} })
		_, set, maps := bakeFirst(t, low, high, Settings{Size: 64, Rays: 1, Samples: 4, Front: 0.02, Rear: 0.01}, Height)
		m := maps[0]
		if m.Low != -0.02 || m.High != 0.02 {
			t.Fatalf("range %g to %g m, want ±0.02", m.Low, m.High)
		}
		surf := surface.Rasterise(low, set, 64, 0, 0)
		for i := range surf.Len() {
			if got := m.Low + (m.High-m.Low)*float64(m.Pix[surf.Texel[i]])/65535; math.Abs(got-h) > 2e-6 {
				t.Fatalf("height %.6f m, want %.6f", got, h)
			}
		}
	}
}

// ID colours are exact, different and listed with the area that carries them.
func TestIDColoursAreExactAndListed(t *testing.T) {
	m := mesh.Grid(8, 8, 0, func(s, t float64) [3]float64 { return [3]float64{s, t, 0} })
	m.Parts, m.Materials = []string{"a", "b"}, []mesh.Material{{Name: "steel"}, {Name: "wood"}}
	for i, p := range m.Positions {
		m.Colours = append(m.Colours, [3]uint8{10, 200, 30})
		if p.X > 0.5 {
			m.Colours[i] = [3]uint8{250, 20, 90}
		}
	}
	for i := range m.Tris {
		p, q, r := m.Corners(i)
		mid := geom.Bary(p, q, r, 1./3, 1./3)
		if mid.X > 0.25 {
			m.Part[i] = 1
		}
		if mid.Y > 0.5 {
			m.Material[i] = 1
		}
	}
	whole := func(from string) (*uv.Set, []*Map) {
		src, err := Prepare(context.Background(), m, nil, Settings{Size: 64, Rays: 1, Samples: 4, ID: from})
		if err != nil {
			t.Fatal(err)
		}
		sets, err := uv.Sets(m, uv.Single)
		if err != nil {
			t.Fatal(err)
		}
		maps, err := src.Bake(context.Background(), &sets[0], []string{ID}, nil)
		if err != nil {
			t.Fatal(err)
		}
		return &sets[0], maps
	}
	for _, c := range []struct {
		from string
		want map[string]float64 // area by name
	}{{IDParts, map[string]float64{"a": 0.25, "b": 0.75}}, {IDMaterials, map[string]float64{"steel": 0.5, "wood": 0.5}}, {IDIslands, map[string]float64{"island 1, a": 1}}} {
		set, maps := whole(c.from)
		if len(maps[0].Legend) != len(c.want) {
			t.Errorf("%s: %+v, want %v", c.from, maps[0].Legend, c.want)
		}
		listed := map[[3]uint16]bool{}
		for _, l := range maps[0].Legend {
			if math.Abs(l.Area-c.want[l.Name]) > 0.02 {
				t.Errorf("%s: %s has %.3f m², want %.3f", c.from, l.Name, l.Area, c.want[l.Name])
			}
			var rgb [3]uint16
			for k := range rgb {
				var v uint16
				for _, d := range l.Colour[1+2*k : 3+2*k] {
					v = v*16 + uint16(map[bool]rune{true: d - '0', false: d - 'a' + 10}[d <= '9'])
				}
				rgb[k] = v * 257
			}
			listed[rgb] = true
		}
		surf := surface.Rasterise(m, set, 64, 0, 0)
		for _, at := range surf.Texel {
			if p := maps[0].Pix[3*at:]; !listed[[3]uint16{p[0], p[1], p[2]}] {
				t.Fatalf("%s: texel %d has the colour %v, which is not listed", c.from, at, p[:3])
			}
		}
	}
	_, maps := whole(IDColours)
	if len(maps[0].Legend) != 2 || maps[0].Legend[0].Colour != "#0ac81e" {
		t.Errorf("vertex colours: %+v", maps[0].Legend)
	}
	seen := map[[3]uint8]bool{}
	for _, c := range idColours(3000) {
		if seen[c] {
			t.Fatalf("the colour %v comes twice", c)
		}
		seen[c] = true
	}
}

// All maps are the same on one core and on two, bit by bit.
func TestNewMapsDoNotHangOnTheCores(t *testing.T) {
	low, high := mesh.Sphere(16, 8, 0.5, [3]float64{}), mesh.BumpySphere(60, 30)
	high.Parts[0] = low.Parts[0]
	for i := range high.Positions {
		high.Positions[i] = high.Positions[i].Mul(0.5)
	}
	sets, err := uv.Sets(low, uv.Single)
	if err != nil {
		t.Fatal(err)
	}
	run := func(cores int) []*Map {
		defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(cores))
		src, err := Prepare(context.Background(), low, high, Settings{Size: 64, Rays: 32, Samples: 4, Front: 0.1, Rear: 0.1, Sees: SeesOwn, Ground: true})
		if err != nil {
			t.Fatal(err)
		}
		maps, err := src.Bake(context.Background(), &sets[0], []string{AO, Thickness, Height, ID}, nil)
		if err != nil {
			t.Fatal(err)
		}
		return maps
	}
	one, two := run(1), run(2)
	for i := range one {
		for k := range one[i].Pix {
			if one[i].Pix[k] != two[i].Pix[k] {
				t.Fatalf("%s differs at %d: %d on one core, %d on two", one[i].Kind, k, one[i].Pix[k], two[i].Pix[k])
			}
		}
	}
}

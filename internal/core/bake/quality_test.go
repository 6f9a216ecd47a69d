package bake

import (
	"context"
	"errors"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"crust/internal/core/cells"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/uv"
)

// Soft and tight curvature come with the curvature: a sphere reads H·r/2 above the middle at each of the three
// radii (differential geometry: H = 1/R).
func TestCurvatureComesSoftAndTight(t *testing.T) {
	if got := WithCompanions([]string{AO, Curvature}); !slices.Equal(got, []string{AO, Curvature, Tight, Soft}) {
		t.Errorf("curvature brings %v", got)
	}
	const radius, big = 0.05, 0.5
	m := mesh.Sphere(96, 48, big, [3]float64{})
	_, set, maps := bakeFirst(t, m, nil, Settings{Size: 128, Rays: 64, Samples: 1, Radius: radius}, Curvature, Tight, Soft)
	for i, scale := range []float64{1, 0.5, 4} {
		want := 0.5 + radius*scale/big/2
		for _, v := range coveredValues(set, m, maps[i], func(p geom.Vec3) bool { return p.Y < 0.4 && p.Y > -0.4 }) {
			if math.Abs(v-want) > 0.05*(want-0.5) {
				t.Errorf("%s reads %.4f, want %.4f", maps[i].Kind, v, want)
				break
			}
		}
	}
}

// The vector kernel, when in use, sums as the plain one does.
func TestCloudKernelsAgree(t *testing.T) {
	m := mesh.BumpySphere(64, 32)
	clouds, err := newClouds(context.Background(), m, m.Normals, 0.1, 0, 1)
	if err != nil {
		t.Fatal(err)
	}
	for i := 0; i < len(m.Positions); i += 7 {
		var k cells.Near
		p, n, c := m.Positions[i], m.Normals[i], clouds[i%2]
		c.mean(p, n, &k)
		a, h := c.weigh(p, n, k.Ranges())
		b, g := c.weighPlain(p, n, k.Ranges())
		if math.Abs(float64(a-b)) > 1e-4*float64(b) || math.Abs(float64(h-g)) > 1e-3*math.Abs(float64(g))+1e-6 {
			t.Fatalf("vertex %d: %g %g, plain %g %g", i, a, h, b, g)
		}
	}
}

// scene is a floor with a ball and a wall.
func scene() *mesh.Model {
	m := mesh.Grid(8, 8, 0, func(s, t float64) [3]float64 { return [3]float64{2 * s, 0, 2 * (1 - t)} })
	m.Materials[0].Name = "floor"
	m.Append(mesh.Sphere(48, 24, 0.3, [3]float64{1, 0.32, 1}))
	m.Append(mesh.Grid(1, 1, 0, func(s, t float64) [3]float64 { return [3]float64{0.4, 0.5 * t, 2 * s} }))
	return m
}

func rmse(a, b *Map) float64 {
	sum := 0.0
	for i, v := range a.Pix {
		d := (float64(v) - float64(b.Pix[i])) / 65535
		sum += d * d
	}
	return math.Sqrt(sum / float64(len(a.Pix)))
}

// Settled texels stop early, and what is lost is less than the noise of as many independent rays, whose standard
// error is √(p(1−p)/n).
func TestSettledTexelsStopEarly(t *testing.T) {
	_, _, truth := bakeFirst(t, scene(), nil, Settings{Size: 128, Rays: 4096, Samples: 1}, AO)
	const rays = 512
	_, _, maps := bakeFirst(t, scene(), nil, Settings{Size: 128, Rays: rays, Samples: 16}, AO)
	if all := int64(128 * 128 * rays); maps[0].Rays > all*9/10 || maps[0].Rays < all/8 {
		t.Errorf("%d of %d rays were cast, want some saved", maps[0].Rays, all)
	}
	p := 0.0
	for _, v := range truth[0].Pix {
		f := float64(v) / 65535
		p += f * (1 - f)
	}
	// Sixteen samples also average over the texel, so its edges differ a little from the centre's.
	if got, random := rmse(maps[0], truth[0]), math.Sqrt(p/float64(len(truth[0].Pix))/rays); got > random {
		t.Errorf("error %.4f, plain random rays would have %.4f", got, random)
	}
}

// A draft interpolates between texels of a smooth surface, and stays near the truth; the wall's foot is kept.
func TestDraftsInterpolateWhereTheyMay(t *testing.T) {
	_, _, truth := bakeFirst(t, scene(), nil, Settings{Size: 128, Rays: 2048, Samples: 1}, AO)
	_, _, maps := bakeFirst(t, scene(), nil, Settings{Size: 128, Rays: 16, Samples: 1}, AO)
	if all := int64(128 * 128 * 16); maps[0].Rays > all*2/3 || maps[0].Rays < all/4 {
		t.Errorf("%d of %d rays were cast, want about a quarter to two thirds", maps[0].Rays, all)
	}
	if got := rmse(maps[0], truth[0]); got > 0.05 {
		t.Errorf("a draft's error is %.4f", got)
	}
	// With more samples nothing is interpolated: all texels have their rays, but for those that settle.
	_, _, maps = bakeFirst(t, scene(), nil, Settings{Size: 128, Rays: 16, Samples: 4}, AO)
	if maps[0].Rays != int64(128*128*16) {
		t.Errorf("four samples cast %d rays, want all", maps[0].Rays)
	}
}

// A map that is baked in bands is the same as one baked at once, at any row.
func TestBandsMakeNoDifference(t *testing.T) {
	m := scene()
	sets, err := uv.Sets(m, uv.PerMaterial)
	if err != nil {
		t.Fatal(err)
	}
	src, err := Prepare(context.Background(), m, nil, Settings{Size: 128, Rays: 32, Samples: 4})
	if err != nil {
		t.Fatal(err)
	}
	kinds := []string{AO, Curvature, Thickness, WorldNormal, Position, ID}
	run := func(rows int) []*Map {
		b, err := src.newJob(context.Background(), &sets[0], kinds, 128)
		if err != nil {
			t.Fatal(err)
		}
		maps, err := b.run(context.Background(), rows)
		if err != nil {
			t.Fatal(err)
		}
		return maps
	}
	whole, bands := run(128), run(24)
	for i := range whole {
		if !slices.Equal(whole[i].Pix, bands[i].Pix) {
			t.Errorf("%s differs when it is baked in bands", whole[i].Kind)
		}
	}
}

// What is foretold is in proportion to the texels and shared by the cores; a row is laid out once by one core.
func TestForetoldTimesAreProportional(t *testing.T) {
	runs := []measured{{100, 0.25, 0.001}, {0, 0.75, 0}, {300, 0.5, 0.003}} // 10 µs a texel, half a second to lay out
	for _, c := range []struct {
		covered, rest float64
		cores         int
		want          float64
	}{{1e6, 0, 1, 10.5}, {2e6, 0, 1, 20.5}, {1e6, 0, 2, 5.5}, {1e6, 4, 2, 7.5}} {
		if got := foretold(runs, c.covered, c.rest, c.cores); math.Abs(got-c.want) > 1e-9 {
			t.Errorf("%+v: %g s", c, got)
		}
	}
	if got := foretold(make([]measured, 3), 0, 1, 2); got != 0.5 {
		t.Errorf("an empty set takes %g s", got)
	}
}

// A probe is made once for its set, maps and settings.
func TestProbesAreKept(t *testing.T) {
	m := scene()
	sets, err := uv.Sets(m, uv.PerMaterial)
	if err != nil {
		t.Fatal(err)
	}
	src, err := Prepare(context.Background(), m, nil, Settings{Size: 256, Rays: 64, Samples: 4})
	if err != nil {
		t.Fatal(err)
	}
	kinds := []string{AO, Position}
	first, err := src.Probe(context.Background(), &sets[0], kinds)
	if err != nil || first <= 0 {
		t.Fatalf("%g s, %v", first, err)
	}
	if again, err := src.Probe(context.Background(), &sets[0], kinds); again != first || err != nil {
		t.Errorf("%g s, then %g, %v", first, again, err)
	}
	// Other settings, sets and maps are other probes.
	more := *src
	more.Settings.Rays = 128
	for range 2 {
		if _, err := more.Probe(context.Background(), &sets[0], kinds); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := src.Probe(context.Background(), &sets[0], kinds[:1]); err != nil {
		t.Fatal(err)
	}
	if n := len(src.probes); n != 3 {
		t.Errorf("%d probes are kept, want 3", n)
	}
	ended, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := src.Probe(ended, &sets[1], kinds); !errors.Is(err, context.Canceled) {
		t.Errorf("a probe that is stopped: %v", err)
	}
}

// Cleaning takes most of the noise of 64 independent rays, a binomial distribution, off a flat place, and leaves a dark
// ring of one texel as dark as it is (what non-local means are for: Buades, Coll & Morel, 2005).
func TestCleaningKeepsRingsOfOneTexel(t *testing.T) {
	const size, rays = 64, 64
	random := rand.New(rand.NewPCG(3, 4))
	truth := make([]float64, size*size)
	list := make([]guide, size*size)
	for at := range list {
		x, y := at%size, at/size
		truth[at] = 0.9
		// Rings of radius 4 all over, as round rivets.
		if d := math.Hypot(float64(x%16-8), float64(y%16-8)); d > 3.5 && d < 4.5 {
			truth[at] = 0.6
		}
		hits := 0
		for range rays {
			if random.Float64() < truth[at] {
				hits++
			}
		}
		q := (float32(hits) + 1) / (rays + 2)
		g := guide{n: geom.Vec3{Y: 1}, p: geom.Vec3{X: float32(x), Z: float32(y)}, known: true}
		g.v[0], g.s[0] = float32(hits)/rays, q*(1-q)/rays
		list[at] = g
	}
	var before, after, ring, n float64
	for at := range list {
		v := float64(alike(list, size, at)[0])
		if truth[at] < 0.7 {
			ring, n = ring+v, n+1
		} else {
			before += (float64(list[at].v[0]) - truth[at]) * (float64(list[at].v[0]) - truth[at])
			after += (v - truth[at]) * (v - truth[at])
		}
	}
	if after > before/4 {
		t.Errorf("beside the rings the error falls by only %.2f", math.Sqrt(before/after))
	}
	if math.Abs(ring/n-0.6) > 0.03 {
		t.Errorf("the rings come out as %.3f, want 0.6", ring/n)
	}
}

package field

import (
	"math"
	"math/rand/v2"
	"testing"

	"crust/internal/core/geom"
)

// places strews points through a cube.
func strewn(n int, wide float32) *Block {
	r := rand.New(rand.NewPCG(4, 2))
	b := &Block{Part: make([]int32, n)}
	for _, p := range []*[]float32{&b.X, &b.Y, &b.Z, &b.NX, &b.NY, &b.NZ} {
		*p = make([]float32, n)
		for i := range *p {
			(*p)[i] = (r.Float32() - 0.5) * wide
		}
	}
	return b
}

// Worley's definition (A Cellular Texture Basis Function, 1996): F1 and F2 are the distances to the nearest and the second
// nearest of all feature points. Brute force looks at those of 5³ cells.
func TestCellularNoiseFindsTheNearestPoints(t *testing.T) {
	const n = 2003
	b := strewn(n, 9)
	s := &strew{make([]float32, n), make([]float32, n), make([]uint32, n)}
	s.near(b.X, b.Y, b.Z, 1, 99)
	long := 0
	for i := range n {
		first, second := 1e9, 1e9
		mark := uint32(0)
		fx, fy, fz := int32(floor(b.X[i])), int32(floor(b.Y[i])), int32(floor(b.Z[i]))
		for dx := int32(-2); dx <= 2; dx++ {
			for dy := int32(-2); dy <= 2; dy++ {
				for dz := int32(-2); dz <= 2; dz++ {
					h := cellHash(uint32(fx+dx)*hashX ^ uint32(fy+dy)*hashY ^ uint32(fz+dz)*hashZ ^ 99)
					px, py, pz := float64(fx+dx)+float64(share(h, 22)), float64(fy+dy)+float64(share(h, 12)), float64(fz+dz)+float64(share(h, 2))
					d := math.Sqrt(math.Pow(px-float64(b.X[i]), 2) + math.Pow(py-float64(b.Y[i]), 2) + math.Pow(pz-float64(b.Z[i]), 2))
					if d < first {
						first, second, mark = d, first, h
					} else if d < second {
						second = d
					}
				}
			}
		}
		switch {
		case math.Abs(float64(s.first[i])-first) > 1e-4 || s.mark[i] != mark:
			t.Fatalf("point %d: F1 %g of %x, want %g of %x", i, s.first[i], s.mark[i], first, mark)
		case float64(s.second[i]) > second+1e-4:
			long++ // it lies two cells off
		case float64(s.second[i]) < second-1e-4:
			t.Fatalf("point %d: F2 %g, want %g", i, s.second[i], second)
		}
	}
	if long > n/50 {
		t.Errorf("F2 is too long at %d of %d points", long, n)
	}
}

// The vector kernel finds what the plain one does.
func TestVectorCellularNoiseAgreesWithThePlainOne(t *testing.T) {
	const n = 1003
	b := strewn(n, 20)
	s := &strew{make([]float32, n), make([]float32, n), make([]uint32, n)}
	p := &strew{make([]float32, n), make([]float32, n), make([]uint32, n)}
	s.near(b.X, b.Y, b.Z, 1.7, 7)
	for i := range n {
		p.nearPlain(i, b.X[i]*1.7, b.Y[i]*1.7, b.Z[i]*1.7, 7)
		if s.mark[i] != p.mark[i] || math.Abs(float64(s.first[i]-p.first[i])) > 1e-5 || math.Abs(float64(s.second[i]-p.second[i])) > 1e-5 {
			t.Fatalf("point %d: %g, %g of %x, plain %g, %g of %x", i, s.first[i], s.second[i], s.mark[i], p.first[i], p.second[i], p.mark[i])
		}
	}
}

func filled(t *testing.T, kind string, b *Block, set map[string]float64) []float32 {
	t.Helper()
	k, err := KindOf(kind)
	if err != nil {
		t.Fatal(err)
	}
	p := make([]float64, len(k.Params))
	for i, q := range k.Params {
		p[i] = q.Default
		if v, ok := set[q.Name]; ok {
			p[i] = v
		}
	}
	out := make([]float32, b.Len())
	k.Fill(b, p, nil, out)
	return out
}

// Every form stays in 0–1, differs from place to place and by seed, and is the same whatever run of places it is asked for in.
func TestFormsOfNoiseKeepTheirRange(t *testing.T) {
	b := strewn(3000, 2)
	for i, f := range forms {
		set := map[string]float64{"form": float64(i), "size": 0.3}
		v := filled(t, "noise", b, set)
		set["seed"] = 77
		other := filled(t, "noise", b, set)
		set["seed"] = 1
		run := b.Run(1001, 1900)
		part := filled(t, "noise", &run, set)
		low, high, differ := float32(2), float32(-1), 0
		for k, x := range v {
			low, high = min(low, x), max(high, x)
			if abs(x-other[k]) > 1e-3 {
				differ++
			}
		}
		if !(low >= 0 && high <= 1.0001) || high-low < 0.5 || differ < 50 {
			t.Errorf("%s: %g to %g, %d of 3000 differ by seed", f.name, low, high, differ)
		}
		for k, x := range part {
			if abs(x-v[1001+k]) > 1e-5 {
				t.Fatalf("%s at place %d is %g alone, %g among others", f.name, 1001+k, x, v[1001+k])
			}
		}
	}
}

// Stretched noise is the noise of space drawn together along that axis; parts that are each their own differ.
func TestNoiseIsDrawnOutAndParted(t *testing.T) {
	b := strewn(500, 2)
	drawn := filled(t, "noise", b, map[string]float64{"size": 0.3, "stretch": 5, "along": 0})
	for i := range b.Y {
		b.Y[i] /= 5
	}
	plain := filled(t, "noise", b, map[string]float64{"size": 0.3})
	for i := range plain {
		if abs(plain[i]-drawn[i]) > 1e-4 {
			t.Fatalf("place %d: %g drawn out, %g in space drawn together", i, drawn[i], plain[i])
		}
	}
	one := filled(t, "noise", b, map[string]float64{"size": 0.3, "apart": 1})
	for i := range b.Part {
		b.Part[i] = 1
	}
	two := filled(t, "noise", b, map[string]float64{"size": 0.3, "apart": 1})
	same := 0
	for i := range one {
		if abs(one[i]-two[i]) < 1e-3 {
			same++
		}
	}
	if same > 50 {
		t.Errorf("%d of 500 places are the same on two parts", same)
	}
}

// plane is a grid of places of 1 m², n each way, seen from the front.
func plane(n int, metres float32) *Block {
	b := &Block{Part: make([]int32, n*n), Pitch: metres / float32(n)}
	for i := range n * n {
		b.X, b.Y, b.Z = append(b.X, (float32(i%n)+0.5)*metres/float32(n)), append(b.Y, (float32(i/n)+0.5)*metres/float32(n)), append(b.Z, 0)
		b.NX, b.NY, b.NZ = append(b.NX, 0), append(b.NY, 0), append(b.NZ, 1)
	}
	return b
}

// How much of a plane a pattern covers follows from its figure (closed forms): stripes and blocks by their gaps, a disc of
// radius r π r², a hexagon across whose flats lies w √3/2 w² of √3/2, and for a hemisphere of radius r the mean height 2/3 π r².
func TestPatternsCoverWhatTheirFiguresDo(t *testing.T) {
	b := plane(480, 1.2)
	const gap = 0.2
	for _, c := range []struct {
		form string
		want float64
	}{
		{"stripes", 1 - gap}, {"checks", 0.5}, {"dots", math.Pi * 0.4 * 0.4}, {"hexagons", (1 - gap) * (1 - gap)},
		{"planks", (1 - gap) * (7 - gap) / 7}, {"blocks", (1 - gap) * (2 - gap) / 2}, {"rivet rows", 2. / 3 * math.Pi * math.Pow(0.45*(1-gap), 2) / 6},
	} {
		form := -1
		for i, m := range motifs {
			if m.name == c.form {
				form = i
			}
		}
		sum := 0.0
		for _, v := range filled(t, "pattern", b, map[string]float64{"form": float64(form), "size": 0.1, "gap": gap}) {
			sum += float64(v)
		}
		if got := sum / float64(b.Len()); math.Abs(got-c.want) > 0.02 {
			t.Errorf("%s cover %.3f, want %.3f", c.form, got, c.want)
		}
	}
}

// The distance of a regular hexagon (flats apart 1, middles on the lattice (1, 0), (½, √3/2)): the largest of the projections
// on its three axes, from the nearest middle.
func TestHexagonDistance(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	for range 2000 {
		u, v := r.Float64()*6-3, r.Float64()*6-3
		best := math.Inf(1)
		for i := -8.0; i <= 8; i++ {
			for j := -8.0; j <= 8; j++ {
				x, y := u-(i+j/2)-0.5, v-j*math.Sqrt(3)/2-math.Sqrt(3)/2
				d := 0.0
				for k := range 3 {
					s, c := math.Sincos(float64(k) * math.Pi / 3)
					d = max(d, math.Abs(x*c+y*s))
				}
				best = min(best, d)
			}
		}
		if got := float64(hexagon(float32(u), float32(v))); math.Abs(got-best) > 1e-4 {
			t.Fatalf("at (%g, %g): %g, want %g", u, v, got, best)
		}
	}
}

// A box lays its pattern on each side by the axes of that side.
func TestBoxPatternsFollowTheSides(t *testing.T) {
	b := &Block{Pitch: 1e-4, Part: make([]int32, 3)}
	// Stripes across X, seen from above and from the front; across Z from the right.
	b.X, b.Y, b.Z = []float32{0.05, 0.05, 0.0}, []float32{0.0, 0.0, 0.0}, []float32{0.0, 0.0, 0.05}
	b.NX, b.NY, b.NZ = []float32{0, 0, 1}, []float32{1, 0, 0}, []float32{0, 1, 0}
	v := filled(t, "pattern", b, map[string]float64{"form": 0, "size": 0.1, "gap": 0.3})
	for i, x := range v {
		if x < 0.99 {
			t.Errorf("side %d: %g in the middle of a stripe", i, x)
		}
	}
}

// The vector kernels give what the plain ones do, for every figure, from every side.
func TestVectorPatternsAgreeWithThePlainOnes(t *testing.T) {
	b := &Block{Pitch: 0.003, Part: make([]int32, 1003), Floor: geom.Vec3{X: -1.1, Y: 0.3, Z: -0.7}}
	b.X, b.Y, b.Z = points(1003, 8, 3)
	b.NX, b.NY, b.NZ = points(1003, 9, 2)
	for which := range motifs {
		for side := range sides {
			for _, jitter := range []float32{0, 0.7} {
				l := &laidOut{side: side, sin: 3, cos: 8}
				m := &measure{gap: 0.15, jitter: jitter, soft: 0.03, seed: 12345}
				got := make([]float32, b.Len())
				n := l.run(b, which, m, got)
				for i := range n {
					u, v := l.place(b, i)
					if want := motifs[which].at(u, v, m); abs(got[i]-want) > 1e-3 {
						t.Fatalf("%s from %s, jitter %g, place %d: %g, want %g", motifs[which].name, sides[side], jitter, i, got[i], want)
					}
				}
			}
		}
	}
}

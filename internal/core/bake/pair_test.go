package bake

import (
	"context"
	"math"
	"slices"
	"testing"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
)

// halves cuts a sphere's faces into two parts that share no vertex; normals at the cut come from each half's own
// faces, as an exporter of single parts makes them.
func halves(nu, nv int) *mesh.Model {
	m := mesh.BumpySphere(nu, nv)
	left := map[uint32]uint32{}
	m.Parts = []string{"half_a", "half_b"}
	for t := range m.Tris {
		a, b, c := m.Corners(t)
		if a.Add(b).Add(c).Y >= 0 {
			continue
		}
		m.Part[t] = 1
		for k, v := range m.Tris[t] {
			n, ok := left[v]
			if !ok {
				n = uint32(len(m.Positions))
				left[v] = n
				m.Positions = append(m.Positions, m.Positions[v])
				m.UVs = append(m.UVs, m.UVs[v])
				m.Normals = append(m.Normals, m.Normals[v])
			}
			m.Tris[t][k] = n
		}
	}
	return m
}

// own gives every vertex the mean of its own faces' normals, weighted by angle.
func own(m *mesh.Model) {
	weld := make([]uint32, len(m.Positions))
	byPlace := map[geom.Vec3]map[int32]uint32{}
	part := make([]int32, len(m.Positions))
	for t, k := range m.Tris {
		for _, v := range k {
			part[v] = m.Part[t]
		}
	}
	for i, p := range m.Positions {
		if byPlace[p] == nil {
			byPlace[p] = map[int32]uint32{}
		}
		if _, ok := byPlace[p][part[i]]; !ok {
			byPlace[p][part[i]] = uint32(i)
		}
		weld[i] = byPlace[p][part[i]]
	}
	sum := make([]geom.Vec3, len(m.Positions))
	for t, k := range m.Tris {
		n := m.FaceNormal(t)
		for c, v := range k {
			p, q, r := m.Positions[v], m.Positions[k[(c+1)%3]], m.Positions[k[(c+2)%3]]
			x, y := q.Sub(p).Norm(), r.Sub(p).Norm()
			sum[weld[v]] = sum[weld[v]].Add(n.Mul(float32(math.Acos(float64(max(-1, min(1, x.Dot(y))))))))
		}
	}
	for i := range m.Normals {
		m.Normals[i] = sum[weld[i]].Norm()
	}
}

// Two halves of one surface, with normals that part at the cut, bake as the whole does: normals and occlusion
// agree to 1/255 everywhere, across the cut too, from low-polys and from high-polys cut alike, although each
// half sees only its own.
func TestHalvesOfOneSurfaceBakeAsTheWhole(t *testing.T) {
	whole := func(nu, nv int) *mesh.Model {
		m := halves(nu, nv)
		for i := range m.Part {
			m.Part[i] = 0
		}
		m.Parts = []string{"half_a"}
		own(m)
		return m
	}
	cut := func(nu, nv int) *mesh.Model {
		m := halves(nu, nv)
		own(m)
		return m
	}
	step, one := 0.0, whole(48, 24)
	for i, n := range cut(48, 24).Normals {
		step = max(step, float64(n.Sub(one.Normals[i]).Len()))
	}
	if step < 0.02 {
		t.Fatalf("the halves' normals part by %.4f only; the test shows nothing", step)
	}
	for _, c := range []struct {
		name                 string
		low, high, one, many *mesh.Model
	}{
		{"low-poly alone", cut(48, 24), nil, whole(48, 24), nil},
		{"from a cut high-poly", cut(48, 24), cut(160, 80), whole(48, 24), whole(160, 80)},
	} {
		s := Settings{Size: 64, Rays: 4096, Samples: 1, Sees: SeesOwn, Front: 0.03, Rear: 0.03}
		_, _, got := bakeFirst(t, c.low, c.high, s, AO, WorldNormal)
		_, _, want := bakeFirst(t, c.one, c.many, s, AO, WorldNormal)
		for k := range got {
			// A ray more or less before a texel is settled may move it by a fraction more than that; a step would
			// move the whole row at the cut.
			row, allow := 0.0, 65535./255
			for i := range got[k].Pix {
				d := float64(got[k].Pix[i]) - float64(want[k].Pix[i])
				if y := i / got[k].Channels / 64; y == 31 || y == 32 {
					row += d / float64(2*64*got[k].Channels)
				}
				if got[k].Kind == AO {
					allow = 1.5 * 65535. / 255
				}
				if math.Abs(d) > allow {
					t.Fatalf("%s: %s differs by %.1f/255 at value %d", c.name, got[k].Kind, d/257, i)
				}
			}
			if math.Abs(row) > 0.1*65535./255 {
				t.Errorf("%s: %s is off by %.2f/255 along the cut", c.name, got[k].Kind, row/257)
			}
		}
	}
}

// Parts that meet at an edge, as a box's sides do, are not one surface.
func TestPartsWithACreaseStayApart(t *testing.T) {
	top := mesh.Grid(4, 4, 0, func(s, t float64) [3]float64 { return [3]float64{s - 1, 0, 1 - t} })
	top.Append(mesh.Grid(4, 4, 0, func(s, t float64) [3]float64 { return [3]float64{0, -s, 1 - t} }))
	top.Parts[0], top.Parts[1] = "top", "side"
	normals, parts := joined(top)
	if !slices.Equal(parts, []int32{0, 1}) || &normals[0] != &top.Normals[0] {
		t.Errorf("groups %v, want each part on its own with its normals", parts)
	}
}

// Endings are the user's: parts pair by what is left of their names, whatever the case.
func TestEndingsOfNamesCanBeChosen(t *testing.T) {
	low := mesh.Grid(1, 1, 0, func(s, t float64) [3]float64 { return [3]float64{s, 0, 1 - t} })
	low.Parts[0] = "Lid.game"
	high := mesh.Grid(1, 1, 0, func(s, t float64) [3]float64 { return [3]float64{s, 0.001, 1 - t} })
	high.Parts[0] = "lid.SCULPT"
	extra := mesh.Grid(1, 1, 0, func(s, t float64) [3]float64 { return [3]float64{s, 3, 1 - t} })
	extra.Parts[0] = "bolt"
	high.Append(extra)
	for _, c := range []struct {
		endings  []string
		unpaired int
		alone    []string
	}{{nil, 1, []string{"lid.SCULPT", "bolt"}}, {[]string{".game", ".sculpt"}, 0, []string{"bolt"}}} {
		src, err := Prepare(context.Background(), low, high, Settings{Size: 64, Rays: 1, Endings: c.endings})
		if err != nil {
			t.Fatal(err)
		}
		if u := src.Unpaired(); len(u) != c.unpaired {
			t.Errorf("endings %v: unpaired %v, want %d", c.endings, u, c.unpaired)
		}
		if _, alone := src.Pairings(); !slices.Equal(alone, c.alone) {
			t.Errorf("endings %v: alone %v, want %v", c.endings, alone, c.alone)
		}
	}
}

// A high-poly 20 mm above one part and 5 mm below another: the suggestion covers the distances, with a fifth to
// spare, part by part; what is set by hand stands.
func TestReachIsSuggestedFromTheShapes(t *testing.T) {
	flat := func(part string, x, y float64) *mesh.Model {
		m := mesh.Grid(8, 8, 0, func(s, t float64) [3]float64 { return [3]float64{x + s, y, 1 - t} })
		m.Parts[0] = part
		return m
	}
	low, high := flat("a", 0, 0), flat("a", 0, 0.02)
	low.Append(flat("b", 1.5, 0))
	high.Append(flat("b", 1.5, -0.005))
	src, err := Prepare(context.Background(), low, high, Settings{Size: 64, Rays: 1})
	if err != nil {
		t.Fatal(err)
	}
	r := src.ReachOf()
	near := func(got, want float64) bool { return math.Abs(got-want) < 0.1*want }
	if !near(r[0].Front, 0.024) || !near(r[1].Rear, 0.006) || r[0].Rear > 0.005 || r[1].Front > 0.005 {
		t.Errorf("suggested %v, want 24 mm in front of a and 6 mm behind b, hardly anything else", r)
	}
	set, _ := uv.Sets(low, uv.PerMaterial)
	if _, missed, err := src.Misses(context.Background(), &set[0], 64); err != nil || missed > 0 {
		t.Errorf("%d texels miss with what is suggested, %v", missed, err)
	}
	src, err = Prepare(context.Background(), low, high, Settings{Size: 64, Rays: 1, Front: 0.001, Parts: map[string]Reach{"b": {Rear: 0.05}}})
	if err != nil {
		t.Fatal(err)
	}
	if r := src.ReachOf(); r[0].Front != 0.001 || r[1].Rear != 0.05 || r[1].Front != 0.001 {
		t.Errorf("set by hand %v", r)
	}
	// The cage is where the rays begin and end.
	front, _ := src.Shell()
	if y := front[0].Y; math.Abs(float64(y)-0.001) > 1e-6 {
		t.Errorf("the shell stands %g m off, want 1 mm", y)
	}
	mask, missed, err := src.Misses(context.Background(), &set[0], 64)
	if err != nil || missed == 0 {
		t.Fatalf("nothing misses with 1 mm, %v", err)
	}
	n := 0
	for _, v := range mask {
		if v == 2 {
			n++
		}
	}
	if n != missed {
		t.Errorf("%d texels are marked, %d counted", n, missed)
	}
}

// At a hard edge rays along the faces' own normals leave a gap that averaged rays close: the rounded edge of the
// high-poly is found only by these.
func TestAveragedRaysCloseHardEdges(t *testing.T) {
	box := mesh.Grid(1, 1, 0, func(s, t float64) [3]float64 { return [3]float64{s - 1, 0, 1 - t} })
	box.Append(mesh.Grid(1, 1, 0, func(s, t float64) [3]float64 { return [3]float64{0, -s, 1 - t} }))
	const r = 0.1
	round := mesh.Grid(64, 1, 0, func(s, t float64) [3]float64 {
		a := math.Pi / 2 * s
		return [3]float64{-r + r*math.Sin(a), -r + r*math.Cos(a), 1 - t}
	})
	sets, err := uv.Sets(box, uv.Single)
	if err != nil {
		t.Fatal(err)
	}
	corner := func(straight bool) float64 {
		src, err := Prepare(context.Background(), box, round, Settings{Size: 256, Rays: 1, Samples: 1, Front: 0.05, Rear: 0.1, Straight: straight})
		if err != nil {
			t.Fatal(err)
		}
		maps, err := src.Bake(context.Background(), &sets[0], []string{WorldNormal}, nil)
		if err != nil {
			t.Fatal(err)
		}
		surf := surface.Rasterise(box, &sets[0], 256, 0, 0)
		tilt := 0.0
		for i := range surf.Len() {
			if p := surf.Position(i); p.Y == 0 && p.X > -0.006 {
				tilt = max(tilt, float64(maps[0].Pix[3*surf.Texel[i]])/65535*2-1)
			}
		}
		return tilt
	}
	// On a quarter round both sides meet at 45°, where the normal's x is √½.
	if got := corner(false); math.Abs(got-math.Sqrt(0.5)) > 0.06 {
		t.Errorf("averaged rays: the normal at the edge leans %.3f, want 0.707", got)
	}
	if got := corner(true); got < 0.9 {
		t.Errorf("straight rays: the normal at the edge leans %.3f, want nearly 1, past the middle of the round", got)
	}
}

// A high-poly that ends a fraction of a texel inside the low-poly's open rim is found there all the same; one that ends
// farther inside is missed, but for a row of texels at the most.
func TestRimsReachATexelInwards(t *testing.T) {
	plate := func(margin float64) *mesh.Model {
		return mesh.Grid(4, 4, 0, func(s, t float64) [3]float64 {
			return [3]float64{margin + (1-2*margin)*s, 0, margin + (1-2*margin)*(1-t)}
		})
	}
	const size = 64
	for _, c := range []struct {
		margin      float64 // 0.6 and 7 texels
		least, most int
	}{{0.01, 0, 0}, {0.11, 64*64 - 52*52, 64*64 - 50*50}} {
		low := plate(0)
		sets, err := uv.Sets(low, uv.Single)
		if err != nil {
			t.Fatal(err)
		}
		src, err := Prepare(context.Background(), low, plate(c.margin), Settings{Size: size, Rays: 16, Samples: 1, Front: 0.01, Rear: 0.01})
		if err != nil {
			t.Fatal(err)
		}
		_, missed, err := src.Misses(context.Background(), &sets[0], size)
		if err != nil {
			t.Fatal(err)
		}
		if missed < c.least || missed > c.most {
			t.Errorf("a margin of %g m: %d texels missed, want %d to %d", c.margin, missed, c.least, c.most)
		}
	}
}

package layout

import (
	"context"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"crust/internal/core/mesh"
)

// Shifted words against moving bit by bit.
func TestShiftedRowsMatchBitByBit(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 9))
	for range 200 {
		src, dst := make([]uint64, 5), make([]uint64, 1+r.IntN(5))
		for i := range src {
			src[i] = r.Uint64()
		}
		for i := range dst {
			dst[i] = r.Uint64() & r.Uint64()
		}
		by := r.IntN(600) - 300
		want := append([]uint64(nil), dst...)
		for x := range 64 * len(dst) {
			if at := x + by; at >= 0 && at < 64*len(src) && src[at/64]>>(at%64)&1 == 1 {
				want[x/64] |= 1 << (x % 64)
			}
		}
		orShifted(dst, src, by)
		for i := range dst {
			if dst[i] != want[i] {
				t.Fatalf("shifted by %d: word %d is %x, want %x", by, i, dst[i], want[i])
			}
		}
	}
}

// rectangle is a shape of two triangles.
func rectangle(w, h, angle float64) shape {
	sin, cos := math.Sincos(angle)
	p := func(x, y float64) [2]float64 { return [2]float64{cos*x - sin*y, sin*x + cos*y} }
	return shape{tri: [][3][2]float64{{p(0, 0), p(w, 0), p(w, h)}, {p(0, 0), p(w, h), p(0, h)}}, area: w * h}
}

// The narrowest box of a turned rectangle is the rectangle (Freeman & Shapira, 1975), laid flat.
func TestUprightTurnFindsARectanglesOwnBox(t *testing.T) {
	for _, angle := range []float64{0, 0.3, 1.1, 2.5, -0.7} {
		s := rectangle(3, 1, angle)
		b := boxOf(s.tri, uprightTurn(s.tri))
		if w, h := b[2]-b[0], b[3]-b[1]; math.Abs(w-3) > 1e-9 || math.Abs(h-1) > 1e-9 {
			t.Errorf("turned by %.1f: the box is %.4f × %.4f, want 3 × 1", angle, w, h)
		}
	}
}

// The hull of points in a square with some inside is its four corners.
func TestHullOfASquare(t *testing.T) {
	tri := [][3][2]float64{{{0, 0}, {1, 0}, {1, 1}}, {{0, 0}, {1, 1}, {0, 1}}, {{0.2, 0.3}, {0.5, 0.5}, {0.7, 0.1}}}
	if h := hullOf(points(tri)); len(h) != 4 {
		t.Errorf("the hull has %d corners: %v", len(h), h)
	}
}

// Cells that a triangle touches, against testing many of its points.
func TestCoveredCellsHoldEveryPoint(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 2))
	const n = 24
	for range 60 {
		var q [3][2]float64
		for k := range q {
			q[k] = [2]float64{r.Float64() * n, r.Float64() * n}
		}
		rows := make([]uint64, n)
		cover(q, n, n, rows, nil)
		full := make([]bool, n*n)
		for at := range full {
			full[at] = rows[at/n]>>(at%n)&1 == 1
		}
		for range 4000 {
			u, v := r.Float64(), r.Float64()
			if u+v > 1 {
				u, v = 1-u, 1-v
			}
			x := q[0][0] + u*(q[1][0]-q[0][0]) + v*(q[2][0]-q[0][0])
			y := q[0][1] + u*(q[1][1]-q[0][1]) + v*(q[2][1]-q[0][1])
			if !full[int(y)*n+int(x)] {
				t.Fatalf("the point (%.3f, %.3f) of %v lies in a cell that is not covered", x, y, q)
			}
		}
		// And no cell is covered that is far from it.
		for at, on := range full {
			if !on {
				continue
			}
			x, y := float64(at%n), float64(at/n)
			if x+1 < min(q[0][0], q[1][0], q[2][0]) || x > max(q[0][0], q[1][0], q[2][0]) || y+1 < min(q[0][1], q[1][1], q[2][1]) || y > max(q[0][1], q[1][1], q[2][1]) {
				t.Fatalf("cell (%g, %g) is outside the box of %v", x, y, q)
			}
		}
	}
}

// Runs are where bits are set, counted bit by bit.
func TestRunsAreTheSetBits(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 8))
	for range 200 {
		const n = 200
		row, want := make([]uint64, n/64+1), make([]bool, n)
		for range r.IntN(5) {
			a := r.IntN(n)
			b := a + r.IntN(n-a+1)
			setBits(row, a, b)
			for x := a; x < b; x++ {
				want[x] = true
			}
		}
		got := make([]bool, n)
		last := int32(-1)
		for _, c := range runsOf(row, nil) {
			if c.a <= last || c.b <= c.a {
				t.Fatalf("run %v after one that ends at %d", c, last)
			}
			last = c.b
			for x := c.a; x < c.b; x++ {
				got[x] = true
			}
		}
		if !slices.Equal(got, want) {
			t.Fatalf("runs %v of %x", runsOf(row, nil), row)
		}
	}
}

// A place that the board offers is free, counted cell by cell, and the first in its order that is.
func TestLowestPlaceIsTheFirstFreeOne(t *testing.T) {
	p := newPacker([]shape{rectangle(0.2, 0.1, 0), rectangle(0.13, 0.22, 0.4), rectangle(0.3, 0.05, 1)}, 1, 0.03)
	p.grid = 64
	p.fresh(1)
	b := newBoard(p.grid)
	taken := make([]bool, p.grid*p.grid)
	border := 1
	for i := range 3 {
		m := p.maskAt(i, 0, 1)
		free := func(x, y int) bool {
			for r, runs := range m.clear {
				for _, c := range runs {
					for k := c.a; k < c.b; k++ {
						cx, cy := x+int(k)-m.reach, y+r-m.reach
						if cx >= 0 && cy >= 0 && cx < p.grid && cy < p.grid && taken[cy*p.grid+cx] {
							return false
						}
					}
				}
			}
			return true
		}
		wantX, wantY := -1, -1
	search:
		for y := border; y <= p.grid-border-m.h; y++ {
			for x := border; x <= p.grid-border-m.w; x++ {
				if free(x, y) {
					wantX, wantY = x, y
					break search
				}
			}
		}
		x, y, ok := b.lowest(m, border, 0, make([]uint64, b.words))
		if !ok || x != wantX || y != wantY {
			t.Fatalf("shape %d goes to (%d, %d), %v; cell by cell the first free place is (%d, %d)", i, x, y, ok, wantX, wantY)
		}
		b.take(m, x, y)
		for r, runs := range m.cells {
			for _, c := range runs {
				for k := c.a; k < c.b; k++ {
					taken[(y+r)*p.grid+x+int(k)] = true
				}
			}
		}
	}
}

// Four squares fill a tile but for the margins: 2·s + 3 gaps, half a gap at each border.
func TestFourSquaresFillATile(t *testing.T) {
	const margin = 0.02
	p := newPacker([]shape{rectangle(1, 1, 0), rectangle(1, 1, 0), rectangle(1, 1, 0), rectangle(1, 1, 0)}, 1, margin)
	rough, err := p.rough(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	scale, spots, err := p.pack(context.Background(), rough)
	if err != nil || len(spots) != 4 {
		t.Fatal(len(spots), err)
	}
	if best := (1 - 2*margin) / 2; scale > best || scale < 0.96*best {
		t.Errorf("sides of %.4f of the tile, want nearly %.4f", scale, best)
	}
}

// A tube rolls out in a few broad strips, which a developable surface does without stretch.
func TestATubeRollsOut(t *testing.T) {
	const r, long = 0.5, 1.2
	m := welded(mesh.Grid(40, 6, 0, func(s, t float64) [3]float64 {
		a := -s * 2 * math.Pi
		return [3]float64{r * math.Cos(a), long * t, r * math.Sin(a)}
	}))
	_, u, l := relaid(t, m, Options{Into: OneTile, Margin: 0.02})
	if l.Report.Islands > 3 || l.Report.Stretch > 1.001 || l.Report.Worst > 1.01 {
		t.Errorf("%d islands of stretch %.4f, %.4f; want three at the most, as good as 1", l.Report.Islands, l.Report.Stretch, l.Report.Worst)
	}
	if over, err := u.Overlaps(context.Background()); err != nil || len(over) > 0 {
		t.Errorf("%d overlaps, %v", len(over), err)
	}
}

// The largest of σ₁ and 1/σ₂ of a map that doubles one direction is 2, and of a rigid one 1.
func TestStretchOfChartsIsOfSingularValues(t *testing.T) {
	m := mesh.Grid(1, 1, 0, func(s, t float64) [3]float64 { return [3]float64{s, t, 0} })
	a := newAtlas(m, func(int) int32 { return 0 })
	all := []int32{0, 1}
	a.glue(all, true)
	f := a.flattener(all)
	if !f.project() {
		t.Fatal("a plane was not projected")
	}
	c := f.chart()
	if c == nil || math.Abs(c.median-1) > 1e-9 || math.Abs(c.area-1) > 1e-6 {
		t.Fatalf("%+v, want a median of 1 over 1 m²", c)
	}
	for i := range f.uv {
		f.uv[i][0] *= 2
	}
	if c = f.chart(); c == nil || math.Abs(c.median-2) > 1e-9 {
		t.Errorf("%+v, want a median of 2", c)
	}
	for i := range f.uv {
		f.uv[i][0] *= -1
	}
	if f.chart() != nil {
		t.Error("faces turned over were taken for sound")
	}
}

// A rim that crosses itself, and a fan that winds round by more than a circle, are told.
func TestRimsThatCrossAndFansThatWind(t *testing.T) {
	bow := [][2]float64{{0, 0}, {1, 1}, {1, 0}, {0, 1}}
	rim := [][2]int32{{0, 1}, {1, 2}, {2, 3}, {3, 0}}
	if !crosses(bow, rim) {
		t.Error("a bow tie does not cross itself")
	}
	if square := [][2]float64{{0, 0}, {1, 0}, {1, 1}, {0, 1}}; crosses(square, rim) {
		t.Error("a square crosses itself")
	}
	fan := func(steps int, angle float64) *chart {
		c := &chart{uv: [][2]float64{{0, 0}}}
		for i := range steps + 1 {
			sin, cos := math.Sincos(angle * float64(i) / float64(steps))
			c.uv = append(c.uv, [2]float64{cos, sin})
			if i > 0 {
				c.tri = append(c.tri, [3]int32{0, int32(i), int32(i + 1)})
			}
		}
		return c
	}
	if winds(fan(8, 6)) || !winds(fan(10, 7)) {
		t.Error("a fan of 6 rad winds, or one of 7 rad does not")
	}
}

// A flat sheet has no curved face, a ball has hardly any other; the foretold time follows, and grows with the faces.
func TestForetoldTimesFollowFacesAndCurves(t *testing.T) {
	flat := func(n int) *mesh.Model {
		return mesh.Grid(n, n, 0, func(s, t float64) [3]float64 { return [3]float64{s, t, 0} })
	}
	ball := mesh.Sphere(200, 160, 1, [3]float64{})
	if a, b := curvedShare(flat(8)), curvedShare(mesh.Sphere(24, 16, 1, [3]float64{})); a != 0 || b < 0.99 {
		t.Errorf("%.2f of a sheet and %.2f of a ball are curved, want 0 and 1", a, b)
	}
	if few, many, curved := Foretell(flat(150)), Foretell(flat(180)), Foretell(ball); !(few < many && many < curved) || len(ball.Tris) > 2*180*180 {
		t.Errorf("%.1f s, %.1f s with more faces, %.1f s with curved ones", few, many, curved)
	}
}

// With many islands the margin that gives way is not reckoned smaller than need be: little more than half of the tile
// is used.
func TestTheMarginOfManyIslandsIsNotSmallerThanNeedBe(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	side := func() float64 { return 0.01 * math.Pow(3, r.Float64()) }
	shapes := []shape{rectangle(1, 1, 0), rectangle(1, 1, 0), rectangle(1, 1, 0)}
	for range manyShapes + 20 {
		shapes = append(shapes, rectangle(side(), side(), 0))
	}
	p := newPacker(shapes, 1, 0.03)
	scale, err := p.fit(context.Background())
	if used := p.used(scale); err != nil || used < wellUsed || used > 1.14*wellUsed || p.margin >= 0.03 {
		t.Errorf("%.3f of the tile is used with a margin of %.4f, %v; want a little over %.2f", used, p.margin, err, wellUsed)
	}
}

// What keeps clear of an island is all cells within the margin's reach of a covered one: against each pair of cells.
func TestGrownRowsAreTheCellsWithinReach(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	for _, reach := range []int{1, 3, 9} {
		half := make([]int, 2*reach+1)
		for dy := range half {
			half[dy] = -1
			if d := max(dy-reach, reach-dy); d < reach {
				half[dy] = reach - 1 - d/2
			}
		}
		for n := range 40 {
			w, h := 1+rng.IntN(150), 1+rng.IntN(20)
			cells, full := make([][]run, h), make([]uint64, (w/64+1)*h)
			rows, a, b := h, 0, 0
			if n%2 == 0 { // scattered, or in one piece
				rows = 1 + rng.IntN(12)
			}
			for y := range rows {
				if n%2 == 0 || y == 0 {
					a = rng.IntN(w)
				} else { // it begins where it touches the row before
					a = max(0, a-30) + rng.IntN(min(w-1, b)-max(0, a-30)+1)
				}
				if n%2 == 0 {
					y = rng.IntN(h)
				}
				b = min(w, a+1+rng.IntN(30))
				setBits(full[y*(w/64+1):][:w/64+1], a, b)
			}
			for y := range cells {
				cells[y] = runsOf(full[y*(w/64+1):][:w/64+1], nil)
			}
			cw, ch := w+2*reach, h+2*reach
			got := grown(cells, half, reach, cw, ch)
			for y := range ch {
				in := make([]bool, cw)
				for _, c := range got[y] {
					for x := c.a; x < c.b; x++ {
						in[x] = true
					}
				}
				for x := range cw {
					want := false
					for j, runs := range cells {
						dy := j + reach - y
						if dy < -reach || dy > reach || half[dy+reach] < 0 {
							continue
						}
						for _, c := range runs {
							want = want || x-reach >= int(c.a)-half[dy+reach] && x-reach < int(c.b)+half[dy+reach]
						}
					}
					if in[x] != want {
						t.Fatalf("reach %d, cell %d, %d: %v, want %v", reach, x, y, in[x], want)
					}
				}
			}
		}
	}
}

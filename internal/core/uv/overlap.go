package uv

import (
	"cmp"
	"context"
	"math"
	"slices"
	"sort"

	"crust/internal/core/geom"
	"crust/internal/core/par"
)

// Overlap is two islands, or one that folds over itself, that share space.
type Overlap struct {
	A, B     int     // islands; equal when one folds over itself
	Area     float64 // share of the tile that is covered twice
	Stacked  bool    // laid on each other on purpose: copies of one shape
	Mirrored bool    // and one of them is a mirror image
	Tris     []int32 // of both, up to maxPlaces
	Shapes   [][]geom.Vec2
}

// What overlaps keep for showing: faces of one, and of all of a set.
const (
	maxPlaces = 4000
	maxShown  = 200_000
)

// touching is how deep faces may reach into each other, in tiles, before it counts: rounding of
// shared borders stays far below it.
const touching = 1e-6

// crowd is how many pieces of one cell are held against each other; more lie there only when hundreds of
// islands are stacked.
const crowd = 1500

// How many pairs of faces of one set are held against each other, and how many of those that overlap are
// kept. Beyond, what is found is the least there is.
const (
	mostTests = 24_000_000
	mostHits  = 400_000
)

// same is how far apart, in tiles, the corners of faces may be that count as laid on each other.
const same = 1e-6

// hit is a pair of faces that overlap.
type hit struct {
	a, b int32
	area float64
}

// alike are UV triangles with the same corners, in any order.
type alike [6]int32

func alikeOf(p [3][2]float64) alike {
	var q [3][2]int32
	for k, c := range p {
		q[k] = [2]int32{int32(math.Round(max(-500, min(500, c[0])) / same)), int32(math.Round(max(-500, min(500, c[1])) / same))}
	}
	slices.SortFunc(q[:], func(a, b [2]int32) int { return cmp.Or(cmp.Compare(a[0], b[0]), cmp.Compare(a[1], b[1])) })
	return alike{q[0][0], q[0][1], q[1][0], q[1][1], q[2][0], q[2][1]}
}

// Overlaps finds the faces of one set that share UV space, exactly: faces that meet in a cell of a
// grid are held against each other by their edges as separating lines, and what both cover is clipped
// out (Sutherland & Hodgman, Reentrant Polygon Clipping, 1974). Faces with the same corners are told as
// lying on the first of them, which then stands for all. The order is that of the islands.
func (m *Map) Overlaps(ctx context.Context) ([]Overlap, error) {
	var out []Overlap
	for s := range m.Sets {
		hits, err := m.hits(ctx, s)
		if err != nil {
			return nil, err
		}
		out = append(out, m.group(hits)...)
	}
	return out, nil
}

// turned is a triangle with its corners counter-clockwise and its box.
type turned struct {
	p              [3][2]float64
	x0, y0, x1, y1 float64
}

func turn(p [3][2]float64) (t turned, ok bool) {
	d := (p[1][0]-p[0][0])*(p[2][1]-p[0][1]) - (p[2][0]-p[0][0])*(p[1][1]-p[0][1])
	if d < 0 {
		p[1], p[2] = p[2], p[1]
	}
	return turned{p, min(p[0][0], p[1][0], p[2][0]), min(p[0][1], p[1][1], p[2][1]), max(p[0][0], p[1][0], p[2][0]), max(p[0][1], p[1][1], p[2][1])}, d != 0 && d-d == 0
}

// grid bins boxes into square cells.
type grid struct {
	x, y, step float64
	nx, ny     int
	start      []int32
	items      []int32
}

func (g *grid) cell(x, y float64) (int, int) {
	return max(0, min(g.nx-1, int((x-g.x)/g.step))), max(0, min(g.ny-1, int((y-g.y)/g.step)))
}

// newGrid bins n boxes into about side × side cells.
func newGrid(n, side int, box func(i int) (x0, y0, x1, y1 float64)) *grid {
	g := &grid{x: math.Inf(1), y: math.Inf(1)}
	x1, y1 := math.Inf(-1), math.Inf(-1)
	for i := range n {
		a, b, c, d := box(i)
		g.x, g.y, x1, y1 = min(g.x, a), min(g.y, b), max(x1, c), max(y1, d)
	}
	each := func(f func(i, cell int)) {
		for i := range n {
			a, b, c, d := box(i)
			cx0, cy0 := g.cell(a, b)
			cx1, cy1 := g.cell(c, d)
			for y := cy0; y <= cy1; y++ {
				for x := cx0; x <= cx1; x++ {
					f(i, y*g.nx+x)
				}
			}
		}
	}
	for ; ; side /= 2 { // coarser when the boxes are so large that they would fill the cells many times over
		g.step = max(x1-g.x, y1-g.y, 1e-12) / float64(side)
		g.nx, g.ny = int((x1-g.x)/g.step)+1, int((y1-g.y)/g.step)+1
		entries := 0
		for i := range n {
			a, b, c, d := box(i)
			cx0, cy0 := g.cell(a, b)
			cx1, cy1 := g.cell(c, d)
			entries += (cx1 - cx0 + 1) * (cy1 - cy0 + 1)
		}
		if entries <= 16*n+1<<16 || side <= 1 {
			break
		}
	}
	g.start = make([]int32, g.nx*g.ny+1)
	each(func(_, cell int) { g.start[cell+1]++ })
	for c := range g.nx * g.ny {
		g.start[c+1] += g.start[c]
	}
	g.items = make([]int32, g.start[g.nx*g.ny])
	at := append([]int32(nil), g.start...)
	each(func(i, cell int) { g.items[at[cell]] = int32(i); at[cell]++ })
	return g
}

func (m *Map) hits(ctx context.Context, set int) ([]hit, error) {
	tris := m.Sets[set].Tris
	shape := make([]turned, 0, len(tris))
	of := make([]int32, 0, len(tris))
	var out []hit
	first := make(map[alike]int32, len(tris))
	for n, t := range tris {
		if n%65536 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		p := m.corners(t)
		q, ok := turn(p)
		if !ok {
			continue
		}
		key := alikeOf(p)
		if u, ok := first[key]; ok {
			out = append(out, hit{u, t, polygonArea(q.p[:])})
			continue
		}
		first[key] = t
		shape, of = append(shape, q), append(of, t)
	}
	if len(shape) == 0 {
		return out, nil
	}
	side := max(8, min(1024, int(math.Sqrt(float64(len(shape))))))
	g := newGrid(len(shape), side, func(i int) (float64, float64, float64, float64) {
		q := &shape[i]
		return q.x0, q.y0, q.x1, q.y1
	})
	found := make([][]hit, g.ny)
	err := par.Blocks(ctx, g.ny, 1, func(_, from, to int) {
		for y := from; y < to; y++ {
			tests := mostTests / g.ny
			for x := range g.nx {
				list := g.items[g.start[y*g.nx+x]:g.start[y*g.nx+x+1]]
				list = list[:min(len(list), crowd)]
				for i, a := range list {
					p := &shape[a]
					if tests -= len(list) - i; tests < 0 || len(found[y]) > mostHits/g.ny+1000 || ctx.Err() != nil {
						break
					}
					for _, b := range list[i+1:] {
						q := &shape[b]
						if p.x0 >= q.x1 || q.x0 >= p.x1 || p.y0 >= q.y1 || q.y0 >= p.y1 {
							continue
						}
						// A pair counts in the cell that holds the lower corner of what their boxes share.
						if cx, cy := g.cell(max(p.x0, q.x0), max(p.y0, q.y0)); cx != x || cy != y {
							continue
						}
						if apart(p, q) || apart(q, p) {
							continue
						}
						if area := polygonArea(clipped(p, q)); area > 0 {
							found[y] = append(found[y], hit{of[a], of[b], area})
						}
					}
				}
			}
		}
	})
	if err != nil {
		return nil, err
	}
	for _, f := range found {
		out = append(out, f...)
	}
	return out, nil
}

// apart tells whether some edge of p has q on its outer side, but for touching.
func apart(p, q *turned) bool {
	for k := range 3 {
		a, b := p.p[k], p.p[(k+1)%3]
		ex, ey := b[0]-a[0], b[1]-a[1]
		limit := touching * math.Sqrt(ex*ex+ey*ey)
		out := true
		for _, c := range q.p {
			out = out && ex*(c[1]-a[1])-ey*(c[0]-a[0]) <= limit
		}
		if out {
			return true
		}
	}
	return false
}

// clipped is what both triangles cover.
func clipped(p, q *turned) [][2]float64 {
	poly := append(make([][2]float64, 0, 9), p.p[:]...)
	other := make([][2]float64, 0, 9)
	for k := range 3 {
		a, b := q.p[k], q.p[(k+1)%3]
		side := func(c [2]float64) float64 { return (b[0]-a[0])*(c[1]-a[1]) - (b[1]-a[1])*(c[0]-a[0]) }
		other = other[:0]
		for i, c := range poly {
			d := poly[(i+1)%len(poly)]
			sc, sd := side(c), side(d)
			if sc >= 0 {
				other = append(other, c)
			}
			if sc > 0 && sd < 0 || sc < 0 && sd > 0 {
				f := sc / (sc - sd)
				other = append(other, [2]float64{c[0] + f*(d[0]-c[0]), c[1] + f*(d[1]-c[1])})
			}
		}
		poly, other = other, poly
	}
	return poly
}

// polygonArea is the shoelace formula.
func polygonArea(p [][2]float64) float64 {
	sum := 0.0
	for i, a := range p {
		b := p[(i+1)%len(p)]
		sum += a[0]*b[1] - b[0]*a[1]
	}
	return sum / 2
}

// group gathers hits by pairs of islands.
func (m *Map) group(hits []hit) []Overlap {
	at := map[[2]int]int{}
	var out []Overlap
	shown := 0
	for _, h := range hits {
		a, b := int(m.Of[h.a]), int(m.Of[h.b])
		if a > b {
			a, b = b, a
		}
		i, ok := at[[2]int{a, b}]
		if !ok {
			i = len(out)
			at[[2]int{a, b}] = i
			out = append(out, Overlap{A: a, B: b})
		}
		o := &out[i]
		o.Area += h.area
		if len(o.Tris) < maxPlaces && shown < maxShown {
			shown++
			o.Tris = append(o.Tris, h.a, h.b)
			p, _ := turn(m.corners(h.a))
			q, _ := turn(m.corners(h.b))
			var shape []geom.Vec2
			for _, c := range clipped(&p, &q) {
				shape = append(shape, geom.Vec2{X: float32(c[0]), Y: float32(c[1])})
			}
			o.Shapes = append(o.Shapes, shape)
		}
	}
	for i := range out {
		o := &out[i]
		o.Stacked, o.Mirrored = m.stacked(o)
	}
	sort.Slice(out, func(i, j int) bool {
		return out[i].A < out[j].A || out[i].A == out[j].A && out[i].B < out[j].B
	})
	return out
}

// stacked tells copies laid on each other from accidents: two islands of as many faces that cover
// the same space but for 2 % and whose surfaces are as large but for 5 %.
func (m *Map) stacked(o *Overlap) (stacked, mirrored bool) {
	a, b := &m.Islands[o.A], &m.Islands[o.B]
	if o.A == o.B || len(a.Tris) != len(b.Tris) {
		return false, false
	}
	near := func(x, y, share float64) bool { return math.Abs(x-y) <= share*max(x, y) }
	if !near(a.Area, b.Area, 0.05) || !near(a.UVArea, b.UVArea, 0.02) || o.Area < 0.98*a.UVArea {
		return false, false
	}
	return true, a.Mirrored() != b.Mirrored()
}

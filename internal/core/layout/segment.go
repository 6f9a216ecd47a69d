package layout

import (
	"cmp"
	"container/heap"
	"context"
	"math"
	"slices"
	"sort"
)

// cut is a way to divide a surface: how far faces of a grown island may lean from its mean, in degrees,
// how far from its seed it grows, as a share of the side of the square that would hold the whole
// surface, and what neighbours may be joined to.
type cut struct {
	angle, reach float64
	median, high float64 // stretch that a joined island may have at the most: median and 95th percentile; 0 for no joining
	fill         float64 // how much of its box it must fill, as a share of what its halves fill
}

// cuts are tried one after the other, and the one that fills the tiles best is taken. Beyond about 60°
// flattening a round shape stretches its rim by more than a fifth; long bent strips pack badly, and
// what is straight is joined again. The first leaves open surfaces like land in one piece.
var cuts = []cut{{64, 10, 0, 0, 0}, {58, 0.25, 1.08, 1.22, 0.8}, {70, 0.35, 1.13, 1.6, 0.9}, {58, 0.3, 1.13, 1.6, 0.9}}

// manyFaces is from where on only the first cut is made, for time.
const manyFaces = 60_000

// joinTurn is the mean angle over a shared border, in degrees, from which islands stay apart: hard
// edges are where seams belong (common practice).
const joinTurn = 70

type step struct {
	cost float64
	face int32
	seed int32
}

type queue []step

func (q queue) Len() int { return len(q) }
func (q queue) Less(i, j int) bool {
	if q[i].cost != q[j].cost {
		return q[i].cost < q[j].cost
	}
	return q[i].face < q[j].face
}
func (q queue) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q *queue) Push(x any)   { *q = append(*q, x.(step)) }
func (q *queue) Pop() any {
	old := *q
	x := old[len(old)-1]
	*q = old[:len(old)-1]
	return x
}

// grow divides faces into regions whose normals lean no more than angle degrees from their mean. The
// first round finds how many are needed; later ones grow them all at once from their middles, so that
// they come out even (Lloyd's iteration, as in Cohen-Steiner, Alliez & Desbrun, Variational Shape
// Approximation, 2004).
func (a *atlas) grow(faces []int32, angle, share float64) [][]int32 {
	region := map[int32]int32{} // face → region, −1 for none yet
	for _, t := range faces {
		region[t] = -1
	}
	limit := math.Cos(angle * math.Pi / 180)
	var whole float64
	for _, v := range a.area {
		whole += v
	}
	reach := share * math.Sqrt(whole)
	var seeds []int32
	var sum [][3]float64
	reset := func() {
		sum = sum[:0]
		for _, t := range faces {
			region[t] = -1
		}
	}
	spread := func(from []int32) {
		q := queue{}
		for _, t := range from {
			sum = append(sum, [3]float64{})
			heap.Push(&q, step{0, t, int32(len(sum)) - 1})
		}
		start := make([][3]float64, len(sum))
		for _, s := range q {
			start[s.seed] = a.centre[s.face]
		}
		for q.Len() > 0 {
			s := heap.Pop(&q).(step)
			if region[s.face] >= 0 {
				continue
			}
			n := sum[s.seed]
			if l := norm(n); l > 0 && a.area[s.face] > 0 && dot(n, a.normal[s.face])/l < limit {
				continue
			}
			region[s.face] = s.seed
			sum[s.seed] = add(n, scaled(a.normal[s.face], a.area[s.face]))
			mean := sum[s.seed]
			l := max(norm(mean), 1e-30)
			for k := range int32(3) {
				o := a.mate[3*s.face+k]
				if o < 0 {
					continue
				}
				if r, ok := region[o/3]; !ok || r >= 0 {
					continue
				}
				far := norm(sub(a.centre[o/3], start[s.seed])) / max(reach, 1e-30)
				if far > 1 {
					continue
				}
				cost := 1 - dot(mean, a.normal[o/3])/l + 0.5*far
				heap.Push(&q, step{cost, o / 3, s.seed})
			}
		}
	}
	rest := func() {
		for _, t := range faces {
			if region[t] < 0 {
				spread([]int32{t})
			}
		}
	}
	rest()
	for range 3 {
		seeds = a.middles(faces, region, len(sum))
		reset()
		spread(seeds)
		rest()
	}
	a.straighten(faces, region, sum, limit)
	out := make([][]int32, len(sum))
	for _, t := range faces {
		out[region[t]] = append(out[region[t]], t)
	}
	// A region may hang together only over faces that another took: part it.
	var parts [][]int32
	for _, r := range out {
		if len(r) > 0 {
			parts = append(parts, a.connected(r)...)
		}
	}
	return parts
}

// straighten gives each face to the region that has most of the surface round its corners, a few
// times over, so that seams run straight. A face only goes where it touches along a side and leans no
// more than its region allows.
func (a *atlas) straighten(faces []int32, region map[int32]int32, sum [][3]float64, limit float64) {
	for range 5 {
		moved := false
		for _, t := range faces {
			own := region[t]
			touches := [3]int32{-1, -1, -1}
			border := false
			for k := range int32(3) {
				if o := a.mate[3*t+k]; o >= 0 {
					if r, ok := region[o/3]; ok {
						touches[k] = r
						border = border || r != own
					}
				}
			}
			if !border {
				continue
			}
			round := map[int32]float64{}
			for k := range 3 {
				for _, u := range a.roundVertex(a.m.Tris[t][k]) {
					if r, ok := region[u]; ok && u != t {
						round[r] += a.area[u]
					}
				}
			}
			to := own
			for _, r := range touches {
				if r >= 0 && round[r] > round[to]*1.0001 {
					to = r
				}
			}
			if to == own {
				continue
			}
			n := sum[to]
			if l := norm(n); l > 0 && dot(n, a.normal[t])/l < limit {
				continue
			}
			region[t] = to
			sum[own] = sub(sum[own], scaled(a.normal[t], a.area[t]))
			sum[to] = add(sum[to], scaled(a.normal[t], a.area[t]))
			moved = true
		}
		if !moved {
			return
		}
	}
}

// middles finds for each region the face nearest to its centre.
func (a *atlas) middles(faces []int32, region map[int32]int32, n int) []int32 {
	mid, area := make([][3]float64, n), make([]float64, n)
	for _, t := range faces {
		r := region[t]
		mid[r] = add(mid[r], scaled(a.centre[t], a.area[t]))
		area[r] += a.area[t]
	}
	best, at := make([]float64, n), make([]int32, n)
	for i := range best {
		best[i], at[i] = math.Inf(1), -1
	}
	for _, t := range faces {
		r := region[t]
		if d := norm(sub(a.centre[t], scaled(mid[r], 1/max(area[r], 1e-30)))); d < best[r] {
			best[r], at[r] = d, t
		}
	}
	return slices.DeleteFunc(at, func(t int32) bool { return t < 0 })
}

// connected parts faces into those that hang together over sides that may be glued.
func (a *atlas) connected(faces []int32) (out [][]int32) {
	open := make(map[int32]bool, len(faces))
	for _, t := range faces {
		open[t] = true
	}
	for _, t := range faces {
		if !open[t] {
			continue
		}
		open[t] = false
		list := []int32{t}
		for i := 0; i < len(list); i++ {
			for k := range int32(3) {
				if o := a.mate[3*list[i]+k]; o >= 0 && open[o/3] {
					open[o/3] = false
					list = append(list, o/3)
				}
			}
		}
		slices.Sort(list)
		out = append(out, list)
	}
	return out
}

// glue joins all sides within the faces, or parts them.
func (a *atlas) glue(faces []int32, on bool) {
	in := make(map[int32]bool, len(faces))
	for _, t := range faces {
		in[t] = true
	}
	for _, t := range faces {
		for k := range int32(3) {
			if o := a.mate[3*t+k]; o >= 0 && in[o/3] {
				a.glued[3*t+k] = on
			}
		}
	}
}

// pieces grows islands and flattens them; what will not lie flat is grown again at a smaller angle,
// at last face by face.
func (a *atlas) pieces(ctx context.Context, faces []int32, angle, reach float64) ([]*chart, error) {
	var out []*chart
	for _, region := range a.grow(faces, angle, reach) {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		a.glue(region, true)
		if c, ok := a.flatten(ctx, region); ok {
			out = append(out, c)
			continue
		}
		a.glue(region, false)
		if angle > 4 {
			more, err := a.pieces(ctx, region, angle/1.7, reach)
			if err != nil {
				return nil, err
			}
			out = append(out, more...)
			continue
		}
		for _, t := range region {
			c, ok := a.flatten(ctx, []int32{t})
			if !ok { // a face without area: a point
				c = &chart{faces: []int32{t}, tri: [][3]int32{{0, 1, 2}}, uv: make([][2]float64, 3), stretch: []float64{1}, median: 1, high: 1}
			}
			out = append(out, c)
		}
	}
	return out, nil
}

// border is what two charts share.
type border struct {
	a, b   int
	sides  []int32 // of a's faces
	length float64
	turn   float64 // cosine of the mean angle over it
}

// offer is what joining two neighbours would give.
type offer struct {
	c     *chart
	sides []int32 // to be glued
}

// join puts neighbouring islands together as long as what comes out lies flat with little stretch and
// packs well into a square of the given side, in metres; the pairs with the longest and smoothest borders
// go first. Work is bounded by a budget of faces flattened.
func (a *atlas) join(ctx context.Context, charts []*chart, limit cut, side float64, progress func(float64)) ([]*chart, error) {
	owner := make([]int32, len(a.area))
	for i, c := range charts {
		for _, t := range c.faces {
			owner[t] = int32(i)
		}
	}
	offers := map[[2]*chart]*offer{}
	budget := 16*len(a.area) + 10_000
	whole := budget
	for budget > 0 {
		changed := map[int]bool{}
		borders := a.borders(charts, owner)
		for i := range borders {
			b := &borders[i]
			if err := ctx.Err(); err != nil {
				return nil, err
			}
			x, y := charts[b.a], charts[b.b]
			if changed[b.a] || changed[b.b] || b.turn < math.Cos(joinTurn*math.Pi/180) {
				continue
			}
			o, tried := offers[[2]*chart{x, y}]
			if !tried {
				if budget <= 0 {
					continue
				}
				var used int
				o, used = a.tryJoin(ctx, x, y, b.sides, limit, side)
				offers[[2]*chart{x, y}] = o
				budget -= used
				progress(1 - float64(budget)/float64(whole))
			}
			if o != nil {
				a.accept(charts, owner, b, o)
				changed[b.a], changed[b.b] = true, true
			}
		}
		if len(changed) == 0 {
			break
		}
	}
	return slices.DeleteFunc(charts, func(c *chart) bool { return c == nil }), nil
}

// accept glues an offer.
func (a *atlas) accept(charts []*chart, owner []int32, b *border, o *offer) {
	for _, s := range o.sides {
		a.glued[s], a.glued[a.mate[s]] = true, true
	}
	charts[b.a], charts[b.b] = o.c, nil
	for _, t := range o.c.faces {
		owner[t] = int32(b.a)
	}
}

func (a *atlas) borders(charts []*chart, owner []int32) []border {
	at := map[[2]int32]int{}
	var out []border
	for s, o := range a.mate {
		if o < 0 || int32(s) > o || a.glued[s] {
			continue
		}
		x, y := owner[s/3], owner[o/3]
		side := int32(s)
		if x == y {
			continue // a seam within one island stays
		}
		if x > y {
			x, y, side = y, x, o
		}
		i, ok := at[[2]int32{x, y}]
		if !ok {
			i = len(out)
			at[[2]int32{x, y}] = i
			out = append(out, border{a: int(x), b: int(y)})
		}
		b := &out[i]
		t := a.m.Tris[side/3]
		l := norm(sub(point(a.m, t[side%3]), point(a.m, t[(side%3+1)%3])))
		b.sides = append(b.sides, side)
		b.length += l
		b.turn += l * dot(a.normal[s/3], a.normal[o/3])
	}
	score := make([]float64, len(out))
	for i := range out {
		b := &out[i]
		b.turn /= max(b.length, 1e-30)
		score[i] = b.length / max(min(charts[b.a].rim, charts[b.b].rim), 1e-30) * (0.2 + max(0, b.turn))
	}
	order := make([]int, len(out))
	for i := range order {
		order[i] = i
	}
	sort.Slice(order, func(i, j int) bool {
		return cmp.Or(cmp.Compare(score[order[j]], score[order[i]]), out[order[i]].a-out[order[j]].a, out[order[i]].b-out[order[j]].b) < 0
	})
	sorted := make([]border, len(out))
	for i, k := range order {
		sorted[i] = out[k]
	}
	return sorted
}

// tryJoin flattens two charts together, along all they share, or else along the longest run of it,
// which leaves a tube or a ring cut open.
func (a *atlas) tryJoin(ctx context.Context, x, y *chart, sides []int32, limit cut, side float64) (o *offer, used int) {
	faces := append(append([]int32(nil), x.faces...), y.faces...)
	slices.Sort(faces)
	runs := a.runs(sides)
	tries := [][]int32{sides}
	if len(runs) > 1 {
		tries = append(tries, runs[0])
	}
	for _, sides := range tries {
		for _, s := range sides {
			a.glued[s], a.glued[a.mate[s]] = true, true
		}
		used += len(faces)
		c, ok := a.flattenFrom(ctx, faces, x, y)
		for _, s := range sides {
			a.glued[s], a.glued[a.mate[s]] = false, false
		}
		if ok && packs(c, x, y, limit.fill, side) && c.median <= max(limit.median, min(x.median, y.median)) && c.high <= max(limit.high, min(x.high, y.high)) {
			return &offer{c, sides}, used
		}
	}
	return nil, used
}

// packs tells whether a joined island is of a shape that packs well: not much longer than what fills
// a square with the others, the less so the emptier its box, and not much emptier than its halves.
func packs(c, x, y *chart, share, side float64) bool {
	long, fill := c.box()
	lx, fx := x.box()
	ly, fy := y.box()
	return long <= max(side*(0.45+0.5*fill*fill), lx, ly) && fill >= share*(fx*x.area+fy*y.area)/max(x.area+y.area, 1e-30)
}

// runs orders shared sides into unbroken runs, the longest first.
func (a *atlas) runs(sides []int32) [][]int32 {
	place := func(s int32, k int32) [3]float64 { return point(a.m, a.m.Tris[s/3][(s%3+k)%3]) }
	at := map[[3]float64][]int{}
	for i, s := range sides {
		for k := range int32(2) {
			p := place(s, k)
			at[p] = append(at[p], i)
		}
	}
	seen := make([]bool, len(sides))
	var out [][]int32
	var length []float64
	for i := range sides {
		if seen[i] {
			continue
		}
		seen[i] = true
		list := []int{i}
		for n := 0; n < len(list); n++ {
			for k := range int32(2) {
				near := at[place(sides[list[n]], k)]
				if len(near) > 2 {
					continue
				}
				for _, j := range near {
					if !seen[j] {
						seen[j] = true
						list = append(list, j)
					}
				}
			}
		}
		var run []int32
		l := 0.0
		for _, j := range list {
			run = append(run, sides[j])
			l += norm(sub(place(sides[j], 0), place(sides[j], 1)))
		}
		out, length = append(out, run), append(length, l)
	}
	order := make([]int, len(out))
	for i := range order {
		order[i] = i
	}
	sort.SliceStable(order, func(i, j int) bool { return length[order[i]] > length[order[j]] })
	sorted := make([][]int32, len(out))
	for i, k := range order {
		sorted[i] = out[k]
	}
	return sorted
}

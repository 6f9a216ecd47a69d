package layout

import (
	"cmp"
	"context"
	"math"
	"slices"

	"crust/internal/core/par"
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
var cuts = []cut{{64, 10, 0, 0, 0}, {58, 0.25, 1.08, 1.22, 0.8}, {50, 0.18, 1.08, 1.22, 0.95}, {45, 0.2, 1.08, 1.3, 0.95}, {50, 0.22, 1.08, 1.22, 0.95}, {35, 0.2, 1.08, 1.22, 0.95}}

// manyFaces is from where on only the second cut is made, for time.
const manyFaces = 40_000

// joinTurn is the mean angle over a shared border, in degrees, from which islands stay apart: hard
// edges are where seams belong (common practice). Only islands that are small beside the margin are
// joined over them.
const joinTurn = 70

// tiny is how many margins across an island may be, as the side of a square of its area, to be joined
// over hard edges.
const tiny = 8

type step struct {
	cost float64
	face int32
	seed int32
}

func (s step) before(o step) bool { return s.cost < o.cost || s.cost == o.cost && s.face < o.face }

// queue is a binary heap of steps, the cheapest on top.
type queue []step

func (q *queue) push(s step) {
	h := append(*q, s)
	i := len(h) - 1
	for i > 0 && s.before(h[(i-1)/2]) {
		h[i] = h[(i-1)/2]
		i = (i - 1) / 2
	}
	h[i] = s
	*q = h
}

func (q *queue) pop() step {
	h := *q
	top, last := h[0], h[len(h)-1]
	h = h[:len(h)-1]
	i := 0
	for {
		c := 2*i + 1
		if c >= len(h) {
			break
		}
		if c+1 < len(h) && h[c+1].before(h[c]) {
			c++
		}
		if last.before(h[c]) {
			break
		}
		h[i] = h[c]
		i = c
	}
	if len(h) > 0 {
		h[i] = last
	}
	*q = h
	return top
}

// grow divides faces into regions whose normals lean no more than angle degrees from their mean. The
// first round finds how many are needed; later ones grow them all at once from their middles, so that
// they come out even (Lloyd's iteration, as in Cohen-Steiner, Alliez & Desbrun, Variational Shape
// Approximation, 2004).
func (a *atlas) grow(ctx context.Context, faces []int32, angle, share float64) ([][]int32, error) {
	region := a.region
	reset := func() {
		for _, t := range faces {
			region[t] = -1
		}
	}
	reset()
	limit := math.Cos(angle * math.Pi / 180)
	reach := share * math.Sqrt(a.whole)
	var sum [][3]float64
	var q queue
	spread := func(from []int32) {
		base := int32(len(sum))
		start := make([][3]float64, len(from))
		q = q[:0]
		for i, t := range from {
			sum = append(sum, [3]float64{})
			start[i] = a.centre[t]
			q.push(step{0, t, base + int32(i)})
		}
		for n := 0; len(q) > 0 && (n%4096 > 0 || ctx.Err() == nil); n++ {
			s := q.pop()
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
				side := 3*s.face + k
				for _, n := range a.of(side) {
					o := a.links[n].across(side) / 3
					if region[o] != -1 {
						continue
					}
					far := norm(sub(a.centre[o], start[s.seed-base])) / max(reach, 1e-30)
					if far > 1 {
						continue
					}
					q.push(step{1 - dot(mean, a.normal[o])/l + 0.5*far, o, s.seed})
				}
			}
		}
	}
	rest := func() {
		for _, t := range faces {
			if region[t] < 0 && ctx.Err() == nil {
				spread([]int32{t})
			}
		}
	}
	defer func() {
		for _, t := range faces {
			region[t] = -2
		}
	}()
	rest()
	for range 3 {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		seeds := a.middles(faces, region, len(sum))
		reset()
		sum = sum[:0]
		spread(seeds)
		rest()
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
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
	return parts, nil
}

// straighten gives each face to the region that has most of the surface round its corners, a few
// times over, so that seams run straight. A face only goes where it touches along a side and leans no
// more than its region allows.
func (a *atlas) straighten(faces []int32, region []int32, sum [][3]float64, limit float64) {
	type part struct {
		region int32
		area   float64
	}
	var round []part
	var touches []int32
	for range 5 {
		moved := false
		for _, t := range faces {
			own := region[t]
			touches = touches[:0]
			border := false
			for k := range int32(3) {
				side := 3*t + k
				for _, n := range a.of(side) {
					if r := region[a.links[n].across(side)/3]; r >= 0 {
						touches = append(touches, r)
						border = border || r != own
					}
				}
			}
			if !border {
				continue
			}
			round = append(round[:0], part{own, 0})
			for k := range 3 {
				for _, u := range a.roundVertex(a.m.Tris[t][k]) {
					r := region[u]
					if r < 0 || u == t {
						continue
					}
					i := slices.IndexFunc(round, func(p part) bool { return p.region == r })
					if i < 0 {
						i = len(round)
						round = append(round, part{r, 0})
					}
					round[i].area += a.area[u]
				}
			}
			of := func(r int32) float64 {
				if i := slices.IndexFunc(round, func(p part) bool { return p.region == r }); i >= 0 {
					return round[i].area
				}
				return 0
			}
			to := own
			for _, r := range touches {
				if of(r) > of(to)*1.0001 {
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
func (a *atlas) middles(faces []int32, region []int32, n int) []int32 {
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

// connected parts faces of one region into those that hang together over links.
func (a *atlas) connected(faces []int32) (out [][]int32) {
	region := a.region
	own := region[faces[0]]
	const seen = -3
	for _, t := range faces {
		if region[t] == seen {
			continue
		}
		region[t] = seen
		list := []int32{t}
		for i := 0; i < len(list); i++ {
			for k := range int32(3) {
				side := 3*list[i] + k
				for _, n := range a.of(side) {
					if o := a.links[n].across(side) / 3; region[o] == own {
						region[o] = seen
						list = append(list, o)
					}
				}
			}
		}
		slices.Sort(list)
		out = append(out, list)
	}
	return out
}

// glue joins all links within the faces, or parts them.
func (a *atlas) glue(faces []int32, on bool) {
	for _, t := range faces {
		a.region[t] = -3
	}
	for _, t := range faces {
		for k := range int32(3) {
			for _, n := range a.of(3*t + k) {
				if l := &a.links[n]; a.region[l.a/3] == -3 && a.region[l.b/3] == -3 {
					a.glued[n] = on
				}
			}
		}
	}
	for _, t := range faces {
		a.region[t] = -2
	}
}

// pieces grows islands and flattens them on all cores.
func (a *atlas) pieces(ctx context.Context, faces []int32, angle, reach float64, progress func(float64)) ([]*chart, error) {
	regions, err := a.grow(ctx, faces, angle, reach)
	if err != nil {
		return nil, err
	}
	progress(0.3)
	found := make([][]*chart, len(regions))
	errs := make([]error, len(regions))
	own := make([]*atlas, par.Slots)
	var done sharing
	err = par.Blocks(ctx, len(regions), 1, func(w, i, _ int) {
		if own[w] == nil {
			own[w] = a.own()
		}
		found[i], errs[i] = own[w].lieFlat(ctx, regions[i], angle, reach)
		progress(0.3 + 0.7*done.add(float64(len(regions[i])))/float64(len(faces)))
	})
	if err != nil {
		return nil, err
	}
	var out []*chart
	for i := range regions {
		if errs[i] != nil {
			return nil, errs[i]
		}
		out = append(out, found[i]...)
	}
	return out, nil
}

// lieFlat flattens a region; what will not lie flat is grown again at a smaller angle, at last face by
// face.
func (a *atlas) lieFlat(ctx context.Context, region []int32, angle, reach float64) ([]*chart, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	a.glue(region, true)
	if c, ok := a.flatten(ctx, region); ok {
		return []*chart{c}, nil
	}
	a.glue(region, false)
	var out []*chart
	if angle > 4 {
		parts, err := a.grow(ctx, region, angle/1.7, reach)
		if err != nil {
			return nil, err
		}
		for _, r := range parts {
			more, err := a.lieFlat(ctx, r, angle/1.7, reach)
			if err != nil {
				return nil, err
			}
			out = append(out, more...)
		}
		return out, nil
	}
	for _, t := range region {
		c, ok := a.flatten(ctx, []int32{t})
		if !ok { // a face so thin that it cannot be laid flat
			c = &chart{faces: []int32{t}, tri: [][3]int32{{0, 1, 2}}, uv: make([][2]float64, 3), stretch: []float64{1}, median: 1, high: 1}
		}
		out = append(out, c)
	}
	return out, nil
}

// border is what two charts share.
type border struct {
	a, b   int
	links  []int32
	length float64
	turn   float64 // cosine of the mean angle over it
}

// offer is what joining two neighbours would give.
type offer struct {
	c     *chart
	links []int32 // to be glued
}

// room is what a chart's set has: the side in metres of the square that would just hold its islands,
// and the margin at that scale.
type room struct{ side, margin float64 }

// join puts neighbouring islands together as long as what comes out lies flat with little stretch and
// packs well; the pairs with the longest and smoothest borders go first. Pairs that do not touch each
// other are tried side by side. Work is bounded by a budget of faces flattened.
func (a *atlas) join(ctx context.Context, charts []*chart, limit cut, of func(c *chart) room, progress func(float64)) ([]*chart, error) {
	owner := make([]int32, len(a.area))
	for i := range owner {
		owner[i] = -1
	}
	for i, c := range charts {
		for _, t := range c.faces {
			owner[t] = int32(i)
		}
	}
	refused := map[[2]*chart]bool{}
	budget := 16*len(a.area) + 10_000
	whole := budget
	own := make([]*atlas, par.Slots)
	for budget > 0 {
		busy := make([]bool, len(charts))
		var tries []border
		for _, b := range a.borders(charts, owner) {
			x, y := charts[b.a], charts[b.b]
			if busy[b.a] || busy[b.b] || refused[[2]*chart{x, y}] || !mayJoin(x, y, &b, of(x)) {
				continue
			}
			busy[b.a], busy[b.b] = true, true
			tries = append(tries, b)
		}
		if len(tries) == 0 {
			break
		}
		offers, used := make([]*offer, len(tries)), make([]int, len(tries))
		err := par.Blocks(ctx, len(tries), 1, func(w, i, _ int) {
			if own[w] == nil {
				own[w] = a.own()
			}
			b := &tries[i]
			offers[i], used[i] = own[w].tryJoin(ctx, charts[b.a], charts[b.b], b, limit, of(charts[b.a]))
		})
		if err != nil {
			return nil, err
		}
		for i, o := range offers {
			b := &tries[i]
			budget -= used[i]
			if o == nil {
				refused[[2]*chart{charts[b.a], charts[b.b]}] = true
				continue
			}
			for _, n := range o.links {
				a.glued[n] = true
			}
			charts[b.a], charts[b.b] = o.c, nil
			for _, t := range o.c.faces {
				owner[t] = int32(b.a)
			}
		}
		progress(1 - float64(budget)/float64(whole))
	}
	return slices.DeleteFunc(charts, func(c *chart) bool { return c == nil }), nil
}

// mayJoin tells whether two islands are worth trying.
func mayJoin(x, y *chart, b *border, r room) bool {
	if b.turn >= math.Cos(joinTurn*math.Pi/180) {
		return true
	}
	return min(x.area, y.area) < tiny*tiny*r.margin*r.margin || min(len(x.faces), len(y.faces)) < fewFaces
}

func (a *atlas) borders(charts []*chart, owner []int32) []border {
	at := map[[2]int32]int{}
	var out []border
	for n := range a.links {
		if a.glued[n] {
			continue
		}
		l := &a.links[n]
		x, y := owner[l.a/3], owner[l.b/3]
		if x == y || x < 0 || y < 0 {
			continue // a seam within one island stays
		}
		i, ok := at[[2]int32{min(x, y), max(x, y)}]
		if !ok {
			i = len(out)
			at[[2]int32{min(x, y), max(x, y)}] = i
			out = append(out, border{a: int(min(x, y)), b: int(max(x, y))})
		}
		b := &out[i]
		t := a.m.Tris[l.b/3]
		length := norm(sub(point(a.m, t[l.b%3]), point(a.m, t[(l.b%3+1)%3])))
		b.links = append(b.links, int32(n))
		b.length += length
		b.turn += length * dot(a.normal[l.a/3], a.normal[l.b/3])
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
	slices.SortFunc(order, func(i, j int) int {
		return cmp.Or(cmp.Compare(score[j], score[i]), out[i].a-out[j].a, out[i].b-out[j].b)
	})
	sorted := make([]border, len(out))
	for i, k := range order {
		sorted[i] = out[k]
	}
	return sorted
}

// tryJoin flattens two charts together, along all they share, or else along the longest run of it,
// which leaves a tube or a ring cut open.
func (a *atlas) tryJoin(ctx context.Context, x, y *chart, b *border, limit cut, r room) (o *offer, used int) {
	faces := append(append([]int32(nil), x.faces...), y.faces...)
	slices.Sort(faces)
	tries := [][]int32{b.links}
	if runs := a.runs(b.links); len(runs) > 1 {
		tries = append(tries, runs[0])
	}
	fill := limit.fill
	if b.turn < math.Cos(joinTurn*math.Pi/180) {
		fill = 0.85
	}
	for _, links := range tries {
		for _, n := range links {
			a.glued[n] = true
		}
		c, cost := a.flattenFrom(ctx, faces, x, y, func(c *chart) bool { return packs(c, x, y, fill, r) })
		used += cost
		for _, n := range links {
			a.glued[n] = false
		}
		if c != nil && c.median <= max(limit.median, min(x.median, y.median)) && c.high <= max(limit.high, min(x.high, y.high)) {
			return &offer{c, links}, used
		}
	}
	return nil, used
}

// packs tells whether a joined island is of a shape that packs well: not much longer than what fills
// a square with the others, the less so the emptier its box, and its box with the margin round it not
// much larger than those of its halves.
func packs(c, x, y *chart, share float64, r room) bool {
	w, h := c.box()
	wx, hx := x.box()
	wy, hy := y.box()
	fill := c.area / max(w*h, 1e-30)
	if long := r.side * (0.45 + 0.5*fill*fill); w > max(long, wx, wy) {
		return false
	}
	m := r.margin
	return (w+m)*(h+m)*share <= (wx+m)*(hx+m)+(wy+m)*(hy+m)
}

// runs orders shared links into unbroken runs, the longest first.
func (a *atlas) runs(links []int32) [][]int32 {
	ends := func(n int32) [2]uint32 {
		l := &a.links[n]
		t := a.m.Tris[l.b/3]
		return [2]uint32{a.place[t[l.b%3]], a.place[t[(l.b%3+1)%3]]}
	}
	at := map[uint32][]int{}
	for i, n := range links {
		for _, p := range ends(n) {
			at[p] = append(at[p], i)
		}
	}
	seen := make([]bool, len(links))
	type run struct {
		links  []int32
		length float64
	}
	var out []run
	for i := range links {
		if seen[i] {
			continue
		}
		seen[i] = true
		list := []int{i}
		for n := 0; n < len(list); n++ {
			for _, p := range ends(links[list[n]]) {
				near := at[p]
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
		var r run
		for _, j := range list {
			e := ends(links[j])
			r.links = append(r.links, links[j])
			r.length += norm(sub(point(a.m, e[0]), point(a.m, e[1])))
		}
		out = append(out, r)
	}
	slices.SortStableFunc(out, func(x, y run) int { return cmp.Compare(y.length, x.length) })
	sorted := make([][]int32, len(out))
	for i := range out {
		sorted[i] = out[i].links
	}
	return sorted
}

package layout

import (
	"cmp"
	"context"
	"errors"
	"math"
	"math/bits"
	"math/rand/v2"
	"slices"
	"sort"

	"crust/internal/core/par"
)

// shape is an island to be packed: triangles in metres and what it covers.
type shape struct {
	tri  [][3][2]float64
	area float64
	turn float64 // radians that lay its narrowest box flat
	w, h float64 // of that box
}

// spot is where an island came to lie.
type spot struct {
	tile   int
	turn   int // among the packer's
	angle  float64
	dx, dy float64 // of the turned and scaled island, in tiles
}

// packer places islands on a grid of cells, largest first, each as low as it goes in whichever turn
// keeps it lowest.
type packer struct {
	shapes  []shape
	order   []int
	tiles   int
	others  int // how many sets share the time, 0 for one
	goal    int
	margin  float64
	grid    int
	turns   int
	total   float64 // area, m²
	masks   []*mask // by shape and turn, for the scale and grid of masksAt
	masksAt [2]float64
	spots   []spot  // of many shapes: what rough found is the last word
	settled []int   // by shape: the only turn that is tried, nil for all
	top     float64 // a scale that cannot be passed
	widest  float64 // the longest side of any island's narrowest box, m
}

// Grids of the packing, in cells a side: one to compare cuts on, one to settle the
// order on, one for the last step.
const (
	roughGrid = 512
	midGrid   = 512
	fineGrid  = 2048
)

// fineSteps are tried one on the other on the fine grid for many islands.
var fineSteps = []float64{1.045, 1.025, 1.015, 1.01}

// manyShapes is from how many islands on the rough grid is too rough, and other orders change little.
const manyShapes = 400

// shuffles is how many other orders are tried for each cut of few islands, and settling how many for
// the one that is taken.
const (
	shuffles = 12
	settling = 130
)

// stall is after how many orders in a row that are no better no more are tried.
const stall = 40

func newPacker(shapes []shape, tiles int, margin float64) *packer {
	p := &packer{shapes: shapes, tiles: tiles, margin: margin, grid: roughGrid, turns: 4}
	switch {
	case len(shapes) <= 30:
		p.turns = 32
	case len(shapes) <= 80:
		p.turns = 8
	}
	if len(shapes) > manyShapes {
		p.grid = fineGrid / 2
	}
	widest := 0.0
	p.order = make([]int, len(shapes))
	for i := range shapes {
		p.order[i] = i
		p.total += shapes[i].area
		shapes[i].turn = uprightTurn(shapes[i].tri)
		b := boxOf(shapes[i].tri, shapes[i].turn)
		shapes[i].w, shapes[i].h = b[2]-b[0], b[3]-b[1]
		widest = max(widest, b[2]-b[0], b[3]-b[1])
	}
	sort.SliceStable(p.order, func(i, j int) bool {
		a, b := &shapes[p.order[i]], &shapes[p.order[j]]
		return a.w+a.h > b.w+b.h
	})
	p.widest = widest
	if p.total > 0 && widest > 0 {
		p.top = min(math.Sqrt(float64(tiles)/p.total), 1.42*(1-margin)/widest)
	}
	return p
}

// guess is a scale at which the islands' boxes, with the margin round them, about fill the tiles.
func (p *packer) guess() float64 {
	lo, hi := 0.0, p.top
	for range 40 {
		s := (lo + hi) / 2
		sum := 0.0
		for i := range p.shapes {
			q := &p.shapes[i]
			fill := q.area / max(q.w*q.h, 1e-30)
			sum += (q.w*s + p.margin) * (q.h*s + p.margin) * (0.45 + 0.55*fill)
		}
		if sum > 0.82*float64(p.tiles) {
			hi = s
		} else {
			lo = s
		}
	}
	return lo
}

// search finds about the largest scale that fits: from a first try it goes up or down by steps until one
// fits and the next does not, then halves what is between so many times.
func (p *packer) search(ctx context.Context, first, step float64, halvings int) (scale float64, spots []spot, err error) {
	if !(first > 0) {
		return 0, nil, errNoRoom
	}
	try, fails := min(first, p.top), 0.0
	for n := 0; ; {
		got, ok, err := p.place(ctx, try)
		if err != nil {
			return 0, nil, err
		}
		if ok {
			scale, spots = try, got
		} else {
			fails = try
		}
		switch {
		case spots == nil && try < first*1e-3:
			return 0, nil, errNoRoom
		case spots == nil:
			try /= step
			step *= 1.15 // far off: hurry
		case fails == 0 && scale >= p.top:
			return scale, spots, nil
		case fails == 0:
			try = min(p.top, scale*step)
		case n == halvings:
			return scale, spots, nil
		default:
			n++
			try = (scale + fails) / 2
		}
	}
}

// wellUsed is the share of its tiles that islands must cover for their margin to count as one that fits,
// and leastMargin the share of the margin asked for that is not gone below.
const (
	wellUsed    = 0.5
	leastMargin = 1. / 16
)

// fit finds a scale on the rough grid, with the largest margin, up to the one that is asked for, with
// which the tiles are used well; when none is, with the one that uses them best.
func (p *packer) fit(ctx context.Context) (scale float64, err error) {
	asked, best := p.margin, 0.0
	least := wellUsed * p.possible()
	if len(p.shapes) > manyShapes {
		// Each try takes its time, so the margin is reckoned first.
		for p.margin > asked*leastMargin && p.used(p.guess()) < least*1.05 {
			p.margin *= 0.9
		}
	}
	for {
		s, err := p.rough(ctx)
		if err != nil && !errors.Is(err, errNoRoom) {
			return 0, err
		}
		used := p.used(s)
		if err == nil && used > best*1.02 {
			best, scale = used, s
		} else if best > 0 { // a smaller margin does not help
			p.margin /= 0.75
			p.masks = nil
			return scale, nil
		}
		if best >= least || p.margin <= asked*leastMargin || asked == 0 {
			break
		}
		p.margin *= 0.75
		p.masks = nil
	}
	if best == 0 {
		p.margin = 0
		return p.rough(ctx)
	}
	if len(p.shapes) > manyShapes {
		return p.widen(ctx, scale, asked, least)
	}
	return scale, nil
}

// widen raises a margin that was reckoned too small, as long as the tiles are used well.
func (p *packer) widen(ctx context.Context, scale, asked, least float64) (float64, error) {
	for step := 1.3; step > 1.1 && p.margin < asked && p.used(scale) > least*1.1; {
		margin, spots, goal := p.margin, p.spots, p.goal
		p.margin, p.masks = min(asked, p.margin*step), nil
		s, err := p.rough(ctx)
		if err == nil && p.used(s) >= least {
			scale = s
			continue
		}
		if err != nil && !errors.Is(err, errNoRoom) {
			return 0, err
		}
		p.margin, p.spots, p.goal, p.masks = margin, spots, goal, nil
		step = math.Sqrt(step)
	}
	return scale, nil
}

// used is the share of the tiles that islands cover at a scale.
func (p *packer) used(scale float64) float64 { return scale * scale * p.total / float64(p.tiles) }

// possible is the share of the tiles that could be covered at all: an island cannot be longer than a
// tile's diagonal.
func (p *packer) possible() float64 {
	if p.total == 0 || p.widest == 0 {
		return 1
	}
	return min(1, 2*p.total/(p.widest*p.widest*float64(p.tiles)))
}

// rough finds a scale on the rough grid.
func (p *packer) rough(ctx context.Context) (float64, error) {
	if p.top == 0 {
		return 1, nil
	}
	if len(p.shapes) > manyShapes {
		scale, spots, err := p.search(ctx, p.guess(), 1.04, 1)
		p.spots = spots
		for p.goal = 1; err == nil && p.goal < goals; p.goal++ {
			var ok bool
			if spots, ok, err = p.place(ctx, scale*1.015); ok {
				scale, p.spots = scale*1.015, spots
				break
			}
		}
		p.goal %= goals
		return scale, err
	}
	scale, _, err := p.search(ctx, p.guess(), 1.06, 2)
	if err != nil {
		return 0, err
	}
	scale, _, err = p.shuffle(ctx, scale, shuffles, 1.012)
	return scale, err
}

// shuffle looks for an order in which the islands fit at a larger scale, step by step: it lets some of
// about one size change places, and keeps an order that leaves no more area without a place. spots are
// where islands lie then, nil when no step was made. The more islands, the fewer tries: order matters
// less.
func (p *packer) shuffle(ctx context.Context, scale float64, tries int, step float64) (best float64, spots []spot, err error) {
	if len(p.shapes) <= manyShapes {
		tries = tries * 40 / (40 + len(p.shapes)) / max(1, p.others)
	}
	r := rand.New(rand.NewPCG(uint64(len(p.shapes)), uint64(p.grid)))
	best = scale
	try := min(p.top, scale*step)
	goodOrder, goodGoal := slices.Clone(p.order), p.goal
	left := math.Inf(1) // area without a place in the order at hand
	for n, since := 0, 0; n < tries && since < stall; n, since = n+1, since+1 {
		old, goal := slices.Clone(p.order), p.goal
		if n > 0 && !math.IsInf(left, 1) {
			for range 1 + r.IntN(1+len(p.order)/6) {
				i := r.IntN(len(p.order))
				j := min(len(p.order)-1, i+1+r.IntN(1+len(p.order)/3))
				p.order[i], p.order[j] = p.order[j], p.order[i]
			}
			if r.IntN(3) == 0 {
				p.goal = r.IntN(goals)
			}
		}
		got, without, err := p.lay(ctx, try, left)
		if err != nil {
			return 0, nil, err
		}
		switch {
		case without == 0:
			best, spots, left, since = try, got, math.Inf(1), 0
			goodOrder, goodGoal = slices.Clone(p.order), p.goal
			if best >= p.top {
				return best, spots, nil
			}
			try = min(p.top, best*step)
		case without <= left:
			if without < left {
				since = 0
			}
			left = without
		default:
			p.order, p.goal = old, goal
		}
	}
	p.order, p.goal = goodOrder, goodGoal
	return best, spots, nil
}

// pack finds the largest scale at which all shapes fit into the tiles with the margin between them
// and half of it to the border, and where they lie. rough is what rough found.
func (p *packer) pack(ctx context.Context, rough float64) (scale float64, spots []spot, err error) {
	if p.top == 0 {
		return 1, make([]spot, len(p.shapes)), nil
	}
	if p.spots != nil {
		// On the fine grid islands keep their turns.
		p.settle(p.spots)
		defer func() { p.settled = nil }()
		p.grid = fineGrid
		scale, spots = rough, p.spots

		for _, step := range fineSteps {
			got, ok, err := p.place(ctx, min(p.top, scale*step))
			if err != nil {
				return 0, nil, err
			}
			if ok {
				scale, spots = min(p.top, scale*step), got
			}
		}
		return scale, spots, nil
	}
	p.grid = midGrid
	if scale, spots, err = p.search(ctx, rough*1.03, 1.03, 1); err != nil {
		return 0, nil, err
	}
	better := func(grid, tries int, step float64) error {
		p.grid = grid
		s, got, err := p.shuffle(ctx, scale, tries, step)
		if got != nil {
			scale, spots = s, got
		}
		return err
	}
	if err := better(midGrid, settling, 1.005); err != nil {
		return 0, nil, err
	}
	// On finer grids islands keep their turns.
	p.settle(spots)
	defer func() { p.settled = nil }()
	if err := better(fineGrid/2, 4*settling, 1.003); err != nil {
		return 0, nil, err
	}
	if err := better(fineGrid, settling/6, 1.003); err != nil {
		return 0, nil, err
	}
	return scale, spots, nil
}

// settle keeps the turns in which islands lie.
func (p *packer) settle(spots []spot) {
	p.settled = make([]int, len(p.shapes))
	for i, s := range spots {
		p.settled[i] = s.turn
	}
}

func boxOf(tri [][3][2]float64, angle float64) [4]float64 {
	sin, cos := math.Sincos(angle)
	b := [4]float64{math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)}
	for _, t := range tri {
		for _, p := range t {
			x, y := cos*p[0]-sin*p[1], sin*p[0]+cos*p[1]
			b = [4]float64{min(b[0], x), min(b[1], y), max(b[2], x), max(b[3], y)}
		}
	}
	return b
}

// uprightTurn is the turn at which the island's box is smallest, found along the sides of its convex
// hull (Freeman & Shapira, Determining the Minimum-Area Encasing Rectangle, 1975).
func uprightTurn(tri [][3][2]float64) float64 { return uprightTurnOf(hullOf(points(tri))) }

// points are all corners of triangles.
func points(tri [][3][2]float64) (out [][2]float64) {
	for _, t := range tri {
		out = append(out, t[:]...)
	}
	return out
}

func uprightTurnOf(hull [][2]float64) float64 {
	best, at := math.Inf(1), 0.0
	for i, a := range hull {
		b := hull[(i+1)%len(hull)]
		angle := -math.Atan2(b[1]-a[1], b[0]-a[0])
		sin, cos := math.Sincos(angle)
		box := [4]float64{math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)}
		for _, p := range hull {
			x, y := cos*p[0]-sin*p[1], sin*p[0]+cos*p[1]
			box = [4]float64{min(box[0], x), min(box[1], y), max(box[2], x), max(box[3], y)}
		}
		if area := (box[2] - box[0]) * (box[3] - box[1]); area < best*(1-1e-9) {
			best, at = area, angle
			if box[2]-box[0] < box[3]-box[1] {
				at += math.Pi / 2
			}
		}
	}
	return at
}

// hullOf is Andrew's monotone chain (1979). It sorts the points.
func hullOf(pts [][2]float64) [][2]float64 {
	slices.SortFunc(pts, func(a, b [2]float64) int { return cmp.Or(cmp.Compare(a[0], b[0]), cmp.Compare(a[1], b[1])) })
	turn := func(a, b, c [2]float64) float64 { return (b[0]-a[0])*(c[1]-a[1]) - (b[1]-a[1])*(c[0]-a[0]) }
	var hull [][2]float64
	for pass := range 2 {
		base := len(hull)
		for i := range pts {
			p := pts[i]
			if pass == 1 {
				p = pts[len(pts)-1-i]
			}
			for len(hull) >= base+2 && turn(hull[len(hull)-2], hull[len(hull)-1], p) <= 0 {
				hull = hull[:len(hull)-1]
			}
			hull = append(hull, p)
		}
		hull = hull[:len(hull)-1]
	}
	if len(hull) == 0 {
		return [][2]float64{{}}
	}
	return hull
}

// fresh forgets masks of another scale or grid.
func (p *packer) fresh(scale float64) {
	if at := [2]float64{scale, float64(p.grid)}; p.masks == nil || p.masksAt != at {
		p.masks, p.masksAt = make([]*mask, len(p.shapes)*p.turns), at
	}
}

// maskAt is an island's mask in one of its turns, made once. Different turns may be asked for at once
// after fresh.
func (p *packer) maskAt(i, turn int, scale float64) *mask {
	m := p.masks[i*p.turns+turn]
	if m == nil {
		s := &p.shapes[i]
		m = p.mask(s, scale, s.turn+2*math.Pi*float64(turn)/float64(p.turns))
		m.turn = turn
		p.masks[i*p.turns+turn] = m
	}
	return m
}

// run is cells a to b of a row.
type run struct{ a, b int32 }

// test is a row of a mask and its longest run of cells.
type test struct{ row, wide int32 }

// mask is what an island covers of the grid in one turn, and what it keeps clear with the margin.
// Rows and columns of clear begin reach cells before those of cells.
type mask struct {
	w, h   int
	cells  [][]run
	clear  [][]run
	order  []int32 // rows of clear, far apart first, so that a place that is taken shows soon
	reach  int
	mid    float64 // mean row of cells
	small  bool    // see smallCells
	same   uint64  // equal for masks of equal cells
	tests  []test  // rows with long runs of cells
	turn   int
	angle  float64
	lx, ly float64 // lower left corner of the turned island in tiles
}

// smallCells is up to how many cells each way an island counts as a full rectangle. Since room only gets
// less, an island of the same cells as one before needs not be looked for below where that one went.
const smallCells = 10

// mask rasterises an island so that every cell that it touches is covered.
func (p *packer) mask(s *shape, scale, angle float64) *mask {
	g := float64(p.grid)
	sin, cos := math.Sincos(angle)
	b := boxOf(s.tri, angle)
	m := &mask{angle: angle, lx: b[0] * scale, ly: b[1] * scale}
	m.w, m.h = int(math.Ceil((b[2]-b[0])*scale*g+1e-9))+1, int(math.Ceil((b[3]-b[1])*scale*g+1e-9))+1
	m.w, m.h = min(m.w, 2*p.grid), min(m.h, 2*p.grid)
	m.small = max(m.w, m.h) <= smallCells
	words := m.w/64 + 1
	full := make([]uint64, words*m.h)
	row := func(y int) []uint64 { return full[y*words : (y+1)*words] }
	if m.small {
		for y := range m.h {
			setBits(row(y), 0, m.w)
		}
	} else {
		var spans []span
		for _, t := range s.tri {
			var q [3][2]float64
			for k, v := range t {
				q[k] = [2]float64{((cos*v[0]-sin*v[1])-b[0])*scale*g + 0.5, ((sin*v[0]+cos*v[1])-b[1])*scale*g + 0.5}
			}
			spans = cover(q, m.w, m.h, full, spans)
		}
	}
	// Cells that come nearer to each other than the margin: their nearest corners count.
	r := p.margin * g
	m.reach = int(math.Ceil(r)) + 1
	cw, ch := m.w+2*m.reach, m.h+2*m.reach
	half := make([]int, 2*m.reach+1)
	for dy := -m.reach; dy <= m.reach; dy++ {
		half[dy+m.reach] = -1
		if y := max(0, math.Abs(float64(dy))-1); y < r || r == 0 && dy == 0 {
			half[dy+m.reach] = int(math.Ceil(math.Sqrt(r*r-y*y)+1)) - 1
		}
	}
	m.cells = make([][]run, m.h)
	room := make([]run, 0, m.h) // of all rows, one after the other; mostly each is one run
	for y := range m.cells {
		from := len(room)
		room = runsOf(row(y), room)
		m.cells[y] = slices.Clip(room[from:])
	}
	n := 0.0
	for y, runs := range m.cells {
		for _, c := range runs {
			n += float64(c.b - c.a)
			m.mid += float64(y) * float64(c.b-c.a)
		}
	}
	m.mid /= max(n, 1)
	m.tests, m.same = m.testsOf(p.grid), 14695981039346656037
	for y, runs := range m.cells {
		for _, c := range runs {
			m.same = ((m.same^uint64(y))*1099511628211 ^ uint64(c.a)<<16 ^ uint64(c.b)) * 1099511628211
		}
	}
	m.clear = grown(m.cells, half, m.reach, cw, ch)
	seen := make([]bool, ch)
	for step := 1 << bits.Len(uint(ch)); step >= 1; step /= 2 {
		for r := step / 2; r < ch; r += step {
			if !seen[r] && len(m.clear[r]) > 0 {
				seen[r] = true
				m.order = append(m.order, int32(r))
			}
		}
	}
	for r := range ch {
		if !seen[r] && len(m.clear[r]) > 0 {
			m.order = append(m.order, int32(r))
		}
	}
	return m
}

// testsOf picks the row with the longest run, and the longest ones of the upper and the lower quarter.
// With the margin on one side such a run must be free where the island lies; on the other side it may
// lie at the border.
func (m *mask) testsOf(grid int) (out []test) {
	cells, h := m.cells, m.h
	for _, part := range [3][2]int{{0, h}, {0, h/4 + 1}, {h - h/4 - 1, h}} {
		var t test
		for y := part[0]; y < part[1]; y++ {
			for _, c := range cells[y] {
				if c.b-c.a > t.wide {
					t = test{int32(y), c.b - c.a}
				}
			}
		}
		if t.wide > 0 {
			t.wide = min(t.wide+int32(m.reach)-1, int32(grid-m.reach))
			out = append(out, t)
		}
	}
	return out
}

// setBits sets bits a to b of a row.
func setBits(row []uint64, a, b int) {
	if a >= b {
		return
	}
	first, last := a/64, (b-1)/64
	from, to := ^uint64(0)<<(a%64), ^uint64(0)>>(63-(b-1)%64)
	if first == last {
		row[first] |= from & to
		return
	}
	row[first] |= from
	for i := first + 1; i < last; i++ {
		row[i] = ^uint64(0)
	}
	row[last] |= to
}

// runsOf adds the runs of set bits of a row to a list. The last bit is clear.
func runsOf(row []uint64, out []run) []run {
	next := func(at int, flip uint64) int { // the next set bit, with flip the next clear one
		for i := at / 64; i < len(row); i++ {
			w := row[i] ^ flip
			if i == at/64 {
				w &= ^uint64(0) << (at % 64)
			}
			if w != 0 {
				return i*64 + bits.TrailingZeros64(w)
			}
		}
		return len(row) * 64
	}
	for at := next(0, 0); at < len(row)*64; {
		end := next(at, ^uint64(0))
		out = append(out, run{int32(at), int32(end)})
		at = next(end, 0)
	}
	return out
}

// grown is the runs of ch rows of cw cells that lie no further from cells than half allows: half[dy+reach] cells to each side, dy rows away, or
// nothing where it is below 0. Its rows and columns begin reach before those of cells.
func grown(cells [][]run, half []int, reach, cw, ch int) [][]run {
	if inOnePiece(cells) {
		return grownPiece(cells, half, reach, ch)
	}
	rows, row := make([][]run, ch), make([]uint64, cw/64+1)
	room := make([]run, 0, ch)
	var parts []run // of a row, of which some may still overlap
	for y := range rows {
		parts = parts[:0]
		for dy := -reach; dy <= reach; dy++ {
			from, k := y-reach+dy, half[dy+reach]
			if from < 0 || from >= len(cells) || k < 0 {
				continue
			}
		runs:
			for _, c := range cells[from] {
				a, b := c.a+int32(reach-k), c.b+int32(reach+k)
				for i := range parts {
					if p := &parts[i]; a <= p.b && b >= p.a { // mostly the island is of one piece
						p.a, p.b = min(p.a, a), max(p.b, b)
						continue runs
					}
				}
				parts = append(parts, run{a, b})
			}
		}
		from := len(room)
		if len(parts) == 1 {
			room = append(room, parts[0])
		} else {
			clear(row)
			for _, p := range parts {
				setBits(row, int(p.a), int(p.b))
			}
			room = runsOf(row, room)
		}
		rows[y] = slices.Clip(room[from:])
	}
	return rows
}

// inOnePiece tells whether each row has one run, which touches that of the row before.
func inOnePiece(cells [][]run) bool {
	for y, runs := range cells {
		if len(runs) != 1 || y > 0 && (runs[0].a > cells[y-1][0].b || runs[0].b < cells[y-1][0].a) {
			return false
		}
	}
	return len(cells) > 0
}

// grownPiece is grown for cells in one piece: what rows that follow each other reach is in one piece too, so its ends are enough.
func grownPiece(cells [][]run, half []int, reach, ch int) [][]run {
	room := make([]run, ch)
	for y := range room {
		room[y] = run{math.MaxInt32, math.MinInt32}
	}
	for dy := -reach; dy <= reach; dy++ {
		k := half[dy+reach]
		if k < 0 {
			continue
		}
		left, right := int32(reach-k), int32(reach+k)
		// Row y is reached from row y − reach + dy.
		first := max(0, reach-dy)
		to := room[first:min(ch, len(cells)+reach-dy)]
		from := cells[first-reach+dy:][:len(to)]
		for i := range to {
			c, p := &from[i][0], &to[i]
			p.a, p.b = min(p.a, c.a+left), max(p.b, c.b+right)
		}
	}
	rows := make([][]run, ch)
	for y := range rows {
		if room[y].a < room[y].b {
			rows[y] = room[y : y+1 : y+1]
		}
	}
	return rows
}

// span is what a triangle touches of a row of cells.
type span struct{ lo, hi float64 }

// cover sets the bits of every cell that a triangle touches, of h rows of w/64 + 1 words; it follows the
// triangle's sides from row to row. room is for its use, and returned to be used again.
func cover(q [3][2]float64, w, h int, full []uint64, room []span) []span {
	first, last := max(0, int(min(q[0][1], q[1][1], q[2][1]))), min(h-1, int(max(q[0][1], q[1][1], q[2][1])))
	room = room[:0]
	for range last - first + 1 {
		room = append(room, span{math.Inf(1), math.Inf(-1)})
	}
	for k := range 3 {
		p, r := q[k], q[(k+1)%3]
		if p[1] > r[1] {
			p, r = r, p
		}
		slope := 0.0
		if r[1] > p[1] {
			slope = (r[0] - p[0]) / (r[1] - p[1])
		}
		x := p[0]
		for y := max(first, int(p[1])); y <= min(last, int(r[1])); y++ {
			to := r[0] // where the side leaves the row
			if float64(y+1) < r[1] {
				to = p[0] + (float64(y+1)-p[1])*slope
			}
			c := &room[y-first]
			low, high := x, to
			if low > high {
				low, high = high, low
			}
			if low < c.lo {
				c.lo = low
			}
			if high > c.hi {
				c.hi = high
			}
			x = to
		}
	}
	words := w/64 + 1
	for i, c := range room {
		y := first + i
		setBits(full[y*words:(y+1)*words], max(0, int(c.lo)), min(w, int(c.hi)+1))
	}
	return room
}

// board is one tile's cells. windows[k] holds, for each row, bit x set when one of the 2^k cells from
// x on is taken, so that a run of any length is tested by two look-ups.
type board struct {
	grid, words, levels int
	windows             [][]uint64
	first               []int // first cell taken in each row, beyond the grid for none
	longest             []int // longest run of free cells in each row
}

func newBoard(grid int) *board {
	b := &board{grid: grid, words: grid/64 + 1, levels: bits.Len(uint(grid))}
	b.windows = make([][]uint64, b.levels)
	for k := range b.windows {
		b.windows[k] = make([]uint64, b.words*grid)
	}
	b.first = make([]int, grid)
	b.longest = make([]int, grid)
	for y := range b.first {
		b.first[y], b.longest[y] = grid, grid
	}
	return b
}

func (b *board) row(level, y int) []uint64 {
	return b.windows[level][y*b.words : (y+1)*b.words : (y+1)*b.words]
}

// take marks a mask's cells as taken.
func (b *board) take(m *mask, x, y int) {
	for r, runs := range m.cells {
		row := b.row(0, y+r)
		for _, c := range runs {
			setBits(row, int(c.a)+x, int(c.b)+x)
			b.first[y+r] = min(b.first[y+r], int(c.a)+x)
		}
		for k := 1; k < b.levels; k++ {
			from, to := b.row(k-1, y+r), b.row(k, y+r)
			copy(to, from)
			orShifted(to, from, 1<<(k-1))
		}
		b.longest[y+r] = longestFree(row, b.grid)
	}
}

// longestFree is the length of the longest run of clear bits among the first n.
func longestFree(row []uint64, n int) (longest int) {
	at := 0
	for at < n {
		// The next clear bit, then the next set one after it.
		w := ^row[at/64] >> (at % 64)
		if w == 0 {
			at = at/64*64 + 64
			continue
		}
		at += bits.TrailingZeros64(w)
		from := at
		for at < n {
			if w := row[at/64] >> (at % 64); w != 0 {
				at += bits.TrailingZeros64(w)
				break
			}
			at = at/64*64 + 64
		}
		longest = max(longest, min(at, n)-from)
	}
	return longest
}

// orShifted ors src, shifted so that bit x is src's bit x + by, into dst, which may be shorter.
func orShifted(dst, src []uint64, by int) {
	if by >= 0 {
		word, bit := by/64, uint(by%64)
		if word >= len(src) {
			return
		}
		src = src[word:]
		n := min(len(dst), len(src))
		if bit == 0 {
			dst, src = dst[:n], src[:n]
			for i := range dst {
				dst[i] |= src[i]
			}
			return
		}
		if n == len(src) { // nothing follows the last word
			n--
			dst[n] |= src[n] >> bit
		}
		dst, low, high := dst[:n], src[:n], src[1:][:n]
		for i := range dst {
			dst[i] |= low[i]>>bit | high[i]<<(64-bit)
		}
		return
	}
	word, bit := -by/64, uint(-by%64)
	if word >= len(dst) {
		return
	}
	dst = dst[word:]
	n := min(len(dst), len(src))
	dst, src = dst[:n], src[:n]
	if bit == 0 {
		for i := range dst {
			dst[i] |= src[i]
		}
		return
	}
	last := uint64(0) // the word before
	for i := range dst {
		v := src[i]
		dst[i] |= v<<bit | last>>(64-bit)
		last = v
	}
}

// lowest finds the lowest, then leftmost, cell from row above on at which the mask fits.
func (b *board) lowest(m *mask, border, above int, blocked []uint64) (x, y int, ok bool) {
	lastX, lastY := b.grid-border-m.w, b.grid-border-m.h
	if lastX < border {
		return 0, 0, false
	}
	blocked = blocked[:lastX/64+1]
rows:
	for y = max(border, above); y <= lastY; y++ {
		for _, t := range m.tests {
			if b.longest[y+int(t.row)] < int(t.wide) {
				continue rows
			}
		}
		// Only words that are not blocked all over are looked at, those from lo to hi.
		clear(blocked)
		setBits(blocked, 0, border)
		setBits(blocked, lastX+1, 64*len(blocked))
		lo, hi := 0, len(blocked)-1
		shrink := func() {
			for ; lo <= hi && blocked[lo] == ^uint64(0); lo++ {
			}
			for ; hi >= lo && blocked[hi] == ^uint64(0); hi-- {
			}
		}
		shrink()
		for n, r := range m.order {
			at := y + int(r) - m.reach
			if at < 0 || at >= b.grid || b.first[at] >= b.grid {
				continue
			}
			for _, c := range m.clear[r] {
				a, n := int(c.a)-m.reach, int(c.b-c.a)
				k := bits.Len(uint(n)) - 1
				if k >= b.levels {
					k = b.levels - 1
				}
				row := b.row(k, at)
				b.window(blocked[lo:hi+1], row, a+64*lo, k, at)
				b.window(blocked[lo:hi+1], row, a+64*lo+n-1<<k, k, at)
			}
			if n%4 == 3 {
				if shrink(); lo > hi {
					continue rows
				}
			}
		}
		if shrink(); lo <= hi {
			return 64*lo + bits.TrailingZeros64(^blocked[lo]), y, true
		}
	}
	return 0, 0, false
}

// window ors a row's windows that begin at x + at, for x from 0 on. Windows that begin left of the
// tile are those of the part that lies inside.
func (b *board) window(dst, row []uint64, at, level, y int) {
	orShifted(dst, row, at)
	// For x < −at the window hangs over the left border: it holds cells 0 to x + at + 2^level.
	setBits(dst, max(0, b.first[y]-at-1<<level+1), min(-at, 64*len(dst)))
}

// goals are ways to choose among the turns of an island: the one whose upper rim, middle, or upper
// right corner lies lowest, or that lies low and snug.
const goals = 5

func (m *mask) worth(b *board, goal, x, y int) float64 {
	switch goal {
	case 0:
		return float64(y+m.h) + 1e-4*float64(x+m.w)
	case 1:
		return float64(y) + m.mid + 1e-4*float64(x+m.w)
	case 2:
		return float64(y+m.h) + 0.3*float64(x+m.w)
	case 3:
		return float64(y+m.h) - 0.3*float64(b.contact(m, x, y))
	}
	return float64(y) + m.mid - 0.3*float64(b.contact(m, x, y))
}

// contact counts at how many ends of its rows a mask comes as close to what is taken, or to the border,
// as its margin lets it.
func (b *board) contact(m *mask, x, y int) (n int) {
	for r, runs := range m.clear {
		at := y + r - m.reach
		if at < 0 || at >= b.grid || len(runs) == 0 {
			continue
		}
		row := b.row(0, at)
		for _, i := range [2]int{x + int(runs[0].a) - m.reach - 1, x + int(runs[len(runs)-1].b) - m.reach} {
			if i < 0 || i >= b.grid || row[i/64]>>(i%64)&1 == 1 {
				n++
			}
		}
	}
	return n
}

// place tries one scale.
func (p *packer) place(ctx context.Context, scale float64) ([]spot, bool, error) {
	spots, without, err := p.lay(ctx, scale, 0)
	return spots, without == 0, err
}

// lay gives islands places at one scale, and tells how much area finds none; it ends when that is more
// than enough.
func (p *packer) lay(ctx context.Context, scale, enough float64) (spots []spot, without float64, err error) {
	p.fresh(scale)
	boards := make([]*board, p.tiles)
	for i := range boards {
		boards[i] = newBoard(p.grid)
	}
	border := int(math.Ceil(p.margin * float64(p.grid) / 2))
	out := make([]spot, len(p.shapes))
	type find struct {
		m    *mask
		x, y int
		ok   bool
	}
	finds := make([]find, p.turns)
	blocked := make([][]uint64, par.Slots)
	// The lowest row at which there may be room for islands of the same cells, by tile.
	lowest := make([]map[uint64]int, p.tiles)
	for i := range lowest {
		lowest[i] = map[uint64]int{}
	}
	for n, i := range p.order {
		if n%64 == 0 && ctx.Err() != nil {
			return nil, 0, ctx.Err()
		}
		placed := false
		for tile, b := range boards {
			look := func(w, k int) {
				m := p.maskAt(i, k, scale)
				if blocked[w] == nil {
					blocked[w] = make([]uint64, boards[0].words)
				}
				x, y, ok := b.lowest(m, border, lowest[tile][m.same], blocked[w])
				finds[k] = find{m, x, y, ok}
			}
			turns := p.turns
			if p.maskAt(i, 0, scale).small {
				turns = 1
				if p.turns%4 == 0 {
					finds[1] = find{}
					look(0, p.turns/4)
					finds[1] = finds[p.turns/4]
					turns = 2
				}
				look(0, 0)
			} else if p.settled != nil {
				turns = 1
				look(0, p.settled[i])
				finds[0] = finds[p.settled[i]]
			} else if err := par.Blocks(ctx, p.turns, 1, func(w, k, _ int) { look(w, k) }); err != nil {
				return nil, 0, err
			}
			best, worth := -1, 0.0
			for k, f := range finds[:turns] {
				if f.m == nil {
					continue
				}
				if !f.ok {
					lowest[tile][f.m.same] = p.grid
					continue
				}
				lowest[tile][f.m.same] = f.y
				if v := f.m.worth(b, p.goal, f.x, f.y); best < 0 || v < worth {
					best, worth = k, v
				}
			}
			if best < 0 {
				continue
			}
			f := finds[best]
			b.take(f.m, f.x, f.y)
			g := float64(p.grid)
			out[i] = spot{tile, f.m.turn, f.m.angle, (float64(f.x)+0.5)/g - f.m.lx, (float64(f.y)+0.5)/g - f.m.ly}
			placed = true
			break
		}
		if !placed {
			if without += max(p.shapes[i].area, 1e-30); without > enough {
				break
			}
		}
	}
	return out, without, nil
}

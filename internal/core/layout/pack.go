package layout

import (
	"context"
	"math"
	"math/bits"
	"math/rand/v2"
	"slices"
	"sort"

	"crust/internal/core/par"
)

// shape is an island to be packed: triangles in metres and what it covers.
type shape struct {
	tri    [][3][2]float64
	area   float64
	turn   float64 // radians that lay its narrowest box flat
	extent float64 // width and height of that box together
}

// spot is where an island came to lie.
type spot struct {
	tile   int
	angle  float64
	dx, dy float64 // of the turned and scaled island, in tiles
}

// packer places islands on a grid of cells, largest first, each as low as it goes in whichever turn
// keeps it lowest.
type packer struct {
	shapes  []shape
	order   []int
	tiles   int
	goal    int
	margin  float64
	grid    int
	turns   int
	total   float64 // area, m²
	masks   []*mask // by shape and turn, for the scale and grid of masksAt
	masksAt [2]float64
	top     float64 // a scale that cannot be passed
}

// Grids of the packing, in cells a side: one to compare cuts on, one to settle the
// order on, one for the last step.
const (
	roughGrid = 256
	midGrid   = 512
	fineGrid  = 1024
)

// shuffles is how many other orders are tried for each cut of few islands, and settling how many for
// the one that is taken.
const (
	shuffles = 20
	settling = 50
)

func newPacker(shapes []shape, tiles int, margin float64) *packer {
	p := &packer{shapes: shapes, tiles: tiles, margin: margin, grid: roughGrid, turns: 4}
	switch {
	case len(shapes) <= 24:
		p.turns = 16
	case len(shapes) <= 80:
		p.turns = 8
	}
	widest := 0.0
	p.order = make([]int, len(shapes))
	for i := range shapes {
		p.order[i] = i
		p.total += shapes[i].area
		shapes[i].turn = uprightTurn(shapes[i].tri)
		b := boxOf(shapes[i].tri, shapes[i].turn)
		shapes[i].extent = (b[2] - b[0]) + (b[3] - b[1])
		widest = max(widest, b[2]-b[0], b[3]-b[1])
	}
	sort.SliceStable(p.order, func(i, j int) bool {
		return shapes[p.order[i]].extent > shapes[p.order[j]].extent
	})
	if p.total > 0 && widest > 0 {
		p.top = min(math.Sqrt(float64(tiles)/p.total), 1.42*(1-margin)/widest)
	}
	return p
}

// search finds by halving the largest scale between lo, which is known to fit or 0, and the top.
func (p *packer) search(ctx context.Context, lo float64, steps int) (scale float64, spots []spot, err error) {
	hi, try := p.top, lo*1.02
	if lo == 0 {
		try = p.top * 0.82
	}
	for n := 0; n < steps; {
		got, ok, err := p.place(ctx, try)
		if err != nil {
			return 0, nil, err
		}
		if ok {
			scale, spots, lo = try, got, try
			n++
		} else {
			hi = try
			if spots != nil {
				n++
			}
		}
		switch {
		case spots == nil && try < p.top*1e-3:
			return 0, nil, errNoRoom
		case spots == nil:
			try *= 0.93
		default:
			try = (lo + hi) / 2
		}
	}
	return scale, spots, nil
}

// rough finds a scale on the rough grid.
func (p *packer) rough(ctx context.Context) (float64, error) {
	if p.top == 0 {
		return 1, nil
	}
	scale, _, err := p.search(ctx, 0, 4)
	if err != nil {
		return 0, err
	}
	return p.shuffle(ctx, scale, shuffles, 1.012)
}

// shuffle looks for an order in which the islands fit at a larger scale, step by step, by letting some
// of about one size change places. The more islands, the fewer tries: order matters less.
func (p *packer) shuffle(ctx context.Context, scale float64, tries int, step float64) (float64, error) {
	r := rand.New(rand.NewPCG(uint64(len(p.shapes)), uint64(p.grid)))
	for range tries * 40 / (40 + len(p.shapes)) {
		old, goal := slices.Clone(p.order), p.goal
		for range 1 + len(p.order)/6 {
			i := r.IntN(len(p.order))
			j := min(len(p.order)-1, i+1+r.IntN(1+len(p.order)/3))
			p.order[i], p.order[j] = p.order[j], p.order[i]
		}
		p.goal = r.IntN(goals)
		_, ok, err := p.place(ctx, scale*step)
		if err != nil {
			return 0, err
		}
		if ok {
			scale *= step
		} else {
			p.order, p.goal = old, goal
		}
	}
	return scale, nil
}

// pack finds the largest scale at which all shapes fit into the tiles with the margin between them
// and half of it to the border, and where they lie. rough is what rough found.
func (p *packer) pack(ctx context.Context, rough float64) (scale float64, spots []spot, err error) {
	if p.top == 0 {
		return 1, make([]spot, len(p.shapes)), nil
	}
	p.grid = midGrid
	scale, spots, err = p.search(ctx, rough, 3)
	if err != nil {
		return 0, nil, err
	}
	if len(p.shapes) <= 150 {
		if scale, err = p.shuffle(ctx, scale, settling, 1.005); err != nil {
			return 0, nil, err
		}
	}
	p.grid = fineGrid
	return p.search(ctx, scale, 4)
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
func uprightTurn(tri [][3][2]float64) float64 {
	hull := hullOf(tri)
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

// hullOf is Andrew's monotone chain (1979).
func hullOf(tri [][3][2]float64) [][2]float64 {
	var pts [][2]float64
	for _, t := range tri {
		pts = append(pts, t[:]...)
	}
	sort.Slice(pts, func(i, j int) bool {
		return pts[i][0] < pts[j][0] || pts[i][0] == pts[j][0] && pts[i][1] < pts[j][1]
	})
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
	if at := [2]float64{scale, float64(p.grid)}; p.masksAt != at {
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
		p.masks[i*p.turns+turn] = m
	}
	return m
}

// run is cells a to b of a row.
type run struct{ a, b int32 }

// mask is what an island covers of the grid in one turn, and what it keeps clear with the margin.
// Rows and columns of clear begin reach cells before those of cells.
type mask struct {
	w, h   int
	cells  [][]run
	clear  [][]run
	order  []int32 // rows of clear, far apart first, so that a place that is taken shows soon
	reach  int
	mid    float64 // mean row of cells
	angle  float64
	lx, ly float64 // lower left corner of the turned island in tiles
}

// mask rasterises an island so that every cell that it touches is covered.
func (p *packer) mask(s *shape, scale, angle float64) *mask {
	g := float64(p.grid)
	sin, cos := math.Sincos(angle)
	b := boxOf(s.tri, angle)
	m := &mask{angle: angle, lx: b[0] * scale, ly: b[1] * scale}
	m.w, m.h = int(math.Ceil((b[2]-b[0])*scale*g+1e-9))+1, int(math.Ceil((b[3]-b[1])*scale*g+1e-9))+1
	m.w, m.h = min(m.w, 2*p.grid), min(m.h, 2*p.grid)
	full := make([]bool, m.w*m.h)
	for _, t := range s.tri {
		var q [3][2]float64
		for k, v := range t {
			q[k] = [2]float64{((cos*v[0]-sin*v[1])-b[0])*scale*g + 0.5, ((sin*v[0]+cos*v[1])-b[1])*scale*g + 0.5}
		}
		cover(q, m.w, m.h, full)
	}
	// Cells whose centres are nearer than the margin and a cell's diagonal may touch what is too near.
	r := p.margin*g + math.Sqrt2
	m.reach = int(math.Ceil(r))
	cw, ch := m.w+2*m.reach, m.h+2*m.reach
	grown := make([]bool, cw*ch)
	half := make([]int, 2*m.reach+1)
	for dy := -m.reach; dy <= m.reach; dy++ {
		half[dy+m.reach] = int(math.Sqrt(max(0, r*r-float64(dy*dy))))
	}
	m.cells = runsOf(full, m.w, m.h)
	n := 0.0
	for y, runs := range m.cells {
		for _, c := range runs {
			n += float64(c.b - c.a)
			m.mid += float64(y) * float64(c.b-c.a)
		}
	}
	m.mid /= max(n, 1)
	diff := make([]int32, cw+1)
	for y := range ch {
		clear(diff)
		for dy := -m.reach; dy <= m.reach; dy++ {
			from := y - m.reach + dy
			if from < 0 || from >= m.h {
				continue
			}
			k := int32(half[dy+m.reach])
			for _, c := range m.cells[from] {
				diff[max(0, c.a-k+int32(m.reach))]++
				diff[min(int32(cw), c.b+k+int32(m.reach))]--
			}
		}
		sum := int32(0)
		for x := range cw {
			sum += diff[x]
			grown[y*cw+x] = sum > 0
		}
	}
	m.clear = runsOf(grown, cw, ch)
	seen := make([]bool, ch)
	for step := 1 << bits.Len(uint(ch)); step >= 1; step /= 2 {
		for r := step / 2; r < ch; r += step {
			if !seen[r] {
				seen[r] = true
				m.order = append(m.order, int32(r))
			}
		}
	}
	for r := range ch {
		if !seen[r] {
			m.order = append(m.order, int32(r))
		}
	}
	return m
}

func runsOf(full []bool, w, h int) [][]run {
	out := make([][]run, h)
	for y := range h {
		for x := 0; x < w; {
			if !full[y*w+x] {
				x++
				continue
			}
			a := x
			for x < w && full[y*w+x] {
				x++
			}
			out[y] = append(out[y], run{int32(a), int32(x)})
		}
	}
	return out
}

// cover marks every cell that a triangle touches, row by row from the triangle clipped to the row.
func cover(q [3][2]float64, w, h int, full []bool) {
	y0, y1 := min(q[0][1], q[1][1], q[2][1]), max(q[0][1], q[1][1], q[2][1])
	for row := max(0, int(y0)); row <= min(h-1, int(y1)); row++ {
		lo, hi := math.Inf(1), math.Inf(-1)
		a, b := float64(row), float64(row+1)
		for k := range 3 {
			p, r := q[k], q[(k+1)%3]
			if p[1] >= a && p[1] <= b {
				lo, hi = min(lo, p[0]), max(hi, p[0])
			}
			for _, y := range [2]float64{a, b} {
				if (p[1]-y)*(r[1]-y) < 0 {
					x := p[0] + (y-p[1])/(r[1]-p[1])*(r[0]-p[0])
					lo, hi = min(lo, x), max(hi, x)
				}
			}
		}
		for x := max(0, int(lo)); x <= min(w-1, int(hi)); x++ {
			full[row*w+x] = true
		}
	}
}

// board is one tile's cells. windows[k] holds, for each row, bit x set when one of the 2^k cells from
// x on is taken, so that a run of any length is tested by two look-ups.
type board struct {
	grid, words, levels int
	windows             [][]uint64
	first               []int // first cell taken in each row, beyond the grid for none
}

func newBoard(grid int) *board {
	b := &board{grid: grid, words: grid/64 + 1, levels: bits.Len(uint(grid))}
	b.windows = make([][]uint64, b.levels)
	for k := range b.windows {
		b.windows[k] = make([]uint64, b.words*grid)
	}
	b.first = make([]int, grid)
	for y := range b.first {
		b.first[y] = grid
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
			for i := int(c.a) + x; i < int(c.b)+x; i++ {
				row[i/64] |= 1 << (i % 64)
			}
			b.first[y+r] = min(b.first[y+r], int(c.a)+x)
		}
		for k := 1; k < b.levels; k++ {
			from, to := b.row(k-1, y+r), b.row(k, y+r)
			copy(to, from)
			orShifted(to, from, 1<<(k-1))
		}
	}
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
		dst = dst[:n]
		if bit == 0 {
			for i := range dst {
				dst[i] |= src[i]
			}
			return
		}
		for i := range dst {
			v := src[i] >> bit
			if i+1 < len(src) {
				v |= src[i+1] << (64 - bit)
			}
			dst[i] |= v
		}
		return
	}
	word, bit := -by/64, uint(-by%64)
	for i := len(dst) - 1; i-word >= 0; i-- {
		v := src[i-word] << bit
		if bit > 0 && i-word-1 >= 0 {
			v |= src[i-word-1] >> (64 - bit)
		}
		dst[i] |= v
	}
}

// lowest finds the lowest, then leftmost, cell at which the mask fits.
func (b *board) lowest(m *mask, border, below int, blocked []uint64) (x, y int, ok bool) {
	lastX, lastY := b.grid-border-m.w, b.grid-border-m.h
	if lastX < border {
		return 0, 0, false
	}
	blocked = blocked[:lastX/64+1]
	for y = border; y <= min(lastY, below); y++ {
		clear(blocked)
		full := false
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
				b.window(blocked, row, a, k, at)
				b.window(blocked, row, a+n-1<<k, k, at)
			}
			if n%4 == 3 && !anyFree(blocked, border, lastX) {
				full = true
				break
			}
		}
		if full {
			continue
		}
		for x := border; x <= lastX; x++ {
			if w := blocked[x/64] >> (x % 64); w&1 == 0 {
				return x, y, true
			} else if w == ^uint64(0)>>(x%64) {
				x |= 63 // the rest of the word is blocked
			}
		}
	}
	return 0, 0, false
}

// window ors a row's windows that begin at x + at, for x from 0 on. Windows that begin left of the
// tile are those of the part that lies inside.
func (b *board) window(dst, row []uint64, at, level, y int) {
	orShifted(dst, row, at)
	// For x < −at the window hangs over the left border: it holds cells 0 to x + at + 2^level.
	for x := max(0, b.first[y]-at-1<<level+1); x < -at && x < 64*len(dst); x++ {
		dst[x/64] |= 1 << (x % 64)
	}
}

func anyFree(blocked []uint64, from, to int) bool {
	for i := from / 64; i <= to/64; i++ {
		w := ^blocked[i]
		if i == from/64 {
			w &= ^uint64(0) << (from % 64)
		}
		if i == to/64 {
			w &= ^uint64(0) >> (63 - to%64)
		}
		if w != 0 {
			return true
		}
	}
	return false
}

// goals are ways to choose among the turns of an island: the one whose upper rim, middle, or upper
// right corner lies lowest.
const goals = 3

func (m *mask) worth(goal, x, y int) float64 {
	switch goal {
	case 0:
		return float64(y+m.h) + 1e-4*float64(x+m.w)
	case 1:
		return float64(y) + m.mid + 1e-4*float64(x+m.w)
	}
	return float64(y+m.h) + 0.3*float64(x+m.w)
}

// place tries one scale.
func (p *packer) place(ctx context.Context, scale float64) ([]spot, bool, error) {
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
	blocked := make([][]uint64, par.Workers())
	for i := range blocked {
		blocked[i] = make([]uint64, boards[0].words)
	}
	for _, i := range p.order {
		placed := false
		for tile, b := range boards {
			err := par.Blocks(ctx, p.turns, 1, func(w, k, _ int) {
				m := p.maskAt(i, k, scale)
				x, y, ok := b.lowest(m, border, p.grid, blocked[w])
				finds[k] = find{m, x, y, ok}
			})
			if err != nil {
				return nil, false, err
			}
			best, worth := -1, 0.0
			for k, f := range finds {
				if !f.ok {
					continue
				}
				if v := f.m.worth(p.goal, f.x, f.y); best < 0 || v < worth {
					best, worth = k, v
				}
			}
			if best < 0 {
				continue
			}
			f := finds[best]
			b.take(f.m, f.x, f.y)
			g := float64(p.grid)
			out[i] = spot{tile, f.m.angle, (float64(f.x)+0.5)/g - f.m.lx, (float64(f.y)+0.5)/g - f.m.ly}
			placed = true
			break
		}
		if !placed {
			return nil, false, nil
		}
	}
	return out, true, nil
}

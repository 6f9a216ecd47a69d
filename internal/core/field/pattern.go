package field

import (
	"math"

	"crust/internal/core/geom"
)

// motif is a repeated figure on a plane: how much of it lies at a place, 0–1, in units of its size.
type motif struct {
	name, words string
	cell        [2]float32 // after so much, each way, the figure is the same but for what is random
	piece       [2]float32 // what has a random number of its own; 1 each way where it is 0
	at          func(u, v float32, m *measure) float32
}

// measure is how a motif is laid: shares of its size.
type measure struct {
	gap    float32 // between its pieces
	jitter float32 // by how much pieces are out of place
	soft   float32 // over how much a rim goes from 0 to 1: as wide as places lie apart
	seed   uint32
	on     *weft // on a square that repeats: pieces that are the same
	rows   int64 // and after how many rows they are
}

// rim is a share of 1 inside, at a distance e from the rim, and of 0 outside.
func (m *measure) rim(e float32) float32 { return geom.Clamp01(e/m.soft + 0.5) }

// random is two numbers −0.5 to 0.5 times jitter for a piece.
func (m *measure) random(i, j float32) (u, v float32) {
	if m.on != nil {
		p, q, _ := m.on.same(int64(i), int64(j))
		i, j = float32(p), float32(q)
	}
	return m.stir(i, j)
}

// ofColumn and ofRow are random for a whole column and row; salt tells what it is for.
func (m *measure) ofColumn(i, salt float32) (u, v float32) {
	if m.on != nil {
		i -= float32(floorDiv(int64(i), m.on.wide) * m.on.wide)
	}
	return m.stir(i, salt)
}

func (m *measure) ofRow(j, salt float32) (u, v float32) {
	if m.on != nil {
		j -= float32(floorDiv(int64(j), m.rows) * m.rows)
	}
	return m.stir(j, salt)
}

func (m *measure) stir(i, j float32) (u, v float32) {
	h := cellHash(uint32(int32(i))*hashX ^ uint32(int32(j))*hashY ^ m.seed)
	return (share(h, 22) - 0.5) * m.jitter, (share(h, 12) - 0.5) * m.jitter
}

// motifs lists them by number; documents hold the number, so new ones come last.
var motifs = []motif{
	{"stripes", "stripes", [2]float32{1, 1}, [2]float32{}, func(u, _ float32, m *measure) float32 {
		i := floor(u)
		off, _ := m.ofColumn(i, 0)
		return m.rim((1-m.gap)*(0.5-abs(off)) - abs(u-i-0.5-off*m.gap))
	}},
	{"checks", "checks", [2]float32{2, 2}, [2]float32{}, func(u, v float32, m *measure) float32 {
		i, j := floor(u), floor(v)
		e := min(0.5-abs(u-i-0.5), 0.5-abs(v-j-0.5))
		if (int32(i)+int32(j))&1 != 0 {
			e = -e
		}
		return m.rim(e)
	}},
	{"dots", "dots", [2]float32{1, 1}, [2]float32{}, func(u, v float32, m *measure) float32 {
		i, j := floor(u), floor(v)
		du, dv := m.random(i, j)
		r := 0.5 * (1 - m.gap)
		// A dot stays in its own square.
		du, dv = du*(1-2*r), dv*(1-2*r)
		return m.rim(r - hypot(u-i-0.5-du, v-j-0.5-dv))
	}},
	{"hexagons", "hexagons", [2]float32{1, 1.7320508}, [2]float32{}, func(u, v float32, m *measure) float32 { return m.rim(0.5*(1-m.gap) - hexagon(u, v)) }},
	{"weave", "weave", [2]float32{2, 2}, [2]float32{}, func(u, v float32, m *measure) float32 {
		i, j := floor(u), floor(v)
		across, along := u-i-0.5, v-j-0.5
		if (int32(i)+int32(j))&1 != 0 {
			across, along = along, across
		}
		// A thread is round across and dips at its ends, where it goes under the next.
		half := 0.5 * (1 - m.gap)
		round := 1 - across*across/(half*half)
		return m.rim(half-abs(across)) * (0.25 + 0.75*sqrt(max(0, round))*(1-2*along*along))
	}},
	{"planks", "planks", [2]float32{7, 3}, [2]float32{}, func(u, v float32, m *measure) float32 {
		j := floor(v)
		off, _ := m.ofRow(j, 7)
		const long = 7
		// Ends of neighbours lie a third of a length apart, or anywhere.
		at := u/long + j/3 + off
		end := at - floor(at)
		return m.rim(min(0.5-abs(v-j-0.5), (0.5-abs(end-0.5))*long) - m.gap/2)
	}},
	{"blocks", "blocks", [2]float32{2, 2}, [2]float32{}, func(u, v float32, m *measure) float32 {
		j := floor(v)
		off, _ := m.ofRow(j, 3)
		at := u/2 + j/2 + off
		end := at - floor(at)
		return m.rim(min(0.5-abs(v-j-0.5), (0.5-abs(end-0.5))*2) - m.gap/2)
	}},
	{"rivet rows", "rows of rivets", [2]float32{1, 6}, [2]float32{1, 6}, func(u, v float32, m *measure) float32 {
		const apart = 6 // rows
		i, j := floor(u), floor(v/apart)
		du, dv := m.random(i, j)
		r := 0.45 * (1 - m.gap)
		d := hypot(u-i-0.5-0.2*du, v-(j+0.5)*apart-0.2*dv) / r
		return sqrt(max(0, 1-d*d))
	}},
}

// hexagon is the distance from the middle of the nearest of hexagons whose middles lie 1 apart, measured across their flats:
// 0.5 at their sides.
func hexagon(u, v float32) float32 {
	const high = 1.7320508 // of two rows
	cell := func(u, v float32) (x, y float32) { return u - floor(u) - 0.5, (v/high-floor(v/high))*high - high/2 }
	ax, ay := cell(u, v)
	bx, by := cell(u-0.5, v-high/2)
	if ax*ax+ay*ay > bx*bx+by*by {
		ax, ay = bx, by
	}
	ax, ay = abs(ax), abs(ay)
	return max(ax, ax*0.5+ay*(high/2))
}

// sides are those that a pattern is laid from: all six of a box by the way places face, or one.
var sides = []string{"box", "above", "front", "right"}

// fillPattern is the kernel of the kind; p follows its parameters.
func fillPattern(b *Block, p []float64, out []float32) {
	if b.Square != nil {
		patternSquare(b, p, out)
		return
	}
	which, size := int(p[0]), float32(p[1])
	m := &measure{gap: float32(p[2]), jitter: float32(p[3]), soft: max(0.001, b.Pitch/size), seed: uint32(p[6]) * 0x85ebca6b}
	sin, cos := math.Sincos(p[4] * math.Pi / 180)
	l := &laidOut{side: int(p[5]), sin: float32(sin) / size, cos: float32(cos) / size}
	at := motifs[which].at
	for i := l.run(b, which, m, out); i < len(out); i++ {
		u, v := l.place(b, i)
		out[i] = at(u, v, m)
	}
}

// laidOut is how a pattern lies on the surface.
type laidOut struct {
	side     int     // one of sides
	sin, cos float32 // of its turn, in sizes
}

// place is where a place of a block lies on the pattern.
func (l *laidOut) place(b *Block, i int) (u, v float32) {
	x, y, z := b.X[i]-b.Floor.X, b.Y[i]-b.Floor.Y, b.Z[i]-b.Floor.Z
	side := l.side
	if side == 0 {
		nx, ny, nz := abs(b.NX[i]), abs(b.NY[i]), abs(b.NZ[i])
		switch {
		case ny >= nx && ny >= nz:
			side = 1
		case nz >= nx:
			side = 2
		default:
			side = 3
		}
	}
	u, v = x, y // from the front
	switch side {
	case 1:
		v = z
	case 3:
		u = z
	}
	return u*l.cos - v*l.sin, u*l.sin + v*l.cos
}

func abs(v float32) float32 { return max(v, -v) }

func hypot(x, y float32) float32 { return sqrt(x*x + y*y) }

// patternSquare is fillPattern on a square that repeats: whole repeats along each side, of about the size and turn.
func patternSquare(b *Block, p []float64, out []float32) {
	f, size := &motifs[int(p[0])], float32(p[1])
	m := &measure{gap: float32(p[2]), jitter: float32(p[3]), soft: max(0.001, b.Pitch/size), seed: uint32(p[6]) * 0x85ebca6b}
	sin, cos := math.Sincos(p[4] * math.Pi / 180)
	q := b.Square
	piece := f.piece
	if piece[0] == 0 {
		piece = [2]float32{1, 1}
	}
	on, rows, right, down := wholeRepeats(q.U.Len()/size, q.V.Len()/size, float32(sin), float32(cos), f.cell, piece)
	m.on, m.rows = &on, rows
	for i := range out {
		s, t := q.At(geom.Vec3{X: b.X[i], Y: b.Y[i], Z: b.Z[i]})
		t = 1 - t
		out[i] = f.at(s*right[0]+t*down[0], s*right[1]+t*down[1], m)
	}
}

// wholeRepeats turns so many sizes along each side into ways that lead from a place of the figure to the same one. on counts them in
// pieces; after so many rows these come round.
func wholeRepeats(right, down, sin, cos float32, cell, piece [2]float32) (on weft, rows int64, s, t [2]float32) {
	whole := func(u, v float32) [2]float32 {
		return [2]float32{cell[0] * round(u/cell[0]), cell[1] * round(v/cell[1])}
	}
	in := func(w [2]float32) [2]int64 {
		return [2]int64{int64(round(w[0] / piece[0])), int64(round(w[1] / piece[1]))}
	}
	s, t = whole(right*cos, right*sin), whole(-down*sin, down*cos)
	on, ok := weftOf(in(s), in(t))
	if !ok {
		s, t = [2]float32{max(cell[0], whole(right, 0)[0])}, [2]float32{0, max(cell[1], whole(0, down)[1])}
		on, _ = weftOf(in(s), in(t))
	}
	return on, common(in(s)[1], in(t)[1]), s, t
}

// common is the greatest common divisor of two whole numbers, not both 0.
func common(a, b int64) int64 {
	for b != 0 {
		a, b = b, a%b
	}
	return max(a, -a)
}

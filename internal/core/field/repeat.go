package field

import (
	"math"
	"sync"

	"crust/internal/core/geom"
)

// On a square that repeats, the lattice of a noise is laid so that both sides of the square lead from one lattice point to
// another, and lattice points that lie such a way apart count as one: so the field goes on over the rim as it does inside.

// tripod is three whole vectors that stand square to each other and are equally long, so that a lattice can be turned against
// the square.
type tripod struct {
	a, b, c [3]float32
	long    float32
}

// tripods are some of them; the first is not turned at all.
var tripods = []tripod{
	{[3]float32{1, 0, 0}, [3]float32{0, 1, 0}, [3]float32{0, 0, 1}, 1},
	{[3]float32{2, 1, 2}, [3]float32{-2, 2, 1}, [3]float32{-1, -2, 2}, 3},
	{[3]float32{3, 4, 0}, [3]float32{-4, 3, 0}, [3]float32{0, 0, 5}, 5},
	{[3]float32{2, 3, 6}, [3]float32{3, -6, 2}, [3]float32{6, 2, -3}, 7},
	{[3]float32{4, 4, 7}, [3]float32{1, -8, 4}, [3]float32{8, -1, -4}, 9},
}

// carpet is a lattice laid on a square: a place s, t of the square, 0–1 each way, lies at s·count[0]·a + t·count[1]·b of the
// lattice, for whole counts. A lattice point p is known by a·p, b·p and c·p, of which the first two come round.
type carpet struct {
	tripod
	count [2]float32
	round [2]float32 // of a·p and b·p
}

// carpetFor lays a lattice with about so many cells along each side of the square; which turns it.
func carpetFor(u, v float32, which int) *carpet {
	key := carpetKey{u, v, which}
	carpets.mu.Lock()
	defer carpets.mu.Unlock()
	if c := carpets.of[key]; c != nil {
		return c
	}
	var best *carpet
	least := float32(math.Inf(1))
	for n := range tripods {
		p := &tripods[(n+which)%len(tripods)]
		c := &carpet{tripod: tripod{turned3(p.a, which), turned3(p.b, which), turned3(p.c, which), p.long}}
		off := float32(0)
		for k, want := range []float32{u, v} {
			c.count[k] = max(1, round(want/p.long))
			c.round[k] = c.count[k] * p.long * p.long
			got := c.count[k] * p.long / want
			off += max(got, 1/got) - 1
		}
		if p.long == 1 {
			off += 0.15 // rather a little larger or smaller than with rows that lie along the sides
		}
		if off < least {
			best, least = c, off
		}
	}
	if carpets.of == nil || len(carpets.of) >= mostCarpets {
		carpets.of = map[carpetKey]*carpet{}
	}
	carpets.of[key] = best
	return best
}

type carpetKey struct {
	u, v  float32
	which int
}

// carpets keeps those that were laid: looking for one takes longer than a run of places.
var carpets struct {
	mu sync.Mutex
	of map[carpetKey]*carpet
}

// mostCarpets bounds them; beyond it all are laid anew.
const mostCarpets = 4096

// turned3 has the axes change places.
func turned3(v [3]float32, by int) [3]float32 {
	return [3]float32{v[by%3], v[(by+1)%3], v[(by+2)%3]}
}

// known is what tells a lattice point from all that are not the same.
func (c *carpet) known(x, y, z float32) (a, b, d float32) {
	a = x*c.a[0] + y*c.a[1] + z*c.a[2]
	b = x*c.b[0] + y*c.b[1] + z*c.b[2]
	d = x*c.c[0] + y*c.c[1] + z*c.c[2]
	// A half more keeps whole numbers clear of where floor jumps.
	return a - c.round[0]*floor((a+0.5)/c.round[0]), b - c.round[1]*floor((b+0.5)/c.round[1]), d
}

// place is where a place of the square lies on the lattice, moved by some of it.
func (c *carpet) place(s, t float32, shift *[3]float32) (x, y, z float32) {
	s, t = s*c.count[0], t*c.count[1]
	return s*c.a[0] + t*c.b[0] + shift[0], s*c.a[1] + t*c.b[1] + shift[1], s*c.a[2] + t*c.b[2] + shift[2]
}

func round(x float32) float32 { return float32(math.Round(float64(x))) }

// shiftOf is where the lattice of an octave lies.
func shiftOf(which int) [3]float32 {
	r := &turns[which%maxOctaves]
	return [3]float32{r[3], r[7], r[11] + float32(which)*0.37}
}

// weave adds an octave of gradient noise, as gradient gives it, at places s, t of a square that repeats.
func (c *carpet) weave(s, t []float32, shift *[3]float32, amp float32, seed uint32, out []float32) {
	for i := c.weaveRun(s, t, shift, amp, seed, out); i < len(out); i++ {
		x, y, z := c.place(s[i], t[i], shift)
		out[i] += amp * c.gradient(x, y, z, seed)
	}
}

func (c *carpet) gradient(x, y, z float32, seed uint32) float32 {
	fx, fy, fz := floor(x), floor(y), floor(z)
	x, y, z = x-fx, y-fy, z-fz
	u, v, w := fade(x), fade(y), fade(z)
	corner := func(i, j, k float32) float32 {
		return lean(c.hash(fx+i, fy+j, fz+k, seed), x-i, y-j, z-k)
	}
	row := func(j, k float32) float32 { return lerp(u, corner(0, j, k), corner(1, j, k)) }
	return lerp(w, lerp(v, row(0, 0), row(1, 0)), lerp(v, row(0, 1), row(1, 1)))
}

func (c *carpet) hash(x, y, z float32, seed uint32) uint32 {
	p, q, r := c.known(x, y, z)
	return uint32(int32(p))*hashX ^ uint32(int32(q))*hashY ^ uint32(int32(r))*hashZ ^ seed
}

// lean is the gradient of a lattice point times the way from it.
func lean(h uint32, dx, dy, dz float32) float32 {
	h *= hashM
	h ^= h >> 15
	h *= hashM
	if h&(1<<31) != 0 {
		dx = -dx
	}
	if h&(1<<30) != 0 {
		dy = -dy
	}
	if h&(1<<29) != 0 {
		dz = -dz
	}
	return dx + dy + dz
}

// near is strew.near at places of a square that repeats.
func (c *carpet) near(q *strew, s, t []float32, shift *[3]float32, seed uint32) {
	for i := c.nearRun(q, s, t, shift, seed); i < len(s); i++ {
		x, y, z := c.place(s[i], t[i], shift)
		fx, fy, fz := floor(x), floor(y), floor(z)
		x, y, z = x-fx, y-fy, z-fz
		first, second, mark := float32(8), float32(8), uint32(0)
		for dx := float32(-1); dx <= 1; dx++ {
			for dy := float32(-1); dy <= 1; dy++ {
				for dz := float32(-1); dz <= 1; dz++ {
					h := cellHash(c.hash(fx+dx, fy+dy, fz+dz, seed))
					ox, oy, oz := dx+share(h, 22)-x, dy+share(h, 12)-y, dz+share(h, 2)-z
					d := ox*ox + oy*oy + oz*oz
					if d < first {
						first, second, mark = d, first, h
					} else if d < second {
						second = d
					}
				}
			}
		}
		q.first[i], q.second[i], q.mark[i] = sqrt(first), sqrt(second), mark
	}
}

// onSquare writes where places lie on the square, 0–1 each way within it, from its upper left corner.
func onSquare(q *geom.Square, x, y, z, s, t []float32) {
	for i := range s {
		u, v := q.At(geom.Vec3{X: x[i], Y: y[i], Z: z[i]})
		s[i], t[i] = u, 1-v
	}
}

// Waves is Noise over a block, which repeats where the surface does.
func Waves(b *Block, size, octaves, rough float32, seed uint32, out []float32) {
	if b.Square == nil {
		Noise(b.X, b.Y, b.Z, size, octaves, rough, seed, out)
		return
	}
	n := noises.Get().(*noise)
	defer noises.Put(n)
	n.size, n.square = size, b.Square
	for at := 0; at < len(out); at += noiseRoom {
		to := min(len(out), at+noiseRoom)
		n.lay(b, at, to, [2]float32{1, 1})
		n.sum(size, octaves, rough, seed, out[at:to])
	}
}

// lay takes places of a block as those of its square, whose sides are that much shorter.
func (n *noise) lay(b *Block, from, to int, drawn [2]float32) {
	n.x, n.y, n.z = n.moved[0][:to-from], n.moved[1][:to-from], nil
	onSquare(n.square, b.X[from:to], b.Y[from:to], b.Z[from:to], n.x, n.y)
	n.sides = [2]float32{n.square.U.Len() * drawn[0], n.square.V.Len() * drawn[1]}
}

// weft is whole vectors on a plane that lead to the same, brought to the form (wide, lift), (0, high).
type weft struct{ wide, lift, high int64 }

// weftOf is of two vectors; false when they lie on one line.
func weftOf(p, q [2]int64) (w weft, ok bool) {
	for q[0] != 0 { // Euclid's algorithm on the first numbers
		n := p[0] / q[0]
		p, q = q, [2]int64{p[0] - n*q[0], p[1] - n*q[1]}
	}
	if p[0] < 0 {
		p = [2]int64{-p[0], -p[1]}
	}
	w = weft{p[0], p[1], max(q[1], -q[1])}
	return w, w.wide > 0 && w.high > 0
}

// same is the one place that stands for all that are the same, and how often wide went into i.
func (w *weft) same(i, j int64) (int64, int64, int64) {
	k := floorDiv(i, w.wide)
	i, j = i-k*w.wide, j-k*w.lift
	return i, j - floorDiv(j, w.high)*w.high, k
}

// floorDiv is the quotient rounded down.
func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b != 0 && (a < 0) != (b < 0) {
		q--
	}
	return q
}

// strip is a family of lines on a square that repeats: a place lies across and along them by two linear forms, in units of size.
type strip struct {
	weft
	across, along [2]float32
}

func (n *noise) stripFor(a, b [3]float32) *strip {
	u, v := n.square.U.Norm(), n.square.V.Norm().Neg()
	of := func(w [3]float32) [2]float32 {
		d := geom.FromArray(w)
		return [2]float32{round(d.Dot(u) * n.sides[0] / n.size), round(d.Dot(v) * n.sides[1] / n.size)}
	}
	s := &strip{across: of(a), along: of(b)}
	var ok bool
	if s.weft, ok = s.weave(); !ok {
		if s.across == [2]float32{} {
			s.across[0] = 1
		}
		s.along = [2]float32{-s.across[1], s.across[0]}
		s.weft, _ = s.weave()
	}
	return s
}

func (s *strip) weave() (weft, bool) {
	return weftOf([2]int64{int64(s.across[0]), int64(s.along[0])}, [2]int64{int64(s.across[1]), int64(s.along[1])})
}

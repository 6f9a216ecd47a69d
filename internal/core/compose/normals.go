package compose

import (
	"math"

	"crust/internal/core/surface"
)

// reliefSide is the side of a tile's heights with a rim of one texel of its neighbours.
const reliefSide = surface.TileSize + 2

var nan = float32(math.NaN())

// slopes is what the normals of a tile are made from. Whole vectors are written, so the planes have room for one more.
type slopes struct {
	heights    [(reliefSide + 1) * reliefSide]float32 // NaN where nothing is covered
	du, dv     [tileTexels + lanes]float32            // change of the height over two texels along U and V
	tu, bu, bv [tileTexels]float32                    // see slope; made ready for du and dv
}

// normals lays layers' own normals, and the slopes of the height, over the baked normal by reoriented mapping
// (Barré-Brisebois & Hill, Blending in Detail, 2012). height is nil where it is 0 all over.
func (c *Canvas) normals(k *scratch, p *Program, t int, ch *Channels, height []float32) {
	tile := &c.tiles[t]
	if c.in.base[0] == nil {
		fill(ch.Normal[0], 0)
		fill(ch.Normal[1], 0)
		fill(ch.Normal[2], 1)
	} else {
		for i := range 3 {
			signed(ch.Normal[i], c.in.base[i][tile.From:tile.To])
		}
	}
	if ch.Bend[0] != nil {
		for i, x := range ch.Bend[0] {
			if y := ch.Bend[1][i]; x != 0 || y != 0 {
				n := Reorient([3]float32{ch.Normal[0][i], ch.Normal[1][i], ch.Normal[2][i]}, [3]float32{x, y, 1})
				ch.Normal[0][i], ch.Normal[1][i], ch.Normal[2][i] = n[0], n[1], n[2]
			}
		}
	}
	if p.relief == nil || !c.gather(k, p, t, height) {
		return
	}
	s := &k.slopes
	half := float32(c.Surf.Size) / 2
	i := 0
	for _, of := range c.spans[t] {
		f := &c.slope[c.rank[of.tri-c.first]]
		to := i + int(of.n)
		fill(s.tu[i:to], -f.tu*half)
		fill(s.bu[i:to], -f.bu*half)
		fill(s.bv[i:to], -f.bv*half)
		i = to
	}
	rows(c.spans[t], func(from, at, n int) { s.differ(from, reliefAt(at), n) })
	over, seams := c.across(k, p, t)
	for len(seams) > 0 {
		i := int(seams[0].texel)
		at := reliefAt(c.standsAt(t, i))
		side := [4]float32{s.heights[at-1], s.heights[at+1], s.heights[at-reliefSide], s.heights[at+reliefSide]}
		for len(seams) > 0 && int(seams[0].texel) == i {
			side[seams[0].way] = over[0]
			seams, over = seams[1:], over[1:]
		}
		s.du[i] = difference(side[left], s.heights[at], side[right])
		s.dv[i] = difference(side[down], s.heights[at], side[up])
	}
	s.tilt(&ch.Normal)
}

// rows calls f for runs of a tile's places that stand side by side in its square: the first, where it stands, and how many.
func rows(spans []span, f func(from, at, n int)) {
	i := 0
	for k := 0; k < len(spans); {
		at, n := int(spans[k].at), 0
		for ; k < len(spans) && int(spans[k].at) == at+n && (n == 0 || spans[k].column() != 0); k++ {
			n += int(spans[k].n)
		}
		f(i, at, n)
		i += n
	}
}

// reliefAt is a place of a tile's square among its heights.
func reliefAt(at int) int {
	return (at/surface.TileSize+1)*reliefSide + at%surface.TileSize + 1
}

// standsAt is where a texel of a tile stands in its square.
func (c *Canvas) standsAt(t, i int) int {
	for _, s := range c.spans[t] {
		if i < int(s.n) {
			return int(s.at) + i
		}
		i -= int(s.n)
	}
	return 0
}

// gather fills the heights round a tile; false when they are 0 all over.
func (c *Canvas) gather(k *scratch, p *Program, t int, own []float32) bool {
	s := &k.slopes
	fill(s.heights[:], nan)
	some := own != nil || c.rim.heightKey(k.rim, p.across, t) != 0
	put := func(from, at, n int, h []float32) {
		to := s.heights[at : at+n]
		if h == nil {
			clear(to)
		} else {
			copy(to, h[from:])
		}
	}
	const side = surface.TileSize
	for way, n := range c.beside(t) {
		if n < 0 {
			continue
		}
		h := c.heightOf(k, p.relief, n)
		some = some || h != nil
		rows(c.spans[n], func(from, at, n int) {
			x, y := at%side, at/side
			switch way {
			case left: // its last column
				if x+n == side {
					put(from+n-1, reliefAt(at+n-1)-side, 1, h)
				}
			case right:
				if x == 0 {
					put(from, reliefAt(at)+side, 1, h)
				}
			case up: // its last row
				if y == side-1 {
					put(from, reliefAt(at)-side*reliefSide, n, h)
				}
			case down:
				if y == 0 {
					put(from, reliefAt(at)+side*reliefSide, n, h)
				}
			}
		})
	}
	rows(c.spans[t], func(from, at, n int) { put(from, reliefAt(at), n, own) })
	return some
}

// difference is that over two texels; at an island's rim, where a neighbour is NaN, one side counts twice.
func difference(a, mid, b float32) float32 {
	switch {
	case a != a && b != b:
		return 0
	case a != a:
		return 2 * (b - mid)
	case b != b:
		return 2 * (mid - a)
	}
	return b - a
}

// differPlain writes the differences of n places from one on, whose heights stand side by side.
func (s *slopes) differPlain(from, at, n int) {
	for i := range n {
		h := s.heights[at+i-reliefSide:]
		mid := h[reliefSide]
		s.du[from+i] = difference(h[reliefSide-1], mid, h[reliefSide+1])
		s.dv[from+i] = difference(h[2*reliefSide], mid, h[0])
	}
}

// tiltPlain lays the slopes over normals from place i on.
func (s *slopes) tiltPlain(normal *[3][]float32, i int) {
	for ; i < len(normal[0]); i++ {
		du, dv := s.du[i], s.dv[i]
		if du == 0 && dv == 0 {
			continue
		}
		n := Reorient([3]float32{normal[0][i], normal[1][i], normal[2][i]}, [3]float32{s.tu[i] * du, s.bu[i]*du + s.bv[i]*dv, 1})
		normal[0][i], normal[1][i], normal[2][i] = n[0], n[1], n[2]
	}
}

// Reorient lays the detail normal, of any length, over the base normal; flat on either side changes nothing.
func Reorient(base, detail [3]float32) [3]float32 {
	t := [3]float32{base[0], base[1], base[2] + 1}
	u := [3]float32{-detail[0], -detail[1], detail[2]}
	d := (t[0]*u[0] + t[1]*u[1] + t[2]*u[2]) / t[2]
	return unit(t[0]*d-u[0], t[1]*d-u[1], t[2]*d-u[2])
}

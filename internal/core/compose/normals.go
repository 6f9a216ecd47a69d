package compose

import (
	"math"
	"slices"

	"crust/internal/core/field"
	"crust/internal/core/pixel"
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
			pixel.WidenSigned(ch.Normal[i], c.in.base[i][tile.From:tile.To], 1./32767)
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
	if p.relief != nil && c.differ(k, p.relief, t, height) {
		k.slopes.tilt(&ch.Normal)
	}
}

// differ makes the slopes of a tile ready; false when it is level all over. height is the tile's own, nil where it is not
// known yet. All that may have to be evaluated is evaluated first, since that may need slopes of its own.
func (c *Canvas) differ(k *scratch, of *shape, t int, height []float32) bool {
	if height == nil {
		height = c.heightIn(k, of, t)
	}
	over, seams := c.across(k, of, t)
	if !c.gather(k, of, t, height) {
		return false
	}
	s := &k.slopes
	half := float32(c.Surf.Size) / 2
	i := 0
	for _, of := range c.spans[t] {
		f := &c.slope[c.rank[of.tri-c.first]]
		to := i + int(of.n)
		tu, bu, bv := -f.tu*half, -f.bu*half, -f.bv*half
		at := s.tu[i:to]
		inBu, inBv := s.bu[i:to][:len(at)], s.bv[i:to][:len(at)]
		for j := range at {
			at[j], inBu[j], inBv[j] = tu, bu, bv
		}
		i = to
	}
	for _, r := range c.rows[t] {
		s.differ(int(r.from), reliefAt(int(r.at)), int(r.n))
	}
	spans, passed := c.spans[t], 0
	for len(seams) > 0 {
		i := int(seams[0].texel) // which only grows
		for ; i >= passed+int(spans[0].n); spans = spans[1:] {
			passed += int(spans[0].n)
		}
		at := reliefAt(int(spans[0].at) + i - passed)
		side := [4]float32{s.heights[at-1], s.heights[at+1], s.heights[at-reliefSide], s.heights[at+reliefSide]}
		for len(seams) > 0 && int(seams[0].texel) == i {
			side[seams[0].way] = over[0]
			seams, over = seams[1:], over[1:]
		}
		s.du[i] = difference(side[left], s.heights[at], side[right])
		s.dv[i] = difference(side[down], s.heights[at], side[up])
	}
	return true
}

// leaning is how the heights of a shape rise in the space of the model, at the places of a tile: by component, one after the
// other; nil where they are level all over. A place across a seam takes that of the texel that it is seen from.
func (g *ground) leaning(k *scratch, of *shape, t int) []float32 {
	c := g.canvas
	if g != c.ground {
		inside := c.leaning(k.home, of, t)
		k.lost = k.lost || k.home.lost
		if inside == nil {
			return nil
		}
		n, all := g.tiles[t].Len(), c.tiles[t].Len()
		out := make([]float32, 3*n)
		for i, s := range c.seams[g.tiles[t].From:g.tiles[t].To] {
			for d := range 3 {
				out[d*n+i] = inside[d*all+int(s.texel)]
			}
		}
		return out
	}
	at := cacheKey{c.id, int32(t), mix(keptLeaning, c.slopeKey(k, of, t))}
	if v, ok := c.body.cache.get(at).([]float32); ok {
		return v
	}
	if !c.differ(k, of, t, nil) {
		return nil
	}
	s, n := &k.slopes, c.tiles[t].Len()
	out := make([]float32, 3*n)
	i := 0
	for _, span := range c.spans[t] {
		pu, pv := along(c.body.model, span.tri)
		tan := pu.Norm()
		bit := pv.Sub(tan.Mul(pv.Dot(tan))).Norm()
		for range span.n {
			// The slopes of the shape have the sign of the normal, which leans the other way.
			x, y := -s.tu[i]*s.du[i], -(s.bu[i]*s.du[i] + s.bv[i]*s.dv[i])
			out[i], out[n+i], out[2*n+i] = tan.X*x+bit.X*y, tan.Y*x+bit.Y*y, tan.Z*x+bit.Z*y
			i++
		}
	}
	if !k.lost {
		c.body.cache.put(at, out, 4*len(out))
	}
	return out
}

// tilted is a block whose normals lean away from where the surface rises; room is for them.
func tilted(b *field.Block, room *[3][tileTexels]float32, rise []float32) *field.Block {
	out := *b
	n := len(b.NX)
	x, y, z := room[0][:n], room[1][:n], room[2][:n]
	for i := range x {
		v := unit(b.NX[i]-rise[i], b.NY[i]-rise[n+i], b.NZ[i]-rise[2*n+i])
		x[i], y[i], z[i] = v[0], v[1], v[2]
	}
	out.NX, out.NY, out.NZ = x, y, z
	return &out
}

// rowRun is places of a tile that stand side by side in its square: the first of them, where it stands, and how many.
type rowRun struct{ from, at, n uint16 }

// rowRuns puts spans that follow each other in a row together.
func rowRuns(spans []span) (out []rowRun) {
	i := uint16(0)
	for _, s := range spans {
		if k := len(out) - 1; k >= 0 && out[k].at+out[k].n == s.at && s.column() != 0 {
			out[k].n += s.n
		} else {
			out = append(out, rowRun{i, s.at, s.n})
		}
		i += s.n
	}
	return slices.Clip(out)
}

// reliefAt is a place of a tile's square among its heights.
func reliefAt(at int) int {
	return (at/surface.TileSize+1)*reliefSide + at%surface.TileSize + 1
}

// gather fills the heights round a tile; false when they are 0 all over.
func (c *Canvas) gather(k *scratch, of *shape, t int, own []float32) bool {
	s := &k.slopes
	some := own != nil || c.rim.heightKey(k.rim, of.across, t) != 0
	var heights [4][]float32
	for way, n := range c.beside(t) {
		if n >= 0 {
			heights[way] = c.heightIn(k, of, n)
		}
	}
	fill(s.heights[:], nan)
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
		h := heights[way]
		some = some || h != nil
		for _, r := range c.rows[n] {
			from, at, n := int(r.from), int(r.at), int(r.n)
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
		}
	}
	for _, r := range c.rows[t] {
		put(int(r.from), reliefAt(int(r.at)), int(r.n), own)
	}
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

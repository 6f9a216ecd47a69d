package uv

import (
	"context"
	"math"
	"sort"

	"crust/internal/core/par"
)

// Near is two islands of a set that come closer than they should without overlapping.
type Near struct {
	A, B     int        // islands
	Distance float64    // of the tile
	At       [2]float64 // middle between the nearest places
	Tris     [2]int32   // the faces there
}

// mostNear is about how many pairs of one set are kept; beyond, what is found is the least there is.
const mostNear = 40_000

type piece struct {
	a, b   [2]float64
	tri    int32
	island int32
}

// Nearer finds the pairs of islands of one set that lie nearer than limit, in tiles; islands for which
// leave holds and pairs for which skip does are passed over. leave may be nil.
func (m *Map) Nearer(ctx context.Context, limit func(set int) float64, leave func(island int) bool, skip func(a, b int) bool) ([]Near, error) {
	bySet := make([][]piece, len(m.Sets))
	for i := range m.Islands {
		set := m.Islands[i].Set
		d := limit(set)
		if !(d > 0) || m.Islands[i].UVArea == 0 || leave != nil && leave(i) {
			continue
		}
		for _, s := range m.Rim(i) {
			a, b := m.Side(s)
			// Long sides are cut so that each piece lies in few cells.
			n := max(1, min(4096, int(math.Hypot(b[0]-a[0], b[1]-a[1])/(4*d))))
			at := func(k int) [2]float64 {
				f := float64(k) / float64(n)
				return [2]float64{a[0] + f*(b[0]-a[0]), a[1] + f*(b[1]-a[1])}
			}
			for k := range n {
				bySet[set] = append(bySet[set], piece{at(k), at(k + 1), s / 3, int32(i)})
			}
		}
	}
	best := map[[2]int32]Near{}
	for set, ps := range bySet {
		if len(ps) == 0 {
			continue
		}
		d := limit(set)
		b := &m.Sets[set]
		x0, y0, x1, y1 := b.Bounds(m.Model)
		side := max(8, min(1024, int(float64(max(x1-x0, y1-y0))/(4*d))))
		g := newGrid(len(ps), side, func(i int) (float64, float64, float64, float64) {
			p := &ps[i]
			return min(p.a[0], p.b[0]) - d/2, min(p.a[1], p.b[1]) - d/2, max(p.a[0], p.b[0]) + d/2, max(p.a[1], p.b[1]) + d/2
		})
		rows := make([]map[[2]int32]Near, g.ny)
		err := par.Blocks(ctx, g.ny, 1, func(_, y, _ int) {
			found := map[[2]int32]Near{}
			tests := mostTests / g.ny
			for x := range g.nx {
				list := g.items[g.start[y*g.nx+x]:g.start[y*g.nx+x+1]]
				list = list[:min(len(list), crowd)]
				for i, a := range list {
					p := &ps[a]
					if tests -= len(list) - i; tests < 0 || len(found) > mostNear/g.ny+50 || ctx.Err() != nil {
						break
					}
					for _, b := range list[i+1:] {
						q := &ps[b]
						if p.island == q.island {
							continue
						}
						dist, at := between(p.a, p.b, q.a, q.b)
						if dist >= d {
							continue
						}
						key := [2]int32{min(p.island, q.island), max(p.island, q.island)}
						n := Near{int(key[0]), int(key[1]), dist, at, [2]int32{p.tri, q.tri}}
						if old, ok := found[key]; !ok || n.before(&old) {
							found[key] = n
						}
					}
				}
			}
			rows[y] = found
		})
		if err != nil {
			return nil, err
		}
		for _, found := range rows {
			for key, n := range found {
				if old, ok := best[key]; !ok || n.before(&old) {
					best[key] = n
				}
			}
		}
	}
	var out []Near
	for key, n := range best {
		if !skip(int(key[0]), int(key[1])) {
			out = append(out, n)
		}
	}
	sort.Slice(out, func(i, j int) bool {
		return out[i].A < out[j].A || out[i].A == out[j].A && out[i].B < out[j].B
	})
	return out, nil
}

// before orders finds of one pair so that the result does not hang on the order of work.
func (n *Near) before(o *Near) bool {
	if n.Distance != o.Distance {
		return n.Distance < o.Distance
	}
	if n.At != o.At {
		return n.At[0] < o.At[0] || n.At[0] == o.At[0] && n.At[1] < o.At[1]
	}
	return n.Tris[0] < o.Tris[0] || n.Tris[0] == o.Tris[0] && n.Tris[1] < o.Tris[1]
}

// between is the distance of two segments and the middle of the nearest places.
func between(a, b, c, d [2]float64) (float64, [2]float64) {
	best, at := math.Inf(1), [2]float64{}
	try := func(p, q, r [2]float64) {
		ex, ey := r[0]-q[0], r[1]-q[1]
		f := 0.0
		if l := ex*ex + ey*ey; l > 0 {
			f = max(0, min(1, ((p[0]-q[0])*ex+(p[1]-q[1])*ey)/l))
		}
		x, y := q[0]+f*ex, q[1]+f*ey
		if dist := math.Hypot(p[0]-x, p[1]-y); dist < best {
			best, at = dist, [2]float64{(p[0] + x) / 2, (p[1] + y) / 2}
		}
	}
	try(a, c, d)
	try(b, c, d)
	try(c, a, b)
	try(d, a, b)
	side := func(p, q, r [2]float64) float64 { return (q[0]-p[0])*(r[1]-p[1]) - (q[1]-p[1])*(r[0]-p[0]) }
	if s, t := side(a, b, c), side(a, b, d); s*t < 0 && side(c, d, a)*side(c, d, b) < 0 {
		f := s / (s - t)
		return 0, [2]float64{c[0] + f*(d[0]-c[0]), c[1] + f*(d[1]-c[1])}
	}
	return best, at
}

package mesh

import (
	"math"
	"slices"

	"crust/internal/core/geom"
)

// nearness is how far apart two places may be, as a share of the model's diagonal, and still be one:
// a few times the rounding of 32-bit coordinates.
const nearness = 2.5e-7

// Tolerance is the distance in metres up to which places of the model are one.
func (m *Model) Tolerance() float64 { return nearness * float64(m.Bounds().Diagonal()) }

// WeldNear is Weld for vertices that lie no further apart than tolerance metres, as those of faces that
// were written one by one do.
func (m *Model) WeldNear(tolerance float64) []uint32 {
	place := m.Weld()
	if !(tolerance > 0) {
		return place
	}
	cell := 4 * tolerance
	near := newBins(len(place))
	for v, first := range place {
		if int(first) != v {
			place[v] = place[first]
			continue
		}
		p := double(m.Positions[v])
		found := -1
		near.around(p, cell, tolerance, func(o int32) {
			if found < 0 && distance(double(m.Positions[o]), p) <= tolerance {
				found = int(o)
			}
		})
		if found >= 0 {
			place[v] = uint32(found)
			continue
		}
		near.put(p, cell, int32(v))
	}
	return place
}

func double(p geom.Vec3) [3]float64 { return [3]float64{float64(p.X), float64(p.Y), float64(p.Z)} }

func distance(a, b [3]float64) float64 {
	x, y, z := a[0]-b[0], a[1]-b[1], a[2]-b[2]
	return math.Sqrt(x*x + y*y + z*z)
}

// bins holds numbered points by the cube they lie in.
type bins struct {
	first []int32 // by hash of the cube: entry + 1
	next  []int32 // by entry
	item  []int32
}

func newBins(n int) *bins {
	size := 1
	for size < n+1 {
		size *= 2
	}
	return &bins{first: make([]int32, size)}
}

func cubeOf(p [3]float64, cell float64) (c [3]int64) {
	for k := range c {
		c[k] = int64(math.Floor(p[k] / cell))
	}
	return c
}

func (b *bins) slot(c [3]int64) int {
	h := mix(mix(mix(1, uint64(c[0])), uint64(c[1])), uint64(c[2]))
	return int(h^h>>32) & (len(b.first) - 1)
}

func (b *bins) put(p [3]float64, cell float64, item int32) {
	s := b.slot(cubeOf(p, cell))
	b.item, b.next = append(b.item, item), append(b.next, b.first[s]-1)
	b.first[s] = int32(len(b.item))
}

// around calls f with the items whose cubes come within reach of p, and with some from elsewhere.
func (b *bins) around(p [3]float64, cell, reach float64, f func(item int32)) {
	lo, hi := p, p
	for k := range p {
		lo[k], hi[k] = p[k]-reach, p[k]+reach
	}
	from, to := cubeOf(lo, cell), cubeOf(hi, cell)
	for x := from[0]; x <= to[0]; x++ {
		for y := from[1]; y <= to[1]; y++ {
			for z := from[2]; z <= to[2]; z++ {
				for e := b.first[b.slot([3]int64{x, y, z})] - 1; e >= 0; e = b.next[e] {
					f(b.item[e])
				}
			}
		}
	}
}

// Height is the least height of triangle t in metres, 0 when its corners lie on a line.
func (m *Model) Height(t int) float64 {
	i := m.Tris[t]
	a, b, c := double(m.Positions[i[0]]), double(m.Positions[i[1]]), double(m.Positions[i[2]])
	long := max(distance(a, b), distance(b, c), distance(c, a))
	if long == 0 {
		return 0
	}
	u, v := [3]float64{b[0] - a[0], b[1] - a[1], b[2] - a[2]}, [3]float64{c[0] - a[0], c[1] - a[1], c[2] - a[2]}
	x := [3]float64{u[1]*v[2] - u[2]*v[1], u[2]*v[0] - u[0]*v[2], u[0]*v[1] - u[1]*v[0]}
	return distance(x, [3]float64{}) / long
}

// Bridge is a side of one face that lies along a longer side of another, turned the other way, as where
// three faces meet in a T.
type Bridge struct {
	Long, Short int32   // sides, 3 · triangle + corner
	From, To    float64 // where the short side's first and second corner lie on the long one, 0–1
}

// mostLooks is how many pairs of a side and a place are looked at; more are there only when thousands of
// open faces lie within a hand's breadth.
const mostLooks = 25_000_000

// Bridges finds among open sides those that lie along others. place says which vertices are one, same
// which faces may belong together. No part of a long side is taken twice.
func (m *Model) Bridges(open []int32, place []uint32, tolerance float64, same func(t, u int32) bool) []Bridge {
	if len(open) < 3 {
		return nil
	}
	ends := func(s int32) (uint32, uint32) {
		t := &m.Tris[s/3]
		return place[t[s%3]], place[t[(s%3+1)%3]]
	}
	cell := 0.0
	for _, s := range open {
		a, b := ends(s)
		cell += distance(double(m.Positions[a]), double(m.Positions[b]))
	}
	cell = max(cell/float64(len(open))/4, 4*tolerance, 1e-30)
	looks := 0
	// Open sides by the place that they begin at.
	begin := make(map[uint32][]int32, len(open))
	points := newBins(len(open))
	for _, s := range open {
		a, _ := ends(s)
		if begin[a] == nil {
			points.put(double(m.Positions[a]), cell, int32(a))
		}
		begin[a] = append(begin[a], s)
	}
	var out []Bridge
	taken := map[int32]bool{}
	type stop struct {
		at    float64
		place uint32
	}
	for _, long := range open {
		if looks > mostLooks {
			break
		}
		p, q := ends(long)
		a, b := double(m.Positions[p]), double(m.Positions[q])
		d := [3]float64{b[0] - a[0], b[1] - a[1], b[2] - a[2]}
		length := distance(a, b)
		if length <= 4*tolerance {
			continue
		}
		stops := []stop{{0, p}, {1, q}}
		steps := min(1000, int(length/cell)+1)
		for i := range steps + 1 {
			f := float64(i) / float64(steps)
			at := [3]float64{a[0] + f*d[0], a[1] + f*d[1], a[2] + f*d[2]}
			points.around(at, cell, max(length/float64(steps)/2, tolerance)+tolerance, func(o int32) {
				looks++
				v := uint32(o)
				if v == p || v == q {
					return
				}
				c := double(m.Positions[v])
				along := ((c[0]-a[0])*d[0] + (c[1]-a[1])*d[1] + (c[2]-a[2])*d[2]) / (length * length)
				if along*length <= tolerance || (1-along)*length <= tolerance {
					return
				}
				if distance(c, [3]float64{a[0] + along*d[0], a[1] + along*d[1], a[2] + along*d[2]}) <= 2*tolerance {
					stops = append(stops, stop{along, v})
				}
			})
		}
		if len(stops) == 2 {
			continue
		}
		slices.SortFunc(stops, func(x, y stop) int {
			switch {
			case x.at < y.at:
				return -1
			case x.at > y.at:
				return 1
			}
			return int(x.place) - int(y.place)
		})
		stops = slices.Compact(stops)
		// From each stop, the short sides that run back to an earlier one; the nearest first.
		until := 1.0
		for i := len(stops) - 1; i > 0 && until > 0; i-- {
			if stops[i].at > until {
				continue
			}
		back:
			for j := i - 1; j >= 0; j-- {
				if stops[i].at == 1 && stops[j].at == 0 {
					break
				}
				for _, s := range begin[stops[i].place] {
					if _, e := ends(s); e == stops[j].place && s/3 != long/3 && !taken[s] && same(s/3, long/3) {
						out = append(out, Bridge{long, s, stops[i].at, stops[j].at})
						taken[s] = true
						until = stops[j].at
						break back
					}
				}
			}
		}
	}
	return out
}

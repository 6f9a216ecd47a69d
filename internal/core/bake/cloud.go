package bake

import (
	"context"
	"math"

	"crust/internal/core/accel"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/par"
)

// cloud holds the surface as points that carry area and integrated mean curvature, from which the
// mean curvature at a stated radius is averaged. The points of a cell, a cube of side radius, lie
// together, and cells that are neighbours mostly follow each other.
type cloud struct {
	radius float32
	origin geom.Vec3
	table  []int32  // open addressing: one more than the number of a cube
	cubes  []uint64 // their keys
	eights []eight  // their cells
	packs  []pack
}

// pack is eight points, one after the other; those beyond the last have no area.
type pack struct{ x, y, z, nx, ny, nz, area, curv [packLanes]float32 }

const packLanes = 8

// perRadius is how many samples lie along the radius at least.
const perRadius = 3

// maxSamples bounds the cloud; on models that are large against the radius samples get sparser.
const maxSamples = 2_500_000

// sample is a small piece of the surface.
type sample struct {
	cell        uint64
	sub         int16 // place within the cell and facing; samples that share it become one point
	p, n        geom.Vec3
	weight      float32 // of p and n
	area, curve float32
}

// gather collects the samples of one run of faces.
type gather struct {
	step, radius float32
	origin       geom.Vec3
	out          []sample
	recent       [256]int32 // one more than places in out
}

const facesPerRun = 4096

// newClouds makes clouds of growing radii: radius doubled so many times for each. Only the first takes samples of the
// surface, the others are made from its points.
func newClouds(ctx context.Context, m *mesh.Model, normals []geom.Vec3, radius float32, doublings ...int) ([]*cloud, error) {
	most := radius * float32(int(1)<<doublings[len(doublings)-1])
	origin := m.Bounds().Min.Sub(geom.Vec3{X: most, Y: most, Z: most})
	step := radius / perRadius
	total := 0.0
	for t := range m.Tris {
		total += float64(m.Area(t))
	}
	if n := total / float64(step*step); n > maxSamples {
		step *= float32(math.Sqrt(n / maxSamples))
	}
	// The creases are the first run, then come the faces.
	runs := make([]gather, 1+(len(m.Tris)+facesPerRun-1)/facesPerRun)
	err := par.Blocks(ctx, len(runs), 1, func(_, i, _ int) {
		g := &runs[i]
		g.step, g.radius, g.origin = step, radius, origin
		if i == 0 {
			for _, e := range findCreases(m, normals) {
				g.crease(e)
			}
		} else {
			from, to := (i-1)*facesPerRun, min(i*facesPerRun, len(m.Tris))
			n := 0
			for t := from; t < to; t++ {
				long, rows := g.divisions(m, t)
				n += (long*rows+long)/2 + rows
			}
			g.out = make([]sample, 0, n)
			for t := from; t < to; t++ {
				g.triangle(m, normals, t)
			}
		}
	})
	if err != nil {
		return nil, err
	}
	cells, err := sortCells(ctx, runs)
	if err != nil {
		return nil, err
	}
	var out []*cloud
	times := 0
	for _, d := range doublings {
		if cells, err = widen(ctx, cells, d-times); err != nil {
			return nil, err
		}
		times = d
		c := &cloud{radius: radius * float32(int(1)<<d), origin: origin}
		if err := c.pack(ctx, cells); err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

func (g *gather) add(p, n geom.Vec3, weight, area, curve float32) {
	d := p.Sub(g.origin).Mul(1 / g.radius)
	x, y, z := int32(d.X), int32(d.Y), int32(d.Z) // never below zero
	within := func(v float32, f int32) int {
		return max(0, min(perRadius-1, int((v-float32(f))*perRadius)))
	}
	s := sample{cell: cellKey(x, y, z), p: p.Mul(weight), n: n.Mul(weight), weight: weight, area: area, curve: curve}
	s.sub = int16(((within(d.X, x)*perRadius+within(d.Y, y))*perRadius+within(d.Z, z))*6 + facing(n))
	// Small faces side by side mostly fall into one point.
	k := &g.recent[(s.cell*subs+uint64(s.sub))%uint64(len(g.recent))]
	if i := int(*k) - 1; i >= 0 && g.out[i].cell == s.cell && g.out[i].sub == s.sub {
		g.out[i].add(&s)
		return
	}
	g.out = append(g.out, s)
	*k = int32(len(g.out))
}

// add takes another sample of the same point.
func (s *sample) add(o *sample) {
	s.p, s.n = s.p.Add(o.p), s.n.Add(o.n)
	s.weight, s.area, s.curve = s.weight+o.weight, s.area+o.area, s.curve+o.curve
}

func floor(v float32) int32 { return int32(math.Floor(float64(v))) }

// cellKey interleaves the bits of a cell's coordinates, which are never negative for points of the model (Morton
// order): the last three bits number the cell in its cube of eight, and cells near each other have keys that are near.
func cellKey(x, y, z int32) uint64 { return apart(x)<<2 | apart(y)<<1 | apart(z) }

// apart leaves two bits free before each of the lower 21 of v.
func apart(v int32) uint64 {
	k := uint64(uint32(v)) & 0x1fffff
	k = (k | k<<32) & 0x1f00000000ffff
	k = (k | k<<16) & 0x1f0000ff0000ff
	k = (k | k<<8) & 0x100f00f00f00f00f
	k = (k | k<<4) & 0x10c30c30c30c30c3
	return (k | k<<2) & 0x1249249249249249
}

// facing numbers the axis that n is nearest to.
func facing(n geom.Vec3) int {
	x, y, z := max(n.X, -n.X), max(n.Y, -n.Y), max(n.Z, -n.Z)
	axis, v := 0, n.X
	if y > x && y >= z {
		axis, v = 1, n.Y
	} else if z > x {
		axis, v = 2, n.Z
	}
	if v < 0 {
		return axis + 3
	}
	return axis
}

// cell is a cube with points in it.
type cell struct {
	key    uint64
	points []sample // with the sums of p and n
}

// collector puts samples of one cell together that share its small parts.
type collector struct {
	slot   [subs]int32 // one more than the point's place
	points []sample
	begin  int
}

func (c *collector) add(sub int16, s *sample) {
	i := c.slot[sub]
	if i == 0 {
		c.points = append(c.points, sample{sub: sub})
		i = int32(len(c.points))
		c.slot[sub] = i
	}
	c.points[i-1].add(s)
}

// cell is made of what was added since the last.
func (c *collector) cell(key uint64) cell {
	points := c.points[c.begin:len(c.points):len(c.points)]
	for i := range points {
		c.slot[points[i].sub] = 0
	}
	c.begin = len(c.points)
	return cell{key, points}
}

// place is where a sample lies in the runs, with the key of its cell.
type place struct {
	key    uint64
	run, i int32
}

// sortCells makes the cells of all runs, in the order of their keys.
func sortCells(ctx context.Context, runs []gather) ([]cell, error) {
	n := 0
	for i := range runs {
		n += len(runs[i].out)
	}
	order := make([]place, 0, n)
	most := uint64(0)
	for r := range runs {
		for i := range runs[r].out {
			key := runs[r].out[i].cell
			most = max(most, key)
			order = append(order, place{key, int32(r), int32(i)})
		}
	}
	order = radixSort(order, most)
	var begin []int
	for i := range order {
		if i == 0 || order[i].key != order[i-1].key {
			begin = append(begin, i)
		}
	}
	out := make([]cell, len(begin))
	begin = append(begin, len(order))
	err := par.Blocks(ctx, len(out), 1024, func(_, from, to int) {
		c := collector{points: make([]sample, 0, begin[to]-begin[from])}
		for i := from; i < to; i++ {
			for _, at := range order[begin[i]:begin[i+1]] {
				s := &runs[at.run].out[at.i]
				c.add(s.sub, s)
			}
			out[i] = c.cell(order[begin[i]].key)
		}
	})
	return out, err
}

// radixSort puts places in the order of their keys, which are at most so large; equal ones stay in order.
func radixSort(list []place, most uint64) []place {
	const digit = 11
	other := make([]place, len(list))
	for shift := 0; most>>shift != 0; shift += digit {
		var count [1<<digit + 1]int
		for i := range list {
			count[list[i].key>>shift&(1<<digit-1)+1]++
		}
		for i := range 1 << digit {
			count[i+1] += count[i]
		}
		for _, p := range list {
			k := p.key >> shift & (1<<digit - 1)
			other[count[k]] = p
			count[k]++
		}
		list, other = other, list
	}
	return list
}

// widen makes larger cells of sorted ones, doubled so many times.
func widen(ctx context.Context, cells []cell, doublings int) ([]cell, error) {
	if doublings == 0 {
		return cells, nil
	}
	shift := 3 * doublings
	var begin []int
	for i := range cells {
		if i == 0 || cells[i].key>>shift != cells[i-1].key>>shift {
			begin = append(begin, i)
		}
	}
	out := make([]cell, len(begin))
	begin = append(begin, len(cells))
	err := par.Blocks(ctx, len(out), 256, func(_, from, to int) {
		var c collector
		for i := from; i < to; i++ {
			for _, e := range cells[begin[i]:begin[i+1]] {
				for j := range e.points {
					c.add(widened(e.key, e.points[j].sub, doublings), &e.points[j])
				}
			}
			out[i] = c.cell(cells[begin[i]].key >> shift)
		}
	})
	return out, err
}

// widened is the place, in the larger cell, of one in the cell of key.
func widened(key uint64, sub int16, doublings int) int16 {
	face, place := sub%6, [3]int16{sub / 6 / (perRadius * perRadius), sub / 6 / perRadius % perRadius, sub / 6 % perRadius}
	out := int16(0)
	for axis := range place {
		at := int16(0) // of the cell in the larger one
		for bit := range doublings {
			at |= int16(key>>(3*bit+2-axis)&1) << bit
		}
		out = out*perRadius + (at*perRadius+place[axis])>>doublings
	}
	return out*6 + face
}

const subs = perRadius * perRadius * perRadius * 6

// eight is a cube of 2 × 2 × 2 cells: the points of each, none where from and to are equal.
type eight [8][2]int32

// pack packs the points of sorted cells, and puts the cells in cubes of eight, and these in the table: the 27 cells
// round a point lie in eight cubes.
func (c *cloud) pack(ctx context.Context, cells []cell) error {
	c.table = make([]int32, 16)
	for len(c.table) < 2*len(cells) {
		c.table = make([]int32, 2*len(c.table))
	}
	begin := make([]int32, len(cells))
	n := int32(0)
	for i, e := range cells {
		if cube := e.key >> 3; len(c.cubes) == 0 || c.cubes[len(c.cubes)-1] != cube {
			at := c.slot(cube)
			for c.table[at] != 0 {
				at = (at + 1) & (len(c.table) - 1)
			}
			c.cubes, c.eights = append(c.cubes, cube), append(c.eights, eight{})
			c.table[at] = int32(len(c.cubes))
		}
		begin[i] = n
		n += int32(len(e.points))
		c.eights[len(c.eights)-1][e.key&7] = [2]int32{begin[i], n}
	}
	c.packs = make([]pack, (n+packLanes-1)/packLanes)
	accel.LargePages(c.packs)
	return par.Blocks(ctx, len(cells), 1024, func(_, from, to int) {
		for i := from; i < to; i++ {
			for j := range cells[i].points {
				at := int(begin[i]) + j
				c.packs[at/packLanes].put(at%packLanes, &cells[i].points[j])
			}
		}
	})
}

func (k *pack) put(i int, s *sample) {
	p, n := s.p.Mul(1/s.weight), s.n.Norm()
	k.x[i], k.y[i], k.z[i] = p.X, p.Y, p.Z
	k.nx[i], k.ny[i], k.nz[i] = n.X, n.Y, n.Z
	k.area[i], k.curv[i] = s.area, s.curve
}

func (c *cloud) slot(key uint64) int {
	return int(key*0xbf58476d1ce4e5b9>>20) & (len(c.table) - 1)
}

// find returns a cube, nil where there are no points.
func (c *cloud) find(key uint64) *eight {
	for at := c.slot(key); c.table[at] != 0; at = (at + 1) & (len(c.table) - 1) {
		if i := c.table[at] - 1; c.cubes[i] == key {
			return &c.eights[i]
		}
	}
	return nil
}

// near is the points round one cell; texels side by side mostly share it.
type near struct {
	cell   [3]int32
	cube   [3]int32 // the least of the eight cubes round it
	cubes  [8]*eight
	ranges [27][2]int32
	n      int
	known  bool
}

func (c *cloud) look(at [3]int32, k *near) {
	if k.known && k.cell == at {
		return
	}
	cube := [3]int32{(at[0] - 1) >> 1, (at[1] - 1) >> 1, (at[2] - 1) >> 1}
	if !k.known || k.cube != cube {
		for i := range k.cubes {
			k.cubes[i] = c.find(apart(cube[0]+int32(i>>2))<<2 | apart(cube[1]+int32(i>>1&1))<<1 | apart(cube[2]+int32(i&1)))
		}
	}
	k.cell, k.cube, k.known, k.n = at, cube, true, 0
	for x := at[0] - 1; x <= at[0]+1; x++ {
		for y := at[1] - 1; y <= at[1]+1; y++ {
			for z := at[2] - 1; z <= at[2]+1; z++ {
				e := k.cubes[(x>>1-cube[0])<<2|(y>>1-cube[1])<<1|(z>>1-cube[2])]
				if e == nil {
					continue
				}
				r := e[x&1<<2|y&1<<1|z&1]
				if k.n > 0 && k.ranges[k.n-1][1] == r[0] {
					k.ranges[k.n-1][1] = r[1] // which is the same when the cell is empty
				} else if r[0] != r[1] {
					k.ranges[k.n] = r
					k.n++
				}
			}
		}
	}
}

// mean returns the mean curvature in 1/m round p, weighted by (1 − d²/r²)². Points that face away
// from n, as on the other side of a plate, do not count.
func (c *cloud) mean(p, n geom.Vec3, k *near) float32 {
	d := p.Sub(c.origin).Mul(1 / c.radius)
	c.look([3]int32{floor(d.X), floor(d.Y), floor(d.Z)}, k)
	area, curve := c.weigh(p, n, k.ranges[:k.n])
	if area <= 0 {
		return 0
	}
	return curve / area
}

// weighPlain sums the weighted area and curvature of the points of ranges.
func (c *cloud) weighPlain(p, n geom.Vec3, ranges [][2]int32) (area, curve float32) {
	inv := 1 / (c.radius * c.radius)
	for _, r := range ranges {
		for at := r[0]; at < r[1]; at++ {
			k, i := &c.packs[at/packLanes], at%packLanes
			dx, dy, dz := k.x[i]-p.X, k.y[i]-p.Y, k.z[i]-p.Z
			w := 1 - (dx*dx+dy*dy+dz*dz)*inv
			if w <= 0 {
				continue
			}
			// Full weight up to a right angle, none from about 125°.
			w *= w * geom.Clamp01((k.nx[i]*n.X+k.ny[i]*n.Y+k.nz[i]*n.Z+0.6)*2)
			area += w * k.area[i]
			curve += w * k.curv[i]
		}
	}
	return area, curve
}

// value is 0.5 + H·r/2 at a point, limited to 0–1: 0.5 is flat, convex above.
func (c *cloud) value(pt *point, k *near) float32 {
	return geom.Clamp01(0.5 + 0.5*c.mean(pt.p, pt.n, k)*c.radius)
}

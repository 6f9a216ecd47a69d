package bake

import (
	"context"
	"math"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/par"
)

// cloud holds the surface as points that carry area and integrated mean curvature, from which the
// mean curvature at a stated radius is averaged. The points of a cell, a cube of side radius, lie
// together, by component.
type cloud struct {
	radius     float32
	origin     geom.Vec3
	table      []int32    // open addressing: one more than the number of a cube
	cubes      []uint64   // their keys
	eights     []eight    // their cells
	keys       []uint64   // of the cells, until they are indexed
	ranges     [][2]int32 // of each cell's points, likewise
	x, y, z    []float32
	nx, ny, nz []float32
	area, curv []float32
}

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

// shards is how many parts the cells are dealt to. Each is put in order on its own, so that the cloud is the
// same on any number of cores.
const shards = 64

func shard(cell uint64) int { return int(cell * 0x9e3779b97f4a7c15 >> 58) }

// gather collects the samples of one run of faces.
type gather struct {
	step, radius float32
	origin       geom.Vec3
	out          []sample
	order        []int32 // places in out, by shard
	starts       [shards + 1]int32
}

// deal puts the samples in order of their shards.
func (g *gather) deal() {
	for i := range g.out {
		g.starts[shard(g.out[i].cell)+1]++
	}
	for i := range shards {
		g.starts[i+1] += g.starts[i]
	}
	g.order = make([]int32, len(g.out))
	at := g.starts
	for i := range g.out {
		k := shard(g.out[i].cell)
		g.order[at[k]] = int32(i)
		at[k]++
	}
}

const facesPerRun = 4096

func newCloud(ctx context.Context, m *mesh.Model, normals []geom.Vec3, creases []crease, radius float32) (*cloud, error) {
	c := &cloud{radius: radius, origin: m.Bounds().Min.Sub(geom.Vec3{X: radius, Y: radius, Z: radius})}
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
		g.step, g.radius, g.origin = step, radius, c.origin
		if i == 0 {
			for _, e := range creases {
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
		g.deal()
	})
	if err != nil {
		return nil, err
	}
	parts := make([]*cloud, shards)
	err = par.Blocks(ctx, shards, 1, func(_, i, _ int) { parts[i] = merge(runs, i) })
	if err != nil {
		return nil, err
	}
	c.join(parts)
	return c, nil
}

func (g *gather) add(p, n geom.Vec3, weight, area, curve float32) {
	d := p.Sub(g.origin).Mul(1 / g.radius)
	x, y, z := int32(d.X), int32(d.Y), int32(d.Z) // never below zero
	within := func(v float32, f int32) int {
		return max(0, min(perRadius-1, int((v-float32(f))*perRadius)))
	}
	s := sample{cell: cellKey(x, y, z), p: p.Mul(weight), n: n.Mul(weight), weight: weight, area: area, curve: curve}
	s.sub = int16(((within(d.X, x)*perRadius+within(d.Y, y))*perRadius+within(d.Z, z))*6 + facing(n))
	g.out = append(g.out, s)
}

func floor(v float32) int32 { return int32(math.Floor(float64(v))) }

// cellKey packs a cell's coordinates, which are never negative for points of the model.
func cellKey(x, y, z int32) uint64 {
	return uint64(uint32(x)&0x1fffff)<<42 | uint64(uint32(y)&0x1fffff)<<21 | uint64(uint32(z)&0x1fffff)
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

// merge makes a cloud of one shard of all runs: samples in the order in which they were made, those that
// share a cell's small part as one point.
func merge(runs []gather, k int) *cloud {
	c := &cloud{}
	// First the cells, in the order in which they turn up, and how many samples each has.
	at := map[uint64]int32{}
	var cells []int32 // of the samples
	var count []int32
	last, lastID := ^uint64(0), int32(0)
	each := func(f func(s *sample)) {
		for i := range runs {
			g := &runs[i]
			for _, j := range g.order[g.starts[k]:g.starts[k+1]] {
				f(&g.out[j])
			}
		}
	}
	n := 0
	for i := range runs {
		n += int(runs[i].starts[k+1] - runs[i].starts[k])
	}
	cells = make([]int32, 0, n)
	each(func(s *sample) {
		if s.cell != last {
			id, ok := at[s.cell]
			if !ok {
				id = int32(len(c.keys))
				at[s.cell] = id
				c.keys, count = append(c.keys, s.cell), append(count, 0)
			}
			last, lastID = s.cell, id
		}
		cells = append(cells, lastID)
		count[lastID]++
	})
	begin := make([]int32, len(count)+1)
	for i, m := range count {
		begin[i+1] = begin[i] + m
	}
	sorted := make([]*sample, n)
	next, i := append([]int32(nil), begin...), 0
	each(func(s *sample) {
		sorted[next[cells[i]]] = s
		next[cells[i]]++
		i++
	})
	// Then the points of each cell.
	var slot [subs]int32 // one more than the point's place
	var sums []sample
	for id := range c.keys {
		sums = sums[:0]
		for _, s := range sorted[begin[id]:begin[id+1]] {
			if slot[s.sub] == 0 {
				sums = append(sums, sample{sub: s.sub})
				slot[s.sub] = int32(len(sums))
			}
			o := &sums[slot[s.sub]-1]
			o.p, o.n = o.p.Add(s.p), o.n.Add(s.n)
			o.weight, o.area, o.curve = o.weight+s.weight, o.area+s.area, o.curve+s.curve
		}
		from := int32(len(c.x))
		for i := range sums {
			s := &sums[i]
			slot[s.sub] = 0
			p, d := s.p.Mul(1/s.weight), s.n.Norm()
			c.x, c.y, c.z = append(c.x, p.X), append(c.y, p.Y), append(c.z, p.Z)
			c.nx, c.ny, c.nz = append(c.nx, d.X), append(c.ny, d.Y), append(c.nz, d.Z)
			c.area, c.curv = append(c.area, s.area), append(c.curv, s.curve)
		}
		c.ranges = append(c.ranges, [2]int32{from, int32(len(c.x))})
	}
	return c
}

const subs = perRadius * perRadius * perRadius * 6

// join puts the shards one after the other and makes the table of cells. Eight points without area follow
// the last, so that kernels may read on.
func (c *cloud) join(parts []*cloud) {
	n := 0
	for _, p := range parts {
		n += len(p.x)
	}
	for _, v := range []*[]float32{&c.x, &c.y, &c.z, &c.nx, &c.ny, &c.nz, &c.area, &c.curv} {
		*v = make([]float32, 0, n+cloudLanes)
	}
	for _, p := range parts {
		base := int32(len(c.x))
		c.x, c.y, c.z = append(c.x, p.x...), append(c.y, p.y...), append(c.z, p.z...)
		c.nx, c.ny, c.nz = append(c.nx, p.nx...), append(c.ny, p.ny...), append(c.nz, p.nz...)
		c.area, c.curv = append(c.area, p.area...), append(c.curv, p.curv...)
		c.keys = append(c.keys, p.keys...)
		for _, r := range p.ranges {
			c.ranges = append(c.ranges, [2]int32{r[0] + base, r[1] + base})
		}
	}
	var none [cloudLanes]float32
	for _, v := range []*[]float32{&c.x, &c.y, &c.z, &c.nx, &c.ny, &c.nz, &c.area, &c.curv} {
		*v = append(*v, none[:]...)
	}
	c.index()
}

// eight is a cube of 2 × 2 × 2 cells: the points of each, none where from and to are equal.
type eight [8][2]int32

// index puts the cells in cubes of eight, and these in the table: the 27 cells round a point lie in eight cubes.
func (c *cloud) index() {
	size := 16
	for size < 3*len(c.keys) {
		size *= 2
	}
	c.table = make([]int32, size)
	for i, key := range c.keys {
		x, y, z := int32(key>>42&0x1fffff), int32(key>>21&0x1fffff), int32(key&0x1fffff)
		cube := cellKey(x>>1, y>>1, z>>1)
		at := c.slot(cube)
		for c.table[at] != 0 && c.cubes[c.table[at]-1] != cube {
			at = (at + 1) & (size - 1)
		}
		if c.table[at] == 0 {
			c.cubes, c.eights = append(c.cubes, cube), append(c.eights, eight{})
			c.table[at] = int32(len(c.cubes))
		}
		c.eights[c.table[at]-1][x&1<<2|y&1<<1|z&1] = c.ranges[i]
	}
	c.keys, c.ranges = nil, nil
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
	ranges [27][2]int32
	n      int
	known  bool
}

func (c *cloud) look(at [3]int32, k *near) {
	if k.known && k.cell == at {
		return
	}
	k.cell, k.known, k.n = at, true, 0
	for i := range 8 {
		cx, cy, cz := (at[0]-1)>>1+int32(i>>2), (at[1]-1)>>1+int32(i>>1&1), (at[2]-1)>>1+int32(i&1)
		e := c.find(cellKey(cx, cy, cz))
		if e == nil {
			continue
		}
		for j, r := range e {
			dx, dy, dz := 2*cx+int32(j>>2)-at[0], 2*cy+int32(j>>1&1)-at[1], 2*cz+int32(j&1)-at[2]
			if r[0] != r[1] && dx*dx <= 1 && dy*dy <= 1 && dz*dz <= 1 {
				k.ranges[k.n] = r
				k.n++
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
		for i := r[0]; i < r[1]; i++ {
			dx, dy, dz := c.x[i]-p.X, c.y[i]-p.Y, c.z[i]-p.Z
			w := 1 - (dx*dx+dy*dy+dz*dz)*inv
			if w <= 0 {
				continue
			}
			// Full weight up to a right angle, none from about 125°.
			w *= w * geom.Clamp01((c.nx[i]*n.X+c.ny[i]*n.Y+c.nz[i]*n.Z+0.6)*2)
			area += w * c.area[i]
			curve += w * c.curv[i]
		}
	}
	return area, curve
}

// value is 0.5 + H·r/2 at a point, limited to 0–1: 0.5 is flat, convex above.
func (c *cloud) value(pt *point, k *near) float32 {
	return geom.Clamp01(0.5 + 0.5*c.mean(pt.p, pt.n, k)*c.radius)
}

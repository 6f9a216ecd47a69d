package bake

import (
	"context"
	"math"

	"crust/internal/core/accel"
	"crust/internal/core/cells"
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
	index  *cells.Index
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
				a, b, c := m.Corners(t)
				n += cells.MostPieces(a, b, c, g.step)
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
	list, err := sortCells(ctx, runs)
	if err != nil {
		return nil, err
	}
	var out []*cloud
	times := 0
	for _, d := range doublings {
		if list, err = widen(ctx, list, d-times); err != nil {
			return nil, err
		}
		times = d
		c := &cloud{radius: radius * float32(int(1)<<d), origin: origin}
		if err := c.pack(ctx, list); err != nil {
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
	s := sample{cell: cells.Key(x, y, z), p: p.Mul(weight), n: n.Mul(weight), weight: weight, area: area, curve: curve}
	s.sub = int16(((within(d.X, x)*perRadius+within(d.Y, y))*perRadius+within(d.Z, z))*cells.Facings + cells.Facing(n))
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

// sortCells makes the cells of all runs, in the order of their keys.
func sortCells(ctx context.Context, runs []gather) ([]cell, error) {
	order, err := cells.Order(ctx, len(runs), func(r int) int { return len(runs[r].out) }, func(r, i int) uint64 { return runs[r].out[i].cell })
	if err != nil {
		return nil, err
	}
	var begin []int
	for i := range order {
		if i == 0 || order[i].Key != order[i-1].Key {
			begin = append(begin, i)
		}
	}
	out := make([]cell, len(begin))
	begin = append(begin, len(order))
	err = par.Blocks(ctx, len(out), 1024, func(_, from, to int) {
		c := collector{points: make([]sample, 0, begin[to]-begin[from])}
		for i := from; i < to; i++ {
			for _, at := range order[begin[i]:begin[i+1]] {
				s := &runs[at.Run].out[at.I]
				c.add(s.sub, s)
			}
			out[i] = c.cell(order[begin[i]].Key)
		}
	})
	return out, err
}

// widen makes larger cells of sorted ones, doubled so many times.
func widen(ctx context.Context, list []cell, doublings int) ([]cell, error) {
	if doublings == 0 {
		return list, nil
	}
	shift := 3 * doublings
	var begin []int
	for i := range list {
		if i == 0 || list[i].key>>shift != list[i-1].key>>shift {
			begin = append(begin, i)
		}
	}
	out := make([]cell, len(begin))
	begin = append(begin, len(list))
	err := par.Blocks(ctx, len(out), 256, func(_, from, to int) {
		var c collector
		for i := from; i < to; i++ {
			for _, e := range list[begin[i]:begin[i+1]] {
				for j := range e.points {
					c.add(widened(e.key, e.points[j].sub, doublings), &e.points[j])
				}
			}
			out[i] = c.cell(list[begin[i]].key >> shift)
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

const subs = perRadius * perRadius * perRadius * cells.Facings

// pack packs the points of sorted cells.
func (c *cloud) pack(ctx context.Context, list []cell) error {
	c.index = cells.NewIndex(len(list))
	begin := make([]int32, len(list))
	n := int32(0)
	for i, e := range list {
		begin[i] = n
		n += int32(len(e.points))
		c.index.Put(e.key, begin[i], n)
	}
	c.packs = make([]pack, (n+packLanes-1)/packLanes)
	accel.LargePages(c.packs)
	return par.Blocks(ctx, len(list), 1024, func(_, from, to int) {
		for i := from; i < to; i++ {
			for j := range list[i].points {
				at := int(begin[i]) + j
				c.packs[at/packLanes].put(at%packLanes, &list[i].points[j])
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

// mean returns the mean curvature in 1/m round p, weighted by (1 − d²/r²)². Points that face away
// from n, as on the other side of a plate, do not count.
func (c *cloud) mean(p, n geom.Vec3, k *cells.Near) float32 {
	d := p.Sub(c.origin).Mul(1 / c.radius)
	c.index.Look([3]int32{floor(d.X), floor(d.Y), floor(d.Z)}, k)
	area, curve := c.weigh(p, n, k.Ranges())
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
func (c *cloud) value(pt *point, k *cells.Near) float32 {
	return geom.Clamp01(0.5 + 0.5*c.mean(pt.p, pt.n, k)*c.radius)
}

package compose

import (
	"context"
	"math"

	"crust/internal/core/cells"
	"crust/internal/core/geom"
	"crust/internal/core/par"
	"crust/internal/core/surface"
)

// cloud is the whole surface as points about one spacing apart, made from the mesh alone, so that what is averaged over it
// crosses seams and sets and does not change with the size of textures. Values are evaluated at samples, some to a point,
// and a point takes their mean.
type cloud struct {
	*ground
	spacing float32
	origin  geom.Vec3
	n       int          // points
	first   []int32      // first sample of each point, and one more
	share   []float32    // by sample: of the area of its point
	at      []bunch      // the points
	boxes   []geom.Box   // of bunches
	wide    *cells.Index // cells of wideCell, which averages are made from
}

// wideCell is how wide the cells are that averages are made from, in spacings: at least the largest radius that a cloud is for.
const wideCell = 4

// leastReach is the least radius that is averaged over, in spacings; a smaller one would find too few points.
const leastReach = 1.9

// farCloud is how far a cloud goes on over the rim of a square that repeats, in spacings: farther than averages reach.
const farCloud = 8

// taken is a sample while a cloud is made.
type taken struct {
	spot
	key  uint64 // of its point: the cell of one spacing, and the facing
	area float32
}

const facesPerRun = 4096

// newCloud lays points on the body's surface.
func (b *Body) newCloud(ctx context.Context, spacing float32) (*cloud, error) {
	m := b.model
	size := m.Bounds().Size()
	// Cells are numbered in 20 bits each way.
	for most := max(size.X, size.Y, size.Z); most/spacing > 1<<19; {
		spacing *= 2
	}
	step := spacing / 2
	area := b.area
	if b.piece != nil {
		far := farCloud * float64(spacing)
		area *= (1 + 2*far/float64(b.piece.U.Len())) * (1 + 2*far/float64(b.piece.V.Len()))
	}
	if n := area / float64(step*step); n > float64(b.samples) {
		step *= float32(math.Sqrt(n / float64(b.samples)))
	}
	margin := 8 * spacing
	origin := m.Bounds().Min.Sub(geom.Vec3{X: margin, Y: margin, Z: margin})
	runs := make([][]taken, (len(m.Tris)+facesPerRun-1)/facesPerRun)
	err := par.Blocks(ctx, len(runs), 1, func(_, i, _ int) {
		runs[i] = b.take(i*facesPerRun, min((i+1)*facesPerRun, len(m.Tris)), step, spacing, origin)
	})
	if err != nil {
		return nil, err
	}
	order, err := cells.Order(ctx, len(runs), func(r int) int { return len(runs[r]) }, func(r, i int) uint64 { return runs[r][i].key })
	if err != nil {
		return nil, err
	}
	n := len(order)
	spots := make([]spot, n)
	c := &cloud{spacing: spacing, origin: origin, share: make([]float32, n)}
	err = par.Blocks(ctx, n, 1<<14, func(_, from, to int) {
		for i, at := range order[from:to] {
			s := &runs[at.Run][at.I]
			spots[from+i], c.share[from+i] = s.spot, s.area
		}
	})
	if err != nil {
		return nil, err
	}
	var keys []uint64
	for i := range order {
		if i == 0 || order[i].Key != order[i-1].Key {
			c.first, keys = append(c.first, int32(i)), append(keys, order[i].Key/cells.Facings)
		}
	}
	c.n = len(c.first)
	c.first = append(c.first, int32(len(order)))
	var tiles []surface.Tile
	for from := 0; from < len(spots); from += tileTexels {
		tiles = append(tiles, surface.Tile{From: int32(from), To: int32(min(len(spots), from+tileTexels))})
	}
	g, err := b.ground(ctx, spots, tiles, 2*surface.TileSize*step, b.maps)
	if err != nil {
		return nil, err
	}
	c.ground = g
	g.cloud = c
	c.pitch = step
	c.wide = index(keys, 2)
	c.at = make([]bunch, padded(c.n)/lanes)
	c.boxes = make([]geom.Box, len(c.at))
	return c, par.Blocks(ctx, c.n, 128*lanes, func(_, from, to int) {
		for i := from; i < to; i++ {
			p, n, area := b.point(spots[c.first[i]:c.first[i+1]], c.share[c.first[i]:c.first[i+1]])
			c.at[i/lanes].put(i%lanes, p, n, area)
			box := &c.boxes[i/lanes]
			if i%lanes == 0 {
				*box = geom.EmptyBox()
			}
			*box = box.Add(p)
		}
	})
}

// take takes samples of some faces. Small faces side by side mostly make one.
func (b *Body) take(from, to int, step, spacing float32, origin geom.Vec3) (out []taken) {
	m := b.model
	var recent [256]int32 // one more than places in out
	area := float32(0)
	for t := from; t < to; t++ {
		if b.setOf[t] >= 0 {
			area += m.Area(t)
		}
	}
	out = make([]taken, 0, int(1.5*area/(step*step))+len(recent)) // pieces are mostly not much smaller than a step
	for t := from; t < to; t++ {
		if b.setOf[t] < 0 {
			continue
		}
		p, q, r := m.Corners(t)
		cells.Pieces(p, q, r, step, func(u, v, area float32) {
			s := taken{spot: spot{int32(t), u, v}, area: area}
			at := b.at(s.spot)
			if t >= b.own && !b.near(at, farCloud*spacing) {
				return
			}
			d := at.Sub(origin).Mul(1 / spacing)
			s.key = cells.Key(int32(d.X), int32(d.Y), int32(d.Z))*cells.Facings + uint64(cells.Facing(b.normal(s.spot)))
			if area < step*step/4 {
				d = d.Mul(spacing / step)
				slot := &recent[(cells.Key(int32(d.X), int32(d.Y), int32(d.Z))*cells.Facings+s.key%cells.Facings)*0x9e3779b97f4a7c15>>56]
				if i := int(*slot) - 1; i >= 0 && out[i].key == s.key {
					out[i].area += area
					return
				}
				*slot = int32(len(out) + 1)
			}
			out = append(out, s)
		})
	}
	return out
}

// index finds the points of cells doubled so many times, by the keys of theirs.
func index(keys []uint64, doublings int) *cells.Index {
	n := 0
	for i, k := range keys {
		if i == 0 || k>>(3*doublings) != keys[i-1]>>(3*doublings) {
			n++
		}
	}
	x := cells.NewIndex(n)
	from := 0
	for i, k := range keys {
		if i+1 == len(keys) || keys[i+1]>>(3*doublings) != k>>(3*doublings) {
			x.Put(k>>(3*doublings), int32(from), int32(i+1))
			from = i + 1
		}
	}
	return x
}

// point makes one of samples; areas become their shares.
func (b *Body) point(samples []spot, areas []float32) (p, n geom.Vec3, area float32) {
	for j, s := range samples {
		p, n = p.Add(b.at(s).Mul(areas[j])), n.Add(b.normal(s).Mul(areas[j]))
		area += areas[j]
	}
	for j := range areas {
		areas[j] /= area
	}
	return p.Mul(1 / area), n.Norm(), area
}

// values makes room for one of each point; what fills up the last bunch is 0.
func (c *cloud) values() []float32 { return make([]float32, padded(c.n)) }

// points evaluates values at the samples and takes the mean of each point's.
func (c *cloud) points(ctx context.Context, value func(k *scratch, t int, out []float32) bool) ([]float32, error) {
	at := make([]float32, len(c.tri))
	err := par.Blocks(ctx, len(c.tiles), 1, func(w, t, _ int) {
		k := c.scratch(w)
		k.ctx, k.lost = ctx, false
		value(k, t, at[c.tiles[t].From:c.tiles[t].To])
	})
	if err != nil {
		return nil, err
	}
	out := c.values()
	return out, par.Blocks(ctx, c.n, 4096, func(_, from, to int) {
		for i := from; i < to; i++ {
			v := float32(0)
			for j := c.first[i]; j < c.first[i+1]; j++ {
				v += at[j] * c.share[j]
			}
			out[i] = v
		}
	})
}

// place is where a point lies and how it faces.
func (c *cloud) place(i int) (p, n geom.Vec3) {
	k, j := &c.at[i/lanes], i%lanes
	return geom.Vec3{X: k.x[j], Y: k.y[j], Z: k.z[j]}, geom.Vec3{X: k.nx[j], Y: k.ny[j], Z: k.nz[j]}
}

// cell is the wide cell that a place lies in.
func (c *cloud) cell(p geom.Vec3) [3]int32 {
	d := p.Sub(c.origin).Mul(1 / (wideCell * c.spacing))
	return [3]int32{int32(d.X), int32(d.Y), int32(d.Z)}
}

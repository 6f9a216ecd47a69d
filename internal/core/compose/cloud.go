package compose

import (
	"context"
	"math"
	"slices"
	"sync"

	"crust/internal/core/brush"
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
	n       int       // points
	first   []int32   // first sample of each point, and one more
	share   []float32 // by sample: of the area of its point
	at      scattered
	fine    *cells.Index // cells of two spacings, which averages are read from
	wide    *cells.Index // cells of four, which they are made from
	run     sync.Once
	runs    []geom.Box // see runBoxes
}

// scattered is points by component, padded to whole vectors by some without area.
type scattered struct{ x, y, z, nx, ny, nz, area []float32 }

// lanes are how many points are weighed at once.
const lanes = 8

// padded is how many there are with the padding.
func padded(n int) int { return (n + lanes - 1) &^ (lanes - 1) }

// planes lists the components.
func (p *scattered) planes() [7]*[]float32 {
	return [7]*[]float32{&p.x, &p.y, &p.z, &p.nx, &p.ny, &p.nz, &p.area}
}

// resize makes room for n points; what was there is lost.
func (p *scattered) resize(n int) {
	for _, v := range p.planes() {
		if cap(*v) < padded(n) {
			*v = make([]float32, padded(n)+padded(n)/2)
		}
		*v = (*v)[:padded(n)]
	}
	clear(p.area[n:])
}

// reach is from how far averages are read, in spacings.
const reach = 1.9

// farCloud is how far a cloud goes on over the rim of a square that repeats, in spacings: as far as averages and readings reach.
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
	var order []cells.Place
	most := uint64(0)
	for r := range runs {
		for i := range runs[r] {
			order = append(order, cells.Place{Key: runs[r][i].key, Run: int32(r), I: int32(i)})
			most = max(most, runs[r][i].key)
		}
	}
	order = cells.Sort(order, most)
	spots := make([]spot, len(order))
	c := &cloud{spacing: spacing, origin: origin, share: make([]float32, len(order))}
	var keys []uint64
	for i, at := range order {
		s := &runs[at.Run][at.I]
		spots[i], c.share[i] = s.spot, s.area
		if i == 0 || at.Key != order[i-1].Key {
			c.first, keys = append(c.first, int32(i)), append(keys, at.Key/cells.Facings)
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
	c.pitch = step
	c.fine, c.wide = index(keys, 1), index(keys, 2)
	c.at.resize(c.n)
	return c, par.Blocks(ctx, c.n, 1024, func(_, from, to int) {
		for i := from; i < to; i++ {
			c.at.put(i, b, spots[c.first[i]:c.first[i+1]], c.share[c.first[i]:c.first[i+1]])
		}
	})
}

// take takes samples of some faces. Small faces side by side mostly make one.
func (b *Body) take(from, to int, step, spacing float32, origin geom.Vec3) (out []taken) {
	m := b.model
	var recent [256]int32 // one more than places in out
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

// put makes a point of samples; areas become their shares.
func (k *scattered) put(i int, b *Body, samples []spot, areas []float32) {
	var p, n geom.Vec3
	area := float32(0)
	for j, s := range samples {
		p, n = p.Add(b.at(s).Mul(areas[j])), n.Add(b.normal(s).Mul(areas[j]))
		area += areas[j]
	}
	for j := range areas {
		areas[j] /= area
	}
	p, n = p.Mul(1/area), n.Norm()
	k.x[i], k.y[i], k.z[i] = p.X, p.Y, p.Z
	k.nx[i], k.ny[i], k.nz[i] = n.X, n.Y, n.Z
	k.area[i] = area
}

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
	out := make([]float32, c.n)
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

// filter averages points over a radius. Reading between points blurs some more, so the radius is less by that.
func (c *cloud) filter(ctx context.Context, points []float32, radius float32) ([]float32, error) {
	out := make([]float32, len(points))
	return out, c.filterIn(ctx, points, radius, nil, out, nil)
}

// filterIn averages the points of a region; nil is for all. versions, when there are some, count the runs in which averages change.
func (c *cloud) filterIn(ctx context.Context, points []float32, radius float32, in region, out []float32, versions []uint64) error {
	r := float32(math.Sqrt(float64(max(0, radius*radius-reach*reach*c.spacing*c.spacing))))
	if r < c.spacing {
		for i := range versions {
			if from, to := i*filterRun, min(c.n, (i+1)*filterRun); !slices.Equal(out[from:to], points[from:to]) {
				versions[i]++
			}
		}
		copy(out, points) // they are averages already
		return ctx.Err()
	}
	whole := in.box()
	return par.Blocks(ctx, c.n, filterRun, func(worker, from, to int) {
		if in != nil && !brush.Meets(&whole, &c.runBoxes()[from/filterRun]) {
			return
		}
		room := &c.scratch(worker).round
		round := &room.patch
		round.begin()
		w := weighing{radius: r, sheet: radius}
		last, box, some := [3]int32{}, geom.Box{}, false // no place of the surface is in cell 0
		for i := from; i < to; i++ {
			p, n := c.place(i)
			cell := c.cell(p, 4)
			if in != nil {
				if cell != last { // places that follow each other mostly share it
					last = cell
					box, some = in[cell]
				}
				if !some || !brush.Meets(&box, &geom.Box{Min: p, Max: p}) {
					continue
				}
			}
			round.move(c, c.wide, cell, points)
			room.weights = slices.Grow(room.weights[:0], len(round.values))[:len(round.values)]
			weights := room.weights
			w.weigh(p, n, &round.at, weights)
			area, sum := summed(weights, round.values)
			v := points[i]
			if area > 0 {
				v = sum / area
			}
			if versions != nil && v != out[i] {
				versions[from/filterRun]++
			}
			out[i] = v
		}
	})
}

// filterRun is how many points, which lie near each other, are averaged at a time.
const filterRun = 64

// runBoxes are those of runs of points.
func (c *cloud) runBoxes() []geom.Box {
	c.run.Do(func() {
		for from := 0; from < c.n; from += filterRun {
			box := geom.EmptyBox()
			for i := from; i < min(c.n, from+filterRun); i++ {
				p, _ := c.place(i)
				box = box.Add(p)
			}
			c.runs = append(c.runs, box)
		}
	})
	return c.runs
}

// place is where a point lies and how it faces.
func (c *cloud) place(i int) (p, n geom.Vec3) {
	k := &c.at
	return geom.Vec3{X: k.x[i], Y: k.y[i], Z: k.z[i]}, geom.Vec3{X: k.nx[i], Y: k.ny[i], Z: k.nz[i]}
}

// patch is the points round one cell, side by side, with their values where they are wanted.
type patch struct {
	near   cells.Near
	cell   [3]int32
	at     scattered
	values []float32
	turn   int    // of a lattice, in which it stands in the reading that is made,
	first  uint32 // from this point on
}

// begin forgets the cell.
func (q *patch) begin() { q.cell, q.near = [3]int32{}, cells.Near{} }

// move goes to a cell, and tells whether it was not there yet; places near each other mostly share it.
func (q *patch) move(c *cloud, x *cells.Index, cell [3]int32, values []float32) bool {
	if q.cell == cell {
		return false // no place of the surface is in cell 0
	}
	q.cell = cell
	x.Look(cell, &q.near)
	n := 0
	for _, r := range q.near.Ranges() {
		n += int(r[1] - r[0])
	}
	q.at.resize(n)
	if values != nil {
		q.values = slices.Grow(q.values[:0], padded(n))[:padded(n)]
		clear(q.values[n:])
	}
	from, to := c.at.planes(), q.at.planes()
	n = 0
	for _, r := range q.near.Ranges() {
		for k := range from {
			copy((*to[k])[n:], (*from[k])[r[0]:r[1]])
		}
		if values != nil {
			copy(q.values[n:], values[r[0]:r[1]])
		}
		n += int(r[1] - r[0])
	}
	return true
}

// cell is the cell, so many spacings wide, that a place lies in.
func (c *cloud) cell(p geom.Vec3, wide float32) [3]int32 {
	d := p.Sub(c.origin).Mul(1 / (wide * c.spacing))
	return [3]int32{int32(d.X), int32(d.Y), int32(d.Z)}
}

// weighing is how points count for a place: by (1 − d²/r²)², by how they face, and by how far they lie off the surface
// through both.
type weighing struct {
	radius float32
	sheet  float32 // half of it is where sheets do not see each other any more
}

// weighPlain writes how much points count round p with the normal n; most is the largest of it.
func (w *weighing) weighPlain(p, n geom.Vec3, k *scattered, out []float32) (most float32) {
	inv, sheet := 1/(w.radius*w.radius), 2/w.sheet
	for i := range out {
		dx, dy, dz := k.x[i]-p.X, k.y[i]-p.Y, k.z[i]-p.Z
		near := max(0, 1-(dx*dx+dy*dy+dz*dz)*inv)
		// Full weight up to some 95°, none from about 127°.
		facing := geom.Clamp01((k.nx[i]*n.X+k.ny[i]*n.Y+k.nz[i]*n.Z)*2 + 1.2)
		// Full up to a quarter of the radius, none from half of it.
		off := dx*(k.nx[i]+n.X) + dy*(k.ny[i]+n.Y) + dz*(k.nz[i]+n.Z)
		out[i] = near * near * facing * geom.Clamp01(2-max(off, -off)*sheet) * k.area[i]
		most = max(most, out[i])
	}
	return most
}

// summedPlain is the sum of weights, and of values by them.
func summedPlain(weights, values []float32) (all, sum float32) {
	// Some sums side by side do not wait for each other.
	var a, s [4]float32
	for ; len(weights) >= 4; weights, values = weights[4:], values[4:] {
		w, v := (*[4]float32)(weights), (*[4]float32)(values)
		for i, x := range w {
			a[i] += x
			s[i] += x * v[i]
		}
	}
	return a[0] + a[1] + a[2] + a[3], s[0] + s[1] + s[2] + s[3]
}

package compose

import (
	"slices"

	"crust/internal/core/cells"
	"crust/internal/core/geom"
)

// lanes are how many points are weighed at once.
const lanes = 8

// bunch is points of a cloud that follow each other, by component; those that fill up the last bunch have no area.
type bunch struct{ x, y, z, nx, ny, nz, area [lanes]float32 }

func (b *bunch) put(i int, p, n geom.Vec3, area float32) {
	b.x[i], b.y[i], b.z[i] = p.X, p.Y, p.Z
	b.nx[i], b.ny[i], b.nz[i] = n.X, n.Y, n.Z
	b.area[i] = area
}

// padded is how many there are when the last bunch of n points is full.
func padded(n int) int { return (n + lanes - 1) &^ (lanes - 1) }

// round is the bunches of a cloud that lie round one cell, each once and in their order, and some of their neighbours.
type round struct {
	near    cells.Near
	cell    [3]int32
	bunches []int32
	boxes   []boxes // of bunches
	close   []int32 // see within
}

// boxes are those of lanes bunches, by component; those that fill up the last are nowhere.
type boxes struct{ min, max [3][lanes]float32 }

// begin forgets the cell.
func (q *round) begin() { q.cell, q.near = [3]int32{}, cells.Near{} }

// move goes to a cell; places near each other mostly share it.
func (q *round) move(c *cloud, cell [3]int32) {
	if q.cell == cell {
		return // no place of the surface is in cell 0
	}
	q.cell = cell
	c.wide.Look(cell, &q.near)
	var ranges [27][2]int32
	n := copy(ranges[:], q.near.Ranges())
	for i := 1; i < n; i++ {
		r, j := ranges[i], i
		for ; j > 0 && ranges[j-1][0] > r[0]; j-- {
			ranges[j] = ranges[j-1]
		}
		ranges[j] = r
	}
	q.bunches = q.bunches[:0]
	next := int32(0)
	for _, r := range ranges[:n] {
		for next = max(next, r[0]/lanes); next <= (r[1]-1)/lanes; next++ {
			q.bunches = append(q.bunches, next)
		}
	}
	n = padded(len(q.bunches))
	q.boxes, q.close = slices.Grow(q.boxes[:0], n/lanes)[:n/lanes], slices.Grow(q.close[:0], n)
	for i := range n {
		box := &nowhere
		if i < len(q.bunches) {
			box = &c.boxes[q.bunches[i]]
		}
		to, j := &q.boxes[i/lanes], i%lanes
		to.min[0][j], to.min[1][j], to.min[2][j] = box.Min.X, box.Min.Y, box.Min.Z
		to.max[0][j], to.max[1][j], to.max[2][j] = box.Max.X, box.Max.Y, box.Max.Z
	}
}

var nowhere = geom.EmptyBox()

// withinPlain leaves in close the bunches that come within a distance of a place.
func (q *round) withinPlain(p geom.Vec3, far float32) {
	q.close = q.close[:0]
	at := p.Array()
	for j, b := range q.bunches {
		box, i, sum := &q.boxes[j/lanes], j%lanes, float32(0)
		for k, v := range at {
			gap := max(0, box.min[k][i]-v, v-box.max[k][i])
			sum += gap * gap
		}
		if sum <= far*far {
			q.close = append(q.close, b)
		}
	}
}

// weighing is how points count for a place: by (1 − d²/r²)², by how they face, by how far they lie off the surface through both, and
// by their areas.
type weighing struct {
	radius float32
	sheet  float32 // half of it is where sheets do not see each other any more
}

// meanPlain is how much the points of some bunches count round p with the normal n, and the sum of their values by that.
func (w *weighing) meanPlain(p, n geom.Vec3, of []bunch, which []int32, values []float32) (all, sum float32) {
	inv, sheet := 1/(w.radius*w.radius), 2/w.sheet
	for _, b := range which {
		k, v := &of[b], values[lanes*b:][:lanes]
		for i := range lanes {
			dx, dy, dz := k.x[i]-p.X, k.y[i]-p.Y, k.z[i]-p.Z
			near := max(0, 1-(dx*dx+dy*dy+dz*dz)*inv)
			// Full weight up to some 95°, none from about 127°.
			facing := geom.Clamp01((k.nx[i]*n.X+k.ny[i]*n.Y+k.nz[i]*n.Z)*2 + 1.2)
			// Full up to a quarter of the radius, none from half of it.
			off := dx*(k.nx[i]+n.X) + dy*(k.ny[i]+n.Y) + dz*(k.nz[i]+n.Z)
			weight := near * near * facing * geom.Clamp01(2-max(off, -off)*sheet) * k.area[i]
			all += weight
			sum += weight * v[i]
		}
	}
	return all, sum
}

package compose

import (
	"math"
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
	close   []int32 // see within
	weights []float32
	turn    int // of a lattice, in which the reading that is made has their runs
}

// begin forgets the cell.
func (q *round) begin() { q.cell, q.near = [3]int32{}, cells.Near{} }

// move goes to a cell, and tells whether it was not there yet; places near each other mostly share it.
func (q *round) move(c *cloud, x *cells.Index, cell [3]int32) bool {
	if q.cell == cell {
		return false // no place of the surface is in cell 0
	}
	q.cell = cell
	x.Look(cell, &q.near)
	q.bunches = q.bunches[:0]
	for _, r := range q.near.Ranges() {
		for b := r[0] / lanes; b <= (r[1]-1)/lanes; b++ {
			i := len(q.bunches)
			for i > 0 && q.bunches[i-1] > b {
				i--
			}
			if i == 0 || q.bunches[i-1] != b {
				q.bunches = slices.Insert(q.bunches, i, b)
			}
		}
	}
	return true
}

// within leaves in close the bunches that come within a distance of a box.
func (q *round) within(c *cloud, box *geom.Box, far float32) {
	q.close = q.close[:0]
	for _, b := range q.bunches {
		if g := gap(box, &c.boxes[b]); g.Dot(g) <= far*far {
			q.close = append(q.close, b)
		}
	}
}

// gap is how far two boxes lie apart along each axis.
func gap(a, b *geom.Box) geom.Vec3 {
	return a.Min.Sub(b.Max).Max(b.Min.Sub(a.Max)).Max(geom.Vec3{})
}

// room is for the weights of so many bunches.
func (q *round) room(bunches int) []float32 {
	if n := bunches * lanes; n > len(q.weights) {
		q.weights = make([]float32, 2*n)
	}
	return q.weights[:bunches*lanes]
}

// weighing is how points count for a place: by (1 − d²/r²)², by how they face, and by how far they lie off the surface
// through both.
type weighing struct {
	radius float32
	sheet  float32 // half of it is where sheets do not see each other any more
}

// weighPlain writes how much the points of some bunches count round p with the normal n; most is the largest of it.
func (w *weighing) weighPlain(p, n geom.Vec3, of []bunch, which []int32, out []float32) (most float32) {
	inv, sheet := 1/(w.radius*w.radius), 2/w.sheet
	for j, b := range which {
		k := &of[b]
		for i := range lanes {
			dx, dy, dz := k.x[i]-p.X, k.y[i]-p.Y, k.z[i]-p.Z
			near := max(0, 1-(dx*dx+dy*dy+dz*dz)*inv)
			// Full weight up to some 95°, none from about 127°.
			facing := geom.Clamp01((k.nx[i]*n.X+k.ny[i]*n.Y+k.nz[i]*n.Z)*2 + 1.2)
			// Full up to a quarter of the radius, none from half of it.
			off := dx*(k.nx[i]+n.X) + dy*(k.ny[i]+n.Y) + dz*(k.nz[i]+n.Z)
			weight := near * near * facing * geom.Clamp01(2-max(off, -off)*sheet) * k.area[i]
			out[lanes*j+i] = weight
			most = max(most, weight)
		}
	}
	return most
}

// summedPlain is the sum of weights of bunches, and of the points' values by them.
func summedPlain(weights []float32, which []int32, values []float32) (all, sum float32) {
	for j, b := range which {
		v := values[lanes*b:][:lanes]
		for i, w := range weights[lanes*j:][:lanes] {
			all += w
			sum += w * v[i]
		}
	}
	return all, sum
}

// weighedPlain is the sum of the values of bunches by their weights.
func weighedPlain(weight []uint8, which []int32, values []float32) (sum float32) {
	for j, b := range which {
		v := values[lanes*b:][:lanes]
		for i, w := range weight[lanes*j:][:lanes] {
			sum += float32(w) * v[i]
		}
	}
	return sum
}

// roundUp is added to a float to have its whole part in its lowest bits.
const roundUp = 1 << 23

// inBytesPlain appends weights of bunches times scale, rounded, and the bunches, but for those that count nothing, and sums
// the weights.
func inBytesPlain(to []uint8, bunches []int32, weights []float32, which []int32, scale float32) (_ []uint8, _ []int32, sum float32) {
	for j, b := range which {
		var bytes [lanes]uint8
		some := float32(0)
		for i, w := range weights[lanes*j:][:lanes] {
			w = w*scale + roundUp
			some += w - roundUp
			bytes[i] = uint8(math.Float32bits(w))
		}
		if some != 0 {
			to, bunches, sum = append(to, bytes[:]...), append(bunches, b), sum+some
		}
	}
	return to, bunches, sum
}

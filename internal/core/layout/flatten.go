package layout

import (
	"context"
	"math"
	"sort"
)

// restShapes lays every face flat by itself, first corner at the origin, first side along x.
func restShapes(tri [][3]int32, pos [][3]float64) [][3][2]float64 {
	out := make([][3][2]float64, len(tri))
	for i, t := range tri {
		e1, e2 := sub(pos[t[1]], pos[t[0]]), sub(pos[t[2]], pos[t[0]])
		l := norm(e1)
		if l == 0 {
			continue
		}
		x := dot(e1, e2) / l
		out[i] = [3][2]float64{{}, {l, 0}, {x, math.Sqrt(max(0, dot(e2, e2)-x*x))}}
	}
	return out
}

// flatten lays a chart's faces into the plane as rigidly as can be (Liu, Zhang, Xu, Gotsman & Gortler,
// A Local/Global Approach to Mesh Parameterization, 2008), from a projection where all faces look one
// way, else from unfolding face by face. It fails when a face would turn over or the rim cross itself.
func (a *atlas) flatten(ctx context.Context, faces []int32) (*chart, bool) {
	f := a.flattener(faces)
	for _, start := range []func() bool{f.project, f.unfold} {
		if !start() {
			continue
		}
		f.weigh()
		if f.relax(ctx, 40) != nil {
			continue
		}
		if c := f.chart(); c != nil {
			return c, true
		}
	}
	return nil, false
}

// closeEnough is how far apart the two places of a shared vertex may be, as a share of the smaller chart's
// rim, for two charts to be joined as they lie.
const closeEnough = 0.002

// flattenFrom does the same from where the faces of two charts lie already, the second moved so that
// what they share comes together. worth is asked before work is put in. cost counts the faces worked on.
func (a *atlas) flattenFrom(ctx context.Context, faces []int32, x, y *chart, worth func(c *chart) bool) (c *chart, cost int) {
	f := a.flattener(faces)
	cost = len(faces) / 8
	gap, ok := f.meet(x, y)
	if !ok || !worth(f.outline(x, y)) {
		return nil, cost
	}
	if gap > closeEnough*min(x.rim, y.rim) {
		cost += len(faces)
		f.weigh()
		if f.relax(ctx, 8) != nil {
			return nil, cost
		}
	}
	if c = f.chart(); c == nil || !worth(c) {
		return nil, cost
	}
	return c, cost
}

// outline is a chart of which only the box is known.
func (f *flattener) outline(x, y *chart) *chart {
	return &chart{tri: f.tri, uv: f.uv, area: x.area + y.area}
}

// chart is the result, nil when it is not sound.
func (f *flattener) chart() *chart {
	c := &chart{faces: f.faces, tri: f.tri, uv: f.uv}
	rim := f.a.rim(c)
	if !c.measure(f.a, f.rest) || winds(c) || crosses(c.uv, rim) {
		return nil
	}
	for _, s := range rim {
		c.rim += norm(sub(f.pos[s[0]], f.pos[s[1]]))
	}
	return c
}

func (a *atlas) flattener(faces []int32) *flattener {
	f := &flattener{a: a, faces: faces}
	f.tri, f.pos, f.holds = a.local(faces)
	f.n, f.rest = len(f.pos), restShapes(f.tri, f.pos)
	return f
}

// meet takes the places of x, and of y after the rigid move that fits the shared vertices best, and tells
// how far apart these still are.
func (f *flattener) meet(x, y *chart) (gap float64, ok bool) {
	f.uv = make([][2]float64, f.n)
	other := make([][2]float64, f.n)
	has := make([]uint8, f.n)
	for i, t := range f.faces {
		f.a.at[t] = int32(i)
	}
	put := func(c *chart, to [][2]float64, bit uint8) {
		for i, t := range c.faces {
			for k, v := range f.tri[f.a.at[t]] {
				to[v] = c.uv[c.tri[i][k]]
				has[v] |= bit
			}
		}
		for _, h := range f.holds {
			if has[h.a]&has[h.b]&bit != 0 {
				to[h.v] = mixed(to[h.a], to[h.b], h.at)
				has[h.v] |= bit
			}
		}
	}
	put(x, f.uv, 1)
	put(y, other, 2)
	var p, q [2]float64
	n := 0.0
	for v, h := range has {
		if h == 3 {
			p, q = [2]float64{p[0] + f.uv[v][0], p[1] + f.uv[v][1]}, [2]float64{q[0] + other[v][0], q[1] + other[v][1]}
			n++
		}
	}
	if n < 2 {
		return 0, false
	}
	p, q = [2]float64{p[0] / n, p[1] / n}, [2]float64{q[0] / n, q[1] / n}
	var same, turn float64
	for v, h := range has {
		if h == 3 {
			ax, ay, bx, by := other[v][0]-q[0], other[v][1]-q[1], f.uv[v][0]-p[0], f.uv[v][1]-p[1]
			same, turn = same+ax*bx+ay*by, turn+ax*by-ay*bx
		}
	}
	l := math.Hypot(same, turn)
	if l == 0 {
		return 0, false
	}
	c, s := same/l, turn/l
	for v, h := range has {
		if h&2 == 0 {
			continue
		}
		ax, ay := other[v][0]-q[0], other[v][1]-q[1]
		moved := [2]float64{p[0] + c*ax - s*ay, p[1] + s*ax + c*ay}
		if h == 3 {
			gap = max(gap, math.Hypot(moved[0]-f.uv[v][0], moved[1]-f.uv[v][1]))
			moved = [2]float64{(moved[0] + f.uv[v][0]) / 2, (moved[1] + f.uv[v][1]) / 2}
		}
		f.uv[v] = moved
	}
	f.expand(f.uv)
	return gap, true
}

// expand puts held vertices on their lines.
func (f *flattener) expand(x [][2]float64) {
	for _, h := range f.holds {
		for c := range 2 {
			x[h.v][c] = (1-h.at)*x[h.a][c] + h.at*x[h.b][c]
		}
	}
}

// fold gives what is asked of held vertices to those that they hang on.
func (f *flattener) fold(x [][2]float64) {
	for i := len(f.holds) - 1; i >= 0; i-- {
		h := &f.holds[i]
		for c := range 2 {
			x[h.a][c] += (1 - h.at) * x[h.v][c]
			x[h.b][c] += h.at * x[h.v][c]
			x[h.v][c] = 0
		}
	}
}

type flattener struct {
	a     *atlas
	faces []int32
	pos   [][3]float64
	tri   [][3]int32
	holds []hold
	rest  [][3][2]float64
	n     int
	uv    [][2]float64
	cot   [][3]float64 // of the angle at each corner, which weighs the side across
	// the Laplacian by rows
	start  []int32
	column []int32
	weight []float64
	diag   []float64
}

// leastCot keeps the Laplacian positive where faces are obtuse.
const leastCot = 0.02

func (f *flattener) weigh() {
	f.cot = make([][3]float64, len(f.tri))
	type entry struct {
		i, j int32
		w    float64
	}
	entries := make([]entry, 0, 6*len(f.tri))
	for i, t := range f.tri {
		for k := range 3 {
			p, q, r := f.rest[i][k], f.rest[i][(k+1)%3], f.rest[i][(k+2)%3]
			ax, ay, bx, by := q[0]-p[0], q[1]-p[1], r[0]-p[0], r[1]-p[1]
			cr := math.Abs(ax*by - ay*bx)
			w := 50.
			if cr > 1e-30 {
				w = (ax*bx + ay*by) / cr
			}
			w = max(leastCot, min(50, w))
			f.cot[i][k] = w
			u, v := t[(k+1)%3], t[(k+2)%3]
			entries = append(entries, entry{u, v, w}, entry{v, u, w})
		}
	}
	f.start = make([]int32, f.n+1)
	for _, e := range entries {
		f.start[e.i+1]++
	}
	for i := range f.n {
		f.start[i+1] += f.start[i]
	}
	f.column, f.weight = make([]int32, len(entries)), make([]float64, len(entries))
	f.diag = make([]float64, f.n)
	at := append([]int32(nil), f.start...)
	for _, e := range entries {
		f.column[at[e.i]], f.weight[at[e.i]] = e.j, e.w
		at[e.i]++
		f.diag[e.i] += e.w
	}
}

// project looks at the chart along its mean normal; every face must look back.
func (f *flattener) project() bool {
	a, faces, pos := f.a, f.faces, f.pos
	var n [3]float64
	for _, t := range faces {
		n = add(n, scaled(a.normal[t], a.area[t]))
	}
	l := norm(n)
	if l == 0 {
		return false
	}
	n = scaled(n, 1/l)
	for _, t := range faces {
		if a.area[t] > 0 && dot(a.normal[t], n) < 0.12 {
			return false
		}
	}
	u := [3]float64{1, 0, 0}
	if math.Abs(n[0]) > 0.7 {
		u = [3]float64{0, 1, 0}
	}
	u = sub(u, scaled(n, dot(u, n)))
	u = scaled(u, 1/norm(u))
	v := cross(n, u)
	f.uv = make([][2]float64, f.n)
	for i, p := range pos {
		f.uv[i] = [2]float64{dot(p, u), dot(p, v)}
	}
	f.expand(f.uv)
	return true
}

// unfold lays the faces down one after the other, from the one nearest the middle.
func (f *flattener) unfold() bool {
	a, faces := f.a, f.faces
	var mid [3]float64
	sum := 0.0
	for _, t := range faces {
		mid = add(mid, scaled(a.centre[t], a.area[t]))
		sum += a.area[t]
	}
	if sum == 0 {
		return false
	}
	mid = scaled(mid, 1/sum)
	first, best := 0, math.Inf(1)
	for i, t := range faces {
		if d := norm(sub(a.centre[t], mid)); d < best {
			first, best = i, d
		}
		a.at[t] = int32(i)
	}
	f.uv = make([][2]float64, f.n)
	placed, done := make([]bool, f.n), make([]bool, len(faces))
	for k, v := range f.tri[first] {
		f.uv[v], placed[v] = f.rest[first][k], true
	}
	queue := []int32{int32(first)}
	done[first] = true
	for len(queue) > 0 {
		i := queue[0]
		queue = queue[1:]
		for k := range int32(3) {
			s := 3*faces[i] + k
			for _, n := range a.of(s) {
				if !a.glued[n] {
					continue
				}
				l := &a.links[n]
				o := l.across(s)
				j := a.at[o/3]
				if done[j] {
					continue
				}
				done[j] = true
				queue = append(queue, j)
				// Two points of the shared piece in the frame of the face that is laid down, and in the plane.
				c := o % 3
				from, to := f.rest[j][c], f.rest[j][(c+1)%3]
				p, q := f.uv[f.tri[i][(k+1)%3]], f.uv[f.tri[i][k]]
				if l.a == s {
					q, p = mixed(f.uv[f.tri[i][k]], f.uv[f.tri[i][(k+1)%3]], l.to), mixed(f.uv[f.tri[i][k]], f.uv[f.tri[i][(k+1)%3]], l.from)
				} else {
					from, to = mixed(from, to, l.to), mixed(f.rest[j][c], to, l.from)
				}
				f.lay(j, from, to, p, q, placed)
			}
		}
	}
	for _, p := range placed {
		if !p {
			return false
		}
	}
	f.expand(f.uv)
	return true
}

func mixed(a, b [2]float64, f float64) [2]float64 {
	return [2]float64{(1-f)*a[0] + f*b[0], (1-f)*a[1] + f*b[1]}
}

// lay puts the vertices of face j that have no place yet where they are when its own points from and to
// come to lie on p and q.
func (f *flattener) lay(j int32, from, to, p, q [2]float64, placed []bool) {
	ex, ey := to[0]-from[0], to[1]-from[1]
	d := max(ex*ex+ey*ey, 1e-60)
	ux, uy := q[0]-p[0], q[1]-p[1]
	for k, v := range f.tri[j] {
		if placed[v] {
			continue
		}
		rx, ry := f.rest[j][k][0]-from[0], f.rest[j][k][1]-from[1]
		along, across := (ex*rx+ey*ry)/d, (ex*ry-ey*rx)/d
		f.uv[v] = [2]float64{p[0] + along*ux - across*uy, p[1] + along*uy + across*ux}
		placed[v] = true
	}
}

// stillness is how little vertices move in a round, as a share of the chart's extent, when it is done.
const stillness = 5e-4

// relax turns every face's own shape to fit best, then solves for the vertices, again and again.
func (f *flattener) relax(ctx context.Context, rounds int) error {
	steps := 60
	if f.n > 3000 {
		rounds, steps = min(rounds, 12), 30
	}
	rhs, r, p, ap := make([][2]float64, f.n), make([][2]float64, f.n), make([][2]float64, f.n), make([][2]float64, f.n)
	for range rounds {
		if err := ctx.Err(); err != nil {
			return err
		}
		clear(rhs)
		for i, t := range f.tri {
			x := &f.rest[i]
			var same, turn float64
			for k := range 3 {
				u, v, w := t[(k+1)%3], t[(k+2)%3], f.cot[i][k]
				dx, dy := x[(k+1)%3][0]-x[(k+2)%3][0], x[(k+1)%3][1]-x[(k+2)%3][1]
				du, dv := f.uv[u][0]-f.uv[v][0], f.uv[u][1]-f.uv[v][1]
				same += w * (dx*du + dy*dv)
				turn += w * (dx*dv - dy*du)
			}
			c, s := 1., 0.
			if l := math.Hypot(same, turn); l > 0 {
				c, s = same/l, turn/l
			}
			for k := range 3 {
				u, v, w := t[(k+1)%3], t[(k+2)%3], f.cot[i][k]
				dx, dy := x[(k+1)%3][0]-x[(k+2)%3][0], x[(k+1)%3][1]-x[(k+2)%3][1]
				bx, by := w*(c*dx-s*dy), w*(s*dx+c*dy)
				rhs[u][0] += bx
				rhs[u][1] += by
				rhs[v][0] -= bx
				rhs[v][1] -= by
			}
		}
		if moved := f.solve(rhs, r, p, ap, steps); moved < stillness {
			break
		}
	}
	return nil
}

// apply multiplies by the Laplacian.
func (f *flattener) apply(x, out [][2]float64) {
	for i := range f.n {
		a, b := f.diag[i]*x[i][0], f.diag[i]*x[i][1]
		for k := f.start[i]; k < f.start[i+1]; k++ {
			j, w := f.column[k], f.weight[k]
			a -= w * x[j][0]
			b -= w * x[j][1]
		}
		out[i] = [2]float64{a, b}
	}
}

// solve takes conjugate-gradient steps on both coordinates, scaled by the diagonal (Hestenes & Stiefel,
// 1952; Jacobi's preconditioner), and returns the largest move relative to the chart's extent.
func (f *flattener) solve(rhs, r, p, ap [][2]float64, steps int) float64 {
	before := append([][2]float64(nil), f.uv...)
	f.apply(f.uv, ap)
	f.fold(ap)
	f.fold(rhs)
	var rz, first, asked [2]float64
	for i := range f.n {
		d := max(f.diag[i], 1e-30)
		for c := range 2 {
			r[i][c] = rhs[i][c] - ap[i][c]
			p[i][c] = r[i][c] / d
			rz[c] += r[i][c] * p[i][c]
			asked[c] += rhs[i][c] * rhs[i][c] / d
		}
	}
	first = rz
	for range steps {
		if rz[0] <= 1e-12*asked[0] && rz[1] <= 1e-12*asked[1] {
			break
		}
		f.expand(p)
		f.apply(p, ap)
		f.fold(ap)
		var pap, next [2]float64
		for i := range f.n {
			for c := range 2 {
				pap[c] += p[i][c] * ap[i][c]
			}
		}
		var alpha [2]float64
		for c := range 2 {
			if pap[c] > 0 {
				alpha[c] = rz[c] / pap[c]
			}
		}
		for i := range f.n {
			d := max(f.diag[i], 1e-30)
			for c := range 2 {
				f.uv[i][c] += alpha[c] * p[i][c]
				r[i][c] -= alpha[c] * ap[i][c]
				next[c] += r[i][c] * r[i][c] / d
			}
		}
		if next[0] <= 1e-8*first[0] && next[1] <= 1e-8*first[1] {
			break
		}
		for i := range f.n {
			d := max(f.diag[i], 1e-30)
			for c := range 2 {
				beta := 0.
				if rz[c] > 0 {
					beta = next[c] / rz[c]
				}
				p[i][c] = r[i][c]/d + beta*p[i][c]
			}
		}
		rz = next
	}
	f.expand(f.uv)
	lo, hi, far := f.uv[0], f.uv[0], 0.
	for i, u := range f.uv {
		lo, hi = [2]float64{min(lo[0], u[0]), min(lo[1], u[1])}, [2]float64{max(hi[0], u[0]), max(hi[1], u[1])}
		far = max(far, math.Abs(u[0]-before[i][0]), math.Abs(u[1]-before[i][1]))
	}
	return far / max(hi[0]-lo[0], hi[1]-lo[1], 1e-30)
}

// winds tells whether the faces round some vertex turn by more than a full circle, so that they lie on
// each other.
func winds(c *chart) bool {
	sum := make([]float64, len(c.uv))
	for _, t := range c.tri {
		for k, v := range t {
			p, q, r := c.uv[v], c.uv[t[(k+1)%3]], c.uv[t[(k+2)%3]]
			ax, ay, bx, by := q[0]-p[0], q[1]-p[1], r[0]-p[0], r[1]-p[1]
			sum[v] += math.Abs(math.Atan2(ax*by-ay*bx, ax*bx+ay*by))
		}
	}
	for _, s := range sum {
		if s > 2*math.Pi+1e-6 {
			return true
		}
	}
	return false
}

// crosses tells whether two sides of a rim cut each other.
func crosses(uv [][2]float64, rim [][2]int32) bool {
	order := make([]int, len(rim))
	left := func(i int) float64 { return min(uv[rim[i][0]][0], uv[rim[i][1]][0]) }
	for i := range order {
		order[i] = i
	}
	sort.Slice(order, func(i, j int) bool { return left(order[i]) < left(order[j]) })
	for n, i := range order {
		a, b := uv[rim[i][0]], uv[rim[i][1]]
		right := max(a[0], b[0])
		for _, j := range order[n+1:] {
			if left(j) > right {
				break
			}
			if rim[i][0] == rim[j][0] || rim[i][0] == rim[j][1] || rim[i][1] == rim[j][0] || rim[i][1] == rim[j][1] {
				continue
			}
			c, d := uv[rim[j][0]], uv[rim[j][1]]
			if min(a[1], b[1]) > max(c[1], d[1]) || min(c[1], d[1]) > max(a[1], b[1]) {
				continue
			}
			side := func(p, q, r [2]float64) float64 { return (q[0]-p[0])*(r[1]-p[1]) - (q[1]-p[1])*(r[0]-p[0]) }
			if side(a, b, c)*side(a, b, d) <= 0 && side(c, d, a)*side(c, d, b) <= 0 {
				return true
			}
		}
	}
	return false
}

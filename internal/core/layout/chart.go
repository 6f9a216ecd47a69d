package layout

import (
	"cmp"
	"math"
	"slices"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
)

// atlas is a model cut into charts: faces that are joined over glued links.
type atlas struct {
	m      *mesh.Model
	centre [][3]float64
	normal [][3]float64
	area   []float64
	flat   []bool // faces without area: they belong to no chart
	links  []link
	linkAt []int32 // side → its first entry in linkOf; one more at the end
	linkOf []int32
	glued  []bool  // by link
	at     []int32 // face → place in the chart at hand, scratch
	region []int32 // face → region, −1 for none yet, −2 for faces that are not looked at; scratch
	diag   float64
	whole  float64 // area of all faces
	place  []uint32
	fans   []int32 // triangles with area round each place, from fanAt[place]
	fanAt  []int32
}

// link is where two faces meet: over whole sides, or where side b lies along a part of side a.
type link struct {
	a, b     int32   // sides, 3 · triangle + corner
	from, to float64 // where b's first and second corner lie on a; 1 and 0 for whole sides
}

// across is the side that a link leads to.
func (l *link) across(side int32) int32 {
	if l.a == side {
		return l.b
	}
	return l.a
}

// of lists the links of a side.
func (a *atlas) of(side int32) []int32 { return a.linkOf[a.linkAt[side]:a.linkAt[side+1]] }

// own is a copy with scratch of its own, for work on another core.
func (a *atlas) own() *atlas {
	c := *a
	c.at, c.region = make([]int32, len(a.at)), make([]int32, len(a.region))
	for i := range c.region {
		c.region[i] = -2
	}
	return &c
}

// newAtlas finds where faces of one group may be joined. Vertices that the file has parted are one where
// they lie at one place. Faces without area cut nothing: what they stand between is bridged. Where more
// than two faces share an edge, those that bend least are pairs.
func newAtlas(m *mesh.Model, group func(t int) int32) *atlas {
	n := len(m.Tris)
	a := &atlas{m: m, centre: make([][3]float64, n), normal: make([][3]float64, n), area: make([]float64, n), flat: make([]bool, n),
		at: make([]int32, n), region: make([]int32, n), diag: float64(m.Bounds().Diagonal())}
	tolerance := m.Tolerance()
	place := m.WeldNear(tolerance)
	for t, tri := range m.Tris {
		p, q, r := point(m, tri[0]), point(m, tri[1]), point(m, tri[2])
		c := cross(sub(q, p), sub(r, p))
		l := norm(c)
		a.area[t] = l / 2
		a.whole += l / 2
		if l > 0 {
			a.normal[t] = scaled(c, 1/l)
		}
		a.centre[t] = scaled(add(add(p, q), r), 1./3)
		a.region[t] = -2
		x, y, z := place[tri[0]], place[tri[1]], place[tri[2]]
		a.flat[t] = m.Height(t) <= 2*tolerance || x == y || y == z || z == x
	}
	a.place, a.fanAt = place, make([]int32, len(place)+1)
	for t, tri := range m.Tris {
		if a.flat[t] {
			continue
		}
		for _, v := range tri {
			a.fanAt[place[v]+1]++
		}
	}
	for i := range place {
		a.fanAt[i+1] += a.fanAt[i]
	}
	a.fans = make([]int32, 3*n)
	next := append([]int32(nil), a.fanAt...)
	for t, tri := range m.Tris {
		if a.flat[t] {
			continue
		}
		for _, v := range tri {
			a.fans[next[place[v]]] = int32(t)
			next[place[v]]++
		}
	}
	a.link(m.Edges(place, a.flat), tolerance, group)
	return a
}

// link fills the links from the edges between faces with area.
func (a *atlas) link(e *mesh.Edges, tolerance float64, group func(t int) int32) {
	m, place := a.m, a.place
	joined := make([]bool, 3*len(m.Tris))
	join := func(l link) {
		a.links = append(a.links, l)
		joined[l.a], joined[l.b] = true, true
	}
	type pair struct {
		s, o int32
		bend float64
	}
	var pairs []pair
	for _, first := range e.First {
		pairs = pairs[:0]
		for s := first; s >= 0; s = e.Next[s] {
			for o := e.Next[s]; o >= 0; o = e.Next[o] {
				if place[m.Tris[s/3][s%3]] != place[m.Tris[o/3][o%3]] && group(int(s/3)) == group(int(o/3)) {
					pairs = append(pairs, pair{s, o, 1 - dot(a.normal[s/3], a.normal[o/3])})
				}
			}
			if len(pairs) > 4000 {
				break // hundreds of faces in one edge: what is found pairs up
			}
		}
		slices.SortStableFunc(pairs, func(x, y pair) int { return cmp.Compare(x.bend, y.bend) })
		for _, p := range pairs {
			if !joined[p.s] && !joined[p.o] {
				join(link{p.s, p.o, 1, 0})
			}
		}
	}
	var open []int32
	for t := range m.Tris {
		for k := range 3 {
			if s := int32(3*t + k); e.Of[s] >= 0 && !joined[s] {
				open = append(open, s)
			}
		}
	}
	for _, b := range m.Bridges(open, place, tolerance, func(t, u int32) bool { return group(int(t)) == group(int(u)) }) {
		join(link{b.Long, b.Short, b.From, b.To})
	}
	a.linkAt = make([]int32, 3*len(m.Tris)+1)
	for i := range a.links {
		a.linkAt[a.links[i].a+1]++
		a.linkAt[a.links[i].b+1]++
	}
	for s := range joined {
		a.linkAt[s+1] += a.linkAt[s]
	}
	a.linkOf = make([]int32, 2*len(a.links))
	next := append([]int32(nil), a.linkAt...)
	for i := range a.links {
		for _, s := range [2]int32{a.links[i].a, a.links[i].b} {
			a.linkOf[next[s]] = int32(i)
			next[s]++
		}
	}
	a.glued = make([]bool, len(a.links))
}

// roundVertex lists the triangles with area round a vertex's place.
func (a *atlas) roundVertex(v uint32) []int32 {
	p := a.place[v]
	return a.fans[a.fanAt[p]:a.fanAt[p+1]]
}

func point(m *mesh.Model, v uint32) [3]float64 {
	p := m.Positions[v]
	return [3]float64{float64(p.X), float64(p.Y), float64(p.Z)}
}

func add(a, b [3]float64) [3]float64 { return [3]float64{a[0] + b[0], a[1] + b[1], a[2] + b[2]} }
func sub(a, b [3]float64) [3]float64 { return [3]float64{a[0] - b[0], a[1] - b[1], a[2] - b[2]} }
func dot(a, b [3]float64) float64    { return a[0]*b[0] + a[1]*b[1] + a[2]*b[2] }
func norm(a [3]float64) float64      { return math.Sqrt(dot(a, a)) }
func scaled(a [3]float64, k float64) [3]float64 {
	return [3]float64{a[0] * k, a[1] * k, a[2] * k}
}
func cross(a, b [3]float64) [3]float64 {
	return [3]float64{a[1]*b[2] - a[2]*b[1], a[2]*b[0] - a[0]*b[2], a[0]*b[1] - a[1]*b[0]}
}

// chart is a piece of surface laid flat, in metres.
type chart struct {
	faces   []int32
	tri     [][3]int32 // local vertices, by place in faces
	uv      [][2]float64
	stretch []float64 // by place in faces
	median  float64   // of stretch, weighted by area
	high    float64   // its 95th percentile
	area    float64   // on the surface, m²
	w, h    float64   // see box
	rim     float64   // length of the border, m
}

// hold keeps vertex v on the line from a to b.
type hold struct {
	v, a, b int32
	at      float64
}

// local numbers a chart's vertices: corners are one vertex where glued links join them. holds are the
// vertices that lie along a longer side of a neighbour, each after those that it hangs on.
func (a *atlas) local(faces []int32) (tri [][3]int32, pos [][3]float64, holds []hold) {
	corners := geom.NewGroups(3 * len(faces))
	for i, t := range faces {
		a.at[t] = int32(i)
	}
	type along struct {
		corner, a, b int32
		at           float64
	}
	var held []along
	for i, t := range faces {
		for k := range int32(3) {
			s := 3*t + k
			for _, n := range a.of(s) {
				l := &a.links[n]
				if !a.glued[n] || l.a != s {
					continue
				}
				u, o := a.at[l.b/3], l.b%3
				from, to := int32(3*i)+k, int32(3*i)+(k+1)%3
				for _, e := range [2]struct {
					corner int32
					at     float64
				}{{3*u + o, l.from}, {3*u + (o+1)%3, l.to}} {
					switch e.at {
					case 0:
						corners.Join(from, e.corner)
					case 1:
						corners.Join(to, e.corner)
					default:
						held = append(held, along{e.corner, from, to, e.at})
					}
				}
			}
		}
	}
	id := make([]int32, len(corners))
	tri = make([][3]int32, len(faces))
	for i, t := range faces {
		for k := range 3 {
			c := int32(3*i + k)
			if r := corners.Of(c); r == c {
				id[c] = int32(len(pos))
				pos = append(pos, point(a.m, a.m.Tris[t][k]))
			} else {
				id[c] = id[r]
			}
			tri[i][k] = id[c]
		}
	}
	if len(held) == 0 {
		return tri, pos, nil
	}
	list := make([]hold, len(held))
	for i, h := range held {
		list[i] = hold{id[h.corner], id[h.a], id[h.b], h.at}
	}
	return tri, pos, inOrder(list, len(pos))
}

// inOrder puts holds after those that their ends hang on. A vertex is held once; rings are left out.
func inOrder(list []hold, n int) (out []hold) {
	const none, waits, done = 0, 1, 2
	of, state := make(map[int32]int, len(list)), make([]uint8, n)
	for i, h := range list {
		if _, ok := of[h.v]; !ok && h.v != h.a && h.v != h.b {
			of[h.v] = i
		}
	}
	var put func(v int32, depth int) bool
	put = func(v int32, depth int) bool {
		i, ok := of[v]
		if !ok || state[v] == done {
			return true
		}
		if state[v] == waits || depth > 1000 {
			return false
		}
		state[v] = waits
		h := list[i]
		if put(h.a, depth+1) && put(h.b, depth+1) {
			out = append(out, h)
		} else {
			delete(of, v) // it goes free
		}
		state[v] = done
		return true
	}
	for _, h := range list {
		put(h.v, 0)
	}
	return out
}

// measure fills the stretch of each face, the larger of σ₁ and 1/σ₂ of the map from surface to
// plane, and tells whether no face is turned over.
func (c *chart) measure(a *atlas, rest [][3][2]float64) bool {
	c.stretch = make([]float64, len(c.tri))
	ok := true
	for i, t := range c.tri {
		if a.area[c.faces[i]] <= 1e-30 {
			c.stretch[i] = 1
			continue
		}
		x, u := rest[i], [3][2]float64{c.uv[t[0]], c.uv[t[1]], c.uv[t[2]]}
		det := (x[1][0]-x[0][0])*(x[2][1]-x[0][1]) - (x[2][0]-x[0][0])*(x[1][1]-x[0][1])
		uv := (u[1][0]-u[0][0])*(u[2][1]-u[0][1]) - (u[2][0]-u[0][0])*(u[1][1]-u[0][1])
		if !(uv > 1e-4*det) {
			ok = false
			c.stretch[i] = math.Inf(1)
			continue
		}
		var j [2][2]float64 // ∂u/∂x
		for k := range 2 {
			e1, e2 := u[1][k]-u[0][k], u[2][k]-u[0][k]
			j[k][0] = (e1*(x[2][1]-x[0][1]) - e2*(x[1][1]-x[0][1])) / det
			j[k][1] = (e2*(x[1][0]-x[0][0]) - e1*(x[2][0]-x[0][0])) / det
		}
		p, q, r := j[0][0]*j[0][0]+j[1][0]*j[1][0], j[0][0]*j[0][1]+j[1][0]*j[1][1], j[0][1]*j[0][1]+j[1][1]*j[1][1]
		root := math.Sqrt((p-r)*(p-r) + 4*q*q)
		big, small := math.Sqrt((p+r+root)/2), math.Sqrt(max(1e-30, (p+r-root)/2))
		c.stretch[i] = max(big, 1/small)
	}
	weight := make([]float64, len(c.faces))
	c.area = 0
	for i, t := range c.faces {
		weight[i] = a.area[t]
		c.area += a.area[t]
	}
	c.median, c.high = geom.Quantile(c.stretch, weight, 0.5), geom.Quantile(c.stretch, weight, 0.95)
	return ok
}

// rim lists what of the chart's sides is not glued, as pairs of local vertices.
func (a *atlas) rim(c *chart) (out [][2]int32) {
	type stop struct {
		at float64
		v  int32
	}
	for i, t := range c.faces {
		a.at[t] = int32(i)
	}
	for i, t := range c.faces {
		for k := range int32(3) {
			s := 3*t + k
			whole, parts := false, []stop(nil)
			for _, n := range a.of(s) {
				l := &a.links[n]
				if !a.glued[n] {
					continue
				}
				if l.b == s || l.from == 1 && l.to == 0 {
					whole = true
					break
				}
				u, o := a.at[l.b/3], l.b%3
				parts = append(parts, stop{l.to, c.tri[u][(o+1)%3]}, stop{l.from, c.tri[u][o]})
			}
			if whole {
				continue
			}
			from, to := c.tri[i][k], c.tri[i][(k+1)%3]
			if parts == nil {
				out = append(out, [2]int32{from, to})
				continue
			}
			slices.SortFunc(parts, func(x, y stop) int { return cmp.Compare(x.at, y.at) })
			last := stop{0, from}
			for j := 0; j < len(parts); j += 2 {
				if parts[j].at > last.at {
					out = append(out, [2]int32{last.v, parts[j].v})
				}
				last = parts[j+1]
			}
			if last.at < 1 {
				out = append(out, [2]int32{last.v, to})
			}
		}
	}
	return out
}

// box finds the sides of the chart's narrowest box, in metres, the longer one first.
func (c *chart) box() (w, h float64) {
	if c.w == 0 {
		tri := c.triangles()
		b := boxOf(tri, uprightTurn(tri))
		c.w, c.h = b[2]-b[0], b[3]-b[1]
		if c.w < c.h {
			c.w, c.h = c.h, c.w
		}
	}
	return c.w, c.h
}

// triangles are the chart's faces in the plane.
func (c *chart) triangles() [][3][2]float64 {
	out := make([][3][2]float64, len(c.tri))
	for i, t := range c.tri {
		out[i] = [3][2]float64{c.uv[t[0]], c.uv[t[1]], c.uv[t[2]]}
	}
	return out
}

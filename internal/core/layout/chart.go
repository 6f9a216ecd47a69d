package layout

import (
	"math"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
)

// atlas is a model cut into charts: faces that are joined over glued sides.
type atlas struct {
	m      *mesh.Model
	centre [][3]float64
	normal [][3]float64
	area   []float64
	mate   []int32 // side → the side across its edge, −1 where charts may not be joined
	glued  []bool  // by side
	at     []int32 // face → place in the chart at hand, scratch
	diag   float64
	place  []uint32
	fans   []int32 // triangles round each place, from fanAt[place]
	fanAt  []int32
}

// newAtlas finds which sides may be glued: those of plain edges between two faces that turn alike and
// belong to the same group.
func newAtlas(m *mesh.Model, group func(t int) int32) *atlas {
	n := len(m.Tris)
	a := &atlas{m: m, centre: make([][3]float64, n), normal: make([][3]float64, n), area: make([]float64, n),
		mate: make([]int32, 3*n), glued: make([]bool, 3*n), at: make([]int32, n), diag: float64(m.Bounds().Diagonal())}
	place := m.Weld()
	e := m.Edges(place, nil)
	a.place, a.fanAt = place, make([]int32, len(place)+1)
	for _, tri := range m.Tris {
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
		for _, v := range tri {
			a.fans[next[place[v]]] = int32(t)
			next[place[v]]++
		}
	}
	for t, tri := range m.Tris {
		p, q, r := point(m, tri[0]), point(m, tri[1]), point(m, tri[2])
		c := cross(sub(q, p), sub(r, p))
		l := norm(c)
		a.area[t] = l / 2
		if l > 0 {
			a.normal[t] = scaled(c, 1/l)
		}
		a.centre[t] = scaled(add(add(p, q), r), 1./3)
		for k := range 3 {
			s := int32(3*t + k)
			a.mate[s] = -1
			i := e.Of[s]
			if i < 0 || e.Count[i] != 2 {
				continue
			}
			o := e.First[i]
			if o == s {
				o = e.Next[s]
			}
			if place[tri[k]] != place[m.Tris[o/3][o%3]] && group(t) == group(int(o/3)) {
				a.mate[s] = o
			}
		}
	}
	return a
}

// roundVertex lists the triangles round a vertex's place.
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
	long    float64   // see box
	fill    float64
	rim     float64 // length of the border, m
}

// local numbers a chart's vertices: corners are one vertex where glued sides join them.
func (a *atlas) local(faces []int32) (tri [][3]int32, pos [][3]float64) {
	corners := geom.NewGroups(3 * len(faces))
	for i, t := range faces {
		a.at[t] = int32(i)
	}
	for i, t := range faces {
		for k := range int32(3) {
			s := 3*t + k
			if o := a.mate[s]; a.glued[s] && o > s {
				u, l := a.at[o/3], o%3
				corners.Join(int32(3*i)+k, 3*u+(l+1)%3)
				corners.Join(int32(3*i)+(k+1)%3, 3*u+l)
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
	return tri, pos
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

// rim lists the chart's sides that are not glued, as pairs of local vertices.
func (a *atlas) rim(c *chart) (out [][2]int32) {
	for i, t := range c.faces {
		for k := range int32(3) {
			if s := 3*t + k; !a.glued[s] {
				out = append(out, [2]int32{c.tri[i][k], c.tri[i][(k+1)%3]})
			}
		}
	}
	return out
}

// box finds the sides of the chart's narrowest box, in metres, and the share of it that is filled.
func (c *chart) box() (long, fill float64) {
	if c.long == 0 {
		tri := c.triangles()
		b := boxOf(tri, uprightTurn(tri))
		w, h := b[2]-b[0], b[3]-b[1]
		c.long, c.fill = max(w, h), c.area/max(w*h, 1e-30)
	}
	return c.long, c.fill
}

// triangles are the chart's faces in the plane.
func (c *chart) triangles() [][3][2]float64 {
	out := make([][3][2]float64, len(c.tri))
	for i, t := range c.tri {
		out[i] = [3][2]float64{c.uv[t[0]], c.uv[t[1]], c.uv[t[2]]}
	}
	return out
}

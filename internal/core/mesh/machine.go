package mesh

import (
	"fmt"
	"math"
	"math/rand/v2"

	"crust/internal/core/geom"
)

// Machine is an engine-like model of many turned, bored and bolted pieces, written as programs for
// mechanical design write them: every face of a solid has vertices of its own, there are no UVs, flat
// faces are fans of thin triangles, some triangles have no area, some edges meet in a T, and some have
// more than two faces. rows is how many cylinders stand in a row; 10 make about 120,000 triangles. It
// is some 740 units long and has 34 material slots.
func Machine(rows int) *Model {
	m := &Model{Channels: []Channel{{Name: "UV 1"}}}
	for i := range 34 {
		g := 0.35 + 0.5*float32(i%7)/7
		m.Materials = append(m.Materials, Material{Name: fmt.Sprintf("steel %02d", i+1), Colour: [3]float32{g, g, 0.9 * g}})
	}
	b := &machinist{m: m, random: rand.New(rand.NewPCG(7, 34))}
	b.build(rows)
	m.Normals = make([]geom.Vec3, len(m.Positions))
	for t, tri := range m.Tris {
		n := m.FaceNormal(t)
		for _, v := range tri {
			m.Normals[v] = m.Normals[v].Add(n)
		}
	}
	for i := range m.Normals {
		if m.Normals[i] = m.Normals[i].Norm(); m.Normals[i] == (geom.Vec3{}) {
			m.Normals[i] = geom.Vec3{Y: 1}
		}
	}
	m.Channels[0].UVs, m.Channels[0].Bare = make([]geom.Vec2, len(m.Positions)), 3*len(m.Tris)
	m.UVs = m.Channels[0].UVs
	return m
}

type machinist struct {
	m        *Model
	random   *rand.Rand
	material int32
	frame    func(p [3]float64) [3]float64
}

// part begins a part of a material; what is made after it stands where frame puts it.
func (b *machinist) part(name string, material int, frame func(p [3]float64) [3]float64) {
	b.m.Parts = append(b.m.Parts, name)
	b.material, b.frame = int32(material%len(b.m.Materials)), frame
}

func (b *machinist) vertex(p [3]float64) uint32 {
	p = b.frame(p)
	b.m.Positions = append(b.m.Positions, geom.Vec3{X: float32(p[0]), Y: float32(p[1]), Z: float32(p[2])})
	return uint32(len(b.m.Positions) - 1)
}

func (b *machinist) face(x, y, z uint32) {
	b.m.Tris = append(b.m.Tris, [3]uint32{x, y, z})
	b.m.Material, b.m.Part = append(b.m.Material, b.material), append(b.m.Part, int32(len(b.m.Parts)-1))
}

// strip is a face of a solid between two rims of as many points; the last goes on to the first when it
// is closed. Now and then a side is halved without its neighbour's knowledge, or filled with a triangle
// without area.
func (b *machinist) strip(low, high [][3]float64, closed bool) {
	n := len(low)
	base := make([]uint32, 0, 2*n)
	for i := range n {
		base = append(base, b.vertex(low[i]), b.vertex(high[i]))
	}
	last := n - 1
	if closed {
		last = n
	}
	for i := range last {
		a, c := base[2*i], base[2*((i+1)%n)]
		d, e := base[2*i+1], base[2*((i+1)%n)+1]
		switch b.random.IntN(12) {
		case 0: // the lower side is halved: a T with the face below
			mid := b.middle(low[i], low[(i+1)%n])
			b.face(a, mid, d)
			b.face(mid, c, e)
			b.face(mid, e, d)
		case 1: // the same, filled with a face without area
			mid := b.middle(low[i], low[(i+1)%n])
			b.face(a, mid, d)
			b.face(mid, c, e)
			b.face(mid, e, d)
			b.face(a, c, mid)
		default:
			b.face(a, c, e)
			b.face(a, e, d)
		}
	}
}

func (b *machinist) middle(p, q [3]float64) uint32 {
	return b.vertex([3]float64{(p[0] + q[0]) / 2, (p[1] + q[1]) / 2, (p[2] + q[2]) / 2})
}

// fan is a flat face round its first point. Every few corners it begins with a triangle without area.
func (b *machinist) fan(rim [][3]float64) {
	ids := make([]uint32, len(rim))
	for i, p := range rim {
		ids[i] = b.vertex(p)
	}
	if b.random.IntN(3) == 0 {
		b.face(ids[0], ids[1], b.middle(rim[0], rim[1]))
	}
	for i := 2; i < len(ids); i++ {
		b.face(ids[0], ids[i-1], ids[i])
	}
}

func ring(n int, r, y float64) [][3]float64 {
	out := make([][3]float64, n)
	for i := range out {
		s, c := math.Sincos(-2 * math.Pi * float64(i) / float64(n))
		out[i] = [3]float64{r * c, y, r * s}
	}
	return out
}

func backwards(p [][3]float64) [][3]float64 {
	out := make([][3]float64, len(p))
	for i := range p {
		out[i] = p[len(p)-1-i]
	}
	return out
}

// turned is a turned piece: a profile of radii and heights, from below to above, closed by flat faces.
func (b *machinist) turned(n int, profile [][2]float64) {
	for i := 1; i < len(profile); i++ {
		b.strip(ring(n, profile[i-1][0], profile[i-1][1]), ring(n, profile[i][0], profile[i][1]), true)
	}
	first, last := profile[0], profile[len(profile)-1]
	b.fan(backwards(ring(n, first[0], first[1])))
	b.fan(ring(n, last[0], last[1]))
}

// tube is a turned piece with a bore.
func (b *machinist) tube(n int, outer, inner, from, to float64) {
	b.strip(ring(n, outer, from), ring(n, outer, to), true)
	b.strip(ring(n, inner, to), ring(n, inner, from), true)
	b.strip(ring(n, outer, to), ring(n, inner, to), true)
	b.strip(ring(n, inner, from), ring(n, outer, from), true)
}

// block is a box.
func (b *machinist) block(x0, y0, z0, x1, y1, z1 float64) {
	p := func(i int) [3]float64 {
		pick := func(bit int, lo, hi float64) float64 {
			if i>>bit&1 == 1 {
				return hi
			}
			return lo
		}
		return [3]float64{pick(0, x0, x1), pick(1, y0, y1), pick(2, z0, z1)}
	}
	for _, f := range [][4]int{{0, 2, 3, 1}, {4, 5, 7, 6}, {0, 1, 5, 4}, {2, 6, 7, 3}, {0, 4, 6, 2}, {1, 3, 7, 5}} {
		b.strip([][3]float64{p(f[0]), p(f[1])}, [][3]float64{p(f[3]), p(f[2])}, false)
	}
}

// web is a thin rib on a block's upper edge: its foot makes edges of more than two faces.
func (b *machinist) web(x, y0, z0, y1, z1 float64) {
	lo, hi := [][3]float64{{x, y0, z0}, {x, y0, z1}}, [][3]float64{{x, y1, z0}, {x, y1, z1}}
	b.strip(lo, hi, false)
	b.strip(backwards(lo), backwards(hi), false)
}

// pipe is a bent tube.
func (b *machinist) pipe(n, bends int, r, bend, sweep float64) {
	at := func(i int) [][3]float64 {
		s, c := math.Sincos(sweep * float64(i) / float64(bends))
		out := ring(n, r, 0)
		for k, p := range out {
			out[k] = [3]float64{(bend + p[0]) * c, (bend + p[0]) * s, p[2]}
		}
		return out
	}
	for i := range bends {
		b.strip(at(i), at(i+1), true)
	}
	b.fan(backwards(at(0)))
	b.fan(at(bends))
}

// gear is a toothed wheel.
func (b *machinist) gear(teeth int, r, depth, thick float64) {
	n := 4 * teeth
	rim := func(y float64) [][3]float64 {
		out := ring(n, 1, y)
		for i, p := range out {
			k := r
			if i%4 < 2 {
				k -= depth
			}
			out[i] = [3]float64{p[0] * k, y, p[2] * k}
		}
		return out
	}
	hub := ring(n, r*0.3, 0)
	lift := func(p [][3]float64, y float64) [][3]float64 {
		out := make([][3]float64, len(p))
		for i := range p {
			out[i] = [3]float64{p[i][0], y, p[i][2]}
		}
		return out
	}
	b.strip(rim(0), rim(thick), true)
	b.strip(rim(thick), lift(hub, thick), true)
	b.strip(lift(hub, 0), rim(0), true)
	b.strip(lift(hub, thick), lift(hub, 0), true)
}

// bolt is a hexagonal head on a shank, with a washer below.
func (b *machinist) bolt(r float64) {
	b.turned(6, [][2]float64{{r, 0.4 * r}, {r, 1.3 * r}})
	b.turned(12, [][2]float64{{0.55 * r, -2 * r}, {0.55 * r, 0.4 * r}})
	b.tube(16, 1.3*r, 0.6*r, 0.15*r, 0.4*r)
}

func (b *machinist) build(rows int) {
	long := 700.0
	pitch := long / float64(rows)
	move := func(x, y, z float64) func(p [3]float64) [3]float64 {
		return func(p [3]float64) [3]float64 { return [3]float64{p[0] + x, p[1] + y, p[2] + z} }
	}
	lean := func(x, y, z, angle float64) func(p [3]float64) [3]float64 {
		s, c := math.Sincos(angle)
		return func(p [3]float64) [3]float64 {
			return [3]float64{p[0] + x, c*p[1] - s*p[2] + y, s*p[1] + c*p[2] + z}
		}
	}
	b.part("bed", 0, move(0, 0, 0))
	b.block(0, 0, -70, long, 90, 70)
	b.block(-20, 90, -60, long+20, 110, 60)
	for i := range 4 * rows {
		b.web(long*(float64(i)+0.5)/float64(4*rows), 90, -70, 99, 70)
	}
	r := min(26, pitch*0.3)
	for i := range rows {
		x := pitch * (float64(i) + 0.5)
		for side, angle := range []float64{-0.6, 0.6} {
			where := lean(x, 100, 0, -angle)
			b.part(fmt.Sprintf("barrel %d %d", i+1, side+1), 1+i, where)
			b.tube(64, r, r*0.8, 40, 150)
			for fin := range 3 {
				b.tube(64, r*1.5, r*1.01, 58+28*float64(fin), 66+28*float64(fin))
			}
			b.part(fmt.Sprintf("head %d %d", i+1, side+1), 8+i, where)
			b.block(-r*1.3, 152, -r*1.3, r*1.3, 180, r*1.3)
			b.turned(64, [][2]float64{{r, 180}, {r, 188}, {r * 0.9, 192}, {r * 0.4, 192.5}, {r * 0.35, 205}})
			for k := range 6 {
				s, c := math.Sincos(math.Pi / 3 * (float64(k) + 0.5))
				b.part(fmt.Sprintf("bolt %d %d %d", i+1, side+1, k+1), 20+k, func(p [3]float64) [3]float64 {
					return where([3]float64{p[0] + 1.15*r*c, p[1] + 180, p[2] + 1.15*r*s})
				})
				b.bolt(r * 0.12)
			}
			b.part(fmt.Sprintf("pipe %d %d", i+1, side+1), 28+side, where)
			b.frame = func(p [3]float64) [3]float64 { return where([3]float64{p[2], p[1] + 165, p[0] - 30}) }
			b.pipe(24, 20, r*0.28, r*1.6, 1.9)
			b.part(fmt.Sprintf("plug %d %d", i+1, side+1), 30, func(p [3]float64) [3]float64 { return where([3]float64{p[0], p[1] + 200, p[2]}) })
			b.turned(32, [][2]float64{{r * 0.2, 0}, {r * 0.2, 6}, {r * 0.14, 8}, {r * 0.14, 18}, {r * 0.08, 20}, {r * 0.08, 30}})
		}
	}
	for i, g := range []struct {
		teeth   int
		r, y, z float64
	}{{40, 60, 60, 0}, {24, 36, 120, 70}, {24, 36, 120, -70}, {16, 24, 30, 80}} {
		b.part(fmt.Sprintf("wheel %d", i+1), 31+i%3, func(p [3]float64) [3]float64 { return [3]float64{-40 + p[1], g.y + p[0], g.z + p[2]} })
		b.gear(g.teeth, g.r, g.r*0.12, 14)
	}
}

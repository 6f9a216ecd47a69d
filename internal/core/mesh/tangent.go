package mesh

import (
	"crust/internal/core/geom"
)

// Tangents returns a tangent for each corner of each triangle, with the bitangent's sign in W, for
// UVs whose V grows upwards: bitangent = W · normal × tangent. It follows MikkTSpace (Mikkelsen,
// Simulation of Wrinkled Surfaces Revisited, 2008) step by step: corners with equal position, normal
// and UV are one; the faces round it that are joined by edges and turn their UVs the same way share a
// frame, the mean of theirs weighted by angle in the plane of the normal; faces without area in UV
// join any neighbour. What such a face alone would leave open is the X axis.
func (m *Model) Tangents() [][3]geom.Vec4 {
	f := frames{m: m, own: make([]faceFrame, len(m.Tris)), group: make([][3]int32, len(m.Tris))}
	f.id = weld(len(m.Positions), func(i uint32) uint64 {
		p, n, t := m.Positions[i], m.Normals[i], m.UVs[i]
		h := mix(mix(bits(p.X), bits(p.Y)), bits(p.Z))
		h = mix(mix(mix(h, bits(n.X)), bits(n.Y)), bits(n.Z))
		return mix(mix(h, bits(t.X)), bits(t.Y))
	}, func(i, j uint32) bool {
		return m.Positions[i] == m.Positions[j] && m.Normals[i] == m.Normals[j] && m.UVs[i] == m.UVs[j]
	})
	for t := range m.Tris {
		f.own[t] = m.faceFrame(t)
		f.group[t] = [3]int32{-1, -1, -1}
	}
	f.join()
	f.gather()
	return f.evaluate()
}

// faceFrame is the direction in which U grows over a triangle.
type faceFrame struct {
	dir      geom.Vec3
	keeps    bool // UVs turn as the face does
	any      bool // the UVs say nothing: the face joins whatever its neighbour has
	pointing bool // false when the triangle has two corners at one place
}

func (m *Model) faceFrame(t int) faceFrame {
	i := m.Tris[t]
	a, b, c := m.Corners(t)
	if a == b || b == c || c == a {
		return faceFrame{}
	}
	d1, d2 := m.UVs[i[1]].Sub(m.UVs[i[0]]), m.UVs[i[2]].Sub(m.UVs[i[0]])
	area := d1.Cross(d2)
	f := faceFrame{keeps: area > 0, any: true, pointing: true}
	e1, e2 := b.Sub(a), c.Sub(a)
	u, v := e1.Mul(d2.Y).Sub(e2.Mul(d1.Y)), e2.Mul(d1.X).Sub(e1.Mul(d2.X))
	if tiny(area) || tiny(u.Len()) || tiny(v.Len()) {
		return f
	}
	if f.any = false; !f.keeps {
		u = u.Neg()
	}
	f.dir = u.Norm()
	return f
}

// tiny is what MikkTSpace takes for zero: at most the smallest normal float32.
func tiny(v float32) bool { return v <= 1.17549435e-38 && v >= -1.17549435e-38 }

type frames struct {
	m     *Model
	id    []uint32 // vertex → the first vertex equal to it
	own   []faceFrame
	near  [][3]int32 // the face across the edge from corner k to k + 1, −1 for none
	group [][3]int32 // per corner
	count int
	first []bool // per group: whether its UVs keep the turn
}

// join pairs faces whose edges run between the same two vertices in opposite directions, two by two.
func (f *frames) join() {
	f.near = make([][3]int32, len(f.m.Tris))
	type half struct{ a, b uint32 }
	open := make(map[half][]int32, len(f.m.Tris)*3/2)
	for t, tri := range f.m.Tris {
		f.near[t] = [3]int32{-1, -1, -1}
		if !f.own[t].pointing {
			continue
		}
		for k := range 3 {
			a, b := f.id[tri[k]], f.id[tri[(k+1)%3]]
			if rest := open[half{b, a}]; len(rest) > 0 {
				o := rest[0]
				open[half{b, a}] = rest[1:]
				f.near[t][k], f.near[o/3][o%3] = o/3, int32(t)
			} else {
				open[half{a, b}] = append(open[half{a, b}], int32(3*t+k))
			}
		}
	}
}

// gather walks from each corner over the joined faces round its vertex.
func (f *frames) gather() {
	type step struct{ t, k int32 }
	var walk []step
	for t := range f.m.Tris {
		if !f.own[t].pointing || f.own[t].any {
			continue
		}
		for k := range 3 {
			if f.group[t][k] >= 0 {
				continue
			}
			g := int32(f.count)
			f.count++
			keeps := f.own[t].keeps
			f.first = append(f.first, keeps)
			vertex := f.id[f.m.Tris[t][k]]
			walk = append(walk[:0], step{int32(t), int32(k)})
			f.group[t][k] = g
			for len(walk) > 0 {
				s := walk[len(walk)-1]
				walk = walk[:len(walk)-1]
				for _, n := range [2]int32{f.near[s.t][(s.k+2)%3], f.near[s.t][s.k]} {
					if n < 0 {
						continue
					}
					c := -1
					for q, v := range f.m.Tris[n] {
						if f.id[v] == vertex {
							c = q
							break
						}
					}
					if c < 0 || f.group[n][c] >= 0 {
						continue
					}
					o := &f.own[n]
					if o.any && f.group[n] == [3]int32{-1, -1, -1} {
						o.keeps = keeps
					}
					if o.keeps != keeps {
						continue
					}
					f.group[n][c] = g
					walk = append(walk, step{n, int32(c)})
				}
			}
		}
	}
}

func (f *frames) evaluate() [][3]geom.Vec4 {
	m := f.m
	sum := make([]geom.Vec3, f.count)
	for t, tri := range m.Tris {
		if f.own[t].any || !f.own[t].pointing {
			continue
		}
		for k, i := range tri {
			n, p := m.Normals[i], m.Positions[i]
			dir := f.own[t].dir
			dir = dir.Sub(n.Mul(n.Dot(dir))).Norm()
			e1, e2 := m.Positions[tri[(k+2)%3]].Sub(p), m.Positions[tri[(k+1)%3]].Sub(p)
			e1, e2 = e1.Sub(n.Mul(n.Dot(e1))), e2.Sub(n.Mul(n.Dot(e2)))
			g := f.group[t][k]
			sum[g] = sum[g].Add(dir.Mul(angle(e1, e2)))
		}
	}
	known := map[uint32]geom.Vec4{}
	degenerate := false
	out := make([][3]geom.Vec4, len(m.Tris))
	for t, tri := range m.Tris {
		degenerate = degenerate || !f.own[t].pointing
		for k := range tri {
			v, sign := geom.Vec3{X: 1}, float32(-1)
			if g := f.group[t][k]; g >= 0 {
				v = sum[g].Norm()
				if f.first[g] {
					sign = 1
				}
			}
			out[t][k] = geom.Vec4{X: v.X, Y: v.Y, Z: v.Z, W: sign}
		}
	}
	if !degenerate {
		return out
	}
	// A triangle without extent takes the frame of a sound one at the same vertex.
	for t, tri := range m.Tris {
		for k, i := range tri {
			if _, have := known[f.id[i]]; f.own[t].pointing && !have {
				known[f.id[i]] = out[t][k]
			}
		}
	}
	for t, tri := range m.Tris {
		for k, i := range tri {
			if v, ok := known[f.id[i]]; ok && !f.own[t].pointing {
				out[t][k] = v
			}
		}
	}
	return out
}

// Frame is the tangent frame at a point of a face: interpolated tangent and normal left at their own
// length, bitangent formed from them there (Mikkelsen 2008).
type Frame struct{ T, B, N geom.Vec3 }

// FrameAt is the frame of triangle t at barycentrics u and v of its second and third corner; tangents
// are what Tangents returned.
func (m *Model) FrameAt(tangents [][3]geom.Vec4, t int, u, v float32) Frame {
	k, i := &tangents[t], m.Tris[t]
	f := Frame{T: geom.Bary(k[0].XYZ(), k[1].XYZ(), k[2].XYZ(), u, v), N: geom.Bary(m.Normals[i[0]], m.Normals[i[1]], m.Normals[i[2]], u, v)}
	f.B = f.N.Cross(f.T).Mul(k[0].W)
	return f
}

// World turns a tangent-space normal, green up, into a unit vector of the model.
func (f Frame) World(n geom.Vec3) geom.Vec3 {
	return f.T.Mul(n.X).Add(f.B.Mul(n.Y)).Add(f.N.Mul(n.Z)).Norm()
}

// Local expresses a vector of the model in the frame, at length one and never from below; what World
// turns back. ok is false where the frame is flat.
func (f Frame) Local(n geom.Vec3) (out geom.Vec3, ok bool) {
	// Solve x·T + y·B + z·N = n by Cramer's rule.
	det := f.T.Dot(f.B.Cross(f.N))
	if det > -1e-12 && det < 1e-12 {
		return geom.Vec3{Z: 1}, false
	}
	out = geom.Vec3{X: n.Dot(f.B.Cross(f.N)) / det, Y: n.Dot(f.N.Cross(f.T)) / det, Z: n.Dot(f.T.Cross(f.B)) / det}.Norm()
	if out.Z < 0.02 {
		out.Z = 0.02
		out = out.Norm()
	}
	return out, true
}

package mesh

import (
	"errors"
	"fmt"
	"math"

	"crust/internal/core/geom"
)

// FlatSquare is a floor of side metres that looks up, its middle at the origin, whose UVs fill the unit square: U to the right and
// V away from who stands before it.
func FlatSquare(name string, side float32) *Model {
	const n = 8 // so that less than a whole copy of it can be taken
	m := Grid(n, n, 0, func(s, t float64) [3]float64 {
		return [3]float64{(s - 0.5) * float64(side), 0, (0.5 - t) * float64(side)}
	})
	for i := range m.Normals {
		m.Normals[i] = geom.Vec3{Y: 1}
	}
	m.Parts, m.Materials[0].Name = []string{name}, name
	return m
}

// mostFlat bounds the faces of a square that repeats: it is copied round itself.
const mostFlat = 20_000

// AsSquare finds how the model lies as one flat square whose UVs fill the unit square once, so that it can repeat.
func (m *Model) AsSquare() (*geom.Square, error) {
	if !m.HasUV || len(m.Tris) == 0 {
		return nil, errors.New("a piece that repeats needs UVs")
	}
	if len(m.Tris) > mostFlat {
		return nil, fmt.Errorf("a piece that repeats has %d faces at the most, this one has %d; two are enough for a flat square", mostFlat, len(m.Tris))
	}
	// The way of the face with the most area tells where UV 0, 0 lies.
	best, area := 0, float32(0)
	sum := float32(0)
	for t, i := range m.Tris {
		p, q, r := m.UVs[i[0]], m.UVs[i[1]], m.UVs[i[2]]
		a := q.Sub(p).Cross(r.Sub(p))
		if a <= 0 {
			return nil, errors.New("a piece that repeats has UVs that are not mirrored and not empty anywhere; lay its square out plainly")
		}
		if sum += a / 2; a > area {
			best, area = t, a
		}
	}
	i := m.Tris[best]
	p, q, r := m.UVs[i[0]], m.UVs[i[1]], m.UVs[i[2]]
	e, f := q.Sub(p), r.Sub(p)
	a, b, c := m.Corners(best)
	b, c = b.Sub(a), c.Sub(a)
	s := &geom.Square{U: b.Mul(f.Y).Sub(c.Mul(e.Y)).Mul(1 / area), V: c.Mul(e.X).Sub(b.Mul(f.X)).Mul(1 / area)}
	s.Low = a.Sub(s.U.Mul(p.X)).Sub(s.V.Mul(p.Y))
	long, high := s.U.Len(), s.V.Len()
	if !(long > 0 && high > 0) || math.Abs(float64(s.U.Dot(s.V)/(long*high))) > 1e-3 {
		return nil, errors.New("the piece is no square that lies flat in its UVs")
	}
	near := 1e-4 * max(long, high)
	low, most := geom.Vec2{X: 1, Y: 1}, geom.Vec2{}
	for _, t := range m.Tris {
		for _, v := range t {
			at := m.UVs[v]
			low, most = geom.Vec2{X: min(low.X, at.X), Y: min(low.Y, at.Y)}, geom.Vec2{X: max(most.X, at.X), Y: max(most.Y, at.Y)}
			if want := s.Low.Add(s.U.Mul(at.X)).Add(s.V.Mul(at.Y)); m.Positions[v].Dist(want) > near {
				return nil, fmt.Errorf("the piece is not flat, or not laid evenly in its UVs: a corner lies %.2g m off", m.Positions[v].Dist(want))
			}
		}
	}
	const whole = 1e-3
	if low.X < -whole || low.Y < -whole || low.X > whole || low.Y > whole || most.X < 1-whole || most.Y < 1-whole || most.X > 1+whole || most.Y > 1+whole || math.Abs(float64(sum-1)) > 4*whole {
		return nil, fmt.Errorf("the UVs of a piece that repeats fill the unit square once; these go from %.3g, %.3g to %.3g, %.3g and cover %.3g of it", low.X, low.Y, most.X, most.Y, sum)
	}
	return s, nil
}

// Surrounded is a square that repeats with its eight copies round it, its own faces first; any other model as it is.
func (m *Model) Surrounded() *Model {
	if m.Square == nil {
		return m
	}
	out := *m
	for _, v := range []*[]geom.Vec3{&out.Positions, &out.Normals} {
		*v = append([]geom.Vec3(nil), *v...)
	}
	out.UVs = append([]geom.Vec2(nil), m.UVs...)
	out.Channels = append([]Channel(nil), m.Channels...)
	for i := range out.Channels {
		out.Channels[i].UVs = append([]geom.Vec2(nil), m.Channels[i].UVs...)
	}
	out.Colours = append([][3]uint8(nil), m.Colours...)
	out.Tris = append([][3]uint32(nil), m.Tris...)
	out.Material, out.Part = append([]int32(nil), m.Material...), append([]int32(nil), m.Part...)
	for v := -1; v <= 1; v++ {
		for u := -1; u <= 1; u++ {
			if u == 0 && v == 0 {
				continue
			}
			base, by := uint32(len(out.Positions)), m.Square.Shift(u, v)
			for _, p := range m.Positions {
				out.Positions = append(out.Positions, p.Add(by))
			}
			out.Normals = append(out.Normals, m.Normals...)
			out.UVs = append(out.UVs, m.UVs...)
			for i := range out.Channels {
				out.Channels[i].UVs = append(out.Channels[i].UVs, m.Channels[i].UVs...)
			}
			out.Colours = append(out.Colours, m.Colours...)
			for _, t := range m.Tris {
				out.Tris = append(out.Tris, [3]uint32{t[0] + base, t[1] + base, t[2] + base})
			}
			out.Material, out.Part = append(out.Material, m.Material...), append(out.Part, m.Part...)
		}
	}
	return &out
}

// manyAround is from how many faces on less of the copies is taken.
const manyAround = 1_000_000

// Around is a model on a square that repeats, with what its copies round the square hold as far as a side over the rim, or a quarter
// of it where there are very many faces, so that what is baked at the rim sees what stands beyond it.
func (m *Model) Around(square *geom.Square) *Model {
	far := float32(1)
	if len(m.Tris) > manyAround {
		far = 0.25
	}
	out := *m
	grow := func(v []geom.Vec3) []geom.Vec3 { return append([]geom.Vec3(nil), v...) }
	out.Positions, out.Normals = grow(m.Positions), grow(m.Normals)
	out.UVs, out.Channels, out.HasUV = append([]geom.Vec2(nil), m.UVs...), nil, m.HasUV
	out.Colours, out.Tris = append([][3]uint8(nil), m.Colours...), append([][3]uint32(nil), m.Tris...)
	out.Material, out.Part = append([]int32(nil), m.Material...), append([]int32(nil), m.Part...)
	at := make([]uint32, len(m.Positions))
	for v := -1; v <= 1; v++ {
		for u := -1; u <= 1; u++ {
			if u == 0 && v == 0 {
				continue
			}
			by := square.Shift(u, v)
			clear(at)
			for t, tri := range m.Tris {
				a, b, c := m.Corners(t)
				x, y := square.At(a.Add(b).Add(c).Mul(1. / 3).Add(by))
				if x < -far || y < -far || x > 1+far || y > 1+far {
					continue
				}
				var next [3]uint32
				for k, i := range tri {
					if at[i] == 0 {
						at[i] = uint32(len(out.Positions))
						out.Positions, out.Normals = append(out.Positions, m.Positions[i].Add(by)), append(out.Normals, m.Normals[i])
						if len(m.UVs) > 0 {
							out.UVs = append(out.UVs, m.UVs[i])
						}
						if len(m.Colours) > 0 {
							out.Colours = append(out.Colours, m.Colours[i])
						}
					}
					next[k] = at[i]
				}
				out.Tris, out.Material, out.Part = append(out.Tris, next), append(out.Material, m.Material[t]), append(out.Part, m.Part[t])
			}
		}
	}
	return &out
}

// Package surface lays a texture set's faces on a grid of texels: which texels are covered, by
// which triangle and where in it, and which covered texel is nearest to each empty one.
package surface

import (
	"context"
	"errors"
	"fmt"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/par"
	"crust/internal/core/uv"
)

// ErrEmpty says that a set covers no texel.
var ErrEmpty = errors.New("it covers no texel; its UVs have no area")

// Surface is a set at a size. Covered texels are packed: entry i of Texel, Tri, U and V belong
// together, rows from the top, left to right; from RasteriseBand tile by tile.
type Surface struct {
	Model *mesh.Model
	Set   *uv.Set
	Size  int
	Texel []uint32 // row · Size + column
	Tri   []int32
	U, V  []float32 // barycentrics of the second and third corner
	Tiles []Tile    // that cover something, by rows; nil from Rasterise
	// Nearest has, for every texel of the square, the packed index of the covered texel nearest to
	// it, its own when it is covered; nil until Pad is called.
	Nearest []int32
}

// Rasterise finds the covered texels: those whose centre, moved by (dx, dy) texels, lies in a face.
// Where faces overlap the first one counts.
func Rasterise(m *mesh.Model, s *uv.Set, size int, dx, dy float32) *Surface {
	return RasteriseRows(m, s, size, dx, dy, 0, size)
}

// RasteriseRows is Rasterise for the rows from y0 to before y1.
func RasteriseRows(m *mesh.Model, s *uv.Set, size int, dx, dy float32, y0, y1 int) *Surface {
	type cell struct {
		tri  int32
		u, v float32
	}
	base := y0 * size
	grid := make([]cell, (y1-y0)*size)
	n := 0
	for _, t := range s.Tris {
		uv.RasterRows(m, s, int(t), size, dx, dy, y0, y1, func(at int, u, v float32) {
			if c := &grid[at-base]; c.tri == 0 {
				*c = cell{t + 1, u, v}
				n++
			}
		})
	}
	out := &Surface{Model: m, Set: s, Size: size,
		Texel: make([]uint32, 0, n), Tri: make([]int32, 0, n), U: make([]float32, 0, n), V: make([]float32, 0, n)}
	for at, c := range grid {
		if c.tri != 0 {
			out.Texel = append(out.Texel, uint32(at+base))
			out.Tri = append(out.Tri, c.tri-1)
			out.U = append(out.U, c.u)
			out.V = append(out.V, c.v)
		}
	}
	return out
}

// Len is how many texels are covered.
func (s *Surface) Len() int { return len(s.Texel) }

// Position is the point of texel i on the model.
func (s *Surface) Position(i int) geom.Vec3 {
	a, b, c := s.Model.Corners(int(s.Tri[i]))
	return geom.Bary(a, b, c, s.U[i], s.V[i])
}

// Normal is the interpolated, unnormalised vertex normal at texel i.
func (s *Surface) Normal(i int) geom.Vec3 {
	t := s.Model.Tris[s.Tri[i]]
	n := s.Model.Normals
	return geom.Bary(n[t[0]], n[t[1]], n[t[2]], s.U[i], s.V[i])
}

// Pad fills Nearest by the exact Euclidean distance transform, one dimension after the other
// (Felzenszwalb & Huttenlocher, Distance Transforms of Sampled Functions, 2012), in whole numbers.
func (s *Surface) Pad(ctx context.Context) error {
	if s.Nearest != nil {
		return nil
	}
	if s.Len() == 0 {
		return fmt.Errorf("set “%s” at %d px: %w", s.Set.Name, s.Size, ErrEmpty)
	}
	n := s.Size
	near := make([]int32, n*n)
	for i := range near {
		near[i] = -1
	}
	for i, at := range s.Texel {
		near[at] = int32(i)
	}
	// For each texel the row of the nearest covered texel in its column, −1 for none. Squares have fewer than 32,768 rows.
	row := make([]int16, n*n)
	for x := range n {
		last := int16(-1)
		for y := range n {
			if near[y*n+x] >= 0 {
				last = int16(y)
			}
			row[y*n+x] = last
		}
		last = -1
		for y := n - 1; y >= 0; y-- {
			if near[y*n+x] >= 0 {
				last = int16(y)
			}
			if up := row[y*n+x]; last >= 0 && (up < 0 || int(last)-y < y-int(up)) {
				row[y*n+x] = last
			}
		}
	}
	type scratch struct {
		at    []int // columns of the parabolas on the lower envelope
		start []int // first column where each is lowest
		h     []int
	}
	work := make([]scratch, par.Slots)
	err := par.Blocks(ctx, n, 16, func(w, from, to int) {
		k := &work[w]
		for y := from; y < to; y++ {
			k.at, k.start, k.h = k.at[:0], k.start[:0], k.h[:0]
			for x := range n {
				r := row[y*n+x]
				if r < 0 {
					continue
				}
				d := int(r) - y
				f := d*d + x*x
				begin := 0
				for len(k.at) > 0 {
					last := len(k.at) - 1
					p := k.at[last]
					// first column where the new parabola is lower than the last one
					begin = floorDiv(f-k.h[last], 2*(x-p)) + 1
					if begin > k.start[last] {
						break
					}
					k.at, k.start, k.h = k.at[:last], k.start[:last], k.h[:last]
					begin = 0
				}
				if begin < n {
					k.at, k.start, k.h = append(k.at, x), append(k.start, begin), append(k.h, f)
				}
			}
			j := 0
			for x := range n {
				for j+1 < len(k.at) && k.start[j+1] <= x {
					j++
				}
				// Covered texels are their own nearest and are the only ones that are read.
				if c := k.at[j]; near[y*n+x] < 0 {
					near[y*n+x] = near[int(row[y*n+c])*n+c]
				}
			}
		}
	})
	if err != nil {
		return err
	}
	s.Nearest = near
	return nil
}

func floorDiv(a, b int) int {
	q := a / b
	if a%b != 0 && (a < 0) != (b < 0) {
		q--
	}
	return q
}

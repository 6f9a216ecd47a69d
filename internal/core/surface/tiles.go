package surface

import (
	"context"
	"slices"

	"crust/internal/core/mesh"
	"crust/internal/core/par"
	"crust/internal/core/uv"
)

// TileSize is the side of a tile in texels: what is evaluated, cached and sent at once. 32 sends a little less but in twice
// as many messages; the planes of 128 do not stay in the second-level cache.
const TileSize = 64

// Tile is a square of the set's picture with its covered texels, which are packed together.
type Tile struct {
	X, Y     int32 // column and row among the tiles
	From, To int32 // its texels, From to before To
}

// Len is how many texels are covered.
func (t *Tile) Len() int { return int(t.To - t.From) }

// Across is how many tiles side by side make the picture.
func Across(size int) int { return (size + TileSize - 1) / TileSize }

// RasteriseBand is Rasterise for the rows of tiles from from to before to, with the texels packed tile by tile, tiles and the
// texels in them by rows from the top.
func RasteriseBand(ctx context.Context, m *mesh.Model, set *uv.Set, size, from, to int) (*Surface, error) {
	return rasterise(ctx, m, set, size, from, to, func(*Surface) {})
}

// Cover is RasteriseBand without the triangles and the places in them: what is covered, in the same order.
func Cover(ctx context.Context, m *mesh.Model, set *uv.Set, size, from, to int) (*Surface, error) {
	return rasterise(ctx, m, set, size, from, to, func(s *Surface) { s.Tri, s.U, s.V = nil, nil, nil })
}

func rasterise(ctx context.Context, m *mesh.Model, set *uv.Set, size, first, end int, keep func(row *Surface)) (*Surface, error) {
	across := Across(size)
	rows := make([]*Surface, end-first)
	err := par.Blocks(ctx, len(rows), 1, func(_, i, _ int) {
		y0 := (first + i) * TileSize
		rows[i] = RasteriseRows(m, set, size, 0, 0, y0, min(size, y0+TileSize))
		keep(rows[i])
	})
	if err != nil {
		return nil, err
	}
	n := 0
	for _, b := range rows {
		n += b.Len()
	}
	out := &Surface{Model: m, Set: set, Size: size, Texel: make([]uint32, 0, n), Tiles: []Tile{}}
	if n > 0 && rows[0].Tri != nil {
		out.Tri, out.U, out.V = make([]int32, 0, n), make([]float32, 0, n), make([]float32, 0, n)
	}
	// Within a row of tiles texels come row by row: each gives each tile a run.
	runs := make([][][2]int, across)
	for y, b := range rows {
		for x := range runs {
			runs[x] = runs[x][:0]
		}
		for i := 0; i < b.Len(); {
			at := int(b.Texel[i])
			x := at % size / TileSize
			end := uint32(at/size*size + min(size, (x+1)*TileSize))
			j := i + 1
			for j < b.Len() && b.Texel[j] < end {
				j++
			}
			runs[x] = append(runs[x], [2]int{i, j})
			i = j
		}
		for x, rs := range runs {
			if len(rs) == 0 {
				continue
			}
			t := Tile{X: int32(x), Y: int32(first + y), From: int32(out.Len())}
			for _, r := range rs {
				out.Texel = append(out.Texel, b.Texel[r[0]:r[1]]...)
				if out.Tri != nil {
					out.Tri = append(out.Tri, b.Tri[r[0]:r[1]]...)
					out.U, out.V = append(out.U, b.U[r[0]:r[1]]...), append(out.V, b.V[r[0]:r[1]]...)
				}
			}
			t.To = int32(out.Len())
			out.Tiles = append(out.Tiles, t)
		}
		rows[y] = nil
	}
	return out, nil
}

// TileAt finds the tile in a column and row among the tiles; −1 when it covers nothing.
func (s *Surface) TileAt(x, y int32) int {
	i, ok := slices.BinarySearchFunc(s.Tiles, [2]int32{x, y}, func(t Tile, at [2]int32) int {
		if t.Y != at[1] {
			return int(t.Y - at[1])
		}
		return int(t.X - at[0])
	})
	if !ok {
		return -1
	}
	return i
}

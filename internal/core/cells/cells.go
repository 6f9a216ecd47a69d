// Package cells finds points of a surface by where they lie: space is cut into cubes, whose points are kept together and in
// an order in which cubes that are neighbours mostly follow each other.
package cells

import (
	"context"
	"math"
	"slices"

	"crust/internal/core/geom"
	"crust/internal/core/par"
)

// Key interleaves the bits of a cell's coordinates, of which the lower 21 count and none is negative (Morton order): the
// last three bits number the cell in its cube of eight, and cells near each other have keys that are near.
func Key(x, y, z int32) uint64 { return apart(x)<<2 | apart(y)<<1 | apart(z) }

// apart leaves two bits free before each of the lower 21 of v.
func apart(v int32) uint64 {
	k := uint64(uint32(v)) & 0x1fffff
	k = (k | k<<32) & 0x1f00000000ffff
	k = (k | k<<16) & 0x1f0000ff0000ff
	k = (k | k<<8) & 0x100f00f00f00f00f
	k = (k | k<<4) & 0x10c30c30c30c30c3
	return (k | k<<2) & 0x1249249249249249
}

// Facings is how many facings there are.
const Facings = 6

// Facing numbers the axis that n is nearest to.
func Facing(n geom.Vec3) int {
	x, y, z := max(n.X, -n.X), max(n.Y, -n.Y), max(n.Z, -n.Z)
	axis, v := 0, n.X
	if y > x && y >= z {
		axis, v = 1, n.Y
	} else if z > x {
		axis, v = 2, n.Z
	}
	if v < 0 {
		return axis + 3
	}
	return axis
}

// Place is where an item lies in the runs that it was collected in, with the key of its cell.
type Place struct {
	Key    uint64
	Run, I int32
}

// Order is the places of the items of some runs, each size long, in the order of their keys; equal ones stay in order.
func Order(ctx context.Context, runs int, size func(run int) int, key func(run, i int) uint64) ([]Place, error) {
	begin := make([]int, runs+1)
	for r := range runs {
		begin[r+1] = begin[r] + size(r)
	}
	list, most := make([]Place, begin[runs]), make([]uint64, runs)
	err := par.Blocks(ctx, runs, 1, func(_, r, _ int) {
		for i := range list[begin[r]:begin[r+1]] {
			k := key(r, i)
			list[begin[r]+i] = Place{k, int32(r), int32(i)}
			most[r] = max(most[r], k)
		}
	})
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return Sort(ctx, list, slices.Max(most))
}

// Sort puts places in the order of their keys, which are at most so large; equal ones stay in order. Each worker counts the
// digits of a part of the list, and then moves that part.
func Sort(ctx context.Context, list []Place, most uint64) ([]Place, error) {
	const digit = 11
	other := make([]Place, len(list))
	parts := max(1, min(par.Workers(), len(list)/leastPart))
	share := (len(list) + parts - 1) / parts
	count := make([][1 << digit]int, parts)
	for shift := 0; most>>shift != 0; shift += digit {
		err := par.Blocks(ctx, parts, 1, func(_, p, _ int) {
			count[p] = [1 << digit]int{}
			for i := range list[p*share : min(len(list), (p+1)*share)] {
				count[p][list[p*share+i].Key>>shift&(1<<digit-1)]++
			}
		})
		at := 0
		for k := range 1 << digit {
			for p := range parts {
				at, count[p][k] = at+count[p][k], at
			}
		}
		if err == nil {
			err = par.Blocks(ctx, parts, 1, func(_, p, _ int) {
				for _, x := range list[p*share : min(len(list), (p+1)*share)] {
					k := x.Key >> shift & (1<<digit - 1)
					other[count[p][k]] = x
					count[p][k]++
				}
			})
		}
		if err != nil {
			return nil, err
		}
		list, other = other, list
	}
	return list, nil
}

// leastPart is how many places are worth a worker of their own.
const leastPart = 1 << 14

// Pieces cuts a triangle into rows along its longest side and each row into pieces of about step each way. f takes each
// piece's middle, by its barycentrics of b and c, and its area.
func Pieces(a, b, c geom.Vec3, step float32, f func(u, v, area float32)) {
	area, turn, long, rows := divide(a, b, c, step)
	if area == 0 {
		return
	}
	for y := range rows {
		// The row between two heights is a trapezoid; its points stand at the height of its centroid.
		lo, hi := 1-float32(y)/float32(rows), 1-float32(y+1)/float32(rows) // widths below and above, as shares
		piece := area * (lo*lo - hi*hi)
		v := float32(y)/float32(rows) + (lo+2*hi)/(lo+hi)/3/float32(rows)
		n := max(1, int(float32(long)*(lo+hi)/2+0.5))
		piece /= float32(n)
		for x := range n {
			u := (1 - v) * (float32(x) + 0.5) / float32(n)
			switch turn {
			case 0:
				f(u, v, piece)
			case 1:
				f(1-u-v, u, piece)
			default:
				f(v, 1-u-v, piece)
			}
		}
	}
}

// MostPieces is how many pieces Pieces makes at the most.
func MostPieces(a, b, c geom.Vec3, step float32) int {
	_, _, long, rows := divide(a, b, c, step)
	return (long*rows+long)/2 + rows
}

// divide measures a triangle: its area, which side is the longest (the first runs from a to b), and how many pieces that
// side and the height over it are cut into.
func divide(a, b, c geom.Vec3, step float32) (area float32, side, long, rows int) {
	area = b.Sub(a).Cross(c.Sub(a)).Len() / 2
	length := b.Dist(a)
	if y, z := c.Dist(b), a.Dist(c); y >= length && y >= z {
		length, side = y, 1
	} else if z >= length {
		length, side = z, 2
	}
	if length == 0 {
		return area, side, 1, 1
	}
	pieces := func(v float32) int { return max(1, int(math.Ceil(float64(v/step)))) }
	return area, side, pieces(length), pieces(2 * area / length)
}

// Index leads from cells to their points. A cube of 2 × 2 × 2 cells is one entry: the 27 cells round a point lie in eight.
type Index struct {
	table []int32  // open addressing: one more than the number of a cube
	cubes []uint64 // their keys
	eight [][8][2]int32
}

// NewIndex makes room for so many cells.
func NewIndex(cells int) *Index {
	n := 16
	for n < 2*cells {
		n *= 2
	}
	return &Index{table: make([]int32, n)}
}

// Put says that the points from from on to before to are those of a cell. Cells come in the order of their keys.
func (x *Index) Put(key uint64, from, to int32) {
	if cube := key >> 3; len(x.cubes) == 0 || x.cubes[len(x.cubes)-1] != cube {
		at := x.slot(cube)
		for x.table[at] != 0 {
			at = (at + 1) & (len(x.table) - 1)
		}
		x.cubes, x.eight = append(x.cubes, cube), append(x.eight, [8][2]int32{})
		x.table[at] = int32(len(x.cubes))
	}
	x.eight[len(x.eight)-1][key&7] = [2]int32{from, to}
}

func (x *Index) slot(key uint64) int {
	return int(key*0xbf58476d1ce4e5b9>>20) & (len(x.table) - 1)
}

// find returns a cube, nil where there are no points.
func (x *Index) find(key uint64) *[8][2]int32 {
	for at := x.slot(key); x.table[at] != 0; at = (at + 1) & (len(x.table) - 1) {
		if i := x.table[at] - 1; x.cubes[i] == key {
			return &x.eight[i]
		}
	}
	return nil
}

// Near is the points round one cell; places side by side mostly share it.
type Near struct {
	cell   [3]int32
	cube   [3]int32 // the least of the eight cubes round it
	cubes  [8]*[8][2]int32
	ranges [27][2]int32
	n      int
	known  bool
}

// Ranges are the runs of points, none of them empty.
func (k *Near) Ranges() [][2]int32 { return k.ranges[:k.n] }

// Look finds the points of a cell and of the 26 round it.
func (x *Index) Look(at [3]int32, k *Near) {
	if k.known && k.cell == at {
		return
	}
	cube := [3]int32{(at[0] - 1) >> 1, (at[1] - 1) >> 1, (at[2] - 1) >> 1}
	if !k.known || k.cube != cube {
		for i := range k.cubes {
			k.cubes[i] = x.find(Key(cube[0]+int32(i>>2), cube[1]+int32(i>>1&1), cube[2]+int32(i&1)))
		}
	}
	k.cell, k.cube, k.known, k.n = at, cube, true, 0
	for x := at[0] - 1; x <= at[0]+1; x++ {
		for y := at[1] - 1; y <= at[1]+1; y++ {
			for z := at[2] - 1; z <= at[2]+1; z++ {
				e := k.cubes[(x>>1-cube[0])<<2|(y>>1-cube[1])<<1|(z>>1-cube[2])]
				if e == nil {
					continue
				}
				r := e[x&1<<2|y&1<<1|z&1]
				if k.n > 0 && k.ranges[k.n-1][1] == r[0] {
					k.ranges[k.n-1][1] = r[1] // which is the same when the cell is empty
				} else if r[0] != r[1] {
					k.ranges[k.n] = r
					k.n++
				}
			}
		}
	}
}

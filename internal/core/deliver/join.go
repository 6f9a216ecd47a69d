package deliver

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
)

// Join is a join sheet: the plan by which several sets become one on delivery.
type Join struct {
	Name  string `json:"name"` // names its files, in place of {set}
	Sets  []Cell `json:"sets"`
	Round string `json:"round,omitempty"` // how the cells were laid out last: one of Rounds; empty for by hand
}

// Cell is where a set's square lies on a join sheet, in shares of the sheet's side, from the top left.
type Cell struct {
	Set  string  `json:"set"` // key
	X    float64 `json:"x"`
	Y    float64 `json:"y"`
	Side float64 `json:"side"`
}

// whole tells whether the cell is the whole sheet.
func (c *Cell) whole() bool { return c.X == 0 && c.Y == 0 && c.Side == 1 }

// Ways in which cells are laid out.
const (
	RoundTogether = "together" // each is the whole sheet: the sets occupy other places of the same square
	RoundGrid     = "grid"
	RoundDensity  = "density" // by texel density: a metre is as many texels everywhere
)

// Rounds lists them.
var Rounds = []string{RoundTogether, RoundGrid, RoundDensity}

// leastCell is the least side of a cell, as a share of the sheet's.
const leastCell = 1.0 / 64

// joinKey begins the keys of join sheets among those of sets.
const joinKey = "join:"

// Key is what sizes and files know the sheet by.
func (j *Join) Key() string { return joinKey + j.Name }

// Check says the first thing that is wrong with a sheet.
func (j *Join) Check() error {
	if n := strings.TrimSpace(j.Name); n == "" || n != j.Name || len(n) > maxWord || uv.FileName(n) != n {
		return fmt.Errorf("“%.60s” cannot be the name of a join sheet; it names files", j.Name)
	}
	if len(j.Sets) < 2 {
		return fmt.Errorf("join sheet “%s” needs two sets or more", j.Name)
	}
	seen := map[string]bool{}
	for _, c := range j.Sets {
		if seen[c.Set] {
			return fmt.Errorf("join sheet “%s” has one set twice", j.Name)
		}
		seen[c.Set] = true
		if !(c.X >= 0 && c.Y >= 0 && c.Side >= leastCell && c.X+c.Side <= 1+1e-9 && c.Y+c.Side <= 1+1e-9) {
			return fmt.Errorf("join sheet “%s”: a set lies outside of the sheet; move it in", j.Name)
		}
	}
	return nil
}

// Lay lays the cells out anew.
func (j *Join) Lay(how string, sets []uv.Set) error {
	of := func(key string) *uv.Set {
		if i := slices.IndexFunc(sets, func(s uv.Set) bool { return s.Key == key }); i >= 0 {
			return &sets[i]
		}
		return nil
	}
	n := len(j.Sets)
	sides := make([]float64, n)
	switch how {
	case RoundTogether:
		for i := range j.Sets {
			j.Sets[i].X, j.Sets[i].Y, j.Sets[i].Side = 0, 0, 1
		}
		j.Round = how
		return nil
	case RoundGrid:
		k := math.Ceil(math.Sqrt(float64(n)))
		for i := range sides {
			sides[i] = 1 / k
		}
	case RoundDensity:
		for i, c := range j.Sets {
			s := of(c.Set)
			if s == nil || s.UVArea <= 0 {
				return fmt.Errorf("set “%s” has no UVs to measure", c.Set)
			}
			sides[i] = math.Sqrt(s.Area / s.UVArea)
		}
		most := slices.Max(sides)
		for i := range sides {
			sides[i] /= most
		}
	default:
		return fmt.Errorf("“%s” is not a way to lay a sheet out; use %s", how, strings.Join(Rounds, ", "))
	}
	// The largest scale at which the squares fit in, by halving.
	var best []Cell
	low, high := 0.0, 1.0
	for range 30 {
		k := (low + high) / 2
		if how == RoundGrid {
			k = 1
		}
		if cells := shelves(j.Sets, sides, k); cells != nil {
			best, low = cells, k
		} else {
			high = k
		}
		if how == RoundGrid {
			break
		}
	}
	if best == nil {
		return errors.New("the sets do not fit on one sheet; join fewer")
	}
	j.Sets, j.Round = best, how
	return nil
}

// shelves lays squares of sides times scale in rows, the largest first; nil when they do not fit. Sides are rounded down to a 64th
// of the sheet or less where they are small, so that cells begin on whole texels at every size.
func shelves(cells []Cell, sides []float64, scale float64) []Cell {
	order := make([]int, len(cells))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		switch {
		case sides[a] > sides[b]:
			return -1
		case sides[a] < sides[b]:
			return 1
		}
		return 0
	})
	out := slices.Clone(cells)
	x, y, tall := 0.0, 0.0, 0.0
	const step = 1.0 / 64
	for _, i := range order {
		side := math.Floor(sides[i]*scale/step+1e-9) * step
		if side < leastCell {
			return nil
		}
		if x+side > 1+1e-9 {
			x, y, tall = 0, y+tall, 0
		}
		if y+side > 1+1e-9 || x+side > 1+1e-9 {
			return nil
		}
		out[i].X, out[i].Y, out[i].Side = x, y, side
		x, tall = x+side, max(tall, side)
	}
	return out
}

// Conflict is where two sets of a sheet lie on each other.
type Conflict struct {
	A      string `json:"a"` // keys
	B      string `json:"b"`
	Texels int    `json:"texels"` // of a sheet of ConflictSide px
}

// ConflictSide is the side at which sheets are looked at for conflicts.
const ConflictSide = 512

// Conflicts finds where sets lie on each other, and which texels those are.
func (j *Join) Conflicts(m *mesh.Model, sets []uv.Set) (out []Conflict, texels []uint32) {
	owner := make([]int32, ConflictSide*ConflictSide)
	counts := map[[2]int]int{}
	for k := range j.Sets {
		c := &j.Sets[k]
		i := slices.IndexFunc(sets, func(s uv.Set) bool { return s.Key == c.Set })
		if i < 0 {
			continue
		}
		at := c.on(ConflictSide)
		covered := make([]bool, at.n*at.n)
		for _, t := range sets[i].Tris {
			uv.Raster(m, &sets[i], int(t), at.n, 0, 0, func(i int, u, v float32) { covered[i] = true })
		}
		for i, on := range covered {
			if !on {
				continue
			}
			p := at.place(i)
			if o := owner[p]; o > 0 {
				counts[[2]int{int(o) - 1, k}]++
				texels = append(texels, uint32(p))
				continue
			}
			owner[p] = int32(k + 1)
		}
	}
	for a := range j.Sets {
		for b := range j.Sets {
			if n := counts[[2]int{a, b}]; n > 0 {
				out = append(out, Conflict{j.Sets[a].Set, j.Sets[b].Set, n})
			}
		}
	}
	return out, texels
}

// lot is a cell on a sheet of a size: n × n px from px, py on.
type lot struct{ px, py, n, size int }

// on is the cell in whole px of a sheet.
func (c *Cell) on(size int) lot {
	n := max(1, int(math.Round(c.Side*float64(size))))
	return lot{min(size-n, int(math.Round(c.X*float64(size)))), min(size-n, int(math.Round(c.Y*float64(size)))), n, size}
}

// place leads from a texel of the set's own square to one of the sheet.
func (l lot) place(at int) int { return (l.py+at/l.n)*l.size + l.px + at%l.n }

// uv leads from a place of the set's square, v upwards, to one of the sheet.
func (l lot) uv(p geom.Vec2) geom.Vec2 {
	s := float32(l.n) / float32(l.size)
	return geom.Vec2{X: float32(l.px)/float32(l.size) + p.X*s, Y: 1 - float32(l.py)/float32(l.size) - (1-p.Y)*s}
}

// unit is what gets a family of files: a set, or the sets of a join sheet.
type unit struct {
	set   *uv.Set // the set itself, or one that stands for the sheet with its name
	join  *Join   // nil for a set alone
	cells []Cell
	sets  []*uv.Set // of the cells
}

// units lists them: sets in their order, each sheet at the place of its first set.
func (j *Job) units() (out []*unit) {
	sets := j.sets()
	of := map[string]*unit{}
	for i := range j.Joins {
		u := &unit{join: &j.Joins[i], set: &uv.Set{Key: j.Joins[i].Key(), Name: j.Joins[i].Name}}
		for _, c := range j.Joins[i].Sets {
			if k := slices.IndexFunc(sets, func(s *uv.Set) bool { return s.Key == c.Set }); k >= 0 {
				u.cells, u.sets = append(u.cells, c), append(u.sets, sets[k])
				of[c.Set] = u
			}
		}
	}
	for _, s := range sets {
		u := of[s.Key]
		if u == nil {
			u = &unit{set: s, cells: []Cell{{Set: s.Key, Side: 1}}, sets: []*uv.Set{s}}
		}
		if !slices.Contains(out, u) {
			out = append(out, u)
		}
	}
	return out
}

// moves tells whether the sheet's sets get other UVs.
func (u *unit) moves() bool {
	return slices.ContainsFunc(u.cells, func(c Cell) bool { return !c.whole() }) || u.join != nil && slices.ContainsFunc(u.sets, func(s *uv.Set) bool { return s.Origin != geom.Vec2{} })
}

// CheckJoins says what is wrong with sheets that are used together.
func CheckJoins(joins []Join) error {
	taken, names := map[string]string{}, map[string]bool{}
	for i := range joins {
		k := &joins[i]
		if err := k.Check(); err != nil {
			return err
		}
		if names[strings.ToLower(k.Name)] {
			return fmt.Errorf("two join sheets are called “%s”", k.Name)
		}
		names[strings.ToLower(k.Name)] = true
		for _, c := range k.Sets {
			if other := taken[c.Set]; other != "" {
				return fmt.Errorf("a set is on the join sheets “%s” and “%s”; it can go to one of them", other, k.Name)
			}
			taken[c.Set] = k.Name
		}
	}
	return nil
}

// cover is a unit's square at a size, padded, with where each set's texels begin in it, and each set's own square.
func (r *run) cover(u *unit, size int) (whole *surface.Surface, of []*surface.Surface, begin []int, err error) {
	if u.join == nil {
		whole, err = surface.Cover(r.ctx, r.j.Model, u.set, size, 0, surface.Across(size))
		if err != nil {
			return nil, nil, nil, err
		}
		of, begin = []*surface.Surface{whole}, []int{0}
	} else {
		whole = &surface.Surface{Set: u.set, Model: r.j.Model, Size: size}
		taken := make([]bool, size*size)
		for i := range u.cells {
			l := u.cells[i].on(size)
			one, err := surface.Cover(r.ctx, r.j.Model, u.sets[i], l.n, 0, surface.Across(l.n))
			if err != nil {
				return nil, nil, nil, err
			}
			of, begin = append(of, one), append(begin, len(whole.Texel))
			for _, at := range one.Texel {
				p := l.place(int(at))
				// Where sets lie on each other the first one counts: the others' texels are led to it by the padding.
				if taken[p] {
					whole.Texel = append(whole.Texel, hidden)
					continue
				}
				taken[p] = true
				whole.Texel = append(whole.Texel, uint32(p))
			}
		}
	}
	if u.join != nil {
		err = padShown(r.ctx, whole)
	} else {
		err = whole.Pad(r.ctx)
	}
	if err != nil {
		return nil, nil, nil, err
	}
	keepTo(whole, r.j.Pad.Px(size))
	return whole, of, begin, nil
}

// hidden stands for the place of a texel that another set covers.
const hidden = math.MaxUint32

// padShown pads a joined square by the texels that are seen.
func padShown(ctx context.Context, whole *surface.Surface) error {
	shown := &surface.Surface{Set: whole.Set, Model: whole.Model, Size: whole.Size}
	var of []int32
	for i, at := range whole.Texel {
		if at != hidden {
			shown.Texel, of = append(shown.Texel, at), append(of, int32(i))
		}
	}
	if err := shown.Pad(ctx); err != nil {
		return err
	}
	whole.Nearest = shown.Nearest
	for i, k := range whole.Nearest {
		whole.Nearest[i] = of[k]
	}
	return nil
}

// moved is the model with the UVs of joined sets on their sheets; the model itself when none move. Triangles keep their order.
func (r *run) moved() *mesh.Model {
	m := r.j.Model
	cell := map[string]lot{}
	for _, u := range r.units {
		if !u.moves() {
			continue
		}
		for i, c := range u.cells {
			cell[u.sets[i].Key] = c.on(r.j.SizeOf(u.set.Key))
		}
	}
	if len(cell) == 0 {
		return m
	}
	out := *m
	out.Tris, out.UVs = slices.Clone(m.Tris), slices.Clone(m.UVs)
	out.Positions, out.Normals, out.Colours = slices.Clone(m.Positions), slices.Clone(m.Normals), slices.Clone(m.Colours)
	// Corners that sets share become one for each.
	taken := make([]bool, len(m.UVs))
	type corner struct {
		vertex uint32
		set    string
	}
	made := map[corner]uint32{}
	for i := range r.j.Sets {
		s := &r.j.Sets[i]
		l, moves := cell[s.Key]
		for _, t := range s.Tris {
			for k, v := range m.Tris[t] {
				at := corner{v, s.Key}
				n, ok := made[at]
				if !ok {
					n = v
					if taken[v] {
						n = uint32(len(out.UVs))
						out.UVs, out.Positions, out.Normals = append(out.UVs, m.UVs[v]), append(out.Positions, m.Positions[v]), append(out.Normals, m.Normals[v])
						if len(m.Colours) > 0 {
							out.Colours = append(out.Colours, m.Colours[v])
						}
					} else {
						taken[v] = true
					}
					if moves {
						out.UVs[n] = l.uv(m.UVs[v].Sub(s.Origin))
					}
					made[at] = n
				}
				out.Tris[t][k] = n
			}
		}
	}
	return &out
}

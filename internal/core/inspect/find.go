package inspect

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"sort"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/uv"
)

// place boxes the triangles, in UV space and on the model.
func (r *run) place(label string, tris []int32) Place {
	p := Place{Label: label, Tris: tris}
	box := geom.EmptyBox()
	inf := float32(math.Inf(1))
	p.UV = [4]float32{inf, inf, -inf, -inf}
	for _, t := range tris {
		var origin geom.Vec2
		if k := r.islands.Of[t]; k >= 0 {
			s := &r.sets[r.islands.Islands[k].Set]
			origin, p.Set = s.Origin, s.Key
		}
		for _, v := range r.m.Tris[t] {
			box = box.Add(r.m.Positions[v])
			q := r.m.UVs[v].Sub(origin)
			p.UV = [4]float32{min(p.UV[0], q.X), min(p.UV[1], q.Y), max(p.UV[2], q.X), max(p.UV[3], q.Y)}
		}
	}
	if len(tris) == 0 {
		p.UV = [4]float32{}
		return p
	}
	p.Min, p.Max = box.Min.Array(), box.Max.Array()
	return p
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// partOf names the part of a triangle.
func (r *run) partOf(t int32) string { return r.m.Parts[r.m.Part[t]] }

func (r *run) island(i int) Place {
	tris := r.islands.Islands[i].Tris
	return r.place(fmt.Sprintf("%s, %s", r.partOf(tris[0]), counted(len(tris), "face", "faces")), tris)
}

// byPart makes a place for each part that the triangles belong to, those with most first.
func (r *run) byPart(tris []int32) []Place {
	at := map[int32][]int32{}
	for _, t := range tris {
		at[r.m.Part[t]] = append(at[r.m.Part[t]], t)
	}
	var out []Place
	for part, list := range at {
		out = append(out, r.place(fmt.Sprintf("%s, %s", r.m.Parts[part], counted(len(list), "face", "faces")), list))
	}
	slices.SortFunc(out, func(a, b Place) int {
		return cmp.Or(len(b.Tris)-len(a.Tris), cmp.Compare(a.Label, b.Label))
	})
	return out
}

// perSet gathers triangles by set and makes a finding of each.
func (r *run) perSet(pick func(t int32) bool, detail func(n int) string) (out []Finding) {
	for i := range r.sets {
		var tris []int32
		for _, t := range r.sets[i].Tris {
			if pick(t) {
				tris = append(tris, t)
			}
		}
		if len(tris) > 0 {
			out = append(out, Finding{Set: r.sets[i].Name, Count: len(tris), Detail: detail(len(tris)), Places: r.byPart(tris)})
		}
	}
	return out
}

// perIsland picks islands with a measure of how bad they are, and makes a finding of each set.
func (r *run) perIsland(pick func(i *uv.Island) (worth float64, label string, ok bool), detail func(n int, worst float64) string) (out []Finding) {
	type found struct {
		i     int
		worth float64
		label string
	}
	by := make([][]found, len(r.sets))
	for i := range r.islands.Islands {
		k := &r.islands.Islands[i]
		if w, label, ok := pick(k); ok {
			by[k.Set] = append(by[k.Set], found{i, w, label})
		}
	}
	for s, list := range by {
		if len(list) == 0 {
			continue
		}
		sort.SliceStable(list, func(a, b int) bool { return list[a].worth > list[b].worth })
		f := Finding{Set: r.sets[s].Name, Count: len(list), Detail: detail(len(list), list[0].worth)}
		for _, k := range list[:min(len(list), MaxPlaces)] {
			p := r.island(k.i)
			if k.label != "" {
				p.Label += ", " + k.label
			}
			f.Places = append(f.Places, p)
		}
		out = append(out, f)
	}
	return out
}

func noUV(r *run) []Finding {
	if r.m.HasUV {
		return nil
	}
	return r.perSet(func(t int32) bool { return r.m.UVArea(int(t)) == 0 },
		func(n int) string { return fmt.Sprintf("%s cannot hold texture", counted(n, "face", "faces")) })
}

// speck is the area of a face, as a share of the square over the model's diagonal, up to which it does
// not matter that it holds no texture.
const speck = 1e-9

func flatUV(r *run) []Finding {
	if !r.m.HasUV {
		return nil
	}
	diag := r.m.Bounds().Diagonal()
	least := speck * diag * diag
	thin := 2 * r.m.Tolerance()
	return r.perSet(func(t int32) bool {
		return r.m.UVArea(int(t)) == 0 && r.m.Area(int(t)) > least && r.m.Height(int(t)) > thin
	},
		func(n int) string {
			return fmt.Sprintf("%s without area in UV space", counted(n, "face", "faces"))
		})
}

// least is the smallest overlap that is told, as a share of the tile: about a texel at 4096.
const least = 1. / 4096 / 4096

// sharing makes findings of the overlaps that are wanted.
func (r *run) sharing(want func(o *uv.Overlap) bool, detail func(islands, mirrored int, share float64) string) (out []Finding) {
	by := make([][]*uv.Overlap, len(r.sets))
	for i := range r.over {
		o := &r.over[i]
		if o.Area >= least && want(o) {
			s := r.islands.Islands[o.A].Set
			by[s] = append(by[s], o)
		}
	}
	for s, list := range by {
		if len(list) == 0 {
			continue
		}
		sort.SliceStable(list, func(a, b int) bool { return list[a].Area > list[b].Area })
		seen, mirrored, share := map[int]bool{}, 0, 0.0
		var faces []int32
		f := Finding{Set: r.sets[s].Name}
		for _, o := range list {
			for _, i := range [2]int{o.A, o.B} {
				if !seen[i] {
					seen[i] = true
					faces = append(faces, r.islands.Islands[i].Tris...)
				}
			}
			share += o.Area
			if o.Mirrored {
				mirrored++
			}
			if len(f.Places) < MaxPlaces {
				a, b := &r.islands.Islands[o.A], &r.islands.Islands[o.B]
				label := fmt.Sprintf("%s on %s, %.3g %% of the tile", r.partOf(b.Tris[0]), r.partOf(a.Tris[0]), o.Area*100)
				if o.A == o.B {
					label = fmt.Sprintf("%s, %.3g %% of the tile", r.partOf(a.Tris[0]), o.Area*100)
				}
				tris := slices.Clone(o.Tris)
				slices.Sort(tris)
				p := r.place(label, slices.Compact(tris))
				p.Shape, p.UV = o.Shapes, boxOf(o.Shapes)
				f.Places = append(f.Places, p)
			}
		}
		if share > roughShare { // pairs of three and more count the same place again
			share = min(share, covered(r.m, &r.sets[s], faces, 2))
		}
		f.Count = len(seen)
		f.Detail = detail(len(seen), mirrored, share)
		out = append(out, f)
	}
	return out
}

// roughShare is the share of the tile from which overlaps are counted on a grid.
const roughShare = 0.01

// covered is the share of the set's square that at least so many of the faces cover, counted on a grid.
func covered(m *mesh.Model, s *uv.Set, faces []int32, least int32) float64 {
	n := coverGrid(m, s, faces)
	turns := make([]int32, n*(n+1)) // by row: how many more faces cover a texel than the one before
	for _, t := range faces {
		uv.Rows(m, s, int(t), n, func(row, from, to int) {
			turns[row*(n+1)+from]++
			turns[row*(n+1)+to]--
		})
	}
	count := 0
	for y := range n {
		deep := int32(0)
		for _, v := range turns[y*(n+1) : y*(n+1)+n] {
			if deep += v; deep >= least {
				count++
			}
		}
	}
	return float64(count) / float64(n*n)
}

// mostRows is how many rows of a grid all faces together may take; beyond it the grid is coarser.
const mostRows = 16 << 20

// coverGrid is how many cells a side the grid has that faces are counted on: fewer where very many of them are very large.
func coverGrid(m *mesh.Model, s *uv.Set, faces []int32) int {
	rows := 0.0
	for _, t := range faces {
		i := m.Tris[t]
		p, q, r := m.UVs[i[0]].Y-s.Origin.Y, m.UVs[i[1]].Y-s.Origin.Y, m.UVs[i[2]].Y-s.Origin.Y
		rows += float64(max(0, min(1, max(p, q, r))-max(0, min(p, q, r))))*unusedGrid + 1
	}
	if rows > mostRows {
		return max(32, int(unusedGrid*mostRows/rows))
	}
	return unusedGrid
}

// boxOf is the box round polygons: least U, least V, most U, most V.
func boxOf(polygons [][]geom.Vec2) [4]float32 {
	inf := float32(math.Inf(1))
	b := [4]float32{inf, inf, -inf, -inf}
	for _, p := range polygons {
		for _, q := range p {
			b = [4]float32{min(b[0], q.X), min(b[1], q.Y), max(b[2], q.X), max(b[3], q.Y)}
		}
	}
	return b
}

func overlapping(r *run) []Finding {
	return r.sharing(func(o *uv.Overlap) bool { return !o.Stacked && o.A != o.B }, func(n, _ int, share float64) string {
		return fmt.Sprintf("%d islands share %.3g %% of the tile by accident", n, share*100)
	})
}

func folded(r *run) []Finding {
	return r.sharing(func(o *uv.Overlap) bool { return o.A == o.B }, func(n, _ int, share float64) string {
		return fmt.Sprintf("%s over %.3g %% of the tile", counted(n, "island folds back", "islands fold back"), share*100)
	})
}

func stacked(r *run) []Finding {
	return r.sharing(func(o *uv.Overlap) bool { return o.Stacked }, func(n, mirrored int, share float64) string {
		text := fmt.Sprintf("%d islands are copies laid on each other", n)
		if mirrored > 0 {
			text += fmt.Sprintf(", %s of them mirrored", counted(mirrored, "pair", "pairs"))
		}
		return text
	})
}

// edge is how far UVs may reach over the border of the tile before it counts.
const edge = 1e-5

func outside(r *run) []Finding {
	if !r.m.HasUV {
		return nil
	}
	return r.perIsland(func(i *uv.Island) (float64, string, bool) {
		over := max(-i.Min.X, -i.Min.Y, i.Max.X-1, i.Max.Y-1)
		label := "across the border"
		if i.Min.X >= 1-edge || i.Min.Y >= 1-edge || i.Max.X <= edge || i.Max.Y <= edge {
			label = "wholly outside"
		}
		return float64(over), label, over > edge
	}, func(n int, worst float64) string {
		return fmt.Sprintf("%s beyond the tile, by %.3g of its side at most", counted(n, "island reaches", "islands reach"), worst)
	})
}

func near(r *run) (out []Finding) {
	by := make([][]uv.Near, len(r.sets))
	for _, n := range r.nearer {
		s := r.islands.Islands[n.A].Set
		by[s] = append(by[s], n)
	}
	for s, list := range by {
		if len(list) == 0 {
			continue
		}
		sort.SliceStable(list, func(a, b int) bool { return list[a].Distance < list[b].Distance })
		size := float64(r.o.Size(r.sets[s].Key))
		f := Finding{Set: r.sets[s].Name, Count: len(list),
			Detail: fmt.Sprintf("%s nearer than %g px at %g px, %.1f px at the least", counted(len(list), "pair of islands lies", "pairs of islands lie"), r.o.Padding, size, list[0].Distance*size)}
		for _, n := range list[:min(len(list), MaxPlaces)] {
			a, b := r.islands.Islands[n.A].Tris[0], r.islands.Islands[n.B].Tris[0]
			p := r.place(fmt.Sprintf("%s and %s, %.1f px apart", r.partOf(a), r.partOf(b), n.Distance*size), []int32{n.Tris[0], n.Tris[1]})
			d := float32(r.o.Padding / size)
			x, y := float32(n.At[0]), float32(n.At[1])
			p.UV = [4]float32{x - d, y - d, x + d, y + d}
			p.Shape = [][]geom.Vec2{{{X: x - d, Y: y - d}, {X: x + d, Y: y - d}, {X: x + d, Y: y + d}, {X: x - d, Y: y + d}}}
			f.Places = append(f.Places, p)
		}
		out = append(out, f)
	}
	return out
}

func mirrored(r *run) []Finding {
	return r.perIsland(func(i *uv.Island) (float64, string, bool) { return i.UVArea, "", i.Mirrored() },
		func(n int, _ float64) string {
			return fmt.Sprintf("%s turned over in UV space", counted(n, "island is", "islands are"))
		})
}

// stretchLimit is the mean ratio of the longest to the shortest direction from which an island counts
// as stretched.
const stretchLimit = 1.5

func stretched(r *run) []Finding {
	return r.perIsland(func(i *uv.Island) (float64, string, bool) {
		sum, area := 0.0, 0.0
		for _, t := range i.Tris {
			if long, short, ok := uv.Stretch(r.m, int(t)); ok {
				a := float64(r.m.Area(int(t)))
				sum += a * min(100, long/max(short, 1e-12))
				area += a
			}
		}
		if area == 0 {
			return 0, "", false
		}
		ratio := sum / area
		return ratio, fmt.Sprintf("%.1f : 1", ratio), ratio > stretchLimit
	}, func(n int, worst float64) string {
		return fmt.Sprintf("%s pulled more one way than the other, %.1f : 1 at the most", counted(n, "island is", "islands are"), worst)
	})
}

// densityLimit is how many times denser or coarser than the median counts as off.
const densityLimit = 2

func off(v, mid float64) (times float64, ok bool) {
	if v <= 0 || mid <= 0 {
		return 0, false
	}
	times = max(v/mid, mid/v)
	return times, times > densityLimit
}

func timesText(v, mid float64) string {
	if v > mid {
		return fmt.Sprintf("%.1f × denser", v/mid)
	}
	return fmt.Sprintf("%.1f × coarser", mid/v)
}

func islandDensity(r *run) []Finding {
	mids := make([]float64, len(r.sets))
	for s := range r.sets {
		var v, w []float64
		for i := range r.islands.Islands {
			if k := &r.islands.Islands[i]; k.Set == s {
				v, w = append(v, k.Density()), append(w, k.Area)
			}
		}
		mids[s] = geom.Quantile(v, w, 0.5)
	}
	return r.perIsland(func(i *uv.Island) (float64, string, bool) {
		d := i.Density()
		times, ok := off(d, mids[i.Set])
		return times, timesText(d, mids[i.Set]), ok
	}, func(n int, worst float64) string {
		return fmt.Sprintf("%s more than %d × off the set's median, %.1f × at the most", counted(n, "island is", "islands are"), densityLimit, worst)
	})
}

func setDensity(r *run) (out []Finding) {
	var v, w []float64
	for i := range r.sets {
		s := &r.sets[i]
		v, w = append(v, s.Density(r.o.Size(s.Key))), append(w, s.Area)
	}
	mid := geom.Quantile(v, w, 0.5)
	for i := range r.sets {
		if _, ok := off(v[i], mid); ok {
			out = append(out, Finding{Set: r.sets[i].Name, Count: 1, Places: []Place{r.place(r.sets[i].Name, r.sets[i].Tris)},
				Detail: fmt.Sprintf("%.0f px/m, %s than the asset's median of %.0f px/m", v[i], timesText(v[i], mid), mid)})
		}
	}
	return out
}

// unusedGrid is the grid on which the use of a tile is counted, in cells a side.
const unusedGrid = 512

// unusedLimit is the share of empty space that is told.
const unusedLimit = 0.4

func unused(r *run) (out []Finding) {
	for i := range r.sets {
		if empty := 1 - r.used[i]; empty > unusedLimit && empty < 1 {
			out = append(out, Finding{Set: r.sets[i].Name, Count: int(math.Round(empty * 100)), Detail: fmt.Sprintf("%.0f %% of the tile is empty", empty*100)})
		}
	}
	return out
}

func (r *run) faces(tris []int32, detail string) []Finding {
	if len(tris) == 0 {
		return nil
	}
	return []Finding{{Count: len(tris), Detail: detail, Places: r.byPart(tris)}}
}

func nonManifold(r *run) []Finding {
	list := r.faults.NonManifold
	if len(list) == 0 {
		return nil
	}
	f := Finding{Count: len(list), Detail: counted(len(list), "edge has more than two faces", "edges have more than two faces")}
	for _, tris := range list[:min(len(list), MaxPlaces)] {
		f.Places = append(f.Places, r.place(fmt.Sprintf("%s, %d faces on one edge", r.partOf(tris[0]), len(tris)), tris))
	}
	return []Finding{f}
}

func duplicate(r *run) []Finding {
	n := len(r.faults.Duplicate)
	return r.faces(r.faults.Duplicate, counted(n, "face lies on another", "faces lie on others"))
}

func flipped(r *run) []Finding {
	n := len(r.faults.Flipped)
	return r.faces(r.faults.Flipped, counted(n, "face looks the wrong way", "faces look the wrong way"))
}

func zeroArea(r *run) []Finding {
	n := len(r.faults.ZeroArea)
	return r.faces(r.faults.ZeroArea, counted(n, "face has no area", "faces have no area"))
}

func loose(r *run) []Finding {
	if r.m.Loose == 0 {
		return nil
	}
	return []Finding{{Count: r.m.Loose, Detail: counted(r.m.Loose, "vertex of the file is in no face", "vertices of the file are in no face")}}
}

func alikeNames(r *run) []Finding {
	if len(r.faults.Alike) == 0 {
		return nil
	}
	f := Finding{Count: len(r.faults.Alike), Detail: counted(len(r.faults.Alike), "group of parts differs only in case or separators", "groups of parts differ only in case or separators")}
	for _, g := range r.faults.Alike[:min(len(r.faults.Alike), MaxPlaces)] {
		var tris []int32
		for t, p := range r.m.Part {
			if slices.Contains(g, r.m.Parts[p]) {
				tris = append(tris, int32(t))
			}
		}
		f.Places = append(f.Places, r.place(fmt.Sprintf("“%s” and “%s”", g[0], g[1]), tris))
	}
	return []Finding{f}
}

func names(r *run) (out []Finding) {
	for i := range r.sets {
		s := &r.sets[i]
		if s.Name != s.Key && !r.o.Named[s.Key] {
			out = append(out, Finding{Set: s.Name, Count: 1, Detail: fmt.Sprintf("“%s” is “%s” now: %s", s.Key, s.Name, reasonOf(s.Key)), Places: []Place{r.place(s.Name, s.Tris)}})
		}
	}
	return out
}

func reasonOf(name string) string {
	if reason, _ := uv.CheckName(name, func(string) bool { return false }); reason != "" {
		return reason
	}
	return "another set has it"
}

// Sizes of an asset, in metres, beyond which its unit is doubted; common practice for props.
const (
	tooTall  = 60
	tooSmall = 0.005
)

func scale(r *run) []Finding {
	size := r.m.Bounds().Size()
	most := float64(max(size.X, size.Y, size.Z))
	if most <= tooTall && most >= tooSmall || most == 0 {
		return nil
	}
	f := Finding{Count: 1, Detail: fmt.Sprintf("the asset is %.3g m long at its longest", most)}
	for _, u := range mesh.Units {
		if k := most * u.Metres; most > tooTall && u.Metres < 1 && k <= 20 && k >= 0.05 && u.Name != "dm" && u.Name != "ft" {
			f.Remedy = fmt.Sprintf("If it was made in %s, it is %.3g m: choose that unit.", u.Name, k)
			break
		}
	}
	return []Finding{f}
}

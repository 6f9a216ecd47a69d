package compose

import (
	"math"

	"crust/internal/core/brush"
	"crust/internal/core/geom"
)

// strewn is places round those of a tile, at which strokes are evaluated that others take from.
type strewn struct {
	at *brush.Places
	of []int32 // by place: that of the tile that it belongs to; nil where they are the tile's own
}

// owner is the place of the tile that a place belongs to.
func (s *strewn) owner(i int) int {
	if s.of == nil {
		return i
	}
	return int(s.of[i])
}

// strokesAt is what strokes lay down at places: how much they cover, and their own values, if those are wanted.
type strokesAt struct {
	cover  []float32
	values [][]float32
}

// tintOf is which of strokes' own values are wanted, and what stands where a stroke has none.
type tintOf struct {
	way tinting
	own [3]float32
	of  string // the channel
}

// samples are how many places what is softened and what is smudged is taken from; fewer where that was worked on itself.
var samples = [][2]int{{24, 8}, {8, 4}, {1, 1}}

// runOf is the end of a run of strokes from one on that do the same with what lies there, and so do it together.
func runOf(list []*struck, from int) int {
	work := list[from].stroke.Work
	to := from + 1
	for (work == brush.WorkSoften || work == brush.WorkSmudge) && to < len(list) && list[to].stroke.Work == work {
		to++
	}
	return to
}

// runStart is the first of the run of strokes that one belongs to.
func runStart(list []*struck, i int) int {
	for i > 0 && runOf(list, i-1) > i {
		i--
	}
	return i
}

// resumes lists after how many strokes what they made is worth looking for, the most first: after the last ones, and before a run
// that the last one belongs to, of which all is done anew.
func resumes(list []*struck) (out []int) {
	all := len(list)
	for n := all; n > max(0, all-3); n-- {
		if n == all || runStart(list, n) == n {
			out = append(out, n)
		}
	}
	if n := runStart(list, all-1); n > 0 && n < all-2 {
		out = append(out, n)
	}
	return out
}

// strokesOn is what strokes lay down at places.
func (g *ground) strokesOn(k *scratch, list []*struck, t int, s *strewn, tint *tintOf, depth int) *strokesAt {
	n := len(s.at.X)
	out := &strokesAt{cover: make([]float32, n)}
	if tint != nil {
		for j := range tint.way.planes {
			out.values = append(out.values, make([]float32, n))
			fill(out.values[j], tint.own[j])
		}
	}
	cover := make([]float32, n)
	for i := 0; i < len(list); {
		l := list[i]
		if l.stroke.Work != "" {
			end := runOf(list, i)
			g.worked(k, list[:i], list[i:end], t, s, tint, depth, out)
			i = end
			continue
		}
		g.struckOn(k, l, t, s, cover)
		out.lay(g, t, l, s, cover, tint)
		i++
	}
	return out
}

// lay lays a stroke over what there is, as paint and tints do.
func (o *strokesAt) lay(g *ground, t int, l *struck, s *strewn, cover []float32, tint *tintOf) {
	rgb := [3]float32{}
	var each *[3][]float32
	if tint != nil {
		rgb = tint.own
		if v := l.stroke.Own; v != nil {
			if own, some := tint.way.of(v); some {
				rgb = own
			}
		}
		leans := tint.of == "normal" && l.stroke.Leans()
		if leans || tint.of == "colour" && l.stroke.Coloured() {
			each = new([3][]float32)
			for j := range each {
				each[j] = make([]float32, len(cover))
			}
			g.body.madeReady(l).Colours(s.at, each)
		}
		if leans {
			g.encode(t, s, each)
		}
	}
	for i, c := range cover {
		switch m := o.cover[i]; {
		case c <= 0:
		case l.stroke.Erase:
			o.cover[i] = m * (1 - c)
		default:
			now := m + (1-m)*c
			if each != nil {
				rgb = [3]float32{each[0][i], each[1][i], each[2][i]}
			}
			for j := range o.values {
				o.values[j][i] = (o.values[j][i]*m*(1-c) + rgb[j]*c) / now
			}
			o.cover[i] = now
		}
	}
}

// struckOn is what a stroke lays down at places; what it is held to and what it fills goes by the places of the tile.
func (g *ground) struckOn(k *scratch, l *struck, t int, s *strewn, cover []float32) {
	clear(cover)
	n := g.tiles[t].Len()
	if l.stroke.Fill != "" {
		whole := make([]float32, n)
		if g.fills(k, l, t, whole) {
			for i := range cover {
				cover[i] = whole[s.owner(i)]
			}
		}
		return
	}
	ink := g.body.madeReady(l)
	if ink == nil {
		return
	}
	ink.Lay(s.at, 0, ink.All(), cover)
	ink.Finish(s.at, cover)
	if l.stroke.Hold == nil {
		return
	}
	held := make([]float32, n)
	fill(held, 1)
	g.hold(k, g.places(k, t), ink, t, 0, held)
	for i := range cover {
		cover[i] *= held[s.owner(i)]
	}
}

// worked does what a run of strokes does with what those before them laid down: out is that, and changes where they work.
func (g *ground) worked(k *scratch, prior, run []*struck, t int, s *strewn, tint *tintOf, depth int, out *strokesAt) {
	n := len(s.at.X)
	cover := make([]float32, n)
	share := make([]float32, n) // how much of what is taken shows
	wide := make([]float32, n)  // squares of the radii that are softened over
	pull := make([]geom.Vec3, n)
	work := run[0].stroke.Work
	most := float32(0)
	for _, l := range run {
		g.struckOn(k, l, t, s, cover)
		ink := g.body.madeReady(l)
		blur := l.stroke.Blur()
		most = max(most, l.stroke.WorkReach())
		for i, c := range cover {
			if c <= 0 {
				continue
			}
			switch work {
			case brush.WorkSoften:
				wide[i] += c * blur * blur
				share[i] = 1
			case brush.WorkSmudge:
				pull[i] = pull[i].Add(ink.Pull(geom.Vec3{X: s.at.X[i], Y: s.at.Y[i], Z: s.at.Z[i]}))
				share[i] = max(share[i], l.stroke.Brush.Opacity)
			default:
				share[i] = c
			}
		}
	}
	count := samples[min(depth, len(samples)-1)]
	disc, line := brush.Round(count[0]), count[1]
	var which []int32 // places of s that are worked on
	for i, a := range share {
		if a > 0 {
			which = append(which, int32(i))
		}
	}
	if which == nil || depth > 6 {
		return
	}
	// Where it is taken from: one place after the other of each kind, so that places that follow each other lie near each other.
	from := &strewn{at: &brush.Places{Pitch: s.at.Pitch}}
	var weights []float32
	put := func(i int32, at, normal geom.Vec3) {
		at = g.body.fold(at)
		p := from.at
		p.X, p.Y, p.Z = append(p.X, at.X), append(p.Y, at.Y), append(p.Z, at.Z)
		p.NX, p.NY, p.NZ = append(p.NX, normal.X), append(p.NY, normal.Y), append(p.NZ, normal.Z)
		from.of = append(from.of, int32(s.owner(int(i))))
	}
	of := func(i int32) (at, normal geom.Vec3) {
		return geom.Vec3{X: s.at.X[i], Y: s.at.Y[i], Z: s.at.Z[i]}, geom.Vec3{X: s.at.NX[i], Y: s.at.NY[i], Z: s.at.NZ[i]}
	}
	switch work {
	case brush.WorkSoften:
		for _, d := range disc {
			weights = append(weights, d[2])
			for _, i := range which {
				at, normal := of(i)
				r := min(most, 2*float32(math.Sqrt(float64(wide[i]))))
				u, v := geom.Basis(normal)
				put(i, at.Add(u.Mul(d[0]*r)).Add(v.Mul(d[1]*r)), normal)
			}
		}
	case brush.WorkSmudge:
		for j := range line {
			f := (float32(j) + 1) / float32(line)
			weights = append(weights, 2*f/(float32(line)+1))
			for _, i := range which {
				at, normal := of(i)
				d := pull[i]
				if long := d.Len(); long > most {
					d = d.Mul(most / long)
				}
				put(i, at.Sub(d.Mul(f)), normal)
			}
		}
	default:
		weights = []float32{1}
		for _, i := range which {
			at, normal := of(i)
			q, m := run[0].stroke.Carry(at, normal)
			put(i, q, m)
		}
	}
	all := geom.EmptyBox()
	for i := range from.at.X {
		all = all.Add(geom.Vec3{X: from.at.X[i], Y: from.at.Y[i], Z: from.at.Z[i]})
	}
	from.at.Boxes = []geom.Box{all}
	from.at.FindRuns()
	got := g.strokesOn(k, prior, t, from, tint, depth+1)
	for n, i := range which {
		c := float32(0)
		var values [3]float32
		for j, w := range weights {
			at := j*len(which) + n
			m := w * got.cover[at]
			c += m
			for p := range out.values {
				values[p] += m * got.values[p][at]
			}
		}
		a := share[i]
		was := out.cover[i]
		now := was + (c-was)*a
		if c > 0 && now > 0 {
			for p := range out.values {
				out.values[p][i] = (out.values[p][i]*was*(1-a) + values[p]*a) / (was*(1-a) + c*a)
			}
		}
		out.cover[i] = now
	}
}

// encode turns ways in space that normals lean, at places, to components along tangent and bitangent as sources give them.
func (g *ground) encode(t int, s *strewn, ways *[3][]float32) {
	n := g.tiles[t].Len()
	tan, bit := make([]geom.Vec3, n), make([]geom.Vec3, n)
	g.each(t, func(from, to int, tri int32) {
		pu, pv := along(g.body.model, tri)
		u := pu.Norm()
		v := pv.Sub(u.Mul(pv.Dot(u))).Norm()
		for i := from; i < to; i++ {
			tan[i], bit[i] = u, v
		}
	})
	for i := range ways[0] {
		way, at := geom.Vec3{X: ways[0][i], Y: ways[1][i], Z: ways[2][i]}, s.owner(i)
		v := unit(way.Dot(tan[at]), way.Dot(bit[at]), 1)
		ways[0][i], ways[1][i] = (v[0]*32767+32768)/65535, (v[1]*32767+32768)/65535
	}
}

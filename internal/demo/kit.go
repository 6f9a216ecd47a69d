// Package demo makes the models of the Saltmere harbour scenario, low-poly and high-poly, in Go.
package demo

import (
	"math"
	"slices"

	"crust/internal/core/geom"
	"crust/internal/core/mesh"
)

// v3 is a float64 vector; shapes are computed in it and rounded once.
type v3 [3]float64

func (a v3) add(b v3) v3             { return v3{a[0] + b[0], a[1] + b[1], a[2] + b[2]} }
func (a v3) sub(b v3) v3             { return v3{a[0] - b[0], a[1] - b[1], a[2] - b[2]} }
func (a v3) mul(s float64) v3        { return v3{a[0] * s, a[1] * s, a[2] * s} }
func (a v3) dot(b v3) float64        { return a[0]*b[0] + a[1]*b[1] + a[2]*b[2] }
func (a v3) len() float64            { return math.Sqrt(a.dot(a)) }
func (a v3) norm() v3                { return a.mul(1 / max(1e-300, a.len())) }
func (a v3) lerp(b v3, t float64) v3 { return a.add(b.sub(a).mul(t)) }
func (a v3) cross(b v3) v3 {
	return v3{a[1]*b[2] - a[2]*b[1], a[2]*b[0] - a[0]*b[2], a[0]*b[1] - a[1]*b[0]}
}

// patch is a surface over s, t in 0–1 that becomes one UV island.
type patch struct {
	part string
	at   func(s, t float64) v3
	in   func(s, t float64) v3                 // a point on the inner side, to turn the faces outwards
	flat func(s, t float64) (float64, float64) // the surface unrolled, in metres
	// s and t of the low-poly's rows, and how fine the high-poly is, in metres.
	s, t []float64
	fine float64
	// along is how fine it is along t, where that differs.
	along float64
	long  [2]float64 // lengths along s and t in metres
	// bump moves the high-poly outwards, in metres; rows of s and t near creases get extra lines.
	bump             func(s, t float64) float64
	creaseS, creaseT []float64
	low, high        bool
}

// kit collects the patches of one material slot.
type kit struct {
	material string
	tile     int // column of its UDIM tile
	colour   [3]float32
	patches  []*patch
}

func (k *kit) add(p *patch) *patch {
	p.low, p.high = true, true
	if p.fine == 0 {
		p.fine = 0.01
	}
	if p.along == 0 {
		p.along = p.fine
	}
	if q := p.normal(0.5, 0.5); q.dot(p.at(0.5, 0.5).sub(p.in(0.5, 0.5))) < 0 {
		at, in, flat, bump := p.at, p.in, p.flat, p.bump
		p.at = func(s, t float64) v3 { return at(1-s, t) }
		p.in = func(s, t float64) v3 { return in(1-s, t) }
		p.flat = func(s, t float64) (float64, float64) { return flat(1-s, t) }
		if bump != nil {
			p.bump = func(s, t float64) float64 { return bump(1-s, t) }
		}
		p.s, p.creaseS = mirrored(p.s), mirrored(p.creaseS)
	}
	k.patches = append(k.patches, p)
	return p
}

func mirrored(v []float64) (out []float64) {
	for _, x := range slices.Backward(v) {
		out = append(out, 1-x)
	}
	return out
}

func (p *patch) normal(s, t float64) v3 {
	const h = 1e-5
	for _, pull := range []float64{0, 1e-3} {
		s, t := s+(0.5-s)*pull, t+(0.5-t)*pull
		a := p.at(s+h, t).sub(p.at(s-h, t)).cross(p.at(s, t+h).sub(p.at(s, t-h)))
		if a.len() > 1e-16 {
			return a.norm()
		}
	}
	return v3{0, 1, 0}
}

// lines returns n+1 even values from 0 to 1.
func lines(n int) (out []float64) {
	for i := range n + 1 {
		out = append(out, float64(i)/float64(n))
	}
	return out
}

// dense returns the high-poly's rows: the low-poly's own, with steps no longer than fine between
// them, and three times finer near creases.
func dense(low []float64, length, fine float64, creases []float64) []float64 {
	var out []float64
	for i := 1; i < len(low); i++ {
		a, b := low[i-1], low[i]
		n := max(1, int(math.Ceil((b-a)*length/fine)))
		for k := range n {
			out = append(out, a+(b-a)*float64(k)/float64(n))
		}
	}
	out = append(out, low[len(low)-1])
	const reach = 0.011
	for _, c := range creases {
		for d := -reach; d <= reach; d += 0.0022 {
			if v := c + d/length; v > 0 && v < 1 {
				out = append(out, v)
			}
		}
	}
	slices.Sort(out)
	return slices.CompactFunc(out, func(a, b float64) bool { return math.Abs(a-b)*length < 0.0008 })
}

// mesher turns patches into triangles.
type mesher struct {
	m    *mesh.Model
	part map[string]int32
}

func newMesher() *mesher { return &mesher{&mesh.Model{HasUV: true}, map[string]int32{}} }

func (w *mesher) partOf(name string) int32 {
	i, ok := w.part[name]
	if !ok {
		i = int32(len(w.m.Parts))
		w.part[name] = i
		w.m.Parts = append(w.m.Parts, name)
	}
	return i
}

// idColours are well apart in hue and lightness.
var idColours = [][3]uint8{
	{230, 60, 50}, {60, 140, 230}, {70, 190, 90}, {240, 190, 40}, {160, 80, 200}, {40, 190, 200},
	{240, 120, 180}, {130, 100, 60}, {180, 220, 90}, {90, 90, 210}, {250, 140, 60}, {120, 120, 120},
	{200, 60, 120}, {60, 110, 80}, {220, 210, 170}, {30, 70, 120}, {150, 30, 30}, {170, 170, 230},
}

// put adds the grid of a patch. place maps the unrolled surface into the UV square.
func (w *mesher) put(p *patch, mat int32, s, t []float64, bumped bool, place func(x, y float64) geom.Vec2) {
	part := w.partOf(p.part)
	colour := idColours[int(part)%len(idColours)]
	base := uint32(len(w.m.Positions))
	for _, b := range t {
		for _, a := range s {
			q := p.at(a, b)
			n := p.normal(a, b)
			if bumped && p.bump != nil {
				q = q.add(n.mul(p.bump(a, b)))
			}
			w.m.Positions = append(w.m.Positions, round(q))
			if bumped {
				w.m.Normals = append(w.m.Normals, geom.Vec3{}) // found from the faces
			} else {
				w.m.Normals = append(w.m.Normals, geom.Vec3{X: float32(n[0]), Y: float32(n[1]), Z: float32(n[2])})
			}
			w.m.UVs = append(w.m.UVs, place(p.flat(a, b)))
			w.m.Colours = append(w.m.Colours, colour)
		}
	}
	row := uint32(len(s))
	for j := range uint32(len(t) - 1) {
		for i := range row - 1 {
			k := base + j*row + i
			w.tri(k, k+1, k+row+1, mat, part)
			w.tri(k, k+row+1, k+row, mat, part)
		}
	}
}

func (w *mesher) tri(a, b, c uint32, mat, part int32) {
	p := w.m.Positions
	if p[b].Sub(p[a]).Cross(p[c].Sub(p[a])).Len() < 1e-12 {
		return
	}
	w.m.Tris = append(w.m.Tris, [3]uint32{a, b, c})
	w.m.Material = append(w.m.Material, mat)
	w.m.Part = append(w.m.Part, part)
}

// round snaps to micrometres, so that patches meet exactly where they should.
func round(p v3) geom.Vec3 {
	f := func(v float64) float32 { return float32(math.Round(v*1e6) / 1e6) }
	return geom.Vec3{X: f(p[0]), Y: f(p[1]), Z: f(p[2])}
}

// build lays out each kit's islands and makes both models.
func build(kits []*kit) (low, high *mesh.Model) {
	l, h := newMesher(), newMesher()
	for k, kit := range kits {
		mat := mesh.Material{Name: kit.material, Colour: kit.colour}
		l.m.Materials, h.m.Materials = append(l.m.Materials, mat), append(h.m.Materials, mat)
		var islands []island
		for i, p := range kit.patches {
			if p.low {
				islands = append(islands, measure(p, i))
			}
		}
		scale := pack(islands)
		at := map[int]island{}
		for _, r := range islands {
			at[r.index] = r
		}
		for i, p := range kit.patches {
			r := at[i]
			place := func(x, y float64) geom.Vec2 {
				x, y = (x-r.minX)*r.mirror, y-r.minY
				if r.mirror < 0 {
					x += r.w
				}
				if r.turned {
					x, y = y, r.w-x // a quarter turn keeps the hand
				}
				return geom.Vec2{X: float32(float64(kit.tile) + r.x + x*scale), Y: float32(r.y + y*scale)}
			}
			if p.low {
				l.put(p, int32(k), p.s, p.t, false, place)
			}
			if p.high {
				s, t := dense(p.s, p.long[0], p.fine, p.creaseS), dense(p.t, p.long[1], max(p.along, p.fine), p.creaseT)
				h.put(p, int32(k), s, t, true, func(x, y float64) geom.Vec2 { return geom.Vec2{} })
			}
		}
	}
	return l.m, h.m
}

// island is the unrolled rectangle of a patch; pack sets x, y (in UV) and turned.
type island struct {
	index            int
	minX, minY, w, h float64
	mirror           float64
	x, y             float64
	turned           bool
}

func measure(p *patch, i int) island {
	r := island{index: i, minX: math.Inf(1), minY: math.Inf(1), mirror: 1}
	maxX, maxY := math.Inf(-1), math.Inf(-1)
	for _, b := range dense(p.t, p.long[1], 0.05, nil) {
		for _, a := range dense(p.s, p.long[0], 0.05, nil) {
			x, y := p.flat(a, b)
			r.minX, r.minY = min(r.minX, x), min(r.minY, y)
			maxX, maxY = max(maxX, x), max(maxY, y)
		}
	}
	r.w, r.h = maxX-r.minX, maxY-r.minY
	const h = 1e-4
	x0, y0 := p.flat(0.5, 0.5)
	x1, y1 := p.flat(0.5+h, 0.5)
	x2, y2 := p.flat(0.5, 0.5+h)
	if (x1-x0)*(y2-y0)-(x2-x0)*(y1-y0) < 0 {
		r.mirror = -1
	}
	return r
}

// gap is half the distance kept between islands, as a share of the square.
const gap = 0.005

// pack finds the largest scale (UV per metre) at which all islands fit the square, by skyline
// placement of the tallest first.
func pack(islands []island) float64 {
	area := 0.0
	for i := range islands {
		r := &islands[i]
		area += r.w * r.h
		r.turned = r.h > r.w
	}
	slices.SortStableFunc(islands, func(a, b island) int {
		ha, hb := min(a.w, a.h), min(b.w, b.h)
		switch {
		case ha > hb:
			return -1
		case ha < hb:
			return 1
		}
		return 0
	})
	lo, hi := 0.0, math.Sqrt(1/area)
	for range 24 {
		mid := (lo + hi) / 2
		if skyline(islands, mid) {
			lo = mid
		} else {
			hi = mid
		}
	}
	skyline(islands, lo)
	return lo
}

type ledge struct{ x, y, w float64 }

func skyline(islands []island, scale float64) bool {
	sky := []ledge{{0, 0, 1}}
	for i := range islands {
		r := &islands[i]
		best, bestY, bestTurn := -1, 2.0, false
		for _, turn := range []bool{r.h > r.w, r.h <= r.w} {
			w, h := r.w*scale+2*gap, r.h*scale+2*gap
			if turn {
				w, h = h, w
			}
			for k := range sky {
				if y, ok := rest(sky, k, w); ok && y+h <= 1 && y+h < bestY {
					best, bestY, bestTurn = k, y+h, turn
				}
			}
		}
		if best < 0 {
			return false
		}
		w, h := r.w*scale+2*gap, r.h*scale+2*gap
		if bestTurn {
			w, h = h, w
		}
		r.turned = bestTurn
		r.x, r.y = sky[best].x+gap, bestY-h+gap
		sky = raise(sky, best, w, bestY)
	}
	return true
}

// rest is the height at which a width w lies when its left end is at ledge k.
func rest(sky []ledge, k int, w float64) (y float64, ok bool) {
	if sky[k].x+w > 1+1e-9 {
		return 0, false
	}
	for left := w; left > 1e-9 && k < len(sky); k++ {
		y = max(y, sky[k].y)
		left -= sky[k].w
	}
	return y, true
}

func raise(sky []ledge, k int, w, y float64) []ledge {
	x := sky[k].x
	out := append([]ledge{}, sky[:k]...)
	out = append(out, ledge{x, y, w})
	for _, l := range sky[k:] {
		end := l.x + l.w
		if end <= x+w+1e-9 {
			continue
		}
		begin := max(l.x, x+w)
		out = append(out, ledge{begin, l.y, end - begin})
	}
	return out
}

package demo

import (
	"math"
	"math/rand/v2"
	"strings"

	"crust/internal/core/brush"
	"crust/internal/core/geom"
	"crust/internal/core/letters"
	"crust/internal/core/mesh"
	"crust/internal/core/strata"
)

// glyphs are stencilled letters as lines in a box 0.6 wide and 1 tall, with the bridges that hold a stencil together.
var glyphs = map[rune][][][2]float64{
	'1': {{{0.12, 0.76}, {0.3, 1}}, {{0.3, 1}, {0.3, 0.56}}, {{0.3, 0.44}, {0.3, 0}}},
	'2': {{{0.03, 0.75}, {0.1, 0.93}, {0.3, 1}, {0.5, 0.93}, {0.57, 0.75}, {0.5, 0.58}}, {{0.43, 0.47}, {0.03, 0}}, {{0.03, 0}, {0.58, 0}}},
}

// hand paints on a model: it finds where lines that are drawn before it fall.
type hand struct {
	m *mesh.Model
	r *rand.Rand
	// ray is where a line's place, in metres to the right and up, is looked for.
	ray func(x, y float64) (from, way geom.Vec3)
}

// line is a stroke along a line, with the pressure of a hand over its course where lively.
func (h *hand) line(b brush.Brush, size float64, lively bool, line [][2]float64) *brush.Stroke {
	s := &brush.Stroke{Brush: b, Size: float32(size), Seed: h.r.Uint32() | 1}
	total := 0.0
	for i := 1; i < len(line); i++ {
		total += math.Hypot(line[i][0]-line[i-1][0], line[i][1]-line[i-1][1])
	}
	gone := 0.0
	var path []brush.Point
	put := func(x, y float64) {
		from, way := h.ray(x, y)
		p, n, ok := h.m.FirstHit(from, way)
		if !ok {
			return
		}
		press := float32(1)
		if lively {
			press = max(0.15, brush.HandAt(gone/max(total, 1e-9)))
		}
		path = append(path, brush.Point{p.X, p.Y, p.Z, n.X, n.Y, n.Z, press})
	}
	put(line[0][0], line[0][1])
	for i := 1; i < len(line); i++ {
		x, y := line[i][0]-line[i-1][0], line[i][1]-line[i-1][1]
		d := math.Hypot(x, y)
		steps := max(1, int(d/(size*0.3)))
		for k := range steps {
			f := float64(k+1) / float64(steps)
			gone += d / float64(steps)
			put(line[i-1][0]+x*f, line[i-1][1]+y*f)
		}
	}
	if path == nil {
		return nil
	}
	s.Paths = [][]brush.Point{path}
	return s
}

// text is words in stencilled letters, so tall, with their middle at (0, 0).
func (h *hand) text(words string, tall, size float64, b brush.Brush) (out []*brush.Stroke) {
	const wide, gap = 0.6, 0.3
	n := float64(len(words))
	x0 := -(n*wide + (n-1)*gap) / 2
	for _, c := range words {
		for _, line := range glyphs[c] {
			var at [][2]float64
			for _, p := range line {
				at = append(at, [2]float64{(x0 + p[0]) * tall, (p[1] - 0.5) * tall})
			}
			if s := h.line(b, size, false, at); s != nil {
				out = append(out, s)
			}
		}
		x0 += wide + gap
	}
	return out
}

// stamp is a text in stencilled letters whose capitals are so high, with its middle at (0, 0) and along x.
func (h *hand) stamp(words, font string, high float64) *brush.Stroke {
	s := h.line(brush.New(), high, false, [][2]float64{{0, 0}, {0.1 * high, 0}})
	if s != nil {
		path := s.Paths[0]
		n := path[0].Normal()
		along := path[len(path)-1].At().Sub(path[0].At())
		right := geom.Vec3{Y: 1}.Cross(n).Norm() // as tips stand on walls
		s.Brush.Turn = float32(math.Round(math.Atan2(float64(along.Dot(n.Cross(right))), float64(along.Dot(right)))*18000/math.Pi) / 100)
		s.Paths[0] = path[:1]
		s.Stamp = &brush.Stamp{Text: &letters.Text{Words: words, Font: font, Apart: 0.06, Stencil: true}}
	}
	return s
}

// painter gathers strokes for the brush clauses of layers.
type painter struct {
	doc     *strata.Document
	painted strata.Painting
}

// on lays strokes in the first brush clause of a layer.
func (p *painter) on(layer string, strokes []*brush.Stroke) {
	l, err := p.doc.Named(layer)
	if err != nil {
		panic(err) // layers are named in this program's own tables
	}
	for k := range l.Where {
		if l.Where[k].Kind != "brush" {
			continue
		}
		for _, s := range strokes {
			if s == nil {
				continue
			}
			n := int32(len(p.painted) + 1)
			p.painted[n] = s
			l.Where[k].Strokes = append(l.Where[k].Strokes, n)
		}
		return
	}
	panic("demo: no brush clause in " + strings.TrimSpace(layer))
}

// built is a brush that ships.
func built(name string, set func(b *brush.Brush)) brush.Brush {
	b, err := brush.BuiltIn(name)
	if err != nil {
		panic(err) // brushes are named in this program's own tables
	}
	if set != nil {
		set(&b)
	}
	return b
}

// outside looks at a body of revolution from outside: x is metres along its side at a radius, y height; 0 is at an angle.
func outside(angle, radius, height float64) func(x, y float64) (from, way geom.Vec3) {
	return func(x, y float64) (from, way geom.Vec3) {
		sin, cos := math.Sincos(angle - x/radius)
		out := geom.Vec3{X: float32(cos), Z: float32(sin)}
		from = out.Mul(float32(radius) * 2)
		from.Y = float32(height + y)
		return from, out.Neg()
	}
}

// paintBuoy is what hands have painted on the buoy: its number and its harbour's name on either side, chips along the shoulder, and a repair at the waterline.
func paintBuoy(doc *strata.Document, low *mesh.Model) strata.Painting {
	p := &painter{doc, strata.Painting{}}
	r := rand.New(rand.NewPCG(12, 12))
	h := &hand{m: low, r: r}
	round := built("Round, hard", func(b *brush.Brush) { b.Hardness, b.PressSize = 0.92, 0 })
	for _, angle := range []float64{0.9, 0.9 + math.Pi} {
		h.ray = outside(angle, 0.9, 0.735)
		p.on("Number", h.text("12", 0.17, 0.03, round))
		h.ray = outside(angle+0.62, 0.9, 0.735)
		p.on("Number", []*brush.Stroke{h.stamp("SALTMERE", "tall", 0.105)})
	}
	chip := built("Chip", nil)
	for i := range 26 {
		a := turn * (float64(i) + 0.6*r.Float64()) / 26
		h.ray = outside(a, 0.9, 0.842)
		var line [][2]float64
		for x := 0.0; x < 0.03+0.12*r.Float64()*r.Float64(); x += 0.02 {
			line = append(line, [2]float64{x, 0.012 * (r.Float64() - 0.5)})
		}
		p.on("Wear", []*brush.Stroke{h.line(chip, 0.014+0.03*r.Float64()*r.Float64(), true, line)})
	}
	bristle := built("Dry bristle", func(b *brush.Brush) { b.Grain, b.Flow = 0.05, 0.75 })
	h.ray = outside(1.25, 0.9, 0.36)
	for i := range 9 {
		y := 0.075 - 0.019*float64(i)
		x := 0.2 + 0.06*r.Float64()
		line := [][2]float64{{-x, y + 0.006*r.Float64()}, {0, y}, {x + 0.05*r.Float64(), y - 0.006*r.Float64()}}
		p.on("Waterline repair", []*brush.Stroke{h.line(bristle, 0.05, true, line)})
	}
	return p.painted
}

// paintWinch is the load that was stencilled on the winch's plate.
func paintWinch(doc *strata.Document, low *mesh.Model) strata.Painting {
	p := &painter{doc, strata.Painting{}}
	middle, right, up := loadPlate()
	h := &hand{m: low, r: rand.New(rand.NewPCG(3, 3)), ray: func(x, y float64) (from, way geom.Vec3) {
		at := middle.add(right.mul(x)).add(up.mul(y)).add(v3{0.05, 0, 0})
		return geom.Vec3{X: float32(at[0]), Y: float32(at[1]), Z: float32(at[2])}, geom.Vec3{X: -1}
	}}
	p.on("Load", []*brush.Stroke{h.stamp("SWL 3 T", "plate", 0.028)})
	return p.painted
}

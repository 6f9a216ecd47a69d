// Package letters has text as outlines of the fonts that ship, laid out in lines, so that it is as sharp at any size as the
// places where it is asked for.
package letters

import (
	"embed"
	"errors"
	"fmt"
	"math"
	"strings"
	"sync"
	"unicode/utf8"

	"golang.org/x/image/font"
	"golang.org/x/image/font/sfnt"
	"golang.org/x/image/math/fixed"
)

//go:embed fonts/*.otf fonts/*.ttf
var files embed.FS

// Font is a font that ships.
type Font struct {
	Name  string `json:"name"` // as documents hold it
	Label string `json:"label"`
	file  string
	face  func() *face
}

// Fonts lists the fonts in the order in which they are offered; the first is the one that text has of itself.
var Fonts = []Font{
	{Name: "tall", Label: "Tall capitals (Bebas Neue)", file: "bebas-neue-bold.otf"},
	{Name: "plate", Label: "Road and plate (Open DIN)", file: "open-din.ttf"},
	{Name: "engraved", Label: "Engraved legend (Routed Gothic)", file: "routed-gothic.ttf"},
	{Name: "block", Label: "Wide block (League Spartan)", file: "league-spartan-bold.otf"},
	{Name: "even", Label: "Even widths (League Mono)", file: "league-mono-bold.otf"},
}

func init() {
	for i := range Fonts {
		f := &Fonts[i]
		f.face = sync.OnceValue(func() *face {
			data, err := files.ReadFile("fonts/" + f.file)
			if err != nil {
				panic(err) // it is part of the program
			}
			font, err := sfnt.Parse(data)
			if err != nil {
				panic(err)
			}
			return newFace(font)
		})
	}
}

// Limits of a text.
const (
	MaxLetters = 120
	MaxLines   = 8
)

// Text is what is written, and how.
type Text struct {
	Words   string  `json:"words"`             // lines are parted by \n
	Font    string  `json:"font,omitempty"`    // name of one of Fonts; empty for the first
	Apart   float32 `json:"apart,omitempty"`   // room added between letters, in heights of a capital
	Stencil bool    `json:"stencil,omitempty"` // bridges hold what lies inside letters, as in a stencil cut of sheet
	Side    string  `json:"side,omitempty"`    // where lines stand: one of Sides
}

// Sides lists where the lines of a text stand: in the middle, at the left, at the right.
var Sides = []string{"", "left", "right"}

// Check says what is wrong with a text.
func (t *Text) Check() error {
	switch {
	case !utf8.ValidString(t.Words) || strings.TrimSpace(t.Words) == "":
		return errors.New("a text has at least one letter")
	case utf8.RuneCountInString(t.Words) > MaxLetters || strings.Count(t.Words, "\n") >= MaxLines:
		return fmt.Errorf("a text has at most %d letters in %d lines", MaxLetters, MaxLines)
	case !(t.Apart >= -0.2 && t.Apart <= 4):
		return fmt.Errorf("the room between letters is %g; it goes from -0.2 to 4", t.Apart)
	}
	side := false
	for _, s := range Sides {
		side = side || s == t.Side
	}
	if !side {
		return fmt.Errorf("lines cannot stand at “%s”; use left or right, or leave it out", t.Side)
	}
	f, err := fontOf(t.Font)
	if err != nil {
		return err
	}
	for _, r := range t.Words {
		if r != '\n' && !f.face().has(r) {
			return fmt.Errorf("the font %s has no “%c”", f.Name, r)
		}
	}
	return nil
}

func fontOf(name string) (*Font, error) {
	var names []string
	for i := range Fonts {
		if Fonts[i].Name == name || name == "" {
			return &Fonts[i], nil
		}
		names = append(names, Fonts[i].Name)
	}
	return nil, fmt.Errorf("there is no font “%s”; use %s", name, strings.Join(names, ", "))
}

// Outline is a text made ready: letters where they stand, in heights of a capital, about the middle of all of it; y goes up.
type Outline struct {
	Wide, High float32 // half of each
	placed     []placed
	bridge     bool
}

type placed struct {
	g    *glyph
	x, y float32
}

// lineHigh is from one line to the next, in heights of a capital.
const lineHigh = 1.45

// Outline lays the text out. It has to be sound.
func (t *Text) Outline() *Outline {
	f, err := fontOf(t.Font)
	if err != nil {
		return &Outline{}
	}
	face := f.face()
	lines := strings.Split(t.Words, "\n")
	o := &Outline{bridge: t.Stencil}
	widths := make([]float32, len(lines))
	var rows [][]placed
	for i, line := range lines {
		var row []placed
		x, before := float32(0), rune(0)
		for _, r := range line {
			g := face.glyph(r)
			if before != 0 {
				x += face.kern(before, r) + t.Apart
			}
			row = append(row, placed{g: g, x: x})
			x += g.advance
			before = r
		}
		widths[i] = x
		o.Wide = max(o.Wide, x/2)
		rows = append(rows, row)
	}
	o.High = (1 + lineHigh*float32(len(lines)-1)) / 2
	for i, row := range rows {
		x := -widths[i] / 2
		switch t.Side {
		case "left":
			x = -o.Wide
		case "right":
			x = o.Wide - widths[i]
		}
		for _, p := range row {
			if len(p.g.segments) == 0 {
				continue
			}
			p.x += x
			p.y = o.High - 1 - lineHigh*float32(i)
			o.placed = append(o.placed, p)
		}
	}
	// Letters may hang below the last line, or stand out of the first one.
	for _, p := range o.placed {
		o.Wide = max(o.Wide, -(p.x + p.g.low[0]), p.x+p.g.high[0])
		o.High = max(o.High, -(p.y + p.g.low[1]), p.y+p.g.high[1])
	}
	return o
}

// Inside is how far a place lies inside the letters, below 0 outside; further than reach outside it is −reach.
func (o *Outline) Inside(x, y, reach float32) float32 {
	best := -reach
	for i := range o.placed {
		p := &o.placed[i]
		best = max(best, p.g.inside(x-p.x, y-p.y, reach, o.bridge))
	}
	return best
}

// face is a font with its glyphs as far as they were asked for.
type face struct {
	font *sfnt.Font
	ppem fixed.Int26_6
	unit float32 // heights of a capital to a unit of the font
	mu   sync.Mutex
	buf  sfnt.Buffer
	made map[rune]*glyph
}

func newFace(f *sfnt.Font) *face {
	a := &face{font: f, ppem: fixed.Int26_6(f.UnitsPerEm()) << 6, made: map[rune]*glyph{}}
	// What a capital is high is measured, since not all fonts say so.
	i, err := f.GlyphIndex(&a.buf, 'H')
	if err != nil {
		panic(err) // fonts that ship have capitals
	}
	box, _, err := f.GlyphBounds(&a.buf, i, a.ppem, font.HintingNone)
	if err != nil {
		panic(err)
	}
	a.unit = -64 / float32(box.Min.Y)
	return a
}

func (a *face) has(r rune) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	i, err := a.font.GlyphIndex(&a.buf, r)
	return err == nil && i != 0
}

func (a *face) kern(r, s rune) float32 {
	a.mu.Lock()
	defer a.mu.Unlock()
	i, _ := a.font.GlyphIndex(&a.buf, r)
	j, _ := a.font.GlyphIndex(&a.buf, s)
	k, err := a.font.Kern(&a.buf, i, j, a.ppem, font.HintingNone)
	if err != nil {
		return 0 // the font has none
	}
	return float32(k) / 64 * a.unit
}

// glyph is a letter's outline.
type glyph struct {
	advance   float32
	segments  []segment
	low, high [2]float32
	bridges   []float32 // where bridges stand
	// far is how far the middles of a grid's cells lie inside.
	far  []float32
	wide int
	cell float32
}

// segment is a straight piece of an outline.
type segment struct{ ax, ay, bx, by float32 }

// fine is how many cells a glyph has to the height of a capital, and smooth how far straight pieces may lie from a curve.
const (
	fine   = 32
	smooth = 1. / 1500
	bridge = 0.05 // half of a bridge's width, in heights of a capital
)

func (a *face) glyph(r rune) *glyph {
	a.mu.Lock()
	defer a.mu.Unlock()
	if g := a.made[r]; g != nil {
		return g
	}
	g := &glyph{}
	a.made[r] = g
	i, err := a.font.GlyphIndex(&a.buf, r)
	if err != nil {
		return g
	}
	if w, err := a.font.GlyphAdvance(&a.buf, i, a.ppem, font.HintingNone); err == nil {
		g.advance = float32(w) / 64 * a.unit
	}
	all, err := a.font.LoadGlyph(&a.buf, i, a.ppem, nil)
	if err != nil {
		return g
	}
	at := func(p fixed.Point26_6) [2]float32 {
		return [2]float32{float32(p.X) / 64 * a.unit, -float32(p.Y) / 64 * a.unit}
	}
	var loops [][][2]float32
	for _, s := range all {
		if s.Op == sfnt.SegmentOpMoveTo {
			loops = append(loops, [][2]float32{at(s.Args[0])})
			continue
		}
		loop := &loops[len(loops)-1]
		from := (*loop)[len(*loop)-1]
		switch s.Op {
		case sfnt.SegmentOpLineTo:
			*loop = append(*loop, at(s.Args[0]))
		case sfnt.SegmentOpQuadTo:
			b, c := at(s.Args[0]), at(s.Args[1])
			// A quadratic curve raised to a cubic one.
			*loop = curve(*loop, from, mix(from, b, 2./3), mix(c, b, 2./3), c, 0)
		case sfnt.SegmentOpCubeTo:
			*loop = curve(*loop, from, at(s.Args[0]), at(s.Args[1]), at(s.Args[2]), 0)
		}
	}
	g.take(loops)
	return g
}

func mix(a, b [2]float32, t float32) [2]float32 {
	return [2]float32{a[0] + (b[0]-a[0])*t, a[1] + (b[1]-a[1])*t}
}

// curve halves a cubic curve until straight pieces do (de Casteljau), and adds their ends.
func curve(to [][2]float32, a, b, c, d [2]float32, depth int) [][2]float32 {
	// Twice the distance of the inner points from thirds of the chord bounds that of the curve.
	off := max(length(mix(a, d, 1./3), b), length(mix(a, d, 2./3), c))
	if depth > 8 || off < smooth {
		return append(to, d)
	}
	ab, bc, cd := mix(a, b, 0.5), mix(b, c, 0.5), mix(c, d, 0.5)
	abc, bcd := mix(ab, bc, 0.5), mix(bc, cd, 0.5)
	m := mix(abc, bcd, 0.5)
	return curve(curve(to, a, ab, abc, m, depth+1), m, bcd, cd, d, depth+1)
}

func length(a, b [2]float32) float32 {
	return float32(math.Hypot(float64(a[0]-b[0]), float64(a[1]-b[1])))
}

// take makes the glyph of loops, each of which closes itself.
func (g *glyph) take(loops [][][2]float32) {
	inf := float32(math.Inf(1))
	g.low, g.high = [2]float32{inf, inf}, [2]float32{-inf, -inf}
	for _, loop := range loops {
		for i, p := range loop {
			q := loop[(i+1)%len(loop)]
			if p != q {
				g.segments = append(g.segments, segment{p[0], p[1], q[0], q[1]})
			}
			for k := range p {
				g.low[k], g.high[k] = min(g.low[k], p[k]), max(g.high[k], p[k])
			}
		}
	}
	if len(g.segments) == 0 {
		g.low, g.high = [2]float32{}, [2]float32{}
		return
	}
	// What lies inside of a letter is held by a bridge over its middle.
	for i, loop := range loops {
		if hole(loops, i) {
			low, high := inf, -inf
			for _, p := range loop {
				low, high = min(low, p[0]), max(high, p[0])
			}
			middle := (low + high) / 2
			// One above the other share a bridge.
			if n := len(g.bridges); n > 0 && max(middle-g.bridges[n-1], g.bridges[n-1]-middle) < 3*bridge {
				g.bridges[n-1] = (middle + g.bridges[n-1]) / 2
			} else {
				g.bridges = append(g.bridges, middle)
			}
		}
	}
	g.cell = 1. / fine
	g.wide = int((g.high[0]-g.low[0])/g.cell) + 1
	high := int((g.high[1]-g.low[1])/g.cell) + 1
	g.far = make([]float32, g.wide*high)
	for j := range high {
		for i := range g.wide {
			g.far[j*g.wide+i] = g.exact(g.low[0]+(float32(i)+0.5)*g.cell, g.low[1]+(float32(j)+0.5)*g.cell)
		}
	}
}

// hole tells whether a loop lies inside of others, an odd number of them.
func hole(loops [][][2]float32, i int) bool {
	p := loops[i][0]
	odd := false
	for k, loop := range loops {
		if k == i {
			continue
		}
		in := false
		for n, a := range loop {
			b := loop[(n+1)%len(loop)]
			if (a[1] <= p[1]) != (b[1] <= p[1]) && a[0]+(p[1]-a[1])/(b[1]-a[1])*(b[0]-a[0]) > p[0] {
				in = !in
			}
		}
		odd = odd != in
	}
	return odd
}

// inside is how far a place lies inside, no less than −reach.
func (g *glyph) inside(x, y, reach float32, stencil bool) float32 {
	if x < g.low[0]-reach || y < g.low[1]-reach || x > g.high[0]+reach || y > g.high[1]+reach {
		return -reach
	}
	i, j := int((x-g.low[0])/g.cell), int((y-g.low[1])/g.cell)
	i, j = min(max(i, 0), g.wide-1), min(max(j, 0), len(g.far)/g.wide-1)
	far := g.far[j*g.wide+i]
	// It changes no more than the place does.
	d := far
	off := length([2]float32{x, y}, [2]float32{g.low[0] + (float32(i)+0.5)*g.cell, g.low[1] + (float32(j)+0.5)*g.cell})
	if far-off < reach && far+off > -reach {
		d = g.exact(x, y)
	}
	if stencil {
		for _, at := range g.bridges {
			d = min(d, max(x-at, at-x)-bridge)
		}
	}
	return max(d, -reach)
}

// exact is the distance to the outline, below 0 outside of it: where loops wind round a place no times.
func (g *glyph) exact(x, y float32) float32 {
	least, turns := float32(math.MaxFloat32), 0
	for i := range g.segments {
		s := &g.segments[i]
		dx, dy := s.bx-s.ax, s.by-s.ay
		px, py := x-s.ax, y-s.ay
		t := min(1, max(0, (px*dx+py*dy)/(dx*dx+dy*dy)))
		ex, ey := px-dx*t, py-dy*t
		least = min(least, ex*ex+ey*ey)
		if (s.ay <= y) != (s.by <= y) && s.ax+py/dy*dx > x {
			if dy > 0 {
				turns++
			} else {
				turns--
			}
		}
	}
	d := float32(math.Sqrt(float64(least)))
	if turns == 0 {
		return -d
	}
	return d
}

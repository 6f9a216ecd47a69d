package brush

import (
	"math"

	"crust/internal/core/geom"
)

// Hand is the pressure of a hand over the course of a stroke: it comes down, wavers, presses on in the middle and lifts. It was
// written down, not measured; it stands in for a pen where there is none, and makes the specimens.
var Hand = []float32{0.05, 0.32, 0.55, 0.66, 0.62, 0.69, 0.78, 0.86, 0.9, 0.94, 0.97, 0.93, 0.96, 1, 0.98, 0.92, 0.95, 0.88, 0.82, 0.84, 0.75, 0.68, 0.6, 0.45, 0.28, 0.06}

// HandAt is the pressure of a hand at a share of a stroke.
func HandAt(share float64) float32 {
	x := min(max(share, 0), 1) * float64(len(Hand)-1)
	i := min(int(x), len(Hand)-2)
	f := float32(x - float64(i))
	return Hand[i] + (Hand[i+1]-Hand[i])*f
}

// Specimen is a stroke of a brush across a strip of w × h px, as it comes out on a flat surface: what it lays down in 8 bits, rows
// from the top. size is how wide the brush is, in px.
func Specimen(b Brush, alpha *Alpha, w, h int, size float64) []uint8 {
	const points = 48
	s := &Stroke{Brush: b, Size: float32(size), Seed: 11, Paths: [][]Point{nil}}
	s.Attach(alpha)
	margin := min(float64(w)/4, size*0.75+4)
	for i := range points {
		at := float64(i) / (points - 1)
		x := margin + (float64(w)-2*margin)*at
		y := float64(h)/2 - math.Sin(at*2*math.Pi)*min(float64(h)*0.16, size*0.5)
		s.Paths[0] = append(s.Paths[0], Point{float32(x), float32(float64(h) - y), 0, 0, 0, 1, HandAt(at)})
	}
	return onPaper(s, w, h)
}

// Face is what a stamp lays down on a flat surface, in 8 bits, rows from the top, scaled to fill a square of side px.
func Face(s *Stroke, side int) []uint8 {
	one := *s
	one.Hold, one.Again, one.Fill = nil, nil, ""
	one.Stamp = &Stamp{Text: s.Stamp.Text}
	one.Brush.Turn, one.Brush.Scatter, one.Brush.Way, one.Brush.JitterTurn, one.Brush.JitterSize = 0, 0, 0, 0, 0
	wide, high := one.Half()
	one.Size *= float32(side) * 0.46 / max(wide, high)
	middle := float32(side) / 2
	one.Paths = [][]Point{{{middle, middle, 0, 0, 0, 1, 1}}}
	return onPaper(&one, side, side)
}

// onPaper is what a stroke lays down on a sheet of w × h px, its lower left corner at the origin.
func onPaper(s *Stroke, w, h int) []uint8 {
	n := w * h
	all := make([]float32, 6*n)
	p := &Places{X: all[:n], Y: all[n : 2*n], Z: all[2*n : 3*n], NX: all[3*n : 4*n], NY: all[4*n : 5*n], NZ: all[5*n:], Pitch: 1, Boxes: []geom.Box{{Max: geom.Vec3{X: float32(w), Y: float32(h)}}}}
	for i := range n {
		p.X[i], p.Y[i], p.NZ[i] = float32(i%w)+0.5, float32(h-i/w)-0.5, 1
	}
	p.FindRuns()
	ink, cover := Ready(s), make([]float32, n)
	ink.Lay(p, 0, ink.All(), cover)
	ink.Finish(p, cover)
	out := make([]uint8, n)
	for i, c := range cover {
		out[i] = uint8(c*255 + 0.5)
	}
	return out
}

package light

import (
	"context"
	"fmt"
	"math"
	"strings"

	"crust/internal/core/par"
)

// Surroundings are light from all around, made from formulas: linear RGB by direction, in units of Nits.
type Surroundings struct {
	Name  string `json:"name"`
	Label string `json:"label"`
	Help  string `json:"help"`
	// Nits that 1 stands for.
	Nits float64 `json:"nits"`
	// Key is what of them casts shadows: the way to it, its colour times its strength, in lux of 1 · Nits. Zero for none.
	Key      [3]float64 `json:"key"`
	KeyLight [3]float64 `json:"keyLight"`
	at       func(d [3]float64) [3]float64
}

// All lists the surroundings that ship; the first is the one that assets begin with.
var All = []Surroundings{
	{"quay", "Overcast quay", "a bright veil of cloud, the sea to one side, sheds to the other", 1400, Sun, [3]float64{2.3, 2.03, 1.71}, quay},
	{"low-sun", "Low sun", "a clear evening: warm light from the side, blue shadows", 1400, norm([3]float64{0.78, 0.3, -0.55}), [3]float64{3.6, 2.3, 1.2}, lowSun},
	{"shed", "Shed, two windows", "indoors: two tall windows, dim walls", 260, [3]float64{}, [3]float64{}, shed},
	{"softbox", "Softboxes", "a studio: a large soft light, a smaller one, a strip for the rim", 900, [3]float64{}, [3]float64{}, softbox},
	{"night", "Night lamps", "few warm lamps and one cold, a dark sky", 30, [3]float64{}, [3]float64{}, night},
	{"grey", "Even grey", "the same from everywhere: what is seen is the surface's own", 1400, [3]float64{}, [3]float64{}, func([3]float64) [3]float64 { return [3]float64{0.9, 0.9, 0.9} }},
}

// Own is what the names of surroundings begin with that are pictures of the asset; the picture's mark follows.
const Own = "picture:"

// own are surroundings of a picture, in which 1 is about as bright as an overcast sky.
var own = Surroundings{Label: "Own", Nits: 1400}

// Of finds surroundings by name.
func Of(name string) (*Surroundings, error) {
	if strings.HasPrefix(name, Own) && len(name) < 200 {
		return &own, nil
	}
	var names []string
	for i := range All {
		if All[i].Name == name {
			return &All[i], nil
		}
		names = append(names, All[i].Name)
	}
	return nil, fmt.Errorf("“%s” are no surroundings; use %s", name, strings.Join(names, ", "))
}

// Panorama makes them as a picture of a width. Each texel is the mean of some directions in it.
func (s *Surroundings) Panorama(width int) *Environment {
	if s.Name == "quay" {
		return Quay(width)
	}
	const n = 3
	e := &Environment{Width: width, Height: width / 2, Pix: make([]float32, width*width/2*3)}
	_ = par.Blocks(context.Background(), e.Height, 1, func(_, y, _ int) {
		for x := range width {
			var sum [3]float64
			for k := range n * n {
				v := math.Pi * (float64(y) + (float64(k/n)+0.5)/n) / float64(e.Height)
				u := 2 * math.Pi * (float64(x) + (float64(k%n)+0.5)/n) / float64(width)
				c := s.at([3]float64{math.Sin(v) * math.Cos(u), math.Cos(v), math.Sin(v) * math.Sin(u)})
				for i := range sum {
					sum[i] += c[i]
				}
			}
			for i := range sum {
				e.Pix[(y*width+x)*3+i] = float32(sum[i] / (n * n))
			}
		}
	})
	return e
}

func dot(a, b [3]float64) float64 { return a[0]*b[0] + a[1]*b[1] + a[2]*b[2] }

func mixed(a, b [3]float64, t float64) (out [3]float64) {
	t = min(1, max(0, t))
	for k := range out {
		out[k] = a[k] + (b[k]-a[k])*t
	}
	return out
}

func scaled(a [3]float64, by float64) [3]float64 { return [3]float64{a[0] * by, a[1] * by, a[2] * by} }

// lowSun is a clear sky that is brighter towards the sun and the horizon, over dry ground.
func lowSun(d [3]float64) [3]float64 {
	sun := dot(d, norm([3]float64{0.78, 0.3, -0.55}))
	if d[1] < 0 {
		return mixed([3]float64{0.30, 0.22, 0.15}, [3]float64{0.10, 0.085, 0.075}, -d[1]*2)
	}
	sky := mixed([3]float64{0.85, 0.62, 0.42}, [3]float64{0.16, 0.26, 0.48}, math.Pow(d[1], 0.45))
	glow := 3*math.Exp(-(1-sun)*9) + 24*math.Exp(-(1-sun)*300)
	for k, w := range [3]float64{1, 0.66, 0.34} {
		sky[k] += glow * w
	}
	return sky
}

// pane is how much of a bright rectangle is seen in a direction: it stands round a way, so wide and high in radians, with soft rims.
func pane(d [3]float64, way [3]float64, wide, high, soft float64) float64 {
	way = norm(way)
	right := norm([3]float64{way[2], 0, -way[0]})
	up := [3]float64{way[1]*right[2] - way[2]*right[1], way[2]*right[0] - way[0]*right[2], way[0]*right[1] - way[1]*right[0]}
	f := dot(d, way)
	if f <= 0 {
		return 0
	}
	edge := func(x, half float64) float64 {
		t := min(1, max(0, (half-math.Abs(x))/soft+0.5))
		return t * t * (3 - 2*t)
	}
	return edge(math.Atan2(dot(d, right), f), wide/2) * edge(math.Atan2(dot(d, up), f), high/2)
}

func shed(d [3]float64) [3]float64 {
	out := mixed([3]float64{0.10, 0.095, 0.088}, [3]float64{0.2, 0.19, 0.175}, d[1]*0.5+0.5)
	if d[1] < 0 {
		out = mixed(out, [3]float64{0.13, 0.115, 0.1}, -2*d[1])
	}
	day := [3]float64{0.9, 1, 1.12}
	for _, w := range []struct {
		way              [3]float64
		wide, high, much float64
	}{{[3]float64{0.9, 0.35, 0.45}, 0.55, 0.95, 15}, {[3]float64{-0.35, 0.3, 0.95}, 0.42, 0.8, 9}} {
		p := pane(d, w.way, w.wide, w.high, 0.05)
		// A cross of bars parts each window.
		bar := pane(d, w.way, 0.035, w.high, 0.015) + pane(d, w.way, w.wide, 0.035, 0.015)
		out = mixed(out, scaled(day, w.much), p*max(0, 1-bar))
	}
	return out
}

func softbox(d [3]float64) [3]float64 {
	out := mixed([3]float64{0.06, 0.06, 0.062}, [3]float64{0.15, 0.15, 0.155}, d[1]*0.5+0.5)
	for _, b := range []struct {
		way              [3]float64
		wide, high, much float64
	}{{[3]float64{0.75, 0.7, 0.6}, 0.95, 0.95, 7.5}, {[3]float64{-0.85, 0.35, 0.5}, 0.6, 0.9, 2.6}, {[3]float64{-0.3, 0.45, -0.9}, 0.25, 1.4, 9}} {
		out = mixed(out, [3]float64{b.much, b.much, b.much}, pane(d, b.way, b.wide, b.high, 0.12))
	}
	return out
}

func night(d [3]float64) [3]float64 {
	out := mixed([3]float64{0.05, 0.07, 0.12}, [3]float64{0.02, 0.03, 0.07}, d[1])
	if d[1] < 0 {
		out = [3]float64{0.05, 0.045, 0.04}
	}
	for _, l := range []struct {
		way    [3]float64
		colour [3]float64
		size   float64
	}{
		{[3]float64{0.8, 0.55, 0.3}, [3]float64{1, 0.62, 0.3}, 700}, {[3]float64{-0.5, 0.4, 0.75}, [3]float64{1, 0.6, 0.28}, 1100},
		{[3]float64{-0.7, 0.3, -0.6}, [3]float64{0.55, 0.75, 1}, 500}, {[3]float64{0.2, 0.15, -0.95}, [3]float64{1, 0.58, 0.26}, 2500},
	} {
		c := dot(d, norm(l.way))
		much := 120*math.Exp(-(1-c)*l.size) + 0.5*math.Exp(-(1-c)*12)
		for k := range out {
			out[k] += much * l.colour[k]
		}
	}
	return out
}

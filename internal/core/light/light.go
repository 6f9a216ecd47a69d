// Package light makes the environments that models are lit by, from formulas alone.
package light

import (
	"math"
)

// Environment is a panorama: Width × Height texels of linear RGB, rows from straight up to straight
// down, columns once round, as an equirectangular map.
type Environment struct {
	Width, Height int
	Pix           []float32
}

// Quay is an overcast harbour: a bright veil of cloud with a soft sun behind it, the sea to one
// side, a pale quay wall and sheds to the other, wet concrete below.
func Quay(width int) *Environment {
	e := &Environment{Width: width, Height: width / 2, Pix: make([]float32, width*width/2*3)}
	for y := range e.Height {
		v := math.Pi * (float64(y) + 0.5) / float64(e.Height)
		for x := range width {
			u := 2 * math.Pi * (float64(x) + 0.5) / float64(width)
			d := [3]float64{math.Sin(v) * math.Cos(u), math.Cos(v), math.Sin(v) * math.Sin(u)}
			c := quay(d)
			for k := range 3 {
				e.Pix[(y*width+x)*3+k] = float32(c[k])
			}
		}
	}
	return e
}

// Sun is the direction to the quay's sun.
var Sun = norm([3]float64{0.55, 0.62, 0.56})

func norm(a [3]float64) [3]float64 {
	l := math.Sqrt(a[0]*a[0] + a[1]*a[1] + a[2]*a[2])
	return [3]float64{a[0] / l, a[1] / l, a[2] / l}
}

func quay(d [3]float64) [3]float64 {
	sun := d[0]*Sun[0] + d[1]*Sun[1] + d[2]*Sun[2]
	az := math.Atan2(d[2], d[0])
	if d[1] >= 0 {
		// Cloud gets brighter towards the zenith (CIE overcast sky: (1 + 2·sin γ)/3), and round the sun.
		base := (1 + 2*d[1]) / 3
		cloud := 1 + 0.16*math.Sin(3.1*d[0]/(d[1]+0.25)+1.3)*math.Sin(2.3*d[2]/(d[1]+0.25)) + 0.07*math.Sin(7.7*d[0]/(d[1]+0.2)+2*d[2])
		glow := 2.6*math.Exp(-(1-sun)*16) + 9*math.Exp(-(1-sun)*140)
		sky := [3]float64{0.86, 0.93, 1.0}
		out := [3]float64{}
		for k := range 3 {
			warm := [3]float64{1, 0.93, 0.82}[k]
			out[k] = 1.15*base*cloud*sky[k] + glow*warm
		}
		// Sheds and quay wall on the landward side, uneven along their top.
		top := 0.10 + 0.05*step(math.Sin(az*3+0.5)) + 0.03*step(math.Sin(az*7))
		if math.Cos(az-2.6) > -0.1 && d[1] < top {
			return [3]float64{0.20, 0.19, 0.18}
		}
		return out
	}
	if math.Cos(az-2.6) > -0.1 || d[1] < -0.35 {
		k := 0.22 + 0.05*math.Sin(9*d[0]/(0.3-d[1]))*math.Sin(9*d[2]/(0.3-d[1]))
		return [3]float64{k * 1.02, k, k * 0.96}
	}
	shine := math.Exp(d[1] * 9)
	return [3]float64{0.10 + 0.35*shine, 0.13 + 0.40*shine, 0.15 + 0.44*shine}
}

func step(v float64) float64 {
	if v > 0 {
		return 1
	}
	return 0
}

// widestPicture bounds a panorama that is made of a picture, in px.
const widestPicture = 2048

// FromPicture is a panorama of a picture whose values are linear: the whole of it goes once round, from straight up to straight down.
func FromPicture(width, height, channels int, at func(i int) float32) *Environment {
	e := &Environment{Width: min(widestPicture, max(16, width))}
	e.Height = e.Width / 2
	e.Pix = make([]float32, 3*e.Width*e.Height)
	for y := range e.Height {
		y0, y1 := y*height/e.Height, max(y*height/e.Height+1, (y+1)*height/e.Height)
		for x := range e.Width {
			x0, x1 := x*width/e.Width, max(x*width/e.Width+1, (x+1)*width/e.Width)
			var sum [3]float32
			for j := y0; j < y1; j++ {
				for i := x0; i < x1; i++ {
					for c := range sum {
						k := c
						if channels < 3 {
							k = 0
						}
						sum[c] += max(0, at((j*width+i)*channels+k))
					}
				}
			}
			for c := range sum {
				e.Pix[3*(y*e.Width+x)+c] = min(65000, sum[c]/float32((y1-y0)*(x1-x0)))
			}
		}
	}
	return e
}

// Small is a panorama no wider than so many px.
func (e *Environment) Small(width int) *Environment {
	if width >= e.Width {
		return e
	}
	out := &Environment{Width: width, Height: width / 2, Pix: make([]float32, 3*width*(width/2))}
	for y := range out.Height {
		for x := range width {
			y0, y1, x0, x1 := y*e.Height/out.Height, max(y*e.Height/out.Height+1, (y+1)*e.Height/out.Height), x*e.Width/width, max(x*e.Width/width+1, (x+1)*e.Width/width)
			for c := range 3 {
				sum := float32(0)
				for j := y0; j < y1; j++ {
					for i := x0; i < x1; i++ {
						sum += e.Pix[3*(j*e.Width+i)+c]
					}
				}
				out.Pix[3*(y*width+x)+c] = sum / float32((y1-y0)*(x1-x0))
			}
		}
	}
	return out
}

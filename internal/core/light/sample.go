package light

import (
	"math"
	"sort"

	"crust/internal/core/geom"
)

// Sky is an environment made ready for rays: read in any direction, turned about the upright axis, and sampled by how bright it is
// (Pharr, Jakob & Humphreys, Physically Based Rendering, 4th ed., §12.5).
type Sky struct {
	env      *Environment
	sin, cos float32
	rows     []float64   // how much light comes from all rows before each, and from all
	columns  [][]float64 // the same within each row
	scale    float32
}

// Sky makes an environment ready, turned by an angle in radians and so many times as bright.
func (e *Environment) Sky(turn, scale float64) *Sky {
	s := &Sky{env: e, sin: float32(math.Sin(turn)), cos: float32(math.Cos(turn)), scale: float32(scale), rows: make([]float64, e.Height+1), columns: make([][]float64, e.Height)}
	for y := range e.Height {
		wide := math.Cos(math.Pi*float64(y)/float64(e.Height)) - math.Cos(math.Pi*float64(y+1)/float64(e.Height))
		sums := make([]float64, e.Width+1)
		for x := range e.Width {
			// Between texels light is read smoothly: a texel is as bright as its brightest neighbour for this.
			most := 0.0
			for _, d := range [5][2]int{{0, 0}, {1, 0}, {-1, 0}, {0, 1}, {0, -1}} {
				p := e.texel(x+d[0], y+d[1])
				most = max(most, Luminance([3]float64{float64(p.X), float64(p.Y), float64(p.Z)}))
			}
			sums[x+1] = sums[x] + (most+1e-6)*wide
		}
		s.columns[y], s.rows[y+1] = sums, s.rows[y]+sums[e.Width]
	}
	return s
}

// Turned is the same sky turned by some more radians.
func (s *Sky) Turned(by float64) *Sky {
	out := *s
	sin, cos := math.Sincos(by)
	out.sin, out.cos = s.sin*float32(cos)+s.cos*float32(sin), s.cos*float32(cos)-s.sin*float32(sin)
	return &out
}

func (e *Environment) texel(x, y int) geom.Vec3 {
	y = min(e.Height-1, max(0, y))
	x = ((x % e.Width) + e.Width) % e.Width
	p := e.Pix[(y*e.Width+x)*3:]
	return geom.Vec3{X: p[0], Y: p[1], Z: p[2]}
}

// unturned is a direction as the environment itself has it.
func (s *Sky) unturned(d geom.Vec3) geom.Vec3 {
	return geom.Vec3{X: s.cos*d.X - s.sin*d.Z, Y: d.Y, Z: s.cos*d.Z + s.sin*d.X}
}

// place is where a direction of length 1 lies on panoramas, as shares of their sides.
func place(d geom.Vec3) (u, v float64) {
	u = float64(angle(d.Z, d.X)) / (2 * math.Pi)
	if u < 0 {
		u++
	}
	across := float32(math.Sqrt(float64(d.X*d.X + d.Z*d.Z)))
	return u, float64(angle(across, d.Y)) / math.Pi
}

// angle is math.Atan2 to 2e-5, by a polynomial for the arc tangent of 0 to 1 (after Hastings, Approximations for Digital Computers, 1955).
func angle(y, x float32) float32 {
	ay, ax := max(y, -y), max(x, -x)
	t := min(ax, ay) / max(ax, ay, 1e-30)
	s := t * t
	a := t * (0.99997726 + s*(-0.33262347+s*(0.19354346+s*(-0.11643287+s*(0.05265332-s*0.01172120)))))
	if ay > ax {
		a = math.Pi/2 - a
	}
	if x < 0 {
		a = math.Pi - a
	}
	if y < 0 {
		return -a
	}
	return a
}

// at is the light at a place, smoothly between texels.
func (e *Environment) at(u, v float64) geom.Vec3 {
	x, y := u*float64(e.Width), v*float64(e.Height)
	// Column −1 is the last one, and a row beyond the poles the nearest; x and y are at least 0.
	i, j := int(x+0.5)-1, int(y+0.5)-1
	fx, fy := float32(x-0.5-float64(i)), float32(y-0.5-float64(j))
	i1, j1 := i+1, min(e.Height-1, j+1)
	if i < 0 {
		i += e.Width
	}
	if i1 >= e.Width {
		i1 -= e.Width
		i = min(i, e.Width-1)
	}
	j = min(e.Height-1, max(0, j))
	a, b := e.Pix[3*(j*e.Width+i):][:3], e.Pix[3*(j*e.Width+i1):][:3]
	c, f := e.Pix[3*(j1*e.Width+i):][:3], e.Pix[3*(j1*e.Width+i1):][:3]
	mix := func(k int) float32 {
		top, low := a[k]+(b[k]-a[k])*fx, c[k]+(f[k]-c[k])*fx
		return top + (low-top)*fy
	}
	return geom.Vec3{X: mix(0), Y: mix(1), Z: mix(2)}
}

// Light is what comes from a direction of length 1.
func (s *Sky) Light(d geom.Vec3) geom.Vec3 { return s.env.at(place(s.unturned(d))).Mul(s.scale) }

// Density is how often Sample gives a direction, by solid angle.
func (s *Sky) Density(d geom.Vec3) float64 {
	u, v := place(s.unturned(d))
	i, j := min(s.env.Width-1, int(u*float64(s.env.Width))), min(s.env.Height-1, int(v*float64(s.env.Height)))
	return (s.columns[j][i+1] - s.columns[j][i]) / s.rows[s.env.Height] / s.solid(j)
}

// solid is the solid angle of a texel of row j.
func (s *Sky) solid(j int) float64 {
	return (math.Cos(math.Pi*float64(j)/float64(s.env.Height)) - math.Cos(math.Pi*float64(j+1)/float64(s.env.Height))) * 2 * math.Pi / float64(s.env.Width)
}

// Sample picks a direction by two numbers from 0 to 1, the more often the brighter it is, and says how often it does.
func (s *Sky) Sample(u, v float64) (d geom.Vec3, density float64) {
	pick := func(sums []float64, at float64) (i int, rest float64) {
		at *= sums[len(sums)-1]
		i = sort.Search(len(sums)-1, func(k int) bool { return sums[k+1] > at })
		i = min(i, len(sums)-2)
		return i, (at - sums[i]) / max(1e-300, sums[i+1]-sums[i])
	}
	j, fy := pick(s.rows, v)
	i, fx := pick(s.columns[j], u)
	// Even over the solid angle of the texel.
	top, low := math.Cos(math.Pi*float64(j)/float64(s.env.Height)), math.Cos(math.Pi*float64(j+1)/float64(s.env.Height))
	y := top + (low-top)*fy
	r := math.Sqrt(max(0, 1-y*y))
	sin, cos := math.Sincos(2 * math.Pi * (float64(i) + fx) / float64(s.env.Width))
	e := geom.Vec3{X: float32(r * cos), Y: float32(y), Z: float32(r * sin)}
	d = geom.Vec3{X: s.cos*e.X + s.sin*e.Z, Y: e.Y, Z: s.cos*e.Z - s.sin*e.X}
	return d, (s.columns[j][i+1] - s.columns[j][i]) / s.rows[s.env.Height] / s.solid(j)
}

// Irradiance is what a plane that faces n takes from it all.
func (s *Sky) Irradiance(n geom.Vec3) (sum geom.Vec3) {
	e := s.env
	for y := range e.Height {
		for x := range e.Width {
			v, u := math.Pi*(float64(y)+0.5)/float64(e.Height), 2*math.Pi*(float64(x)+0.5)/float64(e.Width)
			d := geom.Vec3{X: float32(math.Sin(v) * math.Cos(u)), Y: float32(math.Cos(v)), Z: float32(math.Sin(v) * math.Sin(u))}
			if c := d.Dot(s.unturned(n)); c > 0 {
				sum = sum.Add(e.texel(x, y).Mul(c * float32(s.solid(y))))
			}
		}
	}
	return sum.Mul(s.scale)
}

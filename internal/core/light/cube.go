package light

import (
	"context"
	"math"
	"math/bits"

	"crust/internal/core/geom"
	"crust/internal/core/par"
	"crust/internal/core/pixel"
)

// Sizes of cubes in px of a face's side.
const (
	LeastCube = 64
	MostCube  = 256
	// What surfaces of roughness 1 take of the light is so smooth that faces of 8 px hold it.
	roughest = 8
)

// Cube is the environment as six faces, filtered for surfaces of every roughness that are looked at straight on: half floats RGBA, little endian,
// level by level from size px a side down to 4, each with its faces in the order +X −X +Y −Y +Z −Z and rows as OpenGL has them (OpenGL 4.6
// §8.13). X is mirrored, as cube textures are seen from inside. Level l of those down to 8 px, the last of which is number L, is for
// the roughness r with l = L·r·(2 − r); that of roughness 1 is also what a matt surface takes, over π. The level of 4 px repeats it.
func (e *Environment) Cube(size int) []byte {
	steps := e.pyramid()
	last := bits.Len(uint(size)) - bits.Len(uint(roughest))
	var out []byte
	for l := range last + 1 {
		rough := 1 - math.Sqrt(1-float64(l)/float64(last))
		out = append(out, cubeLevel(size>>l, filter(steps, size>>l, rough))...)
	}
	return append(out, cubeLevel(roughest/2, filter(steps, roughest/2, 1))...)
}

// pyramid is the environment in halves, down to 4 rows.
func (e *Environment) pyramid() []*Environment {
	out := []*Environment{e}
	for e.Height >= 8 {
		e = e.Small(e.Width / 2)
		out = append(out, e)
	}
	return out
}

// cubeLevel asks for the light in the direction of each texel of six faces.
func cubeLevel(size int, light func(d geom.Vec3) geom.Vec3) []byte {
	out := make([]byte, 6*size*size*8)
	_ = par.Blocks(context.Background(), 6*size, 4, func(_, from, to int) {
		for row := from; row < to; row++ {
			t := (2*float32(row%size) + 1 - float32(size)) / float32(size)
			for x := range size {
				s := (2*float32(x) + 1 - float32(size)) / float32(size)
				d := [6]geom.Vec3{{X: 1, Y: -t, Z: -s}, {X: -1, Y: -t, Z: s}, {X: s, Y: 1, Z: t}, {X: s, Y: -1, Z: -t}, {X: s, Y: -t, Z: 1}, {X: -s, Y: -t, Z: -1}}[row/size]
				d.X = -d.X
				c := light(d.Norm()).Array()
				at := out[8*(row*size+x):]
				for k, v := range [4]float32{c[0], c[1], c[2], 1} {
					h := pixel.Half(min(65000, v))
					at[2*k], at[2*k+1] = byte(h), byte(h>>8)
				}
			}
		}
	})
	return out
}

// filterSamples are how many directions a sharp level averages in each texel.
const filterSamples = 64

// filter is what a surface of a roughness that faces a direction, and is looked at from there, mirrors of an environment: its light weighted by
// the GGX lobe and the cosine (the first of the split sums: Karis, Physically Based Shading in Theory and Practice, SIGGRAPH 2013).
func filter(steps []*Environment, size int, rough float64) func(d geom.Vec3) geom.Vec3 {
	first := steps[0]
	if rough == 0 {
		// As wide as a texel of the face.
		level := math.Log2(float64(first.Width) / float64(4*size))
		return func(d geom.Vec3) geom.Vec3 { return read(steps, d, level) }
	}
	a2 := math.Pow(rough, 4)
	if rough < 0.5 {
		type way struct {
			x, y, z float32
			level   float64
		}
		var ways []way
		all := float32(0)
		// A texel at the horizon covers 2π² over the number of texels.
		texel := 2 * math.Pi * math.Pi / float64(first.Width*first.Height)
		for i := range filterSamples {
			u, v := (float64(i)+0.5)/filterSamples, float64(bits.Reverse32(uint32(i)))/(1<<32)
			// Half vectors by the lobe: cos² θ = (1 − u)/(1 + (α² − 1)·u); the mirrored way has 2·cos² θ − 1.
			c2 := (1 - u) / (1 + (a2-1)*u)
			z := 2*c2 - 1
			if z <= 0 {
				continue
			}
			q := 1 + (a2-1)*c2
			density := a2 / (math.Pi * q * q) / 4
			r := math.Sqrt(1 - z*z)
			sin, cos := math.Sincos(2 * math.Pi * v)
			ways = append(ways, way{float32(r * cos), float32(r * sin), float32(z), max(0, 0.5*math.Log2(1/(filterSamples*density)/texel)+0.5)})
			all += float32(z)
		}
		return func(d geom.Vec3) (sum geom.Vec3) {
			x, y := geom.Basis(d)
			for _, w := range ways {
				l := x.Mul(w.x).Add(y.Mul(w.y)).Add(d.Mul(w.z))
				sum = sum.Add(read(steps, l, w.level).Mul(w.z / all))
			}
			return sum
		}
	}
	// A wide lobe takes every texel of a small environment.
	e := first
	for _, s := range steps {
		if e = s; s.Width <= 64 {
			break
		}
	}
	type ray struct{ d, c geom.Vec3 }
	rays := make([]ray, 0, e.Width*e.Height)
	for y := range e.Height {
		top, bottom := math.Pi*float64(y)/float64(e.Height), math.Pi*float64(y+1)/float64(e.Height)
		sin, cos := math.Sincos((top + bottom) / 2)
		for x := range e.Width {
			s, c := math.Sincos(2 * math.Pi * (float64(x) + 0.5) / float64(e.Width))
			rays = append(rays, ray{geom.Vec3{X: float32(sin * c), Y: float32(cos), Z: float32(sin * s)}, e.texel(x, y).Mul(float32(math.Cos(top) - math.Cos(bottom)))})
		}
	}
	areas := make([]float32, e.Height)
	for y := range areas {
		areas[y] = float32(math.Cos(math.Pi*float64(y)/float64(e.Height)) - math.Cos(math.Pi*float64(y+1)/float64(e.Height)))
	}
	flat := float32(a2 - 1)
	return func(d geom.Vec3) geom.Vec3 {
		var sum geom.Vec3
		all := float32(0)
		for i, r := range rays {
			c := r.d.Dot(d)
			if c <= 0 {
				continue
			}
			q := 1 + flat*(1+c)/2 // the half vector's cosine squared is (1 + c)/2
			w := c / (q * q)
			sum = sum.Add(r.c.Mul(w))
			all += w * areas[i/e.Width]
		}
		return sum.Mul(1 / all)
	}
}

// read is the light from a direction, smoothly between texels and between the steps of a pyramid.
func read(steps []*Environment, d geom.Vec3, level float64) geom.Vec3 {
	level = min(float64(len(steps)-1), max(0, level))
	i := int(level)
	u, v := place(d)
	c := steps[i].at(u, v)
	if f := float32(level - float64(i)); f > 0 {
		c = c.Lerp(steps[i+1].at(u, v), f)
	}
	return c
}

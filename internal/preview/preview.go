// Package preview makes small pictures of finishes: a bollard that is baked, evaluated and lit as assets are.
package preview

import (
	"context"
	"image"
	"image/color"
	"math"
	"sync"

	"crust/internal/core/bake"
	"crust/internal/core/compose"
	"crust/internal/core/finish"
	"crust/internal/core/geom"
	"crust/internal/core/light"
	"crust/internal/core/mesh"
	"crust/internal/core/par"
	"crust/internal/core/pixel"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
	"crust/internal/demo"
)

// textureSize is that of the bollard, in px.
const textureSize = 512

// Shelf makes pictures of finishes, one at a time, on one bollard.
type Shelf struct {
	mu     sync.Mutex
	once   sync.Once
	err    error
	model  *mesh.Model
	canvas *compose.Canvas
	lit    *lighting
	index  []int32 // by texel of the square: which covered texel it shows
}

// ready bakes the bollard.
func (s *Shelf) ready() error {
	s.once.Do(func() {
		ctx := context.Background()
		s.model = demo.Bollard()
		sets, err := uv.Sets(s.model, uv.Single)
		if err != nil {
			s.err = err
			return
		}
		size := s.model.Bounds().Diagonal()
		src, err := bake.Prepare(ctx, s.model, nil, bake.Settings{Size: textureSize / 2, Rays: 64, Samples: 1, Radius: float64(size) * bake.DefaultRadius})
		if err != nil {
			s.err = err
			return
		}
		made, err := src.Bake(ctx, &sets[0], []string{bake.AO, bake.Curvature, bake.WorldNormal, bake.Thickness}, nil)
		if err != nil {
			s.err = err
			return
		}
		maps := map[string]*bake.Map{}
		for _, m := range made {
			maps[m.Kind] = m
		}
		body := compose.NewBody(compose.NewCache(64<<20), s.model, sets, func(string) (map[string]*bake.Map, error) { return maps, nil })
		if s.canvas, s.err = compose.NewCanvas(ctx, body, &sets[0], textureSize); s.err != nil {
			return
		}
		s.index = make([]int32, textureSize*textureSize)
		copy(s.index, s.canvas.Surf.Nearest)
		s.lit = newLighting(light.Quay(64))
	})
	return s.err
}

// Picture is a finish, with its dials at their defaults, as a square picture.
func (s *Shelf) Picture(ctx context.Context, f *finish.Finish, px int) (image.Image, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.ready(); err != nil {
		return nil, err
	}
	d := new(strata.Document)
	layers, err := f.Lay(d, nil, float64(s.model.Bounds().Diagonal()))
	if err != nil {
		return nil, err
	}
	d.Layers = layers
	ch, err := s.canvas.Evaluate(ctx, d)
	if err != nil {
		return nil, err
	}
	return s.draw(ch, px), nil
}

// The camera, in metres.
var (
	eye  = geom.Vec3{X: 0.78, Y: 0.66, Z: 1.1}
	at   = geom.Vec3{X: 0, Y: 0.29, Z: 0}
	zoom = 3.7 // the picture's half against the tangent of half its angle
)

// samples is how many each way make a pixel.
const samples = 3

// ground is what lies behind the bollard, linear.
var ground = geom.Vec3{X: 0.031, Y: 0.031, Z: 0.032}

// draw rasterises the bollard with a depth buffer and lights each sample.
func (s *Shelf) draw(ch *compose.Channels, px int) image.Image {
	n := px * samples
	forward := at.Sub(eye).Norm()
	right := forward.Cross(geom.Vec3{Y: 1}).Norm()
	up := right.Cross(forward)
	type hit struct {
		tri  int32
		u, v float32
		far  float32
	}
	hits := make([]hit, n*n)
	for i := range hits {
		hits[i].tri = -1
	}
	project := func(p geom.Vec3) (x, y, z float32) {
		d := p.Sub(eye)
		z = d.Dot(forward)
		k := float32(zoom) / z * float32(n) / 2
		return float32(n)/2 + d.Dot(right)*k, float32(n)/2 - d.Dot(up)*k, z
	}
	for t := range s.model.Tris {
		a, b, c := s.model.Corners(t)
		ax, ay, az := project(a)
		bx, by, bz := project(b)
		cx, cy, cz := project(c)
		area := (bx-ax)*(cy-ay) - (by-ay)*(cx-ax)
		if area >= 0 {
			continue // it faces away
		}
		low := func(v ...float32) int { return max(0, int(min(v[0], v[1], v[2]))) }
		high := func(v ...float32) int { return min(n-1, int(max(v[0], v[1], v[2]))+1) }
		for y := low(ay, by, cy); y <= high(ay, by, cy); y++ {
			for x := low(ax, bx, cx); x <= high(ax, bx, cx); x++ {
				fx, fy := float32(x)+0.5, float32(y)+0.5
				u := ((fx-ax)*(cy-ay) - (fy-ay)*(cx-ax)) / area
				v := ((bx-ax)*(fy-ay) - (by-ay)*(fx-ax)) / area
				if u < 0 || v < 0 || u+v > 1 {
					continue
				}
				// Straight in the picture is straight in the inverse of the depth.
				w, wu, wv := (1-u-v)/az, u/bz, v/cz
				z := 1 / (w + wu + wv)
				if h := &hits[y*n+x]; h.tri < 0 || z < h.far {
					*h = hit{int32(t), wu * z, wv * z, z}
				}
			}
		}
	}
	out := image.NewNRGBA(image.Rect(0, 0, px, px))
	tangents := s.model.Tangents()
	_ = par.Blocks(context.Background(), px, 4, func(_, from, to int) {
		for y := from; y < to; y++ {
			for x := range px {
				var sum geom.Vec3
				for j := range samples * samples {
					h := &hits[(y*samples+j/samples)*n+x*samples+j%samples]
					if h.tri < 0 {
						sum = sum.Add(ground)
						continue
					}
					sum = sum.Add(tone(s.shade(ch, tangents, h.tri, h.u, h.v)))
				}
				sum = sum.Mul(1. / (samples * samples))
				q := func(v float32) uint8 { return pixel.Q8(pixel.ToSRGB(min(1, max(0, v)))) }
				out.SetNRGBA(x, y, color.NRGBA{q(sum.X), q(sum.Y), q(sum.Z), 255})
			}
		}
	})
	return out
}

// tone keeps bright values below 1: straight up to 0.8, then ever slower.
func tone(c geom.Vec3) geom.Vec3 {
	f := func(v float32) float32 {
		if v > 0.8 {
			return 1 - 0.04/(v-0.8+0.2)
		}
		return v
	}
	return geom.Vec3{X: f(c.X), Y: f(c.Y), Z: f(c.Z)}
}

// shade lights a place of a triangle: by the environment and its sun, with the microfacets of Cook and Torrance as glTF 2.0,
// appendix B, has them.
func (s *Shelf) shade(ch *compose.Channels, tangents [][3]geom.Vec4, tri int32, u, v float32) geom.Vec3 {
	m := s.model
	i := m.Tris[tri]
	a := m.UVs[i[0]]
	texel := a.Add(m.UVs[i[1]].Sub(a).Mul(u)).Add(m.UVs[i[2]].Sub(a).Mul(v))
	x, y := min(textureSize-1, max(0, int(texel.X*textureSize))), min(textureSize-1, max(0, int((1-texel.Y)*textureSize)))
	k := s.index[y*textureSize+x]
	p, q, r := m.Corners(int(tri))
	place := geom.Bary(p, q, r, u, v)
	n := geom.Bary(m.Normals[i[0]], m.Normals[i[1]], m.Normals[i[2]], u, v).Norm()
	t4 := tangents[tri][0]
	tan := geom.Vec3{X: t4.X, Y: t4.Y, Z: t4.Z}
	tan = tan.Sub(n.Mul(tan.Dot(n))).Norm()
	bit := n.Cross(tan).Mul(t4.W)
	n = tan.Mul(ch.Normal[0][k]).Add(bit.Mul(ch.Normal[1][k])).Add(n.Mul(ch.Normal[2][k])).Norm()
	base := geom.Vec3{X: pixel.FromSRGB(ch.Base[0][k]), Y: pixel.FromSRGB(ch.Base[1][k]), Z: pixel.FromSRGB(ch.Base[2][k])}
	return s.lit.surface(base, max(0.05, ch.Roughness[k]), ch.Metallic[k], ch.AO[k], n, eye.Sub(place).Norm())
}

// lighting is an environment made ready: how much light comes in round each direction, spread the more the rougher.
type lighting struct {
	levels [lightLevels]*light.Environment // for mirrors by roughness
	matt   *light.Environment              // for what spreads light evenly
	sun    geom.Vec3
}

const lightLevels = 6

func newLighting(e *light.Environment) *lighting {
	l := &lighting{sun: geom.Vec3{X: float32(light.Sun[0]), Y: float32(light.Sun[1]), Z: float32(light.Sun[2])}}
	small := shrunk(e, 32)
	for i := range l.levels {
		rough := (float64(i) + 0.3) / lightLevels
		a := rough * rough
		// The lobe of GGX about its mirror direction is near enough a power of the cosine: 2/α² − 2, a quarter of it for
		// the reflected light (Walter et al., Microfacet Models for Refraction, 2007).
		l.levels[i] = spread(small, max(1, (2/(a*a)-2)/4))
	}
	l.matt = spread(small, 1)
	return l
}

// shrunk averages an environment down.
func shrunk(e *light.Environment, w int) *light.Environment {
	out := &light.Environment{Width: w, Height: w / 2, Pix: make([]float32, w*w/2*3)}
	k := e.Width / w
	for y := range out.Height {
		for x := range w {
			for c := range 3 {
				sum := float32(0)
				for j := range k * k {
					sum += e.Pix[((y*k+j/k)*e.Width+x*k+j%k)*3+c]
				}
				out.Pix[(y*w+x)*3+c] = sum / float32(k*k)
			}
		}
	}
	return out
}

func direction(e *light.Environment, x, y int) (d [3]float64, area float64) {
	v, u := math.Pi*(float64(y)+0.5)/float64(e.Height), 2*math.Pi*(float64(x)+0.5)/float64(e.Width)
	return [3]float64{math.Sin(v) * math.Cos(u), math.Cos(v), math.Sin(v) * math.Sin(u)}, math.Sin(v)
}

// spread averages an environment round each direction by a power of the cosine.
func spread(e *light.Environment, power float64) *light.Environment {
	out := &light.Environment{Width: e.Width, Height: e.Height, Pix: make([]float32, len(e.Pix))}
	_ = par.Blocks(context.Background(), e.Height, 1, func(_, from, to int) {
		for y := from; y < to; y++ {
			for x := range e.Width {
				d, _ := direction(e, x, y)
				var sum [3]float64
				all := 0.0
				for j := range e.Height {
					for i := range e.Width {
						o, area := direction(e, i, j)
						c := d[0]*o[0] + d[1]*o[1] + d[2]*o[2]
						if c <= 0 {
							continue
						}
						w := area * math.Pow(c, power)
						all += w
						for k := range 3 {
							sum[k] += w * float64(e.Pix[(j*e.Width+i)*3+k])
						}
					}
				}
				for k := range 3 {
					out.Pix[(y*e.Width+x)*3+k] = float32(sum[k] / all)
				}
			}
		}
	})
	return out
}

// from reads an environment bilinearly.
func from(e *light.Environment, d geom.Vec3) geom.Vec3 {
	x := float32(math.Atan2(float64(d.Z), float64(d.X))/(2*math.Pi))*float32(e.Width) - 0.5
	y := float32(math.Acos(float64(max(-1, min(1, d.Y))))/math.Pi)*float32(e.Height) - 0.5
	x0, y0 := int(math.Floor(float64(x))), int(math.Floor(float64(y)))
	fx, fy := x-float32(x0), y-float32(y0)
	read := func(x, y int) geom.Vec3 {
		p := e.Pix[(min(e.Height-1, max(0, y))*e.Width+(x+e.Width)%e.Width)*3:]
		return geom.Vec3{X: p[0], Y: p[1], Z: p[2]}
	}
	top := read(x0, y0).Mul(1 - fx).Add(read(x0+1, y0).Mul(fx))
	low := read(x0, y0+1).Mul(1 - fx).Add(read(x0+1, y0+1).Mul(fx))
	return top.Mul(1 - fy).Add(low.Mul(fy))
}

// sunLight is the sun's share beside the environment's own glow.
const sunLight = 2.2

func (l *lighting) surface(base geom.Vec3, rough, metal, ao float32, n, v geom.Vec3) geom.Vec3 {
	nv := max(0.001, n.Dot(v))
	f0 := geom.Vec3{X: 0.04, Y: 0.04, Z: 0.04}.Mul(1 - metal).Add(base.Mul(metal))
	diffuse := base.Mul(1 - metal)
	times := func(a, b geom.Vec3) geom.Vec3 { return geom.Vec3{X: a.X * b.X, Y: a.Y * b.Y, Z: a.Z * b.Z} }

	out := times(diffuse, from(l.matt, n)).Mul(ao)
	// What mirrors of some roughness give back of an even light, by the fit of Karis, Physically Based Shading on Mobile, 2014.
	r := [4]float32{rough*-1 + 1, rough*-0.0275 + 0.0425, rough*-0.572 + 1.04, rough*0.022 - 0.04}
	a004 := min(r[0]*r[0], float32(math.Exp2(float64(-9.28*nv))))*r[0] + r[1]
	scale, lift := -1.04*a004+r[2], 1.04*a004+r[3]
	mirror := n.Mul(2 * n.Dot(v)).Sub(v)
	level := min(float32(lightLevels-1), max(0, rough*lightLevels-0.3))
	i := min(lightLevels-2, int(level))
	seen := from(l.levels[i], mirror).Mul(1 - (level - float32(i))).Add(from(l.levels[i+1], mirror).Mul(level - float32(i)))
	spec := geom.Vec3{X: f0.X*scale + lift, Y: f0.Y*scale + lift, Z: f0.Z*scale + lift}
	out = out.Add(times(spec, seen).Mul(min(1, ao+0.15)))

	if nl := n.Dot(l.sun); nl > 0 {
		h := v.Add(l.sun).Norm()
		nh, vh := n.Dot(h), v.Dot(h)
		a := rough * rough
		d := nh*nh*(a*a-1) + 1
		ggx := a * a / (math.Pi * d * d)
		vis := 0.5 / (nl*float32(math.Sqrt(float64(nv*nv*(1-a*a)+a*a))) + nv*float32(math.Sqrt(float64(nl*nl*(1-a*a)+a*a))))
		f := float32(math.Pow(float64(1-vh), 5))
		fresnel := f0.Mul(1 - f).Add(geom.Vec3{X: f, Y: f, Z: f})
		shaded := sunLight * nl * min(1, 1.2*ao)
		out = out.Add(diffuse.Mul(shaded / math.Pi)).Add(fresnel.Mul(ggx * vis * shaded))
	}
	return out
}

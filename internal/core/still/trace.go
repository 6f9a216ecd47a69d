package still

import (
	"context"
	"math"
	"sync/atomic"

	"crust/internal/core/geom"
	"crust/internal/core/light"
	"crust/internal/core/par"
)

// Camera looks from a place to another; Tall is the tangent of half the angle that the picture is high.
type Camera struct {
	Eye, At geom.Vec3
	Tall    float32
}

// Film is the side in millimetres that focal lengths count against: the longer side of 24 × 36.
const Film = 36

// Focal sets the angle by a focal length in millimetres, for a picture of a proportion.
func (c *Camera) Focal(mm, wide, high float64) {
	half := Film / 2 / mm // tangent along the longer side
	if wide > high {
		half *= high / wide
	}
	c.Tall = float32(half)
}

// Lights are what lights a model.
type Lights struct {
	Sky   *light.Sky
	Lamps []light.Lamp // strengths in lumens and lux
	Unit  float64      // nits that light of 1 stands for
	// Key is parallel light that belongs to the surroundings: the way to it, and what a plane across it takes.
	Key, KeyLight geom.Vec3
}

// Backdrop is what stands behind the model.
type Backdrop struct {
	Clear  bool      // nothing does: the picture has an alpha
	Sky    bool      // the surroundings themselves
	Colour geom.Vec3 // linear, as the picture is to show it before the tone curve; else
	Blur   float64   // of the surroundings, 0–1
	Dim    float32   // how bright they are, times
	Ground bool      // the model throws its shadow on a ground below it
}

// Settings of a picture.
type Settings struct {
	Width, Height int
	Samples       int // a pixel
	Bounces       int // 0 for 6
	Seed          uint32
	Backdrop      Backdrop
	Exposure      float32  // times the light; 0 is 1
	Show          *Channel // instead of the surface in its light
	Halo          float32  // how much of what is emitted spreads round it
	Over          int      // Width and Height are so many times those of the picture that is made of it; 0 is 1
}

// Picture is light as it fell: linear RGB before exposure, and alpha, by row from the top left, and how many samples each pixel has.
type Picture struct {
	Width, Height int
	Pix           []float32 // four a pixel
	Glow          []float32 // three a pixel: what the model itself emits, for its halo; nil where there is none
	Samples       int
}

type lamp struct {
	*light.Lamp
	at, way, right, up geom.Vec3 // way is to where it aims
	colour             geom.Vec3
	strength           float32 // intensity, radiance or irradiance, in units of light
	half               [2]float32
	area               float32
}

// Tracer follows light in a scene.
type Tracer struct {
	scene *Scene
	of    Lights
	lamps []lamp
	set   Settings
	cam   Camera
	frame [3]geom.Vec3 // right, up, forward
	below float32      // height of the ground
	bare  geom.Vec3    // what ground takes of the sky when nothing stands on it
	rays  atomic.Int64 // that were followed
	most  float32      // what a channel's 1 on the screen stands for
	wide  float32
}

// NewTracer makes a picture ready.
func NewTracer(s *Scene, of Lights, cam Camera, set Settings) *Tracer {
	if set.Bounces == 0 {
		set.Bounces = 6
	}
	if set.Exposure == 0 {
		set.Exposure = 1
	}
	set.Over = max(1, set.Over)
	if of.Unit == 0 {
		of.Unit = 1
	}
	t := &Tracer{scene: s, of: of, set: set, cam: cam, most: 1}
	if set.Show != nil && set.Show.Name == "height" {
		t.most = s.highest()
	}
	f := cam.At.Sub(cam.Eye).Norm()
	right := f.Cross(geom.Vec3{Y: 1})
	if right.Dot(right) < 1e-8 {
		right = geom.Vec3{X: 1}
	}
	right = right.Norm()
	t.frame = [3]geom.Vec3{right, right.Cross(f), f}
	for i := range of.Lamps {
		l := &of.Lamps[i]
		if l.Off || l.Strength == 0 {
			continue
		}
		k := lamp{Lamp: l, at: geom.FromArray(l.At)}
		k.way = geom.FromArray(l.Aim).Sub(k.at).Norm()
		if k.way == (geom.Vec3{}) {
			k.way = geom.Vec3{Y: -1}
		}
		// It stands as upright as it can.
		k.right = k.way.Cross(geom.Vec3{Y: 1})
		if k.right.Dot(k.right) < 1e-8 {
			k.right = geom.Vec3{X: 1}
		}
		k.right = k.right.Norm()
		k.up = k.right.Cross(k.way)
		c := light.Colour(float64(l.Kelvin))
		k.colour = geom.Vec3{X: float32(c[0]), Y: float32(c[1]), Z: float32(c[2])}
		k.half = [2]float32{l.Wide / 2, l.High / 2}
		k.area = float32(l.Surface())
		switch l.Kind {
		case light.Area:
			k.strength = float32(l.Nits() / of.Unit)
		case light.SunUp:
			k.strength = float32(float64(l.Strength) / of.Unit)
		default:
			k.strength = float32(l.Candela() / of.Unit)
		}
		t.lamps = append(t.lamps, k)
	}
	if key := of.KeyLight; key != (geom.Vec3{}) {
		t.lamps = append(t.lamps, lamp{Lamp: &light.Lamp{Kind: light.SunUp}, way: of.Key.Norm().Neg(), colour: key, strength: 1})
	}
	t.below = s.box.Min.Y - 0.0005*s.box.Diagonal()
	t.wide = s.box.Diagonal()
	if of.Sky != nil {
		t.bare = of.Sky.Irradiance(geom.Vec3{Y: 1})
	}
	return t
}

// Over is how many times as large the picture is made as it becomes.
func (t *Tracer) Over() int { return t.set.Over }

// Samples is how many there are to a pixel of what is made of a picture.
func (t *Tracer) Samples(p *Picture) int { return p.Samples * t.set.Over * t.set.Over }

// Rays is how many have been followed so far.
func (t *Tracer) Rays() int64 { return t.rays.Load() }

// Picture makes an empty picture for the tracer.
func (t *Tracer) Picture() *Picture {
	p := &Picture{Width: t.set.Width, Height: t.set.Height, Pix: make([]float32, 4*t.set.Width*t.set.Height)}
	if t.set.Halo > 0 && t.set.Show == nil && t.scene.emits() {
		p.Glow = make([]float32, 3*t.set.Width*t.set.Height)
	}
	return p
}

// blockRows is how many rows are followed at a time.
const blockRows = 4

// Add adds samples to each pixel of a picture. Rows that are done before the context ends are lost with the others: a picture always has as
// many samples everywhere.
func (t *Tracer) Add(ctx context.Context, p *Picture, samples int, share func(float64)) error {
	sum, glow := make([]float32, len(p.Pix)), make([]float32, len(p.Glow))
	rows := (p.Height + blockRows - 1) / blockRows
	done := make(chan int, rows)
	told := make(chan struct{})
	go func() {
		defer close(told)
		n := 0
		for range done {
			if n++; share != nil {
				share(float64(n) / float64(rows))
			}
		}
	}()
	streams := make([]walker, par.Slots)
	err := par.Blocks(ctx, rows, 1, func(w, row, _ int) {
		k := &streams[w]
		defer func() { t.rays.Add(k.rays); k.rays = 0 }()
		for y := row * blockRows; y < min(p.Height, (row+1)*blockRows); y++ {
			if ctx.Err() != nil {
				return
			}
			for x := range p.Width {
				at := 4 * (y*p.Width + x)
				for n := range samples {
					s := sampler{index: uint32(p.Samples + n), seed: hash2(uint32(y*p.Width+x), t.set.Seed)}
					c, alpha := t.pixel(x, y, &s, k)
					sum[at] += c.X
					sum[at+1] += c.Y
					sum[at+2] += c.Z
					sum[at+3] += alpha
					if p.Glow != nil {
						for c, v := range k.glow.Array() {
							glow[at/4*3+c] += v
						}
					}
				}
			}
		}
		done <- row
	})
	close(done)
	<-told
	if err != nil {
		return err
	}
	all := float32(p.Samples + samples)
	for i := range p.Pix {
		p.Pix[i] = (p.Pix[i]*float32(p.Samples) + sum[i]) / all
	}
	for i := range p.Glow {
		p.Glow[i] = (p.Glow[i]*float32(p.Samples) + glow[i]) / all
	}
	p.Samples += samples
	return nil
}

// most bounds what a single path may bring after its first bounce, in units of light: without it a few bright points stay for very long.
const most = 40

func (t *Tracer) pixel(x, y int, s *sampler, k *walker) (geom.Vec3, float32) {
	a, b := s.two()
	// A tent of two pixels, so that edges are smooth.
	tent := func(u float32) float32 {
		if u < 0.5 {
			return float32(math.Sqrt(float64(2*u))) - 1
		}
		return 1 - float32(math.Sqrt(float64(2-2*u)))
	}
	h := float32(t.set.Height)
	u := (2*(float32(x)+0.5+tent(a)) - float32(t.set.Width)) / h * t.cam.Tall
	v := (h - 2*(float32(y)+0.5+tent(b))) / h * t.cam.Tall
	d := t.frame[2].Add(t.frame[0].Mul(u)).Add(t.frame[1].Mul(v)).Norm()
	if t.set.Show != nil {
		return t.flat(t.cam.Eye, d, s, k)
	}
	return t.follow(t.cam.Eye, d, s, k)
}

func times(a, b geom.Vec3) geom.Vec3 { return geom.Vec3{X: a.X * b.X, Y: a.Y * b.Y, Z: a.Z * b.Z} }

// follow is the light that comes along a ray, against its way.
func (t *Tracer) follow(o, d geom.Vec3, s *sampler, k *walker) (sum geom.Vec3, alpha float32) {
	through := geom.Vec3{X: 1, Y: 1, Z: 1}
	chance := func() float32 { a, _ := s.two(); return a }
	density := float32(0) // of the last way, for weighing
	k.glow = geom.Vec3{}
	add := func(bounce int, c geom.Vec3) {
		c = times(through, c)
		if bounce > 1 {
			if l := max(c.X, c.Y, c.Z); l > most {
				c = c.Mul(most / l)
			}
		}
		sum = sum.Add(c)
	}
	var m met
	for bounce := range t.set.Bounces + 1 {
		hit := t.scene.meet(o, d, math.MaxFloat32, bounce == 0, k, chance, &m)
		if bounce > 0 {
			far := float32(math.MaxFloat32)
			if hit {
				far = m.far
			}
			if c, p, ok := t.shining(o, d, far); ok {
				add(bounce, c.Mul(weigh(density, p)))
				return sum, 1
			}
		}
		if !hit {
			if bounce == 0 {
				return t.behind(o, d, s, k, chance)
			}
			if t.of.Sky != nil {
				add(bounce, t.of.Sky.Light(d).Mul(weigh(density, float32(t.of.Sky.Density(d)))))
			}
			return sum, 1
		}
		var x texel
		m.maps.read(m.uv, &x)
		v := d.Neg()
		if m.out.Dot(v) < 0 { // seen from behind
			m.out, m.n = m.out.Neg(), m.n.Neg()
		}
		n := t.normal(&m, &x, v)
		surf := skin{base: x.base, metal: x.metal}
		tan, bit := geom.Basis(n)
		in := func(w geom.Vec3) geom.Vec3 { return geom.Vec3{X: w.Dot(tan), Y: w.Dot(bit), Z: w.Dot(n)} }
		lv := in(v)
		surf.ready(x.rough, lv.Z)
		if x.emissive != (geom.Vec3{}) {
			add(bounce, x.emissive)
			if bounce == 0 {
				k.glow = x.emissive
			}
		}
		at := m.at.Add(m.out.Mul(t.scene.eps))
		t.lit(at, &m, func(l, c geom.Vec3, p float32) {
			f, q := surf.value(lv, in(l))
			if p > 0 {
				c = c.Mul(weigh(p, q) / p)
			}
			add(bounce+1, times(f, c))
		}, s, k, chance)
		a, b := s.two()
		which, roulette := s.two()
		l := surf.sample(lv, a, b, which)
		f, q := surf.value(lv, l)
		if q <= 0 {
			return sum, 1
		}
		w := tan.Mul(l.X).Add(bit.Mul(l.Y)).Add(n.Mul(l.Z))
		if w.Dot(m.out) <= 0 {
			return sum, 1 // below the face itself
		}
		through = times(through, f.Mul(1/q))
		if bounce >= 2 {
			keep := min(0.95, max(through.X, through.Y, through.Z))
			if roulette >= keep {
				return sum, 1
			}
			through = through.Mul(1 / keep)
		}
		o, d, density = at, w, q
	}
	return sum, 1
}

// weigh is how much a sample counts that was picked with density p and could have been with q, so that both together count once: the power
// heuristic (Veach, Robust Monte Carlo Methods for Light Transport Simulation, 1997, §9.2).
func weigh(p, q float32) float32 {
	if math.IsInf(float64(p), 1) {
		return 1
	}
	r := q / max(1e-30, p)
	return 1 / (1 + r*r)
}

// normal is the normal with the map's, not turned away from who looks.
func (t *Tracer) normal(m *met, here *texel, v geom.Vec3) geom.Vec3 {
	tan := m.t.Sub(m.n.Mul(m.t.Dot(m.n))).Norm()
	bit := m.n.Cross(tan).Mul(m.sign)
	n := tan.Mul(here.normal.X).Add(bit.Mul(here.normal.Y)).Add(m.n.Mul(here.normal.Z)).Norm()
	const least = 0.02
	if c := n.Dot(v); c < least {
		n = n.Add(v.Mul(least - c)).Norm()
	}
	return n
}

// lit calls f for light that comes straight from a lamp or from the sky: the way to it, how much comes, and how often that way is picked; 0 for
// one that only lamps without a size give.
func (t *Tracer) lit(at geom.Vec3, m *met, f func(l, c geom.Vec3, p float32), s *sampler, k *walker, chance func() float32) {
	seen := func(l geom.Vec3, far float32) bool {
		return l.Dot(m.out) > 0 && t.scene.open(at, l, far, k, chance)
	}
	if t.of.Sky != nil {
		a, b := s.two()
		if l, p := t.of.Sky.Sample(float64(a), float64(b)); l.Dot(m.out) > 0 && seen(l, math.MaxFloat32) {
			f(l, t.of.Sky.Light(l), float32(p))
		}
	}
	for i := range t.lamps {
		k := &t.lamps[i]
		switch k.Kind {
		case light.SunUp:
			if l := k.way.Neg(); l.Dot(m.out) > 0 && seen(l, math.MaxFloat32) {
				f(l, k.colour.Mul(k.strength), 0)
			}
		case light.Area:
			a, b := s.two()
			q := k.spread(a, b)
			w := q.Sub(at)
			far := w.Len()
			l := w.Mul(1 / max(1e-9, far))
			if c := -l.Dot(k.way); c > 0 && seen(l, far*0.9999) {
				f(l, k.colour.Mul(k.strength), far*far/(c*k.area))
			}
		default:
			q := k.at
			if k.Wide > 0 { // a ball: its shadows are soft
				a, b := s.two()
				z := 1 - 2*a
				r := float32(math.Sqrt(float64(max(0, 1-z*z))))
				sin, cos := math.Sincos(2 * math.Pi * float64(b))
				q = q.Add(geom.Vec3{X: r * float32(cos), Y: z, Z: r * float32(sin)}.Mul(k.Wide / 2))
			}
			w := q.Sub(at)
			far := w.Len()
			l := w.Mul(1 / max(1e-9, far))
			c := k.colour.Mul(k.strength / max(1e-9, far*far))
			if k.Kind == light.Spot {
				c = c.Mul(float32(k.Falloff(float64(-l.Dot(k.way)))))
			}
			if c != (geom.Vec3{}) && seen(l, far*0.9999) {
				f(l, c, 0)
			}
		}
	}
}

// spread is a place of an area lamp.
func (k *lamp) spread(a, b float32) geom.Vec3 {
	x, y := (2*a-1)*k.half[0], (2*b-1)*k.half[1]
	if k.High == 0 {
		r := float32(math.Sqrt(float64(a))) * k.half[0]
		sin, cos := math.Sincos(2 * math.Pi * float64(b))
		x, y = r*float32(cos), r*float32(sin)
	}
	return k.at.Add(k.right.Mul(x)).Add(k.up.Mul(y))
}

// shining is the area lamp that a ray meets first, if any: its light, and how often lit would pick that way.
func (t *Tracer) shining(o, d geom.Vec3, far float32) (c geom.Vec3, p float32, ok bool) {
	for i := range t.lamps {
		k := &t.lamps[i]
		if k.Kind != light.Area {
			continue
		}
		cos := -d.Dot(k.way)
		if cos <= 0 {
			continue // its back does not shine
		}
		w := k.at.Sub(o).Dot(k.way) / d.Dot(k.way)
		if w <= 0 || w >= far {
			continue
		}
		q := o.Add(d.Mul(w)).Sub(k.at)
		x, y := q.Dot(k.right), q.Dot(k.up)
		in := x*x+y*y <= k.half[0]*k.half[0]
		if k.High > 0 {
			in = max(x, -x) <= k.half[0] && max(y, -y) <= k.half[1]
		}
		if in {
			far, c, p, ok = w, k.colour.Mul(k.strength), w*w/(cos*k.area), true
		}
	}
	return c, p, ok
}

// behind is what a picture shows where the model is not.
func (t *Tracer) behind(o, d geom.Vec3, s *sampler, k *walker, chance func() float32) (geom.Vec3, float32) {
	b := &t.set.Backdrop
	back, alpha := b.Colour.Mul(1/t.set.Exposure), float32(1)
	switch {
	case b.Clear:
		back, alpha = geom.Vec3{}, 0
	case b.Sky && t.of.Sky != nil:
		back = t.blurred(d, s).Mul(b.Dim)
	}
	if !b.Ground || d.Y >= -1e-4 || o.Y <= t.below {
		return back, alpha
	}
	far := (t.below - o.Y) / d.Y
	at := o.Add(d.Mul(far))
	mid := t.scene.box.Centre()
	off := geom.Vec3{X: at.X - mid.X, Z: at.Z - mid.Z}.Len() / t.wide
	fade := geom.Clamp01((1.5 - off) / 0.7)
	if fade == 0 {
		return back, alpha
	}
	// How much of the light that bare ground would take comes through.
	up := geom.Vec3{Y: 1}
	m := met{at: at, n: up, out: up}
	var got, all float32
	t.lit(at.Add(up.Mul(t.scene.eps)), &m, func(l, c geom.Vec3, p float32) {
		if p == 0 {
			p = 1
		}
		got += lum(c) * l.Y / p
	}, s, k, chance)
	all = lum(t.bare) + t.bareLamps(at)
	share := float32(1)
	if all > 0 {
		share = got / all
	}
	dark := (1 - share) * fade
	if b.Clear {
		// A shadow is black that covers as much as it darkens.
		return geom.Vec3{}, dark
	}
	return back.Mul(1 - dark), alpha
}

// blurred is the surroundings as a backdrop: a ray goes a little astray, up to about 30°.
func (t *Tracer) blurred(d geom.Vec3, s *sampler) geom.Vec3 {
	if b := float32(t.set.Backdrop.Blur); b > 0 {
		u, v := s.two()
		r := 0.6 * b * float32(math.Sqrt(float64(u)))
		sin, cos := math.Sincos(2 * math.Pi * float64(v))
		x, y := geom.Basis(d)
		d = d.Add(x.Mul(r * float32(cos))).Add(y.Mul(r * float32(sin))).Norm()
	}
	return t.of.Sky.Light(d)
}

// bareLamps is what level ground takes of the lamps when nothing stands in their way.
func (t *Tracer) bareLamps(at geom.Vec3) (sum float32) {
	for i := range t.lamps {
		k := &t.lamps[i]
		switch k.Kind {
		case light.SunUp:
			sum += max(0, -k.way.Y) * k.strength * lum(k.colour)
		case light.Area:
			const n = 4
			for j := range n * n {
				w := k.spread((float32(j%n)+0.5)/n, (float32(j/n)+0.5)/n).Sub(at)
				far := w.Len()
				l := w.Mul(1 / far)
				sum += max(0, l.Y) * max(0, -l.Dot(k.way)) / (far * far) * k.area * k.strength * lum(k.colour) / (n * n)
			}
		default:
			w := k.at.Sub(at)
			far := w.Len()
			l := w.Mul(1 / far)
			c := k.strength * lum(k.colour) / (far * far)
			if k.Kind == light.Spot {
				c *= float32(k.Falloff(float64(-l.Dot(k.way))))
			}
			sum += max(0, l.Y) * c
		}
	}
	return sum
}

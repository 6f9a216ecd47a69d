package still

import (
	"context"
	"errors"
	"fmt"
	"image"
	"io"
	"math"
	"slices"
	"strings"

	"crust/internal/core/compose"
	"crust/internal/core/geom"
	"crust/internal/core/imgfile"
	"crust/internal/core/light"
	"crust/internal/core/mesh"
	"crust/internal/core/par"
	"crust/internal/core/pixel"
	"crust/internal/core/strata"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
)

// Sizes of stills in px of the longer side, and how finely they may be sampled.
const (
	LeastSize, MostSize       = 16, 8192
	LeastSamples, MostSamples = 1, 16384
	DefaultSamples            = 128
	MostOver                  = 8
)

// Shot is a still that is wanted.
type Shot struct {
	Model   *mesh.Model
	Sets    []uv.Set
	Maps    []*Maps // by set, see Evaluate
	Setup   light.Setup
	Sky     *light.Environment // of surroundings that are a picture; nil for those that ship
	Long    int                // px of the longer side
	Wide    float64            // proportion without a frame; 0 for 4 : 3
	Over    int                // it is made so many times as large and then scaled down; 0 is 1
	Samples int                // a pixel of the still
	Clear   bool               // nothing stands behind the model
	Seed    uint32
}

// Check says what is wrong with what is wanted.
func (s *Shot) Check() error {
	if s.Long < LeastSize || s.Long > MostSize {
		return fmt.Errorf("a still of %d px is not offered; its longer side has %d to %d", s.Long, LeastSize, MostSize)
	}
	if s.Samples < LeastSamples || s.Samples > MostSamples {
		return fmt.Errorf("%d samples a pixel are not offered; it is %d to %d", s.Samples, LeastSamples, MostSamples)
	}
	if s.Over < 0 || s.Over > MostOver || s.Long*max(1, s.Over) > MostSize {
		return fmt.Errorf("a still of %d px cannot be made %d times as large; it is up to %d times, and %d px", s.Long, s.Over, MostOver, MostSize)
	}
	return s.Setup.Check()
}

// Evaluate makes the maps of all sets of a body from its document, each in its size.
func Evaluate(ctx context.Context, b *compose.Body, sets []uv.Set, doc *strata.Document, size func(key string) int, share func(float64)) ([]*Maps, error) {
	out := make([]*Maps, len(sets))
	for i := range sets {
		c, err := compose.NewCanvas(ctx, b, &sets[i], size(sets[i].Key))
		if errors.Is(err, surface.ErrEmpty) {
			continue
		}
		if err != nil {
			return nil, err
		}
		ch, err := c.Evaluate(ctx, doc)
		if err == nil {
			if err = c.Surf.Pad(ctx); err == nil {
				out[i] = packed(c, ch)
			}
		}
		c.Close()
		if err != nil {
			return nil, err
		}
		if share != nil {
			share(float64(i+1) / float64(len(sets)))
		}
	}
	return out, nil
}

// packed lays channels out as squares; empty texels take the nearest's values.
func packed(c *compose.Canvas, ch *compose.Channels) *Maps {
	n := c.Surf.Size
	m := &Maps{Size: n}
	put := func(of []float32, scale, lift float32) []uint16 {
		if of == nil {
			return nil
		}
		out := make([]uint16, n*n)
		for i, at := range c.Surf.Nearest {
			out[i] = pixel.Q16(of[at]*scale + lift)
		}
		return out
	}
	for k := range 3 {
		m.Base[k], m.Emissive[k] = put(ch.Base[k], 1, 0), put(ch.Emissive[k], 1, 0)
	}
	m.Rough, m.Metal, m.Opacity, m.Occlusion = put(ch.Roughness, 1, 0), put(ch.Metallic, 1, 0), put(ch.Opacity, 1, 0), put(ch.AO, 1, 0)
	if !slices.ContainsFunc(m.Opacity, func(v uint16) bool { return v < 65535 }) {
		m.Opacity = nil // a layer asks for it and lets nothing through
	}
	for k := range 2 {
		m.Normal[k] = put(ch.Normal[k], 32767./65535, 32768./65535)
	}
	for _, h := range ch.Height {
		if h != 0 {
			m.Height = make([]float32, n*n)
			for i, at := range c.Surf.Nearest {
				m.Height[i] = ch.Height[at]
			}
			break
		}
	}
	return m
}

// Each is how many samples each pixel that is followed has: those of a pixel of the still are shared among the pixels it is made of.
func (s *Shot) Each() int {
	over := max(1, s.Over)
	return (s.Samples + over*over - 1) / (over * over)
}

// Scene makes the shot's scene.
func (s *Shot) Scene(ctx context.Context) (*Scene, error) {
	if err := s.Check(); err != nil {
		return nil, err
	}
	for _, m := range s.Maps {
		if m != nil {
			m.EmissiveStrength = max(1e-6, float32(s.Setup.Surface.Glow))
		}
	}
	// Half as many faces as the picture has pixels show about all that it can.
	faces := min(DefaultFaces, max(100_000, s.Long*s.Long/3))
	scene, err := NewScene(ctx, s.Model, s.Sets, s.Maps, Look{Shape: float32(s.Setup.Surface.Shape), Cut: float32(s.Setup.Surface.Cut), Both: s.Setup.Surface.Both, Faces: faces})
	if err != nil {
		return nil, err
	}
	if scene.Faces() == 0 {
		return nil, errors.New("no face of the model has a place on a texture set, so there is nothing to show; lay it out in Intake")
	}
	return scene, nil
}

// Tracer makes a picture of the shot ready: through a frame, or with nil in a view that fits the model, of the surface in its light or with its
// name of a channel.
func (s *Shot) Tracer(scene *Scene, f *light.Frame, channel string) (*Tracer, error) {
	show, err := ChannelOf(channel)
	if err != nil {
		return nil, err
	}
	wide, high := 4., 3.
	cam := Camera{}
	if s.Wide > 0 {
		wide, high = s.Wide, 1
	}
	if f != nil {
		wide, high = float64(f.Wide), float64(f.High)
		cam = Camera{Eye: geom.FromArray(f.Eye), At: geom.FromArray(f.At)}
		cam.Focal(float64(f.Mm), wide, high)
	} else {
		cam = Fit(scene, wide/high)
	}
	set := Settings{Width: s.Long, Height: s.Long, Over: max(1, s.Over), Seed: s.Seed, Show: show, Halo: float32(s.Setup.Surface.Halo), Exposure: float32(Base * math.Exp2(s.Setup.Exposure))}
	if wide > high {
		set.Height = max(1, int(float64(s.Long)*high/wide+0.5))
	} else {
		set.Width = max(1, int(float64(s.Long)*wide/high+0.5))
	}
	set.Width, set.Height = set.Width*set.Over, set.Height*set.Over
	of, err := Lit(&s.Setup, s.Sky)
	if err != nil {
		return nil, err
	}
	b := &s.Setup.Backdrop
	rgb, err := strata.ParseHex(b.Hex)
	if err != nil {
		return nil, err
	}
	set.Backdrop = Backdrop{Clear: s.Clear, Sky: b.Kind == light.BackSky, Ground: b.Ground && s.Model.Square == nil,
		Colour: Untone(geom.Vec3{X: pixel.FromSRGB(rgb[0]), Y: pixel.FromSRGB(rgb[1]), Z: pixel.FromSRGB(rgb[2])})}
	if set.Backdrop.Sky {
		set.Backdrop.Blur, set.Backdrop.Dim = b.Blur, float32(b.Dim)
	}
	return NewTracer(scene, of, cam, set), nil
}

// Base is how light of 1 from the surroundings is exposed before any stops: so that a grey card of 18 % is about as bright as in daylight.
const Base = 1.15

// skyWidth is that of the surroundings that light stills, in px.
const skyWidth = 512

// Lit are the lights of a setup; sky is that of surroundings that are a picture.
func Lit(s *light.Setup, sky *light.Environment) (Lights, error) {
	of, err := light.Of(s.Sky)
	if err != nil {
		return Lights{}, err
	}
	turn := s.Turn * math.Pi / 180
	sin, cos := math.Sincos(turn)
	key := geom.Vec3{X: float32(cos*of.Key[0] + sin*of.Key[2]), Y: float32(of.Key[1]), Z: float32(cos*of.Key[2] - sin*of.Key[0])}
	strong := float32(s.Strength)
	if strings.HasPrefix(s.Sky, light.Own) {
		if sky == nil {
			return Lights{}, errors.New("the picture that lights the asset is not there any more; choose other surroundings")
		}
	} else {
		sky = of.Panorama(skyWidth)
	}
	return Lights{Sky: sky.Sky(turn, s.Strength), Lamps: s.Lamps, Unit: of.Nits,
		Key: key, KeyLight: geom.Vec3{X: float32(of.KeyLight[0]), Y: float32(of.KeyLight[1]), Z: float32(of.KeyLight[2])}.Mul(strong)}, nil
}

// Fit is a camera that has the whole model in view, from the side that the pages begin with.
func Fit(s *Scene, proportion float64) Camera {
	dir := geom.Vec3{X: 0.62, Y: 0.26, Z: 0.78}.Norm()
	if size := s.box.Size(); size.Y < 0.05*s.box.Diagonal() { // what lies flat is seen from above
		dir = geom.Vec3{X: 0.35, Y: 0.8, Z: 0.62}.Norm()
	}
	side := geom.Vec3{Y: 1}.Cross(dir).Norm()
	up := dir.Cross(side)
	tall := float32(math.Tan(16 * math.Pi / 180))
	across := tall * float32(proportion)
	mid := s.box.Centre()
	far := float32(0)
	for _, p := range s.place {
		c := p.Sub(mid)
		abs := func(v float32) float32 { return max(v, -v) }
		far = max(far, c.Dot(dir)+max(abs(c.Dot(side))/across, abs(c.Dot(up))/tall)*1.12)
	}
	return Camera{Eye: mid.Add(dir.Mul(far)), At: mid, Tall: tall}
}

// Untone is what Tone brings to a value that a screen shows.
func Untone(c geom.Vec3) geom.Vec3 {
	low := min(c.X, c.Y, c.Z)
	off := float32(0.04)
	if low < 0.04 {
		off = float32(math.Sqrt(float64(low)/6.25)) - low
	}
	scale := float32(1)
	if peak := max(c.X, c.Y, c.Z); peak > 0.75 { // nearer to 1 it would have to be far brighter
		scale = 0.75 / peak
	}
	return c.Mul(scale).Add(geom.Vec3{X: off, Y: off, Z: off})
}

// screen is a pixel as a screen shows it, linear for colours, with its alpha; the colour is not multiplied by that.
func (t *Tracer) screen(px []float32) (geom.Vec3, float32) {
	a := min(1, max(0, px[3]))
	c := geom.Vec3{X: px[0], Y: px[1], Z: px[2]}
	if t.set.Show != nil {
		return t.set.Show.screen(c, a, t.most, t.set.Backdrop.Colour, t.set.Backdrop.Clear)
	}
	c = c.Mul(t.set.Exposure)
	if a > 0 && a < 1 {
		c = c.Mul(1 / a)
	}
	return Tone(c), a
}

// Shown is a picture as a screen shows it: exposed, toned, in sRGB, with its alpha, and scaled down where it was made larger.
func (t *Tracer) Shown(p *Picture) *image.NRGBA {
	over := t.set.Over
	p = t.haloed(p)
	out := image.NewNRGBA(image.Rect(0, 0, p.Width/over, p.Height/over))
	encode := pixel.ToSRGB
	if t.set.Show != nil && !t.set.Show.colour {
		encode = func(v float32) float32 { return v }
	}
	_ = par.Blocks(context.Background(), out.Rect.Dy(), 8, func(_, from, to int) {
		for y := from; y < to; y++ {
			for x := range out.Rect.Dx() {
				var sum geom.Vec3
				all := float32(0)
				for j := range over * over {
					c, a := t.screen(p.Pix[4*((y*over+j/over)*p.Width+x*over+j%over):])
					sum, all = sum.Add(geom.Vec3{X: geom.Clamp01(c.X), Y: geom.Clamp01(c.Y), Z: geom.Clamp01(c.Z)}.Mul(a)), all+a
				}
				if all > 0 {
					sum = sum.Mul(1 / all)
				}
				to := out.Pix[out.PixOffset(x, y):]
				for k, v := range sum.Array() {
					to[k] = pixel.Q8(encode(v))
				}
				to[3] = pixel.Q8(all / float32(over*over))
			}
		}
	})
	return out
}

// WritePNG writes a picture as a screen shows it.
func (t *Tracer) WritePNG(w io.Writer, p *Picture) error {
	img := t.Shown(p)
	channels := 3
	if t.set.Backdrop.Clear {
		channels = 4
	}
	pix := make([]uint8, 0, channels*len(img.Pix)/4)
	for i := 0; i < len(img.Pix); i += 4 {
		pix = append(pix, img.Pix[i:i+channels]...)
	}
	return imgfile.WritePNG(w, &imgfile.Image{Width: img.Rect.Dx(), Height: img.Rect.Dy(), Channels: channels, Bits: 8, Pix8: pix, SRGB: true}, 6)
}

// WriteEXR writes the light itself, linear, exposed but not toned, or a channel's values; premultiplied by alpha where there is one.
func (t *Tracer) WriteEXR(w io.Writer, p *Picture) error {
	channels, exposure := 3, t.set.Exposure
	if t.set.Backdrop.Clear || t.set.Show != nil {
		channels = 4
	}
	if t.set.Show != nil {
		exposure = 1
	}
	over := t.set.Over
	p = t.haloed(p)
	wide, high := p.Width/over, p.Height/over
	pix := make([]float32, 0, channels*wide*high)
	for i := range wide * high {
		var sum [4]float32
		for j := range over * over {
			for k, v := range p.Pix[4*((i/wide*over+j/over)*p.Width+i%wide*over+j%over):][:4] {
				sum[k] += v / float32(over*over)
			}
		}
		for k := range 3 {
			sum[k] *= exposure
		}
		pix = append(pix, sum[:channels]...)
	}
	return imgfile.WriteEXR(w, wide, high, channels, pix)
}

// Noise is about how far the pixels of a picture are from what they will be, in parts of 255 as a screen shows it. It
// compares two of as many samples and other seeds, and is that of both together: half the root of the mean square of their difference.
func (t *Tracer) Noise(a, b *Picture) float64 {
	x, y := t.Shown(a), t.Shown(b)
	sum := 0.0
	for i := range x.Pix {
		if i%4 < 3 {
			d := float64(x.Pix[i]) - float64(y.Pix[i])
			sum += d * d
		}
	}
	// The difference of two has twice the variance of one, and both together have half of it.
	return math.Sqrt(sum/float64(3*len(x.Pix)/4)) / 2
}

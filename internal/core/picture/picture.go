// Package picture holds pictures that are laid on surfaces: read with bilinear interpolation between their pixels and between
// halved copies of themselves (Williams, Pyramidal Parametrics, 1983), so that they neither blur nor flicker when texels are
// larger than pixels. Pictures go on beyond their rims by repeating.
package picture

import (
	"context"
	"fmt"
	"math"
	"slices"

	"crust/internal/core/imgfile"
	"crust/internal/core/par"
	"crust/internal/core/pixel"
)

// Space is what a picture's values mean.
type Space string

// Colour pictures are encoded as sRGB has it (IEC 61966-2-1); data stand for themselves.
const (
	Colour Space = "colour"
	Data   Space = "data"
)

// MaxSide is the longest side in px that a picture is kept at; larger ones are halved.
const MaxSide = 4096

// Picture is a picture with its halved copies. Values are as in the file, 0–1.
type Picture struct {
	Width, Height int
	Channels      int // grey, grey and alpha, colour, colour and alpha
	Space         Space
	levels        []level
}

// level is the picture at one size, in as many bits as its file had, 8 or 16.
type level struct {
	w, h  int
	pix   []uint16
	bytes []uint8 // in place of pix
}

// beyond is how many values may be read past a level's last, and count for nothing: whole words are read.
const beyond = 4

// Bytes is how much room the picture takes.
func (p *Picture) Bytes() (n int) {
	for _, l := range p.levels {
		n += 2*len(l.pix) + len(l.bytes)
	}
	return n
}

// New makes a picture ready from what was read of a file. Floats are linear and are clipped to 0–1.
func New(from *imgfile.Picture, space Space) (*Picture, error) {
	if from.Channels < 1 || from.Channels > 4 {
		return nil, fmt.Errorf("it has %d channels; a picture has 1 to 4", from.Channels)
	}
	p := &Picture{Width: from.Width, Height: from.Height, Channels: from.Channels, Space: space}
	base := level{w: from.Width, h: from.Height, pix: from.Whole}
	if base.pix == nil {
		base.pix = make([]uint16, from.Len())
		linear := space == Colour && from.Float
		for i := range base.pix {
			v := from.At(i)
			if linear && (i%from.Channels < 3 || from.Channels < 4) {
				v = pixel.ToSRGB(min(1, max(0, v)))
			}
			base.pix[i] = pixel.Q16(v)
		}
	}
	for max(base.w, base.h) > MaxSide {
		base = p.halved(base)
	}
	p.levels = []level{base}
	for l := base; l.w > 1 || l.h > 1; {
		l = p.halved(l)
		p.levels = append(p.levels, l)
	}
	if from.Bits != 8 {
		p.levels[0].pix = slices.Grow(p.levels[0].pix, beyond)
	} else {
		for i := range p.levels {
			l := &p.levels[i]
			l.bytes = make([]uint8, len(l.pix), len(l.pix)+beyond)
			for k, v := range l.pix {
				l.bytes[k] = uint8((uint32(v) + 128) / 257)
			}
			l.pix = nil
		}
	}
	return p, nil
}

// alpha tells whether channel c says how much of the picture is there.
func (p *Picture) alpha(c int) bool { return p.Channels == 2 && c == 1 || p.Channels == 4 && c == 3 }

// halved averages squares of four pixels, as light where the picture holds colours.
func (p *Picture) halved(of level) level {
	out := level{w: max(1, of.w/2), h: max(1, of.h/2)}
	n := p.Channels
	out.pix = make([]uint16, out.w*out.h*n, out.w*out.h*n+beyond)
	row := func(y int) {
		for x := range out.w {
			x0, y0 := x*of.w/out.w, y*of.h/out.h
			x1, y1 := min(of.w-1, x0+1), min(of.h-1, y0+1)
			for c := range n {
				at := [4]uint16{of.pix[(y0*of.w+x0)*n+c], of.pix[(y0*of.w+x1)*n+c], of.pix[(y1*of.w+x0)*n+c], of.pix[(y1*of.w+x1)*n+c]}
				if p.Space == Data || p.alpha(c) {
					out.pix[(y*out.w+x)*n+c] = uint16((uint32(at[0]) + uint32(at[1]) + uint32(at[2]) + uint32(at[3]) + 2) / 4)
					continue
				}
				sum := float32(0)
				for _, v := range at {
					sum += light(v)
				}
				out.pix[(y*out.w+x)*n+c] = pixel.Q16(pixel.ToSRGB(sum / 4))
			}
		}
	}
	_ = par.Blocks(context.Background(), out.h, 32, func(_, from, to int) {
		for y := from; y < to; y++ {
			row(y)
		}
	})
	return out
}

// lights are the linear values of 4096 encoded ones.
var lights = func() (t [4097]float32) {
	for i := range t {
		t[i] = pixel.FromSRGB(float32(i) / 4096)
	}
	return t
}()

func light(v uint16) float32 {
	x := float32(v) * (4096. / 65535)
	i := min(4095, int(x))
	return lights[i] + (lights[i+1]-lights[i])*(x-float32(i))
}

// Level is how often the picture is halved where a step to the next place is so many pixels wide.
func (p *Picture) Level(step float32) float32 {
	if step <= 1 {
		return 0
	}
	return min(float32(len(p.levels)-1), float32(math.Log2(float64(step))))
}

// Read is channel values at (u, v), 0–1 from the top left and repeating, of the picture halved so often (see Level). out has
// room for as many channels as the picture has.
func (p *Picture) Read(u, v, lod float32, out *[4]float32) {
	i := int(lod)
	p.levels[i].read(u, v, p.Channels, out)
	if f := lod - float32(i); f > 0 {
		var next [4]float32
		p.levels[i+1].read(u, v, p.Channels, &next)
		for c := range p.Channels {
			out[c] += (next[c] - out[c]) * f
		}
	}
}

// ReadRun is Read of many places at once: a run of values for each channel of the picture.
func (p *Picture) ReadRun(u, v []float32, lod float32, out *[4][]float32) {
	for c := range p.Channels {
		clear(out[c][:len(u)])
	}
	i := int(lod)
	p.levels[i].readRun(p.Channels, u, v, 1, 0, out)
	if f := lod - float32(i); f > 0 {
		p.levels[i+1].readRun(p.Channels, u, v, f, 1-f, out)
	}
}

// readRun leaves in out a share of what is there, and adds the level's values by theirs.
func (l *level) readRun(n int, u, v []float32, share, rest float32, out *[4][]float32) {
	if done := l.readWide(n, u, v, share, rest, out); done > 0 {
		u, v = u[done:], v[done:]
		var left [4][]float32
		for c := range n {
			left[c] = out[c][done:]
		}
		out = &left
	}
	if l.bytes != nil {
		readRun(l, l.bytes, n, u, v, share/255, rest, out)
	} else {
		readRun(l, l.pix, n, u, v, share/65535, rest, out)
	}
}

func readRun[T uint8 | uint16](l *level, pix []T, n int, u, v []float32, scale, rest float32, out *[4][]float32) {
	wide, high := float32(l.w), float32(l.h)
	a, b, c := out[0][:len(u)], out[min(1, n-1)][:len(u)], out[min(2, n-1)][:len(u)]
	v = v[:len(u)]
	for i, x := range u {
		y := v[i]
		x, y = (x-floor(x))*wide-0.5, (y-floor(y))*high-0.5
		x0, y0 := floor(x), floor(y)
		fx, fy := x-x0, y-y0
		i0, i1 := wrap(int(x0), l.w)*n, wrap(int(x0)+1, l.w)*n
		j0, j1 := wrap(int(y0), l.h)*l.w*n, wrap(int(y0)+1, l.h)*l.w*n
		p, q, r, s := pix[j0+i0:], pix[j0+i1:], pix[j1+i0:], pix[j1+i1:]
		a[i] = a[i]*rest + mixed(p[0], q[0], r[0], s[0], fx, fy)*scale
		if n >= 3 {
			p, q, r, s := p[:3], q[:3], r[:3], s[:3]
			b[i] = b[i]*rest + mixed(p[1], q[1], r[1], s[1], fx, fy)*scale
			c[i] = c[i]*rest + mixed(p[2], q[2], r[2], s[2], fx, fy)*scale
		}
		if n&1 == 0 {
			k := n - 1
			out[k][i] = out[k][i]*rest + mixed(p[k], q[k], r[k], s[k], fx, fy)*scale
		}
	}
}

// mixed mixes the four pixels round a place.
func mixed[T uint8 | uint16](p, q, r, s T, fx, fy float32) float32 {
	top := float32(p) + (float32(q)-float32(p))*fx
	low := float32(r) + (float32(s)-float32(r))*fx
	return top + (low-top)*fy
}

func (l *level) read(u, v float32, n int, out *[4]float32) {
	x, y := (u-floor(u))*float32(l.w)-0.5, (v-floor(v))*float32(l.h)-0.5
	x0, y0 := floor(x), floor(y)
	fx, fy := x-x0, y-y0
	i0, i1 := wrap(int(x0), l.w), wrap(int(x0)+1, l.w)
	j0, j1 := wrap(int(y0), l.h)*l.w, wrap(int(y0)+1, l.h)*l.w
	at := [4]int{(j0 + i0) * n, (j0 + i1) * n, (j1 + i0) * n, (j1 + i1) * n}
	if l.bytes != nil {
		between(l.bytes, &at, n, fx, fy, 1./255, out)
	} else {
		between(l.pix, &at, n, fx, fy, 1./65535, out)
	}
}

// between mixes the four pixels round a place.
func between[T uint8 | uint16](pix []T, at *[4]int, n int, fx, fy, scale float32, out *[4]float32) {
	a, b, c, d := pix[at[0]:][:n], pix[at[1]:][:n], pix[at[2]:][:n], pix[at[3]:][:n]
	for k := range a {
		top := float32(a[k]) + (float32(b[k])-float32(a[k]))*fx
		low := float32(c[k]) + (float32(d[k])-float32(c[k]))*fx
		out[k] = (top + (low-top)*fy) * scale
	}
}

// floor of what fits 31 bits.
func floor(v float32) float32 {
	i := float32(int32(v))
	if i > v {
		i--
	}
	return i
}

func wrap(i, n int) int {
	if i < 0 {
		return i + n
	}
	if i >= n {
		return i - n
	}
	return i
}

// Guess is what a picture's values most likely mean: colour when it is seen to hold colours in whole numbers, unless its name
// says that it is a map of something else.
func Guess(from *imgfile.Picture, kind string) Space {
	switch {
	case kind == "colour" || kind == "emissive":
		return Colour
	case kind != "" || from.Float || from.Channels < 3:
		return Data
	}
	n, coloured, samples := from.Channels, 0, 0
	step := max(1, from.Width*from.Height/4096)
	blue := 0
	for i := 0; i < from.Width*from.Height; i += step {
		r, g, b := from.At(i*n), from.At(i*n+1), from.At(i*n+2)
		if max(r, g, b)-min(r, g, b) > 0.06 {
			coloured++
		}
		if b > 0.7 && r > 0.3 && r < 0.7 && g > 0.3 && g < 0.7 {
			blue++
		}
		samples++
	}
	if blue > samples*3/4 {
		return Data // a tangent-space normal map is mostly (½, ½, 1)
	}
	if coloured*20 > samples {
		return Colour
	}
	return Data
}

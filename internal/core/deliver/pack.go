package deliver

import (
	"cmp"
	"context"
	"encoding/binary"
	"hash/fnv"
	"io"
	"math"
	"os"
	"strings"
	"sync"

	"crust/internal/core/bake"
	"crust/internal/core/compose"
	"crust/internal/core/imgfile"
	"crust/internal/core/pixel"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
)

// packing is one file of one set in the making: its texels as covered texels have them, packed as in cover, high bytes first.
type packing struct {
	cover  *surface.Surface
	set    *uv.Set
	file   *File
	name   string
	own    bool // it is made for the model alone and not delivered by itself
	format *imgfile.Format
	planes []plane
	bytes  int // a texel
	pix    []byte
	raw    bool   // values as floats, until their range or their palette is known
	spill  string // where pix lies meanwhile
	chance []uint32
	mu     sync.Mutex
	low    []float32 // of each plane, over all texels
	high   []float32
}

func (r *run) newPacking(cover *surface.Surface, set *uv.Set, f *File, name string) (*packing, error) {
	p := &packing{cover: cover, set: set, file: f, name: name}
	var err error
	if p.format, err = imgfile.FormatOf(f.Format); err != nil {
		return nil, err
	}
	for _, of := range f.Planes() {
		s, err := of.on(r.j.Document)
		if err != nil {
			return nil, err
		}
		if s.Height && !p.format.Float && f.Low == 0 && f.High == 0 {
			p.raw = true
		}
		h := fnv.New32a()
		io.WriteString(h, cmp.Or(s.grain, s.Name))
		p.planes, p.chance = append(p.planes, s), append(p.chance, h.Sum32())
		p.low, p.high = append(p.low, math.MaxFloat32), append(p.high, -math.MaxFloat32)
	}
	p.bytes = len(p.planes) * f.Bits / 8
	if p.raw {
		p.bytes = 4 * len(p.planes)
	}
	p.pix = make([]byte, cover.Len()*p.bytes)
	return p, nil
}

// later tells whether the file can be finished only when all sets are evaluated.
func (p *packing) later() bool { return p.raw || p.file.Colours > 0 }

// given is what a band's tiles are packed from besides their channels.
type given struct {
	canvas *compose.Canvas
	texels []uint32 // of the band, in its order
	maps   map[string]*bake.Map
	wheres map[int][]float32 // by layer
}

// take packs a tile's channels from its texel first on. Several workers do so at once, for tiles of their own.
func (p *packing) take(first, from, to int, ch *compose.Channels, g *given) {
	n := to - from
	v := make([]float32, n)
	for k := range p.planes {
		s := &p.planes[k]
		switch s.kind {
		case ofValue:
			for i := range v {
				v[i] = s.rest
			}
		case ofMap:
			s.sample(g, g.texels[from:to], v)
		case ofWhere:
			copy(v, g.wheres[s.layer][from:to])
		default:
			s.fill(ch, v)
		}
		low, high := v[0], v[0]
		for _, x := range v {
			low, high = min(low, x), max(high, x)
		}
		p.mu.Lock()
		p.low[k], p.high[k] = min(p.low[k], low), max(p.high[k], high)
		p.mu.Unlock()
		if s.Colour && !p.file.SRGB {
			for i, x := range v {
				v[i] = pixel.FromSRGB(x)
			}
		}
		p.put(first, k, v, g.texels[from:to])
	}
}

// sample reads a baked map at texels; without the map its neutral value stands there.
func (s *plane) sample(g *given, texels []uint32, v []float32) {
	m := g.maps[s.of]
	size := g.canvas.Surf.Size
	for i, at := range texels {
		if m == nil {
			v[i] = s.rest
			continue
		}
		v[i] = m.At((float32(int(at)%size)+0.5)/float32(size), (float32(int(at)/size)+0.5)/float32(size), s.channel)
	}
}

// put packs the values of a plane.
func (p *packing) put(first, k int, v []float32, texels []uint32) {
	into, s := p.pix[first*p.bytes:], &p.planes[k]
	if p.raw {
		for i, x := range v {
			binary.BigEndian.PutUint32(into[i*p.bytes+4*k:], math.Float32bits(x))
		}
		return
	}
	at := k * p.file.Bits / 8
	if p.format.Float {
		for i, x := range v {
			if s.flip {
				x = 1 - x
			}
			if b := into[i*p.bytes+at:]; p.file.Bits == 16 {
				binary.BigEndian.PutUint16(b, pixel.Half(x))
			} else {
				binary.BigEndian.PutUint32(b, math.Float32bits(x))
			}
		}
		return
	}
	if s.Height {
		heights(v, p.file.Low, p.file.High)
	}
	if p.file.Bits == 16 {
		for i, x := range v {
			binary.BigEndian.PutUint16(into[i*p.bytes+at:], uint16(quantum(x, 65535, 0.5, s.flip)))
		}
		return
	}
	for i, x := range v {
		c := float32(0.5)
		if p.file.Dither {
			c = chanceOf(texels[i], p.chance[k])
		}
		into[i*p.bytes+at] = byte(quantum(x, 255, c, s.flip))
	}
}

// heights turns metres into shares of a range.
func heights(v []float32, low, high float64) {
	if high <= low {
		clear(v)
		return
	}
	for i, x := range v {
		v[i] = float32((float64(x) - low) / (high - low))
	}
}

// settle packs what was kept as floats, now that the range of heights is known.
func (p *packing) settle(low, high float64, texels []uint32) {
	old, was := p.pix, p.bytes
	file := *p.file
	file.Low, file.High = low, high
	p.raw, p.file, p.bytes = false, &file, len(p.planes)*file.Bits/8
	p.pix = make([]byte, len(old)/was*p.bytes)
	v := make([]float32, surface.TileSize*surface.TileSize)
	for first := 0; first < len(texels); first += len(v) {
		part := v[:min(len(v), len(texels)-first)]
		for k := range p.planes {
			for i := range part {
				part[i] = math.Float32frombits(binary.BigEndian.Uint32(old[(first+i)*was+4*k:]))
			}
			p.put(first, k, part, texels[first:first+len(part)])
		}
	}
}

// aside puts the texels into a file until they are needed again.
func (p *packing) aside(dir string) error {
	f, err := os.CreateTemp(dir, "texels-*")
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = f.Write(p.pix)
	p.spill, p.pix, p.cover = f.Name(), nil, nil
	return err
}

// back takes the texels up again.
func (p *packing) back(cover *surface.Surface) (err error) {
	p.cover = cover
	if p.pix, err = os.ReadFile(p.spill); err == nil {
		err = os.Remove(p.spill)
	}
	return err
}

// flat tells whether every plane of a row's files but constant ones holds one value on all of them, which for channels that only
// some layers lay down is the one they have without such a layer.
func flat(of []*packing) bool {
	for k := range of[0].planes {
		s := &of[0].planes[k]
		low, high := float32(math.MaxFloat32), float32(-math.MaxFloat32)
		for _, p := range of {
			low, high = min(low, p.low[k]), max(high, p.high[k])
		}
		if s.kind != ofValue && (low != high || s.kind == "" && s.uses != "" && low != s.rest) {
			return false
		}
	}
	return true
}

// empty is a texel beyond the padding.
func (p *packing) empty() []byte {
	// It is packed like any other.
	one := packing{file: p.file, format: p.format, planes: p.planes, chance: p.chance, bytes: p.bytes, pix: make([]byte, p.bytes)}
	for k := range p.planes {
		rest := p.planes[k].rest
		if p.planes[k].Height {
			rest = float32(max(p.file.Low, min(p.file.High, 0)))
		}
		one.put(0, k, []float32{rest}, []uint32{0})
	}
	return one.pix
}

// write pads the packed texels and writes the file aside.
func (p *packing) write(ctx context.Context, dir string, palette [][3]uint8) (*Written, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	size, n, empty := p.cover.Size, p.bytes, p.empty()
	im := &imgfile.Image{Width: size, Height: size, Channels: len(p.planes), Bits: p.file.Bits, SRGB: p.file.SRGB,
		Row: func(y int, row []byte) {
			for x, i := range p.cover.Nearest[y*size : (y+1)*size] {
				if i < 0 {
					copy(row[x*n:(x+1)*n], empty)
					continue
				}
				copy(row[x*n:(x+1)*n], p.pix[int(i)*n:])
			}
		}}
	if palette != nil {
		near := nearestOf(palette)
		rgb := im.Row
		im.Channels, im.Palette = 1, palette
		im.Row = func(y int, row []byte) {
			all := make([]byte, 3*size)
			rgb(y, all)
			for x := range row {
				row[x] = near.of([3]uint8(all[3*x:]))
			}
		}
	}
	w := &Written{File: p.name, Set: p.set.Key, Tile: p.set.Tile, Bits: p.file.Bits, Format: p.format.Name, Space: p.file.Space(), Size: size, Channels: map[string]string{}}
	for k, of := range p.file.Planes() {
		w.Channels[letter(k)] = of.Words()
		switch s := &p.planes[k]; {
		case s.Height && p.format.Float:
			w.Height = "metres"
		case s.Height:
			w.Range = []float64{p.file.Low, p.file.High}
		case strings.HasPrefix(s.Name, "normal.g") && s.flip:
			w.Green = "down"
		case strings.HasPrefix(s.Name, "normal.g"):
			w.Green = "up"
		}
	}
	return w, w.make(dir, func(to io.WriteSeeker) error { return p.format.Write(to, im) })
}

// keepTo forgets padding farther than so many px from what it continues; −1 for no limit. Texels that are covered stay.
func keepTo(cover *surface.Surface, px int) {
	if px < 0 {
		return
	}
	n := cover.Size
	for i, k := range cover.Nearest {
		at := int(cover.Texel[k])
		dx, dy := i%n-at%n, i/n-at/n
		if dx*dx+dy*dy > px*px {
			cover.Nearest[i] = -1
		}
	}
}

// rangeOf rounds a range of heights outwards, to a hundredth of a millimetre.
func rangeOf(low, high float32) (float64, float64) {
	const step = 1e-5
	a, b := math.Floor(float64(low)/step)*step, math.Ceil(float64(high)/step)*step
	if b <= a {
		b = a + step
	}
	return round9(a), round9(b)
}

func round9(v float64) float64 { return math.Round(v*1e9) / 1e9 }

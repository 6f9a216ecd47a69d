package deliver

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"math"
	"slices"

	"crust/internal/core/compose"
	"crust/internal/core/geom"
	"crust/internal/core/imgfile"
	"crust/internal/core/mesh"
	"crust/internal/core/pixel"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
)

// Opened reads a file of a delivery from where it lies.
type Opened func(name string) ([]byte, error)

// Standing of a file that was delivered.
const (
	FileWhole   = "whole"
	FileMissing = "missing"
	FileChanged = "changed"
)

// State tells whether a file still is what was delivered.
func (w *Written) State(open Opened) string {
	data, err := open(w.File)
	if err != nil {
		return FileMissing
	}
	if sum := sha256.Sum256(data); hex.EncodeToString(sum[:]) != w.SHA256 {
		return FileChanged
	}
	return FileWhole
}

// reader reads the pictures of a delivery, each once.
type reader struct {
	open Opened
	of   map[string]*imgfile.Picture
}

func (r *reader) read(w *Written) (*imgfile.Picture, error) {
	if p := r.of[w.File]; p != nil {
		return p, nil
	}
	data, err := r.open(w.File)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read back: %w", w.File, err)
	}
	p, err := imgfile.Read(w.File, data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", w.File, err)
	}
	if p.Channels < len(w.Channels) {
		return nil, fmt.Errorf("%s has %d channels; the delivery wrote %d", w.File, p.Channels, len(w.Channels))
	}
	if r.of == nil {
		r.of = map[string]*imgfile.Picture{}
	}
	r.of[w.File] = p
	return p, nil
}

// ofSet are the picture files that a set went into, and its cell in them.
func (d *Delivery) ofSet(set string) (out []*Written, cell Cell) {
	cell = Cell{Set: set, Side: 1}
	key := set
	for i := range d.Joins {
		for _, c := range d.Joins[i].Sets {
			if c.Set == set {
				key, cell = d.Joins[i].Key(), c
			}
		}
	}
	for i := range d.Files {
		if w := &d.Files[i]; w.Set == key && len(w.Channels) > 0 {
			out = append(out, w)
		}
	}
	return out, cell
}

// channel reads a source of a cell of files at a size, as shares of the largest value, from the top left; nil when no file holds it.
// Larger files are averaged down, smaller ones repeated.
func (r *reader) channel(files []*Written, cell *Cell, source string, size int) ([]float32, *Written, error) {
	w, ok := wire(files, source)
	if !ok {
		return nil, nil, nil
	}
	p, err := r.read(w.file)
	if err != nil {
		return nil, nil, err
	}
	out := make([]float32, size*size)
	l := cell.on(p.Width)
	for y := range size {
		y0, y1 := l.py+y*l.n/size, l.py+max(y*l.n/size+1, (y+1)*l.n/size)
		for x := range size {
			x0, x1 := l.px+x*l.n/size, l.px+max(x*l.n/size+1, (x+1)*l.n/size)
			sum := float32(0)
			for v := y0; v < y1; v++ {
				for u := x0; u < x1; u++ {
					sum += p.At((v*p.Width+u)*p.Channels + w.at)
				}
			}
			if out[y*size+x] = sum / float32((y1-y0)*(x1-x0)); w.flip {
				out[y*size+x] = 1 - out[y*size+x]
			}
		}
	}
	return out, w.file, nil
}

// Wired is a set's pictures as something that wires the files by their note sees them: base colour in sRGB with opacity, occlusion,
// roughness and metallic, and the normal with green up; four bytes a texel, from the top left.
type Wired struct {
	Size              int
	Base, ORM, Normal []byte
	Emissive          []byte // in sRGB, black where nothing is given off
}

// Wire reads a set's files back at up to a size. bare takes the padding away.
func Wire(d *Delivery, m *mesh.Model, set *uv.Set, most int, bare bool, open Opened) (*Wired, error) {
	files, cell := d.ofSet(set.Key)
	if len(files) == 0 {
		return nil, fmt.Errorf("the delivery has no files of set “%s”", set.Name)
	}
	size := 0
	for _, w := range files {
		size = max(size, cell.on(w.Size).n)
	}
	size = min(size, most)
	r := &reader{open: open}
	out := &Wired{Size: size, Base: slices.Repeat([]byte{128, 128, 128, 255}, size*size), ORM: slices.Repeat([]byte{255, 204, 0, 255}, size*size), Normal: slices.Repeat([]byte{128, 128, 255, 255}, size*size), Emissive: slices.Repeat([]byte{0, 0, 0, 255}, size*size)}
	put := func(to []byte, k int, source string) (bool, error) {
		v, w, err := r.channel(files, &cell, source, size)
		if v == nil {
			return false, err
		}
		s := sourceOf(source)
		for i, x := range v {
			if s != nil && s.Colour && w.Space != "sRGB" {
				x = pixel.ToSRGB(geom.Clamp01(x))
			}
			to[4*i+k] = pixel.Q8(x)
		}
		return true, nil
	}
	var fault error
	colours := func(of string) bool {
		some := false
		for k, l := range []string{".r", ".g", ".b"} {
			ok, err := put(out.Base, k, of+l)
			some, fault = some || ok, errors.Join(fault, err)
		}
		return some
	}
	metals := false
	if !colours("base") && !colours("unlit") && colours("diffuse") {
		metals = true
	}
	for k, of := range []string{"occlusion", "roughness", "metallic"} {
		_, err := put(out.ORM, k, of)
		fault = errors.Join(fault, err)
	}
	for k, of := range []string{"normal.r", "normal.g", "normal.b"} {
		_, err := put(out.Normal, k, of)
		fault = errors.Join(fault, err)
	}
	for k, of := range []string{"emissive.r", "emissive.g", "emissive.b"} {
		_, err := put(out.Emissive, k, of)
		fault = errors.Join(fault, err)
	}
	_, err := put(out.Base, 3, "opacity")
	if fault = errors.Join(fault, err); fault != nil {
		return nil, fault
	}
	if metals {
		if err := r.metallic(files, &cell, out); err != nil {
			return nil, err
		}
	}
	if bare {
		in := make([]bool, size*size)
		for _, t := range set.Tris {
			uv.Raster(m, set, int(t), size, 0, 0, func(i int, u, v float32) { in[i] = true })
		}
		for i, on := range in {
			if !on {
				for _, to := range [][]byte{out.Base, out.ORM, out.Normal, out.Emissive} {
					to[4*i], to[4*i+1], to[4*i+2] = 0, 0, 0
				}
			}
		}
	}
	return out, nil
}

// metallic finds base colour and metallic from diffuse, which Base holds, and specular: what a dielectric would not reflect is
// metal (the inverse of mixing between the two in linear light, see specular and diffuse).
func (r *reader) metallic(files []*Written, cell *Cell, out *Wired) error {
	var spec [3][]float32
	for k, l := range []string{".r", ".g", ".b"} {
		v, _, err := r.channel(files, cell, "specular"+l, out.Size)
		if err != nil || v == nil {
			return err
		}
		spec[k] = v
	}
	for i := range spec[0] {
		var d, s [3]float32
		for k := range 3 {
			d[k], s[k] = pixel.FromSRGB(float32(out.Base[4*i+k])/255), pixel.FromSRGB(spec[k][i])
		}
		// With base b and metallic m: d = b(1−m), s = 0.04 + (b−0.04)m, so that d + s = b + 0.04(1−m).
		m := float32(0)
		k := 0
		for c := range 3 {
			if d[c]+s[c] > d[k]+s[k] {
				k = c
			}
		}
		lo, hi := float32(0), float32(1)
		for range 20 {
			m = (lo + hi) / 2
			if b := d[k] + s[k] - dielectric*(1-m); b*(1-m) > d[k] {
				lo = m
			} else {
				hi = m
			}
		}
		for c := range 3 {
			out.Base[4*i+c] = pixel.Q8(pixel.ToSRGB(geom.Clamp01(d[c] + s[c] - dielectric*(1-m))))
		}
		out.ORM[4*i+2] = pixel.Q8(m)
	}
	return nil
}

// Difference is how far a channel of a file lies from what the strata give now.
type Difference struct {
	File    string  `json:"file"`
	Set     string  `json:"set"`
	Letter  string  `json:"letter"`
	Channel string  `json:"channel"`
	Most    float64 `json:"most"`  // of the whole range
	Steps   float64 `json:"steps"` // in steps of the file's samples; 0 for floats
	X       int     `json:"x"`     // where it is, from the top left
	Y       int     `json:"y"`
}

// Compare reads the files of a delivery back and holds each channel against what the strata give at the file's size, over all
// texels that are covered.
func Compare(ctx context.Context, j Job, d *Delivery, open Opened) (out []Difference, err error) {

	j.Preset, j.Pad = nil, &Padding{}
	if j.SizeOf == nil {
		j.Size = Sizes[0]
	}
	if err := j.prepare(); err != nil {
		return nil, err
	}
	r := run{ctx: ctx, j: &j, body: compose.NewBody(compose.NewCache(cacheBytes), j.Model, j.Sets, lastOf(j.Maps)).Show(j.Pictures).Strokes(j.Strokes), where: -1}
	back := &reader{open: open}
	var sets []*uv.Set
	for i := range j.Sets {
		if files, _ := d.ofSet(j.Sets[i].Key); len(files) > 0 {
			sets = append(sets, &j.Sets[i])
		}
	}
	if len(sets) == 0 {
		return nil, errors.New("none of the sets that were delivered is there any more")
	}
	for n, set := range sets {
		bySize := map[int][]*Written{}
		var sizes []int
		files, cell := d.ofSet(set.Key)
		for _, w := range files {
			if !slices.Contains(sizes, w.Size) {
				sizes = append(sizes, w.Size)
			}
			bySize[w.Size] = append(bySize[w.Size], w)
		}
		for _, size := range sizes {
			l := cell.on(size)
			cover, err := surface.Cover(ctx, j.Model, set, l.n, 0, surface.Across(l.n))
			if err != nil {
				return nil, err
			}
			for _, w := range bySize[size] {
				more, err := r.compare(cover, set, w, l, back)
				if err != nil {
					return nil, err
				}
				out = append(out, more...)
				back.of = nil
			}
		}
		j.Progress(float64(n+1) / float64(len(sets)))
	}
	return out, nil
}

// planeOf is the plane that delivery.json calls so.
func planeOf(words string) Plane {
	const not = "inverted "
	if len(words) > len(not) && words[:len(not)] == not {
		return Plane{From: words[len(not):], Invert: true}
	}
	return Plane{From: words}
}

// compare holds one file against the strata.
func (r *run) compare(cover *surface.Surface, set *uv.Set, w *Written, l lot, back *reader) ([]Difference, error) {
	p, err := back.read(w)
	if err != nil {
		return nil, err
	}
	if p.Width != w.Size || p.Height != w.Size {
		return nil, fmt.Errorf("%s is %d × %d px; it was delivered with %d", w.File, p.Width, p.Height, w.Size)
	}
	f := &File{Label: w.File, Format: w.Format, Bits: w.Bits, SRGB: w.Space == "sRGB"}
	for k, to := range []func(Plane){func(q Plane) { f.R = q }, func(q Plane) { f.G = &q }, func(q Plane) { f.B = &q }, func(q Plane) { f.A = &q }} {
		if words, ok := w.Channels[letter(k)]; ok {
			to(planeOf(words))
		}
	}
	if len(w.Range) == 2 {
		f.Low, f.High = w.Range[0], w.Range[1]
	}
	pack, err := r.newPacking(cover, set, f, w.File)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", w.File, err)
	}
	// Values are kept as floats.
	pack.raw, pack.bytes = true, 4*len(pack.planes)
	pack.pix = make([]byte, cover.Len()*pack.bytes)
	across := surface.Across(cover.Size)
	for from := 0; from < across; from += bandRows {
		if err := r.band(set, cover.Size, from, min(across, from+bandRows), cover, 0, []*packing{pack}); err != nil {
			return nil, err
		}
	}
	out := make([]Difference, len(pack.planes))
	for k := range pack.planes {
		s := &pack.planes[k]
		out[k] = Difference{File: w.File, Set: set.Key, Letter: letter(k), Channel: w.Channels[letter(k)]}
		one := []float32{0}
		for i, at := range cover.Texel {
			one[0] = pack.float(i, k)
			if s.Height && len(w.Range) == 2 {
				heights(one, f.Low, f.High)
			}
			if s.flip {
				one[0] = 1 - one[0]
			}
			if !pack.format.Float {
				one[0] = geom.Clamp01(one[0])
			}
			stands := l.place(int(at))
			if far := math.Abs(float64(p.At(stands*p.Channels+k) - one[0])); far > out[k].Most {
				out[k].Most, out[k].X, out[k].Y = far, stands%w.Size, stands/w.Size
			}
		}
		if !pack.format.Float {
			out[k].Steps = out[k].Most * float64(uint(1)<<w.Bits-1)
		}
	}
	return out, nil
}

// float is a value of a packing that keeps them as floats.
func (p *packing) float(i, k int) float32 {
	b := p.pix[i*p.bytes+4*k:]
	return math.Float32frombits(uint32(b[0])<<24 | uint32(b[1])<<16 | uint32(b[2])<<8 | uint32(b[3]))
}

// PlanePicture is one channel of a delivered file as grey bytes, averaged down to a side at most; of floats, what lies between the
// least and the most.
func PlanePicture(w *Written, k, most int, open Opened) (grey []byte, side int, err error) {
	r := &reader{open: open}
	p, err := r.read(w)
	if err != nil {
		return nil, 0, err
	}
	if _, ok := w.Channels[letter(k)]; !ok {
		return nil, 0, fmt.Errorf("%s has no %s", w.File, letter(k))
	}
	side = min(most, p.Width)
	v, _, err := r.channel([]*Written{{File: w.File, Channels: map[string]string{letter(k): "one"}}}, &Cell{Side: 1}, "one", side)
	if err != nil {
		return nil, 0, err
	}
	low, high := float32(0), float32(1)
	if p.Float {
		low, high = slices.Min(v), slices.Max(v)
		if low >= 0 && high <= 1 {
			low, high = 0, 1
		}
	}
	grey = make([]byte, len(v))
	for i, x := range v {
		grey[i] = pixel.Q8((x - low) / max(high-low, 1e-12))
	}
	return grey, side, nil
}

// Reads tells whether one of the file's channels is of a baked map.
func (w *Written) Reads(kind string) bool {
	for _, c := range w.Channels {
		if s, err := planeOf(c).parsed(); err == nil && s.kind == ofMap && s.of == kind {
			return true
		}
	}
	return false
}

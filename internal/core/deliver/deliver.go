package deliver

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"slices"

	"crust/internal/core/bake"
	"crust/internal/core/compose"
	"crust/internal/core/geom"
	"crust/internal/core/imgfile"
	"crust/internal/core/mesh"
	"crust/internal/core/pixel"
	"crust/internal/core/strata"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
)

// Job is all that a delivery is made from.
type Job struct {
	Asset    string // names the GLB
	Model    *mesh.Model
	Sets     []uv.Set
	Maps     compose.Maps     // are read set by set
	Pictures compose.Pictures // that layers lay on the model; nil for none
	Strokes  compose.Painted  // nil for none
	Document *strata.Document
	Preset   *Preset              // nil to write a Where alone
	Where    string               // name of a layer whose Where is written too, empty for none
	Size     int                  // of all sets in px
	SizeOf   func(key string) int // of single sets, instead; nil for Size everywhere
	Aside    string               // folder in which files are made, one of their own below it; empty for the system's
	Progress func(float64)
}

// cacheBytes is room for the results that tiles take of each other.
const cacheBytes = 256 << 20

// bandRows is how many rows of tiles of a set are open at once, and a row more on either side.
const bandRows = 8

// Run evaluates every set at the job's size, band by band, and makes the preset's files aside; Close drops them. The same
// job gives the same bytes on any number of cores.
func Run(ctx context.Context, j Job) (d *Delivery, err error) {
	sizeOf := j.SizeOf
	if sizeOf == nil {
		sizeOf = func(string) int { return j.Size }
	}
	if j.SizeOf == nil && !slices.Contains(Sizes, j.Size) {
		return nil, fmt.Errorf("a delivery of %d px is not offered; use one of %v", j.Size, Sizes)
	}
	if !j.Model.HasUV {
		return nil, fmt.Errorf("the model has faces without UVs; unwrap them and bring it in again")
	}
	progress := j.Progress
	if progress == nil {
		progress = func(float64) {}
	}
	if j.Preset == nil {
		j.Preset = &Preset{}
	}
	j.Preset = j.Preset.For(j.Document)
	r := run{ctx: ctx, j: &j, body: compose.NewBody(compose.NewCache(cacheBytes), j.Model, j.Sets, lastOf(j.Maps)).Show(j.Pictures).Strokes(j.Strokes), where: -1}
	if j.Where != "" {
		l, err := j.Document.Named(j.Where)
		if err != nil {
			return nil, err
		}
		_, r.where, _ = j.Document.Layer(l.ID)
	}
	d = &Delivery{Preset: j.Preset.Name, Title: j.Preset.Title, Asset: j.Asset, Size: j.Size, Green: "up", Pad: "without limit, exact nearest",
		Notes: []string{"Files marked linear are data: read them without sRGB decoding.", "Normals are in tangent space, MikkTSpace, (n + 1)/2."}}
	if d.aside, err = os.MkdirTemp(j.Aside, "making-"); err != nil {
		return nil, fmt.Errorf("there is no place to make the files: %w", err)
	}
	defer func() {
		if err != nil {
			d.Close()
			d = nil
		}
	}()
	var wheres []Written
	for i := range j.Sets {
		set := &j.Sets[i]
		files, err := r.set(set, sizeOf(set.Key), d.aside, func(share float64) { progress((float64(i) + share) / float64(len(j.Sets)+1)) })
		if err != nil {
			return d, fmt.Errorf("set “%s”: %w", set.Name, err)
		}
		if r.where >= 0 {
			wheres = append(wheres, files[len(files)-1])
			files = files[:len(files)-1]
		}
		d.Files = append(d.Files, files...)
	}
	for _, f := range j.Preset.Files {
		if slices.Contains(f.Channels, "normal.g.down") {
			d.Green = "down"
		}
	}
	if j.Preset.GLB {
		w, err := glb(j, d.Files, d.aside)
		if err != nil {
			return d, err
		}
		d.Files = append(d.Files, *w)
	}
	d.Files = append(d.Files, wheres...)
	progress(1)
	return d, nil
}

// lastOf keeps the maps of the set that was read last, which band after band asks for.
func lastOf(read compose.Maps) compose.Maps {
	var set string
	var maps map[string]*bake.Map
	return func(want string) (map[string]*bake.Map, error) {
		if maps != nil && set == want {
			return maps, nil
		}
		maps = nil
		of, err := read(want)
		if err != nil {
			return nil, err
		}
		if of == nil {
			of = map[string]*bake.Map{}
		}
		set, maps = want, of
		return maps, nil
	}
}

// run is a delivery while it is made.
type run struct {
	ctx   context.Context
	j     *Job
	body  *compose.Body
	prog  *compose.Program
	where int // place of the layer whose Where is written, −1 for none
}

// set makes the files of a set, that of the Where last.
func (r *run) set(set *uv.Set, size int, aside string, progress func(float64)) ([]Written, error) {
	cover, err := surface.Cover(r.ctx, r.j.Model, set, size, 0, surface.Across(size))
	if err != nil {
		return nil, err
	}
	if err := cover.Pad(r.ctx); err != nil {
		return nil, err
	}
	files := r.j.Preset.Files
	if r.where >= 0 {
		files = append(slices.Clip(files), whereFile)
	}
	packs := make([]*packing, len(files))
	for k, f := range files {
		if packs[k], err = newPacking(cover, f, f.FileName(r.j.Asset, set)); err != nil {
			return nil, err
		}
	}
	cover.Texel = nil // the padding leads to what is packed
	across := surface.Across(size)
	for from := 0; from < across; from += bandRows {
		if err := r.band(set, size, from, min(across, from+bandRows), cover, packs); err != nil {
			return nil, err
		}
		progress(0.7 * float64(from) / float64(across))
	}
	var out []Written
	for k, p := range packs {
		w, err := p.write(r.ctx, set.Key, aside)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", p.name, err)
		}
		if r.where >= 0 && k == len(packs)-1 {
			w.Channels["R"] = "where " + r.j.Where
		}
		out = append(out, *w)
		packs[k] = nil // its texels are not needed any more
		progress(0.7 + 0.3*float64(k+1)/float64(len(packs)))
	}
	return out, nil
}

// band evaluates some rows of tiles and packs them.
func (r *run) band(set *uv.Set, size, from, to int, cover *surface.Surface, packs []*packing) error {
	c, err := compose.NewBand(r.ctx, r.body, set, size, max(0, from-1), min(surface.Across(size), to+1))
	if err != nil {
		return err
	}
	defer c.Close()
	if r.prog == nil {
		r.prog, err = c.Compile(r.j.Document)
	} else {
		r.prog, err = r.prog.For(c)
	}
	if err != nil {
		return err
	}
	do := compose.Pass{Tiles: []int{}}
	begin := map[int]int{} // by tile: its first texel in the whole
	for t := range c.Surf.Tiles {
		if tile := &c.Surf.Tiles[t]; int(tile.Y) >= from && int(tile.Y) < to {
			do.Tiles = append(do.Tiles, t)
			begin[t] = int(cover.Tiles[cover.TileAt(tile.X, tile.Y)].From)
		}
	}
	of := packs
	if r.where >= 0 {
		v, err := c.Field(r.ctx, r.prog, r.where, "")
		if err != nil {
			return err
		}
		p := packs[len(packs)-1]
		for _, t := range do.Tiles {
			into := p.pix[2*begin[t]:]
			for i, x := range v[c.Surf.Tiles[t].From:c.Surf.Tiles[t].To] {
				binary.BigEndian.PutUint16(into[2*i:], pixel.Q16(x))
			}
		}
		of = packs[:len(packs)-1]
	}
	if len(of) == 0 {
		return nil
	}
	do.Do = func(_, t int, _ compose.Keys, ch *compose.Channels) {
		for _, p := range of {
			p.take(begin[t], c.Surf.Tiles[t].Len(), ch)
		}
	}
	return c.Run(r.ctx, r.prog, do)
}

// whereFile is the picture of a layer's Where in 16-bit grey.
var whereFile = File{Label: "Where", Pattern: "{set}_where", Channels: []string{"where"}, Bits: 16}

// packing is one file of a set in the making: its texels in the bytes of the file, tile by tile.
type packing struct {
	cover *surface.Surface
	file  File
	name  string
	from  []compose.Source
	bytes int // a texel
	pix   []byte
}

func newPacking(cover *surface.Surface, f File, name string) (*packing, error) {
	p := &packing{cover: cover, file: f, name: name, bytes: len(f.Channels) * f.Bits / 8}
	for _, name := range f.Channels {
		s, ok := compose.SourceOf(name)
		if !ok && f.Label != whereFile.Label {
			return nil, fmt.Errorf("there is no channel “%s”", name)
		}
		p.from = append(p.from, s)
	}
	p.pix = make([]byte, cover.Len()*p.bytes)
	return p, nil
}

// take packs the channels of a tile of so many texels.
func (p *packing) take(first, texels int, ch *compose.Channels) {
	into := p.pix[first*p.bytes : (first+texels)*p.bytes]
	for k, s := range p.from {
		s.Pack(ch, p.file.Bits, into[k*p.file.Bits/8:], p.bytes)
	}
}

// write makes the PNG aside; empty texels take the value of the nearest covered one.
func (p *packing) write(ctx context.Context, set, aside string) (*Written, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	size, n := p.cover.Size, p.bytes
	im := &imgfile.Image{Width: size, Height: size, Channels: len(p.file.Channels), Bits: p.file.Bits, SRGB: p.file.SRGB,
		Row: func(y int, row []byte) {
			for x, i := range p.cover.Nearest[y*size : (y+1)*size] {
				copy(row[x*n:(x+1)*n], p.pix[int(i)*n:])
			}
		}}
	w := &Written{File: p.name, Set: set, Bits: p.file.Bits, Space: p.file.Space(), Size: size, Channels: map[string]string{}}
	for k, name := range p.file.Channels {
		w.Channels["RGBA"[k:k+1]] = name
	}
	return w, w.make(aside, func(to io.Writer) error { return imgfile.WritePNG(to, im, 5) })
}

// glb writes the model with one material per set. Sets on UDIM tiles are moved to the unit square.
func glb(j Job, files []Written, aside string) (*Written, error) {
	setOf := make([]int, len(j.Model.Tris))
	for i := range j.Sets {
		for _, t := range j.Sets[i].Tris {
			setOf[t] = i
		}
	}
	o := mesh.GLBOptions{MaterialOf: func(t int) int { return setOf[t] }, Origin: func(t int) geom.Vec2 { return j.Sets[setOf[t]].Origin }, Tangents: true, Generator: "Crust"}
	for i := range j.Sets {
		mat := mesh.GLBMaterial{Name: j.Sets[i].Name, NamePictures: j.Sets[i].Name}
		for k, f := range j.Preset.Files {
			data, err := files[i*len(j.Preset.Files)+k].Data()
			if err != nil {
				return nil, err
			}
			switch f.Channels[0] {
			case "base.r":
				mat.BaseColour, mat.Mask = data, len(f.Channels) == 4
			case "emissive.r":
				mat.Emissive = data
			case "occlusion":
				mat.ORM = data
			case "normal.r":
				mat.Normal = data
			}
		}
		o.Materials = append(o.Materials, mat)
	}
	w := &Written{File: uv.FileName(j.Asset) + ".glb"}
	return w, w.make(aside, func(to io.Writer) error { return mesh.WriteGLB(to, j.Model, o) })
}

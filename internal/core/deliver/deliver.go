package deliver

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"crust/internal/core/bake"
	"crust/internal/core/compose"
	"crust/internal/core/geom"
	"crust/internal/core/imgfile"
	"crust/internal/core/mesh"
	"crust/internal/core/pixel"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
)

// Job is all that a delivery is made from.
type Job struct {
	Asset    string // names the GLB
	Model    *mesh.Model
	Sets     []uv.Set
	Maps     map[string]map[string]*bake.Map // set → kind → map
	Document *strata.Document
	Preset   *Preset              // nil to write a Where alone
	Where    string               // name of a layer whose Where is written too, empty for none
	Size     int                  // of all sets in px
	SizeOf   func(key string) int // of single sets, instead; nil for Size everywhere
	Progress func(float64)
}

// Written is one file of a delivery.
type Written struct {
	File     string            `json:"file"`
	Set      string            `json:"set,omitempty"`
	Channels map[string]string `json:"channels,omitempty"`
	Bits     int               `json:"bits,omitempty"`
	Space    string            `json:"colour_space,omitempty"`
	Size     int               `json:"size,omitempty"`
	Bytes    int               `json:"bytes"`
	SHA256   string            `json:"sha256"`
	data     []byte
}

// Data is the file's contents.
func (w *Written) Data() []byte { return w.data }

// Delivery is one run of a preset.
type Delivery struct {
	Preset string    `json:"preset"`
	Title  string    `json:"title"`
	Asset  string    `json:"asset"`
	Size   int       `json:"size"`
	Green  string    `json:"normal_green"` // "up" or "down"
	Pad    string    `json:"padding"`
	Notes  []string  `json:"notes"`
	Files  []Written `json:"files"`
}

// cacheBytes is room for the results that tiles take of each other.
const cacheBytes = 64 << 20

// Note is the name of the file that describes a delivery.
const Note = "delivery.json"

// Run evaluates every set at the job's size and makes the preset's files in memory. The same job
// gives the same bytes on any number of cores.
func Run(ctx context.Context, j Job) (*Delivery, error) {
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
	shown := -1
	var wheres []Written
	if j.Where != "" {
		l, err := j.Document.Named(j.Where)
		if err != nil {
			return nil, err
		}
		_, shown, _ = j.Document.Layer(l.ID)
	}
	d := &Delivery{Preset: j.Preset.Name, Title: j.Preset.Title, Asset: j.Asset, Size: j.Size, Green: "up", Pad: "without limit, exact nearest",
		Notes: []string{"Files marked linear are data: read them without sRGB decoding.", "Normals are in tangent space, MikkTSpace, (n + 1)/2."}}
	steps, all := 0, len(j.Sets)*(1+len(j.Preset.Files))
	step := func() { steps++; progress(float64(steps) / float64(all+1)) }
	body := compose.NewBody(compose.NewCache(cacheBytes), j.Model, j.Sets, func(set string) (map[string]*bake.Map, error) { return j.Maps[set], nil })
	for i := range j.Sets {
		set := &j.Sets[i]
		c, err := compose.NewCanvas(ctx, body, set, sizeOf(set.Key))
		if err != nil {
			return nil, fmt.Errorf("set “%s”: %w", set.Name, err)
		}
		prog, err := c.Compile(j.Document)
		if err != nil {
			return nil, err
		}
		if shown >= 0 {
			w, err := where(ctx, c, prog, shown, j.Where, whereFile.FileName(j.Asset, set))
			if err != nil {
				return nil, fmt.Errorf("set “%s”: %w", set.Name, err)
			}
			wheres = append(wheres, *w)
		}
		if len(j.Preset.Files) == 0 {
			step()
			continue
		}
		packs := make([]*packing, len(j.Preset.Files))
		for k, f := range j.Preset.Files {
			if packs[k], err = newPacking(c, f, f.FileName(j.Asset, set)); err != nil {
				return nil, err
			}
		}
		err = c.Run(ctx, prog, compose.Pass{Do: func(_, t int, _ compose.Keys, ch *compose.Channels) {
			for _, p := range packs {
				p.take(t, ch)
			}
		}})
		if err != nil {
			return nil, fmt.Errorf("set “%s”: %w", set.Name, err)
		}
		c.Close()
		step()
		for k, p := range packs {
			w, err := p.write(ctx)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", p.name, err)
			}
			if slices.Contains(p.file.Channels, "normal.g.down") {
				d.Green = "down"
			}
			d.Files = append(d.Files, *w)
			packs[k] = nil // its texels are not needed any more
			step()
		}
	}
	if j.Preset.GLB {
		w, err := glb(j, d.Files)
		if err != nil {
			return nil, err
		}
		d.Files = append(d.Files, *w)
	}
	d.Files = append(d.Files, wheres...)
	progress(1)
	return d, nil
}

// whereFile is the picture of a layer's Where.
var whereFile = File{Label: "Where", Pattern: "{set}_where", Channels: []string{"where"}, Bits: 16}

// where writes a layer's Where in 16-bit grey, with the same padding as all pictures.
func where(ctx context.Context, c *compose.Canvas, prog *compose.Program, layer int, of, name string) (*Written, error) {
	v, err := c.Field(ctx, prog, layer, "")
	if err != nil {
		return nil, err
	}
	p := &packing{canvas: c, file: whereFile, name: name, bytes: 2, pix: make([]byte, 2*len(v))}
	for i, x := range v {
		binary.BigEndian.PutUint16(p.pix[2*i:], pixel.Q16(x))
	}
	w, err := p.write(ctx)
	if err == nil {
		w.Channels["R"] = "where " + of
	}
	return w, err
}

// packing is one file of a set in the making: its texels in the bytes of the file, tile by tile.
type packing struct {
	canvas *compose.Canvas
	file   File
	name   string
	from   []compose.Source
	bytes  int // a texel
	pix    []byte
}

func newPacking(c *compose.Canvas, f File, name string) (*packing, error) {
	p := &packing{canvas: c, file: f, name: name, bytes: len(f.Channels) * f.Bits / 8}
	for _, name := range f.Channels {
		s, ok := compose.SourceOf(name)
		if !ok {
			return nil, fmt.Errorf("there is no channel “%s”", name)
		}
		p.from = append(p.from, s)
	}
	p.pix = make([]byte, c.Len()*p.bytes)
	return p, nil
}

// take packs a tile's channels.
func (p *packing) take(t int, ch *compose.Channels) {
	tile := &p.canvas.Surf.Tiles[t]
	into := p.pix[int(tile.From)*p.bytes : int(tile.To)*p.bytes]
	for k, s := range p.from {
		s.Pack(ch, p.file.Bits, into[k*p.file.Bits/8:], p.bytes)
	}
}

// write makes the PNG; empty texels take the value of the nearest covered one.
func (p *packing) write(ctx context.Context) (*Written, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	size, n := p.canvas.Surf.Size, p.bytes
	im := &imgfile.Image{Width: size, Height: size, Channels: len(p.file.Channels), Bits: p.file.Bits, SRGB: p.file.SRGB,
		Row: func(y int, row []byte) {
			for x, i := range p.canvas.Surf.Nearest[y*size : (y+1)*size] {
				copy(row[x*n:(x+1)*n], p.pix[int(i)*n:])
			}
		}}
	var b bytes.Buffer
	if err := imgfile.WritePNG(&b, im, 5); err != nil {
		return nil, err
	}
	w := &Written{File: p.name, Set: p.canvas.Set, Bits: p.file.Bits, Space: p.file.Space(), Size: size, Channels: map[string]string{}}
	for k, name := range p.file.Channels {
		w.Channels["RGBA"[k:k+1]] = name
	}
	w.seal(b.Bytes())
	return w, nil
}

func (w *Written) seal(data []byte) {
	sum := sha256.Sum256(data)
	w.data, w.Bytes, w.SHA256 = data, len(data), hex.EncodeToString(sum[:])
}

// glb writes the model with one material per set. Sets on UDIM tiles are moved to the unit square.
func glb(j Job, files []Written) (*Written, error) {
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
			data := files[i*len(j.Preset.Files)+k].data
			switch f.Channels[0] {
			case "base.r":
				mat.BaseColour = data
			case "occlusion":
				mat.ORM = data
			case "normal.r":
				mat.Normal = data
			}
		}
		o.Materials = append(o.Materials, mat)
	}
	var b bytes.Buffer
	if err := mesh.WriteGLB(&b, j.Model, o); err != nil {
		return nil, err
	}
	w := &Written{File: uv.FileName(j.Asset) + ".glb"}
	w.seal(b.Bytes())
	return w, nil
}

// JSON is the delivery's note.
func (d *Delivery) JSON() []byte {
	b, err := json.MarshalIndent(d, "", "  ")
	if err != nil {
		panic(err) // plain strings and numbers always encode
	}
	return append(b, '\n')
}

// Zip writes the files and the note as one zip, without compressing pictures again.
func (d *Delivery) Zip(w io.Writer) error {
	z := zip.NewWriter(w)
	put := func(name string, data []byte) error {
		f, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store})
		if err != nil {
			return err
		}
		_, err = f.Write(data)
		return err
	}
	for i := range d.Files {
		if err := put(d.Files[i].File, d.Files[i].data); err != nil {
			return err
		}
	}
	if err := put(Note, d.JSON()); err != nil {
		return err
	}
	return z.Close()
}

// WriteFolder writes the files and, last, the note. Each appears whole or not at all.
func (d *Delivery) WriteFolder(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fmt.Errorf("the folder cannot be made: %w", err)
	}
	for i := range d.Files {
		if err := WriteWhole(filepath.Join(dir, d.Files[i].File), d.Files[i].data); err != nil {
			return err
		}
	}
	return WriteWhole(filepath.Join(dir, Note), d.JSON())
}

// WriteWhole writes a file beside its place and moves it there, so that no half-written one is left.
func WriteWhole(name string, data []byte) error {
	f, err := os.CreateTemp(filepath.Dir(name), ".writing-*")
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", name, err)
	}
	defer os.Remove(f.Name())
	_, err = f.Write(data)
	if e := f.Chmod(0o644); err == nil {
		err = e
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Rename(f.Name(), name)
	}
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", name, err)
	}
	return nil
}

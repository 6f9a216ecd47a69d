package deliver

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"os"
	"slices"
	"strings"
	"time"

	"crust/internal/core/bake"
	"crust/internal/core/brush"
	"crust/internal/core/compose"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
)

// Job is all that a delivery needs.
type Job struct {
	Asset    string // names the model's files
	Mark     string // tells assets of one name apart; see Owner
	Model    *mesh.Model
	Sets     []uv.Set
	Only     []string         // keys of the sets that are delivered; empty for all
	Joins    []Join           // sheets on which some of them become one
	Maps     compose.Maps     // are read set by set
	Pictures compose.Pictures // that layers lay on the model; nil for none
	Strokes  compose.Painted  // nil for none
	Document *strata.Document
	Preset   *Preset              // nil to write a Where alone
	Naming   string               // template of names, in place of the preset's; empty for that
	Pad      *Padding             // in place of the preset's; nil for that
	Where    string               // name of a layer whose Where is written too, empty for none
	Size     int                  // of all sets in px
	SizeOf   func(key string) int // of single sets, instead; nil for Size everywhere
	Aside    string               // folder in which files are made, one of their own below it; empty for the system's
	Progress func(float64)
	Filed    func(done, all int) // told of files as they are done; nil for nobody
}

// SizeFor is the size of a set in px.
func (j *Job) SizeFor(key string) int {
	if j.SizeOf != nil {
		return j.SizeOf(key)
	}
	return j.Size
}

// cacheBytes bounds what is kept of an evaluation: each tile is evaluated once, so only the relief that is read below it has to
// last.
const cacheBytes = 256 << 20

// bandRows is how many rows of tiles are evaluated at once: of a set of 8192 px, a sixteenth.
const bandRows = 8

// modelLimit bounds the pictures that are made for a GLB alone, in px.
const modelLimit = 2048

// MapsRead lists the baked maps that a delivery of a document reads: for the strata, and for the preset's own files.
func MapsRead(d *strata.Document, p *Preset) []string {
	out := compose.Reads(d)
	if p == nil {
		return out
	}
	for _, f := range p.For(d).Files {
		for _, of := range f.Planes() {
			if s, err := of.parsed(); err == nil && s.kind == ofMap && !slices.Contains(out, s.of) {
				out = append(out, s.of)
			}
		}
	}
	return out
}

// Planned is a file before it is made.
type Planned struct {
	File  string `json:"file"`
	Set   string `json:"set,omitempty"`
	Row   int    `json:"row"` // of the preset's files as it is for the document, −1 for what goes beside them
	Size  int    `json:"size,omitempty"`
	Bytes int    `json:"bytes"` // about
	What  string `json:"what,omitempty"`
}

// prepare completes a job and checks what can be checked before a run.
func (j *Job) prepare() error {
	if j.SizeOf == nil {
		if !slices.Contains(Sizes, j.Size) {
			return fmt.Errorf("a delivery of %d px is not offered; use one of %v", j.Size, Sizes)
		}
		size := j.Size
		j.SizeOf = func(string) int { return size }
	}
	if !j.Model.HasUV {
		return errors.New("the model has faces without UVs; unwrap them and bring it in again")
	}
	if j.Progress == nil {
		j.Progress = func(float64) {}
	}
	if j.Filed == nil {
		j.Filed = func(int, int) {}
	}
	if j.Preset == nil {
		j.Preset = &Preset{Pad: Padding{By: PadAll}}
	} else if err := j.Preset.Check(); err != nil {
		return err
	}
	j.Preset = j.Preset.For(j.Document)
	if j.Naming == "" {
		j.Naming = j.Preset.Naming
	}
	if j.Naming == "" {
		j.Naming = DefaultNaming
	}
	if j.Pad == nil {
		j.Pad = &j.Preset.Pad
	}
	if err := errors.Join(CheckNaming(j.Naming), j.Pad.Check()); err != nil {
		return err
	}
	if err := CheckJoins(j.Joins); err != nil {
		return err
	}
	sizeOf := j.SizeOf
	j.SizeOf = func(key string) int {
		n := sizeOf(key)
		if n == 0 { // a sheet is as large as its largest set
			for i := range j.Joins {
				for _, c := range j.Joins[i].Sets {
					if j.Joins[i].Key() == key {
						n = max(n, sizeOf(c.Set))
					}
				}
			}
		}
		return n
	}
	for _, key := range j.Only {
		if !slices.ContainsFunc(j.Sets, func(s uv.Set) bool { return s.Key == key }) {
			return fmt.Errorf("there is no set “%s” any more; choose the sets again", key)
		}
	}
	return nil
}

// Owner is whose the delivery is.
func (j *Job) Owner() Owner { return Owner{j.Asset, j.Mark, j.Preset.Name} }

// sets are those that are delivered.
func (j *Job) sets() (out []*uv.Set) {
	for i := range j.Sets {
		if len(j.Only) == 0 || slices.Contains(j.Only, j.Sets[i].Key) {
			out = append(out, &j.Sets[i])
		}
	}
	return out
}

// sizeOf is a file's size for a set.
func (j *Job) sizeOf(f *File, set *uv.Set) int {
	scale := f.Scale
	if scale == 0 {
		scale = 1
	}
	return min(Sizes[len(Sizes)-1], max(Sizes[0], int(math.Round(float64(j.SizeOf(set.Key))*scale))))
}

// fileName is what the file of a row is called for a set, with its ending.
func (j *Job) fileName(f *File, set *uv.Set) string {
	template := f.Name
	if template == "" {
		template = j.Naming
	}
	return nameOf(template, j.Asset, set, f.Map, j.sizeOf(f, set)) + f.ending()
}

// Plan lists the files of a job, by set and then by row, and what goes beside them. It refuses names that cannot be.
func Plan(j Job) (out []Planned, err error) {
	if err := j.prepare(); err != nil {
		return nil, err
	}
	return j.plan()
}

func (j *Job) plan() (out []Planned, err error) {
	all := 0
	glb := j.Preset.GLB
	for _, u := range j.units() {
		set := u.set
		glb = glb || u.moves() // who has other UVs needs the model
		for k := range j.Preset.Files {
			f := &j.Preset.Files[k]
			size := j.sizeOf(f, set)
			p := Planned{File: j.fileName(f, set), Set: set.Key, Row: k, Size: size, Bytes: f.guess(size), What: f.Label}
			all += p.Bytes
			out = append(out, p)
		}
	}
	name := uv.FileName(j.Asset)
	for _, b := range []struct {
		on    bool
		file  string
		bytes int
		what  string
	}{{glb, name + ".glb", all, "the model with its textures"}, {j.Preset.MaterialX, name + ".mtlx", 4000, "how the files are wired"},
		{j.Preset.USD, name + ".usda", 150 * len(j.Model.Tris), "the model with the files wired"}, {len(j.Preset.Files) > 0, WiringFile, 2000, "how to wire each file, in words"}, {true, Note, 2000, "what each file holds"}} {
		if b.on {
			out = append(out, Planned{File: b.file, Row: -1, Bytes: b.bytes, What: b.what})
		}
	}
	var names []string
	for _, p := range out {
		names = append(names, p.File)
	}
	return out, checkNames(names)
}

// guess is about how many bytes a file takes: what such maps came to per texel.
func (f *File) guess(size int) int {
	n := float64(len(f.Planes()))
	per := 0.28 * n
	switch {
	case f.Format == "jpeg":
		per = 0.12 * n
	case f.Format == "tga":
		per = 0.9 * n
	case f.Format == "exr":
		per = 0.55 * n * float64(f.Bits) / 16
	case f.Colours > 0:
		per = 0.4
	case f.Bits == 16:
		per = 0.75 * n
	}
	return max(200, int(float64(size)*float64(size)*per))
}

// Run evaluates the strata at the given size, packs and writes the preset's files aside. The padding reaches without limit where
// the preset or the job does not say otherwise. Close the delivery when its files have been taken.
func Run(ctx context.Context, j Job) (d *Delivery, err error) {
	if err := j.prepare(); err != nil {
		return nil, err
	}
	plan, err := j.plan()
	if err != nil {
		return nil, err
	}
	r := run{ctx: ctx, j: &j, body: compose.NewBody(compose.NewCache(cacheBytes), j.Model, j.Sets, lastOf(j.Maps)).Show(j.Pictures).Strokes(j.Strokes), where: -1, all: len(plan), units: j.units()}
	if j.Where != "" {
		l, err := j.Document.Named(j.Where)
		if err != nil {
			return nil, err
		}
		_, r.where, _ = j.Document.Layer(l.ID)
		r.all++
	}
	d = &Delivery{Owner: j.Owner(), Title: j.Preset.Title, Size: j.Size, Green: "up", Pad: j.Pad.Words(), Document: hashOf(j.Document, j.Strokes),
		Notes: []string{"Files marked linear are data: read them without sRGB decoding.", "Normals are in tangent space, MikkTSpace, (n + 1)/2."}}
	if d.aside, err = os.MkdirTemp(j.Aside, "making-"); err != nil {
		return nil, fmt.Errorf("there is no place to make the files: %w", err)
	}
	r.dir = d.aside
	defer func() {
		if err != nil {
			d.Close()
			d = nil
		}
	}()
	r.glbToo = j.Preset.GLB || slices.ContainsFunc(r.units, (*unit).moves)
	r.rows()
	for _, u := range r.units {
		if u.join != nil {
			d.Joins = append(d.Joins, *u.join)
		}
	}
	for i, u := range r.units {
		err := r.set(u, func(share float64) { j.Progress((float64(i) + share) / (float64(len(r.units)) + 0.5)) })
		if err != nil {
			return d, fmt.Errorf("set “%s”: %w", u.set.Name, err)
		}
	}
	if err := r.settle(); err != nil {
		return d, err
	}
	r.list(d)
	d.Evaluating, d.Encoding = r.evaluating, r.encoding
	if err := r.beside(d); err != nil {
		return d, err
	}
	j.Progress(1)
	return d, nil
}

// hashOf is the SHA-256 of a document with its strokes.
func hashOf(d *strata.Document, strokes compose.Painted) string {
	h := sha256.New()
	bare := *d
	bare.Look = nil // light changes no file
	text, err := json.Marshal(&bare)
	if err != nil {
		panic(err) // what was read always encodes
	}
	h.Write(text)
	for i := range d.Layers {
		for _, c := range d.Layers[i].Where {
			for _, n := range c.Strokes {
				if strokes == nil {
					continue
				}
				if s := strokes(n); s != nil {
					h.Write(brush.Encode(s))
				}
			}
		}
	}
	return hex.EncodeToString(h.Sum(nil))
}

// lastOf keeps the maps of the set that was asked for last, so that one set's lie in memory at a time.
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

// row is one row of files that are made: the preset's, then those that the model needs for itself, then a layer's Where.
type row struct {
	file  *File
	own   bool // for the model alone
	where bool
}

// made is a file of a row and a set.
type made struct {
	row, set int // of the run's rows and units
	written  *Written
	packing  *packing // while its turn has not come
}

// run evaluates a job's sets, one document and one body of the surface for all.
type run struct {
	ctx    context.Context
	j      *Job
	body   *compose.Body
	prog   *compose.Program
	where  int // place of the layer whose Where is written, −1 for none
	dir    string
	units  []*unit
	of     []row
	made   []made
	done   int // files, of all
	all    int
	glbToo bool
	// Seconds.
	evaluating, encoding float64
	model                []int // by role of the GLB's pictures: the row, −1 for none
}

// whereFile is the row of a layer's Where.
var whereFile = File{Label: "Where", Map: "where", Name: "{set}_where", Format: "png", Bits: 16}

// rows lists what is made.
func (r *run) rows() {
	p := r.j.Preset
	for i := range p.Files {
		r.of = append(r.of, row{file: &p.Files[i]})
	}
	if r.glbToo {
		r.modelRows()
	}
	if r.where >= 0 {
		f := whereFile
		f.R = Plane{From: ofWhere + r.j.Where}
		r.of = append(r.of, row{file: &f, where: true})
	}
}

// sizeOf is the size of a row's file for a set.
func (r *run) sizeOf(k int, set *uv.Set) int {
	if r.of[k].own {
		return min(modelLimit, r.j.SizeOf(set.Key))
	}
	return r.j.sizeOf(r.of[k].file, set)
}

// set evaluates and writes the files of one unit, size by size.
func (r *run) set(u *unit, progress func(float64)) error {
	var sizes []int
	work := 0.0
	for k := range r.of {
		if n := r.sizeOf(k, u.set); !slices.Contains(sizes, n) {
			sizes = append(sizes, n)
			work += float64(n) * float64(n)
		}
	}
	slices.Sort(sizes)
	slices.Reverse(sizes)
	done := 0.0
	for _, size := range sizes {
		var of []int
		for k := range r.of {
			if r.sizeOf(k, u.set) == size {
				of = append(of, k)
			}
		}
		part := float64(size) * float64(size) / work
		if err := r.sized(u, size, of, func(share float64) { progress(done + share*part) }); err != nil {
			return err
		}
		done += part
	}
	return nil
}

// sized makes those rows of a unit that have one size. Only packed texels, the padding's map and a band's evaluation are held.
func (r *run) sized(u *unit, size int, of []int, progress func(float64)) error {
	cover, parts, begin, err := r.cover(u, size)
	if err != nil {
		return err
	}
	packs := make([]*packing, len(of))
	for i, k := range of {
		f := r.of[k].file
		name := r.j.fileName(f, u.set)
		if packs[i], err = r.newPacking(cover, u.set, f, name); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	cover.Texel = nil // the padding leads to what is packed
	begun := time.Now()
	for n, part := range parts {
		across := surface.Across(part.Size)
		for from := 0; from < across; from += bandRows {
			if err := r.band(u.sets[n], part.Size, from, min(across, from+bandRows), part, begin[n], packs); err != nil {
				return err
			}
			progress(0.7 * (float64(n) + float64(from)/float64(across)) / float64(len(parts)))
		}
	}
	r.evaluating += time.Since(begun).Seconds()
	at := slices.Index(r.units, u)
	for i, p := range packs {
		m := made{row: of[i], set: at, packing: p}
		if p.later() {
			if err := p.aside(r.dir); err != nil {
				return fmt.Errorf("%s: %w", p.name, err)
			}
		} else if err := r.write(&m, nil); err != nil {
			return err
		}
		r.made = append(r.made, m)
		packs[i] = nil // its texels are not needed any more
		progress(0.7 + 0.3*float64(i+1)/float64(len(packs)))
	}
	return nil
}

// write writes a packing's file.
func (r *run) write(m *made, palette [][3]uint8) (err error) {
	p := m.packing
	begun := time.Now()
	defer func() { r.encoding += time.Since(begun).Seconds() }()
	if m.written, err = p.write(r.ctx, r.dir, palette); err != nil {
		return fmt.Errorf("%s: %w", p.name, err)
	}
	if r.of[m.row].where {
		m.written.Channels["R"] = "where " + r.j.Where
	}
	p.pix, p.cover = nil, nil
	if !r.of[m.row].own {
		r.done++
		r.j.Filed(r.done, r.all)
	}
	return nil
}

// settle finishes the files that had to wait for all sets: for the range of their heights, or for a palette.
func (r *run) settle() error {
	for k := range r.of {
		var of []*made
		for i := range r.made {
			if m := &r.made[i]; m.row == k && m.written == nil {
				of = append(of, m)
			}
		}
		if len(of) == 0 {
			continue
		}
		low, high := float32(math.MaxFloat32), float32(-math.MaxFloat32)
		for _, m := range of {
			for i := range m.packing.planes {
				if m.packing.planes[i].Height {
					low, high = min(low, m.packing.low[i]), max(high, m.packing.high[i])
				}
			}
		}
		a, b := rangeOf(low, high)
		var palette [][3]uint8
		if n := r.of[k].file.Colours; n > 0 {
			c := counts{}
			for _, m := range of {
				pix, err := os.ReadFile(m.packing.spill)
				if err != nil {
					return err
				}
				c.count(pix)
			}
			palette = c.palette(n)
		}
		for _, m := range of {
			u := r.units[m.set]
			cover, _, _, err := r.cover(u, r.sizeOf(k, u.set))
			if err != nil {
				return err
			}
			if err := m.packing.back(cover); err != nil {
				return err
			}
			if m.packing.raw {
				m.packing.settle(a, b, cover.Texel)
			}
			cover.Texel = nil
			if err := r.write(m, palette); err != nil {
				return err
			}
		}
	}
	return nil
}

// list puts the files that were made into the delivery, by set and then by row, without those that are empty everywhere.
func (r *run) list(d *Delivery) {
	skipped := map[int]bool{}
	for k := range r.of {
		if !r.of[k].file.Skip {
			continue
		}
		var of []*packing
		for i := range r.made {
			if m := &r.made[i]; m.row == k {
				of = append(of, m.packing)
			}
		}
		if skipped[k] = flat(of); skipped[k] {
			d.Skipped = append(d.Skipped, fmt.Sprintf("%s: it is one value everywhere on all sets, so there is no file", r.of[k].file.Label))
		}
	}
	slices.SortStableFunc(r.made, func(a, b made) int {
		if r.of[a.row].where != r.of[b.row].where {
			return map[bool]int{true: 1, false: -1}[r.of[a.row].where]
		}
		if a.set != b.set {
			return a.set - b.set
		}
		return a.row - b.row
	})
	for i := range r.made {
		m := &r.made[i]
		if r.of[m.row].own || skipped[m.row] {
			continue
		}
		if m.written.Green == "down" {
			d.Green = "down"
		}
		if !r.of[m.row].where {
			m.written.Label = r.of[m.row].file.Label
			d.Files = append(d.Files, *m.written)
		} else {
			d.wheres = append(d.wheres, *m.written)
		}
	}
}

// band evaluates some rows of tiles of a set, with one more on either side for the slopes, and packs them, the set's first texel as
// number first.
func (r *run) band(set *uv.Set, size, from, to int, cover *surface.Surface, first int, packs []*packing) error {
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
			begin[t] = first + int(cover.Tiles[cover.TileAt(tile.X, tile.Y)].From)
		}
	}
	g := &given{canvas: c, texels: c.Texels(), wheres: map[int][]float32{}}
	if g.maps, err = r.j.Maps(set.Key); err != nil {
		return err
	}
	channels := false
	for _, p := range packs {
		for k := range p.planes {
			s := &p.planes[k]
			if channels = channels || s.kind == ""; s.kind == ofWhere && g.wheres[s.layer] == nil {
				if g.wheres[s.layer], err = c.Field(r.ctx, r.prog, s.layer, ""); err != nil {
					return err
				}
			}
		}
	}
	take := func(t int, ch *compose.Channels) {
		at := &c.Surf.Tiles[t]
		for _, p := range packs {
			p.take(begin[t], int(at.From), int(at.To), ch, g)
		}
	}
	if !channels {
		for _, t := range do.Tiles {
			take(t, nil)
		}
		return r.ctx.Err()
	}
	do.Do = func(_, t int, _ compose.Keys, ch *compose.Channels) { take(t, ch) }
	return c.Run(r.ctx, r.prog, do)
}

// beside makes what goes with the files: the model, documents that wire them, and words.
func (r *run) beside(d *Delivery) error {
	p := r.j.Preset
	type maker struct {
		on   bool
		make func(d *Delivery) (*Written, error)
	}
	for _, m := range []maker{{r.glbToo, r.glb}, {p.MaterialX, r.materialX}, {p.USD, r.usd}, {len(p.Files) > 0, r.wiring}} {
		if !m.on {
			continue
		}
		w, err := m.make(d)
		if err != nil {
			return err
		}
		d.Files = append(d.Files, *w)
		r.done++
		r.j.Filed(r.done, r.all)
	}
	d.Files = append(d.Files, d.wheres...)
	return nil
}

// Roles of the GLB's pictures.
const (
	roleBase = iota
	roleORM
	roleNormal
	roleEmissive
	roles
)

// modelRows finds the rows whose files go into the GLB, and adds those that the preset does not make as glTF wants them.
func (r *run) modelRows() {
	r.model = slices.Repeat([]int{-1}, roles)
	plain := func(f *File) bool {
		return f.Format == "png" && (f.Scale == 0 || f.Scale == 1)
	}
	if slices.ContainsFunc(r.of, func(w row) bool { return w.file.R.From == "unlit.r" }) {
		// Everything is in one map free of light.
		r.model[roleBase] = slices.IndexFunc(r.of, func(w row) bool { return w.file.R.From == "unlit.r" && plain(w.file) })
		if r.model[roleBase] >= 0 {
			return
		}
	}
	want := (&Preset{Files: []File{baseColour, ormPacked, normalUp, emissive}}).For(r.j.Document)
	for i := range want.Files {
		f := &want.Files[i]
		role := map[string]int{"basecolor": roleBase, "orm": roleORM, "normal": roleNormal, "emissive": roleEmissive}[f.Map]
		r.model[role] = slices.IndexFunc(r.of, func(w row) bool {
			return plain(w.file) && w.file.SRGB == f.SRGB && w.file.Colours == 0 && slices.EqualFunc(w.file.Planes(), f.Planes(), func(a, b Plane) bool { return a.From == b.From && a.Invert == b.Invert })
		})
		if r.model[role] < 0 {
			f.Map = "model-" + f.Map
			r.model[role] = len(r.of)
			r.of = append(r.of, row{file: f, own: true})
		}
	}
}

// picture is the file of a role of the GLB for a set, nil for none.
func (r *run) picture(role, set int) ([]byte, *File, error) {
	k := r.model[role]
	if k < 0 {
		return nil, nil, nil
	}
	i := slices.IndexFunc(r.made, func(m made) bool { return m.row == k && m.set == set })
	if i < 0 {
		return nil, nil, nil
	}
	data, err := r.made[i].written.Data()
	return data, r.of[k].file, err
}

// glb is the model with its textures.
func (r *run) glb(d *Delivery) (*Written, error) {
	j := r.j
	unitOf := slices.Repeat([]int{len(r.units)}, len(j.Model.Tris))
	origin := make([]geom.Vec2, len(r.units)+1)
	for i, u := range r.units {
		if u.join == nil {
			origin[i] = u.set.Origin
		}
		for _, s := range u.sets {
			for _, t := range s.Tris {
				unitOf[t] = i
			}
		}
	}
	o := mesh.GLBOptions{MaterialOf: func(t int) int { return unitOf[t] }, Origin: func(t int) geom.Vec2 { return origin[unitOf[t]] }, Tangents: true, Generator: "Crust", Nearest: j.Preset.Nearest}
	for i, u := range r.units {
		mat := mesh.GLBMaterial{Name: u.set.Name, NamePictures: u.set.Name}
		for role, to := range []*[]byte{&mat.BaseColour, &mat.ORM, &mat.Normal, &mat.Emissive} {
			data, f, err := r.picture(role, i)
			if err != nil {
				return nil, err
			}
			if *to = data; f != nil && role == roleBase {
				mat.Mask, mat.Unlit = f.A != nil, strings.HasPrefix(f.R.From, "unlit")
			}
		}
		o.Materials = append(o.Materials, mat)
	}
	// What is not delivered stays plain.
	o.Materials = append(o.Materials, mesh.GLBMaterial{Name: "not delivered", Colour: [3]float32{0.5, 0.5, 0.5}})
	w := &Written{File: uv.FileName(j.Asset) + ".glb", Label: "Model"}
	return w, w.stream(d.aside, func(to *stream) error { return mesh.WriteGLB(to, r.moved(), o) })
}

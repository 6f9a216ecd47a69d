package studio

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"crust/internal/core/bake"
	"crust/internal/core/deliver"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
	"crust/internal/store"
)

// Shipping is how an asset is delivered; the asset remembers it.
type Shipping struct {
	Preset string `json:"preset"` // name of one that ships, or of one's own
	// Edited is the preset as it was changed for this asset; nil for as it is.
	Edited *deliver.Preset  `json:"edited,omitempty"`
	Naming string           `json:"naming,omitempty"` // template of names; empty for the preset's
	Size   int              `json:"size"`             // of all sets in px, 0 for each set's own
	Sizes  map[string]int   `json:"sizes,omitempty"`  // of single sets, by key
	Only   []string         `json:"only,omitempty"`   // keys of the sets that are delivered; empty for all
	Pad    *deliver.Padding `json:"pad,omitempty"`    // nil for the preset's
	Joins  []deliver.Join   `json:"joins,omitempty"`  // sheets on which sets become one; all are remembered, those that are used
	Unused []string         `json:"unused,omitempty"` // names of the sheets that are not used
	To     string           `json:"to"`               // ToZip or ToFolder
	Folder string           `json:"folder"`           // below the folder of deliveries
}

// Where deliveries go.
const (
	ToZip    = "zip"
	ToFolder = "folder"
)

// newShipping is how an asset is delivered at first.
func newShipping() Shipping {
	return Shipping{Preset: deliver.Presets[0].Name, Size: 1024, To: ToZip}
}

func parseShipping(text string) Shipping {
	s := newShipping()
	if text == "" {
		return s
	}
	if err := json.Unmarshal([]byte(text), &s); err != nil {
		slog.Warn("how an asset is delivered cannot be read", "error", err)
		return newShipping()
	}
	return s
}

// MaxPresets bounds how many presets of their own people keep.
const MaxPresets = 500

// OwnPresets lists people's own presets by name.
func (s *Studio) OwnPresets() ([]deliver.Preset, error) {
	rows, err := s.Store.Presets()
	if err != nil {
		return nil, err
	}
	out := []deliver.Preset{}
	for _, r := range rows {
		p, err := deliver.ParsePreset([]byte(r.Text))
		if err != nil {
			slog.Warn("a stored preset cannot be read", "preset", r.Name, "error", err)
			continue
		}
		out = append(out, *p)
	}
	return out, nil
}

// Preset finds one of people's own presets, or one that ships.
func (s *Studio) Preset(name string) (*deliver.Preset, error) {
	own, err := s.OwnPresets()
	if err != nil {
		return nil, err
	}
	if i := slices.IndexFunc(own, func(p deliver.Preset) bool { return p.Name == name }); i >= 0 {
		return &own[i], nil
	}
	return deliver.PresetOf(name)
}

// KeepPreset stores a preset; one of the same name gives way. Those that ship keep their names.
func (s *Studio) KeepPreset(p *deliver.Preset) error {
	p.Name = strings.TrimSpace(p.Name)
	if p.Title = strings.TrimSpace(p.Title); p.Title == "" {
		p.Title = p.Name
	}
	if err := p.Check(); err != nil {
		return err
	}
	if _, err := deliver.PresetOf(p.Name); err == nil {
		return fmt.Errorf("“%s” is a preset that ships; give yours another name", p.Name)
	}
	own, err := s.Store.Presets()
	if err != nil {
		return err
	}
	if len(own) >= MaxPresets {
		return fmt.Errorf("%d presets are kept already; delete some first", len(own))
	}
	return s.Store.PutPreset(p.Name, string(p.Bytes()))
}

// recipe is the preset that a shipping takes.
func (s *Studio) recipe(h *Shipping) (*deliver.Preset, error) {
	if h.Edited != nil {
		return h.Edited, h.Edited.Check()
	}
	return s.Preset(h.Preset)
}

// check says the first thing that is wrong with a shipping, for sets that there are.
func (h *Shipping) check(sets []uv.Set) error {
	sizes := append(slices.Collect(maps.Values(h.Sizes)), h.Size)
	for _, n := range sizes {
		if n != 0 && !slices.Contains(deliver.Sizes, n) {
			return fmt.Errorf("a delivery of %d px is not offered; use one of %v", n, deliver.Sizes)
		}
	}
	if h.To != ToZip && h.To != ToFolder {
		return fmt.Errorf("a delivery goes to a %s or a %s", ToZip, ToFolder)
	}
	if len(h.Folder) > 400 {
		return errors.New("the folder's path is too long")
	}
	if h.Naming != "" {
		if err := deliver.CheckNaming(h.Naming); err != nil {
			return err
		}
	}
	if h.Pad != nil {
		if err := h.Pad.Check(); err != nil {
			return err
		}
	}
	for i := range h.Joins {
		if err := h.Joins[i].Check(); err != nil {
			return err
		}
	}
	if err := deliver.CheckJoins(h.used()); err != nil {
		return err
	}
	// Sets that are gone are forgotten.
	there := func(key string) bool { return slices.ContainsFunc(sets, func(s uv.Set) bool { return s.Key == key }) }
	h.Only = slices.DeleteFunc(h.Only, func(key string) bool { return !there(key) })
	maps.DeleteFunc(h.Sizes, func(key string, n int) bool {
		return n == 0 || !there(key) && !slices.ContainsFunc(h.Joins, func(j deliver.Join) bool { return j.Key() == key })
	})
	return nil
}

// used are the join sheets that are used.
func (h *Shipping) used() (out []deliver.Join) {
	for _, j := range h.Joins {
		if !slices.Contains(h.Unused, j.Name) {
			out = append(out, j)
		}
	}
	return out
}

// LaySheet lays the cells of a join sheet out anew.
func (a *Asset) LaySheet(name, how string) error {
	a.choosing.Lock()
	defer a.choosing.Unlock()
	a.mu.Lock()
	h, sets := a.shipping, a.sets
	a.mu.Unlock()
	h.Joins = slices.Clone(h.Joins)
	i := slices.IndexFunc(h.Joins, func(j deliver.Join) bool { return j.Name == name })
	if i < 0 {
		return fmt.Errorf("there is no join sheet “%s” any more", name)
	}
	h.Joins[i].Sets = slices.Clone(h.Joins[i].Sets)
	if err := h.Joins[i].Lay(how, sets); err != nil {
		return err
	}
	return a.SetShipping(h)
}

// SheetConflicts are where sets lie on each other on a join sheet.
type SheetConflicts struct {
	Of     []deliver.Conflict `json:"of"`
	Side   int                `json:"side"`
	Texels []uint32           `json:"texels"` // row · side + column, up to maxShown
}

// maxShown bounds the texels of conflicts that are shown.
const maxShown = 40_000

// Conflicts finds where sets lie on each other on a join sheet.
func (a *Asset) Conflicts(name string) (*SheetConflicts, error) {
	a.mu.Lock()
	h, m, sets := a.shipping, a.model, a.sets
	a.mu.Unlock()
	i := slices.IndexFunc(h.Joins, func(j deliver.Join) bool { return j.Name == name })
	if i < 0 {
		return nil, fmt.Errorf("there is no join sheet “%s” any more", name)
	}
	of, texels := h.Joins[i].Conflicts(m, sets)
	if of == nil {
		of = []deliver.Conflict{}
	}
	return &SheetConflicts{of, deliver.ConflictSide, append([]uint32{}, texels[:min(len(texels), maxShown)]...)}, nil
}

// changed is old with the members of a JSON object put in place of its own, so that what others change at the same time stays.
func changed[T any](old T, change json.RawMessage) (T, error) {
	var whole, some map[string]json.RawMessage
	var out T
	text, err := json.Marshal(old)
	if err != nil {
		return out, err
	}
	if err := json.Unmarshal(text, &whole); err != nil {
		return out, err
	}
	if json.Unmarshal(change, &some) != nil {
		return out, errNotUnderstood
	}
	maps.Copy(whole, some)
	if text, err = json.Marshal(whole); err != nil {
		return out, err
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	if d.Decode(&out) != nil {
		return out, errNotUnderstood
	}
	return out, nil
}

var errNotUnderstood = errors.New("the change could not be understood; load the page again")

// ChangeShipping changes some of how the asset is delivered: the members of a JSON object of Shipping.
func (a *Asset) ChangeShipping(change json.RawMessage) error {
	a.choosing.Lock()
	defer a.choosing.Unlock()
	a.mu.Lock()
	h := a.shipping
	a.mu.Unlock()
	h, err := changed(h, change)
	if err != nil {
		return err
	}
	return a.SetShipping(h)
}

// SetShipping says how the asset is delivered.
func (a *Asset) SetShipping(h Shipping) error {
	if h.Edited == nil {
		if _, err := a.studio.Preset(h.Preset); err != nil {
			return err
		}
	} else if err := h.Edited.Check(); err != nil {
		return err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if err := h.check(a.sets); err != nil {
		return err
	}
	text, err := json.Marshal(h)
	if err != nil {
		return err
	}
	if err := a.studio.Store.Update(a.ID, map[string]any{"shipping": string(text)}); err != nil {
		return err
	}
	a.shipping = h
	a.tell(a.stateEvent())
	return nil
}

// Below is the full path of a folder of deliveries, which lies below a root, also where links lead. It need not be there yet.
func Below(root, folder string) (string, error) {
	if root == "" {
		return "", errors.New("the server was started without a folder for deliveries; start it with --deliver-root, or deliver a zip")
	}
	if strings.TrimSpace(folder) == "" {
		return "", fmt.Errorf("name a folder; it is made below %s", root)
	}
	root, err := filepath.Abs(root)
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(root, 0o755); err != nil {
		return "", fmt.Errorf("the folder of deliveries cannot be made: %w", deliver.Told(err))
	}
	outside := fmt.Errorf("“%s” does not lie below %s, where deliveries go; start the server with another --deliver-root for that", folder, root)
	p := filepath.Clean(folder)
	if !filepath.IsAbs(p) {
		p = filepath.Join(root, p)
	}
	inside := func(root, p string) bool {
		rel, err := filepath.Rel(root, p)
		return err == nil && rel != "." && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator))
	}
	if !inside(root, p) {
		return "", outside
	}
	rel, _ := filepath.Rel(root, p)
	for _, part := range strings.Split(rel, string(filepath.Separator)) {
		if uv.FileName(part) != part || strings.HasPrefix(part, ".") {
			return "", fmt.Errorf("“%s” cannot be the name of a folder; use such as “%s”", part, strings.TrimLeft(uv.FileName(part), "."))
		}
	}
	real, err := filepath.EvalSymlinks(root)
	if err != nil {
		return "", err
	}
	for q := p; q != root; q = filepath.Dir(q) {
		at, err := filepath.EvalSymlinks(q)
		if errors.Is(err, fs.ErrNotExist) {
			if _, err := os.Lstat(q); err == nil {
				return "", outside // a link that leads nowhere
			}
			continue
		}
		if err != nil {
			return "", deliver.Told(err)
		}
		if !inside(real, at) {
			return "", outside
		}
		break
	}
	return p, nil
}

// DeliveryPlan is what a delivery will write, and what there is to say before it does.
type DeliveryPlan struct {
	Files    []deliver.Planned `json:"files"`
	Bytes    int               `json:"bytes"`
	Folder   string            `json:"folder,omitempty"` // its full path
	Taken    []deliver.Taken   `json:"taken,omitempty"`  // what is in the way
	Error    string            `json:"error,omitempty"`  // it cannot run, because of this
	Warnings []string          `json:"warnings"`
	Preset   deliver.Preset    `json:"preset"` // as it is for these strata
	Root     string            `json:"root"`
}

// job is what a shipping delivers now.
func (a *Asset) shippingJob(h Shipping) (deliver.Job, error) {
	p, err := a.studio.recipe(&h)
	if err != nil {
		return deliver.Job{}, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	j := deliver.Job{Asset: a.name, Mark: a.mark, Model: a.model, Sets: a.sets, Document: a.doc.Clone(), Preset: p, Size: h.Size, Naming: h.Naming, Pad: h.Pad, Only: h.Only, Joins: h.used(), Strokes: a.Stroke}
	own := a.intake.sizes()
	if h.Size == 0 || len(h.Sizes) > 0 {
		j.SizeOf = func(key string) int {
			if n := h.Sizes[key]; n > 0 {
				return n
			}
			if h.Size > 0 {
				return h.Size
			}
			if !slices.ContainsFunc(j.Sets, func(s uv.Set) bool { return s.Key == key }) {
				return 0 // a join sheet is as large as its largest set
			}
			return own(key)
		}
	}
	return j, nil
}

// PlanDelivery says what a delivery would write, in folders below root.
func (a *Asset) PlanDelivery(root string) (*DeliveryPlan, error) {
	a.mu.Lock()
	h := a.shipping
	missing := map[string]int{}
	for _, c := range a.cells(bake.Kinds) {
		if c.State == "missing" {
			missing[c.Kind]++
		}
	}
	a.mu.Unlock()
	out := &DeliveryPlan{Warnings: []string{}, Files: []deliver.Planned{}, Root: root}
	j, err := a.shippingJob(h)
	if err == nil {
		out.Preset = *j.Preset.For(j.Document)
		out.Files, err = deliver.Plan(j)
	}
	if out.Files == nil {
		out.Files = []deliver.Planned{}
	}
	names := make([]string, 0, len(out.Files))
	for _, f := range out.Files {
		out.Bytes += f.Bytes
		names = append(names, f.File)
	}
	if err == nil && h.To == ToFolder {
		if out.Folder, err = Below(root, h.Folder); err == nil {
			out.Taken, err = deliver.Standing(out.Folder, j.Owner(), names)
		}
	}
	if err != nil {
		out.Error = err.Error()
		return out, nil
	}
	for i := range j.Joins {
		of, _ := j.Joins[i].Conflicts(j.Model, j.Sets)
		for _, c := range of {
			out.Warnings = append(out.Warnings, fmt.Sprintf("On join sheet “%s” %s and %s lie on each other, on %.2g %% of it; one of them will be hidden there.", j.Joins[i].Name, nameOfSet(j.Sets, c.A), nameOfSet(j.Sets, c.B), 100*float64(c.Texels)/(deliver.ConflictSide*deliver.ConflictSide)))
		}
	}
	for _, kind := range deliver.MapsRead(j.Document, j.Preset) {
		// Without a map of normals the model's own stand in.
		if n := missing[kind]; n > 0 && kind != bake.Normal && kind != bake.WorldNormal {
			out.Warnings = append(out.Warnings, fmt.Sprintf("%s is not baked on %s; flat, open surface stands in for it.", labelOf(kind), setsWord(n)))
		}
	}
	if !slices.ContainsFunc(j.Document.Layers, func(l strata.Layer) bool { return !l.Hidden }) {
		out.Warnings = append(out.Warnings, "No layer is visible, so the maps will be bare.")
	}
	if j.Model.Square != nil {
		for i := range j.Document.Layers {
			if l := &j.Document.Layers[i]; !l.Hidden && slices.ContainsFunc(l.Where, ends) {
				out.Warnings = append(out.Warnings, fmt.Sprintf("“%s” lies by reach, which does not repeat: an edge will show where squares meet.", l.Name))
			}
		}
	}
	for i := range out.Preset.Files {
		if f := &out.Preset.Files[i]; f.Format == "jpeg" {
			out.Warnings = append(out.Warnings, fmt.Sprintf("%s is written as JPEG, which changes colours a little each time it is saved.", f.Label))
		}
	}
	return out, nil
}

// ends tells that a clause does not go on over the rim of a square that repeats: a reach that does not run up or down.
func ends(c strata.Clause) bool {
	return !c.Off && c.Kind == "reach" && c.Params["toward"] > 1
}

func labelOf(kind string) string {
	for _, k := range bake.All() {
		if k.Name == kind {
			return k.Label
		}
	}
	return kind
}

func nameOfSet(sets []uv.Set, key string) string {
	for _, s := range sets {
		if s.Key == key {
			return s.Name
		}
	}
	return key
}

func setsWord(n int) string {
	if n == 1 {
		return "one set"
	}
	return fmt.Sprintf("%d sets", n)
}

// Deliver delivers the asset as it is set to be, as a job. replace lets it take the place of files that others put there.
func (a *Asset) Deliver(root string, replace bool) error {
	a.mu.Lock()
	h := a.shipping
	a.mu.Unlock()
	return a.deliverAs(root, h, replace)
}

// DeliverAgain delivers as an earlier time, and remembers that.
func (a *Asset) DeliverAgain(root string, id uint, replace bool) error {
	rows, err := a.Deliveries()
	if err != nil {
		return err
	}
	i := slices.IndexFunc(rows, func(d store.Delivery) bool { return d.ID == id })
	if i < 0 {
		return fmt.Errorf("delivery %d: %w", id, store.ErrNone)
	}
	h := parseShipping(rows[i].Shipping)
	if rows[i].Shipping == "" {
		h.Preset, h.Size = rows[i].Preset, rows[i].Size
	}
	if err := a.SetShipping(h); err != nil {
		return err
	}
	return a.deliverAs(root, h, replace)
}

// JobOf is a delivery of the asset by a preset, as it is set to be but for that; all sets in size px, or 0 as they are set to be.
func (a *Asset) JobOf(p *deliver.Preset, size int) (deliver.Job, error) {
	a.mu.Lock()
	h := a.shipping
	a.mu.Unlock()
	h.Preset, h.Edited, h.Naming, h.Pad = p.Name, p, "", nil
	if size > 0 {
		h.Size, h.Sizes = size, nil
	}
	j, err := a.shippingJob(h)
	if err == nil {
		a.supply(&j)
	}
	return j, err
}

// ReadsFor lists what is not baked, or not any more, of the maps that a delivery reads.
func (a *Asset) ReadsFor(j *deliver.Job) (out []Cell) {
	reads := a.readsOf(j)
	for _, c := range a.Missing() {
		if slices.Contains(reads, c.Kind) {
			out = append(out, c)
		}
	}
	return out
}

func (a *Asset) readsOf(j *deliver.Job) []string {
	a.mu.Lock()
	defer a.mu.Unlock()
	reads := a.reads(j.Document)
	for _, kind := range deliver.MapsRead(j.Document, j.Preset) {
		if !slices.Contains(reads, kind) {
			reads = append(reads, kind)
		}
	}
	return reads
}

// supply gives a job the maps and pictures that it reads.
func (a *Asset) supply(j *deliver.Job) {
	reads, sets := a.readsOf(j), j.Sets
	j.Maps = func(set string) (map[string]*bake.Map, error) { return a.mapsOf(sets, set, reads) }
	j.Pictures = a.picture
}

func (a *Asset) deliverAs(root string, h Shipping, replace bool) error {
	j, err := a.shippingJob(h)
	if err != nil {
		return err
	}
	plan, err := deliver.Plan(j)
	if err != nil {
		return err
	}
	folder := ""
	if h.To == ToFolder {
		if folder, err = Below(root, h.Folder); err != nil {
			return err
		}
		var names []string
		for _, f := range plan {
			names = append(names, f.File)
		}
		taken, err := deliver.Standing(folder, j.Owner(), names)
		if err != nil {
			return err
		}
		if len(taken) > 0 && !replace {
			return &deliver.InTheWay{Dir: folder, Files: taken}
		}
	}
	text, err := json.Marshal(h)
	if err != nil {
		return err
	}
	a.supply(&j)
	return a.start("deliver", "Deliver "+j.Preset.Title, func(ctx context.Context, job *Job, share func(float64)) error {
		if j.Aside, err = a.studio.Store.Aside(a.ID); err != nil {
			return err
		}
		j.Progress = func(v float64) { share(v * 0.95) }
		j.Filed = func(done, all int) { a.step(job, fmt.Sprintf("%d of %d files", done, all)) }
		d, err := deliver.Run(ctx, j)
		if err != nil {
			return err
		}
		defer d.Close()
		row := &store.Delivery{AssetID: a.ID, Preset: j.Preset.Name, Title: j.Preset.Title, Size: h.Size, Note: string(d.JSON()), Folder: folder, Shipping: string(text), Changed: len(d.Files)}
		return a.studio.Store.AddDelivery(row, func(zip string) (err error) {
			if err := ctx.Err(); err != nil {
				return err
			}
			if folder == "" {
				return deliver.WriteAside(zip, d.Zip)
			}
			row.Changed, err = d.WriteFolder(folder, replace)
			return err
		})
	})
}

// step tells how far a job is in words.
func (a *Asset) step(j *Job, words string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	j.step = words
	a.tell(j.event())
}

// DropDelivery forgets a delivery and its zip; what lies in folders stays.
func (a *Asset) DropDelivery(id uint) error { return a.studio.Store.DropDelivery(a.ID, id) }

// FinishDeliveries ends what a server that was killed left half-done in folders of deliveries. It is called once, before Sweep.
func (s *Studio) FinishDeliveries() {
	folders, err := s.Store.Folders()
	if err != nil {
		slog.Warn("the folders of deliveries cannot be read", "error", err)
		return
	}
	done := map[string]bool{}
	for _, f := range folders {
		for _, dir := range []string{f, filepath.Dir(f)} {
			if done[dir] {
				continue
			}
			done[dir] = true
			if err := deliver.Finish(dir); err != nil {
				slog.Warn("a delivery could not be finished", "folder", dir, "error", err)
			}
		}
	}
}

// planeSide is the side of the small pictures of what planes can hold, in px.
const planeSide = 48

// Planes shows what sources hold on a set, as grey squares of planeSide px by name.
func (a *Asset) Planes(ctx context.Context, set string, names []string) (map[string][]byte, int, error) {
	a.mu.Lock()
	j := deliver.Job{Asset: a.name, Model: a.model, Sets: a.sets, Document: a.doc.Clone(), Strokes: a.Stroke, Pictures: a.picture}
	reads := a.reads(j.Document)
	for _, r := range a.rows {
		if !slices.Contains(reads, r.Kind) {
			reads = append(reads, r.Kind)
		}
	}
	a.mu.Unlock()
	if !slices.ContainsFunc(j.Sets, func(s uv.Set) bool { return s.Key == set }) {
		return nil, 0, fmt.Errorf("there is no set “%s”", set)
	}
	j.Maps = func(set string) (map[string]*bake.Map, error) { return a.mapsOf(j.Sets, set, reads) }
	out, err := deliver.Pictures(ctx, j, set, names, planeSide)
	return out, planeSide, err
}

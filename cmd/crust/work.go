package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crust/internal/core/bake"
	"crust/internal/core/brush"
	"crust/internal/core/compose"
	"crust/internal/core/deliver"
	"crust/internal/core/finish"
	"crust/internal/core/imgfile"
	"crust/internal/core/inspect"
	"crust/internal/core/mesh"
	"crust/internal/core/picture"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
	"crust/internal/store"
	"crust/internal/studio"
)

// load reads a model and the files it names from its own folder.
func load(file string) (*mesh.Model, error) {
	info, err := os.Stat(file)
	if err != nil {
		return nil, fmt.Errorf("%s: there is no such file; check the path", file)
	}
	if info.IsDir() {
		return nil, fmt.Errorf("%s: is a folder; name the model in it", file)
	}
	if info.Size() > mesh.MaxBytes {
		return nil, fmt.Errorf("%s: %d MB is over the limit of %d MB; split the model", file, info.Size()>>20, mesh.MaxBytes>>20)
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	if strings.EqualFold(filepath.Ext(file), ".zip") {
		files, err := mesh.Unpack([]mesh.File{{Name: filepath.Base(file), Data: data}})
		if err != nil {
			return nil, err
		}
		model, beside, err := mesh.Pick(files)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", filepath.Base(file), err)
		}
		return mesh.Open(model, beside)
	}
	return mesh.Read(file, data, func(name string) ([]byte, error) {
		return os.ReadFile(filepath.Join(filepath.Dir(file), filepath.Base(name)))
	})
}

func printJSON(v any) error {
	e := json.NewEncoder(os.Stdout)
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

func checkSplit(split string) error {
	if !slices.Contains(uv.Splits, split) {
		return wrong{fmt.Errorf("--sets %s: use %s", split, strings.Join(uv.Splits, ", "))}
	}
	return nil
}

// inspected is the report of a model.
type inspected struct {
	Model     string         `json:"model"`
	Triangles int            `json:"triangles"`
	Vertices  int            `json:"vertices"`
	Parts     []inspectedOf  `json:"parts"`
	Materials []string       `json:"materials"`
	Sets      []inspectedSet `json:"sets"`
	Bounds    struct {
		Min  [3]float32 `json:"min"`
		Max  [3]float32 `json:"max"`
		Size [3]float32 `json:"size"`
	} `json:"bounds"`
	Checks []inspect.Finding `json:"checks"`
	Notes  []string          `json:"notes"`
}

type inspectedOf struct {
	Name      string `json:"name"`
	Triangles int    `json:"triangles"`
}

type inspectedSet struct {
	Name      string  `json:"name"`
	Triangles int     `json:"triangles"`
	Tile      int     `json:"tile,omitempty"`
	Density   float64 `json:"texel_density"` // px/m at 1024
	Islands   int     `json:"islands"`
	Used      float64 `json:"used"` // share of the tile
}

// intakeFlags say how a model is taken.
type intakeFlags struct {
	unit    string
	up      string
	channel int
	crease  float64
}

func (f *intakeFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.unit, "unit", "m", "unit that the model was made in: m, dm, cm, mm, in, ft, or its length in metres")
	c.Flags().StringVar(&f.up, "up", "y", "axis that points up: y or z")
	c.Flags().IntVar(&f.channel, "uv", 1, "UV channel, 1 for the first")
	c.Flags().Float64Var(&f.crease, "crease", 0, "compute normals, keeping edges of more degrees hard; 0 takes the file's")
}

// take reads a model and does as the flags say.
func (f *intakeFlags) take(file string) (*mesh.Model, error) {
	o := mesh.Intake{ZUp: strings.EqualFold(f.up, "z"), Compute: f.crease != 0, Crease: f.crease, Channel: f.channel - 1}
	if !o.ZUp && !strings.EqualFold(f.up, "y") {
		return nil, wrong{fmt.Errorf("--up %s: use y or z", f.up)}
	}
	for _, u := range mesh.Units {
		if u.Name == f.unit {
			o.Metres = u.Metres
		}
	}
	if o.Metres == 0 {
		var err error
		if o.Metres, err = strconv.ParseFloat(f.unit, 64); err != nil || o.Metres == 0 {
			return nil, wrong{fmt.Errorf("--unit %s: use m, dm, cm, mm, in, ft, or a length in metres", f.unit)}
		}
	}
	if err := o.Check(); err != nil {
		return nil, wrong{err}
	}
	m, err := load(file)
	if err != nil {
		return nil, err
	}
	if err := m.Choose(o.Channel); err != nil {
		return nil, fmt.Errorf("%s: %w", filepath.Base(file), err)
	}
	return m, o.Apply(m)
}

func inspectCommand() *cobra.Command {
	var split string
	var asJSON bool
	var padding float64
	var how intakeFlags
	c := &cobra.Command{Use: "inspect MODEL", Short: "Show a model's parts, sets, size and UV checks", Args: exactly("a model"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkSplit(split); err != nil {
				return err
			}
			m, err := how.take(args[0])
			if err != nil {
				return err
			}
			sets, err := uv.Sets(m, split)
			if err != nil {
				return err
			}
			r, err := report(cmd.Context(), args[0], m, sets, padding)
			if err != nil {
				return err
			}
			if asJSON {
				return printJSON(r)
			}
			fmt.Printf("%s: %d triangles, %.3g × %.3g × %.3g m\n", r.Model, r.Triangles, r.Bounds.Size[0], r.Bounds.Size[1], r.Bounds.Size[2])
			for _, p := range r.Parts {
				fmt.Printf("  part %-24s %8d triangles\n", p.Name, p.Triangles)
			}
			for _, s := range r.Sets {
				fmt.Printf("  set  %-24s %8d triangles  %5d islands  %6.0f px/m at 1024  %3.0f %% used\n", s.Name, s.Triangles, s.Islands, s.Density, s.Used*100)
			}
			for _, k := range r.Checks {
				where := ""
				if k.Set != "" {
					where = ", " + k.Set
				}
				fmt.Printf("  %s: %s%s: %s. %s\n", k.Severity, k.Title, where, k.Detail, k.Remedy)
			}
			for _, n := range r.Notes {
				fmt.Println("  " + n)
			}
			return nil
		}}
	c.Flags().StringVar(&split, "sets", uv.PerMaterial, "single, material or udim")
	c.Flags().Float64Var(&padding, "padding", inspect.DefaultPadding, "least distance of islands in px at 1024")
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object")
	how.add(c)
	return c
}

func report(ctx context.Context, file string, m *mesh.Model, sets []uv.Set, padding float64) (*inspected, error) {
	look, err := inspect.Model(ctx, m, sets, inspect.Options{Padding: padding}, nil)
	if err != nil {
		return nil, err
	}
	r := &inspected{Model: filepath.Base(file), Triangles: len(m.Tris), Vertices: len(m.Positions), Checks: look.Findings, Notes: m.Notes, Materials: []string{}, Parts: []inspectedOf{}}
	if r.Notes == nil {
		r.Notes = []string{}
	}
	count := make([]int, len(m.Parts))
	for _, p := range m.Part {
		count[p]++
	}
	for i, p := range m.Parts {
		r.Parts = append(r.Parts, inspectedOf{p, count[i]})
	}
	for _, k := range m.Materials {
		r.Materials = append(r.Materials, k.Name)
	}
	for i := range sets {
		r.Sets = append(r.Sets, inspectedSet{Name: sets[i].Name, Triangles: len(sets[i].Tris), Tile: sets[i].Tile, Density: sets[i].Density(1024), Islands: look.Islands[i], Used: look.Used[i]})
	}
	b := m.Bounds()
	r.Bounds.Min, r.Bounds.Max, r.Bounds.Size = b.Min.Array(), b.Max.Array(), b.Size().Array()
	return r, nil
}

// bakeFlags are shared by bake and deliver.
type bakeFlags struct {
	high     []string
	split    string
	settings bake.Settings
	asJSON   bool
	out      string
}

func (f *bakeFlags) add(c *cobra.Command, size int) {
	c.Flags().StringArrayVar(&f.high, "high", nil, "high-poly to bake from; give it again for more files")
	c.Flags().StringVar(&f.split, "sets", uv.PerMaterial, "single, material or udim")
	c.Flags().IntVar(&f.settings.Size, "size", size, "size of each map in px")
	c.Flags().IntVar(&f.settings.Rays, "rays", 64, "occlusion rays per texel")
	c.Flags().IntVar(&f.settings.Samples, "samples", 1, "samples per texel: 1, 4 or 16")
	c.Flags().StringVar(&f.settings.Sees, "sees", "", "what occlusion rays may meet: "+strings.Join(bake.SeesChoices, ", "))
	c.Flags().BoolVar(&f.settings.Ground, "ground", false, "occlusion counts the floor under the model")
	c.Flags().Float64Var(&f.settings.Deep, "deep", 0, "limit of thickness in metres; 0 is suggested from the model")
	c.Flags().StringVar(&f.settings.ID, "id", "", "what ID colours are made from: "+strings.Join(bake.IDChoices, ", "))
	c.Flags().Float64Var(&f.settings.Radius, "radius", 0, "radius of curvature in metres; 0 is suggested from the model")
	c.Flags().Float64Var(&f.settings.Far, "far", 0, "limit of occlusion rays in metres; 0 is none")
	c.Flags().Float64Var(&f.settings.Front, "front", 0, "how far above the model the high-poly is looked for in metres; 0 is suggested part by part")
	c.Flags().Float64Var(&f.settings.Rear, "rear", 0, "how far below")
	c.Flags().BoolVar(&f.settings.Straight, "straight", false, "rays follow the model's own normals instead of averaged ones")
	c.Flags().StringSliceVar(&f.settings.Endings, "endings", nil, "endings of part names that pairing passes over, with commas between; unset for the usual ones")
	c.Flags().StringVar(&f.out, "out", ".", "folder to write to")
	c.Flags().BoolVar(&f.asJSON, "json", false, "print one JSON object")
}

// open checks the call and prepares model, sets and bake source.
func (f *bakeFlags) open(ctx context.Context, file string) (*mesh.Model, []uv.Set, *bake.Source, error) {
	if err := checkSplit(f.split); err != nil {
		return nil, nil, nil, err
	}
	if err := f.settings.Check(); err != nil {
		return nil, nil, nil, wrong{err}
	}
	low, err := load(file)
	if err != nil {
		return nil, nil, nil, err
	}
	if !low.HasUV {
		return nil, nil, nil, fmt.Errorf("%s: has faces without UVs, so there is nowhere to bake to; unwrap them and export again", filepath.Base(file))
	}
	var high *mesh.Model
	for _, name := range f.high {
		m, err := load(name)
		if err != nil {
			return nil, nil, nil, err
		}
		if high == nil {
			high = m
		} else {
			high.Append(m)
		}
	}
	sets, err := uv.Sets(low, f.split)
	if err != nil {
		return nil, nil, nil, err
	}
	src, err := bake.Prepare(ctx, low, high, f.settings)
	return low, sets, src, err
}

// bar shows progress on standard error: a line that is redrawn on a terminal, plain lines elsewhere.
type bar struct {
	label    string
	terminal bool
	last     time.Time
	shown    int
}

func newBar(label string) *bar {
	info, err := os.Stderr.Stat()
	return &bar{label: label, terminal: err == nil && info.Mode()&os.ModeCharDevice != 0, shown: -1}
}

func (b *bar) at(share float64) {
	pct := int(share * 100)
	if b.terminal {
		if pct == b.shown {
			return
		}
		b.shown = pct
		fmt.Fprintf(os.Stderr, "\r%s [%-30s] %3d %%", b.label, strings.Repeat("█", pct*30/100), pct)
		if pct == 100 {
			fmt.Fprintln(os.Stderr)
		}
		return
	}
	if pct/25 != b.shown/25 || b.shown < 0 {
		fmt.Fprintf(os.Stderr, "%s %d %%\n", b.label, pct)
		b.shown = pct
	}
}

// withBar shows how far work is.
func withBar(label string, work func(share func(float64)) error) error {
	b := newBar(label)
	shares, done := make(chan float64, 64), make(chan struct{})
	go func() {
		for s := range shares {
			b.at(s)
		}
		close(done)
	}()
	err := work(func(s float64) {
		select {
		case shares <- s:
		default: // the bar may skip steps, the work may not wait
		}
	})
	close(shares)
	<-done
	if err == nil {
		b.at(1)
	}
	return err
}

// bakeSet bakes kinds of one set with a bar.
func bakeSet(ctx context.Context, src *bake.Source, set *uv.Set, kinds []string) (maps []*bake.Map, err error) {
	err = withBar("bake "+set.Name, func(share func(float64)) (err error) {
		maps, err = src.Bake(ctx, set, kinds, share)
		return err
	})
	return maps, err
}

type bakedMap struct {
	Set           string        `json:"set"`
	Map           string        `json:"map"`
	File          string        `json:"file"`
	Size          int           `json:"size"`
	Rays          int64         `json:"rays"`
	Seconds       float64       `json:"seconds"`
	RaysPerSecond float64       `json:"rays_per_second"`
	Missed        int64         `json:"missed"`        // texels that found no high-poly
	Low           float64       `json:"low,omitempty"` // what 0 and 1 stand for in metres, for maps of lengths
	High          float64       `json:"high,omitempty"`
	Legend        []bake.Legend `json:"legend,omitempty"`
	Box           *bake.Corners `json:"box,omitempty"` // of a position map, in metres
}

func bakeCommand() *cobra.Command {
	var f bakeFlags
	var maps string
	c := &cobra.Command{Use: "bake MODEL", Short: "Bake maps to 16-bit PNG or float OpenEXR files", Args: exactly("a model"),
		RunE: func(cmd *cobra.Command, args []string) error {
			var kinds []string
			for _, k := range strings.Split(maps, ",") {
				k = strings.TrimSpace(k)
				if _, err := bake.KindOf(k); err != nil {
					return wrong{fmt.Errorf("--maps: %w", err)}
				}
				kinds = append(kinds, k)
			}
			_, sets, src, err := f.open(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			for _, p := range src.Unpaired() {
				fmt.Fprintf(os.Stderr, "part “%s” has no high-poly of its name; any part near it is taken\n", p)
			}
			if err := os.MkdirAll(f.out, 0o755); err != nil {
				return fmt.Errorf("the folder cannot be made: %w", err)
			}
			var out struct {
				Maps []bakedMap `json:"maps"`
			}
			for i := range sets {
				made, err := bakeSet(cmd.Context(), src, &sets[i], kinds)
				if err != nil {
					return err
				}
				for _, m := range made {
					name := sets[i].Name + "_" + m.Kind + ".png"
					if sets[i].Tile > 0 {
						name = fmt.Sprintf("%s_%s.%d.png", strings.TrimSuffix(filepath.Base(args[0]), filepath.Ext(args[0])), m.Kind, sets[i].Tile)
					}
					data, err := mapBytes(m)
					if err != nil {
						return err
					}
					if f.settings.Float {
						name = strings.TrimSuffix(name, ".png") + ".exr"
					}
					if err := deliver.WriteWhole(filepath.Join(f.out, name), data); err != nil {
						return err
					}
					out.Maps = append(out.Maps, bakedMap{sets[i].Name, m.Kind, filepath.Join(f.out, name), m.Size, m.Rays, m.Seconds, float64(m.Rays) / max(1e-9, m.Seconds), m.Missed, m.Low, m.High, m.Legend, boxOf(m)})
				}
			}
			if f.asJSON {
				return printJSON(out)
			}
			for _, m := range out.Maps {
				fmt.Printf("%s  %.1f s\n", m.File, m.Seconds)
			}
			return nil
		}}
	f.add(c, 1024)
	c.Flags().BoolVar(&f.settings.Float, "float", false, "write 32-bit float OpenEXR instead of 16-bit PNG")
	c.Flags().StringVar(&maps, "maps", strings.Join(kindNames(), ","), "maps to bake, with commas between")
	return c
}

// mapBytes is a map as a file: OpenEXR when it has float values, else 16-bit PNG.
func mapBytes(m *bake.Map) ([]byte, error) {
	if m.Float == nil {
		return imgfile.Bytes(&imgfile.Image{Width: m.Size, Height: m.Size, Channels: m.Channels, Bits: 16, Pix16: m.Pix})
	}
	var b bytes.Buffer
	err := imgfile.WriteEXR(&b, m.Size, m.Size, m.Channels, m.Float)
	return b.Bytes(), err
}

// boxOf is a position map's box, nil for others.
func boxOf(m *bake.Map) *bake.Corners {
	if m.Box == (bake.Corners{}) {
		return nil
	}
	return &m.Box
}

func kindNames() (out []string) {
	for _, k := range bake.Kinds {
		out = append(out, k.Name)
	}
	return out
}

// deliverFlags are the flags of deliver beside those of the bake.
type deliverFlags struct {
	bakeFlags
	finish, preset string
	dials          []string
	strata, where  string
	painted        strata.Painting // strokes of the strata given
	asset          string
	given          *strata.Document // of the asset given
	pictures       compose.Pictures // of the asset given
	sized          bool             // a size was asked for
	replace        bool
}

func deliverCommand() *cobra.Command {
	var f deliverFlags
	c := &cobra.Command{Use: "deliver MODEL", Short: "Bake, lay a finish or given strata and write a preset's files", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			f.sized = cmd.Flags().Changed("size")
			switch {
			case f.asset != "" && (f.finish != "" || f.strata != "" || len(f.dials) > 0):
				return wrong{errors.New("give --finish, --strata or --asset, one of them")}
			case f.asset != "":
				return f.runAsset(cmd.Context(), args)
			case len(args) == 0:
				return wrong{errors.New("give a model, or an asset's archive with --asset")}
			}
			return f.run(cmd.Context(), args[0])
		}}
	f.add(c, 1024)
	c.Flags().StringVar(&f.finish, "finish", "", "finish to lay")
	c.Flags().StringVar(&f.preset, "preset", "", "preset to write: a name (crust presets lists them), or a file of your own (docs/presets.md)")
	c.Flags().BoolVar(&f.replace, "replace", false, "let files give way that stand in the folder and are not from this asset's last delivery by this preset")
	c.Flags().StringArrayVar(&f.dials, "dial", nil, "a dial of the finish, name=value")
	c.Flags().StringVar(&f.strata, "strata", "", "document to evaluate instead of a finish, as JSON (docs/strata.md)")
	c.Flags().StringVar(&f.asset, "asset", "", "archive of an asset (crust pack) whose strata are evaluated; on its own model, or on MODEL if one is named")
	c.Flags().StringVar(&f.where, "where", "", "layer whose Where is written too, as {set}_where.png in 16-bit grey; without --preset alone")
	return c
}

// document checks the call and returns what makes the layers for a model of a size.
func (f *deliverFlags) document() (func(diagonal float64) (*strata.Document, error), error) {
	if f.given != nil {
		return func(float64) (*strata.Document, error) { return f.given, nil }, nil
	}
	if f.strata != "" {
		if f.finish != "" || len(f.dials) > 0 {
			return nil, wrong{errors.New("give --finish or --strata, not both")}
		}
		data, err := os.ReadFile(f.strata)
		if err != nil {
			return nil, fmt.Errorf("%s: there is no such file; check the path", f.strata)
		}
		doc, painted, err := strata.ParseFile(data)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", filepath.Base(f.strata), err)
		}
		f.painted = painted
		return func(float64) (*strata.Document, error) { return doc, nil }, nil
	}
	fin, err := finish.Of(f.finish)
	if err != nil {
		return nil, wrong{fmt.Errorf("--finish: %w", err)}
	}
	values := map[string]float64{}
	for _, d := range f.dials {
		name, v, ok := strings.Cut(d, "=")
		n, err := strconv.ParseFloat(v, 64)
		if !ok || err != nil {
			return nil, wrong{fmt.Errorf("--dial %s: write name=value", d)}
		}
		values[name] = n
	}
	if _, err := fin.Lay(new(strata.Document), values, 1); err != nil {
		return nil, wrong{err}
	}
	return func(diagonal float64) (*strata.Document, error) {
		doc := new(strata.Document)
		var err error
		doc.Layers, err = fin.Lay(doc, values, diagonal)
		return doc, err
	}, nil
}

func (f *deliverFlags) run(ctx context.Context, model string) error {
	var preset *deliver.Preset
	if f.preset != "" || f.where == "" {
		var err error
		if preset, err = presetOf(f.preset); err != nil {
			return err
		}
	}
	if !slices.Contains(deliver.Sizes, f.settings.Size) {
		return wrong{fmt.Errorf("--size %d: use one of %v", f.settings.Size, deliver.Sizes)}
	}
	job, err := f.job(ctx, model, preset)
	if err != nil {
		return err
	}
	job.Progress = newBar("deliver").at
	return f.write(ctx, *job)
}

// job bakes a model and makes a delivery of what is laid on it ready.
func (f *deliverFlags) job(ctx context.Context, model string, preset *deliver.Preset) (*deliver.Job, error) {
	make, err := f.document()
	if err != nil {
		return nil, err
	}
	low, sets, src, err := f.open(ctx, model)
	if err != nil {
		return nil, err
	}
	doc, err := make(float64(low.Bounds().Diagonal()))
	if err != nil {
		return nil, err
	}
	if f.where != "" {
		if _, err := doc.Named(f.where); err != nil {
			return nil, fmt.Errorf("--where: %w", err)
		}
	}
	pictures := f.pictures
	if pictures == nil {
		if pictures, err = picturesBeside(f.strata, doc); err != nil {
			return nil, err
		}
	}
	maps := map[string]map[string]*bake.Map{}
	reads := deliver.MapsRead(doc, preset)
	for _, s := range f.painted {
		if s.NeedsIDs() && !slices.Contains(reads, bake.ID) {
			reads = append(reads, bake.ID)
		}
	}
	for i := range sets {
		made, err := bakeSet(ctx, src, &sets[i], reads)
		if err != nil {
			return nil, err
		}
		maps[sets[i].Key] = map[string]*bake.Map{}
		for _, m := range made {
			maps[sets[i].Key][m.Kind] = m
		}
	}
	job := &deliver.Job{Asset: strings.TrimSuffix(filepath.Base(model), filepath.Ext(model)),
		Model: low, Sets: sets, Maps: func(set string) (map[string]*bake.Map, error) { return maps[set], nil }, Pictures: pictures, Strokes: func(n int32) *brush.Stroke { return f.painted[n] }, Document: doc, Preset: preset, Size: f.settings.Size, Where: f.where}
	return job, nil
}

// write runs a delivery into the folder, and lists its files.
func (f *deliverFlags) write(ctx context.Context, job deliver.Job) error {
	d, err := deliver.Run(ctx, job)
	if err != nil {
		return err
	}
	defer d.Close()
	if _, err := d.WriteFolder(f.out, f.replace); err != nil {
		var way *deliver.InTheWay
		if errors.As(err, &way) {
			return fmt.Errorf("%w, with --replace", err)
		}
		return err
	}
	if f.asJSON {
		return printJSON(d)
	}
	for _, w := range d.Files {
		fmt.Println(filepath.Join(f.out, w.File))
	}
	fmt.Println(filepath.Join(f.out, deliver.Note))
	return nil
}

// runAsset delivers an asset from its archive: on its own model with its own maps, of which those that are missing are baked, or
// what lies on it on another model.
func (f *deliverFlags) runAsset(ctx context.Context, model []string) error {
	var preset *deliver.Preset
	var err error
	if f.preset != "" || f.where == "" {
		if preset, err = presetOf(f.preset); err != nil {
			return err
		}
	}
	if f.sized && !slices.Contains(deliver.Sizes, f.settings.Size) {
		return wrong{fmt.Errorf("--size %d: use one of %v", f.settings.Size, deliver.Sizes)}
	}
	return withArchive(f.asset, func(a *studio.Asset) error { return f.deliverAsset(ctx, a, model, preset) })
}

// withArchive takes an asset out of an archive, into a folder that is gone afterwards.
func withArchive(name string, do func(a *studio.Asset) error) error {
	file, size, err := openFile(name)
	if err != nil {
		return err
	}
	defer file.Close()
	dir, err := os.MkdirTemp("", "crust-archive-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	st, err := store.Open(dir)
	if err != nil {
		return err
	}
	defer st.Close()
	s := studio.New(st)
	defer s.Close()
	id, err := s.Unpack(file, size)
	if err != nil {
		return fmt.Errorf("%s: %w", filepath.Base(name), err)
	}
	a, err := s.Open(id)
	if err != nil {
		return err
	}
	return do(a)
}

func (f *deliverFlags) deliverAsset(ctx context.Context, a *studio.Asset, model []string, preset *deliver.Preset) error {
	size := 0
	if f.sized {
		size = f.settings.Size
	}
	use := preset
	if use == nil {
		use = &deliver.Presets[0]
	}
	job, err := a.JobOf(use, size)
	if err != nil {
		return err
	}
	job.Preset, job.Where = preset, f.where
	if f.where != "" {
		if _, err := job.Document.Named(f.where); err != nil {
			return fmt.Errorf("--where: %w", err)
		}
	}
	if len(model) > 0 {
		f.given, f.pictures, f.painted = job.Document, job.Pictures, strata.Painting{}
		for i := range job.Document.Layers {
			for _, c := range job.Document.Layers[i].Where {
				for _, n := range c.Strokes {
					if k := a.Stroke(n); k != nil {
						f.painted[n] = k
					}
				}
			}
		}
		return f.run(ctx, model[0])
	}
	if cells := a.ReadsFor(&job); len(cells) > 0 && job.Model.HasUV {
		if err := a.Bake(cells); err != nil {
			return err
		}
		if err := withBar("bake", func(share func(float64)) error { a.WaitJob(share); return ctx.Err() }); err != nil {
			return err
		}
	}
	job.Progress = newBar("deliver").at
	return f.write(ctx, job)
}

// presetOf is a preset that ships by its name, or one in a file.
func presetOf(name string) (*deliver.Preset, error) {
	if !strings.HasSuffix(strings.ToLower(name), ".json") {
		p, err := deliver.PresetOf(name)
		if err != nil {
			return nil, wrong{fmt.Errorf("--preset: %w", err)}
		}
		return p, nil
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, fmt.Errorf("%s: there is no such file; check the path", name)
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, deliver.MaxPresetBytes+1))
	if err != nil {
		return nil, fmt.Errorf("%s: it cannot be read: %w", name, err)
	}
	p, err := deliver.ParsePreset(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", filepath.Base(name), err)
	}
	return p, nil
}

// picturesBeside reads the pictures that strata given as a file name: files, counted from where that file lies. What they hold,
// colours or data, is guessed as it is when they are brought in.
func picturesBeside(file string, doc *strata.Document) (compose.Pictures, error) {
	read := func(mark string) (*picture.Picture, error) {
		at := mark
		if !filepath.IsAbs(at) {
			at = filepath.Join(filepath.Dir(file), at)
		}
		data, err := os.ReadFile(at)
		if err != nil {
			return nil, fmt.Errorf("%s names the picture “%s”, and there is no such file beside it; put it there, or name it by its path", filepath.Base(file), mark)
		}
		p, err := imgfile.Read(filepath.Base(at), data)
		if err != nil {
			return nil, err
		}
		channel, _ := picture.ChannelOf(filepath.Base(at))
		return picture.New(p, picture.Guess(p, channel))
	}
	for _, mark := range doc.Pictures() {
		if _, err := read(mark); err != nil {
			return nil, err // before anything is baked
		}
	}
	return read, nil
}

func finishesCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{Use: "finishes", Short: "List the finishes", Args: exactly(), RunE: func(*cobra.Command, []string) error {
		if asJSON {
			type listed struct {
				Name  string        `json:"name"`
				Title string        `json:"title"`
				Help  string        `json:"help"`
				Tags  []string      `json:"tags"`
				Dials []finish.Dial `json:"dials"`
			}
			var all []listed
			for _, f := range finish.Finishes {
				all = append(all, listed{f.Name, f.Title, f.Help, f.Tags, f.Dials})
			}
			return printJSON(map[string]any{"finishes": all})
		}
		for _, f := range finish.Finishes {
			fmt.Printf("%-20s %s: %s\n", f.Name, f.Title, f.Help)
			for _, d := range f.Dials {
				fmt.Printf("    %-8s %g–%g, %g unless set: %s\n", d.Name, d.Min, d.Max, d.Default, d.Help)
			}
		}
		return nil
	}}
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object")
	return c
}

func presetsCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{Use: "presets", Short: "List the presets", Args: exactly(), RunE: func(*cobra.Command, []string) error {
		if asJSON {
			return printJSON(map[string]any{"presets": deliver.Presets})
		}
		for _, p := range deliver.Presets {
			fmt.Printf("%-16s %s: %s\n", p.Name, p.Title, p.Help)
		}
		return nil
	}}
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object")
	return c
}

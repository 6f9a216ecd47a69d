package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"io"
	"math"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crust/internal/core/brush"
	"crust/internal/core/compose"
	"crust/internal/core/deliver"
	"crust/internal/core/imgfile"
	"crust/internal/core/light"
	"crust/internal/core/mesh"
	"crust/internal/core/still"
	"crust/internal/core/uv"
	"crust/internal/studio"
)

// stillFlags say what picture is made.
type stillFlags struct {
	deliverFlags
	frames   []string
	all      bool
	channels []string
	sky      string
	over     int
	sheet    bool
	data     string
	long     int
	samples  int
	seed     uint32
	clear    bool
	turns    int
	texture  int
	file     string
	asJSON   bool
	title    string // of a sheet
}

// stillCommand makes a path-traced still of an asset, or of a model with a finish or strata.
func stillCommand() *cobra.Command {
	var f stillFlags
	c := &cobra.Command{Use: "still ASSET|MODEL", Short: "Make a path-traced still", Args: exactly("an asset, by its name or number, an archive, or a model"),
		RunE: func(cmd *cobra.Command, args []string) error { return f.run(cmd.Context(), args[0]) }}
	c.Flags().StringVar(&f.data, "data", dataFolder(), "data folder that holds the asset")
	c.Flags().StringArrayVar(&f.frames, "frame", nil, "frame of the asset, also several times; without one, a view that fits the model")
	c.Flags().BoolVar(&f.all, "all-frames", false, "every frame of the asset")
	c.Flags().StringArrayVar(&f.channels, "channel", nil, "show what the texels hold, also several times: lit, "+strings.Join(stillChannels(), ", "))
	c.Flags().BoolVar(&f.sheet, "sheet", false, "all on one sheet: frames below each other, channels beside each other")
	c.Flags().StringVar(&f.sky, "surroundings", "", "what lights it, in place of the asset's own: "+strings.Join(skies(), ", "))
	c.Flags().IntVar(&f.long, "size", 1280, "px of the longer side")
	c.Flags().IntVar(&f.over, "over", 1, "made so many times as large and scaled down, up to 8")
	c.Flags().IntVar(&f.samples, "samples", still.DefaultSamples, "samples a pixel")
	c.Flags().Uint32Var(&f.seed, "seed", 1, "of chance: the same seed gives the same picture, byte by byte")
	c.Flags().IntVar(&f.turns, "turntable", 0, "so many pictures with the model turned once round: numbered PNGs beside --out, which shows them moving")
	c.Flags().BoolVar(&f.clear, "transparent", false, "nothing stands behind the model")
	c.Flags().IntVar(&f.texture, "textures", 0, "px of each set's textures; 0 for the asset's own, 2048 for a model")
	c.Flags().StringVar(&f.file, "out", "", "file to write: .png as a screen shows it, .exr for the light itself")
	c.Flags().StringVar(&f.finish, "finish", "", "of a model: finish to lay")
	c.Flags().StringArrayVar(&f.dials, "dial", nil, "a dial of the finish, name=value")
	c.Flags().StringVar(&f.strata, "strata", "", "of a model: document to evaluate instead of a finish, as JSON (docs/strata.md)")
	c.Flags().StringArrayVar(&f.high, "high", nil, "of a model: high-poly to bake from")
	c.Flags().StringVar(&f.split, "sets", uv.PerMaterial, "of a model: single, material or udim")
	c.Flags().BoolVar(&f.asJSON, "json", false, "print one JSON object")
	return c
}

func stillChannels() (out []string) {
	for _, c := range still.Channels {
		out = append(out, c.Name)
	}
	return out
}

func skies() (out []string) {
	for _, s := range light.All {
		out = append(out, s.Name)
	}
	return out
}

func (f *stillFlags) run(ctx context.Context, what string) error {
	end := strings.ToLower(filepath.Ext(f.file))
	if end != ".png" && end != ".exr" {
		return wrong{errors.New("--out: name the file to write, ending with .png or .exr")}
	}
	if f.turns < 0 || f.turns == 1 || f.turns > studio.MaxTurns || f.turns > 0 && end != ".png" {
		return wrong{fmt.Errorf("--turntable %d: it has 2 to %d pictures, and --out ends with .png", f.turns, studio.MaxTurns)}
	}
	for i, c := range f.channels {
		if c == "lit" {
			f.channels[i] = ""
		} else if _, err := still.ChannelOf(c); err != nil {
			return wrong{fmt.Errorf("--channel: %w", err)}
		}
	}
	if f.sheet && end != ".png" {
		return wrong{errors.New("--sheet: --out ends with .png")}
	}
	shot := &still.Shot{Long: f.long, Over: f.over, Samples: f.samples, Seed: f.seed, Clear: f.clear, Setup: light.Default()}
	if err := shot.Check(); err != nil {
		return wrong{err}
	}
	if f.sky != "" {
		if _, err := light.Of(f.sky); err != nil {
			return wrong{fmt.Errorf("--surroundings: %w", err)}
		}
	}
	begin := time.Now()
	f.title = strings.TrimSuffix(filepath.Base(what), filepath.Ext(what))
	var err error
	switch ending := strings.ToLower(filepath.Ext(what)); {
	case strings.HasSuffix(strings.ToLower(what), ".crust.zip"):
		err = f.archived(ctx, shot, what)
	case mesh.Readers[ending] != nil || ending == ".zip":
		err = f.ofModel(ctx, shot, what)
	default:
		err = f.stored(ctx, shot, what)
	}
	if err != nil {
		return err
	}
	if f.sky != "" {
		shot.Setup.Sky = f.sky
	}
	if f.all {
		f.frames = nil
		for i := range shot.Setup.Frames {
			f.frames = append(f.frames, shot.Setup.Frames[i].Name)
		}
		if f.frames == nil {
			return errors.New("--all-frames: the asset has no frames yet; the page makes them, under “Light and frame”")
		}
	}
	views, err := shot.Views(f.frames, f.channels)
	if err != nil {
		return fmt.Errorf("--frame: %w", err)
	}
	if f.turns > 0 && len(views) > 1 {
		return wrong{errors.New("--turntable: it is made of one frame and one channel")}
	}
	made := time.Since(begin)
	scene, err := shot.Scene(ctx)
	if err != nil {
		return err
	}
	if f.turns > 0 {
		t, err := shot.Tracer(scene, views[0].Frame, views[0].Channel)
		if err != nil {
			return err
		}
		return f.turntable(ctx, t, shot.Each())
	}
	report := stillReport{File: f.file, Ready: made.Seconds()}
	traced := time.Now()
	var cells []*image.NRGBA
	err = withBar("still", func(share func(float64)) error {
		for i, v := range views {
			t, err := shot.Tracer(scene, v.Frame, v.Channel)
			if err != nil {
				return err
			}
			p := t.Picture()
			for each := shot.Each(); p.Samples < each; {
				n := min(16, each-p.Samples)
				at := float64(p.Samples) / float64(each)
				if err := t.Add(ctx, p, n, func(s float64) {
					share((float64(i) + at + s*float64(n)/float64(each)) / float64(len(views)))
				}); err != nil {
					return err
				}
			}
			report.Width, report.Height, report.Samples = p.Width/t.Over(), p.Height/t.Over(), t.Samples(p)
			report.samples += float64(p.Samples) * float64(p.Width) * float64(p.Height)
			if f.sheet {
				cells = append(cells, t.Shown(p))
				continue
			}
			file := f.file
			if len(views) > 1 {
				file = numberedAs(f.file, v)
				report.Files = append(report.Files, file)
			}
			if err := deliver.WriteAside(file, func(w io.Writer) error {
				if end == ".exr" {
					return t.WriteEXR(w, p)
				}
				return t.WritePNG(w, p)
			}); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if f.sheet {
		sheet, err := still.SheetOf(f.title, views, []string{""}, cells)
		if err != nil {
			return err
		}
		report.Width, report.Height = sheet.Rect.Dx(), sheet.Rect.Dy()
		if err := deliver.WriteAside(f.file, func(w io.Writer) error { return still.WriteSheet(w, sheet) }); err != nil {
			return err
		}
	}
	report.Seconds = time.Since(traced).Seconds()
	report.Rate = report.samples / report.Seconds
	if f.asJSON {
		return printJSON(report)
	}
	for _, file := range report.Files {
		fmt.Println(file)
	}
	if report.Files == nil {
		fmt.Println(f.file)
	}
	return nil
}

// stillReport is what --json prints.
type stillReport struct {
	File    string   `json:"file"`
	Files   []string `json:"files,omitempty"` // of several stills, in place of the one
	Width   int      `json:"width"`
	Height  int      `json:"height"`
	Samples int      `json:"samples"`
	Seconds float64  `json:"seconds"`
	Ready   float64  `json:"ready_seconds"`
	Rate    float64  `json:"samples_per_second"`

	samples float64
}

// numberedAs is the file of one of several stills: its frame and channel follow the name.
func numberedAs(file string, v still.View) string {
	end := filepath.Ext(file)
	name := strings.TrimSuffix(file, end)
	for _, words := range []string{v.FrameWords(), v.Channel} {
		if words != "" {
			name += "_" + uv.FileName(words)
		}
	}
	return name + end
}

// turntable writes the pictures of a turntable, numbered and as one that moves.
func (f *stillFlags) turntable(ctx context.Context, t *still.Tracer, samples int) error {
	var made [][]byte
	var files []string
	err := withBar("turntable", func(share func(float64)) error {
		for i := range f.turns {
			u := t.Turned(2 * math.Pi * float64(i) / float64(f.turns))
			p := u.Picture()
			if err := u.Add(ctx, p, samples, func(s float64) { share((float64(i) + s) / float64(f.turns)) }); err != nil {
				return err
			}
			var b bytes.Buffer
			if err := u.WritePNG(&b, p); err != nil {
				return err
			}
			made = append(made, b.Bytes())
		}
		return nil
	})
	if err != nil {
		return err
	}
	for i, data := range made {
		name := fmt.Sprintf("%s_%03d.png", strings.TrimSuffix(f.file, filepath.Ext(f.file)), i+1)
		if err := deliver.WriteWhole(name, data); err != nil {
			return err
		}
		files = append(files, name)
	}
	if err := deliver.WriteAside(f.file, func(w io.Writer) error { return imgfile.WriteAPNG(w, made, 6000/f.turns) }); err != nil {
		return err
	}
	if f.asJSON {
		return printJSON(map[string]any{"file": f.file, "files": files, "samples": samples})
	}
	for _, name := range append(files, f.file) {
		fmt.Println(name)
	}
	return nil
}

// stored takes an asset of a data folder, which may be open in a server.
func (f *stillFlags) stored(ctx context.Context, shot *still.Shot, name string) error {
	st, err := openData(f.data)
	if err != nil {
		return err
	}
	defer st.Close()
	id, err := findAsset(st, name)
	if err != nil {
		return err
	}
	s := studio.New(st)
	defer s.Close()
	a, err := s.Open(id)
	if err != nil {
		return err
	}
	return f.ofAsset(ctx, shot, a)
}

func (f *stillFlags) archived(ctx context.Context, shot *still.Shot, file string) error {
	return withArchive(file, func(a *studio.Asset) error { return f.ofAsset(ctx, shot, a) })
}

// ofAsset evaluates an asset's strata.
func (f *stillFlags) ofAsset(ctx context.Context, shot *still.Shot, a *studio.Asset) error {
	f.title = a.Name()
	job, err := a.JobOf(&deliver.Presets[0], f.texture)
	if err != nil {
		return err
	}
	if cells := a.ReadsFor(&job); len(cells) > 0 && job.Model.HasUV {
		if err := a.Bake(cells); err != nil {
			return err
		}
		if err := withBar("bake", func(share func(float64)) error { a.WaitJob(share); return ctx.Err() }); err != nil {
			return err
		}
	}
	if f.sky == "" {
		setup := job.Document.Setup()
		if shot.Sky, err = a.Sky(setup.Sky); err != nil {
			return err
		}
	}
	return f.evaluate(ctx, shot, &job)
}

// ofModel bakes a model and lays a finish or strata on it.
func (f *stillFlags) ofModel(ctx context.Context, shot *still.Shot, file string) error {
	if f.finish == "" && f.strata == "" {
		return wrong{errors.New("give a finish or strata for the model, with --finish or --strata")}
	}
	if f.texture == 0 {
		f.texture = 2048
	}
	f.settings.Size, f.settings.Rays, f.settings.Samples = min(2048, f.texture), 64, 1
	job, err := f.job(ctx, file, &deliver.Presets[0])
	if err != nil {
		return err
	}
	job.Size = f.texture
	return f.evaluate(ctx, shot, job)
}

func (f *stillFlags) evaluate(ctx context.Context, shot *still.Shot, job *deliver.Job) error {
	strokes := job.Strokes
	if strokes == nil {
		strokes = func(int32) *brush.Stroke { return nil }
	}
	body := compose.NewBody(compose.NewCache(512<<20), job.Model, job.Sets, job.Maps).Show(job.Pictures).Strokes(strokes)
	defer body.Close()
	size := func(key string) int { return max(64, job.SizeFor(key)) }
	shot.Model, shot.Sets, shot.Setup = job.Model, job.Sets, job.Document.Setup()
	return withBar("evaluate", func(share func(float64)) (err error) {
		shot.Maps, err = still.Evaluate(ctx, body, job.Sets, job.Document, size, share)
		return err
	})
}

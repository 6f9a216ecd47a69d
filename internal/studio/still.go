package studio

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"sync"

	"crust/internal/core/compose"
	"crust/internal/core/deliver"
	"crust/internal/core/imgfile"
	"crust/internal/core/light"
	"crust/internal/core/pixel"
	"crust/internal/core/still"
	"crust/internal/store"
)

// StillWanted is a still that a page asks for.
type StillWanted struct {
	Frame   string `json:"frame"` // empty for a view that fits the model
	Size    int    `json:"size"`  // px of the longer side
	Samples int    `json:"samples"`
	Clear   bool   `json:"clear"` // nothing stands behind the model
	Turns   int    `json:"turns"` // pictures of a turntable, 0 for one alone
}

// MaxTurns bounds the pictures of a turntable.
const MaxTurns = 240

// turnMs is how long a turntable takes to go round, in milliseconds.
const turnMs = 6000

// stillShown is the still that was made last, as far as it has come. Its lock is its own.
type stillShown struct {
	mu     sync.Mutex
	tracer *still.Tracer
	pic    *still.Picture
	name   string
	turns  [][]byte // pictures of a turntable, as PNG
}

// Still makes a path-traced still as a job: pages see it come. What there is when it is stopped stays.
func (a *Asset) Still(w StillWanted) error {
	job, err := a.JobOf(&deliver.Presets[0], 0)
	if err != nil {
		return err
	}
	shot := &still.Shot{Model: job.Model, Sets: job.Sets, Setup: job.Document.Setup(), Long: w.Size, Samples: w.Samples, Clear: w.Clear, Seed: 1}
	if err := shot.Check(); err != nil {
		return err
	}
	if shot.Sky, err = a.Sky(shot.Setup.Sky); err != nil {
		return err
	}
	if w.Turns < 0 || w.Turns == 1 || w.Turns > MaxTurns {
		return fmt.Errorf("a turntable has 2 to %d pictures, not %d", MaxTurns, w.Turns)
	}
	name := a.Name()
	if w.Frame != "" {
		if shot.Frame, err = shot.Setup.Frame(w.Frame); err != nil {
			return err
		}
		name += " " + w.Frame
	}
	label := "Still"
	if w.Frame != "" {
		label = "Still of " + w.Frame
	}
	return a.start("still", label, func(ctx context.Context, j *Job, share func(float64)) error {
		a.step(j, "evaluating")
		body := compose.NewBody(a.studio.cache, job.Model, job.Sets, job.Maps).Show(job.Pictures).Strokes(job.Strokes)
		defer body.Close()
		size := func(key string) int { return min(4096, job.SizeFor(key)) }
		maps, err := still.Evaluate(ctx, body, job.Sets, job.Document, size, func(v float64) { share(0.1 * v) })
		if err != nil {
			return err
		}
		shot.Maps = maps
		t, err := shot.Ready(ctx)
		if err != nil {
			return err
		}
		if w.Turns > 0 {
			return a.turntable(ctx, j, t, w, name, share)
		}
		p := t.Picture()
		for n := 1; p.Samples < shot.Samples; n = min(16, p.Samples) {
			n = min(n, shot.Samples-p.Samples)
			at := p.Samples
			if err := t.Add(ctx, p, n, func(v float64) { share(0.1 + 0.9*(float64(at)+v*float64(n))/float64(shot.Samples)) }); err != nil {
				return err
			}
			a.step(j, fmt.Sprintf("%d of %d samples", p.Samples, shot.Samples))
			a.showStill(t, p, name, nil)
		}
		return nil
	})
}

// turntable makes the pictures of a turntable, one after the other.
func (a *Asset) turntable(ctx context.Context, j *Job, t *still.Tracer, w StillWanted, name string, share func(float64)) error {
	var made [][]byte
	for i := range w.Turns {
		u := t.Turned(2 * math.Pi * float64(i) / float64(w.Turns))
		p := u.Picture()
		if err := u.Add(ctx, p, w.Samples, func(v float64) { share(0.1 + 0.9*(float64(i)+v)/float64(w.Turns)) }); err != nil {
			return err
		}
		var b bytes.Buffer
		if err := u.WritePNG(&b, p); err != nil {
			return err
		}
		made = append(made, b.Bytes())
		a.step(j, fmt.Sprintf("%d of %d pictures", i+1, w.Turns))
		a.showStill(u, p, name, made)
	}
	return nil
}

// showStill keeps a still as far as it has come and tells the pages.
func (a *Asset) showStill(t *still.Tracer, p *still.Picture, name string, turns [][]byte) {
	a.still.mu.Lock()
	pic := *p
	pic.Pix = slices.Clone(p.Pix)
	a.still.tracer, a.still.pic, a.still.name, a.still.turns = t, &pic, name, turns
	a.still.mu.Unlock()
	a.mu.Lock()
	defer a.mu.Unlock()
	a.tell(Event{"t": "still", "samples": p.Samples, "width": p.Width, "height": p.Height, "turns": len(turns)})
}

// WriteStill writes the still that was made last, as “png” or “exr”; a turntable as “apng”, which moves, or as a “zip” of numbered PNGs.
func (a *Asset) WriteStill(w io.Writer, format string) (name string, err error) {
	a.still.mu.Lock()
	t, p, name, turns := a.still.tracer, a.still.pic, a.still.name, a.still.turns
	a.still.mu.Unlock()
	if p == nil || turns == nil && (format == "apng" || format == "zip") {
		return "", fmt.Errorf("a still: %w", store.ErrNone)
	}
	var b bytes.Buffer // so that a writer that breaks off has none of it
	switch format {
	case "exr":
		err = t.WriteEXR(&b, p)
	case "apng":
		err = imgfile.WriteAPNG(&b, turns, turnMs/len(turns))
	case "zip":
		err = numbered(&b, name, turns)
	default:
		err = t.WritePNG(&b, p)
	}
	if err != nil {
		return "", err
	}
	_, err = b.WriteTo(w)
	return name, err
}

// Sky is the panorama of surroundings that are a picture of the asset; nil for those that ship.
func (a *Asset) Sky(name string) (*light.Environment, error) {
	mark, own := strings.CutPrefix(name, light.Own)
	if !own {
		return nil, nil
	}
	p, err := a.PictureFile(mark)
	if err != nil {
		return nil, fmt.Errorf("the picture that lights the asset: %w", err)
	}
	at := p.At
	if !p.Float { // a picture for the screen
		at = func(i int) float32 { return pixel.FromSRGB(p.At(i)) }
	}
	return light.FromPicture(p.Width, p.Height, p.Channels, at), nil
}

// numbered packs PNGs under numbered names.
func numbered(w io.Writer, name string, pngs [][]byte) error {
	z := zip.NewWriter(w)
	for i, p := range pngs {
		f, err := z.CreateHeader(&zip.FileHeader{Name: fmt.Sprintf("%s_%03d.png", name, i+1), Method: zip.Store})
		if err == nil {
			_, err = f.Write(p)
		}
		if err != nil {
			return err
		}
	}
	return z.Close()
}

package studio

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"
	"sync"

	"crust/internal/core/compose"
	"crust/internal/core/deliver"
	"crust/internal/core/still"
	"crust/internal/store"
)

// StillWanted is a still that a page asks for.
type StillWanted struct {
	Frame   string `json:"frame"` // empty for a view that fits the model
	Size    int    `json:"size"`  // px of the longer side
	Samples int    `json:"samples"`
	Clear   bool   `json:"clear"` // nothing stands behind the model
}

// stillShown is the still that was made last, as far as it has come. Its lock is its own.
type stillShown struct {
	mu     sync.Mutex
	tracer *still.Tracer
	pic    *still.Picture
	name   string
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
		p := t.Picture()
		for n := 1; p.Samples < shot.Samples; n = min(16, p.Samples) {
			n = min(n, shot.Samples-p.Samples)
			at := p.Samples
			if err := t.Add(ctx, p, n, func(v float64) { share(0.1 + 0.9*(float64(at)+v*float64(n))/float64(shot.Samples)) }); err != nil {
				return err
			}
			a.step(j, fmt.Sprintf("%d of %d samples", p.Samples, shot.Samples))
			a.showStill(t, p, name)
		}
		return nil
	})
}

// showStill keeps a still as far as it has come and tells the pages.
func (a *Asset) showStill(t *still.Tracer, p *still.Picture, name string) {
	a.still.mu.Lock()
	pic := *p
	pic.Pix = slices.Clone(p.Pix)
	a.still.tracer, a.still.pic, a.still.name = t, &pic, name
	a.still.mu.Unlock()
	a.mu.Lock()
	defer a.mu.Unlock()
	a.tell(Event{"t": "still", "samples": p.Samples, "width": p.Width, "height": p.Height})
}

// WriteStill writes the still that was made last, as “png” or “exr”.
func (a *Asset) WriteStill(w io.Writer, format string) (name string, err error) {
	a.still.mu.Lock()
	t, p, name := a.still.tracer, a.still.pic, a.still.name
	a.still.mu.Unlock()
	if p == nil {
		return "", fmt.Errorf("a still: %w", store.ErrNone)
	}
	var b bytes.Buffer // so that a writer that breaks off has none of it
	if format == "exr" {
		err = t.WriteEXR(&b, p)
	} else {
		err = t.WritePNG(&b, p)
	}
	if err != nil {
		return "", err
	}
	_, err = b.WriteTo(w)
	return name, err
}

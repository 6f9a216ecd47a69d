package studio

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
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
	"crust/internal/core/strata"
	"crust/internal/core/uv"
	"crust/internal/store"
)

// StillWanted is a still that a page asks for, or several: each frame with each channel in each state.
type StillWanted struct {
	Frames   []string `json:"frames"`   // by name; empty for a view that fits the model
	Channels []string `json:"channels"` // of still.Channels; empty for the surface in its light
	States   []uint   `json:"states"`   // keepsakes, and 0 for the strata as they stand
	Sheet    bool     `json:"sheet"`    // all on one sheet
	Size     int      `json:"size"`     // px of the longer side
	Over     int      `json:"over"`     // made so many times as large and scaled down
	Samples  int      `json:"samples"`
	Clear    bool     `json:"clear"` // nothing stands behind the model
	Turns    int      `json:"turns"` // pictures of a turntable, 0 for one alone
}

// Bounds of stills.
const (
	MaxTurns  = 240
	MaxStills = 128 // made at once
)

// turnMs is how long a turntable takes to go round, in milliseconds.
const turnMs = 6000

// madeStill is one of several stills, made whole.
type madeStill struct {
	name     string
	png, exr []byte // exr is nil for the pictures of a turntable
}

// stillShown is the still that was made last, as far as it has come. Its lock is its own.
type stillShown struct {
	mu     sync.Mutex
	tracer *still.Tracer
	pic    *still.Picture
	name   string
	made   []madeStill // of a turntable or of several
	of     int         // how many of them are wanted
	turn   bool        // they are a turntable's
	sheet  []byte      // all of them as one PNG
	event  Event       // what pages were told last of it; nil when there is none
}

// last is what a page that opens is told.
func (s *stillShown) last() Event {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.event
}

// stillState is a state of the strata that stills are made of.
type stillState struct {
	name string
	doc  *strata.Document
}

// Still makes path-traced stills as a job: pages see them come. What there is when it is stopped stays.
func (a *Asset) Still(w StillWanted) error {
	job, err := a.JobOf(&deliver.Presets[0], 0)
	if err != nil {
		return err
	}
	shot := &still.Shot{Model: job.Model, Sets: job.Sets, Setup: job.Document.Setup(), Long: w.Size, Over: w.Over, Samples: w.Samples, Clear: w.Clear, Seed: 1}
	if err := shot.Check(); err != nil {
		return err
	}
	if shot.Sky, err = a.Sky(shot.Setup.Sky); err != nil {
		return err
	}
	if w.Turns < 0 || w.Turns == 1 || w.Turns > MaxTurns {
		return fmt.Errorf("a turntable has 2 to %d pictures, not %d", MaxTurns, w.Turns)
	}
	views, err := shot.Views(w.Frames, w.Channels)
	if err != nil {
		return err
	}
	states := []stillState{}
	for _, id := range w.States {
		of := stillState{"As it stands", job.Document}
		if id != 0 {
			k, d, err := a.kept(id)
			if err != nil {
				return err
			}
			of = stillState{k.Name, d}
		}
		states = append(states, of)
	}
	if len(states) == 0 {
		states = []stillState{{"", job.Document}}
	}
	many := len(views) * len(states)
	switch {
	case many > MaxStills:
		return fmt.Errorf("%d stills are more than are made at once, which is %d", many, MaxStills)
	case w.Turns > 0 && many > 1:
		return errors.New("a turntable is made of one frame in one state")
	}
	label := "Still"
	if many > 1 {
		label = fmt.Sprintf("%d stills", many)
	} else if f := views[0].Frame; f != nil {
		label = "Still of " + f.Name
	}
	return a.start("still", label, func(ctx context.Context, j *Job, share func(float64)) error {
		a.showStill(nil, nil, &stillShown{})
		r := stillRun{a: a, j: j, w: w, shot: shot, views: views, states: states, asset: a.Name()}
		return r.run(ctx, &job, share)
	})
}

// stillRun is a job that makes stills.
type stillRun struct {
	a      *Asset
	j      *Job
	w      StillWanted
	shot   *still.Shot
	views  []still.View
	states []stillState
	asset  string
	made   []madeStill
	cells  []*image.NRGBA // by state, then by view
}

func (r *stillRun) run(ctx context.Context, job *deliver.Job, share func(float64)) error {
	all := float64(len(r.states))
	for i, of := range r.states {
		from := float64(i) / all
		r.a.step(r.j, "evaluating")
		body := compose.NewBody(r.a.studio.cache, job.Model, job.Sets, job.Maps).Show(job.Pictures).Strokes(job.Strokes)
		size := func(key string) int { return min(4096, job.SizeFor(key)) }
		maps, err := still.Evaluate(ctx, body, job.Sets, of.doc, size, func(v float64) { share(from + 0.1*v/all) })
		body.Close()
		if err != nil {
			return err
		}
		r.shot.Maps = maps
		scene, err := r.shot.Scene(ctx)
		if err != nil {
			return err
		}
		for k, v := range r.views {
			begin, part := from+(0.1+0.9*float64(k)/float64(len(r.views)))/all, 0.9/all/float64(len(r.views))
			t, err := r.shot.Tracer(scene, v.Frame, v.Channel)
			if err == nil {
				err = r.picture(ctx, t, v, of.name, func(s float64) { share(begin + part*s) })
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// picture makes one still, or a turntable.
func (r *stillRun) picture(ctx context.Context, t *still.Tracer, v still.View, state string, share func(float64)) error {
	name := r.asset
	for _, words := range []string{v.FrameWords(), v.Channel, state} {
		if words != "" && (words != state || len(r.states) > 1) {
			name += " " + words
		}
	}
	each := r.shot.Each()
	if r.w.Turns > 0 {
		for i := range r.w.Turns {
			u := t.Turned(2 * math.Pi * float64(i) / float64(r.w.Turns))
			p := u.Picture()
			if err := u.Add(ctx, p, each, func(v float64) { share((float64(i) + v) / float64(r.w.Turns)) }); err != nil {
				return err
			}
			var b bytes.Buffer
			if err := u.WritePNG(&b, p); err != nil {
				return err
			}
			r.made = append(r.made, madeStill{name: fmt.Sprintf("%s_%03d", name, i+1), png: b.Bytes()})
			r.a.step(r.j, fmt.Sprintf("%d of %d pictures", i+1, r.w.Turns))
			r.a.showStill(u, p, &stillShown{name: name, made: r.made, of: r.w.Turns, turn: true})
		}
		return nil
	}
	many := len(r.views) * len(r.states)
	p := t.Picture()
	for n := 1; p.Samples < each; n = min(16, p.Samples) {
		n = min(n, each-p.Samples)
		at := p.Samples
		if err := t.Add(ctx, p, n, func(v float64) { share((float64(at) + v*float64(n)) / float64(each)) }); err != nil {
			return err
		}
		if many == 1 {
			r.a.step(r.j, fmt.Sprintf("%d of %d samples", p.Samples*r.shot.Samples/each, r.shot.Samples))
			r.a.showStill(t, p, &stillShown{name: name})
		}
	}
	if many == 1 {
		return nil
	}
	m := madeStill{name: name}
	var b, c bytes.Buffer
	if err := t.WritePNG(&b, p); err != nil {
		return err
	}
	if err := t.WriteEXR(&c, p); err != nil {
		return err
	}
	m.png, m.exr = b.Bytes(), c.Bytes()
	r.made = append(r.made, m)
	r.a.step(r.j, fmt.Sprintf("%d of %d stills", len(r.made), many))
	show := &stillShown{name: name, made: r.made, of: many}
	if r.w.Sheet {
		r.cells = append(r.cells, t.Shown(p))
		sheet, err := r.sheet()
		if err != nil {
			return err
		}
		show.name, show.sheet = r.asset+" sheet", sheet
	}
	r.a.showStill(t, p, show)
	return nil
}

// sheet lays what has been made out.
func (r *stillRun) sheet() ([]byte, error) {
	var states []string
	for _, of := range r.states {
		states = append(states, of.name)
	}
	img, err := still.SheetOf(r.asset, r.views, states, r.cells)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	err = still.WriteSheet(&b, img)
	return b.Bytes(), err
}

// showStill keeps a still as far as it has come and tells the pages; nil of all is none yet.
func (a *Asset) showStill(t *still.Tracer, p *still.Picture, show *stillShown) {
	e := Event{"t": "still", "made": len(show.made), "of": show.of, "turn": show.turn, "sheet": show.sheet != nil}
	if p != nil {
		pic := *p
		pic.Pix, pic.Glow = slices.Clone(p.Pix), slices.Clone(p.Glow)
		show.tracer, show.pic = t, &pic
		e["samples"], e["width"], e["height"] = t.Samples(p), p.Width/t.Over(), p.Height/t.Over()
	}
	s := &a.still
	s.mu.Lock()
	s.tracer, s.pic, s.name, s.made, s.turn, s.sheet, s.event = show.tracer, show.pic, show.name, slices.Clone(show.made), show.turn, show.sheet, nil
	if p != nil {
		s.event = e
	}
	s.mu.Unlock()
	if p == nil {
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.tell(e)
}

// WriteStill writes the still that was made last, as “png” or “exr”: of several the last one, or their sheet as “sheet”; a turntable as “apng”,
// which moves; several as a “zip” of PNGs or as one of EXRs, “exrs”.
func (a *Asset) WriteStill(w io.Writer, format string) (name string, err error) {
	s := &a.still
	s.mu.Lock()
	t, p, name, made, turn, sheet := s.tracer, s.pic, s.name, s.made, s.turn, s.sheet
	s.mu.Unlock()
	several := len(made) > 0
	there := map[string]bool{"png": true, "exr": !several, "sheet": sheet != nil, "apng": turn, "zip": several, "exrs": several && !turn}
	if p == nil || !there[format] {
		return "", fmt.Errorf("a still: %w", store.ErrNone)
	}
	var b bytes.Buffer // so that a writer that breaks off has none of it
	switch format {
	case "exr":
		err = t.WriteEXR(&b, p)
	case "sheet":
		b.Write(sheet)
	case "apng":
		pngs := make([][]byte, len(made))
		for i := range made {
			pngs[i] = made[i].png
		}
		err = imgfile.WriteAPNG(&b, pngs, turnMs/len(pngs))
	case "zip":
		err = zipped(&b, made, ".png", func(m *madeStill) []byte { return m.png })
	case "exrs":
		err = zipped(&b, made, ".exr", func(m *madeStill) []byte { return m.exr })
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

// zipped packs pictures under their names.
func zipped(w io.Writer, made []madeStill, ending string, data func(m *madeStill) []byte) error {
	z := zip.NewWriter(w)
	for i := range made {
		f, err := z.CreateHeader(&zip.FileHeader{Name: uv.FileName(made[i].name) + ending, Method: zip.Store})
		if err == nil {
			_, err = f.Write(data(&made[i]))
		}
		if err != nil {
			return err
		}
	}
	return z.Close()
}

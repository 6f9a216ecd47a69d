package studio

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync/atomic"
	"time"

	"crust/internal/core/bake"
	"crust/internal/core/par"
	"crust/internal/core/plain"
	"crust/internal/core/uv"
	"crust/internal/store"
)

// Job is long work on an asset; one runs at a time.
type Job struct {
	Kind   string
	Label  string
	Share  float64
	began  time.Time
	cancel context.CancelFunc
	now    work // that is baked
	last   work // that is stored meanwhile

	step     string  // how far it is, in words; empty when there are none
	foretold float64 // seconds, 0 when nothing is known
	stopping bool
}

// work is some maps of one set.
type work struct {
	set   string
	kinds []string
}

func (w work) has(set, kind string) bool { return w.set == set && slices.Contains(w.kinds, kind) }

func (j *Job) running(set, kind string) bool { return j.now.has(set, kind) || j.last.has(set, kind) }

func (j *Job) event() Event {
	e := Event{"t": "job", "kind": j.Kind, "label": j.Label, "share": j.Share, "set": j.now.set, "kinds": j.now.kinds, "stopping": j.stopping, "step": j.step}
	if left, ok := j.left(time.Since(j.began).Seconds()); ok {
		e["left"] = left
	}
	return e
}

// left is how many seconds a job still takes: what was foretold at first, then more and more what its pace says.
func (j *Job) left(gone float64) (float64, bool) {
	if j.foretold == 0 && j.Share < 0.02 {
		return 0, false
	}
	trust := min(1, j.Share/0.3)
	if j.foretold == 0 {
		trust = 1
	}
	pace := 0.0
	if j.Share > 0 {
		pace = gone/j.Share - gone
	}
	return trust*pace + (1-trust)*j.foretold*(1-j.Share), true
}

// start runs work as the asset's job and tells the pages how it goes. It returns at once.
func (a *Asset) start(kind, label string, work func(ctx context.Context, j *Job, share func(float64)) error) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.job != nil {
		return errBusy
	}
	if a.ctx.Err() != nil {
		return fmt.Errorf("asset %d: %w", a.ID, store.ErrNone)
	}
	ctx, cancel := context.WithCancel(a.ctx)
	j := &Job{Kind: kind, Label: label, began: time.Now(), cancel: cancel}
	a.job = j
	a.tell(a.stateEvent())
	var last atomic.Int64
	share := func(v float64) {
		now := time.Now().UnixMilli()
		if was := last.Load(); now-was < 400 || !last.CompareAndSwap(was, now) {
			return
		}
		a.mu.Lock()
		j.Share = max(j.Share, v)
		a.tell(j.event())
		a.mu.Unlock()
	}
	a.studio.jobs.Add(1)
	a.run(func() {
		defer a.studio.jobs.Add(-1)
		err := a.guard(label, func() error { return work(ctx, j, share) })
		stopped := errors.Is(err, context.Canceled)
		cancel()
		a.mu.Lock()
		defer a.mu.Unlock()
		a.job = nil
		a.useNewMaps()
		e := Event{"t": "done", "kind": kind, "label": label, "stopped": stopped}
		if err != nil && !stopped {
			e["error"] = plain.Text(err.Error())
		}
		a.tell(a.stateEvent())
		a.tell(e)
	})
	return nil
}

// StopJob stops the running job; what it has finished is kept.
func (a *Asset) StopJob() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.job != nil {
		a.job.stopping = true
		a.job.cancel()
		a.tell(a.job.event())
	}
}

// Bake bakes the given cells, set by set. Only their Set and Kind are read. What is finished when it is stopped
// is kept.
func (a *Asset) Bake(cells []Cell) error {
	if len(cells) == 0 {
		return errors.New("nothing is chosen to bake")
	}
	a.mu.Lock()
	_, err := a.settings.bake()
	sets, hasUV := a.sets, a.model.HasUV
	a.mu.Unlock()
	if err != nil {
		return err
	}
	if !hasUV {
		return errors.New("the model has faces without UVs, so there is nowhere to bake to; unwrap them and bring the model in again")
	}
	for _, c := range cells {
		if _, err := bake.KindOf(c.Kind); err != nil {
			return err
		}
	}
	bySet := kindsBySet(cells)
	none := errors.New("there is no such set any more")
	if !slices.ContainsFunc(sets, func(s uv.Set) bool { return bySet[s.Key] != nil }) {
		return none
	}
	return a.start("bake", "Making ready", func(ctx context.Context, j *Job, share func(float64)) error {
		src, on, err := a.prepare(ctx)
		if err != nil {
			return err
		}
		_, sets := a.Model() // as they are since the job began
		var chosen []*uv.Set
		for i := range sets {
			if bySet[sets[i].Key] != nil {
				chosen = append(chosen, &sets[i])
			}
		}
		if len(chosen) == 0 {
			return none
		}
		all, weight := 0.0, make([]float64, len(chosen))
		for i, s := range chosen {
			if weight[i], err = src.Probe(ctx, s, bySet[s.Key]); err != nil {
				return err
			}
			all += weight[i]
		}
		a.mu.Lock()
		j.began, j.foretold = time.Now(), all
		a.mu.Unlock()
		done := 0.0
		// The maps of one set are stored while the next is baked.
		stored := make(chan error, 1)
		stored <- nil
		for i, s := range chosen {
			maps, stamps, err := a.bakeSet(ctx, j, src, on, s, bySet[s.Key], func(v float64) { share((done + v*weight[i]) / all) })
			if e := <-stored; err == nil {
				err = e
			}
			if err != nil {
				return err
			}
			done += weight[i]
			a.mu.Lock()
			j.last = j.now
			a.mu.Unlock()
			if bytesOf(maps) > meanwhileBytes {
				stored <- a.storeSet(j, maps, stamps, 1)
			} else {
				a.run(func() {
					stored <- a.guard("store maps", func() error { return a.storeSet(j, maps, stamps, par.Workers()) })
				})
			}
		}
		return <-stored
	})
}

// bakeSet bakes the maps of one set and returns them with their stamps, which say what the source was made from.
func (a *Asset) bakeSet(ctx context.Context, j *Job, src *bake.Source, on *grounds, s *uv.Set, kinds []string, share func(float64)) ([]*bake.Map, map[string]string, error) {
	shown := 0
	for _, k := range kinds {
		if kind, err := bake.KindOf(k); err == nil && kind.With == "" {
			shown++
		}
	}
	a.mu.Lock()
	j.now, j.Label = work{s.Key, kinds}, fmt.Sprintf("%s · %s", counted(shown, "map"), s.Name)
	stamps := map[string]string{}
	for _, k := range kinds {
		stamps[k] = on.stamp(s.Key, k)
	}
	a.tell(a.stateEvent())
	a.mu.Unlock()
	maps, err := src.Bake(ctx, s, kinds, share)
	return maps, stamps, err
}

// meanwhileBytes is how large a set's maps may be to be stored while the next set is baked; larger ones are stored and
// let go first, one by one.
const meanwhileBytes = 128 << 20

func bytesOf(maps []*bake.Map) (n int) {
	for _, m := range maps {
		n += 2 * len(m.Pix)
	}
	return n
}

// storeSet stores the maps of one set, so many at once, and lets go of them. It is not stopped: they are done.
func (a *Asset) storeSet(j *Job, maps []*bake.Map, stamps map[string]string, atOnce int) error {
	errs := make([]error, len(maps))
	var next atomic.Int32
	var group par.Group
	for range atOnce {
		group.Go(func() {
			for i := int(next.Add(1)) - 1; i < len(maps); i = int(next.Add(1)) - 1 {
				errs[i] = a.storeMap(maps[i], stamps[maps[i].Kind], false)
				maps[i] = nil
			}
		})
	}
	group.Wait()
	a.mu.Lock()
	defer a.mu.Unlock()
	j.last = work{}
	a.tell(a.stateEvent())
	return errors.Join(errs...)
}

// counted is “1 map” or “3 maps”.
func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// Missing lists the cells that are missing or stale.
func (a *Asset) Missing() (out []Cell) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, c := range a.cells(bake.Kinds) {
		if c.State == "missing" || c.State == "stale" {
			out = append(out, c)
		}
	}
	return out
}

// WaitJob returns when no job is running; share, when given, is told how far it is.
func (a *Asset) WaitJob(share func(float64)) {
	for {
		a.mu.Lock()
		j := a.job
		if j != nil && share != nil {
			share(j.Share)
		}
		a.mu.Unlock()
		if j == nil {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
}

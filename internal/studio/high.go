package studio

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"crust/internal/core/bake"
	"crust/internal/core/mesh"
	"crust/internal/core/uv"
	"crust/internal/store"
)

// HighFile is one file of the high-poly.
type HighFile struct {
	Name      string `json:"name"`
	Triangles int    `json:"triangles,omitempty"` // known once it is read
}

// highOf names high-poly files, with the hash of all.
func highOf(files []store.File) (list []HighFile, hash string) {
	var all strings.Builder
	for _, f := range files {
		list = append(list, HighFile{Name: f.Name})
		all.WriteString(hashOf(f.Data))
	}
	if len(files) > 0 {
		hash = hashOf([]byte(all.String()))
	}
	return list, hash
}

// MaxHigh is how many files a high-poly may have.
const MaxHigh = 200

// SetHigh stores high-poly files to bake from: in place of those before, or beside them when add is true. A file of
// a name that is there takes its place.
func (a *Asset) SetHigh(u Upload, add bool) error {
	files, err := mesh.Unpack(u)
	if err != nil {
		return err
	}
	models, beside := mesh.Split(files)
	if len(models) == 0 {
		_, _, err := mesh.Pick(files) // it says what is wrong
		return err
	}
	for _, f := range models {
		if _, err := mesh.Open(f, beside); err != nil {
			return err
		}
	}
	return a.changeHigh(func(was, wasBeside []store.File) ([]store.File, []store.File, error) {
		if !add {
			return models, beside, nil
		}
		newer := func(list []store.File) func(store.File) bool {
			return func(f store.File) bool {
				return slices.ContainsFunc(list, func(n store.File) bool { return n.Name == f.Name })
			}
		}
		models = append(slices.DeleteFunc(was, newer(models)), models...)
		if len(models) > MaxHigh {
			return nil, nil, fmt.Errorf("more than %d high-poly files; join some of them", MaxHigh)
		}
		return models, append(slices.DeleteFunc(wasBeside, newer(beside)), beside...), nil
	})
}

// DropHigh takes one high-poly file away.
func (a *Asset) DropHigh(name string) error {
	return a.changeHigh(func(was, beside []store.File) ([]store.File, []store.File, error) {
		n := len(was)
		was = slices.DeleteFunc(was, func(f store.File) bool { return f.Name == name })
		if len(was) == n {
			return nil, nil, fmt.Errorf("high-poly “%s”: %w", name, store.ErrNone)
		}
		if len(was) == 0 {
			beside = nil
		}
		return was, beside, nil
	})
}

func (a *Asset) changeHigh(change func(was, beside []store.File) (files, more []store.File, err error)) error {
	a.changing.Lock() // one at a time; the asset itself goes on meanwhile
	defer a.changing.Unlock()
	a.mu.Lock()
	busy := a.job != nil
	a.mu.Unlock()
	if busy {
		return errBusy
	}
	was, err := a.studio.Store.Files(a.ID, "high")
	if err != nil {
		return err
	}
	beside, err := a.studio.Store.Files(a.ID, "high-beside")
	if err != nil {
		return err
	}
	files, beside, err := change(was, beside)
	if err != nil {
		return err
	}
	list, hash := highOf(files)
	if err := a.studio.Store.SetHigh(a.ID, files, beside); err != nil {
		return err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.highs, a.highHash, a.high = list, hash, nil
	a.tell(a.stateEvent())
	return nil
}

// readHigh returns the high-poly, all files as one model, nil when there is none, and the hash of its files.
func (a *Asset) readHigh() (*mesh.Model, string, error) {
	a.changing.Lock()
	defer a.changing.Unlock()
	a.mu.Lock()
	kept, hash := a.high, a.highHash
	a.mu.Unlock()
	if kept != nil || hash == "" {
		return kept, hash, nil
	}
	files, err := a.studio.Store.Files(a.ID, "high")
	if err != nil {
		return nil, "", fmt.Errorf("the high-poly cannot be read: %w", err)
	}
	beside, err := a.studio.Store.Files(a.ID, "high-beside")
	if err != nil {
		return nil, "", err
	}
	list, hash := highOf(files)
	var all *mesh.Model
	for i, f := range files {
		m, err := mesh.Open(f, beside)
		if err != nil {
			return nil, "", err
		}
		list[i].Triangles = len(m.Tris)
		if all == nil {
			all = m
			continue
		}
		all.Append(m)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.high, a.highs, a.highHash = all, list, hash
	a.tell(a.stateEvent())
	return all, hash, nil
}

// prepared is a source with what it was made from.
type prepared struct {
	key string
	src *bake.Source
}

// prepare makes the asset ready for baking with its settings, or finds it so, and tells what the maps that come of
// it rest on. It returns as soon as the context ends; what was begun then is finished and kept for the next time.
func (a *Asset) prepare(ctx context.Context) (*bake.Source, *grounds, error) {
	type result struct {
		src *bake.Source
		on  *grounds
		err error
	}
	done := make(chan result, 1)
	a.run(func() {
		var r result
		r.err = a.guard("make ready to bake", func() (err error) {
			r.src, r.on, err = a.prepareNow()
			return err
		})
		done <- r
	})
	select {
	case <-ctx.Done():
		return nil, nil, ctx.Err()
	case r := <-done:
		return r.src, r.on, r.err
	}
}

func (a *Asset) prepareNow() (*bake.Source, *grounds, error) {
	a.preparing.Lock()
	defer a.preparing.Unlock()
	high, highHash, err := a.readHigh()
	if err != nil {
		return nil, nil, err
	}
	a.mu.Lock()
	on := a.grounds()
	on.highHash = highHash
	s, err := on.settings.bake()
	own, sizes := on.settings.Size == 0, a.intake.sizes()
	model := a.model
	about := s
	about.Size, about.Rays, about.Samples = 0, 0, 0
	text, _ := json.Marshal(about) // plain values always encode
	key := a.whole + highHash + fmt.Sprint(a.modelVersion) + string(text)
	kept := a.source
	a.mu.Unlock()
	if err != nil {
		return nil, nil, err
	}
	if kept == nil || kept.key != key {
		a.mu.Lock()
		a.source = nil // the memory of the one before is free while the new one is made
		a.mu.Unlock()
		kept = nil
		src, err := bake.Prepare(a.ctx, model, high, s)
		if err != nil {
			return nil, nil, err
		}
		kept = &prepared{key, src}
		a.mu.Lock()
		a.source = kept
		a.mu.Unlock()
	}
	src := *kept.src
	src.Settings.Size, src.Settings.Rays, src.Settings.Samples = s.Size, s.Rays, s.Samples
	if own {
		src.SizeOf = sizes
	}
	return &src, on, nil
}

// ErrNoHigh says that what was asked needs a high-poly.
var ErrNoHigh = errors.New("there is no high-poly; bring one in first")

// Pairing is how the low-poly's parts found their high-poly.
type Pairing struct {
	Parts   []bake.Pairing `json:"parts"`
	Alone   []string       `json:"alone"` // high-poly parts without a partner
	Endings []string       `json:"endings"`
}

// Pairing prepares the bake and tells how parts pair and how far they reach.
func (a *Asset) Pairing(ctx context.Context) (*Pairing, error) {
	src, err := a.ready(ctx)
	if err != nil {
		return nil, err
	}
	p := &Pairing{Endings: src.Settings.Endings}
	if p.Endings == nil {
		p.Endings = bake.DefaultEndings
	}
	p.Parts, p.Alone = src.Pairings()
	if p.Alone == nil {
		p.Alone = []string{}
	}
	return p, nil
}

// ready is prepare for questions about the cage.
func (a *Asset) ready(ctx context.Context) (*bake.Source, error) {
	a.mu.Lock()
	none := a.highHash == ""
	a.mu.Unlock()
	if none {
		return nil, ErrNoHigh
	}
	src, _, err := a.prepare(ctx)
	return src, err
}

// Cage is the source that a cage and its misses are shown from.
func (a *Asset) Cage(ctx context.Context) (*bake.Source, error) { return a.ready(ctx) }

// Misses marks the texels of a set whose rays find no high-poly, with the settings as they are.
func (a *Asset) Misses(ctx context.Context, set string, size int) ([]uint8, int, error) {
	src, err := a.ready(ctx)
	if err != nil {
		return nil, 0, err
	}
	_, sets := a.Model()
	s, ok := uv.Find(sets, set)
	if !ok {
		return nil, 0, fmt.Errorf("set “%s”: %w", set, store.ErrNone)
	}
	return src.Misses(ctx, s, size)
}

// Estimate foretells, for each quality, the seconds that baking cells takes.
func (a *Asset) Estimate(ctx context.Context, cells []Cell) (map[string]float64, error) {
	if a.studio.jobs.Load() > 0 {
		return nil, errBusy // beside other work a probe would foretell too much
	}
	src, _, err := a.prepare(ctx)
	if err != nil {
		return nil, err
	}
	out, least := map[string]float64{}, 0.0
	for _, q := range Qualities { // from few rays to many
		s := *src
		s.Settings.Rays, s.Settings.Samples = q.Rays, q.Samples
		t, err := a.foretell(ctx, &s, cells)
		if err != nil {
			return nil, err
		}
		if a.studio.jobs.Load() > 0 {
			return nil, errBusy
		}
		least = max(least, t) // more rays never take less, however the probes come out
		out[q.Name] = least
	}
	return out, nil
}

// foretell adds up the probes of the cells' sets.
func (a *Asset) foretell(ctx context.Context, src *bake.Source, cells []Cell) (all float64, err error) {
	_, sets := a.Model()
	bySet := kindsBySet(cells)
	for i := range sets {
		kinds := bySet[sets[i].Key]
		if len(kinds) == 0 {
			continue
		}
		s, err := src.Probe(ctx, &sets[i], kinds)
		if err != nil {
			return 0, err
		}
		all += s
	}
	return all, nil
}

// kindsBySet sorts cells, with the maps that come with them.
func kindsBySet(cells []Cell) map[string][]string {
	out := map[string][]string{}
	for _, c := range cells {
		out[c.Set] = append(out[c.Set], c.Kind)
	}
	for set, kinds := range out {
		out[set] = bake.WithCompanions(kinds)
	}
	return out
}

package studio

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"crust/internal/core/bake"
	"crust/internal/core/bring"
	"crust/internal/core/imgfile"
	"crust/internal/core/mesh"
	"crust/internal/core/uv"
	"crust/internal/store"
)

// Brought is one file that waits to be taken in as a baked map.
type Brought struct {
	N int `json:"n"` // its number among those that came together
	bring.Match
	File   string  `json:"file"`
	Width  int     `json:"width,omitempty"`
	Height int     `json:"height,omitempty"`
	Size   int     `json:"size,omitempty"` // of the map that it becomes
	Flip   bool    `json:"flip"`           // green is turned round
	Sure   float64 `json:"sure"`           // of the guess that set Flip; 0 when nothing could be told
	Broken bool    `json:"broken,omitempty"`
}

// waiting are files that came together, until their match is confirmed.
type waiting struct {
	key   string
	files []store.File
}

// mostWaiting is how many lots of files wait at once, of as many pages; an older one gives way.
const mostWaiting = 4

// Bring reads what files are called and answers with where they would go, and with the key by which TakeBrought knows
// them. Nothing is taken in yet. Zips are opened; files that are no pictures are listed with the reason.
func (a *Asset) Bring(ctx context.Context, u Upload) (rows []Brought, key string, err error) {
	files, err := mesh.Unpack(u)
	if err != nil {
		return nil, "", err
	}
	a.mu.Lock()
	sets, m := a.sets, bring.NewMatcher(a.sets, a.settings.Words)
	a.mu.Unlock()
	rows = make([]Brought, 0, len(files))
	taken := map[bring.Slot]string{}
	for i, f := range files {
		if err := ctx.Err(); err != nil {
			return nil, "", err
		}
		r := Brought{N: i, File: f.Name, Match: m.Find(f.Name)}
		if r.Width, r.Height, err = imgfile.Size(path.Base(f.Name), f.Data); err != nil {
			r.Broken, r.Reason = true, err.Error()
			r.Slot = bring.Slot{}
			rows = append(rows, r)
			continue
		}
		r.Size = bring.SizeFor(r.Width, r.Height)
		if r.Reason == "" && taken[r.Slot] != "" {
			r.Reason = "its place is taken by " + taken[r.Slot]
		}
		if r.Reason == "" {
			taken[r.Slot] = f.Name
			if r.Kind == bake.Normal {
				a.guess(&r, sets, f)
			}
		} else {
			r.Slot = bring.Slot{}
		}
		rows = append(rows, r)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	key = rand.Text()
	a.waiting = append(a.waiting, &waiting{key, files})
	a.waiting = a.waiting[max(0, len(a.waiting)-mostWaiting):]
	return rows, key, nil
}

// guess sets whether a tangent-space normal map is green down, when its set has world-space normals to compare with.
func (a *Asset) guess(r *Brought, sets []uv.Set, f store.File) {
	world, err := a.Map(r.Set, bake.WorldNormal)
	if err != nil {
		return
	}
	p, err := imgfile.Read(path.Base(f.Name), f.Data)
	if err != nil {
		return // taking it in tells why
	}
	set, ok := uv.Find(sets, r.Set)
	if !ok {
		return
	}
	m, _ := a.Model()
	g := bring.GuessGreen(m, set, p, world)
	r.Flip, r.Sure = g.Down, g.Sure
}

// TakeBrought takes files that wait under a key in as a job, in the places that rows give; rows without a place are
// left.
func (a *Asset) TakeBrought(key string, rows []Brought) error {
	a.mu.Lock()
	var w *waiting
	if i := slices.IndexFunc(a.waiting, func(w *waiting) bool { return w.key == key }); i >= 0 {
		w = a.waiting[i]
	}
	sets := a.sets
	a.mu.Unlock()
	if w == nil {
		return errors.New("the files are not here any more; bring them in again")
	}
	var take []Brought
	for _, r := range rows {
		if r.Set == "" || r.Kind == "" {
			continue
		}
		if r.N < 0 || r.N >= len(w.files) {
			return errors.New("the files are not here any more; bring them in again")
		}
		if _, err := bake.KindOf(r.Kind); err != nil {
			return err
		}
		if _, ok := uv.Find(sets, r.Set); !ok {
			return fmt.Errorf("there is no set “%s”", r.Set)
		}
		if i := slices.IndexFunc(take, func(o Brought) bool { return o.Slot == r.Slot }); i >= 0 {
			return fmt.Errorf("%s and %s are both meant for one place; choose one of them", path.Base(w.files[take[i].N].Name), path.Base(w.files[r.N].Name))
		}
		take = append(take, r)
	}
	if len(take) == 0 {
		return errors.New("no file has a place yet; choose a set and a map for one")
	}
	return a.start("bring", "Bring maps in", func(ctx context.Context, j *Job, share func(float64)) error {
		var failed []string
		for i, r := range take {
			if err := ctx.Err(); err != nil {
				return err
			}
			a.mu.Lock()
			j.now = work{r.Set, []string{r.Kind}}
			a.mu.Unlock()
			if err := a.takeOne(w.files[r.N], r.Slot, r.Flip); err != nil {
				failed = append(failed, err.Error())
			}
			share(float64(i+1) / float64(len(take)))
		}
		a.mu.Lock()
		a.waiting = slices.DeleteFunc(a.waiting, func(o *waiting) bool { return o == w })
		a.mu.Unlock()
		if len(failed) > 0 {
			return fmt.Errorf("%s taken in; %s", counted(len(take)-len(failed), "map"), strings.Join(failed, "; "))
		}
		return nil
	})
}

// takeOne reads a picture and stores it as a brought map.
func (a *Asset) takeOne(f store.File, slot bring.Slot, flip bool) error {
	p, err := imgfile.Read(path.Base(f.Name), f.Data)
	if err != nil {
		return err
	}
	m, err := bring.Map(p, slot.Kind, flip)
	if err != nil {
		return err
	}
	m.Set = slot.Set
	return a.putMap(m, "", true)
}

// BringMap takes one picture in as a baked map of a set. A broken or unfit one changes nothing.
func (a *Asset) BringMap(set, kind string, f store.File) error {
	if _, err := bake.KindOf(kind); err != nil {
		return err
	}
	a.mu.Lock()
	_, known := uv.Find(a.sets, set)
	busy := a.job != nil
	a.mu.Unlock()
	if !known {
		return fmt.Errorf("there is no set “%s”", set)
	}
	if busy {
		return errBusy
	}
	return a.takeOne(f, bring.Slot{Set: set, Kind: kind}, false)
}

// SetWords stores more words that file names call maps by.
func (a *Asset) SetWords(words map[string][]string) error {
	a.mu.Lock()
	s := a.settings
	a.mu.Unlock()
	s.Words = map[string][]string{}
	for kind, list := range words {
		if _, err := bake.KindOf(kind); err != nil {
			return err
		}
		for _, w := range list {
			if w = strings.TrimSpace(w); w != "" {
				s.Words[kind] = append(s.Words[kind], w)
			}
		}
		if len(s.Words[kind]) > MaxWords {
			return fmt.Errorf("more than %d words for one map", MaxWords)
		}
	}
	return a.SetSettings(s)
}

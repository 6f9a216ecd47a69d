package studio

import (
	"errors"
	"fmt"
	"slices"

	"crust/internal/core/bake"
	"crust/internal/core/mesh"
	"crust/internal/store"
)

// Plan is what bringing a corrected model in would do. Nothing has happened yet.
type Plan struct {
	File      string   `json:"file"`
	Triangles int      `json:"triangles"`
	Matched   []string `json:"matched"` // sets found again, by name
	Gone      []string `json:"gone"`    // sets that are not in the new model
	Fresh     []string `json:"fresh"`   // sets that are new
	Layers    []string `json:"layers"`  // what is aimed at sets or parts that are gone, one sentence each
	Keep      int      `json:"keep"`    // baked maps that still fit
	Stale     int      `json:"stale"`   // baked maps that do not
	Notes     []string `json:"notes"`
}

// pending is a corrected model that waits for a yes.
type pending struct {
	file   store.File
	beside []store.File
}

// Again reads a corrected model and says what it would change. Replace does it.
func (a *Asset) Again(u Upload) (*Plan, error) {
	f, beside, err := u.model()
	if err != nil {
		return nil, err
	}
	p := &pending{f, beside}
	a.mu.Lock()
	now := a.state()
	a.mu.Unlock()
	r, err := a.renew(p, now)
	if err != nil {
		return nil, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.pending = p
	a.match(r.plan, r.taken)
	return r.plan, nil
}

// renewal is a corrected model as the settings of one moment take it.
type renewal struct {
	state
	plan    *Plan
	taken   *taken
	layouts []store.File // that still fit
}

// renew takes a corrected model with the settings of one moment.
func (a *Asset) renew(p *pending, now state) (*renewal, error) {
	m, err := mesh.Open(p.file, p.beside)
	if err != nil {
		return nil, err
	}
	layouts, err := a.studio.Store.Files(a.ID, "layout")
	if err != nil {
		return nil, err
	}
	r := &renewal{state: now, layouts: layouts}
	old, _ := a.Model()
	in, plan := &r.intake, &Plan{File: p.file.Name, Triangles: len(m.Tris), Notes: slices.Clone(m.Notes)}
	fileChannels := len(old.Channels) - len(in.Layouts)
	if len(layouts) > 0 && (len(m.Tris) != len(old.Tris) || len(m.Channels) != fileChannels) {
		plan.Notes = append(plan.Notes, "The UVs laid out here do not fit the new model and are dropped; the model's own UVs are used.")
		r.layouts, in.Layouts = nil, nil
		in.Channel = min(in.Channel, len(m.Channels)-1)
	}
	if in.Channel >= len(m.Channels)+len(r.layouts) {
		plan.Notes = append(plan.Notes, fmt.Sprintf("The new model has no UV channel %d; its first is used.", in.Channel+1))
		in.Channel = 0
	}
	r.plan = plan
	r.taken, err = takeModel(m, *in, r.split, r.layouts)
	return r, err
}

// match fills a plan with what fits and what does not. The caller holds mu.
func (a *Asset) match(plan *Plan, t *taken) {
	has := map[string]bool{}
	for i := range t.sets {
		has[t.sets[i].Key] = true
	}
	gone := map[string]bool{}
	for i := range a.sets {
		s := &a.sets[i]
		if has[s.Key] {
			plan.Matched = append(plan.Matched, s.Name)
		} else {
			gone[s.Key] = true
			plan.Gone = append(plan.Gone, s.Name)
		}
		delete(has, s.Key)
	}
	for i := range t.sets {
		if has[t.sets[i].Key] {
			plan.Fresh = append(plan.Fresh, t.sets[i].Name)
		}
	}
	for i := range a.doc.Layers {
		l := &a.doc.Layers[i]
		for _, key := range l.Targets {
			if gone[key] {
				plan.Layers = append(plan.Layers, fmt.Sprintf("Layer “%s” is aimed at “%s”, which is gone.", l.Name, key))
			}
		}
		for _, p := range l.Parts {
			if !slices.Contains(t.model.Parts, p) && slices.Contains(a.model.Parts, p) {
				plan.Layers = append(plan.Layers, fmt.Sprintf("Layer “%s” is aimed at the part “%s”, which is gone.", l.Name, p))
			}
		}
		for _, c := range l.Where {
			for _, p := range c.Parts {
				if !slices.Contains(t.model.Parts, p) && slices.Contains(a.model.Parts, p) {
					plan.Layers = append(plan.Layers, fmt.Sprintf("Layer “%s” picks the part “%s”, which is gone.", l.Name, p))
				}
			}
		}
	}
	was, now := a.grounds(), a.grounds()
	now.whole = t.whole
	for key, r := range a.rows {
		if k, err := bake.KindOf(key[1]); err != nil || k.With != "" {
			continue // they go with the map that they come with
		}
		before := r.Stamp == was.stampOf(key[1], a.setHash[key[0]])
		after := t.setHash[key[0]] != "" && r.Stamp == now.stampOf(key[1], t.setHash[key[0]])
		switch {
		case r.Brought && t.setHash[key[0]] != "" || after:
			plan.Keep++
		case before:
			plan.Stale++
		}
	}
}

// Replace takes the model that Again read in place of the old one, with the split and settings of now.
// Layers, targets and settings stay.
func (a *Asset) Replace() error {
	a.mu.Lock()
	p := a.pending
	a.mu.Unlock()
	if p == nil {
		return errors.New("no corrected model is waiting; bring it in again")
	}
	return a.settle(func(s state) (func() error, error) {
		r, err := a.renew(p, s)
		return func() error { return a.replace(p, r) }, err
	})
}

// replace stores and adopts a renewal. The caller holds mu.
func (a *Asset) replace(p *pending, r *renewal) error {
	if a.pending != p {
		return errors.New("another corrected model has been brought in meanwhile; look at its plan first")
	}
	columns, err := r.intake.columns(r.split)
	if err != nil {
		return err
	}
	columns["model_name"] = p.file.Name
	if err := a.studio.Store.ReplaceModel(a.ID, p.file, p.beside, r.layouts != nil, columns); err != nil {
		return err
	}
	a.modelName, a.pending = p.file.Name, nil
	a.adopt(r.taken, r.intake, r.split)
	return nil
}

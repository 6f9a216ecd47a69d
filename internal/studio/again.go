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
	file    store.File
	beside  []store.File
	taken   *taken
	intake  Intake
	layouts []store.File // that still fit
}

// Again reads a corrected model and says what it would change. Replace does it.
func (a *Asset) Again(u Upload) (*Plan, error) {
	f, beside, err := u.model()
	if err != nil {
		return nil, err
	}
	m, err := mesh.Open(f, beside)
	if err != nil {
		return nil, err
	}
	layouts, err := a.studio.Store.Files(a.ID, "layout")
	if err != nil {
		return nil, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	in, plan := a.intake, &Plan{File: f.Name, Triangles: len(m.Tris), Notes: slices.Clone(m.Notes)}
	fileChannels := len(a.model.Channels) - len(in.Layouts)
	if len(layouts) > 0 && (len(m.Tris) != len(a.model.Tris) || len(m.Channels) != fileChannels) {
		plan.Notes = append(plan.Notes, "The UVs laid out here do not fit the new model and are dropped; the model's own UVs are used.")
		layouts, in.Layouts = nil, nil
		in.Channel = min(in.Channel, len(m.Channels)-1)
	}
	if in.Channel >= len(m.Channels)+len(layouts) {
		plan.Notes = append(plan.Notes, fmt.Sprintf("The new model has no UV channel %d; its first is used.", in.Channel+1))
		in.Channel = 0
	}
	t, err := takeModel(m, in, a.split, layouts)
	if err != nil {
		return nil, err
	}
	a.pending = &pending{f, beside, t, in, layouts}
	a.match(plan, t)
	return plan, nil
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
		for _, c := range l.Where {
			for _, p := range c.Parts {
				if !slices.Contains(t.model.Parts, p) && slices.Contains(a.model.Parts, p) {
					plan.Layers = append(plan.Layers, fmt.Sprintf("Layer “%s” picks the part “%s”, which is gone.", l.Name, p))
				}
			}
		}
	}
	whole := a.whole
	for key, r := range a.rows {
		if k, err := bake.KindOf(key[1]); err != nil || k.With != "" {
			continue // they go with the map that they come with
		}
		before := r.Stamp == a.stampOf(key[1], a.setHash[key[0]])
		a.whole = t.whole
		after := t.setHash[key[0]] != "" && r.Stamp == a.stampOf(key[1], t.setHash[key[0]])
		a.whole = whole
		switch {
		case r.Brought && t.setHash[key[0]] != "" || after:
			plan.Keep++
		case before:
			plan.Stale++
		}
	}
}

// Replace takes the model that Again read in place of the old one. Layers, targets and settings stay.
func (a *Asset) Replace() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	p := a.pending
	if p == nil {
		return errors.New("no corrected model is waiting; bring it in again")
	}
	if a.job != nil {
		return errBusy
	}
	columns, err := p.intake.columns(a.split)
	if err != nil {
		return err
	}
	columns["model_name"] = p.file.Name
	if err := a.studio.Store.ReplaceModel(a.ID, p.file, p.beside, p.layouts != nil, columns); err != nil {
		return err
	}
	a.modelName, a.pending = p.file.Name, nil
	a.adopt(p.taken, p.intake, a.split)
	a.tell(a.stateEvent())
	return nil
}

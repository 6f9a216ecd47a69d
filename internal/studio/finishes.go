package studio

import (
	"encoding/json"
	"fmt"
	"log/slog"

	"crust/internal/core/finish"
	"crust/internal/core/strata"
	"crust/internal/store"
)

// MaxFinishes bounds how many finishes of their own people keep.
const MaxFinishes = 500

// Finishes lists people's own finishes, the newest first.
func (s *Studio) Finishes() ([]finish.Finish, error) {
	rows, err := s.Store.Finishes()
	if err != nil {
		return nil, err
	}
	out := []finish.Finish{}
	for _, r := range rows {
		f, err := finish.Parse([]byte(r.Text))
		if err != nil {
			slog.Warn("a stored finish cannot be read", "finish", r.Name, "error", err)
			continue
		}
		out = append(out, *f)
	}
	return out, nil
}

// FinishOf finds a finish by its name: built in, or people's own.
func (s *Studio) FinishOf(name string) (*finish.Finish, error) {
	f, err := finish.Of(name)
	if err == nil {
		return f, nil
	}
	own, storeErr := s.Finishes()
	if storeErr != nil {
		return nil, storeErr
	}
	for i := range own {
		if own[i].Name == name {
			return &own[i], nil
		}
	}
	return nil, err
}

// KeepFinish stores a finish; one of the same name, which is not built in, gives way.
func (s *Studio) KeepFinish(f *finish.Finish) error {
	if err := f.Check(); err != nil {
		return err
	}
	if _, err := finish.Of(f.Name); err == nil {
		f.Name = "own-" + f.Name
	}
	own, err := s.Store.Finishes()
	if err != nil {
		return err
	}
	if len(own) >= MaxFinishes {
		return fmt.Errorf("%d finishes are kept already; delete some first", len(own))
	}
	text, err := json.Marshal(f)
	if err != nil {
		return err
	}
	return s.Store.PutFinish(f.Name, string(text))
}

// DropFinish deletes a finish of people's own. Where it was laid it stays, with its dials.
func (s *Studio) DropFinish(name string) error {
	if _, err := finish.Of(name); err == nil {
		return fmt.Errorf("“%s” is built in and stays", name)
	}
	if _, err := s.FinishOf(name); err != nil {
		return fmt.Errorf("finish “%s”: %w", name, store.ErrNone)
	}
	return s.Store.DropFinish(name)
}

// SaveFinish keeps a group as a finish. Notes say what could not come along.
func (a *Asset) SaveFinish(group, title, help string) (f *finish.Finish, notes []string, err error) {
	a.mu.Lock()
	doc, diagonal := a.doc.Clone(), float64(a.model.Bounds().Diagonal())
	a.mu.Unlock()
	if f, notes, err = finish.Save(doc, group, title, help, diagonal); err != nil {
		return nil, nil, err
	}
	return f, notes, a.studio.KeepFinish(f)
}

// lay puts a finish, as a group, right above a layer or into a group; on top of all when none is named.
func (a *Asset) lay(d *strata.Document, e strata.Edit) (label, layer string, err error) {
	f, err := a.studio.FinishOf(e.Kind)
	if err != nil {
		return "", "", err
	}
	layers, err := f.Group(d, e.Dials, float64(a.model.Bounds().Diagonal()))
	if err != nil {
		return "", "", err
	}
	layers[len(layers)-1].Targets = e.Targets
	return "Lay " + f.Title, layers[len(layers)-1].ID, d.Put(e.Layer, layers...)
}

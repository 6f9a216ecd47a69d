package studio

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"crust/internal/core/compose"
	"crust/internal/core/strata"
	"crust/internal/store"
)

// MaxKeepsakes bounds the keepsakes of an asset.
const MaxKeepsakes = 100

// KeepsakeEvent is a keepsake as the page shows it.
type KeepsakeEvent struct {
	ID   uint   `json:"id"`
	Name string `json:"name"`
	Made int64  `json:"made"` // ms since 1970
}

func keepsakeEvents(rows []store.Keepsake) []KeepsakeEvent {
	out := []KeepsakeEvent{}
	for _, k := range rows {
		out = append(out, KeepsakeEvent{k.ID, k.Name, k.Made.UnixMilli()})
	}
	return out
}

// Keep stores the strata as they stand; without a name it gets a number.
func (a *Asset) Keep(name string) error {
	name = strings.TrimSpace(name)
	if len(name) > strata.MaxName {
		return fmt.Errorf("a keepsake's name has at most %d letters", strata.MaxName)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if len(a.keepsakes) >= MaxKeepsakes {
		return fmt.Errorf("%d keepsakes are kept already; delete some first", len(a.keepsakes))
	}
	for n := len(a.keepsakes) + 1; name == ""; n++ {
		free := fmt.Sprintf("Keepsake %d", n)
		if !slices.ContainsFunc(a.keepsakes, func(k store.Keepsake) bool { return k.Name == free }) {
			name = free
		}
	}
	text, err := json.Marshal(a.doc)
	if err != nil {
		return err
	}
	k := store.Keepsake{AssetID: a.ID, Name: name, Text: string(text)}
	if err := a.studio.Store.AddKeepsake(&k); err != nil {
		return err
	}
	k.Text = ""
	a.keepsakes = append([]store.Keepsake{k}, a.keepsakes...)
	a.tell(a.stateEvent())
	return nil
}

// kept reads a keepsake's strata.
func (a *Asset) kept(id uint) (*store.Keepsake, *strata.Document, error) {
	k, err := a.studio.Store.Keepsake(a.ID, id)
	if err != nil {
		return nil, nil, err
	}
	d, err := strata.Parse([]byte(k.Text))
	return k, d, err
}

// DropKeepsake deletes a keepsake.
func (a *Asset) DropKeepsake(id uint) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if err := a.studio.Store.DropKeepsake(a.ID, id); err != nil {
		return err
	}
	a.keepsakes = slices.DeleteFunc(a.keepsakes, func(k store.Keepsake) bool { return k.ID == id })
	a.tell(a.stateEvent())
	return nil
}

// returnTo is the strata of a keepsake, to be made by an edit like others, which undo takes back.
func (a *Asset) returnTo(id int) (next *strata.Document, label string, err error) {
	k, d, err := a.kept(uint(id))
	if err != nil {
		return nil, "", err
	}
	d.Next = max(d.Next, a.doc.Next) // marks are not given twice
	d.Look = a.doc.Look.Clone()      // light and frames stay as they are
	return d, "Return to " + k.Name, nil
}

// keptView is the name, to pages, of a view of the keepsake that they compare with.
func keptView(name string) string { return "kept-" + name }

// showKept evaluates a set as keepsakes have it, for the pages that compare with one.
func (a *Asset) showKept(s *snapshot, c *sheet) error {
	for id, d := range s.kept {
		k := c.kept[id]
		if k == nil {
			k = new(shown)
			if c.kept == nil {
				c.kept = map[uint]*shown{}
			}
			c.kept[id] = k
		}
		prog, err := c.Compile(d)
		if err != nil {
			return err
		}
		names := viewsOf(d)
		if err := k.paint(s.ctx, c, prog, names, compose.Pass{}, func() {}); err != nil {
			return err
		}
		for _, p := range s.pages {
			if p.Look().Kept != id {
				continue
			}
			for _, name := range names {
				p.frame(&Frame{Set: c.Set, View: keptView(name), Full: true, picture: k.views[name], whole: true, version: s.version})
			}
		}
	}
	for id := range c.kept {
		if s.kept[id] == nil {
			delete(c.kept, id) // nobody compares with it any more
		}
	}
	return nil
}

// keptDocs are the keepsakes that pages compare with, each read once; one that is gone is left out.
func (a *Asset) keptDocs(e *easel, pages []*Page) map[uint]*strata.Document {
	out := map[uint]*strata.Document{}
	for _, p := range pages {
		id := p.Look().Kept
		if id == 0 || out[id] != nil {
			continue
		}
		if d := e.kept[id]; d != nil {
			out[id] = d
		} else if _, d, err := a.kept(id); err == nil {
			out[id] = d
		} else if !errors.Is(err, store.ErrNone) {
			a.tell(Event{"t": "error", "text": err.Error()})
		}
	}
	e.kept = out
	return out
}

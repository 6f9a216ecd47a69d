package studio

import (
	"encoding/json"
	"errors"
	"fmt"

	"crust/internal/core/finish"
	"crust/internal/core/strata"
	"crust/internal/store"
)

// history is what of an asset's journal can be undone and redone, and by whom. The asset's mu guards it.
type history struct {
	seq     int64 // of the last entry
	snap    int64 // of the entry that the last snapshot follows
	entries []entry
}

// entry is an edit of the journal.
type entry struct {
	seq        int64
	author     string
	label      string
	ops        []strata.Op
	undone     int64  // the entry that undid it last, 0 while it stands
	undoneBy   string // whose that was
	redoClosed bool   // its undoer has made another edit since
}

// readHistory takes the entries of a journal in.
func readHistory(snap store.Snapshot, ops []store.Op) (*history, error) {
	h := &history{seq: snap.Seq, snap: snap.Seq}
	for i := range ops {
		var list []strata.Op
		if err := json.Unmarshal([]byte(ops[i].Ops), &list); err != nil {
			return nil, fmt.Errorf("entry %d of the journal: %w", ops[i].Seq, err)
		}
		h.take(&ops[i], list)
	}
	return h, nil
}

// take adds an entry to what is known.
func (h *history) take(op *store.Op, list []strata.Op) {
	h.seq = max(h.seq, op.Seq)
	switch op.Kind {
	case store.KindEdit:
		for i := range h.entries {
			if e := &h.entries[i]; e.undone > 0 && e.undoneBy == op.Author {
				e.redoClosed = true
			}
		}
		h.entries = append(h.entries, entry{seq: op.Seq, author: op.Author, label: op.Label, ops: list})
	case store.KindUndo, store.KindRedo:
		for i := range h.entries {
			if e := &h.entries[i]; e.seq == op.Of {
				e.undone, e.undoneBy, e.redoClosed = op.Seq, op.Author, false
				if op.Kind == store.KindRedo {
					e.undone = 0
				}
			}
		}
	}
	if n := len(h.entries) - store.KeepOps; n > 0 {
		h.entries = append([]entry(nil), h.entries[n:]...)
	}
}

// mine tells whether an author's undo reaches an edit: it is theirs, or was made before authors were kept.
func (e *entry) mine(author string) bool { return e.author == author || e.author == "" }

// undo is the edit that an author's undo takes back, nil for none.
func (h *history) undo(author string) *entry {
	for i := len(h.entries) - 1; i >= 0; i-- {
		if e := &h.entries[i]; e.undone == 0 && e.mine(author) {
			return e
		}
	}
	return nil
}

// redo is the edit that an author's redo makes again, nil for none: the one they undid last.
func (h *history) redo(author string) (last *entry) {
	for i := range h.entries {
		e := &h.entries[i]
		if e.undone > 0 && !e.redoClosed && (e.undoneBy == author || e.undoneBy == "") && (last == nil || e.undone > last.undone) {
			last = e
		}
	}
	return last
}

// labels are those of what an author's undo and redo would do, empty for none.
func (h *history) labels(author string) (undo, redo string) {
	if e := h.undo(author); e != nil {
		undo = e.label
	}
	if e := h.redo(author); e != nil {
		redo = e.label
	}
	return undo, redo
}

// record stores a change of the document as an entry of the journal and takes it up. The caller holds mu.
func (a *Asset) record(author, kind string, of int64, label string, next *strata.Document) error {
	list := strata.Diff(a.doc, next)
	text, err := json.Marshal(list)
	if err != nil {
		return err
	}
	h := a.history
	op := &store.Op{AssetID: a.ID, Seq: h.seq + 1, Author: author, Kind: kind, Of: of, Label: label, Ops: string(text)}
	whole := ""
	if op.Seq-h.snap >= store.SnapshotEvery {
		b, err := json.Marshal(next)
		if err != nil {
			return err
		}
		whole = string(b)
	}
	strokes := a.freshStrokes(next)
	if err := a.studio.Store.Append(op, whole, strokes...); err != nil {
		return fmt.Errorf("the change could not be saved: %w", err)
	}
	for i := range strokes {
		delete(a.unsaved, strokes[i].ID)
	}
	if whole != "" {
		h.snap = op.Seq
	}
	h.take(op, list)
	a.doc = next
	return nil
}

// back undoes (−1) or redoes (+1) an edit of a page's author; what others made since stays. Without one nothing happens.
func (a *Asset) back(p *Page, by int) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	author := p.authorOf()
	e, kind := a.history.undo(author), store.KindUndo
	if by > 0 {
		e, kind = a.history.redo(author), store.KindRedo
	}
	if e == nil {
		return nil
	}
	ops := e.ops
	if by < 0 {
		ops = strata.Invert(ops)
	}
	next, err := a.doc.Patch(ops)
	if err != nil {
		return fmt.Errorf("“%s” cannot be taken back or made again now: %w", e.label, err)
	}
	if err := a.record(author, kind, e.seq, e.label, next); err != nil {
		return err
	}
	a.relive(p)
	a.changed()
	a.tellDoc()
	return nil
}

// overlay is an edit that a page shows while a control is dragged, and that nothing keeps.
type overlay struct {
	page *Page // whose it is, nil for none in particular
	edit strata.Edit
}

// relive lays the live edit over the document anew, after it has changed; that of the page that made the change has ended.
// The caller holds mu.
func (a *Asset) relive(by *Page) {
	a.live = nil
	if a.over == nil {
		return
	}
	if a.over.page == by {
		a.over = nil
		return
	}
	if next, _, _, err := a.apply(a.over.edit); err == nil {
		a.live = next
	} else {
		a.over = nil
	}
}

// apply makes an edit of a copy of the document.
func (a *Asset) apply(e strata.Edit) (next *strata.Document, label, layer string, err error) {
	if e.Do == "finish" {
		next = a.doc.Clone()
		label, layer, err = a.lay(next, e)
		return next, label, layer, err
	}
	if e.Do == "dial" {
		if err := a.doc.Locked(e.Layer); err != nil {
			return nil, "", "", err
		}
		next = a.doc.Clone()
		label, err = finish.Turn(next, e.Layer, e.Dials)
		return next, label, e.Layer, err
	}
	if e.Do == "dial.add" || e.Do == "dial.drop" {
		if err := a.doc.Locked(e.Layer); err != nil {
			return nil, "", "", err
		}
		next = a.doc.Clone()
		size := float64(a.model.Bounds().Diagonal())
		if e.Do == "dial.drop" {
			label, err = finish.DropDial(next, e.Layer, e.Kind, size)
			return next, label, e.Layer, err
		}
		var shown finish.Shown
		if err := json.Unmarshal(e.Value, &shown); err != nil {
			return nil, "", "", errors.New("a dial is made of its name and of the layers as they stand with it at 0")
		}
		label, err = finish.AddDial(next, e.Layer, shown, size)
		return next, label, e.Layer, err
	}
	if e.Do == "paste" || e.Do == "where.paste" {
		if e, err = a.bringPictures(e); err != nil {
			return nil, "", "", err
		}
		if e, err = a.bringStrokes(e); err != nil {
			return nil, "", "", err
		}
	}
	if e.Do == "stroke.change" {
		if e, err = a.changeOf(e); err != nil {
			return nil, "", "", err
		}
	}
	if e.Do == "return" {
		next, label, err = a.returnTo(e.To)
		return next, label, "", err
	}
	e.Size = float64(a.model.Bounds().Diagonal())
	now := *a.doc // Apply replaces what it changes
	label, layer, err = now.Apply(e)
	return &now, label, layer, err
}

// edit applies a change of a page, or of none in particular. A live one, sent while a control is dragged, only shows; any
// other is committed to the store before edit returns.
func (a *Asset) edit(p *Page, e strata.Edit, live bool) (layer string, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	next, label, layer, err := a.apply(e)
	if err != nil {
		return "", err
	}
	a.touched = layer
	if live {
		if a.live, a.over = next, (&overlay{p, e}); len(strata.Diff(a.doc, next)) == 0 {
			a.live, a.over = nil, nil // the control is back where it was
		}
		if a.finish {
			a.nudge()
		} else {
			a.changed()
		}
		return layer, nil
	}
	if err := a.record(p.authorOf(), store.KindEdit, 0, label, next); err != nil {
		return "", err
	}
	a.relive(p)
	a.changed()
	a.tellDoc()
	return layer, nil
}

// drop forgets a page's live change that was not committed. The caller holds mu.
func (a *Asset) drop(p *Page) {
	if a.over != nil && a.over.page == p {
		a.live, a.over = nil, nil
		a.changed()
		a.tellDoc()
	}
}

// Edit, Go and Drop are those of nobody in particular.
func (a *Asset) Edit(e strata.Edit, live bool) (layer string, err error) { return a.edit(nil, e, live) }

// Go undoes (−1) or redoes (+1).
func (a *Asset) Go(by int) error { return a.back(nil, by) }

// Edit is the asset's, in the name of the page's author.
func (p *Page) Edit(e strata.Edit, live bool) (layer string, err error) {
	return p.asset.edit(p, e, live)
}

// Go undoes (−1) or redoes (+1) an edit of the page's author.
func (p *Page) Go(by int) error { return p.asset.back(p, by) }

// Drop forgets the page's live change.
func (p *Page) Drop() {
	p.asset.mu.Lock()
	defer p.asset.mu.Unlock()
	p.asset.drop(p)
}

func (p *Page) authorOf() string {
	if p == nil {
		return ""
	}
	return p.author
}

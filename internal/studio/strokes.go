package studio

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"

	"crust/internal/core/accel"
	"crust/internal/core/brush"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/par"
	"crust/internal/core/strata"
	"crust/internal/store"
)

// Ink is a message of a page that paints: the beginning of a stroke, samples of its path, its end.
type Ink struct {
	Layer  string        `json:"layer"`
	Clause string        `json:"clause"`
	Begin  *brush.Stroke `json:"begin,omitempty"` // without its paths
	Lift   bool          `json:"lift,omitempty"`  // samples begin a new path
	Points []brush.Point `json:"points,omitempty"`
	End    bool          `json:"end,omitempty"`
	Drop   bool          `json:"drop,omitempty"` // the stroke is given up
	// A stamp is sent whole each time that it has changed; it may take the place of a stroke that is there.
	Place   *brush.Stroke `json:"place,omitempty"`
	Instead int32         `json:"instead,omitempty"`
}

// inking is a stroke while a page makes it.
type inking struct {
	layer, clause string
	number        int32
	pen           *brush.Pen    // nil for a stamp
	stroke        *brush.Stroke // as far as it has come; nil before its first sample
	instead       int32         // the stroke whose place it takes, 0 for none
	taken         bool          // that stroke is not shown any more
}

// nextStroke numbers strokes of all assets.
func (s *Studio) nextStroke() int32 { return s.strokes.Add(1) }

// loadStrokes reads an asset's strokes.
func (s *Studio) loadStrokes(asset uint) (map[int32]*brush.Stroke, error) {
	rows, err := s.Store.Strokes(asset)
	if err != nil {
		return nil, err
	}
	all := make([]*brush.Stroke, len(rows))
	faults := make([]error, len(rows))
	err = par.Blocks(s.ctx, len(rows), 64, func(_, from, to int) {
		for i := from; i < to; i++ {
			if all[i], faults[i] = brush.Decode(rows[i].Data); faults[i] == nil {
				faults[i] = s.attach(all[i])
			}
		}
	})
	if err != nil {
		return nil, err
	}
	out := make(map[int32]*brush.Stroke, len(rows))
	for i := range rows {
		if faults[i] != nil {
			return nil, fmt.Errorf("stroke %d: %w", rows[i].ID, faults[i])
		}
		out[rows[i].ID] = all[i]
	}
	return out, nil
}

// number gives the strokes of a document numbers that no other has.
func (s *Studio) number(doc *strata.Document, painted strata.Painting) (rows []store.Stroke) {
	to := map[int32]int32{}
	for i := range doc.Layers {
		for k := range doc.Layers[i].Where {
			c := &doc.Layers[i].Where[k]
			var next strata.Strokes
			for _, n := range c.Strokes {
				mark := max(n, -n)
				stroke := painted[mark]
				if stroke == nil {
					continue
				}
				if to[mark] == 0 {
					to[mark] = s.nextStroke()
					rows = append(rows, store.Stroke{ID: to[mark], Data: brush.Encode(stroke)})
				}
				if mark = to[mark]; n < 0 {
					mark = -mark
				}
				next = append(next, mark)
			}
			c.Strokes = next
		}
	}
	return rows
}

// Ink takes a message of a stroke in; number is that of a stroke that it has ended, 0 for none.
func (p *Page) Ink(m Ink) (number int32, err error) {
	a := p.asset
	a.mu.Lock()
	defer a.mu.Unlock()
	if m.Drop {
		if a.inks[p] != nil {
			delete(a.inks, p)
			a.changed()
		}
		return 0, nil
	}
	if m.Begin != nil {
		if err := a.begin(p, m); err != nil {
			return 0, err
		}
	}
	if m.Place != nil {
		if err := a.place(p, m); err != nil {
			return 0, err
		}
	}
	k := a.inks[p]
	if k == nil {
		if m.End {
			return 0, errors.New("the stroke had ended already")
		}
		return 0, nil // the rest of one that was refused
	}
	if m.Lift && k.pen != nil {
		k.pen.Lift()
	}
	if len(m.Points) > 0 && k.pen != nil {
		if err = k.pen.Add(m.Points); err != nil {
			m.End = true // what there is of it is kept
		}
		k.stroke = k.pen.Stroke()
		a.inked()
	}
	if !m.End {
		return 0, err
	}
	number, failed := a.end(p)
	return number, errors.Join(err, failed)
}

// place takes a stamp in as it is now. The caller holds mu.
func (a *Asset) place(p *Page, m Ink) error {
	s := *m.Place
	if s.Stamp == nil {
		return errors.New("what is placed is a stamp")
	}
	if err := s.Check(); err != nil {
		return err
	}
	if err := a.studio.attach(&s); err != nil {
		return err
	}
	k := a.inks[p]
	if k == nil || k.pen != nil || k.layer != m.Layer || k.clause != m.Clause || k.instead != m.Instead {
		if k != nil && k.pen != nil {
			if _, err := a.end(p); err != nil {
				return err
			}
		}
		delete(a.inks, p) // another stamp that was only shown
		if err := a.takes(m); err != nil {
			return err
		}
		k = &inking{layer: m.Layer, clause: m.Clause, number: a.studio.nextStroke(), instead: m.Instead}
		a.inks[p] = k
		a.touched = m.Layer
	}
	if s.Seed == 0 {
		s.Seed = 1
	}
	a.idHeld = a.idHeld || s.NeedsIDs()
	k.stroke = s.Live()
	a.inked()
	return nil
}

// takes tells whether strokes can be laid where a message says. The caller holds mu.
func (a *Asset) takes(m Ink) error {
	probe := strata.Edit{Do: "stroke.add", Layer: m.Layer, Clause: m.Clause, Strokes: strata.Strokes{1}}
	now := *a.doc
	_, _, err := now.Apply(probe)
	return err
}

// begin begins a stroke. The caller holds mu.
func (a *Asset) begin(p *Page, m Ink) error {
	if a.inks[p] != nil {
		if _, err := a.end(p); err != nil {
			return err
		}
	}
	if err := a.doc.Locked(m.Layer); err != nil {
		return err
	}
	if err := a.takes(m); err != nil {
		return err
	}
	s := *m.Begin
	if s.Seed == 0 {
		s.Seed = rand.Uint32() | 1
	}
	if err := a.studio.attach(&s); err != nil {
		return err
	}
	pen, err := brush.NewPen(s)
	if err != nil {
		return err
	}
	a.idHeld = a.idHeld || s.NeedsIDs()
	a.inks[p] = &inking{layer: m.Layer, clause: m.Clause, number: a.studio.nextStroke(), pen: pen}
	a.touched = m.Layer
	return nil
}

// end takes a page's stroke into the document. The caller holds mu.
func (a *Asset) end(p *Page) (number int32, err error) {
	k := a.inks[p]
	delete(a.inks, p)
	if k == nil {
		return 0, nil
	}
	s := k.stroke
	if k.pen != nil {
		k.pen.Lift()
		s = k.pen.Stroke()
	}
	if s == nil {
		return 0, nil
	}
	if k.pen == nil {
		s = s.Done()
	}
	a.keepStroke(k.number, s)
	e := strata.Edit{Do: "stroke.add", Layer: k.layer, Clause: k.clause, Strokes: strata.Strokes{k.number}}
	switch {
	case k.instead != 0:
		e.Do, e.Strokes, e.With = "stroke.change", strata.Strokes{k.instead}, strata.Strokes{k.number}
	case s.Stamp != nil:
		e.Kind = "stamp"
	case s.Work != "":
		e.Kind = s.Work
	case s.Erase:
		e.Kind = "erase"
	}
	now := *a.doc
	label, _, err := now.Apply(e)
	if err == nil {
		err = a.record(p.author, store.KindEdit, 0, label, &now)
	}
	if err != nil {
		delete(a.strokes, k.number)
		delete(a.unsaved, k.number)
		a.changed()
		return 0, err
	}
	a.relive(p)
	a.changed()
	a.tellDoc()
	return k.number, nil
}

// inked wakes the painter for what has come of strokes. The caller holds mu.
func (a *Asset) inked() {
	if a.cancelPaint != nil && !a.inkRound {
		a.cancelPaint()
		a.full = true // what it was at is done afterwards
	}
	a.wet = true
	a.version++
	select {
	case a.wake <- struct{}{}:
	default:
	}
}

// withInk lays the strokes that pages are making into a copy of a document, and tells where strokes are not shown any more whose
// place they take. The caller holds mu.
func (a *Asset) withInk(of *strata.Document) (d *strata.Document, wet map[int32]*brush.Stroke, gone []geom.Box) {
	with := *of // only what changes is copied: edits replace documents, and do not change them
	d = &with
	d.Layers = slices.Clone(d.Layers)
	for _, k := range a.inks {
		if k.stroke == nil {
			continue
		}
		l, _, err := d.Layer(k.layer)
		if err != nil {
			continue
		}
		l.Where = slices.Clone(l.Where)
		for i := range l.Where {
			if c := &l.Where[i]; c.ID == k.clause {
				at := slices.Index(c.Strokes, k.instead)
				if c.Strokes = slices.Clone(c.Strokes); at < 0 {
					c.Strokes = append(c.Strokes, k.number)
				} else {
					c.Strokes[at] = k.number
				}
				if old := a.strokes[k.instead]; !k.taken && old != nil {
					gone = append(gone, old.Repeated(a.model.Square).Boxes()...)
				}
				k.taken = true
				if wet == nil {
					wet = map[int32]*brush.Stroke{}
				}
				wet[k.number] = k.stroke
			}
		}
	}
	return d, wet, gone
}

// Stroke finds a stroke by its number, nil when there is none.
func (a *Asset) Stroke(number int32) *brush.Stroke {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.strokes[number]
}

// keepStroke takes a new stroke in; it is stored with the change of the document that brings it. The caller holds mu.
func (a *Asset) keepStroke(number int32, s *brush.Stroke) {
	a.strokes[number], a.unsaved[number] = s, true
	a.idHeld = a.idHeld || s.NeedsIDs()
}

// freshStrokes are those that a change of the document brings and that are not stored yet. The caller holds mu.
func (a *Asset) freshStrokes(next *strata.Document) (out []store.Stroke) {
	if len(a.unsaved) == 0 {
		return nil
	}
	for i := range next.Layers {
		for k := range next.Layers[i].Where {
			for _, n := range next.Layers[i].Where[k].Strokes {
				if n = max(n, -n); a.unsaved[n] {
					s := a.strokes[n]
					out = append(out, store.Stroke{ID: n, AssetID: a.ID, Data: brush.Encode(s)})
				}
			}
		}
	}
	return out
}

// StrokeEvent is a stroke as the page lists it.
type StrokeEvent struct {
	Number int32   `json:"n"`
	Hidden bool    `json:"hidden,omitempty"`
	Erase  bool    `json:"erase,omitempty"`
	Brush  string  `json:"brush"`
	Colour string  `json:"colour,omitempty"`
	Fill   string  `json:"fill,omitempty"`
	Size   float32 `json:"size"`
	Length float32 `json:"length"`
	Stamp  bool    `json:"stamp,omitempty"`
	Work   string  `json:"work,omitempty"`
	Words  string  `json:"words,omitempty"` // of a text
	Lost   bool    `json:"lost,omitempty"`  // the model, as it is now, has no surface where it was painted
}

// StrokesOf lists the strokes of a clause, in the order in which they were laid; with a place the one that lies on top there alone.
func (a *Asset) StrokesOf(layer, clause string, at *geom.Vec3) ([]StrokeEvent, error) {
	out, strokes, err := a.listed(layer, clause, at)
	if err != nil {
		return nil, err
	}
	m, _ := a.Model()
	a.found.mark(m, out, strokes)
	return out, nil
}

// found tells which strokes the surface of a model is found under. Its lock is its own.
type found struct {
	mu    sync.Mutex
	model *mesh.Model
	rays  *accel.BVH
	lost  map[int32]bool
}

// mark marks the strokes that have no surface under most of their points.
func (f *found) mark(m *mesh.Model, list []StrokeEvent, strokes map[int32]*brush.Stroke) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.model != m {
		f.model, f.rays, f.lost = m, nil, map[int32]bool{}
	}
	var s accel.Stream
	for i := range list {
		n := list[i].Number
		if _, known := f.lost[n]; !known {
			if f.rays == nil {
				f.rays = accel.Build(accel.Mesh{Positions: m.Positions, Tris: m.Tris})
			}
			f.lost[n] = isLost(f.rays, m.Square, strokes[n], &s)
		}
		list[i].Lost = f.lost[n]
	}
}

// mostLooks bounds the points of a stroke that are looked at.
const mostLooks = 24

func isLost(rays *accel.BVH, square *geom.Square, k *brush.Stroke, s *accel.Stream) bool {
	if k == nil {
		return false
	}
	all, hits := 0, 0
	for _, path := range k.Paths {
		step := 1 + len(path)*len(k.Paths)/mostLooks
		for i := 0; i < len(path); i += step {
			p, n, r := path[i].At(), path[i].Normal(), max(k.Size/2, 100*rays.Epsilon())
			if square != nil {
				p = square.Fold(p)
			}
			all++
			if _, ok := rays.FirstHit(p.Add(n.Mul(r)), n.Neg(), 2*r, s); ok {
				hits++
			}
		}
	}
	return 2*hits < all
}

// listed is StrokesOf with the strokes themselves.
func (a *Asset) listed(layer, clause string, at *geom.Vec3) ([]StrokeEvent, map[int32]*brush.Stroke, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	l, _, err := a.doc.Layer(layer)
	if err != nil {
		return nil, nil, err
	}
	out, strokes := []StrokeEvent{}, map[int32]*brush.Stroke{}
	for i := range l.Where {
		if l.Where[i].ID != clause {
			continue
		}
		for _, n := range l.Where[i].Strokes {
			s := a.strokes[max(n, -n)]
			if s == nil {
				continue
			}
			e := StrokeEvent{Number: max(n, -n), Hidden: n < 0, Erase: s.Erase, Brush: s.Brush.Name, Fill: s.Fill, Work: s.Work, Size: s.Size, Length: s.Length()}
			if s.Own != nil {
				e.Colour = s.Own.Colour
			}
			if s.Stamp != nil {
				e.Stamp = true
				if s.Stamp.Text != nil {
					e.Words = s.Stamp.Text.Words
				}
			}
			out = append(out, e)
			strokes[e.Number] = s
		}
	}
	if at != nil {
		for i := len(out) - 1; i >= 0; i-- {
			if s := a.strokes[out[i].Number]; !out[i].Hidden && s.Meets(*at) {
				return out[i : i+1], strokes, nil
			}
		}
		return []StrokeEvent{}, strokes, nil
	}
	return out, strokes, nil
}

// changeOf makes the strokes that stand in the place of others, changed as value says: their size by a factor, their brush, whether
// they erase. The caller holds mu.
func (a *Asset) changeOf(e strata.Edit) (strata.Edit, error) {
	var change struct {
		Times float32      `json:"times,omitempty"` // the size
		Brush *brush.Brush `json:"brush,omitempty"`
		Erase *bool        `json:"erase,omitempty"`
		Own   *struct {
			*brush.Values
		} `json:"values,omitempty"` // empty for those of the layer
	}
	if err := json.Unmarshal(e.Value, &change); err != nil {
		return e, errors.New("a change of strokes has times, brush, erase or values")
	}
	e.With = nil
	for _, n := range e.Strokes {
		old := a.strokes[max(n, -n)]
		if old == nil {
			return e, errors.New("those strokes are not there any more")
		}
		s := *old
		if change.Times != 0 {
			s.Size *= change.Times
		}
		if change.Brush != nil {
			s.Brush = *change.Brush
		}
		if change.Erase != nil {
			s.Erase = *change.Erase
		}
		if change.Own != nil {
			s.Own = change.Own.Values
		}
		if err := s.Check(); err != nil {
			return e, err
		}
		if err := a.studio.attach(&s); err != nil {
			return e, err
		}
		to := a.studio.nextStroke()
		a.keepStroke(to, &s)
		e.With = append(e.With, to)
	}
	return e, nil
}

// bringStrokes gives strokes that are pasted from another asset numbers of this one's. The caller holds mu.
func (a *Asset) bringStrokes(e strata.Edit) (strata.Edit, error) {
	var clip strata.Clip
	if json.Unmarshal(e.Value, &clip) != nil {
		return e, nil // which the edit itself refuses, in its own words
	}
	brought := false
	lists := clip.Strokes()
	for _, list := range lists {
		next := make(strata.Strokes, 0, len(*list))
		for _, n := range *list {
			if a.strokes[max(n, -n)] != nil {
				next = append(next, n)
				continue
			}
			row, err := a.studio.Store.Stroke(max(n, -n))
			if errors.Is(err, store.ErrNone) {
				continue
			}
			if err != nil {
				return e, err
			}
			s, err := brush.Decode(row.Data)
			if err == nil {
				err = a.studio.attach(s)
			}
			if err != nil {
				return e, err
			}
			to := a.studio.nextStroke()
			a.keepStroke(to, s)
			brought = true
			if n < 0 {
				to = -to
			}
			next = append(next, to)
		}
		*list = next
	}
	if !brought {
		return e, nil
	}
	value, err := json.Marshal(clip)
	e.Value = value
	return e, err
}

package strata

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"crust/internal/core/brush"
	"crust/internal/core/field"
	"crust/internal/core/plain"
)

// MaxStrokes bounds the strokes of a clause.
const MaxStrokes = 50_000

// Strokes lists strokes by their numbers, in the order in which they were laid; those that are hidden are below 0. A list that
// is part of a document is never changed in place. As text it is like “1-40 43 !44”, with runs of numbers and what is hidden marked.
type Strokes []int32

// MarshalText writes the list.
func (s Strokes) MarshalText() ([]byte, error) {
	var out []byte
	for i := 0; i < len(s); {
		j := i
		for s[i] > 0 && j+1 < len(s) && s[j+1] == s[j]+1 {
			j++
		}
		if i > 0 {
			out = append(out, ' ')
		}
		n := s[i]
		if n < 0 {
			out, n = append(out, '!'), -n
		}
		out = strconv.AppendInt(out, int64(n), 10)
		if j > i {
			out = append(out, '-')
			out = strconv.AppendInt(out, int64(s[j]), 10)
		}
		i = j + 1
	}
	return out, nil
}

// UnmarshalText reads the list.
func (s *Strokes) UnmarshalText(text []byte) error {
	*s = nil
	for _, word := range strings.Fields(string(text)) {
		rest, hidden := strings.CutPrefix(word, "!")
		first, last, run := strings.Cut(rest, "-")
		a, err := strconv.ParseInt(first, 10, 32)
		b := a
		if run && err == nil {
			b, err = strconv.ParseInt(last, 10, 32)
		}
		if err != nil || a < 1 || b < a || hidden && run || len(*s)+int(b-a)+1 > MaxStrokes {
			return fmt.Errorf("“%s” is no list of strokes", word)
		}
		for n := a; n <= b; n++ {
			if hidden {
				*s = append(*s, int32(-n))
			} else {
				*s = append(*s, int32(n))
			}
		}
	}
	return nil
}

// all lists the strokes, hidden or not.
func (s Strokes) all() map[int32]bool {
	out := make(map[int32]bool, len(s))
	for _, n := range s {
		out[max(n, -n)] = true
	}
	return out
}

// Numbers lists the strokes of all clauses, each once, hidden or not.
func (d *Document) Numbers() []int32 {
	var out []int32
	for i := range d.Layers {
		for k := range d.Layers[i].Where {
			for _, n := range d.Layers[i].Where[k].Strokes {
				out = append(out, max(n, -n))
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// swap is an operation on a clause's strokes: at a place some went, and others came.
type swap struct {
	After int32   `json:"after,omitempty"` // the stroke before them, 0 for none
	Gone  Strokes `json:"gone,omitempty"`
	Come  Strokes `json:"come,omitempty"`
}

// swapOf finds what makes one list of another.
func swapOf(from, to Strokes) (w swap, differ bool) {
	if slices.Equal(from, to) {
		return w, false
	}
	n := 0
	for n < len(from) && n < len(to) && from[n] == to[n] {
		n++
	}
	k := 0
	for k < len(from)-n && k < len(to)-n && from[len(from)-1-k] == to[len(to)-1-k] {
		k++
	}
	if n > 0 {
		w.After = max(from[n-1], -from[n-1])
	}
	w.Gone, w.Come = slices.Clone(from[n:len(from)-k]), slices.Clone(to[n:len(to)-k])
	return w, true
}

// on makes the change in a list; what others have put there or taken away meanwhile stays so.
func (w *swap) on(s Strokes) Strokes {
	gone, come := w.Gone.all(), w.Come.all()
	have := s.all()
	out := make(Strokes, 0, len(s)+len(w.Come))
	at := 0
	for _, n := range s {
		mark := max(n, -n)
		if !gone[mark] && !come[mark] {
			out = append(out, n)
		}
		if mark == w.After {
			at = len(out)
		}
	}
	if w.After != 0 && !have[w.After] {
		at = len(out)
	}
	var fresh Strokes
	for _, n := range w.Come {
		// One that went and comes back, as hidden, has to be there still; one that comes anew, not yet.
		if mark := max(n, -n); have[mark] == gone[mark] {
			fresh = append(fresh, n)
		}
	}
	return slices.Insert(out, at, fresh...)
}

// strokes finds the clause of an edit of strokes.
func (d *Document) strokesOf(e Edit) (*Layer, *Clause, error) {
	l, i, err := d.clause(e)
	if err != nil {
		return nil, nil, err
	}
	c := &l.Where[i]
	if k, err := field.KindOf(c.Kind); err == nil && k.Strokes {
		return l, c, nil
	}
	return nil, nil, fmt.Errorf("strokes are laid in a clause that is painted, not in %s", c.Kind)
}

// howMany names strokes for undo.
func howMany(n int) string {
	if n == 1 {
		return "stroke"
	}
	return fmt.Sprintf("%d strokes", n)
}

// verbs are what single strokes do, for undo, by the kind that an edit names; others paint.
var verbs = map[string]string{"erase": "Erase", "stamp": "Stamp", brush.WorkSoften: "Soften", brush.WorkSmudge: "Smudge", brush.WorkClone: "Clone"}

// addStrokes lays strokes over those of a clause.
func addStrokes(d *Document, e Edit) (string, string, error) {
	l, c, err := d.strokesOf(e)
	if err != nil {
		return "", "", err
	}
	if len(e.Strokes) == 0 {
		return "", "", errors.New("no strokes are named")
	}
	c.Strokes = slices.Concat(c.Strokes, e.Strokes)
	if verb := verbs[e.Kind]; verb != "" {
		return verb + " on " + l.Name, l.ID, nil
	}
	return "Paint " + howMany(len(e.Strokes)) + " on " + l.Name, l.ID, nil
}

// eachStroke is an edit that changes the named strokes one by one; those for which f says so are kept.
func eachStroke(verb string, f func(n int32) (to int32, kept bool)) func(d *Document, e Edit) (string, string, error) {
	return func(d *Document, e Edit) (string, string, error) {
		l, c, err := d.strokesOf(e)
		if err != nil {
			return "", "", err
		}
		of, next, n := e.Strokes.all(), make(Strokes, 0, len(c.Strokes)), 0
		for _, k := range c.Strokes {
			kept := true
			if of[max(k, -k)] {
				n++
				k, kept = f(k)
			}
			if kept {
				next = append(next, k)
			}
		}
		if n == 0 {
			return "", "", errGone
		}
		c.Strokes = next
		return verb + " " + howMany(n) + " of " + l.Name, l.ID, nil
	}
}

var errGone = errors.New("those strokes are not there any more")

// changeStrokes puts other strokes in the places of some.
func changeStrokes(d *Document, e Edit) (string, string, error) {
	if len(e.Strokes) != len(e.With) {
		return "", "", errors.New("each stroke that is changed needs one in its place")
	}
	with := map[int32]int32{}
	for i, n := range e.Strokes {
		with[max(n, -n)] = e.With[i]
	}
	return eachStroke("Change", func(n int32) (int32, bool) {
		if n < 0 {
			return -with[-n], true
		}
		return with[n], true
	})(d, e)
}

// Painting is strokes by their numbers.
type Painting map[int32]*brush.Stroke

// pull takes strokes that are written in full out of a tree of JSON, leaves their numbers there, and gives what it took.
func pull(root any) (Painting, error) {
	m, _ := root.(map[string]any)
	var out Painting
	alphas := map[string]*brush.Alpha{}
	if given, ok := m["alphas"]; ok {
		delete(m, "alphas")
		text, err := json.Marshal(given)
		if err == nil {
			err = strictly(text, &alphas)
		}
		if err != nil {
			return nil, errors.New("alphas: they are the pictures of brushes by their hashes, each with side and grey")
		}
		for hash, a := range alphas {
			if a == nil {
				return nil, fmt.Errorf("alphas.%s: it is empty", hash)
			}
			if err := a.Check(); err != nil {
				return nil, fmt.Errorf("alphas.%s: %w", hash, err)
			}
		}
	}
	for i, l := range list(m["layers"]) {
		layer, _ := l.(map[string]any)
		for k, c := range list(layer["where"]) {
			clause, _ := c.(map[string]any)
			all, ok := clause["strokes"].([]any)
			if !ok {
				continue
			}
			var numbers Strokes
			for n, s := range all {
				fault := func(err error) error {
					return fmt.Errorf("layers[%d].where[%d].strokes[%d]: %w", i, k, n, err)
				}
				stroke, hidden, err := readStroke(s)
				if err != nil {
					return nil, fault(err)
				}
				err = stroke.Fetch(func(hash string) (*brush.Alpha, error) {
					if a := alphas[hash]; a != nil {
						return a, nil
					}
					return nil, fmt.Errorf("the picture %s of its brush or stencil is not among the alphas", hash)
				})
				if err != nil {
					return nil, fault(err)
				}
				if out == nil {
					out = Painting{}
				}
				number := int32(len(out) + 1)
				out[number] = stroke
				if hidden {
					number = -number
				}
				numbers = append(numbers, number)
			}
			text, _ := numbers.MarshalText()
			clause["strokes"] = string(text)
		}
	}
	return out, nil
}

// written is a stroke in a file: its brush by name or in full.
type written struct {
	Brush  json.RawMessage `json:"brush"`
	Size   float32         `json:"size"`
	Erase  bool            `json:"erase,omitempty"`
	Seed   uint32          `json:"seed,omitempty"`
	Hold   *brush.Hold     `json:"hold,omitempty"`
	Mirror *brush.Again    `json:"mirror,omitempty"`
	Fill   string          `json:"fill,omitempty"`
	Values *brush.Values   `json:"values,omitempty"`
	Stamp  *brush.Stamp    `json:"stamp,omitempty"`
	Cut    *brush.Stencil  `json:"stencil,omitempty"`
	Work   string          `json:"work,omitempty"`
	Source *brush.Point    `json:"source,omitempty"`
	Hidden bool            `json:"hidden,omitempty"`
	Paths  [][]brush.Point `json:"paths"`
}

func readStroke(tree any) (*brush.Stroke, bool, error) {
	text, err := json.Marshal(tree)
	if err != nil {
		return nil, false, err
	}
	var w written
	if err := strictly(text, &w); err != nil {
		return nil, false, fmt.Errorf("a stroke has brush, size, erase, seed, hold, mirror, fill, values, stamp, stencil, work, source, hidden and paths: %w", plain.JSON(err))
	}
	s := &brush.Stroke{Brush: brush.New(), Size: w.Size, Erase: w.Erase, Seed: w.Seed, Hold: w.Hold, Again: w.Mirror, Fill: w.Fill, Own: w.Values, Stamp: w.Stamp, Stencil: w.Cut, Work: w.Work, Source: w.Source, Paths: w.Paths}
	var name string
	switch {
	case len(w.Brush) == 0:
	case json.Unmarshal(w.Brush, &name) == nil:
		if s.Brush, err = brush.BuiltIn(name); err != nil {
			return nil, false, err
		}
	default:
		if err := strictly(w.Brush, &s.Brush); err != nil {
			return nil, false, errors.New("a brush is the name of one that ships, or an object with its numbers")
		}
	}
	return s, w.Hidden, s.Check()
}

// InFull is the document as a file holds it: with its strokes in place of their numbers. Those that are not there are left out.
func (d *Document) InFull(stroke func(number int32) (*brush.Stroke, error)) (any, error) {
	var tree map[string]any
	if err := json.Unmarshal(encode(d), &tree); err != nil {
		return nil, err
	}
	alphas := map[string]*brush.Alpha{}
	for i := range d.Layers {
		for k := range d.Layers[i].Where {
			c := &d.Layers[i].Where[k]
			if len(c.Strokes) == 0 {
				continue
			}
			all := []written{}
			for _, n := range c.Strokes {
				s, err := stroke(max(n, -n))
				if err != nil {
					return nil, err
				}
				if s == nil {
					continue
				}
				maps.Copy(alphas, s.Pictures())
				w := written{Brush: encode(s.Brush), Size: s.Size, Erase: s.Erase, Seed: s.Seed, Hold: s.Hold, Mirror: s.Again, Fill: s.Fill, Values: s.Own, Stamp: s.Stamp, Cut: s.Stencil, Work: s.Work, Source: s.Source, Hidden: n < 0, Paths: s.Paths}
				if b, err := brush.BuiltIn(s.Brush.Name); err == nil && b == s.Brush {
					w.Brush = encode(b.Name)
				}
				all = append(all, w)
			}
			list(list(tree["layers"])[i].(map[string]any)["where"])[k].(map[string]any)["strokes"] = all
		}
	}
	if len(alphas) > 0 {
		tree["alphas"] = alphas
	}
	return tree, nil
}

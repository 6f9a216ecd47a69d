package strata

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"crust/internal/core/light"
)

// Op is one small change of a document. It finds its place by marks, so that it holds wherever others have put things
// meanwhile.
type Op struct {
	Do     string          `json:"do"`               // put, cut, move, set, stroke or next
	Layer  string          `json:"layer,omitempty"`  // its mark
	Clause string          `json:"clause,omitempty"` // its mark, when it is about a clause of the layer
	Path   string          `json:"path,omitempty"`   // of what is set, with dots
	After  string          `json:"after,omitempty"`  // put, move: what lies right below, for clauses right before; none is the first place
	From   string          `json:"from,omitempty"`   // move: the same before
	Value  json.RawMessage `json:"value,omitempty"`  // what is put or set; null takes a field away
	Was    json.RawMessage `json:"was,omitempty"`    // what was set before; what is cut
}

// Diff finds the operations that make one document of another.
func Diff(from, to *Document) (ops []Op) {
	if from.Next != to.Next {
		ops = append(ops, Op{Do: "next", Value: encode(to.Next)})
	}
	if from.Look != nil || to.Look != nil {
		ops = append(ops, changes(Op{Do: "set"}, looked{from.Look}, looked{to.Look})...)
	}
	ops = append(ops, reorder(marksOf(from.Layers), marksOf(to.Layers), "", func(mark string) json.RawMessage {
		l, _, err := to.Layer(mark)
		if err != nil {
			l, _, _ = from.Layer(mark)
		}
		return encode(l)
	})...)
	for i := range to.Layers {
		l := &to.Layers[i]
		old, _, err := from.Layer(l.ID)
		if err != nil || old.equal(l) {
			continue
		}
		a, b := *old, *l
		a.Where, b.Where = nil, nil
		ops = append(ops, changes(Op{Do: "set", Layer: l.ID}, a, b)...)
		clause := func(in []Clause, mark string) *Clause {
			return &in[slices.IndexFunc(in, func(c Clause) bool { return c.ID == mark })]
		}
		had, has := marksOfClauses(old.Where), marksOfClauses(l.Where)
		ops = append(ops, reorder(had, has, l.ID, func(mark string) json.RawMessage {
			if slices.Contains(has, mark) {
				return encode(clause(l.Where, mark))
			}
			return encode(clause(old.Where, mark))
		})...)
		for _, mark := range has {
			if slices.Contains(had, mark) {
				a, b := *clause(old.Where, mark), *clause(l.Where, mark)
				if w, differ := swapOf(a.Strokes, b.Strokes); differ {
					ops = append(ops, Op{Do: "stroke", Layer: l.ID, Clause: mark, Value: encode(w)})
				}
				a.Strokes, b.Strokes = nil, nil
				ops = append(ops, changes(Op{Do: "set", Layer: l.ID, Clause: mark}, a, b)...)
			}
		}
	}
	return ops
}

// looked is what of a document is set without a layer.
type looked struct {
	Look *light.Setup `json:"look,omitempty"`
}

// equal compares two layers, an absent list like an empty one.
func (l *Layer) equal(o *Layer) bool {
	return l.ID == o.ID && l.Name == o.Name && l.Group == o.Group && l.In == o.In && l.Flat == o.Flat && l.Blend == o.Blend && l.Locked == o.Locked && l.Finish.equal(o.Finish) && l.Hidden == o.Hidden && l.Clip == o.Clip && l.Opacity == o.Opacity && l.What.equal(&o.What) && l.Soften == o.Soften && slices.Equal(l.Targets, o.Targets) && slices.Equal(l.Parts, o.Parts) &&
		slices.EqualFunc(l.Where, o.Where, func(a, b Clause) bool { return a.equal(&b) })
}

func (c *Clause) equal(o *Clause) bool {
	return c.ID == o.ID && c.Kind == o.Kind && c.Join == o.Join && c.Off == o.Off && c.Shape == o.Shape && maps.Equal(c.Params, o.Params) && slices.Equal(c.Parts, o.Parts) && slices.Equal(c.Layers, o.Layers) &&
		slices.Equal(c.IDs, o.IDs) && slices.Equal(c.Strokes, o.Strokes) && c.Source.equal(o.Source)
}

func (w *What) equal(o *What) bool {
	return !slices.ContainsFunc(Channels, func(ch Channel) bool { return !ch.Of(w).equal(ch.Of(o)) })
}

func (l *Laid) equal(o *Laid) bool {
	if l == nil || o == nil {
		return l == o
	}
	return l.Name == o.Name && l.Diagonal == o.Diagonal && l.Next == o.Next && maps.Equal(l.Dials, o.Dials) && maps.Equal(l.Marks, o.Marks) && bytes.Equal(l.Own, o.Own)
}

func marksOf(layers []Layer) []string {
	out := make([]string, len(layers))
	for i := range layers {
		out[i] = layers[i].ID
	}
	return out
}

func marksOfClauses(where []Clause) []string {
	out := make([]string, len(where))
	for i := range where {
		out[i] = where[i].ID
	}
	return out
}

func encode(v any) json.RawMessage {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // a document always encodes
	}
	return b
}

// reorder finds what is to be cut, put and moved, of layers or, when layer is named, of its clauses.
func reorder(from, to []string, layer string, whole func(mark string) json.RawMessage) (ops []Op) {
	op := func(do, mark string) Op {
		if layer == "" {
			return Op{Do: do, Layer: mark}
		}
		return Op{Do: do, Layer: layer, Clause: mark}
	}
	before := func(in []string, i int) string {
		if i == 0 {
			return ""
		}
		return in[i-1]
	}
	now := slices.Clone(from)
	for i := len(now) - 1; i >= 0; i-- { // from the top, so that each finds what lay below it when it is put back
		if !slices.Contains(to, now[i]) {
			o := op("cut", now[i])
			o.Was, o.After = whole(now[i]), before(now, i)
			ops = append(ops, o)
			now = slices.Delete(now, i, i+1)
		}
	}
	for i, mark := range to {
		at := slices.Index(now, mark)
		switch {
		case at < 0:
			o := op("put", mark)
			o.Value, o.After = whole(mark), before(to, i)
			ops = append(ops, o)
			now = slices.Insert(now, i, mark)
		case at != i:
			o := op("move", mark)
			o.From, o.After = before(now, at), before(to, i)
			ops = append(ops, o)
			now = slices.Insert(slices.Delete(now, at, at+1), i, mark)
		}
	}
	return ops
}

// changes finds the fields that differ, down to single values.
func changes(op Op, from, to any) (ops []Op) {
	var a, b map[string]any
	_ = json.Unmarshal(encode(from), &a)
	_ = json.Unmarshal(encode(to), &b)
	var walk func(path string, a, b map[string]any)
	walk = func(path string, a, b map[string]any) {
		keys := sortedKeys(a)
		for _, k := range sortedKeys(b) {
			if _, ok := a[k]; !ok {
				keys = append(keys, k)
			}
		}
		for _, k := range keys {
			x, y := a[k], b[k]
			if reflect.DeepEqual(x, y) {
				continue
			}
			xm, ok := x.(map[string]any)
			ym, too := y.(map[string]any)
			if ok && too {
				walk(path+k+".", xm, ym)
				continue
			}
			o := op
			o.Path, o.Was, o.Value = path+k, encode(x), encode(y)
			ops = append(ops, o)
		}
	}
	walk("", a, b)
	return ops
}

// Invert lists the operations that take others back.
func Invert(ops []Op) []Op {
	out := make([]Op, 0, len(ops))
	for i := len(ops) - 1; i >= 0; i-- {
		o := ops[i]
		switch o.Do {
		case "next":
			continue // marks are not given twice
		case "put":
			o.Do, o.Was, o.Value = "cut", o.Value, nil
		case "cut":
			o.Do, o.Value, o.Was = "put", o.Was, nil
		case "move":
			o.From, o.After = o.After, o.From
		case "set":
			o.Value, o.Was = o.Was, o.Value
		case "stroke":
			var w swap
			if json.Unmarshal(o.Value, &w) == nil {
				w.Gone, w.Come = w.Come, w.Gone
				o.Value = encode(w)
			}
		}
		out = append(out, o)
	}
	return out
}

// Patch makes the changes of operations and returns the document after them. What has gone meanwhile, and fields that hold
// something else than when the operation was made, are passed over: what others made since stays.
func (d *Document) Patch(ops []Op) (*Document, error) {
	next := d.Clone()
	for i := range ops {
		if err := next.patch(&ops[i]); err != nil {
			return nil, fmt.Errorf("operation %d (%s of %s): %w", i, ops[i].Do, ops[i].Layer, err)
		}
	}
	next.settle()
	return next, next.Check()
}

func (d *Document) patch(o *Op) error {
	if o.Do == "next" {
		var n int
		err := json.Unmarshal(o.Value, &n)
		d.Next = max(d.Next, n)
		return err
	}
	if o.Do == "set" && o.Layer == "" {
		var to looked
		err := set(looked{d.Look}, &to, o)
		if err == nil {
			d.Look = to.Look
		}
		return err
	}
	l, _, err := d.Layer(o.Layer)
	missing := err != nil
	if o.Clause == "" {
		if o.Do == "set" {
			if missing {
				return nil
			}
			where := l.Where
			l.Where = nil
			changed := Layer{}
			err := set(*l, &changed, o)
			l.Where = where
			if changed.ID == l.ID && err == nil {
				changed.Where = where
				*l = changed
			}
			return err
		}
		d.Layers, err = arrange(d.Layers, o, o.Layer, func(l *Layer) string { return l.ID })
		return err
	}
	if missing {
		return nil
	}
	at := slices.IndexFunc(l.Where, func(c Clause) bool { return c.ID == o.Clause })
	switch {
	case o.Do == "set" && at >= 0:
		is, changed := l.Where[at], Clause{}
		strokes := is.Strokes
		is.Strokes = nil
		err := set(is, &changed, o)
		if changed.ID == o.Clause && err == nil {
			changed.Strokes = strokes
			l.Where[at] = changed
		}
		return err
	case o.Do == "stroke" && at >= 0:
		var w swap
		err := json.Unmarshal(o.Value, &w)
		if err == nil {
			l.Where[at].Strokes = w.on(l.Where[at].Strokes)
		}
		return err
	case o.Do == "set" || o.Do == "stroke":
		return nil
	}
	l.Where, err = arrange(l.Where, o, o.Clause, func(c *Clause) string { return c.ID })
	return err
}

// arrange puts, cuts or moves the element of a mark.
func arrange[T any](in []T, o *Op, mark string, of func(*T) string) ([]T, error) {
	find := func(mark string) int { return slices.IndexFunc(in, func(v T) bool { return of(&v) == mark }) }
	at := find(mark)
	var v T
	switch o.Do {
	case "put":
		if at >= 0 {
			return in, nil
		}
		if err := json.Unmarshal(o.Value, &v); err != nil {
			return in, err
		}
		if of(&v) != mark {
			return in, fmt.Errorf("it holds another mark")
		}
	case "cut":
		if at >= 0 {
			in = slices.Delete(in, at, at+1)
		}
		return in, nil
	case "move":
		if at < 0 {
			return in, nil
		}
		v = in[at]
		in = slices.Delete(in, at, at+1)
	default:
		return in, fmt.Errorf("“%s” is not an operation", o.Do)
	}
	to := 0
	if o.After != "" {
		if to = find(o.After) + 1; to == 0 {
			to = len(in) // what it lay on has gone
		}
	}
	return slices.Insert(in, to, v), nil
}

// set copies from into to with the value at the operation's path replaced, when it is what the operation found there.
func set(from, to any, o *Op) error {
	var tree map[string]any
	if err := json.Unmarshal(encode(from), &tree); err != nil {
		return err
	}
	at := tree
	keys := strings.Split(o.Path, ".")
	last := keys[len(keys)-1]
	for _, k := range keys[:len(keys)-1] {
		next, ok := at[k].(map[string]any)
		if !ok {
			next = map[string]any{}
			at[k] = next
		}
		at = next
	}
	if bytes.Equal(encode(at[last]), o.Was) {
		if at[last] = o.Value; string(o.Value) == "null" {
			delete(at, last)
		}
	}
	return json.Unmarshal(encode(tree), to)
}

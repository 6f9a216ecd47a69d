package finish

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"crust/internal/core/field"
	"crust/internal/core/plain"
	"crust/internal/core/strata"
)

// Limits of a finish.
const (
	MaxBytes  = 1 << 20
	MaxLayers = 100
	MaxDials  = 12
)

// Dial moves several parameters of a finish at once.
type Dial struct {
	Name    string  `json:"name"`
	Label   string  `json:"label"`
	Min     float64 `json:"min"`
	Max     float64 `json:"max"`
	Default float64 `json:"default"`
	Help    string  `json:"help"`
}

// Drive is how a dial moves one parameter: by as much as the curve at the dial's value differs from the curve at the dial's
// default. A colour takes the colour at the dial's value instead.
type Drive struct {
	Dial    string       `json:"dial"`
	Path    string       `json:"path"`              // mark of the layer, then its fields with dots; clauses by their place
	Curve   [][2]float64 `json:"curve,omitempty"`   // dial and value, straight between
	Colours []Stop       `json:"colours,omitempty"` // the same for colours
}

// Stop is a colour at a dial's value.
type Stop struct {
	At  float64 `json:"at"`
	Hex string  `json:"hex"`
}

// Finish is layers and dials that move their parameters, written for a model of some size.
type Finish struct {
	Name   string   `json:"name"`
	Title  string   `json:"title"`
	Help   string   `json:"help"`
	Tags   []string `json:"tags,omitempty"`
	Metres float64  `json:"metres"` // diagonal of the model that lengths are written for
	Dials  []Dial   `json:"dials"`
	// Layers are as in a document (docs/strata.md), lowest first.
	Layers json.RawMessage `json:"layers"`
	Drives []Drive         `json:"drives,omitempty"`
}

// Parse reads a finish from a file and checks it with every dial at both ends. What is wrong is named by its path.
func Parse(data []byte) (_ *Finish, err error) {
	defer plain.Speak(&err)
	if len(data) > MaxBytes {
		return nil, fmt.Errorf("the finish has %d kB; %d kB is the limit", len(data)>>10, MaxBytes>>10)
	}
	f := new(Finish)
	r := json.NewDecoder(bytes.NewReader(data))
	r.DisallowUnknownFields()
	if err := r.Decode(f); err != nil {
		var kind *json.UnmarshalTypeError
		var syntax *json.SyntaxError
		switch {
		case errors.As(err, &kind):
			return nil, fmt.Errorf("%s: a %s does not belong there", kind.Field, kind.Value)
		case errors.As(err, &syntax):
			return nil, plain.JSON(err)
		case strings.HasPrefix(err.Error(), "json: unknown field"):
			return nil, fmt.Errorf("%s is not known here; use name, title, help, tags, metres, dials, layers, drives", strings.TrimPrefix(err.Error(), "json: unknown field "))
		}
		return nil, plain.JSON(err)
	}
	if _, err := r.Token(); err != io.EOF {
		return nil, fmt.Errorf("byte %d: more follows the finish", r.InputOffset())
	}
	return f, f.Check()
}

// Check says the first thing that is wrong with a finish.
func (f *Finish) Check() error {
	for _, c := range []struct {
		path, text string
		least      int
	}{{"name", f.Name, 1}, {"title", f.Title, 1}, {"help", f.Help, 0}} {
		if len(strings.TrimSpace(c.text)) < c.least || len(c.text) > 300 {
			return fmt.Errorf("%s: it has %d to 300 letters", c.path, c.least)
		}
	}
	if !(f.Metres > 0.001 && f.Metres < 10000) {
		return fmt.Errorf("metres: %g is no size of a model; it goes from 0.001 to 10000", f.Metres)
	}
	if len(f.Dials) > MaxDials {
		return fmt.Errorf("dials: %d are more than %d", len(f.Dials), MaxDials)
	}
	for i, d := range f.Dials {
		if d.Name == "" || !(d.Min < d.Max && d.Default >= d.Min && d.Default <= d.Max) || math.IsInf(d.Max-d.Min, 0) {
			return fmt.Errorf("dials[%d]: it needs a name, and min ≤ default ≤ max", i)
		}
	}
	for i, d := range f.Drives {
		if f.dial(d.Dial) == nil {
			return fmt.Errorf("drives[%d].dial: there is no dial “%s”", i, d.Dial)
		}
		if len(d.Curve)+len(d.Colours) == 0 {
			return fmt.Errorf("drives[%d]: it needs a curve or colours", i)
		}
	}
	trials := []map[string]float64{nil}
	for _, d := range f.Dials {
		trials = append(trials, map[string]float64{d.Name: d.Min}, map[string]float64{d.Name: d.Max})
	}
	for _, dials := range trials {
		d := new(strata.Document)
		var err error
		if d.Layers, err = f.Lay(d, dials, f.Metres); err != nil {
			return err
		}
	}
	return nil
}

func (f *Finish) dial(name string) *Dial {
	for i := range f.Dials {
		if f.Dials[i].Name == name {
			return &f.Dials[i]
		}
	}
	return nil
}

// scaleDial is the name of the dial that makes all lengths larger, where a finish has one.
const scaleDial = "scale"

// Lay makes the finish's layers, lowest first, for a model with the given diagonal in metres. Dials that are not given stand
// at their defaults; unknown names and values out of range are refused.
func (f *Finish) Lay(d *strata.Document, dials map[string]float64, diagonal float64) ([]strata.Layer, error) {
	at := map[string]float64{}
	for _, k := range f.Dials {
		at[k.Name] = k.Default
	}
	for _, name := range slices.Sorted(maps.Keys(dials)) {
		k, v := f.dial(name), dials[name]
		if k == nil {
			return nil, fmt.Errorf("“%s” has no dial “%s”", f.Title, name)
		}
		if !(v >= k.Min && v <= k.Max) {
			return nil, fmt.Errorf("dial “%s” is %g; it goes from %g to %g", name, v, k.Min, k.Max)
		}
		at[name] = v
	}
	doc, err := f.driven(at)
	if err != nil {
		return nil, err
	}
	size := max(0.05, diagonal) / f.Metres
	scale := 1.0
	if v, ok := at[scaleDial]; ok {
		scale = v
	}
	for i := range doc.Layers {
		fit(&doc.Layers[i], size, scale)
	}
	// Marks of their own, in the order of the list.
	marks := map[string]string{}
	for i := range doc.Layers {
		marks[doc.Layers[i].ID] = d.Mark("l")
	}
	for i := range doc.Layers {
		l := &doc.Layers[i]
		l.ID, l.In = marks[l.ID], marks[l.In]
		for k := range l.Where {
			c := &l.Where[k]
			c.ID = d.Mark("c")
			for n, m := range c.Layers {
				c.Layers[n] = marks[m]
			}
		}
	}
	return doc.Layers, nil
}

// base is the finish's document as it is written, with its own marks.
func (f *Finish) base() (*strata.Document, error) {
	d, painted, err := strata.ParseFile(slices.Concat([]byte(`{"layers":`), f.Layers, []byte("}")))
	if err == nil && painted != nil {
		return nil, errors.New("a finish holds no strokes: they belong to one model")
	}
	return d, err
}

// driven is the finish's document with its dials at some values.
func (f *Finish) driven(at map[string]float64) (*strata.Document, error) {
	base, err := f.base()
	if err != nil {
		return nil, err
	}
	if n := len(base.Layers); n == 0 || n > MaxLayers {
		return nil, fmt.Errorf("layers: %d are there; a finish has 1 to %d", n, MaxLayers)
	}
	var tree []any
	text, err := json.Marshal(base.Layers)
	if err == nil {
		err = json.Unmarshal(text, &tree)
	}
	if err != nil {
		return nil, err
	}
	for i, dr := range f.Drives {
		to, key, err := find(tree, dr.Path)
		if err != nil {
			return nil, fmt.Errorf("drives[%d].path: %w", i, err)
		}
		v := at[dr.Dial]
		if dr.Colours != nil {
			to[key] = colourAt(dr.Colours, v)
			continue
		}
		was, _ := to[key].(float64)
		to[key] = was + curveAt(dr.Curve, v) - curveAt(dr.Curve, f.dial(dr.Dial).Default)
	}
	for _, l := range tree {
		within(l)
	}
	if text, err = json.Marshal(tree); err != nil {
		return nil, err
	}
	doc := new(strata.Document)
	if err := json.Unmarshal(text, &doc.Layers); err != nil {
		return nil, errors.New("drives: one of them gives a number where text belongs, or the other way round")
	}
	return doc, doc.Check()
}

// within keeps to their ranges what several dials may have pushed beyond, and whole what lies between two choices.
func within(layer any) {
	l, _ := layer.(map[string]any)
	keep := func(m map[string]any, key string, low, high float64) {
		if v, ok := m[key].(float64); ok {
			m[key] = min(high, max(low, v))
		}
	}
	keep(l, "opacity", 0, 1)
	what, _ := l["what"].(map[string]any)
	for _, ch := range strata.Channels {
		if v, ok := what[ch.Name].(map[string]any); ok {
			keep(v, "opacity", 0, 1)
			keep(v, "number", float64(ch.Min), float64(ch.Max))
		}
	}
	where, _ := l["where"].([]any)
	for _, c := range where {
		c, _ := c.(map[string]any)
		params, _ := c["params"].(map[string]any)
		if name, _ := c["kind"].(string); params != nil {
			if kind, err := field.KindOf(name); err == nil {
				for _, p := range kind.Params {
					keep(params, p.Name, p.Min, p.Max)
					if v, ok := params[p.Name].(float64); ok && p.Whole {
						params[p.Name] = math.Round(v)
					}
				}
			}
		}
		if s, ok := c["shape"].(map[string]any); ok {
			for _, key := range []string{"low", "high", "balance", "contrast", "strength"} {
				keep(s, key, 0, 1)
			}
		}
	}
}

// find is the map and its key that a path leads to.
func find(layers []any, path string) (map[string]any, string, error) {
	keys := strings.Split(path, ".")
	var at any
	for _, l := range layers {
		if m, ok := l.(map[string]any); ok && m["id"] == keys[0] {
			at = m
		}
	}
	if at == nil || len(keys) < 2 {
		return nil, "", fmt.Errorf("“%s” begins with the mark of no layer", path)
	}
	last := len(keys) - 1
	for _, k := range keys[1:last] {
		switch v := at.(type) {
		case map[string]any:
			at = v[k]
			if at == nil {
				at = map[string]any{}
				v[k] = at
			}
		case []any:
			i, err := strconv.Atoi(k)
			if err != nil || i < 0 || i >= len(v) {
				return nil, "", fmt.Errorf("“%s”: there is no clause %s", path, k)
			}
			at = v[i]
		}
	}
	m, ok := at.(map[string]any)
	if !ok {
		return nil, "", fmt.Errorf("“%s” leads to no value", path)
	}
	return m, keys[last], nil
}

func curveAt(c [][2]float64, x float64) float64 {
	i := 0
	for i < len(c) && c[i][0] < x {
		i++
	}
	switch {
	case i == 0:
		return c[0][1]
	case i == len(c):
		return c[len(c)-1][1]
	}
	a, b := c[i-1], c[i]
	return a[1] + (b[1]-a[1])*(x-a[0])/(b[0]-a[0])
}

func colourAt(stops []Stop, x float64) string {
	var out [3]int
	for k := range out {
		curve := make([][2]float64, len(stops))
		for i, s := range stops {
			rgb, err := strata.ParseHex(s.Hex)
			if err != nil {
				return s.Hex // which the document's own check refuses
			}
			curve[i] = [2]float64{s.At, float64(rgb[k]) * 255}
		}
		out[k] = int(curveAt(curve, x) + 0.5)
	}
	return fmt.Sprintf("#%02x%02x%02x", out[0], out[1], out[2])
}

// fit brings the lengths of a layer to a model that is so many times as large; scale does it for all but places on the model.
func fit(l *strata.Layer, size, scale float64) {
	l.Soften = float32(longer(float64(l.Soften), size*scale, 0, 20))
	h := &l.What.Height
	h.Number = float32(longer(float64(h.Number), size*scale, -50, 50))
	for k := range l.Where {
		c := &l.Where[k]
		for _, v := range []*float32{&c.Shape.Soften, &c.Shape.Warp, &c.Shape.Waves} {
			*v = float32(longer(float64(*v), size*scale, 0, 20))
		}
		kind, err := field.KindOf(c.Kind)
		if err != nil {
			continue
		}
		by := size * scale
		if c.Kind == "reach" {
			by = size
		}
		for _, p := range kind.Params {
			if v, ok := c.Params[p.Name]; ok && p.Unit == "m" {
				c.Params[p.Name] = longer(v, by, p.Min, p.Max)
			}
		}
	}
}

func longer(v, by, low, high float64) float64 { return min(high, max(low, v*by)) }

package strata

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Edit is one change of the document, as the page sends it.
type Edit struct {
	Do     string             `json:"do"`
	Layer  string             `json:"layer,omitempty"`
	Clause string             `json:"clause,omitempty"`
	Kind   string             `json:"kind,omitempty"`
	To     int                `json:"to,omitempty"`
	Path   string             `json:"path,omitempty"`
	Value  json.RawMessage    `json:"value,omitempty"`
	Dials  map[string]float64 `json:"dials,omitempty"`
}

// Apply makes the change and returns its label for undo, and the ID of the layer that it is about.
// On an error the document is as it was.
func (d *Document) Apply(e Edit) (label, layer string, err error) {
	do := edits[e.Do]
	if do == nil {
		return "", "", fmt.Errorf("“%s” is not an edit", e.Do)
	}
	next := d.Clone()
	if label, layer, err = do(next, e); err != nil {
		return "", "", err
	}
	if err := next.Check(); err != nil {
		return "", "", err
	}
	*d = *next
	return label, layer, nil
}

// edits is the table of what can be done to a document.
var edits = map[string]func(d *Document, e Edit) (label, layer string, err error){
	"add": func(d *Document, e Edit) (string, string, error) {
		at := len(d.Layers)
		if e.Layer != "" {
			_, i, err := d.Layer(e.Layer)
			if err != nil {
				return "", "", err
			}
			at = i + 1
		}
		l := d.NewLayer(d.freeName("Coat"))
		d.Layers = slices.Insert(d.Layers, at, l)
		return "Add " + l.Name, l.ID, nil
	},
	"delete": func(d *Document, e Edit) (string, string, error) {
		l, i, err := d.Layer(e.Layer)
		if err != nil {
			return "", "", err
		}
		label := "Delete " + l.Name
		d.Layers = slices.Delete(d.Layers, i, i+1)
		next := ""
		if len(d.Layers) > 0 {
			next = d.Layers[min(i, len(d.Layers)-1)].ID
		}
		return label, next, nil
	},
	"duplicate": func(d *Document, e Edit) (string, string, error) {
		l, i, err := d.Layer(e.Layer)
		if err != nil {
			return "", "", err
		}
		c := l.clone()
		c.ID, c.Name = d.id("l"), d.freeName(l.Name)
		for k := range c.Where {
			c.Where[k].ID = d.id("c")
		}
		label := "Duplicate " + l.Name
		d.Layers = slices.Insert(d.Layers, i+1, c)
		return label, c.ID, nil
	},
	"paste": func(d *Document, e Edit) (string, string, error) {
		var from Clip
		if err := strictly(e.Value, &from); err != nil || len(from.Layers) == 0 {
			return "", "", errors.New("what was copied holds no layers; copy some first")
		}
		at := len(d.Layers)
		if _, i, err := d.Layer(e.Layer); err == nil {
			at = i + 1
		}
		marks := map[string]string{}
		for i := range from.Layers {
			marks[from.Layers[i].ID] = d.id("l")
		}
		for i := range from.Layers {
			l := &from.Layers[i]
			l.ID, l.Name = marks[l.ID], d.freeName(l.Name)
			if l.Where == nil {
				l.Where = []Clause{}
			}
			d.adopt(l.Where, marks)
			d.Layers = slices.Insert(d.Layers, at+i, *l)
		}
		label := "Paste " + from.Layers[0].Name
		if n := len(from.Layers); n > 1 {
			label = fmt.Sprintf("Paste %d layers", n)
		}
		return label, from.Layers[len(from.Layers)-1].ID, nil
	},
	"where.paste": func(d *Document, e Edit) (string, string, error) {
		l, _, err := d.Layer(e.Layer)
		if err != nil {
			return "", "", err
		}
		var from Clip
		if err := strictly(e.Value, &from); err != nil || from.Where == nil {
			return "", "", errors.New("what was copied holds no Where; copy one first")
		}
		d.adopt(from.Where, nil)
		l.Where, l.Soften = from.Where, from.Soften
		return "Paste the Where of " + l.Name, l.ID, nil
	},
	"move": func(d *Document, e Edit) (string, string, error) {
		l, i, err := d.Layer(e.Layer)
		if err != nil {
			return "", "", err
		}
		c := *l
		d.Layers = slices.Delete(d.Layers, i, i+1)
		d.Layers = slices.Insert(d.Layers, max(0, min(e.To, len(d.Layers))), c)
		return "Move " + c.Name, c.ID, nil
	},
	"set": func(d *Document, e Edit) (string, string, error) {
		l, i, err := d.Layer(e.Layer)
		if err != nil {
			return "", "", err
		}
		changed := Layer{}
		if err := setPath(*l, &changed, e.Path, e.Value); err != nil {
			return "", "", err
		}
		if changed.ID != l.ID || e.Path == "where" {
			return "", "", fmt.Errorf("“%s” cannot be set", e.Path)
		}
		d.Layers[i] = changed
		return "Change " + words(e.Path) + " of " + changed.Name, e.Layer, nil
	},
	"clause.add": func(d *Document, e Edit) (string, string, error) {
		l, _, err := d.Layer(e.Layer)
		if err != nil {
			return "", "", err
		}
		c, err := d.NewClause(e.Kind)
		if err != nil {
			return "", "", err
		}
		l.Where = append(l.Where, c)
		return "Add " + e.Kind + " to " + l.Name, l.ID, nil
	},
	"clause.delete": func(d *Document, e Edit) (string, string, error) {
		l, i, err := d.clause(e)
		if err != nil {
			return "", "", err
		}
		kind := l.Where[i].Kind
		l.Where = slices.Delete(l.Where, i, i+1)
		return "Remove " + kind + " from " + l.Name, l.ID, nil
	},
	"clause.move": func(d *Document, e Edit) (string, string, error) {
		l, i, err := d.clause(e)
		if err != nil {
			return "", "", err
		}
		c := l.Where[i]
		l.Where = slices.Delete(l.Where, i, i+1)
		l.Where = slices.Insert(l.Where, max(0, min(e.To, len(l.Where))), c)
		return "Move " + c.Kind + " in " + l.Name, l.ID, nil
	},
	"clause.set": func(d *Document, e Edit) (string, string, error) {
		l, i, err := d.clause(e)
		if err != nil {
			return "", "", err
		}
		changed := Clause{}
		if err := setPath(l.Where[i], &changed, e.Path, e.Value); err != nil {
			return "", "", err
		}
		if changed.ID != e.Clause || changed.Kind != l.Where[i].Kind {
			return "", "", fmt.Errorf("“%s” cannot be set", e.Path)
		}
		l.Where[i] = changed
		return "Change " + words(e.Path) + " of " + changed.Kind + " in " + l.Name, l.ID, nil
	},
}

// Clip is what is copied: layers, lowest first, or the Where of one.
type Clip struct {
	Layers []Layer  `json:"layers,omitempty"`
	Where  []Clause `json:"where,omitempty"`
	Soften float32  `json:"soften,omitempty"`
}

// adopt gives clauses marks of this document. Marks of layers lead to those that came along, or else to those of the
// document; others are left out.
func (d *Document) adopt(where []Clause, marks map[string]string) {
	for k := range where {
		c := &where[k]
		c.ID = d.id("c")
		var layers []string
		for _, m := range c.Layers {
			if to := marks[m]; to != "" {
				layers = append(layers, to)
			} else if _, _, err := d.Layer(m); err == nil {
				layers = append(layers, m)
			}
		}
		c.Layers = layers
	}
}

// strictly decodes JSON and refuses unknown fields.
func strictly(text []byte, to any) error {
	r := json.NewDecoder(bytes.NewReader(text))
	r.DisallowUnknownFields()
	return r.Decode(to)
}

func words(path string) string {
	parts := strings.Split(path, ".")
	for i, p := range parts {
		if p == "what" || p == "shape" || p == "params" {
			parts[i] = ""
		}
	}
	return strings.Join(strings.Fields(strings.Join(parts, " ")), " ")
}

func (d *Document) clause(e Edit) (*Layer, int, error) {
	l, _, err := d.Layer(e.Layer)
	if err != nil {
		return nil, 0, err
	}
	for i := range l.Where {
		if l.Where[i].ID == e.Clause {
			return l, i, nil
		}
	}
	return nil, 0, fmt.Errorf("layer “%s” has no clause %s any more", l.Name, e.Clause)
}

// freeName is base, with a number when it is taken; one that has a number is counted on.
func (d *Document) freeName(base string) string {
	name, n := base, 2
	if at := strings.LastIndexByte(base, ' '); at > 0 {
		if k, err := strconv.Atoi(base[at+1:]); err == nil && k > 0 {
			base, n = base[:at], k+1
		}
	}
	for ; ; n++ {
		taken := false
		for i := range d.Layers {
			taken = taken || d.Layers[i].Name == name
		}
		if !taken {
			return name
		}
		name = fmt.Sprintf("%s %d", base, n)
	}
}

// setPath copies from into to with the value at a dotted path replaced, and refuses unknown fields.
func setPath(from, to any, path string, value json.RawMessage) error {
	if len(value) == 0 {
		return fmt.Errorf("no value for “%s”", path)
	}
	text, err := json.Marshal(from)
	if err != nil {
		return err
	}
	var tree map[string]any
	if err := json.Unmarshal(text, &tree); err != nil {
		return err
	}
	at := tree
	keys := strings.Split(path, ".")
	for _, k := range keys[:len(keys)-1] {
		next, ok := at[k].(map[string]any)
		if !ok {
			return fmt.Errorf("there is nothing at “%s”", path)
		}
		at = next
	}
	at[keys[len(keys)-1]] = value
	if text, err = json.Marshal(tree); err != nil {
		return err
	}
	if err := strictly(text, to); err != nil {
		return fmt.Errorf("“%s” cannot take that value", path)
	}
	return nil
}

package strata

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"crust/internal/core/field"
	"crust/internal/core/light"
)

// Edit is one change of the document, as the page sends it.
type Edit struct {
	Do      string             `json:"do"`
	Layer   string             `json:"layer,omitempty"`
	Layers  []string           `json:"layers,omitempty"` // instead of layer: several
	In      string             `json:"in,omitempty"`     // move: the group that they come into
	Clause  string             `json:"clause,omitempty"`
	Kind    string             `json:"kind,omitempty"`
	To      int                `json:"to,omitempty"`
	Path    string             `json:"path,omitempty"`
	Value   json.RawMessage    `json:"value,omitempty"`
	Dials   map[string]float64 `json:"dials,omitempty"`
	Strokes Strokes            `json:"strokes,omitempty"` // that it is about
	With    Strokes            `json:"with,omitempty"`    // stroke.change: those in their place
	Size    float64            `json:"-"`                 // of the model, its diagonal in metres; 0 where no length goes by it
	// Targets are sets that a finish is laid on; none means all.
	Targets []string `json:"targets,omitempty"`
}

// Apply makes the change and returns its label for undo, and the ID of the layer that it is about.
// On an error the document is as it was.
func (d *Document) Apply(e Edit) (label, layer string, err error) {
	do := edits[e.Do]
	if do == nil {
		return "", "", fmt.Errorf("“%s” is not an edit", e.Do)
	}
	if len(e.Layers) == 0 && e.Layer != "" {
		e.Layers = []string{e.Layer}
	}
	if !staysOpen[e.Do] && e.Path != "locked" {
		for _, m := range append(e.Layers, e.In) {
			if err := d.Locked(m); err != nil {
				return "", "", err
			}
		}
	}
	next := d.Clone()
	if label, layer, err = do(next, e); err != nil {
		return "", "", err
	}
	next.settle()
	if err := next.Check(); err != nil {
		return "", "", err
	}
	*d = *next
	return label, layer, nil
}

// edits is the table of what can be done to a document.
var edits = map[string]func(d *Document, e Edit) (label, layer string, err error){
	"add": func(d *Document, e Edit) (string, string, error) {
		if e.Kind == "brush" {
			return addBrushwork(d, e)
		}
		l := d.NewLayer(d.freeName("Coat"))
		l.What.Colour.Hex = d.freeColour()
		if err := d.insert(e.Layer, l); err != nil {
			return "", "", err
		}
		return "Add " + l.Name, l.ID, nil
	},
	"group": group,
	"look":  look,
	"flatten": func(d *Document, e Edit) (string, string, error) {
		i, err := d.toFlatten(e.Layer, e.Kind)
		if err != nil {
			return "", "", err
		}
		d.Layers[i].Flat = true
		return "Flatten " + d.Layers[i].Name, d.Layers[i].ID, nil
	},
	"ungroup": func(d *Document, e Edit) (string, string, error) {
		g, i, err := d.Layer(e.Layer)
		if err != nil {
			return "", "", err
		}
		if !g.Group {
			return "", "", fmt.Errorf("“%s” is no group", g.Name)
		}
		label, next := "Ungroup "+g.Name, ""
		for k := range d.Layers {
			if l := &d.Layers[k]; l.In == g.ID {
				l.In, next = g.In, l.ID
			}
		}
		d.Layers = slices.Delete(d.Layers, i, i+1)
		return label, next, nil
	},
	"delete": func(d *Document, e Edit) (string, string, error) {
		label := "Delete " + several(d, e.Layers)
		blocks, err := d.blocks(e.Layers)
		if err != nil {
			return "", "", err
		}
		next := ""
		d.take(blocks)
		if len(d.Layers) > 0 && len(blocks) > 0 {
			next = d.Layers[min(blocks[0][0], len(d.Layers)-1)].ID
		}
		return label, next, nil
	},
	"duplicate": func(d *Document, e Edit) (string, string, error) {
		label := "Duplicate " + several(d, e.Layers)
		blocks, err := d.blocks(e.Layers)
		if err != nil || len(blocks) == 0 {
			return "", "", err
		}
		var all []Layer
		for _, b := range blocks {
			all = append(all, d.Layers[b[0]:b[1]]...)
		}
		all = d.copyOf(all)
		d.Layers = slices.Insert(d.Layers, blocks[len(blocks)-1][1], all...)
		return label, all[len(all)-1].ID, nil
	},
	"paste": func(d *Document, e Edit) (string, string, error) {
		var from Clip
		if err := strictly(e.Value, &from); err != nil || len(from.Layers) == 0 {
			return "", "", errors.New("what was copied holds no layers; copy some first")
		}
		inside := &Document{Layers: from.Layers}
		inside.settle()
		all := d.copyOf(inside.Layers)
		if _, _, err := d.Layer(e.Layer); err != nil {
			e.Layer = ""
		}
		if err := d.insert(e.Layer, all...); err != nil {
			return "", "", err
		}
		label := "Paste " + from.Layers[0].Name
		if n := len(from.Layers); n > 1 {
			label = fmt.Sprintf("Paste %d layers", n)
		}
		return label, all[len(all)-1].ID, nil
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
		label := "Move " + several(d, e.Layers)
		blocks, err := d.blocks(e.Layers)
		if err != nil || len(blocks) == 0 {
			return "", "", err
		}
		if e.In != "" {
			g, i, err := d.Layer(e.In)
			if err != nil {
				return "", "", err
			}
			if !g.Group {
				return "", "", fmt.Errorf("“%s” is no group", g.Name)
			}
			if g.Flat {
				return "", "", fmt.Errorf("“%s” is flattened; open it first", g.Name)
			}
			for _, b := range blocks {
				if b[0] <= i && i < b[1] {
					return "", "", fmt.Errorf("a group cannot lie in itself")
				}
			}
		}
		last := d.Layers[blocks[len(blocks)-1][1]-1].ID
		for _, b := range blocks {
			d.Layers[b[1]-1].In = e.In
		}
		layers := d.take(blocks)
		d.Layers = slices.Insert(d.Layers, max(0, min(e.To, len(d.Layers))), layers...)
		return label, last, nil
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
		if changed.ID != l.ID || changed.Group != l.Group || changed.In != l.In || e.Path == "where" {
			return "", "", fmt.Errorf("“%s” cannot be set", e.Path)
		}
		d.Layers[i] = changed
		return "Change " + words(e.Path) + " of " + changed.Name, e.Layer, nil
	},
	"solo": func(d *Document, e Edit) (string, string, error) {
		blocks, err := d.blocks(e.Layers)
		if err != nil || len(blocks) == 0 {
			return "", "", err
		}
		tree := d.Tree()
		for i := range d.Layers {
			shows := slices.ContainsFunc(blocks, func(b [2]int) bool {
				return b[0] <= i && i < b[1] || tree.Within(b[0], i) || d.Base(b[1]-1) == i
			})
			d.Layers[i].Hidden = d.Layers[i].Hidden || !shows
		}
		return "Show " + several(d, e.Layers) + " alone", e.Layers[0], nil
	},
	"stroke.add":    addStrokes,
	"stroke.change": changeStrokes,
	"stroke.delete": eachStroke("Delete", func(n int32) (int32, bool) { return 0, false }),
	"stroke.hide":   eachStroke("Hide", func(n int32) (int32, bool) { return -max(n, -n), true }),
	"stroke.show":   eachStroke("Show", func(n int32) (int32, bool) { return max(n, -n), true }),
	"clause.add": func(d *Document, e Edit) (string, string, error) {
		l, _, err := d.Layer(e.Layer)
		if err != nil {
			return "", "", err
		}
		c, err := d.NewClause(e.Kind)
		if err != nil {
			return "", "", err
		}
		k, _ := field.KindOf(e.Kind)
		for i := range k.Params {
			if p := &k.Params[i]; p.Fits {
				c.Params[p.Name] = First(p, Fit(e.Size))
			}
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

// firstColours are what coats begin with: muted, within the range of plain surfaces, and unlike each other, so that what is added is
// seen before a colour is chosen.
var firstColours = []string{"#8a8a86", "#7d5a44", "#5b6f78", "#b3a98c", "#67734f", "#93503e", "#46586c", "#a3875a"}

// freeColour is the first of them that no layer lays down, or one in turn when all are in use.
func (d *Document) freeColour() string {
	for _, hex := range firstColours {
		if !slices.ContainsFunc(d.Layers, func(l Layer) bool { return !l.Group && l.What.Colour.Hex == hex }) {
			return hex
		}
	}
	return firstColours[len(d.Layers)%len(firstColours)]
}

// addBrushwork adds a layer that shows where it is painted.
func addBrushwork(d *Document, e Edit) (string, string, error) {
	l := d.NewLayer(d.freeName("Brushwork"))
	l.What.Colour.Hex = d.freeColour()
	c, err := d.NewClause("brush")
	if err != nil {
		return "", "", err
	}
	l.Where = append(l.Where, c)
	if err := d.insert(e.Layer, l); err != nil {
		return "", "", err
	}
	return "Add " + l.Name, l.ID, nil
}

// group puts layers into a group of their own, right above the highest of them.
func group(d *Document, e Edit) (string, string, error) {
	g := d.NewGroup(d.freeName("Group"))
	if len(e.Layers) == 0 {
		d.Layers = append(d.Layers, g)
		return "Add " + g.Name, g.ID, nil
	}
	blocks, err := d.blocks(e.Layers)
	if err != nil {
		return "", "", err
	}
	top := &d.Layers[blocks[len(blocks)-1][1]-1]
	g.In = top.In
	label := "Group " + several(d, e.Layers)
	at := blocks[len(blocks)-1][1]
	for _, b := range blocks {
		d.Layers[b[1]-1].In = g.ID
	}
	d.Layers = slices.Insert(d.Layers, at, g)
	return label, g.ID, nil
}

// toFlatten is the place of the group that is to be flattened: the one named, or one made of all that lies above or below a
// layer in its group.
func (d *Document) toFlatten(mark, which string) (int, error) {
	l, i, err := d.Layer(mark)
	switch {
	case err != nil:
		return 0, err
	case which == "" && !l.Group:
		return 0, fmt.Errorf("“%s” is no group; flatten a group, or what lies above or below", l.Name)
	case which == "":
		return i, nil
	case which != "above" && which != "below":
		return 0, fmt.Errorf("“%s” cannot be flattened; use above or below", which)
	}
	var all []string
	past := false
	for k := range d.Layers {
		o := &d.Layers[k]
		if o.In != l.In {
			continue
		}
		if o.ID == l.ID {
			past = true
		} else if past == (which == "above") {
			all = append(all, o.ID)
		}
		// What is clipped cannot be parted from what it is clipped to.
		if b := d.Base(k); b >= 0 && (which == "below" && o.ID == l.ID || which == "above" && o.ID != l.ID && past && b <= i) {
			return 0, fmt.Errorf("“%s” is clipped to “%s”, from which flattening would part it; clip it no more, or flatten from another layer", o.Name, d.Layers[b].Name)
		}
	}
	if len(all) == 0 {
		return 0, fmt.Errorf("nothing lies %s “%s”", which, l.Name)
	}
	if len(all) == 1 {
		if o, k, _ := d.Layer(all[0]); o.Group {
			return k, nil
		}
	}
	name := map[string]string{"above": "Above ", "below": "Below "}[which] + l.Name
	_, made, err := group(d, Edit{Layers: all})
	if err != nil {
		return 0, err
	}
	d.settle()
	g, k, err := d.Layer(made)
	if err == nil {
		g.Name = d.freeName(name[:min(len(name), MaxName)])
	}
	return k, err
}

// staysOpen are the edits that do not change the layer which they name.
var staysOpen = map[string]bool{"add": true, "paste": true, "duplicate": true, "solo": true}

// several names layers for undo.
func several(d *Document, marks []string) string {
	if len(marks) == 1 {
		if l, _, err := d.Layer(marks[0]); err == nil {
			return l.Name
		}
	}
	return fmt.Sprintf("%d layers", len(marks))
}

// Put puts layers right above a layer, into it when it is a group, on top of all when none is named, and checks the document.
func (d *Document) Put(above string, layers ...Layer) error {
	if err := d.insert(above, layers...); err != nil {
		return err
	}
	d.settle()
	return d.Check()
}

// insert puts layers, of which the last holds or follows the others, right above a layer; into it when it is a group that is
// not flattened, and on top of all when none is named.
func (d *Document) insert(above string, layers ...Layer) error {
	at, in := len(d.Layers), ""
	if above != "" {
		l, i, err := d.Layer(above)
		if err != nil {
			return err
		}
		at, in = i+1, l.In
		if l.Group && !l.Flat {
			at, in = i, l.ID
		}
	}
	if err := d.Locked(in); err != nil {
		return err
	}
	own := map[string]bool{}
	for i := range layers {
		own[layers[i].ID] = true
	}
	for i := range layers {
		if !own[layers[i].In] {
			layers[i].In = in
		}
	}
	d.Layers = slices.Insert(d.Layers, at, layers...)
	return nil
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

// looks says what is changed of how an asset is shown, by the first word of its path.
var looks = map[string]string{"sky": "Change surroundings", "turn": "Turn surroundings", "strength": "Strength of surroundings", "exposure": "Change exposure", "backdrop": "Change backdrop", "lamps": "Change lamps", "frames": "Change frames", "surface": "Change how the surface is shown", "card": "Change the picture on Home"}

// look changes how the asset is lit, framed and shown.
func look(d *Document, e Edit) (label, layer string, err error) {
	now := d.Setup()
	var tree map[string]any
	if err := json.Unmarshal(encode(now), &tree); err != nil {
		return "", "", err
	}
	at, keys := tree, strings.Split(e.Path, ".")
	label = looks[keys[0]]
	if label == "" {
		return "", "", fmt.Errorf("“%s” is not of light and frame", e.Path)
	}
	for _, k := range keys[:len(keys)-1] {
		next, ok := at[k].(map[string]any)
		if !ok {
			return "", "", fmt.Errorf("“%s” is not of light and frame", e.Path)
		}
		at = next
	}
	at[keys[len(keys)-1]] = e.Value
	next := new(light.Setup)
	if err := strictly(encode(tree), next); err != nil {
		return "", "", fmt.Errorf("%s cannot be understood: %w", e.Path, err)
	}
	d.Look = next
	return label, "", nil
}

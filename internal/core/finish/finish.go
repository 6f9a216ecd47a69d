// Package finish holds finishes: groups of layers with a few dials that fit themselves to any baked model.
package finish

import (
	"embed"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"crust/internal/core/strata"
)

//go:embed builtin
var files embed.FS

// order is that in which the finishes built in are offered: what things are made of first, then what lies over it.
var order = []string{
	"bare-steel", "cast-iron", "galvanised", "copper-with-verdigris", "bronze-fittings", "worn-marine-paint", "flaking-paint",
	"rubber", "worn-leather", "varnished-wood", "quay-stone",
	"rust-bloom", "deep-rust", "salt-crust", "algae-line", "soot-and-grime",
}

// Finishes lists the finishes built in.
var Finishes = func() (out []Finish) {
	for _, name := range order {
		data, err := files.ReadFile("builtin/" + name + ".json")
		if err != nil {
			panic(err)
		}
		var f Finish
		if err := json.Unmarshal(data, &f); err != nil {
			panic(name + ": " + err.Error()) // a test reads them all
		}
		out = append(out, f)
	}
	return out
}()

// Of finds a finish built in by its name or title.
func Of(name string) (*Finish, error) {
	var names []string
	for i := range Finishes {
		if f := &Finishes[i]; strings.EqualFold(f.Name, name) || strings.EqualFold(f.Title, name) {
			return f, nil
		}
		names = append(names, Finishes[i].Name)
	}
	return nil, fmt.Errorf("there is no finish “%s”; use %s", name, strings.Join(names, ", "))
}

// Group is Lay within a group, which comes last and knows its dials, so that Turn can move them.
func (f *Finish) Group(d *strata.Document, dials map[string]float64, diagonal float64) ([]strata.Layer, error) {
	laid := &strata.Laid{Name: f.Name, Dials: map[string]float64{}, Diagonal: diagonal, Next: d.Next}
	for _, k := range f.Dials {
		laid.Dials[k.Name] = k.Default
	}
	maps.Copy(laid.Dials, dials)
	if _, err := Of(f.Name); err != nil {
		if laid.Own, err = json.Marshal(f); err != nil {
			return nil, err
		}
	}
	layers, err := f.Lay(d, dials, diagonal)
	if err != nil {
		return nil, err
	}
	top := &layers[len(layers)-1]
	for _, l := range layers[:len(layers)-1] {
		if l.In == "" {
			top = nil // several lie side by side
			break
		}
	}
	if top == nil || !top.Group {
		g := d.NewGroup(f.Title)
		for i := range layers {
			if layers[i].In == "" {
				layers[i].In = g.ID
			}
		}
		layers = append(layers, g)
		top = &layers[len(layers)-1]
	}
	top.Name, top.Finish = f.Title, laid
	return layers, nil
}

// Turn moves dials of a finish that lies in a document. What a hand has changed since stays as it is.
func Turn(d *strata.Document, layer string, dials map[string]float64) (label string, err error) {
	l, _, err := d.Layer(layer)
	if err != nil {
		return "", err
	}
	laid := l.Finish
	if laid == nil {
		return "", fmt.Errorf("“%s” is no finish, so it has no dials", l.Name)
	}
	f, err := Of(laid.Name)
	if laid.Own != nil {
		f, err = Parse(laid.Own)
	}
	if err != nil {
		return "", err
	}
	lay := func(dials map[string]float64) (*strata.Document, error) {
		of := &strata.Document{Next: laid.Next}
		layers, err := f.Group(of, dials, laid.Diagonal)
		of.Layers = layers
		return of, err
	}
	from, err := lay(laid.Dials)
	if err != nil {
		return "", err
	}
	now := maps.Clone(laid.Dials)
	maps.Copy(now, dials)
	to, err := lay(now)
	if err != nil {
		return "", err
	}
	ops := strata.Diff(from, to)
	for i := range ops {
		ops[i].Layer, ops[i].Clause = laid.Mark(ops[i].Layer), laid.Mark(ops[i].Clause)
	}
	next, err := d.Patch(ops)
	if err != nil {
		return "", err
	}
	*d = *next
	var names []string
	for _, k := range slices.Sorted(maps.Keys(dials)) {
		names = append(names, strings.ToLower(f.dial(k).Label))
	}
	return fmt.Sprintf("Turn %s of %s", strings.Join(names, ", "), l.Name), nil
}

// Save makes a finish of a group in a document: its layers as they stand, for a model with the given diagonal in metres. A
// finish keeps its dials; another group gets two, of how much and how large. Clauses about layers that are not in the group
// cannot come along; notes say so.
func Save(d *strata.Document, group, title, help string, diagonal float64) (f *Finish, notes []string, err error) {
	return save(d, group, title, help, diagonal, false)
}

// save is Save; one that is for the same document keeps what its layers are aimed at and look at.
func save(d *strata.Document, group, title, help string, diagonal float64, here bool) (f *Finish, notes []string, err error) {
	g, i, err := d.Layer(group)
	if err != nil {
		return nil, nil, err
	}
	if !g.Group {
		return nil, nil, fmt.Errorf("“%s” is no group; group layers first", g.Name)
	}
	title = strings.TrimSpace(title)
	if title == "" {
		return nil, nil, fmt.Errorf("a finish needs a name")
	}
	layers := d.Clone().Layers[d.Tree().First[i] : i+1]
	inside := map[string]string{}
	for k := range layers {
		inside[layers[k].ID] = layers[k].Name
	}
	for k := range layers {
		l := &layers[k]
		if !here {
			l.Targets, l.Parts = nil, nil
		}
		if k < len(layers)-1 && l.Finish != nil {
			l.Finish = nil
		}
		for n := range l.Where {
			c := &l.Where[n]
			c.Layers = slices.DeleteFunc(c.Layers, func(m string) bool {
				if here || inside[m] != "" {
					return false
				}
				notes = append(notes, fmt.Sprintf("“%s” looks at a layer outside the group, which is left out.", l.Name))
				return true
			})
		}
	}
	top := &layers[len(layers)-1]
	laid := top.Finish
	top.In, top.Finish, top.Hidden = "", nil, false
	f = &Finish{Name: "own-" + slug(title), Title: title, Help: strings.TrimSpace(help), Metres: max(0.05, diagonal)}
	if laid != nil {
		was, err := Of(laid.Name)
		if laid.Own != nil {
			was, err = Parse(laid.Own)
		}
		if err == nil {
			f.Dials = slices.Clone(was.Dials)
			f.Tags = was.Tags
			for i := range f.Dials {
				if v, ok := laid.Dials[f.Dials[i].Name]; ok && f.Dials[i].Name != scaleDial {
					f.Dials[i].Default = v
				}
			}
			f.Drives = was.kept(laid, layers)
		}
	}
	if f.Layers, err = json.Marshal(layers); err != nil {
		return nil, nil, err
	}
	if laid == nil {
		f.Dials = []Dial{
			{"amount", "Amount", 0, 1, float64(top.Opacity), "how much of it shows"},
			{scaleDial, "Scale", 0.25, 4, 1, "size of what is on it against the model"},
		}
		f.Drives = []Drive{{Dial: "amount", Path: top.ID + ".opacity", Curve: [][2]float64{{0, 0}, {1, 1}}}}
	}
	return f, notes, f.Check()
}

// kept are the drives that still find their place among layers, with its marks there. Colours that a hand has changed since
// are not driven any more.
func (f *Finish) kept(laid *strata.Laid, layers []strata.Layer) (out []Drive) {
	d := &strata.Document{Next: laid.Next}
	made, err := f.Group(d, laid.Dials, laid.Diagonal)
	if err != nil {
		return nil
	}
	own, err := f.base()
	if err != nil || len(own.Layers) > len(made) {
		return nil
	}
	marks := map[string]string{}
	for i := range own.Layers {
		marks[own.Layers[i].ID] = laid.Mark(made[i].ID) // in the order of the list
	}
	var now []any
	text, _ := json.Marshal(layers)
	_ = json.Unmarshal(text, &now)
	for _, dr := range f.Drives {
		mark, rest, _ := strings.Cut(dr.Path, ".")
		dr.Path = marks[mark] + "." + rest
		to, key, err := find(now, dr.Path)
		if err != nil || dr.Colours != nil && to[key] != colourAt(dr.Colours, laid.Dials[dr.Dial]) {
			continue
		}
		out = append(out, dr)
	}
	return out
}

// slug is a title as a name for files.
func slug(title string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(title) {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			b.WriteRune(r)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
	}
	return strings.Trim(b.String(), "-")
}

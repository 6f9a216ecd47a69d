package finish

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"crust/internal/core/strata"
)

// Shown is a dial that is made by showing what it does: how the group's layers stand with the dial at 0; at 1 they stand as
// they do in the document.
type Shown struct {
	Label  string         `json:"label"`
	Layers []strata.Layer `json:"layers"`
}

// AddDial gives a group a dial of its own, from 0 to 1, that moves every number and colour which differs between what is shown
// and how its layers stand now. The group becomes a finish of its own, if it is none; other dials stay.
func AddDial(d *strata.Document, group string, shown Shown, diagonal float64) (label string, err error) {
	shown.Label = strings.TrimSpace(shown.Label)
	if shown.Label == "" || len(shown.Label) > 40 {
		return "", errors.New("a dial's name has 1 to 40 letters")
	}
	g, i, err := d.Layer(group)
	if err != nil {
		return "", err
	}
	if !g.Group {
		return "", fmt.Errorf("“%s” is no group; group layers first", g.Name)
	}
	f, err := own(d, group, diagonal)
	if err != nil {
		return "", err
	}
	layers := d.Layers[d.Tree().First[i] : i+1]
	var drives []Drive
	for k := range layers {
		now := &layers[k]
		at := slices.IndexFunc(shown.Layers, func(l strata.Layer) bool { return l.ID == now.ID })
		if at < 0 {
			continue
		}
		was := shown.Layers[at]
		if len(was.Where) != len(now.Where) || slices.ContainsFunc(was.Where, func(c strata.Clause) bool {
			return !slices.ContainsFunc(now.Where, func(o strata.Clause) bool { return o.ID == c.ID && o.Kind == c.Kind })
		}) {
			return "", fmt.Errorf("“%s” has other clauses than it had with the dial at 0; a dial moves numbers and colours", now.Name)
		}
		for n := range was.Where { // in the order that they have now
			j := slices.IndexFunc(was.Where, func(c strata.Clause) bool { return c.ID == now.Where[n].ID })
			was.Where[n], was.Where[j] = was.Where[j], was.Where[n]
		}
		drives = append(drives, between(now.ID, tree(was), tree(now))...)
	}
	if len(drives) == 0 {
		return "", errors.New("nothing differs between the dial's two ends; change numbers or colours of the group's layers first")
	}
	if len(f.Dials) >= MaxDials {
		return "", fmt.Errorf("a finish has at most %d dials", MaxDials)
	}
	name := slug(shown.Label)
	for n := 2; name == "" || f.dial(name) != nil; n++ {
		name = strings.TrimLeft(slug(shown.Label)+"-"+strconv.Itoa(n), "-")
	}
	f.Dials = append(f.Dials, Dial{Name: name, Label: shown.Label, Max: 1, Default: 1, Help: "made by showing its two ends"})
	for k := range drives {
		drives[k].Dial = name
	}
	f.Drives = append(f.Drives, drives...)
	return "Add the dial " + shown.Label + " to " + g.Name, f.become(d, group, diagonal)
}

// DropDial takes a dial off a group; what it moved stays where it stands.
func DropDial(d *strata.Document, group, dial string, diagonal float64) (label string, err error) {
	g, _, err := d.Layer(group)
	if err != nil {
		return "", err
	}
	f, err := own(d, group, diagonal)
	if err != nil {
		return "", err
	}
	k := f.dial(dial)
	if g.Finish == nil || k == nil {
		return "", fmt.Errorf("“%s” has no dial “%s”", g.Name, dial)
	}
	label = "Remove the dial " + k.Label + " of " + g.Name
	f.Dials = slices.DeleteFunc(f.Dials, func(k Dial) bool { return k.Name == dial })
	f.Drives = slices.DeleteFunc(f.Drives, func(k Drive) bool { return k.Dial == dial })
	return label, f.become(d, group, diagonal)
}

// own is the finish that a group is, with its layers as they stand; a group that is none becomes one without dials.
func own(d *strata.Document, group string, diagonal float64) (*Finish, error) {
	g, _, err := d.Layer(group)
	if err != nil {
		return nil, err
	}
	f, _, err := save(d, group, g.Name, "", diagonal, true)
	if err == nil && g.Finish == nil {
		f.Dials, f.Drives = nil, nil
	}
	return f, err
}

// become has a group be a finish, its layers staying as they are.
func (f *Finish) become(d *strata.Document, group string, diagonal float64) error {
	if err := f.Check(); err != nil {
		return err
	}
	// What it would be laid with, in the order of the list, leads to what is there.
	made, err := f.Group(&strata.Document{}, nil, diagonal)
	if err != nil {
		return err
	}
	g, i, err := d.Layer(group)
	if err != nil {
		return err
	}
	layers := d.Layers[d.Tree().First[i] : i+1]
	laid := made[len(made)-1].Finish
	laid.Marks = map[string]string{}
	for k := range layers {
		laid.Marks[made[k].ID] = layers[k].ID
		for n := range layers[k].Where {
			laid.Marks[made[k].Where[n].ID] = layers[k].Where[n].ID
		}
	}
	if len(laid.Own) > strata.MaxOwn {
		return fmt.Errorf("with its dials “%s” has more than %d kB", g.Name, strata.MaxOwn>>10)
	}
	g.Finish = laid
	return nil
}

// tree is something as JSON has it.
func tree(v any) (out any) {
	text, err := json.Marshal(v)
	if err == nil {
		err = json.Unmarshal(text, &out)
	}
	if err != nil {
		panic(err) // a layer always encodes
	}
	return out
}

// between are the drives that lead from one state to another, field by field.
func between(path string, was, now any) (out []Drive) {
	switch now := now.(type) {
	case map[string]any:
		was, _ := was.(map[string]any)
		keys := slices.Collect(maps.Keys(now))
		for key := range was {
			if _, ok := now[key]; !ok {
				keys = append(keys, key)
			}
		}
		slices.Sort(keys)
		for _, key := range keys {
			if key != "finish" {
				out = append(out, between(path+"."+key, was[key], now[key])...)
			}
		}
	case []any:
		was, _ := was.([]any)
		for i := range now {
			if i < len(was) {
				out = append(out, between(fmt.Sprintf("%s.%d", path, i), was[i], now[i])...)
			}
		}
	case float64:
		was, _ := was.(float64) // a number that is left out is 0
		if was != now {
			out = append(out, Drive{Path: path, Curve: [][2]float64{{0, was}, {1, now}}})
		}
	case nil:
		if was, _ := was.(float64); was != 0 {
			out = append(out, Drive{Path: path, Curve: [][2]float64{{0, was}, {1, 0}}})
		}
	case string:
		was, _ := was.(string)
		_, err := strata.ParseHex(now)
		if _, other := strata.ParseHex(was); was != now && err == nil && other == nil {
			out = append(out, Drive{Path: path, Colours: []Stop{{0, was}, {1, now}}})
		}
	}
	return out
}

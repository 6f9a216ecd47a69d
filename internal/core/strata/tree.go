package strata

import (
	"fmt"
	"slices"
)

// Tree is how a document's layers lie in its groups. What a group holds lies right below it in the list.
type Tree struct {
	Parent []int // by layer: the group that it is in, −1 for none
	First  []int // by layer: the lowest that it holds, at any depth; for a coat its own place
	kids   [][]int
}

// Tree finds how the layers lie in groups.
func (d *Document) Tree() Tree {
	n := len(d.Layers)
	t := Tree{make([]int, n), make([]int, n), make([][]int, n+1)}
	at := map[string]int{}
	for i := range d.Layers {
		if d.Layers[i].Group {
			at[d.Layers[i].ID] = i
		}
		t.First[i] = i
	}
	for i := range d.Layers {
		t.Parent[i] = -1
		if p, ok := at[d.Layers[i].In]; ok {
			t.Parent[i] = p
			t.First[p] = min(t.First[p], t.First[i])
		}
		t.kids[t.Parent[i]+1] = append(t.kids[t.Parent[i]+1], i)
	}
	return t
}

// Holds lists the layers right in a group, lowest first; −1 is for those in none.
func (t Tree) Holds(group int) []int { return t.kids[group+1] }

// Within tells whether layer i is in a group, at any depth.
func (t Tree) Within(i, group int) bool { return t.First[group] <= i && i < group }

// settle brings the layers into order: what a group holds right below it, each in the order in which they stand. Layers whose
// group is gone, or would be in itself, lie in none. Channels that say nothing get what a fresh layer has.
func (d *Document) settle() {
	groups := map[string]bool{}
	for i := range d.Layers {
		if d.Layers[i].Group {
			groups[d.Layers[i].ID] = true
		}
	}
	in := map[string][]int{}
	for i := range d.Layers {
		l := &d.Layers[i]
		l.What.settle()
		if !groups[l.In] {
			l.In = ""
		}
		in[l.In] = append(in[l.In], i)
	}
	done := make([]bool, len(d.Layers))
	out := make([]Layer, 0, len(d.Layers))
	var lay func(i int)
	lay = func(i int) {
		done[i] = true
		if l := &d.Layers[i]; l.Group {
			for _, k := range in[l.ID] {
				if !done[k] {
					lay(k)
				}
			}
		}
		out = append(out, d.Layers[i])
	}
	for _, i := range in[""] {
		lay(i)
	}
	for i := range d.Layers {
		if !done[i] {
			d.Layers[i].In = ""
			lay(i)
		}
	}
	d.Layers = out
}

// block is the places from the lowest layer that a layer holds to the one after it.
func (d *Document) block(i int) (from, end int) { return d.Tree().First[i], i + 1 }

// blocks are the places of some layers with all that they hold, rising; layers in others of them come with these.
func (d *Document) blocks(marks []string) (out [][2]int, err error) {
	for _, m := range marks {
		_, i, err := d.Layer(m)
		if err != nil {
			return nil, err
		}
		from, end := d.block(i)
		out = append(out, [2]int{from, end})
	}
	slices.SortFunc(out, func(a, b [2]int) int { return b[1] - b[0] - (a[1] - a[0]) })
	var tops [][2]int
	for _, b := range out {
		if !slices.ContainsFunc(tops, func(t [2]int) bool { return t[0] <= b[0] && b[1] <= t[1] }) {
			tops = append(tops, b)
		}
	}
	slices.SortFunc(tops, func(a, b [2]int) int { return a[0] - b[0] })
	return tops, nil
}

// take cuts blocks out of the list and returns their layers.
func (d *Document) take(blocks [][2]int) (out []Layer) {
	for _, b := range blocks {
		out = append(out, d.Layers[b[0]:b[1]]...)
	}
	for k := len(blocks) - 1; k >= 0; k-- {
		d.Layers = slices.Delete(d.Layers, blocks[k][0], blocks[k][1])
	}
	return out
}

// copyOf copies layers with marks and names of their own. Marks among them lead to the copies.
func (d *Document) copyOf(layers []Layer) []Layer {
	out := make([]Layer, len(layers))
	marks := map[string]string{}
	for i := range layers {
		out[i] = layers[i].clone()
		marks[out[i].ID] = d.id("l")
	}
	for i := range out {
		l := &out[i]
		l.ID, l.Name = marks[l.ID], d.freeName(l.Name)
		if to := marks[l.In]; to != "" {
			l.In = to
		}
		if l.Where == nil {
			l.Where = []Clause{}
		}
		had := marksOfClauses(l.Where)
		d.adopt(l.Where, marks)
		for k, was := range had {
			marks[was] = l.Where[k].ID
		}
		l.Finish = l.Finish.clone(marks) // which knows those of all that it holds, as these lie below
		d.Layers = append(d.Layers, *l)  // so that no two of them take one name
	}
	d.Layers = d.Layers[:len(d.Layers)-len(out)]
	return out
}

// NewGroup returns a visible group that holds nothing yet.
func (d *Document) NewGroup(name string) Layer {
	g := d.NewLayer(name)
	g.Group = true
	for _, ch := range Channels {
		ch.Of(&g.What).On = false
	}
	return g
}

// Locked says that a layer, or a group that it is in, is locked, or that it lies in a flattened one, if so.
func (d *Document) Locked(mark string) error {
	for n := range len(d.Layers) {
		l, _, err := d.Layer(mark)
		if err != nil {
			return nil
		}
		if l.Locked {
			return fmt.Errorf("“%s” is locked; unlock it first", l.Name)
		}
		if l.Flat && n > 0 {
			return fmt.Errorf("“%s” is flattened; open it first", l.Name)
		}
		mark = l.In
	}
	return nil
}

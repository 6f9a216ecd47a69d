package studio

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"crust/internal/core/bake"
	"crust/internal/core/layout"
	"crust/internal/core/uv"
	"crust/internal/store"
)

// splitFor is the way to split that a layout is made for.
var splitFor = map[string]string{layout.OneTile: uv.Single, layout.Tiles: uv.PerTile}

// Layout makes a new UV channel as a job and takes it into use. The old channels stay. Names and sizes that are given
// meanwhile hold. A layout that misses what it promises is not taken.
func (a *Asset) Layout(o layout.Options) error {
	if err := o.Check(); err != nil {
		return err
	}
	a.mu.Lock()
	split := a.split
	a.mu.Unlock()
	if o.Into == layout.PerSet && split == uv.PerTile {
		return errors.New("the sets are UDIM tiles; lay out into tiles, or split by material first")
	}
	return a.start("layout", "Lay out", func(ctx context.Context, j *Job, share func(float64)) error {
		a.mu.Lock()
		j.foretold = layout.Foretell(a.model)
		s, m, sets := a.state(), a.model, a.sets
		a.mu.Unlock()
		o.SizeOf = s.intake.sizes()
		if o.Size == 0 {
			o.Size = s.intake.Size
		}
		l, err := layout.Make(ctx, m, sets, o, share)
		if err != nil {
			return err
		}
		if r := &l.Report; len(r.Misses) > 0 {
			return fmt.Errorf("the layout came out badly and was not taken: %s; mend the model, take a smaller margin, or more tiles", strings.Join(r.Misses, "; "))
		}
		name := fmt.Sprintf("Laid out %d", len(s.intake.Layouts)+1)
		to := s.split
		if other, ok := splitFor[o.Into]; ok {
			to = other
		}
		made := LaidOut{name, o, l.Report, s.intake.Channel, s.split, keysOf(sets)}
		// The model as it will be taken, made before it is stored; names come to it last.
		files, err := a.studio.Store.Files(a.ID, "layout")
		if err != nil {
			return err
		}
		corners := packCorners(l.Corners)
		next := s.intake
		next.Channel = len(m.Channels)
		t, err := a.studio.takeWith(a.ID, next, to, append(files, store.File{Name: name, Data: corners}))
		if err != nil {
			return err
		}
		a.mu.Lock()
		defer a.mu.Unlock()
		next = a.state().intake // while a job runs names, sizes and padding alone can change
		next.Layouts, next.Channel = append(next.Layouts, made), len(m.Channels)
		columns, err := next.columns(to)
		if err != nil {
			return err
		}
		if err := t.split(next, to); err != nil {
			return err
		}
		if err := a.studio.Store.AddLayout(a.ID, name, corners, columns); err != nil {
			return err
		}
		a.adopt(t, next, to)
		return nil
	})
}

func keysOf(sets []uv.Set) (out []string) {
	for i := range sets {
		out = append(out, sets[i].Key)
	}
	return out
}

// side takes the model with another channel and split, as pictures made for it need.
func (a *Asset) side(channel int, split string) (*taken, error) {
	a.mu.Lock()
	in := a.intake
	a.mu.Unlock()
	in.Channel = channel
	return a.studio.take(a.ID, in, split)
}

// madeFor is the channel and split that the channel in use was laid out from.
func (a *Asset) madeFor() (channel int, split string, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	at := a.intake.Channel - (len(a.model.Channels) - len(a.intake.Layouts))
	if at < 0 || at >= len(a.intake.Layouts) {
		return 0, "", errors.New("the UVs in use were not laid out here, so there is nothing to carry over from")
	}
	l := a.intake.Layouts[at]
	return l.Channel, l.Split, nil
}

// CarryMaps carries the baked maps of the channel before over to the one in use, as a job.
func (a *Asset) CarryMaps() error {
	channel, split, err := a.madeFor()
	if err != nil {
		return err
	}
	old, err := a.side(channel, split)
	if err != nil {
		return err
	}
	var fit [][2]string // by kind and old set
	a.mu.Lock()
	now := layout.Side{Model: a.model, Sets: a.sets}
	sizes, on := a.intake.sizes(), a.grounds()
	for i := range old.sets {
		key := old.sets[i].Key
		for _, k := range bake.All() {
			if r, ok := a.rows[[2]string{key, k.Name}]; ok && (r.Brought || r.Stamp == on.stampOf(k.Name, old.setHash[key])) {
				fit = append(fit, [2]string{k.Name, key})
			}
		}
	}
	a.mu.Unlock()
	kept := map[string]map[string]*layout.Picture{} // by kind, then by old set
	for _, f := range fit {
		m, err := a.studio.Store.Map(a.ID, f[1], f[0])
		if err != nil {
			return err
		}
		if kept[f[0]] == nil {
			kept[f[0]] = map[string]*layout.Picture{}
		}
		kept[f[0]][f[1]] = &layout.Picture{Width: m.Size, Height: m.Size, Channels: m.Channels, Pix: m.Pix}
	}
	if len(kept) == 0 {
		return errors.New("no baked maps of the UVs before are kept; bake anew")
	}
	return a.start("carry", "Carry maps over", func(ctx context.Context, j *Job, share func(float64)) error {
		done, all := 0, len(kept)*len(now.Sets)
		for _, k := range bake.All() {
			pictures := kept[k.Name]
			if pictures == nil {
				continue
			}
			content := layout.Data
			if k.Name == bake.Normal {
				content = layout.TangentNormal
			}
			for i := range now.Sets {
				s := &now.Sets[i]
				p, ok, err := layout.Carry(ctx, layout.Side{Model: old.model, Sets: old.sets}, now, s, pictures, content, sizes(s.Key), k.Channels)
				if err != nil {
					return err
				}
				if ok {
					if err := a.putMap(&bake.Map{Set: s.Key, Kind: k.Name, Size: p.Width, Channels: k.Channels, Pix: p.Pix}, "", true); err != nil {
						return err
					}
				}
				done++
				share(float64(done) / float64(all))
			}
		}
		return nil
	})
}

// carriedSize is the side of the square that a picture is carried over to: its own, but for a strip no more than its
// texels can fill.
func carriedSize(p *layout.Picture) int {
	even := 4 * int(math.Ceil(math.Sqrt(float64(p.Width)*float64(p.Height))))
	return min(max(p.Width, p.Height), max(even, 64), SetSizes[len(SetSizes)-1])
}

// CarryPicture carries pictures made for the channel before, by key of the set, over to the one in use,
// and returns one for each set, by key.
func (a *Asset) CarryPicture(ctx context.Context, pictures map[string]*layout.Picture, content string) (map[string]*layout.Picture, error) {
	if !slices.Contains(layout.Contents, content) {
		return nil, fmt.Errorf("a picture holds one of %v, not “%s”", layout.Contents, content)
	}
	channel, split, err := a.madeFor()
	if err != nil {
		return nil, err
	}
	old, err := a.side(channel, split)
	if err != nil {
		return nil, err
	}
	size, channels := 0, 0
	for key, p := range pictures {
		if _, ok := uv.Find(old.sets, key); !ok {
			return nil, fmt.Errorf("the UVs before had no set “%s”", key)
		}
		size, channels = max(size, carriedSize(p)), p.Channels
	}
	m, sets := a.Model()
	out := map[string]*layout.Picture{}
	for i := range sets {
		p, ok, err := layout.Carry(ctx, layout.Side{Model: old.model, Sets: old.sets}, layout.Side{Model: m, Sets: sets}, &sets[i], pictures, content, size, channels)
		if err != nil {
			return nil, err
		}
		if ok {
			out[sets[i].Key] = p
		}
	}
	return out, nil
}

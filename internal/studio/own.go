package studio

import (
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"crust/internal/core/imgfile"
	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
	"crust/internal/store"
)

// ownSpaces are what a material's own pictures hold, colour or data.
func ownSpace(role string) string {
	if role == mesh.OwnBase || role == mesh.OwnEmissive {
		return "colour"
	}
	return "data"
}

// TakeMaterials takes the materials that the model came with in as layers: a coat for each material slot, aimed at its faces
// whatever way the asset is split, in a group above the lowest layer. Their pictures are laid by the UVs that they were made for, so
// that they stay where they are when another UV channel is in use. It returns the group's mark and what could not be taken.
func (a *Asset) TakeMaterials() (mark string, notes []string, err error) {
	files, err := a.studio.Store.Files(a.ID, "model")
	if err != nil || len(files) != 1 {
		return "", nil, fmt.Errorf("the model's file cannot be read: %v", err)
	}
	beside, err := a.studio.Store.Files(a.ID, "beside")
	if err != nil {
		return "", nil, err
	}
	all, err := mesh.Own(files[0], beside)
	if err != nil {
		return "", nil, err
	}
	a.mu.Lock()
	m, doc, have := a.model, a.doc.Clone(), len(a.pictures)
	a.mu.Unlock()
	keys := uv.MaterialKeys(m)
	used := make([]bool, len(m.Materials))
	for _, k := range m.Material {
		used[k] = true
	}
	// Each picture comes in once, however many channels read it.
	type key struct {
		sum   [32]byte
		space string
	}
	at := map[key]int{}
	var rows []store.Picture
	var kept []store.File
	row := func(p *mesh.OwnPicture) (int, bool) {
		k := key{sha256.Sum256(p.Data), ownSpace(p.Role)}
		if p.Role == mesh.OwnOpacity {
			k.space = ownSpace(mesh.OwnBase) // alpha of the colours
		}
		if i, ok := at[k]; ok {
			return i, i >= 0
		}
		pic, err := imgfile.Read(p.Name, p.Data)
		if err != nil {
			notes = append(notes, fmt.Sprintf("%s: %v.", p.Name, err))
			at[k] = -1
			return -1, false
		}
		at[k] = len(rows)
		rows = append(rows, store.Picture{AssetID: a.ID, Name: p.Name, Space: k.space, Width: pic.Width, Height: pic.Height, Channels: pic.Channels})
		kept = append(kept, store.File{Name: p.Name, Data: p.Data})
		return at[k], true
	}
	type laid struct {
		to *strata.Value
		i  int
	}
	group := doc.NewLayer("The model’s materials")
	group.Group, group.What, group.Where = true, strata.What{}, nil
	var layers []strata.Layer
	var sources [][]laid
	for i := range all {
		o := &all[i]
		slot := slices.IndexFunc(m.Materials, func(k mesh.Material) bool { return k.Name == o.Name })
		if slot < 0 || !used[slot] {
			continue
		}
		l := doc.NewLayer(o.Name)
		l.In, l.Targets = group.ID, []string{keys[slot]}
		over := func(v *strata.Value, number float32, hex string) {
			v.On, v.Number, v.Hex, v.Blend, v.Opacity = true, number, hex, "over", 1
		}
		w := &l.What
		over(&w.Colour, 0, hexOf(o.Colour))
		over(&w.Roughness, o.Roughness, "")
		over(&w.Metallic, o.Metallic, "")
		w.Height.On = false
		if o.Emissive != [3]float32{} {
			over(&w.Emissive, 0, hexOf(o.Emissive))
		}
		var of []laid
		for k := range o.Pictures {
			p := &o.Pictures[k]
			to := map[string]*strata.Value{mesh.OwnBase: &w.Colour, mesh.OwnRoughness: &w.Roughness, mesh.OwnMetallic: &w.Metallic, mesh.OwnOcclusion: &w.Occlusion, mesh.OwnNormal: &w.Normal, mesh.OwnEmissive: &w.Emissive, mesh.OwnOpacity: &w.Opacity}[p.Role]
			n, ok := row(p)
			if !ok {
				continue
			}
			if p.Role == mesh.OwnOpacity && rows[n].Channels != 4 && p.Of == "alpha" {
				continue // it has none
			}
			high := float32(1)
			switch p.Role {
			case mesh.OwnRoughness:
				high = o.Roughness
			case mesh.OwnMetallic:
				high = o.Metallic
			}
			blend := "over"
			switch p.Role {
			case mesh.OwnOcclusion:
				blend = "multiply"
			case mesh.OwnNormal:
				blend = "add"
			}
			from := &strata.Source{Kind: "picture", Of: p.Of, High: high, Lay: map[string]float64{"by": strata.ByUV, "channel": float64(p.Channel)}}
			if p.Role == mesh.OwnNormal {
				from.Of = strata.NormalOf[0]
			}
			to.On, to.Blend, to.Opacity, to.Number, to.Source = true, blend, 1, 1, from
			of = append(of, laid{to, n})
		}
		layers, sources = append(layers, l), append(sources, of)
	}
	if len(layers) == 0 {
		return "", notes, errors.New("the model came without materials that can be taken in; glTF, GLB and OBJ with MTL bring them along")
	}
	if have+len(rows) > MaxPictures {
		return "", notes, fmt.Errorf("with the %d pictures of the model's materials there would be more than %d, which is the limit of an asset", len(rows), MaxPictures)
	}
	if err := a.studio.Store.AddPictures(rows, kept); err != nil {
		return "", notes, err
	}
	a.mu.Lock()
	a.pictures = append(a.pictures, rows...)
	a.tell(a.stateEvent())
	bottom := "" // without layers there is none to lie above
	if len(a.doc.Layers) > 0 {
		bottom = a.doc.Layers[0].ID
	}
	a.mu.Unlock()
	// Layers hold their own values from here on, so the sources get their marks last.
	for i := range layers {
		for _, ch := range strata.Channels {
			v := ch.Of(&layers[i].What)
			if v.Source == nil {
				continue
			}
			for _, s := range sources[i] {
				if s.to.Source == v.Source {
					v.Source.Picture = markOf(&rows[s.i])
				}
			}
		}
	}
	clip, err := json.Marshal(strata.Clip{Layers: append(layers, group)})
	if err != nil {
		return "", notes, err
	}
	mark, err = a.Edit(strata.Edit{Do: "paste", Layer: bottom, Value: clip}, false)
	return mark, notes, err
}

// hexOf is a colour of three sRGB values.
func hexOf(c [3]float32) string {
	var b strings.Builder
	b.WriteByte('#')
	for _, v := range c {
		fmt.Fprintf(&b, "%02x", int(min(1, max(0, v))*255+0.5))
	}
	return b.String()
}

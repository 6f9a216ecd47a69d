package studio

import (
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"crust/internal/core/imgfile"
	"crust/internal/core/mesh"
	lay "crust/internal/core/picture"
	"crust/internal/core/strata"
	"crust/internal/store"
)

// MaxPictures bounds the pictures of an asset.
const MaxPictures = 200

// PictureEvent is a picture as the page shows it.
type PictureEvent struct {
	Mark     string `json:"mark"`
	Name     string `json:"name"`
	Space    string `json:"space"`
	Channel  string `json:"channel,omitempty"`
	Inverted bool   `json:"inverted,omitempty"`
	Width    int    `json:"width"`
	Height   int    `json:"height"`
	Channels int    `json:"channels"`
}

// markOf is a picture's mark in documents; no other asset has the same.
func markOf(p *store.Picture) string { return "p" + strconv.Itoa(int(p.ID)) }

func pictureEvents(rows []store.Picture) []PictureEvent {
	out := []PictureEvent{}
	for i := range rows {
		p := &rows[i]
		out = append(out, PictureEvent{markOf(p), p.Name, p.Space, p.Channel, p.Inverted, p.Width, p.Height, p.Channels})
	}
	return out
}

// AddPictures brings pictures in, and guesses what they hold; zips are opened. What is no picture is named in notes, and
// nothing is brought in when none is one.
func (a *Asset) AddPictures(u Upload) (added []PictureEvent, notes []string, err error) {
	files, err := mesh.Unpack(u)
	if err != nil {
		return nil, nil, err
	}
	var rows []store.Picture
	var kept []store.File
	for _, f := range files {
		name := path.Base(f.Name)
		p, err := imgfile.Read(name, f.Data)
		if err != nil {
			notes = append(notes, err.Error())
			continue
		}
		channel, inverted := lay.ChannelOf(name)
		rows = append(rows, store.Picture{AssetID: a.ID, Name: name, Space: string(lay.Guess(p, channel)), Channel: channel, Inverted: inverted, Width: p.Width, Height: p.Height, Channels: p.Channels})
		kept = append(kept, store.File{Name: name, Data: f.Data})
	}
	if len(rows) == 0 {
		return nil, nil, errors.New(strings.Join(append([]string{"No picture came in."}, notes...), " "))
	}
	a.mu.Lock()
	have := len(a.pictures)
	a.mu.Unlock()
	if have+len(rows) > MaxPictures {
		return nil, nil, fmt.Errorf("%d pictures are more than an asset keeps; it has %d, and %d is the limit", len(rows), have, MaxPictures)
	}
	if err := a.studio.Store.AddPictures(rows, kept); err != nil {
		return nil, nil, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.pictures = append(a.pictures, rows...)
	a.tell(a.stateEvent())
	return pictureEvents(rows), notes, nil
}

// pictureRow finds a picture by its mark.
func (a *Asset) pictureRow(mark string) (*store.Picture, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	i := slices.IndexFunc(a.pictures, func(p store.Picture) bool { return markOf(&p) == mark })
	if i < 0 {
		return nil, fmt.Errorf("picture %s: %w", mark, store.ErrNone)
	}
	row := a.pictures[i]
	return &row, nil
}

// bringPictures brings along the pictures of layers, or of a Where, that are pasted from another asset: each gets a row of this asset's
// own, and the sources lead there. Those that are gone stay as they are and lay nothing down. The caller holds mu.
func (a *Asset) bringPictures(e strata.Edit) (strata.Edit, error) {
	var clip strata.Clip
	if json.Unmarshal(e.Value, &clip) != nil {
		return e, nil // which the edit itself refuses, in its own words
	}
	var rows []store.Picture
	var files []store.File
	var marks []string
	sources := clip.Sources()
	for _, s := range sources {
		id, err := strconv.Atoi(strings.TrimPrefix(s.Picture, "p"))
		if err != nil || slices.Contains(marks, s.Picture) || slices.ContainsFunc(a.pictures, func(p store.Picture) bool { return p.ID == uint(id) }) {
			continue
		}
		row, err := a.studio.Store.Picture(uint(id))
		if err != nil {
			continue
		}
		f, err := a.studio.Store.PictureFile(row)
		if err != nil {
			return e, err
		}
		marks = append(marks, s.Picture)
		row.ID, row.AssetID = 0, a.ID
		rows, files = append(rows, *row), append(files, f)
	}
	if len(rows) == 0 {
		return e, nil
	}
	if len(a.pictures)+len(rows) > MaxPictures {
		return e, fmt.Errorf("with the pictures of what is pasted there would be more than %d, which is the limit of an asset", MaxPictures)
	}
	if err := a.studio.Store.AddPictures(rows, files); err != nil {
		return e, err
	}
	a.pictures = append(a.pictures, rows...)
	for _, s := range sources {
		if i := slices.Index(marks, s.Picture); i >= 0 {
			s.Picture = markOf(&rows[i])
		}
	}
	a.tell(a.stateEvent())
	value, err := json.Marshal(clip)
	e.Value = value
	return e, err
}

// PictureFile reads a picture of the asset as it came.
func (a *Asset) PictureFile(mark string) (*imgfile.Picture, error) {
	row, err := a.pictureRow(mark)
	if err != nil {
		return nil, err
	}
	f, err := a.studio.Store.PictureFile(row)
	if err != nil {
		return nil, err
	}
	return imgfile.Read(f.Name, f.Data)
}

// picture makes a picture ready to be laid; nil when there is none of that mark.
func (a *Asset) picture(mark string) (*lay.Picture, error) {
	row, err := a.pictureRow(mark)
	if err != nil {
		return nil, nil
	}
	p, err := a.PictureFile(mark)
	if err != nil {
		return nil, err
	}
	return lay.New(p, lay.Space(row.Space))
}

// SetSpace says what a picture's values mean.
func (a *Asset) SetSpace(mark, space string) error {
	if s := lay.Space(space); s != lay.Colour && s != lay.Data {
		return fmt.Errorf("a picture holds colour or data, not “%s”", space)
	}
	row, err := a.pictureRow(mark)
	if err != nil {
		return err
	}
	if err := a.studio.Store.SetSpace(row, space); err != nil {
		return err
	}
	a.studio.cache.ForgetPicture(mark)
	a.mu.Lock()
	defer a.mu.Unlock()
	for i := range a.pictures {
		if markOf(&a.pictures[i]) == mark {
			a.pictures[i].Space = space
		}
	}
	// All is evaluated anew, as when maps have changed.
	for i := range a.sets {
		a.mapsVersion[a.sets[i].Key]++
	}
	a.changed()
	a.tell(a.stateEvent())
	return nil
}

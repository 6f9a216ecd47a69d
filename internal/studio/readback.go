package studio

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"crust/internal/core/bake"
	"crust/internal/core/deliver"
	"crust/internal/core/uv"
	"crust/internal/store"
)

// delivered is a delivery of the asset, its note, and what opens its files where they lie now: in their folder, or in the zip.
func (a *Asset) delivered(id uint) (*store.Delivery, *deliver.Delivery, deliver.Opened, error) {
	rows, err := a.Deliveries()
	if err != nil {
		return nil, nil, nil, err
	}
	i := slices.IndexFunc(rows, func(d store.Delivery) bool { return d.ID == id })
	if i < 0 {
		return nil, nil, nil, fmt.Errorf("delivery %d: %w", id, store.ErrNone)
	}
	row := &rows[i]
	note, err := deliver.ParseNote([]byte(row.Note))
	if err != nil {
		return nil, nil, nil, err
	}
	name := a.studio.Store.ZipOf(row)
	open := func(file string) ([]byte, error) {
		if filepath.Base(file) != file {
			return nil, fs.ErrNotExist
		}
		if row.Folder != "" {
			if data, err := os.ReadFile(filepath.Join(row.Folder, file)); err == nil || !errors.Is(err, fs.ErrNotExist) {
				return data, err
			}
		}
		z, err := zip.OpenReader(name)
		if err != nil {
			return nil, err
		}
		defer z.Close()
		f, err := z.Open(file)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		return io.ReadAll(f)
	}
	return row, note, open, nil
}

// ReadFile is a delivered file as it lies there now.
type ReadFile struct {
	deliver.Written
	State string `json:"state"`
}

// ReadDelivery tells of each file of a delivery whether it is there as it was delivered.
func (a *Asset) ReadDelivery(id uint) ([]ReadFile, error) {
	_, note, open, err := a.delivered(id)
	if err != nil {
		return nil, err
	}
	out := make([]ReadFile, len(note.Files))
	for i := range note.Files {
		out[i] = ReadFile{note.Files[i], note.Files[i].State(open)}
	}
	return out, nil
}

// readSide bounds the pictures of a delivery that a page shows, in px.
const readSide = 1024

// WiredFiles reads a set's delivered files back, wired by their note.
func (a *Asset) WiredFiles(id uint, set string, bare bool) (*deliver.Wired, error) {
	_, note, open, err := a.delivered(id)
	if err != nil {
		return nil, err
	}
	m, sets := a.Model()
	i := slices.IndexFunc(sets, func(s uv.Set) bool { return s.Key == set })
	if i < 0 {
		return nil, fmt.Errorf("there is no set “%s” any more", set)
	}
	return deliver.Wire(note, m, &sets[i], readSide, bare, open)
}

// DeliveredPlane is one channel of a delivered file in grey.
func (a *Asset) DeliveredPlane(id uint, file string, k, most int) ([]byte, int, error) {
	_, note, open, err := a.delivered(id)
	if err != nil {
		return nil, 0, err
	}
	for i := range note.Files {
		if note.Files[i].File == file && k >= 0 && k < 4 {
			return deliver.PlanePicture(&note.Files[i], k, most, open)
		}
	}
	return nil, 0, fmt.Errorf("the delivery has no file “%s”", file)
}

// CompareDelivery holds a delivery's files against the strata as they are now, as a job; Differences has what it found.
func (a *Asset) CompareDelivery(id uint) error {
	row, note, open, err := a.delivered(id)
	if err != nil {
		return err
	}
	h := parseShipping(row.Shipping)
	j, err := a.shippingJob(h)
	if err != nil {
		j, err = a.shippingJob(newShipping()) // its preset is gone; the note says what is in the files
		if err != nil {
			return err
		}
	}
	a.mu.Lock()
	reads := a.reads(j.Document)
	for _, k := range bake.Kinds {
		if slices.ContainsFunc(note.Files, func(w deliver.Written) bool { return w.Reads(k.Name) }) && !slices.Contains(reads, k.Name) {
			reads = append(reads, k.Name)
		}
	}
	a.mu.Unlock()
	return a.start("compare", "Read back", func(ctx context.Context, _ *Job, share func(float64)) error {
		j.Maps = func(set string) (map[string]*bake.Map, error) { return a.mapsOf(j.Sets, set, reads) }
		j.Pictures, j.Progress, j.SizeOf, j.Size = a.picture, share, nil, 0
		out, err := deliver.Compare(ctx, j, note, open)
		if err != nil {
			return err
		}
		a.mu.Lock()
		defer a.mu.Unlock()
		a.differences = map[uint][]deliver.Difference{id: out}
		return nil
	})
}

// Differences are what CompareDelivery found of a delivery, nil when it was not run since.
func (a *Asset) Differences(id uint) []deliver.Difference {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.differences[id]
}

// Package studio holds open assets: their document, caches, jobs and the pages that watch them. It
// knows nothing of HTTP.
package studio

import (
	"context"
	"encoding/json"
	"fmt"
	"path"
	"path/filepath"
	"strings"
	"sync"

	"crust/internal/core/bake"
	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
	"crust/internal/store"
)

// Studio owns the store and the open assets.
type Studio struct {
	Store *store.Store
	mu    sync.Mutex
	open  map[uint]*Asset
	ctx   context.Context
	close context.CancelFunc
	wait  sync.WaitGroup
}

// New opens a studio over a store. Close ends its work.
func New(s *store.Store) *Studio {
	st := &Studio{Store: s, open: map[uint]*Asset{}}
	st.ctx, st.close = context.WithCancel(context.Background())
	return st
}

// Close stops all jobs and waits for them.
func (s *Studio) Close() {
	s.close()
	s.wait.Wait()
}

// Sizes are the working sizes that sets may have, in px.
var Sizes = []int{256, 512, 1024, 2048}

// Settings of an asset's bakes.
type Settings struct {
	Quality string  `json:"quality"`
	Size    int     `json:"size"`
	Radius  float64 `json:"radius"` // metres; 0 is suggested from the model
	Far     float64 `json:"far"`
	Front   float64 `json:"front"`
	Rear    float64 `json:"rear"`
}

// Quality is a named choice of rays and samples.
type Quality struct {
	Name    string `json:"name"`
	Label   string `json:"label"`
	Rays    int    `json:"rays"`
	Samples int    `json:"samples"`
}

// Qualities lists the choices. 16 rays are blotchy, 64 clean enough to work with (common practice).
var Qualities = []Quality{{"draft", "Draft", 16, 1}, {"normal", "Normal", 64, 1}, {"final", "Final", 512, 4}}

func (s Settings) bake() (bake.Settings, error) {
	for _, q := range Qualities {
		if q.Name == s.Quality {
			b := bake.Settings{Size: s.Size, Rays: q.Rays, Samples: q.Samples, Radius: s.Radius, Far: s.Far, Front: s.Front, Rear: s.Rear}
			return b, b.Check()
		}
	}
	return bake.Settings{}, fmt.Errorf("“%s” is not a quality", s.Quality)
}

// Upload is files that were brought in together.
type Upload []store.File

// model picks the one model among the files.
func (u Upload) model() (store.File, []store.File, error) {
	at := -1
	var names []string
	for i, f := range u {
		names = append(names, f.Name)
		if mesh.Readers[strings.ToLower(filepath.Ext(f.Name))] != nil {
			if at >= 0 {
				return store.File{}, nil, fmt.Errorf("%s and %s are both models; bring in one at a time", u[at].Name, f.Name)
			}
			at = i
		}
	}
	if at < 0 {
		return store.File{}, nil, fmt.Errorf("%s: no model among these files; Crust reads .obj, .glb and .gltf", strings.Join(names, ", "))
	}
	beside := append(append([]store.File{}, u[:at]...), u[at+1:]...)
	return u[at], beside, nil
}

func readModel(f store.File, beside []store.File) (*mesh.Model, error) {
	return mesh.Read(f.Name, f.Data, func(name string) ([]byte, error) {
		for _, b := range beside {
			if strings.EqualFold(path.Base(b.Name), name) {
				return b.Data, nil
			}
		}
		return nil, fmt.Errorf("%s was not given", name)
	})
}

// Create makes an asset from a model. Nothing is stored when the model is refused.
func (s *Studio) Create(name string, u Upload, doc *strata.Document) (uint, error) {
	f, beside, err := u.model()
	if err != nil {
		return 0, err
	}
	m, err := readModel(f, beside)
	if err != nil {
		return 0, err
	}
	split := uv.PerMaterial
	if len(m.Materials) == 1 {
		split = uv.Single
	}
	if _, err := uv.Sets(m, split); err != nil {
		return 0, err
	}
	if name == "" {
		name = strings.TrimSuffix(f.Name, filepath.Ext(f.Name))
	}
	if doc == nil {
		doc = new(strata.Document)
		base := doc.NewLayer("Base")
		doc.Layers = []strata.Layer{base}
	}
	text, err := json.Marshal(doc)
	if err != nil {
		return 0, err
	}
	set, err := json.Marshal(Settings{Quality: "normal", Size: 1024})
	if err != nil {
		return 0, err
	}
	a := &store.Asset{Name: name, Split: split, Size: 1024, Settings: string(set), ModelName: f.Name}
	if err := s.Store.Create(a, f, beside, string(text)); err != nil {
		return 0, err
	}
	return a.ID, nil
}

// Delete closes and removes an asset.
func (s *Studio) Delete(id uint) error {
	s.mu.Lock()
	a := s.open[id]
	delete(s.open, id)
	s.mu.Unlock()
	if a != nil {
		a.shut()
	}
	return s.Store.Delete(id)
}

// Open returns the open asset, loading it when it is not open yet.
func (s *Studio) Open(id uint) (*Asset, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if a := s.open[id]; a != nil {
		return a, nil
	}
	a, err := s.load(id)
	if err != nil {
		return nil, err
	}
	s.open[id] = a
	s.wait.Go(a.paint)
	return a, nil
}

func (s *Studio) load(id uint) (*Asset, error) {
	row, err := s.Store.Asset(id)
	if err != nil {
		return nil, err
	}
	files, err := s.Store.Files(id, "model")
	if err != nil || len(files) != 1 {
		return nil, fmt.Errorf("the model of asset %d cannot be read: %v", id, err)
	}
	beside, err := s.Store.Files(id, "beside")
	if err != nil {
		return nil, err
	}
	a := &Asset{studio: s, ID: id, name: row.Name, split: row.Split, size: row.Size, modelName: row.ModelName, highName: row.HighName,
		modelHash: hashOf(files[0].Data), wake: make(chan struct{}, 1), pages: map[*Page]bool{}, mapsVersion: map[string]int{}, mapsNew: map[string]bool{}}
	if a.model, err = readModel(files[0], beside); err != nil {
		return nil, err
	}
	if a.sets, err = uv.Sets(a.model, a.split); err != nil {
		return nil, err
	}
	if err := json.Unmarshal([]byte(row.Settings), &a.settings); err != nil {
		return nil, err
	}
	if a.highName != "" {
		a.highHash = row.HighName // replaced by the contents' hash when it is read
		hs, err := s.Store.Files(id, "high")
		if err != nil {
			return nil, err
		}
		if len(hs) == 1 {
			a.highHash = hashOf(hs[0].Data)
		}
	}
	if err := a.readMaps(); err != nil {
		return nil, err
	}
	j, err := s.Store.Journal(id)
	if err != nil {
		return nil, err
	}
	a.ctx, a.stop = context.WithCancel(s.ctx)
	return a, a.take(j)
}

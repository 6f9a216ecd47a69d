// Package studio holds open assets: their document, caches, jobs and the pages that watch them. It
// knows nothing of HTTP.
package studio

import (
	"context"
	"encoding/json"
	"fmt"
	"path"
	"runtime/debug"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"crust/internal/core/bake"
	"crust/internal/core/compose"
	"crust/internal/core/mesh"
	"crust/internal/core/par"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
	"crust/internal/store"
)

// Studio owns the store and the open assets.
type Studio struct {
	Store   *store.Store
	Root    string         // below which folders of deliveries lie; empty for zips alone. It is set before the studio is used
	cache   *compose.Cache // of what tiles were evaluated to, of all assets
	mu      sync.Mutex
	open    map[uint]*opening
	ctx     context.Context
	close   context.CancelFunc
	wait    sync.WaitGroup
	alphas  sync.Map     // pictures of brushes, by their hashes
	jobs    atomic.Int32 // that run, of all assets
	strokes atomic.Int32 // the number given last to a stroke of any asset
	short   bool         // memory is, and caches are small; tidy alone knows
}

// opening is an asset that is open or being opened.
type opening struct {
	ready chan struct{} // closed when asset and err stand
	asset *Asset
	err   error
}

// What is kept of evaluated tiles, of all open assets, is bounded by a twelfth of the memory that the process may take, within these.
const leastCache, mostCache = 512 << 20, 2 << 30

func cacheBytes() int { return int(min(mostCache, max(leastCache, par.MemoryLimit()/12))) }

// New opens a studio over a store. Close ends its work.
func New(s *store.Store) *Studio {
	st := &Studio{Store: s, cache: compose.NewCache(cacheBytes()), open: map[uint]*opening{}}
	if n, err := s.LastStroke(); err == nil { // where it cannot be read, nothing can be stored either
		st.strokes.Store(n)
	}
	st.ctx, st.close = context.WithCancel(context.Background())
	st.wait.Go(st.tidy)
	return st
}

// Close stops all jobs and waits for them.
func (s *Studio) Close() {
	s.close()
	s.wait.Wait()
}

// Assets that no page looks at are closed after a while.
const (
	closeAfter = 2 * time.Minute
	tidyEvery  = 20 * time.Second
	easeEvery  = time.Second
)

// pressed is from which share of the memory that there is on caches have to give way, and eased from where on they may grow again.
const pressed, eased = 0.8, 0.6

// ease has the caches give way where memory runs short, and grow again where it does not.
func (s *Studio) ease(share float64) {
	switch {
	case share > pressed && !s.short:
		s.short = true
		s.cache.Hold(cacheBytes(), 1./8)
		debug.FreeOSMemory()
	case share < eased && s.short:
		s.short = false
		s.cache.Hold(cacheBytes(), 1)
	}
}

// tidy closes assets that nobody uses, and watches memory, until the studio closes.
func (s *Studio) tidy() {
	tick, ease := time.NewTicker(tidyEvery), time.NewTicker(easeEvery)
	defer tick.Stop()
	defer ease.Stop()
	for {
		select {
		case <-s.ctx.Done():
			return
		case <-ease.C:
			s.ease(par.Pressed())
		case now := <-tick.C:
			s.closeIdle(now.Add(-closeAfter))
		}
	}
}

// closeIdle closes the assets that nobody has used since then, and gives their memory back.
func (s *Studio) closeIdle(then time.Time) (closed int) {
	s.mu.Lock()
	var idle []*Asset
	for id, o := range s.open {
		select {
		case <-o.ready:
			if o.asset != nil && o.asset.idleSince(then) {
				idle = append(idle, o.asset)
				delete(s.open, id)
			}
		default:
		}
	}
	s.mu.Unlock()
	for _, a := range idle {
		a.shut()
	}
	if len(idle) > 0 {
		debug.FreeOSMemory()
	}
	return len(idle)
}

// Sizes are the working sizes that sets may have, in px.
var Sizes = []int{256, 512, 1024, 2048}

// Settings of an asset's bakes.
type Settings struct {
	Quality string  `json:"quality"`
	Size    int     `json:"size"`   // of all maps in px; 0 is each set's own
	Radius  float64 `json:"radius"` // metres; 0 is suggested from the model
	Far     float64 `json:"far"`
	Front   float64 `json:"front"`
	Rear    float64 `json:"rear"`
	Sees    string  `json:"sees"` // see bake.Settings
	Ground  bool    `json:"ground"`
	Deep    float64 `json:"deep"`
	ID      string  `json:"id"`

	Parts    map[string]bake.Reach `json:"parts"`    // reach of single low-poly parts
	Endings  []string              `json:"endings"`  // of part names, passed over in pairing; nil for the usual ones
	Straight bool                  `json:"straight"` // rays follow the low-poly's own normals

	Words map[string][]string `json:"words"` // more words that file names call maps by, by kind
}

// Quality is a named choice of rays and samples.
type Quality struct {
	Name    string `json:"name"`
	Label   string `json:"label"`
	Rays    int    `json:"rays"`
	Samples int    `json:"samples"`
}

// Qualities lists the choices. 16 rays are blotchy, 64 clean enough to work with (common practice).
var Qualities = []Quality{{"draft", "Draft", 16, 1}, {"normal", "Normal", 64, 4}, {"final", "Final", 512, 16}}

// MaxEndings and MaxWords limit the lists that a user may extend.
const MaxEndings, MaxWords = 40, 60

func (s Settings) bake() (bake.Settings, error) {
	if len(s.Endings) > MaxEndings {
		return bake.Settings{}, fmt.Errorf("more than %d endings of part names", MaxEndings)
	}
	if s.Size == 0 {
		s.Size = DefaultSize // stands in; each set has its own
	}
	var names []string
	for _, q := range Qualities {
		names = append(names, q.Name)
		if q.Name == s.Quality {
			b := bake.Settings{Size: s.Size, Rays: q.Rays, Samples: q.Samples, Radius: s.Radius, Far: s.Far, Front: s.Front, Rear: s.Rear, Sees: s.Sees, Ground: s.Ground, Deep: s.Deep, ID: s.ID,
				Parts: s.Parts, Endings: s.Endings, Straight: s.Straight}
			return b, b.Check()
		}
	}
	return bake.Settings{}, fmt.Errorf("“%s” is not a quality; use %s", s.Quality, strings.Join(names, ", "))
}

// Upload is files that were brought in together.
type Upload []store.File

// model picks the one model among the files, those in zips included.
func (u Upload) model() (store.File, []store.File, error) {
	files, err := mesh.Unpack(u)
	if err != nil {
		return store.File{}, nil, err
	}
	return mesh.Pick(files)
}

// Create makes an asset from a model. Nothing is stored when the model is refused.
func (s *Studio) Create(name string, u Upload, doc *strata.Document) (uint, error) {
	return s.CreatePainted(name, u, doc, nil)
}

// CreatePainted is Create with the strokes of the document, whose numbers become new ones.
func (s *Studio) CreatePainted(name string, u Upload, doc *strata.Document, painted strata.Painting) (uint, error) {
	f, beside, err := u.model()
	if err != nil {
		return 0, err
	}
	m, err := mesh.Open(f, beside)
	if err != nil {
		return 0, err
	}
	// A model that cannot be worked with in metres is taken in the first unit in which it can.
	in := newIntake()
	if in.Metres = m.UnitFor(); in.Metres == 0 {
		return 0, fmt.Errorf("%s: %w", path.Base(f.Name), m.CheckSize())
	}
	if in.Metres == 1 {
		in.Metres = 0
	}
	split := uv.PerMaterial
	if len(m.Materials) == 1 {
		split = uv.Single
	}
	if _, err := uv.Sets(m, split); err != nil {
		return 0, err
	}
	if name == "" {
		name = strings.TrimSuffix(path.Base(f.Name), path.Ext(f.Name)) // in a zip it may lie in a folder
	}
	if doc == nil {
		doc = new(strata.Document)
		base := doc.NewLayer("Base")
		doc.Layers = []strata.Layer{base}
	}
	for _, k := range painted {
		for _, a := range k.Pictures() {
			if err := s.keepAlpha(a); err != nil {
				return 0, err
			}
		}
	}
	strokes := s.number(doc, painted)
	text, err := json.Marshal(doc)
	if err != nil {
		return 0, err
	}
	set, err := json.Marshal(Settings{Quality: "normal"})
	if err != nil {
		return 0, err
	}
	columns, err := in.columns(split)
	if err != nil {
		return 0, err
	}
	a := &store.Asset{Name: name, Split: split, Size: 1024, Settings: string(set), Intake: columns["intake"].(string), ModelName: f.Name}
	if err := s.Store.Create(a, f, beside, string(text), strokes...); err != nil {
		return 0, err
	}
	return a.ID, nil
}

// Delete closes an asset, waits for the work on it to end, and removes it.
func (s *Studio) Delete(id uint) error {
	s.mu.Lock()
	o := s.open[id]
	delete(s.open, id)
	s.mu.Unlock()
	if o != nil {
		if <-o.ready; o.asset != nil {
			o.asset.shut()
		}
	}
	return s.Store.Delete(id)
}

// Open returns the open asset, loading it when it is not open yet. Others are opened meanwhile.
func (s *Studio) Open(id uint) (*Asset, error) {
	s.mu.Lock()
	o := s.open[id]
	if o != nil {
		s.mu.Unlock()
		if <-o.ready; o.asset != nil {
			o.asset.touch()
		}
		return o.asset, o.err
	}
	o = &opening{ready: make(chan struct{})}
	s.open[id] = o
	s.mu.Unlock()
	defer close(o.ready)
	var a *Asset
	err := func() (err error) {
		defer par.Catch(&err)
		a, err = s.load(id)
		return err
	}()
	if err != nil {
		o.err = err
		s.mu.Lock()
		if s.open[id] == o {
			delete(s.open, id)
		}
		s.mu.Unlock()
		return nil, err
	}
	o.asset = a
	a.run(a.paint)
	return a, nil
}

func (s *Studio) load(id uint) (*Asset, error) {
	row, err := s.Store.Asset(id)
	if err != nil {
		return nil, err
	}
	a := &Asset{studio: s, ID: id, name: row.Name, size: row.Size, modelName: row.ModelName,
		wake: make(chan struct{}, 1), asked: make(chan func(e *easel)), pages: map[*Page]bool{}, mapsNew: map[string]bool{}, unsaved: map[int32]bool{}, inks: map[*Page]*inking{}}
	in, err := parseIntake(row.Intake)
	if err != nil {
		return nil, fmt.Errorf("the intake settings of asset %d cannot be read: %w", id, err)
	}
	t, err := s.take(id, in, row.Split)
	if err != nil {
		return nil, err
	}
	a.adopt(t, in, row.Split)
	if err := json.Unmarshal([]byte(row.Settings), &a.settings); err != nil {
		return nil, err
	}
	hs, err := s.Store.Files(id, "high")
	if err != nil {
		return nil, err
	}
	a.highs, a.highHash = highOf(hs)
	a.shipping, a.mark = parseShipping(row.Shipping), fmt.Sprintf("%d-%x", id, row.Created.UnixNano())
	if a.pictures, err = s.Store.Pictures(id); err != nil {
		return nil, err
	}
	if a.strokes, err = s.loadStrokes(id); err != nil {
		return nil, err
	}
	for _, k := range a.strokes {
		a.idHeld = a.idHeld || k.NeedsIDs()
	}
	if a.keepsakes, err = s.Store.Keepsakes(id); err != nil {
		return nil, err
	}
	a.used = time.Now()
	snap, ops, err := s.Store.History(id)
	if err != nil {
		return nil, err
	}
	if a.history, err = readHistory(snap, ops); err != nil {
		return nil, err
	}
	a.ctx, a.stop = context.WithCancel(s.ctx)
	a.doc, err = store.Replay(snap, ops)
	a.version++
	return a, err
}

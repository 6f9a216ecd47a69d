package studio

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"crust/internal/core/bake"
	"crust/internal/core/brush"
	"crust/internal/core/compose"
	"crust/internal/core/deliver"
	"crust/internal/core/inspect"
	"crust/internal/core/mesh"
	"crust/internal/core/par"
	"crust/internal/core/strata"
	"crust/internal/core/uv"
	"crust/internal/store"
)

// Asset is an open asset. Its fields are guarded by mu; the painter goroutine owns the canvases.
type Asset struct {
	studio *Studio
	ID     uint
	ctx    context.Context
	stop   context.CancelFunc
	wake   chan struct{}

	still        stillShown
	choosing     sync.Mutex // held while settings are read, changed and stored; taken before mu
	mu           sync.Mutex
	name, split  string
	size         int
	modelName    string
	flat         bool // the model is a flat square that could repeat
	highs        []HighFile
	highHash     string            // of all of them, empty when there is none
	source       *prepared         // what the last bake was prepared with
	preparing    sync.Mutex        // one at a time makes it
	changing     sync.Mutex        // of high-poly files; taken before mu
	whole        string            // see taken
	setHash      map[string]string // see taken
	intake       Intake
	modelVersion int // grows when the page must load the model anew
	settled      int // grows with every change of intake and split
	report       *inspect.Report
	looking      *looking // a look that will give the report, nil for none
	pending      *pending
	waiting      []*waiting // brought pictures whose match is not confirmed yet, the newest last
	model, high  *mesh.Model
	sets         []uv.Set
	settings     Settings
	shipping     Shipping
	differences  map[uint][]deliver.Difference // by delivery: what reading it back found, of the last alone
	mark         string                        // tells it from others of its name, wherever they are
	rows         map[[2]string]store.Baked
	maps         map[string]map[string]*bakeMap // read as they are needed
	mapsUsed     [][2]string                    // those in memory, the one used last at the end
	pictures     []store.Picture
	keepsakes    []store.Keepsake    // without their documents, the newest first
	asked        chan func(e *easel) // questions to the painter, who answers between rounds
	mapsVersion  map[string]int      // by set; grows when new maps are to be painted with
	mapsNew      map[string]bool     // sets whose maps the running job has replaced
	doc, live    *strata.Document
	history      *history
	over         *overlay // the live edit, nil for none
	strokes      map[int32]*brush.Stroke
	unsaved      map[int32]bool // strokes that are not stored yet
	later        *time.Timer    // that has the rest painted when the hand rests
	idHeld       bool           // some stroke depends on the ID map
	inks         map[*Page]*inking
	found        found  // where strokes have a surface
	full, wet    bool   // what the painter has to do: everything, or what strokes that are being made touch
	inkRound     bool   // it is at the latter
	version      int    // grows with every change of what is painted
	touched      string // the layer that was edited last
	cancelPaint  context.CancelFunc
	finish       bool // what the painter is at may be finished, although a control is dragged on
	job          *Job
	pages        map[*Page]bool
	coverage     map[string]float64
	used         time.Time // when it was last asked for
	held         int       // requests that are at work on it
	work         workers   // goroutines that are
}

// workers counts goroutines. Unlike a sync.WaitGroup it may be added to while it is waited for.
type workers struct {
	mu   sync.Mutex
	n    int
	none chan struct{} // closed when n falls to 0, nil when nobody waits
}

func (w *workers) add(by int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.n += by; w.n == 0 && w.none != nil {
		close(w.none)
		w.none = nil
	}
}

// wait returns when there are none.
func (w *workers) wait() {
	w.mu.Lock()
	if w.n == 0 {
		w.mu.Unlock()
		return
	}
	if w.none == nil {
		w.none = make(chan struct{})
	}
	none := w.none
	w.mu.Unlock()
	<-none
}

type bakeMap = bake.Map

func hashOf(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:12])
}

// shut ends all work on the asset and waits for it.
func (a *Asset) shut() {
	a.stop()
	a.work.wait()
}

// run runs f on a goroutine that shut and the studio's Close wait for.
func (a *Asset) run(f func()) {
	a.work.add(1)
	a.studio.wait.Go(func() {
		defer a.work.add(-1)
		f()
	})
}

// ErrFault is what a person is told when Crust itself failed; the log has the rest.
var ErrFault = errors.New("Crust met a fault of its own and ended this piece of work; what is stored is unharmed, and the server's log tells more")

// guard runs a piece of work; a panic in it ends the work alone.
func (a *Asset) guard(what string, f func() error) error {
	err := func() (err error) {
		defer par.Catch(&err)
		return f()
	}()
	var p *par.Panic
	if errors.As(err, &p) {
		slog.Error("a fault ended a piece of work", "work", what, "asset", a.ID, "fault", p.Value, "trace", string(p.Trace))
		return ErrFault
	}
	return err
}

func (a *Asset) touch() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.used = time.Now()
}

// Hold keeps the asset open until Release.
func (a *Asset) Hold() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.held++
	a.used = time.Now()
}

// Release ends a Hold.
func (a *Asset) Release() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.held--
	a.used = time.Now()
}

// idleSince tells whether nobody has looked at or worked on the asset since then.
func (a *Asset) idleSince(then time.Time) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return len(a.pages) == 0 && a.job == nil && a.held == 0 && a.used.Before(then)
}

// changed wakes the painter and ends the work that it is at. The caller holds mu.
func (a *Asset) changed() {
	if a.cancelPaint != nil {
		a.cancelPaint()
	}
	a.nudge()
}

// nudge wakes the painter, which finishes what it is at first. The caller holds mu.
func (a *Asset) nudge() {
	a.full = true
	a.version++
	select {
	case a.wake <- struct{}{}:
	default:
	}
}

// SetSize changes the working size of all sets.
func (a *Asset) SetSize(size int) error {
	ok := false
	for _, s := range Sizes {
		ok = ok || s == size
	}
	if !ok {
		return fmt.Errorf("a working size of %d px is not offered; use one of %v", size, Sizes)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if err := a.studio.Store.Update(a.ID, map[string]any{"size": size}); err != nil {
		return err
	}
	a.size = size
	a.changed()
	a.tell(a.stateEvent())
	return nil
}

// Rename changes the asset's name.
func (a *Asset) Rename(name string) error {
	if name == "" || len(name) > strata.MaxName {
		return fmt.Errorf("an asset's name has 1 to %d letters", strata.MaxName)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if err := a.studio.Store.Update(a.ID, map[string]any{"name": name}); err != nil {
		return err
	}
	a.name = name
	a.tell(a.stateEvent())
	return nil
}

var errBusy = errors.New("a job is running; stop it or wait for it")

// ChangeSettings changes some settings of coming bakes: the members of a JSON object of Settings.
func (a *Asset) ChangeSettings(change json.RawMessage) error {
	a.choosing.Lock()
	defer a.choosing.Unlock()
	a.mu.Lock()
	s := a.settings
	a.mu.Unlock()
	s, err := changed(s, change)
	if err != nil {
		return err
	}
	return a.SetSettings(s)
}

// SetSettings stores the settings of coming bakes.
func (a *Asset) SetSettings(s Settings) error {
	if _, err := s.bake(); err != nil {
		return err
	}
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if err := a.studio.Store.Update(a.ID, map[string]any{"settings": string(text)}); err != nil {
		return err
	}
	a.settings = s
	a.tell(a.stateEvent())
	return nil
}

// SetPicture stores the card's picture.
func (a *Asset) SetPicture(png []byte) error {
	return a.studio.Store.Update(a.ID, map[string]any{"picture": png})
}

// Model is the low-poly and its sets.
func (a *Asset) Model() (*mesh.Model, []uv.Set) {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.model, a.sets
}

// Map returns a baked map, read from the store when it is not in memory.
func (a *Asset) Map(set, kind string) (*bake.Map, error) {
	a.mu.Lock()
	m := a.maps[set][kind]
	row, ok := a.rows[[2]string{set, kind}]
	if m != nil {
		a.keepMap(m)
	}
	a.mu.Unlock()
	if m != nil {
		return m, nil
	}
	if !ok {
		return nil, fmt.Errorf("map %s of set “%s”: %w", kind, set, store.ErrNone)
	}
	m, err := a.studio.Store.Map(a.ID, set, kind)
	if err != nil {
		return nil, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if now, ok := a.rows[[2]string{set, kind}]; ok && now.BlobID == row.BlobID && a.maps[set][kind] == nil {
		a.keepMap(m)
	}
	return m, nil
}

// mapBytes is how much of baked maps is kept in memory; the rest is read again when it is needed.
const mapBytes = 256 << 20

// keepMap puts a map in memory as the one used last, and lets those go that were not used for longest.
func (a *Asset) keepMap(m *bakeMap) {
	if a.maps[m.Set] == nil {
		a.maps[m.Set] = map[string]*bakeMap{}
	}
	a.maps[m.Set][m.Kind] = m
	key := [2]string{m.Set, m.Kind}
	a.mapsUsed = append(slices.DeleteFunc(a.mapsUsed, func(k [2]string) bool { return k == key }), key)
	total, from := 0, len(a.mapsUsed)
	for from > 0 {
		k := a.mapsUsed[from-1]
		if o := a.maps[k[0]][k[1]]; o != nil {
			if total += 2 * len(o.Pix); total > mapBytes && from < len(a.mapsUsed) {
				break
			}
		}
		from--
	}
	for _, k := range a.mapsUsed[:from] {
		delete(a.maps[k[0]], k[1])
	}
	a.mapsUsed = a.mapsUsed[from:]
}

// readMaps reads what maps of some kinds the sets have. The caller does not hold mu.
func (a *Asset) readMaps(sets []uv.Set, kinds []string) (map[string]map[string]*bakeMap, error) {
	a.mu.Lock()
	var keys [][2]string
	for key := range a.rows {
		if _, ok := uv.Find(sets, key[0]); ok && slices.Contains(kinds, key[1]) {
			keys = append(keys, key)
		}
	}
	a.mu.Unlock()
	out := map[string]map[string]*bakeMap{}
	for _, key := range keys {
		m, err := a.Map(key[0], key[1])
		if errors.Is(err, store.ErrNone) {
			continue // it went meanwhile
		}
		if err != nil {
			return nil, err
		}
		if out[key[0]] == nil {
			out[key[0]] = map[string]*bakeMap{}
		}
		out[key[0]][key[1]] = m
	}
	return out, nil
}

// mapsOf reads the maps of some kinds of one of the sets.
func (a *Asset) mapsOf(sets []uv.Set, set string, kinds []string) (map[string]*bakeMap, error) {
	i := slices.IndexFunc(sets, func(s uv.Set) bool { return s.Key == set })
	of, err := a.readMaps(sets[i:i+1], kinds)
	return of[set], err
}

// reads lists the baked maps that an evaluation of a document takes from. The caller holds mu.
func (a *Asset) reads(d *strata.Document) []string {
	out := compose.Reads(d)
	if a.idHeld && !slices.Contains(out, bake.ID) {
		out = append(out, bake.ID)
	}
	return out
}

// putMap takes a finished map in and tells the pages.
func (a *Asset) putMap(m *bake.Map, stamp string, brought bool) error {
	if err := a.storeMap(m, stamp, brought); err != nil {
		return err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.tell(a.stateEvent())
	return nil
}

// storeMap stores a finished map, then uses it.
func (a *Asset) storeMap(m *bake.Map, stamp string, brought bool) error {
	if err := a.studio.Store.PutMap(a.ID, m, stamp, brought); err != nil {
		return fmt.Errorf("the map could not be saved: %w", err)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	rows, err := a.studio.Store.Maps(a.ID)
	if err != nil {
		return err
	}
	for _, r := range rows {
		a.rows[[2]string{r.Set, r.Kind}] = r
	}
	a.keepMap(m)
	// A bake is painted with when it is done, so that the two do not take turns map by map.
	a.mapsNew[m.Set] = true
	if a.job == nil {
		a.useNewMaps()
	}
	return nil
}

// useNewMaps lets the painter see the maps that have come. The caller holds mu.
func (a *Asset) useNewMaps() {
	if len(a.mapsNew) == 0 {
		return
	}
	for set := range a.mapsNew {
		a.mapsVersion[set]++
	}
	clear(a.mapsNew)
	a.changed()
}

// views are the pictures that pages show of the evaluated channels.
var views = map[string]compose.View{"base": compose.ViewBase, "orm": compose.ViewORM, "normal": compose.ViewNormal, "height": compose.ViewHeight,
	"emissive": compose.ViewEmissive, "opacity": compose.ViewOpacity, "shape": compose.ViewShape}

// Version grows with every change of what is painted; pictures tell the one that they show.
func (a *Asset) Version() int {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.version
}

// Name is the asset's name.
func (a *Asset) Name() string {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.name
}

// Document is a copy of the committed strata.
func (a *Asset) Document() *strata.Document {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.doc.Clone()
}

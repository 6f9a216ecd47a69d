package studio

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"maps"
	"math"
	"slices"
	"strings"

	"crust/internal/core/geom"
	"crust/internal/core/inspect"
	"crust/internal/core/layout"
	"crust/internal/core/mesh"
	"crust/internal/core/uv"
	"crust/internal/store"
)

// Intake is how an asset's model is taken and split.
type Intake struct {
	mesh.Intake
	Names   map[string]string `json:"names"`   // chosen by hand, by key of the set
	Sizes   map[string]int    `json:"sizes"`   // resolution of single sets in px, by key
	Size    int               `json:"size"`    // resolution of all others
	Padding float64           `json:"padding"` // least distance of islands in px
	Layouts []LaidOut         `json:"layouts"` // UV channels made here, in the order of their numbers
}

// LaidOut is a UV channel that was made here.
type LaidOut struct {
	Name    string         `json:"name"`
	Options layout.Options `json:"options"`
	Report  layout.Report  `json:"report"`
	Channel int            `json:"channel"` // that was in use before
	Split   string         `json:"split"`   // that was in use before
	Sets    []string       `json:"sets"`    // keys of the sets before
}

// SetSizes are the resolutions that a set may have, in px.
var SetSizes = []int{256, 512, 1024, 2048, 4096, 8192}

// DefaultSize is the resolution of the sets of a new asset, in px.
const DefaultSize = 1024

// MaxPadding in px.
const MaxPadding = 64

func newIntake() Intake { return Intake{Size: DefaultSize, Padding: inspect.DefaultPadding} }

// sizes looks sets' resolutions up.
func (in *Intake) sizes() func(key string) int {
	own, all := maps.Clone(in.Sizes), in.Size
	return func(key string) int {
		if n := own[key]; n > 0 {
			return n
		}
		return all
	}
}

func parseIntake(text string) (Intake, error) {
	in := newIntake()
	if text == "" {
		return in, nil
	}
	err := json.Unmarshal([]byte(text), &in)
	return in, err
}

// taken is a model as the settings take it, with its sets and what tells whether maps still fit.
type taken struct {
	model   *mesh.Model
	sets    []uv.Set
	whole   string            // hash of all faces' places and normals
	setHash map[string]string // of each set's faces with their UVs, by key
}

// take reads the model anew and does with it as the settings say.
func (s *Studio) take(id uint, in Intake, split string) (*taken, error) {
	return s.takeWith(id, in, split, nil)
}

// takeWith is take with other layouts than the stored ones, nil for these.
func (s *Studio) takeWith(id uint, in Intake, split string, layouts []store.File) (*taken, error) {
	files, err := s.Store.Files(id, "model")
	if err != nil || len(files) != 1 {
		return nil, fmt.Errorf("the model of asset %d cannot be read: %v", id, err)
	}
	beside, err := s.Store.Files(id, "beside")
	if err != nil {
		return nil, err
	}
	m, err := mesh.Open(files[0], beside)
	if err != nil {
		return nil, err
	}
	if layouts == nil {
		if layouts, err = s.Store.Files(id, "layout"); err != nil {
			return nil, err
		}
	}
	return takeModel(m, in, split, layouts)
}

func takeModel(m *mesh.Model, in Intake, split string, layouts []store.File) (*taken, error) {
	if err := in.Apply(m); err != nil {
		return nil, err
	}
	for _, f := range layouts {
		corners, err := unpackCorners(f.Data, len(m.Tris))
		if err != nil {
			return nil, fmt.Errorf("the UV channel “%s”: %w", f.Name, err)
		}
		m.AddChannel(f.Name, corners)
	}
	if err := m.Choose(in.Channel); err != nil {
		return nil, err
	}
	if in.Repeats {
		var err error
		if m.Square, err = m.AsSquare(); err != nil {
			return nil, err
		}
	}
	t := &taken{model: m}
	return t, t.split(in, split)
}

// split divides the model and names the sets.
func (t *taken) split(in Intake, split string) error {
	sets, err := uv.Sets(t.model, split)
	if err != nil {
		return err
	}
	rename(sets, in.Names)
	t.sets = sets
	t.hash()
	return nil
}

// rename gives sets the names chosen by hand; where one is another's by now, that one keeps its own.
func rename(sets []uv.Set, names map[string]string) {
	used := map[string]bool{}
	for i := range sets {
		if n := names[sets[i].Key]; n != "" {
			sets[i].Name = n
			used[strings.ToLower(n)] = true
		}
	}
	for i := range sets {
		if names[sets[i].Key] == "" {
			_, sets[i].Name = uv.CheckName(sets[i].Name, func(n string) bool { return used[n] })
			used[strings.ToLower(sets[i].Name)] = true
		}
	}
}

func (t *taken) hash() {
	m := t.model
	whole := sha256.New()
	t.setHash = map[string]string{}
	put := func(h hash.Hash, buf []byte, tris []int32, uvs bool) {
		for _, tri := range tris {
			for _, v := range m.Tris[tri] {
				p, n := m.Positions[v], m.Normals[v]
				for _, f := range [6]float32{p.X, p.Y, p.Z, n.X, n.Y, n.Z} {
					buf = binary.LittleEndian.AppendUint32(buf, math.Float32bits(f))
				}
				if uvs {
					buf = binary.LittleEndian.AppendUint32(buf, math.Float32bits(m.UVs[v].X))
					buf = binary.LittleEndian.AppendUint32(buf, math.Float32bits(m.UVs[v].Y))
				}
			}
			if len(buf) > 1<<15 {
				h.Write(buf)
				buf = buf[:0]
			}
		}
		h.Write(buf)
	}
	buf := make([]byte, 0, 1<<16)
	for i := range t.sets {
		s := &t.sets[i]
		h := sha256.New()
		fmt.Fprint(h, s.Origin)
		put(h, buf, s.Tris, true)
		sum := h.Sum(nil)
		t.setHash[s.Key] = hex.EncodeToString(sum[:12])
	}
	all := make([]int32, len(m.Tris))
	for i := range all {
		all[i] = int32(i)
	}
	put(whole, buf, all, false)
	sum := whole.Sum(nil)
	t.whole = hex.EncodeToString(sum[:12])
}

// packCorners and unpackCorners turn a channel's UVs into bytes and back.
func packCorners(c [][3]geom.Vec2) []byte {
	out := make([]byte, 0, 24*len(c))
	for _, t := range c {
		for _, p := range t {
			out = binary.LittleEndian.AppendUint32(out, math.Float32bits(p.X))
			out = binary.LittleEndian.AppendUint32(out, math.Float32bits(p.Y))
		}
	}
	return out
}

func unpackCorners(b []byte, tris int) ([][3]geom.Vec2, error) {
	if len(b) != 24*tris {
		return nil, fmt.Errorf("it was made for %d triangles, the model has %d", len(b)/24, tris)
	}
	out := make([][3]geom.Vec2, tris)
	at := func(i int) float32 { return math.Float32frombits(binary.LittleEndian.Uint32(b[4*i:])) }
	for t := range out {
		for k := range 3 {
			out[t][k] = geom.Vec2{X: at(6*t + 2*k), Y: at(6*t + 2*k + 1)}
		}
	}
	return out, nil
}

// state is intake and split at one moment; settled grows with every change of them.
type state struct {
	intake  Intake
	split   string
	settled int
}

// state is a copy of what is now. The caller holds mu.
func (a *Asset) state() state {
	in := a.intake
	in.Names, in.Sizes, in.Layouts = maps.Clone(in.Names), maps.Clone(in.Sizes), slices.Clone(in.Layouts)
	return state{in, a.split, a.settled}
}

// retries is how often work on settings is done anew because they changed meanwhile.
const retries = 4

var errChanged = errors.New("the settings changed again and again meanwhile; try once more")

// adopt makes a taken model the asset's. The caller holds mu.
func (a *Asset) adopt(t *taken, in Intake, split string) {
	a.settled++
	_, err := t.model.AsSquare()
	a.flat = err == nil
	a.model, a.sets, a.whole, a.setHash = t.model, t.sets, t.whole, t.setHash
	a.intake, a.split = in, split
	a.modelVersion++
	a.report = nil
	a.rows = map[[2]string]store.Baked{}
	a.maps = map[string]map[string]*bakeMap{}
	a.mapsVersion = map[string]int{}
	if rows, err := a.studio.Store.Maps(a.ID); err == nil {
		for _, r := range rows {
			a.rows[[2]string{r.Set, r.Kind}] = r
		}
	}
	a.changed()
}

// SetIntake changes how the model is taken: unit, axes, normals, UV channel, padding. The change is live.
func (a *Asset) SetIntake(next Intake) error {
	if err := next.Check(); err != nil {
		return err
	}
	if !(next.Padding >= 0 && next.Padding <= MaxPadding) {
		return fmt.Errorf("a padding of %g px is outside 0–%d px", next.Padding, MaxPadding)
	}
	return a.reshape(func(in *Intake, split *string) error {
		in.Intake, in.Padding = next.Intake, next.Padding
		return nil
	})
}

// settle does work for the settings of one moment and commits it, under mu, if they still hold then; while they
// change it works anew. No job runs meanwhile.
func (a *Asset) settle(work func(s state) (commit func() error, err error)) error {
	for range retries {
		a.mu.Lock()
		s, busy := a.state(), a.job != nil
		a.mu.Unlock()
		if busy {
			return errBusy
		}
		commit, err := work(s)
		if err != nil {
			return err
		}
		if done, err := a.commit(s, commit); done || err != nil {
			return err
		}
	}
	return errChanged
}

// commit calls commit under mu and tells pages the new state, unless settings have changed since s.
func (a *Asset) commit(s state, commit func() error) (done bool, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.job != nil {
		return false, errBusy
	}
	if a.settled != s.settled {
		return false, nil
	}
	if err := commit(); err != nil {
		return false, err
	}
	a.tell(a.stateEvent())
	return true, nil
}

// reshape changes intake and split together: what comes of it is stored before it shows.
func (a *Asset) reshape(change func(in *Intake, split *string) error) error {
	return a.settle(func(s state) (func() error, error) {
		if err := change(&s.intake, &s.split); err != nil {
			return nil, err
		}
		t, err := a.studio.take(a.ID, s.intake, s.split)
		return func() error {
			if err := a.keep(s.intake, s.split); err != nil {
				return err
			}
			a.adopt(t, s.intake, s.split)
			return nil
		}, err
	})
}

// columns are what the store keeps of intake and split.
func (in *Intake) columns(split string) (map[string]any, error) {
	text, err := json.Marshal(in)
	return map[string]any{"intake": string(text), "split": split}, err
}

// keep stores intake and split.
func (a *Asset) keep(in Intake, split string) error {
	c, err := in.columns(split)
	if err != nil {
		return err
	}
	return a.studio.Store.Update(a.ID, c)
}

// Split changes how the asset is split into sets. Layers stay on the faces that they were aimed at;
// baked maps stay with the sets they were baked for and come back when the split does.
func (a *Asset) Split(split string) error {
	a.mu.Lock()
	same := split == a.split
	a.mu.Unlock()
	if same {
		return nil
	}
	return a.reshape(func(_ *Intake, s *string) error {
		*s = split
		return nil
	})
}

// Preview is what a split would give.
func (a *Asset) Preview(split string) ([]uv.Set, error) {
	m, _ := a.Model()
	return uv.Sets(m, split)
}

// light changes intake settings that leave the model as it is.
func (a *Asset) light(change func(in *Intake) error) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	in := a.state().intake
	if err := change(&in); err != nil {
		return err
	}
	if err := a.keep(in, a.split); err != nil {
		return err
	}
	a.intake = in
	a.settled++
	sets, err := uv.Sets(a.model, a.split)
	if err != nil {
		return err
	}
	rename(sets, in.Names)
	a.sets = sets
	a.report = nil
	a.changed()
	a.tell(a.stateEvent())
	return nil
}

// NameSet renames a set. A name that does not fit files is refused with a proposal.
func (a *Asset) NameSet(key, name string) error {
	return a.light(func(in *Intake) error {
		if _, ok := uv.Find(a.sets, key); !ok {
			return fmt.Errorf("there is no set “%s”", key)
		}
		reason, proposal := uv.CheckName(name, func(lower string) bool {
			return slices.ContainsFunc(a.sets, func(s uv.Set) bool { return s.Key != key && strings.ToLower(s.Name) == lower })
		})
		if reason != "" {
			return &NameError{name, reason, proposal}
		}
		if in.Names == nil {
			in.Names = map[string]string{}
		}
		in.Names[key] = name
		return nil
	})
}

// NameError refuses a set's name.
type NameError struct{ Name, Reason, Proposal string }

func (e *NameError) Error() string {
	return fmt.Sprintf("“%s” cannot be a set's name: %s; “%s” can", e.Name, e.Reason, e.Proposal)
}

// SizeSet changes the resolution of one set, or of all when key is empty.
func (a *Asset) SizeSet(key string, size int) error {
	if !slices.Contains(SetSizes, size) {
		return fmt.Errorf("a set of %d px is not offered; use one of %v", size, SetSizes)
	}
	return a.light(func(in *Intake) error {
		if key == "" {
			in.Size, in.Sizes = size, nil
			return nil
		}
		if _, ok := uv.Find(a.sets, key); !ok {
			return fmt.Errorf("there is no set “%s”", key)
		}
		if in.Sizes == nil {
			in.Sizes = map[string]int{}
		}
		in.Sizes[key] = size
		return nil
	})
}

// SetPadding changes the least distance of islands that findings look for.
func (a *Asset) SetPadding(px float64) error {
	if !(px >= 0 && px <= MaxPadding) {
		return fmt.Errorf("a padding of %g px is outside 0–%d px", px, MaxPadding)
	}
	return a.light(func(in *Intake) error {
		in.Padding = px
		return nil
	})
}

// Findings looks at the model, once for each state of it, whoever asks. When nobody waits for it any more
// the look ends.
func (a *Asset) Findings(ctx context.Context) (*inspect.Report, error) {
	a.mu.Lock()
	if r := a.report; r != nil {
		a.mu.Unlock()
		return r, nil
	}
	l := a.looking
	if l == nil || l.settled != a.settled {
		l = a.look()
	}
	l.waiting++
	a.mu.Unlock()
	defer func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		if l.waiting--; l.waiting == 0 {
			l.cancel()
			if a.looking == l {
				a.looking = nil
			}
		}
	}()
	select {
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-l.done:
		return l.report, l.err
	}
}

// looking is a look at the model that is under way.
type looking struct {
	settled int // of the asset when it began
	waiting int // how many wait for it
	cancel  context.CancelFunc
	done    chan struct{} // closed when report and err stand
	report  *inspect.Report
	err     error
}

// look begins a look. The caller holds mu.
func (a *Asset) look() *looking {
	ctx, cancel := context.WithCancel(a.ctx)
	l := &looking{settled: a.settled, cancel: cancel, done: make(chan struct{})}
	a.looking = l
	m, sets, o := a.model, a.sets, inspect.Options{Padding: a.intake.Padding, Size: a.intake.sizes(), Named: map[string]bool{}}
	for key := range a.intake.Names {
		o.Named[key] = true
	}
	a.run(func() {
		defer close(l.done)
		l.err = a.guard("look at the model", func() (err error) {
			l.report, err = inspect.Model(ctx, m, sets, o, nil)
			return err
		})
		a.mu.Lock()
		defer a.mu.Unlock()
		if l.err == nil && a.settled == l.settled {
			a.report = l.report
		}
		if a.looking == l {
			a.looking = nil
		}
	})
	return l
}

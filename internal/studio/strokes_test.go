package studio

import (
	"encoding/json"
	"math"
	"slices"
	"strings"
	"sync"
	"testing"

	"crust/internal/core/brush"
	"crust/internal/core/strata"
)

// latitude is places round the ball of half a metre, at a height.
func latitude(y float64, n int) (out []brush.Point) {
	r := math.Sqrt(0.25 - y*y)
	for i := range n {
		sin, cos := math.Sincos(2 * math.Pi * float64(i) / float64(n))
		p := [3]float64{r * cos, y, r * sin}
		out = append(out, brush.Point{float32(p[0]), float32(p[1]), float32(p[2]), float32(2 * p[0]), float32(2 * p[1]), float32(2 * p[2]), 1})
	}
	return out
}

// paintable is a ball with a brushwork layer.
func paintable(t *testing.T, s *Studio) (a *Asset, to Ink) {
	t.Helper()
	a = ball(t, s)
	layer, err := a.Edit(strata.Edit{Do: "add", Kind: "brush"}, false)
	if err != nil {
		t.Fatal(err)
	}
	l, _, _ := a.Document().Layer(layer)
	return a, Ink{Layer: layer, Clause: l.Where[0].ID}
}

// paint makes one stroke in some messages and returns its number.
func paint(t *testing.T, p *Page, to Ink, points []brush.Point, messages int) int32 {
	t.Helper()
	for i := range messages {
		m := to
		if i == 0 {
			m.Begin = &brush.Stroke{Brush: brush.New(), Size: 0.05}
		}
		m.Points = points[i*len(points)/messages : (i+1)*len(points)/messages]
		m.End = i == messages-1
		n, err := p.Ink(m)
		if err != nil {
			t.Fatal(err)
		}
		if m.End {
			return n
		}
	}
	return 0
}

// Strokes are there after the asset was closed and opened anew, each undone and made again by itself, hundreds deep; one that was
// not ended with its page is kept as far as it came.
func TestStrokesSurviveARestart(t *testing.T) {
	dir := t.TempDir()
	s := newStudio(t, dir)
	a, to := paintable(t, s)
	p := a.Watch("ann")
	p.SetLook(Look{Away: true})
	const many = 300
	var numbers strata.Strokes
	for i := range many {
		numbers = append(numbers, paint(t, p, to, latitude(0.4-0.8*float64(i)/many, 40), 2))
	}
	list := func(a *Asset) strata.Strokes {
		l, _, err := a.Document().Layer(to.Layer)
		if err != nil {
			t.Fatal(err)
		}
		return l.Where[0].Strokes
	}
	if !slices.Equal(list(a), numbers) {
		t.Fatalf("%v are listed, %v were painted", list(a), numbers)
	}
	for range 250 {
		if err := p.Go(-1); err != nil {
			t.Fatal(err)
		}
	}
	if !slices.Equal(list(a), numbers[:50]) {
		t.Errorf("%d strokes after 250 undos, want 50", len(list(a)))
	}
	for range 200 {
		if err := p.Go(1); err != nil {
			t.Fatal(err)
		}
	}
	m := to
	m.Begin, m.Points = &brush.Stroke{Brush: brush.New(), Size: 0.05}, latitude(0.1, 10)
	if _, err := p.Ink(m); err != nil {
		t.Fatal(err)
	}
	p.Leave()
	want := list(a)
	if len(want) != 251 {
		t.Fatalf("%d strokes, want 250 and the one whose page has gone", len(want))
	}
	before := brush.Encode(a.Stroke(want[100]))
	id := a.ID
	s.Close()
	s.Store.Close()

	again := newStudio(t, dir)
	b, err := again.Open(id)
	if err != nil {
		t.Fatal(err)
	}
	if !slices.Equal(list(b), want) {
		t.Errorf("%d strokes after a restart, want %d", len(list(b)), len(want))
	}
	if k := b.Stroke(want[100]); k == nil || !slices.Equal(brush.Encode(k), before) {
		t.Error("a stroke came back as another")
	}
	q := b.Watch("ann")
	defer q.Leave()
	if err := q.Go(-1); err != nil {
		t.Fatal(err)
	}
	if n := paint(t, q, to, latitude(0, 20), 1); n <= want[250] {
		t.Errorf("a new stroke has the number %d, which was given before", n)
	}
}

// Two pages paint at once on one clause: no stroke is lost or mixed with the other's, and each undoes its own.
func TestTwoPagesPaintAtOnce(t *testing.T) {
	s := newStudio(t, t.TempDir())
	a, to := paintable(t, s)
	var all sync.WaitGroup
	made := make([]strata.Strokes, 2)
	pages := []*Page{a.Watch("ann"), a.Watch("bo")}
	for n, p := range pages {
		p.SetLook(Look{Away: true})
		all.Go(func() {
			for i := range 60 {
				made[n] = append(made[n], paint(t, p, to, latitude(0.2*float64(n), 40+i), 5))
			}
		})
	}
	all.Wait()
	l, _, _ := a.Document().Layer(to.Layer)
	both := slices.Concat(made[0], made[1])
	slices.Sort(both)
	listed := slices.Clone(l.Where[0].Strokes)
	slices.Sort(listed)
	if !slices.Equal(both, listed) {
		t.Fatalf("%d strokes are listed, %d were painted", len(listed), len(both))
	}
	for n := range pages {
		for i, number := range made[n] {
			k := a.Stroke(number)
			for _, at := range latitude(0.2*float64(n), 40+i) {
				if d := k.Distance(at.At()); d > 0.0051*k.Size {
					t.Fatalf("stroke %d of page %d does not lead over its sample: %.4f m off", i, n, d)
				}
			}
		}
	}
	for range 60 {
		if err := pages[1].Go(-1); err != nil {
			t.Fatal(err)
		}
	}
	l, _, _ = a.Document().Layer(to.Layer)
	listed = slices.Clone(l.Where[0].Strokes)
	slices.Sort(listed)
	if !slices.Equal(listed, made[0]) {
		t.Errorf("%d strokes are left, want the %d of the other", len(listed), len(made[0]))
	}
	for _, p := range pages {
		p.Leave()
	}
}

// What cannot be painted is told, and nothing is left of it.
func TestStrokesThatAreRefused(t *testing.T) {
	s := newStudio(t, t.TempDir())
	a, to := paintable(t, s)
	p := a.Watch("")
	defer p.Leave()
	good := brush.Stroke{Brush: brush.New(), Size: 0.05}
	for words, m := range map[string]Ink{
		"no layer":         {Layer: "l99", Clause: to.Clause, Begin: &good},
		"no clause":        {Layer: to.Layer, Clause: "c99", Begin: &good},
		"size":             {Layer: to.Layer, Clause: to.Clause, Begin: &brush.Stroke{Brush: brush.New()}},
		"is not a tip":     {Layer: to.Layer, Clause: to.Clause, Begin: &brush.Stroke{Brush: brush.Brush{Name: "Hoof", Tip: "hoof"}, Size: 1}},
		"not of length 1":  {Layer: to.Layer, Clause: to.Clause, Begin: &good, Points: []brush.Point{{0, 0, 0, 9, 9, 9, 1}}},
		"had ended":        {Layer: to.Layer, Clause: to.Clause, End: true},
		"is not a colour":  {Layer: to.Layer, Clause: to.Clause, Begin: &brush.Stroke{Brush: brush.New(), Size: 1, Own: &brush.Values{Colour: "red"}}},
		"cannot be filled": {Layer: to.Layer, Clause: to.Clause, Begin: &brush.Stroke{Brush: brush.New(), Size: 1, Fill: "bucket"}},
	} {
		if _, err := p.Ink(m); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v", words, err)
		}
		if _, err := p.Ink(Ink{Drop: true}); err != nil {
			t.Error(err)
		}
	}
	if _, err := a.Edit(strata.Edit{Do: "set", Layer: to.Layer, Path: "locked", Value: []byte("true")}, false); err != nil {
		t.Fatal(err)
	}
	to.Begin = &good
	if _, err := p.Ink(to); err == nil || !strings.Contains(err.Error(), "locked") {
		t.Errorf("a locked layer: %v", err)
	}
	if rows, err := s.Store.Strokes(a.ID); err != nil || len(rows) > 0 {
		t.Errorf("%d strokes are stored, %v", len(rows), err)
	}
}

// A stamp is sent whole while it is placed, and is one stroke in the end; put in the place of another it is undone to that one;
// given up, it leaves things as they were.
func TestStampsAreSentWhole(t *testing.T) {
	s := newStudio(t, t.TempDir())
	a, to := paintable(t, s)
	p := a.Watch("ann")
	defer p.Leave()
	p.SetLook(Look{Away: true})
	stamp := func(size float32, y float64) *brush.Stroke {
		return &brush.Stroke{Brush: brush.New(), Size: size, Stamp: &brush.Stamp{}, Paths: [][]brush.Point{latitude(y, 1)}}
	}
	list := func() strata.Strokes {
		l, _, err := a.Document().Layer(to.Layer)
		if err != nil {
			t.Fatal(err)
		}
		return l.Where[0].Strokes
	}
	send := func(k *brush.Stroke, instead int32, end bool) int32 {
		m := to
		m.Place, m.Instead, m.End = k, instead, end
		n, err := p.Ink(m)
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	for i := range 5 {
		send(stamp(0.1, 0.05*float64(i)), 0, false)
	}
	first := send(stamp(0.1, 0.3), 0, true)
	if !slices.Equal(list(), strata.Strokes{first}) || a.Stroke(first).Loose() {
		t.Fatalf("%v is listed, %d was placed", list(), first)
	}
	send(stamp(0.2, 0.3), first, false)
	second := send(stamp(0.3, 0.2), first, true)
	if !slices.Equal(list(), strata.Strokes{second}) || a.Stroke(second).Size != 0.3 {
		t.Fatalf("%v is listed, %d took the place of %d", list(), second, first)
	}
	if _, err := p.Ink(Ink{Layer: to.Layer, Clause: to.Clause, Place: stamp(0.1, 0), Instead: first, End: true}); err == nil {
		t.Error("a stamp took the place of one that is not there any more")
	}
	if err := p.Go(-1); err != nil || !slices.Equal(list(), strata.Strokes{first}) {
		t.Errorf("undone it is %v, %v", list(), err)
	}
	send(stamp(0.2, 0), first, false)
	if _, err := p.Ink(Ink{Drop: true}); err != nil || !slices.Equal(list(), strata.Strokes{first}) {
		t.Errorf("given up it is %v, %v", list(), err)
	}
	for words, k := range map[string]*brush.Stroke{"is a stamp": {Brush: brush.New(), Size: 1, Paths: [][]brush.Point{latitude(0, 1)}}, "size": stamp(0, 0)} {
		m := to
		m.Place = k
		if _, err := p.Ink(m); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v", words, err)
		}
	}
}

// Strokes are held by their places: on a model that comes again in another size those are listed that have no surface any more.
func TestStrokesWithoutASurfaceAreListed(t *testing.T) {
	s := newStudio(t, t.TempDir())
	a, to := paintable(t, s)
	p := a.Watch("")
	defer p.Leave()
	p.SetLook(Look{Away: true})
	paint(t, p, to, latitude(0.1, 60), 3)
	lost := func() (n int) {
		list, err := a.StrokesOf(to.Layer, to.Clause, nil)
		if err != nil || len(list) != 1 {
			t.Fatalf("%v, %v", list, err)
		}
		for _, k := range list {
			if k.Lost {
				n++
			}
		}
		return n
	}
	if n := lost(); n != 0 {
		t.Errorf("%d strokes are lost on the model that they were painted on", n)
	}
	a.mu.Lock()
	in := a.intake
	a.mu.Unlock()
	in.Metres = 0.5
	if err := a.SetIntake(in); err != nil {
		t.Fatal(err)
	}
	if n := lost(); n != 1 {
		t.Error("a stroke that hangs in the air is not listed as such")
	}
}

// Layers that are pasted into another asset bring their strokes along, which are that asset's own from then on.
func TestPastedLayersBringTheirStrokes(t *testing.T) {
	s := newStudio(t, t.TempDir())
	a, to := paintable(t, s)
	p := a.Watch("")
	p.SetLook(Look{Away: true})
	paint(t, p, to, latitude(0.1, 60), 3)
	p.Leave()
	l, _, _ := a.Document().Layer(to.Layer)
	b := ball(t, s)
	clip, err := json.Marshal(strata.Clip{Layers: []strata.Layer{*l}})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := b.Edit(strata.Edit{Do: "paste", Value: clip}, false); err != nil {
		t.Fatal(err)
	}
	if err := s.Delete(a.ID); err != nil {
		t.Fatal(err)
	}
	layers := b.Document().Layers
	numbers := layers[len(layers)-1].Where[0].Strokes
	if len(numbers) != 1 || numbers[0] == l.Where[0].Strokes[0] || b.Stroke(numbers[0]) == nil {
		t.Errorf("%v came along", numbers)
	}
	rows, err := s.Store.Strokes(b.ID)
	if err != nil || len(rows) != 1 || rows[0].ID != numbers[0] {
		t.Errorf("%d strokes are stored with the other asset, %v", len(rows), err)
	}
	if _, err := s.Store.Stroke(l.Where[0].Strokes[0]); err == nil {
		t.Error("a stroke of a deleted asset is stored still")
	}
}

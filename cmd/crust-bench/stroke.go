package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"os"
	"runtime"
	"slices"
	"sync/atomic"
	"time"

	"crust/internal/core/brush"
	"crust/internal/core/geom"
	"crust/internal/core/mesh"
	"crust/internal/core/strata"
	"crust/internal/demo"
	"crust/internal/store"
	"crust/internal/studio"
)

// easelRig is the demo's buoy at 2048 px, three sets, watched by a page: three layers, a brushwork with height, and twelve above
// it, of which one reads the relief.
type easelRig struct {
	asset  *studio.Asset
	page   *studio.Page
	layer  string
	clause string
	events chan watched
	bytes  atomic.Int64
	path   []brush.Point // round the hull
	pitch  float64       // metres a texel of the hull
}

type watched struct {
	T       string `json:"t"`
	Version int    `json:"version"`
}

// withEasel runs f on a rig.
func withEasel(f func(r *easelRig) map[string]any) map[string]any {
	s, end := freshStudio()
	defer end()
	a := drafted(s, "buoy", 512)
	r := &easelRig{asset: a, events: make(chan watched, 100_000)}
	var old []string
	for _, l := range a.Document().Layers {
		old = append(old, l.ID)
	}
	_, err := a.Edit(strata.Edit{Do: "delete", Layers: old}, false)
	check(err)
	stack := deepStack(16)
	painted := &stack.Layers[3]
	c, err := stack.NewClause("brush")
	check(err)
	painted.Name, painted.Where = "painted", []strata.Clause{c}
	painted.What.Height = strata.Value{On: true, Number: 0.5, Blend: "add", Opacity: 1}
	relief, err := stack.NewClause("relief")
	check(err)
	stack.Layers[9].Where[2] = relief
	clip, err := json.Marshal(strata.Clip{Layers: stack.Layers})
	check(err)
	_, err = a.Edit(strata.Edit{Do: "paste", Value: clip}, false)
	check(err)
	check(a.SetSize(2048))
	for _, l := range a.Document().Layers {
		if l.Name == "painted" {
			r.layer, r.clause = l.ID, l.Where[0].ID
		}
	}
	m, sets := a.Model()
	r.pitch = 1 / sets[0].Density(2048)
	r.path = ring(m, 4000)
	done := r.watch()
	defer done()
	time.Sleep(time.Second)
	profileFromHere()
	return f(r)
}

// watch opens a page that acknowledges all it is sent, and waits until it has everything.
func (r *easelRig) watch() (done func()) {
	r.page = r.asset.Watch("")
	ctx, stop := context.WithCancel(context.Background())
	go r.page.Run(ctx, func(b []byte) error {
		var e watched
		if err := json.Unmarshal(b, &e); err != nil {
			return err
		}
		r.events <- e
		return nil
	}, func(b []byte) error {
		r.bytes.Add(int64(len(b)))
		r.page.Ack()
		return nil
	})
	r.wait(func(e watched) bool { return e.T == "coverage" })
	return func() { r.page.Leave(); stop() }
}

func (r *easelRig) wait(f func(e watched) bool) {
	for e := range r.events {
		if f(e) {
			return
		}
	}
}

// ring is places of a model's outer side at two fifths of its height, once round and rising a little.
func ring(m *mesh.Model, n int) (out []brush.Point) {
	b := m.Bounds()
	mid, far := b.Centre(), b.Diagonal()
	for i := range n {
		a := 2 * math.Pi * float64(i) / float64(n)
		way := geom.Vec3{X: -float32(math.Cos(a)), Z: -float32(math.Sin(a))}
		from := geom.Vec3{X: mid.X, Y: b.Min.Y + 0.2*b.Size().Y + 0.02*b.Size().Y*float32(math.Sin(9*a)), Z: mid.Z}.Sub(way.Mul(far))
		if at, n, ok := m.FirstHit(from, way); ok {
			out = append(out, brush.Point{at.X, at.Y, at.Z, n.X, n.Y, n.Z, 1})
		}
	}
	return out
}

// stroke paints with a brush so many texels wide, a batch of four samples at a time, and measures from each batch to the last of
// its tiles given to the socket.
func stroke(texels float64) map[string]any {
	return withEasel(func(r *easelRig) map[string]any { return r.paint(texels) })
}

func (r *easelRig) paint(texels float64) map[string]any {
	b := brush.New()
	size := float32(texels * r.pitch)
	// Samples as a hand makes them that moves on by six brushes a second and is told of sixty times.
	step := max(1, int(float64(size)/40/(float64(r.path[1].At().Dist(r.path[0].At()))+1e-9)))
	const warm, batches = 8, 120
	var spent []float64
	before := int64(0)
	at := 0
	next := func() (some []brush.Point) {
		for range 4 {
			some = append(some, r.path[at%len(r.path)])
			at += step
		}
		return some
	}
	for n := range warm + batches {
		ink := studio.Ink{Layer: r.layer, Clause: r.clause, Points: next()}
		if n == 0 {
			ink.Begin = &brush.Stroke{Brush: b, Size: size, Seed: 5}
		}
		if n == warm {
			before = r.bytes.Load()
		}
		for len(r.events) > 0 {
			<-r.events
		}
		begun := time.Now()
		_, err := r.page.Ink(ink)
		check(err)
		v := r.asset.Version()
		r.wait(func(e watched) bool { return e.T == "inked" && e.Version >= v })
		if n >= warm {
			spent = append(spent, time.Since(begun).Seconds()*1000)
		}
		time.Sleep(8 * time.Millisecond)
	}
	_, err := r.page.Ink(studio.Ink{Layer: r.layer, Clause: r.clause, End: true})
	check(err)
	slices.Sort(spent)
	return map[string]any{"median_ms": round(spent[len(spent)/2]), "p95_ms": round(spent[len(spent)*95/100]), "texels": texels, "batch_texels": round(texels / 10), "size_cm": round(float64(size) * 100), "kbytes": round(float64(r.bytes.Load()-before) / batches / 1000)}
}

// burst sends 2,000 samples as fast as they go, and tells when the last of them is seen.
func burst() map[string]any {
	return withEasel(func(r *easelRig) map[string]any {
		begun := time.Now()
		for n := range 2000 {
			ink := studio.Ink{Layer: r.layer, Clause: r.clause, Points: r.path[n : n+1]}
			if n == 0 {
				ink.Begin = &brush.Stroke{Brush: brush.New(), Size: float32(60 * r.pitch), Seed: 5}
			}
			_, err := r.page.Ink(ink)
			check(err)
		}
		v := r.asset.Version()
		r.wait(func(e watched) bool { return e.T == "inked" && e.Version >= v })
		all := time.Since(begun).Seconds()
		number, err := r.page.Ink(studio.Ink{Layer: r.layer, Clause: r.clause, End: true})
		check(err)
		s := r.asset.Stroke(number)
		far := float32(0)
		for i := range 2000 {
			far = max(far, s.Distance(r.path[i].At()))
		}
		if far > 0.0051*s.Size {
			check(fmt.Errorf("a sample lies %g m beside the stroke", far))
		}
		return map[string]any{"seconds": round(all), "points": len(s.Paths[0])}
	})
}

// manyStrokes opens an asset of 20,000 strokes, and asks what one tile's worth of them costs against all.
func manyStrokes() map[string]any {
	dir, err := os.MkdirTemp("", "crust-bench")
	check(err)
	defer os.RemoveAll(dir)
	s, end := openStudio(dir)
	low, _ := demo.Buoy()
	path := ring(low, 4000)
	doc := new(strata.Document)
	base, l := doc.NewLayer("Base"), doc.NewLayer("Strokes")
	c, err := doc.NewClause("brush")
	check(err)
	painted := strata.Painting{}
	const many = 20_000
	for n := int32(1); n <= many; n++ {
		at := int(n) * 7919 % (len(path) - 12)
		painted[n] = &brush.Stroke{Brush: brush.New(), Size: 0.01 + 0.00002*float32(n%1000), Seed: uint32(n), Paths: [][]brush.Point{path[at : at+4+int(n%8)]}}
		c.Strokes = append(c.Strokes, n)
	}
	l.Where = append(l.Where, c)
	doc.Layers = append(doc.Layers, base, l)
	var file bytes.Buffer
	check(demo.WriteModel(&file, low))
	id, err := s.CreatePainted("many", studio.Upload{store.File{Name: "buoy.glb", Data: file.Bytes()}}, doc, painted)
	check(err)
	end()
	s, end = openStudio(dir)
	defer end()
	begun := time.Now()
	a, err := s.Open(id)
	check(err)
	opened := time.Since(begun).Seconds()
	r := &easelRig{asset: a, events: make(chan watched, 100_000), layer: a.Document().Layers[1].ID, clause: a.Document().Layers[1].Where[0].ID, path: path}
	_, sets := a.Model()
	r.pitch = 1 / sets[0].Density(1024)
	done := r.watch()
	defer done()
	seen := time.Since(begun).Seconds()
	time.Sleep(time.Second)
	// A stroke of 40 texels at 1024 px, batch by batch, over all of them.
	out := r.paint(40)
	out["open_s"], out["seen_s"], out["strokes"] = round(opened), round(seen), many
	return out
}

// tenThousand makes 10,000 short strokes one after the other, and tells what the process holds after 1,000 and after all of them,
// and how long a stroke takes among the first thousand and among the last.
func tenThousand() map[string]any {
	return withEasel(func(r *easelRig) map[string]any {
		const many, part = 10_000, 1000
		held := func() float64 {
			runtime.GC()
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			return round(float64(m.HeapAlloc) / (1 << 20))
		}
		out := map[string]any{"strokes": many}
		begun := time.Now()
		for n := 1; n <= many; n++ {
			at := n * 7919 % (len(r.path) - 12)
			ink := studio.Ink{Layer: r.layer, Clause: r.clause, Begin: &brush.Stroke{Brush: brush.New(), Size: float32(40 * r.pitch), Seed: uint32(n)}, Points: r.path[at : at+12], End: true}
			_, err := r.page.Ink(ink)
			check(err)
			v := r.asset.Version()
			r.wait(func(e watched) bool { return e.T == "inked" && e.Version >= v })
			switch {
			case n == part:
				out["first_ms"] = round(time.Since(begun).Seconds() * 1000 / part)
				out["heap_mb_1000"] = held()
			case n == many-part:
				begun = time.Now()
			case n == many:
				out["last_ms"] = round(time.Since(begun).Seconds() * 1000 / part)
				out["heap_mb"] = held()
			}
		}
		return out
	})
}

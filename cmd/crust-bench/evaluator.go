package main

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"crust/internal/core/bake"
	"crust/internal/core/compose"
	"crust/internal/core/deliver"
	"crust/internal/core/mesh"
	"crust/internal/core/par"
	"crust/internal/core/strata"
	"crust/internal/core/surface"
	"crust/internal/core/uv"
	"crust/internal/demo"
)

// evaluator is three sets of 2048² with the maps that 20 layers of 3 clauses read: a third of the clauses from baked maps, a
// third closed forms, a third noise. Every fourth layer lays down all channels.
type evaluator struct {
	doc    *strata.Document
	sets   []*compose.Canvas
	keys   [][]compose.Keys
	texels int
}

var theEvaluator = sync.OnceValue(func() *evaluator {
	const size = 2048
	low, sets, src := buoy(size, 16)
	e := &evaluator{doc: deepStack(20)}
	e.open(low, sets, src, size, 512<<20)
	return e
})

// open bakes what the stack reads and makes the canvases.
func (e *evaluator) open(low *mesh.Model, sets []uv.Set, src *bake.Source, size, bound int) {
	ctx := context.Background()
	cache := compose.NewCache(bound)
	maps := map[string]map[string]*bake.Map{}
	for i := range sets {
		made, err := src.Bake(ctx, &sets[i], []string{bake.AO, bake.Curvature, bake.WorldNormal, bake.Normal}, nil)
		check(err)
		maps[sets[i].Key] = map[string]*bake.Map{}
		for _, m := range made {
			maps[sets[i].Key][m.Kind] = m
		}
	}
	body := compose.NewBody(cache, low, sets, func(set string) (map[string]*bake.Map, error) { return maps[set], nil })
	for i := range sets {
		c, err := compose.NewCanvas(ctx, body, &sets[i], size)
		check(err)
		e.sets, e.keys = append(e.sets, c), append(e.keys, make([]compose.Keys, len(c.Surf.Tiles)))
		e.texels += c.Len()
	}
}

// deepStack is layers of three clauses each.
func deepStack(layers int) *strata.Document {
	d := new(strata.Document)
	kinds := [3][]string{{"edges", "shelter", "crevices"}, {"facing", "reach", "facing"}, {"noise", "noise", "noise"}}
	for n := range layers {
		l := d.NewLayer(fmt.Sprintf("layer %d", n))
		l.What.Colour.Hex = fmt.Sprintf("#%02x%02x%02x", (40+9*n)%256, (9928-7*n)%256, (90+3*n)%256)
		if n%4 == 0 {
			l.What.Metallic.On, l.What.Height.On, l.What.Height.Number = true, true, 0.2
		}
		for k := range kinds {
			c, err := d.NewClause(kinds[k][n%3])
			check(err)
			c.Join = "or"
			switch c.Kind {
			case "noise":
				c.Params["size"], c.Params["seed"] = 0.03+0.01*float64(n), float64(n)
			case "reach":
				c.Params["to"] = 3
			}
			c.Shape.Contrast = 0.3
			l.Where = append(l.Where, c)
		}
		d.Layers = append(d.Layers, l)
	}
	check(d.Check())
	return d
}

// program is that of a set; last is that of the set before, from the same document.
func (e *evaluator) program(last *compose.Program, c *compose.Canvas) *compose.Program {
	compile := func() (*compose.Program, error) { return c.Compile(e.doc) }
	if last != nil {
		compile = func() (*compose.Program, error) { return last.For(c) }
	}
	p, err := compile()
	check(err)
	return p
}

// run evaluates what an edit has changed down to bytes; first is when the first tiles stood, both in seconds.
func (e *evaluator) run(chosen string) (first, full float64, tiles int64) {
	begun := time.Now()
	var when, count atomic.Int64
	bytes := make([][]uint8, par.Slots)
	var p *compose.Program
	for i, c := range e.sets {
		p = e.program(p, c)
		check(c.Run(context.Background(), p, compose.Pass{
			Chosen: chosen,
			Has:    func(t int) compose.Keys { return e.keys[i][t] },
			Do: func(w, t int, is compose.Keys, ch *compose.Channels) {
				if bytes[w] == nil {
					bytes[w] = make([]uint8, 3*surface.TileSize*surface.TileSize)
				}
				for _, v := range []compose.View{compose.ViewBase, compose.ViewORM, compose.ViewNormal} {
					if v.Of(ch) {
						v.Quantise(ch, bytes[w])
					}
				}
				e.keys[i][t] = is
				if count.Add(1) == 8 {
					when.Store(int64(time.Since(begun)))
				}
			},
		}))
	}
	return time.Duration(when.Load()).Seconds(), time.Since(begun).Seconds(), count.Load()
}

func fromNothing() map[string]any {
	e := theEvaluator()
	_, full, tiles := e.run("")
	return map[string]any{"seconds": round(full), "texels": e.texels, "tiles": tiles, "layers": len(e.doc.Layers)}
}

// settle brings everything up to date, so that an edit is measured alone.
func (e *evaluator) settle(chosen string) {
	for range 2 {
		e.run(chosen)
	}
}

func oneNoise() map[string]any {
	e := theEvaluator()
	return e.dragNoise(&e.doc.Layers[11])
}

// dragNoise drags the size of a layer's third clause.
func (e *evaluator) dragNoise(l *strata.Layer) map[string]any {
	e.settle(l.ID)
	profileFromHere()
	first, full := math.Inf(1), math.Inf(1)
	for turn := range 5 {
		l.Where[2].Params["size"] = 0.05 + 0.003*float64(turn)
		a, b, _ := e.run(l.ID)
		first, full = min(first, a), min(full, b)
	}
	return map[string]any{"first_ms": round(first * 1000), "full_ms": round(full * 1000)}
}

// oneRadius drags the softening of a clause of the middle, then the radius of a clause of relief.
func oneRadius() map[string]any {
	e := theEvaluator()
	l := &e.doc.Layers[11]
	was := l.Where
	defer func() { l.Where = was }()
	least := func(set func(radius float64)) float64 {
		full := math.Inf(1)
		for turn := range 6 {
			set(0.03 + 0.001*float64(turn))
			if _, b, _ := e.run(l.ID); turn > 0 {
				full = min(full, b)
			}
		}
		return full
	}
	l.Where = slices.Clone(was)
	e.settle(l.ID)
	soften := least(func(r float64) { l.Where[2].Shape.Soften = float32(r) })
	c, err := e.doc.NewClause("relief")
	check(err)
	c.Join = "or"
	l.Where = append(slices.Clone(was)[:2], c)
	relief := least(func(r float64) { l.Where[2].Params["radius"] = r })
	return map[string]any{"full_ms": round(max(soften, relief) * 1000), "soften_ms": round(soften * 1000), "relief_ms": round(relief * 1000)}
}

func topOpacity() map[string]any {
	e := theEvaluator()
	l := &e.doc.Layers[len(e.doc.Layers)-1]
	full := math.Inf(1)
	for turn := range 6 {
		l.Opacity = 0.9 - 0.1*float32(turn)
		if _, b, _ := e.run(l.ID); turn > 0 {
			full = min(full, b)
		}
	}
	return map[string]any{"full_ms": round(full * 1000)}
}

// oneTile changes a value low in the stack and makes one tile's bytes, on one core.
func oneTile() map[string]any {
	e := theEvaluator()
	e.settle("")
	c := e.sets[0]
	best := slices.MaxFunc(seq(len(c.Surf.Tiles)), func(a, b int) int { return c.Surf.Tiles[a].Len() - c.Surf.Tiles[b].Len() })
	bytes := make([]uint8, 3*surface.TileSize*surface.TileSize)
	var spent []float64
	for turn := range 41 {
		e.doc.Layers[3].What.Roughness.Number = 0.2 + 0.01*float32(turn)
		begun := time.Now()
		p, err := c.Compile(e.doc)
		check(err)
		check(c.Run(context.Background(), p, compose.Pass{Tiles: []int{best}, Do: func(_, _ int, _ compose.Keys, ch *compose.Channels) {
			for _, v := range []compose.View{compose.ViewBase, compose.ViewORM, compose.ViewNormal} {
				v.Quantise(ch, bytes)
			}
		}}))
		spent = append(spent, time.Since(begun).Seconds())
	}
	slices.Sort(spent)
	return map[string]any{"median_ms": round(spent[len(spent)/2] * 1000), "texels": c.Surf.Tiles[best].Len()}
}

func seq(n int) []int {
	out := make([]int, n)
	for i := range out {
		out[i] = i
	}
	return out
}

// page drags a slider of the demo as a page does and waits for the pictures: the first tiles, then all of them, received and
// acknowledged.
func page() map[string]any {
	s, done := freshStudio()
	defer done()
	id, err := demo.Create(s)
	check(err)
	a, err := s.Open(id)
	check(err)
	a.WaitJob(nil)
	p := a.Watch("")
	defer p.Leave()
	events := make(chan string, 1000)
	var bytes atomic.Int64
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	go p.Run(ctx, func(b []byte) error {
		var e struct{ T string }
		if err := json.Unmarshal(b, &e); err != nil {
			return err
		}
		events <- e.T
		return nil
	}, func(b []byte) error {
		bytes.Add(int64(len(b)))
		select {
		case events <- "rect":
		default:
		}
		p.Ack()
		return nil
	})
	wait := func(what string) {
		for e := range events {
			if e == what {
				return
			}
		}
	}
	wait("coverage")
	time.Sleep(time.Second)
	layer, clause := "", ""
	for _, l := range a.Document().Layers {
		for _, c := range l.Where {
			if l.Name == "Rust in seams" && c.Kind == "noise" {
				layer, clause = l.ID, c.ID
			}
		}
	}
	first, full, sent := math.Inf(1), math.Inf(1), int64(0)
	for turn := range 9 {
		for len(events) > 0 {
			<-events
		}
		t, before := time.Now(), bytes.Load()
		_, err := a.Edit(strata.Edit{Do: "clause.set", Layer: layer, Clause: clause, Path: "params.size", Value: json.RawMessage(fmt.Sprint(0.05 + 0.002*float64(turn)))}, true)
		check(err)
		wait("rect")
		first = min(first, time.Since(t).Seconds())
		wait("coverage")
		for n := int64(-1); n != bytes.Load(); time.Sleep(5 * time.Millisecond) { // what is still on its way
			n = bytes.Load()
		}
		full = min(full, time.Since(t).Seconds()-0.005)
		sent = bytes.Load() - before
	}
	return map[string]any{"first_ms": round(first * 1000), "full_ms": round(full * 1000), "mbytes": round(float64(sent) / 1e6)}
}

// openLarge opens four sets at 4096 px with the bytes that pages take their pictures from, and edits a noise in the middle
// and the top layer's opacity.
func openLarge() {
	const size = 4096
	low, high := demo.Winch()
	sets, err := uv.Sets(low, uv.PerTile)
	check(err)
	src, err := bake.Prepare(context.Background(), low, high, bake.Settings{Size: size / 4, Rays: 16, Samples: 1})
	check(err)
	e := &evaluator{doc: deepStack(20)}
	e.open(low, sets, src, size, 512<<20)
	views := []compose.View{compose.ViewBase, compose.ViewORM, compose.ViewNormal}
	pix := make([][][]uint8, len(e.sets))
	for i, c := range e.sets {
		for range views {
			pix[i] = append(pix[i], make([]uint8, 3*c.Len()))
		}
	}
	evaluate := func() {
		var p *compose.Program
		for i, c := range e.sets {
			p = e.program(p, c)
			check(c.Run(context.Background(), p, compose.Pass{Has: func(t int) compose.Keys { return e.keys[i][t] }, Do: func(_, t int, is compose.Keys, ch *compose.Channels) {
				for k, v := range views {
					if v.Of(ch) {
						v.Quantise(ch, pix[i][k][3*c.Surf.Tiles[t].From:3*c.Surf.Tiles[t].To])
					}
				}
				e.keys[i][t] = is
			}}))
		}
	}
	evaluate()
	e.doc.Layers[11].Where[2].Params["size"] = 0.07
	evaluate()
	e.doc.Layers[19].Opacity = 0.5
	evaluate()
}

// deliverLarge delivers a set at 8192 px from 20 layers and maps of that size.
func deliverLarge() {
	const baked, size = 1024, 8192
	low, sets, src := buoy(baked, 16)
	ctx := context.Background()
	maps := map[string]*bake.Map{}
	made, err := src.Bake(ctx, &sets[0], []string{bake.AO, bake.Curvature, bake.WorldNormal, bake.Normal}, nil)
	check(err)
	for _, m := range made {
		large := *m
		large.Size, large.Pix = size, make([]uint16, size*size*m.Channels)
		for i := range large.Pix {
			at, c := i/m.Channels, i%m.Channels
			large.Pix[i] = m.Pix[(at/size*baked/size*baked+at%size*baked/size)*m.Channels+c]
		}
		maps[m.Kind] = &large
	}
	preset, err := deliver.PresetOf("gltf")
	check(err)
	d, err := deliver.Run(ctx, deliver.Job{Asset: "buoy", Model: low, Sets: sets[:1], Maps: func(string) (map[string]*bake.Map, error) { return maps, nil }, Document: deepStack(20), Preset: preset, Size: size})
	check(err)
	defer d.Close()
}

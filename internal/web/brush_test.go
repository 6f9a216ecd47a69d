package web

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"os"
	"path/filepath"
	"testing"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"

	"crust/internal/core/brush"
)

// onScreen is where a place of the model is seen.
func (r *rig) onScreen(x, y, z float64) proto.Point {
	r.t.Helper()
	return r.point(fmt.Sprintf(`crust.viewport.screenOf([%g, %g, %g])`, x, y, z))
}

// point is a place of the screen that the page tells, once its views have taken the room that they were given: a page that lies behind
// another takes it only when it comes to the front.
func (r *rig) point(js string) (p proto.Point) {
	r.t.Helper()
	r.until(`(v => { const b = v.canvas.parentElement.getBoundingClientRect(), n = v.renderer.getPixelRatio(); return b.width < 2 || v.canvas.width === Math.floor(b.width * n) && v.canvas.height === Math.floor(b.height * n); })(crust.viewport)`)
	if err := json.Unmarshal([]byte(r.eval(`JSON.stringify((([x, y]) => ({ x, y }))(`+js+`))`)), &p); err != nil {
		r.t.Fatal(err)
	}
	return p
}

// brush moves the pointer with its button down over some points.
func (r *rig) brush(points ...proto.Point) {
	r.t.Helper()
	m := r.page.Mouse
	must := func(err error) {
		if err != nil {
			r.t.Fatal(err)
		}
	}
	must(m.MoveTo(points[0]))
	must(m.Down(proto.InputMouseButtonLeft, 1))
	for i := 1; i < len(points); i++ {
		const steps = 6
		for k := 1; k <= steps; k++ {
			f := float64(k) / steps
			must(m.MoveTo(proto.Point{X: points[i-1].X + (points[i].X-points[i-1].X)*f, Y: points[i-1].Y + (points[i].Y-points[i-1].Y)*f}))
		}
	}
	must(m.Up(proto.InputMouseButtonLeft, 1))
}

// strokes waits until the chosen layer's clause has so many.
func (r *rig) strokes(n int) {
	r.t.Helper()
	r.until(fmt.Sprintf(`crust.brushwork.tally.list.length === %d`, n))
}

// platesRed tells whether a place of the plates is red, or stays as it is.
func platesRed(t *testing.T) func(r *rig, x, y float64, on bool) {
	texelOf := func(x, y float64) (int, int) {
		u := 0.02 + 0.46*(x+1)
		if x > 0 {
			u = 0.52 + 0.46*x
		}
		return int(u * 256), int((0.98 - 0.96*y) * 256)
	}
	return func(r *rig, x, y float64, on bool) {
		t.Helper()
		i, j := texelOf(x, y)
		if on {
			r.texel("base", i, j, 0, 0xff, 1)
			r.texel("base", i, j, 1, 0, 1)
		} else {
			r.texel("base", i, j, 1, 0x8a, 1)
		}
	}
}

// A hand paints over the model: press, drag, release; across islands, on the flat map, erasing, in straight lines; undone stroke
// by stroke, seen by another page, there after a reload. The plates' texels: U is 0.02 + 0.46·(x + 1) on the left, 0.52 + 0.46·x on
// the right.
func paintingByHand(t *testing.T, r *rig) {
	red := platesRed(t)
	r.until(`crust.doc.layers.length && !document.querySelector('#pane-model').hidden`)
	r.page.MustEval(`() => crust.edit({ do: 'delete', layers: crust.doc.layers.map(l => l.id) })`)
	r.until(`crust.doc.layers.length === 0`)
	r.click("#add-coat")
	r.until(`crust.doc.layers.length === 1`)
	r.page.MustEval(`() => { crust.setShow('lit'); document.activeElement.blur(); }`)
	r.press('b')
	r.until(`!document.querySelector('#tray').hidden`)
	// Nothing can be painted in yet: the tray says so and helps.
	r.click("#new-brushwork")
	r.until(`crust.layer()?.name === 'Brushwork' && crust.brushwork.target()`)
	r.page.MustEval(`() => crust.edit({ do: 'set', layer: crust.chosen, path: 'what.colour.hex', value: '#ff0000' })`)
	r.until(`crust.layer().what.colour.hex === '#ff0000'`)
	r.click(`#specimens [data-brush="Round, hard"]`)
	r.page.MustEval(`() => { crust.brushwork.set.by = 'model'; crust.brushwork.set.metres = 0.12; crust.brushwork.change('pressSize', 0); }`)
	camera := r.eval(`crust.viewport.camera.position.toArray().join()`)

	r.brush(r.onScreen(-0.6, 0.5, 0), r.onScreen(0.6, 0.5, 0))
	r.strokes(1)
	if now := r.eval(`crust.viewport.camera.position.toArray().join()`); now != camera {
		t.Error("painting turned the view")
	}
	for _, x := range []float64{-0.6, -0.3, -0.02, 0.02, 0.3, 0.6} {
		red(r, x, 0.5, true)
	}
	red(r, 0.3, 0.58, false)
	red(r, -0.8, 0.5, false)

	// A page that is opened now shows the stroke, as after a reload, and the next one while it is made.
	second := r.second()
	red(second, 0.3, 0.5, true)
	r.page.MustActivate()
	m := r.page.Mouse
	p := r.onScreen(-0.4, 0.2, 0)
	m.MustMoveTo(p.X, p.Y).MustDown(proto.InputMouseButtonLeft)
	to := r.onScreen(0.4, 0.2, 0)
	for i := range 5 {
		m.MustMoveTo(p.X+(to.X-p.X)*float64(i+1)/5, p.Y+(to.Y-p.Y)*float64(i+1)/5)
	}
	red(r, 0.1, 0.2, true)
	red(second, 0.1, 0.2, true)
	m.MustUp(proto.InputMouseButtonLeft)
	second.page.MustClose()
	r.strokes(2)

	r.press('e')
	r.brush(r.onScreen(-0.3, 0.9, 0), r.onScreen(-0.3, 0.35, 0))
	r.strokes(3)
	red(r, -0.3, 0.5, false)
	red(r, -0.45, 0.5, true)
	r.press(input.ControlLeft, 'z')
	r.strokes(2)
	red(r, -0.3, 0.5, true)
	r.press(input.ControlLeft, input.ShiftLeft, 'Z')
	r.strokes(3)
	red(r, -0.3, 0.5, false)

	// A straight line from where the last stroke ended, (−0.3, 0.35).
	r.press('b')
	p = r.onScreen(-0.7, 0.8, 0)
	m.MustMoveTo(p.X, p.Y)
	if err := r.page.Keyboard.Press(input.ShiftLeft); err != nil {
		t.Fatal(err)
	}
	m.MustClick(proto.InputMouseButtonLeft)
	if err := r.page.Keyboard.Release(input.ShiftLeft); err != nil {
		t.Fatal(err)
	}
	r.strokes(4)
	red(r, -0.5, 0.575, true)

	// On the flat map.
	r.press('v')
	r.until(`crust.layout === 'flat'`)
	r.until(`crust.viewport.flatFit() > 100`)
	flat := func(x, y float64) proto.Point {
		u := 0.02 + 0.46*(x+1)
		if x > 0 {
			u = 0.52 + 0.46*x
		}
		return r.point(fmt.Sprintf(`crust.viewport.flatOf(%g, %g)`, u, 0.98-0.96*y))
	}
	r.brush(flat(-0.8, 0.1), flat(-0.2, 0.1))
	r.strokes(5)
	red(r, -0.5, 0.1, true)
	r.press('v')
	r.press('v')

	// The strokes are a list.
	if r.number(`document.querySelector('#tally').hidden ? 1 : 0`) != 0 {
		t.Fatal("the tally is not there")
	}
	// The third, which erased, is chosen by its tick and hidden, then the first made half as wide, then deleted.
	tick := func(n int) {
		t.Helper()
		x := r.number(fmt.Sprintf(`(t => document.querySelector('#tally canvas').getBoundingClientRect().left + t.x + t.w / 2)(crust.brushwork.tally.ticks[%d])`, n))
		y := r.number(`document.querySelector('#tally canvas').getBoundingClientRect().top + 9`)
		r.page.Mouse.MustMoveTo(x, y).MustClick(proto.InputMouseButtonLeft)
		r.until(`crust.brushwork.tally.picked.size === 1`)
	}
	tick(2)
	r.until(`crust.viewport.path`) // it is lit on the model
	r.click(`#tally [data-do="eye"]`)
	r.until(`crust.brushwork.tally.list[2].hidden`)
	red(r, -0.3, 0.5, true)
	tick(0)
	r.try("type a factor", `#tally [data-key="times"]`, func(e *rod.Element) error {
		if err := e.Click(proto.InputMouseButtonLeft, 1); err != nil {
			return err
		}
		if err := e.SelectAllText(); err != nil {
			return err
		}
		if err := e.Input("0.5"); err != nil {
			return err
		}
		return e.Type(input.Enter)
	})
	r.until(`Math.abs(crust.brushwork.tally.list[0].size - 0.06) < 1e-6`)
	red(r, 0.5, 0.54, false)
	red(r, 0.5, 0.5, true)
	tick(0)
	r.click(`#tally [data-do="trash"]`)
	r.strokes(4)
	red(r, 0.5, 0.5, false)

	// A fill, with a colour of its own taken from the surface: P over what is painted red, then all of the left plate's island.
	r.press('b')
	p = r.onScreen(-0.5, 0.1, 0)
	r.page.Mouse.MustMoveTo(p.X, p.Y)
	r.press('p')
	r.until(`crust.brushwork.set.own?.colour === '#ff0000' && document.querySelector('[data-own-none]') && !document.querySelector('[data-own-none]').hidden`)
	r.press('l')
	r.pick(`#tray select[aria-label="Fills"]`, "the UV island")
	r.page.MustEval(`() => document.activeElement.blur()`)
	p = r.onScreen(-0.5, 0.9, 0)
	r.page.Mouse.MustMoveTo(p.X, p.Y).MustClick(proto.InputMouseButtonLeft)
	r.strokes(5)
	red(r, -0.95, 0.95, true)
	red(r, -0.05, 0.05, true)
	red(r, 0.9, 0.9, false)
	r.click(`[data-own-none]`)
	r.until(`crust.brushwork.set.own === null`)
	r.page.MustEval(`() => document.activeElement.blur()`)

	// A brush of one's own, whose tip is a picture: kept, there after a reload, in its file, deleted.
	r.press('b')
	var tip bytes.Buffer
	dot := image.NewGray(image.Rect(0, 0, 32, 32))
	for i := range 16 {
		for j := range 16 {
			dot.SetGray(8+i, 8+j, color.Gray{Y: 255})
		}
	}
	if err := png.Encode(&tip, dot); err != nil {
		t.Fatal(err)
	}
	name := filepath.Join(t.TempDir(), "block.png")
	if err := os.WriteFile(name, tip.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	r.page.MustElement(`[data-brush-picture]`).MustSetFiles(name)
	r.until(`crust.brushwork.set.brush.tip === 'picture' && crust.brushwork.set.brush.name === 'block'`)
	r.click(`[data-brush-keep]`)
	r.until(`document.querySelector('#specimens .own [data-brush="block"]')`)
	r.page.MustEval(`() => document.activeElement.blur()`)
	p = r.onScreen(0.08, 0.8, 0)
	r.page.Mouse.MustMoveTo(p.X, p.Y).MustClick(proto.InputMouseButtonLeft)
	r.strokes(6)
	red(r, 0.08, 0.8, true) // the block is half as wide as the tip: 6 cm
	red(r, 0.13, 0.8, false)
	own := r.page.MustEval(`() => fetch('/api/brushes/block').then(a => a.text())`).Str()
	if f, err := brush.ParseFile([]byte(own)); err != nil || f.Picture == nil || f.Brush.Name != "block" {
		t.Errorf("its file is %.80s…, %v", own, err)
	}
	r.page.MustElement(`#specimens .own`).MustHover()
	r.click(`[data-gone="block"]`)
	r.until(`!document.querySelector('#specimens .own')`)
	red(r, 0.08, 0.8, true)
	r.page.MustEval(`() => document.activeElement.blur()`)

	// Without a pen a held key stands for its pressure: 4 is four tenths.
	r.page.MustEval(`() => { crust.brushwork.set.standIn = 'keys'; }`)
	if err := r.page.Keyboard.Press('4'); err != nil {
		t.Fatal(err)
	}
	r.until(`crust.brushwork.digit === 4`)
	p = r.onScreen(-0.9, 0.9, 0)
	r.page.Mouse.MustMoveTo(p.X, p.Y).MustClick(proto.InputMouseButtonLeft)
	r.strokes(7)
	if err := r.page.Keyboard.Release('4'); err != nil {
		t.Fatal(err)
	}
	if got := r.page.MustEval(`() => fetch(crust.api + '/strokes/' + crust.brushwork.tally.list[6].n).then(a => a.json()).then(k => k.paths[0][0][6])`).Num(); math.Abs(got-0.4) > 1e-6 {
		t.Errorf("with 4 held the pressure is %g", got)
	}
	r.page.MustEval(`() => { crust.brushwork.set.standIn = 'full'; }`)
	r.press(input.ControlLeft, 'z')
	r.strokes(6)

	// A pen tells its pressure and how it leans: 30° to the right of the screen is a sine of 0.5.
	for _, kind := range []proto.InputDispatchMouseEventType{proto.InputDispatchMouseEventTypeMousePressed, proto.InputDispatchMouseEventTypeMouseReleased} {
		if err := (proto.InputDispatchMouseEvent{Type: kind, X: p.X, Y: p.Y, Button: proto.InputMouseButtonLeft, ClickCount: 1, PointerType: "pen", Force: 0.25, TiltX: 30}).Call(r.page); err != nil {
			t.Fatal(err)
		}
	}
	r.strokes(7)
	var pen brush.Point
	if err := json.Unmarshal([]byte(r.page.MustEval(`() => fetch(crust.api + '/strokes/' + crust.brushwork.tally.list[6].n).then(a => a.json()).then(k => JSON.stringify(k.paths[0][0]))`).Str()), &pen); err != nil {
		t.Fatal(err)
	}
	right := r.onScreen(0.1, 0.5, 0).X > r.onScreen(0, 0.5, 0).X
	if lean := pen.Lean(); math.Abs(float64(pen.Pressure())-0.25) > 1e-3 || math.Abs(float64(lean.Len())-0.5) > 1e-3 || (lean.X > 0.3) != right {
		t.Errorf("a pen at 0.25 that leans by 30° is kept as %v", pen)
	}
	r.press(input.ControlLeft, 'z')
	r.strokes(6)
	// The curve of its size is dragged, and its switch takes the pressure off.
	r.page.MustEval(`() => { document.querySelector('details[data-group="pressure"]').open = true; document.querySelector('[data-key="curveSize"]').scrollIntoView(); }`)
	c := r.page.MustElement(`[data-key="curveSize"]`).MustShape().Box()
	r.brush(proto.Point{X: c.X + 13, Y: c.Y + 13}, proto.Point{X: c.X + 13, Y: c.Y + 43})
	r.until(`Math.abs(crust.brushwork.set.brush.curveSize - 1) < 0.1`)
	r.click(`[data-key="pressSize-on"]`)
	off := r.eval(`crust.brushwork.set.brush.pressSize`)
	r.click(`[data-key="pressSize-on"]`)
	r.until(`String(crust.brushwork.set.brush.pressSize) !== '` + off + `'`)
	r.page.MustEval(`() => { document.querySelector('details[data-group="pressure"]').open = false; crust.brushwork.change('curveSize', 0); document.activeElement.blur(); }`)

	// The ring lies on the surface with its size beside it: 12 cm are as wide as on the plate.
	r.press('b')
	p = r.onScreen(-0.5, 0.3, 0)
	r.page.Mouse.MustMoveTo(p.X, p.Y)
	r.until(`document.querySelector('#ring text')?.textContent === '12 cm'`)
	wide := r.number(`(b => b.width)(document.querySelector('#ring .rim').getBBox())`)
	if want := r.onScreen(-0.44, 0.3, 0).X - r.onScreen(-0.56, 0.3, 0).X; math.Abs(wide-want) > 1.5 {
		t.Errorf("the ring is %.1f px wide, want %.1f", wide, want)
	}
	r.press(input.BracketRight)
	r.until(`document.querySelector('#ring text')?.textContent !== '12 cm'`)
	r.press(input.Escape)
	r.until(`document.querySelector('#tray').hidden`)
	stampingByHand(t, r)
}

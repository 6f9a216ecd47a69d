package web

import (
	"bytes"
	"fmt"
	"image"
	"image/png"
	"math"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
)

// typeIn types into the field of a value.
func (r *rig) typeIn(sel, text string) {
	r.t.Helper()
	r.try("type "+text, sel, func(e *rod.Element) error {
		if err := e.Click(proto.InputMouseButtonLeft, 1); err != nil {
			return err
		}
		if err := e.SelectAllText(); err != nil {
			return err
		}
		if err := e.Input(text); err != nil {
			return err
		}
		return e.Type(input.Enter)
	})
}

// knob is where a handle of the chosen stamp is.
func (r *rig) knob(name string) proto.Point {
	r.t.Helper()
	r.until(`document.querySelector('#stamp-live [data-knob="` + name + `"]')`)
	return r.point(`(b => [b.x + b.width / 2, b.y + b.height / 2])(document.querySelector('#stamp-live [data-knob="` + name + `"]').getBoundingClientRect())`)
}

// A stencil whose left half is open lies over the view: of a stroke across it the left half is laid down.
func stencilByHand(t *testing.T, r *rig, red func(r *rig, x, y float64, on bool)) {
	open := image.NewGray(image.Rect(0, 0, 64, 64))
	for i := range open.Pix {
		if i%64 < 32 {
			open.Pix[i] = 255
		}
	}
	var b bytes.Buffer
	if err := png.Encode(&b, open); err != nil {
		t.Fatal(err)
	}
	name := filepath.Join(t.TempDir(), "open.png")
	if err := os.WriteFile(name, b.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	r.press('b')
	r.page.MustEval(`() => { const s = crust.brushwork.set; s.metres = 0.06; s.by = 'model'; }`)
	r.page.MustElement(`[data-stencil-picture]`).MustSetFiles(name)
	r.until(`crust.brushwork.stencil.set.on && document.querySelector('#stencil-live [data-knob="move"]')`)
	at := func(knob string) proto.Point {
		return r.point(`(b => [b.x + b.width / 2, b.y + b.height / 2])(document.querySelector('#stencil-live [data-knob="` + knob + `"]').getBoundingClientRect())`)
	}
	r.brush(at("move"), r.onScreen(-0.5, 0.85, 0))
	r.until(`document.querySelector('#stencil-live .sheet')`)
	r.page.MustEval(`() => document.activeElement.blur()`)
	r.brush(r.onScreen(-0.7, 0.8, 0), r.onScreen(-0.3, 0.8, 0))
	r.strokes(3)
	red(r, -0.62, 0.8, true)
	red(r, -0.4, 0.8, false)
	r.page.MustEval(`() => crust.brushwork.stencil.change({ on: false })`)
	r.until(`document.querySelector('#stencil-live').hasAttribute('hidden')`)
	// What lies there is cloned: the first click says from where. Then an edge is softened: a texel beyond the stroke's rim takes some.
	r.press('r')
	r.click(`#tray-values .segments [data-value="clone"]`)
	r.page.MustEval(`() => document.activeElement.blur()`)
	p := r.onScreen(-0.62, 0.8, 0)
	r.page.Mouse.MustMoveTo(p.X, p.Y).MustClick(proto.InputMouseButtonLeft)
	r.until(`crust.brushwork.source && document.querySelector('#work-help').textContent.includes('Shift')`)
	p = r.onScreen(-0.3, 0.3, 0)
	r.page.Mouse.MustMoveTo(p.X, p.Y).MustClick(proto.InputMouseButtonLeft)
	r.strokes(4)
	red(r, -0.3, 0.3, true)
	r.press(input.ControlLeft, 'z')
	red(r, -0.3, 0.3, false)
	r.click(`#tray-values .segments [data-value="soften"]`)
	r.page.MustEval(`() => { crust.brushwork.set.metres = 0.3; document.activeElement.blur(); }`)
	red(r, -0.62, 0.84, false)
	r.brush(r.onScreen(-0.66, 0.8, 0), r.onScreen(-0.58, 0.8, 0))
	r.strokes(4)
	r.until(`document.querySelector('#undo').title.includes('Soften on Brushwork')`)
	u, v := 0.02+0.46*(1-0.62), 0.98-0.96*0.84
	r.until(fmt.Sprintf(`(p => { const g = p.full.data[4 * (256 * %d + %d) + 1]; return g > 0x20 && g < 0x84; })(crust.viewport.pictures.values().next().value.base)`, int(v*256), int(u*256)))
	r.axe("the tray of what is worked on", "#tray")
	r.press(input.Escape)
	r.press('t')
	r.until(`!document.querySelector('#stamp-shapes').hidden`)
}

// Stamps are placed by a click and stay live: dragged over the seam, scaled and turned by their handles, each undone by itself; texts
// are typed anew; rows are laid by a drag, chosen again and deleted.
func stampingByHand(t *testing.T, r *rig) {
	red := platesRed(t)
	r.page.MustEval(`() => crust.edit({ do: 'delete', layers: crust.doc.layers.map(l => l.id) })`)
	r.until(`crust.doc.layers.length === 0`)
	r.click("#add-coat")
	r.until(`crust.doc.layers.length === 1`)
	r.page.MustEval(`() => document.activeElement.blur()`)
	r.press('t')
	r.click("#new-brushwork")
	r.until(`crust.layer()?.name === 'Brushwork' && crust.brushwork.target()`)
	r.page.MustEval(`() => crust.edit({ do: 'set', layer: crust.chosen, path: 'what.colour.hex', value: '#ff0000' })`)
	r.until(`crust.layer().what.colour.hex === '#ff0000'`)
	r.click(`#stamp-shapes [data-shape="square"]`)
	r.typeIn(`#tray-values [data-key="size"]`, "20 cm")
	r.typeIn(`#tray-values [data-key="hardness"]`, "1")
	r.until(`Math.abs(crust.brushwork.stamps.set.size - 0.2) < 1e-6 && crust.brushwork.stamps.half`)

	// Its half side is a tenth over √2: 7 cm.
	p := r.onScreen(-0.5, 0.5, 0)
	r.page.Mouse.MustMoveTo(p.X, p.Y)
	r.until(`document.querySelector('#stamp-live .ghost')`)
	r.page.Mouse.MustClick(proto.InputMouseButtonLeft)
	r.strokes(1)
	red(r, -0.5, 0.5, true)
	red(r, -0.56, 0.55, true)
	red(r, -0.4, 0.5, false)

	// Over the seam between the plates' islands.
	r.brush(r.knob("move"), r.onScreen(-0.02, 0.5, 0))
	red(r, -0.5, 0.5, false)
	red(r, -0.06, 0.5, true)
	red(r, 0.03, 0.5, true)
	r.strokes(1)
	at := r.knob("scale")
	middle := r.onScreen(-0.02, 0.5, 0)
	r.brush(at, proto.Point{X: 2*at.X - middle.X, Y: 2*at.Y - middle.Y})
	red(r, 0.1, 0.5, true)
	if size := r.number(`crust.brushwork.stamps.live.stroke.size`); math.Abs(size-0.4) > 0.02 {
		t.Errorf("dragged to twice its size it is %g m wide", size)
	}
	red(r, 0.1, 0.62, true)
	r.brush(r.knob("turn"), r.onScreen(-0.22, 0.7, 0))
	r.until(`Math.abs(crust.brushwork.stamps.live.stroke.brush.turn - 45) < 4`)
	red(r, 0.1, 0.62, false)
	red(r, -0.02, 0.65, true)
	r.page.MustEval(`() => document.activeElement.blur()`)
	r.press(input.ControlLeft, 'z')
	red(r, 0.1, 0.62, true)
	r.press(input.ControlLeft, 'z')
	red(r, 0.1, 0.5, false)
	r.press(input.ControlLeft, 'z')
	red(r, -0.5, 0.5, true)
	r.strokes(1)

	// A text, and another in its place.
	r.click(`#stamp-shapes [data-shape="text"]`)
	words := func(text string) {
		t.Helper()
		r.try("type a text", "#stamp-words", func(e *rod.Element) error {
			if err := e.SelectAllText(); err != nil {
				return err
			}
			if err := e.Input(text); err != nil {
				return err
			}
			_, err := e.Eval(`() => this.blur()`)
			return err
		})
	}
	r.axe("the tray of stamps", "#tray")
	words("HI")
	r.until(`crust.brushwork.stamps.set.words === 'HI'`)
	r.typeIn(`#tray-values [data-key="size"]`, "20 cm")
	r.typeIn(`#tray-values [data-key="turn"]`, "0")
	r.until(`crust.brushwork.stamps.set.turn === 0 && Math.abs(crust.brushwork.stamps.set.size - 0.2) < 1e-6`)
	p = r.onScreen(-0.75, 0.25, 0)
	r.page.Mouse.MustMoveTo(p.X, p.Y).MustClick(proto.InputMouseButtonLeft)
	r.strokes(2)
	r.until(`crust.brushwork.tally.list[1].words === 'HI' && crust.brushwork.stamps.live`)
	words("L")
	r.until(`crust.brushwork.tally.list[1].words === 'L' && crust.brushwork.tally.list.length === 2`)
	wide := r.number(`crust.brushwork.stamps.live.half[0] * crust.brushwork.stamps.live.stroke.size`)
	red(r, -0.75-0.55*wide, 0.25, true)
	red(r, -0.75+0.5*wide, 0.3, false)
	words("漢")
	r.until(`document.querySelector('#stamp-words-fault')?.textContent.includes('has no “漢”') && crust.brushwork.stamps.live`)
	words("L")
	r.until(`document.querySelector('#stamp-words-fault').hidden`)
	r.page.MustEval(`() => document.activeElement.blur()`)
	r.press(input.Escape)
	r.until(`!crust.brushwork.stamps.live && crust.brushwork.tool === 'stamp'`)

	// A row: 40 cm with gaps of 10 cm are five.
	r.click(`#stamp-shapes [data-shape="round"]`)
	r.click(`#tray-values [data-key="row"]`)
	r.until(`crust.brushwork.stamps.set.row`)
	r.typeIn(`#tray-values [data-key="size"]`, "5 cm")
	r.typeIn(`#tray-values [data-key="gap"]`, "10 cm")
	r.until(`Math.abs(crust.brushwork.stamps.set.gap - 0.1) < 1e-6`)
	r.page.MustEval(`() => document.activeElement.blur()`)
	r.brush(r.onScreen(-0.9, 0.1, 0), r.onScreen(-0.5, 0.1, 0))
	r.strokes(3)
	for i := range 5 {
		red(r, -0.9+0.1*float64(i), 0.1, true)
	}
	red(r, -0.85, 0.1, false)
	r.press(input.Escape)
	r.until(`!crust.brushwork.stamps.live`)
	p = r.onScreen(-0.7, 0.1, 0)
	r.page.Mouse.MustMoveTo(p.X, p.Y)
	if err := r.page.Keyboard.Press(input.ControlLeft); err != nil {
		t.Fatal(err)
	}
	r.page.Mouse.MustClick(proto.InputMouseButtonLeft)
	if err := r.page.Keyboard.Release(input.ControlLeft); err != nil {
		t.Fatal(err)
	}
	r.until(`crust.brushwork.stamps.live?.stroke.stamp.gap`)
	// Its end is dragged inwards: fewer stamps at the same gap.
	r.brush(r.knob("last"), r.onScreen(-0.7, 0.1, 0))
	red(r, -0.5, 0.1, false)
	red(r, -0.8, 0.1, true)
	time.Sleep(50 * time.Millisecond)
	r.press(input.Delete)
	r.strokes(2)
	red(r, -0.8, 0.1, false)
	r.page.MustEval(`() => { crust.brushwork.set.stamp.row = false; }`)
	stencilByHand(t, r, red)
	r.press(input.Escape)
	r.until(`document.querySelector('#tray').hidden`)
}

package web

import (
	"fmt"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
)

// Relief and softening by hand: a clause of relief is added, aimed at one layer below by its tick, read out, and softened by
// typing; its picture on the flat map changes each time. A control that is dragged stays under the hand while an edit from
// elsewhere comes in, and what that changed is shown when it is let go.
func TestReliefAndSofteningAtTheBench(t *testing.T) {
	r := withBall(t)
	changed := func(was string) string {
		r.until(fmt.Sprintf(`document.querySelector('#chain .card-clause[data-clause] .card-pic')?.src?.startsWith('data:image/png') && document.querySelector('#chain .card-pic').src !== %q`, was))
		return r.eval(`document.querySelector('#chain .card-pic').src`)
	}
	// Bumps of a noise, and a coat over them.
	r.click(`#add-coat`)
	r.until(`crust.doc.layers.length === 2 && crust.doc.layers[1].id === crust.chosen`)
	r.click(`[data-add="noise"]`)
	r.until(`crust.doc.layers[1].where.length === 1`)
	r.eval(`(crust.edit({do: 'set', layer: crust.chosen, path: 'name', value: 'bumps'}), crust.edit({do: 'set', layer: crust.chosen, path: 'what.height.number', value: 2}), '')`)
	r.until(`crust.doc.layers[1].name === 'bumps' && crust.doc.layers[1].what.height.number === 2`)
	r.click(`[data-channel="height"] input[type="checkbox"]`)
	r.until(`crust.doc.layers[1].what.height.on`)
	r.click(`#add-coat`)
	r.until(`crust.doc.layers.length === 3 && crust.doc.layers[2].id === crust.chosen`)
	r.click(`[data-add="relief"]`)
	all := changed("")
	if got := r.eval(`document.querySelector('#where-words').textContent`); got != "on edges of the relief of what lies below" {
		t.Errorf("it reads %q", got)
	}
	r.pick(`#chain select[data-key="of"]`, "only")
	r.until(`document.querySelector('#where-words').textContent.includes('no layer yet')`)
	none := changed(all)
	r.click(`#chain .part-list input`)
	r.until(`document.querySelector('#where-words').textContent.endsWith('“bumps”')`)
	if got := changed(none); got != all {
		t.Error("only the layer with bumps gives another picture than all below")
	}
	soft := r.page.MustElement(`#chain .card-clause input[data-key="soften"]`)
	soft.MustScrollIntoView()
	soft.MustClick()
	soft.MustSelectAllText().MustInput("10 cm").MustType(input.Enter)
	r.until(`Math.abs(crust.doc.layers[2].where[0].shape.soften - 0.1) < 1e-6`)
	changed(all)

	drag := r.page.MustElement(`#chain .card-clause input[data-key="depth"]`)
	drag.MustScrollIntoView()
	box := drag.MustShape().Box()
	at := proto.Point{X: box.X + box.Width/2, Y: box.Y + box.Height/2}
	r.page.Mouse.MustMoveTo(at.X, at.Y).MustDown(proto.InputMouseButtonLeft)
	r.page.Mouse.MustMoveTo(at.X+20, at.Y)
	r.eval(`(document.querySelector('#chain .card-clause').markedByTest = 'yes', crust.edit({do: 'clause.set', layer: crust.chosen, clause: crust.layer().where[0].id, path: 'shape.contrast', value: 0.5}), '')`)
	r.until(`crust.doc.layers[2].where[0].shape.contrast === 0.5`)
	r.page.Mouse.MustMoveTo(at.X+40, at.Y)
	if r.eval(`document.querySelector('#chain .card-clause').markedByTest`) != "yes" {
		t.Error("the card was made anew under the hand")
	}
	depth := r.eval(`document.querySelector('#chain .card-clause input[data-key="depth"]').value`)
	r.page.Mouse.MustUp(proto.InputMouseButtonLeft)
	r.until(`document.querySelector('#chain .card-clause input[data-key="contrast"]').value === '0.5'`)
	r.until(`crust.doc.layers[2].where[0].params.depth > 0.0006`)
	if got := r.eval(`document.querySelector('#chain .card-clause input[data-key="depth"]').value`); got != depth {
		t.Errorf("the depth shows %s, %s was dragged to", got, depth)
	}

	// All of a picture that is to go to the graphics card goes, also when a few rows more change before the next frame is
	// drawn. The upper quarter of the map becomes green, the rest red; the ball's middle and its lower half lie below.
	r.click(`#view-show [data-value="base"]`)
	r.settled()
	paint := func(rows, red, green int) string {
		return fmt.Sprintf(`(() => { const p = crust.viewport.pictures.values().next().value.base.current;
			for (let i = 0; i < 4 * %d * p.size; i += 4) p.data.set([%d, %d, 0, 255], i);
			p.dirty = new Set(Array.from({ length: %d / 64 }, (_, i) => 64 * i)); crust.viewport.upload(p); })()`, rows, red, green, rows)
	}
	r.eval(`(` + paint(256, 255, 0) + `, ` + paint(64, 0, 255) + `, window.drawn = crust.viewport.frames, crust.viewport.draw(), '')`)
	r.until(`crust.viewport.frames > window.drawn`)
	for _, at := range [][2]float64{{0.5, 0.5}, {0.5, 0.62}} {
		if c := r.pixel("#model", at[0], at[1]); c[0] < 200 || c[1] > 60 {
			t.Errorf("the ball is %v at %v, want red", c, at)
		}
	}
}

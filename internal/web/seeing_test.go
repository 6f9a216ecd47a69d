package web

import (
	"testing"

	"github.com/go-rod/rod/lib/input"
)

// hold presses a key, does something, and lets it go.
func (r *rig) hold(key input.Key, do func()) {
	r.t.Helper()
	if err := r.page.Keyboard.Press(key); err != nil {
		r.t.Fatal(err)
	}
	do()
	if err := r.page.Keyboard.Release(key); err != nil {
		r.t.Fatal(err)
	}
}

// Keepsakes by hand: the strata are kept, changed, compared over a line that is dragged, returned to, and that is undone. The
// probe says what lies under the pointer, and its layers are chosen from it. Checks point out what no real surface has.
func TestSeeingByHand(t *testing.T) {
	r := withBall(t)
	r.eval(`(crust.edit({ do: 'set', layer: crust.doc.layers[0].id, path: 'what.colour.hex', value: '#e00000' }), '')`)
	r.until(`crust.doc.layers[0].what.colour.hex === '#e00000'`)
	r.settled()
	r.page.MustElement("#model").MustFocus()
	r.page.KeyActions().Type(input.Key('k')).MustDo()
	r.until(`crust.state.keepsakes.length === 1 && document.querySelector('#keepsakes .figure').textContent === '1'`)
	r.eval(`(crust.edit({ do: 'set', layer: crust.doc.layers[0].id, path: 'what.colour.hex', value: '#0000e0' }), '')`)
	r.until(`crust.doc.layers[0].what.colour.hex === '#0000e0'`)
	r.settled()

	// The picture itself has now on the left of the line and the keepsake on the right.
	side := func(share float64) string {
		im := r.shot("#model")
		b := im.Bounds()
		red, green, blue, _ := im.At(b.Min.X+int(share*float64(b.Dx())), b.Min.Y+b.Dy()/2).RGBA()
		switch {
		case red > 2*blue && red > 2*green:
			return "red"
		case blue > 2*red && blue > green:
			return "blue"
		}
		return "neither"
	}
	r.click("#keepsakes")
	r.axe("the keepsakes")
	r.click("[data-compare]")
	r.until(`!document.querySelector('#wipe').hidden && crust.viewport.stageWipes()`)
	frames := r.number(`crust.viewport.frames`)
	r.until(`crust.viewport.frames > ` + jsNumber(frames) + ` || (crust.viewport.draw(), false)`)
	if l, right := side(0.46), side(0.54); l != "blue" || right != "red" {
		t.Errorf("left of the line the model is %s, right of it %s; want blue, which is now, and red, as it was kept", l, right)
	}
	box := r.page.MustElement("#wipe").MustShape().Box()
	m := r.page.Mouse
	m.MustMoveTo(box.X+box.Width/2, box.Y+box.Height*0.8)
	m.MustDown("left")
	m.MustMoveTo(box.X+box.Width*0.4, box.Y+box.Height*0.6)
	m.MustUp("left")
	r.until(`Math.abs(crust.keepsakes.line.x - 0.4) < 0.02`)
	frames = r.number(`crust.viewport.frames`)
	r.until(`crust.viewport.frames > ` + jsNumber(frames) + ` || (crust.viewport.draw(), false)`)
	if l := side(0.46); l != "red" {
		t.Errorf("after the line was dragged to the left its right is %s, want red", l)
	}
	r.page.KeyActions().Type(input.Escape).MustDo()
	r.until(`document.querySelector('#wipe').hidden && crust.keepsakes.compared === 0`)

	// Held, Y shows the keepsake alone.
	r.page.MustElement("#model").MustFocus()
	r.hold(input.Key('y'), func() {
		r.until(`crust.viewport.wipe?.all && crust.viewport.stageWipes()`)
		frames := r.number(`crust.viewport.frames`)
		r.until(`crust.viewport.frames > ` + jsNumber(frames) + ` || (crust.viewport.draw(), false)`)
		if l := side(0.46); l != "red" {
			t.Errorf("while Y is held the model is %s, want red", l)
		}
	})
	r.until(`!crust.viewport.wipe`)

	r.click("#keepsakes")
	r.click("[data-return]")
	r.until(`crust.doc.layers[0].what.colour.hex === '#e00000' && crust.doc.undo === 'Return to Keepsake 1'`)
	r.click("#undo")
	r.until(`crust.doc.layers[0].what.colour.hex === '#0000e0'`)
	r.settled()

	// What is here.
	r.click("#add-coat")
	r.until(`crust.layer().name === 'Coat'`)
	r.eval(`(crust.edit({ do: 'set', layer: crust.chosen, path: 'opacity', value: 0.25 }), '')`)
	r.settled()
	model := r.page.MustElement("#model").MustShape().Box()
	m.MustMoveTo(model.X+model.Width*0.48, model.Y+model.Height/2)
	r.page.MustElement("#model").MustFocus()
	r.hold(input.Key('i'), func() {
		m.MustMoveTo(model.X+model.Width*0.5, model.Y+model.Height/2)
		r.until(`!document.querySelector('#probe').hidden && document.querySelectorAll('.probe-layer').length === 2`)
	})
	r.until(`/^Coat.*25%$/.test(document.querySelector('.probe-layer').textContent) && document.querySelector('#probe').textContent.includes('Roughness')`)
	r.axe("what is here")
	r.click(`.probe-layer:nth-child(2)`)
	r.until(`crust.layer().name === 'Base'`)
	r.page.KeyActions().Type(input.Escape).MustDo()
	r.until(`document.querySelector('#probe').hidden`)

	// Half metal is pointed out in its colour, on the model.
	r.eval(`(crust.edit({ do: 'set', layer: crust.doc.layers[0].id, path: 'what.metallic', value: { on: true, number: 0.5, blend: 'over', opacity: 1 } }), '')`)
	r.until(`crust.doc.layers[0].what.metallic.on`)
	r.settled()
	r.click(`[data-value="checks"]`)
	r.until(`document.querySelector('#view-words').textContent.includes('half metal')`)
	frames = r.number(`crust.viewport.frames`)
	r.until(`crust.viewport.frames > ` + jsNumber(frames) + ` || (crust.viewport.draw(), false)`)
	im := r.shot("#model")
	red, _, blue, _ := im.At(im.Bounds().Min.X+im.Bounds().Dx()/2, im.Bounds().Min.Y+im.Bounds().Dy()/2).RGBA()
	if blue>>8 < 200 || red>>8 > 120 {
		t.Errorf("half metal is shown with %d red and %d blue, want light blue", red>>8, blue>>8)
	}
	if f := r.faulty(); len(f) > 0 {
		t.Errorf("the page threw: %v", f)
	}
}

package web

import (
	"testing"
	"time"

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
		case 2*blue > 3*red && blue > green:
			return "blue"
		}
		return "neither"
	}
	becomes := func(what string, share float64, want string) {
		t.Helper()
		got := ""
		for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
			if got = side(share); got == want {
				return
			}
		}
		t.Errorf("%s: the model is %s, want %s", what, got, want)
	}
	r.click("#keepsakes")
	r.axe("the keepsakes", "#keepsake-sheet")
	r.click("[data-compare]")
	r.until(`!document.querySelector('#wipe').hidden && crust.viewport.stageWipes()`)
	becomes("left of the line, now", 0.46, "blue")
	becomes("right of the line, as it was kept", 0.54, "red")
	box := r.page.MustElement("#wipe").MustShape().Box()
	m := r.page.Mouse
	m.MustMoveTo(box.X+box.Width/2, box.Y+box.Height*0.8)
	m.MustDown("left")
	m.MustMoveTo(box.X+box.Width*0.4, box.Y+box.Height*0.6)
	m.MustUp("left")
	r.until(`Math.abs(crust.keepsakes.line.x - 0.4) < 0.02`)
	becomes("right of the line after it was dragged to the left", 0.46, "red")
	r.page.KeyActions().Type(input.Escape).MustDo()
	r.until(`document.querySelector('#wipe').hidden && crust.keepsakes.compared === 0`)

	// Held, Y shows the keepsake alone.
	r.page.MustElement("#model").MustFocus()
	r.hold(input.Key('y'), func() {
		r.until(`crust.keepsakes.whole && crust.viewport.stageWipes()`)
		becomes("while Y is held", 0.46, "red")
	})
	r.until(`!crust.viewport.over`)

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
	r.axe("what is here", "#probe")
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
	becomes("half metal", 0.5, "blue")
	if f := r.faulty(); len(f) > 0 {
		t.Errorf("the page threw: %v", f)
	}
}

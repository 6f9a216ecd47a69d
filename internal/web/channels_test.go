package web

import (
	"fmt"
	"image/color"
	"math"
	"testing"

	"github.com/go-rod/rod/lib/input"
)

// twoPlates is two squares of 1 m side by side, facing the front, each a part of its own, their UVs side by side too.
const twoPlates = `o left
v -1 0 0
v 0 0 0
v 0 1 0
v -1 1 0
vt 0.02 0.02
vt 0.48 0.02
vt 0.48 0.98
vt 0.02 0.98
vt 0.52 0.02
vt 0.98 0.02
vt 0.98 0.98
vt 0.52 0.98
vn 0 0 1
usemtl plate
f 1/1/1 2/2/1 3/3/1 4/4/1
o right
v 1 0 0
v 1 1 0
f 2/5/1 5/6/1 6/7/1 3/8/1
`

// texel waits until a texel of the one set's view, of 256 px, is near a value.
func (r *rig) texel(view string, x, y, channel int, want, by float64) {
	r.t.Helper()
	r.until(fmt.Sprintf(`(p => p?.full?.size === 256 && Math.abs(p.full.data[4 * (256 * %d + %d) + %d] - %g) <= %g)(crust.viewport.pictures.values().next().value.%s)`, y, x, channel, want, by, view))
}

// The rest of the bench, on one page.
func TestTheRestOfTheBenchByHand(t *testing.T) {
	r := withModel(t, "plates.obj", []byte(twoPlates))
	rareChannels(t, r)
	r.click(`.stations a[data-stage="paint"]`)
	targetsFlatteningAndDials(t, r)
	paintingByHand(t, r)
	if f := r.faulty(); len(f) > 0 {
		t.Errorf("the page threw: %v", f)
	}
}

// What few layers lay down is offered below the others, and seen once it is there: what shines, what is cut away, a normal map.
func rareChannels(t *testing.T, r *rig) {
	if r.number(`document.querySelector('[data-channel="emissive"]') || !document.querySelector('#view-show [data-value="emissive"]').hidden ? 1 : 0`) != 0 {
		t.Error("a channel that no layer uses is shown")
	}
	r.click(`[data-more="emissive"]`)
	r.until(`crust.layer().what.emissive.on && document.querySelector('[data-channel="emissive"]')`)
	r.click(`#view-show [data-value="emissive"]`)
	r.texel("emissive", 60, 128, 0, 0xff, 1)
	r.texel("emissive", 60, 128, 2, 0x54, 1)
	r.until(`crust.viewport.mode === 'emissive'`)
	r.click(`[data-channel="emissive"] input[type="checkbox"]`)
	r.until(`document.querySelector('#view-show [data-value="emissive"]').hidden && crust.showing === 'lit'`)

	r.click(`[data-more="opacity"]`)
	enter := func(sel, v string) {
		r.t.Helper()
		r.page.MustElement(sel).MustSelectAllText().MustInput(v).MustType(input.Enter)
	}
	enter(`[data-channel="opacity"] .own input`, "0.8")
	r.texel("opacity", 60, 128, 0, 204, 1)
	r.settled()
	before := r.pixel("#model", 0.5, 0.5)
	enter(`[data-channel="opacity"] .own input`, "0.2")
	r.texel("opacity", 60, 128, 0, 51, 1)
	r.settled()
	r.until(`[...crust.viewport.sets.values()][0].lit.alphaTest === 0.5`)
	after := r.pixel("#model", 0.5, 0.5)
	if before == after {
		t.Errorf("what is cut away shows still: %v", after)
	}
	// Without a cut it fades: a little of the surface is seen before what lies behind.
	r.page.MustEval(`() => crust.edit({ do: 'look', path: 'surface.cut', value: 0 })`)
	r.until(`[...crust.viewport.sets.values()][0].lit.transparent && !crust.viewport.waiting`)
	faded := r.pixel("#model", 0.5, 0.5)
	for k := range 3 {
		if low, high := min(before[k], after[k]), max(before[k], after[k]); faded[k] < low-6 || faded[k] > high+6 {
			t.Errorf("faded it is %v, opaque %v, cut away %v", faded, before, after)
		}
	}
	if faded == after {
		t.Errorf("nothing of what fades is seen: %v", faded)
	}
	r.page.MustEval(`() => crust.edit({ do: 'look', path: 'surface.cut', value: 0.5 })`)
	r.click(`[data-channel="opacity"] input[type="checkbox"]`)
	r.until(`!crust.layer().what.opacity.on`)

	lean := painted(t, t.TempDir(), "lean_normal.png", func(x, y int) color.Color { return color.RGBA{204, 128, 230, 255} })
	r.click(`[data-more="normal"]`)
	r.until(`document.querySelector('#source-title').textContent === 'Normal of ' + crust.layer().name`)
	r.page.MustElement("#picture-file").MustSetFiles(lean)
	// It leans by 0.6 to the right of the plates' front, which is the right of their texture too.
	r.texel("normal", 60, 128, 0, 204, 2)
	r.axe("the sheet of a normal map", "#source-sheet")
	enter(`#source-sheet input[data-key="strength"]`, "0.5")
	half := 0.375 / math.Hypot(1, 0.375) // half as steep
	r.texel("normal", 60, 128, 0, 127.5+127.5*half, 2)
	r.pick(`#source-sheet select[aria-label="laid"]`, "by UV")
	r.until(`crust.layer().what.normal.source.lay.by === 0`)
	r.click("#source-close")
	r.click(`#view-layout [data-value="model"]`)
	r.click(`.stations a[data-stage="deliver"]`)
	r.until(`[...document.querySelectorAll("#files li .name")].length === 6`)
}

// A layer is aimed at a part by a click on the model, which is lit there, in the list and on the flat map; a clause is warped;
// what lies below is flattened and opened again; a group gets a dial by showing its two ends.
func targetsFlatteningAndDials(t *testing.T, r *rig) {
	r.click(`#add-coat`)
	r.until(`crust.doc.layers.length === 2 && crust.layer().name === 'Coat'`)
	r.eval(`(i => { i.value = '#ff0000'; i.dispatchEvent(new Event('change')); return ''; })(document.querySelector('[data-channel="colour"] input[type="color"]'))`)
	r.texel("base", 60, 128, 0, 255, 1)
	r.texel("base", 190, 128, 1, 0, 1)
	r.click(`[data-targets]`)
	r.click(`#target-kind [data-value="parts"]`)
	onScreen := func(js string) (x, y float64) {
		t.Helper()
		at := r.eval(`(v => { const p = ` + js + `.clone().project(v.camera), b = v.canvas.getBoundingClientRect(); return [b.left + (p.x + 1) / 2 * b.width, b.top + (1 - p.y) / 2 * b.height].join(' '); })(crust.viewport)`)
		if _, err := fmt.Sscanf(at, "%f %f", &x, &y); err != nil {
			t.Fatal(at)
		}
		return x, y
	}
	// Where the middle of the right plate is seen.
	x, y := onScreen("v.camera.position.clone().set(0.5, 0.5, 0)")
	r.page.Mouse.MustMoveTo(x, y)
	r.until(`document.querySelector('#target-list .lit')?.dataset.set === 'right' && crust.viewport.litUp?.part === 1`)
	r.page.Mouse.MustClick("left")
	r.until(`crust.layer().parts?.join() === 'right'`)
	r.texel("base", 190, 128, 1, 0, 1)
	r.until(`(p => p.full.data[4 * (256 * 128 + 60) + 1] > 60)(crust.viewport.pictures.values().next().value.base)`)
	r.axe("the sheet of targets", "#target-sheet")
	r.press(input.KeyG)
	r.until(`crust.viewport.ghosts?.parts.has(0) && !crust.viewport.ghosts.parts.has(1)`)
	r.click(`#target-all`)
	r.until(`!crust.layer().parts?.length && !crust.viewport.ghosts`)
	r.click(`#target-close`)
	r.press(input.KeyG)

	r.click(`[data-add="reach"]`)
	r.until(`crust.layer().where.length === 1`)
	r.settled()
	was := r.eval(`String(crust.viewport.pictures.values().next().value.base.full.data.reduce((a, b) => a + b))`)
	warp := r.page.MustElement(`#chain input[data-key="warp"]`)
	warp.MustSelectAllText().MustInput("0.3").MustType(input.Enter)
	r.until(`crust.layer().where[0].shape.warp === 0.3 && document.querySelector('#chain input[data-key="waves"]')`)
	r.until(`String(crust.viewport.pictures.values().next().value.base.full.data.reduce((a, b) => a + b)) !== '` + was + `'`)

	// A direction by the arrow on the model: dragged to its middle, it points at who looks.
	r.click(`[data-add="facing"]`)
	r.until(`crust.layer().where.length === 2`)
	r.pick(`#chain [data-clause]:nth-child(2) select[aria-label="toward"]`, "as picked")
	r.click(`#chain [data-pick="direction"]`)
	r.until(`crust.viewport.handleGroup && crust.picking`)
	x, y = onScreen("v.handleGroup.userData.tip.position")
	r.page.Mouse.MustMoveTo(x, y).MustDown("left")
	x, y = onScreen("v.middle")
	r.page.Mouse.MustMoveTo(x-2, y).MustMoveTo(x, y).MustUp("left")
	r.until(`(p => { const v = crust.viewport, d = v.camera.position.clone().sub(v.middle).normalize(); return p.directionX * d.x + p.directionY * d.y + p.directionZ * d.z > 0.99; })(crust.layer().where[1].params)`)
	r.press(input.Escape)
	r.until(`!crust.picking && !crust.viewport.handleGroup`)

	// All below is flattened: nothing changes to the eye, and what it holds is locked until it is opened again.
	r.settled()
	sum := `crust.viewport.pictures.values().next().value.base.full.data.reduce((a, b) => a + b) / 65536`
	open := r.number(sum)
	r.click(`[data-flatten]`)
	r.until(`document.querySelector('#flatten-menu').matches(':popover-open')`)
	r.click(`#flatten-menu [data-kind="below"]`)
	r.until(`crust.doc.layers.some(l => l.flat) && document.querySelector('#layers .fold.flat')`)
	r.settled()
	if flat := r.number(sum); math.Abs(flat-open) > 0.5 {
		t.Errorf("flattening changed the mean from %g to %g", open, flat)
	}
	r.until(`document.querySelector('#what [data-open]')`)
	r.click(`#what [data-open]`)
	r.until(`!crust.doc.layers.some(l => l.flat) && !document.querySelector('#layers .fold.flat')`)

	// A dial of the group, by showing what it does.
	r.until(`crust.layer().group`)
	r.page.MustElement(`#what input[data-key="dial-name"]`).MustInput("Age").MustType(input.Enter)
	r.until(`document.querySelector('[data-dial-done]')?.textContent === 'This is Age at 1'`)
	inside := r.eval(`crust.doc.layers.find(l => l.in).id`)
	group := r.eval(`crust.layer().id`)
	r.click(`#layers [data-id="` + inside + `"]`)
	rough := r.page.MustElement(`[data-channel="roughness"] .own input`)
	rough.MustSelectAllText().MustInput("0.1").MustType(input.Enter)
	r.until(`crust.layer().what.roughness.number === 0.1`)
	r.click(`#layers [data-id="` + group + `"]`)
	r.click(`[data-dial-done]`)
	r.until(`crust.layer().finish?.own?.dials[0].label === 'Age' && document.querySelector('.dial input')`)
	dial := r.page.MustElement(`#what .dial input`)
	dial.MustSelectAllText().MustInput("0").MustType(input.Enter)
	r.until(`Math.abs(crust.doc.layers.find(l => l.id === '` + inside + `').what.roughness.number - 0.6) < 1e-6`)
	r.click(`[data-dial-gone]`)
	r.until(`!crust.layer().finish?.own?.dials?.length`)
}

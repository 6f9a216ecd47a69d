package web

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
)

// drag drags with the mouse from the middle of one element to some share of another's height.
func (r *rig) drag(from, to string, share float64) {
	r.t.Helper()
	check := func(err error) {
		r.t.Helper()
		if err != nil {
			r.t.Fatal(err)
		}
	}
	a, b := r.page.MustElement(from).MustShape().Box(), r.page.MustElement(to).MustShape().Box()
	check(proto.InputSetInterceptDrags{Enabled: true}.Call(r.page))
	var begun proto.InputDragIntercepted
	wait := r.page.Timeout(20 * time.Second).WaitEvent(&begun)
	m := r.page.Mouse
	m.MustMoveTo(a.X+100, a.Y+a.Height/2)
	m.MustDown(proto.InputMouseButtonLeft)
	m.MustMoveTo(a.X+104, a.Y+a.Height/2+6)
	m.MustMoveTo(a.X+110, a.Y+a.Height/2+12)
	wait()
	for _, kind := range []proto.InputDispatchDragEventType{proto.InputDispatchDragEventTypeDragEnter, proto.InputDispatchDragEventTypeDragOver, proto.InputDispatchDragEventTypeDrop} {
		check(proto.InputDispatchDragEvent{Type: kind, X: b.X + 100, Y: b.Y + b.Height*share, Data: begun.Data}.Call(r.page))
	}
	m.MustUp(proto.InputMouseButtonLeft)
	check(proto.InputSetInterceptDrags{Enabled: false}.Call(r.page))
}

// Layers chosen together are grouped, moved, folded, locked and ungrouped by hand; the group's opacity and Where fade them.
func TestGroupsByHand(t *testing.T) {
	r := withBall(t)
	for range 3 {
		r.click("#add-coat")
	}
	r.until(`crust.doc.layers.length === 4 && document.querySelectorAll('#layers .layer').length === 4`)
	row := func(name string) string {
		return `#layers .layer[data-id="` + r.eval(`crust.doc.layers.find(l => l.name === "`+name+`").id`) + `"]`
	}
	r.click(row("Coat"))
	if err := r.page.Keyboard.Press(input.ControlLeft); err != nil {
		t.Fatal(err)
	}
	r.click(row("Coat 2"))
	if err := r.page.Keyboard.Release(input.ControlLeft); err != nil {
		t.Fatal(err)
	}
	r.until(`document.querySelectorAll('#layers .layer.on').length === 2`)
	r.click("#add-group")
	r.until(`crust.layer()?.group && crust.doc.undo === 'Group 2 layers'`)
	names := func() string { return r.eval(`crust.doc.layers.map(l => l.name + (l.in ? '<' : '')).join(' ')`) }
	if got := names(); got != "Base Coat< Coat 2< Group Coat 3" {
		t.Errorf("the layers are %s", got)
	}
	r.until(`document.querySelector('#where-words').textContent === '2 layers'`)

	// Its opacity fades both: a red and a white coat under half a group are half of what they cover.
	r.eval(`(crust.edit({ do: 'set', layer: crust.doc.layers[0].id, path: 'what.colour.hex', value: '#000000' }), '')`)
	r.eval(`(crust.edit({ do: 'set', layer: crust.doc.layers[2].id, path: 'what.colour.hex', value: '#ffffff' }), '')`)
	r.eval(`(crust.edit({ do: 'set', layer: crust.doc.layers[4].id, path: 'hidden', value: true }), '')`)
	r.eval(`(crust.edit({ do: 'set', layer: crust.doc.layers[3].id, path: 'opacity', value: 0.5 }), '')`)
	r.settled()
	colour := `(p => { let n = 0, s = 0; for (let i = 0; i < p.length; i += 4) if (p[i + 3]) { n++; s += p[i]; } return s / n; })(crust.viewport.pictures.values().next().value.base.full.data)`
	r.until(`Math.abs(` + colour + ` - 127.5) < 3`)

	// Dragging: into the group, and out of it.
	r.drag(row("Coat 3"), row("Group"), 0.5)
	r.until(`crust.doc.layers.find(l => l.name === 'Coat 3').in`)
	if got := names(); got != "Base Coat< Coat 2< Coat 3< Group" {
		t.Errorf("after dragging in: %s", got)
	}
	r.drag(row("Coat"), row("Base"), 0.9)
	r.until(`!crust.doc.layers.find(l => l.name === 'Coat').in`)
	if got := names(); got != "Coat Base Coat 2< Coat 3< Group" {
		t.Errorf("after dragging out: %s", got)
	}

	// Folded, its members have no rows; the arrows open it again.
	r.click(row("Group") + " .fold")
	r.until(`document.querySelectorAll('#layers .layer').length === 3`)
	r.page.MustElement(row("Group")).MustFocus()
	r.page.KeyActions().Press(input.ArrowRight).MustDo()
	r.until(`document.querySelectorAll('#layers .layer').length === 5`)
	r.axe("the strata with a group", ".strata")

	// Locked, nothing of it changes.
	r.click(row("Group"))
	r.click(`#what-tools [aria-label="Lock layer"]`)
	r.until(`crust.layer().locked`)
	r.eval(`(crust.edit({ do: 'set', layer: crust.doc.layers[2].id, path: 'opacity', value: 0.1 }), '')`)
	r.until(`document.querySelector('#toast').textContent.includes('is locked')`)
	r.click(row("Group") + " .unlock")
	r.until(`!crust.layer().locked`)

	// Its Where narrows what shows.
	r.click(`[data-add="facing"]`)
	r.until(`document.querySelector('#where-words').textContent === '2 layers, on what faces up' && crust.layer().coverage > 0 && crust.layer().coverage < 0.6`)
	r.click(`.group-what [data-ungroup]`)
	r.until(`crust.doc.layers.length === 4 && crust.doc.layers.every(l => !l.in) && crust.doc.undo === 'Ungroup Group'`)
	r.click("#undo")
	r.until(`crust.doc.layers.some(l => l.group && l.where.length === 1)`)
	if f := r.faulty(); len(f) > 0 {
		t.Errorf("the page threw: %v", f)
	}
}

// A finish is laid as a group whose dials go on moving it; it is kept under another name, saved as a file, deleted and brought
// in again; a file that is none is refused in place.
func TestFinishesByHand(t *testing.T) {
	r := withBall(t)
	r.click("#add-finish")
	r.click(`[data-card="worn-marine-paint"] summary`)
	r.click(`[data-finish="worn-marine-paint"]`)
	r.until(`crust.layer()?.finish?.name === 'worn-marine-paint' && crust.layer().group`)
	paint := `crust.doc.layers.find(l => l.name === 'Top paint' && l.in === crust.layer().id)`
	before := r.number(paint + `.where[0].shape.low`)
	dial := r.page.MustElement(`.group-what .dial input[data-key="age"]`)
	dial.MustSelectAllText().MustInput("1").MustType(input.Enter)
	r.until(`crust.layer().finish.dials.age === 1 && crust.doc.undo === 'Turn age of Worn marine paint'`)
	if after := r.number(paint + `.where[0].shape.low`); after >= before {
		t.Errorf("the paint holds from %g on, %g before it aged", after, before)
	}
	r.click(`[data-save]`)
	r.page.MustElement("#save-finish-title").MustSelectAllText().MustInput("Old lightship")
	r.axe("saving a finish", "#save-finish")
	r.click("#save-finish-yes")
	r.until(`document.querySelector('#toast').textContent.startsWith('“Old lightship” is among your finishes')`)
	r.click("#add-finish")
	r.until(`document.querySelector('#finish-list h3')?.textContent === 'Yours' && document.querySelector('[data-card="own-old-lightship"]')`)

	resp, err := http.Get("http://" + r.addr + "/api/finishes/own-old-lightship")
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(resp.Body)
	resp.Body.Close()
	var kept struct {
		Title string
		Dials []struct {
			Name    string
			Default float64
		}
	}
	if err := json.Unmarshal(text, &kept); err != nil || kept.Title != "Old lightship" || len(kept.Dials) != 5 || kept.Dials[0].Default != 1 {
		t.Errorf("%v, %+v", err, kept)
	}
	r.click(`[data-card="own-old-lightship"] summary`)
	r.click(`[aria-label="Delete Old lightship"]`)
	r.until(`!document.querySelector('[data-card="own-old-lightship"]')`)
	dir := t.TempDir()
	good, bad := filepath.Join(dir, "lightship.finish.json"), filepath.Join(dir, "broken.json")
	if err := os.WriteFile(good, text, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(bad, bytes.Replace(text, []byte(`"metres"`), []byte(`"feet"`), 1), 0o644); err != nil {
		t.Fatal(err)
	}
	r.page.MustElement("#finish-file").MustSetFiles(bad)
	r.until(`/broken.json: .*feet/.test(document.querySelector('#finish-complaint').textContent)`)
	r.page.MustElement("#finish-file").MustSetFiles(good)
	r.until(`document.querySelector('[data-card="own-old-lightship"]')?.open`)
	r.click(`[data-finish="own-old-lightship"]`)
	r.until(`crust.layer()?.name === "Old lightship" && crust.layer().finish.own && document.querySelectorAll('.group-what .dial').length === 5`)
	if f := r.faulty(); len(f) > 0 {
		t.Errorf("the page threw: %v", f)
	}
}

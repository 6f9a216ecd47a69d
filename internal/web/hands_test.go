package web

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"

	"crust/internal/core/mesh"
)

// withBall opens the Paint stage of a small sphere.
func withBall(t *testing.T) *rig {
	t.Helper()
	m := mesh.Sphere(32, 16, 0.5, [3]float64{0, 0.5, 0})
	var b bytes.Buffer
	if err := mesh.WriteGLB(&b, m, mesh.GLBOptions{Materials: []mesh.GLBMaterial{{Name: "ball"}}, MaterialOf: func(int) int { return 0 }}); err != nil {
		t.Fatal(err)
	}
	return withModel(t, "ball.glb", b.Bytes())
}

// withModel opens the Paint stage of a model at 256 px.
func withModel(t *testing.T, name string, data []byte) *rig {
	t.Helper()
	r := newRig(t)
	name = filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(name, data, 0o644); err != nil {
		t.Fatal(err)
	}
	r.page.MustSetViewport(1000, 640, 0.35, false)
	r.open("/")
	r.page.MustElement("#model-files").MustSetFiles(name)
	r.until(`location.pathname.endsWith('/intake') && window.crust?.state`)
	r.click(`.stations a[data-stage="paint"]`)
	r.pick("#working-size", "256 px")
	r.until(`crust.state.size === 256`)
	r.settled()
	return r
}

func (r *rig) press(keys ...input.Key) {
	r.t.Helper()
	a := r.page.KeyActions()
	for _, k := range keys[:len(keys)-1] {
		a = a.Press(k)
	}
	if err := a.Type(keys[len(keys)-1]).Do(); err != nil {
		r.t.Fatal(err)
	}
}

// middle is the colour of the canvas' pixel at a share of its width and height.
func (r *rig) pixel(sel string, fx, fy float64) [3]int {
	r.t.Helper()
	img := r.shot(sel)
	b := img.Bounds()
	c, g, bl, _ := img.At(b.Min.X+int(fx*float64(b.Dx())), b.Min.Y+int(fy*float64(b.Dy()))).RGBA()
	return [3]int{int(c >> 8), int(g >> 8), int(bl >> 8)}
}

// Values take what people type: units, sums, fractions (interface: every value).
func TestValuesReadUnitsAndSums(t *testing.T) {
	r := newRig(t)
	r.open("/")
	for _, c := range []struct {
		text, unit string
		want       float64
	}{
		{"0.5", "", 0.5}, {"1/3", "", 1. / 3}, {"5 + 2*3", "", 11}, {"(5+2)*3", "", 21}, {"-2", "", -2}, {"0,25", "", 0.25}, {"80°", "°", 80},
		{"2cm", "m", 0.02}, {"4 mm", "m", 0.004}, {"1m + 20cm", "m", 1.2}, {"3", "m", 3}, {"1 cm", "mm", 10}, {"1e-3", "", 0.001},
	} {
		v, err := r.page.Eval(`(text, unit) => import('/static/values.js').then(m => m.parse(text, unit))`, c.text, c.unit)
		if err != nil {
			t.Fatal(err)
		}
		if got := v.Value.Num(); got < c.want-1e-9 || got > c.want+1e-9 {
			t.Errorf("%q in %q reads as %g, want %g", c.text, c.unit, got, c.want)
		}
	}
	for _, text := range []string{"", "red", "2 apples", "alert(1)", "1//2", "((1)", "1)"} {
		v, err := r.page.Eval(`text => import('/static/values.js').then(m => Number.isFinite(m.parse(text, 'm')))`, text)
		if err != nil {
			t.Fatal(err)
		}
		if v.Value.Bool() {
			t.Errorf("%q reads as a number", text)
		}
	}
}

// One page of one ball, used by hand: opening it is what takes time.
func TestOneBallByHand(t *testing.T) {
	r := withBall(t)
	for _, c := range []struct {
		name string
		do   func(t *testing.T, r *rig)
	}{
		{"keys do what their list says", keysDoWhatTheirListSays},
		{"typed values reach the model", typedValuesReachTheModel},
		{"deleting asks first", deletingAsksFirst},
	} {
		t.Run(c.name, func(t *testing.T) {
			r.t = t
			c.do(t, r)
		})
	}
}

// The keys that the list under ? names do what it says, and typing in a field is not one of them.
func keysDoWhatTheirListSays(t *testing.T, r *rig) {
	r.page.MustEval(`() => document.activeElement.blur()`) // letters typed in a select choose in it
	r.press('?')
	r.until(`document.querySelector('#keys-dialog').open`)
	r.click(`#keys-dialog form button`)
	r.until(`!document.querySelector('#keys-dialog').open`)
	r.page.MustEval(`() => document.activeElement.blur()`)
	r.press('c')
	r.until(`crust.showing === 'base'`)
	r.press('v')
	r.until(`crust.layout === 'flat' && document.querySelector('#pane-model').hidden && !document.querySelector('#pane-flat').hidden`)
	// The one base coat is grey #8a8a86; the flat map shows it as it is.
	if got := r.pixel("#pane-flat", 0.5, 0.5); got != [3]int{0x8a, 0x8a, 0x86} {
		t.Errorf("the flat map's middle is %v, want 8a 8a 86", got)
	}
	r.press('v')
	r.press('v')
	r.until(`crust.layout === 'model'`)
	r.press(input.ControlLeft, 'd')
	r.until(`crust.doc.layers.length === 2 && crust.layer()?.name === 'Base 2'`)
	r.press(input.ControlLeft, 'z')
	r.until(`crust.doc.layers.length === 1`)
	r.press(input.ControlLeft, input.ShiftLeft, 'Z')
	r.until(`crust.doc.layers.length === 2`)
	r.page.MustEval(`() => crust.choose(crust.doc.layers[1].id)`)
	r.press(input.Delete)
	r.until(`crust.doc.layers.length === 1`)
	if err := r.page.Keyboard.Press('m'); err != nil {
		t.Fatal(err)
	}
	r.until(`crust.viewport.mode === 'where'`)
	r.until(`crust.viewport.texels('asset', 'where')?.settled`)
	time.Sleep(500 * time.Millisecond)
	if got := r.pixel("#pane-model", 0.5, 0.5); got != [3]int{255, 255, 255} {
		t.Errorf("the Where of a coat that lies everywhere is %v on the model, want white", got)
	}
	if err := r.page.Keyboard.Release('m'); err != nil {
		t.Fatal(err)
	}
	r.until(`crust.viewport.mode === 'base'`)
	for i, stage := range []string{"intake", "bake", "paint", "deliver"} {
		r.page.MustEval(`() => dispatchEvent(new KeyboardEvent('keydown', {code: 'Digit` + fmt.Sprint(i+1) + `', key: '!', shiftKey: true}))`)
		r.until(`crust.stageName === '` + stage + `' && location.pathname.endsWith('/` + stage + `')`)
	}
	r.page.MustNavigateBack()
	r.until(`crust.stageName === 'paint'`)
	before := r.number(`crust.doc.layers.length`)
	r.page.MustElement("#asset-name").MustFocus()
	r.press(input.Delete)
	r.press('v')
	if r.number(`crust.doc.layers.length`) != before || r.eval(`crust.layout`) != "model" {
		t.Error("a key typed into the name did something else")
	}
	if len(r.faulty()) > 0 {
		t.Errorf("the page threw: %v", r.faulty())
	}
}

// A colour and a typed value reach the model's pixels; a double click brings the default back.
func typedValuesReachTheModel(t *testing.T, r *rig) {
	r.page.MustEval(`() => { crust.choose(crust.doc.layers[0].id); crust.setShow('base'); }`)
	r.page.MustEval(`() => { const c = document.querySelector('[data-key="hex"]'); c.value = '#204060'; c.dispatchEvent(new Event('input')); c.dispatchEvent(new Event('change')); }`)
	r.until(`crust.doc.layers[0].what.colour.hex === '#204060'`)
	r.settled()
	time.Sleep(500 * time.Millisecond)
	if got := r.pixel("#pane-model", 0.5, 0.5); got != [3]int{0x20, 0x40, 0x60} {
		t.Errorf("the model's middle is %v, want 20 40 60", got)
	}
	rough := r.page.MustElement(`[data-channel="roughness"] [data-key="roughness"]`)
	rough.MustClick()
	r.page.MustInsertText("1/4")
	r.press(input.Enter)
	r.until(`crust.doc.layers[0].what.roughness.number === 0.25`)
	r.settled()
	if got := r.number(`crust.viewport.texels('asset', 'orm').data[128 * 256 * 4 + 128 * 4 + 1]`); got != 64 {
		t.Errorf("roughness in the packed texture is %g, want 64", got)
	}
	if err := r.page.MustElement(`[data-channel="roughness"] [data-key="roughness"]`).Click(proto.InputMouseButtonLeft, 2); err != nil {
		t.Fatal(err)
	}
	r.until(`crust.doc.layers[0].what.roughness.number === 0.5`)
	// A card added, its picture drawn, and pointing at it shows it on the model.
	r.click(`[data-add="reach"]`)
	r.until(`document.querySelector('.card-clause [data-pic]')?.src?.startsWith('data:image/png')`)
	r.page.MustElement(`.card-clause .card-pic`).MustHover()
	r.until(`crust.viewport.mode === 'where' && crust.viewport.texels('asset', 'where')`)
	// Fields to the left and right are dragged into another order by their joins' own controls.
	r.click(`[data-add="noise"]`)
	r.until(`crust.layer().where.length === 2`)
	r.pick("select.join", "minus")
	r.until(`crust.layer().where[1].join === 'minus'`)
	if got := r.eval(`crust.layer().reading`); !strings.HasPrefix(got, "from 0 m to 40 cm up, but not") {
		t.Errorf("reading %q", got)
	}
	r.click(`.card-clause [data-remove]`)
	r.until(`crust.layer().where.length === 1`)
	// Edges read the curvature of the breadth that is chosen on their card.
	r.click(`[data-add="edges"]`)
	r.pick(`select[aria-label="breadth"]`, "soft")
	r.until(`crust.layer().where[1].params.breadth === 2 && crust.layer().reading.includes('on soft edges')`)
	if len(r.faulty()) > 0 {
		t.Errorf("the page threw: %v", r.faulty())
	}
}

// Deleting an asset asks first, names what is lost, and does what was answered.
func deletingAsksFirst(t *testing.T, r *rig) {
	r.open("/")
	r.click("[data-delete]")
	r.until(`document.querySelector('#confirm').open`)
	if text := r.page.MustElement("#confirm p").MustText(); !strings.Contains(text, "ball") {
		t.Errorf("the question is %q", text)
	}
	r.click(`#confirm [value="no"]`)
	r.until(`!document.querySelector('#confirm').open && document.querySelector('.asset-card')`)
	r.click("[data-delete]")
	r.until(`document.querySelector('#confirm').open`)
	r.click(`#confirm [value="yes"]`)
	r.until(`document.querySelector('#drop')`)
}

package web

import (
	"bytes"
	"fmt"
	"image/png"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"

	"crust/internal/core/deliver"
	"crust/internal/core/imgfile"
	"crust/internal/core/mesh"
)

// The Deliver page by hand: a cell of the packing table is changed, the table saved as a preset of one's own, delivered to a
// folder, again with nothing changed, in the way of a file of others; and what was delivered is read back and read wrong.
func TestDeliveringByHand(t *testing.T) {
	r := withModel(t, "plates.obj", []byte(twoPlates))
	r.click(`.stations a[data-stage="intake"]`)
	r.click("#own-take")
	r.until(`document.querySelector('#intake-complaint').textContent.startsWith('the model came without materials')`)
	r.click(`.stations a[data-stage="deliver"]`)
	r.until(`document.querySelectorAll('#files li').length > 0`)
	r.click(`[data-preset="orm-green-down"]`)
	r.until(`crust.state.shipping.preset === 'orm-green-down'`)

	// B of the packed file becomes smoothness: roughness, inverted, found by searching.
	r.click(`[data-row="1"] [data-letter="b"]`)
	r.until(`document.activeElement.getAttribute('aria-label') === 'Search sources'`)
	r.try("type", ".plane-list .field-text", func(e *rod.Element) error { return e.Input("smooth") })
	r.click(`.plane-rows [data-source="smoothness"]`)
	r.until(`crust.state.shipping.edited?.files[1].b === 'smoothness'`)
	r.until(`!document.querySelector('#preset-changed').hidden`)
	// Its pictures show what it holds: one minus the other.
	r.until(`(p => p.of.has('smoothness') && p.of.has('roughness') && p.of.get('smoothness').every((v, i) => v + p.of.get('roughness')[i] === 255))(crust.deliver.planes)`)
	// sRGB on data is told in the table, and refused.
	r.pick(`[data-row="1"] select[aria-label="Packed is read as"]`, "sRGB")
	r.until(`document.querySelector('#preset-complaint').textContent.includes('tagged as sRGB but holds data')`)
	r.until(`!crust.state.shipping.edited.files[1].srgb`)

	// Saved as one's own, it stands in the list and comes out as a file.
	r.try("type", "#preset-name", func(e *rod.Element) error { return e.Input("harbour kit") })
	r.click("#preset-save")
	r.until(`document.querySelector('#presets-own [data-preset="harbour kit"].on') && !crust.state.shipping.edited`)
	text := r.page.MustEval(`() => fetch(document.querySelector('#preset-export').href).then(a => a.text())`).Str()
	p, err := deliver.ParsePreset([]byte(text))
	if err != nil || p.Name != "harbour kit" || p.Files[1].B.From != "smoothness" {
		t.Errorf("its file: %v, %+v", err, p)
	}

	// Names by a template; what cannot be is told before the run.
	name := func(s string) {
		r.try("type", "#naming", func(e *rod.Element) error {
			if err := e.SelectAllText(); err != nil {
				return err
			}
			if err := e.Input(s); err != nil {
				return err
			}
			return e.Type(input.Enter)
		})
	}
	name("all")
	r.until(`document.querySelector('#plan-error').textContent.includes('two files would be called') && document.querySelector('#deliver').disabled`)
	name("T_{asset}_{map}")
	r.until(`[...document.querySelectorAll('#files .name')].some(n => n.textContent === 'T_plates_orm.png') && !document.querySelector('#deliver').disabled`)

	// To a folder: below the root alone.
	r.click(`#deliver-to [data-value="folder"]`)
	folder := func(s string) {
		r.try("type", "#folder", func(e *rod.Element) error {
			if err := e.SelectAllText(); err != nil {
				return err
			}
			if err := e.Input(s); err != nil {
				return err
			}
			return e.Type(input.Enter)
		})
	}
	folder("../elsewhere")
	r.until(`document.querySelector('#plan-error').textContent.includes('does not lie below')`)
	folder("plates/maps")
	r.until(`document.querySelector('#folder-words').textContent.endsWith('maps') && document.querySelector('#plan-error').hidden`)
	r.click(`#deliver-size [data-size="256"]`)
	r.until(`crust.state.shipping.size === 256 && crust.deliver.plan?.files[0].size === 256 && !document.querySelector('#deliver').disabled`)
	r.click("#deliver")
	r.until(`document.querySelector('[data-delivery="1"]') && !crust.state.job`)
	dir := filepath.Join(r.dir, "out", "plates", "maps")
	f, err := os.Open(filepath.Join(dir, "T_plates_orm.png"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if img, err := png.Decode(f); err != nil {
		t.Error(err)
	} else if _, g, b, _ := img.At(100, 100).RGBA(); g>>8+b>>8 != 255 {
		t.Errorf("roughness %d and smoothness %d", g>>8, b>>8)
	}

	// Again: nothing has changed. Then somebody else's file stands in the way, until it is allowed.
	r.click(`[data-again="1"]`)
	r.until(`document.querySelector('[data-delivery="2"]') && document.querySelector('#deliver-words').textContent.startsWith('Done: 0 of')`)
	theirs := filepath.Join(dir, "T_plates_orm.png")
	if err := os.WriteFile(theirs, []byte("theirs"), 0o644); err != nil {
		t.Fatal(err)
	}
	r.click(`#deliver-size [data-size="512"]`)
	r.until(`document.querySelector('#deliver-complaint').textContent.includes('T_plates_orm.png (changed since it was delivered)') && document.querySelector('#deliver').disabled`)
	if data, _ := os.ReadFile(theirs); string(data) != "theirs" {
		t.Error("their file was replaced unasked")
	}
	r.click("#deliver-replace")
	r.until(`document.querySelector('[data-delivery="3"]') && !crust.state.job`)
	if info, err := os.Stat(theirs); err != nil || info.Size() < 100 {
		t.Errorf("allowed, it was not replaced: %v", err)
	}

	// Reading back: the same within half a step, and beside the strata the same pixels; wrong green and no padding change them.
	r.click(`[data-look="3"]`)
	r.until(`crust.deliver.readBack.wiredOnce && document.querySelector('#read-state').textContent.startsWith('All ')`)
	r.click("#read-compare")
	r.until(`document.querySelectorAll('[data-difference]').length > 5`)
	if worst := r.number(`Math.max(...crust.deliver.readBack.differences.map(d => d.steps))`); worst > 0.51 {
		t.Errorf("it reads back %.2f steps off", worst)
	}
	r.axe("readback")
	// Over a line instead of side by side; both sides look the same.
	r.click("#read-wipe")
	r.until(`!document.querySelector('#kept-view').hidden && document.querySelector('#read-sides').hidden && document.querySelector('#wipe [data-side="kept"]').textContent === 'from the files'`)
	r.until(`(() => { const c = document.querySelector('#kept-view'), d = document.createElement('canvas'); d.width = c.width; d.height = c.height; const g = d.getContext('2d'); g.drawImage(document.querySelector('#model'), 0, 0); const a = g.getImageData(0, 0, d.width, d.height).data, b = c.getContext('2d').getImageData(0, 0, d.width, d.height).data; let off = 0, model = 0; for (let i = 0; i < a.length; i += 4) { off += Math.abs(a[i] - b[i]); model += Math.abs(a[i] - a[0]) > 20; } return model > 200 && off / model < 2; })()`)
	r.click("#read-wipe")
	r.until(`document.querySelector('#wipe').hidden && !document.querySelector('#read-sides').hidden`)
	sent := `(v => crust.viewport.texels(crust.state.sets[0].name, 'sent-' + v).data)`
	before := r.eval(sent + `('orm')[4 * 70000 + 1]`)
	r.click(`[data-mistake="smooth"]`)
	r.until(sent + `('orm')[4 * 70000 + 1] === 255 - ` + before)
	r.click(`[data-mistake="smooth"]`)
	r.until(sent + `('orm')[4 * 70000 + 1] === ` + before)
	r.click(`[data-plane="T_plates_orm.png G"]`)
	r.until(`!document.querySelector('#read-large').hidden && document.querySelector('#read-large img').naturalWidth === 512`)
	r.click("#read-large")
	r.press(input.Escape)
	r.until(`document.querySelector('#readback').hidden`)
	if err := os.Remove(theirs); err != nil {
		t.Fatal(err)
	}
	r.click(`[data-look="3"]`)
	r.until(`document.querySelector('#read-state').textContent.includes('missing: T_plates_orm.png')`)
	r.click("#read-close")
	// Forgetting a delivery leaves its files.
	r.click(`[data-drop="2"]`)
	r.until(`!document.querySelector('[data-delivery="2"]')`)
	if _, err := os.Stat(filepath.Join(dir, deliver.Note)); err != nil {
		t.Error(err)
	}
	if f := r.faulty(); len(f) > 0 {
		t.Errorf("page errors: %s", strings.Join(f, "; "))
	}
}

// twoSheets is a model of two squares side by side, a set each, both over the whole of their UV squares.
const twoSheets = `o left
v 0 0 0
v 1 0 0
v 1 1 0
v 0 1 0
v 1.1 0 0
v 2.1 0 0
v 2.1 1 0
v 1.1 1 0
vt 0.02 0.02
vt 0.98 0.02
vt 0.98 0.98
vt 0.02 0.98
usemtl left
f 1/1 2/2 3/3 4/4
o right
usemtl right
f 5/1 6/2 7/3 8/4
`

// Two sets are joined on a sheet: laid out by density, told where they lie on each other, dragged apart, delivered as one with the
// model's new UVs, and read back.
func TestJoiningByHand(t *testing.T) {
	r := withModel(t, "sheets.obj", []byte(twoSheets))
	r.until(`crust.state.sets.length === 2`)
	r.click(`.stations a[data-stage="deliver"]`)
	r.click("#join-new")
	r.until(`crust.deliver.joins.sheet()?.round === 'density' && document.querySelector('#join-conflicts').textContent === 'No set lies on another.'`)
	r.click(`#join-round [data-value="together"]`)
	r.until(`document.querySelector('#join-conflicts').textContent.includes('left and right lie on each other on 92 %')`)
	r.axe("joinsheet")
	r.click(`#join-round [data-value="grid"]`)
	r.until(`crust.deliver.joins.sheet().round === 'grid' && crust.deliver.joins.sheet().sets[1].x === 0.5`)
	// The right one is dragged from the top right quarter to the bottom left one.
	at := func(x, y float64) string {
		return r.eval(`(b => [b.left + ` + ftoa(x) + ` * b.width, b.top + ` + ftoa(y) + ` * b.height].join(' '))(document.querySelector('#join-canvas').getBoundingClientRect())`)
	}
	r.brush(pointOf(t, at(0.75, 0.25)), pointOf(t, at(0.25, 0.75)))
	r.until(`(c => c.x === 0 && c.y === 0.5 && c.side === 0.5)(crust.deliver.joins.sheet().sets[1])`)
	r.try("type", "#join-name", func(e *rod.Element) error {
		if err := e.SelectAllText(); err != nil {
			return err
		}
		if err := e.Input("both"); err != nil {
			return err
		}
		return e.Type(input.Enter)
	})
	r.until(`crust.deliver.joins.sheet()?.name === 'both'`)
	r.click("#join-close")
	r.click(`[data-preset="orm-green-down"]`)
	r.click(`#deliver-size [data-size="256"]`)
	r.until(`crust.deliver.plan?.files.map(f => f.file).join(' ') === 'both_basecolor.png both_orm.png both_normal.png sheets.glb wiring.txt delivery.json'`)
	r.click("#deliver")
	r.until(`document.querySelector('[data-zip="1"]')`)
	files := r.zip(1)
	if len(files) != 6 {
		t.Errorf("%d files", len(files))
	}
	m, err := mesh.Open(mesh.File{Name: "sheets.glb", Data: files["sheets.glb"]}, nil)
	if err != nil {
		t.Fatal(err)
	}
	for i := range m.UVs {
		// In Crust's UVs v points up: the left square lies in the top left quarter, the right one below it.
		if up := m.Positions[i].X < 1.05; m.UVs[i].X > 0.5 || (m.UVs[i].Y > 0.5) != up {
			t.Errorf("the vertex at %v has the UV %v", m.Positions[i], m.UVs[i])
		}
	}
	r.click(`[data-look="1"]`)
	r.until(`crust.deliver.readBack.wiredOnce`)
	r.click("#read-compare")
	r.until(`document.querySelectorAll('[data-difference]').length > 5`)
	if worst := r.number(`Math.max(...crust.deliver.readBack.differences.map(d => d.steps))`); worst > 0.51 {
		t.Errorf("it reads back %.2f steps off", worst)
	}
	// Home saves it as an archive, and makes an asset of it again, with its sheets and layers.
	r.click("#read-close")
	r.open("/")
	href := r.eval(`document.querySelector('[data-archive]').getAttribute('href')`)
	res, err := http.Get("http://" + r.addr + strings.Trim(href, `"`))
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	file := filepath.Join(t.TempDir(), "sheets.crust.zip")
	data, err := io.ReadAll(res.Body)
	if err == nil {
		err = os.WriteFile(file, data, 0o644)
	}
	if err != nil {
		t.Fatal(err)
	}
	r.page.MustElement("#model-files").MustSetFiles(file)
	r.until(`location.pathname === '/assets/2/paint' && window.crust?.state?.shipping.joins?.[0].name === 'both' && crust.doc.layers.length > 0`)
	if f := r.faulty(); len(f) > 0 {
		t.Errorf("page errors: %s", strings.Join(f, "; "))
	}
}

func ftoa(v float64) string { return strconv.FormatFloat(v, 'g', -1, 64) }

func pointOf(t *testing.T, text string) (p proto.Point) {
	t.Helper()
	if _, err := fmt.Sscan(text, &p.X, &p.Y); err != nil {
		t.Fatal(err)
	}
	return p
}

// A model's own materials are taken in from Intake and seen on the model; one that has none says so.
func TestOwnMaterialsByHand(t *testing.T) {
	red, err := imgfile.Bytes(&imgfile.Image{Width: 2, Height: 2, Channels: 3, Bits: 8, Pix8: bytes.Repeat([]byte{220, 30, 20}, 4)})
	if err != nil {
		t.Fatal(err)
	}
	m := mesh.Sphere(24, 12, 0.5, [3]float64{})
	var b bytes.Buffer
	if err := mesh.WriteGLB(&b, m, mesh.GLBOptions{MaterialOf: func(int) int { return 0 }, Materials: []mesh.GLBMaterial{{Name: "hull", BaseColour: red, NamePictures: "hull"}}}); err != nil {
		t.Fatal(err)
	}
	r := withModel(t, "ball.glb", b.Bytes())
	r.click(`.stations a[data-stage="intake"]`)
	r.click("#own-take")
	r.until(`crust.stageName === 'paint' && crust.doc.layers.some(l => l.name === 'hull') && crust.state.pictures.length === 1`)
	r.texel("base", 128, 128, 0, 220, 1)
	r.texel("base", 128, 128, 1, 30, 1)
	r.press(input.ControlLeft, 'z')
	r.until(`!crust.doc.layers.some(l => l.name === 'hull')`)
	if f := r.faulty(); len(f) > 0 {
		t.Errorf("page errors: %s", strings.Join(f, "; "))
	}
}

package web

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"image"
	"image/color"
	"image/png"
	"math"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"

	"crust/internal/core/mesh"
)

// pairOfBalls is two balls, “left” and “right”, each with a slot of its own, side by side in UV space too.
func pairOfBalls(t *testing.T, dir, name, ending string, nu, nv int, grow float64) string {
	t.Helper()
	m := mesh.Sphere(nu, nv, 0.5+grow, [3]float64{})
	m.Parts[0], m.Materials[0].Name = "left"+ending, "left"
	o := mesh.Sphere(nu, nv, 0.5+grow, [3]float64{1.3, 0, 0})
	o.Parts[0], o.Materials[0].Name = "right"+ending, "right"
	m.Append(o)
	var b bytes.Buffer
	if err := mesh.WriteGLB(&b, m, mesh.GLBOptions{Materials: []mesh.GLBMaterial{{Name: "left"}, {Name: "right"}}, MaterialOf: func(t int) int { return int(m.Material[t]) }}); err != nil {
		t.Fatal(err)
	}
	name = filepath.Join(dir, name)
	if err := os.WriteFile(name, b.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	return name
}

func grey(t *testing.T, size int, v uint16) []byte {
	t.Helper()
	img := image.NewGray16(image.Rect(0, 0, size, size))
	for i := range size * size {
		img.SetGray16(i%size, i/size, color.Gray16{Y: v})
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// The Bake stage by mouse and keyboard: columns and single cells are chosen and baked, the times are foretold, a bake goes
// on while its page is closed and is found again, stop answers and keeps what is done, a map is seen large with its
// values, parts pair by endings that are changed, the cage shows misses, normals are compared, and a zip of maps is
// matched, corrected and taken in.
func TestBakingByMouseAndKeyboard(t *testing.T) {
	r := newRig(t)
	dir := t.TempDir()
	low := pairOfBalls(t, dir, "balls.glb", "", 24, 12, 0)
	high := pairOfBalls(t, dir, "balls_sculpt.glb", "_sculpt", 100, 50, 0.004)
	r.open("/")
	r.page.MustElement("#model-files").MustSetFiles(low)
	r.until(`location.pathname.endsWith('/intake') && window.crust?.state`)
	r.click(`.stations a[data-stage="bake"]`)
	r.pick("#quality-words select", "512 px")
	r.until(`crust.state.settings.size === 512`)
	r.click(`#quality [data-value="draft"]`)
	r.until(`crust.state.settings.quality === 'draft'`)
	r.until(`['draft','normal','final'].every(q => document.querySelector('#quality [data-value="' + q + '"] em').textContent.includes('≈'))`)
	if d, f := r.number(`crust.board.times.draft`), r.number(`crust.board.times.final`); d <= 0 || f < 4*d {
		t.Errorf("foretold %.2f s for a draft and %.2f s for final", d, f)
	}

	// A column and one cell more, by Ctrl and click: just those are baked.
	r.click(`[data-column="position"]`)
	if err := r.page.Keyboard.Press(input.ControlLeft); err != nil {
		t.Fatal(err)
	}
	r.click(`.cell[data-set="left"][data-kind="ao"]`)
	if err := r.page.Keyboard.Release(input.ControlLeft); err != nil {
		t.Fatal(err)
	}
	if got := r.page.MustElement("#bake-chosen").MustText(); got != "Bake the 3 chosen maps" {
		t.Fatalf("the button says %q", got)
	}
	r.page.MustEval(`() => { window.kept = document.querySelector('.cell[data-set="left"][data-kind="ao"]'); }`)
	r.click("#bake-chosen")
	r.until(`!crust.state.job && crust.state.cells.filter(c => c.state === 'ready').length === 3`)
	// A cell stays the same button while its looks change, so that a press in the making is not lost.
	r.until(`window.kept.isConnected && window.kept.className === 'cell ready on picked' && window.kept.querySelector('img').naturalWidth > 0 && window.kept.textContent === 'ready · 512'`)

	// A long bake goes on without its page, and its bar is found again.
	r.click(`#quality [data-value="final"]`)
	r.until(`crust.state.settings.quality === 'final'`)
	r.pick("#quality-words select", "4096 px")
	r.until(`crust.state.settings.size === 4096`)
	r.click(`[data-column="ao"]`)
	r.click("#bake-chosen")
	r.until(`crust.state.job`)
	r.open("/")
	r.open("/assets/1/bake")
	r.until(`window.crust?.state?.job && document.querySelector('.cell.running progress') && !document.querySelector('#job').hidden`)
	r.until(`document.querySelector('.job-left').textContent.includes(':')`)
	r.click("#stop")
	r.until(`!crust.state.job`)
	// It was stopped, not waited for: the large map has not come, the maps from before are there.
	r.until(`crust.state.cells.filter(c => c.state === 'ready').length === 3`)
	if got := r.number(`Math.max(...crust.state.cells.map(c => c.size || 0))`); got != 512 {
		t.Errorf("a map of %.0f px has come from a bake that was stopped", got)
	}

	// With a high-poly of other endings nothing pairs until these are named.
	r.click(`#quality [data-value="draft"]`)
	r.until(`crust.state.settings.quality === 'draft'`)
	r.pick("#quality-words select", "512 px")
	r.until(`crust.state.settings.size === 512`)
	r.page.MustElement("#high-file").MustSetFiles(high)
	r.until(`crust.state.high?.length === 1 && crust.state.settings.size === 512 && crust.state.settings.quality === 'draft'`)
	r.until(`crust.state.cells.filter(c => c.state === 'stale' && c.why.includes('high-poly')).length === 3`)
	r.click("#pair-open")
	r.until(`document.querySelector('#pair-words').textContent.includes('0 of 2 parts')`)
	if got := r.page.MustElement("#pair-words").MustText(); !strings.Contains(got, "left_sculpt, right_sculpt") {
		t.Errorf("parts without a partner: %q", got)
	}
	ends := r.page.MustElement("#endings")
	ends.MustSelectAllText().MustInput("_sculpt")
	ends.MustType(input.Enter)
	r.until(`document.querySelector('#pair-words').textContent.includes('2 of 2 parts') && crust.state.settings.endings?.[0] === '_sculpt'`)
	r.click("#bake-view [data-value=\"cage\"]")
	r.until(`document.querySelector('#bake-view-words').textContent.includes('no ray misses')`)
	// A part's front that is too short makes its texels miss.
	front := r.page.MustElement(`#pairs tr[data-part="left"] td:nth-child(3) input`)
	front.MustClick().MustSelectAllText().MustInput("0.5mm")
	front.MustType(input.Enter)
	r.until(`crust.state.settings.parts?.left?.front === 0.0005`)
	r.until(`/rays miss at/.test(document.querySelector('#bake-view-words').textContent)`)
	r.until(`crust.viewport.frames > 0 && crust.viewport.shellGroup`)
	if n := r.loud(); n < 125 {
		t.Errorf("%d loud pixels where rays miss, want the left ball's", n)
	}
	r.page.MustElement(`#pairs tr[data-part="left"] td:nth-child(3) input`).MustClick().MustSelectAllText().MustInput("0").MustType(input.Enter)
	r.until(`!crust.state.settings.parts?.left`)
	r.click("#pair-close")
	r.click("#bake-view [data-value=\"map\"]")
	r.click("#bake-missing")
	r.until(`crust.state.job`)
	r.until(`!crust.state.job && crust.state.cells.every(c => c.state === 'ready')`)

	// Large: the value under the pointer is the map's own, on the flat map and on the model.
	r.click(`.cell[data-set="left"][data-kind="position"]`)
	r.until(`crust.board.drawn?.includes('position')`)
	r.click("#map-open")
	r.until(`document.body.dataset.large === '1' && crust.board.place`)
	box := r.page.MustElement("#large-canvas").MustShape().Box()
	r.page.Mouse.MustMoveTo(box.X+box.Width/2, box.Y+box.Height/2)
	r.until(`/texel 256, 25\d/.test(document.querySelector('#large-value').textContent) || /texel 25\d, 25\d/.test(document.querySelector('#large-value').textContent)`)
	box = r.page.MustElement("#model").MustShape().Box()
	r.page.Mouse.MustMoveTo(box.X+box.Width*0.35, box.Y+box.Height/2)
	r.until(`/^\d\.\d{4}  \d\.\d{4}  \d\.\d{4}/.test(document.querySelector('#large-value').textContent.replace(/^\S+ · /, ''))`)
	r.page.Keyboard.MustType(input.Escape)
	r.until(`document.body.dataset.large !== '1'`)

	// The normals beside the high-poly: both halves of the picture show a lit ball.
	r.click("#bake-view [data-value=\"compare\"]")
	r.until(`document.querySelector('#bake-view-words').textContent.includes('left: baked') && crust.viewport.highMesh`)
	turn := r.number(`crust.viewport.turn`)
	r.until(`Math.abs(crust.viewport.turn - ` + jsNumber(turn) + `) > 0.05`)
	r.click("#bake-view [data-value=\"map\"]")
	r.until(`!crust.viewport.highMesh && document.querySelector('.board-wrap').getBoundingClientRect().width > 100`)

	// A zip of maps: matched by name, corrected by hand, taken in.
	var z bytes.Buffer
	w := zip.NewWriter(&z)
	for name, data := range map[string][]byte{
		"out/Left_AmbientOcclusion.png": grey(t, 128, 20000), "out/right-thick.png": grey(t, 100, 40000), "out/right_shadowing.png": grey(t, 128, 30000), "out/readme.txt": []byte("hello"),
	} {
		f, err := w.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := f.Write(data); err != nil {
			t.Fatal(err)
		}
	}
	w.Close()
	pack := filepath.Join(dir, "maps.zip")
	if err := os.WriteFile(pack, z.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	r.page.MustElement("#bring-files").MustSetFiles(pack)
	r.until(`!document.querySelector('#bring-sheet').hidden && document.querySelector('#bring-title').textContent.includes('2 of 4')`)
	row := func(file string) string {
		return r.page.MustElement(`#bring-rows tr[data-file="` + file + `"]`).MustText()
	}
	if got := row("out/readme.txt"); !strings.Contains(got, "is not a picture that Crust reads") {
		t.Errorf("the text's row says %q", got)
	}
	if got := row("out/right_shadowing.png"); !strings.Contains(got, "its name has no word for a map") {
		t.Errorf("the shadow's row says %q", got)
	}
	// A word of one's own places it.
	r.click(".words summary")
	word := r.page.MustElement(`[data-words="ao"]`)
	word.MustInput("shadowing")
	word.MustType(input.Enter)
	r.until(`document.querySelector('#bring-title').textContent.includes('3 of 4') && crust.state.settings.words.ao[0] === 'shadowing'`)
	// The thickness goes to the left ball by hand.
	r.until(`(k => { k.value = 'left'; k.dispatchEvent(new Event('change')); return true; })(document.querySelector('#bring-rows tr[data-file="out/right-thick.png"] select'))`)
	r.click("#bring-take")
	r.until(`crust.state.cells.filter(c => c.state === 'brought').length === 3`)
	if got := r.eval(`crust.state.cells.filter(c => c.state === 'brought').map(c => c.set + ' ' + c.kind + ' ' + c.size).sort().join()`); got != "left ao 128,left thickness 100,right ao 128" {
		t.Errorf("taken in: %s", got)
	}
	if len(r.faulty()) > 0 {
		t.Errorf("page errors: %v", r.faulty())
	}
}

func jsNumber(v float64) string {
	b, _ := json.Marshal(v)
	return string(b)
}

// loud counts the pixels of the viewport in the colour of misses.
func (r *rig) loud() (n int) {
	img := r.shot("#viewport")
	b := img.Bounds()
	for y := b.Min.Y; y < b.Max.Y; y++ {
		for x := b.Min.X; x < b.Max.X; x++ {
			if c, g, l, _ := img.At(x, y).RGBA(); c>>8 > 170 && g>>8 < 110 && l>>8 > 120 {
				n++
			}
		}
	}
	return n
}

// Questions about the cage say what is lacking, and answer in the layout that the viewport reads.
func TestTheCageIsPackedForTheViewport(t *testing.T) {
	d := newDesk(t)
	d.ball()
	for _, path := range []string{"pairing", "cage", "high-mesh", "misses?set=asset"} {
		if code, out, _ := d.do("GET", "/api/assets/1/"+path, nil, ""); code != http.StatusUnprocessableEntity || !strings.Contains(string(out), "no high-poly") {
			t.Errorf("%s: %d %s", path, code, out)
		}
	}
	m := mesh.Sphere(60, 30, 0.51, [3]float64{})
	var b bytes.Buffer
	if err := mesh.WriteGLB(&b, m, mesh.GLBOptions{Materials: []mesh.GLBMaterial{{Name: "ball"}}, MaterialOf: func(int) int { return 0 }}); err != nil {
		t.Fatal(err)
	}
	if code, out := d.upload("/api/assets/1/high", map[string][]byte{"ball_high.glb": b.Bytes()}); code != http.StatusNoContent {
		t.Fatalf("%d %s", code, out)
	}
	if code, out := d.call("settings", `{"settings":{"quality":"draft","size":128,"front":0.05,"rear":0.01}}`); code != 204 {
		t.Fatalf("settings: %d %s", code, out)
	}
	code, data, _ := d.do("GET", "/api/assets/1/cage", nil, "")
	n, k := int(binary.LittleEndian.Uint32(data)), int(binary.LittleEndian.Uint32(data[4:]))
	if code != 200 || len(data) != 8+24*n+4*k || n == 0 || k == 0 {
		t.Fatalf("%d, %d vertices, %d indices in %d bytes", code, n, k, len(data))
	}
	// The front shell of a ball of 0.5 m stands 50 mm off, the rear one 10 mm inside.
	length := func(at int) float64 {
		s := 0.0
		for c := range 3 {
			v := float64(math.Float32frombits(binary.LittleEndian.Uint32(data[at+4*c:])))
			s += v * v
		}
		return math.Sqrt(s)
	}
	for i := range n {
		if f, r := length(8+12*i), length(8+12*n+12*i); math.Abs(f-0.55) > 1e-4 || math.Abs(r-0.49) > 1e-4 {
			t.Fatalf("vertex %d: shells at %.4f and %.4f m, want 0.55 and 0.49", i, f, r)
		}
	}
	code, data, head := d.do("GET", "/api/assets/1/misses?set=asset", nil, "")
	if code != 200 || head.Get("X-Missed") != "0" || head.Get("X-Texels") == "0" || head.Get("X-Texels") == "" {
		t.Errorf("%d, %s of %s texels miss", code, head.Get("X-Missed"), head.Get("X-Texels"))
	}
	if img, err := png.Decode(bytes.NewReader(data)); err != nil || img.Bounds().Dx() != missSize {
		t.Errorf("the picture of misses: %v", err)
	}
	if code, out, _ := d.do("GET", "/api/assets/1/misses?set=none", nil, ""); code != http.StatusNotFound {
		t.Errorf("a set that is not there: %d %s", code, out)
	}
}

// The value under the pointer is the stored one, with what it stands for.
func TestValuesUnderThePointer(t *testing.T) {
	d := newDesk(t)
	d.ball()
	if code, out := d.upload("/api/assets/1/maps/ao?set=asset", map[string][]byte{"ao.png": grey(t, 128, 12345)}); code != http.StatusNoContent {
		t.Fatalf("%d %s", code, out)
	}
	code, out, _ := d.do("GET", "/api/assets/1/maps/ao/at?set=asset&u=0.5&v=0.25", nil, "")
	var a struct {
		Values []float64
		X, Y   int
	}
	if err := json.Unmarshal(out, &a); err != nil || code != 200 || len(a.Values) != 1 || math.Abs(a.Values[0]-12345./65535) > 1e-9 || a.X != 64 || a.Y != 32 {
		t.Errorf("%d %s %v", code, out, err)
	}
	for _, q := range []string{"&u=1&v=0", "&u=-1&v=0", "&u=x&v=0", ""} {
		if code, _, _ := d.do("GET", "/api/assets/1/maps/ao/at?set=asset"+q, nil, ""); code != http.StatusUnprocessableEntity {
			t.Errorf("%q: %d", q, code)
		}
	}
}

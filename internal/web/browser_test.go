package web

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/png"
	"io"
	"math"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/launcher"
	"github.com/go-rod/rod/lib/proto"

	"crust/internal/core/mesh"
	"crust/internal/core/uv"
	"crust/internal/demo"
	"crust/internal/store"
	"crust/internal/studio"
)

// rig is a real server over a data folder, and a real browser.
type rig struct {
	t      *testing.T
	dir    string
	addr   string
	web    *Server
	stop   func()
	page   *rod.Page
	mu     sync.Mutex
	faults []string // errors that pages threw, under mu
}

// faulty lists the errors that pages threw.
func (r *rig) faulty() []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.faults)
}

// theBrowser is one for all tests; each has pages of its own in it.
var theBrowser = sync.OnceValues(func() (*rod.Browser, error) {
	bin, err := exec.LookPath("chromium")
	if err != nil {
		return nil, errors.New("chromium is missing; ./run test installs it")
	}
	l := launcher.New().Bin(bin).Headless(true).NoSandbox(true).
		Set("use-angle", "swiftshader").Set("enable-unsafe-swiftshader").Set("ignore-gpu-blocklist").Set("disable-gpu-compositing").
		Set("disable-background-networking").Set("disable-component-update").Set("disable-sync").Set("no-first-run").
		Set("disable-renderer-backgrounding").Set("disable-backgrounding-occluded-windows").Set("disable-background-timer-throttling")
	at, err := l.Leakless(false).Launch()
	if err != nil {
		return nil, err
	}
	b := rod.New().ControlURL(at)
	closeBrowser = func() { _ = b.Close(); l.Cleanup() }
	return b, b.Connect()
})

// closeBrowser ends the browser, when there is one.
var closeBrowser = func() {}

func TestMain(m *testing.M) {
	code := m.Run()
	closeBrowser()
	os.Exit(code)
}

func newRig(t *testing.T) *rig {
	t.Helper()
	t.Parallel() // pages wait for pictures and for each other much of the time
	r := &rig{t: t, dir: t.TempDir()}
	r.start("127.0.0.1:0")
	t.Cleanup(func() { r.stop() })
	chromium, err := theBrowser()
	if err != nil {
		t.Fatal(err)
	}
	b, err := chromium.Incognito() // what it keeps is its own
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { b.MustClose() })
	r.page = b.MustPage().Timeout(20 * time.Minute)
	r.page.MustSetViewport(1100, 700, 0.35, false) // software WebGL draws a frame in the time of its pixels
	r.listen()
	return r
}

// listen collects the errors that the page throws.
func (r *rig) listen() {
	go r.page.EachEvent(func(e *proto.RuntimeExceptionThrown) {
		text := e.ExceptionDetails.Text
		if e.ExceptionDetails.Exception != nil {
			text += " " + e.ExceptionDetails.Exception.Description
		}
		r.mu.Lock()
		defer r.mu.Unlock()
		r.faults = append(r.faults, text)
	})()
}

// second opens what a page shows on another one, before it.
func (r *rig) second() *rig {
	r.t.Helper()
	s := &rig{t: r.t, addr: r.addr}
	s.page = r.page.Browser().MustPage().Timeout(8 * time.Minute)
	s.listen()
	s.open(r.eval(`location.pathname`))
	return s
}

// state is what a page of the bench is about, for those who look for why it does not do what it should.
func (r *rig) state() string {
	v, err := r.page.Eval(`() => JSON.stringify({ stage: crust.stageName, seen: document.visibilityState, socket: crust.socket.ws.readyState, tool: crust.brushwork?.tool, stroke: crust.brushwork?.stroke && [crust.brushwork.stroke.gone, crust.brushwork.stroke.x, crust.brushwork.stroke.y], said: document.querySelector('#toast')?.textContent, view: [crust.viewport.camera.position.toArray(), crust.viewport.canvas.clientWidth, crust.viewport.canvas.clientHeight] })`)
	if err != nil {
		return err.Error()
	}
	return v.Value.Str()
}

func (r *rig) start(addr string) {
	st, err := store.Open(r.dir)
	if err != nil {
		r.t.Fatal(err)
	}
	s := studio.New(st)
	s.Root = filepath.Join(r.dir, "out")
	var l net.Listener
	for range 50 {
		if l, err = net.Listen("tcp", addr); err == nil {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	if err != nil {
		r.t.Fatal(err)
	}
	r.addr = l.Addr().String()
	srv, err := New(s, r.addr)
	if err != nil {
		r.t.Fatal(err)
	}
	r.web = srv
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { _ = srv.Serve(ctx, l); close(done) }()
	r.stop = func() { cancel(); <-done; s.Close(); st.Close() }
}

func (r *rig) open(path string) { r.page.MustNavigate("http://" + r.addr + path).MustWaitLoad() }

// until waits for a JavaScript expression to be true. A page that is on its way elsewhere is asked again.
func (r *rig) until(js string) {
	r.t.Helper()
	end := time.Now().Add(4 * time.Minute)
	for {
		v, err := r.page.Eval("() => !!(" + js + ")")
		if err == nil && v.Value.Bool() {
			return
		}
		if time.Now().After(end) {
			r.t.Fatalf("waiting for %s: %v; page errors: %v; the page: %s", js, err, r.faulty(), r.state())
		}
		time.Sleep(50 * time.Millisecond)
	}
}

func (r *rig) eval(js string) string {
	r.t.Helper()
	v, err := r.page.Eval("() => { return " + js + " }")
	if err != nil {
		r.t.Fatalf("%s: %v", js, err)
	}
	return v.Value.Str()
}

func (r *rig) number(js string) float64 {
	r.t.Helper()
	v, err := r.page.Eval("() => { return " + js + " }")
	if err != nil {
		r.t.Fatalf("%s: %v", js, err)
	}
	return v.Value.Num()
}

// try does something with an element; one that was drawn anew at that moment is looked up again.
func (r *rig) try(what, sel string, do func(e *rod.Element) error) {
	r.t.Helper()
	var err error
	for range 5 {
		e, found := r.page.Element(sel)
		if found != nil {
			r.t.Fatalf("no %s: %v", sel, found)
		}
		// One that is drawn anew meanwhile would be waited for without an end.
		if err = do(e.Timeout(10 * time.Second)); err == nil {
			return
		}
		time.Sleep(200 * time.Millisecond)
	}
	r.t.Fatalf("%s %s: %v", what, sel, err)
}

// click clicks an element.
func (r *rig) click(sel string) {
	r.t.Helper()
	r.try("click", sel, func(e *rod.Element) error { return e.Click(proto.InputMouseButtonLeft, 1) })
}

// pick chooses an option of a list.
func (r *rig) pick(sel, option string) {
	r.t.Helper()
	r.try("pick "+option+" of", sel, func(e *rod.Element) error { return e.Select([]string{option}, true, rod.SelectorTypeText) })
}

// settled waits until all sets show their full picture of the newest version.
func (r *rig) settled() {
	r.t.Helper()
	r.until(`crust.coverageVersion >= crust.doc.version && [...crust.viewport.sets.values()].every(s => ['base','orm','normal'].every(v => s.pictures[v]?.settled && s.pictures[v].version === crust.coverageVersion))`)
}

func writeDemo(t *testing.T, dir string) (low, high string) {
	t.Helper()
	l, h := demo.Buoy()
	write := func(name string, m *mesh.Model) string {
		var b bytes.Buffer
		if err := demo.WriteModel(&b, m); err != nil {
			t.Fatal(err)
		}
		name = filepath.Join(dir, name)
		if err := os.WriteFile(name, b.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
		return name
	}
	return write("buoy.glb", l), write("buoy_high.glb", h)
}

// shot is a picture of an element, in the pixels of the screen: two of the page each way make one.
func (r *rig) shot(sel string) image.Image {
	r.t.Helper()
	// What the view is about to draw is drawn, and has come to the page.
	r.until(`!globalThis.crust?.viewport || !(crust.viewport.waiting || crust.viewport.soonTimer || crust.viewport.afterTimer)`)
	r.page.MustEval(`() => new Promise(done => requestAnimationFrame(() => requestAnimationFrame(done)))`)
	box := r.page.MustElement(sel).MustShape().Box()
	data, err := proto.PageCaptureScreenshot{
		Format: proto.PageCaptureScreenshotFormatPng,
		Clip:   &proto.PageViewport{X: box.X, Y: box.Y, Width: box.Width, Height: box.Height, Scale: 1},
	}.Call(r.page)
	if err != nil {
		r.t.Fatal(err)
	}
	img, err := png.Decode(bytes.NewReader(data.Data))
	if err != nil {
		r.t.Fatal(err)
	}
	return img
}

// canvasColours counts how many pixels of the model's canvas are clearly red, and how many differ
// from the background.
func (r *rig) canvasPixels() (red, drawn int) {
	img := r.shot("#viewport")
	b := img.Bounds()
	for y := b.Min.Y + 30; y < b.Max.Y-15; y++ {
		for x := b.Min.X; x < b.Max.X; x++ {
			c, g, bl, _ := img.At(x, y).RGBA()
			cr, cg, cb := int(c>>8), int(g>>8), int(bl>>8)
			if cr > 90 && cr > cg*2 && cr > cb*2 {
				red++
			}
			if abs(cr-cg) > 14 || abs(cg-cb) > 14 {
				drawn++
			}
		}
	}
	return red, drawn
}

func abs(v int) int { return max(v, -v) }

// The whole path on the demo asset by mouse: Intake, Bake, Paint, Deliver, a restart in between.
func TestFromModelToPackedMapsByMouse(t *testing.T) {
	r := newRig(t)
	low, high := writeDemo(t, t.TempDir())

	r.open("/")
	if !r.page.MustHas("#drop") {
		t.Error("an empty home does not say how to begin")
	}
	r.page.MustElement("#model-files").MustSetFiles(low)
	r.until(`location.pathname.endsWith('/intake') && window.crust?.state`)
	if got := r.eval(`crust.state.sets.map(s => s.name).join()`); got != "hull,tower,lantern" {
		t.Fatalf("sets %s, want hull,tower,lantern", got)
	}
	r.until(`document.querySelector('#flatmap .faces')`)
	r.click(`[data-set="tower"]`)
	if got := r.page.MustElement("#findings-title").MustText(); !strings.Contains(got, "· 0 to mend") {
		t.Errorf("findings of the demo: %q", got)
	}

	// Bake all eight maps of the three sets at 512.
	r.click(`.stations a[data-stage="bake"]`)
	r.page.MustElement("#high-file").MustSetFiles(high)
	r.until(`crust.state.high?.[0]?.name === 'buoy_high.glb'`)
	r.click(`#quality [data-value="draft"]`)
	r.until(`crust.state.settings.quality === 'draft'`)
	r.pick("#quality-words select", "512 px")
	r.until(`crust.state.settings.size === 512`)
	r.click("#bake-missing")
	r.until(`crust.state.job`)
	r.until(`!crust.state.job && crust.state.cells.every(c => c.state === 'ready')`)
	r.until(`document.querySelectorAll('.cell.ready').length === 24`)
	r.click(`.cell[data-set="hull"][data-kind="position"]`)
	r.until(`document.querySelector('#map-title').textContent === 'hull · position'`)

	// Paint: lay the finish, then look at the canvas.
	r.click(`.stations a[data-stage="paint"]`)
	r.click("#add-finish")
	r.page.MustElement("#finish-search").MustInput("marine")
	r.until(`document.querySelectorAll('.finish-card:not([hidden])').length === 1`)
	r.click(`[data-card="worn-marine-paint"] summary`)
	r.click(`[data-finish="worn-marine-paint"]`)
	r.until(`crust.doc.layers.length === 15`)
	r.pick("#working-size", "512 px")
	r.until(`crust.state.size === 512`)
	r.settled()
	time.Sleep(time.Second)
	red, drawn := r.canvasPixels()
	if red < 1000 || drawn < 3000 {
		t.Errorf("%d red and %d coloured pixels in the viewport, want a painted buoy: over 1,000 and 3,000", red, drawn)
	}

	// A slider: drag the low handle of the chosen layer's first clause; its coverage falls.
	r.click(`#layers .layer:nth-child(3)`)
	r.until(`crust.layer()?.name === 'Grime' && crust.layer().where[0].kind === 'shelter' && document.querySelector('.levels i')`)
	before := r.number(`crust.layer().coverage`)
	handle := r.page.MustElement(`.card-clause .levels i[data-level="low"]`)
	box := handle.MustShape().Box()
	m := r.page.Mouse
	m.MustMoveTo(box.X+box.Width/2, box.Y+box.Height/2)
	m.MustDown(proto.InputMouseButtonLeft)
	for dx := 3.0; dx <= 19; dx += 4 {
		m.MustMoveTo(box.X+box.Width/2+dx, box.Y+box.Height/2)
	}
	m.MustUp(proto.InputMouseButtonLeft)
	r.until(`crust.layer().where[0].shape.low > 0.4`)
	r.settled()
	if after := r.number(`crust.layer().coverage`); after >= before {
		t.Errorf("coverage %.3f after raising low, %.3f before", after, before)
	}

	// Rename, hide, reorder, add, delete, undo, redo.
	r.click(`#layers .layer:nth-child(2)`)
	r.until(`crust.layer().name === 'Salt rings' && document.querySelector('#layers .layer:nth-child(2).on')`)
	name := r.page.MustElement(`#layers .layer:nth-child(2) .layer-name`)
	if err := name.Click(proto.InputMouseButtonLeft, 2); err != nil {
		t.Fatal(err)
	}
	r.until(`document.querySelector('.layer-name[contenteditable="true"]')`)
	r.page.MustInsertText("Gull white") // the old name is selected, so this replaces it
	r.page.Keyboard.MustType(input.Enter)
	r.until(`crust.layer().name === 'Gull white'`)
	r.click(`#layers .layer:nth-child(2) .layer-eye`)
	r.until(`crust.layer().hidden === true`)
	r.click("#undo")
	r.until(`!crust.layer().hidden`)
	r.page.MustElement(`#layers .layer:nth-child(2)`).MustFocus()
	r.page.KeyActions().Press(input.AltLeft).Type(input.ArrowDown).Release(input.AltLeft).MustDo()
	r.until(`crust.doc.layers.at(-3).name === 'Gull white'`)
	r.click("#add-coat")
	r.until(`crust.doc.layers.length === 16 && crust.layer()?.name === 'Coat'`)
	r.click(`[data-add="crevices"]`)
	r.until(`crust.layer().where.length === 1`)
	r.page.MustElement(`[data-channel="metallic"] input[type=checkbox]`).MustClick()
	r.until(`crust.layer().what.metallic.on`)
	r.click("#undo")
	r.until(`!crust.layer().what.metallic.on`)

	// A restart keeps the strata, and undo and redo.
	addr := r.addr
	r.stop()
	r.start(addr)
	r.open("/assets/1/paint")
	r.until(`window.crust?.state && crust.doc.layers.length === 16`)
	if got := r.eval(`crust.doc.redo`); got != "Change metallic on of Coat" {
		t.Errorf("redo after a restart is %q", got)
	}
	r.click("#redo")
	r.until(`crust.doc.layers.find(l => l.name === 'Coat').what.metallic.on`)
	r.click("#undo")
	r.until(`!crust.doc.layers.find(l => l.name === 'Coat').what.metallic.on`)
	r.settled()

	// Deliver at the working size and compare with what the viewport holds, texel by texel.
	shown := map[string][]byte{}
	for _, s := range []string{"hull", "tower", "lantern"} {
		b, err := base64.StdEncoding.DecodeString(r.eval(fmt.Sprintf(`(() => { const d = crust.viewport.texels(%q, 'base').data; let s = ''; for (let i = 0; i < d.length; i += 8192) s += String.fromCharCode(...d.subarray(i, i + 8192)); return btoa(s); })()`, s)))
		if err != nil {
			t.Fatal(err)
		}
		shown[s] = b
	}
	r.click(`.stations a[data-stage="deliver"]`)
	r.click(`[data-preset="gltf"]`)
	r.click(`#deliver-size [data-size="512"]`)
	r.click("#deliver")
	r.until(`document.querySelector('[data-zip="1"]')`)
	files := r.zip(1)
	for s, want := range shown {
		img, err := png.Decode(bytes.NewReader(files[s+"_basecolor.png"]))
		if err != nil {
			t.Fatal(err)
		}
		worst := 0
		for y := range 512 {
			for x := range 512 {
				cr, cg, cb, _ := img.At(x, y).RGBA()
				for k, v := range []uint32{cr, cg, cb} {
					worst = max(worst, abs(int(v>>8)-int(want[4*(y*512+x)+k])))
				}
			}
		}
		if worst > 1 {
			t.Errorf("set %s: viewport and delivery differ by %d/255, allowed 1", s, worst)
		}
	}
	r.checkDelivery(files)
	r.validate(files["buoy.glb"])

	// The second preset turns green, and nothing else.
	r.click(`[data-preset="orm-green-down"]`)
	r.click("#deliver")
	r.until(`document.querySelector('[data-zip="2"]')`)
	down := r.zip(2)
	if !bytes.Equal(files["hull_orm.png"], down["hull_orm.png"]) {
		t.Error("ORM differs between the presets")
	}
	up16, down16 := decode16(t, files["hull_normal.png"]), decode16(t, down["hull_normal.png"])
	for i := range up16.Pix {
		// Eight bytes a texel: R, G, B, A of 16 bits. Green is mirrored, the rest is the same.
		if k := i % 8; k != 2 && k != 3 && up16.Pix[i] != down16.Pix[i] {
			t.Fatalf("byte %d of the normal differs, only green may", i)
		}
	}
	for i := 0; i < len(up16.Pix); i += 8 {
		a, b := int(up16.Pix[i+2])<<8|int(up16.Pix[i+3]), int(down16.Pix[i+2])<<8|int(down16.Pix[i+3])
		if abs(a+b-65535) > 1 {
			t.Fatalf("green up %d and green down %d do not mirror", a, b)
		}
	}
	if len(r.faulty()) > 0 {
		t.Errorf("the page threw: %v", r.faulty())
	}
}

func decode16(t *testing.T, data []byte) *image.RGBA64 {
	t.Helper()
	img, err := png.Decode(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	out, ok := img.(*image.RGBA64)
	if !ok {
		t.Fatalf("a normal map is %T, want 16 bits", img)
	}
	return out
}

func (r *rig) zip(n int) map[string][]byte {
	r.t.Helper()
	res, err := http.Get(fmt.Sprintf("http://%s/api/assets/1/deliveries/%d/zip", r.addr, n))
	if err != nil {
		r.t.Fatal(err)
	}
	defer res.Body.Close()
	data, err := io.ReadAll(res.Body)
	if err != nil {
		r.t.Fatal(err)
	}
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		r.t.Fatal(err)
	}
	out := map[string][]byte{}
	for _, f := range z.File {
		rc, err := f.Open()
		if err != nil {
			r.t.Fatal(err)
		}
		if out[f.Name], err = io.ReadAll(rc); err != nil {
			r.t.Fatal(err)
		}
		rc.Close()
	}
	return out
}

// checkDelivery looks at the delivered pixels: red paint on the hull, steel that is metal, flat
// normals pointing out.
func (r *rig) checkDelivery(files map[string][]byte) {
	r.t.Helper()
	var note struct {
		Green string `json:"normal_green"`
		Files []struct{ File, SHA256 string }
	}
	if err := json.Unmarshal(files["delivery.json"], &note); err != nil {
		r.t.Fatal(err)
	}
	if note.Green != "up" || len(note.Files) != 11 || len(files) != 12 {
		r.t.Errorf("green %s, %d files in the note, %d in the zip; want up, 11 and 12", note.Green, len(note.Files), len(files))
	}
	img, err := png.Decode(bytes.NewReader(files["hull_basecolor.png"]))
	if err != nil {
		r.t.Fatal(err)
	}
	orm, err := png.Decode(bytes.NewReader(files["hull_orm.png"]))
	if err != nil {
		r.t.Fatal(err)
	}
	red, metal := 0, 0
	for y := range 512 {
		for x := range 512 {
			c, g, b, _ := img.At(x, y).RGBA()
			if c > 2*g && c > 2*b && c > 0x5000 {
				red++
			}
			if _, _, m, _ := orm.At(x, y).RGBA(); m > 0x8000 {
				metal++
			}
		}
	}
	if red < 512*512/5 || metal < 400 || metal > 512*512/3 {
		r.t.Errorf("hull: %d red texels and %d of metal, want mostly paint with some bare steel", red, metal)
	}
	n := decode16(r.t, files["hull_normal.png"])
	sum := 0.0
	for i := 0; i < len(n.Pix); i += 8 {
		v := [3]float64{}
		for k := range 3 {
			v[k] = float64(int(n.Pix[i+2*k])<<8|int(n.Pix[i+2*k+1]))/65535*2 - 1
		}
		if l := math.Sqrt(v[0]*v[0] + v[1]*v[1] + v[2]*v[2]); l < 0.999 || l > 1.001 {
			r.t.Fatalf("a normal has length %.4f", l)
		}
		sum += v[2]
	}
	if mean := sum / float64(len(n.Pix)/8); mean < 0.9 {
		r.t.Errorf("mean Z of the normals is %.3f, want mostly outwards", mean)
	}
}

// validate runs the Khronos validator (npm gltf-validator): no error and no warning.
func (r *rig) validate(glb []byte) {
	r.t.Helper()
	root, err := filepath.Abs("../../testdata")
	if err != nil {
		r.t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(root, "node_modules", "gltf-validator")); err != nil {
		r.t.Fatal("gltf-validator is missing; ./run test installs it")
	}
	name := filepath.Join(r.t.TempDir(), "a.glb")
	if err := os.WriteFile(name, glb, 0o644); err != nil {
		r.t.Fatal(err)
	}
	cmd := exec.Command("node", "-e", `require('gltf-validator').validateBytes(new Uint8Array(require('fs').readFileSync(process.argv[1]))).then(v => console.log(JSON.stringify(v.issues)))`, name)
	cmd.Dir = root
	out, err := cmd.CombinedOutput()
	if err != nil {
		r.t.Fatalf("validator: %v: %s", err, out)
	}
	var issues struct {
		NumErrors, NumWarnings int
		Messages               json.RawMessage
	}
	if err := json.Unmarshal(out, &issues); err != nil {
		r.t.Fatalf("validator printed %s", out)
	}
	if issues.NumErrors+issues.NumWarnings > 0 {
		r.t.Errorf("the delivered GLB has %d errors and %d warnings: %.600s", issues.NumErrors, issues.NumWarnings, issues.Messages)
	}
	m, err := mesh.Read("a.glb", glb, nil)
	if err != nil {
		r.t.Fatal(err)
	}
	if sets, err := uv.Sets(m, uv.PerMaterial); err != nil || len(sets) != 3 {
		r.t.Errorf("the delivered GLB has %d materials, %v; want 3", len(sets), err)
	}
}

// Broken files are told in one sentence on the page and change nothing.
func TestBrokenFilesAreToldOnThePage(t *testing.T) {
	r := newRig(t)
	dir := t.TempDir()
	put := func(name string, data []byte) string {
		name = filepath.Join(dir, name)
		if err := os.WriteFile(name, data, 0o644); err != nil {
			t.Fatal(err)
		}
		return name
	}
	low, _ := writeDemo(t, dir)
	whole, err := os.ReadFile(low)
	if err != nil {
		t.Fatal(err)
	}
	r.open("/")
	for _, c := range []struct{ name, data, want string }{
		{"empty.obj", "", "the file is empty"},
		{"bad.obj", "v 0 0 0\nv 1 0 0\nv nan 1 0\n", "line 3"},
		{"far.obj", "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 9\n", "vertex 9"},
		{"cut.glb", string(whole[:len(whole)/2]), "cut short"},
		{"notes.txt", "hello", "no model among these files"},
	} {
		r.page.MustElement("#model-files").MustSetFiles(put(c.name, []byte(c.data)))
		r.until(`!document.querySelector('#complaint').hidden && document.querySelector('#complaint').textContent.includes(` + fmt.Sprintf("%q", c.want) + `)`)
		if text := r.page.MustElement("#complaint").MustText(); !strings.Contains(text, c.name) || strings.Contains(text, "\n") {
			t.Errorf("%s: the page says %q", c.name, text)
		}
	}
	r.page.MustReload().MustWaitLoad()
	if r.page.MustHas(".asset-card") {
		t.Error("a refused file made an asset")
	}
	r.page.MustElement("#model-files").MustSetFiles(low)
	r.until(`location.pathname.endsWith('/intake') && window.crust?.state`)
	r.click(`.stations a[data-stage="bake"]`)
	r.page.MustElement("#bring-file").MustSetFiles(put("map.png", []byte("\x89PNG\r\n\x1a\n broken")))
	r.until(`!document.querySelector('#bring-complaint').hidden`)
	if text := r.page.MustElement("#bring-complaint").MustText(); !strings.Contains(text, "map.png") {
		t.Errorf("the page says %q", text)
	}
	if got := r.number(`crust.state.cells.filter(c => c.state !== 'missing').length`); got != 0 {
		t.Errorf("%g maps after a refused one", got)
	}
	// A sound one is taken.
	var b bytes.Buffer
	if err := png.Encode(&b, image.NewGray16(image.Rect(0, 0, 128, 128))); err != nil {
		t.Fatal(err)
	}
	r.page.MustElement("#bring-file").MustSetFiles(put("ao.png", b.Bytes()))
	r.until(`crust.state.cells.find(c => c.set === 'hull' && c.kind === 'ao').state === 'brought'`)
}

// The server answers for its own name only (DNS rebinding), and for its own pages only.
func TestOtherHostsAndOriginsAreRefused(t *testing.T) {
	st, err := store.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	s := studio.New(st)
	defer s.Close()
	srv, err := New(s, "127.0.0.1:7420")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		host, origin string
		want         int
	}{
		{"127.0.0.1:7420", "", 200}, {"localhost:7420", "http://localhost:7420", 200},
		{"evil.example:7420", "", 403}, {"127.0.0.1:7420", "http://evil.example", 403}, {"127.0.0.1:9999", "", 403},
	} {
		q, _ := http.NewRequest("GET", "http://127.0.0.1:7420/", nil)
		q.Host = c.host
		if c.origin != "" {
			q.Header.Set("Origin", c.origin)
		}
		w := httptest.NewRecorder()
		srv.ServeHTTP(w, q)
		if w.Code != c.want {
			t.Errorf("host %s, origin %q: %d, want %d", c.host, c.origin, w.Code, c.want)
		}
	}
}

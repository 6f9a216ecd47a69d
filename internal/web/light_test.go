package web

import (
	"archive/zip"
	"bytes"
	"fmt"
	"image/png"
	"io"
	"math"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"

	"crust/internal/core/mesh"
)

// Light and frame by hand: surroundings, a lamp that is dragged in the view, all undone like an edit of the strata; frames that are looked
// through and seen in the strip; a still that comes bit by bit, and whose tone is the viewport's.
func TestLightAndFrameByHand(t *testing.T) {
	m := mesh.Sphere(64, 32, 0.5, [3]float64{0, 0.5, 0})
	var b bytes.Buffer
	if err := mesh.WriteGLB(&b, m, mesh.GLBOptions{Materials: []mesh.GLBMaterial{{Name: "ball"}}, MaterialOf: func(int) int { return 0 }}); err != nil {
		t.Fatal(err)
	}
	r := withModel(t, "ball.glb", b.Bytes())
	r.click(`.stations a[data-stage="paint"]`)
	r.until(`crust.doc.look && crust.doc.layers.length`)
	r.page.MustEval(`() => { crust.do('size', { number: 256 }); crust.edit({ do: 'set', layer: crust.doc.layers[0].id, path: 'what.roughness.number', value: 0.45 }); crust.edit({ do: 'set', layer: crust.doc.layers[0].id, path: 'what.colour.hex', value: '#b06030' }); }`)
	r.page.MustSetViewport(1280, 800, 0.25, false)
	r.click("#light-open")
	r.until(`!document.querySelector('#light-tray').hidden && document.querySelectorAll('[data-sky]').length === 6`)
	r.axe("light")
	r.click(`[data-sky="softbox"]`)
	r.until(`crust.viewport.setup.sky === 'softbox' && document.querySelector('[data-sky="softbox"].on') && document.querySelector('#undo').title === 'Undo: Change surroundings'`)
	r.typeIn(`#light-body [data-key="sky-turn"]`, "90")
	r.until(`crust.doc.look.turn === 90 && Math.abs(crust.viewport.turn - Math.PI / 2) < 1e-6`)

	// A lamp is put up, seen, dragged, and taken back step by step.
	r.click(`[data-lamp="spot"]`)
	r.until(`crust.doc.look.lamps.length === 1 && crust.viewport.lampMarks && crust.viewport.lamps.children.some(l => l.isSpotLight && l.intensity > 0)`)
	at := r.point(`crust.viewport.screenOf(crust.doc.look.lamps[0].at)`)
	was := r.eval(`crust.doc.look.lamps[0].at.join()`)
	if on := r.eval(fmt.Sprintf(`document.elementFromPoint(%g, %g)?.id || ''`, at.X, at.Y)); on != "model" {
		t.Fatalf("the lamp is seen at %v, behind %q", at, on)
	}
	mouse := r.page.Mouse
	mouse.MustMoveTo(at.X, at.Y).MustDown(proto.InputMouseButtonLeft)
	for i := range 5 {
		mouse.MustMoveTo(at.X-float64(8*(i+1)), at.Y+float64(4*(i+1)))
	}
	mouse.MustUp(proto.InputMouseButtonLeft)
	r.until(fmt.Sprintf(`crust.doc.look.lamps[0].at.join() !== %q`, was))
	moved := r.point(`crust.viewport.screenOf(crust.doc.look.lamps[0].at)`)
	if math.Hypot(moved.X-at.X+40, moved.Y-at.Y-20) > 3 {
		t.Errorf("dragged by −40, 20 px it went by %.1f, %.1f", moved.X-at.X, moved.Y-at.Y)
	}
	r.typeIn(`#light-body [data-key="lamp-kelvin"]`, "2700")
	r.until(`crust.doc.look.lamps[0].kelvin === 2700`)
	for _, want := range []string{`crust.doc.look.lamps[0].kelvin === 4500`, fmt.Sprintf(`crust.doc.look.lamps[0].at.join() === %q`, was), `crust.doc.look.lamps.length === 0`} {
		r.page.MustEval(`() => document.activeElement.blur()`)
		r.click("#undo")
		r.until(want)
	}

	// A panorama of one's own: a Radiance picture, of which the half on the left is bright.
	hdr := []byte("#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 8 +X 16\n")
	for i := range 8 * 16 {
		hdr = append(hdr, 128, 128, 128, byte(130-4*(i%16/8)))
	}
	file := filepath.Join(t.TempDir(), "yard.hdr")
	if err := os.WriteFile(file, hdr, 0o644); err != nil {
		t.Fatal(err)
	}
	r.page.MustElement("#sky-file").MustSetFiles(file)
	r.until(`crust.doc.look.sky.startsWith('picture:p') && crust.viewport.skyName === crust.doc.look.sky && document.querySelector('#sky-own').textContent.includes('yard')`)
	r.click(`[data-sky="softbox"]`)
	r.until(`crust.viewport.skyName === 'softbox'`)

	// A frame is the view, its rim is drawn, and it is seen in the strip.
	r.click(`#light-tabs [data-value="frames"]`)
	r.click("#frame-add")
	r.until(`crust.doc.look.frames.length === 1 && !document.querySelector('#frame-rim').hidden`)
	r.page.MustEval(`() => { const s = document.querySelector('#light-body select'); s.value = '1:1'; s.onchange(); }`)
	r.until(`crust.doc.look.frames[0].wide === 1 && (b => Math.abs(b.width - b.height) < 1)(document.querySelector('#frame-rim').getBoundingClientRect())`)
	// Any proportion may be typed.
	r.typeIn(`#light-body [data-key="frame-ratio"]`, "2.35")
	r.until(`crust.doc.look.frames[0].wide === 2.35 && crust.doc.look.frames[0].high === 1 && (b => Math.abs(b.width / b.height - 2.35) < 0.02)(document.querySelector('#frame-rim').getBoundingClientRect())`)
	r.page.MustEval(`() => { const s = document.querySelector('#light-body select'); s.value = '1:1'; s.onchange(); }`)
	r.until(`crust.doc.look.frames[0].wide === 1`)
	r.typeIn(`#light-body [data-key="frame-mm"]`, "70")
	r.until(`crust.doc.look.frames[0].mm === 70`)
	r.settled()
	r.axe("frames")
	const strip = `document.querySelector('[data-strip]').getContext('2d').getImageData(100, 100, 40, 40).data`
	r.until(`[...` + strip + `].some((v, i) => i % 4 === 0 && v > 60)`)

	// The still is as large as asked, is shown, and can be saved; its tone is that of the viewport.
	r.click(`#light-tabs [data-value="still"]`)
	r.page.MustEval(`() => { Object.assign(crust.lighting.wanted, { size: 240, samples: 16, frames: ['Frame 1'] }); crust.lighting.render(true); }`)
	r.click("#still-go")
	r.until(`crust.lighting.got?.samples === 16 && !crust.running && document.querySelector('img.still')?.naturalWidth === 240 && !document.querySelector('#still-go').disabled`)
	r.page.MustEval(`() => { Object.assign(crust.lighting.wanted, { size: 64, samples: 1, turns: 4 }); }`)
	answer, err := http.Get("http://" + r.addr + "/api/assets/1/still/png")
	if err != nil || answer.StatusCode != http.StatusOK {
		t.Fatal("the still: ", err)
	}
	defer answer.Body.Close()
	r.click("#still-go")
	r.until(`crust.lighting.got?.made === 4 && !crust.running && document.querySelector('[data-save="zip"]') && document.querySelector('img.still').src.includes('apng')`)
	// The browser's own decoder finds four pictures in it.
	r.page.MustEval(`async () => { const d = new ImageDecoder({ data: await (await fetch(crust.lighting.stillURL())).arrayBuffer(), type: 'image/png' }); await d.tracks.ready; window.moving = d.tracks.selectedTrack.frameCount; }`)
	if n := r.number(`window.moving`); n != 4 {
		t.Errorf("the turntable has %g pictures", n)
	}
	img, err := png.Decode(answer.Body)
	if err != nil || img.Bounds().Dx() != 240 || img.Bounds().Dy() != 240 {
		t.Fatal(err)
	}
	r.click(`#light-tabs [data-value="frames"]`)
	r.until(`[...` + strip + `].some((v, i) => i % 4 === 0 && v > 60)`)
	for k := range 3 {
		still, view := 0.0, r.number(fmt.Sprintf(`((d, k) => { let sum = 0; for (let i = k; i < d.length; i += 4) sum += d[i]; return sum * 4 / d.length; })(document.querySelector('[data-strip]').getContext('2d').getImageData(70, 60, 100, 90).data, %d)`, k))
		for y := 60; y < 150; y++ {
			for x := 70; x < 170; x++ {
				c := [3]uint32{}
				c[0], c[1], c[2], _ = img.At(x, y).RGBA()
				still += float64(c[k]>>8) / (100 * 90)
			}
		}
		if math.Abs(still-view) > 4 {
			t.Errorf("channel %d: the still is %.1f, the view %.1f", k, still, view)
		}
	}

	// A second pane shows the frame while the view is another.
	r.click("#frame-beside")
	r.until(`!document.querySelector('#pane-frame').hidden && (c => c.width > 30 && [...c.getContext('2d').getImageData(c.width / 2 - 5, c.height / 2 - 5, 10, 10).data].some((v, i) => i % 4 === 0 && v > 60))(document.querySelector('#frame-view'))`)
	if w := r.number(`document.querySelector('#frame-view').width / document.querySelector('#frame-view').height`); math.Abs(w-1) > 0.02 {
		t.Errorf("the pane of a square frame is %.2f times as wide as high", w)
	}
	r.axe("a second pane")
	r.click("#frame-away")
	r.until(`document.querySelector('#pane-frame').hidden`)

	// Stills of the lit surface and of each channel, on one sheet and as files; the roughness is what the texels hold.
	r.click(`#light-tabs [data-value="still"]`)
	r.page.MustEval(`() => { Object.assign(crust.lighting.wanted, { size: 96, over: 2, samples: 8, turns: 0 }); const s = document.querySelector('#still-channel'); s.value = s.options.length - 1; s.onchange(); }`)
	r.page.MustEval(`() => { crust.lighting.wanted.sheet = true; crust.lighting.render(true); }`)
	r.click("#still-go")
	r.until(`crust.lighting.got?.made === 7 && !crust.running && document.querySelector('[data-save="sheet"]') && document.querySelector('img.still').naturalWidth > 4 * 96`)
	zipped, err := http.Get("http://" + r.addr + "/api/assets/1/still/zip")
	if err != nil {
		t.Fatal(err)
	}
	defer zipped.Body.Close()
	data, _ := io.ReadAll(zipped.Body)
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil || len(z.File) != 7 {
		t.Fatal("the stills as files: ", err)
	}
	for _, f := range z.File {
		if !strings.HasSuffix(f.Name, "roughness.png") {
			continue
		}
		b, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		rough, err := png.Decode(b)
		if err != nil || rough.Bounds().Dx() != 96 {
			t.Fatal(err)
		}
		got, _, _, _ := rough.At(48, 48).RGBA()
		if want := r.number(`crust.doc.layers[0].what.roughness.number * 255`); math.Abs(float64(got>>8)-want) > 2 {
			t.Errorf("the roughness in the still is %d, want %.0f", got>>8, want)
		}
	}

	// The wipe shows another channel beside the lit surface.
	r.click("#keepsakes")
	r.page.MustEval(`() => { const s = document.querySelector('#wipe-channel'); s.value = 'roughness'; s.onchange(); }`)
	r.until(`!document.querySelector('#kept-view').hidden && document.querySelector('[data-side="kept"]').textContent === 'Roughness' && (c => { const d = c.getContext('2d').getImageData(c.width / 2 - 5, c.height / 2 - 5, 10, 10).data; return Math.abs(d[0] - crust.doc.layers[0].what.roughness.number * 255) < 3 && d[0] === d[2]; })(document.querySelector('#kept-view'))`)
	r.page.Keyboard.MustType(input.Escape)
	r.until(`document.querySelector('#wipe').hidden`)
	if f := r.faulty(); len(f) > 0 {
		t.Errorf("the page threw: %v", f)
	}
}

package web

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"os"
	"path/filepath"
	"testing"

	"github.com/go-rod/rod/lib/input"

	"crust/internal/core/mesh"
)

// painted writes a PNG.
func painted(t *testing.T, dir, name string, at func(x, y int) color.Color) string {
	t.Helper()
	im := image.NewRGBA(image.Rect(0, 0, 64, 64))
	for y := range 64 {
		for x := range 64 {
			im.Set(x, y, at(x, y))
		}
	}
	file := filepath.Join(dir, name)
	f, err := os.Create(file)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := png.Encode(f, im); err != nil {
		t.Fatal(err)
	}
	return file
}

// On a bead of 3 cm a clause, a picture and a field that come anew are as small as the bead asks for.
func TestFirstLengthsGoByTheModelOnThePage(t *testing.T) {
	m := mesh.Sphere(16, 8, 0.015, [3]float64{0, 0.015, 0})
	var b bytes.Buffer
	if err := mesh.WriteGLB(&b, m, mesh.GLBOptions{Materials: []mesh.GLBMaterial{{Name: "bead"}}, MaterialOf: func(int) int { return 0 }}); err != nil {
		t.Fatal(err)
	}
	r := withModel(t, "bead.glb", b.Bytes())
	r.click(`#chain [data-add="noise"]`)
	r.until(`crust.layer().where[0]?.kind === 'noise' && document.querySelector('#chain input[data-key="size"]')`)
	if got := r.eval(`document.querySelector('#chain input[data-key="size"]').value`); got != "1.6 mm" {
		t.Errorf("on a bead of 3 cm noise begins at %s, want 1.6 mm", got)
	}
	r.page.MustElement("#material-file").MustSetFiles(painted(t, t.TempDir(), "dots.png", func(x, y int) color.Color { return color.Gray{uint8(x * y)} }))
	r.until(`crust.layer()?.what.colour.source?.lay.size === 0.02`)
	r.click(`[data-source="colour"]`)
	r.click(`#source-sheet [data-kind="field"]`)
	r.until(`crust.layer().what.colour.source.field?.params.size === 0.0016`)
	r.click(`#source-sheet [data-kind="picture"]`)
	r.until(`crust.layer().what.colour.source.lay?.size === 0.02`)
}

// A coat of pictures, told apart by their names; how they are laid, a field through a ramp, a baked map and an adjustment, by
// hand in the sheet of sources. Each changes the texture as it says.
func TestSourcesByHand(t *testing.T) {
	r := withBall(t)
	dir := t.TempDir()
	green := painted(t, dir, "tarpaulin_basecolor.png", func(x, y int) color.Color { return color.RGBA{20, 180, 40, 255} })
	rough := painted(t, dir, "tarpaulin_roughness.png", func(x, y int) color.Color { return color.Gray{uint8(x * 4)} })
	red := painted(t, dir, "flag.png", func(x, y int) color.Color { return color.RGBA{220, 30, 20, 255} })
	r.page.MustElement("#material-file").MustSetFiles(green, rough)
	r.until(`crust.layer()?.name === 'tarpaulin' && crust.layer().what.colour.source && crust.layer().what.roughness.source && crust.state.pictures.length === 2`)
	r.until(`crust.state.pictures.map(p => p.space).join() === 'colour,data'`)
	mean := func(view string, k string) string {
		return `(p => { let n = 0, s = 0; for (let i = 0; i < p.length; i += 4) if (p[i + 3]) { n++; s += p[i + ` + k + `]; } return s / n; })(crust.viewport.pictures.values().next().value.` + view + `.full.data)`
	}
	near := func(view, k string, want, by float64) {
		t.Helper()
		r.until(`crust.viewport.pictures.values().next().value.` + view + `?.full?.data && Math.abs(` + mean(view, k) + ` - ` + jsNumber(want) + `) < ` + jsNumber(by))
	}
	near("base", "0", 20, 3)
	near("base", "1", 180, 3)
	near("orm", "1", 126, 12)

	// The roughness lies between other numbers; its picture is laid by UV.
	r.click(`[data-source="roughness"]`)
	r.until(`document.querySelector('#source-sheet').matches(':popover-open')`)
	// It does not stand over another stage.
	r.click(`.stations a[data-stage="deliver"]`)
	r.until(`!document.querySelector('#source-sheet').matches(':popover-open')`)
	r.click(`.stations a[data-stage="paint"]`)
	r.click(`[data-source="roughness"]`)
	r.until(`document.querySelector('#source-sheet').matches(':popover-open')`)
	high := r.page.MustElement(`#source-sheet input[data-key="high"]`)
	high.MustSelectAllText().MustInput("0.5").MustType(input.Enter)
	r.until(`crust.layer().what.roughness.source.high === 0.5`)
	near("orm", "1", 63, 8)
	r.pick(`#source-sheet select[aria-label="laid"]`, "by UV")
	r.until(`crust.layer().what.roughness.source.lay.by === 0 && document.querySelector('#source-sheet input[data-key="repeats"]') && !document.querySelector('#source-sheet input[data-key="size"]')`)
	r.axe("the sheet of sources", "#source-sheet")

	// Another picture for the colour.
	r.click(`[data-source="colour"]`)
	r.until(`document.querySelector('#source-title').textContent === 'Base colour of tarpaulin'`)
	r.page.MustElement("#picture-file").MustSetFiles(red)
	near("base", "0", 220, 3)
	if got := r.number(`crust.state.pictures.length`); got != 3 {
		t.Errorf("%g pictures, want 3", got)
	}
	bad := filepath.Join(dir, "torn.png")
	if err := os.WriteFile(bad, []byte("\x89PNG\r\n\x1a\nno more"), 0o644); err != nil {
		t.Fatal(err)
	}
	r.page.MustElement("#picture-file").MustSetFiles(bad)
	r.until(`/No picture came in. torn.png/.test(document.querySelector('#picture-complaint')?.textContent)`)

	// A field through a ramp, whose first colour is made blue.
	r.click(`#source-sheet [data-kind="field"]`)
	r.until(`crust.layer().what.colour.source.kind === 'field' && document.querySelectorAll('.ramp-row').length === 2`)
	r.click(`[data-add-colour]`)
	r.until(`document.querySelectorAll('.ramp-row').length === 3`)
	r.click(`[aria-label="Remove colour 2"]`)
	r.until(`crust.layer().what.colour.source.ramp.length === 2`)
	r.eval(`(i => { i.value = '#0000ff'; i.dispatchEvent(new Event('change')); return ''; })(document.querySelector('#source-sheet [data-key="ramp.0"]'))`)
	r.until(`crust.layer().what.colour.source.ramp[0].hex === '#0000ff'`)
	r.settled()
	if blue := r.number(mean("base", "2")); blue < 140 {
		t.Errorf("a blue ramp has a mean blue of %g", blue)
	}

	// Adjusting what lies below, and back to a value.
	r.click(`#source-sheet [data-kind="adjust"]`)
	r.until(`crust.layer().what.colour.adjust && !crust.layer().what.colour.source`)
	light := r.page.MustElement(`#source-sheet input[data-key="lightness"]`)
	light.MustSelectAllText().MustInput("1").MustType(input.Enter)
	near("base", "0", 255, 1)
	r.click(`#source-sheet [data-kind="value"]`)
	r.until(`!crust.layer().what.colour.adjust && document.querySelector('[data-channel="colour"] input[type="color"]')`)
	r.click("#source-close")

	// A picture as a clause.
	r.click(`[data-add="picture"]`)
	r.until(`document.querySelector('#chain .source-chip')`)
	r.click(`#chain .source-chip`)
	r.click(`[data-picture="` + r.eval(`crust.state.pictures[1].mark`) + `"]`)
	r.until(`crust.layer().where[0].source?.picture === crust.state.pictures[1].mark && crust.layer().coverage > 0.1 && crust.layer().coverage < 1`)
	r.click("#undo")
	r.until(`!crust.layer().where[0].source`)
	if f := r.faulty(); len(f) > 0 {
		t.Errorf("the page threw: %v", f)
	}
}

package web

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
)

// Forty sets: the layer's row says how many it touches, and a list aims it; the flat map's sets are a list too.
func TestALayerIsAimedAtFewOfFortySets(t *testing.T) {
	var b strings.Builder
	b.WriteString("vt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\nvn 0 0 1\n")
	for i := range 40 {
		x, y := i%8, i/8
		fmt.Fprintf(&b, "v %d %d 0\nv %g %d 0\nv %g %g 0\nv %d %g 0\nusemtl plate%02d\n", x, y, float64(x)+0.9, y, float64(x)+0.9, float64(y)+0.9, x, float64(y)+0.9, i)
		fmt.Fprintf(&b, "f %d/1/1 %d/2/1 %d/3/1 %d/4/1\n", 4*i+1, 4*i+2, 4*i+3, 4*i+4)
	}
	name := t.TempDir() + "/plates.obj"
	if err := os.WriteFile(name, []byte(b.String()), 0o644); err != nil {
		t.Fatal(err)
	}
	r := newRig(t)
	r.page.MustSetViewport(960, 540, 0.35, false)
	r.open("/")
	r.page.MustElement("#model-files").MustSetFiles(name)
	r.until(`location.pathname.endsWith('/intake') && window.crust?.state?.sets.length === 40`)
	r.eval(`(crust.do('size', {number: 256}), '')`)
	r.until(`crust.state.size === 256`)
	r.click(`.stations a[data-stage="paint"]`)
	r.until(`document.querySelector('#layers .target-count')?.textContent.includes('all 40')`)

	r.click(`#layers .target-count`)
	r.until(`document.querySelectorAll('#target-list .target-row').length === 40`)
	r.axe("forty sets")
	r.page.MustElement("#target-search").MustInput("plate07")
	r.until(`document.querySelectorAll('#target-list .target-row').length === 1`)
	r.click(`#target-list [data-set="plate07"] .plain`)
	targets := func(want string) {
		t.Helper()
		r.until(fmt.Sprintf(`(crust.layer().targets || []).join() === %q`, want))
	}
	targets("plate07")
	r.until(`document.querySelector('#layers .target-count').textContent.includes('1 of 40')`)
	if r.number(`document.querySelector('#target-list input[type=checkbox]').disabled ? 1 : 0`) != 1 {
		t.Error("the last set of a layer can be taken from it")
	}
	r.page.MustElement("#target-search").MustSelectAllText().MustInput("plate1")
	r.until(`document.querySelectorAll('#target-list .target-row').length === 10`)
	r.click(`#target-list [data-set="plate12"] input`)
	targets("plate07,plate12")
	r.click(`#target-all`)
	targets("")

	// Each set's picture is its own: with the layer aimed at one, only that one changes.
	r.page.MustElement("#target-search").MustSelectAllText().MustInput("plate39")
	r.until(`document.querySelectorAll('#target-list .target-row').length === 1`)
	r.click(`#target-list [data-set="plate39"] .plain`)
	r.eval(`(crust.edit({do: 'set', layer: crust.chosen, path: 'what.colour.hex', value: '#ff0000'}), '')`)
	red := func(set string) string {
		return fmt.Sprintf(`(p => p && p[0] > 250 && p[1] < 5)(crust.viewport.picturesOf(%q).base?.full?.data)`, set)
	}
	r.until(red("plate39"))
	r.press(input.Escape)
	r.until(`!document.querySelector('#target-sheet').matches(':popover-open')`)
	r.click(`#view-layout button[data-value="both"]`)
	r.pick(`#flat-sets select`, "plate39")
	r.until(`crust.viewport.flatSet === 'plate39'`)
	if r.number(`(`+red("plate38")+`) ? 1 : 0`) == 1 {
		t.Error("a set that the layer leaves out is red")
	}
	if f := r.faulty(); len(f) > 0 {
		t.Errorf("page errors: %v", f)
	}
}

package web

import (
	"archive/zip"
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
)

// crates is two boxes of 100 units whose islands lie on each other by accident, with a loose vertex.
func crates(side float64, slots ...string) []byte {
	var b strings.Builder
	b.WriteString("v 9 9 9\nvt 0.05 0.05\nvt 0.5 0.05\nvt 0.5 0.5\nvt 0.05 0.5\nvt 0.3 0.3\nvt 0.9 0.3\nvt 0.9 0.9\nvt 0.3 0.9\n")
	n, t := 1, 0
	for i, slot := range slots {
		x := float64(i) * side * 1.5
		fmt.Fprintf(&b, "o crate_%d\nusemtl %s\n", i, slot)
		for _, c := range [][2]float64{{0, 0}, {1, 0}, {1, 1}, {0, 1}} {
			fmt.Fprintf(&b, "v %g %g 0\n", x+c[0]*side, c[1]*side)
		}
		fmt.Fprintf(&b, "f %d/%d %d/%d %d/%d %d/%d\n", n+1, t+1, n+2, t+2, n+3, t+3, n+4, t+4)
		n += 4
		if i < 1 {
			t = 4
		}
	}
	return []byte(b.String())
}

// Intake on the page: a zip comes in, its faults are found and reached by keyboard and by mouse, names,
// resolutions, split, unit and UVs change, and a corrected model takes the old one's place.
func TestIntakeByMouseAndKeyboard(t *testing.T) {
	r := newRig(t)
	dir := t.TempDir()
	var z bytes.Buffer
	w := zip.NewWriter(&z)
	f, err := w.Create("yard/crates.obj")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.Write(crates(100, "deck", "lid")); err != nil {
		t.Fatal(err)
	}
	w.Close()
	pack := filepath.Join(dir, "crates.zip")
	if err := os.WriteFile(pack, z.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	r.open("/")
	r.page.MustElement("#model-files").MustSetFiles(pack)
	r.until(`location.pathname.endsWith('/intake') && window.crust?.state && document.querySelector('#findings .finding')`)

	// 250 m long: the size is doubted, and centimetres are proposed and taken.
	if got := r.page.MustElement("#findings").MustText(); !strings.Contains(got, "Size looks wrong") || !strings.Contains(got, "Loose vertices") {
		t.Errorf("findings %q", got)
	}
	r.pick(`#model-take select[aria-label="Unit"]`, "cm")
	r.until(`/^2\.5 × .* m$/.test(document.querySelector('#model-size')?.textContent)`)
	r.until(`!document.querySelector('#findings [data-kind="scale"]')`)

	// As one set the two islands overlap; the split is looked at before it is taken.
	r.click(`#split [data-value="single"]`)
	r.until(`!document.querySelector('#preview-bar').hidden && crust.state.split === 'material'`)
	if got := r.page.MustElement("#preview-words").MustText(); !strings.Contains(got, "1 set") {
		t.Errorf("preview says %q", got)
	}
	r.click("#preview-take")
	r.until(`crust.state.split === 'single' && document.querySelector('#findings [data-kind="overlap"]')`)

	// By keyboard: to the last finding and back to the first, Enter frames it on the flat map and model.
	r.page.MustElement(`#findings [tabindex="0"]`).MustFocus()
	r.page.KeyActions().Type(input.End).Type(input.Home).MustDo()
	r.page.KeyActions().Type(input.Enter).MustDo()
	r.until(`crust.intake.findings.shown === 'overlap 0' && document.querySelector('#flatmap .marks') && crust.viewport.marks`)
	if whole := r.number(`crust.intake.flatmap.whole.width`); r.number(`crust.intake.flatmap.view().width`) >= whole {
		t.Error("the flat map did not come nearer")
	}
	// By mouse: every finding can be clicked, and says what to do.
	n := int(r.number(`document.querySelectorAll('#findings .finding').length`))
	for i := 1; i <= n; i++ {
		r.click(fmt.Sprintf(`#findings .finding:nth-child(%d)`, i))
		r.until(fmt.Sprintf(`document.querySelector('#findings .finding:nth-child(%d)').getAttribute('aria-selected') === 'true' && document.querySelector('#finding-words').textContent.length > 40`, i))
	}

	// Laid out, nothing overlaps, and the old UVs can be chosen again.
	r.click("#layout-go")
	r.until(`crust.state.intake.layouts?.length === 1 && !crust.state.job && !document.querySelector('#findings [data-kind="overlap"]')`)
	if got := r.page.MustElement("#layout-words").MustText(); !strings.Contains(got, "2 islands") {
		t.Errorf("the report says %q", got)
	}
	r.pick(`#model-take select[aria-label="UVs"]`, "UV 1")
	r.until(`crust.state.intake.channel === 0 && document.querySelector('#findings [data-kind="overlap"]')`)

	// Names that break files are refused with a proposal; others are taken. Resolutions change too.
	name := r.page.MustElement(".set-name")
	name.MustSelectAllText().MustInput("aux")
	r.page.Keyboard.MustType(input.Enter)
	r.until(`document.querySelector('#intake-complaint').textContent.includes('“aux_” can')`)
	r.page.MustElement(".set-name").MustSelectAllText().MustInput("yard crates")
	r.page.Keyboard.MustType(input.Enter)
	r.until(`crust.state.sets[0].label === 'yard crates'`)
	r.pick(`.set-row select`, "2048 px")
	r.until(`crust.state.sets[0].size === 2048`)

	// A corrected model: the plan first, then the model.
	fixed := filepath.Join(dir, "crates2.obj")
	if err := os.WriteFile(fixed, crates(120, "deck", "lid", "rope"), 0o644); err != nil {
		t.Fatal(err)
	}
	r.page.MustElement("#again-files").MustSetFiles(fixed)
	r.until(`!document.querySelector('#again-plan').hidden`)
	if got := r.page.MustElement("#again-list").MustText(); !strings.Contains(got, "Sets found again: yard crates") || !strings.Contains(got, "dropped") {
		t.Errorf("the plan says %q", got)
	}
	if got := r.number(`crust.state.triangles`); got != 4 {
		t.Errorf("%g triangles before the yes, want the old model's 4", got)
	}
	r.click("#again-yes")
	r.until(`crust.state.triangles === 6 && crust.state.model === 'crates2.obj' && crust.state.sets[0].label === 'yard crates'`)
	if len(r.faulty()) > 0 {
		t.Errorf("the page threw: %v", r.faulty())
	}
}

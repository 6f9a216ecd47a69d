package web

import (
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"
)

// axe goes over the page, or some part of it, with axe-core's rules for WCAG 2.2, level AA (npm axe-core), and reports what it
// finds.
func (r *rig) axe(what string, within ...string) {
	r.t.Helper()
	of := "document"
	if len(within) > 0 {
		of = fmt.Sprintf("document.querySelector(%q)", within[0])
	}
	script, err := os.ReadFile("../../testdata/node_modules/axe-core/axe.min.js")
	if err != nil {
		r.t.Fatal("axe-core is missing; ./run test installs it")
	}
	// Through the debugger: the page's own policy lets no foreign script in.
	if _, err := (proto.RuntimeEvaluate{Expression: string(script)}).Call(r.page); err != nil {
		r.t.Fatal(err)
	}
	v, err := r.page.Eval(`async () => {
		const r = await axe.run(` + of + `, { runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice-none'].slice(0, 5) });
		return JSON.stringify(r.violations.map(v => v.id + ': ' + v.help + ': ' + v.nodes.slice(0, 4).map(n => n.html.slice(0, 160) + ' (' + (n.any[0]?.message || n.all[0]?.message || n.none[0]?.message || '') + ')').join(' | ') + ' × ' + v.nodes.length));
	}`)
	if err != nil {
		r.t.Fatal(err)
	}
	var found []string
	if err := json.Unmarshal([]byte(v.Value.Str()), &found); err != nil {
		r.t.Fatal(err)
	}
	for _, f := range found {
		r.t.Errorf("%s: %s", what, f)
	}
}

// strange is a model as strangers write it: names that no address takes as they are, one that differs from another by
// escaping alone, and a face without area.
const strange = `
v 0 0 0
v 1 0 0
v 1 1 0
v 0 1 0
v 2 0 0
v 2 1 0
v 3 0 0
v 3 1 0
vt 0 0
vt 1 0
vt 1 1
vt 0 1
vn 0 0 1
usemtl a/b & c+d=e@f,g;h:i$j
f 1/1/1 2/2/1 3/3/1
f 1/1/1 3/3/1 4/4/1
usemtl a%2Fb
f 2/1/1 5/2/1 6/3/1
f 2/1/1 6/3/1 3/4/1
usemtl a/b
f 5/1/1 7/2/1 8/3/1
f 5/1/1 8/3/1 6/4/1
f 5/1/1 7/2/1 7/2/1
`

// A model with odd names goes through all stages: each set has its flat map, its maps and their downloads. Pictures that
// come before a slow model are shown with it. A second page follows the first. No stage breaks WCAG 2.2 AA.
func TestAStrangersModelOnEveryStage(t *testing.T) {
	r := newRig(t)
	name := t.TempDir() + "/ship.obj"
	if err := os.WriteFile(name, []byte(strange), 0o644); err != nil {
		t.Fatal(err)
	}
	r.open("/")
	r.axe("home without assets")
	r.page.MustElement("#model-files").MustSetFiles(name)
	r.until(`location.pathname.endsWith('/intake') && window.crust?.state && crust.intake.findings.list.length`)
	sets := []string{"a/b & c+d=e@f,g;h:i$j", "a%2Fb", "a/b"}
	for i, key := range sets {
		r.click(fmt.Sprintf("#sets .set-row:nth-child(%d) .set-pick", i+1))
		r.until(fmt.Sprintf(`crust.intake.flatmap.set === %q && document.querySelector('#flatmap .faces').getAttribute('d').length > 20`, key))
	}
	r.axe("intake")
	// A finding that three sets have is one row that unfolds.
	rows := func() float64 { return r.number(`document.querySelectorAll('#findings .finding').length`) }
	group := r.eval(`[...document.querySelectorAll('#findings .finding[data-open]')].map(e => e.dataset.kind).join(',')`)
	if group != "" {
		before := rows()
		r.click(`#findings .finding[data-open="false"]`)
		if after := rows(); after <= before {
			t.Errorf("%v rows after unfolding %s, were %v", after, group, before)
		}
	}

	r.click(`.stations a[data-stage="bake"]`)
	r.eval(`(crust.do('settings', {settings: {...crust.state.settings, quality: 'draft', size: 128}}), '')`)
	r.until(`crust.state.settings.size === 128`)
	r.eval(`(crust.board.bake(crust.state.cells.filter(c => c.kind === 'ao')), '')`)
	r.until(`crust.state.cells.filter(c => c.kind === 'ao' && c.state === 'ready').length === 3`)
	r.until(`document.querySelectorAll('#board .cell.ready canvas.thumb, #board .cell.ready img.thumb').length >= 3`)
	if cut := r.eval(`[...document.querySelectorAll('#lengths input')].filter(i => i.scrollWidth > i.clientWidth).map(i => i.value).join()`); cut != "" {
		t.Errorf("lengths are cut off: %s", cut) // 0.7879 mm would read as 0.7879 m
	}
	r.axe("bake")
	for _, key := range sets {
		got := r.eval(fmt.Sprintf(`fetch(crust.board.url({set: %q, kind: 'ao'})).then(r => r.status + ' ' + r.headers.get('content-disposition'))`, key))
		if !strings.HasPrefix(got, "200 attachment") {
			t.Errorf("the occlusion of set %q is answered with %s", key, got)
		}
	}

	// The mesh takes three seconds: the strata can be worked on before it comes, and what is painted meanwhile shows with it.
	router := r.page.HijackRequests()
	router.MustAdd("*/mesh", func(h *rod.Hijack) {
		time.Sleep(3 * time.Second)
		h.MustLoadResponse()
	})
	go router.Run()
	r.open("/assets/1/paint")
	r.until(`document.querySelectorAll('#layers .layer').length > 0 && crust.viewport.sets.size === 0 && !document.querySelector('#view-wait').hidden`)
	r.until(`crust.viewport.sets.size === 3`)
	router.MustStop()
	r.until(`[...crust.viewport.sets.values()].every(s => s.mesh.material === s.lit)`)
	for _, kind := range []string{"edges", "noise", "shelter", "facing"} {
		r.eval(`(crust.edit({do: 'clause.add', layer: crust.chosen, kind: '` + kind + `'}), '')`)
	}
	r.until(`document.querySelectorAll('#chain .card-clause[data-clause]').length === 4`)
	r.until(`crust.bench.pics.pics && Object.keys(crust.bench.pics.pics).length === 5`)
	r.axe("paint")
	r.page.MustSetViewport(1280, 800, 0.35, false)
	r.until(`innerWidth === 1280`)
	if right := r.number(`document.querySelector('#chain .card-result').getBoundingClientRect().right`); right > 1280 {
		t.Errorf("with four clauses the result reaches to %.0f of 1280 px", right)
	}

	// What one page edits the other shows.
	other := r.page.Browser().MustPage("http://" + r.addr + "/assets/1/paint")
	other.MustWait(`() => window.crust?.doc?.layers?.length > 0`)
	r.eval(`(crust.edit({do: 'set', layer: crust.chosen, path: 'name', value: 'Seen by both'}), '')`)
	other.MustWait(`() => crust.doc.layers.some(l => l.name === 'Seen by both')`)
	other.MustClose()
	r.page.MustActivate()

	r.click(`.stations a[data-stage="deliver"]`)
	r.until(`document.querySelectorAll('#files li').length > 0`)
	r.axe("deliver")
	r.open("/")
	r.axe("home")
	if href, err := url.PathUnescape(r.eval(`document.querySelector('.asset-card a').getAttribute('href')`)); err != nil || href != "/assets/1/paint" {
		t.Errorf("the card of an asset with maps leads to %s, %v", href, err)
	}
	if f := r.faulty(); len(f) > 0 {
		t.Errorf("page errors: %v", f)
	}
}

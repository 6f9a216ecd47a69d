package web

import (
	"testing"
)

// Forms of noise, clauses that are off, “same as”, and copies of layers and of a Where, by hand at the bench.
func TestClausesByHandAtTheBench(t *testing.T) {
	r := withBall(t)
	r.click(`[data-add="noise"]`)
	r.until(`document.querySelectorAll('#chain .card-clause[data-clause]').length === 1`)
	if wide := r.number(`document.querySelector('#chain .card-values.long').getBoundingClientRect().width`); wide < 150 {
		t.Errorf("a card with many values is %.0f px wide, want two columns", wide)
	}
	r.pick(`#chain .card-clause select[aria-label="form"]`, "flakes")
	r.until(`crust.layer().where[0].params.form === 5`)
	r.until(`document.querySelector('#where-words').textContent.startsWith('broken up by flakes')`)
	r.until(`crust.layer().coverage > 0.5 && crust.layer().coverage < 1`)

	// Off, and on again.
	r.click(`#chain [data-eye]`)
	r.until(`crust.layer().where[0].off && document.querySelector('#where-words').textContent === 'everywhere' && crust.layer().coverage === 1`)
	r.until(`document.querySelector('#chain [data-eye]').getAttribute('aria-pressed') === 'false'`)
	r.click(`#chain [data-eye]`)
	r.until(`!crust.layer().where[0].off && crust.layer().coverage < 1`)
	share := r.number(`crust.layer().coverage`)

	// A clause says which map it lacks: nothing is baked yet.
	r.click(`[data-add="thickness"]`)
	r.until(`document.querySelector('#chain .card-clause[data-clause]:nth-child(2) .lack')?.textContent === 'thickness not baked'`)
	r.click("#undo")
	r.until(`crust.layer().where.length === 1`)

	// A second coat lies where the first does.
	r.click("#add-coat")
	r.until(`crust.doc.layers.length === 2 && crust.layer().where.length === 0`)
	r.click(`[data-add="same"]`)
	r.until(`document.querySelector('#chain .below')`)
	r.pick(`#chain .below`, "Base")
	r.until(`document.querySelector('#where-words').textContent === 'the same as “Base”'`)
	r.until(`Math.abs(crust.layer().coverage - ` + jsNumber(share) + `) < 0.01`)

	// The first one's Where is copied to a third; both layers are copied and pasted by the browser's own events.
	r.eval(`(crust.choose(crust.doc.layers[0].id), '')`)
	r.until(`document.querySelectorAll('#chain .card-clause[data-clause]').length === 1 && crust.layer().name === 'Base'`)
	r.click(`.where-clip button[aria-label="Copy the Where"]`)
	r.click("#add-coat")
	r.until(`crust.doc.layers.length === 3 && document.querySelector('.where-clip')`)
	r.click(`.where-clip button[aria-label="Paste a Where"]`)
	r.until(`crust.layer().where[0]?.params.form === 5 && crust.doc.undo === 'Paste the Where of Coat 2'`)
	r.eval(`((d) => { document.dispatchEvent(new ClipboardEvent('copy', { clipboardData: d, bubbles: true, cancelable: true })); window.clip = d; return ''; })(new DataTransfer())`)
	r.eval(`(document.dispatchEvent(new ClipboardEvent('paste', { clipboardData: window.clip, bubbles: true, cancelable: true })), '')`)
	r.until(`crust.doc.layers.length === 4 && crust.layer().name === 'Coat 3' && crust.layer().where[0].params.form === 5`)
	r.eval(`(document.dispatchEvent(new ClipboardEvent('cut', { clipboardData: new DataTransfer(), bubbles: true, cancelable: true })), '')`)
	r.until(`crust.doc.layers.length === 3`)
	r.axe("the bench", "#bench")

	// The sheet of finishes: searching leaves what fits; opening one shows its dials.
	r.click("#add-finish")
	r.page.MustElement("#finish-search").MustInput("brown copper")
	r.until(`[...document.querySelectorAll('.finish-card:not([hidden])')].map(e => e.dataset.card).join() === 'copper-with-verdigris'`)
	r.page.MustElement("#finish-search").MustSelectAllText().MustInput("velvet")
	r.until(`document.querySelectorAll('.finish-card:not([hidden])').length === 0 && !document.querySelector('#finish-list .empty').hidden`)
	r.page.MustElement("#finish-search").MustSelectAllText().MustInput("stone")
	r.click(`[data-card="quay-stone"] summary`)
	r.axe("the finishes", "#finish-sheet")
	// It stands over the stage that it belongs to alone.
	r.click(`.stations a[data-stage="deliver"]`)
	r.until(`!document.querySelector('#finish-sheet').checkVisibility() && document.querySelector('.presets').checkVisibility()`)
	r.click(`.stations a[data-stage="paint"]`)
	r.until(`document.querySelector('#finish-sheet').checkVisibility()`)
	r.click(`[data-finish="quay-stone"]`)
	r.until(`crust.doc.layers.some(l => l.name === 'Lichen' && l.in === crust.layer().id) && crust.doc.undo === 'Lay Quay stone'`)

	// The layers are searched by name and reading; one is clipped to the one below.
	r.page.MustElement("#layer-search").MustInput("lichen")
	r.until(`[...document.querySelectorAll('#layers .layer:not([hidden])')].length === 1`)
	r.click(`#layers .layer:not([hidden])`)
	r.until(`crust.layer().name === 'Lichen' && crust.layer().coverage > 0`)
	before := r.number(`crust.layer().coverage`)
	r.click(`.what-row .clip`)
	r.until(`crust.layer().clip && document.querySelector('#where-words').textContent.startsWith('on “Worn edges”') && document.querySelector('#layers .layer.clipped')`)
	r.until(`crust.layer().coverage < ` + jsNumber(before))
	r.click("#undo")
	r.until(`!crust.layer().clip`)
	r.page.MustElement("#layer-search").MustSelectAllText().MustInput("")
	if f := r.faulty(); len(f) > 0 {
		t.Errorf("the page threw: %v", f)
	}
}

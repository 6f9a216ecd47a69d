package web

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"

	"crust/internal/access"
	"crust/internal/studio"
)

// walk presses Tab round a page once. Every control that is shown and can be used comes up, and is seen to have the focus (WCAG 2.2,
// 2.1.1, 2.1.2 and 2.4.7); a group of which one is in the order of Tab counts as one. It returns how many there were.
func (r *rig) walk(what string) int {
	r.t.Helper()
	// Which controls there are, and a mark at each that the focus reaches.
	r.eval(`(() => {
		document.activeElement?.blur();
		getSelection()?.removeAllRanges();
		window.walked = new Set();
		window.named = new Set(); // controls that are drawn anew meanwhile are known by what they are called
		window.nameOf = e => e.id || e.dataset.key || e.ariaLabel || e.title || e.outerHTML.slice(0, 160);
		window.unseen = [];
		window.walkers = e => {
			const s = getComputedStyle(e.target);
			window.walked.add(e.target);
			window.named.add(window.nameOf(e.target));
			if (e.target.matches(':focus-visible') && s.outlineStyle === 'none' && s.boxShadow === 'none' && !e.target.matches('canvas, input, select')) window.unseen.push(e.target.outerHTML.slice(0, 120));
		};
		document.addEventListener('focusin', window.walkers);
		return '';
	})()`)
	const most = 700
	for n := range most {
		r.press(input.Tab)
		if n > 5 && r.eval(`document.activeElement === [...window.walked][0] ? 'round' : ''`) == "round" {
			break
		}
		if n == most-1 {
			r.t.Errorf("%s: after %d times Tab the focus has not come round; it stands on %s", what, most, r.eval(`document.activeElement.outerHTML.slice(0, 160)`))
		}
	}
	text := r.eval(`(() => {
		document.removeEventListener('focusin', window.walkers);
		const shown = e => e.checkVisibility({ checkVisibilityCSS: true, checkOpacity: false }) && e.getClientRects().length > 0 && !e.closest('[inert]');
		const all = [...document.querySelectorAll('button, input, select, textarea, a[href], [tabindex]')].filter(e => shown(e) && !e.disabled && e.type !== 'hidden');
		const missed = all.filter(e => !window.walked.has(e) && !window.named.has(window.nameOf(e)) && e.tabIndex >= 0 && !(e.type === 'radio'));
		// What Tab passes over on purpose is reached by arrows within a group of which something was reached.
		const lost = all.filter(e => e.tabIndex < 0 && !window.walked.has(e) && e.matches('button, a[href]') && ![...(e.closest('[role=group], [role=toolbar], [role=listbox], [role=grid], [role=tree], ul, ol, table, .card-clause, .layer')?.querySelectorAll('*') || [])].some(k => window.walked.has(k)) && !e.closest('.layer, .card-clause') );
		return JSON.stringify({ n: window.walked.size, missed: missed.map(e => e.outerHTML.slice(0, 160)), lost: lost.map(e => e.outerHTML.slice(0, 160)), unseen: window.unseen });
	})()`)
	var got struct {
		N                    int
		Missed, Lost, Unseen []string
	}
	if err := json.Unmarshal([]byte(text), &got); err != nil {
		r.t.Fatal(err)
	}
	for _, m := range got.Missed {
		r.t.Errorf("%s: Tab does not reach %s", what, m)
	}
	for _, m := range got.Lost {
		r.t.Errorf("%s: no key reaches %s", what, m)
	}
	for _, m := range got.Unseen {
		r.t.Errorf("%s: the focus is not seen on %s", what, m)
	}
	return got.N
}

// focus presses Tab until an element has the focus.
func (r *rig) focus(sel string) {
	r.t.Helper()
	for range 700 {
		if r.eval(fmt.Sprintf(`document.activeElement?.matches(%q) ? 'there' : ''`, sel)) == "there" {
			return
		}
		r.press(input.Tab)
	}
	r.t.Fatalf("Tab does not reach %s", sel)
}

// All four stages are gone through by keys alone: every control is reached, and the work is done: a map baked, a layer added, hidden,
// narrowed and taken back, and the whole delivered.
func TestAllStagesByKeysAlone(t *testing.T) {
	r := withModel(t, "plates.obj", []byte(twoPlates))
	stage := func(n input.Key, name string) {
		t.Helper()
		r.eval(`(document.activeElement?.blur(), '')`)
		r.press(input.ShiftLeft, n)
		r.until(fmt.Sprintf(`location.pathname.endsWith(%q)`, name))
	}
	stage(input.Digit1, "intake")
	if n := r.walk("Intake"); n < 10 {
		t.Errorf("Intake has only %d controls", n)
	}
	stage(input.Digit2, "bake")
	if n := r.walk("Bake"); n < 15 {
		t.Errorf("Bake has only %d controls", n)
	}
	stage(input.Digit3, "paint")
	r.focus("#add-coat")
	r.press(input.Enter)
	r.until(`crust.doc.layers.length === 2`)
	if n := r.walk("Paint"); n < 30 {
		t.Errorf("Paint has only %d controls", n)
	}
	r.press(input.ControlLeft, input.KeyZ)
	r.until(`crust.doc.layers.length === 1`)
	stage(input.Digit4, "deliver")
	if n := r.walk("Deliver"); n < 15 {
		t.Errorf("Deliver has only %d controls", n)
	}
	r.focus(`#deliver-size button`)
	r.focus(`#deliver`)
	r.press(input.Enter)
	r.until(`document.querySelector('[data-delivery="1"]') && !crust.state.job`)

	// The sheets that no other test opens.
	r.eval(`(document.activeElement?.blur(), '')`)
	r.press(input.Key('?'))
	r.until(`document.querySelector('#keys-dialog').open`)
	r.axe("the keys", "#keys-dialog")
	r.press(input.Escape)
	r.until(`!document.querySelector('#keys-dialog').open`)
	stage(input.Digit3, "paint")
	r.focus(`#bench [data-flatten]`)
	r.press(input.Enter)
	r.until(`document.querySelector('#flatten-menu').matches(':popover-open')`)
	r.axe("the menu of what is flattened", "#flatten-menu")
	r.press(input.Escape)
	r.click(".wordmark")
	r.click("[data-delete]")
	r.until(`document.querySelector('#confirm').open`)
	r.axe("the question before an asset is deleted", "#confirm")
	r.press(input.Enter) // on “Keep”, which has the focus
	r.until(`!document.querySelector('#confirm').open && document.querySelector('.asset-card')`)
}

// A guest enters with a token, sees everything, is told that nothing can be changed, and leaves. The entrance and what a guest sees keep
// to WCAG 2.2 AA.
func TestAGuestInTheBrowser(t *testing.T) {
	r := newRig(t)
	r.page.MustSetViewport(1000, 640, 0.35, false)
	if _, err := r.web.studio.Create("plates", studio.Upload{{Name: "plates.obj", Data: []byte(twoPlates)}}, nil); err != nil {
		t.Fatal(err)
	}
	u, err := access.Open(r.dir)
	if err != nil {
		t.Fatal(err)
	}
	tom, err := u.Add(access.User{Name: "tom", Guest: true})
	if err != nil {
		t.Fatal(err)
	}
	r.web.Users = u // nothing has been asked for yet
	r.open("/assets/1/paint")
	r.until(`location.pathname === '/enter' && document.activeElement.name === 'token'`)
	r.axe("the entrance")
	r.typeIn("input[name=token]", "guess")
	r.press(input.Enter)
	r.until(`document.querySelector('[role=alert]')?.textContent.includes('no token of this server')`)
	r.typeIn("input[name=token]", tom.Token)
	r.press(input.Enter)
	r.until(`location.pathname === '/' && document.querySelector('.asset-card')`)
	if text := r.eval(`document.querySelector('main').innerText`); !strings.Contains(text, "change nothing") || strings.Contains(text, "New from") {
		t.Errorf("the first page says %q", text)
	}
	r.axe("the assets as a guest sees them")
	r.click(".asset-card a")
	r.until(`window.crust?.doc?.layers.length === 1 && document.querySelector('.looks')?.textContent.includes('you look only')`)
	r.click(`.stations a[data-stage="paint"]`)
	r.axe("Paint as a guest sees it")
	r.click("#add-coat")
	r.until(`document.querySelector('#toast').textContent.includes('you entered as a guest')`)
	if n := r.number(`crust.doc.layers.length`); n != 1 {
		t.Errorf("a guest has made %g layers of one", n)
	}
	r.click(".wordmark")
	r.click(".leave button")
	r.until(`location.pathname === '/enter'`)
	if bad := r.faulty(); len(bad) > 0 {
		t.Error(bad)
	}
}

package web

import (
	"fmt"
	"math"
	"testing"

	"github.com/go-rod/rod"
)

// A square that repeats, by hand: made at Home, painted over its rim among its copies, so that what leaves it on the right comes in on the
// left; shown as shape, whose copies meet without a crack.
func TestASquareThatRepeatsByHand(t *testing.T) {
	r := newRig(t)
	r.open("/")
	r.click("#new-square")
	r.until(`document.querySelector('#square').open`)
	r.try("name", "#square-name", func(e *rod.Element) error {
		if err := e.SelectAllText(); err != nil {
			return err
		}
		return e.Input("Floor")
	})
	r.axe("square")
	r.click("#square-yes")
	r.until(`window.crust?.state?.repeats && crust.doc.layers.length === 1`)
	if name, u := r.eval(`crust.state.name`), r.eval(`crust.state.repeats.u.join()`); name != "Floor" || u != "2,0,0" {
		t.Errorf("it is called %s and repeats along %s", name, u)
	}
	r.page.MustEval(`() => { crust.do('size', { number: 256 }); }`)
	r.click("#view-nine")
	r.page.MustEval(`() => document.activeElement.blur()`)
	r.press('b')
	r.click("#new-brushwork")
	r.until(`crust.layer()?.name === 'Brushwork' && crust.brushwork.target()`)
	r.page.MustEval(`() => { crust.edit({ do: 'set', layer: crust.chosen, path: 'what.colour.hex', value: '#ff0000' }); crust.edit({ do: 'set', layer: crust.chosen, path: 'what.height', value: { on: true, number: 30, blend: 'add', opacity: 1 } }); }`)
	r.click(`#specimens [data-brush="Round, hard"]`)
	r.page.MustEval(`() => { crust.brushwork.set.by = 'model'; crust.brushwork.set.metres = 0.3; crust.brushwork.change('pressSize', 0); }`)
	r.until(`crust.layer().what.height.on && crust.layer().what.height.number === 30 && crust.state.size === 256`)

	// From the square itself over its right side, to the copy beside it and over that one's front side.
	r.brush(r.onScreen(0.6, 0, 0.5), r.onScreen(1.3, 0, 0.5), r.onScreen(1.3, 0, 1.3))
	r.strokes(1)
	r.settled()
	at := func(x, z float64) (i, j int) {
		in := func(v float64) int { v = (v + 1) / 2; return int((v - math.Floor(v)) * 256) }
		return in(x), in(z)
	}
	for _, p := range [][2]float64{{0.7, 0.5}, {0.98, 0.5}, {-0.98, 0.5}, {-0.75, 0.5}, {-0.7, 0.9}, {-0.7, -0.98}, {-0.7, -0.75}} {
		i, j := at(p[0], p[1])
		r.texel("base", i, j, 0, 0xff, 2)
		r.texel("base", i, j, 1, 0, 2)
	}
	for _, p := range [][2]float64{{0.2, 0.5}, {-0.3, 0.5}, {0.7, -0.8}} {
		i, j := at(p[0], p[1])
		if green := r.number(fmt.Sprintf(`crust.viewport.pictures.values().next().value.base.full.data[4 * (256 * %d + %d) + 1]`, j, i)); green < 60 {
			t.Errorf("%v is painted, too", p)
		}
	}

	// As shape: what was painted stands 30 mm high, the sides of the square fit those of its copies, and no corner is torn.
	r.click("#view-shape")
	r.until(`[...crust.viewport.sets.values()].every(s => s.pictures.shape?.settled && s.shape && !s.mesh.visible && s.copies.length === 9)`)
	const shape = `(s => { const p = s.shape.geometry.attributes.position.array, b = s.shape.made.position, left = new Map(), right = new Map(), seen = new Map();
		let high = -1, torn = 0;
		for (let i = 0; i < p.length; i += 3) {
			high = Math.max(high, p[i + 1]);
			if (b[i] === -1) left.set(b[i + 2], p[i + 1]);
			if (b[i] === 1) right.set(b[i + 2], p[i + 1]);
			const key = b[i] + ' ' + b[i + 2], was = seen.get(key);
			if (was !== undefined && was !== p[i + 1]) torn++;
			seen.set(key, p[i + 1]);
		}
		const gap = Math.max(...[...left].map(([z, y]) => Math.abs(y - right.get(z))));
		return { high, torn, gap, sides: Math.min(left.size, right.size), rim: Math.max(...left.values()) }; })([...crust.viewport.sets.values()][0])`
	high, torn, gap := r.number(shape+".high"), r.number(shape+".torn"), r.number(shape+".gap")
	if math.Abs(high-0.03) > 1e-4 || torn != 0 || gap > 1e-6 || r.number(shape+".sides") < 30 || r.number(shape+".rim") < 0.029 {
		t.Errorf("it stands %.4f m high, %g corners are torn, and its sides are %.6f m apart from its copies'", high, torn, gap)
	}
	r.axe("square that repeats")

	// On Intake it stops repeating, and repeats again.
	r.page.MustEval(`() => crust.stage('intake')`)
	r.click("#model-repeats")
	r.until(`!crust.state.repeats && document.querySelector('#view-nine').hidden`)
	r.click("#model-repeats")
	r.until(`crust.state.repeats && document.querySelector('#model-repeats').checked`)
	if faults := r.faulty(); len(faults) > 0 {
		t.Errorf("the page complains: %v", faults)
	}
}

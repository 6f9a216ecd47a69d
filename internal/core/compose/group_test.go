package compose

import (
	"math"
	"math/rand/v2"
	"testing"

	"crust/internal/core/pixel"
	"crust/internal/core/strata"
)

// grouped makes a document of coats and groups, three levels deep: some with a Where, some clipped, some together.
func grouped(t *testing.T, r *rand.Rand) *strata.Document {
	d := new(strata.Document)
	some := func(n int) bool { return r.IntN(n) == 0 }
	var fill func(in string, deep int)
	fill = func(in string, deep int) {
		for range 2 + r.IntN(3) {
			l := d.NewLayer("coat")
			if deep < 3 && some(3) {
				l = d.NewGroup("group")
				fill(l.ID, deep+1)
				if some(2) {
					l.Blend = pixel.Blends[r.IntN(len(pixel.Blends))].Name
				}
			} else {
				v := &l.What.Roughness
				v.Number, v.Opacity, v.Blend = r.Float32(), 0.3+0.7*r.Float32(), pixel.Blends[r.IntN(len(pixel.Blends))].Name
				l.What.Height = strata.Value{On: some(2), Number: r.Float32(), Blend: "add", Opacity: 1}
			}
			l.In, l.Opacity, l.Hidden, l.Clip = in, 0.2+0.8*r.Float32(), some(8), some(5)
			if some(2) {
				l.Where = []strata.Clause{clauseOf(t, d, "noise", map[string]float64{"size": 0.05 + 0.3*r.Float64()})}
			}
			d.Layers = append(d.Layers, l)
		}
	}
	fill("", 0)
	return d
}

// over lays a source over a backdrop, values multiplied by their alphas (W3C, Compositing and Blending Level 1, 5.1 and 10).
func over(mix func(b, s float32) float32, cb, ab, cs, as float64) (c, a float64) {
	both := 0.0
	if ab > 0 {
		both = float64(mix(float32(cb/ab), float32(cs)))
	}
	return as*(1-ab)*cs + as*ab*both + (1-as)*cb, as + ab - as*ab
}

// laid is the roughness at a texel by the plain formulas, one layer after the other: masks are those that Field gives.
func laid(d *strata.Document, masks [][]float32, i int) float64 {
	tree := d.Tree()
	seen := func(j int) bool { return !d.Layers[j].Hidden && d.Layers[j].Opacity > 0 }
	var shown func(j int) float64 // of a layer in its own group: its mask, for a group where some of its layers show
	shown = func(j int) float64 {
		m := float64(masks[j][i])
		if d.Layers[j].Group {
			none := 1.0
			for _, k := range tree.Holds(j) {
				if b := d.Base(k); seen(k) && (b < 0 || seen(b)) {
					own := shown(k)
					if b >= 0 {
						own *= shown(b) * float64(d.Layers[b].Opacity)
					}
					none *= 1 - own*float64(d.Layers[k].Opacity)
				}
			}
			m *= 1 - none
		}
		return m
	}
	var lay func(group int, c, a float64) (float64, float64)
	lay = func(group int, c, a float64) (float64, float64) {
		for _, j := range tree.Holds(group) {
			l := &d.Layers[j]
			b := d.Base(j)
			if !seen(j) || b >= 0 && !seen(b) {
				continue
			}
			m := float64(masks[j][i]) * float64(l.Opacity)
			if b >= 0 {
				m *= shown(b) * float64(d.Layers[b].Opacity)
			}
			blend, _ := pixel.BlendOf(l.What.Roughness.Blend)
			end := func() {
				if blend.Name == "add" && a > 0 {
					c = min(c, a)
				}
			}
			switch {
			case !l.Group:
				c, a = over(blend.Mix, c, a, float64(l.What.Roughness.Number), m*float64(l.What.Roughness.Opacity))
				end()
			case l.Blend == "":
				gc, ga := lay(j, c, a)
				c, a = c+(gc-c)*m, a+(ga-a)*m
			default:
				blend, _ = pixel.BlendOf(l.Blend)
				if gc, ga := lay(j, 0, 0); ga > 0 {
					c, a = over(blend.Mix, c, a, gc/ga, ga*m)
					end()
				}
			}
		}
		return c, a
	}
	c, _ := lay(-1, bareRoughness, 1)
	return c
}

// What groups make of their layers is what the formulas of the standard make, one texel at a time: laid together, over
// nothing first, or faded by their Where and opacity. Masks and what is kept under a layer have 16 bits.
func TestGroupsCompositeByTheFormulas(t *testing.T) {
	c, _ := square(t, 96, nil)
	r := rand.New(rand.NewPCG(12, 7))
	groups, alone := 0, 0
	for n := range 60 {
		d := grouped(t, r)
		masks := make([][]float32, len(d.Layers))
		for j := range d.Layers {
			l := &d.Layers[j]
			if l.Group {
				groups++
			}
			if l.Blend != "" {
				alone++
			}
			masks[j] = make([]float32, c.Len())
			fill(masks[j], 1)
			for _, cl := range l.Where {
				masks[j] = fieldOf(t, c, d, j, cl.ID)
			}
		}
		ch := evaluate(t, c, d)
		for i := 0; i < c.Len(); i += 131 {
			if got, want := float64(ch.Roughness[i]), laid(d, masks, i); math.Abs(got-want) > 2e-4 {
				t.Fatalf("document %d, texel %d: roughness %g, want %g", n, i, got, want)
			}
		}
		// The height is the same where all channels are laid and where it is laid alone, for slopes.
		p := program(t, c, d)
		k := c.scratch(0)
		for tile := range c.tiles {
			if p.relief == nil {
				break // no layer of this one has a height that shows
			}
			h := c.heightOf(k, p.relief.run, tile)
			from := int(c.tiles[tile].From)
			for i := range h {
				if math.Abs(float64(h[i]-ch.Height[from+i])) > 1e-6 {
					t.Fatalf("document %d, texel %d: height %g m alone, %g with the others", n, from+i, h[i], ch.Height[from+i])
				}
			}
		}
	}
	if groups < 60 || alone < 20 {
		t.Fatalf("%d groups, %d of them together, are too few to tell", groups, alone)
	}
}

// A group that has neither Where nor opacity nor blend of its own changes nothing, to the last bit, and costs nothing.
func TestAPlainGroupChangesNothing(t *testing.T) {
	c, _ := square(t, 64, nil)
	d := stained(t)
	coat(d, "#804020", func(l *strata.Layer) { l.Opacity = 0.4 })
	before, keys := evaluate(t, c, d), program(t, c, d)
	mark := func(s *strata.Document) string { return s.Layers[len(s.Layers)-1].ID }
	if _, _, err := d.Apply(strata.Edit{Do: "group", Layers: []string{d.Layers[1].ID, mark(d)}}); err != nil {
		t.Fatal(err)
	}
	after, now := evaluate(t, c, d), program(t, c, d)
	for i := range before.Base[0] {
		if before.Base[0][i] != after.Base[0][i] {
			t.Fatalf("texel %d: %g in a group, %g without", i, after.Base[0][i], before.Base[0][i])
		}
	}
	if k := c.scratch(0); c.keys(k, keys, 0) != c.keys(k, now, 0) {
		t.Error("grouping layers has the tile evaluated anew")
	}
}

// A group's Where multiplies those inside: a layer shows where both let it, and counts as shown there.
func TestAGroupsWhereMultipliesThoseInside(t *testing.T) {
	c, _ := square(t, 64, nil)
	d := stained(t)
	own := fieldOf(t, c, d, 1, "")
	if _, _, err := d.Apply(strata.Edit{Do: "group", Layers: []string{d.Layers[1].ID}}); err != nil {
		t.Fatal(err)
	}
	d.Layers[2].Where = []strata.Clause{clauseOf(t, d, "noise", map[string]float64{"size": 0.11})}
	of := fieldOf(t, c, d, 2, d.Layers[2].Where[0].ID)
	both, group := fieldOf(t, c, d, 1, ""), fieldOf(t, c, d, 2, "")
	shown := 0
	for i := range own {
		want := own[i] * of[i]
		if math.Abs(float64(both[i]-want)) > 3./65535 || math.Abs(float64(group[i]-want)) > 3./65535 {
			t.Fatalf("texel %d: the layer shows %g and its group %g, want %g", i, both[i], group[i], want)
		}
		if want >= 0.05 {
			shown++
		}
	}
	covered, _, err := coverage(t, c, d, 1)
	if err != nil || math.Abs(covered-float64(shown)/float64(len(own))) > 0.002 {
		t.Errorf("covers %g, %v; want %g", covered, err, float64(shown)/float64(len(own)))
	}
}

// A clause of relief in a group's Where sees what lies below the group, not what the group holds; one above sees that too, as
// far as the group shows.
func TestReliefSeesGroupsAsTheyLie(t *testing.T) {
	c, _ := square(t, 64, nil)
	d := new(strata.Document)
	high := func(mm float32) func(l *strata.Layer) {
		return func(l *strata.Layer) { l.What.Height = strata.Value{On: true, Number: mm, Blend: "add", Opacity: 1} }
	}
	coat(d, "#101010", high(1))
	coat(d, "#202020", high(4))
	coat(d, "#303030", nil)
	if _, _, err := d.Apply(strata.Edit{Do: "group", Layers: []string{d.Layers[1].ID}}); err != nil {
		t.Fatal(err)
	}
	d.Layers[2].Opacity = 0.5
	relief := func(i int) float32 {
		cl := clauseOf(t, d, "relief", map[string]float64{"form": 2})
		d.Layers[i].Where = []strata.Clause{cl}
		p := program(t, c, d)
		s, err := p.plan.step(c.ground, i)
		if err != nil {
			t.Fatal(err)
		}
		h := c.heightOf(c.scratch(0), s.clauses[0].below, 0)
		d.Layers[i].Where = nil
		return h[0] * 1000
	}
	for _, k := range []struct {
		layer int
		want  float32
	}{{1, 1}, {2, 1}, {3, 3}} {
		if got := relief(k.layer); math.Abs(float64(got-k.want)) > 1e-4 {
			t.Errorf("layer %d sees %g mm, want %g", k.layer, got, k.want)
		}
	}
}

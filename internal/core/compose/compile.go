package compose

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"sync/atomic"

	"crust/internal/core/field"
	"crust/internal/core/pixel"
	"crust/internal/core/strata"
)

// Program is a document made ready for one canvas: what is to be done tile by tile, from the lowest layer up.
type Program struct {
	plan   *plan
	run    []turn
	byID   map[string]int // of layers: where what lies under them ends in the run
	relief *shape         // those that lay down height, nil where there are none
	bends  []turn         // those that lay down normals
	lays   uint16         // a bit for each plane that some turn lays down
}

// shape is turns that lay down height, on a canvas and across its seams.
type shape struct {
	run, across []turn
	// By tile, as far as they are known.
	keys  []atomic.Uint64         // of the height, see reliefKey
	edges []atomic.Pointer[edges] // see edgesOf
}

// turn is a step in the order of a run: a coat, or the beginning or the end of a group.
type turn struct {
	*step
	skip int        // where a group begins: how many turns on it ends; 0 for a coat, −1 where a group ends
	flat *flatGroup // of a group that is flattened: what it does, in place of its turns
	lays uint16     // a bit for each plane that it lays down, or that the layers of a group do
}

// step lays one layer down: a mask from its Where, then each channel that is on. A group fades what its layers, between the
// two turns of its step, have laid down.
type step struct {
	layer   int
	clauses []clause
	soft    *around // the finished Where over a radius; nil where it is sharp
	any     []held  // where the mask is made from those of others: it shows where some of these do
	base    []held  // and it shows only where all of these do
	aim     target
	full    bool            // the mask is 1 everywhere
	where   uint64          // hash of all that the mask depends on
	masks   *shelf          // those made so far; nil where they are full, and where there are strokes
	inks    []ink           // strokes that the mask depends on
	stamps  []atomic.Uint64 // by tile: a hash of those that lie near, 0 where it is not known yet
	what    uint64          // hash of all that is laid down through it
	relief  uint64          // hash of the height alone
	bend    uint64          // and of the normals
	opacity float32
	on      []value
	each    bool             // one of on has a source
	four    *pixel.FourLines // of a colour and the plane behind it, where they are all that a coat lays down, each as a straight line of what lies below
	group   bool
	alone   *pixel.Blend // of a group: how its layers, laid over nothing, go over what lies below; nil where they do so one by one
}

// held is a step of which some share counts.
type held struct {
	*step
	share float32
}

// clause is a clause resolved against its kind and join.
type clause struct {
	kind   *field.Kind
	join   pixel.Join
	values []float64
	pick   []bool // by part
	shape  pixel.Shape
	soft   *around // the shaped field over a radius; nil where it is sharp
	off    bool
	warp   *warp    // where it is read about; nil for the place itself
	below  []turn   // that lay down the height which a clause of relief reads
	tilt   *shape   // whose slopes tilt the normal; nil where it is read as it is
	source *source  // what it reads; nil for none
	same   *step    // whose Where it is; nil where there is none
	paint  *painted // its strokes
	runs   *runoff  // what runs down
	mean   *around  // of that height; nil where it reads the height alone
}

// value is what a step does to one channel.
type value struct {
	first int // of the planes
	own   []float32
	blend pixel.Blend
	alpha float32
	full  bool // sums end at 1
	// In place of own: what a source gives, from low to high, or what lies below, changed.
	source    *source
	low, high float32
	adjust    *strata.Adjust
}

// Places of the planes that are blended, in the order of Channels.planes.
const (
	planeBase = iota
	_
	_
	planeRoughness
	planeMetallic
	planeEmissive
	_
	_
	planeOpacity
	planeOcclusion // what the baked one is multiplied by
	planeWet       // how much of a film of water there is
	planeHeight    // those before it are in 0–1
	planeBend      // slopes of layers' own normals along tangent and bitangent: x / z and y / z
	_
	blended // how many there are
)

// firstPlane is the first plane of each of strata.Channels.
var firstPlane = [...]int{planeBase, planeRoughness, planeMetallic, planeHeight, planeBend, planeEmissive, planeOpacity, planeOcclusion, planeWet}

// plan is a document while it is compiled: what its layers depend on, and their steps where they were made ready.
type plan struct {
	body          *Body
	doc           *strata.Document
	tree          strata.Tree
	shows         []bool   // by layer: it is seen, for all that is its own and its base's
	where, relief []uint64 // by layer: hashes of its own Where and of the height that it lays down; relief is 0 for none
	bend          []uint64 // the same of normals
	made          map[madeOn]*step
	around        map[uint64]*around
	maps          mapsOf
	inks          []*[]ink // by layer: the strokes that its own mask depends on
	laid          map[string]*painted
	runs          map[uint64]*runoff
	failed        atomic.Pointer[error] // the first fault met while it ran
}

// madeOn is a layer at a ground; from tells its own step, −2, from where it shows as seen from a layer.
type madeOn struct {
	ground      uint64
	layer, from int
}

// Besides a layer, that from which another's finished Where is seen may be one of these.
const (
	outside = -1 // of all groups
	itself  = -2 // its own step
)

func newPlan(b *Body, d *strata.Document) *plan {
	b.cache.turn.Add(1)
	p := &plan{body: b, doc: d, tree: d.Tree(), made: map[madeOn]*step{}, around: map[uint64]*around{}}
	seen := func(l *strata.Layer) bool { return !l.Hidden && l.Opacity > 0 }
	for i := range d.Layers {
		l := &d.Layers[i]
		base := d.Base(i)
		p.shows = append(p.shows, seen(l) && (base < 0 || seen(&d.Layers[base])))
	}
	for i := range d.Layers {
		l := &d.Layers[i]
		where := mix(hashOf(aimKey(l)), p.joined(i))
		if l.Soften > 0 {
			where = mix(where, bits(l.Soften))
		}
		if b := d.Base(i); b >= 0 {
			where = mix(mix(where, p.finished(b, i)), bits(d.Layers[b].Opacity))
		}
		p.where = append(p.where, where)
		lays := func(v *strata.Value) uint64 {
			if !v.On || v.Opacity == 0 || !p.shows[i] || l.Group {
				return 0
			}
			return mix(mix(mix(mix(hashOf(v.Blend), bits(v.Number)), bits(v.Opacity)), bits(l.Opacity)), beyond(v))
		}
		p.relief, p.bend = append(p.relief, lays(&l.What.Height)), append(p.bend, lays(&l.What.Normal))
	}
	return p
}

func bits(v float32) uint64 { return uint64(math.Float32bits(v)) }

// beyond hashes what of a value is not a constant.
func beyond(v *strata.Value) uint64 {
	if v.Source == nil && v.Adjust == nil {
		return 0
	}
	h := uint64(3)
	if v.Source != nil {
		h = mix(h, digestSource(v.Source))
	}
	if v.Adjust != nil {
		h = mix(h, digestAdjust(v.Adjust))
	}
	return h
}

// plain tells whether a group changes nothing of what its layers lay down.
func (p *plan) plain(i int) bool {
	l := &p.doc.Layers[i]
	return l.Opacity == 1 && l.Blend == "" && len(l.Targets) == 0 && len(l.Parts) == 0 && !hasWhere(l) && p.doc.Base(i) < 0
}

// hasWhere tells whether some clause of a layer has a say.
func hasWhere(l *strata.Layer) bool {
	return slices.ContainsFunc(l.Where, func(c strata.Clause) bool { return !c.Off })
}

// groupHash hashes what a group does to what its layers have laid down, besides its Where.
func (p *plan) groupHash(i int) uint64 {
	l := &p.doc.Layers[i]
	return mix(mix(1, bits(l.Opacity)), hashOf(l.Blend))
}

// over are the groups of layer j that layer from is not in, from the innermost on.
func (p *plan) over(j, from int) (out []int) {
	for a := p.tree.Parent[j]; a >= 0 && !(from >= 0 && p.tree.Within(from, a)); a = p.tree.Parent[a] {
		out = append(out, a)
	}
	return out
}

// finished hashes where a layer shows as seen from another: with its groups, but for those that the other is in too.
func (p *plan) finished(j, from int) uint64 {
	h := p.where[j]
	if p.doc.Layers[j].Group {
		for _, c := range p.tree.Holds(j) {
			if p.shows[c] {
				h = mix(mix(h, p.finished(c, c)), bits(p.doc.Layers[c].Opacity))
			}
		}
	}
	for _, a := range p.over(j, from) {
		h = mix(h, p.where[a])
	}
	return h
}

// joined hashes the clauses of a layer.
func (p *plan) joined(i int) uint64 {
	h := uint64(1)
	for _, c := range p.doc.Layers[i].Where {
		if !c.Off {
			h = mix(h, p.clause(i, c))
		}
	}
	return h
}

// clause hashes all that a clause of layer i depends on besides the ground.
func (p *plan) clause(i int, c strata.Clause) uint64 {
	k, err := field.KindOf(c.Kind)
	runs := err == nil && k.Needs&field.NeedRuns != 0
	var drawn []ink
	if runs && len(c.Strokes) > 0 {
		drawn = []ink{{of: p.strokes(&c)}}
	}
	h := digestClause(&c)
	if runs {
		// What its source depends on, with all strokes that are done, wherever they lie.
		if j := p.sameAs(i, &c); j >= 0 {
			h = mix(h, p.finished(j, i))
			drawn = append(drawn, p.inksShown(j, i)...)
		}
		for _, k := range drawn {
			for at := range k.strokes() {
				h = mix(h, uint64(at))
			}
		}
		return h
	}
	if err == nil && c.Relief() {
		return mix(h, p.below(i, &c))
	}
	if j := p.sameAs(i, &c); err == nil && k.Layer && j >= 0 {
		return mix(h, p.finished(j, i))
	}
	return h
}

// sameAs is the layer whose Where a clause of layer i is, −1 when that does not lie below.
func (p *plan) sameAs(i int, c *strata.Clause) int {
	if len(c.Layers) == 0 {
		return -1
	}
	return slices.IndexFunc(p.doc.Layers[:p.tree.First[i]], func(l strata.Layer) bool { return l.ID == c.Layers[0] })
}

// sees tells whether a clause of relief counts the height of layer j; a nil clause counts all.
func (p *plan) sees(c *strata.Clause, j int) bool {
	if p.relief[j] == 0 || c == nil || c.Params["of"] == 0 {
		return p.relief[j] != 0
	}
	named := false
	for ; j >= 0; j = p.tree.Parent[j] {
		named = named || slices.Contains(c.Layers, p.doc.Layers[j].ID)
	}
	return named == (c.Params["of"] == 1)
}

// below hashes the height that a clause of layer i sees.
func (p *plan) below(i int, c *strata.Clause) uint64 { return p.belowIn(-1, p.tree.First[i], c) }

// belowIn is below for what a group holds; −1 is for what lies in none.
func (p *plan) belowIn(group, end int, c *strata.Clause) uint64 {
	h := uint64(2)
	for _, j := range p.tree.Holds(group) {
		switch {
		case p.tree.First[j] >= end:
			return h
		case !p.shows[j]:
		case p.doc.Layers[j].Group:
			in := p.belowIn(j, end, c)
			if in == 2 {
				continue
			}
			h = mix(h, in)
			if j < end && !p.plain(j) {
				h = mix(mix(h, p.where[j]), p.groupHash(j))
			}
		case p.sees(c, j):
			h = mix(mix(h, p.where[j]), p.relief[j])
		}
	}
	return h
}

// turns are those, at a ground, of the layers before end that show and are wanted. Groups that end says nothing of are open
// still: nothing fades what they hold.
func (p *plan) turns(g *ground, group, end int, wanted func(i int) bool) (out []turn, err error) {
	for _, i := range p.tree.Holds(group) {
		l := &p.doc.Layers[i]
		if p.tree.First[i] >= end {
			break
		}
		if !p.shows[i] || !g.touches(l) || !l.Group && !wanted(i) {
			continue
		}
		var in []turn
		if l.Group {
			if in, err = p.turns(g, i, end, wanted); err != nil {
				return nil, err
			}
			if len(in) == 0 {
				continue
			}
			if f := p.flatten(i, in); f != nil && i < end {
				if !p.plain(i) {
					if f.run, err = p.framed(g, i, in); err != nil {
						return nil, err
					}
				}
				f.close()
				out = append(out, f.turn(i))
				continue
			}
			if i >= end || p.plain(i) {
				out = append(out, in...)
				continue
			}
		}
		if l.Group {
			if in, err = p.framed(g, i, in); err != nil {
				return nil, err
			}
			out = append(out, in...)
			continue
		}
		s, err := p.step(g, i)
		if err != nil {
			return nil, err
		}
		out = append(out, turn{step: s, lays: s.lays()})
	}
	return out, nil
}

// framed is what a group holds between the turns where it begins and ends.
func (p *plan) framed(g *ground, i int, in []turn) ([]turn, error) {
	s, err := p.step(g, i)
	if err != nil {
		return nil, err
	}
	lays := planesOf(in)
	return slices.Concat([]turn{{step: s, skip: len(in) + 1, lays: lays}}, in, []turn{{step: s, skip: -1, lays: lays}}), nil
}

// lays has a bit for each plane that a step lays down.
func (s *step) lays() (out uint16) {
	for _, v := range s.on {
		for k := range v.own {
			out |= 1 << (v.first + k)
		}
	}
	return out
}

// planesOf has a bit for each plane that some of the turns lay down.
func planesOf(run []turn) (out uint16) {
	for _, t := range run {
		out |= t.lays
	}
	return out
}

// heights are the turns, at a ground, of the layers before end that lay down height and that a clause sees; a nil clause sees
// all.
func (p *plan) heights(g *ground, end int, c *strata.Clause) ([]turn, error) {
	return p.turns(g, -1, end, func(i int) bool { return p.sees(c, i) })
}

// Compile makes the document's program. Layers that cannot show on the canvas have no step.
func (c *Canvas) Compile(d *strata.Document) (*Program, error) {
	return c.compile(newPlan(c.body, d))
}

// Body is the surface that the program is for.
func (p *Program) Body() *Body { return p.plan.body }

// For is the program of the same document for another canvas of the body. What was averaged for one is not averaged again.
func (p *Program) For(c *Canvas) (*Program, error) { return c.compile(p.plan) }

func (c *Canvas) compile(of *plan) (p *Program, err error) {
	all := len(of.doc.Layers)
	p = &Program{plan: of, byID: map[string]int{}}
	if p.run, err = of.turns(c.ground, -1, all, func(int) bool { return true }); err != nil {
		return nil, err
	}
	p.lays = planesOf(p.run)
	c.soak(of)
	if p.relief, err = of.shape(c, all); err != nil {
		return nil, err
	}
	if p.bends, err = of.turns(c.ground, -1, all, func(i int) bool { return of.bend[i] != 0 }); err != nil {
		return nil, err
	}
	for at := 0; at < len(p.run); {
		end := at + p.run[at].skip
		for _, s := range p.run[at : end+1] {
			p.byID[of.doc.Layers[s.layer].ID] = at
		}
		at = end + 1
	}
	return p, nil
}

// shape is the turns, on a canvas, of the layers before end that lay down height; nil where there are none.
func (p *plan) shape(c *Canvas, end int) (*shape, error) {
	run, err := p.heights(c.ground, end, nil)
	if err != nil {
		return nil, err
	}
	across, err := p.heights(c.rim, end, nil)
	if err != nil || run == nil && across == nil {
		return nil, err
	}
	return newShape(c, run, across), nil
}

func newShape(c *Canvas, run, across []turn) *shape {
	return &shape{run, across, make([]atomic.Uint64, len(c.tiles)), make([]atomic.Pointer[edges], len(c.tiles))}
}

// step is a layer made ready for a ground.
func (p *plan) step(g *ground, i int) (*step, error) {
	return p.ready(madeOn{g.id, i, itself}, func() (*step, error) { return p.newStep(g, i) })
}

func (p *plan) ready(at madeOn, make func() (*step, error)) (*step, error) {
	if s := p.made[at]; s != nil {
		return s, nil
	}
	s, err := make()
	if err != nil {
		return nil, fmt.Errorf("layer “%s”: %w", p.doc.Layers[at.layer].Name, err)
	}
	p.made[at] = s
	return s, nil
}

// shown is a step whose mask is where a layer shows as seen from another: within its groups, but for those that the other is in
// too; a group shows where some of its layers do.
func (p *plan) shown(g *ground, j, from int) (*step, error) {
	return p.ready(madeOn{g.id, j, from}, func() (*step, error) { return p.newShown(g, j, from) })
}

func (p *plan) newShown(g *ground, j, from int) (*step, error) {
	own, err := p.step(g, j)
	if err != nil {
		return nil, err
	}
	s := &step{layer: j, aim: own.aim, opacity: 1, where: p.finished(j, from)}
	hold := func(to *[]held, o *step, share float32, err error) error {
		if err == nil && !(o.full && share == 1) {
			*to = append(*to, held{o, share})
		}
		return err
	}
	for _, a := range p.over(j, from) {
		o, err := p.step(g, a)
		if err := hold(&s.base, o, 1, err); err != nil {
			return nil, err
		}
		s.aim.share = min(s.aim.share, o.aim.share)
	}
	if !own.group {
		if s.base == nil {
			return own, nil
		}
		s.any = []held{{own, 1}}
	} else {
		for _, c := range p.tree.Holds(j) {
			if !p.shows[c] || !g.touches(&p.doc.Layers[c]) {
				continue
			}
			o, err := p.shown(g, c, c)
			if err != nil {
				return nil, err
			}
			s.any = append(s.any, held{o, p.doc.Layers[c].Opacity})
			s.full = s.full || o.full && p.doc.Layers[c].Opacity == 1
		}
		if s.any == nil {
			s.any = []held{} // it holds nothing, so it shows nowhere
		}
		if err := hold(&s.base, own, 1, nil); err != nil {
			return nil, err
		}
	}
	s.full = s.full && s.base == nil
	p.keep(g, s, p.inksShown(j, from))
	return s, nil
}

// keep prepares the place where a step's masks are kept.
func (p *plan) keep(g *ground, s *step, inks []ink) {
	if s.inks = inks; inks != nil {
		s.stamps = make([]atomic.Uint64, len(g.tiles))
	} else if !s.full {
		s.masks = p.body.cache.shelf(shelfKey{g.id, s.where}, len(g.tiles))
	}
}

func (p *plan) newStep(g *ground, layer int) (*step, error) {
	l := &p.doc.Layers[layer]
	s := &step{layer: layer, aim: g.aim(l), opacity: l.Opacity, where: p.where[layer], group: l.Group}
	where := hasWhere(l)
	base := p.doc.Base(layer)
	s.full = !where && s.aim.of == nil && base < 0
	p.keep(g, s, p.inksOf(layer))
	for k := range l.Where {
		c, err := p.resolve(g, layer, k)
		if err != nil {
			return nil, err
		}
		s.clauses = append(s.clauses, c)
	}
	if l.Soften > 0 && where {
		s.soft = p.softenedWhere(layer)
	}
	if base >= 0 {
		o, err := p.shown(g, base, layer)
		if err != nil {
			return nil, err
		}
		s.base = []held{{o, p.doc.Layers[base].Opacity}}
	}
	if l.Group {
		s.what = p.groupHash(layer)
		s.relief, s.bend = s.what, s.what
		if l.Blend != "" {
			b, err := pixel.BlendOf(l.Blend)
			s.alone = &b
			return s, err
		}
		return s, nil
	}
	s.what = mix(bits(l.Opacity), 1)
	for i, ch := range strata.Channels {
		v := ch.Of(&l.What)
		if !v.On || v.Opacity == 0 {
			continue
		}
		b, err := pixel.BlendOf(v.Blend)
		if err != nil {
			return nil, err
		}
		// W3C, Compositing and Blending Level 1, plus-lighter: Co = min(1, αs·Cs + αb·Cb). Later modes need
		// what is in range; height alone has no end.
		k := value{first: firstPlane[i], blend: b, alpha: v.Opacity, own: []float32{v.Number}}
		k.full = b.Name == "add" && k.first < planeHeight
		scale := float32(1)
		switch {
		case ch.Colour:
			rgb, err := strata.ParseHex(cmp.Or(v.Hex, "#808080"))
			if err != nil {
				return nil, err
			}
			k.own = rgb[:]
		case k.first == planeHeight:
			scale = 1. / 1000
			k.own[0] = v.Number / 1000
		case k.first == planeBend:
			k.own = []float32{0, 0}
		}
		if k.adjust = v.Adjust; k.adjust == nil {
			if k.source, err = p.sourceOf(g, layer, v.Source, len(k.own)); err != nil {
				return nil, err
			}
		}
		if v.Source == nil && v.Adjust == nil {
			if k.source = p.tint(l, ch.Name, k.own); k.source != nil && k.first == planeHeight {
				k.low, k.high = -heightRange, heightRange
			} else if k.source != nil {
				k.low, k.high = 0, 1
			}
		}
		if v.Source != nil && k.source != nil {
			k.low, k.high = v.Source.Low*scale, v.Source.High*scale
			if ch.Colour {
				k.low, k.high = 0, 1
			}
		}
		if k.first == planeBend {
			if k.source == nil {
				continue // its picture is gone, or was not chosen yet
			}
			k.high = v.Number
		}
		s.each = s.each || k.source != nil
		own := mix(hashOf(b.Name), uint64(i))
		for _, x := range append([]float32{v.Opacity, k.high}, k.own...) {
			own = mix(own, bits(x))
		}
		s.what = mix(mix(s.what, own), beyond(v))
		switch k.first {
		case planeHeight:
			s.relief = p.relief[layer]
		case planeBend:
			s.bend = p.bend[layer]
		}
		s.on = append(s.on, k)
	}
	s.four = fourOf(s.on)
	return s, nil
}

// fourOf is what two values do to four planes that follow each other, nil where it takes more than a line for each.
func fourOf(on []value) *pixel.FourLines {
	if len(on) != 2 || on[0].first != planeBase || on[1].first != planeRoughness {
		return nil
	}
	out, n := &pixel.FourLines{}, 0
	for i := range on {
		v := &on[i]
		if v.source != nil || v.adjust != nil || v.full || v.alpha != 1 {
			return nil
		}
		for _, x := range v.own {
			slope, lift, ok := v.blend.Line(x)
			if !ok {
				return nil
			}
			out.Slope[n], out.Lift[n] = slope, lift
			n++
		}
	}
	return out
}

// resolve makes clause n of a layer ready.
func (p *plan) resolve(g *ground, layer, n int) (clause, error) {
	cl := &p.doc.Layers[layer].Where[n]
	out, err := p.clauseOf(g, layer, cl)
	if err != nil {
		return clause{}, err
	}
	if cl.Shape.Soften > 0 {
		out.soft = p.softenedClause(layer, n)
	}
	return out, nil
}

// clauseOf makes a clause of a layer ready, but for softening.
func (p *plan) clauseOf(g *ground, layer int, cl *strata.Clause) (clause, error) {
	k, err := field.KindOf(cl.Kind)
	if err != nil {
		return clause{}, err
	}
	j, err := strata.JoinOf(cl.Join)
	if err != nil {
		return clause{}, err
	}
	out := clause{kind: k, join: j.Kernel, values: cl.Values(k), shape: cl.Shape, off: cl.Off}
	if cl.Shape.Warp > 0 {
		out.warp = &warp{plan: p, by: cl.Shape.Warp, waves: cl.Shape.Waves}
	}
	if k.Parts {
		out.pick = make([]bool, len(p.body.parts))
		for _, name := range cl.Parts {
			if i, ok := p.body.parts[name]; ok {
				out.pick[i] = true
			}
		}
	}
	if j := p.sameAs(layer, cl); k.Needs&field.NeedMask != 0 && j >= 0 {
		if out.same, err = p.shown(g, j, layer); err != nil {
			return clause{}, err
		}
	}
	if k.Needs&field.NeedHeight != 0 {
		if out.below, err = p.heights(g, p.tree.First[layer], cl); err != nil {
			return clause{}, err
		}
		if k.Radius(out.values) > 0 {
			out.mean = p.meanHeight(layer, cl)
		}
	}
	if k.Tilted != nil && k.Tilted(out.values) && g.canvas != nil {
		if out.tilt, err = p.shape(g.canvas, p.tree.First[layer]); err != nil {
			return clause{}, err
		}
	}
	switch {
	case k.Needs&field.NeedRuns != 0:
		out.runs = p.runoff(layer, cl)
	case k.Strokes:
		out.paint = p.strokes(cl)
	}
	switch {
	case k.Source:
		out.source, err = p.sourceOf(g, layer, cl.Source, 1)
	case k.IDs:
		out.source, err = p.idsOf(cl, out.values)
	}
	return out, err
}

// hashOf hashes a text (FNV-1a: Fowler, Noll & Vo).
func hashOf(s string) uint64 {
	h := uint64(14695981039346656037)
	for i := range len(s) {
		h = (h ^ uint64(s[i])) * 1099511628211
	}
	return h
}

// mix folds a value into a hash (the finaliser of splitmix64: Steele, Lea & Flood, 2014).
func mix(h, v uint64) uint64 {
	h ^= v + 0x9e3779b97f4a7c15 + h<<6 + h>>2
	h = (h ^ h>>30) * 0xbf58476d1ce4e5b9
	h = (h ^ h>>27) * 0x94d049bb133111eb
	return h ^ h>>31
}

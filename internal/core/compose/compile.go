package compose

import (
	"encoding/json"
	"fmt"
	"hash/fnv"
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
	steps  []*step
	byID   map[string]int // steps of layers
	relief []*step        // those that lay down height
	across []*step        // the same for what lies across the seams
	// Keys of the height by tile, as far as they are known.
	heightKeys []atomic.Uint64
}

// step lays one layer down: a mask from its Where, then each channel that is on.
type step struct {
	clauses []clause
	soft    *around // the finished Where over a radius; nil where it is sharp
	base    *step   // that it is clipped to; nil for none
	aim     target
	full    bool   // the mask is 1 everywhere
	where   uint64 // hash of all that the mask depends on
	masks   *shelf // those made so far; nil where they are full
	what    uint64 // hash of all that is laid down through it
	relief  uint64 // hash of the height alone
	opacity float32
	on      []value
	height  bool // one of on is the height
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
	below  []*step // that lay down the height which a clause of relief reads
	same   *step   // whose Where it is; nil where there is none
	mean   *around // of that height; nil where it reads the height alone
}

// value is what a step does to one channel.
type value struct {
	first int // of the planes
	own   []float32
	blend pixel.Blend
	alpha float32
	full  bool // sums end at 1
}

// Places of the planes that are blended, in the order of Channels.planes.
const (
	planeBase = iota
	_
	_
	planeRoughness
	planeMetallic
	planeHeight
	blended // how many there are
)

// firstPlane is the first plane of each of strata.Channels.
var firstPlane = [...]int{planeBase, planeRoughness, planeMetallic, planeHeight}

// plan is a document while it is compiled: what its layers depend on, and their steps where they were made ready.
type plan struct {
	body          *Body
	doc           *strata.Document
	where, relief []uint64 // by layer: hashes of its Where and of the height that it lays down; relief is 0 for none
	made          map[madeOn]*step
	around        map[uint64]*around
	failed        atomic.Pointer[error] // the first fault met while it ran
}

// madeOn is a layer at a ground.
type madeOn struct {
	ground uint64
	layer  int
}

func newPlan(b *Body, d *strata.Document) *plan {
	b.cache.turn.Add(1)
	p := &plan{body: b, doc: d, made: map[madeOn]*step{}, around: map[uint64]*around{}}
	for i := range d.Layers {
		l := &d.Layers[i]
		h := fnv.New64a()
		for _, t := range l.Targets {
			h.Write([]byte(t))
			h.Write([]byte{0})
		}
		where := mix(h.Sum64(), p.joined(i))
		if l.Soften > 0 {
			where = mix(where, uint64(math.Float32bits(l.Soften)))
		}
		if b := d.Base(i); b >= 0 {
			where = mix(mix(where, p.where[b]), uint64(math.Float32bits(d.Layers[b].Opacity)))
		}
		p.where = append(p.where, where)
		relief := uint64(0)
		if v := &l.What.Height; v.On && v.Opacity > 0 && d.Shows(i) {
			relief = mix(hashOf(v.Blend), uint64(math.Float32bits(v.Number)))
			relief = mix(mix(relief, uint64(math.Float32bits(v.Opacity))), uint64(math.Float32bits(l.Opacity)))
		}
		p.relief = append(p.relief, relief)
	}
	return p
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
	c.ID = ""
	b, _ := json.Marshal(c)
	h := fnv.New64a()
	h.Write(b)
	k, err := field.KindOf(c.Kind)
	if err == nil && k.Needs&field.NeedHeight != 0 {
		return mix(h.Sum64(), p.below(i, &c))
	}
	if j := p.sameAs(i, &c); err == nil && k.Layer && j >= 0 {
		return mix(h.Sum64(), p.where[j])
	}
	return h.Sum64()
}

// sameAs is the layer whose Where a clause of layer i is, −1 when that does not lie below.
func (p *plan) sameAs(i int, c *strata.Clause) int {
	if len(c.Layers) == 0 {
		return -1
	}
	return slices.IndexFunc(p.doc.Layers[:i], func(l strata.Layer) bool { return l.ID == c.Layers[0] })
}

// below hashes the height that a clause of layer i sees.
func (p *plan) below(i int, c *strata.Clause) uint64 {
	h := uint64(2)
	for j := range i {
		if p.relief[j] != 0 && c.Sees(&p.doc.Layers[j]) {
			h = mix(mix(h, p.where[j]), p.relief[j])
		}
	}
	return h
}

// steps are those, at a ground, of the layers before end that lay down height and that a clause sees; a nil clause sees all.
func (p *plan) heights(g *ground, end int, c *strata.Clause) ([]*step, error) {
	var out []*step
	for j := range end {
		l := &p.doc.Layers[j]
		if p.relief[j] == 0 || c != nil && !c.Sees(l) || !g.touches(l) {
			continue
		}
		s, err := p.step(g, j)
		if err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}

// Compile makes the document's program. Layers that cannot show on the canvas have no step.
func (c *Canvas) Compile(d *strata.Document) (*Program, error) {
	return c.compile(newPlan(c.body, d))
}

// Body is the surface that the program is for.
func (p *Program) Body() *Body { return p.plan.body }

// For is the program of the same document for another canvas of the body. What was averaged for one is not averaged again.
func (p *Program) For(c *Canvas) (*Program, error) { return c.compile(p.plan) }

func (c *Canvas) compile(of *plan) (*Program, error) {
	p := &Program{plan: of, byID: map[string]int{}, heightKeys: make([]atomic.Uint64, len(c.tiles))}
	for i := range of.doc.Layers {
		l := &of.doc.Layers[i]
		if !of.doc.Shows(i) || !c.Touches(l) {
			continue
		}
		s, err := p.plan.step(c.ground, i)
		if err != nil {
			return nil, err
		}
		p.byID[l.ID] = len(p.steps)
		p.steps = append(p.steps, s)
	}
	var err error
	if p.relief, err = of.heights(c.ground, len(of.doc.Layers), nil); err != nil {
		return nil, err
	}
	p.across, err = of.heights(c.rim, len(of.doc.Layers), nil)
	return p, err
}

// step is a layer made ready for a ground.
func (p *plan) step(g *ground, i int) (*step, error) {
	at := madeOn{g.id, i}
	if s := p.made[at]; s != nil {
		return s, nil
	}
	s, err := p.newStep(g, i)
	if err != nil {
		return nil, fmt.Errorf("layer “%s”: %w", p.doc.Layers[i].Name, err)
	}
	p.made[at] = s
	return s, nil
}

func (p *plan) newStep(g *ground, layer int) (*step, error) {
	l := &p.doc.Layers[layer]
	s := &step{aim: g.aim(l), opacity: l.Opacity, where: p.where[layer]}
	where := slices.ContainsFunc(l.Where, func(c strata.Clause) bool { return !c.Off })
	base := p.doc.Base(layer)
	s.full = !where && s.aim.of == nil && base < 0
	if !s.full {
		s.masks = p.body.cache.shelf(shelfKey{g.id, s.where}, len(g.tiles))
	}
	for k := range l.Where {
		c, err := p.resolve(g, layer, k)
		if err != nil {
			return nil, err
		}
		s.clauses = append(s.clauses, c)
	}
	if l.Soften > 0 && where {
		s.soft = p.over(mix(keptWhere, p.joined(layer)), l.Soften, average{layer: layer, clause: -1})
	}
	if base >= 0 {
		var err error
		if s.base, err = p.step(g, base); err != nil {
			return nil, err
		}
	}
	s.what = mix(uint64(math.Float32bits(l.Opacity)), 1)
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
		k := value{first: firstPlane[i], blend: b, alpha: v.Opacity, full: b.Name == "add" && ch.Name != "height", own: []float32{v.Number}}
		switch ch.Name {
		case "colour":
			rgb, err := strata.ParseHex(v.Hex)
			if err != nil {
				return nil, err
			}
			k.own = rgb[:]
		case "height":
			k.own[0] = v.Number / 1000
			s.height = true
		}
		own := mix(hashOf(b.Name), uint64(i))
		for _, x := range append([]float32{v.Opacity}, k.own...) {
			own = mix(own, uint64(math.Float32bits(x)))
		}
		s.what = mix(s.what, own)
		if ch.Name == "height" {
			s.relief = p.relief[layer]
		}
		s.on = append(s.on, k)
	}
	return s, nil
}

// resolve makes clause n of a layer ready.
func (p *plan) resolve(g *ground, layer, n int) (clause, error) {
	cl := &p.doc.Layers[layer].Where[n]
	k, err := field.KindOf(cl.Kind)
	if err != nil {
		return clause{}, err
	}
	j, err := strata.JoinOf(cl.Join)
	if err != nil {
		return clause{}, err
	}
	out := clause{kind: k, join: j.Kernel, values: cl.Values(k), shape: cl.Shape, off: cl.Off}
	if k.Parts {
		out.pick = make([]bool, len(p.body.parts))
		for _, name := range cl.Parts {
			if i, ok := p.body.parts[name]; ok {
				out.pick[i] = true
			}
		}
	}
	if j := p.sameAs(layer, cl); k.Layer && j >= 0 {
		if out.same, err = p.step(g, j); err != nil {
			return clause{}, err
		}
	}
	if k.Needs&field.NeedHeight != 0 {
		if out.below, err = p.heights(g, layer, cl); err != nil {
			return clause{}, err
		}
		if r := k.Radius(out.values); r > 0 {
			out.mean = p.over(mix(keptHeight, p.below(layer, cl)), float32(r), average{layer: layer, height: cl})
		}
	}
	if cl.Shape.Soften > 0 {
		c := *cl
		c.Join, c.Shape.Soften, c.Shape.Strength = "", 0, 0
		out.soft = p.over(mix(keptClause, p.clause(layer, c)), cl.Shape.Soften, average{layer: layer, clause: n})
	}
	return out, nil
}

func hashOf(s string) uint64 {
	h := fnv.New64a()
	h.Write([]byte(s))
	return h.Sum64()
}

// mix folds a value into a hash (the finaliser of splitmix64: Steele, Lea & Flood, 2014).
func mix(h, v uint64) uint64 {
	h ^= v + 0x9e3779b97f4a7c15 + h<<6 + h>>2
	h = (h ^ h>>30) * 0xbf58476d1ce4e5b9
	h = (h ^ h>>27) * 0x94d049bb133111eb
	return h ^ h>>31
}

package compose

import (
	"encoding/json"
	"fmt"
	"hash/fnv"
	"math"

	"crust/internal/core/field"
	"crust/internal/core/pixel"
	"crust/internal/core/strata"
)

// Program is a document made ready for one canvas: what is to be done tile by tile, from the lowest layer up.
type Program struct {
	steps  []step
	byID   map[string]int // steps of layers
	relief bool           // some step lays down height
}

// step lays one layer down: a mask from its Where, then each channel that is on.
type step struct {
	clauses []clause
	aim     target
	full    bool   // the mask is 1 everywhere
	where   uint64 // hash of all that the mask depends on
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

// Compile makes the document's program. Layers that cannot show on the canvas have no step.
func (c *Canvas) Compile(d *strata.Document) (*Program, error) {
	p := &Program{byID: map[string]int{}}
	for i := range d.Layers {
		l := &d.Layers[i]
		if l.Hidden || l.Opacity == 0 || !c.Touches(l) {
			continue
		}
		s, err := c.step(l)
		if err != nil {
			return nil, fmt.Errorf("layer “%s”: %w", l.Name, err)
		}
		p.relief = p.relief || s.height
		p.byID[l.ID] = len(p.steps)
		p.steps = append(p.steps, *s)
	}
	return p, nil
}

// step resolves a layer.
func (c *Canvas) step(l *strata.Layer) (*step, error) {
	s := &step{aim: c.aim(l), opacity: l.Opacity, where: whereKey(l)}
	s.full = len(l.Where) == 0 && s.aim.of == nil
	for i := range l.Where {
		k, err := c.resolve(&l.Where[i])
		if err != nil {
			return nil, err
		}
		s.clauses = append(s.clauses, k)
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
			s.relief = mix(own, uint64(math.Float32bits(l.Opacity)))
		}
		s.on = append(s.on, k)
	}
	return s, nil
}

func (c *Canvas) resolve(cl *strata.Clause) (clause, error) {
	k, err := field.KindOf(cl.Kind)
	if err != nil {
		return clause{}, err
	}
	j, err := strata.JoinOf(cl.Join)
	if err != nil {
		return clause{}, err
	}
	out := clause{kind: k, join: j.Kernel, values: cl.Values(k), shape: cl.Shape}
	if k.Parts {
		out.pick = make([]bool, len(c.parts))
		for _, p := range cl.Parts {
			if i, ok := c.parts[p]; ok {
				out.pick[i] = true
			}
		}
	}
	return out, nil
}

// whereKey hashes everything that a layer's Where depends on besides the canvas.
func whereKey(l *strata.Layer) uint64 {
	h := fnv.New64a()
	for _, t := range l.Targets {
		h.Write([]byte(t))
		h.Write([]byte{0})
	}
	for i := range l.Where {
		k := l.Where[i]
		k.ID = ""
		b, _ := json.Marshal(k)
		h.Write(b)
	}
	return h.Sum64()
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

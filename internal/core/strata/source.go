package strata

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"crust/internal/core/field"
	"crust/internal/core/pixel"
)

// Source gives each place a value of its own, of a channel or of a clause.
type Source struct {
	Kind    string             `json:"kind"`
	Picture string             `json:"picture,omitempty"` // mark of one of the asset's pictures
	Map     string             `json:"map,omitempty"`     // kind of a baked map
	Field   *Clause            `json:"field,omitempty"`   // a clause of noise or pattern
	Of      string             `json:"of,omitempty"`      // what is read of a picture or map
	Lay     map[string]float64 `json:"lay,omitempty"`     // how a picture is laid, see Laying
	Ramp    []Stop             `json:"ramp,omitempty"`    // colours of values, for base colour
	Low     float32            `json:"low"`               // what 0 becomes, for other channels
	High    float32            `json:"high"`              // what 1 becomes
}

// Stop is a colour of a ramp at a value.
type Stop struct {
	At  float32 `json:"at"`
	Hex string  `json:"hex"`
}

// SourceKind is a kind of source for the page and the checks.
type SourceKind struct {
	Name  string `json:"name"`
	Label string `json:"label"`
	Help  string `json:"help"`
}

// SourceKinds lists them in the order in which they are offered.
var SourceKinds = []SourceKind{
	{"picture", "picture", "a picture that was brought in, laid on the surface"},
	{"field", "field", "noise or a pattern, its values as colours or between two numbers"},
	{"map", "baked map", "what was baked, its values as colours or between two numbers"},
}

// Of lists what can be read of a picture or map: its colours, or one value.
var Of = []string{"colour", "grey", "red", "green", "blue", "alpha"}

// NormalOf lists which way the green of a normal map points.
var NormalOf = []string{"green up", "green down"}

// Ways to lay a picture, as the numbers of Laying's first parameter.
const (
	ByUV = iota
	ByBox
	ByPlane
)

// Laying lists how a picture is laid.
var Laying = []field.Param{
	{Name: "by", Label: "laid", Default: ByBox, Max: 2, Whole: true, Choices: []string{"by UV", "by box", "by plane"}},
	{Name: "size", Label: "size", Unit: "m", Min: 0.001, Max: 100, Default: 1, Log: true, Fits: true},
	{Name: "channel", Label: "UV channel", Max: 6, Whole: true, Choices: []string{"in use", "1", "2", "3", "4", "5", "6"}},
	{Name: "repeats", Label: "repeats", Min: 1, Max: 100, Default: 1, Whole: true},
	{Name: "from", Label: "from", Max: 2, Whole: true, Default: 0, Choices: []string{"above", "the side", "the front"}},
	{Name: "u", Label: "offset →", Min: -1, Max: 1},
	{Name: "v", Label: "offset ↓", Min: -1, Max: 1},
	{Name: "turn", Label: "turn", Unit: "°", Min: -180, Max: 180},
	{Name: "mirror", Label: "mirror", Max: 1, Whole: true, Choices: []string{"no", "yes"}},
	{Name: "rim", Label: "blend", Max: 1, Default: 0.3},
}

// Limits of a source.
const maxStops = 16

// Laid is how a picture is laid: the values of Laying by name.
func (s *Source) Laid() map[string]float64 {
	out := map[string]float64{}
	for _, p := range Laying {
		out[p.Name] = p.Default
		if v, ok := s.Lay[p.Name]; ok {
			out[p.Name] = v
		}
	}
	return out
}

// UnmarshalJSON reads a source over its defaults; unknown fields are refused.
func (s *Source) UnmarshalJSON(data []byte) error {
	type plain Source
	p := plain{High: 1}
	var has struct {
		Field json.RawMessage `json:"field"`
	}
	if json.Unmarshal(data, &has) == nil && len(has.Field) > 0 && string(has.Field) != "null" {
		p.Field = &Clause{Join: "and", Shape: pixel.NewShape()}
	}
	if err := strictly(data, &p); err != nil {
		return err
	}
	*s = Source(p)
	return nil
}

// UnmarshalJSON reads an adjustment over what changes nothing; unknown fields are refused.
func (a *Adjust) UnmarshalJSON(data []byte) error {
	type plain Adjust
	p := plain(*NewAdjust())
	if err := strictly(data, &p); err != nil {
		return err
	}
	*a = Adjust(p)
	return nil
}

func (s *Source) clone() *Source {
	if s == nil {
		return nil
	}
	out := *s
	out.Lay, out.Ramp = maps.Clone(s.Lay), slices.Clone(s.Ramp)
	if s.Field != nil {
		c := s.Field.clone()
		out.Field = &c
	}
	return &out
}

func (s *Source) equal(o *Source) bool {
	if s == nil || o == nil {
		return s == o
	}
	return s.Kind == o.Kind && s.Picture == o.Picture && s.Map == o.Map && s.Of == o.Of && s.Low == o.Low && s.High == o.High && maps.Equal(s.Lay, o.Lay) && slices.Equal(s.Ramp, o.Ramp) &&
		(s.Field == nil && o.Field == nil || s.Field != nil && o.Field != nil && s.Field.equal(o.Field))
}

// check says what is wrong with a source for values from low to high.
func (s *Source) check(low, high float32) *Wrong {
	if !slices.ContainsFunc(SourceKinds, func(k SourceKind) bool { return k.Name == s.Kind }) {
		return wrongf("kind", "“%s” is no source; use picture, field or map", s.Kind)
	}
	if s.Of != "" && !slices.Contains(Of, s.Of) && !slices.Contains(NormalOf, s.Of) {
		return wrongf("of", "“%s” cannot be read of a picture; use %v", s.Of, Of)
	}
	if !(s.Low >= low && s.Low <= high && s.High >= low && s.High <= high) {
		return wrongf("low", "values from %g to %g do not fit; they go from %g to %g", s.Low, s.High, low, high)
	}
	for _, p := range Laying {
		if v, ok := s.Lay[p.Name]; ok && (!(v >= p.Min && v <= p.Max) || p.Whole && v != float64(int(v))) {
			return wrongf("lay."+p.Name, "%s is %g; it goes from %g to %g", p.Label, v, p.Min, p.Max)
		}
	}
	for name := range s.Lay {
		if !slices.ContainsFunc(Laying, func(p field.Param) bool { return p.Name == name }) {
			return wrongf("lay."+name, "there is no such parameter")
		}
	}
	if len(s.Ramp) > maxStops {
		return wrongf("ramp", "%d colours are more than %d", len(s.Ramp), maxStops)
	}
	for i, st := range s.Ramp {
		if _, err := ParseHex(st.Hex); err != nil || !(st.At >= 0 && st.At <= 1) || i > 0 && st.At < s.Ramp[i-1].At {
			return wrongf("ramp", "colour %d, %s at %g: they stand from 0 to 1, in order", i+1, st.Hex, st.At)
		}
	}
	if (s.Field != nil) != (s.Kind == "field") {
		return wrongf("field", "it is for sources of kind field, which need one")
	}
	if s.Field != nil {
		k, err := field.KindOf(s.Field.Kind)
		if err != nil || !k.Free {
			return wrongf("field.kind", "“%s” gives no values of its own; use noise or pattern", s.Field.Kind)
		}
		if w := s.Field.check(); w != nil {
			w.Path = "field." + w.Path
			return w
		}
	}
	return nil
}

// Adjust changes what lies below instead of laying something over it.
type Adjust struct {
	Hue        float32 `json:"hue"`        // degrees; base colour alone, as the next two
	Saturation float32 `json:"saturation"` // −1 to 1
	Lightness  float32 `json:"lightness"`  // −1 to 1
	Contrast   float32 `json:"contrast"`   // −1 to 1
	Low        float32 `json:"low"`        // levels: what becomes 0 and 1
	High       float32 `json:"high"`
	Gamma      float32 `json:"gamma"` // of what lies between
}

// NewAdjust changes nothing.
func NewAdjust() *Adjust { return &Adjust{High: 1, Gamma: 1} }

func (a *Adjust) check() *Wrong {
	for _, v := range []struct {
		name      string
		v         float32
		low, high float32
	}{{"hue", a.Hue, -180, 180}, {"saturation", a.Saturation, -1, 1}, {"lightness", a.Lightness, -1, 1}, {"contrast", a.Contrast, -1, 1}, {"low", a.Low, 0, 1}, {"high", a.High, 0, 1}, {"gamma", a.Gamma, 0.1, 10}} {
		if !(v.v >= v.low && v.v <= v.high) {
			return wrongf(v.name, "%s is %g; it goes from %g to %g", v.name, v.v, v.low, v.high)
		}
	}
	return nil
}

// equal compares two values.
func (v *Value) equal(o *Value) bool {
	same := v.Adjust == nil && o.Adjust == nil || v.Adjust != nil && o.Adjust != nil && *v.Adjust == *o.Adjust
	return same && v.On == o.On && v.Hex == o.Hex && v.Number == o.Number && v.Blend == o.Blend && v.Opacity == o.Opacity && v.Source.equal(o.Source)
}

func (v Value) clone() Value {
	v.Source = v.Source.clone()
	if v.Adjust != nil {
		a := *v.Adjust
		v.Adjust = &a
	}
	return v
}

// Sources lists all sources of what was copied that read a picture.
func (c *Clip) Sources() (out []*Source) {
	take := func(s *Source) {
		if s != nil && s.Picture != "" {
			out = append(out, s)
		}
	}
	where := func(of []Clause) {
		for i := range of {
			take(of[i].Source)
		}
	}
	for i := range c.Layers {
		for _, ch := range Channels {
			take(ch.Of(&c.Layers[i].What).Source)
		}
		where(c.Layers[i].Where)
	}
	where(c.Where)
	return out
}

// Strokes lists the lists of strokes that what was copied holds.
func (c *Clip) Strokes() (out []*Strokes) {
	where := func(of []Clause) {
		for i := range of {
			if len(of[i].Strokes) > 0 {
				out = append(out, &of[i].Strokes)
			}
		}
	}
	for i := range c.Layers {
		where(c.Layers[i].Where)
	}
	where(c.Where)
	return out
}

// Pictures lists the marks of the pictures that a document uses.
func (d *Document) Pictures() (out []string) {
	take := func(s *Source) {
		if s != nil && s.Picture != "" && !slices.Contains(out, s.Picture) {
			out = append(out, s.Picture)
		}
	}
	for i := range d.Layers {
		l := &d.Layers[i]
		for _, ch := range Channels {
			if v := ch.Of(&l.What); v.On {
				take(v.Source)
			}
		}
		for k := range l.Where {
			take(l.Where[k].Source)
		}
	}
	return out
}

// describe is a source in words.
func (s *Source) describe() string {
	switch {
	case s == nil, s.Kind == "picture" && s.Picture == "":
		return "no picture yet"
	case s.Kind == "map":
		return fmt.Sprintf("the baked %s", s.Map)
	}
	return "a picture"
}

// Package strata is the document: an asset's layers, their What and Where, and the rules they keep.
package strata

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"crust/internal/core/field"
	"crust/internal/core/light"
	"crust/internal/core/pixel"
)

// Limits of a document.
const (
	MaxLayers  = 400
	MaxClauses = 24
	MaxName    = 80
)

// Document is the strata of one asset, lowest layer first.
type Document struct {
	Layers []Layer `json:"layers"`
	// Next numbers the layers and clauses made from now on.
	Next int `json:"next"`
	// Look is how the asset is lit, framed and shown; nil as at first. It changes nothing of what is delivered.
	Look *light.Setup `json:"look,omitempty"`
}

// Setup is how the asset is lit, framed and shown.
func (d *Document) Setup() light.Setup {
	if d.Look == nil {
		return light.Default()
	}
	return *d.Look
}

// Layer is a coat: its What goes over everything that its Where lets through. Or it is a group, which holds layers.
type Layer struct {
	ID      string   `json:"id"`
	Name    string   `json:"name"`
	Group   bool     `json:"group,omitempty"`
	In      string   `json:"in,omitempty"`     // mark of the group that holds it
	Finish  *Laid    `json:"finish,omitempty"` // of a group that a finish was laid as
	Blend   string   `json:"blend,omitempty"`  // of a group: how what it holds goes over what lies below, together; none has them do so one by one
	Flat    bool     `json:"flat,omitempty"`   // of a group: what it makes is kept as maps, and what it holds stays as it is
	Hidden  bool     `json:"hidden,omitempty"`
	Locked  bool     `json:"locked,omitempty"`
	Clip    bool     `json:"clip,omitempty"` // it shows only where the layer below does
	Opacity float32  `json:"opacity"`
	Targets []string `json:"targets,omitempty"` // names of sets; none means all
	Parts   []string `json:"parts,omitempty"`   // of the model that it touches; none means all
	What    What     `json:"what"`
	Soften  float32  `json:"soften,omitempty"` // metres over which the finished Where is averaged
	Where   []Clause `json:"where"`
}

// Laid is the finish that a group was laid as, so that its dials can be moved still.
type Laid struct {
	Name     string             `json:"name"`
	Dials    map[string]float64 `json:"dials"`
	Diagonal float64            `json:"diagonal"`        // metres, of the model that it was laid on
	Next     int                `json:"next"`            // where the numbers of its marks begin
	Marks    map[string]string  `json:"marks,omitempty"` // by those that it was laid with: those that its layers and clauses have, in a copy
	Own      json.RawMessage    `json:"own,omitempty"`   // the finish itself, where it is not built in
}

// Mark is the mark that a layer or clause has which was laid with another.
func (l *Laid) Mark(laid string) string {
	if l.Marks == nil {
		return laid
	}
	return l.Marks[laid]
}

// clone returns a deep copy, in which marks are those that copies have; nil marks are the same.
func (l *Laid) clone(marks map[string]string) *Laid {
	if l == nil {
		return nil
	}
	out := *l
	out.Dials, out.Marks = maps.Clone(l.Dials), maps.Clone(l.Marks)
	if marks != nil {
		out.Marks = map[string]string{}
		for was, now := range marks {
			if l.Marks == nil {
				out.Marks[was] = now
				continue
			}
			for first, then := range l.Marks {
				if then == was {
					out.Marks[first] = now
				}
			}
		}
	}
	return &out
}

// MaxOwn bounds, in bytes, what a group keeps of a finish that is not built in.
const MaxOwn = 1 << 20

// What is the values a layer lays down. A channel that is off is left as it is below.
type What struct {
	Colour    Value `json:"colour"`
	Roughness Value `json:"roughness"`
	Metallic  Value `json:"metallic"`
	Height    Value `json:"height"`
	Normal    Value `json:"normal"`
	Emissive  Value `json:"emissive"`
	Opacity   Value `json:"opacity"`
	Occlusion Value `json:"occlusion"`
	Wet       Value `json:"wet"`
}

// Value is what a layer does to one channel.
type Value struct {
	On      bool    `json:"on"`
	Hex     string  `json:"hex,omitempty"` // of colours, sRGB “#rrggbb”
	Number  float32 `json:"number"`        // 0–1; height in millimetres; of normals, how strong they are
	Blend   string  `json:"blend"`
	Opacity float32 `json:"opacity"`
	Source  *Source `json:"source,omitempty"` // in place of hex and number: a value for each place
	Adjust  *Adjust `json:"adjust,omitempty"` // in place of a value: what lies below, changed
}

// Clause is one step of a Where.
type Clause struct {
	ID     string             `json:"id"`
	Kind   string             `json:"kind"`
	Join   string             `json:"join"`
	Off    bool               `json:"off,omitempty"` // it has no say
	Params map[string]float64 `json:"params,omitempty"`
	Parts  []string           `json:"parts,omitempty"`
	Layers []string           `json:"layers,omitempty"` // marks of those that a clause is about
	Source *Source            `json:"source,omitempty"` // of a clause that reads one
	IDs    []string           `json:"ids,omitempty"`    // colours of the baked ID map that a clause is about
	// Strokes are those of a brush clause.
	Strokes Strokes     `json:"strokes,omitempty"`
	Shape   pixel.Shape `json:"shape"`
}

// Channel describes one channel of What for the page and the checks.
type Channel struct {
	Name  string  `json:"name"`
	Label string  `json:"label"`
	Unit  string  `json:"unit"`
	Min   float32 `json:"min"`
	Max   float32 `json:"max"`
	// First is what a fresh layer has.
	First   Value                `json:"first"`
	Colour  bool                 `json:"colour"`            // its values are colours
	Extra   bool                 `json:"extra"`             // few layers use it
	Blends  []string             `json:"blends,omitempty"`  // those that it takes; none means all
	Sources []string             `json:"sources,omitempty"` // likewise
	Adjusts bool                 `json:"adjusts"`           // it can change what lies below
	Of      func(w *What) *Value `json:"-"`
}

// Channels lists the channels in the order of the bench. Occlusion is what the baked one is multiplied by.
var Channels = []Channel{
	{Name: "colour", Label: "Base colour", Max: 1, First: Value{On: true, Hex: "#8a8a86"}, Colour: true, Adjusts: true, Of: func(w *What) *Value { return &w.Colour }},
	{Name: "roughness", Label: "Roughness", Max: 1, First: Value{On: true, Number: 0.6}, Adjusts: true, Of: func(w *What) *Value { return &w.Roughness }},
	{Name: "metallic", Label: "Metallic", Max: 1, Adjusts: true, Of: func(w *What) *Value { return &w.Metallic }},
	{Name: "height", Label: "Height", Unit: "mm", Min: -50, Max: 50, First: Value{Blend: "add"}, Of: func(w *What) *Value { return &w.Height }},
	{Name: "normal", Label: "Normal", Max: 4, First: Value{Number: 1, Blend: "add"}, Extra: true, Blends: []string{"over", "add"}, Sources: []string{"picture"}, Of: func(w *What) *Value { return &w.Normal }},
	{Name: "emissive", Label: "Emissive", Max: 1, First: Value{Hex: "#ffb454"}, Colour: true, Extra: true, Adjusts: true, Of: func(w *What) *Value { return &w.Emissive }},
	{Name: "opacity", Label: "Opacity", Max: 1, First: Value{Number: 0}, Extra: true, Adjusts: true, Of: func(w *What) *Value { return &w.Opacity }},
	{Name: "occlusion", Label: "Occlusion", Max: 1, First: Value{Number: 0.5, Blend: "multiply"}, Extra: true, Adjusts: true, Of: func(w *What) *Value { return &w.Occlusion }},
	{Name: "wet", Label: "Wet", Max: 1, First: Value{Number: 1}, Extra: true, Adjusts: true, Of: func(w *What) *Value { return &w.Wet }},
}

// first is the channel's value in a fresh layer, off where only some layers use it.
func (ch *Channel) first() Value {
	v := ch.First
	v.Blend, v.Opacity = cmp.Or(v.Blend, "over"), 1
	return v
}

// ChannelOf finds a channel by name, nil when there is none.
func ChannelOf(name string) *Channel {
	if i := slices.IndexFunc(Channels, func(c Channel) bool { return c.Name == name }); i >= 0 {
		return &Channels[i]
	}
	return nil
}

// Uses tells whether some layer lays a channel down.
func (d *Document) Uses(channel string) bool {
	ch := ChannelOf(channel)
	return ch != nil && slices.ContainsFunc(d.Layers, func(l Layer) bool { v := ch.Of(&l.What); return v.On && v.Opacity > 0 })
}

// Join is a way in which a clause joins the ones before it.
type Join struct {
	Name   string     `json:"name"`
	Label  string     `json:"label"`
	Kernel pixel.Join `json:"-"`
}

// Joins lists the joins in the order in which they are offered.
var Joins = []Join{
	{"and", "and", pixel.JoinAnd},
	{"or", "or", pixel.JoinOr},
	{"plus", "plus", pixel.JoinPlus},
	{"minus", "minus", pixel.JoinMinus},
	{"higher", "higher", pixel.JoinHigher},
	{"lower", "lower", pixel.JoinLower},
	{"replace", "replace", pixel.JoinReplace},
}

// JoinOf finds a join by name.
func JoinOf(name string) (Join, error) {
	for _, j := range Joins {
		if j.Name == name {
			return j, nil
		}
	}
	var names []string
	for _, j := range Joins {
		names = append(names, j.Name)
	}
	return Join{}, fmt.Errorf("“%s” is not a join; use %s", name, strings.Join(names, ", "))
}

// NewLayer returns a visible coat that lays down colour and roughness everywhere.
func (d *Document) NewLayer(name string) Layer {
	l := Layer{ID: d.id("l"), Name: name, Opacity: 1, Where: []Clause{}}
	l.What.settle()
	for _, ch := range Channels {
		ch.Of(&l.What).On = ch.First.On
	}
	return l
}

// settle gives channels that say nothing, as in documents from before there were as many, what a fresh layer has; off.
func (w *What) settle() {
	for _, ch := range Channels {
		if v := ch.Of(w); v.equal(&Value{}) {
			*v = ch.first()
			v.On = false
		}
	}
}

// NewClause returns a clause of the kind with its defaults.
func (d *Document) NewClause(kind string) (Clause, error) {
	k, err := field.KindOf(kind)
	if err != nil {
		return Clause{}, err
	}
	c := Clause{ID: d.id("c"), Kind: kind, Join: cmp.Or(k.Join, "and"), Shape: pixel.NewShape()}
	for _, p := range k.Params {
		if c.Params == nil {
			c.Params = map[string]float64{}
		}
		c.Params[p.Name] = p.Default
	}
	return c, nil
}

// suits is the diagonal of a model, in metres, that defaults of lengths suit.
const suits = 2.5

// Fit is how much longer than their defaults the lengths of new clauses and pictures are on a model, by its diagonal in metres: 1 up
// to three times as large or small as the defaults suit, and 1, 2 or 5 times a power of ten beyond, so that what is new shows on
// a coin as on a ship.
func Fit(diagonal float64) float64 {
	by := diagonal / suits
	if !(by > 0) || by > 1./3 && by < 3 {
		return 1
	}
	ten := math.Pow(10, math.Floor(math.Log10(by)))
	near := ten
	for _, x := range []float64{2 * ten, 5 * ten, 10 * ten} {
		if math.Abs(math.Log(by/x)) < math.Abs(math.Log(by/near)) {
			near = x
		}
	}
	return near
}

// First is what a length that fits begins at, to three digits.
func First(p *field.Param, fit float64) float64 {
	v := p.Default * fit
	if v != 0 {
		ten := math.Pow(10, 2-math.Floor(math.Log10(math.Abs(v))))
		v = math.Round(v*ten) / ten
	}
	return min(p.Max, max(p.Min, v))
}

// Mark gives a mark that no layer or clause of the document has had.
func (d *Document) Mark(prefix string) string { return d.id(prefix) }

func (d *Document) id(prefix string) string {
	d.Next++
	return fmt.Sprintf("%s%d", prefix, d.Next)
}

// Clone returns a deep copy.
func (d *Document) Clone() *Document {
	out := *d
	out.Layers = make([]Layer, len(d.Layers))
	for i, l := range d.Layers {
		out.Layers[i] = l.clone()
	}
	out.Look = d.Look.Clone()
	return &out
}

func (l Layer) clone() Layer {
	l.Targets, l.Parts, l.Finish = slices.Clone(l.Targets), slices.Clone(l.Parts), l.Finish.clone(nil)
	for _, ch := range Channels {
		v := ch.Of(&l.What)
		*v = v.clone()
	}
	where := make([]Clause, len(l.Where))
	for i, c := range l.Where {
		where[i] = c.clone()
	}
	l.Where = where
	return l
}

func (c Clause) clone() Clause {
	c.Params, c.Source = maps.Clone(c.Params), c.Source.clone()
	c.Parts, c.Layers, c.IDs = slices.Clone(c.Parts), slices.Clone(c.Layers), slices.Clone(c.IDs)
	return c
}

// Layer finds a layer and its place by ID.
func (d *Document) Layer(id string) (*Layer, int, error) {
	for i := range d.Layers {
		if d.Layers[i].ID == id {
			return &d.Layers[i], i, nil
		}
	}
	return nil, 0, fmt.Errorf("there is no layer %s any more", id)
}

// Base is the place of the layer that layer i is clipped to: the next below in the same group that is not clipped itself; −1
// when layer i is not clipped, or nothing lies below.
func (d *Document) Base(i int) int {
	l := &d.Layers[i]
	if !l.Clip {
		return -1
	}
	for i--; i >= 0 && (d.Layers[i].Clip || d.Layers[i].In != l.In); i-- {
	}
	return i
}

// Named finds a layer by its name, the lowest of those that share it.
func (d *Document) Named(name string) (*Layer, error) {
	for i := range d.Layers {
		if d.Layers[i].Name == name {
			return &d.Layers[i], nil
		}
	}
	return nil, fmt.Errorf("there is no layer “%s”", name)
}

// Values returns the clause's parameters in the order of its kind.
func (c *Clause) Values(k *field.Kind) []float64 {
	out := make([]float64, len(k.Params))
	for i, p := range k.Params {
		out[i] = p.Default
		if v, ok := c.Params[p.Name]; ok {
			out[i] = v
		}
	}
	return out
}

// Relief tells whether the clause reads the height that layers below its own lay down.
func (c *Clause) Relief() bool {
	k, err := field.KindOf(c.Kind)
	return err == nil && (k.Needs&field.NeedHeight != 0 || k.Tilted != nil && k.Tilted(c.Values(k)))
}

// Parse reads a document and checks it.
func Parse(data []byte) (*Document, error) {
	d := new(Document)
	if err := json.Unmarshal(data, d); err != nil {
		var kind *json.UnmarshalTypeError
		if errors.As(err, &kind) {
			return nil, fmt.Errorf("the layers cannot be read: “%s” holds a %s, which does not belong there", kind.Field, kind.Value)
		}
		return nil, errors.New("the layers cannot be read: they are no sound JSON")
	}
	d.settle()
	return d, d.Check()
}

// Wrong is what is wrong with a document: where, for files, and in which layer, for people at the page.
type Wrong struct {
	Path  string // like “layers[3].where[0].params.size”
	Layer string // its name, empty when it concerns no single one
	Err   error
}

func (w *Wrong) Error() string {
	if w.Layer == "" {
		return w.Err.Error()
	}
	return fmt.Sprintf("layer “%s”: %v", w.Layer, w.Err)
}

func (w *Wrong) Unwrap() error { return w.Err }

// wrongf is a Wrong within a layer.
func wrongf(path, format string, args ...any) *Wrong {
	return &Wrong{Path: path, Err: fmt.Errorf(format, args...)}
}

// Check says the first thing that is wrong with the document, as a *Wrong.
func (d *Document) Check() error {
	if len(d.Layers) > MaxLayers {
		return wrongf("layers", "%d layers are more than %d", len(d.Layers), MaxLayers)
	}
	if d.Look != nil {
		if err := d.Look.Check(); err != nil {
			return &Wrong{Path: "look", Err: err}
		}
	}
	seen := map[string]bool{}
	for i := range d.Layers {
		l := &d.Layers[i]
		path := fmt.Sprintf("layers[%d].", i)
		if seen[l.ID] || l.ID == "" {
			return wrongf(path+"id", "two layers share the mark “%s”", l.ID)
		}
		seen[l.ID] = true
		if w := l.check(); w != nil {
			w.Path, w.Layer = path+w.Path, l.Name
			return w
		}
	}
	return nil
}

func (l *Layer) check() *Wrong {
	if n := strings.TrimSpace(l.Name); n == "" || len(l.Name) > MaxName {
		return wrongf("name", "a name has 1 to %d letters", MaxName)
	}
	if !(l.Opacity >= 0 && l.Opacity <= 1) {
		return wrongf("opacity", "opacity is %g; it goes from 0 to 1", l.Opacity)
	}
	for _, ch := range Channels {
		v, path := ch.Of(&l.What), "what."+ch.Name+"."
		if v.On && l.Group {
			return wrongf(path+"on", "a group lays nothing down itself; its layers do")
		}
		if _, err := pixel.BlendOf(v.Blend); err != nil {
			return wrongf(path+"blend", "%s: %w", ch.Label, err)
		}
		if ch.Blends != nil && v.Blend != "" && !slices.Contains(ch.Blends, v.Blend) {
			return wrongf(path+"blend", "%s: “%s” is not for it; use %s", ch.Label, v.Blend, strings.Join(ch.Blends, ", "))
		}
		if !(v.Number >= ch.Min && v.Number <= ch.Max) {
			return wrongf(path+"number", "%s is %g; it goes from %g to %g", ch.Label, v.Number, ch.Min, ch.Max)
		}
		if v.Source != nil {
			if w := v.Source.check(ch.Min, ch.Max); w != nil {
				w.Path = path + "source." + w.Path
				return w
			}
			if ch.Sources != nil && !slices.Contains(ch.Sources, v.Source.Kind) {
				return wrongf(path+"source.kind", "%s: “%s” is not for it; use %s", ch.Label, v.Source.Kind, strings.Join(ch.Sources, ", "))
			}
		}
		if v.Adjust != nil && !ch.Adjusts {
			return wrongf(path+"adjust", "%s has no adjustment; lay one that adds", ch.Label)
		}
		if v.On && ch.Colour && (v.Hex != "" || v.Source == nil && v.Adjust == nil) {
			if _, err := ParseHex(v.Hex); err != nil {
				return &Wrong{Path: path + "hex", Err: err}
			}
		}
		if v.Adjust != nil {
			if w := v.Adjust.check(); w != nil {
				w.Path = path + "adjust." + w.Path
				return w
			}
		}
		if !(v.Opacity >= 0 && v.Opacity <= 1) {
			return wrongf(path+"opacity", "%s: opacity is %g; it goes from 0 to 1", ch.Label, v.Opacity)
		}
	}
	if _, err := pixel.BlendOf(l.Blend); err != nil {
		return &Wrong{Path: "blend", Err: err}
	}
	if l.Blend != "" && !l.Group {
		return wrongf("blend", "it is for groups; a coat has one for each channel")
	}
	if l.Flat && !l.Group {
		return wrongf("flat", "it is for groups")
	}
	if l.Finish != nil && (!l.Group || len(l.Finish.Own) > MaxOwn) {
		return wrongf("finish", "a finish is a group, and has at most %d kB", MaxOwn>>10)
	}
	if !(l.Soften >= 0 && l.Soften <= pixel.MaxSoften) {
		return wrongf("soften", "soften is %g; it goes from 0 to %d m", l.Soften, pixel.MaxSoften)
	}
	if len(l.Where) > MaxClauses {
		return wrongf("where", "%d clauses are more than %d", len(l.Where), MaxClauses)
	}
	for i := range l.Where {
		if w := l.Where[i].check(); w != nil {
			w.Path = fmt.Sprintf("where[%d].%s", i, w.Path)
			return w
		}
	}
	return nil
}

func (c *Clause) check() *Wrong {
	k, err := field.KindOf(c.Kind)
	if err != nil {
		return &Wrong{Path: "kind", Err: err}
	}
	if _, err := JoinOf(c.Join); err != nil {
		return &Wrong{Path: "join", Err: err}
	}
	if err := c.Shape.Check(); err != nil {
		return wrongf("shape", "%s: %w", k.Label, err)
	}
	if c.Shape.Warp > 0 && !k.Warps {
		return wrongf("shape.warp", "%s has no warp: it is known only of the place itself", k.Label)
	}
	if c.Source != nil {
		if w := c.Source.check(-1e6, 1e6); w != nil {
			w.Path = "source." + w.Path
			return w
		}
	}
	if len(c.Strokes) > MaxStrokes || len(c.Strokes) > 0 && !k.Strokes {
		return wrongf("strokes", "%s: strokes are for a brush clause, up to %d of them", k.Label, MaxStrokes)
	}
	for _, hex := range c.IDs {
		if _, err := ParseHex(hex); err != nil {
			return &Wrong{Path: "ids", Err: err}
		}
	}
	for i, v := range c.Values(k) {
		p := k.Params[i]
		if !(v >= p.Min && v <= p.Max) || (p.Whole && v != float64(int(v))) {
			return wrongf("params."+p.Name, "%s: %s is %g; it goes from %g to %g", k.Label, p.Label, v, p.Min, p.Max)
		}
	}
	return nil
}

// ParseHex reads “#rrggbb” as three sRGB values in 0–1.
func ParseHex(s string) (out [3]float32, err error) {
	v, err := strconv.ParseUint(strings.TrimPrefix(s, "#"), 16, 32)
	if err != nil || len(s) != 7 || s[0] != '#' {
		return out, fmt.Errorf("“%s” is not a colour; write it as #rrggbb", s)
	}
	for k := range out {
		out[k] = float32(uint8(v>>(16-8*k))) / 255
	}
	return out, nil
}

// Reading is the plain sentence for the Where of a layer.
func (d *Document) Reading(l *Layer) string {
	words := d.reading(l)
	i := slices.IndexFunc(d.Layers, func(o Layer) bool { return o.ID == l.ID })
	if i < 0 {
		return words
	}
	if l.Group {
		words = strings.TrimSuffix(d.holds(i)+", "+words, ", everywhere")
	}
	if n := len(l.Parts); n > 3 {
		words = fmt.Sprintf("on %d parts, %s", n, words)
	} else if n > 0 {
		words = fmt.Sprintf("on %s, %s", strings.ReplaceAll(strings.Join(l.Parts, ", "), "_", " "), words)
	}
	if b := d.Base(i); b >= 0 {
		return fmt.Sprintf("on “%s”, %s", d.Layers[b].Name, words)
	}
	return words
}

// holds says how many layers a group has.
func (d *Document) holds(i int) string {
	switch n := len(d.Tree().Holds(i)); n {
	case 0:
		return "holds no layers yet"
	case 1:
		return "1 layer"
	default:
		return fmt.Sprintf("%d layers", n)
	}
}

func (d *Document) reading(l *Layer) string {
	var words []string
	for i := range l.Where {
		c := &l.Where[i]
		k, err := field.KindOf(c.Kind)
		if err != nil || c.Off {
			continue
		}
		names := c.Parts
		switch {
		case k.Layers || k.Layer:
			names = d.names(l, c.Layers, k)
		case k.Source:
			names = []string{c.Source.describe()}
		case k.IDs:
			names = c.IDs
		}
		w := k.Words(c.Values(k), names, c.Shape.Invert)
		if len(words) > 0 {
			switch c.Join {
			case "or", "plus", "higher":
				w = "also " + w
			case "minus":
				w = "but not " + strings.TrimPrefix(w, "only ")
			case "replace":
				words = nil
			}
		}
		words = append(words, w)
	}
	if words == nil {
		return "everywhere"
	}
	return strings.Join(words, ", ")
}

// names are those of layers that a clause of layer l is about, with what keeps it from seeing them.
func (d *Document) names(l *Layer, marks []string, k *field.Kind) (out []string) {
	tree, end := d.Tree(), len(d.Layers)
	if _, i, err := d.Layer(l.ID); err == nil {
		end = tree.First[i]
	}
	seen := map[string]string{}
	for i := range d.Layers {
		o := &d.Layers[i]
		below := i < end
		name := "“" + o.Name + "”"
		switch {
		case !below:
			name += " (not below, so not seen)"
		case k.Layer:
		case o.Hidden:
			name += " (hidden)"
		case !o.What.Height.On && !o.Group:
			name += " (lays down no height)"
		}
		seen[o.ID] = name
	}
	for _, m := range marks {
		if seen[m] == "" {
			seen[m] = "a layer that is gone"
		}
		out = append(out, seen[m])
	}
	return out
}

package strata

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strings"

	"crust/internal/core/brush"
	"crust/internal/core/field"
	"crust/internal/core/letters"
	"crust/internal/core/light"
	"crust/internal/core/pixel"
	"crust/internal/core/plain"
)

// MaxFileBytes bounds a document's file.
const MaxFileBytes = 64 << 20

// ParseFile reads a document that a person or a program has written (docs/strata.md). What is left out stands at its
// default, marks are given where they are missing, and what is wrong is named by its path. Strokes, which a file holds in full,
// come beside the document, in which their numbers stand.
func ParseFile(data []byte) (d *Document, painted Painting, err error) {
	defer plain.Speak(&err)
	if len(data) > MaxFileBytes {
		return nil, nil, fmt.Errorf("the document has %d MB; %d MB is the limit", len(data)>>20, MaxFileBytes>>20)
	}
	r := json.NewDecoder(bytes.NewReader(data))
	var tree any
	if err := r.Decode(&tree); err != nil {
		return nil, nil, plain.JSON(err)
	}
	if _, err := r.Token(); err != io.EOF {
		return nil, nil, fmt.Errorf("byte %d: more follows the document", r.InputOffset())
	}
	if painted, err = pull(tree); err != nil {
		return nil, nil, err
	}
	if err := fits(tree, reflect.TypeFor[Document](), ""); err != nil {
		return nil, nil, err
	}
	d = &Document{Layers: []Layer{}}
	root := tree.(map[string]any)
	for i, l := range list(root["layers"]) {
		layer, err := defaults(l.(map[string]any))
		if err != nil {
			return nil, nil, fmt.Errorf("layers[%d].%w", i, err)
		}
		d.Layers = append(d.Layers, layer)
	}
	if l, ok := root["look"].(map[string]any); ok {
		setup := light.Default()
		if err := json.Unmarshal(encode(l), &setup); err != nil {
			return nil, nil, errors.New("look: it cannot be understood")
		}
		d.Look = &setup
	}
	if n, ok := root["next"].(float64); ok {
		d.Next = int(n)
	}
	d.mark()
	for i := range d.Layers {
		if l := &d.Layers[i]; l.In != "" {
			if g, _, err := d.Layer(l.In); err != nil || !g.Group || g == l {
				return nil, nil, fmt.Errorf("layers[%d].in: “%s” is the mark of no group", i, l.In)
			}
		}
	}
	d.settle()
	if err := d.Check(); err != nil {
		var w *Wrong
		if errors.As(err, &w) && w.Path != "" {
			return nil, nil, fmt.Errorf("%s: %w", w.Path, w.Err)
		}
		return nil, nil, err
	}
	return d, painted, nil
}

func list(v any) []any {
	out, _ := v.([]any)
	return out
}

// fits tells where a tree of JSON values does not fit a type: fields that are not known, values of another kind.
func fits(v any, t reflect.Type, path string) error {
	at := func(format string, args ...any) error {
		return fmt.Errorf("%s: %s", strings.TrimPrefix(path, "."), fmt.Sprintf(format, args...))
	}
	kind := func(want string) error {
		is := map[reflect.Kind]string{reflect.Invalid: "nothing", reflect.Map: "an object", reflect.Slice: "a list", reflect.String: "text", reflect.Bool: "true or false", reflect.Float64: "a number"}
		return at("%s stands where %s belongs", is[reflect.ValueOf(v).Kind()], want)
	}
	if t == reflect.TypeFor[Strokes]() {
		t = reflect.TypeFor[string]()
	}
	if t == reflect.TypeFor[json.RawMessage]() {
		return nil // whoever it is for reads it
	}
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if v == nil && (t.Kind() == reflect.Slice || t.Kind() == reflect.Map) {
		return nil // as empty lists are written by some
	}
	switch t.Kind() {
	case reflect.Struct:
		m, ok := v.(map[string]any)
		if !ok {
			if path == "" {
				return errors.New("the document is an object with “layers”")
			}
			return kind("an object")
		}
		known := map[string]reflect.Type{}
		var names []string
		for i := range t.NumField() {
			name, _, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
			known[name] = t.Field(i).Type
			names = append(names, name)
		}
		for _, key := range sortedKeys(m) {
			ft, ok := known[key]
			if !ok {
				return at("“%s” is not known here; use %s", key, strings.Join(names, ", "))
			}
			if err := fits(m[key], ft, path+"."+key); err != nil {
				return err
			}
		}
	case reflect.Slice:
		l, ok := v.([]any)
		if !ok {
			return kind("a list")
		}
		for i, x := range l {
			if err := fits(x, t.Elem(), fmt.Sprintf("%s[%d]", path, i)); err != nil {
				return err
			}
		}
	case reflect.Array:
		l, ok := v.([]any)
		if !ok || len(l) != t.Len() {
			return at("a list of %d numbers belongs here", t.Len())
		}
		for i, x := range l {
			if err := fits(x, t.Elem(), fmt.Sprintf("%s[%d]", path, i)); err != nil {
				return err
			}
		}
	case reflect.Map:
		m, ok := v.(map[string]any)
		if !ok {
			return kind("an object")
		}
		for _, key := range sortedKeys(m) {
			if err := fits(m[key], t.Elem(), path+"."+key); err != nil {
				return err
			}
		}
	case reflect.String:
		if _, ok := v.(string); !ok {
			return kind("text")
		}
	case reflect.Bool:
		if _, ok := v.(bool); !ok {
			return kind("true or false")
		}
	case reflect.Int:
		if n, ok := v.(float64); !ok || n != float64(int(n)) {
			return kind("a whole number")
		}
	default:
		if _, ok := v.(float64); !ok {
			return kind("a number")
		}
	}
	return nil
}

func sortedKeys(m map[string]any) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// defaults reads a layer over the values that stand where nothing is given.
func defaults(tree map[string]any) (Layer, error) {
	l := Layer{Name: "Coat", Opacity: 1, Where: []Clause{}}
	for _, ch := range Channels {
		*ch.Of(&l.What) = Value{Blend: "over", Opacity: 1}
		if ch.Extra {
			*ch.Of(&l.What) = ch.first()
		}
	}
	where := list(tree["where"])
	delete(tree, "where")
	if what, ok := tree["what"].(map[string]any); ok {
		for name, v := range what {
			if v, ok := v.(map[string]any); ok && v["on"] == nil {
				what[name].(map[string]any)["on"] = true // a channel that is given is on unless it says not
			}
		}
	}
	if err := into(tree, &l); err != nil {
		return l, err
	}
	for i, c := range where {
		clause := Clause{Join: "and", Shape: pixel.NewShape()}
		m := c.(map[string]any)
		if err := into(m, &clause); err != nil {
			return l, err
		}
		k, err := field.KindOf(clause.Kind)
		if err != nil {
			return l, fmt.Errorf("where[%d].kind: %w", i, err)
		}
		for _, name := range sortedKeys(orEmpty(m["params"])) {
			if !slices.ContainsFunc(k.Params, func(p field.Param) bool { return p.Name == name }) {
				return l, fmt.Errorf("where[%d].params.%s: %s has no such parameter", i, name, k.Label)
			}
		}
		l.Where = append(l.Where, clause)
	}
	return l, nil
}

func orEmpty(v any) map[string]any {
	m, _ := v.(map[string]any)
	return m
}

// into decodes a tree, which fits, over what is there.
func into(tree any, v any) error {
	text, err := json.Marshal(tree)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(text, v); err != nil {
		return plain.JSON(err)
	}
	return nil
}

// mark gives marks to layers and clauses that have none, beyond all that are there.
func (d *Document) mark() {
	var marks []string
	for i := range d.Layers {
		marks = append(marks, d.Layers[i].ID)
		for _, c := range d.Layers[i].Where {
			marks = append(marks, c.ID)
		}
	}
	fresh := func(prefix string) string {
		for {
			if id := d.id(prefix); !slices.Contains(marks, id) {
				return id
			}
		}
	}
	for i := range d.Layers {
		l := &d.Layers[i]
		if l.ID == "" {
			l.ID = fresh("l")
		}
		for k := range l.Where {
			if l.Where[k].ID == "" {
				l.Where[k].ID = fresh("c")
			}
		}
	}
}

// Reference is docs/strata.md: the document's JSON with every kind, parameter, unit and range, made from the tables.
func Reference() string {
	var b strings.Builder
	p := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	p("# The strata as a file\n")
	p("`crust strata ASSET` writes an asset's document; `crust deliver MODEL --strata FILE.json` takes one. It is a JSON object. What is left out stands at its default; names that are not known are refused, with their path.\n")
	p("```json")
	p(`{"layers": [{"name": "Steel", "what": {"colour": {"hex": "#8a8a86"}, "metallic": {"number": 1}}},`)
	p(`            {"name": "Paint", "what": {"colour": {"hex": "#b03a2e"}, "height": {"number": 0.1, "blend": "add"}},`)
	p(`             "where": [{"kind": "edges", "shape": {"low": 0.1, "high": 0.3, "invert": true}},`)
	p(`                       {"kind": "noise", "join": "or", "params": {"size": 0.05}, "shape": {"low": 0.4, "high": 0.6}}]}]}`)
	p("```\n")
	p("## layers, the lowest first, up to %d\n", MaxLayers)
	p("| field | holds | default |\n|---|---|---|")
	p("| `id` | a mark of its own, like `l7` | given |")
	p("| `name` | 1 to %d letters | Coat |", MaxName)
	p("| `group` | true for a group, which holds layers and lays nothing down itself | false |")
	p("| `in` | mark of the group that holds it; what a group holds lies right below it | none |")
	p("| `blend` | of a group: how what it holds, laid over nothing first, goes over what lies below; none has its layers go over that one by one | none |")
	p("| `flat` | of a group: true when what it makes is kept as maps, so that what it holds is not evaluated again; what it holds is locked meanwhile | false |")
	p("| `finish` | of a group that a finish was laid as: what its dials stand at; written by the program | none |")
	p("| `hidden` | true or false | false |")
	p("| `locked` | true when nothing may change it until it is unlocked | false |")
	p("| `clip` | true when it shows only where the layer below does, which is not clipped itself | false |")
	p("| `opacity` | 0 to 1 | 1 |")
	p("| `targets` | names of the sets that it touches; none means all | all |")
	p("| `parts` | names of the parts of the model that it touches, within its sets; none means all | all |")
	p("| `soften` | metres over which its finished Where is averaged along the surface, 0 to %d | 0 |", pixel.MaxSoften)
	p("| `what` | what it lays down, by channel | nothing |")
	p("| `where` | a list of up to %d clauses | everywhere |\n", MaxClauses)
	p("## what: a channel\n")
	p("| channel | `number` | unit |\n|---|---|---|")
	for _, ch := range Channels {
		switch {
		case ch.Colour:
			p("| `%s` | `hex` instead: sRGB as #rrggbb | – |", ch.Name)
		case ch.Sources != nil:
			p("| `%s` | how strong its `source` is, %g to %g | – |", ch.Name, ch.Min, ch.Max)
		default:
			p("| `%s` | %g to %g | %s |", ch.Name, ch.Min, ch.Max, orDash(ch.Unit))
		}
	}
	p("\nEach also has `on` (true when the channel is given), `opacity` (0 to 1, default 1) and `blend`:\n")
	var names []string
	for _, m := range pixel.Blends {
		names = append(names, "`"+m.Name+"`")
	}
	p("%s; default `over`.\n", strings.Join(names, ", "))
	for _, ch := range Channels {
		if f := ch.first(); ch.Extra {
			p("- `%s` where it is not said: %s.", ch.Name, extraWords(&ch, f))
		}
	}
	p("\n`occlusion` is what the baked occlusion is multiplied by. `wet` is how much of a film of water there is: it makes base colour darker and the surface smooth, in all that is delivered. `normal` takes a normal map as `source`: `add` lays it over the normals below by reoriented mapping, `over` puts it in their place.\n")
	p("In place of a number or colour a channel may have a `source`, which gives each place a value of its own, or `adjust`, which changes what lies below.\n")
	p("| `source` | holds | default |\n|---|---|---|")
	for _, k := range SourceKinds {
		p("| `kind`: `%s` | %s | – |", k.Name, k.Help)
	}
	p("| `picture` | mark of one of the asset's pictures; for `crust deliver --strata` the picture's file, counted from where the strata's lies | – |")
	p("| `map` | a baked map, like `ao` or `id` | – |")
	p("| `field` | a clause of `noise` or `pattern`, as below | – |")
	p("| `of` | what is read of a picture or map: %s; of a normal map: %s | colour for colours, grey else, green up |", strings.Join(Of, ", "), strings.Join(NormalOf, ", "))
	p("| `low`, `high` | what 0 and 1 become, in the channel's unit; not for colours | 0, 1 |")
	p("| `ramp` | up to %d colours `{\"at\": 0.5, \"hex\": \"#a08060\"}` in order, for base colour from one value | black to white |", maxStops)
	p("| `lay` | how a picture is laid, by the numbers below | each its own |\n")
	params(p, Laying)
	p("| `adjust` | from | to | default |\n|---|---|---|---|")
	p("| `hue` | -180 | 180 | 0 |\n| `saturation`, `lightness`, `contrast` | -1 | 1 | 0 |\n| `low`, `high`: levels that become 0 and 1 | 0 | 1 | 0, 1 |\n| `gamma` of what lies between | 0.1 | 10 | 1 |\n")
	names = nil
	for _, j := range Joins {
		names = append(names, "`"+j.Name+"`")
	}
	p("## where: a clause\n")
	p("| field | holds | default |\n|---|---|---|")
	p("| `id` | a mark of its own | given |")
	p("| `kind` | one of those below | – |")
	p("| `join` | how it joins the clauses before it: %s | `and` |", strings.Join(names, ", "))
	p("| `off` | true when it has no say | false |")
	p("| `params` | numbers by name, as below | each its own |")
	p("| `parts` | names of parts of the model, for `parts` | none |")
	p("| `layers` | marks of layers: for `relief` of only these or of all but these; for `same` the one below whose Where it is | none |")
	p("| `source` | a picture, as for a channel, for `picture` | none |")
	p("| `ids` | colours of the ID map as #rrggbb, for `id` | none |")
	p("| `strokes` | of `brush`: a list of strokes, as below, in the order in which they are laid | none |")
	p("| `shape` | `low`, `high`: field values that become 0 and 1; `balance`, `contrast`, `strength`: all 0 to 1; `invert`; `soften`: metres, 0 to %d; `warp`: metres by which a noise of `waves` metres (0: five times as many) pushes the place that is read about, for kinds that say so | 0, 1, 0.5, 0, 1, false, 0, 0, 0 |\n", pixel.MaxSoften)
	strokeReference(p)
	p("## kinds\n")
	for i := range field.Kinds {
		k := &field.Kinds[i]
		p("### %s: %s\n", k.Name, k.Help)
		if k.Warps {
			p("Takes a warp.\n")
		}
		if len(k.Params) == 0 {
			p("No parameters.\n")
			continue
		}
		params(p, k.Params)
	}
	p("\n## look: how the asset is lit, framed and shown; it changes nothing of what is delivered\n")
	p("| field | holds | default |\n|---|---|---|")
	var skies []string
	for _, s := range light.All {
		skies = append(skies, "`"+s.Name+"` ("+s.Help+")")
	}
	p("| `sky` | the surroundings: %s; or `picture:` and the mark of a picture | %s |", strings.Join(skies, "; "), light.All[0].Name)
	p("| `turn`, `strength`, `exposure` | degrees about the upright axis; times as bright; stops brighter | 0, 1, 0 |")
	p("| `backdrop` | `kind`: %s or %s; `hex`; `blur`, 0 to 1, and `dim`, times, of the surroundings; `ground`: a shadow below the model | %s |", light.BackColour, light.BackSky, light.BackColour)
	p("| `lamps` | up to %d: `name`; `kind`: %s; `at` and `aim` in metres; `kelvin`, %d to %d; `strength` in lumens, of a sun in lux; `wide` and `high` in metres (an area without `high` is a disk); `cone` in degrees and `soft`, 0 to 1, of a spot; `off` | none |", light.MaxLamps, strings.Join(light.Kinds, ", "), light.LeastKelvin, light.MostKelvin)
	p("| `frames` | up to %d: `name`; `eye` and `at` in metres; `mm`, focal length for a film of 24 × 36 mm along the longer side; `wide` and `high`, the proportion | none |", light.MaxFrames)
	p("| `surface` | `shape`, times the height moves the surface in stills; `cut`, opacity below which it is cut away, 0 has it fade; `glow`, times what it emits; `halo`, 0 to 1, how much of that spreads round it; `both`: true when faces are seen from behind too | 1, 0.5, 1, 0.3, false |")
	p("| `card` | name of the frame that Home shows | the view that was last |")
	return b.String()
}

// strokeReference says how strokes are written.
func strokeReference(p func(format string, args ...any)) {
	p("## strokes\n")
	p("```json")
	p(`{"kind": "brush", "strokes": [{"brush": "Round, hard", "size": 0.02, "paths": [[[0, 1, 0.25, 0, 0, 1, 1], [0.1, 1, 0.25, 0, 0, 1, 0.6]]]}]}`)
	p("```\n")
	p("| field | holds | default |\n|---|---|---|")
	p("| `brush` | the name of a brush that ships, or an object with its numbers, as below | round |")
	p("| `size` | metres across at full pressure, %g to %g | – |", brush.MinSize, brush.MaxSize)
	p("| `erase` | true when it takes away | false |")
	p("| `seed` | a whole number that its chances come from | 0 |")
	p("| `hold` | where alone it paints: `part`, `set` (its key), `angle` (degrees that a face may turn away from where the stroke began), `front` and `eye` (what faces that place), `seen` and `eye` (what faces it and has nothing of the model before it), `island` and `id` (the UV island, and the colour of the ID map, that it began on) | everywhere |")
	p("| `mirror` | `x`, `y`, `z`: true to make it again across that plane; `turns`: so many all round the upright axis, up to %d; `centre`: [x, y, z] | none |", brush.MaxTurns)
	p("| `fill` | what it covers all of, from its first point: %s | nothing |", strings.Join(brush.Fills[1:], ", "))
	p("| `values` | what it lays down in place of its layer’s values: `colour` as #rrggbb, `roughness`, `metallic` (0 to 1), `height` (mm, -%d to %d) | its layer’s |", brush.HeightLimit, brush.HeightLimit)
	p("| `stamp` | it is placed, where its path begins, and not drawn: `text` (`words`, with \\n between lines; `font`: %s; `apart`: room between letters in heights of a capital; `stencil`; `side`: left or right) in place of the tip, and `size` is then the height of capitals; `straight`: true to go straight down and not to wrap; `depth`: metres that the surface may lie off, 0 for half the stamp’s smaller side; `gap`: metres from one to the next in a row along the path | none |", strings.Join(fontNames(), ", "))
	p("| `stencil` | a picture that lay over the view, through which it is laid: `alpha` (hash of one of the alphas), `through` (twelve numbers, row by row: they take x, y, z, 1 to u·w, v·w, w; u and v go from -1 to 1 over the picture), `repeat`, `invert` | none |")
	p("| `work` | what it does with what was painted before it in its clause, in place of painting: %s | paints |", strings.Join(brush.Works[1:], ", "))
	p("| `source` | for `clone`: the place that it takes from, as a point of a path | none |")
	p("| `hidden` | true when it is kept and not laid | false |")
	p("| `paths` | a list of points for each time that the pen came down: [x, y, z, nx, ny, nz, pressure], the place on the model in metres, the surface’s normal there, 0 to 1; for a pen that leans also lx, ly, lz, which way, of the length of the sine of how far; up to %d | – |\n", brush.MaxPoints)
	var names []string
	for _, b := range brush.Built {
		names = append(names, b.Name)
	}
	p("Brushes that ship: %s.\n", strings.Join(names, "; "))
	names = nil
	for _, t := range brush.Tips {
		names = append(names, "`"+t.Name+"`")
	}
	p("A brush has a `name`, a `tip` (%s) and the numbers below; one whose tip is a picture also `alpha`, the hash of one of the document’s `alphas`: an object that has for each hash `side`, a power of two up to %d, and `grey`, side × side bytes in base64 from the top left; for stamps with colours also `colour`, three bytes in sRGB for each of `grey`, or with `normal`: true those of a normal map, green up, and a side up to %d.\n", strings.Join(names, ", "), brush.MaxAlpha, brush.MaxDecal)
	p("| number | from | to | default | what it says |\n|---|---|---|---|---|")
	for _, q := range brush.Params {
		words := q.Help
		if len(q.Choices) > 0 {
			words += ": "
			for n, name := range q.Choices {
				words += fmt.Sprintf("%d %s; ", n, name)
			}
			words = strings.TrimSuffix(words, "; ")
		}
		if q.Group == "chance" || q.Group == "pressure" {
			words = q.Group + ": " + words
		}
		p("| `%s` | %g | %g | %g | %s |", q.Name, q.Min, q.Max, q.Default, words)
	}
	p("")
}

// extraWords is what a channel has where a layer names it and says no more.
func extraWords(ch *Channel, f Value) string {
	out := fmt.Sprintf("`number` %g", f.Number)
	if ch.Colour {
		out = fmt.Sprintf("`hex` %s", f.Hex)
	}
	out += fmt.Sprintf(", `blend` %s", f.Blend)
	if ch.Blends != nil {
		out += fmt.Sprintf(" (of %s)", strings.Join(ch.Blends, ", "))
	}
	return out
}

// params writes a table of parameters.
func params(p func(format string, args ...any), list []field.Param) {
	p("| parameter | from | to | default | unit |\n|---|---|---|---|---|")
	for _, q := range list {
		words := orDash(q.Unit)
		if len(q.Choices) > 0 {
			var c []string
			for n, name := range q.Choices {
				c = append(c, fmt.Sprintf("%d %s", n, name))
			}
			words = strings.Join(c, ", ")
		} else if q.Whole {
			words = "whole"
		}
		p("| `%s` | %g | %g | %g | %s |", q.Name, q.Min, q.Max, q.Default, words)
	}
	p("")
}

func orDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

// fontNames are the names of fonts as documents hold them.
func fontNames() (out []string) {
	for _, f := range letters.Fonts {
		out = append(out, f.Name)
	}
	return out
}

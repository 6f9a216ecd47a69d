package studio

import (
	"encoding/json"
	"fmt"
	"strings"

	"crust/internal/core/bake"
)

// cause is one thing that a baked map depends on: what it is called when it has changed, and its value.
type cause struct {
	words string
	value func(g *grounds, setHash string) any
	maps  []string // kinds that depend on it; none means all
	high  bool     // only with a high-poly
}

// causes lists what baked maps depend on besides their quality, in the order in which it is told.
var causes = map[string]cause{
	"set":      {"the set's faces or UVs changed", func(_ *grounds, setHash string) any { return setHash }, nil, false},
	"model":    {"the model changed", func(a *grounds, _ string) any { return a.whole }, []string{bake.AO, bake.Curvature, bake.Tight, bake.Soft, bake.Position, bake.Thickness, bake.ID}, false},
	"high":     {"the high-poly changed", func(a *grounds, _ string) any { return a.highHash }, nil, false},
	"front":    {"the front distance changed", func(a *grounds, _ string) any { return a.settings.Front }, nil, true},
	"rear":     {"the rear distance changed", func(a *grounds, _ string) any { return a.settings.Rear }, nil, true},
	"parts":    {"a part's distances changed", func(a *grounds, _ string) any { return a.settings.Parts }, nil, true},
	"endings":  {"the endings that pair names changed", func(a *grounds, _ string) any { return a.settings.Endings }, nil, true},
	"straight": {"the direction of the rays changed", func(a *grounds, _ string) any { return a.settings.Straight }, nil, true},
	"far":      {"the occlusion limit changed", func(a *grounds, _ string) any { return a.settings.Far }, []string{bake.AO}, false},
	"sees":     {"what occlusion sees changed", func(a *grounds, _ string) any { return a.settings.Sees }, []string{bake.AO}, false},
	"ground":   {"the floor was turned on or off", func(a *grounds, _ string) any { return a.settings.Ground }, []string{bake.AO}, false},
	"radius":   {"the curvature radius changed", func(a *grounds, _ string) any { return a.settings.Radius }, []string{bake.Curvature, bake.Tight, bake.Soft}, false},
	"deep":     {"the thickness limit changed", func(a *grounds, _ string) any { return a.settings.Deep }, []string{bake.Thickness}, false},
	"id":       {"what IDs are made from changed", func(a *grounds, _ string) any { return a.settings.ID }, []string{bake.ID}, false},
}

// causeOrder is the order in which causes are told.
var causeOrder = []string{"set", "model", "high", "front", "rear", "parts", "endings", "straight", "far", "sees", "ground", "radius", "deep", "id"}

// grounds are what baked maps rest on at one moment.
type grounds struct {
	whole, highHash string
	setHash         map[string]string
	settings        Settings
}

// grounds are those of now. The caller holds mu.
func (a *Asset) grounds() *grounds { return &grounds{a.whole, a.highHash, a.setHash, a.settings} }

// stamp is what a set's map depends on besides its quality, as JSON.
func (a *grounds) stamp(set, kind string) string { return a.stampOf(kind, a.setHash[set]) }

// stampOf is the stamp for a set of the given faces. Distances count only with a high-poly.
func (a *grounds) stampOf(kind, setHash string) string {
	out := map[string]string{}
	for name, c := range causes {
		if c.high && a.highHash == "" {
			continue
		}
		if c.of(kind) {
			out[name] = fmt.Sprint(c.value(a, setHash))
		}
	}
	b, _ := json.Marshal(out) // plain strings always encode
	return string(b)
}

func (c *cause) of(kind string) bool {
	for _, k := range c.maps {
		if k == kind {
			return true
		}
	}
	return c.maps == nil
}

// why says what has changed between a map's stamp and the stamp that it would have now.
func why(was, now string) string {
	var a, b map[string]string
	if json.Unmarshal([]byte(was), &a) != nil || json.Unmarshal([]byte(now), &b) != nil {
		return "it was baked by an earlier version"
	}
	var words []string
	for _, name := range causeOrder {
		if a[name] != b[name] {
			words = append(words, causes[name].words)
		}
	}
	return strings.Join(words, ", ")
}

// Package bring fits pictures from elsewhere to the baked maps of texture sets: by the words in their names, by their
// size, and by which way their green points.
package bring

import (
	"path"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"crust/internal/core/bake"
	"crust/internal/core/uv"
)

// Words lists what file names call each map by. A phrase of several words stands in a name in any order; case and
// separators do not matter, and words may be run together. The longest phrase found decides.
var Words = map[string][]string{
	bake.AO:          {"ao", "ambient occlusion", "occlusion", "occ"},
	bake.Curvature:   {"curvature", "curve", "curv", "convexity"},
	bake.Tight:       {"curvature tight", "curvature fine", "curvature small"},
	bake.Soft:        {"curvature soft", "curvature wide", "curvature large"},
	bake.Thickness:   {"thickness", "thick"},
	bake.WorldNormal: {"world normal", "normal world", "world space normal", "object normal", "object space normal", "normal ws", "normal os", "wsn", "wnormal"},
	bake.Normal:      {"normal", "normals", "norm", "nrm", "nor", "nm", "tangent normal", "tangent space normal", "normal ts", "normal tangent"},
	bake.Height:      {"height", "displacement", "displace", "disp", "heightmap"},
	bake.Position:    {"position", "pos", "world position"},
	bake.ID:          {"id", "ids", "idmap", "material id", "mat id", "part id", "colour id", "color id", "mask id"},
}

// Slot is a place that a picture can go to.
type Slot struct {
	Set  string `json:"set"` // key
	Kind string `json:"kind"`
}

// Match is what a file's name says.
type Match struct {
	Slot
	Tile   int    `json:"tile,omitempty"`
	Reason string `json:"reason,omitempty"` // why it found no slot
}

// Matcher knows the sets and the words of one asset.
type Matcher struct {
	sets    []uv.Set
	phrases []phrase // longest first
}

type phrase struct {
	words []string
	kind  string
}

// NewMatcher makes a matcher of the sets; more are words added to Words by kind.
func NewMatcher(sets []uv.Set, more map[string][]string) *Matcher {
	m := &Matcher{sets: sets}
	for _, list := range []map[string][]string{Words, more} {
		for _, k := range bake.All() {
			for _, p := range list[k.Name] {
				if w := tokens(p); len(w) > 0 {
					m.phrases = append(m.phrases, phrase{w, k.Name})
				}
			}
		}
	}
	length := func(p phrase) (n int) {
		for _, w := range p.words {
			n += len(w)
		}
		return n
	}
	slices.SortStableFunc(m.phrases, func(a, b phrase) int { return length(b) - length(a) })
	return m
}

// tokens are the words of a name, in small letters: parted at separators, at a capital after a small letter, and
// where letters and digits meet.
func tokens(s string) (out []string) {
	var word []rune
	flush := func() {
		if len(word) > 0 {
			out = append(out, strings.ToLower(string(word)))
		}
		word = word[:0]
	}
	var last rune
	for _, r := range s {
		switch {
		case !unicode.IsLetter(r) && !unicode.IsDigit(r):
			flush()
		case len(word) > 0 && (unicode.IsUpper(r) && unicode.IsLower(last) || unicode.IsDigit(r) != unicode.IsDigit(last)):
			flush()
			word = append(word, r)
		default:
			word = append(word, r)
		}
		last = r
	}
	flush()
	return out
}

// use takes the words of a phrase out of the name's: one by one in any order, or run together in one of them. ok is
// false when they are not all there.
func use(name, words []string) (rest []string, ok bool) {
	if i := slices.Index(name, strings.Join(words, "")); i >= 0 {
		return slices.Delete(slices.Clone(name), i, i+1), true
	}
	// A word may also stand parted: “World Normal” for “worldnormal”.
	for i := range name {
		joined := ""
		for j := i; j < len(name) && len(joined) < 64; j++ {
			if joined += name[j]; j > i && joined == strings.Join(words, "") {
				return slices.Delete(slices.Clone(name), i, j+1), true
			}
		}
	}
	rest = slices.Clone(name)
	for _, w := range words {
		i := slices.Index(rest, w)
		if i < 0 {
			return name, false
		}
		rest = slices.Delete(rest, i, i+1)
	}
	return rest, true
}

// tileOf finds a UDIM number, or a pair like u1_v1 that counts from 1 (MaterialX specification, filename
// substitutions), among a name's words.
func tileOf(name []string) (tile int, rest []string) {
	for i := len(name) - 1; i >= 0; i-- {
		if n, err := strconv.Atoi(name[i]); err == nil && len(name[i]) == 4 && n >= 1001 && n <= 1999 {
			return n, slices.Delete(slices.Clone(name), i, i+1)
		}
	}
	for i := 0; i+3 < len(name); i++ {
		u, err := strconv.Atoi(name[i+1])
		v, err2 := strconv.Atoi(name[i+3])
		if name[i] == "u" && name[i+2] == "v" && err == nil && err2 == nil && u >= 1 && u <= 10 && v >= 1 && v <= 100 {
			return 1001 + u - 1 + 10*(v-1), slices.Delete(slices.Clone(name), i, i+4)
		}
	}
	return 0, name
}

// Find reads a file's name; the folders that it lies in are asked for the set when the name itself does not tell.
func (m *Matcher) Find(file string) Match {
	file = strings.ReplaceAll(file, "\\", "/")
	base := strings.TrimSuffix(path.Base(file), path.Ext(file))
	name := tokens(base)
	var out Match
	out.Tile, name = tileOf(name)
	// The set's own name goes first, so that a set called “normal lid” does not pass for a normal map.
	set, rest, setOK := m.set(name, out.Tile)
	if kind, ok := m.kind(rest); ok {
		out.Kind = kind
	} else if kind, ok := m.kind(name); ok {
		out.Kind = kind
	}
	if !setOK {
		set, _, setOK = m.set(tokens(path.Dir(file)), out.Tile)
	}
	switch {
	case out.Kind == "" && !setOK:
		out.Reason = "its name has no word for a map nor for a set"
	case out.Kind == "":
		out.Reason = "its name has no word for a map"
	case !setOK && out.Tile > 0 && m.tiled():
		out.Reason = "no set lies on tile " + strconv.Itoa(out.Tile)
	case !setOK:
		out.Reason = "its name does not tell which set it is for"
	}
	if setOK {
		out.Set = set
	}
	return out
}

func (m *Matcher) kind(name []string) (string, bool) {
	for _, p := range m.phrases {
		if _, ok := use(name, p.words); ok {
			return p.kind, true
		}
	}
	return "", false
}

func (m *Matcher) tiled() bool {
	return slices.ContainsFunc(m.sets, func(s uv.Set) bool { return s.Tile > 0 })
}

// set finds the set that a name speaks of, by its tile, by the longest set's name in it, or because there is only
// one; rest is the name without it.
func (m *Matcher) set(name []string, tile int) (key string, rest []string, ok bool) {
	if m.tiled() && tile > 0 {
		for i := range m.sets {
			if m.sets[i].Tile == tile {
				return m.sets[i].Key, name, true
			}
		}
		return "", name, false
	}
	best := 0
	rest = name
	for i := range m.sets {
		for _, label := range []string{m.sets[i].Name, m.sets[i].Key} {
			w := tokens(label)
			if len(w) == 0 {
				continue
			}
			if left, found := use(name, w); found && len(label) > best {
				key, rest, ok, best = m.sets[i].Key, left, true, len(label)
			}
		}
	}
	if !ok && len(m.sets) == 1 {
		return m.sets[0].Key, name, true
	}
	return key, rest, ok
}

package uv

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// MaxName is the longest name of a set in characters; with a map's name and an ending it stays well
// below the 255 bytes of most file systems.
const MaxName = 60

// reserved are names that Windows keeps for devices, with any ending (Microsoft, Naming Files, Paths,
// and Namespaces).
var reserved = func() map[string]bool {
	out := map[string]bool{"con": true, "prn": true, "aux": true, "nul": true}
	for i := '0'; i <= '9'; i++ {
		out["com"+string(i)], out["lpt"+string(i)] = true, true
	}
	return out
}()

// nameFaults is what makes a name unfit for a file, the first that holds.
var nameFaults = []struct {
	reason string
	holds  func(s string) bool
}{
	{"it is empty", func(s string) bool { return strings.TrimSpace(s) == "" }},
	{"it is not sound text", func(s string) bool { return !utf8.ValidString(s) }},
	{"it holds a tab", func(s string) bool { return strings.ContainsRune(s, '\t') }},
	{"it holds a control character", func(s string) bool { return strings.ContainsFunc(s, unicode.IsControl) }},
	{"it holds one of < > : \" / \\ | ? *", func(s string) bool { return strings.ContainsAny(s, `<>:"/\|?*`) }},
	{"it begins or ends with a blank", func(s string) bool { return strings.TrimSpace(s) != s }},
	{"it begins or ends with a full stop", func(s string) bool { return strings.Trim(s, ".") != s }},
	{"Windows keeps this name for a device", func(s string) bool {
		stem, _, _ := strings.Cut(s, ".")
		return reserved[strings.ToLower(strings.TrimSpace(stem))]
	}},
	{fmt.Sprintf("it is longer than %d characters", MaxName), func(s string) bool { return utf8.RuneCountInString(s) > MaxName }},
}

// CheckName tells why a name cannot be a set's among those taken already, and proposes one that can.
// The reason is empty for a fit name.
func CheckName(name string, taken func(lower string) bool) (reason, proposal string) {
	for _, f := range nameFaults {
		if f.holds(name) {
			reason = f.reason
			break
		}
	}
	if reason == "" && taken(strings.ToLower(name)) {
		reason = "another set has it; file systems may not tell upper from lower case"
	}
	if reason == "" {
		return "", name
	}
	base := FileName(name)
	proposal = base
	for k := 2; taken(strings.ToLower(proposal)); k++ {
		proposal = fmt.Sprintf("%s_%d", base, k)
	}
	return reason, proposal
}

// FileName turns any name into one that every file system takes.
func FileName(s string) string {
	s = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || strings.ContainsRune(`<>:"/\|?*`, r) || r == 0xfffd {
			return '_'
		}
		return r
	}, strings.ToValidUTF8(s, "_"))
	trim := func(s string) string {
		return strings.TrimFunc(s, func(r rune) bool { return unicode.IsSpace(r) || r == '.' })
	}
	s = trim(s)
	if r := []rune(s); len(r) > MaxName {
		s = trim(string(r[:MaxName]))
	}
	stem, rest, _ := strings.Cut(s, ".")
	if reserved[strings.ToLower(strings.TrimSpace(stem))] {
		s = stem + "_"
		if rest != "" {
			s += "." + rest
		}
	}
	if s == "" {
		return "set"
	}
	return s
}

// nameForFiles makes the names fit for file names on every system, and different from each other.
func nameForFiles(sets []Set) {
	taken := map[string]bool{}
	for i := range sets {
		_, sets[i].Name = CheckName(sets[i].Name, func(n string) bool { return taken[n] })
		taken[strings.ToLower(sets[i].Name)] = true
	}
}

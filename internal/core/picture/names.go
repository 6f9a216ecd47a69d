package picture

import (
	"strings"
	"unicode"
)

// words are what file names call pictures by the channel that they are for, as is common practice. An inverted one holds 1
// less the channel's value, and a normal whose green points down.
var words = []struct {
	channel  string
	inverted bool
	names    []string
}{
	{"colour", false, []string{"basecolor", "basecolour", "color", "colour", "albedo", "diffuse", "diff", "col"}},
	{"roughness", false, []string{"roughness", "rough", "rgh"}},
	{"roughness", true, []string{"glossiness", "gloss", "smoothness", "smooth"}},
	{"metallic", false, []string{"metallic", "metalness", "metal", "mtl"}},
	{"height", false, []string{"height", "displacement", "disp", "bump"}},
	{"normal", false, []string{"normal", "normalgl", "nrm", "nor", "norm"}},
	{"normal", true, []string{"normaldx"}},
	{"occlusion", false, []string{"occlusion", "ao", "ambientocclusion"}},
	{"emissive", false, []string{"emissive", "emission"}},
	{"opacity", false, []string{"opacity", "alpha"}},
}

// ChannelOf is the channel that a file's name says a picture is for, empty when it says none; the last word that is known
// decides.
func ChannelOf(name string) (channel string, inverted bool) {
	if i := strings.LastIndexByte(name, '.'); i > 0 {
		name = name[:i]
	}
	// A word ends where letters do, and where a capital follows a small letter.
	var parts []string
	start, prev := 0, rune(0)
	flush := func(end int) {
		if end > start {
			parts = append(parts, strings.ToLower(name[start:end]))
		}
	}
	for i, r := range name {
		switch {
		case !unicode.IsLetter(r):
			flush(i)
			start = i + len(string(r))
		case unicode.IsUpper(r) && unicode.IsLower(prev):
			flush(i)
			start = i
		}
		prev = r
	}
	flush(len(name))
	find := func(word string) bool {
		for _, w := range words {
			for _, n := range w.names {
				if n == word {
					channel, inverted = w.channel, w.inverted
					return true
				}
			}
		}
		return false
	}
	for i := len(parts) - 1; i >= 0; i-- {
		if i > 0 && find(parts[i-1]+parts[i]) || find(parts[i]) {
			return channel, inverted
		}
	}
	return "", false
}

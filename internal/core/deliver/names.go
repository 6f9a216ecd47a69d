package deliver

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"crust/internal/core/imgfile"
	"crust/internal/core/uv"
)

// DefaultNaming is how files are called where neither preset nor person says otherwise.
const DefaultNaming = "{set}_{map}"

// NameWords are what a template's braces may hold.
var NameWords = []string{"asset", "set", "map", "tile", "size"}

// longestName is how many bytes a file's name may have; file systems hold 255.
const longestName = 200

var braces = regexp.MustCompile(`\{([^{}]*)\}`)

// CheckNaming says what is wrong with a template of names.
func CheckNaming(template string) error {
	if strings.TrimSpace(template) == "" {
		return errors.New("names need a template, such as " + DefaultNaming)
	}
	for _, m := range braces.FindAllStringSubmatch(template, -1) {
		if !slices.Contains(NameWords, m[1]) {
			return fmt.Errorf("names know no {%s}; use {%s}", m[1], strings.Join(NameWords, "}, {"))
		}
	}
	if rest := braces.ReplaceAllString(template, ""); strings.ContainsAny(rest, "{}") {
		return fmt.Errorf("“%s” has a brace without its other half", template)
	} else if bad := unfit(rest); bad != "" {
		return fmt.Errorf("names cannot hold %s", bad)
	}
	return nil
}

// unfit is the first thing in a name that some system cannot hold.
func unfit(s string) string {
	for _, r := range s {
		if r < ' ' || r == 0x7f || r == utf8.RuneError {
			return "control characters"
		}
		if strings.ContainsRune(`<>:"/\|?*`, r) {
			return "“" + string(r) + "”"
		}
	}
	return ""
}

// nameOf is what a template gives for a file of a set, without its ending. Sets that are UDIM tiles go by the asset's name, with
// their number behind a full stop where the template has no place for it.
func nameOf(template, asset string, set *uv.Set, mapName string, size int) string {
	name := uv.FileName(asset)
	of := map[string]string{"asset": name, "set": set.Name, "map": mapName, "size": fmt.Sprint(size), "tile": ""}
	if set.Tile > 0 {
		of["set"], of["tile"] = name, fmt.Sprint(set.Tile)
		if !strings.Contains(template, "{tile}") {
			template += ".{tile}"
		}
	} else {
		// Without a tile what parts it from the rest goes too.
		template = regexp.MustCompile(`[._ -]?\{tile\}`).ReplaceAllString(template, "")
	}
	return braces.ReplaceAllStringFunc(template, func(w string) string { return of[w[1:len(w)-1]] })
}

// checkNames finds names that a system cannot hold and names that two files share.
func checkNames(names []string) error {
	seen := map[string]string{}
	for _, n := range names {
		switch bad := unfit(n); {
		case bad != "":
			return fmt.Errorf("“%s” cannot be a file's name: it holds %s", n, bad)
		case len(n) > longestName:
			return fmt.Errorf("“%.40s…” is too long for a file's name: %d bytes, %d are held everywhere; shorten the names", n, len(n), longestName)
		case uv.FileName(n) != n:
			return fmt.Errorf("“%s” cannot be a file's name on every system; rename it to such as “%s”", n, uv.FileName(n))
		}
		low := strings.ToLower(n)
		if other, ok := seen[low]; ok {
			if other == n {
				return fmt.Errorf("two files would be called “%s”; put {set} and {map} into the names", n)
			}
			return fmt.Errorf("“%s” and “%s” are one name to some systems; change the names", other, n)
		}
		seen[low] = n
	}
	return nil
}

// ending is the file's, with its full stop.
func (f *File) ending() string {
	if k, err := imgfile.FormatOf(f.Format); err == nil {
		return k.Ending
	}
	return ""
}

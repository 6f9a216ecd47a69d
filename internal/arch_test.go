// Package internal_test holds the imports to the one direction that docs/architecture.md draws.
package internal_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// rank orders the packages from below upwards; a package may import only lower ranks, and the same
// rank inside core.
var rank = map[string]int{
	"crust/internal/core": 0, "crust/internal/store": 1, "crust/internal/access": 1, "crust/internal/studio": 2, "crust/internal/demo": 3, "crust/internal/preview": 4, "crust/internal/web": 5, "crust/cmd": 6,
}

// core may use the standard library, golang.org/x, and the compression that imgfile writes with.
var coreMay = []string{"golang.org/x/", "github.com/klauspost/compress/flate"}

func group(pkg string) string {
	for g := range rank {
		if pkg == g || strings.HasPrefix(pkg, g+"/") {
			return g
		}
	}
	return ""
}

func TestImportsRunOneWay(t *testing.T) {
	seen := 0
	for _, root := range []string{".", "../cmd"} {
		err := filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
				return err
			}
			pkg := "crust/internal/" + filepath.ToSlash(filepath.Dir(name))
			if root == "../cmd" {
				pkg = "crust/" + strings.TrimPrefix(filepath.ToSlash(filepath.Dir(name)), "../")
			}
			from := group(pkg)
			f, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ImportsOnly)
			if err != nil {
				return err
			}
			for _, i := range f.Imports {
				path, _ := strconv.Unquote(i.Path.Value)
				seen++
				if to := group(path); to != "" {
					if rank[to] > rank[from] || (rank[to] == rank[from] && from != "crust/internal/core" && path != pkg) {
						t.Errorf("%s imports %s, against the direction", name, path)
					}
					continue
				}
				if from != "crust/internal/core" || !strings.Contains(strings.Split(path, "/")[0], ".") {
					if from == "crust/internal/core" && (path == "net/http" || path == "database/sql" || path == "html/template") {
						t.Errorf("%s imports %s; the core has no web and no database", name, path)
					}
					continue
				}
				ok := false
				for _, may := range coreMay {
					ok = ok || strings.HasPrefix(path, may)
				}
				if !ok {
					t.Errorf("%s imports %s; the core keeps to the standard library", name, path)
				}
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if seen < 100 {
		t.Errorf("only %d imports were looked at", seen)
	}
}

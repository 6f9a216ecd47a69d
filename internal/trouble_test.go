package internal_test

import (
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode"
)

var update = flag.Bool("update", false, "write the messages in docs/trouble.md anew")

// makers are the functions that make a message, and which of their arguments is its text.
var makers = map[string]int{"errors.New": 0, "fmt.Errorf": 0, "echo.NewHTTPError": 1, "wrongf": 1}

// failers are functions that are given the parts of a message.
var failers = []string{"fail", "pngFault", "d.fail", "r.fail", "at", "kind"}

// verbs are the places of a message that differ each time.
var verbs = regexp.MustCompile(`%[-+ #0]*[0-9]*(\.[0-9]+)?[a-zA-Z]`)

// messages are the sentences that a package can answer with, … for what differs. Those without words of their own are left out.
func messages(t *testing.T, dir string) (out []string) {
	t.Helper()
	names, err := filepath.Glob(filepath.Join(dir, "*.go"))
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range names {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		take := func(e ast.Expr) {
			lit, ok := e.(*ast.BasicLit)
			if !ok || lit.Kind != token.STRING {
				return
			}
			text, err := strconv.Unquote(lit.Value)
			if err != nil {
				t.Fatal(err)
			}
			if text = verbs.ReplaceAllString(text, "…"); worded(text) {
				out = append(out, text)
			}
		}
		all := func(n ast.Node) {
			ast.Inspect(n, func(n ast.Node) bool {
				if e, ok := n.(ast.Expr); ok {
					take(e)
				}
				return true
			})
		}
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.CompositeLit: // mesh.Error has what is wrong and what to do
				if name := called(n.Type); name == "Error" {
					all(n)
				}
			case *ast.CallExpr:
				name := called(n.Fun)
				if at, ok := makers[name]; ok && len(n.Args) > at {
					take(n.Args[at])
				}
				if slices.Contains(failers, name) {
					all(n)
				}
			}
			return true
		})
	}
	return out
}

func called(e ast.Expr) string {
	switch e := e.(type) {
	case *ast.Ident:
		return e.Name
	case *ast.SelectorExpr:
		if x, ok := e.X.(*ast.Ident); ok {
			return x.Name + "." + e.Sel.Name
		}
	}
	return ""
}

// worded tells a sentence from “name: …”.
func worded(text string) bool {
	letters := 0
	for _, r := range text {
		if unicode.IsLetter(r) {
			letters++
		}
	}
	return letters >= 12 && strings.Contains(text, " ")
}

// pageWords are the sentences of the pages' own scripts.
var pageWords = regexp.MustCompile(`(?:new Error|toast)\('([^']{12,})'\)`)

// docs/trouble.md lists every sentence that says something went wrong, below what it means and what to do; and nothing that no part
// of Crust says any more.
func TestEveryFaultIsExplained(t *testing.T) {
	const name = "../docs/trouble.md"
	data, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	section := regexp.MustCompile(`(?s)<!-- said by (.*?) -->\n.*?<!-- end -->`)
	text := section.ReplaceAllStringFunc(string(data), func(old string) string {
		dirs := section.FindStringSubmatch(old)[1]
		var all []string
		for _, dir := range strings.Fields(dirs) {
			seen[dir] = true
			if strings.HasSuffix(dir, "/static") {
				scripts, _ := filepath.Glob(filepath.Join("..", dir, "*.js"))
				for _, s := range scripts {
					text, err := os.ReadFile(s)
					if err != nil {
						t.Fatal(err)
					}
					for _, m := range pageWords.FindAllStringSubmatch(string(text), -1) {
						all = append(all, m[1])
					}
				}
				continue
			}
			all = append(all, messages(t, filepath.Join("..", dir))...)
		}
		slices.Sort(all)
		var b strings.Builder
		fmt.Fprintf(&b, "<!-- said by %s -->\n", dirs)
		for _, m := range slices.Compact(all) {
			fmt.Fprintf(&b, "- %s\n", strings.ReplaceAll(m, "\n", " "))
		}
		b.WriteString("<!-- end -->")
		return b.String()
	})
	for _, root := range []string{".", "../cmd/crust"} {
		err := filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
			if err != nil || !d.IsDir() {
				return err
			}
			dir := strings.TrimPrefix(filepath.ToSlash(name), "../")
			if root == "." {
				dir = strings.TrimSuffix("internal/"+filepath.ToSlash(name), "/.")
			}
			if !seen[dir] && len(messages(t, name)) > 0 {
				t.Errorf("what %s says stands nowhere in %s", dir, "docs/trouble.md")
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if *update {
		if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	if text != string(data) {
		t.Error("docs/trouble.md does not list what is said; write it anew with: go test ./internal -run Explained -update")
	}
}

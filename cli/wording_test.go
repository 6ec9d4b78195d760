package cli

import (
	"bytes"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// saying are the calls whose texts people read when something ends, is refused or is wrong in
// wetland.toml: by the name of what is called, the section that they belong to.
var saying = map[string]string{"end": "Endings", "endBack": "Endings", "needsPerson": "Endings", "add": "Refusals and what is found in an examination", "say": "Mistakes in wetland.toml"}

// The texts of all endings, refusals and mistakes in settings stand in one file, to be read from
// top to bottom as somebody would who has never seen the program. It is made from the code:
// a text that changes shows here.
func TestAllThatIsSaid(t *testing.T) {
	sections := map[string][]string{}
	for _, folder := range []string{"../core/update", "../core/adopt", "../core/site"} {
		files, err := filepath.Glob(filepath.Join(folder, "*.go"))
		if err != nil {
			t.Fatal(err)
		}
		for _, name := range files {
			if strings.HasSuffix(name, "_test.go") || name == "../core/adopt/config.go" { // which writes wetland.toml
				continue
			}
			file, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.SkipObjectResolution)
			if err != nil {
				t.Fatal(err)
			}
			ast.Inspect(file, func(node ast.Node) bool {
				call, ok := node.(*ast.CallExpr)
				if !ok {
					return true
				}
				section := saying[nameOfCall(call)]
				if text := textsIn(call); section != "" && strings.Contains(text, " ") && !slices.Contains(sections[section], text) {
					sections[section] = append(sections[section], text)
				}
				return true
			})
		}
	}
	var out bytes.Buffer
	for _, section := range []string{"Endings", "Refusals and what is found in an examination", "Mistakes in wetland.toml"} {
		fmt.Fprintf(&out, "%s\n%s\n\n", section, strings.Repeat("=", len(section)))
		slices.Sort(sections[section])
		for _, text := range sections[section] {
			fmt.Fprintf(&out, "%s\n", text)
		}
		fmt.Fprintln(&out)
	}
	const golden = "testdata/said.txt"
	if os.Getenv("WETLAND_WRITE_DOCS") != "" {
		if err := os.MkdirAll("testdata", 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(golden, out.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	written, err := os.ReadFile(golden)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(written, out.Bytes()) {
		t.Errorf("what is said has changed. Read it anew: WETLAND_WRITE_DOCS=1 go test -run TestAllThatIsSaid ./cli, then git diff cli/%s", golden)
	}
}

func nameOfCall(call *ast.CallExpr) string {
	switch called := call.Fun.(type) {
	case *ast.Ident:
		return called.Name
	case *ast.SelectorExpr:
		return called.Sel.Name
	}
	return ""
}

// textsIn joins the texts among a call's arguments, in their order.
func textsIn(call *ast.CallExpr) string {
	var texts []string
	for _, argument := range call.Args {
		ast.Inspect(argument, func(node ast.Node) bool {
			if literal, ok := node.(*ast.BasicLit); ok && literal.Kind == token.STRING {
				if text, err := strconv.Unquote(literal.Value); err == nil && strings.TrimSpace(text) != "" {
					texts = append(texts, strings.ReplaceAll(strings.TrimSpace(text), "\n", " "))
				}
			}
			return true
		})
	}
	return strings.Join(texts, " | ")
}

package screen

import (
	"go/ast"
	"go/parser"
	"go/token"
	"strconv"
	"strings"
	"testing"

	"wetland/core/advice"
)

// Every operation that can be advised has its command line.
func TestEveryOperationHasACommand(t *testing.T) {
	parsed, err := parser.ParseFile(token.NewFileSet(), "../../core/advice/advice.go", nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	seen := 0
	ast.Inspect(parsed, func(node ast.Node) bool {
		spec, ok := node.(*ast.ValueSpec)
		if !ok || len(spec.Values) != 1 {
			return true
		}
		value, ok := spec.Values[0].(*ast.BasicLit)
		if !ok {
			return true
		}
		operation, err := strconv.Unquote(value.Value)
		if err != nil {
			t.Fatal(err)
		}
		seen++
		if line := CommandLine(advice.To(advice.Operation(operation), "a", "b")); !strings.HasPrefix(line, "wetland ") || strings.ContainsAny(line, "{}") {
			t.Errorf("%s: %q", operation, line)
		}
		return true
	})
	if seen < len(commandLines) || seen == 0 {
		t.Errorf("%d operations, %d command lines", seen, len(commandLines))
	}
}

func TestCommandLines(t *testing.T) {
	for want, c := range map[string]*advice.Command{
		"wetland restore snap-1":                            advice.To(advice.Restore, "snap-1"),
		"wetland update a.zip 'b c.zip'":                    advice.To(advice.Update, "a.zip", "b c.zip"),
		"wetland examine bundle.zip --pick tidetable":       advice.To(advice.ExaminePicked, "bundle.zip", "tidetable"),
		"wetland update FILE --pick tidetable":              advice.To(advice.UpdatePicked, "", "tidetable"),
		"wetland adopt '/srv/www/of ferries' --address URL": advice.To(advice.AdoptSite, "/srv/www/of ferries"),
		"what a newer version does":                         advice.To("what a newer version does"),
	} {
		if got := CommandLine(c); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

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
		if line := CommandLine(to(advice.Operation(operation), "a", "b")); !strings.HasPrefix(line, "wetland ") || strings.ContainsAny(line, "{}") {
			t.Errorf("%s: %q", operation, line)
		}
		return true
	})
	if seen < len(commandLines) || seen == 0 {
		t.Errorf("%d operations, %d command lines", seen, len(commandLines))
	}
}

// to is a command.
func to(do advice.Operation, with ...string) *advice.Command {
	return &advice.Command{Do: do, With: with}
}

func TestCommandLines(t *testing.T) {
	for want, c := range map[string]*advice.Command{
		"wetland restore snap-1":                            to(advice.Restore, "snap-1"),
		"wetland update a.zip 'b c.zip'":                    to(advice.Update, "a.zip", "b c.zip"),
		"wetland examine bundle.zip --pick tidetable":       to(advice.ExaminePicked, "bundle.zip", "tidetable"),
		"wetland update all.zip --pick tidetable":           to(advice.UpdatePicked, "all.zip", "tidetable"),
		"wetland adopt '/srv/www/of ferries' --address URL": to(advice.AdoptSite, "/srv/www/of ferries"),
		"what a newer version does":                         to("what a newer version does"),
	} {
		if got := CommandLine(c); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

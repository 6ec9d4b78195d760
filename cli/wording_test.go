package cli

import (
	"bytes"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// saying are the calls whose texts people read when something ends, is refused or is wrong in
// wetland.toml: by the name of what is called, the section that they belong to.
var saying = map[string]string{"end": endings, "endback": endings, "needsperson": endings, "add": refusals, "advise": refusals, "adderror": refusals, "advice.run": nextSteps, "advice.do": nextSteps, "advice.lead": nextSteps, "say": mistakes, "errorf": failures, "new": failures}

const (
	endings   = "Endings"
	endParts  = "Parts of endings, and what to do then"
	refusals  = "Refusals and what is found in an examination"
	nextSteps = "What to do next"
	mistakes  = "Mistakes in wetland.toml"
	failures  = "What cannot be done, and why"
)

// rooms are the packages that speak to people.
var rooms = []string{
	"adopt", "archive", "caches", "deploy", "durable", "edits", "packages", "pagecheck", "preflight", "recovery", "restore", "runs", "session", "shelf", "site", "surroundings", "tables", "update", "workspace",
}

// The texts of all endings, refusals and mistakes in settings stand in one file, to be read from
// top to bottom as somebody would who has never seen the program. It is made from the code:
// a text that changes shows here.
func TestAllThatIsSaid(t *testing.T) {
	said := map[string][]string{}
	for _, room := range rooms {
		files, err := filepath.Glob(filepath.Join("../core", room, "*.go"))
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
			joinTexts(file)
			for _, declared := range file.Decls {
				collectSaid(said, declared)
			}
		}
	}
	var out bytes.Buffer
	for _, section := range []string{endings, endParts, refusals, nextSteps, mistakes, failures} {
		fmt.Fprintf(&out, "%s\n%s\n\n", section, strings.Repeat("=", len(section)))
		slices.Sort(said[section])
		for _, text := range slices.Compact(said[section]) {
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

// joinTexts makes one text of those that are only cut into lines: of "a" + "b" it makes "ab", and nothing of "b".
func joinTexts(file *ast.File) {
	var sums []*ast.BinaryExpr
	ast.Inspect(file, func(node ast.Node) bool {
		if sum, ok := node.(*ast.BinaryExpr); ok && sum.Op == token.ADD {
			sums = append(sums, sum)
		}
		return true
	})
	for _, sum := range slices.Backward(sums) { // what is within comes first
		before, after := lastText(sum.X), lastText(sum.Y)
		if before != nil && after == sum.Y {
			before.Value = strings.TrimSuffix(before.Value, `"`) + strings.TrimPrefix(after.Value, `"`)
			sum.Y = joined
		}
	}
}

// joined is what is left of a text that was added to the one before.
var joined = &ast.Ident{Name: "_"}

// lastText is the text that a sum ends with; nil: it ends with something else.
func lastText(of ast.Expr) *ast.BasicLit {
	switch of := of.(type) {
	case *ast.BasicLit:
		if strings.HasPrefix(of.Value, `"`) {
			return of
		}
	case *ast.BinaryExpr:
		if of.Y == joined {
			return lastText(of.X)
		}
		return lastText(of.Y)
	}
	return nil
}

// collectSaid adds what a declaration says. In functions that end a run, or put its words
// together, all texts are such.
func collectSaid(said map[string][]string, declared ast.Decl) {
	add := func(section, text string) {
		if section != "" && strings.Contains(strings.TrimSpace(text), " ") {
			said[section] = append(said[section], text)
		}
	}
	ends := false
	ast.Inspect(declared, func(node ast.Node) bool {
		if call, ok := node.(*ast.CallExpr); ok {
			section := saying[strings.ToLower(nameOfCall(call))]
			add(section, textsIn(call))
			ends = ends || section == endings
			return section == "" || section == endings
		}
		return true
	})
	if function, ok := declared.(*ast.FuncDecl); ok && (ends || wordy.MatchString(function.Name.Name)) {
		ast.Inspect(function, func(node ast.Node) bool {
			if call, ok := node.(*ast.CallExpr); ok && saying[strings.ToLower(nameOfCall(call))] != "" {
				return false
			}
			if literal, ok := node.(*ast.BasicLit); ok {
				add(endParts, textOf(literal))
			}
			return true
		})
	}
}

// wordy are the functions that put together what a run ends with.
var wordy = regexp.MustCompile(`[wW]ords$|^[nN]ext|[aA]dvice|Anyway$`)

func nameOfCall(call *ast.CallExpr) string {
	switch called := call.Fun.(type) {
	case *ast.Ident:
		return called.Name
	case *ast.SelectorExpr:
		if isReporter(called.X) { // whose End tells of one step
			return ""
		}
		if of, ok := called.X.(*ast.Ident); ok && of.Name == "advice" {
			return "advice." + called.Sel.Name
		}
		return called.Sel.Name
	}
	return ""
}

func isReporter(of ast.Expr) bool {
	switch of := of.(type) {
	case *ast.Ident:
		return strings.EqualFold(of.Name, "report")
	case *ast.SelectorExpr:
		return of.Sel.Name == "Report"
	}
	return false
}

// textsIn joins the texts among a call's arguments, in their order.
func textsIn(call *ast.CallExpr) string {
	var texts []string
	for _, argument := range call.Args {
		ast.Inspect(argument, func(node ast.Node) bool {
			if literal, ok := node.(*ast.BasicLit); ok && textOf(literal) != "" {
				texts = append(texts, textOf(literal))
			}
			return true
		})
	}
	return strings.Join(texts, " | ")
}

// textOf is a text as it is said, in one line; "" for other literals.
func textOf(literal *ast.BasicLit) string {
	text, err := strconv.Unquote(literal.Value)
	if literal.Kind != token.STRING || err != nil {
		return ""
	}
	return strings.ReplaceAll(strings.TrimSpace(text), "\n", " ")
}

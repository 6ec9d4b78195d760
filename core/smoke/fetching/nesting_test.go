package fetching

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"wetland/core/smoke"
	"wetland/core/smoke/reading"
	"wetland/internal/testenv"
)

// FuzzNesting repeats whatever comes, in every place that is read: whoever reads it must live on.
func FuzzNesting(f *testing.F) {
	for _, open := range []string{"{a:", "[", "!", "<div>", ":not(", "calc(", "f(", "`${", "=>", "a?", "/*", "<svg><style>", "@media a {", "\"", "(", "new ", "async ", "<table><tr><td>"} {
		f.Add(open, "var ", uint16(4000))
	}
	f.Fuzz(func(t *testing.T, open, before string, times uint16) {
		deep := before + strings.Repeat(open, min(int(times)*16, 1<<14/max(1, len(open))))
		where := &url.URL{Scheme: "http", Host: "ferry.example", Path: "/"}
		for _, body := range []string{deep, "<script>" + deep + "</script>", "<style>" + deep + "</style>", `<script type="application/ld+json">` + deep + "</script>", "<p style=\"" + deep + "\">"} {
			reading.ReadPage(smoke.Page{Path: "/"}, where, reading.Answer{Status: 200, Header: http.Header{"Content-Type": {"text/html; charset=utf-8"}}, Body: []byte(body)})
		}
		reading.ParseScript([]byte(deep))
		reading.ParseSheet([]byte(deep))
	})
}

// A page, a script, a style sheet or data may be nested as deep as it wants: whoever reads it must
// live on. A stack that overflows would end this test's process.
func TestNesting(t *testing.T) {
	testenv.TakesLong(t)
	deep := func(open string) string { return strings.Repeat(open, (5<<20)/len(open)) }
	const page = "<!DOCTYPE html><html lang=\"en\"><head><meta charset=\"utf-8\"><title>Fares</title>%s</head><body><main><h1>Fares</h1><p>A single fare is two forty.</p>%s</main></body></html>"
	for _, c := range []struct{ name, head, body, script, sheet string }{
		{name: "binding patterns", script: "var " + deep("{a:")},
		{name: "arrays bound", script: "let " + deep("[")},
		{name: "caught patterns", script: "try {} catch (" + deep("{a:")},
		{name: "negations", script: "x=" + deep("!")},
		{name: "functions", script: deep("function f(){")},
		{name: "conditions", script: deep("if(a)")},
		{name: "a script in the page", head: "<script>var " + deep("{a:") + "</script>"},
		{name: "structured data", head: `<script type="application/ld+json">` + deep("[") + "</script>"},
		{name: "elements", body: deep("<div>")},
		{name: "elements of the same kind side by side", body: deep("<b><p>")},
		{name: "lists", body: deep("<ul><li>")},
		{name: "tables", body: deep("<table><tr><td>")},
		{name: "exceptions in a selector", sheet: deep(":not(") + " { color: red }"},
		{name: "alternatives in a selector", sheet: "a" + deep(":is(") + " { color: red }"},
		{name: "attributes in a selector", sheet: deep("[a") + " { color: red }"},
		{name: "blocks of a sheet", sheet: deep("@media a {")},
		{name: "values of a sheet", sheet: "a { width: " + deep("calc(") + "}"},
		{name: "values that lead on", sheet: "a { color: " + deep("var(--a,") + "}"},
		{name: "brackets that close nothing", sheet: deep(")")},
		{name: "families", sheet: deep("a ") + "{ color: red }"},
	} {
		t.Run(c.name, func(t *testing.T) {
			head := c.head
			if c.script != "" {
				head += `<script src="/deep.js"></script>`
			}
			if c.sheet != "" {
				head += `<link rel="stylesheet" href="/deep.css">`
			}
			take(t, func(w http.ResponseWriter, r *http.Request) {
				switch r.URL.Path {
				case "/deep.js":
					w.Header().Set("Content-Type", "text/javascript")
					fmt.Fprint(w, c.script)
				case "/deep.css":
					w.Header().Set("Content-Type", "text/css")
					fmt.Fprint(w, c.sheet)
				default:
					w.Header().Set("Content-Type", "text/html; charset=utf-8")
					fmt.Fprintf(w, page, head, c.body)
				}
			})
		})
	}
}

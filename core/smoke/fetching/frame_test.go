package fetching

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"wetland/core/smoke"
	"wetland/core/smoke/judging"
)

// riverPage has what stands beside, around and within what a page says.
const riverPage = `<!DOCTYPE html><html lang="en"><head><meta charset="utf-8"><title>The river</title>
<link rel="stylesheet" href="/themes/quay/style.css"><link rel="stylesheet" href="/themes/quay-child/child.css"></head><body class="page">
<div class="band">Today the river stands at the second step, and all boats run.</div>
<header class="top"><nav><a href="/">Home</a> <a href="/fares">Fares</a></nav></header><main><h1>The river</h1>
<div class="row"><div class="cell"><h3>Morning</h3><p>The first boat leaves at dawn.</p></div><div class="cell"><h3>Noon</h3><p>The second boat waits for the post.</p></div></div>
<button class="next">Next picture</button> <button class="close" aria-label="Close"></button>
<ul class="voices"><li class="voice"><cite class="who">Maud</cite><q>Lovely bell.</q><a href="/?answer=1">Answer</a></li><li class="voice"><cite class="who">Tom</cite><q>Cold wind.</q><a href="/?answer=2">Answer</a></li><li class="voice"><cite class="who">Ida</cite><q>Good dogs.</q><a href="/?answer=3">Answer</a></li></ul>
<div class="level">Two steps</div><p class="hint">The level is read each morning by the ferryman himself.</p>
<iframe src="/map.html" title="Map"></iframe>
</main><footer>since 1874</footer></body></html>`

const riverSheet = `.row { display: flex } .cell { width: 50% } .voices { margin: 0 } .band { padding: 0 } .level { margin: 0 } .hint { margin: 0 }
@media (max-width: 600px) { .row { display: block } }`

const riverMap = "<!DOCTYPE html><html><body><h1>The landing</h1><p>Ten minutes on foot from the mill.</p></body></html>"

// river hands out the page, its style sheet and its map.
func river(page, sheet, chart string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/themes/quay/style.css", "/themes/quay-child/child.css":
			w.Header().Set("Content-Type", "text/css")
			if strings.Contains(r.URL.Path, "child") {
				sheet = ".top { color: red } .top a { color: blue } .level { color: green }"
			}
			fmt.Fprint(w, sheet)
		case "/map.html":
			if chart == "" {
				http.NotFound(w, r)
				return
			}
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			fmt.Fprint(w, chart)
		default:
			serving(page)(w, r)
		}
	}
}

// What stands beside, around and within what a page says: each reason for which a breakage was
// missed, and a change beside it that harms nobody.
func TestBesideAndAround(t *testing.T) {
	replace := func(pairs ...string) string {
		changed := strings.NewReplacer(pairs...).Replace(riverPage)
		if changed == riverPage {
			t.Fatalf("%q is not on the page", pairs)
		}
		return changed
	}
	for _, c := range []struct {
		name, page, sheet, chart string
		want                     string // what is found; "": nothing
	}{
		{name: "unchanged", page: riverPage},
		{name: "a row one below the other", sheet: strings.Replace(riverSheet, ".row { display: flex }", ".row { margin: 0 }", 1), want: "on a desktop, columns are stacked that stood side by side, in 1 row"},
		{name: "a grid in place of a row", sheet: strings.Replace(riverSheet, "display: flex", "display: grid; grid-template-columns: 1fr 1fr", 1)},
		{name: "a wrapper more", page: replace(`<div class="row">`, `<div class="inner"><div class="row">`, `for the post.</p></div></div>`, `for the post.</p></div></div></div>`)},
		{name: "a row renamed with its sheet", page: replace(`class="row"`, `class="lane"`), sheet: strings.ReplaceAll(riverSheet, ".row", ".lane")},
		{name: "a row renamed without its sheet", page: replace(`class="row"`, `class="lane"`), want: "columns are stacked"},
		{name: "a button gone", page: replace(`<button class="next">Next picture</button>`, ""), want: "1 button is gone (Next picture)"},
		{name: "a button without a text gone", page: replace(`<button class="close" aria-label="Close"></button>`, ""), want: "1 button is gone (Close)"},
		{name: "a button says something else", page: replace("Next picture", "Further")},
		{name: "a button became a link", page: replace(`<button class="next">Next picture</button>`, `<a href="#next">Next picture</a>`)},
		{name: "links to answer gone", page: replace(`<a href="/?answer=1">Answer</a>`, "", `<a href="/?answer=2">Answer</a>`, "", `<a href="/?answer=3">Answer</a>`, ""), want: `3 links that said "Answer" are gone`},
		{name: "links to answer renamed", page: replace(">Answer<", ">Reply<")},
		{name: "names left empty", page: replace(">Maud<", "><", ">Tom<", "><", ">Ida<", "><"), want: "elements that had content are empty now (cite.who)"},
		{name: "other names", page: replace(">Maud<", ">Wren<")},
		{name: "a single element left empty", page: replace(`<div class="level">Two steps</div>`, `<div class="level"></div>`), want: "are empty now (div.level)"},
		{name: "an empty element more", page: replace(`<p class="hint">`, `<span class="spinner"></span><p class="hint">`)},
		{name: "the band above the page gone", page: replace(`<div class="band">Today the river stands at the second step, and all boats run.</div>`, ""), want: "a block outside of the main part is gone: div.band"},
		{name: "the band says something else", page: replace("Today the river stands at the second step, and all boats run.", "The water rises, hold on to the rail of the jetty please.")},
		{name: "the band moved into the footer", page: replace(`<div class="band">Today the river stands at the second step, and all boats run.</div>`, "", "since 1874", `since 1874 <div class="band">Today the river stands at the second step, and all boats run.</div>`)},
		{name: "the map dead", chart: "none", want: "the frame /map.html does not load"},
		{name: "the map empty", chart: "<!DOCTYPE html><html><body></body></html>", want: "the frame /map.html is nearly empty"},
		{name: "the child's sheet fits nothing", page: replace(`class="top"`, `class="head"`), want: "2 of 3 rules of /themes/quay-child/child.css that matched something on the page match nothing any more"},
		{name: "a number that is none", page: replace("Two steps", "NaN steps"), want: "a template's own sign stands on the page"},
		{name: "a key in place of a text", page: replace("Next picture", "slider_next_label"), want: "a template's own sign stands on the page"},
		{name: "letters that became question marks", page: replace("Lovely bell.", "?????? ????.", "Cold wind.", "???? ????.", "Good dogs.", "???? ?????."), want: "letters came through the wrong character set"},
		{name: "a question asked with force", page: replace("Lovely bell.", "Lovely bell, is it not??")},
	} {
		t.Run(c.name, func(t *testing.T) {
			page, sheet, chart := riverPage, riverSheet, riverMap
			if c.page != "" {
				page = c.page
			}
			if c.sheet != "" {
				sheet = c.sheet
			}
			if c.chart != "" {
				chart = strings.TrimPrefix(c.chart, "none")
			}
			before, now := take(t, river(riverPage, riverSheet, riverMap)), take(t, river(page, sheet, chart))
			j := judging.JudgeUpdate(before, now, []string{"/themes/quay-child"})
			switch got := findings(j); {
			case c.want == "" && j.Verdict != smoke.Sound:
				t.Errorf("it is %s:\n%s", j.Verdict, got)
			case !strings.Contains(got, c.want):
				t.Errorf("%q is not found in:\n%s", c.want, got)
			}
		})
	}
}

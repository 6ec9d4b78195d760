package fetching

import (
	"math/rand/v2"
	"net/http"
	"strings"
	"testing"
	"time"

	"wetland/core/smoke"
	"wetland/internal/testenv"
)

// The second corpus: written as a list of what goes wrong in practice, without a look at the
// rules. Its first measure, before any rule was changed for it, is in docs/smoke.md.

// page changes every page: each old text becomes the new one that follows it.
func page(oldNew ...string) func(http.Handler) http.Handler {
	replacer := strings.NewReplacer(oldNew...)
	return edited(replacer.Replace)
}

// headers sets headers of every answer.
func headers(nameValue ...string) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			next.ServeHTTP(headed{w, nameValue}, r)
		})
	}
}

type headed struct {
	http.ResponseWriter
	nameValue []string
}

func (h headed) WriteHeader(status int) {
	for i := 0; i < len(h.nameValue); i += 2 {
		h.Header().Set(h.nameValue[i], h.nameValue[i+1])
	}
	h.ResponseWriter.WriteHeader(status)
}

// at hands the paths that begin with prefix to another handler.
func at(prefix string, other http.HandlerFunc) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if strings.HasPrefix(r.URL.Path, prefix) {
				other(w, r)
				return
			}
			next.ServeHTTP(w, r)
		})
	}
}

// addStyle appends to the style sheet.
func addStyle(css string) []change {
	return one("style.css", "footer { text-align", css+"\nfooter { text-align")
}

var secondBreakages = []mutation{
	{name: "template's source shown", want: smoke.Broken, wrap: page("<h1>", "<?php the_title( '<h1>' ); ?><h1>")},
	{name: "placeholders of a template not filled in", want: smoke.Doubtful, wrap: page("crossing the Otter since 1874", "{{ site.motto }} {{ year }}")},
	{name: "an object where words were", want: smoke.Doubtful, wrap: page("crossing the Otter since 1874", "[object Object]")},
	{name: "whole document as plain text", want: smoke.Broken, wrap: headers("Content-Type", "text/plain")},
	{name: "page is offered as a file to keep", want: smoke.Broken, wrap: headers("Content-Disposition", "attachment; filename=page.html")},
	{name: "noindex in a header", want: smoke.Broken, wrap: headers("X-Robots-Tag", "noindex, nofollow")},
	{name: "styles forbidden by a policy", want: smoke.Broken, onlyBrowser: true, wrap: headers("Content-Security-Policy", "style-src 'none'")},
	{name: "wrong character set in the header", want: smoke.Broken, changes: one("parts/foot.html", "crossing the Otter since 1874", "täglich über den Fluß, für Fährgäste"), wrap: headers("Content-Type", "text/html; charset=iso-8859-1")},
	{name: "comment never closed", want: smoke.Broken, changes: one("parts/head.html", "<header>", "<!-- header ><header>")},
	{name: "title never closed", want: smoke.Broken, changes: one("parts/head.html", "</title>", "")},
	{name: "style never closed", want: smoke.Broken, changes: one("parts/head.html", "</head>", "<style>.bell { color: red; }</head>")},
	{name: "script never closed", want: smoke.Broken, changes: one("parts/head.html", "</head>", "<script>var bell = 1;</head>")},
	{name: "moves on to another site by itself", want: smoke.Broken, changes: one("parts/head.html", "</title>", `</title><meta http-equiv="refresh" content="0;url=https://lantern.example/">`)},
	{name: "addresses counted from elsewhere", want: smoke.Broken, changes: one("parts/head.html", "<title>", `<base href="https://nowhere.example/"><title>`)},
	{name: "curtain over the page", want: smoke.Broken, onlyBrowser: true, changes: one("parts/foot.html", "</body>", `<div style="position:fixed;inset:0;background:#fff;z-index:99999"></div></body>`)},
	{name: "loading screen that never goes", want: smoke.Broken, onlyBrowser: true, changes: []change{{theme + "parts/foot.html", "</body>", `<div class="loading">Loading</div></body>`}, {theme + "style.css", "footer { text-align", ".loading { position: fixed; top: 0; left: 0; width: 100%; height: 100%; background: #0f4c5c; z-index: 9999 }\nfooter { text-align"}}},
	{name: "white letters on white", want: smoke.Doubtful, onlyBrowser: true, changes: addStyle("main, main * { color: #fff !important; background: #fff !important; }")},
	{name: "letters of no size", want: smoke.Broken, changes: addStyle("body, main, main * { font-size: 0 !important; }")},
	{name: "main part out of the screen", want: smoke.Broken, changes: addStyle("main { position: absolute; left: -9999px; }")},
	{name: "main part of no height", want: smoke.Broken, changes: addStyle("main { height: 0; overflow: hidden; padding: 0; }")},
	{name: "main part shrunk to nothing", want: smoke.Broken, changes: addStyle("main { transform: scale(0); }")},
	{name: "main part clipped away", want: smoke.Broken, changes: addStyle("main { clip-path: inset(100%); }")},
	{name: "main part a hand wide", want: smoke.Doubtful, onlyBrowser: true, changes: addStyle(".wrap main { max-width: 120px; }")},
	{name: "header over the main part", want: smoke.Doubtful, onlyBrowser: true, changes: addStyle("header { position: fixed; inset: 0; height: 90vh; }")},
	{name: "menu hidden", want: smoke.Doubtful, changes: addStyle("nav { display: none; }")},
	{name: "form hidden", want: smoke.Broken, onlyBrowser: true, changes: addStyle("form { display: none; }")},
	{name: "two style sheets, one of them lost", want: smoke.Doubtful, changes: one("parts/head.html", `{{template "parts/extra-head.html" .}}`, `<link rel="stylesheet" href="/themes/harbourlight/assets/no-print.css">`)},
	{name: "style sheet leads on to one that is not there", want: smoke.Broken, changes: one("style.css", "", `@import "main.css";`)},
	{name: "entries lead nowhere", want: smoke.Doubtful, changes: one("notices.html", `<a href="/notices/{{.Slug}}">`, `<a href="">`)},
	{name: "entries lead to what is not there", want: smoke.Doubtful, changes: one("notices.html", `<a href="/notices/{{.Slug}}">`, `<a href="/old-notices/{{.Slug}}">`)},
	{name: "menu leads to what is not there", want: smoke.Broken, changes: one("parts/menu.html", `<a href="{{.Path}}">`, `<a href="/index{{.Path}}.asp">`)},
	{name: "menu leads to one page", want: smoke.Broken, changes: one("parts/menu.html", `<a href="{{.Path}}">`, `<a href="#">`)},
	{name: "form sends to nowhere", want: smoke.Broken, changes: []change{{"plugins/enquiries/blocks/form.html", `action="/contact"`, `action="https://nowhere.example/"`}}},
	{name: "form asks instead of sending", want: smoke.Doubtful, changes: []change{{"plugins/enquiries/blocks/form.html", `method="post"`, `method="get"`}}},
	{name: "form without its button", want: smoke.Broken, changes: []change{{"plugins/enquiries/blocks/form.html", `<button>Ask the ferryman</button>`, ""}}},
	{name: "form that cannot be sent", want: smoke.Broken, changes: []change{{"plugins/enquiries/blocks/form.html", `<button>Ask`, `<button disabled>Ask`}}},
	{name: "board without its rows", want: smoke.Broken, changes: []change{{"plugins/tidetable/blocks/board.html", "ORDER BY departs", "WHERE 1 = 0"}}},
	{name: "block's heading left, its list gone", want: smoke.Doubtful, changes: []change{{"plugins/tidetable/blocks/next.html", "LIMIT 3", "LIMIT 0"}}},
	{name: "every page is the front page", want: smoke.Broken, changes: one("page.html", "{{.Body}}", "<p>The ferry across the Otter. Come aboard at the Steps.</p>")},
	{name: "header twice", want: smoke.Doubtful, changes: one("parts/menu.html", "", `<nav aria-label="Main"><ul>{{range .Menu}}<li><a href="{{.Path}}">{{.Label}}</a></li>{{end}}</ul></nav></header><header><span class="name">{{.Site}}</span><nav aria-label="Main"><ul>{{range .Menu}}<li><a href="{{.Path}}">{{.Label}}</a></li>{{end}}</ul></nav>`)},
	{name: "no rule for small screens any more", want: smoke.Doubtful, changes: one("parts/head.html", `<meta name="viewport" content="width=device-width, initial-scale=1">`, "")},
	{name: "right to left", want: smoke.Doubtful, changes: one("parts/head.html", `<html lang="en">`, `<html lang="en" dir="rtl">`)},
	{name: "everyone must sign in", want: smoke.Broken, wrap: at("/fares", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/sign-in", http.StatusFound) })},
	{name: "down for maintenance, with a kind word", want: smoke.Broken, wrap: at("/fares", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		_, _ = w.Write([]byte("<!DOCTYPE html><html><head><title>Soon back</title></head><body><h1>We will be back in a minute</h1><p>Our site is being looked after.</p></body></html>"))
	})},
	{name: "not allowed", want: smoke.Broken, wrap: at("/fares", func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "forbidden", http.StatusForbidden) })},
	{name: "page hangs", want: smoke.Broken, wrap: at("/fares", func(_ http.ResponseWriter, r *http.Request) {
		select {
		case <-r.Context().Done():
		case <-time.After(time.Minute):
		}
	})},
	{name: "line is cut", want: smoke.Broken, wrap: at("/fares", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "4000")
		_, _ = w.Write([]byte("<!DOCTYPE html><html><head><title>Fares"))
		panic(http.ErrAbortHandler)
	})},
	{name: "what is not there is said to be", want: smoke.Doubtful, wrap: at("/no-such-page", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		_, _ = w.Write([]byte("<!DOCTYPE html><html lang=\"en\"><head><title>Otterby Ferry</title></head><body><main><h1>Otterby Ferry</h1><p>Welcome aboard.</p></main></body></html>"))
	})},
	{name: "scripts blocked by their type", want: smoke.Doubtful, onlyBrowser: true, changes: one("parts/head.html", `<script src="{{asset "assets/menu.js"}}" defer>`, `<script type="module" crossorigin="use-credentials" src="/sign-in" defer>`)},
	{name: "debugging output above the page", want: smoke.Broken, wrap: page("<!DOCTYPE html>", "array(2) {\n  [0]=>\n  string(4) \"tide\"\n  [1]=>\n  int(3)\n}\n<!DOCTYPE html>")},
	{name: "stack of a template engine", want: smoke.Broken, changes: one("page.html", "{{.Body}}", "Twig\\Error\\RuntimeError: Variable \"tide\" does not exist in \"page.twig\" at line 12.")},
	{name: "database server refuses", want: smoke.Broken, changes: one("page.html", "{{.Body}}", "SQLSTATE[42S22]: Column not found: 1054 Unknown column 'tide' in 'field list'")},
	{name: "text of the page cut to its first words", want: smoke.Doubtful, changes: one("page.html", "{{.Body}}", "{{slice .Body 0 30}}")},
	{name: "markup made safe twice", want: smoke.Doubtful, wrap: page("crossing the Otter since 1874", "&lt;strong&gt;crossing the Otter&lt;/strong&gt; since 1874")},
	{name: "letters made safe twice", want: smoke.Doubtful, wrap: page("crossing the Otter", "crossing the Otter &amp;#8217;tis")},
	{name: "no doctype", want: smoke.Doubtful, wrap: page("<!DOCTYPE html>", "")},
	{name: "board without one of its columns", want: smoke.Doubtful, changes: []change{{"plugins/tidetable/blocks/board.html", "<td>{{.departs}}</td>", ""}, {"plugins/tidetable/blocks/board.html", "<th>Departs</th>", ""}}},
	{name: "page says everything twice", want: smoke.Doubtful, changes: one("page.html", "{{.Body}}", "{{.Body}}{{.Body}}")},
	{name: "loads itself anew without end", want: smoke.Doubtful, changes: one("parts/head.html", "</title>", `</title><meta http-equiv="refresh" content="1">`)},
	{name: "logo as large as the page", want: smoke.Doubtful, onlyBrowser: true, changes: one("style.css", "header img { height: 3rem; }", "header img { height: 900px; }")},
	{name: "answers as data", want: smoke.Broken, wrap: headers("Content-Type", "application/json")},
	{name: "one entry over and over", want: smoke.Doubtful, changes: one("notices.html", "{{.Title}}</a></h2>", "The same</a></h2>")},
	{name: "keys instead of words", want: smoke.Doubtful, changes: one("parts/menu.html", "{{.Label}}", "menu.item.label")},
	{name: "menu without its words", want: smoke.Broken, changes: one("parts/menu.html", "{{.Label}}", "")},
	{name: "entry's text gone, its heading left", want: smoke.Doubtful, changes: one("notices.html", "<p>{{.Summary}}</p>", "")},
	{name: "notice without its text", want: smoke.Broken, changes: one("notice.html", "{{.Body}}", "")},
	{name: "side column's lists gone", want: smoke.Doubtful, changes: one("parts/side.html", "{{range .Latest}}", "{{range slice .Latest 0 0}}")},
	{name: "style sheet of the child lost", want: smoke.Doubtful, changes: []change{{"themes/otterby/parts/extra-head.html", `{{own "crossing.css"}}`, "/themes/otterby/none.css"}}},
	{name: "style sheet cut in the middle of a rule", want: smoke.Doubtful, changes: one("style.css", ".wrap { display: grid;", ".wrap { display: grid; } } }")},
	{name: "comment in the style sheet never closed", want: smoke.Doubtful, changes: one("style.css", ".wrap { display: grid;", "/* .wrap { display: grid;")},
	{name: "colours lost: the values are not set", want: smoke.Doubtful, changes: one("style.css", ":root { --ink: #17313b; --deep: #0f4c5c; --foam: #eef6f6; --sand: #f4ead5; --lamp: #e09f3e; }", "")},
	{name: "header white on white", want: smoke.Doubtful, changes: one("style.css", "header { background: var(--deep);", "header { background: #fff;")},
	{name: "fonts of the page lost", want: smoke.Doubtful, changes: one("style.css", `font: 17px/1.6 Georgia, "DejaVu Serif", serif;`, "")},
}

var secondHarmless = []mutation{
	{name: "divider of the title", changes: one("parts/head.html", "{{.Title}} - {{.Site}}", "{{.Title}} | {{.Site}}")},
	{name: "title the other way round", changes: one("parts/head.html", "{{.Title}} - {{.Site}}", "{{.Site}}: {{.Title}}")},
	{name: "classes renamed in page and style sheet", changes: []change{{theme + "style.css", ".wrap {", ".frame {"}, {theme + "style.css", ".wrap { grid-template-columns: minmax(0, 1fr); padding", ".frame { grid-template-columns: minmax(0, 1fr); padding"}, {theme + "parts/head.html", `<div class="wrap">`, `<div class="frame">`}}},
	{name: "style sheet written into the page", changes: one("parts/head.html", "</title>", "</title><style>.bell { letter-spacing: 1px; }</style>")},
	{name: "script moved to the end", changes: []change{{theme + "parts/head.html", `<script src="{{asset "assets/menu.js"}}" defer></script>`, ""}, {theme + "parts/foot.html", "</body>", `<script src="/themes/harbourlight/assets/menu.js"></script></body>`}}},
	{name: "script done without", changes: one("parts/head.html", `<script src="{{asset "assets/menu.js"}}" defer></script>`, "")},
	{name: "flex instead of grid in the menu", changes: one("style.css", "nav ul { list-style: none; display: flex; gap: 1.2rem;", "nav ul { list-style: none; display: flex; flex-flow: row wrap; column-gap: 1.2rem;")},
	{name: "widths in other units", changes: one("style.css", "minmax(0, 1fr) 17rem", "minmax(0, 1fr) 289px")},
	{name: "darker colours", changes: one("style.css", "--foam: #eef6f6", "--foam: #dde9e9")},
	{name: "larger headings", changes: addStyle("h1 { font-size: 2.4rem; margin-top: 0; }")},
	{name: "rounder corners and a shadow", changes: addStyle("main { border-radius: 12px; box-shadow: 0 2px 8px #0003; }")},
	{name: "a button that follows", changes: []change{{theme + "style.css", "footer { text-align", ".up { position: fixed; right: 1rem; bottom: 1rem; }\nfooter { text-align"}, {theme + "parts/foot.html", "</body>", `<a class="up" href="#">Up</a></body>`}}},
	{name: "menu for phones behind a button", changes: one("style.css", "@media (max-width: 50rem) {", "@media (max-width: 50rem) { nav ul { gap: .6rem; }")},
	{name: "help for screen readers in the form", changes: []change{{"plugins/enquiries/blocks/form.html", `<label>Your name <input name="sender" required>`, `<label for="sender">Your name</label><input id="sender" name="sender" aria-required="true" required>`}}},
	{name: "one field more", changes: []change{{"plugins/enquiries/blocks/form.html", "<button>", `<label>Telephone <input name="telephone"></label><button>`}}},
	{name: "field against machines", changes: []change{{"plugins/enquiries/blocks/form.html", "<button>", `<input type="text" name="website" style="display:none" tabindex="-1"><button>`}}},
	{name: "button is an input", changes: []change{{"plugins/enquiries/blocks/form.html", `<button>Ask the ferryman</button>`, `<input type="submit" value="Ask the ferryman">`}}},
	{name: "form's address with an anchor", changes: []change{{"plugins/enquiries/blocks/form.html", `action="/contact"`, `action="/contact#enquiry"`}}},
	{name: "column more in the board", changes: []change{{"plugins/tidetable/blocks/board.html", "<th></th></tr>", "<th>Note</th><th>Boat</th></tr>"}}},
	{name: "one sailing fewer in a list", changes: []change{{"plugins/tidetable/blocks/next.html", "LIMIT 3", "LIMIT 2"}}},
	{name: "banner that turns", wrap: edited(func(body string) string {
		said := []string{"Mind the gap.", "Hold the rail.", "Dogs go free.", "Coin or card."}[rand.IntN(4)]
		return strings.Replace(body, "</header>", "<p>"+said+"</p></header>", 1)
	})},
	{name: "notice of cookies", changes: one("parts/foot.html", "</body>", `<div role="dialog" aria-label="Cookies" style="position:fixed;bottom:0;left:0;right:0;padding:1rem;background:#fff"><p>We keep no cookies but one.</p><button>Good</button></div></body>`)},
	{name: "links with a mark where they come from", changes: one("parts/side.html", `href="/notices/{{.Slug}}"`, `href="/notices/{{.Slug}}?from=side"`)},
	{name: "whole addresses instead of short ones", wrap: page(`href="/notices`, `href="/./notices`)},
	{name: "author and date told", changes: one("notice.html", `<p class="when">`, `<p class="by">By the ferryman</p><p class="when">`)},
	{name: "more of each notice in the list", changes: one("notices.html", "<p>{{.Summary}}</p>", "<p>{{.Summary}}</p><p>{{.Summary}}</p>")},
	{name: "list marked up as a list", changes: one("notices.html", `<p class="when">{{.Posted}}</p>`, `<time class="when">{{.Posted}}</time>`)},
	{name: "crumbs above the heading", changes: one("page.html", "<h1>", `<p class="crumbs"><a href="/">Ferry</a> &rsaquo; {{.Title}}</p><h1>`)},
	{name: "picture in other sizes", changes: one("parts/head.html", `alt="">`, `alt="" srcset="/themes/harbourlight/assets/lantern.svg 2x" width="48" height="48">`)},
	{name: "icons drawn in the page", changes: one("parts/head.html", `<span class="name">`, `<svg width="16" height="16" aria-hidden="true"><circle cx="8" cy="8" r="8"/></svg><span class="name">`)},
	{name: "share links", changes: one("notice.html", "<p><a href=\"/notices\">", `<ul class="share"><li><a href="https://letters.example/share">Write of it</a></li></ul><p><a href="/notices">`)},
	{name: "headers of safety", wrap: headers("X-Content-Type-Options", "nosniff", "Referrer-Policy", "same-origin", "X-Frame-Options", "DENY")},
	{name: "answers in pieces, not whole", wrap: headers("Cache-Control", "no-store", "Vary", "Cookie")},
	{name: "two hundred milliseconds", wrap: func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			time.Sleep(200 * time.Millisecond)
			next.ServeHTTP(w, r)
		})
	}},
	{name: "words of code on a page about code", wrap: page("All notices", "All notices on var_dump and {braces} and Warning: high water on line 12 of the tables")},
}

func TestSecondCorpus(t *testing.T) {
	testenv.TakesLong(t)
	f := newFerry(t)
	f.fetcher.Timeout = 5 * time.Second
	f.measure(t, secondBreakages, secondHarmless, 1)
}

func TestSecondCorpusWithABrowser(t *testing.T) {
	f := looked(t, newFerry(t))
	f.pages = []smoke.Page{{Path: "/timetable"}, {Path: "/contact"}, {Path: "/notices"}, {Path: "/notices/new-boat"}, {Path: "/fares"}, {Path: "/no-such-page", Status: http.StatusNotFound}}
	if sample(2) != 1 {
		f.pages, f.partly = f.pages[:2], true
	}
	f.measure(t, secondBreakages, secondHarmless, sample(48))
}

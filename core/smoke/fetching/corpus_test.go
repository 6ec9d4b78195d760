package fetching

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"wetland/core/progress"
	"wetland/core/smoke"
	"wetland/core/smoke/judging"
	"wetland/core/smoke/reading"
	"wetland/internal/testenv"
)

// The corpus: breakages and harmless updates, each a small change of the demo's theme or
// plugins, rendered by the site's own CMS. What a verdict ought to be comes from what a
// visitor would say, not from what the checks can see: want is the least that a breakage
// must get.

// change is one replacement in one file of the site; old "" replaces all of it.
type change struct{ file, old, new string }

type mutation struct {
	name    string
	want    smoke.Verdict
	changes []change
	// onlyBrowser marks what cannot be seen without one.
	onlyBrowser bool
	unseen      bool // it is known that it is not found
	wrap        func(http.Handler) http.Handler
}

const theme = "themes/harbourlight/"

func one(file, old, new string) []change { return []change{{theme + file, old, new}} }

const fatal = "\n<b>Fatal error</b>:  Uncaught Error: Call to undefined function lantern() in /srv/ferry/themes/harbourlight/parts/side.php on line 12"

// edited changes every page on its way.
func edited(change func(body string) string) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return testenv.EditPages(next, func(_ *http.Request, body string) string { return change(body) })
	}
}

var breakages = []mutation{
	{name: "fatal in one template", want: smoke.Broken, changes: one("notice.html", "", `{{template "no/such.html" .}}`)},
	{name: "white page", want: smoke.Broken, changes: one("page.html", "", "")},
	{name: "white page with its frame", want: smoke.Broken, changes: one("page.html", "", "<!DOCTYPE html><html><head><title>x</title></head><body></body></html>")},
	{name: "warning above the document", want: smoke.Broken, changes: one("parts/head.html", "<!DOCTYPE html>", "<br />\n<b>Warning</b>:  Undefined variable $tide in <b>/srv/ferry/inc/head.php</b> on line <b>3</b><br />\n<!DOCTYPE html>")},
	{name: "error in a comment", want: smoke.Broken, wrap: edited(func(body string) string { return body + "<!-- " + fatal + " -->" })},
	{name: "cut off in the middle", want: smoke.Broken, wrap: edited(func(body string) string { return body[:len(body)/2] })},
	{name: "elements left open", want: smoke.Doubtful, changes: one("parts/side.html", "", "<aside><section><h2>Latest")},
	{name: "cut off with an error", want: smoke.Broken, changes: []change{{theme + "parts/side.html", "", fatal}, {theme + "parts/foot.html", "", "</main>{{template \"parts/side.html\" .}}"}}},
	{name: "database error", want: smoke.Broken, changes: one("page.html", "{{.Body}}", "You have an error in your SQL syntax; check the manual near 'FROM' at line 1")},
	{name: "error in another language", want: smoke.Broken, changes: one("page.html", "{{.Body}}", "<b>Warning</b>: attempt to read property \"tide\" on null in <b>/srv/fähre/tafel.php</b> on line <b>7</b>{{.Body}}")},
	{name: "uncaught exception", want: smoke.Broken, changes: one("page.html", "{{.Body}}", "PHP Fatal error:  Uncaught TypeError: count(): Argument #1 must be of type Countable")},
	{name: "menu gone", want: smoke.Broken, changes: one("parts/menu.html", "", "")},
	{name: "menu without links", want: smoke.Broken, changes: one("parts/menu.html", "{{range .Menu}}<li><a href=\"{{.Path}}\">{{.Label}}</a></li>{{end}}", "")},
	{name: "menu lost half of its links", want: smoke.Doubtful, changes: one("parts/menu.html", "{{range .Menu}}", "{{range slice .Menu 0 3}}")},
	{name: "footer gone", want: smoke.Doubtful, changes: one("parts/foot.html", "<footer>{{.Site}} - crossing the Otter since 1874 - <a href=\"/sign-in\">Sign in</a></footer>", "")},
	{name: "footer empty", want: smoke.Doubtful, changes: one("parts/foot.html", "{{.Site}} - crossing the Otter since 1874 - <a href=\"/sign-in\">Sign in</a>", "")},
	{name: "side column gone", want: smoke.Doubtful, changes: one("parts/foot.html", `{{template "parts/side.html" .}}`, "")},
	{name: "widgets gone", want: smoke.Doubtful, changes: one("parts/side.html", "", "<aside></aside>")},
	{name: "list empty", want: smoke.Broken, changes: one("notices.html", "{{range .Notices}}", "{{range slice .Notices 0 0}}")},
	{name: "list shorter", want: smoke.Doubtful, changes: one("notices.html", "{{range .Notices}}", "{{range slice .Notices 0 1}}")},
	{name: "text of the pages gone", want: smoke.Broken, changes: one("page.html", "{{.Body}}", "")},
	{name: "style sheet not there", want: smoke.Broken, changes: one("parts/head.html", `{{asset "style.css"}}`, "/themes/harbourlight/stile.css")},
	{name: "style sheet empty", want: smoke.Broken, changes: one("style.css", "", "")},
	{name: "style sheet is a web page", want: smoke.Broken, changes: one("style.css", "", "<!DOCTYPE html><html><body><h1>Not found</h1></body></html>")},
	{name: "style sheet no more named", want: smoke.Broken, changes: []change{{theme + "parts/head.html", `<link rel="stylesheet" href="{{asset "style.css"}}">`, ""}, {"themes/otterby/parts/extra-head.html", `<link rel="stylesheet" href="{{own "crossing.css"}}">`, ""}}},
	{name: "style sheet cut off", want: smoke.Broken, changes: one("style.css", "", "body { margin: 0; }")},
	{name: "style sheet hides the content", want: smoke.Broken, changes: one("style.css", "main { background", "main { display: none; background")},
	{name: "style sheet hides everything", want: smoke.Broken, changes: one("style.css", "body { margin", "body { opacity: 0; margin")},
	{name: "hidden by a rule further down", want: smoke.Broken, changes: one("style.css", "footer { text", ".wrap main { visibility: hidden !important } footer { text")},
	{name: "one column instead of two", want: smoke.Doubtful, changes: one("style.css", "display: grid; grid-template-columns: minmax(0, 1fr) 17rem;", "display: block;")},
	{name: "side column to the left of a new grid", want: smoke.Doubtful, changes: one("style.css", "minmax(0, 1fr) 17rem;", "12rem minmax(0, 1fr) 17rem;")},
	{name: "menu in a column", want: smoke.Doubtful, changes: one("style.css", "header { background: var(--deep); color: #fff; padding: 1.2rem 2rem; display: flex;", "header { background: var(--deep); color: #fff; padding: 1.2rem 2rem; display: flex; flex-direction: column;")},
	{name: "only the phone: content hidden", want: smoke.Broken, changes: one("style.css", "padding: 0 1rem; } }", "padding: 0 1rem; } main { display: none; } }")},
	{name: "only the phone: two columns", want: smoke.Doubtful, changes: one("style.css", "@media (max-width: 50rem) { .wrap { grid-template-columns: minmax(0, 1fr);", "@media (max-width: 50rem) { .wrap {")},
	{name: "script cannot be read", want: smoke.Doubtful, changes: one("assets/menu.js", "function () {", "function ( {")},
	{name: "script in the page cannot be read", want: smoke.Doubtful, changes: one("parts/foot.html", "</body>", "<script>var slider = { start: function() { ;</script></body>")},
	{name: "script not there", want: smoke.Doubtful, changes: one("parts/head.html", `{{asset "assets/menu.js"}}`, "/themes/harbourlight/assets/gone.js")},
	{name: "script fails when it runs", want: smoke.Doubtful, onlyBrowser: true, changes: one("assets/menu.js", "document.addEventListener", "lantern.start(); document.addEventListener")},
	{name: "script empties the page", want: smoke.Broken, onlyBrowser: true, changes: one("assets/menu.js", "document.querySelectorAll", `document.querySelector("main").remove(); document.querySelectorAll`)},
	{name: "form gone", want: smoke.Broken, changes: []change{{"plugins/enquiries/blocks/form.html", "", "<p>Write to us.</p>"}}},
	{name: "form without its fields", want: smoke.Broken, changes: one("sign-in.html", `<label>Password <input name="password" type="password" autocomplete="current-password"></label>`, "")},
	{name: "only the sign-in page", want: smoke.Broken, changes: one("sign-in.html", "{{.Title}}", "{{.NoSuchThing}}")},
	{name: "only the not-found page", want: smoke.Broken, changes: one("missing.html", "", fatal)},
	{name: "noindex", want: smoke.Broken, changes: one("parts/head.html", "</title>", `</title><meta name="robots" content="noindex,nofollow">`)},
	{name: "wrong language", want: smoke.Doubtful, changes: one("parts/head.html", `lang="en"`, `lang="sv"`)},
	{name: "wrong character set", want: smoke.Broken, changes: one("parts/foot.html", "crossing the Otter since 1874", "fÃ¤hrt Ã¼ber den FluÃŸ, tÃ¤glich fÃ¼r Sie")},
	{name: "heading gone", want: smoke.Doubtful, changes: one("page.html", "<h1>{{.Title}}</h1>", "")},
	{name: "titles gone", want: smoke.Doubtful, changes: one("parts/head.html", "<title>{{.Title}} - {{.Site}}</title>", "<title></title>")},
	{name: "canonical of another site", want: smoke.Doubtful, changes: one("parts/head.html", "</title>", `</title><link rel="canonical" href="https://staging.example/">`)},
	{name: "images gone", want: smoke.Doubtful, changes: one("parts/head.html", `<img src="{{asset "assets/lantern.svg"}}" alt="">`, "")},
	{name: "image broken", want: smoke.Doubtful, changes: one("parts/head.html", `{{asset "assets/lantern.svg"}}`, "/themes/harbourlight/assets/no.svg")},
	{name: "menu moved to the footer", want: smoke.Doubtful, changes: []change{{theme + "parts/head.html", `{{template "parts/menu.html" .}}`, ""}, {theme + "parts/foot.html", "<footer>", `<footer>{{template "parts/menu.html" .}}`}}},
	{name: "redirect loop", want: smoke.Broken, wrap: func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/fares" {
				http.Redirect(w, r, "/fares", http.StatusFound)
				return
			}
			next.ServeHTTP(w, r)
		})
	}},
	// The cache goes on handing out the healthy page until it is emptied.
	{name: "only once the cache is purged", want: smoke.Broken, wrap: func(next http.Handler) http.Handler {
		broken := edited(func(body string) string { return body[:len(body)/2] + fatal })(next)
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if strings.Contains(r.URL.RawQuery, reading.FreshMark) {
				broken.ServeHTTP(w, r)
				return
			}
			w.Header().Set("Age", "300")
			next.ServeHTTP(w, r)
		})
	}},
	{name: "page is a short note", want: smoke.Broken, wrap: func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/fares" {
				w.Header().Set("Content-Type", "text/html")
				fmt.Fprint(w, `<html><head><title>Fares</title></head><body>Moved</body></html>`)
				return
			}
			next.ServeHTTP(w, r)
		})
	}},
}

var harmless = []mutation{
	{name: "version bump", changes: one("theme.toml", `version = "2.4.1"`, `version = "2.4.2"`)},
	{name: "new asset address", changes: one("parts/head.html", `{{asset "style.css"}}`, "/themes/harbourlight/style.css?ver=9")},
	{name: "generator", changes: one("parts/head.html", "</title>", `</title><meta name="generator" content="Rowlock 3.3">`)},
	{name: "extra meta", changes: one("parts/head.html", "</title>", `</title><meta name="color-scheme" content="light">`)},
	{name: "whitespace", changes: one("page.html", "<h1>", "\n\n   <h1>\n")},
	{name: "attributes reordered", changes: one("sign-in.html", `<input name="name" autocomplete="username">`, `<input autocomplete="username" name="name">`)},
	{name: "typo mended in the footer", changes: one("parts/foot.html", "since 1874", "since 1847")},
	{name: "typo mended in a heading", changes: one("parts/side.html", "Latest notices", "Latest notice")},
	{name: "words of a heading", changes: one("parts/side.html", "Next sailings", "Next sailings today")},
	{name: "class added", changes: one("parts/foot.html", "<footer>", `<footer class="quiet">`)},
	{name: "image recompressed", changes: one("assets/lantern.svg", "<svg", "<!-- packed anew -->\n<svg")},
	{name: "block that half of the visitors get", wrap: edited(func(body string) string {
		if rand.IntN(2) == 0 {
			return body
		}
		return strings.Replace(body, "</main>", "<p>Try the new evening crossing.</p></main>", 1)
	})},
	{name: "other shade", changes: one("style.css", "--deep: #0f4c5c", "--deep: #104e5e")},
	{name: "other font size", changes: one("style.css", "font: 17px/1.6", "font: 18px/1.6")},
	{name: "more room", changes: one("style.css", "gap: 2rem", "gap: 2.4rem")},
	{name: "wider side column", changes: one("style.css", "17rem; gap", "18rem; gap")},
	{name: "minified style sheet", changes: []change{{theme + "style.css", "MINIFY", ""}}},
	{name: "rules for paper", changes: one("style.css", "@media (max", "@media print { header, aside, footer { display: none; } } @media (max")},
	{name: "hidden helper for screen readers", changes: []change{{theme + "style.css", "@media (max", ".skip { position: absolute; left: -9999px; } @media (max"}, {theme + "parts/head.html", "<body>", `<body><a class="skip" href="#main">Skip to the content</a>`}}},
	{name: "lazy images", changes: one("parts/head.html", `alt="">`, `alt="" loading="lazy">`)},
	{name: "new nonce in a form", changes: one("sign-in.html", "<button>", `<input type="hidden" name="nonce" value="a81f"><button>`)},
	{name: "new script", changes: []change{{theme + "assets/new.js", "", "window.ferry = { open: true };"}, {theme + "parts/head.html", "</title>", `</title><script src="/themes/harbourlight/assets/new.js" defer></script>`}}},
	{name: "script rewritten", changes: one("assets/menu.js", "", `for (const link of document.querySelectorAll("nav a")) { if (link.pathname === location?.pathname) link.ariaCurrent = "page"; }`)},
	{name: "new section in the side column", changes: one("parts/side.html", "</aside>", "<section><h2>Weather</h2><p>Mist until ten.</p></section></aside>")},
	{name: "another link in the menu", changes: one("parts/menu.html", "</ul>", `<li><a href="/fares">Prices</a></li></ul>`)},
	{name: "banner reworded", changes: one("parts/ferry-banner.html", "at dusk, all year round", "at dusk")},
	{name: "footer with a note", changes: one("parts/foot.html", "Sign in</a></footer>", "Sign in</a> <small>Made with care on the river bank.</small></footer>")},
	{name: "list in other words", changes: one("notices.html", `<p class="when">{{.Posted}}</p>`, `<p class="when">Posted on {{.Posted}}</p>`)},
	{name: "role added", changes: one("parts/menu.html", `<nav aria-label="Main">`, `<nav aria-label="Main" role="navigation">`)},
	{name: "search engines told more", changes: one("parts/head.html", "</title>", `</title><meta name="robots" content="max-image-preview:large"><script type="application/ld+json">{"@type": "FerryTerminal"}</script>`)},
	{name: "preloading", changes: one("parts/head.html", "</title>", `</title><link rel="preload" as="style" href="/themes/harbourlight/style.css">`)},
	{name: "comment in the page", wrap: edited(func(body string) string { return body + "<!-- 48 queries, 0.2 seconds, no error -->" })},
	{name: "packed in one line", wrap: edited(func(body string) string { return strings.Join(strings.Fields(body), " ") })},
}

// ferry is the demo site, served, to be changed.
type ferry struct {
	root    string
	site    *testenv.Site // of a WordPress
	fetcher *Fetcher
	pages   []smoke.Page
	partly  bool         // not all pages: what is on others is not caught
	wrapped atomic.Value // func(http.Handler) http.Handler
	noise   atomic.Int64
	changes int
}

func newFerry(t testing.TB) *ferry {
	t.Helper()
	dir := t.TempDir()
	f := &ferry{root: filepath.Join(dir, "site")}
	f.wrapped.Store(func(next http.Handler) http.Handler { return next })
	var site http.Handler
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		f.wrapped.Load().(func(http.Handler) http.Handler)(site).ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	testenv.LayOutFerry(t, f.root, filepath.Join(dir, "packages"), server.URL+"/")
	opened := testenv.OpenFerry(t, f.root)
	site = f.noisy(opened)
	address, err := url.Parse(server.URL + "/")
	if err != nil {
		t.Fatal(err)
	}
	f.fetcher = &Fetcher{Address: address}
	for _, path := range []string{"/", "/timetable", "/fares", "/notices", "/notices/new-boat", "/contact", "/sign-in"} {
		f.pages = append(f.pages, smoke.Page{Path: path})
	}
	f.pages = append(f.pages, smoke.Page{Path: "/no-such-page", Status: http.StatusNotFound})
	return f
}

// noisy puts into every page what moves by itself on real ones.
func (f *ferry) noisy(next http.Handler) http.Handler {
	banners := []string{"Otter", "Heron", "Teal"}
	return testenv.EditPages(next, func(_ *http.Request, body string) string {
		n := f.noise.Add(1)
		noise := fmt.Sprintf(`<p>%d visitors, today on the river: the %s.</p><form id="f%d"><input type="hidden" name="nonce" value="%x"></form>`, n, banners[n%3], n, n*7919)
		return strings.Replace(body, "</main>", noise+"</main>", 1)
	})
}

func (f *ferry) take(t testing.TB) *smoke.Take {
	t.Helper()
	take, err := f.fetcher.Take(context.Background(), f.pages, progress.Silent{})
	if err != nil {
		t.Fatal(err)
	}
	return take
}

// apply makes the changes and returns what takes them back.
func (f *ferry) apply(t testing.TB, m mutation) (undo func()) {
	t.Helper()
	originals := map[string][]byte{}
	for _, c := range m.changes {
		file := filepath.Join(f.root, filepath.FromSlash(c.file))
		text, err := os.ReadFile(file)
		if _, saved := originals[file]; !saved {
			originals[file] = text // nil if it is new
		}
		if err != nil && c.old != "" {
			t.Fatal(err)
		}
		changed := c.new
		switch {
		case c.old == "MINIFY":
			changed = strings.NewReplacer("\n", "", ": ", ":", "; ", ";", " { ", "{", "; }", "}").Replace(string(text))
		case c.old != "":
			changed = strings.Replace(string(text), c.old, c.new, 1)
			if changed == string(text) {
				t.Fatalf("%s: %s has no %q", m.name, c.file, c.old)
			}
		}
		f.write(t, file, []byte(changed))
	}
	if m.wrap != nil {
		f.wrapped.Store(m.wrap)
	}
	f.purge(t)
	return func() {
		defer f.purge(t)
		f.wrapped.Store(func(next http.Handler) http.Handler { return next })
		for file, text := range originals {
			if text == nil {
				_ = os.Remove(file)
			} else {
				f.write(t, file, text)
			}
		}
	}
}

// purge empties the caches, as an update does: what visitors get is the page as it is.
func (f *ferry) purge(t testing.TB) {
	t.Helper()
	own, err1 := filepath.Glob(filepath.Join(f.root, "cache", "*"))
	objects, err2 := filepath.Glob(filepath.Join(f.root, "wp-content/cache", "*"))
	if err := errors.Join(err1, err2); err != nil {
		t.Fatal(err)
	}
	for _, name := range append(own, objects...) {
		if err := os.RemoveAll(name); err != nil {
			t.Fatal(err)
		}
	}
}

// write gives a file new bytes and a time that it never had.
func (f *ferry) write(t testing.TB, file string, text []byte) {
	t.Helper()
	f.changes++
	at := time.Now().Add(time.Duration(f.changes) * 2 * time.Second)
	if err := errors.Join(os.WriteFile(file, text, 0o644), os.Chtimes(file, at, at)); err != nil {
		t.Fatal(err)
	}
}

func findings(j *smoke.Judgement) string {
	var all []string
	for _, page := range j.Pages {
		for _, finding := range page.Findings {
			if !finding.Known {
				all = append(all, fmt.Sprintf("%s: %s: %s (%s)", page.Path, finding.Verdict, finding.What, finding.Evidence))
			}
		}
	}
	return strings.Join(all, "\n")
}

// alarm returns 1 if a harmless update is doubted; one that is called broken fails the
// test.
func (f *ferry) alarm(t *testing.T, m mutation, baseline *smoke.Take) int {
	t.Helper()
	undo := f.apply(t, m)
	j := judging.Judge(baseline, f.take(t))
	undo()
	switch j.Verdict {
	case smoke.Sound:
		return 0
	case smoke.Broken:
		t.Errorf("%s is called broken", m.name)
	}
	t.Logf("%s: %s\n%s", m.name, j.Verdict, findings(j))
	return 1
}

// sample is every n-th of a corpus; all of it in the long run.
func sample(n int) int {
	if os.Getenv("WETLAND_TORTURE") != "" {
		return 1
	}
	return n
}

// measure applies every n-th change, and looks whether each breakage is at least as bad as it
// ought to be and at most one in twenty harmless updates doubted.
func (f *ferry) measure(t *testing.T, breakages, harmless []mutation, every int) {
	t.Helper()
	seen := watch(f.fetcher)
	baseline := judging.Steady(judging.Rules{}, f.take(t), f.take(t), f.take(t))
	f.fetcher.Before = baseline
	if j := judging.Judge(baseline, f.take(t)); j.Verdict != smoke.Sound {
		t.Fatalf("nothing was changed:\n%s", findings(j))
	}
	caught, looked, alarms, spared := 0, 0, 0, 0
	for i, m := range breakages {
		if i%every != 0 && (!m.onlyBrowser || f.fetcher.BrowserProgram == "") {
			continue
		}
		looked++
		undo := f.apply(t, m)
		j := judging.Judge(baseline, f.take(t))
		undo()
		due := !f.partly || m.onlyBrowser
		if smoke.Worse(j.Verdict, m.want) != j.Verdict && due && (!m.onlyBrowser || f.fetcher.BrowserProgram != "") {
			t.Errorf("%s: %s, want %s\n%s", m.name, j.Verdict, m.want, findings(j))
		}
		if j.Verdict != smoke.Sound {
			caught++
		}
	}
	for i, m := range harmless {
		if i%every == 0 {
			spared++
			alarms += f.alarm(t, m, baseline)
		}
	}
	t.Logf("%d of %d breakages caught, %d of %d harmless updates doubted", caught, looked, alarms, spared)
	if alarms*20 > len(harmless) {
		t.Errorf("%d of %d harmless updates are doubtful", alarms, spared)
	}
	if j := judging.Judge(baseline, f.take(t)); j.Verdict != smoke.Sound {
		t.Errorf("all changes were taken back:\n%s", findings(j))
	}
	seen.law(t, sample(4))
}

func TestCorpus(t *testing.T) {
	testenv.TakesLong(t)
	newFerry(t).measure(t, breakages, harmless, 1)
}

// Slow is judged against a clock of its own: the answer is held back by the test.
func TestSlowerByMuch(t *testing.T) {
	was := smoke.Facts{Path: "/", Status: 200, Complete: true, Text: 100, Took: 100 * time.Millisecond}
	now := was
	now.Took = 5 * time.Second
	j := judging.Judge(&smoke.Take{Pages: []smoke.Facts{was}}, &smoke.Take{Pages: []smoke.Facts{now}})
	if j.Verdict != smoke.Doubtful || !strings.Contains(findings(j), "it takes 5s, was 100ms") {
		t.Errorf("%s\n%s", j.Verdict, findings(j))
	}
}

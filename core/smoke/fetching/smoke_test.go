package fetching

import (
	"compress/gzip"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/PuerkitoBio/goquery"

	"wetland/core/progress"
	"wetland/core/smoke"
	"wetland/core/smoke/judging"
	"wetland/core/smoke/reading"
)

const goodPage = `<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><title>Timetable - Otterby Ferry</title>
<link rel="stylesheet" href="/style.css?ver=1"><script src="/menu.js"></script></head>
<body><header><nav><a href="/">Home</a> <a href="/fares">Fares</a> <a href="/notices">Notices</a></nav></header>
<main><h1>Timetable</h1><p>` + longText + `</p><img src="/ferry.svg" alt="">
<article><h2>Spring tide</h2></article><article><h2>New boat</h2></article>
<form id="enquiry" action="/contact"><input name="sender"><textarea name="message"></textarea><input type="hidden" name="token" value="1"></form></main>
<aside><h2>Next sailings</h2></aside><footer>since 1874</footer></body></html>`

const longText = "The boats run from first light until dusk, every day of the year but the one of the spring tide, when the river stands above the lower steps and nobody rows."

// take fetches one page whose answer handler gives.
func take(t *testing.T, handler http.HandlerFunc, pages ...smoke.Page) *smoke.Take {
	t.Helper()
	server := httptest.NewServer(handler)
	defer server.Close()
	address, err := url.Parse(server.URL + "/")
	if err != nil {
		t.Fatal(err)
	}
	if len(pages) == 0 {
		pages = []smoke.Page{{Path: "/page"}}
	}
	fetcher := &Fetcher{Address: address, Timeout: time.Minute}
	result, err := fetcher.Take(t.Context(), pages, progress.Silent{})
	if err != nil {
		t.Fatal(err)
	}
	return result
}

// serving answers with the page, and with good files for all else.
func serving(page string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/page", "/moved":
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			fmt.Fprint(w, page)
		case "/style.css":
			w.Header().Set("Content-Type", "text/css")
			fmt.Fprint(w, "body{}")
		case "/menu.js":
			w.Header().Set("Content-Type", "text/javascript")
			fmt.Fprint(w, ";")
		default:
			w.Header().Set("Content-Type", "image/svg+xml")
			fmt.Fprint(w, "<svg/>")
		}
	}
}

func TestReadPage(t *testing.T) {
	facts := take(t, serving(goodPage)).Pages[0]
	if facts.Title != "Timetable - Otterby Ferry" || !facts.Complete || facts.Status != 200 || facts.Entries != 2 || facts.Images != 1 {
		t.Errorf("%+v", facts)
	}
	if !slices.Equal(facts.Headings, []string{"h1 Timetable", "h2 Spring tide", "h2 New boat", "h2 Next sailings"}) {
		t.Errorf("headings %q", facts.Headings)
	}
	if len(facts.Menus) != 1 || facts.Menus[0].Within != "header" || !slices.Equal(facts.Menus[0].Links, []string{"Home", "Fares", "Notices"}) {
		t.Errorf("menus %+v", facts.Menus)
	}
	if len(facts.Forms) != 1 || facts.Forms[0].Name != "enquiry" || !slices.Equal(facts.Forms[0].Fields, []string{"sender", "message"}) {
		t.Errorf("forms %+v", facts.Forms)
	}
	if len(facts.Assets) != 3 || facts.Assets[0].Path != "/style.css" {
		t.Errorf("assets %+v", facts.Assets)
	}
}

// Every mutation of the good page with the verdict and words it must get.
func TestJudgeMutations(t *testing.T) {
	replace := func(old, new string) string { return strings.Replace(goodPage, old, new, 1) }
	before := take(t, serving(goodPage))
	for _, c := range []struct {
		name    string
		page    string
		want    smoke.Verdict
		finding string
	}{
		{"nothing", goodPage, smoke.Sound, ""},
		{"version in asset addresses", replace("ver=1", "ver=2"), smoke.Sound, ""},
		{"white space", strings.ReplaceAll(goodPage, "\n", "\n\n  "), smoke.Sound, ""},
		{"generator tag", replace("</head>", `<meta name="generator" content="Rowlock 3.3"></head>`), smoke.Sound, ""},
		{"new hidden field", replace(`value="1"`, `value="2"`), smoke.Sound, ""},
		{"one heading reworded", replace("New boat", "A new boat"), smoke.Sound, ""},
		{"one link more", replace("</nav>", `<a href="/x">Map</a></nav>`), smoke.Sound, ""},
		{"typo mended", replace("first light", "dawn"), smoke.Sound, ""},
		{"comment after the end", goodPage + "<!-- made in 3 ms -->", smoke.Sound, ""},
		{"cut in the middle", goodPage[:len(goodPage)*2/3], smoke.Broken, "cut off"},
		{"blank", "<html><body></body></html>", smoke.Broken, "blank"},
		{"empty answer", "", smoke.Broken, "cut off"},
		{"PHP fatal error", replace("<h1>", "<br />\n<b>Fatal error</b>:  Uncaught Error: Call to undefined function tide() in <b>/srv/x.php</b> on line <b>12</b><h1>"), smoke.Broken, "error message"},
		{"PHP warning above the document", "Warning: Undefined variable $x in /srv/www/a.php on line 3\n" + goodPage, smoke.Broken, "error message"},
		{"PHP error in a comment", replace("<h1>", "<!-- Notice: Undefined index: a in /srv/a.php on line 9 --><h1>"), smoke.Broken, "error message"},
		{"apology of the CMS", replace("<h1>", `<div class="wp-die-message"><p>Auf dieser Website gab es einen kritischen Fehler.</p></div><h1>`), smoke.Broken, "error message"},
		{"database error", replace("<h1>", "Error establishing a database connection<h1>"), smoke.Broken, "error message"},
		{"menu gone", replace(`<nav><a href="/">Home</a> <a href="/fares">Fares</a> <a href="/notices">Notices</a></nav>`, ""), smoke.Broken, "the menu with 3 links in the header is gone"},
		{"menu shorter", replace(` <a href="/notices">Notices</a>`, ""), smoke.Doubtful, "the menu lost 1 of 3 links: Notices"},
		{"form gone", replace(`<form id="enquiry" action="/contact"><input name="sender"><textarea name="message"></textarea>`, `<form id="search"><input name="q">`), smoke.Broken, `the form "enquiry" is gone`},
		{"form renamed", replace(`id="enquiry"`, `id="enquiries-form-3"`), smoke.Sound, ""},
		{"a menu's link reworded", replace(`>Fares<`, `>Prices<`), smoke.Sound, ""},
		{"a menu's links in no language", strings.NewReplacer(">Home<", ">menu.home<", ">Fares<", ">menu.fares<", ">Notices<", ">menu.notices<").Replace(goodPage), smoke.Doubtful, "links of the menu have other words"},
		{"list of other elements", strings.ReplaceAll(goodPage, "article", "section"), smoke.Sound, ""},
		{"headings of another level", strings.ReplaceAll(goodPage, "h2>", "h3>"), smoke.Sound, ""},
		{"image drawn in the page", replace(`<img src="/ferry.svg" alt="">`, `<svg viewBox="0 0 8 8"><circle r="4"/></svg>`), smoke.Sound, ""},
		{"style sheet written into the page", replace(`<link rel="stylesheet" href="/style.css?ver=1">`, `<style>body{}</style>`), smoke.Sound, ""},
		{"style sheet switched on later", replace(`rel="stylesheet"`, `rel="preload" as="style" onload="this.rel='stylesheet'"`), smoke.Sound, ""},
		{"field gone", replace(`<textarea name="message"></textarea>`, ""), smoke.Broken, "lost 1 of 2 fields: message"},
		{"list empty", strings.NewReplacer("<article><h2>Spring tide</h2></article>", "", "<article><h2>New boat</h2></article>", "").Replace(goodPage), smoke.Broken, "the list shows 0 entries, was 2"},
		{"list shorter", replace("<article><h2>New boat</h2></article>", ""), smoke.Doubtful, "the list shows 1 entries, was 2"},
		{"side column gone", strings.ReplaceAll(goodPage, "aside", "div"), smoke.Doubtful, "the side column is gone"},
		{"footer gone", strings.ReplaceAll(goodPage, "footer", "div"), smoke.Doubtful, "the footer is gone"},
		{"menu moved", strings.NewReplacer("<header>", "<div>", "</header>", "</div>").Replace(goodPage), smoke.Doubtful, "the menu moved from the header to the page"},
		{"main heading gone", replace("<h1>Timetable</h1>", ""), smoke.Doubtful, "headings are gone"},
		{"much text gone", strings.ReplaceAll(replace(longText, ""), "</main>", "<p>The boats run from first light until dusk every day of the year.</p></main>"), smoke.Broken, "the text of the page is gone"},
		{"another text", replace(longText, "This is where the words of the ferry stood, and now somebody else's are here, of which there are as many."), smoke.Broken, "the text of the page is gone"},
		{"links that lead nowhere", strings.NewReplacer(`"/fares"`, `"#"`, `"/notices"`, `""`).Replace(goodPage), smoke.Broken, "2 of 3 links in the menu now lead to nothing but the page itself"},
		{"form sent elsewhere", replace(`action="/contact"`, `action="https://elsewhere.example/"`), smoke.Broken, "is sent to another site"},
		{"form sent in another way", replace(`action="/contact"`, `action="/contact" method="post"`), smoke.Doubtful, "is sent by POST, was GET"},
		{"a template's sign", replace("<h1>", "<p>{{ tide.high }}</p><h1>"), smoke.Doubtful, "a template's own sign"},
		{"a template's sign in an example", replace("<h1>", "<pre>{{ tide.high }}</pre><h1>"), smoke.Sound, ""},
		{"source of PHP", replace("<h1>", "<?php echo $tide; ?><h1>"), smoke.Broken, "error message"},
		{"moves on", replace("</head>", `<meta http-equiv="refresh" content="3; URL='https://elsewhere.example/'"></head>`), smoke.Broken, "move on by themselves to https://elsewhere.example/"},
		{"loads itself anew", replace("</head>", `<meta http-equiv="refresh" content="600"></head>`), smoke.Sound, ""},
		{"right to left", replace(`lang="en"`, `lang="en" dir="rtl"`), smoke.Doubtful, "runs in the other direction"},
		{"title turned round", replace("Timetable - Otterby Ferry", "Otterby Ferry | Timetable"), smoke.Sound, ""},
		{"most text gone", strings.NewReplacer(longText, "", "<h1>Timetable</h1>", "<h1>T</h1>", "Notices", "", "Spring tide", "", "New boat", "", "Next sailings", "").Replace(goodPage), smoke.Broken, "most of the text is gone"},
		{"images gone", replace(`<img src="/ferry.svg" alt="">`, ""), smoke.Doubtful, "all 1 images are gone"},
		{"other title", replace("Timetable - ", "Error - "), smoke.Doubtful, "the title is"},
		{"style sheet no more named", replace(`<link rel="stylesheet" href="/style.css?ver=1">`, ""), smoke.Broken, "names no style sheet"},
		{"hidden from search engines", replace("</head>", `<meta name="robots" content="noindex, nofollow"></head>`), smoke.Broken, "noindex"},
	} {
		t.Run(c.name, func(t *testing.T) {
			judgement := judging.Judge(before, take(t, serving(c.page)))
			text := fmt.Sprint(judgement.Pages[0].Findings)
			for _, finding := range judgement.Pages[0].Findings {
				text += "\n" + finding.What + ": " + finding.Evidence
			}
			if judgement.Verdict != c.want || !strings.Contains(text, c.finding) {
				t.Errorf("%s, want %s with %q\n%s", judgement.Verdict, c.want, c.finding, text)
			}
		})
	}
}

func TestJudgeAnswers(t *testing.T) {
	before := take(t, serving(goodPage))
	answer := func(change func(w http.ResponseWriter, r *http.Request) bool) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			if !change(w, r) {
				serving(goodPage)(w, r)
			}
		}
	}
	status := func(path string, code int) http.HandlerFunc {
		return answer(func(w http.ResponseWriter, r *http.Request) bool {
			if r.URL.Path != path {
				return false
			}
			w.Header().Set("Content-Type", "text/html")
			w.WriteHeader(code)
			fmt.Fprint(w, goodPage)
			return true
		})
	}
	redirect := func(to string) http.HandlerFunc {
		return answer(func(w http.ResponseWriter, r *http.Request) bool {
			if r.URL.Path == "/page" {
				http.Redirect(w, r, to, http.StatusFound)
			}
			return r.URL.Path == "/page"
		})
	}
	for _, c := range []struct {
		name    string
		handler http.HandlerFunc
		want    smoke.Verdict
		finding string
	}{
		{"server error", status("/page", 500), smoke.Broken, "answers 500"},
		{"not found", status("/page", 404), smoke.Broken, "answers 404"},
		{"style sheet missing", status("/style.css", 404), smoke.Broken, "the style sheet /style.css does not load: the server answers 404"},
		{"page in place of a style sheet", status("/style.css", 200), smoke.Broken, "a web page in its place"},
		{"script missing", status("/menu.js", 404), smoke.Doubtful, "the script /menu.js does not load"},
		{"image missing", status("/ferry.svg", 404), smoke.Doubtful, "the image /ferry.svg does not load"},
		{"redirect in a loop", redirect("/page"), smoke.Broken, "redirects in a loop"},
		{"redirect elsewhere", redirect("/moved"), smoke.Doubtful, "it now ends at /moved"},
		{"redirect to another host", redirect("http://127.0.0.1:1/x"), smoke.Broken, "the connection was refused"},
	} {
		t.Run(c.name, func(t *testing.T) {
			judgement := judging.Judge(before, take(t, c.handler))
			text := ""
			for _, finding := range judgement.Pages[0].Findings {
				text += finding.What + ": " + finding.Evidence + "\n"
			}
			if judgement.Verdict != c.want || !strings.Contains(text, c.finding) {
				t.Errorf("%s, want %s with %q\n%s", judgement.Verdict, c.want, c.finding, text)
			}
		})
	}
}

func TestShutsOut(t *testing.T) {
	for text, want := range map[string]bool{
		"User-agent: *\nDisallow: /wp-admin/\nAllow: /wp-admin/admin-ajax.php\n": false,
		"User-agent: *\nDisallow: /": true,
		"# all\r\nuser-agent: greedy\r\nUser-Agent: *\r\nDisallow: / # all of it": true,
		"User-agent: greedy\nDisallow: /\n\nUser-agent: *\nDisallow:\n":           false,
		"": false,
	} {
		if got := reading.ShutsOut([]byte(text)); got != want {
			t.Errorf("%q: %v", text, got)
		}
	}
}

func TestSections(t *testing.T) {
	document, err := goquery.NewDocumentFromReader(strings.NewReader(`<body><main><h1>Board</h1><h2>Today</h2><p>At seven and at eight</p><h3>Late</h3><p>at nine</p>
<h2>Empty</h2><article><header><h2>Notice</h2></header><p>In the entry</p></article></main><aside><p>Not of it</p></aside></body>`))
	if err != nil {
		t.Fatal(err)
	}
	got := reading.Sections(document)
	for heading, want := range map[string]bool{"Board": true, "Today": true, "Late": true, "Empty": false, "Notice": true} {
		if (got[heading] > 0) != want {
			t.Errorf("%s: %d letters", heading, got[heading])
		}
	}
	if got["Notice"] != len("Intheentry") || got["Today"] != len("AtsevenandateightLateatnine") {
		t.Errorf("%v", got)
	}
}

// After some days it is likelier that an author changed a text than that an update did.
func TestTextsOfAuthors(t *testing.T) {
	before := take(t, serving(goodPage))
	now := take(t, serving(strings.Replace(goodPage, longText, "We row no more this year. Come again when the ice is gone, and bring a friend along.", 1)))
	if j := judging.Judge(before, now); j.Verdict != smoke.Broken {
		t.Errorf("at once: %s\n%s", j.Verdict, findings(j))
	}
	before.At = before.At.Add(-3 * judging.AuthorsWork)
	if j := judging.Judge(before, now); j.Verdict != smoke.Doubtful || !strings.Contains(findings(j), "an author may have changed it since") {
		t.Errorf("after days: %s\n%s", j.Verdict, findings(j))
	}
	menuless := take(t, serving(strings.Replace(goodPage, "<nav>", "<p hidden>", 1)))
	if j := judging.Judge(before, menuless); j.Verdict != smoke.Broken {
		t.Errorf("a menu is not an author's: %s\n%s", j.Verdict, findings(j))
	}
}

func TestKnownFindingsDoNotCount(t *testing.T) {
	broken := strings.Replace(goodPage, "</main>", "<!-- Warning: a in /a.php on line 1 --></main>", 1)
	before := take(t, serving(broken))
	if judgement := judging.Judge(nil, before); judgement.Verdict != smoke.Broken {
		t.Errorf("by itself: %s", judgement.Verdict)
	}
	judgement := judging.Judge(before, take(t, serving(broken)))
	if judgement.Verdict != smoke.Sound || len(judgement.Pages[0].Findings) != 1 || !judgement.Pages[0].Findings[0].Known {
		t.Errorf("%+v", judgement)
	}
	again := strings.Replace(broken, "on line 1 ", "on line 27 ", 1)
	if judgement := judging.Judge(before, take(t, serving(again))); judgement.Verdict != smoke.Sound {
		t.Errorf("the same error on another line: %+v", judgement)
	}
	worse := strings.Replace(broken, "</main>", "<!-- Warning: no such tide in /tide.php on line 4 --></main>", 1)
	if judgement := judging.Judge(before, take(t, serving(worse))); judgement.Verdict != smoke.Broken {
		t.Errorf("another error beside it: %+v", judgement)
	}
	if judgement := judging.Judge(nil, &smoke.Take{}); judgement.Verdict == smoke.Sound {
		t.Error("no pages at all are sound")
	}
}

func TestMergeLearnsWhatMoves(t *testing.T) {
	n := 0
	moving := func(w http.ResponseWriter, r *http.Request) {
		page := goodPage
		if r.URL.Path == "/page" {
			n++
			page = strings.Replace(page, "New boat", fmt.Sprintf("Visitor number %d", n), 1)
			page = strings.Replace(page, "<title>Timetable", fmt.Sprintf("<title>(%d) Timetable", n), 1)
			if n%2 == 0 {
				page = strings.Replace(page, "<aside>", "<div>", 1)
			}
		}
		serving(page)(w, r)
	}
	baseline := judging.Merge(take(t, moving), take(t, moving))
	for range 3 {
		if judgement := judging.Judge(baseline, take(t, moving)); judgement.Verdict != smoke.Sound {
			t.Errorf("%+v", judgement.Pages[0].Findings)
		}
	}
}

func TestRequestsPassCaches(t *testing.T) {
	seen, plain := map[string]bool{}, 0
	take(t, func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.RequestURI() == "/page?p=7":
			plain++ // as a visitor asks
		case r.URL.Path == "/page":
			if seen[r.URL.RawQuery] || r.Header.Get("Cache-Control") != "no-cache" || r.URL.Query().Get("p") != "7" || r.Header.Get("Cookie") != "" {
				t.Errorf("a cache could answer %s %v", r.URL, r.Header)
			}
			seen[r.URL.RawQuery] = true
		}
		serving(goodPage)(w, r)
	}, smoke.Page{Path: "/page?p=7"}, smoke.Page{Path: "/page?p=7"})
	if len(seen) != 2 || plain != 2 {
		t.Errorf("%d requests past caches and %d plain ones", len(seen), plain)
	}
}

// A cache that goes on handing out what it has is told apart from the page itself.
func TestVisitorsBehindACache(t *testing.T) {
	held := ""
	cached := func(held *string, page string) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			if *held != "" && r.URL.RawQuery == "" && r.URL.Path == "/page" {
				w.Header().Set("Age", "40")
				w.Header().Set("Content-Type", "text/html")
				fmt.Fprint(w, *held)
				return
			}
			serving(page)(w, r)
		}
	}
	before := take(t, cached(&held, goodPage))
	held = goodPage
	after := judging.Judge(before, take(t, cached(&held, strings.Replace(goodPage, "ver=1", "ver=2", 1))))
	if finding := find(after, "visitors"); finding == nil || after.Verdict != smoke.Sound {
		t.Errorf("a page that names earlier versions: %+v", after.Pages[0])
	}
	after = judging.Judge(before, take(t, cached(&held, strings.Replace(goodPage, "/style.css", "/styles.css", 1))))
	if finding := find(after, "visitors"); finding == nil || after.Verdict != smoke.Sound || finding.Evidence != "Age: 40 seconds" {
		t.Errorf("a stale page: %s %+v", after.Verdict, after.Pages[0].Findings)
	}
	after = judging.Judge(before, take(t, cached(&held, goodPage[:300])))
	if finding := find(after, "cut off"); finding == nil || after.Verdict != smoke.Broken {
		t.Errorf("broken behind a healthy cache: %s %+v", after.Verdict, after.Pages[0].Findings)
	}
	held = goodPage[:300]
	after = judging.Judge(before, take(t, cached(&held, goodPage)))
	if finding := find(after, "visitors"); finding == nil || after.Verdict != smoke.Broken || !strings.Contains(finding.What, "plain visitors get another answer than the page itself") {
		t.Errorf("mended behind a broken cache: %s %+v", after.Verdict, after.Pages[0].Findings)
	}
}

// A cache that does not say so is known by the answer: it is the very one from before.
func TestVisitorsBehindASilentCache(t *testing.T) {
	newer := strings.Replace(goodPage, "ver=1", "ver=2", 1)
	held, past := goodPage, goodPage
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.RawQuery == "" {
			serving(held)(w, r)
			return
		}
		serving(past)(w, r)
	}))
	defer server.Close()
	address, err := url.Parse(server.URL + "/")
	if err != nil {
		t.Fatal(err)
	}
	look := func(before *smoke.Take) *smoke.Take {
		fetcher := &Fetcher{Address: address, Before: before}
		taken, err := fetcher.Take(t.Context(), []smoke.Page{{Path: "/page"}}, progress.Silent{})
		if err != nil {
			t.Fatal(err)
		}
		return taken
	}
	before := judging.Merge(look(nil), look(nil))
	past = newer
	if finding := find(judging.Judge(before, look(before)), "visitors"); finding == nil || finding.Verdict != smoke.Sound || !strings.Contains(finding.Evidence, "from before") {
		t.Errorf("the page from before is not recognised: %+v", finding)
	}
	held = newer
	if finding := find(judging.Judge(before, look(before)), "visitors"); finding != nil {
		t.Errorf("the cache has forgotten: %+v", finding)
	}
}

func find(j *smoke.Judgement, check string) *smoke.Finding {
	for _, page := range j.Pages {
		for i := range page.Findings {
			if page.Findings[i].Check == check {
				return &page.Findings[i]
			}
		}
	}
	return nil
}

func TestHugeAndPackedAnswers(t *testing.T) {
	facts := take(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		w.Header().Set("Content-Encoding", "gzip")
		packed := gzip.NewWriter(w)
		fmt.Fprint(packed, goodPage[:200])
		zeros := make([]byte, 1<<20)
		for range 64 {
			if _, err := packed.Write(zeros); err != nil {
				return
			}
		}
		packed.Close()
	}).Pages[0]
	if !facts.TooLarge || facts.Bytes > smoke.LargestPage {
		t.Errorf("too large %v, %d bytes", facts.TooLarge, facts.Bytes)
	}
	if judging.Judge(nil, &smoke.Take{Pages: []smoke.Facts{facts}}).Verdict == smoke.Sound {
		t.Error("a page that was read in part is sound")
	}
}

// Each kind of page is there, posts at most twice, and pages before further posts; what is dead
// is not.
func TestDiscover(t *testing.T) {
	show := func(class, text string) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			fmt.Fprintf(w, `<html><body class="%s">%s</body></html>`, class, text)
		}
	}
	mux := http.NewServeMux()
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path != "/":
			http.NotFound(w, r)
		case r.URL.Query().Get("page_id") != "" && r.URL.Query().Get("page_id") != "3":
			http.NotFound(w, r)
		case r.URL.Query().Get("page_id") == "3":
			show("page page-id-3", "P")(w, r)
		default:
			show("home", `<p><a href="/post-1">Post</a><a href="/post-2">Post</a><a href="/post-3">Post</a><a href="/author/">By nobody</a></p><nav><a href="/fares">F</a><a href="/fares#top">F</a><a href="?page_id=3">P</a><a href="/removals">R</a><a href="/fares?remove=3">X</a>
<a href="https://elsewhere.example/x">E</a><a href="/a.pdf">file</a><a href="/wp-admin/">Admin</a><a href="mailto:a@b.example">m</a></nav>`)(w, r)
		}
	})
	mux.HandleFunc("/fares", show("page page-id-1", "F"))
	mux.HandleFunc("/removals", show("page page-id-2", "R"))
	mux.HandleFunc("/booking", show("page page-id-4", "[sailings]"))
	mux.HandleFunc("/archive", show("archive category category-7", "A"))
	for n := 1; n <= 9; n++ {
		mux.HandleFunc(fmt.Sprintf("/post-%d", n), show(fmt.Sprintf("single post postid-%d", n), "Post"))
	}
	mapOf := func(paths ...string) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			fmt.Fprint(w, `<?xml version="1.0"?><urlset>`)
			for _, path := range paths {
				fmt.Fprintf(w, "<url><loc>http://%s%s</loc></url>", r.Host, path)
			}
			fmt.Fprint(w, "<url><loc>http://elsewhere.example/y</loc></url></urlset>")
		}
	}
	mux.HandleFunc("/sitemap.xml", func(w http.ResponseWriter, r *http.Request) {
		for _, name := range []string{"posts-post-1", "posts-page-1", "taxonomies-1"} {
			fmt.Fprintf(w, "<sitemap><loc>http://%s/%s.xml</loc></sitemap>", r.Host, name)
		}
	})
	mux.HandleFunc("/posts-post-1.xml", mapOf("/post-4", "/post-5", "/post-6"))
	mux.HandleFunc("/posts-page-1.xml", mapOf("/fares", "/booking", "/gone"))
	mux.HandleFunc("/taxonomies-1.xml", mapOf("/archive"))
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/sitemap.xml" {
			fmt.Fprint(w, "<sitemapindex>")
			defer fmt.Fprint(w, "</sitemapindex>")
		}
		mux.ServeHTTP(w, r)
	}))
	defer server.Close()
	address, err := url.Parse(server.URL + "/")
	if err != nil {
		t.Fatal(err)
	}
	found := (&Fetcher{Address: address}).Discover(t.Context(), []string{"/", "/sign-in"}, nil)
	var paths, dead []string
	for _, page := range found.Pages {
		paths = append(paths, page.Path)
	}
	for _, one := range found.Dead {
		dead = append(dead, one.Path)
	}
	want := []string{"/", "/sign-in", "/fares", "/?page_id=3", "/removals", "/booking", "/post-1", "/post-2", "/archive", "/sitemap.xml", "/there-is-no-such-page"}
	if !slices.Equal(paths, want) {
		t.Errorf("found %q\nwant  %q", paths, want)
	}
	if !slices.Equal(dead, []string{"/gone", "/author/"}) {
		t.Errorf("dead: %q", dead)
	}
}

func FuzzReadPage(f *testing.F) {
	f.Add([]byte(goodPage), "text/html; charset=utf-8")
	f.Add([]byte("\xff\xfe<\x00h\x00"), "text/html; charset=utf-16")
	f.Fuzz(func(t *testing.T, body []byte, kind string) {
		where := &url.URL{Scheme: "http", Host: "ferry.example", Path: "/"}
		reading.ReadPage(smoke.Page{Path: "/"}, where, reading.Answer{Status: 200, Header: http.Header{"Content-Type": {kind}}, Body: body})
	})
}

func TestRulesWeighFindings(t *testing.T) {
	judgement := func() *smoke.Judgement {
		j := &smoke.Judgement{Verdict: smoke.Sound}
		for _, page := range []string{"/", "/fares"} {
			j.Add(smoke.Finding{Page: page, Check: "layout", Verdict: smoke.Doubtful, What: "the footer is gone"})
		}
		j.Add(smoke.Finding{Page: "/contact", Check: "form", Verdict: smoke.Broken, What: "the form is gone"})
		return j
	}
	for _, c := range []struct {
		name  string
		rules judging.Rules
		want  [3]smoke.Verdict
		whole smoke.Verdict
	}{
		{"none", judging.Rules{}, [3]smoke.Verdict{smoke.Doubtful, smoke.Doubtful, smoke.Broken}, smoke.Broken},
		{"one page", judging.Rules{Weights: []judging.Weight{{Check: "layout", Pages: []string{"/"}, As: smoke.Broken}}}, [3]smoke.Verdict{smoke.Broken, smoke.Doubtful, smoke.Broken}, smoke.Broken},
		{"all pages", judging.Rules{Weights: []judging.Weight{{Check: "layout", As: smoke.Sound}, {Check: "form", As: smoke.Doubtful}}}, [3]smoke.Verdict{smoke.Sound, smoke.Sound, smoke.Doubtful}, smoke.Doubtful},
		{"accepted", judging.Rules{Accepted: []judging.Acceptance{{Page: "/", Check: "layout", What: "the footer is gone", Because: "meant"}}}, [3]smoke.Verdict{smoke.Sound, smoke.Doubtful, smoke.Broken}, smoke.Broken},
		{"accepted, but another", judging.Rules{Accepted: []judging.Acceptance{{Page: "/", Check: "layout", What: "the header is gone"}}}, [3]smoke.Verdict{smoke.Doubtful, smoke.Doubtful, smoke.Broken}, smoke.Broken},
		{"broken is not accepted", judging.Rules{Accepted: []judging.Acceptance{{Page: "/contact", Check: "form", What: "the form is gone", Because: "meant"}}}, [3]smoke.Verdict{smoke.Doubtful, smoke.Doubtful, smoke.Broken}, smoke.Broken},
	} {
		j := judgement()
		c.rules.Apply(j)
		for i, want := range c.want {
			if j.Pages[i].Verdict != want {
				t.Errorf("%s: page %d is %s, not %s", c.name, i, j.Pages[i].Verdict, want)
			}
		}
		if j.Verdict != c.whole {
			t.Errorf("%s: the whole is %s", c.name, j.Verdict)
		}
	}
}

// Every check that the code makes has a name that rules can use.
func TestChecksAreNamed(t *testing.T) {
	for _, j := range []*smoke.Judgement{
		judging.Judge(nil, take(t, serving(""))),
		judging.Judge(take(t, serving(goodPage)), take(t, serving("<html><body>x</body></html>"))),
	} {
		for _, page := range j.Pages {
			for _, finding := range page.Findings {
				if !slices.Contains(judging.Checks, finding.Check) {
					t.Errorf("%q is not among the checks", finding.Check)
				}
			}
		}
	}
}

func httptestServer(t *testing.T, handler http.HandlerFunc) *url.URL {
	t.Helper()
	server := httptest.NewServer(handler)
	t.Cleanup(server.Close)
	address, err := url.Parse(server.URL + "/")
	if err != nil {
		t.Fatal(err)
	}
	return address
}

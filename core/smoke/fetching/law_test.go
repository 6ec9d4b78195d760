package fetching

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/net/html"

	"wetland/core/progress"
	"wetland/core/smoke"
	"wetland/core/smoke/browser"
	"wetland/core/smoke/judging"
	"wetland/core/smoke/reading"
)

// The law of the smoke test: what did not change is never a finding.

// factsOf reads a page from its bytes alone.
func factsOf(body []byte) smoke.Facts {
	where := &url.URL{Scheme: "http", Host: "ferry.example", Path: "/page"}
	facts, document := reading.ReadPage(smoke.Page{Path: "/page"}, where, reading.Answer{Status: 200, Header: http.Header{"Content-Type": {"text/html; charset=utf-8"}}, Body: body})
	if document != nil {
		readShown(&facts, document, nil, reading.NewSettings())
	}
	return facts
}

// judgeTwo judges one page by another.
func judgeTwo(was, now smoke.Facts) *smoke.Judgement {
	return judging.Judge(&smoke.Take{Pages: []smoke.Facts{was}}, &smoke.Take{Pages: []smoke.Facts{now}})
}

// interchangeable are the elements of which equal ones may stand in any order: lists, rows, entries
// and landmarks.
var interchangeable = []string{"li", "tr", "option", "article", "nav", "aside", "form", "a", "img", "table"}

// oneText are the elements whose words are read as one text.
var oneText = []string{"a", "h1", "h2", "h3", "h4", "h5", "h6", "title"}

// shuffled is the same page with attributes, classes and equal siblings in another order.
func shuffled(t testing.TB, body []byte, random *rand.Rand) []byte {
	t.Helper()
	document, err := html.Parse(bytes.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	var visit func(*html.Node)
	visit = func(node *html.Node) {
		random.Shuffle(len(node.Attr), func(i, j int) { node.Attr[i], node.Attr[j] = node.Attr[j], node.Attr[i] })
		for i, attribute := range node.Attr {
			if attribute.Key == "class" {
				classes := strings.Fields(attribute.Val)
				random.Shuffle(len(classes), func(i, j int) { classes[i], classes[j] = classes[j], classes[i] })
				node.Attr[i].Val = strings.Join(classes, " ")
			}
		}
		if slices.Contains(oneText, node.Data) {
			return
		}
		for child := range node.ChildNodes() {
			visit(child)
		}
		shuffleEqual(node, random)
	}
	visit(document)
	var out bytes.Buffer
	if err := html.Render(&out, document); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// shuffleEqual puts the children that are of one kind into another order.
func shuffleEqual(node *html.Node, random *rand.Rand) {
	kinds := map[string][]*html.Node{}
	for child := range node.ChildNodes() {
		if child.Type == html.ElementNode && slices.Contains(interchangeable, child.Data) {
			class := ""
			for _, attribute := range child.Attr {
				if attribute.Key == "class" {
					classes := strings.Fields(attribute.Val)
					slices.Sort(classes)
					class = strings.Join(classes, " ")
				}
			}
			kinds[child.Data+" "+class] = append(kinds[child.Data+" "+class], child)
		}
	}
	for _, kind := range slices.Sorted(mapKeys(kinds)) {
		equal := kinds[kind]
		var places []*html.Node
		for range equal {
			places = append(places, &html.Node{Type: html.TextNode})
		}
		for i, one := range equal {
			node.InsertBefore(places[i], one)
			node.RemoveChild(one)
		}
		random.Shuffle(len(equal), func(i, j int) { equal[i], equal[j] = equal[j], equal[i] })
		for i, one := range equal {
			node.InsertBefore(one, places[i])
			node.RemoveChild(places[i])
		}
	}
}

func mapKeys(m map[string][]*html.Node) func(func(string) bool) {
	return func(yield func(string) bool) {
		for key := range m {
			if !yield(key) {
				return
			}
		}
	}
}

// pageLaw fails if a page differs from itself, as it is or in another order.
func pageLaw(t testing.TB, name string, body []byte, random *rand.Rand) {
	t.Helper()
	facts := factsOf(body)
	if j := judgeTwo(facts, factsOf(body)); j.Verdict != smoke.Sound {
		t.Errorf("%s differs from itself:\n%s", name, findings(j))
	}
	// As a browser sees it: what the parser mends is no change of order.
	parsed := shuffled(t, body, rand.New(still{}))
	if j := judgeTwo(factsOf(parsed), factsOf(shuffled(t, parsed, random))); j.Verdict != smoke.Sound {
		t.Errorf("%s differs from itself in another order:\n%s", name, findings(j))
	}
}

// still is a source of chance that leaves everything where it is.
type still struct{}

func (still) Uint64() uint64 { return 1<<64 - 1 }

// pagesSeen keeps every web page that a fetcher got, each once.
type pagesSeen struct {
	next http.RoundTripper
	mu   sync.Mutex
	all  map[[32]byte]seenPage
}

type seenPage struct {
	path string
	body []byte
}

func watch(f *Fetcher) *pagesSeen {
	f.setUp()
	seen := &pagesSeen{next: f.client.Transport, all: map[[32]byte]seenPage{}}
	f.client.Transport = seen
	return seen
}

func (s *pagesSeen) RoundTrip(request *http.Request) (*http.Response, error) {
	response, err := s.next.RoundTrip(request)
	if err != nil || !strings.HasPrefix(response.Header.Get("Content-Type"), "text/html") || response.Header.Get("Content-Encoding") != "" {
		return response, err
	}
	body, err := io.ReadAll(response.Body)
	_ = response.Body.Close()
	response.Body = io.NopCloser(bytes.NewReader(body))
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all[sha256.Sum256(body)] = seenPage{request.URL.Path, body}
	return response, err
}

// law holds every n-th page that was seen against itself.
func (s *pagesSeen) law(t testing.TB, every int) {
	t.Helper()
	random := rand.New(rand.NewPCG(7, 7))
	i, held := 0, 0
	for _, page := range s.all {
		if i++; i%every == 0 {
			pageLaw(t, page.path, page.body, random)
			held++
		}
	}
	t.Logf("%d of %d pages held against themselves", held, len(s.all))
}

// twins is a page on which most things stand twice: two menus with the same links and a
// widget that repeats them, two forms and two tables of one name, headings and passages that
// are equal.
const twins = `<!DOCTYPE html><html lang="en"><head><meta charset="utf-8"><title>Otterby Ferry</title><style>
nav.phones { display: none } @media (max-width: 40rem) { nav.phones { display: block } nav.wide { display: none } } body { font-family: serif }</style></head><body>
<header><nav class="phones a"><a href="/">Home</a><a href="/fares">Fares</a><a href="/notices">Notices</a></nav><nav class="wide a"><a href="/">Home</a><a href="/fares">Fares</a><a href="/notices">Notices</a></nav></header>
<main><h1>Crossings</h1><h2>Times</h2><p>` + longText + `</p><table class="board small"><tr><th>From</th><th>To</th></tr><tr><td>8.00</td><td>9.00</td></tr><tr><td>8.10</td><td>9.10</td></tr></table>
<h2>Times</h2><p>` + longText + `</p><table class="small board"><tr><td>Pier</td></tr></table>
<form action="/send"><input name="sender"><button>Send</button></form><form action="/send"><input name="sender"><textarea name="message"></textarea><select name="pier"><option>North</option><option>South</option></select><button>Send</button></form>
<article><h2>Spring tide</h2></article><article><h2>New boat</h2><p>She is called the Heron, and runs from May.</p></article></main>
<aside class="w"><h2>Links</h2><nav><a href="/">Home</a><a href="/fares">Fares</a><a href="/notices">Notices</a></nav></aside><aside class="w"><h2>Links</h2><form action="/send"><input name="sender"><button>Send</button></form></aside>
<footer><nav><a href="/">Home</a><a href="/fares">Fares</a><a href="/notices">Notices</a></nav></footer></body></html>`

func TestTwinsAgainstThemselves(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		pageLaw(t, "the page of twins", []byte(twins), random)
		if t.Failed() {
			return
		}
	}
}

// Each of two equal things is held against its own counterpart: what is gone or moved is told
// of that one.
func TestEachTwinIsItsOwn(t *testing.T) {
	was := factsOf([]byte(twins))
	for _, c := range []struct {
		name, old, new string
		want           smoke.Verdict
		finding        string
	}{
		{"the menu in the footer gone", `<footer><nav><a href="/">Home</a><a href="/fares">Fares</a><a href="/notices">Notices</a></nav></footer>`, "<footer>since 1874</footer>", smoke.Doubtful, "the menu with 3 links in the footer is gone; its links still stand in the menu in the "},
		{"a link of it gone", `<a href="/notices">Notices</a></nav></footer>`, `</nav></footer>`, smoke.Doubtful, "the menu lost 1 of 3 links: Notices"},
		{"the second form lost a field", `<textarea name="message"></textarea>`, "", smoke.Broken, `the form "to /send" lost 1 of 3 fields`},
		{"one form of three gone", `<h2>Links</h2><form action="/send"><input name="sender"><button>Send</button></form>`, "<h2>Links</h2><p>Write to us.</p>", smoke.Doubtful, `one of the forms "to /send" is gone; another one like it stands`},
		{"the first table empty", `<tr><th>From</th><th>To</th></tr><tr><td>8.00</td><td>9.00</td></tr><tr><td>8.10</td><td>9.10</td></tr>`, "<tr><th>From</th><th>To</th></tr>", smoke.Broken, `the table "board" has no rows any more`},
		{"a further form before them", `<form action="/send"><input name="sender"><button>`, `<form action="/send"><input name="q"><button>Find</button></form><form action="/send"><input name="sender"><button>`, smoke.Sound, ""},
		{"a further menu before them", `<header>`, `<header><nav class="wide"><a href="/">Home</a><a href="/fares">Fares</a><a href="/notices">Notices</a></nav>`, smoke.Sound, ""},
		{"a further table before them", `<h2>Times</h2>`, `<h2>Times</h2><table class="board small"><tr><td>Low water</td></tr></table>`, smoke.Sound, ""},
		{"the wide menu hidden", `nav.wide { display: none } }`, `} nav.wide { display: none }`, smoke.Doubtful, "the navigation does not show any more on a desktop"},
	} {
		changed := strings.Replace(twins, c.old, c.new, 1)
		if changed == twins {
			t.Fatalf("%s: nothing to change", c.name)
		}
		j := judgeTwo(was, factsOf([]byte(changed)))
		if j.Verdict != c.want || !strings.Contains(strings.ReplaceAll(findings(j), " (", ": "), c.finding) {
			t.Errorf("%s: %s, want %s with %q\n%s", c.name, j.Verdict, c.want, c.finding, findings(j))
		}
	}
}

// restless shows in turn other menus, lists, headings and boxes, and now and then an error.
func restless(errors bool) http.HandlerFunc {
	var n atomic.Int64
	return func(w http.ResponseWriter, r *http.Request) {
		i := n.Add(1) / 2 // each page is asked for twice in one look
		page := goodPage
		if i%2 == 1 {
			page = strings.NewReplacer(`<a href="/notices">Notices</a>`, "", "<article><h2>New boat</h2></article>", "", `lang="en"`, `lang="sv"`, "<aside>", "<div>", "</aside>", "</div>").Replace(page)
			if errors {
				page = strings.Replace(page, "<h1>", "<p>Warning: Undefined variable $tide in /srv/a.php on line 3</p><h1>", 1)
			}
		}
		if r.URL.Path != "/page" {
			serving("")(w, r)
			return
		}
		serving(page)(w, r)
	}
}

func lookTwice(t *testing.T, handler http.HandlerFunc) (*Fetcher, *smoke.Take, *smoke.Judgement) {
	t.Helper()
	server := httptestServer(t, handler)
	fetcher := &Fetcher{Address: server, Concurrency: 1}
	baseline, present, err := fetcher.LookTwice(t.Context(), []smoke.Page{{Path: "/page"}}, nil, judging.Rules{}, progress.Silent{})
	if err != nil {
		t.Fatal(err)
	}
	return fetcher, baseline, present
}

// What a look recorded a few minutes ago stands for the first of two looks, if the pages are as
// they were; else they are looked at twice.
func TestAnEarlierLookStandsForTheFirst(t *testing.T) {
	for name, c := range map[string]struct {
		change func(earlier *smoke.Take, page *string)
		looks  int64
	}{
		"as it was":       {func(*smoke.Take, *string) {}, 1},
		"said otherwise":  {func(earlier *smoke.Take, _ *string) { earlier.Pages[0].Wanted.Expect = []string{} }, 1},
		"too old":         {func(earlier *smoke.Take, _ *string) { earlier.At = earlier.At.Add(-2 * judging.Recent) }, 2},
		"other pages":     {func(earlier *smoke.Take, _ *string) { earlier.Pages[0].Path = "/other" }, 2},
		"asked otherwise": {func(earlier *smoke.Take, _ *string) { earlier.Pages[0].Wanted.Status = 200 }, 2},
		"something lost": {func(_ *smoke.Take, page *string) {
			*page = strings.Replace(*page, `<a href="/notices">Notices</a>`, "", 1)
		}, 2},
		"something new": {func(_ *smoke.Take, page *string) {
			*page = strings.Replace(*page, "<h1>", `<nav><a href="/a">New</a><a href="/b">menu</a></nav><h1>`, 1)
		}, 2},
	} {
		t.Run(name, func(t *testing.T) {
			page, asked := goodPage, atomic.Int64{}
			fetcher, earlier, _ := lookTwice(t, func(w http.ResponseWriter, r *http.Request) {
				if r.URL.Path == "/page" {
					asked.Add(1)
				}
				serving(page)(w, r)
			})
			c.change(earlier, &page)
			each := asked.Swap(0) / 2
			baseline, present, err := fetcher.LookTwice(t.Context(), []smoke.Page{{Path: "/page"}}, earlier, judging.Rules{}, progress.Silent{})
			if err != nil || present.Verdict != smoke.Sound || len(baseline.Pages) != 1 || baseline.Pages[0].Path != "/page" {
				t.Fatalf("%+v %+v %v", baseline, present, err)
			}
			if got := asked.Load(); got != c.looks*each {
				t.Errorf("the page was asked for %d times, want %d looks of %d", got, c.looks, each)
			}
		})
	}
}

// The browser sees the pages that are to be seen, then those that it saw before, and no more
// than it may.
func TestWhichPagesTheBrowserSees(t *testing.T) {
	yes, no := true, false
	take := &smoke.Take{}
	for _, page := range []smoke.Page{{Path: "/a"}, {Path: "/b", InBrowser: &no}, {Path: "/c"}, {Path: "/d"}, {Path: "/e", InBrowser: &yes}} {
		take.Pages = append(take.Pages, smoke.Facts{Path: page.Path, Type: "text/html", Wanted: page})
	}
	take.Pages = append(take.Pages, smoke.Facts{Path: "/feed", Type: "application/rss+xml"})
	before := &smoke.Take{Pages: []smoke.Facts{{Path: "/d", Sights: map[string]browser.Sight{"phone": {}}}}}
	for most, want := range map[int]string{1: "/e", 2: "/e /d", 3: "/e /d /a", 9: "/e /d /a /c"} {
		chosen, passed := (&Fetcher{MostSeen: most, Before: before}).toSee(take)
		var paths []string
		for _, i := range chosen {
			paths = append(paths, take.Pages[i].Path)
		}
		if got := strings.Join(paths, " "); got != want || passed != 5-len(chosen) {
			t.Errorf("of %d: %s, and %d passed over; want %s", most, got, passed, want)
		}
	}
}

// What differs between two looks at an unchanged site is not compared, and named.
func TestWhatMovesByItselfIsMuted(t *testing.T) {
	fetcher, baseline, present := lookTwice(t, restless(false))
	if present.Verdict != smoke.Sound {
		t.Errorf("an unchanged site is %s\n%s", present.Verdict, findings(present))
	}
	for range 4 {
		take, err := fetcher.Take(t.Context(), []smoke.Page{{Path: "/page"}}, progress.Silent{})
		if err != nil {
			t.Fatal(err)
		}
		if j := judging.Judge(baseline, take); j.Verdict != smoke.Sound {
			t.Errorf("an unchanged site is %s\n%s", j.Verdict, findings(j))
		}
	}
	// Muted is that element alone; and what is broken is never muted.
	baseline.Moving = append(baseline.Moving, smoke.Finding{Page: "/page", Check: "menu", Element: "menu in the header", Verdict: smoke.Doubtful, What: "the menu lost 1 of 3 links"})
	now := factsOf([]byte(strings.NewReplacer(`<a href="/notices">Notices</a>`, "").Replace(goodPage)))
	j := judging.Judge(&smoke.Take{Pages: []smoke.Facts{factsOf([]byte(goodPage))}, Moving: baseline.Moving}, &smoke.Take{Pages: []smoke.Facts{now}})
	if j.Verdict != smoke.Sound || len(j.NotCompared) == 0 {
		t.Errorf("%s, not compared: %v\n%s", j.Verdict, j.NotCompared, findings(j))
	}
	now = factsOf([]byte(strings.NewReplacer("<header>", "<header><!--", "</header>", "--></header>").Replace(goodPage)))
	if j := judging.Judge(&smoke.Take{Pages: []smoke.Facts{factsOf([]byte(goodPage))}, Moving: baseline.Moving}, &smoke.Take{Pages: []smoke.Facts{now}}); j.Verdict != smoke.Broken {
		t.Errorf("a menu that is gone: %s", j.Verdict)
	}
}

// An error that comes and goes is told, and does not count against an update.
func TestErrorAtTimesIsTold(t *testing.T) {
	fetcher, baseline, present := lookTwice(t, restless(true))
	if present.Verdict != smoke.Broken || !strings.Contains(present.Pages[0].Findings[0].String(), "(at times)") {
		t.Errorf("%s\n%s", present.Verdict, findings(present))
	}
	for range 2 {
		take, err := fetcher.Take(t.Context(), []smoke.Page{{Path: "/page"}}, progress.Silent{})
		if err != nil {
			t.Fatal(err)
		}
		if j := judging.Judge(baseline, take); j.Verdict != smoke.Sound {
			t.Errorf("the error of before counts: %s\n%s", j.Verdict, findings(j))
		}
	}
}

// Pages longer than what is kept of them differ from themselves no more than others.
func TestLongPageAgainstItself(t *testing.T) {
	var page strings.Builder
	page.WriteString(`<!DOCTYPE html><html><head><title>All crossings</title></head><body><main><h1>All crossings</h1>`)
	for i := range 1200 {
		fmt.Fprintf(&page, "<h3>%s</h3><p>The boat of %s leaves %s when %s and %s are aboard.</p>", word(i), word(i), word(3*i), word(5*i+1), word(7*i+2))
	}
	page.WriteString("</main></body></html>")
	pageLaw(t, "a long page", []byte(page.String()), rand.New(rand.NewPCG(1, 1)))
}

// word spells a number in letters.
func word(n int) string {
	text := []byte("otter")
	for ; n > 0; n /= 20 {
		text = append(text, byte('a'+n%20))
	}
	return string(text)
}

func FuzzPageAgainstItself(f *testing.F) {
	for _, page := range []string{goodPage, twins, "", "<p>", goodPage[:300]} {
		f.Add([]byte(page), uint64(1))
	}
	f.Fuzz(func(t *testing.T, body []byte, seed uint64) {
		if len(body) > 64<<10 {
			return
		}
		pageLaw(t, "the page", body, rand.New(rand.NewPCG(seed, 1)))
	})
}

// What visitors get from a cache is judged as what it is: the page, a blank one, one from
// before, or another one; and an unchanged site gives nothing on that way, too.
func TestWhatVisitorsGet(t *testing.T) {
	newer := strings.NewReplacer("ver=1", "ver=2", "</main>", `<img src="/map.svg" alt=""></main>`).Replace(goodPage)
	imageless := strings.Replace(goodPage, `<img src="/ferry.svg" alt="">`, "", 1)
	// No form and no image, so that only its text tells that it is not blank.
	plain := `<!DOCTYPE html><html lang="en"><head><title>Fares</title></head><body><main><h1>Fares</h1><p>` + longText + `</p></main></body></html>`
	foreign := `<!DOCTYPE html><html lang="en"><head><title>Another shop</title></head><body><main><h1>Boots</h1><p>Buy boots for every weather here, of the best leather, sewn by hand by people who know their trade well.</p></main></body></html>`
	empty := `<!DOCTYPE html><html lang="en"><head><title>Timetable - Otterby Ferry</title></head><body></body></html>`
	for _, c := range []struct {
		name, before, now, visitors string
		want                        smoke.Verdict
		finding                     string
	}{
		{"the page", goodPage, goodPage, goodPage, smoke.Sound, ""},
		{"a page of text alone", plain, plain, plain, smoke.Sound, ""},
		{"text alone, and an image more", plain, strings.Replace(plain, "</main>", `<img src="/map.svg" alt=""></main>`, 1), plain, smoke.Sound, ""},
		{"an image less", goodPage, imageless, goodPage, smoke.Doubtful, "all 1 images are gone"},
		{"the page from before", goodPage, newer, goodPage, smoke.Sound, "plain visitors still get an earlier page from a cache"},
		{"a blank page", goodPage, goodPage, empty, smoke.Broken, "plain visitors get another answer than the page itself: the page is blank"},
		{"another page", goodPage, goodPage, foreign, smoke.Broken, "it is another page"},
		{"another page, since before", foreign, goodPage, foreign, smoke.Broken, "the text of the page"},
	} {
		t.Run(c.name, func(t *testing.T) {
			page, held := c.before, c.before
			server := httptestServer(t, func(w http.ResponseWriter, r *http.Request) {
				if r.URL.Path == "/page" && r.URL.RawQuery == "" {
					w.Header().Set("Age", "30")
					serving(held)(w, r)
					return
				}
				serving(page)(w, r)
			})
			fetcher := &Fetcher{Address: server}
			baseline, present, err := fetcher.LookTwice(t.Context(), []smoke.Page{{Path: "/page"}}, nil, judging.Rules{}, progress.Silent{})
			if err != nil {
				t.Fatal(err)
			}
			if present.Verdict != smoke.Sound {
				t.Fatalf("before: %s\n%s", present.Verdict, findings(present))
			}
			page, held = c.now, c.visitors
			fetcher.Before = baseline
			now, err := fetcher.Take(t.Context(), []smoke.Page{{Path: "/page"}}, progress.Silent{})
			if err != nil {
				t.Fatal(err)
			}
			if j := judging.Judge(baseline, now); j.Verdict != c.want || !strings.Contains(findings(j), c.finding) {
				t.Errorf("%s, want %s with %q\n%s", j.Verdict, c.want, c.finding, findings(j))
			}
		})
	}
}

// Of landmarks that show several times, each is held against its own counterpart; a further
// footer above the page is none.
func TestBoxesOfTwins(t *testing.T) {
	main, foot := browser.Box{Y: 100, Width: 1280, Height: 600}, browser.Box{Y: 700, Width: 1280, Height: 80}
	sight := func(more map[string][]browser.Box, first browser.Box) map[string]browser.Sight {
		return map[string]browser.Sight{"desktop": {Width: 1280, Height: 800, Letters: 400, More: more, Boxes: map[string]browser.Box{"main part": main, "footer": first, "navigation": {Y: 0, Width: 600, Height: 40}}}}
	}
	facts := func(s map[string]browser.Sight) smoke.Facts {
		f := factsOf([]byte(twins))
		f.Sights = s
		return f
	}
	was := facts(sight(nil, foot))
	for _, c := range []struct {
		name    string
		now     smoke.Facts
		want    smoke.Verdict
		finding string
	}{
		{"itself", was, smoke.Sound, ""},
		{"a further footer above the page", facts(sight(map[string][]browser.Box{"footer": {foot}}, browser.Box{Y: 0, Width: 1280, Height: 80})), smoke.Doubtful, "the footer stands there 2 times, now also above the main part"},
		{"a further one below", facts(sight(map[string][]browser.Box{"footer": {{Y: 790, Width: 1280, Height: 40}}}, foot)), smoke.Sound, ""},
		{"a further menu before", facts(sight(map[string][]browser.Box{"navigation": {{Y: 0, Width: 600, Height: 40}}}, foot)), smoke.Sound, ""},
	} {
		if j := judgeTwo(was, c.now); j.Verdict != c.want || !strings.Contains(findings(j), c.finding) {
			t.Errorf("%s: %s, want %s\n%s", c.name, j.Verdict, c.want, findings(j))
		}
	}
}

// A page that answers slowly is asked once more before that is told of it.
func TestSlowIsAskedTwice(t *testing.T) {
	for within, want := range map[time.Duration]int64{0: 1, time.Nanosecond: 2, time.Hour: 1} {
		var asked atomic.Int64
		server := httptestServer(t, func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/page" && r.URL.RawQuery != "" {
				asked.Add(1)
			}
			serving(goodPage)(w, r)
		})
		if _, err := (&Fetcher{Address: server}).Take(t.Context(), []smoke.Page{{Path: "/page", Within: within}}, progress.Silent{}); err != nil {
			t.Fatal(err)
		}
		if asked.Load() != want {
			t.Errorf("within %s: asked %d times, want %d", within, asked.Load(), want)
		}
	}
}

// Whoever breaks off does not wait for a browser that does not start.
func TestBreakingOffWhileTheBrowserStarts(t *testing.T) {
	program := filepath.Join(t.TempDir(), "browser")
	if err := os.WriteFile(program, []byte("#!/bin/sh\nexec sleep 600\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	fetcher := &Fetcher{Address: httptestServer(t, serving(goodPage)), BrowserProgram: program}
	ctx, stop := context.WithCancel(t.Context())
	take, err := fetcher.Read(ctx, []smoke.Page{{Path: "/page"}}, progress.Silent{})
	if err != nil {
		t.Fatal(err)
	}
	started := fetcher.browser
	stop()
	if err := fetcher.See(ctx, take, nil, progress.Silent{}); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
	fetcher.Close()
	if started.err == nil || strings.Contains(started.err.Error(), "did not start within") {
		t.Errorf("it was waited for: %v", started.err)
	}
}

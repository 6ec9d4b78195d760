package fetching

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"golang.org/x/text/encoding/charmap"

	"wetland/core/smoke"
	"wetland/core/smoke/judging"
	"wetland/core/smoke/reading"
)

// shopPage has what people miss first on rich pages.
const shopPage = `<!DOCTYPE html><html lang="en"><head><meta charset="utf-8"><title>Fares</title>
<link rel="stylesheet" href="/themes/quay/style.css"><link rel="stylesheet" href="/themes/quay-child/style.css?v=1"><script src="/plugins/slider/slider.js"></script>
<style>@font-face { font-family: Tide; src: url("/fonts/tide.woff2") }</style></head><body>
<header><nav><a href="/">Home</a> <a href="/fares">Fares</a></nav></header><main><h1>Fares</h1>
<p>The first boat leaves the north jetty as soon as the fog has lifted from the river in the morning.</p>
<p>Bicycles travel without charge as long as there is room beside the engine for all of them.</p>
<p>Dogs are welcome on every crossing and want a ticket of their own when the boat is full.</p>
<p>Groups of more than ten people should write to the office two days before they want to cross.</p>
<p>Return tickets are good until the last boat of the day, and for no other day whatever happens.</p>
<p>In winter the timetable changes with the tide, so that a look at the board by the jetty is wise.</p>
<p>The ferry has carried letters and parcels since the year in which the bridge was swept away.</p>
<p>Lost umbrellas are kept in the office for a season and are then given to whoever needs one.</p>
<ul><li>Single <b>£2.50</b></li><li>Return <b>£4.00</b></li><li>Season £1,120.00</li></ul>
<img src="/a.png" srcset="/a-2.png 2x, /a-3.png 3x" alt="Boat"><img src="data:image/gif;base64,R0lGOD" data-src="/b.jpg" alt="Jetty"><img src="/c.png" alt=""><img src="/d.png" alt="">
<div class="cards"><div class="card n1"><h3>Otter</h3><img src="/otter.jpg" alt=""></div><div class="card n2"><h3>Heron</h3><img src="/heron.jpg" alt=""></div><div class="card n3"><h3>Teal</h3><img src="/teal.jpg" alt=""></div></div>
<div class="slides"><img src="/s1.jpg" alt=""><img src="/s2.jpg" alt=""><img src="/s3.jpg" alt=""><img src="/s4.jpg" alt=""></div>
<form id="order" action="/cart" method="post"><input name="amount"><input type="hidden" name="product" value="7"><button>Order</button></form>
<form id="order-2" action="/cart" method="post"><input name="amount"><input type="hidden" name="product" value="8"><button>Order</button></form>
<nav><a href="/page?paged=2">2</a> <a href="/page?paged=3">3</a> <a href="/page?paged=2">Next page</a></nav>
<p>Call <a href="tel:+44 5550 100">5550 100</a> or write to <a href="mailto:office@ferry.example">the office</a>.</p></main>
<footer>since 1874</footer></body></html>`

// Each reason for which a breakage was missed on sites of other kinds, and a change beside it
// that harms nobody.
func TestReasons(t *testing.T) {
	replace := func(pairs ...string) string {
		changed := strings.NewReplacer(pairs...).Replace(shopPage)
		if changed == shopPage {
			t.Fatalf("%q is not on the page", pairs)
		}
		return changed
	}
	paragraphs := strings.Split(shopPage, "\n<p>")
	misread := func(set *charmap.Charmap, text string) string {
		read, err := set.NewDecoder().String(text)
		if err != nil {
			t.Fatal(err)
		}
		return replace("since 1874", read, "Home", read)
	}
	for _, c := range []struct {
		name string
		page string
		gone string // a path that answers 404 after the change
		want string // what is found; "": nothing
	}{
		{"unchanged", shopPage, "", ""},
		{"the child's style sheet is not printed", replace(`<link rel="stylesheet" href="/themes/quay-child/style.css?v=1">`, ""), "", "the style sheet /themes/quay-child/style.css, which is not the update's, is not on the page any more"},
		{"another version of it", replace("?v=1", "?v=2"), "", ""},
		{"it is written into the page", replace(`<link rel="stylesheet" href="/themes/quay-child/style.css?v=1">`, "<style>"+childSheet+"</style>"), "", ""},
		{"the package's own style sheet is another", replace("quay/style.css", "quay/main.css"), "", ""},
		{"another plugin's script is not printed", replace(`<script src="/plugins/slider/slider.js"></script>`, ""), "", "the script /plugins/slider/slider.js"},
		{"a hidden field is gone from the second form", replace(`<input type="hidden" name="product" value="8">`, ""), "", `the form "order-2" lost 1 hidden field`},
		{"another product's number", replace(`value="8"`, `value="9"`), "", ""},
		{"a candidate of a set is dead", shopPage, "/a-3.png", "the image /a-3.png does not load"},
		{"a lazy picture is dead", shopPage, "/b.jpg", "the image /b.jpg does not load"},
		{"most pictures come from nowhere", replace(`src="/c.png"`, `src=""`, `src="/d.png"`, `src=""`, ` data-src="/b.jpg"`, "", `src="data:image/gif;base64,R0lGOD"`, "", `src="/otter.jpg"`, "", `src="/heron.jpg"`, "", `src="/teal.jpg"`, `src=""`, `src="/s1.jpg"`, ""), "", "images are gone"},
		{"two of three cards are gone", replace(`<div class="card n2"><h3>Heron</h3><img src="/heron.jpg" alt=""></div><div class="card n3"><h3>Teal</h3><img src="/teal.jpg" alt=""></div>`, ""), "", "2 of 3 parts side by side (div.card) are gone"},
		{"a slider is left empty", replace(`<img src="/s1.jpg" alt=""><img src="/s2.jpg" alt=""><img src="/s3.jpg" alt=""><img src="/s4.jpg" alt="">`, ""), "", "4 of 4 parts side by side (img) are gone"},
		{"cards of other elements, in another order", replace(`<div class="card n1"><h3>Otter</h3><img src="/otter.jpg" alt=""></div><div class="card n2"><h3>Heron</h3><img src="/heron.jpg" alt=""></div>`, `<section><h3>Heron</h3><img src="/heron-300x200.jpg" alt=""></section><section><small>Boat</small><h3>Otter</h3><img src="/o.jpg" alt=""></section>`), "", ""},
		{"a font of an inline sheet is dead", shopPage, "/fonts/tide.woff2", "font /fonts/tide.woff2"},
		{"three of eight passages are gone", paragraphs[0] + "\n<p>" + strings.Join(paragraphs[4:], "\n<p>"), "", "3 passages of the page's text are gone"},
		{"one word of a passage is another", replace("fog has lifted", "mist has lifted"), "", ""},
		{"all prices are zero", replace("2.50", "0.00", "4.00", "0.00", "1,120.00", "0.00"), "", "all amounts of money are 0.00"},
		{"all prices are gone", replace("£2.50", "", "£4.00", "", "£1,120.00", ""), "", "3 amounts of money are gone"},
		{"all prices are a hundred times as high", replace("£2.50", "£250", "£4.00", "£400", "£1,120.00", "£112,000"), "", "all amounts of money are 100 times what they were"},
		{"prices are written in another way", replace("£2.50", "2,50 £", "£1,120.00", "1.120,00 £"), "", ""},
		{"Cyrillic letters as Windows-1252", misread(charmap.Windows1252, "Расписание паромов"), "", "letters came through the wrong character set"},
		{"Cyrillic letters as Windows-1251", misread(charmap.Windows1251, "Расписание паромов"), "", "letters came through the wrong character set"},
		{"Greek letters as Windows-1253", misread(charmap.Windows1253, "δρομολόγια"), "", "letters came through the wrong character set"},
		{"a list that was not joined", replace(`<b>£2.50</b>`, `<b>£2.50</b><i>Array</i>`), "", "a template's own sign stands on the page"},
		{"the telephone number is no link", replace(`<a href="tel:+44 5550 100">5550 100</a>`, "5550 100"), "", "1 telephone number or mail address is no link any more"},
		{"the pagination has other words", replace(">Next page<", ">Older<", ">2<", ">Page 2<", ">3<", ">Page 3<"), "", ""},
		{"the pagination is shorter", replace(`<a href="/page?paged=3">3</a>`, ""), "", ""},
		{"the pagination is gone", replace(`<nav><a href="/page?paged=2">2</a> <a href="/page?paged=3">3</a> <a href="/page?paged=2">Next page</a></nav>`, ""), "", "the menu with 3 links in the main part is gone"},
	} {
		t.Run(c.name, func(t *testing.T) {
			before, now := take(t, shop(shopPage, "")), take(t, shop(c.page, c.gone))
			j := judging.JudgeUpdate(before, now, []string{"/themes/quay-child", "/plugins/slider", "/uploads"})
			switch got := findings(j); {
			case c.want == "" && j.Verdict != smoke.Sound:
				t.Errorf("it is %s:\n%s", j.Verdict, got)
			case !strings.Contains(got, c.want):
				t.Errorf("%q is not found in:\n%s", c.want, got)
			}
		})
	}
}

const childSheet = ".a { color: red } .b { color: blue } .c { margin: 0 } .d { padding: 0 }"

// shop hands out a page and what it loads, but for one path.
func shop(page, gone string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path == gone:
			http.NotFound(w, r)
		case strings.HasSuffix(r.URL.Path, ".css"):
			w.Header().Set("Content-Type", "text/css")
			fmt.Fprint(w, childSheet)
		case strings.HasSuffix(r.URL.Path, ".js"):
			w.Header().Set("Content-Type", "text/javascript")
			fmt.Fprint(w, ";")
		default:
			serving(page)(w, r)
		}
	}
}

// What people write in any script is not taken for damaged.
func TestLettersOfOtherScripts(t *testing.T) {
	for _, text := range []string{
		"Расписание паромов – «зимний» сезон № 3", "Розклад поромів: її, ґрунт, Київ, ЇЇ, ВІЇ", "Δρομολόγια ΆΜΕΣΑ, Ύδρα – ΏΡΑ", "Łódź, żółć, jaźń, ŹŻĄĘ", "Příliš žluťoučký kůň, ŠČŘŽ",
		"Ä, Ö, Ü: ÄÖÜß, »Fähre« – “Fähre”", "時刻表と運賃", "מעבורת", "عبّارة", "áéíóú ÁÉÍÓÚ ¿¡", "½ ¾ ² ³ € £ ©®™", "\u00a0\u00a0\u00a0\u00a0", "ÀÉÈÙ «»", "Straße – 20 °C",
	} {
		if n := reading.CountDamaged(text); n > 0 {
			t.Errorf("%q: %d letters", text, n)
		}
	}
}

func TestSteps(t *testing.T) {
	for _, c := range []struct {
		from, to string
		want     bool
	}{
		{"/?cat=1", "/?cat=1&paged=2", true}, {"/notices/", "/notices/page/2/", true}, {"/blog/notices/page/2/", "/blog/notices/", true}, {"/p/7/", "/p/7/comment-page-2/", true},
		{"/", "/?paged=2", true}, {"/", "/page/2/", true}, {"/?cat=1", "/?cat=2", false}, {"/?cat=1", "/?cat=1", false}, {"/notices/", "/fares/page/2/", false}, {"/", "", false},
	} {
		if reading.IsStep(c.from, c.to) != c.want {
			t.Errorf("from %s to %s: want %v", c.from, c.to, c.want)
		}
	}
}

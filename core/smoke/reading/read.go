// Package reading makes facts of a page: of its HTML, style sheets, scripts and data. Begin reading at
// ReadPage. Each kind of thing that a page can lose has a file of its own, and one of that name in
// package judging.
//
// It promises to come back whatever it is given: sizes, nesting and numbers are bounded before
// anything is parsed.
package reading

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"mime"
	"net/http"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/PuerkitoBio/goquery"
	"github.com/andybalholm/cascadia"
	"golang.org/x/net/html"
	"golang.org/x/net/html/charset"
	"golang.org/x/text/encoding/charmap"

	"wetland/core/site/traits"
	"wetland/core/smoke"
)

// ReadPage reads what an answer shows.
// The document is nil if it is no HTML.
func ReadPage(page smoke.Page, where *url.URL, got Answer) (smoke.Facts, *goquery.Document) {
	facts := smoke.Facts{
		Wanted: page,
		Path:   page.Path, Status: got.Status, Redirects: got.Redirects, Bytes: len(got.Body),
		Took: got.Took, TooLarge: got.TooLarge,
	}
	if n := len(got.Redirects); n > 0 {
		if last, err := where.Parse(got.Redirects[n-1]); err == nil {
			where = last
		}
	}
	if own := WithoutMark(where).RequestURI(); own != page.Path {
		facts.Own = own
	}
	kind := got.Header.Get("Content-Type")
	if kind == "" {
		kind = http.DetectContentType(got.Body)
	}
	facts.Type, _, _ = mime.ParseMediaType(kind)
	text := ToUTF8(got.Body, kind)
	facts.Errors = errorTexts(text)
	readHeader(&facts, got.Header, where)
	for _, want := range page.Expect {
		if !bytes.Contains(text, []byte(want)) {
			facts.Missing = append(facts.Missing, want)
		}
	}
	if !facts.IsPage() {
		facts.Complete, facts.Text = true, len(text)
		if strings.HasSuffix(facts.Type, "xml") {
			readFeed(&facts, text)
		}
		if page.Path == smoke.RobotsFile {
			facts.NoIndex = ShutsOut(text)
		}
		return facts, nil
	}
	facts.Unknown = challenge(got, text)
	text, facts.TooLarge = withoutMore(text, facts.TooLarge)
	facts.Damaged = CountDamaged(string(text))
	facts.Complete = endsWell(text)
	document, err := goquery.NewDocumentFromReader(bytes.NewReader(text))
	if err != nil {
		facts.Problem = "its HTML cannot be read: " + err.Error()
		return facts, nil
	}
	for _, selector := range page.Has {
		if document.Find(selector).Length() == 0 {
			facts.Missing = append(facts.Missing, selector)
		}
	}
	for _, selector := range page.HasNot {
		if document.Find(selector).Length() > 0 {
			facts.Missing = append(facts.Missing, "nothing like "+selector)
		}
	}
	for _, selector := range page.Ignore {
		document.Find(selector).Remove()
	}
	readDocument(&facts, document, where)
	facts.Kind = KindIn(document, page.Path)
	return facts, document
}

// MostTags bounds how many tags of a page are read: each becomes an element, and each rule is held
// against all of them.
const MostTags = 200_000

// withoutMore cuts a page off where it has more tags than are read.
func withoutMore(text []byte, tooLarge bool) ([]byte, bool) {
	tags := 0
	for at, b := range text {
		if b == '<' {
			if tags++; tags > MostTags {
				return text[:at], true
			}
		}
	}
	return text, tooLarge
}

// readHeader notes what the answer's header makes of the page.
func readHeader(facts *smoke.Facts, header http.Header, where *url.URL) {
	disposition, _, _ := mime.ParseMediaType(header.Get("Content-Disposition"))
	facts.Attached = disposition == "attachment"
	facts.NoIndex = strings.Contains(strings.ToLower(strings.Join(header.Values("X-Robots-Tag"), ",")), "noindex")
	refresh(facts, header.Get("Refresh"), where)
}

// refresh reads what browsers are told to load by themselves: after how many seconds, and
// from where.
func refresh(f *smoke.Facts, wish string, where *url.URL) {
	after, target, elsewhere := strings.Cut(strings.ToLower(wish), "url=")
	if !elsewhere {
		seconds, err := strconv.ParseFloat(strings.Trim(after, " ;,"), 64)
		f.Reloads = f.Reloads || err == nil && seconds < 10
		return
	}
	if next, err := where.Parse(strings.Trim(strings.TrimSpace(target), `"'`)); err == nil {
		f.Moves = WithoutMark(next).String()
		if next.Host == where.Host {
			f.Moves = WithoutMark(next).RequestURI()
		}
	}
}

// challenge tells of a page that stands in for the wanted one: it wants to know
// whether a person is there.
func challenge(got Answer, text []byte) string {
	if got.Status != http.StatusForbidden && got.Status != http.StatusServiceUnavailable && got.Status != http.StatusTooManyRequests {
		return ""
	}
	lower := bytes.ToLower(text)
	for _, sign := range []string{"captcha", "checking your browser", "verify you are human", "challenge-platform", "just a moment..."} {
		if bytes.Contains(lower, []byte(sign)) || got.Header.Get("Cf-Mitigated") == "challenge" {
			return "something in front of the site asks whether a person is there"
		}
	}
	return ""
}

// misread are letters that UTF-8 becomes when it is read as Latin-1 or Windows-1252,
// and the sign for what could not be read at all.
var misread = regexp.MustCompile(`Ã[\x{80}-\x{BF}©¤¶¼Ÿ„–œ¨ª«¯±³´º]|â€[™œ\x{9D}“”¦˜]|Â[ \x{A0}«»°©]|\x{FFFD}`)

// misreadBegin is what each of them begins with.
var misreadBegin = []string{"Ã", "â€", "Â", "\uFFFD"}

// questions are what a set that lacks letters makes of them: words of question marks.
var questions = regexp.MustCompile(`(?:^|[\s>])\?{2,}(?:\s+\?{2,})+`)

// oneByte are the sets in which other scripts than the Latin one are often misread.
var oneByte = []*charmap.Charmap{charmap.Windows1250, charmap.Windows1251, charmap.Windows1252, charmap.Windows1253}

// CountDamaged counts what came through the wrong character set: the signs by which Latin
// letters are known, and runs of other letters which make sense as UTF-8 once they are written
// in a set of one byte a letter. Hardly a word that people write does: the bytes that UTF-8 wants
// after a first one are signs in those sets, and rare letters.
func CountDamaged(text string) int {
	count := 0
	if strings.Contains(text, "??") { // looked for in a hundredth of the time
		count = len(questions.FindAllStringIndex(text, -1))
	}
	if !strings.ContainsFunc(text, func(r rune) bool { return r >= utf8.RuneSelf }) {
		return count
	}
	if slices.ContainsFunc(misreadBegin, func(sign string) bool { return strings.Contains(text, sign) }) {
		count += len(misread.FindAllStringIndex(text, -1))
		text = misread.ReplaceAllString(text, " ")
	}
	for _, run := range runs(text) {
		if slices.ContainsFunc(oneByte, func(set *charmap.Charmap) bool { return wasUTF8(run, set) }) {
			count += utf8.RuneCountInString(run) / 2
		}
	}
	return count
}

// leastRun is the length of a run, in letters, from which on it is no chance.
const leastRun = 4

// runs lists the runs of letters and signs that are not ASCII.
func runs(text string) []string {
	return slices.DeleteFunc(strings.FieldsFunc(text, func(r rune) bool { return r < utf8.RuneSelf }), func(run string) bool {
		return utf8.RuneCountInString(run) < leastRun
	})
}

func wasUTF8(run string, set *charmap.Charmap) bool {
	stored, err := set.NewEncoder().String(run)
	return err == nil && utf8.ValidString(stored)
}

// readFeed counts the entries of a feed, or of a sitemap.
func readFeed(facts *smoke.Facts, text []byte) {
	// Nothing may come before the declaration: readers of feeds refuse the rest.
	if start := bytes.TrimPrefix(text, []byte("\ufeff")); bytes.Contains(start, []byte("<?xml")) && !bytes.HasPrefix(start, []byte("<?xml")) {
		facts.Complete = false
		return
	}
	decoder := xml.NewDecoder(bytes.NewReader(text))
	decoder.CharsetReader = charset.NewReaderLabel
	for {
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) {
			return
		}
		if err != nil {
			facts.Complete = false
			return
		}
		if start, ok := token.(xml.StartElement); ok && slices.Contains([]string{"item", "entry", "url"}, start.Name.Local) {
			facts.Entries++
		}
	}
}

// ShutsOut tells whether a robots.txt keeps all search engines from all of the site.
func ShutsOut(text []byte) bool {
	everybody, naming := false, false
	for line := range strings.Lines(strings.ToLower(string(text))) {
		line, _, _ = strings.Cut(line, "#")
		name, value, _ := strings.Cut(strings.TrimSpace(line), ":")
		switch value = strings.TrimSpace(value); strings.TrimSpace(name) {
		case "user-agent":
			everybody = value == "*" || (naming && everybody)
			naming = true
		case "disallow":
			if everybody && value == "/" {
				return true
			}
			naming = false
		default:
			naming = false
		}
	}
	return false
}

// ToUTF8 decodes by header, byte-order mark or meta element.
func ToUTF8(body []byte, kind string) []byte {
	encoding, _, _ := charset.DetermineEncoding(body, kind)
	decoded, err := encoding.NewDecoder().Bytes(body)
	if err != nil {
		return body
	}
	return decoded
}

// endsWell tells whether the document is closed; scripts and comments may follow.
func endsWell(text []byte) bool {
	return bytes.Contains(bytes.ToLower(text), []byte("</html"))
}

// errorShape is a form in which errors show, in a page's text or in its comments.
type errorShape struct {
	keys  []string // in small letters: one of them is in every match, and looking for them is quick
	shape *regexp.Regexp
}

// errorShapes are those of every CMS, of PHP, fixed in main/main.c (php_error_cb), and of database
// servers.
var errorShapes = append(traits.Collect(func(t traits.Traits) (all []errorShape) {
	for _, one := range t.Pages.Errors {
		all = append(all, errorShape{[]string{one.Key}, regexp.MustCompile(one.Pattern)})
	}
	return all
}), []errorShape{
	{[]string{"on line"}, regexp.MustCompile(`(?is)(?:<b>)?\b(?:fatal error|parse error|recoverable fatal error|warning|notice|deprecated|strict standards)(?:</b>)?:\s.{1,900}?\sin\s(?:<b>)?[^\s<]{2,400}(?:</b>)?\son line\s(?:<b>)?\d+`)},
	{[]string{"uncaught "}, regexp.MustCompile(`(?i)uncaught (?:[\w\\]*(?:error|exception))\b[^\n<]{0,200}`)},
	{[]string{"you have an error in your sql"}, regexp.MustCompile(`(?i)You have an error in your SQL syntax[^\n<]{0,200}`)},
	{[]string{"<?php", "<?="}, regexp.MustCompile(`<\?(?:php\s|=)[^\n]{0,200}`)},
	// What var_dump and print_r write, and a stack of calls (PHP, ext/standard/var.c and
	// Zend/zend_exceptions.c).
	{[]string{"array(", "object("}, regexp.MustCompile(`(?m)^\s*(?:array|object)\([\w\\]+\)(?:#\d+ \(\d+\))? \{\s*$`)},
	{[]string{"string("}, regexp.MustCompile(`\bstring\(\d+\) "`)},
	{[]string{"array\n", "array\r\n", " object\n", " object\r\n"}, regexp.MustCompile(`(?:\bArray|\w Object)\r?\n\s*\(\s*\n\s*\[`)},
	{[]string{".php("}, regexp.MustCompile(`#\d+ \S{1,200}\.php\(\d+\): [^\n<]{0,120}`)},
	{[]string{"sqlstate["}, regexp.MustCompile(`(?i)SQLSTATE\[\w+\][^\n<]{0,200}`)},
	{[]string{" at line "}, regexp.MustCompile(`\w+\\Error\\\w+[^\n<]{0,200} at line \d+|\bin "[^"<\n]{1,200}" at line \d+`)},
}...)

var tags = regexp.MustCompile(`<[^>]*>`)

// mostErrors bounds how many errors of one shape are told.
const mostErrors = 4

// errorTexts returns each shape's first matches, as lines to read.
func errorTexts(text []byte) []string {
	var found []string
	lower := bytes.ToLower(text)
	for _, one := range errorShapes {
		if !slices.ContainsFunc(one.keys, func(key string) bool { return bytes.Contains(lower, []byte(key)) }) {
			continue
		}
		for _, match := range one.shape.FindAll(text, mostErrors) {
			line := Readable(string(match))
			if line == "" {
				line = string(match)
			}
			if !slices.Contains(found, line) {
				found = append(found, line)
			}
		}
	}
	return found
}

// isSpace tells of what HTML takes for white space.
func isSpace(r rune) bool { return strings.ContainsRune("\t\n\f\r ", r) }

// Readable makes one short line of a piece of HTML.
func Readable(s string) string {
	if strings.Contains(s, "<") {
		s = tags.ReplaceAllString(s, " ")
	}
	s = strings.TrimSpace(strings.Join(strings.FieldsFunc(s, isSpace), " "))
	const longest = 240
	if len(s) > longest {
		s = strings.ToValidUTF8(s[:longest], "") + "..."
	}
	return s
}

// MostOfAKind bounds how many elements of one kind are read: a page without an end must not
// be compared without one.
const MostOfAKind = 400

func first(s *goquery.Selection) *goquery.Selection { return s.Slice(0, min(s.Length(), MostOfAKind)) }

func readDocument(facts *smoke.Facts, document *goquery.Document, where *url.URL) {
	facts.Title = Readable(document.Find("title").First().Text())
	first(document.Find("h1, h2, h3")).Each(func(_ int, s *goquery.Selection) {
		if text := Readable(s.Text()); text != "" {
			facts.Headings = append(facts.Headings, goquery.NodeName(s)+" "+text)
		}
	})
	facts.Landmarks = map[string]int{}
	for name, selector := range Landmarks {
		if n := document.Find(selector).Length(); n > 0 {
			facts.Landmarks[name] = n
		}
	}
	base := baseOf(document, where)
	first(document.Find(Landmarks["navigation"])).Each(func(_ int, s *goquery.Selection) {
		if menu := readMenu(s, base); len(menu.Links) > 0 {
			facts.Menus = append(facts.Menus, menu)
		}
	})
	first(document.Find("form")).Each(func(_ int, s *goquery.Selection) {
		facts.Forms = append(facts.Forms, readForm(document, s, where, base))
	})
	facts.Entries = countEntries(document)
	facts.Images, facts.Drawings = countPictures(document), document.Find("svg").Length()
	facts.Pictures = contentPictures(document)
	facts.NoIndex = facts.NoIndex || strings.Contains(strings.ToLower(document.Find(`meta[name="robots" i]`).AttrOr("content", "")), "noindex")
	facts.Language, _, _ = strings.Cut(strings.ToLower(document.Find("html").AttrOr("lang", "")), "-")
	if at, err := where.Parse(document.Find(`link[rel="canonical" i]`).AttrOr("href", "")); err == nil && at.String() != where.String() {
		facts.Canonical = WithoutMark(at).String()
	}
	if where.Scheme == "https" {
		document.Find(`script[src^="http:" i], link[rel~="stylesheet" i][href^="http:" i], img[src^="http:" i], iframe[src^="http:" i]`).Each(func(_ int, s *goquery.Selection) {
			facts.Mixed = append(facts.Mixed, s.AttrOr("src", s.AttrOr("href", "")))
		})
	}
	facts.RightToLeft = strings.EqualFold(document.Find("html").AttrOr("dir", document.Find("body").AttrOr("dir", "")), "rtl")
	facts.Quirks = !slices.ContainsFunc(slices.Collect(document.Nodes[0].ChildNodes()), func(n *html.Node) bool { return n.Type == html.DoctypeNode })
	refresh(facts, document.Find(`meta[http-equiv="refresh" i]`).AttrOr("content", ""), where)
	facts.FitsPhones = strings.Contains(strings.ReplaceAll(strings.ToLower(document.Find(`meta[name="viewport" i]`).AttrOr("content", "")), " ", ""), "width=device-width")
	readLinks(facts, document, where, base)
	facts.Contacts = readContacts(document)
	facts.Buttons = readButtons(document)
	readScripts(facts, document)
	facts.Assets = readAssets(document, where, base)
	for _, asset := range facts.Assets {
		facts.Loads = append(facts.Loads, asset.Path)
	}
}

// ofComments matches what holds comments. The page's own classes may speak of them, too.
const ofComments = `[class*="comment"]:not(html, body, main), [id*="comment"]:not(html, body, main)`

// countEntries counts the articles of the main part, or of the page if it has none. Comments
// are often articles, too, and no entries.
func countEntries(document *goquery.Document) int {
	const entry = "article, .hentry:not(article), .h-entry:not(article)" // microformats name the classes
	entries := document.Find(Landmarks["main part"]).Find(entry)
	if document.Find(Landmarks["main part"]).Length() == 0 {
		entries = document.Find(entry)
	}
	return entries.FilterFunction(func(_ int, s *goquery.Selection) bool {
		return s.Closest(ofComments).Length() == 0 || s.Is(`[class*="post"], [class*="hentry"]`)
	}).Length()
}

// ReadTexts counts what a reader can read. It takes scripts and styles out of the
// document: call it last.
func ReadTexts(facts *smoke.Facts, document *goquery.Document) {
	document.Find("script, style, noscript, template").Remove()
	facts.Text = CountText(document.Find("body").Text())
	facts.Leaks = readLeaks(document)
	readContent(facts, document)
	readFrame(facts, document)
	readFilled(facts, document)
	facts.Inside = map[string]int{}
	for name, selector := range Landmarks {
		if n := CountText(document.Find(selector).Text()); n > 0 {
			facts.Inside[name] = n
		}
	}
}

// Landmarks are the parts of a page that readers find their way by.
var Landmarks = map[string]string{
	// Inside of these, header and footer are those of a part (HTML-AAM, 3.5).
	"header":      `header:not(article header, aside header, main header, nav header, section header), [role="banner"]`,
	"navigation":  `nav, [role="navigation"]`,
	"main part":   `main, [role="main"]`,
	"side column": `aside, [role="complementary"]`,
	"footer":      `footer:not(article footer, aside footer, main footer, nav footer, section footer), [role="contentinfo"]`,
}

// within names the nearest landmark around s.
func within(s *goquery.Selection) string {
	around := s.ParentsFiltered(`header, main, aside, footer, [role="banner"], [role="main"], [role="complementary"], [role="contentinfo"]`).First()
	for _, name := range []string{"header", "main part", "side column", "footer"} {
		if around.Length() > 0 && around.Is(Landmarks[name]) {
			return name
		}
	}
	return "page"
}

// readAssets lists the style sheets, scripts and images of this host, whole
// addresses with their queries.
func readAssets(document *goquery.Document, where, base *url.URL) []smoke.Asset {
	var found []smoke.Asset
	add := func(kind, reference string) {
		at, err := base.Parse(strings.TrimSpace(reference))
		if reference == "" || err != nil || at.Host != where.Host || strings.HasPrefix(reference, "data:") {
			return
		}
		at.Fragment = ""
		asset := smoke.Asset{Kind: kind, Path: at.String()}
		if len(found) < 3*smoke.MostAssets && !slices.Contains(found, asset) {
			found = append(found, asset)
		}
	}
	// A sheet that a script of its own switches on once it is there is one, too.
	document.Find(`link[rel~="stylesheet" i], link[rel~="preload" i][as="style" i][onload*="stylesheet"]`).Each(func(_ int, s *goquery.Selection) { add("style sheet", s.AttrOr("href", "")) })
	document.Find("script[src]").Each(func(_ int, s *goquery.Selection) { add("script", s.AttrOr("src", "")) })
	first(document.Find("img, source")).Each(func(_ int, s *goquery.Selection) {
		for _, source := range pictureSources(s) {
			add("image", source)
		}
	})
	first(document.Find("iframe[src]")).Each(func(_ int, s *goquery.Selection) { add("frame", s.AttrOr("src", "")) })
	return found
}

// pictureFile matches addresses of pictures.
var pictureFile = regexp.MustCompile(`(?i)\.(?:png|jpe?g|gif|webp|avif|svg)(?:\?[^\s]*)?$`)

// pictureSources lists where a picture comes from: its source, a candidate of each set, and
// what scripts put in once it is scrolled to.
func pictureSources(s *goquery.Selection) []string {
	var sources []string
	for _, one := range s.Get(0).Attr {
		value := strings.TrimSpace(one.Val)
		switch {
		case value == "":
		case one.Key == "src" && goquery.NodeName(s) == "img":
			if !strings.HasPrefix(value, "data:") || len(value) > placeholderSize {
				sources = append(sources, value)
			}
		case one.Key == "srcset", strings.HasPrefix(one.Key, "data-") && strings.HasSuffix(one.Key, "srcset"):
			sources = append(sources, candidate(value))
		case strings.HasPrefix(one.Key, "data-") && pictureFile.MatchString(value):
			sources = append(sources, value)
		}
	}
	return sources
}

// placeholderSize is how long an address is at most that holds a picture with nothing on it, in
// whose place a script puts another.
const placeholderSize = 200

// candidate is one address of a set of them, the last: browsers take any (HTML, 4.8.4.2.1).
func candidate(set string) string {
	all := strings.Split(set, ", ")
	address, _, _ := strings.Cut(strings.TrimSpace(all[len(all)-1]), " ")
	return strings.Trim(address, ",")
}

// countPictures counts the pictures that come from somewhere.
func countPictures(document *goquery.Document) int {
	return document.Find("img").FilterFunction(func(_ int, s *goquery.Selection) bool {
		return len(pictureSources(s)) > 0 || s.Closest("picture").Find("source[srcset]").Length() > 0
	}).Length()
}

// contentPictures lists the pictures of the main part that belong to what the page says: not
// those of comments and of menus, and no signs that are as large as letters.
func contentPictures(document *goquery.Document) (marks []string) {
	first(mainPart(document).Find("img")).Each(func(_ int, s *goquery.Selection) {
		if s.ClosestMatcher(notAuthors).Length() == 0 && !s.IsMatcher(ornaments) {
			marks = append(marks, pictureMarks(s)...)
		}
	})
	return marks
}

// ornaments are pictures that every CMS puts beside letters.
var ornaments = cascadia.MustCompile(strings.Join(traits.Collect(func(t traits.Traits) []string {
	if t.Pages.Ornaments == "" {
		return nil
	}
	return []string{t.Pages.Ornaments}
}), ", "))

// CountText counts letters and digits.
func CountText(text string) int {
	n := 0
	for _, r := range text {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			n++
		}
	}
	return n
}

// FreshMark is the query parameter that makes every request a new one for caches.
const FreshMark = "wetland-look"

// Answer is what came back for one request.
type Answer struct {
	Status    int
	Redirects []string
	Header    http.Header
	Body      []byte
	TooLarge  bool
	Took      time.Duration
}

// WithoutMark takes our parameter out of an address that a page gave back.
func WithoutMark(where *url.URL) *url.URL {
	plain := *where
	var kept []string
	for pair := range strings.SplitSeq(plain.RawQuery, "&") {
		if pair != "" && !strings.HasPrefix(pair, FreshMark+"=") {
			kept = append(kept, pair)
		}
	}
	plain.RawQuery = strings.Join(kept, "&")
	return &plain
}

// KindIn names the kind of a page, by what the CMS writes into its body, else by its folder.
func KindIn(document *goquery.Document, at string) string {
	folder, _, _ := strings.Cut(at, "?")
	classes := []string{}
	for _, body := range document.Find("body").Nodes {
		classes = classNames(body)
	}
	if len(classes) > 0 {
		folder = ""
	}
	return strings.Join(classes, " ") + " " + path.Dir(strings.TrimSuffix(folder, "/"))
}

// opening returns the first words of a text, by which one thing is told from another.
func opening(text string) []string {
	const enough = 24
	said := strings.Fields(strings.ToLower(text))
	return said[:min(len(said), enough)]
}

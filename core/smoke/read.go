package smoke

import (
	"bytes"
	"mime"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"github.com/PuerkitoBio/goquery"
	"golang.org/x/net/html/charset"
)

// readPage reads what an answer shows.
func readPage(page Page, where *url.URL, got answer) Facts {
	facts := Facts{
		Path: page.Path, Status: got.status, Redirects: got.redirects, Bytes: len(got.body),
		Took: got.took, TooLarge: got.tooLarge,
	}
	if n := len(got.redirects); n > 0 {
		if last, err := where.Parse(got.redirects[n-1]); err == nil {
			where = last
		}
	}
	kind := got.header.Get("Content-Type")
	facts.Type, _, _ = mime.ParseMediaType(kind)
	text := toUTF8(got.body, kind)
	facts.Errors = errorTexts(text)
	for _, want := range page.Expect {
		if !bytes.Contains(text, []byte(want)) {
			facts.Missing = append(facts.Missing, want)
		}
	}
	if facts.Type != "text/html" && facts.Type != "application/xhtml+xml" {
		facts.Complete, facts.Text = true, len(text)
		return facts
	}
	facts.Complete = endsWell(text)
	document, err := goquery.NewDocumentFromReader(bytes.NewReader(text))
	if err != nil {
		facts.Problem = "its HTML cannot be read: " + err.Error()
		return facts
	}
	readDocument(&facts, document, where)
	return facts
}

// toUTF8 decodes by header, byte-order mark or meta element.
func toUTF8(body []byte, kind string) []byte {
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

// errorShapes are the forms in which PHP, the CMS and the database server show
// errors, in the page's text or in its comments. PHP's are fixed in
// main/main.c (php_error_cb); those of WordPress in wp-includes/functions.php
// (_default_wp_die_handler) and class-wpdb.php.
var errorShapes = []*regexp.Regexp{
	regexp.MustCompile(`(?is)(?:<b>)?\b(?:fatal error|parse error|recoverable fatal error|warning|notice|deprecated|strict standards)(?:</b>)?:\s.{1,900}?\sin\s(?:<b>)?[^\s<]{2,400}(?:</b>)?\son line\s(?:<b>)?\d+`),
	regexp.MustCompile(`(?i)uncaught (?:[\w\\]*(?:error|exception))\b[^\n<]{0,200}`),
	regexp.MustCompile(`(?i)<[a-z]+[^>]*class="[^"]*\bwp-die-message\b[^"]*"[^>]*>.{0,200}`),
	regexp.MustCompile(`(?i)<body[^>]*id="error-page"`),
	regexp.MustCompile(`(?i)There has been a critical error on this website`),
	regexp.MustCompile(`(?i)Error establishing a database connection`),
	regexp.MustCompile(`(?i)<div id="error"><p class="wpdberror">.{0,300}`),
	regexp.MustCompile(`(?i)You have an error in your SQL syntax[^\n<]{0,200}`),
	regexp.MustCompile(`(?i)<h1>Rowlock could not show this page</h1>`),
}

var (
	tags   = regexp.MustCompile(`<[^>]*>`)
	spaces = regexp.MustCompile(`\s+`)
)

// errorTexts returns each shape's first match, as a line to read.
func errorTexts(text []byte) []string {
	var found []string
	for _, shape := range errorShapes {
		if match := shape.Find(text); match != nil {
			line := readable(string(match))
			if line == "" {
				line = string(match)
			}
			found = append(found, line)
		}
	}
	return found
}

func readable(s string) string {
	s = strings.TrimSpace(spaces.ReplaceAllString(tags.ReplaceAllString(s, " "), " "))
	const longest = 240
	if len(s) > longest {
		s = strings.ToValidUTF8(s[:longest], "") + "..."
	}
	return s
}

func readDocument(facts *Facts, document *goquery.Document, where *url.URL) {
	facts.Title = readable(document.Find("title").First().Text())
	document.Find("h1, h2, h3").Each(func(_ int, s *goquery.Selection) {
		if text := readable(s.Text()); text != "" {
			facts.Headings = append(facts.Headings, goquery.NodeName(s)+" "+text)
		}
	})
	facts.Landmarks = map[string]int{}
	for name, selector := range landmarks {
		if n := document.Find(selector).Length(); n > 0 {
			facts.Landmarks[name] = n
		}
	}
	document.Find(landmarks["navigation"]).Each(func(_ int, s *goquery.Selection) {
		menu := Menu{Within: within(s)}
		s.Find("a[href]").Each(func(_ int, link *goquery.Selection) {
			if text := readable(link.Text()); text != "" {
				menu.Links = append(menu.Links, text)
			}
		})
		if len(menu.Links) > 0 {
			facts.Menus = append(facts.Menus, menu)
		}
	})
	document.Find("form").Each(func(_ int, s *goquery.Selection) { facts.Forms = append(facts.Forms, readForm(s, where)) })
	facts.Entries = document.Find("article").Length()
	facts.Images = document.Find("img").Length()
	facts.NoIndex = strings.Contains(strings.ToLower(document.Find(`meta[name="robots" i]`).AttrOr("content", "")), "noindex")
	facts.Assets = readAssets(document, where)
	document.Find("script, style, noscript, template").Remove()
	facts.Text = countText(document.Find("body").Text())
}

// landmarks are the parts of a page that readers find their way by.
var landmarks = map[string]string{
	"header":      `header, [role="banner"]`,
	"navigation":  `nav, [role="navigation"]`,
	"main part":   `main, [role="main"]`,
	"side column": `aside, [role="complementary"]`,
	"footer":      `footer, [role="contentinfo"]`,
}

// within names the nearest landmark around s.
func within(s *goquery.Selection) string {
	around := s.ParentsFiltered(`header, main, aside, footer, [role="banner"], [role="main"], [role="complementary"], [role="contentinfo"]`).First()
	for _, name := range []string{"header", "main part", "side column", "footer"} {
		if around.Length() > 0 && around.Is(landmarks[name]) {
			return name
		}
	}
	return "page"
}

func readForm(s *goquery.Selection, where *url.URL) Form {
	form := Form{Name: s.AttrOr("id", "")}
	if form.Name == "" {
		form.Name = s.AttrOr("name", "")
	}
	if form.Name == "" {
		if target, err := where.Parse(s.AttrOr("action", "")); err == nil {
			form.Name = "to " + target.Path
		}
	}
	s.Find("input, textarea, select").Each(func(_ int, field *goquery.Selection) {
		name := field.AttrOr("name", "")
		if name != "" && field.AttrOr("type", "") != "hidden" && !slices.Contains(form.Fields, name) {
			form.Fields = append(form.Fields, name)
		}
	})
	return form
}

// readAssets lists the style sheets, scripts and images of this host, whole
// addresses with their queries.
func readAssets(document *goquery.Document, where *url.URL) []Asset {
	var found []Asset
	base := where
	if href, ok := document.Find("base[href]").Attr("href"); ok {
		if parsed, err := where.Parse(href); err == nil {
			base = parsed
		}
	}
	add := func(kind, reference string) {
		at, err := base.Parse(strings.TrimSpace(reference))
		if reference == "" || err != nil || at.Host != where.Host || strings.HasPrefix(reference, "data:") {
			return
		}
		at.Fragment = ""
		asset := Asset{Kind: kind, Path: at.String()}
		if !slices.Contains(found, asset) {
			found = append(found, asset)
		}
	}
	document.Find(`link[rel~="stylesheet" i]`).Each(func(_ int, s *goquery.Selection) { add("style sheet", s.AttrOr("href", "")) })
	document.Find("script[src]").Each(func(_ int, s *goquery.Selection) { add("script", s.AttrOr("src", "")) })
	document.Find("img[src]").Each(func(_ int, s *goquery.Selection) { add("image", s.AttrOr("src", "")) })
	return found
}

func countText(text string) int {
	n := 0
	for _, r := range text {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			n++
		}
	}
	return n
}

// isFile tells of links that lead to no page.
func isFile(p string) bool {
	ext := strings.ToLower(path.Ext(p))
	return ext != "" && ext != ".html" && ext != ".htm" && ext != ".php"
}

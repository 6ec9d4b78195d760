package reading

import (
	"net/url"
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"

	"wetland/core/smoke"
)

const (
	MostLinks  = 400 // of one page
	MostFollow = 12  // that are asked for in one take
)

// readLinks lists the links with words to pages of the site.
func readLinks(facts *smoke.Facts, document *goquery.Document, where, base *url.URL) {
	document.Find("a[href]").EachWithBreak(func(_ int, s *goquery.Selection) bool {
		text := Readable(s.Text())
		target, err := base.Parse(strings.TrimSpace(s.AttrOr("href", "")))
		if text == "" || err != nil {
			return true
		}
		link := smoke.Link{Text: text, Menu: s.Closest(Landmarks["navigation"]).Length() > 0}
		switch {
		case target.Scheme == "javascript":
		case target.Host != where.Host:
			return true
		default:
			if plain, own := WithoutMark(target), WithoutMark(where); plain.RequestURI() != own.RequestURI() {
				link.To = plain.RequestURI()
			}
		}
		if !slices.Contains(facts.Links, link) {
			facts.Links = append(facts.Links, link)
		}
		return len(facts.Links) < MostLinks
	})
}

// contactSchemes are those of links by which visitors reach people.
var contactSchemes = []string{"tel", "mailto", "sms"}

// readContacts lists the telephone numbers and mail addresses that are links.
func readContacts(document *goquery.Document) []string {
	var found []string
	first(document.Find("a[href]")).Each(func(_ int, s *goquery.Selection) {
		scheme, to, ok := strings.Cut(strings.TrimSpace(s.AttrOr("href", "")), ":")
		to, _, _ = strings.Cut(to, "?")
		contact := strings.ToLower(scheme) + ":" + strings.ToLower(strings.TrimSpace(to))
		if ok && slices.Contains(contactSchemes, strings.ToLower(scheme)) && !slices.Contains(found, contact) {
			found = append(found, contact)
		}
	})
	return found
}

// baseOf is what the page's addresses are counted from.
func baseOf(document *goquery.Document, where *url.URL) *url.URL {
	if href, ok := document.Find("base[href]").Attr("href"); ok {
		if parsed, err := where.Parse(href); err == nil {
			return parsed
		}
	}
	return where
}

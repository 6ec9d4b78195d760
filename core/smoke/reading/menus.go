package reading

import (
	"cmp"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"

	"wetland/core/smoke"
)

func readMenu(s *goquery.Selection, base *url.URL) smoke.Menu {
	menu := smoke.Menu{Within: within(s)}
	s.Find("a[href]").Each(func(_ int, link *goquery.Selection) {
		text := Readable(link.Text())
		if text == "" {
			return
		}
		to := ""
		if target, err := base.Parse(strings.TrimSpace(link.AttrOr("href", ""))); err == nil {
			to = WithoutMark(target).RequestURI()
		}
		menu.Links, menu.To = append(menu.Links, text), append(menu.To, to)
	})
	return menu
}

var (
	stepPath  = regexp.MustCompile(`/(?:page/\d+|comment-page-\d+|page-\d+)(/?)$`)
	stepQuery = []string{"paged", "page", "cpage", "pg"}
)

// IsStep tells of a link to another page of the same list, by the forms that addresses of
// those have by custom.
func IsStep(from, to string) bool {
	bare := func(address string) string {
		at, err := url.Parse(address)
		if err != nil {
			return address
		}
		at.Path = strings.TrimSuffix(stepPath.ReplaceAllString(at.Path, "$1"), "/")
		query := at.Query()
		for _, name := range stepQuery {
			query.Del(name)
		}
		at.RawQuery = query.Encode()
		return at.RequestURI()
	}
	return from != to && to != "" && bare(from) == bare(to)
}

// WithoutSteps leaves out the links to further pages of the page's own list, if there is still
// one of them: how many there are and what they are called is the theme's.
func WithoutSteps(m smoke.Menu, now smoke.Facts) smoke.Menu {
	own := cmp.Or(now.Own, now.Path)
	stands := slices.ContainsFunc(now.Links, func(l smoke.Link) bool { return IsStep(own, l.To) })
	if !stands {
		return m
	}
	kept := smoke.Menu{Within: m.Within}
	for i, words := range m.Links {
		if !IsStep(own, m.Target(i)) {
			kept.Links, kept.To = append(kept.Links, words), append(kept.To, m.Target(i))
		}
	}
	return kept
}

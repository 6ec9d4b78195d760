package smoke

import (
	"bytes"
	"context"
	"encoding/xml"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"
)

// mostFound bounds how many pages Discover returns, beside the feed, the search and the
// page that is not there.
const mostFound = 12

// notThere are paths that no site has: their page has a template of its own. The second one
// is for WordPress without speaking addresses, which shows its front page for the first.
var notThere = []string{"/there-is-no-such-page", "/?page_id=999999999"}

// Discovered is what Discover found, and where.
type Discovered struct {
	Pages  []Page
	Dead   []DeadLink
	Notes  []string // where they come from, and what could not be asked
	Broken error    // the front page cannot be fetched
}

// DeadLink is a page that the site names and that answers with an error.
type DeadLink struct {
	Path   string `json:"path"`
	From   string `json:"from"` // where it is named
	Status int    `json:"status,omitempty"`
	Why    string `json:"why,omitempty"` // there is no answer
}

// String says it in a line.
func (d DeadLink) String() string {
	if d.Why != "" {
		return fmt.Sprintf("%s does not answer (%s); it is named in %s", d.Path, d.Why, d.From)
	}
	return fmt.Sprintf("%s answers %d; it is named in %s", d.Path, d.Status, d.From)
}

// mostDead bounds how many dead pages are told.
const mostDead = 10

// Discover finds pages worth testing: first, then what the menus of the front
// page link to, then the sitemap.
func (f *Fetcher) Discover(ctx context.Context, first []string) (found Discovered) {
	for _, path := range first {
		found.Pages = append(found.Pages, Page{Path: path})
	}
	front, err := f.get(ctx, f.Address, largestPage, manner{})
	if err != nil {
		found.Broken = err
		return found
	}
	found.note(f.addLive(ctx, &found, f.menuLinks(front), "the front page"), "from the menu")
	defer func() { found.Pages = append(found.Pages, f.otherKinds(ctx, front)...) }()
	for _, name := range []string{"/sitemap.xml", "/wp-sitemap.xml"} {
		if listed, ok := f.sitemap(ctx, f.Resolve(name), 2); ok {
			found.note(f.addLive(ctx, &found, listed, name), "more from "+name)
			return found
		}
	}
	found.Notes = append(found.Notes, "the site has no sitemap")
	return found
}

func (d *Discovered) note(count int, from string) {
	d.Notes = append(d.Notes, plural(count, "page")+" "+from)
}

// addLive adds the pages that answer as they should, as long as there is room, and returns how
// many. Those that do not are noted, with where they are named.
func (f *Fetcher) addLive(ctx context.Context, found *Discovered, paths []string, from string) (added int) {
	for _, path := range paths {
		known := slices.ContainsFunc(found.Pages, func(p Page) bool { return p.Path == path }) ||
			slices.ContainsFunc(found.Dead, func(d DeadLink) bool { return d.Path == path })
		if known || ctx.Err() != nil {
			continue
		}
		if len(found.Pages) >= mostFound || len(found.Dead) >= mostDead {
			break
		}
		got, err := f.get(ctx, f.Resolve(path), largestPage, manner{})
		switch {
		case ctx.Err() != nil:
		case err != nil:
			found.Dead = append(found.Dead, DeadLink{Path: path, From: from, Why: err.Error()})
		case got.status >= 400:
			found.Dead = append(found.Dead, DeadLink{Path: path, From: from, Status: got.status})
		default:
			found.Pages = append(found.Pages, Page{Path: path})
			added++
		}
	}
	return added
}

// robotsFile is where a site tells search engines what they may read (RFC 9309).
const robotsFile = "/robots.txt"

// otherKinds returns the feed that the front page names, and the page for what is not
// there, if the site answers as it should.
func (f *Fetcher) otherKinds(ctx context.Context, front answer) []Page {
	var pages []Page
	document, err := goquery.NewDocumentFromReader(bytes.NewReader(front.body))
	if err == nil {
		href := document.Find(`link[rel~="alternate" i][type="application/rss+xml" i], link[rel~="alternate" i][type="application/atom+xml" i]`).First().AttrOr("href", "")
		if link, err := f.Address.Parse(href); err == nil && href != "" && link.Host == f.Address.Host {
			if below, inside := strings.CutPrefix(link.RequestURI(), strings.TrimSuffix(f.Address.Path, "/")); inside {
				pages = append(pages, Page{Path: below})
			}
		}
	}
	if path, ok := f.searchPage(document); ok {
		pages = append(pages, Page{Path: path})
	}
	if got, err := f.get(ctx, f.Resolve(robotsFile), largestPage, manner{}); err == nil && got.status == http.StatusOK && strings.HasPrefix(got.header.Get("Content-Type"), "text/plain") {
		pages = append(pages, Page{Path: robotsFile})
	}
	for _, path := range notThere {
		if got, err := f.get(ctx, f.Resolve(path), largestPage, manner{}); err == nil && got.status == http.StatusNotFound {
			pages = append(pages, Page{Path: path, Status: http.StatusNotFound})
			break
		}
	}
	return pages
}

// searchPage returns the page that the site's own form for searching leads to: it has a
// template of its own. WordPress answers for "s" even where no form is shown.
func (f *Fetcher) searchPage(document *goquery.Document) (string, bool) {
	if document == nil {
		return "", false
	}
	path := ""
	document.Find(`form[role="search" i], form:has(input[type="search" i])`).EachWithBreak(func(_ int, s *goquery.Selection) bool {
		name := s.Find(`input[type="search" i], input[type="text" i], input:not([type])`).First().AttrOr("name", "")
		at, err := f.Address.Parse(s.AttrOr("action", ""))
		if name == "" || err != nil || !f.isOwn(at) || strings.EqualFold(s.AttrOr("method", ""), "post") {
			return true
		}
		at.RawQuery = url.Values{name: {searchedWord}}.Encode()
		path, _ = f.pathOf(at)
		return path == ""
	})
	if path == "" && document.Find(`meta[name="generator" i][content^="WordPress"], link[href*="/wp-includes/"], script[src*="/wp-includes/"]`).Length() > 0 {
		path = "/?s=" + searchedWord
	}
	return path, path != ""
}

// searchedWord is one that most sites have somewhere.
const searchedWord = "the"

// menuLinks returns the paths that navigations link to, then those of all other links.
func (f *Fetcher) menuLinks(front answer) []string {
	document, err := goquery.NewDocumentFromReader(bytes.NewReader(toUTF8(front.body, front.header.Get("Content-Type"))))
	if err != nil {
		return nil
	}
	base := f.Address
	if n := len(front.redirects); n > 0 {
		if last, err := base.Parse(front.redirects[n-1]); err == nil {
			base = last
		}
	}
	var paths []string
	for _, selector := range []string{landmarks["navigation"], "main, article, body"} {
		document.Find(selector).Find("a[href]").Each(func(_ int, s *goquery.Selection) {
			link, err := base.Parse(s.AttrOr("href", ""))
			if err != nil {
				return
			}
			if path, ok := f.pathOf(link); ok && !slices.Contains(paths, path) {
				paths = append(paths, path)
			}
		})
	}
	return paths
}

// pathOf returns the path of a page of this site, below its address. Links that
// do something, lead to files or to the dashboard are no pages to test.
func (f *Fetcher) pathOf(link *url.URL) (string, bool) {
	below, inside := strings.CutPrefix(link.Path, strings.TrimSuffix(f.Address.Path, "/"))
	if link.Host != f.Address.Host || !inside || isFile(link.Path) || doesSomething(link) || strings.Contains(link.RequestURI(), "feed") {
		return "", false
	}
	plain := withoutMark(link)
	if below == "" {
		below = "/"
	}
	if plain.RawQuery != "" {
		below += "?" + plain.RawQuery
	}
	return below, true
}

// doesSomething tells of links that are no mere reading, or need a session.
func doesSomething(link *url.URL) bool {
	names := func(in string, parts ...string) bool {
		return slices.ContainsFunc(parts, func(part string) bool { return strings.Contains(strings.ToLower(in), part) })
	}
	return names(link.RequestURI(), "wp-admin", "wp-login", "logout", "sign-out", "replytocom", "add-to-cart") ||
		names(link.RawQuery, "nonce", "delete", "remove")
}

// sitemap reads a sitemap, or an index of sitemaps down to depth.
func (f *Fetcher) sitemap(ctx context.Context, where *url.URL, depth int) ([]string, bool) {
	got, err := f.get(ctx, where, largestPage, manner{})
	if err != nil || got.status != 200 || depth == 0 {
		return nil, false
	}
	var listed struct {
		Pages []struct {
			Loc string `xml:"loc"`
		} `xml:"url"`
		Maps []struct {
			Loc string `xml:"loc"`
		} `xml:"sitemap"`
	}
	if xml.Unmarshal(got.body, &listed) != nil {
		return nil, false
	}
	var paths []string
	for _, page := range listed.Pages {
		if link, err := url.Parse(strings.TrimSpace(page.Loc)); err == nil {
			if path, ok := f.pathOf(link); ok {
				paths = append(paths, path)
			}
		}
	}
	for _, one := range listed.Maps[:min(3, len(listed.Maps))] {
		if next, err := url.Parse(strings.TrimSpace(one.Loc)); err == nil && next.Host == f.Address.Host {
			more, _ := f.sitemap(ctx, next, depth-1)
			paths = append(paths, more[:min(3, len(more))]...)
		}
	}
	return paths, len(listed.Pages)+len(listed.Maps) > 0
}

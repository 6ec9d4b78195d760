package fetching

import (
	"bytes"
	"context"
	"encoding/xml"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"

	"wetland/core/phrase"
	"wetland/core/site/traits"
	"wetland/core/smoke"
	"wetland/core/smoke/reading"
)

// mostFound bounds how many pages Discover returns, beside the feed, the sitemap, the search and
// the page that is not there.
const mostFound = 20

// notThere are paths that no site has: their page has a template of its own. The second one
// is for WordPress without speaking addresses, which shows its front page for the first.
var notThere = []string{"/there-is-no-such-page", "/?page_id=999999999"}

// Discovered is what Discover found, and where.
type Discovered struct {
	Pages  []smoke.Page
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

// Discover finds pages worth testing: first, then what the menus of the front page link to and
// the pages of the sitemap, then samples, one of each kind that the site has, then all else. Of
// what there are many of - posts, archives - two are enough, for they have one template; pages
// differ in what they hold. A sample may answer that it is not there.
func (f *Fetcher) Discover(ctx context.Context, first, samples []string) (found Discovered) {
	for _, path := range first {
		found.Pages = append(found.Pages, smoke.Page{Path: path})
	}
	front, err := f.get(ctx, f.Address, smoke.LargestPage, manner{})
	if err != nil {
		found.Broken = err
		return found
	}
	defer func() { found.Pages = append(found.Pages, f.otherKinds(ctx, front, found.Pages)...) }()
	menu, others := f.frontLinks(front)
	c := &choice{fetcher: f, found: &found, kinds: map[string]int{}, seen: map[string]bool{}}
	c.note("/", front)
	c.add(ctx, menu, "the front page", true)
	found.note(c.added, "from the menu")
	name, pages, posts := f.findSitemap(ctx)
	if name == "" {
		found.Notes = append(found.Notes, "the site has no sitemap")
	}
	before := c.added
	c.add(ctx, pages, name, true)
	c.fill(mostFound / 2)
	if len(samples) > 0 {
		had := c.added
		c.sample(ctx, samples)
		found.note(c.added-had, "of other kinds")
	}
	c.fill(mostFound - forOthers)
	c.add(ctx, others, "the front page", false)
	c.add(ctx, posts, name, false)
	c.fill(mostFound)
	if name != "" {
		found.note(c.added-before, "more from "+name)
		found.Pages = append(found.Pages, smoke.Page{Path: name})
	}
	return found
}

func (d *Discovered) note(count int, from string) {
	if count > 0 {
		d.Notes = append(d.Notes, phrase.Plural(count, "page")+" "+from)
	}
}

// mostOfKind is how many pages of one kind are chosen at first; forOthers is the room that
// pages leave for posts, archives and whatever else there is.
const (
	mostOfKind = 2
	forOthers  = 4
)

// choice is a list of pages under way.
type choice struct {
	fetcher *Fetcher
	found   *Discovered
	kinds   map[string]int
	seen    map[string]bool // by what tells one page from another, whatever its address
	further []string        // pages that are left for when there is room
	added   int
}

// add adds the paths that answer as they should, as long as there is room and their kind has
// any. Those that do not are noted, with where they are named. pages says that they are pages,
// each of which may hold something of its own.
func (c *choice) add(ctx context.Context, paths []string, from string, pages bool) {
	for _, path := range paths {
		if len(c.found.Pages) >= mostFound || len(c.found.Dead) >= mostDead || ctx.Err() != nil {
			return
		}
		if c.knows(path) {
			continue
		}
		got, err := c.fetcher.get(ctx, c.fetcher.Resolve(path), smoke.LargestPage, manner{})
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			c.found.Dead = append(c.found.Dead, DeadLink{Path: path, From: from, Why: err.Error()})
			continue
		case got.Status >= 400:
			c.found.Dead = append(c.found.Dead, DeadLink{Path: path, From: from, Status: got.Status})
			continue
		}
		switch kind, fresh := c.note(path, got); {
		case !fresh:
		case c.kinds[kind] <= mostOfKind:
			c.take(path)
		case pages:
			c.further = append(c.further, path)
		}
	}
}

// note counts a page of its kind, and tells whether it is not known yet under another address.
func (c *choice) note(path string, got reading.Answer) (kind string, fresh bool) {
	kind, itself := kindOfPage(path, got.Body)
	if itself != "" && c.seen[itself] {
		return kind, false
	}
	c.seen[itself] = true
	c.kinds[kind]++
	return kind, true
}

func (c *choice) take(path string) {
	c.found.Pages = append(c.found.Pages, smoke.Page{Path: path})
	c.added++
}

// sample adds those samples that the site shows, under the address to which it leads.
func (c *choice) sample(ctx context.Context, paths []string) {
	for _, path := range paths {
		if len(c.found.Pages) >= mostFound || ctx.Err() != nil {
			return
		}
		path, got, ok := c.fetcher.showing(ctx, path)
		if !ok || c.knows(path) {
			continue
		}
		if kind, fresh := c.note(path, got); fresh && c.kinds[kind] <= mostOfKind {
			c.take(path)
		}
	}
}

// Shown returns the path under which the site shows what it is asked for; false: it does not.
func (f *Fetcher) Shown(ctx context.Context, path string) (own string, ok bool) {
	own, _, ok = f.showing(ctx, path)
	return own, ok
}

func (f *Fetcher) showing(ctx context.Context, path string) (own string, got reading.Answer, ok bool) {
	got, err := f.get(ctx, f.Resolve(path), smoke.LargestPage, manner{})
	if err != nil || got.Status >= 400 {
		return "", got, false
	}
	n := len(got.Redirects)
	if n == 0 {
		return path, got, true
	}
	target, err := f.Resolve(path).Parse(got.Redirects[n-1])
	if err != nil {
		return "", got, false
	}
	own, ok = f.pathOf(target)
	return own, got, ok
}

// fill takes further pages until there are so many.
func (c *choice) fill(most int) {
	for len(c.further) > 0 && len(c.found.Pages) < most {
		c.take(c.further[0])
		c.further = c.further[1:]
	}
}

func (c *choice) knows(path string) bool {
	return slices.Contains(c.further, path) || slices.ContainsFunc(c.found.Pages, func(p smoke.Page) bool { return p.Path == path }) ||
		slices.ContainsFunc(c.found.Dead, func(d DeadLink) bool { return d.Path == path })
}

// kindOfPage tells by what template a page seems to be made: by the classes of its body, as
// CMSs set them, without those that name the page itself; else by the folder it is in. What tells
// the page itself from others are all its classes, and its title; "" where it has none.
func kindOfPage(at string, body []byte) (kind, itself string) {
	document, err := goquery.NewDocumentFromReader(bytes.NewReader(body))
	if err != nil {
		return "", ""
	}
	if all := document.Find("body").AttrOr("class", ""); strings.ContainsAny(all, "0123456789") {
		itself = all + "\x00" + document.Find("title").First().Text()
	}
	return reading.KindIn(document, at), itself
}

// asksFor tells whether a page asks for the same as another one does, by the names in the queries
// of their addresses.
func asksFor(page, other string) bool {
	one, err1 := url.Parse(page)
	two, err2 := url.Parse(other)
	return err1 == nil && err2 == nil && slices.Equal(slices.Sorted(maps.Keys(one.Query())), slices.Sorted(maps.Keys(two.Query())))
}

// otherKinds returns the feed that the front page names, the search unless it is chosen already,
// and the page for what is not there, if the site answers as it should.
func (f *Fetcher) otherKinds(ctx context.Context, front reading.Answer, chosen []smoke.Page) []smoke.Page {
	var pages []smoke.Page
	document, err := goquery.NewDocumentFromReader(bytes.NewReader(front.Body))
	if err == nil {
		href := document.Find(`link[rel~="alternate" i][type="application/rss+xml" i], link[rel~="alternate" i][type="application/atom+xml" i]`).First().AttrOr("href", "")
		if link, err := f.Address.Parse(href); err == nil && href != "" && link.Host == f.Address.Host {
			if below, inside := strings.CutPrefix(link.RequestURI(), strings.TrimSuffix(f.Address.Path, "/")); inside {
				pages = append(pages, smoke.Page{Path: below})
			}
		}
	}
	if path, ok := f.searchPage(document); ok && !slices.ContainsFunc(chosen, func(p smoke.Page) bool { return asksFor(p.Path, path) }) {
		pages = append(pages, smoke.Page{Path: path})
	}
	for _, path := range notThere {
		if got, err := f.get(ctx, f.Resolve(path), smoke.LargestPage, manner{}); err == nil && got.Status == http.StatusNotFound {
			pages = append(pages, smoke.Page{Path: path, Status: http.StatusNotFound})
			break
		}
	}
	return pages
}

// searchPage returns the page that the site's own form for searching leads to: it has a
// template of its own. Some CMSs search even where no form is shown.
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
	for _, known := range traits.Known() {
		if path == "" && known.Pages.Search != "" && document.Find(known.Pages.Known).Length() > 0 {
			path = "/?" + known.Pages.Search + "=" + searchedWord
		}
	}
	return path, path != ""
}

// searchedWord is one that most sites have somewhere.
const searchedWord = "the"

// frontLinks returns the paths that the front page's navigations link to, and those of its
// other links.
func (f *Fetcher) frontLinks(front reading.Answer) (menu, others []string) {
	document, err := goquery.NewDocumentFromReader(bytes.NewReader(reading.ToUTF8(front.Body, front.Header.Get("Content-Type"))))
	if err != nil {
		return nil, nil
	}
	base := f.Address
	if n := len(front.Redirects); n > 0 {
		if last, err := base.Parse(front.Redirects[n-1]); err == nil {
			base = last
		}
	}
	links := func(selector string) (paths []string) {
		document.Find(selector).Find("a[href]").Each(func(_ int, s *goquery.Selection) {
			link, err := base.Parse(s.AttrOr("href", ""))
			if err != nil {
				return
			}
			if path, ok := f.pathOf(link); ok && !slices.Contains(paths, path) {
				paths = append(paths, path)
			}
		})
		return paths
	}
	return links(reading.Landmarks["navigation"]), links("main, article, body")
}

// pathOf returns the path of a page of this site, below its address. Links that
// do something, lead to files or to the dashboard are no pages to test.
func (f *Fetcher) pathOf(link *url.URL) (string, bool) {
	below, inside := strings.CutPrefix(link.Path, strings.TrimSuffix(f.Address.Path, "/"))
	if link.Host != f.Address.Host || !inside || smoke.IsFile(link.Path) || doesSomething(link) || strings.Contains(link.RequestURI(), "feed") {
		return "", false
	}
	plain := reading.WithoutMark(link)
	if below == "" {
		below = "/"
	}
	if plain.RawQuery != "" {
		below += "?" + plain.RawQuery
	}
	return below, true
}

// actions are parts of addresses whose visit does something, wherever it is, or in one CMS.
var actions = append([]string{"logout", "sign-out", "add-to-cart"}, traits.Collect(func(t traits.Traits) []string { return t.Pages.Actions })...)

// doesSomething tells of links that are no mere reading, or need a session.
func doesSomething(link *url.URL) bool {
	names := func(in string, parts ...string) bool {
		return slices.ContainsFunc(parts, func(part string) bool { return strings.Contains(strings.ToLower(in), part) })
	}
	return names(link.RequestURI(), actions...) ||
		names(link.RawQuery, "nonce", "delete", "remove")
}

// sitemapNames are where sitemaps usually are, and where each CMS has its own.
var sitemapNames = append([]string{"/sitemap.xml", "/sitemap_index.xml"}, traits.Collect(func(t traits.Traits) []string { return t.Pages.Sitemaps })...)

// findSitemap returns the site's sitemap, and what it lists: pages, and all else. "" is none.
func (f *Fetcher) findSitemap(ctx context.Context) (name string, pages, others []string) {
	for _, name := range sitemapNames {
		if pages, others, ok := f.sitemap(ctx, f.Resolve(name), 2); ok {
			return name, pages, others
		}
	}
	return "", nil, nil
}

// mostMaps bounds how many sitemaps an index leads to, and mostListed what is taken of one.
const (
	mostMaps   = 8
	mostListed = 40
)

// ofPages matches the names of sitemaps that list pages, and no posts of any kind.
var ofPages = regexp.MustCompile(`(?i)(^|[^a-z])pages?([^a-z]|$)`)

// sitemap reads a sitemap, or an index of sitemaps down to depth.
func (f *Fetcher) sitemap(ctx context.Context, where *url.URL, depth int) (pages, others []string, ok bool) {
	got, err := f.get(ctx, where, smoke.LargestPage, manner{})
	if err != nil || got.Status != 200 || depth == 0 {
		return nil, nil, false
	}
	var listed struct {
		Pages []struct {
			Loc string `xml:"loc"`
		} `xml:"url"`
		Maps []struct {
			Loc string `xml:"loc"`
		} `xml:"sitemap"`
	}
	if xml.Unmarshal(got.Body, &listed) != nil {
		return nil, nil, false
	}
	list := &others
	if ofPages.MatchString(path.Base(where.RequestURI())) {
		list = &pages
	}
	for _, page := range listed.Pages[:min(mostListed, len(listed.Pages))] {
		if link, err := url.Parse(strings.TrimSpace(page.Loc)); err == nil {
			if at, ok := f.pathOf(link); ok {
				*list = append(*list, at)
			}
		}
	}
	for _, one := range listed.Maps[:min(mostMaps, len(listed.Maps))] {
		if next, err := url.Parse(strings.TrimSpace(one.Loc)); err == nil && next.Host == f.Address.Host {
			more, rest, _ := f.sitemap(ctx, next, depth-1)
			pages, others = append(pages, more...), append(others, rest[:min(3, len(rest))]...)
		}
	}
	return pages, others, len(listed.Pages)+len(listed.Maps) > 0
}

package smoke

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"
	"golang.org/x/sync/errgroup"
)

// Link is one link of a page to a page of the site.
type Link struct {
	Text string `json:"text"`
	To   string `json:"to,omitempty"` // path and query; "": nowhere but the page itself
	Menu bool   `json:"menu,omitempty"`
}

const (
	mostLinks  = 400 // of one page
	mostFollow = 12  // that are asked for in one take
)

// readLinks lists the links with words to pages of the site.
func readLinks(facts *Facts, document *goquery.Document, where, base *url.URL) {
	document.Find("a[href]").EachWithBreak(func(_ int, s *goquery.Selection) bool {
		text := readable(s.Text())
		target, err := base.Parse(strings.TrimSpace(s.AttrOr("href", "")))
		if text == "" || err != nil {
			return true
		}
		link := Link{Text: text, Menu: s.Closest(landmarks["navigation"]).Length() > 0}
		switch {
		case target.Scheme == "javascript":
		case target.Host != where.Host:
			return true
		default:
			if plain, own := withoutMark(target), withoutMark(where); plain.RequestURI() != own.RequestURI() {
				link.To = plain.RequestURI()
			}
		}
		if !slices.Contains(facts.Links, link) {
			facts.Links = append(facts.Links, link)
		}
		return len(facts.Links) < mostLinks
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

func loseContacts(found *collector, was, now Facts) {
	if lost := minus(was.Contacts, now.Contacts); len(lost) > 0 {
		found.add(Doubtful, "links", fmt.Sprintf("%s %s no link any more", plural(len(lost), "telephone number or mail address"), areOrIs(len(lost))), strings.Join(lost[:min(3, len(lost))], ", "))
	}
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

// Follow asks for the pages that are linked to now and were not before, and notes which
// links lead to nothing.
func (f *Fetcher) Follow(ctx context.Context, take *Take) error {
	if f.Before == nil {
		return nil
	}
	known := map[string]bool{}
	for _, pages := range [][]Facts{f.Before.Pages, take.Pages} {
		for _, facts := range pages {
			known[f.Resolve(facts.Path).RequestURI()] = true
		}
	}
	for _, facts := range f.Before.Pages {
		for _, link := range facts.Links {
			known[link.To] = true
		}
		for _, form := range facts.Forms {
			known[form.To] = true
		}
	}
	fresh := newTargets(take, known, f)
	gone := make([]bool, len(fresh))
	var group errgroup.Group
	group.SetLimit(f.AtOnce)
	for i, to := range fresh {
		group.Go(func() error {
			target, err := f.Address.Parse(to)
			if err != nil {
				return nil
			}
			got, err := f.get(ctx, target, 64<<10, manner{})
			// What leads to another site is that one's matter.
			stays := len(got.redirects) == 0 || hostOf(got.redirects[len(got.redirects)-1]) == ""
			gone[i] = err == nil && stays && (got.status == http.StatusNotFound || got.status == http.StatusGone || got.status >= 500)
			return ctx.Err()
		})
	}
	err := group.Wait()
	for i, to := range fresh {
		if gone[i] {
			noteDead(take, to)
		}
	}
	return err
}

// newTargets lists unknown targets, those of menus first. Links that do something are left.
func newTargets(take *Take, known map[string]bool, f *Fetcher) []string {
	var menus, others []string
	add := func(list *[]string, to string) {
		target, err := url.Parse(to)
		if err != nil || to == "" || known[to] || target.Host != "" || doesSomething(target) {
			return
		}
		known[to] = true
		*list = append(*list, to)
	}
	for _, facts := range take.Pages {
		if facts.Wanted.SignedIn {
			continue // what it links to may be there for members alone
		}
		for _, link := range facts.Links {
			if !strings.HasPrefix(link.To, f.Address.Path) {
				continue // another site on the same host
			}
			if link.Menu {
				add(&menus, link.To)
			} else {
				add(&others, link.To)
			}
		}
		for _, form := range facts.Forms {
			add(&menus, form.To)
		}
	}
	all := append(menus, others...)
	return all[:min(len(all), mostFollow)]
}

func noteDead(take *Take, to string) {
	for i := range take.Pages {
		facts := &take.Pages[i]
		for _, link := range facts.Links {
			if link.To == to {
				facts.Dead = append(facts.Dead, link)
			}
		}
		for _, form := range facts.Forms {
			if form.To == to {
				facts.DeadForms = append(facts.DeadForms, form.Name)
			}
		}
	}
}

// loseLinks finds links that led somewhere and lead nowhere.
func loseLinks(found *collector, was, now Facts) {
	var menu, others []string
	for _, link := range now.Dead {
		if link.Menu {
			menu = append(menu, link.Text)
		} else {
			others = append(others, link.Text)
		}
	}
	links := 0
	for _, link := range now.Links {
		if link.Menu {
			links++
		}
	}
	sayDead(found, "what is not there", menu, others, links)
	menu, others = nil, nil
	for _, before := range was.Links {
		if before.To == "" {
			continue
		}
		stands, leads := false, false
		for _, link := range now.Links {
			if link.Text == before.Text && link.Menu == before.Menu {
				stands, leads = true, leads || link.To != ""
			}
		}
		switch {
		case !stands || leads:
		case before.Menu:
			menu = append(menu, before.Text)
		default:
			others = append(others, before.Text)
		}
	}
	loseHeadingLinks(found, was, now)
	sayDead(found, "nothing but the page itself", menu, others, links)
}

// loseHeadingLinks finds headings that led on, as those of entries do, and stand there still.
func loseHeadingLinks(found *collector, was, now Facts) {
	var lost []string
	for _, heading := range now.Headings {
		_, text, _ := strings.Cut(heading, " ")
		leads := func(links []Link) bool {
			return slices.ContainsFunc(links, func(l Link) bool { return l.Text == text && !l.Menu && l.To != "" })
		}
		stands := slices.ContainsFunc(now.Links, func(l Link) bool { return l.Text == text && !l.Menu })
		if slices.Contains(was.Headings, heading) && leads(was.Links) && !stands {
			lost = append(lost, text)
		}
	}
	if len(lost) > 0 {
		found.add(Doubtful, "links", fmt.Sprintf("%s on the page, which led on, %s no link any more", plural(len(lost), "heading"), areOrIs(len(lost))), strings.Join(lost[:min(5, len(lost))], ", "))
	}
}

func areOrIs(n int) string {
	if n == 1 {
		return "is"
	}
	return "are"
}

func sayDead(found *collector, to string, menu, others []string, links int) {
	if n := len(menu); n > 0 {
		verdict := Doubtful
		if 2*n >= links {
			verdict = Broken
		}
		found.add(verdict, "links", fmt.Sprintf("%d of %d links in the menu now lead to %s", n, links, to), strings.Join(menu[:min(5, n)], ", "))
	}
	if n := len(others); n > 0 {
		verb := "leads"
		if n > 1 {
			verb = "lead"
		}
		found.add(Doubtful, "links", fmt.Sprintf("%s on the page now %s to %s", plural(n, "link"), verb, to), strings.Join(others[:min(5, n)], ", "))
	}
}

package fetching

import (
	"context"
	"net/http"
	"net/url"
	"strings"

	"golang.org/x/sync/errgroup"

	"wetland/core/smoke"
	"wetland/core/smoke/judging"
	"wetland/core/smoke/reading"
)

// Follow asks for the pages that are linked to now and were not before, and notes which
// links lead to nothing.
func (f *Fetcher) Follow(ctx context.Context, take *smoke.Take) error {
	if f.Before == nil {
		return nil
	}
	known := map[string]bool{}
	for _, pages := range [][]smoke.Facts{f.Before.Pages, take.Pages} {
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
	group.SetLimit(f.Concurrency)
	for i, to := range fresh {
		group.Go(func() error {
			target, err := f.Address.Parse(to)
			if err != nil {
				return nil
			}
			got, err := f.get(ctx, target, 64<<10, manner{})
			// What leads to another site is that one's matter.
			stays := len(got.Redirects) == 0 || smoke.HostOf(got.Redirects[len(got.Redirects)-1]) == ""
			gone[i] = err == nil && stays && (got.Status == http.StatusNotFound || got.Status == http.StatusGone || got.Status >= 500)
			return ctx.Err()
		})
	}
	err := group.Wait()
	for i, to := range fresh {
		if gone[i] {
			judging.NoteDead(take, to)
		}
	}
	return err
}

// newTargets lists unknown targets, those of menus first. Links that do something are left.
func newTargets(take *smoke.Take, known map[string]bool, f *Fetcher) []string {
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
	return all[:min(len(all), reading.MostFollow)]
}

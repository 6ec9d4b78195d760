package update

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"wetland/core/database"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/smoke"
)

// ChoosePages finds the pages of a site that are worth testing: one of each kind that its tables
// know, and what it links to. db may be nil.
func ChoosePages(ctx context.Context, fetcher *smoke.Fetcher, from cms.Site, db database.Database) smoke.Discovered {
	samples, err := from.Samples(ctx, db)
	var paths []string
	for _, sample := range samples {
		paths = append(paths, sample.Path)
	}
	found := fetcher.Discover(ctx, from.FirstPages(), paths)
	if err != nil {
		found.Notes = append(found.Notes, err.Error())
	}
	return found
}

// Choice is how a workspace's pages would be chosen anew.
type Choice struct {
	Add      []site.Page
	LeaveOut []string
	Notes    []string
}

// ChooseAnew finds pages to test as adopting does. Pages for which wetland.toml wants something
// of their own, such as a text, stay in any case. Nothing is changed.
func ChooseAnew(ctx context.Context, w *site.Workspace, guard Guard) (choice *Choice, err error) {
	var why reasons
	s, err := open(ctx, w, guard, &why)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, s.close()) }()
	s.Report.Begin("finding pages", 0, "")
	found := ChoosePages(ctx, s.fetcher, s.site.CMS, s.db)
	if found.Broken != nil {
		return nil, fmt.Errorf("the front page does not answer, and without it no pages can be found: %w", found.Broken)
	}
	choice = &Choice{Notes: found.Notes}
	chosen := func(path string) bool {
		return slices.ContainsFunc(found.Pages, func(p smoke.Page) bool { return p.Path == path })
	}
	for _, page := range found.Pages {
		if !slices.ContainsFunc(w.Config.Pages, func(p site.Page) bool { return p.Path == page.Path }) {
			choice.Add = append(choice.Add, site.Page{Path: page.Path, Status: page.Status})
		}
	}
	for _, page := range w.Config.Pages {
		if !chosen(page.Path) && !page.HasWishes() {
			choice.LeaveOut = append(choice.LeaveOut, page.Path)
		}
	}
	return choice, ctx.Err()
}

// PageAnswer is what a page that is to be tested answers.
type PageAnswer struct {
	Path    string
	Status  int    // 0: there is no answer
	Problem string // why it should not be tested as it is; ""
}

// AskPages fetches pages before they are added to those that are tested.
func AskPages(ctx context.Context, w *site.Workspace, paths []string) ([]PageAnswer, error) {
	address, err := site.ParseAddress(w.Config.Site.Address)
	if err != nil {
		return nil, err
	}
	fetcher, err := NewFetcher(&site.Site{Workspace: w, Address: address})
	if err != nil {
		return nil, err
	}
	defer fetcher.Close()
	var answers []PageAnswer
	for _, path := range paths {
		answer := PageAnswer{Path: path}
		var problem error
		if _, answer.Status, problem = fetcher.Fetch(ctx, path); problem != nil {
			answer.Problem = problem.Error()
		} else if answer.Status >= 400 {
			answer.Problem = fmt.Sprintf("it answers %d", answer.Status)
		}
		answers = append(answers, answer)
	}
	return answers, ctx.Err()
}

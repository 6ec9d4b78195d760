package pagecheck

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wetland/core/advice"
	"wetland/core/database"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site/cms"
	"wetland/core/smoke"
	"wetland/core/smoke/fetching"
	"wetland/core/workspace"
)

// ChoosePages finds the pages of a site that are worth testing: one of each kind that its tables
// know, and what it links to. db may be nil.
func ChoosePages(ctx context.Context, fetcher *fetching.Fetcher, from cms.Site, db database.Database) fetching.Discovered {
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
	Add      []workspace.Page
	LeaveOut []string
	Notes    []string // where pages were looked for, and what could not be asked
}

// ChooseAnew finds pages to test as adopting does. Pages for which wetland.toml wants something
// of their own, such as a text, stay in any case. Nothing is changed.
func ChooseAnew(ctx context.Context, w *workspace.Workspace, guard session.Guard) (choice *Choice, err error) {
	var why runs.Reasons
	s, err := session.Open(ctx, w, guard, &why)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	s.Report.Begin("finding pages", 0, "")
	found := ChoosePages(ctx, s.Fetcher, s.Site.CMS, s.DB)
	if found.Broken != nil {
		return nil, fmt.Errorf("the front page does not answer, and without it no pages can be found: %w", found.Broken)
	}
	choice = &Choice{Notes: found.Notes}
	for _, reason := range why { // such as a database that cannot be reached: then fewer kinds are known
		choice.Notes = append(choice.Notes, reason.What)
	}
	chosen := func(path string) bool {
		return slices.ContainsFunc(found.Pages, func(p smoke.Page) bool { return p.Path == path })
	}
	for _, page := range found.Pages {
		if !w.Tests(page.Path) {
			choice.Add = append(choice.Add, workspace.Page{Path: page.Path, Status: page.Status})
		}
	}
	for _, page := range w.Config.Pages {
		if !chosen(page.Path) && !page.HasConditions() {
			choice.LeaveOut = append(choice.LeaveOut, page.Path)
		}
	}
	return choice, ctx.Err()
}

// AddPages adds pages to those that a workspace tests. Each is asked for first: if one answers
// with an error, or stands there already, none is added, and the error names every such page.
func AddPages(ctx context.Context, w *workspace.Workspace, paths []string) error {
	fetcher, err := session.FetcherOf(w)
	if err != nil {
		return err
	}
	defer fetcher.Close()
	var problems []error
	var add []workspace.Page
	for _, path := range paths {
		if problem := pageProblem(ctx, w, fetcher, path); problem != nil {
			problems = append(problems, problem)
		}
		add = append(add, workspace.Page{Path: path})
	}
	if err := errors.Join(append(problems, ctx.Err())...); err != nil {
		return fmt.Errorf("nothing was changed: %w", err)
	}
	return w.ChangePages(add, nil)
}

// pageProblem tells why a page cannot be added; nil: it can.
func pageProblem(ctx context.Context, w *workspace.Workspace, fetcher *fetching.Fetcher, path string) error {
	if !strings.HasPrefix(path, "/") {
		return fmt.Errorf("%s does not begin with a slash: give the path below the site's address, such as /fares", path)
	}
	if w.Tests(path) {
		return fmt.Errorf("%s is tested already", path)
	}
	switch _, status, err := fetcher.Fetch(ctx, path); {
	case err != nil:
		return fmt.Errorf("%s: %w", path, err)
	case status >= 400:
		return fmt.Errorf("%s: it answers %d. If it should, write it into %s, with status = %d", path, status, workspace.ConfigName, status)
	}
	return nil
}

// LeaveOutPages takes pages off those that a workspace tests. If one is not among them, none is
// taken, and the error names every such page.
func LeaveOutPages(w *workspace.Workspace, paths []string) error {
	var problems []error
	for _, path := range paths {
		if !w.Tests(path) {
			problems = append(problems, fmt.Errorf("%s is not among the pages that are tested", path))
		}
	}
	if len(problems) > 0 {
		return advice.With(fmt.Errorf("nothing was changed: %w", errors.Join(problems...)), advice.Lead("To see which are:", advice.ListPages))
	}
	return w.ChangePages(nil, paths)
}

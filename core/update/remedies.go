package update

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"wetland/core/progress"
	"wetland/core/smoke"
)

// Remedy is something that was tried before going back, and what it did.
type Remedy struct {
	What   string   `json:"what"`
	Pages  []string `json:"pages"`  // that were not sound before it
	Helped []string `json:"helped"` // of those, the ones that are sound, or better, since
}

// remedy is one quick way to mend pages that need no going back.
type remedy struct {
	what  string
	fits  func(*smoke.Judgement) bool
	apply func(ctx context.Context) error
}

// remedies lists what is tried, one after the other, while pages are not sound.
func (s *session) remedies() []remedy {
	always := func(*smoke.Judgement) bool { return true }
	list := []remedy{{"caches cleared again", always, func(ctx context.Context) error {
		if err := s.Clock.Wait(ctx, secondLook); err != nil {
			return err
		}
		_, _ = s.purge(ctx) // said already where it is not possible
		return nil
	}}}
	if s.db != nil {
		list = append(list, remedy{"links rebuilt by the CMS", hasLostPages, func(ctx context.Context) error {
			return s.site.CMS.RebuildLinks(ctx, s.db)
		}})
	}
	if wait := s.site.SettleTime(); wait > 0 && !s.dropped {
		list = append(list, remedy{fmt.Sprintf("waited %s more for compiled code", wait), always, func(ctx context.Context) error {
			return s.Clock.Wait(ctx, wait)
		}})
	}
	return list
}

// hasLostPages tells whether a page is not found any more: the CMS may have forgotten its
// addresses.
func hasLostPages(j *smoke.Judgement) bool {
	for _, page := range j.Pages {
		for _, finding := range page.Findings {
			if finding.Check == "status" && !finding.Known && strings.HasPrefix(finding.What, "the server answers 404") {
				return true
			}
		}
	}
	return false
}

// fetching is a way to look at some pages.
type fetching func(ctx context.Context, pages []smoke.Page, report progress.Reporter) (*smoke.Take, error)

// mend judges a take. It tries the remedies on the pages that are not sound, and records
// whether they helped.
func (s *session) mend(ctx context.Context, take *smoke.Take, judge judge, fetch fetching) (*smoke.Take, *smoke.Judgement, error) {
	judgement := judge(take)
	for _, remedy := range s.remedies() {
		failing := judgement.Failing()
		if len(failing) == 0 || !remedy.fits(judgement) {
			continue
		}
		if err := remedy.apply(ctx); err != nil {
			if ctx.Err() != nil {
				return nil, nil, err
			}
			if errors.Is(err, errors.ErrUnsupported) {
				continue
			}
			s.Report.End(progress.Note, "remedy", fmt.Sprintf("%s: not possible (%v)", remedy.what, err))
			continue
		}
		newer, err := s.takeAgain(ctx, take, failing, fetch)
		if err != nil {
			return nil, nil, err
		}
		after := judge(newer)
		s.run.Remedies = append(s.run.Remedies, Remedy{What: remedy.what, Pages: failing, Helped: better(judgement, after)})
		take, judgement = newer, after
	}
	return take, judgement, nil
}

// better lists the pages that have a better verdict than before.
func better(before, after *smoke.Judgement) []string {
	helped := []string{}
	for i, page := range after.Pages {
		if page.Verdict.Rank() < before.Pages[i].Verdict.Rank() {
			helped = append(helped, page.Path)
		}
	}
	return helped
}

// takeAgain fetches some pages anew.
func (s *session) takeAgain(ctx context.Context, first *smoke.Take, paths []string, fetch fetching) (*smoke.Take, error) {
	pages := slices.DeleteFunc(slices.Clone(s.pages), func(p smoke.Page) bool { return !slices.Contains(paths, p.Path) })
	second, err := fetch(ctx, pages, s.Report)
	if err != nil {
		return nil, err
	}
	merged := *first
	merged.Pages = slices.Clone(first.Pages)
	for i, facts := range merged.Pages {
		if newer, ok := second.Page(facts.Path); ok {
			merged.Pages[i] = newer
		}
	}
	return &merged, nil
}

// purgeElsewhere empties the caches that wetland.toml names: by commands, and by requests
// with the method PURGE, as caches in front of sites take them by custom.
func (s *session) purgeElsewhere(ctx context.Context) error {
	var problems []error
	caches := s.site.Workspace.Config.Caches
	for _, line := range caches.Commands {
		if err := s.shell(ctx, line, nil); err != nil {
			problems = append(problems, fmt.Errorf("[caches] %q: %w", line, err))
		}
	}
	for _, address := range caches.Addresses {
		switch status, err := s.fetcher.Purge(ctx, address); {
		case err != nil:
			problems = append(problems, fmt.Errorf("[caches] PURGE %s: %w", address, err))
		case status >= http.StatusBadRequest:
			problems = append(problems, fmt.Errorf("[caches] PURGE %s: the cache answers %d", address, status))
		}
	}
	return errors.Join(problems...)
}

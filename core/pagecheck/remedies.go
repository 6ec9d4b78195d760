package pagecheck

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"

	"wetland/core/caches"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/smoke"
)

// remedy is one quick way to mend pages that need no going back.
type remedy struct {
	what  string
	fits  func(*smoke.Judgement) bool
	apply func(ctx context.Context) error
}

// remedies lists what is tried, one after the other, while pages are not sound.
func remedies(s *session.Session) []remedy {
	always := func(*smoke.Judgement) bool { return true }
	list := []remedy{{"caches cleared again", always, func(ctx context.Context) error {
		if err := s.Clock.Wait(ctx, SecondLook); err != nil {
			return err
		}
		_, _ = caches.Purge(ctx, s) // said already where it is not possible
		return nil
	}}}
	if s.DB != nil {
		list = append(list, remedy{"links rebuilt by the CMS", hasLostPages, func(ctx context.Context) error {
			return s.Site.CMS.RebuildLinks(ctx, s.DB)
		}})
	}
	if wait := s.Site.SettleTime(); wait > 0 && !s.Dropped {
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
			if finding.Check == "status" && !finding.Known && finding.Status == http.StatusNotFound {
				return true
			}
		}
	}
	return false
}

// lookAgain is a way to look at some pages.
type lookAgain func(ctx context.Context, pages []smoke.Page, report progress.Reporter) (*smoke.Take, error)

// mend judges a take. It tries the remedies on the pages that are not sound, and records
// whether they helped.
func mend(ctx context.Context, s *session.Session, take *smoke.Take, judge Judge, fetch lookAgain) (*smoke.Take, *smoke.Judgement, error) {
	judgement := judge(take)
	for _, remedy := range remedies(s) {
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
		newer, err := takeAgain(ctx, s, take, failing, fetch)
		if err != nil {
			return nil, nil, err
		}
		after := judge(newer)
		s.Run.Remedies = append(s.Run.Remedies, runs.Remedy{What: remedy.what, Pages: failing, Helped: better(judgement, after)})
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
func takeAgain(ctx context.Context, s *session.Session, first *smoke.Take, paths []string, fetch lookAgain) (*smoke.Take, error) {
	pages := slices.DeleteFunc(slices.Clone(s.Pages), func(p smoke.Page) bool { return !slices.Contains(paths, p.Path) })
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

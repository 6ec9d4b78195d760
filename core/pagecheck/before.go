package pagecheck

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/smoke"
	"wetland/core/workspace"
)

// CheckPages refuses to go on where no page would tell of breakage.
func CheckPages(s *session.Session, why *runs.Reasons) {
	if len(s.Pages) == 0 {
		why.Add("wetland.toml names no pages to test, so nobody would notice breakage", "Add [[pages]] to it; one with path = \"/\" is the least.")
	}
}

// Before says how the pages of before count.
type Before struct {
	AcceptPresent bool   // what is broken already does not count
	Returning     bool   // to an older version: broken pages do not stand against it
	Pictures      string // folder
	// Earlier is a look of a moment ago, which can spare one of the two; nil: what was recorded last tells.
	Earlier *smoke.Take
}

// LookBefore looks at the pages twice before anything is touched. Pages that are broken
// refuse an update, for nobody could tell whether it broke them; they are no reason against
// a return to an older version.
func LookBefore(ctx context.Context, s *session.Session, o Before, why *runs.Reasons) (*smoke.Take, error) {
	s.Fetcher.Pictures = o.Pictures
	earlier := o.Earlier
	if earlier == nil {
		if recorded, err := smoke.LoadTake(s.Site.Workspace.Baseline()); err == nil { // else it would only spare a look
			earlier = recorded
		}
	}
	s.Report.Begin("pages before", int64(2*len(s.Pages)), "pages")
	baseline, present, err := s.Fetcher.LookTwice(ctx, s.Pages, earlier, s.Rules, s.Report)
	if err != nil {
		return nil, err
	}
	baseline.Moving = append(baseline.Moving, lastLearnt(s.Site.Workspace)...)
	if !o.Returning {
		leaveOutDead(s, baseline, present)
	}
	pages, failing := phrase.Plural(len(s.Pages), "page"), phrase.List(present.Failing(), 3)
	switch {
	case present.Verdict == smoke.Sound:
		s.Report.End(progress.Good, "pages before", pages+", all sound in two looks"+notCompared(baseline.Moving))
	case o.Returning:
		s.Report.End(progress.Doubt, "pages before", fmt.Sprintf("%d of %s not sound now (%s): %s. That is no reason against a return", len(present.Failing()), pages, failing, FirstFinding(present)))
	case present.Verdict == smoke.Doubtful:
		s.Report.End(progress.Doubt, "pages before", fmt.Sprintf("%d of %s doubtful already: %s; only new findings count%s", present.Count(smoke.Doubtful), pages, FirstFinding(present), notCompared(baseline.Moving)))
	case o.AcceptPresent:
		s.Report.End(progress.Doubt, "pages before", fmt.Sprintf("%s not sound; accepted: only new findings count%s", phrase.Plural(len(present.Failing()), "page"), notCompared(baseline.Moving)))
	default:
		s.Report.End(progress.Bad, "pages before", fmt.Sprintf("%d of %s not sound already", len(present.Failing()), pages))
		refuseBroken(present, why)
	}
	return baseline, nil
}

// refuseBroken names what is broken before an update.
func refuseBroken(present *smoke.Judgement, why *runs.Reasons) {
	var causes []smoke.Shared[string]
	for _, page := range present.Pages {
		for _, finding := range page.Findings {
			if !finding.Counts() {
				continue
			}
			when := "already, before any update"
			if finding.AtTimes {
				when = "at times, before any update already"
			}
			causes = smoke.Share(causes, fmt.Sprintf("%s %s: %s%s", finding.Verdict, when, finding.What, phrase.InBrackets(finding.Evidence)), page.Path)
		}
	}
	for _, cause := range causes {
		if len(cause.Pages) == 1 {
			why.Add(fmt.Sprintf("the page %s is %s", cause.Pages[0], cause.What), "")
		} else {
			why.Add(fmt.Sprintf("%s (%s) are %s", phrase.Plural(len(cause.Pages), "page"), phrase.List(cause.Pages, 3), cause.What), "")
		}
	}
	why.Add("Pages are already broken, so it could not be told whether the update broke them.", "Fix the pages first. Or accept what is there now, so that only new findings count: add --accept-present.")
}

// leaveOutDead takes pages that are not there any more out of this run, where others answer
// as they should: a dead entry of the list says nothing about an update. Where most pages
// are gone, the site is broken.
func leaveOutDead(s *session.Session, baseline *smoke.Take, present *smoke.Judgement) {
	var dead, named []string
	for _, page := range present.Pages {
		facts, _ := baseline.Page(page.Path)
		if gone := facts.Status == http.StatusNotFound || facts.Status == http.StatusGone; gone && page.Verdict == smoke.Broken {
			dead = append(dead, page.Path)
			named = append(named, fmt.Sprintf("%s (%d)", page.Path, facts.Status))
		}
	}
	if len(dead) == 0 || 2*len(dead) > len(s.Pages) || present.Count(smoke.Sound) == 0 {
		return
	}
	s.Pages = slices.DeleteFunc(slices.Clone(s.Pages), func(p smoke.Page) bool { return slices.Contains(dead, p.Path) })
	baseline.Pages = slices.DeleteFunc(baseline.Pages, func(f smoke.Facts) bool { return slices.Contains(dead, f.Path) })
	present.Leave(dead)
	them := "them out of wetland.toml, or bring the pages back"
	if len(dead) == 1 {
		them = "it out of wetland.toml, or bring the page back"
	}
	s.Report.End(progress.Doubt, "left out", fmt.Sprintf("%s: gone before the update already, and not judged in this run. Take %s", phrase.List(named, 4), them))
}

// lastLearnt is what the last run found to change by itself after it had put everything back, and
// proved it.
func lastLearnt(w *workspace.Workspace) []smoke.Finding {
	last, err := runs.Last(w)
	if err != nil || last == nil {
		return nil // what is wrong with the runs is told elsewhere
	}
	return last.Learnt
}

// notCompared names what changes by itself.
func notCompared(moving []smoke.Finding) string {
	if len(moving) == 0 {
		return ""
	}
	var subjects []smoke.Shared[string]
	for _, finding := range moving {
		subjects = smoke.Share(subjects, finding.Subject(), finding.Page)
	}
	var named []string
	for _, subject := range subjects {
		on := subject.Pages[0]
		if n := len(subject.Pages); n > 1 {
			on = phrase.Plural(n, "page")
		}
		named = append(named, subject.What+" on "+on)
	}
	return "; not compared, for it changes by itself: " + strings.TrimSpace(phrase.List(named, 4))
}

package update

import (
	"context"
	"fmt"
	"net/http"
	"path/filepath"
	"slices"
	"strings"

	"wetland/core/smoke"
)

// checkPages refuses to go on where no page would tell of breakage.
func (s *session) checkPages(why *reasons) {
	if len(s.pages) == 0 {
		why.add("wetland.toml names no pages to test, so nobody would notice breakage", "Add [[pages]] to it; one with path = \"/\" is the least.")
	}
}

// takeBaseline looks at the pages twice before anything is touched. Pages that are broken
// refuse an update, for nobody could tell whether it broke them; they are no reason against
// a return to an older version.
func (m *motion) takeBaseline(ctx context.Context, why *reasons) (err error) {
	m.fetcher.Pictures = filepath.Join(m.scratch, picturesFolder)
	earlier, err := smoke.LoadTake(m.site.Workspace.Baseline())
	if err != nil {
		earlier = nil // it would only spare a look
	}
	m.Report.Begin("pages before", int64(2*len(m.pages)), "pages")
	var present *smoke.Judgement
	if m.baseline, present, err = m.fetcher.LookTwice(ctx, m.pages, earlier, m.rules, m.Report); err != nil {
		return err
	}
	m.recallMoving()
	if m.returning == nil {
		m.leaveOutDead(present)
	}
	pages, failing := plural(len(m.pages), "page"), list(present.Failing(), 3)
	switch {
	case present.Verdict == smoke.Sound:
		m.Report.End(goodMark, "pages before", pages+", all sound in two looks"+notCompared(m.baseline.Moving))
	case m.returning != nil:
		m.Report.End(doubtMark, "pages before", fmt.Sprintf("%d of %s not sound now (%s): %s. That is no reason against a return", len(present.Failing()), pages, failing, firstFinding(present)))
	case present.Verdict == smoke.Doubtful:
		m.Report.End(doubtMark, "pages before", fmt.Sprintf("%d of %s doubtful already: %s; only new findings count%s", present.Count(smoke.Doubtful), pages, firstFinding(present), notCompared(m.baseline.Moving)))
	case m.options.AcceptPresent:
		m.Report.End(doubtMark, "pages before", fmt.Sprintf("%s not sound; accepted: only new findings count%s", plural(len(present.Failing()), "page"), notCompared(m.baseline.Moving)))
	default:
		m.Report.End(badMark, "pages before", fmt.Sprintf("%d of %s not sound already", len(present.Failing()), pages))
		refuseBroken(present, why)
	}
	return nil
}

// refuseBroken names what is broken before an update.
func refuseBroken(present *smoke.Judgement, why *reasons) {
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
			causes = smoke.Share(causes, fmt.Sprintf("%s %s: %s%s", finding.Verdict, when, finding.What, inBrackets(finding.Evidence)), page.Path)
		}
	}
	for _, cause := range causes {
		if len(cause.Pages) == 1 {
			why.add(fmt.Sprintf("the page %s is %s", cause.Pages[0], cause.What), "")
		} else {
			why.add(fmt.Sprintf("%s (%s) are %s", plural(len(cause.Pages), "page"), list(cause.Pages, 3), cause.What), "")
		}
	}
	why.add("Pages are already broken, so it could not be told whether the update broke them.", "Fix the pages first. Or accept what is there now, so that only new findings count: add --accept-present.")
}

// leaveOutDead takes pages that are not there any more out of this run, where others answer
// as they should: a dead entry of the list says nothing about an update. Where most pages
// are gone, the site is broken.
func (m *motion) leaveOutDead(present *smoke.Judgement) {
	var dead, named []string
	for _, page := range present.Pages {
		facts, _ := m.baseline.Page(page.Path)
		if gone := facts.Status == http.StatusNotFound || facts.Status == http.StatusGone; gone && page.Verdict == smoke.Broken {
			dead = append(dead, page.Path)
			named = append(named, fmt.Sprintf("%s (%d)", page.Path, facts.Status))
		}
	}
	if len(dead) == 0 || 2*len(dead) > len(m.pages) || present.Count(smoke.Sound) == 0 {
		return
	}
	m.pages = slices.DeleteFunc(slices.Clone(m.pages), func(p smoke.Page) bool { return slices.Contains(dead, p.Path) })
	m.baseline.Pages = slices.DeleteFunc(m.baseline.Pages, func(f smoke.Facts) bool { return slices.Contains(dead, f.Path) })
	present.Leave(dead)
	them := "them out of wetland.toml, or bring the pages back"
	if len(dead) == 1 {
		them = "it out of wetland.toml, or bring the page back"
	}
	m.Report.End(doubtMark, "left out", fmt.Sprintf("%s: gone before the update already, and not judged in this run. Take %s", list(named, 4), them))
}

// recallMoving takes over what the run before found to change by itself after it had put
// everything back, and proved it.
func (m *motion) recallMoving() {
	runs, err := Runs(m.site.Workspace)
	if err != nil || len(runs) == 0 {
		return // what is wrong with the runs is told elsewhere
	}
	m.baseline.Moving = append(m.baseline.Moving, runs[len(runs)-1].Learnt...)
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
			on = plural(n, "page")
		}
		named = append(named, subject.What+" on "+on)
	}
	return "; not compared, for it changes by itself: " + strings.TrimSpace(list(named, 4))
}

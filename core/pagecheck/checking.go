package pagecheck

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"wetland/core/advice"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/smoke"
	"wetland/core/smoke/judging"
	"wetland/core/workspace"
)

// Checked is how a workspace's pages are at a moment.
type Checked struct {
	Address   string // that they were fetched from
	Judgement *smoke.Judgement
	Baseline  *smoke.Take // that they were compared with; nil: none was recorded, and only plain faults are seen
}

// Check looks at the pages of a workspace once, outside of any run, and judges them against what was
// recorded.
func Check(ctx context.Context, w *workspace.Workspace, report progress.Reporter) (*Checked, error) {
	if len(w.Config.Pages) == 0 {
		return nil, fmt.Errorf("%s names no pages to test. Add [[pages]] with path = \"/\"", workspace.ConfigName)
	}
	baseline, err := smoke.LoadTake(w.Baseline())
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, advice.With(err, advice.Lead("Look at the pages yourself. Then record them anew:", advice.RecordPages))
	}
	rules, err := session.RulesOf(w)
	if err != nil {
		return nil, err
	}
	fetcher, err := session.FetcherOf(w)
	if err != nil {
		return nil, err
	}
	defer fetcher.Close()
	fetcher.Before = baseline
	pages := session.Pages(w)
	report.Begin("pages", int64(len(pages)), "pages")
	take, err := fetcher.Take(ctx, pages, report)
	if err != nil {
		return nil, err
	}
	checked := &Checked{Address: fetcher.Address.String(), Judgement: judging.Judge(baseline, take), Baseline: baseline}
	rules.Apply(checked.Judgement)
	return checked, nil
}

// Learn looks at all pages twice and records them as the workspace's baseline. Broken pages are not
// recorded, unless accepted.
func Learn(
	ctx context.Context, w *workspace.Workspace, report progress.Reporter, accept bool,
) (judgement *smoke.Judgement, recorded bool, err error) {
	if open, err := runs.Unsettled(w); err != nil || open != nil {
		if err == nil {
			err = advice.With(fmt.Errorf("%s %s: pages as they are now may be those of a version that is not judged. Nothing"+
				" was recorded",
				open.Name, runs.UnsettledWords[open.State]), advice.Lead("Settle it first:", advice.Recover))
		}
		return nil, false, err
	}
	fetcher, err := session.FetcherOf(w)
	if err != nil {
		return nil, false, err
	}
	defer fetcher.Close()
	rules, err := session.RulesOf(w)
	if err != nil {
		return nil, false, err
	}
	report.Begin("learning", int64(2*len(w.Config.Pages)), "pages")
	baseline, judgement, err := fetcher.LookTwice(ctx, session.Pages(w), nil, rules, report)
	if err != nil || judgement.Verdict == smoke.Broken && !accept {
		return judgement, false, err
	}
	return judgement, true, baseline.Save(w.Baseline())
}

package pagecheck

import (
	"context"
	"encoding/json"
	"fmt"

	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/session"
	"wetland/core/site/cms"
	"wetland/core/smoke"
)

// Vitals are what the CMS answered to requests that no page shows.
type Vitals map[string]VitalAnswer

// VitalAnswer is one of those answers.
type VitalAnswer struct {
	Status int
	Whole  bool  // JSON, where that was to come
	Failed error // nothing came
}

func (a VitalAnswer) works() bool { return a.Failed == nil && a.Status < 400 && a.Whole }

func (a VitalAnswer) String() string {
	switch {
	case a.Failed != nil:
		return fmt.Sprintf("nothing (%v)", a.Failed)
	case !a.Whole:
		return fmt.Sprintf("%d, and no JSON", a.Status)
	}
	return fmt.Sprint(a.Status)
}

// AskVitals asks a CMS that can be replaced; none: it has none.
func AskVitals(ctx context.Context, s *session.Session) Vitals {
	core, can := s.Site.CMS.(cms.Replaceable)
	if !can {
		return nil
	}
	answers := Vitals{}
	for _, one := range core.Vitals() {
		body, status, err := s.Fetcher.Fetch(ctx, one.Path)
		answers[one.Path] = VitalAnswer{Status: status, Failed: err, Whole: !one.JSON || json.Valid(body)}
	}
	return answers
}

// JudgeVitals asks again, and adds to a judgement what worked before and does not any more.
func JudgeVitals(ctx context.Context, s *session.Session, before Vitals, judgement *smoke.Judgement) error {
	core, can := s.Site.CMS.(cms.Replaceable)
	if !can || len(before) == 0 {
		return nil
	}
	return s.Step("vitals", 0, "", func() (progress.Mark, string, error) {
		now, worse := AskVitals(ctx, s), 0
		if err := ctx.Err(); err != nil {
			return progress.Bad, "", err
		}
		var names []string
		for _, one := range core.Vitals() {
			names = append(names, one.What)
			was, is := before[one.Path], now[one.Path]
			finding := smoke.Finding{Page: one.Path, Check: "vitals", Verdict: smoke.Broken, What: fmt.Sprintf("%s answered %s, and now %s", one.What, was, is)}
			switch {
			case was.works() && is.works(), was.Status == is.Status && was.Whole == is.Whole && (was.Failed == nil) == (is.Failed == nil):
				continue
			case !was.works():
				finding.Verdict = smoke.Doubtful
			}
			worse++
			judgement.Add(finding)
		}
		if worse > 0 {
			return progress.Bad, fmt.Sprintf("%d of %d requests that no page shows are answered otherwise than before", worse, len(now)), nil
		}
		return progress.Good, "answered as before: " + phrase.List(names, 6), nil
	})
}

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
	"wetland/core/smoke/reading"
)

// Vitals are what the CMS answered to requests that no page shows.
type Vitals map[string]VitalAnswer

// VitalAnswer is one of those answers.
type VitalAnswer struct {
	Status int
	Not    string // what it is not, that was to come: "no JSON"; "": nothing
	Failed string // why nothing came
}

func (a VitalAnswer) works() bool { return a.Failed == "" && a.Status < 400 && a.Not == "" }

func (a VitalAnswer) String() string {
	switch {
	case a.Failed != "":
		return fmt.Sprintf("nothing (%s)", a.Failed)
	case a.Not != "":
		return fmt.Sprintf("%d, and %s", a.Status, a.Not)
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
		if one.SignedIn {
			continue
		}
		body, status, err := s.Fetcher.Fetch(ctx, one.Path)
		answer := VitalAnswer{Status: status}
		if err != nil {
			answer.Failed = err.Error()
		}
		if one.JSON && !json.Valid(body) {
			answer.Not = "no JSON"
		}
		answers[one.Path] = answer
	}
	askSignedIn(ctx, s, core.Vitals(), answers)
	return answers
}

// askSignedIn asks what is answered to whoever is signed in, where it is known how to.
func askSignedIn(ctx context.Context, s *session.Session, vitals []cms.Vital, answers Vitals) {
	var pages []smoke.Page
	for _, one := range vitals {
		if one.SignedIn && s.Site.Workspace.Config.Reach.SignIn.Path != "" {
			pages = append(pages, smoke.Page{Path: one.Path, SignedIn: true})
		}
	}
	if len(pages) == 0 {
		return
	}
	take, err := s.Fetcher.Glance(ctx, pages)
	if err != nil {
		return // the context ended
	}
	for _, page := range pages {
		facts, ok := take.Page(page.Path)
		if !ok {
			continue
		}
		answer := VitalAnswer{Status: facts.Status, Failed: facts.Problem}
		switch {
		case facts.Text == 0:
			answer.Not = "nothing on it"
		case !facts.Complete:
			answer.Not = "its end is missing"
		case reading.AsksToSignIn(facts):
			answer.Not = "a form to sign in"
		}
		answers[page.Path] = answer
	}
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
			if _, asked := before[one.Path]; !asked {
				continue
			}
			names = append(names, one.What)
			was, is := before[one.Path], now[one.Path]
			finding := smoke.Finding{Page: one.Path, Check: "vitals", Verdict: smoke.Broken, What: fmt.Sprintf("%s answered %s, and now %s", one.What, was, is)}
			switch {
			case was.works() && is.works(), was.Status == is.Status && was.Not == is.Not && (was.Failed == "") == (is.Failed == ""):
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

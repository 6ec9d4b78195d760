package archive

import (
	"errors"
	"fmt"
	"time"

	"wetland/core/durable"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/smoke"
	"wetland/core/smoke/judging"
	"wetland/core/workspace"
)

// AcceptOptions say which findings of a run are as they should be.
type AcceptOptions struct {
	Run     string
	Page    string // "": of all pages
	Check   string // "": of all kinds
	Because string
}

// ErrNothingToAccept says that no doubtful finding of the run is meant.
var ErrNothingToAccept = errors.New("no doubtful finding")

// Accept notes that doubtful findings of a run are as they should be: in the run, and for
// the comparisons to come. It returns those that were meant.
func Accept(w *workspace.Workspace, o AcceptOptions) ([]judging.Acceptance, error) {
	if o.Because == "" {
		return nil, errors.New("say why it is accepted (--because WHY), for those who look after the site later")
	}
	run, err := runs.Load(w, o.Run)
	if err != nil {
		return nil, err
	}
	rules, err := session.RulesOf(w)
	if err != nil {
		return nil, err
	}
	var fresh []judging.Acceptance
	if run.Judgement != nil {
		for _, page := range run.Judgement.Pages {
			for _, finding := range page.Findings {
				if finding.Verdict == smoke.Doubtful && !finding.Known && finding.Accepted == "" && (o.Page == "" || o.Page == finding.Page) && (o.Check == "" || o.Check == finding.Check) {
					fresh = append(fresh, judging.Acceptance{Page: finding.Page, Check: finding.Check, What: finding.What, Because: o.Because, Run: run.Name, Who: runs.WhoAmI(), At: time.Now().UTC()})
				}
			}
		}
	}
	if len(fresh) == 0 {
		return nil, fmt.Errorf("%s has %w of that kind. What is broken cannot be accepted", run.Name, ErrNothingToAccept)
	}
	rules.Accepted = append(rules.Accepted, fresh...)
	if err := durable.SaveJSON(w.Accepted(), rules.Accepted); err != nil {
		return nil, err
	}
	judging.Rules{Accepted: fresh}.Apply(run.Judgement)
	return fresh, run.Save()
}

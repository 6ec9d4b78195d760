package archive

import (
	"errors"
	"strings"
	"testing"

	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/smoke"
	"wetland/core/workspace"
)

// What is accepted is doubtful: broken pages cannot be, and nothing is without a reason. It counts
// from then on, and with nobody's page but the one that was named.
func TestAcceptIsForWhatIsDoubtful(t *testing.T) {
	w := &workspace.Workspace{Dir: t.TempDir()}
	finding := func(page, check string, v smoke.Verdict) smoke.Finding {
		return smoke.Finding{Page: page, Check: check, Verdict: v, What: check + " of " + page}
	}
	record(t, w, runs.Run{Name: "run-1", Kind: "update", State: runs.PutBack, Judgement: &smoke.Judgement{Verdict: smoke.Broken, Pages: []smoke.PageVerdict{
		{Path: "/", Verdict: smoke.Doubtful, Findings: []smoke.Finding{finding("/", "layout", smoke.Doubtful), finding("/", "headings", smoke.Doubtful)}},
		{Path: "/fares", Verdict: smoke.Broken, Findings: []smoke.Finding{finding("/fares", "layout", smoke.Doubtful), finding("/fares", "status", smoke.Broken)}},
	}}})
	if _, err := Accept(w, AcceptOptions{Run: "run-1"}); err == nil || !strings.Contains(err.Error(), "--because") {
		t.Errorf("without a reason: %v", err)
	}
	if _, err := Accept(w, AcceptOptions{Run: "run-1", Check: "status", Because: "it is being rebuilt"}); !errors.Is(err, ErrNothingToAccept) {
		t.Errorf("a broken page: %v", err)
	}
	if _, err := Accept(w, AcceptOptions{Run: "run-9", Because: "x"}); !errors.Is(err, runs.ErrNoRun) {
		t.Errorf("of no run: %v", err)
	}
	accepted, err := Accept(w, AcceptOptions{Run: "run-1", Page: "/", Check: "layout", Because: "the new look is meant"})
	if err != nil || len(accepted) != 1 || accepted[0].Page != "/" {
		t.Fatalf("%+v, %v", accepted, err)
	}
	rules, err := session.RulesOf(w)
	if err != nil {
		t.Fatal(err)
	}
	again := &smoke.Judgement{Pages: []smoke.PageVerdict{
		{Path: "/", Findings: []smoke.Finding{finding("/", "layout", smoke.Doubtful)}}, {Path: "/fares", Findings: []smoke.Finding{finding("/fares", "layout", smoke.Doubtful)}},
	}}
	rules.Apply(again)
	if again.Pages[0].Verdict != smoke.Sound || again.Pages[1].Verdict != smoke.Doubtful {
		t.Errorf("the next time: %s is %s, %s is %s", again.Pages[0].Path, again.Pages[0].Verdict, again.Pages[1].Path, again.Pages[1].Verdict)
	}
	if _, err := Accept(w, AcceptOptions{Run: "run-1", Page: "/", Check: "layout", Because: "twice"}); !errors.Is(err, ErrNothingToAccept) {
		t.Errorf("a second time: %v", err)
	}
}

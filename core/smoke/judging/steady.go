package judging

import (
	"slices"
	"time"

	"wetland/core/smoke"
)

// What did not change is never a finding. Before anything is changed, the pages are looked at
// twice, and each look is judged against what both have in common, by the rules that judge
// later. What is found then changes by itself.

// Recent is how old an earlier look may be to stand for the first of two.
const Recent = 5 * time.Minute

// SteadyAndPresent is what two looks have in common, and how they are by themselves.
func SteadyAndPresent(rules Rules, first, second *smoke.Take) (*smoke.Take, *smoke.Judgement, error) {
	baseline := Steady(rules, first, second)
	baseline.Moving = append(baseline.Moving, second.Moving...)
	baseline.AtTimes = append(baseline.AtTimes, second.AtTimes...)
	return baseline, Present(baseline, rules, first, second), nil
}

// SameAs tells whether pages are as they were, and were as they are.
func SameAs(t *smoke.Take, now *smoke.Take, rules Rules) bool {
	judge := func(was, is *smoke.Take) bool {
		judgement := Judge(was, is)
		rules.Apply(judgement)
		return judgement.Verdict == smoke.Sound
	}
	known := *now
	known.Moving, known.AtTimes = t.Moving, t.AtTimes
	return judge(t, now) && judge(&known, t)
}

// Steady makes one baseline of takes between which nothing was changed. What still differs
// from it in any of them is noted there: what is doubtful is not compared any more, what is
// broken at times is known.
func Steady(rules Rules, takes ...*smoke.Take) *smoke.Take {
	merged := Merge(takes...)
	for _, take := range takes {
		Learn(merged, rules, take)
	}
	return merged
}

// Learn adds to a baseline what differs from it in a take of the same state. It returns what
// will not be compared any more.
func Learn(t *smoke.Take, rules Rules, same *smoke.Take) (learnt []smoke.Finding) {
	judgement := Judge(t, same)
	rules.Apply(judgement)
	for _, page := range judgement.Pages {
		for _, finding := range page.Findings {
			switch {
			case !finding.Counts():
			case finding.Fault || finding.Verdict == smoke.Broken:
				finding.AtTimes = true
				t.AtTimes = append(t.AtTimes, finding)
			default:
				learnt = append(learnt, finding)
			}
		}
	}
	t.Moving = append(t.Moving, learnt...)
	return learnt
}

// Present judges how pages are, from a baseline and the takes that it was made of. What only
// some of them show is there at times.
func Present(baseline *smoke.Take, rules Rules, takes ...*smoke.Take) *smoke.Judgement {
	judgement := Judge(nil, baseline)
	judgement.NotCompared = baseline.Moving
	for i := range judgement.Pages {
		page := &judgement.Pages[i]
		for k := range page.Findings {
			page.Findings[k].AtTimes = !inAll(page.Findings[k], takes)
		}
		for _, finding := range baseline.AtTimes {
			if finding.Page == page.Path {
				page.Findings = append(page.Findings, finding)
			}
		}
	}
	judgement.Recount()
	rules.Apply(judgement)
	return judgement
}

// inAll tells whether every take shows a fault.
func inAll(fault smoke.Finding, takes []*smoke.Take) bool {
	return !slices.ContainsFunc(takes, func(t *smoke.Take) bool {
		facts, ok := t.Page(fault.Page)
		return ok && !slices.ContainsFunc(Faults(facts), func(f smoke.Finding) bool { return kindOf(f) == kindOf(fault) })
	})
}

// moves tells of a finding about something that changes by itself.
func moves(t *smoke.Take, page string, finding smoke.Finding) bool {
	return finding.Verdict == smoke.Doubtful && slices.ContainsFunc(t.Moving, func(m smoke.Finding) bool { return m.Page == page && smoke.ElementOf(m) == smoke.ElementOf(finding) })
}

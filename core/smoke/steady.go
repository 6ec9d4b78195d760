package smoke

import (
	"context"
	"slices"

	"wetland/core/progress"
)

// What did not change is never a finding. Before anything is changed, the pages are looked at
// twice, and each look is judged against what both have in common, by the rules that judge
// later. What is found then changes by itself.

// LookTwice looks at pages of a site on which nothing is changed meanwhile. It returns what
// stands still on them, to compare with, and how they are now. It serves whoever looks twice:
// updates, adopting, and recording pages anew.
func (f *Fetcher) LookTwice(ctx context.Context, pages []Page, rules Rules, report progress.Reporter) (*Take, *Judgement, error) {
	before := f.Before
	defer func() { f.Before = before }()
	f.Before = nil
	first, err := f.Take(ctx, pages, report)
	if err != nil {
		return nil, nil, err
	}
	f.Before = first
	second, err := f.Take(ctx, pages, report)
	if err != nil {
		return nil, nil, err
	}
	baseline := Steady(rules, first, second)
	return baseline, Present(baseline, rules, first, second), nil
}

// Steady makes one baseline of takes between which nothing was changed. What still differs
// from it in any of them is noted there: what is doubtful is not compared any more, what is
// broken at times is known.
func Steady(rules Rules, takes ...*Take) *Take {
	merged := Merge(takes...)
	for _, take := range takes {
		merged.Learn(rules, take)
	}
	return merged
}

// Learn adds to a baseline what differs from it in a take of the same state. It returns what
// will not be compared any more.
func (t *Take) Learn(rules Rules, same *Take) (learnt []Finding) {
	judgement := Judge(t, same)
	rules.Apply(judgement)
	for _, page := range judgement.Pages {
		for _, finding := range page.Findings {
			switch {
			case !finding.Counts():
			case finding.fault || finding.Verdict == Broken:
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
func Present(baseline *Take, rules Rules, takes ...*Take) *Judgement {
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
	judgement.count()
	rules.Apply(judgement)
	return judgement
}

// inAll tells whether every take shows a fault.
func inAll(fault Finding, takes []*Take) bool {
	return !slices.ContainsFunc(takes, func(t *Take) bool {
		facts, ok := t.Page(fault.Page)
		return ok && !slices.ContainsFunc(faults(facts), func(f Finding) bool { return kindOf(f) == kindOf(fault) })
	})
}

// moves tells of a finding about something that changes by itself.
func (t *Take) moves(page string, finding Finding) bool {
	return finding.Verdict == Doubtful && slices.ContainsFunc(t.Moving, func(m Finding) bool { return m.Page == page && elementOf(m) == elementOf(finding) })
}

// elementOf tells the parts of a page apart that findings are about.
func elementOf(f Finding) string {
	if f.Element != "" {
		return f.Check + "\x00" + f.Element
	}
	return f.Check + "\x00\x00" + moving.ReplaceAllString(f.What, "0")
}

// Subject says in a few words what a finding is about.
func (f Finding) Subject() string {
	if f.Element != "" {
		return f.Element + " (" + f.Check + ")"
	}
	return f.What
}

// Within tells whether all that counts in a judgement is in another one, too.
func (j *Judgement) Within(other *Judgement) bool {
	found := map[string]bool{}
	for _, page := range other.Pages {
		for _, finding := range page.Findings {
			found[finding.Page+"\x00"+elementOf(finding)] = found[finding.Page+"\x00"+elementOf(finding)] || finding.Counts()
		}
	}
	return !slices.ContainsFunc(j.Pages, func(p PageVerdict) bool {
		return slices.ContainsFunc(p.Findings, func(f Finding) bool { return f.Counts() && !found[f.Page+"\x00"+elementOf(f)] })
	})
}

package smoke

import (
	"bytes"
	"context"
	"encoding/json"
	"maps"
	"slices"
	"time"

	"wetland/core/progress"
)

// What did not change is never a finding. Before anything is changed, the pages are looked at
// twice, and each look is judged against what both have in common, by the rules that judge
// later. What is found then changes by itself.

// recent is how old an earlier look may be to stand for the first of two.
const recent = 5 * time.Minute

// LookTwice looks at pages of a site on which nothing is changed meanwhile. It returns what
// stands still on them, to compare with, and how they are now. It serves whoever looks twice:
// updates, adopting, and recording pages anew. earlier is what an earlier look recorded, or
// nil: if it is of a few minutes ago, and what a look finds now is the same both ways, it
// stands for the first look.
func (f *Fetcher) LookTwice(ctx context.Context, pages []Page, earlier *Take, rules Rules, report progress.Reporter) (*Take, *Judgement, error) {
	before := f.Before
	f.unchanged = true
	defer func() {
		f.Before, f.unchanged = before, false
		f.clearTabs()
	}()
	if f.standsFor(earlier, pages) {
		f.Before = earlier
	} else {
		f.Before, earlier = nil, nil
	}
	first, err := f.Take(ctx, pages, report)
	if err != nil {
		return nil, nil, err
	}
	if earlier != nil && earlier.sameAs(first, rules) {
		report.Advance(int64(len(pages)))
		return steadyAndPresent(rules, first, earlier.withoutPictures())
	}
	f.Before = first
	second, err := f.Take(ctx, pages, report)
	if err != nil {
		return nil, nil, err
	}
	return steadyAndPresent(rules, first, second)
}

func steadyAndPresent(rules Rules, first, second *Take) (*Take, *Judgement, error) {
	baseline := Steady(rules, first, second)
	baseline.Moving = append(baseline.Moving, second.Moving...)
	baseline.AtTimes = append(baseline.AtTimes, second.AtTimes...)
	return baseline, Present(baseline, rules, first, second), nil
}

// standsFor tells whether an earlier look is recent, and one at just these pages; the browser
// looked then if it is to look now.
func (f *Fetcher) standsFor(earlier *Take, pages []Page) bool {
	if earlier == nil || time.Since(earlier.At) > recent || earlier.Address != f.Address.String() {
		return false
	}
	sights := 0
	for _, page := range pages {
		facts, ok := earlier.Page(page.Path)
		if !ok || !facts.Wanted.is(page) {
			return false
		}
		if len(facts.Sights) > 0 {
			sights++
		}
	}
	program, _ := f.program()
	wanted, _ := f.toSee(earlier)
	return program == "" || sights >= len(wanted)
}

// is tells whether two pages are asked for in the same way. What says nothing may be written in
// several ways.
func (p Page) is(other Page) bool {
	one, err1 := json.Marshal(p)
	two, err2 := json.Marshal(other)
	return err1 == nil && err2 == nil && bytes.Equal(one, two)
}

// sameAs tells whether pages are as they were, and were as they are.
func (t *Take) sameAs(now *Take, rules Rules) bool {
	judge := func(was, is *Take) bool {
		judgement := Judge(was, is)
		rules.Apply(judgement)
		return judgement.Verdict == Sound
	}
	known := *now
	known.Moving, known.AtTimes = t.Moving, t.AtTimes
	return judge(t, now) && judge(&known, t)
}

// withoutPictures leaves out the pictures, whose files may be gone.
func (t *Take) withoutPictures() *Take {
	bare := *t
	bare.Pages = slices.Clone(t.Pages)
	for i := range bare.Pages {
		sights := maps.Clone(bare.Pages[i].Sights)
		for width, sight := range sights {
			sight.Picture, sight.Again = "", ""
			sights[width] = sight
		}
		bare.Pages[i].Sights = sights
	}
	return &bare
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

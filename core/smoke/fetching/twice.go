package fetching

import (
	"context"
	"time"

	"wetland/core/progress"
	"wetland/core/smoke"
	"wetland/core/smoke/judging"
)

// LookTwice looks at pages of a site on which nothing is changed meanwhile. It returns what
// stands still on them, to compare with, and how they are now. It serves whoever looks twice:
// updates, adopting, and recording pages anew. earlier is what an earlier look recorded, or
// nil: if it is of a few minutes ago, and what a look finds now is the same both ways, it
// stands for the first look.
func (f *Fetcher) LookTwice(ctx context.Context, pages []smoke.Page, earlier *smoke.Take, rules judging.Rules, report progress.Reporter) (*smoke.Take, *smoke.Judgement, error) {
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
	if earlier != nil && judging.SameAs(earlier, first, rules) {
		report.Advance(int64(len(pages)))
		return judging.SteadyAndPresent(rules, first, earlier.WithoutPictures())
	}
	f.Before = first
	second, err := f.Take(ctx, pages, report)
	if err != nil {
		return nil, nil, err
	}
	return judging.SteadyAndPresent(rules, first, second)
}

// standsFor tells whether an earlier look is recent, and one at just these pages; the browser
// looked then if it is to look now.
func (f *Fetcher) standsFor(earlier *smoke.Take, pages []smoke.Page) bool {
	if earlier == nil || time.Since(earlier.At) > judging.Recent || earlier.Address != f.Address.String() {
		return false
	}
	sights := 0
	for _, page := range pages {
		facts, ok := earlier.Page(page.Path)
		if !ok || !facts.Wanted.Is(page) {
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

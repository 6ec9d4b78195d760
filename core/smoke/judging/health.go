package judging

import (
	"slices"

	"wetland/core/smoke"
)

// Whoever returns to an older version on purpose wants other pages. What counts is whether
// they are healthy.

// JudgeReturn judges pages after a return to an older version. left is how they were with the
// version that was left: what was wrong there already does not count, and what differs is
// told, no more. record is how they were when the older version was last here; it excuses
// findings and never accuses, for authors may have edited since. It may be nil. Faults, and
// what hides a page or leads away from it, are broken; a form, a menu or a text that is gone,
// and a wish not to be found, are doubtful.
func JudgeReturn(left, record, now *smoke.Take) *smoke.Judgement {
	judgement := Judge(left, now)
	for i := range judgement.Pages {
		page := &judgement.Pages[i]
		if facts, ok := left.Page(page.Path); ok && broken(facts) { // what it lacks it lacks against an error
			page.Findings = slices.DeleteFunc(page.Findings, func(f smoke.Finding) bool { return !f.Fault })
		}
		if len(page.Findings) == 0 {
			continue
		}
		wasSo := excuses(record, now, page.Path)
		for k := range page.Findings {
			weighReturn(&page.Findings[k], wasSo, now)
		}
	}
	judgement.Recount()
	judgement.Better = betterPages(left, judgement)
	return judgement
}

// The words that say why a finding does not count after a return.
const (
	WasSoThen    = "as it was when this version was last here"
	OtherVersion = "the versions differ in this; it does not count"
	GoneHere     = "not as in the version you left; check whether it is missed"
)

// broken tells of a page with a fault that breaks it.
func broken(f smoke.Facts) bool {
	return slices.ContainsFunc(Faults(f), func(fault smoke.Finding) bool { return fault.Verdict == smoke.Broken })
}

func weighReturn(finding *smoke.Finding, wasSo func(smoke.Finding) bool, now *smoke.Take) {
	switch {
	case !finding.Counts():
	case wasSo(*finding):
		finding.Verdict, finding.Weighed = smoke.Sound, WasSoThen
	case finding.Fault || harms(*finding, now):
	case finding.Verdict == smoke.Broken:
		finding.Verdict, finding.Weighed = smoke.Doubtful, GoneHere
	default:
		finding.Verdict, finding.Weighed = smoke.Sound, OtherVersion
	}
}

// excuses returns what tells whether a page was like this when the record was taken: it has
// nothing like the finding when it is held against it. Without a record of the page nothing is
// excused.
func excuses(record, now *smoke.Take, page string) func(smoke.Finding) bool {
	facts, looked := now.Page(page)
	if record == nil || !looked || !record.Has(page) {
		return func(smoke.Finding) bool { return false }
	}
	against := judgePage(record, facts, nil).Findings
	return func(finding smoke.Finding) bool {
		return !slices.ContainsFunc(against, func(f smoke.Finding) bool {
			return f.Counts() && f.Check == finding.Check && (finding.Element == "" || f.Element == finding.Element)
		})
	}
}

// harms tells of losses that make a page useless to visitors whatever it was like before.
func harms(finding smoke.Finding, now *smoke.Take) bool {
	if finding.Verdict != smoke.Broken {
		return false
	}
	switch finding.Check {
	case "hidden", "redirect", "type", "letters", "browser":
		return true
	case "style sheet":
		const few = 10 // rules: a page without a style of its own
		facts, _ := now.Page(finding.Page)
		return facts.Rules < few
	}
	return false
}

// betterPages lists the pages that had faults and have none any more.
func betterPages(left *smoke.Take, now *smoke.Judgement) []string {
	var better []string
	for _, was := range Judge(nil, left).Pages {
		i := slices.IndexFunc(now.Pages, func(p smoke.PageVerdict) bool { return p.Path == was.Path })
		if was.Verdict == smoke.Broken && i >= 0 && !now.Pages[i].StillBroken() {
			better = append(better, was.Path)
		}
	}
	return better
}

package smoke

import (
	"net/http"
	"slices"
)

// Whoever returns to an older version on purpose wants other pages. What counts is whether
// they are healthy.

// JudgeReturn judges pages after a return to an older version. left is how they were with the
// version that was left: what was wrong there already does not count, and what differs is
// told, no more. record is how they were when the older version was last here; it excuses
// findings and never accuses, for authors may have edited since. It may be nil. Faults, and
// what hides a page or leads away from it, are broken; a form, a menu or a text that is gone,
// and a wish not to be found, are doubtful.
func JudgeReturn(left, record, now *Take) *Judgement {
	judgement := Judge(left, now)
	for i := range judgement.Pages {
		page := &judgement.Pages[i]
		if facts, ok := left.Page(page.Path); ok && broken(facts) { // what it lacks it lacks against an error
			page.Findings = slices.DeleteFunc(page.Findings, func(f Finding) bool { return !f.fault })
		}
		if len(page.Findings) == 0 {
			continue
		}
		wasSo := excuses(record, now, page.Path)
		for k := range page.Findings {
			weighReturn(&page.Findings[k], wasSo, now)
		}
	}
	judgement.count()
	judgement.Better = betterPages(left, judgement)
	return judgement
}

// The words that say why a finding does not count after a return.
const (
	wasSoThen    = "as it was when this version was last here"
	otherVersion = "the versions differ in this; it does not count"
	goneHere     = "not as in the version you left; check whether it is missed"
)

// broken tells of a page with a fault that breaks it.
func broken(f Facts) bool {
	return slices.ContainsFunc(faults(f), func(fault Finding) bool { return fault.Verdict == Broken })
}

func weighReturn(finding *Finding, wasSo func(Finding) bool, now *Take) {
	switch {
	case !finding.Counts():
	case wasSo(*finding):
		finding.Verdict, finding.Weighed = Sound, wasSoThen
	case finding.fault || harms(*finding, now):
	case finding.Verdict == Broken:
		finding.Verdict, finding.Weighed = Doubtful, goneHere
	default:
		finding.Verdict, finding.Weighed = Sound, otherVersion
	}
}

// excuses returns what tells whether a page was like this when the record was taken: it has
// nothing like the finding when it is held against it. Without a record of the page nothing is
// excused.
func excuses(record, now *Take, page string) func(Finding) bool {
	facts, looked := now.Page(page)
	if record == nil || !looked || !record.has(page) {
		return func(Finding) bool { return false }
	}
	against := judgePage(record, facts, nil).Findings
	return func(finding Finding) bool {
		return !slices.ContainsFunc(against, func(f Finding) bool {
			return f.Counts() && f.Check == finding.Check && (finding.Element == "" || f.Element == finding.Element)
		})
	}
}

// harms tells of losses that make a page useless to visitors whatever it was like before.
func harms(finding Finding, now *Take) bool {
	if finding.Verdict != Broken {
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
func betterPages(left *Take, now *Judgement) []string {
	var better []string
	for _, was := range Judge(nil, left).Pages {
		i := slices.IndexFunc(now.Pages, func(p PageVerdict) bool { return p.Path == was.Path })
		if was.Verdict == Broken && i >= 0 && !now.Pages[i].StillBroken() {
			better = append(better, was.Path)
		}
	}
	return better
}

// StillBroken tells of a page with a broken finding, also one that was there before.
func (p PageVerdict) StillBroken() bool {
	return slices.ContainsFunc(p.Findings, func(f Finding) bool { return f.Verdict == Broken })
}

// NotBroken tells whether a page is sound or doubtful.
func (j *Judgement) NotBroken(path string) bool {
	return !slices.ContainsFunc(j.Pages, func(p PageVerdict) bool { return p.Path == path && p.Verdict == Broken })
}

// Dead lists the pages that a fatal error ended, of a judgement of this take: the server
// answers 500, an error message is on the page, or its end or everything is missing. What was
// so before does not count, and neither does a server that is not there or has too much to do.
func (j *Judgement) Dead(take *Take) []string {
	var dead []string
	for _, page := range j.Pages {
		facts, _ := take.Page(page.Path)
		if slices.ContainsFunc(page.Findings, func(f Finding) bool { return f.kills(facts) }) {
			dead = append(dead, page.Path)
		}
	}
	return dead
}

func (f Finding) kills(facts Facts) bool {
	if !f.fault || !f.Counts() || f.Verdict != Broken || f.AtTimes {
		return false
	}
	return f.Check == "status" && facts.Status == http.StatusInternalServerError || slices.Contains([]string{"error text", "cut off", "blank"}, f.Check)
}

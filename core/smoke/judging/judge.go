// Package judging tells how pages are: by themselves, and by how they were (Judge, JudgeUpdate,
// JudgeReturn); and what two looks have in common (Steady). Begin reading at Judge.
//
// It promises that pages which are as they were give no finding: each rule keeps to the law that a
// page judged by itself is sound, whatever is on it.
package judging

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"wetland/core/phrase"
	"wetland/core/smoke"
	"wetland/core/smoke/reading"
)

// Judge compares a take with an earlier one. before may be nil: then only faults
// that show by themselves are found. What was wrong before already is marked as
// known and does not count. No pages at all are never sound.
func Judge(before, now *smoke.Take) *smoke.Judgement { return JudgeUpdate(before, now, nil) }

// JudgeUpdate judges pages by how they were before an update. foreign are the folders, as paths
// of addresses, of what it does not change.
func JudgeUpdate(before, now *smoke.Take, foreign []string) *smoke.Judgement {
	j := &smoke.Judgement{NotCovered: now.NotCovered}
	for _, facts := range now.Pages {
		page := judgePage(before, facts, foreign)
		if before != nil && now.At.Sub(before.At) > AuthorsWork {
			leaveToAuthors(&page)
		}
		j.Pages = append(j.Pages, page)
	}
	if before != nil {
		j.NotCompared = slices.DeleteFunc(slices.Clone(before.Moving), func(f smoke.Finding) bool { return !now.Has(f.Page) })
	}
	j.Recount()
	return j
}

// AuthorsWork is the time after which it is likelier that an author changed what a page says
// than that an update took it away.
const AuthorsWork = 24 * time.Hour

// leaveToAuthors makes less of findings about what the page says.
func leaveToAuthors(p *smoke.PageVerdict) {
	for i := range p.Findings {
		finding := &p.Findings[i]
		if (finding.Check == "text" || finding.Check == "headings") && finding.Verdict != smoke.Sound {
			finding.Verdict = map[smoke.Verdict]smoke.Verdict{smoke.Broken: smoke.Doubtful, smoke.Doubtful: smoke.Sound}[finding.Verdict]
			finding.Evidence = strings.TrimPrefix(finding.Evidence+"; an author may have changed it since", "; ")
		}
	}
}

// judgePage judges one page. foreign are the folders of what was not changed.
func judgePage(before *smoke.Take, now smoke.Facts, foreign []string) smoke.PageVerdict {
	page := smoke.PageVerdict{Path: now.Path}
	var was *smoke.Facts
	known := map[string]bool{}
	if before != nil {
		if found, ok := before.Page(now.Path); ok {
			was = &found
			for _, finding := range Faults(found) {
				known[kindOf(finding)] = true
			}
		}
		for _, finding := range before.AtTimes {
			known[kindOf(finding)] = known[kindOf(finding)] || finding.Page == now.Path
		}
	}
	add := func(finding smoke.Finding, fault bool) {
		finding.Page, finding.Fault, finding.Known = now.Path, fault, known[kindOf(finding)]
		page.Findings = append(page.Findings, finding)
	}
	for _, finding := range Faults(now) {
		add(finding, true)
	}
	if was != nil && now.Problem == "" && !useless(*was) {
		for _, finding := range slices.Concat(losses(*was, now), loseForeign(*was, now, foreign), loseFit(*was, now, foreign)) {
			if !moves(before, now.Path, finding) {
				add(finding, false)
			}
		}
	}
	return page
}

// useless tells of a page that was no page at all: nothing can be held against it.
func useless(f smoke.Facts) bool {
	return slices.ContainsFunc(Faults(f), func(fault smoke.Finding) bool {
		return fault.Verdict == smoke.Broken && slices.Contains([]string{"answer", "status", "cut off", "blank"}, fault.Check)
	})
}

// kindOf is what two findings share that tell of the same fault. In what scripts and errors
// say, numbers move by themselves; another error is another fault.
func kindOf(f smoke.Finding) string {
	switch f.Check {
	case "script":
		return f.Check + "\x00" + smoke.Moving.ReplaceAllString(f.What, "0")
	case "error text":
		return f.Check + "\x00" + f.What + "\x00" + smoke.Moving.ReplaceAllString(f.Evidence, "0")
	}
	return f.Check + "\x00" + f.What
}

// Collector gathers findings.
type Collector []smoke.Finding

func (c *Collector) add(v smoke.Verdict, check, what, evidence string) {
	*c = append(*c, smoke.Finding{Check: check, Verdict: v, What: what, Evidence: evidence})
}

// answers adds what a page answers.
func (c *Collector) answers(v smoke.Verdict, status int, what string) {
	*c = append(*c, smoke.Finding{Check: "status", Verdict: v, What: what, Status: status})
}

// lose adds a finding about one element of the page, of which there may be several.
func (c *Collector) lose(v smoke.Verdict, check, element, what, evidence string) {
	*c = append(*c, smoke.Finding{Check: check, Verdict: v, Element: element, What: what, Evidence: evidence})
}

// Faults finds what is wrong with a page whatever it was like before.
func Faults(now smoke.Facts) []smoke.Finding {
	var found Collector
	if now.Problem != "" {
		found.add(smoke.Broken, "answer", now.Problem, "")
		return found
	}
	if now.Unknown != "" {
		found.add(smoke.Doubtful, "not seen", "the page itself was not seen: "+now.Unknown, fmt.Sprintf("the server answers %d", now.Status))
		return found
	}
	wanted := now.Wanted
	switch {
	case wanted.Status != 0 && now.Status != wanted.Status:
		found.answers(smoke.Broken, now.Status, fmt.Sprintf("the server answers %d, and %d is expected", now.Status, wanted.Status))
	case wanted.Status == 0 && now.Status >= 400:
		found.answers(smoke.Broken, now.Status, fmt.Sprintf("the server answers %d", now.Status))
	}
	if target, err := url.Parse(lastHop(now)); wanted.LeadsTo != "" && (err != nil || (target.RequestURI() != wanted.LeadsTo && target.String() != wanted.LeadsTo)) {
		found.add(smoke.Broken, "redirect", fmt.Sprintf("it leads to %s, and %s is expected", orItself(lastHop(now)), wanted.LeadsTo), "")
	}
	if wanted.Within > 0 && now.Took > wanted.Within {
		found.add(smoke.Doubtful, "speed", fmt.Sprintf("it takes longer than %s", wanted.Within), now.Took.Round(10*time.Millisecond).String())
	}
	for _, text := range now.Errors {
		found.add(smoke.Broken, "error text", "an error message is on the page", text)
	}
	for _, text := range now.Missing {
		found.add(smoke.Broken, "expected text", fmt.Sprintf("the text %q is not there", text), "")
	}
	if now.TooLarge {
		found.add(smoke.Doubtful, "size", fmt.Sprintf("it is larger than %d MB, or has more than %d tags: only its beginning was read", smoke.LargestPage>>20, reading.MostTags), "")
	} else if !now.Complete {
		found.add(smoke.Broken, "cut off", "the page is cut off: its end is missing", "")
	}
	if now.Text < smoke.ReadableText && now.Forms == nil && now.Images == 0 {
		found.add(smoke.Broken, "blank", "the page is blank", fmt.Sprintf("%d letters on it", now.Text))
	}
	for _, asset := range now.Assets {
		if asset.Problem == "" {
			continue
		}
		verdict := smoke.Doubtful
		if asset.Kind == "style sheet" {
			verdict = smoke.Broken
		}
		found.add(verdict, asset.Kind, fmt.Sprintf("the %s %s does not load", asset.Kind, asset.Path), asset.Problem)
	}
	if !now.IsPage() && !smoke.ReadsAsText(now.Type) {
		found.add(smoke.Doubtful, "type", "it is not a web page but "+cmp.Or(now.Type, "something that says no type"), "")
	}
	visitFaults(&found, now)
	loseScripts(&found, now)
	sightFaults(&found, now)
	return found
}

// losses finds what a page had before and has no more.
func losses(was, now smoke.Facts) []smoke.Finding {
	var found Collector
	loseTarget(&found, was, now)
	if was.Status != now.Status && now.Status < 400 {
		found.answers(smoke.Doubtful, now.Status, fmt.Sprintf("the server answers %d, was %d", now.Status, was.Status))
	}
	if (now.Status >= 400 && was.Status < 400) || (was.Complete && !now.Complete) || now.Unknown != "" || was.Unknown != "" {
		return found // that much else is gone follows from it
	}
	if was.IsPage() && !now.IsPage() {
		found.add(smoke.Broken, "type", fmt.Sprintf("it is not a web page any more but %s", cmp.Or(now.Type, "something that says no type")), "")
		return found
	}
	if was.Title != "" && !sameTitle(was.Title, now.Title) {
		found.lose(smoke.Doubtful, "title", "title", fmt.Sprintf("the title is %q, was %q", now.Title, was.Title), "")
	}
	if now.NoIndex && !was.NoIndex && now.Path != smoke.RobotsFile {
		found.add(smoke.Broken, "robots", "the page asks search engines to forget it (noindex)", "")
	}
	if now.ShutOut && !was.ShutOut || now.Path == smoke.RobotsFile && now.NoIndex && !was.NoIndex {
		found.add(smoke.Broken, "robots", "search engines are shut out of the whole site (robots.txt)", "")
	}
	loseWays(&found, was, now)
	loseMeta(&found, was, now)
	LoseContent(&found, was, now)
	loseLandmarks(&found, was, now)
	loseInside(&found, was, now)
	loseStyle(&found, was, now)
	loseSpeed(&found, was, now)
	loseSights(&found, was, now)
	LoseWords(&found, was, now)
	loseLeaks(&found, was, now)
	loseLinks(&found, was, now)
	loseContacts(&found, was, now)
	loseButtons(&found, was, now)
	loseLinkKinds(&found, was, now)
	losePrices(&found, was, now)
	loseGroups(&found, was, now)
	loseFilled(&found, was, now)
	loseFrame(&found, was, now)
	loseRowsOf(&found, was, now)
	loseFrames(&found, was, now)
	loseMenus(&found, was, now)
	loseForms(&found, was, now)
	visitNotes(&found, now)
	return found
}

func loseTarget(found *Collector, was, now smoke.Facts) {
	before, after := lastHop(was), lastHop(now)
	switch {
	case before == after:
	case reading.AsksToSignIn(now) && !reading.AsksToSignIn(was):
		found.lose(smoke.Broken, "redirect", "address", "it now asks visitors to sign in, at "+orItself(after), "")
	case smoke.HostOf(after) != smoke.HostOf(before):
		found.lose(smoke.Broken, "redirect", "address", "it now leads to "+orItself(after), "")
	default:
		found.lose(smoke.Doubtful, "redirect", "address", fmt.Sprintf("it now ends at %s", orItself(after)), "before: "+orItself(before))
	}
}

// loseWays finds pages that are not shown where they are asked for.
func loseWays(found *Collector, was, now smoke.Facts) {
	if now.Attached && !was.Attached {
		found.add(smoke.Broken, "type", "browsers offer it as a file to keep instead of showing it", "")
	}
	if now.Reloads && !was.Reloads {
		found.lose(smoke.Doubtful, "redirect", "reloading", "browsers reload it every few seconds", "")
	}
	if now.Quirks && !was.Quirks {
		found.add(smoke.Doubtful, "layout", "it does not begin with <!DOCTYPE html> any more: browsers lay it out as those of old did", "")
	}
	switch {
	case now.Moves == was.Moves || now.Moves == "" || now.Moves == now.Path:
	case smoke.HostOf(now.Moves) != "":
		found.lose(smoke.Broken, "redirect", "address", "browsers move on by themselves to "+now.Moves, "")
	default:
		found.lose(smoke.Doubtful, "redirect", "address", "browsers move on by themselves to "+now.Moves, "")
	}
}

// sameTitle tells of a title in which every word of the earlier one is left, or which has a
// letter or two mended. Dividers and order are no words.
func sameTitle(was, now string) bool {
	before, after := reading.Words(was), reading.Words(now)
	for word, n := range before {
		if after[word] < n {
			return mended(was, now)
		}
	}
	return len(before) > 0 || mended(was, now)
}

func lastHop(f smoke.Facts) string {
	if n := len(f.Redirects); n > 0 {
		return f.Redirects[n-1]
	}
	return ""
}

func orItself(address string) string {
	if address == "" {
		return "the page itself"
	}
	return address
}

// manyImages is the number of images from which on most of them are more than an ornament.
const manyImages = 4

// LoseContent finds what the main part of a page has lost.
func LoseContent(found *Collector, was, now smoke.Facts) {
	switch {
	case now.Entries < was.Entries && saysTheSame(was, now): // in other elements
	case was.Entries > 0 && now.Entries == 0:
		found.add(smoke.Broken, "list", fmt.Sprintf("the list shows 0 entries, was %d", was.Entries), "")
	case now.Entries < was.Entries:
		found.add(smoke.Doubtful, "list", fmt.Sprintf("the list shows %d entries, was %d", now.Entries, was.Entries), "")
	}
	switch {
	case was.Text >= 100 && now.Text*5 < was.Text:
		found.add(smoke.Broken, "text", fmt.Sprintf("most of the text is gone: %d letters, was %d", now.Text, was.Text), "")
	case was.Text >= 100 && now.Text*2 < was.Text:
		found.add(smoke.Doubtful, "text", fmt.Sprintf("much of the text is gone: %d letters, was %d", now.Text, was.Text), "")
	}
	var gone []string
	mainGone := false
	for _, heading := range goneHeadings(was, now) {
		level, text, _ := strings.Cut(heading, " ")
		gone = append(gone, text)
		mainGone = mainGone || level == "h1"
	}
	if len(gone) > 0 && (mainGone || 2*len(gone) >= len(was.Headings)) {
		found.add(smoke.Doubtful, "headings", fmt.Sprintf("%d of %d headings are gone", len(gone), len(was.Headings)), strings.Join(gone[:min(4, len(gone))], "; "))
	}
	if was.Images > 0 && now.Images == 0 && now.Drawings <= was.Drawings {
		found.add(smoke.Doubtful, "images", fmt.Sprintf("all %d images are gone", was.Images), "")
	} else if was.Images >= manyImages && 2*(now.Images+now.Drawings-was.Drawings) < was.Images {
		found.add(smoke.Doubtful, "images", fmt.Sprintf("%d of %d images are gone", was.Images-now.Images, was.Images), "")
	}
	if len(was.Pictures) > 0 && len(now.Pictures) == 0 && now.Images > 0 && now.Drawings <= was.Drawings {
		found.add(smoke.Doubtful, "images", fmt.Sprintf("all %s of the page's own part are gone", phrase.Plural(len(was.Pictures), "image")), "")
	}
	sheets := func(f smoke.Facts) int {
		n := 0
		for _, asset := range f.Assets {
			if asset.Kind == "style sheet" {
				n++
			}
		}
		return n
	}
	if sheets(was) > 0 && sheets(now) == 0 && 2*now.Rules < was.Rules+1 { // else they are written into the page
		found.add(smoke.Broken, "style sheet", "the page names no style sheet of the site any more", fmt.Sprintf("before: %d", sheets(was)))
	}
}

// saysTheSame tells of a page on which every heading and nearly every word is left.
func saysTheSame(was, now smoke.Facts) bool {
	total, lost := lostLetters(was, now)
	return len(was.Headings) > 0 && len(goneHeadings(was, now)) == 0 && 10*lost <= total
}

func loseLandmarks(found *Collector, was, now smoke.Facts) {
	for _, name := range []string{"header", "main part", "side column", "footer"} {
		if was.Landmarks[name] > 0 && now.Landmarks[name] == 0 {
			found.lose(smoke.Doubtful, "layout", name, fmt.Sprintf("the %s is gone", name), "")
		}
		if name == "header" && was.Landmarks[name] > 0 && now.Landmarks[name] > was.Landmarks[name] && now.Inside[name]*10 >= was.Inside[name]*18 {
			found.lose(smoke.Doubtful, "layout", name, fmt.Sprintf("the header stands there %d times", now.Landmarks[name]), "")
		}
		if name == "side column" && now.Landmarks[name] > 0 && now.Landmarks[name] < was.Landmarks[name] {
			found.lose(smoke.Doubtful, "layout", name, fmt.Sprintf("%d of %d side columns are gone", was.Landmarks[name]-now.Landmarks[name], was.Landmarks[name]), "")
		}
	}
}

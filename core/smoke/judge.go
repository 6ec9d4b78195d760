package smoke

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Judgement is what the findings of all pages come to.
type Judgement struct {
	Verdict    Verdict       `json:"verdict"`
	Pages      []PageVerdict `json:"pages"`
	NotCovered []string      `json:"not_covered,omitempty"`
	// NotCompared is what changes by itself on these pages: it was found between two looks
	// at the same state, and the like of it does not count.
	NotCompared []Finding `json:"not_compared,omitempty"`
	// Better are pages that were broken and are not any more.
	Better []string `json:"better,omitempty"`
}

// count sums up the findings: each page is as bad as the worst that counts, and all of them
// as bad as the worst page. No pages at all are never sound.
func (j *Judgement) count() {
	j.Verdict = Sound
	if len(j.Pages) == 0 {
		j.Verdict = Doubtful
	}
	for i := range j.Pages {
		page := &j.Pages[i]
		page.Verdict = Sound
		for _, finding := range page.Findings {
			if finding.Counts() {
				page.Verdict = worse(page.Verdict, finding.Verdict)
			}
		}
		j.Verdict = worse(j.Verdict, page.Verdict)
	}
}

// PageVerdict is one page with its findings.
type PageVerdict struct {
	Path     string    `json:"path"`
	Verdict  Verdict   `json:"verdict"`
	Findings []Finding `json:"findings,omitempty"`
}

// Count returns how many pages have the verdict.
func (j *Judgement) Count(v Verdict) int {
	n := 0
	for _, page := range j.Pages {
		if page.Verdict == v {
			n++
		}
	}
	return n
}

// Failing lists the pages that are not sound.
func (j *Judgement) Failing() []string {
	var failing []string
	for _, page := range j.Pages {
		if page.Verdict != Sound {
			failing = append(failing, page.Path)
		}
	}
	return failing
}

// Judge compares a take with an earlier one. before may be nil: then only faults
// that show by themselves are found. What was wrong before already is marked as
// known and does not count. No pages at all are never sound.
func Judge(before, now *Take) *Judgement { return JudgeUpdate(before, now, nil) }

// JudgeUpdate judges pages by how they were before an update. foreign are the folders, as paths
// of addresses, of what it does not change.
func JudgeUpdate(before, now *Take, foreign []string) *Judgement {
	j := &Judgement{NotCovered: now.NotCovered}
	for _, facts := range now.Pages {
		page := judgePage(before, facts, foreign)
		if before != nil && now.At.Sub(before.At) > authorsWork {
			page.leaveToAuthors()
		}
		j.Pages = append(j.Pages, page)
	}
	if before != nil {
		j.NotCompared = slices.DeleteFunc(slices.Clone(before.Moving), func(f Finding) bool { return !now.has(f.Page) })
	}
	j.count()
	return j
}

// authorsWork is the time after which it is likelier that an author changed what a page says
// than that an update took it away.
const authorsWork = 24 * time.Hour

// leaveToAuthors makes less of findings about what the page says.
func (p *PageVerdict) leaveToAuthors() {
	for i := range p.Findings {
		finding := &p.Findings[i]
		if (finding.Check == "text" || finding.Check == "headings") && finding.Verdict != Sound {
			finding.Verdict = map[Verdict]Verdict{Broken: Doubtful, Doubtful: Sound}[finding.Verdict]
			finding.Evidence = strings.TrimPrefix(finding.Evidence+"; an author may have changed it since", "; ")
		}
	}
}

// judgePage judges one page. foreign are the folders of what was not changed.
func judgePage(before *Take, now Facts, foreign []string) PageVerdict {
	page := PageVerdict{Path: now.Path}
	var was *Facts
	known := map[string]bool{}
	if before != nil {
		if found, ok := before.Page(now.Path); ok {
			was = &found
			for _, finding := range faults(found) {
				known[kindOf(finding)] = true
			}
		}
		for _, finding := range before.AtTimes {
			known[kindOf(finding)] = known[kindOf(finding)] || finding.Page == now.Path
		}
	}
	add := func(finding Finding, fault bool) {
		finding.Page, finding.fault, finding.Known = now.Path, fault, known[kindOf(finding)]
		page.Findings = append(page.Findings, finding)
	}
	for _, finding := range faults(now) {
		add(finding, true)
	}
	if was != nil && now.Problem == "" && !was.useless() {
		for _, finding := range slices.Concat(losses(*was, now), loseForeign(*was, now, foreign), loseFit(*was, now, foreign)) {
			if !before.moves(now.Path, finding) {
				add(finding, false)
			}
		}
	}
	return page
}

// useless tells of a page that was no page at all: nothing can be held against it.
func (f Facts) useless() bool {
	return slices.ContainsFunc(faults(f), func(fault Finding) bool {
		return fault.Verdict == Broken && slices.Contains([]string{"answer", "status", "cut off", "blank"}, fault.Check)
	})
}

// kindOf is what two findings share that tell of the same fault. In what scripts and errors
// say, numbers move by themselves; another error is another fault.
func kindOf(f Finding) string {
	switch f.Check {
	case "script":
		return f.Check + "\x00" + moving.ReplaceAllString(f.What, "0")
	case "error text":
		return f.Check + "\x00" + f.What + "\x00" + moving.ReplaceAllString(f.Evidence, "0")
	}
	return f.Check + "\x00" + f.What
}

// Counts tells whether a finding has a say in the verdict.
func (f Finding) Counts() bool { return !f.Known && f.Accepted == "" && f.Verdict != Sound }

// moving matches numbers, and what identifies a request.
var moving = regexp.MustCompile(`\b[0-9a-f]*\d[0-9a-f]*\b|\d+`)

// collector gathers findings.
type collector []Finding

func (c *collector) add(v Verdict, check, what, evidence string) {
	*c = append(*c, Finding{Check: check, Verdict: v, What: what, Evidence: evidence})
}

// lose adds a finding about one element of the page, of which there may be several.
func (c *collector) lose(v Verdict, check, element, what, evidence string) {
	*c = append(*c, Finding{Check: check, Verdict: v, Element: element, What: what, Evidence: evidence})
}

// readableText is the number of letters below which a page counts as blank.
const readableText = 12

// faults finds what is wrong with a page whatever it was like before.
func faults(now Facts) []Finding {
	var found collector
	if now.Problem != "" {
		found.add(Broken, "answer", now.Problem, "")
		return found
	}
	if now.Unknown != "" {
		found.add(Doubtful, "not seen", "the page itself was not seen: "+now.Unknown, fmt.Sprintf("the server answers %d", now.Status))
		return found
	}
	wanted := now.Wanted
	switch {
	case wanted.Status != 0 && now.Status != wanted.Status:
		found.add(Broken, "status", fmt.Sprintf("the server answers %d, and %d is expected", now.Status, wanted.Status), "")
	case wanted.Status == 0 && now.Status >= 400:
		found.add(Broken, "status", fmt.Sprintf("the server answers %d", now.Status), "")
	}
	if target, err := url.Parse(lastHop(now)); wanted.LeadsTo != "" && (err != nil || (target.RequestURI() != wanted.LeadsTo && target.String() != wanted.LeadsTo)) {
		found.add(Broken, "redirect", fmt.Sprintf("it leads to %s, and %s is expected", orItself(lastHop(now)), wanted.LeadsTo), "")
	}
	if wanted.Within > 0 && now.Took > wanted.Within {
		found.add(Doubtful, "speed", fmt.Sprintf("it takes longer than %s", wanted.Within), now.Took.Round(10*time.Millisecond).String())
	}
	for _, text := range now.Errors {
		found.add(Broken, "error text", "an error message is on the page", text)
	}
	for _, text := range now.Missing {
		found.add(Broken, "expected text", fmt.Sprintf("the text %q is not there", text), "")
	}
	if now.TooLarge {
		found.add(Doubtful, "size", fmt.Sprintf("it is larger than %d MB, or has more than %d tags: only its beginning was read", largestPage>>20, mostTags), "")
	} else if !now.Complete {
		found.add(Broken, "cut off", "the page is cut off: its end is missing", "")
	}
	if now.Text < readableText && now.Forms == nil && now.Images == 0 {
		found.add(Broken, "blank", "the page is blank", fmt.Sprintf("%d letters on it", now.Text))
	}
	for _, asset := range now.Assets {
		if asset.Problem == "" {
			continue
		}
		verdict := Doubtful
		if asset.Kind == "style sheet" {
			verdict = Broken
		}
		found.add(verdict, asset.Kind, fmt.Sprintf("the %s %s does not load", asset.Kind, asset.Path), asset.Problem)
	}
	if !now.isPage() && !readsAsText(now.Type) {
		found.add(Doubtful, "type", "it is no web page but "+orWords(now.Type, "something that says no type"), "")
	}
	visitFaults(&found, now)
	loseScripts(&found, now)
	sightFaults(&found, now)
	return found
}

// losses finds what a page had before and has no more.
func losses(was, now Facts) []Finding {
	var found collector
	loseTarget(&found, was, now)
	if was.Status != now.Status && now.Status < 400 {
		found.add(Doubtful, "status", fmt.Sprintf("the server answers %d, was %d", now.Status, was.Status), "")
	}
	if (now.Status >= 400 && was.Status < 400) || (was.Complete && !now.Complete) || now.Unknown != "" || was.Unknown != "" {
		return found // that much else is gone follows from it
	}
	if was.isPage() && !now.isPage() {
		found.add(Broken, "type", fmt.Sprintf("it is no web page any more but %s", orWords(now.Type, "something that says no type")), "")
		return found
	}
	if was.Title != "" && !sameTitle(was.Title, now.Title) {
		found.lose(Doubtful, "title", "title", fmt.Sprintf("the title is %q, was %q", now.Title, was.Title), "")
	}
	if now.NoIndex && !was.NoIndex && now.Path != robotsFile {
		found.add(Broken, "robots", "the page asks search engines to forget it (noindex)", "")
	}
	if now.ShutOut && !was.ShutOut || now.Path == robotsFile && now.NoIndex && !was.NoIndex {
		found.add(Broken, "robots", "search engines are shut out of the whole site (robots.txt)", "")
	}
	loseWays(&found, was, now)
	loseMeta(&found, was, now)
	loseContent(&found, was, now)
	loseLandmarks(&found, was, now)
	loseInside(&found, was, now)
	loseStyle(&found, was, now)
	loseSpeed(&found, was, now)
	loseSights(&found, was, now)
	loseWords(&found, was, now)
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

// isPage tells whether the answer says that it is a web page.
func (f Facts) isPage() bool { return f.Type == "text/html" || f.Type == "application/xhtml+xml" }

// readsAsText tells of types that are meant to be read as they are: feeds, data, plain text.
func readsAsText(kind string) bool {
	return strings.HasPrefix(kind, "text/") || strings.HasSuffix(kind, "xml") || strings.HasSuffix(kind, "json")
}

func loseTarget(found *collector, was, now Facts) {
	before, after := lastHop(was), lastHop(now)
	switch {
	case before == after:
	case asksToSignIn(now) && !asksToSignIn(was):
		found.lose(Broken, "redirect", "address", "it now asks visitors to sign in, at "+orItself(after), "")
	case hostOf(after) != hostOf(before):
		found.lose(Broken, "redirect", "address", "it now leads to "+orItself(after), "")
	default:
		found.lose(Doubtful, "redirect", "address", fmt.Sprintf("it now ends at %s", orItself(after)), "before: "+orItself(before))
	}
}

// loseWays finds pages that are not shown where they are asked for.
func loseWays(found *collector, was, now Facts) {
	if now.Attached && !was.Attached {
		found.add(Broken, "type", "browsers offer it as a file to keep instead of showing it", "")
	}
	if now.Reloads && !was.Reloads {
		found.lose(Doubtful, "redirect", "reloading", "browsers load it anew every few seconds", "")
	}
	if now.Quirks && !was.Quirks {
		found.add(Doubtful, "layout", "it does not begin with <!DOCTYPE html> any more: browsers lay it out as those of old did", "")
	}
	switch {
	case now.Moves == was.Moves || now.Moves == "" || now.Moves == now.Path:
	case hostOf(now.Moves) != "":
		found.lose(Broken, "redirect", "address", "browsers move on by themselves to "+now.Moves, "")
	default:
		found.lose(Doubtful, "redirect", "address", "browsers move on by themselves to "+now.Moves, "")
	}
}

// sameTitle tells of a title in which every word of the earlier one is left, or which has a
// letter or two mended. Dividers and order are no words.
func sameTitle(was, now string) bool {
	before, after := words(was), words(now)
	for word, n := range before {
		if after[word] < n {
			return mended(was, now)
		}
	}
	return len(before) > 0 || mended(was, now)
}

func lastHop(f Facts) string {
	if n := len(f.Redirects); n > 0 {
		return f.Redirects[n-1]
	}
	return ""
}

func hostOf(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return address
	}
	return u.Host
}

func orItself(address string) string {
	if address == "" {
		return "the page itself"
	}
	return address
}

// manyImages is the number of images from which on most of them are more than an ornament.
const manyImages = 4

func loseContent(found *collector, was, now Facts) {
	switch {
	case now.Entries < was.Entries && saysTheSame(was, now): // in other elements
	case was.Entries > 0 && now.Entries == 0:
		found.add(Broken, "list", fmt.Sprintf("the list shows 0 entries, was %d", was.Entries), "")
	case now.Entries < was.Entries:
		found.add(Doubtful, "list", fmt.Sprintf("the list shows %d entries, was %d", now.Entries, was.Entries), "")
	}
	switch {
	case was.Text >= 100 && now.Text*5 < was.Text:
		found.add(Broken, "text", fmt.Sprintf("most of the text is gone: %d letters, was %d", now.Text, was.Text), "")
	case was.Text >= 100 && now.Text*2 < was.Text:
		found.add(Doubtful, "text", fmt.Sprintf("much of the text is gone: %d letters, was %d", now.Text, was.Text), "")
	}
	var gone []string
	mainGone := false
	for _, heading := range goneHeadings(was, now) {
		level, text, _ := strings.Cut(heading, " ")
		gone = append(gone, text)
		mainGone = mainGone || level == "h1"
	}
	if len(gone) > 0 && (mainGone || 2*len(gone) >= len(was.Headings)) {
		found.add(Doubtful, "headings", fmt.Sprintf("%d of %d headings are gone", len(gone), len(was.Headings)), strings.Join(gone[:min(4, len(gone))], "; "))
	}
	if was.Images > 0 && now.Images == 0 && now.Drawings <= was.Drawings {
		found.add(Doubtful, "images", fmt.Sprintf("all %d images are gone", was.Images), "")
	} else if was.Images >= manyImages && 2*(now.Images+now.Drawings-was.Drawings) < was.Images {
		found.add(Doubtful, "images", fmt.Sprintf("%d of %d images are gone", was.Images-now.Images, was.Images), "")
	}
	if len(was.Pictures) > 0 && len(now.Pictures) == 0 && now.Images > 0 && now.Drawings <= was.Drawings {
		found.add(Doubtful, "images", fmt.Sprintf("all %s of the page's own part are gone", plural(len(was.Pictures), "image")), "")
	}
	sheets := func(f Facts) int {
		n := 0
		for _, asset := range f.Assets {
			if asset.Kind == "style sheet" {
				n++
			}
		}
		return n
	}
	if sheets(was) > 0 && sheets(now) == 0 && 2*now.Rules < was.Rules+1 { // else they are written into the page
		found.add(Broken, "style sheet", "the page names no style sheet of the site any more", fmt.Sprintf("before: %d", sheets(was)))
	}
}

// saysTheSame tells of a page on which every heading and nearly every word is left.
func saysTheSame(was, now Facts) bool {
	total, lost := lostLetters(was, now)
	return len(was.Headings) > 0 && len(goneHeadings(was, now)) == 0 && 10*lost <= total
}

func loseLandmarks(found *collector, was, now Facts) {
	for _, name := range []string{"header", "main part", "side column", "footer"} {
		if was.Landmarks[name] > 0 && now.Landmarks[name] == 0 {
			found.lose(Doubtful, "layout", name, fmt.Sprintf("the %s is gone", name), "")
		}
		if name == "header" && was.Landmarks[name] > 0 && now.Landmarks[name] > was.Landmarks[name] && now.Inside[name]*10 >= was.Inside[name]*18 {
			found.lose(Doubtful, "layout", name, fmt.Sprintf("the header stands there %d times", now.Landmarks[name]), "")
		}
		if name == "side column" && now.Landmarks[name] > 0 && now.Landmarks[name] < was.Landmarks[name] {
			found.lose(Doubtful, "layout", name, fmt.Sprintf("%d of %d side columns are gone", was.Landmarks[name]-now.Landmarks[name], was.Landmarks[name]), "")
		}
	}
}

// Add puts in a finding that was made outside of the pages' own reading.
func (j *Judgement) Add(finding Finding) {
	j.Verdict = worse(j.Verdict, finding.Verdict)
	j.Pages = append(j.Pages, PageVerdict{Path: finding.Page, Verdict: finding.Verdict, Findings: []Finding{finding}})
}

// Leave takes pages out of a judgement.
func (j *Judgement) Leave(paths []string) {
	j.Pages = slices.DeleteFunc(j.Pages, func(p PageVerdict) bool { return slices.Contains(paths, p.Path) })
	j.count()
}

// Unseen tells whether a page could not be looked at: nothing is known about it.
func (j *Judgement) Unseen() bool {
	return slices.ContainsFunc(j.Pages, func(p PageVerdict) bool {
		return slices.ContainsFunc(p.Findings, func(f Finding) bool { return f.Counts() && f.Check == "not seen" })
	})
}

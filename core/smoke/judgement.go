package smoke

import (
	"bytes"
	"encoding/json"
	"maps"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
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

// Recount sums up the findings: each page is as bad as the worst that counts, and all of them
// as bad as the worst page. No pages at all are never sound.
func (j *Judgement) Recount() {
	j.Verdict = Sound
	if len(j.Pages) == 0 {
		j.Verdict = Doubtful
	}
	for i := range j.Pages {
		page := &j.Pages[i]
		page.Verdict = Sound
		for _, finding := range page.Findings {
			if finding.Counts() {
				page.Verdict = Worse(page.Verdict, finding.Verdict)
			}
		}
		j.Verdict = Worse(j.Verdict, page.Verdict)
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

// Counts tells whether a finding has a say in the verdict.
func (f Finding) Counts() bool { return !f.Known && f.Accepted == "" && f.Verdict != Sound }

// Moving matches numbers, and what identifies a request.
var Moving = regexp.MustCompile(`\b[0-9a-f]*\d[0-9a-f]*\b|\d+`)

// ReadableText is the number of letters below which a page counts as blank.
const ReadableText = 12

// IsPage tells whether the answer says that it is a web page.
func (f Facts) IsPage() bool { return f.Type == "text/html" || f.Type == "application/xhtml+xml" }

// ReadsAsText tells of types that are meant to be read as they are: feeds, data, plain text.
func ReadsAsText(kind string) bool {
	return strings.HasPrefix(kind, "text/") || strings.HasSuffix(kind, "xml") || strings.HasSuffix(kind, "json")
}

// HostOf is the host of an address; of what is none, the text itself.
func HostOf(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return address
	}
	return u.Host
}

// Add puts in a finding that was made outside of the pages' own reading.
func (j *Judgement) Add(finding Finding) {
	j.Verdict = Worse(j.Verdict, finding.Verdict)
	j.Pages = append(j.Pages, PageVerdict{Path: finding.Page, Verdict: finding.Verdict, Findings: []Finding{finding}})
}

// Leave takes pages out of a judgement.
func (j *Judgement) Leave(paths []string) {
	j.Pages = slices.DeleteFunc(j.Pages, func(p PageVerdict) bool { return slices.Contains(paths, p.Path) })
	j.Recount()
}

// Unseen tells whether a page could not be looked at: nothing is known about it.
func (j *Judgement) Unseen() bool {
	return slices.ContainsFunc(j.Pages, func(p PageVerdict) bool {
		return slices.ContainsFunc(p.Findings, func(f Finding) bool { return f.Counts() && f.Check == "not seen" })
	})
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
	if !f.Fault || !f.Counts() || f.Verdict != Broken || f.AtTimes {
		return false
	}
	return f.Check == "status" && facts.Status == http.StatusInternalServerError || slices.Contains([]string{"error text", "cut off", "blank"}, f.Check)
}

// Asset returns what the page loads from a path; nil: nothing.
func (f Facts) Asset(path string) *Asset {
	i := slices.IndexFunc(f.Assets, func(a Asset) bool { return a.Path == path })
	if i < 0 {
		return nil
	}
	return &f.Assets[i]
}

// Is tells whether two pages are asked for in the same way. What says nothing may be written in
// several ways.
func (p Page) Is(other Page) bool {
	one, err1 := json.Marshal(p)
	two, err2 := json.Marshal(other)
	return err1 == nil && err2 == nil && bytes.Equal(one, two)
}

// WithoutPictures leaves out the pictures, whose files may be gone.
func (t *Take) WithoutPictures() *Take {
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

// ElementOf tells the parts of a page apart that findings are about.
func ElementOf(f Finding) string {
	if f.Element != "" {
		return f.Check + "\x00" + f.Element
	}
	return f.Check + "\x00\x00" + Moving.ReplaceAllString(f.What, "0")
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
			found[finding.Page+"\x00"+ElementOf(finding)] = found[finding.Page+"\x00"+ElementOf(finding)] || finding.Counts()
		}
	}
	return !slices.ContainsFunc(j.Pages, func(p PageVerdict) bool {
		return slices.ContainsFunc(p.Findings, func(f Finding) bool { return f.Counts() && !found[f.Page+"\x00"+ElementOf(f)] })
	})
}

// Package smoke tests a site's pages: it fetches them past all caches, reads
// what they show, and compares that with what they showed before.
package smoke

import (
	"time"
)

// Page is one page to test.
type Page struct {
	Path   string   `json:"path"`             // below the site's address, with its query
	Expect []string `json:"expect,omitempty"` // texts that must be on it
}

// Verdict is the judgement of a page or of all of them.
type Verdict string

// The verdicts, from best to worst.
const (
	Sound    Verdict = "sound"
	Doubtful Verdict = "doubtful"
	Broken   Verdict = "broken"
)

func worse(a, b Verdict) Verdict {
	rank := map[Verdict]int{Sound: 0, Doubtful: 1, Broken: 2}
	if rank[b] > rank[a] {
		return b
	}
	return a
}

// Finding is one observed difference or fault on one page.
type Finding struct {
	Page     string  `json:"page"`
	Check    string  `json:"check"`
	Verdict  Verdict `json:"verdict"` // what it makes of the page
	What     string  `json:"what"`    // in words
	Evidence string  `json:"evidence,omitempty"`
	// Known marks what was there before the update: it does not count.
	Known bool `json:"known,omitempty"`
}

// Facts are what a page showed: everything that is compared.
type Facts struct {
	Path      string         `json:"path"`
	Problem   string         `json:"problem,omitempty"` // no answer, and why
	Status    int            `json:"status"`
	Redirects []string       `json:"redirects,omitempty"` // paths; whole addresses on other hosts
	Type      string         `json:"type"`
	Bytes     int            `json:"bytes"`
	Took      time.Duration  `json:"took_ns"`
	Complete  bool           `json:"complete"` // the document ends as it should
	TooLarge  bool           `json:"too_large,omitempty"`
	Title     string         `json:"title"`
	Text      int            `json:"text"` // letters and digits that a reader sees
	Headings  []string       `json:"headings,omitempty"`
	Landmarks map[string]int `json:"landmarks,omitempty"`
	Menus     []Menu         `json:"menus,omitempty"`
	Forms     []Form         `json:"forms,omitempty"`
	Entries   int            `json:"entries"` // articles of a list
	Images    int            `json:"images"`
	NoIndex   bool           `json:"no_index,omitempty"`
	Errors    []string       `json:"errors,omitempty"`  // error texts found on it
	Missing   []string       `json:"missing,omitempty"` // expected texts not found
	Assets    []Asset        `json:"assets,omitempty"`
}

// Menu is one navigation of a page.
type Menu struct {
	Within string   `json:"within"` // the landmark it is in
	Links  []string `json:"links"`
}

// Form is one form of a page.
type Form struct {
	Name   string   `json:"name"` // its id, name or target
	Fields []string `json:"fields"`
}

// Asset is a style sheet, script or image of the site's own that a page names.
type Asset struct {
	Kind    string `json:"kind"` // style sheet, script, image
	Path    string `json:"path"` // without its query
	Problem string `json:"problem,omitempty"`
}

// Take is all pages at one time.
type Take struct {
	At      time.Time `json:"at"`
	Address string    `json:"address"`
	Pages   []Facts   `json:"pages"`
	// NotCovered lists what this place does not offer to test.
	NotCovered []string `json:"not_covered,omitempty"`
}

// Page returns the facts of a page.
func (t *Take) Page(path string) (Facts, bool) {
	for _, facts := range t.Pages {
		if facts.Path == path {
			return facts, true
		}
	}
	return Facts{}, false
}

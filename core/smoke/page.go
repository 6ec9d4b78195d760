// Package smoke is what is said of a site's pages: which are tested (Page), what one look finds on them
// (Facts in a Take), and how they are (Finding, Verdict, Judgement).
//
// Package fetching gets them, reading makes facts of what was got, judging compares facts.
package smoke

import (
	"encoding/json"
	"fmt"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"wetland/core/durable"
	"wetland/core/smoke/browser"
)

// Page is one page to test.
type Page struct {
	Path   string   `json:"path"`             // below the site's address, with its query
	Expect []string `json:"expect,omitempty"` // texts that must be on it
	Has    []string `json:"has,omitempty"`    // CSS selectors of what must be on it
	HasNot []string `json:"has_not,omitempty"`
	Ignore []string `json:"ignore,omitempty"` // CSS selectors of parts that are not compared
	Status int      `json:"status,omitempty"` // that it must answer with; 0: any that is no error
	// LeadsTo is the path that it must redirect to; "": it is not said.
	LeadsTo string        `json:"leads_to,omitempty"`
	Within  time.Duration `json:"within_ns,omitempty"` // how long it may take; 0: it is not said
	// SignedIn fetches it in the session of the Reach.
	SignedIn bool `json:"signed_in,omitempty"`
	// InBrowser says that the browser looks at it before others, or never; nil: as there is room.
	InBrowser *bool `json:"in_browser,omitempty"`
}

// Verdict is the judgement of a page or of all of them.
type Verdict string

// The verdicts, from best to worst.
const (
	Sound    Verdict = "sound"
	Doubtful Verdict = "doubtful"
	Broken   Verdict = "broken"
)

// Rank is 0 for the best verdict, and higher for worse ones.
func (v Verdict) Rank() int { return slices.Index([]Verdict{Sound, Doubtful, Broken}, v) }

// Worse is the worse of two verdicts.
func Worse(a, b Verdict) Verdict {
	if b.Rank() > a.Rank() {
		return b
	}
	return a
}

// Finding is one observed difference or fault on one page.
type Finding struct {
	Page  string `json:"page"`
	Check string `json:"check"`
	// Element is the part of the page that it is about: that menu, that form. "": all of it.
	Element string  `json:"element,omitempty"`
	Verdict Verdict `json:"verdict"` // what it makes of the page
	What    string  `json:"what"`    // in words
	// Status is what the server answers, where the finding is about that.
	Status   int    `json:"status,omitempty"`
	Evidence string `json:"evidence,omitempty"`
	// Known marks what was there before the update: it does not count.
	Known bool `json:"known,omitempty"`
	// AtTimes marks what only some looks at the same state showed.
	AtTimes bool `json:"at_times,omitempty"`
	// Accepted is why a person found it as it should be: it does not count, either.
	Accepted string `json:"accepted,omitempty"`
	// Weighed says which rule of the site gave it its verdict; "": none.
	Weighed string `json:"weighed,omitempty"`

	Fault bool // wrong by itself, not by comparison
}

// String says it in a line: what was found, the evidence, and why it may not count.
func (f Finding) String() string {
	line := f.What
	if f.Evidence != "" {
		line += ": " + f.Evidence
	}
	if f.AtTimes {
		line += " (at times)"
	}
	if f.Known {
		line += " (known from before, does not count)"
	}
	if f.Accepted != "" {
		line += " (accepted: " + f.Accepted + ")"
	}
	if f.Weighed != "" {
		line += " (" + f.Weighed + ")"
	}
	return line
}

// Facts are what a page showed: everything that is compared.
type Facts struct {
	Path        string         `json:"path"`
	Own         string         `json:"own,omitempty"`     // its address without the host, if Path is another
	Problem     string         `json:"problem,omitempty"` // no answer, and why
	Status      int            `json:"status"`
	Redirects   []string       `json:"redirects,omitempty"` // paths; whole addresses on other hosts
	Kind        string         `json:"kind,omitempty"`      // by what template it seems to be made
	Type        string         `json:"type"`
	Bytes       int            `json:"bytes"`
	Took        time.Duration  `json:"took_ns"`
	Complete    bool           `json:"complete"` // the document ends as it should
	TooLarge    bool           `json:"too_large,omitempty"`
	Title       string         `json:"title"`
	Text        int            `json:"text"` // letters and digits that a reader sees
	Headings    []string       `json:"headings,omitempty"`
	Landmarks   map[string]int `json:"landmarks,omitempty"`
	Menus       []Menu         `json:"menus,omitempty"`
	Forms       []Form         `json:"forms,omitempty"`
	Entries     int            `json:"entries"` // articles of a list
	Images      int            `json:"images"`
	Drawings    int            `json:"drawings,omitempty"` // SVG in the page
	Pictures    []string       `json:"pictures,omitempty"` // marks of those in its main part
	NoIndex     bool           `json:"no_index,omitempty"`
	ShutOut     bool           `json:"shut_out,omitempty"` // on the front page: robots.txt shuts out all search engines
	Language    string         `json:"language,omitempty"`
	Canonical   string         `json:"canonical,omitempty"`
	Damaged     int            `json:"damaged,omitempty"` // letters that came through the wrong character set
	Mixed       []string       `json:"mixed,omitempty"`   // files over plain HTTP on a page over HTTPS
	Data        []string       `json:"data,omitempty"`    // kinds of things that structured data describes
	Scripts     []string       `json:"scripts,omitempty"` // scripts that cannot be read
	Rules       int            `json:"rules,omitempty"`   // of all its style sheets
	Parts       []Part         `json:"parts,omitempty"`
	HasFont     bool           `json:"has_font,omitempty"` // a style sheet says in which letters it is set
	RightToLeft bool           `json:"right_to_left,omitempty"`
	Quirks      bool           `json:"quirks,omitempty"`   // it does not say that it is HTML: browsers lay it out as those of old did
	Reloads     bool           `json:"reloads,omitempty"`  // browsers are told to load it anew at once
	Embeds      int            `json:"embeds,omitempty"`   // maps, films, players
	Attached    bool           `json:"attached,omitempty"` // browsers are told to keep it as a file
	Moves       string         `json:"moves,omitempty"`    // where browsers are told to go on to; a path on this site
	// Words, Sections and Tables are what the page says: how often each word stands in its
	// main part, and how many letters under each heading.
	Words    map[string]int `json:"words,omitempty"`
	Sections map[string]int `json:"sections,omitempty"`
	Tables   []Table        `json:"tables,omitempty"`
	Passages []string       `json:"passages,omitempty"` // of its text, in small letters
	// Settings are the custom properties that its style sheets set; Unset, those that they
	// use and nothing sets.
	Settings   []string `json:"settings,omitempty"`
	Unset      []string `json:"unset,omitempty"`
	FitsPhones bool     `json:"fits_phones,omitempty"` // it asks for the width of the screen
	Leaks      []string `json:"leaks,omitempty"`       // signs of templates that stand on the page
	Groups     []Group  `json:"groups,omitempty"`      // of its main part
	Rows       []Row    `json:"rows,omitempty"`
	Blocks     []Block  `json:"blocks,omitempty"`      // around its landmarks
	FrameMarks []string `json:"frame_marks,omitempty"` // of all that stands outside of its main part
	Buttons    []string `json:"buttons,omitempty"`     // outside of forms: what they say
	// Filled and Hollow count the elements of each kind in which something is, and the empty ones.
	Filled   map[string]int `json:"filled,omitempty"`
	Hollow   map[string]int `json:"hollow,omitempty"`
	Marks    []string       `json:"marks,omitempty"`    // of all that its main part shows
	Prices   []string       `json:"prices,omitempty"`   // amounts of money, in their order
	Contacts []string       `json:"contacts,omitempty"` // telephone numbers and mail addresses that are links
	// Links lead to pages of the site; Dead, of those that are new, to nothing.
	Links     []Link   `json:"links,omitempty"`
	Dead      []Link   `json:"dead,omitempty"`
	DeadForms []string `json:"dead_forms,omitempty"` // are sent to nothing
	// Inside is how many letters each landmark holds.
	Inside map[string]int `json:"inside,omitempty"`
	// Unknown says why the page itself was not seen: something else answered for it.
	Unknown string `json:"unknown,omitempty"`
	Wanted  Page   `json:"wanted,omitzero"`
	// Visitor is what a plain visitor gets; nil: nobody asked.
	Visitor *Visit `json:"visitor,omitempty"`
	// Sights are how the page looks in a browser, by width; nil: nobody looked.
	Sights  map[string]browser.Sight `json:"sights,omitempty"`
	Errors  []string                 `json:"errors,omitempty"`  // error texts found on it
	Missing []string                 `json:"missing,omitempty"` // expected texts not found
	Loads   []string                 `json:"loads,omitempty"`   // style sheets, scripts and images, with the queries of their addresses
	Assets  []Asset                  `json:"assets,omitempty"`
}

// Asset is a style sheet, script or image of the site's own that a page names.
type Asset struct {
	Kind    string `json:"kind"` // style sheet, script, image, font, frame
	Path    string `json:"path"` // without its query
	Problem string `json:"problem,omitempty"`
	Syntax  string `json:"syntax,omitempty"` // of a script: why it cannot be read
	Bytes   int    `json:"bytes,omitempty"`
	Rules   int    `json:"rules,omitempty"`   // of a style sheet
	Fits    int    `json:"fits,omitempty"`    // of its selectors with classes, those whose classes are on the page
	Letters int    `json:"letters,omitempty"` // of a frame: what a reader can read in it
}

// Take is all pages at one time.
type Take struct {
	At      time.Time `json:"at"`
	Address string    `json:"address"`
	Pages   []Facts   `json:"pages"`
	// NotCovered lists what this place does not offer to test.
	NotCovered []string `json:"not_covered,omitempty"`
	// Moving is what changes by itself: the like of it is not compared. AtTimes is what was
	// wrong in some looks at the same state only: it is known.
	Moving  []Finding `json:"moving,omitempty"`
	AtTimes []Finding `json:"at_times,omitempty"`
}

// Has tells whether a page was looked at.
func (t *Take) Has(path string) bool {
	_, ok := t.Page(path)
	return ok
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

// Save writes a take to a file, whole or not at all.
func (t *Take) Save(file string) error {
	text, err := json.MarshalIndent(t, "", "  ")
	if err != nil {
		return err
	}
	return durable.WriteFile(file, append(text, '\n'))
}

// LoadTake reads what Save wrote.
func LoadTake(file string) (*Take, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	var take Take
	if err := json.Unmarshal(text, &take); err != nil {
		return nil, fmt.Errorf("%s is damaged: %w", file, err)
	}
	return &take, nil
}

// Shared is what is said of several pages: one cause is told once, with all of its pages.
type Shared[What comparable] struct {
	What  What
	Pages []string
}

// Share adds a page to those of which the same is said; what was said first stays first.
func Share[What comparable](all []Shared[What], what What, page string) []Shared[What] {
	i := slices.IndexFunc(all, func(s Shared[What]) bool { return s.What == what })
	if i < 0 {
		return append(all, Shared[What]{what, []string{page}})
	}
	if !slices.Contains(all[i].Pages, page) {
		all[i].Pages = append(all[i].Pages, page)
	}
	return all
}

// Visit is a page as a plain visitor gets it, whom caches may answer.
type Visit struct {
	// Faults are what is wrong with it and not with the page itself.
	Faults []string `json:"faults,omitempty"`
	// Earlier tells that it is not the page as it is now.
	Earlier bool `json:"earlier,omitempty"`
	// Cache is how the answer says that it comes from a cache, "" if it does not.
	Cache string `json:"cache,omitempty"`
}

// IsFile tells of links that lead to no page.
func IsFile(p string) bool {
	ext := strings.ToLower(path.Ext(p))
	return ext != "" && ext != ".html" && ext != ".htm" && ext != ".php"
}

// Style is read without a browser: of each landmark, which of the declarations that
// decide about the layout win the cascade, at two widths. Colours, sizes and fonts are
// none of it: they change in harmless updates.

// Widths are those of a desktop and a phone, in CSS pixels.
var Widths = []Width{{"desktop", 1280}, {"phone", 390}}

// width is that of a window.
type Width struct {
	Name   string
	Pixels float64
}

// Limits of what is read of one answer.
const (
	LargestPage  = 8 << 20
	LargestAsset = 8 << 20
	MostAssets   = 300 // of all pages together
	MostHops     = 10  // redirects
)

// AnyBrowser as BrowserProgram takes an installed Chromium or Chrome.
const AnyBrowser = "any"

// Absolute is a number without its sign.
func Absolute(n int) int { return max(n, -n) }

// RobotsFile is where a site tells search engines what they may read (RFC 9309).
const RobotsFile = "/robots.txt"

package judging

import (
	"fmt"
	"slices"
	"time"

	"wetland/core/smoke"
)

// Rules say how findings count where the usual way does not fit a site.
type Rules struct {
	Weights  []Weight
	Accepted []Acceptance
}

// Weight gives findings of one kind another verdict.
type Weight struct {
	Check   string        // as in Checks
	Pages   []string      // paths; none: all
	As      smoke.Verdict // Sound: they do not count
	Because string
}

// Acceptance is a person's word that a finding is as it should be.
type Acceptance struct {
	Page    string    `json:"page"`
	Check   string    `json:"check"`
	What    string    `json:"what"`
	Because string    `json:"because"`
	Run     string    `json:"run"`
	Who     string    `json:"who"`
	At      time.Time `json:"at"`
}

// Checks names every kind of finding.
var Checks = []string{
	"active", "answer", "blank", "browser", "canonical", "cut off", "data", "error text", "expected text", "font", "form", "headings",
	"hidden", "image", "images", "language", "layout", "letters", "links", "list", "menu", "mixed content", "new files", "not seen",
	"php log", "redirect", "robots", "script", "size", "speed", "status", "structured data", "style sheet", "text", "title",
	"type", "visitors",
}

// Apply weighs the findings of a judgement anew. An accepted finding must be the very
// same one; what is broken cannot be accepted, only weighed otherwise.
func (r Rules) Apply(j *smoke.Judgement) {
	if len(r.Weights)+len(r.Accepted) == 0 {
		return
	}
	for i := range j.Pages {
		for k := range j.Pages[i].Findings {
			r.weigh(&j.Pages[i].Findings[k])
		}
	}
	j.Recount()
}

func (r Rules) weigh(finding *smoke.Finding) {
	for _, weight := range r.Weights {
		if weight.Check == finding.Check && finding.Verdict != smoke.Sound && (len(weight.Pages) == 0 || slices.Contains(weight.Pages, finding.Page)) {
			finding.Verdict = weight.As
			finding.Weighed = fmt.Sprintf("counts as %s: %s", weight.As, weight.Because)
		}
	}
	for _, accepted := range r.Accepted {
		if finding.Verdict == smoke.Doubtful && accepted.Page == finding.Page && accepted.Check == finding.Check && accepted.What == finding.What {
			finding.Accepted = accepted.Because
		}
	}
}

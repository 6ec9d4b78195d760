package runs

import (
	"strings"

	"wetland/core/advice"
)

// Reason is one thing that stands against going on, and what to do about it.
type Reason struct {
	What string        `json:"what"`
	Do   []advice.Step `json:"do,omitempty"` // about it
}

// Refusal says that nothing was touched, and every reason why.
type Refusal struct {
	Reasons []Reason
	// Unlooked tells that the pages were not looked at: the reasons need none.
	Unlooked bool
}

// Error lists the reasons.
func (r *Refusal) Error() string {
	lines := []string{r.Head()}
	for _, reason := range r.Reasons {
		line := "- " + reason.What
		for _, step := range reason.Do {
			line += "\n  " + step.Say
		}
		lines = append(lines, line)
	}
	return strings.Join(lines, "\n")
}

// Head says in a line what a refusal means for the site.
func (r *Refusal) Head() string {
	if r.Unlooked {
		return "refused; nothing on the site was touched, and the pages were not looked at"
	}
	return "refused; nothing on the site was touched"
}

// Reasons gathers what stands against going on.
type Reasons []Reason

// Add notes one thing that stands against going on, and what to do about it.
func (r *Reasons) Add(what, do string) { r.Advise(what, advice.Steps(do)...) }

// Advise is Add with any steps.
func (r *Reasons) Advise(what string, steps ...advice.Step) {
	*r = append(*r, Reason{What: what, Do: steps})
}

// AddError notes an error, with the advice in it besides.
func (r *Reasons) AddError(err error, do string) {
	r.Advise(err.Error(), append(advice.Steps(do), advice.Of(err)...)...)
}

// Refusal returns the gathered reasons as an error, or nil if there are none.
func (r Reasons) Refusal() error {
	if len(r) == 0 {
		return nil
	}
	return &Refusal{Reasons: r}
}

// RefusalBeforeLook is refusal before the pages are looked at.
func (r Reasons) RefusalBeforeLook() error {
	if len(r) == 0 {
		return nil
	}
	return &Refusal{Reasons: r, Unlooked: true}
}

package runs

import (
	"strings"
	"wetland/core/advice"
)

// Reason is one thing that stands against going on, and what to do about it.
type Reason struct {
	What    string          `json:"what"` // "": one more thing to do about the reason before
	Do      string          `json:"do,omitempty"`
	Command *advice.Command `json:"command,omitempty"` // that Do leads to
	Next    []advice.Step   `json:"next,omitempty"`    // what else can be done
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
		if reason.What == "" {
			line = "" // more to do about the last one
		}
		if reason.Do != "" {
			line += "\n  " + reason.Do
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
func (r *Reasons) Add(what, do string) { *r = append(*r, Reason{What: what, Do: do}) }

// AddError notes an error, with the advice in it.
func (r *Reasons) AddError(err error, do string) {
	*r = append(*r, Reason{What: err.Error(), Do: do, Next: advice.Of(err)})
}

// Advise is Add where Wetland can do something about it; do leads to that.
func (r *Reasons) Advise(what, do string, operation advice.Operation, with ...string) {
	*r = append(*r, Reason{What: what, Do: do, Command: advice.To(operation, with...)})
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

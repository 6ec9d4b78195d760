package update

import (
	"strings"
)

// Reason is one thing that stands against going on, and what to do about it.
type Reason struct {
	What string `json:"what"`
	Do   string `json:"do,omitempty"`
}

// Refusal says that nothing was touched, and every reason why.
type Refusal struct{ Reasons []Reason }

// Error lists the reasons.
func (r *Refusal) Error() string {
	lines := []string{"refused; nothing on the site was touched"}
	for _, reason := range r.Reasons {
		line := "- " + reason.What
		if reason.Do != "" {
			line += "\n  " + reason.Do
		}
		lines = append(lines, line)
	}
	return strings.Join(lines, "\n")
}

// reasons gathers what stands against going on.
type reasons []Reason

func (r *reasons) add(what, do string) { *r = append(*r, Reason{What: what, Do: do}) }

// refusal returns the gathered reasons as an error, or nil if there are none.
func (r reasons) refusal() error {
	if len(r) == 0 {
		return nil
	}
	return &Refusal{Reasons: r}
}

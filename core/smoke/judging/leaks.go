package judging

import (
	"slices"

	"wetland/core/smoke"
)

func loseLeaks(found *Collector, was, now smoke.Facts) {
	for _, leak := range now.Leaks {
		if !slices.Contains(was.Leaks, leak) {
			found.add(smoke.Doubtful, "error text", "a template's own sign stands on the page, and not what belongs there", leak)
		}
	}
}

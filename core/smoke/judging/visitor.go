package judging

import (
	"cmp"
	"wetland/core/smoke"
)

// visitFaults finds what visitors get from a cache and the page itself no more has.
func visitFaults(found *Collector, now smoke.Facts) {
	if now.Visitor == nil {
		return
	}
	for _, what := range now.Visitor.Faults {
		found.add(smoke.Broken, "visitors", "plain visitors get another answer than the page itself: "+what, cmp.Or(now.Visitor.Cache, "nothing in the answer names a cache"))
	}
}

// visitNotes tells of an answer from before that visitors still get. It does not count:
// the cache forgets it by itself.
func visitNotes(found *Collector, now smoke.Facts) {
	if v := now.Visitor; v != nil && v.Earlier && len(v.Faults) == 0 {
		found.add(smoke.Sound, "visitors", "plain visitors still get an earlier page from a cache", cmp.Or(v.Cache, "nothing in the answer names one, but it is the page from before"))
	}
}

package judging

import (
	"maps"
	"slices"
	"strings"

	"wetland/core/smoke"
)

func loseFilled(found *Collector, was, now smoke.Facts) {
	if now.Filled == nil {
		return
	}
	var kinds []string
	for _, kind := range slices.Sorted(maps.Keys(was.Filled)) {
		before, emptied := was.Filled[kind], now.Hollow[kind]-was.Hollow[kind]
		if emptied > 0 && 2*emptied >= before && 2*now.Filled[kind] <= before {
			kinds = append(kinds, kind)
		}
	}
	if len(kinds) == 0 {
		return
	}
	found.lose(smoke.Doubtful, "text", kinds[0], "elements that had content are empty now", strings.Join(kinds[:min(4, len(kinds))], ", "))
}

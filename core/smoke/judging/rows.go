package judging

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"wetland/core/phrase"
	"wetland/core/smoke"
	"wetland/core/smoke/reading"
)

// loseRowsOf finds rows whose parts stand one below the other. Where a browser looked, it tells
// it better.
func loseRowsOf(found *Collector, was, now smoke.Facts) {
	if len(was.Sights) > 0 && len(now.Sights) > 0 || len(now.Rows) >= reading.MostRows {
		return
	}
	for _, width := range smoke.Widths {
		var lost []string
		for _, row := range was.Rows {
			if !slices.Contains(row.Side, width.Name) {
				continue
			}
			same := reading.Standing(now.Rows, row)
			if len(same) > 0 && !slices.ContainsFunc(same, func(r smoke.Row) bool { return slices.Contains(r.Side, width.Name) }) && !slices.Contains(lost, row.Name) {
				lost = append(lost, row.Name)
			}
		}
		sayStacked(found, width.Name, lost)
	}
}

func sayStacked(found *Collector, width string, lost []string) {
	if len(lost) > 0 {
		found.lose(smoke.Doubtful, "layout", "rows on a "+width, fmt.Sprintf("on a %s, columns are stacked that stood side by side, in %s", width, phrase.Plural(len(lost), "row")), strings.Join(lost[:min(3, len(lost))], ", "))
	}
}

// loseSeenRows finds rows that the browser laid out side by side, and one below the other now.
func loseSeenRows(found *Collector, width string, was, now map[string]int) {
	var lost []string
	for _, says := range slices.Sorted(maps.Keys(was)) {
		if after, stands := now[says]; was[says] >= 2 && stands && after == 1 {
			lost = append(lost, says)
		}
	}
	sayStacked(found, width, lost)
}

// mergeRows keeps the rows that stood side by side in both takes.
func mergeRows(a, b []smoke.Row) []smoke.Row {
	var kept []smoke.Row
	for _, row := range a {
		row.Side = slices.DeleteFunc(slices.Clone(row.Side), func(width string) bool {
			return !slices.ContainsFunc(reading.Standing(b, row), func(r smoke.Row) bool { return slices.Contains(r.Side, width) })
		})
		if len(row.Side) > 0 {
			kept = append(kept, row)
		}
	}
	return kept
}

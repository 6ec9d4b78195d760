package judging

import (
	"fmt"
	"slices"

	"wetland/core/smoke"
	"wetland/core/smoke/reading"
)

func loseGroups(found *Collector, was, now smoke.Facts) {
	if now.Marks == nil || len(now.Marks) >= reading.MostMarks || hasOwnWords(was) ||
		slices.ContainsFunc(*found, func(f smoke.Finding) bool { return slices.Contains([]string{"text", "list", "images"}, f.Check) }) {
		return // which is said already
	}
	stands := counted(now.Marks)
	for _, group := range was.Groups {
		lost := 0
		for _, member := range group.Members {
			if !slices.ContainsFunc(member, func(one string) bool { return stands[one] > 0 }) {
				lost++
			}
		}
		if lost >= 2 && 2*lost >= len(group.Members) {
			found.lose(smoke.Doubtful, "list", group.Name, fmt.Sprintf("%d of %d parts side by side (%s) are gone", lost, len(group.Members), group.Name), "")
			return // what is around or in them says it again
		}
	}
}

// mergeGroups keeps the members of which something stood still.
func mergeGroups(groups []smoke.Group, marks []string) []smoke.Group {
	stands := counted(marks)
	var kept []smoke.Group
	for _, group := range groups {
		steady := smoke.Group{Name: group.Name}
		for _, member := range group.Members {
			if still := slices.DeleteFunc(slices.Clone(member), func(one string) bool { return stands[one] == 0 }); len(still) > 0 {
				steady.Members = append(steady.Members, still)
			}
		}
		if len(steady.Members) >= reading.LeastGroup {
			kept = append(kept, steady)
		}
	}
	return kept
}

package judging

import (
	"slices"

	"wetland/core/smoke"
)

// likePart tells how alike two parts are. Of those that say the same, the one that looks the
// same is meant: a menu for phones often stands beside the one for desktops.
func likePart(a, b smoke.Part) float64 {
	if a.Name != b.Name {
		return 0
	}
	looks := 0.0
	for _, width := range smoke.Widths {
		looks += points(a.Layout[width.Name] == b.Layout[width.Name] && slices.Contains(a.Hidden, width.Name) == slices.Contains(b.Hidden, width.Name), 0.5)
	}
	return 0.5 + 4*share(a.Says, b.Says) + points(a.Within == b.Within, 1) + looks
}

func sameParts(a, b []smoke.Part) []int {
	return pairs(len(a), len(b), func(i, j int) float64 { return likePart(a[i], b[j]) })
}

// mergeParts keeps the parts that both takes have, and of their layout what stood still.
func mergeParts(a, b []smoke.Part) []smoke.Part {
	var merged []smoke.Part
	for i, j := range sameParts(a, b) {
		if j < 0 {
			continue
		}
		part := a[i]
		part.Says, part.Hidden = both(part.Says, b[j].Says), either(part.Hidden, b[j].Hidden)
		part.Layout = map[string]string{}
		for width, how := range a[i].Layout {
			if b[j].Layout[width] == how {
				part.Layout[width] = how
			}
		}
		merged = append(merged, part)
	}
	return merged
}

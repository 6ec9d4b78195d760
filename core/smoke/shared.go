package smoke

import "slices"

// Shared is what is said of several pages: one cause is told once, with all of its pages.
type Shared[What comparable] struct {
	What  What
	Pages []string
}

// Share adds a page to those of which the same is said; what was said first stays first.
func Share[What comparable](all []Shared[What], what What, page string) []Shared[What] {
	i := slices.IndexFunc(all, func(s Shared[What]) bool { return s.What == what })
	if i < 0 {
		return append(all, Shared[What]{what, []string{page}})
	}
	if !slices.Contains(all[i].Pages, page) {
		all[i].Pages = append(all[i].Pages, page)
	}
	return all
}

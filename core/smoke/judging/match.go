package judging

import (
	"slices"

	"wetland/core/smoke"
)

// Things of which a page has several - menus, forms, tables, landmarks, headings - are
// compared one with one: each with the one that is most like it in content and place, and
// none with two. Else the second of two equal ones would be held against the first.

// pairs matches the first n things with m others. likeness tells how alike two are; from 0
// down they are not the same thing. It returns for each of the first its partner's number,
// or -1. The most alike find each other first; among equals those at the same place.
func pairs(n, m int, likeness func(i, j int) float64) []int {
	type pair struct {
		i, j  int
		alike float64
	}
	var all []pair
	for i := range n {
		for j := range m {
			if alike := likeness(i, j); alike > 0 {
				all = append(all, pair{i, j, alike})
			}
		}
	}
	slices.SortStableFunc(all, func(a, b pair) int {
		switch {
		case a.alike > b.alike:
			return -1
		case a.alike < b.alike:
			return 1
		}
		return smoke.Absolute(a.i-a.j) - smoke.Absolute(b.i-b.j)
	})
	partners := slices.Repeat([]int{-1}, n)
	taken := make([]bool, m)
	for _, p := range all {
		if partners[p.i] < 0 && !taken[p.j] {
			partners[p.i], taken[p.j] = p.j, true
		}
	}
	return partners
}

// both returns what of a is in b, too, each as often as it is in both.
func both(a, b []string) []string {
	left := counted(b)
	return slices.DeleteFunc(slices.Clone(a), func(s string) bool {
		left[s]--
		return left[s] < 0
	})
}

// minus returns what of a is not in b; of what is in a more often, the rest.
func minus(a, b []string) []string {
	left := counted(b)
	return slices.DeleteFunc(slices.Clone(a), func(s string) bool {
		left[s]--
		return left[s] >= 0
	})
}

func counted(list []string) map[string]int {
	count := map[string]int{}
	for _, s := range list {
		count[s]++
	}
	return count
}

// either returns a, and what of b is not in it.
func either(a, b []string) []string {
	return slices.Concat(a, slices.DeleteFunc(slices.Clone(b), func(s string) bool { return slices.Contains(a, s) }))
}

// share is how much of two lists is in both: 1 of equal ones, 0 of those that have nothing
// in common (Dice's coefficient).
func share(a, b []string) float64 {
	if len(a)+len(b) == 0 {
		return 1
	}
	return 2 * float64(len(both(a, b))) / float64(len(a)+len(b))
}

// points are what likeness is made of: content counts for more than place.
func points(yes bool, of float64) float64 {
	if yes {
		return of
	}
	return 0
}

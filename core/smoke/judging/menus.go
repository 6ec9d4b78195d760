package judging

import (
	"fmt"
	"slices"
	"strings"

	"wetland/core/smoke"
	"wetland/core/smoke/reading"
)

// likeMenu tells how alike two menus are. Those that have no link in common, neither in
// words nor in where it leads, are two.
func likeMenu(a, b smoke.Menu) float64 {
	words, targets := share(a.Links, b.Links), 0.0
	if a, b := a.Targets(), b.Targets(); len(a)+len(b) > 0 {
		targets = share(a, b)
	}
	if words == 0 && targets == 0 {
		return 0
	}
	return 2*words + targets + points(a.Within == b.Within, 1)
}

func sameMenus(a, b []smoke.Menu) []int {
	return pairs(len(a), len(b), func(i, j int) float64 { return likeMenu(a[i], b[j]) })
}

func loseMenus(found *Collector, was, now smoke.Facts) {
	for i, j := range sameMenus(was.Menus, now.Menus) {
		menu := reading.WithoutSteps(was.Menus[i], now)
		if len(menu.Links) == 0 {
			continue
		}
		if j < 0 {
			loseMenu(found, menu, now)
			continue
		}
		loseMenuLinks(found, menu, now.Menus[j])
		if now.Menus[j].Within != menu.Within {
			found.lose(smoke.Doubtful, "layout", menu.Name(), fmt.Sprintf("the menu moved from the %s to the %s", menu.Within, now.Menus[j].Within), "")
		}
	}
}

// fewLinks is up to how many links other words say nothing: "Older", "Newer".
const fewLinks = 2

// loseMenu tells of a menu that is gone. Where every link of it still stands in another
// menu, visitors get there.
func loseMenu(found *Collector, menu smoke.Menu, now smoke.Facts) {
	verdict, stands := smoke.Broken, ""
	for _, other := range now.Menus {
		if len(minus(menu.Links, other.Links)) == 0 {
			verdict, stands = smoke.Doubtful, "; its links still stand in the "+other.Name()
		}
	}
	found.lose(verdict, "menu", menu.Name(), fmt.Sprintf("the menu with %d links in the %s is gone%s", len(menu.Links), menu.Within, stands), strings.Join(menu.Links[:min(5, len(menu.Links))], ", "))
}

// loseMenuLinks compares a menu with what it is now.
func loseMenuLinks(found *Collector, menu, stands smoke.Menu) {
	gone := minus(menu.Links, stands.Links)
	if len(gone) == 0 {
		return
	}
	renamed := renamedLinks(menu, stands, gone)
	lost := minus(gone, renamed)
	switch {
	case len(lost) == 0 && len(menu.Links) <= fewLinks:
	case len(renamed) == len(menu.Links):
		found.lose(smoke.Doubtful, "menu", menu.Name(), fmt.Sprintf("all %d links of the menu have other words", len(menu.Links)), strings.Join(stands.Links[:min(5, len(stands.Links))], ", "))
	case len(lost) > 0:
		found.lose(smoke.Doubtful, "menu", menu.Name(), fmt.Sprintf("the menu lost %d of %d links", len(lost), len(menu.Links)), strings.Join(lost, ", "))
	case 2*len(renamed) > len(menu.Links):
		found.lose(smoke.Doubtful, "menu", menu.Name(), fmt.Sprintf("%d of %d links of the menu have other words", len(renamed), len(menu.Links)), strings.Join(renamed, ", "))
	}
}

// renamedLinks lists those of a menu's gone words whose address still stands in it, under
// words that are new.
func renamedLinks(menu, stands smoke.Menu, gone []string) []string {
	fresh := minus(stands.Links, menu.Links)
	var targets []string
	for i, words := range stands.Links {
		if slices.Contains(fresh, words) && stands.Target(i) != "" {
			targets = append(targets, stands.Target(i))
		}
	}
	var renamed []string
	for i, words := range menu.Links {
		at := slices.Index(targets, menu.Target(i))
		if at >= 0 && slices.Contains(gone, words) {
			targets = slices.Delete(targets, at, at+1)
			renamed = append(renamed, words)
		}
	}
	return renamed
}

// mergeMenus keeps the links that stood still.
func mergeMenus(a, b []smoke.Menu) []smoke.Menu {
	var merged []smoke.Menu
	for i, j := range sameMenus(a, b) {
		if j < 0 || a[i].Within != b[j].Within {
			continue
		}
		kept := smoke.Menu{Within: a[i].Within}
		left := slices.Clone(b[j].Links)
		for k, words := range a[i].Links {
			at := slices.Index(left, words)
			if at < 0 {
				continue
			}
			to := a[i].Target(k)
			if to != b[j].Target(at) {
				to = ""
			}
			left[at] = "" // no link is without words: it is used
			kept.Links, kept.To = append(kept.Links, words), append(kept.To, to)
		}
		if len(kept.Links) > 0 {
			merged = append(merged, kept)
		}
	}
	return merged
}

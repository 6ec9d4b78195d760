package smoke

import (
	"cmp"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"
)

// Menu is one navigation of a page.
type Menu struct {
	Within string   `json:"within"` // the landmark it is in
	Links  []string `json:"links"`  // their words
	To     []string `json:"to"`     // where each leads; "": it is not known, or changes
}

func readMenu(s *goquery.Selection, base *url.URL) Menu {
	menu := Menu{Within: within(s)}
	s.Find("a[href]").Each(func(_ int, link *goquery.Selection) {
		text := readable(link.Text())
		if text == "" {
			return
		}
		to := ""
		if target, err := base.Parse(strings.TrimSpace(link.AttrOr("href", ""))); err == nil {
			to = withoutMark(target).RequestURI()
		}
		menu.Links, menu.To = append(menu.Links, text), append(menu.To, to)
	})
	return menu
}

// likeMenu tells how alike two menus are. Those that have no link in common, neither in
// words nor in where it leads, are two.
func likeMenu(a, b Menu) float64 {
	words, targets := share(a.Links, b.Links), 0.0
	if a, b := a.targets(), b.targets(); len(a)+len(b) > 0 {
		targets = share(a, b)
	}
	if words == 0 && targets == 0 {
		return 0
	}
	return 2*words + targets + points(a.Within == b.Within, 1)
}

func sameMenus(a, b []Menu) []int {
	return pairs(len(a), len(b), func(i, j int) float64 { return likeMenu(a[i], b[j]) })
}

// to returns where a link leads. Menus that were recorded long ago do not tell.
func (m Menu) to(i int) string {
	if i >= len(m.To) {
		return ""
	}
	return m.To[i]
}

func (m Menu) targets() []string {
	return slices.DeleteFunc(slices.Clone(m.To), func(to string) bool { return to == "" })
}

// name says which menu of its page it is.
func (m Menu) name() string { return "menu in the " + m.Within }

func loseMenus(found *collector, was, now Facts) {
	for i, j := range sameMenus(was.Menus, now.Menus) {
		menu := was.Menus[i].withoutSteps(now)
		if len(menu.Links) == 0 {
			continue
		}
		if j < 0 {
			loseMenu(found, menu, now)
			continue
		}
		loseMenuLinks(found, menu, now.Menus[j])
		if now.Menus[j].Within != menu.Within {
			found.lose(Doubtful, "layout", menu.name(), fmt.Sprintf("the menu moved from the %s to the %s", menu.Within, now.Menus[j].Within), "")
		}
	}
}

var (
	stepPath  = regexp.MustCompile(`/(?:page/\d+|comment-page-\d+|page-\d+)(/?)$`)
	stepQuery = []string{"paged", "page", "cpage", "pg"}
)

// isStep tells of a link to another page of the same list, by the forms that addresses of
// those have by custom.
func isStep(from, to string) bool {
	bare := func(address string) string {
		at, err := url.Parse(address)
		if err != nil {
			return address
		}
		at.Path = strings.TrimSuffix(stepPath.ReplaceAllString(at.Path, "$1"), "/")
		query := at.Query()
		for _, name := range stepQuery {
			query.Del(name)
		}
		at.RawQuery = query.Encode()
		return at.RequestURI()
	}
	return from != to && to != "" && bare(from) == bare(to)
}

// withoutSteps leaves out the links to further pages of the page's own list, if there is still
// one of them: how many there are and what they are called is the theme's.
func (m Menu) withoutSteps(now Facts) Menu {
	own := cmp.Or(now.Own, now.Path)
	stands := slices.ContainsFunc(now.Links, func(l Link) bool { return isStep(own, l.To) })
	if !stands {
		return m
	}
	kept := Menu{Within: m.Within}
	for i, words := range m.Links {
		if !isStep(own, m.to(i)) {
			kept.Links, kept.To = append(kept.Links, words), append(kept.To, m.to(i))
		}
	}
	return kept
}

// fewLinks is up to how many links other words say nothing: "Older", "Newer".
const fewLinks = 2

// loseMenu tells of a menu that is gone. Where every link of it still stands in another
// menu, visitors get there.
func loseMenu(found *collector, menu Menu, now Facts) {
	verdict, stands := Broken, ""
	for _, other := range now.Menus {
		if len(minus(menu.Links, other.Links)) == 0 {
			verdict, stands = Doubtful, "; its links still stand in the "+other.name()
		}
	}
	found.lose(verdict, "menu", menu.name(), fmt.Sprintf("the menu with %d links in the %s is gone%s", len(menu.Links), menu.Within, stands), strings.Join(menu.Links[:min(5, len(menu.Links))], ", "))
}

// loseMenuLinks compares a menu with what it is now.
func loseMenuLinks(found *collector, menu, stands Menu) {
	gone := minus(menu.Links, stands.Links)
	if len(gone) == 0 {
		return
	}
	renamed := renamedLinks(menu, stands, gone)
	lost := minus(gone, renamed)
	switch {
	case len(lost) == 0 && len(menu.Links) <= fewLinks:
	case len(renamed) == len(menu.Links):
		found.lose(Doubtful, "menu", menu.name(), fmt.Sprintf("all %d links of the menu have other words", len(menu.Links)), strings.Join(stands.Links[:min(5, len(stands.Links))], ", "))
	case len(lost) > 0:
		found.lose(Doubtful, "menu", menu.name(), fmt.Sprintf("the menu lost %d of %d links", len(lost), len(menu.Links)), strings.Join(lost, ", "))
	case 2*len(renamed) > len(menu.Links):
		found.lose(Doubtful, "menu", menu.name(), fmt.Sprintf("%d of %d links of the menu have other words", len(renamed), len(menu.Links)), strings.Join(renamed, ", "))
	}
}

// renamedLinks lists those of a menu's gone words whose address still stands in it, under
// words that are new.
func renamedLinks(menu, stands Menu, gone []string) []string {
	fresh := minus(stands.Links, menu.Links)
	var targets []string
	for i, words := range stands.Links {
		if slices.Contains(fresh, words) && stands.to(i) != "" {
			targets = append(targets, stands.to(i))
		}
	}
	var renamed []string
	for i, words := range menu.Links {
		at := slices.Index(targets, menu.to(i))
		if at >= 0 && slices.Contains(gone, words) {
			targets = slices.Delete(targets, at, at+1)
			renamed = append(renamed, words)
		}
	}
	return renamed
}

// mergeMenus keeps the links that stood still.
func mergeMenus(a, b []Menu) []Menu {
	var merged []Menu
	for i, j := range sameMenus(a, b) {
		if j < 0 || a[i].Within != b[j].Within {
			continue
		}
		kept := Menu{Within: a[i].Within}
		left := slices.Clone(b[j].Links)
		for k, words := range a[i].Links {
			at := slices.Index(left, words)
			if at < 0 {
				continue
			}
			to := a[i].to(k)
			if to != b[j].to(at) {
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

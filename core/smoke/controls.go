package smoke

import (
	"fmt"
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"
)

// readButtons lists what the buttons outside of forms say: those that open, turn and close.
func readButtons(document *goquery.Document) (said []string) {
	first(document.Find(`button, [role="button"], input[type="button" i]`)).Each(func(_ int, s *goquery.Selection) {
		if s.Closest("form").Length() > 0 || s.AttrOr("form", "") != "" {
			return
		}
		words := readable(s.Text())
		for _, attribute := range []string{"aria-label", "value", "title"} {
			if words == "" {
				words = readable(s.AttrOr(attribute, ""))
			}
		}
		said = append(said, words)
	})
	return said
}

// loseButtons finds buttons that are gone. One that says something else now is none, and one
// that became a link.
func loseButtons(found *collector, was, now Facts) {
	gone := slices.DeleteFunc(minus(was.Buttons, now.Buttons), func(words string) bool {
		return slices.ContainsFunc(now.Links, func(l Link) bool { return l.Text == words })
	})
	fresh := minus(now.Buttons, was.Buttons)
	if lost := len(gone) - len(fresh); lost > 0 {
		found.add(Doubtful, "links", fmt.Sprintf("%s %s gone", plural(lost, "button"), areOrIs(lost)), strings.Join(gone[:min(4, len(gone))], ", "))
	}
}

// fewAlike is the number of links with the same words from which on they belong to entries.
const fewAlike = 3

// loseLinkKinds finds links that stood at each entry, with the same words, and are all gone, such
// as those to answer a comment. Others in their place are the same ones renamed.
func loseLinkKinds(found *collector, was, now Facts) {
	if len(now.Links) >= mostLinks {
		return // there may be more than were read
	}
	said := func(f Facts) (count map[string]int, all int) {
		count = map[string]int{}
		for _, link := range f.Links {
			if !link.Menu && link.To != "" {
				count[link.Text]++
				all++
			}
		}
		return count, all
	}
	before, all := said(was)
	after, left := said(now)
	for _, link := range was.Links {
		n := before[link.Text]
		if n >= fewAlike && after[link.Text] == 0 && all-left >= n {
			found.lose(Doubtful, "links", link.Text, fmt.Sprintf("%d links that said %q are gone", n, link.Text), "")
			return // the others went with the same entries
		}
	}
}

package judging

import (
	"fmt"
	"slices"
	"strings"

	"wetland/core/phrase"
	"wetland/core/smoke"
	"wetland/core/smoke/reading"
)

// loseButtons finds buttons that are gone. One that says something else now is none, and one
// that became a link.
func loseButtons(found *Collector, was, now smoke.Facts) {
	gone := slices.DeleteFunc(minus(was.Buttons, now.Buttons), func(words string) bool {
		return slices.ContainsFunc(now.Links, func(l smoke.Link) bool { return l.Text == words })
	})
	fresh := minus(now.Buttons, was.Buttons)
	if lost := len(gone) - len(fresh); lost > 0 {
		found.add(smoke.Doubtful, "links", fmt.Sprintf("%s %s gone", phrase.Plural(lost, "button"), areOrIs(lost)), strings.Join(gone[:min(4, len(gone))], ", "))
	}
}

// fewAlike is the number of links with the same words from which on they belong to entries.
const fewAlike = 3

// loseLinkKinds finds links that stood at each entry, with the same words, and are all gone, such
// as those to answer a comment. Others in their place are the same ones renamed.
func loseLinkKinds(found *Collector, was, now smoke.Facts) {
	if len(now.Links) >= reading.MostLinks {
		return // there may be more than were read
	}
	said := func(f smoke.Facts) (count map[string]int, all int) {
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
			found.lose(smoke.Doubtful, "links", link.Text, fmt.Sprintf("%d links that said %q are gone", n, link.Text), "")
			return // the others went with the same entries
		}
	}
}

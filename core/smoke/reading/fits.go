package reading

import (
	"slices"

	"github.com/PuerkitoBio/goquery"
)

// A style sheet may be as it was, and fit nothing on the page any more: the classes there are
// called otherwise.

// Fitting counts the selectors of a sheet whose classes all stand on the page.
func Fitting(selectors [][]string, onPage map[string]bool) (n int) {
	for _, classes := range selectors {
		if !slices.ContainsFunc(classes, func(class string) bool { return !onPage[class] }) {
			n++
		}
	}
	return n
}

// ClassesOn are all classes of a page.
func ClassesOn(document *goquery.Document) map[string]bool {
	on := map[string]bool{}
	document.Find("[class]").Each(func(_ int, s *goquery.Selection) {
		for _, class := range classNames(s.Get(0)) {
			on[class] = true
		}
	})
	return on
}

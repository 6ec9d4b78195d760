package reading

import (
	"github.com/PuerkitoBio/goquery"
)

// readButtons lists what the buttons outside of forms say: those that open, turn and close.
func readButtons(document *goquery.Document) (said []string) {
	first(document.Find(`button, [role="button"], input[type="button" i]`)).Each(func(_ int, s *goquery.Selection) {
		if s.Closest("form").Length() > 0 || s.AttrOr("form", "") != "" {
			return
		}
		words := Readable(s.Text())
		for _, attribute := range []string{"aria-label", "value", "title"} {
			if words == "" {
				words = Readable(s.AttrOr(attribute, ""))
			}
		}
		said = append(said, words)
	})
	return said
}

package reading

import (
	"regexp"
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"
)

// placeholders are the forms in which templates name what they put in. Where one can be read
// on a page, nothing was put in.
var placeholders = []*regexp.Regexp{
	regexp.MustCompile(`\{\{[^{}\n]{1,80}\}\}`),
	regexp.MustCompile(`\{%[^%\n]{1,80}%\}`),
	// Markup that was made safe twice can be read.
	regexp.MustCompile(`</?(?:p|div|a|span|strong|em|b|i|br|li|ul|ol|h[1-6]|img|table|td|tr)(?:\s[^<>]{0,200})?/?>`),
	regexp.MustCompile(`&(?:amp|lt|gt|quot|nbsp|hellip|[lr][sd]quo|[mn]dash|#\d{2,5}|#x[0-9a-fA-F]{2,4});`),
	regexp.MustCompile(`\[object \w+\]`),
	regexp.MustCompile(`%[1-9]\$[sd]`),
	regexp.MustCompile(`\bNaN\b|\bInvalid Date\b`),                                         // numbers and dates that were not given
	regexp.MustCompile(`\[/?[a-z][a-z0-9_-]{2,}(?:\s+[a-z][\w-]*=[^\]\n]{0,120})?\s*/?\]`), // a shortcode
}

// readLeaks lists what the page shows of its making.
func readLeaks(document *goquery.Document) []string {
	var found []string
	text := document.Find("body").Clone()
	text.Find("pre, code, textarea").Remove() // where people write of such things
	shown := text.Text()
	for _, shape := range placeholders {
		for _, match := range shape.FindAllString(shown, 5) {
			if line := Readable(match); !slices.Contains(found, line) {
				found = append(found, line)
			}
		}
	}
	text.Find("*").EachWithBreak(func(_ int, s *goquery.Selection) bool {
		said := strings.TrimSpace(s.Text())
		if s.Children().Length() > 0 {
			said = ""
		}
		for _, one := range []string{said, strings.TrimSpace(s.AttrOr("alt", ""))} {
			if wrongWord.MatchString(one) && !slices.Contains(found, one) {
				found = append(found, one)
			}
		}
		return len(found) < mostLeaks
	})
	return found
}

// wrongWord matches what stands for a text that was not there, and is the whole of an element:
// what PHP writes in the place of a list, what scripts write in the place of nothing, and the keys
// by which programs look for texts.
var wrongWord = regexp.MustCompile(`^(?:Array|undefined|null|[a-z]+(?:_[a-z]+)+)$`)

const mostLeaks = 60

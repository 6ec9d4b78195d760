package reading

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"
	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/js"

	"wetland/core/smoke"
)

// deepest bounds how deep brackets may be nested in what a parser is given: parsers recurse, and a
// stack that overflows ends the program. What people and their tools write is some tens deep.
const deepest = 5000

// depth counts how deep brackets are nested in a text. Those in strings count, too, which is no
// matter: the bound is far off.
func depth(text []byte) int {
	now, most := 0, 0
	for _, b := range text {
		switch b {
		case '(', '[', '{':
			now++
			most = max(most, now)
		case ')', ']', '}':
			now = max(0, now-1)
		}
	}
	return most
}

// ParseScript returns why a script cannot be read, in a line, or "".
func ParseScript(text []byte) string {
	if depth(text) > deepest {
		return fmt.Sprintf("it was not read, for its brackets are nested more than %d deep", deepest)
	}
	_, err := js.Parse(parse.NewInputBytes(slices.Clone(text)), js.Options{})
	if err == nil {
		return ""
	}
	line, _, _ := strings.Cut(err.Error(), "\n")
	return Readable(line)
}

// scriptTypes are the types of script elements that browsers run.
var scriptTypes = []string{"", "module", "text/javascript", "application/javascript", "text/ecmascript", "application/ecmascript"}

// readScripts parses the page's own scripts and its structured data.
func readScripts(facts *smoke.Facts, document *goquery.Document) {
	number := 0
	document.Find("script:not([src])").Each(func(_ int, s *goquery.Selection) {
		kind := strings.ToLower(strings.TrimSpace(s.AttrOr("type", "")))
		text := []byte(s.Text())
		switch {
		case kind == "application/ld+json":
			readData(facts, text)
		case slices.Contains(scriptTypes, kind):
			number++
			if problem := ParseScript(text); problem != "" {
				facts.Scripts = append(facts.Scripts, fmt.Sprintf("number %d in the page: %s", number, problem))
			}
		}
	})
}

var dataType = regexp.MustCompile(`"@type"\s*:\s*"([^"]{1,60})"`)

// readData notes which kinds of things the structured data describes.
func readData(facts *smoke.Facts, text []byte) {
	if !json.Valid(bytes.TrimSpace(text)) {
		facts.Scripts = append(facts.Scripts, "the structured data is no JSON")
		return
	}
	for _, found := range dataType.FindAllSubmatch(text, -1) {
		if kind := string(found[1]); !slices.Contains(facts.Data, kind) {
			facts.Data = append(facts.Data, kind)
		}
	}
}

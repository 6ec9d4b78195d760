package site

import (
	"fmt"
	"strings"

	"wetland/core/visible"
)

// What a site says about itself may be written by anybody: no value and no comment of
// wetland.toml may end early.

// Quote writes a text as a value of wetland.toml (TOML 1.0, String: basic strings).
func Quote(text string) string { return `"` + escaped(text, `"\`) + `"` }

// Comment makes a text that may stand in a comment's line of wetland.toml.
func Comment(text string) string { return escaped(text, "") }

// escaped writes control characters, those that turn the direction of a line, and the special
// ones by their numbers.
func escaped(text, special string) string {
	var b strings.Builder
	for _, r := range text {
		switch {
		case strings.ContainsRune(special, r):
			b.WriteString(`\` + string(r))
		case visible.Disturbs(r):
			fmt.Fprintf(&b, `\u%04X`, r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

package workspace

import (
	"strings"

	"wetland/core/visible"
)

// What a site says about itself may be written by anybody: no value and no comment of
// wetland.toml may end early.

// Quote writes a text as a value of wetland.toml (TOML 1.0, String: basic strings).
func Quote(text string) string {
	return `"` + visible.Line(strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text)) + `"`
}

// Comment makes a text that may stand in a comment's line of wetland.toml.
func Comment(text string) string { return visible.Line(text) }

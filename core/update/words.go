package update

import (
	"fmt"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"wetland/core/visible"
)

func plural(n int, word string) string { return english.Plural(n, word, "") }

func bytesText(n int64) string { return humanize.Bytes(uint64(max(0, n))) }

func versionText(v string) string {
	if v == "" {
		return "of unknown version"
	}
	return v
}

// list names some of what may be called in any way.
func list(names []string, most int) string {
	names = slices.Clone(names)
	for i, name := range names {
		names[i] = visible.Line(name)
	}
	if len(names) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
	}
	return english.WordSeries(names, "and")
}

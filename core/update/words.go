package update

import (
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
)

func plural(n int, word string) string { return english.Plural(n, word, "") }

func bytesText(n int64) string { return humanize.Bytes(uint64(max(0, n))) }

func versionText(v string) string {
	if v == "" {
		return "of unknown version"
	}
	return v
}

func list(names []string, most int) string {
	if len(names) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
	}
	return english.WordSeries(names, "and")
}

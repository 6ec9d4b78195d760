// Package phrase has the small words of sentences for people: counts, sizes, lists of names. What names
// come from outside are made fit to be shown.
package phrase

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"wetland/core/visible"
)

// Plural says how many there are, such as "3 pages".
func Plural(n int, word string) string { return english.Plural(n, word, "") }

// Bytes says a size for people, such as "1.2 MB"; less than nothing counts as nothing.
func Bytes(n int64) string { return humanize.Bytes(uint64(max(0, n))) }

// Version says a version; one that is not known, in words.
func Version(v string) string {
	if v == "" {
		return "of unknown version"
	}
	return v
}

// List names some of what may be called in any way.
func List(names []string, most int) string {
	names = slices.Clone(names)
	for i, name := range names {
		names[i] = visible.Line(name)
	}
	if len(names) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
	}
	return english.WordSeries(names, "and")
}

// ThemOrIt is the pronoun for so many.
func ThemOrIt(n int) string {
	if n == 1 {
		return "it"
	}
	return "them"
}

// ShellWord quotes a name where a shell would read it otherwise.
func ShellWord(name string) string {
	if name == "" || strings.ContainsFunc(name, func(r rune) bool {
		return !strings.ContainsRune("-_./@+:,", r) && (r < '0' || r > '9') && (r < 'a' || r > 'z') && (r < 'A' || r > 'Z')
	}) {
		return ShellQuote(name)
	}
	return name
}

// InBrackets puts a text into brackets after a space; of none, nothing comes.
func InBrackets(text string) string {
	if text == "" {
		return ""
	}
	return " (" + text + ")"
}

// Live says for how long something was live.
func Live(exposed time.Duration) string {
	if exposed < time.Second {
		return "less than a second"
	}
	return exposed.Round(100 * time.Millisecond).String()
}

// Capital makes a text the beginning of a sentence. The text must begin with an ASCII letter.
func Capital(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// ShellQuote makes one word of a name for a POSIX shell, whatever is in it.
func ShellQuote(name string) string {
	return "'" + strings.ReplaceAll(name, "'", `'\''`) + "'"
}

// IsAre is the verb for so many.
func IsAre(n int) string {
	if n == 1 {
		return "is"
	}
	return "are"
}

// WasWere is the verb for so many.
func WasWere(n int) string {
	if n == 1 {
		return "was"
	}
	return "were"
}

package cli

import (
	"fmt"
	"io"
	"regexp"
	"strings"
	"unicode"
)

// What a site, a package or a server says goes to the terminal: it must not move the cursor,
// rewrite lines or turn their direction.

// ownColours are the sequences that the program itself writes.
var ownColours = regexp.MustCompile(`\x1b\[[0-9;]*m`)

// printable shows control characters escaped, but for line ends, tabs and colours.
func printable(text string) string {
	if !strings.ContainsFunc(text, disturbs) {
		return text
	}
	var b strings.Builder
	from := 0
	for _, colour := range append(ownColours.FindAllStringIndex(text, -1), []int{len(text), len(text)}) {
		for _, r := range text[from:colour[0]] {
			if disturbs(r) {
				fmt.Fprintf(&b, `\u%04x`, r)
			} else {
				b.WriteRune(r)
			}
		}
		b.WriteString(text[colour[0]:colour[1]])
		from = colour[1]
	}
	return b.String()
}

// disturbs tells of characters that do something instead of being read: control characters,
// and those that turn the direction of what follows.
func disturbs(r rune) bool {
	return r != '\n' && r != '\t' && (unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) || r == '\u2028' || r == '\u2029')
}

// printableWriter writes text that is printable.
type printableWriter struct{ out io.Writer }

func (w printableWriter) Write(text []byte) (int, error) {
	if _, err := io.WriteString(w.out, printable(string(text))); err != nil {
		return 0, err
	}
	return len(text), nil
}

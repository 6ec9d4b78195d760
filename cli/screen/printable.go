package screen

import (
	"io"
	"regexp"
	"strings"

	"wetland/core/visible"
)

// What a site, a package or a server says goes to the terminal: it must not move the cursor,
// rewrite lines or turn their direction.

// ownColours are the sequences that the program itself writes, where it writes colours.
var ownColours = regexp.MustCompile(`\x1b\[(?:0|1|2|32|33|31;1)m`)

// printable shows characters escaped that disturb, but for line ends, tabs and, if there are to be
// any, our colours.
func printable(text string, colours bool) string {
	if !colours || !strings.Contains(text, "\x1b") {
		return visible.Lines(text)
	}
	var b strings.Builder
	from := 0
	for _, colour := range append(ownColours.FindAllStringIndex(text, -1), []int{len(text), len(text)}) {
		b.WriteString(visible.Lines(text[from:colour[0]]))
		b.WriteString(text[colour[0]:colour[1]])
		from = colour[1]
	}
	return b.String()
}

// PrintableWriter writes text that is printable.
type PrintableWriter struct {
	out     io.Writer
	colours bool
}

// Printable returns a writer that lets the colours of this program through, or none.
func Printable(out io.Writer, colours bool) PrintableWriter { return PrintableWriter{out, colours} }

// Write writes text with what disturbs a terminal written by its numbers.
func (w PrintableWriter) Write(text []byte) (int, error) {
	if _, err := io.WriteString(w.out, printable(string(text), w.colours)); err != nil {
		return 0, err
	}
	return len(text), nil
}

// looksLikeStep tells of a line that could be taken for one that tells of a step.
var looksLikeStep = regexp.MustCompile(`^\s*(?:ok|NO|\?\?|--|\.\.)\s\s`)

package screen

import (
	"bytes"
	"strings"
	"testing"

	"wetland/core/progress"
)

// What a site says cannot move the cursor, hide a line or turn its direction; our own colours
// stay.
func TestNothingDisturbsTheTerminal(t *testing.T) {
	for text, want := range map[string]string{
		"Otterby Ferry":                       "Otterby Ferry",
		"a\nb\tc":                             "a\nb\tc",
		"Ferry\x1b[2J\x1b[1;1H":               `Ferry\u001b[2J\u001b[1;1H`,
		"\x1b]0;title\x07":                    `\u001b]0;title\u0007`,
		"safe\rKept.":                         `safe\u000dKept.`,
		"a\u202egnp.exe":                      `a\u202egnp.exe`,
		"\x1b[32mgreen\x1b[0m \x9b2J \x7f":    "\x1b[32mgreen\x1b[0m \ufffd2J " + `\u007f`,
		"\x1b[8mconcealed":                    `\u001b[8mconcealed`,
		"crossing \u2066hidden\u2069\u0085\b": `crossing \u2066hidden\u2069\u0085\u0008`,
	} {
		if got := printable(text, true); got != want {
			t.Errorf("%q is shown as %q, not %q", text, got, want)
		}
	}
	var out bytes.Buffer
	s := New(&out, false)
	s.End(progress.Good, "pages", "the title is \"\x1b[2J\r\"")
	s.Paragraph("Head", "name\x1b[2J")
	s.Paragraph("Head", "a name with\n  ok  pages             all sound\nin it")
	rows := s.Table("a", "b")
	rows.AppendRow([]any{"x\x1b[2J", "y\r"})
	rows.Render()
	if strings.ContainsAny(out.String(), "\r\x1b") || strings.Contains(out.String(), "\n  ok  pages             all sound") {
		t.Errorf("%q", out.String())
	}
	if got := printable("\x1b[32mgreen", false); strings.Contains(got, "\x1b") {
		t.Errorf("without colours: %q", got)
	}
}

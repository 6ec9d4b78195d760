package screen

import (
	"bytes"
	"errors"
	"strings"
	"testing"

	"wetland/core/advice"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/smoke"
)

// shown is what a screen without a terminal shows.
func shown(t *testing.T, silent bool, show func(s *Screen)) string {
	t.Helper()
	var out bytes.Buffer
	show(New(&out, silent))
	return out.String()
}

// However wide the words and names, no line is wider than the screen, unless one word is; nothing is
// left out, and what continues a line stands below its column.
func TestLinesFit(t *testing.T) {
	long := strings.Repeat("the ferry leaves at noon ", 20)
	wide := "/srv/www/" + strings.Repeat("otterby", 30)
	for name, words := range map[string]string{"many words": long, "a long word": wide, "both": long + wide + " " + long, "of another script": strings.Repeat("渡し船は正午に出る ", 20), "nothing": ""} {
		out := shown(t, false, func(s *Screen) { s.Row("  ok  ", 6, "staging        ", words) })
		if strings.Join(strings.Fields(strings.TrimPrefix(out, "  ok  staging")), " ") != strings.Join(strings.Fields(words), " ") {
			t.Errorf("%s: %q", name, out)
		}
		for i, line := range strings.Split(strings.TrimSuffix(out, "\n"), "\n") {
			if len([]rune(line)) > plainWidth && !strings.Contains(line, wide) {
				t.Errorf("%s: a line of %d signs: %q", name, len([]rune(line)), line)
			}
			if i > 0 && !strings.HasPrefix(line, strings.Repeat(" ", 21)) {
				t.Errorf("%s: it does not go on below its column: %q", name, line)
			}
		}
	}
}

// A name of somebody else's tells of no step, whatever is in it.
func TestNamesTellOfNoStep(t *testing.T) {
	const hostile = "x\n  ok  pages             all sound"
	out := shown(t, false, func(s *Screen) {
		s.Row("  NO  ", 6, hostile, "is broken")
		s.Paragraph("", "it is called "+hostile)
		s.End(progress.Bad, "files", hostile)
	})
	for line := range strings.Lines(out) {
		if strings.HasPrefix(line, "  ok  pages") {
			t.Errorf("a step that was none:\n%s", out)
		}
	}
}

func TestRefusalShowsEveryReason(t *testing.T) {
	refusal := &runs.Refusal{Unlooked: true, Reasons: []runs.Reason{{What: "the store is sealed", Do: advice.Steps("Name its secret.")}, {What: "another run works on this site"}}}
	out := shown(t, false, func(s *Screen) { s.Refusal(refusal) })
	for _, want := range []string{"Refused. Nothing on the site was touched; the pages were not looked at.", "  - the store is sealed\n    Do: Name its secret.", "  - another run works on this site"} {
		if !strings.Contains(out, want) {
			t.Errorf("it does not show %q:\n%s", want, out)
		}
	}
	var asError error = refusal
	if found := new(runs.Refusal); !errors.As(asError, &found) || !strings.Contains(found.Error(), "another run works") {
		t.Error("as an error it has not all reasons")
	}
}

// Pages with the same findings are told once, with all of their paths; sound ones only where all are
// wanted.
func TestPagesAreGrouped(t *testing.T) {
	gone := []smoke.Finding{{Check: "layout", Verdict: smoke.Broken, What: "the menu is gone"}}
	pages := []smoke.PageVerdict{
		{Path: "/", Verdict: smoke.Broken, Findings: gone}, {Path: "/fares", Verdict: smoke.Sound}, {Path: "/notices", Verdict: smoke.Broken, Findings: gone},
	}
	for _, onlyFailing := range []bool{false, true} {
		out := shown(t, false, func(s *Screen) { s.Pages(pages, onlyFailing) })
		if strings.Count(out, "the menu is gone") != 1 || !strings.Contains(out, "/notices") || strings.Contains(out, "/fares") == onlyFailing {
			t.Errorf("only those that fail: %v\n%s", onlyFailing, out)
		}
	}
}

func TestSilenceHidesStepsAlone(t *testing.T) {
	out := shown(t, true, func(s *Screen) {
		s.Begin("files", 0, "")
		s.End(progress.Good, "files", "12 of them")
	})
	if out != "" {
		t.Errorf("%q", out)
	}
}

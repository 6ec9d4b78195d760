package smoke

import (
	"os"
	"testing"

	"wetland/core/smoke/browser"
	"wetland/internal/testenv"
)

// With a browser everything of the corpus is caught, and still nothing harmless is
// called broken. A sample; all of it in the long run.
func TestCorpusWithABrowser(t *testing.T) {
	if browser.Find() == "" {
		testenv.Missing(t, "chromium")
	}
	f := newFerry(t)
	defer f.fetcher.Close()
	f.fetcher.BrowserProgram = AnyBrowser
	all := os.Getenv("WETLAND_TORTURE") != ""
	if !all {
		f.pages = []Page{{Path: "/timetable"}, {Path: "/sign-in"}}
	}
	baseline := Merge(f.take(t), f.take(t))
	if j := Judge(baseline, f.take(t)); j.Verdict != Sound {
		t.Fatalf("nothing was changed:\n%s", findings(j))
	}
	caught, alarms := 0, 0
	for i, m := range breakages {
		if !all && !m.onlyBrowser && i%9 != 0 {
			continue
		}
		undo := f.apply(t, m)
		j := Judge(baseline, f.take(t))
		undo()
		if worse(j.Verdict, m.want) != j.Verdict && (all || m.onlyBrowser) {
			t.Errorf("%s: %s, want %s\n%s", m.name, j.Verdict, m.want, findings(j))
		}
		caught++
	}
	for i, m := range harmless {
		if !all && i%6 != 0 {
			continue
		}
		alarms += f.alarm(t, m, baseline)
	}
	t.Logf("%d breakages looked at, %d harmless updates doubted", caught, alarms)
	if alarms*20 > len(harmless) {
		t.Errorf("%d harmless updates are doubtful", alarms)
	}
}

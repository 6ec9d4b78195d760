package fetching

import (
	"testing"
	"time"

	"wetland/core/smoke"
	"wetland/core/smoke/browser"
	"wetland/internal/testenv"
)

// looked is a ferry that is looked at with a browser.
func looked(t *testing.T, f *ferry) *ferry {
	t.Helper()
	if browser.Find() == "" {
		testenv.Missing(t, "chromium")
	}
	t.Cleanup(f.fetcher.Close)
	f.fetcher.BrowserProgram, f.fetcher.Timeout = smoke.AnyBrowser, max(f.fetcher.Timeout, 10*time.Second)
	return f
}

// With a browser everything of the corpus is caught, and still nothing harmless is
// called broken. A sample, on few pages; all of it in the long run.
func TestCorpusWithABrowser(t *testing.T) {
	f := looked(t, newFerry(t))
	if sample(2) != 1 {
		f.pages, f.partly = []smoke.Page{{Path: "/timetable"}, {Path: "/sign-in"}}, true
	}
	f.measure(t, breakages, harmless, sample(32))
}

package e2e

import (
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"wetland/core/runs"
	"wetland/core/smoke"
	"wetland/internal/testenv"
)

// behind serves the demo site through change, which sees each page on its way, and adopts it.
func behind(t *testing.T, change func(r *http.Request, body string) string) *ferry {
	t.Helper()
	f := layOut(t)
	origin, err := url.Parse(f.address)
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(testenv.EditPages(httputil.NewSingleHostReverseProxy(origin), change))
	t.Cleanup(server.Close)
	f.address = server.URL + "/"
	f.run(t, "adopt", f.root, "--address", f.address, "--no-browser").want(t, 4, "the CMS believes that it is reached at")
	return f
}

// haunted is a site that does something to its pages from the moment on when a bad version was
// seen in place, whatever stands there later.
type haunted struct {
	from atomic.Pointer[func(body string) string]
}

func (h *haunted) site(t *testing.T, does func(body string) string) *ferry {
	t.Helper()
	var f *ferry
	var seen atomic.Bool
	h.from.Store(&does)
	f = behind(t, func(r *http.Request, body string) string {
		if f == nil {
			return body
		}
		text, err := os.ReadFile(filepath.Join(f.root, "themes/harbourlight/theme.toml"))
		if err == nil && strings.Contains(string(text), "2.5.0") {
			seen.Store(true)
		}
		if seen.Load() {
			return (*h.from.Load())(body)
		}
		return body
	})
	return f
}

func withoutALink(body string) string {
	return strings.Replace(body, `<li><a href="/fares">Fares</a></li>`, "", 1)
}

// Pages that are merely doubtful after all was put back and proved: the run says so and ends
// with 3, and nothing is locked. What was found changes by itself, as far as anybody knows:
// it does not count next time.
func TestPutBackWithDoubts(t *testing.T) {
	var h haunted
	f := h.site(t, withoutALink)
	before := f.siteTree(t)
	result := f.run(t, "update", f.pkg("harbourlight-2.5.0")).want(t, 3, "Put back, with doubts.", "Version 2.4.1 is"+
		" back, and proved: files and tables are as before",
		"still differ from before: the menu lost 1 of", "Look at", "rest of the site as in the snapshot")
	if strings.Contains(result.stdout, "tables and pages are as before") {
		t.Errorf("it claims something about the pages\n%s", result)
	}
	same(t, before, f.siteTree(t))
	var run runs.Run
	f.run(t, "report", "run-1", "--json").decode(t, &run)
	if run.State != runs.PutBackDoubt || run.Again == nil || run.Again.Verdict != smoke.Doubtful || len(run.Learnt) == 0 {
		t.Errorf("%s, again %+v, learnt %v", run.State, run.Again, run.Learnt)
	}
	f.run(t, "report", "run-1", "--as", "markdown").want(t, 0, "After all was put back", "the menu lost 1 of")
	f.run(t, "recover").want(t, 0, "Nothing to do")
	// It comes and goes now; the next update does not count it.
	var n atomic.Int64
	comes := func(body string) string {
		if n.Add(1)%3 == 0 {
			return withoutALink(body)
		}
		return body
	}
	h.from.Store(&comes)
	f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 0, "not compared, for it changes by itself", "Kept.")
}

// Pages that are broken after all else was put back need a person; once they are merely
// doubtful, recover settles the run.
func TestRecoverSettlesDoubtfulPages(t *testing.T) {
	var h haunted
	f := h.site(t, func(string) string {
		return "<!DOCTYPE html><html><body><p>Fatal error: Uncaught Error in /srv/a.php on line 3</p></body></html>"
	})
	f.run(t, "update", f.pkg("harbourlight-2.5.0")).want(t, 5, "A person is needed.", "files and database are back, but",
		"wetland recover")
	f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 2, "left the site without proof")
	does := withoutALink
	h.from.Store(&does)
	f.run(t, "recover").want(t, 4, "Put back, with doubts.", "files and tables are as before")
	f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 0, "Kept.")
}

// What changes by itself is named when it is found out, and an error that comes and goes is told.
func TestPagesThatMoveByThemselves(t *testing.T) {
	var mu sync.Mutex
	var errors atomic.Bool
	asked := map[string]int{}
	f := behind(t, func(r *http.Request, body string) string {
		mu.Lock()
		defer mu.Unlock()
		asked[r.URL.Path]++
		if asked[r.URL.Path]/2%2 == 1 { // each look asks twice
			body = withoutALink(body)
			if errors.Load() && r.URL.Path == "/fares" {
				body = strings.Replace(body, "<h1>", "<p>Warning: Undefined variable $tide in /srv/a.php on line 3</p><h1>", 1)
			}
		}
		return body
	})
	f.run(t, "smoke", "--learn").want(t, 0, "Recorded.")
	for range 3 {
		f.run(t, "smoke").want(t, 0, "Sound.")
	}
	f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 0, "Kept.")
	f.run(t, "smoke").want(t, 0, "Sound.")
	errors.Store(true)
	f.run(t, "update", f.pkg("harbourlight-2.4.1"), f.pkg("enquiries-1.2.0"), "--allow-older").want(t, 2,
		"is broken at times, before any update already: an error message is on the page")
}

// What is found with the version before, too, once all is proved to be back, is not the
// update's doing: the run says so, and how to try again.
func TestFoundWithTheVersionBeforeToo(t *testing.T) {
	var f *ferry
	var seen atomic.Bool
	f = behind(t, func(r *http.Request, body string) string {
		if f == nil {
			return body
		}
		text, err := os.ReadFile(filepath.Join(f.root, "themes/harbourlight/theme.toml"))
		if err == nil && strings.Contains(string(text), "2.5.2") {
			seen.Store(true) // from now on, whatever stands there
		}
		if seen.Load() {
			return withoutALink(body)
		}
		return body
	})
	pkg := f.pkg("harbourlight-2.5.2")
	f.run(t, "update", pkg).want(t, 3, "Put back, with doubts.", "The same is found with the version before: it is not"+
		" the update's doing.", "wetland update "+pkg+" tries again")
	f.run(t, "update", pkg).want(t, 0, "Kept.")
}

// A page of the list that is not there any more does not keep an update off, where others are
// sound; it is told.
func TestDeadPageIsLeftOut(t *testing.T) {
	f := adopted(t)
	f.edit(t, f.config(), "[[pages]]\npath = \"/fares\"", "[[pages]]\npath = \"/author/\"\n\n[[pages]]\npath = \"/fares\"")
	f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 0, "left out /author/ (404): gone before the update already",
		"11 pages, all sound", "Kept.")
	f.run(t, "update", f.pkg("harbourlight-2.5.0"), "--allow-older").want(t, 3, "Put back.")
}

// The site's own rules hold wherever pages are looked at twice.
func TestWeighHoldsWhileLearning(t *testing.T) {
	f := adopted(t)
	f.breakPage(t)
	f.run(t, "smoke", "--learn").want(t, 2, "Not recorded.")
	config, err := os.ReadFile(f.config())
	must(t, err, os.WriteFile(f.config(), append(config, "\n[[severity]]\ncheck = \"status\"\nas = \"sound\"\nbecause ="+
		" \"it is being rebuilt\"\n\n[[severity]]\ncheck = \"error text\"\nas = \"sound\"\nbecause = \"it is being"+
		" rebuilt\"\n"...), 0o600))
	f.run(t, "smoke", "--learn").want(t, 0, "Recorded.")
	f.run(t, "update", f.pkg("enquiries-1.2.0")).want(t, 0, "Kept.")
}

// What needs no page is told before the pages are looked at.
func TestRefusedBeforeThePagesAreLookedAt(t *testing.T) {
	var asked atomic.Int64
	f := behind(t, func(r *http.Request, body string) string {
		asked.Add(1)
		return body
	})
	must(t, os.WriteFile(filepath.Join(f.care, "hook"), nil, 0o600))
	f.edit(t, f.config(), "[update]", "[hooks]\nbefore = \"touch ran\"\n\n[update]")
	asked.Store(0)
	f.run(t, "update", f.pkg("harbourlight-3.0.0")).want(t, 2, "Refused.", "the pages were not looked at", "--allow-major")
	if n := asked.Load(); n > 0 {
		t.Errorf("%d pages were asked for", n)
	}
	if _, err := os.Stat(filepath.Join(f.care, "ran")); err == nil {
		t.Error("the hook ran")
	}
	var document struct {
		Looked  *bool         `json:"pages_looked_at"`
		Reasons []runs.Reason `json:"reasons"`
	}
	f.run(t, "update", f.pkg("harbourlight-3.0.0"), "--json").decode(t, &document)
	if document.Looked == nil || *document.Looked || len(document.Reasons) == 0 {
		t.Errorf("%+v", document)
	}
}

// The shell completes packages, snapshots, runs and components, from the workspace alone.
func TestCompletion(t *testing.T) {
	f := adopted(t)
	f.run(t, "shelve", f.pkg("harbourlight-2.5.0"), f.pkg("tidetable-2.0.0")).want(t, 0)
	f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 0)
	must(t, os.Chmod(f.root, 0o755))
	for line, want := range map[string]string{
		"update harb":                    "harbourlight@2.5.2\nharbourlight@2.5.0\nharbourlight@2.4.1\n",
		"update harbourlight@2.5.2 tide": "tidetable@2.0.0\n",
		"restore snap-":                  "snap-2\nsnap-1\n",
		"restore tide":                   "tidetable@2.0.0\n",
		"verify ":                        "snap-2\nsnap-1\n",
		"report ":                        "run-1\tHarbourlight 2.4.1 to 2.5.2: kept\n",
		"restore snap-1 --only tid":      "tidetable\n",
		"report run-1 ":                  "",
	} {
		words := strings.Split(line, " ")
		result := f.run(t, append([]string{"__complete"}, words...)...)
		offered, _, _ := strings.Cut(result.stdout, ":")
		if strings.HasPrefix(line, "report ") && want != "" {
			offered, _, _ = strings.Cut(result.stdout, "\n:")
			offered += "\n"
		}
		if offered != want {
			t.Errorf("%q offers %q, want %q", line, offered, want)
		}
	}
	empty := wetland(t, t.TempDir(), "__complete", "update", "")
	if empty.code != 0 {
		t.Errorf("without a workspace:\n%s", empty)
	}
}

// The site is called what the CMS calls it.
func TestNameOfTheSite(t *testing.T) {
	f := layOut(t)
	f.run(t, "adopt", f.root, "--address", f.address, "--no-browser").want(t, 0)
	text, err := os.ReadFile(f.config())
	if err != nil || !strings.Contains(string(text), "name = \"Otterby Ferry\"\n") {
		t.Errorf("%v\n%s", err, text)
	}
}

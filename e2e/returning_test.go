package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wetland/internal/testenv"
)

// A theme that was broken by hand on the live site does not stand against bringing back the
// older version, in one command: that is the way out.
func TestReturnFromABrokenTheme(t *testing.T) {
	for name, breakIt := range map[string]func(t *testing.T, f *ferry){
		"one page": func(t *testing.T, f *ferry) {
			f.edit(t, filepath.Join(f.root, "themes/harbourlight/notices.html"), "{{range .Notices}}", `{{template "no/such.html" .}}{{range .Notices}}`)
		},
		"all pages": func(t *testing.T, f *ferry) {
			f.edit(t, filepath.Join(f.root, "themes/harbourlight/parts/head.html"), "<head>", `<head>{{template "no/such.html" .}}`)
		},
		"no header": func(t *testing.T, f *ferry) {
			must(t, os.WriteFile(filepath.Join(f.root, "themes/harbourlight/theme.toml"), []byte("= broken"), 0o644))
		},
	} {
		t.Run(name, func(t *testing.T) {
			f := adopted(t)
			f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 0, "Kept.")
			breakIt(t, f)
			// An update still says why it cannot tell.
			f.run(t, "update", f.pkg("enquiries-1.2.0")).want(t, 2, "Pages are already broken, so it could not be told whether the update broke them.", "--accept-present")
			result := f.run(t, "restore", "harbourlight@2.4.1").want(t, 0, "harbourlight 2.4.1 was last here on", "(run-1): its pages were sound then", "Kept.", "the pages are sound")
			if name != "no header" {
				result.want(t, 0, "That is no reason against a return", "broken", "sound now: /")
			}
			f.wantTheme(t, "2.4.1")
			f.run(t, "smoke").want(t, 0, "Sound.")
		})
	}
}

// Also the version that is installed and broken comes back, and a newer one.
func TestReturnToTheSameVersion(t *testing.T) {
	f := adopted(t)
	f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 0, "Kept.")
	f.edit(t, filepath.Join(f.root, "themes/harbourlight/page.html"), "{{.Body}}", `{{template "no/such.html" .}}`)
	f.run(t, "restore", "harbourlight@2.5.2").want(t, 0, "edited by hand page.html: overwritten, and kept as a patch in the run", "Kept.", "sound now", "harbourlight as it was is in")
	f.run(t, "restore", "harbourlight@2.4.1").want(t, 0, "Kept.")
	f.run(t, "restore", "harbourlight@2.5.2").want(t, 0, "Kept.")
	if text, err := os.ReadFile(filepath.Join(f.care, "runs/run-2/edited-by-hand-theme-harbourlight.patch")); err != nil || !strings.Contains(string(text), "no/such.html") {
		t.Errorf("the edit by hand was not kept: %v\n%s", err, text)
	}
}

// An older version that looks otherwise is wanted: its pages need to be healthy, not the same.
func TestReturnToAnotherLayout(t *testing.T) {
	f := adopted(t)
	f.run(t, "update", f.pkg("harbourlight-3.0.0"), "--allow-major", "--in-doubt", "keep").want(t, 4)
	// With a record of how it was.
	f.run(t, "update", f.pkg("harbourlight-2.4.1"), "--allow-older", "--allow-major").want(t, 0, "was last here on", "Kept.")
	f.wantTheme(t, "2.4.1")
	// Without one: in another workspace nobody has looked at it.
	f.run(t, "restore", "harbourlight@3.0.0").want(t, 0, "Kept.")
	other := t.TempDir()
	wetland(t, other, "adopt", f.root, "--address", f.address, "--no-browser").want(t, 0)
	wetland(t, other, "update", f.pkg("harbourlight-2.4.1"), "--allow-older", "--allow-major").want(t, 0,
		"no run has looked at pages with harbourlight 2.4.1", "does not count", "Kept.")
}

// What an older version lacks and no record excuses is done, and named.
func TestReturnThatLosesAForm(t *testing.T) {
	f := adopted(t)
	entries := entriesOf(t, filepath.Join(f.root, "plugins/enquiries"), "enquiries")
	entries["enquiries/plugin.toml"] = strings.Replace(entries["enquiries/plugin.toml"], `version = "1.`, `version = "0.`, 1)
	entries["enquiries/blocks/form.html"] = "<p>Write to the crossing.</p>"
	older := zipOf(t, "enquiries.zip", entries)
	f.run(t, "update", older, "--allow-older", "--allow-major").want(t, 4, `the form "enquiry" is gone`, "check whether it is missed", "Done, with doubts.")
}

// An older version that is broken itself is put back; the question whether it is wanted all
// the same comes when the site is safe.
func TestReturnToABrokenVersion(t *testing.T) {
	t.Parallel()
	f := adopted(t)
	f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 0)
	f.run(t, "shelve", f.pkg("harbourlight-2.5.0")).want(t, 0)
	f.run(t, "update", f.pkg("harbourlight-2.5.0"), "--allow-older").want(t, 3, "harbourlight-2.5.0.zip --allow-older --keep-broken")
	f.run(t, "restore", "harbourlight@2.5.0").want(t, 3, "Put back.", "Version 2.5.2 is back", "wetland restore harbourlight@2.5.0 --keep-broken")
	f.wantTheme(t, "2.5.2")

	command := wetlandCommand(t, "restore", "harbourlight@2.5.0")
	command.Dir = f.care
	terminal := testenv.OnTerminal(t, command)
	terminal.Answer(t, "Type take, or press", "", false)
	if code, shown := terminal.Wait(); code != 3 {
		t.Errorf("exit code %d\n%s", code, shown)
	}
	f.wantTheme(t, "2.5.2")
	command = wetlandCommand(t, "restore", "harbourlight@2.5.0")
	command.Dir = f.care
	terminal = testenv.OnTerminal(t, command)
	terminal.Answer(t, "Type take, or press", "take", false)
	if code, shown := terminal.Wait(); code != 4 || !strings.Contains(shown, "as you wanted it") {
		t.Errorf("exit code %d\n%s", code, shown)
	}
	f.run(t, "restore", "harbourlight@2.5.2").want(t, 0, "Kept.")
	f.run(t, "restore", "harbourlight@2.5.0", "--keep-broken").want(t, 4, "as you wanted it, with broken pages")
	if text, err := os.ReadFile(filepath.Join(f.root, "themes/harbourlight/theme.toml")); err != nil || !strings.Contains(string(text), `"2.5.0"`) {
		t.Errorf("the version that was wanted is not there: %v\n%s", err, text)
	}
	f.run(t, "restore", "harbourlight@2.5.2").want(t, 0, "Kept.")
}

// Of several packages of which one is older, the strict rules hold.
func TestSeveralWithAnOlderOneAreStrict(t *testing.T) {
	f := adopted(t)
	f.run(t, "update", f.pkg("harbourlight-3.0.0"), "--allow-major", "--in-doubt", "keep").want(t, 4)
	f.run(t, "update", f.pkg("harbourlight-2.4.1"), f.pkg("enquiries-1.2.0"), "--allow-older", "--allow-major", "--search", "no").want(t, 3, "Put back.")
}

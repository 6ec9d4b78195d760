package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wetland/internal/testenv"
)

// examined is what the tests read of an examination's JSON.
type examined struct {
	Examined []struct {
		Advice string
		Checks []struct{ Name, Advice, What string }
		Log    string `json:"change_log"`
	}
	ExitCode int `json:"exit_code"`
}

// advice returns the worst advice of a check.
func (e examined) advice(name string) string {
	worst := ""
	for _, check := range e.Examined[0].Checks {
		if check.Name == name && (worst == "" || check.Advice == "no" || worst == "go") {
			worst = check.Advice
		}
	}
	return worst
}

// A plugin that a package requires must be there and active; the server's PHP is
// taken from where it can be known.
func TestRequirements(t *testing.T) {
	f := adopted(t)
	look := func(code int, header string) string {
		t.Helper()
		file := zipOf(t, "harbourlight.zip", map[string]string{"harbourlight/theme.toml": "name = \"Harbourlight\"\nversion = \"2.4.2\"\n" + header, "harbourlight/front.html": "x"})
		return strings.Join(strings.Fields(f.run(t, "examine", file).want(t, code).stdout), " ")
	}
	if said := look(4, `requires_plugins = ["tidetable"]`); !strings.Contains(said, "the plugin tidetable, which is active") {
		t.Error(said)
	}
	if said := look(3, `requires_plugins = ["tidetable", "moonraker"]`); !strings.Contains(said, "moonraker, which is not installed") {
		t.Error(said)
	}
	file := zipOf(t, "harbourlight.zip", map[string]string{"harbourlight/theme.toml": "name = \"Harbourlight\"\nversion = \"2.4.2\"\nrequires_plugins = [\"moonraker\"]\n"})
	f.run(t, "update", file).want(t, 2, "it needs the plugin moonraker")
	f.run(t, "survey").want(t, 0, "active, required by harbourlight")
	if err := os.RemoveAll(filepath.Join(f.root, "plugins/tidetable")); err != nil {
		t.Fatal(err)
	}
	f.run(t, "survey").want(t, 0, "the plugin tidetable, which harbourlight requires, is not installed")
}

func TestExamineShowsHowFilesChange(t *testing.T) {
	f := adopted(t)
	f.run(t, "examine", f.pkg("harbourlight-2.5.1"), "--diff", "front.html,missing.html", "--diff", "no/such.html").want(t, 4,
		"overrides files that change in this version: front.html", "--diff front.html",
		"--- 2.4.1/front.html", "+++ 2.5.1/front.html", "missing.html: both versions have it", "no/such.html: neither version has this file")
	var e struct{ Examined []struct{ Diffs []string } }
	f.run(t, "examine", f.pkg("harbourlight-2.5.1"), "--diff", "front.html", "--json").decode(t, &e)
	if len(e.Examined[0].Diffs) != 1 || !strings.Contains(e.Examined[0].Diffs[0], "\n-") {
		t.Errorf("%q", e.Examined[0].Diffs)
	}
}

func TestExamineTouchesNothingAndTellsAll(t *testing.T) {
	f := adopted(t)
	before := f.siteTree(t)
	look := func(code int, args ...string) examined {
		t.Helper()
		var e examined
		f.run(t, append([]string{"examine", "--json"}, args...)...).want(t, code).decode(t, &e)
		return e
	}
	e := look(4, f.pkg("harbourlight-2.5.2"))
	for name, want := range map[string]string{"package": "go", "fit": "go", "distance": "go", "files": "go", "hand edits": "go with care", "child theme": "go", "requirements": "go", "place": "go", "space": "go", "site": "go"} {
		if got := e.advice(name); got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
	if log := e.Examined[0].Log; !strings.Contains(log, "## 2.5.2") || !strings.Contains(log, "## 2.5.0") || strings.Contains(log, "2.4.1") {
		t.Errorf("the change log between the versions is\n%s", log)
	}
	// The child theme overrides the front page's template, which 2.5.1 changes.
	e = look(4, f.pkg("harbourlight-2.5.1"))
	if e.advice("child theme") != "go with care" {
		t.Errorf("child theme: %+v", e)
	}
	if e = look(3, f.pkg("harbourlight-3.0.0")); e.advice("distance") != "no" || e.advice("fit") != "go" {
		t.Errorf("a major step: %+v", e)
	}
	f.run(t, "update", f.pkg("harbourlight-3.0.0")).want(t, 2, "from 2.4.1 to 3.0.0 is a major release", "--allow-major")
	same(t, before, f.siteTree(t))
	nothingLeft(t, f.root)

	// With the original at hand, edits are known; and then they stand against it.
	original := zipOf(t, "harbourlight-2.4.1.zip", entriesOf(t, filepath.Join(f.root, "themes/harbourlight"), "harbourlight"))
	f.run(t, "shelve", original).want(t, 0)
	if e = look(0, f.pkg("harbourlight-2.5.2")); e.advice("hand edits") != "go" {
		t.Errorf("not edited: %+v", e)
	}
	f.edit(t, filepath.Join(f.root, "themes/harbourlight/style.css"), "Georgia", "Garamond")
	f.run(t, "examine", f.pkg("harbourlight-2.5.2")).want(t, 3, "would be overwritten: style.css", "--lose-edits", "No.")
	f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 2, "was edited by hand", "style.css")
	f.run(t, "survey", "--edits", "harbourlight").want(t, 0, "--- original/harbourlight/style.css", "+body { margin: 0; font: 17px/1.6 Garamond")
	f.run(t, "survey", "--edits", "otterby").want(t, 1, "is not on the shelf")
	f.run(t, "update", f.pkg("harbourlight-2.5.2"), "--lose-edits").want(t, 0, "Kept.")
	patch, err := os.ReadFile(filepath.Join(f.care, "runs/run-1/edited-by-hand-theme-harbourlight.patch"))
	if err != nil || !strings.Contains(string(patch), "Garamond") {
		t.Errorf("the patch is %q %v", patch, err)
	}
	f.run(t, "survey", "--edits", "harbourlight").want(t, 0, "is as its vendor made it")
	// What was edited is kept on the shelf, apart from the original.
	f.run(t, "shelf").want(t, 0, "harbourlight 2.4.1 older than 2.5.2 replaced by run-1", "harbourlight 2.4.1 older than 2.5.2 harbourlight-2.4.1.zip")

	demanding := zipOf(t, "t.zip", map[string]string{"enquiries/plugin.toml": "name = \"Enquiries\"\nversion = \"1.3\"\nrequires_rowlock = \"4.1\"\n"})
	f.run(t, "examine", demanding).want(t, 3, "it needs version 4.1 of the CMS, and this is Rowlock 3.2.0")
	f.run(t, "update", demanding).want(t, 2, "it needs version 4.1 of the CMS")
	f.run(t, "examine", zipOf(t, "t.zip", map[string]string{"photographs/a.svg": "x", "manual/b": "x"})).want(t, 3, "holds 2 folders")
	f.run(t, "examine", textFile(t, "t.zip", "no")).want(t, 1, "is not a zip file")
}

func TestExamineOnWordPress(t *testing.T) {
	t.Parallel()
	site := testenv.WordPress(t)
	workspace := care(t, site)
	modern := strings.Replace(entriesOf(t, filepath.Join(site.Root, "wp-content/themes/twentytwentyone"), "t")["t/style.css"], "Requires PHP: 5.6", "Requires PHP: 99.0", 1)
	wetland(t, workspace, "examine", themePackage(t, site, "1.8", map[string]string{"style.css": strings.Replace(modern, "Version: 1.7", "Version: 1.8", 1)})).
		want(t, 3, "it needs PHP 99.0, and the site runs 8.", "Ask your host")
	// A folder as repositories name it is mapped, when name and text domain agree.
	entries := map[string]string{}
	for name, text := range entriesOf(t, filepath.Join(site.Root, "wp-content/themes/twentytwentyone"), "twentytwentyone-master") {
		entries[name] = strings.Replace(text, "Version: 1.7\n", "Version: 1.7.5\n", 1)
	}
	wetland(t, workspace, "examine", zipOf(t, "master.zip", entries)).want(t, 4, "it belongs to what is installed in "+site.Root+"/wp-content/themes/twentytwentyone", "1.7 -> 1.7.5, a patch release", "WordPress mails the administrator")
	// Every header of the default themes is read right.
	var found surveyed
	wetland(t, workspace, "survey", "--json").want(t, 0).decode(t, &found)
	var themes []string
	for _, c := range found.Components {
		if c.Kind == "theme" {
			themes = append(themes, c.Folder+" "+c.Version)
		}
	}
	if got := strings.Join(themes, ", "); got != "twentytwentyone 1.7, twentytwentythree 1.0, twentytwentytwo 1.3" {
		t.Errorf("the themes are %s", got)
	}
}

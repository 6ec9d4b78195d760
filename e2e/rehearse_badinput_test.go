package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wetland/internal/testenv"
)

// A copy that does not say what the site says is never taken for the site: what either has and the other has not
// is told, and where that is most of the pages, nothing is learnt.
func TestCopyThatDiffers(t *testing.T) {
	part := func(path string) func(r *http.Request) bool {
		return func(r *http.Request) bool { return r.URL.Path == path }
	}
	all := func(*http.Request) bool { return true }
	const form = `<form action="/enquire" method="post"><label>Your boat <input name="boat"></label><button>Ask</button></form>`
	for name, c := range map[string]struct {
		where func(r *http.Request) bool
		make  func(body string) string
		code  int
		words string
	}{
		"the site has a form more":   {part("/fares"), func(body string) string { return strings.Replace(body, "</main>", form+"</main>", 1) }, 4, "/fares"},
		"the copy has a menu more":   {part("/fares"), func(body string) string { return strings.ReplaceAll(body, "<nav", "<div") }, 4, "/fares"},
		"the site has it everywhere": {all, func(body string) string { return strings.Replace(body, "</main>", form+"</main>", 1) }, 2, "the copy does not answer as the site does"},
	} {
		t.Run(name, func(t *testing.T) {
			f := behind(t, func(r *http.Request, body string) string {
				if c.where(r) {
					return c.make(body)
				}
				return body
			})
			f.run(t, "rehearse", f.pkg("enquiries-1.2.0")).want(t, c.code, c.words)
		})
	}
}

// What a machine lacks for a copy is told, all of it, and no copy is made.
func TestMachineThatLacks(t *testing.T) {
	t.Parallel()
	onlyHere(t)
	site := testenv.WordPressOn(t, testenv.MySQL)
	workspace := adoptKind(t, site)
	before := remember(t, site, workspace)
	command := wetlandCommand(t, "rehearse", newTheme(t, site, ".1", nil))
	command.Env = append(os.Environ(), "PATH="+filepath.Join(workspace, "nothing"))
	finish(t, command, workspace).want(t, 2, "there is no PHP on this machine", "the site's tables are in MySQL 9", "and this machine has MariaDB")
	before.check(t)
}

// Settings that are computed are told as everywhere, before any copy is made.
func TestRehearseComputedSettings(t *testing.T) {
	t.Parallel()
	site := testenv.WordPress(t)
	workspace := adoptKind(t, site)
	config := filepath.Join(site.Root, "wp-config.php")
	text, err := os.ReadFile(config)
	must(t, err)
	must(t, os.WriteFile(config, []byte(strings.Replace(string(text), "define('DB_USER','"+site.User+"');", "define('DB_USER', implode( '', array( '"+site.User+"' ) ));", 1)), 0o644))
	pkg := newTheme(t, site, ".1", nil)
	wetland(t, workspace, "rehearse", pkg).want(t, 2, "DB_USER is computed")
	toml := filepath.Join(workspace, "wetland.toml")
	care, err := os.ReadFile(toml)
	must(t, err)
	must(t, os.WriteFile(toml, []byte(strings.Replace(string(care), "[database]\n", "[database]\nuser = \""+site.User+"\"\n", 1)), 0o600))
	wetland(t, workspace, "rehearse", pkg).want(t, 0, "Sound on a copy")
}

// What stands against packages by themselves is told before anything is made for them.
func TestRehearseRefusedAtOnce(t *testing.T) {
	f := adopted(t)
	f.run(t, "rehearse", "nonsense").want(t, 1, "there is no file nonsense")
	f.run(t, "rehearse", f.pkg("harbourlight-2.4.1")).want(t, 2, "version 2.4.1 is installed already", "--allow-same")
	f.run(t, "rehearse", f.pkg("enquiries-1.2.0"), "--from", "snap-99").want(t, 1, "no such snapshot")
	if left, err := filepath.Glob(filepath.Join(f.care, "store/snapshots/*")); err != nil || len(left) > 0 {
		t.Errorf("snapshots were taken: %v %v", left, err)
	}
	f.run(t, "rehearse", f.pkg("harbourlight-3.0.0"), f.pkg("tidetable-2.1.0")).want(t, 3, "probe 2 Tidetable 2.1.0: broken; put back, proved")
}

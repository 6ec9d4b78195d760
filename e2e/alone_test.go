package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wetland/core/files"
	"wetland/internal/testenv"
)

// What is installed without a folder of its own, in some version: a plugin that is one file, a must-use plugin with a
// folder beside it, a language pack, and a plugin that puts a file of its own in place of a part of WordPress, and fails
// without the file of its version.
func standAlone(version, revised string) map[string]string {
	cache := "<?php\n/* Plugin Name: Tide cache\n * Version: " + version + " */\ndefine( 'TIDE_CACHE', '" + version + "' );\n"
	return map[string]string{
		"plugins/bell.php":                             "<?php\n/* Plugin Name: Ferry bell\n * Version: " + version + " */\n",
		"mu-plugins/harbour.php":                       "<?php\n/* Plugin Name: Harbour\n * Version: " + version + " */\nrequire __DIR__ . '/harbour/part.php';\n",
		"mu-plugins/harbour/part.php":                  "<?php // " + version + "\n",
		"languages/plugins/tidetable-de_DE.po":         "msgid \"\"\nmsgstr \"\"\n\"PO-Revision-Date: " + revised + "\\n\"\n",
		"languages/plugins/tidetable-de_DE.l10n.php":   "<?php\nreturn ['po-revision-date'=>'" + revised + "','messages'=>[]];",
		"plugins/tidecache/tidecache.php":              "<?php\n/* Plugin Name: Tidecache\n * Version: " + version + " */\nif ( TIDE_CACHE !== '" + version + "' ) { tide_cache_of_another_version(); }\n",
		"plugins/tidecache/in-place/front-of-page.php": cache,
		"advanced-cache.php":                           cache,
	}
}

// aloneSite is a real site with all of that.
func aloneSite(t *testing.T) (site *testenv.Site, care string) {
	t.Helper()
	site, care = testenv.WordPress(t), t.TempDir()
	for name, text := range standAlone("1.0", "2026-05-01 12:00:00+0000") {
		site.Write(t, "wp-content/"+name, text)
	}
	config := filepath.Join(site.Root, "wp-config.php")
	edit(t, config, "<?php", "<?php\ndefine( 'WP_CACHE', true );")
	later := time.Now().Add(time.Minute) // PHP tells by whole seconds whether it changed
	must(t, os.Chtimes(config, later, later))
	site.PHP(t, []byte(`<?php require getcwd() . '/wp-load.php'; update_option( 'active_plugins', array( 'bell.php', 'tidecache/tidecache.php' ) );`))
	until(t, "PHP has dropped the settings from before", func() bool {
		text, err := site.Get("/")
		return err == nil && strings.Contains(text, "</html>") && !strings.Contains(text, "critical error")
	})
	wetland(t, care, "adopt", site.Root, "--address", site.Address, "--no-browser").want(t, 0)
	return site, care
}

// newAlone makes the packages of a version, as makers and hosts hand them out.
func newAlone(t *testing.T, version, revised string) (bell, harbour, pack, cache string) {
	t.Helper()
	all := standAlone(version, revised)
	below := func(folder string) map[string]string {
		found := map[string]string{}
		for name, text := range all {
			if rest, ok := strings.CutPrefix(name, folder); ok {
				found[rest] = text
			}
		}
		return found
	}
	bell = textFile(t, "bell.php", all["plugins/bell.php"])
	return bell, zipOf(t, "harbour", below("mu-plugins/")), zipOf(t, "pack", below("languages/plugins/")), zipOf(t, "tidecache", map[string]string{
		"tidecache/tidecache.php": all["plugins/tidecache/tidecache.php"], "tidecache/in-place/front-of-page.php": all["plugins/tidecache/in-place/front-of-page.php"]})
}

// holds fails unless the site has all of a version.
func holds(t *testing.T, site *testenv.Site, version, revised string) {
	t.Helper()
	for name, want := range standAlone(version, revised) {
		if is, err := os.ReadFile(filepath.Join(site.Root, "wp-content", name)); string(is) != want {
			t.Errorf("%s is not that of %s: %q %v", name, version, is, err)
		}
	}
}

// All that has a version is brought in, shelved and put back alike, whether it has a folder or not; a file that stands in for
// a part of the CMS goes with the plugin that brought it.
func TestUpdateWithoutFolders(t *testing.T) {
	t.Parallel()
	site, care := aloneSite(t)
	run := func(args ...string) result { return wetland(t, care, args...) }
	const first, second = "2026-05-01 12:00:00+0000", "2026-06-01 12:00:00+0000"
	bell, harbour, pack, cache := newAlone(t, "2.0", second)
	t.Log(run("survey").want(t, 0, "must-use plugins", "drop-ins", "language packs", "tidetable-de_DE", "2026.05.01.1200", "single file").stdout)
	t.Log(run("examine", cache).want(t, 3, "advanced-cache.php", "takes its place in the same step").stdout)
	t.Log(run("update", "--plan", "--allow-major", bell, harbour, pack, cache).want(t, 0, "drop-in", "advanced-cache.php", "must-use plugin", "language pack").stdout)

	old := tree(t, site.Root, caches...)
	refusedAlone(t, care)
	same(t, old, tree(t, site.Root, caches...))
	t.Log(run("update", "--allow-major", bell, harbour, pack, cache).want(t, 0, "Kept.").stdout)
	holds(t, site, "2.0", second)
	nothingLeft(t, site.Root)
	run("shelf").want(t, 0, "bell.php", "harbour.php", "tidetable-de_DE", "advanced-cache.php")

	t.Log(run("restore", "tidecache@1.0").want(t, 0, "in place").stdout)
	for _, name := range []string{"plugins/tidecache/tidecache.php", "plugins/tidecache/in-place/front-of-page.php", "advanced-cache.php"} {
		if text, err := os.ReadFile(filepath.Join(site.Root, "wp-content", name)); err != nil || !strings.Contains(string(text), "1.0") {
			t.Errorf("%s: %s %v", name, text, err)
		}
	}
	if plan := run("update", "--all", "--allow-major", "--plan").want(t, 0, "plugin Tidecache", "drop-in Tide cache (advanced-cache.php)").stdout; strings.Contains(plan, "step 2") {
		t.Errorf("the file of the plugin is a step of its own:\n%s", plan)
	}
	broken := zipOf(t, "harbour", map[string]string{"harbour.php": `<?php
/* Plugin Name: Harbour
 * Version: 2.1 */
file_put_contents( WP_CONTENT_DIR . '/db-error.php', '<?php // left behind' );
file_put_contents( WPMU_PLUGIN_DIR . '/left-behind.php', '<?php // left behind' );
the_harbour_is_closed();
`})
	before := tree(t, site.Root, caches...)
	t.Log(run("update", broken).want(t, 3, "Put back", "Harbour", "put back, too", "db-error.php").stdout)
	same(t, before, tree(t, site.Root, caches...))
	nothingLeft(t, site.Root)

	run("restore", "snap-1", "--only", "harbour.php", "--yes").want(t, 0, "Restored.")
	if text, err := os.ReadFile(filepath.Join(site.Root, "wp-content/mu-plugins/harbour/part.php")); err != nil || !strings.Contains(string(text), "1.0") {
		t.Errorf("--only: %s %v", text, err)
	}
	run("restore", "snap-1", "--yes").want(t, 0, "Restored.")
	same(t, old, tree(t, site.Root, caches...))
	holds(t, site, "1.0", first)
}

// What does not fit is refused, with the reason, and nothing is touched.
func refusedAlone(t *testing.T, care string) {
	t.Helper()
	header := func(name string) string { return "<?php\n/* Plugin Name: " + name + "\n * Version: 2.0 */\n" }
	for name, c := range map[string]struct{ file, says string }{
		"a folder now":    {zipOf(t, "bell", map[string]string{"bell/bell.php": header("Ferry bell"), "bell/inc/ring.php": "<?php"}), "has more that it needs: inc"},
		"not installed":   {textFile(t, "db.php", "<?php // 2.0\n"), "nothing of that kind and name is installed"},
		"no header":       {textFile(t, "harbour.php", "<?php // 2.0\n"), "has no header"},
		"another plugin":  {textFile(t, "advanced-cache.php", header("Other cache")), `holds "Tide cache"`},
		"another's words": {zipOf(t, "pack", map[string]string{"ferrybell-de_DE.po": "\"PO-Revision-Date: 2026-06-01 12:00:00+0000\\n\""}), "nothing of that kind and name is installed"},
	} {
		said := wetland(t, care, "update", "--allow-major", c.file)
		if said.code != 2 || !strings.Contains(strings.Join(strings.Fields(said.stdout+said.err), " "), c.says) {
			t.Errorf("%s: %d %s%s", name, said.code, said.stdout, said.err)
		}
	}
}

// Killed at any moment, what has no folder is wholly of one version once `recover` has run.
func TestUpdateWithoutFoldersKilled(t *testing.T) {
	if sampled(2) > 1 {
		t.Skip("make torture kills updates of files without folders")
	}
	t.Parallel()
	site, care := aloneSite(t)
	wetland(t, care, "snapshot").want(t, 0)
	old := tree(t, site.Root, caches...)
	_, harbour, _, cache := newAlone(t, "2.0", "2026-06-01 12:00:00+0000")
	is := func(version string) bool {
		for name, want := range standAlone(version, "") {
			text, _ := os.ReadFile(filepath.Join(site.Root, "wp-content", name))
			if (strings.Contains(name, "harbour") || strings.Contains(name, "cache")) && string(text) != want {
				return false
			}
		}
		return true
	}
	r := &replaced{victim: &victim{workspace: care, kills: map[string]int{}}, root: site.Root, update: []string{harbour, cache}}
	r.isOld = func() bool { return len(files.Content.Compare(old, tree(t, site.Root, caches...))) == 0 }
	r.isNew = func() bool { return is("2.0") }
	r.back = func() { r.run(t, "restore", "snap-1", "--yes").want(t, 0) }
	r.torment(t, 26, 1, 2*time.Second)
}

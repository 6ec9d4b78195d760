package e2e

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"wetland/internal/testenv"
)

// surveyed is what the tests read of a survey's JSON.
type surveyed struct {
	Components []struct {
		Kind, Folder, Version, Form, Newer, Distance, Changed string
		Active                                                bool
		ParentOfActive                                        bool `json:"parent_of_active"`
		Edits                                                 *struct {
			Added, Changed, Removed []string
		}
	}
	Automatic []string `json:"automatic_updates"`
	Leftovers []struct {
		Path   string
		Public bool
	}
	Nested []string `json:"nested_sites"`
}

func TestSurveyOfTheFerry(t *testing.T) {
	f := adopted(t)
	f.run(t, "shelve", f.packages).want(t, 0)
	f.run(t, "survey").want(t, 0, "harbourlight 2.4.1 parent of the active 3.0.0, major no", "enquiries 1.1.0 active 1.2.0, minor not known", "otterby 1.2.0 active -")

	// What an update installed is known, and so are edits of it.
	f.run(t, "update", "harbourlight@2.5.2").want(t, 0)
	theme := filepath.Join(f.root, "themes/harbourlight")
	f.run(t, "survey").want(t, 0, "harbourlight 2.5.2 parent of the active 3.0.0, major no")
	f.edit(t, filepath.Join(theme, "style.css"), "Georgia", "Garamond")
	if err := os.WriteFile(filepath.Join(theme, "mine.css"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(filepath.Join(theme, "changes.md")); err != nil {
		t.Fatal(err)
	}
	// Leftovers of earlier work, another site below, and somebody else's update.
	for _, name := range []string{"backup-2026.sql", "site.zip", "rowlock.toml.bak", "restore_site.php", "themes/harbourlight.zip"} {
		if err := os.WriteFile(filepath.Join(f.root, name), []byte("x"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, copied := range []string{"plugins/tidetable-old", "plugins/enquiries (1)"} {
		if err := os.CopyFS(filepath.Join(f.root, copied), os.DirFS(filepath.Join(f.root, "plugins/tidetable"))); err != nil {
			t.Fatal(err)
		}
	}
	other := filepath.Join(f.root, "uploads/second")
	if err := os.MkdirAll(other, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(other, "rowlock.toml"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	f.run(t, "survey").want(t, 0, "1 changed, 1 added, 1 removed", "style.css, mine.css, changes.md", "a database dump: everybody can fetch", "a major release", "another site")
	var found surveyed
	f.run(t, "survey", "--json").decode(t, &found)
	var left []string
	for _, leftover := range found.Leftovers {
		rel, _ := filepath.Rel(f.root, leftover.Path)
		left = append(left, rel)
	}
	want := []string{"themes/harbourlight.zip", "plugins/enquiries (1)", "plugins/tidetable-old", "backup-2026.sql", "restore_site.php", "rowlock.toml.bak", "site.zip"}
	if !slices.Equal(left, want) {
		t.Errorf("leftovers %q\nwant      %q", left, want)
	}
	if len(found.Nested) != 1 || found.Nested[0] != other {
		t.Errorf("nested sites: %v", found.Nested)
	}

	// The other site is in no snapshot, and no restore takes it away.
	f.run(t, "snapshot").want(t, 0)
	if err := os.WriteFile(filepath.Join(other, "new.txt"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	f.run(t, "restore", "snap-1", "--yes").want(t, 0)
	if _, err := os.Stat(filepath.Join(other, "new.txt")); err != nil {
		t.Errorf("the restore touched another site: %v", err)
	}
}

func TestSurveyKnowsAnUnreadableHeader(t *testing.T) {
	f := adopted(t)
	f.edit(t, filepath.Join(f.root, "plugins/enquiries/plugin.toml"), "name =", "name")
	if err := os.MkdirAll(filepath.Join(f.root, "themes/empty"), 0o755); err != nil {
		t.Fatal(err)
	}
	f.run(t, "survey").want(t, 0, "enquiries unknown unknown:", "empty unknown unknown: it has no header")
}

func TestSurveyNoticesSomebodyElse(t *testing.T) {
	f := adopted(t)
	f.run(t, "update", f.pkg("enquiries-1.2.0")).want(t, 0)
	f.edit(t, filepath.Join(f.root, "plugins/enquiries/plugin.toml"), "1.2.0", "1.3.0")
	f.run(t, "survey").want(t, 0, "run-1 left version 1.2.0, now it is 1.3.0: somebody else changed it")
}

// The survey agrees with what WordPress itself says.
func TestSurveyOfWordPress(t *testing.T) {
	t.Parallel()
	site := testenv.WordPress(t)
	for name, text := range map[string]string{
		"plugins/single-sailing.php":        "<?php\n/* Plugin Name: Single Sailing\n * Version: 0.3 */\n",
		"mu-plugins/always.php":             "<?php // no header at all\n",
		"plugins/enquiries/enquiries.php":   "<?php\n/* Plugin Name: Enquiries\nVersion: 1.1.0 */\n",
		"plugins/sleeping/sleeping.php":     "<?php\n/* Plugin Name: Sleeping\nVersion: 2.0 */\n",
		"plugins/no-header/readme.txt":      "nothing",
		"advanced-cache.php":                "<?php // a drop-in\n",
		"plugins/tidetable/other/inner.php": "<?php\n/* Plugin Name: Not this one */\n",
		"plugins/tidetable/tidetable.php":   "<?php\n/* Plugin Name: Tidetable\nVersion: 1.3.0 */\n",
	} {
		site.Write(t, "wp-content/"+name, text)
	}
	said := site.PHP(t, []byte(`<?php require getcwd() . '/wp-load.php'; require_once ABSPATH . 'wp-admin/includes/plugin.php';
update_option( 'active_plugins', array( 'single-sailing.php', 'enquiries/enquiries.php', 'tidetable/tidetable.php' ) );
update_option( 'auto_update_plugins', array( 'enquiries/enquiries.php' ) );
foreach ( get_plugins() as $file => $data ) { echo 'plugin ' . explode( '/', $file )[0] . ' ' . $data['Version'] . ' ' . ( is_plugin_active( $file ) ? 'true' : 'false' ) . "\n"; }
foreach ( wp_get_themes() as $folder => $theme ) { echo 'theme ' . $folder . ' ' . $theme->get( 'Version' ) . ' ' . ( $folder === get_stylesheet() ? 'true' : 'false' ) . "\n"; }`))
	edit(t, filepath.Join(site.Root, "wp-config.php"), "define('AUTOMATIC_UPDATER_DISABLED', true);", "")
	workspace := t.TempDir()
	wetland(t, workspace, "adopt", site.Root, "--address", site.Address, "--no-browser").want(t, 0)
	var found surveyed
	wetland(t, workspace, "survey", "--json").want(t, 0).decode(t, &found)
	var ours []string
	kinds := map[string]string{}
	for _, c := range found.Components {
		kinds[c.Folder] = c.Kind + " " + c.Form
		if c.Form == "" && c.Version != "" || c.Kind == "plugin" && c.Form == "single file" {
			ours = append(ours, strings.TrimSpace(c.Kind+" "+c.Folder+" "+c.Version+" "+map[bool]string{true: "true", false: "false"}[c.Active]))
		}
	}
	theirs := strings.Split(strings.TrimSpace(said), "\n")
	slices.Sort(ours)
	slices.Sort(theirs)
	if !slices.Equal(ours, theirs) {
		t.Errorf("the survey says\n%s\nWordPress says\n%s", strings.Join(ours, "\n"), strings.Join(theirs, "\n"))
	}
	if kinds["always.php"] != "must-use plugin single file" || kinds["advanced-cache.php"] != "drop-in single file" || kinds["single-sailing.php"] != "plugin single file" {
		t.Errorf("kinds: %v", kinds)
	}
	if !slices.Equal(found.Automatic, []string{"language packs", "WordPress itself, minor versions", "the plugin enquiries"}) {
		t.Errorf("automatic updates: %q", found.Automatic)
	}
}

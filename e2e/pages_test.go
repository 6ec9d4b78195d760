package e2e

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"wetland/internal/testenv"
)

// testedPages are the paths that "wetland pages" lists.
func testedPages(t *testing.T, workspace string) (paths []string) {
	t.Helper()
	var listed struct{ Pages []struct{ Path string } }
	wetland(t, workspace, "pages", "--json").decode(t, &listed)
	for _, page := range listed.Pages {
		paths = append(paths, page.Path)
	}
	return paths
}

// Pages are listed, added, left out and chosen anew, and the rest of wetland.toml stays as it was
// written.
func TestPagesAreChangedByCommand(t *testing.T) {
	f := adopted(t)
	config := filepath.Join(f.care, "wetland.toml")
	text, err := os.ReadFile(config)
	must(t, err)
	must(t, os.WriteFile(config, []byte("# Look after it.\n"+string(text)), 0o600))
	before := testedPages(t, f.care)
	if !slices.Contains(before, "/fares") || slices.Contains(before, "/robots.txt") {
		t.Fatalf("%q", before)
	}
	f.run(t, "pages", "leave-out", "/fares", "/timetable").want(t, 0, "2 pages left out")
	f.run(t, "pages", "leave-out", "/fares", "/nowhere").want(t, 1, "/fares is not among the pages", "/nowhere is not among the pages", "nothing was changed")
	f.run(t, "pages", "add", "/nowhere", "/fares").want(t, 1, "/nowhere: it answers 404", "nothing was changed")
	f.run(t, "pages", "add", "/fares").want(t, 0, "1 page added")
	f.run(t, "pages", "choose").want(t, 0, "+ /timetable", "A preview.", "Nothing was changed.")
	f.run(t, "pages", "choose", "--yes").want(t, 0, "1 page added")
	if now := testedPages(t, f.care); !slices.Equal(slices.Sorted(slices.Values(now)), slices.Sorted(slices.Values(before))) {
		t.Errorf("%q, was %q", now, before)
	}
	text, err = os.ReadFile(config)
	must(t, err)
	if !strings.HasPrefix(string(text), "# Look after it.\n") || !strings.Contains(string(text), "expect lists texts that must be on it.") {
		t.Errorf("comments are lost:\n%s", text)
	}
	f.run(t, "update", f.pkg("harbourlight-2.5.2")).want(t, 0)
}

// Pages that a plugin is used on are named before an update, and tested by it.
func TestPagesThatAComponentHasAPartIn(t *testing.T) {
	f := adopted(t)
	f.run(t, "pages", "leave-out", "/timetable").want(t, 0)
	f.run(t, "examine", f.pkg("tidetable-2.0.0")).want(t, 3, "it is used on /timetable; an update tests it, too")
	f.run(t, "update", f.pkg("tidetable-2.0.0"), "--allow-major", "--plan").want(t, 0, "among them", "/timetable, for tidetable")
	result := f.run(t, "update", f.pkg("tidetable-2.0.0"), "--allow-major", "--json")
	if !strings.Contains(result.stdout, `"/timetable"`) {
		t.Errorf("the page is not looked at:\n%s", result.stdout)
	}
}

// On WordPress a page of each kind is chosen, and the pages are named that hold a plugin's
// shortcode, or whose template differs.
func TestPagesOfEachKind(t *testing.T) {
	t.Parallel()
	site := testenv.WordPress(t)
	site.Write(t, "wp-content/plugins/lantern/lantern.php", "<?php\n/* Plugin Name: Lantern\nVersion: 1.0 */\nadd_shortcode( 'sailings', function () { return '<p>Every hour.</p>'; } );\n")
	site.PHP(t, []byte(`<?php require getcwd() . '/wp-load.php'; update_option( 'active_plugins', array( 'lantern/lantern.php' ) );
wp_insert_post( array( 'post_status' => 'publish', 'post_title' => 'Behind the curtain', 'post_content' => 'Only for those who know.', 'post_password' => 'otter' ) );`))
	workspace := t.TempDir()
	wetland(t, workspace, "adopt", site.Root, "--address", site.Address, "--no-browser").want(t, 0)
	pages := testedPages(t, workspace)
	for _, kind := range []string{"/", "/wp-login.php", "/?page_id=", "/?p=", "/?cat=", "/?m=2026", "/?s=", "/?s=qqxxqqxx", "/?feed=", "/?page_id=999999999"} {
		if !slices.ContainsFunc(pages, func(path string) bool { return strings.HasPrefix(path, kind) }) {
			t.Errorf("no page %s... is chosen: %q", kind, pages)
		}
	}
	if slices.Contains(pages, "/?s=the") {
		t.Errorf("the search is for an English word: %q", pages)
	}
	timetable := pages[slices.IndexFunc(pages, func(path string) bool { return strings.HasPrefix(path, "/?page_id=") })]
	wetland(t, workspace, "pages", "leave-out", timetable).want(t, 0)
	plugin := zipOf(t, "lantern.zip", map[string]string{"lantern/lantern.php": "<?php\n/* Plugin Name: Lantern\nVersion: 1.1 */\nadd_shortcode( 'sailings', function () { return '<p>Every two hours.</p>'; } );\n"})
	wetland(t, workspace, "examine", plugin).want(t, 4, "it is used on "+timetable+"; an update tests it, too")
	search, err := os.ReadFile(filepath.Join(site.Root, "wp-content/themes/twentytwentyone/search.php"))
	must(t, err)
	theme := themePackage(t, site, "1.8", map[string]string{"search.php": string(search) + "\n<!-- of the lantern -->\n"})
	wetland(t, workspace, "examine", theme).want(t, 4, "the new version has other templates for /?s=")
}

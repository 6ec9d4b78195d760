package e2e

import (
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"wetland/core/files"
	"wetland/internal/testenv"
)

// caches are what WordPress changes by itself in its folder.
var caches = []string{"wp-content/cache", "wp-content/uploads", "wp-content/upgrade"}

// care adopts a WordPress site into a workspace of the test.
func care(t *testing.T, site *testenv.Site) string {
	t.Helper()
	workspace := t.TempDir()
	result := wetland(t, workspace, "adopt", site.Root, "--address", site.Address, "--no-browser")
	result.want(t, 0, "WordPress 6.1", map[bool]string{true: "MySQL 9", false: "MariaDB"}[site.Kind.IsMySQL()], "tables of this site, login tried", "twentytwentyone", `php_pool = "by request" in wetland.toml prevents that`)
	return workspace
}

// rowsOf sums up each table of the site by the database server's own means, apart
// from Wetland's code, without the rows that WordPress rewrites by itself
// (docs/wordpress.md).
func rowsOf(t *testing.T, db *sql.DB, prefix string) map[string]string {
	t.Helper()
	without := map[string]string{
		prefix + "options":  `option_name NOT LIKE '\_transient\_%' AND option_name NOT LIKE '\_site\_transient\_%' AND option_name NOT IN ('cron', 'rewrite_rules', 'recovery_keys', 'auto_updater.lock', 'core_updater.lock', 'recently_activated', 'fresh_site')`,
		prefix + "usermeta": `meta_key <> 'session_tokens'`,
	}
	sums := map[string]string{}
	for _, table := range column(t, db, "SHOW TABLES") {
		where := without[table]
		if where == "" {
			where = "1"
		}
		var names []string
		for _, name := range column(t, db, "SELECT column_name FROM information_schema.columns WHERE table_schema = database() AND table_name = ? ORDER BY ordinal_position", table) {
			names = append(names, fmt.Sprintf("COALESCE(HEX(`%s`), 'null')", name))
		}
		rows := column(t, db, fmt.Sprintf("SELECT CONCAT_WS('|', %s) FROM `%s` WHERE %s ORDER BY 1", strings.Join(names, ", "), table, where))
		create := column(t, db, fmt.Sprintf("SELECT GROUP_CONCAT(CONCAT(column_name, column_type, COALESCE(collation_name, '')) ORDER BY ordinal_position) FROM information_schema.columns WHERE table_schema = database() AND table_name = '%s'", table))
		sum := sha256.Sum256([]byte(strings.Join(append(create, rows...), "\n")))
		sums[table] = fmt.Sprintf("%d rows, %s", len(rows), hex.EncodeToString(sum[:8]))
	}
	return sums
}

func column(t *testing.T, db *sql.DB, query string, args ...any) []string {
	t.Helper()
	rows, err := db.Query(query, args...)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	var values []string
	for rows.Next() {
		var value sql.NullString
		if err := rows.Scan(&value); err != nil {
			t.Fatal(err)
		}
		values = append(values, value.String)
	}
	if err := rows.Err(); err != nil {
		t.Fatal(err)
	}
	return values
}

func sameRows(t *testing.T, before, now map[string]string) {
	t.Helper()
	for table, sum := range before {
		if now[table] != sum {
			t.Errorf("table %s: %s, was %s", table, now[table], sum)
		}
	}
	for table := range now {
		if _, known := before[table]; !known {
			t.Errorf("table %s is new", table)
		}
	}
}

// themePackage is the real theme with another version and the given changes; an
// empty text drops the file.
func themePackage(t testing.TB, site *testenv.Site, version string, changes map[string]string) string {
	t.Helper()
	return themePackageOf(t, site, "1.7", version, changes)
}

// themePackageOf is made of the version that is installed.
func themePackageOf(t testing.TB, site *testenv.Site, installed, version string, changes map[string]string) string {
	t.Helper()
	entries := entriesOf(t, filepath.Join(site.Root, "wp-content/themes/twentytwentyone"), "twentytwentyone")
	const style = "twentytwentyone/style.css"
	entries[style] = strings.Replace(entries[style], "Version: "+installed, "Version: "+version, 1)
	if !strings.Contains(entries[style], "Version: "+version) {
		t.Fatalf("the theme is not version %s", installed)
	}
	for name, text := range changes {
		if text == "" {
			delete(entries, "twentytwentyone/"+name)
		} else {
			entries["twentytwentyone/"+name] = text
		}
	}
	return zipOf(t, "twentytwentyone."+version+".zip", entries)
}

// askPool has wetland.toml say where PHP can be asked, or not.
func askPool(t testing.TB, workspace string, site *testenv.Site, asked bool) {
	t.Helper()
	config := filepath.Join(workspace, "wetland.toml")
	text, err := os.ReadFile(config)
	must(t, err)
	kept := regexp.MustCompile(`(?m)^php_pool = .*\n`).ReplaceAllString(string(text), "")
	if asked {
		kept = strings.Replace(kept, "cms = \"wordpress\"\n", fmt.Sprintf("cms = \"wordpress\"\nphp_pool = %q\n", site.Pool), 1)
	}
	must(t, os.WriteFile(config, []byte(kept), 0o600))
}

// brokenSingle fails after the head of the page was sent: the answer is still 200.
const brokenSingle = `<?php
get_header();
while ( have_posts() ) {
	the_post();
	tideline_show_notice();
}
get_footer();
`

// onServers tests WordPress with its tables on this system's MariaDB, and on MySQL.
func onServers(t *testing.T, test func(t *testing.T, site *testenv.Site)) {
	t.Helper()
	for _, kind := range []testenv.Kind{testenv.OwnMariaDB, testenv.MySQL} {
		t.Run(kind.Name, func(t *testing.T) {
			t.Parallel()
			test(t, testenv.WordPressOn(t, kind))
		})
	}
}

func TestWordPressThemeWithFatalErrorIsPutBack(t *testing.T) {
	onServers(t, wordPressThemeWithFatalErrorIsPutBack)
}

func wordPressThemeWithFatalErrorIsPutBack(t *testing.T, site *testenv.Site) {
	workspace := care(t, site)
	edit(t, filepath.Join(workspace, "wetland.toml"), `cms = "wordpress"`, "cms = \"wordpress\"\nphp_log = \""+site.Log+"\"")
	bad := themePackage(t, site, "1.8", map[string]string{"single.php": brokenSingle})
	before, rows := tree(t, site.Root, caches...), rowsOf(t, site.Account.Root, "of_")

	result := wetland(t, workspace, "update", bad)
	result.want(t, 3, "Put back.", "Version 1.7 is back, and proved", "in one step: the folder was never absent", "equal to snap-1",
		"PHP logged a fatal error in twentytwentyone: PHP Fatal error: Uncaught Error: Call to undefined function")
	if !strings.Contains(result.stdout, "critical error") && !strings.Contains(result.stdout, "cut off") {
		t.Errorf("the fatal error is not named\n%s", result)
	}
	same(t, before, tree(t, site.Root, caches...))
	sameRows(t, rows, rowsOf(t, site.Account.Root, "of_"))
	nothingLeft(t, site.Root)
}

func TestWordPressHarmlessThemeIsKept(t *testing.T) { onServers(t, wordPressHarmlessThemeIsKept) }

func wordPressHarmlessThemeIsKept(t *testing.T, site *testenv.Site) {
	workspace := care(t, site)
	good := themePackage(t, site, "1.8", map[string]string{
		"postcss.config.js": "", "package-lock.json": "", // dropped by the new version
		"assets/css/print.css": "@media print { nav { display: none; } }\n",
	})
	rows := rowsOf(t, site.Account.Root, "of_")
	wetland(t, workspace, "update", good).want(t, 0, "Kept.", "pages are sound", "1.7 is on the shelf")

	theme := tree(t, filepath.Join(site.Root, "wp-content/themes/twentytwentyone"))
	equalToPackage(t, good, "twentytwentyone", theme)
	for _, dropped := range []string{"postcss.config.js", "package-lock.json"} {
		if _, err := os.Stat(filepath.Join(site.Root, "wp-content/themes/twentytwentyone", dropped)); !os.IsNotExist(err) {
			t.Errorf("%s is still there", dropped)
		}
	}
	sameRows(t, rows, rowsOf(t, site.Account.Root, "of_"))
	if active := column(t, site.Account.Root, "SELECT option_value FROM of_options WHERE option_name = 'stylesheet'"); len(active) != 1 || active[0] != "twentytwentyone" {
		t.Errorf("the active theme is %q", active)
	}
	nothingLeft(t, site.Root)

	// The replaced version is at hand, and the snapshot brings everything back.
	if _, err := os.Stat(filepath.Join(workspace, "shelf/themes/twentytwentyone/twentytwentyone@1.7.zip")); err != nil {
		t.Error(err)
	}
	wetland(t, workspace, "restore", "snap-1", "--yes").want(t, 0, "Restored.", "equal to snap-1")
	sameRows(t, rows, rowsOf(t, site.Account.Root, "of_"))
}

// equalToPackage fails unless the tree has just the files of the zip.
func equalToPackage(t *testing.T, archive, folder string, got files.Tree) {
	t.Helper()
	unpacked := t.TempDir()
	unzip(t, archive, unpacked)
	for _, differ := range files.Content.Compare(tree(t, filepath.Join(unpacked, folder)), got) {
		t.Errorf("%s: %s", differ.Path, differ.What)
	}
}

// nothingLeft fails if anything of Wetland's is in the site or beside it.
func nothingLeft(t *testing.T, root string) {
	t.Helper()
	// Not the database: closing its file here would drop the locks of the site that this
	// process serves (POSIX locks belong to the process).
	for _, item := range tree(t, root, "data") {
		if strings.Contains(item.Path, "wetland") {
			t.Errorf("left in the site: %s", item.Path)
		}
	}
	beside, err := filepath.Glob(filepath.Join(filepath.Dir(root), ".wetland*"))
	if err != nil || len(beside) > 0 {
		t.Errorf("left beside the site: %v %v", beside, err)
	}
}

// WordPress in a directory of its own, its content beside it and its settings above: all of it
// is one site, below the folder that the web server hands out.
func TestWordPressInItsOwnDirectory(t *testing.T) {
	t.Parallel()
	site := testenv.OwnDirectoryWordPress(t)
	workspace := t.TempDir()
	wetland(t, workspace, "adopt", site.Root, "--address", site.Address, "--no-browser").want(t, 0, "recognised by wp/wp-includes/version.php", "3 of 3 files are served", "twentytwentyone", "/wp/wp-login.php")
	wetland(t, t.TempDir(), "adopt", filepath.Join(site.Root, "wp"), "--address", site.Address, "--no-browser").want(t, 2, "only holds the CMS itself", site.Root+" --address URL")
	wetland(t, workspace, "survey").want(t, 0, "twentytwentyone")
	content := *site
	content.Root = t.TempDir() // where themePackage looks
	must(t, os.MkdirAll(filepath.Join(content.Root, "wp-content"), 0o755), os.Symlink(filepath.Join(site.Root, "content/themes"), filepath.Join(content.Root, "wp-content/themes")))
	before := tree(t, site.Root, caches...)
	bad := themePackage(t, &content, "1.9", map[string]string{"single.php": brokenSingle})
	wetland(t, workspace, "update", bad).want(t, 3, "Version 1.7 is back, and proved")
	same(t, before, tree(t, site.Root, caches...))
	good := themePackage(t, &content, "1.8", map[string]string{"assets/css/print.css": "@media print { nav { display: none; } }\n"})
	wetland(t, workspace, "update", good).want(t, 0, "Kept.", "the address serves the new assets/css/print.css")
	must(t, os.Remove(filepath.Join(site.Root, "wp/wp-load.php")))
	wetland(t, workspace, "restore", "snap-1", "--yes").want(t, 0, "Restored.")
	same(t, before, tree(t, site.Root, caches...))
}

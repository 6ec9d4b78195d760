package e2e

import (
	"crypto/tls"
	"encoding/pem"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"wetland/core/files"
	"wetland/core/smoke/reading"
	"wetland/internal/testenv"
)

// untouched remembers a WordPress site, and fails at the end of the test if it is another one, or if
// something of a private copy is left.
type untouched struct {
	site      *testenv.Site
	workspace string
	tree      files.Tree
	rows      map[string]string
	asked     int // lines of the site's access log
}

func remember(t *testing.T, site *testenv.Site, workspace string) *untouched {
	t.Helper()
	u := &untouched{site: site, workspace: workspace, tree: tree(t, site.Root, caches...), rows: rowsOf(t, site.Account.Root, "of_")}
	u.asked = len(u.requests(t))
	return u
}

var freshMark = regexp.MustCompile(`[?&]` + reading.FreshMark + `=\w+`)

var requestLine = regexp.MustCompile(`\[\d\d\d\]: (\w+ \S+)`)

// requests are what the site was asked, by its server's own log.
func (u *untouched) requests(t *testing.T) (all []string) {
	t.Helper()
	text, err := os.ReadFile(u.site.Log)
	must(t, err)
	for _, found := range requestLine.FindAllStringSubmatch(string(text), -1) {
		all = append(all, found[1])
	}
	return all
}

// check fails where the site is not as it was, or where a page was looked at more than once: a look asks
// for a page past all caches, and as a visitor.
func (u *untouched) check(t *testing.T) {
	t.Helper()
	same(t, u.tree, tree(t, u.site.Root, caches...))
	sameRows(t, u.rows, rowsOf(t, u.site.Account.Root, "of_"))
	times := map[string]int{}
	for _, request := range u.requests(t)[u.asked:] {
		if !strings.HasPrefix(request, "GET ") {
			t.Errorf("the site was asked to %s", request)
		}
		times[freshMark.ReplaceAllString(request, "")]++
	}
	for _, path := range slices.Sorted(maps.Keys(times)) {
		if times[path] > 2 {
			t.Errorf("the site was asked %d times to %s", times[path], path)
		}
	}
	u.asked = len(u.requests(t))
	left, err := os.ReadDir(filepath.Join(u.workspace, "copies"))
	if err == nil && len(left) > 0 {
		t.Errorf("%s of a copy is still there", left[0].Name())
	}
}

// migratingPlugin is a plugin that keeps a table and changes it in version 2; a bad one dies half-way.
func migratingPlugin(t *testing.T, version, dies string) string {
	t.Helper()
	return zipOf(t, "ferrylog."+version+".zip", map[string]string{"ferrylog/ferrylog.php": `<?php
/*
Plugin Name: Ferry Log
Version: ` + version + `
*/
function ferrylog_upgrade() {
	global $wpdb;
	$was = get_option( 'ferrylog_version', '0' );
	if ( $was === '` + version + `' ) {
		return;
	}
	$table = $wpdb->prefix . 'ferrylog';
	$wpdb->query( "CREATE TABLE IF NOT EXISTS $table (id INT PRIMARY KEY AUTO_INCREMENT, crossing VARCHAR(40))" );
	if ( $was !== '0' ) {
		$wpdb->query( "ALTER TABLE $table ADD COLUMN tide INT NOT NULL DEFAULT 0" );
		` + dies + `
	}
	update_option( 'ferrylog_version', '` + version + `' );
}
add_action( 'init', 'ferrylog_upgrade' );
`})
}

// certificatesOf writes the certificate of a site's server to a file.
func certificatesOf(t *testing.T, site *testenv.Site) string {
	t.Helper()
	address, err := url.Parse(site.Address)
	must(t, err)
	connection, err := tls.Dial("tcp", address.Host, &tls.Config{InsecureSkipVerify: true})
	must(t, err)
	defer connection.Close()
	file := filepath.Join(t.TempDir(), "site.pem")
	must(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: connection.ConnectionState().PeerCertificates[0].Raw}), 0o600))
	return file
}

// kinds are sites of WordPress that differ in where their parts lie, and how they are reached.
var kinds = map[string]func(t *testing.T) *testenv.Site{
	"in its root":              func(t *testing.T) *testenv.Site { return testenv.WordPress(t) },
	"below its host, over TLS": func(t *testing.T) *testenv.Site { site, _ := testenv.SubfolderWordPress(t); return site },
	"in a folder of its own":   func(t *testing.T) *testenv.Site { return testenv.OwnDirectoryWordPress(t) },
	"the newest, on newer PHP": func(t *testing.T) *testenv.Site {
		site := testenv.NewestWordPress(t)
		site.PHP(t, []byte("<?php require 'wp-load.php'; switch_theme( 'twentytwentyfive' );"))
		return site
	},
}

// adoptKind adopts any of them.
func adoptKind(t *testing.T, site *testenv.Site) (workspace string) {
	t.Helper()
	workspace = t.TempDir()
	adopt := []string{"adopt", site.Root, "--address", site.Address, "--no-browser"}
	if strings.HasPrefix(site.Address, "https:") {
		adopt = append(adopt, "--certificates", certificatesOf(t, site))
	}
	if code := wetland(t, workspace, adopt...).code; code != 0 && code != 4 {
		t.Fatalf("adopt ends with %d", code)
	}
	return workspace
}

var themeVersion = regexp.MustCompile(`(?m)^Version: (\S+)`)

// newTheme is another version of the theme that a site has, with changes.
func newTheme(t *testing.T, site *testenv.Site, version string, changes map[string]string) string {
	t.Helper()
	content := "wp-content"
	for _, other := range []string{"stuff", "content"} {
		if _, err := os.Stat(filepath.Join(site.Root, other)); err == nil {
			content = other
		}
	}
	name := "twentytwentyone"
	if _, err := os.Stat(filepath.Join(site.Root, content, "themes", name)); err != nil {
		name = "twentytwentyfive"
	}
	folder := filepath.Join(site.Root, content, "themes", name)
	entries := entriesOf(t, folder, name)
	style := entries[name+"/style.css"]
	installed := themeVersion.FindStringSubmatch(style)
	if installed == nil {
		t.Fatalf("the theme in %s names no version", folder)
	}
	entries[name+"/style.css"] = strings.Replace(style, installed[0], "Version: "+installed[1]+version, 1)
	for file, text := range changes {
		entries[name+"/"+file] = text
	}
	return zipOf(t, name+version+".zip", entries)
}

// A rehearsal tells of real packages what an update would, and the site stays as it is.
func TestRehearseWordPress(t *testing.T) {
	for name, start := range kinds {
		t.Run(name, func(t *testing.T) {
			site := start(t)
			workspace := adoptKind(t, site)
			before := remember(t, site, workspace)
			code, words := 0, "Sound on a copy"
			if name == "the newest, on newer PHP" {
				code, words = 4, "the copy was not in all as the site: it runs PHP 8.2" // this machine's own
			}
			wetland(t, workspace, "rehearse", newTheme(t, site, ".1", map[string]string{"assets/css/new.css": "p { margin: 0 }\n"})).want(t, code, words, "all sound", "was not touched")
			before.check(t)
			wetland(t, workspace, "rehearse", newTheme(t, site, ".2", map[string]string{"single.php": brokenSingle, "functions.php": "<?php\ntideline_is_missing();\n"})).want(t, 3, "Broken on a copy", "was not touched")
			before.check(t)
		})
	}
}

// What a plugin does to its tables is told, and happens to none of the site's.
func TestRehearseMigration(t *testing.T) {
	site := testenv.WordPress(t)
	workspace := adoptKind(t, site)
	wetland(t, workspace, "update", migratingPlugin(t, "1.0", "")).want(t, 0)
	site.PHP(t, []byte("<?php require 'wp-load.php'; require_once ABSPATH . 'wp-admin/includes/plugin.php'; activate_plugin( 'ferrylog/ferrylog.php' ); ferrylog_upgrade();"))
	if _, err := site.Get("/"); err != nil {
		t.Fatal(err)
	}
	before := remember(t, site, workspace)
	wetland(t, workspace, "rehearse", migratingPlugin(t, "2.0", ""), "--allow-major").want(t, 0, "Sound on a copy", "of_ferrylog", "has another structure")
	before.check(t)
	wetland(t, workspace, "rehearse", migratingPlugin(t, "2.1", "tideline_is_missing();"), "--allow-major").want(t, 3, "Broken on a copy")
	before.check(t)
}

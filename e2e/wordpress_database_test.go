package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wetland/internal/testenv"
)

// tidePlugin is a small real plugin: it keeps sailings in a table of its own and
// changes that table when a new version is first visited.
func tidePlugin(version, migrate, shortcode string) map[string]string {
	return map[string]string{"tidetable/tidetable.php": fmt.Sprintf(`<?php
/**
 * Plugin Name: Tidetable
 * Version: %s
 * Author: Lanternworks Studio
 */
add_action( 'init', function () {
	global $wpdb;
	if ( get_option( 'tidetable_version' ) === '%s' ) {
		return;
	}
	%s
	update_option( 'tidetable_version', '%s' );
} );
add_shortcode( 'sailings', function () {
	global $wpdb;
	%s
} );
`, version, version, migrate, version, shortcode)}
}

const (
	firstTable   = "$wpdb->query( \"CREATE TABLE IF NOT EXISTS {$wpdb->prefix}sailings (id INT AUTO_INCREMENT PRIMARY KEY, stage VARCHAR(50), departs VARCHAR(5))\" ); $wpdb->query( \"INSERT INTO {$wpdb->prefix}sailings (stage, departs) VALUES ('Otterby Steps', '07:10'), ('Sallow End', '07:30')\" );"
	showSailings = "return implode( ', ', $wpdb->get_col( \"SELECT CONCAT(departs, ' ', stage) FROM {$wpdb->prefix}sailings\" ) );"
	migrateTable = "$wpdb->query( \"ALTER TABLE {$wpdb->prefix}sailings CHANGE departs departs_at TIME, ADD COLUMN minutes INT DEFAULT 4\" ); $wpdb->query( \"CREATE TABLE {$wpdb->prefix}boats (id INT PRIMARY KEY)\" ); wp_insert_comment( array( 'comment_post_ID' => 10, 'comment_author' => 'Piet Alder', 'comment_content' => 'Written while the bad version was in place', 'comment_approved' => 1 ) );"
	failAfter    = "return tidetable_draw_board( $wpdb );"
)

// A plugin that migrates its table at the first visit and then fails: the table
// comes back, the visitor's comment stays.
func TestWordPressPluginThatMigratesAndFails(t *testing.T) {
	onServers(t, wordPressPluginThatMigratesAndFails)
}

func wordPressPluginThatMigratesAndFails(t *testing.T, site *testenv.Site) {
	for name, text := range tidePlugin("1.3.0", firstTable, showSailings) {
		site.Write(t, "wp-content/plugins/"+name, text)
	}
	site.PHP(t, []byte(`<?php require getcwd() . '/wp-load.php'; update_option( 'active_plugins', array( 'tidetable/tidetable.php' ) );`))
	if text, err := site.Get("/?page_id=4"); err != nil || !strings.Contains(text, "07:10 Otterby Steps") {
		t.Fatalf("the plugin does not work: %v", err)
	}
	workspace := care(t, site)
	before, rows := tree(t, site.Root, caches...), rowsOf(t, site.Account.Root, "of_")
	bad := zipOf(t, "tidetable.zip", tidePlugin("2.0.0", migrateTable, failAfter))

	result := wetland(t, workspace, "update", bad, "--allow-major")
	result.want(t, 3, "Put back.", "of_sailings was changed in structure by the update: back as it was, with 2 rows",
		"of_boats was created by the update: set aside", "of_comments 1 row added meanwhile: visitors' writes, kept")
	same(t, before, tree(t, site.Root, caches...))
	now := rowsOf(t, site.Account.Root, "of_")
	for _, table := range []string{"of_sailings", "of_options", "of_users", "of_usermeta", "of_terms"} {
		if now[table] != rows[table] {
			t.Errorf("table %s: %s, was %s", table, now[table], rows[table])
		}
	}
	if kept := column(t, site.Account.Root, "SELECT comment_author FROM of_comments WHERE comment_content LIKE 'Written while%'"); len(kept) != 1 {
		t.Errorf("the visitor's comment: %v", kept)
	}
	if text, err := site.Get("/?page_id=4"); err != nil || !strings.Contains(text, "07:10 Otterby Steps") {
		t.Errorf("the timetable after going back: %v", err)
	}
	nothingLeft(t, site.Root)
}

func TestWordPressDatabaseTroubles(t *testing.T) {
	site := testenv.WordPress(t)
	workspace := care(t, site)
	harmless := themePackage(t, site, "1.8", nil)
	config := filepath.Join(site.Root, "wp-config.php")
	good, err := os.ReadFile(config)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name, old, new string
		words          []string
	}{
		{"wrong password", `define( "DB_PASSWORD" , 'Tide`, `define( "DB_PASSWORD" , 'Ebb`, []string{"refuses this user or password", "Check user and password in the CMS's own settings"}},
		{"unreachable", fmt.Sprintf("127.0.0.1:%d", site.Port), "127.0.0.1:1", []string{"cannot be reached", "Is the database server running?"}},
		{"no such database", `"` + site.Name + `"`, `"` + site.Name + `_gone"`, []string{"refuses this user or password for this database"}},
		{"computed", `define( "DB_PASSWORD" , 'Tide`, `define( "DB_PASSWORD" , getenv('NONE') . 'Tide`, []string{"DB_PASSWORD is computed in wp-config.php", "Give it as database.password_from in wetland.toml"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			bad := strings.Replace(string(good), c.old, c.new, 1)
			if bad == string(good) {
				t.Fatalf("wp-config.php has no %q", c.old)
			}
			if err := os.WriteFile(config, []byte(bad), 0o644); err != nil {
				t.Fatal(err)
			}
			before := tree(t, site.Root, caches...)
			result := wetland(t, workspace, "update", harmless).want(t, 2, append(c.words, "Nothing on the site was touched")...)
			if strings.Contains(result.stdout+result.err, "$lack") {
				t.Errorf("the password is printed\n%s", result)
			}
			same(t, before, tree(t, site.Root, caches...))

			// Adopting says the same, and leaves a file to mend.
			fresh := t.TempDir()
			wetland(t, fresh, "adopt", site.Root, "--address", site.Address, "--no-browser").want(t, 4, append(c.words[:1], "Adopted, with doubts.")...)
		})
	}
	// What cannot be read can be given; the password by the environment alone.
	bad := strings.Replace(string(good), `define( "DB_PASSWORD" , '`, `define( "DB_PASSWORD" , getenv('NONE') . '`, 1)
	if err := os.WriteFile(config, []byte(bad), 0o644); err != nil {
		t.Fatal(err)
	}
	edit(t, filepath.Join(workspace, "wetland.toml"), "[database]", "[database]\npassword_from = \"env FERRY_PASSWORD\"")
	// The password goes to no host that the site's settings alone name.
	t.Setenv("FERRY_PASSWORD", site.Password)
	wetland(t, workspace, "snapshot").want(t, 2, "password_from needs host or socket beside it", "host = \"127.0.0.1\"")
	edit(t, filepath.Join(workspace, "wetland.toml"), "[database]", fmt.Sprintf("[database]\nhost = \"127.0.0.1\"\nport = %d", site.Port))
	t.Setenv("FERRY_PASSWORD", site.Password)
	if err := os.WriteFile(config, []byte(bad), 0o644); err != nil {
		t.Fatal(err)
	}
	wetland(t, workspace, "snapshot").want(t, 0, "Taken and verified.")
	for _, item := range tree(t, workspace) {
		text, err := os.ReadFile(filepath.Join(workspace, item.Path))
		if err == nil && strings.Contains(string(text), site.Password) {
			t.Errorf("%s holds the password", item.Path)
		}
	}
}

// A real WordPress dies altogether: no files, no database. The snapshot brings both back;
// a copy into another database, and a deep verification, say why if they may not.
func TestWordPressIsRestoredFromNothing(t *testing.T) { onServers(t, wordPressIsRestoredFromNothing) }

func wordPressIsRestoredFromNothing(t *testing.T, site *testenv.Site) {
	workspace := care(t, site)
	_, err := site.Account.Root.Exec("CREATE VIEW of_newest AS SELECT ID FROM of_posts; CREATE EVENT of_nightly ON SCHEDULE EVERY 1 DAY DO DELETE FROM of_comments")
	must(t, err)
	wetland(t, workspace, "snapshot").want(t, 0, "Taken and verified.")
	before, rows := tree(t, site.Root, caches...), rowsOf(t, site.Account.Root, "of_")
	wetland(t, workspace, "verify", "snap-1", "--deep").want(t, 1, "who may make databases")
	wetland(t, workspace, "restore", "snap-1", "--into-database", "another").want(t, 1, "refuses this user or password for this database")

	_, err = site.Account.Root.Exec("DROP DATABASE " + site.Account.Name)
	must(t, err)
	entries, err := os.ReadDir(site.Root)
	must(t, err)
	for _, entry := range entries {
		must(t, os.RemoveAll(filepath.Join(site.Root, entry.Name())))
	}
	wetland(t, workspace, "restore", "snap-1", "--yes").want(t, 0, "dead site", "is made again", "Restored.",
		"the view of_newest acts in the name of "+site.Account.User+"@", "the event of_nightly acts in the name of", "It is disabled, so that it does not run with other rights")
	same(t, before, tree(t, site.Root, caches...))
	_, err = site.Account.Root.Exec("USE " + site.Account.Name)
	must(t, err)
	for table, sum := range rowsOf(t, site.Account.Root, "of_") {
		if rows[table] != sum {
			t.Errorf("table %s: %s, was %s", table, sum, rows[table])
		}
	}
	// Whoever may, copies it beside and verifies it deeply.
	_, err = site.Account.Root.Exec(fmt.Sprintf("GRANT ALL ON *.* TO %s@'%%'; GRANT ALL ON *.* TO %s@localhost", site.Account.User, site.Account.User))
	must(t, err)
	wetland(t, workspace, "verify", "snap-1", "--deep").want(t, 0, "loaded into a scratch database", "Proved.")
	wetland(t, workspace, "restore", "snap-1", "--into-database", site.Account.Name+"_copy", "--into", filepath.Join(t.TempDir(), "copy")).want(t, 0, "its events are disabled there", "Copied.")
	wetland(t, workspace, "restore", "snap-1", "--into-database", site.Account.Name+"_copy").want(t, 1, "is not empty")
	wetland(t, workspace, "restore", "snap-1", "--into-database", site.Account.Name).want(t, 1, "the live site's own database")
}

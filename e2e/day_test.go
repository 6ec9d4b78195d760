package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"wetland/internal/testenv"
)

// boatPlugins are four plugins that do a little each; the third of the newer ones dies on every
// post.
func boatPlugins(version string) map[string]map[string]string {
	all := map[string]map[string]string{}
	for _, name := range []string{"anchor", "buoy", "capstan", "dinghy"} {
		text := "<?php\n/**\n * Plugin Name: " + strings.ToUpper(name[:1]) + name[1:] + "\n * Version: " + version + "\n */\nadd_shortcode( '" + name + "', function () { return '<p>The " + name + " of the ferry is looked after every spring, whatever the weather.</p>'; } );\n"
		if name == "capstan" && version != "1.0" {
			text += "add_action( 'wp', function () { if ( is_single() ) { capstan_is_stuck(); } } );\n"
		}
		all[name] = map[string]string{name + "/" + name + ".php": text}
	}
	return all
}

// A maintainer's day on a real WordPress: what was met when the tool was used for a day, one after
// the other on one site, with golden copies of it to compare with.
func TestMaintainersDay(t *testing.T) {
	t.Parallel()
	site := testenv.WordPress(t)
	for _, files := range boatPlugins("1.0") {
		for name, text := range files {
			site.Write(t, "wp-content/plugins/"+name, text)
		}
	}
	site.PHP(t, []byte(`<?php require getcwd() . '/wp-load.php'; update_option( 'active_plugins', array( 'anchor/anchor.php', 'buoy/buoy.php', 'capstan/capstan.php', 'dinghy/dinghy.php' ) );
for ( $n = 1; $n <= 8; $n++ ) { wp_insert_post( array( 'post_status' => 'publish', 'post_title' => 'Log of week ' . $n, 'post_content' => 'The river stood at ' . $n . ' feet.', 'post_date' => sprintf( '2026-10-%02d 08:00:00', $n ) ) ); }
wp_insert_post( array( 'post_type' => 'page', 'post_status' => 'publish', 'post_title' => 'Boathouse', 'post_content' => '[anchor] [buoy] [capstan] [dinghy]' ) );`))
	care := t.TempDir()
	run := func(code int, words []string, args ...string) result {
		t.Helper()
		return wetland(t, care, args...).want(t, code, words...)
	}
	config := filepath.Join(care, "wetland.toml")
	theme := filepath.Join(site.Root, "wp-content/themes/twentytwentyone")
	golden := func() (files func(), rows func()) {
		before, sums := tree(t, site.Root, append(caches, "wp-content/debug.log")...), rowsOf(t, site.Account.Root, "of_")
		return func() { t.Helper(); same(t, before, tree(t, site.Root, append(caches, "wp-content/debug.log")...)) }, func() { t.Helper(); sameRows(t, sums, rowsOf(t, site.Account.Root, "of_")) }
	}

	// Morning: the site comes into care, under its own name, with the page of the shortcodes on
	// the list and no more than two posts of a kind.
	run(0, []string{"Adopted.", "WordPress 6.1"}, "adopt", site.Root, "--address", site.Address, "--no-browser")
	text, err := os.ReadFile(config)
	if err != nil || !strings.Contains(string(text), `name = "Otterby Ferry"`) {
		t.Errorf("%v\n%s", err, text)
	}
	if boathouse := column(t, site.Account.Root, "SELECT ID FROM of_posts WHERE post_title = 'Boathouse'"); !strings.Contains(string(text), `path = "/?page_id=`+boathouse[0]+`"`) {
		t.Errorf("the page of the shortcodes is not tested\n%s", text)
	}
	posts := column(t, site.Account.Root, "SELECT ID FROM of_posts WHERE post_type = 'post' AND post_status = 'publish'")
	listed := 0
	for _, id := range posts {
		listed += strings.Count(string(text), `path = "/?p=`+id+`"`)
	}
	if listed > 2 {
		t.Errorf("%d posts are tested\n%s", listed, text)
	}

	if os.Getenv("WETLAND_TORTURE") == "" { // the other pages are for the long run
		onlyPages(t, care, "/", "/?p="+posts[0])
	}

	// What was left lying about is told, also to somebody who wants to hear little.
	site.Write(t, "sql-admin.php", "<?php if ( isset( $_POST['password'] ) ) { $db = new mysqli( 'localhost', $_POST['user'], $_POST['password'] ); $db->query( 'SHOW TABLES' ); } echo '<form><input type=\"password\">';")
	site.Write(t, "old/index.php", "<?php")
	quiet := run(0, []string{"a tool for the whole database in one file", "a folder of copies"}, "survey", "--quiet")
	if quiet.stdout != "" {
		t.Errorf("leftovers are not told\n%s", quiet)
	}
	must(t, os.Remove(filepath.Join(site.Root, "sql-admin.php")), os.RemoveAll(filepath.Join(site.Root, "old")))

	// A vendor's archive with a branch in its folder's name; edits by hand are not lost unasked.
	newer := themePackage(t, site, "1.8", map[string]string{"assets/css/print.css": "@media print { nav { display: none; } }\n"})
	run(0, nil, "shelve", themePackage(t, site, "1.7", nil), newer)
	edit(t, filepath.Join(theme, "footer.php"), "<footer", "<!-- ours --><footer")
	run(2, []string{"was edited by hand", "a child theme", "the pages were not looked at"}, "update", "twentytwentyone@1.8")
	examined := run(3, nil, "examine", "twentytwentyone@1.8", "--quiet")
	if !strings.Contains(examined.err, "hand edits") {
		t.Errorf("what says no is not told\n%s", examined)
	}
	files, rows := golden()
	run(0, []string{"Kept."}, "update", "twentytwentyone@1.8", "--lose-edits")

	// A cache that cannot be cleared is no clean end.
	edit(t, config, "[update]", "[caches]\ncommands = [\"exit 7\"]\n\n[update]")
	run(4, []string{"Done, with doubts.", "the caches could not be cleared", "exit status 7"}, "update", "twentytwentyone@1.7", "--allow-older")
	edit(t, config, "[caches]\ncommands = [\"exit 7\"]\n\n", "")
	run(0, []string{"1 component swapped whole"}, "restore", "snap-1", "--yes", "--only", "twentytwentyone")
	files()
	rows()

	// Four plugins, one of which dies: the others stay.
	var packages []string
	for name, files := range boatPlugins("1.1") {
		packages = append(packages, zipOf(t, name+".zip", files))
	}
	run(3, []string{"Kept in part.", "capstan 1.1 put back", "anchor 1.1 kept", "buoy 1.1 kept", "dinghy 1.1 kept"}, append([]string{"update", "--search", "yes"}, packages...)...)
	run(0, []string{"older", "Kept."}, "restore", "anchor@1.0")

	// Ctrl-C with the new version in place: the version before is back, and no driver's words.
	files, rows = golden()
	command := exec.Command(program, "update", themePackage(t, site, "1.9", nil), "--lose-edits")
	command.Dir = care
	var out strings.Builder
	command.Stdout, command.Stderr = &out, &out
	must(t, command.Start())
	until(t, "the swap", func() bool {
		journals, _ := filepath.Glob(filepath.Join(care, "runs/*/journal.jsonl"))
		for _, journal := range journals {
			text, err := os.ReadFile(journal)
			if err == nil && strings.Contains(string(text), `"swapped"`) && !strings.Contains(string(text), `"end"`) {
				return true
			}
		}
		return false
	})
	must(t, command.Process.Signal(os.Interrupt))
	_ = command.Wait()
	if code := command.ProcessState.ExitCode(); code != 3 || strings.Contains(out.String(), "context canceled") || strings.Contains(out.String(), "invalid connection") {
		t.Errorf("exit code %d\n%s", code, out.String())
	}
	files()
	rows()

	// The database's password is wrong: one cause, told once.
	settings := filepath.Join(site.Root, "wp-config.php")
	edit(t, settings, `define( "DB_PASSWORD" , '`, `define( "DB_PASSWORD" , 'x`)
	refused := run(2, []string{"the pages were not looked at", "Check user and password"}, "update", "twentytwentyone@1.8", "--lose-edits")
	if n := strings.Count(refused.err, "\n  - "); n > 2 {
		t.Errorf("%d reasons for one cause\n%s", n, refused)
	}
	edit(t, settings, `define( "DB_PASSWORD" , 'x`, `define( "DB_PASSWORD" , '`)

	// Evening: the snapshots are proved, shown to who asks, and exported.
	run(0, []string{"Proved."}, "verify", "snap-1")
	run(0, []string{"A preview."}, "tidy")
	run(0, nil, "export", "snap-1", filepath.Join(t.TempDir(), "out"))
	run(0, []string{"Sound."}, "smoke")
	nothingLeft(t, site.Root)
}

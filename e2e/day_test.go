package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"

	"wetland/core/archive"
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

// day is a maintainer's day on one site: who works, where, and on what.
type day struct {
	*testenv.Site
	t     *testing.T
	care  string
	user  *syscall.Credential // nil: whoever runs the test
	posts []string
	long  bool
}

// command is the program, run by the one who looks after the site.
func (d *day) command(args ...string) *exec.Cmd {
	command := exec.Command(program, args...)
	if d.user != nil {
		command.SysProcAttr = &syscall.SysProcAttr{Credential: d.user}
	}
	return command
}

func (d *day) run(code int, words []string, args ...string) result {
	d.t.Helper()
	return finish(d.t, d.command(args...), d.care).want(d.t, code, words...)
}

func (d *day) config() string { return filepath.Join(d.care, "wetland.toml") }

func (d *day) theme() string { return filepath.Join(d.Root, "wp-content/themes/twentytwentyone") }

// own gives files that the test made to the one who looks after the site.
func (d *day) own(names ...string) {
	d.t.Helper()
	if d.user != nil {
		give(d.t, *d.user, names...)
	}
}

// golden remembers files and rows, and returns what proves that both are so again.
func (d *day) golden() (unchanged func()) {
	d.t.Helper()
	left := append(caches, "wp-content/debug.log")
	before, sums := tree(d.t, d.Root, left...), rowsOf(d.t, d.Account.Root, "of_")
	return func() {
		d.t.Helper()
		same(d.t, before, tree(d.t, d.Root, left...))
		sameRows(d.t, sums, rowsOf(d.t, d.Account.Root, "of_"))
	}
}

// A maintainer's day on a real WordPress, on nginx and php-fpm, as an ordinary user: what was
// met when the tool was used for a day, one after the other on one site, with golden copies of
// it to compare with.
func TestMaintainersDay(t *testing.T) {
	t.Parallel()
	d := &day{Site: testenv.NginxWordPress(t), t: t, care: t.TempDir(), long: os.Getenv("WETLAND_TORTURE") != ""}
	if os.Geteuid() == 0 {
		d.user = &syscall.Credential{Uid: 33, Gid: 33} // Debian's www-data, as whom its PHP runs
	}
	d.moorBoats()
	d.own(d.Root, d.care)
	for _, folder := range []string{d.care, filepath.Dir(d.care)} {
		must(t, os.Chmod(folder, 0o755))
	}
	steps := []func(){d.comesIntoCare, d.tellsLeftovers, d.keepsHandEdits, d.doubtsCachesThatStay, d.findsTheCulprit, d.isInterrupted, d.losesThePassword}
	if d.long {
		steps = append(steps, d.hasAChild, d.hooks, d.mistypesSettings, d.keepsWhatIsNew, d.movesTheWorkspace, d.diesAndComesBack, d.sealsTheStore)
	}
	for _, step := range append(steps, d.ends) {
		if step(); d.t.Failed() {
			return // each stands on the one before
		}
	}
}

// moorBoats puts four plugins, posts and a page with shortcodes into the site.
func (d *day) moorBoats() {
	for _, files := range boatPlugins("1.0") {
		for name, text := range files {
			d.Write(d.t, "wp-content/plugins/"+name, text)
		}
	}
	d.PHP(d.t, []byte(`<?php require getcwd() . '/wp-load.php'; update_option( 'active_plugins', array( 'anchor/anchor.php', 'buoy/buoy.php', 'capstan/capstan.php', 'dinghy/dinghy.php' ) );
for ( $n = 1; $n <= 8; $n++ ) { wp_insert_post( array( 'post_status' => 'publish', 'post_title' => 'Log of week ' . $n, 'post_content' => 'The river stood at ' . $n . ' feet.', 'post_date' => sprintf( '2026-10-%02d 08:00:00', $n ) ) ); }
wp_insert_post( array( 'post_type' => 'page', 'post_status' => 'publish', 'post_title' => 'Boathouse', 'post_content' => '[anchor] [buoy] [capstan] [dinghy]' ) );`))
}

// comesIntoCare adopts the site under its own name, with the page of the shortcodes on the list
// and no more than two posts.
func (d *day) comesIntoCare() {
	code, words := 0, []string{"Adopted", "WordPress 6.1"}
	if d.user != nil {
		code, words = 4, append(words, "you run Wetland as www-data, as which the web server runs")
	}
	d.run(code, words, "adopt", d.Root, "--address", d.Address, "--no-browser")
	text, err := os.ReadFile(d.config())
	if err != nil || !strings.Contains(string(text), `name = "Otterby Ferry"`) {
		d.t.Errorf("%v\n%s", err, text)
	}
	if boathouse := column(d.t, d.Account.Root, "SELECT ID FROM of_posts WHERE post_title = 'Boathouse'"); !strings.Contains(string(text), `path = "/?page_id=`+boathouse[0]+`"`) {
		d.t.Errorf("the page of the shortcodes is not tested\n%s", text)
	}
	d.posts = column(d.t, d.Account.Root, "SELECT ID FROM of_posts WHERE post_type = 'post' AND post_status = 'publish'")
	listed := 0
	for _, id := range d.posts {
		listed += strings.Count(string(text), `path = "/?p=`+id+`"`)
	}
	if listed > 2 {
		d.t.Errorf("%d posts are tested\n%s", listed, text)
	}
	// The pool's socket is another user's: PHP is asked through the web server.
	edit(d.t, d.config(), "[site]\n", "[site]\nphp_pool = \"by request\"\n")
	if !d.long { // the other pages, and the whole wait for PHP, are for the long run
		edit(d.t, d.config(), "wait_after_swap = ", "shorter_wait = true\nwait_after_swap = \"500ms\" # ")
		namePages(d.t, d.care, "/", "/?p="+d.posts[0])
	}
	d.own(d.care)
	if !d.long {
		d.run(0, nil, "smoke", "--learn")
	}
}

// tellsLeftovers: what was left lying about is told, also to somebody who wants to hear little.
func (d *day) tellsLeftovers() {
	d.Write(d.t, "sql-admin.php", "<?php if ( isset( $_POST['password'] ) ) { $db = new mysqli( 'localhost', $_POST['user'], $_POST['password'] ); $db->query( 'SHOW TABLES' ); } echo '<form><input type=\"password\">';")
	d.Write(d.t, "old/index.php", "<?php")
	quiet := d.run(0, []string{"a tool for the whole database in one file", "a folder of copies"}, "survey", "--quiet")
	if quiet.stdout != "" {
		d.t.Errorf("leftovers are not told\n%s", quiet)
	}
	must(d.t, os.Remove(filepath.Join(d.Root, "sql-admin.php")), os.RemoveAll(filepath.Join(d.Root, "old")))
}

// keepsHandEdits: edits by hand are not lost unasked.
func (d *day) keepsHandEdits() {
	newer := themePackage(d.t, d.Site, "1.8", map[string]string{"assets/css/print.css": "@media print { nav { display: none; } }\n"})
	d.run(0, nil, "shelve", themePackage(d.t, d.Site, "1.7", nil), newer)
	edit(d.t, filepath.Join(d.theme(), "footer.php"), "<footer", "<!-- ours --><footer")
	d.run(2, []string{"was edited by hand", "a child theme", "the pages were not looked at"}, "update", "twentytwentyone@1.8")
	examined := d.run(3, nil, "examine", "twentytwentyone@1.8", "--quiet")
	if !strings.Contains(examined.err, "hand edits") {
		d.t.Errorf("what says no is not told\n%s", examined)
	}
}

// doubtsCachesThatStay: a cache that cannot be cleared is no clean end.
func (d *day) doubtsCachesThatStay() {
	unchanged := d.golden()
	d.run(0, []string{"Kept."}, "update", "twentytwentyone@1.8", "--lose-edits")
	edit(d.t, d.config(), "[update]", "[caches]\ncommands = [\"exit 7\"]\n\n[update]")
	d.run(4, []string{"Done, with doubts.", "the caches could not be cleared", "exit status 7"}, "update", "twentytwentyone@1.7", "--allow-older")
	edit(d.t, d.config(), "[caches]\ncommands = [\"exit 7\"]\n\n", "")
	d.run(0, []string{"1 component swapped whole"}, "restore", "snap-1", "--yes", "--only", "twentytwentyone")
	unchanged()
}

// findsTheCulprit: of four plugins one dies, and the others stay.
func (d *day) findsTheCulprit() {
	var packages []string
	for name, files := range boatPlugins("1.1") {
		packages = append(packages, zipOf(d.t, name+".zip", files))
	}
	d.run(3, []string{"Kept in part.", "capstan 1.1 put back", "anchor 1.1 kept", "buoy 1.1 kept", "dinghy 1.1 kept"}, append([]string{"update", "--search", "yes"}, packages...)...)
	d.run(0, []string{"older", "Kept."}, "restore", "anchor@1.0")
}

// isInterrupted: after Ctrl-C with the new version in place the version before is back, and
// there are no driver's words.
func (d *day) isInterrupted() {
	unchanged := d.golden()
	command := d.command("update", themePackage(d.t, d.Site, "1.9", nil), "--lose-edits")
	command.Dir = d.care
	var out strings.Builder
	command.Stdout, command.Stderr = &out, &out
	must(d.t, command.Start())
	until(d.t, "the swap", func() bool {
		journals, _ := filepath.Glob(filepath.Join(d.care, "runs/*/journal.jsonl"))
		for _, journal := range journals {
			text, err := os.ReadFile(journal)
			if err == nil && strings.Contains(string(text), `"swapped"`) && !strings.Contains(string(text), `"end"`) {
				return true
			}
		}
		return false
	})
	must(d.t, command.Process.Signal(os.Interrupt))
	_ = command.Wait()
	if code := command.ProcessState.ExitCode(); code != 3 || strings.Contains(out.String(), "context canceled") || strings.Contains(out.String(), "invalid connection") {
		d.t.Errorf("exit code %d\n%s", code, out.String())
	}
	unchanged()
}

// losesThePassword: the database's password is wrong: one cause, told once.
func (d *day) losesThePassword() {
	settings := filepath.Join(d.Root, "wp-config.php")
	edit(d.t, settings, `define( "DB_PASSWORD" , '`, `define( "DB_PASSWORD" , 'x`)
	refused := d.run(2, []string{"the pages were not looked at", "Check user and password"}, "update", "twentytwentyone@1.8", "--lose-edits")
	if n := strings.Count(refused.err, "\n  - "); n > 2 {
		d.t.Errorf("%d reasons for one cause\n%s", n, refused)
	}
	edit(d.t, settings, `define( "DB_PASSWORD" , 'x`, `define( "DB_PASSWORD" , '`)
}

// hasAChild: a child theme that overrides a file is told of the parent's new version, and stays
// as it is.
func (d *day) hasAChild() {
	d.Write(d.t, "wp-content/themes/otterby/style.css", "/*\nTheme Name: Otterby\nTemplate: twentytwentyone\nVersion: 1.0\n*/\n")
	d.Write(d.t, "wp-content/themes/otterby/footer.php", "<?php require get_template_directory() . '/footer.php';")
	d.own(filepath.Join(d.Root, "wp-content/themes/otterby"))
	d.PHP(d.t, []byte(`<?php require getcwd() . '/wp-load.php'; switch_theme( 'otterby' );`))
	d.run(0, []string{"Recorded."}, "smoke", "--learn")
	footer, err := os.ReadFile(filepath.Join(d.theme(), "footer.php"))
	must(d.t, err)
	newer := themePackage(d.t, d.Site, "1.8", map[string]string{"footer.php": string(footer) + "\n<!-- 1.8 -->"})
	d.run(3, []string{"child theme", "otterby overrides files that change in this version: footer.php"}, "examine", newer)
	bad := themePackage(d.t, d.Site, "1.9", map[string]string{"functions.php": "<?php the_tide_is_out();"})
	child := tree(d.t, filepath.Join(d.Root, "wp-content/themes/otterby"))
	unchanged := d.golden()
	d.run(0, []string{"Kept."}, "update", newer, "--lose-edits")
	same(d.t, child, tree(d.t, filepath.Join(d.Root, "wp-content/themes/otterby")))
	d.run(3, []string{"Put back."}, "update", bad, "--lose-edits")
	d.run(0, []string{"Restored."}, "restore", d.newest("before Twenty Twenty-One 1.8"), "--yes")
	unchanged()
}

// newest is the newest snapshot that is about that.
func (d *day) newest(about string) string {
	d.t.Helper()
	var history struct {
		Events []archive.Event `json:"events"`
	}
	finish(d.t, d.command("history", "--json"), d.care).decode(d.t, &history)
	for _, event := range slices.Backward(history.Events) {
		if strings.HasPrefix(event.Name, "snap-") && strings.Contains(event.About, about) {
			return event.Name
		}
	}
	d.t.Fatalf("there is no snapshot about %q: %+v", about, history)
	return ""
}

// sql changes the site's tables as somebody else.
func (d *day) sql(statement string) {
	d.t.Helper()
	_, err := d.Account.Root.Exec(statement)
	must(d.t, err)
}

// hooks: one that fails stops the update before anything is changed; one afterwards is told.
func (d *day) hooks() {
	unchanged := d.golden()
	edit(d.t, d.config(), "[update]", "[hooks]\nbefore = \"exit 3\"\n\n[update]")
	d.run(1, []string{"Stopped. Nothing on the site was changed.", "exit status 3"}, "update", themePackage(d.t, d.Site, "1.9", nil), "--lose-edits")
	unchanged()
	edit(d.t, d.config(), "[hooks]\nbefore = \"exit 3\"\n\n", "")
}

// mistypesSettings: each mistake is told with its line, and nothing is done.
func (d *day) mistypesSettings() {
	before, err := os.ReadFile(d.config())
	must(d.t, err)
	for _, wrong := range []struct{ key, value, words string }{
		{"wait_after_swap", "3", "with its unit"},
		{"concurrency", `"four"`, "whole number"},
		{"timeout", `"1ns"`, "timeout must be from"},
		{"patiens", `"20s"`, "there is no setting called"},
	} {
		kept := regexp.MustCompile("(?m)^"+wrong.key+" = .*\n").ReplaceAllString(string(before), "")
		text := strings.Replace(kept, "[smoke]\n", "[smoke]\n"+wrong.key+" = "+wrong.value+"\n", 1)
		must(d.t, os.WriteFile(d.config(), []byte(text), 0o600))
		d.own(d.config())
		d.run(1, []string{wrong.words, "line"}, "smoke")
	}
	must(d.t, os.WriteFile(d.config(), before, 0o600))
	d.own(d.config())
}

// keepsWhatIsNew: what visitors wrote since a snapshot can stay through a restore.
func (d *day) keepsWhatIsNew() {
	d.run(0, []string{"Taken and verified."}, "snapshot", "--note", "before the comment")
	d.sql("INSERT INTO of_comments (comment_post_ID, comment_author, comment_content, comment_date, comment_date_gmt, comment_approved) VALUES (" + d.posts[0] + ", 'Maud', 'Is the ferry running?', '2026-11-02 10:00:00', '2026-11-02 10:00:00', '1')")
	edit(d.t, filepath.Join(d.theme(), "header.php"), "wp_head();", "wp_head(); /* tried */")
	d.run(0, []string{"Restored."}, "restore", d.newest("before the comment"), "--yes", "--keep-new")
	if kept := column(d.t, d.Account.Root, "SELECT comment_content FROM of_comments WHERE comment_author = 'Maud'"); len(kept) != 1 {
		d.t.Errorf("the comment is gone: %q", kept)
	}
	if text, err := os.ReadFile(filepath.Join(d.theme(), "header.php")); err != nil || strings.Contains(string(text), "tried") {
		d.t.Errorf("the edit is still there: %v", err)
	}
}

// movesTheWorkspace: the workspace is where it is.
func (d *day) movesTheWorkspace() {
	elsewhere := filepath.Join(d.t.TempDir(), "care of the ferry")
	must(d.t, os.Chmod(filepath.Dir(elsewhere), 0o755), os.Chmod(filepath.Dir(filepath.Dir(elsewhere)), 0o755), os.Rename(d.care, elsewhere))
	d.care = elsewhere
	d.run(0, []string{"Proved."}, "verify", "snap-1")
	d.run(0, []string{"Sound."}, "smoke")
}

// diesAndComesBack: themes, plugins and tables are gone, and one command brings them back.
func (d *day) diesAndComesBack() {
	d.run(0, []string{"Taken and verified."}, "snapshot", "--note", "all is well")
	unchanged := d.golden()
	must(d.t, os.RemoveAll(filepath.Join(d.Root, "wp-content/themes")), os.RemoveAll(filepath.Join(d.Root, "wp-includes")))
	d.sql("DROP TABLE of_posts, of_options")
	d.run(0, []string{"Restored."}, "restore", d.newest("all is well"), "--yes")
	unchanged()
	d.run(0, []string{"Sound."}, "smoke")
}

// sealsTheStore: a new store is sealed, and snapshots are taken, proved and restored as before.
func (d *day) sealsTheStore() {
	secret := filepath.Join(d.care, "passphrase")
	must(d.t, os.WriteFile(secret, []byte("low water at dawn"), 0o600))
	d.own(secret)
	d.run(1, []string{"the store holds snapshots already"}, "seal", "--with", "file "+secret)
	must(d.t, os.Rename(filepath.Join(d.care, "store"), filepath.Join(d.care, "store of the day")))
	d.run(0, []string{"Sealed."}, "seal", "--with", "file "+secret)
	edit(d.t, d.config(), "[update]", "[store]\nunlock_with = \"file "+secret+"\"\n\n[update]")
	d.run(0, []string{"Taken and verified."}, "snapshot", "--note", "sealed")
	unchanged := d.golden()
	edit(d.t, filepath.Join(d.theme(), "header.php"), "wp_head();", "wp_head(); /* tried */")
	d.run(0, []string{"Restored."}, "restore", d.newest("sealed"), "--yes")
	unchanged()
}

// ends: the snapshots are proved, shown to who asks, and exported.
func (d *day) ends() {
	d.run(0, []string{"Proved."}, "verify", "snap-1")
	d.run(0, []string{"A preview."}, "tidy")
	out := filepath.Join(d.t.TempDir(), "out")
	must(d.t, os.Mkdir(out, 0o700))
	d.own(out)
	d.run(0, nil, "export", "snap-1", out)
	d.run(0, []string{"Sound."}, "smoke")
	nothingLeft(d.t, d.Root)
}

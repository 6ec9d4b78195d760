package e2e

import (
	"bufio"
	"crypto/tls"
	"encoding/pem"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"

	"wetland/core/files"
	"wetland/core/smoke/reading"
	"wetland/internal/loopback"
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
	"by a socket of its server": func(t *testing.T) *testenv.Site {
		site := testenv.WordPress(t)
		bySocket(t, site)
		return site
	},
	"the newest, on newer PHP": func(t *testing.T) *testenv.Site {
		site := testenv.NewestWordPress(t)
		site.PHP(t, []byte("<?php require 'wp-load.php'; switch_theme( 'twentytwentyfive' );"))
		return site
	},
}

// someKinds are all of them where there is time, else any one.
func someKinds(t *testing.T) map[string]func(t *testing.T) *testenv.Site {
	t.Helper()
	if os.Getenv("WETLAND_TORTURE") != "" {
		return kinds
	}
	some := map[string]func(t *testing.T) *testenv.Site{}
	for _, name := range anyOf(slices.Sorted(maps.Keys(kinds)), 1) {
		some[name] = kinds[name]
	}
	return some
}

// anyOf chooses so many at random.
func anyOf(all []string, n int) (some []string) {
	for _, i := range rand.Perm(len(all))[:n] {
		some = append(some, all[i])
	}
	return some
}

// bySocket has a site reach its database by the server's socket.
func bySocket(t *testing.T, site *testenv.Site) {
	t.Helper()
	config := filepath.Join(site.Root, "wp-config.php")
	text, err := os.ReadFile(config)
	must(t, err)
	changed := regexp.MustCompile(`'127\.0\.0\.1:\d+'`).ReplaceAllString(string(text), "'localhost:"+site.Socket+"'")
	must(t, os.WriteFile(config, []byte(changed), 0o644))
	if _, err := site.Get("/"); err != nil {
		t.Fatal(err)
	}
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
	unhurried(t, workspace)
	return workspace
}

// unhurried has no page count as slow: a copy gives way to all else that a busy machine does.
func unhurried(t *testing.T, workspace string) {
	t.Helper()
	config, err := os.OpenFile(filepath.Join(workspace, "wetland.toml"), os.O_APPEND|os.O_WRONLY, 0)
	must(t, err)
	_, err = config.WriteString("\n[[severity]]\ncheck = \"speed\"\nas = \"sound\"\nbecause = \"the machine has other work to do\"\n")
	must(t, errors.Join(err, config.Close()))
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
	t.Parallel()
	for name, start := range someKinds(t) {
		t.Run(name, func(t *testing.T) {
			site := start(t)
			workspace := adoptKind(t, site)
			before := remember(t, site, workspace)
			code, words := 0, "Sound on a copy"
			if name == "the newest, on newer PHP" {
				code, words = 4, "it runs PHP 8.2" // this machine's own
			}
			wetland(t, workspace, "rehearse", newTheme(t, site, ".1", map[string]string{"assets/css/new.css": "p { margin: 0 }\n"})).want(t, code, words, "all sound", "was not touched")
			before.check(t)
			wetland(t, workspace, "rehearse", newTheme(t, site, ".2", map[string]string{"single.php": brokenSingle, "functions.php": "<?php\ntideline_is_missing();\n"})).want(t, 3, "Broken on a copy", "was not touched")
			before.check(t)
		})
	}
}

// A site on another machine is rehearsed there: its files and rows need not travel once more. Nothing is left
// there, either. Where the machine lacks what a copy needs, and where somebody wants that, it is made here.
func TestRehearseWhereTheSiteIs(t *testing.T) {
	t.Parallel()
	account := testenv.StartSSHAccount(t)
	reachBySSH(t, account)
	site := testenv.WordPress(t)
	workspace := adoptKind(t, site)
	before := remember(t, site, workspace)
	rooms := filepath.Join(account.Cache, "wetland/copies")
	there := func(args ...string) result {
		r := wetland(t, workspace, append([]string{"rehearse"}, args...)...)
		before.check(t)
		if left, err := os.ReadDir(rooms); err != nil || len(left) > 0 {
			t.Errorf("on the machine of the site is left: %v, %v", left, err)
		}
		return r
	}
	good := newTheme(t, site, ".1", map[string]string{"assets/css/new.css": "p { margin: 0 }\n"})
	there(good).want(t, 0, "up on ssh://", "Sound on a copy")
	if os.Getenv("WETLAND_TORTURE") != "" {
		there(good, "--from", "snap-1").want(t, 0, "up on ssh://", "Sound on a copy")
		there(good, "--here").want(t, 0, "up on this machine", "Sound on a copy")
	}

	// Whoever is gone in the middle of it leaves nothing on that machine.
	command := wetlandCommand(t, "rehearse", good)
	command.Dir = workspace
	inGroup(command)
	must(t, command.Start())
	must(t, testenv.Until(func() error {
		if of, err := os.ReadDir(rooms); err != nil || len(of) == 0 {
			return fmt.Errorf("no copy is made yet: %v", err)
		}
		return nil
	}))
	signalAll(command, syscall.SIGKILL)
	_ = command.Wait()
	must(t, testenv.Until(func() error {
		if of, err := os.ReadDir(rooms); err != nil || len(of) > 0 {
			return fmt.Errorf("the copy is still there: %v", err)
		}
		return nil
	}))
	wetland(t, workspace, "history").want(t, 0, "is taken away now")
	before.check(t)
}

// What a plugin does to its tables is told, and happens to none of the site's.
func TestRehearseMigration(t *testing.T) {
	t.Parallel()
	site := testenv.WordPress(t)
	workspace := adoptKind(t, site)
	unzip(t, migratingPlugin(t, "1.0", ""), filepath.Join(site.Root, "wp-content/plugins"))
	site.PHP(t, []byte("<?php require 'wp-load.php'; require_once ABSPATH . 'wp-admin/includes/plugin.php'; activate_plugin( 'ferrylog/ferrylog.php' ); ferrylog_upgrade();"))
	if _, err := site.Get("/"); err != nil {
		t.Fatal(err)
	}
	before := remember(t, site, workspace)
	wetland(t, workspace, "rehearse", migratingPlugin(t, "2.0", "")).want(t, 0, "Sound on a copy", "of_ferrylog", "has another structure", "Upgrades took ")
	before.check(t)
	wetland(t, workspace, "rehearse", migratingPlugin(t, "2.1", "tideline_is_missing();")).want(t, 3, "Broken on a copy")
	before.check(t)

	// A snapshot is brought up also when nothing is left of the site that it was taken of.
	must(t, os.RemoveAll(site.Root))
	wetland(t, workspace, "verify", "snap-1", "--bring-up").want(t, 0, "the site can live by it")
}

// waysOut is a plugin that, in version 2.0, tries to leave the site in many ways when a page is asked for.
// Each leaves a mark of its name.
func waysOut(t *testing.T, version, outside string, port int, site *testenv.Site) string {
	t.Helper()
	tries := ""
	if version == "2.0" {
		tries = fmt.Sprintf(`
add_action( 'init', function () {
	if ( isset( $_GET['way'] ) ) { return; }
	$outside = '%[1]s';
	@file_put_contents( $outside . '/a file by its name', 'x' );
	@mkdir( $outside . '/a folder' );
	@unlink( $outside . '/theirs.txt' );
	@symlink( $outside, ABSPATH . 'way-out' );
	@file_put_contents( ABSPATH . 'way-out/through a link', 'x' );
	@link( $outside . '/kept.txt', ABSPATH . 'hard.txt' ) && @file_put_contents( ABSPATH . 'hard.txt', 'x' );
	@exec( 'echo x > ' . escapeshellarg( $outside . '/by a program' ) );
	@exec( '(sleep 1; echo x > ' . escapeshellarg( $outside . '/by a program that stays' ) . ') > /dev/null 2>&1 &' );
	@file_put_contents( '/proc/1/root' . $outside . '/through a process', 'x' );
	foreach ( array( 'tcp://127.0.0.1:%[2]d' => 'a port', 'unix://' . $outside . '/cache.sock' => 'a socket' ) as $where => $way ) {
		$socket = @stream_socket_client( $where, $e, $s, 2 );
		if ( $socket ) { fwrite( $socket, $way . "\n" ); fclose( $socket ); }
	}
	@file_get_contents( home_url( '/?way=itself' ), false, stream_context_create( array( 'http' => array( 'timeout' => 2 ) ) ) );
	file_put_contents( ABSPATH . 'in the root.txt', 'x' );
	file_put_contents( '%[3]s/wp-content/by its whole name.txt', 'x' );
	$up = wp_upload_dir(); file_put_contents( $up['basedir'] . '/in the uploads.txt', 'x' );
	update_option( 'ways_row', 'x' );
	$db = @mysqli_connect( '127.0.0.1', DB_USER, DB_PASSWORD, DB_NAME, %[4]d );
	if ( $db ) { mysqli_query( $db, "REPLACE INTO of_options (option_name, option_value) VALUES ('ways_connection', 'x')" ); }
} );
`, outside, port, site.Root, site.Port)
	}
	return zipOf(t, "waysout."+version+".zip", map[string]string{"waysout/waysout.php": "<?php\n/*\nPlugin Name: Ways Out\nVersion: " + version + "\n*/\n" + tries})
}

// Nothing that a plugin tries leaves a private copy. On the site itself all of it works: that is what is
// held back.
func TestNothingLeavesTheCopy(t *testing.T) {
	t.Parallel()
	site := testenv.WordPress(t)
	workspace := adoptKind(t, site)
	outside := t.TempDir()
	must(t, os.Chmod(outside, 0o777), os.WriteFile(filepath.Join(outside, "theirs.txt"), []byte("theirs"), 0o666), os.WriteFile(filepath.Join(outside, "kept.txt"), []byte("theirs"), 0o666))
	var came sync.Map
	hear := func(conn net.Conn) {
		line, _ := bufio.NewReader(conn).ReadString('\n')
		came.Store(strings.TrimSpace(line), true)
	}
	port := loopback.Listen(t, "tcp", "127.0.0.1:0", hear).(*net.TCPAddr).Port
	loopback.Listen(t, "unix", filepath.Join(outside, "cache.sock"), hear)
	unzip(t, waysOut(t, "1.0", outside, port, site), filepath.Join(site.Root, "wp-content/plugins"))
	site.PHP(t, []byte("<?php require 'wp-load.php'; require_once ABSPATH . 'wp-admin/includes/plugin.php'; activate_plugin( 'waysout/waysout.php' );"))

	out := func() (all []string) {
		t.Helper()
		text, err := os.ReadFile(filepath.Join(outside, "kept.txt"))
		must(t, err)
		if string(text) != "theirs" {
			all = append(all, "through a hard link")
		}
		if _, err := os.Stat(filepath.Join(outside, "theirs.txt")); err != nil {
			all = append(all, "a file removed")
		}
		for _, name := range []string{"a file by its name", "a folder", "through a link", "by a program", "by a program that stays"} {
			if _, err := os.Stat(filepath.Join(outside, name)); err == nil {
				all = append(all, name)
			}
		}
		for _, name := range []string{"in the root.txt", "wp-content/by its whole name.txt", "wp-content/uploads/in the uploads.txt"} {
			if _, err := os.Stat(filepath.Join(site.Root, name)); err == nil {
				all = append(all, name)
			}
		}
		came.Range(func(way, _ any) bool { all = append(all, way.(string)); return true })
		log, err := os.ReadFile(site.Log)
		must(t, err)
		if strings.Contains(string(log), "way=itself") {
			all = append(all, "the site by its name")
		}
		all = append(all, column(t, site.Account.Root, "SELECT option_name FROM of_options WHERE option_name LIKE 'ways\\_%'")...)
		slices.Sort(all)
		return all
	}
	before := remember(t, site, workspace)
	two := waysOut(t, "2.0", outside, port, site)
	wetland(t, workspace, "rehearse", two).want(t, 0, "Sound on a copy")
	if all := out(); len(all) > 0 {
		t.Errorf("out of the copy came: %v", all)
	}
	before.check(t)
	wetland(t, workspace, "update", two, "--allow-major")
	want := []string{"a file by its name", "a file removed", "a folder", "a port", "a socket", "by a program", "by a program that stays", "in the root.txt", "the site by its name", "through a hard link", "through a link",
		"ways_connection", "ways_row", "wp-content/by its whole name.txt", "wp-content/uploads/in the uploads.txt"}
	if err := testenv.Until(func() error {
		if all := out(); !slices.Equal(all, want) {
			return fmt.Errorf("on the site itself these work: %q", all)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
}

// Where there is a pool of PHP, the copy has one of its own, as whom the site's runs, with its settings, and its
// tables are in a server with the settings of the site's: code finds itself run in the same way.
func TestRehearseOnAPool(t *testing.T) {
	onlyHere(t)
	site := testenv.NginxWordPress(t)
	servers := filepath.Join(os.Getenv("WETLAND_TEST_SERVERS"), "servers/usr/sbin")
	t.Setenv("PATH", os.Getenv("PATH")+":"+servers)
	workspace := adoptKind(t, site)
	askPool(t, workspace, site, true)
	before := tree(t, site.Root, caches...)
	user := "true"
	if os.Geteuid() == 0 {
		user = "posix_getpwuid( posix_geteuid() )['name'] === 'www-data'"
	}
	functions, err := os.ReadFile(filepath.Join(site.Root, "wp-content/themes/twentytwentyone/functions.php"))
	must(t, err)
	site.Run(t, "SET GLOBAL group_concat_max_len = 4711", "SET GLOBAL sql_mode = 'NO_ENGINE_SUBSTITUTION'")
	t.Cleanup(func() { site.Run(t, "SET GLOBAL group_concat_max_len = DEFAULT", "SET GLOBAL sql_mode = DEFAULT") })
	user += " && $wpdb->get_var( \"SELECT CONCAT(@@GLOBAL.group_concat_max_len, ' ', @@GLOBAL.sql_mode)\" ) === '4711 NO_ENGINE_SUBSTITUTION'"
	right := map[string]string{"functions.php": "<?php\nif ( ! ( PHP_SAPI === 'fpm-fcgi' && ini_get( 'memory_limit' ) === '128M' && " + user + " ) ) {\n\ttideline_is_missing();\n}\n" + strings.TrimPrefix(string(functions), "<?php")}
	wetland(t, workspace, "rehearse", newTheme(t, site, ".1", right)).want(t, 0, "Sound on a copy")
	same(t, before, tree(t, site.Root, caches...))
}

// asOwner gives a site to an ordinary user, and runs Wetland as that user from then on.
func asOwner(t *testing.T, site *testenv.Site, workspace, pkg string) func(args ...string) result {
	t.Helper()
	give(t, ordinaryUser, filepath.Dir(site.Root), workspace, filepath.Dir(pkg))
	for _, folder := range []string{site.Root, workspace, pkg} {
		for at := filepath.Dir(folder); at != os.TempDir() && at != "/"; at = filepath.Dir(at) {
			must(t, os.Chmod(at, 0o755))
		}
	}
	return func(args ...string) result {
		command := exec.Command(program, args...)
		asOrdinaryUser(command)
		return finish(t, command, workspace)
	}
}

// Root is not needed: whoever owns the site can rehearse it.
func TestRehearseAsOrdinaryUser(t *testing.T) {
	t.Parallel()
	onlyHere(t)
	if os.Geteuid() != 0 {
		t.Skip("all other tests are that")
	}
	site := testenv.WordPress(t)
	workspace := t.TempDir()
	good := newTheme(t, site, ".1", map[string]string{"assets/css/new.css": "p { margin: 0 }\n"})
	run := asOwner(t, site, workspace, good)
	run("adopt", site.Root, "--address", site.Address, "--no-browser").want(t, 0)
	unhurried(t, workspace)
	run("rehearse", good).want(t, 0, "Sound on a copy")
	if left, _ := os.ReadDir(filepath.Join(workspace, "copies")); len(left) > 0 {
		t.Errorf("of the copy is left: %v", left)
	}
}

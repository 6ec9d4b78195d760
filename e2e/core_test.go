package e2e

import (
	"archive/zip"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"math/rand/v2"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wetland/core/files"
	"wetland/internal/testenv"
)

// corePackage makes a zip of a release of WordPress, in one folder, as its makers do. changed are files that are
// otherwise, or further ones, by their paths in it.
func corePackage(t *testing.T, release string, changed map[string]string) string {
	t.Helper()
	source := filepath.Join(os.Getenv("WETLAND_TEST_SERVERS"), release)
	if _, err := os.Stat(filepath.Join(source, "wp-includes/version.php")); err != nil {
		testenv.Missing(t, release+" (WETLAND_TEST_SERVERS)")
	}
	file := filepath.Join(t.TempDir(), release+".zip")
	out, err := os.Create(file)
	must(t, err)
	archive := zip.NewWriter(out)
	put := func(name string, text []byte) {
		// Packed or not, it is the same package: to pack it takes seconds.
		w, err := archive.CreateHeader(&zip.FileHeader{Name: path.Join("wordpress", name), Method: zip.Store})
		must(t, err)
		_, err = w.Write(text)
		must(t, err)
	}
	must(t, filepath.WalkDir(source, func(at string, entry fs.DirEntry, err error) error {
		name, relErr := filepath.Rel(source, at)
		must(t, err, relErr)
		if _, other := changed[filepath.ToSlash(name)]; entry.Type().IsRegular() && !other {
			text, err := os.ReadFile(at)
			must(t, err)
			put(filepath.ToSlash(name), text)
		}
		return nil
	}))
	for name, text := range changed {
		put(name, []byte(text))
	}
	must(t, archive.Close(), out.Close())
	return file
}

// equalToRelease fails unless the folders of WordPress itself hold what the release does, and no file more.
func equalToRelease(t *testing.T, release, root string) {
	t.Helper()
	source := filepath.Join(os.Getenv("WETLAND_TEST_SERVERS"), release)
	for _, folder := range []string{"wp-admin", "wp-includes"} {
		wanted, is := tree(t, filepath.Join(source, folder)), tree(t, filepath.Join(root, folder))
		for _, differ := range contentDiffers(wanted, is) {
			t.Errorf("%s/%s", folder, differ)
		}
	}
	for _, name := range []string{"wp-load.php", "wp-settings.php", "index.php"} {
		wanted, err1 := os.ReadFile(filepath.Join(source, name))
		is, err2 := os.ReadFile(filepath.Join(root, name))
		must(t, err1, err2)
		if string(wanted) != string(is) {
			t.Errorf("%s is not the release's", name)
		}
	}
}

// coreSite is a real site whose CMS is going to be replaced, with a plugin and what visitors wrote.
func coreSite(t *testing.T) (site *testenv.Site, care string) {
	t.Helper()
	site, care = testenv.WordPress(t), t.TempDir()
	for file, text := range tidePlugin("1.0.0", firstTable, showSailings) {
		site.Write(t, "wp-content/plugins/"+file, text)
	}
	site.PHP(t, []byte(`<?php require getcwd() . '/wp-load.php'; update_option( 'active_plugins', array( 'tidetable/tidetable.php' ) );
		array_map( 'wp_salt', array( 'auth', 'secure_auth', 'logged_in', 'nonce' ) ); // made once, when somebody signs in at first`))
	wetland(t, care, "adopt", site.Root, "--address", site.Address, "--no-browser").want(t, 0)
	return site, care
}

// signIn has Wetland sign in as whoever looks after the site. WordPress leads to the dashboard otherwise, which makes a
// draft.
func signIn(t *testing.T, care string) {
	t.Helper()
	key := filepath.Join(care, "ferryman.key")
	must(t, os.WriteFile(key, []byte("a made-up passphrase\n"), 0o600))
	config, err := os.OpenFile(filepath.Join(care, "wetland.toml"), os.O_WRONLY|os.O_APPEND, 0)
	must(t, err)
	_, err = fmt.Fprintf(config, "\n[reach.sign_in]\npath = \"/wp-login.php\"\nfields = { log = \"ferryman\", redirect_to = \"/wp-admin/profile.php\" }\npassword_field = \"pwd\"\npassword_from = \"file %s\"\n", key)
	must(t, err, config.Close())
}

// The CMS itself is replaced by another release: old files go, what the owner added or took away stays so, the tables
// are brought to its version, and the version before comes back by its name.
func TestUpdateTheCMSItself(t *testing.T) {
	t.Parallel()
	site, care := coreSite(t)
	run := func(args ...string) result { return wetland(t, care, args...) }
	must(t, os.Remove(filepath.Join(site.Root, "xmlrpc.php")))
	site.Write(t, "google1234.html", "google-site-verification: google1234.html")
	const revised = "msgid \"\"\nmsgstr \"\"\n\"PO-Revision-Date: 2026-0%d-01 12:00:00+0000\\n\"\n"
	site.Write(t, "wp-content/languages/de_DE.po", fmt.Sprintf(revised, 5))
	site.Write(t, "wp-content/plugins/bell.php", "<?php\n/* Plugin Name: Ferry bell\n * Version: 1.0 */\n")
	newest := corePackage(t, "wordpress-new", map[string]string{
		"wp-content/languages/de_DE.po": fmt.Sprintf(revised, 6), "wp-content/languages/admin-de_DE.po": fmt.Sprintf(revised, 6), "wp-content/languages/plugins/akismet-de_DE.po": fmt.Sprintf(revised, 6),
		"wp-content/plugins/bell.php": "<?php\n/* Plugin Name: Ferry bell\n * Version: 1.1 */\n", "wp-content/plugins/index.php": "<?php\n",
	})
	run("update", newest, "--pick", "de_DE", "--plan").want(t, 0, "language pack de_DE", "2026.05.01.1200 -> 2026.06.01.1200")
	run("update", newest, "--pick", "bell.php", "--plan").want(t, 0, "plugin Ferry bell (bell.php) 1.0 -> 1.1")
	run("update", newest).want(t, 2, "from 6.1.9 to 7.1.4 is", "--allow-major")
	site.Write(t, "wp-includes/cache-sys.php", "<?php // nobody knows\n")
	t.Log(run("examine", newest).want(t, 3, "wp-includes/cache-sys.php", "are not its own", "xmlrpc.php").stdout)
	run("update", newest, "--allow-major").want(t, 2, "wp-includes/cache-sys.php", "--lose-edits")
	must(t, os.Remove(filepath.Join(site.Root, "wp-includes/cache-sys.php")))
	t.Log(run("update", newest, "--allow-major", "--plan").want(t, 0, "core WordPress (wordpress)", "gate", "twentytwentyfive", "bell.php 1.1 (installed: 1.0)", "de_DE 2026.06.01.1200 (installed: 2026.05.01.1200)").stdout)

	old := tree(t, site.Root, caches...)
	visitors := visit(site.Address, "/", "/?page_id=4", "/?p=10", "/wp-login.php")
	t.Log(run("update", newest, "--allow-major").want(t, 0, "Kept.", "WordPress 7.1.4 is in place", "behind the gate", "wordpress 6.1.9 is on the shelf", "answered as before: the REST interface").stdout)
	equalToRelease(t, "wordpress-new", site.Root)
	for name, want := range map[string]bool{"google1234.html": true, "wp-config.php": true, "xmlrpc.php": false, "wp-includes/class-http.php": true, "wp-includes/random_compat": false} {
		if _, err := os.Stat(filepath.Join(site.Root, name)); (err == nil) != want {
			t.Errorf("%s is there: %v", name, err)
		}
	}
	if text, err := site.Get("/?page_id=4"); err != nil || !strings.Contains(text, "07:10 Otterby Steps") {
		t.Errorf("the plugin does not work any more: %v", err)
	}
	nothingLeft(t, site.Root)
	run("survey").want(t, 0, "WordPress 7.1.4")

	t.Log(run("restore", "wordpress@6.1.9").want(t, 0, "WordPress 6.1.9 is in place").stdout)
	same(t, old, tree(t, site.Root, caches...))
	nothingLeft(t, site.Root)
	visitors.whole(t, site)
	run("smoke").want(t, 0, "Sound.")
	run("restore", "snap-1", "--yes").want(t, 0, "Restored.")
}

// Root is not needed: whoever owns the site can replace its CMS, and files that have no folder of their own.
func TestUpdateTheCMSAsOrdinaryUser(t *testing.T) {
	onlyHere(t)
	if os.Geteuid() != 0 || sampled(2) > 1 {
		t.Skip("make torture does it, as root")
	}
	t.Parallel()
	site, care := aloneSite(t)
	bell, harbour, _, cache := newAlone(t, "2.0", "2026-06-01 12:00:00+0000")
	newest := corePackage(t, "wordpress-new", nil)
	for _, file := range []string{bell, harbour, cache} {
		asOwner(t, site, care, file)
	}
	run := asOwner(t, site, care, newest)
	old := tree(t, site.Root, caches...)
	run("update", "--allow-major", newest, bell, harbour, cache).want(t, 0, "Kept.", "wordpress 7.1.4")
	equalToRelease(t, "wordpress-new", site.Root)
	nothingLeft(t, site.Root)
	for _, item := range tree(t, site.Root, caches...) {
		if item.Owner != int(ordinaryUser.Uid) {
			t.Fatalf("%s belongs to %d", item.Path, item.Owner)
		}
	}
	run("restore", "snap-1", "--yes").want(t, 0, "Restored.")
	same(t, old, tree(t, site.Root, caches...))
}

// whole ends the visits, and fails where one met what was neither whole nor the gate or the notice.
func (l *load) whole(t *testing.T, site *testenv.Site) {
	t.Helper()
	l.stop.Store(true)
	l.wait.Wait()
	t.Logf("%d requests, %d of them told to come back", l.asked.Load(), l.noticed.Load())
	if l.failed.Load() > 0 || l.mixed.Load() > 0 || l.noticed.Load() == 0 {
		t.Errorf("%d failed, %d mixed; the first: %.2000v", l.failed.Load(), l.mixed.Load(), l.first.Load())
		text, err := os.ReadFile(site.Log)
		must(t, err)
		for line := range strings.SplitSeq(string(text), "\n") {
			if strings.Contains(line, "Fatal") {
				t.Log(line)
				break
			}
		}
	}
}

// releases are those of WordPress that Debian has, oldest first.
var releases = []struct{ name, version string }{
	{"wordpress-bullseye", "5.7"}, {"wordpress", "6.1"}, {"wordpress-trixie", "6.8"}, {"wordpress-new", "7.1"},
}

// From the oldest release to the newest, one by one and at once: content and comments stay, and the files are the
// release's.
func TestCMSReleaseAfterRelease(t *testing.T) {
	testenv.TakesLong(t)
	t.Parallel()
	ways := map[string][]int{"one by one": {1, 2, 3}, "at once": {3}}
	if sampled(2) > 1 {
		delete(ways, "one by one")
	}
	for name, steps := range ways {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			site, care := testenv.WordPressOf(t, releases[0].name), t.TempDir()
			wetland(t, care, "adopt", site.Root, "--address", site.Address, "--no-browser").want(t, 0, "WordPress 5.7")
			content := func() string {
				return strings.Join(column(t, site.Account.Root, "SELECT CONCAT(ID, post_title, MD5(post_content)) FROM of_posts WHERE post_status = 'publish' AND post_type IN ('post', 'page')"), "|") +
					strings.Join(column(t, site.Account.Root, "SELECT CONCAT(comment_ID, comment_content) FROM of_comments"), "|")
			}
			before := content()
			// Debian takes libraries out of WordPress: only the release's own package tells that they were in the one before.
			wetland(t, care, "shelve", corePackage(t, releases[0].name, nil)).want(t, 0)
			for _, i := range steps {
				r := wetland(t, care, "update", corePackage(t, releases[i].name, nil), "--allow-major", "--in-doubt", "keep")
				t.Log(r.stdout)
				if r.code != 0 && r.code != 4 {
					t.Fatal(r)
				}
				equalToRelease(t, releases[i].name, site.Root)
				wetland(t, care, "survey").want(t, 0, "WordPress "+releases[i].version)
				nothingLeft(t, site.Root)
			}
			if now := content(); now != before {
				t.Errorf("content was\n%s\nand is\n%s", before, now)
			}
		})
	}
}

// coresThatFail are releases of the CMS that break something, and what of that is told.
var coresThatFail = []struct {
	name    string
	changed func(t *testing.T) map[string]string
	told    string
}{
	{"fatal in an include", func(*testing.T) map[string]string {
		return map[string]string{"wp-includes/general-template.php": "<?php\nthis_is_not_there();\n"}
	}, "did not bring its tables to its version"},
	{"an upgrade of the tables that dies half-way", func(*testing.T) map[string]string {
		return map[string]string{"wp-admin/upgrade.php": "<?php\ndefine( 'WP_INSTALLING', true );\nrequire dirname( __DIR__ ) . '/wp-load.php';\n" +
			"$wpdb->query( \"CREATE TABLE {$wpdb->prefix}half (id int)\" );\n$wpdb->query( \"UPDATE {$wpdb->options} SET option_value = 'half' WHERE option_name = 'blogname'\" );\n" +
			"$wpdb->query( \"ALTER TABLE {$wpdb->posts} ADD COLUMN half int\" );\nthis_is_not_there();\n"}
	}, "did not bring its tables to its version, though it was asked twice to (/wp-admin/upgrade.php?step=1): it answers 500"},
	{"sign-in", func(*testing.T) map[string]string {
		return map[string]string{"wp-login.php": "<?php\nthis_is_not_there();\n"}
	}, "broke"},
	{"the dashboard alone", func(*testing.T) map[string]string {
		return map[string]string{"wp-admin/edit.php": "<?php\nrequire_once __DIR__ . '/admin.php';\nthis_is_not_there();\n"}
	}, "the dashboard's list of posts, signed in answered 200, and now 500"},
	{"REST alone", func(t *testing.T) map[string]string {
		text, err := os.ReadFile(filepath.Join(os.Getenv("WETLAND_TEST_SERVERS"), "wordpress-new/wp-includes/rest-api.php"))
		must(t, err)
		return map[string]string{"wp-includes/rest-api.php": strings.Replace(string(text), "function rest_api_loaded() {", "function rest_api_loaded() {\n\tif ( ! empty( $GLOBALS['wp']->query_vars['rest_route'] ) ) { this_is_not_there(); }", 1)}
	}, "the REST interface answered"},
}

// A release of the CMS that breaks anything goes back: files and tables are as before, but for what visitors wrote.
func TestCMSThatFails(t *testing.T) {
	t.Parallel()
	for i, one := range coresThatFail {
		if i != 1 && sampled(2) > 1 {
			continue // the one that reaches furthest stands for all
		}
		t.Run(one.name, func(t *testing.T) {
			t.Parallel()
			site, care := coreSite(t)
			signIn(t, care)
			before, rows := tree(t, site.Root, caches...), rowsOf(t, site.Account.Root, "of_")
			bad := corePackage(t, "wordpress-new", one.changed(t))
			t.Log(wetland(t, care, "update", bad, "--allow-major", "--accept-present").want(t, 3, "Put back", one.told).stdout)
			same(t, before, tree(t, site.Root, caches...))
			now := rowsOf(t, site.Account.Root, "of_")
			maps.DeleteFunc(now, func(table, _ string) bool { return strings.HasPrefix(table, "wetland_aside_") }) // of the upgrade
			sameRows(t, rows, now)
			nothingLeft(t, site.Root)
			wetland(t, care, "smoke").want(t, 0, "Sound.")
		})
	}
}

// A site of which something is replaced, over and over.
type replaced struct {
	*victim
	root         string
	update       []string // packages
	isOld, isNew func() bool
	back         func() // as it was at first
}

// Killed at any moment, what is replaced is wholly of one version once `recover` has run, and no gate is left.
func (r *replaced) torment(t *testing.T, seed, each int, longest time.Duration) {
	t.Helper()
	random := rand.New(rand.NewPCG(24, uint64(seed)))
	const last = 12 // no replacement has more entries in its journal
	for entries := 1 + random.IntN(each); entries <= last; entries += each {
		moment := time.Duration(random.Int64N(int64(longest)))
		if _, came := r.killAt(t, both, entries, moment, append([]string{"update", "--allow-major"}, r.update...)...); !came {
			r.back() // it was over first
			continue
		}
		if entries%2 == 0 {
			r.killAt(t, both, 1+random.IntN(3), moment/2, "recover")
		}
		said := r.run(t, "recover")
		if old, is := r.isOld(), r.isNew(); old == is {
			t.Fatalf("killed after %d entries and %s; wholly old: %v, wholly new: %v\n%s", entries, moment, old, is, said)
		}
		nothingLeft(t, r.root)
		r.run(t, "smoke").want(t, 0, "Sound.")
		r.run(t, "verify", "snap-1").want(t, 0)
		r.back()
	}
	if len(r.kills) == 0 {
		t.Fatal("it ended before it was killed")
	}
	t.Log(r.kills)
}

func TestCMSReplacementKilled(t *testing.T) {
	t.Parallel()
	t.Run("Rowlock", func(t *testing.T) {
		t.Parallel()
		f := adopted(t)
		own := func() (own files.Tree) {
			for _, item := range f.siteTree(t) {
				if item.Path == "door.toml" || strings.HasPrefix(item.Path, "system/") {
					own = append(own, item)
				}
			}
			return own
		}
		f.run(t, "snapshot").want(t, 0)
		old, wanted := own(), filesOf(packageTree(t, "rowlock-3.3.0"))
		r := &replaced{victim: &victim{workspace: f.care, kills: map[string]int{}}, root: f.root, update: []string{f.pkg("rowlock-3.3.0")}}
		r.isOld = func() bool { return len(files.Content.Compare(old, own())) == 0 }
		r.isNew = func() bool { return len(files.Content.Compare(wanted, filesOf(own()))) == 0 }
		r.back = func() { r.run(t, "restore", "snap-1", "--yes").want(t, 0) }
		for seed := range 6 / sampled(6) {
			r.torment(t, seed, sampled(2), time.Second)
		}
	})
	t.Run("WordPress", func(t *testing.T) {
		if sampled(2) > 1 {
			t.Skip("make torture kills it on WordPress, too")
		}
		t.Parallel()
		site, care := coreSite(t)
		wetland(t, care, "snapshot").want(t, 0)
		old, rows := coreOf(t, site.Root), rowsOf(t, site.Account.Root, "of_")
		r := &replaced{victim: &victim{workspace: care, kills: map[string]int{}}, root: site.Root, update: []string{corePackage(t, "wordpress-new", nil)}}
		r.isOld = func() bool {
			is := len(files.Content.Compare(old, coreOf(t, site.Root))) == 0
			if is {
				now := rowsOf(t, site.Account.Root, "of_")
				maps.DeleteFunc(now, func(table, _ string) bool { return strings.HasPrefix(table, "wetland_aside_") })
				sameRows(t, rows, now)
			}
			return is
		}
		r.isNew = func() bool { return coreIs(t, "wordpress-new", site.Root) }
		r.back = func() { r.run(t, "restore", "snap-1", "--yes").want(t, 0) }
		r.torment(t, 24, 1, 6*time.Second)
	})
}

// coreOf are the files of WordPress itself.
func coreOf(t *testing.T, root string) (core files.Tree) {
	for _, item := range tree(t, root, "wp-content") {
		if strings.HasPrefix(item.Path, "wp-") || item.Path == "index.php" {
			core = append(core, item)
		}
	}
	return core
}

// coreIs tells whether each file of a release is there, and in its folders no other.
func coreIs(t *testing.T, release, root string) bool {
	source := filepath.Join(os.Getenv("WETLAND_TEST_SERVERS"), release)
	for _, name := range []string{"wp-admin", "wp-includes"} {
		if len(contentDiffers(tree(t, filepath.Join(source, name)), tree(t, filepath.Join(root, name)))) > 0 {
			return false
		}
	}
	loader, err1 := os.ReadFile(filepath.Join(source, "wp-load.php"))
	is, err2 := os.ReadFile(filepath.Join(root, "wp-load.php"))
	must(t, err1, err2)
	return string(loader) == string(is)
}

// Visitors meet the gate and the notice while the CMS is replaced, and nothing else that is not whole.
func TestVisitorsWhileTheCMSIsReplaced(t *testing.T) {
	testenv.TakesLong(t)
	if sampled(2) > 1 {
		t.Skip("make torture does it ten times; one update and one return under load are a part of TestUpdateTheCMSItself")
	}
	site, care := coreSite(t)
	newest := corePackage(t, "wordpress-new", nil)
	const times = 10
	beside := newBeside(site.Address)
	beside.learn(t)
	wetland(t, care, "update", newest, "--allow-major").want(t, 0, "Kept.")
	beside.learn(t)
	wetland(t, care, "restore", "wordpress@6.1.9").want(t, 0)
	visitors := visit(site.Address, "/", "/?page_id=4", "/?p=10", "/wp-login.php")
	visitors.wait.Go(func() {
		for !visitors.stop.Load() {
			beside.ask()
		}
	})
	var stood []string
	for range times {
		wetland(t, care, "update", newest, "--allow-major").want(t, 0, "Kept.")
		wetland(t, care, "restore", "wordpress@6.1.9").want(t, 0)
	}
	visitors.whole(t, site)
	t.Logf("past the loader: %d requests; answered as neither release does: %v", beside.asked, beside.other)
	for i := 3; i <= 2+2*times; i++ {
		var run struct {
			Gate   time.Duration `json:"gate_ns"`
			Notice time.Duration `json:"notice_ns"`
		}
		text, err := os.ReadFile(filepath.Join(care, "runs", fmt.Sprint("run-", i), "run.json"))
		must(t, err, json.Unmarshal(text, &run))
		stood = append(stood, fmt.Sprintf("%s+%s", run.Gate.Round(100*time.Millisecond), run.Notice.Round(100*time.Millisecond)))
	}
	t.Logf("gate and notice stood for %s", strings.Join(stood, ", "))
}

// beside asks the scripts that do not pass the loader, and knows what each release answers.
type beside struct {
	address string
	known   map[string]bool
	asked   int
	other   map[string]int // how often something else came
}

func newBeside(address string) *beside {
	return &beside{address: address, known: map[string]bool{}, other: map[string]int{}}
}

var pastTheLoader = []string{"/wp-admin/load-scripts.php?c=0&load%5Bchunk_0%5D=jquery-core,utils,wp-a11y", "/wp-admin/load-styles.php?c=0&load%5Bchunk_0%5D=dashicons,common,forms"}

func (b *beside) fetch(page string) (answer, short string) {
	response, err := http.Get(b.address + strings.TrimPrefix(page, "/"))
	if err != nil {
		return err.Error(), err.Error()
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	hash, size, _ := files.Hash(strings.NewReader(string(text)))
	return fmt.Sprint(page, response.StatusCode, hash, err), fmt.Sprintf("%s: %d, %d bytes", path.Base(page), response.StatusCode, size)
}

func (b *beside) learn(t *testing.T) {
	for _, page := range pastTheLoader {
		answer, short := b.fetch(page)
		b.known[answer] = true
		t.Log(short)
	}
}

func (b *beside) ask() {
	for _, page := range pastTheLoader {
		b.asked++
		if answer, short := b.fetch(page); !b.known[answer] {
			b.other[short]++
		}
		time.Sleep(5 * time.Millisecond)
	}
}

func contentDiffers(a, b files.Tree) (all []string) {
	for _, differ := range files.Content.Compare(filesOf(a), filesOf(b)) {
		all = append(all, differ.Path+": "+differ.What)
	}
	return all[:min(5, len(all))]
}

// filesOf are a tree's files: packages have no folders that are empty.
func filesOf(tree files.Tree) files.Tree {
	return slices.DeleteFunc(slices.Clone(tree), func(item files.Item) bool { return item.Kind != files.File })
}

// An upgrade has WordPress work out the addresses of its pages before all plugins are loaded, or empties them: a page that
// is not there must be so afterwards, whether the release is kept or goes back.
func TestAddressesOnceTheCMSIsReplaced(t *testing.T) {
	if sampled(2) > 1 {
		t.Skip("make torture does it; a page that is not there is also asked for in each update of the CMS")
	}
	t.Parallel()
	site, care := coreSite(t)
	site.PHP(t, []byte(`<?php require getcwd() . '/wp-load.php'; global $wp_rewrite; $wp_rewrite->set_permalink_structure( '/%postname%/' ); flush_rewrite_rules(); update_option( 'fresh_site', '1' );`))
	wetland(t, care, "pages", "add", "/timetable/").want(t, 0)
	config := filepath.Join(care, "wetland.toml")
	text, err := os.ReadFile(config)
	must(t, err)
	must(t, os.WriteFile(config, append(text, "\n[[pages]]\npath = \"/there-is-none/\"\nstatus = 404\n"...), 0o600))
	wetland(t, care, "smoke", "--learn", "--accept-present").want(t, 0)
	statuses := func() (all []int) {
		for _, page := range []string{"there-is-none/", "timetable/", "no-such-page-is-here/"} {
			client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
			response, err := client.Get(site.Address + page)
			must(t, err)
			_ = response.Body.Close()
			all = append(all, response.StatusCode)
		}
		return all
	}
	before := statuses()
	rules := func() string {
		return strings.Join(column(t, site.Account.Root, "SELECT CONCAT(option_name, option_value) FROM of_options WHERE option_name IN ('rewrite_rules', 'fresh_site') ORDER BY option_name"), "\n")
	}
	was := rules()
	wetland(t, care, "update", corePackage(t, "wordpress-new", coresThatFail[2].changed(t)), "--allow-major", "--accept-present").want(t, 3, "Put back")
	if now := statuses(); !slices.Equal(now, before) {
		t.Errorf("once it was put back: %v, not %v", now, before)
	}
	if now := rules(); now != was {
		t.Errorf("the CMS's own settings were\n%s\nand are\n%s", was, now)
	}
	wetland(t, care, "update", corePackage(t, "wordpress-new", nil), "--allow-major", "--accept-present", "--in-doubt", "keep")
	if now := statuses(); !slices.Equal(now, before) {
		t.Errorf("with the new release: %v, not %v", now, before)
	}
}

package e2e

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"wetland/internal/testenv"
)

// destructive are migrations that destroy rows of their own or of others, as a new version runs them when it is first
// visited. doubt says that nobody but a rehearsal can tell some of their rows from visitors'.
var destructive = []struct {
	name, sql string
	late      string // what it does a second later
	doubt     bool
}{
	{name: "a table emptied at once", sql: "TRUNCATE {p}bookings"},
	{name: "most rows deleted", sql: "DELETE FROM {p}bookings WHERE id <= 80"},
	{name: "all rows doubled", sql: "INSERT INTO {p}bookings (name, note, seats, at) SELECT name, note, seats, at FROM" +
		" {p}bookings"},
	{name: "a field emptied in all", sql: "UPDATE {p}bookings SET note = ''"},
	{name: "keys renumbered", sql: "UPDATE {p}bookings SET id = id + 1000 ORDER BY id DESC"},
	{name: "texts encoded twice", sql: "UPDATE {p}bookings SET name = CONVERT(BINARY name USING latin1)"},
	{name: "a column in another character set", sql: "UPDATE {p}bookings SET name = REPLACE(name, 'ü', '?'); ALTER" +
		" TABLE {p}bookings MODIFY name VARCHAR(60) CHARACTER SET ascii"},
	{name: "rows moved to a new table", sql: "CREATE TABLE {p}reservations AS SELECT * FROM {p}bookings; DELETE FROM" +
		" {p}bookings"},
	{name: "rows moved to a table that was there", sql: "INSERT INTO {p}past SELECT * FROM {p}bookings; DELETE FROM" +
		" {p}bookings"},
	{name: "a table dropped", sql: "DROP TABLE {p}bookings"},
	{name: "a table renamed, with another form", sql: "RENAME TABLE {p}bookings TO {p}reservations; ALTER TABLE" +
		" {p}reservations CHANGE note remark TEXT"},
	{name: "work in the background a second later", late: "TRUNCATE {p}bookings"},
	{name: "a table without transactions emptied", sql: "DELETE FROM {p}crossings"},
	{name: "a small table emptied", sql: "DELETE FROM {p}stages"},
	{name: "all amounts counted otherwise", sql: "UPDATE {p}fares SET amount = amount * 100"},
	{name: "posts and their fields rewritten", sql: "UPDATE {p}posts SET post_content = UPPER(post_content) WHERE" +
		" post_type = 'sailing'; UPDATE {p}postmeta SET meta_value = CONCAT('[', meta_value, ']') WHERE meta_key = '_berth'"},
	{name: "a field of all posts deleted", sql: "DELETE FROM {p}postmeta WHERE meta_key = '_berth'"},
	{name: "options rewritten, deleted and added", sql: "UPDATE {p}options SET option_value = 'new form' WHERE" +
		" option_name = 'ledger_form'; DELETE FROM {p}options WHERE option_name = 'ledger_colour'; INSERT INTO {p}options" +
		" (option_name, option_value) VALUES ('ledger_new', '1')"},
	{name: "people's fields rewritten, comments deleted", sql: "UPDATE {p}usermeta SET meta_value = '' WHERE meta_key =" +
		" 'ledger_berth'; DELETE FROM {p}comments WHERE comment_author = 'Piet Alder'"},
	{name: "three rows of many rewritten", sql: "UPDATE {p}bookings SET seats = 0 WHERE id IN (20, 40, 61)", doubt: true},
}

// ledgerPlugin keeps bookings. Its version 2.0.0 migrates when it is first visited, and dies on the timetable; but not
// on a private copy, which does not see a folder outside of the site.
func ledgerPlugin(version, outside, migrate, late string) map[string]string {
	statements := func(list string) (code string) {
		for one := range strings.SplitSeq(list, ";") {
			if one = strings.TrimSpace(one); one != "" {
				code += fmt.Sprintf("\t\t$wpdb->query( str_replace( '{p}', $wpdb->prefix, %q ) );\n", one)
			}
		}
		return code
	}
	return map[string]string{"ledger/ledger.php": fmt.Sprintf(`<?php
/**
 * Plugin Name: Ledger
 * Version: %[1]s
 */
function ledger_option( $name ) {
	global $wpdb;
	return $wpdb->get_var( $wpdb->prepare( "SELECT option_value FROM {$wpdb->options} WHERE option_name = %%s", $name ) );
}
add_action( 'init', function () {
	global $wpdb;
	if ( ledger_option( 'ledger_version' ) === '%[1]s' && ledger_option( 'ledger_due' ) === null ) {
		return;
	}
	$wpdb->query( "SELECT GET_LOCK('{$wpdb->dbname}ledger', 10)" );
	if ( ledger_option( 'ledger_version' ) !== '%[1]s' ) {
%[2]s		update_option( 'ledger_version', '%[1]s' );
		if ( '%[4]s' ) { update_option( 'ledger_due', time() + 1 ); }
	} elseif ( '%[4]s' && ledger_option( 'ledger_due' ) > 1 && time() > ledger_option( 'ledger_due' ) ) {
%[3]s		update_option( 'ledger_due', 1 );
	}
	$wpdb->query( "SELECT RELEASE_LOCK('{$wpdb->dbname}ledger')" );
} );
add_shortcode( 'sailings', function () {
	if ( %[5]s ) { ledger_is_missing(); }
	return 'All boats sail.';
} );
`, version, statements(migrate), statements(late), map[bool]string{true: "late"}[late != ""], map[bool]string{true: "is_dir( '" + outside + "' )", false: "false"}[version == "2.0.0"])}
}

// harbour is a site with the ledger, at which visitors write.
type harbour struct {
	*testenv.Site
	care    string
	late    bool
	steady  map[string]string    // of what visitors do not touch, as it was
	notes   map[string]string    // by name: of all bookings that must be there; what visitors wrote last, or how it was
	maybe   map[string]bool      // names whose last write may have been before the migration that destroyed it
	last    map[string]time.Time // when they wrote that
	carts   map[string]bool
	swapped time.Time
	number  int64 // of the last invoice
	wrote   int
	stop    atomic.Bool
	wait    sync.WaitGroup
}

// onlyTheUpdates are rows that only the update touches.
var onlyTheUpdates = map[string]string{
	"keys, names and seats of bookings": "SELECT CONCAT_WS('|', id, HEX(name), seats, at) FROM of_bookings WHERE name" +
		" NOT LIKE 'guest%' ORDER BY id",
	"form of bookings": "SELECT CONCAT_WS('|', column_name, column_type, COALESCE(collation_name, ''))" +
		" FROM information_schema.columns WHERE table_schema = database() AND table_name = 'of_bookings' ORDER BY" +
		" ordinal_position",
	"crossings": "SELECT CONCAT_WS('|', id, name) FROM of_crossings ORDER BY id",
	"stages":    "SELECT CONCAT_WS('|', id, name) FROM of_stages ORDER BY id",
	"fares":     "SELECT CONCAT_WS('|', code, amount) FROM of_fares ORDER BY code",
	"past":      "SELECT CONCAT_WS('|', id, name) FROM of_past ORDER BY id",
	"sailings": "SELECT CONCAT_WS('|', ID, post_title, post_content) FROM of_posts WHERE" +
		" post_type = 'sailing' ORDER BY ID",
	"berths of sailings": "SELECT CONCAT_WS('|', meta_id, post_id, meta_value) FROM of_postmeta WHERE" +
		" meta_key = '_berth' ORDER BY meta_id",
	"options": "SELECT CONCAT_WS('|', option_name, option_value) FROM of_options WHERE" +
		" option_name LIKE 'ledger\\_%' AND option_name <> 'ledger_invoice' ORDER BY option_name",
	"berths of people": "SELECT CONCAT_WS('|', umeta_id, user_id, meta_value) FROM of_usermeta WHERE" +
		" meta_key = 'ledger_berth' ORDER BY umeta_id",
	"comments": "SELECT CONCAT_WS('|', comment_ID, comment_content) FROM of_comments WHERE" +
		" comment_author = 'Piet Alder' ORDER BY comment_ID",
}

func newHarbour(t *testing.T, site *testenv.Site) *harbour {
	h := &harbour{Site: site, care: t.TempDir(), notes: map[string]string{}, maybe: map[string]bool{},
		last: map[string]time.Time{}, carts: map[string]bool{}}
	for name, text := range ledgerPlugin("1.0.0", "", "", "") {
		site.Write(t, "wp-content/plugins/"+name, text)
	}
	db := site.Account.Root
	run := func(statement string, args ...any) {
		_, err := db.Exec(statement, args...)
		must(t, err)
	}
	run("CREATE TABLE of_bookings (id INT AUTO_INCREMENT PRIMARY KEY, name VARCHAR(60) CHARACTER SET utf8mb4, note" +
		" TEXT, seats INT, at DATETIME)")
	run("CREATE TABLE of_past LIKE of_bookings")
	run("CREATE TABLE of_crossings (id INT AUTO_INCREMENT PRIMARY KEY, name VARCHAR(60)) ENGINE=MyISAM")
	run("CREATE TABLE of_stages (id INT AUTO_INCREMENT PRIMARY KEY, name VARCHAR(60))")
	run("CREATE TABLE of_fares (code VARCHAR(10) PRIMARY KEY, amount DECIMAL(8,2))")
	for i := 1; i <= 96; i++ {
		name, note := fmt.Sprintf("Müller %d", i), fmt.Sprintf("window seat %d", i)
		run("INSERT INTO of_bookings (name, note, seats, at) VALUES (?, ?, ?, '2026-05-01 10:00:00')", name, note, i%4+1)
		h.notes[name] = note
		run("INSERT INTO of_crossings (name) VALUES (?)", fmt.Sprint("crossing ", i))
		run("INSERT INTO of_fares VALUES (?, ?)", fmt.Sprint("F", i), i)
		if i <= 4 {
			run("INSERT INTO of_stages (name) VALUES (?)", fmt.Sprint("stage ", i))
		}
		if i <= 30 {
			run("INSERT INTO of_comments (comment_post_ID, comment_author, comment_content, comment_date, comment_date_gmt,"+
				" comment_author_email) VALUES (10, 'Piet Alder', ?, NOW(), NOW(), '')", fmt.Sprint("note ", i))
			run("INSERT INTO of_posts (post_title, post_content, post_type, post_status, post_date, post_date_gmt,"+
				" post_modified, post_modified_gmt, post_excerpt, to_ping, pinged, post_content_filtered) VALUES (?, 'by boat',"+
				" 'sailing', 'private', NOW(), NOW(), NOW(), NOW(), '', '', '', '')", fmt.Sprint("sailing ", i))
			run("INSERT INTO of_postmeta (post_id, meta_key, meta_value) VALUES (LAST_INSERT_ID(), '_berth', ?)",
				fmt.Sprint("berth ", i))
			run("INSERT INTO of_usermeta (user_id, meta_key, meta_value) VALUES (?, 'ledger_berth', ?)", 100+i,
				fmt.Sprint("berth ", i))
		}
	}
	run("INSERT INTO of_options (option_name, option_value) VALUES ('ledger_form', 'old form'), ('ledger_colour'," +
		" 'blue'), ('ledger_invoice', '1000'), ('ledger_version', '1.0.0')")
	h.number = 1000
	site.PHP(t, []byte(`<?php require getcwd() . '/wp-load.php'; update_option( 'active_plugins', array( 'ledger/ledger.php' ) );`))
	if text, err := site.Get("/?pagename=timetable"); err != nil || !strings.Contains(text, "All boats sail.") {
		t.Fatalf("the plugin does not work: %v", err)
	}
	wetland(t, h.care, "adopt", site.Root, "--address", site.Address, "--no-browser").want(t, 0)
	h.steady = h.onlyUpdates(t)
	return h
}

func (h *harbour) onlyUpdates(t *testing.T) map[string]string {
	all := map[string]string{}
	for what, query := range onlyTheUpdates {
		all[what] = strings.Join(column(t, h.Account.Root, query), "\n")
	}
	return all
}

// phase says how far the update is; sure, that what is written now is not destroyed by it before anybody could read it.
func (h *harbour) phase(db *sql.DB) (name string, sure bool) {
	code, err := os.ReadFile(filepath.Join(h.Root, "wp-content/plugins/ledger/ledger.php"))
	var migrated, late sql.NullString
	if err == nil {
		err = db.QueryRow("SELECT (SELECT option_value FROM of_options WHERE option_name = 'ledger_version'), (SELECT"+
			" option_value FROM of_options WHERE option_name = 'ledger_due')").Scan(&migrated, &late)
	}
	if err != nil {
		return err.Error(), false
	}
	isNew := strings.Contains(string(code), "Version: 2.0.0")
	name = fmt.Sprint(isNew, migrated.String, late.String)
	return name, !isNew && (!h.late || migrated.String == "1.0.0") || migrated.String == "2.0.0" &&
		(!h.late || late.String == "1")
}

// shortlyBefore is how long before the swap is seen to have been made the tables may have been read.
const shortlyBefore = 2 * time.Second

// write is what one visitor does: it books, amends or cancels, gets an invoice, and fills a cart.
func (h *harbour) write(n int) {
	db := h.Account.Root
	before, sure := h.phase(db)
	if strings.HasPrefix(before, "true") && h.swapped.IsZero() {
		h.swapped = time.Now()
		for name, at := range h.last { // the migration may have destroyed what came after the last reading before the swap
			h.maybe[name] = h.maybe[name] || h.swapped.Sub(at) < shortlyBefore
		}
	}
	if !sure {
		return
	}
	var done []func(sure bool)
	exec := func(then func(sure bool), statement string, args ...any) {
		if result, err := db.Exec(statement, args...); err == nil {
			if rows, err := result.RowsAffected(); err == nil && rows > 0 {
				done = append(done, then)
			}
		}
	}
	note := func(name, text string) func(bool) {
		return func(sure bool) {
			h.notes[name], h.last[name], h.maybe[name] = text, time.Now(), h.maybe[name] || !sure
		}
	}
	name, text := fmt.Sprint("guest ", n), fmt.Sprint("written ", n)
	switch n % 4 {
	case 0, 1:
		exec(note(name, text), "INSERT INTO of_bookings (name, note, seats, at) VALUES (?, ?, 1, '2026-06-01 10:00:00')",
			name, text)
	case 2:
		known := fmt.Sprintf("Müller %d", n/4%96+1)
		exec(note(known, text), "UPDATE of_bookings SET note = ? WHERE name = ?", text, known)
	default:
		known := fmt.Sprint("guest ", n-11)
		exec(func(sure bool) { delete(h.notes, known); h.maybe[known] = true }, "DELETE FROM of_bookings WHERE name = ?",
			known)
	}
	exec(func(sure bool) {
		if sure {
			h.number = int64(n) + 1001
		}
	}, "UPDATE of_options SET option_value = ? WHERE option_name = 'ledger_invoice'", n+1001)
	cart := fmt.Sprintf("cart_%06d", n)
	exec(func(sure bool) {
		if sure {
			h.carts[cart] = true
		}
	}, "INSERT INTO of_options (option_name, option_value) VALUES (?, 'a ticket')", cart)
	after, _ := h.phase(db)
	for _, then := range done {
		then(before == after)
	}
	h.wrote += len(done)
}

func (h *harbour) begin() {
	h.wait.Go(func() {
		for n := 0; !h.stop.Load(); n++ {
			h.write(n)
			time.Sleep(250 * time.Millisecond)
		}
	})
}

func (h *harbour) end() {
	h.stop.Store(true)
	h.wait.Wait()
}

// faults lists what visitors wrote and is not there, and what is not as before the update.
func (h *harbour) faults(t *testing.T) (faults []string) {
	for what, was := range h.steady {
		rows := column(t, h.Account.Root, onlyTheUpdates[what])
		if what == "past" { // what was written shortly before the swap can have been moved there as nobody had read it
			rows = slices.DeleteFunc(rows, func(row string) bool { _, name, _ := strings.Cut(row, "|"); return h.maybe[name] })
		}
		if now := strings.Join(rows, "\n"); now != was {
			faults = append(faults, fmt.Sprintf("%s are not as before: %s", what, firstDifference(was, now)))
		}
	}
	present := map[string]string{}
	for _, line := range column(t, h.Account.Root, "SELECT CONCAT(name, '|', COALESCE(note, '')) FROM of_bookings") {
		name, note, _ := strings.Cut(line, "|")
		if _, twice := present[name]; twice && !h.maybe[name] {
			faults = append(faults, "twice: "+name)
		}
		present[name] = note
	}
	for name, note := range h.notes {
		if is, there := present[name]; !h.maybe[name] && (!there || is != note) {
			faults = append(faults, fmt.Sprintf("%s: %q, not %q (there: %v)", name, is, note, there))
		}
	}
	for name := range present {
		if _, known := h.notes[name]; !known && !h.maybe[name] {
			faults = append(faults, "nobody wrote "+name)
		}
	}
	options := column(t, h.Account.Root, "SELECT option_name FROM of_options WHERE option_name LIKE 'cart%'")
	for cart := range h.carts {
		if !slices.Contains(options, cart) {
			faults = append(faults, cart+" is lost")
		}
	}
	for _, number := range column(t, h.Account.Root, "SELECT option_value FROM of_options WHERE option_name ="+
		" 'ledger_invoice'") {
		if fmt.Sprint(h.number) > number {
			faults = append(faults, fmt.Sprintf("the invoices went back from %d to %s", h.number, number))
		}
	}
	slices.Sort(faults)
	return faults
}

func firstDifference(was, now string) string {
	a, b := strings.Split(was, "\n"), strings.Split(now, "\n")
	for i := range max(len(a), len(b)) {
		switch {
		case i >= len(a):
			return fmt.Sprintf("%d rows, not %d; new: %s", len(b), len(a), b[i])
		case i >= len(b):
			return fmt.Sprintf("%d rows, not %d; gone: %s", len(b), len(a), a[i])
		case a[i] != b[i]:
			return fmt.Sprintf("%d rows of %d; was %s, is %s", len(b), len(a), a[i], b[i])
		}
	}
	return "equal"
}

// update brings the new version, while visitors write, and lists what is not as it must be.
func (h *harbour) update(t *testing.T, sql, late string, args ...string) (result result, faults []string) {
	outside := t.TempDir()
	h.late = late != ""
	h.begin()
	result = wetland(t, h.care, append([]string{"update", zipOf(t, "ledger.zip", ledgerPlugin("2.0.0", outside, sql,
		late)), "--allow-major"}, args...)...)
	h.end()
	faults = h.faults(t)
	t.Logf("%d writes, exit code %d, %d faults", h.wrote, result.code, len(faults))
	nothingLeft(t, h.Root)
	return result, faults
}

// The rows that an update destroyed are as before once it is put back, and those that visitors wrote meanwhile are
// there.
func TestDestroyedRowsComeBack(t *testing.T) {
	t.Parallel()
	sites := []struct {
		name   string
		site   func(t *testing.T) *testenv.Site
		which  func(i int) bool
		sample []int // that make test tries
	}{
		{"PHP's own server", func(t *testing.T) *testenv.Site { return testenv.WordPress(t) },
			func(i int) bool { return true }, []int{0, 17}},
		{"nginx and a pool", func(t *testing.T) *testenv.Site { return testenv.NginxWordPress(t) },
			func(i int) bool { return true }, []int{4}},
		{"the newest, on newer PHP", kinds["the newest, on newer PHP"], func(i int) bool { return true }, nil},
		{"MySQL", func(t *testing.T) *testenv.Site { return testenv.WordPressOn(t, testenv.MySQL) },
			func(i int) bool { return i%7 == 0 }, []int{0}},
		{"by SSH", func(t *testing.T) *testenv.Site { reachBySSH(t, testenv.OwnSSHAccount(t)); return testenv.WordPress(t) },
			func(i int) bool { return i%7 == 1 }, []int{8}},
	}
	for _, kind := range sites {
		var doubts atomic.Int64
		t.Run(kind.name, func(t *testing.T) {
			for i, one := range destructive {
				if !kind.which(i) || sampled(7) > 1 && !slices.Contains(kind.sample, i) {
					continue
				}
				t.Run(one.name, func(t *testing.T) {
					t.Parallel()
					h := newHarbour(t, kind.site(t))
					if h.Pool != "" {
						askPool(t, h.care, h.Site, true)
					}
					result, faults := h.update(t, one.sql, one.late)
					if result.code == 5 && len(h.undecided(t)) > 0 {
						doubts.Add(1)
						faults = h.decide(t, map[bool]string{true: "back", false: "keep"}[one.doubt])
					} else if result.code != 3 || one.doubt {
						t.Errorf("exit code %d\n%s", result.code, result)
					}
					if len(faults) > 0 {
						t.Errorf("faults:\n%.2000s\n%s", strings.Join(faults, "\n"), result)
					}
				})
			}
		})
		if doubts.Load() > 2 {
			t.Errorf("%s: %d ended in doubt", kind.name, doubts.Load())
		}
		t.Logf("%s: %d ended in doubt", kind.name, doubts.Load())
	}
}

// undecided are the rows that the run could not tell.
func (h *harbour) undecided(t *testing.T) (all []string) {
	var run struct {
		Undecided []struct{ Table, File string }
	}
	text, err := os.ReadFile(filepath.Join(h.care, "runs/run-1/run.json"))
	must(t, err, json.Unmarshal(text, &run))
	for _, one := range run.Undecided {
		all = append(all, one.Table)
	}
	return all
}

// decide settles those rows, and lists what is not as it must be then.
func (h *harbour) decide(t *testing.T, how string) (faults []string) {
	wetland(t, h.care, "recover").want(t, 5, "nobody can tell", "wetland recover --undecided keep", "wetland recover"+
		" --undecided back")
	wetland(t, h.care, "recover", "--undecided", how).want(t, 0, "you said so")
	return h.faults(t)
}

// Where an update was rehearsed, it is known what it does to rows: nothing ends in doubt.
func TestDestroyedRowsAfterARehearsal(t *testing.T) {
	t.Parallel()
	for _, one := range destructive {
		if sampled(2) > 1 && !one.doubt {
			continue
		}
		t.Run(one.name, func(t *testing.T) {
			t.Parallel()
			h := newHarbour(t, testenv.WordPress(t))
			result, faults := h.update(t, one.sql, one.late, "--rehearse", "--in-doubt", "keep", "--accept-present")
			if result.code != 3 || len(faults) > 0 {
				t.Errorf("exit code %d; faults:\n%.2000s\n%s", result.code, strings.Join(faults, "\n"), result)
			}
		})
	}
}

package tables_test

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wetland/core/database"
	"wetland/core/packs"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site"
	"wetland/core/site/cms"
	"wetland/core/snapshot"
	"wetland/core/tables"
	"wetland/core/workspace"
	"wetland/internal/testenv"
)

func TestMain(m *testing.M) { os.Exit(testenv.Run(m)) }

// office is a CMS whose table settings holds settings; of others nothing is known.
type office struct{ cms.Remembered }

func (office) Purpose(table string) cms.Purpose {
	if table == "settings" {
		return cms.Settings
	}
	return cms.Unknown
}

func (office) Owns(names []string) []string { return names }

// quay is a database to which an update and visitors write.
type quay struct {
	*testing.T
	raw       *sql.DB
	sqlite    bool
	session   *session.Session
	random    *rand.Rand
	notes     map[string]string // what is to be in the table, by name
	ids       map[string]string // of rows that were there at first
	meanwhile bool              // what visitors try may fail
	keep      bool              // visitors remove nothing: rows that got another key come back (docs/going-back.md)
	number    int
	log       []string
}

// engines are the servers that the laws are tried on.
var engines = map[string]func(t *testing.T) (login database.Login, raw *sql.DB){
	"SQLite": func(t *testing.T) (database.Login, *sql.DB) {
		file := filepath.Join(t.TempDir(), "quay.sqlite")
		raw, err := sql.Open("sqlite", "file:"+file+"?_pragma=busy_timeout(10000)")
		if err != nil {
			t.Fatal(err)
		}
		return database.Login{Engine: "sqlite", File: file}, raw
	},
	"MariaDB": func(t *testing.T) (database.Login, *sql.DB) { return account(t, testenv.OwnMariaDB) },
	"MySQL":   func(t *testing.T) (database.Login, *sql.DB) { return account(t, testenv.MySQL) },
}

func account(t *testing.T, kind testenv.Kind) (database.Login, *sql.DB) {
	a := testenv.Start(t, kind).Database(t)
	return database.Login{Engine: "mysql", Host: "127.0.0.1", Port: a.Port, Name: a.Name, User: a.User,
		Password: a.Password}, a.Root
}

func newQuay(t *testing.T, engine string, seed uint64) *quay {
	login, raw := engines[engine](t)
	q := &quay{
		T: t, raw: raw, sqlite: engine == "SQLite", random: rand.New(rand.NewPCG(38, seed)),
		notes: map[string]string{}, ids: map[string]string{},
	}
	dir := t.TempDir()
	root := filepath.Join(dir, "www")
	care := filepath.Join(dir, "care")
	q.must(os.Mkdir(root, 0o755), os.Mkdir(care, 0o700))
	settings := fmt.Appendf(nil, "format = 1\n[site]\nname = \"Quay\"\nroot = %q\naddress = \"http://127.0.0.1:1/\"\n"+
		"cms = \"rowlock\"\n", root)
	q.must(os.WriteFile(filepath.Join(care, "wetland.toml"), settings, 0o600))
	w, err := workspace.Load(care, workspace.OnlyHere)
	q.must(err)
	opened, err := site.Remember(t.Context(), w, root, cms.Remembered{Name: "an office"})
	q.must(err)
	opened.CMS = office{cms.Remembered{Name: "an office"}}
	id := "INT AUTO_INCREMENT PRIMARY KEY"
	if q.sqlite {
		id = "INTEGER PRIMARY KEY"
	}
	q.run("CREATE TABLE bookings (id " + id + ", name VARCHAR(60), note VARCHAR(60), seats INT)")
	q.run("CREATE TABLE past (id " + id + ", name VARCHAR(60), note VARCHAR(60), seats INT)")
	q.run("CREATE TABLE settings (name VARCHAR(60) PRIMARY KEY, value VARCHAR(60))")
	q.run("INSERT INTO settings VALUES ('form', 'old'), ('colour', 'blue')")
	for i := 1; i <= 44; i++ {
		name := fmt.Sprint("first ", i)
		q.run("INSERT INTO bookings (name, note, seats) VALUES (?, ?, ?)", name, fmt.Sprint("window ", i), i%5)
		q.notes[name], q.ids[name] = fmt.Sprint("window ", i), fmt.Sprint(i)
	}
	db, err := database.Engines{}.Open(t.Context(), login, database.Everything)
	q.must(err)
	store, err := packs.Open(t.Context(), w.Store(), nil)
	q.must(err)
	q.session = &session.Session{Site: opened, DB: db, Store: store, Run: &runs.Run{Name: "run-1",
		Folder: filepath.Join(care, "run-1")}}
	q.session.Fill()
	q.must(os.Mkdir(q.session.Run.Folder, 0o700))
	t.Cleanup(func() {
		q.session.Run, q.session.Journal = nil, nil
		q.must(db.Close(), store.Close(), raw.Close())
	})
	return q
}

func (q *quay) must(all ...error) {
	q.Helper()
	for _, err := range all {
		if err != nil {
			q.Fatalf("%v\n%s", err, strings.Join(q.log, "\n"))
		}
	}
}

func (q *quay) run(statement string, args ...any) int64 {
	q.Helper()
	result, err := q.raw.Exec(statement, args...)
	if q.meanwhile && err != nil { // the table is not there, or its column
		return 0
	}
	q.must(err)
	n, err := result.RowsAffected()
	q.must(err)
	return n
}

// visit writes what visitors write: a few rows, one by one.
func (q *quay) visit(when string, most int) {
	for range q.random.IntN(most + 1) {
		q.number++
		text := fmt.Sprint("written ", q.number)
		known := slices.Sorted(func(yield func(string) bool) {
			for name := range q.notes {
				if !yield(name) {
					return
				}
			}
		})
		name := known[q.random.IntN(len(known))]
		switch q.random.IntN(5) {
		case 0, 1:
			name = fmt.Sprint("guest ", q.number)
			if q.run("INSERT INTO bookings (name, note, seats) VALUES (?, ?, ?)", name, text, 20+q.number) > 0 {
				q.notes[name] = text
			}
		case 2, 3:
			if q.run("UPDATE bookings SET note = ? WHERE name = ?", text, name) > 0 {
				q.notes[name] = text
			}
		default:
			if strings.HasPrefix(name, "guest") && !q.keep && q.run("DELETE FROM bookings WHERE name = ?", name) > 0 {
				delete(q.notes, name)
			}
		}
		q.log = append(q.log, fmt.Sprint(when, ": a visitor: ", name, " ", text))
	}
}

// destroys are the things that an update does.
var destroys = []struct{ name, statements string }{
	{"nothing", ""},
	{"empties it", "DELETE FROM bookings"},
	{"truncates it", "TRUNCATE bookings"},
	{"deletes most", "DELETE FROM bookings WHERE id <= 40"},
	{"doubles all", "INSERT INTO bookings (name, note, seats) SELECT name, note, seats FROM bookings"},
	{"empties a field", "UPDATE bookings SET note = ''"},
	{"renumbers", "UPDATE bookings SET id = id + 5000"},
	{"rewrites texts", "UPDATE bookings SET seats = seats * 7 + 1"},
	{"adds a column", "ALTER TABLE bookings ADD COLUMN deck INT DEFAULT 1"},
	{"changes a form", "ALTER TABLE bookings ADD COLUMN berth VARCHAR(90); UPDATE bookings SET berth = seats, seats = 0"},
	{"drops it", "DROP TABLE bookings"},
	{"moves all", "INSERT INTO past SELECT * FROM bookings; DELETE FROM bookings"},
	{"rewrites settings", "UPDATE settings SET value = 'new' WHERE name = 'form';" +
		" DELETE FROM settings WHERE name = 'colour'; INSERT INTO settings VALUES ('extra', '1')"},
}

func (q *quay) destroy(when string, n int) {
	one := destroys[n]
	q.log = append(q.log, when+": the update "+one.name)
	q.all(one.statements)
}

func (q *quay) all(statements string) {
	for statement := range strings.SplitSeq(statements, ";") {
		if statement = strings.TrimSpace(statement); statement != "" {
			if q.sqlite {
				statement = strings.Replace(statement, "TRUNCATE", "DELETE FROM", 1)
			}
			q.run(statement)
		}
	}
}

// check holds the tables against what must be there.
func (q *quay) check(doubts bool) {
	q.Helper()
	rows, err := q.raw.Query("SELECT id, name, note, seats FROM bookings")
	q.must(err)
	defer rows.Close()
	seen := map[string]bool{}
	fault := func(format string, args ...any) {
		q.Helper()
		q.Errorf(format+"\n%s", append(args, strings.Join(q.log, "\n"))...)
	}
	for rows.Next() {
		var id, name, note, seats string
		q.must(rows.Scan(&id, &name, &note, &seats))
		want, known := q.notes[name]
		if seen[name] || !doubts && !known {
			fault("%s %s (%s): nobody wrote it, or it is there twice", id, name, note)
		}
		seen[name] = true
		if was := q.ids[name]; !doubts && (note != want || was != "" && (was != id || seats != fmt.Sprint(asInt(was)%5))) {
			fault("%s %s %q %s, not %s %q", id, name, note, seats, was, want)
		}
	}
	for name := range q.notes {
		if !seen[name] && (!doubts || strings.HasPrefix(name, "guest")) {
			fault("%s is lost", name)
		}
	}
	for query, want := range map[string]string{
		"SELECT COUNT(*) FROM past": "0", "SELECT COUNT(*) FROM settings": "2",
		"SELECT value FROM settings WHERE name = 'form'":   "old",
		"SELECT value FROM settings WHERE name = 'colour'": "blue",
	} {
		var is string
		q.must(q.raw.QueryRow(query).Scan(&is))
		if is != want {
			fault("%s: %s, not %s", query, is, want)
		}
	}
}

func asInt(text string) (n int) {
	_, _ = fmt.Sscan(text, &n)
	return n
}

// Whatever an update does to rows, and whatever visitors write meanwhile: no visitor's row is lost, and every row that
// the update alone touched is as before, or told.
func TestNoRowIsLost(t *testing.T) {
	rounds := 2 * len(destroys)
	if os.Getenv("WETLAND_TORTURE") != "" {
		rounds = 20 * len(destroys)
	}
	for engine := range engines {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			told := 0
			for seed := range rounds {
				what := destroys[seed%len(destroys)].name
				t.Run(fmt.Sprintf("%s/%d", strings.ReplaceAll(what, " ", "_"), seed), func(t *testing.T) {
					q := newQuay(t, engine, uint64(seed))
					if q.goBack(seed % len(destroys)) {
						told++
					}
				})
			}
			t.Logf("%d of %d ended in doubt", told, rounds)
			if told*10 > rounds {
				t.Errorf("%d of %d ended in doubt", told, rounds)
			}
		})
	}
}

func (q *quay) snapshot() *snapshot.Manifest {
	of := snapshot.Subject{Site: q.session.Site, Database: q.session.DB}
	from, err := snapshot.Take(context.Background(), q.session.Store, of, progress.Silent{})
	q.must(err)
	return from
}

// goBack lets an update work, and goes back. It tells whether that ended in doubt.
func (q *quay) goBack(does int) (doubts bool) {
	ctx := context.Background()
	q.visit("long before", 4)
	began := time.Now()
	from := q.snapshot()
	q.visit("before the swap", 5)
	q.keep = destroys[does].name == "renumbers"
	readings := tables.NewReadings(q.session, from, began)
	q.must(readings.OpenBefore(ctx))
	defer func() { q.must(readings.Close()) }()
	q.destroy("after the swap", does)
	if destroys[does].name == "drops it" {
		q.must(readings.OpenSettled(ctx, q.random.IntN(2) == 0))
	} else {
		if since := q.log[:len(q.log)-1]; len(since) > 0 && strings.HasPrefix(since[len(since)-1], "before the swap") {
			q.visit("before it settled", 3) // of a table to which nobody writes otherwise, it is taken for the update's
		}
		q.must(readings.OpenSettled(ctx, q.random.IntN(2) == 0))
		if late := q.random.IntN(12); does == 0 && late < 6 {
			q.destroy("later", late)
		}
		q.visit("after it settled", 6)
	}
	over := make(chan bool)
	go func() { // visitors do not wait for it
		defer close(over)
		q.meanwhile = true
		for range q.random.IntN(12) {
			q.visit("meanwhile", 2)
		}
		q.meanwhile = false
	}()
	err := tables.PutBackTables(ctx, q.session, readings)
	<-over
	q.must(err)
	doubts = readings.Undecided() != nil
	for _, note := range q.session.Run.Database {
		q.log = append(q.log, "told: "+note.Table+": "+note.What)
	}
	q.check(doubts)
	q.visit("at the end", 3)
	plan, err := readings.PlanTables(ctx)
	q.must(err)
	if !plan.Change.Empty() {
		q.Errorf("it would put back more: %+v\n%s", plan.Change, strings.Join(q.log, "\n"))
	}
	return doubts
}

// between are writes of an update and of visitors around the instants at which tables are read, and what must be there
// once it went back.
var between = []struct {
	name      string
	first     string // before any of that
	update    string
	meanwhile string // a visitor, before the new version had settled
	later     string // and after that
	rehearsed bool
	is        map[string]string // what statements give once it went back
	doubt     string            // of which rows nobody can tell whose they are
	decided   map[string]string // and once those went back, too
}{
	{
		name: "no key, emptied", update: "DELETE FROM log", later: "INSERT INTO log VALUES ('mine')",
		is: map[string]string{"SELECT COUNT(*) FROM log WHERE line LIKE 'old%'": "30", "SELECT COUNT(*) FROM log": "31"},
	},
	{
		name: "no key, doubled", update: "INSERT INTO log SELECT * FROM log", later: "INSERT INTO log VALUES ('mine')",
		is: map[string]string{"SELECT COUNT(*) FROM log WHERE line LIKE 'old%'": "30", "SELECT COUNT(*) FROM log": "31"},
	},
	{
		name: "no key, one row taken out", update: "DELETE FROM log WHERE line = 'old 7'",
		later: "INSERT INTO log VALUES ('mine')",
		is:    map[string]string{"SELECT COUNT(*) FROM log": "30"}, doubt: "1 row of log",
		decided: map[string]string{
			"SELECT COUNT(*) FROM log": "31", "SELECT COUNT(*) FROM log WHERE line = 'old 7'": "1",
		},
	},
	{
		name: "a key given again, and named", update: "TRUNCATE bookings",
		later: "INSERT INTO bookings (id, name, note, seats) VALUES (1, 'mine', 'here', 1); INSERT INTO guests VALUES (1, 1)",
		is: map[string]string{
			"SELECT COUNT(*) FROM bookings": "44", "SELECT name FROM bookings WHERE id = 1": "mine",
		},
		doubt: "1 row of bookings", decided: map[string]string{"SELECT name FROM bookings WHERE id = 1": "first 1"},
	},
	{
		name: "a key given again", update: "TRUNCATE bookings",
		later: "INSERT INTO bookings (id, name, note, seats) VALUES (1, 'mine', 'here', 1)",
		is: map[string]string{
			"SELECT COUNT(*) FROM bookings": "45", "SELECT id > 44 FROM bookings WHERE name = 'mine'": "1",
		},
	},
	{
		name: "a key given again, to a row much like the old one", update: "TRUNCATE bookings",
		later: "INSERT INTO bookings (id, name, note, seats) VALUES (1, 'mine', 'window 1', 1)",
		is: map[string]string{
			"SELECT COUNT(*) FROM bookings": "45", "SELECT name FROM bookings WHERE id = 1": "first 1",
			"SELECT id > 44 FROM bookings WHERE name = 'mine'": "1",
		},
	},
	{
		name: "one row changed by the update, and by a visitor", update: "UPDATE bookings SET seats = 9 WHERE id = 7",
		later: "UPDATE bookings SET note = 'mine' WHERE id = 7; UPDATE bookings SET note = 'mine' WHERE id = 8",
		is: map[string]string{
			"SELECT seats FROM bookings WHERE id = 7": "9", "SELECT note FROM bookings WHERE id = 7": "mine",
		},
		doubt: "1 row of bookings", decided: map[string]string{
			"SELECT seats FROM bookings WHERE id = 7": "2", "SELECT note FROM bookings WHERE id = 7": "mine",
			"SELECT note FROM bookings WHERE id = 8": "since",
		},
	},
	{
		name: "one row changed by both while it settled", update: "UPDATE bookings SET seats = 9 WHERE id = 7",
		meanwhile: "UPDATE bookings SET note = 'mine' WHERE id = 7",
		later:     "UPDATE bookings SET note = 'theirs' WHERE id = 8; UPDATE bookings SET note = 'theirs' WHERE id = 9",
		is: map[string]string{
			"SELECT seats FROM bookings WHERE id = 7": "9", "SELECT note FROM bookings WHERE id = 7": "mine",
		},
		doubt: "1 row of bookings", decided: map[string]string{
			"SELECT seats FROM bookings WHERE id = 7": "2", "SELECT note FROM bookings WHERE id = 7": "mine",
			"SELECT note FROM bookings WHERE id = 9": "theirs",
		},
	},
	{
		name: "doubled, but for a gap in the keys", update: "DELETE FROM bookings WHERE id = 42;" + doubling,
		later: "INSERT INTO bookings (name, note, seats) VALUES ('mine', 'window 44', 4)",
		is: map[string]string{
			"SELECT name FROM bookings WHERE id = 44": "first 44", "SELECT COUNT(*) FROM bookings WHERE name = 'mine'": "1",
			"SELECT COUNT(*) FROM bookings WHERE id <> 42": "44",
		},
		doubt: "1 row of bookings", decided: map[string]string{
			"SELECT COUNT(*) FROM bookings": "45", "SELECT name FROM bookings WHERE id = 42": "first 42",
		},
	},
	{
		name: "doubled, with gaps in the keys, and both changed", update: doubling,
		first:     "DELETE FROM bookings WHERE id > 30 AND id % 2 = 1",
		meanwhile: "UPDATE bookings SET note = 'mine' WHERE name = 'first 40'",
		is: map[string]string{
			"SELECT COUNT(*) FROM bookings": "37", "SELECT note FROM bookings WHERE id = 40": "mine",
			"SELECT note FROM bookings WHERE id = 38": "window 38",
		},
	},
	{
		name: "a field emptied in all, rehearsed", update: "UPDATE bookings SET note = ''", rehearsed: true,
		meanwhile: "UPDATE bookings SET note = 'mine' WHERE id = 7", is: mineIsKept,
	},
	{
		name: "a field rewritten in all, rehearsed", rehearsed: true,
		update:    "UPDATE bookings SET note = REPLACE(note, 'window', 'hatch')",
		meanwhile: "UPDATE bookings SET note = 'mine' WHERE id = 7", is: mineIsKept,
	},
}

const doubling = "INSERT INTO bookings (name, note, seats) SELECT name, note, seats FROM bookings ORDER BY id"

var mineIsKept = map[string]string{
	"SELECT note FROM bookings WHERE id = 7": "mine", "SELECT note FROM bookings WHERE id = 8": "window 8",
}

// rehearse notes what an update does, where nobody else writes.
func (q *quay) rehearse(from *snapshot.Manifest, update string) *tables.Doing {
	ctx := context.Background()
	readings := tables.NewReadings(q.session, from, time.Now())
	readings.NobodyElseIsThere()
	q.all(update)
	doing := &tables.Doing{}
	q.must(doing.Watch(ctx, q.session, from), tables.PutBackTables(ctx, q.session, readings))
	q.must(readings.Close())
	return doing
}

// are holds what statements give against what they must.
func (q *quay) are(wanted map[string]string) {
	q.Helper()
	for query, want := range wanted {
		var is string
		q.must(q.raw.QueryRow(query).Scan(&is))
		if is != want {
			q.Errorf("%s: %s, not %s\n%+v", query, is, want, q.session.Run.Database)
		}
	}
}

func TestWhoseRowsAre(t *testing.T) {
	for engine := range engines {
		for _, one := range between {
			t.Run(engine+"/"+one.name, func(t *testing.T) {
				t.Parallel()
				q := newQuay(t, engine, 1)
				q.run("CREATE TABLE log (line VARCHAR(60))")
				q.run("CREATE TABLE guests (id INT PRIMARY KEY, booking_id INT)")
				for i := range 30 {
					q.run("INSERT INTO log VALUES (?)", fmt.Sprint("old ", i))
				}
				q.all(one.first)
				began := time.Now()
				from := q.snapshot()
				readings := tables.NewReadings(q.session, from, began)
				if one.rehearsed {
					readings.Copied = q.rehearse(from, one.update)
				}
				q.must(readings.OpenBefore(t.Context()))
				q.all(one.update)
				q.all(one.meanwhile)
				q.must(readings.OpenSettled(t.Context(), false))
				q.all(one.later)
				q.must(tables.PutBackTables(t.Context(), q.session, readings))
				doubt := readings.Undecided()
				if (doubt == nil) != (one.doubt == "") || doubt != nil && !strings.HasPrefix(doubt.Error(), one.doubt+" ") {
					t.Errorf("doubt: %v", doubt)
				}
				q.are(one.is)
				if doubt != nil {
					q.all("UPDATE bookings SET note = 'since' WHERE id = 8")
					q.must(tables.PutBackDoubts(t.Context(), q.session))
					q.are(one.decided)
				}
				q.must(readings.Close())
			})
		}
	}
}

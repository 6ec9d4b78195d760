package database

import (
	"bytes"
	"database/sql"
	"errors"
	"path/filepath"
	"strings"
	"testing"

	"wetland/internal/testenv"
)

func isError(err, want error) bool { return errors.Is(err, want) }

func openSQLiteTest(t *testing.T, statements string) (*sql.DB, Database) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "it's a ferry #1?.sqlite")
	raw, err := sql.Open("sqlite", "file:"+strings.NewReplacer("#", "%23", "?", "%3F").Replace(file))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := raw.Exec(statements); err != nil {
		t.Fatal(err)
	}
	db, err := (Engines{}).Open(t.Context(), Login{Engine: "sqlite", File: file}, everything)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := errors.Join(db.Close(), raw.Close()); err != nil {
			t.Error(err)
		}
	})
	return raw, db
}

const difficultSQLite = `
CREATE TABLE mixed (a, b DATE, c BOOLEAN, d TEXT COLLATE NOCASE, e REAL, f BLOB);
INSERT INTO mixed VALUES (1, '2026-11-23', 1, 'x', 0.1, x'00ff'), ('1', 20261123, 'yes', '', 1e308, x''), (x'31', NULL, NULL, NULL, NULL, NULL), (1.0, 1.5, 0, CAST(x'fffe' AS TEXT), -0.0, 'text');
DELETE FROM mixed WHERE rowid = 2;
INSERT INTO mixed (rowid, a) VALUES (900, 'far');
CREATE TABLE counted (id INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT UNIQUE);
INSERT INTO counted (name) VALUES ('a'), ('b'), ('c');
DELETE FROM counted WHERE name = 'c';
CREATE TABLE "odd ""name""" (k1 TEXT, k2 INT, v, twice AS (k2 * 2), PRIMARY KEY (k1, k2)) WITHOUT ROWID;
INSERT INTO "odd ""name""" VALUES ('a', 1, 'x'), ('a', 2, NULL);
CREATE INDEX by_name ON counted (name DESC) WHERE name > 'a';
CREATE TABLE log (what TEXT);
CREATE TRIGGER note_it AFTER INSERT ON counted BEGIN INSERT INTO log VALUES (NEW.name); END;
CREATE VIEW names AS SELECT name FROM counted;
CREATE VIEW more_names AS SELECT name || '!' AS name FROM names;
CREATE TABLE other_site (a);
INSERT INTO other_site VALUES (1);
`

func TestSQLiteRoundTrip(t *testing.T) {
	raw, db := openSQLiteTest(t, difficultSQLite)
	before := save(t, db)
	_, err := raw.Exec(`UPDATE mixed SET a = 2; DROP TABLE "odd ""name"""; ALTER TABLE counted ADD COLUMN x; INSERT INTO counted (name) VALUES ('z');
DROP VIEW more_names; CREATE TABLE extra (a); INSERT INTO extra VALUES (42); CREATE VIEW new_view AS SELECT a FROM extra; UPDATE other_site SET a = 2`)
	if err != nil {
		t.Fatal(err)
	}
	aside := before.restore(t, db)
	equalNow(t, db, before)
	if len(aside) != 2 || !strings.HasPrefix(aside[0], AsidePrefix) {
		t.Errorf("set aside: %v", aside)
	}
	for query, want := range map[string]string{
		"SELECT a FROM wetland_aside_test_1_extra":                        "42",
		"SELECT query FROM wetland_aside_test_1_new_view":                 "CREATE VIEW new_view AS SELECT a FROM extra",
		"SELECT a FROM other_site":                                        "2",
		"SELECT seq FROM sqlite_sequence WHERE name = 'counted'":          "3",
		"SELECT COUNT(*) FROM more_names":                                 "2",
		"SELECT typeof(a) || typeof(b) FROM mixed WHERE rowid = 1":        "integertext",
		"SELECT rowid FROM mixed WHERE a = 'far'":                         "900",
		"SELECT COUNT(*) FROM sqlite_master WHERE name = 'by_name'":       "1",
		"SELECT hex(CAST(d AS BLOB)) FROM mixed WHERE typeof(f) = 'text'": "FFFE",
		"SELECT COUNT(*) FROM log":                                        "0",
	} {
		var got string
		if err := raw.QueryRow(query).Scan(&got); err != nil || got != want {
			t.Errorf("%s: %q %v, want %q", query, got, err, want)
		}
	}
	if _, err := raw.Exec("INSERT INTO counted (name) VALUES ('after')"); err != nil {
		t.Fatal(err)
	}
	var logged string
	if err := raw.QueryRow("SELECT what FROM log").Scan(&logged); err != nil || logged != "after" {
		t.Errorf("the trigger noted %q %v", logged, err)
	}
}

func TestSQLiteChangeThatFailsChangesNothing(t *testing.T) {
	_, db := openSQLiteTest(t, difficultSQLite)
	before := save(t, db)
	bad := before.find(t, "counted")
	bad.Table.After = append(bad.Table.After, "CREATE INDEX nonsense ON nowhere (x)")
	if _, err := db.Apply(t.Context(), Change{Tag: "t", Aside: []string{"mixed"}, Replace: []Replacement{bad}}); err == nil {
		t.Fatal("the change was applied")
	}
	equalNow(t, db, before)
}

// A load that does not give the promised rows never becomes visible.
func TestLoadedRowsAreProved(t *testing.T) {
	lose := func(s saved, name string) Replacement {
		r := s.find(t, name)
		s.rows[name] = s.rows[name][1:]
		return r
	}
	_, lite := openSQLiteTest(t, difficultSQLite)
	before := save(t, lite)
	if _, err := lite.Apply(t.Context(), Change{Tag: "t", Replace: []Replacement{lose(before, "mixed")}}); err == nil || !strings.Contains(err.Error(), "differs from the snapshot") {
		t.Errorf("SQLite: %v", err)
	}
	equalNow(t, lite, before)

	account, db := openTest(t, testenv.Start(t, testenv.OwnMariaDB))
	if _, err := account.Root.Exec("CREATE TABLE posts (id INT PRIMARY KEY, title VARCHAR(5)); INSERT INTO posts VALUES (1, 'tide'), (2, 'ebb')"); err != nil {
		t.Fatal(err)
	}
	before = save(t, db)
	if _, err := db.Apply(t.Context(), Change{Tag: "t", Replace: []Replacement{lose(before, "posts")}}); err == nil || !strings.Contains(err.Error(), "differs from the snapshot") {
		t.Errorf("a lost row: %v", err)
	}
	// A value that the server would cut off in silence.
	cut := save(t, db)
	long := cut.find(t, "posts")
	cut.rows["posts"][0][1].Data = []byte("too long for its column")
	var digest Digest
	for _, row := range cut.rows["posts"] {
		digest.Add(row)
	}
	long.Table.Digest = digest.String()
	if _, err := db.Apply(t.Context(), Change{Tag: "t", Replace: []Replacement{long}}); err == nil {
		t.Error("a value was cut off, and nobody noticed")
	}
	if got := one(t, account, "SELECT GROUP_CONCAT(title ORDER BY id) FROM posts"); got != "tide,ebb" {
		t.Errorf("the live table holds %s", got)
	}
}

func TestSQLiteMissing(t *testing.T) {
	if _, err := (Engines{}).Open(t.Context(), Login{Engine: "sqlite", File: filepath.Join(t.TempDir(), "none")}, everything); !errors.Is(err, ErrMissing) {
		t.Errorf("got %v", err)
	}
}

func TestCompareTables(t *testing.T) {
	a := Table{Name: "a", Kind: BaseTable, Create: "CREATE TABLE a (x) AUTO_INCREMENT=3", Rows: 1, Digest: "1"}
	changed, altered := a, a
	changed.Digest = "2"
	altered.Create = "CREATE TABLE a (x, y)"
	counter := a
	counter.Create = "CREATE TABLE a (x) AUTO_INCREMENT=9"
	for _, pair := range []struct {
		before, now []Table
		want        Fate
	}{
		{[]Table{a}, []Table{a}, ""}, {[]Table{a}, []Table{counter}, ""}, {[]Table{a}, []Table{changed}, Written},
		{[]Table{a}, []Table{altered}, Altered}, {[]Table{a}, nil, Dropped}, {nil, []Table{a}, Created},
	} {
		got := CompareTables(pair.before, pair.now)
		if (pair.want == "") != (len(got) == 0) || (len(got) > 0 && got[0].Fate != pair.want) {
			t.Errorf("got %v, want %q", got, pair.want)
		}
	}
}

func TestAsideNames(t *testing.T) {
	taken := map[string]bool{}
	long := strings.Repeat("timetable_", 7)
	for _, want := range []string{"wetland_aside_run_3_boats", "wetland_aside_run_3_2_boats", "wetland_aside_run_3_3_boats"} {
		got := asideName("run-3", "boats", func(n string) bool { return taken[n] })
		if got != want {
			t.Errorf("got %s, want %s", got, want)
		}
		taken[got] = true
		if got = asideName("run-3", long, func(n string) bool { return taken[n] }); len(got) > longestName || taken[got] {
			t.Errorf("%s cannot be a name", got)
		}
		taken[got] = true
	}
}

func TestDigestKnowsNoOrder(t *testing.T) {
	rows := []Row{{IntegerValue(1)}, {Value{Type: Null}}, {Value{Type: Text, Data: []byte("x")}}, {Value{Type: Bytes, Data: []byte("x")}}}
	var forward, backward, fewer Digest
	for i := range rows {
		forward.Add(rows[i])
		backward.Add(rows[len(rows)-1-i])
		if i > 0 {
			fewer.Add(rows[i])
		}
	}
	if forward.String() != backward.String() || forward.String() == fewer.String() || forward.Rows() != 4 {
		t.Errorf("%s %s %s", forward.String(), backward.String(), fewer.String())
	}
}

func FuzzDecodeRows(f *testing.F) {
	f.Add(AppendRow(nil, Row{IntegerValue(-1), RealValue(0.1), {Type: Null}, {Type: Text, Data: []byte("x")}, {Type: Bytes}}), uint16(3))
	f.Add([]byte("t\xff\xff\xff\xff\x0f"), uint16(1))
	f.Fuzz(func(t *testing.T, data []byte, cut uint16) {
		read := func(stretches ...[]byte) (rows []Row, err error) {
			var decoder RowDecoder
			for _, stretch := range stretches {
				if err := decoder.Decode(stretch, func(row Row) error { rows = append(rows, row.Clone()); return nil }); err != nil {
					return rows, err
				}
			}
			return rows, decoder.End()
		}
		rows, err := read(data)
		at := min(int(cut), len(data))
		parts, partsErr := read(data[:at], data[at:])
		if len(parts) != len(rows) || (err == nil) != (partsErr == nil) {
			t.Fatalf("whole: %d rows, %v; cut at %d: %d rows, %v", len(rows), err, at, len(parts), partsErr)
		}
		var again []byte
		for _, row := range rows {
			again = AppendRow(again, row)
		}
		back, err := read(again)
		if err != nil || len(back) != len(rows) {
			t.Fatalf("%d rows became %d, %v", len(rows), len(back), err)
		}
		for i := range back {
			if !bytes.Equal(AppendRow(nil, back[i]), AppendRow(nil, rows[i])) {
				t.Errorf("%v became %v", rows[i], back[i])
			}
		}
	})
}

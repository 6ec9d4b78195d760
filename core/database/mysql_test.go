package database

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"wetland/internal/testenv"
)

func TestMain(m *testing.M) { os.Exit(testenv.Run(m)) }

// everything owns all tables but those that tests keep as another site's.
func everything(names []string) []string {
	return slices.DeleteFunc(slices.Clone(names), func(n string) bool { return strings.HasPrefix(n, "other_") })
}

func openTest(t *testing.T) (*testenv.Account, Database) {
	t.Helper()
	return reopen(t, testenv.Database(t))
}

func reopen(t *testing.T, account *testenv.Account) (*testenv.Account, Database) {
	t.Helper()
	login := Login{Engine: "mysql", Host: "127.0.0.1", Port: account.Port, Name: account.Name, User: account.User, Password: account.Password}
	db, err := Open(t.Context(), login, everything)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := db.Close(); err != nil {
			t.Error(err)
		}
	})
	return account, db
}

func (s saved) find(t *testing.T, name string) Replacement {
	t.Helper()
	for _, table := range s.tables {
		if table.Name == name {
			return Replacement{Table: table, Rows: s.rowsOf(name)}
		}
	}
	t.Fatalf("no table %s", name)
	return Replacement{}
}

// saved is a whole database in memory.
type saved struct {
	tables []Table
	rows   map[string][]Row
}

func (s saved) rowsOf(name string) Rows {
	return func(_ context.Context, each func(Row) error) error {
		for _, row := range s.rows[name] {
			if err := each(row); err != nil {
				return err
			}
		}
		return nil
	}
}

func save(t *testing.T, db Database) saved {
	t.Helper()
	moment, err := db.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	s := saved{rows: map[string][]Row{}}
	s.tables, err = Survey(t.Context(), moment, func(table Table, encoded []byte, _ uint64) error {
		var decoder RowDecoder
		return decoder.Decode(encoded, func(row Row) error {
			s.rows[table.Name] = append(s.rows[table.Name], row.Clone())
			return nil
		})
	})
	if err != nil {
		t.Fatal(err)
	}
	if err := moment.Close(); err != nil {
		t.Fatal(err)
	}
	return s
}

// restore brings the database back to s, as a whole restore does.
func (s saved) restore(t *testing.T, db Database) []string {
	t.Helper()
	now, err := Present(t.Context(), db)
	if err != nil {
		t.Fatal(err)
	}
	change := Change{Tag: "test-1"}
	for _, differ := range CompareTables(s.tables, now) {
		if differ.Fate == Created && differ.Now.Kind.Stays() {
			continue
		}
		if differ.Fate == Created {
			change.Aside = append(change.Aside, differ.Name)
		} else {
			change.Replace = append(change.Replace, s.find(t, differ.Name))
		}
	}
	applied, err := db.Apply(t.Context(), change)
	if err != nil {
		t.Fatal(err)
	}
	if err := applied.Finish(t.Context()); err != nil {
		t.Fatal(err)
	}
	return applied.Aside()
}

func equalNow(t *testing.T, db Database, want saved) {
	t.Helper()
	now, err := Present(t.Context(), db)
	if err != nil {
		t.Fatal(err)
	}
	for _, differ := range CompareTables(want.tables, now) {
		t.Errorf("%s: %s\nbefore %+v\nnow    %+v", differ.Name, differ.Fate, differ.Before, differ.Now)
	}
}

// difficult is a schema with what makes copies of databases go wrong.
const difficult = `
SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES';
CREATE TABLE kinds (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  tiny TINYINT, small SMALLINT UNSIGNED, medium MEDIUMINT, big BIGINT, money DECIMAL(20,6), f FLOAT, d DOUBLE,
  b1 BIT(1), b13 BIT(13), day DATE, at DATETIME(6), stamp TIMESTAMP(3) NULL, clock TIME(2), y YEAR,
  c CHAR(10), v VARCHAR(100) CHARACTER SET utf8mb4, l VARCHAR(100) CHARACTER SET latin1, bin BINARY(4), vb VARBINARY(20),
  t TEXT, blb LONGBLOB, e ENUM('one','zwölf','it''s') CHARACTER SET utf8mb4, s SET('a','b','c'), j JSON, g GEOMETRY,
  twice DOUBLE AS (d * 0.25) VIRTUAL, thrice DOUBLE AS (d * 0.5) STORED,
  KEY by_v (v(20)), UNIQUE KEY by_big (big)
) ENGINE=InnoDB COMMENT='it''s \\ "difficult" – änd';
INSERT INTO kinds (id, tiny, small, medium, big, money, f, d, b1, b13, day, at, stamp, clock, y, c, v, l, bin, vb, t, blb, e, s, j, g) VALUES
 (0, -128, 65535, -8388608, -9223372036854775808, -12345678901234.567891, 16777217, 0.1, b'1', b'1010101010101', '0000-00-00', '0000-00-00 00:00:00', '1970-01-01 00:00:01.001', '-838:59:59.00', 1901, 'x  ', 'Fähre ⛴ ''"\\ ', 'Fähre', x'00ff0100', x'', '', x'0001ff5c270a0d1a', 'zwölf', 'a,c', '{"a": [1, 2.50]}', ST_GeomFromText('POINT(1.5 -2.25)')),
 (1, 0, 0, 0, 0, 0, 1.1, 1e-308, b'0', b'0', '2026-02-31', '2026-11-23 10:11:12.123456', NULL, '00:00:00', 0, '', '', '', x'00000000', x'00', NULL, '', 'it''s', '', 'null', NULL),
 (2, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL),
 (7, 1, 1, 1, 9223372036854775807, 0.000001, 3.4028235e38, 1.7976931348623157e308, b'1', b'1', '9999-12-31', '9999-12-31 23:59:59.999999', '2038-01-19 03:14:07.999', '838:59:59', 2155, 'é', REPEAT('⛴', 100), 'ÿ', x'ffffffff', x'5c', 'a\nb\r\n\tc\0d', REPEAT(x'00', 3000), 'one', 'a,b,c', '[]', ST_GeomFromText('POLYGON((0 0,1 0,1 1,0 0))'));
ALTER TABLE kinds AUTO_INCREMENT = 4711;
CREATE TABLE no_key (a INT, b VARCHAR(10)) ENGINE=InnoDB;
INSERT INTO no_key VALUES (1, 'x'), (1, 'x'), (NULL, NULL), (2, '');
CREATE TABLE old_engine (a INT PRIMARY KEY, b TEXT) ENGINE=MyISAM;
INSERT INTO old_engine VALUES (1, 'one'), (2, NULL);
CREATE TABLE boats (id INT PRIMARY KEY, name VARCHAR(20)) ENGINE=InnoDB;
INSERT INTO boats VALUES (1, 'Wagtail'), (2, 'Dipper');
CREATE TABLE crossings (id INT AUTO_INCREMENT PRIMARY KEY, boat INT NOT NULL, before_that INT, people INT DEFAULT 0,
  CONSTRAINT crossing_boat FOREIGN KEY (boat) REFERENCES boats (id) ON DELETE CASCADE,
  CONSTRAINT crossing_before FOREIGN KEY (before_that) REFERENCES crossings (id)) ENGINE=InnoDB;
INSERT INTO crossings VALUES (1, 1, NULL, 4), (2, 2, 1, 7), (3, 1, 2, 0);
CREATE TABLE counted (boat INT PRIMARY KEY, people INT);
CREATE TRIGGER count_people AFTER INSERT ON crossings FOR EACH ROW INSERT INTO counted VALUES (NEW.boat, NEW.people) ON DUPLICATE KEY UPDATE people = counted.people + NEW.people;
CREATE VIEW a_view_of_views AS SELECT 1 AS nothing;
CREATE VIEW busy AS SELECT boat, SUM(people) AS people FROM crossings GROUP BY boat;
CREATE OR REPLACE VIEW a_view_of_views AS SELECT b.name, busy.people FROM busy JOIN boats b ON b.id = busy.boat;
CREATE TABLE ` + "`with ``quotes`` and 'more'`" + ` (` + "`a ``b`" + ` INT PRIMARY KEY);
INSERT INTO ` + "`with ``quotes`` and 'more'`" + ` VALUES (1);
CREATE TABLE other_site (a INT);
INSERT INTO other_site VALUES (1);
`

func TestMySQLRoundTrip(t *testing.T) {
	for _, stream := range []string{"1", "0"} {
		t.Run("streams of lines: "+stream, func(t *testing.T) { roundTrip(t, stream) })
	}
}

// roundTrip damages everything and brings it back, on a server that takes streams of
// lines or does not.
func roundTrip(t *testing.T, stream string) {
	account, db := openTest(t)
	takesStreams(t, account, stream)
	if _, err := account.Root.Exec(difficult); err != nil {
		t.Fatal(err)
	}
	before := save(t, db)
	shown := showAll(t, account)
	checks := checkAll(t, account)

	// Everything is changed, some of it dropped, something new made.
	damage := `SET FOREIGN_KEY_CHECKS = 0; UPDATE kinds SET v = 'changed', f = 2; DELETE FROM no_key LIMIT 1; DROP TABLE old_engine;
ALTER TABLE boats ADD COLUMN length INT; DELETE FROM crossings; DROP TRIGGER count_people; DROP VIEW busy;
CREATE TABLE extra (a INT PRIMARY KEY); INSERT INTO extra VALUES (42); UPDATE other_site SET a = 2;
ALTER TABLE kinds AUTO_INCREMENT = 5000; SET FOREIGN_KEY_CHECKS = 1; DROP TABLE ` + "`with ``quotes`` and 'more'`"
	if _, err := account.Root.Exec(damage); err != nil {
		t.Fatal(err)
	}
	aside := before.restore(t, db)
	equalNow(t, db, before)
	if len(aside) != 1 || aside[0] != "wetland_aside_test_1_extra" {
		t.Errorf("set aside: %v", aside)
	}
	if got := one(t, account, "SELECT a FROM wetland_aside_test_1_extra"); got != "42" {
		t.Errorf("what was set aside holds %q", got)
	}
	if got := one(t, account, "SELECT a FROM other_site"); got != "2" {
		t.Error("another site's table was touched")
	}
	// The server's own view agrees: checksums, statements, and that all works.
	for table, sum := range checkAll(t, account) {
		if checks[table] != sum {
			t.Errorf("CHECKSUM TABLE %s is %s, was %s", table, sum, checks[table])
		}
	}
	for table, create := range showAll(t, account) {
		if strings.HasPrefix(table, "wetland_") {
			continue
		}
		// The trigger and the views were root's; this user cannot give that back.
		if definerClause.ReplaceAllString(shown[table], "") != definerClause.ReplaceAllString(create, "") {
			t.Errorf("SHOW CREATE %s\n%s\nwas\n%s", table, create, shown[table])
		}
	}
	if got := one(t, account, "SELECT COUNT(*) FROM information_schema.tables WHERE table_schema = database() AND (table_name LIKE 'wetland\\_in\\_%' OR table_name LIKE 'wetland\\_out\\_%')"); got != "0" {
		t.Errorf("%s working tables are left", got)
	}
	if _, err := account.Root.Exec("INSERT INTO crossings (boat, people) VALUES (1, 3)"); err != nil {
		t.Errorf("the trigger: %v", err)
	}
	if got := one(t, account, "SELECT people FROM counted WHERE boat = 1"); got != "3" {
		t.Errorf("the trigger counted %q", got)
	}
	if _, err := account.Root.Exec("INSERT INTO crossings (boat) VALUES (99)"); err == nil {
		t.Error("the foreign key is gone")
	}
}

func one(t *testing.T, account *testenv.Account, query string) string {
	t.Helper()
	var value string
	if err := account.Root.QueryRow(query).Scan(&value); err != nil {
		t.Fatalf("%s: %v", query, err)
	}
	return value
}

func names(t *testing.T, account *testenv.Account) []string {
	t.Helper()
	rows, err := collectRows(t.Context(), account.Root, sent, "SELECT table_name FROM information_schema.tables WHERE table_schema = database() AND table_name NOT LIKE 'other%'")
	if err != nil {
		t.Fatal(err)
	}
	var found []string
	for _, row := range rows {
		found = append(found, row[0].String())
	}
	return found
}

func showAll(t *testing.T, account *testenv.Account) map[string]string {
	t.Helper()
	shown := map[string]string{}
	for _, name := range names(t, account) {
		rows, err := collectRows(t.Context(), account.Root, sent, "SHOW CREATE TABLE "+quoteMySQL(name))
		if err != nil {
			t.Fatal(err)
		}
		shown[name] = rows[0][1].String()
	}
	return shown
}

func checkAll(t *testing.T, account *testenv.Account) map[string]string {
	t.Helper()
	sums := map[string]string{}
	for _, name := range names(t, account) {
		rows, err := collectRows(t.Context(), account.Root, sent, "CHECKSUM TABLE "+quoteMySQL(name)+" EXTENDED")
		if err != nil {
			t.Fatal(err)
		}
		if !strings.HasPrefix(name, "wetland_") {
			sums[name] = rows[0][1].String()
		}
	}
	return sums
}

func TestMySQLPatchesAndCounters(t *testing.T) {
	account, db := openTest(t)
	_, err := account.Root.Exec(`CREATE TABLE options (name VARCHAR(50) PRIMARY KEY, value LONGTEXT);
INSERT INTO options VALUES ('theme', 'a'), ('version', '1'), ('gone', 'x');
CREATE TABLE orders (id INT AUTO_INCREMENT PRIMARY KEY, sum INT); INSERT INTO orders (sum) VALUES (1), (2)`)
	if err != nil {
		t.Fatal(err)
	}
	before := save(t, db)
	if _, err := account.Root.Exec(`UPDATE options SET value = '2' WHERE name = 'version'; DELETE FROM options WHERE name = 'gone'; INSERT INTO options VALUES ('new', 'y');
ALTER TABLE orders ADD COLUMN tax INT; INSERT INTO orders (sum) VALUES (3), (4), (5)`); err != nil {
		t.Fatal(err)
	}
	moment, err := db.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	table := before.find(t, "options").Table
	changes, err := CompareRows(t.Context(), table, before.rowsOf("options"), func(ctx context.Context, each func(Row) error) error {
		return moment.Rows(ctx, table, each)
	})
	if err != nil {
		t.Fatal(err)
	}
	if err := moment.Close(); err != nil {
		t.Fatal(err)
	}
	if len(changes.Added) != 1 || len(changes.Removed) != 1 || len(changes.Changed) != 1 || changes.Changed[0][0][1].String() != "1" {
		t.Fatalf("changes: %v", changes)
	}
	change := Change{
		Tag: "run-1", KeepCounters: true, Replace: []Replacement{before.find(t, "orders")},
		Patches: []Patch{{Table: table, Put: []Row{changes.Removed[0], changes.Changed[0][0]}, Remove: changes.Added}},
	}
	applied, err := db.Apply(t.Context(), change)
	if err != nil {
		t.Fatal(err)
	}
	if err := applied.Finish(t.Context()); err != nil {
		t.Fatal(err)
	}
	equalNow(t, db, before)
	if got := one(t, account, "SELECT auto_increment FROM information_schema.tables WHERE table_schema = database() AND table_name = 'orders'"); got != "6" {
		t.Errorf("the counter went down to %s: numbers that visitors saw would be given again", got)
	}
}

// takesStreams lets the server take streams of lines, or not.
func takesStreams(t *testing.T, account *testenv.Account, stream string) {
	t.Helper()
	set := func(to string) {
		if _, err := account.Root.Exec("SET GLOBAL local_infile = " + to); err != nil {
			t.Error(err)
		}
	}
	set(stream)
	t.Cleanup(func() { set("1") })
}

// What a site may keep beside its tables, and tables of other forms. Everything has
// settings of its own, and acts in the name of somebody who does not exist.
const beside = `
SET SESSION sql_mode = 'STRICT_ALL_TABLES,PIPES_AS_CONCAT', collation_connection = 'latin1_german1_ci', time_zone = '+02:00';
CREATE TABLE sailings (id INT, at DATE, boat VARCHAR(20), PRIMARY KEY (id, at), KEY (boat)) PARTITION BY RANGE (YEAR(at)) (PARTITION early VALUES LESS THAN (2020), PARTITION late VALUES LESS THAN MAXVALUE);
INSERT INTO sailings VALUES (1, '2019-05-01', 'Otter'), (2, '2026-05-01', 'Heron');
CREATE TABLE log (n INT AUTO_INCREMENT, word TEXT, FULLTEXT KEY words (word), KEY (n)) ENGINE=Aria;
INSERT INTO log (word) VALUES ('fog'), ('wind');
CREATE TABLE places (id INT PRIMARY KEY, at POINT NOT NULL, SPATIAL KEY (at), extra INT INVISIBLE DEFAULT 4, CHECK (id > 0)) ENGINE=InnoDB;
INSERT INTO places (id, at, extra) VALUES (1, ST_GeomFromText('POINT(1 2)'), 9);
CREATE SEQUENCE tickets START WITH 100 INCREMENT BY 5 CACHE 10 CYCLE MAXVALUE 200;
DO NEXTVAL(tickets); DO NEXTVAL(tickets);
CREATE DEFINER=nobody@nowhere PROCEDURE count_boats(IN least INT) COMMENT 'ä' SELECT COUNT(*) FROM sailings WHERE id >= least;
CREATE DEFINER=nobody@nowhere FUNCTION greet(who VARCHAR(20)) RETURNS VARCHAR(40) DETERMINISTIC RETURN 'Ahoi, ' || who;
CREATE DEFINER=nobody@nowhere EVENT nightly ON SCHEDULE EVERY 1 DAY STARTS '2026-12-01 03:00:00' DISABLE COMMENT 'fog' DO DELETE FROM log;
CREATE DEFINER=nobody@nowhere TRIGGER strict_one BEFORE INSERT ON log FOR EACH ROW SET NEW.word = NEW.word || '!';
CREATE DEFINER=nobody@nowhere SQL SECURITY INVOKER VIEW late_ones AS SELECT * FROM sailings WHERE at > '2020-01-01';
`

func TestMySQLPrograms(t *testing.T) {
	account := testenv.Database(t)
	if _, err := account.Root.Exec(beside); err != nil {
		t.Fatal(err)
	}
	login := Login{Engine: "mysql", Host: "127.0.0.1", Port: account.Port, Name: account.Name, User: "root"}
	db, err := Open(t.Context(), login, everything)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	before := save(t, db)
	kinds := map[Kind]int{}
	for _, table := range before.tables {
		kinds[table.Kind]++
	}
	if kinds[BaseTable] != 3 || kinds[Sequence] != 1 || kinds[Procedure] != 1 || kinds[Function] != 1 || kinds[Event] != 1 || kinds[View] != 1 {
		t.Fatalf("found: %v", kinds)
	}
	state := func() string {
		var all []string
		for _, query := range []string{
			"SELECT CONCAT_WS('|', routine_name, routine_definition, sql_mode, definer, collation_connection) FROM information_schema.routines WHERE routine_schema = database() AND routine_name <> 'extra' ORDER BY 1",
			"SELECT CONCAT_WS('|', event_name, event_definition, sql_mode, definer, time_zone, starts, status) FROM information_schema.events WHERE event_schema = database() AND event_name NOT LIKE 'wetland%'",
			"SELECT CONCAT_WS('|', trigger_name, action_statement, sql_mode, definer, collation_connection) FROM information_schema.triggers WHERE trigger_schema = database()",
			"SELECT CONCAT_WS('|', table_name, definer, security_type, view_definition) FROM information_schema.views WHERE table_schema = database()",
			"SELECT CONCAT_WS('|', next_not_cached_value, minimum_value, maximum_value, increment, cycle_option, cycle_count) FROM tickets",
			"SELECT GROUP_CONCAT(partition_name, partition_description) FROM information_schema.partitions WHERE table_schema = database() AND table_name = 'sailings'",
		} {
			rows, err := collectRows(t.Context(), account.Root, sent, query)
			if err != nil || len(rows) == 0 {
				t.Fatalf("%s: %d rows, %v", query, len(rows), err)
			}
			all = append(all, fmt.Sprint(rows))
		}
		return strings.Join(all, "\n")
	}
	was, sums, shown := state(), checkAll(t, account), showAll(t, account)
	if _, err := account.Root.Exec(`DROP PROCEDURE count_boats; DROP EVENT nightly; DROP FUNCTION greet; CREATE FUNCTION greet() RETURNS INT RETURN 1; DROP TRIGGER strict_one; DROP VIEW late_ones;
DO NEXTVAL(tickets); SELECT NEXTVAL(tickets) FROM seq_1_to_20; DELETE FROM sailings; ALTER TABLE sailings REMOVE PARTITIONING; DROP TABLE places; INSERT INTO log (word) VALUES ('x');
CREATE EVENT another ON SCHEDULE EVERY 1 YEAR DO DELETE FROM log; CREATE PROCEDURE extra() SELECT 1`); err != nil {
		t.Fatal(err)
	}
	before.restore(t, db)
	if now := state(); now != was {
		t.Errorf("now\n%s\nwas\n%s", now, was)
	}
	for name, sum := range checkAll(t, account) {
		if sums[name] != sum {
			t.Errorf("CHECKSUM TABLE %s is %s, was %s", name, sum, sums[name])
		}
	}
	for name, create := range showAll(t, account) {
		if shown[name] != create {
			t.Errorf("SHOW CREATE %s\n%s\nwas\n%s", name, create, shown[name])
		}
	}
	if got := one(t, account, "SELECT CONCAT(event_name, status) FROM information_schema.events WHERE event_schema = database() AND event_name LIKE 'wetland%'"); got != "wetland_aside_test_1_anotherDISABLED" {
		t.Errorf("the event that was set aside: %s", got)
	}
}

// A row of 64 MB goes and comes back; where the server does not take it, the error
// says what to change.
func TestMySQLLargeRow(t *testing.T) {
	account, db := openTest(t)
	if _, err := account.Root.Exec("CREATE TABLE large (id INT PRIMARY KEY, b LONGBLOB); INSERT INTO large VALUES (1, REPEAT(x'00ff27', 64*1024*1024/3)), (2, '')"); err != nil {
		t.Fatal(err)
	}
	sum := checkAll(t, account)["large"]
	before := save(t, db)
	for _, stream := range []string{"1", "0"} {
		takesStreams(t, account, stream)
		if _, err := account.Root.Exec("DELETE FROM large"); err != nil {
			t.Fatal(err)
		}
		before.restore(t, db)
		if got := checkAll(t, account)["large"]; got != sum {
			t.Errorf("CHECKSUM TABLE is %s, was %s", got, sum)
		}
	}
	// The rest of this test goes through a server that takes less.
	if _, err := account.Root.Exec("SET GLOBAL max_allowed_packet = 16777216"); err != nil {
		t.Fatal(err)
	}
	defer account.Root.Exec("SET GLOBAL max_allowed_packet = 268435456")
	_, fresh := reopen(t, account)
	_, err := fresh.Apply(t.Context(), Change{Tag: "t", Replace: []Replacement{before.find(t, "large")}})
	if err == nil || !strings.Contains(err.Error(), "max_allowed_packet") {
		t.Errorf("a row too large for the server: %v", err)
	}
}

// A change that was interrupted between the switch and its end is found, done
// again, and leaves nothing.
func TestMySQLInterruptedChange(t *testing.T) {
	account, db := openTest(t)
	if _, err := account.Root.Exec(difficult); err != nil {
		t.Fatal(err)
	}
	before := save(t, db)
	if _, err := account.Root.Exec("ALTER TABLE crossings ADD COLUMN weather TEXT; SET FOREIGN_KEY_CHECKS = 1"); err != nil {
		t.Fatal(err)
	}
	if _, err := db.Apply(t.Context(), Change{Tag: "t", Replace: []Replacement{before.find(t, "crossings")}}); err != nil {
		t.Fatal(err)
	}
	// Here the power failed: trigger and foreign keys are still the old table's.
	now, err := Present(t.Context(), db)
	if err != nil {
		t.Fatal(err)
	}
	if differ := CompareTables(before.tables, now); len(differ) == 0 {
		t.Error("the half-way state passes for the whole")
	}
	before.restore(t, db)
	equalNow(t, db, before)
	var names []string
	for _, table := range before.tables {
		names = append(names, table.Name)
	}
	if err := db.Sweep(t.Context(), names); err != nil {
		t.Fatal(err)
	}
	if got := one(t, account, "SELECT COUNT(*) FROM information_schema.tables WHERE table_schema = database() AND table_name LIKE 'wetland%'"); got != "0" {
		t.Errorf("%s working tables are left", got)
	}
}

func TestMySQLIsReadAtOneMoment(t *testing.T) {
	account, db := openTest(t)
	if _, err := account.Root.Exec("CREATE TABLE a (n INT PRIMARY KEY) ENGINE=InnoDB; CREATE TABLE z (n INT PRIMARY KEY) ENGINE=InnoDB; INSERT INTO a VALUES (1); INSERT INTO z VALUES (1)"); err != nil {
		t.Fatal(err)
	}
	moment, err := db.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := account.Root.Exec("INSERT INTO a VALUES (2); INSERT INTO z VALUES (2)"); err != nil {
		t.Fatal(err)
	}
	tables, err := Survey(t.Context(), moment, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, table := range tables {
		if table.Rows != 1 {
			t.Errorf("%s has %d rows: it was read at a later moment", table.Name, table.Rows)
		}
	}
	if err := moment.Close(); err != nil {
		t.Fatal(err)
	}
}

func TestMySQLReasons(t *testing.T) {
	account := testenv.Database(t)
	good := Login{Engine: "mysql", Host: "127.0.0.1", Port: account.Port, Name: account.Name, User: account.User, Password: account.Password}
	for _, bad := range []struct {
		name  string
		wrong func(*Login)
		want  error
	}{
		{"wrong password", func(l *Login) { l.Password = "high water" }, ErrDenied},
		{"unknown user", func(l *Login) { l.User = "nobody" }, ErrDenied},
		{"no right", func(l *Login) { l.Name = "mysql" }, ErrDenied},
		{"unreachable", func(l *Login) { l.Port = 1 }, ErrUnreachable},
		{"no socket", func(l *Login) { l.Socket = "/nowhere/s.sock" }, ErrUnreachable},
	} {
		t.Run(bad.name, func(t *testing.T) {
			login := good
			bad.wrong(&login)
			_, err := Open(t.Context(), login, everything)
			if !isError(err, bad.want) {
				t.Errorf("got %v, want %v", err, bad.want)
			}
			if err != nil && (strings.Contains(err.Error(), login.Password) || strings.Contains(fmt.Sprintf("%#v %+v %v", login, login, login), login.Password)) {
				t.Error("the password is printed")
			}
		})
	}
	socket := good
	socket.Host, socket.Port, socket.Socket = "", 0, account.Socket
	db, err := Open(t.Context(), socket, everything)
	if err != nil {
		t.Fatal(err)
	}
	if err := db.Close(); err != nil {
		t.Error(err)
	}
}

package database

import (
	"context"
	"errors"
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

func openTest(t *testing.T, server *testenv.Server) (*testenv.Account, Database) {
	t.Helper()
	return reopen(t, server.Database(t))
}

func reopen(t *testing.T, account *testenv.Account) (*testenv.Account, Database) {
	t.Helper()
	login := Login{Engine: "mysql", Host: "127.0.0.1", Port: account.Port, Name: account.Name, User: account.User,
		Password: account.Password}
	db, err := (Engines{}).Open(t.Context(), login, everything)
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

func TestMySQLRoundTrip(t *testing.T) {
	testenv.OnEach(t, func(t *testing.T, server *testenv.Server) {
		for _, stream := range []string{"1", "0"} {
			t.Run("streams of lines: "+stream, func(t *testing.T) { roundTrip(t, server, stream) })
		}
	})
}

// roundTrip damages everything and brings it back, on a server that takes streams of
// lines or does not.
func roundTrip(t *testing.T, server *testenv.Server, stream string) {
	account, db := openTest(t, server)
	takesStreams(t, account, stream)
	account.Run(t, difficultOn(server.Kind))
	before := save(t, db)
	shown := showAll(t, account)
	checks := checkAll(t, account)
	past := pastOf(t, account)

	// Everything is changed, some of it dropped, something new made.
	damage := `SET FOREIGN_KEY_CHECKS = 0; UPDATE kinds SET v = 'changed', f = 2; DELETE FROM no_key LIMIT 1; DROP TABLE old_engine;
ALTER TABLE boats ADD COLUMN length INT; DELETE FROM crossings; DROP TRIGGER count_people; DROP VIEW busy;
CREATE TABLE extra (a INT PRIMARY KEY); INSERT INTO extra VALUES (42); UPDATE other_site SET a = 2;
ALTER TABLE kinds AUTO_INCREMENT = 5000; SET FOREIGN_KEY_CHECKS = 1; DROP TABLE ` + "`with ``quotes`` and 'more'`"
	account.Run(t, damage)
	for n, table := range before.tables {
		change := "DELETE FROM "
		if table.Kind != BaseTable || table.Name == "crossings" || strings.Contains(damage, quoteMySQL(table.Name)) ||
			table.Name == "old_engine" {
			continue
		}
		if table.History {
			change = "DELETE HISTORY FROM " + quoteMySQL(table.Name) + "; DELETE FROM "
		} else if n%2 == 0 {
			change = "ALTER TABLE " + quoteMySQL(table.Name) + " ADD COLUMN added_by_an_update INT; DELETE FROM "
		}
		account.Run(t, change+quoteMySQL(table.Name))
	}
	aside := before.restore(t, db)
	equalNow(t, db, before)
	if server.Kind.IsMySQL() {
		if got := one(t, account, "SELECT CONCAT_WS(' ', JSON_TYPE(j->'$.price'), JSON_TYPE(j->'$.long'),"+
			" JSON_TYPE(j->'$.fine'), JSON_TYPE(j->'$.nested[0].deep')) FROM documents WHERE id = 1"); got != "DECIMAL DECIMAL DECIMAL DECIMAL" {
			t.Errorf("numbers in JSON became %s", got)
		}
		if got := one(t, account, "SELECT COUNT(*) FROM information_schema.column_statistics WHERE schema_name = database()"); got != "1" {
			t.Errorf("%s histograms", got)
		}
	}
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
	if now := pastOf(t, account); now != past {
		t.Errorf("rows of the past: %s\nwere %s", now, past)
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
	if got := one(t, account, "SELECT COUNT(*) FROM information_schema.tables WHERE table_schema = database() AND"+
		" (table_name LIKE 'wetland\\_in\\_%' OR table_name LIKE 'wetland\\_out\\_%')"); got != "0" {
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

// pastOf is what the server tells of the rows of the past; on MySQL there are none.
func pastOf(t *testing.T, account *testenv.Account) string {
	t.Helper()
	if account.Kind.IsMySQL() {
		return ""
	}
	return one(t, account, "SELECT GROUP_CONCAT(CONCAT_WS(' ', id, fare, note, row_start, row_end) ORDER BY id, row_end"+
		" SEPARATOR '\n') FROM fares FOR SYSTEM_TIME ALL") +
		one(t, account, "SELECT GROUP_CONCAT(CONCAT_WS(' ', n, boat, twice, since, `un``til`) ORDER BY n, since SEPARATOR"+
			" '\n') FROM berths FOR SYSTEM_TIME ALL")
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
	rows, err := collectRows(t.Context(), account.Root, sent, "SELECT table_name FROM information_schema.tables WHERE"+
		" table_schema = database() AND table_name NOT LIKE 'other%'")
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
		if strings.HasPrefix(name, "wetland_") || name == "documents" {
			continue // MySQL's sum of a table with a multi-valued index is another one each time
		}
		rows, err := collectRows(t.Context(), account.Root, sent, "CHECKSUM TABLE "+quoteMySQL(name)+" EXTENDED")
		if err != nil {
			t.Fatal(err)
		}
		sums[name] = rows[0][1].String()
	}
	return sums
}

func TestMySQLPatchesAndCounters(t *testing.T) {
	testenv.OnEach(t, func(t *testing.T, server *testenv.Server) {
		account, db := openTest(t, server)
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
		changes, err := CompareRows(t.Context(), RowComparison{Dir: t.TempDir(), Table: table,
			Before: before.rowsOf("options"), Now: func(ctx context.Context, each func(Row) error) error {
				return moment.Rows(ctx, table, each)
			}})
		if err != nil {
			t.Fatal(err)
		}
		if err := moment.Close(); err != nil {
			t.Fatal(err)
		}
		if changes.Added != 1 || changes.Removed != 1 || changes.Changed != 1 {
			t.Fatalf("changes: %+v", changes)
		}
		only := func(added bool) Rows {
			return func(ctx context.Context, each func(Row) error) error {
				return changes.Each(ctx, func(change RowChange) error {
					switch {
					case (change.Before == nil) != added:
						return nil
					case added:
						return each(change.Now)
					}
					return each(change.Before)
				})
			}
		}
		change := Change{
			Tag: "run-1", KeepCounters: true, Replace: []Replacement{before.find(t, "orders")},
			Patches: []Patch{{Table: table, Put: only(false), Remove: only(true)}},
		}
		applied, err := db.Apply(t.Context(), change)
		if err != nil {
			t.Fatal(err)
		}
		if err := applied.Finish(t.Context()); err != nil {
			t.Fatal(err)
		}
		equalNow(t, db, before)
		if got := one(t, account, "SELECT auto_increment FROM information_schema.tables WHERE table_schema = database()"+
			" AND table_name = 'orders'"); got != "6" {
			t.Errorf("the counter went down to %s: numbers that visitors saw would be given again", got)
		}
	})
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

func TestMySQLPrograms(t *testing.T) {
	testenv.OnEach(t, func(t *testing.T, server *testenv.Server) {
		account := server.Database(t)
		account.Run(t, besideOn(server.Kind))
		login := Login{Engine: "mysql", Host: "127.0.0.1", Port: account.Port, Name: account.Name, User: "root"}
		db, err := (Engines{}).Open(t.Context(), login, everything)
		if err != nil {
			t.Fatal(err)
		}
		defer db.Close()
		before := save(t, db)
		kinds := map[Kind]int{}
		for _, table := range before.tables {
			kinds[table.Kind]++
		}
		sequences := map[bool]int{false: 1}[server.Kind.IsMySQL()] // which has none
		if kinds[BaseTable] != 3 || kinds[Sequence] != sequences || kinds[Procedure] != 1 || kinds[Function] != 1 ||
			kinds[Event] != 1 || kinds[View] != 1 {
			t.Fatalf("found: %v", kinds)
		}
		state := func() string {
			var all []string
			queries := []string{
				"SELECT CONCAT_WS('|', routine_name, routine_definition, sql_mode, definer, collation_connection) FROM" +
					" information_schema.routines WHERE routine_schema = database() AND routine_name <> 'extra' ORDER BY 1",
				"SELECT CONCAT_WS('|', event_name, event_definition, sql_mode, definer, time_zone, starts, status) FROM" +
					" information_schema.events WHERE event_schema = database() AND event_name NOT LIKE 'wetland%'",
				"SELECT CONCAT_WS('|', trigger_name, action_statement, sql_mode, definer, collation_connection) FROM" +
					" information_schema.triggers WHERE trigger_schema = database()",
				"SELECT CONCAT_WS('|', table_name, definer, security_type, view_definition) FROM information_schema.views WHERE" +
					" table_schema = database()",
				"SELECT GROUP_CONCAT(partition_name, partition_description ORDER BY 1) FROM information_schema.partitions WHERE" +
					" table_schema = database() AND table_name = 'sailings'",
			}
			if !server.Kind.IsMySQL() {
				queries = append(queries, "SELECT CONCAT_WS('|', next_not_cached_value, minimum_value, maximum_value, increment,"+
					" cycle_option, cycle_count) FROM tickets")
			}
			for _, query := range queries {
				rows, err := collectRows(t.Context(), account.Root, sent, query)
				if err != nil || len(rows) == 0 {
					t.Fatalf("%s: %d rows, %v", query, len(rows), err)
				}
				// MySQL keeps the end of a line that came with others.
				all = append(all, strings.NewReplacer(";|", "|", ";]", "]").Replace(fmt.Sprint(rows)))
			}
			return strings.Join(all, "\n")
		}
		was, sums, shown := state(), checkAll(t, account), showAll(t, account)
		damage := `DROP PROCEDURE count_boats; DROP EVENT nightly; DROP FUNCTION greet; CREATE FUNCTION greet() RETURNS INT RETURN 1; DROP TRIGGER strict_one; DROP VIEW late_ones;
	DO NEXTVAL(tickets); SELECT NEXTVAL(tickets) FROM seq_1_to_20; DELETE FROM sailings; ALTER TABLE sailings REMOVE PARTITIONING; DROP TABLE places; INSERT INTO log (word) VALUES ('x');
	CREATE EVENT another ON SCHEDULE EVERY 1 YEAR DO DELETE FROM log; CREATE PROCEDURE extra() SELECT 1`
		if server.Kind.IsMySQL() {
			damage = strings.Replace(damage, "DO NEXTVAL(tickets); SELECT NEXTVAL(tickets) FROM seq_1_to_20;", "", 1)
		}
		account.Run(t, damage)
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
		if got := one(t, account, "SELECT CONCAT(event_name, status) FROM information_schema.events WHERE event_schema ="+
			" database() AND event_name LIKE 'wetland%'"); got != "wetland_aside_test_1_anotherDISABLED" {
			t.Errorf("the event that was set aside: %s", got)
		}
	})
}

// A row of 64 MB goes and comes back; where the server does not take it, the error
// says what to change.
func TestMySQLLargeRow(t *testing.T) {
	testenv.OnEach(t, func(t *testing.T, server *testenv.Server) {
		account, db := openTest(t, server)
		account.Run(t, "CREATE TABLE large (id INT PRIMARY KEY, b LONGBLOB); INSERT INTO large VALUES (1,"+
			" REPEAT(x'00ff27', 64*1024*1024/3)), (2, '')")
		sum := checkAll(t, account)["large"]
		before := save(t, db)
		for _, stream := range []string{"1", "0"} {
			takesStreams(t, account, stream)
			account.Run(t, "DELETE FROM large")
			before.restore(t, db)
			if got := checkAll(t, account)["large"]; got != sum {
				t.Errorf("CHECKSUM TABLE is %s, was %s", got, sum)
			}
		}
		// The rest of this test goes through a server that takes less.
		account.Run(t, "SET GLOBAL max_allowed_packet = 16777216")
		defer account.Root.Exec("SET GLOBAL max_allowed_packet = 268435456")
		_, fresh := reopen(t, account)
		_, err := fresh.Apply(t.Context(), Change{Tag: "t", Replace: []Replacement{before.find(t, "large")}})
		if err == nil || !strings.Contains(err.Error(), "max_allowed_packet") {
			t.Errorf("a row too large for the server: %v", err)
		}
	})
}

// A change that was interrupted between the switch and its end is found, done
// again, and leaves nothing.
func TestMySQLInterruptedChange(t *testing.T) {
	testenv.OnEach(t, func(t *testing.T, server *testenv.Server) {
		account, db := openTest(t, server)
		account.Run(t, difficultOn(server.Kind))
		before := save(t, db)
		account.Run(t, "ALTER TABLE crossings ADD COLUMN weather TEXT; SET FOREIGN_KEY_CHECKS = 1")
		if _, err := db.Apply(t.Context(), Change{Tag: "t",
			Replace: []Replacement{before.find(t, "crossings")}}); err != nil {
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
		if got := one(t, account, "SELECT COUNT(*) FROM information_schema.tables WHERE table_schema = database() AND"+
			" table_name LIKE 'wetland%'"); got != "0" {
			t.Errorf("%s working tables are left", got)
		}
	})
}

// What a snapshot cannot hold is told, and nothing else is.
func TestMySQLTellsWhatIsLeftOut(t *testing.T) {
	testenv.OnEach(t, func(t *testing.T, server *testenv.Server) {
		account, db := openTest(t, server)
		weaker := func(db Database) string {
			moment, err := db.Read(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			defer moment.Close()
			return strings.Join(moment.Weaker(), "\n")
		}
		if told := weaker(db); told != "" {
			t.Errorf("with all rights: %s", told)
		}
		login := Login{Engine: "mysql", Host: "127.0.0.1", Port: account.Port, Name: account.Name, User: account.User +
			"_some", Password: "Some rights 1"}
		user, on := "'"+login.User+"'@'%'", " ON `"+strings.ReplaceAll(account.Name, "_", "\\_")+"`.* TO "
		role := login.User + "_role"
		account.Run(t, "CREATE USER "+user+" IDENTIFIED BY '"+login.Password+"'", "GRANT SELECT, SHOW VIEW, EVENT"+on+user,
			"CREATE ROLE "+role, "GRANT TRIGGER"+on+role, "GRANT "+role+" TO "+user)
		some, err := (Engines{}).Open(t.Context(), login, everything)
		if err != nil {
			t.Fatal(err)
		}
		defer some.Close()
		if told := weaker(some); !strings.Contains(told, "may not see triggers") ||
			strings.Contains(told, "may not see events") {
			t.Errorf("without TRIGGER: %s", told)
		}
		if server.Kind.IsMySQL() {
			account.Run(t, "SET DEFAULT ROLE ALL TO "+user)
		} else {
			account.Run(t, "SET DEFAULT ROLE "+role+" FOR "+user,
				"CREATE TABLE by_number (a INT, since BIGINT UNSIGNED GENERATED ALWAYS AS ROW START, til BIGINT UNSIGNED"+
					" GENERATED ALWAYS AS ROW END, PERIOD FOR SYSTEM_TIME (since, til)) WITH SYSTEM VERSIONING")
			if told := weaker(db); !strings.Contains(told, "by_number keeps rows of the past and is not in the snapshot") {
				t.Errorf("a table whose past is counted by transactions: %s", told)
			}
		}
		again, err := (Engines{}).Open(t.Context(), login, everything)
		if err != nil {
			t.Fatal(err)
		}
		defer again.Close()
		if told := weaker(again); strings.Contains(told, "may not see") {
			t.Errorf("with a role: %s", told)
		}
	})
}

func TestMySQLIsReadAtOneMoment(t *testing.T) {
	testenv.OnEach(t, func(t *testing.T, server *testenv.Server) {
		account, db := openTest(t, server)
		account.Run(t, "CREATE TABLE a (n INT PRIMARY KEY) ENGINE=InnoDB; CREATE TABLE z (n INT PRIMARY KEY)"+
			" ENGINE=InnoDB; INSERT INTO a VALUES (1); INSERT INTO z VALUES (1)")
		moment, err := db.Read(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		account.Run(t, "INSERT INTO a VALUES (2); INSERT INTO z VALUES (2)")
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
	})
}

func TestMySQLReasons(t *testing.T) {
	testenv.OnEach(t, func(t *testing.T, server *testenv.Server) {
		account := server.Database(t)
		good := Login{Engine: "mysql", Host: "127.0.0.1", Port: account.Port, Name: account.Name, User: account.User,
			Password: account.Password}
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
				_, err := (Engines{}).Open(t.Context(), login, everything)
				if !isError(err, bad.want) {
					t.Errorf("got %v, want %v", err, bad.want)
				}
				if err != nil && (strings.Contains(err.Error(), login.Password) ||
					strings.Contains(fmt.Sprintf("%#v %+v %v", login, login, login), login.Password)) {
					t.Error("the password is printed")
				}
			})
		}
		socket := good
		socket.Host, socket.Port, socket.Socket = "", 0, account.Socket
		db, err := (Engines{}).Open(t.Context(), socket, everything)
		if err != nil {
			t.Fatal(err)
		}
		if err := db.Close(); err != nil {
			t.Error(err)
		}
	})
}

// What this user may not make in another's name comes back in its own, and is told; an event
// does not run then.
func TestMySQLDefinersAreTold(t *testing.T) {
	testenv.OnEach(t, func(t *testing.T, server *testenv.Server) {
		account, db := openTest(t, server)
		if _, err := account.Root.Exec(`CREATE TABLE boats (id INT PRIMARY KEY); CREATE VIEW fleet AS SELECT id FROM boats; CREATE TRIGGER launched BEFORE INSERT ON boats FOR EACH ROW SET NEW.id = NEW.id + 1;
CREATE EVENT nightly ON SCHEDULE EVERY 1 DAY COMMENT 'ENABLE' DO DELETE FROM boats; CREATE EVENT never ON SCHEDULE EVERY 1 DAY DISABLE DO DELETE FROM boats`); err != nil {
			t.Fatal(err)
		}
		before := save(t, db)
		account.Run(t, "DROP VIEW fleet; DROP TRIGGER launched; DROP EVENT nightly; DROP EVENT never")
		change := Change{Tag: "t"}
		for _, table := range before.tables {
			change.Replace = append(change.Replace, before.find(t, table.Name))
		}
		applied, err := db.Apply(t.Context(), change)
		if err != nil {
			t.Fatal(err)
		}
		if err := applied.Finish(t.Context()); err != nil {
			t.Fatal(err)
		}
		var told []string
		for _, one := range applied.NewDefiners() {
			told = append(told, fmt.Sprintf("%s %s>%s %v", one.Of, one.Was, strings.TrimRight(one.Now, "0123456789%"),
				one.Disabled))
			if !strings.Contains(one.String(), one.Of+" acts in the name of ") ||
				strings.Contains(one.String(), "disabled") != one.Disabled {
				t.Errorf("in words: %s", one)
			}
		}
		slices.Sort(told)
		for i := range told {
			told[i], _, _ = strings.Cut(told[i], ">")
		}
		want := []string{"the event never root@localhost", "the event nightly root@localhost", "the trigger launched of" +
			" the table boats root@localhost", "the view fleet root@localhost"}
		if !slices.Equal(told, want) {
			t.Errorf("told %q, want %q", told, want)
		}
		now, err := Present(t.Context(), db)
		if err != nil {
			t.Fatal(err)
		}
		for _, differ := range CompareTables(before.tables, now) {
			if differ.Name != "event nightly" || differ.Fate != Written {
				t.Errorf("%s: %s", differ.Name, differ.Fate)
			}
		}
		if got := one(t, account, "SELECT GROUP_CONCAT(status) FROM information_schema.events WHERE event_schema = database()"); got != "DISABLED,DISABLED" {
			t.Errorf("the events are %s", got)
		}
	})
}

// Whichever table cannot be loaded, nothing of ours stays, and what is live is as it was.
func TestMySQLLoadThatFailsLeavesNothing(t *testing.T) {
	testenv.OnEach(t, func(t *testing.T, server *testenv.Server) {
		account, db := openTest(t, server)
		account.Run(t, "CREATE TABLE a (id INT PRIMARY KEY); CREATE TABLE b (id INT PRIMARY KEY); CREATE TABLE c (id INT"+
			" PRIMARY KEY); INSERT INTO a VALUES (1); INSERT INTO b VALUES (1); INSERT INTO c VALUES (1)")
		before := save(t, db)
		account.Run(t, "DELETE FROM a; DELETE FROM b; DELETE FROM c")
		broken := errors.New("the store cannot be read")
		for _, fails := range []string{"a", "b", "c"} {
			change := Change{Tag: "t"}
			for _, table := range before.tables {
				r := before.find(t, table.Name)
				if table.Name == fails {
					r.Rows = func(context.Context, func(Row) error) error { return broken }
				}
				change.Replace = append(change.Replace, r)
			}
			if _, err := db.Apply(t.Context(), change); !errors.Is(err, broken) {
				t.Errorf("%s: %v", fails, err)
			}
			if got := one(t, account, "SELECT GROUP_CONCAT(table_name ORDER BY 1) FROM information_schema.tables WHERE"+
				" table_schema = database()"); got != "a,b,c" {
				t.Errorf("%s: the tables are %s", fails, got)
			}
		}
		if got := one(t, account, "SELECT COUNT(*) FROM a"); got != "0" {
			t.Errorf("the live table was changed: %s rows", got)
		}
	})
}

// A database for one use goes with whoever made it, or is dropped by the next one who looks;
// not while somebody works with it.
func TestMySQLScratch(t *testing.T) {
	testenv.OnEach(t, func(t *testing.T, server *testenv.Server) {
		login := Login{Engine: "mysql", Socket: server.Socket, User: "root"}
		count := func() string {
			return one(t, server.Database(t), "SELECT COUNT(*) FROM information_schema.schemata WHERE schema_name LIKE"+
				" 'wetland\\_scratch\\_%'")
		}
		db, drop, err := (Engines{}).Scratch(t.Context(), login)
		if err != nil {
			t.Fatal(err)
		}
		if err := (Engines{}).SweepScratch(t.Context(), login); err != nil || count() != "1" {
			t.Errorf("while it is in use: %v, %s are left", err, count())
		}
		if err := errors.Join(db.Close(), drop()); err != nil || count() != "0" {
			t.Errorf("%v, %s are left", err, count())
		}
		left := server.Database(t)
		if _, err := left.Root.Exec("CREATE DATABASE wetland_scratch_left; CREATE TABLE wetland_scratch_left.x (a INT)"); err != nil {
			t.Fatal(err)
		}
		if err := (Engines{}).SweepScratch(t.Context(), login); err != nil || count() != "0" {
			t.Errorf("what was left: %v, %s are left", err, count())
		}
		if _, _, err := (Engines{}).Scratch(t.Context(), Login{Engine: "mysql", Host: "127.0.0.1", Port: server.Port,
			User: left.User, Password: left.Password}); err == nil ||
			!strings.Contains(err.Error(), "a user who may make databases") {
			t.Errorf("a user who may not: %v", err)
		}
	})
}

// A server that has no room left: nothing changes, nothing stays, and the error says it.
func TestMySQLIsFull(t *testing.T) {
	testenv.OnEach(t, func(t *testing.T, server *testenv.Server) {
		account, db := openTest(t, server)
		account.Run(t, "CREATE TABLE words (id INT PRIMARY KEY, word CHAR(200)) ENGINE=MEMORY; INSERT INTO words WITH"+
			" RECURSIVE n AS (SELECT 1 AS i UNION ALL SELECT i + 1 FROM n WHERE i < 900) SELECT i, 'fog' FROM n")
		before := save(t, db)
		account.Run(t, "DELETE FROM words WHERE id > 1; SET GLOBAL max_heap_table_size = 16384")
		defer account.Root.Exec("SET GLOBAL max_heap_table_size = 16777216")
		_, fresh := reopen(t, account)
		_, err := fresh.Apply(t.Context(), Change{Tag: "t", Replace: []Replacement{before.find(t, "words")}})
		if err == nil || !strings.Contains(err.Error(), "has no room left") {
			t.Errorf("%v", err)
		}
		if got := one(t, account, "SELECT CONCAT((SELECT COUNT(*) FROM words), ' ', (SELECT COUNT(*) FROM"+
			" information_schema.tables WHERE table_schema = database()))"); got != "1 1" {
			t.Errorf("rows and tables: %s", got)
		}
	})
}

// Settings of MySQL under which tables come to be otherwise than their statements say. Who may
// change them for a session gets the tables exactly; who may not is told, and the live tables
// stay as they are.
func TestMySQLOddSettings(t *testing.T) {
	server := testenv.Start(t, testenv.MySQL)
	account, db := openTest(t, server)
	account.Run(t, "CREATE TABLE keyless (a INT, at TIMESTAMP NOT NULL); INSERT INTO keyless VALUES (1, '2026-01-01');"+
		" CREATE TABLE keyed (id INT PRIMARY KEY, at TIMESTAMP NOT NULL, later TIMESTAMP NULL); INSERT INTO keyed VALUES"+
		" (1, '2026-01-01', NULL)")
	before := save(t, db)
	for _, setting := range []string{"sql_generate_invisible_primary_key = 1", "sql_require_primary_key = 1",
		"explicit_defaults_for_timestamp = 0"} {
		name, _, _ := strings.Cut(setting, " ")
		was := one(t, account, "SELECT @@GLOBAL."+name)
		account.Run(t, "SET GLOBAL "+setting)
		for _, who := range []Login{
			{Engine: "mysql", Socket: server.Socket, Name: account.Name, User: "root"},
			{Engine: "mysql", Host: "127.0.0.1", Port: server.Port, Name: account.Name, User: account.User,
				Password: account.Password},
		} {
			account.Run(t, "DELETE FROM keyless; DELETE FROM keyed")
			as, err := (Engines{}).Open(t.Context(), who, everything)
			if err != nil {
				t.Fatal(err)
			}
			damaged := save(t, as)
			applied, err := as.Apply(t.Context(), Change{Tag: "t", Replace: []Replacement{before.find(t, "keyed"),
				before.find(t, "keyless")}})
			switch {
			case err == nil:
				if err := applied.Finish(t.Context()); err != nil {
					t.Errorf("%s, %s: %v", setting, who.User, err)
				}
				equalNow(t, as, before)
			case who.User == "root" || !(strings.Contains(err.Error(), "sql_require_primary_key to 0") ||
				strings.Contains(err.Error(), "another structure")):
				t.Errorf("%s, %s: %v", setting, who.User, err)
			default:
				equalNow(t, as, damaged)
			}
			if err := as.Close(); err != nil {
				t.Error(err)
			}
		}
		account.Run(t, "SET GLOBAL "+name+" = "+was)
	}
}

// What a server still carries out for a process that is gone is waited for, before anything is looked
// at or changed.
func TestEarlierChangeIsWaitedFor(t *testing.T) {
	testenv.OnEach(t, func(t *testing.T, server *testenv.Server) {
		account, db := openTest(t, server)
		account.Run(t, "CREATE TABLE boats (id INT PRIMARY KEY); INSERT INTO boats VALUES (1), (2)")
		before := save(t, db)
		ghost, err := account.Root.Conn(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		defer ghost.Close()
		for name, change := range map[string]func() error{
			"a change": func() error {
				applied, err := db.Apply(t.Context(), Change{Tag: "t", Replace: []Replacement{before.find(t, "boats")}})
				if err == nil {
					err = applied.Finish(t.Context())
				}
				return err
			},
			"a sweep": func() error { return db.Sweep(t.Context(), nil) },
		} {
			lock := ours + "change_" + shortHash(account.Name)
			if _, err := ghost.ExecContext(t.Context(), "DO GET_LOCK(?, 0)", lock); err != nil {
				t.Fatal(err)
			}
			done := make(chan error, 1)
			go func() { done <- change() }()
			waits := testenv.Until(func() error {
				if n := one(t, account, "SELECT COUNT(*) FROM information_schema.processlist WHERE info LIKE 'SELECT GET_LOCK(%'"+
					" AND id <> connection_id()"); n == "0" {
					return errors.New("nobody waits")
				}
				return nil
			})
			select {
			case err := <-done:
				t.Errorf("%s does not wait: %v", name, err)
			default:
			}
			if _, err := ghost.ExecContext(t.Context(), "DO RELEASE_LOCK(?)", lock); err != nil || waits != nil {
				t.Fatal(err, waits)
			}
			if err := <-done; err != nil {
				t.Errorf("%s: %v", name, err)
			}
		}
	})
}

package database

import (
	"context"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"wetland/internal/testenv"
)

const plainCreate = "CREATE TABLE `boats` (\n  `id` int(11) NOT NULL,\n  `name` varchar(20) DEFAULT 'it\\'s; (',\n  PRIMARY KEY (`id`)\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COMMENT='select'"

const noMode = "SET SESSION sql_mode = '', collation_connection = 'utf8mb4_general_ci'"

// What Wetland itself writes is accepted as the engines' own suites show; here is what it never
// writes.
func TestForeignStatementsOfMySQL(t *testing.T) {
	boats := func(create string, after ...string) Table {
		return Table{Name: "boats", Kind: BaseTable, Create: create, After: after}
	}
	trigger := func(text string) Table { return boats(plainCreate, noMode, text) }
	of := func(kind Kind, name, settings, create string) Table {
		return Table{Name: name, Kind: kind, Settings: settings, Create: create}
	}
	for name, c := range map[string]struct {
		table Table
		fine  bool
		apart bool // fine for the site itself, not for a copy
	}{
		"a table":                         {table: boats(plainCreate), fine: true},
		"another kind":                    {table: boats("DROP TABLE `boats`")},
		"another table":                   {table: boats(strings.Replace(plainCreate, "boats", "other", 1))},
		"of another database":             {table: boats(strings.Replace(plainCreate, "`boats`", "`live`.`boats`", 1))},
		"of its own database":             {table: boats(strings.Replace(plainCreate, "`boats`", "`ferry`.`boats`", 1)), fine: true},
		"filled from another":             {table: boats(plainCreate + " AS SELECT * FROM live.users")},
		"filled from another, hidden":     {table: boats(plainCreate + " /*!50000 SELECT * FROM live.users */")},
		"like another":                    {table: boats("CREATE TABLE `boats` (LIKE live.users)")},
		"two statements":                  {table: boats(plainCreate + "; DROP TABLE live.users")},
		"a comment that ends differently": {table: boats(plainCreate + " /*!99999 ' */ AS SELECT 1 /*!99999 ' */")},
		"an open quote":                   {table: boats(plainCreate + " COMMENT='")},
		"parts of a table":                {table: boats(plainCreate + "\n/*!50100 PARTITION BY RANGE (id)\n(PARTITION p0 VALUES LESS THAN (3) ENGINE = InnoDB) */"), fine: true},
		"rows in another place":           {table: boats(plainCreate + " DATA DIRECTORY='/srv/disk2/'"), fine: true, apart: true},
		"rows in another database":        {table: boats(strings.Replace(plainCreate, "InnoDB", "FEDERATED CONNECTION='mysql://live/users'", 1)), fine: true, apart: true},
		"rows of other tables":            {table: boats(strings.Replace(plainCreate, "InnoDB", "MRG_MyISAM UNION=(`live`.`users`)", 1)), fine: true, apart: true},

		"a foreign key":                         {table: boats(plainCreate, "ALTER TABLE `boats` ADD CONSTRAINT `k` FOREIGN KEY (`id`) REFERENCES `piers` (`id`) ON DELETE CASCADE"), fine: true},
		"a foreign key to another database":     {table: boats(plainCreate, "ALTER TABLE `boats` ADD CONSTRAINT `k` FOREIGN KEY (`id`) REFERENCES `live`.`piers` (`id`)"), fine: true, apart: true},
		"a foreign key and more":                {table: boats(plainCreate, "ALTER TABLE `boats` ADD CONSTRAINT `k` FOREIGN KEY (`id`) REFERENCES `piers` (`id`), RENAME TO `live`.`users`")},
		"a foreign key of another table":        {table: boats(plainCreate, "ALTER TABLE `live`.`users` ADD CONSTRAINT `k` CHECK (0)")},
		"rows after":                            {table: boats(plainCreate, "DELETE FROM live.users")},
		"another alteration":                    {table: boats(plainCreate, "ALTER TABLE `boats` DROP COLUMN `name`")},
		"a histogram":                           {table: boats(plainCreate, "ANALYZE TABLE `boats` UPDATE HISTOGRAM ON `id` WITH 7 BUCKETS"), fine: true},
		"another table's histogram":             {table: boats(plainCreate, "ANALYZE TABLE `live`.`users` UPDATE HISTOGRAM ON `id` WITH 7 BUCKETS")},
		"settings":                              {table: boats(plainCreate, noMode), fine: true},
		"settings of the server":                {table: boats(plainCreate, "SET GLOBAL general_log_file = '/srv/www/x.php'")},
		"settings and more":                     {table: boats(plainCreate, noMode+", @@global.general_log = 1")},
		"a trigger":                             {table: trigger("CREATE DEFINER=`a`@`%` TRIGGER `t` BEFORE INSERT ON `boats` FOR EACH ROW BEGIN DELETE FROM log; END"), fine: true},
		"a trigger as it was written":           {table: trigger("create definer=current_user() trigger ferry.t /* why */ after update\non ferry.boats for each row set @a = 1"), fine: true},
		"a trigger of another table":            {table: trigger("CREATE TRIGGER `t` BEFORE INSERT ON `live`.`boats` FOR EACH ROW SET @a = 1")},
		"a trigger behind a comment":            {table: trigger("CREATE /*!99999 TRIGGER t BEFORE INSERT ON boats */ USER root")},
		"a trigger by another reading":          {table: boats(plainCreate, strings.Replace(noMode, "''", "'NO_BACKSLASH_ESCAPES'", 1), `CREATE TRIGGER t BEFORE INSERT ON boats FOR EACH ROW SET @a = 'x\'`), fine: true},
		"a trigger by the first reading":        {table: trigger(`CREATE TRIGGER t BEFORE INSERT ON boats FOR EACH ROW SET @a = 'x\'`)},
		"a user":                                {table: trigger("CREATE USER x IDENTIFIED BY 'y'")},
		"a view":                                {table: of(View, "busy", "", "CREATE ALGORITHM=UNDEFINED DEFINER=`a`@`b` SQL SECURITY DEFINER VIEW `busy` AS select 1 AS `x`"), fine: true},
		"a view of another database":            {table: of(View, "busy", "", "CREATE VIEW `live`.`busy` AS select 1")},
		"a view under another name":             {table: of(View, "busy", "", "CREATE VIEW `users` AS select 1")},
		"a view that is none":                   {table: of(View, "busy", "", "DROP VIEW `busy`")},
		"a sequence":                            {table: of(Sequence, "n", "", "CREATE SEQUENCE `n` start with 1 minvalue -5 maxvalue 9 increment by 1 nocache nocycle ENGINE=InnoDB"), fine: true},
		"a sequence and more":                   {table: of(Sequence, "n", "", "CREATE SEQUENCE `n`; DROP TABLE users")},
		"a procedure":                           {table: of(Procedure, "procedure p", noMode, "CREATE DEFINER=`a`@`b` PROCEDURE `p`(IN x INT) SELECT x"), fine: true},
		"a procedure under another name":        {table: of(Procedure, "procedure p", noMode, "CREATE PROCEDURE `live`.`q`() SELECT 1")},
		"a function":                            {table: of(Function, "function f", noMode, "CREATE FUNCTION `f`() RETURNS INT RETURN 1"), fine: true},
		"a function of a library":               {table: of(Function, "function f", noMode, "CREATE FUNCTION `f` RETURNS STRING SONAME 'f.so'")},
		"an event that rests":                   {table: of(Event, "event e", noMode, "CREATE EVENT `e` ON SCHEDULE EVERY 1 DAY ON COMPLETION NOT PRESERVE DISABLE DO SELECT 1"), fine: true},
		"an event that runs":                    {table: of(Event, "event e", noMode, "CREATE EVENT `e` ON SCHEDULE EVERY 1 DAY ON COMPLETION NOT PRESERVE ENABLE DO SELECT 'DISABLE'"), fine: true, apart: true},
		"an event that says nothing of it":      {table: of(Event, "event e", noMode, "CREATE EVENT `e` ON SCHEDULE EVERY 1 DAY DO DELETE FROM live.users"), fine: true, apart: true},
		"an event whose name says that it does": {table: of(Event, "event DISABLE", noMode, "CREATE EVENT `DISABLE` ON SCHEDULE EVERY 1 DAY DO DELETE FROM live.users"), fine: true, apart: true},
		"another kind of thing":                 {table: of("user", "x", "", "CREATE USER x")},
		"a zero byte":                           {table: boats(plainCreate + "\x00")},
	} {
		t.Run(name, func(t *testing.T) {
			for _, apart := range []bool{false, true} {
				err := CheckStatements("mysql", "ferry", apart, []Table{c.table})
				if want := c.fine && !(apart && c.apart); want != (err == nil) || err != nil && !errors.Is(err, ErrForeignStatement) {
					t.Errorf("apart %v: %v", apart, err)
				}
			}
		})
	}
}

func TestForeignStatementsOfSQLite(t *testing.T) {
	const create = `CREATE TABLE "boats" (id INTEGER PRIMARY KEY, "end" TEXT DEFAULT ';') STRICT`
	boats := func(create string, after ...string) Table {
		return Table{Name: "boats", Kind: BaseTable, Create: create, After: after}
	}
	for name, c := range map[string]struct {
		table Table
		fine  bool
	}{
		"a table":                        {boats(create, "CREATE UNIQUE INDEX i ON boats (\"end\") WHERE id > 0"), true},
		"a table in other quotes":        {boats("create table [boats](id) -- why"), true},
		"a table and a file":             {boats(create + "; ATTACH '/srv/www/x.php' AS x"), false},
		"a table from another":           {boats("CREATE TABLE boats AS SELECT load_extension('x')"), false},
		"a library's table":              {boats("CREATE VIRTUAL TABLE boats USING x"), false},
		"a trigger":                      {boats(create, "CREATE TRIGGER t AFTER INSERT ON boats BEGIN UPDATE boats SET \"end\" = CASE WHEN new.end THEN 1 ELSE ';' END; DELETE FROM x; END"), true},
		"a trigger and more":             {boats(create, "CREATE TRIGGER t AFTER INSERT ON boats BEGIN SELECT 1; END; ATTACH 'f' AS a; SELECT CASE WHEN 1 THEN 1 END"), false},
		"a trigger that says begin":      {boats(create, "CREATE TRIGGER t AFTER INSERT ON boats BEGIN SELECT 1 AS begin; END; ATTACH 'f' AS a; SELECT 1; END"), false},
		"a trigger without an end":       {boats(create, "CREATE TRIGGER t AFTER INSERT ON boats BEGIN SELECT 1;"), false},
		"a trigger of another table":     {boats(create, "CREATE TRIGGER t AFTER INSERT ON users BEGIN SELECT 1; END"), false},
		"a pragma":                       {boats(create, "PRAGMA writable_schema = 1"), false},
		"a view":                         {Table{Name: "v", Kind: View, Create: "CREATE VIEW v AS SELECT 1"}, true},
		"a view and more":                {Table{Name: "v", Kind: View, Create: "CREATE VIEW v AS SELECT 1; VACUUM INTO '/srv/x'"}, false},
		"a view in a bracket and more":   {Table{Name: "v", Kind: View, Create: "CREATE VIEW v AS SELECT [']; VACUUM INTO '/srv/x' --']"}, false},
		"a program, which it has not":    {Table{Name: "procedure p", Kind: Procedure, Create: "CREATE PROCEDURE p()"}, false},
		"settings, which it has not any": {Table{Name: "v", Kind: View, Create: "CREATE VIEW v AS SELECT 1", Settings: noMode}, false},
	} {
		t.Run(name, func(t *testing.T) {
			if err := CheckStatements("sqlite", "", false, []Table{c.table}); c.fine != (err == nil) {
				t.Error(err)
			}
		})
	}
}

// Nothing that is not known is put into a snapshot: it could not be put back.
func TestUnknownFormsAreNotKept(t *testing.T) {
	table := Table{Name: "boats", Kind: BaseTable, Create: plainCreate, After: []string{"ALTER TABLE `boats` ENABLE KEYS", noMode, "CREATE TRIGGER t BEFORE INSERT ON boats FOR EACH ROW SET @a = 1", noMode, "CREATE PACKAGE x"}}
	view := Table{Name: "v", Kind: View, Create: "CREATE MATERIALIZED VIEW v AS SELECT 1"}
	kept, weaker, err := known("mysql", []Table{table, view})
	if err != nil || len(kept) != 1 || !slices.Equal(kept[0].After, table.After[1:3]) || len(weaker) != 3 {
		t.Errorf("%v %q %v", kept, weaker, err)
	}
	if _, _, err := known("mysql", []Table{{Name: "boats", Kind: BaseTable, Create: "CREATE COLUMNAR TABLE boats (a INT)"}}); err == nil {
		t.Error("a table was left out in silence")
	}
}

// What is exported holds no command to the client that loads it: either it is refused, or the
// client makes nothing but tables of it.
func TestExportsCommandNoClient(t *testing.T) {
	commands := func(marker string) map[string]Table {
		view := func(text string) Table {
			return Table{Name: "v", Kind: View, Create: "CREATE VIEW `v` AS select " + text}
		}
		program := func(mode, body string) Table {
			return Table{Name: "procedure v", Kind: Procedure, Settings: strings.Replace(noMode, "''", "'"+mode+"'", 1), Create: "CREATE PROCEDURE `v`() SELECT " + body}
		}
		run := `\! touch ` + marker
		return map[string]Table{
			"a command":                       view("1 " + run),
			"a command on its own line":       view("1\n" + run + "\n"),
			"a command after an end":          view("1;;\n" + run + "\n"),
			"a long command":                  view("1;;\nsystem touch " + marker + "\n"),
			"another delimiter":               view("1\ndelimiter x\nx\nsystem touch " + marker + "\n"),
			"a command in a text":             view("'" + run + "'"),
			"a command in a name":             view("1 AS `\\`" + run + "`"),
			"a command in a comment":          program("", "1 /* "+run+" */"),
			"a command in a comment of some":  program("", "1 /*!99999 "+run+" */"),
			"a command in MariaDB's comment":  program("", "1 /*M!99999 ' */ "+run+" /*M! ' */"),
			"a command by the other reading":  program("NO_BACKSLASH_ESCAPES", `'\' `+run+` '`),
			"a command by the other quotes":   program("ANSI_QUOTES", `1 AS "\" `+run+` "`),
			"a command after a strange minus": program("", "1 --\x01 '\n"+run+" '"),
		}
	}
	testenv.OnEach(t, func(t *testing.T, server *testenv.Server) {
		marker := filepath.Join(t.TempDir(), "ran")
		for name, table := range commands(marker) {
			var text strings.Builder
			if err := WriteSQL(t.Context(), &text, "mysql", []Replacement{{Table: table}}); err != nil {
				if !errors.Is(err, ErrForeignStatement) {
					t.Errorf("%s: %v", name, err)
				}
				continue
			}
			loads(t, server.Client("--force", server.Database(t).Name), text.String(), name, marker)
		}
	})
}

// loads has a client load an export, and looks that it ran nothing.
func loads(t *testing.T, client *exec.Cmd, text, name, marker string) {
	t.Helper()
	client.Stdin = strings.NewReader(text)
	out, err := client.CombinedOutput()
	if _, there := os.Stat(marker); there == nil {
		t.Errorf("%s: the client ran it:\n%s", name, text)
		_ = os.Remove(marker)
	}
	t.Logf("%s: %v %s", name, err, out)
}

func TestSQLiteExportsCommandNoClient(t *testing.T) {
	client, err := exec.LookPath("sqlite3")
	if err != nil {
		testenv.Missing(t, "sqlite3")
	}
	marker := filepath.Join(t.TempDir(), "ran")
	for name, create := range map[string]string{
		"an end that only the client knows": "CREATE VIEW v AS SELECT 1\n/\n.shell touch " + marker + "\n",
		"another such end":                  "CREATE VIEW v AS SELECT 1\n go -- so\n.shell touch " + marker + "\n",
		"a command on its own line":         "CREATE VIEW v AS SELECT 1\n.shell touch " + marker,
		"a command in a text":               "CREATE VIEW v AS SELECT ';\n.shell touch " + marker + "\n'",
		"a quotient":                        "CREATE VIEW v AS SELECT 4\n/ 2",
	} {
		var text strings.Builder
		if err := WriteSQL(t.Context(), &text, "sqlite", []Replacement{{Table: Table{Name: "v", Kind: View, Create: create}}}); err != nil {
			if !errors.Is(err, ErrForeignStatement) || name == "a quotient" {
				t.Errorf("%s: %v", name, err)
			}
			continue
		}
		loads(t, exec.Command(client, filepath.Join(t.TempDir(), "new.sqlite")), text.String(), name, marker)
	}
}

// A value means what it is, whatever type its column is said to have.
func TestValuesAreNoStatements(t *testing.T) {
	hostile := "1);DROP TABLE users;--"
	for _, kind := range []string{"int", "bigint", "decimal", "double", "year", "bit", "json", "text", "point", "uuid", "date", "no such type"} {
		for _, data := range []string{hostile, `1.5` + hostile, `[1.50000000000000000000000001` + hostile + `]`} {
			text := string(appendLiteral(nil, Column{Name: "a", Type: kind}, Value{Type: Bytes, Data: []byte(data)}))
			all, err := lex(text, dialect{})
			if err != nil || slices.ContainsFunc(all, func(l lexeme) bool { return l.text == "DROP" || l.text == ";" }) {
				t.Errorf("%s: %s (%v)", kind, text, err)
			}
		}
	}
	for number, want := range map[string]bool{"0": true, "-1.5e-10": true, "1E+5": true, "007": true, "": false, "-": false, ".": false, "e5": false, "1-1": false, "0x1": false, "1e5;": false, "NULL": false} {
		if isNumeral([]byte(number)) != want {
			t.Errorf("%q: %v", number, !want)
		}
	}
}

// However a statement is written, what is accepted makes the table alone: no other table comes,
// goes or changes, and no file.
func FuzzStatementsOfSQLite(f *testing.F) {
	for _, create := range []string{
		`CREATE TABLE boats (id INTEGER PRIMARY KEY)`, `create table "boats"(a,b) -- x`, `CREATE TABLE boats (a); DROP TABLE kept`,
		`CREATE TABLE boats (a DEFAULT (';')) WITHOUT ROWID`, "CREATE TABLE [boats] (a /* ; */)", "CREATE TABLE boats (a);\x00DELETE FROM kept",
	} {
		for _, after := range []string{"CREATE INDEX i ON boats (a)", "CREATE TRIGGER t AFTER INSERT ON boats BEGIN SELECT CASE 1 WHEN 1 THEN 2 END; END;DELETE FROM kept", "DELETE FROM kept", "CREATE TRIGGER t DELETE ON boats BEGIN DELETE FROM kept; END"} {
			f.Add(create, after)
		}
	}
	f.Fuzz(func(t *testing.T, create, after string) {
		table := Table{Name: "boats", Kind: BaseTable, Create: create, After: []string{after}}
		if CheckStatements("sqlite", "", true, []Table{table}) != nil {
			return
		}
		dir := t.TempDir()
		db, err := openSQLite(t.Context(), Login{File: emptySQLite(t, filepath.Join(dir, "x.sqlite"))}, Everything)
		if err != nil {
			t.Fatal(err)
		}
		defer db.Close()
		kept := Table{Name: "kept", Kind: BaseTable, Create: "CREATE TABLE kept (a)", Columns: []Column{{Name: "a"}}}
		rows := RowsOf([]Row{{IntegerValue(7)}})
		if _, err := db.Apply(t.Context(), Change{Replace: []Replacement{{Table: kept, Rows: rows}}}); err != nil {
			t.Fatal(err)
		}
		_, _ = db.Apply(t.Context(), Change{Replace: []Replacement{{Table: table, Rows: noRows}}, Apart: true})
		rest, err := db.Query(t.Context(), "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite%' AND lower(name) NOT IN ('boats', 'kept')")
		if count, err2 := db.Query(t.Context(), "SELECT COUNT(*) FROM kept"); err != nil || err2 != nil || len(rest) > 0 || asInteger(count[0][0]) != 1 {
			t.Errorf("%q %q: %v %v %v %v", create, after, rest, count, err, err2)
		}
		if entries, err := os.ReadDir(dir); err != nil || len(entries) != 1 {
			t.Errorf("%q %q made files: %v %v", create, after, entries, err)
		}
	})
}

// However a statement is written, and whatever a server reads it as: what is exported is cut into
// as many statements as were written, in both ways of reading texts.
func FuzzExportOfMySQL(f *testing.F) {
	for _, text := range []string{"1", "'a;b'", "1 /* ; */", "'\\\\' AS `x`", "\"a\"\"b\"", "1;;\nDROP TABLE x", "/*!50000 ; */ 1", "'", "`\\`", "1 -- ;\n, 2 # ;;", "1\n;;"} {
		f.Add(text, "utf8mb4_bin")
	}
	f.Fuzz(func(t *testing.T, text, collation string) {
		for _, mode := range []string{"", "NO_BACKSLASH_ESCAPES", "ANSI_QUOTES"} {
			program := Table{Name: "procedure p", Kind: Procedure, Settings: "SET SESSION sql_mode = '" + mode + "', collation_connection = '" + collation + "'", Create: "CREATE PROCEDURE `p`() SELECT " + text}
			var out strings.Builder
			if WriteSQL(t.Context(), &out, "mysql", []Replacement{{Table: program}}) != nil {
				continue
			}
			_, rest, found := strings.Cut(out.String(), "\nDELIMITER ")
			end, rest, _ := strings.Cut(rest, "\n")
			settings, rest, _ := strings.Cut(rest, end+"\n")
			create, rest, _ := strings.Cut(rest, end+"\n")
			if want := session + end + "\nSET NAMES utf8mb4" + end + "\nDELIMITER ;\n"; !found || settings != program.Settings || create != program.Create || rest != want {
				t.Errorf("%q is cut into %q, %q and %q", text, settings, create, rest)
			}
			d, _ := dialectOf(settings)
			if _, err := lex(create, d); err != nil {
				t.Errorf("%q: %v", create, err)
			}
		}
	})
}

func emptySQLite(t *testing.T, at string) string {
	t.Helper()
	if err := createSQLite(t.Context(), Login{File: at}); err != nil {
		t.Fatal(err)
	}
	return at
}

// A disabled event is one, whatever else its statement says.
func TestEventsRestInACopy(t *testing.T) {
	event := Table{Name: "event e", Kind: Event, Settings: noMode, Create: "CREATE DEFINER=`ENABLE`@`%` EVENT `e` ON SCHEDULE EVERY 1 DAY ON COMPLETION NOT PRESERVE ENABLE COMMENT 'ENABLE' DO SELECT 'ENABLE'", Digest: "ENABLE"}
	rested := Resting([]Table{event})[0]
	if want := strings.Replace(event.Create, "PRESERVE ENABLE", "PRESERVE DISABLE", 1); rested.Create != want || rested.Digest != "DISABLE" || rested.Shape() != event.Shape() {
		t.Errorf("%+v", rested)
	}
	if err := CheckStatements("mysql", "ferry", true, []Table{rested}); err != nil {
		t.Error(err)
	}
	if err := WriteSQL(t.Context(), io.Discard, "mysql", []Replacement{{Table: rested}}); err != nil {
		t.Error(err)
	}
}

func noRows(context.Context, func(Row) error) error { return nil }

package database

import (
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"wetland/internal/testenv"
)

// onEachImpatiently tries something on every server, on a table of two rows, with hardly any patience for other
// clients.
func onEachImpatiently(t *testing.T, try func(t *testing.T, account *testenv.Account, db Database)) {
	reads, patient, waits, tries, rests := mostWait, patientWait, renameWaits, renameTries, renameRests
	mostWait, patientWait, renameWaits, renameTries, renameRests = 1, 1, 1, 2, time.Millisecond
	defer func() {
		mostWait, patientWait, renameWaits, renameTries, renameRests = reads, patient, waits, tries, rests
	}()
	testenv.OnEach(t, func(t *testing.T, server *testenv.Server) {
		account, db := openTest(t, server)
		account.Run(t, "CREATE TABLE boats (id INT PRIMARY KEY); INSERT INTO boats VALUES (1), (2)")
		try(t, account, db)
	})
}

// hold locks the table, and returns the number of the client who does and what lets it go.
func hold(t *testing.T, as *sql.DB, how string) (number string, release func()) {
	t.Helper()
	conn, err := as.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if err := conn.QueryRowContext(t.Context(), "SELECT CONNECTION_ID()").Scan(&number); err != nil {
		t.Fatal(err)
	}
	run := func(statement string) {
		t.Helper()
		if _, err := conn.ExecContext(t.Context(), statement); err != nil {
			t.Fatal(err)
		}
	}
	run("LOCK TABLES boats " + how)
	return number, func() {
		run("UNLOCK TABLES")
		if err := conn.Close(); err != nil {
			t.Error(err)
		}
	}
}

// Whatever needs a table that somebody holds ends after a while, and says who that is where the server tells.
func TestMySQLWaitsEnd(t *testing.T) {
	onEachImpatiently(t, func(t *testing.T, account *testenv.Account, db Database) {
		before := save(t, db)
		login := fmt.Sprintf("%s:%s@tcp(127.0.0.1:%d)/%s", account.User, account.Password, account.Port, account.Name)
		other, err := sql.Open("mysql", login)
		if err != nil {
			t.Fatal(err)
		}
		defer other.Close()
		boats := before.find(t, "boats")
		apply := func(change Change) func() error {
			return func() error { _, err := db.Apply(t.Context(), change); return err }
		}
		reads := map[string]func() error{
			"read": func() error { _, err := Present(t.Context(), db); return err },
			"ask":  func() error { _, err := db.Query(t.Context(), "SELECT id FROM boats"); return err },
		}
		writes := map[string]func() error{
			"be ready": func() error { return Ready(t.Context(), db) },
			"replace":  apply(Change{Tag: "t", Replace: []Replacement{boats}}),
			"patch":    apply(Change{Patches: []Patch{{Table: boats.Table, Put: RowsOf([]Row{{IntegerValue(7)}})}}}),
		}
		for how, all := range map[string][]map[string]func() error{"WRITE": {reads, writes}, "READ": {writes}} {
			number, release := hold(t, other, how)
			for _, some := range all {
				for what, do := range some {
					err := do()
					if !errors.Is(err, ErrHeld) || !strings.Contains(err.Error(), "client "+number+",") {
						t.Errorf("%s %s: %v", how, what, err)
					}
				}
			}
			if how == "READ" {
				for what, do := range reads {
					if err := do(); err != nil {
						t.Errorf("%s %s: %v", how, what, err)
					}
				}
			}
			release()
		}
		equalNow(t, db, before)
	})
}

// A server that takes no writes is told before anything rests on them.
func TestMySQLThatTakesNoWrites(t *testing.T) {
	onEachImpatiently(t, func(t *testing.T, account *testenv.Account, db Database) {
		before := save(t, db)
		account.Run(t, "SET GLOBAL read_only = 1")
		err := Ready(t.Context(), db)
		account.Run(t, "SET GLOBAL read_only = 0")
		if err == nil || !strings.Contains(err.Error(), "read-only") {
			t.Errorf("%v", err)
		}
		if err := Ready(t.Context(), db); err != nil {
			t.Error(err)
		}
		equalNow(t, db, before)
	})
}

// A table that somebody holds all the while is not switched: that is told, nothing changes, and
// nothing of ours stays.
func TestMySQLTableThatIsHeld(t *testing.T) {
	onEachImpatiently(t, func(t *testing.T, account *testenv.Account, db Database) {
		before := save(t, db)
		account.Run(t, "DELETE FROM boats WHERE id = 2")
		_, release := hold(t, account.Root, "READ")
		_, err := db.Apply(t.Context(), Change{Tag: "t", Replace: []Replacement{before.find(t, "boats")}})
		if err == nil || !strings.Contains(err.Error(), "SHOW PROCESSLIST") {
			t.Errorf("%v", err)
		}
		release()
		got := one(t, account, "SELECT CONCAT((SELECT COUNT(*) FROM boats), ' ', (SELECT GROUP_CONCAT(table_name)"+
			" FROM information_schema.tables WHERE table_schema = database()))")
		if got != "1 boats" {
			t.Errorf("rows and tables: %s", got)
		}
		before.restore(t, db)
		equalNow(t, db, before)
	})
}

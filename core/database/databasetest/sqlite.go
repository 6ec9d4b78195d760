package databasetest

import (
	"database/sql"
	"path/filepath"
	"strings"
	"testing"

	"wetland/core/database"
)

// EmptySQLite makes an empty SQLite database in a folder of the test, which its site has open.
func EmptySQLite(t *testing.T) Account {
	t.Helper()
	file := filepath.Join(t.TempDir(), "site.sqlite")
	raw, err := sql.Open("sqlite", "file:"+file+"?_pragma=busy_timeout(20000)&_pragma=journal_mode(WAL)")
	if err == nil {
		_, err = raw.Exec("SELECT 1")
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = raw.Close() })
	return Account{Login: database.Login{Engine: "sqlite", File: file}, Run: func(statements ...string) error {
		_, err := raw.Exec(strings.Join(statements, ";\n"))
		return err
	}}
}

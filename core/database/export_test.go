package database

import (
	"errors"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"wetland/internal/testenv"
)

// export writes all that is saved and returns the file.
func (s saved) export(t *testing.T, engine string) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "database.sql")
	out, err := os.Create(name)
	if err != nil {
		t.Fatal(err)
	}
	var all []Replacement
	for _, table := range s.tables {
		all = append(all, s.find(t, table.Name))
	}
	if err := errors.Join(WriteSQL(t.Context(), out, engine, all), out.Close()); err != nil {
		t.Fatal(err)
	}
	return name
}

// What is exported, the engine's own client loads, and it is the same.
func TestMySQLExport(t *testing.T) {
	testenv.OnEach(t, func(t *testing.T, server *testenv.Server) {
		asRoot := func(account *testenv.Account) Database {
			t.Helper()
			db, err := (Engines{}).Open(t.Context(), Login{Engine: "mysql", Host: "127.0.0.1", Port: account.Port, Name: account.Name, User: "root"}, everything)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { _ = db.Close() })
			return db
		}
		from, to := server.Database(t), server.Database(t)
		for _, schema := range []string{difficultOn(server.Kind), besideOn(server.Kind)} {
			if _, err := from.Root.Exec(schema); err != nil {
				t.Fatal(err)
			}
		}
		before := save(t, asRoot(from))
		load := to.Client("--max-allowed-packet=1G", to.Name)
		input, err := os.Open(before.export(t, "mysql"))
		if err != nil {
			t.Fatal(err)
		}
		defer input.Close()
		load.Stdin = input
		if out, err := load.CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		equalNow(t, asRoot(to), before)
		sums := checkAll(t, from)
		for name, sum := range checkAll(t, to) {
			if sums[name] != sum {
				t.Errorf("CHECKSUM TABLE %s is %s, was %s", name, sum, sums[name])
			}
		}
	})
}

func TestSQLiteExport(t *testing.T) {
	if _, err := exec.LookPath("sqlite3"); err != nil {
		testenv.Missing(t, "sqlite3")
	}
	raw, db := openSQLiteTest(t, difficultSQLite+"CREATE TABLE kinds (a, b TEXT, c REAL)")
	for _, cell := range []any{nil, int64(math.MinInt64), 0.1, math.Inf(-1), math.MaxFloat64, 5e-324, "a\nb'c", "nul\x00inside", []byte("\xff\x00"), []byte{}, ""} {
		if _, err := raw.Exec("INSERT INTO kinds VALUES (?, ?, ?)", cell, cell, cell); err != nil {
			t.Fatal(err)
		}
	}
	before := save(t, db)
	file := filepath.Join(t.TempDir(), "loaded.sqlite")
	if out, err := exec.Command("sh", "-c", "sqlite3 "+file+" < "+before.export(t, "sqlite")).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	loaded, err := (Engines{}).Open(t.Context(), Login{Engine: "sqlite", File: file}, everything)
	if err != nil {
		t.Fatal(err)
	}
	defer loaded.Close()
	equalNow(t, loaded, before)
}

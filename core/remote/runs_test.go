package remote

import (
	"context"
	"fmt"
	"slices"
	"testing"

	"github.com/zeebo/blake3"

	"wetland/core/database"
	"wetland/core/database/databasetest"
	"wetland/core/host"
)

// memory is runs that a test knows.
type memory struct {
	runs  map[[32]byte][]byte
	given int // how often one was asked for
}

func (k *memory) Has(hash [32]byte) bool { _, has := k.runs[hash]; return has }

func (k *memory) Rows(_ context.Context, hash [32]byte) ([]byte, error) {
	k.given++
	if run, has := k.runs[hash]; has {
		return run, nil
	}
	return nil, fmt.Errorf("%x is not known", hash)
}

// learn reads all tables, keeps their runs, and returns the rows.
func (k *memory) learn(t *testing.T, db database.Database) map[string][]byte {
	t.Helper()
	moment, err := db.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	all := map[string][]byte{}
	cutters := map[string]*database.RunCutter{}
	var run []byte
	end := func() {
		k.runs[blake3.Sum256(run)] = run
		run = nil
	}
	last := ""
	_, err = database.Survey(t.Context(), moment, func(table database.Table, encoded []byte, mark uint64) error {
		if table.Name != last {
			end()
			last, cutters[table.Name] = table.Name, &database.RunCutter{}
		}
		all[table.Name] = append(all[table.Name], encoded...)
		run = append(run, encoded...)
		if ends, _ := cutters[table.Name].Add(len(encoded), mark); ends {
			end()
		}
		return nil
	})
	end()
	if err != nil {
		t.Fatal(err)
	}
	if err := moment.Close(); err != nil {
		t.Fatal(err)
	}
	return all
}

// What is read of tables is the same whether or not rows are known here, and known ones do not travel.
func TestKnownRowsDoNotTravel(t *testing.T) {
	account := databasetest.EmptySQLite(t)
	statements := []string{"CREATE TABLE empty (n INTEGER)", "CREATE TABLE small (n INTEGER)", "INSERT INTO small VALUES (1), (2)"}
	for _, name := range []string{"large", "larger"} {
		statements = append(statements, "CREATE TABLE "+name+" (n INTEGER PRIMARY KEY, t TEXT)",
			"WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 30000) INSERT INTO "+name+" SELECT i, hex(randomblob(100)) FROM n")
	}
	if err := account.Run(append(statements, "INSERT INTO larger VALUES (70000, hex(zeroblob(6000000)))", "INSERT INTO larger SELECT n + 100000, t FROM large")...); err != nil {
		t.Fatal(err)
	}
	h, line := counted(t, host.Here)
	db, err := h.Databases().Open(t.Context(), account.Login, database.Everything)
	if err != nil {
		t.Fatal(err)
	}
	k := &memory{runs: map[[32]byte][]byte{}}
	before := line.came.Load()
	k.learn(t, db)
	whole := line.came.Load() - before
	db.(database.Recaller).Recall(k)
	same := func(what string, most int64) {
		t.Helper()
		k.given = 0
		before := line.came.Load()
		again := k.learn(t, db)
		travelled := line.came.Load() - before
		direct, err := host.Here.Databases().Open(t.Context(), account.Login, database.Everything)
		if err != nil {
			t.Fatal(err)
		}
		want := (&memory{runs: map[[32]byte][]byte{}}).learn(t, direct)
		for name, rows := range want {
			if !slices.Equal(rows, again[name]) {
				t.Errorf("%s: the rows of %s are not those of the table: %d bytes, %d", what, name, len(again[name]), len(rows))
			}
		}
		if len(want) != len(again) || k.given == 0 || travelled > most {
			t.Errorf("%s: %d tables of %d, %d runs were known, %d bytes travelled of %d", what, len(again), len(want), k.given, travelled, whole)
		}
		if err := direct.Close(); err != nil {
			t.Error(err)
		}
	}
	same("unchanged", whole/20)
	if err := account.Run("UPDATE large SET t = 'changed' WHERE n IN (5, 15000, 29999)", "DELETE FROM larger WHERE n = 20000", "INSERT INTO larger VALUES (65000, 'new')", "INSERT INTO empty VALUES (1)"); err != nil {
		t.Fatal(err)
	}
	same("changed", whole/10)
	// A survey needs no rows here at all.
	moment, err := db.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	there, err := database.Survey(t.Context(), moment, nil)
	if err != nil {
		t.Fatal(err)
	}
	here, err := database.Survey(t.Context(), moment, func(database.Table, []byte, uint64) error { return nil })
	if err != nil || len(here) != len(there) {
		t.Fatalf("%d tables, %d: %v", len(here), len(there), err)
	}
	for i := range here {
		if here[i].Digest != there[i].Digest || here[i].Rows != there[i].Rows {
			t.Errorf("%s: %s, %s", here[i].Name, here[i].Digest, there[i].Digest)
		}
	}
	// What is known may be damaged.
	for hash := range k.runs {
		k.runs[hash] = []byte{255}
	}
	err = moment.Rows(t.Context(), here[slices.IndexFunc(here, func(one database.Table) bool { return one.Name == "large" })], func(database.Row) error { return nil })
	if err == nil {
		t.Error("rows of a damaged run were taken")
	}
	if err := moment.Close(); err != nil {
		t.Error(err)
	}
}

package update_test

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"wetland/core/recovery"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/tables"
	"wetland/core/update"
)

// busy is a clock at whose waits visitors write, one after the other.
type busy struct{ writes *[]func() }

func (b busy) Wait(ctx context.Context, _ time.Duration) error {
	if len(*b.writes) > 0 {
		(*b.writes)[0]()
		*b.writes = (*b.writes)[1:]
	}
	return ctx.Err()
}

// A plugin migrates its table and then fails, while visitors write to that very table:
// the table is back in its old form, with all that they wrote.
func TestWritesToAMigratedTableAreKept(t *testing.T) {
	p := newPier(t, 1)
	run := func(statement string) {
		t.Helper()
		if _, err := p.raw.Exec(statement); err != nil {
			t.Error(err)
		}
	}
	run(`CREATE TABLE comments (id INTEGER PRIMARY KEY, text TEXT); INSERT INTO tides VALUES (2, '08:20')`)
	migrated := false
	p.page = func(w http.ResponseWriter) bool {
		if len(p.updated(t)) == 0 {
			return false
		}
		if !migrated {
			migrated = true
			run(`ALTER TABLE tides ADD COLUMN low TEXT DEFAULT 'soon'; UPDATE tides SET high = '0' || high WHERE id = 2; INSERT INTO settings VALUES ('tides_form', '2')`)
		}
		_, _ = w.Write([]byte(cutOff))
		return true
	}
	writes := []func(){
		func() { run(`INSERT INTO tides (id, high) VALUES (5, 'before the migration')`) },
		func() {
			run(`INSERT INTO tides (id, high, low) VALUES (6, 'after it', 'x'); UPDATE tides SET high = '07:15' WHERE id = 1; INSERT INTO comments VALUES (1, 'Well rowed')`)
		},
	}
	ended, err := p.update(t, update.Options{Packages: p.packages(t), Guard: session.Guard{Clock: busy{&writes}}})
	// The row that the migration alone changed could be a visitor's, too: one changed such a row a second later.
	var undecided *tables.UndecidedError
	if !errors.As(err, &undecided) && ended.State != runs.NeedsPerson || !migrated || len(writes) != 0 || len(ended.Undecided) != 1 {
		t.Fatalf("%+v %v, migrated %v, %d writes left", ended, err, migrated, len(writes))
	}
	recoverAs := func(decision update.Decision) *runs.Run {
		t.Helper()
		again, err := recovery.Recover(t.Context(), p.workspace, recovery.Options{Guard: session.Guard{Clock: still{}}, Undecided: decision})
		if err != nil {
			t.Fatal(err)
		}
		return again
	}
	if again := recoverAs(""); again.State != runs.NeedsPerson || len(again.Undecided) != 1 {
		t.Errorf("recovered without a decision: %+v", again)
	}
	if again := recoverAs(update.GoBack); again.State != runs.PutBack || len(again.Undecided) != 0 {
		t.Errorf("recovered: %+v", again)
	}
	rows, err := p.raw.Query(`SELECT id || ' ' || high FROM tides UNION ALL SELECT 'comment ' || text FROM comments UNION ALL SELECT 'setting ' || name FROM settings`)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	var got []string
	for rows.Next() {
		var line string
		if err := rows.Scan(&line); err != nil {
			t.Fatal(err)
		}
		got = append(got, line)
	}
	want := []string{"1 07:15", "2 08:20", "5 before the migration", "6 after it", "comment Well rowed", "setting theme"}
	if slices.Sort(got); !slices.Equal(got, want) {
		t.Errorf("%q\nnot %q", got, want)
	}
	var create string
	if err := p.raw.QueryRow(`SELECT sql FROM sqlite_master WHERE name = 'tides'`).Scan(&create); err != nil || strings.Contains(create, "low") {
		t.Errorf("%s %v", create, err)
	}
	told := ""
	for _, note := range ended.Database {
		told += note.Table + ": " + note.What + "\n"
	}
	for _, part := range []string{"tides: was changed in structure by the update: back as it was", "tides: 2 rows added, 2 changed meanwhile: kept; 1 of them undecided, the others visitors' writes", "comments: 1 row added meanwhile: visitors' writes, kept"} {
		if !strings.Contains(told, part) {
			t.Errorf("it does not tell %q:\n%s", part, told)
		}
	}
}

package snapshot

import (
	"fmt"
	"testing"

	"wetland/core/database"
)

// What two snapshots do not share holds all in which they differ, and little more.
func TestDifferingRowsAreEnough(t *testing.T) {
	s := newSmall(t)
	store := s.store(t)
	s.take(t, store)
	for n, change := range []string{
		"UPDATE big SET t = t || '!' WHERE id = 7000", "DELETE FROM big WHERE id BETWEEN 100 AND 130", "INSERT INTO big (t) VALUES ('new')",
		"UPDATE big SET t = hex(zeroblob(5000000)) WHERE id = 12000", "UPDATE big SET t = hex(zeroblob(2500000)) WHERE id = 12000", "SELECT 1", "DELETE FROM big",
	} {
		if _, err := s.raw.Exec(change); err != nil {
			t.Fatal(err)
		}
		s.take(t, store)
		tableOf := func(name string) Table {
			m, err := Load(t.Context(), store, name)
			if err != nil {
				t.Fatal(err)
			}
			for _, table := range m.Tables {
				if table.Name == "big" {
					return table
				}
			}
			t.Fatal("no table")
			return Table{}
		}
		a, b := tableOf(fmt.Sprintf("snap-%d", n+1)), tableOf(fmt.Sprintf("snap-%d", n+2))
		ofA, ofB, size, err := Differing(t.Context(), store, a, b)
		if err != nil {
			t.Fatal(err)
		}
		told := func(before, now database.Rows) (text string, read int) {
			for _, rows := range []database.Rows{before, now} {
				if err := rows(t.Context(), func(database.Row) error { read++; return nil }); err != nil {
					t.Fatal(err)
				}
			}
			changes, err := database.CompareRows(t.Context(), database.RowComparison{Table: a.Table, Before: before, Now: now, Dir: t.TempDir()})
			if err != nil {
				t.Fatal(err)
			}
			defer changes.Close()
			return fmt.Sprintf("%d added, %d removed, %d changed", changes.Added, changes.Removed, changes.Changed), read
		}
		whole, all := told(Rows(store, a), Rows(store, b))
		part, some := told(ofA, ofB)
		if whole != part {
			t.Errorf("%s: %s; of what is not shared: %s", change, whole, part)
		}
		if n < 6 && some > all/4 {
			t.Errorf("%s: %d of %d rows were read", change, some, all)
		}
		if (size == 0) != (some == 0) {
			t.Errorf("%s: %d bytes in %d rows", change, size, some)
		}
	}
}

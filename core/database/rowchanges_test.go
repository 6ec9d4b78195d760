package database

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
)

func numbered(ns ...int64) Rows {
	var rows []Row
	for _, n := range ns {
		rows = append(rows, Row{IntegerValue(n)})
	}
	return RowsOf(append(rows, Row{IntegerValue(0)}))
}

// told writes a comparison down: each change, in a certain order.
func told(t *testing.T, changes *RowChanges) []string {
	t.Helper()
	var all []string
	err := changes.Each(t.Context(), func(c RowChange) error {
		text := fmt.Sprint(c.Before, "->", c.Now)
		if c.Also != nil {
			text += fmt.Sprint(" also ", c.Also)
		}
		all = append(all, text)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	slices.Sort(all)
	return all
}

// compare compares; readOnce is the size that lets the states be read once.
func compare(t *testing.T, table Table, before, now Rows, also State, readOnce int64) *RowChanges {
	t.Helper()
	changes, err := CompareRows(t.Context(), RowComparison{Dir: t.TempDir(), Table: table, Before: before, Now: now, Also: also, Bytes: readOnce})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := changes.Close(); err != nil {
			t.Error(err)
		}
	})
	return changes
}

func TestCompareRowsWithoutKey(t *testing.T) {
	table := Table{Name: "t", Columns: []Column{{Name: "n"}}}
	changes := compare(t, table, numbered(1, 1, 1, 2, 3), numbered(1, 2, 2, 4), State{}, 0)
	want := []string{"[1]->[]", "[1]->[]", "[3]->[]", "[]->[2]", "[]->[4]"}
	if got := told(t, changes); !slices.Equal(got, want) || changes.Added != 2 || changes.Removed != 3 || changes.Changed != 0 {
		t.Errorf("%v, %+v", got, changes)
	}
	if again := told(t, changes); !slices.Equal(again, want) {
		t.Errorf("asked again: %v", again)
	}
	if equal := compare(t, table, numbered(3, 1, 2), numbered(2, 3, 1), State{}, 0); !equal.Empty() {
		t.Errorf("another order: %+v", equal)
	}
}

// A comparison says of tables of any kind what a simple one in memory says.
func TestCompareRowsIsExact(t *testing.T) {
	for seed := range uint64(60) {
		random := rand.New(rand.NewPCG(seed, 1))
		table := Table{Name: "t", Columns: []Column{{Name: "id"}, {Name: "value"}}, Key: []string{"id"}}
		if seed%3 == 0 {
			table.Key = nil
		}
		state := func() ([]Row, map[string][]string) {
			var rows []Row
			model := map[string][]string{}
			ids := random.Perm(400)[:random.IntN(300)]
			for _, id := range ids {
				n := int64(id)
				if table.Key == nil {
					n %= 7 // rows that are there several times
				}
				row := Row{IntegerValue(n), {Type: Text, Data: []byte(strings.Repeat("x", random.IntN(3)))}}
				rows = append(rows, row)
				name := fmt.Sprint(n)
				if table.Key == nil {
					name = fmt.Sprint(row)
				}
				model[name] = append(model[name], fmt.Sprint(row))
			}
			return rows, model
		}
		before, old := state()
		now, new := state()
		also, third := state()
		beside := State{Table: table, Rows: RowsOf(also)}
		var want []string
		keys := maps.Clone(old)
		maps.Copy(keys, new)
		for name := range keys {
			a, b := old[name], new[name]
			if table.Key == nil {
				both := min(len(a), len(b))
				a, b = a[both:], b[both:]
			} else if slices.Equal(a, b) {
				continue
			}
			for i := range max(len(a), len(b)) {
				text := []string{"[]", "[]"}
				if i < len(a) {
					text[0] = a[i]
				}
				if i < len(b) {
					text[1] = b[i]
				}
				line := text[0] + "->" + text[1]
				if i < len(third[name]) {
					line += " also " + third[name][i]
				}
				want = append(want, line)
			}
		}
		slices.Sort(want)
		none := func(context.Context, func(Row) error) error { return nil }
		orNone := func(rows []Row) Rows {
			if len(rows) == 0 {
				return none
			}
			return RowsOf(rows)
		}
		if got := told(t, compare(t, table, orNone(before), orNone(now), beside, int64(seed%2))); !slices.Equal(got, want) {
			t.Fatalf("seed %d, key %v:\n%v\nwant\n%v", seed, table.Key, got, want)
		}
	}
}

// many gives n rows of some size; each of them differs in the states.
func many(n int, state byte) Rows {
	return func(_ context.Context, each func(Row) error) error {
		cell := make([]byte, 600)
		for i := range n {
			copy(cell, fmt.Sprintf("%c %d", state, i))
			if err := each(Row{IntegerValue(int64(i)), {Type: Bytes, Data: cell}}); err != nil {
				return err
			}
		}
		return nil
	}
}

// What does not fit into memory goes through a file, which nobody else sees and which is gone
// in the end.
func TestCompareRowsThroughAFile(t *testing.T) {
	dir := t.TempDir()
	table := Table{Name: "t", Columns: []Column{{Name: "id"}, {Name: "value"}}, Key: []string{"id"}}
	const n = 60_000 // 36 MB in each state
	changes, err := CompareRows(t.Context(), RowComparison{Dir: dir, Table: table, Before: many(n, 'a'), Now: many(n+5, 'b')})
	if err != nil {
		t.Fatal(err)
	}
	if changes.spool.file == nil {
		t.Error("no file was used")
	}
	if changes.Changed != n || changes.Added != 5 || changes.Removed != 0 {
		t.Errorf("%+v", changes)
	}
	seen := map[string]bool{}
	err = changes.Each(t.Context(), func(c RowChange) error {
		id := c.Now[0].String()
		if seen[id] || (c.Before != nil && c.Before[0].String() != id) || !strings.HasPrefix(c.Now[1].String(), "b "+id) {
			return fmt.Errorf("row %s: %v", id, c)
		}
		seen[id] = true
		return nil
	})
	if err != nil || len(seen) != n+5 {
		t.Errorf("%d rows, %v", len(seen), err)
	}
	if left, err := os.ReadDir(dir); err != nil || len(left) > 0 {
		t.Errorf("others can see %v, %v", left, err)
	}
	if err := changes.Close(); err != nil {
		t.Error(err)
	}
}

// Of a third state only the rows that are wanted are put aside, however many it has.
func TestCompareRowsTakesLittleOfAThirdState(t *testing.T) {
	table := Table{Name: "t", Columns: []Column{{Name: "id"}, {Name: "value"}}, Key: []string{"id"}}
	const n = 200_000 // 120 MB
	for _, bytes := range []int64{0, 1} {
		changes := compare(t, table, many(3, 'a'), many(4, 'b'), State{Table: table, Rows: many(n, 'c')}, bytes)
		if changes.spool.file != nil {
			t.Error("all of it was put aside")
		}
		var also []string
		err := changes.Each(t.Context(), func(c RowChange) error {
			also = append(also, strings.TrimRight(c.Also[1].String(), "\x00"))
			return nil
		})
		if slices.Sort(also); err != nil || !slices.Equal(also, []string{"c 0", "c 1", "c 2", "c 3"}) {
			t.Errorf("%q %v", also, err)
		}
	}
}

func TestCompareRowsTellsWhatFails(t *testing.T) {
	table := Table{Name: "t", Columns: []Column{{Name: "id"}, {Name: "value"}}, Key: []string{"id"}}
	broken := errors.New("the line is down")
	fails := func(after int) Rows {
		calls := 0
		return func(ctx context.Context, each func(Row) error) error {
			if calls++; calls > after {
				return broken
			}
			return many(3, 'x')(ctx, each)
		}
	}
	for after := range 2 {
		if _, err := CompareRows(t.Context(), RowComparison{Dir: t.TempDir(), Table: table, Before: fails(after), Now: many(3, 'y')}); !errors.Is(err, broken) {
			t.Errorf("before, %d: %v", after, err)
		}
		if _, err := CompareRows(t.Context(), RowComparison{Dir: t.TempDir(), Table: table, Before: many(3, 'y'), Now: fails(after)}); !errors.Is(err, broken) {
			t.Errorf("now, %d: %v", after, err)
		}
	}
	if _, err := CompareRows(t.Context(), RowComparison{Dir: t.TempDir() + "/none", Table: table, Before: many(60_000, 'x'), Now: many(3, 'y')}); err == nil {
		t.Error("there is no folder for the file, and nobody said so")
	}
}

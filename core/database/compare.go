package database

import (
	"context"
	"fmt"
	"slices"
)

// Fate says what happened to a table between two states.
type Fate string

// The fates, as said to people.
const (
	Created Fate = "created"
	Dropped Fate = "dropped"
	Altered Fate = "altered"
	Written Fate = "rows changed"
)

// TableChange is a table that differs between two states.
type TableChange struct {
	Name   string
	Fate   Fate
	Before Table // zero if created
	Now    Table // zero if dropped
}

// CompareTables lists the tables that differ, in the order of their names. Both
// states must carry digests.
func CompareTables(before, now []Table) []TableChange {
	var changes []TableChange
	for _, old := range before {
		i := slices.IndexFunc(now, func(t Table) bool { return t.Name == old.Name })
		switch {
		case i < 0:
			changes = append(changes, TableChange{Name: old.Name, Fate: Dropped, Before: old})
		case now[i].Shape() != old.Shape():
			changes = append(changes, TableChange{Name: old.Name, Fate: Altered, Before: old, Now: now[i]})
		case now[i].Digest != old.Digest || now[i].Rows != old.Rows:
			changes = append(changes, TableChange{Name: old.Name, Fate: Written, Before: old, Now: now[i]})
		}
	}
	for _, new := range now {
		if !slices.ContainsFunc(before, func(t Table) bool { return t.Name == new.Name }) {
			changes = append(changes, TableChange{Name: new.Name, Fate: Created, Now: new})
		}
	}
	slices.SortFunc(changes, func(a, b TableChange) int { return compareNames(a.Name, b.Name) })
	return changes
}

func compareNames(a, b string) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

// RowChanges are the rows in which two states of one table differ. The rows of
// both states have the table's columns in the same order.
type RowChanges struct {
	Added   []Row    // only now
	Removed []Row    // only before
	Changed [][2]Row // before and now, of the same key
}

// Empty tells whether the states are equal.
func (c RowChanges) Empty() bool { return len(c.Added)+len(c.Removed)+len(c.Changed) == 0 }

// CompareRows tells which rows of a table differ. Rows are told apart by the
// table's key; without a key a changed row shows as one removed and one added.
// It holds a hash of every row and all differing rows in memory.
func CompareRows(ctx context.Context, table Table, before, now Rows) (RowChanges, error) {
	key := keyIndexes(table)
	type seen struct {
		row   fingerprint
		times int
	}
	old := map[fingerprint]seen{}
	err := before(ctx, func(row Row) error {
		name := fingerprintOf(pick(row, key))
		one := old[name]
		old[name] = seen{row: fingerprintOf(row), times: one.times + 1}
		return nil
	})
	if err != nil {
		return RowChanges{}, fmt.Errorf("read the earlier rows of %s: %w", table.Name, err)
	}
	var changes RowChanges
	changed := map[fingerprint]Row{}
	err = now(ctx, func(row Row) error {
		name := fingerprintOf(pick(row, key))
		was, had := old[name]
		switch {
		case !had:
			changes.Added = append(changes.Added, row.Clone())
			return nil
		case was.row != fingerprintOf(row):
			changed[name] = row.Clone()
		}
		if was.times--; was.times == 0 {
			delete(old, name)
		} else {
			old[name] = was
		}
		return nil
	})
	if err != nil {
		return RowChanges{}, fmt.Errorf("read the present rows of %s: %w", table.Name, err)
	}
	if len(old) == 0 && len(changed) == 0 {
		return changes, nil
	}
	err = before(ctx, func(row Row) error {
		name := fingerprintOf(pick(row, key))
		if left, ok := old[name]; ok && left.times > 0 {
			changes.Removed = append(changes.Removed, row.Clone())
			left.times--
			old[name] = left
		} else if newer, ok := changed[name]; ok {
			changes.Changed = append(changes.Changed, [2]Row{row.Clone(), newer})
		}
		return nil
	})
	return changes, err
}

func keyIndexes(table Table) []int {
	var key []int
	for _, name := range table.Key {
		key = append(key, slices.IndexFunc(table.Columns, func(c Column) bool { return c.Name == name }))
	}
	return key
}

func pick(row Row, key []int) Row {
	if len(key) == 0 {
		return row
	}
	picked := make(Row, len(key))
	for i, at := range key {
		picked[i] = row[at]
	}
	return picked
}

// Clone copies a row, cells and all.
func (row Row) Clone() Row {
	clone := make(Row, len(row))
	for i, cell := range row {
		clone[i] = Value{Type: cell.Type, Data: slices.Clone(cell.Data)}
	}
	return clone
}

package database

import (
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

// keyIndexes says where the columns of the key stand; nil if rows cannot be told apart by what is
// written of them.
func keyIndexes(table Table) []int {
	var key []int
	for _, name := range table.Key {
		at := slices.IndexFunc(table.Columns, func(c Column) bool { return c.Name == name })
		if at < 0 {
			return nil
		}
		key = append(key, at)
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

package tables

import (
	"context"
	"slices"

	"wetland/core/database"
)

// What only a program writes within seconds: most rows of a table, or of those with a value in common.

// tries counts how often something was so.
type tries struct{ so, all int64 }

func (t *tries) add(so bool) {
	if t.all++; so {
		t.so++
	}
}

// mostly tells whether it nearly always was.
func (t tries) mostly() bool { return t.all > 0 && t.so*10 >= t.all*8 }

// tally counts what happened to rows between two readings.
type tally struct {
	added, removed, changed int64
	columns                 []int64
	kinds                   map[string]*kind
	bulkAdded, bulkRemoved  bool
	emptied                 bool // none is as it was: whatever has an old key got it anew
	bulkChanged             bool
	bulkColumns             map[int]bool
}

// kind is one kind of change, with the columns that it is of.
type kind struct {
	n       int64
	columns []int
}

// group are the rows that have a value in a column.
type group struct {
	column int
	value  uint64
}

// Bounds of what is done in bulk: nobody does it by hand within seconds.
const (
	fewest      = 20 // rows
	mostAliases = 100_000
	mostValues  = 1000 // different values of a column by which rows are grouped
)

// inBulk tells whether so many of a table's rows are what only a program writes.
func inBulk(n, of int64) bool { return n >= fewest && 2*n > of || n == of && n > 1 }

func newTally(columns int) tally {
	return tally{columns: make([]int64, columns), kinds: map[string]*kind{}, bulkColumns: map[int]bool{}}
}

func (t *tally) add(what string, columns []int) {
	switch {
	case what == "":
		return
	case what[0] == 'a':
		t.added++
	case what[0] == 'r':
		t.removed++
	default:
		t.changed++
		for _, i := range columns {
			t.columns[i]++
		}
	}
	if t.kinds[what] == nil {
		t.kinds[what] = &kind{columns: columns}
	}
	t.kinds[what].n++
}

// weigh notes what was done in bulk. Some rows of a small table are all of it also where a visitor changed them: strict
// asks for more, unless none are left.
func (t *tally) weigh(of int64, strict bool) {
	bulk := func(n int64) bool { return inBulk(n, of) && (n >= fewest || !strict) }
	t.bulkRemoved = t.bulkRemoved || inBulk(t.removed, of)
	t.emptied = t.emptied || t.bulkRemoved && t.removed+t.changed >= of
	for i, n := range t.columns {
		t.bulkColumns[i] = t.bulkColumns[i] || bulk(n)
	}
	t.bulkChanged = t.bulkChanged || len(t.bulkOnes()) == 0 && bulk(t.changed)
}

func (t *tally) isRewritten() bool { return t.bulkChanged || len(t.bulkOnes()) > 0 }

func (t *tally) bulkOnes() (columns []int) {
	for i, is := range t.bulkColumns {
		if is {
			columns = append(columns, i)
		}
	}
	return columns
}

// singles adds the kinds of changes that were not made in bulk.
func (t *tally) singles(to map[string]int64) {
	for what, of := range t.kinds {
		inBulk := t.bulkChanged || slices.ContainsFunc(of.columns, func(i int) bool { return t.bulkColumns[i] })
		switch what[0] {
		case 'r':
			inBulk = t.bulkRemoved
		case 'a':
			inBulk = t.bulkAdded
		}
		if !inBulk {
			to[what] += of.n
		}
	}
}

// vote finds the value that most have, if more than half have it (Boyer and Moore's majority vote).
type vote struct {
	value uint64
	lead  int64
}

func (v *vote) add(value uint64) {
	switch {
	case v.lead == 0:
		v.value, v.lead = value, 1
	case v.value == value:
		v.lead++
	default:
		v.lead--
	}
}

// findConstants finds out whether nearly all rows got one value in a column, while the new version settled or after:
// then one that got another was written to by somebody else.
func (w *written) findConstants(ctx context.Context, votes, late []vote) error {
	if !w.first.isRewritten() && !w.then.isRewritten() {
		return nil
	}
	like, lateLike := make([]tries, len(votes)), make([]tries, len(votes))
	count := func(to []tries, votes []vote, from, now database.Row) {
		if _, columns := w.step(from, now); from != nil && now != nil {
			for _, i := range columns {
				to[i].add(hashOf(now, []int{i}) == votes[i].value)
			}
		}
	}
	err := w.each(ctx, func(b, s, n database.Row) error {
		count(like, votes, b, s)
		count(lateLike, late, s, n)
		return nil
	})
	for i := range votes {
		if w.first.bulkColumns[i] && like[i].mostly() {
			w.sameAtOnce[i] = votes[i].value
		}
		if w.then.bulkColumns[i] && lateLike[i].mostly() {
			w.sameLater[i] = late[i].value
		}
	}
	return err
}

// findGroups finds rows with a value in common of which most were rewritten or deleted: all posts of a type, say.
func (w *written) findGroups(ctx context.Context, before database.Rows) error {
	if w.groups == nil {
		w.groups = map[group]map[int]bool{}
	}
	candidate := func(b, s database.Row) (is bool, columns []int) {
		kind, columns := w.step(b, s)
		if b == nil || kind == "" || s == nil && w.first.bulkRemoved || w.first.bulkChanged {
			return false, nil
		}
		columns = slices.DeleteFunc(columns, func(i int) bool { return w.first.bulkColumns[i] })
		return s == nil || len(columns) > 0, columns
	}
	members, touched := map[group]int64{}, map[group]map[int]int64{}
	values := make([]int, len(w.table.Columns))
	err := w.each(ctx, func(b, s, n database.Row) error {
		is, columns := candidate(b, s)
		if !is {
			return nil
		}
		for _, i := range w.rest {
			of := group{i, hashOf(b, []int{i})}
			if values[i] > mostValues {
				continue
			}
			if members[of]++; members[of] == 1 {
				values[i]++
				touched[of] = map[int]int64{}
			}
			for _, c := range columns {
				touched[of][c]++
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	of := map[group]int64{}
	for one, n := range members {
		if n >= fewest && values[one.column] <= mostValues {
			of[one] = 0
		}
	}
	if len(of) == 0 {
		return nil
	}
	err = before(ctx, func(row database.Row) error {
		for _, i := range w.rest {
			one := group{i, hashOf(row, []int{i})}
			if n, is := of[one]; is {
				of[one] = n + 1
			}
		}
		return nil
	})
	for one, all := range of {
		if !inBulk(members[one], all) {
			continue
		}
		w.groups[one] = map[int]bool{}
		for column, n := range touched[one] {
			w.groups[one][column] = 2*n > members[one]
		}
	}
	return err
}

// inGroup tells whether a row was rewritten, in a column, with others that have a value in common; -1: deleted.
func (w *written) inGroup(b database.Row, column int) bool {
	for of, columns := range w.groups {
		if hashOf(b, []int{of.column}) == of.value && (columns[column] || column < 0 && len(columns) == 0) {
			return true
		}
	}
	return false
}

package tables

import (
	"context"
	"fmt"
	"hash/maphash"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"wetland/core/database"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site/cms"
)

// written is a table that somebody wrote to, and what that tells of who it was: see docs/going-back.md.
type written struct {
	s            *session.Session
	table        database.Table // in the columns that all of its states have
	key          []int
	rest         []int // the other columns
	settledKnown bool
	rows         *database.RowChanges // from right before the swap to now, with how they were once it had settled
	copied       *Doing               // what the update did on a private copy; nil: it was not tried there
	counted      []int                // columns that the CMS counts by itself
	name         int                  // the first column of texts, by which settings are told apart; -1: there is none

	// stored tells of rows that a release of the CMS stored in a form of its own; nil: none does.
	stored func(before, now database.Row) bool

	settings  bool              // its rows are settings
	lively    bool              // visitors write to it at other times, too
	restyled  bool              // the update changed its structure
	alone     bool              // nobody but the update could write while it settled
	again     bool              // what is found now comes after a change of ours
	rebuilt   bool              // that made the table anew
	tried     bool              // some of what is to go back may be back
	put       map[string]uint64 // then: what that is, by its key
	tied      bool              // rows that need a new key cannot have one
	before    database.State
	unread    bool // right before the swap: before is the snapshot's
	now       database.Table
	compared  database.RowComparison
	said      *runs.TableNote // what goes back, as it was planned at first
	undecided int             // rows that are in the run as such
	unseen    []string        // keys of aliases whose own rows did not change

	total      int64                  // rows before
	gone       int64                  // of those that are not there now
	first      tally                  // while the new version settled
	then       tally                  // after that
	single     map[string]int64       // changes outside of the time in which the new version settled, by their kind
	most       map[string]int64       // and those within
	groups     map[group]map[int]bool // rows with a value in common, rewritten or deleted in bulk, and in which columns
	doubles    map[uint64]int64       // what rows hold beside their key that are there twice, and the key of the other
	twins      map[uint64]int64       // the lowest keys of rows that came meanwhile and were doubled, too
	moved      map[uint64]bool        // and of rows that are in another table, too, from which most were taken
	apart      *int64                 // how far the first one's other key lies from its own; nil: keys are no numbers
	aliases    map[string]*alias      // rows that got another key, or a double, by their key before
	aliasKeys  map[string]bool
	shapes     map[string]bool // of names of settings that visitors make
	sameAtOnce map[int]uint64  // the value that most rows got in a column that was rewritten in bulk
	sameLater  map[int]uint64  // and after the new version had settled
	likeCopy   []tries         // for each column, of the cells that the copy changed from the same: which became the same
}

var seed = maphash.MakeSeed()

// hashOf sums up some cells of a row.
func hashOf(row database.Row, columns []int) uint64 {
	var encoded []byte
	for _, i := range columns {
		encoded = database.AppendRow(encoded, row[i:i+1])
	}
	return maphash.Bytes(seed, encoded)
}

func (w *written) keyOf(row database.Row) string {
	var encoded []byte
	for _, i := range w.key {
		encoded = database.AppendRow(encoded, row[i:i+1])
	}
	return string(encoded)
}

// step is what happened to a row: added "a", removed "r", changed "c" with its columns; "" is nothing.
func (w *written) step(from, to database.Row) (kind string, columns []int) {
	switch {
	case from == nil && to == nil:
		return "", nil
	case from == nil:
		return "a" + w.nameOf(to), nil
	case to == nil:
		return "r" + w.nameOf(from), nil
	}
	for i := range from {
		if !sameCell(from[i], to[i]) {
			columns = append(columns, i)
		}
	}
	if columns == nil {
		return "", nil
	}
	return w.changeOf(from, columns...), columns
}

// changeOf is the kind of a change of some columns.
func (w *written) changeOf(from database.Row, columns ...int) string {
	return fmt.Sprint("c", columns, w.nameOf(from))
}

// variable is the part of a setting's name that is another one each time: a number, or a hash.
var variable = regexp.MustCompile(`[0-9a-fA-F]{8,}|[0-9]+`)

// nameOf is the name of a setting, without what is another one each time; "" of what is none. One setting tells nothing
// of another.
func (w *written) nameOf(row database.Row) string {
	if !w.settings || w.name < 0 {
		return ""
	}
	return variable.ReplaceAllString(row[w.name].String(), "#")
}

// each visits the rows that somebody else than the CMS by itself wrote. settled is as now where nobody knows it.
func (w *written) each(ctx context.Context, visit func(b, s, n database.Row) error) error {
	return w.rows.Each(ctx, func(change database.RowChange) error {
		if w.isOwn(change) {
			return nil
		}
		s := change.Also
		if !w.settledKnown {
			s = change.Now
		}
		return visit(change.Before, s, change.Now)
	})
}

// isOwn tells of rows that the CMS rewrites by itself; where nobody else could write, only those of its jobs.
func (w *written) isOwn(change database.RowChange) bool {
	row := StateBefore(change)
	return w.s.Site.CMS.RewrittenByItself(w.table, row) && (!w.alone || !w.isMadeAnew(row))
}

// isMadeAnew tells of rows that the CMS makes by itself of others: they belong to a release of it.
func (w *written) isMadeAnew(row database.Row) bool {
	core, can := w.s.Site.CMS.(cms.Replaceable)
	return can && core.MadeAnew(w.table, row)
}

// examine counts what was done to a table's rows. before gives them as they were right before the swap.
func (w *written) examine(ctx context.Context, before database.Rows) error {
	then := newTally(len(w.table.Columns))
	if !w.again && w.then.kinds != nil { // what was found before a visitor was faster stays
		then.bulkAdded, then.bulkRemoved, then.emptied = w.then.bulkAdded, w.then.bulkRemoved, w.then.emptied
		then.bulkChanged, then.bulkColumns = w.then.bulkChanged, w.then.bulkColumns
	}
	w.then = then
	if w.first.kinds == nil {
		w.first, w.sameAtOnce, w.sameLater = newTally(len(w.table.Columns)), map[int]uint64{}, map[int]uint64{}
	}
	if w.single == nil {
		w.single = map[string]int64{}
	}
	if !w.again { // it is counted anew; what was found before stays
		w.first.added, w.first.removed, w.first.changed = 0, 0, 0
		w.first.columns, w.first.kinds = make([]int64, len(w.table.Columns)), map[string]*kind{}
	}
	w.gone = 0
	var added, late []addition
	votes, lateVotes := make([]vote, len(w.table.Columns)), make([]vote, len(w.table.Columns))
	if !w.again && !w.tried { // else most of it is back already
		w.likeCopy = make([]tries, len(w.table.Columns))
	}
	err := w.each(ctx, func(b, s, n database.Row) error {
		kind, columns := w.step(b, s)
		w.first.add(kind, columns)
		if strings.HasPrefix(kind, "a") && len(added) < mostAtOnce {
			added = append(added, addition{hashOf(s, w.rest), w.number(s)})
		}
		for _, i := range columns {
			votes[i].add(hashOf(s, []int{i}))
			if known, same := w.copied.made(w, b, s, i); known && !w.again && !w.tried {
				w.likeCopy[i].add(same)
			}
		}
		if n == nil {
			w.gone++
		}
		if b == nil && s == nil && len(late) < mostAtOnce {
			late = append(late, addition{hashOf(n, w.rest), w.number(n)})
		}
		kind, columns = w.step(s, n)
		w.then.add(kind, columns)
		for _, i := range columns {
			lateVotes[i].add(hashOf(n, []int{i}))
		}
		return nil
	})
	if err != nil || w.again {
		w.then.weigh(w.total, true)
		return err
	}
	if w.most == nil {
		w.most = map[string]int64{}
	}
	for what, of := range w.first.kinds {
		w.most[what] = max(w.most[what], of.n)
	}
	w.first.weigh(w.total, !w.settledKnown && !w.alone)
	w.then.weigh(w.total, true)
	w.aliases, w.aliasKeys = map[string]*alias{}, map[string]bool{}
	if err := w.findDoubles(ctx, before, added, &w.first.bulkAdded); err != nil {
		return err
	}
	if err := w.findDoubles(ctx, w.withTheirs(before), late, &w.then.bulkAdded); err != nil {
		return err
	}
	w.then.singles(w.single)
	w.lively = w.lively || len(w.single) > 0 || w.first.added > 0
	if err := w.findConstants(ctx, votes, lateVotes); err != nil {
		return err
	}
	if err := w.findShapes(ctx, before); err != nil {
		return err
	}
	return w.findGroups(ctx, before)
}

// isAnother tells whether two rows of one key have so little in common that they are two.
func (w *written) isAnother(a, b database.Row) bool {
	differ, filled := 0, 0
	for _, i := range w.rest {
		if a[i].Type == database.Null && b[i].Type == database.Null {
			continue
		}
		filled++
		if !sameCell(a[i], b[i]) {
			differ++
		}
	}
	return 2*differ > filled
}

// isAnew tells whether a row was added under the key of an old one. One that may have been put back already, and
// changed since, must look like another one.
func (w *written) isAnew(in tally, old, row database.Row) bool {
	_, back := w.put[w.keyOf(row)]
	return in.emptied && !back || w.isAnother(old, row)
}

// notePut notes what an attempt may have put back, before a visitor was faster with some of it.
func (w *written) notePut(ctx context.Context) error {
	w.tried = true
	if w.put == nil {
		w.put = map[string]uint64{}
	}
	return w.eachOutcome(ctx, func(_, n database.Row, o outcome) error {
		if o.row != nil && !o.doubt && !sameRow(o.row, n) && len(w.put) < mostAtOnce {
			w.put[w.keyOf(o.row)] = w.wholeHash(o.row)
		}
		return nil
	})
}

func (w *written) wholeHash(row database.Row) uint64 {
	return maphash.Bytes(seed, database.AppendRow(nil, row))
}

// isPut tells of a row as it was put back: nobody wrote to it since.
func (w *written) isPut(row database.Row) bool {
	if row == nil || len(w.put) == 0 {
		return false
	}
	as, back := w.put[w.keyOf(row)]
	return back && as == w.wholeHash(row)
}

// findShapes finds the names of settings of which there are many, or that came outside of the time in which the new
// version settled: visitors make those.
func (w *written) findShapes(ctx context.Context, before database.Rows) error {
	if w.shapes == nil {
		w.shapes = map[string]bool{}
	}
	if !w.settings || w.name < 0 {
		return nil
	}
	wanted := map[string]int{}
	for kind := range w.first.kinds {
		if kind[0] == 'a' && strings.Contains(kind, "#") {
			wanted[kind[1:]] = 0
			w.shapes[kind[1:]] = w.shapes[kind[1:]] || w.single[kind] > 0
		}
	}
	if len(wanted) == 0 {
		return nil
	}
	return before(ctx, func(row database.Row) error {
		shape := w.nameOf(row)
		if n, is := wanted[shape]; is {
			wanted[shape] = n + 1
			w.shapes[shape] = w.shapes[shape] || n+1 >= fewShapes
		}
		return nil
	})
}

// fewShapes is how many settings of one kind of name are no coincidence.
const fewShapes = 3

// outcome is what becomes of a row.
type outcome struct {
	row    database.Row // nil: it is not there
	fresh  database.Row // a visitor's that comes beside it, under a new key
	theirs bool         // visitors wrote to it
	doubt  bool         // nobody can tell who wrote some of its cells: they are as now
	old    database.Row // then: the row with those cells as they were before
}

// outcome decides, from how a row was right before the swap, once the new version had settled, and now.
func (w *written) outcome(b, s, n database.Row) outcome {
	if w.again && !w.rebuilt {
		return w.since(b, s, n)
	}
	if w.isPut(n) { // that was decided already; but its other self may be there still
		row := w.overAlias(n, b)
		return outcome{row: row, theirs: !sameRow(row, b)}
	}
	o := w.settled(b, s)
	switch {
	case w.alone && w.isMadeAnew(StateBefore(database.RowChange{Before: b, Now: n})):
		return outcome{row: b}
	case w.stored != nil && b != nil && n != nil && w.stored(b, n):
		return outcome{row: b}
	case sameRow(s, n):
		return o
	case n == nil:
		switch {
		case o.fresh != nil: // it was a visitor's own row that went
			o.fresh = nil
		case !w.then.bulkRemoved:
			return outcome{theirs: true}
		}
		return o
	case s == nil && b == nil && w.then.bulkAdded && (w.isDoubled(hashOf(n, w.rest)) || w.aliasKeys[w.keyOf(n)]):
		return outcome{}
	case s == nil:
		switch {
		case o.doubt && !w.isAnother(b, n): // it was only away for a while
			return outcome{row: n, theirs: true}
		case o.row == nil || !w.isAnew(w.first, o.row, n):
			o.row = n
		default:
			o.fresh = n
		}
		o.theirs = true
		return o
	case o.fresh != nil:
		o.fresh = n
		return o
	case w.then.bulkRemoved && o.row != nil && w.isAnew(w.then, s, n): // and the key given again
		o.fresh, o.theirs = n, true
		return o
	case o.row == nil && b == nil:
		if !w.aliasKeys[w.keyOf(n)] {
			o.row, o.theirs = n, true
		}
		return o
	case o.row == nil:
		o.row, o.theirs = n, true
		return o
	}
	return w.changedSince(o, b, s, n)
}

// since decides of a row that differs again after it was put back: the new version may have done once more what it did,
// for its code stays compiled for a while. All else is visitors'.
func (w *written) since(b, s, n database.Row) outcome {
	switch {
	case !sameRow(s, n), n == nil && !w.settings && !inBulk(w.gone, w.total):
		return outcome{row: n, theirs: true}
	}
	if o := w.settled(b, s); !o.doubt {
		return o
	}
	return outcome{row: n}
}

// changedSince puts what was changed after the new version had settled over what a row is to be.
func (w *written) changedSince(o outcome, b, s, n database.Row) outcome {
	o.old = slices.Clone(o.old)
	if o.old == nil {
		o.old = slices.Clone(o.row)
	}
	o.row = slices.Clone(o.row)
	for i := range n {
		constant, is := w.sameLater[i]
		theirs := is && hashOf(n, []int{i}) != constant
		if sameCell(s[i], n[i]) || !theirs && (w.then.bulkColumns[i] || w.then.bulkChanged) {
			continue
		}
		o.row[i], o.theirs = n[i], true
		if w.settings && b != nil && !sameCell(b[i], s[i]) && !grows(b[i], s[i], n[i]) {
			o.doubt = true // both may have written it
		} else {
			o.old[i] = n[i]
		}
	}
	return o
}

// grows tells of a number that only goes up: a counter, and those are visitors'.
func grows(b, s, n database.Value) bool {
	x, err1 := strconv.ParseInt(b.String(), 10, 64)
	y, err2 := strconv.ParseInt(s.String(), 10, 64)
	z, err3 := strconv.ParseInt(n.String(), 10, 64)
	return err1 == nil && err2 == nil && err3 == nil && x < y && y < z
}

// settled decides of what happened to a row while the new version settled.
func (w *written) settled(b, s database.Row) outcome {
	kind, columns := w.step(b, s)
	switch {
	case kind == "":
		return outcome{row: w.withAlias(b)}
	case w.alone:
		return outcome{row: b}
	case b == nil:
		hash := hashOf(s, w.rest)
		if w.isDoubled(hash) || w.isTwin(s, hash) || w.moved[hash] || w.aliasKeys[w.keyOf(s)] || w.copied.added(w, s, hash) {
			return outcome{}
		}
		if w.settings && w.copied == nil && !w.shapes[kind[1:]] {
			return outcome{}
		}
		return outcome{row: s, theirs: true}
	case s == nil:
		switch {
		case w.first.bulkRemoved || w.inGroup(b, -1), w.copied.removed(w, b):
			return outcome{row: w.withAlias(b)}
		case w.copied != nil || w.isUsual(kind):
			return outcome{theirs: true}
		case w.settings, w.isQuiet():
			return outcome{row: b}
		}
		return outcome{doubt: true, old: b}
	case w.first.bulkRemoved && w.isAnew(w.first, b, s):
		return outcome{row: b, fresh: s, theirs: true}
	}
	return w.changedWhile(b, s, kind, columns)
}

// changedWhile decides of a row that was changed while the new version settled.
func (w *written) changedWhile(b, s database.Row, kind string, columns []int) outcome {
	was := w.withAlias(b)
	o := outcome{row: slices.Clone(was), old: slices.Clone(was)}
	for _, i := range columns {
		switch {
		case sameCell(was[i], s[i]): // visitors wrote it to its other self, too
			o.theirs = true
		case w.isTheirValue(b, s, i):
			o.row[i], o.old[i], o.theirs = s[i], s[i], true
		case w.first.bulkColumns[i], w.first.bulkChanged, w.inGroup(b, i), w.copied.changed(w, b, i):
		case w.copied != nil || slices.Contains(w.counted, i) || w.isUsual(kind) || w.isUsual(w.changeOf(b, i)):
			o.row[i], o.old[i], o.theirs = s[i], s[i], true
		case w.settings, w.isQuiet():
		default:
			o.row[i], o.doubt = s[i], true
		}
	}
	return o
}

// isTheirValue tells whether a cell that the update rewrote, too, has what somebody else wrote: nearly all rows got one
// value, and this one another; or nearly all became what they became on the private copy, but not this one, from the
// same.
func (w *written) isTheirValue(b, s database.Row, column int) bool {
	if known, like := w.copied.made(w, b, s, column); known && w.likeCopy[column].mostly() {
		return !like
	}
	same, constant := w.sameAtOnce[column]
	return w.first.bulkColumns[column] && constant && hashOf(s, []int{column}) != same
}

// muchMore is how many times as often a change may be made while the new version settles, and still be usual.
const muchMore = 4

// isUsual tells whether visitors make such changes, one by one, also when nothing settles. In a table whose structure
// the update changed, once is no custom.
func (w *written) isUsual(kind string) bool {
	n := w.single[kind]
	return (n > 1 || n == 1 && !w.restyled) && w.most[kind] <= muchMore*n
}

// isQuiet tells of a table whose structure the update changed, and to which nobody wrote at any other time: whatever
// else changed in it just then, the update did.
func (w *written) isQuiet() bool { return w.restyled && !w.lively }

func sameRow(a, b database.Row) bool {
	return (a == nil) == (b == nil) && slices.EqualFunc(a, b, sameCell)
}

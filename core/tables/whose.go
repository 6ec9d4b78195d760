package tables

import (
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"maps"
	"math"
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

// alias is a row that the update gave another key, or doubled, with what visitors made of it since.
type alias struct{ before, now database.Row }

// Bounds of what is done in bulk: nobody does it by hand within seconds.
const (
	fewest      = 20 // rows
	mostAliases = 100_000
	mostValues  = 1000 // different values of a column by which rows are grouped
)

// inBulk tells whether so many of a table's rows are what only a program writes.
func inBulk(n, of int64) bool { return n >= fewest && 2*n > of || n == of && n > 1 }

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

// addition is a row that was added: what it holds beside its key, and its key, if that is a number.
type addition struct {
	hash uint64
	key  int64
}

const noNumber = -1 << 63

func (w *written) number(row database.Row) int64 {
	if len(w.key) != 1 {
		return noNumber
	}
	n, err := strconv.ParseInt(row[w.key[0]].String(), 10, 64)
	if err != nil {
		return noNumber
	}
	return n
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

// findConstants finds out whether nearly all rows got one value in a column, while the new version settled or after: then
// one that got another was written to by somebody else.
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

// findDoubles finds rows that were added in bulk and hold, but for their key, what others held before; and, where their
// keys follow a rule, the rows among those that visitors changed since.
func (w *written) findDoubles(ctx context.Context, before database.Rows, added []addition, bulk *bool) error {
	if w.doubles == nil {
		w.doubles = map[uint64]int64{}
	}
	if *bulk { // found before a visitor was faster
		return w.findAliases(ctx, before)
	}
	if len(w.rest) == 0 || !inBulk(int64(len(added)), w.total) && int64(len(added)) < w.total {
		return nil
	}
	keys := make(map[uint64]int64, len(added))
	for _, one := range added {
		keys[one.hash] = one.key
	}
	var apart *int64
	count, found := int64(0), map[uint64]int64{}
	err := before(ctx, func(row database.Row) error {
		hash := hashOf(row, w.rest)
		key, is := keys[hash]
		if !is {
			return nil
		}
		count++
		found[hash] = key
		if own := w.number(row); apart == nil && own != noNumber && key != noNumber {
			distance := key - own
			apart = &distance
		}
		return nil
	})
	if err != nil {
		return err
	}
	if *bulk = *bulk || inBulk(count, w.total); !*bulk {
		return nil
	}
	maps.Copy(w.doubles, found)
	w.findTwins(added)
	w.apart = apart
	return w.findAliases(ctx, before)
}

// findTwins finds rows that came while all were doubled, and were doubled, too: the one with the lowest key is whose
// others are doubles.
func (w *written) findTwins(added []addition) {
	if w.twins == nil {
		w.twins = map[uint64]int64{}
	}
	times := map[uint64]int{}
	for _, one := range added {
		if times[one.hash]++; times[one.hash] == 1 || one.key < w.twins[one.hash] {
			w.twins[one.hash] = one.key
		}
	}
	maps.DeleteFunc(w.twins, func(hash uint64, _ int64) bool { return times[hash] < 2 || w.isDoubled(hash) })
}

// isTwin tells whether a row that was added is the double of another such row.
func (w *written) isTwin(row database.Row, hash uint64) bool {
	first, is := w.twins[hash]
	return is && w.number(row) != first
}

// withTheirs gives the rows that were there before, and those that came while the new version settled.
func (w *written) withTheirs(before database.Rows) database.Rows {
	return func(ctx context.Context, each func(database.Row) error) error {
		return errors.Join(before(ctx, each), w.each(ctx, func(b, s, _ database.Row) error {
			if b == nil && s != nil {
				return each(s)
			}
			return nil
		}))
	}
}

// isDoubled tells whether there are two rows that hold this beside their key.
func (w *written) isDoubled(hash uint64) bool {
	_, is := w.doubles[hash]
	return is
}

// candidate is a row that may be another's other self, as a visitor changed it.
type candidate struct {
	now     database.Row
	settled uint64 // what it held beside its key once the new version had settled; 0: it was not there
}

// findAliases finds rows that got another key, or a double, and that visitors changed since. Keys are given in the order
// of the rows: the other self of a row lies between those of its neighbours, or as far from its own as the one before.
func (w *written) findAliases(ctx context.Context, before database.Rows) error {
	if w.apart == nil {
		return nil
	}
	changed := map[int64]candidate{}
	err := w.each(ctx, func(b, s, n database.Row) error {
		if b != nil || n == nil || len(changed) >= mostAliases || w.isDoubled(hashOf(n, w.rest)) {
			return nil
		}
		one := candidate{now: n.Clone()}
		if s != nil {
			one.settled = hashOf(s, w.rest)
		}
		changed[w.number(n)] = one
		return nil
	})
	if err != nil || len(changed) == 0 {
		return err
	}
	keys := slices.Sorted(maps.Keys(changed))
	apart, last := *w.apart, int64(noNumber)
	var pending []database.Row // rows whose other self is not as they were
	match := func(until int64) {
		from, _ := slices.BinarySearch(keys, last+1)
		to, _ := slices.BinarySearch(keys, until)
		ranked := last != noNumber && to-from == len(pending)
		for i, row := range pending {
			other := w.number(row) + apart
			if ranked {
				other = keys[from+i]
			}
			if one, is := changed[other]; is && !w.isAnother(row, one.now) {
				w.noteAlias(row, one.now)
			}
		}
		pending = pending[:0]
	}
	err = before(ctx, func(row database.Row) error {
		own, number := hashOf(row, w.rest), w.number(row)
		other, doubled := w.doubles[own]
		switch {
		case number == noNumber:
		case !doubled && len(pending) < mostValues:
			pending = append(pending, row.Clone())
		case doubled && other != noNumber:
			match(other)
			apart, last = other-number, other
			if one := changed[other]; one.settled == own {
				w.noteAlias(row, one.now)
			}
		}
		return nil
	})
	match(math.MaxInt64)
	return err
}

func (w *written) noteAlias(row, now database.Row) {
	w.aliases[w.keyOf(row)] = &alias{row.Clone(), now}
	w.aliasKeys[w.keyOf(now)] = true
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

// isAnew tells whether a row was added under the key of an old one. One that may have been put back already, and changed
// since, must look like another one.
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

// withAlias puts what visitors made of a row's other self over it.
func (w *written) withAlias(b database.Row) database.Row {
	return w.overAlias(b, b)
}

func (w *written) overAlias(row, b database.Row) database.Row {
	if b == nil || len(w.aliases) == 0 {
		return row
	}
	other := w.aliases[w.keyOf(b)]
	if other == nil {
		return row
	}
	row = slices.Clone(row)
	for _, i := range w.rest {
		row[i] = other.now[i]
	}
	return row
}

func sameRow(a, b database.Row) bool {
	return (a == nil) == (b == nil) && slices.EqualFunc(a, b, sameCell)
}

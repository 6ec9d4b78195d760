package tables

import (
	"context"
	"errors"
	"maps"
	"math"
	"slices"
	"strconv"

	"wetland/core/database"
)

// Rows that got another key, or a double, and what visitors made of these.

// alias is a row that the update gave another key, or doubled, with what visitors made of it since.
type alias struct{ before, now database.Row }

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

// findAliases finds rows that got another key, or a double, and that visitors changed since. Keys are given in the
// order of the rows: the other self of a row lies between those of its neighbours, or as far from its own as the one
// before.
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

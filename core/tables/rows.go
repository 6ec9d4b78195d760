package tables

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"wetland/core/database"
	"wetland/core/phrase"
	"wetland/core/runs"
	"wetland/core/site/cms"
)

// planAltered plans for a table whose structure the update changed: it is made anew, and what visitors wrote goes over
// its rows, in the columns that both forms have.
func (r *Readings) planAltered(
	ctx context.Context, plan *Plan, differ database.TableChange, moment database.Moment,
) (*written, error) {
	before := r.replace(ctx, plan, differ.Name, "was changed in structure by the update: back as it was,")
	plan.Save = append(plan.Save, differ.Now)
	if r.s.Site.CMS.Purpose(differ.Name) == cms.Volatile {
		return nil, nil
	}
	if !slices.Equal(before.Table.Key, differ.Now.Key) || len(sharedOf(before.Table, differ.Now).Key) == 0 {
		plan.notes = append(plan.notes, runs.TableNote{Table: differ.Name, Unsure: true,
			What: "which rows visitors wrote meanwhile cannot be told, for its key changed: look at the saved rows"})
		return nil, nil
	}
	return r.compare(ctx, differ, moment)
}

// keepOver gives what visitors wrote to a table that is made anew.
func (w *written) keepOver(ctx context.Context) (kept []KeptRows, err error) {
	old := w.before.Table
	added, removed, fresh := []database.Row{}, []database.Row{}, []database.Row{}
	changed := map[string]database.Row{}
	total := 0
	err = w.rows.Each(ctx, func(change database.RowChange) error {
		if w.isOwn(change) {
			return nil
		}
		b, o := change.Before, w.outcomeOf(change)
		if o.fresh != nil {
			fresh = append(fresh, o.fresh)
		}
		switch {
		case b == nil && o.row != nil:
			added = append(added, o.row)
		case b != nil && o.row == nil:
			removed = append(removed, b)
		case b != nil && !sameRow(b, o.row):
			changed[w.keyOf(b)] = slices.Clone(o.row)
		}
		if total++; total > mostAliases {
			return fmt.Errorf("visitors wrote more than %d rows to the table %s while its structure was another: that many"+
				" are not put over its rows. All of them are in the run's rows-before-going-back", mostAliases, w.table.Name)
		}
		return nil
	})
	for _, key := range w.unseen {
		changed[key] = w.withAlias(w.aliases[key].before)
	}
	if err != nil {
		return nil, err
	}
	keep := func(patch database.Patch, n int) {
		if n > 0 {
			kept = append(kept, KeptRows{patch, int64(n)})
		}
	}
	keep(database.Patch{Table: w.table, Put: database.RowsOf(added)}, len(added))
	keep(database.Patch{Table: w.table, Remove: database.RowsOf(removed)}, len(removed))
	keep(database.Patch{Table: w.table, Add: database.RowsOf(fresh)}, len(fresh))
	keep(database.Patch{Table: old, Put: func(ctx context.Context, each func(database.Row) error) error {
		return w.eachWhole(ctx, changed, func(row, to database.Row) error { return each(w.over(row, to)) })
	}}, len(changed))
	return kept, nil
}

// planKeyless plans for a table whose rows cannot be told apart: all of it goes back where most of it was deleted or
// doubled, and rows that came since come along.
func (r *Readings) planKeyless(
	ctx context.Context, plan *Plan, differ database.TableChange, moment database.Moment,
) error {
	before, _ := r.beforeOf(ctx, differ.Name)
	if sameRows(before.Table, differ.Now) {
		return nil
	}
	now := database.Rows(func(ctx context.Context, each func(database.Row) error) error {
		return moment.Rows(ctx, differ.Now, each)
	})
	between := now // how it was once the new version had settled
	if settled, there, known := r.settledOf(ctx, differ.Name); known && there {
		between = settled.Rows
	}
	compare := func(from, to database.Rows) (*database.RowChanges, error) {
		return CompareRows(ctx, r.s, database.RowComparison{Table: before.Table, Before: from, Now: to})
	}
	first, err := compare(before.Rows, between)
	if err != nil {
		return err
	}
	then, err := compare(between, now)
	if err != nil {
		return err
	}
	total, was := before.Table.Rows, r.known[differ.Name]
	rebuilt := was != nil && was.rebuilt
	doubled := first.Added >= total && inBulk(first.Added, total)
	if !rebuilt && (inBulk(first.Removed, total) || inBulk(then.Removed, total) || doubled) {
		return r.replaceKeyless(ctx, plan, before, then)
	}
	if first.Removed > 0 && !rebuilt {
		gone := func(ctx context.Context, each func(b, n database.Row) error) error {
			return first.Each(ctx, func(change database.RowChange) error { return each(change.Before, change.Now) })
		}
		plan.doubts = append(plan.doubts, Doubt{Table: before.Table, Rows: int(first.Removed), each: gone})
	}
	plan.note(differ.Name, true, "%s meanwhile: visitors' writes, left as they are",
		rowWords(first.Added+then.Added, 0, then.Removed))
	return nil
}

// replaceKeyless has such a table made anew, with what came after the new version had settled.
func (r *Readings) replaceKeyless(
	ctx context.Context, plan *Plan, before database.State, since *database.RowChanges,
) error {
	target := func(ctx context.Context, each func(database.Row) error) error {
		if err := before.Rows(ctx, each); err != nil {
			return err
		}
		return since.Each(ctx, func(change database.RowChange) error {
			if change.Before != nil || since.Added >= before.Table.Rows {
				return nil
			}
			return each(change.Now)
		})
	}
	table := before.Table
	var digest database.Digest
	if err := target(ctx, func(row database.Row) error { digest.Add(row); return nil }); err != nil {
		return err
	}
	table.Rows, table.Digest = digest.Rows(), digest.String()
	plan.Change.Replace = append(plan.Change.Replace, database.Replacement{Table: table, Rows: target})
	plan.Save = append(plan.Save, table)
	plan.note(table.Name, false, "was emptied or doubled in bulk: back with %s", phrase.Plural(int(table.Rows), "row"))
	return nil
}

// findMoved finds rows that were added in bulk to a table, and are those that were taken out of another one.
func findMoved(ctx context.Context, all []*written) error {
	for _, to := range all {
		if to.again || to.first.bulkAdded || to.first.added < fewest || 2*to.first.added <= to.total {
			continue
		}
		var came map[uint64]bool
		for _, from := range all {
			if from == to || !from.first.bulkRemoved && !from.then.bulkRemoved || !sameColumns(from.table, to.table) {
				continue
			}
			if came == nil {
				came = map[uint64]bool{}
				if err := to.each(ctx, func(b, s, _ database.Row) error {
					if b == nil && s != nil {
						came[hashOf(s, to.rest)] = true
					}
					return nil
				}); err != nil {
					return err
				}
			}
			moved := map[uint64]bool{}
			err := from.each(ctx, func(b, s, n database.Row) error {
				if b == nil || s != nil && n != nil && !from.isAnother(b, s) && !from.isAnother(b, n) {
					return nil
				}
				if hash := hashOf(b, from.rest); came[hash] {
					moved[hash] = true
				}
				return nil
			})
			if err != nil {
				return err
			}
			if int64(len(moved))*2 > to.first.added {
				to.moved = moved
			}
		}
	}
	return nil
}

func sameColumns(a, b database.Table) bool {
	return slices.Equal(a.Columns, b.Columns) && slices.Equal(a.Key, b.Key)
}

// generic are the beginnings of the names of columns that name rows of any table.
var generic = []string{"", "object", "item", "parent", "ref", "entity", "record", "row"}

var idColumn = regexp.MustCompile(`(?i)^(.*?)_?id$`)

// mayName tells whether a column can hold keys of a table: as its name says.
func mayName(column string, of database.Table) bool {
	if slices.Contains(of.Key, column) {
		return true
	}
	found := idColumn.FindStringSubmatch(column)
	if found == nil {
		return false
	}
	stem := strings.ToLower(found[1])
	return slices.Contains(generic, stem) || len(stem) > 2 && strings.Contains(strings.ToLower(of.Name), stem)
}

// findNamed finds rows of visitors that need a new key, and that others which visitors wrote name by the one that they
// have: nobody may give them another.
func findNamed(ctx context.Context, all []*written) error {
	for _, w := range all {
		w.tied = false
		keys := map[string]bool{}
		if err := w.eachOutcome(ctx, func(_, n database.Row, o outcome) error {
			if o.fresh != nil && len(w.key) == 1 {
				keys[o.fresh[w.key[0]].String()] = true
			}
			return nil
		}); err != nil {
			return err
		}
		w.tied = len(keys) > 0 && !w.table.FreshKeys()
		for _, other := range all {
			if len(keys) == 0 || other == w && len(w.rest) == 0 {
				continue
			}
			var columns []int
			for i, column := range other.table.Columns {
				own := slices.Contains(other.key, i) && (other == w || len(other.key) == 1)
				if !own && mayName(column.Name, w.table) {
					columns = append(columns, i)
				}
			}
			err := other.eachOutcome(ctx, func(b, _ database.Row, o outcome) error {
				for _, row := range []database.Row{o.row, o.fresh} {
					if row == nil || !o.theirs {
						continue
					}
					for _, i := range columns {
						w.tied = w.tied || keys[row[i].String()] && (b == nil || !sameCell(b[i], row[i]))
					}
				}
				return nil
			})
			if err != nil {
				return err
			}
		}
	}
	return nil
}

func (w *written) eachOutcome(ctx context.Context, visit func(b, n database.Row, o outcome) error) error {
	return w.rows.Each(ctx, func(change database.RowChange) error {
		if w.isOwn(change) {
			return nil
		}
		return visit(change.Before, change.Now, w.outcomeOf(change))
	})
}

package update

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"wetland/core/database"
	"wetland/core/site/cms"
	"wetland/core/snapshot"
)

// Which rows visitors wrote is told by three states where they exist: before the update
// (the wanted snapshot), after it had settled (the snapshot that the update took then),
// and now. What changed from the second to the third is the visitors'. Without the
// second, all that changed since the first counts as theirs.

// planNewRows says what was written to a table since, and would be lost, and plans to
// keep it where that is wanted.
func (r *restoration) planNewRows(ctx context.Context, table snapshot.Table, differ database.TableChange) error {
	purpose := r.site.CMS.Purpose(table.Name)
	if table.Kind != database.BaseTable || differ.Fate == database.Dropped || purpose == cms.Settings || purpose == cms.Volatile {
		return nil
	}
	theirs, err := r.writtenSince(ctx, table, differ.Now)
	if err != nil {
		return err
	}
	note := TableNote{Table: table.Name, Left: r.options.KeepNew}
	switch {
	case theirs == nil:
		note.What = fmt.Sprintf("its structure changed: which rows were written since cannot be told; all of them are in %s", r.before.Name)
		note.Left, note.Unsure = false, true
	case theirs.empty():
		return nil
	case !r.options.KeepNew:
		note.What = lostWords(theirs, r.before.Name)
	default:
		note.What = theirs.words() + " since: stays"
		r.kept[table.Name] = fitIn(table, theirs)
	}
	r.plan.Newer = append(r.plan.Newer, note)
	// What people wrote comes first, then plugins' tables.
	slices.SortStableFunc(r.plan.Newer, func(a, b TableNote) int {
		return r.rankOf(a.Table) - r.rankOf(b.Table)
	})
	return nil
}

func (r *restoration) rankOf(table string) int {
	if r.site.CMS.Purpose(table) == cms.Visitors {
		return 0
	}
	return 1
}

// written is what visitors wrote to a table: rows that they added, from one comparison, and
// rows that they changed or removed, from the same or from another one.
type written struct {
	added, changed *database.RowChanges // nil: none
	table          database.Table       // that the rows are of, in its columns
	removedToo     bool                 // what they removed is told as well
}

func (w *written) counts() (added, changed, removed int64) {
	if w.added != nil {
		added = w.added.Added
	}
	if w.changed != nil {
		changed = w.changed.Changed
	}
	if w.changed != nil && w.removedToo {
		removed = w.changed.Removed
	}
	return added, changed, removed
}

func (w *written) empty() bool { return w.words() == "" }

func (w *written) words() string {
	added, changed, removed := w.counts()
	var parts []string
	for _, part := range []struct {
		n    int64
		what string
	}{{added, "added"}, {changed, "changed"}, {removed, "removed"}} {
		if part.n > 0 {
			count := fmt.Sprint(part.n)
			if len(parts) == 0 {
				count = plural(int(part.n), "row")
			}
			parts = append(parts, count+" "+part.what)
		}
	}
	return strings.Join(parts, ", ")
}

// lostWords says what a restore takes away of what visitors wrote, and where it stays.
func lostWords(theirs *written, kept string) string {
	added, changed, removed := theirs.counts()
	will, they, them := "will be removed", "they are", "them"
	switch {
	case changed+removed > 0:
		will = "will be put back as they were"
	case added == 1:
		they, them = "it is", "it"
	}
	return fmt.Sprintf("%s since %s (%s kept in %s). --keep-new keeps %s here", theirs.words(), will, they, kept, them)
}

// writtenSince compares a table's present rows with those after the update, or, where
// there is no such state of the same structure, with the wanted snapshot's. nil: the two
// cannot be compared.
func (r *restoration) writtenSince(ctx context.Context, table snapshot.Table, now database.Table) (*written, error) {
	earlier := table
	if settled, ok := r.settledTable(table.Name); ok && settled.Shape() == now.Shape() {
		earlier = settled
	}
	columns, fits := commonColumns(earlier.Table, now)
	if !fits {
		return nil, nil
	}
	of, done, err := r.rowsSince(ctx, earlier, now, columns)
	if err != nil {
		return nil, err
	}
	if len(table.Key) > 0 && r.options.KeepNew {
		of.Also = database.State{Table: table.Table, Rows: r.store.Rows(table)}
	}
	changes, err := r.compareRows(ctx, of)
	if err := errors.Join(err, done()); err != nil {
		return nil, err
	}
	return &written{added: changes, changed: changes, table: earlier.Table, removedToo: true}, nil
}

// rowsSince names the rows of an earlier state of a table and the present ones, cut to its
// columns, for comparing them. Where the snapshot of the present state holds them, those that it shares with the
// earlier one are left out: they need not be read.
func (r *restoration) rowsSince(ctx context.Context, earlier snapshot.Table, now database.Table, columns []int) (of database.RowComparison, done func() error, err error) {
	of.Table = earlier.Table
	i := slices.IndexFunc(r.before.Tables, func(t snapshot.Table) bool { return t.Name == now.Name })
	if i >= 0 && r.before.Tables[i].Digest == now.Digest && slices.Equal(r.before.Tables[i].Columns, earlier.Columns) {
		of.Before, of.Now, of.Bytes, err = r.store.Differing(earlier, r.before.Tables[i])
		return of, func() error { return nil }, err
	}
	moment, err := r.db.Read(ctx)
	if err != nil {
		return of, nil, err
	}
	of.Before = r.store.Rows(earlier)
	of.Now = func(ctx context.Context, each func(database.Row) error) error {
		cut := make(database.Row, len(columns))
		return moment.Rows(ctx, now, func(row database.Row) error {
			for i, at := range columns {
				cut[i] = row[at]
			}
			return each(cut)
		})
	}
	return of, moment.Close, nil
}

// settledTable returns a table as the only update since the wanted snapshot left it, if
// nobody had written to it between that snapshot and the update.
func (r *restoration) settledTable(name string) (snapshot.Table, bool) {
	if r.settled == nil {
		return snapshot.Table{}, false
	}
	find := func(m *snapshot.Manifest) (snapshot.Table, bool) {
		i := slices.IndexFunc(m.Tables, func(t snapshot.Table) bool { return t.Name == name })
		if i < 0 {
			return snapshot.Table{}, false
		}
		return m.Tables[i], true
	}
	wanted, ok1 := find(r.manifest)
	before, ok2 := find(r.beforeUpdate)
	after, ok3 := find(r.settled)
	return after, ok1 && ok2 && ok3 && wanted.Digest == before.Digest && wanted.Shape() == before.Shape()
}

// findSettled looks for the snapshot that an update took once it had settled, if it was
// the only update since the wanted snapshot.
func (r *restoration) findSettled() error {
	names, err := r.store.Names()
	if err != nil {
		return err
	}
	wanted := slices.Index(names, r.manifest.Name)
	var found []*snapshot.Manifest
	for _, name := range names[wanted+1:] {
		if m, err := r.store.Describe(name); err == nil && m.Settles != "" && r.wasKept(m) { // what cannot be read tells nothing
			found = append(found, m)
		}
	}
	if len(found) != 1 || slices.Index(names, found[0].Settles) < wanted {
		return nil
	}
	r.settled = found[0]
	r.beforeUpdate, err = r.store.Describe(r.settled.Settles)
	if err != nil { // it was let go of: two states are left
		r.settled = nil
	}
	return nil
}

// wasKept tells whether the state of a snapshot is one that an update left behind: not that
// of an attempt that was put back.
func (r *restoration) wasKept(settled *snapshot.Manifest) bool {
	run, err := LoadRun(r.site.Workspace, settled.Run)
	return err == nil && slices.Contains(run.Settled, settled.Name)
}

// keptRows are rows of visitors' that fit into a table as it was.
type keptRows struct {
	patch database.Patch
	count int64
}

// fitIn turns what visitors wrote into rows of the wanted snapshot's table: new rows in
// the columns that both have, changed ones as they were, with what visitors changed.
// What they removed stays: no side loses anything. The comparison that found the changed rows
// must have had the wanted table's rows beside them.
func fitIn(table snapshot.Table, theirs *written) []keptRows {
	from := theirs.table
	shared := table.Table
	shared.Columns = slices.DeleteFunc(slices.Clone(table.Columns), func(c database.Column) bool {
		return !slices.ContainsFunc(from.Columns, func(f database.Column) bool { return f.Name == c.Name })
	})
	var kept []keptRows
	if added, _, _ := theirs.counts(); added > 0 {
		put := func(ctx context.Context, each func(database.Row) error) error {
			cut := make(database.Row, len(shared.Columns))
			return theirs.added.Each(ctx, func(change database.RowChange) error {
				if change.Before != nil {
					return nil
				}
				for i, column := range shared.Columns {
					cut[i] = change.Now[columnAt(from, column.Name)]
				}
				return each(cut)
			})
		}
		kept = append(kept, keptRows{database.Patch{Table: shared, Put: put}, added})
	}
	if _, changed, _ := theirs.counts(); changed > 0 && len(table.Key) > 0 {
		put := func(ctx context.Context, each func(database.Row) error) error {
			merged := make(database.Row, len(table.Columns))
			return theirs.changed.Each(ctx, func(change database.RowChange) error {
				if change.Before == nil || change.Now == nil || change.Also == nil {
					return nil
				}
				for i, column := range table.Columns {
					merged[i] = change.Also[i]
					if at := columnAt(from, column.Name); at >= 0 && !sameCell(change.Before[at], change.Now[at]) {
						merged[i] = change.Now[at]
					}
				}
				return each(merged)
			})
		}
		kept = append(kept, keptRows{database.Patch{Table: table.Table, Put: put}, changed})
	}
	return kept
}

func columnAt(table database.Table, name string) int {
	return slices.IndexFunc(table.Columns, func(c database.Column) bool { return c.Name == name })
}

func sameCell(a, b database.Value) bool { return a.Type == b.Type && bytes.Equal(a.Data, b.Data) }

// commonColumns returns, for each column of the earlier table, its place in the
// present one.
func commonColumns(before, now database.Table) (at []int, fits bool) {
	for _, column := range before.Columns {
		i := columnAt(now, column.Name)
		if i < 0 {
			return nil, false
		}
		at = append(at, i)
	}
	return at, slices.Equal(before.Key, now.Key)
}

// putNewRows writes what visitors wrote since over the rows of the snapshot.
func (r *restoration) putNewRows(ctx context.Context) error {
	notes, err := r.putKept(ctx, r.kept)
	r.plan.Newer = append(r.plan.Newer, notes...)
	return err
}

// saveUnfit writes rows to a file in the run.
func (s *session) saveUnfit(ctx context.Context, patch database.Patch) (string, error) {
	folder := filepath.Join(s.run.Folder, "rows-not-fitted")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", err
	}
	file := filepath.Join(folder, fileName(patch.Table.Name)+".jsonl")
	return file, writeRowsOf(patch.Table, file, func(each func(database.Row) error) error { return patch.Put(ctx, each) })
}

// proveTables compares the tables with the snapshot: all of them in structure, and in
// their rows those that were put back, with what was kept.
func (r *restoration) proveTables(ctx context.Context) (proved int, err error) {
	if !r.scope.database {
		return 0, nil
	}
	moment, err := r.db.Read(ctx)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, moment.Close()) }()
	now := moment.Tables()
	for _, table := range r.manifest.Tables {
		if r.scope.table != "" && table.Name != r.scope.table {
			continue
		}
		proved++
		i := slices.IndexFunc(now, func(t database.Table) bool { return t.Name == table.Name })
		if i < 0 || now[i].Shape() != table.Shape() {
			return 0, fmt.Errorf("the table %s is not as in the snapshot in its structure", table.Name)
		}
		if table.Kind != database.BaseTable || !slices.Contains(r.plan.Tables, table.Name) || r.wasReadBack(table) {
			continue
		}
		if err := r.proveRows(ctx, table, now[i], moment); err != nil {
			return 0, err
		}
	}
	for _, table := range now {
		isThere := slices.ContainsFunc(r.manifest.Tables, func(t snapshot.Table) bool { return t.Name == table.Name })
		if !isThere && !table.Kind.Stays() && r.scope.table == "" {
			return 0, fmt.Errorf("the snapshot does not know the table %s", table.Name)
		}
	}
	return proved, nil
}

// wasReadBack tells of a table whose rows were proved when they were loaded, right before the
// site got it, and to which nothing was added. Settings are read once more, for an upgrade may
// have written them anew.
func (r *restoration) wasReadBack(table snapshot.Table) bool {
	return r.loaded && len(r.kept[table.Name]) == 0 && r.site.CMS.Purpose(table.Name) != cms.Settings
}

// proveRows compares a table that was put back, row by row where rows were kept.
// Visitors may have written since it was switched: what they added is no fault.
func (r *restoration) proveRows(ctx context.Context, table snapshot.Table, now database.Table, moment database.Moment) error {
	present := func(ctx context.Context, each func(database.Row) error) error { return moment.Rows(ctx, now, each) }
	var digest database.Digest
	err := present(ctx, func(row database.Row) error {
		digest.Add(row)
		return nil
	})
	if err != nil || (digest.Rows() == table.Rows && digest.String() == table.Digest) {
		return err
	}
	changes, err := r.compareRows(ctx, database.RowComparison{Table: table.Table, Before: r.store.Rows(table), Now: present})
	if err != nil {
		return err
	}
	defer changes.Close()
	changed, removed := 0, 0
	err = changes.Each(ctx, func(change database.RowChange) error {
		switch {
		case change.Before == nil || r.site.CMS.RewrittenByItself(table.Table, change.Before):
		case change.Now == nil:
			removed++
		default:
			changed++
		}
		return nil
	})
	if err == nil && (removed > 0 || (changed > 0 && r.site.CMS.Purpose(table.Name) == cms.Settings)) {
		err = fmt.Errorf("%s of the table %s are not as in the snapshot", plural(removed+changed, "row"), table.Name)
	}
	return err
}

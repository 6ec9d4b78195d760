package restore

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"wetland/core/database"
	"wetland/core/phrase"
	"wetland/core/runs"
	"wetland/core/site/cms"
	"wetland/core/snapshot"
	"wetland/core/tables"
)

// Which rows visitors wrote is told by three states where they exist: before the update
// (the wanted snapshot), after it had settled (the snapshot that the update took then),
// and now. What changed from the second to the third is the visitors'. Without the
// second, all that changed since the first counts as theirs.

// planNewRows says what was written to a table since, and would be lost, and plans to
// keep it where that is wanted.
func (r *restoration) planNewRows(ctx context.Context, table snapshot.Table, differ database.TableChange) error {
	purpose := r.Site.CMS.Purpose(table.Name)
	if table.Kind != database.BaseTable || differ.Fate == database.Dropped || purpose == cms.Settings || purpose == cms.Volatile {
		return nil
	}
	theirs, err := r.writtenSince(ctx, table, differ.Now)
	if err != nil {
		return err
	}
	note := runs.TableNote{Table: table.Name, Left: r.options.KeepNew}
	switch {
	case theirs == nil:
		note.What = fmt.Sprintf("its structure changed: which rows were written since cannot be told; all of them are in %s", r.before.Name)
		note.Left, note.Unsure = false, true
	case theirs.Empty():
		return nil
	case !r.options.KeepNew:
		note.What = lostWords(theirs, r.before.Name)
	default:
		note.What = theirs.Words() + " since: stays"
		r.kept[table.Name] = tables.FitIn(table, theirs)
	}
	r.plan.Newer = append(r.plan.Newer, note)
	// What people wrote comes first, then plugins' tables.
	slices.SortStableFunc(r.plan.Newer, func(a, b runs.TableNote) int {
		return r.rankOf(a.Table) - r.rankOf(b.Table)
	})
	return nil
}

func (r *restoration) rankOf(table string) int {
	if r.Site.CMS.Purpose(table) == cms.Visitors {
		return 0
	}
	return 1
}

// lostWords says what a restore takes away of what visitors wrote, and where it stays.
func lostWords(theirs *tables.Written, kept string) string {
	added, changed, removed := theirs.Counts()
	will, they, them := "will be removed", "they are", "them"
	switch {
	case changed+removed > 0:
		will = "will be put back as they were"
	case added == 1:
		they, them = "it is", "it"
	}
	return fmt.Sprintf("%s since %s (%s kept in %s). --keep-new keeps %s here", theirs.Words(), will, they, kept, them)
}

// writtenSince compares a table's present rows with those after the update, or, where
// there is no such state of the same structure, with the wanted snapshot's. nil: the two
// cannot be compared.
func (r *restoration) writtenSince(ctx context.Context, table snapshot.Table, now database.Table) (*tables.Written, error) {
	earlier := table
	if settled, ok := r.settledTable(table.Name); ok && settled.Shape() == now.Shape() {
		earlier = settled
	}
	columns, fits := tables.CommonColumns(earlier.Table, now)
	if !fits {
		return nil, nil
	}
	of, done, err := r.rowsSince(ctx, earlier, now, columns)
	if err != nil {
		return nil, err
	}
	if len(table.Key) > 0 && r.options.KeepNew {
		of.Also = database.State{Table: table.Table, Rows: snapshot.Rows(r.Store, table)}
	}
	changes, err := tables.CompareRows(ctx, r.Session, of)
	if err := errors.Join(err, done()); err != nil {
		return nil, err
	}
	return &tables.Written{Added: changes, Changed: changes, Table: earlier.Table, RemovedToo: true}, nil
}

// rowsSince names the rows of an earlier state of a table and the present ones, cut to its
// columns, for comparing them. Where the snapshot of the present state holds them, those that it shares with the
// earlier one are left out: they need not be read.
func (r *restoration) rowsSince(ctx context.Context, earlier snapshot.Table, now database.Table, columns []int) (of database.RowComparison, done func() error, err error) {
	of.Table = earlier.Table
	i := slices.IndexFunc(r.before.Tables, func(t snapshot.Table) bool { return t.Name == now.Name })
	if i >= 0 && r.before.Tables[i].Digest == now.Digest && slices.Equal(r.before.Tables[i].Columns, earlier.Columns) {
		of.Before, of.Now, of.Bytes, err = snapshot.Differing(ctx, r.Store, earlier, r.before.Tables[i])
		return of, func() error { return nil }, err
	}
	moment, err := r.DB.Read(ctx)
	if err != nil {
		return of, nil, err
	}
	of.Before = snapshot.Rows(r.Store, earlier)
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
	if r.Settled == nil {
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
	after, ok3 := find(r.Settled)
	return after, ok1 && ok2 && ok3 && wanted.Digest == before.Digest && wanted.Shape() == before.Shape()
}

// findSettled looks for the snapshot that an update took once it had settled, if it was
// the only update since the wanted snapshot.
func (r *restoration) findSettled(ctx context.Context) error {
	names, err := r.Store.Names(ctx)
	if err != nil {
		return err
	}
	wanted := slices.Index(names, r.manifest.Name)
	var found []*snapshot.Manifest
	for _, name := range names[wanted+1:] {
		if m, err := snapshot.Describe(ctx, r.Store, name); err == nil && m.Settles != "" && r.wasKept(m) { // what cannot be read tells nothing
			found = append(found, m)
		}
	}
	if len(found) != 1 || slices.Index(names, found[0].Settles) < wanted {
		return nil
	}
	r.Settled = found[0]
	r.beforeUpdate, err = snapshot.Describe(ctx, r.Store, r.Settled.Settles)
	if err != nil { // it was deleted: two states are left
		r.Settled = nil
	}
	return nil
}

// wasKept tells whether the state of a snapshot is one that an update left behind: not that
// of an attempt that was put back.
func (r *restoration) wasKept(settled *snapshot.Manifest) bool {
	run, err := runs.Load(r.Site.Workspace, settled.Run)
	return err == nil && slices.Contains(run.Settled, settled.Name)
}

// putNewRows writes what visitors wrote since over the rows of the snapshot.
func (r *restoration) putNewRows(ctx context.Context) error {
	notes, err := tables.PutKept(ctx, r.Session, r.kept)
	r.plan.Newer = append(r.plan.Newer, notes...)
	return err
}

// proveTables compares the tables with the snapshot: all of them in structure, and in
// their rows those that were put back, with what was kept.
func (r *restoration) proveTables(ctx context.Context) (proved int, err error) {
	if !r.scope.database {
		return 0, nil
	}
	moment, err := r.DB.Read(ctx)
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
	return r.loaded && len(r.kept[table.Name]) == 0 && r.Site.CMS.Purpose(table.Name) != cms.Settings
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
	changes, err := tables.CompareRows(ctx, r.Session, database.RowComparison{Table: table.Table, Before: snapshot.Rows(r.Store, table), Now: present})
	if err != nil {
		return err
	}
	defer changes.Close()
	changed, removed := 0, 0
	err = changes.Each(ctx, func(change database.RowChange) error {
		switch {
		case change.Before == nil || r.Site.CMS.RewrittenByItself(table.Table, change.Before):
		case change.Now == nil:
			removed++
		default:
			changed++
		}
		return nil
	})
	if err == nil && (removed > 0 || (changed > 0 && r.Site.CMS.Purpose(table.Name) == cms.Settings)) {
		err = fmt.Errorf("%s of the table %s are not as in the snapshot", phrase.Plural(removed+changed, "row"), table.Name)
	}
	return err
}

package update

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"wetland/core/database"
	"wetland/core/site/cms"
	"wetland/core/snapshot"
)

// planNewRows finds the rows of a table that were written since the snapshot and
// would be lost: it says how many, and keeps them where that is wanted.
func (r *restoration) planNewRows(ctx context.Context, table snapshot.Table, differ database.TableChange) error {
	purpose := r.site.CMS.Purpose(table.Name)
	if table.Kind != database.BaseTable || differ.Fate == database.Dropped || purpose == cms.Settings || purpose == cms.Volatile {
		return nil
	}
	note := func(left bool, format string, args ...any) {
		r.plan.Newer = append(r.plan.Newer, TableNote{Table: table.Name, What: fmt.Sprintf(format, args...), Left: left})
	}
	if len(table.Key) == 0 {
		note(false, "has no key: which of its rows are new cannot be told; they are in %s", r.before.Name)
		return nil
	}
	columns, fits := commonColumns(table.Table, differ.Now)
	if !fits {
		note(false, "has another key or fewer columns now: its new rows cannot be fitted in; they are in %s", r.before.Name)
		return nil
	}
	changes, err := r.newRows(ctx, table, differ.Now, columns)
	if err != nil {
		return err
	}
	count := len(changes.Added) + len(changes.Changed)
	switch {
	case count == 0:
	case !r.options.KeepNew:
		note(false, "%s written since then goes: it is in %s, and --keep-new keeps it", plural(count, "row"), r.before.Name)
	default:
		note(true, "%s written since then stays", plural(count, "row"))
		r.kept[table.Name] = changes
	}
	return nil
}

// commonColumns returns, for each column of the earlier table, its place in the
// present one.
func commonColumns(before, now database.Table) (at []int, fits bool) {
	for _, column := range before.Columns {
		i := slices.IndexFunc(now.Columns, func(c database.Column) bool { return c.Name == column.Name })
		if i < 0 {
			return nil, false
		}
		at = append(at, i)
	}
	return at, slices.Equal(before.Key, now.Key)
}

// newRows compares a table's present rows, cut to the columns of the snapshot's, with
// the snapshot's rows.
func (r *restoration) newRows(ctx context.Context, table snapshot.Table, now database.Table, columns []int) (changes database.RowChanges, err error) {
	moment, err := r.db.Read(ctx)
	if err != nil {
		return changes, err
	}
	defer func() { err = errors.Join(err, moment.Close()) }()
	present := func(ctx context.Context, each func(database.Row) error) error {
		cut := make(database.Row, len(columns))
		return moment.Rows(ctx, now, func(row database.Row) error {
			for i, at := range columns {
				cut[i] = row[at]
			}
			return each(cut)
		})
	}
	return database.CompareRows(ctx, table.Table, r.store.Rows(table), present)
}

// putNewRows writes what visitors wrote since over the rows of the snapshot.
func (r *restoration) putNewRows(ctx context.Context) error {
	var change database.Change
	for _, table := range r.manifest.Tables {
		kept, ok := r.kept[table.Name]
		if !ok {
			continue
		}
		patch := database.Patch{Table: table.Table, Put: slices.Clone(kept.Added)}
		for _, pair := range kept.Changed {
			patch.Put = append(patch.Put, pair[1])
		}
		change.Patches = append(change.Patches, patch)
	}
	if change.Empty() {
		return nil
	}
	applied, err := r.db.Apply(ctx, change)
	if err != nil {
		return fmt.Errorf("keep what visitors wrote: %w", err)
	}
	return applied.Finish(ctx)
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
		if table.Kind != database.BaseTable || !slices.Contains(r.plan.Tables, table.Name) {
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
	if len(table.Key) == 0 {
		return fmt.Errorf("the rows of the table %s are not those of the snapshot", table.Name)
	}
	changes, err := database.CompareRows(ctx, table.Table, r.store.Rows(table), present)
	if err != nil {
		return err
	}
	own := func(row database.Row) bool { return r.site.CMS.RewrittenByItself(table.Table, row) }
	changed := slices.DeleteFunc(changes.Changed, func(pair [2]database.Row) bool { return own(pair[0]) })
	removed := slices.DeleteFunc(changes.Removed, own)
	if len(removed) > 0 || (len(changed) > len(r.kept[table.Name].Changed) && r.site.CMS.Purpose(table.Name) == cms.Settings) {
		return fmt.Errorf("%s of the table %s are not as in the snapshot", plural(len(removed)+len(changed), "row"), table.Name)
	}
	return nil
}

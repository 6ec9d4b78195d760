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
	changes, from, err := r.writtenSince(ctx, table, differ.Now)
	if err != nil {
		return err
	}
	note := TableNote{Table: table.Name, Left: r.options.KeepNew}
	words := countChanges(changes)
	switch {
	case from == nil:
		note.What = fmt.Sprintf("its structure changed: which rows were written since cannot be told; all of them are in %s", r.before.Name)
		note.Left, note.Unsure = false, true
	case words == "":
		return nil
	case !r.options.KeepNew:
		note.What = lostWords(changes, words, r.before.Name)
	default:
		note.What = words + " since: stays"
		if r.kept[table.Name], err = r.fitIn(ctx, table, *from, changes); err != nil {
			return err
		}
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

func countChanges(changes database.RowChanges) string {
	var parts []string
	for _, part := range []struct {
		n    int
		what string
	}{{len(changes.Added), "added"}, {len(changes.Changed), "changed"}, {len(changes.Removed), "removed"}} {
		if part.n > 0 {
			count := fmt.Sprint(part.n)
			if len(parts) == 0 {
				count = plural(part.n, "row")
			}
			parts = append(parts, count+" "+part.what)
		}
	}
	return strings.Join(parts, ", ")
}

// lostWords says what a restore takes away of what visitors wrote, and where it stays.
func lostWords(changes database.RowChanges, words, kept string) string {
	will, they, them := "will be removed", "they are", "them"
	switch {
	case len(changes.Changed)+len(changes.Removed) > 0:
		will = "will be put back as they were"
	case len(changes.Added) == 1:
		they, them = "it is", "it"
	}
	return fmt.Sprintf("%s since %s (%s kept in %s). --keep-new keeps %s here", words, will, they, kept, them)
}

// writtenSince compares a table's present rows with those after the update, or, where
// there is no such state of the same structure, with the wanted snapshot's. from is the
// table that the rows are of, in its columns; nil: the two cannot be compared.
func (r *restoration) writtenSince(ctx context.Context, table snapshot.Table, now database.Table) (changes database.RowChanges, from *database.Table, err error) {
	earlier := table
	if settled, ok := r.settledTable(table.Name); ok && settled.Shape() == now.Shape() {
		earlier = settled
	}
	columns, fits := commonColumns(earlier.Table, now)
	if !fits {
		return changes, nil, nil
	}
	changes, err = r.newRows(ctx, earlier, now, columns)
	return changes, &earlier.Table, err
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

// fitIn turns what visitors wrote into rows of the wanted snapshot's table: new rows in
// the columns that both have, changed ones as they were, with what visitors changed.
// What they removed stays: no side loses anything.
func (s *session) fitIn(ctx context.Context, table snapshot.Table, from database.Table, changes database.RowChanges) ([]database.Patch, error) {
	shared := table.Table
	shared.Columns = slices.DeleteFunc(slices.Clone(table.Columns), func(c database.Column) bool {
		return !slices.ContainsFunc(from.Columns, func(f database.Column) bool { return f.Name == c.Name })
	})
	added := database.Patch{Table: shared}
	for _, row := range changes.Added {
		cut := make(database.Row, len(shared.Columns))
		for i, column := range shared.Columns {
			cut[i] = row[columnAt(from, column.Name)]
		}
		added.Put = append(added.Put, cut)
	}
	patches := []database.Patch{added}
	if len(changes.Changed) == 0 || len(table.Key) == 0 {
		return patches, nil
	}
	whole := database.Patch{Table: table.Table}
	pairs := map[string][2]database.Row{}
	for _, pair := range changes.Changed {
		pairs[keyText(from, pair[1])] = pair
	}
	err := s.store.Rows(table)(ctx, func(row database.Row) error {
		pair, ok := pairs[keyText(table.Table, row)]
		if !ok {
			return nil
		}
		merged := make(database.Row, len(row))
		for i, column := range table.Columns {
			merged[i] = database.Value{Type: row[i].Type, Data: slices.Clone(row[i].Data)}
			if at := columnAt(from, column.Name); at >= 0 && !sameCell(pair[0][at], pair[1][at]) {
				merged[i] = pair[1][at]
			}
		}
		whole.Put = append(whole.Put, merged)
		return nil
	})
	return append(patches, whole), err
}

func columnAt(table database.Table, name string) int {
	return slices.IndexFunc(table.Columns, func(c database.Column) bool { return c.Name == name })
}

func sameCell(a, b database.Value) bool { return a.Type == b.Type && bytes.Equal(a.Data, b.Data) }

// keyText tells rows of a table apart by their key.
func keyText(table database.Table, row database.Row) string {
	var cells database.Row
	for _, name := range table.Key {
		cells = append(cells, row[columnAt(table, name)])
	}
	return string(database.AppendRow(nil, cells))
}

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

// newRows compares a table's present rows, cut to the columns of the earlier one, with
// its rows.
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
	notes, err := r.putKept(ctx, r.kept)
	r.plan.Newer = append(r.plan.Newer, notes...)
	return err
}

// saveUnfit writes rows to a file in the run.
func (s *session) saveUnfit(patch database.Patch) (string, error) {
	folder := filepath.Join(s.run.Folder, "rows-not-fitted")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", err
	}
	file := filepath.Join(folder, fileName(patch.Table.Name)+".jsonl")
	return file, writeRowsOf(patch.Table, file, func(each func(database.Row) error) error {
		for _, row := range patch.Put {
			if err := each(row); err != nil {
				return err
			}
		}
		return nil
	})
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
	changes, err := database.CompareRows(ctx, table.Table, r.store.Rows(table), present)
	if err != nil {
		return err
	}
	own := func(row database.Row) bool { return r.site.CMS.RewrittenByItself(table.Table, row) }
	changed := slices.DeleteFunc(changes.Changed, func(pair [2]database.Row) bool { return own(pair[0]) })
	removed := slices.DeleteFunc(changes.Removed, own)
	if len(removed) > 0 || (len(changed) > 0 && r.site.CMS.Purpose(table.Name) == cms.Settings) {
		return fmt.Errorf("%s of the table %s are not as in the snapshot", plural(len(removed)+len(changed), "row"), table.Name)
	}
	return nil
}

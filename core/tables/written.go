package tables

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"wetland/core/database"
	"wetland/core/phrase"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/snapshot"
)

// Written is what visitors wrote to a table: rows that they added, from one comparison, and
// rows that they changed or removed, from the same or from another one.
type Written struct {
	Added, Changed *database.RowChanges // nil: none
	Table          database.Table       // that the rows are of, in its columns
	RemovedToo     bool                 // what they removed is told as well
}

// Counts are the rows that were added, changed and removed.
func (w *Written) Counts() (added, changed, removed int64) {
	if w.Added != nil {
		added = w.Added.Added
	}
	if w.Changed != nil {
		changed = w.Changed.Changed
	}
	if w.Changed != nil && w.RemovedToo {
		removed = w.Changed.Removed
	}
	return added, changed, removed
}

// Empty tells that nothing was written.
func (w *Written) Empty() bool { return w.Words() == "" }

// Words say what was written, such as "2 rows added, 1 changed".
func (w *Written) Words() string { return rowWords(w.Counts()) }

func rowWords(added, changed, removed int64) string {
	var parts []string
	for _, part := range []struct {
		n    int64
		what string
	}{{added, "added"}, {changed, "changed"}, {removed, "removed"}} {
		if part.n > 0 {
			count := fmt.Sprint(part.n)
			if len(parts) == 0 {
				count = phrase.Plural(int(part.n), "row")
			}
			parts = append(parts, count+" "+part.what)
		}
	}
	return strings.Join(parts, ", ")
}

// KeptRows are rows of visitors' that fit into a table as it was.
type KeptRows struct {
	patch database.Patch
	count int64
}

// FitIn turns what visitors wrote into rows of the wanted snapshot's table: new rows in
// the columns that both have, changed ones as they were, with what visitors changed.
// What they removed stays: no side loses anything. The comparison that found the changed rows
// must have had the wanted table's rows beside them.
func FitIn(table snapshot.Table, theirs *Written) []KeptRows {
	from := theirs.Table
	shared := table.Table
	shared.Columns = slices.DeleteFunc(slices.Clone(table.Columns), func(c database.Column) bool {
		return !slices.ContainsFunc(from.Columns, func(f database.Column) bool { return f.Name == c.Name })
	})
	var kept []KeptRows
	if added, _, _ := theirs.Counts(); added > 0 {
		put := func(ctx context.Context, each func(database.Row) error) error {
			cut := make(database.Row, len(shared.Columns))
			return theirs.Added.Each(ctx, func(change database.RowChange) error {
				if change.Before != nil {
					return nil
				}
				for i, column := range shared.Columns {
					cut[i] = change.Now[columnAt(from, column.Name)]
				}
				return each(cut)
			})
		}
		kept = append(kept, KeptRows{database.Patch{Table: shared, Put: put}, added})
	}
	if _, changed, _ := theirs.Counts(); changed > 0 && len(table.Key) > 0 {
		put := func(ctx context.Context, each func(database.Row) error) error {
			merged := make(database.Row, len(table.Columns))
			return theirs.Changed.Each(ctx, func(change database.RowChange) error {
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
		kept = append(kept, KeptRows{database.Patch{Table: table.Table, Put: put}, changed})
	}
	return kept
}

func columnAt(table database.Table, name string) int {
	return slices.IndexFunc(table.Columns, func(c database.Column) bool { return c.Name == name })
}

func sameCell(a, b database.Value) bool { return a.Type == b.Type && bytes.Equal(a.Data, b.Data) }

// sharedOf is a table cut to the columns that another state of it has, too; without a key where rows cannot be told
// apart.
func sharedOf(before, now database.Table) database.Table {
	cut := before
	gone := func(c database.Column) bool { return columnAt(now, c.Name) < 0 }
	cut.Columns = slices.DeleteFunc(slices.Clone(before.Columns), gone)
	for _, name := range before.Key {
		if columnAt(cut, name) < 0 {
			cut.Key = nil
		}
	}
	return cut
}

// cutRows cuts rows of a table to some of its columns.
func cutRows(from, to database.Table, rows database.Rows) database.Rows {
	if slices.Equal(from.Columns, to.Columns) {
		return rows
	}
	at := make([]int, len(to.Columns))
	for i, column := range to.Columns {
		at[i] = columnAt(from, column.Name)
	}
	return func(ctx context.Context, each func(database.Row) error) error {
		cut := make(database.Row, len(to.Columns))
		return rows(ctx, func(row database.Row) error {
			for i := range at {
				cut[i] = row[at[i]]
			}
			return each(cut)
		})
	}
}

// CommonColumns returns, for each column of the earlier table, its place in the
// present one.
func CommonColumns(before, now database.Table) (at []int, fits bool) {
	for _, column := range before.Columns {
		i := columnAt(now, column.Name)
		if i < 0 {
			return nil, false
		}
		at = append(at, i)
	}
	return at, slices.Equal(before.Key, now.Key)
}

// saveUnfit writes rows to a file in the run.
func saveUnfit(ctx context.Context, s *session.Session, patch database.Patch) (string, error) {
	folder := filepath.Join(s.Run.Folder, "rows-not-fitted")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", err
	}
	file := filepath.Join(folder, runs.FileName(patch.Table.Name)+".jsonl")
	return file, writeRowsOf(patch.Table, file, func(each func(database.Row) error) error { return patch.Put(ctx, each) })
}

// PutKept writes rows over those that were put back. What a table does not take is written
// to a file in the run.
func PutKept(ctx context.Context, s *session.Session, kept map[string][]KeptRows) (notes []runs.TableNote, err error) {
	for _, name := range slices.Sorted(maps.Keys(kept)) {
		for _, rows := range kept[name] {
			applied, err := s.DB.Apply(ctx, database.Change{Patches: []database.Patch{rows.patch}})
			if err == nil {
				err = applied.Finish(ctx)
			}
			if err == nil {
				continue
			}
			file, saveErr := saveUnfit(ctx, s, rows.patch)
			if saveErr != nil {
				return notes, saveErr
			}
			what := fmt.Sprintf("%s could not be fitted into the table as it was (%v)", phrase.Plural(int(rows.count), "row"),
				err)
			notes = append(notes, runs.TableNote{Table: name, Unsure: true, Saved: file, What: what})
		}
	}
	return notes, nil
}

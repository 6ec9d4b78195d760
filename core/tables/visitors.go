package tables

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"wetland/core/database"
	"wetland/core/phrase"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site/cms"
	"wetland/core/snapshot"
)

// keepVisitorsRows plans to keep what visitors wrote to a table whose structure the update
// changed, in the columns that both forms have. New rows are told by their keys; changed
// ones by the state after the update had settled. What cannot be told is said, and all
// present rows are saved in the run in any case.
func keepVisitorsRows(ctx context.Context, s *session.Session, plan *Plan, before snapshot.Table, now database.Table, moment database.Moment) error {
	purpose := s.Site.CMS.Purpose(before.Name)
	if before.Kind != database.BaseTable || now.Kind != database.BaseTable || purpose == cms.Settings || purpose == cms.Volatile {
		return nil
	}
	shared := sharedColumns(before.Table, now)
	if shared == nil {
		plan.notes = append(plan.notes, runs.TableNote{Table: before.Name, Unsure: true, What: "which rows visitors wrote meanwhile cannot be told, for its key changed: look at the saved rows"})
		return nil
	}
	present := cutRows(now, *shared, func(ctx context.Context, each func(database.Row) error) error { return moment.Rows(ctx, now, each) })
	old := cutRows(before.Table, *shared, snapshot.Rows(s.Store, before))
	since, err := CompareRows(ctx, s, database.RowComparison{Table: *shared, Before: old, Now: present})
	if err != nil {
		return err
	}
	theirs := &Written{Added: since, Table: *shared}
	if settled, ok := settledRows(s, before.Name, now); ok {
		then := cutRows(settled.Table, *shared, snapshot.Rows(s.Store, settled))
		byUpdate, err := CompareRows(ctx, s, database.RowComparison{Table: *shared, Before: old, Now: then})
		if err != nil {
			return err
		}
		later, err := CompareRows(ctx, s, database.RowComparison{Table: *shared, Before: then, Now: present, Also: database.State{Table: before.Table, Rows: snapshot.Rows(s.Store, before)}})
		if err != nil {
			return err
		}
		theirs.Changed = later
		if err := byUpdate.Close(); err != nil {
			return err
		}
		if byUpdate.Removed > 0 { // it gave rows other keys: a new key is no sign
			theirs.Added = later
		}
	}
	if added, changed, _ := theirs.Counts(); added+changed == 0 {
		return nil
	}
	plan.keep[before.Name] = FitIn(before, theirs)
	plan.notes = append(plan.notes, runs.TableNote{Table: before.Name, What: theirs.Words() + " meanwhile: visitors' writes, kept in the table as it was"})
	return nil
}

// settledRows returns a table as it was once the update had settled, if it still has that
// form.
func settledRows(s *session.Session, name string, now database.Table) (snapshot.Table, bool) {
	if s.Settled == nil {
		return snapshot.Table{}, false
	}
	i := slices.IndexFunc(s.Settled.Tables, func(t snapshot.Table) bool { return t.Name == name })
	if i < 0 || s.Settled.Tables[i].Shape() != now.Shape() {
		return snapshot.Table{}, false
	}
	return s.Settled.Tables[i], true
}

// sharedColumns returns the table cut to the columns that both have; nil if rows cannot be
// told apart in it.
func sharedColumns(before, now database.Table) *database.Table {
	if len(before.Key) == 0 || !slices.Equal(before.Key, now.Key) {
		return nil
	}
	cut := before
	cut.Columns = slices.DeleteFunc(slices.Clone(before.Columns), func(c database.Column) bool { return columnAt(now, c.Name) < 0 })
	for _, name := range before.Key {
		if columnAt(cut, name) < 0 {
			return nil
		}
	}
	return &cut
}

// cutRows cuts rows of a table to some of its columns.
func cutRows(from, to database.Table, rows database.Rows) database.Rows {
	return func(ctx context.Context, each func(database.Row) error) error {
		cut := make(database.Row, len(to.Columns))
		return rows(ctx, func(row database.Row) error {
			for i, column := range to.Columns {
				cut[i] = row[columnAt(from, column.Name)]
			}
			return each(cut)
		})
	}
}

// StructureChanged tells whether any table has another structure than in the snapshot.
func StructureChanged(ctx context.Context, s *session.Session, from *snapshot.Manifest) (bool, error) {
	if s.DB == nil {
		return false, nil
	}
	moment, err := s.DB.Read(ctx)
	if err != nil {
		return false, fmt.Errorf("read the database: %w", err)
	}
	shapes := map[string]string{}
	for _, table := range moment.Tables() {
		shapes[table.Name] = table.Shape()
	}
	was := map[string]string{}
	for _, table := range from.Tables {
		was[table.Name] = table.Shape()
	}
	return !maps.Equal(shapes, was), moment.Close()
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
			notes = append(notes, runs.TableNote{Table: name, Unsure: true, Saved: file, What: fmt.Sprintf("%s could not be fitted into the table as it was (%v)", phrase.Plural(int(rows.count), "row"), err)})
		}
	}
	return notes, nil
}

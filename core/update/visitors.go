package update

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"wetland/core/database"
	"wetland/core/site/cms"
	"wetland/core/snapshot"
)

// keepVisitorsRows plans to keep what visitors wrote to a table whose structure the update
// changed, in the columns that both forms have. New rows are told by their keys; changed
// ones by the state after the update had settled. What cannot be told is said, and all
// present rows are saved in the run in any case.
func (s *session) keepVisitorsRows(ctx context.Context, plan *tablePlan, before snapshot.Table, now database.Table, moment database.Moment) error {
	purpose := s.site.CMS.Purpose(before.Name)
	if before.Kind != database.BaseTable || now.Kind != database.BaseTable || purpose == cms.Settings || purpose == cms.Volatile {
		return nil
	}
	shared := sharedColumns(before.Table, now)
	if shared == nil {
		plan.notes = append(plan.notes, TableNote{Table: before.Name, Unsure: true, What: "which rows visitors wrote meanwhile cannot be told, for its key changed: look at the saved rows"})
		return nil
	}
	present := cutRows(now, *shared, func(ctx context.Context, each func(database.Row) error) error { return moment.Rows(ctx, now, each) })
	old := cutRows(before.Table, *shared, s.store.Rows(before))
	since, err := s.compareRows(ctx, database.RowComparison{Table: *shared, Before: old, Now: present})
	if err != nil {
		return err
	}
	theirs := &written{added: since, table: *shared}
	if settled, ok := s.settledRows(before.Name, now); ok {
		then := cutRows(settled.Table, *shared, s.store.Rows(settled))
		byUpdate, err := s.compareRows(ctx, database.RowComparison{Table: *shared, Before: old, Now: then})
		if err != nil {
			return err
		}
		later, err := s.compareRows(ctx, database.RowComparison{Table: *shared, Before: then, Now: present, Also: database.State{Table: before.Table, Rows: s.store.Rows(before)}})
		if err != nil {
			return err
		}
		theirs.changed = later
		if err := byUpdate.Close(); err != nil {
			return err
		}
		if byUpdate.Removed > 0 { // it gave rows other keys: a new key is no sign
			theirs.added = later
		}
	}
	if added, changed, _ := theirs.counts(); added+changed == 0 {
		return nil
	}
	plan.keep[before.Name] = fitIn(before, theirs)
	plan.notes = append(plan.notes, TableNote{Table: before.Name, What: theirs.words() + " meanwhile: visitors' writes, kept in the table as it was"})
	return nil
}

// settledRows returns a table as it was once the update had settled, if it still has that
// form.
func (s *session) settledRows(name string, now database.Table) (snapshot.Table, bool) {
	if s.settled == nil {
		return snapshot.Table{}, false
	}
	i := slices.IndexFunc(s.settled.Tables, func(t snapshot.Table) bool { return t.Name == name })
	if i < 0 || s.settled.Tables[i].Shape() != now.Shape() {
		return snapshot.Table{}, false
	}
	return s.settled.Tables[i], true
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

// structureChanged tells whether any table has another structure than in the snapshot.
func (s *session) structureChanged(ctx context.Context, from *snapshot.Manifest) (bool, error) {
	if s.db == nil {
		return false, nil
	}
	moment, err := s.db.Read(ctx)
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

// putKept writes rows over those that were put back. What a table does not take is written
// to a file in the run.
func (s *session) putKept(ctx context.Context, kept map[string][]keptRows) (notes []TableNote, err error) {
	for _, name := range slices.Sorted(maps.Keys(kept)) {
		for _, rows := range kept[name] {
			applied, err := s.db.Apply(ctx, database.Change{Patches: []database.Patch{rows.patch}})
			if err == nil {
				err = applied.Finish(ctx)
			}
			if err == nil {
				continue
			}
			file, saveErr := s.saveUnfit(ctx, rows.patch)
			if saveErr != nil {
				return notes, saveErr
			}
			notes = append(notes, TableNote{Table: name, Unsure: true, Saved: file, What: fmt.Sprintf("%s could not be fitted into the table as it was (%v)", plural(int(rows.count), "row"), err)})
		}
	}
	return notes, nil
}

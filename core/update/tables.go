package update

import (
	"bufio"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"unicode/utf8"

	"wetland/core/database"
	"wetland/core/durable"
	"wetland/core/progress"
	"wetland/core/site/cms"
	"wetland/core/snapshot"
)

// TableNote says what going back did with one table that had changed.
type TableNote struct {
	Table string `json:"table"`
	What  string `json:"what"`
	Saved string `json:"saved,omitempty"` // file with the rows that were there before going back
	// Left marks changes that are not the update's and stay as they are.
	Left bool `json:"left,omitempty"`
	// Unsure marks what could not be told, or not be kept in the table.
	Unsure bool `json:"unsure,omitempty"`
}

// The rules of going back, also in docs/going-back.md:
//
//   - a table that was created is set aside under another name;
//   - a table that was dropped, or whose structure changed, comes back from the
//     snapshot; its present rows are saved in the run first, and what visitors wrote
//     meanwhile is kept in the columns that both forms have;
//   - in a settings table the rows that changed come back, except those that the
//     CMS rewrites by itself;
//   - rows that changed in any other table are taken for visitors' writes and stay.
type tablePlan struct {
	change database.Change
	notes  []TableNote
	save   []database.Table // tables whose present rows are saved first
	// keep is what visitors wrote to tables that are put back: it goes over their rows.
	keep map[string][]keptRows
}

// planTables compares the present tables with the snapshot and decides.
func (s *session) planTables(ctx context.Context, from *snapshot.Manifest) (*tablePlan, error) {
	moment, err := s.db.Read(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the database: %w", err)
	}
	plan, err := s.planMoment(ctx, from, moment)
	return plan, errors.Join(err, moment.Close())
}

func (s *session) planMoment(ctx context.Context, from *snapshot.Manifest, moment database.Moment) (*tablePlan, error) {
	now, err := database.Survey(ctx, moment, nil)
	if err != nil {
		return nil, err
	}
	plan := &tablePlan{change: database.Change{Tag: s.run.Name, KeepCounters: true}, keep: map[string][]keptRows{}}
	for _, differ := range database.CompareTables(from.Described(), now) {
		if err := s.planTable(ctx, plan, from, differ, moment); err != nil {
			return nil, err
		}
	}
	return plan, nil
}

func (s *session) planTable(ctx context.Context, plan *tablePlan, from *snapshot.Manifest, differ database.TableChange, moment database.Moment) error {
	note := func(left bool, format string, args ...any) {
		plan.notes = append(plan.notes, TableNote{Table: differ.Name, What: fmt.Sprintf(format, args...), Left: left})
	}
	putBack := func() {
		i := slices.IndexFunc(from.Tables, func(t snapshot.Table) bool { return t.Name == differ.Name })
		plan.change.Replace = append(plan.change.Replace, database.Replacement{Table: from.Tables[i].Table, Rows: s.store.Rows(from.Tables[i])})
	}
	switch differ.Fate {
	case database.Created:
		if differ.Now.Kind.Stays() {
			note(true, "was created by the update, and stays: it does nothing unless it is called")
			return nil
		}
		plan.change.Aside = append(plan.change.Aside, differ.Name)
		note(false, "was created by the update: set aside under another name, with its %s", plural(int(differ.Now.Rows), "row"))
		return nil
	case database.Dropped:
		putBack()
		note(false, "was dropped by the update: back with %s", plural(int(differ.Before.Rows), "row"))
		return nil
	case database.Altered:
		putBack()
		if differ.Now.Kind == database.BaseTable {
			plan.save = append(plan.save, differ.Now)
		}
		note(false, "was changed in structure by the update: back as it was, with %s", plural(int(differ.Before.Rows), "row"))
		i := slices.IndexFunc(from.Tables, func(t snapshot.Table) bool { return t.Name == differ.Name })
		return s.keepVisitorsRows(ctx, plan, from.Tables[i], differ.Now, moment)
	}
	if differ.Now.Kind == database.Event {
		if !slices.Contains(s.disabled, differ.Name) {
			putBack()
			note(false, "was switched by the update: back to what it was")
		}
		return nil
	}
	if s.site.CMS.Purpose(differ.Name) != cms.Settings {
		note(true, "its rows changed meanwhile (%d, was %d): visitors' writes, left as they are", differ.Now.Rows, differ.Before.Rows)
		return nil
	}
	return s.planSettings(ctx, plan, from, differ, moment)
}

// planSettings finds the rows of a settings table to put back.
func (s *session) planSettings(ctx context.Context, plan *tablePlan, from *snapshot.Manifest, differ database.TableChange, moment database.Moment) error {
	i := slices.IndexFunc(from.Tables, func(t snapshot.Table) bool { return t.Name == differ.Name })
	before := from.Tables[i]
	present := func(ctx context.Context, each func(database.Row) error) error {
		return moment.Rows(ctx, differ.Now, each)
	}
	rows, err := s.compareRows(ctx, database.RowComparison{Table: before.Table, Before: s.store.Rows(before), Now: present})
	if err != nil {
		return err
	}
	patch, n, own, err := patchBack(ctx, before.Table, rows, func(row database.Row) bool { return !s.site.CMS.RewrittenByItself(before.Table, row) })
	if err != nil {
		return err
	}
	if n > 0 {
		plan.change.Patches = append(plan.change.Patches, patch)
		plan.save = append(plan.save, differ.Now)
		plan.notes = append(plan.notes, TableNote{Table: differ.Name, What: fmt.Sprintf("%s of settings put back", plural(n, "row"))})
	}
	if own > 0 {
		plan.notes = append(plan.notes, TableNote{Table: differ.Name, Left: true, What: fmt.Sprintf("left alone: %s that the CMS rewrites by itself", plural(own, "row"))})
	}
	return nil
}

// compareRows compares two states of a table until the session ends.
func (s *session) compareRows(ctx context.Context, of database.RowComparison) (*database.RowChanges, error) {
	of.Dir, of.Before, of.Now = s.site.Workspace.Dir, s.counted(of.Before), s.counted(of.Now)
	changes, err := database.CompareRows(ctx, of)
	if err == nil {
		s.compared = append(s.compared, changes)
	}
	return changes, err
}

// patchBack returns what undoes those of the changed rows that are wanted, how many these are,
// and how many the others.
func patchBack(ctx context.Context, table database.Table, rows *database.RowChanges, wanted func(database.Row) bool) (patch database.Patch, n, others int, err error) {
	err = rows.Each(ctx, func(change database.RowChange) error {
		if wanted(stateBefore(change)) {
			n++
		} else {
			others++
		}
		return nil
	})
	pick := func(removed bool) database.Rows {
		return func(ctx context.Context, each func(database.Row) error) error {
			return rows.Each(ctx, func(change database.RowChange) error {
				row := stateBefore(change)
				if (change.Before == nil) != removed || !wanted(row) {
					return nil
				}
				return each(row)
			})
		}
	}
	return database.Patch{Table: table, Put: pick(false), Remove: pick(true)}, n, others, err
}

// stateBefore is the row as it was; of one that was added, as it is.
func stateBefore(change database.RowChange) database.Row {
	if change.Before == nil {
		return change.Now
	}
	return change.Before
}

// putBackTables brings the database back to the snapshot as far as the update
// changed it, and proves that nothing is left to do.
func (s *session) putBackTables(ctx context.Context, from *snapshot.Manifest) error {
	return s.step("database", 0, "", func() (progress.Mark, string, error) {
		plan, err := s.planTables(ctx, from)
		if err != nil {
			return progress.Bad, "", err
		}
		tables := len(from.Tables)
		if plan.change.Empty() {
			s.run.note(plan.notes...)
			return progress.Good, fmt.Sprintf("%s as in %s%s", plural(tables, "table"), from.Name, leftText(plan.notes)), nil
		}
		if err := s.applyTables(ctx, plan); err != nil {
			return progress.Bad, "", err
		}
		unfit, err := s.putKept(ctx, plan.keep)
		s.run.note(unfit...)
		if err != nil {
			return progress.Bad, "", err
		}
		after, err := s.planTables(ctx, from)
		if err != nil {
			return progress.Bad, "", err
		}
		if !after.change.Empty() {
			return progress.Bad, "", fmt.Errorf("%s still differ from %s after they were put back", noteTables(after.notes), from.Name)
		}
		mark, objects := s.emptyObjects(ctx, s.site.CMS.Layout())
		return mark, fmt.Sprintf("%s put back as in %s, proved%s%s", noteTables(plan.notes), from.Name, leftText(plan.notes), objects), nil
	})
}

func (s *session) applyTables(ctx context.Context, plan *tablePlan) error {
	err := s.saveRows(ctx, plan)
	s.run.note(plan.notes...)
	if err != nil {
		return fmt.Errorf("save the present rows: %w", err)
	}
	applied, err := s.db.Apply(ctx, plan.change)
	if err != nil {
		return err
	}
	err = applied.Finish(ctx)
	s.run.note(s.noteDefiners(applied)...)
	return err
}

// noteDefiners tells what acts in another name than before, and remembers the events that were
// disabled for that.
func (s *session) noteDefiners(applied database.Applied) []TableNote {
	var notes []TableNote
	for _, one := range applied.NewDefiners() {
		notes = append(notes, TableNote{Table: one.Table, Unsure: true, What: one.String()})
		if one.Disabled {
			s.disabled = append(s.disabled, one.Table)
		}
	}
	return notes
}

// sweepTables drops what an interrupted change of the present or the known tables may have
// left.
func (s *session) sweepTables(ctx context.Context, known []snapshot.Table) error {
	names, err := s.tableNames(ctx, known)
	if err != nil {
		return err
	}
	if err := errors.Join(s.db.Sweep(ctx, names), s.sweepScratch(ctx)); err != nil {
		return fmt.Errorf("clear what is left in the database: %w", err)
	}
	return nil
}

// tableNames names the tables that are in the database now, and the known ones.
func (s *session) tableNames(ctx context.Context, known []snapshot.Table) ([]string, error) {
	present, err := s.db.Read(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the database: %w", err)
	}
	var names []string
	for _, table := range present.Tables() {
		names = append(names, table.Name)
	}
	for _, table := range known {
		names = append(names, table.Name)
	}
	return names, present.Close()
}

// sweepScratch drops databases for one use that a crash left.
func (s *session) sweepScratch(ctx context.Context) error {
	login, err := s.site.Login()
	if err != nil {
		return err
	}
	return database.SweepScratch(ctx, login)
}

// note records what was done with tables, by table. What was done several times is said
// once, with the folder of all that was saved.
func (r *Run) note(notes ...TableNote) {
	for _, note := range notes {
		i := slices.IndexFunc(r.Database, func(n TableNote) bool { return n.Table == note.Table && n.What == note.What })
		switch {
		case i < 0:
			at := len(r.Database)
			for j, other := range r.Database {
				if other.Table == note.Table {
					at = j + 1
				}
			}
			r.Database = slices.Insert(r.Database, at, note)
		case note.Saved != "" && r.Database[i].Saved != "":
			r.Database[i].Saved = filepath.Dir(note.Saved)
		}
	}
}

func noteTables(notes []TableNote) string {
	var names []string
	for _, note := range notes {
		if !note.Left && !slices.Contains(names, note.Table) {
			names = append(names, note.Table)
		}
	}
	return list(names, 3)
}

func leftText(notes []TableNote) string {
	var names []string
	for _, note := range notes {
		if note.Left && !slices.Contains(names, note.Table) {
			names = append(names, note.Table)
		}
	}
	if len(names) == 0 {
		return ""
	}
	return "; left as they are: writes of visitors or of the CMS itself in " + list(names, 3)
}

// saveRows writes the present rows of the tables to files in the run, so that
// nothing that was written is lost: one JSON object for each row.
func (s *session) saveRows(ctx context.Context, plan *tablePlan) error {
	if len(plan.save) == 0 {
		return nil
	}
	folder := filepath.Join(s.run.Folder, "rows-before-going-back")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	earlier, err := os.ReadDir(folder) // a run may go back several times
	if err != nil {
		return err
	}
	moment, err := s.db.Read(ctx)
	if err != nil {
		return err
	}
	for i, table := range plan.save {
		file := filepath.Join(folder, fmt.Sprintf("%02d-%s.jsonl", len(earlier)+i+1, fileName(table.Name)))
		if err := writeRows(ctx, moment, table, file); err != nil {
			return errors.Join(fmt.Errorf("of the table %s: %w", table.Name, err), moment.Close())
		}
		for j := range plan.notes {
			if plan.notes[j].Table == table.Name && !plan.notes[j].Left {
				plan.notes[j].Saved = file
			}
		}
	}
	return moment.Close()
}

func fileName(table string) string {
	clean := []rune(table)
	for i, r := range clean {
		if r != '_' && r != '-' && (r < '0' || r > '9') && (r < 'A' || r > 'Z') && (r < 'a' || r > 'z') {
			clean[i] = '_'
		}
	}
	return string(clean)
}

func writeRows(ctx context.Context, moment database.Moment, table database.Table, name string) error {
	return writeRowsOf(table, name, func(each func(database.Row) error) error { return moment.Rows(ctx, table, each) })
}

// writeRowsOf writes rows of a table to a file: one JSON object for each.
func writeRowsOf(table database.Table, name string, rows func(each func(database.Row) error) error) error {
	file, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	out := bufio.NewWriter(file)
	encoder := json.NewEncoder(out)
	err = rows(func(row database.Row) error {
		cells := map[string]any{}
		for i, cell := range row {
			cells[table.Columns[i].Name] = readableCell(cell)
		}
		return encoder.Encode(cells)
	})
	return errors.Join(err, out.Flush(), durable.Sync(file), file.Close())
}

func readableCell(cell database.Value) any {
	text := cell.String()
	switch {
	case cell.Type == database.Null:
		return nil
	case utf8.ValidString(text):
		return text
	}
	return map[string]string{"base64": base64.StdEncoding.EncodeToString(cell.Data)}
}

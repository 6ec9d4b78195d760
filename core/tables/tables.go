// Package tables tells what an update changed in the database, puts that back, and keeps what visitors
// wrote meanwhile. Begin reading at Plan.
//
// It promises that no row is lost: what is replaced is saved in the run first.
package tables

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

	"wetland/core/caches"
	"wetland/core/database"
	"wetland/core/durable"
	"wetland/core/phrase"
	"wetland/core/progress"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/site/cms"
	"wetland/core/snapshot"
)

// The rules of going back, also in docs/going-back.md:
//
//   - a table that was created is set aside under another name;
//   - a table that was dropped, or whose structure changed, comes back from the
//     snapshot; its present rows are saved in the run first, and what visitors wrote
//     meanwhile is kept in the columns that both forms have;
//   - in a settings table the rows that changed come back, except those that the
//     CMS rewrites by itself;
//   - rows that changed in any other table are taken for visitors' writes and stay.
type Plan struct {
	Change database.Change
	notes  []runs.TableNote
	Save   []database.Table // tables whose present rows are saved first
	// keep is what visitors wrote to tables that are put back: it goes over their rows.
	keep map[string][]KeptRows
}

// PlanTables compares the present tables with the snapshot and decides.
func PlanTables(ctx context.Context, s *session.Session, from *snapshot.Manifest) (*Plan, error) {
	moment, err := s.DB.Read(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the database: %w", err)
	}
	plan, err := planMoment(ctx, s, from, moment)
	return plan, errors.Join(err, moment.Close())
}

func planMoment(ctx context.Context, s *session.Session, from *snapshot.Manifest, moment database.Moment) (*Plan, error) {
	now, err := database.Survey(ctx, moment, nil)
	if err != nil {
		return nil, err
	}
	plan := &Plan{Change: database.Change{Tag: s.Run.Name, KeepCounters: true}, keep: map[string][]KeptRows{}}
	for _, differ := range database.CompareTables(from.Described(), now) {
		if err := planTable(ctx, s, plan, from, differ, moment); err != nil {
			return nil, err
		}
	}
	return plan, nil
}

func planTable(ctx context.Context, s *session.Session, plan *Plan, from *snapshot.Manifest, differ database.TableChange, moment database.Moment) error {
	note := func(left bool, format string, args ...any) {
		plan.notes = append(plan.notes, runs.TableNote{Table: differ.Name, What: fmt.Sprintf(format, args...), Left: left})
	}
	putBack := func() {
		i := slices.IndexFunc(from.Tables, func(t snapshot.Table) bool { return t.Name == differ.Name })
		plan.Change.Replace = append(plan.Change.Replace, database.Replacement{Table: from.Tables[i].Table, Rows: snapshot.Rows(s.Store, from.Tables[i])})
	}
	switch differ.Fate {
	case database.Created:
		if differ.Now.Kind.Stays() {
			note(true, "was created by the update, and stays: it does nothing unless it is called")
			return nil
		}
		plan.Change.Aside = append(plan.Change.Aside, differ.Name)
		note(false, "was created by the update: set aside under another name, with its %s", phrase.Plural(int(differ.Now.Rows), "row"))
		return nil
	case database.Dropped:
		putBack()
		note(false, "was dropped by the update: back with %s", phrase.Plural(int(differ.Before.Rows), "row"))
		return nil
	case database.Altered:
		putBack()
		if differ.Now.Kind == database.BaseTable {
			plan.Save = append(plan.Save, differ.Now)
		}
		note(false, "was changed in structure by the update: back as it was, with %s", phrase.Plural(int(differ.Before.Rows), "row"))
		i := slices.IndexFunc(from.Tables, func(t snapshot.Table) bool { return t.Name == differ.Name })
		return keepVisitorsRows(ctx, s, plan, from.Tables[i], differ.Now, moment)
	}
	if differ.Now.Kind == database.Event {
		if !slices.Contains(s.Disabled, differ.Name) {
			putBack()
			note(false, "was switched by the update: back to what it was")
		}
		return nil
	}
	if s.Site.CMS.Purpose(differ.Name) != cms.Settings {
		left, err := planRelease(ctx, s, plan, from, differ, moment)
		if left {
			note(true, "its rows changed meanwhile (%d, was %d): visitors' writes, left as they are", differ.Now.Rows, differ.Before.Rows)
		}
		return err
	}
	return planSettings(ctx, s, plan, from, differ, moment)
}

// compareNow compares a table as it was with what it is now; also is a third state, or none.
func compareNow(ctx context.Context, s *session.Session, from *snapshot.Manifest, differ database.TableChange, moment database.Moment, also database.State) (database.Table, *database.RowChanges, error) {
	i := slices.IndexFunc(from.Tables, func(t snapshot.Table) bool { return t.Name == differ.Name })
	before := from.Tables[i]
	now := func(ctx context.Context, each func(database.Row) error) error {
		return moment.Rows(ctx, differ.Now, each)
	}
	rows, err := CompareRows(ctx, s, database.RowComparison{Table: before.Table, Before: snapshot.Rows(s.Store, before), Now: now, Also: also})
	return before.Table, rows, err
}

// patch plans to put some rows of a table back.
func (p *Plan) patch(patch database.Patch, now database.Table, what string) {
	p.Change.Patches = append(p.Change.Patches, patch)
	p.Save = append(p.Save, now)
	p.notes = append(p.notes, runs.TableNote{Table: now.Name, What: what})
}

// planSettings finds the rows of a settings table to put back.
func planSettings(ctx context.Context, s *session.Session, plan *Plan, from *snapshot.Manifest, differ database.TableChange, moment database.Moment) error {
	table, rows, err := compareNow(ctx, s, from, differ, moment, database.State{})
	if err != nil {
		return err
	}
	patch, n, own, err := PatchBack(ctx, table, rows, func(change database.RowChange) bool {
		return !s.Site.CMS.RewrittenByItself(table, StateBefore(change))
	})
	if err != nil {
		return err
	}
	if n > 0 {
		plan.patch(patch, differ.Now, fmt.Sprintf("%s of settings put back", phrase.Plural(n, "row")))
	}
	if own > 0 {
		plan.notes = append(plan.notes, runs.TableNote{Table: differ.Name, Left: true, What: fmt.Sprintf("left alone: %s that the CMS rewrites by itself", phrase.Plural(own, "row"))})
	}
	return nil
}

// planRelease finds the rows of a table, whatever it is for, that are another release's doing: those that its upgrade
// alone changed and that are as it left them, and those that it stored in a form of its own. It tells whether others
// changed.
func planRelease(ctx context.Context, s *session.Session, plan *Plan, from *snapshot.Manifest, differ database.TableChange, moment database.Moment) (left bool, err error) {
	var also database.State
	if settled, ok := settledRows(s, differ.Name, differ.Now); ok && slices.Contains(s.Undisturbed, differ.Name) {
		also = database.State{Table: settled.Table, Rows: snapshot.Rows(s.Store, settled)}
	}
	storedAnew := storesAnew(s, differ.Now)
	if also.Rows == nil && storedAnew == nil {
		return true, nil
	}
	table, rows, err := compareNow(ctx, s, from, differ, moment, also)
	if err != nil {
		return true, err
	}
	patch, n, others, err := PatchBack(ctx, table, rows, func(change database.RowChange) bool {
		return also.Rows != nil && slices.EqualFunc(change.Now, change.Also, sameCell) && !s.Site.CMS.RewrittenByItself(table, StateBefore(change)) ||
			storedAnew != nil && change.Before != nil && change.Now != nil && storedAnew(change.Before, change.Now)
	})
	if err == nil && n > 0 {
		plan.patch(patch, differ.Now, fmt.Sprintf("%s of the other release's making: as before again", phrase.Plural(n, "row")))
	}
	return others > 0, err
}

// storesAnew is what tells of rows of a table that a release of the CMS stored in a form of its own; nil: none does, or
// the CMS itself is not what is replaced.
func storesAnew(s *session.Session, table database.Table) func(before, now database.Row) bool {
	core, can := s.Site.CMS.(cms.Replaceable)
	if !can || !slices.ContainsFunc(s.Run.Components, func(t *runs.Target) bool { return t.Kind == cms.Core }) {
		return nil
	}
	return core.StoredAnew(table)
}

// CompareRows compares two states of a table until the session ends.
func CompareRows(ctx context.Context, s *session.Session, of database.RowComparison) (*database.RowChanges, error) {
	of.Dir, of.Before, of.Now = s.Site.Workspace.Dir, Counted(s, of.Before), Counted(s, of.Now)
	changes, err := database.CompareRows(ctx, of)
	if err == nil {
		s.Compared = append(s.Compared, changes)
	}
	return changes, err
}

// PatchBack returns what undoes those of the changes that are wanted, how many these are,
// and how many the others.
func PatchBack(ctx context.Context, table database.Table, rows *database.RowChanges, wanted func(database.RowChange) bool) (patch database.Patch, n, others int, err error) {
	err = rows.Each(ctx, func(change database.RowChange) error {
		if wanted(change) {
			n++
		} else {
			others++
		}
		return nil
	})
	pick := func(removed bool) database.Rows {
		return func(ctx context.Context, each func(database.Row) error) error {
			return rows.Each(ctx, func(change database.RowChange) error {
				if (change.Before == nil) != removed || !wanted(change) {
					return nil
				}
				return each(StateBefore(change))
			})
		}
	}
	return database.Patch{Table: table, Put: pick(false), Remove: pick(true)}, n, others, err
}

// StateBefore is the row as it was; of one that was added, as it is.
func StateBefore(change database.RowChange) database.Row {
	if change.Before == nil {
		return change.Now
	}
	return change.Before
}

// PutBackTables brings the database back to the snapshot as far as the update
// changed it, and proves that nothing is left to do.
func PutBackTables(ctx context.Context, s *session.Session, from *snapshot.Manifest) error {
	if s.NoDatabase != nil {
		s.Report.End(progress.Doubt, "database", "not in Wetland's hands: nothing is put back there")
		return nil
	}
	return s.Step("database", 0, "", func() (progress.Mark, string, error) {
		plan, err := PlanTables(ctx, s, from)
		if err != nil {
			return progress.Bad, "", err
		}
		tables := len(from.Tables)
		if plan.Change.Empty() {
			s.Run.Note(plan.notes...)
			return progress.Good, fmt.Sprintf("%s as in %s%s", phrase.Plural(tables, "table"), from.Name, LeftText(plan.notes)), nil
		}
		if err := ApplyTables(ctx, s, plan); err != nil {
			return progress.Bad, "", err
		}
		unfit, err := PutKept(ctx, s, plan.keep)
		s.Run.Note(unfit...)
		if err != nil {
			return progress.Bad, "", err
		}
		after, err := PlanTables(ctx, s, from)
		if err != nil {
			return progress.Bad, "", err
		}
		if !after.Change.Empty() {
			return progress.Bad, "", fmt.Errorf("%s still differ from %s after they were put back", noteTables(after.notes), from.Name)
		}
		mark, objects := caches.EmptyObjects(ctx, s, s.Site.CMS.Layout())
		return mark, fmt.Sprintf("%s put back as in %s, proved%s%s", noteTables(plan.notes), from.Name, LeftText(plan.notes), objects), nil
	})
}

// ApplyTables saves the present rows of what will be put back, then carries out the plan.
func ApplyTables(ctx context.Context, s *session.Session, plan *Plan) error {
	err := saveRows(ctx, s, plan)
	s.Run.Note(plan.notes...)
	if err != nil {
		return fmt.Errorf("save the current rows: %w", err)
	}
	applied, err := s.DB.Apply(ctx, plan.Change)
	if err != nil {
		return err
	}
	err = applied.Finish(ctx)
	s.Run.Note(NoteDefiners(s, applied)...)
	return err
}

// NoteDefiners tells what acts in another name than before, and remembers the events that were
// disabled for that.
func NoteDefiners(s *session.Session, applied database.Applied) []runs.TableNote {
	var notes []runs.TableNote
	for _, one := range applied.NewDefiners() {
		notes = append(notes, runs.TableNote{Table: one.Table, Unsure: true, What: one.String()})
		if one.Disabled {
			s.Disabled = append(s.Disabled, one.Table)
		}
	}
	return notes
}

// SweepTables drops what an interrupted change of the present or the known tables may have
// left.
func SweepTables(ctx context.Context, s *session.Session, known []snapshot.Table) error {
	if s.NoDatabase != nil {
		return nil
	}
	names, err := TableNames(ctx, s, known)
	if err != nil {
		return err
	}
	if err := errors.Join(s.DB.Sweep(ctx, names), SweepScratch(ctx, s)); err != nil {
		return fmt.Errorf("clear what is left in the database: %w", err)
	}
	return nil
}

// TableNames names the tables that are in the database now, and the known ones.
func TableNames(ctx context.Context, s *session.Session, known []snapshot.Table) ([]string, error) {
	present, err := s.DB.Read(ctx)
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

// SweepScratch drops databases for one use that a crash left.
func SweepScratch(ctx context.Context, s *session.Session) error {
	login, err := s.Site.Login()
	if err != nil {
		return err
	}
	return s.Site.Host.Databases().SweepScratch(ctx, login)
}

func noteTables(notes []runs.TableNote) string {
	var names []string
	for _, note := range notes {
		if !note.Left && !slices.Contains(names, note.Table) {
			names = append(names, note.Table)
		}
	}
	return phrase.List(names, 3)
}

// LeftText names the tables that were left as they are; "" if there are none.
func LeftText(notes []runs.TableNote) string {
	var names []string
	for _, note := range notes {
		if note.Left && !slices.Contains(names, note.Table) {
			names = append(names, note.Table)
		}
	}
	if len(names) == 0 {
		return ""
	}
	return "; left as they are: writes of visitors or of the CMS itself in " + phrase.List(names, 3)
}

// saveRows writes the present rows of the tables to files in the run, so that
// nothing that was written is lost: one JSON object for each row.
func saveRows(ctx context.Context, s *session.Session, plan *Plan) error {
	if len(plan.Save) == 0 {
		return nil
	}
	folder := filepath.Join(s.Run.Folder, "rows-before-going-back")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	earlier, err := os.ReadDir(folder) // a run may go back several times
	if err != nil {
		return err
	}
	moment, err := s.DB.Read(ctx)
	if err != nil {
		return err
	}
	for i, table := range plan.Save {
		file := filepath.Join(folder, fmt.Sprintf("%02d-%s.jsonl", len(earlier)+i+1, runs.FileName(table.Name)))
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

// Counted tells of rows as they are read.
func Counted(s *session.Session, rows database.Rows) database.Rows {
	const often = 1 << 12
	return func(ctx context.Context, each func(database.Row) error) error {
		n := int64(0)
		err := rows(ctx, func(row database.Row) error {
			if n++; n%often == 0 {
				s.Report.Advance(often)
			}
			return each(row)
		})
		s.Report.Advance(n % often)
		return err
	}
}

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

	"wetland/core/database"
	"wetland/core/durable"
	"wetland/core/phrase"
	"wetland/core/runs"
	"wetland/core/session"
	"wetland/core/snapshot"
)

// CompareRows compares two states of a table until the session ends.
func CompareRows(ctx context.Context, s *session.Session, of database.RowComparison) (*database.RowChanges, error) {
	of.Dir, of.Before, of.Now = s.Site.Workspace.Dir, Counted(s, of.Before), Counted(s, of.Now)
	changes, err := database.CompareRows(ctx, of)
	if err == nil {
		s.Compared = append(s.Compared, changes)
	}
	return changes, err
}

// endComparison gives up a comparison before the session ends; nil is none.
func endComparison(s *session.Session, rows *database.RowChanges) error {
	if rows == nil {
		return nil
	}
	s.Compared = slices.DeleteFunc(s.Compared, func(one *database.RowChanges) bool { return one == rows })
	return rows.Close()
}

// PatchBack returns what undoes those of the changes that are wanted, how many these are,
// and how many the others.
func PatchBack(
	ctx context.Context, table database.Table, rows *database.RowChanges, wanted func(database.RowChange) bool,
) (patch database.Patch, n, others int, err error) {
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

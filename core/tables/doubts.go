package tables

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"wetland/core/database"
	"wetland/core/durable"
	"wetland/core/phrase"
	"wetland/core/runs"
	"wetland/core/session"
)

// Doubt are rows of a table of which nobody can tell whether the update or a visitor changed some of their cells. They
// are as they are now; how they were right before the swap, but for what visitors surely wrote, is kept beside that in
// the run.
type Doubt struct {
	Table database.Table
	Rows  int
	of    *written // nil: of a table whose rows cannot be told apart
	each  func(ctx context.Context, each func(before, now database.Row) error) error
}

func (w *written) eachDoubt(ctx context.Context, each func(before, now database.Row) error) error {
	return w.eachOutcome(ctx, func(_, _ database.Row, o outcome) error {
		if o.doubt {
			return each(o.old, o.row)
		}
		return nil
	})
}

// eachWholeDoubt gives the rows of a table that is made anew with the columns that its other form had not.
func (w *written) eachWholeDoubt(ctx context.Context, each func(before, now database.Row) error) error {
	now, was := map[string]database.Row{}, map[string]database.Row{}
	err := w.eachDoubt(ctx, func(b, n database.Row) error {
		now[w.keyOf(b)], was[w.keyOf(b)] = slices.Clone(n), slices.Clone(b)
		return nil
	})
	if err != nil {
		return err
	}
	return w.eachWhole(ctx, was, func(row, to database.Row) error {
		key := w.keyOf(to)
		if now[key] == nil {
			return each(w.over(row, to), nil)
		}
		return each(w.over(row, to), w.over(row, now[key]))
	})
}

// eachWhole visits the rows of a table as it was, with all of its columns, whose keys some cells are known of.
func (w *written) eachWhole(
	ctx context.Context, cells map[string]database.Row, visit func(row, cells database.Row) error,
) error {
	return w.before.Rows(ctx, func(row database.Row) error {
		short := make(database.Row, len(w.table.Columns))
		for i, column := range w.table.Columns {
			short[i] = row[columnAt(w.before.Table, column.Name)]
		}
		if known, is := cells[w.keyOf(short)]; is {
			return visit(row, known)
		}
		return nil
	})
}

// over puts cells of a row in the columns that all of a table's forms have over one of the table as it was.
func (w *written) over(row, cells database.Row) database.Row {
	merged := row.Clone()
	for i, column := range w.table.Columns {
		merged[columnAt(w.before.Table, column.Name)] = cells[i]
	}
	return merged
}

func doubtWords(all []Doubt) string {
	var words []string
	for _, one := range all {
		words = append(words, fmt.Sprintf("%s of %s", phrase.Plural(one.Rows, "row"), one.Table.Name))
	}
	return phrase.List(words, 4)
}

// UndecidedError says of which rows nobody can tell whose they are.
type UndecidedError struct{ words string }

// Error says it as a sentence's end.
func (u *UndecidedError) Error() string { return u.words }

// Undecided returns an *UndecidedError where there are such rows.
func (r *Readings) Undecided() error {
	if len(r.doubts) == 0 {
		return nil
	}
	left := "They are left as they are now"
	if len(r.doubts) == 1 && r.doubts[0].Rows == 1 {
		left = "It is left as it is now"
	}
	return &UndecidedError{fmt.Sprintf("%s changed while the new version settled, and nobody can tell whether by it or by"+
		" a visitor. %s; both states are in %s", doubtWords(r.doubts), left, doubtsFolder(r.s.Run))}
}

func doubtsFolder(run *runs.Run) string { return filepath.Join(run.Folder, "rows-undecided") }

// undecided is a row in a file of doubts: as people read it, and exactly.
type undecided struct {
	Before map[string]any `json:"before"` // null: it was not there
	Now    map[string]any `json:"now"`
	Exact  [2][]byte      `json:"exact"`
}

// keepDoubts keeps both states of what could not be told in the run, of one table or of all: a file for each table,
// whose first line describes it.
func (r *Readings) keepDoubts(ctx context.Context, all []Doubt, only *written) error {
	for _, doubt := range all {
		kept := slices.ContainsFunc(r.doubts, func(other Doubt) bool { return other.Table.Name == doubt.Table.Name })
		if kept || only != nil && only != doubt.of {
			continue
		}
		if err := os.MkdirAll(doubtsFolder(r.s.Run), 0o700); err != nil {
			return err
		}
		name := filepath.Join(doubtsFolder(r.s.Run), runs.FileName(doubt.Table.Name)+".jsonl")
		if err := doubt.save(ctx, name); err != nil {
			return fmt.Errorf("keep the rows of %s in the run: %w", doubt.Table.Name, err)
		}
		rows := phrase.Plural(doubt.Rows, "row")
		r.s.Run.Note(runs.TableNote{Table: doubt.Table.Name, Unsure: true, Saved: name,
			What: rows + " changed while the new version settled, by it or by a visitor: left as now"})
		entry := runs.Undecided{Table: doubt.Table.Name, Rows: doubt.Rows, File: name}
		r.s.Run.Undecided = append(r.s.Run.Undecided, entry)
		r.doubts = append(r.doubts, doubt)
		if doubt.of != nil {
			doubt.of.undecided = doubt.Rows
		}
	}
	return nil
}

func (d Doubt) save(ctx context.Context, name string) error {
	file, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	out := bufio.NewWriter(file)
	encoder := json.NewEncoder(out)
	err = errors.Join(encoder.Encode(d.Table), d.each(ctx, func(before, now database.Row) error {
		one := undecided{Before: readable(d.Table, before), Now: readable(d.Table, now)}
		for i, row := range []database.Row{before, now} {
			if row != nil {
				one.Exact[i] = database.AppendRow(nil, row)
			}
		}
		return encoder.Encode(one)
	}))
	return errors.Join(err, out.Flush(), durable.Sync(file), file.Close())
}

// readable is a row as people read it.
func readable(table database.Table, row database.Row) map[string]any {
	if row == nil {
		return nil
	}
	cells := map[string]any{}
	for i, cell := range row {
		cells[table.Columns[i].Name] = readableCell(cell)
	}
	return cells
}

// PutBackDoubts puts cells that could not be told back as they were right before the swap: somebody decided so. What
// was written to other cells since stays, and so do rows that somebody removed since, or gave a key anew.
func PutBackDoubts(ctx context.Context, s *session.Session) error {
	for _, one := range s.Run.Undecided {
		table, doubts, err := readDoubts(one.File)
		if err != nil {
			return fmt.Errorf("read %s: %w", one.File, err)
		}
		put, err := overPresent(ctx, s, table, doubts)
		if err != nil {
			return fmt.Errorf("read the table %s: %w", one.Table, err)
		}
		back := database.Patch{Table: table, Put: database.RowsOf(put)}
		if len(table.Key) == 0 {
			back.Put, back.Add = nil, back.Put
		}
		applied, err := s.DB.Apply(ctx, database.Change{Tag: s.Run.Name, Patches: []database.Patch{back}})
		if err == nil {
			err = applied.Finish(ctx)
		}
		if err != nil {
			return fmt.Errorf("put back rows of %s: %w", one.Table, err)
		}
		note := runs.TableNote{Table: one.Table, Saved: one.File, What: phrase.Plural(len(put), "row") +
			" as before again: you said so"}
		if left := len(doubts) - len(put); left > 0 {
			note.What += fmt.Sprintf("; %s written anew or removed since, and left", phrase.Plural(left, "other"))
		}
		s.Run.Note(note)
	}
	return nil
}

// overPresent puts the cells that are in doubt, as they were, over the present rows. Rows without a key come beside
// them.
func overPresent(
	ctx context.Context, s *session.Session, table database.Table, doubts [][2]database.Row,
) (put []database.Row, err error) {
	of := &written{s: s, table: table}
	of.setUp(&Readings{s: s})
	byKey := map[string][2]database.Row{}
	for _, one := range doubts {
		if len(table.Key) == 0 {
			put = append(put, one[0])
			continue
		}
		byKey[of.keyOf(one[0])] = one
	}
	moment, err := s.DB.Read(ctx)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, moment.Close()) }()
	err = moment.Rows(ctx, table, func(present database.Row) error {
		one, is := byKey[of.keyOf(present)]
		if !is {
			return nil
		}
		delete(byKey, of.keyOf(present))
		if one[1] == nil || of.isAnother(one[1], present) {
			return nil // somebody gave its key anew
		}
		row := present.Clone()
		for i := range row {
			if !sameCell(one[0][i], one[1][i]) {
				row[i] = one[0][i]
			}
		}
		put = append(put, row)
		return nil
	})
	for _, one := range byKey {
		if one[1] == nil {
			put = append(put, one[0])
		}
	}
	return put, err
}

// readDoubts reads a file of doubts: rows as they were, and as they are; nil: not there.
func readDoubts(name string) (table database.Table, doubts [][2]database.Row, err error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return table, nil, err
	}
	decoder := json.NewDecoder(bytes.NewReader(text))
	if err := decoder.Decode(&table); err != nil {
		return table, nil, err
	}
	for decoder.More() {
		var one undecided
		if err := decoder.Decode(&one); err != nil {
			return table, nil, err
		}
		var both [2]database.Row
		for i, encoded := range one.Exact {
			if encoded == nil {
				continue
			}
			var rows database.RowDecoder
			err := rows.Decode(encoded, func(row database.Row) error { both[i] = row.Clone(); return nil })
			if err != nil || len(both[i]) != len(table.Columns) {
				return table, nil, errors.Join(errors.New("a row that is not of its table"), err)
			}
		}
		doubts = append(doubts, both)
	}
	return table, doubts, nil
}

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

// Doubt are rows of a table of which nobody can tell whether the update or a visitor changed them. They are as they are
// now; how they were right before the swap is kept beside that in the run.
type Doubt struct {
	Table database.Table
	Rows  int
	of    *written // nil: of a table whose rows cannot be told apart
	each  func(ctx context.Context, each func(before, now database.Row) error) error
}

func (w *written) eachDoubt(ctx context.Context, each func(before, now database.Row) error) error {
	return w.eachOutcome(ctx, func(b, n database.Row, o outcome) error {
		switch {
		case o.doubt:
			return each(b, n)
		case o.fresh != nil && w.tied:
			return each(b, o.fresh)
		}
		return nil
	})
}

// eachWholeDoubt gives the rows of a table that is made anew with the columns that its other form had not.
func (w *written) eachWholeDoubt(ctx context.Context, each func(before, now database.Row) error) error {
	now := map[string]database.Row{}
	err := w.eachDoubt(ctx, func(b, n database.Row) error {
		now[w.keyOf(b)] = slices.Clone(n)
		return nil
	})
	if err != nil {
		return err
	}
	return w.eachWhole(ctx, now, func(row, to database.Row) error {
		if to != nil {
			to = w.over(row, to)
		}
		return each(row, to)
	})
}

// eachWhole visits the rows of a table as it was, with all of its columns, whose keys some cells are known of.
func (w *written) eachWhole(ctx context.Context, cells map[string]database.Row, visit func(row, cells database.Row) error) error {
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
	return &UndecidedError{fmt.Sprintf("%s changed while the new version settled, and nobody can tell whether by it or by a visitor. %s; both states are in %s",
		doubtWords(r.doubts), left, doubtsFolder(r.s.Run))}
}

func doubtsFolder(run *runs.Run) string { return filepath.Join(run.Folder, "rows-undecided") }

// undecided is a row in a file of doubts: as people read it, and exactly.
type undecided struct {
	Before map[string]any `json:"before"` // null: it was not there
	Now    map[string]any `json:"now"`
	Exact  [2][]byte      `json:"exact"`
}

// keepDoubts keeps both states of what could not be told in the run, of one table or of all: a file for each table, whose
// first line describes it.
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
		what := phrase.Plural(doubt.Rows, "row") + " changed while the new version settled, by it or by a visitor: left as now"
		r.s.Run.Note(runs.TableNote{Table: doubt.Table.Name, Unsure: true, Saved: name, What: what})
		r.s.Run.Undecided = append(r.s.Run.Undecided, runs.Undecided{Table: doubt.Table.Name, Rows: doubt.Rows, File: name})
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

// PutBackDoubts puts rows that could not be told back as they were right before the swap, whatever was written to them
// since: somebody decided so.
func PutBackDoubts(ctx context.Context, s *session.Session) error {
	for _, one := range s.Run.Undecided {
		table, put, remove, err := readDoubts(one.File)
		if err != nil {
			return fmt.Errorf("read %s: %w", one.File, err)
		}
		back := database.Patch{Table: table, Put: database.RowsOf(put), Remove: database.RowsOf(remove)}
		applied, err := s.DB.Apply(ctx, database.Change{Tag: s.Run.Name, Patches: []database.Patch{back}})
		if err == nil {
			err = applied.Finish(ctx)
		}
		if err != nil {
			return fmt.Errorf("put back rows of %s: %w", one.Table, err)
		}
		what := phrase.Plural(one.Rows, "row") + " as before again: you said so"
		s.Run.Note(runs.TableNote{Table: one.Table, What: what, Saved: one.File})
	}
	return nil
}

// readDoubts reads a file of doubts: the rows as they were, and those that were not there.
func readDoubts(name string) (table database.Table, put, remove []database.Row, err error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return table, nil, nil, err
	}
	decoder := json.NewDecoder(bytes.NewReader(text))
	if err := decoder.Decode(&table); err != nil {
		return table, nil, nil, err
	}
	row := func(encoded []byte) (row database.Row, err error) {
		var rows database.RowDecoder
		err = rows.Decode(encoded, func(one database.Row) error { row = one.Clone(); return nil })
		if err == nil && len(row) != len(table.Columns) {
			err = errors.New("a row that is not of its table")
		}
		return row, err
	}
	for decoder.More() {
		var one undecided
		if err := decoder.Decode(&one); err != nil {
			return table, nil, nil, err
		}
		at, to := one.Exact[0], &put
		if at == nil {
			at, to = one.Exact[1], &remove
		}
		is, err := row(at)
		if err != nil {
			return table, nil, nil, err
		}
		*to = append(*to, is)
	}
	return table, put, remove, nil
}

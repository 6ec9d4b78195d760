package database

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// WriteSQL writes tables and programs as statements that the engine's own client
// loads: mariadb or mysql, or sqlite3. The engine is that of a Login. Nothing in them is a
// command to the client itself: what a client could take for one wraps ErrForeignStatement.
func WriteSQL(ctx context.Context, to io.Writer, engine string, all []Replacement) error {
	tables := Change{Replace: all}.described()
	if err := errors.Join(CheckStatements(engine, "", false, tables), checkForClients(engine, tables)); err != nil {
		return err
	}
	w := &sqlWriter{out: bufio.NewWriterSize(to, 1<<20)}
	var err error
	switch engine {
	case "mysql":
		err = w.mysql(ctx, all)
	case "sqlite":
		err = w.sqlite(ctx, all)
	default:
		err = fmt.Errorf("no engine is called %q here (known: mysql, sqlite)", engine)
	}
	if err != nil {
		return err
	}
	return w.out.Flush()
}

// sqlWriter keeps the first error of its buffer until Flush, as bufio does.
type sqlWriter struct{ out *bufio.Writer }

func (w *sqlWriter) line(format string, args ...any) { fmt.Fprintf(w.out, format+"\n", args...) }

func (w *sqlWriter) mysql(ctx context.Context, all []Replacement) error {
	w.line("-- Load with: mariadb --max-allowed-packet=1G DATABASE < THIS-FILE (or mysql)")
	w.line("%s", sandboxMark)
	w.line("-- The server must allow packets as large as the largest row (max_allowed_packet).")
	w.line("SET NAMES utf8mb4;")
	w.line("%s;", session)
	if slices.ContainsFunc(all, func(r Replacement) bool { return r.Table.History }) {
		for _, name := range []string{"system_versioning_insert_history", "system_versioning_alter_history"} {
			w.line("SET SESSION %s = %s;", name, wishes[name])
		}
	}
	for _, r := range all {
		switch r.Table.Kind {
		case BaseTable:
			w.line("\n%s;", inheritCollations(r.Table.Create))
			if err := w.rowsMySQL(ctx, r); err != nil {
				return fmt.Errorf("write the rows of %s: %w", r.Table.Name, err)
			}
		case Sequence:
			var next, round int64
			if _, err := fmt.Sscanf(r.Table.Digest, "next %d, round %d", &next, &round); err != nil {
				return fmt.Errorf("where the sequence %s stood: %w", r.Table.Name, err)
			}
			w.line("\n%s;\nDO SETVAL(%s, %d, 0, %d);", r.Table.Create, quoteMySQL(r.Table.Name), next, round)
		}
	}
	end := delimiter(all)
	w.line("\nDELIMITER %s", end)
	for _, r := range all {
		for _, statement := range r.Table.After {
			w.line("%s%s", statement, end)
		}
		if r.Table.isProgram() {
			w.line("%s%s\n%s%s", r.Table.Settings, end, r.Table.Create, end)
		}
		if len(r.Table.After) > 0 || r.Table.isProgram() {
			w.line("%s%s\nSET NAMES utf8mb4%s", session, end, end)
		}
	}
	for _, view := range inOrder(all) {
		w.line("%s%s", view.Create, end)
	}
	w.line("DELIMITER ;")
	return ctx.Err()
}

// sandboxMark has MariaDB's client carry out no commands of its own (from 10.5.25, 10.11.8 and
// 11.4.2 on); to older ones, to MySQL's client and to servers it is a comment.
const sandboxMark = `/*M!999999\- enable the sandbox mode */`

// delimiter is one that stands in no statement, not even in a text.
func delimiter(all []Replacement) string {
	for n := 2; ; n++ {
		end := strings.Repeat(";", n)
		if !slices.ContainsFunc(all, func(r Replacement) bool {
			return strings.Contains(r.Table.Create+" "+strings.Join(r.Table.After, " "), end)
		}) {
			return end
		}
	}
}

// inOrder returns the views, each after those that it names.
func inOrder(all []Replacement) []Table {
	var waiting, ordered []Table
	for _, r := range all {
		if r.Table.Kind == View {
			waiting = append(waiting, r.Table)
		}
	}
	for len(waiting) > 0 {
		var later []Table
		for _, view := range waiting {
			names := false
			for _, other := range waiting {
				names = names || (other.Name != view.Name && strings.Contains(view.Create, quoteMySQL(other.Name)))
			}
			if names {
				later = append(later, view)
			} else {
				ordered = append(ordered, view)
			}
		}
		if len(later) == len(waiting) { // names that only look like views
			return append(ordered, later...)
		}
		waiting = later
	}
	return ordered
}

func (w *sqlWriter) rowsMySQL(ctx context.Context, r Replacement) error {
	if len(r.Table.Columns) == 0 {
		return nil
	}
	head := "INSERT INTO " + quoteMySQL(r.Table.Name) + " (" + quoteAll(columnNames(r.Table), quoteMySQL) + ") VALUES\n("
	var text []byte
	err := r.Rows(ctx, func(row Row) error {
		switch {
		case len(text) >= fullBatch:
			_, _ = w.out.Write(append(text, ");\n"...)) // told by Flush
			text = append(text[:0], head...)
		case len(text) == 0:
			text = append(text, head...)
		default:
			text = append(text, "),\n("...)
		}
		for i, cell := range row {
			if i > 0 {
				text = append(text, ',')
			}
			if !utf8.Valid(cell.Data) { // so that the file stays a text
				text = fmt.Appendf(text, "x'%x'", cell.Data)
				continue
			}
			text = appendLiteral(text, r.Table.Columns[i], cell)
		}
		return nil
	})
	if err != nil || len(text) == 0 {
		return err
	}
	_, _ = w.out.Write(append(text, ");\n"...)) // told by Flush
	return nil
}

func (w *sqlWriter) sqlite(ctx context.Context, all []Replacement) error {
	w.line("-- Load with: sqlite3 NEW-FILE < THIS-FILE")
	w.line("PRAGMA foreign_keys = OFF;\nBEGIN;")
	for _, r := range all {
		if r.Table.Kind != BaseTable {
			continue
		}
		w.line("%s;", r.Table.Create)
		head := "INSERT INTO " + quoteSQLite(r.Table.Name) + " (" + quoteAll(columnNames(r.Table), quoteSQLite) + ") VALUES ("
		err := r.Rows(ctx, func(row Row) error {
			text := []byte(head)
			for i, cell := range row {
				if i > 0 {
					text = append(text, ',')
				}
				text = appendSQLite(text, cell)
			}
			_, _ = w.out.Write(append(text, ");\n"...)) // told by Flush
			return nil
		})
		if err != nil {
			return fmt.Errorf("write the rows of %s: %w", r.Table.Name, err)
		}
		if r.Table.Counter > 0 {
			w.line("UPDATE sqlite_sequence SET seq = %d WHERE name = '%s';", r.Table.Counter, strings.ReplaceAll(r.Table.Name, "'", "''"))
		}
	}
	for _, r := range all {
		if r.Table.Kind == View {
			w.line("%s;", r.Table.Create)
		}
		for _, statement := range r.Table.After {
			w.line("%s;", statement)
		}
	}
	w.line("COMMIT;")
	return ctx.Err()
}

func appendSQLite(to []byte, v Value) []byte {
	switch v.Type {
	case Null:
		return append(to, "NULL"...)
	case Integer:
		return strconv.AppendInt(to, asInteger(v), 10)
	case Real:
		number := asReal(v)
		if math.IsInf(number, 0) { // SQLite reads what is too large as infinite
			return fmt.Appendf(to, "%s9e999", map[bool]string{true: "-"}[number < 0])
		}
		return strconv.AppendFloat(to, number, 'e', 17, 64)
	case Text:
		if !strings.ContainsRune(string(v.Data), 0) && utf8.Valid(v.Data) {
			return append(append(append(to, '\''), strings.ReplaceAll(string(v.Data), "'", "''")...), '\'')
		}
		return fmt.Appendf(to, "CAST(x'%x' AS TEXT)", v.Data)
	}
	return fmt.Appendf(to, "x'%x'", v.Data)
}

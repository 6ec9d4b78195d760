package database

import (
	"bufio"
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/go-sql-driver/mysql"
	"golang.org/x/sync/errgroup"
)

// loadTable makes a table under its incoming name, with its rows, and proves them.
func (m *mysqlDatabase) loadTable(ctx context.Context, conn *sql.Conn, r Replacement, keepCounter bool) error {
	to := incoming(r.Table.Name)
	if _, err := conn.ExecContext(ctx, "DROP TABLE IF EXISTS "+quoteMySQL(to)); err != nil {
		return err
	}
	create, indexes := takeIndexes(r.Table)
	create, err := m.renameInCreate(inheritCollations(create), r.Table.Name, to)
	if err != nil {
		return err
	}
	if _, err := conn.ExecContext(ctx, create); err != nil {
		return explainLoad(err)
	}
	if err := fill(ctx, conn, to, r); err != nil {
		return explainLoad(err)
	}
	// Sorting all rows once for an index is faster than looking for each one's place. The rows
	// do not change by that, so that they are read back meanwhile.
	err = both(ctx, func(ctx context.Context) error {
		if len(indexes) == 0 {
			return nil
		}
		_, err := conn.ExecContext(ctx, "ALTER TABLE "+quoteMySQL(to)+" ADD "+strings.Join(indexes, ", ADD "))
		return explainLoad(err)
	}, func(ctx context.Context) error { return m.proveRows(ctx, r.Table, to) })
	if err == nil {
		err = m.proveStructure(ctx, conn, r.Table, to)
	}
	if err != nil {
		return err
	}
	if !keepCounter || r.Table.Counter == 0 {
		return nil
	}
	present, err := collectRows(ctx, conn, sent, `SELECT COALESCE(auto_increment, 0) FROM information_schema.tables WHERE table_schema = ? AND table_name = ?`, m.name, r.Table.Name)
	if err != nil || len(present) == 0 {
		return err
	}
	if counter, _ := strconv.ParseInt(present[0][0].String(), 10, 64); counter > r.Table.Counter {
		_, err = conn.ExecContext(ctx, fmt.Sprintf("ALTER TABLE %s AUTO_INCREMENT = %d", quoteMySQL(to), counter))
	}
	return err
}

// proveRows reads the loaded table back, texts in the bytes they are stored in.
func (m *mysqlDatabase) proveRows(ctx context.Context, table Table, loaded string) error {
	exact, err := m.connect(ctx, true)
	if err != nil {
		return err
	}
	defer exact.Close()
	return proveRows(ctx, exact, sent, selectMySQL(table, loaded), table)
}

// proveStructure compares the loaded table's structure with what it is to be.
func (m *mysqlDatabase) proveStructure(ctx context.Context, conn *sql.Conn, table Table, loaded string) error {
	if table.Digest == "" {
		return nil
	}
	shown, err := collectRows(ctx, conn, sent, "SHOW CREATE TABLE "+quoteMySQL(loaded))
	if err != nil {
		return err
	}
	made, _ := m.takeUnique(shown[0][1].String(), loaded)
	if made, err = m.renameInCreate(made, loaded, table.Name); err != nil {
		return err
	}
	if got, want := (Table{Create: made}), (Table{Create: table.Create}); got.Shape() != want.Shape() {
		return fmt.Errorf("the server made another structure than the table had:\n%s\ninstead of\n%s", got.Create, want.Create)
	}
	return nil
}

var (
	ownCollation   = regexp.MustCompile("(?m)^(  `(?:[^`]|``)*` [a-z]+(?:\\((?:[^')]|'(?:[^']|'')*')*\\))?) COLLATE (\\w+)")
	tableCollation = regexp.MustCompile(`(?m)^\) ENGINE=.* COLLATE=(\w+)`)
)

// inheritCollations leaves out the collations that columns have from their table: MySQL prints
// them, but keeps in mind whether they were said, and then prints the character set as well.
// What was said comes with its character set.
func inheritCollations(create string) string {
	own := tableCollation.FindStringSubmatch(create)
	if own == nil {
		return create
	}
	return ownCollation.ReplaceAllStringFunc(create, func(column string) string {
		return strings.TrimSuffix(column, " COLLATE "+own[1])
	})
}

func (m *mysqlDatabase) renameInCreate(create, from, to string) (string, error) {
	head := "CREATE TABLE " + quoteMySQL(from)
	if !strings.HasPrefix(create, head) {
		return "", fmt.Errorf("its statement does not begin with %s", head)
	}
	create = "CREATE TABLE " + quoteMySQL(to) + create[len(head):]
	if m.isMySQL {
		create = renameChecks(create, from, to)
	}
	return create, nil
}

// renameChecks renames the checks whose names begin with the table's, as MySQL makes them: there
// they change with the table (RENAME TABLE in MySQL's manual).
func renameChecks(create, from, to string) string {
	quoted := func(table string) string { return "CONSTRAINT `" + strings.ReplaceAll(table, "`", "``") + "_chk_" }
	return strings.ReplaceAll(create, "\n  "+quoted(from), "\n  "+quoted(to))
}

var (
	plainIndex    = regexp.MustCompile("^KEY `")
	otherIndex    = regexp.MustCompile("^ +(SPATIAL|VECTOR) KEY `")
	ownCounter    = regexp.MustCompile("(?m)^  `((?:[^`]|``)*)` .*\\bAUTO_INCREMENT\\b")
	primaryCounts = "PRIMARY KEY ("
)

// takeIndexes cuts the plain indexes out of SHOW CREATE TABLE, which prints each on a
// line of its own, for when the rows are in. The column that counts must keep one.
func takeIndexes(table Table) (create string, indexes []string) {
	lines := strings.Split(table.Create, "\n")
	if counts := ownCounter.FindStringSubmatch(table.Create); counts != nil &&
		!slices.ContainsFunc(lines, func(line string) bool {
			return strings.HasPrefix(strings.TrimSpace(line), primaryCounts+"`"+counts[1]+"`")
		}) {
		return table.Create, nil
	}
	if !strings.Contains(table.Create, "ENGINE=InnoDB") || strings.Contains(table.Create, "PARTITION BY") {
		return table.Create, nil
	}
	// What is added comes last in the order that SHOW CREATE prints, but for FULLTEXT.
	last := -1
	for i, line := range lines {
		if otherIndex.MatchString(line) {
			last = i
		}
	}
	at := -1
	return takeLines(table.Create, func(clause string) bool {
		at++
		return at > last && plainIndex.MatchString(clause)
	})
}

// takeLines cuts the clauses that are wanted out of a CREATE TABLE.
func takeLines(create string, wanted func(clause string) bool) (without string, clauses []string) {
	var kept []string
	for line := range strings.SplitSeq(create, "\n") {
		clause := strings.TrimSuffix(strings.TrimSpace(line), ",")
		if wanted(clause) {
			clauses = append(clauses, clause)
			continue
		}
		kept = append(kept, line)
	}
	if len(clauses) > 0 {
		for i := len(kept) - 1; i > 0; i-- {
			if strings.HasPrefix(kept[i], ")") {
				kept[i-1] = strings.TrimSuffix(kept[i-1], ",")
				break
			}
		}
	}
	return strings.Join(kept, "\n"), clauses
}

// explainLoad tells what to do about a server that does not take a table or its rows.
func explainLoad(err error) error {
	switch {
	case errors.Is(err, mysql.ErrPktTooLarge) || isNumber(err, 1153):
		return fmt.Errorf("a row is larger than the server takes in one statement: raise its max_allowed_packet (1G is the most), then try again: %w", err)
	case isNumber(err, 1021, 1114): // ER_DISK_FULL, ER_RECORD_FILE_FULL
		return fmt.Errorf("the database server has no room left: make room on its disk, then try again: %w", err)
	case isNumber(err, 3750): // ER_TABLE_WITHOUT_PK
		return fmt.Errorf("the server takes no table without a primary key, and lets only an administrator say otherwise: set its sql_require_primary_key to 0, then try again: %w", err)
	}
	return err
}

// fullBatch is the size in bytes at which a statement is sent: far below the
// smallest packet limit that servers come with, 16 MiB.
const fullBatch = 1 << 20

// fill writes the rows of a new table: as a stream of lines where the server takes
// that, which spares it the parsing of statements, else with statements.
func fill(ctx context.Context, conn *sql.Conn, to string, r Replacement) error {
	allowed, err := collectRows(ctx, conn, sent, "SELECT @@local_infile")
	rows := r.Rows
	if err == nil && allowed[0][0].String() == "1" && len(r.Table.Columns) > 0 {
		left, err := streamRows(ctx, conn, to, r)
		if err != nil || left == 0 {
			return err
		}
		rows = onlyExact(r)
	}
	if _, err := conn.ExecContext(ctx, "SET autocommit = 0"); err != nil {
		return err
	}
	_, err = insertRows(ctx, conn, inserting, to, r.Table, rows)
	for _, statement := range []string{"COMMIT", "SET autocommit = 1"} {
		_, endErr := conn.ExecContext(context.WithoutCancel(ctx), statement)
		err = errors.Join(err, endErr)
	}
	return err
}

// holdsExact tells of rows that a line cannot hold as they are.
func holdsExact(table Table, row Row) bool {
	for i, cell := range row {
		if table.Columns[i].Type == "json" && cell.Type != Null && len(exactNumbers(cell.Data)) > 0 {
			return true
		}
	}
	return false
}

// onlyExact gives the rows that streamRows leaves out.
func onlyExact(r Replacement) Rows {
	return func(ctx context.Context, each func(Row) error) error {
		return r.Rows(ctx, func(row Row) error {
			if !holdsExact(r.Table, row) {
				return nil
			}
			return each(row)
		})
	}
}

// wantText are the types that take no bytes: MySQL's JSON, and what MariaDB keeps in bytes of
// its own and reads from text.
var wantText = []string{"json", "uuid", "inet4", "inet6"}

// linesInto says where the cells of a line go. All arrive as bytes: where text is wanted, they
// are told to be that first.
func linesInto(table Table) string {
	var targets, sets []string
	for i, column := range table.Columns {
		name := quoteMySQL(column.Name)
		if slices.Contains(wantText, column.Type) {
			variable := fmt.Sprintf("@wetland_%d", i)
			sets = append(sets, name+" = CONVERT("+variable+" USING utf8mb4)")
			name = variable
		}
		targets = append(targets, name)
	}
	into := "(" + strings.Join(targets, ", ") + ")"
	if len(sets) > 0 {
		into += " SET " + strings.Join(sets, ", ")
	}
	return into
}

// streamRows sends the rows as lines, but for those that holdsExact tells of: it returns how
// many they are. The server takes what does not fit for a mere warning: the proof that follows
// finds it.
func streamRows(ctx context.Context, conn *sql.Conn, to string, r Replacement) (left int64, err error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	lines, into := io.Pipe()
	name := "wetland-" + rand.Text()
	mysql.RegisterReaderHandler(name, func() io.Reader { return lines })
	defer mysql.DeregisterReaderHandler(name)
	made := make(chan error, 1)
	go func() {
		var err error
		left, err = writeLines(ctx, into, r)
		_ = into.CloseWithError(err) // of a pipe, never fails
		made <- err
	}()
	_, err = conn.ExecContext(ctx, "LOAD DATA LOCAL INFILE 'Reader::"+name+"' INTO TABLE "+quoteMySQL(to)+" CHARACTER SET binary "+linesInto(r.Table))
	_ = lines.Close() // of a pipe, never fails
	if madeErr := <-made; madeErr != nil && !errors.Is(madeErr, io.ErrClosedPipe) {
		return left, errors.Join(madeErr, err)
	}
	return left, err
}

// writeLines writes each row as a line of cells between tabs.
func writeLines(ctx context.Context, to io.Writer, r Replacement) (left int64, err error) {
	out := bufio.NewWriterSize(to, 1<<20)
	var line []byte
	err = r.Rows(ctx, func(row Row) error {
		if len(row) != len(r.Table.Columns) {
			return fmt.Errorf("a row of %d cells for %d columns", len(row), len(r.Table.Columns))
		}
		if holdsExact(r.Table, row) {
			left++
			return nil
		}
		line = line[:0]
		for i, cell := range row {
			if i > 0 {
				line = append(line, '\t')
			}
			switch {
			case cell.Type == Null:
				line = append(line, `\N`...)
			case r.Table.Columns[i].Type == "year":
				line = fmt.Appendf(line, "%04s", cell.Data) // "0" as a text means 2000
			default:
				line = appendEscaped(line, cell.Data, &lineEscapes)
			}
		}
		_, err := out.Write(append(line, '\n'))
		return err
	})
	if err != nil {
		return left, err
	}
	return left, out.Flush()
}

// insertRows writes rows with statements of many rows each: one is made while the one before is carried out. It returns
// how many rows the server says that it took.
func insertRows(ctx context.Context, conn *sql.Conn, what insertion, into string, table Table, rows Rows) (taken int64, err error) {
	group, ctx := errgroup.WithContext(ctx)
	statements := make(chan []byte, 1)
	group.Go(func() error {
		defer close(statements)
		batch := batch{table: table, head: what.verb + " " + quoteMySQL(into) + " (" + quoteAll(columnNames(table), quoteMySQL) + ") VALUES "}
		send := func() error {
			select {
			case statements <- batch.text:
				batch.text = nil
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		err := rows(ctx, func(row Row) error {
			if err := batch.add(row); err != nil || len(batch.text) < fullBatch {
				return err
			}
			return send()
		})
		if err != nil || len(batch.text) == 0 {
			return err
		}
		return send()
	})
	group.Go(func() error {
		for statement := range statements {
			done, err := conn.ExecContext(ctx, string(statement)+what.tail)
			if err != nil {
				return err
			}
			n, err := done.RowsAffected()
			if taken += n; err != nil {
				return err
			}
		}
		return nil
	})
	err = group.Wait()
	return taken, err
}

// insertion is a way to insert rows.
type insertion struct{ verb, tail string }

var (
	inserting = insertion{verb: "INSERT INTO"}
	replacing = insertion{verb: "REPLACE INTO"}
)

// batch makes one statement of many rows.
type batch struct {
	head  string
	table Table
	text  []byte
}

func (b *batch) add(row Row) error {
	if len(row) != len(b.table.Columns) {
		return fmt.Errorf("a row of %d cells for %d columns", len(row), len(b.table.Columns))
	}
	if len(b.text) == 0 {
		b.text = append(make([]byte, 0, fullBatch+fullBatch/8), b.head...)
	} else {
		b.text = append(b.text, ',')
	}
	b.text = append(b.text, '(')
	for i, cell := range row {
		if i > 0 {
			b.text = append(b.text, ',')
		}
		b.text = appendLiteral(b.text, b.table.Columns[i], cell)
	}
	b.text = append(b.text, ')')
	return nil
}

// appendLiteral writes a value so that it arrives with the same bytes: digits for
// numbers, quotes for dates and other words of the engine's own, and for everything
// that may hold any byte a text that the server converts from no character set.
func appendLiteral(to []byte, column Column, v Value) []byte {
	if v.Type == Null {
		return append(to, "NULL"...)
	}
	switch column.Type {
	case "tinyint", "smallint", "mediumint", "int", "bigint", "decimal", "float", "double", "year":
		if isNumeral(v.Data) {
			return append(to, v.Data...)
		}
	case "json": // of MySQL; MariaDB keeps JSON as a text
		return appendJSON(to, v.Data)
	case "date", "time", "datetime", "timestamp", "inet4", "inet6", "uuid":
	case "bit", "geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon", "geometrycollection":
		if len(v.Data) > 0 {
			return fmt.Appendf(to, "x'%x'", v.Data)
		}
	default:
		to = append(to, "_binary"...)
	}
	return append(appendEscaped(append(to, '\''), v.Data, &textEscapes), '\'')
}

// isNumeral tells of digits, signs and what else stands in numbers: nothing that a statement
// could mean anything else by.
func isNumeral(data []byte) bool {
	digits := false
	for i, c := range data {
		switch {
		case c >= '0' && c <= '9':
			digits = true
		case c == '-' || c == '+':
			if i > 0 && data[i-1] != 'e' && data[i-1] != 'E' {
				return false
			}
		case c != '.' && (!digits || c != 'e' && c != 'E'):
			return false
		}
	}
	return digits
}

// appendEscaped writes data with a backslash before each byte that the table names,
// and what stands for it.
func appendEscaped(to, data []byte, escapes *[256]byte) []byte {
	done := 0
	for i, c := range data {
		if as := escapes[c]; as != 0 {
			to = append(append(to, data[done:i]...), '\\', as)
			done = i + 1
		}
	}
	return append(to, data[done:]...)
}

// What is escaped in a quoted text, and in a line of cells.
var (
	textEscapes = [256]byte{0: '0', '\n': 'n', '\r': 'r', 0x1a: 'Z', '\'': '\'', '"': '"', '\\': '\\'}
	lineEscapes = [256]byte{0: '0', '\n': 'n', '\t': 't', '\\': '\\'}
)

package database

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	sqlite3 "modernc.org/sqlite" // the driver behind sql.Open("sqlite", ...)

	"wetland/core/scratch"
)

// sqlite reaches an SQLite file through the engine and its locks, never as bytes:
// the site goes on using it meanwhile.
type sqlite struct {
	db    *sql.DB
	owner Owner
}

func openSQLite(ctx context.Context, login Login, owner Owner) (Database, error) {
	if _, err := os.Stat(login.File); errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("open %s: %w", login.File, ErrMissing)
	} else if err != nil {
		return nil, fmt.Errorf("open %s: %w", login.File, err)
	}
	where := url.URL{Scheme: "file", Path: filepath.ToSlash(login.File),
		RawQuery: "mode=rw&_pragma=busy_timeout(20000)&_pragma=foreign_keys(0)"}
	db, err := sql.Open("sqlite", where.String())
	if err != nil {
		return nil, err
	}
	if _, err := db.ExecContext(ctx, `SELECT count(*) FROM sqlite_master`); err != nil {
		return nil, errors.Join(fmt.Errorf("open %s: %w", login.File, err), db.Close())
	}
	return &sqlite{db: db, owner: owner}, nil
}

// createSQLite makes an empty file; the engine fills it.
func createSQLite(_ context.Context, login Login) error {
	file, err := os.OpenFile(login.File, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return fmt.Errorf("make the database: %w", err)
	}
	return file.Close()
}

// scratchSQLite makes a file in the folder for temporary files.
func scratchSQLite(ctx context.Context) (db Database, drop func() error, err error) {
	dir, err := scratch.Folder()
	if err != nil {
		return nil, nil, err
	}
	drop = func() error { return os.RemoveAll(dir) }
	login := Login{Engine: "sqlite", File: filepath.Join(dir, "scratch.sqlite")}
	if err = createSQLite(ctx, login); err == nil {
		db, err = openSQLite(ctx, login, Everything)
	}
	if err != nil {
		return nil, nil, errors.Join(err, drop())
	}
	return db, drop, nil
}

// Dialect is its own.
func (s *sqlite) Dialect() string { return "sqlite" }

// Engine names SQLite and its version.
func (s *sqlite) Engine(ctx context.Context) (string, error) {
	var version string
	err := s.db.QueryRowContext(ctx, `SELECT sqlite_version()`).Scan(&version)
	return "SQLite " + version, err
}

// Size is that of the file.
func (s *sqlite) Size(ctx context.Context) (size int64, err error) {
	err = s.db.QueryRowContext(ctx, `SELECT page_count * page_size FROM pragma_page_count, pragma_page_size`).Scan(&size)
	return size, err
}

func (s *sqlite) Close() error { return s.db.Close() }

// connect returns a connection. Whatever a statement holds, it reaches no other file by it: nothing is
// attached, and so nothing is copied out by VACUUM INTO either.
func (s *sqlite) connect(ctx context.Context) (*sql.Conn, error) {
	conn, err := s.db.Conn(ctx)
	if err != nil {
		return nil, err
	}
	if _, err := sqlite3.Limit(conn, sqliteLimitAttached, 0); err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	return conn, nil
}

// Query returns the rows of a statement.
func (s *sqlite) Query(ctx context.Context, statement string, args ...any) ([]Row, error) {
	conn, err := s.connect(ctx)
	if err != nil {
		return nil, err
	}
	rows, err := collectRows(ctx, conn, stored, statement, args...)
	return rows, errors.Join(err, conn.Close())
}

// stored hands out values as SQLite stored them, each in its own type.
func stored(count int) (targets []any, read func(Row) error) {
	cells := make([]any, count)
	return pointersTo(cells), func(row Row) error {
		var err error
		for i, cell := range cells {
			if row[i], err = valueOf(cell); err != nil {
				return err
			}
		}
		return nil
	}
}

func valueOf(cell any) (Value, error) {
	switch v := cell.(type) {
	case nil:
		return Value{Type: Null}, nil
	case int64:
		return IntegerValue(v), nil
	case float64:
		return RealValue(v), nil
	case string:
		return Value{Type: Text, Data: []byte(v)}, nil
	case []byte:
		return Value{Type: Bytes, Data: v}, nil
	}
	return Value{}, fmt.Errorf("the driver gave a %T, which has no place here", cell)
}

// argument turns a value into what the driver takes for it.
func argument(v Value) any {
	switch v.Type {
	case Null:
		return nil
	case Integer:
		return asInteger(v)
	case Real:
		return asReal(v)
	case Text:
		return string(v.Data)
	}
	if v.Data == nil {
		return []byte{}
	}
	return v.Data
}

// sqliteMoment holds a read transaction open.
type sqliteMoment struct {
	conn   *sql.Conn
	tables []Table
	weaker []string
	lasts  bool
}

// Read begins a transaction: until Close, the tables are seen as they stand now.
func (s *sqlite) Read(ctx context.Context) (Moment, error) {
	conn, err := s.connect(ctx)
	if err != nil {
		return nil, err
	}
	m := &sqliteMoment{conn: conn}
	if _, err := conn.ExecContext(ctx, `BEGIN`); err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	if err := m.describe(ctx, s.owner); err != nil {
		return nil, errors.Join(fmt.Errorf("list the tables: %w", err), m.Close())
	}
	return m, nil
}

func (m *sqliteMoment) Tables() []Table  { return slices.Clone(m.tables) }
func (m *sqliteMoment) Weaker() []string { return m.weaker }

// Standing: whoever reads keeps others from writing, but where there is a log of writes (https://sqlite.org/wal.html).
func (m *sqliteMoment) Standing() Standing { return Standing{Lasts: m.lasts} }

func (m *sqliteMoment) Close() error {
	_, err := m.conn.ExecContext(context.Background(), `ROLLBACK`)
	return errors.Join(err, m.conn.Close())
}

func (m *sqliteMoment) describe(ctx context.Context, owner Owner) error {
	mode, err := collectRows(ctx, m.conn, stored, `PRAGMA journal_mode`)
	if err != nil {
		return err
	}
	m.lasts = len(mode) == 1 && mode[0][0].String() == "wal"
	master, err := collectRows(ctx, m.conn, stored,
		`SELECT type, name, tbl_name, sql FROM sqlite_master WHERE name NOT LIKE 'sqlite\_%' ESCAPE '\' ORDER BY rowid`)
	if err != nil {
		return err
	}
	var names []string
	for _, row := range master {
		if kind := row[0].String(); (kind == "table" || kind == "view") && !strings.HasPrefix(row[1].String(), ours) {
			names = append(names, row[1].String())
		}
	}
	owned := owner(names)
	for _, row := range master {
		kind, name, create := row[0].String(), row[1].String(), row[3].String()
		if !slices.Contains(owned, name) {
			continue
		}
		if strings.HasPrefix(strings.ToUpper(create), "CREATE VIRTUAL") {
			m.weaker = append(m.weaker, "the virtual table "+name+" is not in the snapshot")
			continue
		}
		table := Table{Name: name, Kind: Kind(kind), Create: create, Firm: true}
		if kind == "table" {
			if err := m.describeTable(ctx, &table); err != nil {
				return fmt.Errorf("describe %s: %w", name, err)
			}
		}
		m.tables = append(m.tables, table)
	}
	for _, row := range master {
		kind, of, create := row[0].String(), row[2].String(), row[3].String()
		i := slices.IndexFunc(m.tables, func(t Table) bool { return t.Name == of })
		if (kind == "index" || kind == "trigger") && i >= 0 && create != "" {
			m.tables[i].After = append(m.tables[i].After, create)
		}
	}
	slices.SortFunc(m.tables, func(a, b Table) int { return compareNames(a.Name, b.Name) })
	kept, weaker, err := known("sqlite", m.tables)
	m.tables, m.weaker = kept, append(m.weaker, weaker...)
	return err
}

// describeTable finds the columns and the key. A table whose key is not declared
// is kept with its hidden row numbers, which then are its key.
func (m *sqliteMoment) describeTable(ctx context.Context, table *Table) error {
	info, err := collectRows(ctx, m.conn, stored,
		`SELECT name, lower(type), pk, hidden FROM pragma_table_xinfo(?) ORDER BY cid`, table.Name)
	if err != nil {
		return err
	}
	type keyColumn struct {
		name string
		at   int64
	}
	var key []keyColumn
	for _, row := range info {
		name, hidden := row[0].String(), asInteger(row[3])
		if hidden != 0 {
			continue // generated: the engine's own
		}
		table.Columns = append(table.Columns, Column{Name: name, Type: row[1].String()})
		if at := asInteger(row[2]); at > 0 {
			key = append(key, keyColumn{name, at})
		}
	}
	slices.SortFunc(key, func(a, b keyColumn) int { return int(a.at - b.at) })
	for _, k := range key {
		table.Key = append(table.Key, k.name)
	}
	plain, err := collectRows(ctx, m.conn, stored, `SELECT wr FROM pragma_table_list WHERE schema = 'main' AND name = ?`,
		table.Name)
	if err != nil {
		return err
	}
	withRowid := len(plain) == 1 && asInteger(plain[0][0]) == 0
	isRowid := len(key) == 1 && slices.ContainsFunc(table.Columns,
		func(c Column) bool { return c.Name == key[0].name && c.Type == "integer" })
	if withRowid && !isRowid {
		if free := freeRowidName(table.Columns); free != "" {
			table.Columns = slices.Insert(table.Columns, 0, Column{Name: free, Type: "integer"})
			if len(table.Key) == 0 {
				table.Key = []string{free}
			}
		}
	}
	if strings.Contains(strings.ToUpper(table.Create), "AUTOINCREMENT") {
		counter, err := collectRows(ctx, m.conn, stored, `SELECT seq FROM sqlite_sequence WHERE name = ?`, table.Name)
		if err != nil {
			return err
		}
		if len(counter) == 1 {
			table.Counter = asInteger(counter[0][0])
		}
	}
	return nil
}

// freeRowidName returns a name of the hidden row number that no column hides.
func freeRowidName(columns []Column) string {
	for _, name := range []string{"rowid", "_rowid_", "oid"} {
		if !slices.ContainsFunc(columns, func(c Column) bool { return strings.EqualFold(c.Name, name) }) {
			return name
		}
	}
	return ""
}

// Rows reads a table. The unary plus keeps the driver from turning what is
// declared a date or a boolean into something else than what is stored.
func (m *sqliteMoment) Rows(ctx context.Context, table Table, each func(Row) error) error {
	return eachRow(ctx, m.conn, stored, selectSQLite(table), nil, each)
}

func selectSQLite(table Table) string {
	var cells []string
	for _, column := range table.Columns {
		cells = append(cells, "+"+quoteSQLite(column.Name))
	}
	return "SELECT " + strings.Join(cells, ", ") + " FROM " + quoteSQLite(table.Name)
}

func quoteSQLite(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// sqliteApplied keeps the replaced tables until Finish.
type sqliteApplied struct {
	s     *sqlite
	aside []string
	old   []string
}

func (a *sqliteApplied) Aside() []string { return a.aside }

// Finish drops the replaced tables.
func (a *sqliteApplied) Finish(ctx context.Context) error { return a.s.drop(ctx, a.old) }

// drop drops tables of our own making.
func (s *sqlite) drop(ctx context.Context, names []string) error {
	if len(names) == 0 {
		return nil
	}
	conn, err := s.connect(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	for _, name := range names {
		if _, err := conn.ExecContext(ctx, "DROP TABLE IF EXISTS "+quoteSQLite(name)); err != nil {
			return fmt.Errorf("drop the replaced table %s: %w", name, err)
		}
	}
	return nil
}

// Replaced reads the table that made room.
func (a *sqliteApplied) Replaced(ctx context.Context, table Table, each func(Row) error) error {
	name := outgoing(table.Name)
	if !slices.Contains(a.old, name) {
		return fmt.Errorf("the rows of %s from before: %w", table.Name, errors.ErrUnsupported)
	}
	conn, err := a.s.connect(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	table.Name = name
	return eachRow(ctx, conn, stored, selectSQLite(table), nil, each)
}

func (sqliteApplied) NewDefiners() []NewDefiner { return nil }

// Apply carries out the change in one transaction.
func (s *sqlite) Apply(ctx context.Context, change Change) (Applied, error) {
	if err := CheckStatements("sqlite", "", change.Apart, change.described()); err != nil {
		return nil, err
	}
	conn, err := s.connect(ctx)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	// legacy_alter_table: a rename must not rewrite the views and triggers of others.
	if _, err := conn.ExecContext(ctx, `PRAGMA legacy_alter_table = ON`); err != nil {
		return nil, err
	}
	if err := beginWriting(ctx, conn); err != nil {
		return nil, err
	}
	aside, err := applySQLite(ctx, conn, change)
	if err != nil && !errors.Is(err, ErrWritten) {
		_, back := conn.ExecContext(context.WithoutCancel(ctx), `ROLLBACK`)
		return nil, errors.Join(err, back)
	}
	if _, ended := conn.ExecContext(ctx, `COMMIT`); errors.Join(err, ended) != nil {
		return nil, errors.Join(err, ended)
	}
	applied := &sqliteApplied{s: s, aside: aside}
	for _, r := range change.Replace {
		applied.old = append(applied.old, outgoing(r.Table.Name))
	}
	return applied, nil
}

// lockPatience is for how long SQLite's locks are waited for.
const lockPatience = 20 * time.Second

// beginWriting waits for the lock in short stretches: the engine's own waiting does not end
// with the context.
func beginWriting(ctx context.Context, conn *sql.Conn) error {
	const stretch = 100 * time.Millisecond
	wait := func(patience time.Duration) error {
		_, err := conn.ExecContext(context.WithoutCancel(ctx), fmt.Sprintf("PRAGMA busy_timeout = %d",
			patience.Milliseconds()))
		return err
	}
	if err := wait(stretch); err != nil {
		return err
	}
	var err error
	for end := time.Now().Add(lockPatience); ; {
		_, err = conn.ExecContext(ctx, `BEGIN IMMEDIATE`)
		var answer *sqlite3.Error
		if !errors.As(err, &answer) || answer.Code()&0xff != sqliteBusy || ctx.Err() != nil || time.Now().After(end) {
			break
		}
	}
	if ctx.Err() != nil && err != nil {
		err = ctx.Err()
	}
	return errors.Join(err, wait(lockPatience))
}

// Numbers of SQLite's interface: SQLITE_BUSY and SQLITE_LIMIT_ATTACHED.
const (
	sqliteBusy          = 5
	sqliteLimitAttached = 7
)

// Leftover names the replaced tables of an Apply that was not finished.
func (s *sqlite) Leftover(ctx context.Context, tables []string) (left []string, err error) {
	rows, err := s.Query(ctx, `SELECT name FROM sqlite_master WHERE type = 'table'`)
	for _, row := range rows {
		if slices.ContainsFunc(tables, func(table string) bool { return outgoing(table) == row[0].String() }) {
			left = append(left, row[0].String())
		}
	}
	slices.Sort(left)
	return left, err
}

// Sweep drops those.
func (s *sqlite) Sweep(ctx context.Context, tables []string) error {
	left, err := s.Leftover(ctx, tables)
	if err != nil {
		return err
	}
	return s.drop(ctx, left)
}

func applySQLite(ctx context.Context, conn *sql.Conn, change Change) ([]string, error) {
	var aside []string
	for _, name := range change.Aside {
		to, err := asideSQLite(ctx, conn, name, change.Tag)
		if err != nil {
			return nil, fmt.Errorf("set the table %s aside: %w", name, err)
		}
		aside = append(aside, to)
	}
	for _, r := range change.Replace {
		if err := replaceSQLite(ctx, conn, r, change.KeepCounters); err != nil {
			return nil, fmt.Errorf("put back the table %s: %w", r.Table.Name, err)
		}
	}
	for _, r := range change.Replace {
		for _, statement := range r.Table.After {
			if _, err := conn.ExecContext(ctx, statement); err != nil {
				return nil, fmt.Errorf("put back what belongs to the table %s: %w", r.Table.Name, err)
			}
		}
	}
	for _, patch := range change.Patches {
		if err := patchSQLite(ctx, conn, patch); err != nil {
			return nil, fmt.Errorf("put back rows of %s: %w", patch.Table.Name, err)
		}
	}
	return aside, nil
}

// asideSQLite renames a table; a view, which holds nothing but its query, is
// remembered as a table of one row with that query.
func asideSQLite(ctx context.Context, conn *sql.Conn, name, tag string) (string, error) {
	present, err := collectRows(ctx, conn, stored, `SELECT name FROM sqlite_master`)
	if err != nil {
		return "", err
	}
	to := asideName(tag, name, func(other string) bool {
		return slices.ContainsFunc(present, func(row Row) bool { return row[0].String() == other })
	})
	kind, err := collectRows(ctx, conn, stored,
		`SELECT type, sql FROM sqlite_master WHERE name = ? AND type IN ('table', 'view')`, name)
	if err != nil || len(kind) == 0 {
		return to, err
	}
	statements := []string{"ALTER TABLE " + quoteSQLite(name) + " RENAME TO " + quoteSQLite(to)}
	if kind[0][0].String() == "view" {
		text := strings.ReplaceAll(kind[0][1].String(), "'", "''")
		statements = []string{"CREATE TABLE " + quoteSQLite(to) + " AS SELECT '" + text + "' AS query", "DROP VIEW " +
			quoteSQLite(name)}
	}
	for _, statement := range statements {
		if _, err := conn.ExecContext(ctx, statement); err != nil {
			return to, err
		}
	}
	return to, nil
}

func replaceSQLite(ctx context.Context, conn *sql.Conn, r Replacement, keepCounters bool) error {
	var counter int64
	if keepCounters && r.Table.Counter > 0 {
		rows, err := collectRows(ctx, conn, stored, `SELECT seq FROM sqlite_sequence WHERE name = ?`, r.Table.Name)
		if err == nil && len(rows) == 1 {
			counter = asInteger(rows[0][0])
		}
	}
	present, err := collectRows(ctx, conn, stored,
		`SELECT type FROM sqlite_master WHERE name = ? AND type IN ('table', 'view')`, r.Table.Name)
	if err != nil {
		return err
	}
	if len(present) == 1 {
		if err := makeRoomSQLite(ctx, conn, r.Table.Name, present[0][0].String()); err != nil {
			return err
		}
	}
	if _, err := conn.ExecContext(ctx, r.Table.Create); err != nil {
		return err
	}
	if r.Table.Kind != BaseTable {
		return nil
	}
	insert, err := conn.PrepareContext(ctx, insertSQLite("INSERT", r.Table))
	if err != nil {
		return err
	}
	defer insert.Close()
	err = r.Rows(ctx, func(row Row) error {
		_, err := insert.ExecContext(ctx, arguments(row)...)
		return err
	})
	if err != nil {
		return err
	}
	if err := proveRows(ctx, conn, stored, selectSQLite(r.Table), r.Table); err != nil || r.Table.Counter == 0 {
		return err
	}
	_, err = conn.ExecContext(ctx, `UPDATE sqlite_sequence SET seq = ? WHERE name = ?`, max(counter, r.Table.Counter),
		r.Table.Name)
	return err
}

// makeRoomSQLite renames a table, without what has a name of its own, or drops a view.
func makeRoomSQLite(ctx context.Context, conn *sql.Conn, name, kind string) error {
	if kind == "view" {
		_, err := conn.ExecContext(ctx, "DROP VIEW "+quoteSQLite(name))
		return err
	}
	own, err := collectRows(ctx, conn, stored,
		`SELECT type, name FROM sqlite_master WHERE tbl_name = ? AND type IN ('index', 'trigger') AND sql IS NOT NULL`, name)
	if err != nil {
		return err
	}
	statements := []string{"DROP TABLE IF EXISTS " + quoteSQLite(outgoing(name))}
	for _, one := range own {
		statements = append(statements, "DROP "+strings.ToUpper(one[0].String())+" "+quoteSQLite(one[1].String()))
	}
	for _, statement := range append(statements, "ALTER TABLE "+quoteSQLite(name)+" RENAME TO "+
		quoteSQLite(outgoing(name))) {
		if _, err := conn.ExecContext(ctx, statement); err != nil {
			return err
		}
	}
	return nil
}

func insertSQLite(verb string, table Table) string {
	marks := strings.TrimSuffix(strings.Repeat("?, ", len(table.Columns)), ", ")
	return verb + " INTO " + quoteSQLite(table.Name) + " (" + quoteAll(columnNames(table), quoteSQLite) + ") VALUES (" +
		marks + ")"
}

func columnNames(table Table) []string {
	names := make([]string, len(table.Columns))
	for i, column := range table.Columns {
		names[i] = column.Name
	}
	return names
}

func arguments(row Row) []any {
	args := make([]any, len(row))
	for i, cell := range row {
		args[i] = argument(cell)
	}
	return args
}

func patchSQLite(ctx context.Context, conn *sql.Conn, patch Patch) error {
	key := keyIndexes(patch.Table)
	if len(key) == 0 && (patch.Put != nil || patch.Remove != nil) {
		return errors.New("it has no key")
	}
	var same []string
	for _, name := range patch.Table.Key {
		same = append(same, quoteSQLite(name)+" IS ?")
	}
	remove := "DELETE FROM " + quoteSQLite(patch.Table.Name) + " WHERE " + strings.Join(same, " AND ")
	left := leftAlone{key: key, keys: map[string]bool{}}
	if patch.Remove != nil {
		err := patch.Remove(ctx, func(row Row) error {
			if patch.Strict {
				if is, err := isStillSQLite(ctx, conn, patch.Table, strings.Join(same, " AND "), key, row); err != nil || !is {
					left.keys[keyText(row, key)], left.some = true, true
					return err
				}
			}
			_, err := conn.ExecContext(ctx, remove, arguments(pick(row, key))...)
			return err
		})
		if err != nil {
			return err
		}
	}
	if patch.Put != nil {
		verb := "INSERT OR REPLACE"
		if patch.Strict {
			verb = "INSERT OR IGNORE"
		}
		taken, err := insertSQLiteRows(ctx, conn, verb, patch.Table, left.others(patch.Put))
		if err != nil {
			return err
		}
		left.some = left.some || patch.Strict && taken < left.passed
	}
	if patch.Add != nil {
		cut, of := patch.Table.withoutKey()
		if _, err := insertSQLiteRows(ctx, conn, "INSERT", cut, of(left.others(patch.Add))); err != nil {
			return err
		}
	}
	if left.some {
		return ErrWritten
	}
	return nil
}

// isStillSQLite tells whether a row is in the table as it was read.
func isStillSQLite(ctx context.Context, conn *sql.Conn, table Table, same string, key []int, row Row) (bool, error) {
	now, err := collectRows(ctx, conn, stored, selectSQLite(table)+" WHERE "+same, arguments(pick(row, key))...)
	return len(now) == 1 && bytes.Equal(AppendRow(nil, now[0]), AppendRow(nil, row)), err
}

func insertSQLiteRows(
	ctx context.Context, conn *sql.Conn, verb string, table Table, rows Rows,
) (taken int64, err error) {
	put := insertSQLite(verb, table)
	err = rows(ctx, func(row Row) error {
		done, err := conn.ExecContext(ctx, put, arguments(row)...)
		if err != nil {
			return err
		}
		n, err := done.RowsAffected()
		taken += n
		return err
	})
	return taken, err
}

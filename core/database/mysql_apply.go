package database

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Names of tables while a change is under way. They are made from the real name,
// so that a change that was interrupted is found and cleared by the next one.
func incoming(name string) string { return ours + "in_" + shortHash(name) }
func outgoing(name string) string { return ours + "out_" + shortHash(name) }

func shortHash(name string) string {
	sum := sha256.Sum256([]byte(name))
	return hex.EncodeToString(sum[:8])
}

// mysqlApplied keeps the replaced tables until Finish.
type mysqlApplied struct {
	m        *mysqlDatabase
	replaced []Table  // now live
	old      []string // the outgoing tables that exist
	aside    []string
	definers []NewDefiner
}

func (a *mysqlApplied) Aside() []string           { return a.aside }
func (a *mysqlApplied) NewDefiners() []NewDefiner { return a.definers }

// Replaced reads the outgoing table.
func (a *mysqlApplied) Replaced(ctx context.Context, table Table, each func(Row) error) error {
	name := outgoing(table.Name)
	if !slices.Contains(a.old, name) {
		return fmt.Errorf("the rows of %s from before: %w", table.Name, errors.ErrUnsupported)
	}
	conn, err := a.m.connect(ctx, true)
	if err != nil {
		return err
	}
	defer conn.Close()
	return eachRow(ctx, conn, sent, selectMySQL(table, name), nil, each)
}

// Apply loads the tables to be replaced under other names, then switches all of
// them with one RENAME TABLE.
func (m *mysqlDatabase) Apply(ctx context.Context, change Change) (_ Applied, err error) {
	defer m.explainWait(ctx, &err)
	if err := CheckStatements("mysql", m.name, change.Apart, change.described()); err != nil {
		return nil, err
	}
	conn, err := m.connect(ctx, false)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	release, err := m.changeAlone(ctx, conn)
	if err != nil {
		return nil, err
	}
	defer release()
	if err := waitAtMost(ctx, conn, patientWait); err != nil {
		return nil, err
	}
	defer func() { _ = waitAtMost(context.WithoutCancel(ctx), conn, mostWait) }()
	applied := &mysqlApplied{m: m}
	if err := m.load(ctx, conn, change); err != nil {
		return nil, errors.Join(err, m.dropIncoming(ctx, change))
	}
	if err := m.switchTables(ctx, conn, change, applied); err != nil {
		return nil, errors.Join(fmt.Errorf("switch the tables: %w", err), m.dropIncoming(ctx, change))
	}
	for _, patch := range change.Patches {
		if err := patchMySQL(ctx, conn, patch); err != nil {
			return nil, fmt.Errorf("put back rows of %s: %w", patch.Table.Name, err)
		}
	}
	return applied, nil
}

// changeWaits is how long an earlier change may go on, in seconds: that of a process which is gone ends
// with the statement that the server carries out for it.
const changeWaits = 60

// changeAlone waits until the server carries out no other change of ours to this database, and keeps
// others out until release is called, or the connection ends. Servers that know no such locks do without.
func (m *mysqlDatabase) changeAlone(ctx context.Context, conn *sql.Conn) (release func(), err error) {
	name := ours + "change_" + shortHash(m.name)
	got, err := collectRows(ctx, conn, sent, "SELECT GET_LOCK(?, ?)", name, changeWaits)
	if ended := ctx.Err(); ended != nil {
		return nil, ended
	}
	if err == nil && len(got) == 1 && got[0][0].String() == "0" {
		return nil, errors.New("the server still carries out an earlier change of the tables. SHOW PROCESSLIST tells of" +
			" it. Wait until it has ended, then go on")
	}
	return func() { _, _ = conn.ExecContext(context.WithoutCancel(ctx), "DO RELEASE_LOCK(?)", name) }, nil
}

// dropIncoming takes away what a change that failed had loaded so far. The connection may be
// what failed.
func (m *mysqlDatabase) dropIncoming(ctx context.Context, change Change) error {
	conn, err := m.connect(context.WithoutCancel(ctx), false)
	if err != nil {
		return nil // recover sweeps it
	}
	defer conn.Close()
	for _, r := range change.Replace {
		if r.Table.Kind != BaseTable && r.Table.Kind != Sequence {
			continue
		}
		if _, err := conn.ExecContext(context.WithoutCancel(ctx), "DROP TABLE IF EXISTS "+
			quoteMySQL(incoming(r.Table.Name))); err != nil {
			return fmt.Errorf("clear what was loaded: %w", err)
		}
	}
	return nil
}

func (m *mysqlDatabase) load(ctx context.Context, conn *sql.Conn, change Change) error {
	for _, r := range change.Replace {
		load := m.loadTable
		switch r.Table.Kind {
		case BaseTable:
		case Sequence:
			load = m.loadSequence
		default:
			continue
		}
		if err := load(ctx, conn, r, change.KeepCounters); err != nil {
			return fmt.Errorf("load the table %s: %w", r.Table.Name, err)
		}
	}
	return nil
}

// switchTables makes the loaded tables live, in one step for all of them.
func (m *mysqlDatabase) switchTables(ctx context.Context, conn *sql.Conn, change Change, applied *mysqlApplied) error {
	present, err := collectRows(ctx, conn, sent,
		`SELECT table_name, table_type FROM information_schema.tables WHERE table_schema = ?`, m.name)
	if err != nil {
		return err
	}
	kinds := map[string]string{}
	for _, row := range present {
		kinds[row[0].String()] = row[1].String()
	}
	var renames []string
	rename := func(from, to string) {
		renames = append(renames, quoteMySQL(from)+" TO "+quoteMySQL(to))
	}
	for _, name := range change.Aside {
		if event, ok := strings.CutPrefix(name, string(Event)+" "); ok && kinds[name] == "" {
			aside := asideName(change.Tag, event, func(string) bool { return false })
			if err := setAsideEvent(ctx, conn, event, aside); err != nil {
				return err
			}
			applied.aside = append(applied.aside, aside)
		}
		if kinds[name] != "" {
			aside := asideName(change.Tag, name, func(other string) bool { return kinds[other] != "" })
			rename(name, aside)
			applied.aside = append(applied.aside, aside)
		}
	}
	for _, r := range change.Replace {
		applied.replaced = append(applied.replaced, r.Table)
		if r.Table.Kind != BaseTable && r.Table.Kind != Sequence {
			continue
		}
		if kinds[outgoing(r.Table.Name)] != "" {
			if _, err := conn.ExecContext(ctx, "DROP TABLE "+quoteMySQL(outgoing(r.Table.Name))); err != nil {
				return err
			}
		}
		if kinds[r.Table.Name] != "" {
			rename(r.Table.Name, outgoing(r.Table.Name))
			applied.old = append(applied.old, outgoing(r.Table.Name))
		}
		rename(incoming(r.Table.Name), r.Table.Name)
	}
	if len(renames) == 0 {
		return nil
	}
	return renameTables(ctx, conn, "RENAME TABLE "+strings.Join(renames, ", "))
}

// Whoever waits for renaming a table holds up all that want to read it. So it is tried several
// times for a short while each, and visitors get their turn in between. Tests have less patience.
var (
	renameTries = 6
	renameWaits = 5 // seconds, of each try
	renameRests = 3 * time.Second
)

func renameTables(ctx context.Context, conn *sql.Conn, statement string) error {
	if err := waitAtMost(ctx, conn, renameWaits); err != nil {
		return err
	}
	defer func() { _ = waitAtMost(context.WithoutCancel(ctx), conn, patientWait) }()
	for n := 1; ; n++ {
		_, err := conn.ExecContext(ctx, statement)
		if !isNumber(err, 1205) {
			return err
		}
		if n == renameTries {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(renameRests):
		}
	}
}

// Finish drops the replaced tables, then gives the new ones what only one table
// of a database can have: foreign keys and triggers of these names. Views last.
func (a *mysqlApplied) Finish(ctx context.Context) (err error) {
	defer a.m.explainWait(ctx, &err)
	conn, err := a.m.connect(ctx, false)
	if err != nil {
		return err
	}
	defer conn.Close()
	for _, name := range a.old {
		if _, err := conn.ExecContext(ctx, "DROP TABLE IF EXISTS "+quoteMySQL(name)); err != nil {
			return fmt.Errorf("drop the replaced table %s: %w", name, err)
		}
	}
	for _, table := range a.replaced {
		for _, statement := range table.After {
			if err := a.execAsDefiner(ctx, conn, statement, NewDefiner{Of: triggerWords(statement, table.Name),
				Table: table.Name}); err != nil {
				return fmt.Errorf("put back what belongs to the table %s: %w", table.Name, err)
			}
		}
		if len(table.After) > 0 { // triggers came with settings of their own
			if err := a.m.setUp(ctx, conn); err != nil {
				return err
			}
		}
	}
	if err := a.putPrograms(ctx, conn); err != nil {
		return err
	}
	return a.putViews(ctx, conn)
}

// triggerName finds the name in a statement, which stands there as it was written.
var triggerName = regexp.MustCompile("(?i)\\bTRIGGER\\s+(?:IF\\s+NOT\\s+EXISTS\\s+)?((?:`(?:[^`]|``)*`|[^\\s`.]+)(?:\\.(?:`(?:[^`]|``)*`|[^\\s`.]+))?)\\s")

// triggerWords names the trigger that a statement makes.
func triggerWords(statement, table string) string {
	named := triggerName.FindStringSubmatch(statement)
	if named == nil {
		return "what belongs to the table " + table
	}
	return fmt.Sprintf("the trigger %s of the table %s", strings.Trim(named[1], "`"), table)
}

var createView = regexp.MustCompile(`^CREATE (.*?)VIEW `)

// putViews makes the views; one that stands on another waits for its turn.
func (a *mysqlApplied) putViews(ctx context.Context, conn *sql.Conn) error {
	views := slices.DeleteFunc(slices.Clone(a.replaced), func(t Table) bool { return t.Kind != View })
	for len(views) > 0 {
		var waiting []Table
		var failed error
		for _, view := range views {
			statement := createView.ReplaceAllString(view.Create, "CREATE OR REPLACE ${1}VIEW ")
			if err := a.execAsDefiner(ctx, conn, statement, NewDefiner{Of: "the view " + view.Name,
				Table: view.Name}); err != nil {
				waiting = append(waiting, view)
				failed = errors.Join(failed, fmt.Errorf("put back the view %s: %w", view.Name, err))
			}
		}
		if len(waiting) == len(views) {
			return failed
		}
		views = waiting
	}
	return nil
}

// Leftover names the incoming and outgoing tables of an interrupted Apply.
func (m *mysqlDatabase) Leftover(ctx context.Context, tables []string) ([]string, error) {
	conn, err := m.connect(ctx, false)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	left, err := m.leftover(ctx, conn, tables)
	return slices.Sorted(maps.Keys(left)), err
}

// leftover gives the type of each table that an Apply of these tables left over.
func (m *mysqlDatabase) leftover(ctx context.Context, conn *sql.Conn, tables []string) (map[string]string, error) {
	working := map[string]bool{}
	for _, name := range tables {
		working[incoming(name)], working[outgoing(name)] = true, true
	}
	present, err := collectRows(ctx, conn, sent,
		`SELECT table_name, table_type FROM information_schema.tables WHERE table_schema = ?`, m.name)
	if err != nil {
		return nil, err
	}
	left := map[string]string{}
	for _, row := range present {
		if name := row[0].String(); working[name] {
			left[name] = row[1].String()
		}
	}
	return left, nil
}

// Sweep drops the incoming and outgoing tables of an interrupted Apply.
func (m *mysqlDatabase) Sweep(ctx context.Context, tables []string) (err error) {
	defer m.explainWait(ctx, &err)
	conn, err := m.connect(ctx, false)
	if err != nil {
		return err
	}
	defer conn.Close()
	release, err := m.changeAlone(ctx, conn) // of a process that is gone
	if err != nil {
		return err
	}
	defer release()
	left, err := m.leftover(ctx, conn, tables)
	if err != nil {
		return err
	}
	for name, what := range left {
		if what != "SEQUENCE" {
			what = "TABLE"
		}
		if _, err := conn.ExecContext(ctx, "DROP "+what+" IF EXISTS "+quoteMySQL(name)); err != nil {
			return fmt.Errorf("drop the leftover table %s: %w", name, err)
		}
	}
	return nil
}

func patchMySQL(ctx context.Context, conn *sql.Conn, patch Patch) error {
	key := keyIndexes(patch.Table)
	if len(key) == 0 && (patch.Put != nil || patch.Remove != nil) {
		return errors.New("it has no key")
	}
	if _, err := conn.ExecContext(ctx, "START TRANSACTION"); err != nil {
		return err
	}
	err := patchRows(ctx, conn, patch, key)
	if err != nil && !errors.Is(err, ErrWritten) {
		_, back := conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
		return errors.Join(err, back)
	}
	_, ended := conn.ExecContext(ctx, "COMMIT")
	return errors.Join(err, ended)
}

func patchRows(ctx context.Context, conn *sql.Conn, patch Patch, key []int) error {
	left := leftAlone{key: key, keys: map[string]bool{}}
	if patch.Remove != nil {
		take := takeBatch
		if patch.Strict {
			take = left.takeBatch
		}
		err := inBatches(ctx, patch.Remove, func(rows []Row) error { return take(ctx, conn, patch.Table, key, rows) })
		if err != nil {
			return err
		}
	}
	if patch.Put != nil {
		how := replacing
		if patch.Strict { // what is taken by a visitor's row stays so
			column := quoteMySQL(patch.Table.Key[0])
			how = insertion{"INSERT INTO", " ON DUPLICATE KEY UPDATE " + column + " = " + quoteMySQL(patch.Table.Name) + "." +
				column}
		}
		taken, err := insertRows(ctx, conn, how, patch.Table.Name, patch.Table, left.others(patch.Put))
		if err != nil {
			return err
		}
		left.some = left.some || patch.Strict && taken < left.passed
	}
	if patch.Add != nil {
		cut, of := patch.Table.withoutKey()
		if _, err := insertRows(ctx, conn, inserting, patch.Table.Name, cut, of(left.others(patch.Add))); err != nil {
			return err
		}
	}
	if left.some {
		return ErrWritten
	}
	return nil
}

// batchOfRows is how many rows are compared, or taken out, at once.
const batchOfRows = 200

func inBatches(ctx context.Context, rows Rows, do func([]Row) error) error {
	var batch []Row
	err := rows(ctx, func(row Row) error {
		if batch = append(batch, row.Clone()); len(batch) < batchOfRows {
			return nil
		}
		defer func() { batch = batch[:0] }()
		return do(batch)
	})
	if err != nil || len(batch) == 0 {
		return err
	}
	return do(batch)
}

// byKeys is the condition for rows of these keys.
func byKeys(table Table, key []int, rows []Row) string {
	var any []string
	for _, row := range rows {
		var same []string
		for i, at := range key {
			same = append(same, quoteMySQL(table.Key[i])+" = "+string(appendLiteral(nil, table.Columns[at], row[at])))
		}
		any = append(any, "("+strings.Join(same, " AND ")+")")
	}
	return " WHERE " + strings.Join(any, " OR ")
}

func takeBatch(ctx context.Context, conn *sql.Conn, table Table, key []int, rows []Row) error {
	_, err := conn.ExecContext(ctx, "DELETE FROM "+quoteMySQL(table.Name)+byKeys(table, key, rows))
	return err
}

// leftAlone are the keys of rows that somebody wrote to meanwhile.
type leftAlone struct {
	key    []int
	keys   map[string]bool
	some   bool
	passed int64 // of the others, how many rows came
}

func keyText(row Row, key []int) string { return string(AppendRow(nil, pick(row, key))) }

// others passes over rows of those keys.
func (l *leftAlone) others(rows Rows) Rows {
	return func(ctx context.Context, each func(Row) error) error {
		return rows(ctx, func(row Row) error {
			if l.keys[keyText(row, l.key)] {
				return nil
			}
			l.passed++
			return each(row)
		})
	}
}

// takeBatch takes out the rows that are as they were read. Locks keep them so until the end.
func (l *leftAlone) takeBatch(ctx context.Context, conn *sql.Conn, table Table, key []int, rows []Row) error {
	is := map[string]bool{}
	err := exactly(ctx, conn, func() error {
		return eachRow(ctx, conn, sent, selectMySQL(table, table.Name)+byKeys(table, key, rows)+" FOR UPDATE", nil,
			func(row Row) error {
				is[string(AppendRow(nil, row))] = true
				return nil
			})
	})
	if err != nil {
		return err
	}
	var same []Row
	for _, row := range rows {
		if is[string(AppendRow(nil, row))] {
			same = append(same, row)
		} else {
			l.keys[keyText(row, key)], l.some = true, true
		}
	}
	if len(same) == 0 {
		return nil
	}
	return takeBatch(ctx, conn, table, key, same)
}

// exactly has texts come in the bytes that they are stored in.
func exactly(ctx context.Context, conn *sql.Conn, do func() error) error {
	if _, err := conn.ExecContext(ctx, "SET character_set_results = NULL"); err != nil {
		return err
	}
	err := do()
	_, back := conn.ExecContext(context.WithoutCancel(ctx), "SET character_set_results = utf8mb4")
	return errors.Join(err, back)
}

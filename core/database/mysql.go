package database

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"log"
	"maps"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"
)

// mysqlDatabase reaches MariaDB and MySQL.
type mysqlDatabase struct {
	db      *sql.DB
	name    string
	owner   Owner
	isMySQL bool     // not MariaDB
	own     sync.Map // the numbers of our own connections, as the server prints them
}

// session makes values come and go exactly as stored: no time zone shifts, no
// dates or zeros refused, a counter's zero kept as zero, and quotes around names
// in SHOW CREATE whatever the server's default is.
const session = `SET SESSION time_zone = '+00:00', sql_mode = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES',
			sql_quote_show_create = 1, foreign_key_checks = 0, unique_checks = 0, group_concat_max_len = 1048576`

func openMySQL(ctx context.Context, login Login, owner Owner) (Database, error) {
	config := mysql.NewConfig()
	config.User, config.Passwd, config.DBName = login.User, login.Password, login.Name
	config.Net, config.Addr = "tcp", net.JoinHostPort(login.Host, strconv.Itoa(login.Port))
	if login.Socket != "" {
		config.Net, config.Addr = "unix", login.Socket
	}
	protect(config, login)
	config.Timeout, config.DialFunc = 15*time.Second, login.dial
	config.Params = map[string]string{}
	for _, limit := range waitLimits {
		config.Params[limit] = strconv.Itoa(mostWait)
	}
	config.InterpolateParams = true
	config.MaxAllowedPacket = 0 // the server's own limit
	config.Collation = "utf8mb4_general_ci"
	config.Logger = log.New(io.Discard, "", 0) // what goes wrong comes back as an error
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, err
	}
	db := sql.OpenDB(connector)
	if err := db.PingContext(ctx); err != nil {
		return nil, errors.Join(explainMySQL(login, explainPlain(ctx, config, login, err)), db.Close())
	}
	m := &mysqlDatabase{db: db, name: login.Name, owner: owner}
	engine, err := m.Engine(ctx)
	if err != nil {
		return nil, errors.Join(explainMySQL(login, err), db.Close())
	}
	m.isMySQL = strings.HasPrefix(engine, "MySQL")
	return m, nil
}

func createMySQL(ctx context.Context, login Login) error {
	// Each table says its own character set.
	return onServer(ctx, login, "CREATE DATABASE "+quoteMySQL(login.Name)+" CHARACTER SET utf8mb4")
}

// onServer runs a statement without any database being chosen.
func onServer(ctx context.Context, login Login, statement string) error {
	server, conn, err := serverMySQL(ctx, login)
	if err != nil {
		return err
	}
	defer server.Close()
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, statement); err != nil {
		return fmt.Errorf("%s: %w", statement, err)
	}
	return nil
}

// serverMySQL opens one connection without any database being chosen.
func serverMySQL(ctx context.Context, login Login) (Database, *sql.Conn, error) {
	login.Name = ""
	server, err := openMySQL(ctx, login, nil)
	if err != nil {
		return nil, nil, err
	}
	conn, err := server.(*mysqlDatabase).connect(ctx, false)
	if err != nil {
		return nil, nil, errors.Join(err, server.Close())
	}
	return server, conn, nil
}

// scratchPrefix begins the names of databases for one use.
const scratchPrefix = ours + "scratch_"

// scratchMySQL holds a lock of the server's of the same name for as long as the database is in
// use: it goes with the connection, however this process ends.
func scratchMySQL(ctx context.Context, login Login) (db Database, drop func() error, err error) {
	login.Name = scratchPrefix + strings.ToLower(rand.Text()[:10])
	server, conn, err := serverMySQL(ctx, login)
	if err != nil {
		return nil, nil, err
	}
	drop = func() error {
		_, err := conn.ExecContext(context.WithoutCancel(ctx), "DROP DATABASE IF EXISTS "+quoteMySQL(login.Name))
		return errors.Join(err, conn.Close(), server.Close())
	}
	if err = ownScratch(ctx, conn, login.Name); err != nil {
		return nil, nil, errors.Join(err, conn.Close(), server.Close())
	}
	if db, err = openMySQL(ctx, login, Everything); err != nil {
		return nil, nil, errors.Join(err, drop())
	}
	return db, drop, nil
}

func ownScratch(ctx context.Context, conn *sql.Conn, name string) error {
	if _, err := collectRows(ctx, conn, sent, "SELECT GET_LOCK(?, 0)", name); err != nil {
		return err
	}
	_, err := conn.ExecContext(ctx, "CREATE DATABASE "+quoteMySQL(name)+" CHARACTER SET utf8mb4")
	if isNumber(err, 1044) {
		return fmt.Errorf("%w. That needs a user who may make databases", err)
	}
	return err
}

func sweepScratchMySQL(ctx context.Context, login Login) error {
	server, conn, err := serverMySQL(ctx, login)
	if err != nil {
		return err
	}
	defer server.Close()
	defer conn.Close()
	listed, err := collectRows(ctx, conn, sent, "SELECT schema_name FROM information_schema.schemata WHERE schema_name"+
		" LIKE ?", strings.ReplaceAll(scratchPrefix, "_", "\\_")+"%")
	if err != nil {
		return err
	}
	for _, row := range listed {
		name := row[0].String()
		free, err := collectRows(ctx, conn, sent, "SELECT IS_FREE_LOCK(?)", name)
		if err != nil {
			return err
		}
		if free[0][0].String() != "1" {
			continue // a process works with it
		}
		if _, err := conn.ExecContext(ctx, "DROP DATABASE IF EXISTS "+quoteMySQL(name)); err != nil && !isNumber(err, 1044) {
			return err
		}
	}
	return nil
}

// explainMySQL wraps the reason that a person can act on. The numbers are the
// server's: https://mariadb.com/kb/en/mariadb-error-code-reference/.
func explainMySQL(login Login, err error) error {
	var network *net.OpError
	words := explainTLS(err)
	switch {
	case words != "":
		err = fmt.Errorf("%w: %s", ErrUnprotected, words)
	case isNumber(err, 1045, 1698):
		err = fmt.Errorf("%w: %w", ErrDenied, err)
	case isNumber(err, 1044):
		err = fmt.Errorf("%w for this database: %w", ErrDenied, err)
	case isNumber(err, 1049):
		err = fmt.Errorf("%w: %w", ErrMissing, err)
	case errors.As(err, &network), errors.Is(err, context.DeadlineExceeded):
		err = fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	return fmt.Errorf("open the database %s: %w", login, err)
}

// Dialect is MySQL's, which MariaDB speaks as well.
func (m *mysqlDatabase) Dialect() string { return "mysql" }

// Engine names the server and its version.
func (m *mysqlDatabase) Engine(ctx context.Context) (string, error) {
	var version string
	if err := m.db.QueryRowContext(ctx, `SELECT version()`).Scan(&version); err != nil {
		return "", err
	}
	if number, _, ok := strings.Cut(version, "-MariaDB"); ok {
		return "MariaDB " + number, nil
	}
	return "MySQL " + version, nil
}

// Size is what the server believes; it need not be exact.
func (m *mysqlDatabase) Size(ctx context.Context) (size int64, err error) {
	err = m.db.QueryRowContext(ctx, `SELECT COALESCE(SUM(data_length), 0) FROM information_schema.tables
			WHERE table_schema = ?`, m.name).Scan(&size)
	return size, err
}

// isNumber tells whether the server answered with the error of this number.
func isNumber(err error, numbers ...uint16) bool {
	var answer *mysql.MySQLError
	return errors.As(err, &answer) && slices.Contains(numbers, answer.Number)
}

func (m *mysqlDatabase) Close() error { return m.db.Close() }

// Query returns the rows of a statement.
func (m *mysqlDatabase) Query(ctx context.Context, statement string, args ...any) (rows []Row, err error) {
	defer m.explainWait(ctx, &err)
	return collectRows(ctx, m.db, sent, statement, args...)
}

// sent hands out values as the bytes that the server sent.
func sent(count int) (targets []any, read func(Row) error) {
	cells := make([]sql.RawBytes, count)
	return pointersTo(cells), func(row Row) error {
		for i, cell := range cells {
			row[i] = Value{Type: Bytes, Data: cell}
			if cell == nil {
				row[i] = Value{Type: Null}
			}
		}
		return nil
	}
}

// connect returns a connection with the session set up. With exact, texts come
// in the bytes they are stored in, whatever their character set.
func (m *mysqlDatabase) connect(ctx context.Context, exact bool) (*sql.Conn, error) {
	conn, err := m.db.Conn(ctx)
	if err != nil {
		return nil, err
	}
	err = m.setUp(ctx, conn)
	if err == nil && exact {
		_, err = conn.ExecContext(ctx, `SET character_set_results = NULL`)
	}
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	return conn, nil
}

// setUp makes the session ours.
func (m *mysqlDatabase) setUp(ctx context.Context, conn *sql.Conn) error {
	for _, statement := range []string{session, `SET NAMES utf8mb4`} {
		if _, err := conn.ExecContext(ctx, statement); err != nil {
			return err
		}
	}
	return m.allowOlderTables(ctx, conn)
}

// wishes are settings of a session under which each table comes to be as its statement says, and is described as it is.
// Some servers let nobody but an administrator change them: what then is made otherwise, or not
// at all, is told when it is made.
var wishes = map[string]string{
	"information_schema_stats_expiry":    "0",   // MySQL 8.0: counters and times of yesterday else
	"explicit_defaults_for_timestamp":    "ON",  // a TIMESTAMP gets no default of its own
	"sql_generate_invisible_primary_key": "OFF", // MySQL 8.0.30: a table without a key stays so
	"sql_require_primary_key":            "OFF", // MySQL 8.0.13
	"system_versioning_insert_history":   "ON",  // MariaDB 10.11: rows of the past are put back with their times
	"system_versioning_alter_history":    "KEEP",
}

func (m *mysqlDatabase) allowOlderTables(ctx context.Context, conn *sql.Conn) error {
	names := append(slices.Sorted(maps.Keys(wishes)), ownNumber)
	now, err := collectRows(ctx, conn, sent, "SHOW SESSION VARIABLES WHERE Variable_name IN ('"+
		strings.Join(names, "', '")+"')")
	if err != nil {
		return err
	}
	for _, row := range now {
		name, value := row[0].String(), row[1].String()
		if name == ownNumber {
			m.own.Store(value, true)
			continue
		}
		if value == wishes[name] {
			continue
		}
		var answer *mysql.MySQLError
		if _, err := conn.ExecContext(ctx, "SET SESSION "+name+" = "+wishes[name]); err != nil && !errors.As(err, &answer) {
			return err
		}
	}
	return nil
}

// mysqlMoment reads inside one transaction with a consistent snapshot.
type mysqlMoment struct {
	of      *mysqlDatabase
	conn    *sql.Conn
	isMySQL bool
	// takesHistory says that rows of the past can be written.
	takesHistory bool
	tables       []Table
	weaker       []string
	idle         map[string]int64
}

// Read opens the consistent snapshot, then describes the tables.
func (m *mysqlDatabase) Read(ctx context.Context) (_ Moment, err error) {
	defer m.explainWait(ctx, &err)
	conn, err := m.connect(ctx, false)
	if err != nil {
		return nil, err
	}
	moment := &mysqlMoment{of: m, conn: conn, isMySQL: m.isMySQL}
	for _, statement := range []string{
		`SET TRANSACTION ISOLATION LEVEL REPEATABLE READ`,
		`START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY`,
		`SAVEPOINT ` + ours + `moment`,
	} {
		if _, err := conn.ExecContext(ctx, statement); err != nil {
			return nil, errors.Join(err, moment.Close())
		}
	}
	if err := moment.describe(ctx, m.name, m.owner); err != nil {
		return nil, errors.Join(fmt.Errorf("list the tables: %w", err), moment.Close())
	}
	if _, err := conn.ExecContext(ctx, `SET character_set_results = NULL`); err != nil {
		return nil, errors.Join(err, moment.Close())
	}
	return moment, nil
}

func (m *mysqlMoment) Tables() []Table  { return slices.Clone(m.tables) }
func (m *mysqlMoment) Weaker() []string { return m.weaker }

// Standing: a consistent snapshot holds no lock of a table before its rows are read.
func (m *mysqlMoment) Standing() Standing { return Standing{Lasts: true, Idle: m.idle} }

func (m *mysqlMoment) Close() error {
	// The next user of the connection sets it up anew; only the view must go.
	_, err := m.conn.ExecContext(context.Background(), `ROLLBACK`)
	return errors.Join(err, m.conn.Close())
}

func (m *mysqlMoment) describe(ctx context.Context, name string, owner Owner) error {
	history, err := collectRows(ctx, m.conn, sent, "SHOW SESSION VARIABLES LIKE 'system_versioning_insert_history'")
	if err != nil {
		return err
	}
	m.takesHistory = len(history) > 0 && history[0][1].String() == "ON"
	if err := m.tellUnseen(ctx, name); err != nil {
		return fmt.Errorf("read the rights of the database user: %w", err)
	}
	listed, err := collectRows(ctx, m.conn, sent,
		`SELECT table_name, table_type, COALESCE(engine, ''), COALESCE(auto_increment, 0),
			TIMESTAMPDIFF(SECOND, update_time, NOW()) FROM information_schema.tables WHERE table_schema = ?
			ORDER BY table_name`, name)
	if err != nil {
		return err
	}
	var names []string
	for _, row := range listed {
		if table := row[0].String(); !strings.HasPrefix(table, ours) {
			names = append(names, table)
		}
	}
	owned := owner(names)
	m.idle = map[string]int64{}
	for _, row := range listed {
		table := Table{Name: row[0].String()}
		if !slices.Contains(owned, table.Name) {
			continue
		}
		// It knows none that nobody wrote to since it runs.
		if idle, err := strconv.ParseInt(row[4].String(), 10, 64); err == nil {
			m.idle[table.Name] = idle
		}
		switch kind := row[1].String(); kind {
		case "BASE TABLE":
			table.Kind = BaseTable
		case "SYSTEM VERSIONED":
			table.Kind, table.History = BaseTable, true
		case "VIEW":
			table.Kind = View
		case "SEQUENCE":
			table.Kind = Sequence
		default:
			m.weaker = append(m.weaker, fmt.Sprintf("%s is a %s and is not in the snapshot", table.Name, strings.ToLower(kind)))
			continue
		}
		engine := row[2].String()
		table.Firm = table.Kind != BaseTable || strings.EqualFold(engine, "InnoDB")
		if !table.Firm {
			m.weaker = append(m.weaker, fmt.Sprintf("the table %s is kept by %s, which has no transactions: it is read as it"+
				" stands when its turn comes", table.Name, engine))
		}
		table.Counter, _ = strconv.ParseInt(row[3].String(), 10, 64)
		if err := m.describeTable(ctx, name, &table); err != nil {
			return fmt.Errorf("describe %s: %w", table.Name, err)
		}
		if why := m.unwritableHistory(table); why != "" {
			m.weaker = append(m.weaker, fmt.Sprintf("%s keeps rows of the past and is not in the snapshot: %s", table.Name, why))
			continue
		}
		m.tables = append(m.tables, table)
	}
	if err := m.describeTriggers(ctx, name); err != nil {
		return err
	}
	if err := m.describeHistograms(ctx, name); err != nil {
		return err
	}
	if err := m.describePrograms(ctx, name, owner, len(owned) == len(names)); err != nil {
		return err
	}
	kept, weaker, err := known("mysql", m.tables)
	m.tables, m.weaker = kept, append(m.weaker, weaker...)
	return err
}

// tellUnseen adds to what is weaker that the database user has no right to see triggers or
// events: the server leaves them out without a word. Rights that come by a role are not known.
func (m *mysqlMoment) tellUnseen(ctx context.Context, name string) error {
	role, err := collectRows(ctx, m.conn, sent, "SELECT COALESCE(CURRENT_ROLE(), 'NONE')")
	switch {
	case isNumber(err, 1305): // ER_SP_DOES_NOT_EXIST: MySQL 5.7 has no roles
	case err != nil:
		return err
	case role[0][0].String() != "NONE":
		return nil
	}
	user, err := collectRows(ctx, m.conn, sent, "SELECT CURRENT_USER()")
	if err != nil {
		return err
	}
	whole := user[0][0].String()
	at := strings.LastIndexByte(whole, '@')
	grantee := "'" + whole[:at] + "'@'" + whole[at+1:] + "'"
	rights, err := collectRows(ctx, m.conn, sent, `SELECT privilege_type FROM information_schema.user_privileges
			WHERE grantee = ?
		UNION SELECT privilege_type FROM information_schema.schema_privileges WHERE grantee = ?
			AND ? LIKE table_schema`, grantee, grantee, name)
	if err != nil {
		return err
	}
	for _, right := range []string{"TRIGGER", "EVENT"} {
		if !slices.ContainsFunc(rights, func(row Row) bool { return row[0].String() == right }) {
			what := strings.ToLower(right) + "s"
			m.weaker = append(m.weaker, fmt.Sprintf("the database user may not see %s: if there are any, they are not in the"+
				" snapshot (the right %s is missing)", what, right))
		}
	}
	return nil
}

var generated = regexp.MustCompile(`(?i)\b(VIRTUAL|STORED|PERSISTENT)( GENERATED)?\b`)

func (m *mysqlMoment) describeTable(ctx context.Context, name string, table *Table) error {
	show := "SHOW CREATE TABLE "
	if table.Kind == Sequence {
		show = "SHOW CREATE SEQUENCE "
	}
	shown, err := collectRows(ctx, m.conn, sent, show+quoteMySQL(table.Name))
	if err != nil {
		return err
	}
	table.Create = shown[0][1].String()
	switch table.Kind {
	case View: // name, statement, character set, collation
		return nil
	case Sequence:
		return m.sequenceState(ctx, table)
	}
	var unique []string
	table.Create, unique = takeUnique(table.Create, table.Name, m.isMySQL)
	for _, clause := range unique {
		table.After = append(table.After, "ALTER TABLE "+quoteMySQL(table.Name)+" ADD "+clause)
	}
	columns, err := collectRows(ctx, m.conn, sent,
		`SELECT column_name, data_type, extra FROM information_schema.columns WHERE table_schema = ? AND table_name = ?
			ORDER BY ordinal_position`, name, table.Name)
	if err != nil {
		return err
	}
	period := periodColumns(table)
	for _, row := range columns {
		if !generated.MatchString(row[2].String()) || slices.Contains(period, row[0].String()) {
			table.Columns = append(table.Columns, Column{Name: row[0].String(), Type: strings.ToLower(row[1].String())})
		}
	}
	if table.History && period == nil {
		table.Columns = append(table.Columns, impliedPeriod...)
	}
	if table.History { // a row of the past shares its key with that of the present
		return nil
	}
	key, err := collectRows(ctx, m.conn, sent,
		`SELECT column_name FROM information_schema.statistics WHERE table_schema = ? AND table_name = ?
			AND index_name = 'PRIMARY' ORDER BY seq_in_index`, name, table.Name)
	if err != nil {
		return err
	}
	for _, row := range key {
		table.Key = append(table.Key, row[0].String())
	}
	return nil
}

var (
	statedPeriod = regexp.MustCompile("(?m)^  PERIOD FOR SYSTEM_TIME \\(`((?:[^`]|``)*)`, `((?:[^`]|``)*)`\\)")
	// impliedPeriod are the columns of a table WITH SYSTEM VERSIONING that names none.
	impliedPeriod = []Column{{Name: "row_start", Type: "timestamp"}, {Name: "row_end", Type: "timestamp"}}
)

// periodColumns names the columns that say from when to when a row of the past held, where
// the table's statement names them.
func periodColumns(table *Table) []string {
	found := statedPeriod.FindStringSubmatch(table.Create)
	if !table.History || found == nil {
		return nil
	}
	return []string{strings.ReplaceAll(found[1], "``", "`"), strings.ReplaceAll(found[2], "``", "`")}
}

// unwritableHistory says why rows of the past could not be put back with their times.
func (m *mysqlMoment) unwritableHistory(table Table) string {
	if !table.History {
		return ""
	}
	if !m.takesHistory {
		return "this server takes no such rows (MariaDB does from 10.11 on)"
	}
	for _, column := range table.Columns {
		if slices.Contains(periodColumns(&table), column.Name) && column.Type != "timestamp" {
			return "it counts them by transactions, whose numbers cannot be given back"
		}
	}
	return ""
}

var namedConstraint = regexp.MustCompile("^CONSTRAINT `((?:[^`]|``)*)` (FOREIGN KEY|CHECK) ")

// takeUnique cuts what has a name that is unique in a database out of SHOW CREATE TABLE, which
// prints each on a line of its own: foreign keys; on MySQL checks, too, but for those whose
// names MySQL made. They can only be given once the table they come from is gone.
func takeUnique(create, table string, isMySQL bool) (without string, clauses []string) {
	return takeLines(create, func(clause string) bool {
		named := namedConstraint.FindStringSubmatch(clause)
		if named == nil || named[2] == "FOREIGN KEY" {
			return named != nil
		}
		return isMySQL && !strings.HasPrefix(named[1], strings.ReplaceAll(table, "`", "``")+"_chk_")
	})
}

func (m *mysqlDatabase) takeUnique(create, table string) (without string, clauses []string) {
	return takeUnique(create, table, m.isMySQL)
}

func (m *mysqlMoment) describeTriggers(ctx context.Context, name string) error {
	rows, err := collectRows(ctx, m.conn, sent,
		`SELECT trigger_name, event_object_table FROM information_schema.triggers WHERE trigger_schema = ?
			ORDER BY event_object_table, action_timing, event_manipulation, action_order`, name)
	if err != nil {
		return err
	}
	for _, row := range rows {
		i := slices.IndexFunc(m.tables, func(t Table) bool { return t.Name == row[1].String() })
		if i < 0 {
			continue
		}
		shown, err := collectRows(ctx, m.conn, sent, "SHOW CREATE TRIGGER "+quoteMySQL(row[0].String()))
		if err != nil {
			return err
		}
		// Trigger, mode, statement, character set, collation.
		m.tables[i].After = append(m.tables[i].After, settings(shown[0][1], shown[0][4], ""), statement(shown[0][2]))
	}
	return nil
}

// describeHistograms has MySQL's histograms made anew, which it drops with their table.
func (m *mysqlMoment) describeHistograms(ctx context.Context, name string) error {
	if !m.isMySQL {
		return nil
	}
	rows, err := collectRows(ctx, m.conn, sent,
		`SELECT table_name, column_name, histogram->'$."number-of-buckets-specified"'
			FROM information_schema.column_statistics WHERE schema_name = ? ORDER BY 1, 2`, name)
	if isNumber(err, 1109) { // there is no such table before MySQL 8.0
		return nil
	}
	if err != nil {
		return err
	}
	for _, row := range rows {
		i := slices.IndexFunc(m.tables, func(t Table) bool { return t.Name == row[0].String() })
		if i >= 0 {
			m.tables[i].After = append(m.tables[i].After, fmt.Sprintf("ANALYZE TABLE %s UPDATE HISTOGRAM ON %s WITH %s BUCKETS",
				quoteMySQL(row[0].String()), quoteMySQL(row[1].String()), row[2]))
		}
	}
	return nil
}

// Rows reads a table inside the consistent snapshot. The lock of its structure goes with the savepoint, and not only
// with the transaction: somebody may want to change it (https://dev.mysql.com/doc/refman/8.4/en/metadata-locking.html).
func (m *mysqlMoment) Rows(ctx context.Context, table Table, each func(Row) error) (err error) {
	defer m.of.explainWait(ctx, &err)
	err = eachRow(ctx, m.conn, sent, selectMySQL(table, table.Name), nil, each)
	if _, back := m.conn.ExecContext(ctx, `ROLLBACK TO SAVEPOINT `+ours+`moment`); err == nil {
		err = back
	}
	return err
}

// selectMySQL reads the table's columns from a table of this name.
func selectMySQL(table Table, from string) string {
	var cells []string
	for _, column := range table.Columns {
		cell := quoteMySQL(column.Name)
		if column.Type == "float" {
			// The text of a FLOAT has six digits; as a DOUBLE it has all of them.
			cell = "(" + cell + " + 0e0)"
		}
		cells = append(cells, cell)
	}
	from = quoteMySQL(from)
	if table.History {
		from += " FOR SYSTEM_TIME ALL"
	}
	return "SELECT " + strings.Join(cells, ", ") + " FROM " + from
}

func quoteMySQL(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

package database

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// A program is a procedure, a function or an event. Its Name in a Table begins with
// its kind, for a table may have the same name.
func (t Table) isProgram() bool {
	return t.Kind == Procedure || t.Kind == Function || t.Kind == Event
}

// bare is the name in the engine.
func (t Table) bare() string {
	if t.isProgram() {
		return strings.TrimPrefix(t.Name, string(t.Kind)+" ")
	}
	return t.Name
}

// describePrograms adds the procedures, functions and events that are the site's: all,
// where all tables of the database are, else those that are named like its tables.
func (m *mysqlMoment) describePrograms(ctx context.Context, schema string, owner Owner, all bool) error {
	listed, err := collectRows(ctx, m.conn, sent, `SELECT LOWER(routine_type), routine_name
			FROM information_schema.routines WHERE routine_schema = ?
UNION ALL SELECT 'event', event_name FROM information_schema.events WHERE event_schema = ?
			ORDER BY 1, 2`, schema, schema)
	if err != nil {
		return err
	}
	for _, row := range listed {
		kind, name := Kind(row[0].String()), row[1].String()
		program := Table{Name: string(kind) + " " + name, Kind: kind, Firm: true}
		switch {
		case strings.HasPrefix(name, ours):
			continue
		case !program.isProgram(): // the packages of MariaDB's Oracle mode
			m.weaker = append(m.weaker, fmt.Sprintf("%s is not in the snapshot: it is a %s", name, kind))
			continue
		case !all && !slices.Contains(owner([]string{name}), name):
			m.weaker = append(m.weaker, fmt.Sprintf("the %s is not in the snapshot: whether it is this site's cannot be known",
				program.Name))
			continue
		}
		if err := m.describeProgram(ctx, &program); err != nil {
			return fmt.Errorf("describe the %s: %w", program.Name, err)
		}
		if program.Create == "" {
			m.weaker = append(m.weaker, fmt.Sprintf("the %s is not in the snapshot: this user may not read it", program.Name))
			continue
		}
		m.tables = append(m.tables, program)
	}
	return nil
}

func (m *mysqlMoment) describeProgram(ctx context.Context, program *Table) error {
	shown, err := collectRows(ctx, m.conn, sent, "SHOW CREATE "+strings.ToUpper(string(program.Kind))+" "+
		quoteMySQL(program.bare()))
	if err != nil {
		return err
	}
	row := shown[0]
	if program.Kind == Event { // name, mode, time zone, statement, character set, collation
		program.Create = statement(row[3])
		program.Settings = settings(row[1], row[5], row[2].String())
		_, program.Digest = splitStatus(program.Create) // its structure is the same whether it runs or not
		return nil
	}
	program.Create = statement(row[2])
	program.Settings = settings(row[1], row[4], "")
	return nil
}

// statement is what made a trigger or a program. MySQL keeps the end of the line with it, if it
// came with others in one request.
func statement(shown Value) string { return strings.TrimRight(shown.String(), "; \n\r\t") }

// settings is the statement that makes a session as it was when something was made:
// the engine keeps that with it.
func settings(mode, collation Value, zone string) string {
	text := "SET SESSION sql_mode = '" + mode.String() + "', collation_connection = '" + collation.String() + "'"
	if zone != "" {
		text += ", time_zone = '" + zone + "'"
	}
	return text
}

// sequenceState is where a sequence stands: the next number that it gives, and its round.
func (m *mysqlMoment) sequenceState(ctx context.Context, table *Table) error {
	rows, err := collectRows(ctx, m.conn, sent, "SELECT next_not_cached_value, cycle_count FROM "+quoteMySQL(table.Name))
	if err != nil {
		return err
	}
	_, err = fmt.Sscan(rows[0][0].String(), &table.Counter)
	table.Digest = "next " + rows[0][0].String() + ", round " + rows[0][1].String()
	return err
}

// loadSequence makes a sequence under its incoming name.
func (m *mysqlDatabase) loadSequence(ctx context.Context, conn *sql.Conn, r Replacement, keepCounter bool) error {
	to := incoming(r.Table.Name)
	head := "CREATE SEQUENCE " + quoteMySQL(r.Table.Name)
	rest, ok := strings.CutPrefix(r.Table.Create, head)
	if !ok {
		return fmt.Errorf("its statement does not begin with %s", head)
	}
	var next, round int64
	if _, err := fmt.Sscanf(r.Table.Digest, "next %d, round %d", &next, &round); err != nil {
		return fmt.Errorf("where it stood: %w", err)
	}
	present := []Row{}
	if keepCounter {
		// A sequence that is gone has no number that visitors could have seen.
		present, _ = collectRows(ctx, conn, sent, "SELECT next_not_cached_value FROM "+quoteMySQL(r.Table.Name))
	}
	if len(present) > 0 {
		var now int64
		if _, err := fmt.Sscan(present[0][0].String(), &now); err == nil {
			next = max(next, now)
		}
	}
	for _, statement := range []string{
		"DROP SEQUENCE IF EXISTS " + quoteMySQL(to),
		"CREATE SEQUENCE " + quoteMySQL(to) + rest,
		fmt.Sprintf("DO SETVAL(%s, %d, 0, %d)", quoteMySQL(to), next, round),
	} {
		if _, err := conn.ExecContext(ctx, statement); err != nil {
			return err
		}
	}
	return nil
}

// putPrograms makes procedures, functions and events anew.
func (a *mysqlApplied) putPrograms(ctx context.Context, conn *sql.Conn) error {
	for _, program := range a.replaced {
		if !program.isProgram() {
			continue
		}
		drop := "DROP " + strings.ToUpper(string(program.Kind)) + " IF EXISTS " + quoteMySQL(program.bare())
		if _, err := conn.ExecContext(ctx, drop); err != nil {
			return fmt.Errorf("put back the %s: %w", program.Name, err)
		}
		if err := a.makeProgram(ctx, conn, program); err != nil {
			return fmt.Errorf("put back the %s: %w", program.Name, err)
		}
	}
	return nil
}

// makeProgram makes a program in a session with its own settings.
func (a *mysqlApplied) makeProgram(ctx context.Context, conn *sql.Conn, program Table) error {
	if program.Settings != "" {
		if _, err := conn.ExecContext(ctx, program.Settings); err != nil {
			return err
		}
	}
	return errors.Join(a.execAsDefiner(ctx, conn, program.Create, NewDefiner{Of: "the " + program.Name,
		Table: program.Name}), a.m.setUp(ctx, conn))
}

// needsRight is ER_SPECIFIC_ACCESS_DENIED_ERROR.
const needsRight = 1227

// execAsDefiner runs a statement that makes a trigger, a view or a program. Where this user may
// not act in another's name, it is made in this user's own, and noted; an event then does not
// run.
func (a *mysqlApplied) execAsDefiner(ctx context.Context, conn *sql.Conn, statement string, what NewDefiner) error {
	_, err := conn.ExecContext(ctx, statement)
	was := definerClause.FindStringSubmatch(statement)
	if !isNumber(err, needsRight) || was == nil {
		return explainProgram(err)
	}
	statement = strings.Replace(statement, was[0], "", 1)
	if _, status := splitStatus(statement); status == "ENABLE" {
		what.Disabled = true
		statement = eventStatus.ReplaceAllString(statement, "$1 DISABLE")
	}
	if _, err = conn.ExecContext(ctx, statement); err != nil {
		return explainProgram(err)
	}
	now, err := collectRows(ctx, conn, sent, "SELECT CURRENT_USER()")
	if err != nil {
		return err
	}
	what.Was, what.Now = unquoteMySQL(was[1])+"@"+unquoteMySQL(was[2]), now[0][0].String()
	a.definers = append(a.definers, what)
	return nil
}

func unquoteMySQL(name string) string { return strings.ReplaceAll(name, "``", "`") }

// explainProgram tells what to do about a server that lets nobody but an administrator make
// programs while it keeps a log of changes.
func explainProgram(err error) error {
	if isNumber(err, 1418, 1419) {
		return fmt.Errorf("the server keeps a log of changes, and takes this only from an administrator: set its"+
			" log_bin_trust_function_creators = 1, then try again: %w", err)
	}
	return err
}

// setAsideEvent gives an event another name, under which it does not run any more.
func setAsideEvent(ctx context.Context, conn *sql.Conn, name, aside string) error {
	_, err := conn.ExecContext(ctx, "ALTER EVENT "+quoteMySQL(name)+" RENAME TO "+quoteMySQL(aside)+" DISABLE")
	return err
}

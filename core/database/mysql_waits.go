package database

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"
)

// Every wait for what other clients hold has an end: in seconds. Tests have less patience.
var (
	mostWait    = 30  // to read
	patientWait = 300 // to put something back, for what is half done is worse than what is late
)

// ownNumber is the variable that has a connection's own number.
const ownNumber = "pseudo_thread_id"

// waitLimits are the server's own settings of how long a statement waits for tables, and for rows.
var waitLimits = []string{"lock_wait_timeout", "innodb_lock_wait_timeout"}

func waitAtMost(ctx context.Context, conn *sql.Conn, seconds int) error {
	_, err := conn.ExecContext(ctx, fmt.Sprintf("SET SESSION %[2]s = %[1]d, %[3]s = %[1]d", seconds, waitLimits[0],
		waitLimits[1]))
	return err
}

// ErrHeld says that another client held a table, or rows of it, for longer than is waited.
var ErrHeld = errors.New("another client of the database holds what is needed")

// explainWait says who holds what was waited for, if the server tells.
func (m *mysqlDatabase) explainWait(ctx context.Context, err *error) {
	if !isNumber(*err, 1205) {
		return
	}
	who := "SHOW PROCESSLIST, asked by an administrator, tells who"
	if others := m.holders(ctx); len(others) > 0 {
		who = strings.Join(others, "; ")
	}
	*err = fmt.Errorf("%w: a backup, a long report or a change of structure, say (%s). Nothing waits for it any longer;"+
		" when that has ended, try again: %w",
		ErrHeld, who, *err)
}

// asksHolders are statements that tell who holds tables, those first that know for certain: of MySQL, and of any
// server the clients that have the database open.
var asksHolders = []string{
	`SELECT t.processlist_id, t.processlist_user, t.processlist_host, t.processlist_time,
		CONCAT('holds ', GROUP_CONCAT(DISTINCT l.object_name)) FROM performance_schema.metadata_locks l
		JOIN performance_schema.threads t ON t.thread_id = l.owner_thread_id
		WHERE l.object_schema = ? AND l.lock_status = 'GRANTED' AND l.object_type = 'TABLE'
		AND (l.lock_type LIKE '%NO%WRITE' OR l.lock_type IN ('SHARED_READ_ONLY', 'EXCLUSIVE')) GROUP BY 1, 2, 3, 4`,
	`SELECT id, user, host, time, CONCAT('at work there: ', command) FROM information_schema.processlist
		WHERE db = ? ORDER BY time DESC LIMIT 5`,
}

func (m *mysqlDatabase) holders(ctx context.Context) (others []string) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	for _, ask := range asksHolders {
		rows, err := m.db.QueryContext(ctx, ask, m.name)
		if err != nil {
			continue // it may not be asked that
		}
		for rows.Next() {
			var seconds int64
			var number string
			var user, host, does sql.NullString
			if rows.Scan(&number, &user, &host, &seconds, &does) != nil {
				continue
			}
			if _, own := m.own.Load(number); !own {
				others = append(others, fmt.Sprintf("client %s, %s from %s, %s, since %s",
					number, user.String, host.String, does.String, time.Duration(seconds)*time.Second))
			}
		}
		if err := errors.Join(rows.Err(), rows.Close()); err == nil && len(others) > 0 {
			return others
		}
	}
	return others
}

package database

import (
	"context"
	"errors"
	"fmt"
	"slices"
)

// Ready tells whether tables could be changed now, while they are read: an error says why not, as where the server
// takes no writes, or no second connection. It deletes no row, of one of the tables.
func Ready(ctx context.Context, db Database) (err error) {
	moment, err := db.Read(ctx)
	if err != nil {
		return fmt.Errorf("read the database: %w", err)
	}
	tables := moment.Tables()
	quote := quoteMySQL
	if db.Dialect() == "sqlite" { // whoever reads keeps writers away, unless it has a log of writes
		quote = quoteSQLite
		err = moment.Close()
	} else {
		defer func() { err = errors.Join(err, moment.Close()) }()
	}
	// Some of the engines without transactions delete nothing at all.
	at := slices.IndexFunc(tables, func(t Table) bool { return t.Kind == BaseTable && t.Firm })
	if err != nil || at < 0 {
		return err
	}
	_, err = db.Query(ctx, "DELETE FROM "+quote(tables[at].Name)+" WHERE 0 = 1")
	return err
}

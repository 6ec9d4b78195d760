package database

import (
	"context"
	"database/sql"
	"fmt"
)

// querier is a database, a connection or a transaction.
type querier interface {
	QueryContext(ctx context.Context, statement string, args ...any) (*sql.Rows, error)
}

// cellReader returns where a driver puts the cells of a row, and how to turn them
// into values.
type cellReader func(count int) (targets []any, read func(Row) error)

// pointersTo returns a pointer to each element, as Scan wants them.
func pointersTo[T any](cells []T) []any {
	targets := make([]any, len(cells))
	for i := range cells {
		targets[i] = &cells[i]
	}
	return targets
}

// eachRow calls each for every row of a statement; the row is valid during the call.
func eachRow(ctx context.Context, db querier, cells cellReader, statement string, args []any, each func(Row) error) error {
	rows, err := db.QueryContext(ctx, statement, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return err
	}
	targets, read := cells(len(columns))
	row := make(Row, len(columns))
	for rows.Next() {
		if err := rows.Scan(targets...); err != nil {
			return err
		}
		if err := read(row); err != nil {
			return fmt.Errorf("read a row: %w", err)
		}
		if err := each(row); err != nil {
			return err
		}
	}
	return rows.Err()
}

// collectRows returns all rows of a statement.
func collectRows(ctx context.Context, db querier, cells cellReader, statement string, args ...any) ([]Row, error) {
	var found []Row
	err := eachRow(ctx, db, cells, statement, args, func(row Row) error {
		found = append(found, row.Clone())
		return nil
	})
	return found, err
}

// proveRows reads back what was just loaded and compares it with the table's
// digest, before anybody sees it: an engine that cuts or changes a value in silence
// is found here. A table without a digest promises nothing.
func proveRows(ctx context.Context, db querier, cells cellReader, statement string, table Table) error {
	if table.Digest == "" {
		return nil
	}
	var digest Digest
	err := eachRow(ctx, db, cells, statement, nil, func(row Row) error {
		digest.Add(row)
		return nil
	})
	if err != nil {
		return fmt.Errorf("read back what was loaded: %w", err)
	}
	if digest.Rows() != table.Rows || digest.String() != table.Digest {
		return fmt.Errorf("what was loaded (%d rows) differs from the snapshot (%d rows)", digest.Rows(), table.Rows)
	}
	return nil
}

package tables

import (
	"context"
	"errors"
	"fmt"

	"wetland/core/database"
	"wetland/core/session"
	"wetland/core/snapshot"
)

// mostRowsBehindGate bounds of how many rows the state behind the gate is found out: each million takes a second or two,
// and visitors wait meanwhile.
const mostRowsBehindGate = 2_000_000

// FindUndisturbed lists the tables that are as in a snapshot but for what the CMS rewrites by itself, at a moment when
// nobody can write: what an upgrade changes in them from then on, nobody else did. Of more rows than visitors can be made to
// wait for, it lists none.
func FindUndisturbed(ctx context.Context, s *session.Session, from *snapshot.Manifest) (same []string, err error) {
	rows := int64(0)
	for _, table := range from.Tables {
		rows += table.Rows
	}
	if rows > mostRowsBehindGate {
		return nil, nil
	}
	moment, err := s.DB.Read(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the database: %w", err)
	}
	defer func() { err = errors.Join(err, moment.Close()) }()
	now, err := database.Survey(ctx, moment, nil)
	if err != nil {
		return nil, err
	}
	disturbed := map[string]bool{}
	for _, differ := range database.CompareTables(from.Described(), now) {
		if disturbed[differ.Name], err = isDisturbed(ctx, s, from, differ, moment); err != nil {
			return nil, err
		}
	}
	for _, table := range from.Tables {
		if !disturbed[table.Name] {
			same = append(same, table.Name)
		}
	}
	return same, nil
}

// errDisturbed ends a comparison that needs to go no further.
var errDisturbed = errors.New("somebody wrote there")

// isDisturbed tells whether anything but the CMS by itself changed a table.
func isDisturbed(ctx context.Context, s *session.Session, from *snapshot.Manifest, differ database.TableChange, moment database.Moment) (bool, error) {
	if differ.Fate != database.Written {
		return true, nil
	}
	table, rows, err := compareNow(ctx, s, from, differ, moment, database.State{})
	if err != nil {
		return true, err
	}
	err = rows.Each(ctx, func(change database.RowChange) error {
		if !s.Site.CMS.RewrittenByItself(table, StateBefore(change)) {
			return errDisturbed
		}
		return nil
	})
	if errors.Is(err, errDisturbed) {
		return true, nil
	}
	return false, err
}

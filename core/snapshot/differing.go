package snapshot

import (
	"context"
	"fmt"

	"github.com/zeebo/blake3"

	"wetland/core/database"
)

// Differing returns those rows of two tables, of the same columns, that do not lie in a run
// that both hold, and how many bytes they have, about: all rows in which the tables differ are
// among them. What is equal is not read.
func (s *Store) Differing(a, b Table) (ofA, ofB database.Rows, bytes int64, err error) {
	held, shared := map[ID]int32{}, map[ID]int32{}
	var onlyA, onlyB []ID
	err = s.eachRun(a, func(run ID, _ []ID) { held[run]++ })
	if err == nil {
		err = s.eachRun(b, func(run ID, pieces []ID) {
			if held[run] > 0 {
				held[run]--
				shared[run]++
			} else {
				onlyB = append(onlyB, pieces...)
			}
		})
	}
	held = nil
	if err == nil {
		err = s.eachRun(a, func(run ID, pieces []ID) {
			if shared[run] > 0 {
				shared[run]--
			} else {
				onlyA = append(onlyA, pieces...)
			}
		})
	}
	if err != nil {
		return nil, nil, 0, fmt.Errorf("list the rows of %s: %w", a.Name, err)
	}
	for _, only := range [][]ID{onlyA, onlyB} {
		for _, id := range only {
			bytes += int64(s.index[id].size)
		}
	}
	return s.rowsIn(a, eachOf(onlyA)), s.rowsIn(b, eachOf(onlyB)), bytes, nil
}

// eachRun calls visit for each run of a table: some whole rows in one piece, or a long row in
// several. A piece of full length is followed by more of the same row. pieces is valid during
// the call.
func (s *Store) eachRun(table Table, visit func(run ID, pieces []ID)) error {
	var pieces []ID
	err := s.rowPieces(table, func(id ID) error {
		pieces = append(pieces, id)
		if s.index[id].size != pieceSize {
			visit(nameOf(pieces), pieces)
			pieces = pieces[:0]
		}
		return nil
	})
	if len(pieces) > 0 {
		visit(nameOf(pieces), pieces)
	}
	return err
}

func nameOf(pieces []ID) (name ID) {
	if len(pieces) == 1 {
		return pieces[0]
	}
	hasher := blake3.New()
	for _, id := range pieces {
		_, _ = hasher.Write(id[:]) // a hash does not fail
	}
	copy(name[:], hasher.Sum(nil))
	return name
}

// eachOf is rowPieces of a list.
func eachOf(ids []ID) func(each func(ID) error) error {
	return func(each func(ID) error) error {
		for _, id := range ids {
			if err := each(id); err != nil {
				return err
			}
		}
		return nil
	}
}

// Rows returns the rows of a table in the snapshot.
func (s *Store) Rows(table Table) database.Rows {
	return s.rowsIn(table, func(each func(ID) error) error { return s.rowPieces(table, each) })
}

// rowsIn returns the rows in some pieces of a table.
func (s *Store) rowsIn(table Table, pieces func(each func(ID) error) error) database.Rows {
	return func(ctx context.Context, each func(database.Row) error) error {
		return s.decodeRows(ctx, table, pieces, each)
	}
}

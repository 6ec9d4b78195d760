package snapshot

import (
	"context"
	"fmt"

	"github.com/zeebo/blake3"

	"wetland/core/database"
	"wetland/core/packs"
)

// Differing returns those rows of two tables, of the same columns, that do not lie in a run
// that both hold, and how many bytes they have, about: all rows in which the tables differ are
// among them. What is equal is not read.
func Differing(ctx context.Context, s *packs.Store, a, b Table) (ofA, ofB database.Rows, bytes int64, err error) {
	held, shared := map[packs.ID]int32{}, map[packs.ID]int32{}
	var onlyA, onlyB []packs.ID
	err = eachRun(ctx, s, a, func(run packs.ID, _ []packs.ID) { held[run]++ })
	if err == nil {
		err = eachRun(ctx, s, b, func(run packs.ID, pieces []packs.ID) {
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
		err = eachRun(ctx, s, a, func(run packs.ID, pieces []packs.ID) {
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
	for _, only := range [][]packs.ID{onlyA, onlyB} {
		for _, id := range only {
			bytes += int64(s.SizeOf(id))
		}
	}
	return rowsIn(s, a, eachOf(onlyA)), rowsIn(s, b, eachOf(onlyB)), bytes, nil
}

// eachRun calls visit for each run of a table: some whole rows in one piece, or a long row in
// several. A piece of full length is followed by more of the same row. pieces is valid during
// the call.
func eachRun(ctx context.Context, s *packs.Store, table Table, visit func(run packs.ID, pieces []packs.ID)) error {
	var pieces []packs.ID
	err := rowPieces(ctx, s, table, func(id packs.ID) error {
		pieces = append(pieces, id)
		if s.SizeOf(id) != packs.PieceSize {
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

func nameOf(pieces []packs.ID) (name packs.ID) {
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
func eachOf(ids []packs.ID) func(ctx context.Context, each func(packs.ID) error) error {
	return func(_ context.Context, each func(packs.ID) error) error {
		for _, id := range ids {
			if err := each(id); err != nil {
				return err
			}
		}
		return nil
	}
}

// Rows returns the rows of a table in the snapshot.
func Rows(s *packs.Store, table Table) database.Rows {
	return rowsIn(s, table, func(ctx context.Context, each func(packs.ID) error) error { return rowPieces(ctx, s, table, each) })
}

// rowsIn returns the rows in some pieces of a table.
func rowsIn(s *packs.Store, table Table, pieces func(ctx context.Context, each func(packs.ID) error) error) database.Rows {
	return func(ctx context.Context, each func(database.Row) error) error {
		return decodeRows(ctx, s, table, pieces, each)
	}
}
